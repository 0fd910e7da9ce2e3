//! Findings: each kind is one file under `kinds/`; what a kind needs is collected once (`context.rs`).
//!
//! A check collects facts, then tells them. `found.rs` settles severity, fingerprint and order.

mod accepted;
mod accepting;
mod asking;
mod bare;
mod catalogue;
mod context;
mod draft;
mod found;
mod key;
mod kind;
mod kinds;
mod pinning;
mod routing;
mod trying;

pub use crate::facts::Factor;
pub use accepted::{AcceptanceState, acceptance_states};
pub use accepting::{Accepted, Judged, judged};
pub use catalogue::{CATALOGUE, kind};
pub use draft::{Evidence, Finding, Role, Trial, TriedFact};
pub use found::{findings, findings_of, fingerprint};
pub use kind::Kind;
pub use pinning::{PinnedFact, pinned_facts};
pub use trying::try_advice;
