//! What a firewall's policy decides: level by level with the base first, then classes, sections, rules (`docs/semantics.md` 8).

use crate::doubt::{Doubt, Turning, Unsaid};
use crate::faults::{Fault, has};
use crate::judgement::By;
use crate::rules::{is_stateless, policy_order, rule_peers};
use crate::stage::{rule_doubts, rule_match};
use heronshale_model::estate::{
    Action, Direction, Filter, FilterKind, Firewall, Id, Lack, Name, NameSet, Network, Peer, RuleId,
};
use heronshale_model::names::name_fits;
use heronshale_model::view::View;
use heronshale_sets::address::Addresses;
use heronshale_sets::packet::{PacketMap, PacketSet};
use rustc_hash::FxHashMap;

/// What no snapshot holds.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Condition {
    /// Whether the packet is meant for a name of a set.
    Named {
        /// The sets.
        sets: Vec<Id<NameSet>>,
        /// Whether the connection is asked by the name in question. A proxy's own connection is not.
        asked: bool,
    },
    /// Something in words.
    Other(Name),
}

/// What is decided about packets that are decided alike.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Decision {
    /// A rule or a default decides.
    Decided {
        action: Action,
        by: By,
        keeps_state: bool,
    },
    /// It turns on a condition of a rule.
    Turns {
        condition: Condition,
        rule: RuleId,
        holds: u32,
        otherwise: u32,
    },
    /// It is not known whether a rule matches.
    Doubt {
        doubt: Doubt,
        by: By,
        with: u32,
        without: u32,
    },
    /// The rules are not in the snapshot.
    Unknown,
}

/// A policy as it is read for packets between two zones, asked by one name.
#[derive(Debug)]
pub(crate) struct PolicyMap {
    pub map: PacketMap<u32>,
    pub decisions: Vec<Decision>,
}

/// Firewall, zones in and out, name asked.
pub(crate) type PolicyKey = (Id<Firewall>, Option<Name>, Option<Name>, Option<Name>);

struct Builder {
    decisions: Vec<Decision>,
    known: FxHashMap<Decision, u32>,
}

impl Builder {
    fn add(&mut self, decision: Decision) -> u32 {
        if let Some(known) = self.known.get(&decision) {
            return *known;
        }
        let at = u32::try_from(self.decisions.len()).expect("fewer than 2^32 decisions");
        self.known.insert(decision.clone(), at);
        self.decisions.push(decision);
        at
    }
}

/// A firewall's policy for packets that come in and go out by these zones. The packets are requests.
pub(crate) fn policy_map(view: &View<'_>, key: &PolicyKey) -> PolicyMap {
    let firewall = key.0;
    let mut builder = Builder {
        decisions: Vec::new(),
        known: FxHashMap::default(),
    };
    let item = &view.estate.firewalls[firewall];
    let network = item
        .legs
        .first()
        .map(|leg| view.estate.network_of(leg.interface));
    let unknown = |builder: &mut Builder| PacketMap::constant(builder.add(Decision::Unknown));
    let map = match &item.policy {
        None => PacketMap::constant(builder.add(Decision::Decided {
            action: Action::Deny,
            by: By::NoPolicy,
            keeps_state: true,
        })),
        Some(heronshale_model::estate::Reference::Missing(_)) => unknown(&mut builder),
        Some(heronshale_model::estate::Reference::Found(policy)) => {
            let mut levels = vec![*policy];
            let mut complete = true;
            while let FilterKind::FirewallPolicy {
                base: Some(base), ..
            } = &view.estate.filters[levels[levels.len() - 1]].kind
            {
                match base.found().filter(|base| !levels.contains(base)) {
                    Some(base) => levels.push(base),
                    None => {
                        complete = false;
                        break;
                    }
                }
            }
            let default = view.estate.filters[*policy]
                .default_action(Direction::In)
                .unwrap_or(Action::Deny);
            let rest = Decision::Decided {
                action: default,
                by: By::Default(*policy),
                keeps_state: true,
            };
            let mut map = PacketMap::constant(builder.add(rest));
            for level in &levels {
                if *level != *policy && has(Fault::WalkBaseIgnored) {
                    break;
                }
                map = level_over(view, *level, network, key, &map, &mut builder);
            }
            if complete { map } else { unknown(&mut builder) }
        }
    };
    PolicyMap {
        map,
        decisions: builder.decisions,
    }
}

/// One policy above what decides where it does not.
fn level_over(
    view: &View<'_>,
    policy: Id<Filter>,
    network: Option<Id<Network>>,
    key: &PolicyKey,
    below: &PacketMap<u32>,
    builder: &mut Builder,
) -> PacketMap<u32> {
    let filter = &view.estate.filters[policy];
    if view.lacks("firewall-policy", &filter.name, Lack::Rules) {
        return PacketMap::constant(builder.add(Decision::Unknown));
    }
    let mut map = below.clone();
    for id in policy_order(view, policy, network).into_iter().rev() {
        let rule = view.estate.rule(id);
        let Some(more) = rule.firewall.as_deref() else {
            continue;
        };
        if !zone_fits(more.from_zones.as_ref(), key.1.as_ref())
            || !zone_fits(more.to_zones.as_ref(), key.2.as_ref())
        {
            continue;
        }
        let decided = Decision::Decided {
            action: rule.action,
            by: By::Rule(id),
            keeps_state: !is_stateless(rule),
        };
        let effect: PacketMap<u32> = match rule.action {
            Action::Defer if !has(Fault::WalkDeferIgnored) => below.clone(),
            Action::Defer => map.clone(),
            _ => PacketMap::constant(builder.add(decided)),
        };
        let matched = rule_match(view, id, network);
        let doubts = |maybe: &PacketSet, anywhere: bool| {
            if maybe.is_empty() {
                Vec::new()
            } else {
                rule_doubts(view, id, network, anywhere)
            }
        };
        let by_destination = more.names.is_none() || more.or_destinations;
        let none = PacketSet::empty();
        // By destination for certain, and perhaps.
        let (plain, maybe) = if by_destination {
            (&matched.sure, &matched.maybe)
        } else {
            (&none, &none)
        };
        let above = map;
        map = above.clone();
        if let Some(sets) = &more.names {
            let (sure, perhaps) = rule_anywhere(view, id, network);
            let (rest, perhaps) = (sure.difference(plain), perhaps.difference(plain));
            let turned_on = doubts(&perhaps, true);
            let found: Vec<_> = sets
                .iter()
                .filter_map(heronshale_model::estate::Reference::found)
                .collect();
            let may_be_in = |set: &heronshale_model::estate::NameSet| {
                key.3
                    .as_ref()
                    .is_none_or(|name| set.names.iter().any(|pattern| name_fits(pattern, name)))
            };
            let meant: Vec<_> = found
                .iter()
                .copied()
                .filter(|set| may_be_in(&view.estate.name_sets[*set]))
                .collect();
            let mut by_name = map.clone();
            if !meant.is_empty() && !has(Fault::WalkNamesNeverFit) {
                let condition = Condition::Named {
                    sets: meant,
                    asked: key.3.is_some(),
                };
                by_name = effect.combine(&by_name, |holds, otherwise| {
                    let condition = condition.clone();
                    let turns = Decision::Turns {
                        condition,
                        rule: id,
                        holds,
                        otherwise,
                    };
                    Some(if holds == otherwise {
                        holds
                    } else {
                        builder.add(turns)
                    })
                });
            }
            for missing in sets.iter().filter(|set| set.found().is_none()) {
                let heronshale_model::estate::Reference::Missing(name) = missing else {
                    continue;
                };
                let doubt = Doubt::of_packet(Unsaid::Names(name.clone()));
                by_name = effect.combine(&by_name, |with, without| {
                    let doubt = Decision::Doubt {
                        doubt: doubt.clone(),
                        by: By::Rule(id),
                        with,
                        without,
                    };
                    Some(if with == without {
                        with
                    } else {
                        builder.add(doubt)
                    })
                });
            }
            map = doubted(&by_name, &map, &turned_on, By::Rule(id), builder);
            map = by_name.restrict(&rest).overlay(&map);
        }
        map = doubted(&effect, &map, &doubts(maybe, false), By::Rule(id), builder);
        map = effect.restrict(plain).overlay(&map);
        if let Some(condition) = more
            .condition
            .as_ref()
            .filter(|_| !has(Fault::WalkConditionHolds))
        {
            let condition = Condition::Other(condition.clone());
            map = map.combine(&above, |holds, otherwise| {
                if holds == otherwise {
                    return Some(otherwise);
                }
                let condition = condition.clone();
                Some(builder.add(Decision::Turns {
                    condition,
                    rule: id,
                    holds,
                    otherwise,
                }))
            });
        }
    }
    map
}

/// What is decided where it is in doubt whether a rule matches, and what was decided elsewhere.
fn doubted(
    effect: &PacketMap<u32>,
    below: &PacketMap<u32>,
    doubts: &[(PacketSet, Turning)],
    by: By,
    builder: &mut Builder,
) -> PacketMap<u32> {
    let turned = doubts.iter().map(|(set, turning)| {
        effect.restrict(set).combine(below, |with, without| {
            Some(turning.decide(with, without, &mut |doubt, with, without| {
                let doubt = Decision::Doubt {
                    doubt,
                    by,
                    with,
                    without,
                };
                if with == without {
                    with
                } else {
                    builder.add(doubt)
                }
            }))
        })
    });
    let turned: Vec<PacketMap<u32>> = turned.collect();
    PacketMap::overlay_all(turned).overlay(below)
}

/// What a rule matches whatever the destination, but what it excepts: for certain, and perhaps.
fn rule_anywhere(
    view: &View<'_>,
    id: RuleId,
    network: Option<Id<Network>>,
) -> (PacketSet, PacketSet) {
    let rule = view.estate.rule(id);
    let sources = rule_peers(view, rule, network);
    let excepted = rule
        .firewall
        .as_ref()
        .map_or(&[][..], |more| &more.except_destinations);
    let everywhere = view
        .peer(&Peer::Any, network)
        .without(&view.peers(excepted, network));
    let numbers = |family| rule.service_numbers(family);
    let of = |sources: &Addresses, to: &Addresses| {
        PacketSet::fields(sources, to, numbers, &rule.source_port_numbers(), ())
    };
    let sure = of(&sources.sure, &everywhere.sure);
    let maybe = of(&sources.either(), &everywhere.either()).difference(&sure);
    (sure, maybe)
}

/// Whether a zone is among those that a rule names, if it names any.
pub(crate) fn zone_fits(zones: Option<&Vec<Name>>, zone: Option<&Name>) -> bool {
    has(Fault::WalkZonesIgnored)
        || zones.is_none_or(|zones| zone.is_some_and(|zone| zones.contains(zone)))
}
