//! Rows of devices and what is missing from the snapshot.

use super::*;

/// What the snapshot declares as missing.
pub(crate) fn gaps(estate: &Estate) -> Vec<GapRow> {
    let word = |lack: Lack| match lack {
        Lack::Everything => "everything",
        Lack::Interfaces => "its interfaces",
        Lack::OwnFirewalls => "own firewalls",
        Lack::Groups => "group bindings",
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
pub(super) fn devices(estate: &Estate) -> Vec<DeviceRow> {
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
        let ends = format!("{} back ends, {sick} unhealthy", item.back_ends.len());
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
            "not linked".to_owned()
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

pub(super) fn gateway_kind(kind: &GatewayKind) -> &'static str {
    match kind {
        GatewayKind::Internet { .. } => "internet",
        GatewayKind::Nat { .. } => "NAT",
        GatewayKind::OutboundOnly => "outbound-only",
        GatewayKind::Site { .. } => "site",
    }
}

pub(super) fn gateway_detail(estate: &Estate, kind: &GatewayKind) -> String {
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
