//! How many packets a set holds, exactly.

use super::map::PacketSet;
use super::node::{Node, Slice};
use super::service;
use crate::address::Family;
use num_bigint::BigUint;

impl PacketSet {
    /// The number of packets in the set. A protocol without ports counts one packet for each pair of addresses, ICMP
    /// one for each type and code, TCP, UDP and SCTP one for each pair of ports.
    pub fn count(&self) -> BigUint {
        let sides = Family::BOTH.iter().filter_map(|family| self.side(*family));
        sides.map(count_sources).sum()
    }
}

fn width(slice: &Slice<()>) -> BigUint {
    BigUint::from(slice.last - slice.first) + 1_u32
}

fn count_sources(node: &Node<()>) -> BigUint {
    let destinations = |node: &Node<()>| {
        node.slices()
            .iter()
            .map(|s| width(s) * count_services(&s.child))
            .sum::<BigUint>()
    };
    node.slices()
        .iter()
        .map(|slice| width(slice) * destinations(&slice.child))
        .sum()
}

fn count_services(node: &Node<()>) -> BigUint {
    let mut sum = BigUint::ZERO;
    for slice in node.slices() {
        let ports: BigUint = slice.child.slices().iter().map(width).sum();
        let (first, last) = (slice.first >> 16, slice.last >> 16);
        for block in first..=last {
            let protocol = u8::try_from(block).expect("protocols are below 256");
            let low = slice.first.max(block << 16);
            let high = slice.last.min(block << 16 | 0xFFFF);
            if service::has_ports(protocol) {
                sum += BigUint::from(high - low + 1) * &ports;
            } else if service::is_icmp(protocol) {
                sum += BigUint::from(high - low + 1);
            } else {
                sum += 1_u32;
            }
        }
    }
    sum
}
