//! What stands in a thing, is bound to it, or names it: the references of the estate's own structure.

use super::addresses::Search;
use heronshale_audit::describe::peer_text;
use heronshale_model::estate::{
    Estate, FilterKind, GatewayKind, LinkEnd, Named, Peer, Reference, RemarkKind, Scope, Table,
    Target, Translation,
};
use heronshale_model::source::Origin;

/// The name that is looked for, with its kind if one was given.
#[derive(Clone, Copy)]
pub(super) struct Wanted<'n> {
    pub(super) kind: Option<&'n str>,
    pub(super) name: &'n str,
}

impl Wanted<'_> {
    fn is(self, word: &str, name: &str) -> bool {
        self.kind.is_none_or(|kind| kind == word) && name == self.name
    }

    /// Whether an item of a table is meant.
    fn item<T: Named>(self, word: &str, item: &T) -> bool {
        self.is(word, item.name())
    }

    /// Whether a reference leads to what is meant. Missing ones are told by the remarks.
    fn leads<T: Named>(self, word: &str, table: &Table<T>, to: &Reference<T>) -> bool {
        to.found().is_some_and(|id| self.item(word, &table[id]))
    }

    /// Whether a peer names it, as rules write it: `group:web`.
    pub(super) fn peer(self, estate: &Estate, peer: &Peer) -> bool {
        let text = peer_text(estate, peer);
        let text = text.trim_end_matches(" (missing)");
        text.split_once(':')
            .is_some_and(|(word, rest)| self.is(word, rest))
    }
}

/// Everything but rules, sets and routes that refers to the name.
pub(super) fn uses(search: &mut Search<'_, '_>, wanted: Wanted<'_>) {
    places(search, wanted);
    devices(search, wanted);
    policies(search, wanted);
    peers(search, wanted);
    owned(search, wanted);
    missing(search, wanted);
}

/// Networks, subnets, interfaces, tables and what hangs on them.
fn places(search: &mut Search<'_, '_>, wanted: Wanted<'_>) {
    let estate = search.view.estate;
    for division in estate.divisions.items() {
        if division
            .parent
            .is_some_and(|id| wanted.item("division", &estate.divisions[id]))
        {
            search.add("division", &division.name, "is in it", &division.origin);
        }
    }
    for network in estate.networks.items() {
        if network
            .division
            .is_some_and(|id| wanted.item("division", &estate.divisions[id]))
        {
            search.add("network", &network.name, "is in it", &network.origin);
        }
        let main = network.main_table.iter();
        if main
            .clone()
            .any(|to| wanted.leads("table", &estate.route_tables, to))
        {
            search.add("network", &network.name, "its main table", &network.origin);
        }
    }
    for subnet in estate.subnets.items() {
        if wanted.item("network", &estate.networks[subnet.network]) {
            search.add("subnet", &subnet.name, "is in it", &subnet.origin);
        }
    }
    for interface in estate.interfaces.items() {
        if wanted.item("subnet", &estate.subnets[interface.subnet]) {
            search.add("interface", &interface.name, "is in it", &interface.origin);
        }
        if interface
            .workload
            .is_some_and(|id| wanted.item("workload", &estate.workloads[id]))
        {
            search.add(
                "interface",
                &interface.name,
                "belongs to it",
                &interface.origin,
            );
        }
    }
    for public in estate.public_addresses.items() {
        if public
            .interface
            .is_some_and(|id| wanted.item("interface", &estate.interfaces[id]))
        {
            search.add(
                "public address",
                &public.name,
                "leads to it",
                &public.origin,
            );
        }
    }
    for table in estate.route_tables.items() {
        if wanted.item("network", &estate.networks[table.network]) {
            search.add("table", &table.name, "is in it", &table.origin);
        }
    }
    for site in estate.sites.items() {
        if site
            .resolves_as
            .is_some_and(|id| wanted.item("network", &estate.networks[id]))
        {
            search.add("site", &site.name, "resolves names as it", &site.origin);
        }
    }
    for zone in estate.dns_zones.items() {
        let mut networks = zone.networks.iter();
        if networks.any(|to| wanted.leads("network", &estate.networks, to)) {
            search.add("zone", &zone.name, "is linked to it", &zone.origin);
        }
    }
}

/// Gateways, peerings, firewalls, balancers, services and hubs.
fn devices(search: &mut Search<'_, '_>, wanted: Wanted<'_>) {
    let estate = search.view.estate;
    for gateway in estate.gateways.items() {
        let is_subnet = |id| wanted.item("subnet", &estate.subnets[id]);
        let by = match &gateway.kind {
            _ if wanted.item("network", &estate.networks[gateway.network]) => "is in it",
            GatewayKind::Internet {
                table: Some(to), ..
            } if wanted.leads("table", &estate.route_tables, to) => "uses the table",
            GatewayKind::Nat { subnet, .. } if is_subnet(*subnet) => "is in it",
            GatewayKind::Nat { serves, .. } if serves.iter().any(|id| is_subnet(*id)) => {
                "serves it"
            }
            GatewayKind::Site { site, .. } if wanted.item("site", &estate.sites[*site]) => {
                "leads to it"
            }
            _ => continue,
        };
        search.add("gateway", &gateway.name, by, &gateway.origin);
    }
    for peering in estate.peerings.items() {
        let mut sides = peering.sides.iter();
        if sides.any(|side| wanted.leads("network", &estate.networks, &side.network)) {
            search.add("peering", &peering.name, "joins it", &peering.origin);
        }
    }
    let is_interface = |id| wanted.item("interface", &estate.interfaces[id]);
    for firewall in estate.firewalls.items() {
        if firewall.legs.iter().any(|leg| is_interface(leg.interface)) {
            search.add(
                "firewall",
                &firewall.name,
                "one of its interfaces",
                &firewall.origin,
            );
        }
        if firewall
            .hub
            .is_some_and(|id| wanted.item("hub", &estate.hubs[id]))
        {
            search.add("firewall", &firewall.name, "is in it", &firewall.origin);
        }
    }
    for balancer in estate.balancers.items() {
        let back = balancer.back_ends.iter().filter_map(|end| end.interface);
        let by = if wanted.item("network", &estate.networks[balancer.network])
            || balancer
                .subnet
                .is_some_and(|id| wanted.item("subnet", &estate.subnets[id]))
        {
            "is in it"
        } else if back.into_iter().any(is_interface) {
            "one of its back ends"
        } else if balancer.interfaces.iter().any(|id| is_interface(*id)) {
            "one of its interfaces"
        } else {
            continue;
        };
        search.add("balancer", &balancer.name, by, &balancer.origin);
    }
    for service in estate.services.items() {
        let by = if service.private_doors.iter().any(|id| is_interface(*id)) {
            "its private door"
        } else if service.interfaces.iter().any(|id| is_interface(*id)) {
            "one of its interfaces"
        } else if service
            .balancer
            .is_some_and(|id| wanted.item("balancer", &estate.balancers[id]))
        {
            "its balancer"
        } else {
            continue;
        };
        search.add("service", &service.name, by, &service.origin);
    }
    for hub in estate.hubs.items() {
        for link in &hub.links {
            let to = match &link.to {
                LinkEnd::Network(to) => wanted.leads("network", &estate.networks, to),
                LinkEnd::Site(to) => wanted.leads("site", &estate.sites, to),
                LinkEnd::Hub(to) => wanted.leads("hub", &estate.hubs, to),
                LinkEnd::Firewall(to) => wanted.leads("firewall", &estate.firewalls, to),
            };
            let mut steers = link.steer_internet.iter().chain(&link.steer_private);
            let by = if to {
                "leads to it"
            } else if link
                .subnet
                .is_some_and(|id| wanted.item("subnet", &estate.subnets[id]))
            {
                "enters it"
            } else if steers.any(|to| wanted.leads("firewall", &estate.firewalls, to)) {
                "steers traffic to it"
            } else {
                continue;
            };
            search.add(
                "link",
                format!("hub {}, link {}", hub.name, link.name),
                by,
                &link.origin,
            );
        }
    }
}

/// What a policy applies to, and the policy before it.
fn policies(search: &mut Search<'_, '_>, wanted: Wanted<'_>) {
    let estate = search.view.estate;
    for filter in estate.filters.items() {
        let by = match &filter.kind {
            FilterKind::ScopePolicy { scope, targets, .. } => {
                let scoped = match scope {
                    Scope::Estate => false,
                    Scope::Division(id) => wanted.item("division", &estate.divisions[*id]),
                    Scope::Network(id) => wanted.item("network", &estate.networks[*id]),
                };
                let targeted = targets.iter().flatten().any(|target| match target {
                    Target::Tag(_) => false,
                    Target::Identity(name) => wanted.is("identity", name),
                    Target::Network(to) => wanted.leads("network", &estate.networks, to),
                    Target::Subnet(to) => wanted.leads("subnet", &estate.subnets, to),
                    Target::Interface(to) => wanted.leads("interface", &estate.interfaces, to),
                });
                match (scoped, targeted) {
                    (true, _) => "its scope",
                    (false, true) => "one of its targets",
                    (false, false) => continue,
                }
            }
            FilterKind::FirewallPolicy {
                base: Some(base), ..
            } => {
                let base = base.found().map(|id| &estate.filters[id].name);
                match base.is_some_and(|name| wanted.is("firewall-policy", name)) {
                    true => "its base",
                    false => continue,
                }
            }
            _ => continue,
        };
        search.add(filter.kind_word(), &filter.name, by, &filter.origin);
    }
    for id in estate.rule_ids() {
        let rule = estate.rule(id);
        let mut names = rule
            .firewall
            .iter()
            .flat_map(|more| more.names.iter().flatten());
        if names.any(|to| wanted.leads("names", &estate.name_sets, to)) {
            let filter = heronshale_audit::describe::filter_text(estate, id.filter);
            search.add(
                "rule",
                format!("{filter}: {}", estate.rule_name(id)),
                "its names",
                &rule.origin,
            );
        }
    }
}

/// Peers outside of rules: of translations, of a firewall's own services, of public doors.
fn peers(search: &mut Search<'_, '_>, wanted: Wanted<'_>) {
    let estate = search.view.estate;
    let named = |peers: &Option<Vec<Peer>>| {
        let mut peers = peers.iter().flatten();
        peers.any(|peer| wanted.peer(estate, peer))
    };
    for firewall in estate.firewalls.items() {
        let all = firewall.source_translations.iter();
        let is_about = |one: &&Translation| named(&one.sources) || named(&one.destinations);
        for one in all
            .chain(&firewall.destination_translations)
            .filter(is_about)
        {
            search.add(
                "translation",
                format!("firewall {}", firewall.name),
                "its peers",
                &one.origin,
            );
        }
        for one in firewall
            .own_services
            .iter()
            .flatten()
            .filter(|one| named(&one.sources))
        {
            search.add(
                "own service",
                format!("firewall {}", firewall.name),
                "its sources",
                &one.origin,
            );
        }
    }
    for service in estate.services.items() {
        for door in service
            .public_door
            .iter()
            .filter(|door| named(&door.allowed))
        {
            search.add(
                "public door",
                format!("service {}", service.name),
                "on its list",
                &door.origin,
            );
        }
    }
}

/// What an owner owns.
fn owned(search: &mut Search<'_, '_>, wanted: Wanted<'_>) {
    let estate = search.view.estate;
    let Some(owner) = estate
        .owners
        .ids()
        .find(|id| wanted.item("owner", &estate.owners[*id]))
    else {
        return;
    };
    macro_rules! all {
        ($($word:literal $table:ident),*) => {
            $(for item in estate.$table.items().iter().filter(|item| item.owner == Some(owner)) {
                search.add($word, &item.name, "is owned by it", &item.origin);
            })*
        };
    }
    all!("network" networks, "subnet" subnets, "workload" workloads, "interface" interfaces,
        "public address" public_addresses, "set" address_sets, "names" name_sets, "table" route_tables,
        "gateway" gateways, "site" sites, "firewall" firewalls, "balancer" balancers, "service" services,
        "hub" hubs, "zone" dns_zones, "filter" filters);
}

/// References to what is not in the snapshot, and what it declares as missing.
fn missing(search: &mut Search<'_, '_>, wanted: Wanted<'_>) {
    let estate = search.view.estate;
    let means = |target: &str| {
        target
            .split_once(':')
            .is_some_and(|(word, name)| wanted.is(word, name))
    };
    for remark in estate.remarks.iter() {
        if let RemarkKind::Missing { holder, target } = &remark.what
            && means(target)
            && !is_told(search, &remark.origin)
        {
            search.add(
                "reference",
                holder,
                "names it, but it is missing",
                &remark.origin,
            );
        }
    }
    for gap in estate.gaps.iter().filter(|gap| means(&gap.object)) {
        search.add("gap", &gap.object, "declared as missing", &gap.origin);
    }
}

/// Whether something at the same place is told already.
fn is_told(search: &Search<'_, '_>, origin: &Origin) -> bool {
    let place = search.view.estate.sources.place(origin);
    search.found.iter().any(|one| one.place == place)
}
