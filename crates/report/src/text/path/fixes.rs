//! What would fix a connection: what all alternatives share once, then the alternatives.

use super::super::placed;
use super::shortened;
use crate::page::{FAINT, Page, STRONG};
use anstyle::Style;
use heronshale_answers::{EditFact, FixFact, PathAnswer};
use heronshale_audit::facts::{BrokenFact, PathTraffic};
use heronshale_engine::walk::Verdict;

/// Alternatives before the rest is counted.
const MOST: usize = 3;

/// Tells the fixes, and what was looked for.
pub(super) fn fixes(page: &mut Page, path: &PathAnswer) {
    let fixes = &path.fixes;
    if fixes.is_empty() && !path.fixes_refused.is_empty() {
        page.heading("NO FIX without a broken expectation (tried in memory, not applied)");
        refused(page, path);
        return;
    }
    if fixes.is_empty() {
        if !path.obstacles.is_empty() {
            let limit = if path.fixes_given_up {
                " before the search reached its limit"
            } else {
                ""
            };
            page.blank();
            page.say(
                Style::new(),
                &format!(
                    "No fix by rules, routes, flags, links, addresses or doors was found{limit}."
                ),
            );
        }
        return;
    }
    page.heading("FIX (tried in memory, not applied)");
    let shared = shared(fixes);
    match fixes.as_slice() {
        [one] => {
            before(page, one, "  ");
            edits(page, one.edits.iter(), "  ");
            effects(page, one, "    ");
        }
        several => {
            edits(page, shared.iter().copied(), "  ");
            let and = if shared.is_empty() {
                "One of:"
            } else {
                "and one of:"
            };
            page.say(STRONG, &format!("  {and}"));
            let shown = if page.look.details {
                several.len()
            } else {
                MOST
            };
            for (number, fix) in several.iter().take(shown).enumerate() {
                let own = fix.edits.iter().filter(|edit| !shared.contains(edit));
                let label = format!("  {:>2}. ", number + 1);
                alternative(page, own.collect(), &label);
                before(page, fix, "      ");
                effects(page, fix, "      ");
            }
            if several.len() > shown {
                let more = several.len() - shown;
                page.say(FAINT, &format!("  and {more} more (--details)"));
            }
        }
    }
    refused(page, path);
    if !path.fixes_judged_everywhere {
        page.say(
            FAINT,
            "  Side effects were checked between the networks of both ends, for this traffic only.",
        );
    }
}

/// What has to be changed before a fix, so that no expectation breaks.
fn before(page: &mut Page, fix: &FixFact, indent: &str) {
    for edit in &fix.first {
        let label = format!("{indent}First: ");
        page.hang(STRONG, &label, &edit_text(edit), indent.len() + 7);
    }
    if !fix.first.is_empty() {
        let text = format!("Without that it breaks {}.", quoted(&fix.breaks));
        page.hang(FAINT, indent, &text, indent.len());
    }
}

/// The fixes that are not offered, and why.
fn refused(page: &mut Page, path: &PathAnswer) {
    for fix in &path.fixes_refused {
        let what: Vec<&str> = fix.edits.iter().map(|edit| edit.text.as_str()).collect();
        let text = format!("{}: it breaks {}.", what.join(" and "), quoted(&fix.breaks));
        page.hang(FAINT, "  Not advised: ", &text, 4);
    }
}

fn quoted(all: &[BrokenFact]) -> String {
    all.iter()
        .map(BrokenFact::text)
        .collect::<Vec<_>>()
        .join(", ")
}

/// The changes that every alternative needs.
fn shared(fixes: &[FixFact]) -> Vec<&EditFact> {
    let Some((first, others)) = fixes.split_first() else {
        return Vec::new();
    };
    let everywhere = |edit: &&EditFact| others.iter().all(|fix| fix.edits.contains(edit));
    first.edits.iter().filter(everywhere).collect()
}

fn edit_text(edit: &EditFact) -> String {
    placed(&edit.text, edit.place.as_ref(), edit.owner.as_ref())
}

fn edits<'e>(page: &mut Page, all: impl Iterator<Item = &'e EditFact>, indent: &str) {
    for edit in all {
        let label = format!("{indent}- ");
        page.hang(Style::new(), &label, &edit_text(edit), indent.len() + 4);
    }
}

fn alternative(page: &mut Page, own: Vec<&EditFact>, label: &str) {
    if own.is_empty() {
        page.hang(Style::new(), label, "nothing else", 8);
    }
    for (number, edit) in own.into_iter().enumerate() {
        let front = if number == 0 {
            label.to_owned()
        } else {
            " ".repeat(label.len() - 2) + "+ "
        };
        page.hang(Style::new(), &front, &edit_text(edit), 8);
    }
}

/// What a fix does besides.
fn effects(page: &mut Page, fix: &FixFact, indent: &str) {
    let mut texts = Vec::new();
    if fix.then != Verdict::Works {
        texts.push(format!("Result: {}.", super::verdict_text(fix.then)));
    }
    if !fix.ends.is_empty() {
        texts.push(format!("Breaks {}.", besides(&fix.ends)));
    }
    texts.push(if fix.opens.is_empty() {
        "Opens nothing else.".to_owned()
    } else {
        format!("Also opens {}.", besides(&fix.opens))
    });
    let mut owners: Vec<&str> = fix
        .edits
        .iter()
        .filter_map(|edit| edit.owner.as_deref())
        .collect();
    owners.sort_unstable();
    owners.dedup();
    if owners.len() > 1 {
        texts.push(format!("Owners: {}.", owners.join(", ")));
    }
    page.hang(FAINT, indent, &texts.join(" "), indent.len());
    if !fix.around.is_empty() {
        let names = fix.around.join(" and firewall ");
        let text = format!("Bypasses firewall {names}.");
        page.hang(STRONG, indent, &text, indent.len());
    }
    if fix.opens_to_internet {
        let text = "Makes something public: the internet reaches more than was asked about.";
        page.hang(STRONG, indent, text, indent.len());
    }
}

/// What else a fix opens or ends.
fn besides(all: &[PathTraffic]) -> String {
    let one = |traffic: &PathTraffic| {
        format!(
            "{} from {} to {}",
            shortened(&traffic.services, 4),
            traffic.sources.said,
            traffic.destinations.said
        )
    };
    let mut text = all.iter().take(3).map(one).collect::<Vec<_>>().join("; ");
    if all.len() > 3 {
        text.push_str(&format!("; and {} more", all.len() - 3));
    }
    if all.iter().any(|traffic| !traffic.exact) {
        text.push_str(" (not every combination)");
    }
    text
}
