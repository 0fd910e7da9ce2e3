//! The audit: a sentence, a line for each root cause, the first three fixes in full, counts; never more lines than fit.

mod block;
mod list;

use super::at;
use crate::page::{FAINT, Look, Page, STRONG, plural, style_of};
use anstyle::Style;
use block::{accepted_text, in_brief, in_full};
use heronshale_answers::{Answer, Audit, KindCount, Since};
use heronshale_audit::describe::moment_text;
use heronshale_audit::expect::State;
use heronshale_audit::finding::{Accepted, Finding};
use heronshale_model::severity::Severity;
use list::{Columns, Row, Stamps, row};

/// By what the list of root causes is grouped.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum GroupBy {
    /// By severity, the worst first.
    Severity,
    /// By who changes what is at fault.
    Owner,
    /// By network.
    Network,
    /// By kind of finding.
    Kind,
    /// By file.
    File,
}

/// So few causes are told in full, without a list.
pub const FEW: usize = 4;
/// Lines for the list before the rest of the serious causes is counted.
const MOST_ROWS: usize = 400;

type Causes<'a> = Vec<Vec<&'a Finding>>;

/// The audit as text.
pub fn audit(answer: &Answer<Audit>, by: GroupBy, look: Look) -> String {
    let Answer {
        heading,
        answer: audit,
        ..
    } = answer;
    let mut page = Page::new(look);
    page.top(&sentence(audit), heading);
    chosen(&mut page, audit);
    let causes = audit.by_cause();
    let stamps = Stamps::of(audit.findings.iter());
    if look.details || (causes.len() <= FEW && by == GroupBy::Severity) {
        all_in_full(&mut page, &causes);
    } else if by == GroupBy::Severity {
        worst_in_lines(&mut page, audit, &causes, &stamps);
        first_fixes(&mut page, audit);
    } else {
        grouped(&mut page, &causes, by, &stamps);
    }
    summary(&mut page, audit);
    stated(&mut page, audit);
    page.foot(heading);
    page.finish()
}

/// What was asked for, if not all.
fn chosen(page: &mut Page, audit: &Audit) {
    if !audit.only.is_empty() {
        let left = plural(audit.left_out, "other finding");
        let text = format!("Only {}; {left} not shown.", audit.only.join(", "));
        page.say(FAINT, &text);
    }
    if let Some(since) = &audit.since {
        let known = plural(since.known, "finding");
        let text = format!(
            "New since {}; {known} known before not shown.",
            since_text(since)
        );
        page.say(FAINT, &text);
    }
}

fn all_in_full(page: &mut Page, causes: &Causes<'_>) {
    for findings in causes {
        page.blank();
        in_full(page, findings[0], &findings[1..]);
    }
}

/// The causes of one severity, and the rows of those that are listed.
struct Section {
    severity: Severity,
    all: usize,
    rows: Vec<(Severity, Row)>,
}

/// A line for each urgent and serious cause; of the others how many there are of each kind. What was asked for by name
/// is listed whatever its severity.
fn worst_in_lines(page: &mut Page, audit: &Audit, causes: &Causes<'_>, stamps: &Stamps) {
    let named = !audit.only.is_empty() || audit.since.is_some();
    let listed = |severity: Severity| named || severity >= Severity::Serious;
    let mut left = MOST_ROWS;
    let mut sections: Vec<Section> = Vec::new();
    for severity in Severity::ALL.into_iter().rev() {
        let of: Vec<&Vec<&Finding>> = causes
            .iter()
            .filter(|findings| findings[0].severity == severity)
            .collect();
        if of.is_empty() || !listed(severity) {
            continue;
        }
        let rows: Vec<(Severity, Row)> = of
            .iter()
            .take(left)
            .map(|findings| (severity, row(findings, stamps)))
            .collect();
        left -= rows.len();
        sections.push(Section {
            severity,
            all: of.len(),
            rows,
        });
    }
    let columns = Columns::of(page, sections.iter().flat_map(|one| &one.rows));
    for Section {
        severity,
        all,
        rows,
    } in &sections
    {
        page.blank();
        let title = severity.word().to_uppercase();
        let line = page.styled(style_of(*severity), &format!("{title} ({all})"));
        page.raw(&line);
        list::write(page, rows, &columns);
        if *all > rows.len() {
            let more = all - rows.len();
            let text = format!("and {more} more {} (--details)", severity.word());
            page.say(STRONG, &text);
        }
    }
    let rest: Vec<Severity> = [Severity::Minor, Severity::Note]
        .into_iter()
        .filter(|severity| !listed(*severity))
        .collect();
    if rest.iter().any(|one| counts(audit, *one).1 > 0) {
        page.blank();
    }
    for severity in rest {
        kinds_of(page, audit, severity);
    }
}

/// How many findings of a severity each kind has, the most first, and how many that are.
fn counts(audit: &Audit, severity: Severity) -> (Vec<&KindCount>, usize) {
    let at = Severity::ALL
        .iter()
        .rev()
        .position(|one| *one == severity)
        .unwrap_or(0);
    let mut kinds: Vec<&KindCount> = audit
        .by_kind
        .iter()
        .filter(|kind| kind.counts[at] > 0)
        .collect();
    kinds.sort_by_key(|kind| std::cmp::Reverse(kind.counts[at]));
    let sum = kinds.iter().map(|kind| kind.counts[at]).sum();
    (kinds, sum)
}

/// `MINOR (31)  redundant 7 · all-services 3 · … (--at-least minor)`.
fn kinds_of(page: &mut Page, audit: &Audit, severity: Severity) {
    let at = Severity::ALL
        .iter()
        .rev()
        .position(|one| *one == severity)
        .unwrap_or(0);
    let (kinds, sum) = counts(audit, severity);
    if sum == 0 {
        return;
    }
    const SHOWN: usize = 3;
    let texts = kinds
        .iter()
        .take(SHOWN)
        .map(|kind| format!("{} {}", kind.kind, kind.counts[at]));
    let mut text = texts.collect::<Vec<_>>().join(" · ");
    if kinds.len() > SHOWN {
        let more = plural(kinds.len() - SHOWN, "more kind");
        text.push_str(&format!(" · {more}"));
    }
    let word = severity.word();
    let label = format!("{:<12}", format!("{} ({sum})", word.to_uppercase()));
    let text = format!("{text} (--at-least {word})");
    page.hang_behind(style_of(severity), &label, Style::new(), &text, 12);
}

/// The causes to fix first, each with its fix: the worst, and of equally bad ones those with the most findings.
fn first_fixes(page: &mut Page, audit: &Audit) {
    let order = audit.first_causes();
    if order.is_empty() {
        return;
    }
    page.heading("FIX FIRST");
    for (number, findings) in order.iter().enumerate() {
        if number > 0 {
            page.blank();
        }
        in_brief(page, findings[0], &findings[1..]);
    }
}

/// Root causes below headings, each with its fix: what somebody has to do.
fn grouped(page: &mut Page, causes: &Causes<'_>, by: GroupBy, stamps: &Stamps) {
    let mut groups: Vec<(String, Vec<&Vec<&Finding>>)> = Vec::new();
    for findings in causes {
        let finding = findings[0];
        let names: Vec<String> = match by {
            GroupBy::Severity => vec![finding.severity.word().to_owned()],
            GroupBy::Owner => vec![finding.owner.clone().unwrap_or("no owner".to_owned())],
            GroupBy::Kind => vec![finding.kind.clone()],
            GroupBy::File => vec![match &finding.place {
                Some(place) => place.file.clone(),
                None => "no file".to_owned(),
            }],
            GroupBy::Network if finding.networks.is_empty() => vec!["no network".to_owned()],
            GroupBy::Network => finding.networks.clone(),
        };
        for name in names {
            match groups.iter_mut().find(|(known, _)| *known == name) {
                Some((_, all)) => all.push(findings),
                None => groups.push((name, vec![findings])),
            }
        }
    }
    groups.sort_by(|(a, one), (b, other)| (other.len(), a).cmp(&(one.len(), b)));
    for (name, findings) in &groups {
        page.heading(&format!("{name}: {}", plural(findings.len(), "root cause")));
        let rows: Vec<(Severity, Row)> = findings
            .iter()
            .map(|cause| (cause[0].severity, row(cause, stamps)))
            .collect();
        let columns = Columns::of(page, rows.iter());
        for (cause, row) in findings.iter().zip(&rows) {
            let severity = cause[0].severity;
            list::write(page, std::slice::from_ref(row), &columns);
            let label = format!("      {:<8} ", severity.word());
            page.hang_behind(style_of(severity), &label, Style::new(), &cause[0].fix, 15);
        }
    }
}

/// Who has how much to do.
fn summary(page: &mut Page, audit: &Audit) {
    let mut tables = vec![
        ("By owner: ", &audit.by_owner),
        ("By network: ", &audit.by_network),
    ];
    if page.look.details {
        tables.push(("By requirement: ", &audit.by_control));
    }
    if !audit.findings.is_empty() || !audit.expectations.is_empty() {
        page.blank();
    }
    for (label, counts) in tables {
        const SHOWN: usize = 8;

        let counts: Vec<_> = counts
            .iter()
            .filter(|one| one.count > 0 || audit.only.is_empty())
            .collect();
        if counts.is_empty() {
            continue;
        }
        let texts = counts
            .iter()
            .take(SHOWN)
            .map(|one| format!("{} {}", one.name, one.count));
        let mut text = texts.collect::<Vec<_>>().join(" · ");
        if counts.len() > SHOWN {
            text.push_str(&format!(" and {} more", counts.len() - SHOWN));
        }
        page.hang(Style::new(), label, &text, 2);
    }
}

/// What people said: expectations, accepted findings, and what is gone.
fn stated(page: &mut Page, audit: &Audit) {
    let counts = [expectations_text(audit), acceptances_text(audit)];
    let counts: Vec<String> = counts.into_iter().flatten().collect();
    if !counts.is_empty() {
        page.hang(Style::new(), "", &counts.join(". "), 2);
    }
    if page.look.details {
        expectations(page, audit);
        acceptances(page, audit);
    }
    because(page, audit);
    let Some(since) = audit.since.as_ref().filter(|since| !since.gone.is_empty()) else {
        return;
    };
    page.heading(&format!(
        "Gone since {}: {}",
        since_text(since),
        plural(since.gone.len(), "finding")
    ));
    for one in &since.gone {
        let text = format!("{} {}: {}", one.kind, one.fingerprint, one.title);
        page.hang(Style::new(), "  ", &text, 4);
    }
}

/// The edits that opened new ways in.
fn because(page: &mut Page, audit: &Audit) {
    let Some(since) = audit
        .since
        .as_ref()
        .filter(|since| !since.because.is_empty())
    else {
        return;
    };
    page.heading("OPENED BY");
    for one in &since.because {
        let sets: Vec<String> = one.cause.iter().map(|set| set.join(" with ")).collect();
        let label = format!("  {}  ", one.fingerprint);
        page.hang(STRONG, &label, &sets.join(" or "), label.len());
        for edit in &one.edits {
            let owner = edit.owner.as_ref();
            let owner = owner.map_or_else(String::new, |owner| format!(", {owner}"));
            let text = format!("{}  ({}{owner})", edit.text, at(&edit.place));
            let label = format!("    {:<3}", edit.letter);
            page.hang(Style::new(), &label, &text, label.len());
        }
    }
}

/// `Expectations: 5 broken · 6 kept`.
fn expectations_text(audit: &Audit) -> Option<String> {
    if audit.expectations.is_empty() {
        return None;
    }
    let states = [State::Broken, State::Unknown, State::Vacuous, State::Kept];
    let count = |state: State| {
        let of = audit.expectations.iter().filter(|one| one.state == state);
        of.count()
    };
    let counts: Vec<String> = states
        .iter()
        .filter(|state| count(**state) > 0)
        .map(|state| format!("{} {}", count(*state), state.word()))
        .collect();
    Some(format!("Expectations: {}", counts.join(" · ")))
}

fn expectations(page: &mut Page, audit: &Audit) {
    if audit.expectations.is_empty() {
        return;
    }
    page.heading("EXPECTATIONS");
    let mut sorted: Vec<_> = audit.expectations.iter().collect();
    sorted.sort_by_key(|one| one.state);
    for one in sorted {
        let style = if one.state == State::Kept {
            FAINT
        } else {
            STRONG
        };
        let label = format!("  {:<9}", one.state.word());
        let text = format!("{}: {}  {}", one.name, one.says, at(&one.place));
        page.hang_behind(style, &label, Style::new(), &text, 11);
    }
}

/// `Accepted: 2 findings, first ends in 7 days`.
fn acceptances_text(audit: &Audit) -> Option<String> {
    let soonest = audit.accepted.iter().map(|one| one.days_left).min()?;
    let when = match soonest {
        0 => "first ends today".to_owned(),
        days => format!(
            "first ends in {}",
            plural(usize::try_from(days).unwrap_or(0), "day")
        ),
    };
    let count = plural(audit.accepted.len(), "finding");
    Some(format!("Accepted: {count}, {when}"))
}

fn acceptances(page: &mut Page, audit: &Audit) {
    if audit.accepted.is_empty() {
        return;
    }
    page.heading("ACCEPTED");
    let mut sorted: Vec<&Accepted> = audit.accepted.iter().collect();
    sorted.sort_by_key(|one| one.days_left);
    for one in sorted {
        page.hang(Style::new(), "  ", &accepted_text(one), 4);
    }
}

fn since_text(since: &Since) -> String {
    since
        .taken
        .as_deref()
        .map_or_else(|| "an undated snapshot".to_owned(), moment_text)
}

/// How much is open to the internet, how many expectations are broken, how many findings there are.
fn sentence(audit: &Audit) -> String {
    let mut parts = vec![reach_text(audit)];
    let broken = audit
        .expectations
        .iter()
        .filter(|one| one.state == State::Broken)
        .count();
    if broken > 0 {
        let are = if broken == 1 { "is" } else { "are" };
        let all = plural(audit.expectations.len(), "expectation");
        parts.push(format!("{broken} of {all} {are} broken."));
    }
    let new = if audit.since.is_some() { "new " } else { "" };
    parts.push(match audit.findings.len() {
        0 => format!("No {new}findings."),
        count => {
            let findings = plural(count, &format!("{new}finding"));
            format!("{findings}, {}.", plural(audit.causes, "root cause"))
        }
    });
    parts.join(" ")
}

fn reach_text(audit: &Audit) -> String {
    if !audit.reachability_judged {
        return "Rules only: the snapshot has no networks, so reachability is not judged."
            .to_owned();
    }
    let (open, all) = (audit.workloads_open, audit.workloads);
    let are = if open == 1 || all == 1 { "is" } else { "are" };
    let against = match audit.workloads_forbidden {
        0 => String::new(),
        count => format!(", {count} of them against an expectation"),
    };
    let unknown = match audit.workloads_unknown {
        0 => String::new(),
        count => format!(" ({count} more cannot be determined)"),
    };
    format!(
        "{open} of {} {are} reachable from the internet{against}{unknown}.",
        plural(all, "workload")
    )
}

/// One finding that somebody lives with, in full.
pub fn one_accepted(answer: &Answer<Accepted>, look: Look) -> String {
    let accepted = &answer.answer;
    let finding = &accepted.finding;
    let mut page = Page::new(look);
    let until = moment_text(&accepted.until);
    page.top(
        &format!("Accepted until {until}: {}.", finding.title),
        &answer.heading,
    );
    page.blank();
    in_full(&mut page, finding, &[]);
    let text = format!(
        "{} ({})  {}",
        accepted.reason,
        accepted.who,
        at(&accepted.place)
    );
    page.field("accepted", &text);
    page.foot(&answer.heading);
    page.finish()
}

/// One finding in full, as `explain` shows it.
pub fn one_finding(answer: &Answer<Finding>, look: Look) -> String {
    let finding = &answer.answer;
    let look = Look {
        details: true,
        ..look
    };
    let mut page = Page::new(look);
    let word = finding.severity.word();
    let mut front = word.to_owned();
    if let Some(first) = front.get_mut(..1) {
        first.make_ascii_uppercase();
    }
    page.top(&format!("{front}: {}.", finding.title), &answer.heading);
    page.blank();
    in_full(&mut page, finding, &[]);
    page.foot(&answer.heading);
    page.finish()
}
