//! Lists of connections: CSV (RFC 4180) with a header that names `from` and `to`, else one connection on each line.
//!
//! A line is `FROM TO [TRAFFIC] [expect WORD]`, or a whole connection as logs write it. Empty lines and lines that begin
//! with `#` are left out.

use crate::files::{LoadError, SourceText};
use crate::reading::{Reading, did_you_mean};
use heronshale_model::connections::{AskedConnection, Expected};
use heronshale_model::source::{FileId, Span};
use std::path::Path;

/// The columns of a CSV list; the first two have to be there.
const COLUMNS: [&str; 5] = ["from", "to", "traffic", "expect", "name"];

/// A list of connections, and the text in which it stands.
#[derive(Debug)]
pub struct ConnectionList {
    /// The connections in their order.
    pub connections: Vec<AskedConnection>,
    text: SourceText,
}

impl ConnectionList {
    /// What is wrong with some of its lines: where, what, and what would be right.
    pub fn wrong(self, mistakes: Vec<(Span, String, Option<String>)>) -> LoadError {
        let mut at = Reading::default();
        for (span, what, help) in mistakes {
            at.fail(span, what, "here", help);
        }
        LoadError::Input {
            problems: at.problems,
            texts: vec![self.text],
        }
    }
}

/// Reads a list of connections.
///
/// # Errors
/// If the file cannot be reached or used: every line that is wrong is told.
pub fn load_connections(path: &Path) -> Result<ConnectionList, LoadError> {
    let bytes = std::fs::read(path).map_err(|error| LoadError::Environment {
        what: format!("cannot read {}", path.display()),
        error,
    })?;
    let name = path.file_name().unwrap_or(path.as_os_str());
    let text = SourceText {
        name: name.to_string_lossy().into_owned(),
        text: String::from_utf8_lossy(&bytes).into_owned(),
    };
    let mut at = Reading::default();
    let lines = lines(&text.text);
    let first = lines.first().map_or("", |(_, _, line)| *line);
    let is_sheet = |line: &str| {
        let mut cells = line.split(',').map(str::trim);
        line.contains(',') && cells.any(|cell| cell.eq_ignore_ascii_case(COLUMNS[0]))
    };
    let connections = if is_sheet(first) {
        from_sheet(&text.text, &mut at)
    } else {
        lines
            .iter()
            .filter_map(|one| from_line(*one, &mut at))
            .collect()
    };
    if connections.is_empty() && at.problems.is_empty() {
        let help = "write lines such as `desk-1 https://203.0.113.30`, or a CSV file with the columns from and to";
        at.fail(
            span(0, 1),
            "the list has no connection".to_owned(),
            "here",
            Some(help.to_owned()),
        );
    }
    if at.problems.is_empty() {
        return Ok(ConnectionList { connections, text });
    }
    Err(LoadError::Input {
        problems: at.problems,
        texts: vec![text],
    })
}

fn span(from: usize, length: usize) -> Span {
    let number = |at: usize| u32::try_from(at).unwrap_or(u32::MAX);
    Span {
        file: FileId(0),
        start: number(from),
        end: number(from + length.max(1)),
    }
}

/// The lines that say something: number from 1, offset, text.
fn lines(text: &str) -> Vec<(usize, usize, &str)> {
    let mut offset = 0;
    let mut all = Vec::new();
    for (at, whole) in text.split_inclusive('\n').enumerate() {
        let line = whole.trim_end_matches(['\r', '\n']);
        let start = line.len() - line.trim_start_matches(['\u{feff}', ' ', '\t']).len();
        let said = line[start..].trim_end();
        if !said.is_empty() && !said.starts_with('#') {
            all.push((at + 1, offset + start, said));
        }
        offset += whole.len();
    }
    all
}

/// What a word of expectation means; it is a mistake if it is none.
fn expected(word: &str, place: Span, at: &mut Reading) -> Option<Expected> {
    let found = Expected::of(word);
    if found.is_none() {
        let words = Expected::ALL.map(Expected::word);
        let near = did_you_mean(word, words).unwrap_or_default();
        let help = format!("{near} write one of {}", words.join(", "));
        at.fail(
            place,
            format!("`{word}` is not an expected result"),
            "here",
            Some(help.trim().to_owned()),
        );
    }
    found
}

fn from_line(
    (number, offset, line): (usize, usize, &str),
    at: &mut Reading,
) -> Option<AskedConnection> {
    let (asked, word) = match line.rsplit_once(" expect ") {
        Some((asked, word)) => (asked.trim_end(), Some(word.trim())),
        None => (line, None),
    };
    let expected = match word {
        None => None,
        Some(word) => {
            let place = span(offset + line.len() - word.len(), word.len());
            Some(expected(word, place, at)?)
        }
    };
    Some(AskedConnection {
        line: number,
        span: span(offset, asked.len()),
        from: asked.to_owned(),
        to: None,
        traffic: String::new(),
        expected,
        name: None,
    })
}

/// Whether the header names only columns that are read, each once. Nothing in a list is left out silently.
fn all_known(header: &csv::StringRecord, text: &str, at: &mut Reading) -> bool {
    let before = at.problems.len();
    let line = text.lines().next().unwrap_or_default();
    for (column, name) in header.iter().enumerate() {
        let same = |other: &str| other.eq_ignore_ascii_case(name);
        let known = COLUMNS.iter().any(|one| same(one));
        let what = match known {
            false => format!("unknown column `{name}`"),
            true if header.iter().take(column).any(same) => format!("two columns `{name}`"),
            true => continue,
        };
        let near = did_you_mean(name, COLUMNS).unwrap_or_default();
        let help = format!("{near} the columns are {}", COLUMNS.join(", "));
        let start = line.rfind(name).unwrap_or(0);
        let place = span(start, name.len());
        at.fail(place, what, "here", Some(help.trim().to_owned()));
    }
    at.problems.len() == before
}

fn from_sheet(text: &str, at: &mut Reading) -> Vec<AskedConnection> {
    let mut reader = csv::ReaderBuilder::new()
        .trim(csv::Trim::All)
        .comment(Some(b'#'))
        .from_reader(text.trim_start_matches('\u{feff}').as_bytes());
    let header = match reader.headers() {
        Ok(header) => header.clone(),
        Err(error) => {
            at.fail(
                span(0, 1),
                format!("the header cannot be read: {error}"),
                "here",
                None,
            );
            return Vec::new();
        }
    };
    let place = |name: &str| {
        let mut names = header.iter();
        names.position(|found| found.eq_ignore_ascii_case(name))
    };
    let columns = COLUMNS.map(place);
    if columns[1].is_none() {
        let found = header.iter().collect::<Vec<_>>().join(", ");
        let help =
            format!("the columns are from, to, traffic, expect and name; the header names {found}");
        at.fail(
            span(0, text.lines().next().map_or(1, str::len)),
            "there is no column `to`".to_owned(),
            "the header",
            Some(help),
        );
        return Vec::new();
    }
    if !all_known(&header, text, at) {
        return Vec::new();
    }
    let mut all = Vec::new();
    for record in reader.records() {
        let record = match record {
            Ok(record) => record,
            Err(error) => {
                let offset = error.position().map_or(0, csv::Position::byte);
                let offset = usize::try_from(offset).unwrap_or(0);
                at.fail(
                    span(offset, 1),
                    format!("the line cannot be read: {error}"),
                    "here",
                    None,
                );
                continue;
            }
        };
        let position = record.position();
        let number = |at: u64| usize::try_from(at).unwrap_or(0);
        let line = position.map_or(0, |position| number(position.line()));
        let from = position.map_or(0, |position| number(position.byte()));
        let from = from.min(text.len());
        let from = from + text[from..].len() - text[from..].trim_start_matches(['\r', '\n']).len();
        let length = text[from..].lines().next().map_or(1, str::len);
        let whole = span(from, length);
        let cell = |column: usize| {
            let column = columns[column]?;
            record.get(column).filter(|text| !text.is_empty())
        };
        let word = cell(3);
        let wanted = match word {
            None => None,
            Some(word) => match expected(word, whole, at) {
                None => continue,
                found => found,
            },
        };
        all.push(AskedConnection {
            line,
            span: whole,
            from: cell(0).unwrap_or_default().to_owned(),
            to: Some(cell(1).unwrap_or_default().to_owned()),
            traffic: cell(2).unwrap_or_default().to_owned(),
            expected: wanted,
            name: cell(4).map(str::to_owned),
        });
    }
    all
}
