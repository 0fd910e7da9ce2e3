//! Whatever may be lacking is taken out of one estate, as a whole and in part, with and without its blocks: no command is certain then
//! of what was otherwise with it, and the commands agree.

use crate::folder::{Folder, yaml};
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};

const ESTATE: &str = include_str!("../../answers/parts.toml");

/// Who is asked about, and where: addresses, since names may be lacking.
const QUESTIONS: [(&str, &str, &str); 29] = [
    ("x", "10.1.2.9", "tcp 443"),
    ("x", "10.1.2.9", "tcp 81"),
    ("x", "10.1.2.9", "tcp 82"),
    ("x", "10.1.2.9", "tcp 83"),
    ("x", "10.1.2.9", "tcp 84"),
    ("x", "10.1.2.9", "tcp 88"),
    ("x", "10.2.1.4", "tcp 85"),
    ("x", "10.2.1.4", "tcp 86"),
    ("x", "10.3.0.1", "tcp 443"),
    ("x", "10.1.1.77", "tcp 443"),
    ("x", "10.1.2.80", "tcp 443"),
    ("x", "10.77.0.5", "tcp 443"),
    ("x", "192.168.0.7", "tcp 443"),
    ("y", "10.1.1.4", "tcp 443"),
    ("y", "10.1.1.4", "tcp 81"),
    ("y", "10.1.2.5", "tcp 443"),
    ("y", "10.1.2.80", "tcp 443"),
    ("y", "10.2.1.4", "tcp 443"),
    ("y", "198.51.100.9", "tcp 443"),
    ("k", "10.1.2.9", "tcp 443"),
    ("k", "10.1.1.4", "tcp 443"),
    ("k", "10.2.1.77", "tcp 443"),
    ("k", "192.168.0.7", "tcp 443"),
    ("x", "10.9.0.1", "tcp 443"),
    ("x", "10.1.2.77", "tcp 443"),
    ("k", "10.9.0.1", "tcp 443"),
    ("8.8.8.8", "203.0.113.80", "tcp 443"),
    ("internet", "203.0.113.1", "tcp 443"),
    ("internet", "203.0.113.2", "tcp 443"),
];

/// Items by section and name.
type Items = &'static [(&'static str, &'static str)];

/// What is lacking as a whole: its name, what goes with it, and its blocks if it has any.
const WHOLE: [(&str, Items, &str); 22] = [
    (
        "network:m",
        &[
            ("networks", "m"),
            ("subnets", "sm"),
            ("interfaces", "k"),
            ("route_tables", "tm"),
        ],
        "10.2.0.0/16",
    ),
    (
        "subnet:sm",
        &[("subnets", "sm"), ("interfaces", "k")],
        "10.2.1.0/24",
    ),
    ("interface:k", &[("interfaces", "k")], "10.2.1.4"),
    ("workload:v", &[("workloads", "v"), ("interfaces", "k")], ""),
    ("group:g", &[("security_groups", "g")], ""),
    ("own-firewall:o", &[("own_firewalls", "o")], ""),
    ("acl:a", &[("network_acls", "a")], ""),
    ("policy:p", &[("scope_policies", "p")], ""),
    ("firewall-policy:fp", &[("firewall_policies", "fp")], ""),
    ("table:t", &[("route_tables", "t")], ""),
    ("table:tf", &[("route_tables", "tf")], ""),
    ("table:tm", &[("route_tables", "tm")], ""),
    ("table:tg", &[("route_tables", "tg")], ""),
    ("gateway:ig", &[("gateways", "ig")], ""),
    ("gateway:sg", &[("gateways", "sg")], ""),
    ("peering:pe", &[("peerings", "pe")], ""),
    (
        "site:yard",
        &[("sites", "yard"), ("gateways", "sg")],
        "192.168.0.0/24",
    ),
    ("hub:h", &[("hubs", "h")], ""),
    (
        "firewall:fw",
        &[("firewalls", "fw"), ("interfaces", "leg")],
        "",
    ),
    (
        "balancer:b",
        &[("balancers", "b"), ("interfaces", "px")],
        "10.1.2.5",
    ),
    (
        "service:svc",
        &[("services", "svc"), ("interfaces", "door")],
        "10.1.2.80, 203.0.113.80",
    ),
    ("set:set", &[("address_sets", "set")], ""),
];

fn text(value: &Value) -> &str {
    value.as_str().unwrap_or("")
}

fn items<'j>(value: &'j Value, key: &str) -> &'j [Value] {
    value[key].as_array().map_or(&[], Vec::as_slice)
}

/// What every command says of every question.
#[derive(Default)]
struct Told {
    paths: BTreeMap<usize, String>,
    /// Of the question, whether it may reach or never does.
    sentences: BTreeMap<(usize, &'static str), &'static str>,
    /// Who is reached, and whether for certain.
    reached: BTreeMap<(String, String), bool>,
    /// What the filters of an interface do, by question and direction.
    filters: BTreeMap<(usize, String), &'static str>,
    /// Whether something is open of an address, or unknown.
    exposed: BTreeMap<String, (bool, bool)>,
}

const SENTENCES: [&str; 2] = ["may_reach", "never_reaches"];

fn sentences() -> String {
    let all = QUESTIONS.iter().enumerate().flat_map(|(at, (from, to, on))| {
        SENTENCES.map(|claim| json!({ "name": format!("{at} {claim}"), "from": from, claim: to, "on": on }))
    });
    json!({ "format": "heronshale-expectations", "version": 1, "expectations": all.collect::<Vec<_>>() }).to_string()
}

fn ask(json: &Value) -> Result<Told, String> {
    let folder = Folder::new();
    folder.write("estate.yaml", json.to_string());
    let inventory = folder.run(&["inventory"]);
    if inventory.code != 0 {
        return Err(inventory.stderr);
    }
    folder.write("expectations.yaml", sentences());
    let mut told = Told::default();
    let (_, audit) = folder.json(&["audit", "--fail-on", "never"]);
    for (at, (from, to, traffic)) in QUESTIONS.iter().enumerate() {
        let run = folder.run(&["path", from, to, "--traffic", traffic, "--format", "json"]);
        let Ok(path) = serde_json::from_str::<Value>(&run.stdout) else {
            assert!(
                run.stderr.contains("nothing in the snapshot is called"),
                "{from} {to}: {}",
                run.stderr
            );
            continue;
        };
        told.paths
            .insert(at, text(&path["answer"]["verdict"]).to_owned());
        for claim in SENTENCES {
            let title = format!("“{at} {claim}”");
            let about = items(&audit["answer"], "findings")
                .iter()
                .find(|one| text(&one["title"]).contains(&title));
            let state = match about.map(|one| text(&one["kind"])) {
                None => "kept",
                Some("expectation-broken") => "broken",
                Some("expectation-unknown") => "unknown",
                _ => "vacuous",
            };
            told.sentences.insert((at, claim), state);
        }
        if ["x", "y", "k"].contains(from) {
            let (_, answer) = folder.json(&[
                "effective",
                from,
                "--peer",
                to.split('/').next().unwrap(),
                "--traffic",
                traffic,
            ]);
            for side in items(&answer["answer"], "sides") {
                let some = |key| !items(side, key).is_empty();
                let state = if some("unknown") {
                    "unknown"
                } else if some("admitted") {
                    "admitted"
                } else {
                    "denied"
                };
                told.filters
                    .insert((at, text(&side["direction"]).to_owned()), state);
            }
        }
    }
    let starts: BTreeSet<&str> = told
        .paths
        .keys()
        .map(|at| QUESTIONS[*at].0)
        .filter(|from| *from != "8.8.8.8")
        .collect();
    for from in starts {
        let (_, answer) = folder.json(&["reach", from, "--tcp", "443"]);
        for one in items(&answer["answer"], "reached") {
            let name = text(&one["place"]["name"]).to_owned();
            told.reached
                .insert((from.to_owned(), name), one["certain"] == true);
        }
    }
    let (_, exposure) = folder.json(&["exposure"]);
    for way in ["ways", "by_devices"]
        .iter()
        .flat_map(|key| items(&exposure["answer"], key))
    {
        let addresses = items(way, "addresses")
            .iter()
            .chain(way.get("address"))
            .map(text);
        for address in addresses {
            let row = told.exposed.entry(address.to_owned()).or_default();
            row.0 |= !items(way, "open").is_empty();
            row.1 |= !items(way, "unknown").is_empty();
        }
    }
    Ok(told)
}

/// What is told otherwise without something, though not as unknown.
fn wrong(whole: &Told, without: &Told, gone: &[&str]) -> Vec<String> {
    let mut wrong = Vec::new();
    for (at, verdict) in &without.paths {
        // Without its blocks a public door that is lacking is the internet.
        if gone.contains(&"svc") && QUESTIONS[*at].0 == "8.8.8.8" && verdict == "works" {
            continue;
        }
        let was = &whole.paths[at];
        if verdict != "unknown" && verdict != was {
            wrong.push(format!("path {:?}: {verdict}, not {was}", QUESTIONS[*at]));
        }
        for claim in SENTENCES {
            let [state, was] = [without, whole].map(|told| told.sentences[&(*at, claim)]);
            let open = state == "unknown" || state == "vacuous";
            // What never arrives does not by any address, and so may turn on more than the path to one.
            let same = claim == "may_reach" && verdict == &whole.paths[at] && verdict != "unknown";
            if state != was && (!open || same) {
                wrong.push(format!(
                    "{claim} {:?}: {state}, not {was}, path {verdict}",
                    QUESTIONS[*at]
                ));
            }
        }
    }
    for (key, state) in &without.filters {
        let was = whole.filters[key];
        if *state != "unknown" && *state != was {
            wrong.push(format!(
                "effective {:?} {}: {state}, not {was}",
                QUESTIONS[key.0], key.1
            ));
        }
    }
    for (pair, certain) in &without.reached {
        let is_gap = pair.1.contains(':') || whole.paths.is_empty();
        if *certain && !is_gap && whole.reached.get(pair) != Some(&true) {
            wrong.push(format!("reach {pair:?} is certain"));
        }
    }
    for (pair, certain) in &whole.reached {
        let is_there = without.paths.keys().any(|at| QUESTIONS[*at].0 == pair.0)
            && !gone.contains(&pair.1.as_str());
        if *certain && is_there && !without.reached.contains_key(pair) {
            wrong.push(format!("reach {pair:?} is not even possible"));
        }
    }
    for (address, (open, unknown)) in &without.exposed {
        let (was_open, was_unknown) = whole.exposed.get(address).copied().unwrap_or_default();
        if (*open && !was_open)
            || (was_open && !open && !unknown)
            || (was_unknown && !unknown && !open)
        {
            wrong.push(format!(
                "exposure {address}: {open} {unknown}, not {was_open} {was_unknown}"
            ));
        }
    }
    wrong
}

/// The estate of the parts, with a set that matters.
fn estate() -> Value {
    let document: toml::Table = toml::from_str(ESTATE).unwrap();
    let text = document["estate"][0]["text"].as_str().unwrap();
    let mut json: Value = yaml(text);
    json["format"] = "heronshale-snapshot".into();
    json["version"] = 1.into();
    json["estate"] = json!({ "name": "small", "taken": "2026-11-02T06:00:00Z" });
    let to_yard = json!({ "id": "ly", "to": "site:yard", "reads": "d", "announces_into": "d" });
    json["hubs"][0]["links"]
        .as_array_mut()
        .unwrap()
        .push(to_yard);
    json["workloads"]
        .as_array_mut()
        .unwrap()
        .push(json!({ "id": "v" }));
    let interfaces = json["interfaces"].as_array_mut().unwrap();
    interfaces.iter_mut().find(|one| one["id"] == "k").unwrap()["workload"] = "v".into();
    json["address_sets"] = json!([{ "id": "set", "content": "10.1.2.9" }]);
    let deny = json!({ "action": "deny", "services": "tcp 88", "peers": "set:set" });
    json["own_firewalls"][0]["outbound"]
        .as_array_mut()
        .unwrap()
        .push(deny);
    json
}

#[test]
fn no_command_is_certain_of_what_turns_on_what_is_lacking() {
    let whole = estate();
    let told = ask(&whole).unwrap_or_else(|error| panic!("{error}"));
    let mut failed = Vec::new();
    let mut try_gap = |json: &mut Value, gap: Value, gone: &[&str]| {
        let name = gap.to_string();
        json["gaps"].as_array_mut().unwrap().push(gap);
        let without = match ask(json) {
            Ok(without) => without,
            Err(error) => return failed.push(format!("{name}: {error}")),
        };
        failed.extend(
            wrong(&told, &without, gone)
                .iter()
                .map(|what| format!("without {name}: {what}")),
        );
        let opened =
            |(at, verdict): (&usize, &String)| verdict == "unknown" && told.paths[at] != "unknown";
        if !without.paths.iter().any(opened) {
            failed.push(format!("{name}: nothing turns on it"));
        }
    };
    for (object, with_it, blocks) in WHOLE {
        let mut gone: Vec<&str> = with_it.iter().map(|(_, id)| *id).collect();
        gone.extend(gone.contains(&"k").then_some("v"));
        let mut json = whole.clone();
        for (section, id) in with_it {
            json[*section]
                .as_array_mut()
                .unwrap()
                .retain(|one| one["id"] != *id);
        }
        try_gap(&mut json.clone(), json!({ "object": object }), &gone);
        if !blocks.is_empty() {
            let blocks: Vec<&str> = blocks.split(", ").collect();
            try_gap(
                &mut json,
                json!({ "object": object, "blocks": blocks }),
                &gone,
            );
        }
    }
    let document: toml::Table = toml::from_str(ESTATE).unwrap();
    let variants = document["estate"][0]["variant"].as_array().unwrap().iter();
    let mut parts = 0;
    for edit in variants.filter_map(|variant| {
        variant
            .get("edits")?
            .as_array()?
            .first()?
            .as_array()?
            .get(1)?
            .as_str()
    }) {
        let gap = edit.trim_start_matches("gaps: [").trim_end_matches(", ");
        try_gap(&mut whole.clone(), yaml(gap), &[]);
        parts += 1;
    }
    assert!(parts > 20, "{parts}");
    assert!(failed.is_empty(), "{}", failed.join("\n"));
}
