//! What is exported and imported again means the same: the effective rules of every interface, on random estates.

use super::agreement::load;
use super::estates::{INTERFACES, estate};
use crate::folder::Folder;
use fastrand::Rng;
use heronshale_answers::plain_acls;
use heronshale_engine::effective::{Reply, effective};
use heronshale_engine::fabric::Fabric;
use heronshale_intake::{AclReading, read_acls};
use heronshale_model::estate::{Direction, Estate};
use heronshale_report::acl_json;
use heronshale_sets::packet::PacketSet;
use serde_json::{Value, json};
use std::path::PathBuf;
use std::process::Command;

/// Where the modules of the IETF are, if they are.
fn modules() -> Option<PathBuf> {
    let root = PathBuf::from(concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/../../target/yang/share/yang/modules"
    ));
    let found = root.exists() && Command::new("yanglint").arg("--version").output().is_ok();
    if !found {
        crate::cannot_be_asked("yanglint or the modules of the IETF are not there");
    }
    found.then_some(root)
}

/// That every interface admits the same, leaves the same open, and gets the same replies back.
fn same(before: &Estate, after: &Estate, what: &str) {
    let views = [before, after].map(|estate| Fabric::new(estate, estate.taken));
    for (name, direction) in INTERFACES
        .into_iter()
        .flat_map(|name| Direction::BOTH.map(|way| (name, way)))
    {
        let [one, other] = views.each_ref().map(|view| {
            let interface = view.estate.interfaces.find(name).unwrap();
            let side = effective(view, interface, direction, None);
            // Read from the top: of each packet the first entry counts.
            let (mut seen, mut back) = (PacketSet::empty(), PacketSet::empty());
            for one in &side.admitted {
                let entry = PacketSet::of_entry(&one.entry, ()).difference(&seen);
                seen = seen.union(&entry);
                if matches!(one.reply, Reply::Passes) {
                    back = back.union(&entry);
                }
            }
            // A listing tells this side's addresses apart only where a rule does.
            let own = Some(&view.estate.interfaces[interface].addresses);
            let ends = if direction == Direction::In {
                (None, own)
            } else {
                (own, None)
            };
            [side.admitted_set, side.unknown_set, back].map(|set| set.between(ends.0, ends.1))
        });
        for (part, (one, other)) in ["admitted", "unknown", "with its reply"]
            .iter()
            .zip(one.iter().zip(&other))
        {
            let differ = [one.difference(other), other.difference(one)].map(|set| set.lowest());
            assert!(
                differ == [None, None],
                "{name} {direction:?} {part}: {differ:?}\n{what}"
            );
        }
    }
}

#[test]
fn network_acls_come_back_from_rfc_8519_with_the_same_meaning() {
    let (mut whole, mut checked) = (0, 0);
    for seed in 0..300 {
        let mut random = Rng::with_seed(seed);
        let mut json = estate(&mut random);
        let before = load(&json);
        let (lists, left_out, incomplete) = plain_acls(&Fabric::new(&before, before.taken));
        assert_eq!(
            incomplete,
            left_out.iter().any(|one| one.what.starts_with("ACL ")),
            "seed {seed}"
        );
        if incomplete {
            continue;
        }
        let text = acl_json(&lists);
        let reading = AclReading {
            rest: None,
            direction: Direction::In,
        };
        let part = read_acls(vec![("acl.json".to_owned(), text.clone())], &reading).unwrap();
        assert_eq!(part.read.unclear, [], "seed {seed}");
        let whole_before = json.clone();
        json["network_acls"] = Value::Array(part.section("network_acls").to_vec());
        same(
            &before,
            &load(&json),
            &format!("seed {seed}\n{text}\n{whole_before:#}"),
        );
        whole += 1;
        // The data is valid by the modules of the RFC.
        if let Some(modules) = modules().filter(|_| checked < 12) {
            checked += 1;
            let folder = Folder::new();
            let file = folder.write("acl.json", &text);
            let path = |name: &str| modules.join(name).display().to_string();
            let module = path("ietf/ietf-access-control-list.yang");
            let arguments = [
                "-p",
                &path("ietf"),
                "-p",
                &path("iana"),
                &module,
                "-t",
                "config",
                file.to_str().unwrap(),
            ];
            let out = Command::new("yanglint").args(arguments).output().unwrap();
            assert!(
                out.status.success(),
                "seed {seed}: {}\n{text}",
                String::from_utf8_lossy(&out.stderr)
            );
        }
    }
    assert!(whole > 100, "{whole}");
}

/// The profile of sheets, and headers that somebody else likes better.
const SHEETS: &str = include_str!("../../../../../profiles/sheets.yaml");
const OWN_COLUMNS: &str = "
columns: { What: kind, \"Service(s)\": services, Von/nach: peers, Way: direction, \"Address, each\": addresses }
";

#[test]
fn sheets_come_back_with_the_same_meaning() {
    /// What sheets hold; the other sections go.
    const HELD: [&str; 10] = [
        "format",
        "version",
        "networks",
        "subnets",
        "interfaces",
        "workloads",
        "security_groups",
        "network_acls",
        "own_firewalls",
        "address_sets",
    ];
    for seed in 0..60 {
        // Sites are not in sheets.
        let text = estate(&mut Rng::with_seed(seed))
            .to_string()
            .replace("site:harbour", "192.0.2.77");
        let mut json: Value = serde_json::from_str(&text).unwrap();
        json.as_object_mut()
            .unwrap()
            .retain(|section, _| HELD.contains(&section.as_str()));
        for (section, fields) in [
            ("networks", &["settings", "conduct", "division", "tags"][..]),
            ("interfaces", &["tags"]),
            ("workloads", &["tags"]),
        ] {
            for item in json[section].as_array_mut().into_iter().flatten() {
                item.as_object_mut()
                    .unwrap()
                    .retain(|field, _| !fields.contains(&field.as_str()));
            }
        }
        let folder = Folder::new();
        folder.write("before.json", json.to_string());
        // With headers of one's own the same profile leads out and in.
        let profile = if seed % 2 == 0 { "sheets" } else { "own.yaml" };
        folder.write("own.yaml", format!("{SHEETS}{OWN_COLUMNS}"));
        for (format, file) in [
            ("csv-rules", "sheets/rules.csv"),
            ("csv-interfaces", "sheets/interfaces.csv"),
        ] {
            let export = [
                "export",
                "-e",
                "before.json",
                "--as",
                format,
                "--into",
                file,
                "--profile",
                profile,
            ];
            folder.run(&export).ok();
            assert_eq!(
                folder.read(file).starts_with("What,"),
                seed % 2 == 1 && format == "csv-rules"
            );
        }
        folder
            .run(&[
                "import",
                "--profile",
                profile,
                "sheets",
                "--into",
                "after.yaml",
            ])
            .ok();
        let [before, after] = ["before.json", "after.yaml"]
            .map(|name| heronshale_intake::load(&folder.path().join(name)).unwrap());
        same(
            &before.estate,
            &after.estate,
            &format!("seed {seed}\n{json:#}\n{}", folder.read("after.yaml")),
        );
    }
}

#[test]
fn what_the_rfc_says_is_what_is_read() {
    let entry = |matches: Value| json!({ "name": "one", "matches": matches, "actions": { "forwarding": "accept" } });
    let tcp = |ports: Value| json!({ "tcp": { "destination-port": ports } });
    let rule = |matches: Value| {
        let acl = json!({ "name": "quay", "aces": { "ace": [entry(matches)] } });
        let text = json!({ "ietf-access-control-list:acls": { "acl": [acl] } }).to_string();
        let reading = AclReading {
            rest: Some(heronshale_model::estate::Action::Deny),
            direction: Direction::In,
        };
        let part = read_acls(vec![("acl.json".to_owned(), text)], &reading).unwrap();
        let rule = part.section("network_acls")[0]["inbound"][0].clone();
        (
            rule,
            part.read
                .unclear
                .into_iter()
                .map(|one| one.why)
                .collect::<Vec<_>>(),
        )
    };
    let table = [
        (
            tcp(json!({ "operator": "eq", "port": 22 })),
            json!(["tcp 22"]),
            Value::Null,
        ),
        (
            tcp(json!({ "operator": "neq", "port": 22 })),
            json!(["tcp 0-21,23-65535"]),
            Value::Null,
        ),
        (
            tcp(json!({ "operator": "lte", "port": 22 })),
            json!(["tcp 0-22"]),
            Value::Null,
        ),
        (
            tcp(json!({ "operator": "gte", "port": 65535 })),
            json!(["tcp 65535"]),
            Value::Null,
        ),
        (
            tcp(json!({ "lower-port": 8000, "upper-port": 8100 })),
            json!(["tcp 8000-8100"]),
            Value::Null,
        ),
        (
            json!({ "ipv4": { "source-ipv4-network": "10.64.0.0/12", "protocol": 47 } }),
            json!(["gre"]),
            json!(["10.64.0.0/12"]),
        ),
        (
            json!({ "ipv6": { "source-ipv6-network": "2001:db8::/32" } }),
            Value::Null,
            json!(["2001:db8::/32"]),
        ),
        (
            json!({ "ipv4": { "protocol": 1 }, "icmp": { "type": 8, "code": 0 } }),
            json!(["icmp 8/0"]),
            Value::Null,
        ),
        (
            json!({ "icmp": { "type": 8 } }),
            json!(["icmp 8", "icmpv6 8"]),
            Value::Null,
        ),
    ];
    for (matches, services, peers) in table {
        let (found, unclear) = rule(matches.clone());
        assert_eq!(
            (&found["services"], &found["peers"], unclear.len()),
            (&services, &peers, 0),
            "{matches}: {found}"
        );
    }
    for matches in [
        json!({ "ipv4": { "dscp": 8 } }),
        json!({ "tcp": { "flags": "syn" } }),
        json!({ "eth": { "ethertype": "ipv4" } }),
        json!({ "ingress-interface": "eth0" }),
        json!({ "icmp": { "type": 3, "rest-of-header": "AAAA" } }),
        json!({ "vendor:colour": "blue" }),
    ] {
        let (found, unclear) = rule(matches.clone());
        assert_eq!(
            found["peers"],
            json!(["set:quay-not-understood-in-1"]),
            "{matches}: {found}"
        );
        assert_eq!(unclear.len(), 1, "{matches}");
    }
}
