//! Public addresses: who holds each, and as which a network's own addresses leave.

use heronshale_model::estate::{
    Balancer, Firewall, Gateway, GatewayKind, Id, Interface, Network, PlatformService,
};
use heronshale_model::view::View;
use heronshale_sets::address::{Addresses, internet_at_large};
use rustc_hash::FxHashMap;
use std::net::IpAddr;

/// Who holds a public address.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PublicHolder {
    /// An interface, by its own address.
    Interface(Id<Interface>, IpAddr),
    /// A balancer, by the address inside its network for which the front end stands, if it has one.
    Balancer(Id<Balancer>, Option<IpAddr>),
    /// A NAT gateway, by its own address.
    Nat(Id<Gateway>, Option<IpAddr>),
    /// A firewall in a hub.
    Firewall(Id<Firewall>),
    /// A service, by its public door.
    Service(Id<PlatformService>),
    /// Nobody that the snapshot knows.
    Nobody,
}

/// The estate's public addresses and its networks' internet gateways.
#[derive(Debug)]
pub struct PublicIndex {
    /// Each public address with its holder.
    pub singles: Vec<(IpAddr, PublicHolder)>,
    /// Whole blocks: public doors, hub firewalls.
    pub blocks: Vec<(Addresses, PublicHolder)>,
    /// All of them.
    pub all: Addresses,
    /// For each network its own addresses that leave as public ones, in the order of `singles`.
    pub mapped: FxHashMap<Id<Network>, Vec<(IpAddr, IpAddr)>>,
    /// What is known of networks that the snapshot lacks, as far as it may be reached in public.
    pub lacking: Addresses,
}

impl PublicIndex {
    pub(super) fn new(view: &View<'_>) -> Self {
        let estate = view.estate;
        let mut singles: Vec<(IpAddr, PublicHolder)> = Vec::new();
        for gateway in estate.gateways.iter() {
            if let GatewayKind::Nat {
                public: Some(public),
                address,
                ..
            } = &gateway.1.kind
            {
                singles.push((*public, PublicHolder::Nat(gateway.0, *address)));
            }
        }
        for (id, balancer) in estate.balancers.iter() {
            for front in balancer.front_ends.iter().filter(|front| front.public) {
                singles.push((front.address, PublicHolder::Balancer(id, front.private)));
            }
        }
        for public in estate.public_addresses.items() {
            let holder = match (public.interface, public.private) {
                (Some(interface), Some(private)) => PublicHolder::Interface(interface, private),
                _ if singles.iter().any(|(known, _)| *known == public.address) => continue,
                _ => PublicHolder::Nobody,
            };
            singles.push((public.address, holder));
        }
        let mut mapped: FxHashMap<Id<Network>, Vec<(IpAddr, IpAddr)>> = FxHashMap::default();
        for (address, holder) in &singles {
            let (network, own) = match holder {
                PublicHolder::Interface(interface, own) => (estate.network_of(*interface), *own),
                PublicHolder::Nat(gateway, Some(own)) => (estate.gateways[*gateway].network, *own),
                _ => continue,
            };
            mapped.entry(network).or_default().push((own, *address));
        }
        let mut blocks = Vec::new();
        for (id, service) in estate.services.iter() {
            if let Some(door) = &service.public_door {
                blocks.push((door.addresses.clone(), PublicHolder::Service(id)));
            }
        }
        for (id, firewall) in estate
            .firewalls
            .iter()
            .filter(|(_, firewall)| firewall.legs.is_empty())
        {
            blocks.push((
                firewall.addresses.intersection(view.internet()),
                PublicHolder::Firewall(id),
            ));
        }
        let held: Addresses = singles.iter().map(|(address, _)| *address).collect();
        let all = blocks.iter().fold(held, |sum, (block, _)| sum.union(block));
        let lacking = estate.gaps.iter().filter_map(|gap| gap.blocks.as_ref());
        let lacking = lacking.fold(Addresses::empty(), |sum, blocks| sum.union(blocks));
        let lacking = lacking.intersection(&internet_at_large());
        Self {
            singles,
            blocks,
            all,
            mapped,
            lacking,
        }
    }
}

/// The gateway by which a network is on the internet, if it is.
pub fn internet_gateway(view: &View<'_>, network: Id<Network>) -> Option<Id<Gateway>> {
    let fits = |gateway: &Gateway| {
        gateway.network == network
            && matches!(gateway.kind, GatewayKind::Internet { attached: true, .. })
    };
    view.estate
        .gateways
        .iter()
        .find(|(_, gateway)| fits(gateway))
        .map(|(id, _)| id)
}
