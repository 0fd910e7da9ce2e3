//! The internet: in by public addresses, and replies from outside.

use super::*;

impl<'e> Walk<'_, 'e> {
    /// From a gateway without a subnet into its network: by its own table, else automatic routes.
    pub(super) fn in_from_gateway(&mut self, ctx: &Ctx, id: Id<Gateway>, set: &PacketSet) -> Map {
        let gateway = &self.view.estate.gateways[id];
        if self.view.lacks("gateway", &gateway.name, Lack::Routes) {
            return self.unknown(ctx, Spot::Gateway(id), Why::Lacking, set);
        }
        let mut place = RoutePlace::outside(gateway.network);
        if let GatewayKind::Internet { table, .. } = &gateway.kind
            && !has(Fault::WalkGatewayTableIgnored)
        {
            place.table = table.as_ref();
        }
        let visit = Visit::Gateway(id);
        if ctx.repeats(&visit) {
            return self.lost(ctx, Spot::Gateway(id), Why::Loop, set);
        }
        let ctx = ctx.met(Met::Routed(visit));
        self.route(&ctx, vec![(place, set.clone())], true)
    }

    /// Packets are on the internet: at their end, or in again at one of the estate's own addresses.
    pub(in crate::walk) fn on_internet(&mut self, ctx: &Ctx, set: PacketSet) -> Map {
        let mut maps = Vec::new();
        let ended = Self::going_to(ctx, &set, self.view.internet_as_end());
        let mut rest = set.difference(&ended);
        if !ended.is_empty() {
            let ctx = self.arrived(ctx, Spot::Internet);
            maps.push(self.reply_from_outside(&ctx, &ended));
        }
        let wanted = rest.destinations();
        let public = self.view.public_index();
        let mut known: FxHashSet<IpAddr> = FxHashSet::default();
        for (address, holder) in public
            .singles
            .iter()
            .filter(|(address, _)| wanted.contains(*address))
        {
            if !known.insert(*address) {
                continue;
            }
            let here = rest.between(None, Some(&single(*address)));
            // Several balancers may share an address, each with ports of its own.
            let shared = public.singles.iter().filter(|(other, _)| other == address);
            let balancers: Vec<(Id<Balancer>, PublicHolder)> = shared
                .filter_map(|(_, holder)| match holder {
                    PublicHolder::Balancer(id, _) => Some((*id, *holder)),
                    _ => None,
                })
                .collect();
            if balancers.len() > 1 && matches!(holder, PublicHolder::Balancer(..)) {
                maps.push(self.at_one_of(ctx, &balancers, &here, |walk, holder, set| {
                    walk.in_at(ctx, holder, set)
                }));
            } else {
                maps.push(self.in_at(ctx, *holder, &here));
            }
        }
        rest = rest.difference(&rest.between(None, Some(&known.into_iter().collect())));
        for (block, holder) in &public.blocks {
            let here = rest.between(None, Some(block));
            if here.is_empty() {
                continue;
            }
            rest = rest.difference(&here);
            maps.push(match holder {
                PublicHolder::Service(service) => self.at_public_door(ctx, *service, &here),
                PublicHolder::Firewall(firewall) => {
                    self.at_firewall(ctx, *firewall, Entry::Internet, &here)
                }
                _ => Map::empty(),
            });
        }
        // Global IPv6 needs no mapping.
        let global = internet_at_large().intersection(&Addresses::of_family(Family::V6));
        let networks: Vec<Id<Network>> = self.view.estate.networks.ids().collect();
        for network in networks {
            let own = self.view.estate.networks[network]
                .blocks
                .intersection(&global);
            if own.is_empty() {
                continue;
            }
            let here = rest.between(None, Some(&own));
            if here.is_empty() {
                continue;
            }
            rest = rest.difference(&here);
            maps.push(self.in_by_network(ctx, network, &here));
        }
        let perhaps = rest.between(None, Some(&public.lacking));
        if !perhaps.is_empty() {
            rest = rest.difference(&perhaps);
            maps.push(self.unknown(ctx, Spot::Internet, Why::Lacking, &perhaps));
        }
        if !rest.is_empty() {
            maps.push(self.lost(ctx, Spot::Internet, Why::NotOnInternet, &rest));
        }
        Map::overlay_all(maps)
    }

    /// A remote end on the internet answers: the reply comes to where the request came from.
    pub(super) fn reply_from_outside(&mut self, ctx: &Ctx, set: &PacketSet) -> Map {
        let (silent, answered) = set.one_way();
        let mut map = Map::empty();
        if !silent.is_empty() {
            let label = self.labels.leaf(Verdict::Works, ctx.trail);
            map = silent.relabel(|()| Some(label));
        }
        if answered.is_empty() {
            return map;
        }
        let ctx = ctx.turned();
        map.overlay(&self.back(&ctx, None, &answered))
    }

    /// Whether connections from the internet may come in.
    pub(super) fn may_come_in(&self, network: Id<Network>, subnet: Option<Id<Subnet>>) -> bool {
        let estate = self.view.estate;
        let open = |traffic: InternetTraffic| traffic == InternetTraffic::BothWays;
        open(estate.networks[network].internet_traffic)
            && subnet.is_none_or(|subnet| open(estate.subnets[subnet].internet_traffic))
    }

    pub(super) fn no_gateway(&mut self, ctx: &Ctx, network: Id<Network>, set: &PacketSet) -> Map {
        let estate = self.view.estate;
        let any = estate.gateways.items().iter().any(|gateway| {
            gateway.network == network && matches!(gateway.kind, GatewayKind::Internet { .. })
        });
        // A gateway that the snapshot lacks may be this network's.
        let lacking = !any && self.view.lacks_any(&["gateway"]);
        let spot = Spot::Network(network);
        if lacking {
            self.unknown(ctx, spot, Why::Lacking, set)
        } else {
            self.lost(ctx, spot, Why::NoGateway, set)
        }
    }

    /// From the internet to a public address.
    pub(super) fn in_at(&mut self, ctx: &Ctx, holder: PublicHolder, set: &PacketSet) -> Map {
        let estate = self.view.estate;
        let (network, subnet) = match holder {
            PublicHolder::Interface(interface, _) => (
                estate.network_of(interface),
                Some(estate.interfaces[interface].subnet),
            ),
            PublicHolder::Balancer(id, _) => {
                (estate.balancers[id].network, estate.balancers[id].subnet)
            }
            PublicHolder::Nat(gateway, _) => {
                let subnet = match &estate.gateways[gateway].kind {
                    GatewayKind::Nat { subnet, .. } => Some(*subnet),
                    _ => None,
                };
                (estate.gateways[gateway].network, subnet)
            }
            PublicHolder::Firewall(_) | PublicHolder::Service(_) | PublicHolder::Nobody => {
                // Somebody may hold it whom the snapshot lacks.
                let kinds = [
                    "interface",
                    "balancer",
                    "firewall",
                    "service",
                    "gateway",
                    "subnet",
                    "network",
                ];
                let parts = estate.gaps.iter().any(|gap| gap.lack == Lack::Interfaces);
                if parts || self.view.lacks_any(&kinds) {
                    return self.unknown(ctx, Spot::Internet, Why::NobodyKnown, set);
                }
                return self.lost(ctx, Spot::Internet, Why::NobodyHolds, set);
            }
        };
        let Some(gateway) = internet_gateway(self.view, network) else {
            return self.no_gateway(ctx, network, set);
        };
        let spot = Spot::Gateway(gateway);
        if !self.may_come_in(network, subnet) && !has(Fault::WalkBlockIgnoredIn) {
            return self.denied(
                ctx,
                Step::new(false, spot, What::InternetBlock(network, subnet)),
                set,
            );
        }
        let origin = Origin::Gateway(gateway);
        // A reply on the internet finds to whoever asked.
        let home = |walk: &mut Self, ctx: &Ctx, _: Option<Entry>, set: &PacketSet| {
            walk.back(ctx, None, set)
        };
        match holder {
            PublicHolder::Interface(_, own) => {
                let change = Rewrite {
                    destination: Some(own),
                    ..Rewrite::default()
                };
                self.leg(
                    ctx,
                    origin,
                    spot,
                    &change,
                    None,
                    set,
                    |walk, ctx, set| walk.in_from_gateway(ctx, gateway, &set),
                    home,
                )
            }
            PublicHolder::Balancer(_, Some(own)) => {
                let change = Rewrite {
                    destination: Some(own),
                    ..Rewrite::default()
                };
                let inward = |walk: &mut Self, ctx: &Ctx, set: PacketSet| {
                    walk.in_from_gateway(ctx, gateway, &set)
                };
                self.leg(ctx, origin, spot, &change, None, set, inward, home)
            }
            PublicHolder::Balancer(balancer, None) => self.leg(
                ctx,
                origin,
                spot,
                &Rewrite::default(),
                None,
                set,
                |walk, ctx, set| walk.at_balancer(ctx, balancer, None, &set),
                home,
            ),
            PublicHolder::Nat(nat, _) => self.lost(ctx, Spot::Gateway(nat), Why::NothingIn, set),
            PublicHolder::Firewall(_) | PublicHolder::Service(_) | PublicHolder::Nobody => {
                Map::empty()
            }
        }
    }

    /// From the internet to a network's own global addresses.
    pub(super) fn in_by_network(
        &mut self,
        ctx: &Ctx,
        network: Id<Network>,
        set: &PacketSet,
    ) -> Map {
        let Some(gateway) = internet_gateway(self.view, network) else {
            return self.no_gateway(ctx, network, set);
        };
        let spot = Spot::Gateway(gateway);
        let mut rest = set.clone();
        let mut maps = Vec::new();
        let mut block = |walk: &mut Self,
                         rest: &mut PacketSet,
                         subnet: Option<Id<Subnet>>,
                         blocked: PacketSet| {
            *rest = rest.difference(&blocked);
            maps.push(walk.denied(
                ctx,
                Step::new(false, spot, What::InternetBlock(network, subnet)),
                &blocked,
            ));
        };
        if !self.may_come_in(network, None) {
            let all = rest.clone();
            block(self, &mut rest, None, all);
        } else {
            let subnets: Vec<(Id<Subnet>, &Subnet)> = self.view.estate.subnets.iter().collect();
            for (id, subnet) in subnets
                .into_iter()
                .filter(|(_, subnet)| subnet.network == network)
            {
                if !self.may_come_in(network, Some(id)) {
                    let here = rest.between(None, Some(&subnet.blocks));
                    block(self, &mut rest, Some(id), here);
                }
            }
        }
        maps.push(self.leg(
            ctx,
            Origin::Gateway(gateway),
            spot,
            &Rewrite::default(),
            None,
            &rest,
            |walk, ctx, set| walk.in_from_gateway(ctx, gateway, &set),
            |walk, ctx, _, set| walk.back(ctx, None, set),
        ));
        Map::overlay_all(maps)
    }

    /// Out by the platform's own shared address, of which nothing is known but that it is public.
    pub(in crate::walk) fn by_shared_address(
        &mut self,
        ctx: &Ctx,
        network: Id<Network>,
        subnet: Option<Id<Subnet>>,
        set: &PacketSet,
    ) -> Map {
        let spot = subnet.map_or(Spot::Network(network), Spot::Subnet);
        if ctx.reply {
            return self.lost(ctx, spot, Why::NoRoute, set);
        }
        let internet = self.view.internet().clone();
        let closed = !self.may_go_out(network, subnet);
        let stopped = if closed {
            Self::going_to(ctx, set, &internet)
        } else {
            PacketSet::empty()
        };
        let set = &set.difference(&stopped);
        let good = set.intersection(&translatable());
        let mut maps = vec![self.lost(ctx, spot, Why::NotTaken, &set.difference(&good))];
        maps.push(self.denied(
            ctx,
            Step::new(false, spot, What::InternetBlock(network, subnet)),
            &stopped,
        ));
        let ended = Self::going_to(ctx, &good, self.view.internet_as_end());
        let told = self.arrived(ctx, Spot::Internet);
        // The reply comes back to the subnet by the platform itself.
        let (silent, answered) = ended.one_way();
        let label = self.labels.leaf(Verdict::Works, told.trail);
        maps.push(silent.relabel(|()| Some(label)));
        if !answered.is_empty() {
            let back = told.turned();
            maps.push(self.route(&back, vec![(RoutePlace::outside(network), answered)], true));
        }
        let rest = good.difference(&ended);
        let public = self.view.public_index();
        let own = Self::going_to(ctx, &rest, &public.all);
        maps.push(self.unknown(ctx, spot, Why::Lacking, &own));
        maps.push(self.lost(
            ctx,
            Spot::Internet,
            Why::NotOnInternet,
            &rest.difference(&own),
        ));
        Map::overlay_all(maps)
    }
}
