//! Chains of a packet filter with jumps, and what they decide: a list of products with one action each, of which the first that
//! matches counts.
//!
//! A chain is followed with the set of packets that come to it. Packets that no line of it decides fall to the lines that come after
//! in the list, so that only what leaves a chain early (`return`, `goto`, an `accept` with another hook behind it) needs the rest
//! of its way listed a second time.

mod follow;
mod marks;
mod replies;

use follow::Follow;
pub(crate) use follow::{Entry, Refused};
use marks::{Carried, Mark};
pub(crate) use marks::{Change, Effect, Known, Marked};
pub(crate) use replies::{ByState, with_replies, without_idle_copies};

use crate::open::condition::{Condition, Devices, invalid, minus, one_way, tracked, untracked};
use crate::open::rules::{Label, NotUnderstood};
use heronshale_model::estate::Action;
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::packet::service;
use std::net::IpAddr;
use std::rc::Rc;

/// A rule set that comes to more entries than this is refused.
pub(crate) const MOST_ENTRIES: usize = 200_000;
/// Why a test may hold or not.
const STATE: &str = "the state of the connection";
/// Chains that call each other deeper than this are refused; the kernel allows 16.
const DEEPEST: usize = 64;

/// Where in a packet's way through the machine.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Hook {
    Prerouting,
    Input,
    Forward,
    Output,
    Postrouting,
}

/// Something that has to hold for a line to match.
#[derive(Clone, Debug)]
pub(crate) enum Test {
    /// One of these.
    Any(Vec<Condition>),
    /// What conntrack knows.
    State(ByState),
    /// Some bits of a mark have one of some values, or have none of them.
    Mark {
        of: Marked,
        bits: u32,
        values: Vec<(u32, u32)>,
        negated: bool,
    },
    /// Whether the source, or the destination, was translated before.
    Translated { source: bool, negated: bool },
}

/// What a line does with what it matches.
#[derive(Clone, Debug)]
pub(crate) enum Outcome {
    Accept,
    Drop,
    Reject,
    Jump(usize),
    Goto(usize),
    Return,
    /// Nobody knows what becomes of it.
    Unclear(String),
    /// It goes on to the next line.
    Next,
    /// Translation, which ends the chain.
    Translate(Translation),
}

/// How a packet is changed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Translation {
    pub to: Option<IpAddr>,
    pub port: Option<u16>,
    /// Whether the source changes, else the destination.
    pub source: bool,
}

/// A rule as written, or an element of its verdict map.
#[derive(Clone, Debug)]
pub(crate) struct Line {
    pub tests: Vec<Test>,
    /// What is done before the outcome.
    pub effects: Vec<Effect>,
    pub outcome: Outcome,
    pub label: Rc<Label>,
}

#[derive(Debug, Default)]
pub(crate) struct Chain {
    pub lines: Vec<Line>,
}

/// A chain that packets come to by themselves.
#[derive(Clone, Debug)]
pub(crate) struct Base {
    pub hook: Hook,
    pub chain: usize,
    pub priority: i64,
    /// Whether it translates.
    pub translates: bool,
    /// Which packets come to it; none for all.
    pub only: Option<Condition>,
    pub policy: Action,
    pub label: Rc<Label>,
}

/// All that a machine filters with.
#[derive(Debug, Default)]
pub(crate) struct Rules {
    pub chains: Vec<Chain>,
    pub bases: Vec<Base>,
    pub devices: Devices,
}

/// What becomes of packets.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Fate {
    Ends(Action),
    Translated(Translation),
}

impl Rules {
    /// Nobody knows what becomes of packets of a family.
    pub fn unclear(&mut self, family: Family, why: &str) {
        for hook in [Hook::Input, Hook::Forward, Hook::Output] {
            let label = Rc::new(Label {
                id: "not-given".to_owned(),
                at: (0, 0),
                comment: Some(why.to_owned()),
            });
            let outcome = Outcome::Unclear(why.to_owned());
            let line = Line {
                tests: Vec::new(),
                effects: Vec::new(),
                outcome,
                label: label.clone(),
            };
            let only = Some(Condition::of_family(family));
            let chain = self.chains.len();
            self.chains.push(Chain { lines: vec![line] });
            self.bases.push(Base {
                hook,
                chain,
                priority: 0,
                translates: false,
                only,
                policy: Action::Allow,
                label,
            });
        }
    }

    /// The base chains of some hooks, in the order in which packets come to them.
    fn bases(&self, hooks: &[Hook], translates: bool) -> Vec<&Base> {
        let mut bases: Vec<&Base> = self
            .bases
            .iter()
            .filter(|base| hooks.contains(&base.hook) && base.translates == translates)
            .collect();
        bases.sort_by_key(|base| (base.hook, base.priority));
        // One that lets everything through decides nothing.
        bases.retain(|base| {
            translates || base.policy != Action::Allow || !self.chains[base.chain].lines.is_empty()
        });
        bases
    }

    /// What the filters of some hooks decide about packets; complete: the last entry takes what is left.
    pub fn decided(
        &self,
        hooks: &[Hook],
        known: Known,
        start: &Condition,
    ) -> Result<Vec<Entry>, Refused> {
        self.followed(&self.bases(hooks, false), hooks, known, start)
    }

    fn followed(
        &self,
        bases: &[&Base],
        hooks: &[Hook],
        known: Known,
        start: &Condition,
    ) -> Result<Vec<Entry>, Refused> {
        let translates = bases.first().is_some_and(|base| base.translates);
        let mut follow = Follow {
            rules: self,
            known,
            found: Vec::new(),
            flags: self
                .lines()
                .flat_map(|line| &line.tests)
                .any(|test| matches!(test, Test::State(holds) if holds.of_packet)),
            disturbed: self.bits_marked(!translates),
            translated: [self.lead_to(true), self.lead_to(false)],
        };
        // What the machine sends may bear a mark of the program that sent it, and a reply that of its connection.
        let own = hooks.contains(&Hook::Output) && !hooks.contains(&Hook::Forward);
        let carried = Carried {
            packet: if own { Mark::UNKNOWN } else { Mark::NONE },
            connection: if known == Known::New {
                Mark::NONE
            } else {
                Mark::UNKNOWN
            },
            untracked: false,
        };
        let label = Rc::new(Label {
            id: "no-chain".to_owned(),
            ..Label::default()
        });
        follow.bases(bases, start, carried, &label)?;
        if !translates {
            return Ok(follow.found);
        }
        // What conntrack does not look at is not translated.
        let mut found = Vec::new();
        let spared = self.untracked();
        for entry in follow.found {
            let perhaps = spared
                .iter()
                .map(|one| one.and(&entry.condition))
                .filter(|one| !one.is_empty());
            let perhaps =
                perhaps.map(|one| one.and(&Condition::unknown("whether conntrack looks at it")));
            let perhaps: Vec<Condition> = perhaps.collect();
            let rest = spared.iter().fold(vec![entry.condition.clone()], minus);
            found.extend(perhaps.into_iter().chain(rest).map(|condition| Entry {
                condition,
                ..entry.clone()
            }));
        }
        Ok(found)
    }

    fn lines(&self) -> impl Iterator<Item = &Line> {
        self.chains.iter().flat_map(|chain| &chain.lines)
    }

    /// What lines may take out of conntrack's sight, at most.
    fn untracked(&self) -> Vec<Condition> {
        let lines = self.lines().filter(|line| {
            line.effects
                .iter()
                .any(|effect| matches!(effect, Effect::Untrack))
        });
        let mut found = Vec::new();
        for line in lines {
            let mut pieces = vec![Condition::all()];
            for test in &line.tests {
                if let Test::Any(any) = test {
                    pieces = pieces
                        .iter()
                        .flat_map(|one| any.iter().map(|piece| one.and(piece)))
                        .collect();
                }
            }
            found.extend(pieces.into_iter().map(|one| Condition {
                unknown: std::collections::BTreeSet::new(),
                ..one
            }));
        }
        found
    }

    /// The bits of marks that chains set, of those that translate or of the others.
    fn bits_marked(&self, translating: bool) -> u32 {
        let mut open: Vec<usize> = self
            .bases
            .iter()
            .filter(|base| base.translates == translating)
            .map(|base| base.chain)
            .collect();
        let (mut seen, mut bits) = (std::collections::BTreeSet::new(), 0);
        while let Some(chain) = open.pop() {
            if !seen.insert(chain) {
                continue;
            }
            for line in &self.chains[chain].lines {
                if let Outcome::Jump(to) | Outcome::Goto(to) = line.outcome {
                    open.push(to);
                }
                for effect in &line.effects {
                    if let Effect::Mark(
                        _,
                        Change::Set { bits: more, .. }
                        | Change::Other { bits: more }
                        | Change::Unknown { bits: more },
                    ) = effect
                    {
                        bits |= more;
                    }
                }
            }
        }
        bits
    }

    /// The rules that decide or change something, by their names: those to which packets come at all, and that do more than look.
    pub fn acting(&self) -> std::collections::BTreeSet<&str> {
        let mut idle: Vec<bool> = self
            .chains
            .iter()
            .map(|chain| chain.lines.is_empty())
            .collect();
        loop {
            let looks = |line: &Line, idle: &[bool]| {
                line.effects.is_empty()
                    && match line.outcome {
                        Outcome::Jump(to) => idle[to],
                        Outcome::Next => true,
                        _ => false,
                    }
            };
            let next: Vec<bool> = self
                .chains
                .iter()
                .map(|chain| chain.lines.iter().all(|line| looks(line, &idle)))
                .collect();
            if next == idle {
                break;
            }
            idle = next;
        }
        let mut open: Vec<usize> = self.bases.iter().map(|base| base.chain).collect();
        let (mut seen, mut found) = (
            std::collections::BTreeSet::new(),
            std::collections::BTreeSet::new(),
        );
        while let Some(chain) = open.pop() {
            if !seen.insert(chain) {
                continue;
            }
            for line in &self.chains[chain].lines {
                if let Outcome::Jump(to) | Outcome::Goto(to) = line.outcome {
                    if idle[to]
                        && line.effects.is_empty()
                        && matches!(line.outcome, Outcome::Jump(_))
                    {
                        continue;
                    }
                    open.push(to);
                }
                found.insert(line.label.id.as_str());
            }
        }
        found
    }

    /// Tests of marks and of translations that are not sure, with why.
    pub fn open_tests(&self) -> Vec<NotUnderstood> {
        let (marks, disturbed) = (self.marks(), self.bits_marked(true));
        let why = |test: &Test| match test {
            Test::Mark { .. } if !marks => Some("a mark that nothing here sets"),
            Test::Mark { bits, .. } if bits & disturbed != 0 => {
                Some("a mark that is set where packets are translated")
            }
            Test::Translated { source, .. } if !self.lead_to(!source).is_empty() => {
                Some("whether it was translated before")
            }
            _ => None,
        };
        let of_line = |line: &Line| {
            let whys: Vec<&str> = line.tests.iter().filter_map(why).collect();
            whys.into_iter()
                .map(|why| NotUnderstood {
                    rule: line.label.id.clone(),
                    why: why.to_owned(),
                    at: line.label.at,
                })
                .collect::<Vec<_>>()
        };
        self.lines().flat_map(of_line).collect()
    }

    /// Whether any line sets a mark: else marks come from elsewhere.
    fn marks(&self) -> bool {
        self.lines()
            .flat_map(|line| &line.effects)
            .any(|effect| matches!(effect, Effect::Mark(..)))
    }

    /// Which packets may have been translated, by what they look like afterwards.
    fn lead_to(&self, destination: bool) -> Vec<Condition> {
        let mut found: Vec<Condition> = Vec::new();
        for line in self.lines() {
            let one = match &line.outcome {
                Outcome::Translate(how) if how.source != destination => {
                    let mut there = Condition::all();
                    if let Some(to) = how.to.filter(|_| destination) {
                        there.destination = Addresses::single(to);
                    }
                    there
                }
                Outcome::Unclear(_) => Condition::all(),
                _ => continue,
            };
            let one = one.and(&Condition::unknown("whether it was translated before"));
            if !found.contains(&one) {
                found.push(one);
            }
        }
        found
    }

    /// How new packets are translated at a hook, by the first chain that does.
    pub fn translated(&self, hook: Hook, start: &Condition) -> Result<Vec<Entry>, Refused> {
        self.followed(&self.bases(&[hook], true), &[hook], Known::New, start)
    }
}
