//! Keys: what a finding is about, in parts that neither order nor numbers nor words change.
//!
//! A key is made of frozen tokens, names of the snapshot, canonical sets, and what rules and routes say in a notation of its
//! own. Its written form is what fingerprints rest on: a format, not a text. Nothing here comes from the words of findings,
//! and no text can get in but as a name.

use heronshale_engine::route::{Candidate, Hop};
use heronshale_engine::walk::Spot;
use heronshale_model::estate::{
    Estate, Filter, Firewall, GatewayKind, Id, Name, Named, Network, NextHop, Peer, Reference,
    Route, RouteDestination, RouteKind, RuleId, Service, Table, Translation,
};
use heronshale_sets::address::{Addresses, Block, Family, Range, address_of};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;
use std::net::IpAddr;

/// What a finding is about.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct Key(String);

impl Key {
    /// A key that begins with a token.
    pub fn of(token: &'static str) -> Self {
        Self(token.to_owned())
    }

    /// All that a rule says, whatever its id, priority and place: two rules with one meaning in one list have one key.
    pub fn rule(estate: &Estate, id: RuleId) -> Self {
        Self(rule_written(estate, id))
    }

    /// A filter.
    pub fn filter(filter: &Filter) -> Self {
        Self::of("filter").name(&filter.key)
    }

    /// Several keys, in whatever order they come.
    pub fn all(keys: impl IntoIterator<Item = Self>) -> Self {
        let mut keys: Vec<String> = keys.into_iter().map(|key| key.0).collect();
        keys.sort_unstable();
        Self(keys.join("; "))
    }

    /// The written form.
    pub fn written(&self) -> &str {
        &self.0
    }

    fn part(mut self, part: &str) -> Self {
        if !self.0.is_empty() {
            self.0.push(' ');
        }
        self.0 += part;
        self
    }

    /// And a token.
    pub fn token(self, token: &'static str) -> Self {
        self.part(token)
    }

    /// And a name of the snapshot.
    pub fn name(self, name: &str) -> Self {
        self.part(name)
    }

    /// And something of a kind, by its name.
    pub fn object(self, kind: &'static str, name: &str) -> Self {
        self.part(&format!("{kind}:{name}"))
    }

    /// And an address.
    pub fn address(self, address: IpAddr) -> Self {
        self.part(&address.to_string())
    }

    /// And addresses, a prefix or a peer as the snapshot writes them.
    pub fn notation(self, notation: &str) -> Self {
        self.part(notation)
    }

    /// And a range.
    pub fn range(self, range: &Range) -> Self {
        self.part(&range.to_string())
    }

    /// And addresses, all of them.
    pub fn addresses(self, addresses: &Addresses) -> Self {
        self.part(&addresses.texts().join(", "))
    }

    /// And all destinations of a route, in whatever order they are written.
    pub fn destinations(self, estate: &Estate, route: &Route) -> Self {
        let one = |destination: &RouteDestination| match destination {
            RouteDestination::Block(block) => block.range.to_string(),
            RouteDestination::Set(set) => format!("set {}", named(&estate.address_sets, set)),
        };
        let mut all: Vec<String> = route.destinations.iter().map(one).collect();
        all.sort_unstable();
        self.part(&all.join(", "))
    }

    /// And a next hop as it is written.
    pub fn next_hop(self, estate: &Estate, hop: &NextHop) -> Self {
        let (kind, name) = match hop {
            NextHop::Local => return self.token("local"),
            NextHop::Blackhole => return self.token("blackhole"),
            NextHop::Address(address) => return self.address(*address),
            NextHop::Gateway(to) => ("gateway", named(&estate.gateways, to)),
            NextHop::Interface(to) => ("interface", named(&estate.interfaces, to)),
            NextHop::Peering(to) => ("peering", named(&estate.peerings, to)),
            NextHop::Firewall(to) => ("firewall", named(&estate.firewalls, to)),
            NextHop::Balancer(to) => ("balancer", named(&estate.balancers, to)),
            NextHop::Hub(to) => ("hub", named(&estate.hubs, to)),
            NextHop::Service(to) => ("service", named(&estate.services, to)),
        };
        self.token(kind).part(&name)
    }

    /// And a place on the way.
    pub fn spot(self, estate: &Estate, spot: Spot) -> Self {
        match spot {
            Spot::Interface(id) => self.name(&estate.interfaces[id].name),
            Spot::Subnet(id) => self.token("subnet").name(&estate.subnets[id].name),
            Spot::Network(id) => self.network(estate, id),
            Spot::Gateway(id) => {
                let item = &estate.gateways[id];
                let kind = match item.kind {
                    GatewayKind::Internet { .. } => "internet gateway",
                    GatewayKind::Nat { .. } => "NAT gateway",
                    GatewayKind::OutboundOnly => "outbound-only gateway",
                    GatewayKind::Site { .. } => "site gateway",
                };
                self.token(kind).name(&item.name)
            }
            Spot::Peering(id, None) => self.token("peering").name(&estate.peerings[id].name),
            Spot::Peering(id, Some(to)) => {
                let (name, to) = (&estate.peerings[id].name, &estate.networks[to].name);
                self.part(&format!("peering {name}, to {to}"))
            }
            Spot::Firewall(id) => self.token("firewall").name(&estate.firewalls[id].name),
            Spot::Balancer(id) => self.token("balancer").name(&estate.balancers[id].name),
            Spot::Service(id) => self.token("service").name(&estate.services[id].name),
            Spot::Hub(id, link) => {
                let item = &estate.hubs[id];
                match link.and_then(|link| item.links.get(link)) {
                    Some(link) => self.part(&format!("hub {}, link {}", item.name, link.name)),
                    None => self.token("hub").name(&item.name),
                }
            }
            Spot::Site(id) => self.token("site").name(&estate.sites[id].name),
            Spot::Internet => self.token("the internet"),
        }
    }

    /// And where a route leads.
    pub fn hop(self, estate: &Estate, hop: Hop) -> Self {
        match hop {
            Hop::Local => self.token("local"),
            Hop::Blackhole => self.token("blackhole"),
            Hop::Gateway(id) => self.spot(estate, Spot::Gateway(id)),
            Hop::Interface(id) | Hop::MayNotForward(id) => {
                let is_leg = |item: &&Firewall| item.legs.iter().any(|leg| leg.interface == id);
                let name = &estate.interfaces[id].name;
                match estate.firewalls.items().iter().find(is_leg) {
                    Some(firewall) => {
                        self.part(&format!("firewall {}, interface {name}", firewall.name))
                    }
                    None => self.token("interface").name(name),
                }
            }
            Hop::Peering(id) => self.spot(estate, Spot::Peering(id, None)),
            Hop::Balancer(id) => self.spot(estate, Spot::Balancer(id)),
            Hop::Hub(id, link) => self.spot(estate, Spot::Hub(id, Some(link))),
            Hop::Service(id) => self.spot(estate, Spot::Service(id)),
            Hop::Door(id) => self.token("private door").name(&estate.interfaces[id].name),
            Hop::SharedAddress => self.token("the platform's shared address"),
            Hop::Dead => self.token("a next hop that does not exist or is down"),
            Hop::Unknown => self.token("what the snapshot lacks"),
        }
    }

    /// And a route that applies somewhere.
    pub fn candidate(self, estate: &Estate, candidate: &Candidate) -> Self {
        let kind = match candidate.kind {
            RouteKind::Static => "route",
            RouteKind::Propagated => "propagated route",
            RouteKind::Automatic | RouteKind::OtherAutomatic => "automatic route",
        };
        self.token(kind)
            .range(&candidate.range)
            .token("to")
            .hop(estate, candidate.winner.hop)
    }

    /// And a translation of a firewall: its id, or all that it says.
    pub fn translation(self, estate: &Estate, translation: &Translation) -> Self {
        if let Some(id) = &translation.id {
            return self.name(id);
        }
        let peers = |peers: &Option<Vec<Peer>>| {
            peers.as_ref().map_or_else(
                || "any".to_owned(),
                |peers| {
                    sorted(
                        peers
                            .iter()
                            .map(|peer| peer_written(estate, peer))
                            .collect(),
                    )
                },
            )
        };
        let zones = |zones: &Option<Vec<Name>>| {
            zones
                .as_ref()
                .map_or("any".to_owned(), |all| all.join(", "))
        };
        let services = sorted(translation.services.iter().map(service_written).collect());
        let to = translation.to.map_or_else(String::new, |to| to.to_string());
        self.part(&format!(
            "[{services}] {} to {} zones {} to {} becomes {to} {}",
            peers(&translation.sources),
            peers(&translation.destinations),
            zones(&translation.from_zones),
            zones(&translation.to_zones),
            translation
                .port
                .map_or_else(String::new, |port| port.to_string()),
        ))
    }

    /// And a network.
    pub fn network(self, estate: &Estate, id: Id<Network>) -> Self {
        self.token("network").name(&estate.networks[id].name)
    }
}

fn named<T: Named>(table: &Table<T>, reference: &Reference<T>) -> String {
    match reference {
        Reference::Found(id) => table[*id].name().to_string(),
        Reference::Missing(name) => format!("{name} (missing)"),
    }
}

fn block_written(block: &Block) -> String {
    match block.length {
        Some(length) if length < block.range.family.bits() => {
            format!(
                "{}/{length}",
                address_of(block.range.family, block.range.first)
            )
        }
        _ => block.range.to_string(),
    }
}

fn peer_written(estate: &Estate, peer: &Peer) -> String {
    let filter = |reference: &Reference<Filter>| match reference {
        Reference::Found(id) => estate.filters[*id].name.to_string(),
        Reference::Missing(name) => format!("{name} (missing)"),
    };
    match peer {
        Peer::Block(block) => block_written(block),
        Peer::AddressSet(set) => format!("set:{}", named(&estate.address_sets, set)),
        Peer::Group(group) => format!("group:{}", filter(group)),
        Peer::Tag(pairs) => {
            let pairs = pairs.iter().map(|(key, value)| format!("{key}={value}"));
            format!("tag:{}", pairs.collect::<Vec<_>>().join(","))
        }
        Peer::Identity(name) => format!("identity:{name}"),
        Peer::Interface(interface) => format!("interface:{}", named(&estate.interfaces, interface)),
        Peer::Network(network) => format!("network:{}", named(&estate.networks, network)),
        Peer::Subnet(subnet) => format!("subnet:{}", named(&estate.subnets, subnet)),
        Peer::Site(site) => format!("site:{}", named(&estate.sites, site)),
        Peer::Internet => "internet".to_owned(),
        Peer::Any => "any".to_owned(),
        Peer::Probes => "probes".to_owned(),
    }
}

fn ports_written(ports: &Intervals) -> String {
    let span = |(first, last): &(u128, u128)| match first == last {
        true => first.to_string(),
        false => format!("{first}-{last}"),
    };
    ports.spans().iter().map(span).collect::<Vec<_>>().join(",")
}

fn service_written(written: &Service) -> String {
    match (&written.protocol, &written.low) {
        (None, None) if !written.except.is_empty() => {
            let except = written.except.iter().map(service_written);
            format!("any except {}", except.collect::<Vec<_>>().join(", "))
        }
        (None, None) => "any".to_owned(),
        (None, Some(ports)) => format!("any {}", ports_written(ports)),
        (Some(protocol), None) => service::protocol_name(*protocol),
        (Some(protocol), Some(_)) => {
            let families = Family::BOTH.map(|family| (family, written.numbers(family)));
            let found = families.iter().find(|(_, numbers)| !numbers.is_empty());
            found.map_or_else(
                || format!("{} with ports", service::protocol_name(*protocol)),
                |(family, numbers)| service::texts(*family, numbers).join(", "),
            )
        }
    }
}

fn sorted(mut items: Vec<String>) -> String {
    items.sort_unstable();
    items.dedup();
    items.join(", ")
}

fn rule_written(estate: &Estate, id: RuleId) -> String {
    let rule = estate.rule(id);
    let peers = |peers: &[Peer]| {
        sorted(
            peers
                .iter()
                .map(|peer| peer_written(estate, peer))
                .collect(),
        )
    };
    let any_of = |list: Option<&Vec<Peer>>| {
        list.map_or_else(|| "any".to_owned(), |list| format!("[{}]", peers(list)))
    };
    // Protocols without a name are numbers here.
    let bare = |service| {
        service_written(service)
            .trim_start_matches("protocol ")
            .to_owned()
    };
    let services = sorted(rule.services.iter().map(bare).collect());
    let ports = rule
        .source_ports
        .as_ref()
        .map_or_else(|| "any".to_owned(), ports_written);
    let own = format!(
        "{} {} {} services [{services}] peers {} except [{}] local {} source ports {ports}{}",
        estate.filters[id.filter].key,
        id.direction.word(),
        rule.action.word(),
        any_of(rule.peers.as_ref()),
        peers(&rule.except),
        any_of(rule.local.as_ref()),
        if rule.stateless { " stateless" } else { "" },
    );
    let Some(more) = &rule.firewall else {
        return own;
    };
    let names = more
        .names
        .iter()
        .flatten()
        .map(|set| named(&estate.name_sets, set));
    let [from, to] = [&more.from_zones, &more.to_zones].map(|zones| {
        zones
            .as_ref()
            .map_or("any".to_owned(), |zones| zones.join(", "))
    });
    format!(
        "{own} names [{}] except destinations [{}] zones {from} to {to} if {}",
        sorted(names.collect()),
        peers(&more.except_destinations),
        more.condition.as_deref().unwrap_or("nothing")
    )
}

#[cfg(test)]
mod tests {
    use super::Key;

    #[test]
    fn a_key_is_its_parts_and_nothing_comes_from_the_words_of_findings() {
        let key = Key::of("hub").name("ring").token("link").name("quay");
        assert_eq!(key.written(), "hub ring link quay");
        assert_eq!(
            Key::all([key.clone(), Key::of("a")]),
            Key::all([Key::of("a"), key])
        );
        assert_eq!(
            Key::default().object("interface", "one").written(),
            "interface:one"
        );
        let uses = include_str!("key.rs")
            .lines()
            .filter(|line| line.starts_with("use "));
        assert!(uses.clone().count() > 3 && !uses.into_iter().any(|line| line.contains("crate::")));
    }
}
