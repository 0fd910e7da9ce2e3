//! Which segment talks to which, as data.

use super::reach::{LinkFact, by_text, link_facts};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::sweep::{Fate, From, Node, ReachedBy, Sweep, Sweeping, Way, sweep};
use heronshale_engine::walk::{Spot, Verdict};
use heronshale_model::estate::{Id, Interface, Service};
use heronshale_model::segments::SegmentBy;
use heronshale_sets::address::Family;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;
use rustc_hash::FxHashMap;
use serde::Serialize;

/// How one segment talks to another.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum CellVerdict {
    /// All that was asked works.
    Works,
    /// Some of it works.
    Partly,
    /// None works, and some of it depends on something missing from the snapshot.
    Unknown,
    /// None works, and some of it turns on what no snapshot holds.
    Conditional,
    /// Nothing works.
    No,
    /// There are no two ends.
    Nobody,
}

impl CellVerdict {
    /// In a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Works => "works",
            Self::Partly => "partly",
            Self::Unknown => "unknown",
            Self::Conditional => "conditional",
            Self::No => "no",
            Self::Nobody => "nobody",
        }
    }
}

/// A segment.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct SegmentFact {
    /// Its name.
    pub name: String,
    /// How many interfaces are in it; none for the internet and sites.
    pub interfaces: Option<usize>,
}

/// How one segment talks to another.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct CellFact {
    /// The segment that opens connections.
    pub from: String,
    /// The segment to which.
    pub to: String,
    /// How.
    pub verdict: CellVerdict,
    /// What works for somebody, perhaps under a condition.
    pub services: Vec<String>,
    /// The firewalls that pass what works.
    pub firewalls: Vec<String>,
    /// Whether some of what works passes no firewall.
    pub without_firewall: bool,
    /// The firewalls that deny some of what does not work.
    pub refused_by: Vec<String>,
    /// The balancers, public and translated addresses by which some of it works.
    pub by: Vec<String>,
}

/// Which segment talks to which.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct MatrixAnswer {
    /// What segments are: `network`, `tag role` …
    pub by: String,
    /// Which traffic was asked about; none for all.
    pub traffic: Option<String>,
    /// The segments, in the order of the rows and columns; the internet and sites last.
    pub segments: Vec<SegmentFact>,
    /// Every pair, row by row.
    pub cells: Vec<CellFact>,
}

/// Some of what goes from one segment to another, alike.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct CellPart {
    /// How it fares.
    pub verdict: Verdict,
    /// Who opens connections.
    pub sources: Vec<String>,
    /// To whom.
    pub targets: Vec<String>,
    /// By what; of what does not work, all services of the same pairs together.
    pub ways: Vec<LinkFact>,
    /// Where a firewall ends it: how.
    pub ended_at: Option<String>,
}

/// One cell, drilled down.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct CellAnswer {
    /// What segments are.
    pub by: String,
    /// Which traffic was asked about; none for all.
    pub traffic: Option<String>,
    /// The cell.
    pub cell: CellFact,
    /// Its parts: what works first.
    pub parts: Vec<CellPart>,
}

/// Segments, and which a node is in.
struct Segments {
    names: Vec<SegmentFact>,
    /// For each interface a number of the segments that it is in together.
    combined: Vec<u32>,
    of_interface: Vec<Vec<u32>>,
    of_node: Vec<Vec<u32>>,
}

impl Segments {
    fn new(view: &Fabric<'_>, by: &SegmentBy) -> Self {
        let mut index: FxHashMap<String, u32> = FxHashMap::default();
        let mut names: Vec<SegmentFact> = Vec::new();
        let mut combinations: FxHashMap<Vec<u32>, u32> = FxHashMap::default();
        let (mut combined, mut of_interface) = (Vec::new(), Vec::new());
        for id in view.estate.interfaces.ids() {
            let mut all = Vec::new();
            for name in by.of(view.estate, id) {
                let at = *index.entry(name.clone()).or_insert_with(|| {
                    names.push(SegmentFact {
                        name,
                        interfaces: Some(0),
                    });
                    u32::try_from(names.len() - 1).expect("fewer than 2^32 segments")
                });
                names[at as usize].interfaces =
                    names[at as usize].interfaces.map(|count| count + 1);
                all.push(at);
            }
            let next = u32::try_from(combinations.len()).expect("fewer than 2^32 combinations");
            combined.push(*combinations.entry(all.clone()).or_insert(next));
            of_interface.push(all);
        }
        Self {
            names,
            combined,
            of_interface,
            of_node: Vec::new(),
        }
    }

    /// Adds the internet and the sites, and says which segments each node is in.
    fn with_nodes(&mut self, view: &Fabric<'_>, nodes: &[Node]) {
        let estate = view.estate;
        let outside = u32::try_from(self.names.len()).expect("fewer than 2^32 segments");
        self.names.push(SegmentFact {
            name: "internet".to_owned(),
            interfaces: None,
        });
        self.names
            .extend(estate.sites.items().iter().map(|site| SegmentFact {
                name: format!("site:{}", site.name),
                interfaces: None,
            }));
        let of = |node: &Node| match node {
            Node::Interfaces(all) => all
                .first()
                .map_or_else(Vec::new, |id| self.of_interface[id.index()].clone()),
            Node::Internet => vec![outside],
            Node::Site(id) => {
                vec![outside + 1 + u32::try_from(id.index()).expect("fewer than 2^32 sites")]
            }
            Node::Service(_) | Node::Lacking(_) => Vec::new(),
        };
        self.of_node = nodes.iter().map(of).collect();
    }
}

/// What is known of a cell.
#[derive(Default)]
struct Cell {
    works: bool,
    some: bool,
    conditional: bool,
    unknown: bool,
    fails: bool,
    services: [Option<Intervals>; 2],
    firewalls: Vec<Id<heronshale_model::estate::Firewall>>,
    without: bool,
    refused_by: Vec<Id<heronshale_model::estate::Firewall>>,
    by: Vec<ReachedBy>,
}

impl Cell {
    fn add(
        &mut self,
        fate: &Fate,
        by: ReachedBy,
        family: Family,
        services: &Intervals,
        base: bool,
    ) {
        let verdict = fate.judged.verdict;
        if verdict > Verdict::Conditional && !base {
            // Nobody expects an address that stands for something else to take everything.
            return;
        }
        match verdict {
            Verdict::Works if base => self.works = true,
            Verdict::Works | Verdict::WorksForSome => self.some = true,
            Verdict::Conditional => self.conditional = true,
            Verdict::Undecided => self.unknown = true,
            Verdict::Unknown if fate.judged.may_work => self.unknown = true,
            _ => {
                self.fails = true;
                let denies =
                    fate.ended_at
                        .filter(|ended| ended.denies)
                        .and_then(|ended| match ended.at {
                            Spot::Firewall(id) => Some(id),
                            _ => None,
                        });
                self.refused_by
                    .extend(denies.filter(|id| !self.refused_by.contains(id)));
            }
        }
        if verdict <= Verdict::Conditional {
            let known = &mut self.services[usize::from(family == Family::V6)];
            *known = Some(
                known
                    .as_ref()
                    .map_or_else(|| services.clone(), |known| known.union(services)),
            );
            for firewall in &fate.firewalls {
                if !self.firewalls.contains(firewall) {
                    self.firewalls.push(*firewall);
                }
            }
            self.without |= fate.without;
            if by != ReachedBy::Own && !self.by.contains(&by) {
                self.by.push(by);
            }
        }
    }

    fn verdict(&self) -> CellVerdict {
        let some = self.works || self.some;
        match () {
            () if self.works && !self.some && !self.conditional && !self.unknown && !self.fails => {
                CellVerdict::Works
            }
            () if some => CellVerdict::Partly,
            () if self.unknown => CellVerdict::Unknown,
            () if self.conditional => CellVerdict::Conditional,
            () => CellVerdict::No,
        }
    }

    fn fact(&self, view: &Fabric<'_>, from: &str, to: &str, verdict: CellVerdict) -> CellFact {
        let names = |all: &[Id<heronshale_model::estate::Firewall>]| {
            let mut all = all.to_vec();
            all.sort_unstable();
            all.iter()
                .map(|id| view.estate.firewalls[*id].name.to_string())
                .collect()
        };
        let mut services: Vec<String> = Vec::new();
        for (family, numbers) in Family::BOTH.into_iter().zip(&self.services) {
            for text in numbers
                .iter()
                .flat_map(|numbers| service::texts(family, numbers))
            {
                if !services.contains(&text) {
                    services.push(text);
                }
            }
        }
        let mut by = self.by.clone();
        by.sort_unstable();
        CellFact {
            from: from.to_owned(),
            to: to.to_owned(),
            verdict,
            services,
            firewalls: names(&self.firewalls),
            without_firewall: self.without,
            refused_by: names(&self.refused_by),
            by: by.into_iter().filter_map(|by| by_text(view, by)).collect(),
        }
    }
}

/// Whether packets by this address are part of what makes a cell whole. From the internet, public addresses are the only ones.
fn is_base(from: &Node, by: ReachedBy) -> bool {
    by == ReachedBy::Own || (*from == Node::Internet && matches!(by, ReachedBy::Public(_)))
}

/// A sweep by segments.
pub struct Matrix<'v, 'e> {
    view: &'v Fabric<'e>,
    by: SegmentBy,
    traffic: Option<String>,
    found: Sweep,
    segments: Segments,
}

impl<'v, 'e> Matrix<'v, 'e> {
    /// Sweeps the estate. No services: all.
    pub fn new(view: &'v Fabric<'e>, by: SegmentBy, services: &[Service]) -> Self {
        let mut segments = Segments::new(view, &by);
        let apart = |id: Id<Interface>| segments.combined[id.index()];
        let found = sweep(
            view,
            &Sweeping {
                services,
                failing: true,
                doors_apart: true,
                ..Sweeping::of(From::Everywhere, &apart)
            },
        );
        segments.with_nodes(view, &found.nodes);
        let traffic = (!services.is_empty()).then(|| crate::traffic::services_text(services));
        Self {
            view,
            by,
            traffic,
            found,
            segments,
        }
    }

    /// The names of all segments.
    pub fn names(&self) -> Vec<&str> {
        self.segments
            .names
            .iter()
            .map(|segment| segment.name.as_str())
            .collect()
    }

    /// Which segment talks to which.
    pub fn answer(&self) -> MatrixAnswer {
        let count = self.segments.names.len();
        let mut cells: FxHashMap<(u32, u32), Cell> = FxHashMap::default();
        for row in &self.found.rows {
            let fate = &self.found.fates[row.fate as usize];
            let from = self.by_segment(row.sources.iter().copied());
            for reach in &row.reach {
                let to = self.by_segment(reach.targets.iter().map(|(node, _)| *node));
                for (a, sources) in &from {
                    let base = is_base(&self.found.nodes[sources[0] as usize], reach.by);
                    for (b, targets) in &to {
                        let pair = |source: &u32| {
                            targets.iter().any(|target| {
                                let second = reach
                                    .targets
                                    .binary_search_by_key(target, |(node, _)| *node);
                                let second = second.is_ok_and(|at| reach.targets[at].1);
                                Sweep::counts(*source, (*target, second))
                            })
                        };
                        if sources.iter().any(pair) {
                            let cell = cells.entry((*a, *b)).or_default();
                            cell.add(fate, reach.by, reach.family, &reach.services, base);
                        }
                    }
                }
            }
        }
        let nobody = Cell::default();
        let mut all = Vec::with_capacity(count * count);
        for (a, from) in (0..).zip(&self.segments.names) {
            for (b, to) in (0..).zip(&self.segments.names) {
                let cell = cells.get(&(a, b));
                let pairless = a == b && from.interfaces.is_none_or(|interfaces| interfaces < 2);
                let verdict = match cell {
                    _ if pairless => CellVerdict::Nobody,
                    _ => match cell.map_or(CellVerdict::No, Cell::verdict) {
                        // Whom what was given up reaches is not known.
                        CellVerdict::No if self.view.gave_up() => CellVerdict::Unknown,
                        verdict => verdict,
                    },
                };
                all.push(
                    cell.unwrap_or(&nobody)
                        .fact(self.view, &from.name, &to.name, verdict),
                );
            }
        }
        MatrixAnswer {
            by: self.by.text(),
            traffic: self.traffic.clone(),
            segments: self.segments.names.clone(),
            cells: all,
        }
    }

    fn by_segment(&self, nodes: impl Iterator<Item = u32>) -> Vec<(u32, Vec<u32>)> {
        let mut found: Vec<(u32, Vec<u32>)> = Vec::new();
        let mut at: FxHashMap<u32, usize> = FxHashMap::default();
        for node in nodes {
            for segment in &self.segments.of_node[node as usize] {
                let at = *at.entry(*segment).or_insert_with(|| {
                    found.push((*segment, Vec::new()));
                    found.len() - 1
                });
                found[at].1.push(node);
            }
        }
        found
    }

    /// One cell by the names of its segments, drilled down; none if there is no such segment.
    pub fn cell(&self, from: &str, to: &str) -> Option<CellAnswer> {
        let place = |name: &str| {
            let at = self
                .segments
                .names
                .iter()
                .position(|segment| segment.name == name)?;
            u32::try_from(at).ok()
        };
        let (a, b) = (place(from)?, place(to)?);
        let whole = self.answer();
        let cell = whole
            .cells
            .into_iter()
            .find(|cell| cell.from == from && cell.to == to)?;
        // Parts by who, to whom and how.
        type Key = (u32, Vec<u32>, Vec<(u32, bool)>);
        type Alike = (Key, Vec<Way>);
        let mut parts: Vec<Alike> = Vec::new();
        for row in &self.found.rows {
            let within =
                |node: u32, segment: u32| self.segments.of_node[node as usize].contains(&segment);
            let sources: Vec<u32> = row
                .sources
                .iter()
                .copied()
                .filter(|node| within(*node, a))
                .collect();
            if sources.is_empty() {
                continue;
            }
            let fate = &self.found.fates[row.fate as usize];
            for reach in &row.reach {
                let targets = reach
                    .targets
                    .iter()
                    .copied()
                    .filter(|(node, _)| within(*node, b));
                let targets: Vec<(u32, bool)> = targets.collect();
                let counts =
                    |source: &u32| targets.iter().any(|target| Sweep::counts(*source, *target));
                let base = is_base(&self.found.nodes[sources[0] as usize], reach.by);
                if !sources.iter().any(counts)
                    || (fate.judged.verdict > Verdict::Conditional && !base)
                {
                    continue;
                }
                let way = Way {
                    by: reach.by,
                    family: reach.family,
                    services: reach.services.clone(),
                    fate: row.fate,
                    partly: row.partly.clone().map(|from| (sources[0], from)),
                };
                let key = (row.fate, sources.clone(), targets);
                match parts.iter_mut().find(|(known, _)| *known == key) {
                    Some((_, ways)) => ways.push(way),
                    None => parts.push((key, vec![way])),
                }
            }
        }
        let names = |nodes: &mut dyn Iterator<Item = u32>| -> Vec<String> {
            let estate = self.view.estate;
            let name = |node: u32| match &self.found.nodes[node as usize] {
                Node::Interfaces(all) => all
                    .iter()
                    .map(|id| estate.interfaces[*id].name.to_string())
                    .collect(),
                Node::Internet => vec!["the internet".to_owned()],
                Node::Site(id) => vec![format!("site {}", estate.sites[*id].name)],
                Node::Service(_) | Node::Lacking(_) => Vec::new(),
            };
            nodes.flat_map(name).collect()
        };
        let part = |((fate, sources, targets), ways): Alike| {
            let of = &self.found.fates[fate as usize];
            let ended_at = of.ended_at.map(|ended| {
                let what = match (ended.denies, ended.other_way, ended.reply) {
                    (true, _, false) => "blocks the request",
                    (true, _, true) => "blocks the reply",
                    (false, true, _) => "sees one direction only",
                    (false, false, false) => "drops the request",
                    (false, false, true) => "drops the reply",
                };
                format!(
                    "{} {what}",
                    heronshale_audit::facts::spot_text(self.view, ended.at).0
                )
            });
            CellPart {
                verdict: of.judged.verdict,
                sources: names(&mut sources.iter().copied()),
                targets: names(&mut targets.iter().map(|(node, _)| *node)),
                ways: link_facts(self.view, &self.found, &ways),
                ended_at,
            }
        };
        let mut parts: Vec<CellPart> = parts.into_iter().map(part).collect();
        parts.sort_by_key(|part| part.verdict);
        Some(CellAnswer {
            by: self.by.text(),
            traffic: self.traffic.clone(),
            cell,
            parts,
        })
    }
}
