//! Gateways: out to the internet, and translated.

use super::*;

impl<'e> Walk<'_, 'e> {
    /// Whether a network, or a subnet of it, may open connections to the internet.
    pub(super) fn may_go_out(&self, network: Id<Network>, subnet: Option<Id<Subnet>>) -> bool {
        let estate = self.view.estate;
        let closed = |traffic: InternetTraffic| traffic == InternetTraffic::None;
        !closed(estate.networks[network].internet_traffic)
            && !subnet.is_some_and(|subnet| closed(estate.subnets[subnet].internet_traffic))
    }

    /// Packets come to a gateway from inside.
    pub(in crate::walk) fn at_gateway(
        &mut self,
        ctx: &Ctx,
        id: Id<Gateway>,
        network: Id<Network>,
        subnet: Option<Id<Subnet>>,
        set: &PacketSet,
    ) -> Map {
        let gateway = &self.view.estate.gateways[id];
        let spot = Spot::Gateway(id);
        if let GatewayKind::Site { site, .. } = gateway.kind {
            return self.at_site(ctx, site, spot, set);
        }
        if ctx.reply {
            // A reply must come to the gateway that saw the request; a NAT gateway is asked by its own address.
            return match gateway.kind {
                GatewayKind::Nat { subnet: home, .. } => {
                    let acl = Some(home).filter(|home| subnet != Some(*home));
                    self.over_acl(ctx, acl, Direction::In, set.clone(), |walk, ctx, set| {
                        walk.lost(ctx, spot, Why::SawNoRequest, &set)
                    })
                }
                _ if ctx.leg.origin == Origin::Gateway(id) || has(Fault::WalkReplyByAnyGateway) => {
                    self.back(ctx, None, set)
                }
                _ => self.lost(ctx, spot, Why::SawNoRequest, set),
            };
        }
        // The block is asked of what goes to the internet.
        let to_internet = !matches!(gateway.kind, GatewayKind::Nat { public: None, .. });
        let blocked =
            to_internet && !self.may_go_out(network, subnet) && !has(Fault::WalkBlockIgnoredOut);
        let internet = self.view.internet().clone();
        let blocks = |set: &PacketSet| {
            if blocked {
                Self::going_to(ctx, set, &internet)
            } else {
                PacketSet::empty()
            }
        };
        let block = |walk: &mut Self, ctx: &Ctx, set: &PacketSet| {
            walk.denied(
                ctx,
                Step::new(false, spot, What::InternetBlock(network, subnet)),
                set,
            )
        };
        if !matches!(gateway.kind, GatewayKind::Nat { .. }) && blocked {
            let stopped = blocks(set);
            if !stopped.is_empty() {
                let rest = set.difference(&stopped);
                let map = block(self, ctx, &stopped);
                return map.overlay(&self.out_by_gateway(ctx, id, &rest));
            }
        }
        match &gateway.kind {
            GatewayKind::Internet { .. } | GatewayKind::OutboundOnly => {
                self.out_by_gateway(ctx, id, set)
            }
            GatewayKind::Nat {
                subnet: home,
                address,
                ..
            } => {
                let (home, address) = (*home, *address);
                let acl = Some(home).filter(|home| subnet != Some(*home));
                self.over_acl(ctx, acl, Direction::In, set.clone(), |walk, ctx, set| {
                    let stopped = blocks(&set);
                    let rest = set.difference(&stopped);
                    let map = block(walk, ctx, &stopped);
                    map.overlay(&walk.by_nat(ctx, id, home, address, &rest))
                })
            }
            GatewayKind::Site { .. } => Map::empty(),
        }
    }

    /// Packets leave by a gateway that has no place in a subnet, which lets them out.
    pub(super) fn out_by_gateway(&mut self, ctx: &Ctx, id: Id<Gateway>, set: &PacketSet) -> Map {
        let spot = Spot::Gateway(id);
        if set.is_empty() {
            return Map::empty();
        }
        match &self.view.estate.gateways[id].kind {
            GatewayKind::Internet { .. } => self.out_by_internet_gateway(ctx, id, set),
            GatewayKind::OutboundOnly => {
                let global = internet_at_large().intersection(&Addresses::of_family(Family::V6));
                let good =
                    Self::coming_from(ctx, set, &global).intersection(&of_family(Family::V6));
                let bad = set.difference(&good);
                let map = self.leg(
                    ctx,
                    Origin::Gateway(id),
                    spot,
                    &Rewrite::default(),
                    None,
                    &good,
                    |walk, ctx, set| walk.on_internet(ctx, set),
                    |walk, ctx, _, set| walk.in_from_gateway(ctx, id, set),
                );
                map.overlay(&self.lost(ctx, spot, Why::NotTaken, &bad))
            }
            GatewayKind::Nat { .. } | GatewayKind::Site { .. } => Map::empty(),
        }
    }

    pub(super) fn by_nat(
        &mut self,
        ctx: &Ctx,
        id: Id<Gateway>,
        home: Id<Subnet>,
        address: Option<IpAddr>,
        set: &PacketSet,
    ) -> Map {
        let spot = Spot::Gateway(id);
        let takes_all = has(Fault::WalkNatTakesAll);
        let good = if takes_all {
            set.clone()
        } else {
            set.intersection(&translatable())
        };
        let bad = set.difference(&good);
        let network = self.view.estate.subnets[home].network;
        let drawn = Some(self.view.settings(network).nat_ports.clone())
            .filter(|_| !has(Fault::WalkNatKeepsPorts));
        let change = Rewrite {
            source: address,
            source_ports: drawn,
            ..Rewrite::default()
        };
        let map = self.leg(
            ctx,
            Origin::Gateway(id),
            spot,
            &change,
            None,
            &good,
            |walk, ctx, set| {
                walk.route(
                    ctx,
                    vec![(RoutePlace::in_subnet(walk.view, home, None), set)],
                    false,
                )
            },
            |walk, ctx, _, set| {
                let place = RoutePlace::in_subnet(walk.view, home, None);
                walk.route(ctx, vec![(place, set.clone())], false)
            },
        );
        map.overlay(&self.lost(ctx, spot, Why::NotTaken, &bad))
    }

    /// Packets come to a NAT gateway's own address.
    pub(in crate::walk) fn at_nat_address(
        &mut self,
        ctx: &Ctx,
        id: Id<Gateway>,
        from: Option<Id<Subnet>>,
        set: &PacketSet,
    ) -> Map {
        let GatewayKind::Nat { subnet, .. } = &self.view.estate.gateways[id].kind else {
            return Map::empty();
        };
        let acl = Some(*subnet).filter(|subnet| from != Some(*subnet));
        let spot = Spot::Gateway(id);
        self.over_acl(ctx, acl, Direction::In, set.clone(), |walk, ctx, set| {
            if ctx.reply && ctx.leg.origin == Origin::Gateway(id) {
                walk.back(ctx, None, &set)
            } else if ctx.reply {
                walk.lost(ctx, spot, Why::SawNoRequest, &set)
            } else {
                walk.lost(ctx, spot, Why::NothingIn, &set)
            }
        })
    }

    pub(super) fn out_by_internet_gateway(
        &mut self,
        ctx: &Ctx,
        id: Id<Gateway>,
        set: &PacketSet,
    ) -> Map {
        let spot = Spot::Gateway(id);
        let network = self.view.estate.gateways[id].network;
        let mut maps = Vec::new();
        let mut rest = set.clone();
        let sources = set.sources();
        let public = self.view.public_index();
        for (own, address) in public.mapped.get(&network).into_iter().flatten() {
            if !sources.contains(*own) {
                continue;
            }
            let here = rest.between(Some(&single(*own)), None);
            rest = rest.difference(&here);
            let change = Rewrite {
                source: Some(*address),
                ..Rewrite::default()
            };
            maps.push(self.leg(
                ctx,
                Origin::Gateway(id),
                spot,
                &change,
                None,
                &here,
                |walk, ctx, set| walk.on_internet(ctx, set),
                |walk, ctx, _, set| walk.in_from_gateway(ctx, id, set),
            ));
        }
        let global = internet_at_large().intersection(&Addresses::of_family(Family::V6));
        let open = rest
            .between(Some(&global), None)
            .intersection(&of_family(Family::V6));
        rest = rest.difference(&open);
        maps.push(self.leg(
            ctx,
            Origin::Gateway(id),
            spot,
            &Rewrite::default(),
            None,
            &open,
            |walk, ctx, set| walk.on_internet(ctx, set),
            |walk, ctx, _, set| walk.in_from_gateway(ctx, id, set),
        ));
        maps.push(self.lost(ctx, spot, Why::NotMapped, &rest));
        Map::overlay_all(maps)
    }
}

/// TCP, UDP and echo requests over IPv4: what address translators of the platform take.
pub(super) fn translatable() -> PacketSet {
    let all = Addresses::of_family(Family::V4);
    let every = Intervals::span(0, u128::from(u16::MAX));
    let echo = |code: u8| u128::from(service::code(service::ICMP, u16::from_be_bytes([8, code])));
    let numbers = |_| {
        service::whole(service::TCP)
            .union(&service::whole(service::UDP))
            .union(&Intervals::span(echo(0), echo(u8::MAX)))
    };
    PacketSet::fields(&all, &all, numbers, &every, ())
}
