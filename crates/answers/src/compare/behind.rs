//! The edits behind one connection.

use super::{ChangeEdit, edit_facts, letters};
use heronshale_change::{Class, Comparison, Difference, From, start_of};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::walk::{Asked, Start};

/// The differences of some packets from a start.
fn differences_of<'c>(
    view: &Fabric<'_>,
    comparison: &'c Comparison,
    asked: &Asked,
) -> Vec<&'c Difference> {
    let starts_there = |from: &From| match (start_of(view, from), &asked.start) {
        (Some(Start::Interfaces(all)), Start::Interfaces(some)) => {
            some.iter().any(|id| all.contains(id))
        }
        (start, asked) => start.as_ref() == Some(asked),
    };
    let packets = asked.packets.any_source_port();
    let all = comparison.differences.iter();
    all.filter(|one| one.class != Class::FailsOtherwise)
        .filter(|one| one.packets.overlaps(&packets) && starts_there(&one.from))
        .collect()
}

/// The edits because of which some packets from a start fare otherwise, and the smallest sets of them.
pub fn edits_behind(
    view: &Fabric<'_>,
    comparison: &Comparison,
    asked: &Asked,
) -> (Vec<ChangeEdit>, Vec<Vec<String>>) {
    let mut sets: Vec<Vec<usize>> = differences_of(view, comparison, asked)
        .into_iter()
        .flat_map(|one| one.cause.sets.clone())
        .collect();
    sets.sort_by(|one, other| (one.len(), one).cmp(&(other.len(), other)));
    sets.dedup();
    let named: Vec<usize> = sets.iter().flatten().copied().collect();
    (
        some_edits(comparison, &named),
        sets.iter().map(|set| letters(set)).collect(),
    )
}

/// Some of the edits of a comparison, with their letters.
pub fn some_edits(comparison: &Comparison, wanted: &[usize]) -> Vec<ChangeEdit> {
    let facts = edit_facts(&comparison.edits, &[], &[]);
    let edits = facts.into_iter().enumerate();
    let edits = edits.filter(|(at, _)| wanted.contains(at));
    edits.map(|(_, edit)| edit).collect()
}

/// The edits to take back so that some packets from a start fare as before.
pub fn edits_to_undo(view: &Fabric<'_>, comparison: &Comparison, asked: &Asked) -> Vec<usize> {
    let mut all: Vec<usize> = differences_of(view, comparison, asked)
        .into_iter()
        .flat_map(|one| one.cause.undo.clone())
        .collect();
    all.sort_unstable();
    all.dedup();
    all
}

/// How many groups of connections differ that were not asked about.
pub fn others_that_differ(comparison: &Comparison, asked: &Asked) -> usize {
    let packets = asked.packets.any_source_port();
    let told = comparison.differences.iter();
    let told = told.filter(|one| one.class != Class::FailsOtherwise);
    told.filter(|one| !one.packets.difference(&packets).is_empty())
        .count()
}
