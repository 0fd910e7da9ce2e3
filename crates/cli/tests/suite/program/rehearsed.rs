//! `rehearse`: changes in words, as patches and as files; their order; and the files that come out.

use super::compared::{OLD, rows};
use crate::folder::Folder;
use serde_json::Value;

fn folder() -> Folder {
    let folder = Folder::new();
    folder.write("old.yaml", OLD);
    folder
}

/// What edits do, in words.
fn edits(answer: &Value) -> Vec<String> {
    let edits = answer["answer"]["edits"].as_array().unwrap();
    let text = |edit: &Value| edit["text"].as_str().unwrap().to_owned();
    edits.iter().map(text).collect()
}

#[test]
fn what_is_written_is_what_was_rehearsed() {
    let changes = [
        (
            "add rule cranes/ssh tcp 22 from 10.2.0.0/16",
            "{ id: ssh, services: tcp 22, peers: \"10.2.0.0/16\" }",
        ),
        (
            "add rule depots/out tcp 1-9,udp 5 to group:cranes,any",
            "{ id: out, services: [tcp 1-9, udp 5], peers: [\"group:cranes\", any] }",
        ),
        ("remove rule winches/shell", "inbound: []"),
        (
            "disable rule depots/load",
            "peers: \"group:cranes\", enabled: false }]",
        ),
        ("remove group depots", ""),
        (
            "give public address 203.0.113.7 to interface winch",
            "interface: crane }, { address: \"203.0.113.7\", interface: winch }]",
        ),
        (
            "give public address 203.0.113.9 to interface winch",
            "[{ address: 203.0.113.9, interface: winch }]",
        ),
        ("take public address 203.0.113.9 from interface crane", ""),
        (
            "down peering bridge",
            "{ network: west, accept_forwarded: true, up: false }",
        ),
        ("down gateway gate", "network: east, attached: false }"),
        (
            "attach table west to subnet west-a",
            "blocks: 10.2.1.0/24, route_table: west }",
        ),
        ("disable route east/out", "enabled: false"),
    ];
    for (change, line) in changes {
        let folder = folder();
        let (_, rehearsed) = folder.json(&["rehearse", change, "-e", "old.yaml", "--write", "new"]);
        let written = folder.read("new/old.yaml");
        assert!(written.contains(line), "{change}: {written}");
        let (_, compared) = folder.json(&["compare", "old.yaml", "new/old.yaml"]);
        assert_eq!(rows(&rehearsed), rows(&compared), "{change}");
        assert_eq!(edits(&rehearsed), edits(&compared), "{change}");
        assert!(!edits(&compared).is_empty(), "{change}");
        // Nothing that is there is overwritten, unless that is asked for.
        folder.write("new/old.yaml", "mine");
        let again = folder.run(&["rehearse", change, "-e", "old.yaml", "--write", "new"]);
        assert_eq!(
            (again.code, folder.read("new/old.yaml").as_str()),
            (2, "mine")
        );
    }
}

#[test]
fn each_kind_of_patch_does_what_it_says() {
    let removed =
        "[{ \"op\": \"test\", \"path\": \"/security_groups/2/inbound/0/id\", \"value\": \"load\" },
        { \"op\": \"remove\", \"path\": \"/security_groups/2/inbound/0\" }]";
    for (name, text) in [
        ("a.json", removed),
        ("old.yaml.patch.json", removed),
        (
            "p/old.yaml.merge.json",
            "{ \"security_groups\": [
                { \"id\": \"cranes\", \"owner\": \"harbour\", \"inbound\": [{ \"id\": \"web\", \"services\": \"tcp 443\", \"peers\": \"any\" }], \"outbound\": [{ \"id\": \"all\", \"peers\": \"any\" }] },
                { \"id\": \"winches\", \"owner\": \"harbour\", \"inbound\": [{ \"id\": \"shell\", \"services\": \"tcp 22\", \"peers\": \"set:tools\" }], \"outbound\": [{ \"id\": \"all\", \"peers\": \"any\" }] },
                { \"id\": \"depots\", \"owner\": \"yard\", \"outbound\": [{ \"id\": \"all\", \"peers\": \"any\" }] }] }",
        ),
    ] {
        let folder = folder();
        folder.write(name, text);
        let (_, patched) = folder.json(&["rehearse", name, "-e", "old.yaml"]);
        let (_, said) = folder.json(&["rehearse", "remove rule depots/load", "-e", "old.yaml"]);
        assert_eq!(rows(&patched), rows(&said), "{name}");
        assert_eq!(edits(&patched), edits(&said), "{name}");
    }
}

#[test]
fn what_tidy_writes_can_be_rehearsed() {
    let folder = Folder::with_demo();
    let tidy = folder.run(&["tidy", "-e", "marrowfen-ferries", "--patch", "patches"]);
    assert_eq!(tidy.code, 0);
    let (code, found) = folder.json(&[
        "rehearse",
        "patches",
        "-e",
        "marrowfen-ferries",
        "--fail-on",
        "any",
    ]);
    assert!(edits(&found).len() > 1, "{found:#}");
    assert_eq!(
        (code, rows(&found)),
        (0, Vec::new()),
        "tidy changes nothing"
    );
}

#[test]
fn later_changes_see_what_earlier_ones_made() {
    let folder = folder();
    folder.write(
        "more.yaml",
        "security_groups: [{ id: hoists, owner: yard, inbound: [{ id: up, services: tcp 1, peers: any }] }]\nformat: heronshale-snapshot\nversion: 1\n",
    );
    let asked = [
        "rehearse",
        "more.yaml",
        "remove rule hoists/up",
        "add rule hoists/down tcp 2 from any",
        "-e",
        "old.yaml",
        "--write",
        "new",
    ];
    let (code, found) = folder.json(&asked);
    assert_eq!(
        (code, edits(&found)),
        (0, vec!["add group hoists".to_owned()])
    );
    let written = folder.read("new/old.yaml");
    assert!(
        written.contains(
            "- { id: hoists, owner: yard, inbound: [{ id: down, services: tcp 2, peers: any }] }"
        ),
        "{written}"
    );
}

#[test]
fn a_change_that_does_not_apply_is_one_error() {
    for (change, wanted) in [
        (
            "add rule cranes/web tcp 1 from any",
            "there is a rule called `cranes/web` already",
        ),
        (
            "add rule crane/web tcp 1 from any",
            "there is no group called `crane`",
        ),
        (
            "add rule cranes/new tcp 1",
            "`add rule cranes/new tcp 1` is not understood",
        ),
        ("up peering bridges", "there is no peering called `bridges`"),
        ("down network east", "network east cannot be down or up"),
        ("enable peering bridge", "peering bridge cannot be enabled"),
        (
            "link network east to hub north",
            "there is no hub called `north`",
        ),
        (
            "give public address 203.0.113.9 to interface hoist",
            "there is no interface called `hoist`",
        ),
        ("a.json", "a.json:2:3: remove /peerings/7 does not apply"),
        ("b.json", "b.json:1:3: this is no operation"),
        ("c.json", "c.json:1:8: this is no patch"),
    ] {
        let folder = folder();
        folder.write("a.json", "[{ \"op\": \"remove\", \"path\": \"/peerings/0\" },\n  { \"op\": \"remove\", \"path\": \"/peerings/7\" }]");
        folder.write(
            "b.json",
            "[ { \"op\": \"delete\", \"path\": \"/peerings/0\" }]",
        );
        folder.write("c.json", "[{ \"op\"]");
        let run = folder.run(&["rehearse", change, "-e", "old.yaml", "--write", "new"]);
        assert_eq!((run.code, run.stdout.as_str()), (2, ""), "{change}");
        assert!(run.stderr.contains(wanted), "{change}: {}", run.stderr);
        assert!(!folder.path().join("new").exists(), "{change}");
    }
}

/// The edits of each step, in their order; `*` for those that may be made at any time.
fn steps(answer: &Value) -> Vec<String> {
    let steps = answer["answer"]["steps"].as_array().unwrap().iter();
    let text = |step: &Value| {
        let letters = step["edits"].as_array().unwrap().iter();
        let letters: String = letters.map(|letter| letter.as_str().unwrap()).collect();
        let any = if step["any_time"] == true { "*" } else { "" };
        format!("{letters}{any}")
    };
    steps.map(text).collect()
}

#[test]
fn steps_have_an_order_in_which_nothing_is_worse_in_between() {
    for (changes, code, wanted, because) in [
        // The new rule comes first: else cranes could not load for a while.
        (
            &[
                "remove rule depots/load",
                "add rule depots/again tcp 8080-8081 from group:cranes",
            ][..],
            0,
            &["a", "b"][..],
            "ends",
        ),
        (
            &["remove rule depots/load", "remove rule cranes/web"],
            0,
            &["a*", "b*"],
            "",
        ),
        (&["remove rule depots/load"], 0, &["a"], ""),
    ] {
        let folder = folder();
        let (found, answer) =
            folder.json(&[&["rehearse"], changes, &["--order", "-e", "old.yaml"]].concat());
        assert_eq!(
            (found, steps(&answer)),
            (code, wanted.iter().map(|one| (*one).to_owned()).collect()),
            "{changes:?}"
        );
        let constraints = answer["answer"]["constraints"].to_string();
        assert_eq!(
            constraints.contains(because),
            !because.is_empty() || constraints == "[]",
            "{constraints}"
        );
    }
}

#[test]
fn steps_without_a_safe_order_are_told_with_what_happens() {
    let folder = folder();
    folder.write(
        "swap.json",
        "[{ \"op\": \"replace\", \"path\": \"/security_groups/1/inbound\", \"value\": [
            { \"id\": \"shell\", \"services\": \"tcp 22\", \"peers\": \"10.2.1.10\" },
            { \"id\": \"other\", \"services\": \"tcp 22\", \"peers\": \"10.1.1.10\" }] }]",
    );
    let two = OLD.replace(
        "peers: \"set:tools\" }]",
        "peers: 10.1.1.10 }, { id: other, services: tcp 22, peers: 10.2.1.10 }]",
    );
    folder.write("two.yaml", two);
    let (code, found) = folder.json(&["rehearse", "swap.json", "--order", "-e", "two.yaml"]);
    assert_eq!(code, 1);
    let conflict = &found["answer"]["conflict"];
    assert_eq!(
        (&conflict["edits"], &conflict["minimal"]),
        (&serde_json::json!(["a", "b"]), &Value::Bool(true))
    );
    assert_eq!(
        conflict["state"]["harms"][0]["harm"], "ends",
        "{conflict:#}"
    );
    let added: Vec<Value> = (1..42)
        .map(|port| {
            let rule = serde_json::json!({ "id": format!("r{port}"), "services": format!("tcp {port}"), "peers": "any" });
            serde_json::json!({ "op": "add", "path": "/security_groups/0/inbound/-", "value": rule })
        })
        .collect();
    folder.write("many.json", Value::Array(added).to_string());
    let many = folder.run(&["rehearse", "many.json", "--order", "-e", "two.yaml"]);
    assert_eq!(many.code, 2);
    assert!(
        many.stderr
            .contains("41 steps are too many to put in order: 40 are the most here"),
        "{}",
        many.stderr
    );
}

/// Two piers with a firewall between them; a peering leads around it.
const LOCKED: &str = "firewalls:
  - { id: lock, interfaces: [{ interface: lock-east }, { interface: lock-west }], policy: lock, routes: [{ to: 10.2.0.0/16, interface: lock-west }, { to: 10.1.0.0/16, interface: lock-east }] }
firewall_policies: [{ id: lock, default: allow }]
";

fn locked(setting: &str) -> Folder {
    let folder = Folder::new();
    let text = OLD
        .replace("taken: 2026-11-02T06:00:00Z", &format!("taken: 2026-11-02T06:00:00Z{setting}"))
        .replace(
            "routes: [{ id: out,",
            "routes: [{ id: by-lock, to: 10.2.1.0/24, next_hop: \"firewall:lock\" }, { id: out,",
        )
        .replace(
            "network: west, routes: []",
            "network: west, routes: [{ id: by-lock, to: 10.1.1.0/24, next_hop: \"firewall:lock\" }]",
        );
    folder.write("all/old.yaml", text + LOCKED);
    folder.write(
        "all/expectations.yaml",
        "format: heronshale-expectations\nversion: 1\nexpectations:\n  - { name: cranes load, from: crane, may_reach: depot, on: tcp 8080 }\n",
    );
    folder
}

/// Each failure with how many groups go uninspected, the expectations that break, and how many groups stop.
fn failures(answer: &Value) -> Vec<(String, usize, usize, usize)> {
    let all = answer["answer"]["failures"].as_array().unwrap().iter();
    let count = |one: &Value, list: &str| one["loss"][list].as_array().unwrap().len();
    all.map(|one| {
        let name = format!(
            "{} {}",
            one["kind"].as_str().unwrap(),
            one["name"].as_str().unwrap()
        );
        (
            name,
            count(one, "uninspected"),
            count(one, "breaks"),
            count(one, "lost"),
        )
    })
    .collect()
}

#[test]
fn each_failure_does_what_it_does_when_it_is_rehearsed_alone() {
    for setting in ["", ", settings: { missing_next_hop: skipped }"] {
        let folder = locked(setting);
        let (code, all) = folder.json(&["rehearse", "--each-down", "-e", "all"]);
        assert_eq!(code, 0);
        let found = failures(&all);
        assert!(found.len() > 1, "{found:?}");
        for (name, uninspected, breaks, lost) in &found {
            let (_, alone) = folder.json(&["rehearse", &format!("down {name}"), "-e", "all"]);
            let rows = alone["answer"]["rows"].as_array().unwrap();
            let of = |classes: &[&str]| {
                rows.iter()
                    .any(|row| classes.contains(&row["class"].as_str().unwrap()))
            };
            assert_eq!(
                *lost > 0,
                of(&["lost", "works-for-less"]),
                "{name} {setting}"
            );
            if *uninspected > 0 {
                assert!(of(&["inspection-changed"]), "{name} {setting}");
            }
            let turned = alone["answer"]["turned"].as_array().unwrap().iter();
            assert_eq!(
                *breaks,
                turned.filter(|one| one["before"] == "kept").count(),
                "{name}"
            );
        }
        // What is not among them makes no difference.
        for name in all["answer"]["redundant"].as_array().unwrap() {
            let down = format!("down {}", name.as_str().unwrap());
            let (_, alone) = folder.json(&["rehearse", &down, "-e", "all"]);
            assert_eq!(rows(&alone), Vec::<String>::new(), "{down}");
        }
    }
}

#[test]
fn a_firewall_around_which_traffic_goes_is_the_worst_to_lose() {
    let skipped = locked(", settings: { missing_next_hop: skipped }");
    let (_, found) = skipped.json(&["rehearse", "--each-down", "-e", "all"]);
    let first = &failures(&found)[0];
    assert_eq!(first.0, "firewall lock", "{found:#}");
    assert!(
        first.1 > 0 && first.2 == 0,
        "{first:?}: it works, uninspected"
    );
    // By default it ends what passes it, and the other setting is said to be another matter.
    let lost = locked("");
    let (_, found) = lost.json(&["rehearse", "--each-down", "-e", "all"]);
    let failures = found["answer"]["failures"].as_array().unwrap();
    let lock = failures.iter().find(|one| one["name"] == "lock").unwrap();
    assert_eq!(
        lock["loss"]["breaks"],
        serde_json::json!(["cranes load"]),
        "{lock:#}"
    );
    assert!(
        !lock["with_the_other_setting"]["uninspected"]
            .as_array()
            .unwrap()
            .is_empty()
    );
    let told = lost.run(&["rehearse", "--each-down", "-e", "all"]).stdout;
    let told = told.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(
        told.contains(
            "With skipped, it is another matter for firewall lock, traffic goes uninspected"
        ),
        "{told}"
    );
    // After a change the estate after it is asked.
    let (_, after) = lost.json(&[
        "rehearse",
        "remove rule depots/load",
        "--each-down",
        "-e",
        "all",
    ]);
    assert_eq!(
        after["answer"]["failures"]
            .to_string()
            .matches("cranes load")
            .count(),
        0
    );
}

#[test]
fn a_review_is_markdown_in_which_no_name_is_a_mark() {
    let folder = folder();
    let odd = OLD
        .replace("id: yard", "id: \"<b>*yard*\"")
        .replace("owner: yard", "owner: \"<b>*yard*\"");
    folder.write("odd.yaml", odd);
    let run = folder.run(&[
        "rehearse",
        "remove rule depots/load",
        "--review",
        "-e",
        "odd.yaml",
    ]);
    let (shown, folded) = run.stdout.split_once("<details>").unwrap();
    assert!(shown.starts_with("**1 way is lost."), "{shown}");
    assert!(
        shown.contains("- **a** remove rule depots/load (odd.yaml:"),
        "{shown}"
    );
    assert!(
        shown.contains("&lt;b&gt;\\*yard\\*") && !shown.contains("<b>"),
        "{shown}"
    );
    assert!(
        shown.contains("\n**Lost**\n- **a** crane → depot: tcp 8080"),
        "{shown}"
    );
    assert!(
        shown.lines().count() < 20 && folded.contains("```text\n1 way is lost."),
        "{folded}"
    );
}
