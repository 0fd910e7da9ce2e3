//! A way in to an interface: what is open by it, what is closed and by what.

use super::base::{Decided, InterfaceFact, decided, interface_fact, rules_in_force};
use super::grade::exposure_severity;
use super::hop::hop_text;
use crate::describe::{PeerWords, Symbols, Witness, peer_words, ports_text, symbols_of, witness};
use crate::expect::Spoken;
use crate::exposure::{DirectWay, Part, Verdict};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::judgement::StageKind;
use heronshale_engine::stage::{Way, chain, rule_match};
use heronshale_model::estate::{Direction, Id, Interface, RuleId};
use heronshale_model::severity::Severity;
use heronshale_model::source::Place;
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::packet::{PacketSet, entries_within};
use serde::Serialize;

/// By what the internet gets to an interface.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum WayKind {
    /// A public address that the internet gateway maps.
    PublicAddress,
    /// A global IPv6 address of its own.
    GlobalIpv6,
}

/// One way in to one interface.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct WayFact {
    /// The interface.
    pub interface: InterfaceFact,
    /// IPv4 or IPv6.
    pub family: Family,
    /// By what.
    pub way: WayKind,
    /// The address that is asked.
    pub address: String,
    /// The interface's own address that it stands for.
    pub own: String,
    /// The internet gateway, if the network has one.
    pub gateway: Option<String>,
    /// How bad it is that something is open; none if nothing is.
    pub severity: Option<Severity>,
    /// What expectations say of what is open; none if nothing is, or if there are no expectations about who reaches whom.
    pub spoken: Option<SpokenFact>,
    /// What works, with all that let it in.
    pub open: Vec<OpenFact>,
    /// What depends on something missing from the snapshot.
    pub unknown: Vec<OpenFact>,
    /// What does not work, and what closes it; to be read from the top.
    pub closed: Vec<ClosedFact>,
}

/// Whether somebody meant what is open.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Meaning {
    /// An expectation forbids some of it.
    Unmeant,
    /// Of some of it no expectation speaks.
    Unjudged,
    /// Expectations allow all of it.
    Meant,
}

impl Meaning {
    /// What it is called.
    pub fn word(self) -> &'static str {
        match self {
            Self::Unmeant => "unintended",
            Self::Unjudged => "not judged",
            Self::Meant => "intended",
        }
    }
}

/// What expectations say of what is open.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct SpokenFact {
    /// All together, the worst.
    pub meaning: Meaning,
    /// Expectations that allow some of it.
    pub allowed_by: Vec<String>,
    /// Expectations that forbid some of it.
    pub forbidden_by: Vec<String>,
    /// The services that one allows, from some source.
    pub meant: Vec<String>,
    /// The services that one forbids, from some source.
    pub unmeant: Vec<String>,
    /// The services of which none speaks, from some source.
    pub unjudged: Vec<String>,
}

/// Whether some packets that are open are meant: the worst that is said of any.
pub fn meaning_of(spoken: &Spoken, packets: &PacketSet) -> Option<Meaning> {
    if spoken.unmeant.overlaps(packets) {
        Some(Meaning::Unmeant)
    } else if spoken.unjudged.overlaps(packets) {
        Some(Meaning::Unjudged)
    } else {
        spoken.meant.overlaps(packets).then_some(Meaning::Meant)
    }
}

/// What expectations say, as data.
pub fn spoken_fact(spoken: &Spoken) -> Option<SpokenFact> {
    let meaning = meaning_of(spoken, &PacketSet::full())?;
    let services = |set: &PacketSet| {
        let mut texts: Vec<String> = Vec::new();
        for family in Family::BOTH {
            let only = Addresses::of_family(family);
            let here = set.between(Some(&only), None).services();
            let new = heronshale_sets::packet::service::texts(family, &here)
                .into_iter()
                .filter(|text| !texts.contains(text));
            texts.extend(new.collect::<Vec<_>>());
        }
        texts
    };
    Some(SpokenFact {
        meaning,
        allowed_by: spoken.allowed_by.clone(),
        forbidden_by: spoken.forbidden_by.clone(),
        meant: services(&spoken.meant),
        unmeant: services(&spoken.unmeant),
        unjudged: services(&spoken.unjudged),
    })
}

/// Connections that work, or may work.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct OpenFact {
    /// From where, among the addresses of the internet.
    pub sources: PeerWords,
    /// Whether that is all of the internet.
    pub from_anywhere: bool,
    /// Protocols with ports, or ICMP types and codes.
    pub services: Vec<String>,
    /// Only for clients with these ports.
    pub client_ports: Option<String>,
    /// Whether the reply takes one of several equal routes, of which only some lead back.
    pub some_routes: bool,
    /// What each stage decided.
    pub decided: Vec<Decided>,
    /// A packet that gets in, as the interface receives it.
    pub witness: Option<Witness>,
    /// Whether somebody meant it; none if there are no expectations about who reaches whom, or if it is not open for certain.
    pub meaning: Option<Meaning>,
}

/// What closes a way in, for some traffic.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ClosedFact {
    /// From where.
    pub sources: PeerWords,
    /// Protocols with ports, or ICMP types and codes.
    pub services: Vec<String>,
    /// Whether only the rest of it is meant: some of these packets are open, unknown, or closed by something above.
    pub rest: bool,
    /// What closes it.
    pub closing: Closing,
}

/// What closes a way in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(tag = "closed_by", rename_all = "kebab-case", deny_unknown_fields)]
pub enum Closing {
    /// A stage of the interface.
    Stage {
        /// What it decided.
        decided: Decided,
    },
    /// The network or subnet takes no connections from the internet.
    InternetBlock,
    /// The network has no internet gateway.
    NoGateway,
    /// The internet gateway is not attached to the network.
    GatewayNotAttached {
        /// Its name.
        gateway: String,
    },
    /// The reply finds no route.
    ReplyNoRoute,
    /// The reply is routed elsewhere than to the internet gateway.
    ReplyRoutedElsewhere {
        /// Where it goes.
        to: String,
        /// The route, if it was written.
        route: Option<Place>,
    },
    /// A stage that keeps no state refuses the reply.
    ReplyDenied {
        /// Which.
        stage: StageKind,
    },
}

/// One way in as data.
pub fn way_fact(view: &Fabric<'_>, way: &DirectWay, spoken: &Spoken) -> WayFact {
    let estate = view.estate;
    let public = way.public.map(|public| &estate.public_addresses[public]);
    let domain = PacketSet::union_all(way.parts.iter().map(|part| part.packets.clone()));
    let network = estate.network_of(way.interface);
    let rules = way
        .parts
        .iter()
        .flat_map(|part| &part.way.judgements)
        .filter_map(|judgement| match judgement.by {
            heronshale_engine::judgement::By::Rule(id) => Some(id),
            _ => None,
        });
    let mut symbols = symbols_of(view, rules, Some(network));
    let internet = view.internet_end();
    for (_, members) in &mut symbols {
        *members = members.intersection(&internet);
    }
    let unions = if way.open().is_empty() {
        Vec::new()
    } else {
        union_rules(view, way.interface, Direction::In)
    };
    let facts = |chosen: &dyn Fn(&Part) -> bool| {
        way.parts
            .iter()
            .filter(|part| chosen(part))
            .flat_map(|part| open_facts(view, way, part, &domain, &symbols, spoken, &unions))
            .collect()
    };
    WayFact {
        interface: interface_fact(view, way.interface),
        family: way.family,
        way: if public.is_some() {
            WayKind::PublicAddress
        } else {
            WayKind::GlobalIpv6
        },
        address: public.map_or_else(|| way.own.to_string(), |public| public.name.to_string()),
        own: way.own.to_string(),
        gateway: way
            .gateway
            .map(|gateway| estate.gateways[gateway].name.to_string()),
        severity: exposure_severity(view, &way.open(), &domain, spoken),
        spoken: spoken_fact(spoken),
        open: facts(&|part| part.verdict.is_open()),
        unknown: facts(&|part| part.verdict == Verdict::Unknown),
        closed: closed_facts(view, way, &domain, &symbols),
    }
}

/// The rules of the union groups of an interface that admit something, each with its stage and its packets.
pub fn union_rules(
    view: &Fabric<'_>,
    interface: Id<Interface>,
    direction: Direction,
) -> Vec<(StageKind, RuleId, PacketSet)> {
    let network = Some(view.estate.network_of(interface));
    let stages = chain(view, interface, direction).stages;
    let filters = stages
        .iter()
        .flat_map(|stage| stage.filters.iter().map(|filter| (stage.kind, *filter)));
    let unions = filters.filter(|(_, filter)| view.estate.filters[*filter].is_union());
    let mut found = Vec::new();
    for (kind, filter) in unions {
        for id in rules_in_force(view, &[filter], direction) {
            let matched = rule_match(view, id, network);
            found.push((kind, id, matched.sure.union(&matched.maybe)));
        }
    }
    found
}

/// The internet's addresses among some, in words: all of them are `any`.
fn sources(
    view: &Fabric<'_>,
    family: Family,
    numbers: &heronshale_sets::intervals::Intervals,
    symbols: &Symbols,
) -> (PeerWords, bool) {
    let set = Addresses::from_intervals(family, numbers.clone());
    let internet = view
        .internet_end()
        .intersection(&Addresses::of_family(family));
    let exact = set.intersection(&internet);
    let mut words = peer_words(family, exact.of(family), symbols);
    let missing = internet.difference(&exact);
    if missing.is_empty() {
        words.said = format!("any {family} address");
    } else if missing.texts().len() * 2 < words.ranges.len() {
        words.said = format!(
            "any {family} address except {}",
            peer_words(family, missing.of(family), symbols).said
        );
    }
    (words, missing.is_empty())
}

fn open_facts(
    view: &Fabric<'_>,
    way: &DirectWay,
    part: &Part,
    domain: &PacketSet,
    symbols: &Symbols,
    spoken: &Spoken,
    unions: &[(StageKind, RuleId, PacketSet)],
) -> Vec<OpenFact> {
    // Whoever takes away the first rule finds the others still there.
    let also = |stage: StageKind, first: RuleId| -> Vec<RuleId> {
        let others = unions.iter().filter(|(kind, id, packets)| {
            *kind == stage && *id != first && packets.overlaps(&part.packets)
        });
        others.map(|(_, id, _)| *id).collect()
    };
    let wide = part.packets.union(&domain.complement());
    let entries = entries_within(&part.packets, &wide);
    let facts = entries.into_iter().map(|entry| {
        let (sources, from_anywhere) = sources(view, entry.family, &entry.sources, symbols);
        let mut here = PacketSet::of_entry(&entry, ()).intersection(&part.packets);
        if let Verdict::WorksForPorts(ports) = &part.verdict {
            let all = Addresses::all();
            here = here.intersection(&PacketSet::fields(
                &all,
                &all,
                heronshale_sets::packet::service::all,
                ports,
                (),
            ));
        }
        OpenFact {
            sources,
            from_anywhere,
            services: entry.service_texts(),
            client_ports: match &part.verdict {
                Verdict::WorksForPorts(ports) => Some(ports_text(ports)),
                _ => None,
            },
            some_routes: part.verdict == Verdict::WorksForRoutes,
            decided: decided(view.estate, &way.stages, &part.way.judgements, also),
            witness: here.witness().map(|packet| witness(&packet)),
            meaning: meaning_of(spoken, &here),
        }
    });
    facts.collect()
}

fn closed_facts(
    view: &Fabric<'_>,
    way: &DirectWay,
    domain: &PacketSet,
    symbols: &Symbols,
) -> Vec<ClosedFact> {
    let mut above = way.open().union(&way.unknown()).union(&domain.complement());
    let mut ends: Vec<(Closing, PacketSet)> = Vec::new();
    for part in way
        .parts
        .iter()
        .filter(|part| !part.verdict.is_open() && part.verdict != Verdict::Unknown)
    {
        let closing = closing(view, way, part);
        match ends.iter_mut().find(|(known, _)| *known == closing) {
            Some((_, sum)) => *sum = sum.union(&part.packets),
            None => ends.push((closing, part.packets.clone())),
        }
    }
    let by_rule = |closing: &Closing| match closing {
        Closing::Stage { decided } => matches!(decided.decider, super::Decider::Rule { .. }),
        _ => true,
    };
    ends.sort_by_key(|(closing, _)| !by_rule(closing));
    let mut told = way.open().union(&way.unknown());
    let mut closed = Vec::new();
    for (closing, set) in ends {
        above = above.union(&set);
        for entry in entries_within(&set, &above) {
            let (sources, _) = sources(view, entry.family, &entry.sources, symbols);
            closed.push(ClosedFact {
                sources,
                services: entry.service_texts(),
                rest: PacketSet::of_entry(&entry, ()).overlaps(&told),
                closing: closing.clone(),
            });
        }
        told = told.union(&set);
    }
    closed
}

fn closing(view: &Fabric<'_>, way: &DirectWay, part: &Part) -> Closing {
    match &part.verdict {
        Verdict::Blocked => Closing::InternetBlock,
        Verdict::NoGateway => {
            way.gateway
                .map_or(Closing::NoGateway, |gateway| Closing::GatewayNotAttached {
                    gateway: view.estate.gateways[gateway].name.to_string(),
                })
        }
        Verdict::ReplyLost(None) => Closing::ReplyNoRoute,
        Verdict::ReplyLost(Some(winner)) => Closing::ReplyRoutedElsewhere {
            to: hop_text(view, winner.hop),
            route: winner
                .origin
                .map(|origin| view.estate.sources.place(&origin)),
        },
        Verdict::ReplyDenied(stage) => Closing::ReplyDenied { stage: *stage },
        _ => refusing(view, way, &part.way),
    }
}

fn refusing(view: &Fabric<'_>, way: &DirectWay, taken: &Way) -> Closing {
    let mut all = decided(view.estate, &way.stages, &taken.judgements, |_, _| {
        Vec::new()
    });
    all.pop()
        .map_or(Closing::NoGateway, |decided| Closing::Stage { decided })
}
