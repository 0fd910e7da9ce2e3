//! Sorted, disjoint spans of numbers as plain slices: the operations that proofs need, fast for one span.

use smallvec::SmallVec;
use std::cmp::Reverse;
use std::fmt::Debug;
use std::hash::Hash;

/// A number of one dimension: an address of IPv4 or IPv6, a service, a source port.
pub trait Coordinate: Copy + Ord + Hash + Debug + Default + Send + Sync {
    /// How many bits it has.
    const BITS: u32;
    /// From a number that fits.
    fn from_number(number: u128) -> Self;
    /// As a number.
    fn number(self) -> u128;
    /// The number after it, which must exist.
    #[must_use]
    fn after(self) -> Self;
    /// The number before it, which must exist.
    #[must_use]
    fn before(self) -> Self;
    /// How many numbers a span holds, rounded: only to choose by, never to decide.
    fn about(span: (Self, Self)) -> f64;
    /// Sorts by where spans begin, wider ones first, then by the number beside them.
    fn sort(keys: &mut [((Self, Self), u32)]) {
        keys.sort_unstable_by_key(|((first, last), at)| (*first, Reverse(*last), *at));
    }
}

impl Coordinate for u32 {
    const BITS: u32 = 32;
    fn from_number(number: u128) -> Self {
        Self::try_from(number).unwrap_or(Self::MAX)
    }
    fn number(self) -> u128 {
        u128::from(self)
    }
    fn after(self) -> Self {
        self + 1
    }
    fn before(self) -> Self {
        self - 1
    }
    fn about(span: (Self, Self)) -> f64 {
        f64::from(span.1 - span.0) + 1.0
    }
    #[allow(clippy::cast_possible_truncation, reason = "a number is taken apart")]
    fn sort(keys: &mut [((Self, Self), u32)]) {
        // One number each, so that comparing needs no branches.
        let one = |((first, last), at): &((u32, u32), u32)| {
            u128::from(*first) << 64 | u128::from(!*last) << 32 | u128::from(*at)
        };
        let mut numbers: Vec<u128> = keys.iter().map(one).collect();
        numbers.sort_unstable();
        for (key, number) in keys.iter_mut().zip(numbers) {
            *key = (
                ((number >> 64) as u32, !((number >> 32) as u32)),
                number as u32,
            );
        }
    }
}

impl Coordinate for u128 {
    const BITS: u32 = 128;
    fn from_number(number: u128) -> Self {
        number
    }
    fn number(self) -> u128 {
        self
    }
    fn after(self) -> Self {
        self + 1
    }
    fn before(self) -> Self {
        self - 1
    }
    #[allow(clippy::cast_precision_loss, reason = "a rounded size is wanted")]
    fn about(span: (Self, Self)) -> f64 {
        (span.1 - span.0) as f64 + 1.0
    }
}

/// First and last number of each span, ascending, none touching the next.
pub type Spans<T> = SmallVec<[(T, T); 1]>;

/// The spans from the first that ends at or after a number.
#[inline]
fn from<T: Coordinate>(spans: &[(T, T)], number: T) -> &[(T, T)] {
    let skipped = if spans.len() > 8 {
        spans.partition_point(|span| span.1 < number)
    } else {
        spans.iter().take_while(|span| span.1 < number).count()
    };
    &spans[skipped..]
}

/// Whether a number is in one of the spans.
#[inline]
pub fn has<T: Coordinate>(spans: &[(T, T)], number: T) -> bool {
    if let [span] = spans {
        return span.0 <= number && number <= span.1;
    }
    from(spans, number)
        .first()
        .is_some_and(|span| span.0 <= number)
}

/// Whether two have a number in common.
#[inline]
pub fn overlap<T: Coordinate>(a: &[(T, T)], b: &[(T, T)]) -> bool {
    if let ([one], [other]) = (a, b) {
        return one.0 <= other.1 && other.0 <= one.1;
    }
    let (few, many) = if a.len() <= b.len() { (a, b) } else { (b, a) };
    few.iter().any(|span| {
        from(many, span.0)
            .first()
            .is_some_and(|other| other.0 <= span.1)
    })
}

/// Whether all of `b` is in `a`.
#[inline]
pub fn holds<T: Coordinate>(a: &[(T, T)], b: &[(T, T)]) -> bool {
    if let ([over], [span]) = (a, b) {
        return over.0 <= span.0 && span.1 <= over.1;
    }
    b.iter().all(|span| {
        from(a, span.0)
            .first()
            .is_some_and(|over| over.0 <= span.0 && span.1 <= over.1)
    })
}

/// What both have.
pub fn meet<T: Coordinate>(a: &[(T, T)], b: &[(T, T)]) -> Spans<T> {
    let mut both = Spans::new();
    let (few, many) = if a.len() <= b.len() { (a, b) } else { (b, a) };
    for span in few {
        for other in from(many, span.0)
            .iter()
            .take_while(|other| other.0 <= span.1)
        {
            both.push((span.0.max(other.0), span.1.min(other.1)));
        }
    }
    both
}

/// What `a` has and `b` has not.
pub fn minus<T: Coordinate>(a: &[(T, T)], b: &[(T, T)]) -> Spans<T> {
    let mut rest = Spans::new();
    for &(first, last) in a {
        let mut at = Some(first);
        for other in from(b, first).iter().take_while(|other| other.0 <= last) {
            let Some(next) = at else { break };
            if other.0 > next {
                rest.push((next, other.0.before()));
            }
            at = (other.1 < last).then(|| other.1.after());
        }
        if let Some(next) = at {
            rest.push((next, last));
        }
    }
    rest
}

/// How many numbers, rounded.
pub fn about<T: Coordinate>(spans: &[(T, T)]) -> f64 {
    spans.iter().map(|span| T::about(*span)).sum()
}

/// The smallest prefix around a span.
pub fn enclosing<T: Coordinate>(span: (T, T)) -> (T, T) {
    let (first, last) = (span.0.number(), span.1.number());
    let host = u128::MAX
        .checked_shr((first ^ last).leading_zeros())
        .unwrap_or(0);
    (T::from_number(first & !host), T::from_number(first | host))
}
