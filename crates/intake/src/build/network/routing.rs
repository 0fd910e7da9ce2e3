//! Route tables, routes and gateways.

use super::*;

impl Builder {
    pub(in crate::build) fn routes(&mut self, collected: &Collected) {
        for (origin, written) in &collected.route_tables {
            let network = self
                .names
                .networks
                .need(&written.network.0, &mut self.reading)
                .unwrap_or(Id::placeholder());
            let holder = format!("table {}", written.id.0.value);
            let routes = (0_u32..).zip(&written.routes.0).map(|(index, route)| {
                let at = Origin {
                    span: route.span,
                    within: Some(Within::list("routes", index)),
                    ..*origin
                };
                self.route(route, at, &holder)
            });
            let routes = routes.collect();
            let owner = self.owner(written.owner.as_ref());
            let accepts_propagation = written.accepts_propagation.unwrap_or(false);
            let name = written.id.0.value.clone();
            self.estate.route_tables.fill(
                self.names.route_tables.next(),
                RouteTable {
                    name,
                    origin: *origin,
                    network,
                    routes,
                    accepts_propagation,
                    owner,
                },
            );
        }
        self.tables_belong(collected);
        for (origin, written) in &collected.gateways {
            self.gateway(*origin, written);
        }
        for (origin, written) in &collected.peerings {
            let sides = &written.sides.0.0;
            let mut built = sides
                .iter()
                .map(|side| {
                    let name = &side.network.0;
                    let found = self.names.networks.get(&name.value);
                    let holder = format!("peering {}", written.id.0.value);
                    let network = self.refer(
                        found,
                        &name.value,
                        "network",
                        &holder,
                        Origin {
                            span: name.span,
                            ..*origin
                        },
                    );
                    let automatic_routes = side.peer_routes != Some(PeerRoutes::Written);
                    PeeringSide {
                        network,
                        up: side.up.unwrap_or(true),
                        automatic_routes,
                        accept_forwarded: side.accept_forwarded.unwrap_or(false),
                        lend_gateways: side.lend_gateways.unwrap_or(false),
                        use_gateways: side.use_gateways.unwrap_or(false),
                    }
                })
                .collect::<Vec<_>>()
                .into_iter();
            let (Some(first), Some(second), 2) = (built.next(), built.next(), sides.len()) else {
                let title = format!("a peering has two sides; this one has {}", sides.len());
                self.reading.fail(written.span, title, "in here", None);
                continue;
            };
            let peering = Peering {
                name: written.id.0.value.clone(),
                origin: *origin,
                sides: [first, second],
            };
            self.estate
                .peerings
                .fill(self.names.peerings.next(), peering);
        }
    }

    /// A subnet's table must be of the subnet's network.
    pub(super) fn tables_belong(&mut self, collected: &Collected) {
        let uses_main = collected
            .networks
            .iter()
            .map(|(_, n)| (Some(&n.id.0), n.main_table.as_ref()));
        let uses_own = collected
            .subnets
            .iter()
            .map(|(_, s)| (Some(&s.network.0), s.route_table.as_ref()));
        for (network, table) in uses_main.chain(uses_own) {
            let (Some(network), Some(table)) = (network, table) else {
                continue;
            };
            let Some(id) = self.names.route_tables.get(&table.value) else {
                continue;
            };
            if self.names.networks.get(&network.value).is_none() {
                continue;
            }
            let owner = &collected.route_tables[id.index()].1.network.0;
            if owner.value != network.value {
                self.reading.problems.push(Problem {
                    title: format!(
                        "the table `{}` belongs to the network `{}`",
                        table.value, owner.value
                    ),
                    span: table.span,
                    label: format!("used in the network `{}`", network.value),
                    related: Some((owner.span, "it belongs here".to_owned())),
                    help: None,
                });
            }
        }
    }

    pub(super) fn route(&mut self, written: &WrittenRoute, origin: Origin, table: &str) -> Route {
        let holder = written.id.as_ref().map_or_else(
            || table.to_owned(),
            |id| format!("{table}, route {}", id.value),
        );
        let items = self.entries(&written.to.0.0, origin, &holder);
        let destinations = destinations_of(items);
        let only_from = written
            .only_from
            .as_ref()
            .map(|from| destinations_of(self.entries(&from.0, origin, &holder)));
        let hop = &written.next_hop.0;
        let at = Origin {
            span: hop.span,
            ..origin
        };
        let next_hop = match &hop.value {
            WrittenHop::Local => NextHop::Local,
            WrittenHop::Blackhole => NextHop::Blackhole,
            WrittenHop::Address(address) => NextHop::Address(*address),
            WrittenHop::Named("gateway", name) => {
                let found = self.names.gateways.get(name);
                NextHop::Gateway(self.refer(found, name, "gateway", &holder, at))
            }
            WrittenHop::Named("interface", name) => {
                let found = self.names.interfaces.get(name);
                NextHop::Interface(self.refer(found, name, "interface", &holder, at))
            }
            WrittenHop::Named("firewall", name) => {
                let found = self.names.firewalls.get(name);
                NextHop::Firewall(self.refer(found, name, "firewall", &holder, at))
            }
            WrittenHop::Named("balancer", name) => {
                let found = self.names.balancers.get(name);
                NextHop::Balancer(self.refer(found, name, "balancer", &holder, at))
            }
            WrittenHop::Named("hub", name) => {
                let found = self.names.hubs.get(name);
                NextHop::Hub(self.refer(found, name, "hub", &holder, at))
            }
            WrittenHop::Named("service", name) => {
                let found = self.names.services.get(name);
                NextHop::Service(self.refer(found, name, "service", &holder, at))
            }
            WrittenHop::Named(_, name) => {
                let found = self.names.peerings.get(name);
                NextHop::Peering(self.refer(found, name, "peering", &holder, at))
            }
        };
        Route {
            id: written.id.as_ref().map(|id| id.value.clone()),
            origin,
            destinations,
            next_hop,
            metric: written.metric.unwrap_or(0),
            kind: if written.kind == Some(WrittenRouteKind::Propagated) {
                RouteKind::Propagated
            } else {
                RouteKind::Static
            },
            enabled: written.enabled.unwrap_or(true),
            only_tagged: tags_of(written.only_tagged.as_ref()),
            only_from,
        }
    }

    pub(super) fn gateway(&mut self, origin: Origin, written: &WrittenGateway) {
        let WrittenGateway {
            id,
            kind,
            network,
            attached,
            table,
            subnet,
            address,
            serves,
            public,
            site,
            up,
            ..
        } = written;
        let word = match kind.0.value {
            WrittenGatewayKind::Internet => "internet",
            WrittenGatewayKind::Nat => "NAT",
            WrittenGatewayKind::OutboundOnly => "outbound-only",
            WrittenGatewayKind::Site => "site",
        };
        let given = [
            ("attached", attached.as_ref().map(|f| f.span), "internet"),
            ("table", table.as_ref().map(|f| f.span), "internet"),
            ("subnet", subnet.as_ref().map(|f| f.span), "NAT"),
            ("address", address.as_ref().map(|f| f.span), "NAT"),
            ("serves", serves.as_ref().map(|f| f.span), "NAT"),
            ("up", up.as_ref().map(|f| f.span), "site"),
            ("public", public.as_ref().map(|f| f.span), "NAT"),
            ("site", site.as_ref().map(|f| f.span), "site"),
        ];
        for (field, span, only) in given {
            if let Some(span) = span.filter(|_| only != word) {
                let title = format!("only {only} gateways have the field `{field}`");
                self.reading.fail(
                    span,
                    title,
                    format!("this is an {word} gateway")
                        .replace("an NAT", "a NAT")
                        .replace("an site", "a site"),
                    None,
                );
            }
        }
        let network = self.names.networks.need(&network.0, &mut self.reading);
        let holder = format!("gateway {}", id.0.value);
        let kind = match kind.0.value {
            WrittenGatewayKind::Internet => {
                let table = table.as_ref().map(|name| self.table(name, &holder, origin));
                Some(GatewayKind::Internet {
                    attached: attached.as_ref().is_none_or(|a| a.value),
                    table,
                })
            }
            WrittenGatewayKind::OutboundOnly => Some(GatewayKind::OutboundOnly),
            WrittenGatewayKind::Nat => match (subnet, address) {
                (Some(name), Some(address)) => {
                    let served = serves.iter().flat_map(|serves| &serves.value.0);
                    let serves = served
                        .filter_map(|name| self.names.subnets.need(name, &mut self.reading))
                        .collect();
                    if !address.value.is_ipv4() {
                        let title = "a NAT gateway translates IPv4".to_owned();
                        self.reading
                            .fail(address.span, title, "not an IPv4 address", None);
                    }
                    let subnet = self.names.subnets.need(name, &mut self.reading);
                    let public = public.as_ref().map(|public| public.value);
                    subnet.map(|subnet| GatewayKind::Nat {
                        subnet,
                        address: Some(address.value),
                        public,
                        serves,
                    })
                }
                (Some(_), None) => self.lacks(written, "address"),
                (None, _) => self.lacks(written, "subnet"),
            },
            WrittenGatewayKind::Site => match site {
                Some(name) => {
                    let up = up.as_ref().is_none_or(|up| up.value);
                    self.names
                        .sites
                        .need(name, &mut self.reading)
                        .map(|site| GatewayKind::Site { site, up })
                }
                None => self.lacks(written, "site"),
            },
        };
        let owner = self.owner(written.owner.as_ref());
        let (Some(network), Some(kind)) = (network, kind) else {
            return;
        };
        let is_internet = |kind: &GatewayKind| matches!(kind, GatewayKind::Internet { .. });
        let other = self
            .estate
            .gateways
            .items()
            .iter()
            .find(|other| other.network == network && is_internet(&other.kind));
        if let Some(other) = other.filter(|_| is_internet(&kind)) {
            self.reading.problems.push(Problem {
                title: "a network has one internet gateway".to_owned(),
                span: origin.span,
                label: "a second one".to_owned(),
                related: Some((other.origin.span, "the first".to_owned())),
                help: None,
            });
        }
        self.estate.gateways.fill(
            self.names.gateways.next(),
            Gateway {
                name: id.0.value.clone(),
                origin,
                network,
                kind,
                owner,
            },
        );
    }

    pub(super) fn lacks(&mut self, written: &WrittenGateway, field: &str) -> Option<GatewayKind> {
        let title = format!("this kind of gateway needs the field `{field}`");
        self.reading.fail(written.span, title, "in here", None);
        None
    }
}

/// The entries of a list as destinations.
pub(in crate::build) fn destinations_of(items: Vec<SetItem>) -> Vec<RouteDestination> {
    let one = |item| match item {
        SetItem::Block(block) => RouteDestination::Block(block),
        SetItem::Set(set) => RouteDestination::Set(set),
    };
    items.into_iter().map(one).collect()
}
