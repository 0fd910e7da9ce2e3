//! Where things were written: files, byte spans, JSON Pointers, and problems that point at them.

use serde::Serialize;
use std::fmt;
use std::num::NonZeroU32;
use std::sync::Arc;

/// A file of the snapshot, by its place in [`SourceMap`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct FileId(pub u32);

/// Bytes from `start` to before `end` in one file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Span {
    /// The file.
    pub file: FileId,
    /// Offset of the first byte.
    pub start: u32,
    /// Offset after the last byte.
    pub end: u32,
}

/// Where an item stands: its bytes, and its JSON Pointer (RFC 6901) in parts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Origin {
    /// The bytes.
    pub span: Span,
    /// The section of the file, for example `security_groups`.
    pub section: &'static str,
    /// The item's index in its section.
    pub item: u32,
    /// For what stands in a list of the item: the list's field and the index in it.
    pub within: Option<Within>,
}

/// A place in a list of an item, or in a list of one of its sections.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Within {
    /// The list's field.
    pub list: &'static str,
    /// The index in it.
    pub index: u32,
    /// One more than the index of the section whose list it is.
    section: Option<NonZeroU32>,
}

impl Within {
    /// In a list of the item itself.
    pub const fn list(list: &'static str, index: u32) -> Self {
        Self {
            list,
            index,
            section: None,
        }
    }

    /// In a list of one of the item's `sections`.
    pub const fn section(section: u32, list: &'static str, index: u32) -> Self {
        Self {
            list,
            index,
            section: NonZeroU32::new(section.saturating_add(1)),
        }
    }
}

impl Origin {
    /// The JSON Pointer into the file, RFC 6901.
    pub fn pointer(&self) -> String {
        match self.within {
            Some(Within {
                list,
                index,
                section: Some(section),
            }) => {
                format!(
                    "/{}/{}/sections/{}/{list}/{index}",
                    self.section,
                    self.item,
                    section.get() - 1
                )
            }
            Some(Within {
                list,
                index,
                section: None,
            }) => format!("/{}/{}/{list}/{index}", self.section, self.item),
            None => format!("/{}/{}", self.section, self.item),
        }
    }
}

/// A file's name and where its lines begin.
#[derive(Clone, Debug)]
pub struct SourceFile {
    /// The name relative to the estate's folder, with `/` between its parts.
    pub name: Arc<str>,
    /// Offsets of the first byte of each line.
    line_starts: Vec<u32>,
}

impl SourceFile {
    /// A file's name and lines. Files of 4 GiB and more are refused before this.
    pub fn new(name: &str, text: &[u8]) -> Self {
        let mut line_starts = vec![0];
        let after = |(at, byte): (usize, &u8)| {
            (*byte == b'\n')
                .then(|| u32::try_from(at + 1).ok())
                .flatten()
        };
        line_starts.extend(text.iter().enumerate().filter_map(after));
        Self {
            name: name.into(),
            line_starts,
        }
    }

    /// The line of an offset, from 1, and the offset of the line's first byte.
    pub fn line(&self, offset: u32) -> (usize, u32) {
        let line = self
            .line_starts
            .partition_point(|start| *start <= offset)
            .max(1);
        (line, self.line_starts[line - 1])
    }
}

/// All files that were read.
#[derive(Clone, Debug, Default)]
pub struct SourceMap {
    files: Vec<SourceFile>,
}

impl SourceMap {
    /// Adds a file.
    pub fn add(&mut self, file: SourceFile) -> FileId {
        self.files.push(file);
        FileId(u32::try_from(self.files.len() - 1).expect("fewer than 2^32 files"))
    }

    /// The files in the order in which they were read.
    pub fn files(&self) -> &[SourceFile] {
        &self.files
    }

    /// One file.
    pub fn file(&self, id: FileId) -> &SourceFile {
        &self.files[id.0 as usize]
    }

    /// Where a person finds it.
    pub fn place(&self, origin: &Origin) -> Place {
        let file = self.file(origin.span.file);
        let (line, start) = file.line(origin.span.start);
        let column = (origin.span.start - start) as usize + 1;
        Place {
            file: file.name.to_string(),
            line,
            column,
            pointer: origin.pointer(),
        }
    }
}

/// Where something stands, for people and editors.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Place {
    /// The file's name relative to the estate.
    pub file: String,
    /// The line, from 1.
    pub line: usize,
    /// The column in bytes, from 1.
    pub column: usize,
    /// JSON Pointer (RFC 6901) in that file.
    pub pointer: String,
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.file, self.line)
    }
}

/// One thing wrong with the input: what, where, and what would be right.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Problem {
    /// What is wrong, as a sentence without a full stop.
    pub title: String,
    /// Where it is wrong, and what to say there.
    pub span: Span,
    /// The words at the marked place.
    pub label: String,
    /// The cause, if it stands elsewhere.
    pub related: Option<(Span, String)>,
    /// What would be right.
    pub help: Option<String>,
}
