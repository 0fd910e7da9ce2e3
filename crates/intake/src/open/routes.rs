//! Static routes of RFC 8349 in JSON (RFC 7951), as a route table.

use super::part::Part;
use crate::files::{LoadError, SourceText};
use crate::json;
use crate::tree::{Node, get, list, text, text_at};
use heronshale_model::estate::Estate;
use heronshale_model::source::{FileId, Problem};
use heronshale_sets::address::Block;
use serde_json::{Value as Json, json};
use std::net::IpAddr;

/// A field with or without the module before its name.
fn field<'n>(node: &'n Node<'n>, name: &str) -> Option<&'n Node<'n>> {
    let crate::tree::Value::Map(fields) = &node.value else {
        return None;
    };
    let named = |key: &Node<'_>| text(key).is_some_and(|key| key.rsplit(':').next() == Some(name));
    get(node, name).or_else(|| {
        fields
            .iter()
            .find(|(key, _)| named(key))
            .map(|(_, value)| value)
    })
}

struct Reader<'e> {
    beside: Option<&'e Estate>,
    problems: Vec<Problem>,
    routes: Vec<Json>,
    part: Part,
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
        let protocols = field(root, "routing")
            .and_then(|routing| field(routing, "control-plane-protocols"))
            .and_then(|all| field(all, "control-plane-protocol"));
        let Some(protocols) = protocols else {
            let help = "give data of RFC 8349 in JSON: ietf-routing:routing, control-plane-protocols, control-plane-protocol";
            return self.fail(root, "it has no control-plane protocols".to_owned(), help);
        };
        for protocol in list(protocols) {
            let name = text_at(protocol, "name").unwrap_or("static").to_owned();
            let Some(routes) = field(protocol, "static-routes") else {
                self.part.read.remarks.push(format!(
                    "{name} learns its routes from elsewhere: they are not in the file"
                ));
                continue;
            };
            for family in ["ipv4", "ipv6"] {
                let all = field(routes, family).and_then(|family| field(family, "route"));
                for route in all.map_or(&[][..], list) {
                    self.route(route, &name);
                }
            }
        }
    }

    fn route(&mut self, route: &Node<'_>, of: &str) {
        let to = field(route, "destination-prefix")
            .and_then(text)
            .and_then(|text| text.parse::<Block>().ok());
        let Some(to) = to else {
            return self.fail(
                route,
                "a route needs its `destination-prefix`".to_owned(),
                "write it as 10.64.0.0/12 or 2001:db8::/32",
            );
        };
        self.part.read.rules += 1;
        let Some(hop) = field(route, "next-hop") else {
            return self.fail(
                route,
                "a route needs its `next-hop`".to_owned(),
                "an address, an interface, a special one, or a list",
            );
        };
        let hops = field(hop, "next-hop-list")
            .and_then(|all| field(all, "next-hop"))
            .map_or(std::slice::from_ref(hop), list);
        for hop in hops {
            let Some(next) = self.next_hop(hop) else {
                continue;
            };
            let id = format!("{of}-{}", self.routes.len() + 1);
            let mut item = json!({ "id": id, "to": to.range.to_string(), "next_hop": next });
            if let Some(words) = field(route, "description").and_then(text) {
                item["description"] = words.into();
            }
            self.routes.push(item);
        }
    }

    fn next_hop(&mut self, hop: &Node<'_>) -> Option<String> {
        if let Some(address) = field(hop, "next-hop-address").and_then(text) {
            if address.parse::<IpAddr>().is_err() {
                self.fail(
                    hop,
                    format!("`{address}` is not an address"),
                    "write 10.64.0.1 or 2001:db8::1",
                );
                return None;
            }
            return Some(address.to_owned());
        }
        if let Some(special) = field(hop, "special-next-hop").and_then(text) {
            return match special.rsplit(':').next() {
                Some("blackhole" | "unreachable" | "prohibit") => Some("blackhole".to_owned()),
                Some("receive") => Some("local".to_owned()),
                _ => {
                    self.fail(
                        hop,
                        format!("`{special}` is not a special next hop"),
                        "blackhole, unreachable, prohibit or receive",
                    );
                    None
                }
            };
        }
        let Some(name) = field(hop, "outgoing-interface").and_then(text) else {
            self.fail(
                hop,
                "a next hop says where".to_owned(),
                "next-hop-address, outgoing-interface or special-next-hop",
            );
            return None;
        };
        if self
            .beside
            .is_none_or(|estate| estate.interfaces.find(name).is_none())
        {
            let words = format!(
                "{name} is not an interface of the snapshot: what its route takes is lost, and a finding says so"
            );
            self.part.read.remarks.push(words);
        }
        Some(format!("interface:{name}"))
    }
}

/// Makes a route table of static routes, for a network of the estate beside, or for one of its own.
///
/// # Errors
/// If a file cannot be used: all that is wrong.
pub fn read_routes(
    files: Vec<(String, String)>,
    table: &str,
    network: &str,
    beside: Option<&Estate>,
) -> Result<Part, LoadError> {
    let mut reader = Reader {
        beside,
        problems: Vec::new(),
        routes: Vec::new(),
        part: Part::default(),
    };
    for (file, (_, text)) in files.iter().enumerate() {
        match json::whole(FileId(u32::try_from(file).unwrap_or(u32::MAX)), text) {
            Ok(root) => reader.document(&root),
            Err(problem) => reader.problems.push(problem),
        }
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
    let Reader {
        mut part, routes, ..
    } = reader;
    if beside.is_none() {
        part.put("networks", json!({ "id": network }));
    }
    part.put(
        "route_tables",
        json!({ "id": table, "network": network, "routes": routes }),
    );
    part.read.files = files.into_iter().map(|(name, _)| name).collect();
    Ok(part)
}
