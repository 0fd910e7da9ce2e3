//! What checks look at.

use super::draft::{Draft, Evidence, Role, Trial, counted};
use super::key::Key;
use super::routing::Routing;
use crate::dead::{Dead, DeadTranslation, dead_rules, dead_translations};
use crate::describe::{RuleFact, filter_text, owner_text, rule_fact, rule_text};
use crate::expect::{Judging, Standing, standings};
use crate::exposure::{DeviceWay, DirectWay, device_ways, direct_ways};
use crate::fix::Edit;
use heronshale_engine::binding::{Bindings, firewalls_with};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::stage::rule_match;
use heronshale_model::estate::{Direction, Filter, Id, Interface, Owner, RuleId};
use heronshale_model::source::{Origin, Place};
use heronshale_sets::address::Family;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::PacketSet;
use rustc_hash::FxHashMap;
use std::sync::OnceLock;

/// What checks look at; what several need is computed once. What is asked on all cores ([`heronshale_sets::each`]) must not be the first
/// to ask for something here that is itself found on all cores: it is taken out before.
pub(crate) struct Context<'v, 'e> {
    pub view: &'v Fabric<'e>,
    pub bindings: Bindings,
    dead: OnceLock<Vec<Dead>>,
    dead_translations: OnceLock<Vec<DeadTranslation>>,
    pub(super) ways: OnceLock<Vec<DirectWay>>,
    pub(super) device_ways: OnceLock<Vec<DeviceWay>>,
    pub(super) routing: OnceLock<Routing<'e>>,
    pub(super) standings: OnceLock<Vec<Standing>>,
    judging: OnceLock<Judging<'v, 'e>>,
    named: OnceLock<FxHashMap<RuleName, RuleId>>,
}

/// By what facts name a rule: its filter, direction, and its own name.
type RuleName = (String, Direction, String);

impl<'v, 'e> Context<'v, 'e> {
    /// Nothing is asked yet.
    pub fn new(view: &'v Fabric<'e>) -> Self {
        Self {
            view,
            bindings: Bindings::new(view),
            dead: OnceLock::new(),
            dead_translations: OnceLock::new(),
            ways: OnceLock::new(),
            device_ways: OnceLock::new(),
            routing: OnceLock::new(),
            standings: OnceLock::new(),
            judging: OnceLock::new(),
            named: OnceLock::new(),
        }
    }

    /// How each expectation stands.
    pub fn standings(&self) -> &[Standing] {
        self.standings.get_or_init(|| standings(self.view))
    }

    /// What expectations say of the internet's connections.
    pub fn judging(&self) -> &Judging<'v, 'e> {
        self.judging.get_or_init(|| Judging::new(self.view))
    }

    /// All packets that a rule matches somewhere.
    pub fn rule_packets(&self, id: RuleId) -> PacketSet {
        let places = self.bindings.enforced(self.view, id.filter);
        let mut networks: Vec<_> = places.iter().map(|place| place.network).collect();
        networks.sort_unstable();
        networks.dedup();
        if networks.is_empty() {
            networks.push(None);
        }
        PacketSet::union_all(networks.into_iter().map(|network| {
            let matched = rule_match(self.view, id, network);
            matched.sure.union(&matched.maybe)
        }))
    }

    pub fn dead(&self) -> &[Dead] {
        self.dead
            .get_or_init(|| dead_rules(self.view, &self.bindings))
    }

    pub fn dead_translations(&self) -> &[DeadTranslation] {
        self.dead_translations
            .get_or_init(|| dead_translations(self.view))
    }

    pub fn ways(&self) -> &[DirectWay] {
        self.ways.get_or_init(|| direct_ways(self.view))
    }

    pub fn device_ways(&self) -> &[DeviceWay] {
        self.device_ways.get_or_init(|| device_ways(self.view))
    }

    pub fn place(&self, origin: &Origin) -> Place {
        self.view.estate.sources.place(origin)
    }

    /// Who changes a filter: its owner, else the one owner of all the interfaces on which it acts.
    pub fn filter_owner(&self, filter: Id<Filter>) -> Option<String> {
        owner_text(self.view.estate, self.owner_of(filter))
    }

    fn owner_of(&self, filter: Id<Filter>) -> Option<Id<Owner>> {
        let estate = self.view.estate;
        let own = estate.filters[filter].owner;
        let mut owners = self
            .bindings
            .interfaces(filter)
            .iter()
            .map(|id| estate.interface_owner(*id));
        let first = owners.next().flatten();
        let common = first.filter(|first| owners.all(|other| other == Some(*first)));
        own.or(common)
    }

    /// The networks of interfaces, each once, by name.
    pub fn networks_of(&self, interfaces: &[Id<Interface>]) -> Vec<String> {
        let estate = self.view.estate;
        let mut names: Vec<String> = interfaces
            .iter()
            .map(|id| estate.networks[estate.network_of(*id)].name.to_string())
            .collect();
        names.sort_unstable();
        names.dedup();
        names
    }

    /// A draft about a rule, without title, evidence and fix.
    pub fn about_rule(&self, id: RuleId) -> Draft {
        Draft {
            place: Some(self.place(&self.view.estate.rule(id).origin)),
            networks: self.networks_of(self.bindings.interfaces(id.filter)),
            owner: self.filter_owner(id.filter),
            evidence: vec![self.rule_evidence(Role::AtFault, id)],
            interfaces: Some(self.bindings.interfaces(id.filter).len()),
            subject: self.rule_name(id),
            ..Draft::about_nothing(Key::rule(self.view.estate, id))
        }
    }

    /// A draft about a filter, without title, evidence and fix.
    pub fn about_filter(&self, id: Id<Filter>) -> Draft {
        let filter = &self.view.estate.filters[id];
        let mut draft = self.about(Key::filter(filter), &filter.origin, self.filter_owner(id));
        draft.subject = filter_text(self.view.estate, id);
        draft.networks = self.networks_of(self.bindings.interfaces(id));
        draft.interfaces = Some(self.bindings.interfaces(id).len());
        draft
    }

    /// The services of a rule, of both families.
    pub fn services_of(&self, id: RuleId) -> Intervals {
        let rule = self.view.estate.rule(id);
        Family::BOTH.iter().fold(Intervals::empty(), |sum, family| {
            sum.union(&rule.service_numbers(*family))
        })
    }

    /// A draft about anything else at a place.
    pub fn about(&self, key: Key, origin: &Origin, owner: Option<String>) -> Draft {
        Draft {
            place: Some(self.place(origin)),
            owner,
            ..Draft::about_nothing(key)
        }
    }

    pub fn rule_evidence(&self, role: Role, id: RuleId) -> Evidence {
        let fact = rule_fact(self.view.estate, id);
        Evidence {
            role,
            text: rule_text(&fact),
            place: Some(fact.place.clone()),
            rule: Some(fact),
        }
    }

    /// `web/https`, as the command `rule` takes it.
    pub fn rule_name(&self, id: RuleId) -> String {
        format!(
            "{}/{}",
            self.view.estate.filters[id.filter].name,
            self.view.estate.rule_name(id)
        )
    }

    /// Whether a filter acts on no interface and no firewall.
    pub fn acts_on_nothing(&self, filter: Id<Filter>) -> bool {
        let firewalls = || firewalls_with(self.view.estate, filter);
        self.bindings.interfaces(filter).is_empty() && firewalls().is_empty()
    }

    /// The change that takes a rule away.
    pub fn without(&self, id: RuleId) -> Trial {
        let owner = self.owner_of(id.filter);
        Trial {
            narrows: vec![(id.filter, id.direction)],
            ..Trial::of(Edit::without_rule(self.view, id, owner))
        }
    }

    /// The change that takes all of these rules away; none if there is none of them, or nobody expects anything.
    pub fn deleting(&self, rules: &[&RuleFact]) -> Option<Trial> {
        let estate = self.view.estate;
        if rules.is_empty() || self.view.stated.expectations.is_empty() {
            return None;
        }
        let named = self.named.get_or_init(|| {
            let name = |id: RuleId| {
                let filter = filter_text(estate, id.filter);
                ((filter, id.direction, estate.rule_name(id)), id)
            };
            estate.rule_ids().map(name).collect()
        });
        let of = |rule: &&RuleFact| {
            named
                .get(&(rule.filter.clone(), rule.direction, rule.rule.clone()))
                .copied()
        };
        let all: Option<Vec<RuleId>> = rules.iter().map(of).collect();
        let trials = all?.into_iter().map(|id| self.without(id));
        trials.reduce(|mut sum, more| {
            let rule = more.change.trim_start_matches("delete ");
            sum.change = format!("{} and {rule}", sum.change);
            sum.edits.extend(more.edits);
            sum.narrows.extend(more.narrows);
            sum
        })
    }

    /// On what a filter acts, in words: `3 interfaces: a, b, c`.
    pub fn acts_on(&self, filter: Id<Filter>) -> Evidence {
        let estate = self.view.estate;
        let interfaces = self.bindings.interfaces(filter);
        let names: Vec<String> = interfaces
            .iter()
            .map(|id| estate.interfaces[*id].name.to_string())
            .collect();
        let firewalls = firewalls_with(estate, filter);
        let text = if firewalls.is_empty() {
            counted(&names, "interface")
        } else {
            let names = firewalls
                .iter()
                .map(|id| estate.firewalls[*id].name.to_string());
            counted(&names.collect::<Vec<_>>(), "firewall")
        };
        Evidence {
            role: Role::ActsOn,
            text,
            rule: None,
            place: None,
        }
    }
}
