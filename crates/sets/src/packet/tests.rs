//! Packet sets against brute force: every pair of sets over eight cells, and listings over random sets.

use super::{Packet, PacketMap, PacketSet, Product, entries, service};
use crate::address::{Addresses, Family};
use crate::intervals::Intervals;
use num_bigint::BigUint;

fn ports(first: u16, last: u16) -> Intervals {
    Intervals::span(u128::from(first), u128::from(last))
}

/// Cuts the whole space of one family in eight cells: a source half, a destination half, a half of services or source ports.
fn cells(family: Family, third: usize) -> Vec<PacketSet> {
    let last = crate::address::last_of(family);
    let halves = [
        Intervals::span(0, last / 2),
        Intervals::span(last / 2 + 1, last),
    ];
    let tcp80 = Intervals::span(
        u128::from(service::code(6, 80)),
        u128::from(service::code(6, 80)),
    );
    let every = ports(0, u16::MAX);
    let mut cells = Vec::new();
    for source in &halves {
        for destination in &halves {
            let pick = |upper: bool| {
                let s = Addresses::from_intervals(family, source.clone());
                let d = Addresses::from_intervals(family, destination.clone());
                let services = |keep: bool| {
                    let tcp80 = tcp80.clone();
                    move |f| {
                        if keep {
                            tcp80.clone()
                        } else {
                            service::all(f).difference(&tcp80)
                        }
                    }
                };
                match third {
                    0 => PacketSet::fields(&s, &d, services(upper), &every, ()),
                    _ => {
                        let low = PacketSet::fields(&s, &d, services(true), &ports(0, 1023), ());
                        let all = PacketSet::fields(&s, &d, service::all, &every, ());
                        if upper { low } else { all.difference(&low) }
                    }
                }
            };
            cells.extend([pick(false), pick(true)]);
        }
    }
    cells
}

#[test]
fn all_pairs_of_sets_over_eight_cells() {
    for (family, third) in [(Family::V4, 0), (Family::V4, 1), (Family::V6, 0)] {
        let cells = cells(family, third);
        let other = PacketSet::fields(
            &Addresses::all(),
            &Addresses::all(),
            service::all,
            &ports(0, u16::MAX),
            (),
        )
        .difference(&PacketSet::union_all(cells.clone()));
        let of_mask = |mask: usize| {
            PacketSet::union_all(
                (0..8)
                    .filter(|bit| mask >> bit & 1 == 1)
                    .map(|bit| cells[bit].clone()),
            )
        };
        let sets: Vec<PacketSet> = (0..256).map(of_mask).collect();
        let counts: Vec<BigUint> = cells.iter().map(PacketSet::count).collect();
        for (a, left) in sets.iter().enumerate() {
            assert!(left.check());
            assert_eq!(left.complement(), sets[255 & !a].union(&other));
            assert_eq!(left.is_empty(), a == 0);
            let sum: BigUint = (0..8)
                .filter(|bit| a >> bit & 1 == 1)
                .map(|bit| &counts[bit])
                .sum();
            assert_eq!(left.count(), sum);
            assert_eq!(left.witness().is_some_and(|w| left.contains(&w)), a != 0);
            for (b, right) in sets.iter().enumerate() {
                assert!(left.union(right) == sets[a | b]);
                assert!(left.intersection(right) == sets[a & b]);
                assert!(left.difference(right) == sets[a & !b]);
                assert_eq!(left == right, a == b);
                assert_eq!(left.is_subset(right), a & !b == 0);
                assert_eq!(left.overlaps(right), a & b != 0);
            }
        }
    }
}

/// A small universe: 4 sources, 3 destinations, 6 services, 3 source ports; everything else lies outside.
fn small_universe() -> Vec<Packet> {
    let services = [
        (6, 22),
        (6, 23),
        (17, 53),
        (1, 0x0800),
        (1, 0x0801),
        (47, 0),
    ];
    let mut all = Vec::new();
    for source in 10..14 {
        for destination in 20..23 {
            for (protocol, low) in services {
                let ports: &[u16] = if service::has_ports(protocol) {
                    &[1, 2, 3]
                } else {
                    &[0]
                };
                for &source_port in ports {
                    let service = service::code(protocol, low);
                    all.push(Packet {
                        family: Family::V4,
                        source,
                        destination,
                        service,
                        source_port,
                    });
                }
            }
        }
    }
    all
}

/// A random product of the small universe.
fn random_product(random: &mut fastrand::Rng) -> Product {
    let side = |low: u8, count: u8, random: &mut fastrand::Rng| {
        let first = random.u8(0..count);
        Intervals::span(
            u128::from(low + first),
            u128::from(low + random.u8(first..count)),
        )
    };
    let v4 = |numbers| Addresses::from_intervals(Family::V4, numbers);
    let (sources, destinations) = (v4(side(10, 4, random)), v4(side(20, 3, random)));
    let choices = [
        (6, 22, 22),
        (6, 22, 23),
        (6, 23, 23),
        (17, 53, 53),
        (1, 0x0800, 0x0801),
        (47, 0, 0xFFFF),
    ];
    let mut services = Intervals::empty();
    for _ in 0..random.u8(1..4) {
        let (protocol, low, high) = choices[random.usize(0..choices.len())];
        services = services.union(&Intervals::span(
            u128::from(service::code(protocol, low)),
            u128::from(service::code(protocol, high)),
        ));
    }
    let source_ports = if random.bool() {
        ports(0, u16::MAX)
    } else {
        side(1, 3, random)
    };
    Product::new(&sources, &destinations, |_| services.clone(), &source_ports)
}

fn random_box(random: &mut fastrand::Rng) -> PacketSet {
    random_product(random).map(())
}

#[test]
fn the_first_product_that_holds_a_packet_gives_it_its_label() {
    let mut random = fastrand::Rng::with_seed(11);
    let (universe, every) = (small_universe(), Addresses::all());
    let (mut labelled, mut holes) = (0, 0);
    for _ in 0..400 {
        let mut layers: Vec<(Product, Option<u8>)> = (0..random.u8(0..9))
            .map(|label| {
                (
                    random_product(&mut random),
                    random.u8(0..6).checked_sub(1).map(|_| label % 5),
                )
            })
            .collect();
        if random.bool() {
            let whole = Product::new(&every, &every, service::all, &ports(0, u16::MAX));
            layers.insert(random.usize(0..=layers.len()), (whole, Some(9)));
        }
        let stacked = PacketMap::stacked(&layers);
        assert!(stacked.check());
        for packet in &universe {
            let first = layers
                .iter()
                .find(|(product, _)| product.map(()).contains(packet));
            let wanted = first.and_then(|(_, label)| *label);
            assert_eq!(stacked.get(packet), wanted, "{packet} in {layers:?}");
            labelled += usize::from(wanted.is_some());
            holes += usize::from(first.is_some() && wanted.is_none());
        }
        // What lies outside of the universe is the same too.
        let laid = layers
            .iter()
            .rev()
            .fold(PacketMap::empty(), |below, (product, label)| match label {
                Some(label) => product.map(*label).overlay(&below),
                None => below.without(&product.map(())),
            });
        assert!(stacked == laid);
    }
    assert!(labelled > 10_000 && holes > 1_000, "{labelled} {holes}");
}

#[test]
fn what_is_between_addresses_is_what_a_box_of_them_holds() {
    let mut random = fastrand::Rng::with_seed(5);
    let every = ports(0, u16::MAX);
    for _ in 0..3_000 {
        let set = PacketSet::union_all((0..random.usize(1..7)).map(|_| random_box(&mut random)));
        let mut side = |low: u8| {
            let spans = (0..random.u8(0..3)).map(|_| {
                let first = low + random.u8(0..4);
                (u128::from(first), u128::from(first + random.u8(0..3)))
            });
            let some = Addresses::from_intervals(
                Family::V4,
                Intervals::from_spans(spans.collect::<Vec<_>>()),
            );
            if random.u8(0..3) == 0 {
                None
            } else {
                Some(some)
            }
        };
        let (from, to) = (side(9), side(19));
        let whole = Addresses::all();
        let boxed = PacketSet::fields(
            from.as_ref().unwrap_or(&whole),
            to.as_ref().unwrap_or(&whole),
            service::all,
            &every,
            (),
        );
        assert_eq!(
            set.between(from.as_ref(), to.as_ref()),
            boxed.intersection(&set),
            "{from:?} {to:?}"
        );
    }
}

#[test]
fn random_sets_agree_with_lists_of_packets_and_listings_are_minimal() {
    let universe = small_universe();
    let mut random = fastrand::Rng::with_seed(7);
    for _ in 0..1_500 {
        let boxes: Vec<_> = (0..random.usize(1..6))
            .map(|_| random_box(&mut random))
            .collect();
        let mut set = PacketSet::empty();
        let mut naive: Vec<bool> = vec![false; universe.len()];
        for part in &boxes {
            let add = random.u8(0..4) > 0;
            set = if add {
                set.union(part)
            } else {
                set.difference(part)
            };
            for (packet, inside) in universe.iter().zip(&mut naive) {
                if part.contains(packet) {
                    *inside = add;
                }
            }
        }
        for (packet, inside) in universe.iter().zip(&naive) {
            assert_eq!(set.contains(packet), *inside, "{packet}");
        }
        listing_is_minimal(&set);
    }
}

/// The union is the set, none can be dropped, and no two have a product as their union.
fn listing_is_minimal(set: &PacketSet) {
    let listed = entries(set);
    let sets: Vec<PacketSet> = listed
        .iter()
        .map(|entry| PacketSet::of_entry(entry, ()))
        .collect();
    assert!(PacketSet::union_all(sets.clone()) == *set);
    for at in 0..sets.len() {
        let others = sets
            .iter()
            .enumerate()
            .filter(|(other, _)| *other != at)
            .map(|(_, s)| s.clone());
        assert!(
            PacketSet::union_all(others) != *set,
            "entry {at} can be dropped"
        );
        for other in at + 1..sets.len() {
            let both = sets[at].union(&sets[other]);
            let pieces = both.boxes();
            assert!(
                pieces.len() > 1,
                "entries {at} and {other} can be merged: {pieces:?}"
            );
        }
    }
}

#[test]
fn maps_keep_the_upper_label_and_split_into_regions() {
    let mut random = fastrand::Rng::with_seed(11);
    let universe = small_universe();
    for _ in 0..500 {
        let rules: Vec<PacketSet> = (0..6).map(|_| random_box(&mut random)).collect();
        let labelled = |(at, set): (usize, &PacketSet)| set.relabel(|()| Some(at));
        let map = PacketMap::overlay_all(rules.iter().enumerate().map(labelled).collect());
        for packet in &universe {
            assert_eq!(
                map.get(packet),
                rules.iter().position(|rule| rule.contains(packet))
            );
        }
        let regions = map.regions();
        assert!(PacketSet::union_all(regions.iter().map(|(_, set)| set.clone())) == map.domain());
        for (label, region) in &regions {
            assert!(*region == map.select(|other| other == *label));
            listing_is_minimal(region);
        }
    }
}

#[test]
fn packets_that_do_not_exist_are_in_no_set() {
    let full = PacketSet::full();
    let packet = |family, protocol| Packet {
        family,
        source: 1,
        destination: 2,
        service: service::code(protocol, 0),
        source_port: 0,
    };
    assert!(
        full.contains(&packet(Family::V4, service::ICMP))
            && full.contains(&packet(Family::V6, service::ICMPV6))
    );
    assert!(
        !full.contains(&packet(Family::V4, service::ICMPV6))
            && !full.contains(&packet(Family::V6, service::ICMP))
    );
    let per_pair = 3_u32 * (BigUint::from(1_u32) << 32) + (1_u32 << 16) + 251_u32;
    let pairs = (BigUint::from(1_u32) << 64) + (BigUint::from(1_u32) << 256);
    assert_eq!(full.count(), pairs * per_pair);
}

#[test]
fn services_read_as_a_person_would_write_them() {
    let span = |protocol: u8, low: u16, high: u16| {
        Intervals::span(
            u128::from(service::code(protocol, low)),
            u128::from(service::code(protocol, high)),
        )
    };
    let table = [
        (span(6, 443, 443), "tcp 443"),
        (span(6, 22, 22).union(&span(6, 80, 90)), "tcp 22,80-90"),
        (span(6, 0, 65535), "tcp"),
        (span(1, 0x0800, 0x08FF), "icmp 8"),
        (span(1, 0x0800, 0x0800), "icmp 8/0"),
        (span(1, 0x0300, 0x0BFF), "icmp 3-11"),
        (span(1, 0x0301, 0x0501), "icmp 3/1-255, icmp 4, icmp 5/0-1"),
        (span(47, 0, 65535), "gre"),
        (service::all(Family::V4), "any"),
        (
            service::all(Family::V4).difference(&span(6, 22, 22)),
            "any except tcp 22",
        ),
        (span(200, 0, 65535), "protocol 200"),
        (
            service::all(Family::V4)
                .difference(&service::whole(6))
                .difference(&span(17, 53, 53)),
            "any except tcp, udp 53",
        ),
        (
            service::whole(57).union(&service::whole(59)),
            "protocol 57-59",
        ),
    ];
    for (services, expected) in table {
        assert_eq!(service::texts(Family::V4, &services).join(", "), expected);
    }
}

#[test]
fn services_of_which_much_is_there_and_much_is_missing_have_words() {
    let odd = Intervals::from_spans(
        (0..128_u32).map(|at| (u128::from(at) << 17, (u128::from(at) << 17) + 0xFFFF)),
    );
    let every = service::all(Family::V4);
    for set in [odd.intersection(&every), every.difference(&odd)] {
        let texts = service::texts(Family::V4, &set);
        assert!(
            texts.len() > 100 && texts.iter().all(|text| !text.starts_with("any")),
            "{texts:?}"
        );
    }
}

#[test]
fn requests_are_answered_as_single_packets_are() {
    let mut random = fastrand::Rng::with_seed(23);
    let kinds = [0x0800, 0x0801, 0x0000, 0x0001, 0x0300, 0x1100, 0x1200];
    for _ in 0..400 {
        let mut replies = (0..3).fold(PacketSet::empty(), |sum, _| {
            sum.union(&random_box(&mut random))
        });
        let echo = Intervals::span(
            u128::from(service::code(1, 0)),
            u128::from(service::code(1, random.u16(0..3))),
        );
        let side =
            |first, last| Addresses::from_intervals(Family::V4, Intervals::span(first, last));
        replies = replies.union(&PacketSet::fields(
            &side(20, 21),
            &side(10, 12),
            |_| echo.clone(),
            &ports(0, u16::MAX),
            (),
        ));
        let requests = replies.requests_answered();
        for _ in 0..300 {
            let (protocol, low) = match random.u8(0..3) {
                0 => (1, kinds[random.usize(0..kinds.len())]),
                1 => (47, 0),
                _ => (
                    [6, 17, 132][random.usize(0..3)],
                    [1, 2, 3, 22, 53][random.usize(0..5)],
                ),
            };
            let source_port = if service::has_ports(protocol) {
                [22, 23, 53, 1][random.usize(0..4)]
            } else {
                0
            };
            let (source, destination) = (random.u8(9..24).into(), random.u8(9..24).into());
            let packet = Packet {
                family: Family::V4,
                source,
                destination,
                service: service::code(protocol, low),
                source_port,
            };
            let expected = packet.reply().is_none_or(|reply| replies.contains(&reply));
            assert_eq!(requests.contains(&packet), expected, "{packet}");
        }
    }
}

#[test]
fn rows_hold_every_packet_of_a_set_once_by_source_and_destination() {
    let mut random = fastrand::Rng::with_seed(21);
    for _ in 0..200 {
        let set = PacketSet::union_all((0..random.usize(1..6)).map(|_| random_box(&mut random)));
        let rows = set.rows();
        let every = ports(0, u16::MAX);
        let of = |row: &super::Row| {
            let parts = row.destinations.iter().map(|(destinations, services)| {
                PacketSet::fields(&row.sources, destinations, |_| services.clone(), &every, ())
            });
            PacketSet::union_all(parts)
        };
        let whole = PacketSet::union_all(rows.iter().map(of));
        assert!(set.any_source_port() == whole);
        for (at, row) in rows.iter().enumerate() {
            assert!(
                rows[at + 1..]
                    .iter()
                    .all(|other| !other.sources.overlaps(&row.sources))
            );
            for (one, (destinations, _)) in row.destinations.iter().enumerate() {
                assert!(
                    row.destinations[one + 1..]
                        .iter()
                        .all(|(other, _)| !other.overlaps(destinations))
                );
            }
        }
    }
}
