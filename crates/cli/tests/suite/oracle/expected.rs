//! Expectations of random estates against one walk for each pair of a start and an asked address; and whatever is said to speak
//! against one against the naive walker.

use super::agreement::load;
use super::naive::Packet;
use super::sweeps::{Said, table};
use super::topology::estate;
use super::walker::{From, V, Walker};
use super::walks::{engine_verdict, with_likenesses};
use fastrand::Rng;
use heronshale_audit::expect::{Against, State, standings};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::walk::{Start, Verdict};
use heronshale_model::estate::{Estate, Id, Interface, Name, Service};
use heronshale_model::source::Place;
use heronshale_model::stated::{Claim, Expectation, Stated};
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::packet::service;
use serde_json::Value;
use std::collections::BTreeMap;

fn expectation(claim: Claim, asked: &Service) -> Expectation {
    let place = Place {
        file: "e.yaml".to_owned(),
        line: 1,
        column: 1,
        pointer: String::new(),
    };
    Expectation {
        name: "e".into(),
        place,
        claim,
        services: vec![asked.clone()],
        reason: None,
        owner: None,
    }
}

/// Some places, each as an end is written and as the table knows it.
fn places(random: &mut Rng, built: &Estate, starts: &[String]) -> Vec<(Name, String)> {
    let count = 1 + random.usize(0..3);
    let one = |random: &mut Rng| {
        let name = &starts[random.usize(0..starts.len())];
        let end = match name.strip_prefix("site ") {
            Some(site) => format!("site:{site}"),
            None if built.interfaces.find(name).is_some() => format!("interface:{name}"),
            None => name.clone(),
        };
        (end.as_str().into(), name.clone())
    };
    (0..count).map(|_| one(random)).collect()
}

/// Places, and with them at times a service: by its name, a private door, or the address of its public door, which are one.
fn targets(random: &mut Rng, built: &Estate, starts: &[String]) -> Vec<(Name, String)> {
    let mut all = places(random, built, starts);
    if random.u8(0..4) == 0 {
        let end = ["service:svc", "interface:door", "203.0.113.80"][random.usize(0..3)];
        all.push((end.into(), "service svc".to_owned()));
    }
    all
}

fn names(places: &[(Name, String)]) -> Vec<Name> {
    places.iter().map(|(name, _)| name.clone()).collect()
}

/// The naive walker's verdict on a packet that is said to speak against an expectation.
fn naive(json: &Value, built: &Estate, against: &Against) -> V {
    let from = match &against.start {
        Start::Internet => From::Internet,
        Start::Site(id) => From::Site(built.sites[*id].name.to_string()),
        Start::Interfaces(all) => {
            // Of several that send alike it is the one with the address.
            let source = Addresses::single(against.packet.source_address());
            let sends = |id: &&Id<Interface>| built.interfaces[**id].addresses.overlaps(&source);
            let sender = all.iter().find(sends).unwrap_or(&all[0]);
            From::Interface(built.interfaces[*sender].name.to_string())
        }
    };
    let packet = &against.packet;
    let asked = Packet {
        source: packet.source_address(),
        destination: packet.destination_address(),
        protocol: packet.protocol(),
        low: service::port_of(packet.service),
        source_port: packet.source_port,
    };
    let clients = format!("{0}-{0}", packet.source_port);
    Walker::new(json).verdict(&from, asked, None, &clients)
}

fn through<'t>(
    said: &'t BTreeMap<String, Vec<Said>>,
    from: &[String],
    to: &'t [String],
) -> Vec<&'t Said>
where
{
    let all = from
        .iter()
        .flat_map(|name| said.get(name).into_iter().flatten());
    // A service is entered by the balancer behind its doors too.
    let enters = |one: &Said| {
        one.entrance && !one.ends.is_empty() && to.iter().any(|end| end == "service svc")
    };
    let meant = |one: &Said| one.ends.iter().any(|end| to.contains(end)) || enters(one);
    all.filter(|one| one.verdict <= Verdict::Unknown && meant(one))
        .collect()
}

/// What has to come out of a sentence that forbids, by the table.
fn forbidden(found: &[&Said]) -> State {
    if found.iter().any(|one| one.verdict <= Verdict::Conditional) {
        State::Broken
    } else if found.is_empty() {
        State::Kept
    } else {
        State::Unknown
    }
}

pub fn try_expectations(
    seed: u64,
    seen: &mut BTreeMap<(usize, State), usize>,
) -> Result<(), String> {
    let mut random = Rng::with_seed(seed);
    let mut json = estate(&mut random);
    if random.bool() {
        with_likenesses(&mut random, &mut json);
    }
    let built = load(&json);
    let view = Fabric::new(&built, None);
    let asked: Service = ["tcp 443", "udp 53", "tcp 80"][random.usize(0..3)]
        .parse()
        .unwrap();
    let table = table(&view, &asked);
    for _ in 0..6 {
        let (from, to) = (
            places(&mut random, &built, &table.starts),
            targets(&mut random, &built, &table.starts),
        );
        let inside: Vec<(Name, String)> = to
            .iter()
            .filter(|(_, name)| built.interfaces.find(name).is_some())
            .cloned()
            .collect();
        let plain =
            |all: &[(Name, String)]| all.iter().map(|(_, name)| name.clone()).collect::<Vec<_>>();
        let (sources, ends) = (plain(&from), plain(&to));
        let found = through(&table.said, &sources, &ends);
        let never = expectation(
            Claim::NeverReaches {
                from: names(&from),
                to: names(&to),
            },
            &asked,
        );
        let mut cases = vec![(0, vec![never], forbidden(&found))];
        if let Some(firewall) = built.firewalls.items().first() {
            let claim = Claim::AlwaysPasses {
                from: names(&from),
                to: names(&to),
                firewalls: vec![firewall.name.clone()],
            };
            let around = |one: &&&Said| {
                one.firewalls
                    .iter()
                    .any(|all| !all.contains(&*firewall.name))
            };
            let works: Vec<&&Said> = found
                .iter()
                .filter(|one| one.verdict <= Verdict::Conditional)
                .collect();
            let wanted = if works.iter().any(around) {
                State::Broken
            } else if works.len() < found.len() {
                State::Unknown
            } else if works.is_empty() {
                State::Vacuous
            } else {
                State::Kept
            };
            cases.push((1, vec![expectation(claim, &asked)], wanted));
        }
        if !inside.is_empty() {
            // Nothing else reaches: what one sentence allows is left out.
            let allowed = expectation(
                Claim::MayReach {
                    from: names(&from),
                    to: names(&inside),
                },
                &asked,
            );
            let closed = expectation(Claim::NothingElseReaches { to: names(&inside) }, &asked);
            let others: Vec<String> = table
                .starts
                .iter()
                .filter(|name| !sources.contains(*name))
                .cloned()
                .collect();
            let inside = plain(&inside);
            let found = through(&table.said, &others, &inside);
            cases.push((
                2,
                vec![
                    Expectation {
                        name: "other".into(),
                        ..closed
                    },
                    allowed,
                ],
                forbidden(&found),
            ));
        }
        for (kind, expectations, wanted) in cases {
            let said = heronshale_audit::expect::sentence(&expectations[0]);
            let view = Fabric::stating(
                &built,
                None,
                Stated {
                    expectations,
                    ..Stated::default()
                },
            );
            let standings = standings(&view);
            for standing in &standings {
                let Some(against) = &standing.against else {
                    continue;
                };
                let verdict = naive(&json, &built, against);
                // One packet from one port: for that packet the engine tells what the naive walker finds.
                if verdict != engine_verdict(against.verdict) {
                    return Err(format!("seed {seed}: {said}: {against:?} is {verdict:?}"));
                }
            }
            *seen.entry((kind, standings[0].state)).or_default() += 1;
            if standings[0].state != wanted {
                return Err(format!(
                    "seed {seed}: {said}: {:?}, not {wanted:?}: {}",
                    standings[0].state, standings[0].why
                ));
            }
            if kind == 2 {
                let state = standings[1].state;
                *seen.entry((3, state)).or_default() += 1;
                if let Some(why) = may_is_wrong(&json, &built, &from, &inside, &asked, state) {
                    return Err(format!(
                        "seed {seed}: {from:?} may reach {inside:?} {asked:?}: {why}"
                    ));
                }
            }
        }
    }
    Ok(())
}

/// Whether `may reach` between interfaces is told otherwise than packet by packet between their first addresses.
fn may_is_wrong(
    json: &Value,
    built: &Estate,
    from: &[(Name, String)],
    to: &[(Name, String)],
    asked: &Service,
    state: State,
) -> Option<String> {
    let walker = Walker::new(json);
    let mut verdicts = Vec::new();
    for (_, source) in from {
        let source = built.interfaces.find(source)?;
        for (_, target) in to {
            let target = built.interfaces.find(target)?;
            for family in Family::BOTH {
                let (Some(a), Some(b)) = (
                    built.interfaces[source].primary(family),
                    built.interfaces[target].primary(family),
                ) else {
                    continue;
                };
                if source == target {
                    continue;
                }
                let number = u32::try_from(asked.numbers(family).spans()[0].0).unwrap();
                let packet = Packet {
                    source: a,
                    destination: b,
                    protocol: u8::try_from(number >> 16).unwrap(),
                    low: service::port_of(number),
                    source_port: 3000,
                };
                let from = From::Interface(built.interfaces[source].name.to_string());
                // What fails in any case does not reach, whatever the snapshot lacks.
                let fails = !walker.may_work(&from, packet, None, "3000-3001");
                let verdict = walker.verdict(&from, packet, None, "3000-3001");
                verdicts.push(if fails { V::Lost } else { verdict });
            }
        }
    }
    let wanted = if verdicts
        .iter()
        .any(|verdict| !matches!(verdict, V::Works | V::Unknown))
    {
        State::Broken
    } else if verdicts.contains(&V::Unknown) {
        State::Unknown
    } else if verdicts.is_empty() {
        State::Vacuous
    } else {
        State::Kept
    };
    (state != wanted).then(|| format!("{state:?}, not {wanted:?}: {verdicts:?}"))
}

#[test]
fn expectations_stand_as_walks_one_by_one_say() {
    let mut seen = BTreeMap::new();
    for seed in 0..160 {
        try_expectations(seed, &mut seen).unwrap_or_else(|what| panic!("{what}"));
    }
    for kind in 0..4 {
        for state in [State::Broken, State::Unknown, State::Kept] {
            assert!(
                seen.get(&(kind, state)).is_some_and(|count| *count >= 4),
                "{kind} {state:?}: {seen:?}"
            );
        }
    }
}
