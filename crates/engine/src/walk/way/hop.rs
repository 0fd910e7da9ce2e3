//! What a next hop leads to.

use super::*;

impl<'e> Walk<'_, 'e> {
    /// A balancer as next hop hands packets to one of its back ends as they are.
    pub(super) fn by_balancer(
        &mut self,
        ctx: &Ctx,
        place: RoutePlace<'e>,
        balancer: Id<Balancer>,
        set: &PacketSet,
    ) -> Vec<Taken> {
        let item = &self.view.estate.balancers[balancer];
        let ends = self.back_ends(balancer);
        let chosen = ctx.path().find_map(|node| match node.met {
            Met::BackEnd(other, interface) if other == balancer && node.reply != ctx.reply => {
                Some(interface)
            }
            _ => None,
        });
        let mut all = Vec::new();
        for at in ends {
            let Some(interface) = item.back_ends[at].interface else {
                continue;
            };
            let symmetric = item.symmetric && !has(Fault::WalkSymmetricBalancerIgnored);
            if symmetric && ctx.reply && chosen.is_some_and(|chosen| chosen != interface) {
                continue;
            }
            let next = self.view.estate.interfaces[interface].subnet;
            let ctx = ctx.met(Met::BackEnd(balancer, interface));
            let same = place.subnet.filter(|subnet| *subnet == next);
            let hop = if self.view.estate.interfaces[interface].forwards {
                Hop::Interface(interface)
            } else {
                Hop::MayNotForward(interface)
            };
            let to = Onward::Hop(hop, place.network, same);
            let (going, map) = if same.is_some() {
                (vec![(to, ctx, set.clone())], Map::empty())
            } else {
                self.leaving(&ctx, place.subnet, set, to)
            };
            all.push((Choice::BackEnd(balancer, at), going, map));
        }
        if all.is_empty() {
            let map = self.lost(ctx, Spot::Balancer(balancer), Why::NoBackEnd, set);
            all.push((Choice::BackEnd(balancer, 0), Vec::new(), map));
        }
        all
    }

    /// The back ends among which a balancer chooses.
    pub(in crate::walk) fn back_ends(&self, balancer: Id<Balancer>) -> Vec<usize> {
        let item = &self.view.estate.balancers[balancer];
        let all: Vec<usize> = (0..item.back_ends.len()).collect();
        let healthy: Vec<usize> = all
            .iter()
            .copied()
            .filter(|at| item.back_ends[*at].healthy)
            .collect();
        if has(Fault::WalkHealthIgnored) {
            return all;
        }
        let tries_all = self.view.settings(item.network).no_healthy == NoHealthy::All;
        if healthy.is_empty() && tries_all {
            all
        } else {
            healthy
        }
    }

    pub(super) fn go(&mut self, ctx: &Ctx, to: Onward, set: &PacketSet) -> Map {
        if let Some(map) = self.given_up(ctx, set) {
            return map;
        }
        match to {
            Onward::Beside(subnet) => {
                let network = self.view.estate.subnets[subnet].network;
                self.deliver(ctx, network, Some(subnet), set)
            }
            Onward::Local(network) => self.deliver(ctx, network, None, set),
            Onward::Hop(hop, network, subnet) => self.by_hop(ctx, hop, network, subnet, set),
        }
    }

    pub(super) fn by_hop(
        &mut self,
        ctx: &Ctx,
        hop: Hop,
        network: Id<Network>,
        subnet: Option<Id<Subnet>>,
        set: &PacketSet,
    ) -> Map {
        let estate = self.view.estate;
        match hop {
            Hop::Interface(interface) | Hop::MayNotForward(interface) => {
                let home = estate.network_of(interface);
                self.across(ctx, network, home, set, |walk, ctx, set| {
                    walk.hand_over(ctx, interface, subnet, &set)
                })
            }
            Hop::Door(interface) => {
                let home = estate.network_of(interface);
                self.across(ctx, network, home, set, |walk, ctx, set| {
                    walk.arrive(ctx, interface, subnet, &set)
                })
            }
            Hop::Peering(peering) => match estate.peerings[peering].opposite(network) {
                Some(Reference::Found(other)) => {
                    self.across(ctx, network, *other, set, |walk, ctx, set| {
                        let held = walk
                            .view
                            .holders(*other)
                            .all
                            .iter()
                            .map(|(range, _)| *range)
                            .collect::<Addresses>();
                        let inside = held.union(&estate.networks[*other].blocks);
                        let here = Self::going_to(ctx, &set, &inside);
                        let beyond = set.difference(&here);
                        let spot = Spot::Peering(peering, Some(*other));
                        let map = if here.is_empty() {
                            Map::empty()
                        } else {
                            walk.deliver(ctx, *other, None, &here)
                        };
                        map.overlay(&walk.lost(ctx, spot, Why::NotTransitive, &beyond))
                    })
                }
                _ => self.unknown(ctx, Spot::Peering(peering, None), Why::Lacking, set),
            },
            Hop::Gateway(gateway) => self.at_gateway(ctx, gateway, network, subnet, set),
            Hop::SharedAddress => self.by_shared_address(ctx, network, subnet, set),
            Hop::Hub(hub, link) => {
                let to = estate.hubs[hub].links[link]
                    .subnet
                    .filter(|to| Some(*to) != subnet);
                self.over_acl(ctx, to, Direction::In, set.clone(), |walk, ctx, set| {
                    walk.in_hub(ctx, hub, Some(link), link, true, &set)
                })
            }
            Hop::Service(service) => self.by_service_route(ctx, service, network, set),
            Hop::Local | Hop::Blackhole | Hop::Dead | Hop::Unknown | Hop::Balancer(_) => {
                self.unknown(ctx, Spot::Network(network), Why::Lacking, set)
            }
        }
    }

    /// Over a peering, if the networks differ: what comes from elsewhere must be accepted on the far side.
    pub(super) fn across(
        &mut self,
        ctx: &Ctx,
        from: Id<Network>,
        to: Id<Network>,
        set: &PacketSet,
        mut go: impl FnMut(&mut Self, &Ctx, PacketSet) -> Map,
    ) -> Map {
        if from == to {
            return go(self, ctx, set.clone());
        }
        let Some(id) = joins(self.view, from, to) else {
            let spot = Spot::Network(from);
            if self.view.lacks_any(&["peering"]) {
                return self.unknown(ctx, spot, Why::Lacking, set);
            }
            return self.lost(ctx, spot, Why::NoRoute, set);
        };
        let peering = &self.view.estate.peerings[id];
        let spot = Spot::Peering(id, Some(to));
        let lent = ctx.by_site_gateway.is_some_and(|gateway| {
            lent_gateways(self.view, peering, to)
                .iter()
                .any(|(other, _)| *other == gateway)
        });
        let lent = lent && !has(Fault::WalkLentIsJudged);
        let accepts = lent
            || has(Fault::WalkForwardedAccepted)
            || peering.side(to).is_some_and(|side| side.accept_forwarded);
        let own = Self::coming_from(ctx, set, &self.view.estate.networks[from].blocks);
        let good = if accepts { set.clone() } else { own };
        let refused = set.difference(&good);
        let mut maps = Vec::new();
        if !refused.is_empty() {
            maps.push(self.lost(ctx, spot, Why::ForwardedNotAccepted, &refused));
        }
        if !good.is_empty() {
            let ctx = Ctx {
                by_site_gateway: None,
                ..self.told(ctx, Step::new(ctx.reply, spot, What::Crossed))
            };
            maps.push(go(self, &ctx, good));
        }
        Map::overlay_all(maps)
    }
}
