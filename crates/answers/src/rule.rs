//! One rule: what it alone admits or refuses, who carries it, and what rests on it.

use super::network_name;
use heronshale_audit::dead::{How, dead_rules_of};
use heronshale_audit::describe::{
    RuleFact, Traffic, Witness, moment_text, owner_text, rule_fact, symbols_of, traffic, witness,
};
use heronshale_audit::facts::{InterfaceFact, interface_fact};
use heronshale_engine::binding::{Bindings, firewalls_with};
use heronshale_engine::effective::{class_of, effective};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::stage::rule_match;
use heronshale_model::estate::{Direction, Estate, Id, Interface, Network, RuleId};
use heronshale_sets::address::Addresses;
use heronshale_sets::packet::{PacketSet, entries, entries_within};
use rustc_hash::FxHashSet;
use serde::Serialize;

/// One rule.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct RuleAnswer {
    /// The rule.
    pub rule: RuleFact,
    /// Why it is not in force, if it is not.
    pub not_in_force: Option<String>,
    /// What its author says.
    pub description: Option<String>,
    /// Who changes its filter.
    pub owner: Option<String>,
    /// What it matches by itself, network by network where that differs.
    pub matches: Vec<MatchFact>,
    /// The interfaces on which it acts.
    pub carriers: Vec<InterfaceFact>,
    /// The firewalls on which it acts, as a rule of their policy or of a base of it. What rests on it there is not judged.
    pub firewalls: Vec<String>,
    /// `shadowed` or `redundant`, if it does nothing in its list.
    pub dead: Option<String>,
    /// The rules that make it so.
    pub covered_by: Vec<RuleFact>,
    /// What would change without it: the effective rules of classes of interfaces.
    pub rests: Vec<Resting>,
}

/// Packets that a rule matches.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct MatchFact {
    /// The network where it is enforced; none if it is bound to nothing.
    pub network: Option<String>,
    /// The packets.
    pub traffic: Traffic,
    /// Whether that depends on something missing from the snapshot.
    pub perhaps: bool,
}

/// What would change on some interfaces if the rule went.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Resting {
    /// The interfaces, all alike.
    pub interfaces: Vec<String>,
    /// Whether the packets are admitted because of the rule; else they are kept out by it.
    pub admitted: bool,
    /// Whether that depends on something missing from the snapshot.
    pub perhaps: bool,
    /// The packets; as wide as what others say alike allows, so that "any" stays "any".
    pub traffic: Traffic,
    /// One such packet.
    pub witness: Option<Witness>,
}

/// What a rule does, alone and among the others.
pub fn rule_answer(view: &Fabric<'_>, id: RuleId) -> RuleAnswer {
    let estate = view.estate;
    let rule = estate.rule(id);
    let bindings = Bindings::new(view);
    let acts_on = bindings.interfaces(id.filter);
    let dead = dead_rules_of(view, &bindings, id.filter)
        .into_iter()
        .find(|dead| dead.rule == id && dead.does_nothing());
    let facts = |rules: &[RuleId]| {
        rules
            .iter()
            .map(|id| rule_fact(estate, *id))
            .collect::<Vec<_>>()
    };
    RuleAnswer {
        rule: rule_fact(estate, id),
        not_in_force: not_in_force(view, id),
        description: rule.description.as_ref().map(ToString::to_string),
        owner: owner_text(estate, estate.filters[id.filter].owner),
        matches: matches(view, id, acts_on),
        carriers: acts_on.iter().map(|id| interface_fact(view, *id)).collect(),
        firewalls: firewalls_with(estate, id.filter)
            .into_iter()
            .map(|firewall| estate.firewalls[firewall].name.to_string())
            .collect(),
        covered_by: dead
            .as_ref()
            .map(|dead| facts(&dead.covers))
            .unwrap_or_default(),
        dead: dead.map(|dead| match dead.how {
            How::Shadowed(_) => "shadowed".to_owned(),
            How::RedundantByDefault => "redundant because of the default".to_owned(),
            _ => "redundant".to_owned(),
        }),
        rests: if view.in_force(rule) {
            rests(view, id, acts_on)
        } else {
            Vec::new()
        },
    }
}

fn not_in_force(view: &Fabric<'_>, id: RuleId) -> Option<String> {
    let rule = view.estate.rule(id);
    if view.in_force(rule) {
        return None;
    }
    Some(if rule.enabled {
        format!(
            "it ended on {}",
            moment_text(&rule.enforced_until?.to_string())
        )
    } else {
        "it is disabled".to_owned()
    })
}

fn matches(view: &Fabric<'_>, id: RuleId, acts_on: &[Id<Interface>]) -> Vec<MatchFact> {
    let mut networks: Vec<Option<Id<Network>>> = acts_on
        .iter()
        .map(|id| Some(view.estate.network_of(*id)))
        .collect();
    networks.sort_unstable();
    networks.dedup();
    if networks.is_empty() {
        networks.push(None);
    }
    let mut known: Vec<PacketSet> = Vec::new();
    let mut facts = Vec::new();
    for network in networks {
        let matched = rule_match(view, id, network);
        if known.contains(&matched.sure) {
            continue;
        }
        known.push(matched.sure.clone());
        let symbols = symbols_of(view, std::iter::once(id), network);
        for (set, perhaps) in [(&matched.sure, false), (&matched.maybe, true)] {
            facts.extend(entries(set).into_iter().map(|entry| MatchFact {
                network: network.map(|network| network_name(view.estate, network)),
                traffic: traffic(&entry, id.direction, &symbols),
                perhaps,
            }));
        }
    }
    facts
}

/// The estate with one rule switched off.
fn without(estate: &Estate, id: RuleId) -> Estate {
    let mut changed = estate.clone();
    let filter = changed.filters.get_mut(id.filter);
    let list = &mut filter.rules[usize::from(id.direction == Direction::Out)];
    list[id.index as usize].enabled = false;
    changed
}

fn rests(view: &Fabric<'_>, id: RuleId, acts_on: &[Id<Interface>]) -> Vec<Resting> {
    let changed = without(view.estate, id);
    let after = view.after(&changed);
    let mut seen: FxHashSet<Id<Interface>> = FxHashSet::default();
    let mut resting = Vec::new();
    for interface in acts_on {
        if seen.contains(interface) {
            continue;
        }
        let class = class_of(view, *interface);
        seen.extend(&class.members);
        let names: Vec<String> = class
            .members
            .iter()
            .map(|id| view.estate.interfaces[*id].name.to_string())
            .collect();
        let sides = |view: &Fabric<'_>| {
            let side = effective(view, *interface, id.direction, None);
            let either = side.admitted_set.union(&side.unknown_set);
            (side.admitted_set, either)
        };
        let ((with, with_either), (without, without_either)) = (sides(view), sides(&after));
        let network = view.estate.network_of(*interface);
        let symbols = symbols_of(view, std::iter::once(id), Some(network));
        let lost = with.difference(&without_either);
        let won = without.difference(&with_either);
        let perhaps_lost = with_either
            .difference(&without_either)
            .union(&with.difference(&without))
            .difference(&lost);
        let perhaps_won = without_either
            .difference(&with_either)
            .union(&without.difference(&with))
            .difference(&won);
        for (set, alike, admitted, perhaps) in [
            (lost, &without_either, true, false),
            (won, &with_either, false, false),
            (perhaps_lost, &without_either, true, true),
            (perhaps_won, &with_either, false, true),
        ] {
            for entry in entries_within(&set, &set.union(alike)) {
                let own = &view.estate.interfaces[*interface].addresses;
                let packet = at_own_address(
                    &PacketSet::of_entry(&entry, ()).intersection(&set),
                    own,
                    id.direction,
                );
                resting.push(Resting {
                    interfaces: names.clone(),
                    admitted,
                    perhaps,
                    traffic: traffic(&entry, id.direction, &symbols),
                    witness: packet.witness().map(|packet| witness(&packet)),
                });
            }
        }
    }
    resting
}

/// The packets whose side at the interface is one of its own addresses.
fn at_own_address(set: &PacketSet, own: &Addresses, direction: Direction) -> PacketSet {
    let here = heronshale_model::ends::asked_packets(direction.opposite(), own, &[]);
    set.intersection(&here)
}
