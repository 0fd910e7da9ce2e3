//! What is not understood, and what is told apart.

use super::*;

pub(super) fn machine(files: &[(&str, &str)], role: Role) -> Part {
    let files = files
        .iter()
        .map(|(name, text)| ((*name).to_owned(), (*text).to_owned()))
        .collect();
    read_machine(files, "machine", role, None).unwrap()
}

/// A table with one chain for what is received: nothing gets in, but for these rules.
pub(super) fn received(rules: &[Value], more: &[Value]) -> String {
    let head = json!({ "family": "inet", "table": "t", "name": "in", "type": "filter", "hook": "input", "prio": 0, "policy": "drop" });
    let mut all = vec![
        json!({ "table": { "family": "inet", "name": "t" } }),
        json!({ "chain": head }),
    ];
    all.extend(more.iter().cloned());
    for (at, expr) in rules.iter().enumerate() {
        all.push(json!({ "rule": { "family": "inet", "table": "t", "chain": "in", "handle": at, "expr": expr } }));
    }
    json!({ "nftables": all }).to_string()
}

#[test]
pub(super) fn what_is_not_understood_makes_a_rule_unknown_never_one_that_matches_all_or_nothing() {
    let is = |left: Value, right: Value| json!({ "match": { "op": "==", "left": left, "right": right } });
    let accept = json!({ "accept": null });
    let moving = json!({ "set": { "family": "inet", "table": "t", "name": "seen", "type": "ipv4_addr", "flags": ["dynamic"], "elem": ["10.0.0.1"] } });
    let source = json!({ "payload": { "protocol": "ip", "field": "saddr" } });
    let table = [
        (
            json!([is(json!({ "meta": { "key": "mark" } }), json!(7)), accept]),
            "a mark that nothing here sets",
            false,
        ),
        (
            json!([{ "limit": { "rate": 5, "per": "second" } }, accept]),
            "how much there is of it (limit)",
            false,
        ),
        (
            json!([is(source.clone(), json!("@seen")), accept]),
            "the set seen changes by itself",
            false,
        ),
        (
            json!([is(source.clone(), json!("@lost")), accept]),
            "the set lost is not in the export",
            false,
        ),
        (
            json!([{ "xt": { "type": "match", "name": "string" } }, accept]),
            "`xt` is not understood",
            true,
        ),
        (
            json!([{ "queue": null }]),
            "`queue` is not understood",
            true,
        ),
        (
            json!([{ "jump": { "target": "nowhere" } }]),
            "a chain that is not in the export",
            true,
        ),
        (
            json!([
                is(
                    json!({ "fib": { "result": "type", "flags": ["daddr"] } }),
                    json!("local")
                ),
                accept
            ]),
            "what the machine's routes say",
            false,
        ),
        (
            json!([
                is(
                    json!({ "payload": { "protocol": "ip", "field": "dscp" } }),
                    json!(8)
                ),
                accept
            ]),
            "ip dscp",
            false,
        ),
        (
            json!([is(source, json!("host.example")), accept]),
            "a value that is not understood",
            false,
        ),
        (
            json!([{ "match": { "op": "!=", "left": { "meta": { "key": "hour" } }, "right": 0 } }, accept]),
            "meta hour",
            false,
        ),
        (
            json!([{ "tproxy": { "port": 80 } }, accept]),
            "`tproxy` is not understood",
            true,
        ),
        (
            json!([{ "mangle": { "key": { "payload": { "protocol": "ip", "field": "daddr" } }, "value": "10.0.0.9" } }, accept]),
            "a change of addresses or ports without translation",
            true,
        ),
    ];
    for (expr, why, ends) in table {
        let text = received(std::slice::from_ref(&expr), std::slice::from_ref(&moving));
        let part = machine(&[("nft.json", &text)], Role::Workload);
        let own = &part.section("own_firewalls")[0];
        let rules = own["inbound"].as_array().unwrap();
        assert_eq!(
            part.read.unclear.len(),
            1,
            "{expr}: {:?}",
            part.read.unclear
        );
        assert_eq!(part.read.unclear[0].why, why, "{expr}");
        assert_eq!(
            rules[0]["peers"],
            json!(["set:machine-not-understood-in-1"]),
            "{expr}: {own}"
        );
        assert_eq!(part.section("address_sets")[0]["content"], "unknown");
        // Where nobody knows what becomes of it, no later rule counts for it: it is let through, or not.
        assert_eq!(rules.len(), 1 + usize::from(ends), "{expr}: {own}");
        assert_eq!(
            (&own["default_inbound"], rules[0]["action"].as_str()),
            (&json!("deny"), Some("allow")),
            "{expr}"
        );
    }
    // The answer is "unknown", at the place where it matters.
    let folder = Folder::new();
    folder.write(
        "nft.json",
        received(
            &[json!([{ "limit": { "rate": 5, "per": "second" } }, accept])],
            &[],
        ),
    );
    folder.write(
        "addr.json",
        json!([{ "ifname": "eth0", "addr_info": [{ "local": "10.65.1.11", "prefixlen": 24, "scope": "global" }] }])
            .to_string(),
    );
    folder
        .run(&[
            "import",
            "--as",
            "linux-workload",
            "--name",
            "booking",
            "nft.json",
            "addr.json",
            "--into",
            "e/own.yaml",
        ])
        .ok();
    folder.write("e/peer.yaml", "format: heronshale-snapshot\nversion: 1\ninterfaces: [{ id: desk, subnet: booking-eth0, addresses: 10.65.1.3 }]\n");
    let run = folder.run(&["path", "desk", "booking-eth0", "--tcp", "443", "-e", "e"]);
    assert!(
        run.code == 1
            && run
                .stdout
                .starts_with("Unknown: tcp 443 from desk to booking-eth0 depends on"),
        "{}",
        run.stdout
    );
}

#[test]
pub(super) fn every_interface_that_rules_name_is_told_apart() {
    let device = json!({ "meta": { "key": "iifname" } });
    let port = json!({ "payload": { "protocol": "tcp", "field": "dport" } });
    let equal = |left: &Value, right: Value| json!({ "match": { "op": "==", "left": left, "right": right } });
    let accept = json!({ "accept": null });
    let pair = json!({ "concat": [device, port] });
    let set = |name: &str, kind: Value, elements: Value| json!({ "set": { "family": "inet", "table": "t", "name": name, "type": kind, "elem": elements } });
    let more = [
        set("inside", json!("ifname"), json!(["eth1", "eth2.100"])),
        set(
            "pairs",
            json!(["ifname", "inet_service"]),
            json!([{ "concat": ["eth3", 22] }]),
        ),
        set("ports", json!("inet_service"), json!([80])),
    ];
    let rules = [
        json!([
            equal(&device, json!("@inside")),
            equal(&port, json!(1)),
            accept
        ]),
        json!([equal(&pair, json!("@pairs")), accept]),
        json!([{ "vmap": { "key": device, "data": { "set": [["eth4", accept], ["eth5", { "drop": null }]] } } }]),
        json!([
            equal(&pair, json!({ "set": [{ "concat": ["eth6", 6] }] })),
            accept
        ]),
        json!([
            equal(&device, json!("tun*")),
            equal(&port, json!(7)),
            accept
        ]),
        json!([{ "match": { "op": "!=", "left": device, "right": "eth7" } }, equal(&port, json!("@ports")), accept]),
    ];
    let part = machine(&[("nft.json", &received(&rules, &more))], Role::Workload);
    let services = |id: &str| {
        let own = part
            .section("own_firewalls")
            .iter()
            .find(|one| one["id"] == format!("machine{id}"))
            .unwrap();
        let each = own["inbound"].as_array().unwrap().iter().map(|rule| {
            let perhaps = if rule.get("peers").is_some() {
                "perhaps "
            } else {
                ""
            };
            format!(
                "{perhaps}{}",
                rule.get("services")
                    .map_or("any", |all| all[0].as_str().unwrap())
            )
        });
        each.collect::<Vec<_>>().join(", ")
    };
    let table = [
        ("-eth1", "tcp 1, tcp 80"),
        ("-eth2.100", "tcp 1, tcp 80"),
        ("-eth3", "tcp 22, tcp 80"),
        ("-eth4", "any, tcp 80"),
        ("-eth6", "tcp 6, tcp 80"),
        // Of an interface that no rule names: it may be one of those with a part of the name.
        ("", "perhaps tcp 7, tcp 80"),
    ];
    for (id, expected) in table {
        let id = if id == "-eth2.100" { "-eth1" } else { id };
        assert_eq!(
            services(id),
            expected,
            "{id}: {:#?}",
            part.section("own_firewalls")
        );
    }
    assert_eq!(services("-eth7"), "");
    assert_eq!(part.section("own_firewalls").len(), 7);
}

#[test]
pub(super) fn what_is_translated_at_a_workload_is_unknown_but_for_its_own_address() {
    let chain = |hook: &str| json!({ "chain": { "family": "ip", "table": "n", "name": hook, "type": "nat", "hook": hook, "prio": 0, "policy": "accept" } });
    let rule = |hook: &str, expr: Value| json!({ "rule": { "family": "ip", "table": "n", "chain": hook, "handle": 1, "expr": expr } });
    let port = json!({ "match": { "op": "==", "left": { "payload": { "protocol": "tcp", "field": "dport" } }, "right": 80 } });
    let table = [
        (
            "prerouting",
            json!([port, { "redirect": { "port": 8080 } }]),
            "inbound",
            json!(["tcp 80"]),
        ),
        (
            "prerouting",
            json!([port, { "dnat": { "addr": "10.0.0.9", "port": 81 } }]),
            "inbound",
            json!(["tcp 80"]),
        ),
        (
            "output",
            json!([port, { "dnat": { "addr": "10.0.0.9" } }]),
            "outbound",
            json!(["tcp 80"]),
        ),
        (
            "postrouting",
            json!([port, { "snat": { "addr": "10.0.0.9" } }]),
            "outbound",
            json!(["tcp 80"]),
        ),
        (
            "postrouting",
            json!([{ "masquerade": null }]),
            "outbound",
            Value::Null,
        ),
    ];
    for (hook, expr, list, services) in table {
        let text = json!({ "nftables": [chain(hook), rule(hook, expr.clone())] }).to_string();
        let part = machine(&[("nft.json", &text)], Role::Workload);
        let own = &part.section("own_firewalls")[0];
        let first = &own[list][0];
        assert_eq!(first["services"], services, "{expr}: {own:#}");
        if !services.is_null() {
            assert_eq!(
                (&first["action"], &own[list][1]["action"]),
                (&json!("allow"), &json!("deny")),
                "{expr}: {own:#}"
            );
            let side = if list == "inbound" { "in" } else { "out" };
            assert_eq!(
                first["peers"],
                json!([format!("set:machine-not-understood-{side}-1")])
            );
        }
    }
}
