//! Sites and hubs.

use super::*;

impl<'e> Walk<'_, 'e> {
    /// Packets come to a site.
    pub(in crate::walk) fn at_site(
        &mut self,
        ctx: &Ctx,
        site: Id<Site>,
        by: Spot,
        set: &PacketSet,
    ) -> Map {
        let item = &self.view.estate.sites[site];
        let announced = !ctx.reply && !has(Fault::WalkSiteTakesHeldOnly);
        let taken = if announced {
            item.holds.union(&item.announces)
        } else {
            item.holds.clone()
        };
        let here = Self::going_to(ctx, set, &taken);
        let other = set.difference(&here);
        let mut maps = vec![self.lost(ctx, by, Why::NotAtSite, &other)];
        if !here.is_empty() {
            if ctx.reply {
                let asked = ctx.leg.start == Start::Site(site) && ctx.leg.origin == Origin::Start;
                maps.push(match ctx.leg.origin {
                    _ if asked => self.back(ctx, None, &here),
                    Origin::Firewall(firewall) => {
                        self.lost(ctx, Spot::Firewall(firewall), Why::Bypassed, &here)
                    }
                    Origin::Balancer(balancer) => {
                        self.lost(ctx, Spot::Balancer(balancer), Why::Bypassed, &here)
                    }
                    Origin::Gateway(gateway) => {
                        self.lost(ctx, Spot::Gateway(gateway), Why::Bypassed, &here)
                    }
                    Origin::Start | Origin::Platform => {
                        self.lost(ctx, Spot::Site(site), Why::NotAsked, &here)
                    }
                });
            } else {
                let ctx = self.arrived(ctx, Spot::Site(site));
                let (silent, answered) = here.one_way();
                let label = self.labels.leaf(Verdict::Works, ctx.trail);
                maps.push(silent.relabel(|()| Some(label)));
                if !answered.is_empty() {
                    maps.push(self.leave_site(&ctx.turned(), site, answered));
                }
            }
        }
        Map::overlay_all(maps)
    }

    /// Packets leave a site by any of its ways that offer their destination.
    pub(in crate::walk) fn leave_site(&mut self, ctx: &Ctx, site: Id<Site>, set: PacketSet) -> Map {
        let estate = self.view.estate;
        let Offers {
            ways: offers,
            perhaps,
        } = offers_to(self.view, site);
        let mut rest = set;
        let mut maps = Vec::new();
        if let Some(knows) = estate.sites[site]
            .knows
            .as_ref()
            .filter(|_| !has(Fault::WalkSiteKnowsAll))
        {
            let known = Self::going_to(ctx, &rest, knows);
            maps.push(self.lost(
                ctx,
                Spot::Site(site),
                Why::SiteKnowsNoWay,
                &rest.difference(&known),
            ));
            rest = known;
        }
        // Packets by which of the ways offer their destination.
        let mut parts: Vec<(PacketSet, Vec<usize>)> = vec![(rest, Vec::new())];
        for (at, (offered, _)) in offers.iter().enumerate() {
            let mut next = Vec::new();
            for (part, by) in parts {
                let here = Self::going_to(ctx, &part, offered);
                let other = part.difference(&here);
                if !here.is_empty() {
                    next.push((here, by.iter().copied().chain([at]).collect()));
                }
                if !other.is_empty() {
                    next.push((other, by));
                }
            }
            parts = next;
        }
        for (part, by) in parts {
            let mut all = Vec::with_capacity(by.len());
            if by.is_empty() {
                all.push((
                    Choice::Offer(0),
                    self.lost(ctx, Spot::Site(site), Why::SiteKnowsNoWay, &part),
                ));
            }
            for at in by {
                let map = match offers[at].1 {
                    SiteWay::Gateway(gateway) => {
                        let ctx = self.told(
                            ctx,
                            Step::new(ctx.reply, Spot::Gateway(gateway), What::Crossed),
                        );
                        let ctx = Ctx {
                            by_site_gateway: Some(gateway),
                            ..ctx
                        };
                        let network = estate.gateways[gateway].network;
                        self.route(
                            &ctx,
                            vec![(RoutePlace::outside(network), part.clone())],
                            false,
                        )
                    }
                    SiteWay::Link(hub, link) => {
                        self.in_hub(ctx, hub, Some(link), link, true, &part)
                    }
                };
                all.push((Choice::Offer(at), map));
            }
            let map = self.chosen(all);
            let open = Self::going_to(ctx, &part, &perhaps);
            if open.is_empty() {
                maps.push(map);
                continue;
            }
            let trail = self.labels.push(
                ctx.trail,
                Step::lost(ctx.reply, Spot::Site(site), Why::Lacking),
            );
            let other = self.unknown(ctx, Spot::Site(site), Why::Lacking, &open);
            let doubt = Doubt::of_packet(Unsaid::Way(site.index()));
            let turned = self.turns_on(&doubt, trail, &other, &map.restrict(&open));
            maps.push(turned.overlay(&map));
        }
        Map::overlay_all(maps)
    }

    /// Packets are in a hub: they came in by a link, and are routed by the domain that a link reads. `out_of`: the link by
    /// which they may not leave again.
    pub(in crate::walk) fn in_hub(
        &mut self,
        ctx: &Ctx,
        hub: Id<Hub>,
        out_of: Option<usize>,
        reads_as: usize,
        steered: bool,
        set: &PacketSet,
    ) -> Map {
        if set.is_empty() {
            return Map::empty();
        }
        let item = &self.view.estate.hubs[hub];
        let link = &item.links[reads_as];
        let spot = Spot::Hub(hub, Some(reads_as));
        let Some(domain) = link.reads else {
            return self.lost(ctx, spot, Why::NoDomain, set);
        };
        let visit = Visit::Domain(hub.index(), domain, reads_as, steered);
        if ctx.repeats(&visit) {
            return self.lost(ctx, spot, Why::Loop, set);
        }
        let ctx = ctx.met(Met::Routed(visit));
        if let Some(map) = self.given_up(&ctx, set) {
            return map;
        }
        let mut rest = set.clone();
        let mut maps = Vec::new();
        if steered && !has(Fault::WalkNeverSteered) {
            let public = Self::going_to(&ctx, set, self.view.internet());
            let kinds = [
                (&link.steer_internet, public.clone()),
                (&link.steer_private, set.difference(&public)),
            ];
            for (firewall, part) in kinds {
                let Some(firewall) = firewall else { continue };
                if part.is_empty() {
                    continue;
                }
                rest = rest.difference(&part);
                maps.push(match firewall {
                    Reference::Found(firewall) => {
                        self.at_firewall(&ctx, *firewall, Entry::Hub(hub, reads_as), &part)
                    }
                    Reference::Missing(name) => {
                        if self.view.lacks("firewall", name, Lack::Everything) {
                            self.unknown(&ctx, spot, Why::Lacking, &part)
                        } else {
                            let winner = crate::route::Winner {
                                hop: Hop::Dead,
                                origin: Some(link.origin),
                            };
                            self.lost(&ctx, spot, Why::DeadHop(winner), &part)
                        }
                    }
                });
            }
        }
        let candidates = self.view.domain_candidates(hub, domain);
        for (part, routed) in routes_of(&candidates, &rest, ctx.reply) {
            let (winners, perhaps) = match routed.open {
                Some(open) => (open.winners, open.perhaps),
                None => (routed.winners, Vec::new()),
            };
            let by = |walk: &mut Self, winner: Winner| {
                let told = walk.told(&ctx, Step::new(ctx.reply, spot, What::Routed(winner)));
                match winner.hop {
                    Hop::Hub(_, out) if Some(out) == out_of && !has(Fault::WalkBackByLink) => {
                        walk.lost(&told, spot, Why::BackByLink, &part)
                    }
                    Hop::Hub(_, out) => walk.out_by_link(&told, hub, out, &part),
                    Hop::Blackhole => walk.lost(&told, spot, Why::Blackhole(winner), &part),
                    Hop::Unknown => walk.unknown(&told, spot, Why::Lacking, &part),
                    _ => walk.lost(&told, spot, Why::DeadHop(winner), &part),
                }
            };
            let mut map = if winners.is_empty() {
                self.lost(&ctx, spot, Why::NoRoute, &part)
            } else {
                let all = winners
                    .into_iter()
                    .map(|winner| (Choice::Route(winner), by(self, winner)))
                    .collect();
                self.chosen(all)
            };
            for (doubts, winner) in perhaps.into_iter().rev() {
                let trail = self.labels.push(
                    ctx.trail,
                    Step::lost(ctx.reply, spot, Why::OpenRoute(winner)),
                );
                let by_it = by(self, winner);
                let otherwise = map.clone();
                map = doubts.iter().rev().fold(by_it, |wins, doubt| {
                    self.turns_on(doubt, trail, &wins, &otherwise)
                });
            }
            maps.push(map);
        }
        Map::overlay_all(maps)
    }

    pub(super) fn out_by_link(
        &mut self,
        ctx: &Ctx,
        hub: Id<Hub>,
        at: usize,
        set: &PacketSet,
    ) -> Map {
        let estate = self.view.estate;
        let link = &estate.hubs[hub].links[at];
        let spot = Spot::Hub(hub, Some(at));
        let missing = |walk: &mut Self, kind: &str, name: &str| {
            if walk.view.lacks(kind, name, Lack::Everything) {
                walk.unknown(ctx, spot, Why::Lacking, set)
            } else {
                let winner = crate::route::Winner {
                    hop: Hop::Dead,
                    origin: Some(link.origin),
                };
                walk.lost(ctx, spot, Why::DeadHop(winner), set)
            }
        };
        match &link.to {
            LinkEnd::Network(Reference::Found(network)) => {
                let place = match link.subnet.filter(|_| !has(Fault::WalkLinkSubnetIgnored)) {
                    Some(subnet) => RoutePlace::in_subnet(self.view, subnet, None),
                    None => RoutePlace {
                        table: estate.networks[*network].main_table.as_ref(),
                        ..RoutePlace::outside(*network)
                    },
                };
                self.route(ctx, vec![(place, set.clone())], false)
            }
            LinkEnd::Network(Reference::Missing(name)) => missing(self, "network", name),
            LinkEnd::Site(Reference::Found(site)) => self.at_site(ctx, *site, spot, set),
            LinkEnd::Site(Reference::Missing(name)) => missing(self, "site", name),
            LinkEnd::Hub(Reference::Found(other)) => {
                let back = |to: &LinkEnd| *to == LinkEnd::Hub(Reference::Found(hub));
                match link_of(&estate.hubs[*other], back) {
                    Some((entry, _)) => self.in_hub(ctx, *other, Some(entry), entry, true, set),
                    None => self.lost(ctx, spot, Why::NoDomain, set),
                }
            }
            LinkEnd::Hub(Reference::Missing(name)) => missing(self, "hub", name),
            LinkEnd::Firewall(Reference::Found(firewall)) => {
                self.at_firewall(ctx, *firewall, Entry::Hub(hub, at), set)
            }
            LinkEnd::Firewall(Reference::Missing(name)) => missing(self, "firewall", name),
        }
    }
}
