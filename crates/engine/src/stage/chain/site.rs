//! The stages of one interface and direction, one after the other.

use super::*;

/// How rule lists are read in a network, in one direction.
#[derive(Clone, Copy)]
pub(super) struct Lists<'v, 'e> {
    pub(super) view: &'v View<'e>,
    pub(super) direction: Direction,
    pub(super) network: Id<Network>,
}

impl Lists<'_, '_> {
    /// Whether the snapshot lacks the rules of a filter.
    pub(super) fn lacks_rules(&self, filter: Id<Filter>) -> bool {
        let item = &self.view.estate.filters[filter];
        // A scope policy is the network's own only where it is bound to it.
        let of_network = match &item.kind {
            FilterKind::ScopePolicy { scope, .. } => *scope == Scope::Network(self.network),
            _ => true,
        };
        let network = &self.view.estate.networks[self.network].name;
        item.key
            .split_once(':')
            .is_some_and(|(kind, name)| self.view.lacks(kind, name, Lack::Rules))
            || (of_network && self.view.lacks("network", network, Lack::Rules))
    }

    /// An ordered list of one or several filters over its defaults.
    pub(super) fn list(&self, filters: &[Id<Filter>]) -> Layer {
        if filters.iter().any(|filter| self.lacks_rules(*filter)) {
            let stateless = filters
                .iter()
                .any(|filter| !self.view.estate.filters[*filter].keeps_state());
            let state = if stateless {
                State::NotKept
            } else {
                State::Kept
            };
            return Layer::constant(Judgement {
                outcome: Outcome::Unknown,
                by: By::Lacking,
                state,
            });
        }
        let settings = self.view.settings(self.network);
        let rules = in_order(self.view, filters, self.direction, settings.equal_priority);
        let stateful = filters
            .iter()
            .all(|filter| self.view.estate.filters[*filter].keeps_state());
        let rest = Layer::constant(self.default_of(filters));
        ordered(self.view, &rules, Some(self.network), stateful, &rest)
    }

    /// What happens to packets that no rule of the merged filters matches: deny if any default refuses.
    pub(super) fn default_of(&self, filters: &[Id<Filter>]) -> Judgement {
        let judge = |filter: &Id<Filter>| {
            let item = &self.view.estate.filters[*filter];
            let action = item.default_action(self.direction)?;
            if matches!(item.kind, FilterKind::NetworkAcl) {
                let outcome = if has(Fault::AclDefaultAllow) {
                    Outcome::Pass
                } else {
                    Outcome::Deny
                };
                return Some(Judgement {
                    outcome,
                    by: By::ImpliedDeny,
                    state: State::NotKept,
                });
            }
            Some(default_judgement(action, By::Default(*filter)))
        };
        let mut all = filters.iter().filter_map(judge);
        let first = all
            .next()
            .unwrap_or(Judgement::new(Outcome::Deny, By::NoRule));
        if has(Fault::OneDefaultOfTwo) || first.outcome.refuses() {
            return first;
        }
        all.find(|judgement| judgement.outcome.refuses())
            .unwrap_or(first)
    }
}

/// Where and which way: the subject of a chain.
pub(super) struct Site<'v, 'e> {
    pub(super) view: &'v View<'e>,
    pub(super) interface: Id<Interface>,
    pub(super) direction: Direction,
    pub(super) network: Id<Network>,
    pub(super) lists: Lists<'v, 'e>,
}

impl<'v, 'e> Site<'v, 'e> {
    pub(super) fn new(view: &'v View<'e>, interface: Id<Interface>, direction: Direction) -> Self {
        let network = view.estate.network_of(interface);
        Self {
            view,
            interface,
            direction,
            network,
            lists: Lists {
                view,
                direction,
                network,
            },
        }
    }

    pub(super) fn constant(outcome: Outcome, by: By) -> Layer {
        Layer::constant(Judgement::new(outcome, by))
    }

    pub(super) fn own_firewall(&self) -> Option<Stage> {
        if has(Fault::DropOwnFirewall) {
            return None;
        }
        let kind = StageKind::OwnFirewall;
        let unknown = Judgement::new(Outcome::Unknown, By::Lacking);
        let lacking = || Some(Stage::of(kind, Vec::new(), Layer::constant(unknown)));
        match self.view.estate.own_firewall(self.interface) {
            None if self.view.lacks_at(self.interface, Lack::OwnFirewalls) => lacking(),
            None => None,
            Some(Reference::Missing(_)) => lacking(),
            Some(Reference::Found(filter)) => {
                Some(Stage::of(kind, vec![*filter], self.lists.list(&[*filter])))
            }
        }
    }

    pub(super) fn scope_policies(&self) -> Option<Stage> {
        if has(Fault::DropScopePolicies) {
            return None;
        }
        let mut filters = policies_at(self.view, self.interface);
        let settings = self.view.settings(self.network);
        let implied = settings.implied_pair && !has(Fault::ForgetImpliedPair);
        // A policy that the snapshot lacks may be bound anywhere.
        let elsewhere = self.view.lacks_any(&["policy"]);
        if filters.is_empty() && !implied && !elsewhere {
            return None;
        }
        if has(Fault::InnerScopeFirst) {
            filters.reverse();
        }
        let mut map = match (implied, self.direction) {
            (true, Direction::In) => Self::constant(Outcome::Deny, By::ImpliedPair),
            (true, Direction::Out) => Self::constant(Outcome::Pass, By::ImpliedPair),
            (false, _) => Self::constant(Outcome::Pass, By::NoPolicy),
        };
        let lacking = Judgement::new(Outcome::UnknownFinally, By::Lacking);
        for filter in filters.iter().rev() {
            map = if self.lists.lacks_rules(*filter) {
                Layer::constant(lacking)
            } else {
                let rules = in_order(
                    self.view,
                    &[*filter],
                    self.direction,
                    settings.equal_priority,
                );
                ordered(self.view, &rules, Some(self.network), true, &map)
            };
        }
        if elsewhere {
            map = Layer::constant(lacking);
        }
        Some(Stage::of(StageKind::ScopePolicies, filters, map))
    }

    /// The groups of the interface, then of the subnet: the order of sending.
    pub(super) fn groups(&self) -> Vec<Stage> {
        let estate = self.view.estate;
        let item = &estate.interfaces[self.interface];
        let settings = self.view.settings(self.network);
        let mut interface = &item.groups[..];
        let mut subnet = &estate.subnets[item.subnet].groups[..];
        if has(Fault::DropInterfaceGroups) {
            interface = &[];
        }
        if has(Fault::DropSubnetGroups) {
            subnet = &[];
        }
        let lacking = self.view.lacks_at(self.interface, Lack::Groups);
        if interface.is_empty() && subnet.is_empty() && !lacking {
            let deny = settings.no_group == NoGroup::Deny && !has(Fault::ForgetNoGroup);
            let layer = Self::constant(Outcome::Deny, By::NoGroup);
            return if deny {
                vec![Stage::of(StageKind::InterfaceGroups, Vec::new(), layer)]
            } else {
                Vec::new()
            };
        }
        let all_union = interface
            .iter()
            .chain(subnet)
            .all(|g| g.found().is_none_or(|g| estate.filters[g].is_union()));
        let mut pooled = settings.subnet_groups == SubnetGroups::Pooled;
        if has(Fault::PooledAsBoth) || has(Fault::BothAsPooled) {
            pooled = has(Fault::BothAsPooled);
        }
        if pooled && all_union && !interface.is_empty() && !subnet.is_empty() {
            let both: Vec<_> = interface.iter().chain(subnet).cloned().collect();
            return vec![self.place(StageKind::PooledGroups, &both, lacking)];
        }
        let mut stages = Vec::new();
        if !interface.is_empty() || lacking {
            stages.push(self.place(StageKind::InterfaceGroups, interface, lacking));
        }
        if !subnet.is_empty() {
            stages.push(self.place(StageKind::SubnetGroups, subnet, lacking));
        }
        stages
    }

    /// The groups bound at one place, as one stage. `lacking`: there may be more of them.
    pub(super) fn place(
        &self,
        kind: StageKind,
        groups: &[Reference<Filter>],
        lacking: bool,
    ) -> Stage {
        let found: Vec<Id<Filter>> = groups.iter().filter_map(Reference::found).collect();
        let lacking = lacking || found.len() < groups.len();
        let is_union = found
            .first()
            .is_some_and(|group| self.view.estate.filters[*group].is_union());
        let unknown = Judgement::new(Outcome::Unknown, By::Lacking);
        let layer = if found.is_empty() || (lacking && !is_union) {
            Layer::constant(unknown)
        } else if is_union {
            let open = lacking || found.iter().any(|group| self.lists.lacks_rules(*group));
            let rest = if open {
                unknown
            } else {
                Judgement::new(Outcome::Deny, By::NoRule)
            };
            union(self.view, &found, self.direction, Some(self.network), rest)
        } else {
            self.lists.list(&found)
        };
        Stage::of(kind, found, layer)
    }

    pub(super) fn acl(&self) -> Option<Stage> {
        let subnet = self.view.estate.interfaces[self.interface].subnet;
        let mut stage = acl_of(self.view, subnet, self.direction)?;
        if !has(Fault::AclForNeighbours) {
            let neighbours = self.with_peers(&self.view.estate.subnets[subnet].blocks);
            let skipped =
                neighbours.relabel(|()| Some(Judgement::new(Outcome::Pass, By::SameSubnet)));
            stage.map = skipped.overlay(&stage.map);
            stage.open = stage
                .open
                .take()
                .map(|(map, forest)| (map.without(&skipped), forest));
        }
        Some(stage)
    }

    /// All packets whose other side is one of these addresses.
    pub(super) fn with_peers(&self, peers: &Addresses) -> PacketSet {
        let all = Addresses::all();
        let every_port = Intervals::span(0, u128::from(u16::MAX));
        match self.direction {
            Direction::In => PacketSet::fields(peers, &all, service::all, &every_port, ()),
            Direction::Out => PacketSet::fields(&all, peers, service::all, &every_port, ()),
        }
    }
}

/// The scope policies that apply to an interface, outermost first: estate, divisions from outside in, network.
pub fn policies_at(view: &View<'_>, interface: Id<Interface>) -> Vec<Id<Filter>> {
    let estate = view.estate;
    let network = estate.network_of(interface);
    let divisions = view.divisions_of(network);
    let level = |scope: &Scope| match scope {
        Scope::Estate => Some(0),
        Scope::Division(division) => divisions
            .iter()
            .position(|d| d == division)
            .map(|at| at + 1),
        Scope::Network(other) => (*other == network).then_some(divisions.len() + 1),
    };
    let applies = |targets: &Option<Vec<Target>>| {
        has(Fault::TargetsIgnored)
            || targets.as_ref().is_none_or(|targets| {
                targets
                    .iter()
                    .any(|target| is_target(view, interface, target))
            })
    };
    let mut found: Vec<((usize, u32), Id<Filter>)> = Vec::new();
    for &id in view.policies() {
        let filter = &estate.filters[id];
        if let FilterKind::ScopePolicy {
            scope,
            order,
            targets,
        } = &filter.kind
            && let Some(level) = level(scope)
            && applies(targets)
        {
            found.push(((level, *order), id));
        }
    }
    found.sort_unstable();
    found.into_iter().map(|(_, id)| id).collect()
}

pub(super) fn is_target(view: &View<'_>, interface: Id<Interface>, target: &Target) -> bool {
    let estate = view.estate;
    match target {
        Target::Tag(pairs) => estate.has_tags(interface, pairs),
        Target::Identity(name) => estate.identity(interface) == Some(name),
        Target::Network(network) => network.found() == Some(estate.network_of(interface)),
        Target::Subnet(subnet) => subnet.found() == Some(estate.interfaces[interface].subnet),
        Target::Interface(other) => other.found() == Some(interface),
    }
}
