//! Expectations: whether what people say of the estate holds (design 3.5).
//!
//! *May reach* is asked as `path` asks it, between the ends' own addresses, and all of it must work for certain. What is
//! forbidden is looked for in a sweep, by every address that leads there, with whatever a condition or one of nature's choices
//! lets through; what the sweep finds is walked again by itself, which gives the packet and the steps that prove it. Nothing
//! is told to hold that depends on what the snapshot lacks.

mod draft;
mod sides;

pub use draft::{Drafted, drafted};

use crate::address::{Addresses, Family};
use crate::describe::service_text;
use crate::ends::{End, EndError};
use crate::exposure::{DeviceWay, DirectWay, HeldBy};
use crate::model::{Firewall, Id, Interface, Name, Network, Service};
use crate::packet::{Intervals, Packet, PacketSet};
use crate::path::{asking_network, client_ports, destinations_of, primaries};
use crate::stated::{Claim, Expectation};
use crate::sweep::{By, Fate, From, Node, Sweep, Sweeping, numbers_of, sent, sweep, without_twice};
use crate::view::View;
use crate::walk::{Asked, Choice, Judged, Spot, Start, Step, Tell, Verdict, What, walk, walk_ends};
use rustc_hash::FxHashMap;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use sides::{Receivers, Senders, ends};

/// Whether an expectation is true.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
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
        Self { state: State::Kept, why: String::new(), against: None }
    }

    fn vacuous(why: impl Into<String>) -> Self {
        Self { state: State::Vacuous, why: why.into(), against: None }
    }
}

/// `internet may reach booking on tcp 443`.
pub fn sentence(expectation: &Expectation) -> String {
    let names = |all: &[Name]| all.iter().map(|name| &**name).collect::<Vec<_>>().join(" or ");
    let what = match &expectation.claim {
        Claim::MayReach { from, to } => format!("{} may reach {}", names(from), names(to)),
        Claim::NeverReaches { from, to } => format!("{} never reaches {}", names(from), names(to)),
        Claim::NothingElseReaches { to } => format!("nothing else reaches {}", names(to)),
        Claim::AlwaysPasses { from, to, firewalls } => {
            format!("{} to {} always passes {}", names(from), names(to), names(firewalls))
        }
    };
    if expectation.services.is_empty() {
        return what;
    }
    format!("{what} on {}", expectation.services.iter().map(service_text).collect::<Vec<_>>().join(", "))
}

/// How every expectation stands, in their order.
pub fn standings(view: &View<'_>) -> Vec<Standing> {
    let allowed = allowances(view);
    view.stated.expectations.iter().map(|one| standing(view, one, &allowed)).collect()
}

fn standing(view: &View<'_>, expectation: &Expectation, allowed: &[Allowance<'_>]) -> Standing {
    let services = &expectation.services;
    let judged = || -> Result<Standing, EndError> {
        let claimed = |from: &[Name], to: &[Name]| Ok((ends(view, from)?, ends(view, to)?));
        match &expectation.claim {
            Claim::MayReach { from, to } => {
                let (from, to) = claimed(from, to)?;
                Ok(nobody(view, &from, &to).unwrap_or_else(|| may_reach(view, &from, &to, services)))
            }
            Claim::NeverReaches { from, to } => {
                let (from, to) = claimed(from, to)?;
                let forbidden = Forbidden { senders: Senders::of(view, &from), to: &to, services, allowed: &[] };
                Ok(nobody(view, &from, &to).unwrap_or_else(|| forbidden.judged(view)))
            }
            Claim::NothingElseReaches { to } => {
                let to = ends(view, to)?;
                let from = [End::Any];
                let forbidden = Forbidden { senders: Senders::of(view, &from), to: &to, services, allowed };
                Ok(nobody(view, &from, &to).unwrap_or_else(|| forbidden.judged(view)))
            }
            Claim::AlwaysPasses { from, to, firewalls } => {
                let (from, to) = claimed(from, to)?;
                let firewalls = firewalls.iter().map(|name| firewall(view, name)).collect::<Result<Vec<_>, _>>()?;
                Ok(nobody(view, &from, &to).unwrap_or_else(|| always_passes(view, &from, &to, services, &firewalls)))
            }
        }
    };
    judged().unwrap_or_else(|error| Standing::vacuous(error.text()))
}

fn firewall(view: &View<'_>, name: &Name) -> Result<Id<Firewall>, EndError> {
    let bare = name.strip_prefix("firewall:").unwrap_or(name);
    view.estate.firewalls.find(bare).ok_or_else(|| EndError {
        what: format!("no firewall is called `{bare}`"),
        candidates: view.estate.firewalls.items().iter().map(|firewall| firewall.name.to_string()).collect(),
        ambiguous: false,
    })
}

/// A side that stands for nobody says nothing.
fn nobody(view: &View<'_>, from: &[End], to: &[End]) -> Option<Standing> {
    if Senders::of(view, from).is_empty() {
        return Some(Standing::vacuous("nobody is meant who could send"));
    }
    Receivers::of(view, to).is_empty().then(|| Standing::vacuous("nobody is meant who could be reached"))
}

/// Whether everything gets through, as `path` asks it.
fn may_reach(view: &View<'_>, from: &[End], to: &[End], services: &[Service]) -> Standing {
    let senders = Senders::of(view, from);
    let mut starts: Vec<(Start, Addresses)> = Vec::new();
    let mut by_network: FxHashMap<Id<Network>, Vec<(Id<Interface>, u32)>> = FxHashMap::default();
    for id in senders.sorted() {
        by_network.entry(view.estate.network_of(id)).or_default().push((id, 0));
    }
    let mut networks: Vec<_> = by_network.into_iter().collect();
    networks.sort_unstable_by_key(|(network, _)| *network);
    for (_, list) in networks {
        for list in without_twice(view, &list) {
            let all: Vec<Id<Interface>> = list.into_iter().map(|(id, _)| id).collect();
            let meant = all.iter().fold(Addresses::empty(), |sum, id| sum.union(&senders.interfaces[id]));
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
    starts.extend(sites.into_iter().map(|(id, addresses)| (Start::Site(*id), addresses.clone())));
    let (mut asked_any, mut unknown) = (false, None);
    for (start, sources) in starts {
        for end in to {
            let destinations = destinations_of(view, end, &start, asking_network(view, &start));
            let ports = client_ports(view, &start, &destinations);
            let mut packets = sent(&sources, &destinations, services, &ports);
            if let Start::Interfaces(all) = &start {
                packets = packets.difference(&to_themselves(view, all));
            }
            if packets.is_empty() {
                continue;
            }
            asked_any = true;
            let asked = Asked { start: start.clone(), packets, name: None, any_of: Vec::new() };
            for part in walk(view, &asked, Tell::Verdicts).parts {
                if part.judged.verdict == Verdict::Works
                    || (part.judged.verdict == Verdict::Unknown && unknown.is_some())
                {
                    continue;
                }
                let Some(packet) = part.packets.witness() else { continue };
                let against = match part.judged.verdict {
                    Verdict::WorksForSome => prove_failing(view, &start, packet, &part.packets),
                    _ => prove(view, &start, packet),
                };
                if part.judged.verdict == Verdict::Unknown {
                    unknown = Some(against);
                    continue;
                }
                let why = format!("this does not work for certain: {}", part.judged.verdict.word());
                return Standing { state: State::Broken, why, against: Some(against) };
            }
        }
    }
    match unknown {
        _ if !asked_any => Standing::vacuous("the two sides have no family of addresses in common"),
        Some(against) => {
            let why = "whether this works depends on what the snapshot lacks".to_owned();
            Standing { state: State::Unknown, why, against: Some(against) }
        }
        None => Standing::kept(),
    }
}

/// Packets from interfaces to themselves.
fn to_themselves(view: &View<'_>, all: &[Id<Interface>]) -> PacketSet {
    let every = Intervals::span(0, u128::from(u16::MAX));
    PacketSet::union_all(all.iter().map(|id| {
        let own = &view.estate.interfaces[*id].addresses;
        PacketSet::fields(own, own, crate::packet::service::all, &every, ())
    }))
}

/// The steps of one packet, for whom an expectation does not hold.
fn prove(view: &View<'_>, start: &Start, packet: Packet) -> Against {
    let start = match start {
        Start::Interfaces(all) => {
            let source = packet.source_address();
            let holds = |id: &&Id<Interface>| view.estate.interfaces[**id].addresses.contains(source);
            Start::Interfaces(all.iter().find(holds).copied().into_iter().collect())
        }
        other => other.clone(),
    };
    let asked = Asked { start: start.clone(), packets: PacketSet::single(&packet), name: None, any_of: Vec::new() };
    let answered = walk(view, &asked, Tell::Steps);
    let Judged { verdict, trail, .. } = answered.summary.clone();
    let works = answered.parts.iter().flat_map(|part| answered.labels.trails_that_work(part.label)).next();
    // Of what works for some that is the proof for "never" which works, and for "may" which fails.
    let trail = if verdict <= Verdict::Conditional { works.unwrap_or(trail) } else { trail };
    let steps = answered.labels.steps(trail).into_iter().cloned().collect();
    Against { packet, start, verdict, steps }
}

/// The steps of one that does not work, of packets that work for some: from a client's port that fails, if that is what decides.
fn prove_failing(view: &View<'_>, start: &Start, packet: Packet, part: &PacketSet) -> Against {
    let packets = PacketSet::single(&packet).any_source_port().intersection(part);
    let asked = Asked { start: start.clone(), packets: packets.clone(), name: None, any_of: Vec::new() };
    let answered = walk(view, &asked, Tell::Steps);
    let Some((choices, fails)) = &answered.summary.some else { return prove(view, start, packet) };
    let ports = choices.iter().fold(Intervals::empty(), |sum, choice| match choice {
        Choice::ClientPorts(ports) => sum.union(ports),
        _ => sum,
    });
    let all = Addresses::all();
    let working = PacketSet::fields(&all, &all, crate::packet::service::all, &ports, ());
    if let Some(failing) = packets.difference(&working).witness().filter(|_| !ports.is_empty()) {
        return prove(view, start, failing);
    }
    let steps = answered.labels.steps(*fails).into_iter().cloned().collect();
    Against { packet, start: start.clone(), verdict: Verdict::WorksForSome, steps }
}

/// Somebody who may reach somebody.
struct Allowance<'s> {
    name: &'s Name,
    senders: Senders,
    receivers: Receivers,
    services: &'s [Service],
}

/// All that expectations allow. Those whose ends cannot be read allow nothing, and are told by themselves.
fn allowances<'v>(view: &'v View<'_>) -> Vec<Allowance<'v>> {
    let allowed = view.stated.expectations.iter().filter_map(|one| {
        let Claim::MayReach { from, to } = &one.claim else { return None };
        let (from, to) = (ends(view, from).ok()?, ends(view, to).ok()?);
        let (senders, receivers) = (Senders::of(view, &from), Receivers::of(view, &to));
        Some(Allowance { name: &one.name, senders, receivers, services: &one.services })
    });
    allowed.collect()
}

/// Packets from some addresses, of some services.
fn said(sources: &Addresses, destinations: &Addresses, services: &[Service]) -> PacketSet {
    let every = Intervals::span(0, u128::from(u16::MAX));
    PacketSet::fields(sources, destinations, |family| numbers_of(services, family), &every, ())
}

/// What must not get through.
struct Forbidden<'q> {
    senders: Senders,
    to: &'q [End],
    services: &'q [Service],
    /// What may all the same.
    allowed: &'q [Allowance<'q>],
}

/// One of those that a sweep found.
struct Candidate<'f> {
    start: Start,
    sources: Addresses,
    target: Node,
    member: Option<Id<Interface>>,
    by: By,
    asked: Addresses,
    services: &'f Intervals,
    family: Family,
    fate: &'f Fate,
}

/// Sweeps from senders to receivers, and calls `each` with every pair of kinds of them that gets through, or may; until it says something.
fn each_candidate<T>(
    view: &View<'_>,
    senders: &Senders,
    receivers: &Receivers,
    services: &[Service],
    apart: &dyn Fn(Id<Interface>) -> u32,
    each: &mut dyn FnMut(Candidate<'_>) -> Option<T>,
) -> Option<T> {
    let sending = senders.sorted();
    let whole: Vec<Id<Interface>> = {
        let mut all: Vec<_> = receivers.interfaces.iter().copied().collect();
        all.sort_unstable();
        all
    };
    let devices_only = receivers.asked.is_empty() && receivers.services.is_empty() && receivers.sites.is_empty();
    let mut starts = Vec::new();
    if !senders.internet.is_empty() && !senders.sites.is_empty() {
        starts.push(From::Everywhere);
    } else {
        starts.extend((!sending.is_empty()).then_some(From::Interfaces(&sending)));
        starts.extend((!senders.internet.is_empty()).then_some(From::Internet));
        let mut sites: Vec<_> = senders.sites.keys().copied().collect();
        sites.sort_unstable();
        starts.extend(sites.into_iter().map(From::Site));
    }
    for from in starts {
        let sweeping = Sweeping { from, to: devices_only.then_some(&whole), services, failing: false, apart };
        let found = sweep(view, &sweeping);
        let told = candidates(view, &found, senders, receivers, each);
        if told.is_some() {
            return told;
        }
    }
    None
}

fn candidates<T>(
    view: &View<'_>,
    found: &Sweep,
    senders: &Senders,
    receivers: &Receivers,
    each: &mut dyn FnMut(Candidate<'_>) -> Option<T>,
) -> Option<T> {
    for row in &found.rows {
        let fate = &found.fates[row.fate as usize];
        for source in &row.sources {
            let sender = &found.nodes[*source as usize];
            let first = if let Node::Interfaces(all) = sender { all.first().copied() } else { None };
            let Some((start, sources)) = senders.start(sender, first) else { continue };
            for reach in &row.reach {
                for target in reach.targets.iter().filter(|target| Sweep::counts(*source, **target)) {
                    let node = &found.nodes[target.0 as usize];
                    let member = if let Node::Interfaces(all) = node {
                        // Within one kind the second stands for the others.
                        if target.0 == *source { all.get(1).copied() } else { all.first().copied() }
                    } else {
                        None
                    };
                    let asked = receivers.asked(view, node, member, reach.by);
                    if asked.of(reach.family).is_empty() {
                        continue;
                    }
                    let told = each(Candidate {
                        start: start.clone(),
                        sources: sources.clone(),
                        target: node.clone(),
                        member,
                        by: reach.by,
                        asked,
                        services: &reach.services,
                        family: reach.family,
                        fate,
                    });
                    if told.is_some() {
                        return told;
                    }
                }
            }
        }
    }
    None
}

impl Candidate<'_> {
    /// What it may send, from the ports of clients there.
    fn packets(&self, view: &View<'_>, services: &[Service]) -> PacketSet {
        let ports = client_ports(view, &self.start, &self.asked);
        let all = sent(&self.sources, &self.asked, services, &ports);
        let every = Intervals::span(0, u128::from(u16::MAX));
        let of = |family| if family == self.family { self.services.clone() } else { Intervals::empty() };
        all.intersection(&PacketSet::fields(&Addresses::all(), &Addresses::all(), of, &every, ()))
    }

    /// Those of its packets that get through to the target or may, each part with its verdict.
    fn through(&self, view: &View<'_>, packets: PacketSet) -> Vec<(Verdict, PacketSet)> {
        let asked = Asked { start: self.start.clone(), packets, name: None, any_of: Vec::new() };
        let answered = walk_ends(view, &asked, Addresses::empty());
        let is_target = |at: Spot| match (&self.target, at) {
            (Node::Interfaces(_), Spot::Interface(id)) => Some(id) == self.member,
            (Node::Internet, Spot::Internet) => true,
            (Node::Site(wanted), Spot::Site(id)) => *wanted == id,
            (Node::Service(wanted), Spot::Service(id)) => *wanted == id,
            (Node::Service(wanted), Spot::Interface(id)) => view.estate.services[*wanted].private_doors.contains(&id),
            _ => false,
        };
        let arrives = |part: &&crate::walk::Part| {
            if part.judged.verdict == Verdict::Unknown {
                return true;
            }
            let works = answered.labels.trails_that_work(part.label);
            let ends = works.iter().flat_map(|trail| answered.labels.steps(*trail));
            let ends: Vec<Spot> = ends.filter(|step| step.what == What::Arrived && !step.reply).map(|s| s.at).collect();
            // What arrives elsewhere than at the interface that holds the address is told.
            let untold = ends.is_empty() && matches!(self.target, Node::Interfaces(_));
            untold || ends.into_iter().any(is_target)
        };
        let open = answered.parts.iter().filter(|part| part.judged.verdict <= Verdict::Unknown);
        open.filter(arrives).map(|part| (part.judged.verdict, part.packets.clone())).collect()
    }
}

/// For each interface a number: those that the sides hold alike have the same.
fn told_apart(view: &View<'_>, senders: &[&Senders], receivers: &[&Receivers]) -> Vec<u32> {
    let mut known: FxHashMap<(Vec<u8>, Option<Id<Interface>>), u32> = FxHashMap::default();
    let number = |id: Id<Interface>| {
        let mut signature: Vec<u8> = Vec::new();
        let mut partly = false;
        for side in senders {
            let own = side.interfaces.get(&id);
            partly |= own.is_some_and(|own| *own != view.estate.interfaces[id].addresses);
            signature.push(u8::from(own.is_some()));
        }
        for side in receivers {
            signature.push(u8::from(side.interfaces.contains(&id)));
        }
        let next = u32::try_from(known.len()).expect("fewer than 2^32 interfaces");
        *known.entry((signature, partly.then_some(id))).or_insert(next)
    };
    view.estate.interfaces.ids().map(number).collect()
}

impl Forbidden<'_> {
    fn judged(&self, view: &View<'_>) -> Standing {
        let receivers = Receivers::of(view, self.to);
        let senders: Vec<&Senders> =
            std::iter::once(&self.senders).chain(self.allowed.iter().map(|a| &a.senders)).collect();
        let receiving: Vec<&Receivers> =
            std::iter::once(&receivers).chain(self.allowed.iter().map(|a| &a.receivers)).collect();
        let numbers = told_apart(view, &senders, &receiving);
        let apart = |id: Id<Interface>| numbers[id.index()];
        let mut unknown: Option<Against> = None;
        let broken = each_candidate(view, &self.senders, &receivers, self.services, &apart, &mut |candidate| {
            let packets = candidate.packets(view, self.services).difference(&self.allowed_of(view, &candidate));
            if packets.is_empty() || (candidate.fate.judged.verdict == Verdict::Unknown && unknown.is_some()) {
                return None;
            }
            for (verdict, packets) in candidate.through(view, packets) {
                let Some(packet) = packets.witness() else { continue };
                if verdict != Verdict::Unknown {
                    return Some(prove(view, &candidate.start, packet));
                }
                if unknown.is_none() {
                    unknown = Some(prove(view, &candidate.start, packet));
                }
            }
            None
        });
        match (broken, unknown) {
            (Some(against), _) => {
                let why = match against.verdict {
                    Verdict::Works => "this gets through".to_owned(),
                    other => format!("this may get through: {}", other.word()),
                };
                Standing { state: State::Broken, why, against: Some(against) }
            }
            (None, Some(against)) => {
                let why = "whether this gets through depends on what the snapshot lacks".to_owned();
                Standing { state: State::Unknown, why, against: Some(against) }
            }
            (None, None) => Standing::kept(),
        }
    }

    fn allowed_of(&self, view: &View<'_>, candidate: &Candidate<'_>) -> PacketSet {
        PacketSet::union_all(self.allowed.iter().map(|one| {
            let to = one.receivers.asked(view, &candidate.target, candidate.member, candidate.by);
            said(&one.senders.sources(&candidate.start), &to, one.services)
        }))
    }
}

/// A firewall that keeps state ends what it sees in one direction only (design 2.8), so that what works and passes it on the way there
/// passes it on the way back.
fn always_passes(
    view: &View<'_>,
    from: &[End],
    to: &[End],
    services: &[Service],
    firewalls: &[Id<Firewall>],
) -> Standing {
    let (senders, receivers) = (Senders::of(view, from), Receivers::of(view, to));
    let numbers = told_apart(view, &[&senders], &[&receivers]);
    let apart = |id: Id<Interface>| numbers[id.index()];
    let (mut connects, mut unknown) = (false, None);
    let broken = each_candidate(view, &senders, &receivers, services, &apart, &mut |candidate| {
        let fate = candidate.fate;
        let works = fate.judged.verdict <= Verdict::Conditional;
        let passes = works && !fate.without && fate.firewalls.iter().all(|firewall| firewalls.contains(firewall));
        if passes && connects {
            return None;
        }
        if !works && unknown.is_some() {
            return None;
        }
        for (verdict, packets) in candidate.through(view, candidate.packets(view, services)) {
            connects |= verdict <= Verdict::Conditional;
            if passes {
                break;
            }
            let Some(packet) = packets.witness() else { continue };
            let start = &candidate.start;
            if verdict == Verdict::Unknown {
                unknown.get_or_insert_with(|| prove(view, start, packet));
                continue;
            }
            let around = around(view, start, packet, firewalls);
            if around.is_some() {
                return around;
            }
        }
        None
    });
    let why = |text: &str| text.to_owned();
    match (broken, unknown) {
        (Some(against), _) => {
            Standing { state: State::Broken, why: why("this gets through another way"), against: Some(against) }
        }
        (None, Some(against)) => Standing {
            state: State::Unknown,
            why: why("whether this gets through depends on what the snapshot lacks"),
            against: Some(against),
        },
        (None, None) if !connects => Standing::vacuous("nothing connects at all"),
        (None, None) => Standing::kept(),
    }
}

/// The steps of a packet that gets through without any of some firewalls.
fn around(view: &View<'_>, start: &Start, packet: Packet, firewalls: &[Id<Firewall>]) -> Option<Against> {
    let asked = Asked { start: start.clone(), packets: PacketSet::single(&packet), name: None, any_of: Vec::new() };
    let answered = walk(view, &asked, Tell::Steps);
    let works = answered.parts.iter().flat_map(|part| answered.labels.trails_that_work(part.label));
    let passes = |step: &Step| matches!(step.at, Spot::Firewall(id) if firewalls.contains(&id));
    let without = works.map(|trail| answered.labels.steps(trail)).find(|steps| {
        let there = steps.iter().any(|step| !step.reply && passes(step));
        let back = steps.iter().all(|step| !step.reply) || steps.iter().any(|step| step.reply && passes(step));
        !(there && back)
    })?;
    let steps = without.into_iter().cloned().collect();
    Some(Against { packet, start: start.clone(), verdict: answered.summary.verdict, steps })
}

/// What expectations say of some packets from the internet.
#[derive(Clone, Debug, Default)]
pub struct Spoken {
    /// Those that one allows, and none forbids.
    pub meant: PacketSet,
    /// Those that one forbids.
    pub unmeant: PacketSet,
    /// Those of which none speaks.
    pub unjudged: PacketSet,
    /// The expectations that allow some of them.
    pub allowed_by: Vec<String>,
    /// The expectations that forbid some of them.
    pub forbidden_by: Vec<String>,
}

impl Spoken {
    /// Whether something is open, and all of it is meant.
    pub fn all_meant(&self) -> bool {
        !self.meant.is_empty() && self.unmeant.is_empty() && self.unjudged.is_empty()
    }
}

/// What expectations say of the internet's connections.
pub struct Judging<'v, 'e> {
    view: &'v View<'e>,
    allowed: Vec<Allowance<'v>>,
    forbidden: Vec<(&'v Expectation, Senders, Receivers)>,
    closed: Vec<(&'v Expectation, Receivers)>,
}

impl<'v, 'e> Judging<'v, 'e> {
    /// Reads all expectations.
    pub fn new(view: &'v View<'e>) -> Self {
        let mut judging = Self { view, allowed: allowances(view), forbidden: Vec::new(), closed: Vec::new() };
        for one in &view.stated.expectations {
            match &one.claim {
                Claim::NeverReaches { from, to } => {
                    let (Ok(from), Ok(to)) = (ends(view, from), ends(view, to)) else { continue };
                    judging.forbidden.push((one, Senders::of(view, &from), Receivers::of(view, &to)));
                }
                Claim::NothingElseReaches { to } => {
                    let Ok(to) = ends(view, to) else { continue };
                    judging.closed.push((one, Receivers::of(view, &to)));
                }
                Claim::MayReach { .. } | Claim::AlwaysPasses { .. } => {}
            }
        }
        judging
    }

    /// Whether nobody said anything.
    pub fn is_silent(&self) -> bool {
        self.allowed.is_empty() && self.forbidden.is_empty() && self.closed.is_empty()
    }

    /// What is said of packets to one target: an interface by its own or its public address, or a device.
    fn spoken(&self, open: &PacketSet, covers: &dyn Fn(&Receivers, bool) -> bool) -> Spoken {
        let all = Addresses::all();
        let mut spoken = Spoken::default();
        let mut meant = PacketSet::empty();
        for one in self.allowed.iter().filter(|one| covers(&one.receivers, true)) {
            let here = open.intersection(&said(&one.senders.internet, &all, one.services));
            if !here.is_empty() {
                spoken.allowed_by.push(one.name.to_string());
                meant = meant.union(&here);
            }
        }
        let mut forbid = |expectation: &Expectation, here: PacketSet| {
            if !here.is_empty() {
                spoken.forbidden_by.push(expectation.name.to_string());
                spoken.unmeant = spoken.unmeant.union(&here);
            }
        };
        for (expectation, senders, receivers) in &self.forbidden {
            if covers(receivers, false) {
                forbid(expectation, open.intersection(&said(&senders.internet, &all, &expectation.services)));
            }
        }
        for (expectation, receivers) in &self.closed {
            if covers(receivers, false) {
                let here = open.intersection(&said(&all, &all, &expectation.services));
                forbid(expectation, here.difference(&meant));
            }
        }
        spoken.meant = meant.difference(&spoken.unmeant);
        spoken.unjudged = open.difference(&meant).difference(&spoken.unmeant);
        spoken
    }

    /// What is said of a way in to an interface; nothing if nobody said anything of who reaches whom.
    pub fn direct(&self, way: &DirectWay) -> Spoken {
        if self.is_silent() {
            return Spoken::default();
        }
        let public = way.public.map(|id| self.view.estate.public_addresses[id].address);
        let asked = public.map_or_else(|| [way.own].into_iter().collect(), Addresses::single);
        let covers =
            |side: &Receivers, _: bool| side.interfaces.contains(&way.interface) || side.asked.overlaps(&asked);
        self.spoken(&way.open(), &covers)
    }

    /// What is said of a way in that leads by a device. Allowed is what goes to the device itself, or to nobody but those who may be
    /// reached; forbidden what may lead to somebody who must not.
    pub fn by_device(&self, way: &DeviceWay) -> Spoken {
        let mut all = Spoken::default();
        if self.is_silent() {
            return all;
        }
        for part in way.parts.iter().filter(|part| part.is_open()) {
            let covers = |side: &Receivers, every: bool| {
                let itself = match way.by {
                    HeldBy::Balancer(id) => side.balancers.contains(&id),
                    HeldBy::Service(id) => side.services.contains(&id),
                    HeldBy::Interface(id) => part.ends.is_empty() && side.interfaces.contains(&id),
                    HeldBy::Firewall(_) => false,
                };
                let mut ends = part.ends.iter().map(|id| side.interfaces.contains(id));
                let reached =
                    if every { !part.ends.is_empty() && ends.all(|held| held) } else { ends.any(|held| held) };
                itself || side.asked.overlaps(&way.addresses) || reached
            };
            let one = self.spoken(&part.packets, &covers);
            all.meant = all.meant.union(&one.meant);
            all.unmeant = all.unmeant.union(&one.unmeant);
            all.unjudged = all.unjudged.union(&one.unjudged);
            for (sum, more) in [(&mut all.allowed_by, one.allowed_by), (&mut all.forbidden_by, one.forbidden_by)] {
                for name in more {
                    if !sum.contains(&name) {
                        sum.push(name);
                    }
                }
            }
        }
        all
    }
}
