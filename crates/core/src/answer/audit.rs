//! The audit: every finding, and what they amount to.

use super::exposure_answer;
use crate::finding::{CATALOGUE, Finding, Severity, findings};
use crate::view::View;
use rustc_hash::FxHashMap;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Everything that is wrong or worth a look.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Audit {
    /// Workloads that the internet reaches directly.
    pub workloads_open: usize,
    /// Workloads of which that is unknown.
    pub workloads_unknown: usize,
    /// All workloads.
    pub workloads: usize,
    /// Whether there are networks, so that reachability could be judged; rules are judged all the same.
    pub reachability_judged: bool,
    /// Worst first, then by kind, file and line.
    pub findings: Vec<Finding>,
    /// How many causes the findings have: those of one kind with one cause are mended together.
    pub causes: usize,
    /// How many by severity, worst first; each severity occurs.
    pub by_severity: Vec<Count>,
    /// How many by kind, in the order of the catalogue; kinds that occur.
    pub by_kind: Vec<KindCount>,
    /// How many by owner, most first.
    pub by_owner: Vec<Count>,
    /// How many by network, most first; one about several networks counts in each.
    pub by_network: Vec<Count>,
    /// What was asked for only, if not all: kinds, owners, networks.
    pub only: Vec<String>,
    /// How many findings that left out.
    pub left_out: usize,
}

/// How many of something.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Count {
    /// Of what.
    pub name: String,
    /// How many.
    pub count: usize,
}

/// How many of a kind, by severity.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct KindCount {
    /// The kind.
    pub kind: String,
    /// How many urgent, serious, minor ones and notes.
    pub counts: [usize; 4],
}

/// Judges the whole estate.
pub fn audit(view: &View<'_>) -> Audit {
    let exposure = exposure_answer(view, None);
    let mut audit = Audit {
        workloads_open: exposure.workloads_open,
        workloads_unknown: exposure.workloads_unknown,
        workloads: exposure.workloads,
        reachability_judged: !view.estate.networks.is_empty(),
        findings: findings(view),
        causes: 0,
        by_severity: Vec::new(),
        by_kind: Vec::new(),
        by_owner: Vec::new(),
        by_network: Vec::new(),
        only: Vec::new(),
        left_out: 0,
    };
    audit.count();
    audit
}

impl Audit {
    /// Keeps the findings that are asked for; `only` says in words which.
    pub fn keep(&mut self, only: Vec<String>, mut wanted: impl FnMut(&Finding) -> bool) {
        let before = self.findings.len();
        self.findings.retain(|finding| wanted(finding));
        self.left_out = before - self.findings.len();
        self.only = only;
        self.count();
    }

    /// The worst severity that occurs.
    pub fn worst(&self) -> Option<Severity> {
        self.findings.iter().map(|finding| finding.severity).max()
    }

    /// The findings by cause, the worst first in each: causes in the order of their first findings.
    pub fn by_cause(&self) -> Vec<Vec<&Finding>> {
        let mut known: FxHashMap<(&str, &str), usize> = FxHashMap::default();
        let mut causes: Vec<Vec<&Finding>> = Vec::new();
        for finding in &self.findings {
            let at = *known.entry((&finding.kind, &finding.cause)).or_insert_with(|| {
                causes.push(Vec::new());
                causes.len() - 1
            });
            causes[at].push(finding);
        }
        causes
    }

    fn count(&mut self) {
        self.causes = self.by_cause().len();
        let findings = &self.findings;
        let of = |severity: Severity| findings.iter().filter(|finding| finding.severity == severity).count();
        self.by_severity =
            Severity::ALL.iter().rev().map(|one| Count { name: one.word().to_owned(), count: of(*one) }).collect();
        let kinds = CATALOGUE.iter().map(|kind| {
            let mut counts = Severity::ALL.map(|severity| {
                findings.iter().filter(|finding| finding.kind == kind.name && finding.severity == severity).count()
            });
            counts.reverse();
            KindCount { kind: kind.name.to_owned(), counts }
        });
        self.by_kind = kinds.filter(|kind| kind.counts.iter().sum::<usize>() > 0).collect();
        self.by_owner = counted(findings.iter().map(|finding| finding.owner.as_deref().unwrap_or("nobody named")));
        self.by_network = counted(findings.iter().flat_map(|finding| finding.networks.iter().map(String::as_str)));
    }
}

fn counted<'n>(names: impl Iterator<Item = &'n str>) -> Vec<Count> {
    let mut counts: std::collections::BTreeMap<&str, usize> = std::collections::BTreeMap::new();
    for name in names {
        *counts.entry(name).or_default() += 1;
    }
    let mut all: Vec<Count> = counts.into_iter().map(|(name, count)| Count { name: name.to_owned(), count }).collect();
    all.sort_by_key(|one| std::cmp::Reverse(one.count));
    all
}
