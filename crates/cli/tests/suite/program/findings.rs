//! Every kind of finding fires where its fixture says, and nowhere else.

use crate::folder::{Folder, files};
use heronshale_audit::finding::CATALOGUE;
use std::collections::BTreeSet;
use std::fmt::Write;

const FIXTURES: &str = include_str!("../../fixtures/findings.yaml");

/// What an audit reports: files, lines and kinds.
type Reported = BTreeSet<(String, usize, String)>;

fn reported(folder: &Folder) -> Reported {
    let (_, audit) = folder.json(&["audit"]);
    let findings = audit["answer"]["findings"].as_array().unwrap();
    findings
        .iter()
        .map(|finding| {
            let text = |value: &serde_json::Value| value.as_str().unwrap().to_owned();
            let line = usize::try_from(finding["place"]["line"].as_u64().unwrap()).unwrap();
            (
                text(&finding["place"]["file"]),
                line,
                text(&finding["kind"]),
            )
        })
        .collect()
}

fn has(reported: &Reported, kind: &str) -> bool {
    reported.iter().any(|(_, _, found)| found == kind)
}

/// A fixture with `@KIND` replaced by the fingerprint of the first finding of that kind without acceptances.
fn with_fingerprints(text: &str) -> String {
    let Some((before, rest)) = text.split_once("\n---\nformat: heronshale-acceptances\n") else {
        return text.to_owned();
    };
    let (_, audit) = Folder::with(before).json(&["audit"]);
    let mut rest = rest.to_owned();
    for finding in audit["answer"]["findings"].as_array().unwrap() {
        let (kind, print) = (
            finding["kind"].as_str().unwrap(),
            finding["fingerprint"].as_str().unwrap(),
        );
        rest = rest.replace(&format!("@{kind}"), print);
    }
    format!("{before}\n---\nformat: heronshale-acceptances\n{rest}")
}

/// A fixture says behind `#!` on a line which kinds are to be reported there. Missed and spurious ones are told apart.
fn check(title: &str, text: &str) -> Result<(), String> {
    let text = with_fingerprints(text);
    let mut expected = BTreeSet::new();
    for (file, text) in files(&text) {
        for (at, line) in text.lines().enumerate() {
            if let Some((_, kinds)) = line.split_once("#!") {
                expected.extend(
                    kinds
                        .split_whitespace()
                        .map(|kind| (file.to_owned(), at + 1, kind.to_owned())),
                );
            }
        }
    }
    let found = reported(&Folder::with(&text));
    let missed: Vec<_> = expected.difference(&found).collect();
    let spurious: Vec<_> = found.difference(&expected).collect();
    if missed.is_empty() && spurious.is_empty() {
        Ok(())
    } else {
        Err(format!("{title}: missed {missed:?}, spurious {spurious:?}"))
    }
}

/// The fixtures are separated by `--- title`; what comes before the first is put in front of each.
pub fn fixtures() -> Vec<(String, String)> {
    let (common, rest) = FIXTURES.split_once("\n--- ").unwrap();
    let one = |fixture: &str| {
        let (title, text) = fixture.split_once('\n').unwrap();
        (title.to_owned(), format!("{common}\n{text}"))
    };
    rest.split("\n--- ").map(one).collect()
}

#[test]
fn every_kind_fires_where_its_fixture_says_and_nowhere_else() {
    let all = fixtures();
    let wrong: Vec<String> = all
        .iter()
        .filter_map(|(title, text)| check(title, text).err())
        .collect();
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    for kind in CATALOGUE.iter().filter(|kind| kind.name != "undecided") {
        let fires = all
            .iter()
            .filter(|(_, text)| {
                text.lines().any(|l| {
                    l.split_once("#!")
                        .is_some_and(|(_, k)| k.contains(kind.name))
                })
            })
            .count();
        let silent = all
            .iter()
            .filter(|(title, _)| title.starts_with(&format!("{}: silent", kind.name)))
            .count();
        assert!(
            fires >= 1 && silent >= 1,
            "{}: {fires} fixtures fire, {silent} near misses",
            kind.name
        );
    }
}

#[test]
fn the_catalogue_is_sound_and_every_example_fires() {
    let mut names = BTreeSet::new();
    for kind in CATALOGUE {
        let name = kind.name;
        assert!(names.insert(name), "{name} twice");
        assert!(
            name.chars()
                .all(|sign| sign.is_ascii_lowercase() || sign.is_ascii_digit() || sign == '-'),
            "{name}"
        );
        let kinds = concat!(env!("CARGO_MANIFEST_DIR"), "/../audit/src/finding/kinds");
        let file = name.replace('-', "_");
        let read = |file: String| std::fs::read_to_string(format!("{kinds}/{file}"));
        let text = read(format!("{file}.rs")).or_else(|_| read(format!("{file}/mod.rs")));
        let named = format!("name: \"{name}\"");
        assert!(text.is_ok_and(|text| text.contains(&named)), "{file}");
        for text in [kind.about, kind.why, kind.triggers, kind.fix] {
            assert!(text.len() > 10 && text.ends_with('.'), "{name}: {text}");
        }
        let folder = Folder::with(kind.example);
        let fires = has(&reported(&folder), name);
        assert!(
            fires || name == "undecided",
            "{name}: its example is silent"
        );
        let told = folder.run(&["explain", name]).ok();
        assert!(
            told.starts_with(&format!("{name}: ")) && told.contains("An example"),
            "{told}"
        );
    }
}

#[test]
fn severity_follows_the_factors_that_are_printed() {
    let (_, audit) = Folder::with_demo().json(&["audit", "-e", "marrowfen-ferries"]);
    let words = ["note", "minor", "serious", "urgent"];
    let at =
        |word: &serde_json::Value| words.iter().position(|known| word == known).unwrap() as i64;
    for finding in audit["answer"]["findings"].as_array().unwrap() {
        let steps: i64 = finding["factors"]
            .as_array()
            .unwrap()
            .iter()
            .map(|factor| factor["steps"].as_i64().unwrap())
            .sum();
        assert_eq!(
            at(&finding["severity"]),
            (at(&finding["base"]) + steps).clamp(0, 3),
            "{finding:#}"
        );
    }
}

#[test]
fn fingerprints_outlive_reordering_renumbering_and_reformatting() {
    let prints = |text: &str| {
        let (_, audit) = Folder::with(text).json(&["audit"]);
        let all = audit["answer"]["findings"]
            .as_array()
            .unwrap()
            .iter()
            .map(|finding| finding["fingerprint"].as_str().unwrap().to_owned());
        all.collect::<BTreeSet<_>>()
    };
    let head = "format: heronshale-snapshot\nversion: 1\n";
    let places = "networks: [{ id: n, blocks: [10.65.0.0/16] }]\nsubnets: [{ id: s, network: n, blocks: [10.65.1.0/24], acl: a }]\n";
    let first =
        "  - { id: one, action: allow, priority: 10, services: tcp 1-100, peers: 10.0.0.0/8 }\n";
    let second = "  - { id: two, action: deny, priority: 20, services: tcp 22, peers: [10.1.0.0/16, 10.2.0.0/16] }\n";
    let before = prints(&format!(
        "{head}{places}network_acls:\n- id: a\n  inbound:\n{first}{second}"
    ));
    let second = "  - id: renamed\n    action: deny\n    priority: 2000\n    services: [ tcp 22 ]\n    peers: [10.2.0.0/16, 10.1.0.0/16]\n";
    let first = first.replace("priority: 10", "priority: 1000");
    let after = prints(&format!(
        "{head}network_acls:\n- id: a\n  inbound:\n{second}{first}{places}"
    ));
    assert_eq!(before, after);
    let narrower = prints(&format!(
        "{head}{places}network_acls:\n- id: a\n  inbound:\n{first}{}",
        second.replace("10.1.0.0", "10.3.0.0")
    ));
    assert_ne!(before, narrower);
}

/// A policy whose rules name so many zones.
fn with_zones(count: usize) -> String {
    let zones: Vec<String> = (0..count).map(|at| format!("z{at}")).collect();
    format!(
        "format: heronshale-snapshot\nversion: 1\nfirewall_policies:\n- id: p\n  rules:\n  - {{ id: a, action: allow, from_zones: [{}] }}\n",
        zones.join(", ")
    )
}

#[test]
fn more_zones_than_can_be_told_apart_are_undecided_and_never_fine() {
    let folder = Folder::with(&with_zones(256));
    assert!(has(&reported(&folder), "undecided"));
    let told = folder.run(&["audit", "--fail-on", "never"]);
    assert!(
        told.code == 1 && told.stdout.contains("undecided"),
        "{told:?}"
    );
    assert!(!has(
        &reported(&Folder::with(&with_zones(200))),
        "undecided"
    ));
}

/// So many machines with a public address each, the last few in a group of their own; both groups open one port.
fn many_open(machines: usize, others: usize) -> String {
    let mut text = String::from(
        "format: heronshale-snapshot\nversion: 1\nestate: { name: many, taken: 2026-11-02 }\n\
         networks: [{ id: n, blocks: 10.65.0.0/16, main_table: t }]\n\
         gateways: [{ id: w, kind: internet, network: n }]\n\
         route_tables: [{ id: t, network: n, routes: [{ to: 0.0.0.0/0, next_hop: \"gateway:w\" }] }]\n\
         subnets: [{ id: s, network: n, blocks: 10.65.0.0/20 }]\n\
         security_groups:\n\
         \x20 - { id: web, inbound: [{ id: open, services: tcp 22, peers: any, description: why }] }\n\
         \x20 - { id: old, inbound: [{ id: open, services: tcp 22, peers: any, description: why }] }\n\
         interfaces:\n",
    );
    let address = |at: usize| format!("{}.{}", at / 250, at % 250 + 2);
    for at in 0..machines {
        let group = if at + others < machines { "web" } else { "old" };
        writeln!(
            text,
            "  - {{ id: i{at}, subnet: s, addresses: 10.65.{}, groups: {group} }}",
            address(at)
        )
        .unwrap();
    }
    text.push_str("public_addresses:\n");
    for at in 0..machines {
        writeln!(
            text,
            "  - {{ address: 203.0.{}, interface: i{at} }}",
            address(at)
        )
        .unwrap();
    }
    text
}

#[test]
fn a_cause_is_told_once_with_its_places() {
    let folder = Folder::with(&many_open(300, 2));
    let text = folder.run(&["audit", "--kind", "exposed"]).stdout;
    assert!(text.contains("300 findings, 2 root causes"), "{text}");
    assert_eq!(text.matches("URGENT").count(), 2, "{text}");
    assert!(
        text.contains("and 295 more with the same cause\n"),
        "{text}"
    );
    let (_, audit) = folder.json(&["audit", "--kind", "exposed"]);
    assert_eq!(audit["answer"]["causes"], 2);
    let all = folder
        .run(&["audit", "--kind", "exposed", "--details"])
        .stdout;
    assert!(
        (0..300).all(|at| all.contains(&format!("i{at} at 203.0."))),
        "each place is told"
    );
    // The whole audit still fits.
    let whole = folder.run(&["audit"]).stdout;
    assert!(
        whole.lines().count() <= 120 && !whole.contains("\n\n\n"),
        "{}",
        whole.lines().count()
    );
}
