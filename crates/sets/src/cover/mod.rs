//! Whether rules of a list take all of another, and what becomes of its packets without it: exactly, for lists of a
//! million rules (`ARCHITECTURE.md`).
//!
//! Nothing is summed up rule by rule. Each question starts from one packet: who else matches it? Nobody: that packet is
//! the proof that something is left. Somebody: what that rule takes is cut off, and the next packet is picked from the rest.
//! When nothing is left, the rules that were used are the cover. "Who matches this packet" is answered from an
//! index built once ([`List`]): the sets of sources that hold it, times those of destinations, and
//! inside of each pair the rules by service. Where very many sets hold it, boxes around rules in their order are looked
//! through first.
//!
//! *Order.* Rules are asked fastest in the order of the index ([`List::order`]): what one needed is at hand for the next.
//!
//! Rules stay products of sets: a set of thousands of prefixes is one operand, not thousands of boxes.
//!
//! *Lemmas.* What a long proof showed to be covered, widened as far as it goes, is kept: rules inside of it need no proof.
//! A packet that was hard to find is kept too, and tried first for the rules after.
//!
//! *Limits.* A proof of more than [`Limits::steps`] steps ends as undecided, which is said, and never as "covered". Verdicts do
//! not depend on lemmas or on the order of work; which cover or packet is named depends on the list alone.

mod bounds;
mod hull;
mod list;
mod otherwise;
mod prove;
mod region;
mod rules;
mod search;
mod sets;
mod spans;

pub use list::{Limits, List};
pub use otherwise::{Differs, Removal};
pub use prove::{Covered, Prover, Reading};
pub use rules::{Part, Point, Product, Rules};
pub use spans::{Coordinate, Spans, meet};
