//! YAML 1.2 to trees with byte spans, over a parser that yields events with positions.
//!
//! Scalars are read by the core schema: `yes` and `no` are texts. Aliases are copied, within a budget that
//! grows with the file, so that a few lines cannot stand for gigabytes. Tags and merge keys are refused.

use crate::slips::{Slip, slip};
use crate::tree::{DEEPEST, Node, Scalar, Sink, Value, span, syntax_problem, too_deep};
use heronshale_model::source::{FileId, Problem};
use rustc_hash::FxHashMap;
use saphyr_parser::{Event, Parser, ScalarStyle, Span as Marks, StrInput};
use std::borrow::Cow;

/// Copies that a file of no size at all may ask for.
const COPIES_AT_LEAST: usize = 100_000;

struct Reader<'t> {
    file: FileId,
    text: &'t str,
    parser: Parser<'t, StrInput<'t>>,
    offsets: Offsets,
    anchors: FxHashMap<usize, Node<'t>>,
    copies_left: usize,
}

/// Byte offsets of characters: the parser counts characters.
struct Offsets {
    /// The byte offset of every 64th character; none if all are one byte wide.
    marks: Option<Vec<usize>>,
}

impl Offsets {
    fn new(text: &str) -> Self {
        let marks =
            (!text.is_ascii()).then(|| text.char_indices().step_by(64).map(|(at, _)| at).collect());
        Self { marks }
    }

    fn byte(&self, text: &str, character: usize) -> usize {
        let Some(marks) = &self.marks else {
            return character.min(text.len());
        };
        let Some(from) = marks.get(character / 64) else {
            return text.len();
        };
        text[*from..]
            .char_indices()
            .nth(character % 64)
            .map_or(text.len(), |(at, _)| from + at)
    }
}

/// Reads one document. The first error of the syntax ends it.
pub(crate) fn read(file: FileId, text: &str, sink: &mut dyn Sink) -> Result<(), Problem> {
    let parser = Parser::new_from_str(text);
    let copies_left = COPIES_AT_LEAST + text.len();
    let mut reader = Reader {
        file,
        text,
        parser,
        offsets: Offsets::new(text),
        anchors: FxHashMap::default(),
        copies_left,
    };
    reader.document(sink)
}

impl<'t> Reader<'t> {
    fn next(&mut self) -> Result<(Event<'t>, Marks), Problem> {
        match self.parser.next_event() {
            Some(Ok(found)) => Ok(found),
            Some(Err(error)) => {
                let at = self.offsets.byte(self.text, error.marker().index());
                if error.info().contains("recursion limit") {
                    return Err(too_deep(self.file, at));
                }
                Err(match slip(self.text, at, error.info()) {
                    Some(Slip {
                        title,
                        at,
                        label,
                        help,
                    }) => syntax_problem(self.file, at, title, label, help),
                    None => {
                        let title = format!("this is not YAML: {}", error.info());
                        syntax_problem(self.file, at, title, "here", None)
                    }
                })
            }
            None => Err(syntax_problem(
                self.file,
                self.text.len(),
                "the file ends too early".to_owned(),
                "here",
                None,
            )),
        }
    }

    fn start_of(&self, marks: &Marks) -> usize {
        self.offsets.byte(self.text, marks.start.index())
    }

    fn document(&mut self, sink: &mut dyn Sink) -> Result<(), Problem> {
        loop {
            let (event, marks) = self.next()?;
            match event {
                Event::MappingStart(..) => break,
                Event::StreamStart | Event::DocumentStart(_) | Event::Nothing => {}
                _ => {
                    let at = self.start_of(&marks);
                    let title =
                        "a file is a map of fields, `format` and `version` among them".to_owned();
                    return Err(syntax_problem(self.file, at, title, "this is none", None));
                }
            }
        }
        loop {
            let (event, marks) = self.next()?;
            if matches!(event, Event::MappingEnd) {
                break;
            }
            let key = self.key(event, &marks)?;
            sink.field(&key);
            let (event, marks) = self.next()?;
            if let Event::SequenceStart(0, None) = event {
                self.items(sink)?;
            } else {
                let node = self.value(event, &marks, 1)?;
                match node.value {
                    Value::List(items) => {
                        for (index, item) in (0_u32..).zip(&items) {
                            sink.item(Some(index), item);
                        }
                    }
                    _ => sink.item(None, &node),
                }
            }
        }
        self.end()
    }

    fn items(&mut self, sink: &mut dyn Sink) -> Result<(), Problem> {
        let mut index = 0;
        loop {
            let (event, marks) = self.next()?;
            if matches!(event, Event::SequenceEnd) {
                return Ok(());
            }
            let node = self.value(event, &marks, 2)?;
            sink.item(Some(index), &node);
            index += 1;
        }
    }

    fn end(&mut self) -> Result<(), Problem> {
        loop {
            let (event, marks) = self.next()?;
            match event {
                Event::StreamEnd => return Ok(()),
                Event::DocumentStart(_) => {
                    let at = self.start_of(&marks);
                    let title = "the file holds more than one YAML document".to_owned();
                    let help = "write each into a file of its own, in one folder".to_owned();
                    return Err(syntax_problem(
                        self.file,
                        at,
                        title,
                        "a second one begins here",
                        Some(help),
                    ));
                }
                _ => {}
            }
        }
    }

    fn key(&mut self, event: Event<'t>, marks: &Marks) -> Result<Node<'t>, Problem> {
        let at = self.start_of(marks);
        let file = self.file;
        let no_text = || {
            syntax_problem(
                file,
                at,
                "a field's name must be a text".to_owned(),
                "this is none",
                None,
            )
        };
        // What begins here may be nested without end.
        if !matches!(event, Event::Scalar(..) | Event::Alias(_)) {
            return Err(no_text());
        }
        let key = self.value(event, marks, 1)?;
        let Value::Scalar(_, text) = &key.value else {
            return Err(no_text());
        };
        if text == "<<" {
            let help =
                "write the fields out; shared settings of networks go into a conduct".to_owned();
            return Err(syntax_problem(
                self.file,
                at,
                "merge keys are not read".to_owned(),
                "here",
                Some(help),
            ));
        }
        Ok(key)
    }

    fn value(
        &mut self,
        event: Event<'t>,
        marks: &Marks,
        depth: usize,
    ) -> Result<Node<'t>, Problem> {
        let start = self.start_of(marks);
        if depth > DEEPEST {
            return Err(too_deep(self.file, start));
        }
        let (anchor, node) = match event {
            Event::Scalar(text, style, anchor, tag) => {
                self.no_tag(tag.is_some(), start)?;
                let end = self.offsets.byte(self.text, marks.end.index());
                (
                    anchor,
                    Node {
                        span: span(self.file, start, end),
                        value: scalar(text, style),
                    },
                )
            }
            Event::SequenceStart(anchor, tag) => {
                self.no_tag(tag.is_some(), start)?;
                (anchor, self.list(start, depth)?)
            }
            Event::MappingStart(anchor, tag) => {
                self.no_tag(tag.is_some(), start)?;
                (anchor, self.map(start, depth)?)
            }
            Event::Alias(anchor) => return self.copy(anchor, start),
            _ => {
                return Err(syntax_problem(
                    self.file,
                    start,
                    "a value is missing".to_owned(),
                    "here",
                    None,
                ));
            }
        };
        if anchor != 0 {
            self.anchors.insert(anchor, node.clone());
        }
        Ok(node)
    }

    fn no_tag(&self, tagged: bool, at: usize) -> Result<(), Problem> {
        if !tagged {
            return Ok(());
        }
        let help = Some("write the value without a tag".to_owned());
        Err(syntax_problem(
            self.file,
            at,
            "YAML tags are not read".to_owned(),
            "this value has one",
            help,
        ))
    }

    fn copy(&mut self, anchor: usize, at: usize) -> Result<Node<'t>, Problem> {
        let Some(node) = self.anchors.get(&anchor) else {
            let title = "this alias stands inside or before the value that it names".to_owned();
            return Err(syntax_problem(self.file, at, title, "here", None));
        };
        let size = node.size();
        let Some(left) = self.copies_left.checked_sub(size) else {
            let most = COPIES_AT_LEAST + self.text.len();
            let title = format!("the file's aliases expand to more than {most} values");
            let help =
                "a file may expand to 100,000 values and one for each of its bytes".to_owned();
            return Err(syntax_problem(
                self.file,
                at,
                title,
                "the limit is exceeded here",
                Some(help),
            ));
        };
        self.copies_left = left;
        Ok(node.clone())
    }

    fn list(&mut self, start: usize, depth: usize) -> Result<Node<'t>, Problem> {
        let mut items = Vec::new();
        loop {
            let (event, marks) = self.next()?;
            if matches!(event, Event::SequenceEnd) {
                let end = self.end_of(start, items.last(), &marks);
                return Ok(Node {
                    span: span(self.file, start, end),
                    value: Value::List(items),
                });
            }
            items.push(self.value(event, &marks, depth + 1)?);
        }
    }

    fn map(&mut self, start: usize, depth: usize) -> Result<Node<'t>, Problem> {
        let mut fields: Vec<(Node<'t>, Node<'t>)> = Vec::new();
        loop {
            let (event, marks) = self.next()?;
            if matches!(event, Event::MappingEnd) {
                let end = self.end_of(start, fields.last().map(|(_, value)| value), &marks);
                return Ok(Node {
                    span: span(self.file, start, end),
                    value: Value::Map(fields),
                });
            }
            let key = self.key(event, &marks)?;
            let (event, marks) = self.next()?;
            fields.push((key, self.value(event, &marks, depth + 1)?));
        }
    }

    /// Block collections end where the next token begins: better the end of their last value, unless that is a copy
    /// of one that stands elsewhere.
    fn end_of(&self, start: usize, last: Option<&Node<'t>>, marks: &Marks) -> usize {
        let end = self.offsets.byte(self.text, marks.end.index());
        let closed = self.text[..end].ends_with([']', '}']);
        last.map(|node| node.span.end as usize)
            .filter(|last| !closed && *last > start)
            .unwrap_or(end)
    }
}

/// A scalar by the core schema of YAML 1.2.
fn scalar(text: Cow<'_, str>, style: ScalarStyle) -> Value<'_> {
    if style != ScalarStyle::Plain {
        return Value::Scalar(Scalar::Text, text);
    }
    let kind = match text.as_ref() {
        "" | "~" | "null" | "Null" | "NULL" => Scalar::Null,
        "true" | "True" | "TRUE" | "false" | "False" | "FALSE" => Scalar::Bool,
        digits
            if digits
                .strip_prefix('-')
                .unwrap_or(digits)
                .bytes()
                .all(|b| b.is_ascii_digit()) =>
        {
            Scalar::Number
        }
        _ => Scalar::Text,
    };
    Value::Scalar(kind, text)
}
