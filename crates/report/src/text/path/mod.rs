//! One connection there and back: the answer, then the steps that decide or change something, what is in the way, and fixes.

mod fixes;
mod sentence;

use super::at;
use crate::page::{FAINT, Look, OPEN, Page, SHUT, STRONG, plural};
use anstyle::Style;
use heronshale_answers::{Answer, PathAnswer, PathPart};
use heronshale_audit::describe::moment_text;
use heronshale_audit::facts::{PathTraffic, StepDoes, StepFact};
use heronshale_engine::walk::Verdict;

/// More parts than this are counted.
const MOST_PARTS: usize = 10;
/// A part, or a set of services, is shortened behind so many.
const SHOWN: usize = 4;

/// A path as text.
pub fn path(answer: &Answer<PathAnswer>, look: Look) -> String {
    let Answer {
        heading,
        answer: path,
        ..
    } = answer;
    let mut page = Page::new(look);
    page.top(&sentence::sentence(path), heading);
    page.say(Style::new(), &ends(path, look.details));
    changed_by(&mut page, path);
    lookups(&mut page, path);
    entrances(&mut page, path);
    if let Some(example) = &path.example {
        page.blank();
        page.say(FAINT, &format!("Example: {}", example.text));
        steps(&mut page, &path.steps, 0);
        if !path.fails.is_empty() {
            page.blank();
            page.say(FAINT, "Example that fails");
            let same = path.steps.iter().zip(&path.fails);
            let same = same.take_while(|(one, other)| one == other).count();
            let same = if look.details { 0 } else { same };
            steps(&mut page, &path.fails, same);
        }
    }
    obstacles(&mut page, path);
    since(&mut page, path);
    fixes::fixes(&mut page, path);
    parts(&mut page, path);
    page.foot(heading);
    page.finish()
}

fn lookups(page: &mut Page, path: &PathAnswer) {
    for lookup in &path.lookups {
        let says = match &lookup.says {
            Some(says) => format!("says {says}"),
            None => "has no record".to_owned(),
        };
        let place = lookup.place.as_ref();
        let place = place.map_or_else(String::new, |place| format!("  {}", at(place)));
        let text = format!("{}: {} {says}{place}", lookup.name, lookup.by);
        page.hang(Style::new(), "NAME      ", &text, 10);
    }
}

fn entrances(page: &mut Page, path: &PathAnswer) {
    for (number, entrance) in path.entrances.iter().enumerate() {
        let label = if number == 0 {
            "ENTRANCES "
        } else {
            "          "
        };
        let shown = shortened(&entrance.addresses, 2);
        let style = if entrance.verdict <= Verdict::WorksForSome {
            OPEN
        } else {
            SHUT
        };
        let verdict = verdict_text(entrance.verdict);
        let text = format!("{} ({shown}): {verdict}", entrance.name);
        page.hang_behind(style, label, Style::new(), &text, 10);
    }
}

/// A verdict in the words of the output.
pub(in crate::text) fn verdict_text(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Works => "works",
        Verdict::WorksForSome => "works partly",
        Verdict::Conditional => "depends",
        Verdict::Unknown => "unknown",
        Verdict::Undecided => "undecided",
        Verdict::Denied => "blocked",
        Verdict::Lost => "dropped",
        Verdict::ReplyDenied => "reply blocked",
        Verdict::ReplyLost => "reply dropped",
    }
}

/// Everything that is in the way, in the order in which it is met.
fn obstacles(page: &mut Page, path: &PathAnswer) {
    if path.obstacles.is_empty() {
        return;
    }
    page.heading("IN THE WAY");
    for (number, obstacle) in path.obstacles.iter().enumerate() {
        let step = &obstacle.step;
        let (does, style) = does_text(step);
        let way = if step.reply { "reply" } else { "request" };
        let new = match obstacle.new {
            Some(true) => "  NEW",
            Some(false) => "  as before",
            None => "",
        };
        let label = format!("{:>2}  {does:<10} ", number + 1);
        let text = format!("{way}: {}{}{new}", cause(step), place_text(step));
        page.hang_behind(style, &label, Style::new(), &text, 15);
        let indent = " ".repeat(15);
        if let Some(before) = &obstacle.before {
            let (does, _) = does_text(before);
            let text = format!("before: {does}, {}{}", before.why, place_text(before));
            page.hang(FAINT, &indent, &text, 15);
        }
        if obstacle.passed_by.is_none() {
            let text = "No single change is known to remove it, so nothing behind it was checked.";
            page.hang(FAINT, &indent, text, 15);
        }
    }
}

/// The edits since an earlier snapshot because of which it fares otherwise.
fn changed_by(page: &mut Page, path: &PathAnswer) {
    let Some(since) = path.since.as_ref().filter(|since| !since.cause.is_empty()) else {
        return;
    };
    let edit = |letter: &String| {
        let edit = since.edits.iter().find(|edit| edit.letter == *letter)?;
        let owner = edit
            .owner
            .as_ref()
            .map_or_else(String::new, |owner| format!(", {owner}"));
        let was = if edit.gone { "was at " } else { "" };
        Some(format!("{} ({was}{}{owner})", edit.text, at(&edit.place)))
    };
    let set = |set: &Vec<String>| {
        let edits: Vec<String> = set.iter().filter_map(edit).collect();
        edits.join(", together with ")
    };
    let sets: Vec<String> = since.cause.iter().map(set).collect();
    page.hang(
        STRONG,
        "Changed by: ",
        &shortened_to(&sets, 3).join("; or by "),
        2,
    );
}

/// The first of some texts, and how many more there are.
fn shortened_to(all: &[String], most: usize) -> Vec<String> {
    let mut shown: Vec<String> = all.iter().take(most).cloned().collect();
    if all.len() > most {
        shown.push(format!("{} more", all.len() - most));
    }
    shown
}

/// What an earlier snapshot said.
fn since(page: &mut Page, path: &PathAnswer) {
    let Some(since) = &path.since else { return };
    let when = since
        .taken
        .as_deref()
        .map_or_else(|| "an undated snapshot".to_owned(), moment_text);
    let said = match (since.verdict, &since.not_asked) {
        (Some(verdict), _) => verdict_text(verdict).to_owned(),
        (None, why) => format!(
            "could not be asked: {}",
            why.as_deref().unwrap_or("no reason is known")
        ),
    };
    page.blank();
    page.hang(Style::new(), "Before ", &format!("({when}): {said}."), 2);
    for gone in &since.gone {
        page.hang(Style::new(), "  no longer in the way: ", &cause(gone), 4);
    }
    if let Some(revert) = &since.revert {
        let texts: Vec<&str> = revert.edits.iter().map(|edit| edit.text.as_str()).collect();
        let text = format!("{} takes back: {}.", revert.file, texts.join("; "));
        page.hang(Style::new(), "", &text, 2);
        if Some(revert.then) != since.verdict {
            let text = format!(
                "The result is then: {}, not as before.",
                verdict_text(revert.then)
            );
            page.hang(STRONG, "", &text, 2);
        }
        let also = match revert.also {
            0 => "Nothing else is known to change by that.".to_owned(),
            count => format!(
                "By that {} of other connections fare otherwise (heronshale rehearse {}).",
                plural(count, "group"),
                revert.file
            ),
        };
        page.hang(Style::new(), "", &also, 2);
    }
}

/// How all that was asked fares, if not all of it fares alike.
fn parts(page: &mut Page, path: &PathAnswer) {
    let one = matches!(path.parts.as_slice(), [only] if only.conditions.is_empty() && only.only_if.is_empty());
    if one || path.parts.is_empty() {
        return;
    }
    page.heading("EVERYTHING ASKED");
    let shown = if page.look.details {
        path.parts.len()
    } else {
        MOST_PARTS
    };
    for (number, part) in path.parts.iter().take(shown).enumerate() {
        let rest = number > 0 && number + 1 == path.parts.len();
        part_text(page, part, rest);
    }
    if path.parts.len() > shown {
        let more = plural(path.parts.len() - shown, "more part");
        page.say(FAINT, &format!("and {more} (--details)"));
    }
}

fn part_text(page: &mut Page, part: &PathPart, rest: bool) {
    // What is left when all other parts are told needs no list of its own.
    let plain = part.only_if.is_empty() && part.conditions.is_empty();
    let traffic = if rest && plain && !page.look.details {
        "everything else".to_owned()
    } else {
        parts_of(&part.traffic)
    };
    let because = part.because.as_ref();
    let because = because.filter(|_| part.verdict != Verdict::Conditional);
    let because = because.map_or_else(String::new, |step| {
        format!(": {}{}", cause(step), place_text(step))
    });
    let only = if part.only_if.is_empty() {
        String::new()
    } else {
        format!(", if {}", part.only_if.join(", or "))
    };
    let turns = if part.conditions.is_empty() {
        String::new()
    } else {
        format!(
            ", depending on whether {}",
            part.conditions.join(", and whether ")
        )
    };
    let style = if part.verdict <= Verdict::WorksForSome {
        OPEN
    } else {
        SHUT
    };
    let label = format!("{:<13} ", verdict_text(part.verdict));
    let text = format!("{traffic}{only}{turns}{because}");
    page.hang_behind(style, &label, Style::new(), &text, 14);
}

/// Traffic of a part: `tcp 80 · tcp 8080 from 198.51.100.64/26`.
fn parts_of(traffic: &[PathTraffic]) -> String {
    let texts = traffic.iter().take(SHOWN).map(traffic_text);
    let mut text = texts.collect::<Vec<_>>().join(" · ");
    if traffic.len() > SHOWN {
        text.push_str(&format!(" · and {} more", traffic.len() - SHOWN));
    }
    text
}

fn traffic_text(traffic: &PathTraffic) -> String {
    let mut text = shortened(&traffic.services, 6);
    if !traffic.sources.whole {
        text.push_str(&format!(" from {}", traffic.sources.said));
    }
    if !traffic.destinations.whole {
        text.push_str(&format!(" to {}", traffic.destinations.said));
    }
    if !traffic.exact {
        text.push_str(" (not every combination)");
    }
    text
}

/// The first few, and how many more.
fn shortened(all: &[String], most: usize) -> String {
    super::reach::shortened(all, most)
}

fn ends(path: &PathAnswer, details: bool) -> String {
    let of = |end: &heronshale_answers::PathEnd| {
        let shown = if details { usize::MAX } else { 2 };
        let addresses = shortened(&end.addresses, shown);
        let told = end.asked.contains(&addresses) || end.asked == "internet";
        if told {
            end.asked.clone()
        } else {
            format!("{} ({addresses})", end.asked)
        }
    };
    let told = path.steps.iter().filter(|step| is_told(step)).count();
    let decide = if told == 1 {
        "decides or changes"
    } else {
        "decide or change"
    };
    let count = match path.steps.len() {
        0 => String::new(),
        all if details || told == all => format!(" · {}", plural(all, "step")),
        all => format!(
            " · {}, {told} that {decide} (--details)",
            plural(all, "step")
        ),
    };
    format!("{} → {}{count}", of(&path.from), of(&path.to))
}

fn cause(step: &StepFact) -> String {
    if step.why.is_empty() {
        step.at.clone()
    } else {
        format!("{}: {}", step.at, step.why)
    }
}

fn place_text(step: &StepFact) -> String {
    let place = step.place.as_ref();
    place.map_or_else(String::new, |place| format!("  {}", at(place)))
}

fn does_text(step: &StepFact) -> (&'static str, Style) {
    match step.does {
        StepDoes::Passes if step.decides => ("allowed", Style::new()),
        StepDoes::Passes => ("passes", Style::new()),
        StepDoes::Routes => ("routed", Style::new()),
        StepDoes::Changes if step.reply => ("restored", STRONG),
        StepDoes::Changes => ("translated", STRONG),
        StepDoes::Arrives => ("arrives", OPEN),
        StepDoes::Denies => ("BLOCKED", SHUT),
        StepDoes::Rejects => ("REJECTED", SHUT),
        StepDoes::Loses => ("DROPPED", SHUT),
        StepDoes::Unknown => ("UNKNOWN", STRONG),
    }
}

/// Whether a step is told although not everything is: it decides, changes, or ends something.
fn is_told(step: &StepFact) -> bool {
    match step.does {
        StepDoes::Passes => step.decides,
        StepDoes::Changes => !step.reply,
        StepDoes::Routes | StepDoes::Arrives => false,
        StepDoes::Denies | StepDoes::Rejects | StepDoes::Loses | StepDoes::Unknown => true,
    }
}

/// Steps of an example from some step on: the ones before are told already.
fn steps(page: &mut Page, steps: &[StepFact], from: usize) {
    let mut before = None;
    for (number, step) in steps.iter().enumerate().skip(from) {
        if !page.look.details && !is_told(step) {
            continue;
        }
        let way = match (before == Some(step.reply), step.reply) {
            (true, _) => "",
            (false, false) => "REQUEST",
            (false, true) => "REPLY",
        };
        before = Some(step.reply);
        let (does, style) = does_text(step);
        let label = format!("{way:<8} {:>2}  {does:<10} ", number + 1);
        let text = format!("{}{}", cause(step), place_text(step));
        page.hang_behind(style, &label, Style::new(), &text, 24);
    }
    let replies = from == 0 && steps.iter().any(|step| step.reply);
    if !page.look.details && replies && before != Some(true) {
        let text = "returns; every stage on its way tracks the connection or has no filter";
        page.hang(Style::new(), "REPLY        ", text, 24);
    }
}
