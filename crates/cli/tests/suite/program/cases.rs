//! Cases that are easily wrong, each with its id and its expected answer, asked of the built program.
//!
//! Every case is the common estate with some sections of its own, a question, and what the answer must say.

use crate::folder::{Folder, HEADER};
use serde_json::Value;

/// What is asked.
enum Ask {
    /// What the filters of an interface do with traffic in a direction (0 in, 1 out) to or from a peer.
    Filters(&'static str, usize, &'static str, &'static str),
    /// Whether the internet opens a connection to an interface.
    Internet(&'static str, &'static str),
}
use Ask::{Filters, Internet};

struct Case {
    id: &'static str,
    sections: &'static str,
    ask: Ask,
    /// For filters: `passes RULE…`, `denied STAGE RULE`, `unknown`; with `reply …` where it does not simply pass. For the
    /// internet: `open`, `unknown`, or how it is closed.
    answer: &'static str,
}

/// Networks `n` and `far`, peered; subnets `s`, `t` of n and `f` of far; the interfaces have no filters of their own.
const COMMON: &str = "\
networks: [{ id: n, blocks: [10.65.0.0/16, \"2001:db8:65::/48\"], main_table: main }, { id: far, blocks: [10.66.0.0/16] }]
gateways: [{ id: out, kind: internet, network: n }, { id: out6, kind: outbound-only, network: n }]
peerings: [{ id: p, sides: [{ network: n }, { network: far }] }]
";

const MAIN: &str = "route_tables: [{ id: main, network: n, routes: [{ to: [0.0.0.0/0, \"::/0\"], next_hop: \"gateway:out\" }] }]\n";
const PLAIN: &str = "subnets: [{ id: s, network: n, blocks: [10.65.1.0/24, \"2001:db8:65:1::/64\"] }, { id: f, network: far, blocks: [10.66.1.0/24] }]\n";

const CASES: &[Case] = &[
    Case {
        id: "allowed finally over an empty group, and an ACL that denies: the ACL is the obstacle",
        sections: "@subnets: [{ id: s, network: n, blocks: 10.65.1.0/24, acl: a }]
interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [empty] }]
security_groups: [{ id: empty }]
scope_policies: [{ id: outer, scope: estate, inbound: [{ id: ssh, action: allow-finally, services: tcp 22 }] }]
network_acls: [{ id: a, inbound: [{ id: no, action: deny, priority: 1, services: tcp 22 }, { id: rest, action: allow, priority: 2 }] }]",
        ask: Filters("i", 0, "198.51.100.7", "tcp 22"),
        answer: "denied network-acl no",
    },
    Case {
        id: "allowed finally over an empty group: the group is skipped",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [empty] }]
security_groups: [{ id: empty }]
scope_policies: [{ id: outer, scope: estate, inbound: [{ id: ssh, action: allow-finally, services: tcp 22 }] }]",
        ask: Filters("i", 0, "198.51.100.7", "tcp 22"),
        answer: "passes ssh",
    },
    Case {
        id: "allowed finally, and the own firewall denies",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, own_firewall: host }]
scope_policies: [{ id: outer, scope: estate, inbound: [{ id: ssh, action: allow-finally, services: tcp 22 }] }]
own_firewalls: [{ id: host, default_inbound: deny, default_outbound: allow }]",
        ask: Filters("i", 0, "198.51.100.7", "tcp 22"),
        answer: "denied own-firewall its default",
    },
    Case {
        id: "outbound stateful any plus stateless 443, inbound none: 443 gets no reply",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [g] }]
security_groups: [{ id: g, outbound: [{ id: any }, { id: web, services: tcp 443, stateless: true }] }]",
        ask: Filters("i", 1, "198.51.100.7", "tcp 443"),
        answer: "passes any reply denied",
    },
    Case {
        id: "the same on 80 works",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [g] }]
security_groups: [{ id: g, outbound: [{ id: any }, { id: web, services: tcp 443, stateless: true }] }]",
        ask: Filters("i", 1, "198.51.100.7", "tcp 80"),
        answer: "passes any",
    },
    Case {
        id: "a group names a carrier: by its own address it matches",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [data] }, { id: app, subnet: s, addresses: 10.65.1.9, groups: [app] }]
public_addresses: [{ address: 203.0.113.9, interface: app }]
security_groups: [{ id: app }, { id: data, inbound: [{ id: from-app, services: tcp 5432, peers: \"group:app\" }] }]",
        ask: Filters("i", 0, "10.65.1.9", "tcp 5432"),
        answer: "passes from-app",
    },
    Case {
        id: "a carrier's public address does not match",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [data] }, { id: app, subnet: s, addresses: 10.65.1.9, groups: [app] }]
public_addresses: [{ address: 203.0.113.9, interface: app }]
security_groups: [{ id: app }, { id: data, inbound: [{ id: from-app, services: tcp 5432, peers: \"group:app\" }] }]",
        ask: Filters("i", 0, "203.0.113.9", "tcp 5432"),
        answer: "denied interface-groups no rule",
    },
    Case {
        id: "a group that names itself holds its carriers",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [g] }, { id: j, subnet: s, addresses: 10.65.1.5, groups: [g] }]
security_groups: [{ id: g, inbound: [{ id: each-other, peers: \"group:g\" }] }]",
        ask: Filters("i", 0, "10.65.1.5", "udp 53"),
        answer: "passes each-other",
    },
    Case {
        id: "a group of a peered network matches, peered being the default reach",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [g] }, { id: j, subnet: f, addresses: 10.66.1.5, groups: [there] }]
security_groups: [{ id: there }, { id: g, inbound: [{ id: peer, peers: \"group:there\" }] }]",
        ask: Filters("i", 0, "10.66.1.5", "tcp 1"),
        answer: "passes peer",
    },
    Case {
        id: "a group without carriers matches nobody",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [g] }]
security_groups: [{ id: nobody }, { id: g, inbound: [{ id: r, peers: \"group:nobody\" }] }]",
        ask: Filters("i", 0, "10.65.1.5", "tcp 1"),
        answer: "denied interface-groups no rule",
    },
    Case {
        id: "a group bound to the subnet is enforced between neighbours",
        sections: "@subnets: [{ id: s, network: n, blocks: 10.65.1.0/24, groups: [below] }]
interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4 }, { id: j, subnet: s, addresses: 10.65.1.5 }]
security_groups: [{ id: below, inbound: [{ id: web, services: tcp 443 }] }]",
        ask: Filters("i", 0, "10.65.1.5", "tcp 80"),
        answer: "denied subnet-groups no rule",
    },
    Case {
        id: "an interface of a subnet that the group is bound to is not a carrier",
        sections: "@subnets: [{ id: s, network: n, blocks: 10.65.1.0/24, groups: [below] }]
interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4 }, { id: j, subnet: s, addresses: 10.65.1.5 }]
security_groups: [{ id: below, inbound: [{ id: web, peers: \"group:below\" }] }]",
        ask: Filters("i", 0, "10.65.1.5", "tcp 80"),
        answer: "denied subnet-groups no rule",
    },
    Case {
        id: "an ACL admits the request and not the reply",
        sections: "@subnets: [{ id: s, network: n, blocks: 10.65.1.0/24, acl: a }]
interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4 }]
network_acls: [{ id: a, inbound: [{ id: in, action: allow, services: tcp 443 }], outbound: [{ id: out, action: allow, services: tcp 443 }] }]",
        ask: Filters("i", 0, "198.51.100.7", "tcp 443"),
        answer: "passes in reply denied",
    },
    Case {
        id: "an ACL lets the reply through to some client ports",
        sections: "@subnets: [{ id: s, network: n, blocks: 10.65.1.0/24, acl: a }]
interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4 }]
network_acls: [{ id: a, inbound: [{ id: in, action: allow, services: tcp 443 }], outbound: [{ id: out, action: allow, services: tcp 32768-60999 }] }]",
        ask: Filters("i", 0, "198.51.100.7", "tcp 443"),
        answer: "passes in reply to 32768-60999",
    },
    Case {
        id: "neighbours behind an ACL do not cross it",
        sections: "@subnets: [{ id: s, network: n, blocks: 10.65.1.0/24, acl: a }]
interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4 }]
network_acls: [{ id: a }]",
        ask: Filters("i", 0, "10.65.1.99", "tcp 443"),
        answer: "passes",
    },
    Case {
        id: "any protocol with ports is TCP, UDP and SCTP",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [g] }]
security_groups: [{ id: g, inbound: [{ id: dns, services: any 53 }] }]",
        ask: Filters("i", 0, "198.51.100.7", "sctp 53"),
        answer: "passes dns",
    },
    Case {
        id: "any protocol with ports is not a protocol without them",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [g] }]
security_groups: [{ id: g, inbound: [{ id: all-ports, services: any 0-65535 }] }]",
        ask: Filters("i", 0, "198.51.100.7", "gre"),
        answer: "denied interface-groups no rule",
    },
    Case {
        id: "a type without a code is every code",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [g] }]
security_groups: [{ id: g, inbound: [{ id: unreachable, services: icmp 3 }] }]",
        ask: Filters("i", 0, "198.51.100.7", "icmp 3/4"),
        answer: "passes unreachable",
    },
    Case {
        id: "0-65535 and all ports are one",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [g] }]
security_groups: [{ id: g, inbound: [{ id: ports, services: tcp 0-65535 }] }]",
        ask: Filters("i", 0, "198.51.100.7", "tcp 0"),
        answer: "passes ports",
    },
    Case {
        id: "a /0 as two /1",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [g] }]
security_groups: [{ id: g, inbound: [{ id: halves, services: tcp 22, peers: [0.0.0.0/1, 128.0.0.0/1] }] }]",
        ask: Filters("i", 0, "255.255.255.254", "tcp 22"),
        answer: "passes halves",
    },
    Case {
        id: "defer through two levels to the network's policy",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4 }]
scope_policies:
- { id: outer, scope: estate, order: 1, inbound: [{ id: d1, action: defer, services: tcp 22 }] }
- { id: middle, scope: estate, order: 2, inbound: [{ id: d2, action: defer, services: tcp 22 }, { id: never, action: deny, services: tcp 22 }] }
- { id: inner, scope: \"network:n\", inbound: [{ id: no, action: reject, services: tcp 22 }] }",
        ask: Filters("i", 0, "198.51.100.7", "tcp 22"),
        answer: "rejected scope-policies no",
    },
    Case {
        id: "of equal priorities deny comes first",
        sections: "@subnets: [{ id: s, network: n, blocks: 10.65.1.0/24, acl: a }]
interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4 }]
network_acls: [{ id: a, inbound: [{ id: yes, action: allow, priority: 5, services: tcp 22 }, { id: no, action: deny, priority: 5, services: tcp 22 }] }]",
        ask: Filters("i", 0, "198.51.100.7", "tcp 22"),
        answer: "denied network-acl no",
    },
    Case {
        id: "priority 0 is the first, the largest is still before none",
        sections: "@subnets: [{ id: s, network: n, blocks: 10.65.1.0/24, acl: a }]
interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4 }]
network_acls: [{ id: a, inbound: [{ id: none, action: deny }, { id: largest, action: allow, priority: 4294967295, services: tcp 22 }, { id: zero, action: reject, priority: 0, services: tcp 23 }, { id: one, action: allow, priority: 1, services: tcp 23 }] }]",
        ask: Filters("i", 0, "198.51.100.7", "tcp 22"),
        answer: "passes largest reply denied",
    },
    Case {
        id: "a policy whose target no interface has decides nothing",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4 }]
scope_policies: [{ id: p, scope: estate, targets: [\"tag:role=web\"], inbound: [{ id: no, action: deny }] }]",
        ask: Filters("i", 0, "198.51.100.7", "tcp 22"),
        answer: "passes",
    },
    Case {
        id: "a rule past its end does not match",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [g] }]
security_groups: [{ id: g, inbound: [{ id: r, enforced_until: 2026-11-01 }] }]",
        ask: Filters("i", 0, "198.51.100.7", "tcp 22"),
        answer: "denied interface-groups no rule",
    },
    Case {
        id: "on the day of its end it still matches",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [g] }]
security_groups: [{ id: g, inbound: [{ id: r, enforced_until: 2026-11-02 }] }]",
        ask: Filters("i", 0, "198.51.100.7", "tcp 22"),
        answer: "passes r",
    },
    Case {
        id: "past its review date it still matches",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [g] }]
security_groups: [{ id: g, inbound: [{ id: r, review_by: 2025-01-01 }] }]",
        ask: Filters("i", 0, "198.51.100.7", "tcp 22"),
        answer: "passes r",
    },
    Case {
        id: "sets that hold each other hold what is in either",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [g] }]
address_sets: [{ id: a, content: [192.0.2.1, \"set:b\"] }, { id: b, content: [192.0.2.2, \"set:a\"] }]
security_groups: [{ id: g, inbound: [{ id: r, peers: \"set:a\" }] }]",
        ask: Filters("i", 0, "192.0.2.2", "tcp 22"),
        answer: "passes r",
    },
    Case {
        id: "host bits are masked",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [g] }]
security_groups: [{ id: g, inbound: [{ id: r, peers: 192.0.2.77/24 }] }]",
        ask: Filters("i", 0, "192.0.2.1", "tcp 22"),
        answer: "passes r",
    },
    Case {
        id: "one gap on the way: a bound group whose rules are not known",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [g] }]
security_groups: [{ id: g }]
gaps: [{ object: \"group:g\", lacks: rules }]",
        ask: Filters("i", 0, "192.0.2.1", "tcp 22"),
        answer: "unknown",
    },
    Case {
        id: "one gap, but another stage denies in any case",
        sections: "@subnets: [{ id: s, network: n, blocks: 10.65.1.0/24, acl: a }]
interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [gone] }]
network_acls: [{ id: a, inbound: [{ id: no, action: deny }] }]",
        ask: Filters("i", 0, "192.0.2.1", "tcp 22"),
        answer: "denied network-acl no",
    },
    Case {
        id: "no peers is anybody, an empty list is nobody",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [g] }]
security_groups: [{ id: g, inbound: [{ id: nobody, peers: [] }] }]",
        ask: Filters("i", 0, "192.0.2.1", "tcp 22"),
        answer: "denied interface-groups no rule",
    },
    Case {
        id: "IPv6 with both kinds of gateways, default to the outbound-only one: the reply is lost",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: [10.65.1.4, \"2001:db8:65:1::4\"], groups: [web] }]
security_groups: [{ id: web, inbound: [{ services: tcp 443 }] }]
@routes [{ to: \"::/0\", next_hop: \"gateway:out6\" }]",
        ask: Internet("i", "2001:db8:65:1::4"),
        answer: "reply-routed-elsewhere",
    },
    Case {
        id: "the same with the default to the internet gateway",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: [10.65.1.4, \"2001:db8:65:1::4\"] }]
@routes [{ to: \"::/0\", next_hop: \"gateway:out\" }]",
        ask: Internet("i", "2001:db8:65:1::4"),
        answer: "open",
    },
    Case {
        id: "a public address without a route to the gateway",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [web] }]
security_groups: [{ id: web, inbound: [{ services: tcp 443 }] }]
public_addresses: [{ address: 203.0.113.4, interface: i }]
@routes []",
        ask: Internet("i", "203.0.113.4"),
        answer: "reply-no-route",
    },
    Case {
        id: "IPv6 open beside closed IPv4",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: [10.65.1.4, \"2001:db8:65:1::4\"], groups: [g] }]
public_addresses: [{ address: 203.0.113.4, interface: i }]
security_groups: [{ id: g, inbound: [{ id: six, services: tcp 22, peers: \"::/0\" }] }]
@main",
        ask: Internet("i", "203.0.113.4"),
        answer: "stage",
    },
    Case {
        id: "equal routes of which one leads back",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [web] }]
security_groups: [{ id: web, inbound: [{ services: tcp 443 }] }]
public_addresses: [{ address: 203.0.113.4, interface: i }]
@routes [{ to: 0.0.0.0/0, next_hop: \"gateway:out\" }, { to: 0.0.0.0/0, next_hop: blackhole }]",
        ask: Internet("i", "203.0.113.4"),
        answer: "open for some routes",
    },
    Case {
        id: "a blackhole under a default takes the reply of those whom it names",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [g] }]
public_addresses: [{ address: 203.0.113.4, interface: i }]
security_groups: [{ id: g, inbound: [{ id: r, services: tcp 22, peers: 198.51.100.0/24 }] }]
@routes [{ to: 0.0.0.0/0, next_hop: \"gateway:out\" }, { to: 198.51.100.0/24, next_hop: blackhole }]",
        ask: Internet("i", "203.0.113.4"),
        answer: "reply-routed-elsewhere",
    },
    Case {
        id: "a table attached to nothing routes nothing",
        sections: "@subnets: [{ id: s, network: n, blocks: 10.65.1.0/24, route_table: own }]
interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [web] }]
security_groups: [{ id: web, inbound: [{ services: tcp 443 }] }]
public_addresses: [{ address: 203.0.113.4, interface: i }]
route_tables: [{ id: own, network: n }, { id: main, network: n }, { id: right, network: n, routes: [{ to: 0.0.0.0/0, next_hop: \"gateway:out\" }] }]",
        ask: Internet("i", "203.0.113.4"),
        answer: "reply-no-route",
    },
    Case {
        id: "a longer route to a set whose content nobody knows: the reply may go there",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [web] }]
security_groups: [{ id: web, inbound: [{ services: tcp 443 }] }]
public_addresses: [{ address: 203.0.113.4, interface: i }]
address_sets: [{ id: hidden, content: unknown }]
@routes [{ to: 0.0.0.0/0, next_hop: \"gateway:out\" }, { to: \"set:hidden\", next_hop: blackhole }]",
        ask: Internet("i", "203.0.113.4"),
        answer: "unknown",
    },
    Case {
        id: "the same where both lead to the gateway: it works whatever the set holds",
        sections: "@plain interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4, groups: [web] }]
security_groups: [{ id: web, inbound: [{ services: tcp 443 }] }]
public_addresses: [{ address: 203.0.113.4, interface: i }]
@routes [{ to: 0.0.0.0/0, next_hop: \"gateway:out\" }, { to: \"set:gone\", next_hop: \"gateway:out\" }]",
        ask: Internet("i", "203.0.113.4"),
        answer: "open",
    },
    Case {
        id: "no internet gateway, and the snapshot says that it lacks one",
        sections: "@subnets: [{ id: s, network: n, blocks: 10.65.1.0/24 }, { id: f, network: far, blocks: 10.66.1.0/24 }]
interfaces: [{ id: i, subnet: f, addresses: 10.66.1.4 }]
public_addresses: [{ address: 203.0.113.4, interface: i }]
gaps: [{ object: \"gateway:far-internet\" }]",
        ask: Internet("i", "203.0.113.4"),
        answer: "unknown",
    },
    Case {
        id: "no internet gateway",
        sections: "@plain interfaces: [{ id: i, subnet: f, addresses: 10.66.1.4 }]
public_addresses: [{ address: 203.0.113.4, interface: i }]",
        ask: Internet("i", "203.0.113.4"),
        answer: "no-gateway",
    },
    Case {
        id: "an internet block at the subnet",
        sections: "@subnets: [{ id: s, network: n, blocks: 10.65.1.0/24, internet_traffic: outbound_only }]
interfaces: [{ id: i, subnet: s, addresses: 10.65.1.4 }]
public_addresses: [{ address: 203.0.113.4, interface: i }]
@main",
        ask: Internet("i", "203.0.113.4"),
        answer: "internet-block",
    },
];

fn estate(case: &Case) -> String {
    let mut text =
        format!("{HEADER}estate: {{ name: case, taken: 2026-11-02T06:00:00Z }}\n{COMMON}");
    let mut routed = false;
    for line in case.sections.lines() {
        if let Some(rest) = line.strip_prefix("@plain ") {
            text.push_str(&format!("{PLAIN}{rest}\n"));
        } else if let Some(rest) = line.strip_prefix("@routes ") {
            text.push_str(&format!(
                "route_tables: [{{ id: main, network: n, routes: {rest} }}]\n"
            ));
            routed = true;
        } else {
            let line = line.strip_prefix('@').unwrap_or(line);
            routed |= line == "main" || line.starts_with("route_tables");
            text.push_str(if line == "main" {
                MAIN.trim_end()
            } else {
                line
            });
            text.push('\n');
        }
    }
    if routed {
        text
    } else {
        format!("{text}{MAIN}")
    }
}

/// What one side of effective rules says, in the words of [`Case::answer`].
fn told(side: &Value) -> String {
    let first = |field: &str| side[field].as_array().unwrap().first();
    if let Some(entry) = first("admitted") {
        let rules = entry["decided"]
            .as_array()
            .unwrap()
            .iter()
            .filter_map(|one| one["decider"]["rule"]["rule"].as_str());
        let reply = match entry["reply"]["reply"].as_str().unwrap() {
            "only-to" => format!(" reply to {}", entry["reply"]["ports"].as_str().unwrap()),
            "passes" => String::new(),
            other => format!(" reply {other}"),
        };
        return format!("passes {}{reply}", rules.collect::<Vec<_>>().join(" "))
            .trim_end()
            .to_owned();
    }
    if first("unknown").is_some() {
        return "unknown".to_owned();
    }
    let last = first("left").unwrap()["decided"]
        .as_array()
        .unwrap()
        .last()
        .unwrap()
        .clone();
    let by = match last["decider"]["by"].as_str().unwrap() {
        "rule" => last["decider"]["rule"]["rule"].as_str().unwrap().to_owned(),
        "default" => "its default".to_owned(),
        other => other.replace('-', " "),
    };
    let does = if last["does"] == "rejects" {
        "rejected"
    } else {
        "denied"
    };
    format!("{does} {} {by}", last["stage"].as_str().unwrap())
}

fn ask(case: &Case) -> String {
    let folder = Folder::with(&estate(case));
    match case.ask {
        Filters(interface, direction, peer, traffic) => {
            let (_, answer) =
                folder.json(&["effective", interface, "--peer", peer, "--traffic", traffic]);
            told(&answer["answer"]["sides"][direction])
        }
        Internet(interface, address) => {
            let (_, answer) = folder.json(&["exposure", interface]);
            let ways = answer["answer"]["ways"].as_array().unwrap();
            let way = ways.iter().find(|way| way["address"] == address).unwrap();
            match (
                way["open"].as_array().unwrap().first(),
                way["unknown"].as_array().unwrap().first(),
            ) {
                (Some(open), _) if open["some_routes"] == true => "open for some routes".to_owned(),
                (Some(_), _) => "open".to_owned(),
                (None, Some(_)) => "unknown".to_owned(),
                (None, None) => way["closed"][0]["closing"]["closed_by"]
                    .as_str()
                    .unwrap()
                    .to_owned(),
            }
        }
    }
}

#[test]
fn every_case_that_is_easily_wrong_gets_its_expected_answer() {
    let wrong: Vec<String> = CASES
        .iter()
        .filter_map(|case| {
            let told = ask(case);
            (told != case.answer).then(|| {
                format!(
                    "{}\n  told      {told}\n  expected  {}",
                    case.id, case.answer
                )
            })
        })
        .collect();
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    let mut ids: Vec<&str> = CASES.iter().map(|case| case.id).collect();
    ids.sort_unstable();
    ids.dedup();
    assert_eq!(ids.len(), CASES.len(), "ids are unique");
}

#[test]
fn thousands_of_prefixes_in_one_set_are_read_and_judged_at_once() {
    let prefixes: Vec<String> = (0..5_000)
        .map(|at| format!("198.{}.{}.0/25", 18 + at / 250, at % 250))
        .collect();
    let sections = format!(
        "interfaces: [{{ id: i, subnet: s, addresses: 10.65.1.4, groups: [g] }}]\naddress_sets: [{{ id: many, content: [{}] }}]\n\
        security_groups: [{{ id: g, inbound: [{{ id: r, services: tcp 22, peers: \"set:many\" }}, {{ id: q, services: tcp 22, peers: 198.18.7.1 }}] }}]\n",
        prefixes.join(", ")
    );
    let folder = Folder::with(&format!("{HEADER}{COMMON}{PLAIN}{MAIN}{sections}"));
    for (peer, passes) in [
        ("198.18.7.127", true),
        ("198.18.7.128", false),
        ("198.37.249.1", true),
        ("198.38.0.1", false),
    ] {
        let (_, answer) = folder.json(&["effective", "i", "--peer", peer, "--tcp", "22"]);
        assert_eq!(
            told(&answer["answer"]["sides"][0]).starts_with("passes r"),
            passes,
            "{peer}"
        );
    }
    let text = folder.run(&["effective", "i"]).ok();
    assert!(
        text.contains("set many") && text.lines().count() < 40,
        "{text}"
    );
    let (_, audit) = folder.json(&["audit"]);
    let redundant = audit["answer"]["findings"]
        .as_array()
        .unwrap()
        .iter()
        .any(|one| one["kind"] == "redundant" && one["title"].as_str().unwrap().starts_with("g/q"));
    assert!(redundant, "{audit:#}");
}

/// The ids of these cases.
pub fn ids() -> impl Iterator<Item = &'static str> {
    CASES.iter().map(|case| case.id)
}
