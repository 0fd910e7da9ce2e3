//! Which of many covers are needed, and who takes what.

use super::*;

impl<'l, N: Coordinate> Prover<'l, N> {
    /// Something covered, pushed out on each side for as long as what is added is covered too.
    pub(super) fn grown(
        &mut self,
        mut hull: Hull<N>,
        covers: &mut Vec<u32>,
        takers: Takers,
        spent: u32,
    ) -> Region<N> {
        const TRIES: u32 = 32;
        let limit = self.list.limits.steps;
        self.steps = limit.saturating_sub(8 * spent.max(4_096));
        for side in 0..8 {
            let mut wide = hull.width(side);
            for _ in 0..TRIES {
                let Some((slab, next)) = hull.beyond(side, wide) else {
                    break;
                };
                match self.prove(vec![slab.region()], takers) {
                    Covered::ByOne(one) => covers.push(one),
                    Covered::ByMany(used) => covers.extend(used),
                    _ if wide > 1 => {
                        wide = (wide / 4).max(1);
                        continue;
                    }
                    _ => break,
                }
                hull = next;
                wide = wide.saturating_mul(2);
            }
        }
        hull.region()
    }

    /// The rules that cover one, none of which can be left out; none if they do not.
    pub fn covers(&mut self, rule: u32) -> Option<Vec<u32>> {
        let takers = self.others(rule);
        self.steps = 0;
        let regions = self.regions(rule);
        match self.prove(regions, takers) {
            Covered::ByOne(one) => Some(vec![one]),
            Covered::ByMany(used) => Some(self.needed(rule, used)),
            _ => None,
        }
    }

    /// Of rules that together cover one, so many that none of them can be left out.
    pub fn needed(&mut self, rule: u32, used: Vec<u32>) -> Vec<u32> {
        if used.len() < 2 {
            return used;
        }
        let mut rules = Rules::new();
        for other in &used {
            rules.next_rule();
            for part in self
                .list
                .parts(*other)
                .filter(|part| self.list.entry(*part).takes())
            {
                rules.add(Part::Whole, 0, &self.list.product(part));
            }
        }
        let few = List::new(rules, self.list.limits);
        let mut prover = Prover::new(&few, Reading::AnyMatch);
        let takers = |without| Takers {
            rules: (0, narrow(used.len())),
            without,
            decisions: EVERY_DECISION,
        };
        // Packets for which a rule was used are tried first: mostly it alone takes them.
        let mut single: Vec<Option<Point<N>>> = vec![None; used.len()];
        if let Covered::ByMany(again) = prover.prove(self.regions(rule), takers(NOBODY)) {
            again
                .iter()
                .zip(&prover.picks)
                .for_each(|(at, pick)| single[*at as usize] = Some(*pick));
        }
        let regions = self.regions(rule);
        let mut left = Vec::new();
        for at in (0..used.len()).rev() {
            let at = narrow(at);
            prover.steps = 0;
            let open = single[at as usize].is_some_and(|point| {
                let around = Region::at(point);
                prover
                    .taker(point, None, &around.product(), takers(at))
                    .is_none()
            });
            // What it does not reach the others take anyway.
            let reached = few.parts(at).flat_map(|part| {
                let product = few.product(part);
                regions
                    .iter()
                    .filter_map(move |region| region.meet(&product))
            });
            if !open && prover.prove(reached.collect(), takers(at)).is_covered() {
                prover.remove(at);
                continue;
            }
            left.push(used[at as usize]);
        }
        left.reverse();
        left
    }

    /// The first of some rules that matches a packet and settles it: for certain and alike, or otherwise (perhaps, if
    /// that counts); and whether it is otherwise.
    pub(in crate::cover) fn first_match(
        &mut self,
        point: Point<N>,
        rules: (u32, u32),
        own: u16,
        perhaps: bool,
    ) -> Option<(u32, bool)> {
        let list = self.list;
        let mut first: Option<(u32, u32, bool)> = None;
        let takers = Takers {
            rules,
            without: NOBODY,
            decisions: EVERY_DECISION,
        };
        let window = window(takers, self.gone.as_deref());
        let counts = |entry: &Entry| {
            if entry.decision != own && perhaps {
                entry.reaches()
            } else {
                entry.takes()
            }
        };
        if let Some(part) = list.first_of_many(point, &window, counts) {
            return Some((part, list.entry(part).decision != own));
        }
        let _ = list.at(point, None, &window, &mut self.scratch, |part| {
            let entry = list.entry(part);
            let otherwise = entry.decision != own;
            if counts(entry) && first.is_none_or(|(rule, ..)| entry.rule < rule) {
                first = Some((entry.rule, part, otherwise));
            }
            ControlFlow::Continue(())
        });
        first.map(|(_, part, otherwise)| (part, otherwise))
    }

    /// The rules that take packets of a rule first, in their order, and whether these are all: earlier ones, or those to
    /// which its packets come once it is gone.
    pub fn takers(&mut self, rule: u32, after: bool) -> (Vec<u32>, bool) {
        const PIECES: usize = 20_000;
        let list = self.list;
        let rules = match (after, self.reading) {
            (false, Reading::FirstMatch) => (0, rule),
            _ => (0, self.count()),
        };
        let mut rest = self.regions(rule);
        let mut parts: Vec<(u32, u32)> = Vec::new();
        let window = window(
            Takers {
                rules,
                without: rule,
                decisions: EVERY_DECISION,
            },
            self.gone.as_deref(),
        );
        for region in &rest {
            let _ = list.meeting(&region.product(), &window, &mut self.scratch, |part| {
                if list.entry(part).takes() {
                    parts.push((list.entry(part).rule, part));
                }
                ControlFlow::Continue(())
            });
        }
        parts.sort_unstable();
        parts.dedup();
        let mut found: Vec<u32> = Vec::new();
        let mut next = Vec::new();
        for (other, part) in parts {
            if rest.is_empty() {
                break;
            }
            if rest.len() > PIECES {
                return (found, false);
            }
            let product = list.product(part);
            let mut takes = false;
            for region in rest.drain(..) {
                if region.product().meets(&product) {
                    takes = true;
                    region.minus(&product, &mut next);
                } else {
                    next.push(region);
                }
            }
            std::mem::swap(&mut rest, &mut next);
            if takes && (!after || other > rule) && found.last() != Some(&other) {
                found.push(other);
            }
        }
        (found, true)
    }
}
