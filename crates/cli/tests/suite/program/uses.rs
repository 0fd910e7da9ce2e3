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

/// How many references lead to nothing after some changes; none if they make no legal snapshot.
fn dangling(folder: &Folder, changes: &[String]) -> Option<usize> {
    let after = folder.path().join("after");
    if after.exists() {
        std::fs::remove_dir_all(&after).unwrap();
    }
    let mut asked = vec!["rehearse"];
    asked.extend(changes.iter().map(String::as_str));
    asked.extend(["-e", ESTATE, "--write", "after"]);
    if folder.run(&asked).code > 1 {
        return None;
    }
    for (name, bytes) in folder.files() {
        if let Some(file) = name.strip_prefix("marrowfen-ferries/")
            && folder.files().get(&format!("after/{file}")).is_none()
        {
            folder.write(&format!("after/{file}"), bytes);
        }
    }
    let (_, audit) = folder.json(&[
        "audit",
        "-e",
        "after",
        "--kind",
        "dangling-reference",
        "--kind",
        "peer-missing",
    ]);
    Some(list(&audit, "findings").len())
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
        let alone = dangling(&folder, &[format!("remove {name}")]);
        assert_eq!(alone.is_some(), before.is_empty(), "{name}: {before:?}");
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
                    dangling(&folder, &steps[..done]).is_some(),
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
