//! What the program writes for others, and what it reads of the IETF's data.

use crate::folder::Folder;
use serde_json::{Value, json};

#[test]
fn the_demo_goes_out_and_comes_back() {
    let folder = Folder::with_demo();
    let export = |format: &str, file: &str| {
        let (code, told) = folder.json(&[
            "export",
            "-e",
            "marrowfen-ferries",
            "--as",
            format,
            "--into",
            file,
        ]);
        assert_eq!(
            (code, &told["answer"]["incomplete"]),
            (0, &json!(false)),
            "{told}"
        );
        told["answer"].clone()
    };
    let acl = export("ietf-acl", "out/acl.json");
    assert_eq!(acl["holds"][0], json!({ "what": "lists", "count": 8 }));
    // Whatever is not in it is said.
    let said: Vec<&str> = acl["left_out"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["what"].as_str().unwrap())
        .collect();
    assert_eq!(
        said,
        [
            "2 firewall policies",
            "2 own firewalls",
            "3 scope policies",
            "29 security groups"
        ]
    );
    export("csv-rules", "out/rules.csv");
    let interfaces = export("csv-interfaces", "out/interfaces.csv");
    assert!(
        interfaces.to_string().contains("11 route tables"),
        "{interfaces}"
    );
    let error = folder.run(&[
        "export",
        "-e",
        "marrowfen-ferries",
        "--as",
        "csv-rules",
        "--into",
        "out/rules.csv",
    ]);
    assert_eq!(
        error.code, 0,
        "the same text may be written again: {}",
        error.stderr
    );
    folder.write("out/rules.csv.keep", folder.read("out/rules.csv"));
    folder.write("out/other.csv", "mine\n");
    let error = folder
        .run(&[
            "export",
            "-e",
            "marrowfen-ferries",
            "--as",
            "csv-rules",
            "--into",
            "out/other.csv",
        ])
        .fails(2);
    assert!(
        error.contains("already exists") && folder.read("out/other.csv") == "mine\n",
        "{error}"
    );
    std::fs::remove_file(folder.path().join("out/other.csv")).unwrap();
    // The lists say themselves what happens to the rest, and each comes back as one network ACL.
    let (_, told) = folder.json(&[
        "import",
        "--as",
        "ietf-acl",
        "out/acl.json",
        "--into",
        "back/acl.yaml",
    ]);
    assert_eq!(told["answer"]["items"][0]["count"], 4, "{told}");
    // There and back changes nothing any more.
    folder
        .run(&[
            "export",
            "-e",
            "back/acl.yaml",
            "--as",
            "ietf-acl",
            "--into",
            "out/again.json",
        ])
        .ok();
    let sorted = |name: &str| {
        let mut all: Value = serde_json::from_str(&folder.read(name)).unwrap();
        let lists = all["ietf-access-control-list:acls"]["acl"]
            .as_array_mut()
            .unwrap();
        lists.sort_by_key(|list| list["name"].to_string());
        all
    };
    assert_eq!(sorted("out/again.json"), sorted("out/acl.json"));
    std::fs::remove_file(folder.path().join("out/again.json")).unwrap();
    let (_, told) = folder.json(&[
        "import",
        "--profile",
        "sheets",
        "out",
        "--into",
        "sheets.yaml",
    ]);
    assert_eq!(told["answer"]["unresolved"], json!([]));
    let count = |into: &str| {
        let all = told["answer"]["records"].as_array().unwrap().iter();
        all.filter(|one| one["into"] == into)
            .map(|one| one["read"].as_u64().unwrap())
            .sum::<u64>()
    };
    assert_eq!(
        (count("interfaces"), count("address_sets")),
        (43, 4),
        "{told}"
    );
}

#[test]
fn cells_are_no_formulas_and_marks_are_no_markup() {
    let folder = Folder::with(
        "format: heronshale-snapshot\nversion: 1\nsecurity_groups:\n\
         - { id: \"=HYPERLINK(1)\", inbound: [{ id: \"+a\", services: tcp 22, description: \"@b, \\\"c\\\"; \\u001b[31m\" }] }\n",
    );
    folder
        .run(&[
            "export",
            "-e",
            "estate.yaml",
            "--as",
            "csv-rules",
            "--into",
            "rules.csv",
        ])
        .ok();
    let text = folder.read("rules.csv");
    assert!(
        text.contains("group,'=HYPERLINK(1),")
            && text.contains(",'+a,")
            && text.contains("\"'@b, \"\"c\"\"; "),
        "{text}"
    );
    assert!(
        !text.contains('\u{1b}') && text.lines().count() == 2,
        "{text}"
    );
}

#[test]
fn what_rfc_8519_leaves_open_has_to_be_said() {
    let ace = |name: &str, matches: Value| json!({ "name": name, "matches": matches, "actions": { "forwarding": "ietf-access-control-list:accept" } });
    let acl = json!({ "name": "quay:outbound", "type": "ipv4-acl-type", "aces": { "ace": [ace("web", json!({ "tcp": { "destination-port": { "operator": "eq", "port": 443 } } }))] } });
    let set = json!({ "acl-sets": { "acl-set": [{ "name": "quay:outbound" }] } });
    let points = json!({ "interface": [{ "interface-id": "eth0", "egress": set }] });
    let data =
        json!({ "ietf-access-control-list:acls": { "acl": [acl], "attachment-points": points } });
    let folder = Folder::new();
    folder.write("acl.json", serde_json::to_string_pretty(&data).unwrap());
    let import = [
        "import", "--as", "ietf-acl", "acl.json", "--into", "acl.yaml",
    ];
    let error = folder.run(&import).fails(3);
    assert!(
        error.contains("the action without a matching entry is not given: quay:outbound")
            && error.contains("--rest"),
        "{error}"
    );
    for (rest, rules) in [("deny", 1), ("allow", 2)] {
        let (_, told) = folder.json(&[&import[..], &["--rest", rest, "--force"]].concat());
        assert_eq!(
            told["answer"]["items"][0],
            json!({ "section": "network_acls", "count": 1, "rules": rules }),
            "{told}"
        );
        assert!(
            told["answer"]["read"]["remarks"][0]
                .as_str()
                .unwrap()
                .starts_with("quay:outbound is attached to eth0, egress")
        );
        assert!(
            folder
                .read("acl.yaml")
                .contains("- id: quay\n  inbound: []\n  outbound:\n  - id: web\n"),
            "{}",
            folder.read("acl.yaml")
        );
    }
    let wrong = |change: &dyn Fn(&mut Value), what: &str| {
        let mut data = data.clone();
        change(&mut data["ietf-access-control-list:acls"]["acl"][0]["aces"]["ace"][0]);
        folder.write("wrong.json", serde_json::to_string_pretty(&data).unwrap());
        let run = folder.run(&[
            "import",
            "--as",
            "ietf-acl",
            "wrong.json",
            "--into",
            "wrong.yaml",
            "--rest",
            "deny",
        ]);
        let error = run.fails(3);
        assert!(
            error.contains(what) && error.contains("wrong.json:"),
            "{what}: {error}"
        );
    };
    // An entry called `rest` is a rule where others come behind it.
    let mut early = data.clone();
    let rest =
        json!({ "name": "rest", "actions": { "forwarding": "ietf-access-control-list:drop" } });
    early["ietf-access-control-list:acls"]["acl"][0]["aces"]["ace"]
        .as_array_mut()
        .unwrap()
        .insert(0, rest);
    folder.write("early.json", early.to_string());
    folder
        .run(&[
            "import",
            "--as",
            "ietf-acl",
            "early.json",
            "--into",
            "early.yaml",
        ])
        .ok();
    assert!(
        folder
            .read("early.yaml")
            .contains("{id: rest, action: deny}"),
        "{}",
        folder.read("early.yaml")
    );
    wrong(
        &|ace| ace["actions"] = json!({}),
        "an entry needs its forwarding action",
    );
    wrong(
        &|ace| ace["actions"]["forwarding"] = "forward".into(),
        "an entry needs its forwarding action",
    );
    wrong(
        &|ace| {
            ace["matches"]["tcp"]["destination-port"] =
                json!({ "lower-port": 90, "upper-port": 80 })
        },
        "these are not ports",
    );
    wrong(
        &|ace| ace["matches"]["ipv4"] = json!({ "source-ipv4-network": "2001:db8::/32" }),
        "this is not a prefix of IPv4",
    );
    wrong(
        &|ace| ace["matches"] = json!({ "icmp": { "code": 1 } }),
        "an ICMP code needs its type",
    );
}

#[test]
fn static_routes_of_rfc_8349_become_a_route_table() {
    let route = |to: &str, hop: Value| json!({ "destination-prefix": to, "next-hop": hop });
    let routes = json!([
        route("0.0.0.0/0", json!({ "next-hop-address": "10.65.1.1" })),
        route("10.66.0.0/16", json!({ "special-next-hop": "blackhole" })),
        route("10.67.0.0/16", json!({ "outgoing-interface": "booking-1" })),
        route(
            "10.68.0.0/16",
            json!({ "next-hop-list": { "next-hop": [{ "index": "a", "next-hop-address": "10.65.1.2" }, { "index": "b", "next-hop-address": "10.65.1.3" }] } })
        ),
    ]);
    let protocols = json!([
        { "type": "ietf-routing:static", "name": "by-hand", "static-routes": { "ietf-ipv4-unicast-routing:ipv4": { "route": routes } } },
        { "type": "ietf-ospf:ospfv2", "name": "learned" },
    ]);
    let data = json!({ "ietf-routing:routing": { "control-plane-protocols": { "control-plane-protocol": protocols } } });
    let folder = Folder::with_demo();
    folder.write("routes.json", data.to_string());
    let import = [
        "import",
        "--as",
        "ietf-routes",
        "--name",
        "work",
        "--network",
        "tickets",
        "--beside",
        "marrowfen-ferries",
        "routes.json",
        "--into",
        "marrowfen-ferries/work.yaml",
    ];
    let (_, told) = folder.json(&import);
    assert_eq!(
        told["answer"]["read"]["remarks"],
        json!(["learned learns its routes from elsewhere: they are not in the file"])
    );
    // What the demo names in vain elsewhere is not this file's.
    assert_eq!(told["answer"]["dangling"], json!([]), "{told}");
    let text = folder.read("marrowfen-ferries/work.yaml");
    for hop in [
        "\"10.65.1.1\"",
        "blackhole",
        "interface:booking-1",
        "\"10.65.1.2\"",
        "\"10.65.1.3\"",
    ] {
        assert!(
            text.contains(&format!("next_hop: {hop}}}\n")),
            "{hop}: {text}"
        );
    }
    folder.write("routes.json", data.to_string().replace("10.65.1.1", "ten"));
    let error = folder.run(&[&import[..], &["--force"]].concat()).fails(3);
    assert!(error.contains("`ten` is not an address"), "{error}");
}

#[test]
fn route_tables_go_out_as_rfc_8349_and_come_back() {
    const ESTATE: &str = "format: heronshale-snapshot
version: 1
networks: [{ id: n, blocks: [10.1.0.0/16, \"2001:db8::/32\"], main_table: t }]
subnets: [{ id: s, network: n, blocks: 10.1.1.0/24 }]
interfaces: [{ id: fw, subnet: s, addresses: 10.1.1.9, forwards: true }]
gateways: [{ id: up, kind: internet, network: n }]
route_tables:
- id: t
  network: n
  routes:
  - { to: [10.2.0.0/16, 10.3.0.0/16], next_hop: 10.1.1.4 }
  - { to: 10.3.0.0/16, next_hop: 10.1.1.5 }
  - { to: 10.4.0.0/16, next_hop: blackhole }
  - { to: \"2001:db8:9::/48\", next_hop: \"interface:fw\" }
  - { id: out, to: 0.0.0.0/0, next_hop: \"gateway:up\" }
  - { id: off, to: 10.5.0.0/16, next_hop: 10.1.1.4, enabled: false }
- { id: other, network: n }
";
    let folder = Folder::with(ESTATE);
    let export = [
        "export",
        "--as",
        "ietf-routes",
        "--into",
        "r.json",
        "-e",
        "estate.yaml",
    ];
    assert!(
        folder
            .run(&export)
            .fails(2)
            .contains("write --table with one of t, other")
    );
    let (code, told) = folder.json(&[&export[..], &["--table", "t"]].concat());
    let left: Vec<&str> = told["answer"]["left_out"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["what"].as_str().unwrap())
        .collect();
    assert_eq!((code, left), (1, vec!["route out", "route off"]), "{told}");
    let import = [
        "import",
        "--as",
        "ietf-routes",
        "--name",
        "t",
        "--network",
        "n",
        "r.json",
        "--into",
        "back.yaml",
    ];
    folder.run(&import).ok();
    let back = folder.read("back.yaml");
    for (to, hop) in [
        ("10.2.0.0/16", "10.1.1.4"),
        ("10.3.0.0/16", "10.1.1.4"),
        ("10.3.0.0/16", "10.1.1.5"),
        ("10.4.0.0/16", "blackhole"),
        ("2001:db8:9::/48", "interface:fw"),
    ] {
        let found = back
            .lines()
            .any(|line| line.contains(to) && line.contains(hop));
        assert!(found, "{to} {hop}: {back}");
    }
    assert_eq!(back.matches("next_hop").count(), 5, "{back}");
}
