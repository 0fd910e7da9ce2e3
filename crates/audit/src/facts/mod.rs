//! Facts of which findings and answers are made: interfaces, deciders, hops, steps, ways in.

mod base;
mod device_way;
mod edit;
mod grade;
mod hop;
mod room;
mod step;
mod traffic;
mod way;

pub use base::{
    Decided, Decider, Does, InterfaceFact, decided, decider, does, interface_fact, rules_in_force,
};
pub use device_way::{DeviceWayFact, HolderKind, WalkedFact, device_way_fact, letting};
pub use edit::{BrokenFact, EditFact, edit_fact};
pub(crate) use grade::{EXPOSED_BASE, exposure_factors};
pub use grade::{Factor, exposure_severity};
pub use hop::{hop_text, link_text, spot_text, why_dead};
pub use room::{Room, count, rooms};
pub use step::{StepDoes, StepFact, step_fact};
pub use traffic::{PathTraffic, choices_text, condition_text};
pub use way::{
    ClosedFact, Closing, Meaning, OpenFact, SpokenFact, WayFact, WayKind, meaning_of, spoken_fact,
    union_rules, way_fact,
};
