//! Proofs about rule lists against the definitions, packet by packet: all 512 packets of a small universe, thousands of lists,
//! with the index, lemmas and kept packets in use from the first rule on, and with the limits as they are.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use fastrand::Rng;
use heronshale_sets::cover::{
    Coordinate, Covered, Differs, Limits, List, Part, Point, Product, Prover, Reading, Removal,
    Rules,
};
use std::collections::BTreeSet;

/// How many numbers each dimension has.
const SIZES: [u32; 4] = [16, 8, 4, 1];
const BASE: [u32; 4] = [32, 64, 7, 5];

struct Rule {
    sure: Vec<bool>,
    most: Vec<bool>,
    decision: u16,
}

fn points() -> impl Iterator<Item = [u32; 4]> {
    let [a, b, c, d] = SIZES;
    (0..a).flat_map(move |x| {
        (0..b).flat_map(move |y| (0..c).flat_map(move |z| (0..d).map(move |w| [x, y, z, w])))
    })
}

fn index(point: [u32; 4]) -> usize {
    point
        .iter()
        .zip(SIZES)
        .fold(0, |sum, (at, size)| sum * size as usize + *at as usize)
}

/// Random spans of a dimension: a prefix, all, one range, or several.
fn spans(random: &mut Rng, size: u32, base: u32) -> Vec<(u32, u32)> {
    let range = |random: &mut Rng| {
        let first = random.u32(0..size);
        (first, random.u32(first..size))
    };
    let chosen = match random.u8(0..6) {
        0 => vec![(0, size - 1)],
        1..4 => {
            let width = 1 << random.u32(0..=size.ilog2());
            let first = random.u32(0..size) / width * width;
            vec![(first, first + width - 1)]
        }
        4 => vec![range(random)],
        _ => {
            // A number at which the set begins or ends.
            let bits: Vec<bool> = (0..size).map(|_| random.bool()).collect();
            let mut runs: Vec<(u32, u32)> = Vec::new();
            for (number, _) in (0u32..).zip(&bits).filter(|(_, bit)| **bit) {
                match runs.last_mut() {
                    Some(run) if run.1 + 1 == number => run.1 = number,
                    _ => runs.push((number, number)),
                }
            }
            runs
        }
    };
    chosen
        .into_iter()
        .map(|(first, last)| (first + base, last + base))
        .collect()
}

fn holds(spans: &[(u32, u32)], number: u32) -> bool {
    spans
        .iter()
        .any(|span| span.0 <= number && number <= span.1)
}

/// A random list, written for addresses of any width, with what each rule matches packet by packet.
fn random_list<N: Coordinate>(random: &mut Rng, decisions: u16) -> (Rules<N>, Vec<Rule>) {
    let (mut rules, mut plain) = (Rules::new(), Vec::new());
    for _ in 0..random.usize(1..28) {
        rules.next_rule();
        let decision = random.u16(0..decisions) * if decisions > 3 { 20 } else { 1 };
        let mut rule = Rule {
            sure: vec![false; 512],
            most: vec![false; 512],
            decision,
        };
        for _ in 0..if random.u8(0..8) == 0 { 2 } else { 1 } {
            let dims: Vec<Vec<(u32, u32)>> = (0..4)
                .map(|at| spans(random, SIZES[at], BASE[at]))
                .collect();
            let part = [
                Part::Whole,
                Part::Whole,
                Part::Whole,
                Part::Whole,
                Part::Sure,
                Part::Most,
            ][random.usize(0..6)];
            let wide = |spans: &[(u32, u32)]| -> Vec<(N, N)> {
                spans
                    .iter()
                    .map(|s| (N::from_number(s.0.into()), N::from_number(s.1.into())))
                    .collect()
            };
            let (source, destination) = (wide(&dims[0]), wide(&dims[1]));
            let product = Product {
                source: &source,
                destination: &destination,
                service: &dims[2],
                other: &dims[3],
            };
            rules.add(part, decision, &product);
            let inside = |point: &[u32; 4], from: usize| {
                (from..4).all(|at| holds(&dims[at], point[at] + BASE[at]))
            };
            for point in points().filter(|point| inside(point, 0)) {
                rule.sure[index(point)] |= part != Part::Most;
                rule.most[index(point)] |= part != Part::Sure;
            }
            if part == Part::Sure {
                // What is sure is among the most that the rule may match: here from all sources.
                let all = wide(&[(BASE[0], BASE[0] + SIZES[0] - 1)]);
                rules.add(
                    Part::Most,
                    decision,
                    &Product {
                        source: &all,
                        ..product
                    },
                );
                points()
                    .filter(|point| inside(point, 1))
                    .for_each(|point| rule.most[index(point)] = true);
            }
        }
        plain.push(rule);
    }
    (rules, plain)
}

fn cell<N: Coordinate>(point: Point<N>) -> usize {
    let number = |n: N| u32::try_from(n.number()).unwrap();
    let all = [
        number(point.source),
        number(point.destination),
        point.service,
        point.other,
    ];
    index([
        all[0] - BASE[0],
        all[1] - BASE[1],
        all[2] - BASE[2],
        all[3] - BASE[3],
    ])
}

fn cells(rule: &[bool]) -> impl Iterator<Item = usize> + '_ {
    (0..512).filter(|at| rule[*at])
}

/// The first rule of a list that settles a packet for a rule: for certain and alike, or perhaps and otherwise.
fn settled(rules: &[Rule], from: usize, own: u16, cell: usize) -> Option<u16> {
    let counts = |rule: &&Rule| {
        if rule.decision == own {
            rule.sure[cell]
        } else {
            rule.most[cell]
        }
    };
    rules[from..].iter().find(counts).map(|rule| rule.decision)
}

fn check<N: Coordinate>(seed: u64, limits: Limits, counts: &mut [usize; 8]) {
    let mut random = Rng::with_seed(seed);
    let reading = if random.bool() {
        Reading::FirstMatch
    } else {
        Reading::AnyMatch
    };
    let decisions = [2, 3, 5][random.usize(0..3)];
    let (rules, plain) = random_list::<N>(&mut random, decisions);
    let list = List::new(rules, limits);
    let mut prover = Prover::new(&list, reading);
    let default = [None, Some(0), Some(1)][random.usize(0..3)];
    let mut gone = vec![false; plain.len()];
    let order = if random.bool() {
        list.order()
    } else {
        (0..u32::try_from(plain.len()).unwrap()).collect()
    };
    assert_eq!(
        order.iter().collect::<BTreeSet<_>>().len(),
        plain.len(),
        "seed {seed}"
    );
    for at in order.into_iter().map(|at| at as usize) {
        let own = &plain[at];
        if cells(&own.most).next().is_none() {
            continue;
        }
        if random.u8(0..6) == 0 {
            let other = random.usize(0..plain.len());
            gone[other] = !gone[other];
            let number = u32::try_from(other).unwrap();
            if gone[other] {
                prover.remove(number)
            } else {
                prover.restore(number)
            }
        }
        let rule = u32::try_from(at).unwrap();
        let own_decision = prover.decision(rule);
        let may = |other: usize| {
            other != at
                && !gone[other]
                && match reading {
                    Reading::FirstMatch => other < at,
                    Reading::AnyMatch => plain[other].decision.min(31) >= own_decision.min(31),
                }
        };
        let taken =
            |cell: usize| (0..plain.len()).any(|other| may(other) && plain[other].sure[cell]);
        let covered = prover.covered(rule);
        let wanted = cells(&own.most).all(taken);
        assert_eq!(
            covered.is_covered(),
            wanted,
            "seed {seed}, rule {at}: {covered:?}"
        );
        match &covered {
            Covered::Open(point) => {
                assert!(
                    own.most[cell(*point)] && !taken(cell(*point)),
                    "seed {seed}, rule {at}: {point:?}"
                );
            }
            Covered::InLemma(number) => {
                counts[0] += 1;
                let covers = prover.lemma(*number).to_vec();
                let all = covers.iter().all(|other| may(*other as usize));
                let hit =
                    |cell: usize| covers.iter().any(|other| plain[*other as usize].sure[cell]);
                assert!(
                    all && cells(&own.most).all(hit),
                    "seed {seed}, rule {at}: lemma {covers:?}"
                );
            }
            _ => {}
        }
        let covers = prover.covers(rule);
        assert_eq!(covers.is_some(), wanted, "seed {seed}, rule {at}");
        if let Some(covers) = covers {
            counts[1] += usize::from(covers.len() > 1);
            let hit = |cell: usize, skip: Option<usize>| {
                covers
                    .iter()
                    .enumerate()
                    .any(|(nth, other)| Some(nth) != skip && plain[*other as usize].sure[cell])
            };
            assert!(
                covers.iter().all(|other| may(*other as usize)),
                "seed {seed}, rule {at}"
            );
            assert!(
                cells(&own.most).all(|cell| hit(cell, None)),
                "seed {seed}, rule {at}: {covers:?}"
            );
            let spare =
                (0..covers.len()).find(|nth| cells(&own.most).all(|cell| hit(cell, Some(*nth))));
            assert_eq!(spare, None, "seed {seed}, rule {at}: {covers:?}");
        }
        if reading == Reading::AnyMatch {
            continue;
        }
        let alive: Vec<Rule> = plain
            .iter()
            .zip(&gone)
            .enumerate()
            .map(|(nth, (rule, gone))| {
                let none = vec![false; 512];
                let there = !gone && nth != at;
                let of = |set: &Vec<bool>| if there { set.clone() } else { none.clone() };
                Rule {
                    sure: of(&rule.sure),
                    most: of(&rule.most),
                    decision: rule.decision,
                }
            })
            .collect();
        let first_sure = |cell: usize| {
            alive[..at]
                .iter()
                .find(|rule| rule.sure[cell])
                .map(|rule| rule.decision)
        };
        let otherwise =
            |cell: usize| first_sure(cell).is_some_and(|decision| decision != own_decision);
        let all = [(N::from_number(0), N::from_number(1000))];
        let numbers = [(0, 1000)];
        let whole = Product {
            source: &all,
            destination: &all,
            service: &numbers,
            other: &numbers,
        };
        match prover.taken_otherwise(rule, &whole) {
            Differs::By(point) => {
                assert!(
                    own.most[cell(point)] && otherwise(cell(point)),
                    "seed {seed}, rule {at}: {point:?}"
                );
                counts[2] += 1;
            }
            Differs::No => assert!(!cells(&own.most).any(otherwise), "seed {seed}, rule {at}"),
            Differs::Undecided => panic!("seed {seed}, rule {at}"),
        }
        let changes = |cell: usize| {
            first_sure(cell).is_none()
                && settled(&alive, at, own_decision, cell).or(default) != Some(own_decision)
        };
        let seen = if let Covered::Open(point) = covered {
            Some(point)
        } else {
            None
        };
        match prover.removal(rule, default, seen.filter(|_| random.bool())) {
            Removal::Changes(point) => {
                assert!(
                    own.most[cell(point)] && changes(cell(point)),
                    "seed {seed}, rule {at}: {point:?}"
                );
                counts[3] += 1;
            }
            Removal::Undecided => panic!("seed {seed}, rule {at}"),
            verdict => {
                assert!(
                    !cells(&own.most).any(changes),
                    "seed {seed}, rule {at}: {verdict:?}"
                );
                let all_taken =
                    cells(&own.most).all(|cell| alive.iter().any(|rule| rule.sure[cell]));
                assert_eq!(
                    verdict == Removal::Nothing,
                    all_taken,
                    "seed {seed}, rule {at}: {verdict:?}"
                );
                counts[4 + usize::from(all_taken)] += 1;
            }
        }
        let (takers, all) = prover.takers(rule, false);
        let wanted: Vec<u32> = (0..at)
            .filter(|other| {
                cells(&own.most).any(|cell| {
                    alive[*other].sure[cell] && !alive[..*other].iter().any(|rule| rule.sure[cell])
                })
            })
            .map(|other| u32::try_from(other).unwrap())
            .collect();
        assert!(
            all && takers == wanted,
            "seed {seed}, rule {at}: {takers:?}, not {wanted:?}"
        );
    }
}

#[test]
fn proofs_equal_the_definitions_packet_by_packet() {
    let mut counts = [0; 8];
    let tiny = Limits {
        scanned: 0,
        bucket: 0,
        few: 0,
        between: 0,
        looks: 1,
        tried: 0,
        lemma: 1,
        steps: 1_000_000,
    };
    for seed in 0..4_000 {
        // Every way of looking: by sets, by boxes, in the order of the rules, and where one gives way to another.
        let pick = |of: [u16; 3], by: u64| of[usize::try_from(seed / by % 3).unwrap()];
        let (few, tried) = (pick([0, 1, 4], 1).into(), pick([0, 1, 3], 9).into());
        let (looks, between) = (pick([1, 3, 100], 3).into(), pick([0, 2, 5], 27).into());
        let tiny = Limits {
            few,
            tried,
            looks,
            between,
            ..tiny
        };
        check::<u32>(seed, tiny, &mut counts);
        check::<u128>(
            seed,
            if seed % 2 == 0 {
                Limits::default()
            } else {
                tiny
            },
            &mut counts,
        );
    }
    assert!(counts[..6].iter().all(|count| *count > 300), "{counts:?}");
}

#[test]
fn a_proof_that_takes_too_many_steps_is_undecided() {
    let mut rules = Rules::<u32>::new();
    let tile = |at: u32| [(at * 2, at * 2 + 1)];
    let all = [(0, 127)];
    for at in 0..64 {
        rules.next_rule();
        rules.add(
            Part::Whole,
            0,
            &Product {
                source: &tile(at),
                destination: &all,
                service: &all,
                other: &all,
            },
        );
    }
    rules.next_rule();
    rules.add(
        Part::Whole,
        1,
        &Product {
            source: &all,
            destination: &all,
            service: &all,
            other: &all,
        },
    );
    let list = List::new(
        rules,
        Limits {
            steps: 20,
            ..Limits::default()
        },
    );
    let mut prover = Prover::new(&list, Reading::FirstMatch);
    assert_eq!(prover.covered(64), Covered::Undecided);
}
