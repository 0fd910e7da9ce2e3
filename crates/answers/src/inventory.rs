//! What there is: networks, subnets, interfaces, addresses, gateways, filters, sets, gaps.

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
use serde::{Deserialize, Serialize};

macro_rules! rows {
    ($( $(#[doc = $about:literal])+ $name:ident { $( $(#[doc = $doc:literal])+ $field:ident : $type:ty ),* $(,)? } )*) => {
        $(
            $(#[doc = $about])+
            #[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
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
        /// What the snapshot says it lacks.
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
    /// What the snapshot says it lacks.
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

fn gateway_kind(kind: &GatewayKind) -> &'static str {
    match kind {
        GatewayKind::Internet { .. } => "internet",
        GatewayKind::Nat { .. } => "NAT",
        GatewayKind::OutboundOnly => "outbound-only",
        GatewayKind::Site { .. } => "site",
    }
}

fn gateway_detail(estate: &Estate, kind: &GatewayKind) -> String {
    match kind {
        GatewayKind::Internet { attached: true, .. } => "attached".to_owned(),
        GatewayKind::Internet {
            attached: false, ..
        } => "not attached".to_owned(),
        GatewayKind::Nat { subnet, public, .. } => {
            let seen = public.map_or_else(
                || "a private address".to_owned(),
                |public| public.to_string(),
            );
            format!("in {}, seen as {seen}", estate.subnets[*subnet].name)
        }
        GatewayKind::OutboundOnly => "IPv6".to_owned(),
        GatewayKind::Site { site, .. } => format!("to site {}", estate.sites[*site].name),
    }
}

/// What the snapshot says it lacks.
pub(super) fn gaps(estate: &Estate) -> Vec<GapRow> {
    let word = |lack: Lack| match lack {
        Lack::Everything => "everything",
        Lack::Interfaces => "its interfaces",
        Lack::OwnFirewalls => "own firewalls",
        Lack::Groups => "which groups are bound",
        Lack::Rules => "its rules",
        Lack::Routes => "its routes",
    };
    let row = |gap: &heronshale_model::estate::Gap| GapRow {
        object: gap.object.to_string(),
        lacks: word(gap.lack).to_owned(),
        reason: gap.reason.as_ref().map(ToString::to_string),
        place: estate.sources.place(&gap.origin),
    };
    estate.gaps.iter().map(row).collect()
}

/// Firewalls, balancers, services, hubs and DNS zones.
fn devices(estate: &Estate) -> Vec<DeviceRow> {
    let interfaces = |all: &mut dyn Iterator<Item = Id<Interface>>| {
        all.map(|id| estate.interfaces[id].name.to_string())
            .collect::<Vec<_>>()
            .join(", ")
    };
    let row =
        |name: &heronshale_model::estate::Name, kind: &str, detail: Vec<String>, owner, origin| {
            DeviceRow {
                name: name.to_string(),
                kind: kind.to_owned(),
                detail: detail
                    .into_iter()
                    .filter(|part| !part.is_empty())
                    .collect::<Vec<_>>()
                    .join("; "),
                owner: owner_text(estate, owner),
                place: estate.sources.place(origin),
            }
        };
    let mut rows = Vec::new();
    for item in estate.firewalls.items() {
        let policy = item
            .policy
            .as_ref()
            .map_or("no policy".to_owned(), |policy| {
                format!("policy {}", filter_name(estate, policy))
            });
        let down = item.members.len() - item.members_up().min(item.members.len());
        let members = match item.members.len() {
            0 => String::new(),
            count => format!("{count} members, {down} down"),
        };
        let legs = interfaces(&mut item.legs.iter().map(|leg| leg.interface));
        let hub = item.hub.map_or_else(String::new, |hub| {
            format!("in hub {}", estate.hubs[hub].name)
        });
        rows.push(row(
            &item.name,
            "firewall",
            vec![legs, hub, policy, members],
            item.owner,
            &item.origin,
        ));
    }
    for item in estate.balancers.items() {
        let kind = match item.kind {
            heronshale_model::estate::BalancerKind::Keeping { .. } => "keeping balancer",
            heronshale_model::estate::BalancerKind::Proxy => "proxy balancer",
        };
        let fronts: Vec<String> = item
            .front_ends
            .iter()
            .map(|front| front.address.to_string())
            .collect();
        let sick = item.back_ends.iter().filter(|end| !end.healthy).count();
        let ends = format!("{} back ends, {sick} not healthy", item.back_ends.len());
        rows.push(row(
            &item.name,
            kind,
            vec![fronts.join(", "), ends],
            item.owner,
            &item.origin,
        ));
    }
    for item in estate.services.items() {
        let door = item.public_door.as_ref().map_or_else(String::new, |door| {
            let state = if door.open { "open" } else { "shut" };
            format!("public door {} {state}", door.addresses.texts().join(", "))
        });
        let doors = interfaces(&mut item.private_doors.iter().copied());
        let private = if doors.is_empty() {
            doors
        } else {
            format!("private doors {doors}")
        };
        rows.push(row(
            &item.name,
            "service",
            vec![door, private],
            item.owner,
            &item.origin,
        ));
    }
    for item in estate.hubs.items() {
        let links = item.links.iter().map(|link| {
            let state = if link.up { "" } else { " (down)" };
            format!(
                "{}{state}",
                heronshale_audit::facts::link_text(estate, &link.to)
            )
        });
        rows.push(row(
            &item.name,
            "hub",
            vec![links.collect::<Vec<_>>().join(", ")],
            item.owner,
            &item.origin,
        ));
    }
    for item in estate.dns_zones.items() {
        let networks: Vec<String> = item
            .networks
            .iter()
            .map(|network| name_of(&estate.networks, network))
            .collect();
        let linked = if networks.is_empty() {
            "linked to nothing".to_owned()
        } else {
            format!("linked to {}", networks.join(", "))
        };
        rows.push(row(
            &item.name,
            "DNS zone",
            vec![item.apex.to_string(), linked],
            item.owner,
            &item.origin,
        ));
    }
    rows
}
