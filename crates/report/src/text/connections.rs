//! Many connections: those that are not as expected first, a row each.

use super::at;
use super::path::verdict_text;
use crate::export::csv_of;
use crate::page::{Look, OPEN, Page, SHUT, plural};
use heronshale_answers::{Answer, ConnectionFact, ConnectionsAnswer};
use heronshale_audit::facts::StepFact;

/// Connections as text.
pub fn connections(answer: &Answer<ConnectionsAnswer>, look: Look) -> String {
    let Answer {
        heading,
        answer: found,
        ..
    } = answer;
    let mut page = Page::new(look);
    page.top(&sentence(found), heading);
    let (met, other): (Vec<&ConnectionFact>, Vec<&ConnectionFact>) =
        found.connections.iter().partition(|one| one.as_expected);
    for (title, style, all) in [("NOT AS EXPECTED", SHUT, other), ("AS EXPECTED", OPEN, met)] {
        if all.is_empty() {
            continue;
        }
        page.blank();
        let line = page.styled(style, &format!("{title} ({})", all.len()));
        page.raw(&line);
        let rows: Vec<Vec<String>> = all.into_iter().map(row).collect();
        let header = ["line", "connection", "result", "expected", "decided by"];
        page.table(&header, &rows, &[0]);
    }
    page.foot(heading);
    page.finish()
}

fn sentence(found: &ConnectionsAnswer) -> String {
    let all = found.connections.len();
    let other: Vec<&ConnectionFact> = found
        .connections
        .iter()
        .filter(|one| !one.as_expected)
        .collect();
    match other.as_slice() {
        [] if all == 1 => "The connection is as expected.".to_owned(),
        [] => format!("All {} are as expected.", plural(all, "connection")),
        [one] => format!(
            "1 of {} is not as expected: {} (line {}).",
            plural(all, "connection"),
            what(one),
            one.line
        ),
        [first, ..] => format!(
            "{} of {} are not as expected, first {} (line {}).",
            other.len(),
            plural(all, "connection"),
            what(first),
            first.line
        ),
    }
}

fn what(one: &ConnectionFact) -> String {
    one.name.clone().unwrap_or_else(|| connection(one))
}

fn connection(one: &ConnectionFact) -> String {
    let traffic = one.traffic.as_ref();
    let traffic = traffic.map_or_else(String::new, |traffic| format!(" {traffic}"));
    format!("{} → {}{traffic}", one.from, one.to)
}

fn row(one: &ConnectionFact) -> Vec<String> {
    let name = one.name.as_ref();
    let name = name.map_or_else(String::new, |name| format!("{name}: "));
    vec![
        one.line.to_string(),
        format!("{name}{}", connection(one)),
        verdict_text(one.verdict).to_owned(),
        one.expected.clone(),
        decided_by(one),
    ]
}

fn decided_by(one: &ConnectionFact) -> String {
    let conditions: Vec<&str> = one
        .conditions
        .iter()
        .chain(&one.only_if)
        .map(String::as_str)
        .collect();
    if !conditions.is_empty() {
        return format!("if {}", conditions.join(", and if "));
    }
    one.because.as_ref().map_or_else(String::new, step_text)
}

fn step_text(step: &StepFact) -> String {
    let place = step.place.as_ref();
    let place = place.map_or_else(String::new, |place| format!("  {}", at(place)));
    format!("{}: {}{place}", step.at, step.why)
}

/// Connections as CSV (RFC 4180): the columns of the list, with result and cause.
pub fn connections_csv(answer: &Answer<ConnectionsAnswer>) -> String {
    let header = [
        "line",
        "name",
        "from",
        "to",
        "traffic",
        "expected",
        "result",
        "as_expected",
        "decided_by",
    ];
    let header = header.map(str::to_owned).to_vec();
    let rows = answer.answer.connections.iter().map(|one| {
        vec![
            one.line.to_string(),
            one.name.clone().unwrap_or_default(),
            one.from.clone(),
            one.to.clone(),
            one.traffic.clone().unwrap_or_default(),
            one.expected.clone(),
            verdict_text(one.verdict).to_owned(),
            if one.as_expected { "yes" } else { "no" }.to_owned(),
            decided_by(one),
        ]
    });
    let rows: Vec<Vec<String>> = std::iter::once(header).chain(rows).collect();
    let rows = rows.iter();
    csv_of(rows.map(|row| row.iter().map(String::as_str).collect()))
}
