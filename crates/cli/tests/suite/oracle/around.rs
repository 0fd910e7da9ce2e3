//! What gets around firewalls, and what comes back elsewhere, on random estates: each finding's packet does what it says, walked alone; and
//! whatever single walks find is in a finding.

use super::agreement::load;
use super::topology::estate;
use fastrand::Rng;
use heronshale_audit::finding::{Finding, findings};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::walk::{Asked, Spot, Start, Tell, Verdict, What, Why, walk};
use heronshale_model::estate::{Estate, Id, Interface};
use heronshale_model::limits::Limits;
use heronshale_sets::address::Addresses;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{Packet, PacketSet, service};
use serde_json::{Value, json};
use std::collections::BTreeSet;
use std::net::{IpAddr, SocketAddr};

/// `tcp 10.1.1.4:3000 → 10.2.1.4:443`, or without ports; a translated destination behind it is left out.
fn packet_of(text: &str) -> Option<(IpAddr, IpAddr, String)> {
    let (front, to) = text.split_once(" → ")?;
    let to = to.split(" → ").next()?;
    let mut words: Vec<&str> = front.split(' ').collect();
    let from = words.pop()?;
    let bare = |end: &str| {
        end.parse::<SocketAddr>()
            .map(|socket| socket.ip())
            .or_else(|_| end.parse())
            .ok()
    };
    let port = to.parse::<SocketAddr>().ok().map(|socket| socket.port());
    let service = port.map_or_else(|| words.join(" "), |port| format!("{} {port}", words[0]));
    Some((bare(from)?, bare(to)?, service))
}

/// Everything that a source sends to a destination, from its client ports.
fn sent(from: &Addresses, to: &Addresses, numbers: &Intervals) -> PacketSet {
    let ported = numbers.intersection(&service::all_with_ports());
    let others = numbers.difference(&service::all_with_ports());
    let every = Intervals::span(0, 65_535);
    let with = PacketSet::fields(
        from,
        to,
        |_| ported.clone(),
        &Intervals::span(3000, 3001),
        (),
    );
    with.union(&PacketSet::fields(from, to, |_| others.clone(), &every, ()))
}

fn start_of(view: &Fabric<'_>, source: IpAddr) -> Start {
    let estate = view.estate;
    let holder = estate
        .interfaces
        .iter()
        .find(|(_, item)| item.addresses.contains(source))
        .map(|(id, _)| id);
    let site = || {
        estate
            .sites
            .iter()
            .find(|(_, site)| site.holds.contains(source))
            .map(|(id, _)| id)
    };
    match holder {
        Some(id) => Start::Interfaces(vec![id]),
        None => site().map_or(Start::Internet, Start::Site),
    }
}

/// The end of each walk of a finding's packet: the verdict, whether a firewall was passed, and why it ended.
fn walked(view: &Fabric<'_>, finding: &Finding) -> Vec<(Verdict, bool, Option<Why>)> {
    let text = &finding.witness.as_ref().expect("it has a packet").text;
    let (source, destination, service) = packet_of(text).unwrap_or_else(|| panic!("{text}"));
    let asked: heronshale_model::estate::Service = service
        .parse()
        .unwrap_or_else(|_| panic!("{service} of {text}"));
    let family = heronshale_sets::address::Family::of(source);
    let packets = sent(
        &Addresses::single(source),
        &Addresses::single(destination),
        &asked.numbers(family),
    );
    let question = Asked {
        start: start_of(view, source),
        packets,
        name: None,
        any_of: Vec::new(),
    };
    let answered = walk(view, &question, Tell::Steps);
    let mut ends = Vec::new();
    for part in &answered.parts {
        let works = answered.labels.trails_that_work(part.label);
        let trails = if works.is_empty() {
            vec![part.judged.trail]
        } else {
            works
        };
        for trail in trails {
            let steps = answered.labels.steps(trail);
            let passed =
                |what: &What| matches!(what, What::Policy { allows: true, .. } | What::Passed);
            let through = steps
                .iter()
                .any(|step| matches!(step.at, Spot::Firewall(_)) && passed(&step.what));
            let why = match steps.last().map(|step| &step.what) {
                Some(What::Ended(why)) => Some(*why),
                _ => None,
            };
            ends.push((part.judged.verdict, through, why));
        }
    }
    ends
}

fn is_end(estate: &Estate, id: Id<Interface>) -> bool {
    let device = estate
        .firewalls
        .items()
        .iter()
        .any(|firewall| firewall.legs.iter().any(|leg| leg.interface == id))
        || estate
            .balancers
            .items()
            .iter()
            .any(|balancer| balancer.interfaces.contains(&id))
        || estate
            .services
            .items()
            .iter()
            .any(|service| service.private_doors.contains(&id));
    !device && !estate.interfaces[id].forwards
}

/// The networks between which some reply misses what saw its request, or comes to what saw none; from single walks.
fn elsewhere(view: &Fabric<'_>) -> BTreeSet<(String, String)> {
    let estate = view.estate;
    let web = heronshale_sets::packet::service::code(6, 443);
    let web = Intervals::span(u128::from(web), u128::from(web));
    let name = |id: Id<Interface>| estate.networks[estate.network_of(id)].name.to_string();
    let mut found = BTreeSet::new();
    for (from, item) in estate
        .interfaces
        .iter()
        .filter(|(id, _)| is_end(estate, *id))
    {
        for (to, other) in estate
            .interfaces
            .iter()
            .filter(|(id, _)| is_end(estate, *id) && *id != from)
        {
            let packets = sent(&item.addresses, &other.addresses, &web);
            let question = Asked {
                start: Start::Interfaces(vec![from]),
                packets,
                name: None,
                any_of: Vec::new(),
            };
            let answered = walk(view, &question, Tell::Deciders);
            for part in answered
                .parts
                .iter()
                .filter(|part| part.judged.verdict == Verdict::ReplyLost)
            {
                let last = answered
                    .labels
                    .steps(part.judged.trail)
                    .last()
                    .map(|step| step.what.clone());
                if matches!(last, Some(What::Ended(Why::Bypassed | Why::SawNoRequest))) {
                    found.insert((name(from), name(to)));
                }
            }
        }
    }
    found
}

#[test]
fn what_gets_around_and_what_comes_back_elsewhere_is_proven_by_its_packet_and_complete() {
    let (mut around, mut elsewhere_told, mut pairs) = (0, 0, 0);
    for seed in 0..260 {
        let json = estate(&mut Rng::with_seed(seed));
        let built = load(&json);
        let view = Fabric::new(&built, None);
        let all = findings(&view);
        for finding in all
            .iter()
            .filter(|one| one.kind == "around-the-firewall" && one.witness.is_some())
        {
            let ends = walked(&view, finding);
            let free = ends
                .iter()
                .any(|(verdict, through, _)| *verdict <= Verdict::Conditional && !through);
            assert!(free, "seed {seed}: {ends:?} {finding:#?}");
            around += 1;
        }
        let told: Vec<&Finding> = all
            .iter()
            .filter(|one| one.kind == "reply-elsewhere")
            .collect();
        for finding in &told {
            let ends = walked(&view, finding);
            let proves = |end: &(Verdict, bool, Option<Why>)| {
                end.0 == Verdict::ReplyLost
                    && matches!(end.2, Some(Why::Bypassed | Why::SawNoRequest))
            };
            assert!(
                ends.iter().any(proves),
                "seed {seed}: {ends:?} {finding:#?}"
            );
            elsewhere_told += 1;
        }
        for (from, to) in elsewhere(&view) {
            let mut wanted = vec![from.clone(), to.clone()];
            wanted.sort();
            wanted.dedup();
            let says = |finding: &&&Finding| {
                finding.networks == wanted && finding.title.contains(&format!("network {to}"))
            };
            assert!(
                told.iter().any(|finding| says(&finding)),
                "seed {seed}: from {from} to {to} is in no finding"
            );
            pairs += 1;
        }
    }
    assert!(
        around > 60 && elsewhere_told > 40 && pairs > 40,
        "{around} {elsewhere_told} {pairs}"
    );
}

/// Three networks at a hub with a firewall in it: whose private traffic is steered through that, and between which replies go
/// elsewhere then.
#[test]
fn replies_miss_the_firewall_between_those_who_are_steered_and_those_who_are_not() {
    let names = ["quay", "yard", "mole"];
    let network = |(at, name): (usize, &&str)| {
        let block = |at: usize| format!("10.{at}.0.0/16");
        (
            json!({ "id": name, "blocks": block(at), "main_table": format!("to-{name}") }),
            json!({ "id": format!("to-{name}"), "network": name, "routes": [{ "to": "10.0.0.0/8", "next_hop": "hub:ring" }] }),
            json!({ "id": format!("s-{name}"), "network": name, "blocks": format!("10.{at}.1.0/24") }),
            json!({ "id": format!("i-{name}"), "subnet": format!("s-{name}"), "addresses": format!("10.{at}.1.5") }),
        )
    };
    let (mut networks, mut tables, mut subnets, mut cards) =
        (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for (network, table, subnet, card) in names.iter().enumerate().map(network) {
        networks.push(network);
        tables.push(table);
        subnets.push(subnet);
        cards.push(card);
    }
    // Who is steered, and between which pairs replies go elsewhere.
    let cases: [(&[&str], &[&str]); 4] = [
        (&[], &[]),
        (
            &["quay"],
            &["mole quay", "quay mole", "quay yard", "yard quay"],
        ),
        (
            &["quay", "yard"],
            &["mole quay", "mole yard", "quay mole", "yard mole"],
        ),
        (&["quay", "yard", "mole"], &[]),
    ];
    for (steered, expected) in cases {
        let link = |name: &&str| {
            let mut link = json!({ "id": name, "to": format!("network:{name}"), "reads": "all", "announces_into": "all" });
            if steered.contains(name) {
                link["steer_private"] = "gate".into();
            }
            link
        };
        let mut links: Vec<Value> = names.iter().map(link).collect();
        links.push(json!({ "id": "gate", "to": "firewall:gate", "reads": "all" }));
        let built = load(&json!({
            "format": "heronshale-snapshot", "version": 1, "networks": networks, "route_tables": tables, "subnets": subnets, "interfaces": cards,
            "firewalls": [{ "id": "gate", "hub": "ring", "addresses": "10.90.0.1", "policy": "open" }],
            "firewall_policies": [{ "id": "open", "rules": [{ "id": "all", "action": "allow" }] }],
            "hubs": [{ "id": "ring", "domains": [{ "id": "all" }], "links": links }],
        }));
        for shortcuts in [true, false] {
            let told: BTreeSet<String> =
                replies_of(&built, shortcuts).iter().map(ends_of).collect();
            assert_eq!(
                told.iter().map(String::as_str).collect::<Vec<_>>(),
                expected,
                "{steered:?} {shortcuts}"
            );
        }
    }
}

/// Two networks with global IPv6, one of which answers by the gateway of a third.
pub fn by_the_gateway_of_another_network() -> Value {
    let network = |name: &str, at: u32, hop: &str| json!({ "id": name, "blocks": [format!("2001:db8:{at}::/48")], "main_table": format!("to-{hop}") });
    let table = |network: &str, hop: &str| {
        let name = hop.split_once(':').map_or(hop, |(_, name)| name);
        json!({ "id": format!("to-{name}"), "network": network, "routes": [{ "to": "::/0", "next_hop": hop }] })
    };
    let gateway =
        |name: &str| json!({ "id": format!("w-{name}"), "kind": "internet", "network": name });
    let subnet = |name: &str, at: u32| json!({ "id": format!("s-{name}"), "network": name, "blocks": format!("2001:db8:{at}:1::/64") });
    let card = |name: &str, at: u32| json!({ "id": format!("i-{name}"), "subnet": format!("s-{name}"), "addresses": format!("2001:db8:{at}:1::5") });
    let link = |name: &str| json!({ "id": name, "to": format!("network:{name}"), "reads": "all" });
    let json = json!({
        "format": "heronshale-snapshot", "version": 1,
        "networks": [network("quay", 1, "w-quay"), network("yard", 2, "ring"), network("mole", 3, "w-mole")],
        "route_tables": [table("quay", "gateway:w-quay"), table("yard", "hub:ring"), table("mole", "gateway:w-mole")],
        "gateways": [gateway("quay"), gateway("yard"), gateway("mole")],
        "subnets": [subnet("quay", 1), subnet("yard", 2)], "interfaces": [card("quay", 1), card("yard", 2)],
        "hubs": [{ "id": "ring", "domains": [{ "id": "all", "routes": [{ "to": "::/0", "next_hop": "link:mole" }] }],
            "links": [link("yard"), link("mole")] }],
    });
    json
}

#[test]
fn replies_by_the_gateway_of_another_network_are_found() {
    let built = load(&by_the_gateway_of_another_network());
    let told = replies_of(&built, true);
    assert!(!told.is_empty() && told == replies_of(&built, false));
}

/// Three networks on the internet, each with a NAT gateway beside its internet gateway, and a public address for its one machine. Who
/// answers by the NAT gateway, and between which ends replies come to what saw no request then.
pub fn by_a_translator(check: impl Fn(&Estate, &[&str])) {
    let names = ["quay", "yard", "mole"];
    // Who leads its machine's packets to the NAT gateway, and for whom that is wrong.
    let cases: [(&[&str], &[&str]); 4] = [
        (&[], &[]),
        (&["yard"], &["internet yard", "mole yard", "quay yard"]),
        (
            &["quay", "mole"],
            &[
                "internet mole",
                "internet quay",
                "mole quay",
                "quay mole",
                "yard mole",
                "yard quay",
            ],
        ),
        (
            &["quay", "yard", "mole"],
            &[
                "internet mole",
                "internet quay",
                "internet yard",
                "mole quay",
                "mole yard",
                "quay mole",
                "quay yard",
                "yard mole",
                "yard quay",
            ],
        ),
    ];
    for (translated, expected) in cases {
        let mut estate = json!({ "format": "heronshale-snapshot", "version": 1 });
        let mut add = |section: &str, item: Value| match estate[section].as_array_mut() {
            Some(all) => all.push(item),
            None => estate[section] = json!([item]),
        };
        for (at, name) in names.iter().enumerate() {
            let by = if translated.contains(name) {
                "nat"
            } else {
                "out"
            };
            let table = |kind: &str, hop: &str| {
                json!({ "id": format!("{kind}-{name}"), "network": name,
                    "routes": [{ "to": "0.0.0.0/0", "next_hop": format!("gateway:{hop}-{name}") }] })
            };
            let subnet = |kind: &str, third: u8, by: &str| {
                json!({ "id": format!("{kind}-{name}"), "network": name, "blocks": format!("10.{at}.{third}.0/24"),
                    "route_table": format!("{by}-{name}") })
            };
            add(
                "networks",
                json!({ "id": name, "blocks": format!("10.{at}.0.0/16") }),
            );
            add("route_tables", table("out", "way"));
            add("route_tables", table("nat", "nat"));
            add("subnets", subnet("inner", 1, by));
            add("subnets", subnet("edge", 9, "out"));
            add(
                "gateways",
                json!({ "id": format!("way-{name}"), "kind": "internet", "network": name }),
            );
            add(
                "gateways",
                json!({ "id": format!("nat-{name}"), "kind": "nat", "network": name, "subnet": format!("edge-{name}"),
                    "address": format!("10.{at}.9.9"), "public": format!("203.0.113.{}", 20 + at) }),
            );
            let card = format!("i-{name}");
            add(
                "interfaces",
                json!({ "id": card, "subnet": format!("inner-{name}"), "addresses": format!("10.{at}.1.5") }),
            );
            add(
                "public_addresses",
                json!({ "address": format!("203.0.113.{}", 10 + at), "interface": card }),
            );
        }
        check(&load(&estate), expected);
    }
}

#[test]
fn replies_by_a_translator_are_found_from_the_internet_and_from_every_network() {
    by_a_translator(|built, expected| {
        for shortcuts in [true, false] {
            assert_eq!(
                replies_of(built, shortcuts)
                    .iter()
                    .map(ends_of)
                    .collect::<BTreeSet<_>>(),
                names_of(expected)
            );
        }
    });
}

/// Pairs of ends as a set.
pub fn names_of(expected: &[&str]) -> BTreeSet<String> {
    expected.iter().map(|pair| (*pair).to_owned()).collect()
}

/// The findings about replies.
pub fn replies_of(built: &Estate, shortcuts: bool) -> Vec<Finding> {
    let mut all = findings(&Fabric::within(
        built,
        Limits {
            shortcuts,
            ..Limits::default()
        },
    ));
    all.retain(|finding| finding.kind == "reply-elsewhere");
    all
}

/// The two ends that a finding about replies names: `quay yard`, `internet yard`.
pub fn ends_of(finding: &Finding) -> String {
    let words: Vec<&str> = finding.title.split_whitespace().collect();
    let after = |word: &str| {
        words[words
            .iter()
            .position(|one| *one == word)
            .expect("both ends are named")
            + 2]
    };
    format!("{} {}", after("from"), after("to"))
}

/// Findings about replies of one estate, with what is known to need no question and without.
pub fn replies(seed: u64, shortcuts: bool) -> Vec<Finding> {
    replies_of(&load(&estate(&mut Rng::with_seed(seed))), shortcuts)
}

#[test]
fn what_need_not_be_asked_about_replies_changes_no_finding() {
    let mut told = 0;
    for seed in 1_000..1_400 {
        let (some, all) = (replies(seed, true), replies(seed, false));
        assert_eq!(some, all, "seed {seed}");
        told += all.len();
    }
    assert!(told > 100, "{told}");
}

#[test]
fn packets_in_findings_are_read_back() {
    let read =
        |text: &str| packet_of(text).map(|(from, to, service)| format!("{from} {to} {service}"));
    for (text, expected) in [
        (
            "tcp 10.1.1.4:3000 → 10.2.1.4:443",
            "10.1.1.4 10.2.1.4 tcp 443",
        ),
        (
            "tcp [2001:db8::1]:3000 → [2001:db8::2]:22",
            "2001:db8::1 2001:db8::2 tcp 22",
        ),
        ("icmp 8/0 10.1.1.4 → 10.2.1.4", "10.1.1.4 10.2.1.4 icmp 8/0"),
        (
            "tcp 198.51.100.7:1 → 203.0.113.4:80 → 10.1.1.4",
            "198.51.100.7 203.0.113.4 tcp 80",
        ),
    ] {
        assert_eq!(read(text).as_deref(), Some(expected), "{text}");
    }
    let whole = Packet {
        family: heronshale_sets::address::Family::V4,
        source: 1,
        destination: 2,
        service: service::code(6, 9),
        source_port: 7,
    };
    assert_eq!(
        read(&whole.to_string()).as_deref(),
        Some("0.0.0.1 0.0.0.2 tcp 9")
    );
}
