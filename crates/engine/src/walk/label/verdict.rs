//! How a connection fares, in a word.

use super::*;

/// How a connection fares (`docs/semantics.md` 8).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// It works, there and back.
    Works,
    /// Only some of nature's choices work.
    WorksForSome,
    /// It would work if something holds that no snapshot holds.
    Conditional,
    /// It took more steps to follow than the limit allows: nothing is said.
    Undecided,
    /// That depends on something missing from the snapshot.
    Unknown,
    /// A stage denies the request.
    Denied,
    /// The request gets lost.
    Lost,
    /// A stage denies the reply.
    ReplyDenied,
    /// The reply gets lost.
    ReplyLost,
}

impl Verdict {
    /// Whether nobody knows: it depends on something missing from the snapshot, or was given up.
    pub fn is_open(self) -> bool {
        matches!(self, Self::Undecided | Self::Unknown)
    }

    /// In words.
    pub fn word(self) -> &'static str {
        match self {
            Self::Works => "works",
            Self::WorksForSome => "works for some",
            Self::Conditional => "conditional",
            Self::Undecided => "undecided",
            Self::Unknown => "unknown",
            Self::Denied => "denied",
            Self::Lost => "lost",
            Self::ReplyDenied => "reply denied",
            Self::ReplyLost => "reply lost",
        }
    }
}

/// One verdict, and what decided it.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Judged {
    /// The verdict.
    pub verdict: Verdict,
    /// The steps that led to it: of an example, where nature chooses. The deciding one is the last.
    pub trail: u32,
    /// Where it works for some: the choices that work, and the steps by which one fails.
    pub some: Option<(Vec<Choice>, u32)>,
    /// On what it turns.
    pub conditions: Vec<Condition>,
    /// Whether it works, perhaps for some or under a condition, in some completion of the snapshot.
    pub may_work: bool,
}

impl Judged {
    pub(in crate::walk) fn of(verdict: Verdict, trail: u32) -> Self {
        Self {
            verdict,
            trail,
            some: None,
            conditions: Vec::new(),
            may_work: verdict <= Verdict::Unknown,
        }
    }

    /// Whether two completions come to the same: the same word, under the same conditions.
    pub(in crate::walk) fn is_as(&self, other: &Self) -> bool {
        let within = |one: &Self, other: &Self| {
            one.conditions
                .iter()
                .all(|one| other.conditions.contains(one))
        };
        self.verdict == other.verdict && within(self, other) && within(other, self)
    }
}
