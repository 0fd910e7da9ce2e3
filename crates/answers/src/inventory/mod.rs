//! What there is: networks, subnets, interfaces, addresses, gateways, filters, sets, gaps.

mod devices;

pub(super) use devices::gaps;
use devices::{devices, gateway_detail, gateway_kind};

use super::{Size, network_name, size};
use heronshale_audit::describe::{filter_name, name_of, owner_text, scope_text};
use heronshale_audit::facts::{InterfaceFact, interface_fact};
use heronshale_engine::binding::Bindings;
use heronshale_engine::fabric::Fabric;
use heronshale_model::estate::{
    Estate, GatewayKind, Id, Interface, Lack, NextHop, Reference, SetItem, Subnet,
};
use heronshale_model::source::Place;
use rustc_hash::FxHashSet;
use serde::Serialize;

macro_rules! rows {
    ($( $(#[doc = $about:literal])+ $name:ident { $( $(#[doc = $doc:literal])+ $field:ident : $type:ty ),* $(,)? } )*) => {
        $(
            $(#[doc = $about])+
            #[derive(Clone, Debug, PartialEq, Eq, Serialize)]
            #[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
            #[serde(deny_unknown_fields)]
            pub struct $name { $( $(#[doc = $doc])+ pub $field: $type, )* }
        )*
    };
}

rows! {
    /// What there is.
    Inventory {
        /// Networks, interfaces, rules.
        size: Size,
        /// The networks with their subnets and interfaces.
        networks: Vec<NetworkRow>,
        /// Public addresses.
        public_addresses: Vec<PublicRow>,
        /// Gateways.
        gateways: Vec<GatewayRow>,
        /// Peerings.
        peerings: Vec<PeeringRow>,
        /// On-premises sites.
        sites: Vec<SiteRow>,
        /// Firewalls, balancers, platform services, hubs, DNS zones.
        devices: Vec<DeviceRow>,
        /// Route tables.
        route_tables: Vec<TableRow>,
        /// Security groups, ACLs, policies, own firewalls.
        filters: Vec<FilterRow>,
        /// Address sets.
        address_sets: Vec<SetRow>,
        /// What the snapshot declares as missing.
        gaps: Vec<GapRow>,
    }
    /// A virtual network.
    NetworkRow {
        /// Its name.
        name: String,
        /// Its address blocks.
        blocks: Vec<String>,
        /// The divisions around it, outermost first.
        divisions: Vec<String>,
        /// Who changes it.
        owner: Option<String>,
        /// Its subnets.
        subnets: Vec<SubnetRow>,
        /// Where it stands.
        place: Place,
    }
    /// A part of a network.
    SubnetRow {
        /// Its name.
        name: String,
        /// Its address blocks.
        blocks: Vec<String>,
        /// Its ACL.
        acl: Option<String>,
        /// Groups enforced at each of its interfaces.
        groups: Vec<String>,
        /// Its route table, or the network's main one.
        route_table: Option<String>,
        /// Its interfaces.
        interfaces: Vec<InterfaceRow>,
        /// Where it stands.
        place: Place,
    }
    /// An interface with what is bound to it.
    InterfaceRow {
        /// Who and where.
        interface: InterfaceFact,
        /// Its groups.
        groups: Vec<String>,
        /// Its own firewall.
        own_firewall: Option<String>,
        /// Its tags and its workload's, as `key=value`.
        tags: Vec<String>,
    }
    /// A public address.
    PublicRow {
        /// The address.
        address: String,
        /// The interface that holds it.
        interface: Option<String>,
        /// The interface's own address that it stands for.
        own: Option<String>,
        /// Where it stands.
        place: Place,
    }
    /// A gateway.
    GatewayRow {
        /// Its name.
        name: String,
        /// `internet`, `NAT`, `outbound-only`, `site`.
        kind: String,
        /// Its network.
        network: String,
        /// Attached or not, its subnet, its public address, its site.
        detail: String,
        /// How many routes lead to it.
        routes: usize,
        /// NAT gateways: the subnets that it serves without a route.
        serves: Vec<String>,
        /// Where it stands.
        place: Place,
    }
    /// Two networks, joined.
    PeeringRow {
        /// Its name.
        name: String,
        /// The networks.
        networks: Vec<String>,
        /// Whether it is up on both sides.
        up: bool,
        /// Where it stands.
        place: Place,
    }
    /// A firewall, balancer, platform service, hub or DNS zone.
    DeviceRow {
        /// Its name.
        name: String,
        /// `firewall`, `keeping balancer`, `proxy balancer`, `service`, `hub`, `DNS zone`.
        kind: String,
        /// What it is made of, in words.
        detail: String,
        /// Who changes it.
        owner: Option<String>,
        /// Where it stands.
        place: Place,
    }
    /// A place on the premises.
    SiteRow {
        /// Its name.
        name: String,
        /// The addresses that are there.
        holds: Vec<String>,
        /// Where it stands.
        place: Place,
    }
    /// A route table.
    TableRow {
        /// Its name.
        name: String,
        /// Its network.
        network: String,
        /// How many routes it has.
        routes: usize,
        /// The subnets that use it.
        subnets: Vec<String>,
        /// Whether it is its network's main table.
        main: bool,
        /// Where it stands.
        place: Place,
    }
    /// A filter.
    FilterRow {
        /// Its kind and name.
        name: String,
        /// `union`, `ordered`, or where a policy is bound.
        form: String,
        /// Inbound rules.
        inbound: usize,
        /// Outbound rules.
        outbound: usize,
        /// On how many interfaces it acts.
        acts_on: usize,
        /// Of a firewall policy: on how many firewalls it acts.
        firewalls: usize,
        /// Who changes it.
        owner: Option<String>,
        /// Where it stands.
        place: Place,
    }
    /// An address set.
    SetRow {
        /// Its name.
        name: String,
        /// How many entries are written in it; none if the platform keeps that to itself.
        entries: Option<usize>,
        /// Names of the sets in it.
        nested: Vec<String>,
        /// Where it stands.
        place: Place,
    }
    /// What the snapshot declares as missing.
    GapRow {
        /// Kind and name of the object.
        object: String,
        /// Which part of it.
        lacks: String,
        /// Why.
        reason: Option<String>,
        /// Where it stands.
        place: Place,
    }
}

/// What there is, of all or of what some interfaces belong to.
pub fn inventory(view: &Fabric<'_>, only: Option<&[Id<Interface>]>) -> Inventory {
    let estate = view.estate;
    let bindings = Bindings::new(view);
    // What stands in each subnet, and which subnets each network has.
    let mut standing: Vec<Vec<Id<Interface>>> = vec![Vec::new(); estate.subnets.len()];
    let asked: Option<FxHashSet<Id<Interface>>> = only.map(|only| only.iter().copied().collect());
    for (id, interface) in estate.interfaces.iter() {
        if asked.as_ref().is_none_or(|asked| asked.contains(&id)) {
            standing[interface.subnet.index()].push(id);
        }
    }
    let mut subnets: Vec<Vec<Id<Subnet>>> = vec![Vec::new(); estate.networks.len()];
    for (id, subnet) in estate.subnets.iter() {
        subnets[subnet.network.index()].push(id);
    }
    let networks = estate
        .networks
        .ids()
        .map(|id| network_row(view, id, only, &subnets[id.index()], &standing));
    Inventory {
        size: size(estate),
        networks: networks
            .filter(|network| only.is_none() || !network.subnets.is_empty())
            .collect(),
        public_addresses: estate
            .public_addresses
            .items()
            .iter()
            .map(|public| PublicRow {
                address: public.name.to_string(),
                interface: public
                    .interface
                    .map(|id| estate.interfaces[id].name.to_string()),
                own: public
                    .private
                    .filter(|_| public.interface.is_some())
                    .map(|own| own.to_string()),
                place: estate.sources.place(&public.origin),
            })
            .collect(),
        gateways: estate
            .gateways
            .iter()
            .map(|(id, gateway)| GatewayRow {
                name: gateway.name.to_string(),
                kind: gateway_kind(&gateway.kind).to_owned(),
                network: network_name(estate, gateway.network),
                detail: gateway_detail(estate, &gateway.kind),
                routes: estate
                    .route_tables
                    .items()
                    .iter()
                    .flat_map(|table| &table.routes)
                    .filter(|route| route.next_hop == NextHop::Gateway(Reference::Found(id)))
                    .count(),
                serves: match &gateway.kind {
                    GatewayKind::Nat { serves, .. } => serves
                        .iter()
                        .map(|subnet| estate.subnets[*subnet].name.to_string())
                        .collect(),
                    _ => Vec::new(),
                },
                place: estate.sources.place(&gateway.origin),
            })
            .collect(),
        devices: devices(estate),
        peerings: estate
            .peerings
            .items()
            .iter()
            .map(|peering| PeeringRow {
                name: peering.name.to_string(),
                networks: peering
                    .sides
                    .iter()
                    .map(|side| name_of(&estate.networks, &side.network))
                    .collect(),
                up: peering.is_up(),
                place: estate.sources.place(&peering.origin),
            })
            .collect(),
        sites: estate
            .sites
            .items()
            .iter()
            .map(|site| SiteRow {
                name: site.name.to_string(),
                holds: site.holds.texts(),
                place: estate.sources.place(&site.origin),
            })
            .collect(),
        route_tables: estate
            .route_tables
            .iter()
            .map(|(id, table)| TableRow {
                name: table.name.to_string(),
                network: network_name(estate, table.network),
                routes: table.routes.len(),
                subnets: estate
                    .subnets
                    .iter()
                    .filter(|(subnet, _)| {
                        heronshale_engine::route::table_of(view, *subnet).and_then(Reference::found)
                            == Some(id)
                    })
                    .map(|(_, subnet)| subnet.name.to_string())
                    .collect(),
                main: estate.networks[table.network]
                    .main_table
                    .as_ref()
                    .and_then(Reference::found)
                    == Some(id),
                place: estate.sources.place(&table.origin),
            })
            .collect(),
        filters: estate
            .filters
            .iter()
            .map(|(id, filter)| FilterRow {
                name: heronshale_audit::describe::filter_text(estate, id),
                form: scope_text(estate, filter).unwrap_or_else(|| {
                    if filter.is_union() {
                        "union".to_owned()
                    } else {
                        "ordered".to_owned()
                    }
                }),
                inbound: filter.rules[0].len(),
                outbound: filter.rules[1].len(),
                acts_on: bindings.interfaces(id).len(),
                firewalls: heronshale_engine::binding::firewalls_with(estate, id).len(),
                owner: owner_text(estate, filter.owner),
                place: estate.sources.place(&filter.origin),
            })
            .collect(),
        address_sets: estate
            .address_sets
            .items()
            .iter()
            .map(|set| SetRow {
                name: set.name.to_string(),
                entries: set.content.as_ref().map(Vec::len),
                nested: set
                    .content
                    .iter()
                    .flatten()
                    .filter_map(|item| match item {
                        SetItem::Set(inner) => Some(name_of(&estate.address_sets, inner)),
                        SetItem::Block(_) => None,
                    })
                    .collect(),
                place: estate.sources.place(&set.origin),
            })
            .collect(),
        gaps: gaps(estate),
    }
}

fn network_row(
    view: &Fabric<'_>,
    id: Id<heronshale_model::estate::Network>,
    only: Option<&[Id<Interface>]>,
    subnets: &[Id<Subnet>],
    standing: &[Vec<Id<Interface>>],
) -> NetworkRow {
    let estate = view.estate;
    let network = &estate.networks[id];
    let subnets = subnets.iter().map(|subnet| {
        let item = &estate.subnets[*subnet];
        SubnetRow {
            name: item.name.to_string(),
            blocks: item.blocks.texts(),
            acl: item.acl.as_ref().map(|acl| filter_name(estate, acl)),
            groups: item
                .groups
                .iter()
                .map(|group| filter_name(estate, group))
                .collect(),
            route_table: heronshale_engine::route::table_of(view, *subnet)
                .map(|table| name_of(&estate.route_tables, table)),
            interfaces: standing[subnet.index()]
                .iter()
                .map(|id| interface_row(view, *id))
                .collect(),
            place: estate.sources.place(&item.origin),
        }
    });
    NetworkRow {
        name: network.name.to_string(),
        blocks: network.blocks.texts(),
        divisions: view
            .divisions_of(id)
            .into_iter()
            .map(|division| estate.divisions[division].name.to_string())
            .collect(),
        owner: owner_text(estate, network.owner),
        subnets: subnets
            .filter(|subnet| only.is_none() || !subnet.interfaces.is_empty())
            .collect(),
        place: estate.sources.place(&network.origin),
    }
}

fn interface_row(view: &Fabric<'_>, id: Id<Interface>) -> InterfaceRow {
    let estate = view.estate;
    let item = &estate.interfaces[id];
    let workload = item
        .workload
        .map(|workload| &estate.workloads[workload].tags);
    let mut tags: Vec<String> = item
        .tags
        .iter()
        .chain(workload.into_iter().flatten())
        .map(|(key, value)| format!("{key}={value}"))
        .collect();
    tags.sort_unstable();
    tags.dedup();
    InterfaceRow {
        interface: interface_fact(view, id),
        groups: item
            .groups
            .iter()
            .map(|group| filter_name(estate, group))
            .collect(),
        own_firewall: estate
            .own_firewall(id)
            .map(|firewall| filter_name(estate, firewall)),
        tags,
    }
}
