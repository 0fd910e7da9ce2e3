//! What people say about the estate beside the snapshot: what they expect, what they accept, how bad they find kinds of
//! findings, and by which numbers of their own they know them (`docs/statements.md`).

use crate::estate::{Name, Service};
use crate::severity::Severity;
use crate::source::Place;
use jiff::Timestamp;

/// What an expectation says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Claim {
    /// Everybody of the one side gets through to everybody of the other.
    MayReach {
        /// Who, each in the notation of ends.
        from: Vec<Name>,
        /// Whom.
        to: Vec<Name>,
    },
    /// Nobody of the one side gets through to anybody of the other, by whatever address.
    NeverReaches {
        /// Who.
        from: Vec<Name>,
        /// Whom.
        to: Vec<Name>,
    },
    /// Nobody gets through whom no other expectation allows.
    NothingElseReaches {
        /// To whom.
        to: Vec<Name>,
    },
    /// What gets through passes one of these firewalls, there and back.
    AlwaysPasses {
        /// Who.
        from: Vec<Name>,
        /// To whom.
        to: Vec<Name>,
        /// Names of firewalls.
        firewalls: Vec<Name>,
    },
}

/// An expectation.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Expectation {
    /// Its name, unique among all.
    pub name: Name,
    /// Where it was written.
    pub place: Place,
    /// What it says.
    pub claim: Claim,
    /// Of which services; empty for all.
    pub services: Vec<Service>,
    /// Why it is expected.
    pub reason: Option<Name>,
    /// Who expects it.
    pub owner: Option<Name>,
}

/// Some packets as an acceptance writes them: every combination of the three.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pinned {
    /// From where: addresses, `internet` or `any`.
    pub from: Vec<Name>,
    /// Where to.
    pub to: Vec<Name>,
    /// Which services; empty for all.
    pub services: Vec<Service>,
}

/// A finding that somebody lives with.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Acceptance {
    /// The finding's fingerprint.
    pub finding: Name,
    /// Where it was written.
    pub place: Place,
    /// The finding's kind, as it was accepted.
    pub kind: Option<Name>,
    /// Why.
    pub reason: Name,
    /// Who answers for it.
    pub who: Name,
    /// Until when: it holds before this moment.
    pub until: Timestamp,
    /// The packets that were accepted; none for findings that are about no packets.
    pub packets: Option<Vec<Pinned>>,
}

/// Another severity for a kind of finding.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Regrade {
    /// The kind's name.
    pub kind: Name,
    /// Its severity before factors.
    pub severity: Severity,
    /// Why.
    pub reason: Name,
}

/// A requirement of the user's own, and the kinds of findings that speak against it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Control {
    /// Its number or name.
    pub control: Name,
    /// Names of kinds.
    pub kinds: Vec<Name>,
}

/// All that is said.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Stated {
    /// What is expected, in the order of the files.
    pub expectations: Vec<Expectation>,
    /// What is accepted.
    pub acceptances: Vec<Acceptance>,
    /// How bad kinds of findings are.
    pub severities: Vec<Regrade>,
    /// The user's own requirements.
    pub controls: Vec<Control>,
    /// Where all that was read from, in words.
    pub sources: Vec<String>,
}
