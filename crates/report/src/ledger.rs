//! The ledger of an estate's public addresses: one row for each address, family, way in and port range, closed ones too.

use crate::export::csv_of;
use crate::page::{Look, OPEN, Page, SHUT, STRONG, plural};
use crate::text::closing_text;
use anstyle::Style;
use heronshale_answers::{Answer, ExposureAnswer};
use heronshale_audit::facts::PathTraffic;
use heronshale_audit::facts::{Decider, Meaning, OpenFact, WalkedFact, WayFact, WayKind};
use heronshale_model::severity::Severity;
use heronshale_sets::address::Family;

/// A row in words.
struct Row {
    address: String,
    family: String,
    way: String,
    holder: String,
    network: String,
    owner: String,
    state: &'static str,
    severity: String,
    meaning: String,
    services: String,
    sources: String,
    because: String,
    place: String,
}

const COLUMNS: [&str; 13] = [
    "address", "family", "way_in", "holder", "network", "owner", "state", "severity", "meaning",
    "services", "sources", "because", "place",
];

fn meaning(of: Option<Meaning>) -> String {
    of.map_or_else(String::new, |meaning| meaning.word().to_owned())
}

fn severity(of: Option<Severity>) -> String {
    of.map_or_else(String::new, |severity| severity.word().to_owned())
}

fn direct(way: &WayFact) -> Vec<Row> {
    let fact = &way.interface;
    let row = |state, services: String, sources: String, meaning, because: String| Row {
        address: way.address.clone(),
        family: way.family.to_string(),
        way: match way.way {
            WayKind::PublicAddress => format!("public address → {}", way.own),
            WayKind::GlobalIpv6 => "global IPv6".to_owned(),
        },
        holder: fact.name.clone(),
        network: fact.network.clone(),
        owner: fact.owner.clone().unwrap_or_default(),
        state,
        severity: if state == "open" {
            severity(way.severity)
        } else {
            String::new()
        },
        meaning,
        services,
        sources,
        because,
        place: fact.place.to_string(),
    };
    let by = |open: &OpenFact| {
        let rules = open
            .decided
            .iter()
            .filter_map(|decided| match &decided.decider {
                Decider::Rule { rule } => {
                    Some(format!("{} {} ({})", rule.filter, rule.rule, rule.place))
                }
                _ => None,
            });
        let rules: Vec<String> = rules.collect();
        if rules.is_empty() {
            "no rule at all".to_owned()
        } else {
            rules.join(" · ")
        }
    };
    let from = |open: &OpenFact| {
        let ports = open
            .client_ports
            .as_ref()
            .map_or_else(String::new, |ports| format!(", client ports {ports}"));
        format!("{}{ports}", open.sources.said)
    };
    let open = |state| {
        move |one: &OpenFact| {
            row(
                state,
                one.services.join(", "),
                from(one),
                meaning(one.meaning),
                by(one),
            )
        }
    };
    let mut rows: Vec<Row> = way.open.iter().map(open("open")).collect();
    rows.extend(way.unknown.iter().map(open("unknown")));
    rows.extend(way.closed.iter().map(|one| {
        let because = closing_text(&one.closing);
        let rest = if one.rest { " (the rest)" } else { "" };
        row(
            "closed",
            format!("{}{rest}", one.services.join(", ")),
            one.sources.said.clone(),
            String::new(),
            because,
        )
    }));
    rows
}

fn by_devices(exposure: &ExposureAnswer) -> Vec<Row> {
    let mut rows = Vec::new();
    for way in &exposure.by_devices {
        let mut add = |state: &'static str, part: &WalkedFact, one: &PathTraffic| {
            let last = part
                .steps
                .last()
                .map(|step| format!("{}, {}", step.at, step.why))
                .unwrap_or_default();
            let rules: Vec<String> = part
                .rules
                .iter()
                .map(|rule| format!("{} {} ({})", rule.filter, rule.rule, rule.place))
                .collect();
            let rules = if rules.is_empty() {
                "no rule at all".to_owned()
            } else {
                rules.join(" · ")
            };
            rows.push(Row {
                address: way.addresses.join(" "),
                family: if way.addresses.iter().any(|text| text.contains(':')) {
                    Family::V6
                } else {
                    Family::V4
                }
                .to_string(),
                way: way.kind.word().to_owned(),
                holder: if part.ends.is_empty() {
                    way.name.clone()
                } else {
                    format!("{} → {}", way.name, part.ends.join(" "))
                },
                network: way.network.clone().unwrap_or_default(),
                owner: way.owner.clone().unwrap_or_default(),
                state,
                severity: if state == "open" {
                    severity(way.severity)
                } else {
                    String::new()
                },
                meaning: meaning(part.meaning),
                services: one.services.join(", "),
                sources: one.sources.said.clone(),
                because: if state == "open" { rules } else { last },
                place: way.place.to_string(),
            });
        };
        for (state, parts) in [
            ("open", &way.open),
            ("unknown", &way.unknown),
            ("closed", &way.closed),
        ] {
            for part in parts {
                part.traffic.iter().for_each(|one| add(state, part, one));
            }
        }
    }
    rows
}

fn rows(exposure: &ExposureAnswer) -> Vec<Row> {
    let mut rows: Vec<Row> = exposure.ways.iter().flat_map(direct).collect();
    rows.extend(by_devices(exposure));
    rows.extend(exposure.held_by_nothing.iter().map(|address| {
        Row {
            address: address.clone(),
            family: if address.contains(':') {
                Family::V6
            } else {
                Family::V4
            }
            .to_string(),
            way: "public address".to_owned(),
            holder: "nobody".to_owned(),
            network: String::new(),
            owner: String::new(),
            state: "held by nothing",
            severity: String::new(),
            meaning: String::new(),
            services: String::new(),
            sources: String::new(),
            because: String::new(),
            place: String::new(),
        }
    }));
    rows.extend(exposure.closed_addresses.iter().map(|one| {
        Row {
            address: one.address.clone(),
            family: if one.address.contains(':') {
                Family::V6
            } else {
                Family::V4
            }
            .to_string(),
            way: "NAT gateway".to_owned(),
            holder: one.holder.clone(),
            network: one.network.clone(),
            owner: one.owner.clone().unwrap_or_default(),
            state: "closed",
            severity: String::new(),
            meaning: String::new(),
            services: "any".to_owned(),
            sources: "anywhere".to_owned(),
            because: one.because.clone(),
            place: one.place.to_string(),
        }
    }));
    // By address, as people look it up; what is open first.
    let order = |row: &Row| {
        let first = row.address.split([' ', '-', '/']).next().unwrap_or("");
        (
            first.parse::<std::net::IpAddr>().ok(),
            row.way.clone(),
            ["open", "unknown", "closed"]
                .iter()
                .position(|s| *s == row.state),
        )
    };
    rows.sort_by_key(order);
    rows
}

/// The ledger as a table.
pub fn ledger(answer: &Answer<ExposureAnswer>, look: Look) -> String {
    let Answer {
        heading,
        answer: exposure,
        ..
    } = answer;
    let mut page = Page::new(look);
    let rows = rows(exposure);
    let open = rows.iter().filter(|row| row.state == "open").count();
    let mut addresses: Vec<&str> = rows.iter().map(|row| row.address.as_str()).collect();
    addresses.dedup();
    let sentence = format!(
        "{open} of {} of {} are open.",
        plural(rows.len(), "row"),
        plural(addresses.len(), "public address")
    );
    page.top(&sentence, heading);
    // What is said of one address and way in stands together.
    let mut before: Option<(&str, &str)> = None;
    for row in &rows {
        let here = (row.address.as_str(), row.way.as_str());
        if before != Some(here) {
            page.blank();
            let parts = [row.way.as_str(), &row.network, &row.owner];
            let parts: Vec<&str> = parts.into_iter().filter(|part| !part.is_empty()).collect();
            let place = if row.place.is_empty() {
                String::new()
            } else {
                format!("  {}", row.place)
            };
            page.hang(
                STRONG,
                "",
                &format!(
                    "{}  {}  {}{place}",
                    row.address,
                    row.holder,
                    parts.join(" · ")
                ),
                4,
            );
            before = Some(here);
        }
        let style = match row.state {
            "open" => OPEN,
            "unknown" => STRONG,
            _ => SHUT,
        };
        let judged: Vec<&str> = [row.severity.as_str(), &row.meaning]
            .into_iter()
            .filter(|word| !word.is_empty())
            .collect();
        let judged = if judged.is_empty() {
            String::new()
        } else {
            format!("{}: ", judged.join(", "))
        };
        let what = match (row.services.is_empty(), row.because.is_empty()) {
            (true, _) => String::new(),
            (false, true) => format!("{judged}{} from {}", row.services, row.sources),
            (false, false) => format!(
                "{judged}{} from {} — {}",
                row.services, row.sources, row.because
            ),
        };
        page.hang_behind(
            style,
            &format!("  {:<9}", row.state),
            Style::new(),
            &what,
            11,
        );
    }
    page.foot(heading);
    page.finish()
}

/// The ledger as CSV (RFC 4180).
pub fn ledger_csv(answer: &Answer<ExposureAnswer>) -> String {
    let exposure = &answer.answer;
    let rows = rows(exposure);
    let cells = rows.iter().map(|row| {
        let texts = [
            &row.address,
            &row.family,
            &row.way,
            &row.holder,
            &row.network,
            &row.owner,
            row.state,
            &row.severity,
            &row.meaning,
            &row.services,
            &row.sources,
            &row.because,
            &row.place,
        ];
        texts.to_vec()
    });
    csv_of(std::iter::once(COLUMNS.to_vec()).chain(cells))
}
