//! Firewalls and their policies, balancers, services, hubs, and DNS names.

use super::filters::union_of;
use super::network::{destinations_of, tags_of};
use super::{Builder, add};
use crate::reading::Spanned;
use crate::sections::Collected;
use crate::values::{WrittenBalancerKind, WrittenPeer, WrittenReplies};
use crate::written::{
    WrittenBackEnd, WrittenBalancer, WrittenDomainRoute, WrittenFirewall, WrittenFirewallPolicy,
    WrittenFirewallRule, WrittenHub, WrittenLink, WrittenRecord, WrittenService,
    WrittenTranslation,
};
use heronshale_model::estate::{
    Action, BackEnd, Balancer, BalancerKind, DnsRecord, DnsZone, Domain, DomainHop, DomainRoute,
    Filter, FilterKind, Firewall, FirewallLeg, FirewallMatch, FirewallRoute, FrontEnd, Hub, Id,
    Interface, Link, LinkEnd, Member, Name, NameSet, OwnService, Peer, PlatformService, PublicDoor,
    RecordData, Reference, Rule, Section, Subnet, Translation,
};
use heronshale_model::notation::split_kind;
use heronshale_model::source::{Origin, Problem, Span, Within};
use heronshale_sets::address::Family;
use rustc_hash::FxHashMap;

impl Builder {
    pub(super) fn devices(&mut self, collected: &Collected) {
        for (origin, written) in &collected.firewall_policies {
            self.firewall_policy(*origin, written);
        }
        self.bases_end(collected);
        for (origin, written) in &collected.firewalls {
            self.firewall(*origin, written);
        }
        self.one_role_each(collected);
        for (origin, written) in &collected.balancers {
            self.balancer(*origin, written);
        }
        for (origin, written) in &collected.services {
            self.service(*origin, written);
        }
        for (origin, written) in &collected.hubs {
            self.hub(*origin, written);
        }
        for (origin, written) in &collected.name_sets {
            let names = written
                .names
                .0
                .iter()
                .map(|name| self.dns_name(name))
                .collect();
            let owner = self.owner(written.owner.as_ref());
            add(
                &mut self.estate.name_sets,
                NameSet {
                    name: written.id.0.value.clone(),
                    origin: *origin,
                    names,
                    owner,
                },
            );
        }
        for (origin, written) in &collected.dns_zones {
            let apex = self.dns_name(&written.zone.0);
            let holder = format!("zone {}", written.id.0.value);
            let networks = written.networks.0.iter().map(|name| {
                let found = self.names.networks.get(&name.value);
                self.refer(
                    found,
                    &name.value,
                    "network",
                    &holder,
                    Origin {
                        span: name.span,
                        ..*origin
                    },
                )
            });
            let networks = networks.collect();
            let records = self.records(&written.records.0, *origin, Some(&apex));
            let owner = self.owner(written.owner.as_ref());
            let (name, fall_through) = (written.id.0.value.clone(), written.fall_through);
            let zone = DnsZone {
                name,
                origin: *origin,
                apex,
                networks,
                records,
                fall_through,
                owner,
            };
            add(&mut self.estate.dns_zones, zone);
        }
        for (origin, written) in &collected.public_names {
            let records = self.records(std::slice::from_ref(written), *origin, None);
            self.estate.public_names.extend(records);
        }
    }

    fn peers(&mut self, peers: &[Spanned<WrittenPeer>], holder: &str, origin: Origin) -> Vec<Peer> {
        peers
            .iter()
            .map(|peer| self.peer(peer, holder, origin))
            .collect()
    }

    fn port(&mut self, port: Option<&Spanned<u32>>) -> Option<u16> {
        let port = port?;
        let found = u16::try_from(port.value).ok();
        if found.is_none() {
            let help = Some("ports are 0 to 65535".to_owned());
            self.reading.fail(
                port.span,
                format!("{} is no port", port.value),
                "too large",
                help,
            );
        }
        found
    }

    /// A DNS name in lower case, without a dot at its end.
    fn dns_name(&mut self, name: &Spanned<Name>) -> Name {
        let text = name.value.trim().trim_end_matches('.').to_lowercase();
        let plain = text.strip_prefix("*.").unwrap_or(&text);
        let label = |label: &str| {
            (1..=63).contains(&label.len())
                && label
                    .chars()
                    .all(|c| c.is_alphanumeric() || c == '-' || c == '_')
        };
        if !plain.split('.').all(label) {
            let help = Some(
                "write a name such as booking.marrowfen.example, or *.marrowfen.example".to_owned(),
            );
            self.reading.fail(
                name.span,
                format!("`{}` is no DNS name", name.value),
                "not understood",
                help,
            );
        }
        text.into()
    }

    fn records(
        &mut self,
        written: &[WrittenRecord],
        origin: Origin,
        apex: Option<&Name>,
    ) -> Vec<DnsRecord> {
        let mut records = Vec::with_capacity(written.len());
        for record in written {
            let name = self.dns_name(&record.name.0);
            if let Some(apex) = apex
                && *name != **apex
                && !name.ends_with(&format!(".{apex}"))
            {
                let help = Some(format!("names of this zone end in {apex}"));
                self.reading.fail(
                    record.name.0.span,
                    format!("`{name}` is not in the zone"),
                    "elsewhere",
                    help,
                );
            }
            let data = match (&record.addresses, &record.alias) {
                (Some(addresses), None) => RecordData::Addresses(addresses.0.clone()),
                (None, Some(alias)) => RecordData::Alias(self.dns_name(alias)),
                _ => {
                    let title = "a DNS record has either `addresses` or an `alias`".to_owned();
                    self.reading.fail(record.span, title, "in here", None);
                    continue;
                }
            };
            records.push(DnsRecord {
                name,
                origin: Origin {
                    span: record.span,
                    ..origin
                },
                data,
            });
        }
        records
    }

    fn firewall_policy(&mut self, origin: Origin, written: &WrittenFirewallPolicy) {
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
                        "two rules of firewall policy `{name}` are called `{}`",
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
        add(&mut self.estate.filters, filter);
    }

    /// No policy may be its own base, by others.
    fn bases_end(&mut self, collected: &Collected) {
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

    fn firewall_rule(
        &mut self,
        written: &WrittenFirewallRule,
        section: Option<u32>,
        holder: &str,
        origin: Origin,
    ) -> Rule {
        let action = &written.action.0;
        if action.value == Action::AllowFinally {
            let help = Some("it knows allow, deny, reject, defer".to_owned());
            let title = "a firewall policy knows no rule that says `allow-finally`".to_owned();
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

    fn firewall(&mut self, origin: Origin, written: &WrittenFirewall) {
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
                "a firewall has `interfaces`, or stands in a `hub` and holds `addresses` itself"
                    .to_owned(),
            );
            self.reading.fail(
                span,
                "a firewall with interfaces holds no addresses itself".to_owned(),
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
                    let title = format!("`{}` is no interface of this firewall", by.value);
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
        add(&mut self.estate.firewalls, firewall);
    }

    fn translation(
        &mut self,
        written: &WrittenTranslation,
        of: Side,
        holder: &str,
        origin: Origin,
    ) -> Translation {
        match of {
            Side::Source => {
                if let Some(port) = &written.port {
                    let title = "a source translation sets no port: ports are redrawn".to_owned();
                    self.reading.fail(port.span, title, "not here", None);
                }
            }
            Side::Destination => {
                if let Some(zones) = &written.to_zones {
                    let title =
                        "a destination is translated before the zone is known by which packets go out".to_owned();
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
    fn one_role_each(&mut self, collected: &Collected) {
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
                    title: format!("the interface `{}` is part of two devices", name.value),
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

    fn balancer(&mut self, origin: Origin, written: &WrittenBalancer) {
        let network = self
            .names
            .networks
            .need(&written.network.0, &mut self.reading)
            .unwrap_or(Id::new(0));
        let subnet = written
            .subnet
            .as_ref()
            .and_then(|name| self.names.subnets.need(name, &mut self.reading));
        let is_proxy = matches!(written.kind.0, WrittenBalancerKind::Proxy);
        if let Some(replies) = written.replies.as_ref().filter(|_| is_proxy) {
            let title = "only keeping balancers have the field `replies`".to_owned();
            self.reading
                .fail(replies.span, title, "this one is a proxy", None);
        }
        if let Some(first) = written.interfaces.0.first().filter(|_| !is_proxy) {
            let title = "only proxies have interfaces of their own".to_owned();
            self.reading.fail(
                first.span,
                title,
                "this one keeps the client's address",
                None,
            );
        }
        if is_proxy && written.interfaces.0.is_empty() {
            let title = "a proxy needs the field `interfaces`: from there it makes its connections"
                .to_owned();
            self.reading.fail(written.span, title, "in here", None);
        }
        let kind = if is_proxy {
            BalancerKind::Proxy
        } else {
            let routed_replies = written
                .replies
                .as_ref()
                .is_some_and(|r| r.value == WrittenReplies::Routed);
            BalancerKind::Keeping { routed_replies }
        };
        for front in &written.front_ends.0 {
            let Some(private) = &front.private else {
                continue;
            };
            let title = if !front.public.unwrap_or(false) {
                "only a public front end stands for a private address".to_owned()
            } else if Family::of(private.value) != Family::of(front.address.0.value) {
                "the private address is of the other family".to_owned()
            } else {
                continue;
            };
            self.reading.fail(
                private.span,
                title,
                "here",
                Some("write `public: true` and two addresses of one family".to_owned()),
            );
        }
        let front_ends = (0_u32..)
            .zip(&written.front_ends.0)
            .map(|(index, front)| FrontEnd {
                origin: Origin {
                    span: front.span,
                    within: Some(Within::list("front_ends", index)),
                    ..origin
                },
                address: front.address.0.value,
                public: front.public.unwrap_or(false),
                private: front.private.as_ref().map(|private| private.value),
                services: front.services.0.clone(),
            });
        let front_ends: Vec<FrontEnd> = front_ends.collect();
        let family = front_ends
            .first()
            .map_or(Family::V4, |front| Family::of(front.address));
        let back_ends = (0_u32..)
            .zip(&written.back_ends.0)
            .filter_map(|(index, back)| {
                let at = Origin {
                    span: back.span,
                    within: Some(Within::list("back_ends", index)),
                    ..origin
                };
                self.back_end(back, family, at)
            });
        let back_ends = back_ends.collect();
        let interfaces = self.interfaces_named(&written.interfaces.0);
        let balancer = Balancer {
            name: written.id.0.value.clone(),
            origin,
            network,
            subnet,
            kind,
            front_ends,
            back_ends,
            interfaces,
            symmetric: written.symmetric.unwrap_or(false),
            owner: self.owner(written.owner.as_ref()),
        };
        add(&mut self.estate.balancers, balancer);
    }

    fn interfaces_named(&mut self, names: &[Spanned<Name>]) -> Vec<Id<Interface>> {
        names
            .iter()
            .filter_map(|name| self.names.interfaces.need(name, &mut self.reading))
            .collect()
    }

    fn back_end(
        &mut self,
        written: &WrittenBackEnd,
        family: Family,
        origin: Origin,
    ) -> Option<BackEnd> {
        if written.interface.is_none() && written.address.is_none() {
            let title = "a back end is an `interface` or an `address`".to_owned();
            self.reading.fail(written.span, title, "in here", None);
            return None;
        }
        let interface = written
            .interface
            .as_ref()
            .map(|name| self.names.interfaces.need(name, &mut self.reading));
        let interface = match interface {
            Some(None) => return None,
            found => found.flatten(),
        };
        let held = interface.map(|id| &self.estate.interfaces[id]);
        let given = written.address.as_ref().map(|address| address.value);
        if let (Some(held), Some(address)) = (held, &written.address)
            && !held.addresses.contains(address.value)
        {
            let title = format!(
                "the interface `{}` does not hold {}",
                held.name, address.value
            );
            let help = Some(format!("it holds {}", held.addresses.texts().join(", ")));
            self.reading
                .fail(address.span, title, "not one of its addresses", help);
        }
        let address = given.or_else(|| held.and_then(|held| held.primary(family)));
        let port = self.port(written.port.as_ref());
        Some(BackEnd {
            origin,
            interface,
            address,
            port,
            healthy: written.healthy.unwrap_or(true),
        })
    }

    fn service(&mut self, origin: Origin, written: &WrittenService) {
        let holder = format!("service {}", written.id.0.value);
        let public_door = written.public_door.as_ref().map(|door| {
            let at = Origin {
                span: door.span,
                ..origin
            };
            PublicDoor {
                origin: at,
                addresses: self.blocks(&door.addresses, origin, &holder),
                open: door.open.unwrap_or(true),
                allowed: door
                    .allowed
                    .as_ref()
                    .map(|peers| self.peers(&peers.0, &holder, at)),
            }
        });
        let balancer = written
            .balancer
            .as_ref()
            .and_then(|name| self.names.balancers.need(name, &mut self.reading));
        if let Some(name) = written
            .balancer
            .as_ref()
            .filter(|_| written.provider_source.is_none())
        {
            let title =
                "a balancer behind a door sees the provider's source: write `provider_source`"
                    .to_owned();
            self.reading.fail(name.span, title, "here", None);
        }
        let service = PlatformService {
            name: written.id.0.value.clone(),
            origin,
            services: written.services.0.clone(),
            public_door,
            private_doors: self.interfaces_named(&written.private_doors.0),
            interfaces: self.interfaces_named(&written.interfaces.0),
            balancer,
            provider_source: written.provider_source,
            owner: self.owner(written.owner.as_ref()),
        };
        add(&mut self.estate.services, service);
    }

    fn hub(&mut self, origin: Origin, written: &WrittenHub) {
        let holder = format!("hub {}", written.id.0.value);
        let link_names: Vec<&Spanned<Name>> =
            written.links.0.iter().map(|link| &link.id.0).collect();
        let domain_names: Vec<&Spanned<Name>> = written
            .domains
            .0
            .iter()
            .map(|domain| &domain.id.0)
            .collect();
        for (what, names) in [("links", &link_names), ("domains", &domain_names)] {
            for (at, name) in names.iter().enumerate() {
                if let Some(earlier) = names[..at]
                    .iter()
                    .find(|earlier| earlier.value == name.value)
                {
                    self.reading.problems.push(Problem {
                        title: format!("two {what} of {holder} are called `{}`", name.value),
                        span: name.span,
                        label: "the second".to_owned(),
                        related: Some((earlier.span, "the first".to_owned())),
                        help: None,
                    });
                }
            }
        }
        let mut links = Vec::with_capacity(written.links.0.len());
        for (index, link) in (0_u32..).zip(&written.links.0) {
            let at = Origin {
                span: link.span,
                within: Some(Within::list("links", index)),
                ..origin
            };
            links.push(self.link(link, &domain_names, &holder, at));
        }
        let mut domains = Vec::with_capacity(written.domains.0.len());
        for (index, domain) in (0_u32..).zip(&written.domains.0) {
            let at = Origin {
                span: domain.span,
                within: Some(Within::list("domains", index)),
                ..origin
            };
            let routes = domain
                .routes
                .0
                .iter()
                .filter_map(|route| self.domain_route(route, &link_names, &holder, at));
            let routes = routes.collect();
            domains.push(Domain {
                name: domain.id.0.value.clone(),
                origin: at,
                routes,
            });
        }
        let owner = self.owner(written.owner.as_ref());
        add(
            &mut self.estate.hubs,
            Hub {
                name: written.id.0.value.clone(),
                origin,
                domains,
                links,
                owner,
            },
        );
    }

    fn link(
        &mut self,
        written: &WrittenLink,
        domains: &[&Spanned<Name>],
        holder: &str,
        origin: Origin,
    ) -> Link {
        let holder = format!("{holder}, link {}", written.id.0.value);
        let (name, at) = (
            &written.to.0.name,
            Origin {
                span: written.to.0.span,
                ..origin
            },
        );
        let to = match written.to.0.kind {
            "network" => LinkEnd::Network(self.refer(
                self.names.networks.get(name),
                name,
                "network",
                &holder,
                at,
            )),
            "site" => {
                LinkEnd::Site(self.refer(self.names.sites.get(name), name, "site", &holder, at))
            }
            "hub" => LinkEnd::Hub(self.refer(self.names.hubs.get(name), name, "hub", &holder, at)),
            _ => LinkEnd::Firewall(self.refer(
                self.names.firewalls.get(name),
                name,
                "firewall",
                &holder,
                at,
            )),
        };
        let subnet = written.subnet.as_ref().and_then(|name| {
            let subnet: Option<Id<Subnet>> = self.names.subnets.need(name, &mut self.reading);
            let fits = subnet.is_none_or(|subnet| match &to {
                LinkEnd::Network(network) => {
                    network.found() == Some(self.estate.subnets[subnet].network)
                }
                _ => false,
            });
            if !fits {
                let title = format!(
                    "the subnet `{}` is not of the network that the link leads to",
                    name.value
                );
                self.reading.fail(name.span, title, "elsewhere", None);
            }
            subnet
        });
        let reading = &mut self.reading;
        let mut domain = |name: &Spanned<Name>| {
            let found = domains.iter().position(|domain| domain.value == name.value);
            if found.is_none() {
                let all: Vec<&str> = domains.iter().map(|domain| &*domain.value).collect();
                let help = crate::reading::did_you_mean(&name.value, all.iter().copied())
                    .or_else(|| (!all.is_empty()).then(|| format!("there are {}", all.join(", "))));
                reading.fail(
                    name.span,
                    format!("the hub has no domain `{}`", name.value),
                    "not in this hub",
                    help,
                );
            }
            found
        };
        let reads = written.reads.as_ref().and_then(&mut domain);
        let announces_into = written
            .announces_into
            .0
            .iter()
            .filter_map(&mut domain)
            .collect();
        let announces = written.announces.as_ref().map(|blocks| {
            self.blocks(blocks, origin, &holder);
            blocks.0.iter().map(|block| block.value.range).collect()
        });
        let mut steer = |name: &Spanned<Name>| {
            let found = self.names.firewalls.get(&name.value);
            self.refer(
                found,
                &name.value,
                "firewall",
                &holder,
                Origin {
                    span: name.span,
                    ..origin
                },
            )
        };
        let steer_internet = written.steer_internet.as_ref().map(&mut steer);
        let steer_private = written.steer_private.as_ref().map(&mut steer);
        Link {
            name: written.id.0.value.clone(),
            origin,
            to,
            subnet,
            up: written.up.unwrap_or(true),
            reads,
            announces_into,
            announces,
            offers_default: written.offers_default.unwrap_or(false),
            steer_internet,
            steer_private,
        }
    }

    fn domain_route(
        &mut self,
        written: &WrittenDomainRoute,
        links: &[&Spanned<Name>],
        holder: &str,
        origin: Origin,
    ) -> Option<DomainRoute> {
        let at = Origin {
            span: written.span,
            ..origin
        };
        let destinations = destinations_of(self.entries(&written.to.0.0, at, holder));
        let text = &written.next_hop.0;
        let hop = match (&*text.value, split_kind(&text.value, &["link"])) {
            ("blackhole", _) => DomainHop::Blackhole,
            (_, Some((_, name))) => match links.iter().position(|link| *link.value == *name) {
                Some(found) => DomainHop::Link(found),
                None => {
                    let missing: Reference<()> = self.refer(
                        None,
                        &name.into(),
                        "link",
                        holder,
                        Origin {
                            span: text.span,
                            ..origin
                        },
                    );
                    match missing {
                        Reference::Missing(name) => DomainHop::Missing(name),
                        Reference::Found(_) => return None,
                    }
                }
            },
            _ => {
                let help = Some("write link:NAME, or blackhole".to_owned());
                self.reading.fail(
                    text.span,
                    format!("`{}` is no next hop in a hub", text.value),
                    "here",
                    help,
                );
                return None;
            }
        };
        let (metric, enabled) = (written.metric.unwrap_or(0), written.enabled.unwrap_or(true));
        Some(DomainRoute {
            origin: at,
            destinations,
            hop,
            metric,
            enabled,
        })
    }
}

/// Which side of a packet a translation changes.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Side {
    Source,
    Destination,
}

impl Side {
    fn field(self) -> &'static str {
        match self {
            Self::Source => "source_translations",
            Self::Destination => "destination_translations",
        }
    }
}
