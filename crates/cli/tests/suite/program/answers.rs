//! Answers in JSON keep to their schemas, are the same byte for byte every time, and say what they must.

use crate::folder::{Folder, HEADER};
use serde_json::Value;

/// Each command with the kind of its answer.
const COMMANDS: [(&[&str], &str); 19] = [
    (&["path", "build-1", "https://198.51.100.7"], "path"),
    (&["path", "network:office", "network:cargo"], "path"),
    (&["path", "desk-1", "archive.marrowfen.example:443"], "path"),
    (&["routes", "freight-db"], "routes"),
    (&["audit"], "audit"),
    (
        &["audit", "--at-least", "serious", "--network", "tickets"],
        "audit",
    ),
    (&["exposure"], "exposure"),
    (&["exposure", "tag:role=web"], "exposure"),
    (&["inventory"], "inventory"),
    (&["inventory", "--find", "192.0.2.77"], "find"),
    (&["inventory", "--find", "group:booking-web"], "find"),
    (
        &["inventory", "--find", "archive.marrowfen.example"],
        "find",
    ),
    (&["inventory", "--addresses", "--free", "24"], "plan"),
    (&["routes", "hub:harbour/ships"], "routes"),
    (&["routes", "site:dockyard"], "routes"),
    (&["effective", "fares-db"], "effective"),
    (&["effective", "--all"], "effective-all"),
    (&["rule", "fares-db/tmp"], "rule"),
    (&["rule", "search/from-balancer"], "rule"),
];

#[test]
fn every_answer_keeps_to_its_schema_and_names_its_format() {
    let folder = Folder::with_demo();
    for (arguments, kind) in COMMANDS {
        let (_, answer) = folder.json(&[arguments, &["-e", "marrowfen-ferries"]].concat());
        let schema: Value = serde_json::from_str(&folder.run(&["schema", kind]).ok()).unwrap();
        let validator = jsonschema::draft202012::new(&schema).unwrap();
        let errors: Vec<String> = validator
            .iter_errors(&answer)
            .map(|error| format!("{}: {error}", error.instance_path()))
            .collect();
        assert!(errors.is_empty(), "{arguments:?}: {errors:?}");
        assert_eq!(
            (&answer["format"], &answer["version"]),
            (&format!("heronshale-{kind}").into(), &2.into())
        );
        let mut unknown = answer.clone();
        unknown["more"] = 1.into();
        assert!(
            !validator.is_valid(&unknown),
            "{kind}: the schema is strict"
        );
    }
    let (_, audit) = folder.json(&["audit", "-e", "marrowfen-ferries"]);
    let print = audit["answer"]["findings"][0]["fingerprint"]
        .as_str()
        .unwrap();
    let (_, one) = folder.json(&["explain", print, "-e", "marrowfen-ferries"]);
    assert_eq!(one["answer"], audit["answer"]["findings"][0]);
    let schema: Value = serde_json::from_str(&folder.run(&["schema", "finding"]).ok()).unwrap();
    assert!(jsonschema::draft202012::is_valid(&schema, &one));
}

#[test]
fn the_snapshot_schema_takes_the_demo_and_refuses_what_the_reader_refuses() {
    let folder = Folder::with_demo();
    let schema: Value = serde_json::from_str(&folder.run(&["schema", "snapshot"]).ok()).unwrap();
    let validator = jsonschema::draft202012::new(&schema).unwrap();
    let base = serde_json::json!({ "format": "heronshale-snapshot", "version": 1, "networks": [{ "id": "n", "blocks": "10.0.0.0/8" }] });
    assert!(validator.is_valid(&base));
    let changes: [(&str, Value); 5] = [
        ("/networks/0/block", 1.into()),
        ("/networks/0/internet_traffic", "no".into()),
        ("/networks/0/id", Value::Null),
        ("/net", 1.into()),
        ("/version", 2.into()),
    ];
    for (pointer, value) in changes {
        let (parent, key) = pointer.rsplit_once('/').unwrap();
        let mut changed = base.clone();
        changed.pointer_mut(parent).unwrap()[key] = value;
        assert!(!validator.is_valid(&changed), "{pointer}");
        let folder = Folder::new();
        folder.write("e.json", changed.to_string());
        folder.run(&["audit", "-e", "e.json"]).fails(3);
    }
}

#[test]
fn the_same_input_gives_the_same_bytes_whatever_the_threads_folder_and_zone() {
    let (one, two) = (Folder::with_demo(), Folder::with_demo());
    for (arguments, _) in COMMANDS {
        for format in ["text", "json"] {
            let all = [arguments, &["-e", "marrowfen-ferries", "--format", format]].concat();
            let first = one
                .run_with(
                    &all,
                    &[("RAYON_NUM_THREADS", "1"), ("TZ", "Pacific/Auckland")],
                )
                .stdout;
            let second = two.run_with(&all, &[("RAYON_NUM_THREADS", "4")]).stdout;
            assert!(first == second && !first.is_empty(), "{all:?}");
        }
    }
}

#[test]
fn json_and_yaml_one_file_and_many_are_one_estate() {
    let folder = Folder::with_demo();
    let sorted = |audit: &Value| {
        let findings = audit["answer"]["findings"].as_array().unwrap().iter();
        let mut all: Vec<String> = findings
            .map(|f| format!("{} {}", f["fingerprint"], f["severity"]))
            .collect();
        all.sort();
        all
    };
    let before = sorted(&folder.json(&["audit", "-e", "marrowfen-ferries"]).1);
    let mut whole = HEADER.to_owned();
    let mut sections: std::collections::BTreeMap<String, String> =
        std::collections::BTreeMap::new();
    for name in [
        "estate", "policies", "quay", "tickets", "cargo", "fleet", "harbour", "office",
    ] {
        let text = folder.read(&format!("marrowfen-ferries/{name}.yaml"));
        let mut section = String::new();
        for line in text.lines().filter(|line| {
            !line.starts_with('#') && !line.starts_with("format:") && !line.starts_with("version:")
        }) {
            if line.ends_with(':') && !line.starts_with(' ') {
                section = line.to_owned();
            } else {
                sections
                    .entry(section.clone())
                    .or_default()
                    .push_str(&format!("{line}\n"));
            }
        }
    }
    sections
        .iter()
        .for_each(|(section, items)| whole.push_str(&format!("{section}\n{items}")));
    folder.write("one/all.yaml", whole);
    for name in ["expectations", "acceptances", "heronshale"] {
        folder.write(
            &format!("one/{name}.yaml"),
            folder.read(&format!("marrowfen-ferries/{name}.yaml")),
        );
    }
    assert_eq!(before, sorted(&folder.json(&["audit", "-e", "one"]).1));
    assert!(before.len() > 40);
}

#[test]
fn the_exit_code_follows_the_threshold() {
    let shadowed = "networks: [{ id: n, blocks: [10.65.0.0/16] }]\nsubnets: [{ id: s, network: n, blocks: [10.65.1.0/24], acl: a }]\n\
        network_acls: [{ id: a, inbound: [{ action: deny, priority: 1, services: tcp 22 }, { action: reject, priority: 2, services: tcp 22 }, { action: allow, priority: 3 }] }]\n";
    let folder = Folder::with(&format!("{HEADER}{shadowed}"));
    let (_, audit) = folder.json(&["audit", "--fail-on", "never"]);
    let worst = audit["answer"]["findings"][0]["severity"].as_str().unwrap();
    assert_eq!(worst, "minor", "{audit:#}");
    for (threshold, code) in [
        ("note", 1),
        ("minor", 1),
        ("serious", 0),
        ("urgent", 0),
        ("never", 0),
    ] {
        assert_eq!(
            folder.run(&["audit", "--fail-on", threshold]).code,
            code,
            "{threshold}"
        );
    }
    assert_eq!(folder.run(&["audit"]).code, 0);
    assert_eq!(
        Folder::with_demo()
            .run(&["audit", "-e", "marrowfen-ferries"])
            .code,
        1
    );
}

#[test]
fn what_rests_on_a_rule_is_what_its_absence_changes() {
    let folder = Folder::with_demo();
    let rests = |rule: &str| {
        let (_, answer) = folder.json(&["rule", rule, "-e", "marrowfen-ferries"]);
        let rests = answer["answer"]["rests"].as_array().unwrap().clone();
        (rests, answer["answer"]["dead"].clone())
    };
    let (tmp, dead) = rests("fares-db/tmp");
    assert!(
        dead.is_null()
            && tmp
                .iter()
                .all(|one| one["admitted"] == true && one["perhaps"] == false)
            && !tmp.is_empty()
    );
    let (shadowed, dead) = rests("not-berth-nine");
    assert!(shadowed.is_empty() && dead == "shadowed");
    let (open, _) = rests("search/from-balancer");
    assert!(!open.is_empty() && open.iter().all(|one| one["perhaps"] == true));
    let (deny, _) = rests("no-desktop-sharing");
    assert!(
        deny.iter().any(|one| one["admitted"] == false),
        "a deny keeps out: {deny:?}"
    );
}
