//! The engine against evaluators that share nothing with it: same estates, packet by packet.

mod accepted;
mod access_lists;
mod agreement;
mod around;
mod breadth;
mod compared;
mod dead;
mod deltas;
mod durable;
mod estates;
mod expected;
mod exposed;
mod fixes;
mod kernel;
mod kinds;
mod levels;
mod listing;
mod naive;
mod openstack;
mod orders;
mod plans;
mod records;
mod removed;
mod rewritten;
mod round_trips;
mod routes;
#[cfg(feature = "seeded-faults")]
mod seeded;
mod stages;
mod static_routes;
mod sweeps;
mod tidy;
mod topology;
mod uses;
mod walker;
mod walks;

pub use estates::estate as random_estate;

/// One of several.
pub fn pick<T: Clone>(random: &mut fastrand::Rng, all: &[T]) -> T {
    all[random.usize(0..all.len())].clone()
}
