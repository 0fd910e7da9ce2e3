//! What is wrong in an estate, and what would fix it: dead rules, exposure, broken expectations, findings.
//!
//! This crate computes and does nothing else: no input or output, no clock, no environment, no printing.

pub mod change;
pub mod dead;
pub mod describe;
pub mod elsewhere;
pub mod expect;
pub mod exposure;
pub mod facts;
pub mod faults;
pub mod finding;
pub mod fix;
mod harmless;
