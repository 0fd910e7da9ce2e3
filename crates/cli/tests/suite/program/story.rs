//! The demo, the start of a snapshot of one's own, and what a reader meets on the way.

use crate::folder::{Folder, HEADER, words_of};
use heronshale_audit::finding::CATALOGUE;
use std::fmt::Write;

#[test]
fn the_demo_tells_its_story_twice_and_overwrites_nothing() {
    let folder = Folder::new();
    let first = folder.run(&["demo"]).ok();
    assert_eq!(first, folder.run(&["demo"]).ok());
    for wanted in [
        "Marrowfen Ferries",
        "URGENT",
        "fares-db",
        "Try next",
        "$ heronshale audit",
    ] {
        assert!(first.contains(wanted), "{wanted}\n{first}");
    }
    folder.write("marrowfen-ferries/fleet.yaml", "mine");
    let told = folder.run(&["demo"]).fails(2);
    assert!(
        told.contains("fleet.yaml already exists")
            && folder.read("marrowfen-ferries/fleet.yaml") == "mine",
        "{told}"
    );
    folder.run(&["demo", "--force"]).ok();
    assert_eq!(first, folder.run(&["demo"]).ok());
}

#[test]
fn every_kind_of_finding_occurs_in_the_demo() {
    let (_, audit) = Folder::with_demo().json(&["audit", "-e", "marrowfen-ferries"]);
    let findings = audit["answer"]["findings"].as_array().unwrap();
    // What is undecided needs a list that nobody writes by hand.
    for kind in CATALOGUE.iter().filter(|kind| kind.name != "undecided") {
        assert!(
            findings.iter().any(|finding| finding["kind"] == kind.name),
            "{}",
            kind.name
        );
    }
    let prints: std::collections::BTreeSet<&str> = findings
        .iter()
        .map(|finding| finding["fingerprint"].as_str().unwrap())
        .collect();
    assert_eq!(prints.len(), findings.len(), "fingerprints are unique");
    for word in ["urgent", "serious", "minor", "note"] {
        assert!(
            findings.iter().any(|finding| finding["severity"] == word),
            "{word}"
        );
    }
}

#[test]
fn a_first_snapshot_audits_cleanly_and_is_not_overwritten() {
    let folder = Folder::new();
    folder.run(&["init"]).ok();
    let told = folder.run(&["audit", "--fail-on", "note"]).ok();
    assert!(told.contains("No findings."), "{told}");
    assert!(
        folder.run(&["init"]).ok().contains("Wrote"),
        "the same text again is not an overwriting"
    );
    folder.write("snapshot.yaml", HEADER);
    folder.run(&["init"]).fails(2);
    assert_eq!(folder.read("snapshot.yaml"), HEADER);
    folder.run(&["init", "--force"]).ok();
    assert!(folder.read("snapshot.yaml").len() > 1000);
}

#[test]
fn every_text_fits_a_hundred_columns_and_the_first_line_answers() {
    let folder = Folder::with_demo();
    let commands: [&[&str]; 16] = [
        &[
            "path",
            "desk-1",
            "internet",
            "--tcp",
            "443",
            "-e",
            "marrowfen-ferries",
        ],
        &[
            "path",
            "network:tickets",
            "network:cargo",
            "-e",
            "marrowfen-ferries",
        ],
        &[
            "path",
            "build-1",
            "https://198.51.100.7",
            "-e",
            "marrowfen-ferries",
        ],
        &["routes", "freight-db", "-e", "marrowfen-ferries"],
        &["demo"],
        &["audit", "-e", "marrowfen-ferries"],
        &["audit", "--details", "-e", "marrowfen-ferries"],
        &["exposure", "-e", "marrowfen-ferries"],
        &["inventory", "-e", "marrowfen-ferries"],
        &["inventory", "--interfaces", "-e", "marrowfen-ferries"],
        &["effective", "--all", "-e", "marrowfen-ferries"],
        &["rule", "fares-db/tmp", "-e", "marrowfen-ferries"],
        &[
            "inventory",
            "--find",
            "192.0.2.77",
            "-e",
            "marrowfen-ferries",
        ],
        &["explain"],
        &["explain", "redundant"],
        &["--help"],
    ];
    for arguments in commands {
        let run = folder.run(arguments);
        let wide: Vec<&str> = run
            .stdout
            .lines()
            .filter(|line| line.chars().count() > 100 && !line.contains("services:"))
            .collect();
        assert!(wide.is_empty(), "{arguments:?}: {wide:#?}");
        assert!(
            run.stdout
                .lines()
                .next()
                .is_some_and(|line| line.contains(' '))
                && !run.stdout.contains('\u{1b}'),
            "{arguments:?}"
        );
    }
    let coloured = folder
        .run_with(
            &["audit", "-e", "marrowfen-ferries"],
            &[("CLICOLOR_FORCE", "1")],
        )
        .stdout;
    let plain = folder.run(&["audit", "-e", "marrowfen-ferries"]).stdout;
    let stripped = anstream::adapter::strip_str(&coloured).to_string();
    assert!(
        coloured.contains('\u{1b}') && stripped == plain,
        "colour adds nothing and hides nothing"
    );
    let silent = folder
        .run_with(
            &["audit", "-e", "marrowfen-ferries"],
            &[("CLICOLOR_FORCE", "1"), ("NO_COLOR", "1")],
        )
        .stdout;
    assert_eq!(silent, plain);
}

#[test]
fn an_audit_of_three_thousand_findings_still_fits_120_lines() {
    let mut text = format!(
        "{HEADER}networks: [{{ id: n, blocks: [10.0.0.0/8] }}]\nsubnets: [{{ id: s, network: n, blocks: [10.0.0.0/9], groups: [g] }}]\n"
    );
    text.push_str("interfaces: [{ id: i, subnet: s, addresses: [10.0.0.4] }]\nsecurity_groups:\n- id: g\n  inbound:\n");
    for port in 1..=3_000 {
        let _ = writeln!(
            text,
            "  - {{ id: r{port}, services: tcp {port}, peers: any }}"
        );
    }
    let folder = Folder::with(&text);
    let told = folder.run(&["audit"]).stdout;
    assert!(
        told.lines().count() <= 120
            && told.starts_with("0 of 1 workload is reachable from the internet. 3001 findings"),
        "{}\n{told}",
        told.lines().count()
    );
    assert!(told.contains("(--at-least minor)"), "{told}");
    assert!(folder.run(&["audit", "--details"]).stdout.lines().count() > 12_000);
}

#[test]
fn effective_rules_of_a_long_list_stay_readable_and_complete() {
    let mut text = format!(
        "{HEADER}networks: [{{ id: n, blocks: [10.0.0.0/8] }}]\nsubnets: [{{ id: s, network: n, blocks: [10.0.0.0/9] }}]\n"
    );
    text.push_str("interfaces: [{ id: i, subnet: s, addresses: [10.0.0.4], own_firewall: o }]\nown_firewalls:\n- id: o\n  default_inbound: deny\n  default_outbound: allow\n  inbound:\n");
    for at in 0..2_000 {
        let action = if at % 3 == 0 { "deny" } else { "allow" };
        let _ = writeln!(
            text,
            "  - {{ id: r{at}, action: {action}, services: tcp {}, peers: 198.{}.{}.0/24 }}",
            at % 7 + 1,
            at % 50,
            at % 200
        );
    }
    let folder = Folder::with(&text);
    let told = folder.run(&["effective", "i"]).ok();
    assert!(
        told.lines().count() < 400 && told.contains("more (--details"),
        "{} lines",
        told.lines().count()
    );
    let (_, answer) = folder.json(&["effective", "i"]);
    let admitted = answer["answer"]["sides"][0]["admitted"].as_array().unwrap();
    let named = |rule: &str| {
        admitted
            .iter()
            .any(|entry| entry["decided"][0]["decider"]["rule"]["rule"] == rule)
    };
    assert!(
        named("r1") && !named("r0") && admitted.len() > 500,
        "{}",
        admitted.len()
    );
}

#[test]
fn selectors_and_traffic_narrow_an_answer() {
    let folder = Folder::with_demo();
    let entries = |arguments: &[&str]| {
        let (_, answer) = folder.json(&[arguments, &["-e", "marrowfen-ferries"]].concat());
        answer["answer"]["sides"][0]["admitted"]
            .as_array()
            .unwrap()
            .len()
    };
    assert_eq!(
        entries(&[
            "effective",
            "booking-1",
            "--tcp",
            "443",
            "--peer",
            "internet"
        ]),
        2
    );
    assert_eq!(
        entries(&[
            "effective",
            "10.65.1.11",
            "--tcp",
            "443",
            "--peer",
            "203.0.113.77"
        ]),
        1
    );
    assert_eq!(
        entries(&[
            "effective",
            "interface:booking-1",
            "--tcp",
            "22",
            "--peer",
            "desk-1"
        ]),
        0
    );
    assert_eq!(
        entries(&["effective", "booking-1", "--tcp", "22", "--peer", "bastion"]),
        1
    );
    let (_, all) = folder.json(&[
        "effective",
        "tag:data=restricted",
        "-e",
        "marrowfen-ferries",
    ]);
    assert_eq!(
        all["answer"].as_array().unwrap().len(),
        3,
        "one of each class"
    );
    let (_, found) = folder.json(&[
        "inventory",
        "--find",
        "10.65.4.20",
        "-e",
        "marrowfen-ferries",
    ]);
    let kinds: Vec<&str> = found["answer"]["holdings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["kind"].as_str().unwrap())
        .collect();
    for kind in ["interface", "subnet", "network", "route", "rule"] {
        assert!(kinds.contains(&kind), "{kind}: {kinds:?}");
    }
}

#[test]
fn completions_come_for_every_shell() {
    let folder = Folder::new();
    for shell in ["bash", "elvish", "fish", "powershell", "zsh"] {
        assert!(
            folder
                .run(&["completions", shell])
                .ok()
                .contains("heronshale"),
            "{shell}"
        );
    }
}

/// The examples of a command's help: the words behind the program's name.
fn examples(help: &str) -> Vec<String> {
    let lines = help.lines().skip_while(|line| *line != "Examples:");
    lines
        .filter_map(|line| line.strip_prefix("  heronshale "))
        .map(str::to_owned)
        .collect()
}

#[test]
fn help_is_one_sentence_three_examples_that_run_and_then_options() {
    let folder = Folder::with_demo();
    folder.write("exports/web.json", r#"{ "nets": [{ "name": "n" }] }"#);
    let main = folder.run(&["--help"]).ok();
    let commands = main
        .lines()
        .skip_while(|line| *line != "Commands:")
        .skip(1)
        .take_while(|line| !line.is_empty())
        .filter_map(|line| line.strip_prefix("  "))
        .filter(|line| !line.starts_with(' '))
        .map(|line| line.split(' ').next().unwrap().to_owned());
    let mut tried = 0;
    for command in commands.filter(|name| name != "help") {
        let help = folder.run(&[&command, "--help"]).ok();
        let all = examples(&help);
        assert_eq!(all.len(), 3, "{command}\n{help}");
        assert!(
            help.find("Examples:") < help.find("Options:"),
            "{command}\n{help}"
        );
        for example in all {
            let words = words_of(&example);
            // What is to be imported is other people's.
            if ["import", "guide"].contains(&words[0]) {
                continue;
            }
            let run = folder.run(&words);
            assert!(run.code <= 1, "{example}: {}{}", run.stdout, run.stderr);
            tried += 1;
        }
    }
    assert!(tried > 45, "{tried}");
}

#[test]
fn completions_offer_the_names_of_the_estate() {
    let folder = Folder::with_demo();
    for (words, offered) in [
        (&["path", "fares-"][..], "fares-db"),
        (&["routes", "hub:"], "hub:harbour/ships"),
        (&["audit", "--kind", "shad"], "shadowed"),
        (&["rule", "customs/"], "customs/not-berth-nine"),
        (&["effective", "group:book"], "group:booking-web"),
    ] {
        let estate = ["-e", "marrowfen-ferries"];
        let (front, last) = words.split_at(words.len() - 1);
        let line = [
            &["--", "heronshale"],
            &front[..1],
            &estate,
            &front[1..],
            last,
        ]
        .concat();
        let index = (line.len() - 2).to_string();
        let run = folder.run_with(
            &line,
            &[
                ("COMPLETE", "bash"),
                ("_CLAP_COMPLETE_INDEX", &index),
                ("_CLAP_IFS", "\n"),
            ],
        );
        assert!(
            run.stdout.lines().any(|line| line.starts_with(offered)),
            "{words:?}: {}{}",
            run.stdout,
            run.stderr
        );
    }
}

#[test]
fn manual_pages_are_written_whole_and_not_over_others() {
    let folder = Folder::new();
    let told = folder.run(&["manual", "man"]).ok();
    assert!(told.starts_with("Wrote 22 manual pages to man."), "{told}");
    assert!(
        folder
            .read("man/heronshale-path.1")
            .contains("heronshale-path")
    );
    folder.write("man/heronshale.1", "mine");
    folder.run(&["manual", "man"]).fails(2);
    assert_eq!(folder.read("man/heronshale.1"), "mine");
    assert!(folder.run(&["manual"]).ok().contains(".TH heronshale"));
}
