//! What foreign systems say and a snapshot cannot hold, or holds otherwise: never a verdict that is sure and wrong.

use crate::folder::Folder;
use serde_json::{Value, json};

/// An export of OpenStack Networking: a network of both families behind a router with an external gateway, and a machine in it.
fn openstack(change: impl FnOnce(&mut Value)) -> Folder {
    let rule = |id: &str, family: &str| json!({ "id": id, "direction": "ingress", "ethertype": family, "protocol": null, "remote_ip_prefix": null, "remote_group_id": null, "remote_address_group_id": null });
    let port = |id: &str, owner: &str, device: &str, fixed: &[(&str, &str)]| {
        let fixed: Vec<Value> = fixed
            .iter()
            .map(|(subnet, address)| json!({ "subnet_id": subnet, "ip_address": address }))
            .collect();
        let groups = if owner.starts_with("compute") {
            json!(["g0000001"])
        } else {
            json!([])
        };
        json!({ "id": id, "name": "", "network_id": "n1000001", "admin_state_up": true, "device_owner": owner, "device_id": device,
            "fixed_ips": fixed, "security_groups": groups, "allowed_address_pairs": [], "port_security_enabled": true })
    };
    let mut all = json!({
        "networks": [
            { "id": "n0000001", "name": "ext", "admin_state_up": true, "router:external": true },
            { "id": "n1000001", "name": "lan", "admin_state_up": true, "router:external": false },
        ],
        "subnets": [
            { "id": "s4000001", "network_id": "n1000001", "cidr": "10.1.0.0/24", "ip_version": 4, "gateway_ip": "10.1.0.1", "host_routes": [] },
            { "id": "s6000001", "network_id": "n1000001", "cidr": "2001:db8:1::/64", "ip_version": 6, "gateway_ip": "2001:db8:1::1", "host_routes": [] },
        ],
        "routers": [{ "id": "rt000001", "name": "gw", "admin_state_up": true, "routes": [], "external_gateway_info": {
            "network_id": "n0000001", "enable_snat": true, "external_fixed_ips": [{ "subnet_id": "s0", "ip_address": "203.0.113.5" }] } }],
        "ports": [
            port("r4000001", "network:router_interface", "rt000001", &[("s4000001", "10.1.0.1")]),
            port("r6000001", "network:router_interface", "rt000001", &[("s6000001", "2001:db8:1::1")]),
            port("vm000001", "compute:nova", "vm1", &[("s4000001", "10.1.0.10"), ("s6000001", "2001:db8:1::10")]),
        ],
        "security_groups": [{ "id": "g0000001", "name": "all", "stateful": true, "security_group_rules": [rule("x0", "IPv4"), rule("x1", "IPv6")] }],
        "address_groups": [],
        "floatingips": [{ "id": "f0000001", "floating_ip_address": "203.0.113.80", "port_id": "vm000001", "fixed_ip_address": "10.1.0.10", "port_forwardings": [] }],
    });
    change(&mut all);
    let folder = Folder::new();
    for (name, list) in all.as_object().unwrap() {
        folder.write(
            &format!("export/{}.json", name.replace('_', "-")),
            json!({ name: list }).to_string(),
        );
    }
    folder
        .run(&[
            "import",
            "--profile",
            "openstack",
            "export",
            "--into",
            "snap.yaml",
        ])
        .ok();
    folder
}

fn verdict(folder: &Folder, asked: &[&str]) -> String {
    let (_, json) = folder.json(&[&["path"][..], asked, &["-e", "snap.yaml"]].concat());
    json["answer"]["verdict"]
        .as_str()
        .unwrap_or_default()
        .to_owned()
}

#[test]
fn a_firewall_group_at_a_router_is_asked_by_the_families_of_its_ports() {
    for (ports, four) in [
        (json!(["r4000001", "r6000001"]), "denied"),
        (json!(["r6000001"]), "works"),
    ] {
        let folder = openstack(|all| {
            all["firewall_rules"] = json!([]);
            all["firewall_policies"] =
                json!([{ "id": "p0000001", "name": "p", "firewall_rules": [] }]);
            all["firewall_groups"] = json!([{ "id": "fg000001", "name": "wall", "admin_state_up": true, "ports": ports,
                "ingress_firewall_policy_id": "p0000001", "egress_firewall_policy_id": "p0000001" }]);
        });
        assert_eq!(
            verdict(&folder, &["internet", "203.0.113.80", "--tcp", "22"]),
            four,
            "{ports}"
        );
        // Rules of each family stand in one group: IPv6 is denied either way.
        let text = folder.read("snap.yaml");
        assert_eq!(
            text.matches("id: firewall-groups/lan-n1000001").count(),
            1,
            "{text}"
        );
        assert_eq!(
            text.contains("no firewall group stands where IPv4 is routed"),
            four == "works",
            "{text}"
        );
    }
}

#[test]
fn what_a_rule_or_a_forwarding_leaves_open_is_unknown() {
    let part = |protocol: &str| {
        json!([{ "id": "d1", "direction": "ingress", "ethertype": "IPv4", "protocol": protocol, "port_range_min": 443,
        "port_range_max": 444, "remote_ip_prefix": null, "remote_group_id": null, "remote_address_group_id": null }])
    };
    for (protocol, number) in [
        ("33", "protocol 33"),
        ("dccp", "protocol 33"),
        ("udplite", "protocol 136"),
    ] {
        let folder =
            openstack(|all| all["security_groups"][0]["security_group_rules"] = part(protocol));
        let asked = ["internet", "203.0.113.80", "--traffic", number];
        assert_eq!(verdict(&folder, &asked), "unknown", "{protocol}");
        assert_eq!(
            verdict(&folder, &["internet", "203.0.113.80", "--tcp", "443"]),
            "denied",
            "{protocol}"
        );
    }
    let forwarded = |ports: Value| {
        openstack(|all| {
            let mut one = json!({ "id": "pf000001", "protocol": "tcp", "internal_ip_address": "10.1.0.10", "internal_port_id": "vm000001" });
            one.as_object_mut()
                .unwrap()
                .extend(ports.as_object().unwrap().clone());
            all["floatingips"] = json!([{ "id": "f1", "floating_ip_address": "203.0.113.81", "port_id": null,
                "fixed_ip_address": null, "port_forwardings": [one] }]);
        })
    };
    let open = forwarded(json!({ "external_port": null }));
    assert_eq!(
        verdict(&open, &["internet", "203.0.113.81", "--tcp", "8443"]),
        "unknown"
    );
    let known = forwarded(json!({ "external_port": 8443, "internal_port": 443 }));
    assert_eq!(
        verdict(&known, &["internet", "203.0.113.81", "--tcp", "8443"]),
        "works"
    );
    assert_ne!(
        verdict(&known, &["internet", "203.0.113.81", "--tcp", "443"]),
        "works"
    );
    // Type 255 of IPv4 is every type to the driver in the kernel.
    let every = openstack(|all| {
        let rule = &mut all["security_groups"][0]["security_group_rules"][0];
        rule["protocol"] = "icmp".into();
        rule["port_range_min"] = 255.into();
    });
    assert_eq!(
        verdict(&every, &["internet", "203.0.113.80", "--icmp", "8"]),
        "works"
    );
}

const PROFILE: &str = r#"format: heronshale-profile
version: 1
name: cov
records:
  - { into: networks, files: routes.json, from: "$.*", when: "$[?@.to == '0.0.0.0/0']", fields: { id: { member: true } } }
  - into: security_groups
    files: rules.json
    from: $.result.rows[*]
    fields:
      id: $.name
      inbound: { each: "$.rules[*]", fields: { services: { text: "{p} {q}", with: { p: $.proto, q: $.ports } } } }
"#;

#[test]
fn what_is_not_read_is_told_file_by_file() {
    let folder = Folder::new();
    folder.write("profile.yaml", PROFILE);
    folder.write(
        "exports/routes.json",
        json!({ "n": [{ "to": "0.0.0.0/0", "via": "up" }] }).to_string(),
    );
    let rules = json!([{ "proto": "tcp", "ports": "22", "who": "10.0.0.0/8" }]);
    let rows = json!([{ "name": "g", "fallback": "PERMIT", "rules": rules }]);
    folder.write(
        "exports/rules.json",
        json!({ "result": { "rows": rows } }).to_string(),
    );
    let arguments = [
        "import",
        "--profile",
        "profile.yaml",
        "exports",
        "--into",
        "snap.yaml",
    ];
    let (_, told) = folder.json(&arguments);
    let paths: Vec<&str> = told["answer"]["ignored"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["path"].as_str().unwrap())
        .collect();
    assert_eq!(
        paths,
        [
            "$.result.rows[*].fallback",
            "$.result.rows[*].rules[*].who",
            "$[*][*].via"
        ],
        "{told}"
    );
    let everything = &told["answer"]["everything"];
    assert_eq!(
        *everything,
        json!([{ "list": "security_groups.inbound", "lacks": "peers", "rules": 1, "of": 1, "first": "g  rules.json:1" }])
    );
    let text = folder.run(&[&arguments[..], &["--force"]].concat()).ok();
    assert!(
        text.contains("RULES FOR EVERYTHING") && text.contains("1 of 1 rule names no peers"),
        "{text}"
    );
}

#[test]
fn marks_are_read_over_and_cut_files_are_told() {
    let routes = json!({ "n": [{ "to": "0.0.0.0/0" }] }).to_string();
    let arguments = [
        "import",
        "--profile",
        "profile.yaml",
        "exports",
        "--into",
        "snap.yaml",
    ];
    for (text, says) in [
        (format!("\u{feff}{routes}"), None),
        (routes[..20].to_owned(), Some("seems to be cut")),
        (routes.replace(":[", " ["), Some("missing colon")),
    ] {
        let folder = Folder::new();
        folder.write("profile.yaml", PROFILE);
        folder.write("exports/routes.json", &text);
        match says {
            None => drop(folder.run(&arguments).ok()),
            Some(says) => assert!(folder.run(&arguments).fails(3).contains(says), "{text}"),
        }
    }
    let folder = Folder::new();
    folder.write(
        "rules.txt",
        "\u{feff}# Generated by iptables-save\n*filter\n:INPUT DROP [0:0]\nCOMMIT\n# Completed on Mon\n",
    );
    folder
        .run(&[
            "import",
            "--as",
            "linux-workload",
            "--name",
            "m",
            "rules.txt",
            "--into",
            "m.yaml",
        ])
        .ok();
}

#[test]
fn sheets_say_that_settings_are_lost() {
    let folder = Folder::with(
        "format: heronshale-snapshot\nversion: 1\nestate: { name: x, settings: { named_peer_reach: estate } }\nnetworks: [{ id: n, blocks: 10.1.0.0/16, settings: { no_group: deny } }]\n",
    );
    for sheet in ["csv-rules", "csv-interfaces"] {
        let (_, told) = folder.json(&["export", "--as", sheet, "--into", &format!("{sheet}.csv")]);
        let said = told["answer"]["left_out"].to_string();
        assert!(
            said.contains("2 settings: named_peer_reach, no_group"),
            "{sheet}: {told}"
        );
    }
}

#[test]
fn what_lies_around_an_imported_firewall_is_never_surely_shut() {
    let address = |address: &str, length: u8| json!({ "local": address, "prefixlen": length, "scope": "global" });
    let folder = Folder::new();
    folder.write(
        "addr.json",
        json!([
            { "ifname": "wan", "addr_info": [address("198.51.100.2", 24), address("2001:db8:aaaa::2", 64)] },
            { "ifname": "dmz", "addr_info": [address("192.168.50.1", 24)] },
            { "ifname": "lan", "addr_info": [address("192.168.1.1", 24), address("2001:db8:b::1", 64)] },
        ])
        .to_string(),
    );
    folder.write("route.json", json!([{ "dst": "default", "gateway": "198.51.100.1", "dev": "wan" }, { "dst": "192.168.1.0/24", "dev": "lan" }, { "dst": "192.168.50.0/24", "dev": "dmz" }]).to_string());
    let accept = json!({ "rule": { "family": "inet", "table": "t", "chain": "f", "handle": 3, "expr": [
        { "match": { "op": "==", "left": { "meta": { "key": "iifname" } }, "right": "lan" } }, { "accept": null }] } });
    let chain = json!({ "chain": { "family": "inet", "table": "t", "name": "f", "type": "filter", "hook": "forward", "prio": 0, "policy": "drop" } });
    let answers = json!({ "rule": { "family": "inet", "table": "t", "chain": "f", "handle": 2, "expr": [
        { "match": { "op": "in", "left": { "ct": { "key": "state" } }, "right": "established" } }, { "accept": null }] } });
    let rules = json!({ "nftables": [{ "table": { "family": "inet", "name": "t" } }, chain, answers, accept] });
    folder.write("rules.json", rules.to_string());
    let import = [
        "import",
        "--as",
        "linux-firewall",
        "--name",
        "m",
        "addr.json",
        "route.json",
        "rules.json",
        "--hosts",
    ];
    folder
        .run(&[&import[..], &["--into", "estate/m.yaml"]].concat())
        .ok();
    folder.write(
        "estate/wan.yaml",
        "format: heronshale-snapshot\nversion: 1\ngateways: [{ id: up, kind: internet, network: m-wan }]\npublic_addresses: [{ address: 198.51.100.2, interface: m-wan }]\n",
    );
    let asked = |from: &str, to: &str| {
        let (_, json) = folder.json(&["path", from, to, "--tcp", "22", "-e", "estate"]);
        json["answer"]["verdict"].as_str().unwrap().to_owned()
    };
    for to in ["m-wan", "198.51.100.2", "m-lan", "2001:db8:b::77"] {
        assert_eq!(asked("internet", to), "unknown", "{to}");
    }
    // Hosts can be asked about.
    assert_eq!(asked("192.168.1.7", "192.168.50.77"), "works");
    assert_eq!(asked("192.168.50.77", "192.168.1.7"), "denied");
}
