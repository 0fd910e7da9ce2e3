//! The proofs: covered or not, decided otherwise or not, and by whom.

mod needed;

use super::hull::{Hull, high_of, hull, single};
use super::list::{List, Window};
use super::region::Region;
use super::rules::{Entry, Part, Point, Product, Rules};
use super::search::Scratch;
use super::sets::narrow;
use super::spans::Coordinate;
use rustc_hash::FxHashSet;
use std::ops::ControlFlow;

const NOBODY: u32 = u32::MAX;
pub(super) const EVERY_DECISION: u32 = u32::MAX;
/// How many lemmas, and how many packets, are kept at a time.
const KEPT: usize = 48;
/// How many rules that covered others alone are tried first.
const HOT: usize = 3;

/// How a list is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reading {
    /// The first rule that matches decides.
    FirstMatch,
    /// Any rule that matches admits. A rule stands for another if its decision is not lower: keeping state is below keeping none.
    AnyMatch,
}

/// Whether others take all of a rule.
#[derive(Clone, Debug, PartialEq)]
pub enum Covered<N> {
    /// No: nobody takes this packet.
    Open(Point<N>),
    /// Yes, by this rule alone.
    ByOne(u32),
    /// Yes, by these together; it may be that some can be left out. See [`Prover::needed`].
    ByMany(Vec<u32>),
    /// Yes: it lies in what an earlier proof showed to be covered; see [`Prover::lemma`].
    InLemma(u32),
    /// The proof took too many steps.
    Undecided,
}

impl<N> Covered<N> {
    /// Whether others take all of it.
    pub fn is_covered(&self) -> bool {
        matches!(self, Self::ByOne(_) | Self::ByMany(_) | Self::InLemma(_))
    }
}

/// A set of packets that is covered, and by which rules.
struct Lemma<N: Coordinate> {
    hull: Hull<N>,
    region: Region<N>,
    /// The rules that were used, ascending.
    covers: Vec<u32>,
    used: u64,
}

/// Which rules of a list may take packets: some positions, some decisions, all but one.
#[derive(Clone, Copy)]
pub(super) struct Takers {
    pub rules: (u32, u32),
    pub without: u32,
    pub decisions: u32,
}

/// What is asked about a list, one rule after the other.
pub struct Prover<'l, N: Coordinate> {
    pub(super) list: &'l List<N>,
    reading: Reading,
    pub(super) scratch: Scratch,
    lemmas: Vec<Lemma<N>>,
    /// The lemmas that are tried.
    active: Vec<u32>,
    /// Packets that were hard to find, and the position before which nobody takes them.
    hard: Vec<(Point<N>, u32)>,
    /// Parts of rules that lately covered others alone.
    hot: Vec<(Hull<N>, u32)>,
    pub(super) gone: Option<Vec<bool>>,
    /// Of the last proof: for each rule that was used the packet for which it was.
    picks: Vec<Point<N>>,
    /// Memory that is used again.
    pub(super) parts: Vec<u32>,
    pub(super) steps: u32,
    clock: u64,
}

impl<'l, N: Coordinate> Prover<'l, N> {
    /// Nothing is known yet.
    pub fn new(list: &'l List<N>, reading: Reading) -> Self {
        Self {
            list,
            reading,
            scratch: list.scratch(),
            lemmas: Vec::new(),
            active: Vec::new(),
            hard: Vec::new(),
            hot: Vec::new(),
            gone: None,
            picks: Vec::new(),
            parts: Vec::new(),
            steps: 0,
            clock: 0,
        }
    }

    /// From now on a rule is as if it were not there.
    pub fn remove(&mut self, rule: u32) {
        self.gone
            .get_or_insert_with(|| vec![false; self.list.len()])[rule as usize] = true;
        // What was shown may have used it.
        self.active.clear();
    }

    /// A removed rule is there again.
    pub fn restore(&mut self, rule: u32) {
        if let Some(gone) = &mut self.gone {
            gone[rule as usize] = false;
        }
        // It may take packets that nobody took.
        self.hard.clear();
    }

    /// How many rules the list has.
    pub(super) fn count(&self) -> u32 {
        u32::try_from(self.list.len()).unwrap_or(NOBODY)
    }

    /// The rules that may stand for one.
    fn others(&self, rule: u32) -> Takers {
        match self.reading {
            Reading::FirstMatch => Takers {
                rules: (0, rule),
                without: rule,
                decisions: EVERY_DECISION,
            },
            Reading::AnyMatch => {
                let own = self.decision(rule).min(31);
                Takers {
                    rules: (0, self.count()),
                    without: rule,
                    decisions: EVERY_DECISION << own,
                }
            }
        }
    }

    /// What a rule decides; 0 if it matches nothing.
    pub fn decision(&self, rule: u32) -> u16 {
        self.list
            .parts(rule)
            .next()
            .map_or(0, |part| self.list.entry(part).decision)
    }

    /// What a rule may match: products, perhaps none.
    pub fn subject(&self, rule: u32) -> impl Iterator<Item = Product<'l, N>> + use<'l, N> {
        let list = self.list;
        list.parts(rule)
            .filter(|part| list.entry(*part).reaches())
            .map(|part| list.product(part))
    }

    pub(super) fn regions(&self, rule: u32) -> Vec<Region<N>> {
        self.subject(rule)
            .map(|product| Region::of(&product))
            .collect()
    }

    /// The rules that were used for a lemma, ascending.
    pub fn lemma(&self, number: u32) -> &[u32] {
        &self.lemmas[number as usize].covers
    }

    /// Whether earlier rules take all of a rule; of a union, others.
    pub fn covered(&mut self, rule: u32) -> Covered<N> {
        self.steps = 0;
        let takers = self.others(rule);
        let mut subject = self.subject(rule);
        let Some(first) = subject.next() else {
            return Covered::ByMany(Vec::new());
        };
        let mut stack: Vec<Region<N>> = subject.map(|product| Region::of(&product)).collect();
        let alone = stack.is_empty();
        if alone && let Some(settled) = self.glance(&first, takers) {
            return settled;
        }
        stack.push(Region::of(&first));
        let result = self.prove(stack, takers);
        if self.steps >= self.list.limits.lemma {
            match &result {
                Covered::Open(point) => self.keep_packet(*point, takers),
                Covered::ByMany(used) if alone && self.reading == Reading::FirstMatch => {
                    self.keep_lemma(&first, used, takers)
                }
                _ => {}
            }
        }
        result
    }

    /// Whether all other rules together, earlier and later, take all of a rule.
    pub fn covered_by_all(&mut self, rule: u32) -> Covered<N> {
        self.steps = 0;
        let takers = Takers {
            rules: (0, self.count()),
            without: rule,
            decisions: EVERY_DECISION,
        };
        self.prove(self.regions(rule), takers)
    }

    /// The first earlier rule that takes a packet for certain.
    pub fn first_taker(&mut self, rule: u32, point: Point<N>) -> Option<u32> {
        let own = self.decision(rule);
        self.first_match(point, (0, rule), own, false)
            .map(|(part, _)| self.list.entry(part).rule)
    }

    /// What a few packets and earlier proofs tell about a rule.
    fn glance(&mut self, product: &Product<'_, N>, takers: Takers) -> Option<Covered<N>> {
        let own = hull(product);
        let first_match = self.reading == Reading::FirstMatch;
        if first_match && let Some(known) = self.remembered(product, &own, takers) {
            return Some(known);
        }
        let part = self.list.parts(takers.without).next();
        for (turn, point) in [product.low(), high_of(product)].into_iter().enumerate() {
            if turn == 1
                && first_match
                && let Some(point) = self.hard_packet(product, takers)
            {
                return Some(Covered::Open(point));
            }
            match self.taker(point, part, product, takers) {
                None => return Some(Covered::Open(point)),
                Some((part, true)) => {
                    if self.hot.len() >= HOT {
                        self.hot.remove(0);
                    }
                    self.hot.push((hull(&self.list.product(part)), part));
                    return Some(Covered::ByOne(self.list.entry(part).rule));
                }
                Some(_) => {}
            }
        }
        None
    }

    /// What earlier proofs tell about a rule of a first-match list.
    fn remembered(
        &mut self,
        product: &Product<'_, N>,
        own: &Hull<N>,
        takers: Takers,
    ) -> Option<Covered<N>> {
        let list = self.list;
        let within = |lemma: &Lemma<N>| {
            lemma.hull.holds(own)
                && lemma
                    .covers
                    .last()
                    .is_none_or(|last| *last < takers.rules.1)
                && lemma.region.product().holds(product)
        };
        if let Some(number) = self
            .active
            .iter()
            .copied()
            .find(|number| within(&self.lemmas[*number as usize]))
        {
            self.clock += 1;
            self.lemmas[number as usize].used = self.clock;
            return Some(Covered::InLemma(number));
        }
        let gone = self.gone.as_deref();
        let holds = |(hull, part): &&(Hull<N>, u32)| {
            let rule = list.entry(*part).rule;
            hull.holds(own)
                && rule < takers.rules.1
                && gone.is_none_or(|gone| !gone[rule as usize])
                && list.product(*part).holds(product)
        };
        self.hot
            .iter()
            .rfind(holds)
            .map(|(_, part)| Covered::ByOne(list.entry(*part).rule))
    }

    /// A packet of a rule that was hard to find, if still nobody takes it.
    fn hard_packet(&mut self, product: &Product<'_, N>, takers: Takers) -> Option<Point<N>> {
        let list = self.list;
        let gone = self.gone.as_deref();
        let mut at = 0;
        while at < self.hard.len() {
            let (point, before) = self.hard[at];
            if !product.has(point) {
                at += 1;
                continue;
            }
            if before >= takers.rules.1 {
                return Some(point);
            }
            let is_there = |rule: u32| gone.is_none_or(|gone| !gone[rule as usize]);
            let takes = |part: u32| list.entry(part).takes() && list.product(part).has(point);
            if (before..takers.rules.1).any(|rule| is_there(rule) && list.parts(rule).any(takes)) {
                self.hard.remove(at);
                continue;
            }
            self.hard[at].1 = takers.rules.1;
            return Some(point);
        }
        None
    }

    /// The part of a rule that takes a packet and most of what is around it, and whether it takes that whole.
    pub(super) fn taker(
        &mut self,
        point: Point<N>,
        near: Option<u32>,
        around: &Product<'_, N>,
        takers: Takers,
    ) -> Option<(u32, bool)> {
        const ENOUGH: u32 = 64;
        const COMPARED: u32 = 12;
        let list = self.list;
        let mut best: Option<(u32, bool)> = None;
        let (mut most, mut seen) = (-1.0, 0);
        let window = window(takers, self.gone.as_deref());
        if let Some(part) = list.first_of_many(point, &window, Entry::takes) {
            return Some((part, list.product(part).holds(around)));
        }
        let _ = list.at(point, near, &window, &mut self.scratch, |part| {
            if !list.entry(part).takes() {
                return ControlFlow::Continue(());
            }
            let product = list.product(part);
            if product.holds(around) {
                best = Some((part, true));
                return ControlFlow::Break(());
            }
            if seen < COMPARED {
                let shared = Region::shared(around, &product);
                if shared > most {
                    (best, most) = (Some((part, false)), shared);
                }
            }
            seen += 1;
            if seen < ENOUGH {
                ControlFlow::Continue(())
            } else {
                ControlFlow::Break(())
            }
        });
        best
    }

    /// Cuts off what rules take until nothing is left, or a packet that nobody takes.
    pub(super) fn prove(&mut self, mut stack: Vec<Region<N>>, takers: Takers) -> Covered<N> {
        let mut used: Vec<u32> = Vec::new();
        let mut known = FxHashSet::default();
        self.picks.clear();
        while let Some(region) = stack.pop() {
            self.steps += 1;
            if self.steps > self.list.limits.steps {
                return Covered::Undecided;
            }
            let point = region.low();
            let Some((part, _)) = self.taker(point, None, &region.product(), takers) else {
                return Covered::Open(point);
            };
            let rule = self.list.entry(part).rule;
            if known.insert(rule) {
                used.push(rule);
                self.picks.push(point);
            }
            region.minus(&self.list.product(part), &mut stack);
        }
        if let [one] = used.as_slice() {
            Covered::ByOne(*one)
        } else {
            Covered::ByMany(used)
        }
    }

    fn keep_packet(&mut self, point: Point<N>, takers: Takers) {
        if self.hard.iter().any(|(known, _)| *known == point) {
            return;
        }
        if self.hard.len() >= KEPT {
            self.hard.remove(0);
        }
        self.hard.push((point, takers.rules.1));
    }

    /// Keeps what was shown to be covered, as far as it can be widened.
    fn keep_lemma(&mut self, product: &Product<'_, N>, used: &[u32], takers: Takers) {
        const TRIES: usize = 10;
        let spent = self.steps;
        let mut wide = hull(product);
        for rule in used {
            for part in self.list.parts(*rule) {
                wide.join(&self.list.product(part));
            }
        }
        let core = hull(product);
        let mut proven = (Region::of(product), used.to_vec());
        for _ in 0..TRIES {
            // A bounded number of steps, whatever the limit of proofs is.
            let limit = self.list.limits.steps;
            self.steps = limit.saturating_sub(8 * spent.max(4_096));
            match self.prove(vec![wide.region()], takers) {
                Covered::ByMany(covers) => {
                    proven = (wide.region(), covers);
                    break;
                }
                Covered::ByOne(cover) => {
                    proven = (wide.region(), vec![cover]);
                    break;
                }
                Covered::Open(point) => {
                    self.keep_packet(point, takers);
                    if !wide.cut(point, &core) {
                        break;
                    }
                }
                Covered::InLemma(_) | Covered::Undecided => break,
            }
        }
        let (mut region, mut covers) = proven;
        if let Some(hull) = single(&region.product()) {
            region = self.grown(hull, &mut covers, takers, spent);
        }
        self.steps = spent;
        covers.sort_unstable();
        covers.dedup();
        self.clock += 1;
        if self.active.len() >= KEPT {
            let lemmas = &self.lemmas;
            let oldest = (0..self.active.len())
                .min_by_key(|at| lemmas[self.active[*at] as usize].used)
                .unwrap_or(0);
            self.active.remove(oldest);
        }
        self.active.push(narrow(self.lemmas.len()));
        self.lemmas.push(Lemma {
            hull: hull(&region.product()),
            region,
            covers,
            used: self.clock,
        });
    }
}

pub(super) fn window(takers: Takers, gone: Option<&[bool]>) -> Window<'_> {
    Window {
        rules: takers.rules,
        without: takers.without,
        decisions: takers.decisions,
        gone,
    }
}
