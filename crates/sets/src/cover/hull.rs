//! One span in each dimension: how far a proof may be widened.

use super::region::Region;
use super::rules::{Point, Product};
use super::spans::{Coordinate, Spans};

/// The packet with the highest number in each dimension.
pub(super) fn high_of<N: Coordinate>(product: &Product<'_, N>) -> Point<N> {
    fn last<T: Copy>(spans: &[(T, T)]) -> T {
        spans[spans.len() - 1].1
    }
    Point {
        source: last(product.source),
        destination: last(product.destination),
        service: last(product.service),
        other: last(product.other),
    }
}

/// One span in each dimension.
#[derive(Clone, Copy)]
pub(super) struct Hull<N> {
    addresses: [(N, N); 2],
    numbers: [(u32, u32); 2],
}

pub(super) fn hull<N: Coordinate>(product: &Product<'_, N>) -> Hull<N> {
    let (low, high) = (product.low(), high_of(product));
    Hull {
        addresses: [
            (low.source, high.source),
            (low.destination, high.destination),
        ],
        numbers: [(low.service, high.service), (low.other, high.other)],
    }
}

/// The hull of a product that is nothing else.
pub(super) fn single<N: Coordinate>(product: &Product<'_, N>) -> Option<Hull<N>> {
    let plain = [
        product.source.len(),
        product.destination.len(),
        product.service.len(),
        product.other.len(),
    ];
    (plain == [1; 4]).then(|| hull(product))
}

impl<N: Coordinate> Hull<N> {
    pub fn join(&mut self, product: &Product<'_, N>) {
        fn wider<T: Ord + Copy>(a: &mut (T, T), b: (T, T)) {
            *a = (a.0.min(b.0), a.1.max(b.1));
        }
        let other = hull(product);
        self.addresses
            .iter_mut()
            .zip(other.addresses)
            .for_each(|(a, b)| wider(a, b));
        self.numbers
            .iter_mut()
            .zip(other.numbers)
            .for_each(|(a, b)| wider(a, b));
    }

    /// Whether it holds all of another.
    #[inline]
    pub fn holds(&self, other: &Self) -> bool {
        fn holds<T: Ord>(a: &(T, T), b: &(T, T)) -> bool {
            a.0 <= b.0 && b.1 <= a.1
        }
        holds(&self.numbers[0], &other.numbers[0])
            && holds(&self.addresses[0], &other.addresses[0])
            && holds(&self.addresses[1], &other.addresses[1])
            && holds(&self.numbers[1], &other.numbers[1])
    }

    pub fn region(&self) -> Region<N> {
        let one = |span: (N, N)| Spans::from_buf([span]);
        let number = |span: (u32, u32)| Spans::from_buf([span]);
        Region {
            source: one(self.addresses[0]),
            destination: one(self.addresses[1]),
            service: number(self.numbers[0]),
            other: number(self.numbers[1]),
        }
    }

    /// The span of a dimension, as numbers.
    fn span(&self, dimension: usize) -> (u128, u128) {
        match dimension {
            0 | 1 => (
                self.addresses[dimension].0.number(),
                self.addresses[dimension].1.number(),
            ),
            _ => (
                u128::from(self.numbers[dimension - 2].0),
                u128::from(self.numbers[dimension - 2].1),
            ),
        }
    }

    fn with_span(&self, dimension: usize, (first, last): (u128, u128)) -> Self {
        let mut hull = *self;
        match dimension {
            0 | 1 => hull.addresses[dimension] = (N::from_number(first), N::from_number(last)),
            _ => hull.numbers[dimension - 2] = (u32::from_number(first), u32::from_number(last)),
        }
        hull
    }

    /// How wide it is in the dimension of a side; sides are two to a dimension, low and high.
    pub fn width(&self, side: usize) -> u128 {
        let (first, last) = self.span(side / 2);
        (last - first).saturating_add(1)
    }

    /// A slab of some width beyond a side, and the whole with it; none at the end of the dimension.
    pub fn beyond(&self, side: usize, width: u128) -> Option<(Self, Self)> {
        let (first, last) = self.span(side / 2);
        let most = if side < 4 && N::BITS == 128 {
            u128::MAX
        } else {
            u128::from(u32::MAX)
        };
        let (slab, whole) = if side.is_multiple_of(2) {
            let from = first.saturating_sub(width);
            ((from, first.checked_sub(1)?), (from, last))
        } else {
            let to = last.saturating_add(width).min(most);
            (
                (last.checked_add(1).filter(|next| *next <= most)?, to),
                (first, to),
            )
        };
        Some((
            self.with_span(side / 2, slab),
            self.with_span(side / 2, whole),
        ))
    }

    /// Leaves out a packet and keeps a core, by the cut that loses least; false if the packet is in the core.
    pub fn cut(&mut self, point: Point<N>, core: &Self) -> bool {
        fn cut<T: Coordinate>(span: (T, T), at: T, core: (T, T)) -> Option<((T, T), f64)> {
            let left = if at < core.0 {
                (at.after(), span.1)
            } else if at > core.1 {
                (span.0, at.before())
            } else {
                return None;
            };
            Some((left, T::about(left) / T::about(span)))
        }
        let mut best: Option<(Self, f64)> = None;
        let mut offer = |hull: Self, kept: f64| {
            if best.as_ref().is_none_or(|(_, most)| kept > *most) {
                best = Some((hull, kept));
            }
        };
        for (at, number) in [point.source, point.destination].into_iter().enumerate() {
            if let Some((left, kept)) = cut(self.addresses[at], number, core.addresses[at]) {
                let mut hull = *self;
                hull.addresses[at] = left;
                offer(hull, kept);
            }
        }
        for (at, number) in [point.service, point.other].into_iter().enumerate() {
            if let Some((left, kept)) = cut(self.numbers[at], number, core.numbers[at]) {
                let mut hull = *self;
                hull.numbers[at] = left;
                offer(hull, kept);
            }
        }
        best.map(|(hull, _)| *self = hull).is_some()
    }
}
