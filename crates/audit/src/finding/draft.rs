//! Findings, before and after severity and fingerprint are settled, and what proves them.

use super::key::Key;
use crate::describe::{RuleFact, Witness, plural};
use crate::facts::{BrokenFact, EditFact, Factor};
use crate::fix::Edit;
use heronshale_model::estate::{Direction, Filter, Id};
use heronshale_model::severity::Severity;
use heronshale_model::source::{Origin, Place};
use heronshale_sets::packet::PacketSet;
use serde::Serialize;

/// In which way a piece of evidence bears on the finding.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// The thing at fault.
    AtFault,
    /// It covers the thing at fault.
    CoveredBy,
    /// It takes the traffic that the thing at fault was meant for.
    TakenBy,
    /// It lets the traffic in.
    LetInBy,
    /// It decides about the rest.
    Default,
    /// What is named and not there, or empty.
    Names,
    /// Where it acts.
    ActsOn,
    /// By what traffic goes.
    GoesBy,
    /// By what it was meant to go.
    MeantBy,
    /// What people say of it.
    Says,
    /// By what way a packet goes.
    Step,
}

impl Role {
    /// What it is called in output.
    pub fn word(self) -> &'static str {
        match self {
            Self::AtFault => "rule",
            Self::CoveredBy => "covered by",
            Self::TakenBy => "taken by",
            Self::LetInBy => "allowed by",
            Self::Default => "default",
            Self::Names => "names",
            Self::ActsOn => "applies to",
            Self::GoesBy => "taken way",
            Self::MeantBy => "intended",
            Self::Says => "says",
            Self::Step => "way",
        }
    }
}

/// A piece of evidence.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Evidence {
    /// How it bears on the finding.
    pub role: Role,
    /// In words.
    pub text: String,
    /// The rule, if it is one.
    pub rule: Option<RuleFact>,
    /// Where it stands.
    pub place: Option<Place>,
}

/// A change that the advice of a finding means.
#[derive(Clone, Debug)]
pub struct Trial {
    /// In words, as one would ask for it.
    pub change: String,
    /// All of these.
    pub edits: Vec<Edit>,
    /// Of these filters it takes something away.
    pub narrows: Vec<(Id<Filter>, Direction)>,
}

impl Trial {
    /// What tells it from others: rules of one name, in and out, are two.
    pub(super) fn identity(&self) -> (&str, Vec<Option<Origin>>) {
        let origins = self.edits.iter().map(|edit| edit.origin);
        (&self.change, origins.collect())
    }
}

impl PartialEq for Trial {
    fn eq(&self, other: &Self) -> bool {
        self.identity() == other.identity()
    }
}

impl Eq for Trial {}

impl Trial {
    /// One change.
    pub(crate) fn of(edit: Edit) -> Self {
        Self {
            change: edit.text.clone(),
            edits: vec![edit],
            narrows: Vec::new(),
        }
    }
}

/// What a change does to the expectations that are kept.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct TriedFact {
    /// The change: `delete rule tmp of group fares-db`.
    pub change: String,
    /// Whether it was tried; past a limit that grows with no estate it is not.
    pub tried: bool,
    /// The expectations that break by it, or are no longer known to be kept.
    pub breaks: Vec<BrokenFact>,
    /// What has to be changed before, so that none of them breaks; empty where nothing is known.
    pub first: Vec<EditFact>,
}

/// A finding, final.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Finding {
    /// The kind's name.
    pub kind: String,
    /// How bad it is, factors counted in.
    pub severity: Severity,
    /// The severity of the kind before factors.
    pub base: Severity,
    /// Why the configuration changed that severity, if it did.
    pub regraded: Option<String>,
    /// What raised or lowered it.
    pub factors: Vec<Factor>,
    /// Stable against reordering, renumbering and reformatting; unique within an audit.
    pub fingerprint: String,
    /// What one fix would do away with: findings of one kind with one cause are occurrences of it.
    pub cause: String,
    /// What, in one line.
    pub title: String,
    /// The thing that it is about, for lists: `telemetry/ssh6`.
    pub subject: String,
    /// What is wrong with that, in a few words; the kind says the rest.
    pub short: String,
    /// Where it stands.
    pub place: Option<Place>,
    /// The networks that it is about.
    pub networks: Vec<String>,
    /// Who changes it.
    pub owner: Option<String>,
    /// What proves it.
    pub evidence: Vec<Evidence>,
    /// One packet that proves it.
    pub witness: Option<Witness>,
    /// What to do.
    pub fix: String,
    /// What following that costs: what ends, opens or moves by it, and where what is changed acts.
    pub side_effects: String,
    /// What the advice does to expectations that are kept, taken to its end: what is to be narrowed was deleted. Empty before
    /// [`super::try_advice`], where nothing can be tried, and where nobody expects anything.
    pub tried: Vec<TriedFact>,
    /// What is to be tried.
    #[serde(skip)]
    pub trials: Vec<Trial>,
    /// The user's own requirements against which it speaks.
    pub controls: Vec<String>,
    /// The packets that it is about, for acceptances; none if it is about none.
    #[serde(skip)]
    pub packets: Option<PacketSet>,
    /// The fingerprint that it had in the version before, if that was another one.
    #[serde(skip)]
    pub former: Option<String>,
}

impl Finding {
    /// Every place that it names.
    pub fn places_mut(&mut self) -> impl Iterator<Item = &mut Place> {
        let evidence = self.evidence.iter_mut().flat_map(|piece| {
            let rule = piece.rule.as_mut().map(|rule| &mut rule.place);
            piece.place.iter_mut().chain(rule)
        });
        self.place.iter_mut().chain(evidence)
    }
}

/// A finding before severity and fingerprint are settled.
pub(crate) struct Draft {
    /// What it is about.
    pub key: Key,
    /// The written form of the key in the version before, if that was another one.
    pub former: Option<String>,
    /// What one fix would do away with; none if that is the subject itself.
    pub cause: Option<String>,
    pub title: String,
    pub subject: String,
    pub short: String,
    pub place: Option<Place>,
    pub networks: Vec<String>,
    pub owner: Option<String>,
    pub factors: Vec<Factor>,
    pub evidence: Vec<Evidence>,
    pub witness: Option<Witness>,
    pub fix: String,
    /// What following that costs, if it is more than the kind's words.
    pub side_effects: Option<String>,
    /// On how many interfaces that acts which is to be changed, if it is a rule or a filter.
    pub interfaces: Option<usize>,
    /// What it lets through; a growth of it opens an acceptance again.
    pub packets: Option<PacketSet>,
    /// The changes that the advice means, each to be tried by itself against the expectations.
    pub trials: Vec<Trial>,
}

impl Draft {
    /// About something that stands in no file.
    pub fn about_nothing(key: Key) -> Self {
        Self {
            key,
            former: None,
            cause: None,
            title: String::new(),
            subject: String::new(),
            short: String::new(),
            place: None,
            networks: Vec::new(),
            owner: None,
            factors: Vec::new(),
            evidence: Vec::new(),
            witness: None,
            fix: String::new(),
            side_effects: None,
            interfaces: None,
            packets: None,
            trials: Vec::new(),
        }
    }

    /// Says what is wrong in a few words.
    pub fn says(&mut self, short: impl Into<String>) {
        self.short = short.into();
    }

    /// Says of what, and what is wrong, in a few words.
    pub fn brief(&mut self, subject: impl Into<String>, short: impl Into<String>) {
        self.subject = subject.into();
        self.short = short.into();
    }
}

/// The side effects of a fix by which no packet fares otherwise.
pub(crate) const NOTHING: &str = "None.";

/// `2 interfaces: a, b`; the first few of many.
pub(crate) fn counted(names: &[String], what: &str) -> String {
    const SHOWN: usize = 4;
    let more = names.len().saturating_sub(SHOWN);
    let tail = if more > 0 {
        format!(" and {more} more")
    } else {
        String::new()
    };
    let shown = names
        .iter()
        .take(SHOWN)
        .cloned()
        .collect::<Vec<_>>()
        .join(", ");
    if names.is_empty() {
        format!("no {what}")
    } else {
        format!("{}: {shown}{tail}", plural(names.len(), what))
    }
}
