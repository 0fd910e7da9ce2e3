//! From what a machine decides to the items of a snapshot.

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

/// A firewall that forwards: its interfaces, policy, routes and translations.
pub(super) fn firewall(
    rules: &Rules,
    machine: &Machine,
    name: &str,
    beside: Option<&Estate>,
    hosts: bool,
) -> Result<Part, Refused> {
    let mut part = Part::default();
    let mut machine = machine.clone();
    let start = Condition {
        from: Devices::any(),
        to: Devices::any(),
        ..Condition::all()
    };
    let new = rules.decided(&PASSED_ON, Known::New, &start)?;
    let replies = rules.decided(&PASSED_ON, Known::Reply, &start)?;
    let entries = without_idle_copies(with_replies(new.clone(), &replies, &new)?);
    let (listed, default) = listed(&entries, &start, Shape::Between(&rules.devices), name);
    let policy = json!({ "id": name, "default": default.word(), "rules": listed });
    part.put("firewall_policies", policy);
    let mut lacking: Vec<String> = Vec::new();
    let before = translations(
        rules.translated(Hook::Prerouting, &start)?,
        &rules.devices,
        true,
        &mut lacking,
    );
    let behind = translations(
        rules.translated(Hook::Postrouting, &start)?,
        &rules.devices,
        false,
        &mut lacking,
    );
    let filtered_before = rules.decided(&[Hook::Prerouting], Known::New, &start)?;
    if !before.is_empty()
        && filtered_before
            .iter()
            .any(|entry| entry.fate != Fate::Ends(Action::Allow))
    {
        lacking.push(
            "chains before the translation see other destinations than the policy".to_owned(),
        );
    }
    let outgoing = machine.outgoing();
    let default_by = |device: &str| {
        let all = ["0.0.0.0/0", "::/0"];
        outgoing
            .iter()
            .any(|(name, to)| name == device && to.iter().any(|to| all.contains(&to.as_str())))
            || machine
                .routes
                .iter()
                .any(|route| route.device.as_deref() == Some(device) && route.gateway.is_some())
    };
    if beside.is_none() {
        part.put("estate", json!({ "name": name }));
    }
    let mut legs: Vec<(String, String)> = Vec::new();
    for device in machine
        .devices
        .iter()
        .filter(|device| !device.addresses.is_empty())
    {
        let own = format!("{name}-{}", device.name);
        match beside {
            None => {
                part.put(
                    "networks",
                    json!({ "id": own, "blocks": connected(device), "main_table": own }),
                );
                let mut to = Vec::new();
                if default_by(&device.name) {
                    put_beyond(&mut part, &own);
                } else {
                    to.push(json!({ "to": ["0.0.0.0/0", "::/0"], "next_hop": format!("firewall:{name}") }));
                }
                part.put(
                    "route_tables",
                    json!({ "id": own, "network": own, "routes": to }),
                );
                put_place(&mut part, &own, device, name, true);
                if hosts {
                    put_hosts(&mut part, device, &own);
                }
                legs.push((device.name.clone(), own));
            }
            Some(estate) => match known_in(estate, device) {
                Some(interface) => legs.push((device.name.clone(), interface.to_owned())),
                None => {
                    let holds = |address| {
                        estate
                            .subnets
                            .items()
                            .iter()
                            .find(move |subnet| subnet.blocks.contains(address))
                    };
                    let Some(subnet) = device
                        .addresses
                        .iter()
                        .find_map(|(address, _)| holds(*address))
                    else {
                        let addresses = own_addresses(device).join(", ");
                        part.read.remarks.push(format!(
                            "{} holds {addresses}: that is in no subnet of the estate",
                            device.name
                        ));
                        continue;
                    };
                    let fields = json!({ "id": own, "subnet": &*subnet.name, "addresses": own_addresses(device), "forwards": true });
                    part.put("interfaces", fields);
                    legs.push((device.name.clone(), own));
                }
            },
        }
    }
    if beside.is_none() && !legs.is_empty() {
        let reason = "a machine's own files do not tell by which ways packets come to its networks from beyond";
        part.put(
            "gaps",
            json!({ "object": format!("gateway:{name}-beyond"), "lacks": "everything", "reason": reason }),
        );
    }
    if machine.devices.is_empty() {
        // A policy on its own is an estate too: its rules are judged.
        part.read
            .remarks
            .push("without `ip -j addr` there is a policy, and no firewall that has it".to_owned());
        put_unknown_sets(&mut part, name);
        return Ok(part);
    }
    let interface_of = |device: &str| {
        legs.iter()
            .find(|(name, _)| name == device)
            .map(|(_, interface)| interface.clone())
    };
    let mut routes = Vec::new();
    for (device, to) in &outgoing {
        match interface_of(device) {
            Some(interface) => routes.push(json!({ "to": to, "interface": interface })),
            None => machine
                .unclear
                .push(format!("routes lead out by {device}, which has no address")),
        }
    }
    let given = machine.routed.then(|| json!(routes));
    if !machine.routed {
        machine.unclear.push(
            "without `ip -j route` nothing tells by which interface packets leave".to_owned(),
        );
    }
    let fields = json!({
        "id": name,
        "interfaces": legs.iter().map(|(zone, interface)| json!({ "interface": interface, "zone": zone })).collect::<Vec<_>>(),
        "policy": name,
        "policy_sees": "translated",
    });
    let list = |all: Vec<Json>| (!all.is_empty()).then(|| json!(all));
    let more = vec![
        ("destination_translations", list(before)),
        ("source_translations", list(behind)),
        ("routes", given),
    ];
    part.put("firewalls", object(fields, more));
    for (lacks, whys) in [("rules", lacking), ("routes", machine.unclear.clone())] {
        if !whys.is_empty() {
            let mut whys = whys;
            whys.sort();
            whys.dedup();
            let reason = whys.join("; ");
            part.put(
                "gaps",
                json!({ "object": format!("firewall:{name}"), "lacks": lacks, "reason": reason }),
            );
            part.read.remarks.extend(whys);
        }
    }
    put_unknown_sets(&mut part, name);
    Ok(part)
}

/// Translations in their order, as products that lie apart from what is not translated before them.
fn translations(
    entries: Vec<Entry>,
    devices: &Devices,
    of_destination: bool,
    lacking: &mut Vec<String>,
) -> Vec<Json> {
    let mut spared: Vec<Condition> = Vec::new();
    let (mut found, mut names) = (Vec::new(), Names::default());
    for entry in entries {
        let Entry {
            condition,
            fate,
            label,
            ..
        } = entry;
        if !condition.unknown.is_empty() {
            lacking.push(format!(
                "of the translation {} something is not understood",
                label.id
            ));
            continue;
        }
        match fate {
            Fate::Ends(Action::Allow) => spared.push(condition),
            Fate::Ends(_) => lacking.push(format!(
                "{} drops packets where they are translated",
                label.id
            )),
            Fate::Translated(how) => {
                for piece in spared.iter().fold(vec![condition], minus) {
                    found.extend(translation(
                        &piece,
                        &how,
                        &label,
                        devices,
                        of_destination,
                        &mut names,
                        lacking,
                    ));
                }
            }
        }
    }
    found
}

fn translation(
    condition: &Condition,
    how: &Translation,
    label: &Rc<Label>,
    devices: &Devices,
    of_destination: bool,
    names: &mut Names,
    lacking: &mut Vec<String>,
) -> Option<Json> {
    let condition = trimmed(condition, of_destination);
    if condition.source_ports != all_ports() {
        lacking.push(format!(
            "the translation {} asks for source ports",
            label.id
        ));
        return None;
    }
    let to = match (how.to, of_destination) {
        (None, true) => match &condition.destination.ranges().collect::<Vec<_>>()[..] {
            [one] if one.first == one.last => Some(one.to_string()),
            _ => {
                lacking.push(format!(
                    "the translation {} changes the port at several addresses",
                    label.id
                ));
                return None;
            }
        },
        (to, _) => to.map(|to| to.to_string()),
    };
    let zones = |numbers: &Intervals| devices.named(numbers).map(|named| json!(named));
    let (from, out) = (
        zones(&condition.from),
        zones(&condition.to).filter(|_| !of_destination),
    );
    if [&from, &out]
        .into_iter()
        .flatten()
        .any(|zones| zones.as_array().is_some_and(Vec::is_empty))
    {
        return None;
    }
    let more = vec![
        ("from_zones", from),
        ("to_zones", out),
        ("sources", peers(&condition.source).map(|all| json!(all))),
        (
            "destinations",
            peers(&condition.destination).map(|all| json!(all)),
        ),
        (
            "services",
            services(&condition.services).map(|all| json!(all)),
        ),
        ("to", to.map(Json::from)),
        ("port", how.port.map(Json::from)),
        ("description", label.comment.clone().map(Json::from)),
    ];
    Some(object(json!({ "id": names.of(label) }), more))
}
