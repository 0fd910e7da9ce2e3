//! Firewalls and their policies.

use super::*;

impl Builder {
    pub(super) fn firewall_policy(&mut self, origin: Origin, written: &WrittenFirewallPolicy) {
        let name = &written.id.0.value;
        let holder = format!("firewall policy {name}");
        let base = written.base.as_ref().map(|base| {
            let found = self.names.firewall_policies.get(&base.value);
            self.refer(
                found,
                &base.value,
                "firewall-policy",
                &holder,
                Origin {
                    span: base.span,
                    ..origin
                },
            )
        });
        let default = self
            .default_of(written.default.as_ref())
            .unwrap_or(Action::Deny);
        let mut rules = Vec::new();
        let mut ids: FxHashMap<Name, Span> = FxHashMap::default();
        let mut sections = Vec::with_capacity(written.sections.0.len());
        let all = (0_u32..)
            .zip(&written.sections.0)
            .flat_map(|(at, section)| {
                (0..)
                    .zip(&section.rules.0)
                    .map(move |(index, rule)| (Some(at), index, rule))
            });
        let rest = (0..)
            .zip(&written.rules.0)
            .map(|(index, rule)| (None, index, rule));
        for (section, index, rule) in all.chain(rest) {
            if let Some(id) = &rule.id
                && let Some(earlier) = ids.insert(id.value.clone(), id.span)
            {
                self.reading.problems.push(Problem {
                    title: format!(
                        "two rules of firewall policy `{name}` have the id `{}`",
                        id.value
                    ),
                    span: id.span,
                    label: "the second".to_owned(),
                    related: Some((earlier, "the first".to_owned())),
                    help: None,
                });
            }
            let within = section.map_or(Within::list("rules", index), |at| {
                Within::section(at, "rules", index)
            });
            let at = Origin {
                span: rule.span,
                within: Some(within),
                ..origin
            };
            let called = rule.id.as_ref().map_or_else(
                || format!("#{}", rules.len() + 1),
                |id| id.value.to_string(),
            );
            rules.push(self.firewall_rule(rule, section, &format!("{holder}, rule {called}"), at));
        }
        for section in &written.sections.0 {
            let (name, class) = (section.id.0.clone(), section.class.clone());
            sections.push(Section {
                name,
                priority: section.priority,
                class,
            });
        }
        let kind = FilterKind::FirewallPolicy {
            base,
            default,
            class_order: written.class_order.0.clone(),
            sections,
        };
        let filter = Filter {
            key: format!("firewall-policy:{name}").into(),
            name: name.clone(),
            origin,
            kind,
            rules: [rules.into(), Vec::new().into()],
            owner: self.owner(written.owner.as_ref()),
            tags: tags_of(written.tags.as_ref()),
            description: written.description.as_ref().map(|prose| prose.0.clone()),
        };
        self.estate
            .filters
            .fill(self.names.firewall_policies.next(), filter);
    }

    /// No policy may be its own base, by others.
    pub(super) fn bases_end(&mut self, collected: &Collected) {
        let base = |id: Id<Filter>, estate: &heronshale_model::estate::Estate| match &estate.filters
            [id]
            .kind
        {
            FilterKind::FirewallPolicy { base, .. } => base.as_ref().and_then(Reference::found),
            _ => None,
        };
        for (_, written) in &collected.firewall_policies {
            let Some(start) = self.names.firewall_policies.get(&written.id.0.value) else {
                continue;
            };
            let mut above = base(start, &self.estate);
            for _ in 0..=collected.firewall_policies.len() {
                if above == Some(start) {
                    let title = format!(
                        "the firewall policy `{}` is its own base",
                        written.id.0.value
                    );
                    self.reading
                        .fail(written.id.0.span, title, "by its bases", None);
                    break;
                }
                above = above.and_then(|id| base(id, &self.estate));
            }
        }
    }

    pub(super) fn firewall_rule(
        &mut self,
        written: &WrittenFirewallRule,
        section: Option<u32>,
        holder: &str,
        origin: Origin,
    ) -> Rule {
        let action = &written.action.0;
        if action.value == Action::AllowFinally {
            let help = Some("it accepts allow, deny, reject, defer".to_owned());
            let title = "a firewall policy has no `allow-finally`".to_owned();
            self.reading.fail(action.span, title, "not here", help);
        }
        let peers = written
            .sources
            .as_ref()
            .map(|peers| self.peers(&peers.0, holder, origin));
        let destinations = written
            .destinations
            .as_ref()
            .map(|peers| self.peers(&peers.0, holder, origin));
        let names = written.names.as_ref().map(|names| {
            let one = |name: &Spanned<Name>| {
                let found = self.names.name_sets.get(&name.value);
                self.refer(
                    found,
                    &name.value,
                    "names",
                    holder,
                    Origin {
                        span: name.span,
                        ..origin
                    },
                )
            };
            names.0.iter().map(one).collect::<Vec<_>>()
        });
        let firewall = FirewallMatch {
            section,
            from_zones: written.from_zones.as_ref().map(|zones| zones.0.clone()),
            to_zones: written.to_zones.as_ref().map(|zones| zones.0.clone()),
            or_destinations: names.is_some() && destinations.is_some(),
            names,
            except_destinations: self.excepted(&written.except_destinations, holder, origin),
            condition: written.condition.as_ref().map(|prose| prose.0.clone()),
        };
        Rule {
            id: written.id.as_ref().map(|id| id.value.clone()),
            origin,
            action: action.value,
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
            except: self.excepted(&written.except_sources, holder, origin),
            local: destinations,
            enabled: written.enabled.unwrap_or(true),
            stateless: written.stateless.unwrap_or(false),
            enforced_until: written.enforced_until.map(|moment| moment.0),
            review_by: written.review_by.map(|moment| moment.0),
            description: written.description.as_ref().map(|prose| prose.0.clone()),
            firewall: Some(Box::new(firewall)),
        }
    }

    pub(super) fn firewall(&mut self, origin: Origin, written: &WrittenFirewall) {
        let name = &written.id.0.value;
        let holder = format!("firewall {name}");
        let legs: Vec<FirewallLeg> = written
            .interfaces
            .0
            .iter()
            .filter_map(|leg| {
                let interface = self
                    .names
                    .interfaces
                    .need(&leg.interface.0, &mut self.reading)?;
                Some(FirewallLeg {
                    interface,
                    zone: leg.zone.clone(),
                })
            })
            .collect();
        let alone = written.hub.as_ref().map(|hub| hub.span).or(written
            .addresses
            .0
            .first()
            .map(|first| first.span));
        if let Some(span) = alone.filter(|_| !written.interfaces.0.is_empty()) {
            let help = Some(
                "a firewall has `interfaces`, or stands in a `hub` and has `addresses`".to_owned(),
            );
            self.reading.fail(
                span,
                "a firewall with interfaces has no addresses of its own".to_owned(),
                "here",
                help,
            );
        }
        let hub = written
            .hub
            .as_ref()
            .and_then(|hub| self.names.hubs.need(hub, &mut self.reading));
        let policy = written.policy.as_ref().map(|policy| {
            let found = self.names.firewall_policies.get(&policy.value);
            self.refer(
                found,
                &policy.value,
                "firewall-policy",
                &holder,
                Origin {
                    span: policy.span,
                    ..origin
                },
            )
        });
        let mut translations = |list: &[WrittenTranslation], of: Side| {
            let built = (0_u32..).zip(list).map(|(index, one)| {
                let at = Origin {
                    span: one.span,
                    within: Some(Within::list(of.field(), index)),
                    ..origin
                };
                self.translation(one, of, &holder, at)
            });
            built.collect::<Vec<_>>()
        };
        let destination_translations =
            translations(&written.destination_translations.0, Side::Destination);
        let source_translations = translations(&written.source_translations.0, Side::Source);
        let routes = written.routes.as_ref().map(|routes| {
            let mut built = Vec::with_capacity(routes.0.len());
            for (index, route) in (0_u32..).zip(&routes.0) {
                let at = Origin {
                    span: route.span,
                    within: Some(Within::list("routes", index)),
                    ..origin
                };
                let destinations = destinations_of(self.entries(&route.to.0.0, at, &holder));
                let by = &route.interface.0;
                let Some(interface) = self.names.interfaces.need(by, &mut self.reading) else {
                    continue;
                };
                if !legs.iter().any(|leg| leg.interface == interface) {
                    let title = format!("`{}` is not an interface of this firewall", by.value);
                    self.reading
                        .fail(by.span, title, "not one of its `interfaces`", None);
                }
                built.push(FirewallRoute {
                    origin: at,
                    destinations,
                    interface,
                });
            }
            built
        });
        let own_services = written.own_services.as_ref().map(|services| {
            let built = (0_u32..).zip(&services.0).map(|(index, own)| {
                let at = Origin {
                    span: own.span,
                    within: Some(Within::list("own_services", index)),
                    ..origin
                };
                OwnService {
                    origin: at,
                    services: own.services.0.clone(),
                    sources: own
                        .sources
                        .as_ref()
                        .map(|sources| self.peers(&sources.0, &holder, at)),
                }
            });
            built.collect()
        });
        let firewall = Firewall {
            name: name.clone(),
            origin,
            legs,
            addresses: self.blocks(&written.addresses, origin, &holder),
            hub,
            policy,
            policy_sees: written.policy_sees,
            destination_translations,
            source_translations,
            routes,
            own_services,
            members: written
                .members
                .0
                .iter()
                .map(|member| Member {
                    name: member.id.0.clone(),
                    up: member.up.unwrap_or(true),
                })
                .collect(),
            symmetric: written.symmetric.unwrap_or(false),
            owner: self.owner(written.owner.as_ref()),
        };
        self.estate
            .firewalls
            .fill(self.names.firewalls.next(), firewall);
    }

    pub(super) fn translation(
        &mut self,
        written: &WrittenTranslation,
        of: Side,
        holder: &str,
        origin: Origin,
    ) -> Translation {
        match of {
            Side::Source => {
                if let Some(port) = &written.port {
                    let title =
                        "a source translation cannot set a port; ports are chosen anew".to_owned();
                    self.reading.fail(port.span, title, "not here", None);
                }
            }
            Side::Destination => {
                if let Some(zones) = &written.to_zones {
                    let title =
                        "destinations are translated before the outgoing zone is known".to_owned();
                    self.reading.fail(zones.span, title, "not here", None);
                }
                if written.to.is_none() {
                    let title = "a destination translation needs the field `to`".to_owned();
                    self.reading.fail(written.span, title, "in here", None);
                }
            }
        }
        Translation {
            id: written.id.clone(),
            origin,
            from_zones: written.from_zones.as_ref().map(|zones| zones.0.clone()),
            to_zones: written.to_zones.as_ref().map(|zones| zones.value.0.clone()),
            sources: written
                .sources
                .as_ref()
                .map(|peers| self.peers(&peers.0, holder, origin)),
            destinations: written
                .destinations
                .as_ref()
                .map(|peers| self.peers(&peers.0, holder, origin)),
            services: written.services.0.clone(),
            to: written.to,
            port: self.port(written.port.as_ref()),
            enabled: written.enabled.unwrap_or(true),
        }
    }

    /// An interface is part of one firewall, proxy or door at most.
    pub(super) fn one_role_each(&mut self, collected: &Collected) {
        let mut seen: FxHashMap<Name, Span> = FxHashMap::default();
        let legs = collected
            .firewalls
            .iter()
            .flat_map(|(_, firewall)| &firewall.interfaces.0);
        let proxies = collected
            .balancers
            .iter()
            .flat_map(|(_, balancer)| &balancer.interfaces.0);
        let doors = collected
            .services
            .iter()
            .flat_map(|(_, service)| &service.private_doors.0);
        for name in legs.map(|leg| &leg.interface.0).chain(proxies).chain(doors) {
            if let Some(earlier) = seen.insert(name.value.clone(), name.span) {
                self.reading.problems.push(Problem {
                    title: format!("the interface `{}` belongs to two devices", name.value),
                    span: name.span,
                    label: "the second".to_owned(),
                    related: Some((earlier, "the first".to_owned())),
                    help: Some(
                        "an interface belongs to one firewall, proxy balancer or private door"
                            .to_owned(),
                    ),
                });
            }
        }
    }
}
