//! Two states of an estate compared by meaning.

mod same;

pub use same::{Compared, compare_rules};
