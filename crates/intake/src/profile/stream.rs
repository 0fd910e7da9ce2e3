//! Exports are passed through, and only one record at a time is held: a file may be larger than the memory.

use super::compile::{From, Step};
use super::coverage::Seen;
use super::make::found;
use serde_json::{Map, Value as Json};
use std::fs::File;
use std::io::{BufReader, Read, Seek};
use std::path::Path;
use struson::reader::{JsonReader, JsonStreamReader, ReaderSettings, ValueType};

/// A node that is held as a whole, and where it stands in its file.
#[derive(Clone, Debug)]
pub(super) struct Held {
    /// A normalized path (RFC 9535, section 2.7).
    pub pointer: String,
    /// Its first byte.
    pub start: u64,
    /// Behind its last byte.
    pub end: u64,
    /// The line of the first byte, from 1.
    pub line: u64,
    /// Its column, from 1.
    pub column: u64,
}

/// Takes records.
pub(super) trait Taker {
    /// A record of one of the places that were asked for.
    fn record(&mut self, place: usize, node: &Json, pointer: &str, held: &Held);
    /// What was met on the way.
    fn seen(&mut self) -> Option<&mut Seen>;
    /// So many more bytes were read.
    fn progress(&mut self, bytes: u64);
    /// Headers of sheets that are known by other names.
    fn columns(&self) -> &[(String, String)] {
        &[]
    }
}

/// Why a file could not be read to its end.
pub(super) enum Broken {
    Reading(std::io::Error),
    /// It is no JSON, or no CSV: line and column from 1, and what was wrong.
    Syntax(u64, u64, String),
}

/// The kinds of files that are read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    Json,
    /// Several documents, one after the other.
    JsonLines,
    /// Rows with a header (RFC 4180): a list of objects of texts.
    Csv,
}

/// The kind of a file by its ending.
pub(super) fn kind_of(path: &Path) -> Option<Kind> {
    match path.extension()?.to_str()?.to_ascii_lowercase().as_str() {
        "json" => Some(Kind::Json),
        "jsonl" | "ndjson" => Some(Kind::JsonLines),
        "csv" => Some(Kind::Csv),
        _ => None,
    }
}

/// Counts what goes through.
struct Counted<R> {
    inner: R,
    count: std::rc::Rc<std::cell::Cell<u64>>,
}

impl<R: Read> Read for Counted<R> {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        let count = self.inner.read(into)?;
        self.count.set(self.count.get() + count as u64);
        Ok(count)
    }
}

type Reader = JsonStreamReader<BufReader<Counted<File>>>;

/// A place that is looked for, and how many of its steps are behind.
type Active = (usize, usize);

struct Walk<'w, T: Taker> {
    places: &'w [&'w From],
    taker: &'w mut T,
    count: std::rc::Rc<std::cell::Cell<u64>>,
    told: u64,
    pointer: String,
    trail: Vec<Step>,
}

/// Reads a file and hands out what stands at the places, by document order.
pub(super) fn read(
    path: &Path,
    kind: Kind,
    places: &[&From],
    taker: &mut impl Taker,
) -> Result<(), Broken> {
    let file = without_mark(path).map_err(Broken::Reading)?;
    let count = std::rc::Rc::new(std::cell::Cell::new(0));
    let counted = Counted {
        inner: file,
        count: count.clone(),
    };
    let active: Vec<Active> = (0..places.len()).map(|place| (place, 0)).collect();
    let mut walk = Walk {
        places,
        taker,
        count,
        told: 0,
        pointer: "$".to_owned(),
        trail: Vec::new(),
    };
    if kind == Kind::Csv {
        return walk.rows(counted, &active);
    }
    let settings = ReaderSettings {
        allow_multiple_top_level: kind == Kind::JsonLines,
        track_path: false,
        ..ReaderSettings::default()
    };
    let mut reader =
        JsonStreamReader::new_custom(BufReader::with_capacity(1 << 16, counted), settings);
    loop {
        walk.value(&mut reader, &active)
            .map_err(|error| broken(&error))?;
        if kind == Kind::Json {
            return reader
                .consume_trailing_whitespace()
                .map_err(|error| broken(&error));
        }
        if !reader.has_next().map_err(|error| broken(&error))? {
            return Ok(());
        }
    }
}

/// A file, behind the byte order mark if it begins with one.
fn without_mark(path: &Path) -> std::io::Result<File> {
    let mut file = File::open(path)?;
    let mut begin = [0; 3];
    let mark = file.read_exact(&mut begin).is_ok() && begin == *b"\xEF\xBB\xBF";
    if !mark {
        file.rewind()?;
    }
    Ok(file)
}

/// What a reader of JSON calls an error, in words.
fn in_words(kind: &str) -> String {
    match kind {
        "IncompleteDocument" => {
            "the file ends in the middle of a value and seems to be cut".to_owned()
        }
        "MalformedJson" => "a value cannot start like this".to_owned(),
        // The names are words that are written together: `MissingComma`.
        other => other.chars().fold(String::new(), |mut text, sign| {
            if sign.is_uppercase() && !text.is_empty() {
                text.push(' ');
            }
            text.extend(sign.to_lowercase());
            text
        }),
    }
}

fn broken(error: &struson::reader::ReaderError) -> Broken {
    use struson::reader::ReaderError;
    let at = |location: &struson::reader::JsonReaderPosition| {
        location
            .line_pos
            .as_ref()
            .map_or((1, 1), |at| (at.line + 1, at.column + 1))
    };
    match error {
        ReaderError::SyntaxError(error) => {
            let (line, column) = at(&error.location);
            Broken::Syntax(line, column, in_words(&format!("{}", error.kind)))
        }
        ReaderError::IoError { error, location }
            if error.kind() == std::io::ErrorKind::InvalidData =>
        {
            let (line, column) = at(location);
            let what = error.to_string();
            let what = if what.contains("UTF-8") {
                "the file is not text in UTF-8".to_owned()
            } else {
                what
            };
            Broken::Syntax(line, column, what)
        }
        ReaderError::IoError { error, .. } => {
            Broken::Reading(std::io::Error::new(error.kind(), error.to_string()))
        }
        ReaderError::MaxNestingDepthExceeded { location, .. } => {
            let (line, column) = at(location);
            Broken::Syntax(line, column, "values are nested too deep".to_owned())
        }
        ReaderError::UnsupportedNumberValue { location, .. }
        | ReaderError::UnexpectedStructure { location, .. } => {
            let (line, column) = at(location);
            Broken::Syntax(line, column, error.to_string())
        }
        other => Broken::Syntax(1, 1, other.to_string()),
    }
}

impl<T: Taker> Walk<'_, T> {
    fn told(&mut self) {
        const STEP: u64 = 1 << 20;
        let now = self.count.get();
        if now >= self.told + STEP {
            self.taker.progress(now - self.told);
            self.told = now;
        }
    }

    /// Those that go on at a member or item.
    fn next(&self, active: &[Active], name: Option<&str>) -> Vec<Active> {
        let goes_on = |(place, depth): &&Active| match &self.places[*place].steps[*depth] {
            Step::Any => true,
            Step::Name(wanted) => name == Some(wanted),
        };
        active
            .iter()
            .filter(goes_on)
            .map(|(place, depth)| (*place, depth + 1))
            .collect()
    }

    fn value(
        &mut self,
        reader: &mut Reader,
        active: &[Active],
    ) -> Result<(), struson::reader::ReaderError> {
        let kind = reader.peek()?;
        let ends = active
            .iter()
            .any(|(place, depth)| self.places[*place].steps.len() == *depth);
        if ends || !matches!(kind, ValueType::Array | ValueType::Object) {
            let before = reader.current_position(false);
            let node: Json = reader.deserialize_next().map_err(|error| match error {
                struson::serde::DeserializerError::ReaderError(error) => error,
                other => struson::reader::ReaderError::IoError {
                    error: std::io::Error::new(std::io::ErrorKind::InvalidData, other.to_string()),
                    location: reader.current_position(false),
                },
            })?;
            let line = before
                .line_pos
                .as_ref()
                .map_or((1, 1), |at| (at.line + 1, at.column + 1));
            let held = Held {
                pointer: self.pointer.clone(),
                start: before.data_pos.unwrap_or(0),
                end: reader.current_position(false).data_pos.unwrap_or(0),
                line: line.0,
                column: line.1,
            };
            self.hold(&node, active, &held);
            self.told();
            return Ok(());
        }
        let object = kind == ValueType::Object;
        if object {
            reader.begin_object()?
        } else {
            reader.begin_array()?
        }
        let mut index = 0;
        while reader.has_next()? {
            let name = if object {
                Some(reader.next_name_owned()?)
            } else {
                None
            };
            let next = self.next(active, name.as_deref());
            // The members of a list by name count as its items, unless somebody asks for one by its name.
            let only_any = !next.is_empty()
                && next
                    .iter()
                    .all(|(place, depth)| self.places[*place].steps[depth - 1] == Step::Any);
            let step = name
                .as_ref()
                .filter(|_| !only_any)
                .map_or(Step::Any, |name| Step::Name(name.clone()));
            self.trail.push(step);
            if next.is_empty() {
                reader.skip_value()?;
                if let Some(seen) = self.taker.seen() {
                    seen.at(&self.trail).count += 1;
                }
            } else {
                let length = self.pointer.len();
                match &name {
                    Some(name) => push_name(&mut self.pointer, name),
                    None => self.pointer.push_str(&format!("[{index}]")),
                }
                self.value(reader, &next)?;
                self.pointer.truncate(length);
            }
            self.trail.pop();
            index += 1;
            self.told();
        }
        if object {
            reader.end_object()
        } else {
            reader.end_array()
        }
    }

    /// Hands out what lies in a node that is held.
    fn hold(&mut self, node: &Json, active: &[Active], held: &Held) {
        if let Some(seen) = self.taker.seen() {
            seen.at(&self.trail).take(node);
        }
        for (place, depth) in active {
            self.within(*place, *depth, node, &held.pointer, held);
        }
    }

    fn within(&mut self, place: usize, depth: usize, node: &Json, pointer: &str, held: &Held) {
        let from = self.places[place];
        match (from.steps.get(depth), node) {
            (None, _) => match &from.rest {
                None => self.taker.record(place, node, pointer, held),
                Some(rest) if from.alone => {
                    let alone = Json::Array(vec![node.clone()]);
                    for (node, path) in found(rest, &alone, "$") {
                        self.taker.record(
                            place,
                            node,
                            &format!("{pointer}{}", &path["$[0]".len()..]),
                            held,
                        );
                    }
                }
                Some(rest) => {
                    for (node, pointer) in found(rest, node, pointer) {
                        self.taker.record(place, node, &pointer, held);
                    }
                }
            },
            (Some(Step::Name(name)), Json::Object(fields)) => {
                if let Some(inner) = fields.get(name) {
                    let mut pointer = pointer.to_owned();
                    push_name(&mut pointer, name);
                    self.within(place, depth + 1, inner, &pointer, held);
                }
            }
            (Some(Step::Any), Json::Object(fields)) => {
                for (name, inner) in fields {
                    let mut pointer = pointer.to_owned();
                    push_name(&mut pointer, name);
                    self.within(place, depth + 1, inner, &pointer, held);
                }
            }
            (Some(Step::Any), Json::Array(items)) => {
                for (index, inner) in items.iter().enumerate() {
                    self.within(
                        place,
                        depth + 1,
                        inner,
                        &format!("{pointer}[{index}]"),
                        held,
                    );
                }
            }
            _ => {}
        }
    }

    /// The rows of a CSV file, as a list of objects.
    fn rows(&mut self, file: Counted<File>, active: &[Active]) -> Result<(), Broken> {
        let wrong = |error: &csv::Error| {
            let line = error.position().map_or(1, csv::Position::line);
            let what = match error.kind() {
                csv::ErrorKind::UnequalLengths {
                    expected_len, len, ..
                } => {
                    format!("this row has {len} fields, the header {expected_len}")
                }
                csv::ErrorKind::Utf8 { .. } => "the file is not text in UTF-8".to_owned(),
                _ => error.to_string(),
            };
            Broken::Syntax(line, 1, what)
        };
        let mut reader = csv::ReaderBuilder::new().from_reader(BufReader::new(file));
        let header = reader.headers().map_err(|error| wrong(&error))?.clone();
        let columns = self.taker.columns();
        let renamed = |name: &str| {
            columns
                .iter()
                .find(|(header, _)| header == name)
                .map(|(_, name)| name.clone())
        };
        let names = header
            .iter()
            .map(|name| name.trim_start_matches('\u{feff}').trim());
        let names: Vec<String> = names
            .map(|name| renamed(name).unwrap_or_else(|| name.to_owned()))
            .collect();
        if let Some((_, name)) = names
            .iter()
            .enumerate()
            .find(|(at, name)| names[..*at].contains(name))
        {
            return Err(Broken::Syntax(
                1,
                1,
                format!("the header names `{name}` twice"),
            ));
        }
        let next = self.next(active, None);
        for (index, row) in reader.records().enumerate() {
            let row = row.map_err(|error| wrong(&error))?;
            let cells = names
                .iter()
                .zip(&row)
                .filter(|(_, cell)| !cell.trim().is_empty());
            let node: Map<String, Json> = cells
                .map(|(name, cell)| (name.clone(), cell.trim().into()))
                .collect();
            let position = row.position();
            let held = Held {
                pointer: format!("$[{index}]"),
                start: 0,
                end: 0,
                line: position.map_or(1, csv::Position::line),
                column: 1,
            };
            self.trail.push(Step::Any);
            self.hold(&Json::Object(node), &next, &held);
            self.trail.pop();
            self.told();
        }
        Ok(())
    }
}

fn push_name(pointer: &mut String, name: &str) {
    pointer.push_str("['");
    pointer.push_str(&name.replace('\\', "\\\\").replace('\'', "\\'"));
    pointer.push_str("']");
}
