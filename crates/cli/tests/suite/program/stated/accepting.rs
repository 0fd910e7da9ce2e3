//! Acceptances and the configuration.

use super::*;

#[test]
pub(super) fn a_draft_accepts_nothing_until_it_is_filled_in_and_then_just_that() {
    let folder = Folder::with(ESTATE);
    let (code, audit) = folder.json(&[
        "audit",
        "--draft-acceptances",
        "draft.yaml",
        "--fail-on",
        "note",
    ]);
    let all = findings(&audit);
    assert!(code == 1 && all.len() >= 2, "{all:?}");
    let draft = folder.read("draft.yaml");
    let told = folder
        .run(&["audit", "--acceptances", "draft.yaml"])
        .fails(3);
    assert_eq!(
        told.matches("a text must not be empty").count(),
        2 * all.len(),
        "{told}"
    );
    assert_eq!(
        told.matches("`` is not a date").count(),
        all.len(),
        "{told}"
    );
    std::fs::remove_file(folder.path().join("draft.yaml")).unwrap();
    folder.write("acceptances.yaml", filled(&draft, "2026-11-09"));
    let (code, audit) = folder.json(&["audit", "--fail-on", "note"]);
    assert_eq!((code, findings(&audit)), (0, Vec::new()));
    let accepted = audit["answer"]["accepted"].as_array().unwrap();
    assert_eq!(accepted.len(), all.len());
    assert!(
        accepted
            .iter()
            .all(|one| one["who"] == "Ada" && one["days_left"] == 7),
        "{accepted:#?}"
    );
    let told = folder.run(&["explain", &all[0].1]).ok();
    assert!(
        told.starts_with("Accepted until") && told.contains("for now (Ada)"),
        "{told}"
    );
    // Nothing is written over it.
    let told = folder
        .run(&["audit", "--draft-acceptances", "acceptances.yaml"])
        .fails(2);
    assert!(told.contains("already exists"), "{told}");
    // Its day is its last.
    assert_eq!(
        folder
            .run(&["audit", "--fail-on", "note", "--at", "2026-11-09"])
            .code,
        0
    );
    let (code, audit) = folder.json(&["audit", "--fail-on", "serious", "--at", "2026-11-10"]);
    let count = |kind: &str| {
        findings(&audit)
            .iter()
            .filter(|(found, _)| found == kind)
            .count()
    };
    assert_eq!(
        (code, count("acceptance-expired"), count("exposed")),
        (1, all.len(), 1)
    );
}

#[test]
pub(super) fn an_acceptance_pins_what_was_open() {
    let with_exposed = |estate: &str, acceptance: &str| {
        let folder = Folder::with(estate);
        folder.write("acceptances.yaml", acceptance);
        folder
    };
    let folder = Folder::with(ESTATE);
    folder.run(&[
        "audit",
        "--kind",
        "exposed",
        "--draft-acceptances",
        "draft.yaml",
    ]);
    let acceptance = filled(&folder.read("draft.yaml"), "2027-01-31");
    let kinds = |folder: &Folder| -> Vec<String> {
        let (_, audit) = folder.json(&["audit"]);
        let about =
            |kind: &&(String, String)| kind.0 == "exposed" || kind.0.starts_with("acceptance-");
        findings(&audit)
            .iter()
            .filter(about)
            .map(|(kind, _)| kind.clone())
            .collect()
    };
    let wider = ESTATE.replace(
        "services: tcp 8080, peers",
        "services: tcp 8080-8081, peers",
    );
    let elsewhere = ESTATE.replace("content: 198.51.100.0/24", "content: 198.51.100.0/23");
    let narrower = ESTATE.replace("services: tcp 8080, peers", "services: tcp 8090, peers");
    let gone = ESTATE.replace(
        "public_addresses: [{ address: 203.0.113.10, interface: web-1 }]",
        "public_addresses: []",
    );
    let table: [(&str, &str, &[&str]); 5] = [
        ("as it was", ESTATE, &[]),
        ("one port more", &wider, &["exposed"]),
        ("more addresses in a set", &elsewhere, &["exposed"]),
        (
            "another port instead",
            &narrower,
            &["exposed", "acceptance-too-wide"],
        ),
        ("gone", &gone, &["acceptance-unused"]),
    ];
    for (title, estate, expected) in table {
        assert_eq!(
            kinds(&with_exposed(estate, &acceptance)),
            expected,
            "{title}"
        );
    }
    let told = with_exposed(&wider, &acceptance)
        .run(&["audit", "--kind", "exposed"])
        .stdout;
    assert!(
        told.contains("accepted by Ada") && told.contains("grown since: tcp 8081"),
        "{told}"
    );
    // Without packets it would accept anything.
    let loose: String = acceptance
        .lines()
        .filter(|line| !line.contains("packets") && !line.contains("- {"))
        .fold(String::new(), |text, line| text + line + "\n");
    assert_eq!(
        kinds(&with_exposed(ESTATE, &loose)),
        ["exposed", "acceptance-too-wide"]
    );
    // Reordered, renamed, reformatted and split, it is the same finding.
    let moved = ESTATE
        .replace("id: https,", "id: renamed,")
        .replace("- id: web\n  inbound:\n", "- inbound:\n");
    let moved = moved.replace(
        "  outbound: [{ id: db, ",
        "  id: web\n  outbound: [{ id: db, ",
    );
    let (first, second) = moved.split_once("security_groups:").unwrap();
    let folder = with_exposed(first, &acceptance);
    folder.write(
        "aaa.yaml",
        format!("format: heronshale-snapshot\nversion: 1\nsecurity_groups:{second}"),
    );
    assert_eq!(kinds(&folder), [""; 0]);
}

#[test]
pub(super) fn since_an_earlier_snapshot_only_what_is_new_or_grown_is_told() {
    let folder = Folder::with(ESTATE);
    let wider = ESTATE
        .replace("services: tcp 8080, peers", "services: tcp 8080-8081, peers")
        .replace(
            "- { id: db-1, subnet: front",
            "- { id: db-2, subnet: front, addresses: 10.65.1.22, groups: db }\n- { id: db-1, subnet: front",
        )
        .replace(
            "outbound: [{ id: none, services: tcp 25, peers: 10.65.1.11, description: mail }]",
            "outbound: [{ id: none, services: tcp 25, peers: 10.65.1.11 }]",
        );
    folder.write("new/estate.yaml", wider);
    let (code, audit) = folder.json(&[
        "audit",
        "-e",
        "new",
        "--since",
        "estate.yaml",
        "--fail-on",
        "minor",
    ]);
    let kinds: Vec<String> = findings(&audit).into_iter().map(|(kind, _)| kind).collect();
    assert_eq!(
        (code, kinds),
        (1, vec!["exposed".to_owned(), "no-description".to_owned()])
    );
    let (code, audit) = folder.json(&[
        "audit",
        "-e",
        "estate.yaml",
        "--since",
        "new/estate.yaml",
        "--fail-on",
        "note",
    ]);
    assert_eq!((code, findings(&audit)), (0, Vec::new()));
    let told = folder
        .run(&["audit", "-e", "estate.yaml", "--since", "new/estate.yaml"])
        .ok();
    assert!(
        told.starts_with("1 of 2 workloads is reachable from the internet. No new findings."),
        "{told}"
    );
    let gone = audit["answer"]["since"]["gone"].as_array().unwrap();
    assert!(
        gone.len() == 1 && gone[0]["kind"] == "no-description",
        "{gone:#?}"
    );
}

#[test]
pub(super) fn the_configuration_names_the_files_the_severities_and_the_controls() {
    let folder = Folder::new();
    folder.write("estate/a.yaml", ESTATE);
    folder.write("said.yaml", "format: heronshale-expectations\nversion: 1\nexpectations: [{ name: e, from: internet, never_reaches: web }]\n");
    let configuration = "format: heronshale-configuration\nversion: 1\nestate: estate\nexpectations: said.yaml\n\
        severities: [{ kind: any-source, severity: urgent, reason: we were burnt }]\n\
        controls: [{ control: N-1, kinds: [any-source, exposed] }, { control: N-2, kinds: shadowed }]\n";
    folder.write("heronshale.yaml", configuration);
    let (_, audit) = folder.json(&["audit"]);
    assert_eq!(states(&audit), ["e broken"]);
    let any = audit["answer"]["findings"]
        .as_array()
        .unwrap()
        .iter()
        .find(|one| one["kind"] == "any-source")
        .unwrap();
    assert_eq!(
        (any["base"].as_str(), any["regraded"].as_str()),
        (Some("urgent"), Some("we were burnt"))
    );
    assert_eq!(any["controls"], serde_json::json!(["N-1"]));
    let by_control = &audit["answer"]["by_control"];
    assert_eq!(
        (
            by_control[0]["count"].as_u64(),
            by_control[1]["count"].as_u64()
        ),
        (Some(2), Some(0))
    );
    let told = folder.run(&["audit"]).stdout;
    assert!(told.contains("· heronshale.yaml, said.yaml"), "{told}");
    // What is given on the command line wins.
    folder.write(
        "other.yaml",
        "format: heronshale-expectations\nversion: 1\n",
    );
    assert_eq!(
        states(&folder.json(&["audit", "--expectations", "other.yaml"]).1),
        [""; 0]
    );
    folder.write(
        "heronshale.yaml",
        configuration
            .replace("shadowed", "shadwed")
            .replace("urgent", "awful"),
    );
    let told = folder.run(&["audit"]).fails(3);
    assert!(
        told.contains("did you mean `shadowed`?")
            && told.contains("`awful` is not a valid severity"),
        "{told}"
    );
}

/// The acceptance of a draft with its blanks filled in.
pub(super) fn filled(draft: &str, until: &str) -> String {
    draft
        .replace("reason: \"\"", "reason: for now")
        .replace("who: \"\"", "who: Ada")
        .replace("until: \"\"", &format!("until: {until}"))
}

#[test]
pub(super) fn three_thousand_findings_fit_a_page() {
    let mut text = String::from(
        "format: heronshale-snapshot\nversion: 1\nestate: { name: many, taken: 2026-11-02 }\nsecurity_groups:\n",
    );
    for at in 0..3000 {
        text.push_str(&format!(
            "  - {{ id: g{at}, inbound: [{{ id: r, services: tcp {}, peers: any }}] }}\n",
            at + 1000
        ));
    }
    let folder = Folder::with(&text);
    let told = folder.run(&["audit"]).stdout;
    assert!(
        told.lines().count() <= 120 && told.lines().all(|line| line.chars().count() <= 100),
        "{}",
        told.lines().count()
    );
    let (_, audit) = folder.json(&["audit"]);
    assert!(audit["answer"]["findings"].as_array().unwrap().len() >= 3000);
}

#[test]
pub(super) fn hostile_names_steer_nothing_and_drafts_are_read_again() {
    let hostile = "\u{1b}[31m\\\" #: {x} \u{202e}";
    let quoted = serde_json::to_string(hostile).unwrap();
    let estate = ESTATE
        .replace("id: web, owner", &format!("id: {quoted}, owner"))
        .replace("workload: web", &format!("workload: {quoted}"));
    let folder = Folder::with(&estate);
    folder.write(
        "expectations.yaml",
        format!("format: heronshale-expectations\nversion: 1\nexpectations: [{{ name: {quoted}, from: internet, never_reaches: db-1, reason: {quoted} }}]\n"),
    );
    folder
        .run(&["exposure", "--draft-expectations", "drafts/e.yaml"])
        .ok();
    folder.run(&["audit", "--draft-acceptances", "drafts/a.yaml"]);
    let accepted = filled(&folder.read("drafts/a.yaml"), "2027-01-31");
    folder.write("drafts/a.yaml", accepted);
    for arguments in [
        &["audit"][..],
        &[
            "audit",
            "--expectations",
            "drafts/e.yaml",
            "--acceptances",
            "drafts/a.yaml",
            "--details",
        ],
        &["exposure", "--ledger"],
        &["exposure", "--ledger", "--format", "csv"],
        &["exposure", "--onward", "1", "--outward"],
        &["audit", "--evidence", "proof"],
    ] {
        let run = folder.run(arguments);
        assert!(run.code <= 1, "{arguments:?}: {run:?}");
        let steers = |text: &str| {
            text.chars()
                .any(|sign| sign == '\u{1b}' || sign == '\u{202e}')
        };
        assert!(
            !steers(&run.stdout) && !steers(&run.stderr),
            "{arguments:?}"
        );
    }
    for name in [
        "drafts/e.yaml",
        "drafts/a.yaml",
        "proof/audit.txt",
        "proof/audit.json",
        "proof/sources.txt",
        "proof/evidence.json",
    ] {
        assert!(!folder.read(name).contains('\u{1b}'), "{name}");
    }
}
