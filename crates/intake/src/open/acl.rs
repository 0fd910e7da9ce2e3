//! Access control lists of RFC 8519 in JSON (RFC 7951): in as network ACLs, and out of them.

use super::condition::{Condition, all_ports};
use super::part::Part;
use super::rules::{Label, Names, NotUnderstood, Shape, Stated, placed, put_unknown_sets, rule};
use crate::files::{LoadError, SourceText};
use crate::json;
use crate::tree::{Node, get, list, span, text, text_at};
use heronshale_model::estate::{Action, Direction};
use heronshale_model::source::{FileId, Problem, SourceFile};
use heronshale_sets::address::{Addresses, Block, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;
use serde_json::{Value as Json, json};
use std::collections::{BTreeMap, BTreeSet};

/// The module that names begin with, where they do.
const MODULE: &str = "ietf-access-control-list:";
/// The name of an entry that an export adds to say that the rest is dropped.
const REST: &str = "rest";
/// What is appended to an ACL's name to say the direction.
pub(super) const SUFFIXES: [(&str, Direction); 2] =
    [(":inbound", Direction::In), (":outbound", Direction::Out)];

/// How lists are read that do not say it themselves.
#[derive(Clone, Copy, Debug)]
pub struct AclReading {
    /// What happens to packets that no entry matches; none if every list ends with an entry that matches all.
    pub rest: Option<Action>,
    /// The direction of lists whose name does not end in `:inbound` or `:outbound`.
    pub direction: Direction,
}

fn field<'n>(node: &'n Node<'n>, name: &str) -> Option<&'n Node<'n>> {
    get(node, name).or_else(|| get(node, &format!("{MODULE}{name}")))
}

/// An identity without its module.
fn bare(identity: &str) -> &str {
    identity.rsplit(':').next().unwrap_or(identity)
}

struct Reader<'r> {
    file: usize,
    reading: &'r AclReading,
    problems: Vec<Problem>,
    unclear: Vec<NotUnderstood>,
    /// Name of the ACL, and its rules received and sent.
    acls: BTreeMap<String, [Vec<Json>; 2]>,
    remarks: Vec<String>,
    open_ended: Vec<String>,
}

impl Reader<'_> {
    fn fail(&mut self, node: &Node<'_>, title: String, help: &str) {
        let label = "here".to_owned();
        self.problems.push(Problem {
            title,
            span: node.span,
            label,
            related: None,
            help: Some(help.to_owned()),
        });
    }

    fn document(&mut self, root: &Node<'_>) {
        let Some(acls) = field(root, "acls") else {
            return self.fail(
                root,
                "it has no `ietf-access-control-list:acls`".to_owned(),
                "give data of RFC 8519 in JSON",
            );
        };
        for acl in field(acls, "acl").map_or(&[][..], list) {
            self.acl(acl);
        }
        for interface in field(acls, "attachment-points")
            .and_then(|points| field(points, "interface"))
            .map_or(&[][..], list)
        {
            let name = text_at(interface, "interface-id").unwrap_or("?");
            for side in ["ingress", "egress"] {
                let sets = field(interface, side)
                    .and_then(|side| field(side, "acl-sets"))
                    .and_then(|sets| field(sets, "acl-set"));
                for set in sets.map_or(&[][..], list) {
                    let acl = text_at(set, "name").unwrap_or("?");
                    self.remarks.push(format!(
                        "{acl} is attached to {name}, {side}: subnets name their network ACL with `acl`"
                    ));
                }
            }
        }
    }

    fn acl(&mut self, acl: &Node<'_>) {
        let Some(written) = text_at(acl, "name") else {
            return self.fail(
                acl,
                "an ACL without a name".to_owned(),
                "RFC 8519 needs `name`",
            );
        };
        let suffix = SUFFIXES
            .iter()
            .find_map(|(suffix, way)| Some((written.strip_suffix(suffix)?, *way)));
        let (name, way) = suffix.unwrap_or((written, self.reading.direction));
        let shape = if way == Direction::In {
            Shape::Received
        } else {
            Shape::Sent
        };
        let (mut rules, mut names, mut closed) = (Vec::new(), Names::default(), false);
        let entries = field(acl, "aces")
            .and_then(|aces| field(aces, "ace"))
            .map_or(&[][..], list);
        for (at, ace) in entries.iter().enumerate() {
            let id = text_at(ace, "name").unwrap_or("unnamed").to_owned();
            let label = Label {
                id,
                at: (self.file, ace.span.start),
                comment: None,
            };
            let Some(action) = self.action(ace) else {
                continue;
            };
            let pieces = match field(ace, "matches") {
                None => vec![Condition::all()],
                Some(matches) => self.matches(matches, &label.id),
            };
            let whole = pieces.iter().any(|piece| *piece == Condition::all());
            closed |= whole;
            // A network ACL denies the rest by itself: what an export added to say so is not a rule.
            if whole && action == Action::Deny && label.id == REST && at + 1 == entries.len() {
                continue;
            }
            for condition in pieces.iter().filter(|piece| !piece.is_empty()) {
                let stated = Stated {
                    condition,
                    action,
                    label: &label,
                    stateless: false,
                };
                rules.extend(rule(&stated, shape, name, &mut names));
            }
        }
        if !closed {
            match self.reading.rest {
                None => self.open_ended.push(written.to_owned()),
                Some(Action::Allow) => {
                    let label = Label {
                        id: "no-entry-matches".to_owned(),
                        ..Label::default()
                    };
                    let condition = &Condition::all();
                    let stated = Stated {
                        condition,
                        action: Action::Allow,
                        label: &label,
                        stateless: false,
                    };
                    rules.extend(rule(&stated, shape, name, &mut names));
                }
                Some(_) => {}
            }
        }
        let known = self.acls.entry(name.to_owned()).or_default();
        let known = &mut known[usize::from(way == Direction::Out)];
        if known.is_empty() {
            *known = rules;
        } else {
            self.fail(
                acl,
                format!("a second list `{written}`"),
                "each ACL has a name of its own",
            );
        }
    }

    fn action(&mut self, ace: &Node<'_>) -> Option<Action> {
        let forwarding = field(ace, "actions").and_then(|actions| field(actions, "forwarding"));
        let found = match forwarding.and_then(text).map(bare) {
            Some("accept") => Action::Allow,
            Some("drop") => Action::Deny,
            Some("reject") => Action::Reject,
            _ => {
                let at = forwarding.unwrap_or(ace);
                self.fail(
                    at,
                    "an entry needs its forwarding action".to_owned(),
                    "accept, drop or reject, with or without the module before it",
                );
                return None;
            }
        };
        Some(found)
    }

    /// What an entry matches, as products.
    fn matches(&mut self, matches: &Node<'_>, id: &str) -> Vec<Condition> {
        let mut found = vec![Condition::all()];
        let mut unknown: BTreeSet<String> = BTreeSet::new();
        let crate::tree::Value::Map(fields) = &matches.value else {
            return found;
        };
        let family = fields
            .iter()
            .find_map(|(key, _)| match text(key).map(bare) {
                Some("ipv4") => Some(Family::V4),
                Some("ipv6") => Some(Family::V6),
                _ => None,
            });
        for (key, value) in fields {
            let name = text(key).map(bare).unwrap_or_default().to_owned();
            match name.as_str() {
                "ipv4" | "ipv6" => {
                    let family = if name == "ipv4" {
                        Family::V4
                    } else {
                        Family::V6
                    };
                    let piece = self.network(value, family, &name, &mut unknown);
                    found = found.iter().map(|one| one.and(&piece)).collect();
                }
                "tcp" | "udp" => {
                    let protocol = if name == "tcp" {
                        service::TCP
                    } else {
                        service::UDP
                    };
                    let pieces = self.transport(value, protocol, &name, &mut unknown);
                    found = found
                        .iter()
                        .flat_map(|one| pieces.iter().map(|piece| one.and(piece)))
                        .collect();
                }
                "icmp" => {
                    let piece = self.icmp(value, family, &mut unknown);
                    found = found.iter().map(|one| one.and(&piece)).collect();
                }
                other => {
                    unknown.insert(format!("`{other}`"));
                }
            }
        }
        for why in &unknown {
            let at = (self.file, matches.span.start);
            self.unclear.push(NotUnderstood {
                rule: id.to_owned(),
                why: why.clone(),
                at,
            });
        }
        for piece in &mut found {
            piece.unknown.extend(unknown.iter().cloned());
        }
        found
    }

    fn network(
        &mut self,
        node: &Node<'_>,
        family: Family,
        of: &str,
        unknown: &mut BTreeSet<String>,
    ) -> Condition {
        let mut found = Condition::of_family(family);
        let crate::tree::Value::Map(fields) = &node.value else {
            return found;
        };
        for (key, value) in fields {
            let name = text(key).map(bare).unwrap_or_default().to_owned();
            if let Some(side) = name.strip_suffix(&format!("-{of}-network")) {
                let block = text(value)
                    .and_then(|text| text.parse::<Block>().ok())
                    .filter(|block| block.range.family == family);
                let Some(block) = block else {
                    self.fail(
                        value,
                        format!("this is not a prefix of {family}"),
                        "write it as 10.64.0.0/12 or 2001:db8::/32",
                    );
                    continue;
                };
                let addresses: Addresses = [block.range].into_iter().collect();
                if side == "source" {
                    found.source = addresses;
                } else {
                    found.destination = addresses;
                }
            } else if name == "protocol" {
                match text(value).and_then(|text| text.parse::<u8>().ok()) {
                    Some(protocol) => {
                        found.services = found.services.intersection(&service::whole(protocol))
                    }
                    None => self.fail(
                        value,
                        "this is not a protocol".to_owned(),
                        "write a number from 0 to 255",
                    ),
                }
            } else {
                unknown.insert(format!("`{of}` `{name}`"));
            }
        }
        found
    }

    fn transport(
        &mut self,
        node: &Node<'_>,
        protocol: u8,
        of: &str,
        unknown: &mut BTreeSet<String>,
    ) -> Vec<Condition> {
        let mut found = vec![Condition::of_services(service::whole(protocol))];
        let crate::tree::Value::Map(fields) = &node.value else {
            return found;
        };
        for (key, value) in fields {
            let name = text(key).map(bare).unwrap_or_default().to_owned();
            let Some(ports) = (if matches!(name.as_str(), "source-port" | "destination-port") {
                Some(self.ports(value))
            } else {
                None
            }) else {
                unknown.insert(format!("`{of}` `{name}`"));
                continue;
            };
            let base = u128::from(service::code(protocol, 0));
            let piece = if name == "source-port" {
                Condition {
                    source_ports: ports,
                    ..Condition::all()
                }
            } else {
                let spans = ports
                    .spans()
                    .iter()
                    .map(|(first, last)| (base + first, base + last));
                Condition::of_services(Intervals::from_spans(spans))
            };
            found = found.iter().map(|one| one.and(&piece)).collect();
        }
        found
    }

    /// A range, or an operator with a port.
    fn ports(&mut self, node: &Node<'_>) -> Intervals {
        let port = |name: &str| {
            field(node, name)
                .and_then(text)
                .and_then(|text| text.parse::<u16>().ok())
                .map(u128::from)
        };
        let last = u128::from(u16::MAX);
        let found = match (
            text_at(node, "operator").map(bare),
            port("port"),
            port("lower-port"),
            port("upper-port"),
        ) {
            (Some("eq") | None, Some(port), None, None) => Some((port, port)),
            (Some("lte"), Some(port), None, None) => Some((0, port)),
            (Some("gte"), Some(port), None, None) => Some((port, last)),
            (Some("neq"), Some(port), None, None) => {
                return all_ports().difference(&Intervals::span(port, port));
            }
            (None, None, Some(first), upper) => {
                Some((first, upper.unwrap_or(first))).filter(|(first, last)| first <= last)
            }
            _ => None,
        };
        let Some((first, last)) = found else {
            let help =
                "give `lower-port` and `upper-port`, or `operator` (lte, gte, eq, neq) with `port`";
            self.fail(node, "these are not ports".to_owned(), help);
            return all_ports();
        };
        Intervals::span(first, last)
    }

    /// ICMP of the entry's family; of an entry without one, of both.
    fn icmp(
        &mut self,
        node: &Node<'_>,
        family: Option<Family>,
        unknown: &mut BTreeSet<String>,
    ) -> Condition {
        let number = |name: &str| {
            field(node, name)
                .and_then(text)
                .and_then(|text| text.parse::<u8>().ok())
        };
        let crate::tree::Value::Map(fields) = &node.value else {
            return Condition::all();
        };
        for (key, _) in fields {
            let name = text(key).map(bare).unwrap_or_default();
            if !matches!(name, "type" | "code") {
                unknown.insert(format!("`icmp` `{name}`"));
            }
        }
        let (kind, code) = (number("type"), number("code"));
        if code.is_some() && kind.is_none() {
            self.fail(
                node,
                "an ICMP code needs its type".to_owned(),
                "give `type` too",
            );
        }
        let protocols = [(Family::V4, service::ICMP), (Family::V6, service::ICMPV6)];
        let protocols = protocols
            .into_iter()
            .filter(|(own, _)| family.is_none_or(|family| family == *own));
        let services = protocols.fold(Intervals::empty(), |sum, (_, protocol)| {
            let base = u128::from(service::code(protocol, 0));
            let spans = match (kind.map(u128::from), code.map(u128::from)) {
                (None, _) => service::whole(protocol),
                (Some(kind), None) => Intervals::span(base + kind * 256, base + kind * 256 + 255),
                (Some(kind), Some(code)) => {
                    Intervals::span(base + kind * 256 + code, base + kind * 256 + code)
                }
            };
            sum.union(&spans)
        });
        Condition::of_services(services)
    }
}

/// Makes network ACLs of access control lists.
///
/// # Errors
/// If a file cannot be used, or a list does not say what happens to the rest and nobody did: all that is wrong.
pub fn read_acls(files: Vec<(String, String)>, reading: &AclReading) -> Result<Part, LoadError> {
    let sources: Vec<SourceFile> = files
        .iter()
        .map(|(name, text)| SourceFile::new(name, text.as_bytes()))
        .collect();
    let mut reader = Reader {
        file: 0,
        reading,
        problems: Vec::new(),
        unclear: Vec::new(),
        acls: BTreeMap::new(),
        remarks: Vec::new(),
        open_ended: Vec::new(),
    };
    for (file, (_, text)) in files.iter().enumerate() {
        reader.file = file;
        match json::whole(FileId(u32::try_from(file).unwrap_or(u32::MAX)), text) {
            Ok(root) => reader.document(&root),
            Err(problem) => reader.problems.push(problem),
        }
    }
    if !reader.open_ended.is_empty() {
        let title = format!(
            "the action without a matching entry is not given: {}",
            reader.open_ended.join(", ")
        );
        let help = "RFC 8519 leaves it to the device; add --rest deny or --rest allow".to_owned();
        let span = span(FileId(0), 0, 1);
        reader.problems.push(Problem {
            title,
            span,
            label: String::new(),
            related: None,
            help: Some(help),
        });
    }
    if !reader.problems.is_empty() {
        let texts = files
            .into_iter()
            .map(|(name, text)| SourceText { name, text })
            .collect();
        return Err(LoadError::Input {
            problems: reader.problems,
            texts,
        });
    }
    let mut part = Part::default();
    for (name, [inbound, outbound]) in reader.acls {
        part.read.rules += inbound.len() + outbound.len();
        let item = json!({ "id": name, "inbound": inbound, "outbound": outbound });
        part.put("network_acls", item);
        put_unknown_sets(&mut part, &name);
    }
    part.read.unclear = placed(reader.unclear, &sources);
    part.read.remarks = reader.remarks;
    part.read.files = files.into_iter().map(|(name, _)| name).collect();
    Ok(part)
}
