//! Reach, chains and the matrix of random estates, against one walk for each pair of a start and an asked address.

mod chains;

pub use chains::try_reach;

use super::agreement::load;
use super::topology::estate;
use super::walks::with_likenesses;
use fastrand::Rng;
use heronshale_answers::{
    CellVerdict, Matrix, PlaceFact, PlaceKind, ReachAnswer, ReachAsked, reach_answer,
};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::walk::{Asked, Spot, Start, Tell, Verdict, What, walk};
use heronshale_model::ends::End;
use heronshale_model::estate::{Estate, Id, Interface, Service};
use heronshale_model::limits::Limits;
use heronshale_model::segments::SegmentBy;
use heronshale_sets::address::{Addresses, Range};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, service};
use std::collections::{BTreeMap, BTreeSet};

/// One asked address, as the snapshot has it: who holds it, and whether it is an end's own.
struct Address {
    set: Addresses,
    /// Places that could be behind it.
    behind: Vec<String>,
    own: bool,
    /// Whether it is a private door's, or one by which a balancer leads on from a service's doors.
    door: bool,
    entrance: bool,
}

/// What a walk said: how it fares, who is reached by which firewalls.
#[derive(Clone, Debug)]
pub(super) struct Said {
    pub verdict: Verdict,
    pub ends: Vec<String>,
    own: bool,
    /// Whether a private door was asked, or the balancer behind a service's doors.
    door: bool,
    pub entrance: bool,
    pub firewalls: Vec<BTreeSet<String>>,
}

/// Starts, and for each end and address what walks said.
pub(super) struct Table {
    pub starts: Vec<String>,
    pub said: BTreeMap<String, Vec<Said>>,
}

fn addresses(view: &Fabric<'_>) -> Vec<Address> {
    let estate = view.estate;
    let one = |range: Range| -> Addresses { [range].into_iter().collect() };
    let mut all: Vec<Address> = Vec::new();
    let interface = |id| end_name(estate, id);
    for (id, item) in estate.interfaces.iter() {
        all.extend(item.addresses.ranges().map(|range| Address {
            set: one(range),
            behind: vec![interface(id)],
            own: true,
            door: interface(id) != *item.name,
            entrance: false,
        }));
    }
    for public in estate.public_addresses.items() {
        let behind = public.interface.map(interface).into_iter().collect();
        all.push(Address {
            set: Addresses::single(public.address),
            behind,
            own: false,
            door: false,
            entrance: false,
        });
    }
    for (id, balancer) in estate.balancers.iter() {
        let entrance = estate
            .services
            .items()
            .iter()
            .any(|service| service.balancer == Some(id));
        let behind: Vec<String> = balancer
            .back_ends
            .iter()
            .filter_map(|end| end.interface)
            .map(interface)
            .collect();
        let fronts = balancer.front_ends.iter().map(|front| front.address);
        let address = |front| Address {
            set: Addresses::single(front),
            behind: behind.clone(),
            own: false,
            door: false,
            entrance,
        };
        all.extend(fronts.map(address));
    }
    let held = estate
        .firewalls
        .items()
        .iter()
        .flat_map(|firewall| firewall.addresses.ranges());
    all.extend(held.map(|range| Address {
        set: one(range),
        behind: Vec::new(),
        own: false,
        door: false,
        entrance: false,
    }));
    for service in estate.services.items() {
        let doors = service
            .public_door
            .iter()
            .flat_map(|door| door.addresses.ranges());
        all.extend(doors.map(|range| Address {
            set: one(range),
            behind: vec![format!("service {}", service.name)],
            own: true,
            door: false,
            entrance: false,
        }));
    }
    let known = all
        .iter()
        .fold(Addresses::empty(), |sum, address| sum.union(&address.set));
    let mut wide = vec![("internet".to_owned(), view.internet_end())];
    for site in estate.sites.items() {
        wide.push((
            format!("site {}", site.name),
            site.holds.union(&site.announces),
        ));
    }
    wide.extend(lacking(view.estate));
    let every = wide
        .iter()
        .fold(Addresses::empty(), |sum, (_, set)| sum.union(set))
        .difference(&known);
    all.push(Address {
        set: every,
        behind: Vec::new(),
        own: true,
        door: false,
        entrance: false,
    });
    all
}

/// An interface; a private door is its service.
fn end_name(estate: &Estate, id: Id<Interface>) -> String {
    let service = estate
        .services
        .items()
        .iter()
        .find(|service| service.private_doors.contains(&id));
    service.map_or_else(
        || estate.interfaces[id].name.to_string(),
        |service| format!("service {}", service.name),
    )
}

/// Walks from every start to every address.
pub(super) fn table(view: &Fabric<'_>, asked: &Service) -> Table {
    let estate = view.estate;
    let mut starts: Vec<(String, Start, Addresses)> = estate
        .interfaces
        .iter()
        // A private door opens nothing.
        .filter(|(id, item)| end_name(estate, *id) == *item.name)
        .map(|(id, item)| {
            (
                item.name.to_string(),
                Start::Interfaces(vec![id]),
                item.addresses.clone(),
            )
        })
        .collect();
    starts.push(("internet".to_owned(), Start::Internet, view.internet_end()));
    for (id, site) in estate.sites.iter() {
        starts.push((
            format!("site {}", site.name),
            Start::Site(id),
            site.holds.clone(),
        ));
    }
    let wide: Vec<(String, Addresses)> = [("internet".to_owned(), view.internet_end())]
        .into_iter()
        .chain(lacking(estate))
        .chain(estate.sites.items().iter().map(|site| {
            (
                format!("site {}", site.name),
                site.holds.union(&site.announces),
            )
        }))
        .collect();
    let all = addresses(view);
    let clients = Intervals::span(3000, 3001);
    let every = Intervals::span(0, 65_535);
    let mut said = BTreeMap::new();
    for (name, start, sources) in &starts {
        let mut found = Vec::new();
        for address in &all {
            let with = |family| {
                asked
                    .numbers(family)
                    .intersection(&service::all_with_ports())
            };
            let without = |family| asked.numbers(family).difference(&service::all_with_ports());
            let packets = PacketSet::fields(sources, &address.set, with, &clients, ());
            let packets = packets.union(&PacketSet::fields(
                sources,
                &address.set,
                without,
                &every,
                (),
            ));
            let question = Asked {
                start: start.clone(),
                packets,
                name: None,
                any_of: Vec::new(),
            };
            let answered = walk(view, &question, Tell::Steps);
            for part in &answered.parts {
                // What is not certain, but fails in any case, reaches nobody.
                let fails = part.judged.verdict == Verdict::Unknown && !part.judged.may_work;
                let verdict = if fails {
                    Verdict::Denied
                } else {
                    part.judged.verdict
                };
                let mut one = Said {
                    verdict,
                    ends: Vec::new(),
                    own: address.own,
                    door: address.door,
                    entrance: address.entrance,
                    firewalls: Vec::new(),
                };
                if verdict <= Verdict::Conditional {
                    for trail in answered.labels.trails_that_work(part.label) {
                        let mut firewalls = BTreeSet::new();
                        let mut end = None;
                        for step in answered
                            .labels
                            .steps(trail)
                            .into_iter()
                            .filter(|step| !step.reply)
                        {
                            match (step.at, &step.what) {
                                (Spot::Firewall(id), What::Policy { allows: true, .. }) => {
                                    firewalls.insert(estate.firewalls[id].name.to_string());
                                }
                                (at, What::Arrived) => end = Some(at),
                                _ => {}
                            }
                        }
                        one.firewalls.push(firewalls);
                        let end = match end {
                            Some(Spot::Interface(id)) => Some(end_name(estate, id)),
                            Some(Spot::Service(id)) => {
                                Some(format!("service {}", estate.services[id].name))
                            }
                            Some(Spot::Site(id)) => Some(format!("site {}", estate.sites[id].name)),
                            Some(Spot::Internet) => Some("internet".to_owned()),
                            // What a firewall answers itself is answered at the interface that holds the address.
                            Some(Spot::Firewall(_)) => address.behind.first().cloned(),
                            // Traffic of the platform itself has no end.
                            _ => None,
                        };
                        one.ends.extend(end);
                    }
                } else {
                    one.ends = behind(&wide, address, &part.packets);
                }
                one.ends.retain(|end| end != name);
                one.ends.sort_unstable();
                one.ends.dedup();
                found.push(one);
            }
        }
        said.insert(name.clone(), found);
    }
    Table {
        starts: starts.into_iter().map(|(name, _, _)| name).collect(),
        said,
    }
}

/// What the snapshot lacks, where it says at which addresses.
fn lacking(estate: &Estate) -> Vec<(String, Addresses)> {
    estate
        .gaps
        .iter()
        .filter_map(|gap| Some((gap.object.to_string(), gap.blocks.clone()?)))
        .collect()
}

fn behind(wide: &[(String, Addresses)], address: &Address, packets: &PacketSet) -> Vec<String> {
    if !address.behind.is_empty() || !address.own {
        return address.behind.clone();
    }
    let there = packets.destinations();
    wide.iter()
        .filter(|(_, set)| set.overlaps(&there))
        .map(|(name, _)| name.clone())
        .collect()
}

/// Machines: a workload, or an interface without one.
fn machine(estate: &Estate, name: &str) -> String {
    let workload = estate
        .interfaces
        .find(name)
        .and_then(|id| estate.interfaces[id].workload);
    workload.map_or_else(
        || name.to_owned(),
        |id| format!("w {}", estate.workloads[id].name),
    )
}

#[test]
fn reach_equals_chains_of_single_walks_and_dominators_are_those_without_which_nothing_is_reached() {
    let found: usize = (0..32)
        .map(|seed| try_reach(seed, Limits::default()).unwrap_or_else(|what| panic!("{what}")))
        .sum();
    assert!(found > 800, "{found}");
    for seed in 90..110 {
        try_reach(seed, Limits::default().together()).unwrap_or_else(|what| panic!("{what}"));
    }
}

/// A cell as the table of walks has it.
fn cell(table: &Table, from: &[&String], to: &[&String]) -> (CellVerdict, BTreeSet<String>, bool) {
    let (mut base, mut all) = (Vec::new(), Vec::new());
    let (mut firewalls, mut without) = (BTreeSet::new(), false);
    for start in from {
        for one in &table.said[*start] {
            if !one
                .ends
                .iter()
                .any(|end| end != *start && to.contains(&end))
            {
                continue;
            }
            // A door stands in a network, its service does not.
            if one.ends.iter().any(|end| end.starts_with("service ")) && !one.door {
                continue;
            }
            let counts = one.own || (*start == "internet" && one.verdict <= Verdict::Conditional);
            if counts {
                base.push(one.verdict);
            }
            if counts || one.verdict <= Verdict::Conditional {
                all.push(one.verdict);
            }
            if one.verdict <= Verdict::Conditional {
                without |= one.firewalls.iter().any(BTreeSet::is_empty);
                firewalls.extend(one.firewalls.iter().flatten().cloned());
            }
        }
    }
    let has = |verdict: Verdict| all.contains(&verdict);
    let verdict = if has(Verdict::Works) || has(Verdict::WorksForSome) {
        let whole = !base.is_empty() && base.iter().chain(&all).all(|one| *one == Verdict::Works);
        if whole && all.len() == base.len() {
            CellVerdict::Works
        } else {
            CellVerdict::Partly
        }
    } else if has(Verdict::Unknown) {
        CellVerdict::Unknown
    } else if has(Verdict::Conditional) {
        CellVerdict::Conditional
    } else {
        CellVerdict::No
    };
    (verdict, firewalls, without)
}

#[test]
fn cells_of_the_matrix_equal_single_walks_between_their_segments() {
    let mut seen: BTreeMap<String, usize> = BTreeMap::new();
    for seed in 1_000..1_032 {
        let mut random = Rng::with_seed(seed);
        let mut json = estate(&mut random);
        if random.bool() {
            with_likenesses(&mut random, &mut json);
        }
        let built = load(&json);
        let view = Fabric::new(&built, None);
        let asked: Service = ["tcp 443", "udp 53"][random.usize(0..2)].parse().unwrap();
        let table = table(&view, &asked);
        let answer = Matrix::new(&view, SegmentBy::Network, &[asked]).answer();
        let members = |segment: &str| -> Vec<&String> {
            let inside = |name: &&String| {
                let id = built.interfaces.find(name);
                id.is_some_and(|id| *built.networks[built.network_of(id)].name == *segment)
                    || **name == segment.replacen("site:", "site ", 1)
            };
            table.starts.iter().filter(inside).collect()
        };
        for one in &answer.cells {
            let (from, mut to) = (members(&one.from), members(&one.to));
            let service = "service svc".to_owned();
            if one.to == "a" {
                to.push(&service);
            }
            if one.verdict == CellVerdict::Nobody {
                assert!(one.from == one.to && from.len() < 2, "{one:?}");
                continue;
            }
            let (verdict, firewalls, without) = cell(&table, &from, &to);
            let through: BTreeSet<String> = one.firewalls.iter().cloned().collect();
            // What works by another address than an end's own makes a cell no more whole.
            let alike = verdict == one.verdict
                || (one.from == "internet"
                    && [verdict, one.verdict]
                        .iter()
                        .all(|v| *v <= CellVerdict::Partly || *v >= CellVerdict::Unknown));
            assert!(alike, "seed {seed}: {verdict:?}, not {one:?}");
            if one.verdict <= CellVerdict::Partly {
                assert_eq!(
                    (&through, one.without_firewall),
                    (&firewalls, without),
                    "seed {seed}: {one:?}"
                );
            }
            *seen.entry(format!("{:?}", one.verdict)).or_default() += 1;
        }
    }
    for verdict in ["Works", "Partly", "Unknown", "Conditional", "No"] {
        assert!(
            seen.get(verdict).is_some_and(|count| *count > 5),
            "{seen:?}"
        );
    }
}
