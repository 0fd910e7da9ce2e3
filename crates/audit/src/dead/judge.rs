//! Judging one list.

use super::*;

/// Judges the rules of one list, one after the other.
pub(super) struct Judge<'l, 'e> {
    pub(super) view: &'l Fabric<'e>,
    pub(super) list: &'l Enlisted<RuleId>,
    pub(super) v4: Prover<'l, u32>,
    pub(super) v6: Prover<'l, u128>,
    /// No rule of the list speaks of members that change.
    pub(super) fixed: bool,
}

impl<'l, 'e> Judge<'l, 'e> {
    pub(super) fn new(view: &'l Fabric<'e>, list: &'l Enlisted<RuleId>) -> Self {
        let (v4, v6) = list.provers();
        let fixed = list
            .ids
            .iter()
            .all(|id| !names_members(view.estate.rule(*id)));
        Self {
            view,
            list,
            v4,
            v6,
            fixed,
        }
    }

    /// A rule at a position of the list.
    pub(super) fn judge(&mut self, at: u32) -> Verdict {
        let id = self.list.ids[at as usize];
        let states = (state(&mut self.v4, at), state(&mut self.v6, at));
        if states.0.is_absent() && states.1.is_absent() {
            return Verdict::Absent;
        }
        if matches!(states.0, State::Undecided) || matches!(states.1, State::Undecided) {
            return Verdict::Dead(undecided(id));
        }
        let hidden = states.0.is_hidden() && states.1.is_hidden();
        if self.list.reading == Reading::AnyMatch {
            if !hidden {
                return Verdict::Alive;
            }
            let covers = any_match(&mut self.v4, at).and(any_match(&mut self.v6, at));
            return Verdict::Dead(self.dead(at, How::Redundant, covers));
        }
        if hidden {
            let covers = shadow(&mut self.v4, at).and(shadow(&mut self.v6, at));
            return match self.otherwise(at) {
                Err(()) => Verdict::Dead(undecided(id)),
                Ok(Some(packet)) => Verdict::Dead(self.dead(at, How::Shadowed(packet), covers)),
                Ok(None) => Verdict::Dead(self.dead(at, How::Redundant, covers)),
            };
        }
        let default = if has(Fault::DeadIgnoresDefault) {
            Some(self.v4.decision(at).max(self.v6.decision(at)))
        } else {
            self.list.default
        };
        let removals = [
            removal(&mut self.v4, at, default, &states.0),
            removal(&mut self.v6, at, default, &states.1),
        ];
        if removals.contains(&Gone::Undecided) {
            return Verdict::Dead(undecided(id));
        }
        if !removals.contains(&Gone::Changes) {
            let by_default = removals.contains(&Gone::NothingByDefault);
            let how = if by_default {
                How::RedundantByDefault
            } else {
                How::Redundant
            };
            let covers =
                beside(&mut self.v4, at, by_default).and(beside(&mut self.v6, at, by_default));
            let mut dead = self.dead(at, how, covers);
            dead.durable = self.fixed
                && self.own_only(&dead.covers, id)
                && outlive(self.view, id, &dead.covers);
            return Verdict::Dead(dead);
        }
        match self.otherwise(at) {
            Ok(None) => Verdict::Alive,
            Err(()) => Verdict::Dead(undecided(id)),
            Ok(Some(packet)) => {
                let mut dead = self.dead(at, How::PartlyShadowed(packet), Covers::default());
                dead.durable = false;
                dead.covers = self.taker_of(at, packet).into_iter().collect();
                Verdict::Dead(dead)
            }
        }
    }

    /// From now on the rule is as if it were not there.
    pub(super) fn remove(&mut self, at: u32) {
        self.v4.remove(at);
        self.v6.remove(at);
    }

    pub(super) fn dead(&self, at: u32, how: How, covers: Covers) -> Dead {
        let id = self.list.ids[at as usize];
        let ids = |list: &[u32]| {
            let mut all: Vec<RuleId> = Vec::new();
            for at in list {
                let id = self.list.ids[*at as usize];
                if !all.contains(&id) {
                    all.push(id);
                }
            }
            all
        };
        let (rules, takers) = (ids(&covers.rules), ids(&covers.takers));
        let durable = self.own_only(&rules, id)
            && is_durable(self.view, id, &rules)
            && outlive(self.view, id, &rules);
        Dead {
            rule: id,
            how,
            covers: rules,
            takers,
            all_takers: !covers.cut,
            durable,
            across: false,
        }
    }

    /// Covers of other filters last only as long as these are bound at the same places.
    pub(super) fn own_only(&self, covers: &[RuleId], id: RuleId) -> bool {
        covers.iter().all(|cover| cover.filter == id.filter)
    }

    /// A packet of a rule that an earlier one decides otherwise today, such as a reader would choose.
    pub(super) fn otherwise(&mut self, at: u32) -> Result<Option<Packet>, ()> {
        let direction = self.list.direction;
        let home = &self.list.home;
        let v4 = otherwise::<u32>(
            &mut self.v4,
            at,
            self.list.pairs,
            direction,
            home,
            Family::V4,
        )?;
        if v4.is_some() {
            return Ok(v4);
        }
        otherwise::<u128>(
            &mut self.v6,
            at,
            self.list.pairs,
            direction,
            home,
            Family::V6,
        )
    }

    pub(super) fn taker_of(&mut self, at: u32, packet: Packet) -> Option<RuleId> {
        let taker = match packet.family {
            Family::V4 => self.v4.first_taker(at, list::point_of(&packet)),
            Family::V6 => self.v6.first_taker(at, list::point_of(&packet)),
        };
        taker.map(|at| self.list.ids[at as usize])
    }
}

/// What becomes of a rule of one family.
#[derive(Clone, Debug, Default)]
pub(super) struct Covers {
    pub(super) rules: Vec<u32>,
    pub(super) takers: Vec<u32>,
    pub(super) cut: bool,
}

impl Covers {
    /// Those of both families, each once.
    pub(super) fn and(mut self, other: Self) -> Self {
        let more = |all: &mut Vec<u32>, more: Vec<u32>| {
            for one in more {
                if !all.contains(&one) {
                    all.push(one);
                }
            }
        };
        more(&mut self.rules, other.rules);
        more(&mut self.takers, other.takers);
        self.takers.sort_unstable();
        self.cut |= other.cut;
        self
    }
}

pub(super) enum State<N> {
    Absent,
    Open(heronshale_sets::cover::Point<N>),
    Covered,
    Undecided,
}

impl<N> State<N> {
    pub(super) fn is_absent(&self) -> bool {
        matches!(self, Self::Absent)
    }

    /// Nothing of it is visible.
    pub(super) fn is_hidden(&self) -> bool {
        matches!(self, Self::Absent | Self::Covered)
    }
}

pub(super) fn state<N: Coordinates>(prover: &mut Prover<'_, N>, at: u32) -> State<N> {
    if prover.subject(at).next().is_none() {
        return State::Absent;
    }
    let covered = if has(Fault::DeadByLaterRules) {
        prover.covered_by_all(at)
    } else {
        prover.covered(at)
    };
    match covered {
        Covered::Undecided => State::Undecided,
        Covered::Open(point) => State::Open(point),
        Covered::ByMany(_) | Covered::InLemma(_) if has(Fault::DeadSingleCoversOnly) => {
            State::Open(
                prover
                    .subject(at)
                    .next()
                    .map(|product| product.low())
                    .unwrap_or_default(),
            )
        }
        Covered::ByOne(_) | Covered::ByMany(_) | Covered::InLemma(_) => State::Covered,
    }
}

#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Gone {
    Changes,
    Nothing,
    NothingByDefault,
    Undecided,
}

pub(super) fn removal<N: Coordinates>(
    prover: &mut Prover<'_, N>,
    at: u32,
    default: Option<u16>,
    state: &State<N>,
) -> Gone {
    let seen = match state {
        State::Absent | State::Covered => return Gone::Nothing,
        State::Open(point) => Some(*point).filter(|_| !has(Fault::DeadSingleCoversOnly)),
        State::Undecided => return Gone::Undecided,
    };
    match prover.removal(at, default, seen) {
        Removal::Changes(_)
            if has(Fault::DeadIgnoresBetween) && default == Some(prover.decision(at)) =>
        {
            Gone::Nothing
        }
        Removal::Changes(_) => Gone::Changes,
        Removal::Nothing => Gone::Nothing,
        Removal::NothingByDefault => Gone::NothingByDefault,
        Removal::Undecided => Gone::Undecided,
    }
}
