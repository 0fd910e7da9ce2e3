//! What people say of an estate: expectations, acceptances, the configuration, and the audit as a gate and as evidence.

mod accepting;
mod exposed;

use crate::folder::Folder;
use serde_json::Value;

/// Two machines behind a gateway: `web` with a public address, `db` without; a group each.
const ESTATE: &str = "\
format: heronshale-snapshot
version: 1
estate: { name: pier, taken: 2026-11-02T06:00:00Z }
owners: [{ id: ticketing }, { id: platform }]
networks: [{ id: pier, blocks: 10.65.0.0/16, main_table: out, owner: platform }]
gateways: [{ id: gate, kind: internet, network: pier }]
route_tables: [{ id: out, network: pier, routes: [{ to: 0.0.0.0/0, next_hop: \"gateway:gate\" }] }]
subnets: [{ id: front, network: pier, blocks: 10.65.1.0/24 }]
address_sets: [{ id: partners, content: 198.51.100.0/24 }]
workloads: [{ id: web, owner: ticketing }, { id: db, owner: ticketing, tags: { data: restricted } }]
interfaces:
- { id: web-1, subnet: front, addresses: 10.65.1.11, workload: web, groups: web }
- { id: db-1, subnet: front, addresses: 10.65.1.21, workload: db, groups: db }
public_addresses: [{ address: 203.0.113.10, interface: web-1 }]
security_groups:
- id: web
  inbound:
  - { id: https, services: tcp 443, peers: any, description: tickets }
  - { id: feed, services: tcp 8080, peers: \"set:partners\", description: feed }
  outbound: [{ id: db, services: tcp 5432, peers: \"group:db\", description: fares }]
- id: db
  inbound: [{ id: web, services: tcp 5432, peers: \"group:web\", description: fares }]
  outbound: [{ id: none, services: tcp 25, peers: 10.65.1.11, description: mail }]
";

fn expecting(sentences: &str) -> Folder {
    let folder = Folder::with(ESTATE);
    folder.write(
        "expectations.yaml",
        format!("format: heronshale-expectations\nversion: 1\nexpectations:\n{sentences}"),
    );
    folder
}

/// Names and states of expectations.
fn states(audit: &Value) -> Vec<String> {
    let all = audit["answer"]["expectations"].as_array().unwrap();
    all.iter()
        .map(|one| {
            format!(
                "{} {}",
                one["name"].as_str().unwrap(),
                one["state"].as_str().unwrap()
            )
        })
        .collect()
}

/// Kinds and fingerprints of findings.
fn findings(audit: &Value) -> Vec<(String, String)> {
    let all = audit["answer"]["findings"].as_array().unwrap();
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    all.iter()
        .map(|one| (text(&one["kind"]), text(&one["fingerprint"])))
        .collect()
}

#[test]
fn sentences_are_kept_broken_or_say_nothing() {
    let table = [
        ("from: internet, may_reach: web-1, on: tcp 443", "kept", ""),
        (
            "from: internet, may_reach: 203.0.113.10, on: tcp 443",
            "kept",
            "",
        ),
        (
            "from: internet, may_reach: web-1, on: [tcp 443, tcp 80]",
            "broken",
            ":80",
        ),
        ("from: internet, may_reach: web-1", "broken", ""),
        (
            "from: \"set:partners\", may_reach: web-1, on: tcp 8080",
            "kept",
            "",
        ),
        (
            "from: internet, may_reach: web-1, on: tcp 8080",
            "broken",
            ":8080",
        ),
        ("from: web, may_reach: db, on: tcp 5432", "kept", ""),
        ("from: db, may_reach: db, on: tcp 5432", "vacuous", ""),
        (
            "from: internet, never_reaches: \"tag:data=restricted\"",
            "kept",
            "",
        ),
        (
            "from: internet, never_reaches: web, on: tcp 8080",
            "broken",
            "198.51.100.",
        ),
        (
            "from: 203.0.113.192/26, never_reaches: web, on: tcp 8080",
            "kept",
            "",
        ),
        (
            "from: 203.0.113.192/26, never_reaches: 203.0.113.10, on: tcp 443",
            "broken",
            "203.0.113.192",
        ),
        (
            "from: any, never_reaches: db, on: tcp 5432",
            "broken",
            "10.65.1.11",
        ),
        (
            "from: \"tag:data=open\", never_reaches: db",
            "vacuous",
            "the sending side is empty",
        ),
        (
            "from: wep, never_reaches: db",
            "vacuous",
            "nothing in the snapshot is called `wep`",
        ),
        ("nothing_else_reaches: db", "broken", "10.65.1.11"),
        ("nothing_else_reaches: web, on: tcp 443", "broken", ""),
        (
            "from: web, to: db, always_passes: gatehouse",
            "vacuous",
            "there is no firewall called `gatehouse`",
        ),
    ];
    for (sentence, state, text) in table {
        let folder = expecting(&format!("- {{ name: one, {sentence} }}\n"));
        let (_, audit) = folder.json(&["audit"]);
        assert_eq!(states(&audit), [format!("one {state}")], "{sentence}");
        let told = findings(&audit)
            .into_iter()
            .filter(|(kind, _)| kind.starts_with("expectation-"));
        let told: Vec<(String, String)> = told.collect();
        assert_eq!(told.len(), usize::from(state != "kept"), "{sentence}");
        if let [(kind, print)] = told.as_slice() {
            assert_eq!(*kind, format!("expectation-{state}"));
            let full = folder.run(&["explain", print]).ok();
            assert!(full.contains(text), "{sentence}: {full}");
            // What it says to ask is asked, and is not what was expected.
            if let Some((_, asked)) = full
                .replace("\n             ", " ")
                .split_once("`path ")
                .filter(|_| state == "broken")
            {
                let words = asked
                    .split('`')
                    .next()
                    .unwrap()
                    .split(' ')
                    .map(|word| word.trim_matches('"'));
                let words: Vec<&str> = words.collect();
                let [from, to, option, traffic @ ..] = words.as_slice() else {
                    panic!("{full}")
                };
                let run = folder.run(&["path", from, to, option, &traffic.join(" ")]);
                assert_eq!(
                    run.code,
                    i32::from(sentence.contains("may_reach")),
                    "{asked}: {run:?}"
                );
            }
        }
    }
}

#[test]
fn what_one_sentence_allows_nothing_else_forbids() {
    let folder = expecting(
        "- { name: fares, from: web, may_reach: db, on: tcp 5432 }\n- { name: closed, nothing_else_reaches: db }\n\
         - { name: open, from: internet, may_reach: web, on: tcp 443 }\n- { name: front, nothing_else_reaches: web }\n",
    );
    let (_, audit) = folder.json(&["audit"]);
    // The partners' feed is what is left, and the mail of the data base.
    assert_eq!(
        states(&audit),
        ["fares kept", "closed kept", "open kept", "front broken"]
    );
    let (_, exposure) = folder.json(&["exposure"]);
    let spoken = &exposure["answer"]["ways"][0]["spoken"];
    let expected = serde_json::json!({
        "meaning": "unmeant", "allowed_by": ["open"], "forbidden_by": ["front"],
        "meant": ["tcp 443"], "unmeant": ["tcp 8080"], "unjudged": []
    });
    assert_eq!(*spoken, expected);
    // Without the last one nobody speaks of the feed.
    let folder = expecting("- { name: open, from: internet, may_reach: web, on: tcp 443 }\n");
    let (_, exposure) = folder.json(&["exposure"]);
    assert_eq!(
        exposure["answer"]["ways"][0]["spoken"]["meaning"],
        "unjudged"
    );
    assert_eq!(
        exposure["answer"]["ways"][0]["spoken"]["unjudged"],
        serde_json::json!(["tcp 8080"])
    );
}

#[test]
fn wrong_sentences_are_told_with_their_place() {
    let table = [
        ("- { name: a }", "4:3", "the expectation `a` says nothing"),
        (
            "- { name: a, from: web, may_reach: db, never_reaches: db }",
            "4:3",
            "says may_reach and never_reaches",
        ),
        ("- { name: a, may_reach: db }", "4:3", "needs `from`"),
        (
            "- { name: a, from: web, nothing_else_reaches: db }",
            "4:3",
            "has `from` with nothing_else_reaches",
        ),
        (
            "- { name: a, from: web, always_passes: fw }",
            "4:3",
            "needs `to`",
        ),
        (
            "- { name: a, from: web, to: db, may_reach: db }",
            "4:3",
            "names its receivers twice",
        ),
        (
            "- { name: a, form: web, may_reach: db }",
            "4:14",
            "has no field `form`",
        ),
        (
            "- { name: a, from: web, may_reach: db, on: tpc 22 }",
            "4:44",
            "`tpc` is not a protocol",
        ),
        (
            "- { name: a, nothing_else_reaches: db }\n- { name: a, nothing_else_reaches: web }",
            "5:11",
            "two expectations",
        ),
    ];
    for (sentences, place, text) in table {
        let told = expecting(sentences).run(&["audit"]).fails(3);
        assert!(
            told.contains(&format!("expectations.yaml:{place}")) && told.contains(text),
            "{sentences}: {told}"
        );
    }
}

#[test]
fn evidence_comes_out_again_byte_for_byte_and_tells_what_changed() {
    let folder = Folder::with_demo();
    let estate = ["-e", "marrowfen-ferries"];
    let run = |more: &[&str]| folder.run(&[&["audit"], &estate[..], more].concat());
    assert_eq!(run(&["--evidence", "proof", "--at", "2026-11-03"]).code, 1);
    assert!(run(&["--check", "proof"]).ok().contains("byte for byte"));
    let manifest: Value = serde_json::from_str(&folder.read("proof/evidence.json")).unwrap();
    let inputs = manifest["inputs"].as_array().unwrap();
    assert!(
        inputs.iter().any(|one| one["file"] == "tickets.yaml")
            && inputs.iter().any(|one| one["file"] == "expectations.yaml")
    );
    assert_eq!(manifest["heading"]["gaps"].as_array().unwrap().len(), 2);
    let accepted = &manifest["stated"]["acceptances"][0];
    assert_eq!(
        accepted["packets"][1]["on"],
        serde_json::json!(["icmp 8", "tcp 22"]),
        "{accepted:#}"
    );
    // Every finding stands there with its own lines.
    let (_, audit) = folder.json(&["audit", "-e", "marrowfen-ferries", "--at", "2026-11-03"]);
    let sources = format!("\n{}", folder.read("proof/sources.txt"));
    for finding in audit["answer"]["findings"].as_array().unwrap() {
        let front = format!(
            "\n{} {}  ",
            finding["fingerprint"].as_str().unwrap(),
            finding["kind"].as_str().unwrap()
        );
        let (_, rest) = sources.split_once(&front).unwrap();
        let block = rest.split("\n\n").next().unwrap();
        let Some(file) = finding["place"]["file"].as_str() else {
            continue;
        };
        let line = usize::try_from(finding["place"]["line"].as_u64().unwrap()).unwrap();
        let text = folder.read(&format!("marrowfen-ferries/{file}"));
        assert!(
            block.contains(text.lines().nth(line - 1).unwrap()),
            "{block}"
        );
    }
    assert!(
        run(&["--evidence", "proof"]).code == 2,
        "what is there is not overwritten"
    );
    let text = folder.read("marrowfen-ferries/tickets.yaml");
    folder.write(
        "marrowfen-ferries/tickets.yaml",
        text.replace("tcp 5000-5999", "tcp 5000-5998"),
    );
    let told = run(&["--check", "proof"]);
    assert!(
        told.code == 1
            && told.stdout.contains("tickets.yaml has changed")
            && told.stdout.contains("differs  audit.json"),
        "{told:?}"
    );
}

/// A document with one field of one record made wrong, by where it stands.
fn broken(document: &Value, pointer: &str, wrong: &Value) -> Value {
    let mut document = document.clone();
    *document.pointer_mut(pointer).unwrap() = wrong.clone();
    document
}

/// Every value below a node, by its JSON Pointer.
fn pointers(value: &Value, at: &str, found: &mut Vec<String>) {
    match value {
        Value::Object(fields) => {
            for (name, field) in fields {
                found.push(format!("{at}/{name}"));
                pointers(field, &format!("{at}/{name}"), found);
            }
        }
        Value::Array(items) => {
            for (index, item) in items.iter().enumerate() {
                found.push(format!("{at}/{index}"));
                pointers(item, &format!("{at}/{index}"), found);
            }
        }
        _ => {}
    }
}

#[test]
fn a_wrong_value_in_any_field_is_an_error_of_that_file() {
    let expectations = serde_json::json!({
        "format": "heronshale-expectations", "version": 1,
        "expectations": [
            { "name": "a", "from": ["internet"], "may_reach": "web", "on": ["tcp 443"], "reason": "r", "owner": "o" },
            { "name": "b", "from": "web", "to": "db", "always_passes": "f" },
            { "name": "c", "nothing_else_reaches": "db" },
        ]
    });
    let acceptances = serde_json::json!({
        "format": "heronshale-acceptances", "version": 1,
        "acceptances": [{
            "finding": "0000-0000", "kind": "exposed", "title": "t", "reason": "r", "who": "w", "until": "2027-01-31",
            "packets": [{ "from": ["internet"], "to": "10.65.1.11", "on": "tcp 443" }],
        }]
    });
    let configuration = serde_json::json!({
        "format": "heronshale-configuration", "version": 1, "segments": "owner", "estate": "estate.yaml",
        "expectations": ["expectations.json"], "acceptances": "acceptances.json",
        "severities": [{ "kind": "overdue", "severity": "note", "reason": "r" }],
        "controls": [{ "control": "c", "kinds": ["overdue"] }],
        "sensitive_ports": [{ "what": "w", "services": "tcp 22" }],
        "thresholds": { "empty_range_addresses": 1, "empty_range_share": 2 },
    });
    let files = [
        ("expectations.json", expectations),
        ("acceptances.json", acceptances),
        ("heronshale.json", configuration),
    ];
    let folder = Folder::with(ESTATE);
    let write =
        |name: &str, text: &Value| folder.write(name, serde_json::to_string_pretty(text).unwrap());
    for (name, text) in &files {
        write(name, text);
    }
    assert_eq!(
        folder
            .run(&["audit", "--fail-on", "never", "--config", "heronshale.json"])
            .code,
        0
    );
    let mut tried = 0;
    for (name, text) in &files {
        let mut all = Vec::new();
        pointers(text, "", &mut all);
        for pointer in all {
            // A map where no record stands, a text where one does.
            let here = text.pointer(&pointer).unwrap();
            let record = here.is_object()
                || here
                    .as_array()
                    .is_some_and(|items| items.iter().any(Value::is_object));
            let wrong = if record {
                serde_json::json!("nonsense")
            } else {
                serde_json::json!({ "nonsense": [1] })
            };
            write(name, &broken(text, &pointer, &wrong));
            let told = folder.run(&["audit", "--config", "heronshale.json"]);
            assert!(
                told.code == 3 && told.stderr.contains(&format!("--> {name}:")),
                "{name} {pointer}: {told:?}"
            );
            // A field that nobody knows, in any record.
            if here.is_object() {
                let mut more = here.clone();
                more["fromm"] = Value::from(1);
                write(name, &broken(text, &pointer, &more));
                let told = folder
                    .run(&["audit", "--config", "heronshale.json"])
                    .fails(3);
                assert!(
                    told.contains("has no field `fromm`"),
                    "{name} {pointer}: {told}"
                );
            }
            tried += 1;
        }
        write(name, text);
    }
    assert!(tried >= 50, "{tried}");
}
