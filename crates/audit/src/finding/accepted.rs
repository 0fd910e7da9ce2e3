//! How each acceptance stands.

use super::accepting::Judged;
use heronshale_model::stated::Acceptance;
use serde::Serialize;

/// How an acceptance stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum AcceptanceState {
    /// It covers its finding, all of it and no more.
    Covers,
    /// It covers its finding, and more than is open.
    TooWide,
    /// The finding has grown beyond it, and is open.
    Outgrown,
    /// There is no such finding, or none that can be accepted.
    Unused,
    /// Its day has passed.
    Expired,
}

impl AcceptanceState {
    /// What it is called.
    pub fn word(self) -> &'static str {
        match self {
            Self::Covers => "covers its finding",
            Self::TooWide => "too wide",
            Self::Outgrown => "outgrown",
            Self::Unused => "applies to nothing",
            Self::Expired => "expired",
        }
    }
}

/// How acceptances stand, in their order.
pub fn acceptance_states(judged: &Judged, all: &[Acceptance]) -> Vec<AcceptanceState> {
    let told = |acceptance: &Acceptance, kind: &str| {
        let mut findings = judged.findings.iter();
        findings.any(|finding| {
            finding.kind == kind && finding.place.as_ref() == Some(&acceptance.place)
        })
    };
    let state = |acceptance: &Acceptance| {
        let mut accepted = judged.accepted.iter();
        let covers = accepted.any(|one| one.place == acceptance.place);
        if told(acceptance, "acceptance-unused") {
            AcceptanceState::Unused
        } else if told(acceptance, "acceptance-expired") {
            AcceptanceState::Expired
        } else if !covers && acceptance.packets.is_some() {
            // Even where it covers, besides, what is not open.
            AcceptanceState::Outgrown
        } else if told(acceptance, "acceptance-too-wide") {
            AcceptanceState::TooWide
        } else if covers {
            AcceptanceState::Covers
        } else {
            AcceptanceState::Outgrown
        }
    };
    all.iter().map(state).collect()
}
