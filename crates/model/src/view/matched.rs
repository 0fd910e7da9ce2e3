//! The addresses that something stands for, and what address sets hold.

use crate::estate::{AddressSet, Estate, Id, Peer, Reference, SetItem};
use crate::faults::{Fault, has};
use heronshale_sets::address::Addresses;
use rustc_hash::FxHashSet;

/// The addresses that something stands for: those that are certain, and those that depend on what is missing from the snapshot.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Matched {
    /// Matched for certain.
    pub sure: Addresses,
    /// Perhaps matched; disjoint from `sure`.
    pub maybe: Addresses,
}

impl Matched {
    /// For certain.
    pub fn sure(sure: Addresses) -> Self {
        Self {
            sure,
            maybe: Addresses::empty(),
        }
    }

    /// Nothing is known.
    pub fn unknown() -> Self {
        Self {
            sure: Addresses::empty(),
            maybe: Addresses::all(),
        }
    }

    /// What either stands for.
    #[must_use]
    pub fn union(&self, other: &Self) -> Self {
        let sure = self.sure.union(&other.sure);
        let maybe = self.maybe.union(&other.maybe).difference(&sure);
        Self { sure, maybe }
    }

    /// Less what another stands for.
    #[must_use]
    pub fn without(&self, other: &Self) -> Self {
        let sure = self.sure.difference(&other.sure).difference(&other.maybe);
        let maybe = self
            .maybe
            .union(&self.sure)
            .difference(&other.sure)
            .difference(&sure);
        Self { sure, maybe }
    }

    /// Certain or not.
    pub fn either(&self) -> Addresses {
        self.sure.union(&self.maybe)
    }
}

/// What an address set holds once nested sets are followed.
#[derive(Clone, Debug, Default)]
pub struct SetMeaning {
    /// The addresses.
    pub matched: Matched,
    /// The sets of unknown content that it is or holds, and the names in it that are not in the snapshot.
    pub open: Vec<Peer>,
    /// Whether it holds itself, by others.
    pub cyclic: bool,
}

/// What every set holds: the least fixed point, so that `A = {1, B}, B = {2, A}` are both `{1, 2}`.
///
/// Cost: one round for each level of nesting, at most the number of sets.
pub(super) fn set_meanings(estate: &Estate) -> Vec<SetMeaning> {
    let mut meanings: Vec<SetMeaning> = vec![SetMeaning::default(); estate.address_sets.len()];
    let mut nested: Vec<Vec<Id<AddressSet>>> = vec![Vec::new(); estate.address_sets.len()];
    for (id, set) in estate.address_sets.iter() {
        let Some(items) = &set.content else {
            meanings[id.index()].matched = Matched::unknown();
            meanings[id.index()]
                .open
                .push(Peer::AddressSet(Reference::Found(id)));
            continue;
        };
        let ranges = items.iter().filter_map(|item| match item {
            SetItem::Block(block) => Some(block.range),
            SetItem::Set(_) => None,
        });
        meanings[id.index()].matched.sure = ranges.collect();
        for item in items {
            match item {
                SetItem::Set(Reference::Found(inner)) => nested[id.index()].push(*inner),
                SetItem::Set(missing @ Reference::Missing(_)) => {
                    let meaning = &mut meanings[id.index()];
                    meaning.matched = meaning.matched.union(&Matched::unknown());
                    meaning.open.push(Peer::AddressSet(missing.clone()));
                }
                SetItem::Block(_) => {}
            }
        }
    }
    if has(Fault::SetsWithoutNesting) {
        return meanings;
    }
    let mut changed = true;
    while changed {
        changed = false;
        for (at, inner) in nested.iter().enumerate() {
            for other in inner {
                let joined = meanings[at].matched.union(&meanings[other.index()].matched);
                let fresh = meanings[other.index()]
                    .open
                    .iter()
                    .filter(|part| !meanings[at].open.contains(part));
                let fresh: Vec<Peer> = fresh.cloned().collect();
                if joined != meanings[at].matched || !fresh.is_empty() {
                    meanings[at].matched = joined;
                    meanings[at].open.extend(fresh);
                    changed = true;
                }
            }
        }
    }
    for id in estate.address_sets.ids() {
        meanings[id.index()].cyclic = reaches_itself(id, &nested);
    }
    meanings
}

fn reaches_itself(start: Id<AddressSet>, nested: &[Vec<Id<AddressSet>>]) -> bool {
    let mut seen = FxHashSet::default();
    let mut open = nested[start.index()].clone();
    while let Some(next) = open.pop() {
        if next == start {
            return true;
        }
        if seen.insert(next) {
            open.extend(&nested[next.index()]);
        }
    }
    false
}
