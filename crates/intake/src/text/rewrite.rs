//! Texts of snapshot files that say something else afterwards, changed only where that is so.

use super::without::cuts_of;
use super::{bracket_cuts, dash_before, document, line_item, line_start};
use crate::files::SourceText;
use crate::tree::{Node, Scalar, Sink, Value as Tree};
use crate::{json, yaml};
use heronshale_model::source::FileId;
use serde_json::{Map, Value};

/// A file that says something else.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rewritten {
    /// Its name, relative to the estate's folder.
    pub name: String,
    /// Its text.
    pub text: String,
    /// Whether comments and layout stayed.
    pub layout_kept: bool,
}

/// A value, and where it stands.
struct Laid {
    start: usize,
    end: usize,
    shape: Shape,
}

enum Shape {
    Scalar(Scalar, String),
    List(Vec<Laid>),
    Map(Vec<Field>),
}

/// A field: its name, where its key stands, and its value.
struct Field {
    name: String,
    key: (usize, usize),
    value: Laid,
}

impl Laid {
    fn of(node: &Node<'_>) -> Self {
        let shape = match &node.value {
            Tree::Scalar(kind, text) => Shape::Scalar(*kind, text.to_string()),
            Tree::List(items) => Shape::List(items.iter().map(Self::of).collect()),
            Tree::Map(fields) => {
                let field = |(key, value): &(Node<'_>, Node<'_>)| Field::of(key, Self::of(value));
                Shape::Map(fields.iter().map(field).collect())
            }
        };
        Self {
            start: node.span.start as usize,
            end: node.span.end as usize,
            shape,
        }
    }

    /// The same with ends that are the ends of the texts: a parser of YAML may tell an end elsewhere.
    fn fitted(mut self, text: &str) -> Self {
        let last = match self.shape {
            Shape::Scalar(kind, scalar) => {
                let end = self.end.min(text.len());
                let trimmed = text
                    .get(self.start..end)
                    .map_or(0, |all| all.trim_end().len());
                self.end = self.start + trimmed;
                self.shape = Shape::Scalar(kind, scalar);
                return self;
            }
            Shape::List(items) => {
                let items: Vec<Self> = items.into_iter().map(|item| item.fitted(text)).collect();
                let last = items.last().map(|item| item.end);
                self.shape = Shape::List(items);
                last
            }
            Shape::Map(fields) => {
                let fields: Vec<Field> = fields
                    .into_iter()
                    .map(|field| Field {
                        value: field.value.fitted(text),
                        ..field
                    })
                    .collect();
                let last = fields.last().map(|field| field.value.end);
                self.shape = Shape::Map(fields);
                last
            }
        };
        if text[self.start..].starts_with(['[', '{']) {
            let from = last.unwrap_or(self.start + 1);
            let behind = text[from..].find([']', '}']).map(|at| from + at + 1);
            self.end = behind.unwrap_or(self.end);
        } else {
            self.end = last.unwrap_or(self.end);
        }
        self
    }

    fn value(&self) -> Value {
        match &self.shape {
            Shape::Scalar(Scalar::Null, _) => Value::Null,
            Shape::Scalar(Scalar::Bool, text) => Value::Bool(text == "true"),
            Shape::Scalar(Scalar::Number, text) => {
                serde_json::from_str(text).unwrap_or_else(|_| Value::String(text.clone()))
            }
            Shape::Scalar(Scalar::Text, text) => Value::String(text.clone()),
            Shape::List(items) => Value::Array(items.iter().map(Self::value).collect()),
            Shape::Map(fields) => {
                let all = fields.iter();
                let all = all.map(|field| (field.name.clone(), field.value.value()));
                Value::Object(all.collect())
            }
        }
    }
}

impl Field {
    fn of(key: &Node<'_>, value: Laid) -> Self {
        let name = match &key.value {
            Tree::Scalar(_, text) => text.to_string(),
            Tree::List(_) | Tree::Map(_) => String::new(),
        };
        Self {
            name,
            key: (key.span.start as usize, key.span.end as usize),
            value,
        }
    }
}

/// The fields at the top of a file.
#[derive(Default)]
struct Top(Vec<Field>);

impl Sink for Top {
    fn field(&mut self, key: &Node<'_>) {
        let at = key.span.end as usize;
        let nothing = Laid {
            start: at,
            end: at,
            shape: Shape::List(Vec::new()),
        };
        self.0.push(Field::of(key, nothing));
    }

    fn item(&mut self, index: Option<u32>, node: &Node<'_>) {
        let Some(field) = self.0.last_mut() else {
            return;
        };
        let item = Laid::of(node);
        match (&mut field.value.shape, index) {
            (Shape::List(items), Some(_)) => {
                if items.is_empty() {
                    field.value.start = item.start;
                }
                field.value.end = item.end;
                items.push(item);
            }
            _ => field.value = item,
        }
    }
}

/// A file that says what a document says; none if it says so already.
pub fn rewritten(source: &SourceText, wanted: &Map<String, Value>) -> Option<Rewritten> {
    let file = FileId(0);
    let is = |text: &str| {
        let read = document(file, source, text).ok();
        read.is_some_and(|read| read.as_object() == Some(wanted))
    };
    if is(&source.text) {
        return None;
    }
    let name = source.name.clone();
    let kept = in_place(source, wanted).filter(|text| is(text));
    let layout_kept = kept.is_some();
    let text = kept.unwrap_or_else(|| anew(source, wanted));
    Some(Rewritten {
        name,
        text,
        layout_kept,
    })
}

/// A file written as if nobody had written it before.
fn anew(source: &SourceText, wanted: &Map<String, Value>) -> String {
    if source.is_json() {
        return serde_json::to_string_pretty(wanted).unwrap_or_default() + "\n";
    }
    let mut text = String::new();
    for (name, value) in wanted {
        match value {
            Value::Array(items) if !items.is_empty() => {
                text += &format!("{name}:\n");
                for item in items {
                    text += &format!("  - {}\n", yaml_text(item));
                }
            }
            value => text += &format!("{name}: {}\n", yaml_text(value)),
        }
    }
    text
}

/// Places of a text and what stands there instead.
struct Changes<'t> {
    text: &'t str,
    is_json: bool,
    all: Vec<(usize, usize, String)>,
}

fn in_place(source: &SourceText, wanted: &Map<String, Value>) -> Option<String> {
    let mut top = Top::default();
    if source.is_json() {
        json::read(FileId(0), &source.text, &mut top).ok()?;
    } else {
        yaml::read(FileId(0), &source.text, &mut top).ok()?;
    }
    let fields: Vec<Field> = top
        .0
        .into_iter()
        .map(|field| Field {
            value: field.value.fitted(&source.text),
            ..field
        })
        .collect();
    let mut changes = Changes {
        text: &source.text,
        is_json: source.is_json(),
        all: Vec::new(),
    };
    let is_flow = source.is_json();
    changes.map(&fields, wanted, is_flow)?;
    changes.made()
}

/// One element of a list: that which was there, or a new one.
enum Element<'v> {
    Was(usize, &'v Value),
    New(&'v Value),
}

impl Changes<'_> {
    /// The text with all changes; none if two of them meet.
    fn made(mut self) -> Option<String> {
        self.all.sort_by_key(|(from, to, _)| (*from, *to));
        let mut text = String::with_capacity(self.text.len());
        let mut at = 0;
        // Lines end as the others do.
        let ends = if self.text.contains("\r\n") {
            "\r\n"
        } else {
            "\n"
        };
        for (from, to, new) in &self.all {
            text.push_str(self.text.get(at..*from)?);
            text.push_str(&new.replace('\n', ends));
            at = *to;
        }
        text.push_str(self.text.get(at..)?);
        Some(text)
    }

    fn put(&mut self, from: usize, to: usize, text: impl Into<String>) {
        self.all.push((from, to, text.into()));
    }

    fn written(&self, value: &Value) -> String {
        if self.is_json {
            serde_json::to_string(value).unwrap_or_default()
        } else {
            yaml_text(value)
        }
    }

    fn named(&self, name: &str, value: &Value) -> String {
        if self.is_json {
            format!(
                "{}: {}",
                Value::String(name.to_owned()),
                self.written(value)
            )
        } else {
            format!("{name}: {}", self.written(value))
        }
    }

    fn is_flow(&self, node: &Laid) -> bool {
        match &node.shape {
            Shape::Scalar(..) => true,
            _ => self.text[node.start..].starts_with(['[', '{']),
        }
    }

    /// A value becomes another, as little as possible of its text; behind a key it may be replaced as a whole.
    fn value(&mut self, node: &Laid, wanted: &Value, key: Option<(usize, usize)>) -> Option<()> {
        if node.value() == *wanted {
            return Some(());
        }
        let before = self.all.len();
        let done = match (&node.shape, wanted) {
            (Shape::Map(fields), Value::Object(wanted)) => {
                let flow = self.is_flow(node);
                self.map(fields, wanted, flow)
            }
            (Shape::List(items), Value::Array(wanted)) if !items.is_empty() => {
                self.list(items, wanted, self.is_flow_list(node, items))
            }
            _ => None,
        };
        if done.is_some() {
            return done;
        }
        self.all.truncate(before);
        let text = self.written(wanted);
        if self.is_flow(node) {
            self.put(node.start, node.end, text);
            return Some(());
        }
        // What is written line by line goes as a whole.
        let (start, end) = key?;
        let (_, last) = line_item(self.text, start);
        let colon = end + self.text[end..].find(':')? + 1;
        self.put(colon, last, format!(" {text}\n"));
        Some(())
    }

    /// Whether a list is written between brackets; of a section only the items are known.
    fn is_flow_list(&self, node: &Laid, items: &[Laid]) -> bool {
        self.text[node.start..].starts_with('[')
            || items
                .first()
                .is_some_and(|first| dash_before(self.text, first.start).is_none())
    }

    fn map(&mut self, fields: &[Field], wanted: &Map<String, Value>, is_flow: bool) -> Option<()> {
        let gone: Vec<usize> = (0..fields.len())
            .filter(|at| !wanted.contains_key(&fields[*at].name))
            .collect();
        if is_flow {
            let spans: Vec<(usize, usize)> = fields
                .iter()
                .map(|field| (field.key.0, field.value.end))
                .collect();
            let cuts = if gone.is_empty() {
                Vec::new()
            } else {
                bracket_cuts(&spans, &gone)
            };
            cuts.into_iter()
                .for_each(|(from, to)| self.put(from, to, ""));
        } else {
            for at in &gone {
                let (start, _) = fields[*at].key;
                let line = line_start(self.text, start);
                // The first key behind a dash cannot go with its line.
                self.text[line..start].trim().is_empty().then_some(())?;
                let (from, to) = line_item(self.text, start);
                self.put(from, to, "");
            }
        }
        for field in fields {
            if let Some(wanted) = wanted.get(&field.name) {
                self.value(&field.value, wanted, Some(field.key))?;
            }
        }
        let added: Vec<(&String, &Value)> = wanted
            .iter()
            .filter(|(name, _)| fields.iter().all(|field| field.name != **name))
            .collect();
        if added.is_empty() {
            return Some(());
        }
        let mut kept = fields
            .iter()
            .enumerate()
            .filter(|(at, _)| !gone.contains(at));
        let (_, last) = kept.next_back()?;
        if is_flow {
            let parts: Vec<String> = added
                .iter()
                .map(|(name, value)| {
                    format!("{}{}", self.comma(last.key.0), self.named(name, value))
                })
                .collect();
            self.put(last.value.end, last.value.end, parts.concat());
            return Some(());
        }
        let (start, _) = last.key;
        let (line, end) = line_item(self.text, start);
        let indent = " ".repeat(start - line);
        let lines: Vec<String> = added
            .iter()
            .map(|(name, value)| match value {
                Value::Array(items) if items.iter().any(Value::is_object) => {
                    let items = items
                        .iter()
                        .map(|item| format!("{indent}  - {}\n", yaml_text(item)));
                    format!("{indent}{name}:\n{}", items.collect::<String>())
                }
                value => format!("{indent}{}\n", self.named(name, value)),
            })
            .collect();
        self.insert_line(end, &lines.concat());
        Some(())
    }

    /// Lines behind others; the last line of a file may lack its end.
    fn insert_line(&mut self, at: usize, lines: &str) {
        let is_whole = at == 0 || self.text[..at].ends_with('\n');
        let text = if is_whole {
            lines.to_owned()
        } else {
            format!("\n{}", lines.trim_end_matches('\n'))
        };
        self.put(at, at, text);
    }

    /// What parts two elements between brackets: if the one before stands on its own line, so does the next.
    fn comma(&self, start: usize) -> String {
        let line = line_start(self.text, start);
        let front = &self.text[line..start];
        if !front.is_empty() && front.trim().is_empty() && self.is_json {
            format!(",\n{front}")
        } else {
            ", ".to_owned()
        }
    }

    fn list(&mut self, items: &[Laid], wanted: &[Value], is_flow: bool) -> Option<()> {
        let elements = paired(items, wanted)?;
        let kept: Vec<usize> = elements
            .iter()
            .filter_map(|one| match one {
                Element::Was(at, _) => Some(*at),
                Element::New(_) => None,
            })
            .collect();
        // A list that nothing of the old one is left of is another list.
        if kept.is_empty() {
            return None;
        }
        let spans: Vec<(usize, usize)> = items.iter().map(|item| (item.start, item.end)).collect();
        let gone: Vec<usize> = (0..items.len()).filter(|at| !kept.contains(at)).collect();
        if !gone.is_empty() {
            let cuts = if is_flow {
                bracket_cuts(&spans, &gone)
            } else {
                cuts_of(self.text, &spans, &gone)?
            };
            cuts.into_iter()
                .for_each(|(from, to)| self.put(from, to, ""));
        }
        let mut last: Option<usize> = None;
        for element in &elements {
            match element {
                Element::Was(at, wanted) => {
                    self.element(&items[*at], wanted, is_flow)?;
                    last = Some(*at);
                }
                Element::New(value) => self.add(items, last, kept[0], value, is_flow)?,
            }
        }
        Some(())
    }

    /// An element of a list.
    fn element(&mut self, item: &Laid, wanted: &Value, is_flow: bool) -> Option<()> {
        let before = self.all.len();
        let done = self.value(item, wanted, None);
        if done.is_some() || is_flow {
            return done;
        }
        self.all.truncate(before);
        let dash = dash_before(self.text, item.start)?;
        let (_, end) = line_item(self.text, dash);
        let text = self.written(wanted);
        self.put(dash, end, format!("- {text}\n"));
        Some(())
    }

    /// A new element behind another, or before the first that stays.
    fn add(
        &mut self,
        items: &[Laid],
        last: Option<usize>,
        first: usize,
        value: &Value,
        is_flow: bool,
    ) -> Option<()> {
        let text = self.written(value);
        let beside = &items[last.unwrap_or(first)];
        if is_flow {
            let comma = self.comma(beside.start);
            match last {
                Some(_) => self.put(beside.end, beside.end, format!("{comma}{text}")),
                None => {
                    let behind = comma.trim_start_matches(',').to_owned();
                    self.put(beside.start, beside.start, format!("{text},{behind}"));
                }
            }
            return Some(());
        }
        let dash = dash_before(self.text, beside.start)?;
        let (begin, end) = line_item(self.text, dash);
        let line = format!("{}- {text}\n", &self.text[begin..dash]);
        match last {
            Some(_) => self.insert_line(end, &line),
            None => self.put(begin, begin, line),
        }
        Some(())
    }
}

/// What a value is known by in its list.
fn known(value: &Value) -> Option<&str> {
    let by = ["id", "address", "interface", "network", "name", "object"];
    by.into_iter().find_map(|field| value.get(field)?.as_str())
}

/// Which element of a list is which of another; none if those of both change places.
fn paired<'v>(items: &[Laid], wanted: &'v [Value]) -> Option<Vec<Element<'v>>> {
    let old: Vec<Value> = items.iter().map(Laid::value).collect();
    let mut used = vec![false; old.len()];
    let mut places: Vec<Option<usize>> = vec![None; wanted.len()];
    for (place, value) in places.iter_mut().zip(wanted) {
        let found = (0..old.len()).find(|at| !used[*at] && old[*at] == *value);
        found.into_iter().for_each(|at| used[at] = true);
        *place = found;
    }
    for (place, value) in places.iter_mut().zip(wanted) {
        if place.is_none() && known(value).is_some() {
            let found = (0..old.len()).find(|at| !used[*at] && known(&old[*at]) == known(value));
            found.into_iter().for_each(|at| used[at] = true);
            *place = found;
        }
    }
    let kept: Vec<usize> = places.iter().copied().flatten().collect();
    if !kept.is_sorted() {
        return None;
    }
    let element = |(place, value): (&Option<usize>, &'v Value)| match place {
        Some(at) => Element::Was(*at, value),
        None => Element::New(value),
    };
    Some(places.iter().zip(wanted).map(element).collect())
}

/// A value on one line of YAML.
fn yaml_text(value: &Value) -> String {
    match value {
        Value::String(text) if is_plain(text) => text.clone(),
        Value::Array(items) => {
            let all: Vec<String> = items.iter().map(yaml_text).collect();
            format!("[{}]", all.join(", "))
        }
        Value::Object(fields) if fields.is_empty() => "{}".to_owned(),
        Value::Object(fields) => {
            let all: Vec<String> = fields
                .iter()
                .map(|(name, value)| {
                    let name = yaml_text(&Value::String(name.clone()));
                    format!("{name}: {}", yaml_text(value))
                })
                .collect();
            format!("{{ {} }}", all.join(", "))
        }
        other => other.to_string(),
    }
}

/// Whether a text needs no quotation marks anywhere in YAML: words of letters, the first of which begins with one.
fn is_plain(text: &str) -> bool {
    let is_word = |word: &str| {
        !word.is_empty()
            && word
                .chars()
                .all(|one| one.is_ascii_alphanumeric() || "_./-".contains(one))
    };
    let reserved = ["true", "false", "null", "yes", "no", "on", "off", "y", "n"];
    text.starts_with(|one: char| one.is_ascii_alphabetic())
        && text.split(' ').all(is_word)
        && !reserved.contains(&text.to_ascii_lowercase().as_str())
}
