//! Acceptances that stand otherwise.

use heronshale_audit::finding::{AcceptanceState, Judged, acceptance_states, judged};
use heronshale_engine::fabric::Fabric;
use heronshale_model::source::Place;
use serde::Serialize;

/// An acceptance that stands otherwise.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct TurnedAcceptance {
    /// The fingerprint of the finding that it accepts.
    pub finding: String,
    /// What the finding says, in the state that has it.
    pub title: Option<String>,
    /// Who answers for it.
    pub who: String,
    /// How it stood.
    pub before: AcceptanceState,
    /// How it stands.
    pub now: AcceptanceState,
    /// Where it was written.
    pub place: Place,
}

/// Acceptances that stand otherwise. Both states are audited, if anything is accepted at all.
pub fn turned_acceptances(old: &Fabric<'_>, new: &Fabric<'_>) -> Vec<TurnedAcceptance> {
    let all = &new.stated.acceptances;
    if all.is_empty() {
        return Vec::new();
    }
    let audits = [judged(old), judged(new)];
    let [before, now] = [0, 1].map(|side: usize| acceptance_states(&audits[side], all));
    let title = |fingerprint: &str| {
        let of = |audit: &Judged| {
            let accepted = audit.accepted.iter().map(|one| &one.finding);
            let mut findings = audit.findings.iter().chain(accepted);
            findings
                .find(|finding| finding.fingerprint.eq_ignore_ascii_case(fingerprint))
                .map(|finding| finding.title.clone())
        };
        of(&audits[1]).or_else(|| of(&audits[0]))
    };
    let states = before.into_iter().zip(now);
    let turned = all
        .iter()
        .zip(states)
        .filter(|(_, (before, now))| before != now);
    turned
        .map(|(one, (before, now))| TurnedAcceptance {
            finding: one.finding.to_string(),
            title: title(&one.finding),
            who: one.who.to_string(),
            before,
            now,
            place: one.place.clone(),
        })
        .collect()
}
