//! Names and descriptions from strangers come out harmless in every format.

use crate::folder::{Folder, HEADER};
use serde_json::json;

const HOSTILE: [&str; 6] = [
    "\u{1b}[2J\u{1b}]0;owned\u{7}",
    "=cmd|' /C calc'!A0",
    "<script>alert(1)</script>",
    "a\u{202e}b\u{2066}c",
    "x\u{9b}31m\r\nERROR",
    "\u{7f}\u{8}\u{feff}q",
];

fn estate() -> String {
    let id = |at: usize, front: &str| format!("{front}{}", HOSTILE[at % HOSTILE.len()]);
    json!({
        "format": "heronshale-snapshot", "version": 1,
        "estate": { "name": id(0, "estate"), "taken": "2026-11-02T06:00:00Z" },
        "owners": [{ "id": id(2, "owner"), "contact": HOSTILE[0] }],
        "networks": [{ "id": id(0, "n"), "blocks": ["10.0.0.0/16", "2001:db8::/48"], "main_table": id(1, "t"), "owner": id(2, "owner") }],
        "subnets": [{ "id": id(4, "s"), "network": id(0, "n"), "blocks": ["10.0.1.0/24"], "acl": id(3, "acl") }],
        "gateways": [{ "id": id(4, "gw"), "kind": "internet", "network": id(0, "n") }],
        "route_tables": [{ "id": id(1, "t"), "network": id(0, "n"), "routes": [{ "to": ["0.0.0.0/0", "::/0"], "next_hop": format!("gateway:{}", id(4, "gw")) }] }],
        "workloads": [{ "id": id(3, "w"), "tags": { id(0, "key"): id(5, "value") }, "service_identity": id(4, "account") }],
        "interfaces": [{ "id": id(0, "i"), "subnet": id(4, "s"), "addresses": ["10.0.1.4", "2001:db8:0:1::4"], "workload": id(3, "w"), "groups": [id(5, "g")] }],
        "public_addresses": [{ "address": "203.0.113.4", "interface": id(0, "i") }],
        "address_sets": [{ "id": id(2, "set"), "content": [format!("set:{}", id(1, "missing"))] }],
        "security_groups": [{ "id": id(5, "g"), "inbound": [
            { "id": id(0, "r"), "description": HOSTILE[0], "services": "tcp 22" },
            { "id": id(1, "r"), "peers": format!("set:{}", id(2, "set")) },
            { "id": id(2, "r"), "peers": format!("group:{}", id(3, "gone")) },
            { "id": id(3, "r"), "peers": format!("identity:{}", id(0, "nobody")) },
        ] }],
        "network_acls": [{ "id": id(3, "acl"), "inbound": [
            { "id": id(4, "r"), "action": "allow", "priority": 1 }, { "id": id(5, "r"), "action": "deny", "priority": 2, "services": "tcp 1" },
        ], "outbound": [{ "action": "allow" }] }],
        "gaps": [{ "object": format!("network:{}", id(5, "far")), "reason": HOSTILE[4] }],
    }).to_string()
}

/// What may reach a terminal: text and line ends.
fn is_harmless(text: &str) -> bool {
    let steers = |sign: char| {
        (sign.is_control() && sign != '\n')
            || matches!(sign, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{200e}' | '\u{200f}' | '\u{feff}')
    };
    !text.chars().any(steers)
}

#[test]
fn names_that_would_steer_a_terminal_come_out_visible_in_every_format() {
    let folder = Folder::new();
    folder.write("estate.json", estate());
    let interface = format!("interface:i{}", HOSTILE[0]);
    let rule = format!("r{}", HOSTILE[0]);
    let commands: [&[&str]; 8] = [
        &["audit", "--details"],
        &["audit"],
        &["exposure"],
        &["inventory"],
        &["inventory", "--interfaces"],
        &["inventory", "--find", "10.0.1.4"],
        &["effective", &interface],
        &["rule", &rule],
    ];
    for arguments in commands {
        let run = folder.run(arguments);
        assert!(run.code <= 1, "{}", run.stderr);
        assert!(
            is_harmless(&run.stdout) && run.stdout.contains("\\u{1b}[2J"),
            "{arguments:?}\n{}",
            run.stdout
        );
        let json = folder.run(&[arguments, &["--format", "json"]].concat());
        assert!(is_harmless(&json.stdout), "{arguments:?}\n{}", json.stdout);
        let value: serde_json::Value = serde_json::from_str(&json.stdout).unwrap();
        assert_eq!(
            value["heading"]["estate"],
            format!("estate{}", HOSTILE[0]),
            "nothing is lost in JSON"
        );
    }
}

#[test]
fn errors_about_hostile_files_and_arguments_are_harmless_too() {
    let table = [
        format!("{HEADER}networks:\n- {{ id: \"a\u{202e}b\u{9b}x\", blok: 1 }}\n"),
        format!("{HEADER}security_groups:\n- id: g\n  inbound: [{{ peers: \"\\e[2J\" }}]\n"),
        "{ \"format\": \"heronshale-snapshot\", \"version\": 1, \"net\\u001bworks\": [] }"
            .to_owned(),
    ];
    for text in table {
        let folder = Folder::new();
        folder.write("x", text);
        let told = folder.run(&["audit", "-e", "x"]).fails(3);
        assert!(is_harmless(&told), "{told:?}");
    }
    let told = Folder::with(HEADER)
        .run(&["effective", "\u{1b}[2J\u{202e}"])
        .fails(2);
    assert!(
        is_harmless(&told) && told.contains("\\u{1b}[2J"),
        "{told:?}"
    );
}
