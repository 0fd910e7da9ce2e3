//! Two states: what is asked for alone, what makes a comparison fail, what is taken back, and what an audit calls new.

use super::compared::{OLD, rows};
use crate::folder::Folder;
use serde_json::Value;

/// A rule narrowed, another one gone, and a group with another name.
fn edited() -> Folder {
    let folder = Folder::new();
    folder.write("old.yaml", OLD);
    let new = OLD
        .replace(
            "services: tcp 8080, peers: \"group:cranes\"",
            "services: tcp 8081, peers: \"group:cranes\"",
        )
        .replace(
            "inbound: [{ id: shell, services: tcp 22, peers: \"set:tools\" }]",
            "inbound: []",
        )
        .replace("cranes", "hoists");
    folder.write("new.yaml", new);
    folder
}

fn count(found: &Value, field: &str) -> usize {
    found["answer"][field].as_array().unwrap().len()
}

#[test]
fn a_patch_takes_back_the_edits_behind_one_connection_and_no_others() {
    for (to, port, other) in [
        ("depot", "8080", ["winch", "22"]),
        ("winch", "22", ["depot", "8080"]),
    ] {
        let folder = edited();
        let ask = |to: &str, port: &str, estate: &str| {
            folder
                .run(&["path", "crane", to, "--tcp", port, "-e", estate])
                .code
        };
        let (_, found) = folder.json(&[
            "path",
            "crane",
            to,
            "--tcp",
            port,
            "--since",
            "old.yaml",
            "-e",
            "new.yaml",
            "--revert",
            "back.json",
        ]);
        let revert = &found["answer"]["since"]["revert"];
        assert_eq!(revert["edits"].as_array().unwrap().len(), 1, "{found:#}");
        assert_eq!(
            (&revert["file"], &revert["then"]),
            (&"back.json".into(), &found["answer"]["since"]["verdict"])
        );
        let run = folder.run(&["rehearse", "back.json", "-e", "new.yaml", "--write", "back"]);
        assert_eq!(run.code, 0, "{}", run.stderr);
        assert_eq!(
            (ask(to, port, "new.yaml"), ask(to, port, "back/new.yaml")),
            (1, 0)
        );
        assert_eq!(ask(other[0], other[1], "back/new.yaml"), 1);
        // Nothing is overwritten.
        folder.write("back.json", "mine");
        let again = folder.run(&[
            "path",
            "crane",
            to,
            "--tcp",
            port,
            "--since",
            "old.yaml",
            "-e",
            "new.yaml",
            "--revert",
            "back.json",
        ]);
        assert_eq!(again.code, 2, "{}", again.stderr);
        assert_eq!(folder.read("back.json"), "mine");
    }
    let folder = edited();
    let none = folder.run(&[
        "path",
        "crane",
        "winch",
        "--tcp",
        "1",
        "--since",
        "old.yaml",
        "-e",
        "new.yaml",
        "--revert",
        "back.json",
    ]);
    assert!(
        none.code == 2 && none.stderr.contains("nothing can be taken back"),
        "{}",
        none.stderr
    );
    assert!(!folder.files().contains_key("back.json"));
}

#[test]
fn only_what_is_asked_for_is_told_and_the_rest_is_counted() {
    let folder = edited();
    let ask = |only: &[&str]| {
        let mut asked = vec!["compare", "old.yaml", "new.yaml"];
        only.iter().for_each(|one| asked.extend(["--only", one]));
        folder.json(&asked).1
    };
    let whole = ask(&[]);
    let (yard, winch) = (ask(&["owner:yard"]), ask(&["interface:winch"]));
    assert!(!rows(&yard).is_empty() && !rows(&winch).is_empty());
    let about = |found: &Value, what: &str| rows(found).iter().all(|row| row.contains(what));
    assert!(about(&winch, "winch"), "{:?}", rows(&winch));
    assert!(about(&yard, "depot"), "{:?}", rows(&yard));
    let both = ask(&["owner:yard", "interface:winch"]);
    assert_eq!(rows(&both), rows(&whole));
    assert!(winch["answer"]["left_out"].as_u64() > Some(0));
    // Of what is not asked for nothing is said.
    let lock = folder.run(&[
        "compare",
        "old.yaml",
        "new.yaml",
        "--only",
        "interface:lock-west",
    ]);
    let first = lock.stdout.lines().next().unwrap();
    assert!(
        first.starts_with("No connection from or to interface:lock-west "),
        "{first}"
    );
    let wrong = folder.run(&["compare", "old.yaml", "new.yaml", "--only", "owner:nobody"]);
    assert_eq!(wrong.code, 2, "{}", wrong.stderr);
}

#[test]
fn a_severity_and_new_findings_make_a_comparison_fail() {
    let folder = edited();
    let ask =
        |old: &str, new: &str, on: &str| folder.run(&["compare", old, new, "--fail-on", on]).code;
    // Two ways are lost that nobody judged.
    assert_eq!(ask("old.yaml", "new.yaml", "minor"), 1);
    assert_eq!(ask("old.yaml", "new.yaml", "serious"), 0);
    assert_eq!(ask("old.yaml", "old.yaml", "note"), 0);
    assert_eq!(ask("old.yaml", "new.yaml", "grave"), 2);
    let open = OLD.replace("peers: \"set:tools\"", "peers: any");
    folder.write("open.yaml", open);
    assert_eq!(ask("old.yaml", "open.yaml", "new"), 1);
    assert_eq!(ask("open.yaml", "old.yaml", "new"), 0);
    let (_, found) = folder.json(&["compare", "old.yaml", "open.yaml"]);
    let prints: Vec<&str> = found["answer"]["rows"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| row["fingerprint"].as_str().unwrap())
        .collect();
    // Another edit beside it changes no fingerprint.
    let more = folder
        .read("open.yaml")
        .replace("services: tcp 8080", "services: tcp 8089");
    folder.write("more.yaml", more);
    let (_, found) = folder.json(&["compare", "old.yaml", "more.yaml"]);
    let all = found["answer"]["rows"].to_string();
    assert!(
        !prints.is_empty() && prints.iter().all(|print| all.contains(print)),
        "{prints:?} {all}"
    );
}

#[test]
fn names_are_no_news_and_new_ways_in_name_their_edits() {
    let folder = edited();
    folder.write(
        "renamed.yaml",
        OLD.replace("cranes", "hoists")
            .replace("winches", "capstans"),
    );
    let ask = |new: &str| folder.json(&["audit", "-e", new, "--since", "old.yaml"]).1;
    let found = ask("renamed.yaml");
    assert_eq!(
        (
            count(&found, "findings"),
            &found["answer"]["since"]["renamed"]
        ),
        (0, &Value::from(2)),
        "{found:#}"
    );
    folder.write(
        "open.yaml",
        OLD.replace(
            "services: tcp 443, peers: any",
            "services: tcp 444, peers: any",
        ),
    );
    let found = ask("open.yaml");
    let because = found["answer"]["since"]["because"].as_array().unwrap();
    assert_eq!(because.len(), 1, "{found:#}");
    assert!(
        because[0]["edits"][0]["text"]
            .as_str()
            .unwrap()
            .contains("rule cranes/web"),
        "{because:#?}"
    );
    let text = folder
        .run(&["audit", "-e", "open.yaml", "--since", "old.yaml"])
        .stdout;
    assert!(text.contains("OPENED BY"), "{text}");
}

#[test]
fn acceptances_that_stand_otherwise_are_told() {
    let folder = edited();
    folder.run(&[
        "audit",
        "-e",
        "old.yaml",
        "--draft-acceptances",
        "draft.yaml",
        "--kind",
        "exposed",
    ]);
    let filled = folder.read("draft.yaml");
    let filled: Vec<String> = filled
        .lines()
        .map(|line| {
            let field = line
                .trim_start()
                .trim_start_matches("- ")
                .split(':')
                .next()
                .unwrap_or_default();
            match field {
                "reason" | "who" => format!("{}: Ada", line.split(':').next().unwrap()),
                "until" => format!("{}: 2027-01-01", line.split(':').next().unwrap()),
                _ => line.to_owned(),
            }
        })
        .collect();
    folder.write("accepted.yaml", filled.join("\n") + "\n");
    for (new, now) in [
        (
            OLD.replace(
                "services: tcp 443, peers: any",
                "services: tcp 443-444, peers: any",
            ),
            Some("outgrown"),
        ),
        (
            OLD.replace(
                "services: tcp 443, peers: any",
                "services: tcp 22, peers: 10.1.0.0/16",
            ),
            Some("unused"),
        ),
        (
            OLD.replace("services: tcp 8080", "services: tcp 8081"),
            None,
        ),
    ] {
        folder.write("new.yaml", new);
        let (_, found) = folder.json(&[
            "compare",
            "old.yaml",
            "new.yaml",
            "--acceptances",
            "accepted.yaml",
        ]);
        let turned = found["answer"]["acceptances"].as_array().unwrap();
        let states: Vec<(&str, &str)> = turned
            .iter()
            .map(|one| {
                (
                    one["before"].as_str().unwrap(),
                    one["now"].as_str().unwrap(),
                )
            })
            .collect();
        let wanted: Vec<(&str, &str)> = now.map(|now| ("covers", now)).into_iter().collect();
        assert_eq!(states, wanted, "{found:#}");
    }
}

#[test]
fn what_takes_edits_of_several_owners_names_them() {
    let folder = Folder::new();
    let cranes = |port: &str| {
        OLD.replacen(
            "outbound: [{ id: all, peers: any }]",
            &format!("outbound: [{{ id: some, services: tcp {port}, peers: any }}]"),
            1,
        )
    };
    folder.write("old.yaml", cranes("8080"));
    let both = cranes("8080-9090").replace(
        "id: load, services: tcp 8080",
        "id: load, services: tcp 9090",
    );
    for (new, meet) in [
        (both, vec!["harbour", "yard"]),
        (cranes("1-8080"), Vec::new()),
    ] {
        folder.write("new.yaml", new);
        let (_, found) = folder.json(&["compare", "old.yaml", "new.yaml"]);
        let opened = found["answer"]["rows"].as_array().unwrap().iter();
        let opened: Vec<&Value> = opened.filter(|row| row["class"] == "opened").collect();
        assert!(
            opened
                .iter()
                .any(|row| row["meet"] == serde_json::json!(meet)),
            "{opened:#?}"
        );
        let text = folder.run(&["compare", "old.yaml", "new.yaml"]).stdout;
        assert_eq!(
            text.contains("only where edits of harbour and yard meet"),
            !meet.is_empty(),
            "{text}"
        );
    }
}

#[test]
fn what_would_do_nothing_is_refused() {
    let folder = edited();
    for asked in [
        "rehearse --each-down --only owner:yard -e old.yaml",
        "rehearse --order --only owner:yard change.yaml -e old.yaml",
        "rehearse --pairs change.yaml -e old.yaml",
        "path --list asked.csv --expectations said.yaml -e old.yaml",
        "path crane depot --tcp 8080 --revert back.json -e old.yaml",
    ] {
        let words: Vec<&str> = asked.split(' ').collect();
        let run = folder.run(&words);
        assert_eq!(run.code, 2, "{asked}: {}", run.stderr);
        assert!(
            run.stderr.contains("cannot be used with") || run.stderr.contains("required"),
            "{asked}: {}",
            run.stderr
        );
    }
}
