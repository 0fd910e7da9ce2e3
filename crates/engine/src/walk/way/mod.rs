//! From interface to interface: starting, routing, and what a route leads to.

mod hop;
mod start;

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
