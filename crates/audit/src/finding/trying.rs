//! The advice of findings, tried against the expectations that are kept.

use super::draft::{Finding, Trial, TriedFact};
use crate::facts::{BrokenFact, edit_fact};
use crate::fix::{Kept, Tried};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::stage::meaning;
use heronshale_model::estate::Direction;
use heronshale_sets::each::each;
use heronshale_sets::packet::PacketSet;
use rustc_hash::FxHashMap;
use std::cmp::Reverse;

/// A trial walks for each kept expectation, which takes time that grows with the estate: so many times as many interfaces.
const MOST_ASKED: usize = 3_000_000;
/// So many are always tried.
const ALWAYS: usize = 8;

/// Tries what findings advise, each change once, those of the worst findings first, up to a limit.
pub fn try_advice(view: &Fabric<'_>, kept: &Kept, findings: &mut [&mut Finding]) {
    if kept.count() == 0 {
        return;
    }
    let most = MOST_ASKED / (view.estate.interfaces.len() + 200) / kept.count();
    let mut worst_first: Vec<&Finding> = findings.iter().map(|finding| &**finding).collect();
    worst_first.sort_by_key(|finding| Reverse(finding.severity));
    let mut numbers = FxHashMap::default();
    let mut changes: Vec<&Trial> = Vec::new();
    for trial in worst_first.iter().flat_map(|finding| &finding.trials) {
        numbers.entry(trial.identity()).or_insert_with(|| {
            changes.push(trial);
            changes.len() - 1
        });
    }
    let found = each(&changes[..changes.len().min(most.max(ALWAYS))], |trial| {
        let before = admitted(view, trial);
        let narrows = |after: &Fabric<'_>| before.is_empty() || admitted(after, trial) != before;
        kept.tried(view, &trial.edits, &narrows)
    });
    let facts = |finding: &Finding| {
        let of = |trial: &Trial| fact(view, trial, found.get(numbers[&trial.identity()]));
        finding.trials.iter().map(of).collect()
    };
    let facts: Vec<Vec<TriedFact>> = findings.iter().map(|finding| facts(finding)).collect();
    for (finding, facts) in findings.iter_mut().zip(facts) {
        finding.tried = facts;
    }
}

/// What the filters admit of which a change takes something away: of what the internet can send or be sent, if there is any.
fn admitted(view: &Fabric<'_>, trial: &Trial) -> Vec<PacketSet> {
    let internet = view.internet_end();
    let of = trial.narrows.iter().map(|(filter, direction)| {
        let all =
            meaning(view, *filter, *direction).select(|judgement| !judgement.outcome.refuses());
        let public = match direction {
            Direction::In => all.between(Some(&internet), None),
            Direction::Out => all.between(None, Some(&internet)),
        };
        if public.is_empty() { all } else { public }
    });
    of.collect()
}

fn fact(view: &Fabric<'_>, trial: &Trial, tried: Option<&Tried>) -> TriedFact {
    let first = tried.map_or(&[][..], |tried| &tried.first);
    TriedFact {
        change: trial.change.clone(),
        tried: tried.is_some(),
        breaks: tried.map_or_else(Vec::new, |tried| BrokenFact::all(view, tried)),
        first: first.iter().map(|edit| edit_fact(view, edit)).collect(),
    }
}
