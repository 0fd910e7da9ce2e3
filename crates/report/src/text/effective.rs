//! Effective rules: a table for each direction, the worst last; what is blocked in one paragraph.

use super::decider_text;
use crate::page::{FAINT, Look, Page, SHUT, STRONG, plural};
use anstyle::Style;
use heronshale_answers::{Answer, Effective, EntryFact, ReplyFact, SideFact};
use heronshale_audit::describe::Traffic;
use heronshale_audit::facts::{Decided, Decider, Does};
use heronshale_engine::judgement::StageKind;
use heronshale_model::estate::Direction;
use heronshale_sets::address::Family;
use std::collections::BTreeSet;

/// More rows of one table are counted, not shown.
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
            let classes = plural(several.len(), "class");
            let text = format!(
                "{} fall into {classes} with the same effective rules.",
                plural(members, "interface")
            );
            page.top(&text, heading);
        }
    }
    for one in all {
        if all.len() > 1 {
            page.blank();
        }
        interface(&mut page, one, all.len() > 1);
    }
    page.say(
        FAINT,
        "Filters at this interface only. For end-to-end reachability use `path`.",
    );
    page.foot(heading);
    page.finish()
}

/// What to say where all classes would be too long to read.
pub fn too_many_classes(classes: usize) -> String {
    format!(
        "{classes} classes are too long to read as text; name an interface, a network or a tag, or use --format json"
    )
}

fn sentence(one: &Effective) -> String {
    let count = |direction: Direction| {
        let sides = one.sides.iter().filter(|side| side.direction == direction);
        let rows = sides.map(|side| merged(&side.admitted, row).len());
        match rows.sum::<usize>() {
            0 => "nothing".to_owned(),
            count => format!("{} of traffic", plural(count, "kind")),
        }
    };
    let mut text = format!(
        "{} admits {} in and {} out.",
        one.interface.name,
        count(Direction::In),
        count(Direction::Out)
    );
    if let Some(open) = for_everybody(one) {
        text.push_str(&open);
    }
    let open: usize = one.sides.iter().map(|side| side.unknown.len()).sum();
    if open > 0 {
        let are = if open == 1 { "is" } else { "are" };
        text.push_str(&format!(" {open} more {are} unknown."));
    }
    text
}

/// What everybody may use, and by which rules.
fn for_everybody(one: &Effective) -> Option<String> {
    let sides = one
        .sides
        .iter()
        .filter(|side| side.direction == Direction::In);
    let open = sides.flat_map(|side| &side.admitted).filter(|entry| {
        let answered = matches!(entry.reply, ReplyFact::Passes | ReplyFact::OnlyTo { .. });
        answered && entry.traffic.peer.said == "any" && entry.traffic.source_ports.is_none()
    });
    let mut services: Vec<String> = Vec::new();
    let mut rules: Vec<String> = Vec::new();
    for entry in open {
        for service in &entry.traffic.services {
            if !services.contains(service) {
                services.push(service.clone());
            }
        }
        let by = entry
            .decided
            .iter()
            .rev()
            .find_map(|one| match &one.decider {
                Decider::Rule { rule } => Some(rule.rule.clone()),
                _ => None,
            });
        if let Some(by) = by.filter(|by| !rules.contains(by)) {
            rules.push(by);
        }
    }
    if services.is_empty() {
        return None;
    }
    let many = if rules.len() == 1 { "rule" } else { "rules" };
    let by = if rules.is_empty() {
        String::new()
    } else {
        format!(" ({many} {})", super::reach::shortened(&rules, 3))
    };
    let services = super::reach::shortened(&services, 4);
    Some(format!(" Anyone who reaches it may use {services}{by}."))
}

fn interface(page: &mut Page, one: &Effective, named: bool) {
    let fact = &one.interface;
    let public = if fact.public.is_empty() {
        String::new()
    } else {
        format!(", public {}", fact.public.join(", "))
    };
    let others = match one.class.len() {
        1 => String::new(),
        _ => {
            let shown = if page.look.details { usize::MAX } else { 4 };
            let names = super::reach::shortened(&one.class[1..], shown);
            format!(" · same for {names}")
        }
    };
    let text = format!(
        "{} · {}{public} · subnet {} of {}{others}",
        fact.name,
        fact.addresses.join(", "),
        fact.subnet,
        fact.network
    );
    page.say(if named { STRONG } else { Style::new() }, &text);
    for side in &one.sides {
        table(page, side);
    }
    page.blank();
    legend(page, one);
}

/// To which files line numbers belong.
fn legend(page: &mut Page, one: &Effective) {
    let mut files: BTreeSet<&str> = BTreeSet::new();
    let entries = one.sides.iter().flat_map(|side| {
        let rows = side.admitted.iter().chain(&side.unknown);
        rows.chain(&side.left)
    });
    let mut also = false;
    for decided in entries.flat_map(|entry| &entry.decided) {
        also |= !decided.also.is_empty();
        match &decided.decider {
            Decider::Rule { rule } => _ = files.insert(&rule.place.file),
            Decider::Default { place, .. } => _ = files.insert(&place.file),
            _ => {}
        }
    }
    if files.is_empty() {
        return;
    }
    let also = if also {
        " · +N: N more rules allow it too"
    } else {
        ""
    };
    let files = files.into_iter().collect::<Vec<_>>().join(", ");
    let text = format!(
        ":N is a line of {files}{also} · client ports are {}",
        one.client_ports
    );
    page.say(FAINT, &text);
}

fn table(page: &mut Page, side: &SideFact) {
    page.blank();
    let (peer, word) = match side.direction {
        Direction::In => ("from", "IN"),
        Direction::Out => ("to", "OUT"),
    };
    if side.stages.is_empty() {
        page.line(&format!("{word:<4} no filter: everything passes"));
        return;
    }
    let stages: Vec<String> = side
        .stages
        .iter()
        .map(|stage| {
            let names = match stage.filters.len() {
                0..=3 => stage.filters.join(" + "),
                count => format!("{} + {} more", stage.filters[0], count - 1),
            };
            format!("{} {names}", stage_text(stage.stage))
                .trim_end()
                .to_owned()
        })
        .collect();
    page.hang(STRONG, &format!("{word:<4} "), &stages.join(" → "), 5);
    let mut rows = merged(&side.admitted, row);
    rows.extend(merged(&side.unknown, unknown_row));
    if rows.is_empty() {
        page.line("nothing is allowed");
    }
    let more = rows.len().saturating_sub(MOST_ROWS);
    if !page.look.details {
        rows.truncate(MOST_ROWS);
    }
    for (number, row) in rows.iter_mut().enumerate() {
        row[0] = (number + 1).to_string();
    }
    let header = ["", peer, "service", "allowed by", "reply to client ports"];
    page.table(&header, &rows, &[]);
    if more > 0 && !page.look.details {
        let text =
            format!("and {more} more (--details, or narrow the question by --peer or --tcp)");
        page.say(FAINT, &text);
    }
    blocked(page, side);
}

/// What is blocked and by what, read from the left.
fn blocked(page: &mut Page, side: &SideFact) {
    let mut texts = merged(&side.left, |entry| vec![left_text(entry)]);
    if side.left.is_empty() {
        return;
    }
    let shown = if page.look.details { usize::MAX } else { 8 };
    let more = texts.len().saturating_sub(shown);
    texts.truncate(shown);
    let mut text = texts.concat().join(" · ");
    if more > 0 {
        text.push_str(&format!(" · and {more} more (--details)"));
    }
    page.hang_behind(SHUT, "BLOCKED ", Style::new(), &text, 8);
}

fn left_text(entry: &EntryFact) -> String {
    let Traffic { peer, services, .. } = &entry.traffic;
    let (here, ports) = super::narrowing(&entry.traffic);
    let what = match (peer.said.as_str(), services.as_slice()) {
        ("any", [all]) if all == "any" && here.is_empty() && ports.is_empty() => {
            "everything else".to_owned()
        }
        ("any", _) => format!("{}{ports}{here}", services.join(", ")),
        (said, [all]) if all == "any" => format!("everything else of {said}{here}"),
        (said, _) => format!("{} of {said}{ports}{here}", services.join(", ")),
    };
    let by = entry.decided.last().map_or_else(String::new, blocker);
    format!("{what} by {by}")
}

/// What blocks: `policy no-desktop-sharing :11`.
fn blocker(decided: &Decided) -> String {
    let stage = stage_text(decided.stage);
    match &decided.decider {
        Decider::Rule { rule } => {
            format!("{} {} :{}", rule.filter, rule.rule, rule.place.line)
        }
        Decider::Default { filter, place } => format!("the default of {filter} :{}", place.line),
        Decider::NoRule => format!("{stage}, no rule matches"),
        Decider::ImpliedDeny => format!("the implied deny of the {stage}"),
        Decider::NoGroup => "the lack of any group".to_owned(),
        other => format!("{stage}, {}", decider_text(other)),
    }
}

/// A stage in the words of the output.
fn stage_text(stage: StageKind) -> &'static str {
    match stage {
        StageKind::OwnFirewall => "own firewall",
        StageKind::ScopePolicies => "policies",
        StageKind::InterfaceGroups | StageKind::PooledGroups => "group",
        StageKind::SubnetGroups => "subnet group",
        StageKind::NetworkAcl => "ACL",
    }
}

/// Rows of both families in one list. Rows that both have stand once; others say their family. If the two lists differ in
/// order, one follows the other, since a list is read from the top.
fn merged(entries: &[EntryFact], row: impl Fn(&EntryFact) -> Vec<String>) -> Vec<Vec<String>> {
    let of = |family: Family| -> Vec<Vec<String>> {
        let mut rows: Vec<Vec<String>> = Vec::new();
        for entry in entries.iter().filter(|one| one.traffic.family == family) {
            rows.push(row(entry));
        }
        rows
    };
    let [four, six] = Family::BOTH.map(of);
    let marked = |row: &Vec<String>, family: Family| {
        let mut row = row.clone();
        let at = row.len().min(2) - 1;
        row[at] = format!("{} ({family} only)", row[at]);
        row
    };
    let at = |row: &Vec<String>| six.iter().position(|other| other == row);
    let places: Vec<usize> = four.iter().filter_map(at).collect();
    let mut merged: Vec<Vec<String>> = Vec::new();
    if places.windows(2).any(|pair| pair[0] >= pair[1]) {
        merged.extend(four.iter().map(|row| marked(row, Family::V4)));
        merged.extend(six.iter().map(|row| marked(row, Family::V6)));
        return merged;
    }
    // A family of which there is nothing needs no word.
    let single = four.is_empty() || six.is_empty();
    let mut next = 0;
    for row in &four {
        match at(row) {
            Some(place) => {
                merged.extend(six[next..place].iter().map(|row| marked(row, Family::V6)));
                next = place + 1;
                merged.push(row.clone());
            }
            None => merged.push(if single {
                row.clone()
            } else {
                marked(row, Family::V4)
            }),
        }
    }
    let rest = six[next..].iter();
    merged.extend(rest.map(|row| {
        if single {
            row.clone()
        } else {
            marked(row, Family::V6)
        }
    }));
    merged
}

fn row(entry: &EntryFact) -> Vec<String> {
    let reply = match &entry.reply {
        ReplyFact::Passes => "all".to_owned(),
        ReplyFact::OnlyTo { ports } => ports.clone(),
        ReplyFact::Denied { stage } => format!("BLOCKED by {}", stage_text(*stage)),
        ReplyFact::Unknown { stage } => format!("unknown: {}", stage_text(*stage)),
    };
    row_with(entry, reply)
}

fn unknown_row(entry: &EntryFact) -> Vec<String> {
    row_with(entry, "unknown".to_owned())
}

fn row_with(entry: &EntryFact, reply: String) -> Vec<String> {
    let Traffic { peer, services, .. } = &entry.traffic;
    let (here, ports) = super::narrowing(&entry.traffic);
    vec![
        String::new(),
        format!("{}{here}", peer.said),
        format!("{}{ports}", services.join(", ")),
        allowed_by(entry),
        reply,
    ]
}

/// What let it through: `ACL 100 :105 · tmp :90`; stages that decided nothing are left out.
fn allowed_by(entry: &EntryFact) -> String {
    let silent = |decided: &&Decided| {
        !matches!(
            decided.decider,
            Decider::NoPolicy | Decider::Finally | Decider::SameSubnet | Decider::Platform
        )
    };
    let told: Vec<String> = entry.decided.iter().filter(silent).map(cell).collect();
    let within = |decider: &Decider| entry.decided.iter().any(|one| one.decider == *decider);
    match told.is_empty() {
        true if within(&Decider::Platform) => "the platform, unfiltered".to_owned(),
        true if within(&Decider::NoPolicy) => "no policy decides".to_owned(),
        true => "no filter".to_owned(),
        false if within(&Decider::SameSubnet) => format!("{} (no ACL inside)", told.join(" · ")),
        false => told.join(" · "),
    }
}

fn cell(decided: &Decided) -> String {
    let also = if decided.also.is_empty() {
        String::new()
    } else {
        format!(" +{}", decided.also.len())
    };
    let text = decider_text(&decided.decider);
    // Rules of ACLs are numbers that say nothing by themselves.
    let rule = matches!(decided.decider, Decider::Rule { .. });
    let text = if rule && decided.stage != StageKind::NetworkAcl {
        format!("{text}{also}")
    } else {
        format!("{} {text}{also}", stage_text(decided.stage))
    };
    match decided.does {
        Does::Passes => text,
        Does::Denies => format!("BLOCKED by {text}"),
        Does::Rejects => format!("REJECTED by {text}"),
        Does::Unknown => format!("unknown: {text}"),
    }
}
