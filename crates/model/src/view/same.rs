//! Which parts of an estate a copy of it shares.

use crate::estate::{Estate, Filter, Id};

/// Which parts of two estates are one: nothing that rests on these alone differs between the two.
///
/// A table counts as one only if neither estate has changed it since the one was copied from the other, so that a change
/// that changed nothing counts as a change.
#[derive(Clone, Copy, Debug)]
pub struct Same {
    /// What bounds the internet and holds public addresses: networks, sites, gateways, balancers, services, firewalls, interfaces.
    pub bounds: bool,
    /// Interfaces, and what they belong to: subnets, workloads, networks, divisions, public addresses; and that there are as many
    /// filters.
    pub index: bool,
    /// What joins networks: peerings, hubs.
    pub joined: bool,
    /// Address sets.
    pub sets: bool,
    /// Name sets and names.
    pub names: bool,
    /// What is lacking, and what holds for the whole estate.
    pub gaps: bool,
    /// Firewalls.
    pub firewalls: bool,
    /// Balancers.
    pub balancers: bool,
    /// Gateways.
    pub gateways: bool,
    /// Platform services.
    pub services: bool,
    /// Route tables.
    pub tables: bool,
    /// All filters.
    pub filters: bool,
}

impl Same {
    /// Compares two estates.
    pub fn of(one: &Estate, other: &Estate) -> Self {
        // A new field does not compile here until somebody says on what rests on it.
        let Estate {
            name: _,
            taken: _,
            sources: _,
            settings,
            owners: _,
            divisions,
            networks,
            subnets,
            workloads,
            interfaces,
            public_addresses,
            address_sets,
            filters,
            route_tables,
            gateways,
            peerings,
            sites,
            firewalls,
            balancers,
            services,
            hubs,
            name_sets,
            dns_zones,
            public_names,
            gaps,
            probes,
            platform_traffic,
            remarks: _,
        } = one;
        let networks = networks.is_same(&other.networks);
        let interfaces = interfaces.is_same(&other.interfaces);
        let public = public_addresses.is_same(&other.public_addresses);
        // What holds for the whole estate counts as part of what is lacking in it.
        let gaps = gaps.is_same(&other.gaps)
            && *settings == other.settings
            && *platform_traffic == other.platform_traffic;
        let [firewalls, balancers, gateways, services] = [
            firewalls.is_same(&other.firewalls),
            balancers.is_same(&other.balancers),
            gateways.is_same(&other.gateways),
            services.is_same(&other.services),
        ];
        let devices = firewalls && balancers && gateways && services;
        Self {
            bounds: networks
                && interfaces
                && public
                && gaps
                && devices
                && sites.is_same(&other.sites),
            index: networks
                && gaps
                && interfaces
                && public
                && divisions.is_same(&other.divisions)
                && subnets.is_same(&other.subnets)
                && workloads.is_same(&other.workloads)
                && filters.len() == other.filters.len(),
            joined: networks
                && gaps
                && peerings.is_same(&other.peerings)
                && hubs.is_same(&other.hubs),
            sets: address_sets.is_same(&other.address_sets) && *probes == other.probes,
            names: name_sets.is_same(&other.name_sets)
                && dns_zones.is_same(&other.dns_zones)
                && public_names.is_same(&other.public_names),
            gaps,
            firewalls,
            balancers,
            gateways,
            services,
            tables: route_tables.is_same(&other.route_tables),
            filters: filters.is_same(&other.filters),
        }
    }

    /// Whether named peers stand for the same addresses.
    pub fn named_peers(&self) -> bool {
        self.index && self.joined && self.gaps && self.bounds
    }

    /// Whether all peers stand for the same addresses.
    pub fn peers(&self) -> bool {
        self.named_peers() && self.sets
    }

    /// Whether everything but filters is the same.
    pub fn all_but_filters(&self) -> bool {
        self.peers() && self.names && self.tables
    }
}

/// Whether a filter decides the same in two estates: its rules are one list, and its kind is equal.
pub fn is_same_filter(one: &Estate, other: &Estate, id: Id<Filter>) -> bool {
    let (one, other) = (&one.filters[id], &other.filters[id]);
    let rules = one.rules.iter().zip(&other.rules);
    one.kind == other.kind && rules.into_iter().all(|(one, other)| one.is_same(other))
}
