//! A naive reading of rule sets in JSON: one packet at a time, chain by chain. It stands where there is no kernel to ask.

use crate::oracle::naive::{Packet, in_block, list, text};
use crate::oracle::pick;
use fastrand::Rng;
use serde_json::{Value, json};
use std::net::IpAddr;

/// How a walk through a chain ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum End {
    Accept,
    Drop,
    /// Back to the chain that called.
    Return,
}

/// A packet at a hook: by which interfaces, and whether it answers.
pub struct Seen<'p> {
    pub packet: &'p Packet,
    pub reply: bool,
    pub devices: [&'p str; 2],
}

pub struct RuleSet<'j> {
    objects: &'j [Value],
}

impl<'j> RuleSet<'j> {
    pub fn new(rules: &'j Value) -> Self {
        Self {
            objects: list(rules, "nftables"),
        }
    }

    fn of<'s>(&'s self, kind: &'s str) -> impl Iterator<Item = &'j Value> + 's {
        self.objects
            .iter()
            .filter_map(move |object| object.get(kind))
    }

    /// Whether a hook lets a packet through.
    pub fn passes(&self, hook: &str, seen: &Seen<'_>) -> bool {
        let family = if seen.packet.source.is_ipv4() {
            "ip"
        } else {
            "ip6"
        };
        let mut bases: Vec<&Value> = self
            .of("chain")
            .filter(|chain| {
                text(chain, "hook") == Some(hook)
                    && ["inet", family].contains(&text(chain, "family").unwrap())
            })
            .collect();
        bases.sort_by_key(|chain| chain["prio"].as_i64().unwrap());
        bases.into_iter().all(|chain| match self.walk(chain, seen) {
            End::Accept => true,
            End::Drop => false,
            End::Return => chain["policy"] == "accept",
        })
    }

    fn walk(&self, chain: &Value, seen: &Seen<'_>) -> End {
        let own = |rule: &&Value| {
            ["family", "table"].iter().all(|at| rule[*at] == chain[*at])
                && rule["chain"] == chain["name"]
        };
        let called = |what: &Value| {
            let named = |other: &&Value| {
                ["family", "table"]
                    .iter()
                    .all(|at| other[*at] == chain[*at])
                    && other["name"] == what["target"]
            };
            self.of("chain").find(named).unwrap()
        };
        for rule in self.of("rule").filter(own) {
            for statement in list(rule, "expr") {
                let (word, what) = statement.as_object().unwrap().iter().next().unwrap();
                let verdict = match word.as_str() {
                    "match" if matches(what, seen) => continue,
                    "match" => break,
                    "counter" => continue,
                    "vmap" => {
                        let hit = |element: &&Value| is(&what["key"], &element[0], seen);
                        match list(&what["data"], "set").iter().find(hit) {
                            Some(element) => element[1].as_object().unwrap().iter().next().unwrap(),
                            None => break,
                        }
                    }
                    _ => (word, what),
                };
                match verdict.0.as_str() {
                    "accept" => return End::Accept,
                    "drop" | "reject" => return End::Drop,
                    "return" => return End::Return,
                    "goto" => return self.walk(called(verdict.1), seen),
                    "jump" => match self.walk(called(verdict.1), seen) {
                        End::Return => break,
                        end => return end,
                    },
                    other => panic!("{other}"),
                }
            }
        }
        End::Return
    }
}

fn matches(what: &Value, seen: &Seen<'_>) -> bool {
    let (left, right) = (&what["left"], &what["right"]);
    if !has(left, seen.packet) {
        return false;
    }
    match what["op"].as_str().unwrap() {
        "==" | "in" => is(left, right, seen),
        "!=" => !is(left, right, seen),
        "<" => number(left, seen.packet) < right.as_u64().unwrap(),
        ">=" => number(left, seen.packet) >= right.as_u64().unwrap(),
        other => panic!("{other}"),
    }
}

/// Whether a packet has the part at all.
fn has(left: &Value, packet: &Packet) -> bool {
    if let Some(all) = left.get("concat") {
        return all.as_array().unwrap().iter().all(|part| has(part, packet));
    }
    let Some(payload) = left.get("payload") else {
        return true;
    };
    match text(payload, "protocol").unwrap() {
        "ip" => packet.source.is_ipv4(),
        "ip6" => packet.source.is_ipv6(),
        "tcp" => packet.protocol == 6,
        "udp" => packet.protocol == 17,
        "icmp" => packet.protocol == 1,
        other => panic!("{other}"),
    }
}

fn number(left: &Value, packet: &Packet) -> u64 {
    u64::from(match text(&left["payload"], "field").unwrap() {
        "dport" => packet.low,
        "sport" => packet.source_port,
        "type" => packet.low >> 8,
        other => panic!("{other}"),
    })
}

fn is(left: &Value, right: &Value, seen: &Seen<'_>) -> bool {
    if let Some(all) = right.get("set").or(Some(right)).and_then(Value::as_array) {
        return all.iter().any(|one| is(left, one, seen));
    }
    let packet = seen.packet;
    if let Some(parts) = left.get("concat") {
        let both = parts.as_array().unwrap().iter().zip(list(right, "concat"));
        return has(left, packet) && { both }.all(|(part, value)| is(part, value, seen));
    }
    if let Some(key) = left.get("meta").and_then(|meta| text(meta, "key")) {
        return match key {
            "iifname" => right == seen.devices[0],
            "oifname" => right == seen.devices[1],
            "l4proto" => right
                .as_u64()
                .is_some_and(|number| number == u64::from(packet.protocol)),
            "nfproto" => (right == "ipv4") == packet.source.is_ipv4(),
            other => panic!("{other}"),
        };
    }
    if left.get("ct").is_some() {
        // To the kernel ICMP that neither asks nor answers a question is invalid.
        let asks = match packet.protocol {
            1 => matches!(packet.low >> 8, 8 | 13 | 15 | 17),
            58 => packet.low >> 8 == 128,
            _ => true,
        };
        let state = if seen.reply {
            "established"
        } else if asks {
            "new"
        } else {
            "invalid"
        };
        return right == state;
    }
    if !has(left, packet) {
        return false;
    }
    let address: Option<IpAddr> = match text(&left["payload"], "field") {
        Some("saddr") => Some(packet.source),
        Some("daddr") => Some(packet.destination),
        _ => None,
    };
    if let Some(address) = address {
        return match right.get("prefix") {
            Some(prefix) => in_block(
                address,
                &format!("{}/{}", prefix["addr"].as_str().unwrap(), prefix["len"]),
            ),
            None => right.as_str().unwrap().parse::<IpAddr>().unwrap() == address,
        };
    }
    match right.get("range") {
        Some(range) => (range[0].as_u64().unwrap()..=range[1].as_u64().unwrap())
            .contains(&number(left, packet)),
        None => right.as_u64() == Some(number(left, packet)),
    }
}

fn prefix(random: &mut Rng, six: bool) -> Value {
    let all: &[(&str, u8)] = if six {
        &[
            ("fd00:50:1::", 48),
            ("fd00:50::", 33),
            ("fd00:208::", 33),
            ("fd00:200:8000::", 33),
        ]
    } else {
        &[
            ("10.50.0.0", 16),
            ("10.51.3.0", 24),
            ("10.208.0.0", 15),
            ("10.200.0.0", 15),
            ("10.51.3.7", 32),
        ]
    };
    let (address, length) = pick(random, all);
    json!({ "prefix": { "addr": address, "len": length } })
}

fn field(protocol: &str, field: &str) -> Value {
    json!({ "payload": { "protocol": protocol, "field": field } })
}

fn ports(random: &mut Rng) -> Value {
    let first = random.u16(18..30);
    match random.u8(0..3) {
        0 => json!(first),
        1 => json!({ "range": [first, first + random.u16(0..5)] }),
        _ => json!({ "set": [first, { "range": [first + 2, first + 4] }] }),
    }
}

fn random_match(random: &mut Rng) -> Value {
    let no = if random.u8(0..3) == 0 { "!=" } else { "==" };
    let six = random.u8(0..3) == 0;
    let family = if six { "ip6" } else { "ip" };
    let (left, op, right) = match random.u8(0..9) {
        0..=2 => (
            field(family, pick(random, &["saddr", "daddr"])),
            no,
            prefix(random, six),
        ),
        3 | 4 => (
            field(
                pick(random, &["tcp", "udp"]),
                pick(random, &["dport", "dport", "sport"]),
            ),
            no,
            ports(random),
        ),
        5 => (
            field("tcp", "dport"),
            pick(random, &["<", ">="]),
            json!(random.u16(20..28)),
        ),
        6 => (
            json!({ "ct": { "key": "state" } }),
            pick(random, &["in", "!="]),
            pick(
                random,
                &[
                    json!("new"),
                    json!(["established", "related"]),
                    json!("invalid"),
                ],
            ),
        ),
        7 => (
            json!({ "meta": { "key": pick(random, &["iifname", "oifname"]) } }),
            no,
            pick(random, &[json!("m0"), json!("m1"), json!("lo")]),
        ),
        _ => match random.u8(0..3) {
            0 => (
                json!({ "meta": { "key": "l4proto" } }),
                no,
                json!({ "set": [6, pick(random, &[17, 47])] }),
            ),
            1 => (
                json!({ "meta": { "key": "nfproto" } }),
                no,
                json!(if six { "ipv6" } else { "ipv4" }),
            ),
            _ => (field("icmp", "type"), no, json!({ "set": [8, 13] })),
        },
    };
    json!({ "match": { "op": op, "left": left, "right": right } })
}

fn verdict(random: &mut Rng, to: &[String]) -> Value {
    match random.u8(0..9) {
        0..=2 => json!({ "accept": null }),
        3 | 4 => json!({ "drop": null }),
        5 => json!({ "return": null }),
        6 => json!({ "reject": null }),
        word if !to.is_empty() => {
            let target = json!({ "target": pick(random, to) });
            if word == 7 {
                json!({ "jump": target })
            } else {
                json!({ "goto": target })
            }
        }
        _ => json!({ "accept": null }),
    }
}

/// A rule set in JSON, as `nft -j list ruleset` gives it.
pub fn rule_set(random: &mut Rng) -> Value {
    let mut all = Vec::new();
    for table in 0..random.usize(1..4) {
        let (family, table) = (
            pick(random, &["inet", "inet", "ip", "ip6"]),
            format!("t{table}"),
        );
        let own: Vec<String> = (0..random.usize(0..4)).map(|at| format!("c{at}")).collect();
        let mut chains: Vec<(String, Vec<String>, Option<&str>)> = own
            .iter()
            .enumerate()
            .map(|(at, name)| (name.clone(), own[at + 1..].to_vec(), None))
            .collect();
        for hook in ["input", "output", "forward"] {
            if random.u8(0..4) > 0 {
                chains.push((hook.to_owned(), own.clone(), Some(hook)));
            }
        }
        let mut handle = 0;
        for (name, to, hook) in chains {
            let mut chain = json!({ "family": family, "table": table, "name": name });
            if let Some(hook) = hook {
                let policy = pick(random, &["accept", "drop"]);
                let base = json!({ "type": "filter", "hook": hook, "prio": random.i32(-5..5) * 8 + i32::from(table.ends_with('1')), "policy": policy });
                chain
                    .as_object_mut()
                    .unwrap()
                    .extend(base.as_object().unwrap().clone());
            }
            all.push(json!({ "chain": chain }));
            for _ in 0..random.usize(0..6) {
                handle += 1;
                let mut expr: Vec<Value> = (0..random.usize(0..4))
                    .map(|_| random_match(random))
                    .collect();
                let last = match random.u8(0..8) {
                    0 => json!({ "counter": { "packets": 0, "bytes": 0 } }),
                    1 => {
                        let elements = json!([[20, verdict(random, &to)], [{ "range": [22, 24] }, verdict(random, &to)]]);
                        json!({ "vmap": { "key": field(pick(random, &["tcp", "udp"]), "dport"), "data": { "set": elements } } })
                    }
                    2 => {
                        let pair = |random: &mut Rng| json!({ "concat": [prefix(random, false), { "range": [20, 23] }] });
                        let set = json!({ "set": [pair(random), { "concat": ["10.51.3.7", 25] }] });
                        let left =
                            json!({ "concat": [field("ip", "saddr"), field("tcp", "dport")] });
                        expr.push(json!({ "match": { "op": "==", "left": left, "right": set } }));
                        verdict(random, &to)
                    }
                    _ => verdict(random, &to),
                };
                expr.push(last);
                all.push(json!({ "rule": { "family": family, "table": table, "chain": name, "handle": handle, "expr": expr } }));
            }
        }
    }
    json!({ "nftables": all })
}
