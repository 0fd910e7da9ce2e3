//! From rules of the model to lists that proofs are made about: one for each family, numbered in the order in which the
//! rules are tried.
//!
//! What tells packets apart besides addresses and service is fused in one number: the moment (how many ends of rules have
//! passed), the pair of firewall-zones, the source port. A rule that ends is there only at the moments before; so "dead
//! now and for as long as it lasts" is one question.

use crate::faults::{Fault, has};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::rules::{Decision, place_of_rule, rule_services, rule_sides};
use heronshale_model::estate::{Action, Direction, Id, Name, Network, Rule, RuleId};
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::cover::{
    Coordinate, Limits, List, Part, Point, Product, Prover, Reading, Rules,
};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{Packet, service};

const PORTS: u32 = 0x1_0000;

/// Equal if action, keeping of state, and defer or finally are. In a union keeping state is below keeping none, and nothing else
/// differs.
pub(super) fn number_of(decision: Decision) -> u16 {
    let action = match decision.action {
        Action::Allow => 0,
        Action::Deny => 1,
        Action::Reject => 2,
        Action::AllowFinally => 3,
        Action::Defer => 4,
    };
    action * 2 + u16::from(decision.stateless)
}

/// One line of a list before it is indexed.
pub(super) struct Line {
    /// What it decides: equal for lines that decide alike.
    pub decision: u16,
    /// Peers, and this side: matched for certain.
    pub sure: Option<(Addresses, Addresses)>,
    /// The most that they may be.
    pub most: (Addresses, Addresses),
    pub services: [Intervals; 2],
    pub ports: Intervals,
    /// Pairs of zones; none for all.
    pub pairs: Option<Vec<u32>>,
    pub ends: Option<jiff::Timestamp>,
}

impl Line {
    /// A rule of an interface's filter where it is enforced.
    pub fn of(view: &Fabric<'_>, id: RuleId, network: Option<Id<Network>>, decision: u16) -> Self {
        let rule = view.estate.rule(id);
        let [peers, local] = rule_sides(view, rule, place_of_rule(rule, network));
        let most = (peers.either(), local.either());
        Self {
            decision,
            sure: Some((peers.sure, local.sure)),
            most,
            services: Family::BOTH.map(|family| services_of(rule, family)),
            ports: rule.source_port_numbers(),
            pairs: None,
            ends: rule.enforced_until,
        }
    }
}

/// The services of a rule: with source ports only those that have them.
fn services_of(rule: &Rule, family: Family) -> Intervals {
    let services = rule_services(rule, family);
    if rule.source_ports.is_some() && rule.source_port_numbers() != every_port() {
        return services.intersection(&service::all_with_ports());
    }
    services
}

fn every_port() -> Intervals {
    Intervals::span(0, u128::from(u16::MAX))
}

/// Pairs of firewall-zones by which packets come in and go out, numbered.
pub(super) struct Zones {
    names: Vec<Name>,
}

impl Zones {
    pub fn new(mut names: Vec<Name>) -> Self {
        names.sort_unstable();
        names.dedup();
        Self { names }
    }

    /// How many pairs there are: each zone, and no zone at all.
    pub fn pairs(&self) -> u32 {
        let each = u32::try_from(self.names.len() + 1).unwrap_or(u32::MAX);
        each.saturating_mul(each)
    }

    /// The pairs of which a rule speaks; none for all.
    pub fn of(&self, from: Option<&Vec<Name>>, to: Option<&Vec<Name>>) -> Option<Vec<u32>> {
        if from.is_none() && to.is_none() {
            return None;
        }
        let each = u32::try_from(self.names.len() + 1).unwrap_or(u32::MAX);
        let fits = |zones: Option<&Vec<Name>>, at: u32| {
            zones.is_none_or(|zones| {
                self.names
                    .get(at as usize)
                    .is_some_and(|name| zones.contains(name))
            })
        };
        let pairs =
            (0..each * each).filter(|pair| fits(from, pair / each) && fits(to, pair % each));
        Some(pairs.collect())
    }
}

/// A list where it is enforced.
pub(super) struct Enlisted<I> {
    pub reading: Reading,
    pub direction: Direction,
    /// The rules in the order in which they are tried. Several lines may be of one rule of another filter.
    pub ids: Vec<I>,
    pub default: Option<u16>,
    /// How many pairs of zones it tells apart.
    pub pairs: u32,
    /// Addresses of this side: where packets are looked for first.
    pub home: Addresses,
    v4: List<u32>,
    v6: List<u128>,
}

/// How far the fused number reaches, or that it would be too large.
struct Fused {
    ends: Vec<jiff::Timestamp>,
    pairs: u32,
}

impl Fused {
    fn spans(&self, line: &Line) -> Vec<(u32, u32)> {
        let lives = match line.ends {
            None => self.ends.len() + 1,
            Some(_) if has(Fault::DeadByEndingCovers) => self.ends.len() + 1,
            // It is still there at the moment at which it ends, and gone after.
            Some(end) => self.ends.partition_point(|other| *other < end) + 1,
        };
        let lives = u32::try_from(lives).unwrap_or(u32::MAX);
        let all_ports = line.ports == every_port();
        let mut spans: Vec<(u32, u32)> = Vec::new();
        let mut add = |first: u32, last: u32| match spans.last_mut() {
            Some(before) if before.1 + 1 == first => before.1 = last,
            _ => spans.push((first, last)),
        };
        if all_ports && line.pairs.is_none() {
            add(0, lives * self.pairs * PORTS - 1);
            return spans;
        }
        let every: Vec<u32> = (0..self.pairs).collect();
        for moment in 0..lives {
            for pair in line.pairs.as_ref().unwrap_or(&every) {
                let base = (moment * self.pairs + pair) * PORTS;
                for (first, last) in line.ports.spans() {
                    add(
                        base + u32::from_number(*first),
                        base + u32::from_number(*last),
                    );
                }
            }
        }
        spans
    }
}

impl Coordinates for u32 {}
impl Coordinates for u128 {}

/// An address number of one family.
pub(super) trait Coordinates: Coordinate {
    /// Spans as this family writes them.
    fn spans(numbers: &Intervals) -> Vec<(Self, Self)> {
        numbers
            .spans()
            .iter()
            .map(|(first, last)| (Self::from_number(*first), Self::from_number(*last)))
            .collect()
    }
}

fn enlist<N: Coordinates>(
    lines: &[Line],
    direction: Direction,
    family: Family,
    fused: &Fused,
    limits: Limits,
) -> List<N> {
    let mut rules = Rules::with_capacity(lines.len());
    for line in lines {
        rules.next_rule();
        let at = usize::from(family == Family::V6);
        let service = u32::spans(&line.services[at]);
        let other = fused.spans(line);
        let mut add = |part: Part, (peers, local): &(Addresses, Addresses)| {
            let (peers, local) = (N::spans(peers.of(family)), N::spans(local.of(family)));
            let (source, destination) = if direction == Direction::In {
                (&peers, &local)
            } else {
                (&local, &peers)
            };
            let product = Product {
                source,
                destination,
                service: &service,
                other: &other,
            };
            rules.add(part, line.decision, &product);
        };
        match &line.sure {
            Some(sure) if *sure == line.most => add(Part::Whole, sure),
            sure => {
                sure.iter().for_each(|sure| add(Part::Sure, sure));
                add(Part::Most, &line.most);
            }
        }
    }
    List::new(rules, limits)
}

impl<I> Enlisted<I> {
    /// Indexes lines; none if there are more ends and zones than a proof can tell apart.
    pub fn new(
        reading: Reading,
        direction: Direction,
        lines: Vec<(I, Line)>,
        pairs: u32,
        default: Option<u16>,
        home: Addresses,
        limits: Limits,
    ) -> Option<Self> {
        let mut ends: Vec<jiff::Timestamp> =
            lines.iter().filter_map(|(_, line)| line.ends).collect();
        ends.sort_unstable();
        ends.dedup();
        let moments = u64::try_from(ends.len())
            .unwrap_or(u64::MAX)
            .saturating_add(1);
        if moments.saturating_mul(u64::from(pairs)) >= u64::from(PORTS) {
            return None;
        }
        let fused = Fused { ends, pairs };
        let (ids, lines): (Vec<I>, Vec<Line>) = lines.into_iter().unzip();
        let v4 = enlist(&lines, direction, Family::V4, &fused, limits);
        let v6 = enlist(&lines, direction, Family::V6, &fused, limits);
        Some(Self {
            reading,
            direction,
            ids,
            default,
            pairs,
            home,
            v4,
            v6,
        })
    }

    /// The rules in the order in which they are judged fastest.
    pub fn order(&self) -> Vec<u32> {
        if self.v6.parts_of_all() > self.v4.parts_of_all() {
            self.v6.order()
        } else {
            self.v4.order()
        }
    }

    pub fn provers(&self) -> (Prover<'_, u32>, Prover<'_, u128>) {
        (
            Prover::new(&self.v4, self.reading),
            Prover::new(&self.v6, self.reading),
        )
    }
}

/// A packet of a proof, at whatever moment and between whatever zones.
pub(super) fn packet_of<N: Coordinate>(family: Family, point: Point<N>) -> Packet {
    let ports = service::has_ports(service::protocol_of(point.service));
    Packet {
        family,
        source: point.source.number(),
        destination: point.destination.number(),
        service: point.service,
        source_port: if ports {
            u16::try_from(point.other % PORTS).unwrap_or(0)
        } else {
            0
        },
    }
}

/// The point of a packet of today between no zones: good enough for lists without zones, and for naming who takes it.
pub(super) fn point_of<N: Coordinate>(packet: &Packet) -> Point<N> {
    Point {
        source: N::from_number(packet.source),
        destination: N::from_number(packet.destination),
        service: packet.service,
        other: u32::from(packet.source_port),
    }
}

/// Places from which a reader would choose an example.
pub(super) const OUTSIDE: &[&str] = &["198.51.100.7", "2001:db8:ffff::7"];
pub(super) const INSIDE: &[&str] = &[
    "10.64.0.1-10.79.255.254",
    "10.0.0.1-10.255.255.254",
    "192.168.0.1-192.168.255.254",
    "fd00::1-fdff::1",
];

pub(super) fn addresses(texts: &[&str]) -> Addresses {
    texts
        .iter()
        .filter_map(|text| text.parse::<heronshale_sets::address::Block>().ok())
        .map(|block| block.range)
        .collect()
}

/// The client port of examples, between a pair of zones.
pub(super) fn client_port(pair: u32) -> (u32, u32) {
    (pair * PORTS + 40_000, pair * PORTS + 40_000)
}

/// Today, between whatever zones: the spans of the fused number in which a shadow must show.
pub(super) fn today(pairs: u32) -> (u32, u32) {
    (0, pairs * PORTS - 1)
}
