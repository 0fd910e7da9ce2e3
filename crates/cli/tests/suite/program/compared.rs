//! `compare`: small estates, a few edits, and what is said of them.

use crate::folder::Folder;
use serde_json::Value;

pub(super) const OLD: &str = "\
format: heronshale-snapshot
version: 1
estate: { name: Two piers, taken: 2026-11-02T06:00:00Z }
owners: [{ id: harbour }, { id: yard }]
networks:
  - { id: east, blocks: 10.1.0.0/16, owner: harbour, main_table: east }
  - { id: west, blocks: 10.2.0.0/16, owner: yard, main_table: west }
subnets:
  - { id: east-a, network: east, blocks: 10.1.1.0/24 }
  - { id: west-a, network: west, blocks: 10.2.1.0/24 }
  - { id: east-fw, network: east, blocks: 10.1.9.0/24 }
  - { id: west-fw, network: west, blocks: 10.2.9.0/24 }
gateways: [{ id: gate, kind: internet, network: east }]
interfaces:
  - { id: crane, subnet: east-a, addresses: 10.1.1.10, groups: [cranes] }
  - { id: winch, subnet: east-a, addresses: 10.1.1.11, groups: [winches] }
  - { id: depot, subnet: west-a, addresses: 10.2.1.10, groups: [depots] }
  - { id: lock-east, subnet: east-fw, addresses: 10.1.9.5, forwards: true, unfiltered: true }
  - { id: lock-west, subnet: west-fw, addresses: 10.2.9.5, forwards: true, unfiltered: true }
public_addresses: [{ address: 203.0.113.9, interface: crane }]
address_sets: [{ id: tools, content: [10.1.1.10] }]
peerings:
  - { id: bridge, sides: [{ network: east, accept_forwarded: true }, { network: west, accept_forwarded: true }] }
route_tables:
  - { id: east, network: east, routes: [{ id: out, to: 0.0.0.0/0, next_hop: \"gateway:gate\" }] }
  - { id: west, network: west, routes: [] }
security_groups:
  - id: cranes
    owner: harbour
    inbound: [{ id: web, services: tcp 443, peers: any }]
    outbound: [{ id: all, peers: any }]
  - id: winches
    owner: harbour
    inbound: [{ id: shell, services: tcp 22, peers: \"set:tools\" }]
    outbound: [{ id: all, peers: any }]
  - id: depots
    owner: yard
    inbound: [{ id: load, services: tcp 8080, peers: \"group:cranes\" }]
    outbound: [{ id: all, peers: any }]
";

fn compared(edits: &[(&str, &str)], options: &[&str]) -> (i32, Value) {
    let new = edits.iter().fold(OLD.to_owned(), |text, (from, to)| {
        assert_eq!(text.matches(from).count(), 1, "{from}");
        text.replace(from, to)
    });
    let folder = Folder::new();
    folder.write("old.yaml", OLD);
    folder.write("new.yaml", new);
    let asked = [&["compare", "old.yaml", "new.yaml"], options].concat();
    folder.json(&asked)
}

/// The rows that say something, as `class from → to: services (cause)`.
pub(super) fn rows(answer: &Value) -> Vec<String> {
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    let all = answer["answer"]["rows"].as_array().unwrap().iter();
    let told = all.filter(|row| row["class"] != "fails-otherwise");
    let mut rows: Vec<String> = told
        .map(|row| {
            let from: Vec<String> = row["from"]
                .as_array()
                .unwrap()
                .iter()
                .map(|one| text(&one["said"]))
                .collect();
            let to: Vec<String> = row["traffic"]
                .as_array()
                .unwrap()
                .iter()
                .map(|one| {
                    let services: Vec<String> = one["services"]
                        .as_array()
                        .unwrap()
                        .iter()
                        .map(text)
                        .collect();
                    format!(
                        "{} {}",
                        text(&one["destinations"]["said"]),
                        services.join(",")
                    )
                })
                .collect();
            let cause: Vec<String> = row["cause"]
                .as_array()
                .unwrap()
                .iter()
                .map(|set| set.as_array().unwrap().iter().map(text).collect::<String>())
                .collect();
            format!(
                "{} {} → {} by {}",
                text(&row["class"]),
                from.join(","),
                to.join("; "),
                cause.join("|")
            )
        })
        .collect();
    rows.sort();
    rows
}

#[test]
fn each_edit_makes_the_difference_that_it_makes() {
    for (edits, wanted) in [
        // A rule is narrowed: what it let in is lost.
        (
            &[(
                "inbound: [{ id: load, services: tcp 8080",
                "inbound: [{ id: load, services: tcp 8081",
            )][..],
            &[
                "lost crane → depot tcp 8080 by a",
                "opened crane → depot tcp 8081 by a",
            ][..],
        ),
        // Either of two new rules suffices.
        (
            &[
                ("content: [10.1.1.10]", "content: [10.1.1.10, 10.2.1.10]"),
                (
                    "inbound: [{ id: shell, services: tcp 22, peers: \"set:tools\" }]",
                    "inbound: [{ id: shell, services: tcp 22, peers: \"set:tools\" }, { id: again, services: tcp 22, peers: 10.2.1.0/24 }]",
                ),
            ],
            &["opened depot → winch tcp 22 by a|b"],
        ),
        // Only together.
        (
            &[
                (
                    "public_addresses: [",
                    "public_addresses: [{ address: 203.0.113.8, interface: winch }, ",
                ),
                (
                    "services: tcp 22, peers: \"set:tools\"",
                    "services: tcp 22, peers: [\"set:tools\", 198.51.100.7]",
                ),
            ],
            &[
                "opened 198.51.100.7 → 203.0.113.8 tcp 22 by ab",
                "opened winch → 203.0.113.9 tcp 443 by a",
                "opened winch → the internet any by a",
            ],
        ),
        // A peering goes down.
        (
            &[(
                "{ network: west, accept_forwarded: true }",
                "{ network: west, up: false }",
            )],
            &[
                "lost crane,winch, lock-east → depot tcp 8080; lock-west any; lock-west any by a",
                "lost depot, lock-west → crane tcp 443; lock-east any by a",
            ],
        ),
        // Nothing follows from words, nor from an order without a meaning.
        (
            &[("taken: 2026-11-02T06:00:00Z", "taken: 2026-11-03T06:00:00Z")],
            &[],
        ),
    ] {
        let (_, answer) = compared(edits, &[]);
        assert_eq!(rows(&answer), wanted, "{edits:?}\n{answer:#}");
    }
}

#[test]
fn an_address_that_changes_sides_is_one_line_of_its_own() {
    let (_, answer) = compared(&[("address: 203.0.113.9", "address: 203.0.113.10")], &[]);
    let answer = &answer["answer"];
    assert_eq!(answer["released"], serde_json::json!(["203.0.113.9"]));
    assert_eq!(answer["taken"], serde_json::json!(["203.0.113.10"]));
    let sets = answer["rows"].as_array().unwrap().iter();
    let mut inside = sets
        .flat_map(|row| row["sets"].as_array().unwrap())
        .filter(|set| {
            let all = set["destinations"].as_array().unwrap();
            let moved = all
                .iter()
                .any(|one| one == "203.0.113.9" || one == "203.0.113.10");
            moved && set["start"] != "internet"
        });
    assert_eq!(inside.next(), None);
}

#[test]
fn what_one_snapshot_does_not_know_is_not_compared() {
    let gap = "gaps: [{ object: \"group:winches\", lacks: rules }]\n";
    let folder = Folder::new();
    folder.write("old.yaml", format!("{OLD}{gap}"));
    folder.write("new.yaml", OLD);
    let (code, answer) = folder.json(&[
        "compare",
        "old.yaml",
        "new.yaml",
        "--fail-on",
        "opened,lost",
    ]);
    assert_eq!(code, 0, "{answer:#}");
    let rows = answer["answer"]["rows"].as_array().unwrap();
    assert!(!rows.is_empty());
    for row in rows {
        assert_eq!(row["class"], "not-comparable", "{row:#}");
    }
    assert_eq!(
        answer["answer"]["gaps_before"],
        serde_json::json!(["group:winches"])
    );
}

#[test]
fn inspection_that_goes_is_told_with_the_edit_by_which_it_goes() {
    let routes = "firewalls:\n  - { id: lock, interfaces: [{ interface: lock-east }, { interface: lock-west }], policy: lock, routes: [{ to: 10.2.0.0/16, interface: lock-west }, { to: 10.1.0.0/16, interface: lock-east }] }\nfirewall_policies:\n  - { id: lock, default: allow }\n";
    let by_lock = OLD
        .replace("{ id: west, network: west, routes: [] }", "{ id: west, network: west, routes: [{ id: east, to: 10.1.0.0/16, next_hop: \"interface:lock-west\" }] }")
        .replace("routes: [{ id: out, to", "routes: [{ id: west, to: 10.2.0.0/16, next_hop: \"interface:lock-east\" }, { id: out, to");
    let folder = Folder::new();
    folder.write("old.yaml", format!("{by_lock}{routes}"));
    folder.write("new.yaml", format!("{OLD}{routes}"));
    let (_, answer) = folder.json(&["compare", "old.yaml", "new.yaml"]);
    let changed: Vec<String> = rows(&answer)
        .into_iter()
        .filter(|row| row.starts_with("inspection"))
        .collect();
    assert_eq!(
        changed,
        [
            "inspection-changed crane → depot tcp 8080 by ab",
            "inspection-changed depot → crane tcp 443 by ab"
        ],
        "{answer:#}"
    );
}

#[test]
fn a_comparison_fails_on_what_was_asked() {
    let edit = [("services: tcp 8080", "services: tcp 8081")];
    for (on, code) in [
        ("opened", 1),
        ("lost", 1),
        ("any", 1),
        ("inspection-changed,lost", 1),
        ("inspection-changed", 0),
        ("broken", 0),
        ("forbidden", 0),
    ] {
        assert_eq!(compared(&edit, &["--fail-on", on]).0, code, "{on}");
    }
    assert_eq!(compared(&[], &["--fail-on", "any"]).0, 0);
}

#[test]
fn a_change_that_is_rehearsed_does_what_it_does_once_it_is_made() {
    for (change, edits) in [
        (
            "remove rule cranes/web",
            &[(
                "inbound: [{ id: web, services: tcp 443, peers: any }]",
                "inbound: []",
            )][..],
        ),
        (
            "disable rule depots/load",
            &[(
                "peers: \"group:cranes\" }",
                "peers: \"group:cranes\", enabled: false }",
            )],
        ),
        (
            "remove public address 203.0.113.9",
            &[(
                "public_addresses: [{ address: 203.0.113.9, interface: crane }]\n",
                "",
            )],
        ),
        (
            "down gateway gate",
            &[(
                "kind: internet, network: east }",
                "kind: internet, network: east, attached: false }",
            )],
        ),
        (
            "down peering bridge",
            &[
                (
                    "{ network: east, accept_forwarded: true }",
                    "{ network: east, accept_forwarded: true, up: false }",
                ),
                (
                    "{ network: west, accept_forwarded: true }",
                    "{ network: west, accept_forwarded: true, up: false }",
                ),
            ],
        ),
        (
            "attach table west to subnet west-a",
            &[(
                "blocks: 10.2.1.0/24 }",
                "blocks: 10.2.1.0/24, route_table: west }",
            )],
        ),
    ] {
        let (_, made) = compared(edits, &[]);
        let folder = Folder::new();
        folder.write("old.yaml", OLD);
        let (_, rehearsed) = folder.json(&["rehearse", change, "-e", "old.yaml"]);
        assert_eq!(rows(&rehearsed), rows(&made), "{change}");
        // What was changed in words stands where it stood.
        assert!(
            !rehearsed.to_string().contains("after the change"),
            "{change}: {rehearsed:#}"
        );
        for edit in rehearsed["answer"]["edits"].as_array().unwrap() {
            assert_eq!(edit["place"]["file"], "old.yaml", "{change}: {edit:#}");
        }
    }
}

#[test]
fn an_overlay_replaces_what_has_its_id() {
    let group = "security_groups:\n  - { id: depots, owner: yard, inbound: [{ id: load, services: tcp 8081, peers: \"group:cranes\" }], outbound: [{ id: all, peers: any }] }\n";
    let folder = Folder::new();
    folder.write("old.yaml", OLD);
    folder.write(
        "change.yaml",
        format!("format: heronshale-snapshot\nversion: 1\n{group}"),
    );
    let (code, rehearsed) = folder.json(&[
        "rehearse",
        "change.yaml",
        "-e",
        "old.yaml",
        "--fail-on",
        "lost",
    ]);
    let (_, made) = compared(&[("services: tcp 8080", "services: tcp 8081")], &[]);
    assert_eq!((code, rows(&rehearsed)), (1, rows(&made)));
    assert_eq!(
        rehearsed["answer"]["edits"][0]["place"]["file"],
        "change.yaml"
    );
    // Nothing but the answer is written.
    assert_eq!(folder.files().len(), 2);
}

#[test]
fn what_is_not_judged_is_not_said_to_make_no_difference() {
    let folder = Folder::new();
    let with = |more: &str| format!("{OLD}{more}");
    let gap = "gaps: [{ object: \"group:winches\", lacks: rules }]\n";
    let name = "public_names: [{ name: crane.example, addresses: 203.0.113.9 }]\n";
    for (old, new, not_judged, unknown) in [
        (
            with(name),
            with(&name.replace("113.9", "113.7")),
            true,
            false,
        ),
        (
            with(gap),
            with(gap).replace("{ id: winch,", "{ id: winch, tags: { use: lift },"),
            false,
            true,
        ),
    ] {
        folder.write("old.yaml", &old);
        folder.write("new.yaml", &new);
        let (_, answer) = folder.json(&["compare", "old.yaml", "new.yaml"]);
        let answer = &answer["answer"];
        assert_eq!(answer["edits"][0]["not_judged"], not_judged, "{answer:#}");
        assert_eq!(
            answer["edits"][0]["without_effect"], !not_judged,
            "{answer:#}"
        );
        assert_eq!(answer["unknown_in_both"], unknown, "{answer:#}");
        let told = folder.run(&["compare", "old.yaml", "new.yaml"]).ok();
        assert!(
            told.starts_with("No connection is known to open or to be lost by "),
            "{told}"
        );
    }
}

#[test]
fn an_order_without_a_meaning_is_no_edit() {
    let (one, other) = (
        "{ id: a, services: tcp 1, peers: any }",
        "{ id: b, services: tcp 2, peers: any }",
    );
    let (_, answer) = {
        let folder = Folder::new();
        let rules = |rules: &str| {
            OLD.replace(
                "inbound: [{ id: web, services: tcp 443, peers: any }]",
                rules,
            )
        };
        folder.write("old.yaml", rules(&format!("inbound: [{one}, {other}]")));
        folder.write("new.yaml", rules(&format!("inbound: [{other}, {one}]")));
        folder.json(&["compare", "old.yaml", "new.yaml", "--fail-on", "any"])
    };
    assert_eq!(answer["answer"]["edits"], serde_json::json!([]));
}

const DERRICK: &str = "lost crane, winch → 10.1.3.3 tcp 443 by a";

#[test]
fn what_is_down_stops_what_leads_by_it() {
    let devices = "firewalls:\n  - { id: lock, interfaces: [{ interface: lock-east }, { interface: lock-west }], policy: lock, routes: [{ to: 10.2.0.0/16, interface: lock-west }, { to: 10.1.0.0/16, interface: lock-east }] }\nfirewall_policies: [{ id: lock, default: allow }]\nbalancers:\n  - { id: derrick, network: east, kind: keeping, front_ends: { address: 10.1.3.3, services: tcp 443 }, back_ends: { interface: crane } }\n";
    let estate = OLD
        .replace("{ id: west, network: west, routes: [] }", "{ id: west, network: west, routes: [{ id: east, to: 10.1.0.0/16, next_hop: \"interface:lock-west\" }] }")
        .replace("routes: [{ id: out, to", "routes: [{ id: west, to: 10.2.0.0/16, next_hop: \"interface:lock-east\" }, { id: out, to");
    let folder = Folder::new();
    folder.write("old.yaml", format!("{estate}{devices}"));
    for (change, wanted) in [
        ("down firewall lock", "lost crane → depot tcp 8080 by a"),
        ("down balancer derrick", DERRICK),
        ("down back end derrick/crane", DERRICK),
    ] {
        let (_, answer) = folder.json(&["rehearse", change, "-e", "old.yaml"]);
        let rows = rows(&answer);
        assert!(
            rows.iter().any(|row| row.starts_with(wanted)),
            "{change}: {rows:?}"
        );
    }
}

#[test]
fn another_name_is_no_change_and_is_told() {
    let folder = Folder::new();
    folder.write("old.yaml", OLD);
    let renamed = OLD
        .replace("cranes", "hoists")
        .replace("id: load", "id: loading");
    folder.write("new.yaml", &renamed);
    let (code, found) = folder.json(&["compare", "old.yaml", "new.yaml", "--fail-on", "any"]);
    assert_eq!(
        (code, &found["answer"]["renamed"]),
        (0, &Value::from(2)),
        "{found:#}"
    );
    assert_eq!(found["answer"]["edits"], serde_json::json!([]));
    // What is edited as well is told by its new name, with the line in the old file of what is gone.
    folder.write(
        "new.yaml",
        renamed.replace(
            "  - { id: depot, subnet: west-a, addresses: 10.2.1.10, groups: [depots] }\n",
            "",
        ),
    );
    let (_, found) = folder.json(&["compare", "old.yaml", "new.yaml"]);
    let edits = found["answer"]["edits"].as_array().unwrap();
    assert_eq!(edits.len(), 1, "{edits:#?}");
    assert_eq!(edits[0]["place"]["file"], "old.yaml");
    assert!(
        rows(&found)
            .iter()
            .any(|row| row.starts_with("lost crane → ")),
        "{:#?}",
        rows(&found)
    );
    let decides = &found["answer"]["rows"][0]["before"]["decides"]["place"];
    assert!(
        decides.is_null() || decides["file"] == "old.yaml",
        "{decides}"
    );
    assert!(!found.to_string().contains("state.json"));
}

#[test]
fn a_path_since_an_earlier_snapshot_names_the_edits_that_broke_it() {
    let folder = Folder::new();
    folder.write("old.yaml", OLD);
    // Another rule goes as well, and the group has another name.
    let new = OLD
        .replace(
            "services: tcp 8080, peers: \"group:cranes\"",
            "services: tcp 8081, peers: \"group:cranes\"",
        )
        .replace(
            "inbound: [{ id: shell, services: tcp 22, peers: \"set:tools\" }]",
            "inbound: []",
        )
        .replace("cranes", "hoists");
    folder.write("new.yaml", new);
    for (to, port, wanted) in [
        (
            "depot",
            "8080",
            "rule depots/load: services tcp 8080 → tcp 8081 (new.yaml:38, yard)",
        ),
        (
            "winch",
            "22",
            "remove rule winches/shell (was at old.yaml:34, harbour)",
        ),
    ] {
        let asked = [
            "path", "crane", to, "--tcp", port, "--since", "old.yaml", "-e", "new.yaml",
        ];
        let run = folder.run(&asked);
        let lines: Vec<&str> = run.stdout.lines().collect();
        let line = lines
            .iter()
            .position(|line| line.starts_with("Changed by: "));
        assert!(line.is_some_and(|at| at < 6), "{}", run.stdout);
        assert!(run.stdout.contains(wanted), "{}", run.stdout);
        let (_, found) = folder.json(&asked);
        assert_eq!(
            found["answer"]["since"]["edits"].as_array().unwrap().len(),
            1,
            "{found:#}"
        );
    }
    let same = folder.run(&[
        "path", "crane", "winch", "--tcp", "1", "--since", "old.yaml", "-e", "new.yaml",
    ]);
    assert!(!same.stdout.contains("Changed by"), "{}", same.stdout);
}
