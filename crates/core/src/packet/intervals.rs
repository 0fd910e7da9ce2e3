//! Sets of whole numbers as sorted intervals: one dimension of a packet set.
//!
//! *Terms.* An interval is a pair (first, last), both inclusive. The canonical form is: sorted, and between
//! two neighbours at least one number is missing. So `==` is equality of the sets.
//!
//! *Example.* `{1, 2, 3} ∪ {4} ∪ {9}` is kept as `[(1, 4), (9, 9)]`.
//!
//! *Cost.* Every operation is linear in the number of intervals of both sides.

use smallvec::{SmallVec, smallvec};
use std::fmt;

/// Most sets are one interval, and need no memory of their own.
type Spans = SmallVec<[(u128, u128); 1]>;

/// A set of whole numbers from 0 to 2^128 - 1, in canonical form.
#[derive(Clone, PartialEq, Eq, Hash, Default, PartialOrd, Ord)]
pub struct Intervals {
    /// Sorted; `spans[i].1 + 1 < spans[i + 1].0`: if and only if this holds is `==` set equality.
    spans: Spans,
}

impl fmt::Debug for Intervals {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(self.spans.iter()).finish()
    }
}

impl Intervals {
    /// The set without members.
    pub const fn empty() -> Self {
        Self { spans: SmallVec::new_const() }
    }

    /// All numbers from `first` to `last`, both inclusive; empty if `first > last`.
    pub fn span(first: u128, last: u128) -> Self {
        if first > last { Self::empty() } else { Self { spans: smallvec![(first, last)] } }
    }

    /// The union of any intervals, in any order, overlapping or not. Reversed ones count as empty.
    pub fn from_spans(spans: impl IntoIterator<Item = (u128, u128)>) -> Self {
        let mut given: Spans = spans.into_iter().filter(|(first, last)| first <= last).collect();
        if !given.is_sorted() {
            given.sort_unstable();
        }
        Self::joined(given)
    }

    /// Intervals in ascending order, those that overlap or touch as one.
    fn joined(mut spans: Spans) -> Self {
        let mut kept = 0;
        for at in 1..spans.len() {
            let (first, last) = spans[at];
            let end = &mut spans[kept];
            if end.1 == u128::MAX || end.1 + 1 >= first {
                end.1 = end.1.max(last);
            } else {
                kept += 1;
                spans[kept] = (first, last);
            }
        }
        spans.truncate(kept + 1);
        Self { spans }
    }

    /// The intervals, sorted, none touching the next.
    pub fn spans(&self) -> &[(u128, u128)] {
        &self.spans
    }

    /// Whether a number from `first` to `last` is in the set.
    pub fn touches(&self, first: u128, last: u128) -> bool {
        let after = self.spans.partition_point(|span| span.1 < first);
        self.spans.get(after).is_some_and(|span| span.0 <= last)
    }

    /// Whether no number is in the set.
    pub fn is_empty(&self) -> bool {
        self.spans.is_empty()
    }

    /// The smallest member.
    pub fn first(&self) -> Option<u128> {
        self.spans.first().map(|span| span.0)
    }

    /// Whether `number` is a member.
    pub fn contains(&self, number: u128) -> bool {
        let after = self.spans.partition_point(|span| span.0 <= number);
        after > 0 && self.spans[after - 1].1 >= number
    }

    /// All that is in either set.
    #[must_use]
    pub fn union(&self, other: &Self) -> Self {
        if self.is_empty() {
            return other.clone();
        }
        if other.is_empty() {
            return self.clone();
        }
        let mut spans = Spans::with_capacity(self.spans.len() + other.spans.len());
        let (mut a, mut b) = (&self.spans[..], &other.spans[..]);
        while let (Some(x), Some(y)) = (a.first(), b.first()) {
            if x <= y {
                spans.push(*x);
                a = &a[1..];
            } else {
                spans.push(*y);
                b = &b[1..];
            }
        }
        spans.extend_from_slice(a);
        spans.extend_from_slice(b);
        Self::joined(spans)
    }

    /// All that is in both sets.
    #[must_use]
    pub fn intersection(&self, other: &Self) -> Self {
        let (mut i, mut j) = (0, 0);
        let mut spans = Spans::new();
        while let (Some(a), Some(b)) = (self.spans.get(i), other.spans.get(j)) {
            let (first, last) = (a.0.max(b.0), a.1.min(b.1));
            if first <= last {
                spans.push((first, last));
            }
            if a.1 <= b.1 {
                i += 1;
            } else {
                j += 1;
            }
        }
        Self { spans }
    }

    /// All that is in this set and not in `other`.
    #[must_use]
    pub fn difference(&self, other: &Self) -> Self {
        let mut spans = Spans::new();
        let mut j = 0;
        for &(first, last) in &self.spans {
            let mut from = Some(first);
            while let (Some(start), Some(&(cut, until))) = (from, other.spans.get(j)) {
                if cut > last {
                    break;
                }
                if until < start {
                    j += 1;
                    continue;
                }
                if cut > start {
                    spans.push((start, cut - 1));
                }
                if until >= last {
                    from = None;
                } else {
                    from = Some(until + 1);
                    j += 1;
                }
            }
            if let Some(start) = from.filter(|start| *start <= last) {
                spans.push((start, last));
            }
        }
        Self { spans }
    }

    /// Whether every member is in `other` too.
    pub fn is_subset(&self, other: &Self) -> bool {
        self.spans.iter().all(|&(first, last)| {
            let after = other.spans.partition_point(|span| span.0 <= first);
            after > 0 && other.spans[after - 1].1 >= last
        })
    }

    /// Whether some number is in both sets.
    pub fn overlaps(&self, other: &Self) -> bool {
        let (mut i, mut j) = (0, 0);
        while let (Some(a), Some(b)) = (self.spans.get(i), other.spans.get(j)) {
            if a.0 <= b.1 && b.0 <= a.1 {
                return true;
            }
            if a.1 < b.1 {
                i += 1;
            } else {
                j += 1;
            }
        }
        false
    }
}

#[cfg(test)]
mod tests {
    use super::Intervals;

    /// The set whose members are the set bits of `mask`.
    fn of_mask(mask: u16) -> Intervals {
        Intervals::from_spans((0..8).filter(|bit| mask >> bit & 1 == 1).map(|bit| (bit, bit)))
    }

    #[test]
    fn every_operation_equals_bit_masks_on_all_pairs() {
        let sets: Vec<_> = (0..256).map(of_mask).collect();
        for (a, left) in sets.iter().enumerate() {
            for (b, right) in sets.iter().enumerate() {
                assert_eq!(left.union(right), sets[a | b]);
                assert_eq!(left.intersection(right), sets[a & b]);
                assert_eq!(left.difference(right), sets[a & !b & 255]);
                assert_eq!(left.is_subset(right), a & !b == 0);
                assert_eq!(left.overlaps(right), a & b != 0);
                assert_eq!(left == right, a == b);
            }
            assert!((0..8).all(|bit| left.contains(bit) == (a >> bit & 1 == 1)));
        }
    }

    #[test]
    fn the_ends_of_the_range_are_ordinary_members() {
        let all = Intervals::span(0, u128::MAX);
        let low = Intervals::span(0, 6);
        assert_eq!(all.difference(&low), Intervals::span(7, u128::MAX));
        assert_eq!(all.difference(&low).union(&low), all);
        assert_eq!(all.difference(&Intervals::span(u128::MAX, u128::MAX)), Intervals::span(0, u128::MAX - 1));
        assert_eq!(Intervals::from_spans([(5, u128::MAX), (u128::MAX, u128::MAX)]), Intervals::span(5, u128::MAX));
        assert!(Intervals::span(4, 3).is_empty());
    }
}
