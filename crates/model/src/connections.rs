//! Connections that people ask about many at a time, each perhaps with the answer that they expect.

use crate::source::Span;

/// What somebody expects to become of a connection.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Expected {
    /// It works, there and back.
    Works,
    /// It does not work: whatever ends it.
    Fails,
    /// A filter ends it, or its reply.
    Blocked,
    /// It, or its reply, gets lost on the way.
    Dropped,
    /// Some of it works.
    Partly,
    /// It works under a condition.
    Depends,
    /// The snapshot does not tell.
    Unknown,
}

impl Expected {
    /// All of them, in the order of documents.
    pub const ALL: [Self; 7] = [
        Self::Works,
        Self::Fails,
        Self::Blocked,
        Self::Dropped,
        Self::Partly,
        Self::Depends,
        Self::Unknown,
    ];

    /// How people write it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Works => "works",
            Self::Fails => "fails",
            Self::Blocked => "blocked",
            Self::Dropped => "dropped",
            Self::Partly => "partly",
            Self::Depends => "depends",
            Self::Unknown => "unknown",
        }
    }

    /// What it means, for help.
    pub fn about(self) -> &'static str {
        match self {
            Self::Works => "It works, there and back",
            Self::Fails => "It does not work, for whatever reason",
            Self::Blocked => "A filter blocks it or its reply",
            Self::Dropped => "It or its reply is dropped on the way",
            Self::Partly => "Some of it works",
            Self::Depends => "It works under a condition",
            Self::Unknown => "The snapshot does not tell",
        }
    }

    /// What a word means; none if it is none of them.
    pub fn of(word: &str) -> Option<Self> {
        let word = word.trim();
        let mut all = Self::ALL.into_iter();
        all.find(|one| one.word().eq_ignore_ascii_case(word))
    }
}

/// One connection of a list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AskedConnection {
    /// The line on which it stands, from 1.
    pub line: usize,
    /// What that line spans.
    pub span: Span,
    /// Where it starts; or the whole connection, if `to` is none.
    pub from: String,
    /// Where it goes.
    pub to: Option<String>,
    /// Which traffic, as written; empty for what the ends say, or for all.
    pub traffic: String,
    /// What somebody expects; none: that it works.
    pub expected: Option<Expected>,
    /// What somebody calls it.
    pub name: Option<String>,
}
