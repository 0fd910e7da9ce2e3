//! The question of one connection: from where, to what, with which traffic (`docs/semantics.md` 8).

mod entrances;
mod target;

pub use entrances::{Entrance, Entrances, destinations_of, entrances};
pub use target::{Target, Tuple};

use crate::fabric::Fabric;
use crate::walk::{Answered, Asked, Judged, Start, Tell, Verdict, walk};
use heronshale_model::ends::{End, EndError};
use heronshale_model::estate::{Id, Interface, Name, Network, PlatformService, Service};
use heronshale_model::names::{Resolution, plain_name, resolve};
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, service};
use std::net::IpAddr;

/// What is to be reached, as it was written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Goal {
    /// Something of the estate, an address, or the internet.
    End(End),
    /// A DNS name.
    Name(Name),
}

/// A TCP port as a service.
pub fn tcp(port: u16) -> Service {
    let port = u128::from(port);
    Service {
        protocol: Some(service::TCP),
        low: Some(Intervals::span(port, port)),
        except: Vec::new(),
    }
}

/// A connection that is asked about, whatever the estate.
#[derive(Clone, Debug)]
pub struct Connection {
    /// Where it starts.
    pub from: End,
    /// Where it goes.
    pub to: Goal,
    /// Which services; empty for all.
    pub services: Vec<Service>,
    /// The client's port, if it is one.
    pub source_port: Option<u16>,
}

/// A question that can be walked, and how its ends were understood.
#[derive(Clone, Debug)]
pub struct Question {
    /// What was asked for.
    pub connection: Connection,
    /// What is walked; its packets are empty if the name does not resolve, or the families do not meet.
    pub asked: Asked,
    /// The sources.
    pub sources: Addresses,
    /// The destinations.
    pub destinations: Addresses,
    /// How the name was resolved, if one was asked.
    pub resolution: Option<Resolution>,
    /// Of a service the ways into it, of which one suffices; none else.
    pub entrances: Entrances,
}

impl Question {
    /// The zone that is missing from the snapshot and may resolve the asked name otherwise, if there is one.
    pub fn missing_zone(&self) -> Option<&str> {
        let resolution = self.resolution.as_ref()?;
        resolution.missing.as_deref()
    }
}

/// Walks a question. A name's verdict is nature's over its addresses, of which each is a part. Of a service each start and port fares as at the best of its entrances.
pub fn answered(view: &Fabric<'_>, question: &Question, tell: Tell) -> Answered {
    let mut answered = walk(view, &question.asked, tell);
    if question.asked.any_of.len() > 1 {
        // The verdict is nature's over the addresses of the name; each address is told by itself.
        let each = Asked {
            any_of: Vec::new(),
            ..question.asked.clone()
        };
        let summary = answered.summary;
        answered = Answered {
            summary,
            ..walk(view, &each, tell)
        };
    }
    if question.entrances.0.len() > 1 {
        answered.summary = at_the_best(question, &answered);
    }
    if question.missing_zone().is_some() {
        answered.summary.verdict = Verdict::Unknown;
        for part in &mut answered.parts {
            part.judged.verdict = Verdict::Unknown;
        }
    }
    answered
}

/// The verdict on a service: for each start and port that of the best entrance, or the first one's failure.
fn at_the_best(question: &Question, answered: &Answered) -> Judged {
    let of = |wanted: &[Verdict]| {
        let parts = answered
            .parts
            .iter()
            .filter(|part| wanted.contains(&part.judged.verdict));
        PacketSet::union_all(parts.map(|part| part.packets.clone())).to_anywhere()
    };
    let example = |verdict: Verdict| {
        let parts = answered
            .parts
            .iter()
            .filter(|part| part.judged.verdict == verdict);
        parts
            .min_by_key(|part| part.packets.lowest())
            .map(|part| part.judged.clone())
    };
    let asked = question.asked.packets.to_anywhere();
    let (works, some) = (of(&[Verdict::Works]), of(&[Verdict::WorksForSome]));
    if !asked.is_empty() && asked.is_subset(&works) {
        return example(Verdict::Works).unwrap_or_else(|| answered.summary.clone());
    }
    if let Some(found) = example(Verdict::WorksForSome)
        .filter(|_| !some.is_empty())
        .or_else(|| example(Verdict::Works))
    {
        return Judged {
            verdict: Verdict::WorksForSome,
            ..found
        };
    }
    // What may work counts before what turns on a condition.
    let conditional = of(&[Verdict::Conditional]);
    let is_there = |verdict| !of(&[verdict]).difference(&conditional).is_empty();
    let open = [Verdict::Undecided, Verdict::Unknown]
        .into_iter()
        .find(|verdict| is_there(*verdict));
    let open = open.unwrap_or(Verdict::Conditional);
    example(open).unwrap_or_else(|| {
        let at = |addresses: &Addresses| {
            let here = answered
                .parts
                .iter()
                .filter(|part| part.packets.destinations().overlaps(addresses));
            here.min_by_key(|part| part.packets.between(None, Some(addresses)).lowest())
        };
        let first = question
            .entrances
            .0
            .iter()
            .find_map(|entrance| at(&entrance.addresses));
        first.map_or_else(|| answered.summary.clone(), |part| part.judged.clone())
    })
}

/// Where packets start, and from which addresses: of interfaces the primary ones.
fn start_of(view: &Fabric<'_>, from: &End) -> Result<(Start, Addresses), EndError> {
    let estate = view.estate;
    let none = |what: String| EndError {
        what,
        candidates: Vec::new(),
        ambiguous: false,
    };
    match from {
        End::Internet => return Ok((Start::Internet, view.internet_end())),
        End::Site(site) => return Ok((Start::Site(*site), estate.sites[*site].holds.clone())),
        End::Any => {
            return Err(none(
                "`any` is not a place to start from: name an interface, a site or the internet"
                    .to_owned(),
            ));
        }
        End::Block(block) => {
            let wanted: Addresses = [block.range].into_iter().collect();
            let holders = from.interfaces(view);
            if holders.is_empty() {
                let site = estate
                    .sites
                    .iter()
                    .find(|(_, site)| wanted.is_subset(&site.holds));
                if let Some((site, _)) = site {
                    return Ok((Start::Site(site), wanted));
                }
                if wanted.is_subset(&view.internet_end()) {
                    return Ok((Start::Internet, wanted));
                }
                return Err(none(format!(
                    "nothing in the snapshot holds {}",
                    block.range
                )));
            }
            let single = block.range.first == block.range.last;
            let networks: Vec<Id<Network>> =
                holders.iter().map(|id| estate.network_of(*id)).collect();
            if single && holders.len() > 1 && networks.iter().any(|network| *network != networks[0])
            {
                return Err(EndError {
                    what: format!("several networks use {}", block.range),
                    candidates: holders
                        .iter()
                        .map(|id| format!("interface:{}", estate.interfaces[*id].name))
                        .collect(),
                    ambiguous: true,
                });
            }
            let own = holders
                .iter()
                .flat_map(|id| estate.interfaces[*id].addresses.ranges())
                .collect::<Addresses>();
            let mapped = estate
                .public_addresses
                .items()
                .iter()
                .filter(|public| wanted.contains(public.address));
            let mapped: Addresses = mapped.filter_map(|public| public.private).collect();
            return Ok((
                Start::Interfaces(holders),
                own.intersection(&wanted).union(&mapped),
            ));
        }
        _ => {}
    }
    let interfaces = from.interfaces(view);
    if interfaces.is_empty() {
        return Err(none(
            "no interface is meant, so nothing can start there".to_owned(),
        ));
    }
    let sources = primaries(view, &interfaces);
    Ok((Start::Interfaces(interfaces), sources))
}

/// The first address of each family of some interfaces.
pub fn primaries(view: &Fabric<'_>, interfaces: &[Id<Interface>]) -> Addresses {
    let all = interfaces.iter().flat_map(|id| {
        Family::BOTH
            .into_iter()
            .filter_map(|family| view.estate.interfaces[*id].primary(family))
    });
    all.collect()
}

/// The network from which names are asked.
pub fn asking_network(view: &Fabric<'_>, start: &Start) -> Option<Id<Network>> {
    match start {
        Start::Interfaces(all) => all.first().map(|id| view.estate.network_of(*id)),
        Start::Site(site) => view.estate.sites[*site].resolves_as,
        Start::Internet => None,
    }
}

/// The ports from which a client there connects.
pub fn client_ports(view: &Fabric<'_>, start: &Start, destinations: &Addresses) -> Intervals {
    let estate = view.estate;
    match start {
        Start::Interfaces(all) => {
            let mut networks: Vec<Id<Network>> =
                all.iter().map(|id| estate.network_of(*id)).collect();
            networks.sort_unstable();
            networks.dedup();
            networks.iter().fold(Intervals::empty(), |sum, id| {
                sum.union(&view.settings(*id).client_ports)
            })
        }
        Start::Site(_) => view.settings(None).client_ports.clone(),
        Start::Internet => {
            // The conduct of the network that is asked, if that is one.
            let held = |public: &&heronshale_model::estate::PublicAddress| {
                destinations.contains(public.address)
            };
            let asked = estate
                .public_addresses
                .items()
                .iter()
                .filter(held)
                .filter_map(|public| public.interface);
            let mut networks: Vec<Id<Network>> = asked.map(|id| estate.network_of(id)).collect();
            networks.extend(
                estate
                    .networks
                    .iter()
                    .filter(|(_, n)| n.blocks.overlaps(destinations))
                    .map(|(id, _)| id),
            );
            networks.sort_unstable();
            networks.dedup();
            let one = if let [one] = networks.as_slice() {
                Some(*one)
            } else {
                None
            };
            view.settings(one).client_ports.clone()
        }
    }
}

/// Makes a question of its ends and its traffic. No services: all.
///
/// # Errors
/// If nothing starts there, or an address belongs to several networks.
pub fn question(view: &Fabric<'_>, connection: &Connection) -> Result<Question, EndError> {
    let Connection {
        from,
        to,
        services,
        source_port,
    } = connection;
    let (start, sources) = start_of(view, from)?;
    let network = asking_network(view, &start);
    let (destinations, name, resolution) = match to {
        Goal::End(end) => (destinations_of(view, end, &start, network), None, None),
        Goal::Name(name) => {
            let found = resolve(view, network, name);
            (
                found.addresses.iter().copied().collect(),
                Some(name.clone()),
                Some(found),
            )
        }
    };
    let ports = match source_port {
        Some(port) => Intervals::span(u128::from(*port), u128::from(*port)),
        None => client_ports(view, &start, &destinations),
    };
    let mut packets = crate::sweep::sent(&sources, &destinations, services, &ports);
    let entrances = match to {
        Goal::End(End::Service(id)) => entrances(view, *id, &start),
        _ => Entrances::default(),
    };
    if !entrances.0.is_empty() {
        packets = packets.intersection(&entrances.packets());
    }
    let any_of = resolution
        .as_ref()
        .map_or_else(Vec::new, |found| found.addresses.clone());
    let asked = Asked {
        start,
        packets,
        name,
        any_of,
    };
    Ok(Question {
        connection: connection.clone(),
        asked,
        sources,
        destinations,
        resolution,
        entrances,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pasted_connection_is_read_in_the_orders_of_logs() {
        let expected = ("10.64.0.7", "10.65.0.9", Some(40_000_u16), "tcp 443");
        for text in [
            "tcp 10.64.0.7:40000 → 10.65.0.9:443",
            "10.64.0.7:40000 -> 10.65.0.9:443 TCP",
            "10.64.0.7,40000,10.65.0.9,443,tcp",
            "10.64.0.7 10.65.0.9 40000 443 6",
            "6 10.64.0.7 40000 10.65.0.9 443",
        ] {
            let read = Tuple::parse(text).unwrap();
            let service = service::texts(Family::V4, &read.service.numbers(Family::V4)).join(", ");
            let found = (
                read.source.to_string(),
                read.destination.to_string(),
                read.source_port,
                service,
            );
            assert_eq!(
                found,
                (
                    expected.0.into(),
                    expected.1.into(),
                    expected.2,
                    expected.3.into()
                ),
                "{text}"
            );
        }
        let six = Tuple::parse("udp [2001:db8::1]:53000 [2001:db8::2]:53").unwrap();
        assert_eq!(
            (six.source_port, six.source.is_ipv6()),
            (Some(53_000), true)
        );
        assert_eq!(
            Tuple::parse("icmp 10.64.0.7 10.65.0.9")
                .unwrap()
                .service
                .protocol,
            Some(1)
        );
        for text in [
            "tcp 10.64.0.7:1",
            "10.64.0.7 10.65.0.9",
            "tcp 10.64.0.7 2001:db8::1",
            "web 10.64.0.7 10.65.0.9",
        ] {
            assert_eq!(Tuple::parse(text), None, "{text}");
        }
    }
}
