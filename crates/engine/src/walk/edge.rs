//! The edges of networks: gateways, the internet, sites, hubs.

use super::firewall::Entry;
use super::label::{Choice, Leaf, Verdict};
use super::step::{Spot, Step, What, Why};
use super::{Ctx, Leg, Map, Met, Origin, Start, Visit, Walk, of_family};
use crate::doubt::{Doubt, Unsaid};
use crate::fabric::{PublicHolder, internet_gateway};
use crate::faults::{Fault, has};
use crate::route::{
    Hop, RoutePlace, Winner, domain_candidates, lent_gateways, link_of, routes_of, site_gateways,
};
use heronshale_model::estate::{
    Balancer, Direction, Gateway, GatewayKind, Hub, Id, InternetTraffic, Lack, LinkEnd, Network,
    Reference, Site, Subnet,
};
use heronshale_sets::address::{Addresses, Family, internet_at_large};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, Rewrite, service};
use rustc_hash::FxHashSet;
use std::net::IpAddr;
use std::rc::Rc;

fn single(address: IpAddr) -> Addresses {
    Addresses::single(address)
}

/// TCP, UDP and echo requests over IPv4: what address translators of the platform take.
fn translatable() -> PacketSet {
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

/// A change of headers, as a whole and in the parts in which it is told.
pub(super) struct Change<'c> {
    pub whole: &'c Rewrite,
    /// Each with where it was written, in the order in which they are made.
    pub parts: Vec<(Rewrite, Option<heronshale_model::source::Origin>)>,
    /// So many of them have been told on the way there.
    pub told: usize,
}

impl<'e> Walk<'_, 'e> {
    /// A new leg, begun by a device: what becomes of the changed packets, then the reply goes on from there.
    #[allow(
        clippy::too_many_arguments,
        reason = "what a leg is: who begins it, how, and what comes after"
    )]
    pub(super) fn leg(
        &mut self,
        ctx: &Ctx,
        origin: Origin,
        at: Spot,
        change: &Rewrite,
        by: Option<heronshale_model::source::Origin>,
        set: &PacketSet,
        onward: impl FnMut(&mut Self, &Ctx, PacketSet) -> Map,
        home: impl FnMut(&mut Self, &Ctx, Option<Entry>, &PacketSet) -> Map,
    ) -> Map {
        let change = Change {
            whole: change,
            parts: vec![(change.clone(), by)],
            told: 0,
        };
        self.leg_by(ctx, origin, at, &change, set, onward, home)
    }

    /// The same for a change of several parts, the first of which may have been told.
    #[allow(
        clippy::too_many_arguments,
        reason = "what a leg is: who begins it, how, and what comes after"
    )]
    pub(super) fn leg_by(
        &mut self,
        ctx: &Ctx,
        origin: Origin,
        at: Spot,
        Change {
            whole: change,
            parts,
            told,
        }: &Change<'_>,
        set: &PacketSet,
        mut onward: impl FnMut(&mut Self, &Ctx, PacketSet) -> Map,
        mut home: impl FnMut(&mut Self, &Ctx, Option<Entry>, &PacketSet) -> Map,
    ) -> Map {
        if set.is_empty() {
            return Map::empty();
        }
        if ctx.leg.depth >= super::DEEPEST
            || (!change.is_nothing() && ctx.leg.repeats(origin, change))
        {
            return self.lost(ctx, at, Why::Loop, set);
        }
        let mut there = ctx.clone();
        for (part, by) in parts
            .iter()
            .skip(*told)
            .filter(|(part, _)| !part.is_nothing())
        {
            there = self.told(
                &there,
                Step::new(false, at, What::Changed(part.clone(), *by)),
            );
        }
        let told = there;
        let changed = if change.is_nothing() {
            set.clone()
        } else {
            set.rewritten(change)
        };
        let leg = Leg {
            origin,
            start: ctx.leg.start.clone(),
            depth: ctx.leg.depth + 1,
            source_changed: change.source.is_some(),
            destination_changed: ctx.leg.destination_changed || change.destination.is_some(),
            name: ctx.leg.name.clone(),
            begun: (!change.is_nothing()).then(|| (origin, (*change).clone())),
            before: Some(Rc::clone(&ctx.leg)),
        };
        let inner = Ctx {
            leg: Rc::new(leg),
            // The same header may come to the same places again.
            path: if change.is_nothing() {
                ctx.met(Met::NewLeg).path
            } else {
                None
            },
            trail: told.trail,
            reply: false,
            by_site_gateway: None,
            bypassed: None,
            free_of: None,
        };
        let given_up = self.given_up(&inner, &changed);
        let mut map = given_up.unwrap_or_else(|| onward(self, &inner, changed));
        if change.source_ports.is_some() {
            map = map.fold_source_ports(&mut |labels| {
                let all = labels
                    .iter()
                    .map(|(ports, label)| (Choice::TranslatedPorts(ports.clone()), *label));
                self.labels.choose(all.collect())
            });
        }
        let mut map = map.before(change).restrict(set);
        if !change.is_nothing() {
            map = map.relabel(|label| {
                Some(self.labels.before(label, change.source, change.destination))
            });
        }
        let outer = ctx.clone();
        self.resume(map, Leaf::is_back, |walk, leaf, region| {
            let trail = walk.kept(leaf.trail);
            let mut back = Ctx {
                reply: true,
                trail,
                bypassed: leaf.back.and_then(|back| back.bypassed),
                ..outer.clone()
            };
            for (part, by) in parts.iter().rev().filter(|(part, _)| !part.is_nothing()) {
                back = walk.told(&back, Step::new(true, at, What::Changed(part.clone(), *by)));
            }
            let given_up = walk.given_up(&back, region);
            given_up
                .unwrap_or_else(|| home(walk, &back, leaf.back.and_then(|back| back.via), region))
        })
    }

    /// Whether a network, or a subnet of it, may open connections to the internet.
    fn may_go_out(&self, network: Id<Network>, subnet: Option<Id<Subnet>>) -> bool {
        let estate = self.view.estate;
        let closed = |traffic: InternetTraffic| traffic == InternetTraffic::None;
        !closed(estate.networks[network].internet_traffic)
            && !subnet.is_some_and(|subnet| closed(estate.subnets[subnet].internet_traffic))
    }

    /// Packets come to a gateway from inside.
    pub(super) fn at_gateway(
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
    fn out_by_gateway(&mut self, ctx: &Ctx, id: Id<Gateway>, set: &PacketSet) -> Map {
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

    fn by_nat(
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
    pub(super) fn at_nat_address(
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

    fn out_by_internet_gateway(&mut self, ctx: &Ctx, id: Id<Gateway>, set: &PacketSet) -> Map {
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

    /// From a gateway without a subnet into its network: by its own table, else automatic routes.
    fn in_from_gateway(&mut self, ctx: &Ctx, id: Id<Gateway>, set: &PacketSet) -> Map {
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
    pub(super) fn on_internet(&mut self, ctx: &Ctx, set: PacketSet) -> Map {
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
    fn reply_from_outside(&mut self, ctx: &Ctx, set: &PacketSet) -> Map {
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
    fn may_come_in(&self, network: Id<Network>, subnet: Option<Id<Subnet>>) -> bool {
        let estate = self.view.estate;
        let open = |traffic: InternetTraffic| traffic == InternetTraffic::BothWays;
        open(estate.networks[network].internet_traffic)
            && subnet.is_none_or(|subnet| open(estate.subnets[subnet].internet_traffic))
    }

    fn no_gateway(&mut self, ctx: &Ctx, network: Id<Network>, set: &PacketSet) -> Map {
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
    fn in_at(&mut self, ctx: &Ctx, holder: PublicHolder, set: &PacketSet) -> Map {
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
    fn in_by_network(&mut self, ctx: &Ctx, network: Id<Network>, set: &PacketSet) -> Map {
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
    pub(super) fn by_shared_address(
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

    /// Packets come to a site.
    pub(super) fn at_site(&mut self, ctx: &Ctx, site: Id<Site>, by: Spot, set: &PacketSet) -> Map {
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
    pub(super) fn leave_site(&mut self, ctx: &Ctx, site: Id<Site>, set: PacketSet) -> Map {
        enum Way {
            Gateway(Id<Gateway>),
            Link(Id<Hub>, usize),
        }
        let estate = self.view.estate;
        let mut offers: Vec<(Addresses, Way)> = Vec::new();
        // What is perhaps offered besides, by what the snapshot lacks.
        let everywhere = self.view.lacks_any(&["gateway", "hub"]);
        let mut perhaps = if everywhere {
            Addresses::all()
        } else {
            Addresses::empty()
        };
        for network in estate.networks.ids() {
            for (gateway, other) in site_gateways(self.view, network) {
                if other != site {
                    continue;
                }
                let mut offered = estate.networks[network].blocks.clone();
                if self.view.lacks_any(&["peering"]) {
                    perhaps = Addresses::all();
                }
                for peering in estate.peerings.items() {
                    let lends = peering.side(network).is_some_and(|side| side.lend_gateways)
                        && peering.is_up();
                    if let Some(Reference::Missing(user)) =
                        peering.opposite(network).filter(|_| lends)
                    {
                        perhaps = perhaps.union(self.view.lacking_blocks(user).0);
                    }
                    if let Some(Reference::Found(user)) = peering.opposite(network)
                        && lent_gateways(self.view, peering, *user)
                            .iter()
                            .any(|(lent, _)| *lent == gateway)
                    {
                        offered = offered.union(&estate.networks[*user].blocks);
                    }
                }
                offers.push((offered, Way::Gateway(gateway)));
            }
        }
        for (id, hub) in estate.hubs.iter() {
            for (at, link) in hub.links.iter().enumerate() {
                if link.up && link.to == LinkEnd::Site(Reference::Found(site)) {
                    let learned = link
                        .reads
                        .map(|domain| domain_candidates(self.view, id, domain));
                    let leads = |winner: &Winner| {
                        winner.hop != Hop::Hub(id, at) && winner.hop != Hop::Blackhole
                    };
                    if let Some(learned) = &learned {
                        let open = learned.perhaps_of(leads);
                        perhaps = perhaps.union(&open);
                    }
                    let offered = learned.into_iter().flat_map(|learned| learned.all);
                    let offered = offered.filter(|one| leads(&one.winner));
                    offers.push((offered.map(|one| one.range).collect(), Way::Link(id, at)));
                }
            }
        }
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
                    Way::Gateway(gateway) => {
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
                    Way::Link(hub, link) => self.in_hub(ctx, hub, Some(link), link, true, &part),
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
    pub(super) fn in_hub(
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

    fn out_by_link(&mut self, ctx: &Ctx, hub: Id<Hub>, at: usize, set: &PacketSet) -> Map {
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
