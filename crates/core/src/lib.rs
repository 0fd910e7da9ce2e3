//! The heart of Heronshale: packet sets, the estate's model, stages, routes, ways in and findings.
//!
//! This crate computes and does nothing else: no input or output, no clock, no environment, no printing.

pub mod address;
pub mod answer;
pub mod binding;
pub mod change;
pub mod cover;
pub mod dead;
pub mod describe;
pub mod doubt;
mod each;
pub mod effective;
pub mod elsewhere;
pub mod ends;
pub mod expect;
pub mod exposure;
pub mod faults;
pub mod finding;
pub mod meant;
pub mod mend;
pub mod model;
pub mod names;
pub mod notation;
pub mod packet;
pub mod path;
pub mod route;
pub mod source;
pub mod stage;
pub mod stated;
pub mod sweep;
pub mod tuning;
pub mod view;
pub mod walk;
