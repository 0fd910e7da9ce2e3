//! One finding in full.

use super::super::{at, placed};
use crate::page::{FAINT, Page, plural, style_of};
use anstyle::Style;
use heronshale_audit::describe::moment_text;
use heronshale_audit::facts::BrokenFact;
use heronshale_audit::finding::{Accepted, Evidence, Factor, Finding, Role, TriedFact};

/// Other occurrences of a cause before the rest is counted.
const OTHERS: usize = 2;
/// Steps of a way before the rest is counted.
const STEPS: usize = 4;

/// A finding, and where else its cause occurs.
pub(super) fn in_full(page: &mut Page, finding: &Finding, others: &[&Finding]) {
    title_line(page, finding);
    page.hang(Style::new().bold(), "  ", &finding.title, 4);
    if let Some(place) = &finding.place {
        page.field("where", &where_text(finding, &at(place)));
    }
    if let Some(witness) = &finding.witness {
        page.field("packet", &witness.text);
    }
    evidence(page, finding);
    if !finding.factors.is_empty() || finding.regraded.is_some() {
        page.field(finding.severity.word(), &severity_text(finding));
    }
    if !finding.controls.is_empty() {
        page.field("against", &finding.controls.join(", "));
    }
    page.field("fix", &finding.fix);
    page.field("", &format!("Side effects: {}", finding.side_effects));
    tried(page, finding);
    occurrences(page, finding, others);
}

/// What somebody needs who fixes it now: what is wrong, what allows it, the fix. The rest is told by its fingerprint.
pub(super) fn in_brief(page: &mut Page, finding: &Finding, others: &[&Finding]) {
    title_line(page, finding);
    page.hang(Style::new().bold(), "  ", &finding.title, 4);
    evidence(page, finding);
    page.field("fix", &finding.fix);
    let first = finding.tried.first().filter(|one| !one.breaks.is_empty());
    let breaks = first.map_or_else(String::new, |one| {
        format!(" Breaks {}.", quoted(&one.breaks))
    });
    let effects = format!("Side effects: {}{breaks}", finding.side_effects);
    page.field("", &effects);
    first.into_iter().for_each(|one| before(page, one));
    let rest = finding.tried.iter().skip(usize::from(first.is_some()));
    rest.for_each(|one| broken(page, one));
    if !others.is_empty() {
        page.field("also", &also(finding, others));
    }
}

/// What the advice does to expectations.
fn tried(page: &mut Page, finding: &Finding) {
    let all = &finding.tried;
    if !all.is_empty() && all.iter().all(|one| one.tried && one.breaks.is_empty()) {
        page.field("", "No kept expectation breaks (tried).");
    }
    all.iter().for_each(|one| broken(page, one));
}

/// What one change breaks, or that it was not tried.
fn broken(page: &mut Page, one: &TriedFact) {
    if !one.tried {
        let text = format!(
            "Not tried against the expectations (limit reached): {}.",
            one.change
        );
        page.field("", &text);
    }
    if !one.breaks.is_empty() {
        let text = format!("Breaks {} if you {}.", quoted(&one.breaks), one.change);
        page.hang(Style::new().bold(), &" ".repeat(13), &text, 13);
        before(page, one);
    }
}

/// What has to be changed before.
fn before(page: &mut Page, one: &TriedFact) {
    if one.first.is_empty() {
        page.field("", "No change is known that would prevent this.");
    }
    for edit in &one.first {
        let text = placed(&edit.text, edit.place.as_ref(), edit.owner.as_ref());
        page.field("first", &text);
    }
}

fn quoted(all: &[BrokenFact]) -> String {
    all.iter()
        .map(BrokenFact::text)
        .collect::<Vec<_>>()
        .join(", ")
}

/// The subjects of other findings with the same cause.
fn also(finding: &Finding, others: &[&Finding]) -> String {
    let mut subjects: Vec<&str> = Vec::new();
    for other in others {
        let subject = if other.subject.is_empty() {
            &other.title
        } else {
            &other.subject
        };
        if *subject != finding.subject && !subjects.contains(&subject.as_str()) {
            subjects.push(subject);
        }
    }
    let shown: Vec<&str> = subjects.iter().take(OTHERS).copied().collect();
    let mut text = shown.join(", ");
    if subjects.len() > shown.len() {
        text.push_str(&format!(" and {} more", subjects.len() - shown.len()));
    }
    let count = format!(
        "{} with the same cause",
        plural(others.len(), "more finding")
    );
    if text.is_empty() {
        count
    } else {
        format!("{text}: {count}")
    }
}

/// Severity and kind, with the fingerprint at the right.
fn title_line(page: &mut Page, finding: &Finding) {
    let title = format!(
        "{:<8} {}",
        finding.severity.word().to_uppercase(),
        finding.kind
    );
    let stamp = finding.fingerprint.as_str();
    let used = title.chars().count() + stamp.len();
    let gap = page.look.width.saturating_sub(used).max(2);
    let line = format!(
        "{}{}{}",
        page.styled(style_of(finding.severity), &title),
        " ".repeat(gap),
        page.styled(FAINT, stamp)
    );
    page.raw(&line);
}

/// Place, networks and owner.
fn where_text(finding: &Finding, place: &str) -> String {
    let mut parts = vec![place.to_owned()];
    if !finding.networks.is_empty() {
        parts.push(finding.networks.join(", "));
    }
    parts.push(match &finding.owner {
        Some(owner) => owner.clone(),
        None => "no owner".to_owned(),
    });
    parts.join(" · ")
}

fn evidence(page: &mut Page, finding: &Finding) {
    // The place of the finding itself is told already.
    let adds = |piece: &&Evidence| {
        piece.place.is_none()
            || piece.place != finding.place
            || piece.rule.is_some()
            || piece.role != Role::AtFault
    };
    let pieces: Vec<&Evidence> = finding.evidence.iter().filter(adds).collect();
    let mut before = None;
    let mut steps = 0;
    for piece in &pieces {
        if piece.role == Role::Step {
            steps += 1;
            if steps > STEPS && !page.look.details {
                continue;
            }
        }
        let label = if before == Some(piece.role) {
            ""
        } else {
            piece.role.word()
        };
        before = Some(piece.role);
        let place = piece.place.as_ref();
        let place = place.filter(|place| Some(*place) != finding.place.as_ref());
        let place = place.map_or_else(String::new, |place| format!("  {}", at(place)));
        page.field(label, &format!("{}{place}", piece.text));
    }
    if steps > STEPS && !page.look.details {
        let left = plural(steps - STEPS, "more step");
        page.field("", &format!("{left} (--details)"));
    }
}

/// `minor; raised: a sensitive port is open; lowered: …`.
fn severity_text(finding: &Finding) -> String {
    let factor = |factor: &Factor| {
        let way = if factor.steps > 0 {
            "raised"
        } else {
            "lowered"
        };
        format!("{way}: {}", factor.because)
    };
    let base = match &finding.regraded {
        None => format!("{} for its kind", finding.base.word()),
        Some(reason) => format!("{} by configuration ({reason})", finding.base.word()),
    };
    let factors = finding.factors.iter().map(factor);
    std::iter::once(base)
        .chain(factors)
        .collect::<Vec<_>>()
        .join("; ")
}

/// Where else the cause occurs; what is as in the first finding is not repeated.
fn occurrences(page: &mut Page, finding: &Finding, others: &[&Finding]) {
    let all = page.look.details || others.len() <= OTHERS + 1;
    let shown = if all { others.len() } else { OTHERS };
    for (number, other) in others[..shown].iter().enumerate() {
        let mut text = String::new();
        if other.severity != finding.severity {
            text.push_str(&format!("{}: ", other.severity.word()));
        }
        text.push_str(&other.title);
        if let Some(place) = &other.place {
            text.push_str(&format!("  {}", at(place)));
        }
        if let Some(owner) = other
            .owner
            .as_ref()
            .filter(|_| other.owner != finding.owner)
        {
            text.push_str(&format!(" · {owner}"));
        }
        let label = if number == 0 { "also" } else { "" };
        page.field(label, &format!("{text}  {}", other.fingerprint));
    }
    if shown < others.len() {
        let left = others.len() - shown;
        page.field("", &format!("and {left} more with the same cause"));
    }
}

/// Who lives with a finding, why and until when.
pub(super) fn accepted_text(one: &Accepted) -> String {
    let left = match one.days_left {
        0 => "ends today".to_owned(),
        days => format!("{} left", plural(usize::try_from(days).unwrap_or(0), "day")),
    };
    format!(
        "{} {}: {}. Reason: {} ({}). Until {}, {left}.  {}",
        one.finding.kind,
        one.finding.fingerprint,
        one.finding.title,
        one.reason,
        one.who,
        moment_text(&one.until),
        at(&one.place)
    )
}
