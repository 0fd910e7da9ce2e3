//! Findings of random estates against their definitions, applied to the JSON of the snapshot: address by address, port by port.
//!
//! Between two neighbouring bounds of all blocks in a snapshot every address is treated alike, so the bounds and their
//! neighbours stand for all addresses. The same holds for ports.

use super::agreement::load;
use super::estates::estate;
use super::naive::{Evaluator, PRIVATE, list, text};
use super::routes::with_ways_in;
use fastrand::Rng;
use heronshale_audit::finding::findings;
use heronshale_engine::fabric::Fabric;
use heronshale_sets::address::{Block, Family, address_of, last_of};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

/// Kinds and JSON Pointers.
type Found = BTreeSet<(&'static str, String)>;

/// The sections of filters with the word for them in peers and keys.
const FILTERS: [(&str, &str); 4] = [
    ("security_groups", "groups"),
    ("network_acls", "acl"),
    ("scope_policies", "policy"),
    ("own_firewalls", "own_firewall"),
];

/// Every text of a JSON value.
fn texts<'j>(value: &'j Value, all: &mut Vec<&'j str>) {
    match value {
        Value::String(text) => all.push(text),
        Value::Array(items) => items.iter().for_each(|item| texts(item, all)),
        Value::Object(fields) => fields.values().for_each(|field| texts(field, all)),
        _ => {}
    }
}

/// Addresses that stand for all addresses.
fn representatives(json: &Value) -> Vec<IpAddr> {
    let mut all = PRIVATE.to_vec();
    all.extend(["2000::/3", "::/0"]);
    texts(json, &mut all);
    let mut numbers: BTreeSet<(Family, u128)> = BTreeSet::new();
    for block in all
        .into_iter()
        .filter_map(|text| text.parse::<Block>().ok())
    {
        let (family, first, last) = (block.range.family, block.range.first, block.range.last);
        numbers.extend([(family, first), (family, last)]);
        numbers.extend(first.checked_sub(1).map(|number| (family, number)));
        numbers.extend(
            last.checked_add(1)
                .filter(|number| *number <= last_of(family))
                .map(|number| (family, number)),
        );
    }
    numbers
        .into_iter()
        .map(|(family, number)| address_of(family, number))
        .collect()
}

struct Judge<'j> {
    json: &'j Value,
    naive: Evaluator<'j>,
    addresses: Vec<IpAddr>,
    found: Found,
}

impl<'j> Judge<'j> {
    fn add(&mut self, kind: &'static str, pointer: impl Into<String>) {
        self.found.insert((kind, pointer.into()));
    }

    fn there(&self, section: &str, id: &str) -> bool {
        list(self.json, section)
            .iter()
            .any(|item| text(item, "id") == Some(id))
    }

    /// The networks where a filter is enforced: of its interfaces, and of the subnets that it is bound to.
    fn networks(&self, section: &str, filter: &'j Value) -> BTreeSet<&'j str> {
        let id = text(filter, "id").unwrap();
        let subnets = list(self.json, "subnets");
        let subnet_of = |interface: &Value| {
            subnets
                .iter()
                .find(|subnet| text(subnet, "id") == text(interface, "subnet"))
                .unwrap()
        };
        let names = |item: &'j Value, field: &str| match &item[field] {
            Value::Array(all) => all.iter().any(|name| name.as_str() == Some(id)),
            one => one.as_str() == Some(id),
        };
        let field = FILTERS
            .iter()
            .find(|(known, _)| *known == section)
            .unwrap()
            .1;
        let acts_on = |interface: &&'j Value| {
            let filtered = interface.get("unfiltered") != Some(&Value::Bool(true));
            match field {
                "groups" => {
                    filtered
                        && (names(interface, "groups") || names(subnet_of(interface), "groups"))
                }
                "acl" => names(subnet_of(interface), "acl"),
                "own_firewall" => filtered && self.naive.own_firewall(interface) == Some(id),
                _ => {
                    filtered
                        && self
                            .naive
                            .policies(interface)
                            .iter()
                            .any(|policy| text(policy, "id") == Some(id))
                }
            }
        };
        let of_interfaces = list(self.json, "interfaces")
            .iter()
            .filter(acts_on)
            .map(|interface| text(subnet_of(interface), "network").unwrap());
        let of_subnets = subnets
            .iter()
            .filter(|subnet| matches!(field, "groups" | "acl") && names(subnet, field))
            .map(|subnet| text(subnet, "network").unwrap());
        of_interfaces.chain(of_subnets).collect()
    }

    fn in_force(rule: &Value) -> bool {
        let ended = text(rule, "enforced_until").is_some_and(|end| end < "2026-11-02");
        rule.get("enabled") != Some(&Value::Bool(false)) && !ended
    }

    /// The section of what a peer names, if it names something that has to be there.
    fn section_of(peer: &str) -> Option<(&'static str, &str)> {
        let (kind, name) = peer.split_once(':')?;
        let section = match kind {
            "group" => "security_groups",
            "set" => "address_sets",
            "interface" => "interfaces",
            "network" => "networks",
            "subnet" => "subnets",
            "site" => "sites",
            _ => return None,
        };
        Some((section, name))
    }

    fn rule(
        &mut self,
        section: &str,
        rule: &'j Value,
        inbound: bool,
        networks: &BTreeSet<&'j str>,
        pointer: &str,
    ) {
        if !Self::in_force(rule) {
            return;
        }
        let written = |field: &str| {
            rule.get(field).map(|_| {
                list(rule, field)
                    .iter()
                    .map(|peer| peer.as_str().unwrap())
                    .collect::<Vec<_>>()
            })
        };
        let (peers, local) = (written("peers"), written("local"));
        let missing = |peer: &&str| {
            Self::section_of(peer).is_some_and(|(section, name)| !self.there(section, name))
        };
        if peers
            .iter()
            .flatten()
            .chain(local.iter().flatten())
            .any(missing)
        {
            self.add("peer-missing", pointer);
        }
        let matches = |peer: &str, network: &str| {
            self.addresses.iter().any(|address| {
                self.naive
                    .certainly(|| self.naive.is_peer(peer, *address, network))
                    != Some(false)
            })
        };
        let empty = |peer: &&&str| {
            !networks.is_empty() && networks.iter().all(|network| !matches(peer, network))
        };
        if peers
            .as_ref()
            .is_some_and(|peers| peers.is_empty() || peers.iter().any(|peer| empty(&peer)))
        {
            self.add("peer-empty", pointer);
        }
        let admits = matches!(text(rule, "action"), None | Some("allow" | "allow-finally"));
        if !inbound || !admits {
            return;
        }
        let services = written("services").unwrap_or_default();
        let takes = |protocol: u8, port: u16| {
            services.is_empty()
                || services
                    .iter()
                    .any(|service| service_matches(service, protocol, port))
        };
        let peer_at = |address: IpAddr, network: &str| {
            let (json_peers, except) = (rule.get("peers"), list(rule, "except"));
            let any = |peers| {
                self.naive
                    .certainly(|| self.naive.any_peer(peers, address, network))
            };
            (
                json_peers.map_or(Some(true), |_| any(list(rule, "peers"))),
                any(except),
            )
        };
        let ported = |protocol: u8| matches!(protocol, 1 | 6 | 17 | 58 | 132);
        let families = [true, false].map(|v4| {
            let of_family: Vec<IpAddr> = self
                .addresses
                .iter()
                .copied()
                .filter(|address| address.is_ipv4() == v4)
                .collect();
            let mut protocols =
                (0..=255_u8).filter(|protocol| *protocol != if v4 { 58 } else { 1 });
            let serves = protocols.any(|protocol| {
                (0..=if ported(protocol) { u16::MAX } else { 0 }).any(|port| takes(protocol, port))
            });
            let everywhere = |network: &&&str| {
                let mut internet = of_family
                    .iter()
                    .filter(|address| self.naive.is_internet(**address));
                serves
                    && internet
                        .all(|address| peer_at(*address, network) == (Some(true), Some(false)))
            };
            let somewhere = |network: &&&str| {
                of_family.iter().any(|address| {
                    let (included, excepted) = peer_at(*address, network);
                    included != Some(false) && excepted != Some(true)
                })
            };
            (
                networks.iter().any(|network| everywhere(&network)),
                networks.iter().any(|network| somewhere(&network)),
            )
        });
        if section != "network_acls" && families.iter().any(|(everywhere, _)| *everywhere) {
            self.add("any-source", pointer);
        }
        if families.iter().any(|(_, somewhere)| *somewhere)
            && (1..=u16::MAX).all(|port| takes(6, port))
        {
            self.add("all-services", pointer);
        }
    }

    fn filters(&mut self) {
        for (section, _) in FILTERS {
            for (at, filter) in list(self.json, section).iter().enumerate() {
                let networks = self.networks(section, filter);
                if networks.is_empty() {
                    self.add("bound-to-nothing", format!("/{section}/{at}"));
                }
                for (field, inbound) in [("inbound", true), ("outbound", false)] {
                    for (index, rule) in list(filter, field).iter().enumerate() {
                        self.rule(
                            section,
                            rule,
                            inbound,
                            &networks,
                            &format!("/{section}/{at}/{field}/{index}"),
                        );
                    }
                }
            }
        }
    }

    fn sets(&mut self) {
        let sets = list(self.json, "address_sets");
        let inner = |set: &'j Value| {
            list(set, "content")
                .iter()
                .filter_map(|entry| entry.as_str().unwrap().strip_prefix("set:"))
        };
        for (at, set) in sets.iter().enumerate() {
            let mut reached: BTreeSet<&str> = inner(set).collect();
            for _ in 0..sets.len() {
                let next: Vec<&str> = sets
                    .iter()
                    .filter(|other| reached.contains(text(other, "id").unwrap()))
                    .flat_map(inner)
                    .collect();
                reached.extend(next);
            }
            if reached.contains(text(set, "id").unwrap()) {
                self.add("set-cycle", format!("/address_sets/{at}"));
            }
            if inner(set).any(|name| !self.there("address_sets", name)) {
                self.add("peer-missing", format!("/address_sets/{at}"));
            }
        }
    }

    fn references(&mut self) {
        let bindings = [
            ("subnets", "acl", "network_acls"),
            ("subnets", "groups", "security_groups"),
            ("subnets", "route_table", "route_tables"),
            ("interfaces", "groups", "security_groups"),
            ("interfaces", "own_firewall", "own_firewalls"),
        ];
        for (section, field, target) in bindings {
            for (at, item) in list(self.json, section).iter().enumerate() {
                let names = item[field]
                    .as_array()
                    .cloned()
                    .unwrap_or_else(|| vec![item[field].clone()]);
                if names
                    .iter()
                    .filter_map(Value::as_str)
                    .any(|name| !self.there(target, name))
                {
                    self.add("dangling-reference", format!("/{section}/{at}"));
                }
            }
        }
        for (at, table) in list(self.json, "route_tables").iter().enumerate() {
            let id = text(table, "id");
            let main = |network: Option<&str>| {
                let network = list(self.json, "networks")
                    .iter()
                    .find(|item| text(item, "id") == network)
                    .unwrap();
                text(network, "main_table")
            };
            let uses = |subnet: &Value| {
                text(subnet, "route_table").or_else(|| main(text(subnet, "network"))) == id
            };
            if !list(self.json, "subnets").iter().any(uses) {
                self.add("idle-table", format!("/route_tables/{at}"));
            }
        }
    }
}

fn service_matches(service: &str, protocol: u8, low: u16) -> bool {
    let asked = super::naive::Packet {
        source: [0, 0, 0, 0].into(),
        destination: [0, 0, 0, 0].into(),
        protocol,
        low,
        source_port: 0,
    };
    Evaluator::service_matches(service, &asked)
}

fn try_estate(seed: u64, seen: &mut BTreeMap<&'static str, usize>) -> Result<(), String> {
    let mut random = Rng::with_seed(seed);
    let mut json = estate(&mut random);
    with_ways_in(&mut random, &mut json);
    let mut judge = Judge {
        json: &json,
        naive: Evaluator::new(&json),
        addresses: representatives(&json),
        found: Found::new(),
    };
    judge.filters();
    judge.sets();
    judge.references();
    let built = load(&json);
    let kinds = [
        "any-source",
        "all-services",
        "bound-to-nothing",
        "idle-table",
        "peer-missing",
        "peer-empty",
        "dangling-reference",
        "set-cycle",
    ];
    let all = findings(&Fabric::new(&built, None));
    let engine: Found = all
        .iter()
        .filter_map(|finding| {
            let kind = kinds.iter().find(|kind| **kind == finding.kind)?;
            Some((*kind, finding.place.as_ref()?.pointer.clone()))
        })
        .collect();
    // Of a filter that is bound to nothing the reach of named peers is not defined: only the binding is compared.
    let idle: Vec<String> = judge
        .found
        .iter()
        .filter(|(kind, _)| *kind == "bound-to-nothing")
        .map(|(_, pointer)| format!("{pointer}/"))
        .collect();
    let judged = |(kind, pointer): &&(&'static str, String)| {
        *kind == "peer-missing" || !idle.iter().any(|filter| pointer.starts_with(filter))
    };
    let expected: Found = judge.found.iter().filter(judged).cloned().collect();
    let engine: Found = engine.iter().filter(judged).cloned().collect();
    expected
        .iter()
        .for_each(|(kind, _)| *seen.entry(kind).or_default() += 1);
    let (missed, spurious): (Vec<_>, Vec<_>) = (
        expected.difference(&engine).collect(),
        engine.difference(&expected).collect(),
    );
    if missed.is_empty() && spurious.is_empty() {
        Ok(())
    } else {
        Err(format!(
            "seed {seed}: missed {missed:?}, spurious {spurious:?}\n{json:#}"
        ))
    }
}

#[test]
fn findings_of_random_estates_are_those_of_their_definitions() {
    let mut seen = BTreeMap::new();
    for seed in 0..80 {
        try_estate(seed, &mut seen).unwrap_or_else(|what| panic!("{what}"));
    }
    assert!(
        seen.len() == 8 && seen.values().all(|count| *count >= 10),
        "{seen:?}"
    );
}
