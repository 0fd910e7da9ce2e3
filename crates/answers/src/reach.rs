//! What something reaches, or who reaches it, as data.

use super::traffic::symbols;
use crate::traffic::services_text;
use heronshale_audit::describe::{PeerWords, peer_words};
use heronshale_audit::facts::{choices_text, condition_text};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::sweep::{
    Chains, From, Hop, Node, Place, Reached, ReachedBy, Sweep, Sweeping, Way, machine_of, machines,
    sweep,
};
use heronshale_engine::walk::Verdict;
use heronshale_model::ends::End;
use heronshale_model::estate::{Id, Interface, Service};
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;
use rustc_hash::FxHashSet;
use serde::Serialize;

/// What is at one end of connections.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum PlaceKind {
    /// A workload, or an interface that belongs to none.
    Workload,
    /// The internet.
    Internet,
    /// A site.
    Site,
    /// A platform service.
    Service,
    /// A part of the estate that is missing from the snapshot.
    Gap,
}

/// One end of connections.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct PlaceFact {
    /// What it is.
    pub kind: PlaceKind,
    /// Its name.
    pub name: String,
}

/// Some services that go from one place to another alike.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct LinkFact {
    /// Protocols with ports, or ICMP types and codes.
    pub services: Vec<String>,
    /// `IPv4`, `IPv6`, or both.
    pub families: Vec<String>,
    /// `works`, `works-for-some`, `conditional` or `unknown`.
    pub verdict: Verdict,
    /// By which addresses, if not by the end's own: `balancer booking`.
    pub by: Vec<String>,
    /// The firewalls that are passed, there and back; one of them, where nature chooses.
    pub firewalls: Vec<String>,
    /// From which addresses of the internet or a site, if not from all.
    pub sources: Option<PeerWords>,
    /// What would have to hold.
    pub conditions: Vec<String>,
    /// Where only some of nature's choices work: those that do.
    pub only_if: Vec<String>,
}

/// A link of a chain.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct HopFact {
    /// Who opens the connection.
    pub from: PlaceFact,
    /// To whom.
    pub to: PlaceFact,
    /// By what.
    pub ways: Vec<LinkFact>,
}

/// Something at the other end of a chain.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ReachedFact {
    /// What.
    pub place: PlaceFact,
    /// How many connections one after the other.
    pub jumps: u32,
    /// Whether no link depends on something missing from the snapshot.
    pub certain: bool,
    /// The shortest chain, in the order in which it is gone.
    pub hops: Vec<HopFact>,
    /// The machines that every chain passes, however long; asked for more than one jump only.
    pub always_by: Vec<PlaceFact>,
}

/// What something reaches, or who reaches it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ReachAnswer {
    /// Where chains start; none if that was asked.
    pub from: Option<String>,
    /// Where they end; none if that was asked.
    pub to: Option<String>,
    /// What these two are, each.
    pub ends: Vec<PlaceFact>,
    /// How many connections one after the other at most.
    pub jumps: u32,
    /// Which traffic each of them may be; none for all.
    pub traffic: Option<String>,
    /// What was found: what is certain first, the fewest jumps first, then in the order of the snapshot.
    pub reached: Vec<ReachedFact>,
    /// How many workloads there are beside the given ends.
    pub others: usize,
}

/// What is asked of a sweep of reach.
#[derive(Clone, Copy, Debug)]
pub struct ReachAsked<'q> {
    /// Where chains start.
    pub from: Option<(&'q End, &'q str)>,
    /// Where they end.
    pub to: Option<(&'q End, &'q str)>,
    /// How many connections one after the other at most: at least 1.
    pub jumps: u32,
    /// Which services each of them may be; empty for all.
    pub services: &'q [Service],
}

/// A place in words.
pub(crate) fn place_fact(view: &Fabric<'_>, all: &[Vec<Id<Interface>>], place: Place) -> PlaceFact {
    let estate = view.estate;
    let (kind, name) = match place {
        Place::Machine(machine) => {
            let workload = estate
                .workloads
                .items()
                .get(machine as usize)
                .map(|workload| workload.name.to_string());
            let alone = || estate.interfaces[all[machine as usize][0]].name.to_string();
            (PlaceKind::Workload, workload.unwrap_or_else(alone))
        }
        Place::Internet => (PlaceKind::Internet, "the internet".to_owned()),
        Place::Site(id) => (PlaceKind::Site, estate.sites[id].name.to_string()),
        Place::Service(id) => (PlaceKind::Service, estate.services[id].name.to_string()),
        Place::Lacking(at) => (PlaceKind::Gap, estate.gaps[at].object.to_string()),
    };
    PlaceFact { kind, name }
}

pub(super) fn by_text(view: &Fabric<'_>, by: ReachedBy) -> Option<String> {
    let estate = view.estate;
    match by {
        ReachedBy::Own => None,
        ReachedBy::Public(id) => Some(format!(
            "public address {}",
            estate.public_addresses[id].name
        )),
        ReachedBy::Balancer(id) => Some(format!("balancer {}", estate.balancers[id].name)),
        ReachedBy::Firewall(id) => Some(format!("firewall {}", estate.firewalls[id].name)),
        ReachedBy::Translated => Some("a translated address".to_owned()),
    }
}

/// Ways from outside with the senders of each service put together: what some ways have only for a part of the internet,
/// others may have for the rest.
fn by_sources(view: &Fabric<'_>, found: &Sweep, ways: &[Way]) -> Vec<Way> {
    if ways.iter().all(|way| way.partly.is_none()) {
        return ways.to_vec();
    }
    let whole = |node: u32| match found.nodes[node as usize] {
        Node::Site(id) => view.estate.sites[id].holds.clone(),
        _ => view.internet_end(),
    };
    let mut all: Vec<Way> = Vec::new();
    for way in ways {
        let Some((node, from)) = &way.partly else {
            all.push(way.clone());
            continue;
        };
        let alike = |one: &Way| {
            let place = one.partly.as_ref().map(|(node, _)| node);
            (one.by, one.family, one.fate, place) == (way.by, way.family, way.fate, Some(node))
        };
        let (known, others): (Vec<Way>, Vec<Way>) = all.into_iter().partition(alike);
        all = others;
        let mut left = way.services.clone();
        let with = |services: Intervals, from: Addresses| Way {
            services,
            partly: Some((*node, from)),
            ..way.clone()
        };
        for one in known {
            let both = one.services.intersection(&way.services);
            left = left.difference(&both);
            let before = one.partly.as_ref().map(|(_, from)| from.clone());
            let before = before.unwrap_or_else(Addresses::empty);
            all.push(with(one.services.difference(&both), before.clone()));
            all.push(with(both, before.union(from)));
        }
        all.push(with(left, from.clone()));
        all.retain(|one| !one.services.is_empty());
    }
    for way in &mut all {
        let family = Addresses::of_family(way.family);
        let partial = way
            .partly
            .as_ref()
            .is_some_and(|(node, from)| !whole(*node).intersection(&family).is_subset(from));
        way.partly.take_if(|_| !partial);
    }
    all
}

/// Ways that differ in nothing that is told, as one.
pub(super) fn link_facts(view: &Fabric<'_>, found: &Sweep, ways: &[Way]) -> Vec<LinkFact> {
    let estate = view.estate;
    let senders = ways.iter().filter_map(|way| way.partly.as_ref());
    let senders = senders.fold(Addresses::empty(), |sum, (_, from)| sum.union(from));
    let sets = if senders.is_empty() {
        Vec::new()
    } else {
        symbols(view, &senders)
    };
    let mut groups: Vec<(LinkFact, [Intervals; 2])> = Vec::new();
    for way in &by_sources(view, found, ways) {
        let fate = &found.fates[way.fate as usize];
        let fact = LinkFact {
            services: Vec::new(),
            families: Vec::new(),
            verdict: fate.judged.verdict,
            by: by_text(view, way.by).into_iter().collect(),
            firewalls: fate
                .firewalls
                .iter()
                .map(|id| estate.firewalls[*id].name.to_string())
                .collect(),
            sources: way
                .partly
                .as_ref()
                .map(|(_, from)| peer_words(way.family, from.of(way.family), &sets)),
            conditions: fate
                .judged
                .conditions
                .iter()
                .map(|one| condition_text(estate, one))
                .collect(),
            only_if: choices_text(view, &fate.judged),
        };
        let at = groups
            .iter()
            .position(|(known, _)| *known == fact)
            .unwrap_or_else(|| {
                groups.push((fact, [Intervals::empty(), Intervals::empty()]));
                groups.len() - 1
            });
        let sum = &mut groups[at].1[usize::from(way.family == Family::V6)];
        *sum = sum.union(&way.services);
    }
    let mut facts = Vec::new();
    for (fact, numbers) in groups {
        let [four, six] = [(Family::V4, &numbers[0]), (Family::V6, &numbers[1])]
            .map(|(f, n)| service::texts(f, n));
        // What exists in one family only makes no difference between them.
        let ported = |numbers: &Intervals| numbers.intersection(&service::all_with_ports());
        let whole = |family: Family, numbers: &Intervals| *numbers == service::all(family);
        let alike = ported(&numbers[0]) == ported(&numbers[1]) && !numbers[1].is_empty();
        let alike = alike || (whole(Family::V4, &numbers[0]) && whole(Family::V6, &numbers[1]));
        let with = |services: Vec<String>, families: &[&str]| LinkFact {
            services,
            families: families.iter().map(|family| (*family).to_owned()).collect(),
            ..fact.clone()
        };
        if alike {
            let more = six.into_iter().filter(|text| !four.contains(text));
            facts.push(with(
                four.iter().cloned().chain(more).collect(),
                &["IPv4", "IPv6"],
            ));
        } else {
            for (services, family) in [(four, "IPv4"), (six, "IPv6")] {
                if !services.is_empty() {
                    facts.push(with(services, &[family]));
                }
            }
        }
    }
    // The same by several addresses is told once.
    let mut merged: Vec<LinkFact> = Vec::new();
    for fact in facts {
        let same = |known: &&mut LinkFact| {
            let by_other = !known.by.is_empty() && !fact.by.is_empty();
            by_other
                && LinkFact {
                    by: Vec::new(),
                    ..(**known).clone()
                } == LinkFact {
                    by: Vec::new(),
                    ..fact.clone()
                }
        };
        match merged.iter_mut().find(same) {
            Some(known) => known.by.extend(fact.by),
            None => merged.push(fact),
        }
    }
    merged.sort_by_key(|fact| fact.verdict);
    merged
}

pub(super) fn hop_fact(
    view: &Fabric<'_>,
    found: &Sweep,
    all: &[Vec<Id<Interface>>],
    hop: &Hop,
) -> HopFact {
    HopFact {
        from: place_fact(view, all, hop.from),
        to: place_fact(view, all, hop.to),
        ways: link_facts(view, found, &hop.ways),
    }
}

/// A place, and the interfaces by which it was named.
type Named = (Place, Vec<Id<Interface>>);

/// The places of an end, each with its interfaces; none for an end that is not a place.
fn places_of(view: &Fabric<'_>, end: &End) -> Vec<Named> {
    match end {
        End::Internet => vec![(Place::Internet, Vec::new())],
        End::Site(id) => vec![(Place::Site(*id), Vec::new())],
        End::Service(id) => {
            // By its doors, by interfaces of its own, by the balancer behind its doors.
            let service = &view.estate.services[*id];
            let behind = service
                .balancer
                .iter()
                .flat_map(|id| &view.estate.balancers[*id].back_ends);
            let own = service
                .interfaces
                .iter()
                .copied()
                .chain(behind.filter_map(|back_end| back_end.interface));
            let mut places = vec![(Place::Service(*id), Vec::new())];
            places.extend(by_machine(view, own.collect()));
            places
        }
        End::Block(block) if end.interfaces(view).is_empty() => {
            let wanted = [block.range].into_iter().collect();
            let site = view
                .estate
                .sites
                .iter()
                .find(|(_, site)| site.holds.overlaps(&wanted));
            let outside = view
                .internet_end()
                .overlaps(&wanted)
                .then_some(Place::Internet);
            let place = site.map(|(id, _)| Place::Site(id)).or(outside);
            place.map(|place| (place, Vec::new())).into_iter().collect()
        }
        End::Balancer(id) => {
            let behind = view.estate.balancers[*id]
                .back_ends
                .iter()
                .filter_map(|back_end| back_end.interface);
            by_machine(view, behind.collect())
        }
        _ => by_machine(view, end.interfaces(view)),
    }
}

fn by_machine(view: &Fabric<'_>, mut interfaces: Vec<Id<Interface>>) -> Vec<Named> {
    // A private door is its service.
    let services = view.estate.services.iter();
    let doors: Vec<_> = services
        .filter(|(_, s)| s.private_doors.iter().any(|door| interfaces.contains(door)))
        .collect();
    let mut services: Vec<Named> = Vec::new();
    for (id, service) in doors {
        interfaces.retain(|interface| !service.private_doors.contains(interface));
        services.push((Place::Service(id), Vec::new()));
    }
    interfaces.sort_unstable_by_key(|id| (machine_of(view, *id), *id));
    interfaces.dedup();
    let mut places: Vec<Named> = Vec::new();
    for id in interfaces {
        let place = Place::Machine(machine_of(view, id));
        match places.last_mut().filter(|(last, _)| *last == place) {
            Some((_, all)) => all.push(id),
            None => places.push((place, vec![id])),
        }
    }
    services.append(&mut places);
    services
}

/// Answers what something reaches, or who reaches it. None if an end is not a place: an address set, or one that stands for nothing.
pub fn reach_answer(view: &Fabric<'_>, asked: &ReachAsked<'_>) -> Option<ReachAnswer> {
    let [from, to] =
        [asked.from, asked.to].map(|end| end.map(|(end, _)| (end, places_of(view, end))));
    let is_nothing = |end: &Option<(&End, Vec<Named>)>| {
        end.as_ref().is_some_and(|(_, places)| places.is_empty())
    };
    if is_nothing(&from) || is_nothing(&to) {
        return None;
    }
    let starts: Vec<Id<Interface>> = from
        .iter()
        .flat_map(|(_, all)| all.iter().flat_map(|(_, ids)| ids))
        .copied()
        .collect();
    let ends: Vec<Id<Interface>> = to
        .iter()
        .flat_map(|(_, all)| all.iter().flat_map(|(_, ids)| ids))
        .copied()
        .collect();
    let direct = asked.jumps <= 1;
    let apart = |_| 0;
    let sweeping = Sweeping {
        from: match &from {
            Some((End::Internet, _)) if direct => From::Internet,
            Some((End::Site(id), _)) if direct => From::Site(*id),
            Some(_) if direct && !starts.is_empty() => From::Interfaces(&starts),
            _ => From::Everywhere,
        },
        to: (direct && to.is_some()).then_some(&ends),
        services: asked.services,
        apart: &apart,
        failing: false,
        spared: None,
        doors_apart: false,
    };
    let found = sweep(view, &sweeping);
    let chains = Chains::new(view, &found);
    let all = machines(view);
    let reached = match (&from, &to) {
        (Some((_, starts)), to) => {
            let mut reached = chains.onward(&chains.starting(starts), asked.jumps);
            if let Some((end, to)) = to {
                let by = last_by(end);
                reached.retain(|one| {
                    let last = one.hops.last();
                    to.iter().any(|(place, _)| *place == one.place)
                        && last.is_some_and(|hop| hop.ways.iter().any(|way| by(way.by)))
                });
            }
            reached
        }
        (None, Some((end, to))) => {
            chains.back_from(&chains.starting(to), asked.jumps, &last_by(end))
        }
        (None, None) => Vec::new(),
    };
    let given = from
        .iter()
        .chain(&to)
        .flat_map(|(_, places)| places.iter().map(|(place, _)| *place));
    let given: Vec<Place> = given.collect();
    let machine = |place: &Place| matches!(place, Place::Machine(_));
    let doors: FxHashSet<Id<Interface>> = view
        .estate
        .services
        .items()
        .iter()
        .flat_map(|item| item.private_doors.iter().copied())
        .collect();
    let there = all
        .iter()
        .filter(|members| !members.iter().all(|id| doors.contains(id)))
        .count();
    let fact = |one: &Reached| ReachedFact {
        place: place_fact(view, &all, one.place),
        jumps: one.jumps,
        certain: one.certain,
        hops: one
            .hops
            .iter()
            .map(|hop| hop_fact(view, &found, &all, hop))
            .collect(),
        always_by: one
            .always_by
            .iter()
            .map(|place| place_fact(view, &all, *place))
            .collect(),
    };
    Some(ReachAnswer {
        from: asked.from.map(|(_, text)| text.to_owned()),
        to: asked.to.map(|(_, text)| text.to_owned()),
        ends: given
            .iter()
            .map(|place| place_fact(view, &all, *place))
            .collect(),
        jumps: asked.jumps,
        traffic: (!asked.services.is_empty()).then(|| services_text(asked.services)),
        reached: reached.iter().map(fact).collect(),
        others: there
            - given
                .iter()
                .filter(|place| machine(place))
                .count()
                .min(there),
    })
}

/// By which addresses the last connection may go, if the end says it.
fn last_by(end: &End) -> impl Fn(ReachedBy) -> bool + use<> {
    let balancer = if let End::Balancer(id) = end {
        Some(*id)
    } else {
        None
    };
    move |by| balancer.is_none_or(|wanted| by == ReachedBy::Balancer(wanted))
}
