//! What people mean by texts of other habits: `https`, `tcp/443`, `1024+`, `10.0.0.*`, `default`. Each gives the help of an error, and
//! none is taken in silence.

use crate::notation::parse_ports;
use heronshale_sets::address::Block;
use heronshale_sets::packet::service;
use std::net::Ipv4Addr;

/// Words for all there is.
const ALL: [&str; 9] = [
    "all",
    "*",
    "everything",
    "everyone",
    "everybody",
    "anywhere",
    "anyone",
    "world",
    "ip",
];

/// What some services run on (IANA's registry of service names and port numbers).
const SERVICES: [(&str, &str); 23] = [
    ("dns", "udp 53` and `tcp 53"),
    ("domain", "udp 53` and `tcp 53"),
    ("ftp", "tcp 21"),
    ("http", "tcp 80"),
    ("https", "tcp 443"),
    ("imap", "tcp 143"),
    ("imaps", "tcp 993"),
    ("kerberos", "tcp 88` and `udp 88"),
    ("ldap", "tcp 389"),
    ("ldaps", "tcp 636"),
    ("mysql", "tcp 3306"),
    ("nfs", "tcp 2049"),
    ("ntp", "udp 123"),
    ("ping", "icmp 8"),
    ("postgresql", "tcp 5432"),
    ("rdp", "tcp 3389"),
    ("sip", "udp 5060` and `tcp 5060"),
    ("smb", "tcp 445"),
    ("smtp", "tcp 25"),
    ("snmp", "udp 161"),
    ("ssh", "tcp 22"),
    ("syslog", "udp 514"),
    ("telnet", "tcp 23"),
];

fn run_on(name: &str) -> Option<&'static str> {
    SERVICES
        .iter()
        .find(|(word, _)| word.eq_ignore_ascii_case(name))
        .map(|(_, on)| *on)
}

fn is_all(text: &str) -> bool {
    ALL.iter().any(|word| word.eq_ignore_ascii_case(text))
}

fn is_protocol(text: &str) -> bool {
    !text.is_empty()
        && text.bytes().all(|byte| byte.is_ascii_alphabetic())
        && service::protocol_named(text).is_some()
}

/// Traffic that is not a notation of ours.
pub fn service(text: &str) -> Option<String> {
    if is_all(text) {
        return Some("write `any`".to_owned());
    }
    if let Some(on) = run_on(text) {
        return Some(format!(
            "a service is named by its protocol and port: write `{on}`"
        ));
    }
    let (name, ports) = text.split_once(char::is_whitespace).unwrap_or((text, ""));
    let protocols: Vec<&str> = name.split(['-', '/', '+', ',', '&', '|']).collect();
    if protocols.len() > 1 && protocols.iter().all(|name| is_protocol(name)) {
        let each = protocols
            .iter()
            .map(|name| format!("{name} {ports}").trim_end().to_ascii_lowercase());
        return Some(format!(
            "write one for each protocol: [{}]",
            each.collect::<Vec<_>>().join(", ")
        ));
    }
    together(text)
}

/// A protocol and ports that are not apart: `tcp/443`, `tcp443`, `443/tcp`, `tcp:443`.
fn together(text: &str) -> Option<String> {
    let letters =
        |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_alphabetic());
    let split = text
        .split_once(['/', ':', '-', '_'])
        .map(|(one, other)| (one.trim(), other.trim()));
    let apart = || {
        let at = text.find(|sign: char| sign.is_ascii_digit())?;
        Some(text.split_at(at))
    };
    let (one, other) = split
        .filter(|(one, other)| letters(one) || letters(other))
        .or_else(apart)?;
    let (name, ports) = if letters(one) {
        (one, other)
    } else {
        (other, one)
    };
    let fits = is_protocol(name) && parse_ports(ports).is_ok();
    fits.then(|| format!("write `{} {ports}`", name.to_ascii_lowercase()))
}

/// What stands in the place of ports.
pub fn ports(text: &str) -> Option<String> {
    let port = |text: &str| text.trim().parse::<u16>().ok();
    if is_all(text) || text.eq_ignore_ascii_case("any") {
        return Some("leave the ports out for all of them".to_owned());
    }
    if is_protocol(text) {
        return Some(format!(
            "write `{}` alone for all of its traffic",
            text.to_ascii_lowercase()
        ));
    }
    if let Some(on) = run_on(text) {
        return Some(format!("write `{on}`"));
    }
    let from = |first: u16| format!("write {first}-65535");
    let below = |last: u16| format!("write 0-{last}");
    if let Some(first) = text.strip_prefix(">=") {
        return port(first).map(from);
    } else if let Some(before) = text.strip_prefix('>') {
        return port(before)?.checked_add(1).map(from);
    } else if let Some(last) = text.strip_prefix("<=") {
        return port(last).map(below);
    } else if let Some(after) = text.strip_prefix('<') {
        return port(after)?.checked_sub(1).map(below);
    }
    if let Some(first) = text.strip_suffix(['+', '-']).and_then(port) {
        return Some(from(first));
    }
    let parts = |text: &str, signs: &[char]| {
        text.split(signs)
            .filter(|part| !part.is_empty())
            .map(port)
            .collect::<Option<Vec<u16>>>()
    };
    if let Some([first, last]) = parts(text, &[':', '.']).as_deref() {
        return Some(format!("write {first}-{last}"));
    }
    let all = parts(text, &[' ', ';', '/', '|', '&', '+'])?;
    let all: Vec<String> = all.iter().map(u16::to_string).collect();
    (all.len() > 1).then(|| format!("separate them by commas: {}", all.join(",")))
}

/// What stands in the place of an ICMP type (IANA's registries of ICMP and ICMPv6 types).
pub fn icmp(text: &str) -> Option<String> {
    let (four, six) = match text.to_ascii_lowercase().as_str() {
        "echo" | "echo-request" | "ping" | "request" => (8, 128),
        "echo-reply" | "reply" | "pong" => (0, 129),
        "unreachable" | "destination-unreachable" => (3, 1),
        "time-exceeded" | "ttl-exceeded" => (11, 3),
        "redirect" => (5, 137),
        "any" | "all" | "*" => return Some("leave the type out for all of them".to_owned()),
        _ => return None,
    };
    Some(format!(
        "write its number: `icmp {four}`, or `icmpv6 {six}`"
    ))
}

/// What stands in the place of an address, a prefix or a range.
pub fn block(text: &str) -> Option<String> {
    let text = text.trim();
    let right = |text: &str| text.parse::<Block>().is_ok();
    if let Some(rest) = text.strip_prefix('!') {
        return Some(format!(
            "write exceptions in the field `except`: peers: any, except: {}",
            rest.trim()
        ));
    }
    if is_all(text)
        || ["any", "default", "internet", "0/0"].contains(&text.to_ascii_lowercase().as_str())
    {
        return Some("write 0.0.0.0/0 for all of IPv4, ::/0 for all of IPv6".to_owned());
    }
    if let Some((before, _)) = text.split_once('#').filter(|(before, _)| right(before)) {
        return Some(format!("a comment starts after a space: write {before} #"));
    }
    let several: Vec<&str> = text
        .split([',', ';', ' '])
        .filter(|part| !part.is_empty())
        .collect();
    if several.len() > 1 && several.iter().all(|part| right(part)) {
        return Some(format!("write a list: [{}]", several.join(", ")));
    }
    if let Some(meant) = one_block(text) {
        return Some(format!("write {meant}"));
    }
    if let Some((address, port)) = text
        .rsplit_once(':')
        .filter(|(address, _)| address.parse::<Ipv4Addr>().is_ok())
    {
        return Some(format!(
            "write {address}; the port stands in `services`: tcp {port}"
        ));
    }
    let is_name = text.contains('.')
        && text.contains(|sign: char| sign.is_ascii_alphabetic())
        && !text.contains([':', '/', ' ']);
    is_name.then(|| "host names are not resolved; write addresses".to_owned())
}

/// What stands in the place of a peer.
pub fn peer(text: &str) -> Option<String> {
    if is_all(text) {
        return Some("write `any`".to_owned());
    }
    let is_name = text
        .bytes()
        .all(|byte| byte.is_ascii_alphanumeric() || b"-_".contains(&byte))
        && !text.is_empty();
    let known = || {
        format!("a name needs its kind: group:{text}, set:{text}, network:{text}, subnet:{text} …")
    };
    block(text).or_else(|| is_name.then(known))
}

/// What stands in the place of a next hop.
pub fn next_hop(text: &str) -> Option<String> {
    match text.to_ascii_lowercase().as_str() {
        "internet" => Some(
            "write gateway: and the name of an internet gateway, such as gateway:out".to_owned(),
        ),
        "nat" => {
            Some("write gateway: and the name of a NAT gateway, such as gateway:out".to_owned())
        }
        "drop" | "null" | "none" | "discard" => Some("write blackhole".to_owned()),
        _ => {
            let (address, length) = text.split_once('/')?;
            let address = address.parse::<std::net::IpAddr>().ok()?;
            length
                .parse::<u8>()
                .ok()
                .map(|_| format!("write {address}"))
        }
    }
}

/// An IPv4 prefix or range that is written by other habits.
fn one_block(text: &str) -> Option<String> {
    let (base, length) = text
        .split_once(['/', '\\'])
        .map_or((text, None), |(base, length)| {
            (base.trim(), Some(length.trim()))
        });
    if let Some((first, last)) = base.split_once('-').filter(|_| length.is_none()) {
        let (first, last) = (
            first.trim().parse::<Ipv4Addr>().ok()?,
            last.trim().parse::<u8>().ok()?,
        );
        let [a, b, c, _] = first.octets();
        return Some(format!("{first}-{}", Ipv4Addr::new(a, b, c, last)));
    }
    if let Some(mask) = length.and_then(|mask| mask.parse::<Ipv4Addr>().ok()) {
        let mask = mask.to_bits();
        let is_mask = mask.leading_ones() + mask.trailing_zeros() == 32;
        return is_mask.then(|| format!("{base}/{}", mask.leading_ones()));
    }
    let mut octets: Vec<&str> = base.split('.').collect();
    let stars = octets
        .iter()
        .rev()
        .take_while(|octet| ["*", "x"].contains(octet))
        .count();
    octets.truncate(octets.len() - stars);
    let numbers: Vec<u8> = octets
        .iter()
        .map(|octet| octet.parse().ok())
        .collect::<Option<_>>()?;
    let [one, ..] = numbers.as_slice() else {
        return None;
    };
    let whole = numbers.len() * 8;
    let length = match length {
        Some(length) => length.parse::<u8>().ok().filter(|length| *length <= 32)?,
        None if stars > 0 && numbers.len() + stars == 4 => u8::try_from(whole).ok()?,
        None if numbers.len() == 4 => {
            // Zeros that lead a number are octal for some, decimal for others.
            let plain = numbers
                .iter()
                .map(u8::to_string)
                .collect::<Vec<_>>()
                .join(".");
            return (plain != base).then_some(plain);
        }
        None => return None,
    };
    let at = |index: usize| numbers.get(index).copied().unwrap_or(0);
    (numbers.len() <= 4).then(|| format!("{}/{length}", Ipv4Addr::new(*one, at(1), at(2), at(3))))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn other_habits_are_understood() {
        for (text, says) in [
            ("https", "write `tcp 443`"),
            ("*", "write `any`"),
            ("tcp/udp 53", "[tcp 53, udp 53]"),
            ("tcp-udp", "[tcp, udp]"),
            ("443/TCP", "write `tcp 443`"),
            ("udp53", "write `udp 53`"),
        ] {
            assert!(
                service(text).is_some_and(|help| help.contains(says)),
                "{text}: {:?}",
                service(text)
            );
        }
        for (text, says) in [
            (">1024", "write 1025-65535"),
            (">=1024", "write 1024-65535"),
            ("<1024", "write 0-1023"),
            ("1024+", "write 1024-65535"),
            ("1000:2000", "write 1000-2000"),
            ("80 443", "80,443"),
            ("80;443", "80,443"),
            ("all", "leave the ports out"),
            ("tcp", "write `tcp` alone"),
        ] {
            assert!(
                ports(text).is_some_and(|help| help.contains(says)),
                "{text}: {:?}",
                ports(text)
            );
        }
        for (text, says) in [
            ("10.0/8", "write 10.0.0.0/8"),
            ("10.0.0.0\\8", "write 10.0.0.0/8"),
            ("10.0.0.*", "write 10.0.0.0/24"),
            ("10.1.01.4", "write 10.1.1.4"),
            ("10.0.0.1-10", "write 10.0.0.1-10.0.0.10"),
            ("10.1.0.0/255.255.0.0", "write 10.1.0.0/16"),
            ("10.0.0.0/8, 192.168.0.0/16", "[10.0.0.0/8, 192.168.0.0/16]"),
            ("!10.0.0.0/8", "`except`"),
            ("10.0.0.0/8#office", "write 10.0.0.0/8 #"),
            ("default", "0.0.0.0/0"),
            ("10.0.0.1:443", "tcp 443"),
            ("www.example.org", "not resolved"),
        ] {
            assert!(
                block(text).is_some_and(|help| help.contains(says)),
                "{text}: {:?}",
                block(text)
            );
        }
        for text in ["10.1.0.0/255.0.255.0", "10.0.0.0/33", "gruop:g", "office"] {
            assert_eq!(block(text), None, "{text}");
        }
    }
}
