//! Small estates, each made to be judged wrongly, with the right answers beside: what is asked, and what has to come back.

use crate::folder::Folder;
use serde::Deserialize;
use serde_json::Value;
use std::collections::BTreeMap;

const HEAD: &str = "format: heronshale-snapshot\nversion: 1\n";
const NAMED: &str = "estate: { name: small, taken: 2026-11-02T06:00:00Z }\n";
const FOLDER: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/answers");

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Document {
    estate: Vec<Small>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Small {
    title: String,
    text: String,
    variant: Vec<Variant>,
}

impl Small {
    /// The whole document.
    fn document(&self) -> String {
        let named = if self.text.contains("\nestate: ") || self.text.starts_with("estate: ") {
            ""
        } else {
            NAMED
        };
        format!("{HEAD}{named}{}", self.text)
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Variant {
    #[serde(default)]
    name: String,
    /// Text of the estate, and what stands in its place here.
    #[serde(default)]
    edits: Vec<[String; 2]>,
    #[serde(default)]
    files: BTreeMap<String, String>,
    /// `+` before what some finding begins with, kind and title, `-` before what none does.
    #[serde(default)]
    audit: Vec<String>,
    #[serde(default)]
    checks: Vec<Check>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Check {
    run: String,
    /// What the program ends with; else it is not asked.
    code: Option<i32>,
    verdict: Option<String>,
    /// Texts of which one stands there, apart by `|`; anywhere, or in the first sentence.
    #[serde(default)]
    has: Vec<String>,
    #[serde(default)]
    first: Vec<String>,
    #[serde(default)]
    lacks: Vec<String>,
    #[serde(default)]
    not_first: Vec<String>,
    #[serde(default)]
    order: Vec<String>,
    /// Texts of fixes.
    #[serde(default)]
    fix: Vec<String>,
    /// How many things are in the way.
    count: Option<usize>,
}

fn items<'j>(value: &'j Value, key: &str) -> &'j [Value] {
    value[key].as_array().map_or(&[], Vec::as_slice)
}

fn text<'j>(value: &'j Value, key: &str) -> &'j str {
    value[key].as_str().unwrap_or("")
}

impl Check {
    /// What is wrong about an answer.
    fn wrong(&self, folder: &Folder) -> Vec<String> {
        let arguments: Vec<&str> = self.run.split_whitespace().collect();
        let run = folder.run(&arguments);
        let said = format!("{}{}", run.stdout, run.stderr);
        let first = said
            .split("\n\n")
            .next()
            .unwrap_or("")
            .split("\nsmall as of")
            .next()
            .unwrap_or("");
        let first = first.split_whitespace().collect::<Vec<_>>().join(" ");
        let mut wrong = Vec::new();
        let any = |all: &str, wanted: &str| wanted.split('|').any(|one| all.contains(one));
        wrong.extend(
            self.code
                .filter(|code| run.code != *code)
                .map(|code| format!("ends with {}, not {code}", run.code)),
        );
        wrong.extend(
            self.has
                .iter()
                .filter(|one| !any(&said, one))
                .map(|one| format!("lacks “{one}”")),
        );
        wrong.extend(
            self.first
                .iter()
                .filter(|one| !any(&first, one))
                .map(|one| format!("does not begin with “{one}”")),
        );
        wrong.extend(
            self.lacks
                .iter()
                .filter(|one| said.contains(*one))
                .map(|one| format!("has “{one}”")),
        );
        wrong.extend(
            self.not_first
                .iter()
                .filter(|one| first.contains(*one))
                .map(|one| format!("begins with “{one}”")),
        );
        let places: Vec<Option<usize>> = self.order.iter().map(|one| said.find(one)).collect();
        if places.contains(&None) || !places.is_sorted() {
            wrong.push(format!("has {:?} at {places:?}", self.order));
        }
        if self.verdict.is_some() || self.count.is_some() || !self.fix.is_empty() {
            let (_, json) = folder.json(&arguments);
            let answer = &json["answer"];
            let verdict = text(answer, "verdict");
            wrong.extend(
                self.verdict
                    .as_ref()
                    .filter(|one| *one != verdict)
                    .map(|one| format!("is {verdict}, not {one}")),
            );
            let edits = items(answer, "fixes")
                .iter()
                .flat_map(|fix| items(fix, "edits"));
            let edits: Vec<&str> = edits.map(|edit| text(edit, "text")).collect();
            let missed = self
                .fix
                .iter()
                .filter(|one| !edits.iter().any(|edit| edit.contains(one.as_str())));
            wrong.extend(missed.map(|one| format!("offers no “{one}”: {edits:?}")));
            let count = items(answer, "obstacles").len();
            wrong.extend(
                self.count
                    .filter(|wanted| *wanted != count)
                    .map(|wanted| format!("{count} in the way, not {wanted}")),
            );
        }
        wrong
            .iter()
            .map(|what| format!("{}: {what}\n{said}", self.run))
            .collect()
    }
}

/// What is wrong about the findings.
fn wrong_findings(wanted: &[String], folder: &Folder) -> Vec<String> {
    if wanted.is_empty() {
        return Vec::new();
    }
    let (_, json) = folder.json(&["audit", "--fail-on", "never"]);
    let findings = items(&json["answer"], "findings").iter();
    let titles: Vec<String> = findings
        .map(|one| format!("{}: {}", text(one, "kind"), text(one, "title")))
        .collect();
    let is_there = |one: &str| match one.split_once(": ") {
        Some((kind, what)) => titles
            .iter()
            .any(|title| title.starts_with(&format!("{kind}: ")) && title.contains(what)),
        None => titles
            .iter()
            .any(|title| title.starts_with(&format!("{one}: "))),
    };
    let missed = wanted
        .iter()
        .filter(|one| is_there(&one[1..]) != one.starts_with('+'));
    missed
        .map(|one| format!("audit {one}: {titles:#?}"))
        .collect()
}

#[test]
fn small_estates_are_judged_rightly() {
    let mut wrong = Vec::new();
    let mut asked = 0;
    let mut paths: Vec<_> = std::fs::read_dir(FOLDER)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .collect();
    paths.sort();
    for path in paths {
        let document: Document = toml::from_str(&std::fs::read_to_string(&path).unwrap()).unwrap();
        for (small, variant) in document
            .estate
            .iter()
            .flat_map(|small| small.variant.iter().map(move |one| (small, one)))
        {
            let mut estate = small.document();
            for [old, new] in &variant.edits {
                assert!(
                    estate.contains(old.as_str()),
                    "{}: nothing says {old}",
                    small.title
                );
                estate = estate.replacen(old, new, 1);
            }
            let folder = Folder::new();
            folder.write("estate.yaml", &estate);
            for (name, text) in &variant.files {
                folder.write(name, text);
            }
            let mut all = wrong_findings(&variant.audit, &folder);
            all.extend(variant.checks.iter().flat_map(|check| check.wrong(&folder)));
            asked += variant.audit.len() + variant.checks.len();
            wrong.extend(
                all.iter()
                    .map(|what| format!("{}, {}: {what}", small.title, variant.name)),
            );
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(asked > 80, "{asked}");
}

/// One of each kind of which a part may be said to be lacking.
const OBJECTS: [&str; 20] = [
    "network:n",
    "subnet:f",
    "interface:y",
    "workload:w",
    "group:g",
    "acl:a",
    "policy:p",
    "own-firewall:o",
    "firewall-policy:fp",
    "table:t",
    "gateway:ig",
    "peering:pe",
    "site:yard",
    "hub:h",
    "firewall:fw",
    "balancer:b",
    "service:svc",
    "set:set",
    "names:web",
    "zone:zone",
];

#[test]
fn each_part_of_each_kind_is_either_asked_about_or_refused() {
    let text = std::fs::read_to_string(format!("{FOLDER}/parts.toml")).unwrap();
    let document: Document = toml::from_str(&text).unwrap();
    let small = &document.estate[0];
    let parts = ["interfaces", "own_firewalls", "groups", "rules", "routes"];
    let gaps = OBJECTS.iter().flat_map(|object| {
        parts.map(|part| format!("{{ object: \"{object}\", lacks: {part} }}, "))
    });
    let asked = |gap: &String| {
        small
            .variant
            .iter()
            .flat_map(|one| &one.edits)
            .any(|[_, new]| new.ends_with(gap))
    };
    let (asked, refused): (Vec<String>, Vec<String>) = gaps.partition(asked);
    assert_eq!(asked.len() + 1, small.variant.len());
    let folder = Folder::new();
    let with = |gaps: &[String]| {
        small
            .document()
            .replacen("gaps: [", &format!("gaps: [{}", gaps.concat()), 1)
    };
    folder.write("estate.yaml", with(&asked));
    assert_eq!(folder.run(&["inventory"]).code, 0);
    folder.write("estate.yaml", with(&refused));
    let told = folder.run(&["inventory"]).fails(3);
    assert_eq!(
        told.matches("that could be missing").count(),
        refused.len(),
        "{told}"
    );
    assert!(
        told.contains("possible missing parts: interfaces, own_firewalls, groups"),
        "{told}"
    );
}
