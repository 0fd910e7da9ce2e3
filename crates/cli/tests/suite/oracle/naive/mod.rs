//! A naive evaluator, written from the semantics alone: one packet at a time, straight from the JSON of a snapshot.
//!
//! Where something depends on what the snapshot lacks, every possibility is tried.

mod stages;

use serde_json::Value;
use std::cell::RefCell;
use std::collections::BTreeMap;
use std::net::IpAddr;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Packet {
    pub source: IpAddr,
    pub destination: IpAddr,
    pub protocol: u8,
    /// Destination port, or ICMP type * 256 + code.
    pub low: u16,
    pub source_port: u16,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Fate {
    Admitted,
    Unknown,
    Denied,
}

/// What one stage decided: its name, whether the packet goes on, whether state is kept, and the rule's id or a word.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Decision {
    pub stage: &'static str,
    pub goes_on: bool,
    pub finally: bool,
    pub keeps_state: bool,
    pub by: String,
}

/// A completion of the snapshot, as far as it was asked for: answers to what the snapshot leaves open.
#[derive(Clone, Default)]
struct World {
    answers: BTreeMap<String, bool>,
    /// A question that has no answer yet.
    open: Option<String>,
}

pub struct Evaluator<'j> {
    estate: &'j Value,
    world: RefCell<World>,
}

pub fn list<'j>(value: &'j Value, key: &str) -> &'j [Value] {
    value
        .get(key)
        .and_then(Value::as_array)
        .map_or(&[], Vec::as_slice)
}

pub fn text<'j>(value: &'j Value, key: &str) -> Option<&'j str> {
    value.get(key).and_then(Value::as_str)
}

fn number(address: IpAddr) -> u128 {
    match address {
        IpAddr::V4(v4) => u32::from(v4).into(),
        IpAddr::V6(v6) => v6.into(),
    }
}

/// Whether an address lies in `10.0.0.0/8`, `10.0.0.1-10.0.0.9` or is `10.0.0.1`.
pub fn in_block(address: IpAddr, block: &str) -> bool {
    if let Some((first, last)) = block.split_once('-') {
        let (first, last): (IpAddr, IpAddr) = (first.parse().unwrap(), last.parse().unwrap());
        return first.is_ipv4() == address.is_ipv4()
            && (number(first)..=number(last)).contains(&number(address));
    }
    let (base, length) = block
        .split_once('/')
        .map_or((block, None), |(base, length)| (base, Some(length)));
    let base: IpAddr = base.parse().unwrap();
    if base.is_ipv4() != address.is_ipv4() {
        return false;
    }
    let bits = if base.is_ipv4() { 32 } else { 128 };
    let length: u32 = length.map_or(bits, |length| length.parse().unwrap());
    (0..length).all(|bit| (number(base) ^ number(address)) >> (bits - 1 - bit) & 1 == 0)
}

/// What is not an internet in IPv4.
pub const PRIVATE: [&str; 9] = [
    "0.0.0.0/8",
    "10.0.0.0/8",
    "100.64.0.0/10",
    "127.0.0.0/8",
    "169.254.0.0/16",
    "172.16.0.0/12",
    "192.168.0.0/16",
    "224.0.0.0/4",
    "240.0.0.0/4",
];

impl<'j> Evaluator<'j> {
    pub fn new(estate: &'j Value) -> Self {
        Self {
            estate,
            world: RefCell::default(),
        }
    }

    /// The answer to what the snapshot leaves open, in the completion that is looked at.
    pub fn ask(&self, question: String) -> bool {
        let mut world = self.world.borrow_mut();
        match world.answers.get(&question) {
            Some(answer) => *answer,
            None => {
                world.open.get_or_insert(question);
                false
            }
        }
    }

    pub fn find(&self, section: &str, id: &str) -> Option<&'j Value> {
        list(self.estate, section)
            .iter()
            .find(|item| text(item, "id") == Some(id))
    }

    pub fn interface(&self, id: &str) -> &'j Value {
        self.find("interfaces", id).unwrap()
    }

    fn subnet_of(&self, interface: &Value) -> &'j Value {
        self.find("subnets", text(interface, "subnet").unwrap())
            .unwrap()
    }

    pub fn network_of(&self, interface: &Value) -> &'j str {
        text(self.subnet_of(interface), "network").unwrap()
    }

    pub fn setting(&self, network: &str, name: &str) -> Option<&'j Value> {
        // `*` stands for outside of all networks.
        let network = self.find("networks", network).unwrap_or(&Value::Null);
        let own = network
            .get("settings")
            .and_then(|settings| settings.get(name));
        let conduct = text(network, "conduct").and_then(|id| self.find("conducts", id));
        let shared = || conduct.and_then(|conduct| conduct["settings"].get(name));
        own.or_else(shared).or_else(|| {
            self.estate["estate"]
                .get("settings")
                .and_then(|settings| settings.get(name))
        })
    }

    pub fn word(&self, network: &str, name: &str, default: &'static str) -> &'j str {
        self.setting(network, name)
            .and_then(Value::as_str)
            .unwrap_or(default)
    }

    fn taken(&self) -> Option<&'j str> {
        text(&self.estate["estate"], "taken")
    }

    fn workload_of(&self, interface: &Value) -> Option<&'j Value> {
        text(interface, "workload").and_then(|id| self.find("workloads", id))
    }

    pub fn has_tag(&self, interface: &Value, key: &str, value: &str) -> bool {
        let tagged =
            |item: &Value| item.get("tags").and_then(|tags| text(tags, key)) == Some(value);
        tagged(interface) || self.workload_of(interface).is_some_and(tagged)
    }

    fn identity(&self, interface: &'j Value) -> Option<&'j str> {
        text(interface, "service_identity").or_else(|| {
            self.workload_of(interface)
                .and_then(|workload| text(workload, "service_identity"))
        })
    }

    pub fn own_firewall(&self, interface: &'j Value) -> Option<&'j str> {
        text(interface, "own_firewall").or_else(|| {
            self.workload_of(interface)
                .and_then(|workload| text(workload, "own_firewall"))
        })
    }

    fn in_reach(&self, from: &str, to: &str) -> bool {
        if from == "*" {
            return true;
        }
        match self.word(from, "named_peer_reach", "peered") {
            "network" => from == to,
            "estate" => true,
            _ => {
                from == to
                    || list(self.estate, "peerings").iter().any(|peering| {
                        let sides = list(peering, "sides");
                        let up = sides
                            .iter()
                            .all(|side| side.get("up") != Some(&Value::Bool(false)));
                        let joins = |network| {
                            sides
                                .iter()
                                .any(|side| text(side, "network") == Some(network))
                        };
                        up && joins(from) && joins(to)
                    })
            }
        }
    }

    pub fn holds(&self, interface: &Value, address: IpAddr) -> bool {
        list(interface, "addresses")
            .iter()
            .any(|block| in_block(address, block.as_str().unwrap()))
    }

    /// Whether the address is held, in reach, by an interface that `chosen` picks.
    fn carried(&self, address: IpAddr, network: &str, chosen: impl Fn(&'j Value) -> bool) -> bool {
        list(self.estate, "interfaces").iter().any(|interface| {
            chosen(interface)
                && self.holds(interface, address)
                && self.in_reach(network, self.network_of(interface))
        })
    }

    /// The same; asked where interfaces that the snapshot lacks may hold it.
    fn carried_perhaps(
        &self,
        peer: &str,
        address: IpAddr,
        network: &str,
        chosen: impl Fn(&'j Value) -> bool,
    ) -> bool {
        if self.carried(address, network, chosen) {
            return true;
        }
        let hidden = list(self.estate, "gaps").iter().any(|gap| {
            let Some(other) = text(gap, "object").unwrap().strip_prefix("network:") else {
                return false;
            };
            let blocks = match text(gap, "lacks") {
                Some("interfaces") => list(self.find("networks", other).unwrap(), "blocks"),
                None => list(gap, "blocks"),
                Some(_) => &[],
            };
            self.in_reach(network, other)
                && blocks
                    .iter()
                    .any(|block| in_block(address, block.as_str().unwrap()))
        });
        hidden && self.ask(format!("{peer} holds {address}"))
    }

    fn in_set(&self, address: IpAddr, id: &str, seen: &mut Vec<String>) -> bool {
        if seen.iter().any(|other| other == id) {
            return false;
        }
        seen.push(id.to_owned());
        let Some(content) = self
            .find("address_sets", id)
            .and_then(|set| set["content"].as_array())
        else {
            return self.ask(format!("set:{id} holds {address}"));
        };
        let (nested, blocks): (Vec<&str>, Vec<&str>) = content
            .iter()
            .map(|entry| entry.as_str().unwrap())
            .partition(|entry| entry.starts_with("set:"));
        blocks.iter().any(|block| in_block(address, block))
            || nested
                .iter()
                .any(|inner| self.in_set(address, &inner[4..], seen))
    }

    pub fn is_internet(&self, address: IpAddr) -> bool {
        let public = if address.is_ipv4() {
            !PRIVATE.iter().any(|p| in_block(address, p))
        } else {
            in_block(address, "2000::/3")
        };
        public
            && !list(self.estate, "networks")
                .iter()
                .flat_map(|network| list(network, "blocks"))
                .any(|block| in_block(address, block.as_str().unwrap()))
            && !list(self.estate, "sites")
                .iter()
                .flat_map(|site| list(site, "holds"))
                .any(|block| in_block(address, block.as_str().unwrap()))
            && !self.is_lacking(address)
    }

    /// Whether it is of a network that the snapshot lacks.
    pub fn is_lacking(&self, address: IpAddr) -> bool {
        let blocks = list(self.estate, "gaps")
            .iter()
            .flat_map(|gap| list(gap, "blocks"));
        blocks
            .into_iter()
            .any(|block| in_block(address, block.as_str().unwrap()))
    }

    pub fn is_peer(&self, peer: &str, address: IpAddr, network: &str) -> bool {
        let unsaid = || self.ask(format!("{peer} holds {address}"));
        let Some((kind, name)) = peer
            .split_once(':')
            .filter(|(kind, _)| kind.chars().all(|c| c.is_ascii_lowercase()) && kind.len() > 2)
        else {
            return match peer {
                "any" => true,
                "internet" => self.is_internet(address),
                "probes" => match self.estate["estate"].get("probes") {
                    Some(probes) => {
                        let probes = probes.as_array().unwrap();
                        probes
                            .iter()
                            .any(|block| in_block(address, block.as_str().unwrap()))
                    }
                    None => unsaid(),
                },
                block => in_block(address, block),
            };
        };
        match kind {
            "set" => self.in_set(address, name, &mut Vec::new()),
            "group" => {
                let carries =
                    |i: &'j Value| list(i, "groups").iter().any(|g| g.as_str() == Some(name));
                match self.find("security_groups", name) {
                    Some(_) => self.carried_perhaps(peer, address, network, carries),
                    None => unsaid(),
                }
            }
            "tag" => self.carried_perhaps(peer, address, network, |i| {
                name.split(',').all(|pair| {
                    pair.split_once('=')
                        .is_some_and(|(key, value)| self.has_tag(i, key, value))
                })
            }),
            "identity" => {
                self.carried_perhaps(peer, address, network, |i| self.identity(i) == Some(name))
            }
            "interface" => match self.find("interfaces", name) {
                Some(_) => self.carried(address, network, |i| text(i, "id") == Some(name)),
                None => unsaid(),
            },
            "network" | "subnet" | "site" => {
                let (section, field) = match kind {
                    "network" => ("networks", "blocks"),
                    "subnet" => ("subnets", "blocks"),
                    _ => ("sites", "holds"),
                };
                match self.find(section, name) {
                    Some(found) => list(found, field)
                        .iter()
                        .any(|block| in_block(address, block.as_str().unwrap())),
                    None => unsaid(),
                }
            }
            _ => panic!("{peer}"),
        }
    }

    pub fn any_peer(&self, peers: &[Value], address: IpAddr, network: &str) -> bool {
        peers
            .iter()
            .any(|peer| self.is_peer(peer.as_str().unwrap(), address, network))
    }

    /// What is so in every completion of the snapshot; none if it differs.
    pub fn certainly(&self, run: impl FnMut() -> bool) -> Option<bool> {
        let all = self.possibilities(run);
        all.iter().all(|one| *one == all[0]).then_some(all[0])
    }

    /// What comes out in each completion of the snapshot, as far as it makes a difference.
    pub fn possibilities<T>(&self, mut run: impl FnMut() -> T) -> Vec<T> {
        let mut all = Vec::new();
        let mut worlds = vec![BTreeMap::new()];
        while let Some(answers) = worlds.pop() {
            *self.world.borrow_mut() = World {
                answers: answers.clone(),
                open: None,
            };
            let found = run();
            match self.world.borrow_mut().open.take() {
                None => all.push(found),
                Some(question) => worlds.extend([true, false].map(|is| {
                    let mut more = answers.clone();
                    more.insert(question.clone(), is);
                    more
                })),
            }
        }
        *self.world.borrow_mut() = World::default();
        all
    }

    /// The fate of a packet at one side, and for certain fates the possible decisions up to the one that ends it.
    pub fn fate(&self, id: &str, packet: &Packet, direction: &str) -> (Fate, Vec<Vec<Decision>>) {
        let all = self.possibilities(|| self.stages(id, packet, direction, true));
        let admitted = all
            .iter()
            .filter(|stages| stages.iter().all(|d| d.goes_on))
            .count();
        if admitted > 0 && admitted < all.len() {
            return (Fate::Unknown, Vec::new());
        }
        if admitted > 0 {
            return (Fate::Admitted, all);
        }
        // Denied either way: the stage that refuses for certain is the furthest at which a possibility ends.
        let end = |stages: &Vec<Decision>| stages.iter().position(|d| !d.goes_on).unwrap();
        let furthest = all.iter().map(end).max().unwrap();
        let mut ending: Vec<_> = all
            .into_iter()
            .filter(|stages| end(stages) == furthest)
            .collect();
        ending
            .iter_mut()
            .for_each(|stages| stages.truncate(furthest + 1));
        (Fate::Denied, ending)
    }

    /// Whether the reply passes the stages that keep no state for the request. None: it depends on the snapshot's lacks.
    pub fn reply_passes(&self, id: &str, packet: &Packet, direction: &str) -> Option<bool> {
        let answers =
            self.possibilities(|| self.there_and_back(id, packet, direction).unwrap_or(true));
        let first = answers[0];
        answers
            .iter()
            .all(|answer| *answer == first)
            .then_some(first)
    }

    /// Whether the stages let neither request nor reply through, or only one of them, however the snapshot is completed.
    pub fn never_passes(&self, id: &str, packet: &Packet, direction: &str) -> bool {
        let answers = self.possibilities(|| self.there_and_back(id, packet, direction));
        answers.iter().all(|answer| *answer != Some(true))
    }

    /// Whether the reply passes; none: the request does not.
    fn there_and_back(&self, id: &str, packet: &Packet, direction: &str) -> Option<bool> {
        let there = self.stages(id, packet, direction, true);
        if !there.iter().all(|d| d.goes_on) {
            return None;
        }
        let Some(reply) = reply_to(packet) else {
            return Some(true);
        };
        let back = if direction == "in" { "out" } else { "in" };
        let stateless = |stage| there.iter().any(|d| d.stage == stage && !d.keeps_state);
        Some(
            self.stages(id, &reply, back, stateless("policies"))
                .iter()
                .all(|d| d.goes_on || !stateless(d.stage)),
        )
    }

    pub fn client_ports(&self, id: &str) -> (u16, u16) {
        let ports = self.word(
            self.network_of(self.interface(id)),
            "client_ports",
            "1024-65535",
        );
        let (first, last) = ports.split_once('-').unwrap();
        (first.parse().unwrap(), last.parse().unwrap())
    }
}

pub fn reply_to(packet: &Packet) -> Option<Packet> {
    let turned = Packet {
        source: packet.destination,
        destination: packet.source,
        ..*packet
    };
    match packet.protocol {
        6 | 17 | 132 => Some(Packet {
            low: packet.source_port,
            source_port: packet.low,
            ..turned
        }),
        1 | 58 => {
            let pairs: &[(u16, u16)] = if packet.protocol == 1 {
                &[(8, 0), (13, 14), (15, 16), (17, 18)]
            } else {
                &[(128, 129)]
            };
            let answer = pairs.iter().find(|(ask, _)| *ask == packet.low >> 8)?.1;
            Some(Packet {
                low: answer << 8,
                ..turned
            })
        }
        _ => Some(turned),
    }
}
