//! Which packets: a product of fields, as rules of packet filters write them.

use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;
use std::collections::BTreeSet;

/// The interfaces of a machine by number: none of its interfaces (packets of its own have no incoming one), those that are known by
/// name, and any other.
#[derive(Clone, Debug, Default)]
pub(crate) struct Devices {
    names: Vec<String>,
    /// Whether the machine has no others.
    complete: bool,
}

/// The number that stands for no interface at all.
const NO_DEVICE: u128 = 0;

impl Devices {
    pub fn new(names: impl IntoIterator<Item = String>) -> Self {
        let names: BTreeSet<String> = names.into_iter().collect();
        Self {
            names: names.into_iter().collect(),
            complete: false,
        }
    }

    /// The same, of a machine of which every interface is known.
    pub fn complete(self, complete: bool) -> Self {
        Self { complete, ..self }
    }

    pub fn names(&self) -> &[String] {
        &self.names
    }

    /// No interface.
    pub fn none() -> Intervals {
        Intervals::span(NO_DEVICE, NO_DEVICE)
    }

    /// Every known interface, and any other.
    pub fn any() -> Intervals {
        Intervals::span(1, u128::from(u32::MAX))
    }

    /// One interface; one that is not known by name is any other.
    pub fn one(&self, name: Option<&str>) -> Intervals {
        let at = name.and_then(|name| self.names.iter().position(|known| known == name));
        let number = at.unwrap_or(self.names.len()) as u128 + 1;
        if at.is_some() {
            Intervals::span(number, number)
        } else {
            Intervals::span(number, u128::from(u32::MAX))
        }
    }

    /// Interfaces by a name that may end in a star. An interface whose name is not known may have such a name.
    pub fn matching(&self, pattern: &str) -> Matching {
        let Some(start) = pattern.strip_suffix('*') else {
            // Every name without a star that stands anywhere is known: any other interface bears another.
            let known = self.names.iter().any(|name| name == pattern);
            let found = if known {
                self.one(Some(pattern))
            } else {
                Intervals::empty()
            };
            return Matching {
                surely: found.clone(),
                perhaps: found,
            };
        };
        let named = self.names.iter().filter(|name| name.starts_with(start));
        let surely = named.fold(Intervals::empty(), |sum, name| {
            sum.union(&self.one(Some(name)))
        });
        let perhaps = if self.complete {
            surely.clone()
        } else {
            surely.union(&self.one(None))
        };
        Matching { surely, perhaps }
    }

    /// The names of interfaces by their numbers; none where all are meant.
    pub fn named(&self, numbers: &Intervals) -> Option<Vec<String>> {
        if Self::any().is_subset(numbers) {
            return None;
        }
        let named = self
            .names
            .iter()
            .filter(|name| self.one(Some(name)).overlaps(numbers));
        Some(named.cloned().collect())
    }
}

/// Interfaces that a pattern matches.
pub(crate) struct Matching {
    pub surely: Intervals,
    pub perhaps: Intervals,
}

/// A set of packets: those that lie in each of the fields. Addresses give the family.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Condition {
    pub source: Addresses,
    pub destination: Addresses,
    /// Protocols with destination ports or ICMP types and codes, of both families, as codes of [`service`].
    pub services: Intervals,
    /// Of protocols with ports.
    pub source_ports: Intervals,
    /// The interface by which they come.
    pub from: Intervals,
    /// The interface by which they go.
    pub to: Intervals,
    /// What else has to hold, and is not known: then only some of these packets are meant, or all, or none.
    pub unknown: BTreeSet<String>,
}

/// Every port.
pub(crate) fn all_ports() -> Intervals {
    Intervals::span(0, u128::from(u16::MAX))
}

/// Every service of both families.
pub(crate) fn all_services() -> Intervals {
    everywhere(&[])
}

/// Every service but some.
fn everywhere(but: &[&Intervals]) -> Intervals {
    but.iter().fold(
        Intervals::span(0, u128::from(service::LAST)),
        |all, less| all.difference(less),
    )
}

impl Condition {
    /// Every packet, by whatever interface.
    pub fn all() -> Self {
        Self {
            source: Addresses::all(),
            destination: Addresses::all(),
            services: all_services(),
            source_ports: all_ports(),
            from: Devices::any().union(&Devices::none()),
            to: Devices::any().union(&Devices::none()),
            unknown: BTreeSet::new(),
        }
    }

    /// Packets of one family.
    pub fn of_family(family: Family) -> Self {
        let addresses = Addresses::of_family(family);
        Self {
            source: addresses.clone(),
            destination: addresses,
            services: service::all(family),
            ..Self::all()
        }
    }

    /// Packets of these services.
    pub fn of_services(services: Intervals) -> Self {
        Self {
            services,
            ..Self::all()
        }
    }

    /// Some packets, nobody knows which.
    pub fn unknown(why: impl Into<String>) -> Self {
        Self {
            unknown: [why.into()].into(),
            ..Self::all()
        }
    }

    pub fn is_empty(&self) -> bool {
        let families = [Family::V4, Family::V6];
        let lives = |family| {
            !self.source.of(family).is_empty()
                && !self.destination.of(family).is_empty()
                && self.services.overlaps(&service::all(family))
        };
        self.source_ports.is_empty()
            || self.from.is_empty()
            || self.to.is_empty()
            || !families.into_iter().any(lives)
    }

    pub fn and(&self, other: &Self) -> Self {
        let services = self.services.intersection(&other.services);
        if services.is_empty() {
            return Self {
                services,
                ..Self::default()
            };
        }
        Self {
            source: self.source.intersection(&other.source),
            destination: self.destination.intersection(&other.destination),
            services,
            source_ports: self.source_ports.intersection(&other.source_ports),
            from: self.from.intersection(&other.from),
            to: self.to.intersection(&other.to),
            unknown: self.unknown.union(&other.unknown).cloned().collect(),
        }
    }

    /// Whether it surely holds all that the other may hold.
    pub fn covers(&self, other: &Self) -> bool {
        self.unknown.is_empty()
            && other.source.is_subset(&self.source)
            && other.destination.is_subset(&self.destination)
            && other.services.is_subset(&self.services)
            && other.source_ports.is_subset(&self.source_ports)
            && other.from.is_subset(&self.from)
            && other.to.is_subset(&self.to)
    }

    /// What is outside of it, as products; of one that is not known for sure everything may be.
    pub fn complement(&self) -> Vec<Self> {
        if !self.unknown.is_empty() {
            return vec![Self {
                unknown: self.unknown.clone(),
                ..Self::all()
            }];
        }
        let all = Self::all();
        let ports = Self {
            services: service::all_with_ports(),
            source_ports: all_ports().difference(&self.source_ports),
            ..Self::all()
        };
        let pieces = [
            Self {
                source: Addresses::all().difference(&self.source),
                ..Self::all()
            },
            Self {
                destination: Addresses::all().difference(&self.destination),
                ..Self::all()
            },
            Self {
                services: all_services().difference(&self.services),
                ..Self::all()
            },
            ports,
            Self {
                from: all.from.difference(&self.from),
                ..Self::all()
            },
            Self {
                to: all.to.difference(&self.to),
                ..Self::all()
            },
        ];
        pieces
            .into_iter()
            .filter(|piece| !piece.is_empty())
            .collect()
    }

    /// The requests whose replies lie in it: ends swapped, ports swapped, the ICMP type that is answered by the one here.
    pub fn asked_by(&self) -> Vec<Self> {
        let turned = Self {
            source: self.destination.clone(),
            destination: self.source.clone(),
            from: self.to.clone(),
            to: self.from.clone(),
            ..self.clone()
        };
        let mut found = Vec::new();
        // Protocols without ports or types answer with themselves.
        let plain = everywhere(&[
            &service::all_with_ports(),
            &service::whole(service::ICMP),
            &service::whole(service::ICMPV6),
        ]);
        let echoes = PAIRS.iter().filter(|(protocol, _, answer)| {
            self.services.contains(u128::from(service::code(
                *protocol,
                u16::from(*answer) << 8,
            )))
        });
        let echoes = echoes.fold(Intervals::empty(), |sum, (protocol, asked, _)| {
            let first = u128::from(service::code(*protocol, u16::from(*asked) << 8));
            sum.union(&Intervals::span(first, first + 255))
        });
        let rest = self.services.intersection(&plain).union(&echoes);
        found.push(Self {
            services: rest,
            source_ports: all_ports(),
            ..turned.clone()
        });
        // With ports: the reply's destination port is the port from which was asked.
        let mut asked: Vec<(Intervals, Intervals)> = Vec::new();
        for protocol in service::WITH_PORTS {
            let base = u128::from(service::code(protocol, 0));
            let own = self.services.intersection(&service::whole(protocol));
            let from = Intervals::from_spans(
                own.spans()
                    .iter()
                    .map(|(first, last)| (first - base, last - base)),
            );
            let to = Intervals::from_spans(
                self.source_ports
                    .spans()
                    .iter()
                    .map(|(first, last)| (base + first, base + last)),
            );
            match asked.iter_mut().find(|(ports, _)| *ports == from) {
                Some((_, services)) => *services = services.union(&to),
                None => asked.push((from, to)),
            }
        }
        found.extend(asked.into_iter().map(|(source_ports, services)| Self {
            services,
            source_ports,
            ..turned.clone()
        }));
        found.retain(|one| !one.is_empty());
        found
    }
}

/// ICMP types that are answered: protocol, asked, answer.
const PAIRS: [(u8, u8, u8); 5] = [
    (service::ICMP, 8, 0),
    (service::ICMP, 13, 14),
    (service::ICMP, 15, 16),
    (service::ICMP, 17, 18),
    (service::ICMPV6, 128, 129),
];

/// ICMP that nothing answers.
pub(crate) fn one_way() -> Condition {
    let all = service::whole(service::ICMP).union(&service::whole(service::ICMPV6));
    let answered = PAIRS
        .iter()
        .fold(Intervals::empty(), |sum, (protocol, asked, _)| {
            let first = u128::from(service::code(*protocol, u16::from(*asked) << 8));
            sum.union(&Intervals::span(first, first + 255))
        });
    Condition::of_services(all.difference(&answered))
}

fn icmp_types(protocol: u8, kinds: &[u8]) -> Intervals {
    let base = u128::from(service::code(protocol, 0));
    Intervals::from_spans(
        kinds
            .iter()
            .map(|kind| u128::from(*kind) * 256 + base)
            .map(|first| (first, first + 255)),
    )
}

/// ICMP that conntrack does not track: neighbours and group members.
pub(crate) fn untracked() -> Condition {
    Condition::of_services(icmp_types(
        service::ICMPV6,
        &[130, 131, 132, 133, 134, 135, 136, 143],
    ))
}

/// Packets that may be the first of a connection: all but ICMP that asks nothing.
pub(crate) fn tracked() -> Condition {
    let asks = icmp_types(service::ICMP, &[8, 13, 15, 17])
        .union(&icmp_types(service::ICMPV6, &[128, 139]));
    let other = everywhere(&[
        &service::whole(service::ICMP),
        &service::whole(service::ICMPV6),
    ]);
    Condition::of_services(other.union(&asks))
}

/// ICMP that is not a question and belongs to no connection: invalid to conntrack.
pub(crate) fn invalid() -> Condition {
    Condition::of_services(
        all_services()
            .difference(&tracked().services)
            .difference(&untracked().services),
    )
}

/// Without a second one: as products that lie apart from it.
pub(crate) fn minus(all: Vec<Condition>, less: &Condition) -> Vec<Condition> {
    let outside = less.complement();
    let pieces = all
        .iter()
        .flat_map(|one| outside.iter().map(|piece| one.and(piece)));
    pieces.filter(|piece| !piece.is_empty()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_reply_is_asked_by_what_it_answers() {
        let tcp = |port: u16| u128::from(service::code(service::TCP, port));
        let answer = Condition {
            services: Intervals::span(tcp(1024), tcp(65535)),
            source_ports: Intervals::span(443, 443),
            source: Addresses::single("10.64.0.1".parse().unwrap()),
            destination: Addresses::of_family(Family::V4),
            ..Condition::all()
        };
        let asked = answer.asked_by();
        assert_eq!(asked.len(), 1);
        assert_eq!(asked[0].services, Intervals::span(tcp(443), tcp(443)));
        assert_eq!(asked[0].source_ports, Intervals::span(1024, 65535));
        assert_eq!(
            asked[0].destination,
            Addresses::single("10.64.0.1".parse().unwrap())
        );
        let echo = Condition::of_services(service::whole(service::ICMP)).asked_by();
        assert_eq!(
            service::texts(Family::V4, &echo[0].services),
            ["icmp 8", "icmp 13", "icmp 15", "icmp 17"]
        );
    }

    #[test]
    fn what_is_left_lies_apart() {
        let ten = "10.0.0.0/8"
            .parse::<heronshale_sets::address::Block>()
            .unwrap();
        let ten = Condition {
            source: [ten.range].into_iter().collect(),
            ..Condition::all()
        };
        let left = minus(vec![Condition::all()], &ten);
        assert!(left.iter().all(|piece| piece.and(&ten).is_empty()));
        assert_eq!(minus(left, &Condition::all()), []);
        assert!(
            !minus(vec![ten.clone()], &Condition::unknown("the hour")).is_empty(),
            "it may be all of it"
        );
    }
}
