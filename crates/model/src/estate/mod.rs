//! The estate: networks, subnets, interfaces, filters, routes and gateways, validated and joined.
//!
//! Built by the intake, then never changed. References that the semantics let dangle are [`Reference`]s;
//! all others are ids that exist.

mod network;
mod routing;

pub use network::{AddressSet, Interface, Network, PublicAddress, SetItem, Subnet, Workload};
pub use routing::{
    Gateway, GatewayKind, NextHop, Peering, PeeringSide, Route, RouteDestination, RouteKind,
    RouteTable, Site,
};

mod device;
mod rule;
mod settings;
mod shared_list;
mod table;

pub use device::*;
pub use rule::*;
pub use settings::*;
pub use shared_list::SharedList;
pub use table::{Id, Name, Named, Reference, Reserve, Table};

use crate::source::{Origin, SourceMap};
use heronshale_sets::address::{Addresses, Block, Family, Range, address_of};
use std::net::IpAddr;
use std::sync::Arc;

/// Keys and values, sorted by key.
pub type Tags = Vec<(Name, Name)>;

/// All that one snapshot describes.
#[derive(Clone, Debug, Default)]
pub struct Estate {
    /// What it is called.
    pub name: Name,
    /// When the snapshot was taken.
    pub taken: Option<jiff::Timestamp>,
    /// The files.
    pub sources: Arc<SourceMap>,
    /// Settings of what belongs to no network.
    pub settings: Settings,
    /// Who changes what.
    pub owners: Table<Owner>,
    /// Parts of the estate, nested.
    pub divisions: Table<Division>,
    /// Virtual networks.
    pub networks: Table<Network>,
    /// Parts of networks.
    pub subnets: Table<Subnet>,
    /// What runs behind interfaces.
    pub workloads: Table<Workload>,
    /// Network cards.
    pub interfaces: Table<Interface>,
    /// Public addresses that interfaces hold.
    pub public_addresses: Table<PublicAddress>,
    /// Named lists of prefixes.
    pub address_sets: Table<AddressSet>,
    /// Security groups, ACLs, policies, own firewalls.
    pub filters: Table<Filter>,
    /// Route tables.
    pub route_tables: Table<RouteTable>,
    /// Internet, NAT, outbound-only and site gateways.
    pub gateways: Table<Gateway>,
    /// Pairs of joined networks.
    pub peerings: Table<Peering>,
    /// On-premises sites.
    pub sites: Table<Site>,
    /// Inline devices.
    pub firewalls: Table<Firewall>,
    /// Load balancers.
    pub balancers: Table<Balancer>,
    /// Platform services.
    pub services: Table<PlatformService>,
    /// Transit routers.
    pub hubs: Table<Hub>,
    /// Named lists of DNS names.
    pub name_sets: Table<NameSet>,
    /// Private DNS zones.
    pub dns_zones: Table<DnsZone>,
    /// Public DNS records.
    pub public_names: SharedList<DnsRecord>,
    /// What the snapshot declares as missing.
    pub gaps: SharedList<Gap>,
    /// Addresses of the balancers' health checkers; none if the snapshot does not say.
    pub probes: Option<Addresses>,
    /// Traffic of the platform itself that no stage filters.
    pub platform_traffic: Vec<PlatformTraffic>,
    /// Facts about the text that no analysis needs and a reader wants to hear of.
    pub remarks: SharedList<Remark>,
}

/// A thing that was understood, and is worth a word.
#[derive(Clone, Debug)]
pub struct Remark {
    /// Where.
    pub origin: Origin,
    /// What kind of thing.
    pub what: RemarkKind,
}

/// Kinds of remarks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RemarkKind {
    /// A prefix was written with bits outside it; they were masked.
    HostBits {
        /// As written.
        written: Name,
        /// As meant.
        meant: Name,
        /// The name of what holds it.
        holder: Name,
    },
    /// Something names an item that is not there.
    Missing {
        /// The name of what holds the reference, with its kind.
        holder: Name,
        /// Kind and name of what is missing.
        target: Name,
    },
}

/// Somebody who changes things.
#[derive(Clone, Debug)]
pub struct Owner {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// How to reach them.
    pub contact: Option<Name>,
}

/// A part of the estate, perhaps inside another.
#[derive(Clone, Debug)]
pub struct Division {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// The division around it.
    pub parent: Option<Id<Division>>,
}

/// What part of an object a gap is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Lack {
    /// The object itself.
    Everything,
    /// The network's interfaces.
    Interfaces,
    /// The own firewalls of the interfaces there.
    OwnFirewalls,
    /// The bindings of groups to the interfaces there.
    Groups,
    /// The rules of the filter.
    Rules,
    /// The routes of the table.
    Routes,
}

impl Lack {
    /// As written in a snapshot.
    pub fn word(self) -> &'static str {
        match self {
            Self::Everything => "everything",
            Self::Interfaces => "interfaces",
            Self::OwnFirewalls => "own_firewalls",
            Self::Groups => "groups",
            Self::Rules => "rules",
            Self::Routes => "routes",
        }
    }
}

/// What the snapshot declares as missing.
#[derive(Clone, Debug)]
pub struct Gap {
    /// Where it was written.
    pub origin: Origin,
    /// Kind and name of the object.
    pub object: Name,
    /// Which part of it.
    pub lack: Lack,
    /// Its address blocks, if at least these are known.
    pub blocks: Option<Addresses>,
    /// Why it is lacking.
    pub reason: Option<Name>,
}

/// Traffic of the platform itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlatformTraffic {
    /// The platform's addresses.
    pub addresses: Addresses,
    /// Its services; empty for any.
    pub services: Vec<Service>,
}

macro_rules! named {
    ($($kind:ty),*) => {
        $(impl Named for $kind {
            fn name(&self) -> &Name {
                &self.name
            }
        })*
    };
}
named!(
    Owner,
    Division,
    Network,
    Subnet,
    Workload,
    Interface,
    PublicAddress,
    AddressSet,
    RouteTable,
    Gateway,
    Peering,
    Site,
    Firewall,
    Balancer,
    PlatformService,
    Hub,
    NameSet,
    DnsZone
);

impl Estate {
    /// A rule by its id.
    pub fn rule(&self, id: RuleId) -> &Rule {
        &self.filters[id.filter].rules(id.direction)[id.index as usize]
    }

    /// All rules, by filter, direction and place.
    pub fn rule_ids(&self) -> impl Iterator<Item = RuleId> + '_ {
        self.filters.iter().flat_map(|(filter, item)| {
            Direction::BOTH.into_iter().flat_map(move |direction| {
                let count = u32::try_from(item.rules(direction).len()).unwrap_or(u32::MAX);
                (0..count).map(move |index| RuleId {
                    filter,
                    direction,
                    index,
                })
            })
        })
    }

    /// What a rule is called: its id, or its place such as `#3`.
    pub fn rule_name(&self, id: RuleId) -> String {
        self.rule(id)
            .id
            .as_ref()
            .map_or_else(|| format!("#{}", id.index + 1), ToString::to_string)
    }

    /// The network of an interface.
    pub fn network_of(&self, interface: Id<Interface>) -> Id<Network> {
        self.subnets[self.interfaces[interface].subnet].network
    }

    /// The own firewall at an interface: its own, else its workload's.
    pub fn own_firewall(&self, interface: Id<Interface>) -> Option<&Reference<Filter>> {
        let item = &self.interfaces[interface];
        let workload = item.workload.map(|id| &self.workloads[id]);
        item.own_firewall
            .as_ref()
            .or_else(|| workload.and_then(|workload| workload.own_firewall.as_ref()))
    }

    /// The account behind an interface: its own, else its workload's.
    pub fn identity(&self, interface: Id<Interface>) -> Option<&Name> {
        let item = &self.interfaces[interface];
        let workload = item.workload.map(|id| &self.workloads[id]);
        item.service_identity
            .as_ref()
            .or_else(|| workload.and_then(|workload| workload.service_identity.as_ref()))
    }

    /// Whether an interface or its workload has all of these tags.
    pub fn has_tags(&self, interface: Id<Interface>, wanted: &[(Name, Name)]) -> bool {
        let item = &self.interfaces[interface];
        let workload = item.workload.map(|id| &self.workloads[id].tags);
        wanted.iter().all(|pair| {
            item.tags.contains(pair) || workload.is_some_and(|tags| tags.contains(pair))
        })
    }

    /// Who changes an interface: its owner, else its workload's, subnet's or network's.
    pub fn interface_owner(&self, interface: Id<Interface>) -> Option<Id<Owner>> {
        let item = &self.interfaces[interface];
        let workload = item.workload.and_then(|id| self.workloads[id].owner);
        item.owner
            .or(workload)
            .or_else(|| self.subnet_owner(item.subnet))
    }

    /// Who changes a subnet: its owner, else its network's.
    pub fn subnet_owner(&self, subnet: Id<Subnet>) -> Option<Id<Owner>> {
        let item = &self.subnets[subnet];
        item.owner.or_else(|| self.networks[item.network].owner)
    }
}
