//! Repairs of names that do not resolve.

use super::*;

/// What would let a name resolve, or resolve to a private address: a zone linked to the asking network, a record in one that is.
pub(in crate::fix) fn linked_zones(
    view: &Fabric<'_>,
    network: Option<Id<Network>>,
    name: &str,
) -> Vec<Edit> {
    let estate = view.estate;
    let Some(network) = network else {
        return Vec::new();
    };
    let covers = |apex: &str| name == apex || name.ends_with(&format!(".{apex}"));
    let linked = |zone: &DnsZone| {
        zone.networks
            .iter()
            .any(|other| other.found() == Some(network))
    };
    let has_record =
        |zone: &DnsZone| !heronshale_model::names::best_records(&zone.records, name).is_empty();
    let zones = estate
        .dns_zones
        .iter()
        .filter(|(_, zone)| covers(&zone.apex) && !linked(zone) && has_record(zone));
    let mut edits = zones_linked(view, network, zones);
    // A record of the private door behind the public one, or of what the public record says.
    let public = heronshale_model::names::resolve(view, None, name).addresses;
    let doors = estate.services.items().iter().filter(|service| {
        let door = service.public_door.as_ref();
        door.is_some_and(|door| {
            public
                .iter()
                .any(|address| door.addresses.contains(*address))
        })
    });
    let doors = doors.flat_map(|service| &service.private_doors);
    let private: Vec<IpAddr> = doors
        .filter_map(|door| estate.interfaces[*door].primary(Family::V4))
        .collect();
    let addresses = if private.is_empty() { public } else { private };
    let mut own: Vec<_> = estate
        .dns_zones
        .iter()
        .filter(|(_, zone)| covers(&zone.apex) && linked(zone) && !has_record(zone))
        .collect();
    own.sort_by_key(|(_, zone)| std::cmp::Reverse(zone.apex.len()));
    if let (Some((id, zone)), Some(address)) = (own.first(), addresses.first()) {
        let (id, address, name) = (*id, *address, heronshale_model::estate::Name::from(name));
        let text = format!("add to zone {} a record {name} → {address}", zone.name);
        let origin = zone.origin;
        edits.push(Edit::new(
            EditKind::Zone,
            text,
            Some(origin),
            zone.owner,
            move |estate| {
                let data = heronshale_model::estate::RecordData::Addresses(vec![address]);
                estate
                    .dns_zones
                    .get_mut(id)
                    .records
                    .push(heronshale_model::estate::DnsRecord {
                        name: name.clone(),
                        origin,
                        data,
                    });
            },
        ));
    }
    edits
}

pub(super) fn zones_linked<'e>(
    view: &Fabric<'_>,
    network: Id<Network>,
    zones: impl Iterator<Item = (Id<DnsZone>, &'e DnsZone)>,
) -> Vec<Edit> {
    let estate = view.estate;
    zones
        .map(|(id, zone)| {
            let text = format!(
                "link zone {} to network {}",
                zone.name, estate.networks[network].name
            );
            Edit::new(
                EditKind::Zone,
                text,
                Some(zone.origin),
                zone.owner,
                move |estate| {
                    estate
                        .dns_zones
                        .get_mut(id)
                        .networks
                        .push(Reference::Found(network));
                },
            )
        })
        .collect()
}
