//! Chains of a packet filter with jumps, and what they decide: a list of products with one action each, of which the first that
//! matches counts.
//!
//! A chain is followed with the set of packets that come to it. Packets that no line of it decides fall to the lines that come after
//! in the list, so that only what leaves a chain early (`return`, `goto`, an `accept` with another hook behind it) needs the rest
//! of its way listed a second time.

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

/// A packet's own mark, or that of its connection.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Marked {
    Packet,
    Connection,
}

/// What a line does to a packet that it does not decide.
#[derive(Clone, Debug)]
pub(crate) enum Effect {
    /// A mark is changed.
    Mark(Marked, Change),
    /// Conntrack looks at it no more.
    Untrack,
}

/// How a mark changes.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Change {
    /// Of these bits to this value.
    Set { bits: u32, value: u32 },
    /// To the other mark, of these bits.
    Other { bits: u32 },
    /// In a way that is not understood, in these bits at most.
    Unknown { bits: u32 },
}

/// A mark as far as it is known: which bits, and their values.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Mark {
    known: u32,
    value: u32,
}

impl Mark {
    const NONE: Self = Self {
        known: u32::MAX,
        value: 0,
    };
    const UNKNOWN: Self = Self { known: 0, value: 0 };

    fn changed(self, change: Change, other: Self) -> Self {
        let replaced = |bits: u32, by: Self| Self {
            known: (self.known & !bits) | (by.known & bits),
            value: (self.value & !bits) | (by.value & by.known & bits),
        };
        match change {
            Change::Set { bits, value } => replaced(
                bits,
                Self {
                    known: u32::MAX,
                    value,
                },
            ),
            Change::Other { bits } => replaced(bits, other),
            Change::Unknown { bits } => replaced(bits, Self::UNKNOWN),
        }
    }

    /// Whether some of its bits are one of some values; none if that is not known.
    fn is(self, bits: u32, values: &[(u32, u32)]) -> Option<bool> {
        if bits & !self.known == 0 {
            let own = self.value & bits;
            return Some(
                values
                    .iter()
                    .any(|(first, last)| (*first..=*last).contains(&own)),
            );
        }
        let known = bits & self.known;
        let single =
            |(first, last): &(u32, u32)| first == last && (first & known) != (self.value & known);
        values.iter().all(single).then_some(false)
    }
}

/// What lines before did to a packet that goes on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Carried {
    packet: Mark,
    connection: Mark,
    untracked: bool,
}

impl Carried {
    fn after(self, effect: &Effect) -> Self {
        match effect {
            Effect::Untrack => Self {
                untracked: true,
                ..self
            },
            Effect::Mark(Marked::Packet, change) => Self {
                packet: self.packet.changed(*change, self.connection),
                ..self
            },
            Effect::Mark(Marked::Connection, change) => Self {
                connection: self.connection.changed(*change, self.packet),
                ..self
            },
        }
    }
}

/// What packets a list is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Known {
    /// First ones.
    New,
    /// Those that answer a connection.
    Reply,
}

/// Whether something holds, by what conntrack knows of a packet; none where nobody knows.
#[derive(Clone, Copy, Debug)]
pub(crate) struct ByState {
    /// Of the first packet of a connection.
    pub new: Option<bool>,
    /// Of one that answers.
    pub reply: Option<bool>,
    /// Of ICMP that begins nothing: see [`invalid`].
    pub invalid: Option<bool>,
    /// Of what is not tracked: see [`untracked`].
    pub untracked: Option<bool>,
    /// Whether it is a question of the packet alone, such as its flags: conntrack has no part in it.
    pub of_packet: bool,
}

impl ByState {
    /// Whether a state is one of some, by the words of conntrack in lower case.
    pub fn one_of(words: &[&str]) -> Self {
        let has = |word| Some(words.contains(&word));
        Self {
            new: has("new"),
            reply: has("established"),
            invalid: has("invalid"),
            untracked: has("untracked"),
            of_packet: false,
        }
    }

    /// Whether it is the way of the request, or of the reply.
    pub fn direction(original: bool) -> Self {
        Self {
            new: Some(original),
            reply: Some(!original),
            invalid: None,
            untracked: None,
            of_packet: false,
        }
    }

    /// What holds of first packets whatever their state, and of replies.
    pub fn flags(first: bool, reply: Option<bool>) -> Self {
        Self {
            new: Some(first),
            reply,
            invalid: Some(first),
            untracked: Some(first),
            of_packet: true,
        }
    }

    pub fn negated(self) -> Self {
        let not = |holds: Option<bool>| holds.map(|holds| !holds);
        let Self {
            new,
            reply,
            invalid,
            untracked,
            of_packet,
        } = self;
        Self {
            new: not(new),
            reply: not(reply),
            invalid: not(invalid),
            untracked: not(untracked),
            of_packet,
        }
    }
}

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

/// An entry of the list: the first that matches counts.
#[derive(Clone, Debug)]
pub(crate) struct Entry {
    pub condition: Condition,
    pub fate: Fate,
    pub label: Rc<Label>,
    /// Whether a reply is looked at by itself.
    pub stateless: bool,
}

/// Why no list came of it.
#[derive(Debug)]
pub(crate) enum Refused {
    TooMany,
    TooDeep,
}

/// What comes after a chain.
enum Rest<'r> {
    /// The other lines of the chain that called, and what comes after it.
    Lines(usize, usize, &'r Rest<'r>),
    /// What the base chain does by itself with all that gets to its end.
    End(&'r Base, &'r [&'r Base]),
}

struct Follow<'r> {
    rules: &'r Rules,
    known: Known,
    found: Vec<Entry>,
    /// Whether any test asks for the flags of TCP.
    flags: bool,
    /// Bits of marks that chains of another kind may have changed meanwhile.
    disturbed: u32,
    /// Where translations of destinations, and of sources, lead; none if nothing is translated.
    translated: [Vec<Condition>; 2],
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

impl Follow<'_> {
    fn put(
        &mut self,
        condition: Condition,
        fate: Fate,
        carried: Carried,
        label: &Rc<Label>,
    ) -> Result<(), Refused> {
        if self.found.len() == MOST_ENTRIES {
            return Err(Refused::TooMany);
        }
        // Of what is not tracked, each direction is looked at by itself.
        let stateless = carried.untracked && fate == Fate::Ends(Action::Allow);
        let tcp = Condition::of_services(service::whole(service::TCP));
        let answers = condition.and(&tcp);
        if stateless && self.flags && !answers.is_empty() {
            // An answer has other flags than a request, by which rules may tell them apart.
            let why = Condition::unknown("the flags of answers that are not tracked");
            let label = label.clone();
            self.found.push(Entry {
                condition: answers.and(&why),
                fate: fate.clone(),
                label,
                stateless,
            });
        }
        let rest = if stateless && self.flags {
            minus(vec![condition], &tcp)
        } else {
            vec![condition]
        };
        let entry = |condition| Entry {
            condition,
            fate: fate.clone(),
            label: label.clone(),
            stateless,
        };
        self.found.extend(rest.into_iter().map(entry));
        if stateless && self.flags && !answers.is_empty() {
            let fate = Fate::Ends(Action::Deny);
            self.found.push(Entry {
                condition: answers,
                fate,
                label: label.clone(),
                stateless: false,
            });
        }
        Ok(())
    }

    /// From one base chain on; what passes the last is allowed, by the line that let it through.
    fn bases(
        &mut self,
        bases: &[&Base],
        at: &Condition,
        carried: Carried,
        by: &Rc<Label>,
    ) -> Result<(), Refused> {
        let Some((base, after)) = bases.split_first() else {
            return self.put(at.clone(), Fate::Ends(Action::Allow), carried, by);
        };
        let mut at = at.clone();
        if let Some(only) = &base.only {
            for beside in minus(vec![at.clone()], only) {
                self.bases(after, &beside, carried, by)?;
            }
            at = at.and(only);
        }
        if at.is_empty() {
            return Ok(());
        }
        let lost = Change::Unknown {
            bits: self.disturbed,
        };
        let carried = carried.after(&Effect::Mark(Marked::Packet, lost));
        let carried = carried.after(&Effect::Mark(Marked::Connection, lost));
        let end = Rest::End(base, after);
        self.lines(base.chain, 0, &at, carried, &end, 0)?;
        self.rest(&end, &at, carried, 0)
    }

    /// What comes after, for packets that get there.
    fn rest(
        &mut self,
        rest: &Rest<'_>,
        at: &Condition,
        carried: Carried,
        depth: usize,
    ) -> Result<(), Refused> {
        match rest {
            Rest::Lines(chain, from, after) => {
                self.lines(*chain, *from, at, carried, after, depth + 1)?;
                self.rest(after, at, carried, depth + 1)
            }
            Rest::End(base, after) if base.policy == Action::Allow => {
                self.bases(after, at, carried, &base.label)
            }
            Rest::End(base, _) => {
                self.put(at.clone(), Fate::Ends(base.policy), carried, &base.label)
            }
        }
    }

    /// The lines of a chain. What none of them decides is not listed here.
    fn lines(
        &mut self,
        chain: usize,
        from: usize,
        at: &Condition,
        carried: Carried,
        rest: &Rest<'_>,
        depth: usize,
    ) -> Result<(), Refused> {
        if depth > DEEPEST {
            return Err(Refused::TooDeep);
        }
        let rules = self.rules;
        for (place, line) in rules.chains[chain].lines.iter().enumerate().skip(from) {
            let mut matched = vec![at.clone()];
            for test in &line.tests {
                matched = self.passing(&matched, test, carried);
            }
            let after = line.effects.iter().fold(carried, Carried::after);
            if matches!(line.outcome, Outcome::Next) {
                if after == carried {
                    continue;
                }
                let all = matched.iter().any(|one| one.covers(at));
                for at in matched {
                    self.lines(chain, place + 1, &at, after, rest, depth + 1)?;
                    self.rest(rest, &at, after, depth + 1)?;
                }
                if all {
                    return Ok(());
                }
                continue;
            }
            let carried = after;
            for at in matched {
                match &line.outcome {
                    Outcome::Accept => self.accepted(rest, &at, carried, &line.label)?,
                    Outcome::Drop => {
                        self.put(at, Fate::Ends(Action::Deny), carried, &line.label)?
                    }
                    Outcome::Reject => {
                        self.put(at, Fate::Ends(Action::Reject), carried, &line.label)?
                    }
                    Outcome::Jump(to) => {
                        self.lines(
                            *to,
                            0,
                            &at,
                            carried,
                            &Rest::Lines(chain, place + 1, rest),
                            depth + 1,
                        )?;
                    }
                    Outcome::Goto(to) => {
                        self.lines(*to, 0, &at, carried, rest, depth + 1)?;
                        self.rest(rest, &at, carried, depth)?;
                    }
                    Outcome::Return => self.rest(rest, &at, carried, depth)?,
                    Outcome::Unclear(why) => {
                        let perhaps = at.and(&Condition::unknown(why));
                        self.put(perhaps, Fate::Ends(Action::Allow), carried, &line.label)?;
                        self.put(at, Fate::Ends(Action::Deny), carried, &line.label)?;
                    }
                    Outcome::Translate(how) => {
                        self.put(at, Fate::Translated(how.clone()), carried, &line.label)?
                    }
                    Outcome::Next => {}
                }
            }
        }
        Ok(())
    }

    /// What a base chain lets through goes on to the next one.
    fn accepted(
        &mut self,
        rest: &Rest<'_>,
        at: &Condition,
        carried: Carried,
        label: &Rc<Label>,
    ) -> Result<(), Refused> {
        match rest {
            Rest::Lines(_, _, after) => self.accepted(after, at, carried, label),
            Rest::End(_, after) => self.bases(after, at, carried, label),
        }
    }

    fn passing(&self, all: &[Condition], test: &Test, carried: Carried) -> Vec<Condition> {
        let by_state;
        let known = |holds: Option<bool>, why: &str| match holds {
            Some(true) => vec![Condition::all()],
            Some(false) => Vec::new(),
            None => vec![Condition::unknown(why)],
        };
        let pieces = match test {
            Test::Any(pieces) => pieces.as_slice(),
            Test::Mark {
                of,
                bits,
                values,
                negated,
            } => {
                let mark = if *of == Marked::Packet {
                    carried.packet
                } else {
                    carried.connection
                };
                // Where nothing here sets marks, others do.
                let holds = mark
                    .is(*bits, values)
                    .filter(|_| self.rules.marks())
                    .map(|is| is != *negated);
                by_state = known(holds, "a mark");
                by_state.as_slice()
            }
            Test::Translated { source, negated } => {
                by_state = match (&self.translated[usize::from(*source)], negated) {
                    (none, negated) if none.is_empty() => known(Some(*negated), ""),
                    (some, false) => some.clone(),
                    (_, true) => known(None, "whether it was translated before"),
                };
                by_state.as_slice()
            }
            Test::State(holds) if carried.untracked && !holds.of_packet => {
                by_state = known(holds.untracked, STATE);
                by_state.as_slice()
            }
            Test::State(holds) if self.known == Known::Reply => match holds.reply {
                Some(true) => return all.to_vec(),
                Some(false) => return Vec::new(),
                None => &[Condition::unknown(STATE)],
            },
            Test::State(holds) => {
                let kinds = [
                    (tracked(), holds.new),
                    (invalid(), holds.invalid),
                    (untracked(), holds.untracked),
                ];
                by_state = if kinds.iter().all(|(_, holds)| *holds == Some(true)) {
                    vec![Condition::all()]
                } else {
                    let unknown = |kind: Condition| kind.and(&Condition::unknown(STATE));
                    let kinds = kinds.into_iter().filter(|(_, holds)| *holds != Some(false));
                    kinds
                        .map(|(kind, holds)| if holds.is_none() { unknown(kind) } else { kind })
                        .collect()
                };
                by_state.as_slice()
            }
        };
        let both = all
            .iter()
            .flat_map(|one| pieces.iter().map(|piece| one.and(piece)));
        both.filter(|one| !one.is_empty()).collect()
    }
}

/// The entries up to the one that takes all that is left; the others decide nothing.
fn deciding(entries: &[Entry]) -> &[Entry] {
    let Some(last) = entries.last() else {
        return entries;
    };
    let all = |entry: &Entry| {
        entry.condition.covers(&last.condition)
            && entries
                .iter()
                .all(|other| entry.condition.covers(&other.condition))
    };
    let end = entries
        .iter()
        .position(all)
        .map_or(entries.len(), |at| at + 1);
    &entries[..end]
}

fn same(one: &[Entry], other: &[Entry]) -> bool {
    let pairs = one.iter().zip(other);
    one.len() == other.len() && { pairs }
        .all(|(a, b)| a.condition == b.condition && a.fate == b.fate)
}

/// What is decided of requests, with what becomes of their replies.
///
/// A request that a list allows is answered through the list of the other way, as conntrack knows the reply: the entry that decides
/// there says whether the reply passes for that reason alone (the entry keeps state), or is to be looked at by itself.
///
/// # Errors
/// If it comes to more than [`MOST_ENTRIES`].
pub(crate) fn with_replies(
    new: Vec<Entry>,
    replies: &[Entry],
    other_new: &[Entry],
) -> Result<Vec<Entry>, Refused> {
    let by_themselves = same(replies, other_new);
    let (replies, other_new) = (deciding(replies), deciding(other_new));
    // An entry that is not sure to match falls to the next: where all of them let through, everything is.
    if replies
        .iter()
        .all(|entry| entry.fate == Fate::Ends(Action::Allow))
    {
        return Ok(new);
    }
    let asked = |entries: &[Entry]| -> Vec<(Vec<Condition>, bool)> {
        entries
            .iter()
            .map(|entry| {
                (
                    entry.condition.asked_by(),
                    entry.fate == Fate::Ends(Action::Allow),
                )
            })
            .collect()
    };
    let (answered, anew) = (asked(replies), asked(other_new));
    let mut found = Vec::new();
    for entry in new {
        if entry.fate != Fate::Ends(Action::Allow) || entry.stateless {
            found.push(entry);
            continue;
        }
        if by_themselves {
            found.push(Entry {
                stateless: true,
                ..entry
            });
            continue;
        }
        let mut put = |condition: Condition, stateless: bool, action: Action| {
            if condition.is_empty() {
                return Ok(());
            }
            let fate = Fate::Ends(action);
            found.push(Entry {
                condition,
                fate,
                label: entry.label.clone(),
                stateless,
            });
            if found.len() > MOST_ENTRIES {
                Err(Refused::TooMany)
            } else {
                Ok(())
            }
        };
        put(entry.condition.and(&one_way()), false, Action::Allow)?;
        for (asked, allowed) in &answered {
            for asked in asked {
                let part = entry.condition.and(asked);
                if part.is_empty() {
                    continue;
                }
                if *allowed {
                    put(part, false, Action::Allow)?;
                    continue;
                }
                // The reply is refused as one; looked at by itself it has to be refused too.
                for (anew, allowed) in &anew {
                    for part in anew.iter().map(|anew| part.and(anew)) {
                        if *allowed {
                            let why = Condition::unknown(
                                "replies are refused that would be let through as requests",
                            );
                            put(part.and(&why), false, Action::Allow)?;
                            put(part, false, Action::Deny)?;
                        } else {
                            put(part, true, Action::Allow)?;
                        }
                    }
                }
            }
        }
    }
    Ok(found)
}

/// Without the copies of a line that no packet reaches any more; of each line one stays.
pub(crate) fn without_idle_copies(entries: Vec<Entry>) -> Vec<Entry> {
    let mut kept: Vec<Entry> = Vec::new();
    let mut seen: std::collections::HashSet<*const Label> = std::collections::HashSet::new();
    for entry in entries {
        let copy = !seen.insert(Rc::as_ptr(&entry.label));
        if !copy
            || !kept
                .iter()
                .any(|before| before.condition.covers(&entry.condition))
        {
            kept.push(entry);
        }
    }
    kept
}
