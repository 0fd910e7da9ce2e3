//! A firewall between networks as items of a snapshot.

use super::*;

/// A firewall that forwards: its interfaces, policy, routes and translations.
pub(in crate::open::linux) fn firewall(
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
pub(super) fn translations(
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

pub(super) fn translation(
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
