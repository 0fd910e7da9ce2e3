//! What other formats can hold of an estate: network ACLs entry by entry, and sheets of rules and interfaces.

mod sheets;

pub use sheets::{Sheet, interface_sheet, rule_sheet};

use heronshale_audit::describe::{peer_text, ports_text};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::rules::in_order;
use heronshale_engine::rules::{rule_local, rule_peers};
use heronshale_model::estate::{
    Direction, Estate, Filter, FilterKind, Id, Peer, Reference, Rule, SetItem,
};
use heronshale_sets::address::{Addresses, Family, Range, address_of};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;
use serde::Serialize;
use std::collections::BTreeMap;

/// What came of an export.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ExportAnswer {
    /// The format that was written.
    pub format: String,
    /// The file that was written.
    pub written: String,
    /// What it holds, each with its count.
    pub holds: Vec<Counted>,
    /// What is not in it, because the format cannot hold it.
    pub left_out: Vec<LeftOut>,
    /// Whether something that was to be exported is left out whole.
    pub incomplete: bool,
}

/// Things of a kind.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Counted {
    /// What, in the plural.
    pub what: String,
    /// How many.
    pub count: usize,
}

/// What a format cannot hold.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct LeftOut {
    /// What.
    pub what: String,
    /// Why.
    pub why: String,
}

/// A rule list, entry by entry, each a product of one value a field.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlainAcl {
    /// The network ACL.
    pub name: String,
    /// Received or sent.
    pub direction: Direction,
    /// In the order in which they are tried; the rest is denied.
    pub entries: Vec<PlainEntry>,
}

/// One entry.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlainEntry {
    /// The rule that it is of.
    pub rule: String,
    /// What it does.
    pub action: heronshale_model::estate::Action,
    /// The family; none for both.
    pub family: Option<Family>,
    /// The source, a prefix; none for all.
    pub source: Option<String>,
    /// The destination, a prefix; none for all.
    pub destination: Option<String>,
    /// What it is about.
    pub traffic: PlainTraffic,
}

/// What an entry is about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PlainTraffic {
    /// Everything.
    All,
    /// A protocol, whole.
    Protocol(u8),
    /// TCP or UDP: destination ports and source ports, from and to, none for all.
    Ports(u8, Option<(u16, u16)>, Option<(u16, u16)>),
    /// ICMP of the family: type, and code if it is one.
    Icmp(u8, Option<u8>),
}

/// The prefixes that a run of addresses is made of, largest first where they begin.
fn prefixes(range: Range) -> Vec<String> {
    let Range {
        family,
        mut first,
        last,
    } = range;
    let bits = u32::from(family.bits());
    let mut found = Vec::new();
    loop {
        let mut free = if first == 0 {
            bits
        } else {
            first.trailing_zeros().min(bits)
        };
        let size = |free: u32| {
            if free >= 128 {
                u128::MAX
            } else {
                (1_u128 << free) - 1
            }
        };
        while size(free) > last - first {
            free -= 1;
        }
        found.push(format!("{}/{}", address_of(family, first), bits - free));
        match first.checked_add(size(free)) {
            Some(end) if end < last => first = end + 1,
            _ => return found,
        }
    }
}

/// Prefixes of one family; one without text for all.
fn parts(addresses: &Addresses, family: Family) -> Vec<Option<String>> {
    let own = Addresses::of_family(family);
    if own.is_subset(addresses) {
        return vec![None];
    }
    addresses
        .intersection(&own)
        .ranges()
        .flat_map(prefixes)
        .map(Some)
        .collect()
}

fn narrow(number: u128) -> u16 {
    u16::try_from(number).unwrap_or(u16::MAX)
}

/// Services of a family one by one, with these source ports.
fn traffic(
    family: Family,
    numbers: &Intervals,
    source_ports: &Intervals,
) -> Result<Vec<PlainTraffic>, String> {
    let every = Intervals::span(0, u128::from(u16::MAX));
    let any_source = *source_ports == every;
    if any_source && *numbers == service::all(family) {
        return Ok(vec![PlainTraffic::All]);
    }
    let spans = |all: &Intervals| -> Vec<Option<(u16, u16)>> {
        if *all == every {
            return vec![None];
        }
        all.spans()
            .iter()
            .map(|(first, last)| Some((narrow(*first), narrow(*last))))
            .collect()
    };
    let mut found = Vec::new();
    for protocol in (0..=u8::MAX).filter(|protocol| service::exists(family, *protocol)) {
        let whole = service::whole(protocol);
        let own = numbers.intersection(&whole);
        if own.is_empty() {
            continue;
        }
        let base = u128::from(service::code(protocol, 0));
        let low = Intervals::from_spans(
            own.spans()
                .iter()
                .map(|(first, last)| (first - base, last - base)),
        );
        match protocol {
            service::TCP | service::UDP => {
                for to in spans(&low) {
                    found.extend(
                        spans(source_ports)
                            .into_iter()
                            .map(|from| PlainTraffic::Ports(protocol, to, from)),
                    );
                }
            }
            _ if !any_source && !service::has_ports(protocol) => {}
            _ if own == whole && any_source => found.push(PlainTraffic::Protocol(protocol)),
            service::SCTP => return Err("ports of SCTP".to_owned()),
            _ if service::is_icmp(protocol) => {
                for kind in 0..=u8::MAX {
                    let of_kind =
                        Intervals::span(u128::from(kind) * 256, u128::from(kind) * 256 + 255);
                    let codes = low.intersection(&of_kind);
                    if codes == of_kind {
                        found.push(PlainTraffic::Icmp(kind, None));
                    } else {
                        let codes = codes
                            .spans()
                            .iter()
                            .flat_map(|(first, last)| *first..=*last);
                        found.extend(
                            codes.map(|code| PlainTraffic::Icmp(kind, Some((code & 0xFF) as u8))),
                        );
                    }
                }
            }
            _ => found.push(PlainTraffic::Protocol(protocol)),
        }
    }
    Ok(found)
}

/// A rule's entries, or what of it cannot be said.
fn entries(
    rule: &Rule,
    name: &str,
    source: &Addresses,
    destination: &Addresses,
) -> Result<Vec<PlainEntry>, String> {
    let ports = rule.source_port_numbers();
    let [four, six] =
        Family::BOTH.map(|family| traffic(family, &rule.service_numbers(family), &ports));
    let (four, six) = (four?, six?);
    let one = |family, source, destination, traffic| PlainEntry {
        rule: name.to_owned(),
        action: rule.action,
        family,
        source,
        destination,
        traffic,
    };
    let mut found = Vec::new();
    let everywhere = Addresses::all().is_subset(source) && Addresses::all().is_subset(destination);
    // What both families have alike needs no family.
    let alike = |one: &PlainTraffic| {
        everywhere
            && four.contains(one)
            && six.contains(one)
            && matches!(one, PlainTraffic::All | PlainTraffic::Ports(..))
    };
    found.extend(
        four.iter()
            .filter(|traffic| alike(traffic))
            .map(|traffic| one(None, None, None, traffic.clone())),
    );
    for (family, all) in [(Family::V4, &four), (Family::V6, &six)] {
        let destinations = parts(destination, family);
        for source in parts(source, family) {
            for destination in &destinations {
                let rest = all.iter().filter(|traffic| !alike(traffic));
                found.extend(rest.map(|traffic| {
                    one(
                        Some(family),
                        source.clone(),
                        destination.clone(),
                        traffic.clone(),
                    )
                }));
            }
        }
    }
    Ok(found)
}

/// Filters of a kind.
fn plural_of(filter: &Filter) -> &'static str {
    match filter.kind {
        FilterKind::UnionGroup | FilterKind::OrderedGroup { .. } => "security groups",
        FilterKind::NetworkAcl => "network ACLs",
        FilterKind::ScopePolicy { .. } => "scope policies",
        FilterKind::OwnFirewall { .. } => "own firewalls",
        FilterKind::FirewallPolicy { .. } => "firewall policies",
    }
}

/// What an estate's network ACLs say, entry by entry, and what cannot be said so.
pub fn plain_acls(view: &Fabric<'_>) -> (Vec<PlainAcl>, Vec<LeftOut>, bool) {
    let estate = view.estate;
    let (mut found, mut left_out, mut incomplete) = (Vec::new(), Vec::new(), false);
    let mut others: BTreeMap<&str, usize> = BTreeMap::new();
    for (id, filter) in estate.filters.iter() {
        if filter.kind != FilterKind::NetworkAcl {
            *others.entry(plural_of(filter)).or_default() += 1;
            continue;
        }
        match plain_acl(view, id, filter) {
            Ok(both) => found.extend(both),
            Err(why) => {
                incomplete = true;
                left_out.push(LeftOut {
                    what: format!("ACL {}", filter.name),
                    why,
                });
            }
        }
    }
    for (word, count) in others {
        let why = "these lists are stateless and know addresses only".to_owned();
        left_out.push(LeftOut {
            what: format!("{count} {word}"),
            why,
        });
    }
    (found, left_out, incomplete)
}

fn plain_acl(view: &Fabric<'_>, id: Id<Filter>, filter: &Filter) -> Result<Vec<PlainAcl>, String> {
    let estate = view.estate;
    let mut networks: Vec<_> = estate
        .subnets
        .items()
        .iter()
        .filter(|subnet| subnet.acl.as_ref().and_then(|acl| acl.found()) == Some(id))
        .map(|subnet| Some(subnet.network))
        .collect();
    networks.sort();
    networks.dedup();
    if networks.is_empty() {
        networks.push(None);
    }
    let mut found: Option<Vec<PlainAcl>> = None;
    for network in networks {
        let mut both = Vec::new();
        for direction in Direction::BOTH {
            let mut all = Vec::new();
            for rule_id in in_order(
                view,
                &[id],
                direction,
                view.settings(network).equal_priority,
            ) {
                let rule = estate.rule(rule_id);
                if !view.in_force(rule) {
                    continue;
                }
                let name = rule
                    .id
                    .as_deref()
                    .map_or_else(|| (rule_id.index + 1).to_string(), str::to_owned);
                let (peers, local) = (
                    rule_peers(view, rule, network),
                    rule_local(view, rule, network),
                );
                if !peers.maybe.is_empty() || !local.maybe.is_empty() {
                    return Err(format!(
                        "its rule {name} depends on something missing from the snapshot"
                    ));
                }
                let ends = if direction == Direction::In {
                    [&peers.sure, &local.sure]
                } else {
                    [&local.sure, &peers.sure]
                };
                let entries = entries(rule, &name, ends[0], ends[1]);
                all.extend(
                    entries
                        .map_err(|what| format!("{what} of its rule {name} cannot be written"))?,
                );
            }
            both.push(PlainAcl {
                name: filter.name.to_string(),
                direction,
                entries: all,
            });
        }
        if found.as_ref().is_some_and(|other| *other != both) {
            return Err(
                "names in it mean different addresses in the networks of its interfaces".to_owned(),
            );
        }
        found = Some(both);
    }
    Ok(found.unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_run_of_addresses_is_a_few_prefixes() {
        let table = [
            (
                "10.0.0.1-10.0.0.6",
                "10.0.0.1/32 10.0.0.2/31 10.0.0.4/31 10.0.0.6/32",
            ),
            ("0.0.0.0/0", "0.0.0.0/0"),
            ("::/0", "::/0"),
            ("255.255.255.254-255.255.255.255", "255.255.255.254/31"),
            ("2001:db8::-2001:db8::2", "2001:db8::/127 2001:db8::2/128"),
        ];
        for (text, expected) in table {
            let block: heronshale_sets::address::Block = text.parse().unwrap();
            assert_eq!(prefixes(block.range).join(" "), expected, "{text}");
        }
    }
}
