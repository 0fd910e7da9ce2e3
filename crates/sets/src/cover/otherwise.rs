//! What is decided otherwise: by an earlier rule today, or by later ones if a rule goes.
//!
//! A rule that decides otherwise matters as far as nobody before it takes what it has in common with the asked rule: that
//! is one proof for each such pair, and none for pairs behind the first rule that does the same as the asked one.

use super::list::bit;
use super::prove::{Covered, EVERY_DECISION, Prover, Takers, window};
use super::region::Region;
use super::rules::{Point, Product};
use super::spans::Coordinate;
use std::ops::ControlFlow;

/// What taking a rule away does.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Removal<N> {
    /// This packet would be decided otherwise.
    Changes(Point<N>),
    /// Nothing: other rules do the same.
    Nothing,
    /// Nothing: the list's default does the same, for some packets.
    NothingByDefault,
    /// The proof took too many steps.
    Undecided,
}

/// Whether some packet is decided otherwise.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Differs<N> {
    /// This one is.
    By(Point<N>),
    /// None is.
    No,
    /// The proof took too many steps.
    Undecided,
}

impl<N: Coordinate> Prover<'_, N> {
    /// Whether an earlier rule takes some packet of a rule, among some packets, and decides it otherwise than the rule would.
    pub fn taken_otherwise(&mut self, rule: u32, within: &Product<'_, N>) -> Differs<N> {
        self.steps = 0;
        let regions = self
            .regions(rule)
            .into_iter()
            .filter_map(|region| region.meet(within))
            .collect();
        self.differing(
            regions,
            rule,
            &Among {
                rules: (0, rule),
                seen_only: false,
                perhaps: false,
                rest_alike: true,
            },
            None,
        )
    }

    /// What taking away a rule does to a first-match list. `seen`: a packet that no earlier rule takes, if one is known.
    pub fn removal(
        &mut self,
        rule: u32,
        default: Option<u16>,
        seen: Option<Point<N>>,
    ) -> Removal<N> {
        self.steps = 0;
        let own = self.decision(rule);
        let alike = default == Some(own);
        let later = (rule + 1, self.count());
        let regions = self.regions(rule);
        let among = Among {
            rules: later,
            seen_only: true,
            perhaps: true,
            rest_alike: alike,
        };
        match self.differing(regions, rule, &among, seen) {
            Differs::By(point) => Removal::Changes(point),
            Differs::Undecided => Removal::Undecided,
            Differs::No if !alike => Removal::Nothing,
            Differs::No => {
                let takers = Takers {
                    rules: (0, self.count()),
                    without: rule,
                    decisions: EVERY_DECISION,
                };
                match self.prove(self.regions(rule), takers) {
                    Covered::Open(_) => Removal::NothingByDefault,
                    Covered::Undecided => Removal::Undecided,
                    _ => Removal::Nothing,
                }
            }
        }
    }

    /// Whether some packet is first matched, among some rules, by one that decides otherwise than `rule`. `seen`: a packet that
    /// is not.
    fn differing(
        &mut self,
        mut open: Vec<Region<N>>,
        rule: u32,
        among: &Among,
        seen: Option<Point<N>>,
    ) -> Differs<N> {
        /// How often the first rule that matches a packet may end the search for others behind it.
        const SPLITS: u32 = 8;
        let list = self.list;
        let own = self.decision(rule);
        let earlier = Takers {
            rules: (0, rule),
            without: rule,
            decisions: EVERY_DECISION,
        };
        let mut splits = 0;
        while let Some(region) = open.pop() {
            if among.seen_only && splits < SPLITS {
                splits += 1;
                let known = seen.filter(|point| region.product().has(*point));
                let point = known.unwrap_or_else(|| region.low());
                if known.is_none()
                    && let Some((part, _)) = self.taker(point, None, &region.product(), earlier)
                {
                    region.minus(&list.product(part), &mut open);
                    continue;
                }
                match self.first_match(point, among.rules, own, among.perhaps) {
                    Some((_, true)) => return Differs::By(point),
                    Some((first, false)) => {
                        let product = list.product(first);
                        if let Some(inside) = region.meet(&product) {
                            let before = (among.rules.0, list.entry(first).rule);
                            match self.opposed(&inside, rule, before, among) {
                                Differs::No => {}
                                found => return found,
                            }
                        }
                        region.minus(&product, &mut open);
                        continue;
                    }
                    None if !among.rest_alike => return Differs::By(point),
                    None => {}
                }
            }
            match self.opposed(&region, rule, among.rules, among) {
                Differs::No => {}
                found => return found,
            }
            if !among.rest_alike {
                // Nobody decides otherwise, but the default does: everything must be taken before.
                let all = Takers {
                    rules: (0, among.rules.1),
                    without: rule,
                    decisions: EVERY_DECISION,
                };
                match self.prove(vec![region], all) {
                    Covered::Open(point) => return Differs::By(point),
                    Covered::Undecided => return Differs::Undecided,
                    _ => {}
                }
            }
        }
        Differs::No
    }

    /// Whether some packet of a region comes to one of some rules that decides otherwise than `rule`: whether what it has in
    /// common with one of these is not all taken before.
    fn opposed(
        &mut self,
        region: &Region<N>,
        rule: u32,
        rules: (u32, u32),
        among: &Among,
    ) -> Differs<N> {
        let list = self.list;
        let own = self.decision(rule);
        let opposite = if own < 31 { !bit(own) } else { EVERY_DECISION };
        let mut tried = 0;
        for most in [list.limits.tried, usize::MAX] {
            let mut parts = std::mem::take(&mut self.parts);
            parts.clear();
            let window = window(
                Takers {
                    rules,
                    without: rule,
                    decisions: opposite,
                },
                self.gone.as_deref(),
            );
            let _ = list.meeting(&region.product(), &window, &mut self.scratch, |part| {
                let entry = list.entry(part);
                let counts = if among.perhaps {
                    entry.reaches()
                } else {
                    entry.takes()
                };
                if entry.decision == own || !counts {
                    return ControlFlow::Continue(());
                }
                parts.push(part);
                if parts.len() < most {
                    ControlFlow::Continue(())
                } else {
                    ControlFlow::Break(())
                }
            });
            let mut result = Differs::No;
            for part in parts.iter().skip(tried) {
                self.steps += 1;
                let from = if among.seen_only { 0 } else { among.rules.0 };
                let takers = Takers {
                    rules: (from, list.entry(*part).rule),
                    without: rule,
                    decisions: EVERY_DECISION,
                };
                let Some(piece) = region.meet(&list.product(*part)) else {
                    continue;
                };
                match self.prove(vec![piece], takers) {
                    Covered::Open(point) => result = Differs::By(point),
                    Covered::Undecided => result = Differs::Undecided,
                    _ => continue,
                }
                break;
            }
            tried = parts.len();
            self.parts = parts;
            if result != Differs::No || tried < most {
                return result;
            }
        }
        Differs::No
    }
}

/// Among which rules somebody is looked for who decides otherwise.
struct Among {
    rules: (u32, u32),
    /// Only packets count that no rule before the asked one takes.
    seen_only: bool,
    /// What a rule matches perhaps counts as decided otherwise.
    perhaps: bool,
    /// Packets that none of them matches are decided alike.
    rest_alike: bool,
}
