//! An order of steps: numbered, each with its check, then why it is this order.

use super::at;
use super::reach::shortened;
use crate::page::{FAINT, Look, OPEN, Page, SHUT, STRONG, plural};
use anstyle::Style;
use heronshale_answers::{Answer, BetweenFact, HarmFact, OrderAnswer, StepOfOrder};
use heronshale_change::Harm;

/// Harms of one state.
const HARMS: usize = 3;

/// An order as text.
pub fn order(answer: &Answer<OrderAnswer>, look: Look) -> String {
    let Answer {
        heading,
        answer: found,
        ..
    } = answer;
    let mut page = Page::new(look);
    page.top(&sentence(found), heading);
    if let Some(conflict) = &found.conflict {
        page.heading("NO SAFE ORDER");
        let label = format!(" {:<7} ", conflict.edits.join(" "));
        page.hang_behind(
            OPEN,
            &label,
            Style::new(),
            &state_text(&conflict.state, look),
            9,
        );
        if !conflict.minimal {
            let text = "Not every set of edits was tried: fewer of them may have no safe order.";
            page.hang(FAINT, "         ", text, 9);
        }
    }
    if !found.steps.is_empty() {
        page.heading(if found.is_safe {
            "STEPS"
        } else {
            "STEPS, THE LEAST HARMFUL ORDER"
        });
    }
    let last = found.steps.len();
    for step in &found.steps {
        step_text(&mut page, found, step, step.number == last);
    }
    if !found.constraints.is_empty() {
        page.heading("WHY THIS ORDER");
    }
    for one in &found.constraints {
        let label = format!(" {} before {}  ", one.first, one.then);
        let text = match &one.otherwise {
            None => {
                "step by step the other way is no legal estate, or refers to what is not there yet"
                    .to_owned()
            }
            Some(state) => format!("else {}", state_text(state, look)),
        };
        page.hang(STRONG, &label, &text, 13);
    }
    undo(&mut page, found, look);
    if found.some_not_judged {
        page.blank();
        page.say(
            FAINT,
            "Some connections are unknown before or after, or are not judged (names, and addresses that change sides). Nothing is said about them.",
        );
    }
    page.foot(heading);
    page.finish()
}

fn sentence(found: &OrderAnswer) -> String {
    let bound = found.steps.iter().filter(|step| !step.any_time).count();
    let steps = plural(found.steps.len(), "step");
    let tried = if found.all_tried {
        ""
    } else {
        " Not every order was tried."
    };
    if found.steps.is_empty() {
        return "Nothing is to be done: there are no edits.".to_owned();
    }
    if !found.is_safe {
        let none = if found.all_tried {
            "There is no safe order"
        } else {
            "No safe order was found"
        };
        return format!("{none} of {steps}; the one below harms least.{tried}");
    }
    match (found.steps.len(), bound) {
        (1, _) => "There is one step: it has no state in between.".to_owned(),
        (_, 0) if found.some_not_judged => {
            format!("Safe in any order, as far as is known: {steps}.{tried}")
        }
        (_, 0) => format!("Safe in any order: {steps}.{tried}"),
        _ if found.some_not_judged => {
            format!("Safe order: {steps}, no state in between is known to be harmful.{tried}")
        }
        _ => format!("Safe order: {steps}, no state in between is harmful.{tried}"),
    }
}

fn step_text(page: &mut Page, found: &OrderAnswer, step: &StepOfOrder, is_last: bool) {
    let number = if step.any_time {
        "any".to_owned()
    } else {
        step.number.to_string()
    };
    let label = format!(" {number:<4} ");
    let edits = found
        .edits
        .iter()
        .filter(|edit| step.edits.contains(&edit.letter));
    let does: Vec<String> = edits
        .map(|edit| format!("{} ({})", edit.text, at(&edit.place)))
        .collect();
    let owner = step.owner.as_deref().unwrap_or("no owner");
    let together = if does.len() > 1 { " together" } else { "" };
    let text = format!("{owner}:{together} {}", does.join(", and "));
    page.hang_behind(STRONG, &label, Style::new(), &text, 6);
    let check = step.check.as_ref().map_or_else(
        || "nothing that is known changes by this step alone".to_owned(),
        |check| {
            let when = if step.any_time {
                "check at the end"
            } else {
                "check"
            };
            format!("{when}: {}", check.command)
        },
    );
    page.hang(FAINT, "      ", &check, 6);
    if !is_last {
        let after = &step.after;
        if !after.broken.is_empty() || !after.harms.is_empty() {
            let style = if is_safe(after) { FAINT } else { SHUT };
            let text = format!("until a later step: {}", state_text(after, page.look));
            page.hang(style, "      ", &text, 6);
        }
    }
}

/// Whether nothing in a state counts as harm.
fn is_safe(state: &BetweenFact) -> bool {
    state.broken.is_empty() && state.harms.iter().all(|one| one.harm == Harm::PassesNone)
}

fn undo(page: &mut Page, found: &OrderAnswer, look: Look) {
    let bad: Vec<&StepOfOrder> = found
        .steps
        .iter()
        .filter(|step| !step.undo.is_empty())
        .collect();
    if found.steps.len() < 2 {
        return;
    }
    page.blank();
    if bad.is_empty() {
        page.say(FAINT, "Undoing in reverse is safe from every step.");
        return;
    }
    page.heading("UNDOING IN REVERSE");
    for step in bad {
        let label = format!(" from {}  ", step.number);
        for state in &step.undo {
            let text = format!(
                "back at {}: {}",
                state.made.join(" "),
                state_text(state, look)
            );
            page.hang(SHUT, &label, &text, 9);
        }
    }
}

/// What is wrong with a state.
fn state_text(state: &BetweenFact, look: Look) -> String {
    let shown = if look.details { usize::MAX } else { HARMS };
    let mut said: Vec<String> = state.harms.iter().take(shown).map(harm_text).collect();
    let more = state.harms.len().saturating_sub(shown) + state.more;
    if more > 0 {
        said.push(format!("{more} more"));
    }
    if !state.broken.is_empty() {
        let names: Vec<String> = state
            .broken
            .iter()
            .map(|name| format!("\"{name}\""))
            .collect();
        said.push(format!("broken: {}", shortened(&names, 3)));
    }
    if said.is_empty() {
        said.push("some state in between is no legal estate".to_owned());
    }
    said.join("; ")
}

fn harm_text(one: &HarmFact) -> String {
    let from: Vec<String> = one.from.iter().map(|from| from.said.clone()).collect();
    let mut ends: Vec<String> = Vec::new();
    for traffic in &one.traffic {
        let services = shortened(&traffic.services, 3);
        let text = format!("{} {services}", traffic.destinations.said);
        if !ends.contains(&text) {
            ends.push(text);
        }
    }
    let connection = format!("{} → {}", shortened(&from, 3), shortened(&ends, 3));
    match one.harm {
        Harm::OpensWidely | Harm::Opens => format!("{connection} opens"),
        Harm::Uninspected => {
            let passes = |list: &[String]| {
                if list.is_empty() {
                    "no firewall".to_owned()
                } else {
                    list.join(", ")
                }
            };
            format!(
                "{connection} works past {} there, {} back, and not past {}",
                passes(&one.between.firewalls),
                passes(&one.between.reply_firewalls),
                passes(&one.before.firewalls)
            )
        }
        Harm::Ends => format!("{connection} ends ({})", one.between.verdict),
        Harm::Unknown => format!("{connection} becomes unknown"),
        Harm::Undecided => format!("{connection} is undecided"),
        Harm::Breaks => connection,
        Harm::PassesNone => format!("{connection} passes no firewall"),
    }
}
