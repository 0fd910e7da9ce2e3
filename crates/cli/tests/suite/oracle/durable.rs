//! Rules that are called dead whatever the members of groups and sets become stay dead when these change.

use super::agreement::load;
use super::estates::estate;
use fastrand::Rng;
use heronshale_audit::dead::{Dead, dead_rules};
use heronshale_engine::binding::Bindings;
use heronshale_engine::fabric::Fabric;
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// The dead rules of an estate by JSON Pointer, and whether each lasts.
fn dead(json: &Value) -> BTreeMap<String, bool> {
    let built = load(json);
    let view = Fabric::new(&built, None);
    let found: Vec<Dead> = dead_rules(&view, &Bindings::new(&view));
    found
        .iter()
        .map(|dead| (built.rule(dead.rule).origin.pointer(), dead.durable))
        .collect()
}

/// Other members: addresses of interfaces, tags, identities, contents of sets. Bindings and rules stay.
fn change_members(random: &mut Rng, json: &mut Value) {
    for (at, interface) in json["interfaces"]
        .as_array_mut()
        .unwrap()
        .iter_mut()
        .enumerate()
    {
        let network = interface["addresses"][0]
            .as_str()
            .unwrap()
            .rsplit_once('.')
            .unwrap()
            .0
            .to_owned();
        interface["addresses"][0] = format!("{network}.{}", at * 2 + random.usize(2..4)).into();
        if random.bool() {
            let role = ["web", "db"][random.usize(0..2)];
            interface["tags"] = json!({ "role": role, "env": "live" });
        }
        if random.bool() {
            interface["service_identity"] = ["alpha", "beta"][random.usize(0..2)].into();
        }
    }
    for set in json["address_sets"].as_array_mut().unwrap() {
        let blocks = [
            "10.0.0.0/9",
            "198.51.100.0/26",
            "192.168.3.0/24",
            "2001:db8:7::/48",
            "0.0.0.0/0",
            "::/0",
        ];
        set["content"] = json!([blocks[random.usize(0..6)], blocks[random.usize(0..6)]]);
    }
}

#[test]
fn what_is_called_dead_for_good_survives_every_change_of_members() {
    let (mut lasting, mut lost) = (0, 0);
    for seed in 0..400 {
        let mut random = Rng::with_seed(seed);
        let mut before = estate(&mut random);
        // Targets of policies are bindings: they must not move with the tags.
        for policy in before["scope_policies"].as_array_mut().unwrap() {
            policy.as_object_mut().unwrap().remove("targets");
        }
        let found = dead(&before);
        for _ in 0..4 {
            let mut after = before.clone();
            change_members(&mut random, &mut after);
            let still = dead(&after);
            for (pointer, durable) in &found {
                // A rule that matches nothing any more is not dead but empty.
                let rule = before.pointer(pointer).unwrap();
                let kept = still.contains_key(pointer) || is_empty(&after, pointer);
                lasting += usize::from(*durable);
                lost += usize::from(!kept);
                assert!(
                    kept || !durable,
                    "seed {seed}, {pointer}: {rule}\n{after:#}"
                );
            }
        }
    }
    assert!(lasting > 500 && lost > 20, "{lasting} lasting, {lost} lost");
}

/// Whether a rule matches nothing there.
fn is_empty(json: &Value, pointer: &str) -> bool {
    let built = load(json);
    let view = Fabric::new(&built, None);
    let id = built
        .rule_ids()
        .find(|id| built.rule(*id).origin.pointer() == pointer)
        .unwrap();
    let bindings = Bindings::new(&view);
    let places = bindings.enforced(&view, id.filter);
    places.iter().any(|place| {
        let matched = heronshale_engine::stage::rule_match(&view, id, place.network);
        matched.sure.is_empty() && matched.maybe.is_empty()
    })
}
