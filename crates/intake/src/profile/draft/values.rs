//! What values look like: addresses, ports, protocols, and the words of rules.

use super::shape::Field;
use heronshale_model::estate::Service;
use heronshale_sets::address::Block;
use std::net::IpAddr;

/// What the values of a field look like.
#[derive(Clone, Debug, Default)]
pub(super) struct Traits {
    /// The first thing that all of them are.
    pub kind: Kind,
    /// What stands between several in one text.
    pub split: Option<&'static str>,
}

/// What all values of a field are, the narrower first.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) enum Kind {
    /// True or false.
    Flag,
    /// Prefixes.
    Blocks,
    /// Single addresses.
    Addresses,
    /// Addresses with the length of the prefix around them.
    Hosts,
    /// Addresses, prefixes and ranges, or words for everybody.
    Peers,
    /// Numbers or names of protocols.
    Protocols,
    /// A protocol with ports, in whatever order.
    Services,
    /// Numbers.
    Numbers,
    /// Ports and ranges of them.
    Ports,
    #[default]
    Texts,
}

/// Between several values of one text, the less usual first.
const BETWEEN: [&str; 4] = [";", "\n", ",", " "];
/// Words for everybody, and for every protocol and port.
const ANY: [&str; 9] = [
    "any",
    "all",
    "*",
    "everyone",
    "everybody",
    "everything",
    "anywhere",
    "-1",
    "any/any",
];
/// Names of protocols that rules have, and what they are called here.
const PROTOCOLS: [(&str, &str); 18] = [
    ("tcp", "tcp"),
    ("6", "tcp"),
    ("udp", "udp"),
    ("17", "udp"),
    ("icmp", "icmp"),
    ("icmpv4", "icmp"),
    ("1", "icmp"),
    ("icmpv6", "icmpv6"),
    ("icmp6", "icmpv6"),
    ("ipv6-icmp", "icmpv6"),
    ("58", "icmpv6"),
    ("sctp", "sctp"),
    ("132", "sctp"),
    ("esp", "esp"),
    ("50", "esp"),
    ("ah", "ah"),
    ("51", "ah"),
    ("gre", "gre"),
];

/// Whether a word stands for everybody, or for everything.
pub(super) fn is_any(text: &str) -> bool {
    ANY.contains(&text.to_lowercase().as_str())
}

/// What a protocol is called here.
pub(super) fn protocol(text: &str) -> Option<String> {
    let text = text.trim().to_lowercase();
    if is_any(&text) || text == "ip" {
        return Some("any".to_owned());
    }
    if let Some((_, name)) = PROTOCOLS.iter().find(|(known, _)| *known == text) {
        return Some((*name).to_owned());
    }
    let number = text.parse::<u8>().ok().filter(|number| *number > 0);
    number
        .map(|number| format!("protocol {number}"))
        .or_else(|| {
            let named = text
                .parse::<Service>()
                .is_ok_and(|service| service.protocol.is_some() && service.low.is_none());
            (named && text.bytes().all(|sign| sign.is_ascii_alphanumeric())).then_some(text)
        })
}

/// Whether a text is a port, or a range of them, however it is written.
fn is_ports(text: &str) -> bool {
    let port = |text: &str| text.trim().parse::<u16>().is_ok();
    port(text)
        || text
            .split_once(['-', ':'])
            .is_some_and(|(low, high)| port(low) && port(high))
}

/// The protocol of a service, and whether it stands behind its ports.
pub(super) fn service(text: &str) -> Option<(String, bool)> {
    let (one, other) = text.split_once(['/', ':', ' '])?;
    let named = |text: &str| protocol(text).filter(|_| text.parse::<u16>().is_err());
    let ports = |text: &str| is_any(text) || text.split(',').all(|part| is_ports(part.trim()));
    match (named(one.trim()), named(other.trim())) {
        (Some(protocol), _) if ports(other.trim()) => Some((protocol, false)),
        (_, Some(protocol)) if ports(one.trim()) => Some((protocol, true)),
        _ => None,
    }
}

fn is_block(text: &str) -> bool {
    text.contains('/') && text.parse::<Block>().is_ok()
}

fn is_address(text: &str) -> bool {
    text.parse::<IpAddr>().is_ok()
}

/// Whether a text is an address with the length of its prefix.
fn is_host(text: &str) -> bool {
    let Some((address, length)) = text.split_once('/') else {
        return false;
    };
    let (Ok(address), Ok(length)) = (address.parse::<IpAddr>(), length.parse::<u32>()) else {
        return false;
    };
    let (number, bits) = match address {
        IpAddr::V4(four) => (u128::from(four.to_bits()) << 96, 32),
        IpAddr::V6(six) => (six.to_bits(), 128),
    };
    length < bits && number.checked_shl(length).is_some_and(|rest| rest != 0)
}

/// Whether a text says whom a rule is about.
pub(super) fn is_peer(text: &str) -> bool {
    is_block(text)
        || is_address(text)
        || is_any(text)
        || (text.contains('-') && text.parse::<Block>().is_ok())
}

impl Traits {
    /// What the values of a field look like.
    pub fn of(field: &Field) -> Self {
        let texts: Vec<&str> = field.values.keys().map(String::as_str).collect();
        if let Some(kind) = kind_of(&texts) {
            return Self { kind, split: None };
        }
        for between in BETWEEN {
            let parts: Vec<&str> = texts
                .iter()
                .flat_map(|text| text.split(between))
                .map(str::trim)
                .filter(|part| !part.is_empty())
                .collect();
            if parts.len() > texts.len()
                && let Some(kind) = kind_of(&parts)
            {
                return Self {
                    kind,
                    split: Some(between),
                };
            }
        }
        // Names and addresses may stand together in one text.
        let split = [";", "\n", ","]
            .into_iter()
            .find(|between| texts.iter().any(|text| text.contains(between)));
        Self {
            kind: Kind::Texts,
            split,
        }
    }
}

/// What all texts are.
fn kind_of(texts: &[&str]) -> Option<Kind> {
    let told: Vec<&&str> = texts.iter().filter(|text| !is_any(text)).collect();
    let all = |holds: fn(&str) -> bool| !told.is_empty() && told.iter().all(|text| holds(text));
    let half =
        |holds: fn(&str) -> bool| told.iter().filter(|text| holds(text)).count() * 2 >= told.len();
    let named = |text: &&&str| text.parse::<u16>().is_err();
    if all(|text| matches!(text, "true" | "false")) {
        Some(Kind::Flag)
    } else if all(|text| text.parse::<i64>().is_ok()) {
        Some(Kind::Numbers)
    } else if all(is_address) {
        Some(Kind::Addresses)
    } else if all(is_block) && half(is_host) {
        Some(Kind::Hosts)
    } else if all(is_block) && told.len() == texts.len() {
        Some(Kind::Blocks)
    } else if all(is_peer) {
        Some(Kind::Peers)
    } else if all(|text| protocol(text).is_some()) && told.iter().any(named) {
        Some(Kind::Protocols)
    } else if all(|text| service(text).is_some() || protocol(text).is_some()) {
        Some(Kind::Services)
    } else if all(is_ports) {
        Some(Kind::Ports)
    } else {
        None
    }
}

/// What a word of a rule means, and whether that is beyond doubt.
pub(super) type Meaning = (&'static str, bool);

/// Words and their meaning; the last ones of each are short for something.
const DIRECTIONS: [(&str, &[&str], &[&str]); 3] = [
    (
        "both",
        &["both", "bidirectional", "in/out", "inout"],
        &["any", "b", "*"],
    ),
    (
        "inbound",
        &["in", "inbound", "ingress", "incoming", "into", "received"],
        &["i", "rx", "to", "received", "enter"],
    ),
    (
        "outbound",
        &[
            "out", "outbound", "egress", "outgoing", "out-of", "out_of", "sent",
        ],
        &["o", "e", "tx", "from", "leave"],
    ),
];
const ACTIONS: [(&str, &[&str], &[&str]); 3] = [
    (
        "allow",
        &["allow", "allowed", "accept", "permit", "pass"],
        &["a", "p", "y", "yes", "ok", "true", "grant"],
    ),
    (
        "deny",
        &["deny", "denied", "drop", "block", "discard"],
        &["d", "n", "no", "b", "false", "refuse", "forbid"],
    ),
    ("reject", &["reject"], &["r"]),
];

fn meaning(text: &str, words: &[(&'static str, &[&str], &[&str])]) -> Option<Meaning> {
    let text = text.trim().to_lowercase();
    let has = |words: &[&str]| words.contains(&text.as_str());
    words.iter().find_map(|(means, sure, short)| {
        if has(sure) {
            Some((*means, true))
        } else {
            has(short).then_some((*means, false))
        }
    })
}

/// Whether a text is a word of rules, and no name.
pub(super) fn is_word(text: &str) -> bool {
    is_any(text) || direction(text).is_some() || action(text).is_some() || protocol(text).is_some()
}

/// Whether a word means *inbound* or *outbound*.
pub(super) fn direction(text: &str) -> Option<Meaning> {
    meaning(text, &DIRECTIONS)
}

/// The direction that names of a path say, the last first: `$.inboundRules[*]`.
pub(super) fn direction_of_path(path: &str) -> Option<&'static str> {
    path.split(['.', '[']).rev().find_map(|part| {
        let name = super::shape::last_name(part.trim_matches(['\'', ']']));
        name.split('_').find_map(|word| {
            direction(word)
                .filter(|(_, sure)| *sure)
                .map(|(means, _)| means)
        })
    })
}

/// Whether a word means *allow*, *deny* or *reject*.
pub(super) fn action(text: &str) -> Option<Meaning> {
    meaning(text, &ACTIONS)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_told_by_their_looks() {
        for (texts, kind) in [
            (&["true", "false"][..], Some(Kind::Flag)),
            (&["1", "-1", "20"], Some(Kind::Numbers)),
            (&["10.0.0.1", "2001:db8::1"], Some(Kind::Addresses)),
            (&["10.0.0.5/24", "10.0.1.7/24"], Some(Kind::Hosts)),
            (&["10.0.0.0/8", "2001:db8::/32"], Some(Kind::Blocks)),
            (&["10.0.0.0/8", "any"], Some(Kind::Peers)),
            (
                &["10.0.0.1-10.0.0.9", "10.1.0.0/16", "192.0.2.1"],
                Some(Kind::Peers),
            ),
            (&["tcp", "6", "ICMP"], Some(Kind::Protocols)),
            (
                &["tcp/443", "53/udp", "icmp", "UDP:53,123"],
                Some(Kind::Services),
            ),
            (&["80-90", "443"], Some(Kind::Ports)),
            (&["8000:8100"], Some(Kind::Ports)),
            (&["any"], None),
            (&["web", "db"], None),
            (&["10.0.0.0/8", "web"], None),
        ] {
            assert_eq!(kind_of(texts), kind, "{texts:?}");
        }
    }

    #[test]
    fn words_of_rules_are_sure_or_short_for_something() {
        for (word, means) in [
            ("Ingress", Some(("inbound", true))),
            ("OUT", Some(("outbound", true))),
            ("I", Some(("inbound", false))),
            ("e", Some(("outbound", false))),
            ("sideways", None),
        ] {
            assert_eq!(direction(word), means, "{word}");
        }
        for (word, means) in [
            ("Permit", Some(("allow", true))),
            ("drop", Some(("deny", true))),
            ("REJECT", Some(("reject", true))),
            ("d", Some(("deny", false))),
            ("log", None),
        ] {
            assert_eq!(action(word), means, "{word}");
        }
        for (path, means) in [
            ("$.inboundRules[*]", Some("inbound")),
            ("$.rules.egress[*]", Some("outbound")),
            ("$['rules-in'][*]", Some("inbound")),
            ("$.rules[*]", None),
        ] {
            assert_eq!(direction_of_path(path), means, "{path}");
        }
    }

    #[test]
    fn protocols_are_called_by_our_names() {
        for (text, name) in [
            ("TCP", Some("tcp")),
            ("17", Some("udp")),
            ("58", Some("icmpv6")),
            ("-1", Some("any")),
            ("*", Some("any")),
            ("47", Some("protocol 47")),
            ("0", None),
            ("300", None),
            ("web", None),
        ] {
            assert_eq!(protocol(text).as_deref(), name, "{text}");
        }
    }
}
