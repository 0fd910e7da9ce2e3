//! One connection there and back: the answer, then every step of an example, then all parts.

use super::at;
use crate::page::{FAINT, Look, OPEN, Page, SHUT, STRONG, plural};
use anstyle::Style;
use heronshale_answers::{Answer, PathAnswer, PathPart, Symptom};
use heronshale_audit::facts::PathTraffic;
use heronshale_audit::facts::{StepDoes, StepFact};
use heronshale_engine::walk::Verdict;

/// More parts than this are summed up.
const MOST_PARTS: usize = 24;

/// A path as text.
pub fn path(answer: &Answer<PathAnswer>, look: Look) -> String {
    let Answer {
        heading,
        answer: path,
        ..
    } = answer;
    let mut page = Page::new(look);
    page.top(&sentence(path), heading);
    page.say(Style::new(), &ends(path));
    for lookup in &path.lookups {
        let says = lookup.says.as_ref().map_or_else(
            || "has no record of it".to_owned(),
            |says| format!("says {says}"),
        );
        let place = lookup
            .place
            .as_ref()
            .map_or_else(String::new, |place| format!(" ({})", at(place)));
        page.hang(
            Style::new(),
            "NAME     ",
            &format!("{}: {} {says}{place}", lookup.name, lookup.by),
            9,
        );
    }
    for (number, entrance) in path.entrances.iter().enumerate() {
        let label = if number == 0 {
            "ENTRANCES "
        } else {
            "          "
        };
        let shown = entrance
            .addresses
            .iter()
            .take(2)
            .cloned()
            .collect::<Vec<_>>()
            .join(", ");
        let style = if entrance.verdict <= Verdict::WorksForSome {
            OPEN
        } else {
            SHUT
        };
        page.hang_behind(
            style,
            label,
            Style::new(),
            &format!("{} ({shown}): {}", entrance.name, entrance.verdict.word()),
            10,
        );
    }
    if let Some(example) = &path.example {
        page.blank();
        page.say(FAINT, &format!("Every step of {}", example.text));
        steps(&mut page, &path.steps);
        if !path.fails.is_empty() {
            page.blank();
            page.say(FAINT, "One that fails");
            steps(&mut page, &path.fails);
        }
    }
    in_the_way(&mut page, path);
    let one = matches!(path.parts.as_slice(), [only] if only.conditions.is_empty() && only.only_if.is_empty());
    if !one && !path.parts.is_empty() {
        page.heading("All that was asked");
        for part in path.parts.iter().take(MOST_PARTS) {
            part_text(&mut page, part);
        }
        if path.parts.len() > MOST_PARTS {
            page.say(
                Style::new(),
                &format!("and {} more", plural(path.parts.len() - MOST_PARTS, "part")),
            );
        }
    }
    if path
        .parts
        .iter()
        .any(|part| part.verdict == Verdict::Unknown)
    {
        page.gaps(heading);
    }
    page.finish()
}

/// Obstacles, fixes, and what is new since an earlier snapshot.
fn in_the_way(page: &mut Page, path: &PathAnswer) {
    if !path.obstacles.is_empty() {
        page.heading("In the way");
    }
    for (number, obstacle) in path.obstacles.iter().enumerate() {
        let step = &obstacle.step;
        let (does, style) = does_text(step.does);
        let way = if step.reply { "reply" } else { "request" };
        let place = step
            .place
            .as_ref()
            .map_or_else(String::new, |place| format!("  {}", at(place)));
        let new = match obstacle.new {
            Some(true) => "  NEW",
            Some(false) => "  as before",
            None => "",
        };
        let label = format!("  {:>2}  {does:<9}", number + 1);
        page.hang_behind(
            style,
            &label,
            Style::new(),
            &format!("{way}: {}{place}{new}", cause(step)),
            15,
        );
        if let Some(before) = &obstacle.before {
            let (does, _) = does_text(before.does);
            let place = before
                .place
                .as_ref()
                .map_or_else(String::new, |place| format!("  {}", at(place)));
            page.hang(
                FAINT,
                "               ",
                &format!("before: {does}, {}{place}", before.why),
                15,
            );
        }
        if obstacle.passed_by.is_none() {
            page.hang(
                FAINT,
                "               ",
                "no single change is known that lets it past, so what lies behind was not looked at",
                15,
            );
        }
    }
    if let Some(since) = &path.since {
        let when = since.taken.as_deref().unwrap_or("an unknown time");
        let said = match (since.verdict, &since.not_asked) {
            (Some(verdict), _) => {
                format!(
                    "In the snapshot of {when} the same question was answered: {}.",
                    verdict.word()
                )
            }
            (None, why) => {
                format!(
                    "In the snapshot of {when} it could not be asked: {}.",
                    why.as_deref().unwrap_or("no reason is known")
                )
            }
        };
        page.blank();
        page.say(Style::new(), &said);
        for gone in &since.gone {
            page.hang(Style::new(), "  no longer in the way: ", &cause(gone), 4);
        }
    }
    if !path.fixes.is_empty() {
        page.heading("What would fix it, each tried in memory");
    }
    for (number, fix) in path.fixes.iter().enumerate() {
        for (at_edit, edit) in fix.edits.iter().enumerate() {
            let label = if at_edit == 0 {
                format!("  {:>2}  ", number + 1)
            } else {
                "      ".to_owned()
            };
            let and = if at_edit == 0 { "" } else { "and " };
            let owner = edit
                .owner
                .as_ref()
                .map_or_else(String::new, |owner| format!("  owner {owner}"));
            let place = edit
                .place
                .as_ref()
                .map_or_else(String::new, |place| format!("  {}", at(place)));
            page.hang_behind(
                STRONG,
                &label,
                Style::new(),
                &format!("{and}{}{place}{owner}", edit.text),
                6,
            );
        }
        let then = match fix.then {
            Verdict::Works => String::new(),
            other => format!("then: {}; ", other.word()),
        };
        let opens = if fix.opens.is_empty() {
            "opens nothing else".to_owned()
        } else {
            format!("also opens {}", besides(&fix.opens))
        };
        let ends = if fix.ends.is_empty() {
            String::new()
        } else {
            format!("; ENDS {}", besides(&fix.ends))
        };
        page.hang(FAINT, "      ", &format!("{then}{opens}{ends}"), 6);
        if !fix.around.is_empty() {
            page.hang(
                STRONG,
                "      ",
                &format!(
                    "leads around firewall {}",
                    fix.around.join(" and firewall ")
                ),
                6,
            );
        }
        if fix.opens_to_internet {
            page.hang(
                STRONG,
                "      ",
                "makes something public: the internet reaches more than was asked about",
                6,
            );
        }
    }
    if !path.fixes.is_empty() && !path.fixes_judged_everywhere {
        page.say(FAINT, "What they open and end was looked for between the networks of both ends, for this traffic.");
    }
    if !path.obstacles.is_empty() && path.fixes.is_empty() {
        let limit = if path.fixes_given_up {
            ": the search ended at its limit"
        } else {
            ""
        };
        page.blank();
        page.say(
            Style::new(),
            &format!("No fix by rules, routes, flags, links, addresses or doors was found{limit}."),
        );
    }
}

/// What else a fix does, in a line.
fn besides(all: &[PathTraffic]) -> String {
    let one = |traffic: &PathTraffic| {
        let mut services = traffic
            .services
            .iter()
            .take(4)
            .cloned()
            .collect::<Vec<_>>()
            .join(", ");
        if traffic.services.len() > 4 {
            services.push_str(&format!(" and {} more", traffic.services.len() - 4));
        }
        format!(
            "{services} from {} to {}",
            traffic.sources.said, traffic.destinations.said
        )
    };
    let mut text = all.iter().take(3).map(one).collect::<Vec<_>>().join("; ");
    if all.len() > 3 {
        text.push_str(&format!("; and {} more", all.len() - 3));
    }
    if all.iter().any(|traffic| !traffic.exact) {
        text.push_str(" (each with some of the others)");
    }
    text
}

fn ends(path: &PathAnswer) -> String {
    let of = |end: &heronshale_answers::PathEnd| {
        let many = end.addresses.len();
        let shown = end
            .addresses
            .iter()
            .take(3)
            .cloned()
            .collect::<Vec<_>>()
            .join(", ");
        let more = if many > 3 {
            format!(" and {} more", many - 3)
        } else {
            String::new()
        };
        if end.asked == shown || shown.is_empty() {
            end.asked.clone()
        } else {
            format!("{} ({shown}{more})", end.asked)
        }
    };
    let traffic = path.traffic.as_deref().unwrap_or("any traffic");
    format!("{} → {}, {traffic}", of(&path.from), of(&path.to))
}

fn sentence(path: &PathAnswer) -> String {
    let what = match &path.traffic {
        Some(traffic) => format!("{traffic} from {} to {}", path.from.asked, path.to.asked),
        None => format!("from {} to {}", path.from.asked, path.to.asked),
    };
    let sees = match path.symptom {
        Some(Symptom::Silence) => " The client sees silence.",
        Some(Symptom::Reset) => " The client is refused at once.",
        Some(Symptom::NameError) => " The client sees a name error.",
        None => "",
    };
    let last = path.steps.iter().chain(&path.fails).last();
    let cause = last.map_or_else(String::new, |step| format!(": {}", cause(step)));
    match path.verdict {
        _ if path.symptom == Some(Symptom::NameError) => {
            format!("No: the name {} does not resolve.{sees}", path.to.asked)
        }
        _ if path.parts.is_empty() => {
            format!("Nothing can be asked {what}: the ends have no family in common.")
        }
        Verdict::Works if path.traffic.is_none() => format!("Yes, all of it works {what}."),
        Verdict::Works => format!("Yes: {what} works, there and back."),
        Verdict::WorksForSome if path.traffic.is_none() => {
            let works = path
                .parts
                .iter()
                .filter(|part| part.verdict == Verdict::Works);
            let mut services: Vec<String> = works
                .flat_map(|part| &part.traffic)
                .flat_map(|t| t.services.clone())
                .collect();
            let mut seen = Vec::new();
            services.retain(|service| {
                let new = !seen.contains(service);
                seen.push(service.clone());
                new
            });
            let more = if services.len() > 6 {
                format!(" and {} more", services.len() - 6)
            } else {
                String::new()
            };
            services.truncate(6);
            match services.is_empty() {
                true => format!("Some works {what}: by some of the ways that it may take."),
                false => format!("Some works {what}: {}{more}.", services.join(", ")),
            }
        }
        Verdict::WorksForSome => {
            let only: Vec<&str> = path
                .parts
                .iter()
                .flat_map(|part| &part.only_if)
                .map(String::as_str)
                .collect();
            if only.is_empty() {
                format!("Only some of it works: {what}.")
            } else {
                format!("Only sometimes: {what} works if {}.", only.join(", or "))
            }
        }
        Verdict::Conditional => {
            let conditions: Vec<&str> = path
                .parts
                .iter()
                .flat_map(|part| &part.conditions)
                .map(String::as_str)
                .collect();
            format!(
                "It depends: {what} turns on whether {}.",
                conditions.join(", and whether ")
            )
        }
        Verdict::Undecided => {
            format!("Undecided: {what} has more ways than the limit of steps allows to follow.")
        }
        Verdict::Unknown => format!("Unknown: {what} depends on what the snapshot lacks{cause}."),
        Verdict::Denied => format!("No: {what} is denied{cause}.{sees}"),
        Verdict::Lost => format!("No: {what} gets lost{cause}.{sees}"),
        Verdict::ReplyDenied => {
            format!("No: {what} arrives, and the reply is denied{cause}.{sees}")
        }
        Verdict::ReplyLost => format!("No: {what} arrives, and the reply gets lost{cause}.{sees}"),
    }
}

fn cause(step: &StepFact) -> String {
    if step.why.is_empty() {
        step.at.clone()
    } else {
        format!("{}, {}", step.at, step.why)
    }
}

fn does_text(does: StepDoes) -> (&'static str, Style) {
    match does {
        StepDoes::Passes => ("passes", Style::new()),
        StepDoes::Routes => ("leads", Style::new()),
        StepDoes::Changes => ("changes", STRONG),
        StepDoes::Arrives => ("arrives", OPEN),
        StepDoes::Denies => ("DENIED", SHUT),
        StepDoes::Rejects => ("REJECTED", SHUT),
        StepDoes::Loses => ("LOST", SHUT),
        StepDoes::Unknown => ("UNKNOWN", STRONG),
    }
}

fn steps(page: &mut Page, steps: &[StepFact]) {
    let mut before = None;
    for (number, step) in steps.iter().enumerate() {
        let way = match (before == Some(step.reply), step.reply) {
            (true, _) => "",
            (false, false) => "REQUEST",
            (false, true) => "REPLY",
        };
        before = Some(step.reply);
        let (does, style) = does_text(step.does);
        let place = step
            .place
            .as_ref()
            .map_or_else(String::new, |place| format!("  {}", at(place)));
        let why = if step.why.is_empty() {
            String::new()
        } else {
            format!("  {}", step.why)
        };
        let label = format!("{way:<8} {:>2}  {does:<9}", number + 1);
        page.hang_behind(
            style,
            &label,
            Style::new(),
            &format!("{}{why}{place}", step.at),
            22,
        );
    }
}

fn part_text(page: &mut Page, part: &PathPart) {
    let traffic: Vec<String> = part
        .traffic
        .iter()
        .take(4)
        .map(|traffic| {
            let mut text = traffic
                .services
                .iter()
                .take(6)
                .cloned()
                .collect::<Vec<_>>()
                .join(", ");
            if traffic.services.len() > 6 {
                text.push_str(&format!(" and {} more", traffic.services.len() - 6));
            }
            if traffic.sources.said != "all of them" {
                text.push_str(&format!(" from {}", traffic.sources.said));
            }
            if traffic.destinations.said != "all of them" {
                text.push_str(&format!(" to {}", traffic.destinations.said));
            }
            if !traffic.exact {
                text.push_str(", each with some of the others");
            }
            text
        })
        .collect();
    let more = part.traffic.len().saturating_sub(4);
    let more = if more > 0 {
        format!(" · and {more} more")
    } else {
        String::new()
    };
    let because = part
        .because
        .as_ref()
        .filter(|_| part.verdict != Verdict::Conditional);
    let because = because.map_or_else(String::new, |step| {
        let place = step
            .place
            .as_ref()
            .map_or_else(String::new, |place| format!(" ({})", at(place)));
        format!(": {}{place}", cause(step))
    });
    let only = if part.only_if.is_empty() {
        String::new()
    } else {
        format!(", if {}", part.only_if.join(", or "))
    };
    let turns = if part.conditions.is_empty() {
        String::new()
    } else {
        format!(", on whether {}", part.conditions.join(", and whether "))
    };
    let style = if part.verdict <= Verdict::WorksForSome {
        OPEN
    } else {
        SHUT
    };
    let label = format!("  {:<15}", part.verdict.word());
    page.hang_behind(
        style,
        &label,
        Style::new(),
        &format!("{}{more}{only}{turns}{because}", traffic.join(" · ")),
        17,
    );
}
