//! What a draft makes of exports of many shapes: the snapshot that comes of it, and what it asks.

use crate::folder::Folder;
use expect_test::{Expect, expect};
use std::collections::BTreeSet;

/// A network, a subnet and an interface in it, to which cases add.
const PLACE: &str = r#""networks": [{ "name": "quay", "cidr": "10.64.0.0/16" }],
"subnets": [{ "name": "pier", "network": "quay", "cidr": "10.64.1.0/24" }],"#;

/// Writes the exports: JSON, or several files behind `=== NAME`.
fn written(exports: &str) -> Folder {
    let folder = Folder::new();
    for part in exports.split("=== ").skip(1) {
        let (name, text) = part.split_once('\n').unwrap();
        folder.write(&format!("ex/{name}"), text.trim());
    }
    if !exports.contains("=== ") {
        folder.write("ex/all.json", exports);
    }
    folder
}

/// A snapshot without comments, header and estate.
fn plain(snapshot: &str) -> String {
    let lines = snapshot
        .lines()
        .filter(|line| !line.trim_start().starts_with('#') && !line.is_empty());
    lines
        .skip(2)
        .collect::<Vec<_>>()
        .join("\n")
        .replace("estate:\n  name: drafted\n", "")
        + "\n"
}

/// The snapshot by the likely answers, only some sections of it, and behind it what was asked.
#[track_caller]
fn drafts(exports: &str, sections: &[&str], wanted: &Expect) {
    let folder = written(exports);
    folder
        .run(&["import", "--draft-profile", "p.yaml", "ex"])
        .ok();
    let profile = folder.read("p.yaml");
    folder.write("p.yaml", profile.replace("draft: true\n", ""));
    folder
        .run(&["import", "--profile", "p.yaml", "ex", "--into", "s.yaml"])
        .ok();
    let mut told = String::new();
    let mut inside = false;
    for line in plain(&folder.read("s.yaml")).lines() {
        if let Some(section) = line
            .strip_suffix(':')
            .filter(|section| !section.contains([' ', '-']))
        {
            inside = sections.contains(&section);
        }
        if inside {
            told += &format!("{line}\n");
        }
    }
    for line in profile
        .lines()
        .filter_map(|line| line.strip_prefix("# TODO: "))
    {
        told += &format!("? {line}\n");
    }
    wanted.assert_eq(&told);
}

/// What a guide asks, and the gaps that the snapshot has without any answer.
#[track_caller]
fn asks(exports: &str, wanted: &Expect) {
    let folder = written(exports);
    let run = folder.run(&["guide", "ex", "--into", "g"]);
    assert!(run.code <= 1, "{}", run.stderr);
    let asked = folder.read("g/questions.yaml");
    let asked = asked
        .lines()
        .filter_map(|line| line.strip_prefix("    ask: "));
    let mut told: String = asked
        .map(|ask| format!("? {}\n", serde_json::from_str::<String>(ask).unwrap()))
        .collect();
    let snapshot = folder.read("g/snapshot.yaml");
    let gaps: BTreeSet<String> = snapshot
        .split("\n- object: ")
        .skip(1)
        .map(|gap| {
            let mut lines = gap.lines();
            let object = lines.next().unwrap();
            let lacks = lines
                .next()
                .and_then(|line| line.trim().strip_prefix("lacks: "))
                .unwrap_or("everything");
            format!("gap {object} {lacks}\n")
        })
        .collect();
    told.extend(gaps);
    wanted.assert_eq(&told);
}

#[test]
fn pages_are_one_list_and_ids_are_joined_to_names() {
    let exports = r#"
=== nets.json
{ "items": [{ "id": "n1", "name": "quay", "cidr": "10.64.0.0/16" }] }
=== cells-1.json
{ "items": [{ "id": "c1", "name": "pier", "net": "n1", "cidr": "10.64.1.0/24" }], "next": "2" }
=== cells-2.json
{ "items": [{ "id": "c2", "name": "shed", "net": "n1", "cidr": "10.64.2.0/24" }], "next": null }
"#;
    drafts(
        exports,
        &["networks", "subnets"],
        &expect![[r#"
        networks:
        - id: quay
          blocks: 10.64.0.0/16
        subnets:
        - id: pier
          network: quay
          blocks: 10.64.1.0/24
        - id: shed
          network: quay
          blocks: 10.64.2.0/24
        ? What are the objects of cells-*.json $.items[*]? Taken here: subnets.
        ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: no network has one.
        ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
        ? No list of the exports has rules. Is that because nothing is filtered? Taken here: nothing.
    "#]],
    );
    asks(
        exports,
        &expect![[r#"
        ? What are the objects of cells-*.json $.items[*]?
        gap gateway:of-quay everything
        gap network:quay groups
        gap network:quay interfaces
        gap network:quay own_firewalls
        gap network:quay routes
        gap network:quay rules
        gap peering:of-quay everything
    "#]],
    );
}

#[test]
fn objects_by_name_are_called_by_their_names() {
    let exports = format!(
        r#"{{ {PLACE} "interfaces": [{{ "name": "kiosk", "subnet": "pier", "ip": "10.64.1.5", "groups": ["web"] }}],
        "groups": {{
            "web": {{ "rules": [{{ "direction": "in", "protocol": "tcp", "ports": "443", "source": "any" }}] }},
            "db": {{ "rules": [{{ "direction": "in", "protocol": "tcp", "ports": "5432", "source": "web" }}] }},
            "ops": {{ "rules": [{{ "direction": "out", "protocol": "any", "ports": "any", "source": "any" }}] }} }} }}"#
    );
    drafts(
        &exports,
        &["interfaces", "security_groups"],
        &expect![[r#"
            interfaces:
            - id: kiosk
              subnet: pier
              addresses: "10.64.1.5"
              groups: web
            security_groups:
            - id: web
              inbound:
              - services: tcp 443
                peers: any
            - id: db
              inbound:
              - services: tcp 5432
                peers: group:web
            - id: ops
              outbound:
              - services: any
                peers: any
            ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: no network has one.
            ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
        "#]],
    );
}

#[test]
fn ports_come_in_many_forms() {
    let rule = |text: &str| {
        format!(r#"{{ "direction": "ingress", "proto": "tcp", "source": "10.0.0.0/8", {text} }}"#)
    };
    let rules = [
        r#""ports": "80""#,
        r#""ports": "443,8443""#,
        r#""ports": "8000:8100""#,
        r#""ports": "9000-9010""#,
        r#""ports": "any""#,
    ];
    let rules = rules.map(rule).join(", ");
    let exports = format!(r#"{{ {PLACE} "groups": [{{ "name": "web", "rules": [{rules}] }}] }}"#);
    drafts(
        &exports,
        &["security_groups"],
        &expect![[r#"
        security_groups:
        - id: web
          inbound:
          - services: tcp 80
            peers: 10.0.0.0/8
          - services:
            - tcp 443
            - tcp 8443
            peers: 10.0.0.0/8
          - services: tcp 8000-8100
            peers: 10.0.0.0/8
          - services: tcp 9000-9010
            peers: 10.0.0.0/8
          - services: tcp
            peers: 10.0.0.0/8
          outbound:
          - peers: any
        ? No rule of all.json $.groups[*] is about what interfaces send. What may they send? Taken here: everything.
        ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: no network has one.
        ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
    "#]],
    );
}

#[test]
fn services_in_one_text_are_taken_apart() {
    let rules = ["tcp/443", "udp/53,123", "icmp", "TCP/8000-8100", "any"].map(|service| {
        format!(r#"{{ "direction": "in", "service": "{service}", "source": "10.0.0.0/8" }}"#)
    });
    let exports = format!(
        r#"{{ {PLACE} "groups": [{{ "name": "web", "rules": [{}] }}] }}"#,
        rules.join(", ")
    );
    drafts(
        &exports,
        &["security_groups"],
        &expect![[r#"
        security_groups:
        - id: web
          inbound:
          - services: tcp 443
            peers: 10.0.0.0/8
          - services: udp 53,123
            peers: 10.0.0.0/8
          - services: icmp
            peers: 10.0.0.0/8
          - services: tcp 8000-8100
            peers: 10.0.0.0/8
          - services: any
            peers: 10.0.0.0/8
          outbound:
          - peers: any
        ? No rule of all.json $.groups[*] is about what interfaces send. What may they send? Taken here: everything.
        ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: no network has one.
        ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
    "#]],
    );
}

#[test]
fn services_by_name_are_explained_by_their_list() {
    let exports = format!(
        r#"{{ {PLACE}
        "services": [{{ "name": "web", "protocol": "tcp", "low": 443, "high": 443 }}, {{ "name": "names", "protocol": "udp", "low": 53, "high": 53 }}],
        "groups": [{{ "name": "kiosk", "rules": [
            {{ "direction": "in", "service": "web", "source": "any" }}, {{ "direction": "out", "service": "names", "source": "10.64.0.2" }}] }}] }}"#
    );
    drafts(
        &exports,
        &["security_groups"],
        &expect![[r#"
            security_groups:
            - id: kiosk
              inbound:
              - services: tcp 443-443
                peers: any
              outbound:
              - services: udp 53-53
                peers: "10.64.0.2"
            ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: no network has one.
            ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
        "#]],
    );
}

#[test]
fn icmp_has_type_and_code_where_others_have_ports() {
    let exports = format!(
        r#"{{ {PLACE} "groups": [{{ "name": "web", "rules": [
            {{ "direction": "in", "protocol": 1, "first_port": 8, "last_port": 0, "source": "any" }},
            {{ "direction": "in", "protocol": 1, "first_port": -1, "last_port": -1, "source": "10.0.0.0/8" }},
            {{ "direction": "in", "protocol": 1, "first_port": 3, "last_port": -1, "source": "10.0.0.0/8" }},
            {{ "direction": "in", "protocol": -1, "first_port": 0, "last_port": 65535, "source": "10.1.0.0/16" }},
            {{ "direction": "in", "protocol": 6, "first_port": 0, "last_port": 65535, "source": "10.2.0.0/16" }}] }}] }}"#
    );
    drafts(
        &exports,
        &["security_groups"],
        &expect![[r#"
        security_groups:
        - id: web
          inbound:
          - services: icmp 8/0
            peers: any
          - services: icmp
            peers: 10.0.0.0/8
          - services: icmp 3
            peers: 10.0.0.0/8
          - services: any
            peers: 10.1.0.0/16
          - services: tcp 0-65535
            peers: 10.2.0.0/16
          outbound:
          - peers: any
        ? What stands where ports would stand, in rules of all.json $.groups[*].rules[*] about icmp? Taken here: type and code.
        ? No rule of all.json $.groups[*] is about what interfaces send. What may they send? Taken here: everything.
        ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: no network has one.
        ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
    "#]],
    );
    asks(
        &exports,
        &expect![[r#"
        ? What stands where ports would stand, in rules of all.json $.groups[*].rules[*] about icmp?
        ? No list of the exports has ways out of networks. Is that because no network has one?
        ? No list of the exports has route tables. Is that because networks have no routes but their own?
        gap gateway:of-quay everything
        gap group:web rules
        gap network:quay routes
    "#]],
    );
}

#[test]
fn both_sides_of_a_rule_are_its_peers_and_its_own_side() {
    let exports = r#"
=== subnets.csv
name,network,cidr,acl
pier,quay,10.64.1.0/24,edge
=== networks.csv
name,cidr
quay,10.64.0.0/16
=== acl.csv
acl,seq,direction,source,destination,proto,src_port,dst_port,action
edge,10,in,any,10.64.1.9/32,tcp,1024-65535,22,permit
edge,20,in,198.51.100.0/24,any,any,any,any,drop
edge,10,out,any,any,any,any,any,permit
"#;
    drafts(
        exports,
        &["subnets", "network_acls"],
        &expect![[r#"
        subnets:
        - id: pier
          network: quay
          blocks: 10.64.1.0/24
          acl: edge
        network_acls:
        - id: edge
          inbound:
          - action: allow
            priority: 10
            services: tcp 22
            source_ports: 1024-65535
            peers: any
            local: 10.64.1.9/32
          - action: deny
            priority: 20
            services: any
            peers: 198.51.100.0/24
            local: any
          outbound:
          - action: allow
            priority: 10
            services: any
            peers: any
            local: any
        ? Which rule of acl.csv $[*] comes first: that with the lowest or the highest $.seq? Taken here: lowest.
        ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: no network has one.
        ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
    "#]],
    );
    asks(
        exports,
        &expect![[r#"
        ? Which rule of acl.csv $[*] comes first: that with the lowest or the highest $.seq?
        ? No list of the exports has ways out of networks. Is that because no network has one?
        ? No list of the exports has route tables. Is that because networks have no routes but their own?
        gap acl:edge rules
        gap gateway:of-quay everything
        gap network:quay routes
    "#]],
    );
}

#[test]
fn groups_may_deny_be_switched_off_and_have_defaults() {
    let exports = format!(
        r#"{{ {PLACE} "groups": [
            {{ "name": "web", "default_out": "allow", "rules": [
                {{ "name": "a", "direction": "in", "priority": 200, "action": "ALLOW", "protocol": "tcp", "ports": "443", "source": "any", "disabled": false }},
                {{ "name": "b", "direction": "in", "priority": 300, "action": "REJECT", "protocol": "tcp", "ports": "any", "source": "192.0.2.0/24", "disabled": true }}] }}] }}"#
    );
    drafts(
        &exports,
        &["security_groups"],
        &expect![[r#"
            security_groups:
            - id: web
              default_outbound: allow
              form: ordered
              inbound:
              - id: a
                action: allow
                priority: 200
                enabled: true
                services: tcp 443
                peers: any
              - id: b
                action: reject
                priority: 300
                enabled: false
                services: tcp
                peers: 192.0.2.0/24
            ? For which packets does $.default_out of all.json $.groups[*] hold, if no rule matches? Taken here: what is sent.
            ? Which rule of all.json $.groups[*].rules[*] comes first: that with the lowest or the highest $.priority? Taken here: lowest.
            ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: no network has one.
            ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
        "#]],
    );
    asks(
        &exports,
        &expect![[r#"
            ? For which packets does $.default_out of all.json $.groups[*] hold, if no rule matches?
            ? Which rule of all.json $.groups[*].rules[*] comes first: that with the lowest or the highest $.priority?
            ? No list of the exports has ways out of networks. Is that because no network has one?
            ? No list of the exports has route tables. Is that because networks have no routes but their own?
            gap gateway:of-quay everything
            gap group:web rules
            gap network:quay routes
        "#]],
    );
}

#[test]
fn who_is_in_a_group_may_stand_in_the_group() {
    let exports = format!(
        r#"{{ {PLACE} "interfaces": [{{ "id": "i1", "subnet": "pier", "address": "10.64.1.5/24" }}, {{ "id": "i2", "subnet": "pier", "address": "10.64.1.6/24" }}],
        "groups": [{{ "name": "web", "members": ["i1", "i2"], "ingress": [{{ "protocol": "tcp", "ports": "443", "remote": "*" }}] }},
                   {{ "name": "ops", "members": ["i2"], "ingress": [{{ "protocol": "tcp", "ports": "22", "remote": "web" }}] }}] }}"#
    );
    drafts(
        &exports,
        &["interfaces", "security_groups"],
        &expect![[r#"
            interfaces:
            - id: i1
              subnet: pier
              addresses: "10.64.1.5"
              groups: web
            - id: i2
              subnet: pier
              addresses: "10.64.1.6"
              groups:
              - web
              - ops
            security_groups:
            - id: web
              inbound:
              - services: tcp 443
                peers: any
              outbound:
              - peers: any
            - id: ops
              inbound:
              - services: tcp 22
                peers: group:web
              outbound:
              - peers: any
            ? No rule of all.json $.groups[*] is about what interfaces send. What may they send? Taken here: everything.
            ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: no network has one.
            ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
        "#]],
    );
    asks(
        &exports,
        &expect![[r#"
            ? No rule of all.json $.groups[*] is about what interfaces send. What may they send?
            ? No list of the exports has ways out of networks. Is that because no network has one?
            ? No list of the exports has route tables. Is that because networks have no routes but their own?
            gap gateway:of-quay everything
            gap group:ops rules
            gap group:web rules
            gap network:quay routes
        "#]],
    );
}

#[test]
fn machines_with_addresses_are_interfaces() {
    let exports = format!(
        r#"{{ {PLACE} "groups": [{{ "name": "web", "rules": [{{ "direction": "in", "protocol": "tcp", "ports": "443", "source": "any" }}] }}],
        "servers": [{{ "name": "kiosk-1", "subnet": "pier", "private_ip": "10.64.1.5", "public_ip": "203.0.113.5", "groups": "web", "tags": {{ "role": "web" }} }},
                    {{ "name": "kiosk-2", "subnet": "pier", "private_ip": "10.64.1.6", "public_ip": null, "groups": "web", "tags": {{}} }}] }}"#
    );
    drafts(
        &exports,
        &["interfaces", "workloads", "public_addresses"],
        &expect![[r#"
            interfaces:
            - id: kiosk-1
              subnet: pier
              addresses: "10.64.1.5"
              groups: web
              tags:
                role: web
            - id: kiosk-2
              subnet: pier
              addresses: "10.64.1.6"
              groups: web
              tags: {}
            public_addresses:
            - address: "203.0.113.5"
              interface: kiosk-1
            ? No rule of all.json $.groups[*] is about what interfaces send. What may they send? Taken here: everything.
            ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: nothing.
            ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
        "#]],
    );
    asks(
        &exports,
        &expect![[r#"
            ? No rule of all.json $.groups[*] is about what interfaces send. What may they send?
            ? No list of the exports has ways out of networks. Is that because no network has one?
            ? No list of the exports has route tables. Is that because networks have no routes but their own?
            gap gateway:of-quay everything
            gap group:web rules
            gap network:quay routes
        "#]],
    );
}

#[test]
fn public_addresses_lead_to_interfaces_by_their_private_ones() {
    let exports = format!(
        r#"{{ {PLACE} "nics": [{{ "id": "n-1", "subnet": "pier", "ip": "10.64.1.5" }}, {{ "id": "n-2", "subnet": "pier", "ip": "10.64.1.6" }}],
        "floating_ips": [{{ "id": "f-1", "floating_address": "203.0.113.9", "fixed_address": "10.64.1.6" }}, {{ "id": "f-2", "floating_address": "203.0.113.10", "fixed_address": null }}] }}"#
    );
    drafts(
        &exports,
        &["public_addresses"],
        &expect![[r#"
        public_addresses:
        - address: "203.0.113.9"
          interface: n-2
        - address: "203.0.113.10"
        ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: nothing.
        ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
        ? No list of the exports has rules. Is that because nothing is filtered? Taken here: nothing.
    "#]],
    );
}

#[test]
fn routes_lead_to_gateways_interfaces_addresses_and_nowhere() {
    let exports = format!(
        r#"{{ {PLACE} "interfaces": [{{ "id": "fw-in", "subnet": "pier", "ip": "10.64.1.5" }}],
        "gateways": [{{ "id": "g-1", "type": "internet", "network": "quay" }}, {{ "id": "g-2", "type": "NAT", "network": "quay", "subnet": "pier", "public_ip": "203.0.113.20" }}],
        "route_tables": [{{ "id": "t-1", "network": "quay", "routes": [
            {{ "to": "0.0.0.0/0", "via": "g-1" }}, {{ "to": "10.66.0.0/16", "via": "fw-in" }},
            {{ "to": "10.67.0.0/16", "via": "10.64.1.9" }}, {{ "to": "10.68.0.0/16", "via": "discard" }}, {{ "to": "10.69.0.0/16", "via": "vpn-3" }}] }}] }}"#
    );
    drafts(
        &exports,
        &["gateways", "route_tables", "networks"],
        &expect![[r#"
        networks:
        - id: quay
          blocks: 10.64.0.0/16
          main_table: t-1
        route_tables:
        - id: t-1
          network: quay
          routes:
          - to: 0.0.0.0/0
            next_hop: gateway:g-1
          - to: 10.66.0.0/16
            next_hop: interface:fw-in
          - to: 10.67.0.0/16
            next_hop: "10.64.1.9"
          - to: 10.68.0.0/16
            next_hop: blackhole
          - to: 10.69.0.0/16
            next_hop: gateway:vpn-3
        gateways:
        - id: g-1
          kind: internet
          network: quay
        ? No subnet names a route table of all.json $.route_tables[*]. For which subnets does a table hold? Taken here: all of its network.
        ? Where does "discard" lead, in $.via of all.json $.route_tables[*].routes[*]? Taken here: blackhole.
        ? Where does "vpn-3" lead, in $.via of all.json $.route_tables[*].routes[*]? Taken here: nothing.
        ? No list of the exports has rules. Is that because nothing is filtered? Taken here: nothing.
    "#]],
    );
    asks(
        &exports,
        &expect![[r#"
        ? No subnet names a route table of all.json $.route_tables[*]. For which subnets does a table hold?
        ? Where does "discard" lead, in $.via of all.json $.route_tables[*].routes[*]?
        ? Where does "vpn-3" lead, in $.via of all.json $.route_tables[*].routes[*]?
        ? No list of the exports has rules. Is that because nothing is filtered?
        gap gateway:g-2 everything
        gap network:quay groups
        gap network:quay routes
        gap network:quay rules
    "#]],
    );
}

#[test]
fn address_sets_are_peers_and_hold_each_other() {
    let exports = format!(
        r#"{{ {PLACE} "address_sets": [{{ "id": "s-1", "name": "offices", "prefixes": ["198.51.100.0/26", "203.0.113.7"] }}, {{ "id": "s-2", "name": "homes", "prefixes": ["192.0.2.0-192.0.2.9"] }}],
        "groups": [{{ "name": "web", "rules": [
            {{ "direction": "in", "protocol": "tcp", "ports": "443", "source": "s-1" }}, {{ "direction": "in", "protocol": "tcp", "ports": "22", "source": "10.0.0.0/8" }},
            {{ "direction": "in", "protocol": "tcp", "ports": "25", "source": "landlord" }}] }}] }}"#
    );
    drafts(
        &exports,
        &["address_sets", "security_groups"],
        &expect![[r#"
            address_sets:
            - id: offices
              content:
              - 198.51.100.0/26
              - "203.0.113.7"
            - id: homes
              content: 192.0.2.0-192.0.2.9
            security_groups:
            - id: web
              inbound:
              - services: tcp 443
                peers: set:offices
              - services: tcp 22
                peers: 10.0.0.0/8
              - services: tcp 25
                peers: set:landlord
              outbound:
              - peers: any
            ? Whom does "landlord" mean, in $.source of all.json $.groups[*].rules[*]? Taken here: nothing.
            ? No rule of all.json $.groups[*] is about what interfaces send. What may they send? Taken here: everything.
            ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: no network has one.
            ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
        "#]],
    );
    asks(
        &exports,
        &expect![[r#"
            ? Whom does "landlord" mean, in $.source of all.json $.groups[*].rules[*]?
            ? No rule of all.json $.groups[*] is about what interfaces send. What may they send?
            ? No list of the exports has ways out of networks. Is that because no network has one?
            ? No list of the exports has route tables. Is that because networks have no routes but their own?
            gap gateway:of-quay everything
            gap group:web rules
            gap network:quay routes
        "#]],
    );
}

#[test]
fn both_families_and_names_with_any_sign_come_through() {
    let exports = r#"{ "networks": [{ "net name": "quay", "IPv4 range": "10.64.0.0/16", "IPv6 range": "2001:db8:64::/48" }, { "net name": "shed's", "IPv4 range": "10.65.0.0/16", "IPv6 range": null }],
        "subnets": [{ "subnet name": "a.b", "net name": "quay", "v4": "10.64.1.0/24", "v6": "2001:db8:64:1::/64" }, { "subnet name": "c/d", "net name": "shed's", "v4": "10.65.1.0/24", "v6": null }] }"#;
    drafts(
        exports,
        &["networks", "subnets"],
        &expect![[r#"
        networks:
        - id: quay
          blocks:
          - 10.64.0.0/16
          - 2001:db8:64::/48
        - id: shed's
          blocks: 10.65.0.0/16
        subnets:
        - id: a.b
          network: quay
          blocks:
          - 10.64.1.0/24
          - 2001:db8:64:1::/64
        - id: c/d
          network: shed's
          blocks: 10.65.1.0/24
        ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: no network has one.
        ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
        ? No list of the exports has rules. Is that because nothing is filtered? Taken here: nothing.
    "#]],
    );
}

#[test]
fn owners_have_contacts_and_networks_have_the_blocks_of_their_subnets() {
    let exports = r#"{ "teams": [{ "id": "t1", "name": "platform", "mail": "platform@marrowfen.example" }],
        "networks": [{ "id": "n1", "name": "quay", "team": "t1" }],
        "subnets": [{ "id": "s1", "name": "pier", "network_id": "n1", "cidr": "10.64.1.0/24" }, { "id": "s2", "name": "shed", "network_id": "n1", "cidr": "10.64.2.0/24" }] }"#;
    drafts(
        exports,
        &["owners", "networks"],
        &expect![[r#"
        owners:
        - id: platform
          contact: platform@marrowfen.example
        networks:
        - id: quay
          blocks:
          - 10.64.1.0/24
          - 10.64.2.0/24
          owner: platform
        ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: no network has one.
        ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
        ? No list of the exports has rules. Is that because nothing is filtered? Taken here: nothing.
    "#]],
    );
}

#[test]
fn what_nobody_knows_is_asked_and_a_gap() {
    let exports = format!(
        r#"{{ {PLACE} "interfaces": [{{ "id": "i1", "subnet": "pier", "ip": "10.64.1.5" }}],
        "lock_gates": [{{ "id": "x", "holds": "i1", "policy": "p" }}],
        "balancers": [{{ "name": "lobby", "backends": ["i1"] }}],
        "loose_rules": [{{ "protocol": "tcp", "ports": "22", "action": "deny", "source": "any" }}],
        "pictures": [{{ "id": "p1", "made": "2026" }}] }}"#
    );
    drafts(
        &exports,
        &["interfaces"],
        &expect![[r#"
        interfaces:
        - id: i1
          subnet: pier
          addresses: "10.64.1.5"
        ? What are the objects of all.json $.lock_gates[*]? Taken here: nothing.
        ? The rules or routes of all.json $.loose_rules[*] belong to no object of the exports. Do they count? Taken here: nothing.
    "#]],
    );
    asks(
        &exports,
        &expect![[r#"
        ? What are the objects of all.json $.lock_gates[*]?
        ? The rules or routes of all.json $.loose_rules[*] belong to no object of the exports. Do they count?
        gap balancer:lobby everything
        gap gateway:of-quay everything
        gap network:quay groups
        gap network:quay interfaces
        gap network:quay own_firewalls
        gap network:quay routes
        gap network:quay rules
        gap peering:of-quay everything
    "#]],
    );
}

#[test]
fn unusual_words_are_asked_one_by_one() {
    let exports = format!(
        r#"{{ {PLACE} "groups": [{{ "name": "web", "rules": [
            {{ "way": "landward", "verdict": "aye", "protocol": "TCP", "ports": "443", "source": "any", "rank": 5 }},
            {{ "way": "seaward", "verdict": "nay", "protocol": "XNS", "ports": "any", "source": "ashore", "rank": 7 }}] }}] }}"#
    );
    asks(
        &exports,
        &expect![[r#"
            ? What does "aye" mean as the action of a rule, in $.verdict of all.json $.groups[*].rules[*]?
            ? What does "nay" mean as the action of a rule, in $.verdict of all.json $.groups[*].rules[*]?
            ? What does "landward" mean as the direction of a rule, in $.way of all.json $.groups[*].rules[*]?
            ? What does "seaward" mean as the direction of a rule, in $.way of all.json $.groups[*].rules[*]?
            ? Which protocol is "XNS", in $.protocol of all.json $.groups[*].rules[*]?
            ? Whom does "ashore" mean, in $.source of all.json $.groups[*].rules[*]?
            ? No list of the exports has ways out of networks. Is that because no network has one?
            ? No list of the exports has route tables. Is that because networks have no routes but their own?
            gap gateway:of-quay everything
            gap group:web rules
            gap network:quay routes
        "#]],
    );
    let folder = written(&exports);
    folder.run(&["guide", "ex", "--into", "g"]);
    // The answers of somebody who knows, as often as new questions come up.
    let known = [
        ("landward", "inbound"),
        ("seaward", "outbound"),
        ("aye", "allow"),
        ("nay", "deny"),
        ("XNS", "any"),
        ("order", "highest"),
        ("ashore", "internet"),
        ("default", "none"),
    ];
    for _ in 0..6 {
        let mut out = String::new();
        let mut answer = "";
        for line in folder.read("g/questions.yaml").lines() {
            if line.starts_with("  - about: ") {
                answer = known
                    .iter()
                    .find(|(word, _)| line.contains(word))
                    .map_or("", |(_, answer)| answer);
            }
            if line == "    answer: \"\"" {
                out += &format!("    answer: \"{answer}\"\n")
            } else {
                out += &format!("{line}\n")
            }
        }
        folder.write("g/questions.yaml", out);
        folder.run(&["guide", "ex", "--into", "g"]);
    }
    let snapshot = plain(&folder.read("g/snapshot.yaml"));
    let groups = snapshot
        .split("security_groups:\n")
        .nth(1)
        .unwrap()
        .split("gaps:")
        .next()
        .unwrap();
    expect![[r#"
        - id: web
          form: ordered
          inbound:
          - action: allow
            priority: 2
            services: tcp 443
            peers: any
          outbound:
          - action: deny
            priority: 1
            services: any
            peers: internet
    "#]]
    .assert_eq(groups);
}

#[test]
fn a_folder_of_documents_is_a_list_and_lines_of_json_are_another() {
    let exports = r#"
=== nets.jsonl
{ "name": "quay", "cidr": "10.64.0.0/16" }
{ "name": "shed", "cidr": "10.65.0.0/16" }
=== groups/web.json
{ "name": "web", "owner": "kiosks", "rules": [{ "direction": "inbound", "protocol": "tcp", "port": 443, "from": "any" }] }
=== groups/db.json
{ "name": "db", "owner": "books", "rules": [{ "direction": "inbound", "protocol": "tcp", "port": 5432, "from": "web" }] }
"#;
    drafts(
        exports,
        &["networks", "security_groups"],
        &expect![[r#"
        networks:
        - id: quay
          blocks: 10.64.0.0/16
        - id: shed
          blocks: 10.65.0.0/16
        security_groups:
        - id: db
          inbound:
          - services: tcp 5432
            peers: group:web
          outbound:
          - peers: any
        - id: web
          inbound:
          - services: tcp 443
            peers: any
          outbound:
          - peers: any
        ? No rule of groups/* $ is about what interfaces send. What may they send? Taken here: everything.
        ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: no network has one.
        ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
    "#]],
    );
}

#[test]
fn what_lies_deeper_in_an_interface_is_read_with_it() {
    let exports = format!(
        r#"{{ {PLACE} "security_groups": [{{ "id": "g-1", "name": "web", "rules": [{{ "direction": "ingress", "protocol": "tcp", "port_range": "443", "remote_ip": "0.0.0.0/0" }}] }}],
        "ports": [{{ "id": "p-1", "fixed_ips": [{{ "subnet": "pier", "ip_address": "10.64.1.5" }}, {{ "subnet": "pier", "ip_address": "2001:db8::5" }}], "security_groups": [{{ "id": "g-1" }}] }},
                  {{ "id": "p-2", "fixed_ips": [{{ "subnet": "pier", "ip_address": "10.64.1.6" }}], "security_groups": [] }}] }}"#
    );
    drafts(
        &exports,
        &["interfaces"],
        &expect![[r#"
        interfaces:
        - id: p-1
          subnet: pier
          addresses:
          - "10.64.1.5"
          - 2001:db8::5
          groups: web
        - id: p-2
          subnet: pier
          addresses: "10.64.1.6"
        ? No rule of all.json $.security_groups[*] is about what interfaces send. What may they send? Taken here: everything.
        ? 1 of 2 objects of all.json $.ports[*] have no group. What may they receive and send? Taken here: everything.
        ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: no network has one.
        ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
    "#]],
    );
    asks(
        &exports,
        &expect![[r#"
        ? No rule of all.json $.security_groups[*] is about what interfaces send. What may they send?
        ? 1 of 2 objects of all.json $.ports[*] have no group. What may they receive and send?
        ? No list of the exports has ways out of networks. Is that because no network has one?
        ? No list of the exports has route tables. Is that because networks have no routes but their own?
        gap gateway:of-quay everything
        gap group:web rules
        gap interface:p-2 groups
        gap network:quay routes
    "#]],
    );
}

#[test]
fn traffic_that_lies_in_a_rule_is_read_with_it() {
    let exports = format!(
        r#"{{ {PLACE} "groups": [{{ "name": "web", "entries": [
            {{ "way": "in", "traffic": [{{ "proto": "tcp", "low": 80, "high": 80 }}, {{ "proto": "udp", "low": 443, "high": 443 }}], "whom": ["any"] }},
            {{ "way": "in", "traffic": [{{ "proto": "icmp", "low": null, "high": null }}], "whom": ["10.0.0.0/8", "192.0.2.7"] }}] }}] }}"#
    );
    drafts(
        &exports,
        &["security_groups"],
        &expect![[r#"
        security_groups:
        - id: web
          inbound:
          - services:
            - tcp 80-80
            - udp 443-443
            peers: any
          - services: icmp
            peers:
            - 10.0.0.0/8
            - "192.0.2.7"
          outbound:
          - peers: any
        ? No rule of all.json $.groups[*] is about what interfaces send. What may they send? Taken here: everything.
        ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: no network has one.
        ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
    "#]],
    );
}

#[test]
fn rows_of_routes_are_tables_and_subnets_name_them() {
    let exports = r#"
=== Nets.csv
Name,Range
quay,10.64.0.0/16
=== Subnets.csv
Name,Net,Range,Routing
pier,quay,10.64.1.0/24,ways
shed,quay,10.64.2.0/24,ways
=== Exits.csv
Name,Net,Kind
out,quay,internet
=== Routing.csv
Table,Net,To,Via
ways,quay,0.0.0.0/0,out
ways,quay,10.70.0.0/16,none
"#;
    drafts(
        exports,
        &["subnets", "gateways", "route_tables"],
        &expect![[r#"
        subnets:
        - id: pier
          network: quay
          blocks: 10.64.1.0/24
          route_table: ways
        - id: shed
          network: quay
          blocks: 10.64.2.0/24
          route_table: ways
        route_tables:
        - id: ways
          network: quay
          routes:
          - to: 0.0.0.0/0
            next_hop: gateway:out
          - to: 10.70.0.0/16
            next_hop: blackhole
        gateways:
        - id: out
          kind: internet
          network: quay
        ? What are the objects of Exits.csv $[*]? Taken here: gateways.
        ? Where does "none" lead, in $.Via of Routing.csv $[*]? Taken here: blackhole.
        ? No list of the exports has rules. Is that because nothing is filtered? Taken here: nothing.
    "#]],
    );
    asks(
        exports,
        &expect![[r#"
        ? What are the objects of Exits.csv $[*]?
        ? Where does "none" lead, in $.Via of Routing.csv $[*]?
        ? Where does "out" lead, in $.Via of Routing.csv $[*]?
        gap gateway:of-quay everything
        gap network:quay groups
        gap network:quay interfaces
        gap network:quay own_firewalls
        gap network:quay routes
        gap network:quay rules
        gap peering:of-quay everything
    "#]],
    );
}

#[test]
fn subnets_in_networks_have_names_of_their_own() {
    let exports = r#"{ "regions": [{ "name": "north", "networks": [
        { "name": "quay", "range": "10.64.0.0/16", "subnets": [{ "name": "pier", "range": "10.64.1.0/24", "hosts": [{ "name": "kiosk", "address": "10.64.1.5" }] }] },
        { "name": "shed", "range": "10.65.0.0/16", "subnets": [{ "name": "loft", "range": "10.65.1.0/24", "hosts": [] }] }] }] }"#;
    drafts(
        exports,
        &["networks", "subnets", "interfaces", "workloads"],
        &expect![[r#"
        networks:
        - id: quay
          blocks: 10.64.0.0/16
        - id: shed
          blocks: 10.65.0.0/16
        subnets:
        - id: pier
          network: quay
          blocks: 10.64.1.0/24
        - id: loft
          network: shed
          blocks: 10.65.1.0/24
        interfaces:
        - id: kiosk
          subnet: pier
          addresses: "10.64.1.5"
        ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: no network has one.
        ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
        ? No list of the exports has rules. Is that because nothing is filtered? Taken here: nothing.
    "#]],
    );
    asks(
        exports,
        &expect![[r#"
        ? No list of the exports has ways out of networks. Is that because no network has one?
        ? No list of the exports has route tables. Is that because networks have no routes but their own?
        ? No list of the exports has rules. Is that because nothing is filtered?
        gap gateway:of-quay everything
        gap gateway:of-shed everything
        gap network:quay groups
        gap network:quay routes
        gap network:quay rules
        gap network:shed groups
        gap network:shed routes
        gap network:shed rules
    "#]],
    );
}

#[test]
fn numbers_are_ids_where_names_say_so() {
    let exports = r#"{ "networks": [{ "id": 1, "name": "quay", "cidr": "10.64.0.0/16" }, { "id": 2, "name": "shed", "cidr": "10.65.0.0/16" }],
        "subnets": [{ "id": 1, "name": "loft", "network_id": 2, "cidr": "10.65.1.0/24" }, { "id": 2, "name": "pier", "network_id": 1, "cidr": "10.64.1.0/24" }],
        "interfaces": [{ "id": 1, "name": "kiosk", "subnet_id": 2, "address": "10.64.1.5", "speed": 1 }, { "id": 2, "name": "chest", "subnet_id": 1, "address": "10.65.1.5", "speed": 2 }] }"#;
    drafts(
        exports,
        &["subnets", "interfaces"],
        &expect![[r#"
        subnets:
        - id: loft
          network: shed
          blocks: 10.65.1.0/24
        - id: pier
          network: quay
          blocks: 10.64.1.0/24
        interfaces:
        - id: kiosk
          subnet: pier
          addresses: "10.64.1.5"
        - id: chest
          subnet: loft
          addresses: "10.65.1.5"
        ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: no network has one.
        ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
        ? No list of the exports has rules. Is that because nothing is filtered? Taken here: nothing.
    "#]],
    );
}

#[test]
fn a_gateway_that_translates_has_its_address() {
    let exports = format!(
        r#"{{ {PLACE} "gateways": [{{ "name": "out", "kind": "nat", "network": "quay", "subnet": "pier", "address": "10.64.1.250", "public_address": "203.0.113.20" }},
        {{ "name": "up", "kind": "vpn", "network": "quay" }}] }}"#
    );
    drafts(
        &exports,
        &["gateways"],
        &expect![[r#"
        gateways:
        - id: out
          kind: nat
          network: quay
          subnet: pier
          public: "203.0.113.20"
          address: "10.64.1.250"
        ? Which kind of gateway is "vpn", in all.json $.gateways[*]? Taken here: site.
        ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
        ? No list of the exports has rules. Is that because nothing is filtered? Taken here: nothing.
    "#]],
    );
    asks(
        &exports,
        &expect![[r#"
        ? Which kind of gateway is "vpn", in all.json $.gateways[*]?
        ? No list of the exports has route tables. Is that because networks have no routes but their own?
        ? No list of the exports has rules. Is that because nothing is filtered?
        gap gateway:out everything
        gap gateway:up everything
        gap network:quay groups
        gap network:quay routes
        gap network:quay rules
    "#]],
    );
}

#[test]
fn fields_that_nothing_reads_are_asked_about_where_they_may_count() {
    let exports = format!(
        r#"{{ {PLACE} "interfaces": [{{ "id": "i1", "subnet": "pier", "ip": "10.64.1.5", "forwarding": true, "guarded": true }}, {{ "id": "i2", "subnet": "pier", "ip": "10.64.1.6", "forwarding": false, "guarded": false }}],
        "groups": [{{ "name": "web", "rules": [
            {{ "direction": "in", "protocol": "tcp", "ports": [{{ "from": 80, "to": 90 }}], "source": "any", "log": true, "negate_source": false, "created": "2026-01-01" }},
            {{ "direction": "both", "protocol": "tcp", "ports": [{{ "from": 443, "to": 443 }}], "source": "10.0.0.0/8", "log": false, "negate_source": true, "created": "2026-01-02" }}] }}] }}"#
    );
    drafts(
        &exports,
        &["interfaces", "security_groups"],
        &expect![[r#"
            interfaces:
            - id: i1
              subnet: pier
              addresses: "10.64.1.5"
              forwards: true
            - id: i2
              subnet: pier
              addresses: "10.64.1.6"
              forwards: false
            security_groups:
            - id: web
              inbound:
              - services: tcp
                peers: any
              - services: tcp
                peers: 10.0.0.0/8
              outbound:
              - services: tcp
                peers: 10.0.0.0/8
            ? What does $.forwarding say of all.json $.interfaces[*]? Taken here: whether they forward.
            ? What does $.guarded say of all.json $.interfaces[*]? Taken here: nothing.
            ? Nothing reads $.ports[*].from of all.json $.groups[*].rules[*]. Does it change what the rules do? Taken here: nothing.
            ? Nothing reads $.ports[*].to of all.json $.groups[*].rules[*]. Does it change what the rules do? Taken here: nothing.
            ? Nothing reads $.negate_source of all.json $.groups[*].rules[*]. Does it change what the rules do? Taken here: nothing.
            ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: no network has one.
            ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
        "#]],
    );
    asks(
        &exports,
        &expect![[r#"
            ? What does $.forwarding say of all.json $.interfaces[*]?
            ? What does $.guarded say of all.json $.interfaces[*]?
            ? Nothing reads $.ports[*].from of all.json $.groups[*].rules[*]. Does it change what the rules do?
            ? Nothing reads $.ports[*].to of all.json $.groups[*].rules[*]. Does it change what the rules do?
            ? Nothing reads $.negate_source of all.json $.groups[*].rules[*]. Does it change what the rules do?
            ? No list of the exports has ways out of networks. Is that because no network has one?
            ? No list of the exports has route tables. Is that because networks have no routes but their own?
            gap gateway:of-quay everything
            gap group:web rules
            gap interface:i1 groups
            gap interface:i2 groups
            gap network:quay groups
            gap network:quay routes
        "#]],
    );
}

#[test]
fn what_belongs_to_what_is_never_taken_for_granted() {
    let exports = format!(
        r#"{{ {PLACE} "interfaces": [{{ "id": "i1", "subnet": "pier", "ip": "10.64.1.5", "alternate_ip": "10.64.1.6" }}],
        "groups": [{{ "name": "web", "rules": [
            {{ "direction": "in", "protocol": "tcp", "ports": "443", "source": "any", "status": "live" }},
            {{ "direction": null, "protocol": "tcp", "ports": "22", "source": "any", "status": "draft" }}] }}],
        "network_acls": [{{ "name": "edge", "rules": [{{ "direction": "in", "number": 1, "action": "deny", "protocol": "tcp", "ports": "23", "source": "any" }}] }}],
        "public_addresses": [{{ "address": "203.0.113.9", "note": "kiosk" }}] }}"#
    );
    drafts(
        &exports,
        &["interfaces", "security_groups", "public_addresses"],
        &expect![[r#"
            interfaces:
            - id: i1
              subnet: pier
              addresses:
              - "10.64.1.5"
              - "10.64.1.6"
            security_groups:
            - id: web
              inbound:
              - services: tcp 443
                peers: any
            ? Nothing reads $.status of all.json $.groups[*].rules[*]. Does it change what the rules do? Taken here: nothing.
            ? Which rule of all.json $.network_acls[*].rules[*] comes first: that with the lowest or the highest $.number? Taken here: lowest.
            ? Nothing in all.json $.public_addresses[*] leads to interfaces. Are all of these addresses held by nobody? Taken here: nothing.
            ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: nothing.
            ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
        "#]],
    );
    asks(
        &exports,
        &expect![[r#"
        ? Nothing reads $.status of all.json $.groups[*].rules[*]. Does it change what the rules do?
        ? Which rule of all.json $.network_acls[*].rules[*] comes first: that with the lowest or the highest $.number?
        ? Nothing in all.json $.public_addresses[*] leads to interfaces. Are all of these addresses held by nobody?
        ? No list of the exports has ways out of networks. Is that because no network has one?
        ? No list of the exports has route tables. Is that because networks have no routes but their own?
        gap acl:edge rules
        gap gateway:of-quay everything
        gap group:web rules
        gap network:quay groups
        gap network:quay routes
        gap network:quay rules
    "#]],
    );
}

#[test]
fn an_interface_has_the_groups_of_all_its_fields() {
    let exports = format!(
        r#"{{ {PLACE} "interfaces": [{{ "id": "i1", "subnet": "pier", "ip": "10.64.1.5", "main_group": "web", "groups": ["ops", "web"] }}, {{ "id": "i2", "subnet": "pier", "ip": "10.64.1.6", "main_group": "ops", "groups": [] }}],
        "groups": [{{ "name": "web", "rules": [{{ "direction": "in", "protocol": "tcp", "ports": "443", "source": "any" }}] }},
                   {{ "name": "ops", "rules": [{{ "direction": "out", "protocol": "tcp", "ports": "22", "source": "any" }}] }}] }}"#
    );
    drafts(
        &exports,
        &["interfaces"],
        &expect![[r#"
        interfaces:
        - id: i1
          subnet: pier
          addresses: "10.64.1.5"
          groups:
          - web
          - ops
        - id: i2
          subnet: pier
          addresses: "10.64.1.6"
          groups: ops
        ? No list of the exports has ways out of networks. Is that because no network has one? Taken here: no network has one.
        ? No list of the exports has route tables. Is that because networks have no routes but their own? Taken here: networks have no routes but their own.
    "#]],
    );
}

#[test]
fn rules_in_a_subnet_are_told_and_not_lost() {
    let exports = r#"{ "networks": [{ "name": "quay", "cidr": "10.64.0.0/16" }],
        "subnets": [{ "name": "pier", "network": "quay", "cidr": "10.64.1.0/24", "rules": [{ "direction": "in", "action": "deny", "protocol": "tcp", "ports": "23", "source": "any" }] }],
        "groups": [{ "name": "web", "rules": [{ "direction": "in", "protocol": "tcp", "ports": "443", "source": "any" }] }] }"#;
    asks(
        exports,
        &expect![[r#"
        ? The rules or routes of all.json $.subnets[*].rules[*] belong to no object of the exports. Do they count?
        ? No rule of all.json $.groups[*] is about what interfaces send. What may they send?
        gap gateway:of-quay everything
        gap group:web rules
        gap network:quay groups
        gap network:quay interfaces
        gap network:quay own_firewalls
        gap network:quay routes
        gap network:quay rules
        gap peering:of-quay everything
    "#]],
    );
}
