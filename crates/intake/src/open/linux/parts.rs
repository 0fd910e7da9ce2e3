//! The parts of a packet at which a match of nftables looks, and the packets of which a part is one of some values.

use super::chains::{ByState, Test};
use super::{icmp_type, protocol};
use crate::open::condition::{Condition, all_ports, all_services, minus};
use crate::tree::{Node, Value, get, list, text, text_at};
use heronshale_core::address::{Addresses, Block, Family, Range, number_of};
use heronshale_core::packet::{Intervals, service};
use std::net::IpAddr;

/// A part of a packet that a match looks at.
#[derive(Clone, Debug)]
pub(super) enum Left {
    Source(Family),
    Destination(Family),
    Protocol(Option<Family>),
    SourcePort(Intervals),
    DestinationPort(Intervals),
    Kind(u8),
    Code(u8),
    From,
    To,
    Family,
    State,
    Direction,
    Flags(u8),
    Concat(Vec<Left>),
    /// Not understood; of these packets at most.
    Unknown(String, Box<Condition>),
}

/// The value of an element, without what is said of it.
pub(super) fn element<'n>(node: &'n Node<'n>) -> &'n Node<'n> {
    get(node, "elem").and_then(|elem| get(elem, "val")).unwrap_or(node)
}

pub(super) fn payload(of: &str, field: &str) -> Left {
    let ports = |protocol: u8| service::whole(protocol);
    let family = |of: &str| if of == "ip" { Family::V4 } else { Family::V6 };
    let unknown = |at_most: Condition| Left::Unknown(format!("{of} {field}"), Box::new(at_most));
    match (of, field) {
        ("ip" | "ip6", "saddr") => Left::Source(family(of)),
        ("ip" | "ip6", "daddr") => Left::Destination(family(of)),
        ("ip", "protocol") | ("ip6", "nexthdr") => Left::Protocol(Some(family(of))),
        ("ip" | "ip6", _) => unknown(Condition::of_family(family(of))),
        ("th", "sport") => Left::SourcePort(service::all_with_ports()),
        ("th", "dport") => Left::DestinationPort(service::all_with_ports()),
        ("icmp", "type") => Left::Kind(service::ICMP),
        ("icmp", "code") => Left::Code(service::ICMP),
        ("icmpv6", "type") => Left::Kind(service::ICMPV6),
        ("icmpv6", "code") => Left::Code(service::ICMPV6),
        ("tcp", "flags") => Left::Flags(u8::MAX),
        (of, field) => match (protocol(of), field) {
            (Some(number), "sport") if service::has_ports(number) => Left::SourcePort(ports(number)),
            (Some(number), "dport") if service::has_ports(number) => Left::DestinationPort(ports(number)),
            (Some(number), _) => unknown(Condition::of_services(service::whole(number))),
            (None, _) => unknown(Condition::all()),
        },
    }
}

/// What a match on a part means before its value is asked: which packets have it at all.
fn base(left: &Left) -> Condition {
    match left {
        Left::Source(family) | Left::Destination(family) | Left::Protocol(Some(family)) => {
            Condition::of_family(*family)
        }
        Left::SourcePort(services) | Left::DestinationPort(services) => Condition::of_services(services.clone()),
        Left::Kind(protocol) | Left::Code(protocol) => Condition::of_services(service::whole(*protocol)),
        Left::Flags(_) => Condition::of_services(service::whole(service::TCP)),
        Left::Unknown(_, at_most) => (**at_most).clone(),
        Left::Concat(parts) => parts.iter().fold(Condition::all(), |all, part| all.and(&base(part))),
        Left::Protocol(None) | Left::From | Left::To | Left::Family | Left::State | Left::Direction => Condition::all(),
    }
}

pub(super) fn restricted(left: &Left, to: Condition) -> Vec<Condition> {
    vec![base(left).and(&to)]
}

pub(super) fn negated(test: Test, left: &Left) -> Test {
    match test {
        Test::State(holds) => Test::State(holds.negated()),
        Test::Any(pieces) => {
            let mut left_over = vec![base(left)];
            // A packet of another protocol has something there too.
            if let Left::SourcePort(services) | Left::DestinationPort(services) = left
                && *services == service::all_with_ports()
            {
                left_over.extend(other_transport());
            }
            let known = pieces.iter().filter(|piece| piece.unknown.is_empty());
            left_over = known.fold(left_over, minus);
            let unknown: std::collections::BTreeSet<String> =
                pieces.iter().flat_map(|piece| piece.unknown.iter().cloned()).collect();
            for piece in &mut left_over {
                piece.unknown.extend(unknown.iter().cloned());
            }
            Test::Any(left_over)
        }
    }
}

/// Where `th` looks in packets of protocols without ports.
fn other_transport() -> Option<Condition> {
    let beside = Condition::of_services(all_services().difference(&service::all_with_ports()));
    Some(beside.and(&Condition::unknown("what stands in place of ports in other protocols")))
}

/// Packets of which a part is one of some numbers.
pub(super) fn scalar(left: &Left, numbers: &Intervals) -> Option<Vec<Condition>> {
    let all = base(left);
    let within = |services: &Intervals| {
        let mut spans = Vec::new();
        for protocol in service::WITH_PORTS.into_iter().filter(|one| service::whole(*one).is_subset(services)) {
            let base = u128::from(service::code(protocol, 0));
            spans.extend(numbers.intersection(&all_ports()).spans().iter().map(|(a, b)| (base + a, base + b)));
        }
        Intervals::from_spans(spans)
    };
    let found = match left {
        Left::Source(family) => Condition { source: Addresses::from_intervals(*family, numbers.clone()), ..all },
        Left::Destination(family) => {
            Condition { destination: Addresses::from_intervals(*family, numbers.clone()), ..all }
        }
        Left::Protocol(_) => {
            let numbers = (0..=u8::MAX).filter(|protocol| numbers.contains(u128::from(*protocol)));
            let services = numbers.fold(Intervals::empty(), |sum, protocol| sum.union(&service::whole(protocol)));
            all.and(&Condition::of_services(services))
        }
        Left::SourcePort(services) => {
            let source_ports = numbers.intersection(&all_ports());
            let mut found = vec![Condition { source_ports, ..all }];
            found.extend(other_transport().filter(|_| *services == service::all_with_ports()));
            return Some(found);
        }
        Left::DestinationPort(services) => {
            let mut found = vec![Condition::of_services(within(services))];
            found.extend(other_transport().filter(|_| *services == service::all_with_ports()));
            return Some(found);
        }
        Left::Kind(protocol) => {
            let code = |kind: u128| u128::from(service::code(*protocol, 0)) + kind * 256;
            let spans = numbers.intersection(&Intervals::span(0, 255));
            Condition::of_services(Intervals::from_spans(spans.spans().iter().map(|(a, b)| (code(*a), code(*b) + 255))))
        }
        Left::Code(protocol) => {
            let base = u128::from(service::code(*protocol, 0));
            let codes = numbers.intersection(&Intervals::span(0, 255));
            let spans = (0..256_u128).flat_map(|kind| {
                codes.spans().iter().map(move |(a, b)| (base + kind * 256 + a, base + kind * 256 + b))
            });
            Condition::of_services(Intervals::from_spans(spans))
        }
        Left::Family => {
            let has = |number| numbers.contains(number);
            let mut found = Vec::new();
            // Of `meta nfproto` 2 and 10, of `meta protocol` the Ethernet types.
            if has(2) || has(0x0800) {
                found.push(Condition::of_family(Family::V4));
            }
            if has(10) || has(0x86DD) {
                found.push(Condition::of_family(Family::V6));
            }
            return Some(found);
        }
        _ => return None,
    };
    Some(vec![found])
}

/// The numbers that a value stands for.
pub(super) fn spans(left: &Left, node: &Node<'_>) -> Option<Vec<(u128, u128)>> {
    if text(node) == Some("*") {
        return Some(vec![(0, u128::MAX)]);
    }
    if let Some(inside) = get(node, "set") {
        let all: Option<Vec<_>> = list(inside).iter().map(|one| spans(left, element(one))).collect();
        return all.map(|all| all.concat());
    }
    if let Some(range) = get(node, "range") {
        let [first, last] = list(range) else { return None };
        let (first, last) = (spans(left, first)?, spans(left, last)?);
        return Some(vec![(first.first()?.0, last.first()?.1)]);
    }
    if let Some(prefix) = get(node, "prefix") {
        let block = format!("{}/{}", text_at(prefix, "addr")?, text_at(prefix, "len")?);
        let Range { family, first, last } = block.parse::<Block>().ok()?.range;
        return addresses(left, family).then_some(vec![(first, last)]);
    }
    let word = text(node)?;
    let number = word.parse::<u128>().ok().or_else(|| u128::from_str_radix(word.strip_prefix("0x")?, 16).ok());
    let one = match left {
        Left::Source(_) | Left::Destination(_) => {
            let address: IpAddr = word.parse().ok()?;
            addresses(left, Family::of(address)).then(|| number_of(address))?
        }
        Left::Protocol(_) => number.or_else(|| protocol(word).map(u128::from))?,
        Left::Kind(protocol) => number.or_else(|| icmp_type(*protocol, word).map(u128::from))?,
        Left::Family => number.or(match word {
            "ipv4" | "ip" => Some(2),
            "ipv6" | "ip6" => Some(10),
            "arp" | "vlan" => Some(0x0806),
            _ => None,
        })?,
        _ => number?,
    };
    Some(vec![(one, one)])
}

fn addresses(left: &Left, of: Family) -> bool {
    matches!(left, Left::Source(family) | Left::Destination(family) if *family == of)
}

/// Flags of TCP by their names, joined as a list or by `|`.
pub(super) fn flags(node: &Node<'_>) -> Option<u8> {
    const NAMES: [&str; 8] = ["fin", "syn", "rst", "psh", "ack", "urg", "ecn", "cwr"];
    if let Some(inside) = get(node, "|").or_else(|| get(node, "set")) {
        return flags(inside);
    }
    let mut all = 0;
    for one in list(node) {
        if matches!(one.value, Value::Map(_)) {
            all |= flags(one)?;
            continue;
        }
        let word = text(one)?;
        let bit = NAMES.iter().position(|name| *name == word).map(|at| 1_u8 << at);
        all |= bit.or_else(|| word.parse().ok())?;
    }
    Some(all)
}

/// A test of TCP's flags: a connection begins with SYN and is answered with SYN and ACK, then with ACK.
pub(super) fn flag_test(mask: u8, op: &str, values: &[&Node<'_>]) -> Option<Vec<Test>> {
    let wanted: Option<Vec<u8>> = values.iter().map(|value| flags(element(value))).collect();
    let wanted = wanted?;
    let holds = |flags: u8| match op {
        // A list of flags: any of them is set.
        "in" => wanted.iter().any(|wanted| flags & mask & wanted != 0),
        "==" => wanted.contains(&(flags & mask)),
        "!=" => !wanted.contains(&(flags & mask)),
        _ => false,
    };
    if !matches!(op, "in" | "==" | "!=") {
        return None;
    }
    const SYN: u8 = 0x02;
    const ACK: u8 = 0x10;
    let replies = [holds(SYN | ACK), holds(ACK)];
    let reply = (replies[0] == replies[1]).then_some(replies[0]);
    let tcp = Condition::of_services(service::whole(service::TCP));
    Some(vec![Test::Any(vec![tcp]), Test::State(ByState::flags(holds(SYN), reply))])
}
