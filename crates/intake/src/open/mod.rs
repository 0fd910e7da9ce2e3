//! Open formats, which need no profile: files of Linux machines, and what the IETF has standardised.
//!
//! What rules say comes together as products of fields ([`condition`]), from which the rules of a snapshot are made ([`rules`]). What
//! is not understood makes a rule unknown.

mod acl;
mod condition;
mod linux;
mod part;
mod routes;
mod rules;

pub use acl::{AclReading, read_acls};
pub use linux::{Role, read_machine};
pub use part::Part;
pub use routes::read_routes;
