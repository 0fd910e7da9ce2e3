//! The names of all items, before the items are built: so that any may refer to any.

use crate::reading::{MOST_HELPED, Reading, Spanned, did_you_mean};
use crate::sections::Collected;
use heronshale_model::estate::{
    AddressSet, Balancer, Division, DnsZone, Filter, Firewall, Gateway, Hub, Id, Interface, Name,
    NameSet, Network, Owner, Peering, PlatformService, Reserve, RouteTable, Site, Subnet, Workload,
};
use heronshale_model::source::{Problem, Span};
use rustc_hash::{FxHashMap, FxHashSet};

/// The names of one kind.
pub(super) struct Registry<T> {
    what: &'static str,
    by_name: FxHashMap<Name, (Id<T>, Span)>,
    /// Names of items that are there and could not be read.
    broken: FxHashSet<Name>,
    /// The ids of the items that are not built yet, in their order.
    reserved: std::vec::IntoIter<Id<T>>,
}

impl<T> Registry<T> {
    fn new<'i>(
        what: &'static str,
        reserve: &mut Reserve<T>,
        names: impl Iterator<Item = (&'i Name, Span)>,
        broken: FxHashSet<Name>,
        reading: &mut Reading,
    ) -> Self {
        let mut by_name: FxHashMap<Name, (Id<T>, Span)> = FxHashMap::default();
        let mut reserved = Vec::new();
        for (name, span) in names {
            let id = reserve.id();
            reserved.push(id);
            if let Some((_, earlier)) = by_name.get(name) {
                reading.problems.push(Problem {
                    title: format!("two {what}s have the name `{name}`"),
                    span,
                    label: "the second".to_owned(),
                    related: Some((*earlier, "the first".to_owned())),
                    help: None,
                });
            } else {
                by_name.insert(name.clone(), (id, span));
            }
        }
        Self {
            what,
            by_name,
            broken,
            reserved: reserved.into_iter(),
        }
    }

    /// The id of the next item to build.
    ///
    /// # Panics
    /// If all are built.
    pub fn next(&mut self) -> Id<T> {
        self.reserved
            .next()
            .expect("an id was reserved for every item")
    }

    /// The item of a name.
    pub fn get(&self, name: &str) -> Option<Id<T>> {
        self.by_name.get(name).map(|(id, _)| *id)
    }

    /// The item of a name that has to be there.
    pub fn need(&self, name: &Spanned<Name>, reading: &mut Reading) -> Option<Id<T>> {
        let found = self.get(&name.value);
        if found.is_none() && !self.broken.contains(&name.value) {
            let title = format!("there is no {} called `{}`", self.what, name.value);
            if reading.problems.len() > MOST_HELPED {
                reading.fail(name.span, title, "not in the snapshot", None);
                return found;
            }
            let names = self.by_name.keys().chain(&self.broken).map(AsRef::as_ref);
            let help = did_you_mean(&name.value, names).or_else(|| {
                let mut all: Vec<&str> = self.by_name.keys().map(AsRef::as_ref).collect();
                all.sort_unstable();
                (!all.is_empty() && all.len() <= 8).then(|| format!("there are {}", all.join(", ")))
            });
            reading.fail(name.span, title, "not in the snapshot", help);
        }
        found
    }
}

/// The names of every kind.
pub(super) struct Names {
    pub owners: Registry<Owner>,
    pub divisions: Registry<Division>,
    pub networks: Registry<Network>,
    pub subnets: Registry<Subnet>,
    pub workloads: Registry<Workload>,
    pub interfaces: Registry<Interface>,
    pub address_sets: Registry<AddressSet>,
    pub groups: Registry<Filter>,
    pub acls: Registry<Filter>,
    pub policies: Registry<Filter>,
    pub own_firewalls: Registry<Filter>,
    pub route_tables: Registry<RouteTable>,
    pub gateways: Registry<Gateway>,
    pub peerings: Registry<Peering>,
    pub sites: Registry<Site>,
    pub firewalls: Registry<Firewall>,
    pub firewall_policies: Registry<Filter>,
    pub balancers: Registry<Balancer>,
    pub services: Registry<PlatformService>,
    pub hubs: Registry<Hub>,
    pub name_sets: Registry<NameSet>,
    pub dns_zones: Registry<DnsZone>,
    pub conducts: Registry<()>,
}

impl Names {
    pub fn new(collected: &Collected, reading: &mut Reading) -> Self {
        macro_rules! registry {
            ($section:ident, $what:literal) => {
                registry!($section, $what, &mut Reserve::default())
            };
            ($section:ident, $what:literal, $first:expr) => {{
                let names = collected
                    .$section
                    .iter()
                    .map(|(_, item)| (&item.id.0.value, item.id.0.span));
                let broken = collected
                    .broken
                    .iter()
                    .filter(|(section, _)| *section == stringify!($section));
                Registry::new(
                    $what,
                    $first,
                    names,
                    broken.map(|(_, id)| id.clone()).collect(),
                    reading,
                )
            }};
        }
        // The filters of all kinds are one table, in this order.
        let filters = &mut Reserve::default();
        let groups = registry!(security_groups, "security group", filters);
        let acls = registry!(network_acls, "network ACL", filters);
        let policies = registry!(scope_policies, "scope policy", filters);
        let own_firewalls = registry!(own_firewalls, "own firewall", filters);
        let firewall_policies = registry!(firewall_policies, "firewall policy", filters);
        Self {
            owners: registry!(owners, "owner"),
            divisions: registry!(divisions, "division"),
            networks: registry!(networks, "network"),
            subnets: registry!(subnets, "subnet"),
            workloads: registry!(workloads, "workload"),
            interfaces: registry!(interfaces, "interface"),
            address_sets: registry!(address_sets, "address set"),
            groups,
            acls,
            policies,
            own_firewalls,
            route_tables: registry!(route_tables, "route table"),
            gateways: registry!(gateways, "gateway"),
            peerings: registry!(peerings, "peering"),
            sites: registry!(sites, "site"),
            firewalls: registry!(firewalls, "firewall"),
            firewall_policies,
            balancers: registry!(balancers, "balancer"),
            services: registry!(services, "service"),
            hubs: registry!(hubs, "hub"),
            name_sets: registry!(name_sets, "name set"),
            dns_zones: registry!(dns_zones, "DNS zone"),
            conducts: registry!(conducts, "conduct"),
        }
    }

    /// Whether an object of a kind is in the snapshot.
    pub fn exists(&self, kind: &str, name: &str) -> bool {
        match kind {
            "network" => self.networks.get(name).is_some(),
            "subnet" => self.subnets.get(name).is_some(),
            "interface" => self.interfaces.get(name).is_some(),
            "workload" => self.workloads.get(name).is_some(),
            "group" => self.groups.get(name).is_some(),
            "acl" => self.acls.get(name).is_some(),
            "policy" => self.policies.get(name).is_some(),
            "own-firewall" => self.own_firewalls.get(name).is_some(),
            "set" => self.address_sets.get(name).is_some(),
            "table" => self.route_tables.get(name).is_some(),
            "gateway" => self.gateways.get(name).is_some(),
            "peering" => self.peerings.get(name).is_some(),
            "site" => self.sites.get(name).is_some(),
            "firewall" => self.firewalls.get(name).is_some(),
            "firewall-policy" => self.firewall_policies.get(name).is_some(),
            "balancer" => self.balancers.get(name).is_some(),
            "service" => self.services.get(name).is_some(),
            "hub" => self.hubs.get(name).is_some(),
            "names" => self.name_sets.get(name).is_some(),
            "zone" => self.dns_zones.get(name).is_some(),
            _ => false,
        }
    }
}
