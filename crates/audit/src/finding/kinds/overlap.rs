//! Address space that two things use.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::{Draft, Role};
use super::super::key::Key;
use super::super::kind::Kind;
use super::super::routing::addresses_text;
use crate::describe::owner_text;
use heronshale_model::estate::{GatewayKind, Id, Interface, LinkEnd, Network, Subnet};
use heronshale_model::severity::Severity;
use heronshale_sets::address::{Addresses, Range};

pub(crate) const KIND: Kind = Kind {
    name: "overlap",
    base: Severity::Serious,
    about: "Two subnets of a network, two connected networks, a connected network and site, or two interfaces of \
        a network use the same addresses.",
    why: "Packets to a shared address reach one of the two, and nobody chose which. Platforms refuse to \
        connect such networks, or route only half of them.",
    triggers: "The blocks of two subnets of one network overlap. The blocks of two networks overlap, and a peering \
        (up or down) or a hub connects them. A site has addresses of a network with a gateway to it or a \
        link to the same hub. Two interfaces of one network have the same address. Not reported for \
        overlapping networks without a connection.",
    fix: "Give one of the two other addresses.",
    side_effects: "Breaks connections to the old addresses.",
    factors: &["down: the peering is not up"],
    example: include_str!("../examples/overlap.yaml"),
    check: |context| {
        let mut drafts = subnets(context);
        drafts.extend(networks(context));
        drafts.extend(sites(context));
        drafts.extend(interfaces(context));
        drafts
    },
};

const FIX: &str = "Give one of the two other addresses.";

fn subnets(context: &Context<'_, '_>) -> Vec<Draft> {
    let estate = context.view.estate;
    let mut ranges: Vec<(Id<Network>, Range, Id<Subnet>)> = Vec::new();
    for (id, subnet) in estate.subnets.iter() {
        ranges.extend(
            subnet
                .blocks
                .ranges()
                .map(|range| (subnet.network, range, id)),
        );
    }
    let name = |id: &Id<Subnet>| &estate.subnets[*id].name;
    ranges.sort_unstable_by_key(|(network, range, id)| {
        (*network, range.family, range.first, name(id))
    });
    let mut drafts = Vec::new();
    let mut widest: Option<(Id<Network>, Range, Id<Subnet>)> = None;
    for (network, range, id) in ranges {
        let before = widest
            .filter(|(n, r, _)| *n == network && r.family == range.family && range.first <= r.last);
        if let Some((_, other_range, other)) = before.filter(|(_, _, other)| *other != id) {
            let shared: Addresses = [Range {
                last: range.last.min(other_range.last),
                ..range
            }]
            .into_iter()
            .collect();
            let (one, two) = (&estate.subnets[other], &estate.subnets[id]);
            let mut draft = context.about(
                Key::of("subnets").name(&one.name).name(&two.name),
                &two.origin,
                owner_text(estate, estate.subnet_owner(id)),
            );
            draft.former = (id < other).then(|| format!("subnets {} {}", two.name, one.name));
            draft.networks = vec![estate.networks[network].name.to_string()];
            draft.brief(
                format!("subnets {}, {}", one.name, two.name),
                addresses_text(&shared),
            );
            draft.title = format!(
                "subnets {} and {} both have {}",
                one.name,
                two.name,
                addresses_text(&shared)
            );
            draft.evidence.push(context.evidence(
                Role::Names,
                format!("subnet {}", one.name),
                Some(&one.origin),
            ));
            draft.fix = FIX.to_owned();
            drafts.push(draft);
        }
        if before.is_none_or(|(_, other, _)| other.last < range.last) {
            widest = Some((network, range, id));
        }
    }
    drafts
}

/// By what two things are joined: its kind and its name.
type Joint = (&'static str, heronshale_model::estate::Name);

fn networks(context: &Context<'_, '_>) -> Vec<Draft> {
    let estate = context.view.estate;
    // Pairs, by what joins them, and whether it is up.
    let mut pairs: Vec<(Id<Network>, Id<Network>, Joint, bool)> = Vec::new();
    for peering in estate.peerings.items() {
        let [a, b] = [&peering.sides[0].network, &peering.sides[1].network]
            .map(heronshale_model::estate::Reference::found);
        if let (Some(a), Some(b)) = (a, b) {
            pairs.push((
                a.min(b),
                a.max(b),
                ("peering", peering.name.clone()),
                peering.is_up(),
            ));
        }
    }
    for hub in estate.hubs.items() {
        let linked = hub.links.iter().filter_map(|link| match &link.to {
            LinkEnd::Network(network) => network.found(),
            _ => None,
        });
        // Those that overlap stand side by side when sorted by address.
        let mut ranges: Vec<(Range, Id<Network>)> = Vec::new();
        for network in linked {
            ranges.extend(
                estate.networks[network]
                    .blocks
                    .ranges()
                    .map(|range| (range, network)),
            );
        }
        ranges.sort_unstable_by_key(|(range, network)| (range.family, range.first, *network));
        ranges.dedup();
        for (at, (range, network)) in ranges.iter().enumerate() {
            let meets = |(other, _): &&(Range, Id<Network>)| {
                other.family == range.family && other.first <= range.last
            };
            for (_, other) in ranges[at + 1..]
                .iter()
                .take_while(meets)
                .filter(|(_, other)| other != network)
            {
                pairs.push((
                    *network.min(other),
                    *network.max(other),
                    ("hub", hub.name.clone()),
                    true,
                ));
            }
        }
    }
    pairs.sort_unstable();
    pairs.dedup_by(|a, b| (a.0, a.1, &a.2) == (b.0, b.1, &b.2));
    let mut drafts = Vec::new();
    for (a, b, by, up) in pairs {
        let (one, two) = (&estate.networks[a], &estate.networks[b]);
        let shared = one.blocks.intersection(&two.blocks);
        if a == b || shared.is_empty() {
            continue;
        }
        let former = format!("networks {} {} {} {}", one.name, two.name, by.0, by.1);
        let (first, second) = if one.name <= two.name {
            (one, two)
        } else {
            (two, one)
        };
        let key = Key::of("networks")
            .name(&first.name)
            .name(&second.name)
            .token(by.0)
            .name(&by.1);
        let by = format!("{} {}", by.0, by.1);
        let mut draft = context.about(key, &two.origin, owner_text(estate, two.owner));
        draft.former = Some(former);
        draft.networks = vec![one.name.to_string(), two.name.to_string()];
        draft.brief(
            format!("networks {}, {}", one.name, two.name),
            addresses_text(&shared),
        );
        draft.title = format!(
            "networks {} and {}, connected by {by}, both have {}",
            one.name,
            two.name,
            addresses_text(&shared)
        );
        draft.evidence.push(context.evidence(
            Role::Names,
            format!("network {}", one.name),
            Some(&one.origin),
        ));
        if !up {
            draft.factors.push(factor(-1, "the peering is not up"));
        }
        draft.fix = FIX.to_owned();
        drafts.push(draft);
    }
    drafts
}

/// Sites that hold addresses of a network that a gateway or a hub joins with them.
fn sites(context: &Context<'_, '_>) -> Vec<Draft> {
    let estate = context.view.estate;
    let mut pairs: Vec<(Id<heronshale_model::estate::Site>, Id<Network>, Joint)> = Vec::new();
    for gateway in estate.gateways.items() {
        if let GatewayKind::Site { site, .. } = gateway.kind {
            pairs.push((
                site,
                gateway.network,
                ("site gateway", gateway.name.clone()),
            ));
        }
    }
    for hub in estate.hubs.items() {
        let sites = hub.links.iter().filter_map(|link| match &link.to {
            LinkEnd::Site(site) => site.found(),
            _ => None,
        });
        for site in sites {
            let networks = hub.links.iter().filter_map(|link| match &link.to {
                LinkEnd::Network(network) => network.found(),
                _ => None,
            });
            pairs.extend(networks.map(|network| (site, network, ("hub", hub.name.clone()))));
        }
    }
    pairs.sort_unstable();
    pairs.dedup();
    let mut drafts = Vec::new();
    for (site, network, by) in pairs {
        let (one, two) = (&estate.sites[site], &estate.networks[network]);
        let shared = one.holds.intersection(&two.blocks);
        if shared.is_empty() {
            continue;
        }
        let key = Key::of("site")
            .name(&one.name)
            .token("network")
            .name(&two.name)
            .token(by.0)
            .name(&by.1);
        let by = format!("{} {}", by.0, by.1);
        let mut draft = context.about(key, &two.origin, owner_text(estate, two.owner));
        draft.networks = vec![two.name.to_string()];
        draft.brief(
            format!("site {}, network {}", one.name, two.name),
            addresses_text(&shared),
        );
        draft.title = format!(
            "site {} and network {}, connected by {by}, both have {}",
            one.name,
            two.name,
            addresses_text(&shared)
        );
        draft.evidence.push(context.evidence(
            Role::Names,
            format!("site {}", one.name),
            Some(&one.origin),
        ));
        draft.fix = FIX.to_owned();
        drafts.push(draft);
    }
    drafts
}

fn interfaces(context: &Context<'_, '_>) -> Vec<Draft> {
    let estate = context.view.estate;
    let mut held: Vec<(Id<Network>, Range, Id<Interface>)> = Vec::new();
    for (id, interface) in estate.interfaces.iter() {
        held.extend(
            interface
                .addresses
                .ranges()
                .map(|range| (estate.network_of(id), range, id)),
        );
    }
    let name = |id: &Id<Interface>| &estate.interfaces[*id].name;
    held.sort_unstable_by_key(|(network, range, id)| {
        (*network, range.family, range.first, name(id))
    });
    let mut drafts = Vec::new();
    for pair in held.windows(2) {
        let [(network, range, a), (other, second, b)] = pair else {
            continue;
        };
        if network != other || range.family != second.family || second.first > range.last || a == b
        {
            continue;
        }
        let (one, two) = (&estate.interfaces[*a], &estate.interfaces[*b]);
        let shared: Addresses = [Range {
            last: second.last.min(range.last),
            ..*second
        }]
        .into_iter()
        .collect();
        let key = Key::of("interfaces").name(&one.name).name(&two.name);
        let mut draft = context.about(
            key,
            &two.origin,
            owner_text(estate, estate.interface_owner(*b)),
        );
        draft.former = (b < a).then(|| format!("interfaces {} {}", two.name, one.name));
        draft.networks = vec![estate.networks[*network].name.to_string()];
        draft.brief(
            format!("interfaces {}, {}", one.name, two.name),
            addresses_text(&shared),
        );
        draft.title = format!(
            "interfaces {} and {} both have {}",
            one.name,
            two.name,
            addresses_text(&shared)
        );
        draft.evidence.push(context.evidence(
            Role::Names,
            format!("interface {}", one.name),
            Some(&one.origin),
        ));
        draft.fix = FIX.to_owned();
        drafts.push(draft);
    }
    drafts
}
