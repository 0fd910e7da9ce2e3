//! Many interfaces at once: what their sides do as one map, so that no pair of interfaces is looked at.

use super::label::Verdict;
use super::stages::Pass;
use super::step::{Spot, Why};
use super::{Ctx, Map, Met, Start, Walk};
use crate::route::RoutePlace;
use heronshale_model::estate::{Direction, Filter, Id, Interface, Network, Reference, Subnet};
use heronshale_sets::address::Addresses;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketMap, PacketSet, service};
use rustc_hash::FxHashMap;
use std::rc::Rc;

/// What the stages of a network's plain interfaces do, on one side.
#[derive(Debug)]
pub(super) struct Crowd {
    /// Places in `passes`; 0 goes on and keeps all states.
    map: PacketMap<u32>,
    passes: Vec<(Vec<Id<Interface>>, Pass)>,
}

/// An ACL, one of the subnets that have it, and interfaces in those.
type BehindAcl<'a> = (
    Option<&'a Reference<Filter>>,
    Id<Subnet>,
    Vec<Id<Interface>>,
);

impl<'e> Walk<'_, 'e> {
    fn stage_class(&self, interface: Id<Interface>) -> u32 {
        let view = self.view;
        let classes = view.stage_classes();
        classes[interface.index()]
    }

    fn crowd(
        &mut self,
        ctx: &Ctx,
        network: Id<Network>,
        direction: Direction,
        of: &PacketSet,
    ) -> Rc<Crowd> {
        // Only what is asked about: of these services.
        let services = of.services();
        let key = (network, direction, services.clone());
        let ctx = &Ctx {
            trail: 0,
            ..ctx.clone()
        };
        if let Some(known) = self.crowds.get(&key) {
            return Rc::clone(known);
        }
        let estate = self.view.estate;
        let mut index: FxHashMap<u32, usize> = FxHashMap::default();
        let mut classes: Vec<Vec<Id<Interface>>> = Vec::new();
        for id in self
            .view
            .interfaces_in(network)
            .iter()
            .copied()
            .filter(|id| !self.view.roles().contains_key(id))
        {
            let class = self.stage_class(id);
            let at = *index.entry(class).or_insert_with(|| {
                classes.push(Vec::new());
                classes.len() - 1
            });
            classes[at].push(id);
        }
        let mut passes: Vec<(Vec<Id<Interface>>, Pass)> =
            vec![(Vec::new(), Pass::On(Vec::new(), 0))];
        let mut maps = Vec::with_capacity(classes.len());
        let all = Addresses::all();
        let every = Intervals::span(0, u128::from(u16::MAX));
        let numbers = |family| services.intersection(&service::all(family));
        for mut members in classes {
            if !self.left_out.is_empty() {
                members.retain(|id| !estate.interfaces[*id].addresses.is_subset(&self.left_out));
            }
            let own: Addresses = members
                .iter()
                .flat_map(|id| estate.interfaces[*id].addresses.ranges())
                .collect();
            let own = own.difference(&self.left_out);
            if own.is_empty() {
                continue;
            }
            let (from, to) = if direction == Direction::In {
                (&all, &own)
            } else {
                (&own, &all)
            };
            let domain = PacketSet::fields(from, to, numbers, &every, ());
            for (pass, set) in self.side_with(ctx, members[0], direction, &domain, None) {
                let whose = if matches!(pass, Pass::Stopped(_)) {
                    Vec::new()
                } else {
                    members.clone()
                };
                let at = match &pass {
                    Pass::On(not_kept, _) if not_kept.is_empty() => 0,
                    _ => passes
                        .iter()
                        .position(|known| *known == (whose.clone(), pass.clone()))
                        .unwrap_or_else(|| {
                            passes.push((whose, pass));
                            passes.len() - 1
                        }),
                };
                let label = u32::try_from(at).expect("fewer than 2^32 passes");
                maps.push(set.relabel(|()| Some(label)));
            }
        }
        let crowd = Rc::new(Crowd {
            map: PacketMap::overlay_all(maps).shared(),
            passes,
        });
        self.crowds.insert(key, Rc::clone(&crowd));
        crowd
    }

    fn own(&self, interfaces: &[Id<Interface>]) -> Addresses {
        interfaces
            .iter()
            .flat_map(|id| self.view.estate.interfaces[*id].addresses.ranges())
            .collect()
    }

    /// Packets start at many interfaces.
    pub(super) fn start_at_many(
        &mut self,
        ctx: &Ctx,
        interfaces: &[Id<Interface>],
        packets: &PacketSet,
    ) -> Map {
        let estate = self.view.estate;
        let (special, plain): (Vec<Id<Interface>>, Vec<Id<Interface>>) = interfaces
            .iter()
            .partition(|id| self.view.roles().contains_key(id));
        let here = packets.between(Some(&self.own(&plain)), None);
        let mut maps = Vec::new();
        let rest = packets.difference(&here);
        if !rest.is_empty() {
            maps.push(if special.is_empty() {
                self.lost(ctx, Spot::Interface(interfaces[0]), Why::NobodyHolds, &rest)
            } else {
                self.start_at_each(ctx, &special, &rest)
            });
        }
        // To itself, and to the platform.
        let wanted = here.destinations();
        let itself = plain
            .iter()
            .map(|id| &estate.interfaces[*id].addresses)
            .filter(|own| own.overlaps(&wanted));
        let mut done = PacketSet::union_all(itself.map(|own| here.between(Some(own), Some(own))));
        done = done.union(&here.intersection(self.view.platform_traffic()));
        let here = here.difference(&done);
        let label = self.labels.leaf(Verdict::Works, ctx.trail);
        maps.push(done.relabel(|()| Some(label)));
        let mut networks: Vec<Id<Network>> =
            plain.iter().map(|id| estate.network_of(*id)).collect();
        networks.sort_unstable();
        networks.dedup();
        let mut places: Vec<(RoutePlace<'e>, PacketSet)> = Vec::new();
        for network in networks {
            let crowd = self.crowd(ctx, network, Direction::Out, &here);
            for (at, set) in crowd.map.restrict(&here).shared().regions() {
                if at == 0 {
                    let holders = self.view.holders(network);
                    for (subnet, held) in holders.by_subnet() {
                        let mine = set.between(Some(held), None);
                        if !mine.is_empty() {
                            places.push((RoutePlace::in_subnet(self.view, *subnet, None), mine));
                        }
                    }
                    continue;
                }
                let (members, pass) = &crowd.passes[at as usize];
                maps.push(self.each(
                    ctx,
                    vec![(pass.clone(), set)],
                    |walk, ctx, set, not_kept| {
                        let mut maps = Vec::new();
                        for member in members {
                            let own = &walk.view.estate.interfaces[*member].addresses;
                            let mine = set.between(Some(own), None);
                            if !mine.is_empty() {
                                let ctx = ctx.met(Met::Crossed(*member, not_kept.clone()));
                                let subnet = walk.view.estate.interfaces[*member].subnet;
                                let place = RoutePlace::in_subnet(walk.view, subnet, Some(*member));
                                maps.push(walk.route(&ctx, vec![(place, mine)], true));
                            }
                        }
                        Map::overlay_all(maps)
                    },
                ));
            }
        }
        let ctx = ctx.met(Met::StartsCrossed);
        maps.push(self.route(&ctx, places, true));
        Map::overlay_all(maps)
    }

    /// Packets reach many plain interfaces of one network.
    pub(super) fn arrive_at_many(
        &mut self,
        ctx: &Ctx,
        network: Id<Network>,
        from: Option<Id<Subnet>>,
        interfaces: &[Id<Interface>],
        set: &PacketSet,
    ) -> Map {
        let estate = self.view.estate;
        let mut by_acl: Vec<BehindAcl<'_>> = Vec::new();
        for id in interfaces {
            let subnet = estate.interfaces[*id].subnet;
            let acl = estate.subnets[subnet]
                .acl
                .as_ref()
                .filter(|_| from != Some(subnet));
            match by_acl.iter_mut().find(|(other, _, _)| *other == acl) {
                Some((_, _, members)) => members.push(*id),
                None => by_acl.push((acl, subnet, vec![*id])),
            }
        }
        let asked = |all: &[Id<Interface>]| matches!(&ctx.leg.start, Start::Interfaces(starts) if ctx.leg.origin == super::Origin::Start && all.iter().all(|id| starts.contains(id)));
        let all_kept = ctx.path().all(|node| !matches!(node.met, Met::Crossed(..)));
        let home = ctx.reply && all_kept && asked(interfaces);
        let mut maps = Vec::new();
        for (acl, subnet, members) in by_acl {
            let here = Self::going_to(ctx, set, &self.own(&members));
            let map = self.over_acl(
                ctx,
                acl.map(|_| subnet),
                Direction::In,
                here,
                |walk, ctx, set| {
                    if home {
                        return walk.back(ctx, None, &set);
                    }
                    if ctx.reply {
                        let mut maps = Vec::new();
                        for member in &members {
                            let mine = Self::going_to(
                                ctx,
                                &set,
                                &walk.view.estate.interfaces[*member].addresses,
                            );
                            let subnet = walk.view.estate.interfaces[*member].subnet;
                            maps.push(walk.arrive(ctx, *member, Some(subnet), &mine));
                        }
                        return Map::overlay_all(maps);
                    }
                    let crowd = walk.crowd(ctx, network, Direction::In, &set);
                    let mut maps = Vec::new();
                    for (at, set) in crowd.map.restrict(&set).shared().regions() {
                        if at == 0 {
                            // Inside, since the ACL's doubt is about all that follows.
                            maps.push(walk.many_answer(ctx, network, &set));
                            continue;
                        }
                        let (whose, pass) = &crowd.passes[at as usize];
                        maps.push(walk.each(
                            ctx,
                            vec![(pass.clone(), set)],
                            |walk, ctx, set, not_kept| {
                                let mut maps = Vec::new();
                                for member in whose {
                                    let mine = Self::going_to(
                                        ctx,
                                        &set,
                                        &walk.view.estate.interfaces[*member].addresses,
                                    );
                                    if !mine.is_empty() {
                                        let ctx = ctx.met(Met::Crossed(*member, not_kept.clone()));
                                        maps.push(walk.answered(
                                            &ctx,
                                            *member,
                                            Some(not_kept.clone()),
                                            &mine,
                                        ));
                                    }
                                }
                                Map::overlay_all(maps)
                            },
                        ));
                    }
                    Map::overlay_all(maps)
                },
            );
            maps.push(map);
        }
        Map::overlay_all(maps)
    }

    /// Requests are at their ends at many interfaces of a network: the replies go home together.
    fn many_answer(&mut self, ctx: &Ctx, network: Id<Network>, set: &PacketSet) -> Map {
        let mut maps = Vec::new();
        let (silent, answered) = set.one_way();
        let label = self.labels.leaf(Verdict::Works, ctx.trail);
        maps.push(silent.relabel(|()| Some(label)));
        if !answered.is_empty() {
            let ctx = Ctx {
                by_site_gateway: None,
                ..ctx.turned()
            };
            let holders = self.view.holders(network);
            let mut places: Vec<(RoutePlace<'e>, PacketSet)> = Vec::new();
            for (subnet, held) in holders.by_subnet() {
                let mine = Self::coming_from(&ctx, &answered, held);
                if !mine.is_empty() {
                    places.push((RoutePlace::in_subnet(self.view, *subnet, None), mine));
                }
            }
            maps.push(match self.balanced_home(&ctx, &places) {
                Some(map) => map,
                None => self.route(&ctx, places, true),
            });
        }
        Map::overlay_all(maps)
    }

    /// Whether interfaces are taken together here.
    pub(super) fn is_many(&self, interfaces: usize) -> bool {
        self.coarse && interfaces > self.view.limits.one_by_one && !self.tagged_routes
    }

    /// Splits interfaces by whether they are part of a device.
    pub(super) fn plain_ones(
        &self,
        interfaces: &[Id<Interface>],
    ) -> (Vec<Id<Interface>>, Vec<Id<Interface>>) {
        interfaces
            .iter()
            .partition(|id| !self.view.roles().contains_key::<Id<Interface>>(id))
    }
}
