//! The address plan: how full subnets and networks are, what is free, and the next free block of a size.

use heronshale_audit::describe::owner_text;
use heronshale_audit::facts::{Room, count, rooms};
use heronshale_engine::fabric::Fabric;
use heronshale_model::estate::{Id, Network, Subnet};
use heronshale_model::source::Place;
use heronshale_sets::address::{Addresses, Family, Range, address_of};
use serde::Serialize;
use std::net::IpAddr;

/// The address plan of an estate, IPv4.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct PlanAnswer {
    /// Subnets, network by network.
    pub rows: Vec<PlanRow>,
    /// The prefix length for which free blocks were looked for, if any.
    pub length: Option<u8>,
    /// The next free block of each network.
    pub free: Vec<FreeBlock>,
}

/// How full a subnet is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct PlanRow {
    /// The network.
    pub network: String,
    /// The subnet.
    pub subnet: String,
    /// Its IPv4 blocks.
    pub blocks: Vec<String>,
    /// Addresses that something may have: without what the platform reserves.
    pub usable: u64,
    /// Addresses that something of the snapshot has.
    pub used: u64,
    /// Whether something missing from the snapshot may have more of them.
    pub perhaps_more: bool,
    /// The lowest address that is certainly free, if one is.
    pub next_free: Option<String>,
    /// Who changes it.
    pub owner: Option<String>,
    /// Where it stands.
    pub place: Place,
}

/// Room of a network that no subnet takes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct FreeBlock {
    /// The network.
    pub network: String,
    /// Its IPv4 blocks.
    pub blocks: Vec<String>,
    /// IPv4 addresses that no subnet of the snapshot takes.
    pub addresses: u64,
    /// Whether something missing from the snapshot may take some of them.
    pub perhaps_taken: bool,
    /// The lowest block of the wanted size that is certainly free, if there is one.
    pub next: Option<String>,
}

/// The address plan; `length`: the prefix length of the free block that is wanted.
pub fn plan(view: &Fabric<'_>, length: Option<u8>) -> PlanAnswer {
    let estate = view.estate;
    let rows = rooms(view).into_iter();
    let mut rows: Vec<PlanRow> = rows.map(|(id, room)| row(view, id, &room)).collect();
    let order = |row: &PlanRow| {
        let networks = estate.networks.items();
        networks
            .iter()
            .position(|network| *network.name == *row.network)
    };
    rows.sort_by_key(order);
    PlanAnswer {
        rows,
        length,
        free: estate
            .networks
            .ids()
            .map(|id| free(view, id, length))
            .collect(),
    }
}

/// The IPv4 addresses among some.
fn four(addresses: &Addresses) -> Addresses {
    addresses.intersection(&Addresses::of_family(Family::V4))
}

/// A number of IPv4 addresses.
fn number(count: u128) -> u64 {
    u64::try_from(count).unwrap_or(u64::MAX)
}

fn row(view: &Fabric<'_>, id: Id<Subnet>, room: &Room) -> PlanRow {
    let estate = view.estate;
    let subnet = &estate.subnets[id];
    let blocks = four(&subnet.blocks);
    let reserved = u128::from(view.settings(subnet.network).reserved_addresses);
    let taken = &room.held;
    // Platforms keep the first addresses of each block, and the last; which they are differs, so the first are left out.
    let kept: Addresses = blocks
        .ranges()
        .map(|range| Range {
            family: range.family,
            first: range.first,
            last: range.last.min(range.first + reserved.max(1) - 1),
        })
        .collect();
    let unlisted = unlisted(view, subnet.network);
    let next = blocks.difference(taken).difference(&kept);
    let next = next.difference(&unlisted);
    let next = next
        .ranges()
        .next()
        .map(|range| address_of(range.family, range.first));
    let full = room.used() >= room.usable;
    PlanRow {
        network: estate.networks[subnet.network].name.to_string(),
        subnet: subnet.name.to_string(),
        blocks: blocks.texts(),
        usable: number(room.usable),
        used: number(room.used()),
        perhaps_more: blocks.difference(taken).overlaps(&unlisted),
        next_free: next
            .filter(|_| !full)
            .map(|address: IpAddr| address.to_string()),
        owner: owner_text(estate, estate.subnet_owner(id)),
        place: estate.sources.place(&subnet.origin),
    }
}

fn free(view: &Fabric<'_>, id: Id<Network>, length: Option<u8>) -> FreeBlock {
    let estate = view.estate;
    let network = &estate.networks[id];
    let blocks = four(&network.blocks);
    let subnets = estate.subnets.items().iter();
    let taken = subnets
        .filter(|subnet| subnet.network == id)
        .fold(Addresses::empty(), |sum, subnet| sum.union(&subnet.blocks));
    let left = blocks.difference(&taken);
    let unlisted = unlisted(view, id);
    let certain = left.difference(&unlisted);
    let next = length.and_then(|length| next_block(&certain, length));
    FreeBlock {
        network: network.name.to_string(),
        blocks: blocks.texts(),
        addresses: number(count(&left)),
        perhaps_taken: left.overlaps(&unlisted),
        next,
    }
}

/// Addresses of a network that something missing from the snapshot may have.
fn unlisted(view: &Fabric<'_>, id: Id<Network>) -> Addresses {
    if view.lacks_any(&["gateway"]) {
        return view.estate.networks[id].blocks.clone();
    }
    view.unlisted_in(id)
}

/// The lowest block of a length within some addresses.
fn next_block(left: &Addresses, length: u8) -> Option<String> {
    let size = 1_u128 << (32_u8.checked_sub(length)?);
    left.ranges().find_map(|range| {
        let first = range.first.div_ceil(size) * size;
        (first + size - 1 <= range.last)
            .then(|| format!("{}/{length}", address_of(range.family, first)))
    })
}
