//! The routes of a hub's domains, and what its links announce.

use super::*;

/// The link of a network, site, hub or firewall at a hub: the first that is up.
pub fn link_of(hub: &Hub, wanted: impl Fn(&LinkEnd) -> bool) -> Option<(usize, &Link)> {
    hub.links
        .iter()
        .enumerate()
        .find(|(_, link)| link.up && wanted(&link.to))
}

/// The routes of a hub's domain: static ones, and what links announce. [`Hop::Hub`] names the link that leads on.
pub fn domain_candidates(view: &View<'_>, hub: Id<Hub>, domain: usize) -> Candidates {
    let estate = view.estate;
    let item = &estate.hubs[hub];
    let mut found = Candidates::none();
    if view.lacks("hub", &item.name, Lack::Routes) {
        found.lacking(RouteKind::Static, Addresses::all());
    }
    for route in item.domains[domain]
        .routes
        .iter()
        .filter(|route| route.enabled)
    {
        let hop = match &route.hop {
            DomainHop::Blackhole => Hop::Blackhole,
            DomainHop::Link(at) if item.links[*at].up => Hop::Hub(hub, *at),
            DomainHop::Link(_) | DomainHop::Missing(_) => Hop::Dead,
        };
        let winner = Winner {
            hop,
            origin: Some(route.origin),
        };
        for range in ranges_of(view, &route.destinations) {
            let (length, kind, metric) = (
                range.prefix_length().unwrap_or(0),
                RouteKind::Static,
                route.metric,
            );
            found.all.push(Candidate {
                range,
                length,
                kind,
                metric,
                winner,
                only_from: None,
            });
        }
        for peer in open_parts(view, &route.destinations) {
            found.perhaps.push(Perhaps {
                region: Addresses::all(),
                only_from: None,
                length: None,
                kind: RouteKind::Static,
                metric: route.metric,
                holds: Some((peer, At::Destination)),
                winner,
            });
        }
    }
    for (at, link) in item.links.iter().enumerate() {
        if !link.up || !link.announces_into.contains(&domain) {
            continue;
        }
        found.all.extend(of_blocks(
            &announced(view, link),
            RouteKind::Propagated,
            Hop::Hub(hub, at),
        ));
        if let Some(region) = announced_unknown(view, link) {
            let winner = Winner {
                hop: Hop::Hub(hub, at),
                origin: None,
            };
            let kind = RouteKind::Propagated;
            found.perhaps.push(Perhaps {
                region,
                only_from: None,
                length: None,
                kind,
                metric: 0,
                holds: None,
                winner,
            });
        }
    }
    found.sort(view.settings(None));
    found
}

/// Where a link to something that the snapshot lacks may lead, beside what it is known to announce.
pub(super) fn announced_unknown(view: &View<'_>, link: &Link) -> Option<Addresses> {
    if link.announces.is_some() {
        return None;
    }
    match &link.to {
        LinkEnd::Network(Reference::Missing(name)) => match view.lacking_blocks(name) {
            (_, true) => None,
            (blocks, false) => view
                .lacks("network", name, Lack::Everything)
                .then(|| blocks.clone()),
        },
        LinkEnd::Site(Reference::Missing(name)) => {
            let gap = view
                .lacking("site")
                .find(|gap| gap.object.strip_prefix("site:") == Some(name));
            gap.map(|gap| gap.blocks.clone().unwrap_or_else(Addresses::all))
        }
        _ => None,
    }
}

/// What a link announces.
pub fn announced(view: &View<'_>, link: &Link) -> Vec<Range> {
    let default = || match &link.to {
        LinkEnd::Network(Reference::Found(network)) => {
            view.estate.networks[*network].written_blocks.clone()
        }
        LinkEnd::Network(Reference::Missing(name)) => match view.lacking_blocks(name) {
            (blocks, true) => blocks.ranges().collect(),
            (_, false) => Vec::new(),
        },
        LinkEnd::Site(Reference::Found(site)) => view.estate.sites[*site].written_announces.clone(),
        LinkEnd::Site(Reference::Missing(_)) | LinkEnd::Hub(_) | LinkEnd::Firewall(_) => Vec::new(),
    };
    link.announces.clone().unwrap_or_else(default)
}
