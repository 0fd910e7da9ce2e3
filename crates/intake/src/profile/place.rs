//! Where in an export a value stands, for errors that point into it.

use super::Export;
use super::make::Trouble;
use super::stream::{Held, Kind};
use crate::files::{LoadError, SourceText};
use crate::tree::{Node, Value as Tree};
use heronshale_model::source::{FileId, Problem, Span};
use std::fs;
use std::io::{Read, Seek, SeekFrom};

/// Where a record stands.
#[derive(Clone)]
pub(super) struct Spot<'p> {
    pub file: &'p Export,
    pub held: Held,
}

/// Where the parts of a record stand: it is a node, or several that were gathered.
#[derive(Clone, Copy)]
pub(super) enum Stands<'s, 'p> {
    Here(&'s Spot<'p>),
    Gathered(&'s [(String, Spot<'p>)]),
}

/// An error in the profile, with where in the data it shows.
pub(super) fn problem(trouble: Trouble, stands: Stands<'_, '_>) -> Problem {
    let Trouble {
        title,
        label,
        help,
        span,
        pointer,
    } = trouble;
    let place = match stands {
        Stands::Here(spot) => locate(spot, pointer.as_deref().unwrap_or(&spot.held.pointer)),
        Stands::Gathered(all) => {
            // The first step is the number of the record among those that were gathered.
            let within = pointer
                .as_deref()
                .and_then(|pointer| pointer.strip_prefix("$["));
            let (index, rest) = within
                .and_then(|within| within.split_once(']'))
                .unwrap_or(("0", ""));
            let which = index
                .parse::<usize>()
                .ok()
                .and_then(|index| all.get(index))
                .or_else(|| all.first());
            which.map_or_else(String::new, |(pointer, spot)| {
                locate(spot, &format!("{pointer}{rest}"))
            })
        }
    };
    let label = if label == "here" || label.is_empty() {
        "this makes it".to_owned()
    } else {
        label
    };
    Problem {
        title: format!("{title} (in {place})"),
        span,
        label,
        related: None,
        help,
    }
}

/// File, line and column of a value, and the value.
fn locate(spot: &Spot<'_>, pointer: &str) -> String {
    let Spot { file, held } = spot;
    let within = pointer
        .strip_prefix(held.pointer.as_str())
        .unwrap_or_default();
    if file.kind == Kind::Csv {
        let column = within.trim_start_matches("['").trim_end_matches("']");
        let column = if column.is_empty() {
            String::new()
        } else {
            format!(", column {column}")
        };
        return format!("{}:{}{column}", file.name, held.line);
    }
    let text = || -> Option<String> {
        let mut opened = fs::File::open(&file.path).ok()?;
        opened.seek(SeekFrom::Start(held.start)).ok()?;
        let mut text = String::new();
        opened
            .take(held.end.saturating_sub(held.start))
            .read_to_string(&mut text)
            .ok()?;
        Some(text)
    };
    let text = text().unwrap_or_default();
    let Some(root) = crate::json::value(&text) else {
        return format!("{}:{}:{}", file.name, held.line, held.column);
    };
    let span = follow(&root, within).span;
    let (start, end) = (span.start as usize, span.end as usize);
    let before = &text[..start];
    let lines = before.matches('\n').count() as u64;
    let column = match before.rfind('\n') {
        Some(at) => before[at..].chars().count() as u64,
        None => held.column + before.chars().count() as u64,
    };
    const SHOWN: usize = 60;
    let value: String = text[start..end]
        .chars()
        .map(|sign| if sign.is_whitespace() { ' ' } else { sign })
        .collect();
    let shown: String = value.chars().take(SHOWN).collect();
    let more = if shown.len() < value.len() { "…" } else { "" };
    format!(
        "{}:{}:{column}: {shown}{more}",
        file.name,
        held.line + lines
    )
}

/// The node that a normalized path (RFC 9535, section 2.7) leads to, or the last one on the way.
fn follow<'n>(node: &'n Node<'n>, path: &str) -> &'n Node<'n> {
    let mut here = node;
    let mut rest = path;
    while let Some(open) = rest.strip_prefix('[') {
        let (next, tail) = if let Some(quoted) = open.strip_prefix('\'') {
            let Some(end) = quoted.find("']") else { break };
            let name = quoted[..end].replace("\\'", "'").replace("\\\\", "\\");
            let Tree::Map(fields) = &here.value else {
                break;
            };
            let is_named =
                |key: &Node<'_>| matches!(&key.value, Tree::Scalar(_, text) if *text == name);
            (
                fields
                    .iter()
                    .find(|(key, _)| is_named(key))
                    .map(|(_, value)| value),
                &quoted[end + 2..],
            )
        } else {
            let Some(end) = open.find(']') else { break };
            let Tree::List(items) = &here.value else {
                break;
            };
            (
                open[..end]
                    .parse::<usize>()
                    .ok()
                    .and_then(|index| items.get(index)),
                &open[end + 1..],
            )
        };
        let Some(next) = next else { break };
        (here, rest) = (next, tail);
    }
    here
}

/// A file that is not what its ending says.
pub(super) fn broken(file: &Export, line: u64, column: u64, what: &str) -> LoadError {
    let bytes = fs::read(&file.path).unwrap_or_default();
    let text = String::from_utf8_lossy(&bytes).into_owned();
    let begin: usize = text
        .split_inclusive('\n')
        .take(usize::try_from(line - 1).unwrap_or(0))
        .map(str::len)
        .sum();
    let along = usize::try_from(column - 1).unwrap_or(0);
    let at = begin
        + text[begin..]
            .char_indices()
            .nth(along)
            .map_or(0, |(at, _)| at);
    let narrow = |at: usize| u32::try_from(at).unwrap_or(u32::MAX);
    let kind = if file.kind == Kind::Csv {
        "CSV"
    } else {
        "JSON"
    };
    let problem = Problem {
        title: format!("this is not {kind}: {what}"),
        span: Span {
            file: FileId(0),
            start: narrow(at),
            end: narrow(at + 1),
        },
        label: "here".to_owned(),
        related: None,
        help: None,
    };
    LoadError::Input {
        problems: vec![problem],
        texts: vec![SourceText {
            name: file.name.clone(),
            text,
        }],
    }
}
