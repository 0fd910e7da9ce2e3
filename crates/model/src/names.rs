//! From DNS names to addresses, as a network or the public sees them (`docs/semantics.md` 8).

use crate::estate::{DnsRecord, DnsZone, Id, Name, Network, RecordData};
use crate::view::View;
use std::net::IpAddr;

/// Aliases that are followed; more do not resolve.
pub const MOST_ALIASES: usize = 10;

/// What answered for a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Answerer {
    /// A private zone.
    Zone(Id<DnsZone>),
    /// The public.
    Public,
}

/// One step of a resolution.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Lookup {
    /// The name that was asked.
    pub name: Name,
    /// Who answered.
    pub by: Answerer,
    /// The record, if there is one.
    pub record: Option<DnsRecordRef>,
}

/// A record that answered.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DnsRecordRef {
    /// Where it was written.
    pub origin: crate::source::Origin,
    /// What it says.
    pub data: RecordData,
}

/// What a name stands for.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Resolution {
    /// Every step.
    pub lookups: Vec<Lookup>,
    /// The addresses; none if it does not resolve.
    pub addresses: Vec<IpAddr>,
    /// A zone that is missing from the snapshot and may answer otherwise: kind and name (`docs/semantics.md` 9).
    pub missing: Option<Name>,
}

/// A DNS name as the snapshot keeps it: lower case, no dot at its end.
pub fn plain_name(text: &str) -> Name {
    text.trim().trim_end_matches('.').to_lowercase().into()
}

/// Resolves a name, asked from a network, or from outside of all.
pub fn resolve(view: &View<'_>, from: Option<Id<Network>>, name: &str) -> Resolution {
    // A missing zone may be linked to any network, and be nearer to any name.
    let mut zones = from
        .is_some()
        .then(|| view.lacking("zone"))
        .into_iter()
        .flatten();
    let mut found = Resolution {
        missing: zones.next().map(|gap| gap.object.clone()),
        ..Resolution::default()
    };
    let mut asked = plain_name(name);
    for _ in 0..=MOST_ALIASES {
        let (by, records) = answers(view, from, &asked);
        let mut alias = None;
        if records.is_empty() {
            found.lookups.push(Lookup {
                name: asked,
                by,
                record: None,
            });
            return found;
        }
        for record in records {
            match &record.data {
                RecordData::Addresses(addresses) => found.addresses.extend(addresses),
                RecordData::Alias(other) => alias = Some(other.clone()),
            }
            let record = Some(DnsRecordRef {
                origin: record.origin,
                data: record.data.clone(),
            });
            found.lookups.push(Lookup {
                name: asked.clone(),
                by,
                record,
            });
        }
        match alias {
            Some(alias) if found.addresses.is_empty() => asked = alias,
            _ => return found,
        }
    }
    found
}

/// Who answers for a name, and with which records.
fn answers<'e>(
    view: &View<'e>,
    from: Option<Id<Network>>,
    name: &str,
) -> (Answerer, Vec<&'e DnsRecord>) {
    let estate = view.estate;
    let linked = |zone: &DnsZone| {
        from.is_some_and(|from| zone.networks.iter().any(|n| n.found() == Some(from)))
    };
    let covers = |zone: &DnsZone| *name == *zone.apex || name.ends_with(&format!(".{}", zone.apex));
    let zones = estate
        .dns_zones
        .iter()
        .filter(|(_, zone)| linked(zone) && covers(zone));
    // Of several with the same name the first.
    let best = zones.rev().max_by_key(|(_, zone)| zone.apex.len());
    if let Some((id, zone)) = best {
        let records = best_records(&zone.records, name);
        let falls_through = zone
            .fall_through
            .unwrap_or(view.settings(from).fall_through);
        if !records.is_empty() || !falls_through {
            return (Answerer::Zone(id), records);
        }
    }
    (Answerer::Public, best_records(&estate.public_names, name))
}

/// The records of a name: exact ones, else those of the longest wildcard.
pub fn best_records<'r>(records: &'r [DnsRecord], name: &str) -> Vec<&'r DnsRecord> {
    let exact: Vec<&DnsRecord> = records
        .iter()
        .filter(|record| *record.name == *name)
        .collect();
    if !exact.is_empty() {
        return exact;
    }
    let fits = |record: &&DnsRecord| record.name.starts_with("*.") && name_fits(&record.name, name);
    let longest = records
        .iter()
        .filter(fits)
        .map(|record| record.name.len())
        .max();
    records
        .iter()
        .filter(fits)
        .filter(|record| Some(record.name.len()) == longest)
        .collect()
}

/// Whether a pattern of a name set holds a name; both in lower case. `*.x` is any depth below x, and not x.
pub fn name_fits(pattern: &str, name: &str) -> bool {
    match pattern.strip_prefix("*.") {
        None => pattern == name,
        Some(apex) => name
            .strip_suffix(apex)
            .is_some_and(|front| front.ends_with('.') && front.len() > 1),
    }
}
