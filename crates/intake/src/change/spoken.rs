//! Changes in words, as people say them aloud.

use super::failing::WAY_OUT;
use super::rehearse::{NoChange, id_of, wrong};
use super::words;
use crate::reading::did_you_mean;
use serde_json::{Map, Value, json};

/// The forms in words.
const FORMS: &str = "write remove KIND NAME, disable (or enable) rule GROUP/RULE, down (or up) KIND NAME, attach table NAME to subnet NAME, \
    add rule GROUP/RULE SERVICES from PEERS, link network NAME to hub NAME, or give public address ADDRESS to interface NAME";

/// A section, and lists of its items.
type Lists = (&'static str, &'static [&'static str]);

/// Where elements of a kind stand: the section, and the lists of an item.
const ELEMENTS: [(&str, &[Lists]); 5] = [
    (
        "rule",
        &[
            ("security_groups", &["inbound", "outbound"]),
            ("network_acls", &["inbound", "outbound"]),
            ("scope_policies", &["inbound", "outbound"]),
            ("own_firewalls", &["inbound", "outbound"]),
            ("firewall_policies", &["rules"]),
        ],
    ),
    ("route", &[("route_tables", &["routes"])]),
    ("link", &[("hubs", &["links"])]),
    ("member", &[("firewalls", &["members"])]),
    ("back end", &[("balancers", &["back_ends"])]),
];

/// One change in words.
pub(super) fn in_words(whole: &mut Map<String, Value>, text: &str) -> Result<(), NoChange> {
    let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
    let Some((verb, rest)) = text.split_once(' ') else {
        return Err(wrong(format!("`{text}` is no change"), FORMS));
    };
    match verb {
        "remove" => remove(whole, rest),
        "take" => {
            // `from interface NAME` says nothing that is not known.
            let what = rest.split(" from ").next().unwrap_or(rest);
            remove(whole, what)
        }
        "disable" | "enable" => {
            let (kind, name) = kind_of(rest)?;
            if !matches!(kind, "rule" | "route") {
                return Err(wrong(
                    format!("{kind} {name} cannot be {verb}d"),
                    format!("{verb} a rule or a route; `down` and `up` are for devices"),
                ));
            }
            let found = element(whole, kind, name)?;
            found.0[found.1]["enabled"] = json!(verb == "enable");
            Ok(())
        }
        "down" => set_up(whole, rest, false),
        "up" => set_up(whole, rest, true),
        "attach" => attach(whole, rest),
        "add" => add(whole, rest),
        "link" => link(whole, rest),
        "give" => give(whole, rest),
        _ => Err(wrong(format!("`{verb}` is no kind of change"), FORMS)),
    }
}

/// The kind at the beginning of some words, and the name behind it.
fn kind_of(text: &str) -> Result<(&'static str, &str), NoChange> {
    let kinds = || words::NOUNS.iter().map(|(_, noun)| *noun);
    let kinds = kinds().chain(ELEMENTS.iter().map(|(kind, _)| *kind));
    let mut found: Vec<(&'static str, &str)> = kinds
        .clone()
        .filter_map(|kind| {
            let name = text.strip_prefix(kind)?.strip_prefix(' ')?;
            Some((kind, name))
        })
        .collect();
    found.sort_by_key(|(kind, _)| std::cmp::Reverse(kind.len()));
    found.first().copied().ok_or_else(|| {
        let first = text.split(' ').next().unwrap_or_default();
        let all: Vec<&str> = kinds.clone().collect();
        let help = did_you_mean(first, kinds)
            .unwrap_or_else(|| format!("the kinds are {}", all.join(", ")));
        wrong(format!("`{text}` names no kind of thing"), help)
    })
}

fn remove(whole: &mut Map<String, Value>, text: &str) -> Result<(), NoChange> {
    let (kind, name) = kind_of(text)?;
    if ELEMENTS.iter().any(|(element, _)| *element == kind) {
        let (list, at) = element(whole, kind, name)?;
        list.remove(at);
        return Ok(());
    }
    let (section, at) = item(whole, kind, name)?;
    if let Some(Value::Array(items)) = whole.get_mut(section) {
        items.remove(at);
    }
    Ok(())
}

/// An item of a kind: its section, and its place there.
fn item(
    whole: &Map<String, Value>,
    kind: &str,
    name: &str,
) -> Result<(&'static str, usize), NoChange> {
    let section = words::NOUNS.iter().find(|(_, noun)| *noun == kind);
    let section = section.map_or("estate", |(section, _)| *section);
    let none = Vec::new();
    let items = whole
        .get(section)
        .and_then(Value::as_array)
        .unwrap_or(&none);
    let ids: Vec<String> = items.iter().map(|item| id_of(section, item)).collect();
    let place = ids.iter().position(|id| id == name);
    place.map(|at| (section, at)).ok_or_else(|| {
        let help = did_you_mean(name, ids.iter().map(String::as_str))
            .unwrap_or_else(|| "`heronshale inventory` lists what there is".to_owned());
        wrong(format!("there is no {kind} called `{name}`"), help)
    })
}

/// An element of a kind, as `OF/NAME`: its list, and its place there.
fn element<'w>(
    whole: &'w mut Map<String, Value>,
    kind: &str,
    name: &str,
) -> Result<(&'w mut Vec<Value>, usize), NoChange> {
    let Some((of, id)) = name.rsplit_once('/') else {
        return Err(wrong(
            format!("`{name}` names no {kind}"),
            format!("write {kind} OF/NAME: the item in which it stands, and its own name"),
        ));
    };
    let places = ELEMENTS.iter().find(|(element, _)| *element == kind);
    let places = places.map_or(&[][..], |(_, places)| places);
    let mut found: Option<(&str, usize, &str, usize)> = None;
    let mut names = Vec::new();
    for (section, lists) in places {
        let items = whole.get(*section).and_then(Value::as_array);
        for (at, item) in items.into_iter().flatten().enumerate() {
            if id_of(section, item) != of {
                continue;
            }
            for list in *lists {
                for (place, one) in elements_of(&item[*list]).iter().enumerate() {
                    let known = ["id", "interface", "address"];
                    let known = known.iter().find_map(|field| one[*field].as_str());
                    names.extend(known.map(|known| format!("{of}/{known}")));
                    if known == Some(id) {
                        found = found.or(Some((section, at, list, place)));
                    }
                }
            }
        }
    }
    let Some((section, at, list, place)) = found else {
        let help = did_you_mean(name, names.iter().map(String::as_str))
            .unwrap_or_else(|| "`heronshale inventory` lists what there is".to_owned());
        return Err(wrong(format!("there is no {kind} called `{name}`"), help));
    };
    let list = whole
        .get_mut(section)
        .and_then(|items| as_list(&mut items[at][list]));
    list.map(|list| (list, place))
        .ok_or_else(|| wrong(format!("there is no {kind} called `{name}`"), FORMS))
}

/// The elements of a list; one value alone stands for a list of one.
fn elements_of(value: &Value) -> &[Value] {
    match value {
        Value::Array(all) => all,
        Value::Null => &[],
        one => std::slice::from_ref(one),
    }
}

/// The same to be changed; none of what is not there.
fn as_list(value: &mut Value) -> Option<&mut Vec<Value>> {
    if value.is_object() {
        *value = Value::Array(vec![value.take()]);
    }
    value.as_array_mut()
}

/// Something fails, or comes back.
/// The gateways to which routes of a subnet's table lead.
pub(super) fn gateways_of(
    whole: &Map<String, Value>,
    subnet: &str,
) -> Result<Vec<String>, NoChange> {
    let (section, at) = item(whole, "subnet", subnet)?;
    let one = &whole[section][at];
    let named = |section: &str, id: &Value| -> Value {
        let all = whole.get(section).map_or(&[][..], elements_of);
        let found = all.iter().find(|item| item["id"] == *id);
        found.cloned().unwrap_or_default()
    };
    let table = match &one["route_table"] {
        Value::Null => named("networks", &one["network"])["main_table"].clone(),
        own => own.clone(),
    };
    let table = named("route_tables", &table);
    let routes = elements_of(&table["routes"]).iter();
    let up = routes.filter(|route| route["enabled"] != json!(false));
    let mut found: Vec<String> = up
        .filter_map(|route| route["next_hop"].as_str()?.strip_prefix("gateway:"))
        .map(str::to_owned)
        .collect();
    found.sort_unstable();
    found.dedup();
    if found.is_empty() {
        return Err(wrong(
            format!("no route of subnet {subnet} leads to a gateway"),
            "name what is to be down: a firewall, a peering, a link",
        ));
    }
    Ok(found)
}

fn set_up(whole: &mut Map<String, Value>, text: &str, up: bool) -> Result<(), NoChange> {
    if let Some(subnet) = text
        .strip_prefix(WAY_OUT)
        .and_then(|rest| rest.strip_prefix(' '))
    {
        for gateway in gateways_of(whole, subnet)? {
            set_up(whole, &format!("gateway {gateway}"), up)?;
        }
        return Ok(());
    }
    let (kind, name) = kind_of(text)?;
    match kind {
        "link" | "member" => {
            let (list, at) = element(whole, kind, name)?;
            list[at]["up"] = json!(up);
            return Ok(());
        }
        "back end" => {
            let (list, at) = element(whole, kind, name)?;
            list[at]["healthy"] = json!(up);
            return Ok(());
        }
        "peering" | "gateway" | "firewall" | "balancer" => {}
        _ => {
            return Err(wrong(
                format!("{kind} {name} cannot be down or up"),
                "down and up are for a gateway, link, peering, firewall, member, balancer, back end or way out of subnet",
            ));
        }
    }
    let (section, at) = item(whole, kind, name)?;
    let gateway = whole[section][at]["kind"].as_str().map(str::to_owned);
    if kind == "gateway" && !matches!(gateway.as_deref(), Some("internet" | "site")) {
        if up {
            return Err(wrong(
                format!("gateway {name} cannot be down in a snapshot, so it is up"),
                "enable the routes that lead to it",
            ));
        }
        leads_nowhere(whole, name, at);
        return Ok(());
    }
    let Some(one) = whole.get_mut(section).map(|items| &mut items[at]) else {
        return Ok(());
    };
    let each = |one: &mut Value, list: &str, field: &str| {
        for element in as_list(&mut one[list]).into_iter().flatten() {
            element[field] = json!(up);
        }
    };
    match kind {
        "peering" => each(one, "sides", "up"),
        "balancer" => each(one, "back_ends", "healthy"),
        "firewall" => {
            each(one, "members", "up");
            if elements_of(&one["members"]).is_empty() {
                one["members"] = json!([{ "id": "only", "up": up }]);
            }
        }
        _ if gateway.as_deref() == Some("internet") => one["attached"] = json!(up),
        _ => one["up"] = json!(up),
    }
    Ok(())
}

/// What is sent to a gateway is lost: the format has no word for such a gateway that is down.
fn leads_nowhere(whole: &mut Map<String, Value>, name: &str, at: usize) {
    let next_hop = json!(format!("gateway:{name}"));
    let skipped = |settings: &Value| {
        let said = settings["missing_next_hop"].as_str();
        said.map(|said| said == "skipped")
    };
    let everywhere = skipped(
        &whole
            .get("estate")
            .map_or(Value::Null, |one| one["settings"].clone()),
    );
    let networks = whole.get("networks").cloned().unwrap_or_default();
    let of_network = |id: &Value| {
        let mut all = elements_of(&networks).iter();
        all.find(|one| one["id"] == *id)
            .and_then(|one| skipped(&one["settings"]))
    };
    let tables = whole.get_mut("route_tables").and_then(Value::as_array_mut);
    for table in tables.into_iter().flatten() {
        let is_skipped = of_network(&table["network"])
            .or(everywhere)
            .unwrap_or(false);
        for route in as_list(&mut table["routes"]).into_iter().flatten() {
            if route["next_hop"] == next_hop {
                if is_skipped {
                    route["enabled"] = json!(false);
                } else {
                    route["next_hop"] = json!("blackhole");
                }
            }
        }
    }
    let gateways = whole.get_mut("gateways").and_then(Value::as_array_mut);
    if let Some(one) = gateways
        .and_then(|all| all.get_mut(at))
        .and_then(Value::as_object_mut)
    {
        one.remove("serves");
    }
}

/// Parts of a text between words, each once and in this order: `table A to subnet B`.
fn parts<'t, const N: usize>(text: &'t str, between: [&str; N]) -> Option<[&'t str; N]> {
    let mut rest = text;
    let mut found = [""; N];
    for (at, word) in between.iter().enumerate() {
        let (before, behind) = if at == 0 {
            ("", rest.strip_prefix(word)?.strip_prefix(' ')?)
        } else {
            rest.split_once(&format!(" {word} "))?
        };
        if at > 0 {
            found[at - 1] = before;
        }
        rest = behind;
    }
    found[N - 1] = rest;
    found.iter().all(|part| !part.is_empty()).then_some(found)
}

/// A subnet gets another table.
fn attach(whole: &mut Map<String, Value>, text: &str) -> Result<(), NoChange> {
    let Some([table, subnet]) = parts(text, ["table", "to subnet"]) else {
        return Err(wrong(
            format!("`attach {text}` is not understood"),
            "write attach table NAME to subnet NAME",
        ));
    };
    item(whole, "table", table)?;
    let (section, at) = item(whole, "subnet", subnet)?;
    whole[section][at]["route_table"] = json!(table);
    Ok(())
}

/// A group, ACL or policy gets a rule more.
fn add(whole: &mut Map<String, Value>, text: &str) -> Result<(), NoChange> {
    let help = "write add rule GROUP/RULE [allow|deny] SERVICES from|to PEERS [priority N], for example \
        \"add rule fares-db/replica tcp 5432 from group:fares-db\"";
    let misread = || wrong(format!("`add {text}` is not understood"), help);
    let rest = text.strip_prefix("rule ").ok_or_else(misread)?;
    let (rest, priority) = match rest.rsplit_once(" priority ") {
        Some((rest, number)) => (rest, Some(number.parse::<u32>().map_err(|_| misread())?)),
        None => (rest, None),
    };
    let (name, rest) = rest.split_once(' ').ok_or_else(misread)?;
    let (of, id) = name.rsplit_once('/').ok_or_else(misread)?;
    let (action, rest) = match rest.split_once(' ') {
        Some((word @ ("allow" | "deny" | "reject"), rest)) => (Some(word), rest),
        _ => (None, rest),
    };
    let sides = [("inbound", "from"), ("outbound", "to")];
    let found = sides.into_iter().find_map(|(list, word)| {
        let behind = rest.strip_prefix(&format!("{word} "));
        let whole = behind.map(|peers| ("any", peers));
        let parts = whole.or_else(|| rest.split_once(&format!(" {word} ")));
        parts.map(|(services, peers)| (list, services, peers))
    });
    let (list, services, peers) = found.ok_or_else(misread)?;
    let (section, at) = ["group", "ACL", "scope policy", "own firewall"]
        .into_iter()
        .find_map(|kind| item(whole, kind, of).ok())
        .map_or_else(|| item(whole, "group", of), Ok)?;
    if element(whole, "rule", name).is_ok() {
        return Err(wrong(
            format!("there is a rule called `{name}` already"),
            "give the new rule another name",
        ));
    }
    let texts = |all: &str| -> Value {
        let all = all.split(',').map(str::trim).filter(|one| !one.is_empty());
        let all: Vec<Value> = all.map(|one| json!(one)).collect();
        match all.as_slice() {
            [one] => one.clone(),
            _ => Value::Array(all),
        }
    };
    let mut rule = Map::from_iter([("id".to_owned(), json!(id))]);
    rule.extend(action.map(|action| ("action".to_owned(), json!(action))));
    rule.extend(priority.map(|number| ("priority".to_owned(), json!(number))));
    if services != "any" {
        rule.insert("services".to_owned(), texts(services));
    }
    rule.insert("peers".to_owned(), texts(peers));
    let rules = &mut whole[section][at][list];
    if rules.is_null() {
        *rules = json!([]);
    }
    as_list(rules)
        .into_iter()
        .for_each(|all| all.push(Value::Object(rule.clone())));
    Ok(())
}

/// A network gets a link to a hub, in the domains of another link.
fn link(whole: &mut Map<String, Value>, text: &str) -> Result<(), NoChange> {
    let Some([network, rest]) = parts(text, ["network", "to hub"]) else {
        return Err(wrong(
            format!("`link {text}` is not understood"),
            "write link network NAME to hub NAME, or link network NAME to hub NAME like LINK",
        ));
    };
    let (hub, like) = match rest.split_once(" like ") {
        Some((hub, like)) => (hub, Some(like)),
        None => (rest, None),
    };
    item(whole, "network", network)?;
    let (section, at) = item(whole, "hub", hub)?;
    let links = &mut whole[section][at]["links"];
    if links.is_null() {
        *links = json!([]);
    }
    let domains = |link: &Value| ["reads", "announces_into"].map(|field| link[field].clone());
    let of_networks = elements_of(links).iter().filter(|link| {
        let leads_to_network = link["to"]
            .as_str()
            .is_some_and(|to| to.starts_with("network:"));
        like.map_or(leads_to_network, |like| link["id"] == like)
    });
    let mut found: Vec<[Value; 2]> = of_networks.map(domains).collect();
    found.dedup();
    let [[reads, announces_into]] = found.as_slice() else {
        return Err(wrong(
            format!("hub {hub} does not say into which domains network {network} is linked"),
            format!("write link network {network} to hub {hub} like LINK, with a link of the hub"),
        ));
    };
    let mut link = Map::new();
    let taken = elements_of(links).iter().any(|link| link["id"] == *network);
    let id = if taken {
        format!("{network}-2")
    } else {
        network.to_owned()
    };
    link.insert("id".to_owned(), json!(id));
    link.insert("to".to_owned(), json!(format!("network:{network}")));
    for (field, value) in [("reads", reads), ("announces_into", announces_into)] {
        if !value.is_null() {
            link.insert(field.to_owned(), value.clone());
        }
    }
    as_list(links)
        .into_iter()
        .for_each(|all| all.push(Value::Object(link.clone())));
    Ok(())
}

/// An interface gets a public address.
fn give(whole: &mut Map<String, Value>, text: &str) -> Result<(), NoChange> {
    let Some([address, interface]) = parts(text, ["public address", "to interface"]) else {
        return Err(wrong(
            format!("`give {text}` is not understood"),
            "write give public address ADDRESS to interface NAME",
        ));
    };
    item(whole, "interface", interface)?;
    let given = json!({ "address": address, "interface": interface });
    let all = whole.entry("public_addresses").or_insert_with(|| json!([]));
    for one in as_list(all).into_iter().flatten() {
        if one["address"] == address {
            *one = given;
            return Ok(());
        }
    }
    as_list(all)
        .into_iter()
        .for_each(|all| all.push(given.clone()));
    Ok(())
}
