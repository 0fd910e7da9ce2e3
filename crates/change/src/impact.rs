//! What edits can touch: connections that no edit can touch fare alike in both states, and are not walked.
//!
//! Only rules of groups and network ACLs are looked at closely: these decide at the interfaces to which they are bound. Whatever
//! else is edited, or if such an interface stands in the middle of other connections, everything is walked.

use crate::compare::everything;
use heronshale_engine::fabric::Fabric;
use heronshale_model::change::Edit;
use heronshale_model::estate::{Filter, GatewayKind, Id, Interface, Subnet};
use heronshale_sets::address::Addresses;
use heronshale_sets::packet::PacketSet;
use rustc_hash::FxHashSet;

/// The addresses whose connections some edit can touch.
#[derive(Clone, Debug)]
pub struct Touched {
    /// Own addresses.
    own: Addresses,
    /// Own addresses, and public ones that stand for them.
    asked: Addresses,
}

impl Touched {
    /// What can be touched of the connections from some addresses to others.
    pub(crate) fn of(&self, sources: &Addresses, destinations: &Addresses) -> PacketSet {
        let out = everything(&sources.intersection(&self.own), destinations);
        let inward = everything(
            &sources.difference(&self.own),
            &destinations.intersection(&self.asked),
        );
        out.union(&inward)
    }
}

/// What some edits can touch; none if that may be everything.
pub fn touched(views: (&Fabric<'_>, &Fabric<'_>), edits: &[Edit]) -> Option<Touched> {
    let mut found = Touched {
        own: Addresses::empty(),
        asked: Addresses::empty(),
    };
    for view in [views.0, views.1] {
        let interfaces = at_interfaces(view, edits)?;
        for id in interfaces {
            if stands_between(view, id) {
                return None;
            }
            let own = &view.estate.interfaces[id].addresses;
            found.own = found.own.union(own);
            found.asked = found.asked.union(own);
            let public = view.estate.public_addresses.items().iter();
            for public in public.filter(|public| public.interface == Some(id)) {
                found.asked = found.asked.union(&Addresses::single(public.address));
            }
        }
    }
    Some(found)
}

/// The interfaces at which the edited filters decide.
fn at_interfaces(view: &Fabric<'_>, edits: &[Edit]) -> Option<FxHashSet<Id<Interface>>> {
    let estate = view.estate;
    let mut found = FxHashSet::default();
    for edit in edits {
        // A whole group may be named by rules elsewhere.
        if edit.whole {
            return None;
        }
        let filters: Vec<Id<Filter>> = estate
            .filters
            .iter()
            .filter(|(_, filter)| {
                *filter.name == *edit.item && filter.origin.section == edit.section
            })
            .map(|(id, _)| id)
            .collect();
        match edit.section {
            "security_groups" => {
                for id in filters {
                    found.extend(view.carriers(id));
                    let subnets = view.bound_subnets(id);
                    let inside = |(_, one): &(_, &heronshale_model::estate::Interface)| {
                        subnets.contains(&one.subnet)
                    };
                    let all = estate.interfaces.iter().filter(inside);
                    found.extend(all.map(|(id, _)| id));
                }
            }
            "network_acls" => {
                let subnets: Vec<_> = estate
                    .subnets
                    .iter()
                    .filter(|(_, subnet)| {
                        let acl = subnet.acl.as_ref().and_then(|acl| acl.found());
                        acl.is_some_and(|acl| filters.contains(&acl))
                    })
                    .map(|(id, _)| id)
                    .collect();
                if others_cross(view, &subnets) {
                    return None;
                }
                let all = estate.interfaces.iter();
                let inside = all.filter(|(_, one)| subnets.contains(&one.subnet));
                found.extend(inside.map(|(id, _)| id));
            }
            _ => return None,
        }
    }
    Some(found)
}

/// Whether packets of others cross the ACLs of some subnets: those of gateways, balancers and hubs that stand there.
fn others_cross(view: &Fabric<'_>, subnets: &[Id<Subnet>]) -> bool {
    let estate = view.estate;
    let gateways = estate.gateways.items().iter();
    let mut gateways = gateways.filter_map(|gateway| match &gateway.kind {
        GatewayKind::Nat { subnet, .. } => Some(*subnet),
        _ => None,
    });
    let balancers = estate.balancers.items().iter();
    let mut balancers = balancers.filter_map(|balancer| balancer.subnet);
    let links = estate.hubs.items().iter().flat_map(|hub| &hub.links);
    let mut links = links.filter_map(|link| link.subnet);
    let is_there = |subnet: Id<Subnet>| subnets.contains(&subnet);
    gateways.any(is_there) || balancers.any(is_there) || links.any(is_there)
}

/// Whether connections of others may lead by an interface.
fn stands_between(view: &Fabric<'_>, id: Id<Interface>) -> bool {
    let estate = view.estate;
    let one = &estate.interfaces[id];
    let behind = estate.balancers.items().iter().any(|balancer| {
        let mut ends = balancer.back_ends.iter();
        ends.any(|end| {
            end.interface == Some(id)
                || end
                    .address
                    .is_some_and(|address| one.addresses.contains(address))
        })
    });
    let public = estate.public_addresses.items().iter();
    let public = public
        .filter(|public| public.interface == Some(id))
        .map(|public| Addresses::single(public.address));
    let asked = public.fold(one.addresses.clone(), |sum, more| sum.union(&more));
    // What is sent to a firewall may be sent on to it.
    let translated = estate.firewalls.items().iter().any(|firewall| {
        let all = firewall.destination_translations.iter();
        let mut all = all.chain(&firewall.source_translations);
        all.any(|one| one.to.is_some_and(|to| asked.contains(to)))
    });
    let several = one.addresses.overlaps(view.held_by_several());
    let serves = estate
        .services
        .items()
        .iter()
        .any(|service| service.interfaces.contains(&id) || service.private_doors.contains(&id));
    serves || one.forwards || view.roles().contains_key(&id) || behind || translated || several
}
