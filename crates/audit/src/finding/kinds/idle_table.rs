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
    about: "A route table is attached to nothing.",
    why: "Whoever wrote it believes that its routes are in force. A table with the one route that traffic needs, attached to no subnet, is a common reason \
        why that traffic gets lost, or gets around a firewall.",
    triggers: "A table that no subnet names, that is not the main table of its network where a subnet names none, and that no internet gateway has. \
        Silent for main tables that a subnet without a table of its own, or a hub's link without a subnet, falls back to.",
    fix: "Attach it to the subnets that it was made for, or delete it.",
    side_effects: "to delete it changes no packet's fate; attached it decides where all packets of the subnet go",
    factors: &[
        "-1 if it has no routes",
        "-1 if the snapshot lacks subnets that may have it",
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
    draft.title = format!(
        "table {} is attached to nothing: no subnet of {network} uses its {routes} route{plural}",
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
        draft
            .factors
            .push(factor(-1, "the snapshot lacks subnets that may have it"));
    }
    draft.fix = "attach it to the subnets that it was made for, or delete it".to_owned();
    draft
}
