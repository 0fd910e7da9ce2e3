//! What was seen from outside.

use std::net::IpAddr;

/// A port that was seen open from outside.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Seen {
    /// The address that was asked.
    pub address: IpAddr,
    /// Protocol and port, as a number of [`service`](heronshale_sets::packet::service).
    pub service: u32,
    /// The line of the file, from 1.
    pub line: usize,
}
