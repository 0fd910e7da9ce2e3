//! Arriving: who holds an address, past whose stages packets come to it, and how the reply turns back.

use super::label::{Choice, Verdict};
use super::stages::Pass;
use super::step::{Spot, Why};
use super::{Ctx, Map, Met, NotKept, Origin, Start, Visit, Walk};
use crate::fabric::{Holder, Role};
use crate::faults::{Fault, has};
use crate::route::RoutePlace;
use heronshale_model::estate::{Balancer, BalancerKind, Direction, Id, Interface, Network, Subnet};
use heronshale_sets::address::{Addresses, Family, Range};
use heronshale_sets::packet::PacketSet;
use rustc_hash::FxHashMap;

/// The interfaces of one class and one subnet that hold some of the packets' destinations.
pub(super) struct Group {
    pub interface: Id<Interface>,
    pub all: Vec<Id<Interface>>,
    pub set: PacketSet,
}

impl<'e> Walk<'_, 'e> {
    /// To whatever holds the destination in a network. `from`: the subnet in which the packets are already.
    pub(super) fn deliver(
        &mut self,
        ctx: &Ctx,
        network: Id<Network>,
        from: Option<Id<Subnet>>,
        set: &PacketSet,
    ) -> Map {
        let holders = self.view.holders(network);
        let wanted = Self::to(ctx, set);
        let spans = Family::BOTH.map(|family| wanted.of(family).clone());
        let mut held: FxHashMap<Holder, Vec<Range>> = FxHashMap::default();
        let mut order: Vec<Holder> = Vec::new();
        for (range, holder) in &holders.all {
            if spans[usize::from(range.family == Family::V6)].touches(range.first, range.last) {
                let ranges = held.entry(*holder).or_insert_with(|| {
                    order.push(*holder);
                    Vec::new()
                });
                ranges.push(*range);
            }
        }
        let mut balancers: Vec<(Id<Balancer>, Addresses)> = Vec::new();
        // Groups of holders that are alike.
        let mut interfaces: Vec<Id<Interface>> = Vec::new();
        let mut results: Vec<(PacketSet, Map)> = Vec::new();
        let mut rest = set.clone();
        for holder in &order {
            let addresses: Addresses = held[holder].iter().copied().collect();
            match holder {
                Holder::Interface(id) => interfaces.push(*id),
                Holder::Balancer(id) => balancers.push((*id, addresses)),
                Holder::Nat(id) => {
                    let here = Self::going_to(ctx, set, &addresses);
                    let map = self.at_nat_address(ctx, *id, from, &here);
                    results.push((here, map));
                }
            }
        }
        // Several balancers may share an address, each with ports of its own.
        while let Some((id, addresses)) = balancers.pop() {
            let (shared, others): (Vec<_>, Vec<_>) = balancers
                .into_iter()
                .partition(|(_, other)| other.overlaps(&addresses));
            balancers = others;
            let all = shared
                .iter()
                .fold(addresses.clone(), |sum, (_, other)| sum.union(other));
            let here = Self::going_to(ctx, set, &all);
            let map = if shared.is_empty() {
                self.at_balancer(ctx, id, from, &here)
            } else {
                let ids: Vec<_> = shared
                    .iter()
                    .map(|(other, _)| *other)
                    .chain([id])
                    .map(|id| (id, id))
                    .collect();
                self.at_one_of(ctx, &ids, &here, |walk, id, set| {
                    walk.at_balancer(ctx, id, from, set)
                })
            };
            results.push((here, map));
        }
        // Where it has to be told who is reached, each is looked at alone.
        let (alone, mut interfaces): (Vec<_>, Vec<_>) = interfaces
            .into_iter()
            .partition(|id| !ctx.reply && self.names_its_end(ctx, *id));
        for interface in alone {
            let here = Self::going_to(ctx, set, &self.view.estate.interfaces[interface].addresses);
            let map = self.arrive(ctx, interface, from, &here);
            results.push((here, map));
        }
        if self.is_many(interfaces.len()) && !holders.shared {
            let (crowd, others) = self.plain_ones(&interfaces);
            let own = crowd
                .iter()
                .flat_map(|id| self.view.estate.interfaces[*id].addresses.ranges());
            let here = Self::going_to(ctx, set, &own.collect());
            let map = self.arrive_at_many(ctx, network, from, &crowd, &here);
            results.push((here, map));
            interfaces = others;
        }
        let mut plain: Vec<(Id<Subnet>, Group)> = Vec::new();
        let mut groups = self.grouped(&interfaces);
        if ctx.reply && holders.shared {
            // A reply to an address that several hold finds the one that asked, or another.
            let asked = |id: &Id<Interface>| matches!(&ctx.leg.start, Start::Interfaces(all) if all.contains(id));
            let apart = groups.into_iter().flat_map(|(_, members)| {
                let (asked, others): (Vec<_>, Vec<_>) = members.into_iter().partition(asked);
                [asked, others]
            });
            groups = apart
                .filter_map(|members| Some((*members.first()?, members)))
                .collect();
        }
        for (interface, members) in groups {
            let own = members
                .iter()
                .flat_map(|id| self.view.estate.interfaces[*id].addresses.ranges());
            let here = Self::going_to(ctx, set, &own.collect());
            if here.is_empty() {
                continue;
            }
            if members.len() == 1 {
                let map = self.arrive(ctx, interface, from, &here);
                results.push((here, map));
            } else {
                let subnet = self.view.estate.interfaces[interface].subnet;
                plain.push((
                    subnet,
                    Group {
                        interface,
                        all: members,
                        set: here,
                    },
                ));
            }
        }
        for (here, map) in self.arrive_all(ctx, from, plain) {
            results.push((here, map));
        }
        let all = PacketSet::union_all(results.iter().map(|(here, _)| here.clone()));
        rest = rest.difference(&all);
        let sum = if holders.shared {
            self.one_of_holders(results)
        } else {
            Map::overlay_all(results.into_iter().map(|(_, map)| map).collect())
        };
        if rest.is_empty() {
            return sum;
        }
        let estate = self.view.estate;
        let spot = from.map_or(Spot::Network(network), Spot::Subnet);
        // Only addresses of the network's own may be held by what is missing from the snapshot.
        let open = self
            .view
            .unlisted_in(network)
            .intersection(&estate.networks[network].blocks);
        let here = Self::going_to(ctx, &rest, &open);
        let lost = rest.difference(&here);
        sum.overlay(&self.unknown(ctx, spot, Why::NobodyKnown, &here))
            .overlay(&self.lost(ctx, spot, Why::NobodyHolds, &lost))
    }

    /// What becomes of packets by who holds their destination: where several do, nature chooses among all of them at once.
    fn one_of_holders(&mut self, results: Vec<(PacketSet, Map)>) -> Map {
        let mut parts: Vec<(PacketSet, Vec<(Choice, Map)>)> = Vec::new();
        for (at, (mut left, map)) in results.into_iter().enumerate() {
            let mut apart = Vec::new();
            for (part, all) in parts
                .iter_mut()
                .filter(|(part, _)| part.overlaps(&left))
                .collect::<Vec<_>>()
            {
                let both = part.intersection(&left);
                let other = part.difference(&both);
                left = left.difference(&both);
                if !other.is_empty() {
                    apart.push((other, all.clone()));
                }
                *part = both;
                all.push((Choice::Holder(at), map.clone()));
            }
            parts.extend(apart);
            if !left.is_empty() {
                parts.push((left, vec![(Choice::Holder(at), map)]));
            }
        }
        let mut maps = Vec::with_capacity(parts.len());
        for (part, all) in parts {
            let here = all
                .into_iter()
                .map(|(choice, map)| (choice, map.restrict(&part)))
                .collect();
            maps.push(self.chosen(here));
        }
        Map::overlay_all(maps)
    }

    /// Into the subnet of an interface, past its ACL if packets come from elsewhere, and its own stages.
    pub(super) fn enter(
        &mut self,
        ctx: &Ctx,
        interface: Id<Interface>,
        from: Option<Id<Subnet>>,
        set: &PacketSet,
        mut go: impl FnMut(&mut Self, &Ctx, PacketSet, &NotKept) -> Map,
    ) -> Map {
        let subnet = self.view.estate.interfaces[interface].subnet;
        let acl = Some(subnet).filter(|subnet| from != Some(*subnet));
        self.over_acl(ctx, acl, Direction::In, set.clone(), |walk, ctx, set| {
            let passes = walk.side(ctx, interface, Direction::In, &set);
            walk.each(ctx, passes, &mut go)
        })
    }

    /// Packets reach an interface that holds their destination.
    pub(super) fn arrive(
        &mut self,
        ctx: &Ctx,
        interface: Id<Interface>,
        from: Option<Id<Subnet>>,
        set: &PacketSet,
    ) -> Map {
        let role = self.view.roles().get(&interface).copied();
        if let Some(Role::Door(service)) = role {
            return self.at_private_door(ctx, service, interface, from, set);
        }
        self.enter(
            ctx,
            interface,
            from,
            set,
            |walk, ctx, set, not_kept| match role {
                Some(Role::Firewall(firewall)) => {
                    let ctx = walk.crossed(ctx, interface, not_kept);
                    walk.at_firewall(&ctx, firewall, super::firewall::Entry::Leg(interface), &set)
                }
                _ if ctx.reply => walk.reply_arrives(ctx, interface, &set),
                Some(Role::Proxy(balancer)) => {
                    let ctx = walk.crossed(ctx, interface, not_kept);
                    walk.at_proxy(&ctx, balancer, interface, &set)
                }
                _ => {
                    let ctx = ctx.met(Met::Crossed(interface, not_kept.clone()));
                    walk.answered(&ctx, interface, Some(not_kept.clone()), &set)
                }
            },
        )
    }

    fn crossed(&mut self, ctx: &Ctx, interface: Id<Interface>, not_kept: &NotKept) -> Ctx {
        if ctx.reply {
            ctx.clone()
        } else {
            ctx.met(Met::Crossed(interface, not_kept.clone()))
        }
    }

    /// Packets reach many plain interfaces at once.
    fn arrive_all(
        &mut self,
        ctx: &Ctx,
        from: Option<Id<Subnet>>,
        groups: Vec<(Id<Subnet>, Group)>,
    ) -> Vec<(PacketSet, Map)> {
        let mut results = Vec::new();
        let mut by_subnet: Vec<(Id<Subnet>, Vec<Group>)> = Vec::new();
        for (subnet, group) in groups {
            match by_subnet.iter_mut().find(|(other, _)| *other == subnet) {
                Some((_, all)) => all.push(group),
                None => by_subnet.push((subnet, vec![group])),
            }
        }
        for (subnet, groups) in by_subnet {
            let here = PacketSet::union_all(groups.iter().map(|group| group.set.clone()));
            let acl = Some(subnet).filter(|subnet| from != Some(*subnet));
            let map = self.over_acl(ctx, acl, Direction::In, here.clone(), |walk, ctx, set| {
                let mut maps = Vec::new();
                let mut kept = PacketSet::empty();
                for group in &groups {
                    let mine = group.set.intersection(&set);
                    for (pass, set) in walk.side(ctx, group.interface, Direction::In, &mine) {
                        match pass {
                            Pass::On(not_kept, _) if not_kept.is_empty() && !walk.tagged_routes => {
                                kept = kept.union(&set);
                            }
                            other => maps.push(walk.each(
                                ctx,
                                vec![(other, set)],
                                |walk, ctx, set, not_kept| {
                                    let mut maps = Vec::new();
                                    for member in &group.all {
                                        let own = &walk.view.estate.interfaces[*member].addresses;
                                        let mine = Self::going_to(ctx, &set, own);
                                        if mine.is_empty() {
                                            continue;
                                        }
                                        maps.push(if ctx.reply {
                                            walk.reply_arrives(ctx, *member, &mine)
                                        } else {
                                            let ctx =
                                                ctx.met(Met::Crossed(*member, not_kept.clone()));
                                            walk.answered(
                                                &ctx,
                                                *member,
                                                Some(not_kept.clone()),
                                                &mine,
                                            )
                                        });
                                    }
                                    Map::overlay_all(maps)
                                },
                            )),
                        }
                    }
                }
                if !kept.is_empty() {
                    if ctx.reply {
                        for group in &groups {
                            let mine = group.set.intersection(&kept);
                            if !mine.is_empty() {
                                maps.push(walk.replies_arrive(ctx, &group.all, &mine));
                            }
                        }
                    } else {
                        let (silent, answered) = kept.one_way();
                        if !silent.is_empty() {
                            let label = walk.labels.leaf(Verdict::Works, ctx.trail);
                            maps.push(silent.relabel(|()| Some(label)));
                        }
                        if !answered.is_empty() {
                            // Inside, since the ACL's doubt is about all that follows.
                            let ctx = Ctx {
                                by_site_gateway: None,
                                ..ctx.turned()
                            };
                            let places =
                                vec![(RoutePlace::in_subnet(walk.view, subnet, None), answered)];
                            maps.push(match walk.balanced_home(&ctx, &places) {
                                Some(map) => map,
                                None => walk.route(&ctx, places, true),
                            });
                        }
                    }
                }
                Map::overlay_all(maps)
            });
            results.push((map.domain(), map));
        }
        results
    }

    /// Replies reach interfaces that hold their destination.
    fn replies_arrive(&mut self, ctx: &Ctx, interfaces: &[Id<Interface>], set: &PacketSet) -> Map {
        let asked: Vec<Id<Interface>> = match (&ctx.leg.origin, &ctx.leg.start) {
            (Origin::Start, Start::Interfaces(all)) => interfaces
                .iter()
                .copied()
                .filter(|interface| all.contains(interface))
                .collect(),
            _ => Vec::new(),
        };
        if asked.len() == interfaces.len() {
            return self.back(ctx, None, set);
        }
        // Where no deciders are told, those that did not ask are one.
        let (alone, together): (Vec<Id<Interface>>, Vec<_>) = interfaces
            .iter()
            .partition(|id| !self.coarse || asked.contains(id));
        let mut maps = Vec::new();
        for all in alone.chunks(1).chain([&together[..]]) {
            let Some(first) = all.first() else { continue };
            let held = all
                .iter()
                .flat_map(|id| self.view.estate.interfaces[*id].addresses.ranges())
                .collect();
            let mine = Self::going_to(ctx, set, &held);
            maps.push(self.reply_arrives(ctx, *first, &mine));
        }
        Map::overlay_all(maps)
    }

    /// A reply reaches an interface that holds its destination.
    fn reply_arrives(&mut self, ctx: &Ctx, interface: Id<Interface>, set: &PacketSet) -> Map {
        let started = matches!(&ctx.leg.start, Start::Interfaces(all) if all.contains(&interface));
        let spot = Spot::Interface(interface);
        match ctx.leg.origin {
            Origin::Start if started => self.back(ctx, None, set),
            Origin::Gateway(gateway) => self.lost(ctx, Spot::Gateway(gateway), Why::Bypassed, set),
            Origin::Firewall(firewall) => {
                self.lost(ctx, Spot::Firewall(firewall), Why::Bypassed, set)
            }
            Origin::Balancer(balancer) => {
                self.lost(ctx, Spot::Balancer(balancer), Why::Bypassed, set)
            }
            Origin::Start | Origin::Platform => self.lost(ctx, spot, Why::NotAsked, set),
        }
    }

    /// The request is at its end: the reply goes home, if there is one.
    pub(super) fn answered(
        &mut self,
        ctx: &Ctx,
        interface: Id<Interface>,
        known: Option<NotKept>,
        set: &PacketSet,
    ) -> Map {
        let ctx = self.arrived(ctx, Spot::Interface(interface));
        let (silent, answered) = set.one_way();
        let mut maps = Vec::new();
        if !silent.is_empty() {
            let label = self.labels.leaf(Verdict::Works, ctx.trail);
            maps.push(silent.relabel(|()| Some(label)));
        }
        if !answered.is_empty() {
            let ctx = Ctx {
                by_site_gateway: None,
                ..ctx.turned()
            };
            let passes = self.side_with(&ctx, interface, Direction::Out, &answered, known);
            let subnet = self.view.estate.interfaces[interface].subnet;
            maps.push(self.each(&ctx, passes, |walk, ctx, set, _| {
                let place = RoutePlace::in_subnet(walk.view, subnet, Some(interface));
                match walk.balanced_home(ctx, &[(place, set.clone())]) {
                    Some(map) => map,
                    None => walk.route(ctx, vec![(place, set)], true),
                }
            }));
        }
        Map::overlay_all(maps)
    }

    /// Replies of a balancer's back ends go back to it, past all stages of the interface: straight, or it puts the front
    /// end's address back and they are routed.
    pub(super) fn balanced_home(
        &mut self,
        ctx: &Ctx,
        places: &[(RoutePlace<'e>, PacketSet)],
    ) -> Option<Map> {
        let Origin::Balancer(balancer) = ctx.leg.origin else {
            return None;
        };
        let item = &self.view.estate.balancers[balancer];
        let BalancerKind::Keeping { routed_replies } = item.kind else {
            return None;
        };
        let mut maps = Vec::new();
        for (place, set) in places {
            maps.push(
                if routed_replies != has(Fault::WalkBalancedRepliesOtherwise) {
                    self.back(ctx, place.sender, set)
                } else {
                    let out = place.subnet.filter(|subnet| Some(*subnet) != item.subnet);
                    let into = item.subnet.filter(|subnet| Some(*subnet) != place.subnet);
                    self.over_acl(ctx, out, Direction::Out, set.clone(), |walk, ctx, set| {
                        walk.over_acl(ctx, into, Direction::In, set, |walk, ctx, set| {
                            walk.back(ctx, None, &set)
                        })
                    })
                },
            );
        }
        Some(Map::overlay_all(maps))
    }

    /// Packets are handed to an interface that does not hold their destination, to be passed on.
    pub(super) fn hand_over(
        &mut self,
        ctx: &Ctx,
        interface: Id<Interface>,
        from: Option<Id<Subnet>>,
        set: &PacketSet,
    ) -> Map {
        let own = Self::going_to(ctx, set, &self.view.estate.interfaces[interface].addresses);
        let other = set.difference(&own);
        let mut maps = Vec::new();
        if !own.is_empty() {
            maps.push(self.arrive(ctx, interface, from, &own));
        }
        if !other.is_empty() {
            let spot = Spot::Interface(interface);
            let role = self.view.roles().get(&interface).copied();
            let forwards =
                self.view.estate.interfaces[interface].forwards || has(Fault::WalkAllForward);
            let visit = Visit::Handed(interface);
            let repeated = ctx.repeats(&visit);
            let ctx = ctx.met(Met::Routed(visit));
            maps.push(
                self.enter(&ctx, interface, from, &other, |walk, ctx, set, not_kept| {
                    let ctx = walk.crossed(ctx, interface, not_kept);
                    match role {
                        _ if !forwards => walk.lost(&ctx, spot, Why::MayNotForward, &set),
                        _ if repeated => walk.lost(&ctx, spot, Why::Loop, &set),
                        Some(Role::Firewall(firewall)) => walk.at_firewall(
                            &ctx,
                            firewall,
                            super::firewall::Entry::Leg(interface),
                            &set,
                        ),
                        Some(Role::Door(_) | Role::Proxy(_)) => {
                            walk.lost(&ctx, spot, Why::MayNotForward, &set)
                        }
                        // What forwards may be a firewall's that the snapshot lacks.
                        None if walk.view.lacks_any(&["firewall"]) => {
                            walk.unknown(&ctx, spot, Why::Lacking, &set)
                        }
                        None => walk.depart(&ctx, interface, &set),
                    }
                }),
            );
        }
        Map::overlay_all(maps)
    }

    /// Packets by whether the service has their port.
    pub(super) fn by_services(
        services: &[heronshale_model::estate::Service],
        ctx: &Ctx,
        set: &PacketSet,
    ) -> (PacketSet, PacketSet) {
        if services.is_empty() || ctx.reply {
            return (set.clone(), PacketSet::empty());
        }
        let every = heronshale_sets::intervals::Intervals::span(0, u128::from(u16::MAX));
        let numbers = |family| {
            let none = heronshale_sets::intervals::Intervals::empty();
            services
                .iter()
                .fold(none, |sum, one| sum.union(&one.numbers(family)))
        };
        let all = Addresses::all();
        let fits = PacketSet::fields(&all, &all, numbers, &every, ()).intersection(set);
        let rest = set.difference(&fits);
        (fits, rest)
    }
}
