//! `inventory --uses`: of every item of the demo, held against what a rehearsal of its removal says.

use crate::folder::Folder;
use serde_json::Value;

const ESTATE: &str = "marrowfen-ferries";

fn list<'v>(found: &'v Value, field: &str) -> &'v [Value] {
    found["answer"][field].as_array().unwrap()
}

fn text(value: &Value) -> &str {
    value.as_str().unwrap()
}

/// Whether some changes make a legal snapshot.
fn is_legal(folder: &Folder, changes: &[String]) -> bool {
    let mut asked = vec!["rehearse"];
    asked.extend(changes.iter().map(String::as_str));
    asked.extend(["-e", ESTATE, "--write", "after", "--force"]);
    folder.run(&asked).code <= 1
}

/// How many references lead to nothing in an estate.
fn dangling(folder: &Folder, estate: &str) -> usize {
    let asked = [
        "audit",
        "-e",
        estate,
        "--kind",
        "dangling-reference",
        "--kind",
        "peer-missing",
        "--kind",
        "next-hop-dead",
    ];
    list(&folder.json(&asked).1, "findings").len()
}

#[test]
fn a_thing_can_go_when_all_that_comes_before_is_done_and_not_earlier() {
    let folder = Folder::with_demo();
    let (mut free, mut bound, mut ordered) = (0, 0, 0);
    for name in [
        "group lab",
        "group fares-db",
        "group bastion",
        "set vessels",
        "set harbour-partners",
        "interface crane-1",
        "interface quay-fw-in",
        "interface booking-1",
        "subnet cargo-yard",
        "subnet tickets-work",
        "table cargo-app",
        "table quay-main",
        "ACL tickets-data",
        "gateway cargo-internet",
        "gateway tickets-nat",
        "peering quay-cargo",
        "hub harbour",
        "site dockyard",
        "balancer search-front",
        "firewall quay-fw",
        "firewall policy everywhere",
        "name set mirrors",
        "workload booking",
        "division passenger",
        "own firewall bastion-host",
        "service archive",
        "zone inside",
    ] {
        let (code, found) = folder.json(&["inventory", "--uses", name, "-e", ESTATE]);
        assert_eq!(code, 0, "{name}");
        assert_eq!(text(&found["answer"]["thing"]["name"]), name);
        let before = list(&found, "before");
        let alone = is_legal(&folder, &[format!("remove {name}")]);
        assert_eq!(alone, before.is_empty(), "{name}: {before:?}");
        if before.is_empty() {
            free += 1;
        } else {
            bound += 1;
        }
        // Where nothing but removals comes first, each can be made when its turn comes.
        let removals = before.iter().all(|one| list_of(one).is_empty());
        if removals && !before.is_empty() {
            ordered += 1;
            let steps = before
                .iter()
                .map(|one| format!("remove {}", text(&one["item"]["name"])));
            let steps: Vec<String> = steps.chain([format!("remove {name}")]).collect();
            for done in 1..=steps.len() {
                assert!(
                    is_legal(&folder, &steps[..done]),
                    "{name}: {:?}",
                    &steps[..done]
                );
            }
        }
        // What names it is named by it: the two lists are one relation.
        for one in list(&found, "named_by") {
            let (_, other) =
                folder.json(&["inventory", "--uses", text(&one["item"]), "-e", ESTATE]);
            let mut names = list(&other, "names").iter();
            assert!(
                names.any(|two| text(&two["item"]) == name && two["place"] == one["place"]),
                "{name}: {one}"
            );
        }
    }
    assert!(
        free >= 8 && bound >= 6 && ordered >= 2,
        "{free} {bound} {ordered}"
    );
}

fn list_of(before: &Value) -> &[Value] {
    before["without"].as_array().unwrap()
}

#[test]
fn what_would_dangle_dangles() {
    let folder = Folder::with_demo();
    let now = dangling(&folder, ESTATE);
    for name in [
        "group fares-db",
        "set vessels",
        "peering quay-cargo",
        "ACL tickets-data",
        "group kiosk",
        "table cargo-app",
    ] {
        let (_, found) = folder.json(&["inventory", "--uses", name, "-e", ESTATE]);
        let after = Folder::new();
        for (file, bytes) in folder.files() {
            after.write(&file, bytes);
        }
        let change = format!("remove {name}");
        let run = after.run(&[
            "rehearse", &change, "-e", ESTATE, "--write", ESTATE, "--force",
        ]);
        assert!(run.code <= 1, "{}", run.stderr);
        let grown = dangling(&after, ESTATE) > now;
        assert_eq!(grown, !list(&found, "dangling").is_empty(), "{name}");
    }
}

#[test]
fn what_is_asked_for_must_be_there_once() {
    let folder = Folder::with_demo();
    for (asked, says) in [
        ("group:fares", "did you mean"),
        ("nobody", "nothing in the snapshot is called `nobody`"),
        ("fares-db", "several things are called `fares-db`"),
        ("fares-db/tmp", "nothing refers to a single rule"),
    ] {
        let told = folder.run(&["inventory", "--uses", asked, "-e", ESTATE]);
        assert_eq!(told.code, 2, "{asked}: {}", told.stderr);
        assert!(told.stderr.contains(says), "{asked}: {}", told.stderr);
    }
}
