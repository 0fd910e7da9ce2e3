//! A kind of finding.

use super::context::Context;
use super::draft::Draft;
use heronshale_model::severity::Severity;

/// A kind of finding.
pub struct Kind {
    /// Its name, in kebab case; its file bears it in snake case.
    pub name: &'static str,
    /// The severity before factors.
    pub base: Severity,
    /// What it is, in one sentence.
    pub about: &'static str,
    /// Why it matters.
    pub why: &'static str,
    /// What triggers it, and what does not.
    pub triggers: &'static str,
    /// How it is fixed.
    pub fix: &'static str,
    /// What following that costs: what ends, opens or moves by it, in words.
    pub side_effects: &'static str,
    /// What raises and lowers the severity.
    pub factors: &'static [&'static str],
    /// A small snapshot in which it occurs.
    pub example: &'static str,
    pub(crate) check: fn(&Context<'_, '_>) -> Vec<Draft>,
}
