//! All findings of an estate, each with its severity and fingerprint.

use super::catalogue::CATALOGUE;
use super::context::Context;
use super::draft::NOTHING;
use super::draft::{Draft, Finding};
use super::kind::Kind;
use super::kinds;
use crate::describe::plural;
use crate::expect::Standing;
use crate::exposure::{DeviceWay, DirectWay};
use crate::facts::Factor;
use heronshale_engine::fabric::Fabric;
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;

/// Every finding of an estate: worst first, then by kind, file and line.
pub fn findings(view: &Fabric<'_>) -> Vec<Finding> {
    findings_of(view, |_| true)
}

/// The findings of some kinds.
pub fn findings_of(view: &Fabric<'_>, wanted: impl Fn(&Kind) -> bool) -> Vec<Finding> {
    found(view, wanted).findings
}

/// Findings, and what was computed on the way to them.
pub(super) struct Found {
    pub(super) findings: Vec<Finding>,
    pub(super) standings: Vec<Standing>,
    pub(super) ways: Vec<DirectWay>,
    pub(super) device_ways: Vec<DeviceWay>,
}

/// The findings of some kinds.
pub(super) fn found(view: &Fabric<'_>, wanted: impl Fn(&Kind) -> bool) -> Found {
    let context = Context::new(view);
    let mut all = Vec::new();
    for (order, kind) in CATALOGUE
        .iter()
        .enumerate()
        .filter(|(_, kind)| wanted(kind))
    {
        let mut seen: BTreeMap<String, usize> = BTreeMap::new();
        for draft in (kind.check)(&context) {
            let before = seen.entry(draft.key.written().to_owned()).or_default();
            all.push((order, finished(view, kind, draft, *before)));
            *before += 1;
        }
    }
    let is_wanted =
        |(_, kind): &(usize, &&Kind)| kind.name == kinds::undecided::KIND.name && wanted(kind);
    if let Some((order, kind)) = CATALOGUE.iter().enumerate().find(is_wanted) {
        all.extend(
            kinds::undecided::given_up(&context)
                .map(|draft| (order, finished(view, kind, draft, 0))),
        );
    }
    Found {
        findings: sorted(all),
        standings: context.standings.into_inner().unwrap_or_default(),
        ways: context.ways.into_inner().unwrap_or_default(),
        device_ways: context.device_ways.into_inner().unwrap_or_default(),
    }
}

/// Worst first, then by the order of the catalogue, file and line.
pub(super) fn sorted(mut all: Vec<(usize, Finding)>) -> Vec<Finding> {
    all.sort_by(|(a_order, a), (b_order, b)| {
        let key = |order: usize, finding: &Finding| {
            (
                std::cmp::Reverse(finding.severity),
                order,
                finding.place.clone(),
                finding.title.clone(),
            )
        };
        key(*a_order, a).cmp(&key(*b_order, b))
    });
    all.into_iter().map(|(_, finding)| finding).collect()
}

pub(super) fn finished(view: &Fabric<'_>, kind: &Kind, draft: Draft, before: usize) -> Finding {
    let Draft {
        key,
        cause,
        title,
        subject,
        short,
        place,
        networks,
        owner,
        factors,
        evidence,
        witness,
        fix,
        side_effects,
        ..
    } = draft;
    let regraded = view
        .stated
        .severities
        .iter()
        .find(|one| &*one.kind == kind.name);
    let base = regraded.map_or(kind.base, |one| one.severity);
    let controls = view
        .stated
        .controls
        .iter()
        .filter(|control| control.kinds.iter().any(|name| **name == *kind.name));
    Finding {
        kind: kind.name.to_owned(),
        severity: base.moved(Factor::sum(&factors)),
        base,
        regraded: regraded.map(|one| one.reason.to_string()),
        controls: controls
            .map(|control| control.control.to_string())
            .collect(),
        packets: draft.packets,
        tried: Vec::new(),
        trials: draft.trials,
        former: draft
            .former
            .filter(|former| former != key.written())
            .map(|former| fingerprint(kind.name, &former, before)),
        factors,
        fingerprint: fingerprint(kind.name, key.written(), before),
        cause: cause.unwrap_or_else(|| key.written().to_owned()),
        title,
        subject,
        short,
        place,
        networks,
        owner,
        evidence,
        witness,
        fix,
        side_effects: side_effects.unwrap_or_else(|| side_effects_of(kind, draft.interfaces)),
    }
}

/// The side effects of a kind's fix, with where what is changed acts, unless nothing changes there.
fn side_effects_of(kind: &Kind, interfaces: Option<usize>) -> String {
    match interfaces {
        Some(count) if count > 0 && kind.side_effects != NOTHING => {
            format!(
                "{} Applies to {}.",
                kind.side_effects,
                plural(count, "interface")
            )
        }
        _ => kind.side_effects.to_owned(),
    }
}

/// Forty bits of SHA-256 (FIPS 180-4) over kind, subject and how many the same stood before, in letters and digits that
/// are not mistaken for one another.
pub fn fingerprint(kind: &str, subject: &str, before: usize) -> String {
    const SIGNS: &[u8; 32] = b"0123456789abcdefghjkmnpqrstvwxyz";
    let digest = Sha256::digest(format!("{kind}\0{subject}\0{before}"));
    let number = digest
        .iter()
        .take(5)
        .fold(0_u64, |sum, byte| sum << 8 | u64::from(*byte));
    let sign = |at: u32| char::from(SIGNS[usize::try_from(number >> (5 * at) & 31).unwrap_or(0)]);
    let text: String = (0..8).rev().map(sign).collect();
    format!("{}-{}", &text[..4], &text[4..])
}
