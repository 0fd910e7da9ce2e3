//! Where a name of the snapshot occurs: what bears it, and everything that refers to it.

use super::addresses::Search;
use super::uses::{Wanted, uses};
use super::{Finds, Holding, ResolvesFact};
use heronshale_audit::describe::{filter_text, peer_text, rule_says};
use heronshale_engine::fabric::Fabric;
use heronshale_model::estate::{
    AddressSet, Estate, Filter, Id, Interface, Named, NextHop, Reference, RouteDestination,
    SetItem, Table,
};
use heronshale_model::names::{Answerer, plain_name, resolve};
use heronshale_model::source::Origin;
use heronshale_sets::address::Addresses;

/// Why nothing was found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FindError {
    /// What was looked for.
    pub asked: String,
    /// Names that could have been meant, with their kind.
    pub candidates: Vec<String>,
}

/// Kinds of filters, as they stand before the colon of a name.
const FILTERS: [&str; 5] = ["group", "acl", "policy", "own-firewall", "firewall-policy"];

/// Where a name occurs; `group:web` or `web`, `tag:role=web`, `identity:billing`, or a DNS name.
pub(super) fn named(view: &Fabric<'_>, text: &str) -> Result<Finds, FindError> {
    let text = text.trim();
    let (kind, name) = match text.split_once(':') {
        Some((kind, name)) if !kind.is_empty() => (Some(kind), name),
        _ => (None, text),
    };
    let mut search = Search {
        view,
        wanted: Addresses::empty(),
        found: Vec::new(),
    };
    things(&mut search, kind, name);
    carriers(&mut search, kind, name);
    references(&mut search, kind, name);
    uses(&mut search, Wanted { kind, name });
    let resolves = resolutions(view, kind, name);
    if search.found.is_empty() && resolves.is_empty() {
        let candidates = all_names(view.estate);
        return Err(FindError {
            asked: text.to_owned(),
            candidates,
        });
    }
    // A rule that names it twice is told once.
    let mut holdings: Vec<Holding> = Vec::new();
    for one in search.found {
        if !holdings.contains(&one) {
            holdings.push(one);
        }
    }
    Ok(Finds {
        asked: text.to_owned(),
        of_the_internet: false,
        holdings,
        rules_about_any: 0,
        resolves,
    })
}

/// What bears the name.
fn things(search: &mut Search<'_, '_>, kind: Option<&str>, name: &str) {
    let estate = search.view.estate;
    macro_rules! look {
        ($word:literal, $table:ident) => {
            one(search, $word, &estate.$table, kind, name, |item| {
                item.origin
            });
        };
    }
    look!("interface", interfaces);
    look!("workload", workloads);
    look!("network", networks);
    look!("subnet", subnets);
    look!("set", address_sets);
    look!("names", name_sets);
    look!("table", route_tables);
    look!("gateway", gateways);
    look!("peering", peerings);
    look!("firewall", firewalls);
    look!("balancer", balancers);
    look!("service", services);
    look!("hub", hubs);
    look!("site", sites);
    look!("zone", dns_zones);
    look!("owner", owners);
    look!("division", divisions);
    for (id, filter) in estate.filters.iter() {
        let is_kind = kind.is_none_or(|kind| filter.kind_word().replace(' ', "-") == kind);
        if is_kind && *filter.name == *name {
            let count = search.view.estate.filters[id].rules.iter();
            let rules: usize = count.map(|rules| rules.len()).sum();
            let by = heronshale_audit::describe::plural(rules, "rule");
            search.add(filter.kind_word(), &filter.name, by, &filter.origin);
        }
    }
}

fn one<T: Named>(
    search: &mut Search<'_, '_>,
    word: &str,
    table: &Table<T>,
    kind: Option<&str>,
    name: &str,
    origin: impl Fn(&T) -> Origin,
) {
    if kind.is_some_and(|kind| kind != word) {
        return;
    }
    for item in table.items().iter().filter(|item| **item.name() == *name) {
        search.add(word, name, "defined here", &origin(item));
    }
}

/// The interfaces that carry a group, a tag or an identity.
fn carriers(search: &mut Search<'_, '_>, kind: Option<&str>, name: &str) {
    let estate = search.view.estate;
    let members: Vec<Id<Interface>> = match kind {
        Some("tag") => heronshale_model::notation::parse_tags(name)
            .map_or_else(|_| Vec::new(), |pairs| search.view.tagged(&pairs)),
        Some("identity") => search.view.running_as(name).to_vec(),
        None | Some("group") => match estate.filters.find(&format!("group:{name}")) {
            Some(group) => search.view.carriers(group).to_vec(),
            None => Vec::new(),
        },
        _ => Vec::new(),
    };
    let what = match kind {
        Some("tag") => "has the tag",
        Some("identity") => "runs as it",
        _ => "is a member",
    };
    for id in members {
        let interface = &estate.interfaces[id];
        search.add("interface", &interface.name, what, &interface.origin);
    }
}

/// Everything that refers to the name: rules, sets, routes, bindings.
fn references(search: &mut Search<'_, '_>, kind: Option<&str>, name: &str) {
    let estate = search.view.estate;
    let wanted = Wanted { kind, name };
    sets(search, kind, name);
    routes(search, kind, name);
    bindings(search, kind, name);
    for id in estate.rule_ids() {
        let rule = estate.rule(id);
        let more = rule.firewall.iter();
        let more = more.flat_map(|more| &more.except_destinations);
        let peers = rule.peers.iter().flatten();
        let peers = peers.chain(rule.local.iter().flatten());
        let mut peers = peers.chain(&rule.except).chain(more);
        if let Some(peer) = peers.find(|peer| wanted.peer(estate, peer)) {
            let by = peer_text(estate, peer);
            let text = format!(
                "{} {} {}: {}",
                filter_text(estate, id.filter),
                id.direction.word(),
                estate.rule_name(id),
                rule_says(estate, id)
            );
            search.add("rule", text, by, &rule.origin);
        }
    }
}

/// The name of what a reference leads to.
fn target<T: Named>(table: &Table<T>, reference: &Reference<T>) -> String {
    match reference {
        Reference::Found(id) => table[*id].name().to_string(),
        Reference::Missing(name) => name.to_string(),
    }
}

fn is_set(estate: &Estate, set: &Reference<AddressSet>, name: &str) -> bool {
    target(&estate.address_sets, set) == name
}

fn sets(search: &mut Search<'_, '_>, kind: Option<&str>, name: &str) {
    let estate = search.view.estate;
    if kind.is_some_and(|kind| kind != "set") {
        return;
    }
    for set in estate.address_sets.items() {
        let mut items = set.content.iter().flatten();
        let holds =
            items.any(|item| matches!(item, SetItem::Set(inner) if is_set(estate, inner, name)));
        if holds {
            search.add("set", &set.name, "contains it", &set.origin);
        }
    }
}

/// Routes to a set, or to a next hop of that name.
fn routes(search: &mut Search<'_, '_>, kind: Option<&str>, name: &str) {
    let estate = search.view.estate;
    for table in estate.route_tables.items() {
        for route in &table.routes {
            let to_set = route.destinations.iter().any(|to| match to {
                RouteDestination::Set(set) => is_set(estate, set, name),
                RouteDestination::Block(_) => false,
            });
            let hop = hop_name(estate, &route.next_hop);
            let by_hop = hop
                .as_ref()
                .is_some_and(|(word, hop)| hop == name && kind.is_none_or(|kind| kind == *word));
            let by_set = to_set && kind.is_none_or(|kind| kind == "set");
            let id = route.id.as_ref();
            let id = id.map_or_else(String::new, |id| format!(", route {id}"));
            let by = match (by_set, by_hop) {
                (true, _) => "destination",
                (false, true) => "next hop",
                (false, false) => continue,
            };
            search.add(
                "route",
                format!("table {}{id}", table.name),
                by,
                &route.origin,
            );
        }
    }
}

/// Kind and name of a next hop; none for an address, the network itself, and a blackhole.
fn hop_name(estate: &Estate, hop: &NextHop) -> Option<(&'static str, String)> {
    Some(match hop {
        NextHop::Gateway(to) => ("gateway", target(&estate.gateways, to)),
        NextHop::Peering(to) => ("peering", target(&estate.peerings, to)),
        NextHop::Hub(to) => ("hub", target(&estate.hubs, to)),
        NextHop::Firewall(to) => ("firewall", target(&estate.firewalls, to)),
        NextHop::Interface(to) => ("interface", target(&estate.interfaces, to)),
        NextHop::Balancer(to) => ("balancer", target(&estate.balancers, to)),
        NextHop::Service(to) => ("service", target(&estate.services, to)),
        NextHop::Address(_) | NextHop::Local | NextHop::Blackhole => return None,
    })
}

/// What a filter or a table is bound to.
fn bindings(search: &mut Search<'_, '_>, kind: Option<&str>, name: &str) {
    let estate = search.view.estate;
    let is_filter = |filter: &Reference<Filter>| {
        let full = match filter {
            Reference::Found(id) => estate.filters[*id].name.to_string(),
            Reference::Missing(name) => name.to_string(),
        };
        full == name
    };
    let filters = kind.is_none_or(|kind| FILTERS.contains(&kind));
    let tables = kind.is_none_or(|kind| kind == "table");
    for subnet in estate.subnets.items() {
        let bound = subnet.acl.iter().chain(&subnet.groups);
        if filters && bound.into_iter().any(is_filter) {
            search.add("subnet", &subnet.name, "bound here", &subnet.origin);
        }
        let table = subnet.route_table.as_ref();
        if tables && table.is_some_and(|table| target(&estate.route_tables, table) == name) {
            search.add("subnet", &subnet.name, "uses the table", &subnet.origin);
        }
    }
    for interface in estate.interfaces.items() {
        if filters && interface.own_firewall.iter().any(is_filter) {
            search.add(
                "interface",
                &interface.name,
                "bound here",
                &interface.origin,
            );
        }
    }
    for workload in estate.workloads.items() {
        if filters && workload.own_firewall.iter().any(is_filter) {
            search.add("workload", &workload.name, "bound here", &workload.origin);
        }
    }
    for firewall in estate.firewalls.items() {
        if filters && firewall.policy.iter().any(is_filter) {
            search.add("firewall", &firewall.name, "its policy", &firewall.origin);
        }
    }
}

/// What a DNS name resolves to from each network; nothing if no record is about it.
fn resolutions(view: &Fabric<'_>, kind: Option<&str>, name: &str) -> Vec<ResolvesFact> {
    let estate = view.estate;
    if kind.is_some_and(|kind| kind != "name") || !name.contains('.') {
        return Vec::new();
    }
    let plain = plain_name(name);
    let networks = estate.networks.iter();
    let networks = networks.map(|(id, network)| (Some(id), network.name.to_string()));
    let mut facts: Vec<ResolvesFact> = Vec::new();
    for (from, asker) in networks.chain([(None, "the public".to_owned())]) {
        let found = resolve(view, from, &plain);
        let by = found.lookups.last().map(|lookup| lookup.by);
        let by = match by {
            Some(Answerer::Zone(zone)) => format!("zone {}", estate.dns_zones[zone].name),
            _ => "the public".to_owned(),
        };
        let addresses: Vec<String> = found.addresses.iter().map(ToString::to_string).collect();
        let missing_zone = found.missing.as_ref().map(ToString::to_string);
        let alike = |fact: &&mut ResolvesFact| {
            (&fact.addresses, &fact.by, &fact.missing_zone) == (&addresses, &by, &missing_zone)
        };
        match facts.iter_mut().find(alike) {
            Some(known) => known.asked_from.push(asker),
            None => facts.push(ResolvesFact {
                asked_from: vec![asker],
                holders: holders(view, &found.addresses),
                addresses,
                missing_zone,
                by,
            }),
        }
    }
    let open = |fact: &ResolvesFact| fact.missing_zone.is_some();
    if facts
        .iter()
        .all(|fact| fact.addresses.is_empty() && !open(fact))
    {
        return Vec::new();
    }
    facts
}

/// Who has addresses: interfaces, public addresses, front ends, doors.
fn holders(view: &Fabric<'_>, addresses: &[std::net::IpAddr]) -> Vec<String> {
    let estate = view.estate;
    let wanted: Addresses = addresses.iter().copied().collect();
    let mut names = Vec::new();
    for interface in estate.interfaces.items() {
        if interface.addresses.overlaps(&wanted) {
            names.push(interface.name.to_string());
        }
    }
    for public in estate.public_addresses.items() {
        let to = public.interface.filter(|_| wanted.contains(public.address));
        names.extend(to.map(|id| estate.interfaces[id].name.to_string()));
    }
    for balancer in estate.balancers.items() {
        let mut fronts = balancer.front_ends.iter();
        if fronts.any(|front| wanted.contains(front.address)) {
            names.push(format!("balancer {}", balancer.name));
        }
    }
    for service in estate.services.items() {
        let door = service.public_door.as_ref();
        if door.is_some_and(|door| door.addresses.overlaps(&wanted)) {
            names.push(format!("service {}, public door", service.name));
        }
    }
    names
}

/// All names of the snapshot, for hints.
fn all_names(estate: &Estate) -> Vec<String> {
    let mut names: Vec<String> = Vec::new();
    names.extend(
        estate
            .interfaces
            .items()
            .iter()
            .map(|one| one.name.to_string()),
    );
    names.extend(
        estate
            .workloads
            .items()
            .iter()
            .map(|one| one.name.to_string()),
    );
    names.extend(
        estate
            .networks
            .items()
            .iter()
            .map(|one| one.name.to_string()),
    );
    names.extend(
        estate
            .subnets
            .items()
            .iter()
            .map(|one| one.name.to_string()),
    );
    names.extend(
        estate
            .filters
            .items()
            .iter()
            .map(|one| one.name.to_string()),
    );
    names.extend(
        estate
            .address_sets
            .items()
            .iter()
            .map(|one| one.name.to_string()),
    );
    names.extend(
        estate
            .route_tables
            .items()
            .iter()
            .map(|one| one.name.to_string()),
    );
    names.extend(
        estate
            .services
            .items()
            .iter()
            .map(|one| one.name.to_string()),
    );
    names.extend(estate.public_names.iter().map(|one| one.name.to_string()));
    names
}
