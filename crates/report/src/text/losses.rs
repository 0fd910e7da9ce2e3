//! What stops if one thing fails: a table, the most harmful failure first.

use super::reach::shortened;
use crate::page::{FAINT, Look, OPEN, Page, SHUT, STRONG, plural};
use anstyle::Style;
use heronshale_answers::{Answer, FailureFact, FailuresAnswer, LossFact, LostFact};
use heronshale_audit::facts::Meaning;

/// Failures that are shown.
const SHOWN: usize = 20;

/// Failures as text.
pub fn losses(answer: &Answer<FailuresAnswer>, look: Look) -> String {
    let Answer {
        heading,
        answer: found,
        ..
    } = answer;
    let mut page = Page::new(look);
    page.top(&sentence(found), heading);
    if !found.already_down.is_empty() {
        page.hang(
            Style::new(),
            "Already down: ",
            &found.already_down.join(", "),
            2,
        );
    }
    let shown = if look.details { usize::MAX } else { SHOWN };
    if look.details && !found.failures.is_empty() {
        page.heading("IF IT FAILS, THE MOST HARMFUL FIRST");
        for one in &found.failures {
            failure(&mut page, one, found);
        }
    } else if !found.failures.is_empty() {
        page.blank();
        let rows: Vec<Vec<String>> = found.failures.iter().take(shown).map(row).collect();
        page.table(
            &["DOWN", "UNINSPECTED", "BREAKS", "WHAT STOPS"],
            &rows,
            &[1, 2],
        );
        if found.failures.len() > shown {
            let more = found.failures.len() - shown;
            page.say(FAINT, &format!(" and {more} more (--details)"));
        }
        other_setting(&mut page, found);
    }
    together(&mut page, found);
    if !found.redundant.is_empty() {
        page.blank();
        page.hang(
            Style::new(),
            "Redundant, nothing is known to stop: ",
            &found.redundant.join(", "),
            2,
        );
    }
    page.foot(heading);
    page.finish()
}

/// Two at once, where that does more than both failures.
fn together(page: &mut Page, found: &FailuresAnswer) {
    let Some(pairs) = &found.pairs else { return };
    let tried = plural(pairs.tried, "pair");
    if pairs.failures.is_empty() {
        page.blank();
        let share = if pairs.tried == 1 { "shares" } else { "share" };
        let text =
            format!("{tried} {share} a place; none is known to do more than its two failures.");
        page.say(Style::new(), &text);
    } else {
        page.heading(&format!(
            "TWO AT ONCE, AND MORE THAN BOTH ALONE ({} of {tried} that share a place)",
            pairs.failures.len()
        ));
        let shown = if page.look.details { usize::MAX } else { SHOWN };
        let rows: Vec<Vec<String>> = pairs.failures.iter().take(shown).map(row).collect();
        page.table(
            &["DOWN", "UNINSPECTED", "BREAKS", "WHAT STOPS"],
            &rows,
            &[1, 2],
        );
        if pairs.failures.len() > shown {
            let more = pairs.failures.len() - shown;
            page.say(FAINT, &format!(" and {more} more (--details)"));
        }
    }
    if pairs.left > 0 {
        let text = format!(
            "{} more were not tried: past the limit.",
            plural(pairs.left, "pair")
        );
        page.say(Style::new(), &text);
    }
}

fn sentence(found: &FailuresAnswer) -> String {
    let all = found.failures.len() + found.redundant.len();
    if all == 0 {
        return "Nothing can fail: there is no gateway, link, peering, firewall or balancer that is up.".to_owned();
    }
    let of = |pick: fn(&LossFact) -> bool| {
        let failures = found.failures.iter();
        failures.filter(|one| pick(&one.loss)).count()
    };
    let (breaking, uninspected) = (
        of(|loss| !loss.breaks.is_empty()),
        of(|loss| !loss.uninspected.is_empty()),
    );
    let stopping = of(|loss| !loss.lost.is_empty());
    let breaks = match (breaking, stopping) {
        (0, 1) => "1 stops connections".to_owned(),
        (0, count) => format!("{count} stop connections"),
        (1, _) => "1 breaks expectations".to_owned(),
        (count, _) => format!("{count} break expectations"),
    };
    let leaves = if uninspected == 1 {
        "1 leaves traffic uninspected".to_owned()
    } else {
        format!("{uninspected} leave traffic uninspected")
    };
    format!("Of {} {breaks}, {leaves}.", plural(all, "failure"))
}

/// A failure in one line.
fn row(one: &FailureFact) -> Vec<String> {
    let loss = &one.loss;
    let more = |count: usize| match count {
        0 => String::new(),
        count => format!(", {count} more"),
    };
    let stops = if let Some(first) = loss.uninspected.first() {
        uninspected(first) + &more(loss.uninspected.len() - 1)
    } else if let Some(first) = loss.breaks.first() {
        format!("\"{first}\"{}", more(loss.breaks.len() - 1))
    } else if let Some(first) = needed_first(&loss.lost) {
        connection(first) + &more(loss.lost.len() - 1)
    } else if let Some(first) = loss.opened.first() {
        format!(
            "nothing; opens {}{}",
            connection(first),
            more(loss.opened.len() - 1)
        )
    } else if let Some(first) = loss.other.first() {
        let changes = connection(first) + &more(loss.other.len() - 1);
        format!("nothing known; {}: {changes}", first.class.word())
    } else {
        String::new()
    };
    vec![
        format!("{} {}", one.kind, one.name),
        loss.uninspected.len().to_string(),
        loss.breaks.len().to_string(),
        stops,
    ]
}

/// The connection that matters most.
fn needed_first(lost: &[LostFact]) -> Option<&LostFact> {
    let weight = |one: &&LostFact| {
        let is_needed = one.meaning == Some(Meaning::Meant);
        (
            !is_needed,
            !one.to_marked,
            one.meaning == Some(Meaning::Unmeant),
        )
    };
    lost.iter().min_by_key(weight)
}

/// Failures that are worse, or less bad, if routes to what is down are taken otherwise.
fn other_setting(page: &mut Page, found: &FailuresAnswer) {
    let Some([value, other]) = &found.settings else {
        return;
    };
    let differ: Vec<String> = found
        .failures
        .iter()
        .filter_map(|one| {
            let there = one.with_the_other_setting.as_ref()?;
            let what = if !there.uninspected.is_empty() {
                ", traffic goes uninspected"
            } else if there.breaks.len() > one.loss.breaks.len() {
                ", more expectations break"
            } else if is_empty(there) {
                ", nothing stops"
            } else {
                ""
            };
            Some(format!("{} {}{what}", one.kind, one.name))
        })
        .collect();
    if !differ.is_empty() {
        page.blank();
        let label =
            format!("Assumed: missing_next_hop={value}. With {other}, it is another matter for ");
        page.hang(Style::new(), &label, &differ.join("; "), 2);
    }
}

fn failure(page: &mut Page, one: &FailureFact, found: &FailuresAnswer) {
    let label = format!(" {} {}  ", one.kind, one.name);
    let owner = one
        .owner
        .as_ref()
        .map_or_else(String::new, |owner| format!(", {owner}"));
    let place = format!("({}:{}{owner})", one.place.file, one.place.line);
    page.hang_behind(STRONG, &label, FAINT, &place, 4);
    loss(page, &one.loss, "");
    if let (Some(other), Some([_, value])) = (&one.with_the_other_setting, &found.settings) {
        let label = format!("if routes to what is down are {value}: ");
        if is_empty(other) {
            page.hang(FAINT, "    ", &format!("{label}nothing stops"), 4);
        } else {
            loss(page, other, &label);
        }
    }
}

fn is_empty(one: &LossFact) -> bool {
    one.uninspected.is_empty()
        && one.breaks.is_empty()
        && one.lost.is_empty()
        && one.opened.is_empty()
        && one.other.is_empty()
}

fn loss(page: &mut Page, one: &LossFact, before: &str) {
    let named = |names: &[String]| {
        let names: Vec<String> = names.iter().map(|name| format!("\"{name}\"")).collect();
        shortened(&names, 3)
    };
    let shown = if page.look.details { usize::MAX } else { 2 };
    let mut line =
        |style: Style, text: String| page.hang(style, "    ", &format!("{before}{text}"), 6);
    if !one.uninspected.is_empty() {
        let all: Vec<String> = one.uninspected.iter().map(uninspected).collect();
        line(OPEN, format!("uninspected: {}", shortened(&all, shown)));
    }
    if !one.breaks.is_empty() {
        line(SHUT, format!("breaks {}", named(&one.breaks)));
    }
    for (word, list, style) in [
        ("opens", &one.opened, OPEN),
        ("stops", &one.lost, Style::new()),
        ("changes", &one.other, Style::new()),
    ] {
        if !list.is_empty() {
            let all: Vec<String> = list.iter().map(connection).collect();
            line(style, format!("{word}: {}", shortened(&all, shown)));
        }
    }
    if !one.kept_by_stopping.is_empty() {
        line(
            FAINT,
            format!(
                "keeps {} only because traffic stops",
                named(&one.kept_by_stopping)
            ),
        );
    }
    if one.more > 0 {
        line(FAINT, format!("{} more groups of connections", one.more));
    }
}

fn connection(one: &LostFact) -> String {
    let mut from: Vec<String> = Vec::new();
    for peer in &one.from {
        if !from.contains(&peer.said) {
            from.push(peer.said.clone());
        }
    }
    let mut ends: Vec<String> = Vec::new();
    for traffic in &one.traffic {
        let text = format!(
            "{} {}",
            traffic.destinations.said,
            shortened(&traffic.services, 2)
        );
        if !ends.contains(&text) {
            ends.push(text);
        }
    }
    let meaning = match one.meaning {
        Some(Meaning::Meant) => " (needed)",
        Some(Meaning::Unmeant) => " (forbidden anyhow)",
        Some(Meaning::Unjudged) | None => "",
    };
    format!("{} → {}{meaning}", shortened(&from, 2), shortened(&ends, 2))
}

fn uninspected(one: &LostFact) -> String {
    let gone: Vec<String> = one
        .firewalls
        .iter()
        .filter(|name| !one.firewalls_now.contains(name))
        .cloned()
        .collect();
    let past = if gone.is_empty() {
        "not past all its firewalls both ways".to_owned()
    } else {
        format!("past {} no more", gone.join(", "))
    };
    format!("{}, {past}", connection(one))
}
