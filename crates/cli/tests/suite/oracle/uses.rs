//! What dangles without an item, against what the reader itself finds missing: on random estates, item by item.

use super::random_estate;
use fastrand::Rng;
use heronshale_intake::{Change, Snapshot, load_texts, rehearsed, uses};
use heronshale_model::estate::{Estate, RemarkKind};
use serde_json::Value;

/// Sections of which nothing has a name that others could use.
const NAMELESS: [&str; 4] = ["estate", "gaps", "public_names", "public_addresses"];

fn read(estate: &Value) -> Option<Snapshot> {
    load_texts(&[("estate.json", &estate.to_string())]).ok()
}

/// The references that lead to nothing, each by what it names.
fn missing(estate: &Estate) -> Vec<String> {
    let named = estate
        .remarks
        .iter()
        .filter_map(|remark| match &remark.what {
            RemarkKind::Missing { target, .. } => Some(target.to_string()),
            RemarkKind::HostBits { .. } => None,
        });
    named.collect()
}

#[test]
fn what_dangles_is_what_the_reader_misses() {
    let (mut asked, mut dangling, mut bound) = (0, 0, 0);
    for seed in 0..40 {
        let mut random = Rng::with_seed(seed);
        let estate = random_estate(&mut random);
        let Some(snapshot) = read(&estate) else {
            continue;
        };
        let before = missing(&snapshot.estate).len();
        for (section, items) in estate.as_object().unwrap() {
            let items = items.as_array().into_iter().flatten();
            for id in items.filter_map(|item| item["id"].as_str()) {
                if NAMELESS.contains(&section.as_str()) {
                    continue;
                }
                // Where several things are called so it has to be said which.
                let Ok(found) = uses(&snapshot, id) else {
                    continue;
                };
                asked += 1;
                let change = Change::Words(format!("remove {}", found.thing.name));
                let after = rehearsed(&snapshot, &[change]);
                let free = found.before.is_empty() && found.refused.is_none();
                assert_eq!(after.is_ok(), free, "seed {seed}, {}", found.thing.name);
                bound += usize::from(!free);
                let Ok(after) = after else { continue };
                // What it named itself is not missed any more.
                let own = found
                    .names
                    .iter()
                    .filter(|one| one.item.ends_with(" (missing)"));
                let lost = missing(&after.estate).len() + own.count() - before;
                assert_eq!(
                    found.dangling.len(),
                    lost,
                    "seed {seed}, {}: {:#?}",
                    found.thing.name,
                    found.dangling
                );
                dangling += lost;
            }
        }
    }
    assert!(
        asked > 400 && dangling > 200 && bound > 100,
        "{asked} {dangling} {bound}"
    );
}
