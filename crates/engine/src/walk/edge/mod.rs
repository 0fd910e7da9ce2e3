//! The edges of networks: gateways, the internet, sites, hubs.

mod gateway;
mod hub;
mod internet;

use gateway::translatable;

use super::firewall::Entry;
use super::label::{Choice, Leaf, Verdict};
use super::step::{Spot, Step, What, Why};
use super::{Ctx, Leg, Map, Met, Origin, Start, Visit, Walk, of_family};
use crate::doubt::{Doubt, Unsaid};
use crate::fabric::{PublicHolder, internet_gateway};
use crate::faults::{Fault, has};
use crate::route::{Hop, Offers, RoutePlace, SiteWay, Winner, link_of, offers_to, routes_of};
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
}
