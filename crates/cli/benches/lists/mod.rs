//! Random rule lists from a seed: in the style of published packet-classifier benchmarks, with large sets, in IPv6, and
//! lists made to be hard.

use fastrand::Rng;
use heronshale_sets::cover::{Coordinate, Part, Product, Rules};

/// Highest service number, and highest source port.
const SERVICE_LAST: u32 = 0xFF_FFFF;
const PORT_LAST: u32 = 0xFFFF;

/// A rule: spans of sources, destinations, services; what it decides.
pub struct Line<N> {
    pub source: Vec<(N, N)>,
    pub destination: Vec<(N, N)>,
    pub service: Vec<(u32, u32)>,
    pub decision: u16,
}

impl<N: Coordinate> Line<N> {
    fn of(source: (N, N), destination: (N, N), service: (u32, u32), decision: u16) -> Self {
        Self {
            source: vec![source],
            destination: vec![destination],
            service: vec![service],
            decision,
        }
    }
}

/// The rules as the engine takes them.
pub fn rules<N: Coordinate>(lines: &[Line<N>]) -> Rules<N> {
    let mut rules = Rules::with_capacity(lines.len());
    for line in lines {
        rules.next_rule();
        let product = Product {
            source: &line.source,
            destination: &line.destination,
            service: &line.service,
            other: &[(0, PORT_LAST)],
        };
        rules.add(Part::Whole, line.decision, &product);
    }
    rules
}

fn prefix<N: Coordinate>(bits: u128, length: u32) -> (N, N) {
    let host = if length == 0 {
        u128::MAX
    } else {
        (1_u128 << (N::BITS - length)) - 1
    };
    let host = if N::BITS == 32 {
        host & 0xFFFF_FFFF
    } else {
        host
    };
    (
        N::from_number(bits & !host),
        N::from_number(bits & !host | host),
    )
}

fn all<N: Coordinate>() -> (N, N) {
    prefix(0, 0)
}

/// Places where rules cluster: prefixes inside of prefixes, the way that sites, networks and hosts are.
struct Places {
    sites: Vec<u128>,
    networks: Vec<u128>,
    hosts: Vec<u128>,
    shift: u32,
}

impl Places {
    fn new<N: Coordinate>(random: &mut Rng, rules: usize) -> Self {
        let shift = N::BITS - 32;
        let sites: Vec<u128> = (0..rules / 400 + 4)
            .map(|_| u128::from(random.u32(..)) & 0xFFFF_0000)
            .collect();
        let networks: Vec<u128> = (0..rules / 20 + 8)
            .map(|_| sites[random.usize(0..sites.len())] | u128::from(random.u32(0..256)) << 8)
            .collect();
        let hosts: Vec<u128> = (0..rules / 2 + 16)
            .map(|_| networks[random.usize(0..networks.len())] | u128::from(random.u32(0..256)))
            .collect();
        Self {
            sites,
            networks,
            hosts,
            shift,
        }
    }

    /// A prefix and how wide it is, 0 for a host to 4 for everything.
    fn pick<N: Coordinate>(&self, random: &mut Rng) -> ((N, N), u32) {
        let one = |random: &mut Rng, of: &[u128]| of[random.usize(0..of.len())] << self.shift;
        match random.u32(0..100) {
            0..48 => (prefix(one(random, &self.hosts), 32), 0),
            48..74 => (prefix(one(random, &self.networks), 24), 1),
            74..82 => (prefix(one(random, &self.networks), random.u32(25..29)), 1),
            82..90 => (prefix(one(random, &self.sites), 16), 2),
            90..93 => (prefix(one(random, &self.sites), 8), 3),
            _ => (all(), 4),
        }
    }
}

fn service(random: &mut Rng) -> ((u32, u32), u32) {
    const PORTS: [u32; 12] = [443, 80, 22, 53, 25, 3306, 5432, 8080, 8443, 123, 161, 6379];
    let tcp = 6 << 16;
    let udp = 17 << 16;
    let skewed = |random: &mut Rng| {
        PORTS[random
            .usize(0..PORTS.len())
            .min(random.usize(0..PORTS.len()))]
    };
    match random.u32(0..100) {
        0..50 => {
            let port = tcp + skewed(random);
            ((port, port), 0)
        }
        50..64 => {
            let port = tcp + random.u32(1024..65536);
            ((port, port), 0)
        }
        64..76 => {
            let port = udp + skewed(random);
            ((port, port), 0)
        }
        76..84 => ((tcp + 1024, tcp + 65535), 2),
        84..88 => ((tcp, tcp + 65535), 3),
        88..91 => ((udp, udp + 65535), 3),
        91..95 => ((1 << 16, (1 << 16) + 0xFFFF), 1),
        _ => ((0, SERVICE_LAST), 4),
    }
}

fn decision(random: &mut Rng) -> u16 {
    [0, 0, 0, 0, 0, 0, 1, 1, 1, 2][random.usize(0..10)]
}

/// Nested prefixes, skewed ports, narrow rules mostly before wide ones. Every ninth rule is a part of an earlier one, and every
/// thirtieth takes together what two earlier ones halve: those are dead, the latter only by several.
pub fn classifier<N: Coordinate>(seed: u64, count: usize) -> Vec<Line<N>> {
    let mut random = Rng::with_seed(seed);
    let places = Places::new::<N>(&mut random, count);
    let (parts, halved) = (count / 9, count / 30);
    // As many rules about nearly everything in long lists as in short ones: each takes all that comes after it.
    let mut wide = 0;
    let mut lines: Vec<(f64, Line<N>)> = Vec::with_capacity(count);
    while lines.len() < count - parts - 2 * halved {
        let (source, wide_source) = places.pick::<N>(&mut random);
        let (destination, wide_destination) = places.pick::<N>(&mut random);
        if wide_source + wide_destination >= 6 {
            wide += 1;
            if wide > 12 {
                continue;
            }
        }
        let (service, wide_service) = service(&mut random);
        let width = f64::from(wide_source + wide_destination + wide_service);
        lines.push((
            width + random.f64() * 9.0,
            Line::of(source, destination, service, decision(&mut random)),
        ));
    }
    let base = lines.len();
    let later = |random: &mut Rng, place: f64| place + random.f64() * (22.0 - place).max(0.5);
    for _ in 0..parts {
        let (place, of) = &lines[random.usize(0..base)];
        let place = later(&mut random, *place);
        let part = |random: &mut Rng, (first, last): (N, N)| {
            let (first, last) = (first.number(), last.number());
            let one = first + random.u128(0..(last - first).saturating_add(1).max(1));
            if random.bool() {
                (N::from_number(first), N::from_number(last))
            } else {
                (N::from_number(one), N::from_number(one))
            }
        };
        let line = Line::of(
            part(&mut random, of.source[0]),
            part(&mut random, of.destination[0]),
            of.service[0],
            decision(&mut random),
        );
        lines.push((place, line));
    }
    // Both halves of a range come before the whole.
    let mut left = halved;
    while left > 0 {
        let at = random.usize(0..base);
        let (
            place,
            Line {
                source,
                destination,
                service,
                decision: decided,
            },
        ) = &lines[at];
        let (first, last) = (source[0].0.number(), source[0].1.number());
        if source.len() > 1 || last - first < 2 {
            continue;
        }
        let middle = first + (last - first) / 2;
        let half = |first, last| {
            Line::of(
                (N::from_number(first), N::from_number(last)),
                destination[0],
                service[0],
                *decided,
            )
        };
        let (one, other) = (half(first, middle), half(middle + 1, last));
        let whole = Line::of(source[0], destination[0], service[0], decision(&mut random));
        let place = *place;
        lines[at] = (place, one);
        lines.push((later(&mut random, place), other));
        let latest = lines.last().map_or(place, |(place, _)| *place);
        lines.push((later(&mut random, latest), whole));
        left -= 1;
    }
    lines.sort_by(|a, b| a.0.total_cmp(&b.0));
    lines.into_iter().map(|(_, line)| line).collect()
}

/// The same, but one rule in four names a set of many prefixes, some of them thousands, from a small stock.
pub fn with_sets(seed: u64, count: usize) -> Vec<Line<u32>> {
    let mut random = Rng::with_seed(seed);
    let places = Places::new::<u32>(&mut random, count);
    let stock: Vec<Vec<(u32, u32)>> = (0..count / 200 + 4)
        .map(|at| {
            let size = if at % 16 == 0 {
                4_000
            } else {
                random.usize(4..120)
            };
            let mut spans: Vec<(u32, u32)> = (0..size)
                .map(|_| (random.u32(..) & 0xFFFF_FF00, 0))
                .map(|(first, _)| (first, first | 0xFF))
                .collect();
            spans.extend(
                (0..size / 4)
                    .map(|_| places.pick::<u32>(&mut random).0)
                    .filter(|span| span.1 - span.0 < 1 << 16),
            );
            spans.sort_unstable();
            let mut joined: Vec<(u32, u32)> = Vec::new();
            for span in spans {
                match joined.last_mut() {
                    Some(last) if u64::from(span.0) <= u64::from(last.1) + 1 => {
                        last.1 = last.1.max(span.1)
                    }
                    _ => joined.push(span),
                }
            }
            joined
        })
        .collect();
    let mut lines = classifier::<u32>(seed, count);
    for line in &mut lines {
        if random.u8(0..4) == 0 {
            let set = stock[random.usize(0..stock.len())].clone();
            if random.bool() {
                line.source = set
            } else {
                line.destination = set
            }
        }
    }
    lines
}

/// Half of the rules tile a square, the others lie inside of it; with a hole one tile is missing.
pub fn tiling(seed: u64, count: usize, hole: bool) -> Vec<Line<u32>> {
    let mut random = Rng::with_seed(seed);
    let side = u32::try_from((count / 2).isqrt()).unwrap_or(0);
    let mut lines = Vec::with_capacity(count);
    for at in 0..side * side {
        let (x, y) = (at % side, at / side);
        if hole && (x, y) == (side / 2, side / 3) {
            continue;
        }
        lines.push(Line::of(
            (x * 256, x * 256 + 255),
            (y * 256, y * 256 + 255),
            (0, SERVICE_LAST),
            0,
        ));
    }
    let square = side * 256;
    while lines.len() < count {
        let span = |random: &mut Rng| {
            let first = random.u32(0..square);
            (first, random.u32(first..square))
        };
        let (source, destination) = (span(&mut random), span(&mut random));
        lines.push(Line::of(source, destination, (0, SERVICE_LAST), 1));
    }
    lines
}

/// Single ports, first the even and then the odd ones, each for one of many sources; then rules over ranges of them.
pub fn combs(seed: u64, count: usize) -> Vec<Line<u32>> {
    let mut random = Rng::with_seed(seed);
    let teeth = u32::try_from(count / 2).unwrap_or(0).min(40_000);
    let tcp = 6 << 16;
    let mut lines: Vec<Line<u32>> = (0..2)
        .flat_map(|odd| (0..teeth / 2).map(move |at| tcp + at * 2 + odd))
        .map(|port| Line::of(all(), all(), (port, port), 0))
        .collect();
    while lines.len() < count {
        let first = random.u32(0..teeth - 1);
        let source = prefix(u128::from(random.u32(..)), random.u32(8..33));
        lines.push(Line::of(
            source,
            all(),
            (tcp + first, tcp + random.u32(first..teeth - 1)),
            1,
        ));
    }
    lines
}

/// Thin slabs across one dimension after the other; then boxes that only slabs of all three together cover.
pub fn slabs(seed: u64, count: usize) -> Vec<Line<u32>> {
    let mut random = Rng::with_seed(seed);
    let each = u32::try_from(count / 6).unwrap_or(0);
    let mut lines = Vec::with_capacity(count);
    for at in 0..each {
        // Together they leave out every second stretch of each dimension.
        let span = (at * 64, at * 64 + 47);
        lines.push(Line::of(span, all(), (0, SERVICE_LAST), 0));
        lines.push(Line::of(all(), span, (0, SERVICE_LAST), 1));
        lines.push(Line::of(
            all(),
            all(),
            ((at * 64) & SERVICE_LAST, (at * 64 + 47) & SERVICE_LAST),
            2,
        ));
    }
    let last = each * 64;
    while lines.len() < count {
        let span = |random: &mut Rng| {
            let first = random.u32(0..last);
            (first, (first + random.u32(0..200)).min(last))
        };
        let service = span(&mut random);
        let service = (
            service.0.min(SERVICE_LAST - 200),
            (service.1)
                .min(SERVICE_LAST)
                .max(service.0.min(SERVICE_LAST - 200)),
        );
        lines.push(Line::of(span(&mut random), span(&mut random), service, 0));
    }
    lines
}

/// Products of sets: every second network of one side with every third of the other, shifted from rule to rule.
pub fn products(seed: u64, count: usize) -> Vec<Line<u32>> {
    let mut random = Rng::with_seed(seed);
    let comb = |random: &mut Rng| {
        let step = random.u32(2..6);
        let from = random.u32(0..step);
        let base = random.u32(0..16) * 0x0001_0000;
        (0..16)
            .map(|at| base + (from + at * step) * 256)
            .map(|first| (first, first + 255))
            .collect::<Vec<_>>()
    };
    (0..count)
        .map(|_| {
            let (source, destination) = (comb(&mut random), comb(&mut random));
            let service = service(&mut random).0;
            Line {
                source,
                destination,
                service: vec![service],
                decision: decision(&mut random),
            }
        })
        .collect()
}
