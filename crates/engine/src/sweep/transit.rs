//! What need not be asked between the estate and its own public addresses.
//!
//! *Problem.* By way of the internet everybody talks to every public address of the estate: as many questions as the two
//! multiplied.
//!
//! *Claim.* The internet tells nobody apart. Let nothing in the estate ask about some of its public addresses, and not about the
//! rest of the internet; then what a sender sends to such an address goes out as what it sends to anybody on the internet, comes in as what
//! anybody on the internet sends there, and the reply goes home the same two ways. So if neither half has a reply that misses a device,
//! or comes to one that saw no request, the whole has none.
//!
//! *Halves.* A half is *clean* if it certainly works, or fails otherwise than by a device that saw only one direction, and
//! nature has no choice in that. Only clean halves say something about the whole: others are asked in full.

use super::{Fate, Node, Sweep};
use crate::fabric::Fabric;
use crate::faults::{Fault, has};
use crate::walk::{Asked, Start, Verdict, What, Why, alike, walk_ends};
use heronshale_model::estate::{GatewayKind, Id, Interface, NextHop};
use heronshale_sets::address::{Addresses, Family, internet_at_large};
use heronshale_sets::packet::PacketSet;
use std::net::IpAddr;

/// Public IPv4 addresses of the estate that are like any other of the internet, but for who holds them.
pub struct Transit {
    public: Addresses,
    /// Those to which what comes from the internet does not fare cleanly.
    unclean: Addresses,
}

impl Transit {
    /// None if nothing is known. `packets`: what is sent from some addresses to others.
    pub fn new(
        view: &Fabric<'_>,
        packets: impl Fn(&Addresses, &Addresses) -> PacketSet,
    ) -> Option<Self> {
        if !view.limits.shortcuts {
            return None;
        }
        let v4 = Addresses::of_family(Family::V4);
        let outside = view.internet_end().intersection(&v4);
        let whole = view.internet().intersection(&v4);
        let own = whole.difference(&outside);
        let told_apart = told_apart(view, &whole);
        let sources = sources(view, &own);
        if outside.is_subset(&told_apart)
            || sources.overlaps(&told_apart)
            || !sources.is_subset(&own)
        {
            return None;
        }
        let public = own.difference(&told_apart);
        let asked = Asked {
            start: Start::Internet,
            packets: packets(&outside, &public),
            name: None,
            any_of: Vec::new(),
        };
        let answered = walk_ends(view, &asked, Addresses::empty());
        let mut unclean = Addresses::empty();
        for part in &answered.parts {
            let last = answered
                .labels
                .steps(part.judged.trail)
                .last()
                .map(|step| step.what.clone());
            let misses = matches!(last, Some(What::Ended(Why::Bypassed | Why::SawNoRequest)));
            if !is_clean(
                part.judged.verdict,
                answered.labels.is_certain(part.label),
                misses,
            ) {
                unclean = unclean.union(&part.packets.destinations());
            }
        }
        Some(Self { public, unclean })
    }

    /// The public addresses of which is known what is sent there.
    pub fn public(&self) -> &Addresses {
        &self.public
    }

    /// Those that have to be asked from everywhere.
    pub fn unclean(&self) -> &Addresses {
        &self.unclean
    }

    /// The interfaces that have to be asked to every public address: those whose packets to the internet do not fare cleanly.
    pub fn unclean_senders(found: &Sweep) -> Vec<Id<Interface>> {
        let to_internet = |target: &(u32, bool)| found.nodes[target.0 as usize] == Node::Internet;
        let clean = |fate: &Fate| {
            let misses = fate.ended_at.is_some_and(|ended| ended.other_way);
            is_clean(fate.judged.verdict, fate.certain, misses)
        };
        let rows = found
            .rows
            .iter()
            .filter(|row| !clean(&found.fates[row.fate as usize]));
        let rows = rows.filter(|row| {
            row.reach
                .iter()
                .any(|reach| reach.targets.iter().any(to_internet))
        });
        let mut senders: Vec<Id<Interface>> = rows
            .flat_map(|row| &row.sources)
            .filter_map(|node| match &found.nodes[*node as usize] {
                Node::Interfaces(all) => all.first().copied(),
                _ => None,
            })
            .collect();
        senders.sort_unstable();
        senders.dedup();
        senders
    }
}

/// Whether a half is clean.
fn is_clean(verdict: Verdict, certain: bool, misses: bool) -> bool {
    verdict == Verdict::Works
        || has(Fault::TransitIsClean)
        || (certain && !misses && verdict >= Verdict::Denied)
}

/// The parts of the internet that something in the estate asks about, and not about all of it.
fn told_apart(view: &Fabric<'_>, whole: &Addresses) -> Addresses {
    let estate = view.estate;
    let mut apart: Vec<Addresses> = alike::asked_about(view).into_iter().collect();
    // Addresses that something leads to, which are no public addresses of their holders.
    let mut single: Vec<IpAddr> = Vec::new();
    for firewall in estate.firewalls.items() {
        single.extend(
            firewall
                .destination_translations
                .iter()
                .filter_map(|translation| translation.to),
        );
    }
    single.extend(
        estate
            .services
            .items()
            .iter()
            .filter_map(|service| service.provider_source),
    );
    for route in estate
        .route_tables
        .items()
        .iter()
        .flat_map(|table| &table.routes)
    {
        single.extend(match route.next_hop {
            NextHop::Address(address) => Some(address),
            _ => None,
        });
    }
    for balancer in estate.balancers.items() {
        single.extend(balancer.back_ends.iter().filter_map(|end| end.address));
        single.extend(
            balancer
                .front_ends
                .iter()
                .filter(|front| !front.public)
                .map(|front| front.address),
        );
    }
    for gateway in estate.gateways.items() {
        if let GatewayKind::Nat { address, .. } = &gateway.kind {
            single.extend(*address);
        }
    }
    single.extend(
        estate
            .public_addresses
            .items()
            .iter()
            .filter_map(|public| public.private),
    );
    apart.push(single.into_iter().collect());
    apart.extend(
        estate
            .interfaces
            .items()
            .iter()
            .map(|interface| interface.addresses.clone()),
    );
    let at_large = internet_at_large();
    let splits =
        |set: &&Addresses| **set != at_large && set.overlaps(whole) && !whole.is_subset(set);
    apart
        .iter()
        .filter(splits)
        .flat_map(|set| set.intersection(whole).ranges().collect::<Vec<_>>())
        .collect()
}

/// The addresses as which packets of the estate are on the internet: all that are given to them by a gateway or a firewall.
fn sources(view: &Fabric<'_>, own: &Addresses) -> Addresses {
    let estate = view.estate;
    let mut sources: Vec<IpAddr> = estate
        .public_addresses
        .items()
        .iter()
        .map(|public| public.address)
        .collect();
    for gateway in estate.gateways.items() {
        if let GatewayKind::Nat {
            public: Some(public),
            ..
        } = &gateway.kind
        {
            sources.push(*public);
        }
    }
    let v4: Addresses = sources
        .into_iter()
        .filter(|address| address.is_ipv4())
        .collect();
    let firewalls = estate.firewalls.items().iter();
    let translated = firewalls
        .clone()
        .flat_map(|firewall| &firewall.source_translations);
    let translated: Addresses = translated
        .filter_map(|translation| translation.to)
        .filter(|address| address.is_ipv4())
        .collect();
    let held = firewalls.fold(Addresses::empty(), |sum, firewall| {
        sum.union(&firewall.addresses)
    });
    let cards = estate
        .interfaces
        .items()
        .iter()
        .flat_map(|interface| interface.addresses.ranges());
    let held = held.union(&cards.collect());
    // Private ones are translated again before they are on the internet.
    let public = internet_at_large().intersection(&Addresses::of_family(Family::V4));
    v4.union(
        &translated
            .union(&held.intersection(own))
            .intersection(&public),
    )
}
