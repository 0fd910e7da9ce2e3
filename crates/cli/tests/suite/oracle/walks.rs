//! The walk of thousands of random estates against the naive walker: request and reply, by verdict.

use super::agreement::{load, to_engine};
use super::topology::{estate, question};
use super::walker::{From, V, Walker};
use fastrand::Rng;
use heronshale_engine::fabric::Fabric;
use heronshale_engine::walk::{Answered, Asked, Label, Labels, Start, Tell, Tree, Verdict, walk};
use heronshale_model::estate::{Id, Interface};
use heronshale_model::limits::Limits;
use heronshale_sets::address::Addresses;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, service};
use std::collections::BTreeMap;

pub fn engine_verdict(verdict: Verdict) -> V {
    match verdict {
        Verdict::Works => V::Works,
        Verdict::WorksForSome => V::Some,
        Verdict::Conditional => V::Conditional,
        Verdict::Undecided => panic!("an estate of the oracle was given up"),
        Verdict::Unknown => V::Unknown,
        Verdict::Denied => V::Denied,
        Verdict::Lost => V::Lost,
        Verdict::ReplyDenied => V::ReplyDenied,
        Verdict::ReplyLost => V::ReplyLost,
    }
}

/// Asks about some packets of a random estate; the first disagreement.
pub fn try_walks(seed: u64, packets: usize, seen: &mut BTreeMap<V, usize>) -> Result<(), String> {
    let mut random = Rng::with_seed(seed);
    let json = estate(&mut random);
    let built = load(&json);
    let view = Fabric::new(&built, None);
    let naive = Walker::new(&json);
    for _ in 0..packets {
        let (from, asked, name) = question(&mut random);
        let start = match &from {
            From::Internet => Start::Internet,
            From::Site(site) => Start::Site(built.sites.find(site).unwrap()),
            From::Interface(id) => Start::Interfaces(vec![built.interfaces.find(id).unwrap()]),
        };
        let ported = matches!(asked.protocol, 6 | 17 | 132);
        let packets = (3000..=3001).map(|source_port| {
            PacketSet::single(&to_engine(&super::naive::Packet {
                source_port: if ported { source_port } else { 0 },
                ..asked
            }))
        });
        let question = Asked {
            start,
            packets: PacketSet::union_all(packets),
            name: name.map(Into::into),
            any_of: Vec::new(),
        };
        let answered = walk(&view, &question, Tell::Deciders);
        let wanted = naive.verdict(&from, asked, name, "3000-3001");
        *seen.entry(wanted).or_default() += 1;
        let found = engine_verdict(answered.summary.verdict);
        if found != wanted {
            let detail = walk(&view, &question, Tell::Steps);
            let facts = |trail| {
                let steps = detail.labels.steps(trail);
                steps
                    .into_iter()
                    .map(|step| format!("{:?}", heronshale_audit::facts::step_fact(&view, step)))
                    .collect::<Vec<_>>()
            };
            let steps = facts(detail.summary.trail).join("\n  ");
            let tree = answered
                .parts
                .iter()
                .map(|part| drawn(&answered.labels, part.label))
                .collect::<Vec<_>>()
                .join("; ");
            let fails = detail
                .summary
                .some
                .as_ref()
                .map_or_else(Vec::new, |(_, trail)| facts(*trail))
                .join("\n  ");
            return Err(format!(
                "seed {seed}, {from:?} {asked:?} {name:?}: {found:?}, not {wanted:?}\n  {tree}\n  {steps}\nfails\n  {fails}"
            ));
        }
    }
    Ok(())
}

/// A label as text.
pub fn drawn(labels: &Labels, label: Label) -> String {
    match labels.tree(label) {
        Tree::Leaf(leaf) => format!("{:?}", leaf.verdict),
        Tree::Choice(all) => {
            format!(
                "[{}]",
                all.iter()
                    .map(|(_, one)| drawn(labels, *one))
                    .collect::<Vec<_>>()
                    .join(" | ")
            )
        }
        Tree::Turns {
            condition,
            holds,
            otherwise,
        } => {
            format!(
                "({condition:?} ? {} : {})",
                drawn(labels, *holds),
                drawn(labels, *otherwise)
            )
        }
        Tree::Doubt { doubt, yes, no, .. } => {
            format!(
                "<{:?}: {} or {}>",
                labels.doubt_at(*doubt),
                drawn(labels, *yes),
                drawn(labels, *no)
            )
        }
    }
}

#[test]
fn walks_there_and_back_equal_a_naive_walk_packet_by_packet() {
    let mut seen = BTreeMap::new();
    for seed in 0..1_500 {
        try_walks(seed, 24, &mut seen).unwrap_or_else(|what| panic!("{what}"));
    }
    let total: usize = seen.values().sum();
    for verdict in [
        V::Works,
        V::Some,
        V::Conditional,
        V::Unknown,
        V::Denied,
        V::Lost,
        V::ReplyDenied,
        V::ReplyLost,
    ] {
        let count = seen.get(&verdict).copied().unwrap_or(0);
        assert!(
            count * 20 >= total,
            "{verdict:?}: {count} of {total}: {seen:?}"
        );
    }
}

/// More interfaces beside those that are there, most of them like another.
pub fn with_likenesses(random: &mut Rng, json: &mut serde_json::Value) {
    let subnets = [
        ("a1", "10.1.1"),
        ("a2", "10.1.2"),
        ("b1", "10.2.1"),
        ("b2", "10.2.2"),
        ("e2", "10.4.2"),
        ("q1", "10.3.1"),
        ("q2", "10.3.2"),
    ];
    for at in 0..random.usize(10..24) {
        let (subnet, prefix) = subnets[random.usize(0..subnets.len())];
        let groups: &[&str] = [&["g1"][..], &["g1"], &["g1"], &[]][random.usize(0..4)];
        let interface = serde_json::json!({
            "id": format!("like{at}"), "subnet": subnet, "addresses": [format!("{prefix}.{}", 100 + at)], "groups": groups,
        });
        let all = json["interfaces"].as_array_mut().unwrap();
        all.push(interface);
        if random.u8(0..3) == 0 {
            all.last_mut().unwrap()["tags"] = serde_json::json!({ "role": "web" });
        }
    }
    // A group that lets in some of those that are like each other otherwise.
    if let Some(group) = json["security_groups"]
        .as_array_mut()
        .unwrap()
        .iter_mut()
        .find(|group| group["id"] == "g1")
        && random.bool()
    {
        let peer = [
            "tag:role=web",
            "10.1.1.100-10.1.1.108",
            "10.1.2.104/30",
            "group:g1",
        ][random.usize(0..4)];
        group["inbound"] = serde_json::json!([{ "id": "few", "peers": [peer] }]);
    }
    // Subnets that differ in nothing but what stands in them.
    for (one, other) in [(0, 1), (2, 3), (4, 5)] {
        for field in [
            "acl",
            "route_table",
            "groups",
            "internet_traffic",
            "default_outbound",
        ] {
            if field == "acl" && random.bool() {
                json["subnets"][one][field] = "n0".into();
            }
            let value = json["subnets"][one].get(field).cloned();
            let subnet = json["subnets"][other].as_object_mut().unwrap();
            match value {
                Some(value) => drop(subnet.insert(field.to_owned(), value)),
                None => drop(subnet.remove(field)),
            }
        }
    }
}

/// Asks about two networks as a whole, and interface by interface; how many verdicts there were, or where they differ.
pub fn try_many(
    seed: u64,
    run: impl FnOnce(&dyn Fn() -> Answered) -> Answered,
) -> Result<usize, String> {
    let mut random = Rng::with_seed(seed);
    let mut json = estate(&mut random);
    if random.u8(0..4) > 0 {
        with_likenesses(&mut random, &mut json);
    }
    let built = load(&json);
    let view = Fabric::new(&built, None);
    let of = |network: &str| {
        let id = built.networks.find(network).unwrap();
        built
            .interfaces
            .ids()
            .filter(|one| built.network_of(*one) == id)
            .collect::<Vec<_>>()
    };
    let pairs = [("a", "b"), ("b", "a"), ("a", "a"), ("q", "b"), ("a", "e")];
    let (from, to) = pairs[random.usize(0..pairs.len())];
    let own = |all: &[Id<Interface>]| {
        all.iter()
            .flat_map(|id| built.interfaces[*id].addresses.ranges())
            .collect::<Addresses>()
    };
    let (from, to) = (of(from), of(to));
    let every = Intervals::span(3000, 3001);
    let ported = |_| service::all_with_ports();
    let packets = PacketSet::fields(&own(&from), &own(&to), ported, &every, ());
    let question = Asked {
        start: Start::Interfaces(from.clone()),
        packets,
        name: None,
        any_of: Vec::new(),
    };
    let by_verdict = |answered: &Answered| {
        let mut all: BTreeMap<V, PacketSet> = BTreeMap::new();
        for part in &answered.parts {
            let sum = all.entry(engine_verdict(part.judged.verdict)).or_default();
            *sum = sum.union(&part.packets);
        }
        all
    };
    let each = walk(&view, &question, Tell::Deciders);
    let together = Fabric::within(&built, Limits::default().together());
    let many = run(&|| walk(&together, &question, Tell::Verdicts));
    let (each_says, many_say) = (by_verdict(&each), by_verdict(&many));
    for (verdict, packets) in &each_says {
        let other = many_say.get(verdict).cloned().unwrap_or_default();
        if let Some(odd) = packets
            .difference(&other)
            .witness()
            .or_else(|| other.difference(packets).witness())
        {
            let labels = [&each, &many].map(|answered| {
                let part = answered
                    .parts
                    .iter()
                    .find(|part| part.packets.contains(&odd));
                part.map_or_else(String::new, |part| drawn(&answered.labels, part.label))
            });
            return Err(format!(
                "seed {seed}: {verdict:?} differs at {odd:?}: {labels:?}"
            ));
        }
    }
    for id in from {
        let mine = PacketSet::fields(&own(&[id]), &own(&to), ported, &every, ())
            .intersection(&question.packets);
        let alone = Asked {
            start: Start::Interfaces(vec![id]),
            packets: mine.clone(),
            ..question.clone()
        };
        let alone = by_verdict(&walk(&view, &alone, Tell::Deciders));
        for (verdict, packets) in &alone {
            let together = each_says
                .get(verdict)
                .map(|all| all.intersection(&mine))
                .unwrap_or_default();
            if together != *packets {
                return Err(format!(
                    "seed {seed}: {verdict:?} of {} alone differs",
                    built.interfaces[id].name
                ));
            }
        }
    }
    if each_says.len() == many_say.len() {
        Ok(each_says.len())
    } else {
        Err(format!("seed {seed}"))
    }
}

#[test]
fn many_interfaces_together_fare_as_each_alone() {
    let parts: usize = (0..600)
        .map(|seed| try_many(seed, |ask| ask()).unwrap_or_else(|what| panic!("{what}")))
        .sum();
    assert!(parts > 1_500, "{parts}");
}
