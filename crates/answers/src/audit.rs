//! The audit: every finding, and what they amount to.

use super::compare::{ChangeEdit, edits_behind};
use super::expectations::{ExpectationFact, expectation_facts};
use super::exposure::{counts, workloads_forbidden};
use heronshale_audit::finding::{Accepted, CATALOGUE, Finding, judged, try_advice};
use heronshale_audit::fix::Kept;
use heronshale_change::Comparison;
use heronshale_engine::fabric::Fabric;
use heronshale_engine::walk::{Asked, Start};
use heronshale_model::severity::Severity;
use heronshale_sets::address::Addresses;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, service};
use rustc_hash::FxHashMap;
use serde::Serialize;
use std::cmp::Reverse;

/// Whether a finding is about connections from the internet.
fn is_way_in(finding: &Finding) -> bool {
    finding.kind == "exposed"
}

/// Packets to interfaces, and the same to the public addresses that stand for them, by which the internet asks.
fn as_asked(view: &Fabric<'_>, packets: &PacketSet) -> PacketSet {
    let every = Intervals::span(0, u128::from(u16::MAX));
    let mut sum = packets.clone();
    for public in view.estate.public_addresses.items() {
        let Some(id) = public.interface else { continue };
        let own = &view.estate.interfaces[id].addresses;
        let to = Addresses::single(public.address);
        for row in packets.between(None, Some(own)).rows() {
            for (_, services) in &row.destinations {
                let asked = PacketSet::fields(
                    &row.sources,
                    &to,
                    |family| services.intersection(&service::all(family)),
                    &every,
                    (),
                );
                sum = sum.union(&asked);
            }
        }
    }
    sum
}

/// So many causes are to be fixed first.
const FIRST: usize = 3;

/// Everything that is wrong or worth a look.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Audit {
    /// Workloads that the internet reaches directly.
    pub workloads_open: usize,
    /// Workloads of which that is unknown.
    pub workloads_unknown: usize,
    /// Workloads that the internet reaches against an expectation.
    pub workloads_forbidden: usize,
    /// All workloads.
    pub workloads: usize,
    /// Whether there are networks, so that reachability could be judged; rules are judged all the same.
    pub reachability_judged: bool,
    /// Worst first, then by kind, file and line.
    pub findings: Vec<Finding>,
    /// How many causes the findings have: those of one kind with one cause are fixed together.
    pub causes: usize,
    /// How many by severity, worst first; each severity occurs.
    pub by_severity: Vec<Count>,
    /// How many by kind, in the order of the catalogue; kinds that occur.
    pub by_kind: Vec<KindCount>,
    /// How many by owner, most first.
    pub by_owner: Vec<Count>,
    /// How many by network, most first; one about several networks counts in each.
    pub by_network: Vec<Count>,
    /// How many by the user's own requirement, in the order of the configuration; also those against which nothing speaks.
    pub by_control: Vec<Count>,
    /// What is expected, and how that stands.
    pub expectations: Vec<ExpectationFact>,
    /// Findings that somebody lives with; they count nowhere else.
    pub accepted: Vec<Accepted>,
    /// What an earlier snapshot had, if that was asked for: then the findings are those that it had not.
    pub since: Option<Since>,
    /// What was asked for only, if not all: kinds, owners, networks.
    pub only: Vec<String>,
    /// How many findings that left out.
    pub left_out: usize,
}

/// What an earlier snapshot had.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Since {
    /// When it was taken.
    pub taken: Option<String>,
    /// How many findings it had already, none of which has grown.
    pub known: usize,
    /// Findings that it had and that are gone.
    pub gone: Vec<Finding>,
    /// How many things have another name than then, and are otherwise the same: they are no news.
    pub renamed: usize,
    /// Of new ways in, by the fingerprints of their findings: the edits that open them.
    pub because: Vec<BecauseFact>,
}

/// The edits that open a new way in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct BecauseFact {
    /// Of the finding.
    pub fingerprint: String,
    /// The edits.
    pub edits: Vec<ChangeEdit>,
    /// The letters of the edits of each smallest set that opens it.
    pub cause: Vec<Vec<String>>,
}

/// How many of something.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Count {
    /// Of what.
    pub name: String,
    /// How many.
    pub count: usize,
}

/// How many of a kind, by severity.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct KindCount {
    /// The kind.
    pub kind: String,
    /// How many urgent, serious, minor ones and notes.
    pub counts: [usize; 4],
}

/// Judges the whole estate.
pub fn audit(view: &Fabric<'_>) -> Audit {
    let found = judged(view);
    let counts = counts(view, &found.ways, &found.device_ways, &|_| true);
    let mut audit = Audit {
        workloads_open: counts.open,
        workloads_unknown: counts.unknown,
        workloads_forbidden: workloads_forbidden(view, &found.ways, &found.device_ways),
        workloads: counts.all,
        reachability_judged: !view.estate.networks.is_empty(),
        expectations: expectation_facts(view, &found.standings),
        findings: found.findings,
        accepted: found.accepted,
        causes: 0,
        by_severity: Vec::new(),
        by_kind: Vec::new(),
        by_owner: Vec::new(),
        by_network: Vec::new(),
        by_control: view
            .stated
            .controls
            .iter()
            .map(|control| Count {
                name: control.control.to_string(),
                count: 0,
            })
            .collect(),
        since: None,
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

    /// Keeps what an earlier snapshot had not: findings that are new, or that are about packets that they were not about.
    pub fn keep_new(&mut self, earlier: &Fabric<'_>) {
        let before = judged(earlier);
        let had: Vec<Finding> = before
            .findings
            .into_iter()
            .chain(before.accepted.into_iter().map(|one| one.finding))
            .collect();
        let by_print: FxHashMap<&str, &Finding> = had
            .iter()
            .map(|finding| (finding.fingerprint.as_str(), finding))
            .collect();
        let is_new = |finding: &Finding| {
            by_print
                .get(finding.fingerprint.as_str())
                .is_none_or(|old| match (&old.packets, &finding.packets) {
                    (Some(old), Some(new)) => !new.is_subset(old),
                    _ => false,
                })
        };
        let now: std::collections::BTreeSet<String> = self
            .findings
            .iter()
            .chain(self.accepted.iter().map(|one| &one.finding))
            .map(|finding| finding.fingerprint.clone())
            .collect();
        let all = self.findings.len();
        self.findings.retain(is_new);
        let known = all - self.findings.len();
        let gone = had
            .into_iter()
            .filter(|finding| !now.contains(&finding.fingerprint))
            .collect();
        self.since = Some(Since {
            taken: earlier.estate.taken.map(|at| at.to_string()),
            known,
            gone,
            renamed: 0,
            because: Vec::new(),
        });
        self.count();
    }

    /// Whether a way in is new, so that somebody asks by which edit.
    pub fn has_new_ways(&self) -> bool {
        self.since.is_some() && self.findings.iter().any(is_way_in)
    }

    /// Says by which edits new ways in were opened.
    pub fn explain_new(&mut self, view: &Fabric<'_>, comparison: &Comparison) {
        let because = |finding: &Finding| {
            let asked = Asked {
                start: Start::Internet,
                packets: as_asked(view, finding.packets.as_ref()?),
                name: None,
                any_of: Vec::new(),
            };
            let (edits, cause) = edits_behind(view, comparison, &asked);
            (!edits.is_empty()).then(|| BecauseFact {
                fingerprint: finding.fingerprint.clone(),
                edits,
                cause,
            })
        };
        let ways = self.findings.iter().filter(|finding| is_way_in(finding));
        let because = ways.filter_map(because).collect();
        if let Some(since) = &mut self.since {
            since.because = because;
        }
    }

    /// Tries what some of the findings advise against the expectations that are kept.
    pub fn try_advice(&mut self, view: &Fabric<'_>, wanted: impl Fn(&Finding) -> bool) {
        let states = self.expectations.iter().map(|one| one.state);
        let kept = Kept::by_state(states);
        let accepted = self.accepted.iter_mut().map(|one| &mut one.finding);
        let all = self.findings.iter_mut().chain(accepted);
        let mut chosen: Vec<&mut Finding> = all.filter(|finding| wanted(finding)).collect();
        try_advice(view, &kept, &mut chosen);
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
            let at = *known
                .entry((&finding.kind, &finding.cause))
                .or_insert_with(|| {
                    causes.push(Vec::new());
                    causes.len() - 1
                });
            causes[at].push(finding);
        }
        causes
    }

    /// The causes to fix first: the worst, and of equally bad ones those with the most findings.
    pub fn first_causes(&self) -> Vec<Vec<&Finding>> {
        let mut order = self.by_cause();
        order.retain(|findings| findings[0].severity >= Severity::Serious);
        order.sort_by_key(|findings| (Reverse(findings[0].severity), Reverse(findings.len())));
        order.truncate(FIRST);
        order
    }

    /// The fingerprints of those, each by its first finding.
    pub fn first_fingerprints(&self) -> Vec<String> {
        let causes = self.first_causes();
        let prints = causes.iter().map(|all| all[0].fingerprint.clone());
        prints.collect()
    }

    fn count(&mut self) {
        self.causes = self.by_cause().len();
        let findings = &self.findings;
        let of = |severity: Severity| {
            findings
                .iter()
                .filter(|finding| finding.severity == severity)
                .count()
        };
        self.by_severity = Severity::ALL
            .iter()
            .rev()
            .map(|one| Count {
                name: one.word().to_owned(),
                count: of(*one),
            })
            .collect();
        let kinds = CATALOGUE.iter().map(|kind| {
            let mut counts = Severity::ALL.map(|severity| {
                findings
                    .iter()
                    .filter(|finding| finding.kind == kind.name && finding.severity == severity)
                    .count()
            });
            counts.reverse();
            KindCount {
                kind: kind.name.to_owned(),
                counts,
            }
        });
        self.by_kind = kinds
            .filter(|kind| kind.counts.iter().sum::<usize>() > 0)
            .collect();
        self.by_owner = counted(
            findings
                .iter()
                .map(|finding| finding.owner.as_deref().unwrap_or("no owner")),
        );
        for control in &mut self.by_control {
            control.count = findings
                .iter()
                .filter(|finding| finding.controls.contains(&control.name))
                .count();
        }
        self.by_network = counted(
            findings
                .iter()
                .flat_map(|finding| finding.networks.iter().map(String::as_str)),
        );
    }
}

fn counted<'n>(names: impl Iterator<Item = &'n str>) -> Vec<Count> {
    let mut counts: std::collections::BTreeMap<&str, usize> = std::collections::BTreeMap::new();
    for name in names {
        *counts.entry(name).or_default() += 1;
    }
    let mut all: Vec<Count> = counts
        .into_iter()
        .map(|(name, count)| Count {
            name: name.to_owned(),
            count,
        })
        .collect();
    all.sort_by_key(|one| std::cmp::Reverse(one.count));
    all
}
