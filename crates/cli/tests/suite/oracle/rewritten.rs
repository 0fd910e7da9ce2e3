//! Files written after a change: they say what was meant, and what nobody changed stays as it was, comments and all.

use super::compared::{pair, read};
use super::tidy::yaml;
use fastrand::Rng;
use heronshale_intake::{Difference, load_texts, written};
use heronshale_model::change::States;
use serde_json::Value;

/// A snapshot in two files: its sections one by one in the first or the second.
fn halves(json: &Value) -> [Value; 2] {
    let mut halves = [json.clone(), json.clone()];
    let names: Vec<&String> = json.as_object().unwrap().keys().collect();
    for (at, name) in names.into_iter().enumerate() {
        if !["format", "version"].contains(&name.as_str()) {
            halves[at % 2].as_object_mut().unwrap().remove(name);
        }
    }
    halves
}

#[test]
fn written_files_say_what_was_meant_and_keep_the_rest() {
    let (mut files, mut kept) = (0, 0);
    for seed in 0..80 {
        let mut random = Rng::with_seed(seed);
        let (before, now) = pair(&mut random);
        let lines = |json: &Value| {
            let mut lines = String::new();
            yaml(json, 0, &mut lines);
            lines
        };
        let [first, second] = halves(&before);
        for texts in [
            vec![("estate.json", format!("{before:#}\n"))],
            vec![("flat.json", before.to_string())],
            vec![("estate.yaml", lines(&before))],
            vec![("crlf.yaml", lines(&before).replace('\n', "\r\n"))],
            vec![("a.yaml", lines(&first)), ("b.json", format!("{second:#}"))],
        ] {
            let load = |texts: &[(&str, String)]| {
                let texts: Vec<(&str, &str)> = texts
                    .iter()
                    .map(|(name, text)| (*name, text.as_str()))
                    .collect();
                load_texts(&texts).unwrap_or_else(|error| panic!("seed {seed}: {error:?}"))
            };
            let (old, new) = (load(&texts), read(&now).unwrap());
            let mut after = texts.clone();
            for file in written(&old, &new) {
                let there = after
                    .iter_mut()
                    .find(|(name, _)| *name == file.name)
                    .unwrap();
                assert!(there.1 != file.text, "seed {seed}: nothing changed");
                files += 1;
                kept += usize::from(file.layout_kept);
                if file.layout_kept && file.name == "crlf.yaml" {
                    let ends = |end: &str| file.text.matches(end).count();
                    assert_eq!(ends("\r\n"), ends("\n"), "seed {seed}");
                }
                if file.layout_kept && file.name.ends_with("yaml") {
                    // Only what went took its comments along.
                    let comments = |text: &str| -> Vec<String> {
                        let lines = text.lines().filter(|line| line.contains('#'));
                        lines.map(str::to_owned).collect()
                    };
                    let (was, is) = (comments(&there.1), comments(&file.text));
                    assert!(is.iter().all(|line| was.contains(line)), "seed {seed}");
                    assert!(is.len() * 2 >= was.len(), "seed {seed}: {}", file.text);
                }
                there.1 = file.text;
            }
            let left = Difference::of(&load(&after), &new).edits();
            assert!(left.is_empty(), "seed {seed}: {left:#?}\n{after:#?}");
        }
    }
    assert!(
        files > 200 && kept * 10 > files * 9,
        "{kept} of {files} files kept"
    );
}
