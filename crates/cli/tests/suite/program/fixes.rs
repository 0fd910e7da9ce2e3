//! What is in the way of a connection, all of it, and what fixes it: one case for each kind of change, and what is new.

use super::ways::changed;
use crate::folder::Folder;
use serde_json::Value;

struct Case {
    id: &'static str,
    changes: &'static [(&'static str, &'static str)],
    asked: [&'static str; 3],
    /// What is in the way, in order: a piece of each obstacle's place.
    obstacles: &'static [&'static str],
    /// The parts of a fix that must be offered, in order; none: nothing is offered.
    fix: &'static [&'static str],
}

const fn case(
    id: &'static str,
    changes: &'static [(&'static str, &'static str)],
    asked: [&'static str; 3],
    obstacles: &'static [&'static str],
    fix: &'static [&'static str],
) -> Case {
    Case {
        id,
        changes,
        asked,
        obstacles,
        fix,
    }
}

const IB: &str = "- { id: ib, subnet: bs, addresses: 10.3.1.4 }";
const GROUPED: (&str, &str) = (
    IB,
    "- { id: ib, subnet: bs, addresses: 10.3.1.4, groups: [data] }",
);
const ALONE: (&str, &str) = (
    "hubs:",
    "security_groups: [{ id: data, outbound: [{ id: all }] }]\nhubs:",
);
const TO_IA: &str = "- { id: ia, subnet: as, addresses: [10.1.1.4, \"2001:db8:1:1::4\"] }";

const CASES: &[Case] = &[
    case(
        "a rule in a group",
        &[GROUPED, ALONE],
        ["ia", "ib", "tcp 443"],
        &["group data, inbound at ib"],
        &["add to group data, inbound: allow tcp 443 from 10.1.1.4"],
    ),
    case(
        "allowed finally, the group empty, ACL and own firewall deny",
        &[
            (
                TO_IA,
                "- { id: ia, subnet: as, addresses: 10.1.1.4, groups: [empty], own_firewall: host }",
            ),
            (
                "\"2001:db8:1:1::/64\"] }",
                "\"2001:db8:1:1::/64\"], acl: n }",
            ),
            (
                "hubs:",
                "security_groups: [{ id: empty }]\nscope_policies: [{ id: outer, scope: estate, inbound: [{ id: ssh, action: allow-finally, services: tcp 22 }] }]\nown_firewalls: [{ id: host, default_inbound: deny, default_outbound: allow }]\nnetwork_acls: [{ id: n, inbound: [{ id: no, action: deny, priority: 5, services: tcp 22 }, { id: rest, action: allow, priority: 9 }], outbound: [{ id: out, action: allow, priority: 1 }] }]\nhubs:",
            ),
        ],
        ["internet", "ia", "tcp 22"],
        &["ACL n, inbound", "own firewall host, inbound at ia"],
        &[
            "add to ACL n, inbound: allow tcp 22 from internet, priority 4",
            "add to own firewall host, inbound: allow tcp 22 from internet",
        ],
    ),
    case(
        "a route",
        &[("{ to: 10.3.0.0/16, next_hop: \"firewall:F\" }, ", "")],
        ["ia", "ib", "tcp 443"],
        &["the internet"],
        &["add to table ta a route to 10.3.1.4 via firewall F"],
    ),
    case(
        "a table that exists",
        &[(
            "- { id: tb, network: b, routes: [{ to: 10.1.0.0/16, next_hop: \"firewall:F\" }] }",
            "- { id: tb, network: b }\n- { id: tb2, network: b, routes: [{ to: 10.1.0.0/16, next_hop: \"firewall:F\" }] }",
        )],
        ["ia", "ib", "tcp 443"],
        &["table tb"],
        &["attach table tb2 to subnet bs"],
    ),
    case(
        "a flag of a peering",
        &[("{ network: b, accept_forwarded: true }", "{ network: b }")],
        ["ia", "ib", "tcp 443"],
        &["peering qb, to b"],
        &["let network b accept forwarded packets over peering qb"],
    ),
    case(
        "a flag of an interface",
        &[("addresses: 10.2.1.1, forwards: true", "addresses: 10.2.1.1")],
        ["ia", "ib", "tcp 443"],
        &["fw"],
        &["let interface fw"],
    ),
    case(
        "a public address",
        &[],
        ["internet", "ia2", "tcp 443"],
        &["the internet"],
        &["give interface ia2 a public address"],
    ),
    case(
        "a public address for the way out",
        &[],
        ["ia2", "198.51.100.9", "tcp 443"],
        &["internet gateway ga"],
        &["give interface ia2 a public address"],
    ),
    case(
        "a gateway attached",
        &[(
            "- { id: ga, kind: internet, network: a }",
            "- { id: ga, kind: internet, network: a, attached: false }",
        )],
        ["internet", "ia", "tcp 443"],
        &["internet gateway ga"],
        &["attach internet gateway ga"],
    ),
    case(
        "a peering up",
        &[(
            "- { id: qb, sides: [{ network: q }",
            "- { id: qb, sides: [{ network: q, up: false }",
        )],
        ["ia", "ib", "tcp 443"],
        &["table tq"],
        &["bring peering qb up"],
    ),
    case(
        "two members that are not symmetric",
        &[(
            "interfaces: { interface: fw }, policy: open }",
            "interfaces: { interface: fw }, policy: open, members: [{ id: m1 }, { id: m2 }] }",
        )],
        ["ia", "ib", "tcp 443"],
        &["firewall F"],
        &["return replies to the same member of firewall F"],
    ),
    case(
        "no member up",
        &[(
            "interfaces: { interface: fw }, policy: open }",
            "interfaces: { interface: fw }, policy: open, members: [{ id: m1, up: false }] }",
        )],
        ["ia", "ib", "tcp 443"],
        &["route #1 of table ta"],
        &["bring member m1 of firewall F up"],
    ),
    case(
        "a front end",
        &[(
            "hubs:",
            "balancers:\n- { id: B, network: a, subnet: as, kind: keeping, front_ends: { address: 10.1.1.50, services: tcp 443 }, back_ends: { interface: ia2 } }\nhubs:",
        )],
        ["ia", "10.1.1.50", "tcp 80"],
        &["balancer B"],
        &["add to balancer B a front end at 10.1.1.50 for tcp 80"],
    ),
    case(
        "a zone",
        &[(
            "hubs:",
            "dns_zones: [{ id: z, zone: inside.example, networks: [b], records: [{ name: db.inside.example, addresses: 10.3.1.4 }] }]\nhubs:",
        )],
        ["ia", "db.inside.example", "tcp 443"],
        &[],
        &["link zone z to network a"],
    ),
    case(
        "a door that is shut, and its list",
        &[(
            "hubs:",
            "services: [{ id: S, services: tcp 443, public_door: { addresses: 203.0.113.80, open: false, allowed: [192.0.2.1] } }]\nhubs:",
        )],
        ["ia", "service:S", "tcp 443"],
        &["service S, public door", "service S, public door"],
        &[
            "open the public door of service S",
            "add 203.0.113.4 to the list at the public door of service S",
        ],
    ),
    case(
        "a firewall's policy, before the rule that denies",
        &[(
            "- { id: open, default: allow }",
            "- { id: open, default: allow, sections: [{ id: s, priority: 7, rules: [{ id: no, action: deny, services: tcp 443, priority: 30 }] }] }",
        )],
        ["ia", "ib", "tcp 443"],
        &["firewall F"],
        &[
            "add to firewall policy open, section s: allow tcp 443 from 10.1.1.4 to 10.3.1.4, priority 29",
        ],
    ),
    case(
        "a stateless rule, whose reply no rule lets in",
        &[
            (
                TO_IA,
                "- { id: ia, subnet: as, addresses: 10.1.1.4, groups: [g] }",
            ),
            (
                "hubs:",
                "security_groups: [{ id: g, outbound: [{ id: web, services: tcp 443, stateless: true }] }]\nhubs:",
            ),
        ],
        ["ia", "ib", "tcp 443"],
        &["group g, inbound at ia"],
        &["make rule web of group g stateful"],
    ),
    case(
        "an internet block",
        &[(
            "main_table: ta }",
            "main_table: ta, internet_traffic: none }",
        )],
        ["internet", "ia", "tcp 443"],
        &["network a"],
        &["allow network a to talk to the internet"],
    ),
    case(
        "nothing fixes what nobody holds",
        &[],
        ["ia", "10.3.1.77", "tcp 443"],
        &["network b"],
        &[],
    ),
];

fn texts(list: &Value, of: impl Fn(&Value) -> &Value) -> Vec<String> {
    list.as_array()
        .unwrap()
        .iter()
        .map(|one| of(one).as_str().unwrap().to_owned())
        .collect()
}

#[test]
fn all_that_is_in_the_way_is_told_and_what_fixes_it() {
    let mut wrong = Vec::new();
    for case in CASES {
        let folder = Folder::with(&changed(case.id, case.changes));
        let [from, to, traffic] = case.asked;
        let (code, answer) = folder.json(&["path", from, to, "--traffic", traffic]);
        let answer = &answer["answer"];
        let obstacles = texts(&answer["obstacles"], |one| &one["step"]["at"]);
        let fixes: Vec<Vec<String>> = answer["fixes"]
            .as_array()
            .unwrap()
            .iter()
            .map(|fix| texts(&fix["edits"], |one| &one["text"]))
            .collect();
        let fits = |found: &[String], wanted: &[&str]| {
            found.len() == wanted.len()
                && found
                    .iter()
                    .zip(wanted)
                    .all(|(found, wanted)| found.contains(wanted))
        };
        let fixed = match case.fix {
            [] => fixes.is_empty(),
            wanted => fixes.iter().any(|fix| fits(fix, wanted)),
        };
        if code != 1 || !fits(&obstacles, case.obstacles) || !fixed {
            wrong.push(format!("{}: {code} {obstacles:?} {fixes:#?}", case.id));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn what_is_new_in_the_way_since_an_earlier_snapshot_is_told() {
    let now = changed(
        "now",
        &[
            GROUPED,
            ALONE,
            ("{ network: b, accept_forwarded: true }", "{ network: b }"),
        ],
    );
    let before = changed(
        "before",
        &[("{ network: b, accept_forwarded: true }", "{ network: b }")],
    );
    let folder = Folder::with(&now);
    let old = folder.write("old/estate.yaml", before);
    let old = old.to_str().unwrap();
    let asked = [
        "path",
        "ia",
        "ib",
        "--tcp",
        "443",
        "-e",
        "estate.yaml",
        "--since",
    ];
    let (_, answer) = folder.json(&[&asked[..], &[old]].concat());
    let told: Vec<(bool, String)> = answer["answer"]["obstacles"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| {
            (
                one["new"].as_bool().unwrap(),
                one["step"]["at"].as_str().unwrap().to_owned(),
            )
        })
        .collect();
    assert_eq!(
        told,
        [
            (false, "peering qb, to b".to_owned()),
            (true, "group data, inbound at ib".to_owned())
        ]
    );
    assert_eq!(answer["answer"]["since"]["verdict"], "lost");
    let whole = folder.write("whole/estate.yaml", changed("whole", &[]));
    let text = folder
        .run(&[&asked[..], &[whole.to_str().unwrap()]].concat())
        .stdout;
    assert!(
        text.contains("Before (2026-11-02 06:00 UTC): works."),
        "{text}"
    );
    assert!(
        text.contains("NEW") && !text.contains("as before"),
        "{text}"
    );
    let other = folder.write(
        "other/estate.yaml",
        changed(
            "other",
            &[(IB, "- { id: other, subnet: bs, addresses: 10.3.1.4 }")],
        ),
    );
    let (_, answer) = folder.json(&[&asked[..], &[other.to_str().unwrap()]].concat());
    assert_eq!(
        answer["answer"]["since"]["not_asked"],
        "nothing in the snapshot is called `ib`"
    );
}

#[test]
fn what_a_fix_opens_and_ends_is_told_in_words() {
    // Two carriers of the group: what lets one in lets in the other; a route that is led elsewhere ends what went by it.
    let carriers = (
        IB,
        "- { id: ib, subnet: bs, addresses: 10.3.1.4, groups: [data] }\n- { id: ib2, subnet: bs, addresses: 10.3.1.5, groups: [data] }",
    );
    let folder = Folder::with(&changed("carriers", &[carriers, ALONE]));
    let told = folder.run(&["path", "ia", "ib", "--tcp", "443"]).stdout;
    for line in [
        "add to group data, inbound: allow tcp 443 from 10.1.1.4",
        "Also opens tcp 443 from ia to ib2",
    ] {
        assert!(told.contains(line), "{told}");
    }
    assert!(!told.contains("Breaks"), "{told}");
    let hole = (
        "routes: [{ to: 10.3.0.0/16, next_hop: \"firewall:F\" }, ",
        "routes: [{ to: 10.3.0.0/16, next_hop: \"firewall:F\" }, { to: 10.3.1.4/32, next_hop: blackhole }, ",
    );
    let folder = Folder::with(&changed("hole", &[hole]));
    let (_, answer) = folder.json(&["path", "ia", "ib", "--tcp", "443"]);
    let fixes = answer["answer"]["fixes"].as_array().unwrap();
    let off = fixes
        .iter()
        .find(|fix| fix["edits"][0]["kind"] == "flag")
        .unwrap();
    assert_eq!(off["edits"][0]["text"], "disable route #2 of table ta");
    assert_eq!(off["then"], "works");
    assert_eq!(off["ends"], Value::Array(Vec::new()));
    // All other traffic of the subnets with that table.
    let opens = off["opens"].as_array().unwrap();
    assert!(
        opens.iter().any(|one| one["destinations"]["said"] == "ib"),
        "{opens:#?}"
    );
}

#[test]
fn of_many_ends_one_that_fails_is_fixed_and_without_traffic_nothing() {
    let folder = Folder::with(&changed("many", &[GROUPED, ALONE]));
    let (code, answer) = folder.json(&["path", "network:a", "network:b", "--tcp", "443"]);
    let answer = &answer["answer"];
    assert_eq!((code, answer["verdict"].as_str()), (1, Some("denied")));
    let fix = texts(&answer["fixes"][0]["edits"], |one| &one["text"]);
    assert_eq!(
        fix,
        ["add to group data, inbound: allow tcp 443 from 10.1.1.4"]
    );
    let (code, answer) = folder.json(&["path", "ia", "ib"]);
    assert_eq!(
        (code, &answer["answer"]["fixes"]),
        (1, &Value::Array(Vec::new()))
    );
    assert_eq!(answer["answer"]["obstacles"], Value::Array(Vec::new()));
}

#[test]
fn translations_that_lead_back_to_themselves_end_as_a_loop_at_once() {
    // Equal routes: out, or into the firewall again, which translates to its own address each time.
    let around = [
        (
            "- { id: F, interfaces: { interface: fw }, policy: open }",
            "- { id: F, interfaces: { interface: fw }, policy: open, source_translations: [{ to: 10.2.1.1 }] }",
        ),
        (
            "- { id: tq, network: q }",
            "- { id: tq, network: q, routes: [{ to: 0.0.0.0/0, next_hop: \"balancer:L\" }, { to: 0.0.0.0/0, next_hop: \"gateway:gq\" }] }",
        ),
        (
            "- { id: ge, kind: internet, network: e }",
            "- { id: ge, kind: internet, network: e }\n- { id: gq, kind: internet, network: q }",
        ),
        (
            "hubs:",
            "balancers:\n- { id: L, network: q, kind: keeping, back_ends: [{ interface: fw }, { interface: fw }, { interface: fw }] }\nhubs:",
        ),
        (
            "{ to: [0.0.0.0/0, \"::/0\"], next_hop: \"gateway:ga\" }",
            "{ to: 0.0.0.0/0, next_hop: \"firewall:F\" }",
        ),
        (
            "addresses: 10.2.1.1, forwards: true",
            "addresses: [10.2.1.1, 10.2.1.2], forwards: true",
        ),
        (
            "{ address: 203.0.113.4, interface: ia }",
            "{ address: 203.0.113.4, interface: ia }, { address: 203.0.113.9, interface: fw }",
        ),
    ];
    let folder = Folder::with(&changed("around", &around));
    let (code, answer) = folder.json(&["path", "ia", "198.51.100.9", "--tcp", "443"]);
    assert_eq!(
        (code, answer["answer"]["verdict"].as_str()),
        (1, Some("works-for-some"))
    );
    let last = answer["answer"]["fails"]
        .as_array()
        .unwrap()
        .last()
        .unwrap();
    assert_eq!(
        last["why"], "routing loop: the packet comes here a second time",
        "{last:#}"
    );
}
