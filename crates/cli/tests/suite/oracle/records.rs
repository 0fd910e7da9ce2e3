//! Inventory, search, selectors and classes of random estates against a plain look at the JSON.

use super::agreement::load;
use super::estates::{INTERFACES, estate, packet};
use super::listing::to_value;
use super::naive::{Evaluator, in_block, list, text};
use super::routes::with_ways_in;
use fastrand::Rng;
use heronshale_answers::{find, inventory};
use heronshale_engine::effective::{classes, effective};
use heronshale_engine::fabric::Fabric;
use heronshale_model::ends::End;
use heronshale_model::estate::Direction;
use serde_json::Value;
use std::collections::BTreeSet;
use std::net::IpAddr;

fn ids<'j>(items: impl IntoIterator<Item = &'j Value>, key: &str) -> BTreeSet<String> {
    items
        .into_iter()
        .map(|item| text(item, key).unwrap().to_owned())
        .collect()
}

fn with_routes(seed: u64) -> (Rng, Value) {
    let mut random = Rng::with_seed(seed);
    let mut json = estate(&mut random);
    with_ways_in(&mut random, &mut json);
    (random, json)
}

#[test]
fn the_inventory_lists_everything_once_and_says_what_is_bound() {
    for seed in 0..60 {
        let (_, json) = with_routes(seed);
        let built = load(&json);
        let answer = to_value(&inventory(&Fabric::new(&built, None), None));
        for (rows, section, key) in [
            ("networks", "networks", "name"),
            ("gateways", "gateways", "name"),
            ("peerings", "peerings", "name"),
            ("route_tables", "route_tables", "name"),
            ("address_sets", "address_sets", "name"),
            ("sites", "sites", "name"),
        ] {
            assert_eq!(
                ids(list(&answer, rows), key),
                ids(list(&json, section), "id"),
                "seed {seed}, {rows}"
            );
        }
        let subnets: Vec<&Value> = list(&answer, "networks")
            .iter()
            .flat_map(|network| list(network, "subnets"))
            .collect();
        let interfaces: Vec<&Value> = subnets
            .iter()
            .flat_map(|subnet| list(subnet, "interfaces"))
            .collect();
        assert_eq!(
            ids(subnets.iter().copied(), "name"),
            ids(list(&json, "subnets"), "id")
        );
        assert_eq!(interfaces.len(), list(&json, "interfaces").len());
        for row in interfaces {
            let name = text(&row["interface"], "name").unwrap();
            let written = list(&json, "interfaces")
                .iter()
                .find(|interface| text(interface, "id") == Some(name))
                .unwrap();
            let groups: Vec<String> = list(row, "groups")
                .iter()
                .map(|group| group.as_str().unwrap().replace(" (missing)", ""))
                .collect();
            assert_eq!(
                Value::from(groups),
                written["groups"],
                "seed {seed}, {name}"
            );
            assert_eq!(row["interface"]["addresses"], written["addresses"]);
            assert_eq!(text(&row["interface"], "subnet"), text(written, "subnet"));
        }
        let sections = [
            "security_groups",
            "network_acls",
            "scope_policies",
            "own_firewalls",
        ];
        let filters: Vec<&Value> = sections
            .iter()
            .flat_map(|section| list(&json, section))
            .collect();
        assert_eq!(list(&answer, "filters").len(), filters.len());
        for (row, filter) in list(&answer, "filters").iter().zip(filters) {
            let counts =
                ["inbound", "outbound"].map(|way| u64::try_from(list(filter, way).len()).unwrap());
            assert_eq!(
                [row["inbound"].as_u64(), row["outbound"].as_u64()],
                counts.map(Some),
                "seed {seed}, {row}"
            );
        }
        for row in list(&answer, "route_tables") {
            let id = text(row, "name");
            let main = |subnet: &Value| {
                list(&json, "networks")
                    .iter()
                    .find(|network| text(network, "id") == text(subnet, "network"))
                    .and_then(|network| text(network, "main_table"))
            };
            let uses = list(&json, "subnets")
                .iter()
                .filter(|subnet| text(subnet, "route_table").or_else(|| main(subnet)) == id);
            assert_eq!(
                list(row, "subnets")
                    .iter()
                    .map(|name| name.as_str().unwrap().to_owned())
                    .collect::<BTreeSet<_>>(),
                ids(uses, "id"),
                "seed {seed}, {id:?}"
            );
        }
    }
}

#[test]
fn a_search_finds_every_record_route_and_rule_that_holds_an_address_and_no_other() {
    let addresses = [
        "10.0.0.4",
        "10.0.1.3",
        "10.0.2.7",
        "198.51.100.7",
        "203.0.113.9",
        "192.168.0.9",
        "8.8.8.8",
        "2001:db8::4",
        "2001:db8:ffff::1",
    ];
    let mut rules_found = 0;
    for seed in 0..60 {
        let (_, mut json) = with_routes(seed);
        // With this reach a rule that is enforced nowhere and one in any network read named peers alike.
        for network in json["networks"].as_array_mut().unwrap() {
            network["settings"]["named_peer_reach"] = "estate".into();
        }
        let (built, naive) = (load(&json), Evaluator::new(&json));
        let view = Fabric::new(&built, None);
        for address in addresses {
            let address: IpAddr = address.parse().unwrap();
            let answer = to_value(&find(&view, &address.to_string()).unwrap());
            let found = |kind: &str| {
                list(&answer, "holdings")
                    .iter()
                    .filter(|one| text(one, "kind") == Some(kind))
                    .map(|one| one["place"]["pointer"].as_str().unwrap().to_owned())
                    .collect::<BTreeSet<_>>()
            };
            for (kind, section, field) in [
                ("interface", "interfaces", "addresses"),
                ("subnet", "subnets", "blocks"),
                ("network", "networks", "blocks"),
                ("site", "sites", "holds"),
            ] {
                let holds = |item: &Value| {
                    list(item, field)
                        .iter()
                        .any(|block| in_block(address, block.as_str().unwrap()))
                };
                let expected = list(&json, section)
                    .iter()
                    .enumerate()
                    .filter(|(_, item)| holds(item))
                    .map(|(at, _)| format!("/{section}/{at}"));
                assert_eq!(
                    found(kind),
                    expected.collect(),
                    "seed {seed}, {address}, {kind}"
                );
            }
            let mut expected = BTreeSet::new();
            for (at, table) in list(&json, "route_tables").iter().enumerate() {
                for (index, route) in list(table, "routes").iter().enumerate() {
                    let to = route["to"]
                        .as_array()
                        .cloned()
                        .unwrap_or_else(|| vec![route["to"].clone()]);
                    if to
                        .iter()
                        .any(|block| in_block(address, block.as_str().unwrap()))
                    {
                        expected.insert(format!("/route_tables/{at}/routes/{index}"));
                    }
                }
            }
            assert_eq!(found("route"), expected, "seed {seed}, {address}");
            let mut expected = BTreeSet::new();
            for section in [
                "security_groups",
                "network_acls",
                "scope_policies",
                "own_firewalls",
            ] {
                for (at, filter) in list(&json, section).iter().enumerate() {
                    for way in ["inbound", "outbound"] {
                        for (index, rule) in list(filter, way).iter().enumerate() {
                            let peers = ["peers", "local", "except"]
                                .iter()
                                .flat_map(|field| list(rule, field));
                            let mut named = peers
                                .map(|peer| peer.as_str().unwrap())
                                .filter(|peer| *peer != "any");
                            if named.any(|peer| {
                                naive.certainly(|| naive.is_peer(peer, address, "n0")) == Some(true)
                            }) {
                                expected.insert(format!("/{section}/{at}/{way}/{index}"));
                            }
                        }
                    }
                }
            }
            rules_found += expected.len();
            assert_eq!(found("rule"), expected, "seed {seed}, {address}");
        }
    }
    assert!(rules_found > 2_000, "{rules_found}");
}

#[test]
fn selectors_mean_the_interfaces_that_the_json_says() {
    for seed in 0..80 {
        let (_, json) = with_routes(seed);
        let (built, naive) = (load(&json), Evaluator::new(&json));
        let view = Fabric::new(&built, None);
        let subnet_of = |interface: &Value| {
            list(&json, "subnets")
                .iter()
                .find(|subnet| text(subnet, "id") == text(interface, "subnet"))
                .unwrap()
        };
        let network_of = |interface: &Value| text(subnet_of(interface), "network").unwrap();
        let divisions = |interface: &Value| {
            let network = list(&json, "networks")
                .iter()
                .find(|network| text(network, "id") == Some(network_of(interface)))
                .unwrap();
            match text(network, "division") {
                Some("d1") => vec!["d1", "d0"],
                Some(other) => vec![other],
                None => Vec::new(),
            }
        };
        type Chosen<'c> = Box<dyn Fn(&Value) -> bool + 'c>;
        let table: Vec<(&str, Chosen<'_>)> = vec![
            ("any", Box::new(|_| true)),
            ("internet", Box::new(|_| false)),
            (
                "i2",
                Box::new(|interface| text(interface, "id") == Some("i2")),
            ),
            (
                "interface:i2",
                Box::new(|interface| text(interface, "id") == Some("i2")),
            ),
            (
                "network:n0",
                Box::new(|interface| network_of(interface) == "n0"),
            ),
            (
                "subnet:u1",
                Box::new(|interface| text(interface, "subnet") == Some("u1")),
            ),
            (
                "group:g1",
                Box::new(|interface| list(interface, "groups").iter().any(|group| group == "g1")),
            ),
            (
                "workload:w0",
                Box::new(|interface| text(interface, "workload") == Some("w0")),
            ),
            (
                "tag:role=web",
                Box::new(|interface| naive.has_tag(interface, "role", "web")),
            ),
            (
                "tag:role=web,env=live",
                Box::new(|interface| {
                    naive.has_tag(interface, "role", "web")
                        && naive.has_tag(interface, "env", "live")
                }),
            ),
            (
                "division:d0",
                Box::new(|interface| divisions(interface).contains(&"d0")),
            ),
            (
                "division:d1",
                Box::new(|interface| divisions(interface).contains(&"d1")),
            ),
            (
                "10.0.0.4",
                Box::new(|interface| text(interface, "id") == Some("i0")),
            ),
            (
                "198.51.100.7",
                Box::new(|interface| text(interface, "id") == Some("i0")),
            ),
            (
                "10.0.0.0/29",
                Box::new(|interface| ["i0", "i1"].contains(&text(interface, "id").unwrap())),
            ),
            (
                "2001:db8:1::/48",
                Box::new(|interface| ["i2", "i3"].contains(&text(interface, "id").unwrap())),
            ),
        ];
        for (selector, chosen) in table {
            let end =
                End::parse(&view, selector).unwrap_or_else(|error| panic!("{selector}: {error:?}"));
            let found: BTreeSet<String> = end
                .interfaces(&view)
                .iter()
                .map(|id| built.interfaces[*id].name.to_string())
                .collect();
            let expected = ids(
                list(&json, "interfaces")
                    .iter()
                    .filter(|interface| chosen(interface)),
                "id",
            );
            assert_eq!(found, expected, "seed {seed}, {selector}");
        }
        for wrong in ["i9", "network:n9", "tag:role", "group:", "10.0.0.0/40"] {
            assert!(End::parse(&view, wrong).is_err(), "{wrong}");
        }
    }
}

#[test]
fn members_of_a_class_are_decided_alike_and_every_interface_is_in_one() {
    let mut shared = 0;
    for seed in 0..150 {
        let mut random = Rng::with_seed(seed);
        let mut json = estate(&mut random);
        // Twins, and near twins that differ in one binding.
        for (copy, of) in [(1, 0), (3, 2)] {
            for field in [
                "groups",
                "workload",
                "own_firewall",
                "service_identity",
                "tags",
                "unfiltered",
            ] {
                let value = json["interfaces"][of][field].clone();
                if value.is_null() {
                    json["interfaces"][copy]
                        .as_object_mut()
                        .unwrap()
                        .remove(field);
                } else if random.u8(0..10) > 0 {
                    json["interfaces"][copy][field] = value;
                }
            }
        }
        let (built, naive) = (load(&json), Evaluator::new(&json));
        let view = Fabric::new(&built, None);
        let all = classes(&view);
        let members: BTreeSet<_> = all.iter().flat_map(|class| class.members.clone()).collect();
        assert_eq!(
            (
                members.len(),
                all.iter().map(|class| class.members.len()).sum::<usize>()
            ),
            (INTERFACES.len(), INTERFACES.len())
        );
        for class in all.iter().filter(|class| class.members.len() > 1) {
            shared += 1;
            for (way, direction) in [("in", Direction::In), ("out", Direction::Out)] {
                let sides = class
                    .members
                    .iter()
                    .map(|id| effective(&view, *id, direction, None));
                let sets: Vec<_> = sides
                    .map(|side| (side.admitted_set, side.unknown_set))
                    .collect();
                assert!(
                    sets.windows(2).all(|pair| pair[0] == pair[1]),
                    "seed {seed}"
                );
                let at = |id| {
                    INTERFACES
                        .iter()
                        .position(|name| **name == *built.interfaces[id].name)
                        .unwrap()
                };
                let (first, second) = (at(class.members[0]), at(class.members[1]));
                for _ in 0..10 {
                    let asked = packet(&mut random, &json["interfaces"][first], way);
                    let mut moved = asked;
                    let own = &list(&json["interfaces"][second], "addresses")
                        [usize::from(asked.source.is_ipv6())];
                    let own: IpAddr = own.as_str().unwrap().parse().unwrap();
                    if way == "in" {
                        moved.destination = own
                    } else {
                        moved.source = own
                    }
                    assert_eq!(
                        naive.fate(INTERFACES[first], &asked, way).0,
                        naive.fate(INTERFACES[second], &moved, way).0,
                        "seed {seed}, {asked:?}"
                    );
                }
            }
        }
    }
    assert!(shared > 60, "{shared}");
}
