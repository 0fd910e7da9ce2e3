//! How fast dead rules are found, against a check of all pairs: `cargo bench --bench rules [-- NAME...]`.
//!
//! Every figure is a ratio within one run: all methods take turns on the same list in the same process, and the median of
//! the turns counts. One thread.

mod lists;

use heronshale_sets::cover::{Coordinate, Covered, Limits, List, Prover, Reading, Removal};
use lists::Line;
use std::hint::black_box;
use std::time::{Duration, Instant};

/// The allocator of the program.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// What came out, so that nothing can be left out by the compiler, and for the tables.
#[derive(Clone, Copy, Debug, Default)]
struct Counts {
    shadowed: usize,
    together: usize,
    redundant: usize,
    undecided: usize,
    bytes: usize,
}

/// Shadowed rules with packet or cover, the index included.
fn shadowed<N: Coordinate>(lines: &[Line<N>]) -> Counts {
    let list = List::new(lists::rules(lines), Limits::default());
    let mut prover = Prover::new(&list, Reading::FirstMatch);
    let mut counts = Counts {
        bytes: list.bytes(),
        ..Counts::default()
    };
    for rule in list.order() {
        match prover.covered(rule) {
            Covered::Open(point) => {
                black_box(point);
            }
            Covered::ByOne(cover) => {
                black_box(cover);
                counts.shadowed += 1;
            }
            Covered::ByMany(covers) => {
                black_box(prover.needed(rule, covers));
                counts.shadowed += 1;
                counts.together += 1;
            }
            Covered::InLemma(_) => {
                counts.shadowed += 1;
                counts.together += 1;
            }
            Covered::Undecided => counts.undecided += 1,
        }
    }
    counts
}

/// The same, and which rules could go without changing anything.
fn both<N: Coordinate>(lines: &[Line<N>]) -> Counts {
    let list = List::new(lists::rules(lines), Limits::default());
    let mut prover = Prover::new(&list, Reading::FirstMatch);
    let mut counts = Counts::default();
    for rule in list.order() {
        match prover.covered(rule) {
            Covered::Open(point) => match prover.removal(rule, Some(1), Some(point)) {
                Removal::Changes(point) => {
                    black_box(point);
                }
                Removal::Undecided => counts.undecided += 1,
                Removal::Nothing | Removal::NothingByDefault => counts.redundant += 1,
            },
            Covered::Undecided => counts.undecided += 1,
            Covered::ByMany(covers) => {
                black_box(prover.needed(rule, covers));
                counts.shadowed += 1;
            }
            Covered::ByOne(_) | Covered::InLemma(_) => counts.shadowed += 1,
        }
    }
    counts
}

/// For each rule the first earlier one that holds all of it: all pairs, packed, with an early end. Misses what only several cover.
fn naive(lines: &[Line<u32>]) -> (usize, u64) {
    let boxes: Vec<[u32; 6]> = lines
        .iter()
        .map(|line| {
            let ((a, b), (c, d), (e, f)) = (line.source[0], line.destination[0], line.service[0]);
            [a, b, c, d, e, f]
        })
        .collect();
    let (mut found, mut tests) = (0, 0);
    for (at, own) in boxes.iter().enumerate() {
        let holds = |o: &[u32; 6]| {
            (o[0] <= own[0])
                & (o[1] >= own[1])
                & (o[2] <= own[2])
                & (o[3] >= own[3])
                & (o[4] <= own[4])
                & (o[5] >= own[5])
        };
        let first = boxes[..at].iter().position(holds);
        tests += first.map_or(at, |first| first + 1) as u64;
        found += usize::from(first.is_some());
    }
    (found, tests)
}

fn timed<T>(run: impl FnOnce() -> T) -> (Duration, T) {
    let begin = Instant::now();
    let result = run();
    (begin.elapsed(), result)
}

fn median(mut times: Vec<Duration>) -> Duration {
    times.sort_unstable();
    times[times.len() / 2]
}

fn turns<N: Coordinate>(name: &str, lines: &[Line<N>], rounds: usize) -> (Duration, Duration) {
    let (mut first, mut second) = (Vec::new(), Vec::new());
    let (mut shadow, mut all) = (Counts::default(), Counts::default());
    for _ in 0..rounds {
        let (time, counts) = timed(|| shadowed(lines));
        first.push(time);
        shadow = counts;
        let (time, counts) = timed(|| both(lines));
        second.push(time);
        all = counts;
    }
    let (first, second) = (median(first), median(second));
    let each = |time: Duration| time.as_secs_f64() * 1e6 / lines.len() as f64;
    println!(
        "{name:24} {:>9} rules {:>9.1} ms {:>7.2} us/rule {:>5.1} % shadowed {:>5.1} % of them by several {:>6.1} ms and redundant ({:.1}x, {:.1} %) {:>4} B/rule {} undecided",
        lines.len(),
        first.as_secs_f64() * 1e3,
        each(first),
        100.0 * shadow.shadowed as f64 / lines.len() as f64,
        100.0 * shadow.together as f64 / shadow.shadowed.max(1) as f64,
        second.as_secs_f64() * 1e3,
        second.as_secs_f64() / first.as_secs_f64(),
        100.0 * all.redundant as f64 / lines.len() as f64,
        shadow.bytes / lines.len(),
        shadow.undecided + all.undecided,
    );
    assert_eq!(shadow.shadowed, all.shadowed, "both find the same");
    (first, second)
}

fn main() {
    let wanted: Vec<String> = std::env::args()
        .skip(1)
        .filter(|arg| !arg.starts_with("--"))
        .collect();
    let runs = |name: &str| wanted.is_empty() || wanted.iter().any(|other| other == name);
    const SEED: u64 = 7;
    if runs("naive") {
        let lines = lists::classifier::<u32>(SEED, 100_000);
        let (mut slow, mut fast) = (Vec::new(), Vec::new());
        let mut tests = 0;
        for _ in 0..3 {
            let (time, (found, pairs)) = timed(|| naive(&lines));
            slow.push(time);
            tests = pairs;
            for _ in 0..3 {
                let (time, counts) = timed(|| shadowed(&lines));
                fast.push(time);
                assert!(counts.shadowed >= found, "what one rule covers is covered");
            }
        }
        let (slow, fast) = (median(slow), median(fast));
        println!(
            "naive pairs, 100,000 rules: {:.1} s, {:.0} million pair tests a second; by proofs {:.1} ms: {:.0} times faster",
            slow.as_secs_f64(),
            tests as f64 / slow.as_secs_f64() / 1e6,
            fast.as_secs_f64() * 1e3,
            slow.as_secs_f64() / fast.as_secs_f64()
        );
    }
    if runs("plain") {
        let mut before: Option<(Duration, Duration)> = None;
        for count in [1_000, 10_000, 100_000] {
            let now = turns(
                "classifier, IPv4",
                &lists::classifier::<u32>(SEED, count),
                5,
            );
            if let Some(before) = before {
                println!(
                    "  growth {:.1}x shadowed, {:.1}x both",
                    now.0.as_secs_f64() / before.0.as_secs_f64(),
                    now.1.as_secs_f64() / before.1.as_secs_f64()
                );
            }
            before = Some(now);
        }
    }
    if runs("million") {
        let before = turns(
            "classifier, IPv4",
            &lists::classifier::<u32>(SEED, 100_000),
            5,
        );
        let now = turns(
            "classifier, IPv4",
            &lists::classifier::<u32>(SEED, 1_000_000),
            3,
        );
        println!(
            "  growth {:.1}x shadowed, {:.1}x both",
            now.0.as_secs_f64() / before.0.as_secs_f64(),
            now.1.as_secs_f64() / before.1.as_secs_f64()
        );
    }
    for count in [10_000, 100_000] {
        if runs("ipv6") {
            turns(
                "classifier, IPv6",
                &lists::classifier::<u128>(SEED, count),
                3,
            );
        }
        if runs("sets") {
            turns("large sets", &lists::with_sets(SEED, count), 3);
        }
        if runs("tiling") {
            turns("tiling", &lists::tiling(SEED, count, false), 3);
        }
        if runs("hole") {
            turns("tiling with a hole", &lists::tiling(SEED, count, true), 3);
        }
        if runs("combs") {
            turns("combs", &lists::combs(SEED, count), 3);
        }
        if runs("slabs") {
            turns("slabs", &lists::slabs(SEED, count), 3);
        }
        if runs("products") {
            turns("products", &lists::products(SEED, count), 3);
        }
    }
}
