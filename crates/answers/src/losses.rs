//! What stops if one thing fails, thing by thing, as data.

use crate::compare::in_words;
use heronshale_audit::describe::PeerWords;
use heronshale_audit::expect::{Judging, Standing, State};
use heronshale_audit::facts::{Meaning, PathTraffic, meaning_of};
use heronshale_change::{Class, Difference, Loss, start_of};
use heronshale_engine::fabric::Fabric;
use heronshale_model::source::Place;
use heronshale_sets::address::Addresses;
use num_bigint::BigUint;
use serde::Serialize;
use std::cmp::Reverse;

/// Groups of connections that are listed of one failure; more are counted.
const MOST_LISTED: usize = 12;

/// Connections that fare otherwise after a failure.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct LostFact {
    /// How they change.
    pub class: Class,
    /// Who opens them, in words.
    pub from: Vec<PeerWords>,
    /// To whom, in words, with which services.
    pub traffic: Vec<PathTraffic>,
    /// The firewalls that they passed.
    pub firewalls: Vec<String>,
    /// The firewalls that they pass now.
    pub firewalls_now: Vec<String>,
    /// What expectations say of them; none if nothing is expected at all.
    pub meaning: Option<Meaning>,
    /// Whether they lead to marked addresses.
    pub to_marked: bool,
}

/// What is bad about a failure.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct LossFact {
    /// Connections that work and lack a firewall that they passed.
    pub uninspected: Vec<LostFact>,
    /// Expectations that are kept no more.
    pub breaks: Vec<String>,
    /// Expectations that are kept only because traffic stops.
    pub kept_by_stopping: Vec<String>,
    /// Connections that work no more, or for fewer.
    pub lost: Vec<LostFact>,
    /// Connections that did not work, or for fewer.
    pub opened: Vec<LostFact>,
    /// Connections that fare otherwise in any other way, or are unknown or undecided now.
    pub other: Vec<LostFact>,
    /// How many more groups of connections there are.
    pub more: usize,
}

/// The failure of one thing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct FailureFact {
    /// Which kind of thing.
    pub kind: String,
    /// Its name.
    pub name: String,
    /// Who owns it.
    pub owner: Option<String>,
    /// Where it stands.
    pub place: Place,
    /// What is bad about it.
    pub loss: LossFact,
    /// What is bad about it with the other value of `missing_next_hop`, where nobody set one and that is not the same.
    pub with_the_other_setting: Option<LossFact>,
}

/// What stops if one thing fails, thing by thing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct FailuresAnswer {
    /// Each failure that makes a difference, the most harmful first.
    pub failures: Vec<FailureFact>,
    /// Things that are down as it is: `peering quay-fleet`.
    pub already_down: Vec<String>,
    /// Things without which nothing is known to stop.
    pub redundant: Vec<String>,
    /// Pairs that do something that neither of both does alone, the most harmful first; none where they were not asked for.
    pub pairs: Option<PairsFact>,
    /// The value of `missing_next_hop` that was judged with, and the other one; none where somebody set it.
    pub settings: Option<[String; 2]>,
}

/// Failures of two things at once.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct PairsFact {
    /// How many pairs share a place, and were tried.
    pub tried: usize,
    /// How many more share one, past the limit.
    pub left: usize,
    /// Pairs that do more than both alone.
    pub failures: Vec<FailureFact>,
}

/// A failure, and how bad it is.
pub struct Failed {
    fact: FailureFact,
    harm: Harmfulness,
    is_nothing: bool,
}

/// Uninspected, broken, lost and needed, lost and marked, lost at all; the size of it.
type Harmfulness = (bool, usize, bool, bool, BigUint);

/// How the estate stands before anything fails.
pub struct Standings<'b, 'v, 'e> {
    /// The estate.
    pub view: &'v Fabric<'e>,
    /// What expectations say of its connections.
    pub judging: &'b Judging<'v, 'e>,
    /// How each expectation stands.
    pub standings: &'b [Standing],
    /// Marked addresses.
    pub marked: &'b Addresses,
}

impl Standings<'_, '_, '_> {
    fn lost(&self, one: &Difference) -> LostFact {
        let (from, traffic) = in_words(self.view, &one.packets, &self.view.internet_end());
        let spoken = (!self.judging.is_silent())
            .then(|| start_of(self.view, &one.from))
            .flatten()
            .map(|start| self.judging.connections(&start, &one.packets));
        let passed = |outcome: &heronshale_change::Outcome| {
            let ways = outcome.ways.iter();
            let mut names: Vec<String> = ways
                .flat_map(|way| way.request.iter().chain(&way.reply))
                .map(ToString::to_string)
                .collect();
            names.sort();
            names.dedup();
            names
        };
        LostFact {
            class: one.class,
            from,
            traffic,
            firewalls: passed(&one.old),
            firewalls_now: passed(&one.new),
            meaning: spoken.and_then(|spoken| meaning_of(&spoken, &one.packets)),
            to_marked: one.packets.destinations().overlaps(self.marked),
        }
    }

    fn fact(&self, loss: &Loss, now: &[Standing]) -> (LossFact, Harmfulness) {
        let mut fact = LossFact::default();
        let mut size = BigUint::ZERO;
        let mut listed = 0;
        for (at, one) in loss.differences.iter().enumerate() {
            let list = if loss.uninspected.contains(&at) {
                &mut fact.uninspected
            } else {
                match one.class {
                    Class::FailsOtherwise => continue,
                    Class::Lost | Class::WorksForLess => {
                        size += one.packets.count();
                        &mut fact.lost
                    }
                    Class::Opened | Class::WorksForMore => &mut fact.opened,
                    _ => &mut fact.other,
                }
            };
            listed += 1;
            if listed > MOST_LISTED * 4 || list.len() >= MOST_LISTED {
                fact.more += 1;
            } else {
                list.push(self.lost(one));
            }
        }
        for ((before, now), said) in self
            .standings
            .iter()
            .zip(now)
            .zip(&self.view.stated.expectations)
        {
            match (before.state, now.state) {
                (State::Kept, State::Kept) => {}
                (State::Kept, _) => fact.breaks.push(said.name.to_string()),
                (_, State::Kept) => fact.kept_by_stopping.push(said.name.to_string()),
                _ => {}
            }
        }
        let needed = |one: &LostFact| one.meaning == Some(Meaning::Meant);
        let harm = (
            !fact.uninspected.is_empty(),
            fact.breaks.len(),
            fact.lost.iter().any(needed),
            fact.lost.iter().any(|one| one.to_marked),
            size,
        );
        (fact, harm)
    }

    /// The failure of one thing; `now` says how expectations stand then.
    pub fn failed(
        &self,
        (kind, name): (&str, &str),
        (owner, place): (Option<String>, Place),
        loss: &Loss,
        now: &[Standing],
    ) -> Failed {
        let (fact, harm) = self.fact(loss, now);
        Failed {
            is_nothing: loss.is_nothing() && fact.breaks.is_empty(),
            harm,
            fact: FailureFact {
                kind: kind.to_owned(),
                name: name.to_owned(),
                owner,
                place,
                loss: fact,
                with_the_other_setting: None,
            },
        }
    }
}

impl Failed {
    /// Whether an expectation breaks that neither of two other failures breaks.
    pub fn breaks_more(&self, others: [&Self; 2]) -> bool {
        let known = |name: &String| {
            let mut there = others.iter();
            there.any(|other| other.fact.loss.breaks.contains(name))
        };
        !self.fact.loss.breaks.iter().all(known)
    }

    /// The same thing fails, judged with the other setting.
    pub fn with_other(mut self, other: Self) -> Self {
        let kinds = |one: &LossFact| {
            (
                one.uninspected.is_empty(),
                one.breaks.clone(),
                one.lost.is_empty(),
                one.opened.is_empty(),
            )
        };
        if kinds(&self.fact.loss) != kinds(&other.fact.loss) {
            self.fact.with_the_other_setting = Some(other.fact.loss);
            self.is_nothing = false;
        }
        self
    }
}

/// The most harmful first.
fn by_harm(failed: &mut [Failed]) {
    failed.sort_by_key(|one| {
        (
            Reverse(one.harm.clone()),
            one.fact.kind.clone(),
            one.fact.name.clone(),
        )
    });
}

/// What pairs answer, the most harmful first.
pub fn pairs_fact(mut failed: Vec<Failed>, tried: usize, left: usize) -> PairsFact {
    by_harm(&mut failed);
    PairsFact {
        tried,
        left,
        failures: failed.into_iter().map(|one| one.fact).collect(),
    }
}

/// What all failures answer, the most harmful first.
pub fn failures_answer(
    mut failed: Vec<Failed>,
    already_down: Vec<String>,
    settings: Option<[String; 2]>,
) -> FailuresAnswer {
    by_harm(&mut failed);
    let (nothing, failed): (Vec<Failed>, Vec<Failed>) =
        failed.into_iter().partition(|one| one.is_nothing);
    let name = |one: Failed| format!("{} {}", one.fact.kind, one.fact.name);
    FailuresAnswer {
        failures: failed.into_iter().map(|one| one.fact).collect(),
        already_down,
        redundant: nothing.into_iter().map(name).collect(),
        pairs: None,
        settings,
    }
}
