//! Packets of a finding as an acceptance pins them: written down, and read again in a later snapshot.

use heronshale_engine::fabric::Fabric;
use heronshale_engine::sweep::numbers_of;
use heronshale_model::stated::Pinned;
use heronshale_sets::address::{Addresses, Block, Family};
use heronshale_sets::packet::{PacketSet, entries_within, service};
use serde::Serialize;

/// Some packets in the notation of acceptances: every combination of the three.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct PinnedFact {
    /// From where: addresses, or `internet`.
    pub from: Vec<String>,
    /// Where to.
    pub to: Vec<String>,
    /// Which services.
    pub on: Vec<String>,
}

/// Addresses of one family in words; the whole internet is said so, since its addresses change with what else the estate holds.
fn words(view: &Fabric<'_>, addresses: &Addresses, family: Family) -> Vec<String> {
    let internet = view
        .internet_end()
        .intersection(&Addresses::of_family(family));
    if *addresses == Addresses::of_family(family) {
        return vec![
            if family == Family::V4 {
                "0.0.0.0/0"
            } else {
                "::/0"
            }
            .to_owned(),
        ];
    }
    if !internet.is_empty() && internet.is_subset(addresses) {
        let rest = addresses.difference(&internet);
        let word = format!("internet {family}").to_lowercase();
        return std::iter::once(word).chain(rest.texts()).collect();
    }
    addresses.texts()
}

/// Packets as an acceptance writes them.
pub fn pinned_facts(view: &Fabric<'_>, packets: &PacketSet) -> Vec<PinnedFact> {
    // Each as wide as all of it allows, so that the whole internet stays one word.
    let facts = entries_within(packets, packets).into_iter().map(|entry| {
        let words = |numbers| {
            words(
                view,
                &Addresses::from_intervals(entry.family, numbers),
                entry.family,
            )
        };
        PinnedFact {
            from: words(entry.sources.clone()),
            to: words(entry.destinations.clone()),
            on: service::notation(entry.family, &entry.services),
        }
    });
    facts.collect()
}

/// Addresses as an acceptance writes them; none if a text is no such.
pub(crate) fn addresses_of(view: &Fabric<'_>, text: &str) -> Option<Addresses> {
    let internet = |family| {
        view.internet_end()
            .intersection(&Addresses::of_family(family))
    };
    match text {
        "any" => Some(Addresses::all()),
        "internet" => Some(view.internet_end()),
        "internet ipv4" => Some(internet(Family::V4)),
        "internet ipv6" => Some(internet(Family::V6)),
        _ => text
            .parse::<Block>()
            .ok()
            .map(|block| std::iter::once(block.range).collect()),
    }
}

/// The packets that an acceptance pins, as they are today.
pub(super) fn pinned(view: &Fabric<'_>, written: &[Pinned]) -> PacketSet {
    let side = |names: &[heronshale_model::estate::Name]| {
        let known = names.iter().filter_map(|name| addresses_of(view, name));
        known.fold(Addresses::empty(), |sum, addresses| sum.union(&addresses))
    };
    let every = heronshale_sets::intervals::Intervals::span(0, u128::from(u16::MAX));
    let one = |one: &Pinned| {
        let services = |family| numbers_of(&one.services, family);
        PacketSet::fields(&side(&one.from), &side(&one.to), services, &every, ())
    };
    PacketSet::union_all(written.iter().map(one))
}
