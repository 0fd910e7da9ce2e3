//! The list of root causes: a line for each, in columns that fit the page.

use super::super::at;
use crate::harmless_text;
use crate::page::{FAINT, Page, style_of};
use heronshale_audit::finding::Finding;
use heronshale_model::severity::Severity;
use unicode_width::UnicodeWidthStr;

/// Subjects of one cause before the rest is counted.
const SUBJECTS: usize = 2;
/// Columns of the shortened fingerprint.
const STAMP: usize = 4;

/// A line of the list.
pub(super) struct Row {
    stamp: String,
    kind: String,
    what: String,
    place: String,
    owner: String,
}

/// The widths of the columns.
pub(super) struct Columns {
    kind: usize,
    what: usize,
    place: usize,
}

/// A row for a root cause, with all its findings.
pub(super) fn row(findings: &[&Finding], stamps: &Stamps) -> Row {
    let first = findings[0];
    let place = first.place.as_ref();
    Row {
        stamp: stamps.short(&first.fingerprint).to_owned(),
        kind: harmless_text(&first.kind),
        what: harmless_text(&what(findings)),
        place: harmless_text(&place.map_or_else(String::new, at)),
        owner: harmless_text(first.owner.as_deref().unwrap_or("no owner")),
    }
}

/// What a name adds to another with the same front: `-2` of telemetry-2, after telemetry-1.
fn tail<'n>(known: &str, name: &'n str) -> &'n str {
    match name.rfind('-') {
        Some(at) if at > 0 && known.rfind('-') == Some(at) && known[..at] == name[..at] => {
            &name[at..]
        }
        _ => name,
    }
}

/// `telemetry-1, -2: tcp 22 from any IPv6 address`.
fn what(findings: &[&Finding]) -> String {
    let first = findings[0];
    if first.subject.is_empty() {
        return first.title.clone();
    }
    let mut subjects: Vec<&str> = Vec::new();
    for finding in findings {
        if !subjects.contains(&finding.subject.as_str()) {
            subjects.push(&finding.subject);
        }
    }
    let mut text = subjects[0].to_owned();
    for subject in subjects.iter().skip(1).take(SUBJECTS - 1) {
        text.push_str(&format!(", {}", tail(subjects[0], subject)));
    }
    let more = subjects.len().saturating_sub(SUBJECTS);
    if more > 0 {
        text.push_str(&format!(" +{more}"));
    }
    if !first.short.is_empty() {
        let short = first.short.replace("any IPv4 address", "any IPv4");
        let short = short.replace("any IPv6 address", "any IPv6");
        text.push_str(&format!(": {short}"));
    }
    text
}

/// Fingerprints, shortened as far as each stays the only one that begins so.
pub(super) struct Stamps {
    all: Vec<String>,
}

impl Stamps {
    pub(super) fn of<'f>(findings: impl Iterator<Item = &'f Finding>) -> Self {
        let mut all: Vec<String> = findings.map(|one| one.fingerprint.clone()).collect();
        all.sort_unstable();
        Self { all }
    }

    fn short<'p>(&self, print: &'p str) -> &'p str {
        let front = print.get(..STAMP).unwrap_or(print);
        let same = self.all.iter().filter(|one| one.starts_with(front)).count();
        if same > 1 { print } else { front }
    }
}

impl Columns {
    /// Columns in which all rows fit.
    pub(super) fn of<'r>(
        page: &Page,
        rows: impl Iterator<Item = &'r (Severity, Row)> + Clone,
    ) -> Self {
        let widest = |of: fn(&Row) -> &str, least: usize, most: usize| {
            let widths = rows.clone().map(|(_, row)| of(row).width());
            widths.max().unwrap_or(0).clamp(least, most)
        };
        let kind = widest(|row| &row.kind, 8, 21);
        let place = widest(|row| &row.place, 4, 20);
        let owner = widest(|row| &row.owner, 0, 14);
        let used = STAMP + 1 + kind + 2 + 2 + place + 2 + owner;
        Self {
            kind,
            what: page.look.width.saturating_sub(used).max(24),
            place,
        }
    }
}

/// Writes rows below each other; a text that does not fit goes on below itself.
pub(super) fn write(page: &mut Page, rows: &[(Severity, Row)], columns: &Columns) {
    for (severity, row) in rows {
        one(page, *severity, row, columns);
    }
}

fn one(page: &mut Page, severity: Severity, row: &Row, columns: &Columns) {
    let options = textwrap::Options::new(columns.what)
        .word_separator(textwrap::WordSeparator::AsciiSpace)
        .word_splitter(textwrap::WordSplitter::NoHyphenation);
    let lines = textwrap::wrap(&row.what, options);
    let first = lines.first().map_or("", AsRef::as_ref);
    let pad = |text: &str, width: usize| {
        let gap = width.saturating_sub(text.width());
        format!("{text}{}", " ".repeat(gap))
    };
    let stamp = page.styled(style_of(severity), &pad(&row.stamp, STAMP));
    let place = page.styled(FAINT, &pad(&row.place, columns.place));
    let line = format!(
        "{stamp} {}  {}  {place}  {}",
        pad(&row.kind, columns.kind),
        pad(first, columns.what),
        row.owner
    );
    page.raw(&line);
    let indent = " ".repeat(STAMP + 1 + columns.kind + 2);
    for rest in lines.iter().skip(1) {
        page.raw(&format!("{indent}{rest}"));
    }
}
