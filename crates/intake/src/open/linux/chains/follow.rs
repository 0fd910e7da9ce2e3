//! Following packets through chains.

use super::*;

pub(super) struct Follow<'r> {
    pub(super) rules: &'r Rules,
    pub(super) known: Known,
    pub(super) found: Vec<Entry>,
    /// Whether any test asks for the flags of TCP.
    pub(super) flags: bool,
    /// Bits of marks that chains of another kind may have changed meanwhile.
    pub(super) disturbed: u32,
    /// Where translations of destinations, and of sources, lead; none if nothing is translated.
    pub(super) translated: [Vec<Condition>; 2],
}

impl Follow<'_> {
    pub(super) fn put(
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
    pub(super) fn bases(
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
    pub(super) fn rest(
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
    pub(super) fn lines(
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
    pub(super) fn accepted(
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

    pub(super) fn passing(
        &self,
        all: &[Condition],
        test: &Test,
        carried: Carried,
    ) -> Vec<Condition> {
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

/// What comes after a chain.
pub(super) enum Rest<'r> {
    /// The other lines of the chain that called, and what comes after it.
    Lines(usize, usize, &'r Rest<'r>),
    /// What the base chain does by itself with all that gets to its end.
    End(&'r Base, &'r [&'r Base]),
}

/// Why no list came of it.
#[derive(Debug)]
pub(crate) enum Refused {
    TooMany,
    TooDeep,
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
