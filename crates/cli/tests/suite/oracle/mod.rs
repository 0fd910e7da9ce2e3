//! The engine against an evaluator that shares nothing with it: same estates, packet by packet.

mod agreement;
mod estates;
mod naive;
