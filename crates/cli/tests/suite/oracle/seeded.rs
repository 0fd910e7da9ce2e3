//! Known faults, planted one at a time: what holds the engine against naive models must notice each.

use super::{agreement, around, dead, expected, exposed, routes, sweeps, walks};
use heronshale_audit::faults::Fault as AuditFault;
use heronshale_engine::faults::Fault as EngineFault;
use heronshale_model::faults::Fault as NameFault;
use heronshale_model::limits::Limits;
use heronshale_sets::faults::{Planted, with_fault};
use std::collections::BTreeMap;
use std::fmt::Debug;

/// The faults that are not noticed.
fn missed<F: Copy + Debug + Into<Planted>>(faults: &[F], notices: impl Fn() -> bool) -> Vec<F> {
    faults
        .iter()
        .copied()
        .filter(|fault| !with_fault(*fault, &notices))
        .collect()
}

fn assert_none<F: Debug>(missed: &[F]) {
    assert!(missed.is_empty(), "not caught: {missed:?}");
}

#[test]
fn every_fault_of_names_and_stages_is_caught() {
    let notices =
        || (0..3_000).any(|seed| agreement::try_estate(seed, 25, &mut BTreeMap::new()).is_err());
    assert_none(&missed(&NameFault::NAMES, notices));
    assert_none(&missed(&EngineFault::STAGES, notices));
}

#[test]
fn every_fault_of_routes_and_exposure_is_caught() {
    let tries = |seed| {
        exposed::try_estate(seed, &mut BTreeMap::new())
            .and_then(|()| routes::try_routes(seed, &mut BTreeMap::new()))
    };
    let notices = || (0..2_000).any(|seed| tries(seed).is_err());
    assert_none(&missed(&EngineFault::ROUTES, notices));
    assert_none(&missed(&AuditFault::EXPOSURE, notices));
}

#[test]
fn every_fault_of_the_walk_is_caught() {
    let notices =
        || (0..1_500).any(|seed| walks::try_walks(seed, 24, &mut BTreeMap::new()).is_err());
    // Faults are of one thread, so that two halves can be tried at once.
    let (front, back) = EngineFault::WALK.split_at(EngineFault::WALK.len() / 2);
    let missed = std::thread::scope(|scope| {
        let front = scope.spawn(|| missed(front, notices));
        let back = missed(back, notices);
        [front.join().unwrap(), back].concat()
    });
    assert_none(&missed);
}

#[test]
fn every_fault_of_what_is_alike_is_caught() {
    let notices =
        |fault| (0..4_000).any(|seed| walks::try_many(seed, |ask| with_fault(fault, ask)).is_err());
    assert_none(
        &EngineFault::ALIKE
            .into_iter()
            .filter(|fault| !notices(*fault))
            .collect::<Vec<_>>(),
    );
}

#[test]
fn every_fault_of_sweeps_is_caught() {
    let faults = [
        EngineFault::SweepWithoutDominators,
        EngineFault::SweepForgetsWhoIsReached,
        EngineFault::SweepOneOfEachKind,
    ];
    assert_none(&missed(&faults, || {
        (0..400).any(|seed| sweeps::try_reach(seed, Limits::default()).is_err())
    }));
    let notices =
        || (0..60).any(|seed| expected::try_expectations(seed, &mut BTreeMap::new()).is_err());
    assert!(
        missed(&faults[1..], notices).len() < 2,
        "expectations notice at least one"
    );
}

#[test]
fn every_fault_of_dead_rules_is_caught() {
    assert_none(&missed(&AuditFault::DEAD, || {
        (0..4_000).any(|seed| dead::try_list(seed, &mut BTreeMap::new()).is_err())
    }));
}

#[test]
fn every_fault_of_what_need_not_be_asked_about_replies_is_caught() {
    let faults = [
        EngineFault::DirectForgetsReplies,
        EngineFault::DirectForgetsSteering,
        EngineFault::TransitIsClean,
    ];
    for fault in faults {
        let notices =
            |seed| with_fault(fault, || around::replies(seed, true)) != around::replies(seed, true);
        assert!((0..2_000).any(notices), "not caught: {fault:?}");
    }
    let built = super::agreement::load(&around::by_the_gateway_of_another_network());
    let told = || around::replies_of(&built, true).len();
    assert!(with_fault(EngineFault::DirectByAnyGateway, told) < told());
    // What comes in from the internet tells nothing about the others unless it is looked at.
    around::by_a_translator(|built, expected| {
        let trusting = with_fault(EngineFault::TransitIsClean, || {
            around::replies_of(built, true)
        });
        let told: std::collections::BTreeSet<String> =
            trusting.iter().map(around::ends_of).collect();
        assert_eq!(
            told == around::names_of(expected),
            expected.is_empty(),
            "{expected:?}: {told:?}"
        );
    });
}
