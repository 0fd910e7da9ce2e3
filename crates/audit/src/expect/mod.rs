//! Expectations: whether what people say of the estate holds (`docs/statements.md`).
//!
//! *May reach* is asked as `path` asks it, between the ends' own addresses, and all of it must work for certain. What is
//! forbidden is looked for in a sweep, by every address that leads there, with whatever a condition or one of nature's choices
//! lets through; what the sweep finds is walked again by itself, which gives the packet and the steps that prove it. Nothing
//! is told to hold that depends on what the snapshot lacks.

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
use serde::{Deserialize, Serialize};
use sides::{Receivers, Senders, ends};
use std::fmt::Write;

/// Whether an expectation is true.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum State {
    /// It is not true.
    Broken,
    /// It depends on what the snapshot lacks.
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
            format!(
                "{what} is undecided: there are more ways than the limit of steps allows to follow"
            )
        }
        _ => format!("{what} depends on what the snapshot lacks"),
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
    let allowed = allowances(view);
    let all = &view.stated.expectations;
    let mut found: Vec<Standing> = all
        .iter()
        .map(|one| standing(view, one, &allowed))
        .collect();
    // Who is reached by what was given up is not known: so nothing is told as kept that forbids.
    if view.gave_up() {
        let forbids = |one: &Expectation| !matches!(one.claim, Claim::MayReach { .. });
        for (standing, _) in found.iter_mut().zip(all).filter(|(_, one)| forbids(one)) {
            if standing.state == State::Kept {
                let why =
                    "connections that were given up at the limit of steps may speak against this"
                        .to_owned();
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
        what: format!("no firewall is called `{bare}`"),
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
        return Some(Standing::vacuous("nobody is meant who could send"));
    }
    Receivers::of(view, to)
        .is_empty()
        .then(|| Standing::vacuous("nobody is meant who could be reached"))
}

/// Whether everything gets through, as `path` asks it.
fn may_reach(view: &Fabric<'_>, from: &[End], to: &[End], services: &[Service]) -> Standing {
    let senders = Senders::of(view, from);
    let mut starts: Vec<(Start, Addresses)> = Vec::new();
    let mut by_network: FxHashMap<Id<Network>, Vec<(Id<Interface>, u32)>> = FxHashMap::default();
    for id in senders.sorted() {
        by_network
            .entry(view.estate.network_of(id))
            .or_default()
            .push((id, 0));
    }
    let mut networks: Vec<_> = by_network.into_iter().collect();
    networks.sort_unstable_by_key(|(network, _)| *network);
    for (_, list) in networks {
        for list in without_twice(view, &list) {
            let all: Vec<Id<Interface>> = list.into_iter().map(|(id, _)| id).collect();
            let meant = all.iter().fold(Addresses::empty(), |sum, id| {
                sum.union(&senders.interfaces[id])
            });
            let sources = primaries(view, &all).intersection(&meant);
            let sources = if sources.is_empty() { meant } else { sources };
            starts.push((Start::Interfaces(all), sources));
        }
    }
    if !senders.internet.is_empty() {
        starts.push((Start::Internet, senders.internet.clone()));
    }
    let mut sites: Vec<_> = senders.sites.iter().collect();
    sites.sort_unstable_by_key(|(id, _)| **id);
    starts.extend(
        sites
            .into_iter()
            .map(|(id, addresses)| (Start::Site(*id), addresses.clone())),
    );
    let (mut asked_any, mut unknown) = (false, None);
    for (start, sources) in starts {
        for end in to {
            let destinations = destinations_of(view, end, &start, asking_network(view, &start));
            let ports = client_ports(view, &start, &destinations);
            let mut packets = sent(&sources, &destinations, services, &ports);
            if let End::Service(id) = end {
                packets = packets.intersection(&entrances(view, *id, &start).packets());
            }
            if let Start::Interfaces(all) = &start {
                packets = packets.difference(&to_themselves(view, all));
            }
            if packets.is_empty() {
                continue;
            }
            asked_any = true;
            let asked = Asked {
                start: start.clone(),
                packets,
                name: None,
                any_of: Vec::new(),
            };
            let parts = walk(view, &asked, Tell::Verdicts).parts;
            // Of a service each start and port needs one entrance that works, not the same for all.
            let is_service = matches!(end, End::Service(_));
            let works = parts
                .iter()
                .filter(|part| is_service && part.judged.verdict == Verdict::Works);
            let entered =
                PacketSet::union_all(works.map(|part| part.packets.clone())).to_anywhere();
            for part in parts {
                let left = part.packets.difference(&entered);
                if part.judged.verdict == Verdict::Works
                    || (part.judged.verdict.is_open()
                        && part.judged.may_work
                        && settled(unknown.as_ref()))
                {
                    continue;
                }
                let Some(packet) = left.witness() else {
                    continue;
                };
                let against = match part.judged.verdict {
                    Verdict::WorksForSome => prove_failing(view, &start, packet, &part.packets),
                    _ => prove(view, &start, packet),
                };
                if part.judged.verdict.is_open() && part.judged.may_work {
                    unknown = Some(against);
                    continue;
                }
                let why = format!(
                    "this does not work for certain: {}",
                    part.judged.verdict.word()
                );
                return Standing {
                    state: State::Broken,
                    why,
                    against: Some(against),
                };
            }
        }
    }
    match unknown {
        _ if !asked_any => Standing::vacuous("the two sides have no family of addresses in common"),
        Some(against) => {
            let why = open_text("whether this works", &against);
            Standing {
                state: State::Unknown,
                why,
                against: Some(against),
            }
        }
        None => Standing::kept(),
    }
}

/// Packets from interfaces to themselves.
fn to_themselves(view: &Fabric<'_>, all: &[Id<Interface>]) -> PacketSet {
    let every = Intervals::span(0, u128::from(u16::MAX));
    PacketSet::union_all(all.iter().map(|id| {
        let own = &view.estate.interfaces[*id].addresses;
        PacketSet::fields(own, own, heronshale_sets::packet::service::all, &every, ())
    }))
}

/// The steps of one packet, for whom an expectation does not hold.
fn prove(view: &Fabric<'_>, start: &Start, packet: Packet) -> Against {
    let start = match start {
        Start::Interfaces(all) => {
            let source = packet.source_address();
            let holds =
                |id: &&Id<Interface>| view.estate.interfaces[**id].addresses.contains(source);
            Start::Interfaces(all.iter().find(holds).copied().into_iter().collect())
        }
        other => other.clone(),
    };
    let asked = Asked {
        start: start.clone(),
        packets: PacketSet::single(&packet),
        name: None,
        any_of: Vec::new(),
    };
    let answered = walk(view, &asked, Tell::Steps);
    let Judged { verdict, trail, .. } = answered.summary.clone();
    let works = answered
        .parts
        .iter()
        .flat_map(|part| answered.labels.trails_that_work(part.label))
        .next();
    // Of what works for some that is the proof for "never" which works, and for "may" which fails.
    let trail = if verdict <= Verdict::Conditional {
        works.unwrap_or(trail)
    } else {
        trail
    };
    let steps = answered.labels.steps(trail).into_iter().cloned().collect();
    Against {
        packet,
        start,
        verdict,
        steps,
    }
}

/// Packets like the one that a reader would choose of some, from client ports of which it works: one for each way that it takes.
fn working(view: &Fabric<'_>, start: &Start, packets: &PacketSet) -> Vec<Packet> {
    let Some(first) = packets.witness() else {
        return Vec::new();
    };
    let like = PacketSet::single(&first)
        .any_source_port()
        .intersection(packets);
    let asked = Asked {
        start: start.clone(),
        packets: like.clone(),
        name: None,
        any_of: Vec::new(),
    };
    let answered = walk(view, &asked, Tell::Steps);
    let Some((choices, _)) = answered
        .summary
        .some
        .filter(|_| answered.summary.verdict == Verdict::WorksForSome)
    else {
        return vec![first];
    };
    let all = Addresses::all();
    let from = |ports: &Intervals| {
        like.intersection(&PacketSet::fields(
            &all,
            &all,
            heronshale_sets::packet::service::all,
            ports,
            (),
        ))
        .witness()
    };
    let found: Vec<Packet> = choices
        .iter()
        .filter_map(|choice| match choice {
            Choice::ClientPorts(ports) => from(ports),
            _ => None,
        })
        .collect();
    if found.is_empty() { vec![first] } else { found }
}

/// The steps of one that does not work, of packets that work for some: from a client's port that fails, if that is what decides.
fn prove_failing(view: &Fabric<'_>, start: &Start, packet: Packet, part: &PacketSet) -> Against {
    let packets = PacketSet::single(&packet)
        .any_source_port()
        .intersection(part);
    let asked = Asked {
        start: start.clone(),
        packets: packets.clone(),
        name: None,
        any_of: Vec::new(),
    };
    let answered = walk(view, &asked, Tell::Steps);
    let Some((choices, fails)) = &answered.summary.some else {
        return prove(view, start, packet);
    };
    let ports = choices
        .iter()
        .fold(Intervals::empty(), |sum, choice| match choice {
            Choice::ClientPorts(ports) => sum.union(ports),
            _ => sum,
        });
    let all = Addresses::all();
    let working = PacketSet::fields(
        &all,
        &all,
        heronshale_sets::packet::service::all,
        &ports,
        (),
    );
    if let Some(failing) = packets
        .difference(&working)
        .witness()
        .filter(|_| !ports.is_empty())
    {
        return prove(view, start, failing);
    }
    let steps = answered.labels.steps(*fails).into_iter().cloned().collect();
    Against {
        packet,
        start: start.clone(),
        verdict: Verdict::WorksForSome,
        steps,
    }
}

/// Somebody who may reach somebody.
struct Allowance<'s> {
    name: &'s Name,
    senders: Senders,
    receivers: Receivers,
    services: &'s [Service],
}

/// All that expectations allow. Those whose ends cannot be read allow nothing, and are told by themselves.
fn allowances<'v>(view: &'v Fabric<'_>) -> Vec<Allowance<'v>> {
    let allowed = view.stated.expectations.iter().filter_map(|one| {
        let Claim::MayReach { from, to } = &one.claim else {
            return None;
        };
        let (from, to) = (ends(view, from).ok()?, ends(view, to).ok()?);
        let (senders, receivers) = (Senders::of(view, &from), Receivers::of(view, &to));
        Some(Allowance {
            name: &one.name,
            senders,
            receivers,
            services: &one.services,
        })
    });
    allowed.collect()
}

/// Packets from some addresses, of some services.
pub fn said(sources: &Addresses, destinations: &Addresses, services: &[Service]) -> PacketSet {
    let every = Intervals::span(0, u128::from(u16::MAX));
    PacketSet::fields(
        sources,
        destinations,
        |family| numbers_of(services, family),
        &every,
        (),
    )
}

/// What must not get through.
struct Forbidden<'q> {
    senders: Senders,
    to: &'q [End],
    services: &'q [Service],
    /// What may all the same.
    allowed: &'q [Allowance<'q>],
}

impl Forbidden<'_> {
    fn judged(&self, view: &Fabric<'_>) -> Standing {
        let receivers = Receivers::by_any_entrance(view, self.to);
        let named = Receivers::of(view, self.to);
        let senders: Vec<&Senders> = std::iter::once(&self.senders)
            .chain(self.allowed.iter().map(|a| &a.senders))
            .collect();
        let receiving: Vec<&Receivers> = std::iter::once(&receivers)
            .chain(self.allowed.iter().map(|a| &a.receivers))
            .collect();
        let numbers = told_apart(view, &senders, &receiving);
        let apart = |id: Id<Interface>| numbers[id.index()];
        let mut unknown: Option<Against> = None;
        let mut by_another: Option<Node> = None;
        let broken = each_candidate(
            view,
            &self.senders,
            &receivers,
            self.services,
            &apart,
            &mut |candidate| {
                let packets = candidate
                    .packets(view, self.services)
                    .difference(&self.allowed_of(view, &candidate));
                if packets.is_empty()
                    || (candidate.fate.judged.verdict.is_open() && settled(unknown.as_ref()))
                {
                    return None;
                }
                for (verdict, packets) in candidate.through(view, packets) {
                    let Some(packet) = working(view, &candidate.start, &packets).first().copied()
                    else {
                        continue;
                    };
                    if !verdict.is_open() {
                        let other = named
                            .asked(view, &candidate.target, candidate.member, candidate.by)
                            .is_empty();
                        by_another = other.then(|| candidate.target.clone());
                        return Some(prove(view, &candidate.start, packet));
                    }
                    if !settled(unknown.as_ref()) {
                        unknown = Some(prove(view, &candidate.start, packet));
                    }
                }
                None
            },
        );
        if broken.is_none() && !settled(unknown.as_ref()) {
            let allowed = |start: &Start, to: &Addresses| {
                PacketSet::union_all(self.allowed.iter().map(|one| {
                    said(
                        &one.senders.sources(start),
                        &one.receivers.asked.intersection(to),
                        one.services,
                    )
                }))
            };
            let more = nobody::may_arrive(view, &self.senders, self.to, self.services, allowed);
            unknown = more.or(unknown);
        }
        match (broken, unknown) {
            (Some(against), _) => {
                let mut why = match against.verdict {
                    Verdict::Works => "this gets through".to_owned(),
                    other => format!("this may get through: {}", other.word()),
                };
                if let Some(Node::Service(id)) = by_another {
                    let _ = write!(
                        why,
                        ", by another entrance of service {}",
                        view.estate.services[id].name
                    );
                }
                Standing {
                    state: State::Broken,
                    why,
                    against: Some(against),
                }
            }
            (None, Some(against)) => {
                let why = open_text("whether this gets through", &against);
                Standing {
                    state: State::Unknown,
                    why,
                    against: Some(against),
                }
            }
            (None, None) => Standing::kept(),
        }
    }

    fn allowed_of(&self, view: &Fabric<'_>, candidate: &Candidate<'_>) -> PacketSet {
        PacketSet::union_all(self.allowed.iter().map(|one| {
            let to = one
                .receivers
                .asked(view, &candidate.target, candidate.member, candidate.by);
            said(&one.senders.sources(&candidate.start), &to, one.services)
        }))
    }
}

/// A firewall that keeps state ends what it sees in one direction only (`docs/semantics.md` 8), so that what works and passes it on the way there
/// passes it on the way back.
fn always_passes(
    view: &Fabric<'_>,
    from: &[End],
    to: &[End],
    services: &[Service],
    firewalls: &[Id<Firewall>],
) -> Standing {
    let (senders, receivers) = (
        Senders::of(view, from),
        Receivers::by_any_entrance(view, to),
    );
    let numbers = told_apart(view, &[&senders], &[&receivers]);
    let apart = |id: Id<Interface>| numbers[id.index()];
    let (mut connects, mut unknown): (bool, Option<Against>) = (false, None);
    let broken = each_candidate(
        view,
        &senders,
        &receivers,
        services,
        &apart,
        &mut |candidate| {
            let fate = candidate.fate;
            let works = fate.judged.verdict <= Verdict::Conditional;
            let passes = works
                && !fate.without
                && fate
                    .firewalls
                    .iter()
                    .all(|firewall| firewalls.contains(firewall));
            if passes && connects {
                return None;
            }
            if !works && settled(unknown.as_ref()) {
                return None;
            }
            for (verdict, packets) in candidate.through(view, candidate.packets(view, services)) {
                connects |= verdict <= Verdict::Conditional;
                if passes {
                    break;
                }
                let Some(packet) = packets.witness() else {
                    continue;
                };
                let start = &candidate.start;
                if verdict.is_open() {
                    if !settled(unknown.as_ref()) {
                        unknown = Some(prove(view, start, packet));
                    }
                    continue;
                }
                // Where it works for some of the client's ports, those ways are looked at that do.
                let around = working(view, start, &packets)
                    .into_iter()
                    .find_map(|one| around(view, start, one, firewalls));
                if around.is_some() {
                    return around;
                }
            }
            None
        },
    );
    if broken.is_none() && !settled(unknown.as_ref()) {
        unknown =
            nobody::may_arrive(view, &senders, to, services, |_, _| PacketSet::empty()).or(unknown);
    }
    let why = |text: &str| text.to_owned();
    match (broken, unknown) {
        (Some(against), _) => Standing {
            state: State::Broken,
            why: why("this gets through another way"),
            against: Some(against),
        },
        (None, Some(against)) => Standing {
            state: State::Unknown,
            why: open_text("whether this gets through", &against),
            against: Some(against),
        },
        (None, None) if !connects => Standing::vacuous("nothing connects at all"),
        (None, None) => Standing::kept(),
    }
}

/// The steps of a packet that gets through without any of some firewalls.
fn around(
    view: &Fabric<'_>,
    start: &Start,
    packet: Packet,
    firewalls: &[Id<Firewall>],
) -> Option<Against> {
    let asked = Asked {
        start: start.clone(),
        packets: PacketSet::single(&packet),
        name: None,
        any_of: Vec::new(),
    };
    let answered = walk(view, &asked, Tell::Steps);
    let works = answered
        .parts
        .iter()
        .flat_map(|part| answered.labels.trails_that_work(part.label));
    let passes = |step: &Step| matches!(step.at, Spot::Firewall(id) if firewalls.contains(&id));
    let without = works
        .map(|trail| answered.labels.steps(trail))
        .find(|steps| {
            let there = steps.iter().any(|step| !step.reply && passes(step));
            let back = steps.iter().all(|step| !step.reply)
                || steps.iter().any(|step| step.reply && passes(step));
            !(there && back)
        })?;
    let steps = without.into_iter().cloned().collect();
    Some(Against {
        packet,
        start: start.clone(),
        verdict: answered.summary.verdict,
        steps,
    })
}
