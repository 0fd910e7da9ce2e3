//! Classes of pairs of outcomes: each connection is in one, the first that applies.

use crate::outcome::Outcome;
use heronshale_engine::walk::Verdict;
use serde::Serialize;

/// How far a connection works.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Rank {
    /// It fails, or does not start.
    Fails,
    /// It works under a condition.
    Conditional,
    /// It works for some of nature's choices.
    ForSome,
    /// It works.
    Works,
}

/// How a connection fares in the new state, measured by the old one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Class {
    /// It failed, and does not any more.
    Opened,
    /// It ends at another receiver.
    AnotherReceiver,
    /// It fails now.
    Lost,
    /// It works for more of nature's choices, or without a condition.
    WorksForMore,
    /// It works for fewer of nature's choices, or under a condition only.
    WorksForLess,
    /// It passes other firewalls, or passes them in one direction only.
    InspectionChanged,
    /// Its receiver sees other addresses.
    SeenAsAnother,
    /// It works under other conditions.
    ConditionsChanged,
    /// It is unknown now.
    BecameUnknown,
    /// It is known now.
    BecameKnown,
    /// It is unknown in one state, because of gaps that only this state declares.
    NotComparable,
    /// It was given up at a declared limit, in one state at least.
    Undecided,
    /// It fails in another way.
    FailsOtherwise,
}

impl Class {
    /// All classes, in the order in which they are told.
    pub const ALL: [Self; 13] = [
        Self::Opened,
        Self::AnotherReceiver,
        Self::Lost,
        Self::WorksForMore,
        Self::WorksForLess,
        Self::InspectionChanged,
        Self::SeenAsAnother,
        Self::ConditionsChanged,
        Self::BecameUnknown,
        Self::BecameKnown,
        Self::NotComparable,
        Self::Undecided,
        Self::FailsOtherwise,
    ];

    /// The class in words.
    pub fn word(self) -> &'static str {
        match self {
            Self::Opened => "opened",
            Self::AnotherReceiver => "another receiver",
            Self::Lost => "lost",
            Self::WorksForMore => "works for more",
            Self::WorksForLess => "works for less",
            Self::InspectionChanged => "inspection changed",
            Self::SeenAsAnother => "seen as another address",
            Self::ConditionsChanged => "conditions changed",
            Self::BecameUnknown => "became unknown",
            Self::BecameKnown => "became known",
            Self::NotComparable => "not comparable",
            Self::Undecided => "undecided",
            Self::FailsOtherwise => "fails otherwise",
        }
    }

    /// A class by its word, with dashes.
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL
            .into_iter()
            .find(|class| class.word().replace(' ', "-") == text)
    }

    /// The class of two outcomes; none if nothing is told of them.
    pub fn of(old: &Outcome, new: &Outcome) -> Option<Self> {
        // What was given up in both states may still differ.
        let given_up = |one: &Outcome| one.verdict == Some(Verdict::Undecided);
        if given_up(old) || given_up(new) {
            return Some(Self::Undecided);
        }
        if old == new {
            return None;
        }
        let (Some(before), Some(after)) = (rank(old), rank(new)) else {
            return Some(if rank(old).is_some() {
                Self::BecameUnknown
            } else {
                Self::BecameKnown
            });
        };
        match (before, after) {
            (Rank::Fails, Rank::Fails) => Some(Self::FailsOtherwise),
            (Rank::Fails, _) => Some(Self::Opened),
            (_, Rank::Fails) => Some(Self::Lost),
            _ if before < after => Some(Self::WorksForMore),
            _ if before > after => Some(Self::WorksForLess),
            _ => Some(Self::of_equal_rank(old, new)),
        }
    }

    fn of_equal_rank(old: &Outcome, new: &Outcome) -> Self {
        let receivers = |one: &Outcome| -> Vec<Option<String>> {
            let mut all: Vec<_> = one.ways.iter().map(|way| way.receiver.clone()).collect();
            all.sort();
            all.dedup();
            all
        };
        if receivers(old) != receivers(new) {
            return Self::AnotherReceiver;
        }
        let firewalls = |one: &Outcome| {
            let mut all: Vec<_> = one
                .ways
                .iter()
                .map(|way| (way.request.clone(), way.reply.clone()))
                .collect();
            all.sort();
            all.dedup();
            all
        };
        if firewalls(old) != firewalls(new) {
            return Self::InspectionChanged;
        }
        if old.ports != new.ports {
            let holds = |one: &Outcome, other: &Outcome| match (&one.ports, &other.ports) {
                (None, _) => true,
                (_, None) => false,
                (Some(one), Some(other)) => other
                    .iter()
                    .all(|(first, last)| one.iter().any(|(a, b)| a <= first && last <= b)),
            };
            return if holds(new, old) {
                Self::WorksForMore
            } else {
                Self::WorksForLess
            };
        }
        if old.ways == new.ways {
            Self::ConditionsChanged
        } else {
            Self::SeenAsAnother
        }
    }

    /// Whether two outcomes are one, where the cause of a class is looked for: all words of failing are.
    pub(crate) fn is_same(self, one: &Outcome, other: &Outcome) -> bool {
        let both_fail = rank(one) == Some(Rank::Fails) && rank(other) == Some(Rank::Fails);
        one == other || (both_fail && self != Self::FailsOtherwise)
    }
}

/// How far an outcome works; none if that is unknown.
pub(crate) fn rank(outcome: &Outcome) -> Option<Rank> {
    match outcome.verdict {
        Some(Verdict::Works) => Some(Rank::Works),
        Some(Verdict::WorksForSome) => Some(Rank::ForSome),
        Some(Verdict::Conditional) => Some(Rank::Conditional),
        Some(Verdict::Unknown | Verdict::Undecided) => None,
        _ => Some(Rank::Fails),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn outcome(verdict: Option<Verdict>) -> Outcome {
        Outcome {
            verdict,
            ..Outcome::absent()
        }
    }

    #[test]
    fn what_was_given_up_is_never_the_same() {
        let (works, given_up) = (
            outcome(Some(Verdict::Works)),
            outcome(Some(Verdict::Undecided)),
        );
        for (old, new) in [
            (&given_up, &given_up),
            (&works, &given_up),
            (&given_up, &works),
        ] {
            assert_eq!(Class::of(old, new), Some(Class::Undecided));
        }
        assert_eq!(Class::of(&works, &works), None);
    }

    #[test]
    fn the_worse_of_two_verdicts_gives_the_class() {
        let all = [
            (None, 0),
            (Some(Verdict::ReplyLost), 0),
            (Some(Verdict::Conditional), 1),
            (Some(Verdict::WorksForSome), 2),
            (Some(Verdict::Works), 3),
        ];
        for (one, before) in all {
            for (other, after) in all {
                let wanted = match (before, after) {
                    _ if one == other => None,
                    (0, 0) => Some(Class::FailsOtherwise),
                    (0, _) => Some(Class::Opened),
                    (_, 0) => Some(Class::Lost),
                    _ if before < after => Some(Class::WorksForMore),
                    _ => Some(Class::WorksForLess),
                };
                let found = Class::of(&outcome(one), &outcome(other));
                assert_eq!(found, wanted, "{one:?} {other:?}");
            }
        }
    }
}
