//! Pairs of a sender and a receiver between which something gets through, or may: found by a sweep, and walked again one by one.

use super::sides::{Receivers, Senders};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::path::client_ports;
use heronshale_engine::sweep::{
    Fate, From, Node, ReachedBy, Sweep, Sweeping, numbers_of, sent, sweep,
};
use heronshale_engine::walk::{Asked, Spot, Start, Verdict, What, walk_ends};
use heronshale_model::estate::{Id, Interface, Service};
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::PacketSet;
use rustc_hash::FxHashMap;

/// One of those that a sweep found.
pub(super) struct Candidate<'f> {
    pub start: Start,
    sources: Addresses,
    pub target: Node,
    pub member: Option<Id<Interface>>,
    pub by: ReachedBy,
    asked: Addresses,
    services: Intervals,
    family: Family,
    pub fate: &'f Fate,
}

/// Sweeps from senders to receivers, and calls `each` with every pair of kinds of them that gets through, or may; until it says something.
pub(super) fn each_candidate<T>(
    view: &Fabric<'_>,
    senders: &Senders,
    receivers: &Receivers,
    services: &[Service],
    apart: &dyn Fn(Id<Interface>) -> u32,
    each: &mut dyn FnMut(Candidate<'_>) -> Option<T>,
) -> Option<T> {
    let sending = senders.sorted();
    let whole: Vec<Id<Interface>> = {
        let mut all: Vec<_> = receivers
            .interfaces
            .iter()
            .chain(receivers.of_services.keys())
            .copied()
            .collect();
        all.sort_unstable();
        all.dedup();
        all
    };
    let devices_only =
        receivers.asked.is_empty() && receivers.services.is_empty() && receivers.sites.is_empty();
    let mut starts = Vec::new();
    if !senders.internet.is_empty() && !senders.sites.is_empty() {
        starts.push(From::Everywhere);
    } else {
        starts.extend((!sending.is_empty()).then_some(From::Interfaces(&sending)));
        starts.extend((!senders.internet.is_empty()).then_some(From::Internet));
        let mut sites: Vec<_> = senders.sites.keys().copied().collect();
        sites.sort_unstable();
        starts.extend(sites.into_iter().map(From::Site));
    }
    for from in starts {
        let sweeping = Sweeping {
            to: devices_only.then_some(&whole),
            services,
            ..Sweeping::of(from, apart)
        };
        let found = sweep(view, &sweeping);
        let told = candidates(view, &found, senders, receivers, each);
        if told.is_some() {
            return told;
        }
    }
    None
}

fn candidates<T>(
    view: &Fabric<'_>,
    found: &Sweep,
    senders: &Senders,
    receivers: &Receivers,
    each: &mut dyn FnMut(Candidate<'_>) -> Option<T>,
) -> Option<T> {
    for row in &found.rows {
        let fate = &found.fates[row.fate as usize];
        for source in &row.sources {
            let sender = &found.nodes[*source as usize];
            let first = if let Node::Interfaces(all) = sender {
                all.first().copied()
            } else {
                None
            };
            let Some((start, sources)) = senders.start(sender, first) else {
                continue;
            };
            for reach in &row.reach {
                for target in reach
                    .targets
                    .iter()
                    .filter(|target| Sweep::counts(*source, **target))
                {
                    let node = &found.nodes[target.0 as usize];
                    let member = if let Node::Interfaces(all) = node {
                        // Within one kind the second stands for the others.
                        if target.0 == *source {
                            all.get(1).copied()
                        } else {
                            all.first().copied()
                        }
                    } else {
                        None
                    };
                    let asked = receivers.asked(view, node, member, reach.by);
                    if asked.of(reach.family).is_empty() {
                        continue;
                    }
                    let only = receivers.services_at(view, member);
                    let numbers = numbers_of(only, reach.family).intersection(&reach.services);
                    if numbers.is_empty() {
                        continue;
                    }
                    let told = each(Candidate {
                        start: start.clone(),
                        sources: sources.clone(),
                        target: node.clone(),
                        member,
                        by: reach.by,
                        asked,
                        services: numbers,
                        family: reach.family,
                        fate,
                    });
                    if told.is_some() {
                        return told;
                    }
                }
            }
        }
    }
    None
}

impl Candidate<'_> {
    /// What it may send, from the ports of clients there.
    pub fn packets(&self, view: &Fabric<'_>, services: &[Service]) -> PacketSet {
        let ports = client_ports(view, &self.start, &self.asked);
        let all = sent(&self.sources, &self.asked, services, &ports);
        let every = Intervals::span(0, u128::from(u16::MAX));
        let of = |family| {
            if family == self.family {
                self.services.clone()
            } else {
                Intervals::empty()
            }
        };
        all.intersection(&PacketSet::fields(
            &Addresses::all(),
            &Addresses::all(),
            of,
            &every,
            (),
        ))
    }

    /// Those of its packets that get through to the target or may, each part with its verdict.
    pub fn through(&self, view: &Fabric<'_>, packets: PacketSet) -> Vec<(Verdict, PacketSet)> {
        let asked = Asked {
            start: self.start.clone(),
            packets,
            name: None,
            any_of: Vec::new(),
        };
        let answered = walk_ends(view, &asked, Addresses::empty());
        let is_target = |at: Spot| match (&self.target, at) {
            (Node::Interfaces(_), Spot::Interface(id)) => Some(id) == self.member,
            // What a firewall answers itself is answered at its interfaces.
            (Node::Interfaces(_), Spot::Firewall(id)) => view.estate.firewalls[id]
                .legs
                .iter()
                .any(|leg| Some(leg.interface) == self.member),
            (Node::Internet, Spot::Internet) => true,
            (Node::Site(wanted), Spot::Site(id)) => *wanted == id,
            (Node::Service(wanted), Spot::Service(id)) => *wanted == id,
            (Node::Service(wanted), Spot::Interface(id)) => {
                view.estate.services[*wanted].private_doors.contains(&id)
            }
            _ => false,
        };
        let arrives = |part: &&heronshale_engine::walk::Part| {
            if part.judged.verdict.is_open() {
                return true;
            }
            let works = answered.labels.trails_that_work(part.label);
            let ends = works.iter().flat_map(|trail| answered.labels.steps(*trail));
            let ends: Vec<Spot> = ends
                .filter(|step| step.what == What::Arrived && !step.reply)
                .map(|s| s.at)
                .collect();
            // What arrives elsewhere than at the interface that holds the address is told; a private door is such an interface.
            let untold =
                ends.is_empty() && matches!(self.target, Node::Interfaces(_) | Node::Service(_));
            untold || ends.into_iter().any(is_target)
        };
        let open = answered.parts.iter().filter(|part| part.judged.may_work);
        open.filter(arrives)
            .map(|part| (part.judged.verdict, part.packets.clone()))
            .collect()
    }
}

/// For each interface a number: those that the sides hold alike have the same.
pub(super) fn told_apart(
    view: &Fabric<'_>,
    senders: &[&Senders],
    receivers: &[&Receivers],
) -> Vec<u32> {
    let mut known: FxHashMap<(Vec<u8>, Option<Id<Interface>>), u32> = FxHashMap::default();
    let number = |id: Id<Interface>| {
        let mut signature: Vec<u8> = Vec::new();
        let mut partly = false;
        for side in senders {
            let own = side.interfaces.get(&id);
            partly |= own.is_some_and(|own| *own != view.estate.interfaces[id].addresses);
            signature.push(u8::from(own.is_some()));
        }
        for side in receivers {
            signature.push(u8::from(side.interfaces.contains(&id)));
            signature.push(u8::from(side.of_services.contains_key(&id)));
        }
        let next = u32::try_from(known.len()).expect("fewer than 2^32 interfaces");
        *known
            .entry((signature, partly.then_some(id)))
            .or_insert(next)
    };
    view.estate.interfaces.ids().map(number).collect()
}
