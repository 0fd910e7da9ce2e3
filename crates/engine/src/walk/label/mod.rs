//! What becomes of packets: leaves under the choices of nature, conditions and doubts.

mod verdict;

pub use verdict::{Judged, Verdict};

use super::{Entry, Spot, Step, Tell, What, Why};
use crate::doubt::Doubt;
use crate::faults::{Fault, has};
use crate::judgement::By;
use crate::policy::Condition;
use crate::route::Winner;
use heronshale_model::estate::{Balancer, Firewall, Id, Interface, Name, NameSet};
use heronshale_model::names::name_fits;
use heronshale_model::view::View;
use heronshale_sets::intervals::Intervals;
use rustc_hash::{FxHashMap, FxHashSet};
use serde::Serialize;
use std::net::IpAddr;

/// An index into [`Labels`].
pub type Label = u32;

/// The end of a walk by one choice.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Leaf {
    /// What became of it.
    pub verdict: Verdict,
    /// The steps that led here; the deciding one is the last.
    pub trail: u32,
    /// On a leg: the reply is back at the device that began it, and the leg before goes on from there.
    pub back: Option<Back>,
}

/// How a reply came back to what began its leg.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Back {
    /// By which interface or link of the device.
    pub via: Option<Entry>,
    /// A firewall that saw the request and not the reply.
    pub bypassed: Option<Id<Firewall>>,
}

impl Leaf {
    /// Whether a device goes on with the reply.
    pub(super) fn is_back(&self) -> bool {
        self.back.is_some()
    }

    /// Whether a whole connection works.
    pub(super) fn works(&self) -> bool {
        self.verdict == Verdict::Works && self.back.is_none()
    }
}

/// What nature chose.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Choice {
    /// A client port among these.
    ClientPorts(Intervals),
    /// A translated port among these.
    TranslatedPorts(Intervals),
    /// One of equal routes.
    Route(Winner),
    /// A site's way back, by its number.
    Offer(usize),
    /// The same member of a firewall for the reply, or another.
    Member(bool),
    /// A back end of a balancer, by its place.
    BackEnd(Id<Balancer>, usize),
    /// A proxy's interface.
    ProxyInterface(Id<Interface>),
    /// One of several holders of an address.
    Holder(usize),
    /// One of the addresses of a name.
    Resolved(usize),
}

/// What becomes of packets.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Tree {
    /// One end.
    Leaf(Leaf),
    /// Nature chooses; the lowest choice first.
    Choice(Vec<(Choice, Label)>),
    /// It turns on a condition.
    Turns {
        /// The condition.
        condition: Condition,
        /// If it holds.
        holds: Label,
        /// If it does not.
        otherwise: Label,
    },
    /// It depends on something that the snapshot lacks.
    Doubt {
        /// What: an index into [`Labels::doubt_at`].
        doubt: u32,
        /// If it is so.
        yes: Label,
        /// If it is not.
        no: Label,
        /// The steps up to the doubt.
        trail: u32,
    },
}

/// All labels of one walk, and all its steps.
pub struct Labels {
    trees: Vec<Tree>,
    known: FxHashMap<Tree, Label>,
    steps: Vec<(u32, Step)>,
    known_steps: FxHashMap<(u32, Step), u32>,
    tell: Tell,
    replaced: FxHashMap<(Label, Label, Label), Label>,
    leaves: FxHashMap<Label, Vec<Label>>,
    doubts: Vec<Doubt>,
    known_doubts: FxHashMap<Doubt, u32>,
    before: FxHashMap<(Label, Option<IpAddr>, Option<IpAddr>), Label>,
    pub(super) meant: Meant,
    /// Labels that were looked at to find or replace leaves.
    looked: usize,
    /// What of all this was there when it was last asked.
    counted: usize,
}

/// The names for which a packet may be meant, as the sets to which they belong; names of the same sets once.
pub(super) struct Meant {
    /// Of the name in question.
    pub asked: Vec<Vec<Id<NameSet>>>,
    /// Of all names that there are.
    pub any: Vec<Vec<Id<NameSet>>>,
}

impl Labels {
    pub(super) fn new(tell: Tell, meant: Meant) -> Self {
        Self {
            trees: Vec::new(),
            known: FxHashMap::default(),
            steps: Vec::new(),
            known_steps: FxHashMap::default(),
            tell,
            replaced: FxHashMap::default(),
            leaves: FxHashMap::default(),
            doubts: Vec::new(),
            known_doubts: FxHashMap::default(),
            before: FxHashMap::default(),
            meant,
            looked: 0,
            counted: 0,
        }
    }

    /// How many labels and steps are new since this was last asked; many looks at labels count as one.
    pub(super) fn made(&mut self) -> u64 {
        const LOOKS: usize = 16;
        let now = self.trees.len() + self.steps.len() + self.looked / LOOKS;
        let new = now - std::mem::replace(&mut self.counted, now);
        u64::try_from(new).unwrap_or(u64::MAX)
    }

    /// A doubt of a label.
    pub fn doubt_at(&self, at: u32) -> &Doubt {
        &self.doubts[at as usize]
    }

    /// What a label means.
    pub fn tree(&self, label: Label) -> &Tree {
        &self.trees[label as usize]
    }

    fn add(&mut self, tree: Tree) -> Label {
        if let Some(known) = self.known.get(&tree) {
            return *known;
        }
        let label = u32::try_from(self.trees.len()).expect("fewer than 2^32 labels");
        self.known.insert(tree.clone(), label);
        self.trees.push(tree);
        label
    }

    pub(super) fn add_leaf(&mut self, leaf: Leaf) -> Label {
        self.add(Tree::Leaf(leaf))
    }

    pub(super) fn leaf(&mut self, verdict: Verdict, trail: u32) -> Label {
        let trail = match self.tell {
            Tell::Deciders if verdict == Verdict::Works => 0,
            // Where it fails, only who ended it.
            Tell::Ends if verdict != Verdict::Works => self.last_end(trail),
            // Where it fails, only the word counts.
            Tell::Outcomes if verdict != Verdict::Works => 0,
            _ => trail,
        };
        self.add_leaf(Leaf {
            verdict,
            trail,
            back: None,
        })
    }

    /// Whether nature has no choice, and nothing is in doubt.
    pub fn is_certain(&self, label: Label) -> bool {
        self.leaf_of(label).is_some()
    }

    pub(super) fn leaf_of(&self, label: Label) -> Option<&Leaf> {
        match self.tree(label) {
            Tree::Leaf(leaf) => Some(leaf),
            _ => None,
        }
    }

    /// Adds a step behind others; where not every step is told, in their place.
    pub(super) fn push(&mut self, before: u32, step: Step) -> u32 {
        let before = match self.tell {
            Tell::Verdicts => return 0,
            Tell::Deciders => 0,
            Tell::Steps | Tell::Ends | Tell::Outcomes => before,
        };
        let step = match self.tell {
            Tell::Outcomes => match about_outcomes(step) {
                None => return before,
                Some(step) => step,
            },
            Tell::Ends => match about_ends(step) {
                None => return before,
                Some(step) if self.steps(before).contains(&&step) => return before,
                Some(step) => step,
            },
            _ => step,
        };
        if let Some(known) = self.known_steps.get(&(before, step.clone())) {
            return *known;
        }
        self.steps.push((before, step.clone()));
        let trail = u32::try_from(self.steps.len()).expect("fewer than 2^32 steps");
        self.known_steps.insert((before, step), trail);
        trail
    }

    /// The last step of a trail, if it ended the walk.
    fn last_end(&mut self, trail: u32) -> u32 {
        let last = self.steps(trail).last().map(|step| (*step).clone());
        match last {
            Some(step) if !matches!(step.what, What::Passed | What::Arrived) => self.push(0, step),
            _ => 0,
        }
    }

    /// The steps of a trail in order.
    pub fn steps(&self, trail: u32) -> Vec<&Step> {
        let mut steps = Vec::new();
        let mut at = trail;
        while let Some((before, step)) =
            at.checked_sub(1).and_then(|at| self.steps.get(at as usize))
        {
            steps.push(step);
            at = *before;
        }
        steps.reverse();
        steps
    }

    /// Nature chooses one of these; branches that are equal count once.
    pub(super) fn choose(&mut self, choices: Vec<(Choice, Label)>) -> Label {
        let mut kept: Vec<(Choice, Label)> = Vec::new();
        for (choice, label) in choices {
            match kept.iter_mut().find(|(_, known)| *known == label) {
                None => kept.push((choice, label)),
                Some((Choice::ClientPorts(sum), _)) => {
                    if let Choice::ClientPorts(ports) = choice {
                        *sum = sum.union(&ports);
                    }
                }
                Some((Choice::TranslatedPorts(sum), _)) => {
                    if let Choice::TranslatedPorts(ports) = choice {
                        *sum = sum.union(&ports);
                    }
                }
                Some(_) => {}
            }
        }
        match kept.as_slice() {
            [(_, only), ..] if has(Fault::WalkFirstChoiceOnly) => *only,
            [(_, only)] => *only,
            _ => self.add(Tree::Choice(kept)),
        }
    }

    pub(super) fn turns(&mut self, condition: Condition, holds: Label, otherwise: Label) -> Label {
        if holds == otherwise {
            holds
        } else {
            self.add(Tree::Turns {
                condition,
                holds,
                otherwise,
            })
        }
    }

    pub(super) fn doubt(&mut self, doubt: &Doubt, yes: Label, no: Label, trail: u32) -> Label {
        if yes == no || has(Fault::WalkDoubtPasses) {
            return yes;
        }
        let doubt = match self.known_doubts.get(doubt) {
            Some(known) => *known,
            None => {
                let next = u32::try_from(self.doubts.len()).expect("fewer than 2^32 doubts");
                self.doubts.push(doubt.clone());
                self.known_doubts.insert(doubt.clone(), next);
                next
            }
        };
        let trail = if self.tell == Tell::Verdicts {
            0
        } else {
            trail
        };
        self.add(Tree::Doubt {
            doubt,
            yes,
            no,
            trail,
        })
    }

    /// A label of packets as they were before a device gave them these addresses.
    pub(super) fn before(
        &mut self,
        label: Label,
        source: Option<IpAddr>,
        destination: Option<IpAddr>,
    ) -> Label {
        if self.doubts.is_empty() || matches!(self.tree(label), Tree::Leaf(_)) {
            return label;
        }
        if let Some(known) = self.before.get(&(label, source, destination)) {
            return *known;
        }
        let below = |labels: &mut Self, label: Label| labels.before(label, source, destination);
        let result = match self.tree(label).clone() {
            Tree::Doubt {
                doubt,
                yes,
                no,
                trail,
            } => {
                let [yes, no] = [yes, no].map(|label| below(self, label));
                let Doubt { what, at } = self.doubts[doubt as usize].clone();
                self.doubt(
                    &Doubt {
                        what,
                        at: at.before(source, destination),
                    },
                    yes,
                    no,
                    trail,
                )
            }
            _ => self.rebuilt(label, below),
        };
        self.before.insert((label, source, destination), result);
        result
    }

    /// All leaves of a label, each once, the lowest choice first.
    pub(super) fn leaves(&mut self, label: Label) -> Vec<Label> {
        if let Some(known) = self.leaves.get(&label) {
            return known.clone();
        }
        let below: Vec<Label> = match self.tree(label) {
            Tree::Leaf(_) => return vec![label],
            Tree::Choice(all) => all.iter().map(|(_, label)| *label).collect(),
            Tree::Turns {
                holds, otherwise, ..
            } => vec![*holds, *otherwise],
            Tree::Doubt { yes, no, .. } => vec![*yes, *no],
        };
        let mut found = Vec::new();
        let mut seen = FxHashSet::default();
        for label in below {
            found.extend(
                self.leaves(label)
                    .into_iter()
                    .filter(|leaf| seen.insert(*leaf)),
            );
        }
        self.looked += found.len();
        self.leaves.insert(label, found.clone());
        found
    }

    /// The verdicts of all leaves.
    pub fn words(&self, label: Label) -> std::collections::BTreeSet<Verdict> {
        let (mut open, mut seen) = (vec![label], FxHashSet::default());
        let mut found = std::collections::BTreeSet::new();
        while let Some(label) = open.pop() {
            if !seen.insert(label) {
                continue;
            }
            match self.tree(label) {
                Tree::Leaf(leaf) => {
                    found.insert(leaf.verdict);
                }
                Tree::Choice(all) => open.extend(all.iter().map(|(_, below)| *below)),
                Tree::Turns {
                    holds, otherwise, ..
                } => open.extend([*holds, *otherwise]),
                Tree::Doubt { yes, no, .. } => open.extend([*yes, *no]),
            }
        }
        found
    }

    /// The trails of all leaves that work, the lowest choice first.
    pub fn trails_that_work(&self, label: Label) -> Vec<u32> {
        let mut trails = Vec::new();
        let mut seen = FxHashSet::default();
        self.collect_trails(label, &mut seen, &mut trails);
        trails
    }

    fn collect_trails(&self, label: Label, seen: &mut FxHashSet<Label>, trails: &mut Vec<u32>) {
        if !seen.insert(label) {
            return;
        }
        match self.tree(label) {
            Tree::Leaf(leaf) if leaf.works() => trails.push(leaf.trail),
            Tree::Leaf(_) => {}
            Tree::Choice(all) => all
                .iter()
                .for_each(|(_, below)| self.collect_trails(*below, seen, trails)),
            Tree::Turns {
                holds, otherwise, ..
            } => {
                self.collect_trails(*holds, seen, trails);
                self.collect_trails(*otherwise, seen, trails);
            }
            Tree::Doubt { yes, no, .. } => {
                self.collect_trails(*yes, seen, trails);
                self.collect_trails(*no, seen, trails);
            }
        }
    }

    /// A label with other branches in the place of its own.
    fn rebuilt(&mut self, label: Label, mut below: impl FnMut(&mut Self, Label) -> Label) -> Label {
        match self.tree(label).clone() {
            Tree::Leaf(_) => label,
            Tree::Choice(all) => {
                let all = all
                    .into_iter()
                    .map(|(choice, label)| (choice, below(self, label)))
                    .collect();
                self.choose(all)
            }
            Tree::Turns {
                condition,
                holds,
                otherwise,
            } => {
                let [holds, otherwise] = [holds, otherwise].map(|label| below(self, label));
                self.turns(condition, holds, otherwise)
            }
            Tree::Doubt {
                doubt,
                yes,
                no,
                trail,
            } => {
                let [yes, no] = [yes, no].map(|label| below(self, label));
                let doubt = self.doubts[doubt as usize].clone();
                self.doubt(&doubt, yes, no, trail)
            }
        }
    }

    /// A label with all leaves changed at once. `known`: what is known of labels already.
    pub(super) fn with_leaves(
        &mut self,
        label: Label,
        change: fn(&mut Self, Leaf) -> Label,
        known: &mut FxHashMap<Label, Label>,
    ) -> Label {
        if let Some(known) = known.get(&label) {
            return *known;
        }
        self.looked += 1;
        let result = match self.leaf_of(label).cloned() {
            Some(leaf) => change(self, leaf),
            None => self.rebuilt(label, |labels, below| {
                labels.with_leaves(below, change, known)
            }),
        };
        known.insert(label, result);
        result
    }

    /// A label with one leaf replaced.
    pub(super) fn replaced(&mut self, label: Label, leaf: Label, new: Label) -> Label {
        if label == leaf {
            return new;
        }
        if matches!(self.tree(label), Tree::Leaf(_)) {
            return label;
        }
        if let Some(known) = self.replaced.get(&(label, leaf, new)) {
            return *known;
        }
        self.looked += 1;
        let result = self.rebuilt(label, |labels, below| labels.replaced(below, leaf, new));
        self.replaced.insert((label, leaf, new), result);
        result
    }
}

/// What of a step is told where only ends are: the firewalls that let a request on, and those that end it.
fn about_ends(step: Step) -> Option<Step> {
    let Step { reply, at, what } = step;
    let firewall = matches!(at, Spot::Firewall(_));
    match what {
        What::Policy { allows: true, .. } if !reply && firewall => Some(Step {
            reply,
            at,
            what: What::Passed,
        }),
        What::Policy {
            allows: false,
            rejects,
            ..
        } if firewall => Some(Step {
            reply,
            at,
            what: What::Policy {
                allows: false,
                rejects,
                by: By::NoPolicy,
            },
        }),
        What::Ended(Why::Bypassed | Why::SawNoRequest) => Some(Step { reply, at, what }),
        What::Ended(_) if firewall => Some(Step { reply, at, what }),
        What::Arrived => Some(Step { reply, at, what }),
        _ => None,
    }
}

/// What of a step makes the outcome another one: who judges the packet, and what its receiver sees.
fn about_outcomes(step: Step) -> Option<Step> {
    let Step { reply, at, what } = step;
    let what = match what {
        What::Policy { allows: true, .. } | What::Passed if matches!(at, Spot::Firewall(_)) => {
            What::Passed
        }
        What::Changed(change, _) if !reply => What::Changed(change, None),
        What::Arrived => What::Arrived,
        _ => return None,
    };
    Some(Step { reply, at, what })
}

/// The names for which a packet may be meant; `asked` is the one in question.
pub(super) fn meant_names(view: &View<'_>, asked: Option<&Name>) -> Meant {
    let sets = &view.estate.name_sets;
    let patterns = || sets.items().iter().flat_map(|set| &set.names);
    // A name below a wildcard of which nothing else is said.
    let below = |pattern: &Name| {
        pattern
            .strip_prefix("*.")
            .map_or_else(|| pattern.to_string(), |apex| format!("*.{apex}"))
    };
    let of = |name: &String| {
        let holds = |set: &heronshale_model::estate::NameSet| {
            set.names.iter().any(|pattern| name_fits(pattern, name))
        };
        sets.iter()
            .filter(|(_, set)| holds(set))
            .map(|(id, _)| id)
            .collect::<Vec<_>>()
    };
    let mut any: Vec<_> = patterns().map(below).map(|name| of(&name)).collect();
    any.sort_unstable();
    any.dedup();
    Meant {
        asked: asked
            .map(|name| of(&name.to_string()))
            .into_iter()
            .collect(),
        any,
    }
}
