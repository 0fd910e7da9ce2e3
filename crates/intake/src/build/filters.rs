//! Security groups, network ACLs, scope policies and own firewalls with their rules.

use super::Builder;
use crate::reading::{Many, Reading, Spanned, TagMap};
use crate::sections::Collected;
use crate::values::{Form, Ports, WrittenPeer};
use crate::written::{WrittenPolicy, WrittenRule, WrittenScope};
use heronshale_model::estate::{
    Action, Filter, FilterKind, Id, Name, Peer, Reference, Rule, Scope, Target,
};
use heronshale_model::source::{Origin, Problem, Span, Within};
use heronshale_sets::intervals::Intervals;
use rustc_hash::FxHashMap;

/// What all filters are written with.
struct Common<'w> {
    origin: Origin,
    /// `group`, `acl`, `policy`, `own-firewall`.
    kind_key: &'static str,
    name: &'w Name,
    rules: [&'w [WrittenRule]; 2],
    owner: Option<&'w Spanned<Name>>,
    tags: Option<&'w TagMap>,
    description: Option<Name>,
}

macro_rules! common {
    ($origin:expr, $written:expr, $kind:literal) => {
        Common {
            origin: *$origin,
            kind_key: $kind,
            name: &$written.id.0.value,
            rules: [&$written.inbound.0, &$written.outbound.0],
            owner: $written.owner.as_ref(),
            tags: $written.tags.as_ref(),
            description: $written.description.as_ref().map(|prose| prose.0.clone()),
        }
    };
}

impl Builder {
    pub(super) fn filters(&mut self, collected: &Collected) {
        for (origin, written) in &collected.security_groups {
            let ordered = written.form == Some(Form::Ordered);
            let defaults =
                [&written.default_inbound, &written.default_outbound].map(Option::as_ref);
            let kind = if ordered {
                FilterKind::OrderedGroup {
                    defaults: defaults.map(|action| self.default_of(action)),
                }
            } else {
                for given in defaults.into_iter().flatten() {
                    let help = Some(
                        "a union group denies what no rule allows; write `form: ordered` for a default"
                            .to_owned(),
                    );
                    self.reading.fail(
                        given.span,
                        "a union group has no default".to_owned(),
                        "here",
                        help,
                    );
                }
                FilterKind::UnionGroup
            };
            self.filter(common!(origin, written, "group"), kind);
        }
        for (origin, written) in &collected.network_acls {
            self.filter(common!(origin, written, "acl"), FilterKind::NetworkAcl);
        }
        self.orders_differ(collected);
        for (origin, written) in &collected.scope_policies {
            let kind = self.policy_kind(*origin, written);
            self.filter(common!(origin, written, "policy"), kind);
        }
        for (origin, written) in &collected.own_firewalls {
            let defaults = [&written.default_inbound.0, &written.default_outbound.0];
            let defaults =
                defaults.map(|action| self.default_of(Some(action)).unwrap_or(Action::Deny));
            self.filter(
                common!(origin, written, "own-firewall"),
                FilterKind::OwnFirewall { defaults },
            );
        }
    }

    pub(super) fn default_of(&mut self, action: Option<&Spanned<Action>>) -> Option<Action> {
        let action = action?;
        if !matches!(action.value, Action::Allow | Action::Deny | Action::Reject) {
            let help = Some("write allow, deny or reject".to_owned());
            self.reading.fail(
                action.span,
                format!("a default cannot be `{}`", action.value.word()),
                "here",
                help,
            );
        }
        Some(action.value)
    }

    /// Several policies at one scope need an explicit order.
    fn orders_differ(&mut self, collected: &Collected) {
        let key = |scope: &WrittenScope| match scope {
            WrittenScope::Estate => "estate".to_owned(),
            WrittenScope::Division(name) => format!("division:{}", name.value),
            WrittenScope::Network(name) => format!("network:{}", name.value),
        };
        let mut seen: FxHashMap<String, Vec<&WrittenPolicy>> = FxHashMap::default();
        for (_, written) in &collected.scope_policies {
            let scope = key(&written.scope.0);
            let others = seen.entry(scope.clone()).or_default();
            let order = |policy: &WrittenPolicy| policy.order.as_ref().map(|order| order.value);
            let clash = others.iter().find(|other| {
                order(other).is_none() || order(written).is_none() || order(other) == order(written)
            });
            if let Some(other) = clash {
                self.reading.problems.push(Problem {
                    title: format!("two policies of the scope `{scope}` have no order"),
                    span: written
                        .order
                        .as_ref()
                        .map_or(written.id.0.span, |order| order.span),
                    label: "the second".to_owned(),
                    related: Some((
                        other
                            .order
                            .as_ref()
                            .map_or(other.id.0.span, |order| order.span),
                        "the first".to_owned(),
                    )),
                    help: Some("give each an `order`: the lowest comes first".to_owned()),
                });
            }
            others.push(written);
        }
    }

    fn policy_kind(&mut self, origin: Origin, written: &WrittenPolicy) -> FilterKind {
        let scope = match &written.scope.0 {
            WrittenScope::Estate => Some(Scope::Estate),
            WrittenScope::Division(name) => self
                .names
                .divisions
                .need(name, &mut self.reading)
                .map(Scope::Division),
            WrittenScope::Network(name) => self
                .names
                .networks
                .need(name, &mut self.reading)
                .map(Scope::Network),
        };
        let holder = format!("policy {}", written.id.0.value);
        let targets = written.targets.as_ref().map(|targets| {
            targets
                .0
                .iter()
                .filter_map(|target| self.target(target, &holder, origin))
                .collect::<Vec<_>>()
        });
        let order = written.order.as_ref().map_or(0, |order| order.value);
        FilterKind::ScopePolicy {
            scope: scope.unwrap_or(Scope::Estate),
            order,
            targets,
        }
    }

    fn target(
        &mut self,
        written: &Spanned<WrittenPeer>,
        holder: &str,
        origin: Origin,
    ) -> Option<Target> {
        let at = Origin {
            span: written.span,
            ..origin
        };
        match self.peer(written, holder, at) {
            Peer::Tag(pairs) => Some(Target::Tag(pairs)),
            Peer::Identity(name) => Some(Target::Identity(name)),
            Peer::Network(network) => Some(Target::Network(network)),
            Peer::Subnet(subnet) => Some(Target::Subnet(subnet)),
            Peer::Interface(interface) => Some(Target::Interface(interface)),
            _ => {
                let help = Some(
                    "write tag:, identity:, network:, subnet: or interface: and a name".to_owned(),
                );
                self.reading.fail(
                    written.span,
                    "a policy cannot be limited to this".to_owned(),
                    "no target",
                    help,
                );
                None
            }
        }
    }

    fn filter(&mut self, common: Common<'_>, kind: FilterKind) {
        let Common {
            origin,
            kind_key,
            name,
            rules,
            owner,
            tags,
            description,
        } = common;
        let id = match kind {
            FilterKind::UnionGroup | FilterKind::OrderedGroup { .. } => self.names.groups.next(),
            FilterKind::NetworkAcl => self.names.acls.next(),
            FilterKind::ScopePolicy { .. } => self.names.policies.next(),
            FilterKind::OwnFirewall { .. } => self.names.own_firewalls.next(),
            FilterKind::FirewallPolicy { .. } => self.names.firewall_policies.next(),
        };
        let lists = ["inbound", "outbound"];
        let [inbound, outbound] =
            [0, 1].map(|side| self.rules(rules[side], lists[side], &kind, kind_key, name, origin));
        let filter = Filter {
            key: format!("{kind_key}:{name}").into(),
            name: name.clone(),
            origin,
            kind,
            rules: [inbound.into(), outbound.into()],
            owner: self.owner(owner),
            tags: tags.map(|tags| tags.0.clone()).unwrap_or_default(),
            description,
        };
        self.estate.filters.fill(id, filter);
    }

    fn rules(
        &mut self,
        written: &[WrittenRule],
        list: &'static str,
        kind: &FilterKind,
        kind_key: &str,
        name: &Name,
        origin: Origin,
    ) -> Vec<Rule> {
        let mut ids: FxHashMap<&Name, Span> = FxHashMap::default();
        let mut rules = Vec::with_capacity(written.len());
        for (index, rule) in (0_u32..).zip(written) {
            if let Some(id) = &rule.id
                && let Some(earlier) = ids.insert(&id.value, id.span)
            {
                self.reading.problems.push(Problem {
                    title: format!(
                        "two {list} rules of {kind_key} `{name}` have the id `{}`",
                        id.value
                    ),
                    span: id.span,
                    label: "the second".to_owned(),
                    related: Some((earlier, "the first".to_owned())),
                    help: None,
                });
            }
            let called = rule
                .id
                .as_ref()
                .map_or_else(|| format!("#{}", index + 1), |id| id.value.to_string());
            let holder = format!("{kind_key} {name}, rule {called}");
            let at = Origin {
                span: rule.span,
                within: Some(Within::list(list, index)),
                ..origin
            };
            rules.push(self.rule(rule, kind, &holder, at));
        }
        rules
    }

    fn rule(
        &mut self,
        written: &WrittenRule,
        kind: &FilterKind,
        holder: &str,
        origin: Origin,
    ) -> Rule {
        let action = action_of(written, kind, &mut self.reading);
        if let (FilterKind::UnionGroup, Some(_)) = (kind, written.priority) {
            let help = Some(
                "in a union group any matching rule allows; write `form: ordered` for priorities"
                    .to_owned(),
            );
            self.reading.fail(
                written.span,
                "rules of a union group have no priority".to_owned(),
                "in here",
                help,
            );
        }
        let mut peers_of = |peers: &Many<Spanned<WrittenPeer>>| {
            peers
                .0
                .iter()
                .map(|peer| self.peer(peer, holder, origin))
                .collect::<Vec<_>>()
        };
        let peers = written.peers.as_ref().map(&mut peers_of);
        let local = written.local.as_ref().map(&mut peers_of);
        let except = self.excepted(&written.except, holder, origin);
        Rule {
            id: written.id.as_ref().map(|id| id.value.clone()),
            origin,
            action,
            priority: written.priority,
            services: written
                .services
                .as_ref()
                .map(|services| services.0.clone())
                .unwrap_or_default(),
            source_ports: written
                .source_ports
                .as_ref()
                .map(|ports| union_of(&ports.0)),
            peers,
            except,
            local,
            enabled: written.enabled.unwrap_or(true),
            stateless: written.stateless.unwrap_or(false),
            enforced_until: written.enforced_until.map(|moment| moment.0),
            review_by: written.review_by.map(|moment| moment.0),
            description: written.description.as_ref().map(|prose| prose.0.clone()),
            firewall: None,
        }
    }

    /// What a rule is not about: it must be in the snapshot.
    pub(super) fn excepted(
        &mut self,
        peers: &Many<Spanned<WrittenPeer>>,
        holder: &str,
        origin: Origin,
    ) -> Vec<Peer> {
        let mut all = Vec::with_capacity(peers.0.len());
        for peer in &peers.0 {
            let before = self.estate.remarks.len();
            let found = self.peer(peer, holder, origin);
            if self.estate.remarks.len() > before && found.is_missing() {
                self.estate.remarks.truncate(before);
                let title = "exceptions of a rule must be in the snapshot".to_owned();
                self.reading
                    .fail(peer.span, title, "not in the snapshot", None);
            }
            all.push(found);
        }
        all
    }

    /// A peer with its name looked up.
    pub(super) fn peer(
        &mut self,
        written: &Spanned<WrittenPeer>,
        holder: &str,
        origin: Origin,
    ) -> Peer {
        let at = Origin {
            span: written.span,
            ..origin
        };
        match &written.value {
            WrittenPeer::Any => Peer::Any,
            WrittenPeer::Internet => Peer::Internet,
            WrittenPeer::Probes => Peer::Probes,
            WrittenPeer::Tag(pairs) => Peer::Tag(pairs.clone()),
            WrittenPeer::Block(block) => {
                self.remark_host_bits(block, at, holder);
                Peer::Block(*block)
            }
            WrittenPeer::Named(kind, name) => match *kind {
                "identity" => Peer::Identity(name.clone()),
                "set" => Peer::AddressSet(self.refer(
                    self.names.address_sets.get(name),
                    name,
                    kind,
                    holder,
                    at,
                )),
                "group" => {
                    Peer::Group(self.refer(self.names.groups.get(name), name, kind, holder, at))
                }
                "interface" => Peer::Interface(self.refer(
                    self.names.interfaces.get(name),
                    name,
                    kind,
                    holder,
                    at,
                )),
                "network" => {
                    Peer::Network(self.refer(self.names.networks.get(name), name, kind, holder, at))
                }
                "subnet" => {
                    Peer::Subnet(self.refer(self.names.subnets.get(name), name, kind, holder, at))
                }
                _ => Peer::Site(self.refer(self.names.sites.get(name), name, kind, holder, at)),
            },
        }
    }

    /// The groups bound at one place; union and ordered ones do not go together.
    pub(super) fn groups_at(
        &mut self,
        names: &[Spanned<Name>],
        collected: &Collected,
        holder: &str,
        origin: Origin,
    ) -> Vec<Reference<Filter>> {
        let mut first: Option<(bool, &Spanned<Name>)> = None;
        let mut groups: Vec<Reference<Filter>> = Vec::with_capacity(names.len());
        for name in names {
            let found: Option<Id<Filter>> = self.names.groups.get(&name.value);
            let group = self.refer(
                found,
                &name.value,
                "group",
                holder,
                Origin {
                    span: name.span,
                    ..origin
                },
            );
            if groups.contains(&group) {
                self.reading.fail(
                    name.span,
                    format!("the group `{}` is bound here twice", name.value),
                    "a second time",
                    None,
                );
                continue;
            }
            groups.push(group);
            let Some(id) = found else { continue };
            let ordered = collected.security_groups[id.index()].1.form == Some(Form::Ordered);
            match first {
                Some((other, earlier)) if other != ordered => self.reading.problems.push(Problem {
                    title: format!("{holder} has union and ordered groups at one place"),
                    span: name.span,
                    label: format!(
                        "this one is {}",
                        if ordered { "ordered" } else { "a union" }
                    ),
                    related: Some((
                        earlier.span,
                        format!("this one is {}", if other { "ordered" } else { "a union" }),
                    )),
                    help: Some("bind groups of one form".to_owned()),
                }),
                Some(_) => {}
                None => first = Some((ordered, name)),
            }
        }
        groups
    }
}

pub(super) fn union_of(ports: &[Ports]) -> Intervals {
    ports
        .iter()
        .fold(Intervals::empty(), |sum, ports| sum.union(&ports.0))
}

/// The action, if this kind of filter knows it.
fn action_of(written: &WrittenRule, kind: &FilterKind, reading: &mut Reading) -> Action {
    use Action::{Allow, AllowFinally, Defer, Deny, Reject};
    let (known, what): (&[Action], &str) = match kind {
        FilterKind::UnionGroup => (&[Allow], "a union group"),
        FilterKind::OrderedGroup { .. } => (&[Allow, Deny, Reject], "an ordered group"),
        FilterKind::NetworkAcl => (&[Allow, Deny, Reject], "a network ACL"),
        FilterKind::ScopePolicy { .. } => (
            &[Allow, Deny, Reject, AllowFinally, Defer],
            "a scope policy",
        ),
        FilterKind::OwnFirewall { .. } => (&[Allow, Deny, Reject], "an own firewall"),
        FilterKind::FirewallPolicy { .. } => (&[Allow, Deny, Reject, Defer], "a firewall policy"),
    };
    let words: Vec<&str> = known.iter().map(|action| action.word()).collect();
    match &written.action {
        None if known.len() == 1 => Allow,
        None => {
            let help = Some(format!("write one of {}", words.join(", ")));
            reading.fail(
                written.span,
                format!("a rule of {what} needs an action"),
                "in here",
                help,
            );
            Deny
        }
        Some(action) if known.contains(&action.value) => action.value,
        Some(action) => {
            let title = format!("{what} has no action `{}`", action.value.word());
            let union = known.len() == 1 && action.value.refuses();
            let help = if union {
                "a union group only allows; write `form: ordered` for deny rules".to_owned()
            } else {
                format!("it knows {}", words.join(", "))
            };
            reading.fail(action.span, title, "not here", Some(help));
            Deny
        }
    }
}
