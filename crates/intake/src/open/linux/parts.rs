//! The parts of a packet at which a match of nftables looks, and the packets of which a part is one of some values.

use super::chains::{ByState, Marked, Test};
use super::machine::Facts;
use super::{icmp_type, protocol};
use crate::open::condition::{Condition, Devices, all_ports, all_services, minus};
use crate::tree::{Node, Value, get, list, text, text_at};
use heronshale_sets::address::{Addresses, Block, Family, Range, number_of};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;
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
    /// Some bits of a mark.
    Mark(Marked, u32),
    /// Whether it is translated.
    Status,
    /// To one machine, some, or all of a network.
    PacketType,
    /// What the machine's routes say of an address.
    Fib(Fib),
    /// A header between that of IP and the next, or a field of it: packets here have none.
    Header {
        field: bool,
    },
    /// A part of IPv4's header that is zero in whole packets.
    Zero,
    /// How many hops a packet may still take.
    Hops(Family),
    Concat(Vec<Left>),
    /// Not understood; of these packets at most.
    Unknown(String, Box<Condition>),
}

/// What a machine's routes are asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Fib {
    /// Of which type an address is, for all interfaces or for that by which the packet comes or goes.
    Type {
        source: bool,
        interface: Option<bool>,
    },
    /// Whether the source would be answered by the interface by which the packet came.
    Back,
    /// Something else.
    Other,
}

/// By the words of the statement.
pub(super) fn fib(result: &str, flags: &[&str]) -> Fib {
    let has = |flag| flags.contains(&flag);
    match result {
        "type" if has("saddr") != has("daddr") => Fib::Type {
            source: has("saddr"),
            interface: if has("iif") {
                Some(true)
            } else {
                has("oif").then_some(false)
            },
        },
        // A mark counts where rules choose tables by it: then the routes are not known anyhow.
        "oif" | "oifname" if has("saddr") && has("iif") && !has("daddr") && !has("oif") => {
            Fib::Back
        }
        _ => Fib::Other,
    }
}

/// The addresses of some types, and whether all of the types are known.
fn of_types(names: &[&str], own: &Addresses, broadcast: &Addresses) -> Option<Addresses> {
    let blocks = |texts: &[&str]| -> Addresses {
        texts
            .iter()
            .filter_map(|text| text.parse::<Block>().ok())
            .map(|block| block.range)
            .collect()
    };
    let local = own.union(&blocks(&["127.0.0.0/8", "::1"]));
    let multicast = blocks(&["224.0.0.0/4", "ff00::/8"]);
    names.iter().try_fold(Addresses::empty(), |sum, name| {
        let more = match *name {
            "local" => local.clone(),
            "broadcast" => broadcast.clone(),
            "multicast" => multicast.clone(),
            // What no route leads to is of no type of its own; 0.0.0.0/8 and the like are not asked here.
            "unicast" => Addresses::all()
                .difference(&local)
                .difference(broadcast)
                .difference(&multicast),
            "anycast" | "blackhole" | "unreachable" | "prohibit" | "unspec" => Addresses::empty(),
            _ => return None,
        };
        Some(sum.union(&more))
    })
}

/// The packets of which the routes say one of some things.
pub(super) fn by_routes(
    what: Fib,
    names: &[&str],
    facts: &Facts,
    devices: &Devices,
) -> Vec<Condition> {
    let told = if what == Fib::Back {
        &facts.routed
    } else {
        &facts.addressed
    };
    let all = of_what_is_known(what, names, facts, devices);
    if !facts.known || told.len() == Family::BOTH.len() {
        return all;
    }
    let mut found = Vec::new();
    for family in Family::BOTH {
        let here = Condition::of_family(family);
        if told.contains(&family) {
            found.extend(
                all.iter()
                    .map(|one| one.and(&here))
                    .filter(|one| !one.is_empty()),
            );
        } else {
            found.push(here.and(&Condition::unknown("what the machine's routes say")));
        }
    }
    found
}

/// The same, as if its files told of both families.
fn of_what_is_known(what: Fib, names: &[&str], facts: &Facts, devices: &Devices) -> Vec<Condition> {
    let unknown = || vec![Condition::unknown("what the machine's routes say")];
    if !facts.known {
        return unknown();
    }
    let own = facts
        .own
        .values()
        .fold(Addresses::empty(), |sum, own| sum.union(own));
    match what {
        Fib::Type { source, interface } => {
            let there = |addresses: Addresses, device: Option<(bool, Intervals)>| {
                let mut found = Condition::all();
                *(if source {
                    &mut found.source
                } else {
                    &mut found.destination
                }) = addresses;
                if let Some((incoming, device)) = device {
                    *(if incoming {
                        &mut found.from
                    } else {
                        &mut found.to
                    }) = device;
                }
                found
            };
            // Routes that drop have types of their own.
            if names
                .iter()
                .any(|name| matches!(*name, "blackhole" | "unreachable" | "prohibit" | "unspec"))
            {
                return unknown();
            }
            let Some(incoming) = interface else {
                return of_types(names, &own, &facts.broadcast)
                    .map_or_else(unknown, |all| vec![there(all, None)]);
            };
            let mut found = Vec::new();
            for name in devices.names() {
                let here = facts
                    .own
                    .get(name)
                    .cloned()
                    .unwrap_or_else(Addresses::empty);
                let Some(all) = of_types(names, &here, &facts.broadcast) else {
                    return unknown();
                };
                found.push(there(all, Some((incoming, devices.one(Some(name))))));
            }
            found.retain(|one| !one.is_empty());
            found
        }
        Fib::Back => {
            let (Some(behind), [name]) = (&facts.behind, names) else {
                return unknown();
            };
            let wanted = match *name {
                "true" | "exists" | "1" => true,
                "false" | "missing" | "0" => false,
                _ => return unknown(),
            };
            let mut found = Vec::new();
            for name in devices.names() {
                let back = behind
                    .get(name)
                    .cloned()
                    .unwrap_or_else(Addresses::empty)
                    .difference(&own);
                let source = if wanted {
                    back
                } else {
                    Addresses::all().difference(&back)
                };
                found.push(Condition {
                    source,
                    from: devices.one(Some(name)),
                    ..Condition::all()
                });
            }
            found.retain(|one| !one.is_empty());
            found
        }
        Fib::Other => unknown(),
    }
}

/// To whom packets of some kinds go, by their destination.
pub(super) fn of_packet_types(names: &[&str], facts: &Facts) -> Option<Addresses> {
    let types = names.iter().map(|name| match *name {
        "host" => Some(["unicast", "local"].as_slice()),
        "broadcast" => Some(["broadcast"].as_slice()),
        "multicast" => Some(["multicast"].as_slice()),
        // Of others: a machine takes no such packets in.
        "other" | "otherhost" => Some([].as_slice()),
        _ => None,
    });
    let types: Vec<&str> = types.collect::<Option<Vec<_>>>()?.concat();
    if !facts.known && types.contains(&"broadcast") != types.contains(&"unicast") {
        return None;
    }
    of_types(&types, &Addresses::empty(), &facts.broadcast)
}

/// The value of an element, without what is said of it.
pub(super) fn element<'n>(node: &'n Node<'n>) -> &'n Node<'n> {
    get(node, "elem")
        .and_then(|elem| get(elem, "val"))
        .unwrap_or(node)
}

pub(super) fn payload(of: &str, field: &str) -> Left {
    let ports = |protocol: u8| service::whole(protocol);
    let family = |of: &str| if of == "ip" { Family::V4 } else { Family::V6 };
    let unknown = |at_most: Condition| Left::Unknown(format!("{of} {field}"), Box::new(at_most));
    match (of, field) {
        ("ip" | "ip6", "saddr") => Left::Source(family(of)),
        ("ip" | "ip6", "daddr") => Left::Destination(family(of)),
        ("ip", "protocol") | ("ip6", "nexthdr") => Left::Protocol(Some(family(of))),
        ("ip", "ttl") | ("ip6", "hoplimit") => Left::Hops(family(of)),
        ("ip" | "ip6", _) => unknown(Condition::of_family(family(of))),
        ("th", "sport") => Left::SourcePort(service::all_with_ports()),
        ("th", "dport") => Left::DestinationPort(service::all_with_ports()),
        ("icmp", "type") => Left::Kind(service::ICMP),
        ("icmp", "code") => Left::Code(service::ICMP),
        ("icmpv6", "type") => Left::Kind(service::ICMPV6),
        ("icmpv6", "code") => Left::Code(service::ICMPV6),
        ("tcp", "flags") => Left::Flags(u8::MAX),
        ("ether", "type") => Left::Family,
        (of, field) => match (protocol(of), field) {
            (Some(number), "sport") if service::has_ports(number) => {
                Left::SourcePort(ports(number))
            }
            (Some(number), "dport") if service::has_ports(number) => {
                Left::DestinationPort(ports(number))
            }
            (Some(number), _) => unknown(Condition::of_services(service::whole(number))),
            (None, _) => unknown(Condition::all()),
        },
    }
}

/// What a match on a part means before its value is asked: which packets have it at all.
fn base(left: &Left) -> Condition {
    match left {
        Left::Source(family)
        | Left::Destination(family)
        | Left::Protocol(Some(family))
        | Left::Hops(family) => Condition::of_family(*family),
        Left::SourcePort(services) | Left::DestinationPort(services) => {
            Condition::of_services(services.clone())
        }
        Left::Kind(protocol) | Left::Code(protocol) => {
            Condition::of_services(service::whole(*protocol))
        }
        Left::Flags(_) => Condition::of_services(service::whole(service::TCP)),
        Left::Unknown(_, at_most) => (**at_most).clone(),
        Left::Header { field: true } => Condition::default(),
        Left::Zero => Condition::of_family(Family::V4),
        Left::Concat(parts) => parts
            .iter()
            .fold(Condition::all(), |all, part| all.and(&base(part))),
        Left::Protocol(None)
        | Left::From
        | Left::To
        | Left::Family
        | Left::State
        | Left::Direction => Condition::all(),
        Left::Mark(..) | Left::Status | Left::PacketType | Left::Fib(_) | Left::Header { .. } => {
            Condition::all()
        }
    }
}

pub(super) fn restricted(left: &Left, to: Condition) -> Vec<Condition> {
    vec![base(left).and(&to)]
}

pub(super) fn negated(test: Test, left: &Left) -> Test {
    match test {
        Test::State(holds) => Test::State(holds.negated()),
        Test::Mark {
            of,
            bits,
            values,
            negated,
        } => Test::Mark {
            of,
            bits,
            values,
            negated: !negated,
        },
        Test::Translated { source, negated } => Test::Translated {
            source,
            negated: !negated,
        },
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
            for perhaps in pieces.iter().filter(|piece| !piece.unknown.is_empty()) {
                let there = Condition {
                    unknown: std::collections::BTreeSet::new(),
                    ..perhaps.clone()
                };
                let unknown = left_over
                    .iter()
                    .map(|one| one.and(perhaps))
                    .filter(|one| !one.is_empty());
                let unknown: Vec<Condition> = unknown.collect();
                left_over = minus(left_over, &there);
                left_over.extend(unknown);
            }
            Test::Any(left_over)
        }
    }
}

/// Where `th` looks in packets of protocols without ports.
fn other_transport() -> Option<Condition> {
    let beside = Condition::of_services(all_services().difference(&service::all_with_ports()));
    Some(beside.and(&Condition::unknown(
        "what stands in place of ports in other protocols",
    )))
}

/// Packets of which a part is one of some numbers.
pub(super) fn scalar(left: &Left, numbers: &Intervals) -> Option<Vec<Condition>> {
    let all = base(left);
    let within = |services: &Intervals| {
        let mut spans = Vec::new();
        for protocol in service::WITH_PORTS
            .into_iter()
            .filter(|one| service::whole(*one).is_subset(services))
        {
            let base = u128::from(service::code(protocol, 0));
            spans.extend(
                numbers
                    .intersection(&all_ports())
                    .spans()
                    .iter()
                    .map(|(a, b)| (base + a, base + b)),
            );
        }
        Intervals::from_spans(spans)
    };
    let found = match left {
        Left::Source(family) => Condition {
            source: Addresses::from_intervals(*family, numbers.clone()),
            ..all
        },
        Left::Destination(family) => Condition {
            destination: Addresses::from_intervals(*family, numbers.clone()),
            ..all
        },
        Left::Protocol(_) => {
            let numbers = (0..=u8::MAX).filter(|protocol| numbers.contains(u128::from(*protocol)));
            let services = numbers.fold(Intervals::empty(), |sum, protocol| {
                sum.union(&service::whole(protocol))
            });
            all.and(&Condition::of_services(services))
        }
        Left::SourcePort(services) => {
            let source_ports = numbers.intersection(&all_ports());
            let mut found = vec![Condition {
                source_ports,
                ..all
            }];
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
            Condition::of_services(Intervals::from_spans(
                spans
                    .spans()
                    .iter()
                    .map(|(a, b)| (code(*a), code(*b) + 255)),
            ))
        }
        Left::Code(protocol) => {
            let base = u128::from(service::code(*protocol, 0));
            let codes = numbers.intersection(&Intervals::span(0, 255));
            let spans = (0..256_u128).flat_map(|kind| {
                codes
                    .spans()
                    .iter()
                    .map(move |(a, b)| (base + kind * 256 + a, base + kind * 256 + b))
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
        let all: Option<Vec<_>> = list(inside)
            .iter()
            .map(|one| spans(left, element(one)))
            .collect();
        return all.map(|all| all.concat());
    }
    if let Some(range) = get(node, "range") {
        let [first, last] = list(range) else {
            return None;
        };
        let (first, last) = (spans(left, first)?, spans(left, last)?);
        return Some(vec![(first.first()?.0, last.first()?.1)]);
    }
    if let Some(prefix) = get(node, "prefix") {
        let block = format!("{}/{}", text_at(prefix, "addr")?, text_at(prefix, "len")?);
        let Range {
            family,
            first,
            last,
        } = block.parse::<Block>().ok()?.range;
        return addresses(left, family).then_some(vec![(first, last)]);
    }
    let word = text(node)?;
    let number = word
        .parse::<u128>()
        .ok()
        .or_else(|| u128::from_str_radix(word.strip_prefix("0x")?, 16).ok());
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
        let bit = NAMES
            .iter()
            .position(|name| *name == word)
            .map(|at| 1_u8 << at);
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
        // None of them is set.
        "!" => wanted.iter().all(|wanted| flags & mask & wanted == 0),
        _ => false,
    };
    if !matches!(op, "in" | "==" | "!=" | "!") {
        return None;
    }
    const SYN: u8 = 0x02;
    const ACK: u8 = 0x10;
    let replies = [holds(SYN | ACK), holds(ACK)];
    let reply = (replies[0] == replies[1]).then_some(replies[0]);
    let tcp = Condition::of_services(service::whole(service::TCP));
    Some(vec![
        Test::Any(vec![tcp]),
        Test::State(ByState::flags(holds(SYN), reply)),
    ])
}
