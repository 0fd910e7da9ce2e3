//! Linux machines: as a firewall that forwards, as a workload's own firewall beside an estate; and what is not understood.

mod rules;

use rules::{machine, received};

use crate::folder::Folder;
use heronshale_intake::{Part, Role, read_machine};
use serde_json::{Value, json};

/// What a machine with three interfaces printed: `nft -j list ruleset`, `ip -j addr`, `ip -j route`, `ip -j rule`.
pub const GATE: [(&str, &str); 4] = [
    (
        "rules.json",
        include_str!("../../../fixtures/gate/rules.json"),
    ),
    (
        "addr.json",
        include_str!("../../../fixtures/gate/addr.json"),
    ),
    (
        "route.json",
        include_str!("../../../fixtures/gate/route.json"),
    ),
    (
        "rule.json",
        include_str!("../../../fixtures/gate/rule.json"),
    ),
];

fn gate() -> Folder {
    let folder = Folder::new();
    for (name, text) in GATE {
        folder.write(name, text);
    }
    folder
}

const IMPORT: [&str; 5] = ["import", "--as", "linux-firewall", "--name", "gate"];

#[test]
fn a_machine_between_networks_is_a_firewall_with_its_routes_and_translations() {
    let folder = gate();
    let files = GATE.map(|(name, _)| name);
    let (code, told) =
        folder.json(&[&IMPORT[..], &files, &["--into", "estate/gate.yaml"]].concat());
    assert_eq!((code, &told["answer"]["read"]["unclear"]), (0, &json!([])));
    // Hosts beside it, and a way in from outside that the files do not know.
    folder.write(
        "estate/hosts.yaml",
        "format: heronshale-snapshot\nversion: 1\ninterfaces:\n\
         - { id: booking, subnet: gate-dmz, addresses: 10.66.1.15 }\n- { id: desk, subnet: gate-lan, addresses: 10.65.3.3 }\n\
         - { id: probe, subnet: gate-wan, addresses: 203.0.113.9 }\n",
    );
    // From the outer network to the door, which is the firewall's own address there.
    let gate = folder
        .read("estate/gate.yaml")
        .replace("  main_table: gate-wan\n", "  main_table: outer\n");
    let gate = gate.replace(
        "route_tables:\n",
        "route_tables:\n- { id: outer, network: gate-wan, routes: [{ to: 0.0.0.0/0, next_hop: \"firewall:gate\" }] }\n",
    );
    folder.write("estate/gate.yaml", gate);
    let table = [
        (
            "desk",
            "booking",
            "22",
            0,
            "Yes: tcp 22 from desk to booking works",
        ),
        (
            "desk",
            "booking",
            "23",
            1,
            "No: tcp 23 from desk to booking is blocked by firewall gate: no rule matches",
        ),
        (
            "booking",
            "desk",
            "22",
            1,
            "No: tcp 22 from booking to desk is blocked",
        ),
        (
            "probe",
            "booking",
            "8443",
            0,
            "Yes: tcp 8443 from probe to booking works",
        ),
        (
            "probe",
            "desk",
            "8443",
            1,
            "No: tcp 8443 from probe to desk is blocked",
        ),
        // Whatever was asked at this port from outside is booking's.
        (
            "probe",
            "desk",
            "443",
            0,
            "Yes: tcp 443 from probe to desk works",
        ),
        (
            "desk",
            "10.9.9.9",
            "443",
            1,
            "No: tcp 443 from desk to 10.9.9.9 is dropped",
        ),
    ];
    for (from, to, port, code, says) in table {
        let run = folder.run(&["path", from, to, "--tcp", port, "-e", "estate"]);
        assert!(
            run.stdout.starts_with(says),
            "{from} {to} {port}: {}",
            run.stdout
        );
        assert_eq!(run.code, code, "{from} {to} {port}");
    }
    // The translations: to the machine's address for the outside, and to booking for those who come from there.
    let (_, path) = folder.json(&[
        "path",
        "desk",
        "203.0.113.9",
        "--tcp",
        "443",
        "-e",
        "estate",
    ]);
    assert!(path.to_string().contains("source 203.0.113.2"), "{path}");
    // The rule that never matters is found.
    let audit = folder.run(&["audit", "--details", "-e", "estate"]).stdout;
    assert!(
        audit.contains("gate/forward/9 changes nothing: another rule does the same and more"),
        "{audit}"
    );
}

#[test]
fn routes_that_a_snapshot_cannot_say_are_gaps() {
    let route = |more: Value| {
        let mut all = vec![
            json!({ "dst": "10.66.0.0/16", "dev": "dmz" }),
            json!({ "dst": "10.65.0.0/16", "dev": "lan" }),
        ];
        all.push(more);
        json!(all).to_string()
    };
    let plain = json!([{ "priority": 0, "src": "all", "table": "local" }, { "priority": 32766, "src": "all", "table": "main" }]);
    let marked = json!([{ "priority": 100, "src": "all", "fwmark": "0x1", "table": "7" }]);
    let hops = json!({ "dst": "default", "nexthops": [{ "gateway": "10.65.0.9", "dev": "lan" }, { "gateway": "10.66.0.9", "dev": "dmz" }] });
    let table = [
        (
            json!({ "dst": "10.99.0.0/16", "dev": "lan", "metric": 20 }),
            &plain,
            "",
        ),
        (
            json!({ "type": "throw", "dst": "10.99.0.0/16" }),
            &plain,
            "the route to 10.99.0.0/16 is of the type throw",
        ),
        (hops, &plain, "the route to default has several next hops"),
        (
            json!({ "dst": "10.65.0.0/16", "dev": "dmz" }),
            &plain,
            "there are equal routes to 10.65.0.0/16",
        ),
        (
            json!({ "dst": "10.99.0.0/16", "dev": "gone" }),
            &plain,
            "routes lead out by gone, which has no address",
        ),
        (
            json!({ "dst": "10.99.0.0/16", "dev": "lan" }),
            &marked,
            "the rule of priority 100 chooses among route tables",
        ),
    ];
    for (more, rules, reason) in table {
        let files = [
            GATE[0],
            GATE[1],
            ("route.json", &route(more.clone())),
            ("rule.json", &rules.to_string()),
        ];
        let part = machine(&files, Role::Firewall { hosts: false });
        let gap = |gap: &&Value| gap["object"] == "firewall:machine";
        let found = part
            .section("gaps")
            .iter()
            .find(gap)
            .map_or("", |gap| gap["reason"].as_str().unwrap());
        assert_eq!(found, reason, "{more}");
    }
    // Of equal prefixes the lowest metric; what is dropped is of no interface.
    let routes = json!([
        { "dst": "default", "gateway": "10.65.0.9", "dev": "lan", "metric": 50 }, { "dst": "default", "gateway": "10.66.0.9", "dev": "dmz", "metric": 10 },
        { "dst": "10.66.7.0/24", "type": "blackhole" }, { "dst": "10.66.0.0/16", "dev": "dmz" }, { "dst": "10.1.0.0/16", "dev": "lan", "flags": ["linkdown"] },
    ]);
    let part = machine(
        &[GATE[0], GATE[1], ("route.json", &routes.to_string())],
        Role::Firewall { hosts: false },
    );
    let routes = &part.section("firewalls")[0]["routes"];
    assert_eq!(routes.as_array().unwrap().len(), 1, "{routes}");
    let to: Vec<&str> = routes[0]["to"]
        .as_array()
        .unwrap()
        .iter()
        .map(|to| to.as_str().unwrap())
        .collect();
    let all: heronshale_sets::address::Addresses = to
        .iter()
        .map(|to| to.parse::<heronshale_sets::address::Block>().unwrap().range)
        .collect();
    assert!(all.contains("10.66.8.1".parse().unwrap()) && all.contains("8.8.8.8".parse().unwrap()));
    assert!(!all.contains("10.66.7.1".parse().unwrap()));
}

#[test]
fn thousands_of_rules_are_followed_in_seconds_also_where_replies_are_refused_for_some() {
    let drop = json!({ "drop": null });
    let from = |address: String| json!({ "match": { "op": "==", "left": { "payload": { "protocol": "ip", "field": "saddr" } }, "right": address } });
    let established = json!({ "match": { "op": "in", "left": { "ct": { "key": "state" } }, "right": ["established"] } });
    let head = [
        json!([from("192.0.2.9".to_owned()), drop]),
        json!([established, { "accept": null }]),
    ];
    let many = (0..4_000)
        .map(|at| json!([from(format!("10.{}.{}.7", at / 250, at % 250)), { "accept": null }]));
    let inbound: Vec<Value> = head.iter().cloned().chain(many).collect();
    // The same towards others: each way decides of the other's replies.
    let text = received(&inbound, &[]);
    let sent = text
        .replace("\"input\"", "\"output\"")
        .replace("\"table\":\"t\"", "\"table\":\"o\"")
        .replace("saddr", "daddr");
    let both: Vec<Value> = [&text, &sent]
        .into_iter()
        .flat_map(|text| {
            serde_json::from_str::<Value>(text).unwrap()["nftables"]
                .as_array()
                .unwrap()
                .clone()
        })
        .collect();
    let start = std::time::Instant::now();
    let part = machine(
        &[("nft.json", &json!({ "nftables": both }).to_string())],
        Role::Workload,
    );
    let own = &part.section("own_firewalls")[0];
    assert!(
        own["inbound"].as_array().unwrap().len() >= 4_001
            && own["outbound"].as_array().unwrap().len() >= 4_001
    );
    assert!(start.elapsed().as_secs() < 30, "{:?}", start.elapsed());
}

#[test]
fn the_rules_of_one_family_say_nothing_of_the_other() {
    let saved = "# Generated by iptables-save\n*filter\n:INPUT DROP [0:0]\n-A INPUT -p tcp --dport 22 -j ACCEPT\nCOMMIT\n# Completed on Monday\n";
    let part = machine(&[("four.txt", saved)], Role::Workload);
    let rules = part.section("own_firewalls")[0]["inbound"]
        .as_array()
        .unwrap();
    assert!(
        rules[0]["description"]
            == "the rules of IPv6 are not among the files; not understood: the rules of IPv6 are not among the files",
        "{rules:?}"
    );
    assert!(
        rules
            .iter()
            .any(|rule| rule["services"] == json!(["tcp 22"])
                && rule["peers"] == json!(["0.0.0.0/0"])),
        "{rules:?}"
    );
}

#[test]
fn a_workloads_own_firewall_becomes_a_file_of_the_estate() {
    let folder = Folder::with_demo();
    let interface = |name: &str| {
        let (_, effective) = folder.json(&["effective", name, "-e", "marrowfen-ferries"]);
        effective["answer"].clone()
    };
    let address = interface("manifest-1")["interface"]["addresses"][0]
        .as_str()
        .unwrap()
        .to_owned();
    assert!(
        !interface("manifest-1")
            .to_string()
            .contains("manifest-eth0")
    );
    let rules = [
        json!([{ "match": { "op": "in", "left": { "ct": { "key": "state" } }, "right": ["established", "related"] } }, { "accept": null }]),
        json!([{ "match": { "op": "==", "left": { "meta": { "key": "iifname" } }, "right": "eth0" } },
            { "match": { "op": "==", "left": { "payload": { "protocol": "tcp", "field": "dport" } }, "right": 8443 } }, { "accept": null }]),
    ];
    folder.write("nft.json", received(&rules, &[]));
    let device = |name: &str, address: &str| json!({ "ifname": name, "addr_info": [{ "local": address, "prefixlen": 24, "scope": "global" }] });
    folder.write(
        "addr.json",
        json!([device("eth0", &address), device("eth7", "192.168.9.9")]).to_string(),
    );
    let import = [
        "import",
        "--as",
        "linux-workload",
        "--name",
        "manifest",
        "nft.json",
        "addr.json",
        "--beside",
        "marrowfen-ferries",
        "--into",
        "marrowfen-ferries/manifest-own.yaml",
    ];
    let (code, told) = folder.json(&import);
    assert_eq!(
        (code, &told["answer"]["read"]["remarks"]),
        (
            0,
            &json!(["eth7 holds 192.168.9.9: no interface of the estate does"])
        )
    );
    assert!(
        interface("manifest-1")
            .to_string()
            .contains("manifest-eth0")
    );
    // It is not written over unless that is asked for, and then it stands in its own place.
    assert!(folder.run(&import).fails(2).contains("already exists"));
    folder.run(&[&import[..], &["--force"]].concat()).ok();
    // An interface has one own firewall.
    folder.write("marrowfen-ferries/second.yaml", "format: heronshale-snapshot\nversion: 1\nown_firewalls:\n- { id: second, default_inbound: allow, default_outbound: allow, interfaces: manifest-1 }\n");
    let error = folder.run(&["audit", "-e", "marrowfen-ferries"]).fails(3);
    assert!(
        error.contains("the interface `manifest-1` already has another own firewall"),
        "{error}"
    );
}

/// Files by their names.
type Files<'f> = &'f [(&'f str, &'f str)];

#[test]
fn what_is_wrong_with_files_of_a_machine_is_told_with_its_place() {
    let nft = received(&[], &[]);
    let saved = "*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -s 10.0.0.1 -j DROP\nCOMMIT\n";
    let table: [(Files<'_>, &str, &str); 12] = [
        (
            &[("a.json", "{\"nftables\": [")],
            "this is not JSON",
            "a.json:1",
        ),
        (
            &[("a.json", "{\"rules\": []}")],
            "this JSON is not from a Linux machine",
            "nft -j list ruleset",
        ),
        (
            &[("a.txt", "hello")],
            "this is not a rule set, and no JSON",
            "a.txt:1",
        ),
        (
            &[("a.txt", "\n")],
            "this file is empty",
            "no table was ever set",
        ),
        (
            &[("a.json", &nft), ("b.json", &nft)],
            "a second rule set of nftables",
            "b.json:1",
        ),
        (
            &[("a.txt", saved), ("b.txt", saved)],
            "a second file with the rules of IPv4",
            "b.txt:1",
        ),
        (
            &[("a.json", "[{\"ifname\": \"eth0\", \"addr_info\": []}]")],
            "no file contains a machine's rules",
            "iptables-save",
        ),
        (
            &[(
                "a.txt",
                "*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -j DROP\nCOMMIT\n",
            )],
            "IPv4 or IPv6",
            "keep the first line",
        ),
        (
            &[(
                "a.txt",
                "# iptables-save\n*filter\n:INPUT ACCEPT\n-A OTHER -j DROP\n",
            )],
            "the table `filter` has no chain `OTHER`",
            "a.txt:4",
        ),
        (
            &[("a.txt", "# iptables-save\n*filter\nINPUT -j DROP\n")],
            "`INPUT -j DROP` is not a rule",
            "a.txt:3",
        ),
        (
            &[("a.txt", "# iptables-save\n*broute\n")],
            "there is no table `broute`",
            "a.txt:2",
        ),
        (
            &[
                ("a.json", &nft),
                ("b.json", "[{\"dst\": \"10.0.0.0/33\", \"dev\": \"x\"}]"),
            ],
            "`10.0.0.0/33` is not a prefix",
            "b.json:1",
        ),
    ];
    for (files, what, place) in table {
        let folder = Folder::new();
        let mut arguments = vec![
            "import",
            "--as",
            "linux-workload",
            "--name",
            "one",
            "--into",
            "out.yaml",
        ];
        for (name, text) in files {
            folder.write(name, text);
            arguments.push(name);
        }
        let error = folder.run(&arguments).fails(3);
        assert!(
            error.contains(what) && error.contains(place),
            "{what}: {error}"
        );
        assert!(!folder.path().join("out.yaml").exists());
    }
    let folder = gate();
    let error = folder
        .run(&[
            "import",
            "--as",
            "linux-firewall",
            "rules.json",
            "--into",
            "out.yaml",
        ])
        .fails(2);
    assert!(error.contains("give --name NAME"), "{error}");
    // A circle of chains, which the kernel refuses, does not hang.
    let chain = json!({ "chain": { "family": "inet", "table": "t", "name": "round" } });
    let rule = json!({ "rule": { "family": "inet", "table": "t", "chain": "round", "handle": 9, "expr": [{ "jump": { "target": "round" } }] } });
    folder.write(
        "round.json",
        received(
            &[json!([{ "jump": { "target": "round" } }])],
            &[chain, rule],
        ),
    );
    let error = folder
        .run(&[
            "import",
            "--as",
            "linux-workload",
            "--name",
            "one",
            "round.json",
            "--into",
            "out.yaml",
        ])
        .fails(3);
    assert!(
        error.contains("chains call each other too deeply, or in a cycle"),
        "{error}"
    );
}

#[test]
fn what_an_interface_below_drops_is_unknown_above_it() {
    let device = |name: &str, address: &str| json!({ "ifname": name, "addr_info": [{ "local": address, "prefixlen": 24, "scope": "global" }] });
    let mut vlan = device("m0.7", "10.2.0.1");
    vlan["link"] = "m0".into();
    let addresses = json!([device("m0", "10.1.0.1"), vlan]).to_string();
    let table = json!({ "family": "netdev", "name": "t" });
    let chain = json!({ "family": "netdev", "table": "t", "name": "in", "dev": "m0", "type": "filter", "hook": "ingress", "prio": 0, "policy": "drop" });
    let rules = json!({ "nftables": [{ "table": table }, { "chain": chain }] }).to_string();
    let part = machine(
        &[("nft.json", &rules), ("addr.json", &addresses)],
        Role::Workload,
    );
    let inbound = |device: &str| {
        let of = |own: &&Value| own["interfaces"] == json!([format!("machine-{device}")]);
        part.section("own_firewalls")
            .iter()
            .find(of)
            .unwrap()
            .clone()
    };
    assert_eq!(inbound("m0")["default_inbound"], "deny");
    let above = inbound("m0.7");
    assert!(
        above["inbound"][0]["peers"][0]
            .as_str()
            .unwrap()
            .starts_with("set:machine-not-understood"),
        "{above}"
    );
}
