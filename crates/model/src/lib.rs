//! The estate as a snapshot describes it, with the place of everything, what people state about it, and what its names mean.
//!
//! This crate computes and does nothing else: no input or output, no clock, no environment, no printing.

pub mod change;
pub mod connections;
pub mod coverage;
pub mod ends;
pub mod estate;
pub mod faults;
pub mod limits;
pub mod meant;
pub mod mentions;
pub mod names;
pub mod notation;
pub mod observed;
pub mod segments;
pub mod severity;
pub mod source;
pub mod stated;
pub mod tuning;
pub mod uses;
pub mod view;
