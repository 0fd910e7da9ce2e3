//! The clean-up as its users meet it, and the configuration.

use crate::folder::{Folder, HEADER};
use serde_json::json;

const RULES: &str = "\
security_groups:
# who may ask
- id: web
  inbound:
  # the offices
  - { id: wide, services: tcp 443, peers: 10.0.0.0/8 } # all of them
  - id: narrow
    services: tcp 443
    peers:
    - 10.1.0.0/16

  # the last
  - { id: again, services: tcp 443, peers: 10.1.0.0/16 }
- id: only
  inbound:
  - { id: first, services: tcp 22, peers: 10.1.0.0/16 }
  - { id: first-too, services: tcp 22, peers: 10.1.0.0/16, review_by: 2026-12-01 }
";

const TIDIED: &str = "\
security_groups:
# who may ask
- id: web
  inbound:
  # the offices
  - { id: wide, services: tcp 443, peers: 10.0.0.0/8 } # all of them

  # the last
- id: only
  inbound:
  - { id: first, services: tcp 22, peers: 10.1.0.0/16 }
";

#[test]
fn the_clean_up_keeps_comments_and_overwrites_nothing() {
    let folder = Folder::with(&format!("{HEADER}{RULES}"));
    let told = folder
        .run(&[
            "tidy",
            "-e",
            "estate.yaml",
            "--apply",
            "new",
            "--patch",
            "patches",
        ])
        .ok();
    assert!(
        told.starts_with("3 of 5 rules can be deleted together without any effect.")
            && told.contains("Every packet gets the same decision"),
        "{told}"
    );
    assert_eq!(folder.read("new/estate.yaml"), format!("{HEADER}{TIDIED}"));
    let patch: serde_json::Value =
        serde_json::from_str(&folder.read("patches/estate.yaml.patch.json")).unwrap();
    let places: Vec<&str> = patch
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["path"].as_str().unwrap())
        .collect();
    let pairs = [
        "/security_groups/0/inbound/2",
        "/security_groups/0/inbound/1",
        "/security_groups/1/inbound/1",
    ];
    assert_eq!(
        places,
        pairs
            .iter()
            .flat_map(|one| [*one, *one])
            .collect::<Vec<_>>()
    );
    assert_eq!(
        patch[0]["value"],
        json!({ "id": "again", "services": "tcp 443", "peers": "10.1.0.0/16" })
    );
    // What is written already is written again; anything else is not.
    folder
        .run(&["tidy", "-e", "estate.yaml", "--apply", "new"])
        .ok();
    folder.write("new/estate.yaml", "mine");
    assert!(
        folder
            .run(&["tidy", "-e", "estate.yaml", "--apply", "new"])
            .fails(2)
            .contains("already exists")
    );
    assert_eq!(folder.read("new/estate.yaml"), "mine");
    folder
        .run(&["tidy", "-e", "estate.yaml", "--apply", ".", "--force"])
        .ok();
    assert_eq!(folder.read("estate.yaml"), format!("{HEADER}{TIDIED}"));
    let told = folder.run(&["tidy", "-e", "estate.yaml"]).ok();
    assert!(
        told.starts_with("None of 2 rules can be deleted safely."),
        "{told}"
    );
}

#[test]
fn what_would_not_last_stays() {
    let rules = "\
networks: [{ id: n, blocks: [10.65.0.0/16] }]
subnets: [{ id: s, network: n, blocks: [10.65.1.0/24], acl: a }]
interfaces: [{ id: i, subnet: s, addresses: [10.65.1.11], groups: [g, h] }]
address_sets: [{ id: offices, content: [10.1.0.0/16] }]
security_groups:
- id: g
  inbound:
  - { id: members, services: tcp 1, peers: \"set:offices\" }
  - { id: today, services: tcp 1, peers: 10.1.0.0/24 }
  - { id: for-now, services: tcp 2, peers: any, review_by: 2026-12-01 }
  - { id: needed-later, services: tcp 2, peers: 10.1.0.0/24 }
  - { id: beside, services: tcp 3, peers: 10.1.0.0/24 }
- { id: h, inbound: [{ id: wide, services: tcp 3, peers: any }] }
network_acls: [{ id: a, inbound: [{ id: spelled, action: deny, peers: any }] }]
";
    let folder = Folder::with(&format!("{HEADER}{rules}"));
    let (_, told) = folder.json(&["tidy"]);
    let staying: Vec<(&str, &str)> = told["answer"]["staying"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| {
            (
                one["rule"]["rule"].as_str().unwrap(),
                one["because"].as_str().unwrap(),
            )
        })
        .collect();
    assert_eq!(told["answer"]["going"], 0);
    let wanted = [
        ("today", "members"),
        ("needed-later", "due for review"),
        ("beside", "bound together"),
        ("spelled", "default"),
    ];
    for (rule, because) in wanted {
        assert!(
            staying
                .iter()
                .any(|(id, why)| *id == rule && why.contains(because)),
            "{rule}: {staying:?}"
        );
    }
}

#[test]
fn what_only_the_default_does_stays_and_no_file_is_written() {
    let rules = "\
security_groups:
- id: g
  form: ordered
  inbound:
  - { id: a, action: deny, priority: 1, services: tcp 1, peers: 10.0.0.0/8 }
scope_policies: []
";
    let folder = Folder::with(&format!("{HEADER}{rules}"));
    // Only the default makes it redundant, so it stays; the file is not touched.
    assert!(
        folder
            .run(&["tidy", "--apply", "out"])
            .ok()
            .starts_with("None of 1 rule")
    );
    assert!(!folder.path().join("out").exists());
}

const ESTATE: &str = "\
networks: [{ id: n, blocks: [10.65.0.0/16] }]
subnets: [{ id: s, network: n, blocks: [10.65.1.0/24] }]
interfaces: [{ id: i, subnet: s, addresses: [10.65.1.11], groups: [g], tags: { tier: vault } }]
security_groups:
- id: g
  inbound: [{ id: wide, services: tcp 9999, peers: any }, { id: half, services: tcp 1, peers: 10.65.0.0/24 }]
  outbound: [{ id: all, peers: any }]
";

#[test]
fn the_configuration_says_what_is_marked_sensitive_and_wide() {
    let folder = Folder::with(&format!("{HEADER}{ESTATE}"));
    let kinds = |arguments: &[&str]| {
        let (_, audit) = folder.json(arguments);
        let all = audit["answer"]["findings"].as_array().unwrap().iter();
        all.map(|one| {
            format!(
                "{} {}",
                one["kind"].as_str().unwrap(),
                one["severity"].as_str().unwrap()
            )
        })
        .collect::<Vec<_>>()
    };
    let plain = kinds(&["audit", "-e", "estate.yaml"]);
    assert!(
        plain.contains(&"any-source minor".to_owned())
            && !plain.iter().any(|one| one.starts_with("open-outward")),
        "{plain:?}"
    );
    let header = "format: heronshale-configuration\nversion: 1\n";
    let body = "marked: [{ tier: vault }]\nsensitive_ports: [{ what: the vault, services: tcp 9999 }]\nthresholds: { empty_range_addresses: 256, empty_range_share: 2 }\n";
    folder.write("heronshale.yaml", format!("{header}{body}"));
    let tuned = kinds(&["audit", "-e", "estate.yaml"]);
    for wanted in [
        "any-source serious",
        "open-outward serious",
        "mostly-empty-range note",
    ] {
        assert!(tuned.contains(&wanted.to_owned()), "{wanted}: {tuned:?}");
    }
    folder.write("other.yaml", header);
    assert_eq!(
        kinds(&["audit", "-e", "estate.yaml", "--config", "other.yaml"]),
        plain
    );
    let cases = [
        (
            "format: something\nversion: 1\n",
            "1:9",
            "format: heronshale-configuration",
        ),
        (
            "format: heronshale-configuration\nversion: 2\n",
            "2:10",
            "write 1",
        ),
        (
            "format: heronshale-configuration\nversion: 1\nmarkd: []\n",
            "3:1",
            "did you mean `marked`?",
        ),
        (
            "format: heronshale-configuration\nversion: 1\nthresholds: { empty_range_share: 0 }\n",
            "3:34",
            "1 or more",
        ),
        (
            "format: heronshale-configuration\nversion: 1\nsensitive_ports: [{ services: tcp 1 }]\n",
            "3:19",
            "what",
        ),
    ];
    for (text, place, help) in cases {
        folder.write("heronshale.yaml", text);
        let told = folder.run(&["audit", "-e", "estate.yaml"]).fails(3);
        assert!(
            told.contains(&format!("heronshale.yaml:{place}")) && told.contains(help),
            "{text}\n{told}"
        );
    }
}

#[test]
fn a_rule_that_is_only_partly_shadowed_still_does_something() {
    let folder = Folder::with_demo();
    let told = folder
        .run(&["rule", "bastion-host/ssh", "-e", "marrowfen-ferries"])
        .ok();
    assert!(
        !told.contains("no effect") && told.contains("WITHOUT THIS RULE"),
        "{told}"
    );
    let told = folder
        .run(&["rule", "tickets-data/120", "-e", "marrowfen-ferries"])
        .ok();
    assert!(
        told.contains("is shadowed. It has no effect on its 2 interfaces"),
        "{told}"
    );
}
