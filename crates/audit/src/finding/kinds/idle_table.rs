//! A route table that nothing asks.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::Draft;
use super::super::key::Key;
use super::super::kind::Kind;
use heronshale_model::estate::{GatewayKind, Id, Lack, Reference, RouteTable};
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "idle-table",
    base: Severity::Minor,
    about: "Nothing uses a route table.",
    why: "Its author believes that its routes are in force. A table with the one necessary route, attached to \
        no subnet, is a common reason for lost traffic, or for traffic around a firewall.",
    triggers: "No subnet names the table, no internet gateway has it, and it is not the main table of a network \
        with a subnet that needs one. Not reported for main tables used by a subnet without its own table or \
        by a hub link without a subnet.",
    fix: "Attach it to the intended subnets, or delete it.",
    side_effects: "Deleting it changes nothing. Attaching it decides the route of every packet of the subnet.",
    factors: &[
        "down: it has no routes",
        "down: subnets that may use it are missing from the snapshot",
    ],
    example: include_str!("../examples/idle-table.yaml"),
    check: |context| {
        facts(context)
            .into_iter()
            .map(|table| tell(context, table))
            .collect()
    },
};

fn facts(context: &Context<'_, '_>) -> Vec<Id<RouteTable>> {
    let estate = context.view.estate;
    let at_gateway = |table: Id<RouteTable>| {
        estate.gateways.items().iter().any(|gateway| {
            matches!(&gateway.kind, GatewayKind::Internet { table: Some(own), .. } if own.found() == Some(table))
        })
    };
    // A hub's link that names no subnet asks the main table.
    let by_link = |table: Id<RouteTable>| {
        let main = |network: &heronshale_model::estate::Network| {
            network.main_table.as_ref().and_then(Reference::found) == Some(table)
        };
        let links = estate
            .hubs
            .items()
            .iter()
            .flat_map(|hub| &hub.links)
            .filter(|link| link.subnet.is_none());
        links
            .filter_map(|link| match &link.to {
                heronshale_model::estate::LinkEnd::Network(network) => network.found(),
                _ => None,
            })
            .any(|network| main(&estate.networks[network]))
    };
    let asked = |table: Id<RouteTable>| context.routing().asking(table).next().is_some();
    estate
        .route_tables
        .ids()
        .filter(|table| !asked(*table) && !at_gateway(*table) && !by_link(*table))
        .collect()
}

fn tell(context: &Context<'_, '_>, id: Id<RouteTable>) -> Draft {
    let estate = context.view.estate;
    let table = &estate.route_tables[id];
    let mut draft = context.about(
        Key::of("table").name(&table.name),
        &table.origin,
        context.table_owner(id),
    );
    let network = &estate.networks[table.network].name;
    let routes = table.routes.len();
    let plural = if routes == 1 { "" } else { "s" };
    draft.brief(
        format!("table {}", table.name),
        format!("{routes} unused route{plural}"),
    );
    draft.title = format!(
        "table {} is idle: no subnet of {network} uses its {routes} route{plural}",
        table.name
    );
    draft.networks = vec![network.to_string()];
    if routes == 0 {
        draft.factors.push(factor(-1, "it has no routes"));
    }
    if estate
        .gaps
        .iter()
        .any(|gap| gap.lack == Lack::Everything && gap.object.starts_with("subnet:"))
    {
        draft.factors.push(factor(
            -1,
            "subnets that may use it are missing from the snapshot",
        ));
    }
    draft.fix = "Attach it to the intended subnets, or delete it.".to_owned();
    draft
}
