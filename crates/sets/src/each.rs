//! One question to each of many things, on all cores.

use crate::faults::{carried, under};
use rayon::prelude::*;

/// Asks each, in any order; the answers are in the order of the things. Nothing that is asked may wait for what another
/// question makes.
pub fn each<T: Sync, A: Send>(things: &[T], ask: impl Fn(&T) -> A + Sync) -> Vec<A> {
    let fault = carried();
    things
        .par_iter()
        .map(|thing| under(fault, || ask(thing)))
        .collect()
}
