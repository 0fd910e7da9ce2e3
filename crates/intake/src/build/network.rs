//! Networks, subnets, workloads, interfaces, public addresses, sets, sites, routes and gateways.

use super::{Builder, add, resolve_settings};
use crate::reading::Spanned;
use crate::sections::Collected;
use crate::values::{PeerRoutes, WrittenGatewayKind, WrittenHop, WrittenRouteKind};
use crate::written::{
    WrittenGateway, WrittenInterface, WrittenNetwork, WrittenPublicAddress, WrittenRoute,
};
use heronshale_model::estate::{
    AddressSet, Gateway, GatewayKind, Id, Interface, Name, Network, NextHop, Peering, PeeringSide,
    PublicAddress, Reference, Route, RouteDestination, RouteKind, RouteTable, SetItem, Site,
    Subnet, Tags, Workload,
};
use heronshale_model::source::{Origin, Problem, Within};
use heronshale_sets::address::{Addresses, Family, address_of};
use std::net::IpAddr;

/// The entries of a list as destinations.
pub(super) fn destinations_of(items: Vec<SetItem>) -> Vec<RouteDestination> {
    let one = |item| match item {
        SetItem::Block(block) => RouteDestination::Block(block),
        SetItem::Set(set) => RouteDestination::Set(set),
    };
    items.into_iter().map(one).collect()
}

pub(super) fn tags_of(tags: Option<&crate::reading::TagMap>) -> Tags {
    tags.map(|tags| tags.0.clone()).unwrap_or_default()
}

impl Builder {
    pub(super) fn networks(&mut self, collected: &Collected) {
        for (origin, written) in &collected.networks {
            let WrittenNetwork {
                id,
                blocks,
                division,
                main_table,
                internet_traffic,
                settings,
                ..
            } = written;
            let holder = format!("network {}", id.0.value);
            let conduct = written
                .conduct
                .as_ref()
                .and_then(|name| self.names.conducts.need(name, &mut self.reading));
            let shared = conduct.map(|id: Id<()>| &collected.conducts[id.index()].1.settings.0);
            let layers = self.estate_settings.clone();
            let division = division
                .as_ref()
                .and_then(|name| self.names.divisions.need(name, &mut self.reading));
            let network = Network {
                name: id.0.value.clone(),
                origin: *origin,
                blocks: self.blocks(blocks, *origin, &holder),
                written_blocks: blocks.0.iter().map(|block| block.value.range).collect(),
                division,
                main_table: main_table
                    .as_ref()
                    .map(|name| self.table(name, &holder, *origin)),
                internet_traffic: internet_traffic.unwrap_or_default(),
                settings: resolve_settings(layers.iter().chain(shared).chain(settings.as_ref())),
                owner: self.owner(written.owner.as_ref()),
                tags: tags_of(written.tags.as_ref()),
            };
            add(&mut self.estate.networks, network);
        }
    }

    fn table(
        &mut self,
        name: &Spanned<Name>,
        holder: &str,
        origin: Origin,
    ) -> Reference<RouteTable> {
        let found = self.names.route_tables.get(&name.value);
        self.refer(
            found,
            &name.value,
            "table",
            holder,
            Origin {
                span: name.span,
                ..origin
            },
        )
    }

    fn own_firewall(
        &mut self,
        name: &Spanned<Name>,
        holder: &str,
        origin: Origin,
    ) -> Reference<heronshale_model::estate::Filter> {
        let found = self.names.own_firewalls.get(&name.value);
        self.refer(
            found,
            &name.value,
            "own-firewall",
            holder,
            Origin {
                span: name.span,
                ..origin
            },
        )
    }

    pub(super) fn places(&mut self, collected: &Collected) {
        for (origin, written) in &collected.subnets {
            let holder = format!("subnet {}", written.id.0.value);
            let network = self
                .names
                .networks
                .need(&written.network.0, &mut self.reading);
            let blocks = self.blocks(&written.blocks, *origin, &holder);
            let acl = written.acl.as_ref().map(|name| {
                let found = self.names.acls.get(&name.value);
                self.refer(
                    found,
                    &name.value,
                    "acl",
                    &holder,
                    Origin {
                        span: name.span,
                        ..*origin
                    },
                )
            });
            let groups = self.groups_at(&written.groups.0, collected, &holder, *origin);
            let route_table = written
                .route_table
                .as_ref()
                .map(|name| self.table(name, &holder, *origin));
            let owner = self.owner(written.owner.as_ref());
            let (name, tags) = (written.id.0.value.clone(), tags_of(written.tags.as_ref()));
            let internet_traffic = written.internet_traffic.unwrap_or_default();
            let network = network.unwrap_or(Id::new(0));
            let subnet = Subnet {
                name,
                origin: *origin,
                network,
                blocks,
                acl,
                groups,
                route_table,
                internet_traffic,
                default_outbound: written.default_outbound.unwrap_or(false),
                filter_private_doors: written.filter_private_doors,
                needs: written.needs,
                owner,
                tags,
            };
            add(&mut self.estate.subnets, subnet);
        }
        for (origin, written) in &collected.workloads {
            let holder = format!("workload {}", written.id.0.value);
            let workload = Workload {
                name: written.id.0.value.clone(),
                origin: *origin,
                service_identity: written.service_identity.clone(),
                own_firewall: written
                    .own_firewall
                    .as_ref()
                    .map(|name| self.own_firewall(name, &holder, *origin)),
                owner: self.owner(written.owner.as_ref()),
                tags: tags_of(written.tags.as_ref()),
            };
            add(&mut self.estate.workloads, workload);
        }
        for (origin, written) in &collected.interfaces {
            self.interface(collected, *origin, written);
        }
        self.own_firewalls_that_name_interfaces(collected);
        for (origin, written) in &collected.public_addresses {
            self.public_address(collected, *origin, written);
        }
    }

    /// An own firewall may say itself where it stands, so that it can be a file of its own.
    fn own_firewalls_that_name_interfaces(&mut self, collected: &Collected) {
        for (origin, written) in &collected.own_firewalls {
            for name in &written.interfaces.0 {
                let Some(interface) = self.names.interfaces.need(name, &mut self.reading) else {
                    continue;
                };
                let holder = format!("interface {}", name.value);
                let id = Spanned {
                    span: name.span,
                    value: written.id.0.value.clone(),
                };
                let bound = self.own_firewall(&id, &holder, *origin);
                let own = &mut self.estate.interfaces.get_mut(interface).own_firewall;
                if own.as_ref().is_some_and(|other| *other != bound) {
                    let title = format!(
                        "the interface `{}` has another own firewall already",
                        name.value
                    );
                    let help =
                        "an interface has one own firewall: take it out there, or here".to_owned();
                    self.reading
                        .fail(name.span, title, "a second one", Some(help));
                } else {
                    *own = Some(bound);
                }
            }
        }
    }

    fn interface(&mut self, collected: &Collected, origin: Origin, written: &WrittenInterface) {
        let holder = format!("interface {}", written.id.0.value);
        for block in &written.addresses.0 {
            if let (Some(host), Some(length)) = (block.value.host, block.value.length) {
                let title =
                    format!("`{host}/{length}`: an interface holds addresses or whole prefixes");
                let help = format!(
                    "write {host}, or {} if it holds all of that",
                    block.value.range
                );
                self.reading.fail(block.span, title, "neither", Some(help));
            }
        }
        let blocks: Vec<_> = written
            .addresses
            .0
            .iter()
            .map(|block| block.value)
            .collect();
        let subnet = self
            .names
            .subnets
            .need(&written.subnet.0, &mut self.reading);
        let workload = written
            .workload
            .as_ref()
            .and_then(|name| self.names.workloads.need(name, &mut self.reading));
        let interface = Interface {
            name: written.id.0.value.clone(),
            origin,
            subnet: subnet.unwrap_or(Id::new(0)),
            addresses: blocks.iter().map(|block| block.range).collect(),
            written_addresses: blocks,
            groups: self.groups_at(&written.groups.0, collected, &holder, origin),
            workload,
            service_identity: written.service_identity.clone(),
            own_firewall: written
                .own_firewall
                .as_ref()
                .map(|name| self.own_firewall(name, &holder, origin)),
            forwards: written.forwards.unwrap_or(false),
            unfiltered: written.unfiltered.unwrap_or(false),
            owner: self.owner(written.owner.as_ref()),
            tags: tags_of(written.tags.as_ref()),
        };
        add(&mut self.estate.interfaces, interface);
    }

    fn public_address(
        &mut self,
        collected: &Collected,
        origin: Origin,
        written: &WrittenPublicAddress,
    ) {
        let address = written.address.0.value;
        let name: Name = address.to_string().into();
        if let Some(earlier) = self.estate.public_addresses.find(&name) {
            self.reading.problems.push(Problem {
                title: format!("the public address {name} is described twice"),
                span: written.address.0.span,
                label: "a second time".to_owned(),
                related: Some((
                    self.estate.public_addresses[earlier].origin.span,
                    "first here".to_owned(),
                )),
                help: None,
            });
            return;
        }
        let interface = written
            .interface
            .as_ref()
            .and_then(|name| self.names.interfaces.need(name, &mut self.reading));
        let held = interface.map(|id| &collected.interfaces[id.index()].1.addresses.0);
        let primary = held.and_then(|held| {
            let first = held
                .iter()
                .find(|block| block.value.range.family == Family::of(address))?;
            Some(address_of(
                first.value.range.family,
                first.value.range.first,
            ))
        });
        let private = written
            .private
            .as_ref()
            .map(|private| private.value)
            .or(primary);
        let place = written
            .private
            .as_ref()
            .map_or(written.address.0.span, |private| private.span);
        if let (Some(held), Some(holder)) = (held, &written.interface) {
            let all: Addresses = held.iter().map(|block| block.value.range).collect();
            if !private.is_some_and(|private: IpAddr| {
                all.contains(private) && private.is_ipv4() == address.is_ipv4()
            }) {
                let title = format!(
                    "the interface `{}` holds no such address for {address} to stand for",
                    holder.value
                );
                let help = format!("it holds {}", all.texts().join(", "));
                self.reading
                    .fail(place, title, "not an address of the interface", Some(help));
            }
        }
        let owner = self.owner(written.owner.as_ref());
        add(
            &mut self.estate.public_addresses,
            PublicAddress {
                name,
                origin,
                address,
                interface,
                private,
                owner,
            },
        );
    }

    pub(super) fn sets_and_sites(&mut self, collected: &Collected) {
        for (origin, written) in &collected.address_sets {
            let holder = format!("set {}", written.id.0.value);
            let content = written
                .content
                .0
                .0
                .as_ref()
                .map(|entries| self.entries(entries, *origin, &holder));
            let owner = self.owner(written.owner.as_ref());
            add(
                &mut self.estate.address_sets,
                AddressSet {
                    name: written.id.0.value.clone(),
                    origin: *origin,
                    content,
                    owner,
                },
            );
        }
        for (origin, written) in &collected.sites {
            let holder = format!("site {}", written.id.0.value);
            let holds = self.blocks(&written.holds, *origin, &holder);
            let announces = written
                .announces
                .as_ref()
                .map(|blocks| self.blocks(blocks, *origin, &holder));
            let owner = self.owner(written.owner.as_ref());
            let announces = announces.unwrap_or_else(|| holds.clone());
            let written_announces = written.announces.as_ref().unwrap_or(&written.holds);
            let written_announces = written_announces
                .0
                .iter()
                .map(|block| block.value.range)
                .collect();
            let knows = written
                .knows
                .as_ref()
                .map(|blocks| self.blocks(blocks, *origin, &holder));
            let resolves_as = written.resolves_as.as_ref();
            let resolves_as =
                resolves_as.and_then(|name| self.names.networks.need(name, &mut self.reading));
            let name = written.id.0.value.clone();
            add(
                &mut self.estate.sites,
                Site {
                    name,
                    origin: *origin,
                    holds,
                    announces,
                    written_announces,
                    knows,
                    resolves_as,
                    owner,
                },
            );
        }
    }

    pub(super) fn routes(&mut self, collected: &Collected) {
        for (origin, written) in &collected.route_tables {
            let network = self
                .names
                .networks
                .need(&written.network.0, &mut self.reading)
                .unwrap_or(Id::new(0));
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
            add(
                &mut self.estate.route_tables,
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
                let title = format!("a peering has two sides, this one has {}", sides.len());
                self.reading.fail(written.span, title, "in here", None);
                continue;
            };
            let peering = Peering {
                name: written.id.0.value.clone(),
                origin: *origin,
                sides: [first, second],
            };
            add(&mut self.estate.peerings, peering);
        }
    }

    /// A subnet's table must be of the subnet's network.
    fn tables_belong(&mut self, collected: &Collected) {
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

    fn route(&mut self, written: &WrittenRoute, origin: Origin, table: &str) -> Route {
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

    fn gateway(&mut self, origin: Origin, written: &WrittenGateway) {
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
        add(
            &mut self.estate.gateways,
            Gateway {
                name: id.0.value.clone(),
                origin,
                network,
                kind,
                owner,
            },
        );
    }

    fn lacks(&mut self, written: &WrittenGateway, field: &str) -> Option<GatewayKind> {
        let title = format!("this kind of gateway needs the field `{field}`");
        self.reading.fail(written.span, title, "in here", None);
        None
    }
}
