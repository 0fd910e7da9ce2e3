//! What becomes of packets: leaves under the choices of nature, conditions and doubts.

use super::{Entry, Part, Spot, Step, Tell, What, Why};
use crate::faults::{Fault, has};
use crate::model::{Firewall, Id, Interface, Name, NameSet};
use crate::packet::Intervals;
use crate::route::Winner;
use crate::stage::By;
use rustc_hash::{FxHashMap, FxHashSet};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How a connection fares (design 2.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// It works, there and back.
    Works,
    /// Only some of nature's choices work.
    WorksForSome,
    /// It would work if something holds that no snapshot holds.
    Conditional,
    /// That depends on what the snapshot lacks.
    Unknown,
    /// A stage denies the request.
    Denied,
    /// The request gets lost.
    Lost,
    /// A stage denies the reply.
    ReplyDenied,
    /// The reply gets lost.
    ReplyLost,
}

impl Verdict {
    /// In words.
    pub fn word(self) -> &'static str {
        match self {
            Self::Works => "works",
            Self::WorksForSome => "works for some",
            Self::Conditional => "conditional",
            Self::Unknown => "unknown",
            Self::Denied => "denied",
            Self::Lost => "lost",
            Self::ReplyDenied => "reply denied",
            Self::ReplyLost => "reply lost",
        }
    }
}

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
    /// A back end, by its place.
    BackEnd(usize),
    /// A proxy's interface.
    ProxyInterface(Id<Interface>),
    /// One of several holders of an address.
    Holder(usize),
    /// One of the addresses of a name.
    Resolved(usize),
}

/// What no snapshot holds.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Condition {
    /// Whether the packet is meant for a name of a set.
    Named(Vec<Id<NameSet>>),
    /// Something in words.
    Other(Name),
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
    /// It is not known whether a stage lets it on.
    Doubt {
        /// If it does.
        on: Label,
        /// If it does not.
        stopped: Label,
        /// The steps up to the doubt.
        trail: u32,
    },
}

/// One verdict, and what decided it.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Judged {
    /// The verdict.
    pub verdict: Verdict,
    /// The steps that led to it: of an example, where nature chooses. The deciding one is the last.
    pub trail: u32,
    /// Where it works for some: the choices that work, and the steps by which one fails.
    pub some: Option<(Vec<Choice>, u32)>,
    /// On what it turns.
    pub conditions: Vec<Condition>,
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
}

impl Labels {
    pub(super) fn new(tell: Tell) -> Self {
        Self {
            trees: Vec::new(),
            known: FxHashMap::default(),
            steps: Vec::new(),
            known_steps: FxHashMap::default(),
            tell,
            replaced: FxHashMap::default(),
            leaves: FxHashMap::default(),
        }
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
            _ => trail,
        };
        self.add_leaf(Leaf { verdict, trail, back: None })
    }

    /// Whether nature has no choice, and nothing is in doubt.
    pub(crate) fn is_certain(&self, label: Label) -> bool {
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
            Tell::Steps | Tell::Ends => before,
        };
        let step = match self.tell {
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
        while let Some((before, step)) = at.checked_sub(1).and_then(|at| self.steps.get(at as usize)) {
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
        if holds == otherwise { holds } else { self.add(Tree::Turns { condition, holds, otherwise }) }
    }

    pub(super) fn doubt(&mut self, on: Label, stopped: Label, trail: u32) -> Label {
        if on == stopped || has(Fault::WalkDoubtPasses) { on } else { self.add(Tree::Doubt { on, stopped, trail }) }
    }

    /// All leaves of a label, each once, the lowest choice first.
    pub(super) fn leaves(&mut self, label: Label) -> Vec<Label> {
        if let Some(known) = self.leaves.get(&label) {
            return known.clone();
        }
        let below: Vec<Label> = match self.tree(label) {
            Tree::Leaf(_) => return vec![label],
            Tree::Choice(all) => all.iter().map(|(_, label)| *label).collect(),
            Tree::Turns { holds, otherwise, .. } => vec![*holds, *otherwise],
            Tree::Doubt { on, stopped, .. } => vec![*on, *stopped],
        };
        let mut found = Vec::new();
        for label in below {
            for leaf in self.leaves(label) {
                if !found.contains(&leaf) {
                    found.push(leaf);
                }
            }
        }
        self.leaves.insert(label, found.clone());
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
            Tree::Choice(all) => all.iter().for_each(|(_, below)| self.collect_trails(*below, seen, trails)),
            Tree::Turns { holds, otherwise, .. } => {
                self.collect_trails(*holds, seen, trails);
                self.collect_trails(*otherwise, seen, trails);
            }
            Tree::Doubt { on, stopped, .. } => {
                self.collect_trails(*on, seen, trails);
                self.collect_trails(*stopped, seen, trails);
            }
        }
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
        let result = match self.tree(label).clone() {
            Tree::Leaf(_) => label,
            Tree::Choice(all) => {
                let all = all.into_iter().map(|(choice, below)| (choice, self.replaced(below, leaf, new))).collect();
                self.choose(all)
            }
            Tree::Turns { condition, holds, otherwise } => {
                let (holds, otherwise) = (self.replaced(holds, leaf, new), self.replaced(otherwise, leaf, new));
                self.turns(condition, holds, otherwise)
            }
            Tree::Doubt { on, stopped, trail } => {
                let (on, stopped) = (self.replaced(on, leaf, new), self.replaced(stopped, leaf, new));
                self.doubt(on, stopped, trail)
            }
        };
        self.replaced.insert((label, leaf, new), result);
        result
    }

    /// A label as one verdict. What comes out the same whatever the snapshot lacks is certain.
    pub fn judge(&self, label: Label) -> Judged {
        self.settled(label, &mut Vec::new())
    }

    fn settled(&self, label: Label, given: &mut Vec<(Condition, bool)>) -> Judged {
        let all = self.possible(label, given);
        self.only_one(label, &all)
    }

    /// Several possibilities are unknown.
    fn only_one(&self, label: Label, all: &[Judged]) -> Judged {
        if all.iter().all(|one| one.verdict == all[0].verdict) {
            return all[0].clone();
        }
        let trail = self.first_doubt(label).unwrap_or(all[0].trail);
        Judged { verdict: Verdict::Unknown, trail, some: None, conditions: Vec::new() }
    }

    fn first_doubt(&self, label: Label) -> Option<u32> {
        match self.tree(label) {
            Tree::Doubt { trail, .. } => Some(*trail),
            Tree::Turns { holds, otherwise, .. } => self.first_doubt(*holds).or_else(|| self.first_doubt(*otherwise)),
            Tree::Leaf(_) | Tree::Choice(_) => None,
        }
    }

    /// The verdicts that are possible, each once, for what the snapshot may lack.
    fn possible(&self, label: Label, given: &mut Vec<(Condition, bool)>) -> Vec<Judged> {
        match self.tree(label) {
            Tree::Leaf(leaf) => {
                vec![Judged { verdict: leaf.verdict, trail: leaf.trail, some: None, conditions: Vec::new() }]
            }
            Tree::Choice(all) => {
                let possible: Vec<Vec<Judged>> = all.iter().map(|(_, label)| self.possible(*label, given)).collect();
                let alike = |one: &Vec<Judged>| {
                    one.len() == possible[0].len()
                        && one.iter().all(|judged| possible[0].iter().any(|other| other.verdict == judged.verdict))
                };
                // Branches that are equal count once.
                if possible.iter().all(alike) {
                    return possible[0].clone();
                }
                let settled = all
                    .iter()
                    .zip(&possible)
                    .map(|((choice, label), possible)| (choice, self.only_one(*label, possible)));
                vec![among(settled.collect())]
            }
            Tree::Turns { condition, holds, otherwise } => {
                if let Some((_, known)) =
                    given.iter().filter(|_| !has(Fault::WalkConditionsForgotten)).find(|(other, _)| other == condition)
                {
                    let branch = if *known { *holds } else { *otherwise };
                    return self.possible(branch, given);
                }
                let mut under = |is: bool, label: Label| {
                    given.push((condition.clone(), is));
                    let all = self.possible(label, given);
                    given.pop();
                    all
                };
                let (yes, no) = (under(true, *holds), under(false, *otherwise));
                let mut found = Vec::new();
                for yes in &yes {
                    for no in &no {
                        add_once(&mut found, turned(condition, yes.clone(), no.clone()));
                    }
                }
                found
            }
            Tree::Doubt { on, stopped, .. } => {
                let mut found = self.possible(*on, given);
                for one in self.possible(*stopped, given) {
                    add_once(&mut found, one);
                }
                found
            }
        }
    }

    /// The whole of a partition as one verdict.
    pub(super) fn summary(&self, parts: &[Part]) -> Judged {
        let lowest = |part: &&Part| part.packets.lowest();
        let of = |verdict: Verdict| parts.iter().filter(|part| part.judged.verdict == verdict).min_by_key(lowest);
        let works = of(Verdict::Works);
        let some = works.or_else(|| of(Verdict::WorksForSome));
        match (works, some) {
            (Some(works), _) if parts.iter().all(|part| part.judged.verdict == Verdict::Works) => works.judged.clone(),
            (_, Some(some)) => Judged { verdict: Verdict::WorksForSome, ..some.judged.clone() },
            _ => {
                let open = of(Verdict::Unknown).or_else(|| of(Verdict::Conditional));
                let found = open.or_else(|| parts.iter().min_by_key(lowest));
                let none = || Judged { verdict: Verdict::Lost, trail: 0, some: None, conditions: Vec::new() };
                found.map_or_else(none, |part| part.judged.clone())
            }
        }
    }
}

/// What of a step is told where only ends are: the firewalls that let a request on, and those that end it.
fn about_ends(step: Step) -> Option<Step> {
    let Step { reply, at, what } = step;
    let firewall = matches!(at, Spot::Firewall(_));
    match what {
        What::Policy { allows: true, .. } if !reply && firewall => Some(Step { reply, at, what: What::Passed }),
        What::Policy { allows: false, rejects, .. } if firewall => {
            Some(Step { reply, at, what: What::Policy { allows: false, rejects, by: By::NoPolicy } })
        }
        What::Ended(Why::Bypassed | Why::SawNoRequest) => Some(Step { reply, at, what }),
        What::Ended(_) if firewall => Some(Step { reply, at, what }),
        What::Arrived => Some(Step { reply, at, what }),
        _ => None,
    }
}

fn add_once(all: &mut Vec<Judged>, one: Judged) {
    if !all.iter().any(|known| known.verdict == one.verdict) {
        all.push(one);
    }
}

/// Nature's choices as one verdict.
fn among(judged: Vec<(&Choice, Judged)>) -> Judged {
    let of = |verdict: Verdict| judged.iter().find(|(_, one)| one.verdict == verdict);
    let works = of(Verdict::Works);
    if let Some((_, works)) = works
        && judged.iter().all(|(_, one)| one.verdict == Verdict::Works)
    {
        return works.clone();
    }
    if let Some((_, example)) = works.or_else(|| of(Verdict::WorksForSome)) {
        let good = judged.iter().filter(|(_, one)| one.verdict == Verdict::Works).map(|(choice, _)| (*choice).clone());
        let mut good: Vec<Choice> = good.collect();
        let bad = judged.iter().find(|(_, one)| one.verdict != Verdict::Works && one.verdict != Verdict::WorksForSome);
        let mut trail = bad.map_or(0, |(_, bad)| bad.trail);
        if let Some((inner, inner_trail)) = &example.some {
            good.extend(inner.iter().cloned());
            if bad.is_none() {
                trail = *inner_trail;
            }
        }
        return Judged {
            verdict: Verdict::WorksForSome,
            trail: example.trail,
            some: Some((good, trail)),
            conditions: Vec::new(),
        };
    }
    let open = of(Verdict::Unknown).or_else(|| of(Verdict::Conditional));
    open.unwrap_or(&judged[0]).1.clone()
}

/// A condition's two outcomes as one verdict.
fn turned(condition: &Condition, yes: Judged, no: Judged) -> Judged {
    use Verdict::{Conditional, Unknown, Works, WorksForSome};
    let works = |one: &Judged| matches!(one.verdict, Works | WorksForSome);
    match (yes.verdict, no.verdict) {
        (Works, Works) => no,
        (Unknown, _) => yes,
        (_, Unknown) => no,
        (WorksForSome, Works | WorksForSome) => yes,
        (Works, WorksForSome) => no,
        _ if works(&yes) || works(&no) || yes.verdict == Conditional || no.verdict == Conditional => {
            let example = if works(&yes) {
                &yes
            } else if works(&no) || no.verdict == Conditional {
                &no
            } else {
                &yes
            };
            let mut conditions = vec![condition.clone()];
            for more in yes.conditions.iter().chain(&no.conditions) {
                if !conditions.contains(more) {
                    conditions.push(more.clone());
                }
            }
            Judged { verdict: Conditional, trail: example.trail, some: None, conditions }
        }
        _ => no,
    }
}
