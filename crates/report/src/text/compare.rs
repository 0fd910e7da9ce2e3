//! Two states compared: the edits with their letters, then what they do, class by class.

use super::reach::shortened;
use super::{at, placed};
use crate::page::{FAINT, Look, OPEN, Page, SHUT, STRONG, plural};
use anstyle::Style;
use heronshale_answers::{Answer, ChangedRow, CompareAnswer, OutcomeFact, TurnedExpectation};
use heronshale_audit::describe::moment_text;
use heronshale_audit::expect::State;
use heronshale_audit::facts::{Meaning, StepFact};
use heronshale_change::Class;

/// Rows of one class.
const ROWS: usize = 12;

/// A comparison as text.
pub fn compare(answer: &Answer<CompareAnswer>, look: Look) -> String {
    let Answer {
        heading,
        answer: found,
        ..
    } = answer;
    let mut page = Page::new(look);
    page.top(&sentence(found), heading);
    edits(&mut page, found, heading.taken.as_ref());
    if found.renamed > 0 {
        page.blank();
        let have = if found.renamed == 1 { "has" } else { "have" };
        let things = plural(found.renamed, "thing");
        page.say(
            Style::new(),
            &format!(
                "{things} {have} another name, and are otherwise the same. The new names are used."
            ),
        );
    }
    only(&mut page, found);
    moved(&mut page, found);
    turned(&mut page, found);
    acceptances(&mut page, found);
    for (title, style, rows) in blocks(found, look.details) {
        page.heading(&title);
        rows_of(&mut page, style, &rows);
    }
    if found.fails_otherwise > 0 && !look.details {
        page.blank();
        let rows = plural(found.fails_otherwise, "group");
        let fail = if found.fails_otherwise == 1 {
            "fails"
        } else {
            "fail"
        };
        page.say(
            FAINT,
            &format!("{rows} of connections {fail} in another way than before (--details)."),
        );
    }
    if found.unknown_in_both {
        page.blank();
        page.say(
            FAINT,
            "Some connections are unknown in both states. Nothing is said about them.",
        );
    }
    page.foot(heading);
    page.finish()
}

/// The sentence of a comparison alone.
pub fn compare_sentence(found: &CompareAnswer, look: Look) -> String {
    let mut page = Page::new(look);
    page.say(STRONG, &sentence(found));
    page.finish()
}

/// The sentence: what breaks, what opens, what is lost.
pub(super) fn sentence(found: &CompareAnswer) -> String {
    if found.edits.is_empty() && found.rows.is_empty() {
        return match found.renamed {
            0 => "Nothing differs: there are no edits.".to_owned(),
            _ => "Nothing differs but names.".to_owned(),
        };
    }
    let of = |class: Class| found.rows.iter().filter(move |row| row.class == class);
    let mut said = Vec::new();
    let broken: Vec<&TurnedExpectation> = found
        .turned
        .iter()
        .filter(|one| one.now == State::Broken)
        .collect();
    let mut by: Vec<&str> = broken
        .iter()
        .flat_map(|one| &one.cause)
        .map(String::as_str)
        .collect();
    by.sort_unstable();
    by.dedup();
    let by = match by.as_slice() {
        [] => String::new(),
        [one] => format!(" (edit {one})"),
        several => format!(" (edits {})", several.join(", ")),
    };
    match broken.as_slice() {
        [] => {}
        [one] => said.push(format!("1 expectation breaks: \"{}\"{by}.", one.name)),
        several => said.push(format!("{} expectations break{by}.", several.len())),
    }
    let repaired = found.turned.iter().filter(|one| one.now == State::Kept);
    // Where some break the word was said.
    let what = |count| match broken.len() {
        0 => plural(count, "expectation"),
        _ => count.to_string(),
    };
    match repaired.count() {
        0 => {}
        1 => said.push(format!("{} is kept again.", what(1))),
        several => said.push(format!("{} are kept again.", what(several))),
    }
    let forbidden = |row: &&&ChangedRow| row.meaning == Some(Meaning::Unmeant);
    let (inward, opened): (Vec<&ChangedRow>, Vec<&ChangedRow>) =
        of(Class::Opened).partition(|row| is_inward(row));
    let lost: Vec<&ChangedRow> = of(Class::Lost)
        .filter(|row| row.meaning != Some(Meaning::Unmeant))
        .collect();
    let inspected: Vec<&ChangedRow> = of(Class::InspectionChanged).collect();
    let parts = [
        (
            &inward,
            "way in from the internet opens",
            "ways in from the internet open",
        ),
        (&opened, "way opens inside", "ways open inside"),
        (&lost, "way is lost", "ways are lost"),
        (
            &inspected,
            "way passes other firewalls",
            "ways pass other firewalls",
        ),
    ];
    for (rows, one, several) in parts {
        let forbidden = match rows.iter().filter(forbidden).count() {
            0 => String::new(),
            count => format!(", {count} against an expectation"),
        };
        match rows.len() {
            0 => {}
            1 => said.push(format!("1 {one}{forbidden}.")),
            count => said.push(format!("{count} {several}{forbidden}.")),
        }
    }
    let count =
        |classes: &[Class]| -> usize { classes.iter().map(|class| of(*class).count()).sum() };
    let known = count(&[Class::BecameKnown]);
    let open = count(&[Class::BecameUnknown, Class::NotComparable, Class::Undecided]);
    if said.is_empty() && open + known == 0 {
        let edits = plural(found.edits.len(), "edit");
        let others = found
            .rows
            .iter()
            .any(|row| row.class != Class::FailsOtherwise);
        let happens = if found.unknown_in_both || found.edits.iter().any(|edit| edit.not_judged) {
            "is known to open or to be lost"
        } else {
            "opens or is lost"
        };
        let rest = if others {
            "; some fare differently"
        } else {
            ""
        };
        let of = match found.only.as_slice() {
            [] => String::new(),
            only => format!(" from or to {}", only.join(" or ")),
        };
        said.push(format!("No connection{of} {happens} by {edits}{rest}."));
    }
    for (count, one, several) in [
        (
            open,
            "way is unknown or undecided",
            "ways are unknown or undecided",
        ),
        (known, "way was unknown before", "ways were unknown before"),
    ] {
        match count {
            0 => {}
            1 => said.push(format!("1 {one}.")),
            count => said.push(format!("{count} {several}.")),
        }
    }
    said.join(" ")
}

fn is_inward(row: &ChangedRow) -> bool {
    row.sets.iter().any(|set| set.start == "internet")
}

fn edits(page: &mut Page, found: &CompareAnswer, taken: Option<&String>) {
    if found.edits.is_empty() {
        return;
    }
    let owners: std::collections::BTreeSet<&String> = found
        .edits
        .iter()
        .filter_map(|edit| edit.owner.as_ref())
        .collect();
    let owned = match owners.len() {
        0 => String::new(),
        count => format!(", {}", plural(count, "owner")),
    };
    let since = found
        .since
        .as_ref()
        .filter(|since| Some(*since) != taken)
        .map_or_else(String::new, |since| {
            format!(" SINCE {}", moment_text(since))
        });
    page.heading(&format!("EDITS{since} ({}{owned})", found.edits.len()));
    let shown = if page.look.details { usize::MAX } else { 26 };
    let width = found
        .edits
        .iter()
        .take(shown)
        .map(|edit| edit.letter.len())
        .max()
        .unwrap_or(1);
    for edit in found.edits.iter().take(shown) {
        let owner = edit
            .owner
            .as_ref()
            .map_or_else(String::new, |owner| format!(", {owner}"));
        let place = if edit.gone {
            format!("was at {}", at(&edit.place))
        } else {
            at(&edit.place)
        };
        let effect = match (edit.without_effect, edit.not_judged) {
            (true, _) => "; makes no known difference",
            (_, true) => "; not judged, names are not compared",
            _ => "",
        };
        let label = format!(" {:<width$}  ", edit.letter);
        let text = format!("{}  ({place}{owner}{effect})", edit.text);
        page.hang_behind(STRONG, &label, Style::new(), &text, width + 3);
    }
    if found.edits.len() > shown {
        let more = found.edits.len() - shown;
        page.say(FAINT, &format!(" and {more} more (--details)"));
    }
}

/// Addresses that changed sides, and gaps of one side only.
fn moved(page: &mut Page, found: &CompareAnswer) {
    let lines = [
        ("Released, not the estate's any more: ", &found.released),
        ("Taken from the internet: ", &found.taken),
        ("Missing in the old snapshot only: ", &found.gaps_before),
        ("Missing in the new snapshot only: ", &found.gaps_now),
    ];
    if lines.iter().any(|(_, all)| !all.is_empty()) {
        page.blank();
    }
    for (label, all) in lines {
        if !all.is_empty() {
            page.hang(Style::new(), label, &shortened(all, 8), 2);
        }
    }
}

pub(super) type Block<'a> = (String, Style, Vec<&'a ChangedRow>);

/// Rows under their titles.
pub(super) fn blocks(found: &CompareAnswer, details: bool) -> Vec<Block<'_>> {
    let of = |class: Class, pick: &dyn Fn(&ChangedRow) -> bool| -> Vec<&ChangedRow> {
        let rows = found.rows.iter();
        rows.filter(|row| row.class == class && pick(row)).collect()
    };
    let closed = |row: &ChangedRow| row.meaning == Some(Meaning::Unmeant);
    let mut blocks: Vec<Block<'_>> = vec![
        (
            "OPENED FROM THE INTERNET".to_owned(),
            OPEN,
            of(Class::Opened, &is_inward),
        ),
        (
            "OPENED".to_owned(),
            OPEN,
            of(Class::Opened, &|row| !is_inward(row)),
        ),
        (
            "REACHES ANOTHER RECEIVER".to_owned(),
            OPEN,
            of(Class::AnotherReceiver, &|_| true),
        ),
        (
            "LOST".to_owned(),
            SHUT,
            of(Class::Lost, &|row| !closed(row)),
        ),
        (
            "CLOSED AS INTENDED".to_owned(),
            SHUT,
            of(Class::Lost, &closed),
        ),
    ];
    for class in Class::ALL {
        let told = matches!(class, Class::Opened | Class::AnotherReceiver | Class::Lost);
        if !told && (class != Class::FailsOtherwise || details) {
            let title = class.word().to_uppercase();
            blocks.push((title, Style::new(), of(class, &|_| true)));
        }
    }
    blocks.retain(|(_, _, rows)| !rows.is_empty());
    blocks
}

/// The edits that make a change: `a`, `a or b`, `a with b`; of many the first.
pub(super) fn cause(row: &ChangedRow) -> String {
    const EDITS: usize = 4;
    const SETS: usize = 3;
    let set = |set: &Vec<String>| match set.len() {
        0..=EDITS => set.join(" with "),
        count => format!("{} with {} more", set[..2].join(" with "), count - 2),
    };
    let sets: Vec<String> = row.cause.iter().take(SETS).map(set).collect();
    let more = match row.cause.len().saturating_sub(SETS) {
        0 => String::new(),
        count => format!(" or {}", plural(count, "other set")),
    };
    format!("{}{more}", sets.join(" or "))
}

fn rows_of(page: &mut Page, style: Style, rows: &[&ChangedRow]) {
    let shown = if page.look.details { usize::MAX } else { ROWS };
    for row in rows.iter().take(shown) {
        let label = format!(" {:<7} ", cause(row));
        let from: Vec<String> = row.from.iter().map(|one| one.said.clone()).collect();
        let mut seen = Vec::new();
        for one in from {
            if !seen.contains(&one) {
                seen.push(one);
            }
        }
        let most = if page.look.details { usize::MAX } else { 6 };
        let mut text = format!("{} → {}", shortened(&seen, most), traffic(row, most));
        if let Some(meaning) = row.meaning {
            text.push_str(&format!("; {}", judged(row, meaning)));
        }
        if !row.meet.is_empty() {
            let owners = row.meet.join(" and ");
            text.push_str(&format!("; only where edits of {owners} meet"));
        }
        page.hang_behind(style, &label, Style::new(), &text, 9);
        let said = told(row);
        if !said.is_empty() {
            page.hang(FAINT, "         ", &said, 9);
        }
        if !row.cause_is_minimal {
            page.hang(
                FAINT,
                "         ",
                "Not every set of edits was tried: a smaller cause may exist.",
                9,
            );
        }
    }
    if rows.len() > shown {
        let more = rows.len() - shown;
        page.say(FAINT, &format!(" and {more} more (--details)"));
    }
}

/// To whom, with what: what goes to one end together.
pub(super) fn traffic(row: &ChangedRow, most: usize) -> String {
    let mut ends: Vec<(String, Vec<String>)> = Vec::new();
    for one in &row.traffic {
        let services = one.services.clone();
        match ends.iter_mut().find(|(_, known)| *known == services) {
            Some((said, _)) if said.contains(&one.destinations.said) => {}
            Some((said, _)) => said.push_str(&format!(", {}", one.destinations.said)),
            None => ends.push((one.destinations.said.clone(), services)),
        }
    }
    let texts: Vec<String> = ends
        .iter()
        .map(|(said, services)| format!("{said}: {}", shortened(services, most)))
        .collect();
    shortened(&texts, 3)
}

pub(super) fn judged(row: &ChangedRow, meaning: Meaning) -> String {
    let names: Vec<String> = row
        .expectations
        .iter()
        .map(|name| format!("\"{name}\""))
        .collect();
    let names = shortened(&names, 2);
    match (row.class, meaning) {
        (Class::Lost | Class::WorksForLess, Meaning::Meant) => format!("needed by {names}"),
        (_, Meaning::Meant) => format!("intended by {names}"),
        (_, Meaning::Unmeant) => format!("forbidden by {names}"),
        (_, Meaning::Unjudged) => "not judged".to_owned(),
    }
}

/// What decided before, what decides now.
fn told(row: &ChangedRow) -> String {
    let fails = |one: &OutcomeFact| {
        !matches!(
            one.verdict.as_str(),
            "works" | "works for some" | "conditional"
        )
    };
    match row.class {
        Class::Opened => {
            let by = row.now.firewalls.join(", ");
            let passes = if by.is_empty() {
                "passes no firewall".to_owned()
            } else {
                format!("passes {by}")
            };
            format!(
                "before: {}; now: {}",
                ended(row, &row.before),
                works(&row.now, &passes)
            )
        }
        Class::Lost => format!("now: {}", ended(row, &row.now)),
        Class::InspectionChanged => {
            let way = |one: &OutcomeFact| {
                let names = |all: &[String]| {
                    if all.is_empty() {
                        "none".to_owned()
                    } else {
                        all.join(", ")
                    }
                };
                let (there, back) = (names(&one.firewalls), names(&one.reply_firewalls));
                if there == back {
                    there
                } else {
                    format!("{there} there, {back} back")
                }
            };
            format!(
                "firewalls before: {}; now: {}",
                way(&row.before),
                way(&row.now)
            )
        }
        Class::SeenAsAnother => {
            let seen = |one: &OutcomeFact| {
                if one.seen_as.is_empty() {
                    "its own address".to_owned()
                } else {
                    one.seen_as.join(", ")
                }
            };
            format!(
                "seen as {} before; as {} now",
                seen(&row.before),
                seen(&row.now)
            )
        }
        Class::AnotherReceiver => format!(
            "received before by {}; now by {}",
            row.before.receivers.join(", "),
            row.now.receivers.join(", ")
        ),
        _ if fails(&row.before) || fails(&row.now) => {
            format!(
                "before: {}; now: {}",
                ended(row, &row.before),
                ended(row, &row.now)
            )
        }
        _ => format!("before: {}; now: {}", row.before.verdict, row.now.verdict),
    }
}

/// How it ended, with the piece that ended it.
fn ended(row: &ChangedRow, one: &OutcomeFact) -> String {
    if one.verdict == "absent" {
        let what = if is_inward(row) {
            "the address is not the estate's"
        } else {
            "nothing sends from there"
        };
        return what.to_owned();
    }
    match &one.decides {
        None => one.verdict.clone(),
        Some(step) => match one.verdict.as_str() {
            "works" => format!("works, last check {}", step_text(step)),
            "works for some" => format!("works for some, others end at {}", step_text(step)),
            verdict => format!("{verdict}, {}", step_text(step)),
        },
    }
}

/// How it works, past which firewalls, with the last check, or where it fails for others.
fn works(one: &OutcomeFact, passes: &str) -> String {
    let step = one.decides.as_ref().map(step_text);
    match (step, one.verdict.as_str()) {
        (Some(step), "works") => format!("works, {passes}; last check {step}"),
        (Some(step), "works for some") => {
            format!("works for some, {passes}; for others it ends at {step}")
        }
        (_, verdict) => format!("{verdict}, {passes}"),
    }
}

fn step_text(step: &StepFact) -> String {
    let place = step
        .place
        .as_ref()
        .map_or_else(String::new, |place| format!(" ({})", at(place)));
    if step.why.is_empty() {
        format!("{}{place}", step.at)
    } else {
        format!("{}: {}{place}", step.at, step.why)
    }
}

fn turned(page: &mut Page, found: &CompareAnswer) {
    if found.turned.is_empty() {
        return;
    }
    page.heading("EXPECTATIONS");
    for one in &found.turned {
        let label = format!(" {:<7} ", one.cause.join(" or "));
        let mut text = format!("{} → {}: {}", one.before.word(), one.now.word(), one.name);
        if !one.why.is_empty() && one.now != State::Kept {
            text.push_str(&format!("; {}", one.why));
        }
        let style = if one.now == State::Broken {
            OPEN
        } else {
            Style::new()
        };
        page.hang_behind(style, &label, Style::new(), &text, 9);
        for edit in &one.fix {
            let text = placed(&edit.text, edit.place.as_ref(), edit.owner.as_ref());
            page.hang_behind(STRONG, "         first: ", Style::new(), &text, 16);
        }
    }
}

/// What was asked for, and whether findings are new.
fn only(page: &mut Page, found: &CompareAnswer) {
    if !found.only.is_empty() {
        page.blank();
        let left = match found.left_out {
            0 => String::new(),
            count => format!("; {} left out", plural(count, "other group")),
        };
        let text = format!(
            "Only connections from or to {}{left}.",
            found.only.join(" or ")
        );
        page.say(Style::new(), &text);
    }
    if let Some(count) = found.new_findings {
        page.blank();
        let text = match count {
            0 => "No finding is new.".to_owned(),
            1 => "1 finding is new (audit --since lists it).".to_owned(),
            count => format!("{count} findings are new (audit --since lists them)."),
        };
        page.say(Style::new(), &text);
    }
}

fn acceptances(page: &mut Page, found: &CompareAnswer) {
    if found.acceptances.is_empty() {
        return;
    }
    page.heading("ACCEPTANCES");
    for one in &found.acceptances {
        let title = one.title.as_ref();
        let title = title.map_or_else(String::new, |title| format!(": {title}"));
        let text = format!(
            "{} → {}{title}  {} · {}",
            one.before.word(),
            one.now.word(),
            at(&one.place),
            one.who
        );
        let label = format!(" {} ", one.finding);
        page.hang_behind(STRONG, &label, Style::new(), &text, 11);
    }
}
