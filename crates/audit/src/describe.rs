//! Rules, filters and sets as plain data with the words of the snapshot: what results are made of.

use heronshale_model::estate::{
    Action, Direction, Estate, Filter, FilterKind, Id, Interface, Network, Owner, Peer, Reference,
    RuleId, Scope, Service,
};
use heronshale_model::source::Place;
use heronshale_model::view::View;
use heronshale_sets::address::{Addresses, Block, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{Entry, Packet, service};
use serde::Serialize;

/// A count with its noun: `1 rule`, `2 rules`, `3 public addresses`.
pub fn plural(count: usize, what: &str) -> String {
    let stem = what
        .strip_suffix('y')
        .filter(|stem| !stem.ends_with(['a', 'e', 'o', 'u']));
    match (count, stem) {
        (1, _) => format!("1 {what}"),
        (_, Some(stem)) => format!("{count} {stem}ies"),
        (_, None) if what.ends_with(['s', 'x']) => format!("{count} {what}es"),
        _ => format!("{count} {what}s"),
    }
}

/// A day, or a moment that is not the end of one, in words.
pub(crate) fn day_text(moment: &str) -> String {
    let text = moment_text(moment);
    let day = text
        .strip_prefix("end of ")
        .and_then(|day| day.strip_suffix(" UTC"));
    day.map_or_else(|| text.clone(), str::to_owned)
}

/// A rule as a reader finds it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct RuleFact {
    /// The filter's kind and name, for example `group app`.
    pub filter: String,
    /// Inbound or outbound.
    pub direction: Direction,
    /// The rule's id, or its place such as `#3`.
    pub rule: String,
    /// What it does.
    pub action: Action,
    /// Its services, peers and conditions in words.
    pub says: String,
    /// Where it stands.
    pub place: Place,
}

/// A concrete packet that proves a statement.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Witness {
    /// The family of both addresses.
    pub family: Family,
    /// Source address.
    pub source: String,
    /// Destination address.
    pub destination: String,
    /// Protocol number.
    pub protocol: u8,
    /// Source port, for protocols that have ports.
    pub source_port: Option<u16>,
    /// Destination port, for protocols that have ports.
    pub port: Option<u16>,
    /// ICMP type and code.
    pub icmp: Option<[u8; 2]>,
    /// The packet in words.
    pub text: String,
}

/// A packet as data.
pub fn witness(packet: &Packet) -> Witness {
    let protocol = packet.protocol();
    let low = service::port_of(packet.service);
    let ported = service::has_ports(protocol);
    Witness {
        family: packet.family,
        source: packet.source_address().to_string(),
        destination: packet.destination_address().to_string(),
        protocol,
        source_port: ported.then_some(packet.source_port),
        port: ported.then_some(low),
        icmp: service::is_icmp(protocol).then(|| low.to_be_bytes()),
        text: packet.to_string(),
    }
}

/// A block as it would be written.
fn block_text(block: &Block) -> String {
    match block.length {
        Some(length) if length < block.range.family.bits() => {
            format!(
                "{}/{length}",
                heronshale_sets::address::address_of(block.range.family, block.range.first)
            )
        }
        _ => block.range.to_string(),
    }
}

/// A name, or the missing one's.
pub fn name_of<T: heronshale_model::estate::Named>(
    table: &heronshale_model::estate::Table<T>,
    reference: &Reference<T>,
) -> String {
    match reference {
        Reference::Found(id) => table[*id].name().to_string(),
        Reference::Missing(name) => format!("{name} (missing)"),
    }
}

/// The filter's name, or the missing one's.
pub fn filter_name(estate: &Estate, reference: &Reference<Filter>) -> String {
    match reference {
        Reference::Found(id) => estate.filters[*id].name.to_string(),
        Reference::Missing(name) => format!("{name} (missing)"),
    }
}

fn pairs_text(
    pairs: &[(
        heronshale_model::estate::Name,
        heronshale_model::estate::Name,
    )],
) -> String {
    pairs
        .iter()
        .map(|(key, value)| format!("{key}={value}"))
        .collect::<Vec<_>>()
        .join(",")
}

/// A peer in the notation of snapshots.
pub fn peer_text(estate: &Estate, peer: &Peer) -> String {
    match peer {
        Peer::Block(block) => block_text(block),
        Peer::AddressSet(set) => format!("set:{}", name_of(&estate.address_sets, set)),
        Peer::Group(group) => format!("group:{}", filter_name(estate, group)),
        Peer::Tag(pairs) => format!("tag:{}", pairs_text(pairs)),
        Peer::Identity(name) => format!("identity:{name}"),
        Peer::Interface(interface) => {
            format!("interface:{}", name_of(&estate.interfaces, interface))
        }
        Peer::Network(network) => format!("network:{}", name_of(&estate.networks, network)),
        Peer::Subnet(subnet) => format!("subnet:{}", name_of(&estate.subnets, subnet)),
        Peer::Site(site) => format!("site:{}", name_of(&estate.sites, site)),
        Peer::Internet => "internet".to_owned(),
        Peer::Any => "any".to_owned(),
        Peer::Probes => "probes".to_owned(),
    }
}

/// A service as it is written: `tcp 443`.
pub fn service_text(written: &Service) -> String {
    match (&written.protocol, &written.low) {
        (None, None) if !written.except.is_empty() => {
            format!(
                "any except {}",
                written
                    .except
                    .iter()
                    .map(service_text)
                    .collect::<Vec<_>>()
                    .join(", ")
            )
        }
        (None, None) => "any".to_owned(),
        (None, Some(ports)) => format!("any {}", ports_text(ports)),
        (Some(protocol), None) => service::protocol_name(*protocol),
        (Some(protocol), Some(_)) => {
            let families = Family::BOTH.map(|family| written.numbers(family));
            let all = Family::BOTH
                .iter()
                .zip(&families)
                .find(|(_, numbers)| !numbers.is_empty());
            all.map_or_else(
                || format!("{} with ports", service::protocol_name(*protocol)),
                |(family, numbers)| service::texts(*family, numbers).join(", "),
            )
        }
    }
}

/// Ports in words: `443`, `80,8000-8100`.
pub fn ports_text(ports: &Intervals) -> String {
    let span = |(first, last): &(u128, u128)| {
        if first == last {
            first.to_string()
        } else {
            format!("{first}-{last}")
        }
    };
    ports.spans().iter().map(span).collect::<Vec<_>>().join(",")
}

fn list_text(items: Vec<String>) -> String {
    const SHOWN: usize = 4;
    let more = items.len().saturating_sub(SHOWN);
    let mut text = items.into_iter().take(SHOWN).collect::<Vec<_>>().join(", ");
    if more > 0 {
        text.push_str(&format!(" and {more} more"));
    }
    text
}

/// What a rule says, in words: `tcp 22 from 10.64.0.0/12`.
pub fn rule_says(estate: &Estate, id: RuleId) -> String {
    rule_line(estate, estate.rule(id), id.direction)
}

/// The same of a rule that is in no list yet.
pub(crate) fn rule_line(
    estate: &Estate,
    rule: &heronshale_model::estate::Rule,
    direction: Direction,
) -> String {
    let services = if rule.services.is_empty() {
        "any".to_owned()
    } else {
        list_text(rule.services.iter().map(service_text).collect())
    };
    let peers = match &rule.peers {
        None => "any".to_owned(),
        Some(peers) if peers.is_empty() => "nobody".to_owned(),
        Some(peers) => list_text(peers.iter().map(|peer| peer_text(estate, peer)).collect()),
    };
    let word = if direction == Direction::In {
        "from"
    } else {
        "to"
    };
    let mut text = format!("{services} {word} {peers}");
    let listed =
        |peers: &[Peer]| list_text(peers.iter().map(|peer| peer_text(estate, peer)).collect());
    if !rule.except.is_empty() {
        text.push_str(&format!(" except {}", listed(&rule.except)));
    }
    match (&rule.firewall, &rule.local) {
        (Some(more), local) => {
            let names = more
                .names
                .iter()
                .flatten()
                .map(|set| format!("names {}", name_of(&estate.name_sets, set)));
            let to: Vec<String> = local
                .iter()
                .map(|local| listed(local))
                .chain(names)
                .collect();
            if !to.is_empty() {
                text.push_str(&format!(" to {}", to.join(" or ")));
            }
            if !more.except_destinations.is_empty() {
                text.push_str(&format!(" except {}", listed(&more.except_destinations)));
            }
            for (word, zones) in [("in by", &more.from_zones), ("out by", &more.to_zones)] {
                if let Some(zones) = zones {
                    text.push_str(&format!(", {word} {}", zones.join(" or ")));
                }
            }
            if let Some(condition) = &more.condition {
                text.push_str(&format!(", if {condition}"));
            }
        }
        (None, Some(local)) => text.push_str(&format!(", here {}", listed(local))),
        (None, None) => {}
    }
    if let Some(ports) = &rule.source_ports {
        text.push_str(&format!(", source ports {}", ports_text(ports)));
    }
    text
}

/// A filter's kind and name: `group app`.
pub fn filter_text(estate: &Estate, id: Id<Filter>) -> String {
    let filter = &estate.filters[id];
    format!("{} {}", filter.kind_word(), filter.name)
}

/// A rule as data.
pub fn rule_fact(estate: &Estate, id: RuleId) -> RuleFact {
    let rule = estate.rule(id);
    RuleFact {
        filter: filter_text(estate, id.filter),
        direction: id.direction,
        rule: estate.rule_name(id),
        action: rule.action,
        says: rule_says(estate, id),
        place: estate.sources.place(&rule.origin),
    }
}

/// A moment for people: `2026-11-02 06:00 UTC`; the last of a day as that day, for which a bare date stands.
pub fn moment_text(moment: &str) -> String {
    let plain = moment.trim_end_matches('Z').replace('T', " ");
    match plain.strip_suffix(" 23:59:59.999999999") {
        Some(day) => format!("end of {day} UTC"),
        None => format!("{} UTC", plain.strip_suffix(":00").unwrap_or(&plain)),
    }
}

/// A rule in full: `group web, rule https: allow tcp 443 from any`.
pub fn rule_text(rule: &RuleFact) -> String {
    format!(
        "{}, rule {}: {} {}",
        rule.filter,
        rule.rule,
        rule.action.word(),
        rule.says
    )
}

/// An owner's name.
pub fn owner_text(estate: &Estate, owner: Option<Id<Owner>>) -> Option<String> {
    owner.map(|id| estate.owners[id].name.to_string())
}

/// A set of addresses in words, and exactly.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct PeerWords {
    /// In words: names of groups and networks where these say it better.
    pub said: String,
    /// Exactly: addresses, prefixes and ranges, ascending.
    pub ranges: Vec<String>,
    /// Whether that is the whole side that was asked about.
    pub whole: bool,
}

/// Packets of one direction at an interface, as one entry of a list.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Traffic {
    /// IPv4 or IPv6.
    pub family: Family,
    /// The other side.
    pub peer: PeerWords,
    /// This side, where a rule is about it.
    pub local: Option<PeerWords>,
    /// Protocols with ports, or ICMP types and codes.
    pub services: Vec<String>,
    /// Source ports, where a rule is about them.
    pub source_ports: Option<String>,
}

/// An entry as data.
pub fn traffic(entry: &Entry, direction: Direction, symbols: &Symbols) -> Traffic {
    let (peer, local) = match direction {
        Direction::In => (&entry.sources, &entry.destinations),
        Direction::Out => (&entry.destinations, &entry.sources),
    };
    let any_local = *local == *Addresses::of_family(entry.family).of(entry.family);
    Traffic {
        family: entry.family,
        peer: peer_words(entry.family, peer, symbols),
        local: (!any_local).then(|| peer_words(entry.family, local, &Symbols::new())),
        services: entry.service_texts(),
        source_ports: (!entry.any_source_port()).then(|| ports_text(&entry.source_ports)),
    }
}

/// Names that may stand for sets of addresses, the best first.
pub type Symbols = Vec<(String, Addresses)>;

/// A set in words: `any`, names that lie in it, the rest as prefixes; or `any except` what is missing, if that is shorter.
pub fn peer_words(family: Family, numbers: &Intervals, symbols: &Symbols) -> PeerWords {
    let set = Addresses::from_intervals(family, numbers.clone());
    let whole = Addresses::of_family(family);
    let ranges = set.texts();
    let plain = items(family, &set, symbols);
    let missing = items(family, &whole.difference(&set), symbols);
    let said = if set == whole {
        "any".to_owned()
    } else if missing.len() * 2 < plain.len() {
        format!("any except {}", list_text(missing))
    } else {
        list_text(plain)
    };
    PeerWords {
        said,
        ranges,
        whole: false,
    }
}

fn items(family: Family, set: &Addresses, symbols: &Symbols) -> Vec<String> {
    if let Some(names) = one_by_one(family, set, symbols) {
        return names;
    }
    let mut rest = set.clone();
    let mut left = rest.ranges().count();
    let mut words = Vec::new();
    for (name, members) in symbols {
        let members = members.intersection(&Addresses::of_family(family));
        if members.is_empty() || !members.is_subset(&rest) {
            continue;
        }
        // A name stands for its members only where that makes the list no longer.
        let without = rest.difference(&members);
        let count = without.ranges().count();
        if count < left {
            (rest, left) = (without, count);
            words.push(name.clone());
        }
    }
    let internet = symbols
        .iter()
        .find(|(name, _)| name == "the internet" || name == "internet");
    if let Some((name, all)) = internet
        && rest.ranges().count() > MOST_RANGES
    {
        let all = all.intersection(&Addresses::of_family(family));
        let missing = all.difference(&rest);
        let inside = rest.intersection(&all);
        // What is left of the internet is told by what is missing there.
        if !missing.is_empty() && missing.ranges().count() < inside.ranges().count() {
            // One block is named; a few addresses here and there are not.
            let block = missing.ranges().count() == 1
                && missing.ranges().all(|range| range.first != range.last);
            words.push(if !block && is_small(&missing) {
                "the rest of the internet".to_owned()
            } else {
                format!("{name} except {}", list_text(missing.texts()))
            });
            rest = rest.difference(&inside);
        }
    }
    words.extend(rest.texts());
    words
}

/// Whether some addresses are so few that what is left is nearly all.
fn is_small(addresses: &Addresses) -> bool {
    const FEW: u128 = 1024;
    let sizes = addresses.ranges();
    let sizes = sizes.map(|range| (range.last - range.first).saturating_add(1));
    sizes.fold(0, u128::saturating_add) <= FEW
}

/// More ranges than this are not listed where something shorter says the same.
const MOST_RANGES: usize = 4;

/// The names of a few addresses, if each has one.
fn one_by_one(family: Family, set: &Addresses, symbols: &Symbols) -> Option<Vec<String>> {
    const FEW: u128 = 4;
    let wide = |sum: u128, range: heronshale_sets::address::Range| {
        sum.saturating_add((range.last - range.first).saturating_add(1))
    };
    if set.ranges().fold(0, wide) > FEW {
        return None;
    }
    let mut rest = set.clone();
    let mut names = Vec::new();
    for (name, members) in symbols {
        let members = members.intersection(&Addresses::of_family(family));
        if !members.is_empty() && members.is_subset(&rest) {
            rest = rest.difference(&members);
            names.push(name.clone());
        }
    }
    rest.is_empty().then_some(names)
}

/// The names that the given rules use for their peers, and what they stand for in a network.
pub fn symbols_of(
    view: &View<'_>,
    rules: impl Iterator<Item = RuleId>,
    network: Option<Id<Network>>,
) -> Symbols {
    let mut symbols: Symbols = Vec::new();
    for id in rules {
        let rule = view.estate.rule(id);
        for peer in rule.peers.iter().flatten().chain(&rule.except) {
            let name = match peer {
                Peer::Any | Peer::Block(_) => continue,
                Peer::Group(Reference::Found(group)) => {
                    let near =
                        |id: &&Id<Interface>| view.reaches(network, view.estate.network_of(**id));
                    let count = view.carriers(*group).iter().filter(near).count();
                    format!("group {} ({count})", view.estate.filters[*group].name)
                }
                _ => peer_text(view.estate, peer).replacen(':', " ", 1),
            };
            let members = view.peer(peer, network).sure;
            if !symbols.iter().any(|(known, _)| *known == name) {
                symbols.push((name, members));
            }
        }
    }
    if !symbols.iter().any(|(known, _)| known == "internet") {
        symbols.push(("internet".to_owned(), view.internet().clone()));
    }
    symbols.push(("the internet".to_owned(), view.internet_end()));
    symbols
}

/// Where a policy is bound, in words.
pub fn scope_text(estate: &Estate, filter: &Filter) -> Option<String> {
    match &filter.kind {
        FilterKind::ScopePolicy { scope, .. } => Some(match scope {
            Scope::Estate => "the whole estate".to_owned(),
            Scope::Division(id) => format!("division {}", estate.divisions[*id].name),
            Scope::Network(id) => format!("network {}", estate.networks[*id].name),
        }),
        _ => None,
    }
}
