//! JSON (RFC 8259) to trees with byte spans, in one pass, over a pull parser that tells its position.

use crate::tree::{DEEPEST, Node, Scalar, Sink, Value, span, syntax_problem, too_deep};
use heronshale_model::source::{FileId, Problem};
use jiter::{Jiter, JiterError, JiterErrorType, Peek};
use std::borrow::Cow;

struct Reader<'t> {
    file: FileId,
    text: &'t str,
    jiter: Jiter<'t>,
}

/// Reads one document. The first error of the syntax ends it.
pub(crate) fn read(file: FileId, text: &str, sink: &mut dyn Sink) -> Result<(), Problem> {
    let mut reader = Reader {
        file,
        text,
        jiter: Jiter::new(text.as_bytes()),
    };
    let first = reader.peek()?;
    if first != Peek::Object {
        let node = reader.value(first, 0)?;
        let title = format!(
            "a snapshot is a map; this file contains {}",
            node.describe()
        );
        return Err(syntax_problem(file, 0, title, "expected `{`", None));
    }
    reader.document(sink)
}

/// A text that is one value, with the bytes of all that is in it.
pub(crate) fn whole(file: FileId, text: &str) -> Result<Node<'_>, Problem> {
    let mut reader = Reader {
        file,
        text,
        jiter: Jiter::new(text.as_bytes()),
    };
    let peek = reader.peek()?;
    let node = reader.value(peek, 0)?;
    reader.jiter.finish().map_err(|error| reader.fail(&error))?;
    Ok(node)
}

/// One value with the bytes of all that is in it; none if it is no JSON.
pub(crate) fn value(text: &str) -> Option<Node<'_>> {
    let mut reader = Reader {
        file: FileId(0),
        text,
        jiter: Jiter::new(text.as_bytes()),
    };
    let peek = reader.peek().ok()?;
    reader.value(peek, 0).ok()
}

impl<'t> Reader<'t> {
    fn fail(&self, error: &JiterError) -> Problem {
        let what = match &error.error_type {
            JiterErrorType::JsonError(kind) => kind.to_string(),
            JiterErrorType::WrongType { expected, actual } => {
                format!("expected {expected}, found {actual}")
            }
        };
        let at = error.index.min(self.text.len());
        syntax_problem(
            self.file,
            at,
            format!("this is not JSON: {what}"),
            "here",
            None,
        )
    }

    fn peek(&mut self) -> Result<Peek, Problem> {
        self.jiter.peek().map_err(|error| self.fail(&error))
    }

    fn document(&mut self, sink: &mut dyn Sink) -> Result<(), Problem> {
        let mut key = self.key(true)?;
        while let Some(name) = key {
            sink.field(&name);
            let peek = self.peek()?;
            if peek == Peek::Array {
                let mut next = self
                    .jiter
                    .known_array()
                    .map_err(|error| self.fail(&error))?;
                let mut index = 0;
                while let Some(peek) = next {
                    let node = self.value(peek, 2)?;
                    sink.item(Some(index), &node);
                    index += 1;
                    next = self.jiter.array_step().map_err(|error| self.fail(&error))?;
                }
            } else {
                let node = self.value(peek, 1)?;
                sink.item(None, &node);
            }
            key = self.key(false)?;
        }
        self.jiter.finish().map_err(|error| self.fail(&error))
    }

    /// The next key of an object with its span, or the object's end.
    fn key(&mut self, first: bool) -> Result<Option<Node<'t>>, Problem> {
        let before = self.jiter.current_index();
        let found = if first {
            self.jiter.next_object()
        } else {
            self.jiter.next_key()
        };
        let decoded = match found {
            Ok(None) => return Ok(None),
            Ok(Some(key)) => key.len(),
            Err(error) => return Err(self.fail(&error)),
        };
        // Before a key there are only white space, a comma and the object's beginning.
        let bytes = self.text.as_bytes();
        let open = before
            + bytes[before..]
                .iter()
                .position(|byte| *byte == b'"')
                .unwrap_or(0);
        let written = self
            .text
            .get(open + 1..open + 1 + decoded)
            .filter(|raw| !raw.contains('\\'));
        let (text, close) = match written {
            Some(raw) => (Cow::Borrowed(raw), open + 1 + decoded),
            None => {
                let quoted = |at: &usize| bytes[*at] == b'"';
                let escapes = |at: usize| {
                    bytes[..at]
                        .iter()
                        .rev()
                        .take_while(|byte| **byte == b'\\')
                        .count()
                };
                let mut quotes = (open + 1..bytes.len())
                    .filter(quoted)
                    .filter(|at| escapes(*at).is_multiple_of(2));
                let close = quotes.next().unwrap_or(open);
                let text: String =
                    serde_json::from_str(&self.text[open..=close]).unwrap_or_default();
                (Cow::Owned(text), close)
            }
        };
        Ok(Some(Node {
            span: span(self.file, open, close + 1),
            value: Value::Scalar(Scalar::Text, text),
        }))
    }

    fn value(&mut self, peek: Peek, depth: usize) -> Result<Node<'t>, Problem> {
        let start = self.jiter.current_index();
        if depth > DEEPEST {
            return Err(too_deep(self.file, start));
        }
        let value = match peek {
            Peek::Object => self.map(depth)?,
            Peek::Array => self.list(depth)?,
            Peek::String => self.string(start)?,
            Peek::Null => {
                self.jiter.known_null().map_err(|error| self.fail(&error))?;
                Value::Scalar(Scalar::Null, Cow::Borrowed("null"))
            }
            Peek::True | Peek::False => {
                self.jiter
                    .known_bool(peek)
                    .map_err(|error| self.fail(&error))?;
                Value::Scalar(
                    Scalar::Bool,
                    Cow::Borrowed(&self.text[start..self.jiter.current_index()]),
                )
            }
            _ => {
                self.jiter
                    .known_number_bytes(peek)
                    .map(|_| ())
                    .map_err(|error| self.fail(&error))?;
                Value::Scalar(
                    Scalar::Number,
                    Cow::Borrowed(&self.text[start..self.jiter.current_index()]),
                )
            }
        };
        Ok(Node {
            span: span(self.file, start, self.jiter.current_index()),
            value,
        })
    }

    fn string(&mut self, start: usize) -> Result<Value<'t>, Problem> {
        let decoded = match self.jiter.known_str() {
            Ok(text) => text,
            Err(error) => return Err(self.fail(&error)),
        };
        let raw = self
            .text
            .get(start + 1..start + 1 + decoded.len())
            .filter(|raw| *raw == decoded);
        let text = raw.map_or_else(|| Cow::Owned(decoded.to_owned()), Cow::Borrowed);
        Ok(Value::Scalar(Scalar::Text, text))
    }

    fn list(&mut self, depth: usize) -> Result<Value<'t>, Problem> {
        let mut items = Vec::new();
        let mut next = self
            .jiter
            .known_array()
            .map_err(|error| self.fail(&error))?;
        while let Some(peek) = next {
            items.push(self.value(peek, depth + 1)?);
            next = self.jiter.array_step().map_err(|error| self.fail(&error))?;
        }
        Ok(Value::List(items))
    }

    fn map(&mut self, depth: usize) -> Result<Value<'t>, Problem> {
        let mut fields = Vec::new();
        let mut key = self.key(true)?;
        while let Some(name) = key {
            let peek = self.peek()?;
            fields.push((name, self.value(peek, depth + 1)?));
            key = self.key(false)?;
        }
        Ok(Value::Map(fields))
    }
}
