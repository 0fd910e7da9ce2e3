//! The estate: networks, subnets, interfaces, filters, routes and gateways, validated and joined.
//!
//! Built by the intake, then never changed. References that the semantics let dangle are [`Reference`]s;
//! all others are ids that exist.

mod device;
mod rule;
mod settings;
mod shared_list;
mod table;

pub use device::*;
pub use rule::*;
pub use settings::*;
pub use shared_list::SharedList;
pub use table::{Id, Name, Named, Reference, Table};

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
    /// What the snapshot says it lacks.
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

/// A virtual network.
#[derive(Clone, Debug)]
pub struct Network {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// Its address blocks.
    pub blocks: Addresses,
    /// The same as written: the lengths of automatic routes.
    pub written_blocks: Vec<Range>,
    /// The innermost division it belongs to.
    pub division: Option<Id<Division>>,
    /// The table of subnets that name none; none for automatic routes only.
    pub main_table: Option<Reference<RouteTable>>,
    /// Whether it may talk to the internet.
    pub internet_traffic: InternetTraffic,
    /// Its settings, each given or at its default.
    pub settings: Settings,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
    /// Its tags.
    pub tags: Tags,
}

/// A part of a network's space.
#[derive(Clone, Debug)]
pub struct Subnet {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// The network.
    pub network: Id<Network>,
    /// Its address blocks.
    pub blocks: Addresses,
    /// Its network ACL; none is no stage.
    pub acl: Option<Reference<Filter>>,
    /// Security groups enforced at each of its interfaces.
    pub groups: Vec<Reference<Filter>>,
    /// Its route table; none for the network's main table.
    pub route_table: Option<Reference<RouteTable>>,
    /// Whether it may talk to the internet.
    pub internet_traffic: InternetTraffic,
    /// Whether what no route takes goes to the internet from the platform's own shared address.
    pub default_outbound: bool,
    /// Whether stages apply at private doors here; none for the network's setting.
    pub filter_private_doors: Option<bool>,
    /// How many IPv4 addresses it must be able to hold; none for what it holds now.
    pub needs: Option<u32>,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
    /// Its tags.
    pub tags: Tags,
}

/// What runs behind one or several interfaces.
#[derive(Clone, Debug)]
pub struct Workload {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// The account it runs as.
    pub service_identity: Option<Name>,
    /// Its own firewall, at each of its interfaces that names no other.
    pub own_firewall: Option<Reference<Filter>>,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
    /// Its tags.
    pub tags: Tags,
}

/// A network card.
#[derive(Clone, Debug)]
pub struct Interface {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// Where it stands.
    pub subnet: Id<Subnet>,
    /// Its own addresses and held prefixes as written; the first of each family is the primary one.
    pub written_addresses: Vec<Block>,
    /// All addresses it holds, never mapped ones.
    pub addresses: Addresses,
    /// Security groups, in binding order.
    pub groups: Vec<Reference<Filter>>,
    /// What runs behind it.
    pub workload: Option<Id<Workload>>,
    /// The account, if it differs from the workload's.
    pub service_identity: Option<Name>,
    /// The own firewall, the workload's if none is named here.
    pub own_firewall: Option<Reference<Filter>>,
    /// Whether it may pass on packets that are not its own.
    pub forwards: bool,
    /// Whether the platform exempts it from all stages but the ACL.
    pub unfiltered: bool,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
    /// Its own tags.
    pub tags: Tags,
}

impl Interface {
    /// Its primary address of a family: the first that was written.
    pub fn primary(&self, family: Family) -> Option<IpAddr> {
        let first = self
            .written_addresses
            .iter()
            .find(|block| block.range.family == family)?;
        Some(address_of(family, first.range.first))
    }
}

/// A public address that an interface holds.
#[derive(Clone, Debug)]
pub struct PublicAddress {
    /// The address in canonical text: its name.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// The address.
    pub address: IpAddr,
    /// Who holds it; none if nobody does.
    pub interface: Option<Id<Interface>>,
    /// The interface's own address that it stands for.
    pub private: Option<IpAddr>,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
}

/// One item of an address set.
#[derive(Clone, Debug)]
pub enum SetItem {
    /// An address, a prefix or a range.
    Block(Block),
    /// Another set.
    Set(Reference<AddressSet>),
}

/// A named list of prefixes; may nest.
#[derive(Clone, Debug)]
pub struct AddressSet {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// What it holds; none if the platform keeps that to itself.
    pub content: Option<Vec<SetItem>>,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
}

/// A list of routes.
#[derive(Clone, Debug)]
pub struct RouteTable {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// The network it belongs to.
    pub network: Id<Network>,
    /// Its routes as written.
    pub routes: Vec<Route>,
    /// Whether it learns what the network's site gateways and hub links offer.
    pub accepts_propagation: bool,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
}

/// How a route came into its table: earlier kinds win among equally long prefixes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum RouteKind {
    /// Written by somebody.
    Static,
    /// The network's own block, or a peer's.
    Automatic,
    /// Learned.
    Propagated,
    /// The platform's own, beside blocks and peerings: what lent gateways and private doors bring.
    OtherAutomatic,
}

/// One destination of a route.
#[derive(Clone, Debug)]
pub enum RouteDestination {
    /// A prefix.
    Block(Block),
    /// Every prefix of a set.
    Set(Reference<AddressSet>),
}

/// A route as written.
#[derive(Clone, Debug)]
pub struct Route {
    /// The id as written.
    pub id: Option<Name>,
    /// Where it was written.
    pub origin: Origin,
    /// Where to.
    pub destinations: Vec<RouteDestination>,
    /// By what.
    pub next_hop: NextHop,
    /// Lowest wins among equals.
    pub metric: u32,
    /// Static or propagated.
    pub kind: RouteKind,
    /// Whether it is in force.
    pub enabled: bool,
    /// Limits it to interfaces with all of these tags; empty for all senders.
    pub only_tagged: Tags,
    /// Limits it to packets from these addresses; none for all.
    pub only_from: Option<Vec<RouteDestination>>,
}

/// By what a route leads on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NextHop {
    /// Straight to the interface that holds the destination.
    Local,
    /// Nowhere: packets are dropped.
    Blackhole,
    /// An internet, NAT, outbound-only or site gateway.
    Gateway(Reference<Gateway>),
    /// An interface that passes packets on.
    Interface(Reference<Interface>),
    /// The interface that holds this address.
    Address(IpAddr),
    /// The other network of a peering.
    Peering(Reference<Peering>),
    /// A firewall.
    Firewall(Reference<Firewall>),
    /// A balancer in front of devices that pass packets on.
    Balancer(Reference<Balancer>),
    /// A hub that the network is linked to.
    Hub(Reference<Hub>),
    /// A platform service's public door, straight.
    Service(Reference<PlatformService>),
}

/// Which kind of gateway.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum GatewayKind {
    /// Both ways; maps private to public addresses one to one.
    Internet {
        /// Whether it is attached to its network.
        attached: bool,
        /// Its own table, for all that comes in.
        table: Option<Reference<RouteTable>>,
    },
    /// Outbound for IPv4.
    Nat {
        /// Where it stands.
        subnet: Id<Subnet>,
        /// Its own private address there.
        address: Option<IpAddr>,
        /// As which public address it is seen; none for a private one.
        public: Option<IpAddr>,
        /// Subnets whose packets come to it where no route matches.
        serves: Vec<Id<Subnet>>,
    },
    /// Outbound for IPv6.
    OutboundOnly,
    /// To a site.
    Site {
        /// The site.
        site: Id<Site>,
        /// Whether it is up.
        up: bool,
    },
}

/// A way out of a network, or in, or both.
#[derive(Clone, Debug)]
pub struct Gateway {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// The network.
    pub network: Id<Network>,
    /// Which kind.
    pub kind: GatewayKind,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
}

/// One side of a peering.
#[derive(Clone, Debug)]
pub struct PeeringSide {
    /// The network on this side.
    pub network: Reference<Network>,
    /// Whether this side is up.
    pub up: bool,
    /// Whether this side gets routes to the other's blocks by itself.
    pub automatic_routes: bool,
    /// Whether it takes in packets whose source is not of the other network.
    pub accept_forwarded: bool,
    /// Whether the other side may use this network's site gateways.
    pub lend_gateways: bool,
    /// Whether it uses the other network's site gateways, if they are lent.
    pub use_gateways: bool,
}

/// Two networks, joined.
#[derive(Clone, Debug)]
pub struct Peering {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// Both sides.
    pub sides: [PeeringSide; 2],
}

impl Peering {
    /// Up on both sides, or not at all.
    pub fn is_up(&self) -> bool {
        self.sides.iter().all(|side| side.up)
    }

    /// The network opposite to `network`, if the peering joins it.
    pub fn opposite(&self, network: Id<Network>) -> Option<&Reference<Network>> {
        let [a, b] = [&self.sides[0].network, &self.sides[1].network];
        if a.found() == Some(network) {
            Some(b)
        } else {
            (b.found() == Some(network)).then_some(a)
        }
    }

    /// The side of a network.
    pub fn side(&self, network: Id<Network>) -> Option<&PeeringSide> {
        self.sides
            .iter()
            .find(|side| side.network.found() == Some(network))
    }
}

/// A place on the premises.
#[derive(Clone, Debug)]
pub struct Site {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// The addresses that are there.
    pub holds: Addresses,
    /// The prefixes it tells the cloud.
    pub announces: Addresses,
    /// The same as written: the lengths of routes to it.
    pub written_announces: Vec<Range>,
    /// The cloud's addresses to which it finds back; none for all that is offered to it.
    pub knows: Option<Addresses>,
    /// The network as which it resolves names; none for as the public does.
    pub resolves_as: Option<Id<Network>>,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
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

/// What the snapshot says it lacks.
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
