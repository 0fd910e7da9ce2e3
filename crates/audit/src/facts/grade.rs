//! How bad it is that something is open to the internet.

use crate::expect::Spoken;
use crate::harmless;
use heronshale_engine::fabric::Fabric;
use heronshale_model::severity::Severity;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::PacketSet;
use serde::Serialize;

/// The kind of finding that says so.
pub(crate) const EXPOSED: &str = "exposed";

/// Its severity before factors.
pub(crate) const EXPOSED_BASE: Severity = Severity::Minor;

/// Something that raises or lowers the severity.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Factor {
    /// By how many steps: up if above zero.
    pub steps: i32,
    /// Why.
    pub because: String,
}

impl Factor {
    /// So many steps up, or down where negative, and why.
    pub fn new(steps: i32, because: impl Into<String>) -> Self {
        Self {
            steps,
            because: because.into(),
        }
    }

    /// The sum of the steps of some factors.
    pub fn sum(factors: &[Self]) -> i32 {
        factors.iter().map(|factor| factor.steps).sum()
    }
}

/// What raises and lowers the severity of what is open by a way in.
pub(crate) fn exposure_factors(
    view: &Fabric<'_>,
    open: &PacketSet,
    asked: &PacketSet,
    spoken: &Spoken,
) -> Vec<Factor> {
    let services_of = |set: &PacketSet| {
        set.boxes()
            .iter()
            .fold(Intervals::empty(), |sum, (entry, ())| {
                sum.union(&entry.services)
            })
    };
    let services = services_of(open);
    let from_anywhere = services.difference(&services_of(&asked.difference(open)));
    let harmless = |services: &Intervals| {
        services.is_empty() || harmless::only_web(services) || harmless::only_icmp(services)
    };
    let mut factors = Vec::new();
    if let Some(ports) = view.tuning.among(&services) {
        factors.push(Factor::new(1, format!("sensitive port open: {ports}")));
    }
    if harmless::only_web(&services) {
        factors.push(Factor::new(-1, "web ports only"));
    } else if harmless::only_icmp(&services) {
        factors.push(Factor::new(-1, "ICMP only"));
    } else if !harmless(&from_anywhere) {
        factors.push(Factor::new(1, "open to any address"));
    }
    let by = |names: &[String]| names.join(", ");
    if spoken.all_meant() {
        // Worth knowing, and nothing to fix.
        factors.push(Factor::new(
            -4,
            format!("intended: {}", by(&spoken.allowed_by)),
        ));
    } else if !spoken.unmeant.is_empty() {
        factors.push(Factor::new(
            1,
            format!("forbidden by: {}", by(&spoken.forbidden_by)),
        ));
    }
    factors
}

/// How bad it is that something is open by a way in; none if nothing is.
pub fn exposure_severity(
    view: &Fabric<'_>,
    open: &PacketSet,
    asked: &PacketSet,
    spoken: &Spoken,
) -> Option<Severity> {
    let regraded = view
        .stated
        .severities
        .iter()
        .find(|one| &*one.kind == EXPOSED);
    let base = regraded.map_or(EXPOSED_BASE, |one| one.severity);
    (!open.is_empty())
        .then(|| base.moved(Factor::sum(&exposure_factors(view, open, asked, spoken))))
}

#[cfg(test)]
mod tests {
    use super::{EXPOSED, EXPOSED_BASE};
    use crate::finding::kind;

    #[test]
    fn the_kind_that_says_it_is_in_the_catalogue() {
        assert_eq!(kind(EXPOSED).map(|kind| kind.base), Some(EXPOSED_BASE));
    }
}
