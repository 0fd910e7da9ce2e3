//! `rehearse --each-down --pairs`, and the way out of a subnet.

use crate::folder::Folder;
use serde_json::Value;

/// Two ways out, the second where the first is down, and a balancer with two back ends.
const ESTATE: &str = "\
format: heronshale-snapshot
version: 1
estate: { name: Twins, settings: { missing_next_hop: skipped } }
networks: [{ id: net, blocks: 10.1.0.0/16, main_table: main }]
subnets:
  - { id: work, network: net, blocks: 10.1.1.0/24 }
  - { id: edge, network: net, blocks: 10.1.2.0/24, route_table: edge }
gateways:
  - { id: gate, kind: internet, network: net }
  - { id: first, kind: nat, network: net, subnet: edge, address: 10.1.2.4, public: 203.0.113.4 }
  - { id: second, kind: nat, network: net, subnet: edge, address: 10.1.2.5, public: 203.0.113.5 }
route_tables:
  - { id: edge, network: net, routes: [{ to: 0.0.0.0/0, next_hop: \"gateway:gate\" }] }
  - id: main
    network: net
    routes:
      - { id: one, to: 0.0.0.0/0, next_hop: \"gateway:first\" }
      - { id: two, to: 0.0.0.0/0, next_hop: \"gateway:second\", metric: 20 }
interfaces:
  - { id: client, subnet: work, addresses: 10.1.1.9, groups: [all] }
  - { id: a, subnet: work, addresses: 10.1.1.11, groups: [all] }
  - { id: b, subnet: work, addresses: 10.1.1.12, groups: [all] }
balancers:
  - id: front
    network: net
    kind: keeping
    front_ends: [{ address: 10.1.1.100, services: tcp 80 }]
    back_ends: [{ interface: a }, { interface: b }]
security_groups:
  - { id: all, inbound: [{ id: in, services: tcp 80, peers: any }], outbound: [{ id: out, peers: any }] }
";

fn names(list: &Value) -> Vec<String> {
    let name = |one: &Value| {
        format!(
            "{} {}",
            one["kind"].as_str().unwrap(),
            one["name"].as_str().unwrap()
        )
    };
    list.as_array().unwrap().iter().map(name).collect()
}

#[test]
fn two_at_once_are_told_where_they_do_more_than_both_alone() {
    let folder = Folder::new();
    folder.write("twins.yaml", ESTATE);
    let (code, found) = folder.json(&["rehearse", "--each-down", "--pairs", "-e", "twins.yaml"]);
    assert_eq!(code, 0);
    let pairs = &found["answer"]["pairs"];
    assert_eq!(
        names(&pairs["failures"]),
        [
            "gateway first and gateway second",
            "back end front/a and back end front/b"
        ],
        "{pairs:#}"
    );
    // Each is held against its rehearsal.
    for (changes, opened) in [
        (
            ["down back end front/a", "down back end front/b"],
            "10.1.1.100",
        ),
        (
            ["down gateway first", "down gateway second"],
            "198.51.100.7",
        ),
    ] {
        for (some, code) in [(&changes[..1], 0), (&changes[1..], 0), (&changes[..], 1)] {
            let mut asked = vec!["rehearse"];
            asked.extend(some);
            asked.extend(["-e", "twins.yaml", "--fail-on", "lost"]);
            assert_eq!(folder.run(&asked).code, code, "{asked:?} {opened}");
        }
    }
    let text = folder
        .run(&["rehearse", "--each-down", "--pairs", "-e", "twins.yaml"])
        .stdout;
    assert!(
        text.contains("TWO AT ONCE, AND MORE THAN BOTH ALONE"),
        "{text}"
    );
    let (_, alone) = folder.json(&["rehearse", "--each-down", "-e", "twins.yaml"]);
    assert_eq!(alone["answer"]["pairs"], Value::Null);
}

#[test]
fn the_way_out_of_a_subnet_is_every_gateway_to_which_its_routes_lead() {
    let folder = Folder::new();
    folder.write("twins.yaml", ESTATE);
    let rows = |changes: &[&str]| {
        let mut asked = vec!["rehearse"];
        asked.extend(changes);
        asked.extend(["-e", "twins.yaml"]);
        folder.json(&asked).1["answer"]["rows"].clone()
    };
    assert_eq!(
        rows(&["down way out of subnet work"]),
        rows(&["down gateway first", "down gateway second"])
    );
    let (_, found) = folder.json(&["rehearse", "--each-down", "-e", "twins.yaml"]);
    let all = names(&found["answer"]["failures"]);
    assert!(
        all.contains(&"way out of subnet work".to_owned()),
        "{all:?}"
    );
    // One gateway is no way out of its own.
    assert!(
        !all.contains(&"way out of subnet edge".to_owned()),
        "{all:?}"
    );
    for (asked, says) in [
        (
            "down way out of subnet nowhere",
            "there is no subnet called `nowhere`",
        ),
        ("down subnet work", "cannot be down or up"),
    ] {
        let run = folder.run(&["rehearse", asked, "-e", "twins.yaml"]);
        assert!(run.code == 2 && run.stderr.contains(says), "{}", run.stderr);
    }
}
