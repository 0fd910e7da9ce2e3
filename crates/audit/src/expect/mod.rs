//! Expectations: whether what people say of the estate holds (`docs/statements.md`).
//!
//! *May reach* is asked as `path` asks it, between the ends' own addresses, and all of it must work for certain. What is
//! forbidden is looked for in a sweep, by every address that leads there, with whatever a condition or one of nature's choices
//! lets through; what the sweep finds is walked again by itself, which gives the packet and the steps that prove it. Nothing
//! is told to hold that depends on something missing from the snapshot.

mod forbidding;
mod reaching;

pub use forbidding::said;
use forbidding::{Allowance, Forbidden, allowances, always_passes};
use reaching::{may_reach, prove, working};

mod candidates;
mod judging;
mod nobody;
mod sides;

pub use judging::{Judging, Spoken};

use crate::describe::service_text;
use candidates::{Candidate, each_candidate, told_apart};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::path::{
    asking_network, client_ports, destinations_of, entrances, primaries,
};
use heronshale_engine::sweep::{Node, numbers_of, sent, without_twice};
use heronshale_engine::walk::{
    Asked, Choice, Judged, Spot, Start, Step, Tell, Verdict, What, Why, walk,
};
use heronshale_model::ends::{End, EndError};
use heronshale_model::estate::{Firewall, Id, Interface, Name, Network, Service};
use heronshale_model::stated::{Claim, Expectation};
use heronshale_sets::address::Addresses;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{Packet, PacketSet};
use rustc_hash::FxHashMap;
use serde::Serialize;
use sides::{Receivers, Senders, ends};
use std::fmt::Write;

/// Whether an expectation is true.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum State {
    /// It is not true.
    Broken,
    /// It depends on something missing from the snapshot.
    Unknown,
    /// It says nothing: a side stands for nobody, or nothing connects at all.
    Vacuous,
    /// It is true.
    Kept,
}

impl State {
    /// What it is called.
    pub fn word(self) -> &'static str {
        match self {
            Self::Broken => "broken",
            Self::Unknown => "unknown",
            Self::Vacuous => "vacuous",
            Self::Kept => "kept",
        }
    }
}

/// A packet that speaks against an expectation.
#[derive(Clone, Debug)]
pub struct Against {
    /// The packet as it is sent.
    pub packet: Packet,
    /// Who sends it.
    pub start: Start,
    /// How it fares.
    pub verdict: Verdict,
    /// Every step.
    pub steps: Vec<Step>,
}

impl Against {
    /// Whether all that is unknown is which services a firewall has itself.
    pub fn turns_on_own_services(&self) -> bool {
        self.steps
            .last()
            .is_some_and(|step| step.what == What::Ended(Why::OwnServices))
    }
}

/// What is unknown, unless a firewall's own services are all of it: then something else may still be found.
fn settled(unknown: Option<&Against>) -> bool {
    unknown.is_some_and(|against| !against.turns_on_own_services())
}

/// Why something is not known.
fn open_text(what: &str, against: &Against) -> String {
    match against.verdict {
        Verdict::Undecided => {
            format!("{what} is undecided: more possible ways than the limit of steps allows")
        }
        _ => format!("{what} depends on something missing from the snapshot"),
    }
}

/// How an expectation stands.
#[derive(Clone, Debug)]
pub struct Standing {
    /// Whether it is true.
    pub state: State,
    /// Why it says nothing, or what speaks against it.
    pub why: String,
    /// The proof.
    pub against: Option<Against>,
}

impl Standing {
    fn kept() -> Self {
        Self {
            state: State::Kept,
            why: String::new(),
            against: None,
        }
    }

    fn vacuous(why: impl Into<String>) -> Self {
        Self {
            state: State::Vacuous,
            why: why.into(),
            against: None,
        }
    }
}

/// `internet may reach booking on tcp 443`.
pub fn sentence(expectation: &Expectation) -> String {
    let names = |all: &[Name]| {
        all.iter()
            .map(|name| &**name)
            .collect::<Vec<_>>()
            .join(" or ")
    };
    let what = match &expectation.claim {
        Claim::MayReach { from, to } => format!("{} may reach {}", names(from), names(to)),
        Claim::NeverReaches { from, to } => format!("{} never reaches {}", names(from), names(to)),
        Claim::NothingElseReaches { to } => format!("nothing else reaches {}", names(to)),
        Claim::AlwaysPasses {
            from,
            to,
            firewalls,
        } => {
            format!(
                "{} to {} always passes {}",
                names(from),
                names(to),
                names(firewalls)
            )
        }
    };
    if expectation.services.is_empty() {
        return what;
    }
    format!(
        "{what} on {}",
        expectation
            .services
            .iter()
            .map(service_text)
            .collect::<Vec<_>>()
            .join(", ")
    )
}

/// How every expectation stands, in their order.
pub fn standings(view: &Fabric<'_>) -> Vec<Standing> {
    let every: Vec<usize> = (0..view.stated.expectations.len()).collect();
    standings_of(view, &every)
}

/// How some expectations stand, each by its place among all, in the order in which they are asked.
pub fn standings_of(view: &Fabric<'_>, wanted: &[usize]) -> Vec<Standing> {
    let allowed = allowances(view);
    let all = &view.stated.expectations;
    let asked = || wanted.iter().map(|at| &all[*at]);
    let mut found: Vec<Standing> = asked().map(|one| standing(view, one, &allowed)).collect();
    // Who is reached by what was given up is not known: so nothing is told as kept that forbids.
    if view.gave_up() {
        let forbids = |one: &Expectation| !matches!(one.claim, Claim::MayReach { .. });
        for (standing, _) in found
            .iter_mut()
            .zip(asked())
            .filter(|(_, one)| forbids(one))
        {
            if standing.state == State::Kept {
                let why = "undecided connections may contradict this".to_owned();
                *standing = Standing {
                    state: State::Unknown,
                    why,
                    against: None,
                };
            }
        }
    }
    found
}

fn standing(view: &Fabric<'_>, expectation: &Expectation, allowed: &[Allowance<'_>]) -> Standing {
    let services = &expectation.services;
    let judged = || -> Result<Standing, EndError> {
        let claimed = |from: &[Name], to: &[Name]| Ok((ends(view, from)?, ends(view, to)?));
        match &expectation.claim {
            Claim::MayReach { from, to } => {
                let (from, to) = claimed(from, to)?;
                Ok(nobody(view, &from, &to)
                    .unwrap_or_else(|| may_reach(view, &from, &to, services)))
            }
            Claim::NeverReaches { from, to } => {
                let (from, to) = claimed(from, to)?;
                let forbidden = Forbidden {
                    senders: Senders::of(view, &from),
                    to: &to,
                    services,
                    allowed: &[],
                };
                Ok(nobody(view, &from, &to).unwrap_or_else(|| forbidden.judged(view)))
            }
            Claim::NothingElseReaches { to } => {
                let to = ends(view, to)?;
                let from = [End::Any];
                let forbidden = Forbidden {
                    senders: Senders::of(view, &from),
                    to: &to,
                    services,
                    allowed,
                };
                Ok(nobody(view, &from, &to).unwrap_or_else(|| forbidden.judged(view)))
            }
            Claim::AlwaysPasses {
                from,
                to,
                firewalls,
            } => {
                let (from, to) = claimed(from, to)?;
                let firewalls = firewalls
                    .iter()
                    .map(|name| firewall(view, name))
                    .collect::<Result<Vec<_>, _>>()?;
                Ok(nobody(view, &from, &to)
                    .unwrap_or_else(|| always_passes(view, &from, &to, services, &firewalls)))
            }
        }
    };
    judged().unwrap_or_else(|error| Standing::vacuous(error.text()))
}

fn firewall(view: &Fabric<'_>, name: &Name) -> Result<Id<Firewall>, EndError> {
    let bare = name.strip_prefix("firewall:").unwrap_or(name);
    view.estate.firewalls.find(bare).ok_or_else(|| EndError {
        what: format!("there is no firewall called `{bare}`"),
        candidates: view
            .estate
            .firewalls
            .items()
            .iter()
            .map(|firewall| firewall.name.to_string())
            .collect(),
        ambiguous: false,
    })
}

/// A side that stands for nobody says nothing.
fn nobody(view: &Fabric<'_>, from: &[End], to: &[End]) -> Option<Standing> {
    if Senders::of(view, from).is_empty() {
        return Some(Standing::vacuous("the sending side is empty"));
    }
    Receivers::of(view, to)
        .is_empty()
        .then(|| Standing::vacuous("the receiving side is empty"))
}
