//! What something reaches, or who reaches it: what is alike in a line, the fewest jumps first.

use crate::page::{FAINT, Look, Page, STRONG, plural};
use anstyle::Style;
use heronshale_answers::{
    Answer, HopFact, LinkFact, PlaceFact, PlaceKind, ReachAnswer, ReachedFact,
};
use heronshale_engine::walk::Verdict;

/// Lines of one number of jumps.
const LINES: usize = 30;
/// Names in one line.
const NAMES: usize = 12;

/// Reach as text.
pub fn reach(answer: &Answer<ReachAnswer>, look: Look) -> String {
    let Answer {
        heading,
        answer: found,
        ..
    } = answer;
    let mut page = Page::new(look);
    page.top(&sentence(found), heading);
    let ends = found.ends.iter().map(place_text).collect::<Vec<_>>();
    let asked = [&found.from, &found.to]
        .into_iter()
        .flatten()
        .cloned()
        .collect::<Vec<_>>();
    if ends.iter().any(|end| !asked.contains(end)) && ends.len() > 1 {
        page.say(FAINT, &format!("Asked about: {}", shortened(&ends, NAMES)));
    }
    let backwards = found.from.is_none();
    let mut levels: Vec<(bool, u32)> = found
        .reached
        .iter()
        .map(|one| (one.certain, one.jumps))
        .collect();
    levels.dedup();
    for (certain, jumps) in levels {
        let here: Vec<&ReachedFact> = found
            .reached
            .iter()
            .filter(|one| (one.certain, one.jumps) == (certain, jumps))
            .collect();
        page.heading(&title(found, certain, jumps));
        let lines = grouped(&here, backwards);
        let shown = if page.look.details {
            lines.len()
        } else {
            LINES
        };
        for (names, ways, chain) in lines.iter().take(shown) {
            let names = shortened(names, NAMES);
            let text = format!("{}{chain}", ways.join(" · "));
            if names.chars().count() <= 40 {
                page.hang_behind(STRONG, &format!("  {names:<22}  "), Style::new(), &text, 26);
            } else {
                page.hang(STRONG, "  ", &names, 4);
                page.hang(Style::new(), &" ".repeat(26), &text, 26);
            }
        }
        if lines.len() > shown {
            page.say(
                FAINT,
                &format!("  and {} more lines (--details)", lines.len() - shown),
            );
        }
    }
    always(&mut page, found);
    page.foot(heading);
    page.finish()
}

fn title(found: &ReachAnswer, certain: bool, jumps: u32) -> String {
    let open = if certain {
        ""
    } else {
        "UNKNOWN (depends on something missing from the snapshot): "
    };
    match (jumps, found.from.is_some()) {
        (1, true) => format!("{open}{}", if certain { "DIRECTLY" } else { "directly" }),
        (1, false) => format!("{open}{}", if certain { "DIRECTLY" } else { "directly" }),
        (jumps, _) if certain => format!("IN {jumps} JUMPS"),
        (jumps, _) => format!("{open}in {jumps} jumps"),
    }
}

/// What is alike in one line: names, the last (or first) link, and the chain before (or after) it.
fn grouped(all: &[&ReachedFact], backwards: bool) -> Vec<(Vec<String>, Vec<String>, String)> {
    let mut lines: Vec<(Vec<String>, Vec<String>, String)> = Vec::new();
    for one in all {
        let link = if backwards {
            one.hops.first()
        } else {
            one.hops.last()
        };
        let ways: Vec<String> =
            link.map_or_else(Vec::new, |hop| hop.ways.iter().map(way_text).collect());
        let chain = chain_text(&one.hops, backwards);
        match lines
            .iter_mut()
            .find(|(_, other, of)| *other == ways && *of == chain)
        {
            Some((names, _, _)) => names.push(place_text(&one.place)),
            None => lines.push((vec![place_text(&one.place)], ways, chain)),
        }
    }
    lines
}

/// The way to the last link, or on from the first.
fn chain_text(hops: &[HopFact], backwards: bool) -> String {
    if hops.len() < 2 {
        return String::new();
    }
    let hop = |hop: &HopFact, end: &PlaceFact| {
        let services: Vec<String> = hop
            .ways
            .iter()
            .flat_map(|way| way.services.iter().cloned())
            .collect();
        format!("{} ({})", place_text(end), shortened(&services, 3))
    };
    let steps: Vec<String> = if backwards {
        hops[1..].iter().map(|one| hop(one, &one.to)).collect()
    } else {
        hops[..hops.len() - 1]
            .iter()
            .map(|one| hop(one, &one.to))
            .collect()
    };
    if backwards {
        format!(
            "; to {}, then {}",
            place_text(&hops[0].to),
            steps.join(", then ")
        )
    } else {
        format!("; after {}", steps.join(", then "))
    }
}

fn place_text(place: &PlaceFact) -> String {
    match place.kind {
        PlaceKind::Workload | PlaceKind::Internet | PlaceKind::Gap => place.name.clone(),
        PlaceKind::Site => format!("site {}", place.name),
        PlaceKind::Service => format!("service {}", place.name),
    }
}

/// Services with all that is to be said of them: `tcp 443 by balancer booking, through firewall quay-fw`.
pub(super) fn way_text(way: &LinkFact) -> String {
    let mut text = shortened(&way.services, 8);
    if let Some(sources) = &way.sources {
        text.push_str(&format!(" from {} only", sources.said));
    }
    if way.families == ["IPv6"] {
        text.push_str(" over IPv6");
    }
    if !way.by.is_empty() {
        text.push_str(&format!(" by {}", shortened(&way.by, 4)));
    }
    if !way.firewalls.is_empty() {
        let one = if way.firewalls.len() > 1 {
            "firewalls"
        } else {
            "firewall"
        };
        text.push_str(&format!(" through {one} {}", way.firewalls.join(" or ")));
    }
    match way.verdict {
        Verdict::WorksForSome if !way.only_if.is_empty() => {
            text.push_str(&format!(", if {}", way.only_if.join(", or ")));
        }
        Verdict::WorksForSome => text.push_str(", sometimes"),
        Verdict::Conditional => {
            text.push_str(&format!(", if {}", way.conditions.join(", and if ")));
        }
        Verdict::Undecided | Verdict::Unknown => {
            text.push_str(&format!(", {}", way.verdict.word()))
        }
        _ => {}
    }
    text
}

/// The first few, and how many more.
pub(super) fn shortened(all: &[String], most: usize) -> String {
    let mut text = all
        .iter()
        .take(most)
        .cloned()
        .collect::<Vec<_>>()
        .join(", ");
    if all.len() > most {
        text.push_str(&format!(" and {} more", all.len() - most));
    }
    text
}

/// The workloads that every chain passes, for all that they guard together.
fn always(page: &mut Page, found: &ReachAnswer) {
    let mut guards: Vec<(String, Vec<String>)> = Vec::new();
    for one in &found.reached {
        for guard in &one.always_by {
            let (guard, name) = (place_text(guard), place_text(&one.place));
            match guards.iter_mut().find(|(known, _)| *known == guard) {
                Some((_, all)) => all.push(name),
                None => guards.push((guard, vec![name])),
            }
        }
    }
    if guards.is_empty() {
        return;
    }
    page.heading("EVERY CHAIN PASSES");
    let word = if found.from.is_some() {
        "on the way to"
    } else {
        "on the way from"
    };
    for (guard, names) in &guards {
        page.hang(
            Style::new(),
            "  ",
            &format!("{guard}  {word} {}", shortened(names, NAMES)),
            4,
        );
    }
}

/// So many workloads are named in the first sentence.
const NAMED: usize = 4;

/// What of some things was found, in words: `7 of 45 other workloads, the internet and site yard`.
fn counted(found: &ReachAnswer, chosen: &dyn Fn(&ReachedFact) -> bool) -> Option<String> {
    let here: Vec<&ReachedFact> = found.reached.iter().filter(|one| chosen(one)).collect();
    let workloads: Vec<&str> = here
        .iter()
        .filter(|one| one.place.kind == PlaceKind::Workload)
        .map(|one| one.place.name.as_str())
        .collect();
    let mut parts = Vec::new();
    if !workloads.is_empty() {
        let of = plural(found.others, "other workload");
        let names = if workloads.len() <= NAMED {
            format!(" ({})", workloads.join(", "))
        } else {
            String::new()
        };
        parts.push(format!("{} of {of}{names}", workloads.len()));
    }
    let others: Vec<String> = here
        .iter()
        .filter(|one| one.place.kind != PlaceKind::Workload)
        .map(|one| place_text(&one.place))
        .collect();
    if others.len() > 6 {
        parts.push(format!("{} sites and services", others.len()));
    } else {
        parts.extend(others);
    }
    let last = parts.pop()?;
    Some(if parts.is_empty() {
        last
    } else {
        format!("{} and {last}", parts.join(", "))
    })
}

fn sentence(found: &ReachAnswer) -> String {
    let traffic = found
        .traffic
        .as_ref()
        .map_or_else(String::new, |traffic| format!(" over {traffic}"));
    let direct = counted(found, &|one| one.certain && one.jumps == 1);
    let onward = counted(found, &|one| one.certain && one.jumps > 1);
    let open = counted(found, &|one| !one.certain);
    let within = format!("within {}", plural(found.jumps as usize, "jump"));
    let open = open.map_or_else(String::new, |open| format!(" {open} cannot be determined."));
    let from = found.from.as_deref();
    let from = from.map(|from| {
        if from == "internet" {
            "The internet"
        } else {
            from
        }
    });
    match (from, &found.to) {
        (Some(from), Some(to)) => match (&direct, &onward) {
            (Some(_), _) => format!("{from} reaches {to} directly{traffic}.{open}"),
            (None, Some(_)) => {
                let nearest = found.reached.iter().min_by_key(|one| one.jumps);
                let hops = nearest.map_or(&[][..], |one| one.hops.as_slice());
                let via: Vec<&str> = hops
                    .iter()
                    .skip(1)
                    .map(|hop| hop.from.name.as_str())
                    .collect();
                format!(
                    "{from} reaches {to}{traffic} in {}, via {}.{open}",
                    plural(hops.len(), "jump"),
                    via.join(", ")
                )
            }
            (None, None) => format!("{from} does not reach {to}{traffic} {within}.{open}"),
        },
        (Some(from), None) => match (direct, onward) {
            (None, None) => format!("{from} reaches nothing{traffic}.{open}"),
            (Some(direct), None) => format!("{from} reaches {direct} directly{traffic}.{open}"),
            (direct, Some(onward)) => {
                let direct = direct.unwrap_or_else(|| "nothing".to_owned());
                format!("{from} reaches {direct} directly{traffic}; {onward} {within}.{open}")
            }
        },
        (None, to) => {
            let to = to.clone().unwrap_or_default();
            match (direct, onward) {
                (None, None) => format!("Nothing reaches {to}{traffic}.{open}"),
                (Some(direct), None) => format!(
                    "{to} is reached directly by {direct}{}.{open}",
                    worded(found)
                ),
                (direct, Some(onward)) => {
                    let direct = direct.unwrap_or_else(|| "nothing".to_owned());
                    format!(
                        "{to} is reached directly by {direct}{}; {within} by {onward}.{open}",
                        worded(found)
                    )
                }
            }
        }
    }
}

fn worded(found: &ReachAnswer) -> String {
    found
        .traffic
        .as_ref()
        .map_or_else(String::new, |traffic| format!(" over {traffic}"))
}
