//! Balancers, and the doors of platform services (`docs/semantics.md` 8).

use super::firewall::Entry;
use super::label::{Choice, Leaf, Verdict};
use super::step::{Spot, Step, What, Why};
use super::{Ctx, Leg, Map, Met, Origin, Start, Walk, of_family};
use crate::faults::{Fault, has};
use crate::peers::pairs_in_doubt;
use crate::route::RoutePlace;
use heronshale_model::estate::{
    Balancer, BalancerKind, Direction, Gateway, GatewayKind, Id, Interface, Lack, Network,
    PlatformService, Subnet,
};
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, Rewrite, service};
use std::rc::Rc;

impl Walk<'_, '_> {
    /// Packets come to a balancer's front end that no interface holds.
    pub(super) fn at_balancer(
        &mut self,
        ctx: &Ctx,
        id: Id<Balancer>,
        from: Option<Id<Subnet>>,
        set: &PacketSet,
    ) -> Map {
        let item = &self.view.estate.balancers[id];
        let spot = Spot::Balancer(id);
        if set.is_empty() {
            return Map::empty();
        }
        if ctx.reply {
            return self.lost(ctx, spot, Why::SawNoRequest, set);
        }
        if self.view.lacks("balancer", &item.name, Lack::Interfaces) {
            return self.unknown(ctx, spot, Why::Lacking, set);
        }
        match item.kind {
            BalancerKind::Keeping { .. } => {
                let into = item.subnet.filter(|subnet| from != Some(*subnet));
                self.over_acl(ctx, into, Direction::In, set.clone(), |walk, ctx, set| {
                    walk.keeping(ctx, id, &set)
                })
            }
            BalancerKind::Proxy => {
                let mut all = Vec::new();
                for interface in &item.interfaces {
                    let map = self.enter(ctx, *interface, from, set, |walk, ctx, set, not_kept| {
                        let ctx = ctx.met(Met::Crossed(*interface, not_kept.clone()));
                        walk.at_proxy(&ctx, id, *interface, &set)
                    });
                    all.push((Choice::ProxyInterface(*interface), map));
                }
                self.chosen(all)
            }
        }
    }

    /// Packets to an address that several balancers share: to each by the ports of its front ends, to any if several have one.
    pub(super) fn at_one_of<H: Copy>(
        &mut self,
        ctx: &Ctx,
        all: &[(Id<Balancer>, H)],
        set: &PacketSet,
        mut go: impl FnMut(&mut Self, H, &PacketSet) -> Map,
    ) -> Map {
        let mut parts: Vec<(PacketSet, Vec<usize>)> = vec![(set.clone(), Vec::new())];
        for (at, (id, _)) in all.iter().enumerate() {
            let (taken, _) = self.by_front_end(ctx, *id, set);
            let split = |(part, by): (PacketSet, Vec<usize>)| {
                let (here, rest) = (part.intersection(&taken), part.difference(&taken));
                [(here, by.iter().copied().chain([at]).collect()), (rest, by)]
            };
            parts = parts
                .into_iter()
                .flat_map(split)
                .filter(|(part, _)| !part.is_empty())
                .collect();
        }
        let mut maps = Vec::new();
        for (part, by) in parts {
            // What none takes comes to the first, and is lost there.
            let by = if by.is_empty() { vec![0] } else { by };
            let choices = by
                .into_iter()
                .map(|at| (Choice::Holder(at), go(self, all[at].1, &part)))
                .collect();
            maps.push(self.chosen(choices));
        }
        Map::overlay_all(maps)
    }

    /// Packets by the front end that takes them; and those that none takes.
    fn by_front_end(&self, ctx: &Ctx, id: Id<Balancer>, set: &PacketSet) -> (PacketSet, PacketSet) {
        let mut taken = PacketSet::empty();
        for front in &self.view.estate.balancers[id].front_ends {
            let at: Addresses = [Some(front.address), front.private]
                .into_iter()
                .flatten()
                .collect();
            let here = Self::going_to(ctx, set, &at);
            taken = taken.union(&Self::by_services(&front.services, ctx, &here).0);
        }
        let rest = set.difference(&taken);
        (taken, rest)
    }

    fn keeping(&mut self, ctx: &Ctx, id: Id<Balancer>, set: &PacketSet) -> Map {
        let item = &self.view.estate.balancers[id];
        let spot = Spot::Balancer(id);
        let (taken, rest) = self.by_front_end(ctx, id, set);
        let mut maps = vec![self.lost(ctx, spot, Why::NoFrontEnd, &rest)];
        let ends = self.back_ends(id);
        if ends.is_empty() {
            maps.push(self.lost(ctx, spot, Why::NoBackEnd, &taken));
            return Map::overlay_all(maps);
        }
        if taken.is_empty() {
            return Map::overlay_all(maps);
        }
        let mut all = Vec::new();
        for at in ends {
            let end = &item.back_ends[at];
            let Some(address) = end.address else {
                all.push((
                    Choice::BackEnd(id, at),
                    self.lost(ctx, spot, Why::NoBackEndAddress, &taken),
                ));
                continue;
            };
            let fits = taken.intersection(&of_family(Family::of(address)));
            let wrong = self.lost(ctx, spot, Why::NoBackEndAddress, &taken.difference(&fits));
            let change = Rewrite {
                destination: Some(address),
                port: end.port,
                ..Rewrite::default()
            };
            let place = |walk: &Self| match item.subnet {
                Some(subnet) => RoutePlace::in_subnet(walk.view, subnet, None),
                // Outside of all subnets: by the main table.
                None => RoutePlace {
                    table: walk.view.estate.networks[item.network].main_table.as_ref(),
                    ..RoutePlace::outside(item.network)
                },
            };
            let map = self.leg(
                ctx,
                Origin::Balancer(id),
                spot,
                &change,
                Some(end.origin),
                &fits,
                |walk, ctx, set| {
                    let place = place(walk);
                    walk.route(ctx, vec![(place, set)], false)
                },
                |walk, ctx, via, set| {
                    if let Some(Entry::Leg(interface)) = via {
                        let subnet = walk.view.estate.interfaces[interface].subnet;
                        let place = RoutePlace::in_subnet(walk.view, subnet, Some(interface));
                        return walk.route(ctx, vec![(place, set.clone())], false);
                    }
                    // Outside of all subnets it answers the internet gateway by which it was asked.
                    let by_internet = |id: Id<Gateway>| {
                        matches!(
                            walk.view.estate.gateways[id].kind,
                            GatewayKind::Internet { .. }
                        )
                    };
                    if item.subnet.is_none()
                        && matches!(ctx.leg.origin, Origin::Gateway(id) if by_internet(id))
                    {
                        return walk.back(ctx, None, set);
                    }
                    let place = place(walk);
                    walk.route(ctx, vec![(place, set.clone())], false)
                },
            );
            all.push((Choice::BackEnd(id, at), wrong.overlay(&map)));
        }
        maps.push(self.chosen(all));
        Map::overlay_all(maps)
    }

    /// Packets are at a proxy, past the stages of one of its interfaces: it makes a connection of its own.
    pub(super) fn at_proxy(
        &mut self,
        ctx: &Ctx,
        id: Id<Balancer>,
        interface: Id<Interface>,
        set: &PacketSet,
    ) -> Map {
        let item = &self.view.estate.balancers[id];
        let spot = Spot::Balancer(id);
        let ported = {
            let all = Addresses::all();
            let every = Intervals::span(0, u128::from(u16::MAX));
            PacketSet::fields(&all, &all, |_| service::all_with_ports(), &every, ())
        };
        let (taken, _) = self.by_front_end(ctx, id, &set.intersection(&ported));
        let rest = set.difference(&taken);
        let mut maps = vec![self.lost(ctx, spot, Why::NoFrontEnd, &rest)];
        if taken.is_empty() {
            return Map::overlay_all(maps);
        }
        if self.view.lacks("balancer", &item.name, Lack::Interfaces) {
            // It may ask from another interface.
            maps.push(self.unknown(ctx, spot, Why::Lacking, &taken));
            return Map::overlay_all(maps);
        }
        if ctx.leg.depth >= super::DEEPEST {
            return self.lost(ctx, spot, Why::Loop, set);
        }
        let ends = self.back_ends(id);
        if ends.is_empty() {
            maps.push(self.lost(ctx, spot, Why::NoBackEnd, &taken));
            return Map::overlay_all(maps);
        }
        let mut all = Vec::new();
        for out in &item.interfaces {
            for at in &ends {
                let map = self.second_connection(ctx, id, *out, *at, &taken);
                let chosen = if item.interfaces.len() > 1 {
                    Choice::ProxyInterface(*out)
                } else {
                    Choice::BackEnd(id, *at)
                };
                all.push((chosen, map));
            }
        }
        let map = self.chosen(all);
        if has(Fault::WalkProxyForgetsFirstReply) {
            maps.push(map);
            return Map::overlay_all(maps);
        }
        // Where it works, the first connection's reply follows.
        let outer = ctx.clone();
        maps.push(self.resume(map, Leaf::works, |walk, leaf, region| {
            let trail = walk.kept(leaf.trail);
            let ctx = Ctx {
                trail,
                ..outer.turned()
            };
            walk.depart(&ctx, interface, region)
        }));
        Map::overlay_all(maps)
    }

    /// A proxy's connection to one back end, told of the packets of the first connection.
    fn second_connection(
        &mut self,
        ctx: &Ctx,
        id: Id<Balancer>,
        out: Id<Interface>,
        at: usize,
        set: &PacketSet,
    ) -> Map {
        let item = &self.view.estate.balancers[id];
        let end = &item.back_ends[at];
        let spot = Spot::Balancer(id);
        let source = end
            .address
            .and_then(|to| self.view.estate.interfaces[out].primary(Family::of(to)));
        let (Some(address), Some(source)) = (end.address, source) else {
            return self.lost(ctx, spot, Why::NoBackEndAddress, set);
        };
        let asked = set.services_with_ports();
        let mapped = |protocol: u8, numbers: &Intervals| match end.port {
            None => numbers.clone(),
            Some(port) => {
                let number = u128::from(service::code(protocol, port));
                Intervals::span(number, number)
            }
        };
        let mut services = Intervals::empty();
        for protocol in service::WITH_PORTS {
            let here = asked.intersection(&service::whole(protocol));
            if !here.is_empty() {
                services = services.union(&mapped(protocol, &here));
            }
        }
        let network = self.view.estate.network_of(out);
        let ports = self.view.settings(network).client_ports.clone();
        let packets = PacketSet::fields(
            &Addresses::single(source),
            &Addresses::single(address),
            |_| services.clone(),
            &ports,
            (),
        );
        let change = Rewrite {
            source: Some(source),
            source_ports: Some(ports),
            destination: Some(address),
            port: end.port,
        };
        if ctx.leg.repeats(Origin::Balancer(id), &change) {
            return self.lost(ctx, spot, Why::Loop, set);
        }
        let told = self.told(
            ctx,
            Step::new(false, spot, What::Changed(change.clone(), Some(end.origin))),
        );
        let leg = Leg {
            origin: Origin::Start,
            start: Start::Interfaces(vec![out]),
            depth: ctx.leg.depth + 1,
            source_changed: false,
            destination_changed: true,
            name: None,
            begun: Some((Origin::Balancer(id), change.clone())),
            before: Some(Rc::clone(&ctx.leg)),
        };
        if let Some(map) = self.given_up(&told, set) {
            return map;
        }
        let map = self.connection_on(leg, told.trail, &packets);
        let map = map.fold_source_ports(&mut |labels| {
            let all = labels
                .iter()
                .map(|(ports, label)| (Choice::TranslatedPorts(ports.clone()), *label));
            self.labels.choose(all.collect())
        });
        let map =
            map.relabel(|label| Some(self.labels.before(label, change.source, change.destination)));
        // Back to the packets of the first connection: only the service counts.
        let every = Intervals::span(0, u128::from(u16::MAX));
        let all = Addresses::all();
        let mut parts = Vec::new();
        for (entry, label) in map.boxes() {
            let mut numbers = Intervals::empty();
            for protocol in service::WITH_PORTS {
                let here = entry.services.intersection(&service::whole(protocol));
                if !here.is_empty() {
                    let wide = if end.port.is_some() {
                        service::whole(protocol)
                    } else {
                        here
                    };
                    numbers = numbers.union(&wide);
                }
            }
            parts.push(Map::fields(&all, &all, |_| numbers.clone(), &every, label));
        }
        Map::overlay_all(parts).restrict(set)
    }

    /// Packets come to a private door.
    pub(super) fn at_private_door(
        &mut self,
        ctx: &Ctx,
        id: Id<PlatformService>,
        interface: Id<Interface>,
        from: Option<Id<Subnet>>,
        set: &PacketSet,
    ) -> Map {
        let estate = self.view.estate;
        let item = &estate.services[id];
        let spot = Spot::Service(id);
        if ctx.reply {
            return self.lost(ctx, spot, Why::OneWayDoor, set);
        }
        let (mut fits, mut wrong) = Self::by_services(&item.services, ctx, set);
        if has(Fault::WalkDoorPortIgnored) {
            (fits, wrong) = (set.clone(), PacketSet::empty());
        }
        let mut maps = vec![self.lost(ctx, spot, Why::NoSuchPort, &wrong)];
        if fits.is_empty() {
            return Map::overlay_all(maps);
        }
        let subnet = &estate.subnets[estate.interfaces[interface].subnet];
        let applies = subnet
            .filter_private_doors
            .unwrap_or(self.view.settings(subnet.network).filter_private_doors);
        let applies = applies != has(Fault::WalkDoorFilteredOtherwise);
        let filtered = applies && !estate.interfaces[interface].unfiltered;
        maps.push(if filtered {
            self.enter(ctx, interface, from, &fits, |walk, ctx, set, not_kept| {
                let ctx = ctx.met(Met::Crossed(interface, not_kept.clone()));
                walk.past_private_door(&ctx, id, interface, &set)
            })
        } else {
            let ctx = ctx.met(Met::Crossed(interface, Vec::new()));
            let free_of = Some(estate.interfaces[interface].subnet);
            self.past_private_door(&Ctx { free_of, ..ctx }, id, interface, &fits)
        });
        Map::overlay_all(maps)
    }

    fn past_private_door(
        &mut self,
        ctx: &Ctx,
        id: Id<PlatformService>,
        interface: Id<Interface>,
        set: &PacketSet,
    ) -> Map {
        let item = &self.view.estate.services[id];
        let (Some(balancer), Some(source)) = (item.balancer, item.provider_source) else {
            return self.answered(ctx, interface, Self::state_of(ctx, interface), set);
        };
        let front = self.view.estate.balancers[balancer]
            .front_ends
            .first()
            .map(|front| front.address);
        let spot = Spot::Service(id);
        let Some(front) = front.filter(|front| Family::of(*front) == Family::of(source)) else {
            return self.lost(ctx, Spot::Balancer(balancer), Why::NoFrontEnd, set);
        };
        let network = self.view.estate.network_of(interface);
        let change = Rewrite {
            source: Some(source),
            source_ports: Some(self.view.settings(network).nat_ports.clone()),
            destination: Some(front),
            port: None,
        };
        let fits = set.intersection(&of_family(Family::of(front)));
        let wrong = self.lost(ctx, spot, Why::NoBackEndAddress, &set.difference(&fits));
        let map = self.leg(
            ctx,
            Origin::Platform,
            spot,
            &change,
            None,
            &fits,
            |walk, ctx, set| {
                let holder = walk.view.estate.balancers[balancer]
                    .interfaces
                    .iter()
                    .copied()
                    .find(|interface| {
                        walk.view.estate.interfaces[*interface]
                            .addresses
                            .contains(front)
                    });
                match holder {
                    Some(interface) => walk.arrive(ctx, interface, None, &set),
                    None => walk.at_balancer(ctx, balancer, None, &set),
                }
            },
            |walk, ctx, _, set| walk.depart(ctx, interface, set),
        );
        wrong.overlay(&map)
    }

    /// Packets come to a service's public door, with the source as the internet sees it.
    pub(super) fn at_public_door(
        &mut self,
        ctx: &Ctx,
        id: Id<PlatformService>,
        set: &PacketSet,
    ) -> Map {
        let item = &self.view.estate.services[id];
        let spot = Spot::Service(id);
        if ctx.reply {
            return self.lost(ctx, spot, Why::NotAsked, set);
        }
        let (fits, wrong) = Self::by_services(&item.services, ctx, set);
        let mut maps = vec![self.lost(ctx, spot, Why::NoSuchPort, &wrong)];
        let Some(door) = &item.public_door else {
            return Map::overlay_all(maps);
        };
        if !door.open && !has(Fault::WalkDoorAlwaysOpen) {
            maps.push(self.denied(ctx, Step::new(false, spot, What::DoorShut), &fits));
            return Map::overlay_all(maps);
        }
        if self.view.lacks("service", &item.name, Lack::Rules) {
            maps.push(self.unknown(ctx, spot, Why::Lacking, &fits));
            return Map::overlay_all(maps);
        }
        let allowed = door
            .allowed
            .as_deref()
            .filter(|_| !has(Fault::WalkDoorListIgnored));
        let good = allowed.map_or_else(
            || fits.clone(),
            |peers| fits.between(Some(&self.view.peers(peers, None).sure), None),
        );
        let mut rest = fits.difference(&good);
        let admit = |walk: &mut Self, set: &PacketSet| {
            let told = walk.told(ctx, Step::new(false, spot, What::DoorList(true)));
            let told = walk.arrived(&told, spot);
            let (silent, answered) = set.one_way();
            let label = walk.labels.leaf(Verdict::Works, told.trail);
            silent
                .relabel(|()| Some(label))
                .overlay(&walk.back(&told.turned(), None, &answered))
        };
        maps.push(admit(self, &good));
        let shut = Step::new(false, spot, What::DoorList(false));
        for ([from, _], turning) in pairs_in_doubt(self.view, (allowed, &[]), (None, &[]), None) {
            let open = rest.between(Some(&from), None);
            if !open.is_empty() {
                rest = rest.difference(&open);
                let (yes, no) = (admit(self, &open), self.denied(ctx, shut.clone(), &open));
                maps.push(self.by_turning(ctx, spot, &turning, &yes, &no));
            }
        }
        maps.push(self.denied(ctx, shut, &rest));
        Map::overlay_all(maps)
    }

    /// A route leads straight to a service's public door: the source stays as it is.
    pub(super) fn by_service_route(
        &mut self,
        ctx: &Ctx,
        id: Id<PlatformService>,
        network: Id<Network>,
        set: &PacketSet,
    ) -> Map {
        let spot = Spot::Service(id);
        if ctx.reply {
            return self.lost(ctx, spot, Why::SawNoRequest, set);
        }
        let door = self.view.estate.services[id].public_door.as_ref();
        let held = door.map_or_else(Addresses::empty, |door| door.addresses.clone());
        let here = Self::going_to(ctx, set, &held);
        let map = self.leg(
            ctx,
            Origin::Platform,
            spot,
            &Rewrite::default(),
            None,
            &here,
            |walk, ctx, set| walk.at_public_door(ctx, id, &set),
            |walk, ctx, _, set| {
                walk.route(ctx, vec![(RoutePlace::outside(network), set.clone())], true)
            },
        );
        map.overlay(&self.lost(ctx, spot, Why::NobodyHolds, &set.difference(&here)))
    }
}
