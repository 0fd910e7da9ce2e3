//! From what a machine decides to the items of a snapshot.

mod firewall;

pub(super) use firewall::firewall;

use super::chains::{
    Entry, Fate, Known, Refused, Rules, Translation, with_replies, without_idle_copies,
};
use super::machine::{Device, Machine};
use super::{Hook, PASSED_ON, RECEIVED, SENT};
use crate::open::condition::{Condition, Devices, all_ports, minus};
use crate::open::part::Part;
use crate::open::rules::{
    Label, Names, Shape, Stated, peers, put_unknown_sets, rule, services, trimmed,
};
use heronshale_model::estate::{Action, Estate};
use heronshale_sets::address::Range;
use heronshale_sets::intervals::Intervals;
use serde_json::{Map, Value as Json, json};
use std::rc::Rc;

/// A list of rules, and what happens to the rest.
fn listed(
    entries: &[Entry],
    start: &Condition,
    shape: Shape<'_>,
    name: &str,
) -> (Vec<Json>, Action) {
    let mut entries = entries;
    let mut default = Action::Deny;
    // What is allowed by default keeps state: an entry whose replies are looked at stays written.
    if let Some((last, before)) = entries.split_last()
        && last.condition.covers(start)
        && !last.stateless
        && let Fate::Ends(action) = last.fate
    {
        (entries, default) = (before, action);
    }
    let mut names = Names::default();
    let stated = |entry: &Entry| {
        let Fate::Ends(action) = entry.fate else {
            return None;
        };
        let stated = Stated {
            condition: &entry.condition,
            action,
            label: &entry.label,
            stateless: entry.stateless,
        };
        rule(&stated, shape, name, &mut names)
    };
    (entries.iter().filter_map(stated).collect(), default)
}

/// What is received by an interface, and what is sent.
fn both_ways(rules: &Rules, device: &Intervals) -> Result<[(Vec<Entry>, Condition); 2], Refused> {
    let received = Condition {
        from: device.clone(),
        to: Devices::none(),
        ..Condition::all()
    };
    let sent = Condition {
        from: Devices::none(),
        to: device.clone(),
        ..Condition::all()
    };
    let decide = |hooks: &[Hook], known, start: &Condition| rules.decided(hooks, known, start);
    let new = [
        decide(&RECEIVED, Known::New, &received)?,
        decide(&SENT, Known::New, &sent)?,
    ];
    let replies = [
        decide(&RECEIVED, Known::Reply, &received)?,
        decide(&SENT, Known::Reply, &sent)?,
    ];
    let inbound = with_replies(new[0].clone(), &replies[1], &new[1])?;
    let outbound = with_replies(new[1].clone(), &replies[0], &new[0])?;
    // A workload's own firewall translates nothing: what is translated before or behind it may fare in any way.
    let translated = |hook, start: &Condition| -> Result<Vec<Entry>, Refused> {
        let mut found = Vec::new();
        for entry in rules.translated(hook, start)? {
            // What the machine sends bears its own address already: to be given that of the interface changes nothing.
            let own = hook == Hook::Postrouting
                && matches!(&entry.fate, Fate::Translated(how) if how.to.is_none());
            if own || entry.fate == Fate::Ends(Action::Allow) {
                continue;
            }
            let why = Condition::unknown("it is translated");
            let condition = entry.condition.and(&why);
            found.push(Entry {
                condition,
                fate: Fate::Ends(Action::Allow),
                ..entry.clone()
            });
            let condition = Condition {
                unknown: std::collections::BTreeSet::new(),
                ..entry.condition
            };
            let maybe = !entry.condition.unknown.is_empty();
            let condition = if maybe {
                condition.and(&why)
            } else {
                condition
            };
            found.push(Entry {
                condition,
                fate: Fate::Ends(Action::Deny),
                label: entry.label,
                stateless: false,
            });
        }
        Ok(found)
    };
    let mut in_front = translated(Hook::Prerouting, &received)?;
    in_front.extend(inbound);
    let mut behind = translated(Hook::Output, &sent)?;
    behind.extend(translated(Hook::Postrouting, &sent)?);
    behind.extend(outbound);
    Ok([
        (without_idle_copies(in_front), received),
        (without_idle_copies(behind), sent),
    ])
}

/// What else is in the networks of a device: an interface that holds all other addresses, so that hosts can be asked about.
fn put_hosts(part: &mut Part, device: &Device, own: &str) {
    let held: Vec<Range> = device
        .addresses
        .iter()
        .map(|(address, _)| Range::single(*address))
        .collect();
    let mut open: Vec<Range> = device
        .addresses
        .iter()
        .map(|(_, block)| block.range)
        .collect();
    let mut addresses = Vec::new();
    while let Some(range) = open.pop() {
        if !held.iter().any(|own| {
            own.family == range.family && (range.first..=range.last).contains(&own.first)
        }) {
            addresses.push(range.to_string());
        } else if range.first < range.last {
            let middle = range.first + (range.last - range.first) / 2;
            open.extend([
                Range {
                    first: middle + 1,
                    ..range
                },
                Range {
                    last: middle,
                    ..range
                },
            ]);
        }
    }
    addresses.dedup();
    if addresses.is_empty() {
        return;
    }
    let words =
        "all other addresses of the network: whoever holds them, without rules of their own";
    let fields = json!({ "id": format!("{own}-hosts"), "subnet": own, "addresses": addresses, "description": words });
    part.put("interfaces", fields);
}

/// A gap beside everything: what lies beyond the machine's own networks.
fn put_beyond(part: &mut Part, table: &str) {
    let reason = "a machine's own files do not tell what lies beyond its networks";
    part.put(
        "gaps",
        json!({ "object": format!("table:{table}"), "lacks": "routes", "reason": reason }),
    );
}

fn object(fields: Json, more: Vec<(&str, Option<Json>)>) -> Json {
    let Json::Object(mut fields) = fields else {
        return fields;
    };
    fields.extend(
        more.into_iter()
            .filter_map(|(name, value)| value.map(|value| (name.to_owned(), value))),
    );
    Json::Object(fields)
}

/// The prefixes that an interface reaches by itself.
fn connected(device: &Device) -> Vec<String> {
    let mut found: Vec<String> = device
        .addresses
        .iter()
        .map(|(_, block)| block.range.to_string())
        .collect();
    found.sort();
    found.dedup();
    found
}

fn own_addresses(device: &Device) -> Vec<String> {
    device
        .addresses
        .iter()
        .map(|(address, _)| address.to_string())
        .collect()
}

/// The interface of an estate that holds one of a device's addresses.
fn known_in<'e>(estate: &'e Estate, device: &Device) -> Option<&'e str> {
    let holds = |address| {
        estate
            .interfaces
            .items()
            .iter()
            .find(move |one| one.addresses.contains(address))
    };
    device
        .addresses
        .iter()
        .find_map(|(address, _)| holds(*address))
        .map(|one| &*one.name)
}

/// A workload's own firewall, at each of its interfaces.
pub(super) fn own_firewall(
    rules: &Rules,
    machine: &Machine,
    name: &str,
    beside: Option<&Estate>,
) -> Result<Part, Refused> {
    let mut part = Part::default();
    // Without its addresses: the interfaces that rules name, and any other.
    let mut places: Vec<Option<&str>> = machine
        .devices
        .iter()
        .map(|device| Some(device.name.as_str()))
        .collect();
    if places.is_empty() {
        places = rules
            .devices
            .names()
            .iter()
            .map(|name| Some(name.as_str()))
            .chain([None])
            .collect();
    }
    let mut lists: Vec<(Json, Vec<Option<&str>>)> = Vec::new();
    for place in places {
        let [(received, start), (sent, other_start)] = both_ways(rules, &rules.devices.one(place))?;
        let (inbound, default_inbound) = listed(&received, &start, Shape::Received, name);
        let (outbound, default_outbound) = listed(&sent, &other_start, Shape::Sent, name);
        let decided = json!({
            "default_inbound": default_inbound.word(), "default_outbound": default_outbound.word(),
            "inbound": inbound, "outbound": outbound,
        });
        match lists.iter_mut().find(|(other, _)| *other == decided) {
            Some((_, places)) => places.push(place),
            None => lists.push((decided, vec![place])),
        }
    }
    let alone = lists.len() == 1;
    if machine.devices.is_empty() {
        let words =
            "without `ip -j addr` no interface has it: name it as `own_firewall` where it stands";
        part.read.remarks.push(words.to_owned());
    }
    if let Some(estate) = beside {
        for device in machine
            .devices
            .iter()
            .filter(|device| known_in(estate, device).is_none())
        {
            let addresses = own_addresses(device).join(", ");
            let held = if addresses.is_empty() {
                "has no address".to_owned()
            } else {
                format!("holds {addresses}")
            };
            part.read.remarks.push(format!(
                "{} {held}: no interface of the estate does",
                device.name
            ));
        }
    } else if !machine.devices.is_empty() {
        part.put("estate", json!({ "name": name }));
        let blocks: Vec<String> = machine.devices.iter().flat_map(connected).collect();
        part.put(
            "networks",
            json!({ "id": name, "blocks": blocks, "main_table": name }),
        );
        part.put(
            "route_tables",
            json!({ "id": name, "network": name, "routes": [] }),
        );
        put_beyond(&mut part, name);
        part.put("workloads", json!({ "id": name }));
    }
    for (decided, places) in lists {
        let id = match places.first() {
            Some(Some(first)) if !alone => format!("{name}-{first}"),
            _ => name.to_owned(),
        };
        let found: Vec<&Device> = places
            .iter()
            .flatten()
            .filter_map(|place| machine.device(place))
            .collect();
        let bound: Vec<String> = match beside {
            Some(estate) => found
                .iter()
                .filter_map(|device| known_in(estate, device))
                .map(str::to_owned)
                .collect(),
            None => found
                .iter()
                .filter(|device| !device.addresses.is_empty())
                .map(|device| format!("{name}-{}", device.name))
                .collect(),
        };
        if beside.is_none() {
            for device in found.iter().filter(|device| !device.addresses.is_empty()) {
                put_place(&mut part, name, device, name, false);
                if let Some(interface) = part
                    .sections
                    .get_mut("interfaces")
                    .and_then(|all| all.last_mut())
                {
                    interface["workload"] = name.into();
                }
            }
        }
        let Json::Object(decided) = decided else {
            continue;
        };
        let mut item = Map::new();
        item.insert("id".to_owned(), id.into());
        item.extend(decided);
        if !bound.is_empty() {
            item.insert("interfaces".to_owned(), json!(bound));
        }
        part.put("own_firewalls", Json::Object(item));
    }
    put_unknown_sets(&mut part, name);
    Ok(part)
}

/// A subnet of a device, and its interface in it.
fn put_place(part: &mut Part, network: &str, device: &Device, name: &str, forwards: bool) {
    let id = format!("{name}-{}", device.name);
    part.put(
        "subnets",
        json!({ "id": id, "network": network, "blocks": connected(device) }),
    );
    let fields = json!({ "id": id, "subnet": id, "addresses": own_addresses(device) });
    part.put(
        "interfaces",
        object(fields, vec![("forwards", forwards.then(|| true.into()))]),
    );
}
