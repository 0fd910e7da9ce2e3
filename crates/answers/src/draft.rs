//! The present exposure as expectations to confirm or to strike out.

use heronshale_audit::expect::{Judging, said};
use heronshale_audit::exposure::{Verdict, device_ways, direct_ways};
use heronshale_audit::facts::device_way_fact;
use heronshale_audit::finding::pinned_facts;
use heronshale_engine::fabric::Fabric;
use heronshale_engine::walk;
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, entries, service};

/// A sentence that could be expected.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Drafted {
    /// A name for it.
    pub name: String,
    /// Who connects.
    pub from: Vec<String>,
    /// The addresses that are asked.
    pub to: Vec<String>,
    /// Which services.
    pub on: Vec<String>,
    /// Why it cannot be said: it does not work for certain.
    pub not_said: Option<String>,
}

/// Packets to some address as who sends and which services: what the whole internet may send first, then the rest, address sets by
/// their names.
fn told(view: &Fabric<'_>, packets: &PacketSet) -> Vec<(Vec<String>, Vec<String>)> {
    let mut found = Vec::new();
    for family in Family::BOTH {
        let of_family = Addresses::of_family(family);
        let here = packets.between(Some(&of_family), None);
        let internet = view.internet_end().intersection(&of_family);
        let all = said(&internet, &here.destinations(), &[]);
        let from_all = here
            .services()
            .difference(&all.difference(&here).services());
        let every = Intervals::span(0, u128::from(u16::MAX));
        let mut rest = here.clone();
        if !from_all.is_empty() {
            found.push((
                vec!["internet".to_owned()],
                service::notation(family, &from_all),
            ));
            rest = rest.difference(&PacketSet::fields(
                &internet,
                &of_family,
                |_| from_all.clone(),
                &every,
                (),
            ));
        }
        for entry in entries(&rest) {
            let sources = Addresses::from_intervals(family, entry.sources.clone());
            let mut sets = view.estate.address_sets.iter();
            let set = sets
                .find(|(id, _)| view.set(*id).matched.either().intersection(&of_family) == sources);
            let from = set.map_or_else(
                || sources.texts(),
                |(_, set)| vec![format!("set:{}", set.name)],
            );
            found.push((from, service::notation(family, &entry.services)));
        }
    }
    found
}

/// What the internet reaches today and of which no expectation speaks, as sentences.
pub fn drafted(view: &Fabric<'_>) -> Vec<Drafted> {
    let judging = Judging::new(view);
    let mut all = Vec::new();
    let mut say = |name: &str, address: &[String], works: &PacketSet, perhaps: &PacketSet| {
        let sentence = |from: Vec<String>, on: Vec<String>, not_said: Option<&str>| Drafted {
            name: format!(
                "internet to {name} at {}, {}",
                address.join(", "),
                on.join(", ")
            ),
            from,
            to: address.to_vec(),
            on,
            not_said: not_said.map(str::to_owned),
        };
        for (from, on) in told(view, &works.any_source_port()) {
            all.push(sentence(from, on, None));
        }
        for fact in pinned_facts(
            view,
            &perhaps
                .any_source_port()
                .difference(&works.any_source_port()),
        ) {
            let why =
                "it works partly or under a condition, and an expectation must hold in every case";
            all.push(sentence(fact.from, fact.on, Some(why)));
        }
    };
    for way in direct_ways(view) {
        let unjudged = if judging.is_silent() {
            way.open()
        } else {
            judging.direct(&way).unjudged
        };
        let of = |certain: bool| {
            let parts = way.parts.iter().filter(|part| {
                part.verdict.is_open() && (part.verdict == Verdict::Works) == certain
            });
            PacketSet::union_all(parts.map(|part| part.packets.intersection(&unjudged)))
        };
        let estate = view.estate;
        let interface = &estate.interfaces[way.interface];
        let address = way.public.map_or_else(
            || way.own.to_string(),
            |id| estate.public_addresses[id].address.to_string(),
        );
        let name = interface
            .workload
            .map_or(&interface.name, |id| &estate.workloads[id].name);
        say(name, &[address], &of(true), &of(false));
    }
    for way in device_ways(view) {
        let spoken = judging.by_device(&way);
        let unjudged = if judging.is_silent() {
            way.open()
        } else {
            spoken.unjudged.clone()
        };
        let of = |certain: bool| {
            let works = |part: &&heronshale_audit::exposure::WalkedPart| {
                part.is_open() && (part.judged.verdict == walk::Verdict::Works) == certain
            };
            PacketSet::union_all(
                way.parts
                    .iter()
                    .filter(works)
                    .map(|part| part.packets.intersection(&unjudged)),
            )
        };
        let fact = device_way_fact(view, &way, &spoken);
        say(
            &format!("{} {}", fact.kind.word(), fact.name),
            &fact.addresses,
            &of(true),
            &of(false),
        );
    }
    all
}
