//! Findings: each kind is one file under `kinds/`; what a kind needs is collected once (`context.rs`).
//!
//! A check collects facts, then tells them. `found.rs` settles severity, fingerprint and order.

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

pub use crate::facts::Factor;
pub use accepting::{Accepted, Judged, judged};
pub use catalogue::{CATALOGUE, kind};
pub use draft::{Evidence, Finding, Role};
pub use found::{findings, findings_of};
pub use kind::Kind;
pub use pinning::{PinnedFact, pinned_facts};
