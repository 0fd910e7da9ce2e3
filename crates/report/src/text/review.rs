//! Two states compared as Markdown: a comment of a review, that fits a screen; all of it is folded below.

use super::compare::{blocks, cause, compare, judged, sentence, traffic};
use super::reach::shortened;
use crate::harmless::harmless_text;
use crate::page::{Look, plural};
use heronshale_answers::{Answer, ChangedRow, CompareAnswer, TurnedExpectation};
use heronshale_audit::expect::State;

/// Edits and rows of a class that are shown before the fold.
const SHOWN: usize = 5;

/// Plain text in Markdown: nothing in it is a mark.
fn plain(text: &str) -> String {
    let mut out = String::new();
    for one in harmless_text(text).chars() {
        match one {
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '&' => out.push_str("&amp;"),
            '@' => out.push_str("&#64;"),
            '\n' => out.push(' '),
            '\\' | '`' | '*' | '_' | '[' | ']' | '#' | '|' | '~' | '!' => {
                out.push('\\');
                out.push(one);
            }
            _ => out.push(one),
        }
    }
    out
}

/// A comparison as Markdown.
pub fn review(answer: &Answer<CompareAnswer>, _: Look) -> String {
    let Answer {
        heading,
        answer: found,
        ..
    } = answer;
    let mut out = format!("**{}**\n", plain(&sentence(found)));
    if !found.edits.is_empty() {
        out += "\n";
    }
    for edit in found.edits.iter().take(SHOWN) {
        let owner = edit
            .owner
            .as_deref()
            .map_or_else(String::new, |owner| format!(", {owner}"));
        let place = format!("{}:{}{owner}", edit.place.file, edit.place.line);
        out += &format!(
            "- **{}** {} ({})\n",
            edit.letter,
            plain(&edit.text),
            plain(&place)
        );
    }
    if found.edits.len() > SHOWN {
        out += &format!("- and {}\n", plural(found.edits.len() - SHOWN, "more edit"));
    }
    let broken: Vec<&TurnedExpectation> = found
        .turned
        .iter()
        .filter(|one| one.now == State::Broken)
        .collect();
    if !broken.is_empty() {
        out += "\n**Broken expectations**\n";
    }
    for one in broken.into_iter().take(SHOWN) {
        out += &format!("- {}{}\n", label(&one.cause.join(" or ")), plain(&one.name));
    }
    for (title, _, rows) in blocks(found, false) {
        out += &format!("\n**{}**\n", plain(&capital(&title)));
        for row in rows.iter().take(SHOWN) {
            out += &format!("- {}{}\n", label(&cause(row)), plain(&row_text(row)));
        }
        if rows.len() > SHOWN {
            out += &format!("- and {} more\n", rows.len() - SHOWN);
        }
    }
    let look = Look {
        width: 100,
        colour: false,
        details: true,
        settings: false,
    };
    // The fence is longer than any in the text.
    let whole = compare(answer, look);
    let fence = "`".repeat(longest_run(&whole).max(2) + 1);
    out += &format!(
        "\n<details><summary>{} in full</summary>\n\n{fence}text\n{}\n{fence}\n\n</details>\n",
        plain(&heading.estate),
        whole.trim_end()
    );
    out
}

/// The edits that make a row.
fn label(cause: &str) -> String {
    if cause.is_empty() {
        String::new()
    } else {
        format!("**{}** ", plain(cause))
    }
}

fn capital(title: &str) -> String {
    let lower = title.to_lowercase();
    let mut letters = lower.chars();
    letters.next().map_or_else(String::new, |first| {
        first.to_uppercase().chain(letters).collect()
    })
}

fn longest_run(text: &str) -> usize {
    let runs = text.split(|one| one != '`').map(str::len);
    runs.max().unwrap_or(0)
}

fn row_text(row: &ChangedRow) -> String {
    let mut from: Vec<String> = Vec::new();
    for one in &row.from {
        if !from.contains(&one.said) {
            from.push(one.said.clone());
        }
    }
    let meaning = row
        .meaning
        .map_or_else(String::new, |meaning| format!("; {}", judged(row, meaning)));
    format!("{} → {}{meaning}", shortened(&from, 4), traffic(row, 4))
}
