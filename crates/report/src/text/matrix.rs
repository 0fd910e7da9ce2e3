//! Which segment talks to which: a table where it fits, else a list; and one cell.

use super::reach::{shortened, way_text};
use crate::page::{FAINT, Look, OPEN, Page, SHUT, STRONG, plural};
use anstyle::Style;
use heronshale_answers::{Answer, CellAnswer, CellFact, CellPart, CellVerdict, MatrixAnswer};
use heronshale_engine::walk::Verdict;

/// A matrix as text.
pub fn matrix(answer: &Answer<MatrixAnswer>, look: Look) -> String {
    let Answer {
        heading,
        answer: found,
        ..
    } = answer;
    let mut page = Page::new(look);
    page.top(&sentence(found), heading);
    page.blank();
    let count = found.segments.len();
    // What a reader has to look up: each set of firewalls a letter.
    let mut notes: Vec<String> = Vec::new();
    let mut cells: Vec<String> = Vec::new();
    for cell in &found.cells {
        let note = note(cell);
        let mark = note.map_or_else(String::new, |note| {
            let at = notes
                .iter()
                .position(|known| *known == note)
                .unwrap_or_else(|| {
                    notes.push(note);
                    notes.len() - 1
                });
            format!(" {}", letter(at))
        });
        let word = if cell.verdict == CellVerdict::Nobody {
            ""
        } else {
            cell.verdict.word()
        };
        cells.push(if cell.verdict == CellVerdict::No {
            "-".to_owned() + &mark
        } else {
            format!("{word}{mark}")
        });
    }
    let widest = |column: usize| {
        let rows = cells
            .iter()
            .skip(column)
            .step_by(count)
            .map(|cell| cell.chars().count());
        rows.chain([found.segments[column].name.chars().count()])
            .max()
            .unwrap_or(0)
            + 2
    };
    let names = found
        .segments
        .iter()
        .map(|segment| segment.name.chars().count())
        .max()
        .unwrap_or(0)
        + 4;
    if names + (0..count).map(widest).sum::<usize>() <= page.look.width {
        let mut header = vec![format!("from {}", found.by)];
        header.extend(found.segments.iter().map(|segment| segment.name.clone()));
        let rows: Vec<Vec<String>> = (0..count)
            .map(|row| {
                let own = &cells[row * count..(row + 1) * count];
                [vec![found.segments[row].name.clone()], own.to_vec()].concat()
            })
            .collect();
        page.table(
            &header.iter().map(String::as_str).collect::<Vec<_>>(),
            &rows,
            &[],
        );
    } else {
        as_list(&mut page, found, &cells);
    }
    if !notes.is_empty() {
        page.blank();
        for (at, note) in notes.iter().enumerate() {
            page.hang(Style::new(), &format!("  {:<3}", letter(at)), note, 5);
        }
    }
    page.blank();
    page.say(
        FAINT,
        "- nothing works · for one cell: heronshale matrix FROM TO",
    );
    page.foot(heading);
    page.finish()
}

/// For each segment to whom it talks, and how.
fn as_list(page: &mut Page, found: &MatrixAnswer, cells: &[String]) {
    let count = found.segments.len();
    for (row, segment) in found.segments.iter().enumerate() {
        let mut groups: Vec<(&str, Vec<String>)> = Vec::new();
        let mut none = 0;
        for (column, cell) in cells[row * count..(row + 1) * count].iter().enumerate() {
            if cell.is_empty() || cell == "-" {
                none += usize::from(cell == "-");
                continue;
            }
            let name = found.segments[column].name.clone();
            match groups.iter_mut().find(|(known, _)| *known == cell) {
                Some((_, all)) => all.push(name),
                None => groups.push((cell, vec![name])),
            }
        }
        page.hang(STRONG, "", &segment.name, 2);
        for (cell, names) in &groups {
            page.hang(
                Style::new(),
                &format!("  {cell:<15}"),
                &shortened(names, 12),
                17,
            );
        }
        if none > 0 {
            page.hang(FAINT, &format!("  {:<15}", "-"), &plural(none, "other"), 17);
        }
    }
}

fn letter(at: usize) -> String {
    let sign = |at: usize| char::from(b'a' + u8::try_from(at % 26).unwrap_or(0)).to_string();
    if at < 26 {
        sign(at)
    } else {
        format!("{}{}", sign(at / 26 - 1), sign(at))
    }
}

/// What stands between, and by what it goes.
fn note(cell: &CellFact) -> Option<String> {
    let mut parts = Vec::new();
    let names = |all: &[String]| {
        if all.len() == 1 {
            format!("firewall {}", all[0])
        } else {
            format!("firewalls {}", all.join(", "))
        }
    };
    match (cell.firewalls.is_empty(), cell.without_firewall) {
        (true, _) => {}
        (false, false) => parts.push(format!("through {}", names(&cell.firewalls))),
        (false, true) => parts.push(format!(
            "partly through {}, partly through none",
            names(&cell.firewalls)
        )),
    }
    if !cell.refused_by.is_empty() {
        parts.push(format!(
            "{} blocks {}",
            names(&cell.refused_by),
            if cell.verdict == CellVerdict::No {
                "it"
            } else {
                "the rest"
            }
        ));
    }
    if !cell.by.is_empty() {
        parts.push(format!("by {}", by_text(&cell.by)));
    }
    (!parts.is_empty()).then(|| parts.join("; "))
}

/// `balancer booking-front, 4 public addresses`.
fn by_text(all: &[String]) -> String {
    let (public, mut others): (Vec<&String>, Vec<&String>) =
        all.iter().partition(|by| by.starts_with("public address "));
    let several = format!("{} public addresses", public.len());
    if public.len() > 1 {
        others.push(&several);
    } else {
        others.extend(public);
    }
    shortened(&others.into_iter().cloned().collect::<Vec<_>>(), 4)
}

fn sentence(found: &MatrixAnswer) -> String {
    let pairs = found
        .cells
        .iter()
        .filter(|cell| cell.from != cell.to && cell.verdict != CellVerdict::Nobody);
    let count = |verdict: CellVerdict| pairs.clone().filter(|cell| cell.verdict == verdict).count();
    let talks = count(CellVerdict::Works) + count(CellVerdict::Partly);
    let traffic = found
        .traffic
        .as_ref()
        .map_or_else(String::new, |traffic| format!(" over {traffic}"));
    let open = [
        (CellVerdict::Conditional, "depend"),
        (CellVerdict::Unknown, "are unknown"),
    ];
    let open: Vec<String> = open
        .into_iter()
        .filter(|(verdict, _)| count(*verdict) > 0)
        .map(|(verdict, word)| format!("; {} more {word}", count(verdict)))
        .collect();
    let around = pairs
        .clone()
        .filter(|cell| cell.without_firewall && !cell.firewalls.is_empty())
        .count();
    let around = match around {
        0 => String::new(),
        1 => " In 1 of them some traffic bypasses the firewall.".to_owned(),
        more => format!(" In {more} of them some traffic bypasses the firewall."),
    };
    let total = pairs.clone().count();
    format!(
        "{talks} of {total} pairs of segments can talk{traffic}{}.{around}",
        open.concat()
    )
}

/// Parts with the same fate, traffic and targets as one.
fn alike(parts: &[CellPart]) -> Vec<CellPart> {
    let mut all: Vec<CellPart> = Vec::new();
    for part in parts {
        let same = |one: &&mut CellPart| {
            (one.verdict, &one.targets, &one.ways, &one.ended_at)
                == (part.verdict, &part.targets, &part.ways, &part.ended_at)
        };
        match all.iter_mut().find(same) {
            Some(known) => known.sources.extend(part.sources.iter().cloned()),
            None => all.push(part.clone()),
        }
    }
    all
}

/// One cell as text.
pub fn matrix_cell(answer: &Answer<CellAnswer>, look: Look) -> String {
    let Answer {
        heading,
        answer: found,
        ..
    } = answer;
    let mut page = Page::new(look);
    let cell = &found.cell;
    let traffic = found.traffic.as_deref().unwrap_or("any traffic");
    let ends = format!("{traffic} from {} to {}", cell.from, cell.to);
    let how = match cell.verdict {
        CellVerdict::Works => format!("Yes: {ends} works for all"),
        CellVerdict::Partly => format!("Partly: {ends} works for {}", shortened(&cell.services, 6)),
        CellVerdict::Unknown if heading.given_up => {
            format!("Unknown: {ends} has more possible ways than the limit of steps allows")
        }
        CellVerdict::Unknown => {
            format!("Unknown: {ends} depends on something missing from the snapshot")
        }
        CellVerdict::Conditional => format!("It depends: {ends} works under conditions only"),
        CellVerdict::No => format!("No: {ends} does not work"),
        CellVerdict::Nobody => format!("There is no pair from {} to {}", cell.from, cell.to),
    };
    let note = note(cell).map_or_else(String::new, |note| format!("; {note}"));
    page.top(&format!("{how}{note}."), heading);
    page.blank();
    for part in alike(&found.parts) {
        let works = part.verdict <= Verdict::Conditional;
        let style = if works { OPEN } else { SHUT };
        let ended = part
            .ended_at
            .as_ref()
            .map_or_else(String::new, |ended| format!(" ({ended})"));
        let ways: Vec<String> = part.ways.iter().map(way_text).collect();
        let names = if page.look.details { usize::MAX } else { 4 };
        let text = format!(
            "{} → {}: {}{ended}",
            shortened(&part.sources, names),
            shortened(&part.targets, names),
            ways.join(" · "),
        );
        let label = format!("{:<13} ", super::path::verdict_text(part.verdict));
        page.hang_behind(style, &label, Style::new(), &text, 14);
    }
    if let Some(part) = found
        .parts
        .iter()
        .find(|part| part.verdict > Verdict::Conditional)
    {
        let (from, to) = (part.sources.first(), part.targets.first());
        if let (Some(from), Some(to)) = (from, to) {
            page.blank();
            page.say(
                FAINT,
                &format!("For every step and fixes: heronshale path {from} {to} --tcp PORT"),
            );
        }
    }
    page.foot(heading);
    page.finish()
}
