//! Sets of whole numbers as sorted intervals: one dimension of a packet set.
//!
//! *Terms.* An interval is a pair (first, last), both inclusive. The canonical form is: sorted, and between
//! two neighbours at least one number is missing. So `==` is equality of the sets.
//!
//! *Example.* `{1, 2, 3} ∪ {4} ∪ {9}` is kept as `[(1, 4), (9, 9)]`.
//!
//! *Cost.* Every operation is linear in the number of intervals of both sides; where one side has many more, linear in the
//! few and logarithmic in the many. A copy costs nothing.

use smallvec::SmallVec;
use std::cmp::Ordering;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

/// Intervals while they are put together.
type Buffer = SmallVec<[(u128, u128); 8]>;

/// A set of whole numbers from 0 to 2^128 - 1, in canonical form. Copies share their memory.
#[derive(Clone, Default)]
pub struct Intervals {
    /// Sorted; `spans[i].1 + 1 < spans[i + 1].0`: if and only if this holds is `==` set equality.
    kept: Kept,
}

/// Most sets are one interval, and need no memory of their own.
#[derive(Clone, Default)]
enum Kept {
    #[default]
    None,
    One([(u128, u128); 1]),
    Many(Arc<[(u128, u128)]>),
}

impl fmt::Debug for Intervals {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(self.spans()).finish()
    }
}

impl PartialEq for Intervals {
    fn eq(&self, other: &Self) -> bool {
        self.is_same(other) || self.spans() == other.spans()
    }
}

impl Eq for Intervals {}

impl Hash for Intervals {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.spans().hash(state);
    }
}

impl PartialOrd for Intervals {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Intervals {
    fn cmp(&self, other: &Self) -> Ordering {
        self.spans().cmp(other.spans())
    }
}

/// So many times as many intervals on one side as on the other: then each of the few is looked up among the many.
const LOPSIDED: usize = 8;

impl Intervals {
    /// The set without members.
    pub const fn empty() -> Self {
        Self { kept: Kept::None }
    }

    /// All numbers from `first` to `last`, both inclusive; empty if `first > last`.
    pub const fn span(first: u128, last: u128) -> Self {
        if first > last {
            Self::empty()
        } else {
            Self {
                kept: Kept::One([(first, last)]),
            }
        }
    }

    /// The union of any intervals, in any order, overlapping or not. Reversed ones count as empty.
    pub fn from_spans(spans: impl IntoIterator<Item = (u128, u128)>) -> Self {
        let mut given: Buffer = spans
            .into_iter()
            .filter(|(first, last)| first <= last)
            .collect();
        if !given.is_sorted() {
            given.sort_unstable();
        }
        Self::joined(given)
    }

    /// Intervals in ascending order, those that overlap or touch as one.
    fn joined(mut spans: Buffer) -> Self {
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
        Self::canonical(&spans)
    }

    /// Intervals in canonical form.
    fn canonical(spans: &[(u128, u128)]) -> Self {
        let kept = match spans {
            [] => Kept::None,
            [one] => Kept::One([*one]),
            many => Kept::Many(many.into()),
        };
        Self { kept }
    }

    /// Whether both share their memory.
    fn is_same(&self, other: &Self) -> bool {
        matches!((&self.kept, &other.kept), (Kept::Many(a), Kept::Many(b)) if Arc::ptr_eq(a, b))
    }

    /// The intervals, sorted, none touching the next.
    pub fn spans(&self) -> &[(u128, u128)] {
        match &self.kept {
            Kept::None => &[],
            Kept::One(one) => one,
            Kept::Many(many) => many,
        }
    }

    /// Whether a number from `first` to `last` is in the set.
    pub fn touches(&self, first: u128, last: u128) -> bool {
        let spans = self.spans();
        let after = spans.partition_point(|span| span.1 < first);
        spans.get(after).is_some_and(|span| span.0 <= last)
    }

    /// Whether no number is in the set.
    pub fn is_empty(&self) -> bool {
        matches!(self.kept, Kept::None)
    }

    /// The smallest member.
    pub fn first(&self) -> Option<u128> {
        self.spans().first().map(|span| span.0)
    }

    /// Whether `number` is a member.
    pub fn contains(&self, number: u128) -> bool {
        self.touches(number, number)
    }

    /// All that is in either set.
    #[must_use]
    pub fn union(&self, other: &Self) -> Self {
        if self.is_empty() || other.is_same(self) {
            return other.clone();
        }
        if other.is_empty() {
            return self.clone();
        }
        let (mut a, mut b) = (self.spans(), other.spans());
        let mut spans = Buffer::with_capacity(a.len() + b.len());
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
        if self.is_same(other) {
            return self.clone();
        }
        let (few, many) = if self.spans().len() <= other.spans().len() {
            (self.spans(), other.spans())
        } else {
            (other.spans(), self.spans())
        };
        let mut spans = Buffer::new();
        let mut rest = many;
        for &(first, last) in few {
            rest = from(rest, first, few.len());
            for (start, end) in rest.iter().take_while(|span| span.0 <= last) {
                spans.push((first.max(*start), last.min(*end)));
            }
        }
        Self::canonical(&spans)
    }

    /// All that is in this set and not in `other`.
    #[must_use]
    pub fn difference(&self, other: &Self) -> Self {
        if self.is_same(other) {
            return Self::empty();
        }
        let mut spans = Buffer::new();
        let mut rest = other.spans();
        for &(first, last) in self.spans() {
            rest = from(rest, first, self.spans().len());
            let mut left = Some(first);
            for &(cut, until) in rest.iter().take_while(|span| span.0 <= last) {
                let Some(start) = left else { break };
                if cut > start {
                    spans.push((start, cut - 1));
                }
                left = (until < last).then(|| until + 1);
            }
            spans.extend(left.map(|start| (start, last)));
        }
        Self::canonical(&spans)
    }

    /// Whether every member is in `other` too.
    pub fn is_subset(&self, other: &Self) -> bool {
        self.is_same(other)
            || self.spans().iter().all(|&(first, last)| {
                let spans = other.spans();
                let after = spans.partition_point(|span| span.0 <= first);
                after > 0 && spans[after - 1].1 >= last
            })
    }

    /// Whether some number is in both sets.
    pub fn overlaps(&self, other: &Self) -> bool {
        let (few, many) = if self.spans().len() <= other.spans().len() {
            (self.spans(), other.spans())
        } else {
            (other.spans(), self.spans())
        };
        let mut rest = many;
        few.iter().any(|(first, last)| {
            rest = from(rest, *first, few.len());
            rest.first().is_some_and(|span| span.0 <= *last)
        })
    }
}

/// The intervals from the first that ends at or after a number, of which `others` are asked in turn.
fn from(spans: &[(u128, u128)], number: u128, others: usize) -> &[(u128, u128)] {
    let before = |span: &(u128, u128)| span.1 < number;
    let skipped = if spans.len() / LOPSIDED > others {
        spans.partition_point(before)
    } else {
        spans.iter().take_while(|span| before(span)).count()
    };
    &spans[skipped..]
}

#[cfg(test)]
mod tests {
    use super::Intervals;

    /// The set whose members are the set bits of `mask`.
    fn of_mask(mask: u16) -> Intervals {
        Intervals::from_spans(
            (0..8)
                .filter(|bit| mask >> bit & 1 == 1)
                .map(|bit| (bit, bit)),
        )
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
    fn few_against_very_many_is_as_one_by_one() {
        let many = Intervals::from_spans((0..100).map(|at| (at * 10, at * 10 + 4)));
        let held = |number: u128| number < 1000 && number % 10 < 5;
        for first in 0..60_u128 {
            for few in [
                vec![(first, first)],
                vec![(first, first + 7), (first + 700, first + 950)],
                vec![(first, 2000)],
            ] {
                let few = Intervals::from_spans(few);
                let each = |keeps: &dyn Fn(u128) -> bool| {
                    Intervals::from_spans(
                        (0..=2000)
                            .filter(|number| keeps(*number))
                            .map(|number| (number, number)),
                    )
                };
                let has = |number: u128| few.contains(number);
                assert_eq!(
                    few.intersection(&many),
                    each(&|number| has(number) && held(number))
                );
                assert_eq!(
                    many.intersection(&few),
                    each(&|number| has(number) && held(number))
                );
                assert_eq!(
                    few.difference(&many),
                    each(&|number| has(number) && !held(number))
                );
                assert_eq!(
                    many.difference(&few),
                    each(&|number| !has(number) && held(number))
                );
                assert_eq!(
                    few.union(&many),
                    each(&|number| has(number) || held(number))
                );
                assert_eq!(few.overlaps(&many), !few.intersection(&many).is_empty());
                assert_eq!(few.is_subset(&many), few.difference(&many).is_empty());
            }
        }
        let copy = many.clone();
        assert!(
            copy.difference(&many).is_empty()
                && copy.union(&many) == many
                && copy.intersection(&many) == many
        );
        assert!(copy.is_subset(&many) && copy == many);
    }

    #[test]
    fn the_ends_of_the_range_are_ordinary_members() {
        let all = Intervals::span(0, u128::MAX);
        let low = Intervals::span(0, 6);
        assert_eq!(all.difference(&low), Intervals::span(7, u128::MAX));
        assert_eq!(all.difference(&low).union(&low), all);
        assert_eq!(
            all.difference(&Intervals::span(u128::MAX, u128::MAX)),
            Intervals::span(0, u128::MAX - 1)
        );
        assert_eq!(
            Intervals::from_spans([(5, u128::MAX), (u128::MAX, u128::MAX)]),
            Intervals::span(5, u128::MAX)
        );
        assert!(Intervals::span(4, 3).is_empty());
    }
}
