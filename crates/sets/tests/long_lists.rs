//! Long lists, in which the index, its boxes, lemmas and kept packets work as they do for users: every verdict against the
//! rules read one after the other, packet by packet, one packet of each kind that they tell apart.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use fastrand::Rng;
use heronshale_sets::cover::{
    Covered, Differs, Limits, List, Part, Point, Product, Prover, Reading, Removal, Rules,
};

/// Source, destination, service.
struct Line {
    spans: [Vec<(u32, u32)>; 3],
    decision: u16,
}

type Packet = [u32; 3];

const ALL: (u32, u32) = (0, u32::MAX);

impl Line {
    fn new(
        source: (u32, u32),
        destination: (u32, u32),
        service: (u32, u32),
        decision: u16,
    ) -> Self {
        Self {
            spans: [vec![source], vec![destination], vec![service]],
            decision,
        }
    }

    fn holds(&self, packet: Packet) -> bool {
        let has = |(spans, number): (&Vec<(u32, u32)>, u32)| {
            spans
                .iter()
                .any(|span| span.0 <= number && number <= span.1)
        };
        self.spans.iter().zip(packet).all(has)
    }

    fn meets(&self, other: &Self) -> bool {
        let both = |a: &[(u32, u32)], b: &[(u32, u32)]| {
            a.iter().any(|x| b.iter().any(|y| x.0 <= y.1 && y.0 <= x.1))
        };
        self.spans.iter().zip(&other.spans).all(|(a, b)| both(a, b))
    }
}

fn prefix(random: &mut Rng, lengths: &[u32]) -> (u32, u32) {
    let length = lengths[random.usize(0..lengths.len())];
    let host = u32::MAX.checked_shr(length).unwrap_or(0);
    // Few different addresses, so that rules meet.
    let number = 10 << 24 | random.u32(0..6) << 16 | random.u32(0..4) << 8 | random.u32(0..16);
    (number & !host, number | host)
}

fn range(random: &mut Rng, most: u32) -> (u32, u32) {
    let first = random.u32(0..most);
    (first, random.u32(first..most))
}

fn decision(random: &mut Rng) -> u16 {
    [0, 0, 0, 1, 1, 2][random.usize(0..6)]
}

/// Narrow rules before wide ones, as people write them.
fn nested(random: &mut Rng, count: usize) -> Vec<Line> {
    let mut lines: Vec<(u32, Line)> = (0..count)
        .map(|_| {
            let (source, destination) = (
                prefix(random, &[32, 32, 28, 24, 16, 8, 0]),
                prefix(random, &[32, 32, 24, 24, 16, 0]),
            );
            let service =
                [(80, 80), (443, 443), (22, 22), (1024, 65535), (0, 65535)][random.usize(0..5)];
            let width = (source.1 - source.0).checked_ilog2().unwrap_or(0)
                + (destination.1 - destination.0).checked_ilog2().unwrap_or(0);
            (
                width + random.u32(0..40),
                Line::new(source, destination, service, decision(random)),
            )
        })
        .collect();
    lines.sort_by_key(|(place, _)| *place);
    lines.into_iter().map(|(_, line)| line).collect()
}

/// Tiles, perhaps all but one, and ranges over them: one packet is in hundreds of ranges.
fn tiles(random: &mut Rng, count: usize) -> Vec<Line> {
    let side = u32::try_from((count / 3).isqrt()).unwrap();
    let hole = random.bool().then(|| random.u32(0..side * side));
    let tile = |at: u32| (at * 16, at * 16 + 15);
    let mut lines: Vec<Line> = (0..side * side)
        .filter(|at| hole != Some(*at))
        .map(|at| Line::new(tile(at % side), tile(at / side), ALL, 0))
        .collect();
    while lines.len() < count {
        let (source, destination) = (range(random, side * 16), range(random, side * 16));
        lines.push(Line::new(source, destination, ALL, decision(random)));
    }
    lines
}

/// Every second stretch of each dimension, and boxes over a few of these.
fn slabs(random: &mut Rng, count: usize) -> Vec<Line> {
    let each = u32::try_from(count / 6).unwrap();
    let some = |at: u32| (at * 8, at * 8 + 5);
    let mut lines: Vec<Line> = (0..each)
        .flat_map(|at| {
            [
                Line::new(some(at), ALL, ALL, 0),
                Line::new(ALL, some(at), ALL, 1),
                Line::new(ALL, ALL, some(at), 2),
            ]
        })
        .collect();
    while lines.len() < count {
        let narrow = |random: &mut Rng| {
            let first = random.u32(0..each * 8);
            (first, first + random.u32(0..12))
        };
        let (source, destination, service) = (narrow(random), narrow(random), narrow(random));
        lines.push(Line::new(source, destination, service, decision(random)));
    }
    lines
}

/// Sets of many ranges from a small stock.
fn sets(random: &mut Rng, count: usize) -> Vec<Line> {
    let stock: Vec<Vec<(u32, u32)>> = (0..12)
        .map(|_| {
            let step = random.u32(3..9);
            (0..random.u32(3..60))
                .map(|at| (at * 16 * step, at * 16 * step + random.u32(0..16)))
                .collect()
        })
        .collect();
    let mut lines = tiles(random, count);
    for line in lines.iter_mut().step_by(3) {
        line.spans[random.usize(0..2)] = stock[random.usize(0..stock.len())].clone();
        line.decision = 1;
    }
    lines
}

/// One packet of each kind that some lines tell apart within one; a few at random if these are very many, and whether all are there.
fn kinds(random: &mut Rng, own: &Line, others: &[usize], lines: &[Line]) -> (Vec<Packet>, bool) {
    let starts: Vec<Vec<u32>> = (0..3)
        .map(|at| {
            let cuts = others
                .iter()
                .flat_map(|other| &lines[*other].spans[at])
                .flat_map(|span| [Some(span.0), span.1.checked_add(1)]);
            let inside = |number: &u32| {
                own.spans[at]
                    .iter()
                    .any(|span| span.0 <= *number && *number <= span.1)
            };
            let mut all: Vec<u32> = cuts
                .flatten()
                .filter(inside)
                .chain(own.spans[at].iter().map(|span| span.0))
                .collect();
            all.sort_unstable();
            all.dedup();
            all
        })
        .collect();
    if starts.iter().map(Vec::len).product::<usize>() > 1_500 {
        let one = |of: &Vec<u32>, random: &mut Rng| of[random.usize(0..of.len())];
        return (
            (0..60)
                .map(|_| [0, 1, 2].map(|at: usize| one(&starts[at], random)))
                .collect(),
            false,
        );
    }
    let [a, b, c] = [&starts[0], &starts[1], &starts[2]];
    (
        a.iter()
            .flat_map(|x| {
                b.iter()
                    .flat_map(move |y| c.iter().map(move |z| [*x, *y, *z]))
            })
            .collect(),
        true,
    )
}

fn check(name: &str, lines: &[Line], seed: u64, counts: &mut [usize; 5]) {
    let mut random = Rng::with_seed(seed);
    let mut rules = Rules::with_capacity(lines.len());
    for line in lines {
        rules.next_rule();
        let [source, destination, service] = &line.spans;
        rules.add(
            Part::Whole,
            line.decision,
            &Product {
                source,
                destination,
                service,
                other: &[(0, 0)],
            },
        );
    }
    let list = List::new(rules, Limits::default());
    let mut prover = Prover::new(&list, Reading::FirstMatch);
    let default = [None, Some(0), Some(1)][random.usize(0..3)];
    let packet = |point: Point<u32>| [point.source, point.destination, point.service];
    let whole = Product {
        source: &[ALL],
        destination: &[ALL],
        service: &[ALL],
        other: &[(0, 0)],
    };
    let order = if seed.is_multiple_of(2) {
        list.order()
    } else {
        (0..u32::try_from(lines.len()).unwrap()).collect()
    };
    for rule in order {
        let (at, own) = (rule as usize, &lines[rule as usize]);
        let told = format!("{name}, seed {seed}, rule {rule}");
        let others: Vec<usize> = (0..lines.len())
            .filter(|other| *other != at && lines[*other].meets(own))
            .collect();
        let first = |from: usize, to: usize, packet: Packet| {
            others
                .iter()
                .copied()
                .find(|other| (from..to).contains(other) && lines[*other].holds(packet))
        };
        let visible = |packet: Packet| first(0, at, packet).is_none();
        let next = |packet: Packet| {
            first(at, lines.len(), packet)
                .map(|other| lines[other].decision)
                .or(default)
        };
        let changes = |packet: Packet| visible(packet) && next(packet) != Some(own.decision);
        let otherwise = |packet: Packet| {
            first(0, at, packet).is_some_and(|other| lines[other].decision != own.decision)
        };
        let (packets, all) = kinds(&mut random, own, &others, lines);
        counts[0] += usize::from(all);
        let covered = prover.covered(rule);
        let covers = match &covered {
            Covered::Open(point) => {
                assert!(
                    own.holds(packet(*point)) && visible(packet(*point)),
                    "{told}: {covered:?}"
                );
                Vec::new()
            }
            Covered::ByOne(one) => vec![*one],
            Covered::ByMany(used) => prover.needed(rule, used.clone()),
            Covered::InLemma(number) => prover.lemma(*number).to_vec(),
            Covered::Undecided => panic!("{told}"),
        };
        counts[1] += usize::from(covers.len() > 1);
        if covered.is_covered() {
            let by = |packet: &Packet| {
                covers
                    .iter()
                    .any(|cover| *cover < rule && lines[*cover as usize].holds(*packet))
            };
            assert!(packets.iter().all(by), "{told}: {covers:?}");
        }
        assert!(
            !all || covered.is_covered() != packets.iter().any(|packet| visible(*packet)),
            "{told}: {covered:?}"
        );
        match prover.taken_otherwise(rule, &whole) {
            Differs::By(point) => assert!(
                own.holds(packet(point)) && otherwise(packet(point)),
                "{told}: {point:?}"
            ),
            Differs::No => assert!(!packets.iter().any(|packet| otherwise(*packet)), "{told}"),
            Differs::Undecided => panic!("{told}"),
        }
        let Covered::Open(seen) = covered else {
            continue;
        };
        match prover.removal(rule, default, Some(seen)) {
            Removal::Changes(point) => {
                counts[2] += 1;
                assert!(
                    own.holds(packet(point)) && changes(packet(point)),
                    "{told}: {point:?}"
                );
            }
            Removal::Undecided => panic!("{told}"),
            verdict => {
                counts[3 + usize::from(verdict == Removal::Nothing)] += 1;
                assert!(
                    !packets.iter().any(|packet| changes(*packet)),
                    "{told}: {verdict:?}"
                );
            }
        }
    }
}

#[test]
fn verdicts_on_long_lists_equal_the_rules_read_one_after_the_other() {
    let mut counts = [0; 5];
    for seed in 0..4 {
        let mut random = Rng::with_seed(seed);
        check("nested", &nested(&mut random, 1_000), seed, &mut counts);
        check("tiles", &tiles(&mut random, 900), seed, &mut counts);
        check("slabs", &slabs(&mut random, 900), seed, &mut counts);
        check("sets", &sets(&mut random, 700), seed, &mut counts);
    }
    // Looked at in full, covered by several, of use, superfluous by the default, and by others.
    assert!(
        counts[0] > 3_000 && counts[1..].iter().all(|count| *count > 100),
        "{counts:?}"
    );
}
