//! Where filters are enforced: which interfaces a filter acts on, and with which others as one list.

use crate::stage::policies_at;
use heronshale_model::estate::{
    Estate, Filter, FilterKind, Firewall, Id, Interface, Lack, Network, Peer, Reference, Rule,
    Subnet,
};
use heronshale_model::view::View;

/// One list of rules as it is enforced: the filters that are merged in it, in a network.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Enforced {
    /// The network; none for a filter that is bound to nothing.
    pub network: Option<Id<Network>>,
    /// The filters of the list: several for ordered groups at one place.
    pub filters: Vec<Id<Filter>>,
    /// Whether the snapshot lacks some of them, or may.
    pub lacking: bool,
}

/// For each filter the interfaces on which it acts.
pub struct Bindings {
    acts_on: Vec<Vec<Id<Interface>>>,
    acl_subnets: Vec<Vec<Id<Subnet>>>,
}

impl Bindings {
    /// Looks at every interface and subnet once.
    pub fn new(view: &View<'_>) -> Self {
        let estate = view.estate;
        let mut acts_on: Vec<Vec<Id<Interface>>> = vec![Vec::new(); estate.filters.len()];
        let mut acl_subnets: Vec<Vec<Id<Subnet>>> = vec![Vec::new(); estate.filters.len()];
        for (id, subnet) in estate.subnets.iter() {
            if let Some(acl) = subnet.acl.as_ref().and_then(Reference::found) {
                acl_subnets[acl.index()].push(id);
            }
        }
        for (id, interface) in estate.interfaces.iter() {
            let subnet = &estate.subnets[interface.subnet];
            let mut here: Vec<Id<Filter>> =
                subnet.acl.iter().filter_map(Reference::found).collect();
            if !interface.unfiltered {
                here.extend(
                    interface
                        .groups
                        .iter()
                        .chain(&subnet.groups)
                        .filter_map(Reference::found),
                );
                here.extend(estate.own_firewall(id).and_then(Reference::found));
                here.extend(policies_at(view, id));
            }
            here.sort_unstable();
            here.dedup();
            for filter in here {
                acts_on[filter.index()].push(id);
            }
        }
        Self {
            acts_on,
            acl_subnets,
        }
    }

    /// The interfaces on which a filter acts: with a group also those of the subnets that it is bound to.
    pub fn interfaces(&self, filter: Id<Filter>) -> &[Id<Interface>] {
        &self.acts_on[filter.index()]
    }

    /// The subnets that have this ACL.
    pub fn acl_subnets(&self, filter: Id<Filter>) -> &[Id<Subnet>] {
        &self.acl_subnets[filter.index()]
    }

    /// Whether anything names the filter as bound to it, be there interfaces or not.
    pub fn is_bound(&self, view: &View<'_>, filter: Id<Filter>) -> bool {
        !self.interfaces(filter).is_empty()
            || !self.acl_subnets(filter).is_empty()
            || !view.bound_subnets(filter).is_empty()
    }

    /// The lists in which a filter is enforced, each once; one outside of all networks if it is bound to nothing.
    pub fn enforced(&self, view: &View<'_>, filter: Id<Filter>) -> Vec<Enforced> {
        let estate = view.estate;
        let ordered = matches!(estate.filters[filter].kind, FilterKind::OrderedGroup { .. });
        let mut all: Vec<Enforced> = Vec::new();
        let mut add = |enforced: Enforced| {
            if !all.contains(&enforced) {
                all.push(enforced);
            }
        };
        let merged = |groups: &[Reference<Filter>], network, lacking: bool| {
            let filters: Vec<_> = groups.iter().filter_map(Reference::found).collect();
            let lacking = lacking || filters.len() < groups.len();
            Enforced {
                network: Some(network),
                filters,
                lacking,
            }
        };
        let alone = |network| Enforced {
            network,
            filters: vec![filter],
            lacking: false,
        };
        for id in self.interfaces(filter) {
            let network = estate.network_of(*id);
            let groups = &estate.interfaces[*id].groups;
            if !ordered {
                add(alone(Some(network)));
            } else if groups.iter().any(|group| group.found() == Some(filter)) {
                add(merged(groups, network, view.lacks_at(*id, Lack::Groups)));
            }
        }
        for subnet in self
            .acl_subnets(filter)
            .iter()
            .chain(view.bound_subnets(filter))
        {
            let item = &estate.subnets[*subnet];
            add(if ordered {
                merged(&item.groups, item.network, false)
            } else {
                alone(Some(item.network))
            });
        }
        if all.is_empty() {
            all.push(alone(None));
        }
        all
    }
}

/// The firewalls that a firewall policy acts on: theirs, or a base of theirs.
pub fn firewalls_with(estate: &Estate, policy: Id<Filter>) -> Vec<Id<Firewall>> {
    let has = |own: Option<Id<Filter>>| {
        let above = |id: &Id<Filter>| match &estate.filters[*id].kind {
            FilterKind::FirewallPolicy { base, .. } => base.as_ref().and_then(Reference::found),
            _ => None,
        };
        std::iter::successors(own, above).any(|id| id == policy)
    };
    let of = |firewall: &Firewall| firewall.policy.as_ref().and_then(Reference::found);
    estate
        .firewalls
        .iter()
        .filter(|(_, firewall)| has(of(firewall)))
        .map(|(id, _)| id)
        .collect()
}

/// Whether what a rule matches depends on where it is enforced: it names groups, tags, identities or interfaces.
pub fn depends_on_place(rule: &Rule) -> bool {
    let named = |peer: &Peer| {
        matches!(
            peer,
            Peer::Group(_) | Peer::Tag(_) | Peer::Identity(_) | Peer::Interface(_)
        )
    };
    rule.peers
        .iter()
        .flatten()
        .chain(&rule.except)
        .chain(rule.local.iter().flatten())
        .any(named)
}
