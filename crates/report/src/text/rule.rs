//! One rule.

use super::at;
use crate::page::{Look, Page, plural};
use heronshale_answers::{Answer, MatchFact, Resting, RuleAnswer};
use heronshale_audit::describe::rule_text;
use heronshale_model::estate::Direction;

/// A rule as text.
pub fn rule(answer: &Answer<RuleAnswer>, look: Look) -> String {
    let Answer {
        heading,
        answer: rule,
        ..
    } = answer;
    let mut page = Page::new(look);
    page.top(&sentence(rule), heading);
    page.blank();
    page.field(
        "rule",
        &format!("{}  {}", rule_text(&rule.rule), at(&rule.rule.place)),
    );
    if let Some(description) = &rule.description {
        page.field("purpose", description);
    }
    if let Some(owner) = &rule.owner {
        page.field("owner", owner);
    }
    let several = rule
        .matches
        .iter()
        .any(|one| one.network != rule.matches[0].network);
    let mut texts: Vec<(String, Vec<String>)> = Vec::new();
    for matched in &rule.matches {
        let at_firewall = !rule.firewalls.is_empty();
        let text = match_text(rule.rule.direction, matched, several, at_firewall);
        let family = matched.traffic.family.to_string();
        match texts.iter_mut().find(|(known, _)| *known == text) {
            Some((_, families)) => families.push(family),
            None => texts.push((text, vec![family])),
        }
    }
    for ((text, families), label) in texts
        .iter()
        .zip(std::iter::once("matches").chain(std::iter::repeat("")))
    {
        page.field(label, &format!("{}: {text}", families.join(", ")));
    }
    if rule.matches.is_empty() {
        page.field("matches", "nothing");
    }
    let names: Vec<String> = rule
        .carriers
        .iter()
        .map(|carrier| carrier.name.clone())
        .collect();
    let shown = names
        .iter()
        .take(12)
        .cloned()
        .collect::<Vec<_>>()
        .join(", ");
    let more = if names.len() > 12 {
        format!(" and {} more", names.len() - 12)
    } else {
        String::new()
    };
    if !rule.firewalls.is_empty() {
        page.field(
            "applies to",
            &format!(
                "{}: {}",
                plural(rule.firewalls.len(), "firewall"),
                rule.firewalls.join(", ")
            ),
        );
    }
    let by_firewalls = names.is_empty() && !rule.firewalls.is_empty();
    let acts_on = if by_firewalls {
        "without it"
    } else {
        "applies to"
    };
    page.field(
        acts_on,
        &if by_firewalls {
            "not judged here; ask `path` for one connection".to_owned()
        } else if names.is_empty() {
            "nothing".to_owned()
        } else {
            format!("{}: {shown}{more}", plural(names.len(), "interface"))
        },
    );
    for (cover, label) in rule
        .covered_by
        .iter()
        .zip(std::iter::once("covered by").chain(std::iter::repeat("")))
    {
        page.field(
            label,
            &format!("{}  {}", rule_text(cover), at(&cover.place)),
        );
    }
    if !rule.rests.is_empty() {
        page.heading("WITHOUT THIS RULE");
        let word = if rule.rule.direction == Direction::In {
            "from"
        } else {
            "to"
        };
        let rows: Vec<Vec<String>> = rule.rests.iter().map(|one| row(one, word)).collect();
        page.table(&["on", "traffic", "packet"], &rows, &[]);
    }
    page.foot(heading);
    page.finish()
}

fn sentence(rule: &RuleAnswer) -> String {
    let name = format!("Rule {} of {}", rule.rule.rule, rule.rule.filter);
    if let Some(why) = &rule.not_in_force {
        return format!("{name} is not in force: {why}.");
    }
    let count = rule.carriers.len();
    let on = plural(count, "interface");
    match (&rule.dead, rule.rests.is_empty()) {
        _ if !rule.firewalls.is_empty() => format!(
            "{name} applies to {}.",
            plural(rule.firewalls.len(), "firewall")
        ),
        _ if count == 0 => format!("{name} applies to nothing."),
        (Some(dead), _) => format!("{name} is {dead}. It has no effect on its {on}."),
        (None, true) => {
            format!("{name} has no effect on its {on}: other filters decide the same.")
        }
        (None, false) if rule.rests.iter().all(|one| one.perhaps) => {
            format!(
                "{name} applies to {on}. Its effect depends on something missing from the snapshot."
            )
        }
        (None, false) => {
            let admits = rule.rests.iter().any(|one| one.admitted);
            let does = if admits { "allows" } else { "blocks" };
            format!("{name} applies to {on} and {does} traffic that no other rule {does}.")
        }
    }
}

fn match_text(
    direction: Direction,
    matched: &MatchFact,
    several: bool,
    at_firewall: bool,
) -> String {
    let word = if direction == Direction::In {
        "from"
    } else {
        "to"
    };
    let perhaps = if matched.perhaps {
        " (unknown: depends on something missing from the snapshot)"
    } else {
        ""
    };
    let place = matched.network.as_ref().filter(|_| several);
    let place = place.map_or_else(String::new, |network| format!(" (in {network})"));
    let mut traffic = matched.traffic.clone();
    // At a firewall the other end is a destination, not a side of its own.
    let to = traffic
        .local
        .take_if(|_| at_firewall)
        .map_or_else(String::new, |to| format!(" to {}", to.said));
    format!(
        "{}{to}{place}{perhaps}",
        super::traffic_text(&traffic, word)
    )
}

fn row(one: &Resting, word: &str) -> Vec<String> {
    let shown = one
        .interfaces
        .iter()
        .take(3)
        .cloned()
        .collect::<Vec<_>>()
        .join(", ");
    let more = if one.interfaces.len() > 3 {
        format!(" and {} more", one.interfaces.len() - 3)
    } else {
        String::new()
    };
    let change = match (one.admitted, one.perhaps) {
        (true, false) => "blocked",
        (false, false) => "allowed",
        (true, true) => "perhaps blocked",
        (false, true) => "perhaps allowed",
    };
    let traffic = format!("{change}: {}", super::traffic_text(&one.traffic, word));
    vec![
        format!("{shown}{more}"),
        traffic,
        one.witness
            .as_ref()
            .map_or_else(String::new, |witness| witness.text.clone()),
    ]
}
