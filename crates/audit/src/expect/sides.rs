//! The two sides of an expectation: who sends, and who is reached.

use heronshale_engine::fabric::Fabric;
use heronshale_engine::sweep::{Node, ReachedBy};
use heronshale_engine::walk::Start;
use heronshale_model::ends::{End, EndError};
use heronshale_model::estate::{Balancer, Firewall, Id, Interface, Name, PlatformService, Site};
use heronshale_sets::address::Addresses;
use rustc_hash::{FxHashMap, FxHashSet};

/// Reads ends.
pub(super) fn ends(view: &Fabric<'_>, names: &[Name]) -> Result<Vec<End>, EndError> {
    names.iter().map(|name| End::parse(view, name)).collect()
}

/// Who sends, and from which addresses.
#[derive(Clone, Debug, Default)]
pub(super) struct Senders {
    /// Interfaces, each with those of its addresses that are meant.
    pub interfaces: FxHashMap<Id<Interface>, Addresses>,
    /// Addresses of the internet.
    pub internet: Addresses,
    /// Addresses of sites.
    pub sites: FxHashMap<Id<Site>, Addresses>,
}

impl Senders {
    pub fn of(view: &Fabric<'_>, ends: &[End]) -> Self {
        let mut found = Self::default();
        for end in ends {
            match end {
                End::Internet => found.internet = view.internet_end(),
                End::Site(id) => {
                    found
                        .sites
                        .insert(*id, view.estate.sites[*id].holds.clone());
                }
                End::Any | End::Block(_) | End::Set(_) => {
                    found.with_addresses(view, &end.addresses(view))
                }
                _ => {
                    for id in end.interfaces(view) {
                        found
                            .interfaces
                            .insert(id, view.estate.interfaces[id].addresses.clone());
                    }
                }
            }
        }
        found
    }

    fn with_addresses(&mut self, view: &Fabric<'_>, wanted: &Addresses) {
        for (id, interface) in view.estate.interfaces.iter() {
            let own = interface.addresses.intersection(wanted);
            if !own.is_empty() {
                let known = self.interfaces.entry(id).or_default();
                *known = known.union(&own);
            }
        }
        for (id, site) in view.estate.sites.iter() {
            let own = site.holds.intersection(wanted);
            if !own.is_empty() {
                let known = self.sites.entry(id).or_default();
                *known = known.union(&own);
            }
        }
        self.internet = self
            .internet
            .union(&view.internet_end().intersection(wanted));
    }

    pub fn is_empty(&self) -> bool {
        self.interfaces.is_empty() && self.internet.is_empty() && self.sites.is_empty()
    }

    /// The interfaces in the order of the snapshot.
    pub fn sorted(&self) -> Vec<Id<Interface>> {
        let mut all: Vec<Id<Interface>> = self.interfaces.keys().copied().collect();
        all.sort_unstable();
        all
    }

    /// From which addresses a node sends, and where it starts; by one member for all.
    pub fn start(&self, node: &Node, member: Option<Id<Interface>>) -> Option<(Start, Addresses)> {
        match node {
            Node::Interfaces(_) => {
                let id = member?;
                let addresses = self.interfaces.get(&id)?;
                Some((Start::Interfaces(vec![id]), addresses.clone()))
            }
            Node::Internet => {
                (!self.internet.is_empty()).then(|| (Start::Internet, self.internet.clone()))
            }
            Node::Site(id) => self
                .sites
                .get(id)
                .map(|addresses| (Start::Site(*id), addresses.clone())),
            Node::Service(_) | Node::Lacking(_) => None,
        }
    }

    /// Those of its addresses that start there.
    pub fn sources(&self, start: &Start) -> Addresses {
        match start {
            Start::Interfaces(all) => all
                .iter()
                .filter_map(|id| self.interfaces.get(id))
                .fold(Addresses::empty(), |sum, addresses| sum.union(addresses)),
            Start::Internet => self.internet.clone(),
            Start::Site(id) => self.sites.get(id).cloned().unwrap_or_default(),
        }
    }
}

/// Who is reached.
#[derive(Clone, Debug, Default)]
pub(super) struct Receivers {
    /// Interfaces, by whatever address.
    pub interfaces: FxHashSet<Id<Interface>>,
    /// Whoever is behind these, by their front ends.
    pub balancers: FxHashSet<Id<Balancer>>,
    /// Platform services, by any of their doors.
    pub services: FxHashSet<Id<PlatformService>>,
    /// Interfaces of services' own, each on the service's ports.
    pub of_services: FxHashMap<Id<Interface>, Id<PlatformService>>,
    /// Sites, by whatever leads there: what they hold, and what they only announce.
    pub sites: FxHashSet<Id<Site>>,
    /// Whoever answers when these are asked: addresses of the internet, of sites, public ones.
    pub asked: Addresses,
}

impl Receivers {
    /// The same, where a service that is reached by one of its doors is meant by all of its entrances.
    pub fn by_any_entrance(view: &Fabric<'_>, ends: &[End]) -> Self {
        let mut found = Self::of(view, ends);
        for (id, service) in view.estate.services.iter() {
            let is_meant = |door: &Id<Interface>| {
                found.interfaces.contains(door)
                    || view.estate.interfaces[*door]
                        .addresses
                        .overlaps(&found.asked)
            };
            let public = service
                .public_door
                .as_ref()
                .is_some_and(|door| door.addresses.overlaps(&found.asked));
            // Every address is everybody's, and no door in particular.
            if !ends.contains(&End::Any) && (public || service.private_doors.iter().any(is_meant)) {
                found.with_service(view, id);
            }
        }
        found
    }

    /// A service by all of its entrances: doors, interfaces of its own, the balancer behind its doors.
    fn with_service(&mut self, view: &Fabric<'_>, id: Id<PlatformService>) {
        let service = &view.estate.services[id];
        self.services.insert(id);
        self.of_services
            .extend(service.interfaces.iter().map(|interface| (*interface, id)));
        self.balancers.extend(service.balancer);
    }

    pub fn of(view: &Fabric<'_>, ends: &[End]) -> Self {
        let mut found = Self::default();
        for end in ends {
            match end {
                End::Site(id) => {
                    found.sites.insert(*id);
                }
                End::Internet | End::Any | End::Block(_) | End::Set(_) => {
                    let wanted = end.addresses(view);
                    if *end == End::Any {
                        found.sites.extend(view.estate.sites.ids());
                    }
                    let own = |id: &Id<Interface>| {
                        view.estate.interfaces[*id].addresses.overlaps(&wanted)
                    };
                    found
                        .interfaces
                        .extend(view.estate.interfaces.ids().filter(own));
                    found.asked = found.asked.union(&wanted);
                }
                End::Balancer(id) => {
                    found.balancers.insert(*id);
                }
                End::Service(id) => {
                    found.with_service(view, *id);
                }
                End::Firewall(id) if view.estate.firewalls[*id].legs.is_empty() => {
                    found.asked = found.asked.union(&view.estate.firewalls[*id].addresses);
                }
                _ => found.interfaces.extend(end.interfaces(view)),
            }
        }
        found
    }

    pub fn is_empty(&self) -> bool {
        let none = self.interfaces.is_empty() && self.balancers.is_empty();
        none && self.services.is_empty()
            && self.of_services.is_empty()
            && self.sites.is_empty()
            && self.asked.is_empty()
    }

    /// The addresses by which a node is asked, if it is one of these; by one member for all.
    pub fn asked(
        &self,
        view: &Fabric<'_>,
        node: &Node,
        member: Option<Id<Interface>>,
        by: ReachedBy,
    ) -> Addresses {
        let all = addresses_of(view, node, member, by);
        let meant = matches!(by, ReachedBy::Balancer(id) if self.balancers.contains(&id))
            || member.is_some_and(|id| self.interfaces.contains(&id))
            || matches!(node, Node::Service(id) if self.services.contains(id))
            || matches!(node, Node::Site(id) if self.sites.contains(id));
        let door_of = |id: &Id<PlatformService>| {
            let doors = view.estate.services[*id].private_doors.iter();
            let named = doors.filter(|door| self.interfaces.contains(door));
            named
                .flat_map(|door| view.estate.interfaces[*door].addresses.ranges())
                .collect::<Addresses>()
        };
        match node {
            _ if meant => all,
            Node::Service(id) => all.intersection(&self.asked.union(&door_of(id))),
            _ if member.is_some_and(|id| self.of_services.contains_key(&id)) => all,
            _ => all.intersection(&self.asked),
        }
    }

    /// The services by which an interface is meant, where it is meant as a service's own only; empty for all.
    pub fn services_at<'v>(
        &self,
        view: &'v Fabric<'_>,
        member: Option<Id<Interface>>,
    ) -> &'v [heronshale_model::estate::Service] {
        let service = member
            .filter(|id| !self.interfaces.contains(id))
            .and_then(|id| self.of_services.get(&id));
        service.map_or(&[], |id| &view.estate.services[*id].services)
    }
}

/// The addresses by which a node is asked.
fn addresses_of(
    view: &Fabric<'_>,
    node: &Node,
    member: Option<Id<Interface>>,
    by: ReachedBy,
) -> Addresses {
    let estate = view.estate;
    let of = |id: Id<Interface>| &estate.interfaces[id].addresses;
    let translated = |firewall: &Firewall| {
        let all = firewall.destination_translations.iter();
        all.fold(firewall.addresses.clone(), |sum, one| {
            match &one.destinations {
                Some(peers) => sum.union(&view.peers(peers, None).either()),
                None => Addresses::all(),
            }
        })
    };
    match (by, node) {
        (ReachedBy::Public(id), _) => Addresses::single(estate.public_addresses[id].address),
        (ReachedBy::Balancer(id), _) => estate.balancers[id]
            .front_ends
            .iter()
            .map(|front| front.address)
            .collect(),
        (ReachedBy::Firewall(_) | ReachedBy::Translated, _) => {
            let all = estate.firewalls.items().iter();
            all.fold(Addresses::empty(), |sum, firewall| {
                sum.union(&translated(firewall))
            })
        }
        (ReachedBy::Own, Node::Interfaces(_)) => {
            member.map(|id| of(id).clone()).unwrap_or_default()
        }
        (ReachedBy::Own, Node::Internet) => view.internet_end(),
        (ReachedBy::Own, Node::Site(id)) => {
            estate.sites[*id].holds.union(&estate.sites[*id].announces)
        }
        (ReachedBy::Own, Node::Service(id)) => {
            let service = &estate.services[*id];
            let public = service
                .public_door
                .as_ref()
                .map(|door| door.addresses.clone())
                .unwrap_or_default();
            service
                .private_doors
                .iter()
                .fold(public, |sum, door| sum.union(of(*door)))
        }
        (ReachedBy::Own, Node::Lacking(at)) => estate.gaps[*at].blocks.clone().unwrap_or_default(),
    }
}
