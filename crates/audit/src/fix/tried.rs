//! What a change does to the expectations that are kept, and what has to be changed before it (`docs/semantics.md` 12).

use super::edit::block;
use super::{Asking, Edit, EditKind, changed, ways_to_fix};
use crate::expect::{Standing, State, standings, standings_of};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::path::{Connection, Goal};
use heronshale_model::ends::End;
use heronshale_model::estate::Name;
use heronshale_model::stated::Claim;

/// Of one expectation no more pairs of its ends are mended.
const MOST_PAIRS: usize = 16;
/// Nothing is mended in more rounds.
const MOST_ROUNDS: usize = 4;

/// What a change does to expectations.
#[derive(Clone, Debug, Default)]
pub struct Tried {
    /// Those that are kept, and would not be, each by its place among all, with what becomes of it.
    pub breaks: Vec<(usize, State)>,
    /// The changes before which this one must not be made. With them nothing breaks; none where nothing breaks, or where none
    /// are known.
    pub first: Vec<Edit>,
}

impl Tried {
    /// Whether the change can be made without a kept expectation that breaks.
    pub fn is_safe(&self) -> bool {
        self.breaks.is_empty() || !self.first.is_empty()
    }
}

/// The expectations that are kept.
pub struct Kept(Vec<usize>);

impl Kept {
    /// Judges all expectations.
    pub fn of(view: &Fabric<'_>) -> Self {
        Self::among(&standings(view))
    }

    /// Those of all, in their order, that were judged before.
    pub fn among(standings: &[Standing]) -> Self {
        Self::by_state(standings.iter().map(|standing| standing.state))
    }

    /// The same by how all of them stand.
    pub fn by_state(states: impl Iterator<Item = State>) -> Self {
        let kept = states
            .enumerate()
            .filter(|(_, state)| *state == State::Kept);
        Self(kept.map(|(at, _)| at).collect())
    }

    /// How many.
    pub fn count(&self) -> usize {
        self.0.len()
    }

    /// Those that changes break.
    fn broken_by<'a>(
        &self,
        view: &Fabric<'_>,
        edits: impl IntoIterator<Item = &'a Edit>,
    ) -> Vec<(usize, State)> {
        let estate = changed(view.estate, edits);
        let after = standings_of(&view.after(&estate), &self.0);
        let states = self.0.iter().zip(after);
        states
            .map(|(at, standing)| (*at, standing.state))
            .filter(|(_, state)| *state != State::Kept)
            .collect()
    }

    /// Tries a change; where it breaks something, looks for what has to be changed before. `still`: whether the change does then
    /// what it is for.
    pub fn tried(
        &self,
        view: &Fabric<'_>,
        edits: &[Edit],
        still: &dyn Fn(&Fabric<'_>) -> bool,
    ) -> Tried {
        if self.0.is_empty() {
            return Tried::default();
        }
        let breaks = self.broken_by(view, edits);
        if breaks.is_empty() {
            return Tried::default();
        }
        let mut first = Vec::new();
        let mut left = breaks.clone();
        let mut rounds = 0;
        while let Some((broken, State::Broken)) = left.first() {
            rounds += 1;
            let mended = mending(view, *broken, edits, &first);
            if mended.is_empty() || rounds > MOST_ROUNDS {
                break;
            }
            first.extend(mended);
            left = self.broken_by(view, first.iter().chain(edits));
        }
        let works = |first: &[Edit]| {
            let estate = changed(view.estate, first.iter().chain(edits));
            still(&view.after(&estate))
        };
        let safe = left.is_empty() && self.broken_by(view, &first).is_empty() && works(&first);
        if !safe {
            first.clear();
        }
        Tried { breaks, first }
    }
}

/// What keeps a broken expectation, and breaks no kept one; empty if nothing is known.
pub fn mended(view: &Fabric<'_>, kept: &Kept, broken: usize) -> Vec<Edit> {
    let edits = mending(view, broken, &[], &[]);
    if edits.is_empty() {
        return edits;
    }
    let estate = changed(view.estate, &edits);
    let after = standings_of(&view.after(&estate), &[broken]);
    let works = after.iter().all(|one| one.state == State::Kept);
    if works && kept.broken_by(view, &edits).is_empty() {
        edits
    } else {
        Vec::new()
    }
}

/// What lets the ends of an expectation reach each other after changes.
fn mending(view: &Fabric<'_>, broken: usize, edits: &[Edit], first: &[Edit]) -> Vec<Edit> {
    let expectation = &view.stated.expectations[broken];
    let Claim::MayReach { from, to } = &expectation.claim else {
        return Vec::new();
    };
    let pairs = from
        .iter()
        .flat_map(|from| to.iter().map(move |to| (from, to)));
    let mut found: Vec<Edit> = Vec::new();
    for (from, to) in pairs
        .flat_map(|(from, to)| asked(view, from, to))
        .take(MOST_PAIRS)
    {
        let estate = changed(view.estate, first.iter().chain(edits).chain(&found));
        let after = view.after(&estate);
        let asking = Asking {
            connection: Connection {
                from,
                to: Goal::End(to),
                services: expectation.services.clone(),
                source_port: None,
            },
            only: None,
        };
        // To take the change back, or to do the like elsewhere, is no way to make it; a rule may come back narrower.
        let undoes = |edit: &Edit| {
            edit.kind != EditKind::Rule && edits.iter().any(|one| one.kind == edit.kind)
                || edit.kind == EditKind::Flag && edits.iter().any(|one| one.origin == edit.origin)
        };
        let ways = ways_to_fix(&after, &asking);
        let way = ways.into_iter().find(|way| !way.iter().any(undoes));
        found.extend(way.into_iter().flatten());
    }
    found
}

/// Two ends of an expectation as they are asked: of a set of addresses each of its blocks.
fn asked(view: &Fabric<'_>, from: &Name, to: &Name) -> Vec<(End, End)> {
    let (Ok(from), Ok(to)) = (End::parse(view, from), End::parse(view, to)) else {
        return Vec::new();
    };
    let blocks = |end: End| match end {
        End::Set(_) => {
            let all = end.addresses(view);
            let ranges = all.ranges().map(|range| End::Block(block(range)));
            ranges.collect()
        }
        one => vec![one],
    };
    let receivers = blocks(to);
    let pairs = blocks(from).into_iter().flat_map(|from| {
        let all = receivers.iter();
        all.map(move |to| (from.clone(), to.clone()))
    });
    pairs.collect()
}
