//! What static routes of RFC 8349 can hold of a route table, and what they cannot.

use super::LeftOut;
use heronshale_engine::fabric::Fabric;
use heronshale_model::estate::{
    Id, NextHop, Reference, Route, RouteDestination, RouteKind, RouteTable,
};
use heronshale_sets::address::Family;
use std::collections::BTreeMap;
use std::net::IpAddr;

/// By what a static route leads on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PlainHop {
    /// To whoever holds an address.
    Address(IpAddr),
    /// Out by an interface, by its name.
    Interface(String),
    /// Nowhere.
    Blackhole,
    /// To the one who asks.
    Receive,
}

/// A static route to one prefix, by one next hop or by several alike.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlainRoute {
    /// The family of the prefix.
    pub family: Family,
    /// The prefix.
    pub to: String,
    /// At least one; several are addresses and interfaces only.
    pub hops: Vec<PlainHop>,
}

/// What a route says beside a prefix and a next hop, if anything.
fn more(route: &Route) -> Option<&'static str> {
    if !route.enabled {
        return Some("it is disabled");
    }
    if route.kind != RouteKind::Static {
        return Some("it is learned");
    }
    (!route.only_tagged.is_empty() || route.only_from.is_some())
        .then_some("it is for some senders only")
}

fn hop(view: &Fabric<'_>, route: &Route) -> Result<PlainHop, &'static str> {
    let interfaces = &view.estate.interfaces;
    Ok(match &route.next_hop {
        NextHop::Address(address) => PlainHop::Address(*address),
        NextHop::Interface(Reference::Found(id)) => {
            PlainHop::Interface(interfaces[*id].name.to_string())
        }
        NextHop::Interface(Reference::Missing(name)) => PlainHop::Interface(name.to_string()),
        NextHop::Blackhole => PlainHop::Blackhole,
        NextHop::Local => PlainHop::Receive,
        _ => return Err("its next hop is neither an address nor an interface"),
    })
}

/// The static routes of a table, and what of it they cannot hold.
pub fn plain_routes(view: &Fabric<'_>, table: Id<RouteTable>) -> (Vec<PlainRoute>, Vec<LeftOut>) {
    let item = &view.estate.route_tables[table];
    let mut left_out = Vec::new();
    let mut by_prefix: BTreeMap<(Family, u128, u128), Vec<(PlainHop, u32)>> = BTreeMap::new();
    for (at, route) in item.routes.iter().enumerate() {
        let name = route
            .id
            .as_deref()
            .map_or_else(|| format!("#{}", at + 1), str::to_owned);
        let mut put = |why: &str| {
            left_out.push(LeftOut {
                what: format!("route {name}"),
                why: why.to_owned(),
            })
        };
        let hop = match more(route).map_or_else(|| hop(view, route), Err) {
            Ok(hop) => hop,
            Err(why) => {
                put(why);
                continue;
            }
        };
        for destination in &route.destinations {
            match destination {
                RouteDestination::Block(block) if block.range.prefix_length().is_some() => {
                    let range = block.range;
                    by_prefix
                        .entry((range.family, range.first, range.last))
                        .or_default()
                        .push((hop.clone(), route.metric));
                }
                RouteDestination::Block(_) => put("a range is not a prefix"),
                RouteDestination::Set(_) => put("a set is not a prefix"),
            }
        }
    }
    let mut found = Vec::new();
    for ((family, first, last), hops) in by_prefix {
        let to = heronshale_sets::address::Range {
            family,
            first,
            last,
        };
        let to = format!(
            "{}/{}",
            heronshale_sets::address::address_of(family, first),
            to.prefix_length().unwrap_or_default()
        );
        let special =
            |(hop, _): &(PlainHop, u32)| matches!(hop, PlainHop::Blackhole | PlainHop::Receive);
        let alike = hops.iter().all(|(_, metric)| *metric == hops[0].1);
        if hops.len() > 1 && (!alike || hops.iter().any(special)) {
            let why = "there are several, and a list of next hops has no metric".to_owned();
            left_out.push(LeftOut {
                what: format!("routes to {to}"),
                why,
            });
            continue;
        }
        found.push(PlainRoute {
            family,
            to,
            hops: hops.into_iter().map(|(hop, _)| hop).collect(),
        });
    }
    if item.accepts_propagation {
        let why = "static routes are written".to_owned();
        left_out.push(LeftOut {
            what: "what the table learns".to_owned(),
            why,
        });
    }
    (found, left_out)
}
