//! Filters and their rules.

use super::{
    AddressSet, Division, FirewallMatch, Interface, Name, Named, Network, Owner, Reference,
    Section, Site, Subnet,
};
use super::{Id, SharedList, Tags};
use crate::source::Origin;
use heronshale_sets::address::{Block, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;
use serde::Serialize;

/// Towards the interface, or away from it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum Direction {
    /// Received.
    In,
    /// Sent.
    Out,
}

impl Direction {
    /// Received, then sent: the order of every output.
    pub const BOTH: [Self; 2] = [Self::In, Self::Out];

    /// The other direction.
    #[must_use]
    pub fn opposite(self) -> Self {
        match self {
            Self::In => Self::Out,
            Self::Out => Self::In,
        }
    }

    /// `inbound` or `outbound`.
    pub fn bound(self) -> &'static str {
        match self {
            Self::In => "inbound",
            Self::Out => "outbound",
        }
    }

    /// `in` or `out`.
    pub fn word(self) -> &'static str {
        match self {
            Self::In => "in",
            Self::Out => "out",
        }
    }
}

/// What a rule does with a packet that it matches.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Action {
    /// Lets it on to the next stage.
    Allow,
    /// Drops it in silence.
    Deny,
    /// Drops it and tells the sender.
    Reject,
    /// Scope policies only: lets it on and skips the groups of this interface and direction.
    AllowFinally,
    /// Policies only: leaves it to the next policy further in.
    Defer,
}

impl Action {
    /// As written in a snapshot.
    pub fn word(self) -> &'static str {
        match self {
            Self::Allow => "allow",
            Self::Deny => "deny",
            Self::Reject => "reject",
            Self::AllowFinally => "allow-finally",
            Self::Defer => "defer",
        }
    }

    /// Whether the packet goes on.
    pub fn admits(self) -> bool {
        matches!(self, Self::Allow | Self::AllowFinally)
    }

    /// Whether the packet ends here.
    pub fn refuses(self) -> bool {
        matches!(self, Self::Deny | Self::Reject)
    }
}

/// Which packets by protocol, port, or ICMP type and code.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Service {
    /// The protocol; none for any.
    pub protocol: Option<u8>,
    /// The part below: ports, or ICMP `type * 256 + code`; none for all.
    pub low: Option<Intervals>,
    /// What of it is not meant; empty unless all else is any.
    pub except: Vec<Self>,
}

impl Service {
    /// The services of this kind in a family.
    pub fn numbers(&self, family: Family) -> Intervals {
        let below = |protocol: u8, low: &Intervals| {
            let base = u128::from(service::code(protocol, 0));
            Intervals::from_spans(
                low.spans()
                    .iter()
                    .map(|(first, last)| (base + first, base + last)),
            )
        };
        let numbers = match (self.protocol, &self.low) {
            (None, None) => service::all(family),
            (None, Some(ports)) => service::WITH_PORTS
                .iter()
                .fold(Intervals::empty(), |sum, p| sum.union(&below(*p, ports))),
            (Some(protocol), None) => service::whole(protocol),
            (Some(protocol), Some(_))
                if !service::has_ports(protocol) && !service::is_icmp(protocol) =>
            {
                Intervals::empty()
            }
            (Some(protocol), Some(low)) => below(protocol, low),
        };
        let numbers = numbers.intersection(&service::all(family));
        self.except
            .iter()
            .fold(numbers, |all, less| all.difference(&less.numbers(family)))
    }
}

/// Whom a rule is about: one item of a list of peers.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Peer {
    /// An address, a prefix or a range.
    Block(Block),
    /// A named list of prefixes.
    AddressSet(Reference<AddressSet>),
    /// The carriers of a security group.
    Group(Reference<Filter>),
    /// The interfaces with all of these tags.
    Tag(Vec<(Name, Name)>),
    /// The interfaces whose workload runs as this account.
    Identity(Name),
    /// One interface.
    Interface(Reference<Interface>),
    /// The blocks of a network.
    Network(Reference<Network>),
    /// The blocks of a subnet.
    Subnet(Reference<Subnet>),
    /// What a site holds.
    Site(Reference<Site>),
    /// The public addresses that are not the estate's.
    Internet,
    /// Every address.
    Any,
    /// The balancers' health checkers.
    Probes,
}

impl Peer {
    /// Whether it names something that is not in the snapshot.
    pub fn is_missing(&self) -> bool {
        match self {
            Self::AddressSet(set) => set.found().is_none(),
            Self::Group(group) => group.found().is_none(),
            Self::Interface(interface) => interface.found().is_none(),
            Self::Network(network) => network.found().is_none(),
            Self::Subnet(subnet) => subnet.found().is_none(),
            Self::Site(site) => site.found().is_none(),
            Self::Block(_)
            | Self::Tag(_)
            | Self::Identity(_)
            | Self::Internet
            | Self::Any
            | Self::Probes => false,
        }
    }
}

/// One rule of a filter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rule {
    /// The id as written.
    pub id: Option<Name>,
    /// Where it was written.
    pub origin: Origin,
    /// What it does.
    pub action: Action,
    /// Lowest first; none comes last.
    pub priority: Option<u32>,
    /// Which services; empty for any.
    pub services: Vec<Service>,
    /// Which source ports; none for all.
    pub source_ports: Option<Intervals>,
    /// The other side: none for any, empty for nothing.
    pub peers: Option<Vec<Peer>>,
    /// Whom of the peers it is not about.
    pub except: Vec<Peer>,
    /// This side: none for any.
    pub local: Option<Vec<Peer>>,
    /// Whether it is in force at all.
    pub enabled: bool,
    /// Whether it keeps no state, although its filter does.
    pub stateless: bool,
    /// The platform itself stops it at this moment.
    pub enforced_until: Option<jiff::Timestamp>,
    /// A note: somebody wants to look at it again by then.
    pub review_by: Option<jiff::Timestamp>,
    /// What it is for, in the words of its author.
    pub description: Option<Name>,
    /// What only rules of a firewall policy say.
    pub firewall: Option<Box<FirewallMatch>>,
}

impl Rule {
    /// The services it names, in one family.
    pub fn service_numbers(&self, family: Family) -> Intervals {
        if self.services.is_empty() {
            return service::all(family);
        }
        self.services
            .iter()
            .fold(Intervals::empty(), |sum, service| {
                sum.union(&service.numbers(family))
            })
    }

    /// Its source ports; all if it names none.
    pub fn source_port_numbers(&self) -> Intervals {
        self.source_ports
            .clone()
            .unwrap_or_else(|| Intervals::span(0, u128::from(u16::MAX)))
    }

    /// Whether it is in force at a moment: enabled, and not past its end.
    pub fn in_force(&self, at: Option<jiff::Timestamp>) -> bool {
        self.enabled && !matches!((self.enforced_until, at), (Some(end), Some(now)) if now > end)
    }
}

/// Which kind of rule list, each with its own way of being bound and read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum FilterKind {
    /// Stateful; bound to interfaces or subnets. Union: allow rules only, any of them admits.
    UnionGroup,
    /// Stateful; bound to interfaces or subnets. Lowest priority first; what no rule matches gets the default.
    OrderedGroup {
        /// What happens to the rest, per direction (in, out); none is deny.
        defaults: [Option<Action>; 2],
    },
    /// Stateless; of subnets. First match; the rest is denied.
    NetworkAcl,
    /// Stateful; of a scope. First match that decides; the rest goes on to the next policy further in.
    ScopePolicy {
        /// Where it is bound.
        scope: Scope,
        /// Which of several at one scope comes first: the lowest.
        order: u32,
        /// Which interfaces of the scope it is limited to; none for all.
        targets: Option<Vec<Target>>,
    },
    /// Stateful; the workload's own.
    OwnFirewall {
        /// What happens to the rest, per direction (in, out).
        defaults: [Action; 2],
    },
    /// Stateful; of firewalls. Its rules are its received ones: peers are sources, this side is destinations.
    FirewallPolicy {
        /// The policy that is tried first.
        base: Option<Reference<Filter>>,
        /// What happens to the rest where no policy comes after.
        default: Action,
        /// The classes of rules in the order in which they are tried; others come after them.
        class_order: Vec<Name>,
        /// Its sections, as written.
        sections: Vec<Section>,
    },
}

/// Where a scope policy is bound.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Scope {
    /// The whole estate.
    Estate,
    /// A division and all within it.
    Division(Id<Division>),
    /// One network.
    Network(Id<Network>),
}

/// What a scope policy can be limited to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Target {
    /// Interfaces with all of these tags.
    Tag(Vec<(Name, Name)>),
    /// Interfaces whose workload runs as this account.
    Identity(Name),
    /// Interfaces of a network.
    Network(Reference<Network>),
    /// Interfaces of a subnet.
    Subnet(Reference<Subnet>),
    /// One interface.
    Interface(Reference<Interface>),
}

/// A rule list: security group, network ACL, scope policy or a workload's own firewall.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Filter {
    /// The key: kind and name, since each kind has names of its own.
    pub key: Name,
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// How it is bound and read.
    pub kind: FilterKind,
    /// The rules, received and sent, as written.
    pub rules: [SharedList<Rule>; 2],
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
    /// Its tags.
    pub tags: Tags,
    /// What it is for.
    pub description: Option<Name>,
}

#[allow(
    clippy::misnamed_getters,
    reason = "each kind has names of its own, so the key is what is unique"
)]
impl Named for Filter {
    fn name(&self) -> &Name {
        &self.key
    }
}

impl Filter {
    /// The rules of one direction, as written.
    pub fn rules(&self, direction: Direction) -> &[Rule] {
        match direction {
            Direction::In => &self.rules[0],
            Direction::Out => &self.rules[1],
        }
    }

    /// What it is called in output: `group`, `ACL`, `policy`, `own firewall`.
    pub fn kind_word(&self) -> &'static str {
        match self.kind {
            FilterKind::UnionGroup | FilterKind::OrderedGroup { .. } => "group",
            FilterKind::NetworkAcl => "ACL",
            FilterKind::ScopePolicy { .. } => "policy",
            FilterKind::OwnFirewall { .. } => "own firewall",
            FilterKind::FirewallPolicy { .. } => "firewall policy",
        }
    }

    /// Whether any matching rule admits, in whatever order.
    pub fn is_union(&self) -> bool {
        matches!(self.kind, FilterKind::UnionGroup)
    }

    /// Whether it keeps state by itself.
    pub fn keeps_state(&self) -> bool {
        !matches!(self.kind, FilterKind::NetworkAcl)
    }

    /// What happens to packets that no rule matches; none if they go on.
    pub fn default_action(&self, direction: Direction) -> Option<Action> {
        let at = usize::from(direction == Direction::Out);
        match &self.kind {
            FilterKind::UnionGroup | FilterKind::NetworkAcl => Some(Action::Deny),
            FilterKind::OrderedGroup { defaults } => Some(defaults[at].unwrap_or(Action::Deny)),
            FilterKind::OwnFirewall { defaults } => Some(defaults[at]),
            FilterKind::ScopePolicy { .. } => None,
            FilterKind::FirewallPolicy { default, .. } => Some(*default),
        }
    }
}

/// One rule of one filter.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct RuleId {
    /// The filter.
    pub filter: Id<Filter>,
    /// Which of its lists.
    pub direction: Direction,
    /// The place in that list, as written.
    pub index: u32,
}
