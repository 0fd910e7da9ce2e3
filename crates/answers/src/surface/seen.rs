//! What was seen from outside, against the snapshot.

use super::*;

/// How a port that was seen open stands in the snapshot.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Sight {
    /// Closed: the snapshot is not what runs, or something else answers.
    Closed,
    /// The estate holds no such address.
    NotHeld,
    /// That depends on something missing from the snapshot.
    Unknown,
    /// Open as well.
    Agrees,
}

impl Sight {
    /// In words.
    pub fn word(self) -> &'static str {
        match self {
            Self::Closed => "open outside, closed here",
            Self::NotHeld => "not in the estate",
            Self::Unknown => "unknown here",
            Self::Agrees => "agrees",
        }
    }
}

/// One port that was seen open.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct SeenFact {
    /// How it stands.
    pub sight: Sight,
    /// The address.
    pub address: String,
    /// Protocol and port.
    pub service: String,
    /// Who holds the address.
    pub holder: Option<String>,
    /// The line of the file.
    pub line: usize,
}

/// What is open here and was not seen.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct UnseenFact {
    /// The address.
    pub address: String,
    /// Who holds it.
    pub holder: String,
    /// Protocols with ports.
    pub services: Vec<String>,
}

/// What was seen from outside, against the snapshot.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ObservedFact {
    /// Each port that was seen, what contradicts first, then in the order of the file.
    pub seen: Vec<SeenFact>,
    /// TCP ports that are open here to the whole internet and were not seen, at addresses of which some port was seen or none.
    pub unseen: Vec<UnseenFact>,
}

/// What was seen from outside, against the snapshot.
pub fn observed(view: &Fabric<'_>, seen: &[Seen]) -> ObservedFact {
    let estate = view.estate;
    /// What is open and unknown at some addresses, and who holds them.
    struct At {
        addresses: Addresses,
        holder: String,
        open: Intervals,
        unknown: Intervals,
        to_all: Intervals,
    }
    let everywhere = |open: &PacketSet, asked: &PacketSet| {
        open.services()
            .difference(&asked.difference(open).services())
            .intersection(&service::whole(service::TCP))
    };
    let direct = direct_ways(view).into_iter().map(|way: DirectWay| {
        let public = way
            .public
            .map(|id| Addresses::single(estate.public_addresses[id].address));
        let (open, unknown) = (way.open(), way.unknown());
        let asked = PacketSet::union_all(way.parts.iter().map(|part| part.packets.clone()));
        At {
            addresses: public.unwrap_or_else(|| std::iter::once(way.own).collect()),
            holder: estate.interfaces[way.interface].name.to_string(),
            to_all: everywhere(&open.any_source_port(), &asked),
            open: open.services(),
            unknown: unknown.services(),
        }
    });
    let by_device = device_ways(view).into_iter().map(|way: DeviceWay| {
        let fact = heronshale_audit::facts::device_way_fact(
            view,
            &way,
            &heronshale_audit::expect::Spoken::default(),
        );
        let open = way.open();
        let unknown = way
            .parts
            .iter()
            .filter(|part| part.judged.verdict.is_open());
        let unknown = PacketSet::union_all(unknown.map(|part| part.packets.clone()));
        At {
            addresses: way.addresses.clone(),
            holder: format!("{} {}", fact.kind.word(), fact.name),
            to_all: everywhere(&open.any_source_port(), &way.asked()),
            open: open.services(),
            unknown: unknown.services(),
        }
    });
    let all: Vec<At> = direct.chain(by_device).collect();
    let mut facts: Vec<SeenFact> = seen
        .iter()
        .map(|one| {
            let here: Vec<&At> = all
                .iter()
                .filter(|at| at.addresses.contains(one.address))
                .collect();
            let has = |numbers: &Intervals| numbers.contains(one.service.into());
            let sight = if here.iter().any(|at| has(&at.open)) {
                Sight::Agrees
            } else if here.iter().any(|at| has(&at.unknown)) {
                Sight::Unknown
            } else if here.is_empty()
                && !estate
                    .public_addresses
                    .items()
                    .iter()
                    .any(|p| p.address == one.address)
            {
                Sight::NotHeld
            } else {
                Sight::Closed
            };
            let number = Intervals::span(one.service.into(), one.service.into());
            SeenFact {
                sight,
                address: one.address.to_string(),
                service: service::texts(Family::of(one.address), &number).join(", "),
                holder: here.first().map(|at| at.holder.clone()),
                line: one.line,
            }
        })
        .collect();
    facts.sort_by_key(|fact| (fact.sight, fact.line));
    let unseen = all.iter().filter_map(|at| {
        let known = seen.iter().filter(|one| at.addresses.contains(one.address));
        let known =
            Intervals::from_spans(known.map(|one| (one.service.into(), one.service.into())));
        let services = at.to_all.difference(&known);
        let family = if at.addresses.of(Family::V4).is_empty() {
            Family::V6
        } else {
            Family::V4
        };
        (!services.is_empty()).then(|| UnseenFact {
            address: at.addresses.texts().join(", "),
            holder: at.holder.clone(),
            services: service::texts(family, &services),
        })
    });
    ObservedFact {
        seen: facts,
        unseen: unseen.collect(),
    }
}

/// Public names that lead to addresses which nothing in the snapshot holds.
pub fn names_of_nothing(view: &Fabric<'_>) -> Vec<String> {
    let estate = view.estate;
    let mut held: Addresses = estate
        .public_addresses
        .items()
        .iter()
        .map(|public| public.address)
        .collect();
    let mut add = |more: &Addresses| held = held.union(more);
    for interface in estate.interfaces.items() {
        add(&interface.addresses);
    }
    for firewall in estate.firewalls.items() {
        add(&firewall.addresses);
    }
    for service in estate.services.items() {
        service
            .public_door
            .iter()
            .for_each(|door| add(&door.addresses));
    }
    for balancer in estate.balancers.items() {
        add(&balancer
            .front_ends
            .iter()
            .map(|front| front.address)
            .collect());
    }
    let mut found = Vec::new();
    for record in &estate.public_names {
        let RecordData::Addresses(all) = &record.data else {
            continue;
        };
        let nobody = all
            .iter()
            .filter(|address| !held.contains(**address) && view.internet_end().contains(**address));
        found.extend(nobody.map(|address| format!("{} → {address}", record.name)));
    }
    found
}
