//! What an estate says about addresses, interfaces and subnets: every place where something could tell two packets apart.
//!
//! Every structure is taken apart in full here. A new field does not compile until somebody has said what it mentions.

use crate::estate::{
    BackEnd, Balancer, Domain, DomainRoute, Estate, Filter, Firewall, FirewallMatch, FirewallRoute,
    FrontEnd, Gap, Gateway, GatewayKind, Hub, Id, Interface, Link, Network, NextHop, OwnService,
    Peer, PlatformService, PlatformTraffic, PublicAddress, PublicDoor, Route, RouteDestination,
    RouteTable, Rule, Site, Subnet, Translation,
};
use heronshale_sets::address::{Addresses, Range};
use std::net::IpAddr;

/// Something that an estate mentions.
#[derive(Clone, Copy, Debug)]
pub enum Mention<'e> {
    /// A peer of which it is asked whether it holds an address.
    Peer(&'e Peer),
    /// Where a route leads to.
    Destination(&'e RouteDestination),
    /// Addresses of which it is asked whether they hold one.
    Asked(&'e Addresses),
    /// The same, one range.
    Range(&'e Range),
    /// Addresses that a device answers as a whole.
    Held(&'e Addresses),
    /// An address to which something leads, or as which something leaves.
    Single(IpAddr),
    /// An interface to which something leads by name.
    LedTo(Id<Interface>),
    /// A subnet in which a device stands, or that it serves.
    Subnet(Id<Subnet>),
}

/// Takes what is mentioned.
type Visit<'v, 'e> = &'v mut dyn FnMut(Mention<'e>);

/// Tells all that an estate mentions, in the order of the snapshot. Addresses of interfaces are no mention: they are what is told
/// apart.
pub fn mentions<'e>(estate: &'e Estate, visit: Visit<'_, 'e>) {
    let Estate {
        // Names, places, and who changes what.
        name: _,
        taken: _,
        sources: _,
        owners: _,
        remarks: _,
        // Settings are about networks as a whole, and so are divisions and peerings.
        settings: _,
        divisions: _,
        peerings: _,
        // By whom they run and how they are tagged: classes and peers say it.
        workloads: _,
        interfaces: _,
        // Subnets are told apart as such; their blocks count where a peer names them.
        subnets: _,
        // Sets count where somebody names them.
        address_sets: _,
        // Names are resolved before packets are sent.
        name_sets: _,
        dns_zones: _,
        public_names: _,
        networks,
        public_addresses,
        filters,
        route_tables,
        gateways,
        sites,
        firewalls,
        balancers,
        services,
        hubs,
        gaps,
        probes,
        platform_traffic,
    } = estate;
    networks
        .items()
        .iter()
        .for_each(|one| of_network(one, visit));
    public_addresses
        .items()
        .iter()
        .for_each(|one| of_public(one, visit));
    filters.items().iter().for_each(|one| of_filter(one, visit));
    route_tables
        .items()
        .iter()
        .for_each(|one| of_table(one, visit));
    gateways
        .items()
        .iter()
        .for_each(|one| of_gateway(one, visit));
    sites.items().iter().for_each(|one| of_site(one, visit));
    firewalls
        .items()
        .iter()
        .for_each(|one| of_firewall(one, visit));
    balancers
        .items()
        .iter()
        .for_each(|one| of_balancer(one, visit));
    services
        .items()
        .iter()
        .for_each(|one| of_service(one, visit));
    hubs.items().iter().for_each(|one| of_hub(one, visit));
    for Gap {
        blocks,
        origin: _,
        object: _,
        lack: _,
        reason: _,
    } in gaps
    {
        blocks
            .iter()
            .for_each(|blocks| visit(Mention::Asked(blocks)));
    }
    probes
        .iter()
        .for_each(|probes| visit(Mention::Asked(probes)));
    for PlatformTraffic {
        addresses,
        services: _,
    } in platform_traffic
    {
        visit(Mention::Asked(addresses));
    }
}

fn of_network<'e>(network: &'e Network, visit: Visit<'_, 'e>) {
    let Network {
        blocks,
        written_blocks,
        name: _,
        origin: _,
        division: _,
        main_table: _,
        internet_traffic: _,
        settings: _,
        owner: _,
        tags: _,
    } = network;
    written_blocks
        .iter()
        .for_each(|range| visit(Mention::Range(range)));
    visit(Mention::Asked(blocks));
}

fn of_public<'e>(public: &'e PublicAddress, visit: Visit<'_, 'e>) {
    let PublicAddress {
        address,
        interface,
        private,
        name: _,
        origin: _,
        owner: _,
    } = public;
    visit(Mention::Single(*address));
    private.iter().for_each(|own| visit(Mention::Single(*own)));
    interface.iter().for_each(|id| visit(Mention::LedTo(*id)));
}

fn of_peers<'e>(peers: impl IntoIterator<Item = &'e Peer>, visit: Visit<'_, 'e>) {
    peers
        .into_iter()
        .for_each(|peer| visit(Mention::Peer(peer)));
}

fn of_destinations<'e>(all: impl IntoIterator<Item = &'e RouteDestination>, visit: Visit<'_, 'e>) {
    all.into_iter()
        .for_each(|one| visit(Mention::Destination(one)));
}

fn of_filter<'e>(filter: &'e Filter, visit: Visit<'_, 'e>) {
    // The kind says where a filter is enforced: classes say it.
    let Filter {
        rules,
        kind: _,
        key: _,
        name: _,
        origin: _,
        owner: _,
        tags: _,
        description: _,
    } = filter;
    for rule in rules.iter().flatten() {
        let Rule {
            peers,
            except,
            local,
            firewall,
            id: _,
            origin: _,
            action: _,
            priority: _,
            services: _,
            source_ports: _,
            enabled: _,
            stateless: _,
            enforced_until: _,
            review_by: _,
            description: _,
        } = rule;
        of_peers(
            peers
                .iter()
                .flatten()
                .chain(except)
                .chain(local.iter().flatten()),
            visit,
        );
        if let Some(more) = firewall {
            let FirewallMatch {
                except_destinations,
                section: _,
                from_zones: _,
                to_zones: _,
                names: _,
                or_destinations: _,
                condition: _,
            } = &**more;
            of_peers(except_destinations, visit);
        }
    }
}

fn of_table<'e>(table: &'e RouteTable, visit: Visit<'_, 'e>) {
    let RouteTable {
        routes,
        name: _,
        origin: _,
        network: _,
        accepts_propagation: _,
        owner: _,
    } = table;
    for route in routes {
        let Route {
            destinations,
            next_hop,
            only_from,
            id: _,
            origin: _,
            metric: _,
            kind: _,
            enabled: _,
            // Who sends with which tags: such routes tell every interface apart.
            only_tagged: _,
        } = route;
        of_destinations(destinations.iter().chain(only_from.iter().flatten()), visit);
        match next_hop {
            NextHop::Interface(interface) => {
                interface
                    .found()
                    .iter()
                    .for_each(|id| visit(Mention::LedTo(*id)));
            }
            NextHop::Address(address) => visit(Mention::Single(*address)),
            NextHop::Local
            | NextHop::Blackhole
            | NextHop::Gateway(_)
            | NextHop::Peering(_)
            | NextHop::Firewall(_)
            | NextHop::Balancer(_)
            | NextHop::Hub(_)
            | NextHop::Service(_) => {}
        }
    }
}

fn of_gateway<'e>(gateway: &'e Gateway, visit: Visit<'_, 'e>) {
    let Gateway {
        kind,
        name: _,
        origin: _,
        network: _,
        owner: _,
    } = gateway;
    match kind {
        GatewayKind::Nat {
            subnet,
            address,
            public,
            serves,
        } => {
            [subnet]
                .into_iter()
                .chain(serves)
                .for_each(|subnet| visit(Mention::Subnet(*subnet)));
            address
                .iter()
                .chain(public)
                .for_each(|address| visit(Mention::Single(*address)));
        }
        GatewayKind::Internet {
            attached: _,
            table: _,
        }
        | GatewayKind::OutboundOnly
        | GatewayKind::Site { site: _, up: _ } => {}
    }
}

fn of_site<'e>(site: &'e Site, visit: Visit<'_, 'e>) {
    let Site {
        holds,
        announces,
        written_announces,
        knows,
        name: _,
        origin: _,
        resolves_as: _,
        owner: _,
    } = site;
    written_announces
        .iter()
        .for_each(|range| visit(Mention::Range(range)));
    [holds, announces]
        .into_iter()
        .chain(knows)
        .for_each(|blocks| visit(Mention::Asked(blocks)));
}

fn of_firewall<'e>(firewall: &'e Firewall, visit: Visit<'_, 'e>) {
    let Firewall {
        // The roles of interfaces say it.
        legs: _,
        addresses,
        destination_translations,
        source_translations,
        routes,
        own_services,
        name: _,
        origin: _,
        hub: _,
        policy: _,
        policy_sees: _,
        members: _,
        symmetric: _,
        owner: _,
    } = firewall;
    visit(Mention::Held(addresses));
    for translation in destination_translations.iter().chain(source_translations) {
        let Translation {
            sources,
            destinations,
            to,
            id: _,
            origin: _,
            from_zones: _,
            to_zones: _,
            services: _,
            port: _,
            enabled: _,
        } = translation;
        of_peers(
            sources
                .iter()
                .flatten()
                .chain(destinations.iter().flatten()),
            visit,
        );
        to.iter()
            .for_each(|address| visit(Mention::Single(*address)));
    }
    for FirewallRoute {
        destinations,
        interface: _,
        origin: _,
    } in routes.iter().flatten()
    {
        of_destinations(destinations, visit);
    }
    for OwnService {
        sources,
        origin: _,
        services: _,
    } in own_services.iter().flatten()
    {
        of_peers(sources.iter().flatten(), visit);
    }
}

fn of_balancer<'e>(balancer: &'e Balancer, visit: Visit<'_, 'e>) {
    let Balancer {
        subnet,
        front_ends,
        back_ends,
        // The roles of interfaces say it.
        interfaces: _,
        name: _,
        origin: _,
        network: _,
        kind: _,
        symmetric: _,
        owner: _,
    } = balancer;
    subnet
        .iter()
        .for_each(|subnet| visit(Mention::Subnet(*subnet)));
    for FrontEnd {
        address,
        private,
        origin: _,
        public: _,
        services: _,
    } in front_ends
    {
        visit(Mention::Single(*address));
        private.iter().for_each(|own| visit(Mention::Single(*own)));
    }
    for BackEnd {
        interface,
        address,
        origin: _,
        port: _,
        healthy: _,
    } in back_ends
    {
        interface.iter().for_each(|id| visit(Mention::LedTo(*id)));
        address
            .iter()
            .for_each(|address| visit(Mention::Single(*address)));
    }
}

fn of_service<'e>(service: &'e PlatformService, visit: Visit<'_, 'e>) {
    let PlatformService {
        public_door,
        // The roles of interfaces say it.
        private_doors: _,
        interfaces,
        provider_source,
        name: _,
        origin: _,
        services: _,
        balancer: _,
        owner: _,
    } = service;
    if let Some(PublicDoor {
        addresses,
        allowed,
        origin: _,
        open: _,
    }) = public_door
    {
        visit(Mention::Held(addresses));
        of_peers(allowed.iter().flatten(), visit);
    }
    interfaces.iter().for_each(|id| visit(Mention::LedTo(*id)));
    provider_source
        .iter()
        .for_each(|address| visit(Mention::Single(*address)));
}

fn of_hub<'e>(hub: &'e Hub, visit: Visit<'_, 'e>) {
    let Hub {
        domains,
        links,
        name: _,
        origin: _,
        owner: _,
    } = hub;
    for Domain {
        routes,
        name: _,
        origin: _,
    } in domains
    {
        for DomainRoute {
            destinations,
            hop: _,
            origin: _,
            metric: _,
            enabled: _,
        } in routes
        {
            of_destinations(destinations, visit);
        }
    }
    for link in links {
        let Link {
            subnet,
            announces,
            name: _,
            origin: _,
            to: _,
            up: _,
            reads: _,
            announces_into: _,
            offers_default: _,
            steer_internet: _,
            steer_private: _,
        } = link;
        subnet
            .iter()
            .for_each(|subnet| visit(Mention::Subnet(*subnet)));
        announces
            .iter()
            .flatten()
            .for_each(|range| visit(Mention::Range(range)));
    }
}
