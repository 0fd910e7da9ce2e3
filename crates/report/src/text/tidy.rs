//! The safe clean-up.

use super::at;
use crate::page::{Look, Page, plural};
use heronshale_answers::{Answer, TidyAnswer};
use heronshale_audit::describe::rule_text;

/// What can go, as text. `written`: what was done with it, in words.
pub fn tidy(answer: &Answer<TidyAnswer>, written: Option<&str>, look: Look) -> String {
    let Answer {
        heading,
        answer: tidy,
        ..
    } = answer;
    let mut page = Page::new(look);
    page.top(&sentence(tidy), heading);
    for filter in &tidy.filters {
        let owner = filter
            .owner
            .as_ref()
            .map(|owner| format!(", {owner}"))
            .unwrap_or_default();
        page.heading(&format!(
            "{}{owner}: delete {} of {}",
            filter.filter,
            filter.going.len(),
            plural(filter.rules, "rule")
        ));
        for one in &filter.going {
            page.field(
                &one.why,
                &format!("{}  {}", rule_text(&one.rule), at(&one.rule.place)),
            );
            for (cover, label) in one
                .covered_by
                .iter()
                .zip(std::iter::once("covered by").chain(std::iter::repeat("")))
            {
                page.field(
                    label,
                    &format!("{}  {}", rule_text(cover), at(&cover.place)),
                );
            }
        }
    }
    if tidy.going > 0 {
        page.heading("PROOF");
        let proof = &tidy.proof;
        let text = if proof.holds {
            format!(
                "Every packet gets the same decision with and without these rules. Compared stage by stage on {} of interfaces \
                 (all with a changed filter), and for {} alone.",
                if proof.classes == 1 {
                    "1 class".to_owned()
                } else {
                    format!("{} classes", proof.classes)
                },
                plural(proof.filters, "filter")
            )
        } else {
            format!(
                "The proof failed, so nothing is offered: {}",
                proof.different.join(", ")
            )
        };
        page.field("compared", &text);
        for file in &tidy.files {
            let operations = file.patch.as_array().map_or(0, Vec::len);
            page.field(
                "patch",
                &format!("{}: {}", file.file, plural(operations, "operation")),
            );
        }
    }
    if !tidy.staying.is_empty() {
        let shown = if look.details { usize::MAX } else { 20 };
        page.heading("DEAD RULES THAT STAY");
        for one in tidy.staying.iter().take(shown) {
            page.field(
                "stays",
                &format!("{}  {}", rule_text(&one.rule), at(&one.rule.place)),
            );
            page.field("", &one.because);
        }
        if tidy.staying.len() > shown {
            page.line(&format!(
                "and {} more (--details)",
                tidy.staying.len() - shown
            ));
        }
    }
    if let Some(written) = written {
        page.blank();
        page.say(anstyle::Style::new(), written);
    }
    page.foot(heading);
    page.finish()
}

fn sentence(tidy: &TidyAnswer) -> String {
    match (tidy.going, tidy.proof.holds) {
        (0, _) => format!(
            "None of {} can be deleted safely.",
            plural(tidy.rules, "rule")
        ),
        (going, true) => format!(
            "{going} of {} can be deleted together without any effect.",
            plural(tidy.rules, "rule")
        ),
        (going, false) => {
            format!(
                "{going} rules look dead, but deleting them would change something, so nothing is offered."
            )
        }
    }
}
