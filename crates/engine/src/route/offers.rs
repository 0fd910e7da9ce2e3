//! What is offered to a site.

use super::*;
use crate::fabric::Fabric;
use heronshale_model::estate::Site;

/// A way from a site into the cloud.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SiteWay {
    /// By a site gateway.
    Gateway(Id<Gateway>),
    /// By a link of a hub, its place in the hub's list.
    Link(Id<Hub>, usize),
}

/// What a site is offered.
#[derive(Clone, Debug)]
pub struct Offers {
    /// Each way that is up, with the destinations that it offers.
    pub ways: Vec<(Addresses, SiteWay)>,
    /// What is perhaps offered besides, by what is missing from the snapshot.
    pub perhaps: Addresses,
}

/// What the site gateways and links of a site offer to it (`docs/semantics.md` 7).
pub fn offers_to(view: &Fabric<'_>, site: Id<Site>) -> Offers {
    let estate = view.estate;
    let mut ways: Vec<(Addresses, SiteWay)> = Vec::new();
    // What is perhaps offered besides, by what is missing from the snapshot.
    let everywhere = view.lacks_any(&["gateway", "hub"]);
    let mut perhaps = if everywhere {
        Addresses::all()
    } else {
        Addresses::empty()
    };
    for network in estate.networks.ids() {
        for (gateway, other) in site_gateways(view, network) {
            if other != site {
                continue;
            }
            let mut offered = estate.networks[network].blocks.clone();
            if view.lacks_any(&["peering"]) {
                perhaps = Addresses::all();
            }
            for peering in estate.peerings.items() {
                let lends =
                    peering.side(network).is_some_and(|side| side.lend_gateways) && peering.is_up();
                if let Some(Reference::Missing(user)) = peering.opposite(network).filter(|_| lends)
                {
                    perhaps = perhaps.union(view.lacking_blocks(user).0);
                }
                if let Some(Reference::Found(user)) = peering.opposite(network)
                    && lent_gateways(view, peering, *user)
                        .iter()
                        .any(|(lent, _)| *lent == gateway)
                {
                    offered = offered.union(&estate.networks[*user].blocks);
                }
            }
            ways.push((offered, SiteWay::Gateway(gateway)));
        }
    }
    for (id, hub) in estate.hubs.iter() {
        for (at, link) in hub.links.iter().enumerate() {
            if link.up && link.to == LinkEnd::Site(Reference::Found(site)) {
                let learned = link.reads.map(|domain| domain_candidates(view, id, domain));
                let leads = |winner: &Winner| {
                    winner.hop != Hop::Hub(id, at) && winner.hop != Hop::Blackhole
                };
                if let Some(learned) = &learned {
                    let open = learned.perhaps_of(leads);
                    perhaps = perhaps.union(&open);
                }
                let offered = learned.into_iter().flat_map(|learned| learned.all);
                let offered = offered.filter(|one| leads(&one.winner));
                ways.push((
                    offered.map(|one| one.range).collect(),
                    SiteWay::Link(id, at),
                ));
            }
        }
    }
    Offers { ways, perhaps }
}
