//! Rules whose packets another stage of the same interface refuses (`docs/findings.md`, denied-elsewhere).
//!
//! What a rule admits at its own stage is compared with what all stages let through and answer. One packet is enough for a
//! rule to be of use, be it a reply that a rule without state lets through; a rule is reported only if there is none on any interface on which it acts.

use heronshale_engine::binding::depends_on_place;
pub use heronshale_engine::effective::DeniedBy;
use heronshale_engine::effective::{Class, classes, domain, filters_at, passing_both};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::judgement::By;
use heronshale_engine::stage::{policies_at, rule_match};
use heronshale_model::ends::asked_packets;
use heronshale_model::estate::{
    Direction, Filter, Id, Interface, Lack, Network, Reference, RuleId,
};
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::each::each;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{Packet, PacketSet, service};
use std::collections::BTreeMap;

/// A rule whose packets are refused elsewhere.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Denied {
    /// The rule.
    pub rule: RuleId,
    /// By what, on the first interface on which it acts.
    pub by: DeniedBy,
    /// One packet that the rule admits and that is refused there.
    pub packet: Packet,
}

/// What is said of a rule on one class of interfaces.
type Told = (RuleId, Option<Denied>);

/// Every such rule of the estate, by filter and place.
pub fn denied_elsewhere(view: &Fabric<'_>) -> Vec<Denied> {
    const BATCH: usize = 512;
    let mut verdicts: BTreeMap<RuleId, Option<Denied>> = BTreeMap::new();
    for batch in classes(view).chunks(BATCH) {
        let useful = |rule: &RuleId| verdicts.get(rule).is_some_and(Option::is_none);
        let told: Vec<Vec<Told>> = each(batch, |class| of_class(view, class, useful));
        for (rule, denied) in told.into_iter().flatten() {
            let known = verdicts.entry(rule).or_insert_with(|| denied.clone());
            if denied.is_none() {
                *known = None;
            }
        }
    }
    verdicts.into_values().flatten().collect()
}

fn of_class(view: &Fabric<'_>, class: &Class, useful: impl Fn(&RuleId) -> bool) -> Vec<Told> {
    let interface = class.representative();
    let network = view.estate.network_of(interface);
    let mut told = Vec::new();
    if only_groups(view, interface) {
        // What the groups admit is admitted.
        for direction in Direction::BOTH {
            let domain = domain(view, interface, direction);
            for filter in view.estate.interfaces[interface]
                .groups
                .iter()
                .filter_map(Reference::found)
            {
                let count = u32::try_from(view.estate.filters[filter].rules(direction).len())
                    .unwrap_or(u32::MAX);
                let rules = (0..count).map(|index| RuleId {
                    filter,
                    direction,
                    index,
                });
                let asked = rules.filter(|id| view.in_force(view.estate.rule(*id)) && !useful(id));
                let admits = asked.filter(|id| matched(view, *id, network).overlaps(&domain));
                told.extend(admits.map(|id| (id, None)));
            }
        }
        return told;
    }
    let (shown, all) = of_use(view, interface, &useful);
    told.extend(shown.iter().map(|id| (*id, None)));
    if all {
        return told;
    }
    let useful = |id: &RuleId| useful(id) || shown.contains(id);
    let own = &view.estate.interfaces[interface].addresses;
    let home = |direction: Direction| asked_packets(direction.opposite(), own, &[]);
    let both = passing_both(view, interface, [None, None]);
    for (direction, passing, opposite) in [
        (Direction::In, &both[0], &both[1]),
        (Direction::Out, &both[1], &both[0]),
    ] {
        for stage in &passing.stages {
            for filter in &stage.filters {
                let count = u32::try_from(view.estate.filters[*filter].rules(direction).len())
                    .unwrap_or(u32::MAX);
                let union = view.estate.filters[*filter].is_union();
                for index in 0..count {
                    let id = RuleId {
                        filter: *filter,
                        direction,
                        index,
                    };
                    let rule = view.estate.rule(id);
                    if !rule.action.admits() || !view.in_force(rule) || useful(&id) {
                        continue;
                    }
                    let mut admits = matched(view, id, network).intersection(&passing.domain);
                    if !union {
                        admits = admits.intersection(
                            &stage.map.select(|judgement| judgement.by == By::Rule(id)),
                        );
                    }
                    if admits.is_empty() {
                        continue;
                    }
                    // A rule that keeps no state also lets replies through.
                    let stateless = rule.stateless || !view.estate.filters[*filter].keeps_state();
                    // Errors about connections that are let through pass stages that keep state.
                    if stateless && admits.overlaps(&icmp_errors()) {
                        told.push((id, None));
                        continue;
                    }
                    let replies = stateless && admits.requests_answered().overlaps(&opposite.works);
                    if replies || admits.overlaps(&passing.works) {
                        told.push((id, None));
                        continue;
                    }
                    let denied = passing.refused.iter().find_map(|(by, set)| {
                        let refused = admits.intersection(set);
                        let packet = refused
                            .intersection(&home(direction))
                            .witness()
                            .or_else(|| refused.witness())?;
                        Some(Denied {
                            rule: id,
                            by: *by,
                            packet,
                        })
                    });
                    told.push((id, denied));
                }
            }
        }
    }
    told
}

/// Rules that are of use by one packet, which gets through, and back; and whether no other is left of those that admit something at
/// an interface.
fn of_use(
    view: &Fabric<'_>,
    interface: Id<Interface>,
    known: impl Fn(&RuleId) -> bool,
) -> (Vec<RuleId>, bool) {
    let network = view.estate.network_of(interface);
    if !view.limits.shortcuts {
        return (Vec::new(), false);
    }
    let domains = Direction::BOTH.map(|direction| domain(view, interface, direction));
    let ports = &view.settings(network).client_ports;
    let mut asked = Direction::BOTH.map(|_| Vec::new());
    let mut open: Vec<(RuleId, usize, Packet)> = Vec::new();
    for filter in filters_at(view, interface) {
        for (at, direction) in Direction::BOTH.into_iter().enumerate() {
            let count = u32::try_from(view.estate.filters[filter].rules(direction).len())
                .unwrap_or(u32::MAX);
            for id in (0..count).map(|index| RuleId {
                filter,
                direction,
                index,
            }) {
                let rule = view.estate.rule(id);
                if rule.action.admits()
                    && view.in_force(rule)
                    && !known(&id)
                    && let Some(packet) = example(
                        &matched(view, id, network).intersection(&domains[at]),
                        ports,
                    )
                {
                    asked[at].push(PacketSet::single(&packet));
                    open.push((id, at, packet));
                }
            }
        }
    }
    if open.is_empty() {
        return (Vec::new(), true);
    }
    let asked = asked.map(PacketSet::union_all);
    let some = passing_both(view, interface, [Some(&asked[0]), Some(&asked[1])]);
    let by_itself = |id: RuleId, at: usize, packet: &Packet| {
        let stage = some[at]
            .stages
            .iter()
            .find(|stage| stage.filters.contains(&id.filter));
        let union = view.estate.filters[id.filter].is_union();
        stage
            .and_then(|stage| stage.map.get(packet))
            .is_some_and(|judgement| union || judgement.by == By::Rule(id))
    };
    // What becomes of replies is said for client ports.
    let usual = |packet: &Packet| {
        !service::has_ports(packet.protocol()) || ports.contains(u128::from(packet.source_port))
    };
    let works = |(id, at, packet): &&(RuleId, usize, Packet)| {
        usual(packet) && some[*at].works.contains(packet) && by_itself(*id, *at, packet)
    };
    let shown: Vec<RuleId> = open.iter().filter(works).map(|(id, ..)| *id).collect();
    let all = shown.len() == open.len();
    (shown, all)
}

/// ICMP errors: destination unreachable, source quench, time exceeded and parameter problem (RFC 792), and the errors of RFC 4443.
fn icmp_errors() -> PacketSet {
    let all = Addresses::all();
    let every = Intervals::span(0, u128::from(u16::MAX));
    let of = |protocol: u8, types: &[u8]| {
        let span = |kind: &u8| {
            let number =
                |code: u8| u128::from(service::code(protocol, u16::from_be_bytes([*kind, code])));
            (number(0), number(u8::MAX))
        };
        Intervals::from_spans(types.iter().map(span))
    };
    let numbers = |family| match family {
        Family::V4 => of(service::ICMP, &[3, 4, 11, 12]),
        Family::V6 => of(service::ICMPV6, &[1, 2, 3, 4]),
    };
    PacketSet::fields(&all, &all, numbers, &every, ())
}

/// One of some packets, from a client port if any is.
fn example(packets: &PacketSet, client_ports: &Intervals) -> Option<Packet> {
    let lowest = packets.lowest()?;
    let from_client = client_ports
        .first()
        .and_then(|port| u16::try_from(port).ok());
    let other = from_client.map(|source_port| Packet {
        source_port,
        ..lowest
    });
    Some(
        other
            .filter(|packet| packets.contains(packet))
            .unwrap_or(lowest),
    )
}

/// Whether an interface has no other stage than union groups of its own, all of which are known and keep all states.
fn only_groups(view: &Fabric<'_>, interface: Id<Interface>) -> bool {
    let estate = view.estate;
    let item = &estate.interfaces[interface];
    let subnet = &estate.subnets[item.subnet];
    let plain = |group: &Reference<Filter>| {
        group.found().is_some_and(|id| {
            let filter = &estate.filters[id];
            let lacking = filter
                .key
                .split_once(':')
                .is_some_and(|(kind, name)| view.lacks(kind, name, Lack::Rules));
            !lacking
                && filter.is_union()
                && !filter.rules.iter().flatten().any(|rule| rule.stateless)
        })
    };
    !item.unfiltered
        && subnet.acl.is_none()
        && subnet.groups.is_empty()
        && estate.own_firewall(interface).is_none()
        && policies_at(view, interface).is_empty()
        && !view.settings(estate.network_of(interface)).implied_pair
        && ![Lack::OwnFirewalls, Lack::Groups]
            .iter()
            .any(|lack| view.lacks_at(interface, *lack))
        && !item.groups.is_empty()
        && item.groups.iter().all(plain)
}

fn matched(view: &Fabric<'_>, id: RuleId, network: Id<Network>) -> PacketSet {
    let matched = rule_match(
        view,
        id,
        Some(network).filter(|_| depends_on_place(view.estate.rule(id))),
    );
    matched.sure.union(&matched.maybe)
}
