//! Small documents beside the snapshot: each is read as one tree.

use crate::files::{LoadError, SourceText, text_of};
use crate::files::{MISCOUNTED, miscounted};
use crate::reading::{Reading, Spanned, Written};
use crate::tree::{Node, Sink, Value};
use crate::{json, yaml};
use heronshale_model::estate::Name;
use heronshale_model::source::{FileId, Place, SourceFile, Span};
use std::path::Path;

/// A document as one tree.
#[derive(Default)]
struct Whole {
    fields: Vec<(Node<'static>, Node<'static>)>,
}

fn owned(node: &Node<'_>) -> Node<'static> {
    let value = match &node.value {
        Value::Scalar(kind, text) => Value::Scalar(*kind, text.to_string().into()),
        Value::List(items) => Value::List(items.iter().map(owned).collect()),
        Value::Map(fields) => Value::Map(
            fields
                .iter()
                .map(|(key, value)| (owned(key), owned(value)))
                .collect(),
        ),
    };
    Node {
        span: node.span,
        value,
    }
}

impl Sink for Whole {
    fn field(&mut self, key: &Node<'_>) {
        let empty = Node {
            span: key.span,
            value: Value::List(Vec::new()),
        };
        self.fields.push((owned(key), empty));
    }

    fn item(&mut self, index: Option<u32>, node: &Node<'_>) {
        let Some((_, value)) = self.fields.last_mut() else {
            return;
        };
        match (index, &mut value.value) {
            (Some(_), Value::List(items)) => items.push(owned(node)),
            _ => *value = owned(node),
        }
    }
}

/// Documents that are read one after the other; their errors are told together.
#[derive(Default)]
pub(crate) struct Documents {
    pub reading: Reading,
    texts: Vec<SourceText>,
    files: Vec<SourceFile>,
}

impl Documents {
    /// Reads one; none comes back if it cannot be read, and why is kept.
    ///
    /// # Errors
    /// If the file cannot be reached.
    pub fn read<T: Written>(&mut self, name: &str, path: &Path) -> Result<Option<T>, LoadError> {
        let bytes = std::fs::read(path).map_err(|error| LoadError::Environment {
            what: format!("cannot read {}", path.display()),
            error,
        })?;
        let is_json = path
            .extension()
            .is_some_and(|extension| extension.eq_ignore_ascii_case("json"));
        Ok(self.read_bytes(name, bytes, is_json))
    }

    /// Reads one from its bytes; none comes back if it cannot be read, and why is kept.
    pub fn read_bytes<T: Written>(
        &mut self,
        name: &str,
        bytes: Vec<u8>,
        is_json: bool,
    ) -> Option<T> {
        let name = name.to_owned();
        let file = FileId(u32::try_from(self.texts.len()).expect("fewer than 2^32 files"));
        let text = text_of(bytes);
        if let Err(what) = &text {
            let span = Span {
                file,
                start: 0,
                end: 1,
            };
            self.reading
                .fail(span, what.clone(), "", Some("save it as UTF-8".to_owned()));
            self.files.push(SourceFile::new(&name, b""));
            self.texts.push(SourceText {
                name,
                text: String::new(),
            });
            return None;
        }
        let text = text.unwrap_or_default();
        self.files.push(SourceFile::new(&name, text.as_bytes()));
        let mut whole = Whole::default();
        let read = if is_json {
            json::read(file, &text, &mut whole)
        } else {
            yaml::read(file, &text, &mut whole)
        };
        let end = u32::try_from(text.len()).unwrap_or(u32::MAX);
        self.texts.push(SourceText { name, text });
        if let Err(problem) = read {
            self.reading.problems.push(problem);
            return None;
        }
        let node = Node {
            span: Span {
                file,
                start: 0,
                end: end.min(1),
            },
            value: Value::Map(whole.fields),
        };
        T::read(&node, &mut self.reading)
    }

    /// Checks that a document holds as many things as it says.
    pub fn check_count(&mut self, said: Option<&Spanned<u32>>, found: usize) {
        if let Some(said) = said.filter(|said| usize::try_from(said.value) != Ok(found)) {
            self.reading.fail(
                said.span,
                miscounted(said.value, found),
                "here",
                Some(MISCOUNTED.to_owned()),
            );
        }
    }

    /// Checks what a document says of itself.
    pub fn check_header(&mut self, format: &Spanned<Name>, version: &Spanned<u32>, wanted: &str) {
        if &*format.value != wanted {
            let help = format!("write `format: {wanted}`");
            let title = format!("the format is `{}`, not `{wanted}`", format.value);
            self.reading.fail(format.span, title, "here", Some(help));
        }
        if version.value != 1 {
            let title = format!("version {} of {wanted} is not known", version.value);
            self.reading
                .fail(version.span, title, "here", Some("write 1".to_owned()));
        }
    }

    /// Where an item of a document stands.
    pub fn place(&self, span: Span, pointer: String) -> Place {
        place(&self.files, span, pointer)
    }

    /// What came of it with the texts, if nothing was wrong.
    ///
    /// # Errors
    /// All that is wrong with any of them.
    pub fn finish_with_texts<T>(
        self,
        found: T,
    ) -> Result<(T, Vec<SourceText>, Vec<SourceFile>), LoadError> {
        let Self {
            reading,
            texts,
            files,
        } = self;
        if reading.problems.is_empty() {
            return Ok((found, texts, files));
        }
        Err(LoadError::Input {
            problems: reading.problems,
            texts,
        })
    }

    /// What came of it, if nothing was wrong.
    ///
    /// # Errors
    /// All that is wrong with any of them.
    pub fn finish<T>(self, found: T) -> Result<T, LoadError> {
        self.finish_with_texts(found).map(|(found, ..)| found)
    }
}

/// Where an item of a document stands.
pub(crate) fn place(files: &[SourceFile], span: Span, pointer: String) -> Place {
    let file = &files[span.file.0 as usize];
    let (line, start) = file.line(span.start);
    Place {
        file: file.name.to_string(),
        line,
        column: (span.start - start) as usize + 1,
        pointer,
    }
}

/// The JSON Schema of documents of one kind.
pub(crate) fn schema_of<T: Written>(title: &str) -> serde_json::Value {
    let mut definitions = serde_json::Map::new();
    let whole = T::schema(&mut definitions);
    let name = whole["$ref"]
        .as_str()
        .and_then(|path| path.rsplit('/').next())
        .unwrap_or_default();
    let mut schema = definitions.remove(name).unwrap_or(whole.clone());
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema".into();
    schema["title"] = title.into();
    schema["$defs"] = serde_json::Value::Object(definitions);
    schema
}
