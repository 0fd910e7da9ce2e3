//! How bad a difference is, and by what it is known again.

use super::{ChangedRow, ChangedSet, OutcomeFact};
use heronshale_audit::facts::Meaning;
use heronshale_audit::finding::fingerprint;
use heronshale_change::Class;
use heronshale_model::severity::Severity;

/// How bad a row is: by its class, and by what expectations say of it.
pub(super) fn severity(row: &ChangedRow) -> Severity {
    let inward = row.sets.iter().any(|set| set.start == "internet");
    match (row.class, row.meaning) {
        (Class::Opened, Some(Meaning::Meant)) => Severity::Note,
        (Class::Opened, Some(Meaning::Unmeant)) if inward => Severity::Urgent,
        (Class::Opened, Some(Meaning::Unmeant)) => Severity::Serious,
        (Class::Opened, _) if inward => Severity::Serious,
        (Class::Opened, _) => Severity::Minor,
        (Class::Lost | Class::WorksForLess, Some(Meaning::Meant)) => Severity::Serious,
        (Class::Lost | Class::WorksForLess, Some(Meaning::Unmeant)) => Severity::Note,
        (Class::WorksForMore, Some(Meaning::Unmeant)) => Severity::Serious,
        (Class::InspectionChanged, _) if passes_fewer(&row.before, &row.now) => Severity::Serious,
        (Class::AnotherReceiver | Class::BecameUnknown | Class::Undecided, _) => Severity::Serious,
        (
            Class::WorksForMore | Class::BecameKnown | Class::NotComparable | Class::FailsOtherwise,
            _,
        ) => Severity::Note,
        (
            Class::Lost
            | Class::WorksForLess
            | Class::InspectionChanged
            | Class::SeenAsAnother
            | Class::ConditionsChanged,
            _,
        ) => Severity::Minor,
    }
}

/// Whether a firewall is not passed any more, in one direction at least.
fn passes_fewer(before: &OutcomeFact, now: &OutcomeFact) -> bool {
    let lacks = |before: &[String], now: &[String]| before.iter().any(|name| !now.contains(name));
    lacks(&before.firewalls, &now.firewalls) || lacks(&before.reply_firewalls, &now.reply_firewalls)
}

/// The same for the same connections in the same class, whatever edits are named and in whatever order rows come.
pub(super) fn print_of(row: &ChangedRow) -> String {
    let text = |set: &ChangedSet| {
        [
            set.start.clone(),
            set.sources.join(","),
            set.destinations.join(","),
            set.services.join(","),
        ]
        .join("\u{1}")
    };
    let mut sets: Vec<String> = row.sets.iter().map(text).collect();
    sets.sort_unstable();
    fingerprint(row.class.word(), &sets.join("\u{2}"), 0)
}

/// The owners of whose edits it takes several: none if the edits of one suffice.
pub(super) fn owners_who_meet(
    row: &ChangedRow,
    owner_of: &dyn Fn(&str) -> Option<String>,
) -> Vec<String> {
    let owners = |set: &Vec<String>| -> Vec<String> {
        let mut all: Vec<String> = set.iter().filter_map(|letter| owner_of(letter)).collect();
        all.sort_unstable();
        all.dedup();
        all
    };
    let mut sets = row.cause.iter().map(owners);
    let Some(first) = sets.next() else {
        return Vec::new();
    };
    if first.len() < 2 || sets.any(|other| other.len() < 2) {
        return Vec::new();
    }
    first
}
