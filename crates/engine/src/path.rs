//! The question of one connection: from where, to what, with which traffic (`docs/semantics.md` 8).

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

/// A goal with the traffic that its notation says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Target {
    /// What is to be reached.
    pub goal: Goal,
    /// The service, if the notation says one: `https://host`, `host:8443`.
    pub service: Option<Service>,
}

/// A connection as it was pasted: a 5-tuple.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Tuple {
    /// Source address.
    pub source: IpAddr,
    /// Destination address.
    pub destination: IpAddr,
    /// Source port, for protocols that have ports.
    pub source_port: Option<u16>,
    /// What is asked: protocol and port.
    pub service: Service,
}

/// Ports of URL schemes: IANA "Uniform Resource Identifier Schemes" and "Service Name and Port Number" registries.
const SCHEMES: [(&str, u16); 10] = [
    ("http", 80),
    ("https", 443),
    ("ssh", 22),
    ("ftp", 21),
    ("ldap", 389),
    ("ldaps", 636),
    ("imap", 143),
    ("imaps", 993),
    ("sip", 5060),
    ("sips", 5061),
];

/// A TCP port as a service.
pub fn tcp(port: u16) -> Service {
    let port = u128::from(port);
    Service {
        protocol: Some(service::TCP),
        low: Some(Intervals::span(port, port)),
        except: Vec::new(),
    }
}

fn looks_like_a_name(text: &str) -> bool {
    let label = |label: &str| {
        !label.is_empty()
            && label
                .chars()
                .all(|c| c.is_alphanumeric() || c == '-' || c == '_')
    };
    let labels: Vec<&str> = text.trim_end_matches('.').split('.').collect();
    labels.len() > 1
        && labels.iter().all(|one| label(one))
        && labels
            .last()
            .is_some_and(|last| last.chars().any(char::is_alphabetic))
}

impl Target {
    /// Reads what is to be reached: an end, a URL, `host:port`, `[address]:port`, or a DNS name.
    ///
    /// # Errors
    /// If nothing bears the name, or several things do; the candidates are told.
    pub fn parse(view: &Fabric<'_>, text: &str) -> Result<Self, EndError> {
        let text = text.trim();
        if let Some((scheme, rest)) = text.split_once("://") {
            let known = SCHEMES
                .iter()
                .find(|(name, _)| name.eq_ignore_ascii_case(scheme));
            let authority = rest.split(['/', '?', '#']).next().unwrap_or(rest);
            let host = authority.rsplit('@').next().unwrap_or(authority);
            let inner = Self::host(view, host)?;
            return match (inner.service, known) {
                (Some(given), _) => Ok(Self {
                    goal: inner.goal,
                    service: Some(given),
                }),
                (None, Some((_, port))) => Ok(Self {
                    goal: inner.goal,
                    service: Some(tcp(*port)),
                }),
                (None, None) => Err(EndError {
                    what: format!("the port of `{scheme}` is not known here"),
                    candidates: vec![format!("{scheme}://{host}:PORT")],
                    ambiguous: true,
                }),
            };
        }
        Self::host(view, text)
    }

    fn host(view: &Fabric<'_>, text: &str) -> Result<Self, EndError> {
        let plain = |goal| {
            Ok(Self {
                goal,
                service: None,
            })
        };
        let first = match End::parse(view, text) {
            Ok(end) => return plain(Goal::End(end)),
            Err(error) => error,
        };
        if let Some(name) = text.strip_prefix("name:") {
            return plain(Goal::Name(plain_name(name)));
        }
        if let Some((host, port)) = text.rsplit_once(':')
            && let Ok(port) = port.parse::<u16>()
        {
            let host = host
                .strip_prefix('[')
                .and_then(|host| host.strip_suffix(']'))
                .unwrap_or(host);
            let inner = Self::host(view, host)?;
            return Ok(Self {
                goal: inner.goal,
                service: Some(tcp(port)),
            });
        }
        if let Some(host) = text
            .strip_prefix('[')
            .and_then(|host| host.strip_suffix(']'))
        {
            return Self::host(view, host);
        }
        if looks_like_a_name(text) && !first.ambiguous {
            return plain(Goal::Name(plain_name(text)));
        }
        Err(first)
    }
}

impl Tuple {
    /// Reads a pasted 5-tuple: two addresses, their ports, a protocol, in the orders in which logs write them:
    /// `tcp 10.64.0.7:40000 → 10.65.0.9:443`, `10.64.0.7,40000,10.65.0.9,443,tcp`, `10.64.0.7 10.65.0.9 40000 443 6`.
    pub fn parse(text: &str) -> Option<Self> {
        let text = text
            .replace("->", " ")
            .replace(['→', '>', ',', ';', '|'], " ");
        let mut addresses: Vec<(IpAddr, Option<u16>)> = Vec::new();
        let mut numbers: Vec<u16> = Vec::new();
        let mut protocol = None;
        for (at, word) in text.split_whitespace().enumerate() {
            if let Ok(address) = word.parse::<IpAddr>() {
                addresses.push((address, None));
            } else if let Ok(socket) = word.parse::<std::net::SocketAddr>() {
                addresses.push((socket.ip(), Some(socket.port())));
            } else if let Ok(number) = word.parse::<u16>() {
                if at == 0 {
                    protocol = u8::try_from(number).ok();
                } else {
                    numbers.push(number);
                }
            } else {
                protocol = Some(service::protocol_named(word)?);
            }
        }
        let [(source, source_port), (destination, port)] = addresses.as_slice() else {
            return None;
        };
        let attached = source_port.is_some() || port.is_some();
        if protocol.is_none() && (numbers.len() == 3 || (attached && numbers.len() == 1)) {
            protocol = numbers.pop().and_then(|number| u8::try_from(number).ok());
        }
        let (mut source_port, mut port) = (*source_port, *port);
        if !attached && let [first, second] = numbers.as_slice() {
            (source_port, port) = (Some(*first), Some(*second));
        } else if !numbers.is_empty() {
            return None;
        }
        if source.is_ipv4() != destination.is_ipv4() {
            return None;
        }
        let protocol = protocol?;
        let low = port.filter(|_| service::has_ports(protocol));
        let low = low.map(|port| Intervals::span(u128::from(port), u128::from(port)));
        Some(Self {
            source: *source,
            destination: *destination,
            source_port: source_port.filter(|_| service::has_ports(protocol)),
            service: Service {
                protocol: Some(protocol),
                low,
                except: Vec::new(),
            },
        })
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
                "`any` is no place to start from: name an interface, a site or the internet"
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

/// The ways into a service, one of which suffices: private doors, the public door, interfaces of its own, the balancer behind its
/// doors; from the internet the public door first.
#[derive(Clone, Debug, Default)]
pub struct Entrances(pub Vec<Entrance>);

/// One way into a service.
#[derive(Clone, Debug)]
pub struct Entrance {
    /// What it is called.
    pub name: String,
    /// Its addresses.
    pub addresses: Addresses,
    /// The services that are asked of it; empty for all.
    services: Vec<Service>,
}

impl Entrances {
    /// The addresses of all of them.
    pub fn addresses(&self) -> Addresses {
        self.0
            .iter()
            .fold(Addresses::empty(), |sum, one| sum.union(&one.addresses))
    }

    /// What may be asked of them: interfaces of its own are asked on the service's ports.
    pub fn packets(&self) -> PacketSet {
        let all = Addresses::all();
        let every = Intervals::span(0, u128::from(u16::MAX));
        let of = |one: &Entrance| {
            let numbers = |family| crate::sweep::numbers_of(&one.services, family);
            PacketSet::fields(&all, &one.addresses, numbers, &every, ())
        };
        PacketSet::union_all(self.0.iter().map(of))
    }
}

/// The ways into a service, as they are tried from a start.
pub fn entrances(view: &Fabric<'_>, id: Id<PlatformService>, start: &Start) -> Entrances {
    let estate = view.estate;
    let item = &estate.services[id];
    let held = |interface: &Id<Interface>| estate.interfaces[*interface].addresses.clone();
    let doors = item.private_doors.iter().map(|door| Entrance {
        name: format!("private door {}", estate.interfaces[*door].name),
        addresses: held(door),
        services: Vec::new(),
    });
    let public = item.public_door.iter().map(|door| Entrance {
        name: "public door".to_owned(),
        addresses: door.addresses.clone(),
        services: Vec::new(),
    });
    let own = item.interfaces.iter().map(|interface| Entrance {
        name: format!("interface {}", estate.interfaces[*interface].name),
        addresses: primaries(view, &[*interface]),
        services: item.services.clone(),
    });
    let behind = item.balancer.iter().map(|id| Entrance {
        name: format!("balancer {}", estate.balancers[*id].name),
        addresses: estate.balancers[*id]
            .front_ends
            .iter()
            .map(|front| front.address)
            .collect(),
        services: Vec::new(),
    });
    let from_outside = *start == Start::Internet;
    let (mut first, mut second): (Vec<Entrance>, Vec<Entrance>) =
        (doors.collect(), public.collect());
    if from_outside {
        std::mem::swap(&mut first, &mut second);
    }
    let mut all: Vec<Entrance> = first
        .into_iter()
        .chain(second)
        .chain(own)
        .chain(behind)
        .collect();
    all.retain(|one| !one.addresses.is_empty());
    Entrances(all)
}

/// The addresses of a goal, as seen from a start.
pub fn destinations_of(
    view: &Fabric<'_>,
    to: &End,
    start: &Start,
    _from: Option<Id<Network>>,
) -> Addresses {
    let estate = view.estate;
    match to {
        End::Internet | End::Any | End::Block(_) | End::Site(_) | End::Set(_) => to.addresses(view),
        End::Balancer(balancer) => {
            let fronts = &estate.balancers[*balancer].front_ends;
            let outside = *start == Start::Internet;
            let fitting: Addresses = fronts
                .iter()
                .filter(|front| front.public == outside)
                .map(|front| front.address)
                .collect();
            if fitting.is_empty() {
                fronts.iter().map(|front| front.address).collect()
            } else {
                fitting
            }
        }
        End::Service(id) => entrances(view, *id, start).addresses(),
        _ => {
            let interfaces = to.interfaces(view);
            if interfaces.is_empty() {
                return to.addresses(view);
            }
            let own = primaries(view, &interfaces);
            if *start != Start::Internet {
                return own;
            }
            let mapped = estate.public_addresses.items().iter();
            let mapped =
                mapped.filter(|public| public.interface.is_some_and(|id| interfaces.contains(&id)));
            let public: Addresses = mapped.map(|public| public.address).collect();
            let global = heronshale_sets::address::internet_at_large()
                .intersection(&Addresses::of_family(Family::V6));
            let reached = public.union(&own.intersection(&global));
            if reached.is_empty() { own } else { reached }
        }
    }
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
