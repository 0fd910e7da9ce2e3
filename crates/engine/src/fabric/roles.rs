//! Which interfaces are part of devices.

use heronshale_model::estate::{Balancer, Firewall, Id, Interface, PlatformService};
use heronshale_model::view::View;
use rustc_hash::FxHashMap;

/// What an interface is part of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Role {
    /// A firewall.
    Firewall(Id<Firewall>),
    /// A balancer that ends connections itself.
    Proxy(Id<Balancer>),
    /// A private door of a service.
    Door(Id<PlatformService>),
}

/// The interfaces that are part of devices.
pub(super) fn roles(view: &View<'_>) -> FxHashMap<Id<Interface>, Role> {
    let mut roles = FxHashMap::default();
    for (id, firewall) in view.estate.firewalls.iter() {
        roles.extend(
            firewall
                .legs
                .iter()
                .map(|leg| (leg.interface, Role::Firewall(id))),
        );
    }
    for (id, balancer) in view.estate.balancers.iter() {
        roles.extend(
            balancer
                .interfaces
                .iter()
                .map(|interface| (*interface, Role::Proxy(id))),
        );
    }
    for (id, service) in view.estate.services.iter() {
        roles.extend(
            service
                .private_doors
                .iter()
                .map(|door| (*door, Role::Door(id))),
        );
    }
    roles
}
