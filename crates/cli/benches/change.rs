//! What comparing two states costs: one edited rule, a hundred, every rule; a failure; an order of steps. On three shapes of
//! estates, as ratios to F, the time in which serde_json parses the same text into plain owned structs.
//!
//! `cargo bench --bench change -- 10000` asks estates of so many interfaces; without a number 1,000.

#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    dead_code,
    reason = "a benchmark prints, and stops where it cannot go on; the estates have files that are not used here"
)]

mod estates;
mod shapes;

use heronshale_change::{Base, Ordering, compare, order};
use heronshale_engine::fabric::Fabric;
use heronshale_intake::{Change, Difference, Snapshot, failing, load_texts, rehearsed};
use heronshale_model::estate::Estate;
use heronshale_sets::address::Addresses;
use serde_json::{Value, json};
use std::hint::black_box;
use std::time::Instant;

/// The allocator of the program.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const ROUNDS: usize = 3;
/// So many things fail, one after the other.
const FAILURES: usize = 5;

fn seconds<T>(run: impl FnOnce() -> T) -> f64 {
    let start = Instant::now();
    black_box(run());
    start.elapsed().as_secs_f64()
}

fn median(mut all: Vec<f64>) -> f64 {
    all.sort_by(f64::total_cmp);
    all[all.len() / 2]
}

fn read(text: &str) -> Snapshot {
    load_texts(&[("estate.json", text)]).unwrap()
}

/// The estate with another port in the first rule of so many groups, spread over all; of every rule if that is more than there are.
fn edited(text: &str, rules: usize) -> String {
    let mut estate: Value = serde_json::from_str(text).unwrap();
    let groups = estate["security_groups"].as_array_mut().unwrap();
    let every = rules > groups.len();
    let step = (groups.len() / rules.max(1)).max(1);
    for group in groups.iter_mut().step_by(step).take(rules) {
        let inbound = group["inbound"].as_array_mut().unwrap();
        let count = if every { inbound.len() } else { 1 };
        for rule in inbound.iter_mut().take(count) {
            rule["services"] = json!(["tcp 4711"]);
        }
    }
    estate.to_string()
}

fn view(estate: &Estate) -> Fabric<'_> {
    Fabric::new(estate, None)
}

/// Two states compared, both read already.
fn compared(old: &Snapshot, new: &Snapshot) -> f64 {
    seconds(|| {
        let difference = Difference::of(old, new);
        let views = [old, new].map(|one| view(&one.estate));
        compare((&views[0], &views[1]), &difference, &|estate| view(estate))
            .differences
            .len()
    })
}

/// The first things that can fail, each alone; seconds for each.
fn failed(old: &Snapshot) -> f64 {
    let things = failing(old);
    let step = (things.len() / FAILURES).max(1);
    let chosen: Vec<_> = things.iter().step_by(step).take(FAILURES).collect();
    let before = view(&old.estate);
    let base = Base::of(&before);
    let all = seconds(|| {
        for thing in &chosen {
            let after = rehearsed(old, &[Change::Words(thing.words())]).unwrap();
            black_box(base.against(&view(&after.estate)));
        }
    });
    all / chosen.len().max(1) as f64
}

/// Three edited rules put in order.
fn ordered(old: &Snapshot, new: &Snapshot) -> f64 {
    seconds(|| {
        let difference = Difference::of(old, new);
        let views = [old, new].map(|one| view(&one.estate));
        let with = Ordering {
            between: &difference,
            judged: &|estate| view(estate),
            kept: &|_| Vec::new(),
            marked: Addresses::empty(),
        };
        order((&views[0], &views[1]), &with).is_ok()
    })
}

/// A name, and what makes an estate of so many interfaces.
type Shape = (&'static str, fn(usize) -> String);

fn main() {
    let given = std::env::args()
        .skip(1)
        .find(|word| !word.starts_with("--"));
    let interfaces = given.and_then(|word| word.parse().ok()).unwrap_or(1_000);
    println!(
        "{:>8} {:>8} {:>8} {:>10} {:>10} {:>11} {:>11} {:>12} {:>10}",
        "shape",
        "F, s",
        "read / F",
        "1 edit / F",
        "100 / F",
        "every / F",
        "failure / F",
        "3 in order / F",
        "interfaces"
    );
    let shapes: [Shape; 3] = [
        ("bench", estates::estate),
        ("lab", shapes::lab),
        ("spokes", shapes::spokes),
    ];
    for (name, make) in shapes {
        let text = make(interfaces);
        let old = read(&text);
        let changed = [1, 100, usize::MAX, 3].map(|rules| read(&edited(&text, rules)));
        let mut rounds: [Vec<f64>; 7] = Default::default();
        for round in 0..ROUNDS {
            rounds[0].push(seconds(|| {
                serde_json::from_str::<estates::Plain>(&text).unwrap()
            }));
            rounds[1].push(seconds(|| read(&text)));
            rounds[2].push(compared(&old, &changed[0]));
            // The dearest ones once.
            if round == 0 {
                rounds[3].push(compared(&old, &changed[1]));
                if interfaces <= 1_000 {
                    rounds[4].push(compared(&old, &changed[2]));
                }
                rounds[5].push(failed(&old));
                rounds[6].push(ordered(&old, &changed[3]));
            }
        }
        let every = rounds[4].is_empty();
        if every {
            rounds[4].push(f64::NAN);
        }
        let [plain, reading, one, hundred, every, failure, order] = rounds.map(median);
        println!(
            "{name:>8} {plain:>8.3} {:>8.1} {:>10.1} {:>10.1} {:>11.1} {:>11.1} {:>12.1} {interfaces:>10}",
            reading / plain,
            one / plain,
            hundred / plain,
            every / plain,
            failure / plain,
            order / plain
        );
    }
}
