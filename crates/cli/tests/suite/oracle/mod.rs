//! The engine against evaluators that share nothing with it: same estates, packet by packet.

mod agreement;
mod dead;
mod estates;
mod exposed;
mod kinds;
mod listing;
mod naive;
mod routes;

pub use estates::estate as random_estate;
