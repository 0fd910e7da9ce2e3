//! Generated documents are what the program says, and the README shows what the program does.

use crate::folder::{Folder, HEADER, words_of};
use expect_test::expect_file;
use heronshale_report::{catalogue_reference, document_reference, snapshot_reference};
use serde_json::{Map, Value};

const ROOT: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");
const SECTIONS: &str = include_str!("../../fixtures/sections.yaml");

/// Compares what stands behind the marker of a document; `UPDATE_EXPECT=1` writes it.
fn check_generated(name: &str, generated: &str) {
    let path = format!("{ROOT}/{name}");
    let present = std::fs::read_to_string(&path).unwrap();
    let marker = present
        .lines()
        .find(|line| line.starts_with("<!-- From here on generated"))
        .unwrap();
    let head = present.split_once(marker).unwrap().0;
    expect_file![path].assert_eq(&format!("{head}{marker}\n{generated}"));
}

/// The examples of the sections: together they are a snapshot.
fn examples() -> Map<String, Value> {
    let parts = SECTIONS
        .split("\n--- ")
        .skip(1)
        .map(|part| part.split_once('\n').unwrap());
    parts
        .map(|(section, text)| (section.to_owned(), text.into()))
        .collect()
}

#[test]
fn the_reference_of_the_snapshot_is_the_schema_and_its_examples_are_a_snapshot() {
    let examples = examples();
    let schema = heronshale_intake::snapshot_schema();
    for section in schema["properties"]
        .as_object()
        .unwrap()
        .keys()
        .filter(|name| !["format", "version", "holds"].contains(&name.as_str()))
    {
        assert!(examples.contains_key(section), "{section} has no example");
    }
    let whole: String = examples
        .values()
        .map(|text| text.as_str().unwrap())
        .collect::<Vec<_>>()
        .join("\n");
    Folder::with(&format!("{HEADER}{whole}\n"))
        .run(&["inventory"])
        .ok();
    check_generated("docs/snapshot.md", &snapshot_reference(&schema, &examples));
}

#[test]
fn the_reference_of_what_people_say_is_the_schemas_and_the_demo() {
    let folder = Folder::with_demo();
    let mut text = String::new();
    for (name, schema) in [
        ("expectations", heronshale_intake::expectations_schema()),
        ("acceptances", heronshale_intake::acceptances_schema()),
        ("heronshale", heronshale_intake::configuration_schema()),
    ] {
        let example = folder.read(&format!("marrowfen-ferries/{name}.yaml"));
        text.push_str(&document_reference(&schema, &example));
    }
    check_generated("docs/statements.md", &text);
}

#[test]
fn the_reference_of_findings_is_the_catalogue() {
    check_generated("docs/findings.md", &catalogue_reference());
}

#[test]
fn the_reference_of_commands_is_the_help() {
    let folder = Folder::new();
    let mut text = String::new();
    for command in [
        "",
        "demo",
        "init",
        "inventory",
        "effective",
        "routes",
        "path",
        "rule",
        "reach",
        "exposure",
        "matrix",
        "audit",
        "compare",
        "rehearse",
        "tidy",
        "import",
        "export",
        "explain",
        "schema",
        "completions",
        "manual",
    ] {
        let arguments: Vec<&str> = [command, "--help"]
            .into_iter()
            .filter(|word| !word.is_empty())
            .collect();
        let help = folder.run(&arguments).ok();
        text.push_str(&format!(
            "\n## {}\n\n```text\n{}\n```\n",
            format!("heronshale {command}").trim(),
            help.trim_end()
        ));
    }
    check_generated("docs/commands.md", &text);
}

#[test]
fn the_semantics_name_every_setting_with_its_default_and_kinds_that_exist() {
    let semantics = std::fs::read_to_string(format!("{ROOT}/docs/semantics.md")).unwrap();
    let schema = heronshale_intake::snapshot_schema();
    let settings = schema["$defs"]["WrittenSettings"]["properties"].clone();
    let settings = settings.as_object().unwrap();
    assert!(settings.len() > 10);
    for (name, about) in settings {
        let about = about["description"].as_str().unwrap();
        let default = about.split("Default: ").nth(1).unwrap();
        let default = default
            .split([',', '.', ' '])
            .next()
            .unwrap()
            .trim_matches('`');
        let row = semantics
            .lines()
            .find(|line| line.starts_with(&format!("| `{name}` |")))
            .unwrap_or_else(|| panic!("{name} is not described"));
        assert!(row.contains(&format!("**{default}**")), "{default}: {row}");
    }
    // A name in italics with a hyphen is that of a kind of finding.
    for word in semantics.split('*').filter(|word| {
        word.contains('-')
            && word
                .chars()
                .all(|sign| sign.is_ascii_lowercase() || sign == '-')
    }) {
        let known = heronshale_audit::finding::CATALOGUE
            .iter()
            .any(|kind| kind.name == word);
        assert!(known || word == "allow-finally", "{word} is no kind");
    }
}

/// Whether an output is as shown; a line `…` stands for any lines.
fn is_shown(shown: &[&str], output: &[&str]) -> Result<(), String> {
    let mut at = 0;
    for (index, part) in shown.split(|line| line.trim() == "…").enumerate() {
        let found = (at..=output.len().saturating_sub(part.len()))
            .find(|from| output[*from..].starts_with(part));
        match found {
            Some(from) if index > 0 || from == at => at = from + part.len(),
            _ => {
                return Err(format!(
                    "not in the output:\n{}\noutput:\n{}",
                    part.join("\n"),
                    output.join("\n")
                ));
            }
        }
    }
    let open = shown.last().is_some_and(|line| line.trim() == "…");
    if open || at == output.len() {
        Ok(())
    } else {
        Err(format!("the output goes on: {}", output[at..].join("\n")))
    }
}

#[test]
fn the_reference_of_profiles_is_the_schema() {
    let schema = heronshale_intake::profile_schema();
    check_generated(
        "docs/intake.md",
        &document_reference(&schema, super::imports::SHEET_PROFILE),
    );
}

/// Runs the commands that a document shows; how many there are.
fn run_all(document: &str) -> usize {
    let path = format!("{ROOT}/{document}");
    let text = std::fs::read_to_string(&path).unwrap();
    let folder = Folder::with_demo();
    super::imports::write_exports(&folder);
    if let Some((_, list)) = text.split_once("```text\nfrom,to") {
        let rows = list.split("```").next().unwrap();
        folder.write("connections.csv", format!("from,to{rows}"));
    }
    for (name, text) in super::machines::GATE {
        folder.write(&format!("gate/{name}"), text);
    }
    let blocks: Vec<&str> = text.split("```console\n").skip(1).collect();
    for block in &blocks {
        let block = block.split("\n```").next().unwrap();
        let (command, shown) = block.split_once('\n').unwrap();
        let words = command
            .strip_prefix("$ heronshale ")
            .unwrap_or_else(|| panic!("{command}"));
        let arguments = words_of(words);
        let run = folder.run(&arguments);
        let output = format!("{}{}", run.stdout, run.stderr);
        let (shown, output): (Vec<&str>, Vec<&str>) =
            (shown.lines().collect(), output.lines().collect());
        // Outputs that are shown whole are written anew on request.
        let whole = !shown.iter().any(|line| line.trim() == "…");
        if whole && std::env::var_os("UPDATE_EXPECT").is_some() {
            let new = format!("{command}\n{}", output.join("\n"));
            let text = std::fs::read_to_string(&path).unwrap();
            std::fs::write(&path, text.replacen(block, new.trim_end(), 1)).unwrap();
            continue;
        }
        is_shown(&shown, &output).unwrap_or_else(|what| panic!("{document}: {command}\n{what}"));
    }
    blocks.len()
}

#[test]
fn every_output_that_documents_show_is_real() {
    assert!(run_all("README.md") >= 5);
    assert!(run_all("docs/tour.md") >= 15 && run_all("docs/intake.md") >= 8);
    let text = |name: &str| std::fs::read_to_string(format!("{ROOT}/{name}")).unwrap();
    assert!(text("README.md").lines().count() <= 200);
    let both = text("README.md") + &text("docs/tour.md");
    let named = |rest: &str| rest.split(')').next().unwrap().to_owned();
    let named: std::collections::BTreeSet<String> =
        both.split("screenshots/").skip(1).map(named).collect();
    let there = std::fs::read_dir(format!("{ROOT}/docs/screenshots")).unwrap();
    let there = there.map(|file| file.unwrap().file_name().into_string().unwrap());
    assert_eq!(named, there.collect(), "pictures named and pictures there");
}
