//! Where an interface's traffic goes: the routes that win, then those that do not.

use super::at;
use crate::page::{Look, Page, SHUT, plural};
use anstyle::Style;
use heronshale_answers::{Answer, RouteFact, RoutesAnswer};

/// Routes as text.
pub fn routes(answer: &Answer<RoutesAnswer>, look: Look) -> String {
    let Answer {
        heading,
        answer: found,
        ..
    } = answer;
    let mut page = Page::new(look);
    let idle = found.routes.iter().filter(|route| route.idle).count();
    let broken = found
        .routes
        .iter()
        .filter(|route| route.broken && !route.idle)
        .count();
    let table = match (&found.table, &found.routed_by) {
        (_, Some(by)) => by.clone(),
        (None, None) => "automatic routes only".to_owned(),
        (Some(table), _) if table.missing => {
            format!("table {}, which is missing from the snapshot", table.name)
        }
        (Some(table), _) => {
            let place = table
                .place
                .as_ref()
                .map_or_else(String::new, |place| format!(" ({})", at(place)));
            let own = found.of == format!("table {}", table.name);
            let by = if own || table.by.is_empty() {
                String::new()
            } else {
                format!(", {}", table.by)
            };
            format!("table {}{by}{place}", table.name)
        }
    };
    let state = match (idle, broken) {
        (0, 0) => String::new(),
        (idle, 0) => format!(", {idle} idle"),
        (0, broken) => format!(", {broken} to a dead next hop"),
        (idle, broken) => {
            format!(", {idle} idle, {broken} to a dead next hop")
        }
    };
    let itself = found.of.ends_with(&table) || found.of == table;
    let sentence = match found.routes.len() {
        0 if itself => format!("{} has no routes.", found.of),
        count if itself => format!("{} has {}{state}.", found.of, plural(count, "route")),
        0 => format!("{} is routed by {table}.", found.of),
        count => format!(
            "{} is routed by {table}: {}{state}.",
            found.of,
            plural(count, "route")
        ),
    };
    page.top(&sentence, heading);
    if let Some(subnet) = &found.straight_in {
        let text =
            format!("Traffic inside subnet {subnet} goes directly, whatever the routes say.");
        page.say(Style::new(), &text);
    }
    let place = |route: &RouteFact| route.place.as_ref().map_or_else(String::new, at);
    let rows: Vec<Vec<String>> = found
        .routes
        .iter()
        .filter(|route| !route.idle)
        .map(|route| {
            let broken = if route.broken { "DEAD: " } else { "" };
            let shared = if route.shared {
                " (one of several equal routes)"
            } else {
                ""
            };
            let from = route.only_from.as_ref().map_or_else(String::new, |from| {
                format!(" for senders {} only", from.join(", "))
            });
            vec![
                route.to.clone(),
                format!("{broken}{}{shared}{from}", route.hop),
                route.kind.clone(),
                wins(route),
                place(route),
            ]
        })
        .collect();
    if !rows.is_empty() {
        page.blank();
        page.table(&["to", "routes to", "kind", "wins", "where"], &rows, &[]);
    }
    for route in found.routes.iter().filter(|route| route.idle) {
        page.blank();
        let text = format!(
            "{} to {}, {}  {}",
            route.to,
            route.hop,
            route.kind,
            place(route)
        );
        page.hang_behind(SHUT, "idle    ", Style::new(), &text, 8);
        for loss in route.loses.iter().take(3) {
            let place = loss
                .place
                .as_ref()
                .map_or_else(String::new, |place| format!(" ({})", at(place)));
            page.field(
                "loses to",
                &format!("{} to {}: {}{place}", loss.to, loss.hop, loss.because),
            );
        }
    }
    for aside in &found.not_in_force {
        page.blank();
        page.hang_behind(
            SHUT,
            "off     ",
            Style::new(),
            &format!("{}: {}  {}", aside.route, aside.why, at(&aside.place)),
            8,
        );
    }
    if found.last.is_some() || !found.nowhere.is_empty() {
        page.blank();
    }
    if let Some(last) = &found.last {
        page.say(
            Style::new(),
            &format!("IPv4 traffic without a route goes to {last}."),
        );
    }
    if !found.nowhere.is_empty() {
        let shown = found
            .nowhere
            .iter()
            .take(4)
            .cloned()
            .collect::<Vec<_>>()
            .join(", ");
        let more = found.nowhere.len().saturating_sub(4);
        let more = if more > 0 {
            format!(" and {more} more")
        } else {
            String::new()
        };
        page.say(Style::new(), &format!("No route: {shown}{more}."));
    }
    page.foot(heading);
    page.finish()
}

fn wins(route: &RouteFact) -> String {
    if route.loses.is_empty() && route.wins.len() == 1 && route.wins[0] == route.to {
        return "all".to_owned();
    }
    let losers = route.loses.len();
    if losers == 1 {
        "all but 1 better route".to_owned()
    } else {
        format!("all but {losers} better routes")
    }
}
