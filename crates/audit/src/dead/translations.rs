//! Translations of firewalls that do nothing: the first that matches decides, so they are lists like others.

use super::list::{Enlisted, Line, Zones};
use super::{Covers, Gone, How, beside, otherwise, removal, shadow, state};
use heronshale_engine::fabric::Fabric;
use heronshale_model::estate::{Direction, Firewall, Id, Peer, Translation};
use heronshale_model::view::Matched;
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::cover::{Limits, Reading};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;

/// A translation that does nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DeadTranslation {
    /// Of which firewall.
    pub firewall: Id<Firewall>,
    /// Whether it changes sources; else destinations.
    pub of_source: bool,
    /// Its place in that list, as written.
    pub index: usize,
    /// In which way it is dead.
    pub how: How,
    /// The translations that cover it, none of which can be left out.
    pub covers: Vec<usize>,
    /// Who takes its packets, in the order in which they do.
    pub takers: Vec<usize>,
}

/// Every dead translation of the estate.
pub fn dead_translations(view: &Fabric<'_>) -> Vec<DeadTranslation> {
    let mut dead = Vec::new();
    for (id, firewall) in view.estate.firewalls.iter() {
        for (of_source, list) in [
            (false, &firewall.destination_translations),
            (true, &firewall.source_translations),
        ] {
            dead.extend(dead_of(view, id, of_source, list));
        }
    }
    dead
}

fn line(
    view: &Fabric<'_>,
    firewall: &Firewall,
    of_source: bool,
    one: &Translation,
    decision: u16,
    zones: &Zones,
) -> Line {
    let network = firewall
        .legs
        .first()
        .map(|leg| view.estate.network_of(leg.interface));
    let peers = |peers: &Option<Vec<Peer>>| match peers {
        None => Matched {
            sure: Addresses::all(),
            maybe: Addresses::empty(),
        },
        Some(peers) => view.peers(peers, network),
    };
    let (sources, destinations) = (peers(&one.sources), peers(&one.destinations));
    let numbers = |family: Family| {
        // A new destination is of one family, and packets of the other are not meant.
        if !of_source && one.to.is_some_and(|to| Family::of(to) != family) {
            return Intervals::empty();
        }
        if one.services.is_empty() {
            return service::all(family);
        }
        one.services.iter().fold(Intervals::empty(), |sum, one| {
            sum.union(&one.numbers(family))
        })
    };
    Line {
        decision,
        most: (sources.either(), destinations.either()),
        sure: Some((sources.sure, destinations.sure)),
        services: Family::BOTH.map(numbers),
        ports: Intervals::span(0, u128::from(u16::MAX)),
        pairs: zones.of(
            one.from_zones.as_ref(),
            if of_source {
                one.to_zones.as_ref()
            } else {
                None
            },
        ),
        ends: None,
    }
}

fn dead_of(
    view: &Fabric<'_>,
    id: Id<Firewall>,
    of_source: bool,
    list: &[Translation],
) -> Vec<DeadTranslation> {
    let firewall = &view.estate.firewalls[id];
    let in_force: Vec<usize> = (0..list.len()).filter(|at| list[*at].enabled).collect();
    if in_force.len() < 2 {
        return Vec::new();
    }
    let named = in_force.iter().flat_map(|at| {
        list[*at]
            .from_zones
            .iter()
            .chain(&list[*at].to_zones)
            .flatten()
    });
    let zones = Zones::new(named.cloned().collect());
    let mut targets: Vec<(Option<std::net::IpAddr>, Option<u16>)> = Vec::new();
    let mut lines = Vec::new();
    for at in &in_force {
        let target = (list[*at].to, list[*at].port);
        let number = targets
            .iter()
            .position(|other| *other == target)
            .unwrap_or_else(|| {
                targets.push(target);
                targets.len() - 1
            });
        let decision = u16::try_from(number).unwrap_or(u16::MAX - 1);
        lines.push((
            *at,
            line(view, firewall, of_source, &list[*at], decision, &zones),
        ));
    }
    // What no translation matches is not translated, which none of them does.
    let default = Some(u16::MAX);
    // Sources are peers here, as in rules about what is received.
    let limits = Limits::default();
    let direction = Direction::In;
    let Some(list) = Enlisted::new(
        Reading::FirstMatch,
        direction,
        lines,
        zones.pairs(),
        default,
        Addresses::empty(),
        limits,
    ) else {
        let undecided = |index| DeadTranslation {
            firewall: id,
            of_source,
            index,
            how: How::Undecided,
            covers: Vec::new(),
            takers: Vec::new(),
        };
        return in_force.into_iter().map(undecided).collect();
    };
    let (mut v4, mut v6) = list.provers();
    let mut dead = Vec::new();
    for (at, index) in (0u32..).zip(&in_force) {
        let states = (state(&mut v4, at), state(&mut v6, at));
        let absent = states.0.is_absent() && states.1.is_absent();
        let hidden = states.0.is_hidden() && states.1.is_hidden();
        let gone = [
            removal(&mut v4, at, default, &states.0),
            removal(&mut v6, at, default, &states.1),
        ];
        if absent || (!hidden && gone.contains(&Gone::Changes)) {
            continue;
        }
        let home = Addresses::empty();
        let packet = otherwise::<u32>(&mut v4, at, list.pairs, direction, &home, Family::V4)
            .and_then(|v4| {
                Ok(v4.or(otherwise::<u128>(
                    &mut v6,
                    at,
                    list.pairs,
                    direction,
                    &home,
                    Family::V6,
                )?))
            });
        let (how, of) = match packet {
            _ if gone.contains(&Gone::Undecided) => (How::Undecided, Covers::default()),
            Err(()) => (How::Undecided, Covers::default()),
            Ok(packet) if hidden => (
                packet.map_or(How::Redundant, How::Shadowed),
                shadow(&mut v4, at).and(shadow(&mut v6, at)),
            ),
            Ok(_) => (
                How::Redundant,
                beside(&mut v4, at, false).and(beside(&mut v6, at, false)),
            ),
        };
        let places = |of: Vec<u32>| of.into_iter().map(|at| list.ids[at as usize]).collect();
        let (covers, takers) = (places(of.rules), places(of.takers));
        dead.push(DeadTranslation {
            firewall: id,
            of_source,
            index: *index,
            how,
            covers,
            takers,
        });
    }
    dead
}
