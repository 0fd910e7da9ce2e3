//! Two states of an estate compared: what can happen in one that cannot in the other, and because of which edits
//! (`docs/semantics.md` 17).
//!
//! *Problem.* People look at lines of text that changed and guess what they do. *Form.* All packets of all starts are walked in
//! both states; each packet has an outcome in each, and the pair of outcomes has a class. Of what is in a class the causes are
//! found by walking the states between the two, with some of the edits each.
//!
//! Invariants: a connection is in at most one class; what is the same in both states is in none; what was given up is undecided.

mod cause;
mod class;
mod compare;
mod impact;
mod losses;
mod order;
mod outcome;
mod search;
mod starts;

pub use cause::Cause;
pub use class::{Class, Rank};
pub use compare::{Comparison, Difference, compare, compare_all};
pub use impact::touched;
pub use losses::{Base, Loss};
pub use order::{
    Between, Check, Conflict, Constraint, Harm, Harmed, MOST_EXACT, NoOrder, Order, Ordering, Step,
    Why, order,
};
pub use outcome::{Outcome, Seen};
pub use starts::{From, question, start_of};
