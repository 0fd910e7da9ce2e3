//! What somebody expects is not so.

use super::super::context::Context;
use super::super::draft::{Draft, Evidence, Role};
use super::super::key::Key;
use super::super::kind::Kind;
use crate::describe::witness;
use crate::expect::sentence;
use crate::expect::{Against, Standing, State};
use crate::facts::step_fact;
use heronshale_engine::fabric::Fabric;
use heronshale_engine::judgement::By;
use heronshale_engine::walk::{Start, Step, What};
use heronshale_model::severity::Severity;
use heronshale_model::stated::Expectation;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;

pub(crate) const KIND: Kind = Kind {
    name: "expectation-broken",
    base: Severity::Serious,
    about: "An expectation does not hold: a packet contradicts it.",
    why: "Somebody relies on it. Traffic that should never arrive does arrive, or traffic that should work \
        does not.",
    triggers: "*May reach*: something does not work in every case; partial or conditional success is not enough. \
        *Never reaches*, *nothing else reaches*: something gets through to some address, even partly or \
        conditionally. *Always passes*: something gets through without the firewall. If the result depends \
        on something missing from the snapshot, see expectation-unknown.",
    fix: "Fix the estate, or change the expectation.",
    side_effects: "`path` for the packet, or the finding about the rule, lists them.",
    factors: &[],
    example: include_str!("../examples/expectation-broken.yaml"),
    check: |context| {
        facts(context, State::Broken)
            .map(|(one, standing)| tell(context, one, standing))
            .collect()
    },
};

/// The expectations that stand in some way.
pub(super) fn facts<'c>(
    context: &'c Context<'_, '_>,
    wanted: State,
) -> impl Iterator<Item = (&'c Expectation, &'c Standing)> {
    let all = context
        .view
        .stated
        .expectations
        .iter()
        .zip(context.standings());
    all.filter(move |(_, standing)| standing.state == wanted)
}

pub(super) fn tell(
    context: &Context<'_, '_>,
    expectation: &Expectation,
    standing: &Standing,
) -> Draft {
    let view = context.view;
    let mut evidence = Vec::new();
    if let Some(reason) = &expectation.reason {
        evidence.push(Evidence {
            role: Role::Says,
            text: reason.to_string(),
            rule: None,
            place: None,
        });
    }
    if let Some(against) = &standing.against {
        // That nothing decides, and that it arrives, needs no saying.
        let decides = |step: &&Step| match &step.what {
            What::Arrived => false,
            What::Stage { judgement, .. } => judgement.by != By::NoPolicy,
            _ => true,
        };
        let told = against
            .steps
            .iter()
            .filter(decides)
            .map(|step| step_fact(view, step))
            .map(|step| Evidence {
                role: Role::Step,
                text: format!(
                    "{}{}: {}",
                    if step.reply { "reply, " } else { "" },
                    step.at,
                    step.why
                ),
                rule: None,
                place: step.place,
            });
        evidence.extend(told);
    }
    Draft {
        former: None,
        key: Key::of("expectation").name(&expectation.name),
        cause: None,
        title: format!(
            "“{}” {}: {} ({})",
            expectation.name,
            state_text(standing),
            standing.why,
            sentence(expectation)
        ),
        subject: expectation.name.to_string(),
        short: String::new(),
        place: Some(expectation.place.clone()),
        networks: Vec::new(),
        owner: expectation.owner.as_ref().map(ToString::to_string),
        factors: Vec::new(),
        evidence,
        witness: standing
            .against
            .as_ref()
            .map(|against| witness(&against.packet)),
        fix: fix(view, standing),
        side_effects: None,
        interfaces: None,
        packets: None,
        trials: Vec::new(),
    }
}

fn state_text(standing: &Standing) -> &'static str {
    match standing.state {
        State::Broken => "is broken",
        State::Unknown => "is unknown",
        State::Vacuous => "says nothing",
        State::Kept => "is kept",
    }
}

fn fix(view: &Fabric<'_>, standing: &Standing) -> String {
    match (standing.state, &standing.against) {
        (State::Broken, Some(against)) => {
            format!(
                "Run `path {}` for the deciding piece and a fix, or change the expectation.",
                asked(view, against)
            )
        }
        (State::Unknown, Some(against)) => {
            format!(
                "Complete the snapshot. `path {}` names what is missing.",
                asked(view, against)
            )
        }
        (State::Unknown, None) => {
            "Remove equal routes, and devices that lead to each other.".to_owned()
        }
        _ => "Correct the names, or delete the expectation.".to_owned(),
    }
}

/// The packet as the command `path` takes it.
fn asked(view: &Fabric<'_>, against: &Against) -> String {
    let packet = &against.packet;
    let from = match &against.start {
        Start::Interfaces(all) => all.first().map_or_else(String::new, |id| {
            view.estate.interfaces[*id].name.to_string()
        }),
        Start::Internet | Start::Site(_) => packet.source_address().to_string(),
    };
    let traffic = service::notation(
        packet.family,
        &Intervals::span(packet.service.into(), packet.service.into()),
    );
    format!(
        "{from} {} --traffic \"{}\"",
        packet.destination_address(),
        traffic.join(", ")
    )
}
