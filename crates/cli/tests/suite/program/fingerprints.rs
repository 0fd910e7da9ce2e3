//! Fingerprints stay what they are: from version to version, and in whatever order a snapshot is written.

use super::findings::fixtures;
use super::situations::estates;
use crate::folder::{Folder, files, yaml};
use expect_test::expect_file;
use fastrand::Rng;
use serde_json::Value;
use std::collections::BTreeSet;
use std::fmt::Write;

/// Fingerprints with their kinds, accepted ones among them.
fn prints(folder: &Folder, estate: &str) -> BTreeSet<(String, String)> {
    let (_, audit) = folder.json(&["audit", "-e", estate, "--fail-on", "never"]);
    let open = audit["answer"]["findings"].as_array().unwrap().iter();
    let accepted = audit["answer"]["accepted"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| &one["finding"]);
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    open.chain(accepted)
        .map(|one| (text(&one["fingerprint"]), text(&one["kind"])))
        .collect()
}

/// Lists of which the order says who comes first.
const ORDERED: [(&str, &str); 9] = [
    ("network_acls", "inbound"),
    ("network_acls", "outbound"),
    ("own_firewalls", "inbound"),
    ("own_firewalls", "outbound"),
    ("scope_policies", "inbound"),
    ("scope_policies", "outbound"),
    ("firewall_policies", "rules"),
    ("firewalls", "source_translations"),
    ("firewalls", "destination_translations"),
];

fn shuffled(random: &mut Rng, section: &str, key: &str, value: Value) -> Value {
    match value {
        Value::Array(items) => {
            let mut items: Vec<Value> = items
                .into_iter()
                .map(|item| shuffled(random, section, "", item))
                .collect();
            if !ORDERED.contains(&(section, key)) {
                random.shuffle(&mut items);
            }
            items.into()
        }
        Value::Object(fields) => {
            let mut fields: Vec<(String, Value)> = fields.into_iter().collect();
            random.shuffle(&mut fields);
            let all = fields.into_iter().map(|(key, value)| {
                let value = shuffled(random, section, &key, value);
                (key, value)
            });
            Value::Object(all.collect())
        }
        other => other,
    }
}

/// A snapshot in another order, and what stands beside it as it is.
fn in_another_order(random: &mut Rng, from: &Folder, estate: &str) -> Folder {
    let to = Folder::new();
    for entry in std::fs::read_dir(from.path().join(estate)).unwrap() {
        let path = entry.unwrap().path();
        let (name, text) = (
            path.file_name().unwrap().to_string_lossy().into_owned(),
            std::fs::read_to_string(&path),
        );
        let text = text.unwrap();
        let is_snapshot = text.contains("format: heronshale-snapshot");
        if !is_snapshot {
            to.write(&name, text);
            continue;
        }
        let Value::Object(sections) = yaml(&text) else {
            panic!("{name} is not a map")
        };
        let mut sections: Vec<(String, Value)> = sections.into_iter().collect();
        random.shuffle(&mut sections);
        let all = sections.into_iter().map(|(section, value)| {
            let value = shuffled(random, &section, "", value);
            (section, value)
        });
        to.write(
            &format!("{name}.json"),
            Value::Object(all.collect()).to_string(),
        );
    }
    to
}

/// Estates of all kinds of findings, each in a folder.
fn all() -> Vec<(String, Folder, &'static str)> {
    let mut all = vec![(
        "Marrowfen Ferries".to_owned(),
        Folder::with_demo(),
        "marrowfen-ferries",
    )];
    all.extend(
        estates()
            .into_iter()
            .map(|(title, text)| (title, Folder::with(&text), ".")),
    );
    for (title, text) in fixtures() {
        // Acceptances name fingerprints: they are asked elsewhere.
        if files(&text).len() == 1 {
            all.push((title, Folder::with(&text), "."));
        }
    }
    all
}

#[test]
fn fingerprints_stay_from_version_to_version_and_in_any_order() {
    let mut listed = String::new();
    let mut wrong = Vec::new();
    let mut random = Rng::with_seed(7);
    for (title, folder, estate) in all() {
        let own = prints(&folder, estate);
        let _ = writeln!(listed, "{title}");
        let mut lines: Vec<_> = own
            .iter()
            .map(|(print, kind)| format!("  {kind} {print}"))
            .collect();
        lines.sort();
        lines
            .iter()
            .for_each(|line| listed.push_str(&format!("{line}\n")));
        let rounds = if estate == "." { 2 } else { 4 };
        for _ in 0..rounds {
            let other = prints(&in_another_order(&mut random, &folder, estate), ".");
            let odd: Vec<_> = own.symmetric_difference(&other).collect();
            if !odd.is_empty() {
                wrong.push(format!("{title}: {odd:?}"));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    expect_file![concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/tests/fixtures/fingerprints.txt"
    )]
    .assert_eq(&listed);
}
