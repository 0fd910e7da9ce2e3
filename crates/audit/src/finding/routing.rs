//! Routes as several kinds look at them: where each table is asked, and which of its routes wins for which addresses.

use super::context::Context;
use super::draft::{Evidence, Role};
use crate::describe::owner_text;
use heronshale_engine::fabric::Fabric;
use heronshale_engine::route::{Candidate, Candidates, Hop, RoutePlace, candidates, table_of};
use heronshale_model::estate::{
    GatewayKind, Id, Interface, Network, Reference, Route, RouteTable, Subnet,
};
use heronshale_model::source::Origin;
use heronshale_sets::address::Addresses;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{Packet, PacketSet, service};
use rustc_hash::FxHashMap;

/// Places that are routed alike.
pub(crate) struct Placed<'e> {
    /// One of them.
    pub place: RoutePlace<'e>,
    /// The subnets; none for a gateway.
    pub subnets: Vec<Id<Subnet>>,
    /// What applies there.
    pub candidates: Candidates,
    /// For each candidate the addresses for which it wins.
    pub won: Vec<Addresses>,
}

/// All places at which tables are asked.
pub(crate) struct Routing<'e> {
    pub places: Vec<Placed<'e>>,
}

impl<'e> Routing<'e> {
    pub fn new(view: &Fabric<'e>) -> Self {
        let estate = view.estate;
        type Key<'e> = (
            Id<Network>,
            Option<&'e Reference<RouteTable>>,
            Option<Id<Subnet>>,
            Option<Hop>,
            Vec<bool>,
        );
        let legs = firewall_subnets(view);
        let mut by_subnet: FxHashMap<Id<Subnet>, Vec<Id<Interface>>> = FxHashMap::default();
        for (id, interface) in estate.interfaces.iter() {
            by_subnet.entry(interface.subnet).or_default().push(id);
        }
        let mut index: FxHashMap<Key<'e>, usize> = FxHashMap::default();
        let mut places: Vec<Placed<'e>> = Vec::new();
        for (id, subnet) in estate.subnets.iter() {
            let table = table_of(view, id);
            // Routes that are limited to tags ask who sends.
            let limits: Vec<_> = match table {
                Some(Reference::Found(table)) => {
                    let routes = estate.route_tables[*table].routes.iter();
                    routes
                        .map(|route| &route.only_tagged)
                        .filter(|tags| !tags.is_empty())
                        .collect()
                }
                _ => Vec::new(),
            };
            let mut senders: Vec<(Vec<bool>, Option<Id<Interface>>)> = vec![(Vec::new(), None)];
            if !limits.is_empty() {
                for sender in by_subnet.get(&id).into_iter().flatten() {
                    let tagged: Vec<bool> = limits
                        .iter()
                        .map(|tags| estate.has_tags(*sender, tags))
                        .collect();
                    if !senders.iter().any(|(known, _)| *known == tagged) {
                        senders.push((tagged, Some(*sender)));
                    }
                }
            }
            let own = legs.binary_search(&id).is_ok().then_some(id);
            let last = heronshale_engine::route::last_resort(view, id);
            for (tagged, sender) in senders {
                let key = (subnet.network, table, own, last, tagged);
                if let Some(at) = index.get(&key) {
                    places[*at].subnets.push(id);
                    continue;
                }
                index.insert(key, places.len());
                places.push(Self::placed(
                    view,
                    RoutePlace::in_subnet(view, id, sender),
                    vec![id],
                ));
            }
        }
        for gateway in estate.gateways.items() {
            if let GatewayKind::Internet {
                table: table @ Some(_),
                ..
            } = &gateway.kind
            {
                let place = RoutePlace {
                    table: table.as_ref(),
                    ..RoutePlace::outside(gateway.network)
                };
                places.push(Self::placed(view, place, Vec::new()));
            }
        }
        Self { places }
    }

    fn placed(view: &Fabric<'e>, place: RoutePlace<'e>, subnets: Vec<Id<Subnet>>) -> Placed<'e> {
        let candidates = candidates(view, place);
        let won = won(&candidates.all);
        Placed {
            place,
            subnets,
            candidates,
            won,
        }
    }

    /// The places that ask a table.
    pub fn asking(&self, table: Id<RouteTable>) -> impl Iterator<Item = &Placed<'e>> {
        self.places
            .iter()
            .filter(move |placed| placed.place.table.and_then(Reference::found) == Some(table))
    }
}

/// The subnets in which firewalls have interfaces, in ascending order.
pub(crate) fn firewall_subnets(view: &Fabric<'_>) -> Vec<Id<Subnet>> {
    let legs = view
        .estate
        .firewalls
        .items()
        .iter()
        .flat_map(|firewall| &firewall.legs);
    let mut subnets: Vec<Id<Subnet>> = legs
        .map(|leg| view.estate.interfaces[leg.interface].subnet)
        .collect();
    subnets.sort_unstable();
    subnets.dedup();
    subnets
}

/// The addresses for which each candidate wins, alone or with its equals.
pub(crate) fn won(all: &[Candidate]) -> Vec<Addresses> {
    let mut rest = Addresses::all();
    let mut found = Vec::with_capacity(all.len());
    let same =
        |a: &Candidate, b: &Candidate| (a.length, a.kind, a.metric) == (b.length, b.kind, b.metric);
    for group in all.chunk_by(same) {
        let mut taken = Vec::new();
        for candidate in group {
            found.push(rest.intersection(&[candidate.range].into_iter().collect()));
            if candidate.only_from.is_none() {
                taken.push(candidate.range);
            }
        }
        rest = rest.difference(&taken.into_iter().collect());
    }
    found
}

/// What of some addresses the estate has: addresses of interfaces other than firewalls', and what sites hold.
pub(crate) fn held(view: &Fabric<'_>, within: &Addresses) -> Addresses {
    view.held_by_others().intersection(within)
}

/// One of some packets, to a port that a reader knows if that is among them.
pub(crate) fn proving(packets: &PacketSet) -> Option<Packet> {
    let all = Addresses::all();
    let every = Intervals::span(0, u128::from(u16::MAX));
    let web = u128::from(service::code(service::TCP, 443));
    let web = PacketSet::fields(&all, &all, |_| Intervals::span(web, web), &every, ())
        .intersection(packets);
    if web.is_empty() {
        packets.witness()
    } else {
        web.witness()
    }
}

/// A few of some addresses, in words.
pub(crate) fn addresses_text(addresses: &Addresses) -> String {
    let texts = addresses.texts();
    let more = texts.len().saturating_sub(3);
    let shown = texts.iter().take(3).cloned().collect::<Vec<_>>().join(", ");
    if more > 0 {
        format!("{shown} and {more} more")
    } else {
        shown
    }
}

/// A route in a few words: `route out (0.0.0.0/0) of table office-main`.
pub(crate) fn route_text(context: &Context<'_, '_>, table: Id<RouteTable>, at: usize) -> String {
    let item = &context.view.estate.route_tables[table];
    let route = &item.routes[at];
    format!(
        "{} ({}) of table {}",
        route_name(item, at),
        destinations_text(context, route),
        item.name
    )
}

/// `route out`; its number if it has no name.
pub(crate) fn route_name(table: &RouteTable, at: usize) -> String {
    let id = table.routes[at].id.as_ref();
    let id = id.map_or_else(|| format!("#{}", at + 1), ToString::to_string);
    format!("route {id}")
}

fn each_destination(context: &Context<'_, '_>, route: &Route) -> Vec<String> {
    let one = |destination: &heronshale_model::estate::RouteDestination| match destination {
        heronshale_model::estate::RouteDestination::Block(block) => block.range.to_string(),
        heronshale_model::estate::RouteDestination::Set(set) => {
            format!(
                "set {}",
                crate::describe::name_of(&context.view.estate.address_sets, set)
            )
        }
    };
    route.destinations.iter().map(one).collect()
}

/// The destinations of a route, as written.
pub(crate) fn destinations_text(context: &Context<'_, '_>, route: &Route) -> String {
    let all = each_destination(context, route);
    let more = all.len().saturating_sub(3);
    let shown = all.iter().take(3).cloned().collect::<Vec<_>>().join(", ");
    if more > 0 {
        format!("{shown} and {more} more")
    } else {
        shown
    }
}

impl<'e> Context<'_, 'e> {
    /// All places at which tables are asked.
    pub fn routing(&self) -> &Routing<'e> {
        self.routing.get_or_init(|| Routing::new(self.view))
    }

    /// Every written route, with its table and its place there.
    pub fn routes(&self) -> impl Iterator<Item = (Id<RouteTable>, usize, &'e Route)> {
        let tables = self.view.estate.route_tables.iter();
        tables.flat_map(|(id, table)| {
            table
                .routes
                .iter()
                .enumerate()
                .map(move |(at, route)| (id, at, route))
        })
    }

    /// Who changes a table: its owner, else its network's.
    pub fn table_owner(&self, table: Id<RouteTable>) -> Option<String> {
        let estate = self.view.estate;
        let item = &estate.route_tables[table];
        owner_text(estate, item.owner.or(estate.networks[item.network].owner))
    }

    /// Who changes things of a network that have no owner of their own.
    pub fn network_owner(&self, network: Id<Network>) -> Option<String> {
        owner_text(self.view.estate, self.view.estate.networks[network].owner)
    }

    /// Evidence in words, and where it stands.
    pub fn evidence(&self, role: Role, text: String, origin: Option<&Origin>) -> Evidence {
        Evidence {
            role,
            text,
            rule: None,
            place: origin.map(|origin| self.place(origin)),
        }
    }

    /// Subnets in words: `2 subnets: a, b`.
    pub fn subnets(&self, subnets: &[Id<Subnet>]) -> String {
        let names: Vec<String> = subnets
            .iter()
            .map(|id| self.view.estate.subnets[*id].name.to_string())
            .collect();
        super::draft::counted(&names, "subnet")
    }
}
