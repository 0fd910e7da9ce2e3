//! Requests and their replies (`docs/semantics.md` 1).
//!
//! TCP, UDP and SCTP replies have addresses and ports swapped. ICMP pairs: 8→0, 13→14, 15→16 (RFC 792), and
//! 128→129 (RFC 4443), the reply with code 0; 17→18 (RFC 950). Other ICMP types are one-way. Every other protocol
//! answers with the same protocol and the addresses swapped.

use super::map::PacketSet;
use super::{Entry, Packet, service};
use crate::address::{Addresses, Family};
use crate::intervals::Intervals;

/// ICMP requests and the types of their replies, by family.
pub(super) const fn pairs(family: Family) -> &'static [(u8, u8)] {
    match family {
        Family::V4 => &[(8, 0), (13, 14), (15, 16), (17, 18)],
        Family::V6 => &[(128, 129)],
    }
}

const fn icmp_of(family: Family) -> u8 {
    match family {
        Family::V4 => service::ICMP,
        Family::V6 => service::ICMPV6,
    }
}

/// ICMP numbers of one type with codes from `low` to `high`.
fn icmp_span(family: Family, kind: u8, low: u8, high: u8) -> Intervals {
    let number = |code: u8| {
        u128::from(service::code(
            icmp_of(family),
            u16::from_be_bytes([kind, code]),
        ))
    };
    Intervals::span(number(low), number(high))
}

/// The services of requests that get no reply: ICMP types that are no requests.
fn one_way(family: Family) -> Intervals {
    let asks = pairs(family)
        .iter()
        .fold(Intervals::empty(), |sum, (ask, _)| {
            sum.union(&icmp_span(family, *ask, 0, 255))
        });
    service::whole(icmp_of(family)).difference(&asks)
}

impl Packet {
    /// The reply to this packet; none if it is one-way.
    pub fn reply(&self) -> Option<Self> {
        let (protocol, low) = (self.protocol(), service::port_of(self.service));
        let (source, destination) = (self.destination, self.source);
        let turned = Self {
            source,
            destination,
            ..*self
        };
        if service::has_ports(protocol) {
            return Some(Self {
                service: service::code(protocol, self.source_port),
                source_port: low,
                ..turned
            });
        }
        if !service::is_icmp(protocol) {
            return Some(turned);
        }
        let [kind, _] = low.to_be_bytes();
        let (_, answer) = pairs(self.family).iter().find(|(ask, _)| *ask == kind)?;
        Some(Self {
            service: service::code(protocol, u16::from_be_bytes([*answer, 0])),
            ..turned
        })
    }
}

impl PacketSet {
    /// Packets that get no reply, and the rest.
    pub fn one_way(&self) -> (Self, Self) {
        let everywhere = Addresses::all();
        let every_port = Intervals::span(0, u128::from(u16::MAX));
        let silent =
            Self::fields(&everywhere, &everywhere, one_way, &every_port, ()).intersection(self);
        let answered = self.difference(&silent);
        (silent, answered)
    }

    /// The requests whose reply is in this set, and all packets that get no reply.
    pub fn requests_answered(&self) -> Self {
        let everywhere = Addresses::all();
        let every_port = Intervals::span(0, u128::from(u16::MAX));
        let silent = Self::fields(&everywhere, &everywhere, one_way, &every_port, ());
        let turned = self
            .boxes()
            .into_iter()
            .flat_map(|(entry, ())| requests_of(&entry));
        silent.union(&Self::union_all(
            turned.map(|entry| Self::of_entry(&entry, ())),
        ))
    }
}

impl PacketSet {
    /// The replies to these requests; those that get none have none here.
    #[must_use]
    pub fn replies(&self) -> Self {
        Self::union_all(
            self.boxes()
                .into_iter()
                .flat_map(|(entry, ())| replies_to(&entry))
                .map(|one| Self::of_entry(&one, ())),
        )
    }
}

/// The replies to the requests of one box.
fn replies_to(requests: &Entry) -> Vec<Entry> {
    let family = requests.family;
    let span = |(ask, answer): &(u8, u8)| {
        (
            icmp_span(family, *ask, 0, 255),
            icmp_span(family, *answer, 0, 0),
        )
    };
    turned(requests, pairs(family).iter().map(span))
}

/// The requests whose replies are the packets of one box.
pub(super) fn requests_of(replies: &Entry) -> Vec<Entry> {
    let family = replies.family;
    let span = |(ask, answer): &(u8, u8)| {
        (
            icmp_span(family, *answer, 0, 0),
            icmp_span(family, *ask, 0, 255),
        )
    };
    turned(replies, pairs(family).iter().map(span))
}

/// One box the other way round; `icmp` says which types of ICMP belong together, those of this box first.
fn turned(of: &Entry, icmp: impl Iterator<Item = (Intervals, Intervals)>) -> Vec<Entry> {
    let family = of.family;
    let turned = |services: Intervals, source_ports: Intervals| Entry {
        family,
        sources: of.destinations.clone(),
        destinations: of.sources.clone(),
        services,
        source_ports,
    };
    let mut found = Vec::new();
    for protocol in service::WITH_PORTS {
        let ports = of.services.intersection(&service::whole(protocol));
        if !ports.is_empty() {
            let base = u128::from(service::code(protocol, 0));
            let to = Intervals::from_spans(
                of.source_ports
                    .spans()
                    .iter()
                    .map(|(a, b)| (base + a, base + b)),
            );
            let from =
                Intervals::from_spans(ports.spans().iter().map(|(a, b)| (a - base, b - base)));
            found.push(turned(to, from));
        }
    }
    let others = of
        .services
        .difference(&service::all_with_ports())
        .difference(&service::whole(icmp_of(family)));
    let belongs = icmp
        .filter(|(own, _)| of.services.overlaps(own))
        .map(|(_, other)| other);
    let others = belongs.fold(others, |sum, one| sum.union(&one));
    if !others.is_empty() {
        found.push(turned(others, Intervals::span(0, u128::from(u16::MAX))));
    }
    found
}
