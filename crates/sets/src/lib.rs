//! Sets of numbers, addresses and packets, and what lists of rules cover: exact, and without a word of clouds.
//!
//! This crate computes and does nothing else: no input or output, no clock, no environment, no printing.

pub mod address;
pub mod cover;
pub mod each;
pub mod faults;
pub mod intervals;
pub mod packet;
