//! From interface to interface: starting, routing, and what a route leads to.

use super::arrive::Group;
use super::label::{Choice, Verdict};
use super::stages::Pass;
use super::step::{Spot, Step, What, Why};
use super::{Ctx, Label, Map, Met, Origin, Visit, Walk};
use crate::doubt::Doubt;
use crate::fabric::Role;
use crate::faults::{Fault, has};
use crate::route::{Hop, RoutePlace, Winner, joins, lent_gateways, routes_of};
use heronshale_model::estate::{
    Balancer, Direction, GatewayKind, Id, Interface, Network, NoHealthy, Reference, SameSubnet,
    Subnet,
};
use heronshale_sets::address::Addresses;
use heronshale_sets::packet::PacketSet;
use rustc_hash::FxHashMap;
use std::rc::Rc;

/// A hop with all that matters behind it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum Onward {
    /// Inside the subnet itself, without its ACL.
    Beside(Id<Subnet>),
    /// To a holder in the network, from elsewhere.
    Local(Id<Network>),
    /// By a hop, from a network; and the subnet where that matters.
    Hop(Hop, Id<Network>, Option<Id<Subnet>>),
}

/// Packets that go on.
type Going = Vec<(Onward, Ctx, PacketSet)>;
/// One of nature's choices: what goes on, and what ended at once.
type Taken = (Choice, Going, Map);
/// For each of nature's choices the places of what goes on, and what ended at once.
type Choices = Vec<(Choice, Vec<usize>, Map)>;

/// Packets, and what becomes of them.
struct Branch {
    set: PacketSet,
    /// By routes that win unless one of the others does.
    choices: Choices,
    /// Routes that win if their doubts hold, the first before the others; with the steps up to the doubt.
    perhaps: Vec<(Vec<Doubt>, u32, Choices)>,
}

impl<'e> Walk<'_, 'e> {
    /// Packets start at interfaces, each with those from its own addresses.
    pub(super) fn start_at(
        &mut self,
        ctx: &Ctx,
        interfaces: &[Id<Interface>],
        packets: &PacketSet,
    ) -> Map {
        if self.is_many(interfaces.len()) {
            return self.start_at_many(ctx, interfaces, packets);
        }
        self.start_at_each(ctx, interfaces, packets)
    }

    /// The same, interface by interface or class by class.
    pub(super) fn start_at_each(
        &mut self,
        ctx: &Ctx,
        interfaces: &[Id<Interface>],
        packets: &PacketSet,
    ) -> Map {
        let mut parts = Vec::with_capacity(interfaces.len());
        let mut maps = Vec::new();
        let mut rest = packets.clone();
        let groups = self.grouped(interfaces);
        for (interface, members) in groups {
            let addresses: Addresses = members
                .iter()
                .flat_map(|id| self.view.estate.interfaces[*id].addresses.ranges())
                .collect();
            let set = rest.between(Some(&addresses), None);
            rest = rest.difference(&set);
            if !set.is_empty() {
                parts.push(Group {
                    interface,
                    all: members,
                    set,
                });
            }
        }
        // To itself, and to the platform: no stage and no route.
        for part in &mut parts {
            let mut itself = PacketSet::empty();
            let mut told = PacketSet::empty();
            for member in &part.all {
                let own = &self.view.estate.interfaces[*member].addresses;
                let mine = part.set.between(Some(own), Some(own));
                if self.ends.is_some() && !mine.is_empty() {
                    let ctx = self.arrived(ctx, Spot::Interface(*member));
                    let label = self.labels.leaf(Verdict::Works, ctx.trail);
                    maps.push(mine.relabel(|()| Some(label)));
                    told = told.union(&mine);
                } else {
                    itself = itself.union(&mine);
                }
            }
            part.set = part.set.difference(&itself).difference(&told);
            let platform = part.set.intersection(self.view.platform_traffic());
            part.set = part.set.difference(&platform);
            let spot = Spot::Interface(part.interface);
            for (set, what) in [(itself, What::Arrived), (platform, What::Platform)] {
                if set.is_empty() {
                } else if self.ends.is_some() {
                    let label = self.labels.leaf(Verdict::Works, ctx.trail);
                    maps.push(set.relabel(|()| Some(label)));
                } else {
                    let step = Step::new(false, spot, what);
                    maps.push(self.ended(ctx, Verdict::Works, step, &set));
                }
            }
        }
        if !rest.is_empty() {
            // From addresses that none of the interfaces has.
            let spot = interfaces
                .first()
                .map_or(Spot::Internet, |first| Spot::Interface(*first));
            maps.push(self.lost(ctx, spot, Why::NobodyHolds, &rest));
        }
        // A private door opens nothing from its side.
        let mut open = Vec::with_capacity(parts.len());
        for part in parts {
            if matches!(self.view.roles().get(&part.interface), Some(Role::Door(_))) {
                maps.push(self.lost(
                    ctx,
                    Spot::Interface(part.interface),
                    Why::OneWayDoor,
                    &part.set,
                ));
            } else {
                open.push(part);
            }
        }
        maps.push(self.depart_all(ctx, open));
        Map::overlay_all(maps)
    }

    /// Interfaces by what makes a difference to packets that start or arrive there.
    pub(super) fn grouped(
        &mut self,
        interfaces: &[Id<Interface>],
    ) -> Vec<(Id<Interface>, Vec<Id<Interface>>)> {
        if interfaces.len() <= 4 || self.detail || self.tagged_routes {
            return interfaces.iter().map(|id| (*id, vec![*id])).collect();
        }
        let mut index: FxHashMap<u32, usize> = FxHashMap::default();
        let mut groups: Vec<(Id<Interface>, Vec<Id<Interface>>)> = Vec::new();
        for id in interfaces {
            if self.view.roles().contains_key(id) {
                groups.push((*id, vec![*id]));
                continue;
            }
            let class = self.class(*id);
            let at = *index.entry(class).or_insert_with(|| {
                groups.push((*id, Vec::new()));
                groups.len() - 1
            });
            groups[at].1.push(*id);
        }
        groups
    }

    /// Packets leave interfaces: their stages, then the routes of their subnets.
    fn depart_all(&mut self, ctx: &Ctx, groups: Vec<Group>) -> Map {
        let mut maps = Vec::new();
        let mut together: Vec<(RoutePlace<'e>, PacketSet)> = Vec::new();
        // Routes that are limited to tags ask who sends.
        let alone = self.detail || groups.len() == 1 || self.tagged_routes;
        for group in groups {
            let subnet = self.view.estate.interfaces[group.interface].subnet;
            for (pass, set) in self.side(ctx, group.interface, Direction::Out, &group.set) {
                match pass {
                    Pass::On(not_kept, _) if not_kept.is_empty() && !alone => {
                        together.push((RoutePlace::in_subnet(self.view, subnet, None), set));
                    }
                    other => {
                        let members = group.all.clone();
                        maps.push(self.each(
                            ctx,
                            vec![(other, set)],
                            |walk, ctx, set, not_kept| {
                                // Stages that keep no state are asked again at each interface.
                                let mut maps = Vec::new();
                                for member in &members {
                                    let own = &walk.view.estate.interfaces[*member].addresses;
                                    let mine = if members.len() == 1 {
                                        set.clone()
                                    } else {
                                        Self::coming_from(ctx, &set, own)
                                    };
                                    if mine.is_empty() {
                                        continue;
                                    }
                                    let ctx = ctx.met(Met::Crossed(*member, not_kept.clone()));
                                    let place =
                                        RoutePlace::in_subnet(walk.view, subnet, Some(*member));
                                    maps.push(walk.route(&ctx, vec![(place, mine)], true));
                                }
                                Map::overlay_all(maps)
                            },
                        ));
                    }
                }
            }
        }
        if !together.is_empty() {
            let mut places: Vec<(RoutePlace<'e>, PacketSet)> = Vec::new();
            for (place, set) in together {
                match places.iter_mut().find(|(other, _)| *other == place) {
                    Some((_, sum)) => *sum = sum.union(&set),
                    None => places.push((place, set)),
                }
            }
            let ctx = ctx.met(Met::StartsCrossed);
            maps.push(self.route(&ctx, places, true));
        }
        Map::overlay_all(maps)
    }

    /// Packets leave one interface, as a device does that passes them on.
    pub(super) fn depart(&mut self, ctx: &Ctx, interface: Id<Interface>, set: &PacketSet) -> Map {
        let subnet = self.view.estate.interfaces[interface].subnet;
        let passes = self.side(ctx, interface, Direction::Out, set);
        let ctx = Ctx {
            by_site_gateway: None,
            ..ctx.clone()
        };
        self.each(&ctx, passes, |walk, ctx, set, not_kept| {
            let ctx = ctx.met(Met::Crossed(interface, not_kept.clone()));
            let place = RoutePlace::in_subnet(walk.view, subnet, Some(interface));
            walk.route(&ctx, vec![(place, set)], false)
        })
    }

    /// Packets are routed at places, and go on. `starting`: nothing was routed on this leg before.
    pub(super) fn route(
        &mut self,
        ctx: &Ctx,
        places: Vec<(RoutePlace<'e>, PacketSet)>,
        starting: bool,
    ) -> Map {
        if ctx.reply && ctx.leg.origin == Origin::Platform {
            return Map::overlay_all(
                places
                    .iter()
                    .map(|(_, set)| self.back(ctx, None, set))
                    .collect(),
            );
        }
        let mut branches: Vec<Branch> = Vec::new();
        let mut onward: Vec<(Onward, Ctx, Vec<PacketSet>)> = Vec::new();
        let mut maps = Vec::new();
        for (place, set) in places {
            let visit = Visit::Place(place.network, place.subnet, place.sender);
            let spot = place
                .subnet
                .map_or(Spot::Network(place.network), Spot::Subnet);
            if ctx.repeats(&visit) {
                maps.push(self.lost(ctx, spot, Why::Loop, &set));
                continue;
            }
            let here = if starting {
                ctx.clone()
            } else {
                ctx.met(Met::Routed(visit))
            };
            let mut rest = set;
            if let Some(subnet) = place.subnet
                && (self.view.settings(place.network).same_subnet == SameSubnet::Direct)
                    != has(Fault::WalkSameSubnetOtherwise)
            {
                let mut beside =
                    Self::going_to(&here, &rest, &self.view.estate.subnets[subnet].blocks);
                rest = rest.difference(&beside);
                // What stands elsewhere is reached without a route, and past the ACL.
                let holders = self.view.holders(place.network);
                let elsewhere = holders.of_devices(subnet, false);
                let outward = Self::going_to(&here, &beside, &elsewhere);
                if !outward.is_empty() {
                    beside = beside.difference(&outward);
                    let (going, ended) =
                        self.leaving(&here, Some(subnet), &outward, Onward::Local(place.network));
                    let at = going
                        .iter()
                        .map(|(to, ctx, set)| push_onward(&mut onward, *to, ctx, set))
                        .collect();
                    let choices = vec![(Choice::Holder(0), at, ended)];
                    branches.push(Branch {
                        set: outward,
                        choices,
                        perhaps: Vec::new(),
                    });
                }
                if !beside.is_empty() {
                    let at = push_onward(&mut onward, Onward::Beside(subnet), &here, &beside);
                    let choices = vec![(Choice::Holder(0), vec![at], Map::empty())];
                    branches.push(Branch {
                        set: beside,
                        choices,
                        perhaps: Vec::new(),
                    });
                }
            }
            if rest.is_empty() {
                continue;
            }
            let candidates = self.candidates_at(place);
            for (part, routed) in routes_of(&candidates, &rest, here.reply) {
                let (winners, perhaps) = match routed.open {
                    Some(open) => (open.winners, open.perhaps),
                    None => (routed.winners, Vec::new()),
                };
                let mut by = |walk: &mut Self, winner: Winner| {
                    let ctx = walk.told(&here, Step::new(here.reply, spot, What::Routed(winner)));
                    let taken = walk.by_winner(&ctx, place, winner, &part);
                    let all = taken.into_iter().map(|(choice, going, ended)| {
                        let at = going
                            .iter()
                            .map(|(to, ctx, set)| push_onward(&mut onward, *to, ctx, set))
                            .collect();
                        (choice, at, ended)
                    });
                    all.collect::<Choices>()
                };
                let mut choices = Vec::new();
                if winners.is_empty() {
                    let lost = self.lost(&here, spot, Why::NoRoute, &part);
                    choices.push((Choice::Holder(0), Vec::new(), lost));
                }
                for winner in winners {
                    choices.extend(by(self, winner));
                }
                let mut open = Vec::with_capacity(perhaps.len());
                for (doubts, winner) in perhaps {
                    let trail = self
                        .labels
                        .push(here.trail, self.open_route(&here, place, winner));
                    open.push((doubts, trail, by(self, winner)));
                }
                branches.push(Branch {
                    set: part,
                    choices,
                    perhaps: open,
                });
            }
        }
        let mut results = Vec::with_capacity(onward.len());
        for (to, ctx, set) in onward {
            let set = PacketSet::union_all(set);
            results.push(self.go(&ctx, to, &set));
        }
        for Branch {
            set,
            choices,
            perhaps,
        } in branches
        {
            let become_of = |walk: &mut Self, choices: Choices| {
                let mut all: Vec<(Choice, Map)> = Vec::new();
                for (choice, at, ended) in choices {
                    let going = Map::overlay_all(
                        at.into_iter()
                            .map(|at| results[at].restrict(&set))
                            .collect(),
                    );
                    all.push((choice, ended.overlay(&going)));
                }
                walk.chosen(all)
            };
            let mut map = become_of(self, choices);
            for (doubts, trail, choices) in perhaps.into_iter().rev() {
                let by_it = become_of(self, choices);
                // It wins if all of its doubts hold.
                let otherwise = map.clone();
                let wins = doubts.iter().rev().fold(by_it, |wins, doubt| {
                    self.turns_on(doubt, trail, &wins, &otherwise)
                });
                map = wins;
            }
            maps.push(map);
        }
        Map::overlay_all(maps)
    }

    /// The step at which it is not known which route wins.
    fn open_route(&self, ctx: &Ctx, place: RoutePlace<'e>, winner: Winner) -> Step {
        let spot = place
            .subnet
            .map_or(Spot::Network(place.network), Spot::Subnet);
        Step::lost(ctx.reply, spot, Why::OpenRoute(winner))
    }

    /// Nature chooses among maps on the same packets.
    pub(super) fn chosen(&mut self, mut all: Vec<(Choice, Map)>) -> Map {
        if all.len() <= 1 {
            return all.pop().map_or_else(Map::empty, |(_, map)| map);
        }
        let mut lists: Vec<Vec<(Choice, Label)>> = vec![Vec::new()];
        let mut sum = all[0].1.relabel(|_| Some(0_usize));
        for (choice, map) in all {
            let mut known: FxHashMap<(usize, Label), usize> = FxHashMap::default();
            sum = sum.combine(&map, |at, label| {
                Some(*known.entry((at, label)).or_insert_with(|| {
                    let mut list = lists[at].clone();
                    list.push((choice.clone(), label));
                    lists.push(list);
                    lists.len() - 1
                }))
            });
        }
        sum.relabel(|at| Some(self.labels.choose(lists[at].clone())))
    }

    /// What a winning route does with packets: for each of nature's choices what goes on, and what ended at once.
    fn by_winner(
        &mut self,
        ctx: &Ctx,
        place: RoutePlace<'e>,
        winner: Winner,
        set: &PacketSet,
    ) -> Vec<Taken> {
        let estate = self.view.estate;
        let spot = place
            .subnet
            .map_or(Spot::Network(place.network), Spot::Subnet);
        let choice = Choice::Route(winner);
        let ended = |map: Map| vec![(Choice::Route(winner), Vec::new(), map)];
        let (network, subnet) = (place.network, place.subnet);
        // Where the packet goes next, if that is a subnet: its own ACL is not crossed then.
        let next = match winner.hop {
            Hop::Blackhole => return ended(self.lost(ctx, spot, Why::Blackhole(winner), set)),
            Hop::Dead => return ended(self.lost(ctx, spot, Why::DeadHop(winner), set)),
            Hop::Unknown => return ended(self.unknown(ctx, spot, Why::Lacking, set)),
            Hop::Local => {
                let mut going = Vec::new();
                let mut rest = set.clone();
                if let Some(subnet) = subnet {
                    let holders = self.view.holders(network);
                    let held = holders.by_subnet.get(&subnet).cloned().unwrap_or_default();
                    let held = held.union(&holders.of_devices(subnet, true));
                    let beside = Self::going_to(ctx, set, &held);
                    if !beside.is_empty() {
                        rest = rest.difference(&beside);
                        going.push((Onward::Beside(subnet), ctx.clone(), beside));
                    }
                }
                let (more, map) = self.leaving(ctx, subnet, &rest, Onward::Local(network));
                going.extend(more);
                return vec![(choice, going, map)];
            }
            Hop::Balancer(balancer) => return self.by_balancer(ctx, place, balancer, set),
            Hop::Interface(id) | Hop::MayNotForward(id) | Hop::Door(id) => {
                Some(estate.interfaces[id].subnet)
            }
            Hop::Gateway(id) => match &estate.gateways[id].kind {
                GatewayKind::Nat { subnet, .. } => Some(*subnet),
                _ => None,
            },
            Hop::Hub(hub, link) => estate.hubs[hub].links[link].subnet,
            Hop::Peering(_) | Hop::Service(_) | Hop::SharedAddress => None,
        };
        let matters = match winner.hop {
            Hop::Gateway(_) | Hop::SharedAddress => subnet,
            _ => subnet.filter(|_| next == subnet),
        };
        let to = Onward::Hop(winner.hop, network, matters);
        if next.is_some() && next == subnet {
            return vec![(choice, vec![(to, ctx.clone(), set.clone())], Map::empty())];
        }
        let (going, map) = self.leaving(ctx, subnet, set, to);
        vec![(choice, going, map)]
    }

    /// Out of a subnet by its ACL.
    fn leaving(
        &mut self,
        ctx: &Ctx,
        subnet: Option<Id<Subnet>>,
        set: &PacketSet,
        to: Onward,
    ) -> (Going, Map) {
        let Some(subnet) = subnet else {
            return (vec![(to, ctx.clone(), set.clone())], Map::empty());
        };
        if ctx.free_of == Some(subnet) {
            return (
                vec![(
                    to,
                    Ctx {
                        free_of: None,
                        ..ctx.clone()
                    },
                    set.clone(),
                )],
                Map::empty(),
            );
        }
        let mut going = Vec::new();
        let mut maps = Vec::new();
        for (pass, set) in self.acl(ctx, subnet, Direction::Out, set) {
            match pass {
                Pass::On(_, trail) => going.push((
                    to,
                    Ctx {
                        trail,
                        ..ctx.clone()
                    },
                    set,
                )),
                other => {
                    maps.push(self.each(ctx, vec![(other, set)], |walk, ctx, set, _| {
                        walk.go(ctx, to, &set)
                    }));
                }
            }
        }
        (going, Map::overlay_all(maps))
    }

    /// A balancer as next hop hands packets to one of its back ends as they are.
    fn by_balancer(
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
    pub(super) fn back_ends(&self, balancer: Id<Balancer>) -> Vec<usize> {
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

    fn go(&mut self, ctx: &Ctx, to: Onward, set: &PacketSet) -> Map {
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

    fn by_hop(
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
    fn across(
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

/// Adds packets to those that go on alike.
fn push_onward(
    onward: &mut Vec<(Onward, Ctx, Vec<PacketSet>)>,
    to: Onward,
    ctx: &Ctx,
    set: &PacketSet,
) -> usize {
    let same_path = |other: &Ctx| match (&other.path, &ctx.path) {
        (Some(a), Some(b)) => Rc::ptr_eq(a, b),
        (a, b) => a.is_none() && b.is_none(),
    };
    let found = onward
        .iter()
        .position(|(other, of, _)| *other == to && of.trail == ctx.trail && same_path(of));
    match found {
        Some(at) => {
            onward[at].2.push(set.clone());
            at
        }
        None => {
            onward.push((to, ctx.clone(), vec![set.clone()]));
            onward.len() - 1
        }
    }
}
