//! What becomes of packets: what each check decides, where routes lead, and how connections fare, there and back.
//!
//! This crate computes and does nothing else: no input or output, no clock, no environment, no printing.

pub mod binding;
pub mod doubt;
pub mod effective;
pub mod fabric;
pub mod faults;
pub mod judgement;
pub mod path;
pub mod peers;
pub mod policy;
pub mod route;
pub mod rules;
pub mod stage;
pub mod sweep;
pub mod walk;
