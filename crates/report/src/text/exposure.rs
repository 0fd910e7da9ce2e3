//! What the internet reaches: open ways with all that lets them in, unknown ones, closed ones with what closes them.

use super::{at, decided_text};
use crate::harmless;
use crate::page::{Look, OPEN, Page, SHUT, STRONG, plural};
use anstyle::Style;
use heronshale_core::answer::{
    Answer, ClosedFact, Closing, Decider, DeviceWayFact, ExposureAnswer, OpenFact, PathTraffic, WalkedFact, WayFact,
    WayKind,
};
use heronshale_core::walk::Verdict;

/// Of so few ways the closed parts are told although others are open.
const FEW_WAYS: usize = 3;

/// Exposure as text.
pub fn exposure(answer: &Answer<ExposureAnswer>, look: Look) -> String {
    let Answer { heading, answer: exposure, .. } = &harmless(answer);
    let mut page = Page::new(look);
    let unknown = match exposure.workloads_unknown {
        0 => String::new(),
        count => format!(" Of {count} more that is unknown."),
    };
    let sentence = format!(
        "The internet reaches {} of {}.{unknown}",
        exposure.workloads_open,
        plural(exposure.workloads, "workload")
    );
    page.top(&sentence, heading);
    if exposure.ways.is_empty() && exposure.by_devices.is_empty() {
        page.blank();
        page.say(Style::new(), "Nothing here has a public address or global IPv6.");
    }
    let few = exposure.ways.len() + exposure.by_devices.len() <= FEW_WAYS;
    for way in &exposure.ways {
        page.blank();
        one_way(&mut page, way, few);
    }
    if !exposure.by_devices.is_empty() {
        page.heading("Led by balancers, firewalls, services and other devices, the request or its reply");
    }
    for (at, way) in exposure.by_devices.iter().enumerate() {
        if at > 0 {
            page.blank();
        }
        by_device(&mut page, way, few);
    }
    if !exposure.held_by_nothing.is_empty() {
        page.blank();
        page.say(Style::new(), &format!("Public addresses held by nothing: {}", exposure.held_by_nothing.join(", ")));
    }
    page.gaps(heading);
    page.finish()
}

fn one_way(page: &mut Page, way: &WayFact, few: bool) {
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
    let owner = fact.owner.as_ref().map_or_else(String::new, |owner| format!(" · {owner}"));
    let severity = way.severity.map_or_else(String::new, |severity| format!("{}: ", severity.word()));
    let text = format!("{severity}{name}  {by} · {}{owner}  {}", fact.network, at(&fact.place));
    page.hang_behind(style, state, Style::new(), &text, 8);
    for open in way.open.iter().chain(&way.unknown) {
        opening(page, open);
    }
    let shown = match (few, way.open.is_empty() && way.unknown.is_empty()) {
        (true, _) => way.closed.len(),
        (false, true) => 3,
        (false, false) => 0,
    };
    for closed in way.closed.iter().take(shown) {
        page.field("closed", &closed_text(closed));
    }
    if shown > 0 && way.closed.len() > shown {
        page.field("", &format!("and {} more parts: name the interface", way.closed.len() - shown));
    }
}

fn by_device(page: &mut Page, way: &DeviceWayFact, few: bool) {
    let (style, state) = match (way.open.is_empty(), way.unknown.is_empty()) {
        (false, _) => (OPEN, "OPEN    "),
        (true, false) => (STRONG, "UNKNOWN "),
        (true, true) => (SHUT, "closed  "),
    };
    let network = way.network.as_ref().map_or_else(String::new, |network| format!(" · {network}"));
    let owner = way.owner.as_ref().map_or_else(String::new, |owner| format!(" · {owner}"));
    let severity = way.severity.map_or_else(String::new, |severity| format!("{}: ", severity.word()));
    let (kind, addresses) = (way.kind.word(), way.addresses.join(", "));
    let text = format!("{severity}{kind} {}  {addresses}{network}{owner}  {}", way.name, at(&way.place));
    page.hang_behind(style, state, Style::new(), &text, 8);
    for part in way.open.iter().chain(&way.unknown) {
        let only =
            if part.only_if.is_empty() { String::new() } else { format!(", only if {}", part.only_if.join(", or ")) };
        let turns = if part.conditions.is_empty() {
            String::new()
        } else {
            format!(", if {}", part.conditions.join(", and if "))
        };
        page.field("traffic", &format!("{}{only}{turns}", sent(part)));
        let rules: Vec<String> =
            part.rules.iter().map(|rule| format!("{} {} ({})", rule.filter, rule.rule, at(&rule.place))).collect();
        page.field("by", &if rules.is_empty() { "no rule at all".to_owned() } else { rules.join(" · ") });
        if part.verdict == Verdict::Unknown {
            if let Some(last) = part.steps.last() {
                page.field("unknown", &format!("{}, {}", last.at, last.why));
            }
        } else if !part.ends.is_empty() {
            page.field("to", &part.ends.join(", "));
        }
    }
    let shown = match (few, way.open.is_empty() && way.unknown.is_empty()) {
        (true, _) => way.closed.len(),
        (false, true) => 3,
        (false, false) => 0,
    };
    for part in way.closed.iter().take(shown) {
        let by = part.steps.last().map_or_else(String::new, |step| {
            let place = step.place.as_ref().map_or_else(String::new, |place| format!(" ({})", at(place)));
            format!(": {}, {}{place}", step.at, step.why)
        });
        page.field("closed", &format!("{}: {}{by}", sent(part), part.verdict.word()));
    }
    if shown > 0 && way.closed.len() > shown {
        page.field("", &format!("and {} more parts: `path internet {addresses}` tells them", way.closed.len() - shown));
    }
}

fn sent(part: &WalkedFact) -> String {
    let one = |traffic: &PathTraffic| format!("{} from {}", traffic.services.join(", "), traffic.sources.said);
    let more = if part.traffic.len() > 3 { format!("; and {} more", part.traffic.len() - 3) } else { String::new() };
    format!("{}{more}", part.traffic.iter().take(3).map(one).collect::<Vec<_>>().join("; "))
}

fn opening(page: &mut Page, open: &OpenFact) {
    let ports = open.client_ports.as_ref().map_or_else(String::new, |ports| format!(", only for client ports {ports}"));
    let routes = if open.some_routes { ", only if the reply takes the right one of several equal routes" } else { "" };
    page.field("traffic", &format!("{} from {}{ports}{routes}", open.services.join(", "), open.sources.said));
    let rules: Vec<String> = open
        .decided
        .iter()
        .filter(|decided| decided.decider != Decider::NoPolicy)
        .map(|decided| match &decided.decider {
            Decider::Rule { rule } => format!("{} {} ({})", rule.filter, rule.rule, at(&rule.place)),
            _ => decided_text(decided),
        })
        .collect();
    page.field("by", &if rules.is_empty() { "no filter at all".to_owned() } else { rules.join(" · ") });
}

fn closed_text(closed: &ClosedFact) -> String {
    let what = format!("{} from {}", closed.services.join(", "), closed.sources.said);
    let by = match &closed.closing {
        Closing::Stage { decided } => decided_text(decided),
        Closing::InternetBlock => "the network or subnet takes nothing from the internet".to_owned(),
        Closing::NoGateway => "the network has no internet gateway".to_owned(),
        Closing::GatewayNotAttached { gateway } => format!("gateway {gateway} is not attached"),
        Closing::ReplyNoRoute => "the reply is lost: no route back to the internet".to_owned(),
        Closing::ReplyRoutedElsewhere { to, route } => {
            let route = route.as_ref().map_or_else(String::new, |place| format!(" ({})", at(place)));
            format!("the reply is lost: routed to {to}{route}")
        }
        Closing::ReplyDenied { stage } => format!("the reply is denied by {}", stage.word()),
    };
    format!("{what}: {by}")
}
