//! What stands on the way: firewalls, balancers, services, hubs; and the names by which things are asked.

use super::{
    Filter, Id, Interface, Name, Network, Owner, Peer, Reference, RouteDestination, Service, Site,
    Subnet,
};
use crate::source::Origin;
use heronshale_sets::address::{Addresses, Range};
use serde::Serialize;
use std::net::IpAddr;

/// Which destination a firewall's policy sees of a translated packet.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum PolicySees {
    /// The one it goes on to.
    #[default]
    Translated,
    /// The one it was sent to.
    Original,
}

/// An interface of a firewall.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FirewallLeg {
    /// The interface.
    pub interface: Id<Interface>,
    /// The firewall-zone that it is part of.
    pub zone: Option<Name>,
}

/// One of several machines behind a firewall's address.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Member {
    /// The name as written.
    pub name: Name,
    /// Whether it is up.
    pub up: bool,
}

/// A rule by which a firewall changes a packet's source or destination.
#[derive(Clone, Debug)]
pub struct Translation {
    /// The id as written.
    pub id: Option<Name>,
    /// Where it was written.
    pub origin: Origin,
    /// Zones by which packets come in; none for all.
    pub from_zones: Option<Vec<Name>>,
    /// Zones by which packets go out; none for all. Source translations only.
    pub to_zones: Option<Vec<Name>>,
    /// Sources; none for any.
    pub sources: Option<Vec<Peer>>,
    /// Destinations; none for any.
    pub destinations: Option<Vec<Peer>>,
    /// Services; empty for any.
    pub services: Vec<Service>,
    /// The new address; of a source translation none for the outgoing interface's primary.
    pub to: Option<IpAddr>,
    /// The new port; none to keep it. Destination translations only.
    pub port: Option<u16>,
    /// Whether it is in force.
    pub enabled: bool,
}

/// A line of a firewall's own table.
#[derive(Clone, Debug)]
pub struct FirewallRoute {
    /// Where it was written.
    pub origin: Origin,
    /// Where to.
    pub destinations: Vec<RouteDestination>,
    /// By which of its interfaces.
    pub interface: Id<Interface>,
}

/// An inline device that forwards, filters and translates.
#[derive(Clone, Debug)]
pub struct Firewall {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// Its interfaces; none for one that holds addresses itself, as inside a hub.
    pub legs: Vec<FirewallLeg>,
    /// The addresses that it holds itself.
    pub addresses: Addresses,
    /// The hub in which it stands.
    pub hub: Option<Id<Hub>>,
    /// Its policy; none: everything is denied.
    pub policy: Option<Reference<Filter>>,
    /// Which destination its policy sees; none for the setting.
    pub policy_sees: Option<PolicySees>,
    /// Tried in order before its table is asked.
    pub destination_translations: Vec<Translation>,
    /// Tried in order after its policy.
    pub source_translations: Vec<Translation>,
    /// Its own table; none: packets leave by the interface by which they came.
    pub routes: Option<Vec<FirewallRoute>>,
    /// What it answers at its own addresses; none if the snapshot does not say.
    pub own_services: Option<Vec<OwnService>>,
    /// Its machines; empty for a single one that is up.
    pub members: Vec<Member>,
    /// Whether replies come back to the member that saw the request.
    pub symmetric: bool,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
}

impl Firewall {
    /// How many of its members are up; one without members is one.
    pub fn members_up(&self) -> usize {
        if self.members.is_empty() {
            1
        } else {
            self.members.iter().filter(|member| member.up).count()
        }
    }

    /// The zone of one of its interfaces.
    pub fn zone(&self, interface: Id<Interface>) -> Option<&Name> {
        self.legs
            .iter()
            .find(|leg| leg.interface == interface)
            .and_then(|leg| leg.zone.as_ref())
    }
}

/// A service of a firewall's own: what it answers at its own addresses.
#[derive(Clone, Debug)]
pub struct OwnService {
    /// Where it was written.
    pub origin: Origin,
    /// Protocols and ports; empty for any.
    pub services: Vec<Service>,
    /// Who may use it; none for everybody.
    pub sources: Option<Vec<Peer>>,
}

/// How a balancer passes connections on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum BalancerKind {
    /// The back end sees the client's address.
    Keeping {
        /// Whether replies go by their own routes instead of by the balancer.
        routed_replies: bool,
    },
    /// It makes a connection of its own.
    Proxy,
}

/// An address and port at which a balancer is asked.
#[derive(Clone, Debug)]
pub struct FrontEnd {
    /// Where it was written.
    pub origin: Origin,
    /// The address.
    pub address: IpAddr,
    /// Whether that is a public one, at the network's internet gateway.
    pub public: bool,
    /// Of a public one the address inside the network for which it stands; none: it is at the balancer at once.
    pub private: Option<IpAddr>,
    /// Protocols and ports; empty for any.
    pub services: Vec<Service>,
}

impl FrontEnd {
    /// Whether packets to an address come to it.
    pub fn is_at(&self, address: IpAddr) -> bool {
        self.address == address || self.private == Some(address)
    }

    /// Its address inside the network, if it has one.
    pub fn inside(&self) -> Option<IpAddr> {
        if self.public {
            self.private
        } else {
            Some(self.address)
        }
    }
}

/// What is behind a balancer.
#[derive(Clone, Debug)]
pub struct BackEnd {
    /// Where it was written.
    pub origin: Origin,
    /// The interface, if it is named.
    pub interface: Option<Id<Interface>>,
    /// The address; of an interface its primary one of the front end's family.
    pub address: Option<IpAddr>,
    /// The port; none for the one that was asked.
    pub port: Option<u16>,
    /// Whether it is healthy.
    pub healthy: bool,
}

/// A load balancer.
#[derive(Clone, Debug)]
pub struct Balancer {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// The network.
    pub network: Id<Network>,
    /// Where it stands; none for outside all subnets.
    pub subnet: Option<Id<Subnet>>,
    /// How it passes connections on.
    pub kind: BalancerKind,
    /// Its front ends.
    pub front_ends: Vec<FrontEnd>,
    /// Its back ends.
    pub back_ends: Vec<BackEnd>,
    /// A proxy's own interfaces.
    pub interfaces: Vec<Id<Interface>>,
    /// As a next hop: whether replies come to the same back end as the request.
    pub symmetric: bool,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
}

/// A platform service's entrance from the internet.
#[derive(Clone, Debug)]
pub struct PublicDoor {
    /// Where it was written.
    pub origin: Origin,
    /// Its addresses.
    pub addresses: Addresses,
    /// Whether it is open.
    pub open: bool,
    /// Who may come in; none for everyone, empty for nobody.
    pub allowed: Option<Vec<Peer>>,
}

/// A platform service.
#[derive(Clone, Debug)]
pub struct PlatformService {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// Protocols and ports at its doors; empty for any.
    pub services: Vec<Service>,
    /// Its entrance from the internet.
    pub public_door: Option<PublicDoor>,
    /// Interfaces that are its private addresses inside networks.
    pub private_doors: Vec<Id<Interface>>,
    /// Interfaces of its own in networks: ordinary ones, behind which it runs.
    pub interfaces: Vec<Id<Interface>>,
    /// The balancer behind its private doors, on the provider's side.
    pub balancer: Option<Id<Balancer>>,
    /// The source that the provider's side sees.
    pub provider_source: Option<IpAddr>,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
}

/// What a hub's link leads to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum LinkEnd {
    /// A network.
    Network(Reference<Network>),
    /// A site.
    Site(Reference<Site>),
    /// Another hub.
    Hub(Reference<Hub>),
    /// A firewall.
    Firewall(Reference<Firewall>),
}

/// What ties something to a hub.
#[derive(Clone, Debug)]
pub struct Link {
    /// The name as written; unique in its hub.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// To what.
    pub to: LinkEnd,
    /// In networks: the subnet whose table and ACL apply; none for the main table and no ACL.
    pub subnet: Option<Id<Subnet>>,
    /// Whether it is up.
    pub up: bool,
    /// The domain by which what comes in over it is routed: its place in the hub. None: it is lost.
    pub reads: Option<usize>,
    /// The domains into which it announces: their places in the hub.
    pub announces_into: Vec<usize>,
    /// What it announces, as written; none for a network's blocks, what a site announces, and nothing of hubs and firewalls.
    pub announces: Option<Vec<Range>>,
    /// Whether tables that learn from it take a default route too.
    pub offers_default: bool,
    /// The firewall through which internet traffic that comes in over it is steered.
    pub steer_internet: Option<Reference<Firewall>>,
    /// The firewall through which private traffic that comes in over it is steered.
    pub steer_private: Option<Reference<Firewall>>,
}

/// By what a route of a domain leads on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum DomainHop {
    /// A link of the same hub, by its place.
    Link(usize),
    /// A link that is not there.
    Missing(Name),
    /// Nowhere.
    Blackhole,
}

/// A static route of a domain.
#[derive(Clone, Debug)]
pub struct DomainRoute {
    /// Where it was written.
    pub origin: Origin,
    /// Where to.
    pub destinations: Vec<RouteDestination>,
    /// By what.
    pub hop: DomainHop,
    /// Lowest wins among equals.
    pub metric: u32,
    /// Whether it is in force.
    pub enabled: bool,
}

/// A routing table of a hub.
#[derive(Clone, Debug)]
pub struct Domain {
    /// The name as written; unique in its hub.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// Its static routes.
    pub routes: Vec<DomainRoute>,
}

/// A transit router.
#[derive(Clone, Debug)]
pub struct Hub {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// Its routing tables.
    pub domains: Vec<Domain>,
    /// What is tied to it.
    pub links: Vec<Link>,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
}

/// A named list of DNS names.
#[derive(Clone, Debug)]
pub struct NameSet {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// DNS names in lower case; `*.x` for any depth below `x`.
    pub names: Vec<Name>,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
}

/// What a DNS name stands for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RecordData {
    /// Addresses.
    Addresses(Vec<IpAddr>),
    /// Another name.
    Alias(Name),
}

/// A DNS record.
#[derive(Clone, Debug)]
pub struct DnsRecord {
    /// The name in lower case; `*.x` for any depth below `x`.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// What it stands for.
    pub data: RecordData,
}

/// A private DNS zone.
#[derive(Clone, Debug)]
pub struct DnsZone {
    /// The name as written: an id.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// The DNS name that it is about, in lower case.
    pub apex: Name,
    /// The networks that it is linked to.
    pub networks: Vec<Reference<Network>>,
    /// Its records.
    pub records: Vec<DnsRecord>,
    /// Whether a name without a record is looked up in public; none for the asking network's setting.
    pub fall_through: Option<bool>,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
}

/// What only rules of a firewall policy say.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FirewallMatch {
    /// The section, by its place in the policy; none for rules outside of sections.
    pub section: Option<u32>,
    /// Zones by which packets come in; none for all.
    pub from_zones: Option<Vec<Name>>,
    /// Zones by which packets go out; none for all.
    pub to_zones: Option<Vec<Name>>,
    /// Sets of names for which the packet must have been meant; none where the rule is not about names.
    pub names: Option<Vec<Reference<NameSet>>>,
    /// Whether the rule has destinations beside its names, so that either suffices.
    pub or_destinations: bool,
    /// Which destinations the rule is not about.
    pub except_destinations: Vec<Peer>,
    /// What else has to hold that no snapshot holds: a person, a path, a certificate.
    pub condition: Option<Name>,
}

/// A section of a firewall policy.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Section {
    /// The name as written.
    pub name: Name,
    /// Lowest first; none comes last.
    pub priority: Option<u32>,
    /// The class that its rules are of.
    pub class: Option<Name>,
}
