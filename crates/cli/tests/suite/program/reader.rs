//! The reader under stress: every field of the format with a wrong value, cut and mangled files, two notations of one estate.

use crate::folder::Folder;
use heronshale_intake::{LoadError, load_texts, snapshot_schema};
use serde_json::{Map, Value, json};
use std::fmt::Write;

/// The demo's files, by name.
fn demo() -> Vec<(String, String)> {
    let folder = Folder::with_demo();
    let names = [
        "cargo", "estate", "fleet", "harbour", "office", "policies", "quay", "tickets",
    ]
    .map(|name| format!("{name}.yaml"));
    names
        .into_iter()
        .map(|name| {
            (
                name.clone(),
                folder.read(&format!("marrowfen-ferries/{name}")),
            )
        })
        .collect()
}

fn resolve<'s>(schema: &'s Value, node: &'s Value) -> &'s Value {
    node["$ref"].as_str().map_or(node, |path| {
        schema.pointer(path.trim_start_matches('#')).unwrap()
    })
}

/// The record that a field holds, by itself or as the item of a list.
fn record_in<'s>(schema: &'s Value, field: &'s Value) -> Option<&'s Value> {
    let choices = field["anyOf"].as_array();
    let all = std::iter::once(field)
        .chain(choices.into_iter().flatten())
        .flat_map(|one| [one, &one["items"]]);
    all.map(|one| resolve(schema, one))
        .find(|one| one["properties"].is_object())
}

/// A value that a field certainly refuses: a map where a text or number is expected, a text where a record is.
fn wrong_for(schema: &Value, field: &Value) -> Value {
    if record_in(schema, field).is_some() {
        json!("nonsense")
    } else {
        json!({ "nonsense": [1, 2] })
    }
}

/// For each field of each record below a section: a wrong value at the bottom of records that hold nothing else.
fn wrong_values(
    schema: &Value,
    record: &Value,
    path: &mut Vec<(String, bool)>,
    all: &mut Vec<(String, Value)>,
) {
    for (name, field) in record["properties"].as_object().unwrap() {
        if ["tags"].contains(&name.as_str()) {
            continue;
        }
        // A field that is a list and nothing else gets its wrong value within a list.
        path.push((name.clone(), field["type"] == "array"));
        let mut value = wrong_for(schema, field);
        for (key, is_list) in path.iter().rev() {
            value = if *is_list { json!([value]) } else { value };
            value = Value::Object(Map::from_iter([(key.clone(), value)]));
        }
        all.push((
            path.iter()
                .map(|(key, _)| key.as_str())
                .collect::<Vec<_>>()
                .join("."),
            value,
        ));
        if let Some(inner) = record_in(schema, field).filter(|_| path.len() < 4) {
            wrong_values(schema, inner, path, all);
        }
        path.pop();
    }
}

#[test]
fn a_wrong_value_in_any_field_is_told_at_its_place() {
    let schema = snapshot_schema();
    let mut tried = 0;
    for (section, list) in schema["properties"].as_object().unwrap() {
        let Some(record) = record_in(&schema, list) else {
            continue;
        };
        let mut all = Vec::new();
        wrong_values(&schema, record, &mut Vec::new(), &mut all);
        for (path, value) in all {
            let item = if section == "estate" {
                value
            } else {
                json!([value])
            };
            let text = serde_json::to_string_pretty(
                &json!({ "format": "heronshale-snapshot", "version": 1, section: item }),
            )
            .unwrap();
            let Err(LoadError::Input { problems, .. }) = load_texts(&[("e.json", &text)]) else {
                panic!("{section}.{path}: no error\n{text}");
            };
            let at = text.find("nonsense").unwrap();
            let told = problems.iter().any(|problem| {
                let (start, end) = (problem.span.start as usize, problem.span.end as usize);
                (start..=end).contains(&at) && end - start < 120 && !problem.title.is_empty()
            });
            assert!(told, "{section}.{path}: {problems:#?}\n{text}");
            tried += 1;
        }
    }
    assert!(tried > 150, "{tried} fields");
}

#[test]
fn whatever_is_described_twice_is_told_with_both_places() {
    let demo = demo();
    for (name, text) in &demo {
        let copy = text.replace("estate:\n", "x:\n");
        let mut files: Vec<(&str, &str)> =
            demo.iter().map(|(name, text)| (&**name, &**text)).collect();
        files.push((
            "copy.yaml",
            if name == "estate.yaml" { &copy } else { text },
        ));
        let Err(LoadError::Input { problems, texts }) = load_texts(&files) else {
            panic!("{name} twice was read")
        };
        let told = |title: &str| title.contains(" have the ") || title.contains("twice");
        let twice = problems
            .iter()
            .filter(|problem| told(&problem.title))
            .count();
        let ids = text.matches("  - id: ").count() + text.matches("  - { id: ").count();
        // Ids of rules and routes need only be unique where they stand.
        let rules = text.matches("      - { id: ").count() + text.matches("      - id: ").count();
        assert!(
            twice + rules >= ids && twice > 2,
            "{name}: {twice} of {ids}"
        );
        let both = problems
            .iter()
            .filter(|problem| told(&problem.title) && problem.related.is_some());
        assert_eq!(both.count(), twice, "{name}");
        assert_eq!(texts.len(), files.len());
    }
}

#[test]
fn an_unknown_field_in_any_record_is_an_error_with_what_would_be_right() {
    let schema = snapshot_schema();
    for (section, list) in schema["properties"].as_object().unwrap() {
        let Some(record) = record_in(&schema, list) else {
            continue;
        };
        for name in record["properties"].as_object().unwrap().keys() {
            let misspelt = format!("{name}x");
            let record = json!({ &misspelt: 1 });
            let item = if section == "estate" {
                record
            } else {
                json!([record])
            };
            let text =
                json!({ "format": "heronshale-snapshot", "version": 1, section: item }).to_string();
            let Err(LoadError::Input { problems, .. }) = load_texts(&[("e.json", &text)]) else {
                panic!("{text}")
            };
            let told = problems
                .iter()
                .find(|problem| problem.title.contains(&format!("no field `{misspelt}`")));
            assert!(
                told.is_some_and(|problem| problem
                    .help
                    .as_ref()
                    .is_some_and(|help| help.contains(name.as_str()))),
                "{text}: {problems:?}"
            );
        }
    }
}

#[test]
fn mangled_files_give_errors_within_the_file_and_never_a_panic() {
    let files = demo();
    let mut random = fastrand::Rng::with_seed(7);
    let (mut refused, mut read) = (0, 0);
    for round in 0..1_500 {
        let mut changed = files.clone();
        let at = random.usize(0..changed.len());
        let mut bytes = changed[at].1.clone().into_bytes();
        let place = random.usize(0..bytes.len());
        match random.u8(0..6) {
            0 => bytes.truncate(place),
            1 => bytes[place] = b"{}[],:\"'&*!|>%@`#-?\\\n\t 0x~"[random.usize(0..26)],
            2 => drop(bytes.drain(place..(place + random.usize(1..40)).min(bytes.len()))),
            3 => bytes.splice(place..place, *b"- { id: x }").for_each(drop),
            4 => bytes.swap(place, random.usize(0..files[at].1.len())),
            _ => bytes
                .splice(place..place, "ü\u{202e}".bytes())
                .for_each(drop),
        }
        let Ok(text) = String::from_utf8(bytes) else {
            continue;
        };
        changed[at].1 = text;
        let texts: Vec<(&str, &str)> = changed
            .iter()
            .map(|(name, text)| (name.as_str(), text.as_str()))
            .collect();
        match load_texts(&texts) {
            Ok(_) => read += 1,
            Err(LoadError::Input { problems, texts }) => {
                refused += 1;
                assert!(!problems.is_empty(), "round {round}");
                for problem in &problems {
                    let text = &texts[problem.span.file.0 as usize].text;
                    assert!(
                        (problem.span.start as usize) <= text.len(),
                        "round {round}: {problem:?}"
                    );
                }
                let files: Vec<_> = texts
                    .iter()
                    .map(|file| heronshale_report::SourceFile {
                        name: &file.name,
                        text: &file.text,
                    })
                    .collect();
                let told = heronshale_report::problems(
                    &problems,
                    &files,
                    "the estate was not judged",
                    heronshale_report::Look::default(),
                );
                assert!(
                    told.contains("error: ") && told.contains(" --> "),
                    "round {round}: {told}"
                );
            }
            Err(error) => panic!("round {round}: {error:?}"),
        }
    }
    assert!(
        refused > 400 && read > 100,
        "{refused} refused, {read} read"
    );
}

/// A JSON value as YAML in block style.
fn to_yaml(value: &Value, indent: usize, out: &mut String) {
    let pad = "  ".repeat(indent);
    match value {
        Value::Array(items) if !items.is_empty() => {
            for item in items {
                match item {
                    Value::Object(fields) if !fields.is_empty() => {
                        let _ = writeln!(out, "{pad}-");
                        to_yaml(item, indent + 1, out);
                    }
                    _ => {
                        let _ = writeln!(out, "{pad}- {item}");
                    }
                }
            }
        }
        Value::Object(fields) => {
            for (key, field) in fields {
                let nested = field.as_array().is_some_and(|items| !items.is_empty())
                    || field.as_object().is_some_and(|map| !map.is_empty());
                if nested {
                    let _ = writeln!(out, "{pad}{key}:");
                    to_yaml(field, indent + 1, out);
                } else {
                    let _ = writeln!(out, "{pad}{key}: {field}");
                }
            }
        }
        _ => {
            let _ = writeln!(out, "{pad}{value}");
        }
    }
}

/// All that an estate says, without where it stands.
fn meaning(snapshot: &heronshale_intake::Snapshot) -> String {
    let text = format!(
        "{:#?}",
        (
            &snapshot.estate.networks,
            &snapshot.estate.subnets,
            &snapshot.estate.interfaces,
            &snapshot.estate.filters,
            &snapshot.estate.route_tables,
            &snapshot.estate.address_sets
        )
    );
    let mut out = String::new();
    let mut skip = 0_usize;
    for line in text.lines() {
        if line.contains("origin: Origin {") || line.contains("span: Span {") {
            skip = line.len() - line.trim_start().len() + 1;
        }
        if skip == 0 && !line.contains("by_name") {
            out.push_str(line);
            out.push('\n');
        }
        if skip > 0
            && line.trim_start().starts_with('}')
            && line.len() - line.trim_start().len() + 1 == skip
        {
            skip = 0;
        }
    }
    // The order of the index by name is not a meaning.
    let (kept, _): (Vec<&str>, Vec<&str>) = out
        .lines()
        .partition(|line| !line.trim_start().starts_with('"') || !line.ends_with(','));
    kept.join("\n")
}

#[test]
fn json_and_yaml_of_one_estate_are_read_alike() {
    for seed in 0..60 {
        let mut random = fastrand::Rng::with_seed(seed);
        let estate = crate::oracle::random_estate(&mut random);
        let mut yaml = String::new();
        to_yaml(&estate, 0, &mut yaml);
        let from_json = load_texts(&[("e.json", &estate.to_string())])
            .unwrap_or_else(|error| panic!("seed {seed}: {error:?}"));
        let from_yaml = load_texts(&[("e.yaml", &yaml)])
            .unwrap_or_else(|error| panic!("seed {seed}: {error:?}\n{yaml}"));
        assert_eq!(meaning(&from_json), meaning(&from_yaml), "seed {seed}");
        assert!(meaning(&from_json).len() > 5_000);
    }
}

#[test]
fn every_place_in_an_answer_points_at_what_it_names() {
    let folder = Folder::with_demo();
    let mut files: std::collections::BTreeMap<String, String> = demo().into_iter().collect();
    for name in ["expectations.yaml", "acceptances.yaml"] {
        files.insert(
            name.to_owned(),
            folder.read(&format!("marrowfen-ferries/{name}")),
        );
    }
    let mut places = Vec::new();
    fn collect(value: &Value, places: &mut Vec<(Value, Option<String>)>) {
        match value {
            Value::Object(fields) => {
                if fields.contains_key("pointer") {
                    places.push((value.clone(), None));
                }
                if let (Some(Value::String(rule)), Some(place @ Value::Object(_))) =
                    (fields.get("rule"), fields.get("place"))
                {
                    places.push((place.clone(), Some(rule.clone())));
                }
                fields.values().for_each(|field| collect(field, places));
            }
            Value::Array(items) => items.iter().for_each(|item| collect(item, places)),
            _ => {}
        }
    }
    for arguments in [
        &["audit"][..],
        &["inventory"],
        &["exposure"],
        &["effective", "--all"],
        &["rule", "fares-db/tmp"],
        &["path", "desk-1", "internet", "--tcp", "443"],
        &["path", "network:office", "network:cargo"],
        &["routes", "freight-db"],
        &["inventory", "--find", "10.65.4.20"],
    ] {
        collect(
            &folder
                .json(&[arguments, &["-e", "marrowfen-ferries"]].concat())
                .1,
            &mut places,
        );
    }
    assert!(places.len() > 500);
    for (place, rule) in places {
        let text = &files[place["file"].as_str().unwrap()];
        let [line, column] = ["line", "column"]
            .map(|field| usize::try_from(place[field].as_u64().unwrap()).unwrap());
        let here = &text.lines().nth(line - 1).unwrap()[column - 1..];
        if let Some(rule) = rule.filter(|rule| !rule.starts_with('#')) {
            assert!(
                here.starts_with('{') && here.contains(&format!("id: {rule},"))
                    || here.contains(&format!("id: \"{rule}\",")),
                "{place}: {here}"
            );
        }
        let section = place["pointer"]
            .as_str()
            .unwrap()
            .split('/')
            .nth(1)
            .unwrap()
            .to_owned();
        let before: Vec<&str> = text
            .lines()
            .take(line)
            .filter(|line| line.ends_with(':') && !line.starts_with([' ', '#']))
            .collect();
        assert_eq!(
            before.last().map(|line| line.trim_end_matches(':')),
            Some(section.as_str()),
            "{place}"
        );
    }
}

/// Keys of JSON as they may be written: what they say, and that an error points at them.
#[test]
fn keys_are_read_however_they_are_written_and_told_where_they_stand() {
    let escaped = |text: &str| {
        text.chars()
            .map(|one| format!("\\u{:04x}", u32::from(one)))
            .collect::<String>()
    };
    let known = [
        r"id".to_owned(),
        escaped("id"),
        format!("i{}", escaped("d")),
        format!("{}d", escaped("i")),
    ];
    for (space, key) in ["", " ", "\n\t "]
        .iter()
        .flat_map(|space| known.iter().map(move |key| (space, key)))
    {
        let text = format!(
            r#"{{"format":"heronshale-snapshot",{space}"version"{space}:1,"networks":[{{{space}"{key}"{space}:{space}"east","blocks":"10.0.0.0/8"}}]}}"#
        );
        let read =
            load_texts(&[("quay.json", &text)]).unwrap_or_else(|error| panic!("{text}: {error:?}"));
        assert!(read.estate.networks.find("east").is_some(), "{text}");
    }
    for key in [
        r"colour",
        r#"col\"our"#,
        r"colo\\ur",
        r"f\u00e4rg",
        r"färg",
        r"\ud83d\ude00",
        r"😀",
        r"",
        r"a\tb",
        r"quay: {",
    ] {
        for before in ["", r#""description": "a \"colour\": no key", "#] {
            let text = format!(
                r#"{{"format":"heronshale-snapshot","version":1,"networks":[{{"id":"east","blocks":"10.0.0.0/8",{before} "{key}" : 1}}]}}"#
            );
            let Err(LoadError::Input { problems, texts }) = load_texts(&[("quay.json", &text)])
            else {
                panic!("{text}")
            };
            let [problem] = problems.as_slice() else {
                panic!("{text}: {problems:?}")
            };
            let (from, to) = (problem.span.start as usize, problem.span.end as usize);
            assert_eq!(&texts[0].text[from..to], format!("\"{key}\""), "{text}");
            let meant: String = serde_json::from_str(&format!("\"{key}\"")).unwrap();
            assert!(
                problem.title.contains(&format!("`{meant}`")),
                "{text}: {}",
                problem.title
            );
        }
    }
}
