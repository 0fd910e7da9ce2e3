//! What other formats can hold of an estate: network ACLs entry by entry, and sheets of rules and interfaces.

use heronshale_audit::describe::{peer_text, ports_text};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::peers::{rule_local, rule_peers};
use heronshale_engine::stage::in_order;
use heronshale_model::estate::{
    Direction, Estate, Filter, FilterKind, Id, Peer, Reference, Rule, SetItem,
};
use heronshale_sets::address::{Addresses, Family, Range, address_of};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// What came of an export.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
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
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Counted {
    /// What, in the plural.
    pub what: String,
    /// How many.
    pub count: usize,
}

/// What a format cannot hold.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
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
        let why = "these lists keep no state, and know addresses only".to_owned();
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
                        "its rule {name} depends on what the snapshot lacks"
                    ));
                }
                let ends = if direction == Direction::In {
                    [&peers.sure, &local.sure]
                } else {
                    [&local.sure, &peers.sure]
                };
                let entries = entries(rule, &name, ends[0], ends[1]);
                all.extend(
                    entries.map_err(|what| format!("of its rule {name} {what} cannot be said"))?,
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
                "names in it mean different addresses in the networks where it is bound".to_owned(),
            );
        }
        found = Some(both);
    }
    Ok(found.unwrap_or_default())
}

/// A table of texts.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Sheet {
    /// Its columns.
    pub columns: Vec<&'static str>,
    /// Its rows.
    pub rows: Vec<Vec<String>>,
    /// What is not in it.
    pub left_out: Vec<LeftOut>,
}

fn joined(all: impl IntoIterator<Item = String>) -> String {
    all.into_iter().collect::<Vec<_>>().join("; ")
}

fn yes(is: bool) -> String {
    if is { "yes".to_owned() } else { String::new() }
}

/// The services of a rule in the notation of snapshots.
fn services(rule: &Rule) -> String {
    let one = |service: &heronshale_model::estate::Service| match (service.protocol, &service.low) {
        (None, None) => vec![heronshale_audit::describe::service_text(service)],
        (None, Some(ports)) => vec![format!("any {}", ports_text(ports))],
        (Some(protocol), _) => {
            let family = if protocol == service::ICMPV6 {
                Family::V6
            } else {
                Family::V4
            };
            service::notation(family, &service.numbers(family))
        }
    };
    joined(rule.services.iter().flat_map(one))
}

/// The rules of groups, network ACLs and own firewalls, a row each, and the address sets; a filter without rules has a row too.
pub fn rule_sheet(view: &Fabric<'_>) -> Sheet {
    let estate = view.estate;
    let columns = vec![
        "kind",
        "filter",
        "form",
        "default_inbound",
        "default_outbound",
        "owner",
        "direction",
        "rule",
        "action",
        "priority",
        "services",
        "source_ports",
        "peers",
        "except",
        "local",
        "disabled",
        "stateless",
        "enforced_until",
        "review_by",
        "description",
    ];
    let mut sheet = Sheet {
        columns,
        ..Sheet::default()
    };
    let mut others: BTreeMap<&str, usize> = BTreeMap::new();
    for filter in estate.filters.items() {
        let word = |action: Option<heronshale_model::estate::Action>| {
            action.map_or_else(String::new, |action| action.word().to_owned())
        };
        let (kind, form, defaults) = match &filter.kind {
            FilterKind::UnionGroup => ("group", "", [None, None]),
            FilterKind::OrderedGroup { defaults } => ("group", "ordered", *defaults),
            FilterKind::NetworkAcl => ("acl", "", [None, None]),
            FilterKind::OwnFirewall { defaults } => ("own-firewall", "", defaults.map(Some)),
            FilterKind::ScopePolicy { .. } | FilterKind::FirewallPolicy { .. } => {
                *others.entry(plural_of(filter)).or_default() += 1;
                continue;
            }
        };
        let owner = filter
            .owner
            .map_or_else(String::new, |owner| estate.owners[owner].name.to_string());
        let head = vec![
            kind.to_owned(),
            filter.name.to_string(),
            form.to_owned(),
            word(defaults[0]),
            word(defaults[1]),
            owner,
        ];
        if !filter.tags.is_empty() {
            *others.entry("filters with tags").or_default() += 1;
        }
        let mut empty = true;
        for direction in Direction::BOTH {
            for rule in filter.rules(direction) {
                empty = false;
                sheet
                    .rows
                    .push([head.clone(), rule_row(estate, rule, direction)].concat());
            }
        }
        if empty {
            sheet.rows.push([head, vec![String::new(); 14]].concat());
        }
    }
    for set in estate.address_sets.items() {
        let one = |item: &SetItem| match item {
            SetItem::Block(block) => block.range.to_string(),
            SetItem::Set(Reference::Found(inner)) => {
                format!("set:{}", estate.address_sets[*inner].name)
            }
            SetItem::Set(Reference::Missing(name)) => format!("set:{name}"),
        };
        let owner = set
            .owner
            .map_or_else(String::new, |owner| estate.owners[owner].name.to_string());
        let mut row = vec![String::new(); sheet.columns.len()];
        (row[0], row[1], row[5]) = ("set".to_owned(), set.name.to_string(), owner);
        // A cell without text would say nothing: a set of itself alone holds nothing.
        row[12] = match set.content.as_deref() {
            None => "unknown".to_owned(),
            Some([]) => format!("set:{}", set.name),
            Some(content) => joined(content.iter().map(one)),
        };
        sheet.rows.push(row);
    }
    let settings = settings_left_out(estate);
    let why = |word: &str| match word {
        "filters with tags" => "there is no column for tags",
        _ => "they need more than a row for each rule",
    };
    sheet.left_out = { others.into_iter() }
        .map(|(word, count)| LeftOut {
            what: format!("{count} {word}"),
            why: why(word).to_owned(),
        })
        .chain(settings)
        .collect();
    sheet
}

/// The settings that somebody wrote: a sheet has no place for them, and they change verdicts.
fn settings_left_out(estate: &Estate) -> Option<LeftOut> {
    let of_networks = estate
        .networks
        .items()
        .iter()
        .flat_map(|network| &network.settings.written);
    let mut names: Vec<&str> = estate
        .settings
        .written
        .iter()
        .chain(of_networks)
        .copied()
        .collect();
    names.sort_unstable();
    names.dedup();
    let what = format!(
        "{} setting{}: {}",
        names.len(),
        if names.len() == 1 { "" } else { "s" },
        names.join(", ")
    );
    let why =
        "there is no column for settings: write them into a file beside the import, or verdicts change".to_owned();
    (!names.is_empty()).then_some(LeftOut { what, why })
}

fn rule_row(estate: &Estate, rule: &Rule, direction: Direction) -> Vec<String> {
    // Output marks what is missing; here the name alone stands, and is missing again.
    let peer = |peer: &Peer| {
        peer_text(estate, peer)
            .trim_end_matches(" (missing)")
            .to_owned()
    };
    let peers = |all: &[Peer]| joined(all.iter().map(peer));
    let moment = |moment: Option<jiff::Timestamp>| {
        moment.map_or_else(String::new, |moment| moment.to_string())
    };
    // A cell without text says nothing: what matches nothing is written as a rule that is out of force.
    let nothing = [&rule.peers, &rule.local]
        .into_iter()
        .flatten()
        .any(Vec::is_empty)
        || (!rule.services.is_empty() && services(rule).is_empty());
    vec![
        if direction == Direction::In {
            "inbound"
        } else {
            "outbound"
        }
        .to_owned(),
        rule.id.as_deref().unwrap_or_default().to_owned(),
        rule.action.word().to_owned(),
        rule.priority
            .map_or_else(String::new, |priority| priority.to_string()),
        services(rule),
        rule.source_ports
            .as_ref()
            .map_or_else(String::new, ports_text),
        rule.peers.as_deref().map_or_else(String::new, peers),
        peers(&rule.except),
        rule.local.as_deref().map_or_else(String::new, peers),
        yes(!rule.enabled || nothing),
        yes(rule.stateless),
        moment(rule.enforced_until),
        moment(rule.review_by),
        rule.description.as_deref().unwrap_or_default().to_owned(),
    ]
}

/// The interfaces with where they stand and what is bound to them, a row each.
pub fn interface_sheet(view: &Fabric<'_>) -> Sheet {
    let estate = view.estate;
    let columns = vec![
        "network",
        "network_blocks",
        "subnet",
        "subnet_blocks",
        "acl",
        "subnet_groups",
        "interface",
        "addresses",
        "groups",
        "workload",
        "own_firewall",
        "service_identity",
        "tags",
        "forwards",
        "unfiltered",
        "owner",
    ];
    let mut sheet = Sheet {
        columns,
        ..Sheet::default()
    };
    let filter = |reference: &Reference<Filter>| match reference {
        Reference::Found(id) => estate.filters[*id].name.to_string(),
        Reference::Missing(name) => name.to_string(),
    };
    let place = |subnet: &heronshale_model::estate::Subnet| {
        let network = &estate.networks[subnet.network];
        vec![
            network.name.to_string(),
            joined(network.blocks.texts()),
            subnet.name.to_string(),
            joined(subnet.blocks.texts()),
            subnet.acl.as_ref().map_or_else(String::new, filter),
            joined(subnet.groups.iter().map(filter)),
        ]
    };
    let mut lived_in = vec![false; estate.subnets.len()];
    for (id, interface) in estate.interfaces.iter() {
        lived_in[interface.subnet.index()] = true;
        let workload = interface
            .workload
            .map_or_else(String::new, |id| estate.workloads[id].name.to_string());
        let tags = interface
            .tags
            .iter()
            .map(|(key, value)| format!("{key}={value}"));
        let mut row = place(&estate.subnets[interface.subnet]);
        row.extend([
            interface.name.to_string(),
            joined(
                interface
                    .written_addresses
                    .iter()
                    .map(|block| block.range.to_string()),
            ),
            joined(interface.groups.iter().map(filter)),
            workload,
            estate.own_firewall(id).map_or_else(String::new, filter),
            estate
                .identity(id)
                .map_or_else(String::new, ToString::to_string),
            joined(tags),
            yes(interface.forwards),
            yes(interface.unfiltered),
            estate
                .interface_owner(id)
                .map_or_else(String::new, |owner| estate.owners[owner].name.to_string()),
        ]);
        sheet.rows.push(row);
    }
    for (subnet, _) in estate
        .subnets
        .items()
        .iter()
        .zip(lived_in)
        .filter(|(_, lived_in)| !lived_in)
    {
        sheet
            .rows
            .push([place(subnet), vec![String::new(); sheet.columns.len() - 6]].concat());
    }
    let used: Vec<_> = estate
        .subnets
        .items()
        .iter()
        .map(|subnet| subnet.network)
        .collect();
    for (_, network) in estate.networks.iter().filter(|(id, _)| !used.contains(id)) {
        let mut row = vec![String::new(); sheet.columns.len()];
        (row[0], row[1]) = (network.name.to_string(), joined(network.blocks.texts()));
        sheet.rows.push(row);
    }
    let kinds = [
        ("route table", "route tables", estate.route_tables.len()),
        ("gateway", "gateways", estate.gateways.len()),
        ("firewall", "firewalls", estate.firewalls.len()),
        ("balancer", "balancers", estate.balancers.len()),
        ("peering", "peerings", estate.peerings.len()),
        ("hub", "hubs", estate.hubs.len()),
        (
            "public address",
            "public addresses",
            estate.public_addresses.len(),
        ),
        ("service", "services", estate.services.len()),
        ("site", "sites", estate.sites.len()),
    ];
    for (one, many, count) in kinds.into_iter().filter(|(_, _, count)| *count > 0) {
        let what = format!("{count} {}", if count == 1 { one } else { many });
        let why = "the sheet is about interfaces and where they stand".to_owned();
        sheet.left_out.push(LeftOut { what, why });
    }
    sheet.left_out.extend(settings_left_out(estate));
    sheet
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
