//! Small estates with very many ways: no command hangs, and what is given up says so.

use crate::folder::{Folder, PROGRAM};
use serde_json::{Value, json};
use std::process::Command;
use std::time::{Duration, Instant};

fn range(count: usize) -> std::ops::Range<usize> {
    0..count
}

/// The numbers below `count` without one.
fn others(count: usize, at: usize) -> impl Iterator<Item = usize> {
    range(count).filter(move |other| *other != at)
}

fn estate(sections: Value) -> Value {
    let mut all = json!({
        "format": "heronshale-snapshot", "version": 1, "estate": { "name": "grown", "taken": "2026-11-02" },
        "networks": [{ "id": "n", "blocks": "10.0.0.0/16", "main_table": "t" }],
        "subnets": [{ "id": "s", "network": "n", "blocks": "10.0.0.0/20" }],
        "route_tables": [{ "id": "t", "network": "n", "routes": [] }],
        "interfaces": [{ "id": "a", "subnet": "s", "addresses": "10.0.1.1" }, { "id": "z", "subnet": "s", "addresses": "10.0.1.2" }],
    });
    for (section, items) in sections.as_object().unwrap() {
        match all.get_mut(section).and_then(Value::as_array_mut) {
            Some(known) => known.extend(items.as_array().unwrap().clone()),
            None => all[section] = items.clone(),
        }
    }
    all
}

/// Balancers, each in front of those that `leads` names; `z` behind all of them.
fn balancers(count: usize, kind: &str, leads: impl Fn(usize) -> Vec<usize>) -> Value {
    let proxy = kind == "proxy";
    let end = |to: usize| {
        let interface = if to < count {
            format!("p{to}")
        } else {
            "z".to_owned()
        };
        if proxy || to >= count {
            json!({ "interface": interface })
        } else {
            json!({ "address": format!("10.0.4.{}", to + 1) })
        }
    };
    let one = |at: usize| {
        let ends: Vec<Value> = leads(at).into_iter().chain([count]).map(end).collect();
        let mut one = json!({ "id": format!("b{at}"), "network": "n", "subnet": "s", "kind": kind,
            "front_ends": [{ "address": format!("10.0.4.{}", at + 1) }], "back_ends": ends });
        if proxy {
            one["interfaces"] = json!([format!("p{at}")]);
        }
        one
    };
    let own = |at: usize| json!({ "id": format!("p{at}"), "subnet": "s", "addresses": format!("10.0.4.{}", at + 1) });
    let interfaces: Vec<Value> = range(if proxy { count } else { 0 }).map(own).collect();
    estate(
        json!({ "balancers": range(count).map(one).collect::<Vec<_>>(), "interfaces": interfaces }),
    )
}

/// Hubs that lead to one another by equal routes, with a network at the first and the last.
fn hubs(count: usize, leads: impl Fn(usize) -> Vec<usize>) -> Value {
    let one = |at: usize| {
        let route = |to: usize| json!({ "to": "10.0.0.0/8", "next_hop": format!("link:l{to}") });
        let link =
            |to: usize| json!({ "id": format!("l{to}"), "to": format!("hub:h{to}"), "reads": "d" });
        let mut links: Vec<Value> = leads(at).into_iter().map(link).collect();
        let network = (at == 0)
            .then_some("n")
            .or((at + 1 == count).then_some("m"));
        links
            .extend(network.map(
                |name| json!({ "id": "n", "to": format!("network:{name}"), "reads": "d", "announces_into": "d" }),
            ));
        let routes: Vec<Value> = leads(at).into_iter().map(route).collect();
        json!({ "id": format!("h{at}"), "domains": [{ "id": "d", "routes": routes }], "links": links })
    };
    let mut all = estate(json!({
        "hubs": range(count).map(one).collect::<Vec<_>>(),
        "networks": [{ "id": "m", "blocks": "10.1.0.0/16", "main_table": "u" }],
        "subnets": [{ "id": "r", "network": "m", "blocks": "10.1.0.0/20" }],
        "interfaces": [{ "id": "y", "subnet": "r", "addresses": "10.1.1.1" }],
        "route_tables": [{ "id": "u", "network": "m", "routes": [{ "to": "10.0.0.0/8", "next_hop": format!("hub:h{}", count - 1) }] }],
    }));
    all["route_tables"][0]["routes"] = json!([{ "to": "10.1.0.0/16", "next_hop": "hub:h0" }]);
    all
}

/// Layers of machines that pass on, each led to all of the next by equal routes.
fn layers(depth: usize, width: usize) -> Value {
    let name = |layer: usize, at: usize| format!("x{layer}-{at}");
    let subnet = |layer: usize| json!({ "id": format!("l{layer}"), "network": "n", "blocks": format!("10.0.{}.0/24", 100 + layer), "route_table": format!("l{layer}") });
    let table = |layer: usize| {
        let hop = |at: usize| json!({ "to": "198.51.100.0/24", "next_hop": format!("interface:{}", name(layer + 1, at)) });
        let out = || vec![json!({ "to": "0.0.0.0/0", "next_hop": "gateway:g" })];
        let routes = if layer + 1 < depth {
            range(width).map(hop).collect()
        } else {
            out()
        };
        json!({ "id": format!("l{layer}"), "network": "n", "routes": routes })
    };
    let machine = |(layer, at): (usize, usize)| json!({ "id": name(layer, at), "subnet": format!("l{layer}"), "addresses": format!("10.0.{}.{}", 100 + layer, 10 + at), "forwards": true });
    let machines = range(depth).flat_map(|layer| range(width).map(move |at| machine((layer, at))));
    estate(json!({
        "subnets": range(depth).map(subnet).collect::<Vec<_>>(),
        "route_tables": range(depth).map(table).collect::<Vec<_>>(),
        "interfaces": machines.collect::<Vec<_>>(),
        "gateways": [{ "id": "g", "kind": "internet", "network": "n" }],
        "public_addresses": [{ "address": "203.0.113.1", "interface": name(0, 0) }],
    }))
}

/// Services behind private doors, each made by a balancer in front of all doors.
fn doors(count: usize) -> Value {
    let door = |at: usize| json!({ "id": format!("d{at}"), "subnet": "s", "addresses": format!("10.0.5.{}", at + 1) });
    let ends: Vec<Value> = range(count)
        .map(|at| json!({ "interface": format!("d{at}") }))
        .collect();
    let balancer = |at: usize| {
        json!({ "id": format!("b{at}"), "network": "n", "subnet": "s", "kind": "keeping",
            "front_ends": [{ "address": format!("10.0.6.{}", at + 1) }], "back_ends": ends })
    };
    let service = |at: usize| {
        json!({ "id": format!("v{at}"), "services": format!("tcp {}-{}", 1 + at * 900, 20_000 + at * 900),
            "private_doors": [format!("d{at}")], "balancer": format!("b{}", (at + 1) % count), "provider_source": "10.0.7.1" })
    };
    estate(json!({
        "interfaces": range(count).map(door).collect::<Vec<_>>(),
        "balancers": range(count).map(balancer).collect::<Vec<_>>(),
        "services": range(count).map(service).collect::<Vec<_>>(),
    }))
}

/// Firewalls with public addresses that translate for one another, by policies cut in many pieces.
fn firewalls(count: usize) -> Value {
    let public = |at: usize| format!("203.0.113.{}", at + 1);
    let own = |at: usize| json!({ "id": format!("f{at}"), "subnet": "s", "addresses": format!("10.0.3.{}", at + 1), "forwards": true });
    let rule = |at: usize| {
        json!({ "id": format!("r{at}"), "action": if at.is_multiple_of(3) { "deny" } else { "allow" }, "priority": at + 1,
            "services": format!("tcp {}-{}", 700 * at + 1, 1_900 * at + 2_000), "source_ports": format!("{}-65535", 1_024 + 900 * at) })
    };
    let one = |at: usize| {
        let source = |piece: usize| json!({ "id": format!("s{piece}"), "services": format!("tcp {}-{}", 3_000 * piece + 1, 3_000 * piece + 2_999) });
        let destination = |other: usize| json!({ "id": format!("d{other}"), "services": format!("tcp {}-{}", 500 * other + 1, 65_000 - 500 * other), "to": public(other) });
        json!({ "id": format!("fw{at}"), "interfaces": [{ "interface": format!("f{at}") }], "policy": "p",
            "source_translations": range(12).map(source).collect::<Vec<_>>(),
            "destination_translations": others(count, at).map(destination).collect::<Vec<_>>() })
    };
    let mut all = estate(json!({
        "interfaces": range(count).map(own).collect::<Vec<_>>(),
        "gateways": [{ "id": "g", "kind": "internet", "network": "n" }],
        "public_addresses": range(count).map(|at| json!({ "address": public(at), "interface": format!("f{at}") })).collect::<Vec<_>>(),
        "firewall_policies": [{ "id": "p", "rules": range(24).map(rule).collect::<Vec<_>>() }],
        "firewalls": range(count).map(one).collect::<Vec<_>>(),
    }));
    all["route_tables"][0]["routes"] = json!([{ "to": "0.0.0.0/0", "next_hop": "gateway:g" }]);
    all
}

/// Machines that all hold one address, and one of their own.
fn holders(count: usize) -> Value {
    let one = |at: usize| json!({ "id": format!("i{at}"), "subnet": "s", "addresses": ["10.0.2.1", format!("10.0.{}.{}", 8 + at / 200, 1 + at % 200)], "forwards": true });
    let mut all = estate(json!({ "interfaces": range(count).map(one).collect::<Vec<_>>() }));
    all["route_tables"][0]["routes"] = json!([{ "to": "198.51.100.0/24", "next_hop": "10.0.2.1" }]);
    all
}

/// Rules about sets that nobody knows, at every stage of the way.
fn gaps(count: usize) -> Value {
    let set = |at: usize| json!({ "id": format!("u{at}"), "content": "unknown" });
    let rules = |side: usize| {
        let one = |at: usize| {
            json!({ "id": format!("r{at}"), "action": if at.is_multiple_of(2) { "allow" } else { "deny" }, "peers": format!("set:u{}", (at + side) % count),
                "services": format!("tcp {}-{}", 1 + at * 17, 60_000 - at * 31) })
        };
        range(count).map(one).collect::<Vec<_>>()
    };
    let route = |at: usize| json!({ "to": format!("set:u{at}"), "next_hop": "interface:a" });
    let mut all = estate(json!({
        "address_sets": range(count).map(set).collect::<Vec<_>>(),
        "subnets": [{ "id": "r", "network": "n", "blocks": "10.0.32.0/20", "acl": "c" }],
        "network_acls": [{ "id": "c", "inbound": rules(3), "outbound": rules(7) }],
        "own_firewalls": [{ "id": "o", "default_inbound": "allow", "default_outbound": "allow", "inbound": rules(1), "outbound": rules(2) }],
        "interfaces": [{ "id": "y", "subnet": "r", "addresses": "10.0.32.4", "own_firewall": "o" }],
    }));
    all["subnets"][0]["acl"] = "c".into();
    all["interfaces"][0]["own_firewall"] = "o".into();
    all["route_tables"][0]["routes"] = range(count).map(route).collect();
    all
}

/// Families of estates, each at a size where following every way would never end; and a question.
fn families() -> Vec<(&'static str, Value, [&'static str; 2])> {
    let mesh = |count: usize| move |at: usize| others(count, at).collect::<Vec<_>>();
    // Two in each layer, both lead to both of the next.
    let chain = |count: usize| {
        move |at: usize| {
            range(count)
                .filter(|to| to / 2 == at / 2 + 1)
                .collect::<Vec<_>>()
        }
    };
    let ring = |count: usize| move |at: usize| vec![(at + 1) % count, (at + count - 1) % count];
    vec![
        (
            "balancers in a mesh",
            balancers(6, "keeping", mesh(6)),
            ["a", "10.0.4.1"],
        ),
        (
            "balancers in layers",
            balancers(30, "keeping", chain(30)),
            ["a", "10.0.4.1"],
        ),
        (
            "proxies in a mesh",
            balancers(6, "proxy", mesh(6)),
            ["a", "10.0.4.1"],
        ),
        (
            "proxies in layers",
            balancers(30, "proxy", chain(30)),
            ["a", "10.0.4.1"],
        ),
        ("hubs in a mesh", hubs(6, mesh(6)), ["a", "y"]),
        ("hubs in a ring", hubs(24, ring(24)), ["a", "y"]),
        (
            "layers of equal routes",
            layers(13, 2),
            ["x0-0", "198.51.100.9"],
        ),
        (
            "fans of equal routes",
            layers(4, 12),
            ["x0-0", "198.51.100.9"],
        ),
        ("doors", doors(20), ["a", "10.0.6.1"]),
        (
            "public firewalls",
            firewalls(6),
            ["internet", "203.0.113.1"],
        ),
        (
            "many holders of an address",
            holders(80),
            ["a", "198.51.100.9"],
        ),
        ("gaps everywhere", gaps(12), ["a", "y"]),
    ]
}

/// Ten seconds are what a command may take; here it is a build for tests, and other tests take their part of the machine.
const MOST: Duration = Duration::from_secs(30);

/// In kB.
const MOST_MEMORY: u64 = 1_000_000;

/// The code and the answer of a run, and the most memory that was seen at it, in kB.
fn measured(folder: &Folder, arguments: &[&str]) -> (i32, Value, u64) {
    let out = std::fs::File::create(folder.path().join("out")).unwrap();
    let arguments = [arguments, &["-e", "estate.json", "--format", "json"]].concat();
    let mut child = folder
        .command(Command::new(PROGRAM), &arguments)
        .stdout(out)
        .spawn()
        .unwrap();
    let mut most = 0;
    loop {
        // The kernel keeps the peak, so that looking now and then is enough.
        let status =
            std::fs::read_to_string(format!("/proc/{}/status", child.id())).unwrap_or_default();
        let peak = status.lines().find_map(|line| {
            line.strip_prefix("VmHWM:")?
                .trim()
                .strip_suffix(" kB")?
                .parse()
                .ok()
        });
        most = most.max(peak.unwrap_or(0));
        if let Some(status) = child.try_wait().unwrap() {
            let answer = serde_json::from_str(&folder.read("out")).unwrap();
            return (status.code().unwrap(), answer, most);
        }
        std::thread::sleep(Duration::from_millis(5));
    }
}

#[test]
fn no_small_estate_makes_a_command_hang() {
    let mut wrong = Vec::new();
    let mut given_up = 0;
    for (family, estate, [from, to]) in families() {
        let text = estate.to_string();
        assert!(text.len() < 1_000_000);
        let folder = Folder::new();
        folder.write("estate.json", &text);
        let traffic = ["--tcp", "443"];
        let path = [&["path", from, to][..], &traffic].concat();
        let reach = [&["reach", from][..], &traffic].concat();
        for arguments in [
            &path[..],
            &reach,
            &["reach", "internet"],
            &["exposure"],
            &["effective", "--all"],
            &["matrix"],
            &["audit"],
        ] {
            let begun = Instant::now();
            let (code, json, memory) = measured(&folder, arguments);
            let took = begun.elapsed();
            if took > MOST || memory > MOST_MEMORY {
                wrong.push(format!(
                    "{family}: {arguments:?} took {took:?} and {memory} kB"
                ));
            }
            if json["heading"]["given_up"] == true {
                given_up += 1;
                if arguments[0] == "audit" && code != 1 {
                    wrong.push(format!(
                        "{family}: the audit was given up, and ends with {code}"
                    ));
                }
                if arguments[0] == "path" {
                    let said = folder.run(arguments).stdout;
                    let has_line =
                        said.contains("more possible ways than the limit of steps allows");
                    // Where some of nature's choices work and others fail, the rest tells nothing more.
                    let verdict = json["answer"]["verdict"].as_str().unwrap_or_default();
                    let known = verdict == "works-for-some"
                        && [": Partly: ", ": Sometimes: "]
                            .iter()
                            .any(|word| said.contains(word));
                    if !has_line
                        || !(known || (verdict == "undecided" && said.starts_with("Undecided")))
                    {
                        wrong.push(format!("{family}: {arguments:?} was given up\n{said}"));
                    }
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(given_up > 0);
}

#[test]
fn what_was_given_up_is_never_told_as_shut() {
    let mut estate = balancers(6, "keeping", |at| others(6, at).collect());
    // The machine behind all of them is reached by another port, which nothing else comes to.
    for balancer in estate["balancers"].as_array_mut().unwrap() {
        balancer["back_ends"].as_array_mut().unwrap().pop();
    }
    let last = &mut estate["balancers"][5]["back_ends"];
    last.as_array_mut()
        .unwrap()
        .push(json!({ "address": "10.0.4.9" }));
    estate["balancers"].as_array_mut().unwrap().push(json!({ "id": "far", "network": "n", "subnet": "s",
        "kind": "keeping", "front_ends": [{ "address": "10.0.4.9" }], "back_ends": [{ "interface": "z", "port": 8443 }] }));
    estate["security_groups"] = json!([
        { "id": "one", "outbound": [{ "services": "tcp 443", "peers": "10.0.4.1" }] },
        { "id": "other", "inbound": [{ "services": "tcp 8443" }] },
    ]);
    estate["interfaces"][0]["groups"] = "one".into();
    estate["interfaces"][1]["groups"] = "other".into();
    let folder = Folder::new();
    folder.write("estate.json", estate.to_string());
    folder.write(
        "e.yaml",
        "format: heronshale-expectations\nversion: 1\nexpectations: [{ name: never, from: a, never_reaches: z, on: tcp 443 }]\n",
    );
    let (code, audit) = folder.json(&["audit"]);
    let kinds: Vec<&str> = audit["answer"]["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["kind"].as_str().unwrap())
        .collect();
    assert!(
        code == 1 && kinds.contains(&"expectation-unknown") && kinds.contains(&"undecided"),
        "{kinds:?}"
    );
    let (_, matrix) = folder.json(&["matrix", "--tcp", "443"]);
    let verdicts: Vec<&str> = matrix["answer"]["cells"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["verdict"].as_str().unwrap())
        .collect();
    assert!(!verdicts.contains(&"no"), "{verdicts:?}");
    let reach = folder.run(&["reach", "a", "--tcp", "443"]).ok();
    assert!(
        reach.starts_with("As far as ways could be followed: a reaches nothing"),
        "{reach}"
    );
}
