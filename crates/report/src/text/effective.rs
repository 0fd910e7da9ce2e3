//! Effective rules: a table for each direction, a column for each stage.

use super::decider_text;
use crate::page::{FAINT, Look, Page, STRONG, plural};
use anstyle::Style;
use heronshale_answers::{Answer, Effective, EntryFact, ReplyFact, SideFact};
use heronshale_audit::describe::Traffic;
use heronshale_audit::facts::Does;
use heronshale_audit::facts::{Decided, Decider};
use heronshale_model::estate::Direction;
use heronshale_sets::address::Family;
use std::collections::BTreeSet;

/// More rows of one sort and family are counted, not shown.
const MOST_ROWS: usize = 60;

/// Effective rules of one interface, or of one of each class.
pub fn effective(answer: &Answer<Vec<Effective>>, look: Look) -> String {
    let Answer {
        heading,
        answer: all,
        ..
    } = answer;
    let mut page = Page::new(look);
    match all.as_slice() {
        [one] => page.top(&sentence(one), heading),
        several => {
            let members: usize = several.iter().map(|one| one.class.len()).sum();
            page.top(
                &format!(
                    "{} of interfaces with the same filters, for {}.",
                    plural(several.len(), "class"),
                    plural(members, "interface")
                ),
                heading,
            );
        }
    }
    for one in all {
        page.blank();
        interface(&mut page, one, all.len() > 1);
    }
    page.say(
        FAINT,
        "What the filters at this interface do; whether a packet gets here, and its reply back, is another question.",
    );
    page.finish()
}

/// What to say where all classes would be too long to read.
pub fn too_many_classes(classes: usize) -> String {
    format!(
        "{classes} classes: as text that is too long to read; name an interface, a network or a tag, or take --format json"
    )
}

fn sentence(one: &Effective) -> String {
    let count = |direction: Direction| {
        one.sides
            .iter()
            .filter(|side| side.direction == direction)
            .map(|side| side.admitted.len())
            .sum::<usize>()
    };
    let entries = |count: usize| {
        if count == 0 {
            "nothing".to_owned()
        } else {
            plural(count, "kind") + " of traffic"
        }
    };
    let bad = one
        .sides
        .iter()
        .flat_map(|side| &side.admitted)
        .filter(|entry| entry.reply != ReplyFact::Passes)
        .count();
    let open = one
        .sides
        .iter()
        .map(|side| side.unknown.len())
        .sum::<usize>();
    let mut text = format!(
        "The filters of {} admit {} in and {} out.",
        one.interface.name,
        entries(count(Direction::In)),
        entries(count(Direction::Out))
    );
    if bad > 0 {
        text.push_str(&format!(
            " Of {bad} the reply gets back to some client ports only, or not at all."
        ));
    }
    if open > 0 {
        text.push_str(&format!(
            " {} unknown.",
            if open == 1 {
                "1 is".to_owned()
            } else {
                format!("{open} are")
            }
        ));
    }
    text
}

fn interface(page: &mut Page, one: &Effective, named: bool) {
    let fact = &one.interface;
    let public = if fact.public.is_empty() {
        String::new()
    } else {
        format!(", public {}", fact.public.join(", "))
    };
    let others = match one.class.len() {
        1 => "the only one of its class".to_owned(),
        count => {
            let shown: Vec<&str> = one
                .class
                .iter()
                .skip(1)
                .take(4)
                .map(String::as_str)
                .collect();
            let more = count.saturating_sub(5);
            let tail = if more > 0 {
                format!(" and {more} more")
            } else {
                String::new()
            };
            format!("alike: {}{tail}", shown.join(", "))
        }
    };
    let text = format!(
        "{} · {}{public} · subnet {} of {} · {others}",
        fact.name,
        fact.addresses.join(", "),
        fact.subnet,
        fact.network
    );
    page.say(if named { STRONG } else { Style::new() }, &text);
    let mut files: BTreeSet<String> = BTreeSet::new();
    for side in &one.sides {
        table(page, side);
        let deciders = side
            .admitted
            .iter()
            .chain(&side.unknown)
            .chain(&side.left)
            .flat_map(|entry| &entry.decided);
        files.extend(deciders.filter_map(|decided| match &decided.decider {
            Decider::Rule { rule } => Some(rule.place.file.clone()),
            Decider::Default { place, .. } => Some(place.file.clone()),
            _ => None,
        }));
    }
    page.blank();
    if !files.is_empty() {
        let files: Vec<String> = files.into_iter().collect();
        let mut entries = one
            .sides
            .iter()
            .flat_map(|side| side.admitted.iter().chain(&side.unknown));
        let also =
            entries.any(|entry| entry.decided.iter().any(|decided| !decided.also.is_empty()));
        let also = if also {
            " · +N: so many other rules of the groups admit it too"
        } else {
            ""
        };
        let text = format!(
            ":N is a line of {}{also} · client ports {}",
            files.join(", "),
            one.client_ports
        );
        page.say(FAINT, &text);
    }
}

fn table(page: &mut Page, side: &SideFact) {
    page.blank();
    let (peer, word) = if side.direction == Direction::In {
        ("from", "IN")
    } else {
        ("to", "OUT")
    };
    if side.stages.is_empty() {
        page.line(&format!("{word}   no filter: everything passes"));
        return;
    }
    let crossed: Vec<String> = side
        .stages
        .iter()
        .map(|stage| {
            let names = match stage.filters.len() {
                0..=3 => stage.filters.join(" + "),
                count => format!("{} + {} more", stage.filters[0], count - 1),
            };
            format!("{} {names}", stage.stage.word())
                .trim_end()
                .to_owned()
        })
        .collect();
    let line = format!("crosses {}", crossed.join(", then "));
    page.hang(Style::new(), &format!("{word:<4} "), &line, 5);
    let mut rows = Vec::new();
    for (entries, sort) in [
        (&side.admitted, "pass"),
        (&side.unknown, "unknown"),
        (&side.left, "rest"),
    ] {
        let of = |family: Family| {
            entries
                .iter()
                .filter(|entry| entry.traffic.family == family)
                .map(|entry| row(entry, sort))
                .collect()
        };
        let [v4, v6]: [Vec<Vec<String>>; 2] = Family::BOTH.map(of);
        // Both families are told once where they are decided alike from top to bottom.
        let told = if v4 == v6 {
            vec![("IPv4+6", v4)]
        } else {
            vec![("IPv4", v4), ("IPv6", v6)]
        };
        for (family, list) in told {
            let more = list.len().saturating_sub(MOST_ROWS);
            for (at, mut row) in list.into_iter().take(MOST_ROWS).enumerate() {
                row[0] = if at == 0 {
                    format!("{family} {sort}")
                } else {
                    String::new()
                };
                rows.push(row);
            }
            if more > 0 {
                let told = format!(
                    "and {more} more: --peer, --tcp and the like narrow the question, --format json tells all"
                );
                rows.push(vec![
                    String::new(),
                    told,
                    String::new(),
                    String::new(),
                    String::new(),
                ]);
            }
        }
    }
    page.table(&["", peer, "service", "by", "reply"], &rows, &[]);
}

fn row(entry: &EntryFact, sort: &str) -> Vec<String> {
    let Traffic { peer, services, .. } = &entry.traffic;
    let (here, ports) = super::narrowing(&entry.traffic);
    let mut row = vec![
        String::new(),
        format!("{}{here}", peer.said),
        format!("{}{ports}", services.join(", ")),
    ];
    let told = entry
        .decided
        .iter()
        .filter(|decided| decided.decider != Decider::NoPolicy || entry.decided.len() == 1);
    let platform = entry
        .decided
        .iter()
        .all(|decided| decided.decider == Decider::Platform);
    let told = told.map(cell).collect::<Vec<_>>().join(", ");
    row.push(if platform {
        "platform traffic, which nothing filters".to_owned()
    } else {
        told
    });
    row.push(match &entry.reply {
        _ if sort != "pass" => "-".to_owned(),
        ReplyFact::Passes => "passes".to_owned(),
        ReplyFact::OnlyTo { ports } => format!("to {ports} only"),
        ReplyFact::Denied { stage } => format!("DENIED by {}", stage.word()),
        ReplyFact::Unknown { stage } => format!("unknown: {}", stage.word()),
    });
    row
}

fn cell(decided: &Decided) -> String {
    let also = if decided.also.is_empty() {
        String::new()
    } else {
        format!(" +{}", decided.also.len())
    };
    let text = format!(
        "{} {}{also}",
        decided.stage.word(),
        decider_text(&decided.decider)
    );
    match decided.does {
        Does::Passes => text,
        Does::Denies => format!("DENIED by {text}"),
        Does::Rejects => format!("REJECTED by {text}"),
        Does::Unknown => format!("unknown: {text}"),
    }
}
