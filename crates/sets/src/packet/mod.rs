//! Packets, sets of packets, and maps from packets to decisions.
//!
//! A packet has a family, a source and a destination address, and a *service*: the protocol together with the
//! destination port or the ICMP type and code, as one 24-bit number ([`service`]). TCP, UDP and SCTP packets
//! have a source port besides. [`PacketMap`] is an exact, canonical map from packets to labels, [`PacketSet`]
//! a map with one label. `docs/semantics.md` 1 says which packets exist.

mod count;
mod listing;
mod map;
mod node;
mod reply;
mod rewrite;
pub mod service;
mod spread;
mod stack;
#[cfg(test)]
mod tests;

pub use listing::{Entry, entries, entries_within};
pub use map::{PacketMap, PacketSet, Row};
pub use node::{Label, effort, for_all};
pub use rewrite::Rewrite;
pub use spread::Members;
pub use stack::Product;

use crate::address::{Family, address_of};
use serde::Serialize;
use std::fmt;
use std::net::IpAddr;

/// One concrete packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
pub struct Packet {
    /// IPv4 or IPv6: of both addresses.
    pub family: Family,
    /// Source address as a number; below 2^32 for IPv4.
    pub source: u128,
    /// Destination address as a number; below 2^32 for IPv4.
    pub destination: u128,
    /// Protocol, and destination port or ICMP type and code: see [`service`].
    pub service: u32,
    /// Source port; 0 for protocols without ports.
    pub source_port: u16,
}

impl Packet {
    /// The source address.
    pub fn source_address(&self) -> IpAddr {
        address_of(self.family, self.source)
    }

    /// The destination address.
    pub fn destination_address(&self) -> IpAddr {
        address_of(self.family, self.destination)
    }

    /// The protocol number, 0-255.
    pub fn protocol(&self) -> u8 {
        service::protocol_of(self.service)
    }
}

impl fmt::Display for Packet {
    /// For example `tcp 198.51.100.7:40000 → 10.65.4.20:5432` or `icmp 8/0 10.64.0.1 → 10.64.0.2`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (source, destination) = (self.source_address(), self.destination_address());
        let protocol = service::protocol_name(self.protocol());
        if service::has_ports(self.protocol()) {
            let ends = [
                (source, self.source_port),
                (destination, service::port_of(self.service)),
            ];
            let [from, to] = ends.map(|(address, port)| std::net::SocketAddr::new(address, port));
            write!(f, "{protocol} {from} → {to}")
        } else if service::is_icmp(self.protocol()) {
            write!(
                f,
                "{} {source} → {destination}",
                service::code_text(self.service)
            )
        } else {
            write!(f, "{protocol} {source} → {destination}")
        }
    }
}
