//! What is in the way of a connection and what would fix it, as data; and what of it is new since an earlier snapshot.

use crate::compare::ChangeEdit;
use crate::traffic::{summed, symbols};
use heronshale_audit::describe::peer_words;
use heronshale_audit::facts::PathTraffic;
use heronshale_audit::facts::{BrokenFact, EditFact, StepFact, edit_fact, step_fact};
use heronshale_audit::fix::{Edit, Fix, Fixing};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::walk::Verdict;
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::packet::{PacketSet, entries};
use serde::Serialize;

/// Of what a fix opens or ends no more entries are listed one by one.
const MOST_ENTRIES: usize = 6;

/// Something in the way.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ObstacleFact {
    /// Where it ends there, and why.
    pub step: StepFact,
    /// What was changed in memory to go on behind it; none if no change of one part is known: what lies behind was not
    /// looked at then.
    pub passed_by: Option<EditFact>,
    /// Against an earlier snapshot: whether it was not in the way then.
    pub new: Option<bool>,
    /// What happened at the same place in the earlier snapshot, if the connection came there.
    pub before: Option<StepFact>,
}

/// Changes that fix it together; without any of them it does not work.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct FixFact {
    /// All of these.
    pub edits: Vec<EditFact>,
    /// What becomes of the connection then.
    pub then: Verdict,
    /// What else works then, and does not now.
    pub opens: Vec<PathTraffic>,
    /// What works now, and does not then.
    pub ends: Vec<PathTraffic>,
    /// The firewalls to which the connection is led now, and around which it goes then.
    pub around: Vec<String>,
    /// Whether the internet reaches something then that was not asked about.
    pub opens_to_internet: bool,
    /// The expectations that are kept now, and break by this alone, or are no longer known to be kept.
    pub breaks: Vec<BrokenFact>,
    /// What has to be changed before, so that none of them breaks.
    pub first: Vec<EditFact>,
}

/// What is in the way and what would fix it, in words.
pub(super) struct FixFacts {
    pub obstacles: Vec<ObstacleFact>,
    pub fixes: Vec<FixFact>,
    /// Fixes that break an expectation, and are not offered.
    pub refused: Vec<FixFact>,
}

/// The same question, asked of an earlier snapshot.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct SinceFact {
    /// When that was taken.
    pub taken: Option<String>,
    /// The verdict then; none if the question could not be asked: an end was not there.
    pub verdict: Option<Verdict>,
    /// Why it could not be asked.
    pub not_asked: Option<String>,
    /// What was in the way then and is not now.
    pub gone: Vec<StepFact>,
    /// The edits that make the difference, where it was looked for.
    pub edits: Vec<ChangeEdit>,
    /// The letters of the edits of each smallest set that makes it.
    pub cause: Vec<Vec<String>>,
    /// The patch that takes it back, where one was asked for.
    pub revert: Option<RevertFact>,
}

/// A patch that takes edits back.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct RevertFact {
    /// The file that was written.
    pub file: String,
    /// The edits that it takes back.
    pub edits: Vec<ChangeEdit>,
    /// What becomes of the connection then.
    pub then: Verdict,
    /// How many groups of other connections fare otherwise by it.
    pub also: usize,
}

/// Obstacles and fixes in words.
pub(super) fn fix_facts(view: &Fabric<'_>, found: &Fixing) -> FixFacts {
    let obstacles = found.obstacles.iter().map(|obstacle| ObstacleFact {
        step: step_fact(view, &obstacle.step),
        passed_by: obstacle
            .passed_by
            .as_ref()
            .map(|edit| edit_fact(view, edit)),
        new: None,
        before: None,
    });
    let facts = |edits: &[Edit]| edits.iter().map(|edit| edit_fact(view, edit)).collect();
    let fact = |fix: &Fix| FixFact {
        edits: facts(&fix.edits),
        then: fix.then,
        opens: traffic(view, &fix.opens),
        ends: traffic(view, &fix.ends),
        around: fix
            .around
            .iter()
            .map(|id| view.estate.firewalls[*id].name.to_string())
            .collect(),
        opens_to_internet: fix.public,
        breaks: BrokenFact::all(view, &fix.tried),
        first: facts(&fix.tried.first),
    };
    FixFacts {
        obstacles: obstacles.collect(),
        fixes: found.fixes.iter().map(fact).collect(),
        refused: found.refused.iter().map(fact).collect(),
    }
}

/// Packets by who sends what to whom: one by one if that is short.
fn traffic(view: &Fabric<'_>, packets: &PacketSet) -> Vec<PathTraffic> {
    if packets.is_empty() {
        return Vec::new();
    }
    let symbols = symbols(view, &packets.sources().union(&packets.destinations()));
    let all = entries(packets);
    if all.len() > MOST_ENTRIES {
        return summed(packets, &symbols);
    }
    let words = |family: Family, numbers: &heronshale_sets::intervals::Intervals| {
        let mut words = peer_words(family, numbers, &symbols);
        words.ranges = Addresses::from_intervals(family, numbers.clone()).texts();
        words
    };
    all.iter()
        .map(|entry| PathTraffic {
            sources: words(entry.family, &entry.sources),
            destinations: words(entry.family, &entry.destinations),
            services: entry.service_texts(),
            exact: true,
        })
        .collect()
}
