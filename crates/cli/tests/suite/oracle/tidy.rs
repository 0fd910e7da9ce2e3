//! What is said to go without changing anything: the rules are taken out, and every packet asked again.

use super::agreement::load;
use super::dead::{MOMENTS, Rule, cells, decide, expected, random_list};
use super::estates::{estate, packet};
use super::naive::{Decision, Evaluator, Fate, Packet, list, text};
use fastrand::Rng;
use heronshale_answers::tidy_plan;
use heronshale_audit::change::compare_rules;
use heronshale_audit::dead::{Dead, How, dead_rules_of, removable_together};
use heronshale_audit::elsewhere::denied_elsewhere;
use heronshale_engine::binding::Bindings;
use heronshale_engine::fabric::Fabric;
use heronshale_intake::{load_texts, without_rules};
use heronshale_model::estate::Direction;
use serde_json::Value;

/// All decisions of a list: of each cell at each moment.
fn all_decisions(rules: &[Rule], form: &str, default: &str) -> Vec<(String, bool)> {
    MOMENTS
        .iter()
        .flat_map(|now| cells().map(|cell| decide(rules, form, default, cell, now, None)))
        .collect()
}

#[test]
fn rules_that_go_together_change_no_cell_and_no_other_can_follow() {
    let (mut gone, mut several) = (0, 0);
    for seed in 0..3_000 {
        let mut random = Rng::with_seed(seed);
        let (form, default, mut rules, json) = random_list(&mut random);
        let built = load(&json);
        let view = Fabric::new(&built, None);
        let bindings = Bindings::new(&view);
        let dead: Vec<Dead> = built
            .filters
            .ids()
            .flat_map(|filter| dead_rules_of(&view, &bindings, filter))
            .collect();
        let before = all_decisions(&rules, form, default);
        let plan = removable_together(&view, &bindings, &dead, false);
        let goes: Vec<usize> = plan
            .iter()
            .filter(|(_, direction, _)| *direction == Direction::In)
            .flat_map(|(_, _, rules)| rules.iter().map(|id| id.index as usize))
            .collect();
        rules.retain(|rule| !goes.contains(&rule.index));
        gone += goes.len();
        several += usize::from(goes.len() > 1);
        assert_eq!(
            all_decisions(&rules, form, default),
            before,
            "seed {seed}, {form}: without {goes:?}\n{json:#}"
        );
        // Nothing that was dead because of other rules could follow: it is needed now, or only the default does the same.
        for one in dead
            .iter()
            .filter(|one| matches!(one.how, How::Shadowed(_) | How::Redundant))
        {
            let Some(at) = rules
                .iter()
                .position(|rule| rule.index == one.rule.index as usize)
            else {
                continue;
            };
            let own = &rules[at];
            let others_match = MOMENTS
                .iter()
                .filter(|now| own.ends.is_none_or(|end| end >= **now))
                .all(|now| {
                    let there = |rule: &&Rule| {
                        rule.enabled
                            && rule.ends.is_none_or(|end| end >= *now)
                            && rule.index != own.index
                    };
                    cells().filter(|cell| own.cells & cell != 0).all(|cell| {
                        rules
                            .iter()
                            .filter(there)
                            .any(|rule| rule.cells & cell != 0)
                    })
                });
            let still = expected(&rules, at, form, default).is_some() && others_match;
            assert!(
                !still,
                "seed {seed}, {form}: r{} could follow {goes:?}\n{json:#}",
                own.index
            );
        }
    }
    assert!(
        gone > 1_000 && several > 150,
        "{gone} gone, {several} lists with several"
    );
}

/// What a reader of the snapshot is told of a packet at one side: its fate and whether the reply passes.
fn told(
    naive: &Evaluator<'_>,
    interface: &str,
    packet: &Packet,
    direction: &str,
) -> (Fate, Option<bool>) {
    (
        naive.fate(interface, packet, direction).0,
        naive.reply_passes(interface, packet, direction),
    )
}

fn packets(random: &mut Rng, json: &Value, count: usize) -> Vec<(String, &'static str, Packet)> {
    let interfaces = list(json, "interfaces");
    (0..count)
        .map(|_| {
            let interface = &interfaces[random.usize(0..interfaces.len())];
            let direction = ["in", "out"][random.usize(0..2)];
            (
                text(interface, "id").unwrap().to_owned(),
                direction,
                packet(random, interface, direction),
            )
        })
        .collect()
}

/// YAML written line by line, with a comment before each item.
pub(super) fn yaml(value: &Value, indent: usize, out: &mut String) {
    use std::fmt::Write;
    let space = " ".repeat(indent);
    match value {
        Value::Object(fields) => {
            for (key, value) in fields {
                match value {
                    Value::Array(items) if items.iter().any(Value::is_object) => {
                        writeln!(out, "{space}{key}:").unwrap();
                        for item in items {
                            writeln!(out, "{space}  # about {key}").unwrap();
                            let mut text = String::new();
                            yaml(item, indent + 4, &mut text);
                            writeln!(out, "{space}  - {}", text.trim()).unwrap();
                        }
                    }
                    other => writeln!(out, "{space}{key}: {other}").unwrap(),
                }
            }
        }
        other => writeln!(out, "{space}{other}").unwrap(),
    }
}

#[test]
fn tidied_files_hold_the_rest_and_decide_every_packet_as_before() {
    let (mut gone, mut files) = (0, 0);
    for seed in 0..120 {
        let mut random = Rng::with_seed(seed);
        let before = estate(&mut random);
        let mut lines = String::new();
        yaml(&before, 0, &mut lines);
        for (name, written) in [
            ("estate.json", format!("{before:#}")),
            ("flat.json", before.to_string()),
            ("estate.yaml", lines),
        ] {
            let snapshot = load_texts(&[(name, &written)])
                .unwrap_or_else(|error| panic!("seed {seed}: {error:?}"));
            let view = Fabric::new(&snapshot.estate, None);
            let (going, answer) = tidy_plan(&view);
            assert_eq!(answer.going, going.len());
            for (_, edited) in without_rules(&snapshot, &going) {
                let edited = edited
                    .unwrap_or_else(|| panic!("seed {seed}: {name} was not edited\n{written}"));
                files += 1;
                let mut patched = before.clone();
                json_patch(&mut patched, &serde_json::to_value(&edited.patch).unwrap());
                let after = load_texts(&[(name, &edited.text)]).unwrap();
                assert_eq!(
                    written.matches('#').count(),
                    edited.text.matches('#').count(),
                    "seed {seed}: a comment went"
                );
                let other = Fabric::new(&after.estate, None);
                let changed: Vec<_> = going.iter().map(|rule| rule.filter).collect();
                let compared = compare_rules(&view, &other, &changed);
                assert!(compared.different.is_empty(), "seed {seed}: {compared:?}");
                let count = |json: &Value| json.to_string().matches("\"services\"").count();
                gone += going.len();
                assert!(count(&patched) <= count(&before));
                let (one, two) = (Evaluator::new(&before), Evaluator::new(&patched));
                for (interface, direction, packet) in packets(&mut random, &before, 150) {
                    let (was, is) = (
                        told(&one, &interface, &packet, direction),
                        told(&two, &interface, &packet, direction),
                    );
                    assert_eq!(was, is, "seed {seed}: {interface} {direction} {packet:?}");
                }
            }
        }
    }
    assert!(gone > 100 && files > 60, "{gone} rules of {files} files");
}

/// A patch applied with nothing but its definition.
fn json_patch(json: &mut Value, patch: &Value) {
    for operation in patch.as_array().unwrap() {
        let path = operation["path"].as_str().unwrap();
        match operation["op"].as_str().unwrap() {
            "test" => assert_eq!(json.pointer(path), Some(&operation["value"])),
            "remove" => {
                let (list, index) = path.rsplit_once('/').unwrap();
                json.pointer_mut(list)
                    .unwrap()
                    .as_array_mut()
                    .unwrap()
                    .remove(index.parse().unwrap());
            }
            other => panic!("{other}"),
        }
    }
}

#[test]
fn a_comparison_tells_a_rule_that_mattered() {
    let mut caught = 0;
    for seed in 0..60 {
        let before = estate(&mut Rng::with_seed(seed));
        let mut after = before.clone();
        let groups = after["security_groups"].as_array_mut().unwrap();
        let Some(rules) = groups
            .iter_mut()
            .find_map(|group| group.get_mut("inbound")?.as_array_mut())
        else {
            continue;
        };
        rules.clear();
        let (one, two) = (load(&before), load(&after));
        let changed: Vec<_> = one.filters.ids().collect();
        let compared = compare_rules(&Fabric::new(&one, None), &Fabric::new(&two, None), &changed);
        caught += usize::from(!compared.different.is_empty());
    }
    assert!(caught > 30, "{caught}");
}

#[test]
fn rules_that_are_denied_elsewhere_let_no_packet_through() {
    let (mut flagged, mut useful) = (0, 0);
    for seed in 0..150 {
        let mut random = Rng::with_seed(seed);
        let json = estate(&mut random);
        let built = load(&json);
        let view = Fabric::new(&built, None);
        let denied = denied_elsewhere(&view);
        flagged += denied.len();
        let of_use = |by: &Decision| {
            let named = |one: &heronshale_audit::elsewhere::Denied| {
                let filter = &built.filters[one.rule.filter].name;
                by.by == built.rule_name(one.rule)
                    || by.by == format!("{filter}/{}", built.rule_name(one.rule))
            };
            denied.iter().find(|one| named(one))
        };
        let naive = Evaluator::new(&json);
        for (interface, direction, packet) in packets(&mut random, &json, 400) {
            let (fate, possibilities) = naive.fate(&interface, &packet, direction);
            if fate != Fate::Admitted
                || naive.reply_passes(&interface, &packet, direction) != Some(true)
            {
                continue;
            }
            useful += 1;
            // Ids of rules are unique in random estates.
            for decision in possibilities
                .iter()
                .flatten()
                .filter(|decision| decision.goes_on && decision.stage != "acl")
            {
                let wrong = of_use(decision);
                assert!(
                    wrong.is_none(),
                    "seed {seed}: {interface} {direction} {packet:?} {decision:?} {wrong:?}"
                );
            }
        }
    }
    assert!(
        flagged > 50 && useful > 1_000,
        "{flagged} flagged, {useful} packets"
    );
}
