//! What a kind of finding is.

use crate::page::{Look, Page, STRONG};
use anstyle::Style;
use heronshale_audit::finding::{CATALOGUE, Kind};

/// A kind of finding in words; without one the whole catalogue, a line each.
pub fn explain(kind: Option<&Kind>, look: Look) -> String {
    let mut page = Page::new(look);
    let Some(kind) = kind else {
        page.say(
            STRONG,
            &format!("There are {} kinds of findings.", CATALOGUE.len()),
        );
        page.blank();
        for kind in CATALOGUE {
            page.hang(
                Style::new(),
                &format!("{:<20}", kind.name),
                &format!("{:<8} {}", kind.base.word(), kind.about),
                29,
            );
        }
        return page.finish();
    };
    page.say(STRONG, &format!("{}: {}", kind.name, kind.about));
    page.blank();
    page.field("why", kind.why);
    page.field("when", kind.triggers);
    page.field("severity", kind.base.word());
    for factor in kind.factors {
        page.field("", factor);
    }
    page.field("fix", kind.fix);
    page.field("", &format!("Side effects: {}", kind.side_effects));
    page.heading("An example");
    for line in kind.example.lines() {
        page.line(&format!("  {line}"));
    }
    page.finish()
}
