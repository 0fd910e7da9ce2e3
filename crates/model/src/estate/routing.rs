//! Route tables, gateways, peerings and sites.

use super::*;

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
