//! Chains of a packet filter with jumps, and what they decide: a list of products with one action each, of which the first that
//! matches counts.
//!
//! A chain is followed with the set of packets that come to it. Packets that no line of it decides fall to the lines that come after
//! in the list, so that only what leaves a chain early (`return`, `goto`, an `accept` with another hook behind it) needs the rest
//! of its way listed a second time.

use crate::open::condition::{Condition, Devices, invalid, minus, one_way, tracked, untracked};
use crate::open::rules::Label;
use heronshale_core::address::Family;
use heronshale_core::model::Action;
use std::net::IpAddr;
use std::rc::Rc;

/// A rule set that comes to more entries than this is refused.
pub(crate) const MOST_ENTRIES: usize = 200_000;
/// Why a test may hold or not.
const STATE: &str = "the state of the connection";
/// Chains that call each other deeper than this are refused; the kernel allows 16.
const DEEPEST: usize = 64;

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
}

impl ByState {
    /// Whether a state is one of some, by the words of conntrack in lower case.
    pub fn one_of(words: &[&str]) -> Self {
        let has = |word| Some(words.contains(&word));
        Self { new: has("new"), reply: has("established"), invalid: has("invalid"), untracked: has("untracked") }
    }

    /// Whether it is the way of the request, or of the reply.
    pub fn direction(original: bool) -> Self {
        Self { new: Some(original), reply: Some(!original), invalid: None, untracked: None }
    }

    /// What holds of first packets whatever their state, and of replies.
    pub fn flags(first: bool, reply: Option<bool>) -> Self {
        Self { new: Some(first), reply, invalid: Some(first), untracked: Some(first) }
    }

    pub fn negated(self) -> Self {
        let not = |holds: Option<bool>| holds.map(|holds| !holds);
        let Self { new, reply, invalid, untracked } = self;
        Self { new: not(new), reply: not(reply), invalid: not(invalid), untracked: not(untracked) }
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
    /// Translation, which ends the chain.
    Translate(Translation),
}

/// How a packet is changed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Translation {
    pub to: Option<IpAddr>,
    pub port: Option<u16>,
}

/// A rule as written, or an element of its verdict map.
#[derive(Clone, Debug)]
pub(crate) struct Line {
    pub tests: Vec<Test>,
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
}

impl Rules {
    /// Nobody knows what becomes of packets of a family.
    pub fn unclear(&mut self, family: Family, why: &str) {
        for hook in [Hook::Input, Hook::Forward, Hook::Output] {
            let label = Rc::new(Label { id: "not-given".to_owned(), at: (0, 0), comment: Some(why.to_owned()) });
            let line = Line { tests: Vec::new(), outcome: Outcome::Unclear(why.to_owned()), label: label.clone() };
            let only = Some(Condition::of_family(family));
            let chain = self.chains.len();
            self.chains.push(Chain { lines: vec![line] });
            self.bases.push(Base { hook, chain, priority: 0, translates: false, only, policy: Action::Allow, label });
        }
    }

    /// The base chains of some hooks, in the order in which packets come to them.
    fn bases(&self, hooks: &[Hook], translates: bool) -> Vec<&Base> {
        let mut bases: Vec<&Base> =
            self.bases.iter().filter(|base| hooks.contains(&base.hook) && base.translates == translates).collect();
        bases.sort_by_key(|base| (base.hook, base.priority));
        // One that lets everything through decides nothing.
        bases.retain(|base| translates || base.policy != Action::Allow || !self.chains[base.chain].lines.is_empty());
        bases
    }

    /// What the filters of some hooks decide about packets; complete: the last entry takes what is left.
    pub fn decided(&self, hooks: &[Hook], known: Known, start: &Condition) -> Result<Vec<Entry>, Refused> {
        let bases = self.bases(hooks, false);
        let mut follow = Follow { rules: self, known, found: Vec::new() };
        follow.bases(&bases, start, &Rc::new(Label { id: "no-chain".to_owned(), ..Label::default() }))?;
        Ok(follow.found)
    }

    /// How new packets are translated at a hook, by the first chain that does.
    pub fn translated(&self, hook: Hook, start: &Condition) -> Result<Vec<Entry>, Refused> {
        let bases = self.bases(&[hook], true);
        let mut follow = Follow { rules: self, known: Known::New, found: Vec::new() };
        follow.bases(&bases, start, &Rc::new(Label { id: "no-chain".to_owned(), ..Label::default() }))?;
        Ok(follow.found)
    }
}

impl Follow<'_> {
    fn put(&mut self, condition: Condition, fate: Fate, label: &Rc<Label>) -> Result<(), Refused> {
        if self.found.len() == MOST_ENTRIES {
            return Err(Refused::TooMany);
        }
        self.found.push(Entry { condition, fate, label: label.clone(), stateless: false });
        Ok(())
    }

    /// From one base chain on; what passes the last is allowed, by the line that let it through.
    fn bases(&mut self, bases: &[&Base], at: &Condition, by: &Rc<Label>) -> Result<(), Refused> {
        let Some((base, after)) = bases.split_first() else {
            return self.put(at.clone(), Fate::Ends(Action::Allow), by);
        };
        let mut at = at.clone();
        if let Some(only) = &base.only {
            for beside in minus(vec![at.clone()], only) {
                self.bases(after, &beside, by)?;
            }
            at = at.and(only);
        }
        if at.is_empty() {
            return Ok(());
        }
        let end = Rest::End(base, after);
        self.lines(base.chain, 0, &at, &end, 0)?;
        self.rest(&end, &at, 0)
    }

    /// What comes after, for packets that get there.
    fn rest(&mut self, rest: &Rest<'_>, at: &Condition, depth: usize) -> Result<(), Refused> {
        match rest {
            Rest::Lines(chain, from, after) => {
                self.lines(*chain, *from, at, after, depth + 1)?;
                self.rest(after, at, depth + 1)
            }
            Rest::End(base, after) if base.policy == Action::Allow => self.bases(after, at, &base.label),
            Rest::End(base, _) => self.put(at.clone(), Fate::Ends(base.policy), &base.label),
        }
    }

    /// The lines of a chain. What none of them decides is not listed here.
    fn lines(
        &mut self,
        chain: usize,
        from: usize,
        at: &Condition,
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
                matched = self.passing(&matched, test);
            }
            for at in matched {
                match &line.outcome {
                    Outcome::Accept => self.accepted(rest, &at, &line.label)?,
                    Outcome::Drop => self.put(at, Fate::Ends(Action::Deny), &line.label)?,
                    Outcome::Reject => self.put(at, Fate::Ends(Action::Reject), &line.label)?,
                    Outcome::Jump(to) => {
                        self.lines(*to, 0, &at, &Rest::Lines(chain, place + 1, rest), depth + 1)?;
                    }
                    Outcome::Goto(to) => {
                        self.lines(*to, 0, &at, rest, depth + 1)?;
                        self.rest(rest, &at, depth)?;
                    }
                    Outcome::Return => self.rest(rest, &at, depth)?,
                    Outcome::Unclear(why) => {
                        let perhaps = at.and(&Condition::unknown(why));
                        self.put(perhaps, Fate::Ends(Action::Allow), &line.label)?;
                        self.put(at, Fate::Ends(Action::Deny), &line.label)?;
                    }
                    Outcome::Translate(how) => self.put(at, Fate::Translated(how.clone()), &line.label)?,
                }
            }
        }
        Ok(())
    }

    /// What a base chain lets through goes on to the next one.
    fn accepted(&mut self, rest: &Rest<'_>, at: &Condition, label: &Rc<Label>) -> Result<(), Refused> {
        match rest {
            Rest::Lines(_, _, after) => self.accepted(after, at, label),
            Rest::End(_, after) => self.bases(after, at, label),
        }
    }

    fn passing(&self, all: &[Condition], test: &Test) -> Vec<Condition> {
        let by_state;
        let pieces = match test {
            Test::Any(pieces) => pieces.as_slice(),
            Test::State(holds) if self.known == Known::Reply => match holds.reply {
                Some(true) => return all.to_vec(),
                Some(false) => return Vec::new(),
                None => &[Condition::unknown(STATE)],
            },
            Test::State(holds) => {
                let kinds = [(tracked(), holds.new), (invalid(), holds.invalid), (untracked(), holds.untracked)];
                by_state = if kinds.iter().all(|(_, holds)| *holds == Some(true)) {
                    vec![Condition::all()]
                } else {
                    let unknown = |kind: Condition| kind.and(&Condition::unknown(STATE));
                    let kinds = kinds.into_iter().filter(|(_, holds)| *holds != Some(false));
                    kinds.map(|(kind, holds)| if holds.is_none() { unknown(kind) } else { kind }).collect()
                };
                by_state.as_slice()
            }
        };
        let both = all.iter().flat_map(|one| pieces.iter().map(|piece| one.and(piece)));
        both.filter(|one| !one.is_empty()).collect()
    }
}

/// The entries up to the one that takes all that is left; the others decide nothing.
fn deciding(entries: &[Entry]) -> &[Entry] {
    let Some(last) = entries.last() else { return entries };
    let all = |entry: &Entry| {
        entry.condition.covers(&last.condition) && entries.iter().all(|other| entry.condition.covers(&other.condition))
    };
    let end = entries.iter().position(all).map_or(entries.len(), |at| at + 1);
    &entries[..end]
}

fn same(one: &[Entry], other: &[Entry]) -> bool {
    let pairs = one.iter().zip(other);
    one.len() == other.len() && { pairs }.all(|(a, b)| a.condition == b.condition && a.fate == b.fate)
}

/// What is decided of requests, with what becomes of their replies.
///
/// A request that a list allows is answered through the list of the other way, as conntrack knows the reply: the entry that decides
/// there says whether the reply passes for that reason alone (the entry keeps state), or is to be looked at by itself.
///
/// # Errors
/// If it comes to more than [`MOST_ENTRIES`].
pub(crate) fn with_replies(new: Vec<Entry>, replies: &[Entry], other_new: &[Entry]) -> Result<Vec<Entry>, Refused> {
    let by_themselves = same(replies, other_new);
    let (replies, other_new) = (deciding(replies), deciding(other_new));
    // An entry that is not sure to match falls to the next: where all of them let through, everything is.
    if replies.iter().all(|entry| entry.fate == Fate::Ends(Action::Allow)) {
        return Ok(new);
    }
    let asked = |entries: &[Entry]| -> Vec<(Vec<Condition>, bool)> {
        entries.iter().map(|entry| (entry.condition.asked_by(), entry.fate == Fate::Ends(Action::Allow))).collect()
    };
    let (answered, anew) = (asked(replies), asked(other_new));
    let mut found = Vec::new();
    for entry in new {
        if entry.fate != Fate::Ends(Action::Allow) {
            found.push(entry);
            continue;
        }
        if by_themselves {
            found.push(Entry { stateless: true, ..entry });
            continue;
        }
        let mut put = |condition: Condition, stateless: bool, action: Action| {
            if condition.is_empty() {
                return Ok(());
            }
            let fate = Fate::Ends(action);
            found.push(Entry { condition, fate, label: entry.label.clone(), stateless });
            if found.len() > MOST_ENTRIES { Err(Refused::TooMany) } else { Ok(()) }
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
                            let why = Condition::unknown("replies are refused that would be let through as requests");
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
        if !copy || !kept.iter().any(|before| before.condition.covers(&entry.condition)) {
            kept.push(entry);
        }
    }
    kept
}
