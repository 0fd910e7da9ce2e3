//! Replies that take another way than their requests, past a device that keeps state.

use super::super::{Context, Draft, Kind, Role, Severity, counted};
use crate::address::Addresses;
use crate::describe::{owner_text, witness};
use crate::model::{
    Action, Estate, Filter, FilterKind, Gateway, GatewayKind, Id, Interface, InternetTraffic, Lack, Network, NoGroup,
    Reference, RouteDestination,
};
use crate::packet::{Packet, PacketSet};
use crate::sweep::{From, Node, Spared, Sweep, Sweeping, Transit, sent, sweep};
use crate::view::View;
use crate::walk::{Asked, Direct, Spot, Start, Verdict, What, Why, alike, walk_ends};
use rustc_hash::{FxHashMap, FxHashSet};

pub(crate) const KIND: Kind = Kind {
    name: "reply-elsewhere",
    base: Severity::Serious,
    about: "Requests pass a firewall or translator, and their replies take another way; or the other way round.",
    why: "A device that keeps state drops what it saw only one half of: the connection hangs although every rule admits it. The routes of the two sides do not fit each other.",
    triggers: "Two places between which connections arrive, but the reply misses the firewall, gateway or balancer that the request went through, or comes to one that saw no request. Silent where filters stop the request, \
        where one of several ways works, where it turns on what the snapshot lacks, and in estates of nothing but peerings and internet gateways without a table.",
    mend: "Lead the replies to the same device, by a route in the table of the other side; or lead the requests past it.",
    price: "the replies take another way; what else the changed route covers does so too",
    factors: &[],
    example: include_str!("../examples/reply-elsewhere.yaml"),
    check: |context| facts(context).iter().map(|fact| tell(context, fact)).collect(),
};

/// No more interfaces of one side are looked at to find one that proves it.
const MOST: usize = 64;

struct Fact {
    from: Side,
    to: Side,
    device: Spot,
    /// Whether the reply came to the device and the request did not.
    saw_no_request: bool,
    senders: Vec<Id<Interface>>,
    receivers: Vec<Id<Interface>>,
    packet: Packet,
}

/// One side, in the words of the finding.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Side {
    Network(Id<Network>),
    Internet,
    Site(Id<crate::model::Site>),
}

/// The estate as if no filter were anywhere: what is left are routes and devices.
fn without_filters(estate: &Estate) -> Estate {
    let mut bare = estate.clone();
    for id in estate.interfaces.ids() {
        let item = bare.interfaces.get_mut(id);
        item.groups.clear();
        item.own_firewall = None;
    }
    for id in estate.workloads.ids() {
        bare.workloads.get_mut(id).own_firewall = None;
    }
    for id in estate.subnets.ids() {
        let item = bare.subnets.get_mut(id);
        (item.acl, item.internet_traffic) = (None, InternetTraffic::BothWays);
        item.groups.clear();
    }
    for id in estate.networks.ids() {
        let item = bare.networks.get_mut(id);
        item.internet_traffic = InternetTraffic::BothWays;
        (item.settings.no_group, item.settings.implied_pair) = (NoGroup::Allow, false);
    }
    for id in estate.filters.ids() {
        bare.filters.get_mut(id).rules.iter_mut().for_each(Vec::clear);
    }
    let open = Filter {
        key: "firewall-policy:\0open".into(),
        name: "open".into(),
        origin: estate.firewalls.items().first().map_or_else(|| estate.networks.items()[0].origin, |one| one.origin),
        kind: FilterKind::FirewallPolicy {
            base: None,
            default: Action::Allow,
            class_order: Vec::new(),
            sections: Vec::new(),
        },
        rules: [Vec::new(), Vec::new()],
        owner: None,
        tags: Vec::new(),
        description: None,
    };
    if let Ok(open) = bare.filters.add(open) {
        for id in estate.firewalls.ids() {
            bare.firewalls.get_mut(id).policy = Some(Reference::Found(open));
        }
    }
    bare.gaps.retain(|gap| !matches!(gap.lack, Lack::Rules | Lack::Groups | Lack::OwnFirewalls));
    bare
}

/// Leaves of interfaces whose packets are routed alike two, where a network routes between its own subnets two in each of two; and
/// says for whom the first stands.
fn thin(bare: &mut Estate, at: Option<jiff::Timestamp>) -> FxHashMap<Id<Interface>, Vec<Id<Interface>>> {
    let public = std::mem::take(&mut bare.public_addresses);
    let mut mapped: FxHashMap<Id<Interface>, u32> = FxHashMap::default();
    for item in public.items() {
        if let Some(id) = item.interface {
            *mapped.entry(id).or_default() += if item.address.is_ipv4() { 1 } else { 1 << 16 };
        }
    }
    let kinds = {
        let view = View::new(bare, at);
        let held: Addresses =
            public.items().iter().filter(|item| item.interface.is_some()).map(|p| p.address).collect();
        let told_apart = alike::are_told_apart(&view, &held);
        let apart = |id: Id<Interface>| mapped.get(&id).copied().unwrap_or_default();
        let mut kinds = alike::routed_alike(&view, &apart);
        kinds.retain(|members| !told_apart || apart(members[0]) == 0);
        kinds
    };
    let within: FxHashSet<Id<Network>> = networks_routed_within(bare);
    let mut others: FxHashMap<Id<Interface>, Vec<Id<Interface>>> = FxHashMap::default();
    let mut left_out: FxHashSet<Id<Interface>> = FxHashSet::default();
    for members in kinds {
        let most = if within.contains(&bare.network_of(members[0])) { 2 } else { 1 };
        let mut subnets: Vec<(Id<crate::model::Subnet>, usize)> = Vec::new();
        for id in &members {
            let subnet = bare.interfaces[*id].subnet;
            let known = subnets.iter().position(|(other, _)| *other == subnet);
            let stays = match known {
                Some(at) => subnets[at].1 < 2,
                None => subnets.len() < most,
            };
            match known {
                _ if !stays => {}
                Some(at) => subnets[at].1 += 1,
                None => subnets.push((subnet, 1)),
            }
            if !stays {
                left_out.insert(*id);
                others.entry(members[0]).or_default().push(*id);
            }
        }
    }
    for item in public.items().iter().filter(|item| item.interface.is_none_or(|id| !left_out.contains(&id))) {
        bare.public_addresses.add(item.clone()).expect("names stay unique");
    }
    for id in left_out {
        bare.interfaces.get_mut(id).addresses = Addresses::empty();
    }
    others
}

/// Networks with a route to a part of their own blocks.
fn networks_routed_within(estate: &Estate) -> FxHashSet<Id<Network>> {
    let inside = |network: Id<Network>, destination: &RouteDestination| match destination {
        RouteDestination::Block(block) => {
            let range: Addresses = [block.range].into_iter().collect();
            range.difference(&estate.networks[network].blocks).is_empty()
        }
        RouteDestination::Set(_) => true,
    };
    let tables = estate.route_tables.items().iter();
    let routes = tables.flat_map(|table| table.routes.iter().map(|route| (table.network, route)));
    let within = routes.filter(|(network, route)| route.destinations.iter().any(|to| inside(*network, to)));
    within.map(|(network, _)| network).collect()
}

/// All connections of the estate on one port, less those of which it is known that no device sees only half of them.
fn all_there_and_back(routes: &View<'_>) -> Vec<Sweep> {
    let estate = routes.estate;
    let web = [crate::path::tcp(443)];
    let ports = &routes.settings(None).client_ports;
    let own = |ids: &[Id<Interface>]| -> Addresses {
        ids.iter().flat_map(|id| estate.interfaces[*id].addresses.ranges()).collect()
    };
    let all = PacketSet::full();
    // A device's interfaces are no ends, unless their address is a name of something else.
    let roles = crate::walk::roles(routes);
    let is_part = |id: &Id<Interface>| roles.contains_key(id) || estate.interfaces[*id].forwards;
    let fronts = estate.balancers.items().iter().flat_map(|balancer| &balancer.front_ends);
    let names: Addresses = fronts.map(|front| front.address).collect::<Addresses>().union(routes.public());
    let names = names.union(routes.held_by_several());
    let parts = own(&estate.interfaces.ids().filter(is_part).collect::<Vec<_>>()).difference(&names);
    let direct = Direct::new(routes);
    let transit = Transit::new(routes, |from, to| sent(from, to, &web, ports));
    let between = |from: &Addresses, to: &Addresses| all.between(Some(from), Some(to));
    let spared = |ids: &[Id<Interface>]| {
        let subnets = ids.iter().map(|id| estate.interfaces[*id].subnet);
        let near = direct.as_ref().map_or_else(PacketSet::empty, |direct| direct.packets(subnets));
        let public = transit.as_ref().map_or_else(|| parts.clone(), |transit| parts.union(transit.public()));
        let devices: Vec<Id<Interface>> = ids.iter().copied().filter(is_part).collect();
        let of_devices = all.between(Some(&own(&devices)), None);
        near.union(&between(&own(ids), &public)).union(&of_devices)
    };
    let asked = |from: From<'_>, spared: Spared<'_>| {
        let (spared, apart) = (Some(spared), |_| 0);
        sweep(routes, &Sweeping { from, to: None, services: &web, failing: true, spared, apart: &apart })
    };
    let mut sweeps = vec![asked(From::Everywhere, &spared)];
    if let Some(transit) = &transit {
        let unclean: FxHashSet<Id<Interface>> = Transit::unclean_senders(&sweeps[0]).into_iter().collect();
        if !unclean.is_empty() || !transit.unclean().is_empty() {
            let everybody: Vec<Id<Interface>> = estate.interfaces.ids().collect();
            sweeps.push(asked(From::Interfaces(&everybody), &|ids: &[Id<Interface>]| {
                let some: Vec<Id<Interface>> = ids.iter().copied().filter(|id| unclean.contains(id)).collect();
                let wanted = between(&own(ids), transit.unclean());
                all.difference(&wanted.union(&between(&own(&some), transit.public())))
            }));
        }
    }
    sweeps
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let (view, estate) = (context.view, context.view.estate);
    let leads_elsewhere = |gateway: &Gateway| {
        matches!(
            gateway.kind,
            GatewayKind::Nat { .. } | GatewayKind::Site { .. } | GatewayKind::Internet { table: Some(_), .. }
        )
    };
    let devices = !estate.firewalls.is_empty() || !estate.balancers.is_empty() || !estate.hubs.is_empty();
    if !devices && !estate.gateways.items().iter().any(leads_elsewhere) {
        return Vec::new();
    }
    if estate.networks.is_empty() {
        return Vec::new();
    }
    let mut bare = without_filters(estate);
    let others = thin(&mut bare, view.at);
    let routes = View::new(&bare, view.at);
    let sweeps = all_there_and_back(&routes);
    // By sides and device: who sends, who receives.
    type Ends = (Vec<Id<Interface>>, Vec<Id<Interface>>);
    let mut groups: Vec<((Side, Side, Spot), Ends)> = Vec::new();
    // A firewall's own interfaces are no ends.
    let devices = crate::walk::roles(view);
    let ends_of = |node: &Node| match node {
        Node::Interfaces(all) => !all.iter().all(|id| devices.contains_key(id) || estate.interfaces[*id].forwards),
        _ => true,
    };
    for (found, row) in sweeps.iter().flat_map(|found| found.rows.iter().map(move |row| (found, row))) {
        let fate = &found.fates[row.fate as usize];
        let Some(ended) = fate.ended_at.filter(|ended| ended.other_way) else { continue };
        if fate.judged.verdict != Verdict::ReplyLost {
            continue;
        }
        for reach in &row.reach {
            for source in &row.sources {
                for (target, second) in &reach.targets {
                    let both = [*source, *target].into_iter().all(|node| ends_of(&found.nodes[node as usize]));
                    if !both || !Sweep::counts(*source, (*target, *second)) {
                        continue;
                    }
                    let (Some((from, senders)), Some((to, receivers))) =
                        (side(estate, &found.nodes[*source as usize]), side(estate, &found.nodes[*target as usize]))
                    else {
                        continue;
                    };
                    let key = (from, to, ended.at);
                    let at = groups.iter().position(|(known, _)| *known == key).unwrap_or_else(|| {
                        groups.push((key, Ends::default()));
                        groups.len() - 1
                    });
                    let ends = &mut groups[at].1;
                    for (all, more) in [(&mut ends.0, senders), (&mut ends.1, receivers)] {
                        let stands_for = |id: &Id<Interface>| others.get(id).map_or(&[][..], Vec::as_slice).iter();
                        for id in more.iter().flat_map(|id| std::iter::once(id).chain(stands_for(id))).take(MOST) {
                            if all.len() < MOST && !all.contains(id) {
                                all.push(*id);
                            }
                        }
                    }
                }
            }
        }
    }
    groups.sort_by(|(a, _), (b, _)| a.cmp(b));
    for (_, (senders, receivers)) in &mut groups {
        senders.sort_unstable();
        receivers.sort_unstable();
    }
    let fact = |((from, to, device), (senders, receivers)): ((Side, Side, Spot), Ends)| {
        let (packet, saw_no_request) = proof(view, &from, &to, device, &senders, &receivers)?;
        Some(Fact { from, to, device, saw_no_request, senders, receivers, packet })
    };
    groups.into_iter().filter_map(fact).collect()
}

fn side<'n>(estate: &Estate, node: &'n Node) -> Option<(Side, &'n [Id<Interface>])> {
    match node {
        Node::Interfaces(all) => Some((Side::Network(estate.network_of(all[0])), all)),
        Node::Internet => Some((Side::Internet, &[])),
        Node::Site(id) => Some((Side::Site(*id), &[])),
        Node::Service(_) | Node::Lacking(_) => None,
    }
}

/// A packet between the two sides, filters and all, whose reply is lost at the device; and whether that saw no request.
fn proof(
    view: &View<'_>,
    from: &Side,
    to: &Side,
    device: Spot,
    senders: &[Id<Interface>],
    receivers: &[Id<Interface>],
) -> Option<(Packet, bool)> {
    let estate = view.estate;
    let own = |all: &[Id<Interface>]| all.iter().flat_map(|id| estate.interfaces[*id].addresses.ranges()).collect();
    let (start, sources): (Start, Addresses) = match from {
        Side::Network(_) => (Start::Interfaces(senders.to_vec()), own(senders)),
        Side::Internet => (Start::Internet, view.internet_end()),
        Side::Site(id) => (Start::Site(*id), estate.sites[*id].holds.clone()),
    };
    let mapped = estate.public_addresses.items().iter();
    let mapped = mapped.filter(|public| public.interface.is_some_and(|id| receivers.contains(&id)));
    let mapped: Addresses = mapped.map(|public| public.address).collect();
    let targets: Addresses = match to {
        Side::Network(_) => own(receivers).union(&mapped),
        Side::Internet => view.internet_end(),
        Side::Site(id) => estate.sites[*id].holds.clone(),
    };
    let network = match from {
        Side::Network(id) => Some(*id),
        _ => None,
    };
    let packets = sent(&sources, &targets, &[], &view.settings(network).client_ports);
    let asked = Asked { start, packets, name: None, any_of: Vec::new() };
    let answered = walk_ends(view, &asked, Addresses::empty());
    answered.parts.iter().filter(|part| part.judged.verdict == Verdict::ReplyLost).find_map(|part| {
        let steps = answered.labels.steps(part.judged.trail);
        let last = steps.last().filter(|step| step.at == device)?;
        let What::Ended(why @ (Why::Bypassed | Why::SawNoRequest)) = last.what else { return None };
        Some((super::super::routing::proving(&part.packets)?, why == Why::SawNoRequest))
    })
}

fn tell(context: &Context<'_, '_>, fact: &Fact) -> Draft {
    let estate = context.view.estate;
    let device = crate::answer::spot_text(context.view, fact.device).0;
    let text = |side: &Side| match side {
        Side::Network(id) => format!("network {}", estate.networks[*id].name),
        Side::Internet => "the internet".to_owned(),
        Side::Site(id) => format!("site {}", estate.sites[*id].name),
    };
    let (origin, owner) = match (&fact.to, &fact.from) {
        (Side::Network(id), _) | (_, Side::Network(id)) => {
            (estate.networks[*id].origin, owner_text(estate, estate.networks[*id].owner))
        }
        (Side::Site(id), _) | (_, Side::Site(id)) => {
            (estate.sites[*id].origin, owner_text(estate, estate.sites[*id].owner))
        }
        (Side::Internet, Side::Internet) => (estate.networks.items()[0].origin, None),
    };
    // The table by which the reply goes is the one to change.
    let replying = fact.receivers.first().map(|id| estate.interfaces[*id].subnet);
    let table = replying.and_then(|subnet| crate::route::table_of(context.view, subnet)).and_then(Reference::found);
    let origin = table.map_or(origin, |table| estate.route_tables[table].origin);
    let owner = table.map_or(owner, |table| context.table_owner(table));
    let mut draft = context.about(format!("{} {} {device}", text(&fact.from), text(&fact.to)), &origin, owner);
    let mut networks = Vec::new();
    for side in [&fact.from, &fact.to] {
        if let Side::Network(id) = side {
            networks.push(estate.networks[*id].name.to_string());
        }
    }
    networks.sort_unstable();
    networks.dedup();
    draft.networks = networks;
    draft.cause = table.map(|table| format!("table {} and {device}", estate.route_tables[table].name));
    let (from, to) = (text(&fact.from), text(&fact.to));
    draft.title = if fact.saw_no_request {
        format!("replies of connections from {from} to {to} come to {device}, which saw no request")
    } else {
        format!("connections from {from} to {to} pass {device}, and their replies do not come back by it")
    };
    draft.witness = Some(witness(&fact.packet));
    let names =
        |all: &[Id<Interface>]| all.iter().map(|id| estate.interfaces[*id].name.to_string()).collect::<Vec<_>>();
    for (word, all) in [("from", &fact.senders), ("to", &fact.receivers)] {
        if !all.is_empty() {
            let text = format!("{word} {}", counted(&names(all), "interface"));
            draft.evidence.push(context.evidence(Role::ActsOn, text, None));
        }
    }
    let table = table
        .map_or_else(|| format!("the routes of {to}"), |table| format!("table {}", estate.route_tables[table].name));
    draft.mend = if fact.saw_no_request {
        format!("lead the requests by {device} too, or let {table} lead the replies past it")
    } else {
        format!("lead the replies by {device}: add the route to {table}")
    };
    draft
}
