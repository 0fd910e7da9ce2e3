//! What documents of the API say of a packet, read one rule after the other.

use super::{Documents, list};
use crate::oracle::naive::Packet;
use serde_json::Value;
use std::net::IpAddr;

/// Whether an address lies in another, or in a prefix.
fn within(address: IpAddr, prefix: &str) -> bool {
    let (base, length) = prefix.split_once('/').unwrap_or((prefix, "128"));
    match (address, base.parse().unwrap()) {
        (IpAddr::V4(a), IpAddr::V4(b)) => {
            let length: u32 = length.parse::<u32>().unwrap().min(32);
            length == 0 || (a.to_bits() ^ b.to_bits()) >> (32 - length) == 0
        }
        (IpAddr::V6(a), IpAddr::V6(b)) => {
            let length: u32 = length.parse().unwrap();
            length == 0 || (a.to_bits() ^ b.to_bits()) >> (128 - length) == 0
        }
        _ => false,
    }
}

/// The addresses of a port, its allowed pairs with them.
pub fn addresses(port: &Value) -> Vec<&str> {
    let of = |list: &'static str| {
        port[list]
            .as_array()
            .unwrap()
            .iter()
            .map(|one| one["ip_address"].as_str().unwrap())
    };
    of("fixed_ips").chain(of("allowed_address_pairs")).collect()
}

fn matches(documents: &Documents, rule: &Value, packet: &Packet, other: IpAddr) -> bool {
    let six = other.is_ipv6();
    if (rule["ethertype"] == "IPv6") != six {
        return false;
    }
    let protocol = match rule["protocol"].as_str() {
        None | Some("any" | "0") => None,
        Some("icmp" | "1" | "icmpv6" | "ipv6-icmp" | "58") => Some(if six { 58 } else { 1 }),
        Some("tcp") => Some(6),
        Some("udp") => Some(17),
        Some("sctp") => Some(132),
        Some("vrrp") => Some(112),
        Some("esp") => Some(50),
        Some("udplite") => Some(136),
        Some(number) => Some(number.parse::<u8>().unwrap()),
    };
    if protocol.is_some_and(|protocol| protocol != packet.protocol) {
        return false;
    }
    let (low, high) = (
        rule["port_range_min"].as_u64(),
        rule["port_range_max"].as_u64(),
    );
    let fits = match (protocol, low) {
        (None, _) | (_, None) => true,
        (Some(1 | 58), Some(sort)) => {
            u64::from(packet.low >> 8) == sort
                && high.is_none_or(|code| u64::from(packet.low & 255) == code)
        }
        (_, Some(low)) => (low..=high.unwrap()).contains(&packet.low.into()),
    };
    let of_address_group = |group: &str| {
        let all = list(documents, "address-groups")
            .iter()
            .filter(|one| one["id"] == group);
        all.flat_map(|one| one["addresses"].as_array().unwrap())
            .any(|one| within(other, one.as_str().unwrap()))
    };
    let remote = match (rule["remote_ip_prefix"].as_str(), &rule["remote_group_id"]) {
        (Some(prefix), _) => within(other, prefix),
        (None, Value::Null) => rule["remote_address_group_id"]
            .as_str()
            .is_none_or(of_address_group),
        (None, group) => list(documents, "ports").iter().any(|port| {
            port["security_groups"].as_array().unwrap().contains(group)
                && addresses(port).iter().any(|address| within(other, address))
        }),
    };
    fits && remote
}

/// What the firewall group at a port says to a packet, if there is one.
fn firewall_passes(
    documents: &Documents,
    port: &Value,
    packet: &Packet,
    way: &str,
) -> Option<bool> {
    let all = |name: &str| {
        documents
            .get(name)
            .map_or(&[][..], |_| list(documents, name))
    };
    let named = |name: &str, id: &Value| all(name).iter().find(|one| one["id"] == *id).cloned();
    let group = all("firewall-groups")
        .iter()
        .find(|group| group["ports"].as_array().unwrap().contains(&port["id"]))?;
    if group["admin_state_up"] == false {
        return Some(false);
    }
    let Some(policy) = named(
        "firewall-policies",
        &group[format!("{way}_firewall_policy_id")],
    ) else {
        return Some(false);
    };
    let rules = policy["firewall_rules"]
        .as_array()
        .unwrap()
        .iter()
        .map(|id| named("firewall-rules", id).unwrap());
    let ports = |written: &Value, port: u16| {
        written.as_str().is_none_or(|written| {
            let (low, high) = written.split_once(':').unwrap_or((written, written));
            (low.parse::<u16>().unwrap()..=high.parse().unwrap()).contains(&port)
        })
    };
    let matches = |rule: &Value| {
        let six = packet.source.is_ipv6();
        let protocol = match rule["protocol"].as_str() {
            None => None,
            Some("tcp") => Some(6),
            Some("udp") => Some(17),
            Some("icmp") => Some(if six { 58 } else { 1 }),
            Some(other) => panic!("{other}"),
        };
        let of = |field: &str, address| {
            rule[field]
                .as_str()
                .is_none_or(|prefix| within(address, prefix))
        };
        rule["enabled"] == true
            && (rule["ip_version"] == 6) == six
            && protocol.is_none_or(|protocol| protocol == packet.protocol)
            && of("source_ip_address", packet.source)
            && of("destination_ip_address", packet.destination)
            && ports(&rule["source_port"], packet.source_port)
            && ports(&rule["destination_port"], packet.low)
    };
    Some(
        rules
            .into_iter()
            .find(matches)
            .is_some_and(|rule| rule["action"] == "allow"),
    )
}

/// Whether a port lets a packet pass: its groups, its firewall group, and that of the router for what comes from elsewhere or goes there.
/// None where it is the driver that decides.
pub fn passes(documents: &Documents, port: &Value, packet: &Packet, inbound: bool) -> Option<bool> {
    let (way, other) = if inbound {
        ("ingress", packet.source)
    } else {
        ("egress", packet.destination)
    };
    let network = |one: &&Value| one["network_id"] == port["network_id"];
    let inside = list(documents, "subnets")
        .iter()
        .filter(network)
        .any(|one| within(other, one["cidr"].as_str().unwrap()));
    // A port of a router has packets of the families of its addresses.
    let of_family = |one: &Value| {
        addresses(one)
            .iter()
            .any(|address| address.contains(':') == other.is_ipv6())
    };
    let router = |one: &&Value| {
        network(one) && one["device_owner"] == "network:router_interface" && of_family(one)
    };
    let groups = groups_pass(documents, port, packet, inbound);
    let others = firewall_passes(documents, port, packet, way) != Some(false)
        && (inside
            || list(documents, "ports")
                .iter()
                .filter(router)
                .all(|router| firewall_passes(documents, router, packet, way) != Some(false)));
    if others { groups } else { Some(false) }
}

/// Whether a port's groups let a packet pass; none where some drivers do so whatever the groups say.
fn groups_pass(
    documents: &Documents,
    port: &Value,
    packet: &Packet,
    inbound: bool,
) -> Option<bool> {
    if port["admin_state_up"] == false {
        return Some(false);
    }
    let kind = packet.low >> 8;
    let neighbours: &[u16] = if inbound {
        &[130, 134, 135, 136]
    } else {
        &[130, 133, 135, 136]
    };
    if port["port_security_enabled"] == false
        || (packet.protocol == 58 && neighbours.contains(&kind))
    {
        return Some(true);
    }
    let (way, other) = if inbound {
        ("ingress", packet.source)
    } else {
        ("egress", packet.destination)
    };
    let bound = port["security_groups"].as_array().unwrap();
    let groups = list(documents, "security-groups")
        .iter()
        .filter(|group| bound.contains(&group["id"]));
    let rules = groups.flat_map(|group| group["security_group_rules"].as_array().unwrap());
    let passes = rules
        .filter(|rule| rule["direction"] == way)
        .any(|rule| matches(documents, rule, packet, other));
    if packet.protocol == 58 && !inbound && !passes {
        None
    } else {
        Some(passes)
    }
}
