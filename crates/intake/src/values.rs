//! Values of the format with a notation of their own: blocks, services, ports, peers, next hops.

use crate::reading::{Definitions, Reading, Written, choices, did_you_mean, text_of};
use crate::tree::{Node, Value};
use heronshale_model::estate::{
    Action, AutomaticRoutes, DoorRoute, EqualPriority, EqualRoutes, InternetTraffic, Lack,
    MissingNextHop, Name, NamedPeerReach, NoGroup, NoHealthy, PolicySees, SameSubnet, Service,
    SubnetGroups,
};
use heronshale_model::meant;
use heronshale_model::notation::{NotationError, parse_ports, parse_tags, split_kind};
use heronshale_model::source::Span;
use heronshale_sets::address::{Block, BlockError};
use heronshale_sets::intervals::Intervals;
use serde_json::{Value as Json, json};
use std::net::IpAddr;

choices!(NamedPeerReach as "reach of named peers" { "network" => Self::Network, "peered" => Self::Peered, "hub" => Self::Hub, "estate" => Self::Estate });
choices!(EqualPriority as "order of equal priorities" { "deny_first" => Self::DenyFirst, "position" => Self::Position });
choices!(SubnetGroups as "way to join groups of both places" { "both_must_allow" => Self::BothMustAllow, "pooled" => Self::Pooled });
choices!(NoGroup as "fate without groups" { "allow" => Self::Allow, "deny" => Self::Deny });
choices!(AutomaticRoutes as "precedence of automatic routes" { "overridable" => Self::Overridable, "fixed" => Self::Fixed });
choices!(SameSubnet as "way inside a subnet" { "direct" => Self::Direct, "routed" => Self::Routed });
choices!(EqualRoutes as "choice among equal routes" { "all" => Self::All, "first" => Self::First });
choices!(MissingNextHop as "fate at a missing next hop" { "lost" => Self::Lost, "skipped" => Self::Skipped });
choices!(InternetTraffic as "kind of internet traffic" { "none" => Self::None, "outbound_only" => Self::OutboundOnly, "both_ways" => Self::BothWays });
choices!(PolicySees as "view of a policy" { "translated" => Self::Translated, "original" => Self::Original });
choices!(NoHealthy as "fate without healthy back ends" { "lost" => Self::Lost, "all" => Self::All });
choices!(DoorRoute as "route to private doors" { "none" => Self::None, "automatic" => Self::Automatic });
choices!(Action as "action" { "allow" => Self::Allow, "deny" => Self::Deny, "reject" => Self::Reject, "allow-finally" => Self::AllowFinally, "defer" => Self::Defer });
choices!(Lack as "part of an object" {
    "everything" => Self::Everything, "interfaces" => Self::Interfaces, "own_firewalls" => Self::OwnFirewalls,
    "groups" => Self::Groups, "rules" => Self::Rules, "routes" => Self::Routes,
});

/// Whether a group's rules are a union or ordered.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Form {
    Union,
    Ordered,
}
choices!(Form as "form of a group" { "union" => Self::Union, "ordered" => Self::Ordered });

/// Which kind of gateway.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum WrittenGatewayKind {
    Internet,
    Nat,
    OutboundOnly,
    Site,
}
choices!(WrittenGatewayKind as "kind of gateway" {
    "internet" => Self::Internet, "nat" => Self::Nat, "outbound-only" => Self::OutboundOnly, "site" => Self::Site,
});

/// How a balancer passes connections on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum WrittenBalancerKind {
    Keeping,
    Proxy,
}
choices!(WrittenBalancerKind as "kind of balancer" { "keeping" => Self::Keeping, "proxy" => Self::Proxy });

/// How replies come back from a keeping balancer's back ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum WrittenReplies {
    ByBalancer,
    Routed,
}
choices!(WrittenReplies as "way of replies" { "by_balancer" => Self::ByBalancer, "routed" => Self::Routed });

/// Where routes to a peer's blocks come from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum PeerRoutes {
    Automatic,
    Written,
}
choices!(PeerRoutes as "origin of routes to the peer" { "automatic" => Self::Automatic, "written" => Self::Written });

/// How a written route came into its table.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum WrittenRouteKind {
    Static,
    Propagated,
}
choices!(WrittenRouteKind as "kind of route" { "static" => Self::Static, "propagated" => Self::Propagated });

fn notation<T>(result: Result<T, NotationError>, node: &Node<'_>, at: &mut Reading) -> Option<T> {
    match result {
        Ok(value) => Some(value),
        Err(NotationError { what, help }) => {
            at.fail(node.span, what, "not understood", Some(help));
            None
        }
    }
}

/// How addresses are spelt.
const SPELT: &str = "write 10.64.0.7, 10.64.0.0/12, 10.64.0.1-10.64.0.9, or the same for IPv6";

impl Written for Block {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        let text = text_of(node, at, "an address, prefix or range")?;
        match text.trim().parse() {
            Ok(block) => Some(block),
            Err(error) => {
                let spelt = || (error != BlockError::Unspecified).then(|| SPELT.to_owned());
                let help = meant::block(text).or_else(spelt);
                at.fail(
                    node.span,
                    format!("`{text}`: {error}"),
                    "not understood",
                    help,
                );
                None
            }
        }
    }
    fn schema(_: &mut Definitions) -> Json {
        json!({ "type": "string", "examples": ["10.64.0.7", "10.64.0.0/12", "2001:db8:64::/48", "10.64.0.1-10.64.0.9"] })
    }
}

impl Written for IpAddr {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        let text = text_of(node, at, "an address")?;
        let address = text.trim().parse().ok();
        if address.is_none() {
            let help = "write 203.0.113.7 or 2001:db8::7, without a prefix length".to_owned();
            at.fail(
                node.span,
                format!("`{text}` is not an address"),
                "not understood",
                Some(help),
            );
        }
        address
    }
    fn schema(_: &mut Definitions) -> Json {
        json!({ "type": "string", "anyOf": [{ "format": "ipv4" }, { "format": "ipv6" }] })
    }
}

impl Written for Service {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        let text = text_of(node, at, "traffic such as `tcp 443`")?;
        notation(text.parse(), node, at)
    }
    fn schema(_: &mut Definitions) -> Json {
        json!({ "type": ["string", "integer"], "examples": ["tcp 443", "tcp 80,8000-8100", "udp", "icmp 8/0", "gre", "any", "any 53", "any except tcp 22, icmp"] })
    }
}

/// One port, several, or a range.
#[derive(Clone, Debug)]
pub(crate) struct Ports(pub Intervals);

impl Written for Ports {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        let text = text_of(node, at, "ports such as 1024-65535")?;
        notation(parse_ports(text), node, at).map(Self)
    }
    fn schema(_: &mut Definitions) -> Json {
        json!({ "type": ["string", "integer"], "examples": [443, "1024-65535", "80,443"] })
    }
}

/// A peer as written, before its name is looked up.
#[derive(Clone, Debug)]
pub(crate) enum WrittenPeer {
    Block(Block),
    Named(&'static str, Name),
    Tag(Vec<(Name, Name)>),
    Internet,
    Any,
    Probes,
}

/// The kinds of peers that have a name.
const PEER_KINDS: &[&str] = &[
    "set",
    "group",
    "identity",
    "interface",
    "network",
    "subnet",
    "site",
    "tag",
];
/// The peers that are words of their own.
const PEER_WORDS: [&str; 3] = ["internet", "any", "probes"];

impl Written for WrittenPeer {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        if let Value::Map(fields) = &node.value {
            return Self::read_map(node, fields, at);
        }
        let text = text_of(node, at, "a peer")?.trim();
        match text {
            "internet" => return Some(Self::Internet),
            "any" => return Some(Self::Any),
            "probes" => return Some(Self::Probes),
            _ => {}
        }
        match split_kind(text, PEER_KINDS) {
            Some(("tag", pairs)) => notation(parse_tags(pairs), node, at).map(Self::Tag),
            Some((_, "")) => {
                at.fail(
                    node.span,
                    format!("`{text}` has no name"),
                    "the name after the colon is missing",
                    None,
                );
                None
            }
            Some((kind, name)) => Some(Self::Named(kind, name.into())),
            None => Self::read_block(node, text, at),
        }
    }

    fn schema(_: &mut Definitions) -> Json {
        let examples = [
            "any",
            "internet",
            "probes",
            "10.64.0.0/12",
            "set:partners",
            "group:app",
            "tag:role=web",
            "identity:booking",
            "interface:web-1",
            "network:office",
            "subnet:office-desks",
            "site:harbour",
        ];
        let named: serde_json::Map<String, Json> = PEER_KINDS
            .iter()
            .map(|kind| {
                (
                    (*kind).to_owned(),
                    json!({ "type": if *kind == "tag" { "object" } else { "string" } }),
                )
            })
            .collect();
        json!({ "anyOf": [
            { "type": "string", "examples": examples },
            { "type": "object", "properties": named, "minProperties": 1, "maxProperties": 1, "additionalProperties": false },
        ] })
    }
}

impl WrittenPeer {
    fn read_block(node: &Node<'_>, text: &str, at: &mut Reading) -> Option<Self> {
        match text.parse() {
            Ok(block) => Some(Self::Block(block)),
            Err(error)
                if error == BlockError::Unspecified
                    || (text.contains(['/', '.']) && !text.contains(char::is_alphabetic)) =>
            {
                let spelt = || (error != BlockError::Unspecified).then(|| SPELT.to_owned());
                let help = meant::block(text).or_else(spelt);
                at.fail(
                    node.span,
                    format!("`{text}`: {error}"),
                    "not understood",
                    help,
                );
                None
            }
            Err(_) => {
                let word = text.split(':').next().unwrap_or(text);
                let kinds = PEER_KINDS.iter().chain(&PEER_WORDS).copied();
                let all = "write an address, prefix or range, any, internet, probes, or a name with its kind: group:app, \
                    set:partners, tag:role=web, identity:, interface:, network:, subnet:, site:";
                let near = did_you_mean(word, kinds).or_else(|| meant::peer(text));
                let help = near.unwrap_or_else(|| all.to_owned());
                at.fail(
                    node.span,
                    format!("`{text}` is not a peer"),
                    "not understood",
                    Some(help),
                );
                None
            }
        }
    }

    fn read_map(
        node: &Node<'_>,
        fields: &[(Node<'_>, Node<'_>)],
        at: &mut Reading,
    ) -> Option<Self> {
        let known = crate::reading::fields_of(node, PEER_KINDS, "a peer", at)?;
        let ([(kind, value)], 1) = (known.as_slice(), fields.len()) else {
            at.fail(
                node.span,
                "a peer written as a map has one field".to_owned(),
                "here",
                Some("for example { group: app }".to_owned()),
            );
            return None;
        };
        if *kind == "tag" {
            return crate::reading::TagMap::read(value, at).map(|tags| Self::Tag(tags.0));
        }
        let kind = PEER_KINDS.iter().find(|known| *known == kind)?;
        Name::read(value, at).map(|name| Self::Named(kind, name))
    }
}

/// A next hop as written, before its name is looked up.
#[derive(Clone, Debug)]
pub(crate) enum WrittenHop {
    Local,
    Blackhole,
    Address(IpAddr),
    Named(&'static str, Name),
}

/// The kinds of next hops that have a name.
const HOP_KINDS: &[&str] = &[
    "gateway",
    "interface",
    "peering",
    "firewall",
    "balancer",
    "hub",
    "service",
];

impl Written for WrittenHop {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        if let Value::Map(fields) = &node.value {
            let help = match fields.as_slice() {
                [(key, name)] => crate::tree::text(key).zip(crate::tree::text(name)),
                _ => None,
            };
            at.expected(
                node,
                "a next hop",
                help.map(|(kind, name)| format!("write \"{kind}:{name}\"")),
            );
            return None;
        }
        let text = text_of(node, at, "a next hop")?.trim();
        if let Ok(address) = text.parse() {
            return Some(Self::Address(address));
        }
        match (text, split_kind(text, HOP_KINDS)) {
            ("local", _) => Some(Self::Local),
            ("blackhole", _) => Some(Self::Blackhole),
            (_, Some((kind, name))) if !name.is_empty() => Some(Self::Named(kind, name.into())),
            _ => {
                let word = text.split(':').next().unwrap_or(text);
                let kinds = HOP_KINDS.iter().chain(&["local", "blackhole"]).copied();
                let all =
                    "write local, blackhole, an address, or a name with its kind: gateway:, interface:, peering:, \
                    firewall:, balancer:, hub: or service:"
                        .to_owned();
                let help = did_you_mean(word, kinds)
                    .or_else(|| meant::next_hop(text))
                    .unwrap_or(all);
                at.fail(
                    node.span,
                    format!("`{text}` is not a next hop"),
                    "not understood",
                    Some(help),
                );
                None
            }
        }
    }
    fn schema(_: &mut Definitions) -> Json {
        json!({ "type": "string", "examples": ["local", "blackhole", "gateway:tickets-internet", "interface:quay-fw-in", "peering:quay-tickets", "firewall:quay-fw", "hub:harbour", "10.64.0.5"] })
    }
}

/// An object of a gap or a target: a kind and a name.
#[derive(Clone, Debug)]
pub(crate) struct Object {
    pub span: Span,
    pub kind: &'static str,
    pub name: Name,
}

/// The kinds of objects that a gap can be about.
const OBJECT_KINDS: &[&str] = &[
    "network",
    "subnet",
    "interface",
    "workload",
    "group",
    "acl",
    "policy",
    "own-firewall",
    "set",
    "table",
    "gateway",
    "peering",
    "site",
    "firewall",
    "firewall-policy",
    "balancer",
    "service",
    "hub",
    "names",
    "zone",
];

impl Written for Object {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        let text = text_of(node, at, "an object with its kind, such as network:cargo")?.trim();
        match split_kind(text, OBJECT_KINDS) {
            Some((kind, name)) if !name.is_empty() => Some(Self {
                span: node.span,
                kind,
                name: name.into(),
            }),
            _ => {
                let word = text.split(':').next().unwrap_or(text);
                let all = format!(
                    "write a kind, a colon and a name; kinds: {}",
                    OBJECT_KINDS.join(", ")
                );
                let help = did_you_mean(word, OBJECT_KINDS.iter().copied()).unwrap_or(all);
                at.fail(
                    node.span,
                    format!("`{text}` names no object"),
                    "not understood",
                    Some(help),
                );
                None
            }
        }
    }
    fn schema(_: &mut Definitions) -> Json {
        json!({ "type": "string", "examples": ["network:cargo-partner", "group:legacy"] })
    }
}

/// What a hub's link leads to.
#[derive(Clone, Debug)]
pub(crate) struct LinkedTo {
    pub span: Span,
    pub kind: &'static str,
    pub name: Name,
}

/// The kinds of things that a link can lead to.
const LINKED_KINDS: &[&str] = &["network", "site", "hub", "firewall"];

impl Written for LinkedTo {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        let text = text_of(node, at, "what the link leads to, such as network:tickets")?.trim();
        match split_kind(text, LINKED_KINDS) {
            Some((kind, name)) if !name.is_empty() => Some(Self {
                span: node.span,
                kind,
                name: name.into(),
            }),
            _ => {
                let help = "write network:, site:, hub: or firewall: and a name".to_owned();
                at.fail(
                    node.span,
                    format!("a link cannot lead to `{text}`"),
                    "not understood",
                    Some(help),
                );
                None
            }
        }
    }
    fn schema(_: &mut Definitions) -> Json {
        json!({ "type": "string", "examples": ["network:tickets", "site:dockyard", "hub:north", "firewall:hub-fw"] })
    }
}
