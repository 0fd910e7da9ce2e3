//! Findings that take more than one stage or a default, on small estates of which every cell is asked: denied-elsewhere,
//! open-outward, default-in-use.

use super::agreement::load;
use super::{estates, topology};
use fastrand::Rng;
use heronshale_audit::elsewhere::denied_elsewhere;
use heronshale_audit::finding::findings;
use heronshale_engine::fabric::Fabric;
use heronshale_model::limits::Limits;
use serde_json::{Value, json};
use std::collections::BTreeSet;

/// Peers as the parts of all addresses that they hold: of the internet the lower and the upper half of IPv4, and IPv6; of other
/// addresses the same; the neighbours in the subnet, by family.
const PEERS: [(&str, u8); 9] = [
    ("0.0.0.0/1", 0b0100_1001),
    ("128.0.0.0/1", 0b0001_0010),
    ("0.0.0.0/0", 0b0101_1011),
    ("::/0", 0b1010_0100),
    ("any", 0b1111_1111),
    ("internet", INTERNET),
    ("any", 0b1111_1111),
    ("0.0.0.0/0", 0b0101_1011),
    ("10.65.1.0/24", 0b0100_0000),
];
const INTERNET: u8 = 0b0000_0111;
const SIX: u8 = 0b1010_0100;
const NEIGHBOURS: u8 = 0b1100_0000;
/// Services as the parts of all traffic that they are: TCP below and from 1024, UDP, the rest.
const SERVICES: [(&str, u8); 7] = [
    ("tcp 0-1023", 0b0001),
    ("tcp 1024-65535", 0b0010),
    ("tcp", 0b0011),
    ("udp", 0b0100),
    ("any", 0b1111),
    ("any", 0b1111),
    ("tcp", 0b0011),
];

#[derive(Clone, Copy)]
struct Line {
    peer: usize,
    service: usize,
    action: Option<&'static str>,
    enabled: bool,
}

impl Line {
    fn any(random: &mut Rng, ordered: bool) -> Self {
        let action = ordered.then(|| ["allow", "allow", "deny"][random.usize(0..3)]);
        let (peer, service) = (
            random.usize(0..PEERS.len()),
            random.usize(0..SERVICES.len()),
        );
        Self {
            peer,
            service,
            action,
            enabled: random.u8(0..8) > 0,
        }
    }

    fn json(self, id: String, place: usize) -> Value {
        let mut rule = json!({ "id": id, "services": SERVICES[self.service].0, "peers": PEERS[self.peer].0,
            "enabled": self.enabled, "description": "why" });
        if let Some(action) = self.action {
            (rule["action"], rule["priority"]) = (action.into(), place.into());
        }
        rule
    }

    fn matches(self, (peer, service): (u8, u8)) -> bool {
        self.enabled && PEERS[self.peer].1 & peer != 0 && SERVICES[self.service].1 & service != 0
    }
}

/// Each part of some addresses with each part of all traffic.
fn cells(peers: u8) -> impl Iterator<Item = (u8, u8)> {
    let parts = (0..8)
        .map(|at| 1 << at)
        .filter(move |part| peers & part != 0);
    parts.flat_map(|part| (0..4).map(move |at| (part, 1 << at)))
}

/// The line that decides a cell, and whether it goes on; `rest` for what none matches.
fn decide(lines: &[Line], cell: (u8, u8), rest: bool) -> (Option<usize>, bool) {
    let first = lines.iter().position(|line| line.matches(cell));
    (
        first,
        first.map_or(rest, |at| lines[at].action != Some("deny")),
    )
}

fn lines(random: &mut Rng, most: usize, ordered: bool) -> Vec<Line> {
    (0..random.usize(0..=most))
        .map(|_| Line::any(random, ordered))
        .collect()
}

fn written(lines: &[Line], name: &str) -> Vec<Value> {
    lines
        .iter()
        .enumerate()
        .map(|(at, line)| line.json(format!("{name}{at}"), at))
        .collect()
}

/// A workload in one subnet whose group and ACL these are; each list twice: inbound, outbound.
fn estate(group: &Value, acl: Option<[&[Line]; 2]>, six: bool, marked: bool) -> Value {
    let mut whole = json!({
        "format": "heronshale-snapshot", "version": 1, "estate": { "name": "stages", "taken": "2026-11-02" },
        "networks": [{ "id": "n", "blocks": ["10.65.0.0/16", "fd00:65::/48"] }],
        "subnets": [{ "id": "s", "network": "n", "blocks": ["10.65.1.0/24", "fd00:65:0:1::/64"] }],
        "workloads": [{ "id": "w", "tags": { "data": if marked { "restricted" } else { "public" } } }],
        "interfaces": [{ "id": "i", "subnet": "s", "workload": "w", "groups": "g",
            "addresses": if six { json!(["10.65.1.4", "fd00:65:0:1::4"]) } else { json!("10.65.1.4") } }],
        "security_groups": [group],
    });
    if let Some([inbound, outbound]) = acl {
        whole["subnets"][0]["acl"] = "a".into();
        whole["network_acls"] = json!([{ "id": "a", "inbound": written(inbound, "ai"), "outbound": written(outbound, "ao") }]);
    }
    whole
}

/// How far each finding of a kind was raised.
fn found(json: &Value, kind: &str) -> Vec<usize> {
    let built = load(json);
    let all = findings(&Fabric::new(&built, None))
        .into_iter()
        .filter(|finding| finding.kind == kind);
    all.map(|finding| finding.factors.len()).collect()
}

#[test]
fn rules_are_denied_elsewhere_if_no_cell_of_theirs_passes_all_stages() {
    let mut flagged = 0;
    for seed in 0..1_500 {
        let mut random = Rng::with_seed(seed);
        let random = &mut random;
        let six = random.bool();
        let group_lines = lines(random, 3, false);
        let [inbound, outbound] = [lines(random, 4, true), lines(random, 2, true)];
        let group = json!({ "id": "g", "inbound": written(&group_lines, "g"), "outbound": [] });
        let json = estate(&group, Some([&inbound, &outbound]), six, false);
        let passes = |cell: (u8, u8)| {
            // Replies go to client ports. Of what is neither TCP nor UDP, much is not answered.
            let reply = (cell.0, if cell.1 == 1 { 2 } else { cell.1 });
            let over = decide(&inbound, cell, false).1
                && (cell.1 == 8 || decide(&outbound, reply, false).1);
            group_lines.iter().any(|line| line.matches(cell)) && (cell.0 & NEIGHBOURS != 0 || over)
        };
        let peers = if six { !0 } else { !SIX };
        let mut expected = BTreeSet::new();
        for (at, line) in group_lines.iter().enumerate() {
            let mut own = cells(peers).filter(|cell| line.matches(*cell)).peekable();
            if own.peek().is_some() && !own.any(passes) {
                expected.insert(format!("g{at}"));
            }
        }
        for (at, line) in inbound
            .iter()
            .enumerate()
            .filter(|(_, line)| line.action == Some("allow"))
        {
            let decides =
                |cell: &(u8, u8)| line.enabled && decide(&inbound, *cell, false).0 == Some(at);
            // A list that keeps no state lets the errors of ICMP through, of which the rest is a part.
            let mut own = cells(peers & !NEIGHBOURS).filter(decides).peekable();
            let errors = cells(peers & !NEIGHBOURS)
                .filter(decides)
                .any(|cell| cell.1 == 8);
            if !errors && own.peek().is_some() && !own.any(passes) {
                expected.insert(format!("ai{at}"));
            }
        }
        let built = load(&json);
        let denied = heronshale_audit::elsewhere::denied_elsewhere(&Fabric::new(&built, None));
        // Outbound rules are about replies here.
        let denied = denied
            .iter()
            .map(|one| built.rule_name(one.rule).to_string());
        let denied: BTreeSet<String> = denied.filter(|name| !name.starts_with("ao")).collect();
        flagged += denied.len();
        assert_eq!(denied, expected, "seed {seed}: {json:#}");
    }
    assert!(flagged > 300, "{flagged}");
}

#[test]
fn a_marked_workload_is_open_outward_if_every_cell_goes_out() {
    let mut told = [0; 2];
    for seed in 0..2_000 {
        let mut random = Rng::with_seed(seed);
        let random = &mut random;
        let (six, marked) = (random.bool(), random.u8(0..4) > 0);
        let group_lines = lines(random, 4, false);
        let outbound = random.bool().then(|| lines(random, 3, true));
        let group = json!({ "id": "g", "inbound": [], "outbound": written(&group_lines, "g") });
        let json = estate(
            &group,
            outbound.as_deref().map(|outbound| [&[][..], outbound]),
            six,
            marked,
        );
        let goes = |services: u8| {
            let peers = if six { INTERNET } else { INTERNET & !SIX };
            cells(peers)
                .filter(|cell| cell.1 & services != 0)
                .all(|cell| {
                    let out = outbound
                        .as_ref()
                        .is_none_or(|lines| decide(lines, cell, false).1);
                    out && group_lines.iter().any(|line| line.matches(cell))
                })
        };
        let expected = (marked && goes(0b0011)).then(|| usize::from(goes(0b1111)));
        if let Some(raised) = expected {
            told[raised] += 1;
        }
        assert_eq!(
            found(&json, "open-outward"),
            expected.into_iter().collect::<Vec<_>>(),
            "seed {seed}: {json:#}"
        );
    }
    assert!(told.iter().all(|count| *count > 50), "{told:?}");
}

#[test]
fn a_default_is_in_use_if_it_lets_some_cell_in() {
    let mut told = [0; 2];
    for seed in 0..1_500 {
        let mut random = Rng::with_seed(seed);
        let random = &mut random;
        let inbound = lines(random, 5, true);
        let (default, bound) = (
            ["allow", "allow", "deny"][random.usize(0..3)],
            random.u8(0..5) > 0,
        );
        let group = json!({ "id": "g", "form": "ordered", "default_inbound": default, "default_outbound": default,
            "inbound": written(&inbound, "g"), "outbound": [] });
        let mut json = estate(&group, None, true, false);
        if !bound {
            json["interfaces"][0]["groups"] = json!([]);
        }
        let in_use = default == "allow"
            && bound
            && cells(!0).any(|cell| decide(&inbound, cell, true).0.is_none());
        assert_eq!(
            found(&json, "default-in-use").len(),
            usize::from(in_use),
            "seed {seed}: {json:#}"
        );
        told[usize::from(in_use)] += 1;
    }
    assert!(told.iter().all(|count| *count > 50), "{told:?}");
}

/// One packet that gets through and back shows a rule to be of use; that changes no verdict and no proof.
#[test]
fn a_rule_that_one_packet_shows_to_be_of_use_is_of_use() {
    let mut flagged = 0;
    for seed in 0..300 {
        for json in [
            estates::estate(&mut Rng::with_seed(seed)),
            topology::estate(&mut Rng::with_seed(seed)),
        ] {
            let built = load(&json);
            let denied = |shortcuts| {
                denied_elsewhere(&Fabric::within(
                    &built,
                    Limits {
                        shortcuts,
                        ..Limits::default()
                    },
                ))
            };
            let (glanced, in_full) = (denied(true), denied(false));
            assert_eq!(glanced, in_full, "seed {seed}: {json:#}");
            flagged += in_full.len();
        }
    }
    assert!(flagged > 300, "{flagged}");
}
