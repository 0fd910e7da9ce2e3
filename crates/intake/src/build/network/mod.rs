//! Networks, subnets, workloads, interfaces, public addresses, sets, sites, routes and gateways.

mod routing;

pub(super) use routing::destinations_of;

use super::{Builder, resolve_settings};
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
            self.estate
                .networks
                .fill(self.names.networks.next(), network);
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
            let network = network.unwrap_or(Id::placeholder());
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
            self.estate.subnets.fill(self.names.subnets.next(), subnet);
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
            self.estate
                .workloads
                .fill(self.names.workloads.next(), workload);
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
                        "the interface `{}` already has another own firewall",
                        name.value
                    );
                    let help = "an interface has one own firewall: remove one of them".to_owned();
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
                    format!("`{host}/{length}`: an interface has addresses or whole prefixes");
                let help = format!(
                    "write {host}, or {} if it has all of that",
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
            subnet: subnet.unwrap_or(Id::placeholder()),
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
        self.estate
            .interfaces
            .fill(self.names.interfaces.next(), interface);
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
                    "the interface `{}` has no address that {address} could map to",
                    holder.value
                );
                let help = format!("it holds {}", all.texts().join(", "));
                self.reading
                    .fail(place, title, "not an address of the interface", Some(help));
            }
        }
        let owner = self.owner(written.owner.as_ref());
        self.estate.public_addresses.fill(
            self.public_ids.id(),
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
            self.estate.address_sets.fill(
                self.names.address_sets.next(),
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
            self.estate.sites.fill(
                self.names.sites.next(),
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
}
