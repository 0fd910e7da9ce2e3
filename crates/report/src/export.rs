//! Other formats: access control lists of RFC 8519, and sheets as CSV (RFC 4180).

use crate::harmless::harmless_text;
use crate::page::{Look, Page, plural};
use anstyle::Style;
use heronshale_answers::{
    Answer, ExportAnswer, PlainAcl, PlainEntry, PlainHop, PlainRoute, PlainTraffic, Sheet,
};
use heronshale_model::estate::{Action, Direction};
use heronshale_sets::address::Family;
use heronshale_sets::packet::service;
use serde_json::{Map, Value, json};

/// A cell in which everything is visible, and that no spreadsheet takes for a formula.
pub(crate) fn cell(text: &str) -> String {
    let text = harmless_text(text);
    if text.starts_with(['=', '+', '-', '@']) {
        format!("'{text}")
    } else {
        text
    }
}

/// A table as CSV (RFC 4180).
pub(crate) fn csv_of<'c>(rows: impl Iterator<Item = Vec<&'c str>>) -> String {
    let mut writer = csv::WriterBuilder::new()
        .terminator(csv::Terminator::CRLF)
        .from_writer(Vec::new());
    for row in rows {
        writer
            .write_record(row.into_iter().map(cell))
            .expect("a list in memory takes every record");
    }
    let bytes = writer
        .into_inner()
        .expect("a list in memory takes every record");
    String::from_utf8(bytes).expect("cells are text")
}

/// A sheet as CSV (RFC 4180); `headers` are those that are written in place of a column's own name.
pub fn sheet_csv(sheet: &Sheet, headers: &[(String, String)]) -> String {
    let rows = sheet
        .rows
        .iter()
        .map(|row| row.iter().map(String::as_str).collect());
    let header = |column: &&'static str| {
        headers
            .iter()
            .find(|(_, name)| name == column)
            .map_or(*column, |(header, _)| header.as_str())
    };
    csv_of(std::iter::once(sheet.columns.iter().map(header).collect()).chain(rows))
}

/// The longest name that RFC 8519 has room for.
const LONGEST: usize = 64;

/// Names of at most so many characters, each once.
#[derive(Default)]
struct Names(std::collections::BTreeSet<String>);

impl Names {
    fn of(&mut self, wanted: &str, end: &str) -> String {
        let short = |room: usize| wanted.chars().take(room).collect::<String>();
        let mut found = short(LONGEST - end.len()) + end;
        let mut number = 1;
        while !self.0.insert(found.clone()) {
            number += 1;
            let end = format!(".{number}{end}");
            found = short(LONGEST - end.len()) + &end;
        }
        found
    }
}

fn ports(range: Option<(u16, u16)>) -> Option<Value> {
    let (first, last) = range?;
    Some(json!({ "lower-port": first, "upper-port": last }))
}

fn matches(entry: &PlainEntry) -> Value {
    let mut found = Map::new();
    let mut network = Map::new();
    if let Some(family) = entry.family {
        let (word, all) = if family == Family::V4 {
            ("ipv4", "0.0.0.0/0")
        } else {
            ("ipv6", "::/0")
        };
        for (side, prefix) in [
            ("source", &entry.source),
            ("destination", &entry.destination),
        ] {
            if let Some(prefix) = prefix {
                network.insert(format!("{side}-{word}-network"), prefix.as_str().into());
            }
        }
        match &entry.traffic {
            PlainTraffic::Protocol(protocol) => {
                network.insert("protocol".to_owned(), (*protocol).into());
            }
            PlainTraffic::Icmp(..) => {
                let protocol = if family == Family::V4 {
                    service::ICMP
                } else {
                    service::ICMPV6
                };
                network.insert("protocol".to_owned(), protocol.into());
            }
            _ if network.is_empty() => {
                network.insert(format!("source-{word}-network"), all.into());
            }
            _ => {}
        }
        found.insert(word.to_owned(), Value::Object(network));
    }
    match &entry.traffic {
        PlainTraffic::All | PlainTraffic::Protocol(_) => {}
        PlainTraffic::Ports(protocol, to, from) => {
            let mut inside = Map::new();
            for (name, range) in [("source-port", from), ("destination-port", to)] {
                if let Some(ports) = ports(*range) {
                    inside.insert(name.to_owned(), ports);
                }
            }
            // Of the protocol alone an empty container says nothing to every reader: all ports say the same.
            if inside.is_empty() {
                inside.insert(
                    "destination-port".to_owned(),
                    json!({ "lower-port": 0, "upper-port": u16::MAX }),
                );
            }
            let word = if *protocol == service::TCP {
                "tcp"
            } else {
                "udp"
            };
            found.insert(word.to_owned(), Value::Object(inside));
        }
        PlainTraffic::Icmp(kind, code) => {
            let mut inside = Map::new();
            inside.insert("type".to_owned(), (*kind).into());
            if let Some(code) = code {
                inside.insert("code".to_owned(), (*code).into());
            }
            found.insert("icmp".to_owned(), Value::Object(inside));
        }
    }
    Value::Object(found)
}

/// The routes of a table as static routes of RFC 8349 in JSON (RFC 7951).
pub fn routes_json(table: &str, routes: &[PlainRoute]) -> String {
    let hop = |hop: &PlainHop| match hop {
        PlainHop::Address(address) => json!({ "next-hop-address": address.to_string() }),
        PlainHop::Interface(name) => json!({ "outgoing-interface": harmless_text(name) }),
        PlainHop::Blackhole => json!({ "special-next-hop": "blackhole" }),
        PlainHop::Receive => json!({ "special-next-hop": "receive" }),
    };
    let route = |route: &PlainRoute| {
        let next = match route.hops.as_slice() {
            [one] => hop(one),
            several => {
                let numbered = several.iter().enumerate().map(|(at, one)| {
                    let mut one = hop(one);
                    one["index"] = (at + 1).to_string().into();
                    one
                });
                json!({ "next-hop-list": { "next-hop": numbered.collect::<Vec<_>>() } })
            }
        };
        json!({ "destination-prefix": route.to, "next-hop": next })
    };
    let mut families = Map::new();
    for (family, word) in [(Family::V4, "ipv4"), (Family::V6, "ipv6")] {
        let all: Vec<Value> = routes
            .iter()
            .filter(|one| one.family == family)
            .map(route)
            .collect();
        if !all.is_empty() {
            families.insert(
                format!("ietf-{word}-unicast-routing:{word}"),
                json!({ "route": all }),
            );
        }
    }
    let protocol = json!({ "type": "ietf-routing:static", "name": harmless_text(table), "static-routes": families });
    let whole = json!({ "ietf-routing:routing": { "control-plane-protocols": { "control-plane-protocol": [protocol] } } });
    let mut text = serde_json::to_string_pretty(&whole).expect("a value is JSON");
    text.push('\n');
    text
}

/// Network ACLs as access control lists of RFC 8519 in JSON (RFC 7951). Each ends with an entry that drops the rest, since the RFC
/// leaves to the device what happens to it.
pub fn acl_json(acls: &[PlainAcl]) -> String {
    let action = |action: Action| {
        let word = match action {
            Action::Allow | Action::AllowFinally | Action::Defer => "accept",
            Action::Deny => "drop",
            Action::Reject => "reject",
        };
        json!({ "forwarding": format!("ietf-access-control-list:{word}") })
    };
    let mut lists = Names::default();
    let acl = |acl: &PlainAcl| {
        let end = if acl.direction == Direction::In {
            ":inbound"
        } else {
            ":outbound"
        };
        let (mut four, mut six) = (true, true);
        let mut names = Names::default();
        let mut entries: Vec<Value> = Vec::new();
        for entry in &acl.entries {
            four &= entry.family == Some(Family::V4);
            six &= entry.family == Some(Family::V6);
            let mut ace = json!({ "name": names.of(&harmless_text(&entry.rule), "") });
            let found = matches(entry);
            if found.as_object().is_some_and(|found| !found.is_empty()) {
                ace["matches"] = found;
            }
            ace["actions"] = action(entry.action);
            entries.push(ace);
        }
        entries.push(json!({ "name": names.of("rest", ""), "actions": action(Action::Deny) }));
        // The type names the families of its entries; a mixed one is Ethernet's too.
        let kind = match (four, six) {
            _ if acl.entries.is_empty() => "mixed-eth-ipv4-ipv6-acl-type",
            (true, _) => "ipv4-acl-type",
            (_, true) => "ipv6-acl-type",
            _ => "mixed-eth-ipv4-ipv6-acl-type",
        };
        json!({
            "name": lists.of(&harmless_text(&acl.name), end),
            "type": format!("ietf-access-control-list:{kind}"),
            "aces": { "ace": entries },
        })
    };
    let lists: Vec<Value> = acls.iter().map(acl).collect();
    let whole = json!({ "ietf-access-control-list:acls": { "acl": lists } });
    let mut text = serde_json::to_string_pretty(&whole).expect("a value is JSON");
    text.push('\n');
    text
}

/// What was exported, and what not, as text.
pub fn exported(answer: &Answer<ExportAnswer>, look: Look) -> String {
    let Answer {
        heading, answer, ..
    } = answer;
    let mut page = Page::new(look);
    let holds: Vec<String> = answer
        .holds
        .iter()
        .map(|one| plural(one.count, one.what.strip_suffix('s').unwrap_or(&one.what)))
        .collect();
    let rest = match (answer.incomplete, answer.left_out.len()) {
        (true, _) => "something that belongs there is left out",
        (false, 0) => "it holds all there is",
        (false, _) => "the format cannot hold the rest of the estate",
    };
    page.top(
        &format!("{} holds {}; {rest}.", answer.written, holds.join(", ")),
        heading,
    );
    if !answer.left_out.is_empty() {
        page.heading(&format!("NOT INCLUDED ({})", answer.left_out.len()));
        let longest = answer
            .left_out
            .iter()
            .map(|one| one.what.chars().count())
            .max()
            .unwrap_or(0)
            .min(44);
        for one in &answer.left_out {
            page.hang(
                Style::new(),
                &format!("  {:<longest$}  ", one.what),
                &one.why,
                longest + 4,
            );
        }
    }
    page.finish()
}
