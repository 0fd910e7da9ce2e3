//! What refers to a thing, and what has to change before it can go.

use super::{at, placed};
use crate::page::{FAINT, Look, Page, STRONG, plural};
use anstyle::Style;
use heronshale_answers::Answer;
use heronshale_model::uses::{Before, Use, Uses};

/// References of each kind that are shown.
const SHOWN: usize = 20;

/// The uses of a thing as text.
pub fn uses(answer: &Answer<Uses>, look: Look) -> String {
    let Answer {
        heading,
        answer: found,
        ..
    } = answer;
    let mut page = Page::new(look);
    page.top(&sentence(found), heading);
    page.blank();
    let owner = found.thing.owner.as_ref();
    let owner = owner.map_or_else(String::new, |owner| format!(" · {owner}"));
    page.say(FAINT, &format!("{}{owner}", at(&found.thing.place)));
    table(&mut page, "NAMED BY", &found.named_by);
    table(&mut page, "NAMES", &found.names);
    if !found.before.is_empty() {
        page.heading("BEFORE IT CAN GO, in this order");
        let shown = if look.details { usize::MAX } else { SHOWN };
        for (number, one) in found.before.iter().take(shown).enumerate() {
            let label = format!(" {:>2}  ", number + 1);
            page.hang(Style::new(), &label, &step(one), label.len());
        }
        rest(&mut page, found.before.len(), shown);
    }
    // What names it is listed already.
    let more = found
        .dangling
        .iter()
        .any(|one| !found.named_by.contains(one));
    if more {
        table(&mut page, "WOULD LEAD TO NOTHING", &found.dangling);
    }
    if !found.dangling.is_empty() {
        let next = format!("heronshale rehearse \"remove {}\"", found.thing.name);
        page.blank();
        page.hang(STRONG, "What that changes: ", &next, 2);
    }
    page.foot(heading);
    page.finish()
}

fn sentence(found: &Uses) -> String {
    let name = &found.thing.name;
    let named = match found.named_by.len() {
        0 => "is named nowhere".to_owned(),
        count => format!("is named in {}", plural(count, "place")),
    };
    let (before, dangling) = (found.before.len(), found.dangling.len());
    if let Some(why) = &found.refused {
        return format!("{name} {named}. It cannot go, as far as is known: {why}.");
    }
    let then = match (before, dangling) {
        (0, 0) => "It can go, and nothing refers to it then.".to_owned(),
        (0, _) => format!(
            "It can go; {} would lead to nothing.",
            plural(dangling, "reference")
        ),
        (_, 0) => format!("Before it can go, {} to be done.", has(before, "step")),
        _ => format!(
            "Before it can go, {} to be done; {} would lead to nothing.",
            has(before, "step"),
            plural(dangling, "reference")
        ),
    };
    format!("{name} {named}. {then}")
}

fn has(count: usize, what: &str) -> String {
    let verb = if count == 1 { "has" } else { "have" };
    format!("{} {verb}", plural(count, what))
}

fn step(before: &Before) -> String {
    let what = if before.without.is_empty() {
        format!("remove {}", before.item.name)
    } else {
        format!(
            "take it from {}: {}",
            before.item.name,
            before.without.join("; ")
        )
    };
    placed(&what, Some(&before.item.place), before.item.owner.as_ref())
}

fn table(page: &mut Page, heading: &str, all: &[Use]) {
    if all.is_empty() {
        return;
    }
    page.heading(heading);
    let shown = if page.look.details { usize::MAX } else { SHOWN };
    let row = |one: &Use| {
        vec![
            one.item.clone(),
            one.by.clone(),
            at(&one.place),
            one.owner.clone().unwrap_or_default(),
        ]
    };
    let rows: Vec<Vec<String>> = all.iter().take(shown).map(row).collect();
    page.table(&["ITEM", "WHERE", "PLACE", "OWNER"], &rows, &[]);
    rest(page, all.len(), shown);
}

fn rest(page: &mut Page, all: usize, shown: usize) {
    if all > shown {
        page.say(FAINT, &format!(" and {} more (--details)", all - shown));
    }
}
