//! What the internet reaches: a row for each opening, then what is unknown, then what is closed; or everything in full.

mod rows;

pub(crate) use rows::closing_text;

use super::{at, decided_text};
use crate::page::{Look, OPEN, Page, SHUT, STRONG, plural};
use anstyle::Style;
use heronshale_answers::{
    Answer, ExposureAnswer, HopFact, ObservedFact, OnwardFact, OutwardFact, Sight,
};
use heronshale_audit::facts::PathTraffic;
use heronshale_audit::facts::{
    Decider, DeviceWayFact, Meaning, OpenFact, SpokenFact, WalkedFact, WayFact, WayKind,
};
use heronshale_engine::walk::Verdict;

/// Of so few ways everything is told.
const FEW_WAYS: usize = 3;

/// Exposure as text.
pub fn exposure(answer: &Answer<ExposureAnswer>, look: Look) -> String {
    let Answer {
        heading,
        answer: exposure,
        ..
    } = answer;
    let mut page = Page::new(look);
    page.top(&sentence(exposure), heading);
    if exposure.ways.is_empty() && exposure.by_devices.is_empty() {
        page.blank();
        page.say(
            Style::new(),
            "Nothing here has a public address or a global IPv6 address.",
        );
    }
    let few = exposure.ways.len() + exposure.by_devices.len() <= FEW_WAYS;
    if few || look.details {
        in_full(&mut page, exposure);
    } else {
        rows::rows(&mut page, exposure);
    }
    if !exposure.held_by_nothing.is_empty() {
        let unused = exposure.held_by_nothing.join(", ");
        page.blank();
        page.hang(Style::new(), "Unused public addresses: ", &unused, 2);
    }
    beside(&mut page, exposure);
    page.foot(heading);
    page.finish()
}

fn sentence(exposure: &ExposureAnswer) -> String {
    let are = if exposure.workloads_open == 1 || exposure.workloads == 1 {
        "is"
    } else {
        "are"
    };
    let unknown = match exposure.workloads_unknown {
        0 => String::new(),
        count => format!(" ({count} more cannot be determined)"),
    };
    let direct = exposure.ways.iter().map(|way| &way.spoken);
    let all = direct.chain(exposure.by_devices.iter().map(|way| &way.spoken));
    let forbidden = all
        .flatten()
        .filter(|spoken| spoken.meaning == Meaning::Unmeant)
        .count();
    let against = match forbidden {
        0 => String::new(),
        1 => " 1 opening is against an expectation.".to_owned(),
        count => format!(" {count} openings are against an expectation."),
    };
    format!(
        "{} of {} {are} reachable from the internet{unknown}.{against}",
        exposure.workloads_open,
        plural(exposure.workloads, "workload")
    )
}

/// Every way in with all that lets it in or closes it.
fn in_full(page: &mut Page, exposure: &ExposureAnswer) {
    for way in &exposure.ways {
        page.blank();
        one_way(page, way);
    }
    if !exposure.by_devices.is_empty() {
        page.heading("THROUGH DEVICES (balancers, firewalls, services)");
    }
    for (number, way) in exposure.by_devices.iter().enumerate() {
        if number > 0 {
            page.blank();
        }
        by_device(page, way);
    }
}

/// What belongs to it beside the ways in.
fn beside(page: &mut Page, exposure: &ExposureAnswer) {
    const SHOWN: usize = 12;
    if !exposure.names_of_nothing.is_empty() {
        page.heading("PUBLIC NAMES OF ADDRESSES THAT NOBODY HERE HAS");
        for name in exposure.names_of_nothing.iter().take(SHOWN) {
            page.hang(Style::new(), "  ", name, 4);
        }
        more(page, exposure.names_of_nothing.len(), SHOWN);
    }
    if !exposure.one_step_away.is_empty() || exposure.steps_not_looked_at > 0 {
        page.heading("ONE CHANGE AWAY FROM OPEN");
        for one in &exposure.one_step_away {
            let owner = one
                .edit
                .owner
                .as_ref()
                .map_or_else(String::new, |owner| format!(" · {owner}"));
            let place = one
                .edit
                .place
                .as_ref()
                .map_or_else(String::new, |place| format!("  {}", at(place)));
            let text = format!(
                "{} at {}: {} opens it to {}{place}{owner}",
                one.interface,
                one.address,
                one.edit.text,
                one.services.join(", ")
            );
            page.hang(Style::new(), "  ", &text, 4);
        }
        if exposure.steps_not_looked_at > 0 {
            page.say(
                Style::new(),
                &format!(
                    "  not checked: {}",
                    plural(exposure.steps_not_looked_at, "closed way")
                ),
            );
        }
    }
    if let Some(found) = &exposure.observed {
        observed(page, found);
    }
    if let Some(found) = &exposure.onward {
        onward(page, found);
    }
    if let Some(found) = &exposure.outward {
        outward(page, found);
    }
}

fn more(page: &mut Page, all: usize, shown: usize) {
    if all > shown {
        page.say(
            Style::new(),
            &format!("  and {} more (--format json)", all - shown),
        );
    }
}

fn observed(page: &mut Page, found: &ObservedFact) {
    const SHOWN: usize = 30;
    let count = |sight: Sight| found.seen.iter().filter(|one| one.sight == sight).count();
    let sights = [Sight::Closed, Sight::NotHeld, Sight::Unknown, Sight::Agrees];
    let counts = sights.iter().filter(|sight| count(**sight) > 0);
    let counts: Vec<String> = counts
        .map(|sight| format!("{} {}", count(*sight), sight.word()))
        .collect();
    page.heading(&format!(
        "SEEN FROM OUTSIDE: {}: {}",
        plural(found.seen.len(), "open port"),
        counts.join("; ")
    ));
    for one in found
        .seen
        .iter()
        .filter(|one| one.sight != Sight::Agrees)
        .take(SHOWN)
    {
        let style = if one.sight == Sight::Closed {
            OPEN
        } else {
            STRONG
        };
        let holder = one
            .holder
            .as_ref()
            .map_or_else(String::new, |holder| format!(" · {holder}"));
        let text = format!("{} {}{holder}  line {}", one.address, one.service, one.line);
        page.hang_behind(
            style,
            &format!("  {:<24}", one.sight.word()),
            Style::new(),
            &text,
            26,
        );
    }
    more(page, found.seen.len() - count(Sight::Agrees), SHOWN);
    for one in found.unseen.iter().take(SHOWN) {
        let text = format!(
            "{} {} · {}",
            one.address,
            one.services.join(", "),
            one.holder
        );
        page.hang(
            Style::new(),
            &format!("  {:<24}", "open here, not seen"),
            &text,
            26,
        );
    }
    more(page, found.unseen.len(), SHOWN);
}

fn onward(page: &mut Page, found: &OnwardFact) {
    const SHOWN: usize = 20;
    page.heading(&format!(
        "BEHIND WHAT IS EXPOSED, within {}",
        plural(found.jumps as usize, "further connection")
    ));
    for one in found.from.iter().take(SHOWN) {
        let reaches: Vec<String> = one
            .reaches
            .iter()
            .enumerate()
            .map(|(at, count)| format!("{count} in {}", at + 1))
            .collect();
        let names: Vec<&str> = one
            .marked
            .iter()
            .take(6)
            .map(|place| place.name.as_str())
            .collect();
        let more = if one.marked.len() > 6 {
            format!(" and {} more", one.marked.len() - 6)
        } else {
            String::new()
        };
        let marked = if names.is_empty() {
            String::new()
        } else {
            format!("; marked: {}{more}", names.join(", "))
        };
        let perhaps = if one.perhaps > 0 {
            format!(", {} more unknown", one.perhaps)
        } else {
            String::new()
        };
        let exposed = if one.certain {
            ""
        } else {
            "if it is exposed at all: "
        };
        let text = format!("{exposed}{}{perhaps}{marked}", reaches.join(", "));
        page.hang_behind(
            STRONG,
            &format!("  {:<22}  ", one.from.name),
            Style::new(),
            &text,
            26,
        );
    }
    more(page, found.from.len(), SHOWN);
    page.heading(&format!(
        "FROM THE INTERNET TO MARKED WORKLOADS ({})",
        found.marks.join(", ")
    ));
    if found.marked.is_empty() {
        page.say(
            Style::new(),
            "  no marked workload is reachable within so many connections",
        );
    }
    for one in found.marked.iter().take(SHOWN) {
        let services = |hop: &HopFact| {
            let mut all: Vec<&str> = Vec::new();
            for text in hop.ways.iter().flat_map(|way| &way.services) {
                if !all.contains(&text.as_str()) {
                    all.push(text);
                }
            }
            all.join(", ")
        };
        let chain: Vec<String> = one
            .hops
            .iter()
            .map(|hop| format!("→ {} ({})", hop.to.name, services(hop)))
            .collect();
        let perhaps = if one.certain { "" } else { "unknown: " };
        let always = match one.always_by.as_slice() {
            [] if one.hops.len() > 1 => "; no machine is on every chain".to_owned(),
            [] => String::new(),
            all => format!(
                "; every chain passes {}",
                all.iter()
                    .map(|place| place.name.as_str())
                    .collect::<Vec<_>>()
                    .join(", ")
            ),
        };
        page.hang_behind(
            STRONG,
            &format!("  {:<22}  ", one.place.name),
            Style::new(),
            &format!("{perhaps}{}{always}", chain.join(" ")),
            26,
        );
    }
    more(page, found.marked.len(), SHOWN);
}

fn outward(page: &mut Page, found: &[OutwardFact]) {
    page.heading("OUTWARD: WHO CONNECTS TO THE INTERNET");
    if found.is_empty() {
        page.say(Style::new(), "  nobody");
    }
    for one in found {
        let names: Vec<&str> = one.machines.iter().take(8).map(String::as_str).collect();
        let more = if one.machines.len() > 8 {
            format!(" and {} more", one.machines.len() - 8)
        } else {
            String::new()
        };
        let seen = one
            .seen_as
            .as_ref()
            .map_or_else(|| "its own addresses".to_owned(), Clone::clone);
        let firewalls = if one.firewalls.is_empty() {
            String::new()
        } else {
            format!(" through firewall {}", one.firewalls.join(", "))
        };
        let verdict = if one.verdict == Verdict::Works {
            String::new()
        } else {
            format!(" ({})", super::path::verdict_text(one.verdict))
        };
        let text = format!(
            "by {}{firewalls}, as {seen}: {}{verdict}",
            one.by,
            one.services.join(", ")
        );
        page.hang(STRONG, "  ", &format!("{}{more}", names.join(", ")), 4);
        page.hang(Style::new(), "      ", &text, 8);
    }
}

fn one_way(page: &mut Page, way: &WayFact) {
    let fact = &way.interface;
    let (style, state) = match (way.open.is_empty(), way.unknown.is_empty()) {
        (false, _) => (OPEN, "OPEN    "),
        (true, false) => (STRONG, "UNKNOWN "),
        (true, true) => (SHUT, "closed  "),
    };
    let name = match &fact.workload {
        Some(workload) if *workload != fact.name => format!("{workload} ({})", fact.name),
        _ => fact.name.clone(),
    };
    let by = match way.way {
        WayKind::PublicAddress => format!("{} → {}", way.address, way.own),
        WayKind::GlobalIpv6 => format!("{}, global IPv6", way.address),
    };
    let owner = fact
        .owner
        .as_ref()
        .map_or_else(String::new, |owner| format!(" · {owner}"));
    let severity = way
        .severity
        .map_or_else(String::new, |severity| format!("{}: ", severity.word()));
    let text = format!(
        "{severity}{name}  {by} · {}{owner}  {}",
        fact.network,
        at(&fact.place)
    );
    page.hang_behind(style, state, Style::new(), &text, 8);
    spoken(page, way.spoken.as_ref());
    for open in way.open.iter().chain(&way.unknown) {
        opening(page, open);
    }
    for closed in &way.closed {
        page.field("closed", &rows::closed_text(closed));
    }
}

fn by_device(page: &mut Page, way: &DeviceWayFact) {
    let (style, state) = match (way.open.is_empty(), way.unknown.is_empty()) {
        (false, _) => (OPEN, "OPEN    "),
        (true, false) => (STRONG, "UNKNOWN "),
        (true, true) => (SHUT, "closed  "),
    };
    let network = way
        .network
        .as_ref()
        .map_or_else(String::new, |network| format!(" · {network}"));
    let owner = way
        .owner
        .as_ref()
        .map_or_else(String::new, |owner| format!(" · {owner}"));
    let severity = way
        .severity
        .map_or_else(String::new, |severity| format!("{}: ", severity.word()));
    let (kind, addresses) = (way.kind.word(), way.addresses.join(", "));
    let text = format!(
        "{severity}{kind} {}  {addresses}{network}{owner}  {}",
        way.name,
        at(&way.place)
    );
    page.hang_behind(style, state, Style::new(), &text, 8);
    spoken(page, way.spoken.as_ref());
    for part in way.open.iter().chain(&way.unknown) {
        let only = if part.only_if.is_empty() {
            String::new()
        } else {
            format!(", only if {}", part.only_if.join(", or "))
        };
        let turns = if part.conditions.is_empty() {
            String::new()
        } else {
            format!(", if {}", part.conditions.join(", and if "))
        };
        page.field("traffic", &format!("{}{only}{turns}", sent(part)));
        let rules: Vec<String> = part
            .rules
            .iter()
            .map(|rule| format!("{} {} ({})", rule.filter, rule.rule, at(&rule.place)))
            .collect();
        page.field(
            "by",
            &if rules.is_empty() {
                "no rule filters it".to_owned()
            } else {
                rules.join(" · ")
            },
        );
        if part.verdict.is_open() {
            if let Some(last) = part.steps.last() {
                page.field(
                    super::path::verdict_text(part.verdict),
                    &format!("{}: {}", last.at, last.why),
                );
            }
        } else if !part.ends.is_empty() {
            page.field("to", &part.ends.join(", "));
        }
    }
    for part in &way.closed {
        let by = part.steps.last().map_or_else(String::new, |step| {
            let place = step
                .place
                .as_ref()
                .map_or_else(String::new, |place| format!(" ({})", at(place)));
            format!(" {}: {}{place}", step.at, step.why)
        });
        page.field(
            "closed",
            &format!(
                "{}: {} by{by}",
                sent(part),
                super::path::verdict_text(part.verdict)
            ),
        );
    }
}

/// What expectations say of what is open.
fn spoken(page: &mut Page, spoken: Option<&SpokenFact>) {
    let Some(spoken) = spoken else { return };
    let by = |names: &[String]| {
        names
            .iter()
            .map(|name| format!("“{name}”"))
            .collect::<Vec<_>>()
            .join(", ")
    };
    let parts = [
        (
            Meaning::Unmeant,
            &spoken.unmeant,
            format!("forbidden by {}", by(&spoken.forbidden_by)),
        ),
        (
            Meaning::Unjudged,
            &spoken.unjudged,
            "no expectation covers it".to_owned(),
        ),
        (
            Meaning::Meant,
            &spoken.meant,
            format!("allowed by {}", by(&spoken.allowed_by)),
        ),
    ];
    for (meaning, services, why) in parts
        .into_iter()
        .filter(|(_, services, _)| !services.is_empty())
    {
        page.field(meaning.word(), &format!("{}: {why}", services.join(", ")));
    }
}

fn sent(part: &WalkedFact) -> String {
    let one = |traffic: &PathTraffic| {
        format!(
            "{} from {}",
            traffic.services.join(", "),
            traffic.sources.said
        )
    };
    let more = if part.traffic.len() > 3 {
        format!("; and {} more", part.traffic.len() - 3)
    } else {
        String::new()
    };
    format!(
        "{}{more}",
        part.traffic
            .iter()
            .take(3)
            .map(one)
            .collect::<Vec<_>>()
            .join("; ")
    )
}

fn opening(page: &mut Page, open: &OpenFact) {
    let ports = open
        .client_ports
        .as_ref()
        .map_or_else(String::new, |ports| {
            format!(", only for client ports {ports}")
        });
    let routes = if open.some_routes {
        ", if the reply takes the right one of several equal routes"
    } else {
        ""
    };
    page.field(
        "traffic",
        &format!(
            "{} from {}{ports}{routes}",
            open.services.join(", "),
            open.sources.said
        ),
    );
    let rules: Vec<String> = open
        .decided
        .iter()
        .filter(|decided| decided.decider != Decider::NoPolicy)
        .map(|decided| match &decided.decider {
            Decider::Rule { rule } => {
                let also: Vec<String> = decided
                    .also
                    .iter()
                    .map(|rule| format!("{} ({})", rule.rule, at(&rule.place)))
                    .collect();
                let also = if also.is_empty() {
                    String::new()
                } else {
                    format!(", also by {}", also.join(", "))
                };
                format!("{} {} ({}){also}", rule.filter, rule.rule, at(&rule.place))
            }
            _ => decided_text(decided),
        })
        .collect();
    page.field(
        "by",
        &if rules.is_empty() {
            "no filter".to_owned()
        } else {
            rules.join(" · ")
        },
    );
}
