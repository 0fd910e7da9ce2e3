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
            "{}{owner}: {} of {} go",
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
        page.heading("Proof");
        let proof = &tidy.proof;
        let text = if proof.holds {
            format!(
                "with and without these rules every packet is decided alike: compared on {} of interfaces, all on which a changed \
                 filter acts, stage by stage, and for {} alone",
                if proof.classes == 1 {
                    "1 class".to_owned()
                } else {
                    format!("{} classes", proof.classes)
                },
                plural(proof.filters, "filter")
            )
        } else {
            format!(
                "does not hold, so nothing is offered: {}",
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
        const SHOWN: usize = 20;
        page.heading("Dead rules that stay");
        for one in tidy.staying.iter().take(SHOWN) {
            page.field(
                "stays",
                &format!("{}  {}", rule_text(&one.rule), at(&one.rule.place)),
            );
            page.field("", &one.because);
        }
        if tidy.staying.len() > SHOWN {
            page.line(&format!(
                "and {} more; --format json lists all",
                tidy.staying.len() - SHOWN
            ));
        }
    }
    if let Some(written) = written {
        page.blank();
        page.say(anstyle::Style::new(), written);
    }
    page.finish()
}

fn sentence(tidy: &TidyAnswer) -> String {
    match (tidy.going, tidy.proof.holds) {
        (0, _) => format!("None of {} can go for good.", plural(tidy.rules, "rule")),
        (going, true) => format!(
            "{going} of {} can go for good, all at once.",
            plural(tidy.rules, "rule")
        ),
        (going, false) => {
            format!(
                "{going} rules look dead, but taking them out would change something: nothing is offered."
            )
        }
    }
}
