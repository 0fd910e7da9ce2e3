//! Cases that are easily wrong on whole ways, there and back: each with its id and the answer that is expected.
//!
//! An estate is named sections; a case takes some of them, changes text in them, and asks.

use crate::folder::{Folder, HEADER};
use serde_json::Value;

/// Three networks in a row (`a`, hub network `q` with a firewall, `b`), an egress network `e` with a NAT gateway, and a hub.
const BASE: &str = r#"
estate: { name: ways, taken: 2026-11-02T06:00:00Z }
networks:
- { id: a, blocks: [10.1.0.0/16, "2001:db8:1::/48"], main_table: ta }
- { id: q, blocks: 10.2.0.0/16, main_table: tq }
- { id: b, blocks: 10.3.0.0/16, main_table: tb }
- { id: e, blocks: 10.4.0.0/16, main_table: te }
subnets:
- { id: as, network: a, blocks: [10.1.1.0/24, "2001:db8:1:1::/64"] }
- { id: as2, network: a, blocks: 10.1.2.0/24 }
- { id: qs, network: q, blocks: 10.2.1.0/24 }
- { id: bs, network: b, blocks: 10.3.1.0/24 }
- { id: nat, network: e, blocks: 10.4.1.0/24 }
- { id: es, network: e, blocks: 10.4.2.0/24, route_table: tes }
interfaces:
- { id: ia, subnet: as, addresses: [10.1.1.4, "2001:db8:1:1::4"] }
- { id: ia2, subnet: as2, addresses: 10.1.2.4 }
- { id: fw, subnet: qs, addresses: 10.2.1.1, forwards: true }
- { id: ib, subnet: bs, addresses: 10.3.1.4 }
- { id: ie, subnet: es, addresses: 10.4.2.4 }
firewalls:
- { id: F, interfaces: { interface: fw }, policy: open }
firewall_policies:
- { id: open, default: allow }
peerings:
- { id: aq, sides: [{ network: a, accept_forwarded: true }, { network: q }] }
- { id: qb, sides: [{ network: q }, { network: b, accept_forwarded: true }] }
gateways:
- { id: ga, kind: internet, network: a }
- { id: ge, kind: internet, network: e }
- { id: out6, kind: outbound-only, network: a }
- { id: N, kind: nat, network: e, subnet: nat, address: 10.4.1.250, public: 203.0.113.20 }
public_addresses: [{ address: 203.0.113.4, interface: ia }]
hubs:
- id: H
  domains: [{ id: d, routes: [{ to: 0.0.0.0/0, next_hop: "link:e" }] }]
  links: [{ id: a, to: "network:a", reads: d, announces_into: d }, { id: e, to: "network:e", subnet: es, reads: d, announces_into: d }]
route_tables:
- { id: ta, network: a, routes: [{ to: 10.3.0.0/16, next_hop: "firewall:F" }, { to: [0.0.0.0/0, "::/0"], next_hop: "gateway:ga" }] }
- { id: tq, network: q }
- { id: tb, network: b, routes: [{ to: 10.1.0.0/16, next_hop: "firewall:F" }] }
- { id: te, network: e, routes: [{ to: 0.0.0.0/0, next_hop: "gateway:ge" }, { to: 10.1.0.0/16, next_hop: "hub:H" }] }
- { id: tes, network: e, routes: [{ to: 0.0.0.0/0, next_hop: "gateway:N" }] }
"#;

struct Way {
    id: &'static str,
    /// Text that is replaced, and by what.
    changes: &'static [(&'static str, &'static str)],
    /// From, to, traffic.
    asked: [&'static str; 3],
    /// The verdict, and a word of what decided it.
    answer: [&'static str; 2],
}

const fn way(
    id: &'static str,
    changes: &'static [(&'static str, &'static str)],
    asked: [&'static str; 3],
    answer: [&'static str; 2],
) -> Way {
    Way {
        id,
        changes,
        asked,
        answer,
    }
}

const THROUGH_F: (&str, &str) = (
    "- { id: F, interfaces: { interface: fw }, policy: open }",
    "- { id: F, interfaces: { interface: fa }, policy: open }",
);
const LEG: (&str, &str) = (
    "- { id: ia2, ",
    "- { id: fa, subnet: as2, addresses: 10.1.2.1, forwards: true }\n- { id: ia2, ",
);
const GATEWAY_TABLE: (&str, &str) = (
    "- { id: ga, kind: internet, network: a }",
    "- { id: ga, kind: internet, network: a, table: tg }",
);
const STEERED: (&str, &str) = (
    "- { id: tq, network: q }",
    "- { id: tq, network: q }\n- { id: tg, network: a, routes: [{ to: 10.1.1.0/24, next_hop: \"firewall:F\" }] }",
);
const BY_HUB: (&str, &str) = (
    "{ to: [0.0.0.0/0, \"::/0\"], next_hop: \"gateway:ga\" }",
    "{ to: 0.0.0.0/0, next_hop: \"hub:H\" }",
);
const NO_FIREWALL_ROUTE: (&str, &str) = ("{ to: 10.3.0.0/16, next_hop: \"firewall:F\" }, ", "");
const PROXY: (&str, &str) = (
    "hubs:",
    "balancers:\n- { id: B, network: a, kind: proxy, interfaces: [px], front_ends: { address: 10.1.1.50, services: tcp 443 }, back_ends: { interface: ia2 } }\nhubs:",
);
const KEEPING: (&str, &str) = (
    "hubs:",
    "balancers:\n- { id: B, network: a, subnet: as, kind: keeping, front_ends: { address: 203.0.113.50, public: true, services: tcp 443 }, back_ends: { interface: ia2 } }\nhubs:",
);
const PROXY_PUBLIC: (&str, &str) = (
    "hubs:",
    "balancers:\n- { id: B, network: a, kind: proxy, interfaces: [px], front_ends: { address: 203.0.113.50, public: true, services: tcp 443 }, back_ends: { interface: ia2 } }\nhubs:",
);
const PX: (&str, &str) = (
    "- { id: ia2, ",
    "- { id: px, subnet: as, addresses: 10.1.1.50 }\n- { id: ia2, ",
);
const ONLY_INTERNET: (&str, &str) = (
    "addresses: 10.1.2.4 }",
    "addresses: 10.1.2.4, groups: [web] }",
);
const WEB: (&str, &str) = (
    "hubs:",
    "security_groups: [{ id: web, inbound: { id: outside, services: tcp 443, peers: internet } }]\nhubs:",
);
const NAMES: (&str, &str) = (
    "- { id: open, default: allow }",
    "- { id: open, rules: [{ id: no, action: deny, services: tcp 443, names: bad }, { id: yes, action: allow, services: tcp 443 }] }\nname_sets: [{ id: bad, names: bad.example }]\npublic_names: [{ name: good.example, addresses: 10.3.1.4 }, { name: bad.example, addresses: 10.3.1.4 }]",
);
const SERVICE: (&str, &str) = (
    "hubs:",
    "services: [{ id: S, services: tcp 443, public_door: { addresses: 203.0.113.80 }, private_doors: door }]\nhubs:",
);
const DOOR: (&str, &str) = (
    "- { id: ia2, ",
    "- { id: door, subnet: as2, addresses: 10.1.2.80 }\n- { id: ia2, ",
);
const MEMBERS: (&str, &str) = (
    "policy: open }",
    "policy: open, members: [{ id: m1 }, { id: m2 }] }",
);
const SITE: (&str, &str) = (
    "hubs:",
    "sites: [{ id: yard, holds: 192.168.0.0/24, announces: [192.168.0.0/24, 0.0.0.0/0] }]\nhubs:",
);
const SITE_GATEWAY: (&str, &str) = (
    "- { id: ge, ",
    "- { id: gs, kind: site, network: b, site: yard }\n- { id: ge, ",
);

#[rustfmt::skip]
const WAYS: &[Way] = &[
    way("public server behind a gateway table with a firewall, its default to the gateway: inbound", &[LEG, THROUGH_F, GATEWAY_TABLE, STEERED], ["internet", "203.0.113.4", "tcp 443"], ["reply-lost", "firewall F"]),
    way("the same, outbound", &[LEG, THROUGH_F, GATEWAY_TABLE, STEERED], ["ia", "198.51.100.7", "tcp 443"], ["reply-lost", "firewall F"]),
    way("client ports and a NAT subnet's ACL", &[("- { id: nat, network: e, blocks: 10.4.1.0/24 }", "- { id: nat, network: e, blocks: 10.4.1.0/24, acl: n }"), ("hubs:", "network_acls: [{ id: n, inbound: [{ action: allow, services: tcp 443 }, { action: allow, services: tcp 32768-60999 }], outbound: [{ action: allow }] }]\nhubs:")], ["ie", "198.51.100.7", "tcp 443"], ["works-for-some", "ACL n"]),
    way("the outer scope allows finally; ACL and own firewall deny: the ACL first", &[("blocks: 10.1.2.0/24 }", "blocks: 10.1.2.0/24, acl: n }"), ("addresses: 10.1.2.4 }", "addresses: 10.1.2.4, groups: [none], own_firewall: o }"), ("hubs:", "network_acls: [{ id: n, inbound: { action: deny, services: tcp 22 } }]\nown_firewalls: [{ id: o, default_inbound: deny, default_outbound: allow }]\nsecurity_groups: [{ id: none }]\nscope_policies: [{ id: p, scope: estate, inbound: { action: allow-finally, services: tcp 22 }, outbound: { action: allow-finally } }]\nhubs:")], ["ia", "ia2", "tcp 22"], ["denied", "ACL n"]),
    way("without the ACL the own firewall is the obstacle, never the group", &[("addresses: 10.1.2.4 }", "addresses: 10.1.2.4, groups: [none], own_firewall: o }"), ("hubs:", "own_firewalls: [{ id: o, default_inbound: deny, default_outbound: allow }]\nsecurity_groups: [{ id: none }]\nscope_policies: [{ id: p, scope: estate, inbound: { action: allow-finally, services: tcp 22 }, outbound: { action: allow-finally } }]\nhubs:")], ["ia", "ia2", "tcp 22"], ["denied", "own firewall o"]),
    way("outbound stateful any plus stateless 443, inbound none: 443", &[("addresses: 10.1.2.4 }", "addresses: 10.1.2.4, groups: [g] }"), ("hubs:", "security_groups: [{ id: g, outbound: [{ id: any }, { id: web, services: tcp 443, stateless: true }] }]\nhubs:")], ["ia2", "ia", "tcp 443"], ["reply-denied", "group g"]),
    way("the same, 80", &[("addresses: 10.1.2.4 }", "addresses: 10.1.2.4, groups: [g] }"), ("hubs:", "security_groups: [{ id: g, outbound: [{ id: any }, { id: web, services: tcp 443, stateless: true }] }]\nhubs:")], ["ia2", "ia", "tcp 80"], ["works", ""]),
    way("from a carrier to the private address", &[("\"2001:db8:1:1::4\"] }", "\"2001:db8:1:1::4\"], groups: [data] }"), ("addresses: 10.1.2.4 }", "addresses: 10.1.2.4, groups: [app] }"), ("hubs:", "security_groups: [{ id: app, outbound: {} }, { id: data, inbound: { services: tcp 5432, peers: \"group:app\" } }]\nhubs:")], ["ia2", "10.1.1.4", "tcp 5432"], ["works", ""]),
    way("the same to the public address", &[("\"2001:db8:1:1::4\"] }", "\"2001:db8:1:1::4\"], groups: [data] }"), ("addresses: 10.1.2.4 }", "addresses: 10.1.2.4, groups: [app] }"), ("interface: ia }]", "interface: ia }, { address: 203.0.113.5, interface: ia2 }]"), ("hubs:", "security_groups: [{ id: app, outbound: {} }, { id: data, inbound: { services: tcp 5432, peers: \"group:app\" } }]\nhubs:")], ["ia2", "203.0.113.4", "tcp 5432"], ["denied", "group data"]),
    way("by a hub to an egress network whose NAT subnet knows no way back", &[NO_FIREWALL_ROUTE, BY_HUB, (", { to: 10.1.0.0/16, next_hop: \"hub:H\" }", "")], ["ia2", "198.51.100.7", "tcp 443"], ["reply-lost", "internet gateway ge"]),
    way("the same with a route to the hub", &[NO_FIREWALL_ROUTE, BY_HUB], ["ia2", "198.51.100.7", "tcp 443"], ["works", ""]),
    way("a proxy, and a back end that admits only the internet", &[PX, PROXY_PUBLIC, ONLY_INTERNET, WEB], ["internet", "203.0.113.50", "tcp 443"], ["denied", "group web"]),
    way("the same behind a keeping balancer", &[KEEPING, ONLY_INTERNET, WEB], ["internet", "203.0.113.50", "tcp 443"], ["works", ""]),
    way("deny names 443, allow any 443: by address 443", &[NAMES], ["ia", "10.3.1.4", "tcp 443"], ["conditional", ""]),
    way("by address 80", &[NAMES], ["ia", "10.3.1.4", "tcp 80"], ["denied", "firewall F"]),
    way("by another name 443", &[NAMES], ["ia", "good.example", "tcp 443"], ["works", ""]),
    way("by a name of the set 443", &[NAMES], ["ia", "bad.example", "tcp 443"], ["conditional", ""]),
    way("spoke, hub network with firewall, spoke; both accept what is forwarded", &[], ["ia", "ib", "tcp 443"], ["works", ""]),
    way("only the far side accepts", &[("network: a, accept_forwarded: true", "network: a")], ["ia", "ib", "tcp 443"], ["reply-lost", "peering aq, to a"]),
    way("only the near side accepts", &[("network: b, accept_forwarded: true", "network: b")], ["ia", "ib", "tcp 443"], ["lost", "peering qb, to b"]),
    way("the hub network's own sides never matter", &[("{ network: q }] }\n- { id: qb, sides: [{ network: q }", "{ network: q, accept_forwarded: true }] }\n- { id: qb, sides: [{ network: q, accept_forwarded: true }")], ["ia", "ib", "tcp 443"], ["works", ""]),
    way("IPv6, default to the outbound-only gateway: from the internet", &[("{ to: [0.0.0.0/0, \"::/0\"], next_hop: \"gateway:ga\" }", "{ to: \"::/0\", next_hop: \"gateway:out6\" }")], ["internet", "2001:db8:1:1::4", "tcp 443"], ["reply-lost", "outbound-only gateway out6"]),
    way("the same, to the internet", &[("{ to: [0.0.0.0/0, \"::/0\"], next_hop: \"gateway:ga\" }", "{ to: \"::/0\", next_hop: \"gateway:out6\" }")], ["ia", "2a00::7", "tcp 443"], ["works", ""]),
    way("a site that announces the default route", &[SITE, SITE_GATEWAY, ("- { id: tb, network: b,", "- { id: tb, network: b, accepts_propagation: true,")], ["ib", "198.51.100.7", "tcp 443"], ["works", ""]),
    way("longer static than local", &[("{ to: 10.3.0.0/16, next_hop: \"firewall:F\" }, ", "{ to: 10.1.2.0/24, next_hop: blackhole }, ")], ["ia", "ia2", "tcp 443"], ["lost", "blackhole"]),
    way("longer static than local, where automatic routes are fixed", &[("{ to: 10.3.0.0/16, next_hop: \"firewall:F\" }, ", "{ to: 10.1.2.0/24, next_hop: blackhole }, "), ("taken: 2026-11-02T06:00:00Z }", "taken: 2026-11-02T06:00:00Z, settings: { automatic_routes: fixed } }")], ["ia", "ia2", "tcp 443"], ["works", ""]),
    way("equal routes", &[("{ to: [0.0.0.0/0, \"::/0\"], next_hop: \"gateway:ga\" }", "{ to: 0.0.0.0/0, next_hop: \"gateway:ga\" }, { to: 0.0.0.0/0, next_hop: blackhole }")], ["ia", "198.51.100.7", "tcp 443"], ["works-for-some", "blackhole"]),
    way("blackhole under a default", &[("{ to: [0.0.0.0/0, \"::/0\"], next_hop: \"gateway:ga\" }", "{ to: 0.0.0.0/0, next_hop: \"gateway:ga\" }, { to: 198.51.100.0/24, next_hop: blackhole }")], ["ia", "198.51.100.7", "tcp 443"], ["lost", "blackhole"]),
    way("table attached to nothing", &[("route_table: tes", "route_table: tq2"), ("- { id: tq, network: q }", "- { id: tq, network: q }\n- { id: tq2, network: e }")], ["ie", "198.51.100.7", "tcp 443"], ["lost", "no route"]),
    way("longer automatic or propagated route around the firewall", &[("peerings:", "peerings:\n- { id: ab, sides: [{ network: a }, { network: b }] }"), ("{ to: 10.3.0.0/16, next_hop: \"firewall:F\" }", "{ to: 10.0.0.0/8, next_hop: \"firewall:F\" }"), ("{ to: 10.1.0.0/16, next_hop: \"firewall:F\" }", "{ to: 10.0.0.0/8, next_hop: \"firewall:F\" }")], ["ia", "ib", "tcp 443"], ["works", ""]),
    way("request by the firewall, reply beside it", &[("peerings:", "peerings:\n- { id: ab, sides: [{ network: a }, { network: b }] }"), ("{ to: 10.1.0.0/16, next_hop: \"firewall:F\" }", "{ to: 10.9.0.0/16, next_hop: \"firewall:F\" }")], ["ia", "ib", "tcp 443"], ["reply-lost", "firewall F"]),
    way("three networks in a row", &[("{ to: 10.3.0.0/16, next_hop: \"firewall:F\" }", "{ to: 10.3.0.0/16, next_hop: \"peering:aq\" }")], ["ia", "ib", "tcp 443"], ["lost", "peering aq"]),
    way("one side down", &[("{ network: b, accept_forwarded: true }", "{ network: b, accept_forwarded: true, up: false }")], ["ia", "ib", "tcp 443"], ["lost", "no route"]),
    way("forwarding off", &[("addresses: 10.2.1.1, forwards: true", "addresses: 10.2.1.1")], ["ia", "ib", "tcp 443"], ["lost", "does not forward"]),
    way("overlap behind one hub", &[NO_FIREWALL_ROUTE, BY_HUB, ("{ id: e, to: \"network:e\", subnet: es, reads: d, announces_into: d }", "{ id: e, to: \"network:e\", subnet: es, reads: d, announces_into: d }, { id: twin, to: \"network:b\", reads: d, announces_into: d, announces: 10.4.0.0/16 }"), ("{ to: 0.0.0.0/0, next_hop: \"gateway:N\" }", "{ to: 10.1.0.0/16, next_hop: \"hub:H\" }")], ["ia", "10.4.2.4", "tcp 443"], ["works-for-some", ""]),
    way("NAT gateway with no way out", &[("{ to: 0.0.0.0/0, next_hop: \"gateway:ge\" }, ", "")], ["ie", "198.51.100.7", "tcp 443"], ["lost", "no route"]),
    way("public address without gateway route", &[("{ to: [0.0.0.0/0, \"::/0\"], next_hop: \"gateway:ga\" }", "{ to: 198.18.0.0/15, next_hop: \"gateway:ga\" }")], ["internet", "ia", "tcp 443"], ["works-for-some", "no route"]),
    way("the reverse", &[], ["ia2", "198.51.100.7", "tcp 443"], ["lost", "no public address"]),
    way("only by translation", &[("interface: ia }]", "interface: fw }]"), ("- { id: ge, ", "- { id: gq, kind: internet, network: q }\n- { id: ge, "), ("- { id: tq, network: q }", "- { id: tq, network: q, routes: [{ to: 0.0.0.0/0, next_hop: \"gateway:gq\" }] }"), ("{ to: 10.1.0.0/16, next_hop: \"firewall:F\" }", "{ to: 0.0.0.0/0, next_hop: \"firewall:F\" }"), ("policy: open }", "policy: open, destination_translations: { destinations: 10.2.1.1, services: tcp 443, to: 10.3.1.4, port: 8443 } }")], ["internet", "203.0.113.4", "tcp 443"], ["works", ""]),
    way("only by translation, another port", &[("interface: ia }]", "interface: fw }]"), ("- { id: ge, ", "- { id: gq, kind: internet, network: q }\n- { id: ge, "), ("policy: open }", "policy: open, own_services: [], destination_translations: { destinations: 10.2.1.1, services: tcp 443, to: 10.3.1.4, port: 8443 } }")], ["internet", "203.0.113.4", "tcp 80"], ["lost", "without a matching translation"]),
    way("only by a balancer", &[KEEPING], ["internet", "203.0.113.50", "tcp 443"], ["works", ""]),
    way("only by a balancer, which has no such port", &[KEEPING], ["internet", "203.0.113.50", "tcp 80"], ["lost", "no front end"]),
    way("open public door beside a private one", &[DOOR, SERVICE], ["internet", "service:S", "tcp 443"], ["works", ""]),
    way("by the private door", &[DOOR, SERVICE], ["ia", "service:S", "tcp 443"], ["works", ""]),
    way("nothing comes back through a private door", &[DOOR, SERVICE], ["door", "ia", "tcp 443"], ["lost", "opens no connections"]),
    way("zone not linked", &[("hubs:", "dns_zones: [{ id: z, zone: in.example, networks: [b], records: { name: db.in.example, addresses: 10.1.2.4 } }]\nhubs:")], ["ia", "db.in.example", "tcp 443"], ["lost", ""]),
    way("zone linked", &[("hubs:", "dns_zones: [{ id: z, zone: in.example, networks: [a], records: { name: \"*.in.example\", alias: db.example } }]\npublic_names: [{ name: db.example, addresses: 10.1.2.4 }]\nhubs:")], ["ia", "https://db.in.example/path", ""], ["works", ""]),
    way("zone without record", &[("hubs:", "dns_zones: [{ id: z, zone: in.example, networks: [a] }]\npublic_names: [{ name: db.in.example, addresses: 10.1.2.4 }]\nhubs:")], ["ia", "db.in.example", "tcp 443"], ["lost", ""]),
    way("zone without record that falls through", &[("hubs:", "dns_zones: [{ id: z, zone: in.example, networks: [a], fall_through: true }]\npublic_names: [{ name: db.in.example, addresses: 10.1.2.4 }]\nhubs:")], ["ia", "db.in.example:443", ""], ["works", ""]),
    way("one gap on the way", &[("- { id: open, default: allow }", "- { id: open }"), ("hubs:", "gaps: [{ object: \"firewall-policy:open\", lacks: rules }]\nhubs:")], ["ia", "ib", "tcp 443"], ["unknown", "firewall F"]),
    way("two members, not symmetric, without source translation", &[MEMBERS], ["ia", "ib", "tcp 443"], ["works-for-some", "another member"]),
    way("two members, not symmetric, with source translation", &[MEMBERS, ("policy: open,", "policy: open, source_translations: {},")], ["ia", "ib", "tcp 443"], ["works", ""]),
    way("two members, symmetric", &[MEMBERS, ("policy: open,", "policy: open, symmetric: true,")], ["ia", "ib", "tcp 443"], ["works", ""]),
    way("two members, none up", &[("policy: open }", "policy: open, members: [{ id: m1, up: false }, { id: m2, up: false }] }")], ["ia", "ib", "tcp 443"], ["lost", "firewall F has no member that is up"]),
    way("neighbours behind an ACL", &[("blocks: 10.1.2.0/24 }", "blocks: 10.1.2.0/24, acl: n }"), ("- { id: ia2, ", "- { id: ia3, subnet: as2, addresses: 10.1.2.9 }\n- { id: ia2, "), ("hubs:", "network_acls: [{ id: n }]\nhubs:")], ["ia3", "ia2", "tcp 443"], ["works", ""]),
    way("ACL admits request, not reply", &[("blocks: 10.1.2.0/24 }", "blocks: 10.1.2.0/24, acl: n }"), ("hubs:", "network_acls: [{ id: n, inbound: { action: allow } }]\nhubs:")], ["ia", "ia2", "tcp 443"], ["reply-denied", "ACL n"]),
    way("a hop with a loop", &[("- { id: tq, network: q }", "- { id: tq, network: q, routes: [{ to: 10.3.0.0/16, next_hop: \"interface:r\" }] }"), ("- { id: ia2, ", "- { id: r, subnet: qs, addresses: 10.2.1.9, forwards: true }\n- { id: ia2, "), ("- { id: F, interfaces: { interface: fw }, policy: open }", "- { id: F, interfaces: { interface: fw }, policy: open }")], ["ia", "ib", "tcp 443"], ["lost", "loop"]),
    way("an internet block, before the gateway's mapping", &[("blocks: [10.1.1.0/24, \"2001:db8:1:1::/64\"] }", "blocks: 10.1.1.0/24, internet_traffic: none }"), ("[10.1.1.4, \"2001:db8:1:1::4\"]", "10.1.1.4")], ["ia", "198.51.100.7", "tcp 443"], ["denied", "internet_traffic"]),
    way("a proxy's second connection is its own", &[PX, PROXY], ["ib", "10.1.1.50", "tcp 443"], ["works", ""]),
];

/// The common estate with text changed.
pub fn changed(id: &str, changes: &[(&str, &str)]) -> String {
    let mut text = format!("{HEADER}{}", BASE.trim_start());
    for (old, new) in changes {
        assert!(text.contains(old), "{id}: nothing says {old}");
        text = text.replacen(old, new, 1);
    }
    text
}

#[test]
fn every_way_that_is_easily_wrong_gets_its_expected_answer() {
    let mut wrong = Vec::new();
    for way in WAYS {
        let folder = Folder::with(&changed(way.id, way.changes));
        let [from, to, traffic] = way.asked;
        let mut arguments = vec!["path", from, to];
        if !traffic.is_empty() {
            arguments.extend(["--traffic", traffic]);
        }
        let (code, answer) = folder.json(&arguments);
        let answer = &answer["answer"];
        let verdict = answer["verdict"].as_str().unwrap();
        let steps = if verdict == "works-for-some" && answer["fails"] != Value::Array(Vec::new()) {
            "fails"
        } else {
            "steps"
        };
        let last = answer[steps].as_array().unwrap().last();
        let last = last.map_or_else(String::new, |step| {
            format!(
                "{} {} {}",
                step["does"].as_str().unwrap(),
                step["at"].as_str().unwrap(),
                step["why"].as_str().unwrap()
            )
        });
        let because = answer["parts"].to_string();
        let [expected, word] = way.answer;
        if verdict != expected
            || !(last.contains(word) || because.contains(word))
            || (code == 0) != (expected == "works")
        {
            wrong.push(format!(
                "{}\n  told      {verdict} ({code}): {last}\n  expected  {expected}: {word}",
                way.id
            ));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// What must be among the cases.
const ITEMS: [&str; 46] = [
    "public server behind a gateway table with a firewall",
    "client ports and a NAT subnet's ACL",
    "the outer scope allows finally",
    "outbound stateful any plus stateless 443",
    "from a carrier to the private address",
    "by a hub to an egress network whose NAT subnet knows no way back",
    "a proxy, and a back end that admits only the internet",
    "deny names 443, allow any 443",
    "spoke, hub network with firewall, spoke",
    "IPv6, default to the outbound-only gateway",
    "a group that names itself",
    "a carrier's public address",
    "a group of a peered network",
    "a group without carriers",
    "a group bound to the subnet",
    "ACL admits request, not reply",
    "neighbours behind an ACL",
    "any protocol with ports",
    "a type without a code",
    "IPv6 open beside closed IPv4",
    "a /0 as two /1",
    "a site that announces the default route",
    "longer static than local",
    "equal routes",
    "blackhole under a default",
    "table attached to nothing",
    "longer automatic or propagated route around the firewall",
    "request by the firewall, reply beside it",
    "three networks in a row",
    "one side down",
    "forwarding off",
    "overlap behind one hub",
    "NAT gateway with no way out",
    "public address without gateway route",
    "the reverse",
    "only by translation",
    "only by a balancer",
    "open public door beside a private one",
    "zone not linked",
    "zone without record",
    "defer through two levels",
    "of equal priorities",
    "a policy whose target no interface has",
    "one gap",
    "two members, not symmetric",
    "host bits",
];

#[test]
fn every_case_of_the_semantics_has_a_test() {
    let ids: Vec<&str> = WAYS
        .iter()
        .map(|way| way.id)
        .chain(super::cases::ids())
        .collect();
    let has = |item: &str| ids.iter().any(|id| id.contains(item));
    let more = [
        "a rule past its end",
        "past its review date",
        "sets that hold each other",
        "priority 0",
        "0-65535",
    ];
    let missing: Vec<&&str> = ITEMS
        .iter()
        .chain(&more)
        .filter(|item| !has(item))
        .collect();
    assert!(missing.is_empty(), "{missing:?}");
}

/// A network whose machines go out by a NAT gateway that serves them, but for one with a public address of its own; and something
/// beyond that the snapshot lacks.
const SERVED: &str = r#"
networks: [{ id: n, blocks: 10.0.0.0/16, main_table: t }]
subnets: [{ id: s, network: n, blocks: 10.0.0.0/24 }]
interfaces: [{ id: i, subnet: s, addresses: 10.0.0.4 }, { id: j, subnet: s, addresses: 10.0.0.5 }]
public_addresses: [{ address: 203.0.113.5, interface: j }]
gateways:
- { id: g, kind: internet, network: n }
- { id: nat, kind: nat, network: n, subnet: s, address: 10.0.0.1, public: 203.0.113.1, serves: s }
route_tables:
- { id: t, network: n, routes: [{ to: 0.0.0.0/0, next_hop: "gateway:g", only_from: [10.0.0.1, 10.0.0.5] }] }
gaps: [{ object: "network:outer", blocks: [203.0.113.80/31, 10.9.0.0/16], reason: belongs to the harbour authority }]
"#;

#[test]
fn routes_limited_to_sources_and_what_is_lacking_in_public() {
    let served = "only_from: [10.0.0.1, 10.0.0.5]";
    for (only, from, to, begins, decided) in [
        (served, "i", "8.8.8.8", "Yes", "source 203.0.113.1"),
        (served, "j", "8.8.8.8", "Yes", "source 203.0.113.5"),
        (served, "i", "203.0.113.5", "Yes", "destination 10.0.0.5"),
        (
            served,
            "8.8.8.8",
            "203.0.113.5",
            "Yes",
            "destination 10.0.0.5",
        ),
        (served, "8.8.8.8", "203.0.113.1", "No", "nat"),
        (served, "i", "203.0.113.80", "Unknown", "the internet"),
        (served, "j", "203.0.113.81", "Unknown", "the internet"),
        (
            served,
            "i",
            "203.0.113.82",
            "Yes",
            "The internet sees 203.0.113.1",
        ),
        (served, "8.8.8.8", "203.0.113.80", "Unknown", "the internet"),
        ("only_from: 10.0.0.5", "i", "8.8.8.8", "No", "nat"),
        (
            "only_from: 10.0.0.5",
            "j",
            "8.8.8.8",
            "Yes",
            "source 203.0.113.5",
        ),
        (
            "only_from: 10.0.0.1",
            "i",
            "8.8.8.8",
            "Yes",
            "source 203.0.113.1",
        ),
        (
            "only_from: 10.0.0.1",
            "j",
            "8.8.8.8",
            "Yes",
            "source 203.0.113.1",
        ),
        ("metric: 0", "i", "8.8.8.8", "No", "gateway g"),
    ] {
        let folder = Folder::with(&format!("{HEADER}{}", SERVED.replace(served, only)));
        let told = folder
            .run(&["path", from, to, "--tcp", "443", "-e", "estate.yaml"])
            .stdout;
        assert!(
            told.starts_with(begins) && told.contains(decided),
            "{only}: {from} to {to}: {begins}, {decided}\n{told}"
        );
        // A NAT gateway has a way out if its own packets have one.
        let (_, audit) = folder.json(&["audit", "-e", "estate.yaml"]);
        let kinds: Vec<&Value> = audit["answer"]["findings"]
            .as_array()
            .unwrap()
            .iter()
            .map(|one| &one["kind"])
            .collect();
        let shut = only == "only_from: 10.0.0.5";
        assert_eq!(
            kinds.contains(&&Value::from("no-way-out")),
            shut,
            "{only}: {kinds:?}"
        );
        assert!(
            folder
                .run(&["inventory", "-e", "estate.yaml"])
                .stdout
                .contains("serves 1 subnet")
        );
    }
}
