//! The audit: a sentence, the worst findings in full, the others in a line each, a summary; never more lines than fit.

use crate::harmless_text;
use crate::page::{FAINT, Look, Page, STRONG, plural, style_of};
use anstyle::Style;
use heronshale_answers::{Answer, Audit, Since};
use heronshale_audit::describe::moment_text;
use heronshale_audit::expect::State;
use heronshale_audit::finding::{Accepted, Factor, Finding, Role};
use heronshale_model::severity::Severity;

/// How long an audit may be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Length {
    /// Every finding in full, however many lines that takes.
    All,
    /// At most so many lines, gaps included, as far as the summary leaves room.
    Lines(usize),
}

impl Length {
    /// What fits where nobody asked for more.
    pub const USUAL: Self = Self::Lines(116);
}

/// The audit as text: the worst findings in full on half of the lines, the others in a line each.
pub fn audit(answer: &Answer<Audit>, length: Length, look: Look) -> String {
    let Answer {
        heading,
        answer: audit,
        ..
    } = answer;
    let mut page = Page::new(look);
    page.top(&sentence(audit), heading);
    if !audit.only.is_empty() {
        page.say(
            FAINT,
            &format!(
                "only {}: {} left out",
                audit.only.join(", "),
                plural(audit.left_out, "finding")
            ),
        );
    }
    if let Some(since) = &audit.since {
        let known = format!("{} it had already", plural(since.known, "finding"));
        page.say(
            FAINT,
            &format!("only what is new since {}: {known}", since_text(since)),
        );
    }
    let mut gaps = Page::new(look);
    gaps.gaps(heading);
    let said = said(audit, matches!(length, Length::All), look);
    let tail = said.lines().count()
        + summary(audit, look).lines().count()
        + 2 * usize::from(!heading.gaps.is_empty())
        + heading.gaps.len();
    // One cause is told once, with the places where it occurs.
    let causes = audit.by_cause();
    let mut listed = 0;
    for occurrences in &causes {
        let block = in_full(
            occurrences[0],
            &occurrences[1..],
            matches!(length, Length::All),
            page.look,
        );
        let used = page.lines() + block.lines().count() + 1;
        if matches!(length, Length::Lines(most) if used * 2 > most) && listed > 0 {
            break;
        }
        page.blank();
        block.lines().for_each(|line| page.raw(line));
        listed += 1;
    }
    let mut rest = causes[listed..].iter();
    let room = match length {
        Length::All => usize::MAX,
        Length::Lines(most) => most.saturating_sub(page.lines() + tail + 3),
    };
    if rest.len() > 0 {
        page.blank();
        for occurrences in rest.by_ref().take(room) {
            in_short(&mut page, occurrences[0], occurrences.len() - 1);
        }
    }
    let left: usize = rest.map(Vec::len).sum();
    if left > 0 {
        let text = format!(
            "and {left} more: --all tells all, --kind, --owner, --network and --at-least choose"
        );
        page.say(FAINT, &text);
    }
    page.blank();
    summary(audit, page.look)
        .lines()
        .for_each(|line| page.raw(line));
    said.lines().for_each(|line| page.raw(line));
    page.gaps(heading);
    page.finish()
}

fn since_text(since: &Since) -> String {
    since
        .taken
        .as_deref()
        .map_or_else(|| "a snapshot of no date".to_owned(), moment_text)
}

fn and_more(page: &mut Page, all: usize, shown: usize) {
    if all > shown && shown > 0 {
        page.say(
            FAINT,
            &format!("  and {} more: --all tells all", all - shown),
        );
    }
}

/// What people said: how expectations stand, what is accepted, what is gone.
fn said(audit: &Audit, all: bool, look: Look) -> String {
    const SHOWN: usize = 7;
    // Where something else was asked for, how many there are is enough.
    let most = match (all, audit.only.is_empty()) {
        (true, _) => usize::MAX,
        (false, true) => SHOWN,
        (false, false) => 0,
    };
    let mut page = Page::new(look);
    if !audit.expectations.is_empty() {
        let count = |state: State| {
            audit
                .expectations
                .iter()
                .filter(|one| one.state == state)
                .count()
        };
        let states = [State::Broken, State::Unknown, State::Vacuous, State::Kept];
        let counts = states.iter().filter(|state| count(**state) > 0);
        let counts: Vec<String> = counts
            .map(|state| format!("{} {}", count(*state), state.word()))
            .collect();
        page.heading(&format!(
            "{}: {}",
            plural(audit.expectations.len(), "expectation"),
            counts.join(", ")
        ));
        let mut sorted: Vec<_> = audit.expectations.iter().collect();
        sorted.sort_by_key(|one| one.state);
        for one in sorted.iter().take(most) {
            let style = if one.state == State::Kept {
                FAINT
            } else {
                STRONG
            };
            let text = format!("{}: {}  {}", one.name, one.says, super::at(&one.place));
            page.hang_behind(
                style,
                &format!("  {:<9}", one.state.word()),
                Style::new(),
                &text,
                11,
            );
        }
        and_more(&mut page, sorted.len(), most);
    }
    if !audit.accepted.is_empty() {
        page.heading(&format!(
            "Accepted: {}",
            plural(audit.accepted.len(), "finding")
        ));
        let mut sorted: Vec<_> = audit.accepted.iter().collect();
        sorted.sort_by_key(|one| one.days_left);
        for one in sorted.iter().take(most) {
            let left = match one.days_left {
                0 => "ends today".to_owned(),
                days => format!("{} left", plural(usize::try_from(days).unwrap_or(0), "day")),
            };
            let text = format!(
                "{} {}: {} — {}, {}, until {} ({left})  {}",
                one.finding.kind,
                one.finding.fingerprint,
                one.finding.title,
                one.reason,
                one.who,
                moment_text(&one.until),
                super::at(&one.place)
            );
            page.hang(Style::new(), "  ", &text, 4);
        }
        and_more(&mut page, sorted.len(), most);
    }
    if let Some(since) = audit.since.as_ref().filter(|since| !since.gone.is_empty()) {
        page.heading(&format!(
            "Gone since {}: {}",
            since_text(since),
            plural(since.gone.len(), "finding")
        ));
        for one in since.gone.iter().take(most) {
            page.hang(
                Style::new(),
                "  ",
                &format!("{} {}: {}", one.kind, one.fingerprint, one.title),
                4,
            );
        }
        and_more(&mut page, since.gone.len(), most);
    }
    page.finish()
}

/// `5 of 13 expectations are broken.`
fn broken(audit: &Audit) -> String {
    let count = audit
        .expectations
        .iter()
        .filter(|one| one.state == State::Broken)
        .count();
    match count {
        0 => String::new(),
        1 => format!(
            " 1 of {} is broken.",
            plural(audit.expectations.len(), "expectation")
        ),
        _ => format!(
            " {count} of {} are broken.",
            plural(audit.expectations.len(), "expectation")
        ),
    }
}

fn sentence(audit: &Audit) -> String {
    let reach = if audit.reachability_judged {
        let unknown = match audit.workloads_unknown {
            0 => String::new(),
            1 => "; of 1 more that is unknown".to_owned(),
            count => format!("; of {count} more that is unknown"),
        };
        format!(
            "The internet reaches {} of {}{unknown}.",
            audit.workloads_open,
            plural(audit.workloads, "workload")
        )
    } else {
        "Without networks only rules are judged, not what reaches what.".to_owned()
    };
    let counts = audit.by_severity.iter().filter(|one| one.count > 0);
    let counts: Vec<String> = counts
        .map(|one| {
            if one.name == "note" {
                plural(one.count, "note")
            } else {
                format!("{} {}", one.count, one.name)
            }
        })
        .collect();
    match counts.len() {
        0 => {
            let new = if audit.since.is_some() { "new " } else { "" };
            format!("{reach}{} No {new}findings.", broken(audit))
        }
        _ => {
            let of = if audit.causes < audit.findings.len() {
                format!(" of {}", plural(audit.causes, "cause"))
            } else {
                String::new()
            };
            let findings = plural(audit.findings.len(), "finding");
            format!(
                "{reach}{} {findings}{of}: {}.",
                broken(audit),
                counts.join(", ")
            )
        }
    }
}

/// One finding that somebody lives with, in full.
pub fn one_accepted(answer: &Answer<Accepted>, look: Look) -> String {
    let Answer {
        heading,
        answer: accepted,
        ..
    } = answer;
    let finding = &accepted.finding;
    let mut page = Page::new(look);
    let until = moment_text(&accepted.until);
    let sentence = format!(
        "{} {} is accepted until {until}: {}.",
        finding.kind, finding.fingerprint, finding.title
    );
    page.top(&sentence, heading);
    page.blank();
    in_full(finding, &[], true, page.look)
        .lines()
        .for_each(|line| page.raw(line));
    page.field(
        "accepted",
        &format!(
            "{} ({})  {}",
            accepted.reason,
            accepted.who,
            super::at(&accepted.place)
        ),
    );
    page.finish()
}

/// One finding in full, as `explain` shows it.
pub fn one_finding(answer: &Answer<Finding>, look: Look) -> String {
    let Answer {
        heading,
        answer: finding,
        ..
    } = answer;
    let mut page = Page::new(look);
    let sentence = format!(
        "{} {} {}: {}.",
        finding.kind,
        finding.fingerprint,
        finding.severity.word(),
        finding.title
    );
    page.top(&sentence, heading);
    page.blank();
    in_full(finding, &[], true, page.look)
        .lines()
        .for_each(|line| page.raw(line));
    page.finish()
}

fn title_line(finding: &Finding) -> String {
    format!(
        "{:<8} {}",
        finding.severity.word().to_uppercase(),
        finding.kind
    )
}

/// A finding, and where else its cause occurs: all of it, or the first few.
fn in_full(finding: &Finding, others: &[&Finding], all: bool, look: Look) -> String {
    const SHOWN: usize = 2;
    let mut page = Page::new(look);
    let severity = page.styled(style_of(finding.severity), &title_line(finding));
    let stamp = finding.fingerprint.as_str();
    let gap = look
        .width
        .saturating_sub(title_line(finding).chars().count() + stamp.len())
        .max(2);
    let line = format!("{severity}{}{}", " ".repeat(gap), page.styled(FAINT, stamp));
    page.raw(&line);
    page.hang(Style::new().bold(), "  ", &finding.title, 4);
    let owner = format!(
        " · {}",
        finding.owner.as_deref().unwrap_or("no owner named")
    );
    let networks = if finding.networks.is_empty() {
        String::new()
    } else {
        format!(" · {}", finding.networks.join(", "))
    };
    if let Some(place) = &finding.place {
        page.field("where", &format!("{}{networks}{owner}", super::at(place)));
    }
    if let Some(witness) = &finding.witness {
        page.field("packet", &witness.text);
    }
    let mut before = "";
    for piece in finding.evidence.iter().filter(|piece| {
        piece.place.is_none()
            || piece.place != finding.place
            || piece.rule.is_some()
            || piece.role != Role::AtFault
    }) {
        let label = if piece.role.word() == before {
            ""
        } else {
            piece.role.word()
        };
        before = piece.role.word();
        let place = piece
            .place
            .as_ref()
            .filter(|place| Some(*place) != finding.place.as_ref());
        let place = place.map_or_else(String::new, |place| format!("  {}", super::at(place)));
        page.field(label, &format!("{}{place}", piece.text));
    }
    if !finding.factors.is_empty() || finding.regraded.is_some() {
        page.field(finding.severity.word(), &severity_text(finding));
    }
    if !finding.controls.is_empty() {
        page.field("against", &finding.controls.join(", "));
    }
    page.field(
        "fix",
        &format!("{} · side_effects: {}", finding.fix, finding.side_effects),
    );
    let shown = if all || others.len() <= SHOWN + 1 {
        others.len()
    } else {
        SHOWN
    };
    for (at, other) in others[..shown].iter().enumerate() {
        let place = other
            .place
            .as_ref()
            .map_or_else(String::new, |place| format!("  {}", super::at(place)));
        // What is as in the first is not said again.
        let severity = Some(other.severity.word()).filter(|_| other.severity != finding.severity);
        let severity = severity.map_or_else(String::new, |word| format!("{word}: "));
        let owner = other
            .owner
            .as_ref()
            .filter(|_| other.owner != finding.owner);
        let place = format!(
            "{place}{}",
            owner.map_or_else(String::new, |owner| format!(" · {owner}"))
        );
        let label = if at == 0 { "so too" } else { "" };
        page.field(
            label,
            &format!("{severity}{}{place}  {}", other.title, other.fingerprint),
        );
    }
    if shown < others.len() {
        page.field(
            "",
            &format!(
                "and {} more of the same cause: {}",
                others.len() - shown,
                finding.cause
            ),
        );
    }
    page.finish()
}

/// `minor; up: a sensitive port is open; down: …`.
fn severity_text(finding: &Finding) -> String {
    let factor = |factor: &Factor| {
        format!(
            "{}: {}",
            if factor.steps > 0 { "up" } else { "down" },
            factor.because
        )
    };
    let base = match &finding.regraded {
        None => format!("{} by its kind", finding.base.word()),
        Some(reason) => format!("{} by the configuration ({reason})", finding.base.word()),
    };
    std::iter::once(base)
        .chain(finding.factors.iter().map(factor))
        .collect::<Vec<_>>()
        .join("; ")
}

/// A cause in one line: its worst finding, and how many more there are.
fn in_short(page: &mut Page, finding: &Finding, more: usize) {
    let place = harmless_text(&finding.place.as_ref().map(super::at).unwrap_or_default());
    let whole = harmless_text(&finding.title);
    let place = if more > 0 {
        format!("{place} and {more} more")
    } else {
        place
    };
    let front = format!("{:<8} {:<19} ", finding.severity.word(), finding.kind);
    let room = page
        .look
        .width
        .saturating_sub(front.len() + place.len() + 2);
    let title: String = if whole.chars().count() > room {
        let kept = whole.chars().take(room.saturating_sub(1));
        kept.chain(['…']).collect()
    } else {
        whole
    };
    let gap = " ".repeat(room.saturating_sub(title.chars().count()) + 2);
    let line = format!(
        "{}{title}{gap}{}",
        page.styled(style_of(finding.severity), &front),
        page.styled(FAINT, &place)
    );
    page.raw(&line);
}

fn summary(audit: &Audit, look: Look) -> String {
    let mut page = Page::new(look);
    for (at, severity) in Severity::ALL.into_iter().rev().enumerate() {
        let mut kinds: Vec<_> = audit
            .by_kind
            .iter()
            .filter(|kind| kind.counts[at] > 0)
            .collect();
        kinds.sort_by_key(|kind| std::cmp::Reverse(kind.counts[at]));
        if !kinds.is_empty() {
            let all: Vec<String> = kinds
                .iter()
                .map(|kind| format!("{} {}", kind.kind, kind.counts[at]))
                .collect();
            let count: usize = kinds.iter().map(|kind| kind.counts[at]).sum();
            let label = format!("{:<12}", format!("{} {count}", severity.word()));
            page.hang_behind(
                style_of(severity),
                &label,
                Style::new(),
                &all.join(", "),
                12,
            );
        }
    }
    let tables = [
        ("by owner", &audit.by_owner),
        ("by network", &audit.by_network),
        ("by control", &audit.by_control),
    ];
    for (label, counts) in tables {
        let counts: Vec<_> = counts
            .iter()
            .filter(|one| one.count > 0 || audit.only.is_empty())
            .collect();
        if !counts.is_empty() {
            let all: Vec<String> = counts
                .iter()
                .take(8)
                .map(|one| format!("{} {}", one.name, one.count))
                .collect();
            let more = counts.len().saturating_sub(8);
            let tail = if more > 0 {
                format!(", and {more} more")
            } else {
                String::new()
            };
            page.hang(
                Style::new(),
                &format!("{label:<12}"),
                &format!("{}{tail}", all.join(", ")),
                12,
            );
        }
    }
    page.finish()
}
