//! Situations from practice: each an estate with variants, a question to each, and the answer that is expected, in the fixture.
//! The document for readers is made of them.

use crate::folder::Folder;
use expect_test::expect_file;
use serde::Deserialize;
use std::collections::BTreeSet;
use std::fmt::Write;

const HEAD: &str = "format: heronshale-snapshot\nversion: 1\nestate: { name: Marrowfen Ferries, taken: 2026-11-02T06:00:00Z }\n";
const FOLDER: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/situations");

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Situation {
    title: String,
    about: String,
    estate: String,
    case: Vec<Case>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Case {
    id: String,
    /// Text of the estate, and what stands in its place here.
    #[serde(default)]
    change: Vec<[String; 2]>,
    /// What is asked, as on the command line.
    ask: String,
    /// What the first sentence says.
    says: Vec<String>,
    /// Findings of the audit, by kind and how their title begins.
    #[serde(default)]
    finds: Vec<String>,
    /// All that is in the way, in order: how each place begins.
    #[serde(default)]
    obstacles: Vec<String>,
    /// Who has to make the change that is offered first.
    fix: Option<String>,
    /// Whether the estate as it was is given too, for what is new.
    #[serde(default)]
    since: bool,
}

fn situations() -> Vec<Situation> {
    let mut files: Vec<_> = std::fs::read_dir(FOLDER)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .collect();
    files.sort();
    let read = |path| {
        toml::from_str(&std::fs::read_to_string(&path).unwrap())
            .unwrap_or_else(|e| panic!("{path:?}: {e}"))
    };
    files.into_iter().map(read).collect()
}

/// The estates, each by its title.
pub fn estates() -> Vec<(String, String)> {
    situations()
        .into_iter()
        .map(|one| (one.title, format!("{HEAD}{}", one.estate)))
        .collect()
}

/// Text of an estate with a case's changes.
fn changed(situation: &Situation, case: &Case) -> String {
    let mut text = format!("{HEAD}{}", situation.estate);
    for [old, new] in &case.change {
        assert!(
            text.contains(old.as_str()),
            "{}, {}: nothing says {old}",
            situation.title,
            case.id
        );
        text = text.replacen(old, new, 1);
    }
    text
}

/// The first sentence of an answer: all before the heading.
fn sentence(output: &str) -> String {
    let lines = output
        .lines()
        .take_while(|line| !line.starts_with("Marrowfen Ferries"))
        .map(str::trim);
    lines.collect::<Vec<_>>().join(" ")
}

/// What is asked, word by word; between quotation marks stands one word. `BEFORE` is the estate without the case's changes.
fn spoken(ask: &str) -> Vec<&str> {
    let parts = ask.split('"').enumerate();
    let words = parts.flat_map(|(at, part)| match at % 2 {
        0 => part.split_whitespace().collect::<Vec<_>>(),
        _ => vec![part],
    });
    words
        .map(|word| {
            if word == "BEFORE" {
                "before/estate.yaml"
            } else {
                word
            }
        })
        .collect()
}

/// What an answer is, and what is wrong with it.
fn ask(situation: &Situation, case: &Case) -> (String, Vec<String>) {
    let folder = Folder::with(&changed(situation, case));
    folder.write("before/estate.yaml", format!("{HEAD}{}", situation.estate));
    let mut words: Vec<&str> = spoken(&case.ask);
    if case.since {
        words.extend(["--since", "before/estate.yaml"]);
    }
    words.extend(["-e", "estate.yaml"]);
    let run = folder.run(&words);
    let said = sentence(&run.stdout);
    let mut wrong: Vec<String> = case
        .says
        .iter()
        .filter(|piece| !said.contains(piece.as_str()))
        .map(|piece| format!("does not say {piece}"))
        .collect();
    if !case.finds.is_empty() {
        let (_, audit) = folder.json(&["audit", "-e", "estate.yaml"]);
        let findings = audit["answer"]["findings"].as_array().unwrap();
        let title = |finding: &serde_json::Value| {
            format!(
                "{}: {}",
                finding["kind"].as_str().unwrap(),
                finding["title"].as_str().unwrap()
            )
        };
        let titles: Vec<String> = findings.iter().map(title).collect();
        let missing = case.finds.iter().filter(|wanted| {
            !titles
                .iter()
                .any(|title| title.starts_with(wanted.as_str()))
        });
        wrong.extend(missing.map(|wanted| format!("does not find {wanted}, but {titles:?}")));
        // Each finding's side effects are stated, and it can be asked for by its fingerprint.
        for finding in findings.iter().filter(|one| {
            case.finds
                .iter()
                .any(|wanted| title(one).starts_with(wanted.as_str()))
        }) {
            let print = finding["fingerprint"].as_str().unwrap();
            let alone = folder.run(&["explain", print, "-e", "estate.yaml"]);
            if alone.code != 0
                || !alone.stdout.contains(print)
                || finding["fix"].as_str().is_none_or(str::is_empty)
            {
                wrong.push(format!("explain {print}: {}{}", alone.stdout, alone.stderr));
            }
        }
    }
    if !case.obstacles.is_empty() || case.fix.is_some() || case.since {
        let (_, answer) = folder.json(&words);
        let answer = &answer["answer"];
        let texts = |list: &serde_json::Value| -> Vec<String> {
            list.as_array()
                .unwrap()
                .iter()
                .map(|one| one["step"]["at"].as_str().unwrap_or_default().to_owned())
                .collect()
        };
        let found = texts(&answer["obstacles"]);
        let alike = case
            .obstacles
            .iter()
            .zip(&found)
            .all(|(wanted, at)| at.starts_with(wanted.as_str()));
        let same = alike && found.len() == case.obstacles.len();
        if !same && !case.obstacles.is_empty() {
            wrong.push(format!("in the way: {found:?}"));
        }
        if let Some(owner) = &case.fix {
            let first = &answer["fixes"][0]["edits"][0];
            if first["owner"]
                .as_str()
                .is_none_or(|text| !text.starts_with(owner.as_str()))
            {
                wrong.push(format!("fixes: {first}"));
            }
        }
        if case.since && answer["since"].is_null() {
            wrong.push("says nothing of the earlier snapshot".to_owned());
        }
    }
    (said, wrong)
}

#[test]
fn every_situation_from_practice_is_answered_rightly_and_the_document_is_made_of_them() {
    let all = situations();
    assert_eq!(all.len(), 21);
    let mut page = String::from(
        "# Situations from practice\n\nFind your case; ask as it is asked here. Every estate, question and answer below is a test of this project, and \
        this page is made by it: the estates are in `crates/cli/tests/situations`, the answers are what the program says.\n\n",
    );
    for (at, situation) in all.iter().enumerate() {
        let anchor: String = situation
            .title
            .to_lowercase()
            .chars()
            .filter(|c| c.is_alphanumeric() || [' ', '-'].contains(c))
            .collect();
        writeln!(
            page,
            "{}. [{}](#{}-{})",
            at + 1,
            situation.title,
            at + 1,
            anchor.replace(' ', "-")
        )
        .unwrap();
    }
    let mut wrong = Vec::new();
    for (at, situation) in all.iter().enumerate() {
        assert!(situation.case.len() >= 3, "{}", situation.title);
        let ids: BTreeSet<&str> = situation.case.iter().map(|case| case.id.as_str()).collect();
        assert_eq!(ids.len(), situation.case.len(), "{}", situation.title);
        writeln!(
            page,
            "\n## {}. {}\n\n{}\n",
            at + 1,
            situation.title,
            situation.about
        )
        .unwrap();
        for case in &situation.case {
            let (said, faults) = ask(situation, case);
            wrong.extend(
                faults
                    .iter()
                    .map(|what| format!("{}, {}: {what}\n    {said}", situation.title, case.id)),
            );
            let since = if case.since { " --since DECLARED" } else { "" };
            writeln!(
                page,
                "- **{}**: `heronshale {}{since}`  \n  {said}",
                case.id, case.ask
            )
            .unwrap();
            for finding in &case.finds {
                let kind = finding.split(':').next().unwrap();
                writeln!(page, "  The audit reports [{kind}](findings.md#{kind}).").unwrap();
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    expect_file![concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/../../docs/situations.md"
    )]
    .assert_eq(&page);
}
