//! The routes of a machine: what the kernel itself says by which interface a packet leaves, against the table that is read.

use super::net::{Net, Place};
use super::{list, output};
use crate::oracle::naive::in_block;
use crate::oracle::pick;
use fastrand::Rng;
use heronshale_intake::{Role, read_machine};
use serde_json::Value;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::process::Command;

/// A prefix in a small space of its own, down to one address.
fn prefix(random: &mut Rng, six: bool) -> String {
    if six {
        let length = random.u32(32..=48);
        let bits = (random.u128(..) & ((0xF_FFFF) << 80)) | (0xfd77_u128 << 112);
        let kept = bits >> (128 - length) << (128 - length);
        return format!("{}/{length}", Ipv6Addr::from_bits(kept));
    }
    let length = random.u32(12..=32);
    let bits = (172 << 24) | (16 << 16) | random.u32(0..1 << 20);
    let kept = bits >> (32 - length) << (32 - length);
    format!("{}/{length}", Ipv4Addr::from_bits(kept))
}

/// An address that has something to do with the routes.
fn address(random: &mut Rng, prefixes: &[String]) -> IpAddr {
    let near: IpAddr = pick(random, prefixes)
        .split('/')
        .next()
        .unwrap()
        .parse()
        .unwrap();
    match near {
        IpAddr::V4(near) => {
            Ipv4Addr::from_bits(near.to_bits() ^ (1 << random.u32(0..20)) >> 1).into()
        }
        IpAddr::V6(near) => {
            Ipv6Addr::from_bits(near.to_bits() ^ (1_u128 << random.u32(76..100)) >> 1).into()
        }
    }
}

/// By which interface the kernel sends to an address; none if it drops.
fn by_kernel(to: IpAddr) -> Option<String> {
    let out = Command::new("ip")
        .args(["-j", "route", "get", &to.to_string()])
        .output()
        .unwrap();
    let told: Value = serde_json::from_slice(&out.stdout).ok()?;
    let kind = told[0]["type"].as_str().unwrap_or("unicast");
    told[0]["dev"]
        .as_str()
        .filter(|device| kind == "unicast" && *device != "lo")
        .map(str::to_owned)
}

/// By which interface the table that was read sends it.
fn by_table(firewall: &Value, to: IpAddr) -> Option<String> {
    let mut best: Option<(u32, &str)> = None;
    for route in list(firewall, "routes") {
        for prefix in list(route, "to")
            .iter()
            .map(|prefix| prefix.as_str().unwrap())
        {
            let length = prefix
                .split_once('/')
                .map_or(128, |(_, length)| length.parse().unwrap());
            if in_block(to, prefix) && best.is_none_or(|(known, _)| length > known) {
                best = Some((length, route["interface"].as_str().unwrap()));
            }
        }
    }
    best.map(|(_, interface)| interface.trim_start_matches("machine-").to_owned())
}

#[test]
fn routes_of_a_machine_lead_where_the_kernel_sends() {
    let Some(net) = Net::new(&[], "routes") else {
        return;
    };
    net.enter(Place::Machine);
    let (mut left, mut dropped) = (0, 0);
    for seed in 0..60 {
        let mut random = Rng::with_seed(seed);
        let mut made: Vec<[String; 2]> = Vec::new();
        for at in 0..random.usize(1..9) {
            let six = random.bool();
            let to = if random.u8(0..8) == 0 {
                (if six { "::/0" } else { "0.0.0.0/0" }).to_owned()
            } else if random.u8(0..4) == 0 && !made.is_empty() {
                pick(&mut random, &made)[1].clone()
            } else {
                prefix(&mut random, six)
            };
            let family = if to.contains(':') { "-6" } else { "-4" };
            // Metrics are all different, so that no two routes are equal.
            let metric = (random.usize(1..9) * 10 + at).to_string();
            let [kind, device] = pick(
                &mut random,
                &[
                    ["", "m0"],
                    ["", "m1"],
                    ["", "m1"],
                    ["blackhole", ""],
                    ["unreachable", ""],
                    ["prohibit", ""],
                ],
            );
            let line = match (device, kind) {
                ("", kind) => vec![kind, &to, "metric", &metric],
                (device, _) => vec![&to, "dev", device, "metric", &metric],
            };
            let made_it = Command::new("ip")
                .args([&[family, "route", "add"], &line[..]].concat())
                .output()
                .unwrap();
            if made_it.status.success() {
                made.push([family.to_owned(), to.clone()]);
            }
        }
        let told = ["addr", "route", "rule"].map(|what| output("ip", &["-j", what]));
        let six = [["-6", "route"], ["-6", "rule"]]
            .map(|[family, what]| output("ip", &[family, "-j", what]));
        let names = [
            "addr.json",
            "route.json",
            "rule.json",
            "route6.json",
            "rule6.json",
        ];
        let files = names
            .iter()
            .zip(told.iter().chain(&six))
            .map(|(name, text)| ((*name).to_owned(), text.clone()));
        let rules = r#"{ "nftables": [] }"#.to_owned();
        let files = files.chain([("nft.json".to_owned(), rules)]).collect();
        let part = read_machine(files, "machine", Role::Firewall { hosts: false }, None).unwrap();
        let firewall = &part.section("firewalls")[0];
        let prefixes: Vec<String> = made
            .iter()
            .map(|[_, to]| to.clone())
            .chain(["9.9.9.9/32".to_owned()])
            .collect();
        for _ in 0..40 {
            let to = address(&mut random, &prefixes);
            // Its own networks and broadcast addresses are not routed on.
            if [0_u8, 255].contains(&match to {
                IpAddr::V4(to) => to.octets()[0],
                IpAddr::V6(_) => 1,
            }) {
                continue;
            }
            let wanted = by_kernel(to);
            assert_eq!(
                by_table(firewall, to),
                wanted,
                "seed {seed}: {to}\n{}\n{}\n{firewall:#}",
                told[1],
                six[0]
            );
            left += usize::from(wanted.is_some());
            dropped += usize::from(wanted.is_none());
        }
        for [family, to] in &made {
            while Command::new("ip")
                .args([family, "route", "del", to])
                .output()
                .unwrap()
                .status
                .success()
            {}
        }
    }
    assert!(left > 300 && dropped > 300, "{left} {dropped}");
}
