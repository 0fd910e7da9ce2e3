//! Routes by hubs and peerings: what accepts, lends and is up.

use super::*;

/// The interface by which a firewall's own table leads to some addresses.
pub(super) fn routes_back(
    view: &Fabric<'_>,
    firewall: Id<heronshale_model::estate::Firewall>,
    to: &Addresses,
) -> Option<Id<heronshale_model::estate::Interface>> {
    let routes = view.estate.firewalls[firewall].routes.as_ref()?;
    let leads = |destination: &RouteDestination| match destination {
        RouteDestination::Block(block) => [block.range]
            .into_iter()
            .collect::<Addresses>()
            .overlaps(to),
        RouteDestination::Set(set) => set
            .found()
            .is_some_and(|set| view.set(set).matched.sure.overlaps(to)),
    };
    routes
        .iter()
        .find(|route| route.destinations.iter().any(leads))
        .map(|route| route.interface)
}

/// A table that learns nothing, made to accept what the network's site gateways and hub links offer.
pub(super) fn accepting(view: &Fabric<'_>, table: Id<RouteTable>, to: &Addresses) -> Option<Edit> {
    let estate = view.estate;
    let item = &estate.route_tables[table];
    let by_site = || {
        let gateways = heronshale_engine::route::site_gateways(view, item.network);
        gateways
            .iter()
            .any(|(_, site)| estate.sites[*site].announces.overlaps(to))
    };
    let by_hub = || {
        let ours = |end: &LinkEnd| matches!(end, LinkEnd::Network(other) if other.found() == Some(item.network));
        estate.hubs.iter().any(|(id, hub)| {
            let link =
                heronshale_engine::route::link_of(hub, ours).and_then(|(_, link)| link.reads);
            let learned = link
                .map(|domain| heronshale_engine::route::domain_candidates(view, id, domain).all);
            learned
                .into_iter()
                .flatten()
                .any(|one| [one.range].into_iter().collect::<Addresses>().overlaps(to))
        })
    };
    if item.accepts_propagation || !(by_site() || by_hub()) {
        return None;
    }
    let text = format!(
        "let table {} accept propagation (`accepts_propagation`)",
        item.name
    );
    let owner = item.owner.or(estate.networks[item.network].owner);
    Some(Edit::new(
        EditKind::Flag,
        text,
        Some(item.origin),
        owner,
        move |estate| {
            estate.route_tables.get_mut(table).accepts_propagation = true;
        },
    ))
}

/// Site gateways of a peered network that lead there, lent and used.
pub(super) fn lending(view: &Fabric<'_>, network: Id<Network>, to: &Addresses) -> Vec<Edit> {
    let estate = view.estate;
    let mut edits = Vec::new();
    for (id, peering) in estate
        .peerings
        .iter()
        .filter(|(_, peering)| peering.is_up())
    {
        let Some(other) = peering.opposite(network).and_then(Reference::found) else {
            continue;
        };
        let leads = heronshale_engine::route::site_gateways(view, other)
            .iter()
            .any(|(_, site)| estate.sites[*site].announces.overlaps(to));
        let lent = peering.side(other).is_some_and(|side| side.lend_gateways);
        let used = peering.side(network).is_some_and(|side| side.use_gateways);
        if !leads || (lent && used) {
            continue;
        }
        let (lender, user) = (&estate.networks[other].name, &estate.networks[network].name);
        let text = match (lent, used) {
            (false, false) => format!(
                "let network {lender} lend its site gateways over peering {}, and let network {user} use them",
                peering.name
            ),
            (true, _) => {
                format!(
                    "let network {user} use the site gateways of {lender} over peering {}",
                    peering.name
                )
            }
            (false, true) => format!(
                "let network {lender} lend its site gateways over peering {}",
                peering.name
            ),
        };
        let owner = if lent {
            estate.networks[network].owner
        } else {
            estate.networks[other].owner
        };
        edits.push(Edit::new(
            EditKind::Flag,
            text,
            Some(peering.origin),
            owner,
            move |estate| {
                for side in &mut estate.peerings.get_mut(id).sides {
                    side.lend_gateways |= side.network.found() == Some(other);
                    side.use_gateways |= side.network.found() == Some(network);
                }
            },
        ));
    }
    edits
}

/// Links of a hub that are down, those that lead there first.
pub(super) fn links_up(view: &Fabric<'_>, id: Id<Hub>, to: &Addresses) -> Vec<Edit> {
    let estate = view.estate;
    let hub = &estate.hubs[id];
    let leads = |end: &LinkEnd| match end {
        LinkEnd::Network(other) => other
            .found()
            .is_some_and(|other| estate.networks[other].blocks.overlaps(to)),
        LinkEnd::Site(site) => site
            .found()
            .is_some_and(|site| estate.sites[site].announces.overlaps(to)),
        LinkEnd::Hub(_) | LinkEnd::Firewall(_) => true,
    };
    let mut down: Vec<_> = hub
        .links
        .iter()
        .enumerate()
        .filter(|(_, link)| !link.up && leads(&link.to))
        .collect();
    down.sort_by_key(|(_, link)| matches!(link.to, LinkEnd::Hub(_) | LinkEnd::Firewall(_)));
    let up = |(at, _)| Edit::link_up(estate, id, at);
    down.into_iter().map(up).collect()
}
