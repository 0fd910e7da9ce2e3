//! Exports of any shape become a snapshot, by a profile.

mod values;

pub use values::SHEET_PROFILE;

use crate::folder::Folder;
use heronshale_mockcloud::{Cloud, PROFILE};
use serde_json::Value;
use std::collections::BTreeMap;

/// Writes what the simulated cloud tells, and the profile for it.
pub fn write_exports(folder: &Folder) {
    let cloud = Cloud::marrowfen();
    for (name, document) in cloud.documents() {
        folder.write(
            &format!("exports/{name}.json"),
            serde_json::to_string_pretty(&document).unwrap(),
        );
    }
    folder.write("skerry.yaml", PROFILE);
}

/// A folder with these, and the demo estate.
pub fn skerry() -> Folder {
    let folder = Folder::with_demo();
    write_exports(&folder);
    for name in ["expectations", "acceptances", "heronshale"] {
        std::fs::remove_file(folder.path().join(format!("marrowfen-ferries/{name}.yaml"))).unwrap();
    }
    folder
}

const IMPORT: [&str; 6] = [
    "import",
    "--profile",
    "skerry.yaml",
    "exports",
    "--into",
    "snap.yaml",
];

/// Without what tells where things are written and in which order.
fn unplaced(value: &Value) -> Value {
    match value {
        Value::Object(fields) => {
            let kept = fields
                .iter()
                .filter(|(name, _)| !matches!(name.as_str(), "place" | "not_read" | "at"));
            kept.map(|(name, value)| (name.clone(), unplaced(value)))
                .collect()
        }
        Value::Array(items) => items.iter().map(unplaced).collect(),
        other => other.clone(),
    }
}

/// What the filters of each interface admit, by its name.
fn by_interface(folder: &Folder, estate: &str) -> BTreeMap<String, Value> {
    let (_, all) = folder.json(&["effective", "--all", "-e", estate]);
    let classes = all["answer"].as_array().unwrap().iter();
    classes
        .map(|one| {
            (
                one["interface"]["name"].as_str().unwrap().to_owned(),
                unplaced(one),
            )
        })
        .collect()
}

#[test]
fn an_estate_told_by_a_cloud_of_its_own_words_means_the_same() {
    let folder = skerry();
    let (code, told) = folder.json(&IMPORT);
    assert_eq!(code, 0, "{told}");
    // What is not there bears its reference instead of its label: nobody knows the label.
    let mut ids: Vec<&str> = told["answer"]["unresolved"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["id"].as_str().unwrap())
        .collect();
    ids.sort_unstable();
    assert_eq!(
        ids.iter().map(|id| &id[..3]).collect::<Vec<_>>(),
        ["brg", "crw", "scr"]
    );
    let names = [
        ("brg", "cargo-broker"),
        ("crw", "tickets-balancer"),
        ("scr", "cargo-east"),
    ];
    let mut text = folder.read("snap.yaml");
    for (id, (prefix, name)) in ids.iter().zip(names) {
        assert!(id.starts_with(prefix));
        text = text.replace(id, name);
    }
    folder.write("snap.yaml", text);
    let (ours, theirs) = (
        by_interface(&folder, "marrowfen-ferries"),
        by_interface(&folder, "snap.yaml"),
    );
    assert!(ours.len() > 20, "{}", ours.len());
    for (name, one) in &ours {
        // A class is told by its first member: files may come in another order.
        if let Some(other) = theirs.get(name) {
            assert_eq!(one["inbound"], other["inbound"], "{name}");
            assert_eq!(one["outbound"], other["outbound"], "{name}");
        }
    }
    let prints = |estate: &str| {
        let (_, audit) = folder.json(&["audit", "-e", estate]);
        let findings = audit["answer"]["findings"].as_array().unwrap().iter();
        let mut all: Vec<String> = findings
            .map(|one| one["fingerprint"].as_str().unwrap().to_owned())
            .collect();
        all.sort();
        all
    };
    assert_eq!(prints("marrowfen-ferries"), prints("snap.yaml"));
}

#[test]
fn coverage_tells_what_was_read_ignored_and_never_there() {
    let folder = skerry();
    let (_, told) = folder.json(&IMPORT);
    let answer = &told["answer"];
    let read = |section: &str| {
        let all = answer["records"].as_array().unwrap().iter();
        all.filter(|one| one["into"] == section)
            .map(|one| one["read"].as_u64().unwrap())
            .sum::<u64>()
    };
    assert_eq!(
        (read("interfaces"), read("networks"), read("subnets")),
        (43, 5, 16)
    );
    let ignored = |path: &str| {
        answer["ignored"]
            .as_array()
            .unwrap()
            .iter()
            .find(|one| one["path"] == path)
            .cloned()
            .unwrap_or_default()
    };
    assert_eq!(
        ignored("$.billing")["because"],
        "what the account costs reaches nobody"
    );
    assert_eq!(ignored("$.items[*].cells[*].revision")["values"], 16);
    assert_eq!(
        ignored("$.items[*].cells[*].revision")["because"],
        Value::Null
    );
    assert_eq!(answer["never"][0]["field"], "network_acls.description");
    // Once more: the same, byte for byte; and what is there is not written over.
    let before = folder.read("snap.yaml");
    assert!(
        folder
            .run(&IMPORT)
            .fails(2)
            .contains("snap.yaml already exists")
    );
    let text = folder.run(&[&IMPORT[..], &["--force"]].concat()).ok();
    assert_eq!(before, folder.read("snap.yaml"));
    assert!(
        text.starts_with(
            "Wrote snap.yaml: 174 records from 54 files; 6 references do not resolve.\n"
        ),
        "{text}"
    );
}

#[test]
fn what_is_wrong_is_told_in_the_profile_and_in_the_data() {
    // What is changed in which file, and what is told of it: the title, and the place in the profile.
    let cases = [
        (
            "skerry.yaml",
            "into: owners",
            "into: owner",
            "a snapshot has no section `owner`",
            "did you mean `owners`?",
        ),
        (
            "skerry.yaml",
            "blocks: $.ranges\n",
            "block: $.ranges\n",
            "networks have no field `block`",
            "`blocks`?",
        ),
        (
            "skerry.yaml",
            "id: $.label, contact",
            "contact",
            "owners need the field `id`",
            "skerry.yaml:",
        ),
        (
            "skerry.yaml",
            "\"$.marks[*]\"",
            "\"$.marks[*\"",
            "`$.marks[*` is no JSONPath",
            "skerry.yaml",
        ),
        (
            "skerry.yaml",
            "table: verdicts",
            "table: verdict",
            "there is no table `verdict`",
            "did you mean `verdicts`?",
        ),
        (
            "skerry.yaml",
            "\"group:{crew}\"",
            "\"group:{crow}\"",
            "nothing fills {crow}",
            "did you mean `crew`?",
        ),
        (
            "skerry.yaml",
            "{ permit: allow, ",
            "{ ",
            "the table has no entry `permit`",
            "crews/crw-",
        ),
        (
            "skerry.yaml",
            "each: $.legs[*]",
            "path: $.legs",
            "`fields` has no effect without `each`",
            "skerry.yaml",
        ),
        (
            "exports/screens.json",
            "\"permit\"",
            "\"perhaps\"",
            "the table has no entry `perhaps`",
            "\"perhaps\")",
        ),
        (
            "exports/nets.json",
            "\"10.65.0.0/16\"",
            "\"10.65.0.0/40\"",
            "the prefix length is above 32",
            "\"10.65.0.0/40\")",
        ),
        (
            "exports/crews/*",
            "\"low\": 8883",
            "\"low\": 88830",
            "`88830",
            "crews/crw-",
        ),
        (
            "exports/screens.json",
            "\"items\": [",
            "\"items\": [ 1, ",
            "needs the field `id`",
            "screens.json:",
        ),
        (
            "exports/plugs.json",
            "\"label\": \"desk-1\",",
            "",
            "an interface needs the field `id`",
            "plugs.json:",
        ),
        (
            "exports/yards.json",
            "]",
            "",
            "this is not JSON",
            "yards.json:",
        ),
    ];
    for (file, from, to, what, hint) in cases {
        let folder = skerry();
        let of_folder = file
            .strip_suffix("/*")
            .map(|name| std::fs::read_dir(folder.path().join(name)).unwrap());
        let mut files: Vec<String> = of_folder.map_or_else(
            || vec![file.to_owned()],
            |all| {
                all.map(|one| file.replace('*', one.unwrap().file_name().to_str().unwrap()))
                    .collect()
            },
        );
        files.retain(|file| folder.read(file).contains(from));
        let file = files.first().unwrap_or_else(|| panic!("{file}: {from}"));
        let text = folder.read(file);
        folder.write(file, text.replacen(from, to, 1));
        let told = folder.run(&IMPORT).fails(3);
        assert!(
            told.contains(what) && told.contains(hint),
            "{file}, {to}: {what}, {hint}\n{told}"
        );
        assert!(told.ends_with(": no snapshot was written\n"), "{told}");
        assert!(!folder.path().join("snap.yaml").exists());
    }
}

#[test]
fn the_place_in_the_data_is_line_and_column_of_the_value() {
    let folder = skerry();
    let text = folder
        .read("exports/nets.json")
        .replacen("\"10.65.0.0/16\"", "\"10.65.0.0/40\"", 1);
    let line = text
        .lines()
        .position(|line| line.contains("10.65.0.0/40"))
        .unwrap();
    let column = text.lines().nth(line).unwrap().find('"').unwrap();
    folder.write("exports/nets.json", &text);
    let place = format!(
        "(in nets.json:{}:{}: \"10.65.0.0/40\")",
        line + 1,
        column + 1
    );
    let told = folder.run(&IMPORT).fails(3);
    assert!(told.contains(&place), "{place}\n{told}");
}

#[test]
fn lines_of_json_are_documents_and_what_comes_twice_stands_once() {
    let folder = Folder::new();
    folder.write(
        "nets.jsonl",
        "{\"n\": 1, \"b\": [\"10.0.0.0/8\"]}\n{\"n\": 2, \"b\": null}\n{\"n\": 1, \"b\": [\"10.0.0.0/8\"]}\n",
    );
    folder.write("readme.txt", "nothing");
    let profile = "format: heronshale-profile\nversion: 1\nname: lines\nrecords:\n  - { into: networks, fields: { id: $.n, blocks: $.b } }\n";
    folder.write("p/lines.yaml", profile);
    let (_, told) = folder.json(&[
        "import",
        "--profile",
        "p/lines.yaml",
        ".",
        "--into",
        "out/snap.yaml",
    ]);
    assert_eq!(told["answer"]["records"][0]["read"], 3);
    assert_eq!(told["answer"]["records"][0]["repeated"], 1);
    assert_eq!(told["heading"]["size"]["networks"], 2);
    let not_read: Vec<&str> = told["answer"]["not_read"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["name"].as_str().unwrap())
        .collect();
    assert_eq!(not_read, ["p/lines.yaml", "readme.txt"]);
}

#[test]
fn a_draft_finds_the_lists_and_is_a_profile_that_can_be_worked_on() {
    let folder = skerry();
    let told = folder
        .run(&["import", "--draft-profile", "draft.yaml", "exports"])
        .ok();
    assert!(
        told.contains("nets.json $.items[*].cells[*]")
            && told.contains("16 objects")
            && told.contains("perhaps security_groups"),
        "{told}"
    );
    let text = folder.read("draft.yaml");
    assert!(
        text.starts_with("# A first profile") && text.contains("TODO"),
        "{text}"
    );
    // Nothing is imported by it: what it leaves out would be missing from the estate.
    let refused = folder
        .run(&[
            "import",
            "--profile",
            "draft.yaml",
            "exports",
            "--into",
            "snap.yaml",
        ])
        .fails(3);
    assert!(
        refused.contains("this profile is a draft") && refused.contains("1 error"),
        "{refused}"
    );
    // It is read without an error as long as its guesses are sections and fields.
    let plain = r#"{ "networks": [ { "name": "a", "cidr": "10.0.0.0/8" }, { "name": "b", "cidr": "10.1.0.0/16" } ] }"#;
    let other = Folder::new();
    other.write("e.json", plain);
    other
        .run(&["import", "--draft-profile", "draft.yaml", "e.json"])
        .ok();
    other.write(
        "draft.yaml",
        other.read("draft.yaml").replace("draft: true\n", ""),
    );
    let (code, told) = other.json(&[
        "import",
        "--profile",
        "draft.yaml",
        "e.json",
        "--into",
        "snap.yaml",
    ]);
    assert_eq!(
        (code, &told["heading"]["size"]["networks"]),
        (0, &2.into()),
        "{}",
        other.read("draft.yaml")
    );
    assert!(other.read("snap.yaml").contains("blocks: 10.1.0.0/16"));
}

#[test]
fn what_a_draft_or_a_snapshot_says_of_hostile_exports_stays_on_its_line() {
    let folder = Folder::new();
    let nasty = "x\nformat: heronshale-snapshot\n- into: owners";
    let item = serde_json::json!({ nasty: 1, "id": "a", "cidr": "10.0.0.0/8" });
    folder.write(
        "e.json",
        serde_json::json!({ nasty: [item], "networks": [item] }).to_string(),
    );
    folder
        .run(&["import", "--draft-profile", "draft.yaml", "e.json"])
        .ok();
    let draft = folder.read("draft.yaml");
    assert_eq!(
        draft
            .lines()
            .filter(|line| line.starts_with("format:"))
            .count(),
        1,
        "{draft}"
    );
    folder.write("draft.yaml", draft.replace("draft: true\n", ""));
    folder
        .run(&[
            "import",
            "--profile",
            "draft.yaml",
            "e.json",
            "--into",
            "snap.yaml",
        ])
        .ok();
    assert_eq!(
        folder
            .read("snap.yaml")
            .lines()
            .filter(|line| line.starts_with("format:"))
            .count(),
        1
    );
}

/// The most memory that a running program had so far, in KiB.
#[cfg(target_os = "linux")]
fn most_memory(process: u32) -> Option<u64> {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).ok()?;
    let line = status
        .lines()
        .find_map(|line| line.strip_prefix("VmHWM:"))?;
    line.trim().trim_end_matches(" kB").parse().ok()
}

#[cfg(target_os = "linux")]
#[test]
fn an_export_is_larger_than_the_memory_that_reading_it_takes() {
    use std::fmt::Write;
    let folder = Folder::new();
    let noise = format!("{{\"at\":1,\"what\":\"{}\"}}", "x".repeat(1_000));
    let mut text = "{\"nets\":[{\"n\":\"a\",\"b\":\"10.0.0.0/8\"}],\"log\":[".to_owned();
    for _ in 0..20_000 {
        let _ = write!(text, "{noise},");
    }
    let _ = write!(text, "{noise}],\"crews\":[");
    for at in 0..200 {
        let comma = if at == 0 { "" } else { "," };
        let _ = write!(
            text,
            "{comma}{{\"label\":\"g{at}\",\"noise\":[{}]}}",
            vec![noise.as_str(); 100].join(",")
        );
    }
    text.push_str("]}");
    let bytes = text.len() as u64;
    assert!(bytes > 40_000_000);
    folder.write("big.json", text);
    let records = "  - { into: networks, from: \"$.nets[*]\", fields: { id: $.n, blocks: $.b } }
  - { into: security_groups, from: \"$.crews[*]\", fields: { id: $.label } }\n";
    folder.write(
        "p.yaml",
        format!("format: heronshale-profile\nversion: 1\nname: big\nrecords:\n{records}"),
    );
    let mut child = std::process::Command::new(env!("CARGO_BIN_EXE_heronshale"))
        .args([
            "import",
            "--profile",
            "p.yaml",
            "big.json",
            "--into",
            "snap.yaml",
        ])
        .current_dir(folder.path())
        .stdout(std::process::Stdio::null())
        .spawn()
        .unwrap();
    let mut most = 0;
    while child.try_wait().unwrap().is_none() {
        most = most_memory(child.id()).unwrap_or(most).max(most);
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    assert!(child.wait().unwrap().success());
    assert_eq!(folder.read("snap.yaml").matches("- id: g").count(), 200);
    assert!(
        most > 0 && most * 1024 < bytes,
        "{most} KiB for {bytes} bytes"
    );
}
