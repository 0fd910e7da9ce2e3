//! A row for each opening: who, by which address, what, by which rules, and whether somebody wanted it.

use super::super::{at, decided_text};
use crate::page::{OPEN, Page, SHUT, STRONG, plural};
use anstyle::Style;
use heronshale_answers::ExposureAnswer;
use heronshale_audit::facts::{
    ClosedFact, Closing, Decider, DeviceWayFact, Meaning, OpenFact, PathTraffic, SpokenFact,
    WalkedFact, WayFact,
};
use heronshale_model::severity::Severity;

/// Closed ways before the rest is counted.
const CLOSED: usize = 6;

/// One opening, or several that are alike but for the address.
struct Opening {
    severity: Option<Severity>,
    names: Vec<String>,
    addresses: Vec<String>,
    what: String,
    by: String,
    wanted: String,
}

/// Openings, what is unknown, what is closed.
pub(super) fn rows(page: &mut Page, exposure: &ExposureAnswer) {
    let mut open: Vec<Opening> = Vec::new();
    for way in exposure.ways.iter().filter(|way| !way.open.is_empty()) {
        add(&mut open, of_way(way, &way.open));
    }
    for way in exposure
        .by_devices
        .iter()
        .filter(|way| !way.open.is_empty())
    {
        add(&mut open, of_device(way, &way.open));
    }
    open.sort_by_key(|one| std::cmp::Reverse(one.severity));
    table(page, "OPEN", OPEN, &open);
    let mut unknown: Vec<Opening> = Vec::new();
    let closed = |way: &&WayFact| way.open.is_empty() && !way.unknown.is_empty();
    for way in exposure.ways.iter().filter(closed) {
        add(&mut unknown, of_way(way, &way.unknown));
    }
    let closed = |way: &&DeviceWayFact| way.open.is_empty() && !way.unknown.is_empty();
    for way in exposure.by_devices.iter().filter(closed) {
        add(&mut unknown, of_device(way, &way.unknown));
    }
    table(page, "UNKNOWN", STRONG, &unknown);
    shut(page, exposure);
}

fn add(all: &mut Vec<Opening>, new: Opening) {
    let alike = |one: &&mut Opening| {
        (one.severity, &one.what, &one.by, &one.wanted)
            == (new.severity, &new.what, &new.by, &new.wanted)
    };
    let Some(known) = all.iter_mut().find(alike) else {
        all.push(new);
        return;
    };
    for name in new.names {
        if !known.names.contains(&name) {
            known.names.push(name);
        }
    }
    known.addresses.extend(new.addresses);
}

fn of_way(way: &WayFact, parts: &[OpenFact]) -> Opening {
    Opening {
        severity: way.severity,
        names: vec![way.interface.name.clone()],
        addresses: vec![way.address.clone()],
        what: joined(parts.iter().map(open_text)),
        by: joined(parts.iter().map(rules_text)),
        wanted: wanted(way.spoken.as_ref()),
    }
}

fn of_device(way: &DeviceWayFact, parts: &[WalkedFact]) -> Opening {
    let what = parts.iter().map(|part| {
        let turns = if part.conditions.is_empty() && part.only_if.is_empty() {
            ""
        } else {
            " (sometimes)"
        };
        format!("{}{turns}", joined(part.traffic.iter().map(sent_text)))
    });
    let rules = parts.iter().flat_map(|part| &part.rules);
    let by = joined(rules.map(|rule| format!("{} {}", rule.rule, at(&rule.place))));
    let unfiltered = by.is_empty();
    Opening {
        severity: way.severity,
        names: vec![format!("{} {}", way.kind.word(), way.name)],
        addresses: way.addresses.clone(),
        what: joined(what),
        by: if unfiltered { "no rule".to_owned() } else { by },
        wanted: wanted(way.spoken.as_ref()),
    }
}

/// Texts, each once.
fn joined(texts: impl Iterator<Item = String>) -> String {
    let mut all: Vec<String> = Vec::new();
    for text in texts.filter(|text| !text.is_empty()) {
        if !all.contains(&text) {
            all.push(text);
        }
    }
    all.join("; ")
}

fn open_text(open: &OpenFact) -> String {
    let services = super::super::reach::shortened(&open.services, 4);
    // The address tells the family.
    let from = if open.from_anywhere {
        "anywhere"
    } else {
        &open.sources.said
    };
    format!("{services} from {from}")
}

/// What is sent to a device; its address tells the family.
fn sent_text(traffic: &PathTraffic) -> String {
    let services = super::super::reach::shortened(&traffic.services, 4);
    let from = if traffic.sources.whole {
        "anywhere"
    } else {
        &traffic.sources.said
    };
    format!("{services} from {from}")
}

/// The innermost rule that lets it in: the others are told in full by `--details`.
fn rules_text(open: &OpenFact) -> String {
    let rule = open
        .decided
        .iter()
        .rev()
        .find_map(|one| match &one.decider {
            Decider::Rule { rule } => Some(rule),
            _ => None,
        });
    rule.map_or_else(
        || "no rule".to_owned(),
        |rule| format!("{} {}", rule.rule, at(&rule.place)),
    )
}

fn wanted(spoken: Option<&SpokenFact>) -> String {
    match spoken {
        None => "-".to_owned(),
        Some(spoken) => match spoken.meaning {
            Meaning::Unmeant => {
                let more = spoken.forbidden_by.len().saturating_sub(1);
                let more = if more > 0 {
                    format!(" +{more}")
                } else {
                    String::new()
                };
                let first = spoken.forbidden_by.first();
                format!("NO: {}{more}", first.map_or("", String::as_str))
            }
            Meaning::Unjudged if spoken.meant.is_empty() => "no expectation".to_owned(),
            Meaning::Unjudged => format!("partly, not {}", spoken.unjudged.join(", ")),
            Meaning::Meant => "yes".to_owned(),
        },
    }
}

fn table(page: &mut Page, title: &str, style: Style, openings: &[Opening]) {
    if openings.is_empty() {
        return;
    }
    page.blank();
    let line = page.styled(style, &format!("{title} ({})", openings.len()));
    page.raw(&line);
    let rows: Vec<Vec<String>> = openings
        .iter()
        .map(|one| {
            vec![
                one.severity.map_or("", Severity::word).to_owned(),
                super::super::reach::shortened(&one.names, 3),
                super::super::reach::shortened(&one.addresses, 4),
                one.what.clone(),
                one.by.clone(),
                one.wanted.clone(),
            ]
        })
        .collect();
    let header = ["", "who", "address", "open", "by rule", "expected?"];
    page.table(&header, &rows, &[]);
}

/// What is closed, and what closes the most of it.
fn shut(page: &mut Page, exposure: &ExposureAnswer) {
    let direct = exposure
        .ways
        .iter()
        .filter(|way| way.open.is_empty() && way.unknown.is_empty())
        .map(|way| {
            let by = way.closed.last().map(|one| closing_text(&one.closing));
            (way.interface.name.clone(), way.address.clone(), by)
        });
    let devices = exposure
        .by_devices
        .iter()
        .filter(|way| way.open.is_empty() && way.unknown.is_empty())
        .map(|way| {
            let last = way.closed.last().and_then(|part| part.steps.last());
            let by = last.map(|step| format!("{}: {}", step.at, step.why));
            (way.name.clone(), way.addresses.join(", "), by)
        });
    let all: Vec<_> = direct.chain(devices).collect();
    if all.is_empty() {
        return;
    }
    page.blank();
    let line = page.styled(SHUT, &format!("CLOSED ({})", all.len()));
    page.raw(&line);
    for (name, address, by) in all.iter().take(CLOSED) {
        let by = by.as_ref().map_or_else(String::new, |by| format!("  {by}"));
        page.hang(Style::new(), "", &format!("{name} {address}{by}"), 4);
    }
    if all.len() > CLOSED {
        let more = plural(all.len() - CLOSED, "more closed address");
        page.line(&format!("and {more} (--details)"));
    }
}

/// What is closed, and by what.
pub(super) fn closed_text(closed: &ClosedFact) -> String {
    let services = closed.services.join(", ");
    let from = &closed.sources.said;
    let what = match (closed.rest, services.strip_prefix("any")) {
        (true, Some("")) if closed.sources.whole => "everything else".to_owned(),
        (true, Some(except)) => format!("everything else{except} from {from}"),
        (true, None) => format!("the rest of {services} from {from}"),
        (false, _) => format!("{services} from {from}"),
    };

    format!("{what}: {}", closing_text(&closed.closing))
}

/// What closes a way in.
pub(crate) fn closing_text(closing: &Closing) -> String {
    match closing {
        Closing::Stage { decided } => decided_text(decided),
        Closing::InternetBlock => {
            "the network or subnet accepts nothing from the internet".to_owned()
        }
        Closing::NoGateway => "the network has no internet gateway".to_owned(),
        Closing::GatewayNotAttached { gateway } => format!("gateway {gateway} is not attached"),
        Closing::ReplyNoRoute => "the reply is dropped: no route back to the internet".to_owned(),
        Closing::ReplyRoutedElsewhere { to, route } => {
            let route = route
                .as_ref()
                .map_or_else(String::new, |place| format!(" ({})", at(place)));
            format!("the reply is dropped: routed to {to}{route}")
        }
        Closing::ReplyDenied { stage } => format!("the reply is blocked by {}", stage.word()),
    }
}
