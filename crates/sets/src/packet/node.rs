//! Canonical interval diagrams: maps from points in several dimensions to labels.
//!
//! *Problem.* "Which rule decides this packet?" is a function on a space of 2^300 points that is constant on
//! few, large pieces. A set of packets is the same with one label.
//!
//! *Form.* A branch is one dimension: sorted slices, each an interval and what lies below it; points in no slice
//! have no label. Slices below a branch have all the same height. Canonical: no slice is empty, and no two
//! touching slices have equal children. Hence two diagrams are equal if and only if the maps are.
//!
//! *Cost.* A merge visits each pair of overlapping slices once and remembers pairs of shared branches, so
//! it is at most the product of the two sizes and in practice near their sum.
//!
//! *Source.* Interval decision diagrams: Strehl and Thiele, "Symbolic model checking of process networks using
//! interval diagram techniques", ICCAD 1998; here without sharing between diagrams, since no global table is kept.

use rustc_hash::{FxHashMap, FxHashSet};
use std::cell::Cell;
use std::sync::Arc;

thread_local! {
    /// Slices that operations of this thread have looked at or made.
    static EFFORT: Cell<u64> = const { Cell::new(0) };
}

fn spend(slices: usize) {
    EFFORT.with(|effort| effort.set(effort.get() + slices as u64));
}

/// How many slices operations on packet sets have looked at or made, on this thread: a measure of time that is the same on every machine.
pub fn effort() -> u64 {
    EFFORT.with(Cell::get)
}

/// Does something for the good of all that ask later: it costs no effort of who is the first to ask.
pub fn for_all<T>(make: impl FnOnce() -> T) -> T {
    let before = effort();
    let made = make();
    EFFORT.with(|effort| effort.set(before));
    made
}

/// What a label must be: cheap to copy and to compare.
pub trait Label: Copy + Eq {}
impl<T: Copy + Eq> Label for T {}

/// A label, or one dimension and what lies below it.
#[derive(Clone, Debug)]
pub(crate) enum Node<L> {
    /// Below the last dimension.
    Leaf(L),
    /// One dimension: never without slices.
    Branch(Arc<[Slice<L>]>),
}

/// An interval of one dimension, both ends inclusive, and what lies below it.
#[derive(Clone, Debug)]
pub(crate) struct Slice<L> {
    pub first: u128,
    pub last: u128,
    pub child: Node<L>,
}

impl<L: Label> PartialEq for Node<L> {
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Node::Leaf(a), Node::Leaf(b)) => a == b,
            (Node::Branch(a), Node::Branch(b)) => {
                Arc::ptr_eq(a, b)
                    || (a.len() == b.len()
                        && a.iter()
                            .zip(b.iter())
                            .all(|(x, y)| x.first == y.first && x.last == y.last)
                        && a.iter().zip(b.iter()).all(|(x, y)| x.child == y.child))
            }
            _ => false,
        }
    }
}
impl<L: Label> Eq for Node<L> {}

impl<L: Label> Node<L> {
    /// The slices of a branch; a leaf has none.
    pub fn slices(&self) -> &[Slice<L>] {
        match self {
            Node::Leaf(_) => &[],
            Node::Branch(slices) => slices,
        }
    }

    /// Whether the canonical form holds everywhere.
    pub fn check(&self) -> bool {
        let slices = self.slices();
        let sorted = slices.windows(2).all(|pair| {
            pair[0].last < pair[1].first
                && (pair[0].last + 1 < pair[1].first || pair[0].child != pair[1].child)
        });
        let inside = slices
            .iter()
            .all(|slice| slice.first <= slice.last && slice.child.check());
        sorted && inside && (matches!(self, Node::Leaf(_)) || !slices.is_empty())
    }
}

/// Collects slices in ascending order and restores the canonical form.
pub(crate) struct Slices<L>(Vec<Slice<L>>);

impl<L: Label> Slices<L> {
    pub fn new() -> Self {
        Self(Vec::new())
    }

    /// Appends an interval beyond all earlier ones.
    pub fn push(&mut self, first: u128, last: u128, child: Node<L>) {
        match self.0.last_mut() {
            Some(end) if end.last + 1 == first && end.child == child => end.last = last,
            _ => self.0.push(Slice { first, last, child }),
        }
    }

    pub fn finish(mut self) -> Option<Node<L>> {
        self.taken()
    }

    /// The branch of what was pushed, whose memory is free for another.
    fn taken(&mut self) -> Option<Node<L>> {
        if self.0.is_empty() {
            return None;
        }
        spend(self.0.len());
        let node = Node::Branch(self.0.drain(..).collect());
        debug_assert!(
            node.slices()
                .windows(2)
                .all(|pair| pair[0].last < pair[1].first)
        );
        Some(node)
    }
}

/// What a merge does where both sides have a label, and where only one has.
pub(crate) trait Merge {
    type A: Label;
    type B: Label;
    type C: Label;
    fn both(&mut self, a: Self::A, b: Self::B) -> Option<Self::C>;
    fn only_a(&mut self, a: &Node<Self::A>) -> Option<Node<Self::C>>;
    fn only_b(&mut self, b: &Node<Self::B>) -> Option<Node<Self::C>>;
    /// The result if it is known for two whole branches: for operations on equal or shared ones.
    fn shared(&mut self, _a: &Node<Self::A>, _b: &Node<Self::B>) -> Option<Option<Node<Self::C>>> {
        None
    }
}

/// What a merge knows already, and memory that it uses again.
struct Work<C> {
    known: FxHashMap<(usize, usize), Option<Node<C>>>,
    spare: Vec<Slices<C>>,
}

/// Below this many slices on both sides a result right above the labels is made again and not remembered.
const REMEMBER_FROM: usize = 6;

/// Merges two diagrams of equal height.
pub(crate) fn merge<M: Merge>(
    op: &mut M,
    a: Option<&Node<M::A>>,
    b: Option<&Node<M::B>>,
) -> Option<Node<M::C>> {
    merge_within(
        op,
        a,
        b,
        &mut Work {
            known: FxHashMap::default(),
            spare: Vec::new(),
        },
    )
}

fn merge_within<M: Merge>(
    op: &mut M,
    a: Option<&Node<M::A>>,
    b: Option<&Node<M::B>>,
    work: &mut Work<M::C>,
) -> Option<Node<M::C>> {
    let (a, b) = match (a, b) {
        (None, None) => return None,
        (Some(a), None) => return op.only_a(a),
        (None, Some(b)) => return op.only_b(b),
        (Some(a), Some(b)) => (a, b),
    };
    match (a, b) {
        (Node::Leaf(x), Node::Leaf(y)) => op.both(*x, *y).map(Node::Leaf),
        (Node::Branch(x), Node::Branch(y)) => {
            if let Some(known) = op.shared(a, b) {
                return known;
            }
            let key = (x.as_ptr() as usize, y.as_ptr() as usize);
            let remembered =
                x.len() + y.len() >= REMEMBER_FROM || matches!(x[0].child, Node::Branch(_));
            if remembered && let Some(known) = work.known.get(&key) {
                return known.clone();
            }
            let merged = sweep(op, x, y, work);
            if remembered {
                work.known.insert(key, merged.clone());
            }
            merged
        }
        _ => unreachable!("both sides of a merge have the same height"),
    }
}

/// Walks two sorted lists of slices at once, cut where either begins or ends.
fn sweep<M: Merge>(
    op: &mut M,
    a: &[Slice<M::A>],
    b: &[Slice<M::B>],
    work: &mut Work<M::C>,
) -> Option<Node<M::C>> {
    let mut out = work.spare.pop().unwrap_or_else(Slices::new);
    let (mut i, mut j, mut at) = (0, 0, 0_u128);
    while i < a.len() || j < b.len() {
        let (x, y) = (a.get(i), b.get(j));
        let from = |first: u128| first.max(at);
        let (xs, ys) = (x.map(|s| from(s.first)), y.map(|s| from(s.first)));
        let start = match (xs, ys) {
            (Some(p), Some(q)) => p.min(q),
            (Some(p), None) | (None, Some(p)) => p,
            (None, None) => break,
        };
        let (in_a, in_b) = (
            x.filter(|_| xs == Some(start)),
            y.filter(|_| ys == Some(start)),
        );
        let end_of = |active: Option<u128>, next: Option<u128>| match (active, next) {
            (Some(last), _) => last,
            (None, Some(next)) => next - 1,
            (None, None) => u128::MAX,
        };
        let end = end_of(in_a.map(|s| s.last), xs).min(end_of(in_b.map(|s| s.last), ys));
        if let Some(child) = merge_within(op, in_a.map(|s| &s.child), in_b.map(|s| &s.child), work)
        {
            out.push(start, end, child);
        }
        i += usize::from(in_a.is_some_and(|s| s.last == end));
        j += usize::from(in_b.is_some_and(|s| s.last == end));
        at = end.saturating_add(1);
    }
    spend(a.len() + b.len());
    let merged = out.taken();
    work.spare.push(out);
    merged
}

/// Pairs of branches of which the answer is known to be the same as before.
type Seen = FxHashSet<(usize, usize)>;

/// Whether two diagrams have a label at one point.
pub(crate) fn meet<A: Label, B: Label>(a: &Node<A>, b: &Node<B>, apart: &mut Seen) -> bool {
    let (Node::Branch(x), Node::Branch(y)) = (a, b) else {
        return true;
    };
    let key = (x.as_ptr() as usize, y.as_ptr() as usize);
    if key.0 == key.1 {
        return true;
    }
    let remembered = x.len() + y.len() >= REMEMBER_FROM;
    if remembered && apart.contains(&key) {
        return false;
    }
    let (mut i, mut j) = (0, 0);
    while let (Some(p), Some(q)) = (x.get(i), y.get(j)) {
        if p.last < q.first {
            i += x[i..].partition_point(|slice| slice.last < q.first);
        } else if q.last < p.first {
            j += y[j..].partition_point(|slice| slice.last < p.first);
        } else {
            if meet(&p.child, &q.child, apart) {
                return true;
            }
            if p.last <= q.last {
                i += 1;
            } else {
                j += 1;
            }
        }
    }
    if remembered {
        apart.insert(key);
    }
    false
}

/// Whether the second diagram has a label wherever the first has one.
pub(crate) fn within<A: Label, B: Label>(a: &Node<A>, b: &Node<B>, inside: &mut Seen) -> bool {
    let (Node::Branch(x), Node::Branch(y)) = (a, b) else {
        return true;
    };
    let key = (x.as_ptr() as usize, y.as_ptr() as usize);
    let remembered = x.len() + y.len() >= REMEMBER_FROM;
    if key.0 == key.1 || (remembered && inside.contains(&key)) {
        return true;
    }
    let mut j = 0;
    for p in x.iter() {
        let mut from = p.first;
        loop {
            j += y[j..].partition_point(|slice| slice.last < from);
            let Some(q) = y.get(j).filter(|q| q.first <= from) else {
                return false;
            };
            if !within(&p.child, &q.child, inside) {
                return false;
            }
            if q.last >= p.last {
                break;
            }
            from = q.last + 1;
        }
    }
    if remembered {
        inside.insert(key);
    }
    true
}

/// Labels of the first side where it has one, else of the second.
pub(crate) struct Overlay<L>(pub std::marker::PhantomData<L>);

impl<L: Label> Merge for Overlay<L> {
    type A = L;
    type B = L;
    type C = L;
    fn both(&mut self, a: L, _b: L) -> Option<L> {
        Some(a)
    }
    fn only_a(&mut self, a: &Node<L>) -> Option<Node<L>> {
        Some(a.clone())
    }
    fn only_b(&mut self, b: &Node<L>) -> Option<Node<L>> {
        Some(b.clone())
    }
    fn shared(&mut self, a: &Node<L>, b: &Node<L>) -> Option<Option<Node<L>>> {
        matches!((a, b), (Node::Branch(x), Node::Branch(y)) if Arc::ptr_eq(x, y))
            .then(|| Some(a.clone()))
    }
}

/// The first side, only where the second has a label.
pub(crate) struct Restrict<L, M>(pub std::marker::PhantomData<(L, M)>);

impl<L: Label, M: Label> Merge for Restrict<L, M> {
    type A = L;
    type B = M;
    type C = L;
    fn both(&mut self, a: L, _b: M) -> Option<L> {
        Some(a)
    }
    fn only_a(&mut self, _a: &Node<L>) -> Option<Node<L>> {
        None
    }
    fn only_b(&mut self, _b: &Node<M>) -> Option<Node<L>> {
        None
    }
    fn shared(&mut self, a: &Node<L>, b: &Node<M>) -> Option<Option<Node<L>>> {
        one_branch(a, b).then(|| Some(a.clone()))
    }
}

/// Whether both are one branch, held once.
fn one_branch<L, M>(a: &Node<L>, b: &Node<M>) -> bool {
    matches!((a, b), (Node::Branch(x), Node::Branch(y)) if std::ptr::addr_eq(x.as_ptr(), y.as_ptr()))
}

/// The slices of a branch that meet some intervals, cut to these, with what `below` makes of their children.
pub(crate) fn narrowed<L: Label>(
    node: &Node<L>,
    spans: &[(u128, u128)],
    mut below: impl FnMut(&Node<L>) -> Option<Node<L>>,
) -> Option<Node<L>> {
    let slices = node.slices();
    let mut out = Slices::new();
    let (mut at, mut next) = (0, 0);
    while at < slices.len() && next < spans.len() {
        // Whichever is behind catches up by halving.
        at += slices[at..].partition_point(|slice| slice.last < spans[next].0);
        let Some(slice) = slices.get(at) else { break };
        next += spans[next..].partition_point(|(_, last)| *last < slice.first);
        let Some((first, last)) = spans.get(next).copied() else {
            break;
        };
        if first > slice.last {
            continue;
        }
        if let Some(child) = below(&slice.child) {
            out.push(slice.first.max(first), slice.last.min(last), child);
        }
        if slice.last <= last {
            at += 1;
        } else {
            next += 1;
        }
    }
    out.finish()
}

/// The first side, only where the second has no label.
pub(crate) struct Without<L, M>(pub std::marker::PhantomData<(L, M)>);

impl<L: Label, M: Label> Merge for Without<L, M> {
    type A = L;
    type B = M;
    type C = L;
    fn both(&mut self, _a: L, _b: M) -> Option<L> {
        None
    }
    fn only_a(&mut self, a: &Node<L>) -> Option<Node<L>> {
        Some(a.clone())
    }
    fn only_b(&mut self, _b: &Node<M>) -> Option<Node<L>> {
        None
    }
    fn shared(&mut self, a: &Node<L>, b: &Node<M>) -> Option<Option<Node<L>>> {
        one_branch(a, b).then_some(None)
    }
}

/// Where both sides have a label, what a function makes of the two.
pub(crate) struct Combine<L, M, N, F: FnMut(L, M) -> Option<N>>(
    pub F,
    pub std::marker::PhantomData<(L, M, N)>,
);

impl<L: Label, M: Label, N: Label, F: FnMut(L, M) -> Option<N>> Merge for Combine<L, M, N, F> {
    type A = L;
    type B = M;
    type C = N;
    fn both(&mut self, a: L, b: M) -> Option<N> {
        (self.0)(a, b)
    }
    fn only_a(&mut self, _a: &Node<L>) -> Option<Node<N>> {
        None
    }
    fn only_b(&mut self, _b: &Node<M>) -> Option<Node<N>> {
        None
    }
}
