//! Many connections at once, each with its verdict and what was expected, as data.

use super::path::deciding_step;
use heronshale_audit::facts::{StepFact, choices_text, condition_text};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::path::{Question, answered};
use heronshale_engine::walk::{Tell, Verdict};
use heronshale_model::connections::Expected;
use serde::Serialize;

/// One connection of a list.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ConnectionFact {
    /// The line of the list.
    pub line: usize,
    /// What somebody calls it.
    pub name: Option<String>,
    /// Where it starts, as asked.
    pub from: String,
    /// Where it goes, as asked.
    pub to: String,
    /// Which traffic; none for all.
    pub traffic: Option<String>,
    /// What becomes of it.
    pub verdict: Verdict,
    /// What somebody expects: `works` unless the list says otherwise.
    pub expected: String,
    /// Whether the verdict is the expected one.
    pub as_expected: bool,
    /// What decides, unless all of it works.
    pub because: Option<StepFact>,
    /// What would have to hold.
    pub conditions: Vec<String>,
    /// Where only some of nature's choices work: those that do.
    pub only_if: Vec<String>,
}

/// A list of connections.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ConnectionsAnswer {
    /// The connections, in the order of the list.
    pub connections: Vec<ConnectionFact>,
    /// How many have the expected verdict.
    pub as_expected: usize,
}

/// A connection to be asked: the question, how it was written, and what is expected.
pub struct ConnectionAsked {
    /// The line of the list.
    pub line: usize,
    /// What somebody calls it.
    pub name: Option<String>,
    /// The question.
    pub question: Question,
    /// Its two ends as written.
    pub ends: [String; 2],
    /// What somebody expects; none: that it works.
    pub expected: Option<Expected>,
}

/// Whether a verdict is what somebody expects.
pub fn is_met(expected: Expected, verdict: Verdict) -> bool {
    use Verdict::{
        Conditional, Denied, Lost, ReplyDenied, ReplyLost, Undecided, Unknown, Works, WorksForSome,
    };
    match expected {
        Expected::Works => verdict == Works,
        Expected::Fails => matches!(verdict, Denied | Lost | ReplyDenied | ReplyLost),
        Expected::Blocked => matches!(verdict, Denied | ReplyDenied),
        Expected::Dropped => matches!(verdict, Lost | ReplyLost),
        Expected::Partly => verdict == WorksForSome,
        Expected::Depends => verdict == Conditional,
        Expected::Unknown => matches!(verdict, Unknown | Undecided),
    }
}

/// Asks connections one after the other.
pub fn connections_answer(view: &Fabric<'_>, all: Vec<ConnectionAsked>) -> ConnectionsAnswer {
    let connections: Vec<ConnectionFact> = all.into_iter().map(|one| fact(view, one)).collect();
    ConnectionsAnswer {
        as_expected: connections.iter().filter(|one| one.as_expected).count(),
        connections,
    }
}

fn fact(view: &Fabric<'_>, asked: ConnectionAsked) -> ConnectionFact {
    let question = &asked.question;
    let services = &question.connection.services;
    let found = answered(view, question, Tell::Deciders);
    let expected = asked.expected.unwrap_or(Expected::Works);
    let unresolved = question
        .resolution
        .as_ref()
        .is_some_and(|resolution| resolution.addresses.is_empty());
    // A name without an address leads nowhere.
    let missing_zone = question.missing_zone();
    let verdict = if unresolved && missing_zone.is_none() {
        Verdict::Lost
    } else {
        found.summary.verdict
    };
    let parts = found.parts.iter();
    let mut conditions: Vec<String> = Vec::new();
    let mut only_if: Vec<String> = Vec::new();
    for part in parts.filter(|part| part.judged.verdict == verdict) {
        let told = part.judged.conditions.iter();
        for text in told.map(|one| condition_text(view.estate, one)) {
            if !conditions.contains(&text) {
                conditions.push(text);
            }
        }
        for text in choices_text(view, &part.judged) {
            if !only_if.contains(&text) {
                only_if.push(text);
            }
        }
    }
    if let Some(zone) = missing_zone {
        conditions = vec![format!(
            "{zone}, which is missing from the snapshot, does not answer otherwise"
        )];
    }
    let [from, to] = asked.ends;
    ConnectionFact {
        line: asked.line,
        name: asked.name,
        from,
        to,
        traffic: (!services.is_empty()).then(|| crate::traffic::services_text(services)),
        verdict,
        expected: expected.word().to_owned(),
        as_expected: is_met(expected, verdict),
        because: (verdict != Verdict::Works && missing_zone.is_none())
            .then(|| deciding_step(view, question, &found))
            .flatten(),
        conditions,
        only_if,
    }
}
