//! Services: protocol and destination port, or ICMP type and code, fused in one number below 2^24.
//!
//! The upper 8 bits are the protocol (IANA "Assigned Internet Protocol Numbers"). The lower 16 are the
//! destination port for TCP, UDP and SCTP, and type * 256 + code for ICMP and ICMPv6. A protocol with neither fills
//! its whole block of 65,536 numbers, which are one packet: so "any protocol" is one interval. A packet set
//! holds such a block whole or not at all.

use crate::address::Family;
use crate::intervals::Intervals;

/// ICMP for IPv4 (RFC 792).
pub const ICMP: u8 = 1;
/// Transmission Control Protocol (RFC 9293).
pub const TCP: u8 = 6;
/// User Datagram Protocol (RFC 768).
pub const UDP: u8 = 17;
/// ICMP for IPv6 (RFC 4443).
pub const ICMPV6: u8 = 58;
/// Stream Control Transmission Protocol (RFC 9260).
pub const SCTP: u8 = 132;
/// The protocols that have ports.
pub const WITH_PORTS: [u8; 3] = [TCP, UDP, SCTP];
/// The largest service number.
pub const LAST: u32 = 0xFF_FFFF;

/// Names of protocols, IANA's keywords in lower case. Others are written as `protocol` with their number.
const NAMES: [(&str, u8); 14] = [
    ("icmp", ICMP),
    ("igmp", 2),
    ("ipip", 4),
    ("tcp", TCP),
    ("udp", UDP),
    ("gre", 47),
    ("esp", 50),
    ("ah", 51),
    ("icmpv6", ICMPV6),
    ("ospf", 89),
    ("pim", 103),
    ("vrrp", 112),
    ("l2tp", 115),
    ("sctp", SCTP),
];

/// The service number of a protocol and a port, or of an ICMP type and code as `type * 256 + code`.
pub const fn code(protocol: u8, low: u16) -> u32 {
    (protocol as u32) << 16 | low as u32
}

/// The protocol of a service number; bits above the 24th are ignored.
pub const fn protocol_of(service: u32) -> u8 {
    service.to_be_bytes()[1]
}

/// The port, or ICMP type and code, of a service number.
pub const fn port_of(service: u32) -> u16 {
    let bytes = service.to_be_bytes();
    u16::from_be_bytes([bytes[2], bytes[3]])
}

/// Whether packets of this protocol have ports.
pub const fn has_ports(protocol: u8) -> bool {
    matches!(protocol, TCP | UDP | SCTP)
}

/// Whether the protocol is ICMP or ICMPv6.
pub const fn is_icmp(protocol: u8) -> bool {
    matches!(protocol, ICMP | ICMPV6)
}

/// Whether packets of this protocol exist in this family.
pub const fn exists(family: Family, protocol: u8) -> bool {
    !matches!(
        (family, protocol),
        (Family::V4, ICMPV6) | (Family::V6, ICMP)
    )
}

/// Every service that exists in a family.
pub fn all(family: Family) -> Intervals {
    let other = if family == Family::V4 { ICMPV6 } else { ICMP };
    Intervals::span(0, u128::from(LAST)).difference(&whole(other))
}

/// Every service of one protocol.
pub fn whole(protocol: u8) -> Intervals {
    Intervals::span(
        u128::from(code(protocol, 0)),
        u128::from(code(protocol, u16::MAX)),
    )
}

/// Every service of the protocols that have ports.
pub fn all_with_ports() -> Intervals {
    WITH_PORTS.iter().fold(Intervals::empty(), |sum, protocol| {
        sum.union(&whole(*protocol))
    })
}

/// The name of a protocol, or `protocol` with its number in decimal.
pub fn protocol_name(protocol: u8) -> String {
    let known = NAMES.iter().find(|(_, number)| *number == protocol);
    known.map_or_else(
        || format!("protocol {protocol}"),
        |(name, _)| (*name).to_owned(),
    )
}

/// The protocol that a name or a decimal number stands for.
pub fn protocol_named(text: &str) -> Option<u8> {
    let lower = text.to_ascii_lowercase();
    let known = NAMES.iter().find(|(name, _)| *name == lower);
    known
        .map(|(_, number)| *number)
        .or_else(|| text.parse().ok())
}

/// All names that [`protocol_named`] knows.
pub fn protocol_names() -> impl Iterator<Item = &'static str> {
    NAMES.iter().map(|(name, _)| *name)
}

/// One service in words: `tcp 443`, `icmp 8/0`, `gre`.
pub fn code_text(service: u32) -> String {
    let (protocol, low) = (protocol_of(service), port_of(service));
    let name = protocol_name(protocol);
    if has_ports(protocol) {
        format!("{name} {low}")
    } else if is_icmp(protocol) {
        let [kind, code] = low.to_be_bytes();
        format!("{name} {kind}/{code}")
    } else {
        name
    }
}

fn span_text(first: u16, last: u16) -> String {
    if first == last {
        first.to_string()
    } else {
        format!("{first}-{last}")
    }
}

fn icmp_texts(protocol: u8, part: &Intervals) -> Vec<String> {
    let name = protocol_name(protocol);
    let mut texts = Vec::new();
    for &(first, last) in part.spans() {
        let (mut at, last) = (narrow(first), narrow(last));
        loop {
            let [kind, from] = port_of(at).to_be_bytes();
            let until = last.min(at | 0xFF);
            let [_, to] = port_of(until).to_be_bytes();
            if from == 0 && to == u8::MAX {
                let kinds = (at >> 8..=last >> 8)
                    .take_while(|k| (k << 8 | 0xFF) <= last)
                    .last()
                    .unwrap_or(at >> 8);
                texts.push(format!(
                    "{name} {}",
                    span_text(u16::from(kind), port_of(kinds) & 0xFF)
                ));
                at = (kinds << 8 | 0xFF) + 1;
            } else {
                texts.push(format!(
                    "{name} {kind}/{}",
                    span_text(u16::from(from), u16::from(to))
                ));
                at = until + 1;
            }
            if at > last {
                break;
            }
        }
    }
    texts
}

fn narrow(number: u128) -> u32 {
    u32::try_from(number).expect("service numbers are below 2^24")
}

/// A set of services in words, one item per protocol or run of protocols: `tcp 22,443`, `icmp 8`, `any`.
pub fn texts(family: Family, services: &Intervals) -> Vec<String> {
    let every = all(family);
    if *services == every {
        return vec!["any".to_owned()];
    }
    let texts = plain_texts(family, services);
    if texts.len() > 4 {
        let missing = plain_texts(family, &every.difference(services));
        if missing.len() < texts.len() && missing.len() <= 4 {
            return vec![format!("any except {}", missing.join(", "))];
        }
    }
    texts
}

/// The same, each item as a snapshot writes it.
pub fn notation(family: Family, services: &Intervals) -> Vec<String> {
    if *services == all(family) {
        return vec!["any".to_owned()];
    }
    let mut items = Vec::new();
    for text in plain_texts(family, services) {
        let run = text
            .strip_prefix("protocol ")
            .and_then(|run| run.split_once('-'));
        match run
            .and_then(|(first, last)| Some((first.parse::<u8>().ok()?, last.parse::<u8>().ok()?)))
        {
            Some((first, last)) => {
                items.extend(
                    (first..=last)
                        .filter(|one| exists(family, *one))
                        .map(protocol_name),
                );
            }
            None => items.push(text),
        }
    }
    items
}

fn plain_texts(family: Family, services: &Intervals) -> Vec<String> {
    let mut texts = Vec::new();
    let mut run: Option<(u8, u8)> = None;
    let flush = |run: &mut Option<(u8, u8)>, texts: &mut Vec<String>| {
        if let Some((first, last)) = run.take() {
            texts.push(if first == last {
                protocol_name(first)
            } else {
                format!("protocol {first}-{last}")
            });
        }
    };
    for protocol in 0..=u8::MAX {
        let block = whole(protocol);
        let part = services.intersection(&block);
        if !exists(family, protocol) {
            continue;
        }
        let joins = run.is_some_and(|(_, last)| {
            last + 1 == protocol || (last..protocol).skip(1).all(|p| !exists(family, p))
        });
        let named = NAMES.iter().any(|(_, number)| *number == protocol);
        if part == block && !named && joins {
            run = run.map(|(first, _)| (first, protocol));
            continue;
        }
        flush(&mut run, &mut texts);
        if part.is_empty() {
            continue;
        }
        if part == block {
            if named {
                texts.push(protocol_name(protocol));
            } else {
                run = Some((protocol, protocol));
            }
        } else if is_icmp(protocol) {
            texts.extend(icmp_texts(protocol, &part));
        } else {
            let ports = part
                .spans()
                .iter()
                .map(|(a, b)| span_text(port_of(narrow(*a)), port_of(narrow(*b))));
            texts.push(format!(
                "{} {}",
                protocol_name(protocol),
                ports.collect::<Vec<_>>().join(",")
            ));
        }
    }
    flush(&mut run, &mut texts);
    texts
}
