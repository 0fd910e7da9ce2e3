//! What people say of an estate: expectations, acceptances, the configuration, and the audit as a gate and as evidence.

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
            "nobody is meant who could send",
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
            "no firewall is called `gatehouse`",
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
        ("- { name: a, may_reach: db }", "4:3", "lacks `from`"),
        (
            "- { name: a, from: web, nothing_else_reaches: db }",
            "4:3",
            "says from whom nothing else comes",
        ),
        (
            "- { name: a, from: web, always_passes: fw }",
            "4:3",
            "lacks `to`",
        ),
        (
            "- { name: a, from: web, to: db, may_reach: db }",
            "4:3",
            "says twice to whom",
        ),
        (
            "- { name: a, form: web, may_reach: db }",
            "4:14",
            "has no field `form`",
        ),
        (
            "- { name: a, from: web, may_reach: db, on: tpc 22 }",
            "4:44",
            "`tpc` is no protocol",
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

/// The acceptance of a draft with its blanks filled in.
fn filled(draft: &str, until: &str) -> String {
    draft
        .replace("reason: \"\"", "reason: for now")
        .replace("who: \"\"", "who: Ada")
        .replace("until: \"\"", &format!("until: {until}"))
}

#[test]
fn a_draft_accepts_nothing_until_it_is_filled_in_and_then_just_that() {
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
    assert_eq!(told.matches("`` is no date").count(), all.len(), "{told}");
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
        told.contains("is accepted until") && told.contains("for now (Ada)"),
        "{told}"
    );
    // Nothing is written over it.
    let told = folder
        .run(&["audit", "--draft-acceptances", "acceptances.yaml"])
        .fails(2);
    assert!(told.contains("is there already"), "{told}");
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
fn an_acceptance_pins_what_was_open() {
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
fn a_drafted_exposure_is_confirmed_by_leaving_it() {
    for estate in [None, Some(ESTATE)] {
        let folder = estate.map_or_else(Folder::with_demo, Folder::with);
        let path = if estate.is_some() {
            "estate.yaml"
        } else {
            "marrowfen-ferries"
        };
        folder.write("none.yaml", "format: heronshale-expectations\nversion: 1\n");
        let given = [
            "-e",
            path,
            "--expectations",
            "none.yaml",
            "--draft-expectations",
            "draft.yaml",
        ];
        folder.run(&[&["exposure"], &given[..]].concat()).ok();
        let (_, audit) = folder.json(&["audit", "-e", path, "--expectations", "draft.yaml"]);
        let states = states(&audit);
        assert!(
            states.len() >= 2 && states.iter().all(|state| state.ends_with(" kept")),
            "{states:#?}"
        );
        // All that is open for certain is meant then.
        let (_, exposure) = folder.json(&["exposure", "-e", path, "--expectations", "draft.yaml"]);
        let ways = exposure["answer"]["ways"].as_array().unwrap();
        let certain = |one: &&Value| one["client_ports"].is_null() && one["some_routes"] == false;
        let open = ways
            .iter()
            .flat_map(|way| way["open"].as_array().unwrap())
            .filter(certain);
        for one in open {
            assert_eq!(one["meaning"], "meant", "{one:#}");
        }
    }
}

#[test]
fn since_an_earlier_snapshot_only_what_is_new_or_grown_is_told() {
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
        told.starts_with("The internet reaches 1 of 2 workloads. No new findings."),
        "{told}"
    );
    let gone = audit["answer"]["since"]["gone"].as_array().unwrap();
    assert!(
        gone.len() == 1 && gone[0]["kind"] == "no-description",
        "{gone:#?}"
    );
}

#[test]
fn the_configuration_names_the_files_the_severities_and_the_controls() {
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
    assert!(
        told.contains("with configuration heronshale.yaml, 1 expectation of said.yaml"),
        "{told}"
    );
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
        told.contains("did you mean `shadowed`?") && told.contains("`awful` is no severity"),
        "{told}"
    );
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

#[test]
fn the_ledger_has_a_row_for_every_way_in_and_no_formula() {
    let folder = Folder::with(
        &ESTATE
            .replace("set:partners", "set:=1+1")
            .replace("id: partners", "id: \"=1+1\""),
    );
    let told = folder
        .run(&["exposure", "--ledger", "--format", "csv"])
        .ok();
    let mut reader = csv::Reader::from_reader(told.as_bytes());
    let rows: Vec<csv::StringRecord> = reader.records().map(Result::unwrap).collect();
    let cell = |row: &csv::StringRecord, name: &str| {
        let at = told
            .lines()
            .next()
            .unwrap()
            .split(',')
            .position(|column| column == name)
            .unwrap();
        row[at].to_owned()
    };
    let open: Vec<String> = rows
        .iter()
        .filter(|row| cell(row, "state") == "open")
        .map(|row| cell(row, "services"))
        .collect();
    assert_eq!(open, ["tcp 443", "tcp 8080"]);
    assert!(rows.iter().any(|row| cell(row, "state") == "closed"));
    assert!(
        rows.iter().all(|row| row
            .iter()
            .all(|cell| !cell.starts_with(['=', '+', '-', '@']))),
        "{told}"
    );
    // Each public address of the demo is in it.
    let folder = Folder::with_demo();
    let told = folder
        .run(&[
            "exposure",
            "-e",
            "marrowfen-ferries",
            "--ledger",
            "--format",
            "csv",
        ])
        .ok();
    let (_, inventory) = folder.json(&["inventory", "-e", "marrowfen-ferries"]);
    for row in inventory["answer"]["public_addresses"].as_array().unwrap() {
        let address = row["address"].as_str().unwrap();
        assert!(
            told.lines()
                .any(|line| line.starts_with(&format!("{address},"))),
            "{address}\n{told}"
        );
    }
    let told = folder
        .run(&["audit", "-e", "marrowfen-ferries", "--format", "csv"])
        .fails(2);
    assert!(told.contains("no table"), "{told}");
}

#[test]
fn what_was_seen_from_outside_is_held_against_the_snapshot() {
    let folder = Folder::with(ESTATE);
    let seen = "port,protocol,address,note\n443,tcp,203.0.113.10,\n22,tcp,203.0.113.10,ours?\n443,tcp,198.51.100.9,\n";
    folder.write("seen.csv", seen);
    let (code, answer) = folder.json(&["exposure", "--observed", "seen.csv"]);
    let observed = &answer["answer"]["observed"];
    let told: Vec<String> = observed["seen"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| {
            format!(
                "{} {} {} {}",
                one["sight"].as_str().unwrap(),
                one["address"].as_str().unwrap(),
                one["service"].as_str().unwrap(),
                one["line"]
            )
        })
        .collect();
    let expected = [
        "closed 203.0.113.10 tcp 22 3",
        "not-held 198.51.100.9 tcp 443 4",
        "agrees 203.0.113.10 tcp 443 2",
    ];
    assert_eq!((code, told), (1, expected.map(str::to_owned).to_vec()));
    folder.write("seen.csv", "address,protocol,port\n203.0.113.10,udp,53\n");
    let (_, answer) = folder.json(&["exposure", "--observed", "seen.csv"]);
    assert_eq!(
        answer["answer"]["observed"]["unseen"][0]["services"],
        serde_json::json!(["tcp 443"])
    );
    folder.write(
        "seen.csv",
        "address,protocol,port\n203.0.113.1o,tpc,99999\n",
    );
    let told = folder.run(&["exposure", "--observed", "seen.csv"]).fails(3);
    for text in [
        "seen.csv:2:1",
        "seen.csv:2:14",
        "seen.csv:2:18",
        "`203.0.113.1o` is no address",
    ] {
        assert!(told.contains(text), "{text}: {told}");
    }
    folder.write("seen.csv", "adress,protocol,port\n");
    let told = folder.run(&["exposure", "--observed", "seen.csv"]).fails(3);
    assert!(
        told.contains("there is no column `address`") && told.contains("did you mean `adress`"),
        "{told}"
    );
}

#[test]
fn one_change_from_open_outward_and_onward() {
    // The gateway hangs loose, and the group lets everybody in.
    let loose = ESTATE.replace(
        "{ id: gate, kind: internet, network: pier }",
        "{ id: gate, kind: internet, network: pier, attached: false }",
    );
    let folder = Folder::with(&loose);
    let (_, answer) = folder.json(&["exposure"]);
    let away = answer["answer"]["one_step_away"].as_array().unwrap();
    assert!(
        away.len() == 1 && away[0]["edit"]["text"].as_str().unwrap().contains("gate"),
        "{away:#?}"
    );
    assert_eq!(away[0]["services"], serde_json::json!(["tcp 443,8080"]));
    // Two changes away is not one.
    let two = loose.replace("{ to: 0.0.0.0/0, next_hop", "{ to: 192.0.2.0/24, next_hop");
    let (_, answer) = Folder::with(&two).json(&["exposure"]);
    assert_eq!(answer["answer"]["one_step_away"], serde_json::json!([]));
    let folder = Folder::with(&ESTATE.replace(
        "peers: \"group:db\", description: fares }]",
        "peers: \"group:db\", description: fares }, { id: out, services: tcp 443, peers: any, description: updates }]",
    ));
    let (_, answer) = folder.json(&["exposure", "--outward", "--onward", "1"]);
    let outward = answer["answer"]["outward"].as_array().unwrap();
    assert_eq!(outward.len(), 1, "{outward:#?}");
    assert_eq!(
        (
            outward[0]["machines"][0].as_str(),
            outward[0]["seen_as"].as_str()
        ),
        (Some("web"), Some("203.0.113.10"))
    );
    let onward = &answer["answer"]["onward"];
    assert_eq!(onward["from"][0]["marked"][0]["name"], "db");
    assert_eq!(onward["marked"][0]["always_by"][0]["name"], "web");
    let (_, there) = folder.json(&["exposure", "--from", "web"]);
    assert_eq!(there["answer"]["reached"][0]["place"]["name"], "db");
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

#[test]
fn hostile_names_steer_nothing_and_drafts_are_read_again() {
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
            "--all",
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

#[test]
fn three_thousand_findings_fit_a_page() {
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
fn one_change_that_would_open_a_way_does_open_it() {
    // Each way of closing the door by one piece; the edit that is told, made in the file, opens it.
    let table = [
        (
            "{ id: gate, kind: internet, network: pier }",
            "{ id: gate, kind: internet, network: pier, attached: false }",
            "gate",
        ),
        (
            "routes: [{ to: 0.0.0.0/0, next_hop: \"gateway:gate\" }]",
            "routes: []",
            "route",
        ),
        (
            "owner: platform }]\ngateways",
            "owner: platform, internet_traffic: outbound_only }]\ngateways",
            "pier",
        ),
    ];
    for (open, closed, word) in table {
        assert!(ESTATE.contains(open));
        let (_, before) = Folder::with(&ESTATE.replace(open, closed)).json(&["exposure"]);
        let away = before["answer"]["one_step_away"].as_array().unwrap();
        assert!(away.len() == 1, "{closed}: {away:#?}");
        assert!(
            away[0]["edit"]["text"].as_str().unwrap().contains(word),
            "{closed}: {away:#?}"
        );
        assert_eq!(before["answer"]["workloads_open"], 0);
        let (_, after) = Folder::with(ESTATE).json(&["exposure"]);
        assert_eq!(
            after["answer"]["ways"][0]["open"].as_array().unwrap().len(),
            2
        );
    }
}

#[test]
fn every_mend_names_its_price_and_an_exposure_what_closing_it_ends() {
    let price = |estate: &str| {
        let (_, audit) = Folder::with(estate).json(&["audit", "--kind", "exposed"]);
        audit["answer"]["findings"][0]["price"]
            .as_str()
            .unwrap()
            .to_owned()
    };
    // Both rules act on the one machine; anybody means those inside too.
    assert!(
        price(ESTATE).ends_with(
            "they act on 1 interface, and to delete ends what comes from inside as well"
        )
    );
    let outside = ESTATE.replace(
        "services: tcp 443, peers: any",
        "services: tcp 443, peers: internet",
    );
    assert!(
        price(&outside).ends_with("they act on 1 interface, and nothing from inside comes by that")
    );
    let one = ESTATE.replace(
        "  - { id: feed, services: tcp 8080, peers: \"set:partners\", description: feed }\n",
        "",
    );
    let two = one.replace("groups: db }", "groups: [db, web] }");
    assert!(
        price(&one).contains("it acts on 1 interface,")
            && price(&two).contains("it acts on 2 interfaces,")
    );
    let demo = Folder::with_demo();
    let (_, audit) = demo.json(&["audit", "-e", "marrowfen-ferries"]);
    for finding in audit["answer"]["findings"].as_array().unwrap() {
        assert!(!finding["price"].as_str().unwrap().is_empty(), "{finding}");
    }
    // A rule that is dead goes for nothing, one that opens a port has its interfaces.
    let of = |kind: &str| {
        let all = audit["answer"]["findings"].as_array().unwrap().iter();
        all.filter(|one| one["kind"] == kind)
            .map(|one| one["price"].as_str().unwrap().to_owned())
            .next()
            .unwrap()
    };
    assert_eq!(of("redundant"), "none");
    assert!(
        of("any-source").ends_with("; it acts on 2 interfaces"),
        "{}",
        of("any-source")
    );
}
