//! What is advised is tried against the expectations: held against rehearsals of the same change.

use crate::folder::Folder;
use serde_json::Value;
use std::collections::BTreeMap;

const ESTATE: &str = "marrowfen-ferries";

/// `delete rule tmp of group fares-db and rule x of ACL y` as changes in words; none of a change of another kind.
fn in_words(change: &str) -> Option<Vec<String>> {
    if let Some(address) = change.strip_prefix("release public address ") {
        return Some(vec![format!("take public address {address}")]);
    }
    let rules = change.strip_prefix("delete ")?.split(" and ");
    let words = |rule: &str| {
        let (rule, filter) = rule.strip_prefix("rule ")?.split_once(" of ")?;
        let name = filter.rsplit(' ').next()?;
        Some(format!("remove rule {name}/{rule}"))
    };
    rules.map(words).collect()
}

/// `add to group fares-db, inbound: allow tcp 5432 from A, B` as a change in words.
fn added(edit: &str, number: usize) -> Option<String> {
    let (place, rule) = edit.strip_prefix("add to ")?.split_once(": allow ")?;
    let name = place.split(", ").next()?.rsplit(' ').next()?;
    let word = if place.ends_with("inbound") {
        " from "
    } else {
        " to "
    };
    let (services, peers) = rule.split_once(word)?;
    let (services, peers) = (services.replace(", ", ","), peers.replace(", ", ","));
    Some(format!(
        "add rule {name}/first{number} {services}{word}{peers}"
    ))
}

/// The expectations that are kept before some changes, and not after them.
fn broken_by(folder: &Folder, changes: &[String]) -> Vec<String> {
    let mut asked = vec!["rehearse"];
    asked.extend(changes.iter().map(String::as_str));
    asked.extend(["-e", ESTATE]);
    let (_, found) = folder.json(&asked);
    let turned = found["answer"]["turned"].as_array().unwrap().iter();
    let broken = turned.filter(|one| one["before"] == "kept" && one["now"] != "kept");
    let mut names: Vec<String> = broken
        .map(|one| one["name"].as_str().unwrap().to_owned())
        .collect();
    names.sort();
    names
}

fn texts(list: &Value, field: &str) -> Vec<String> {
    let all = list.as_array().unwrap().iter();
    all.map(|one| one[field].as_str().unwrap().to_owned())
        .collect()
}

#[test]
fn advice_breaks_what_its_rehearsal_breaks_and_no_more_after_what_comes_first() {
    let folder = Folder::with_demo();
    let (_, audit) = folder.json(&["audit", "-e", ESTATE]);
    let accepted = audit["answer"]["accepted"].as_array().unwrap().iter();
    let findings = audit["answer"]["findings"].as_array().unwrap().iter();
    let findings = findings.chain(accepted.map(|one| &one["finding"]));
    let tried = findings.flat_map(|one| one["tried"].as_array().unwrap());
    let tried: BTreeMap<&str, &Value> = tried
        .map(|one| (one["change"].as_str().unwrap(), one))
        .collect();
    let (mut breaking, mut mended, mut harmless) = (0, 0, 0);
    for (change, one) in tried {
        assert_eq!(one["tried"], true, "{change}");
        let Some(words) = in_words(change) else {
            continue;
        };
        let mut breaks = texts(&one["breaks"], "expectation");
        breaks.sort();
        assert_eq!(broken_by(&folder, &words), breaks, "{change}");
        let first = texts(&one["first"], "text");
        let first: Vec<String> = first
            .iter()
            .enumerate()
            .map(|(at, edit)| added(edit, at).unwrap())
            .collect();
        for changes in [first.clone(), [first.clone(), words].concat()] {
            if !first.is_empty() {
                assert_eq!(
                    broken_by(&folder, &changes),
                    Vec::<String>::new(),
                    "{changes:?}"
                );
            }
        }
        breaking += usize::from(!breaks.is_empty());
        mended += usize::from(!first.is_empty());
        harmless += usize::from(breaks.is_empty());
    }
    assert!(
        breaking >= 3 && mended >= 1 && harmless >= 10,
        "{breaking} {mended} {harmless}"
    );
}

#[test]
fn a_finding_by_itself_tells_what_comes_first() {
    let folder = Folder::with_demo();
    let told = folder.run(&["explain", "eqxz", "-e", ESTATE]);
    assert!(
        told.stdout
            .contains("Breaks “the fares replicate” if you delete rule tmp of group fares-db."),
        "{}",
        told.stdout
    );
    assert!(
        told.stdout
            .contains("first      add to group fares-db, inbound: allow tcp 5432 from"),
        "{}",
        told.stdout
    );
}

/// Two networks, and somebody who must not reach the other: a fix of one connection can break that.
const PIERS: &str = "\
format: heronshale-snapshot
version: 1
estate: { name: Piers }
networks: [{ id: east, blocks: 10.1.0.0/16 }]
subnets: [{ id: a, network: east, blocks: 10.1.1.0/24 }]
interfaces:
  - { id: crane, subnet: a, addresses: 10.1.1.10, groups: [cranes] }
  - { id: winch, subnet: a, addresses: 10.1.1.11, groups: [winches] }
security_groups:
  - { id: cranes, inbound: [], outbound: [{ id: all, peers: any }] }
  - { id: winches, inbound: [], outbound: [{ id: all, peers: any }] }
";

#[test]
fn a_fix_that_breaks_an_expectation_is_told_and_not_offered() {
    let folder = Folder::new();
    folder.write("estate.yaml", PIERS);
    let says = |what: &str| {
        format!(
            "format: heronshale-expectations\nversion: 1\nexpectations: [{{ name: cranes alone, from: network:east, {what} }}]\n"
        )
    };
    let ask = |what: &str| {
        folder.write("said.yaml", says(what));
        let (code, found) = folder.json(&[
            "path",
            "crane",
            "winch",
            "--tcp",
            "22",
            "-e",
            "estate.yaml",
            "--expectations",
            "said.yaml",
        ]);
        assert_eq!(code, 1);
        let count = |field: &str| found["answer"][field].as_array().unwrap().len();
        (count("fixes"), count("fixes_refused"))
    };
    let (offered, refused) = ask("never_reaches: winch, on: tcp 22");
    assert!(offered == 0 && refused > 0, "{offered} {refused}");
    let (offered, refused) = ask("never_reaches: winch, on: tcp 23");
    assert!(offered > 0 && refused == 0, "{offered} {refused}");
    folder.write("said.yaml", says("never_reaches: winch, on: tcp 22"));
    let text = folder.run(&[
        "path",
        "crane",
        "winch",
        "--tcp",
        "22",
        "-e",
        "estate.yaml",
        "--expectations",
        "said.yaml",
    ]);
    assert!(
        text.stdout.contains("it breaks “cranes alone”"),
        "{}",
        text.stdout
    );
}

/// A rule of one name in each direction: only the outbound one is needed by nobody.
const TWINS: &str = "\
format: heronshale-snapshot
version: 1
estate: { name: Twins, taken: 2026-11-02T06:00:00Z }
networks: [{ id: east, blocks: 10.1.0.0/16 }]
subnets: [{ id: a, network: east, blocks: 10.1.1.0/24 }]
interfaces:
  - { id: crane, subnet: a, addresses: 10.1.1.10, groups: [cranes] }
  - { id: winch, subnet: a, addresses: 10.1.1.11, groups: [winches] }
security_groups:
  - id: cranes
    inbound: [{ id: x, services: tcp 22, peers: any, review_by: 2026-01-01 }]
    outbound: [{ id: x, services: tcp 22, peers: any, review_by: 2026-01-01 }]
  - { id: winches, inbound: [], outbound: [{ id: all, peers: any }] }
";

#[test]
fn rules_of_one_name_in_both_directions_are_tried_apart() {
    let folder = Folder::new();
    folder.write("twins.yaml", TWINS);
    folder.write(
        "said.yaml",
        "format: heronshale-expectations\nversion: 1\nexpectations: [{ name: in, from: winch, may_reach: crane, on: tcp 22 }]\n",
    );
    let (_, audit) = folder.json(&[
        "audit",
        "-e",
        "twins.yaml",
        "--expectations",
        "said.yaml",
        "--kind",
        "overdue",
    ]);
    let findings = audit["answer"]["findings"].as_array().unwrap();
    let breaks = |direction: &str| {
        let of = |one: &&Value| one["evidence"][0]["rule"]["direction"] == direction;
        let found = findings.iter().find(of).unwrap();
        texts(&found["tried"][0]["breaks"], "expectation")
    };
    assert_eq!(
        (breaks("in"), breaks("out")),
        (vec!["in".to_owned()], Vec::new())
    );
}
