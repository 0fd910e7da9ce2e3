//! Which field of a rule is which, by the names and the values of its fields.

use super::links::{Links, is_own_id};
use super::naming::is_id;
use super::shape::{Field, List};
use super::values::{Kind, action, direction};

/// The fields of rules, by their place in the list.
#[derive(Clone, Debug, Default)]
pub(super) struct RuleFields {
    pub direction: Option<usize>,
    pub action: Option<usize>,
    pub priority: Option<usize>,
    /// Whether a rule is in force; with whether the field says the opposite.
    pub enabled: Option<(usize, bool)>,
    pub description: Option<usize>,
    pub protocol: Option<usize>,
    pub services: Option<usize>,
    pub ports: Option<usize>,
    /// The first port and the last one.
    pub range: Option<(usize, usize)>,
    pub source_ports: Option<usize>,
    /// Sources, destinations, and peers whichever way.
    pub sources: Vec<usize>,
    pub destinations: Vec<usize>,
    pub peers: Vec<usize>,
    /// The list in each rule that has its traffic.
    pub traffic: Option<usize>,
}

const SOURCE: [&str; 5] = ["src", "source", "from", "origin", "sender"];
const DESTINATION: [&str; 5] = ["dst", "dest", "to_", "target", "receiver"];
const PEER: [&str; 14] = [
    "remote", "peer", "whom", "who", "cidr", "prefix", "range", "group", "address", "net", "set",
    "ip", "other", "party",
];
const LOW: [&str; 6] = ["low", "min", "start", "first", "from", "begin"];
const HIGH: [&str; 6] = ["high", "max", "end", "last", "to", "until"];

/// Whether a path is about the source.
fn is_source(field: &Field) -> bool {
    let path = field.path.to_lowercase();
    SOURCE.iter().any(|word| path.contains(word))
}

fn is_destination(field: &Field) -> bool {
    let path = field.path.to_lowercase();
    field.name() == "to" || DESTINATION.iter().any(|word| path.contains(word))
}

impl RuleFields {
    /// The fields of a list of rules. `owner` is the field that says what each rule is part of.
    pub fn of(at: usize, lists: &[List], links: &Links, owner: Option<usize>) -> Self {
        let list = &lists[at];
        let first = |holds: &dyn Fn(&Field) -> bool| {
            list.fields
                .iter()
                .enumerate()
                .position(|(field, it)| Some(field) != owner && !it.deep && holds(it))
        };
        let mut found = Self {
            direction: first(&|it| all(it, |value| direction(value).is_some_and(|(_, sure)| sure)))
                .or_else(|| first(&|it| few(it) && it.is_called(&["dir", "way", "flow", "orient"])))
                .or_else(|| {
                    let ways = ["inbound", "outbound", "ingress", "egress"];
                    first(&|it| it.traits.kind == Kind::Flag && it.is_called(&ways))
                }),
            action: first(&|it| all(it, |value| action(value).is_some_and(|(_, sure)| sure)))
                .or_else(|| {
                    first(&|it| {
                        few(it)
                            && it.is_called(&[
                                "action", "verdict", "effect", "decision", "permi", "allow", "deny",
                            ])
                    })
                }),
            priority: first(&|it| {
                it.traits.kind == Kind::Numbers
                    && (it.name() == "no"
                        || it.is_called(&[
                            "prio", "rank", "order", "seq", "position", "number", "line", "weight",
                            "index",
                        ]))
            }),
            description: first(&|it| {
                it.is_called(&[
                    "descr", "comment", "note", "about", "why", "remark", "reason",
                ])
            }),
            protocol: first(&|it| it.traits.kind == Kind::Protocols)
                .or_else(|| first(&|it| it.is_called(&["proto"]))),
            services: first(&|it| it.traits.kind == Kind::Services),
            ..Self::default()
        };
        let on = first(&|it| {
            it.traits.kind == Kind::Flag && it.is_called(&["enabled", "active", "in_force"])
        });
        let off = first(&|it| {
            it.traits.kind == Kind::Flag && it.is_called(&["disabled", "inactive", "suspended"])
        });
        found.enabled = off.map(|it| (it, true)).or(on.map(|it| (it, false)));
        found.find_ports(list, owner);
        if found.services == found.protocol {
            found.protocol = None;
        }
        found.find_peers(at, lists, links, owner);
        let no_traffic =
            found.protocol.is_none() && found.services.is_none() && found.ports.is_none();
        if no_traffic && found.range.is_none() {
            let has_traffic = |inner: &usize| {
                lists[*inner].outer == Some(at) && {
                    let shape = Self::of(*inner, lists, links, None);
                    let is_rule =
                        shape.direction.is_some() || shape.action.is_some() || shape.has_peers();
                    (shape.protocol.is_some() || shape.services.is_some()) && !is_rule
                }
            };
            found.traffic = (0..lists.len()).find(has_traffic);
        }
        found
    }

    fn find_ports(&mut self, list: &List, owner: Option<usize>) {
        let number = |it: &Field| matches!(it.traits.kind, Kind::Numbers | Kind::Ports) && !it.deep;
        let of = |holds: &dyn Fn(&Field) -> bool| {
            list.fields.iter().enumerate().position(|(at, it)| {
                Some(at) != owner
                    && Some(at) != self.priority
                    && Some(at) != self.protocol
                    && number(it)
                    && holds(it)
            })
        };
        let ends = |words: &'static [&str]| {
            move |it: &Field| {
                let name = it.name();
                name.split('_').any(|part| words.contains(&part)) && !is_port_of_source(it)
            }
        };
        if let (Some(low), Some(high)) = (of(&ends(&LOW)), of(&ends(&HIGH)))
            && low != high
        {
            self.range = Some((low, high));
            return;
        }
        let called = |it: &Field| it.path.to_lowercase().contains("port");
        self.source_ports = of(&|it| called(it) && is_port_of_source(it));
        self.ports = of(&|it| called(it) && !is_port_of_source(it))
            .or_else(|| of(&|it| it.traits.kind == Kind::Ports && !is_port_of_source(it)));
    }

    fn find_peers(&mut self, at: usize, lists: &[List], links: &Links, owner: Option<usize>) {
        let list = &lists[at];
        let taken = [
            self.direction,
            self.action,
            self.priority,
            self.description,
            self.protocol,
            self.services,
            owner,
        ];
        let ports = [
            self.ports,
            self.source_ports,
            self.range.map(|(low, _)| low),
            self.range.map(|(_, high)| high),
        ];
        for (field, it) in list.fields.iter().enumerate() {
            let is_taken = taken.iter().chain(&ports).any(|one| *one == Some(field));
            let looks = matches!(
                it.traits.kind,
                Kind::Blocks | Kind::Addresses | Kind::Hosts | Kind::Peers
            );
            // Of words, those count that have a name for it, and lead to something.
            let named = it.is_called(&PEER)
                || it.is_called(&SOURCE)
                || it.is_called(&DESTINATION)
                || it.name() == "to";
            let mixed = it.values.keys().any(|value| super::values::is_peer(value));
            let leads = links
                .of_field(at, field)
                .iter()
                .any(|link| link.share >= 20);
            let is_peer = looks
                || it.traits.kind == Kind::Texts
                    && (named && (mixed || leads) || mixed && leads || it.deep && leads);
            let own_key = !it.deep && (is_id(it) || is_own_id(it, list));
            if is_taken || !is_peer || own_key && !looks {
                continue;
            }
            if is_destination(it) {
                self.destinations.push(field);
            } else if is_source(it) {
                self.sources.push(field);
            } else {
                self.peers.push(field);
            }
        }
        // With one side only, that is the other one, whatever it is called.
        if self.peers.is_empty() && (self.sources.is_empty() || self.destinations.is_empty()) {
            self.peers.append(&mut self.sources);
            self.peers.append(&mut self.destinations);
        }
    }

    /// Whether it says whom rules are about.
    pub fn has_peers(&self) -> bool {
        !(self.peers.is_empty() && self.sources.is_empty() && self.destinations.is_empty())
    }

    /// How much of it is there: from 3 on they are rules beyond doubt.
    pub fn score(&self) -> usize {
        let traffic = self.protocol.is_some() || self.services.is_some() || self.traffic.is_some();
        let ports = self.ports.is_some() || self.range.is_some() || self.services.is_some();
        [
            traffic,
            ports,
            self.direction.is_some(),
            self.action.is_some(),
            self.has_peers() && traffic,
        ]
        .iter()
        .filter(|it| **it)
        .count()
    }
}

fn is_port_of_source(field: &Field) -> bool {
    let path = field.path.to_lowercase();
    path.contains("src") || path.contains("source")
}

fn all(field: &Field, holds: impl Fn(&str) -> bool) -> bool {
    !field.values.is_empty() && field.values.keys().all(|value| holds(value))
}

/// Whether a field has no more values than words of a rule are.
fn few(field: &Field) -> bool {
    field.values.len() <= 6 && matches!(field.traits.kind, Kind::Texts | Kind::Flag | Kind::Numbers)
}
