//! Boxes around things that follow one another, and around those: what is far away is passed over at once.

use super::spans::Coordinate;
use std::ops::ControlFlow;

/// How many things, or boxes, are in one box.
const FAN: usize = 16;

/// What some parts of rules reach at most.
#[derive(Clone, Copy, Debug)]
pub(super) struct Bounds<N> {
    pub source: (N, N),
    pub destination: (N, N),
    pub service: (u32, u32),
    pub rule: (u32, u32),
    pub decisions: u32,
}

impl<N: Coordinate> Bounds<N> {
    fn join(&mut self, other: &Self) {
        let wide = |a: &mut (N, N), b: (N, N)| *a = (a.0.min(b.0), a.1.max(b.1));
        let wider = |a: &mut (u32, u32), b: (u32, u32)| *a = (a.0.min(b.0), a.1.max(b.1));
        wide(&mut self.source, other.source);
        wide(&mut self.destination, other.destination);
        wider(&mut self.service, other.service);
        wider(&mut self.rule, other.rule);
        self.decisions |= other.decisions;
    }
}

/// Boxes of 16 things each, of 16 of those, and so on.
#[derive(Debug)]
pub(super) struct Tree<N> {
    levels: Vec<Vec<Bounds<N>>>,
}

impl<N: Coordinate> Tree<N> {
    /// Around things in their order.
    pub fn new(things: impl Iterator<Item = Bounds<N>>) -> Self {
        let mut level: Vec<Bounds<N>> = Vec::with_capacity(things.size_hint().0.div_ceil(FAN));
        for (at, bounds) in things.enumerate() {
            match level.last_mut() {
                Some(last) if at % FAN != 0 => last.join(&bounds),
                _ => level.push(bounds),
            }
        }
        let mut levels = Vec::new();
        while level.len() > 1 {
            let join = |some: &[Bounds<N>]| {
                let mut all = some[0];
                some[1..].iter().for_each(|one| all.join(one));
                all
            };
            let above: Vec<Bounds<N>> = level.chunks(FAN).map(join).collect();
            levels.push(level);
            level = above;
        }
        levels.push(level);
        Self { levels }
    }

    /// Looks at some of the things in their order, wherever `may` says that something may be.
    pub fn within(
        &self,
        things: (usize, usize),
        may: &mut impl FnMut(&Bounds<N>) -> bool,
        look: &mut impl FnMut(usize) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        self.down(self.levels.len(), things, may, look)
    }

    fn down(
        &self,
        level: usize,
        (from, end): (usize, usize),
        may: &mut impl FnMut(&Bounds<N>) -> bool,
        look: &mut impl FnMut(usize) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        if level == 0 {
            return (from..end).try_for_each(look);
        }
        let size = FAN.pow(u32::try_from(level).unwrap_or(u32::MAX));
        for at in from / size..end.div_ceil(size) {
            if may(&self.levels[level - 1][at]) {
                self.down(
                    level - 1,
                    (from.max(at * size), end.min((at + 1) * size)),
                    may,
                    look,
                )?;
            }
        }
        ControlFlow::Continue(())
    }

    /// How many bytes it takes on the heap.
    pub fn bytes(&self) -> usize {
        self.levels
            .iter()
            .map(|level| level.capacity() * size_of::<Bounds<N>>())
            .sum()
    }
}
