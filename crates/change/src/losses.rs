//! What is lost if one thing fails, thing by thing: the estate as it is is walked once.

use crate::class::Class;
use crate::compare::{Difference, Frame, Walks, differing, walks};
use crate::outcome::State;
use heronshale_engine::fabric::Fabric;
use heronshale_sets::address::Addresses;
use heronshale_sets::packet::PacketSet;

/// A state against which others are held.
pub struct Base<'f, 'e> {
    frame: Frame<'f, 'e>,
    walks: Walks,
}

/// What differs in a state in which something failed.
#[derive(Clone, Debug)]
pub struct Loss {
    /// What differs, its causes not looked for.
    pub differences: Vec<Difference>,
    /// Of these, by their places, what works and lacks a firewall that all of it passed.
    pub uninspected: Vec<usize>,
}

impl Loss {
    /// Whether no connection is known to fare otherwise, but for how it fails.
    pub fn is_nothing(&self) -> bool {
        let mut all = self.differences.iter();
        all.all(|one| one.class == Class::FailsOtherwise)
    }

    /// Whether it does something that neither of two others does: connections that fare otherwise, or lack a firewall.
    pub fn exceeds(&self, others: [&Self; 2]) -> bool {
        let told = |one: &&Difference| one.class != Class::FailsOtherwise;
        let beyond = |one: &Difference, others: &[Vec<&Difference>; 2]| {
            let there = others.iter().flatten();
            let known = there.filter(|other| (&other.from, other.class) == (&one.from, one.class));
            let known = PacketSet::union_all(known.map(|other| other.packets.clone()));
            !one.packets.difference(&known).is_empty()
        };
        let all = others.map(|other| other.differences.iter().filter(told).collect());
        let blind = others.map(|other| {
            let places = other.uninspected.iter();
            places.map(|at| &other.differences[*at]).collect()
        });
        let mut mine = self.differences.iter().filter(told);
        let mut unseen = self.uninspected.iter().map(|at| &self.differences[*at]);
        mine.any(|one| beyond(one, &all)) || unseen.any(|one| beyond(one, &blind))
    }
}

impl<'f, 'e> Base<'f, 'e> {
    /// A state, walked.
    pub fn of(view: &'f Fabric<'e>) -> Self {
        let frame = Frame::of((view, view), None);
        let walks = walks(&frame.old, &frame.asked);
        Self { frame, walks }
    }

    /// What differs in another state that has the same addresses.
    pub fn against(&self, other: &Fabric<'_>) -> Loss {
        let state = State::of(other, &Addresses::empty());
        let walks = walks(&state, &self.frame.asked);
        let (differences, _) = differing(&self.frame.asked, &self.walks, &walks);
        let misses = |(_, one): &(usize, &Difference)| one.new.misses(&[&one.old]);
        let uninspected = differences.iter().enumerate().filter(misses);
        Loss {
            uninspected: uninspected.map(|(at, _)| at).collect(),
            differences,
        }
    }
}
