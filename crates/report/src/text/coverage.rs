//! What came of an import.

use super::at;
use crate::page::{FAINT, Look, Page, plural};
use anstyle::Style;
use heronshale_answers::Answer;
use heronshale_model::coverage::{
    CoverageAnswer, DanglingName, GuideAnswer, GuideQuestion, ReadAnswer,
};

/// Of each list no more is told than this; JSON tells all.
const SHOWN: usize = 20;
/// Wider names push what is behind them aside.
const WIDEST: usize = 44;

/// What was read, used, ignored, and what leads nowhere, as text.
pub fn coverage(answer: &Answer<CoverageAnswer>, look: Look) -> String {
    let Answer {
        heading, answer, ..
    } = answer;
    let mut page = Page::new(look);
    let read: usize = answer.records.iter().map(|one| one.read).sum();
    let loose = answer.dangling.len() + answer.unresolved.len();
    let loose = match loose {
        0 => "all references resolve".to_owned(),
        1 => "1 reference does not resolve".to_owned(),
        count => format!("{count} references do not resolve"),
    };
    page.top(
        &format!(
            "Wrote {}: {} from {}; {loose}.",
            answer.written,
            plural(read, "record"),
            plural(answer.files.len(), "file")
        ),
        heading,
    );
    let values = |all: &mut dyn Iterator<Item = usize>| all.sum::<usize>();
    let used = values(&mut answer.used.iter().map(|one| one.values));
    let all = used + values(&mut answer.ignored.iter().map(|one| one.values));
    page.say(
        FAINT,
        &format!(
            "Profile {} uses {}: {used} of {all} values.",
            answer.profile,
            plural(answer.used.len(), "field")
        ),
    );
    not_found(&mut page, answer);
    list(
        &mut page,
        "FIELDS WITHOUT A VALUE",
        answer.never.len(),
        answer.never.iter().map(|one| {
            (
                one.field.clone(),
                format!(
                    "none in {}  {}",
                    plural(one.records, "record"),
                    at(&one.place)
                ),
            )
        }),
    );
    hold_for_everything(&mut page, answer);
    let (known, open): (Vec<_>, Vec<_>) =
        answer.ignored.iter().partition(|one| one.because.is_some());
    list(
        &mut page,
        "IGNORED",
        open.len(),
        open.iter()
            .map(|one| (one.path.clone(), plural(one.values, "value"))),
    );
    let reason = |because: &Option<String>| because.clone().unwrap_or_default();
    list(
        &mut page,
        "IGNORED ON PURPOSE",
        known.len(),
        known.iter().map(|one| {
            (
                one.path.clone(),
                format!("{}: {}", plural(one.values, "value"), reason(&one.because)),
            )
        }),
    );
    not_read(&mut page, answer);
    page.heading("RECORDS");
    let rows: Vec<Vec<String>> = answer
        .records
        .iter()
        .map(|one| {
            let mut remarks = Vec::new();
            if one.read == 0 {
                remarks.push(format!("none found  {}", at(&one.place)));
            }
            if one.left_out > 0 {
                remarks.push(format!("{} left out", one.left_out));
            }
            if one.repeated > 0 {
                remarks.push(format!("{} duplicates", one.repeated));
            }
            vec![
                one.into.clone(),
                one.read.to_string(),
                format!("{} {}", one.files, one.from).trim().to_owned(),
                remarks.join("; "),
            ]
        })
        .collect();
    page.table(&["into", "read", "from", ""], &rows, &[1]);
    page.foot(heading);
    page.finish()
}

/// How far a guide came, and what it has to know, as text.
pub fn guide(answer: &Answer<GuideAnswer>, look: Look) -> String {
    let Answer {
        heading, answer, ..
    } = answer;
    let mut page = Page::new(look);
    let open: Vec<&GuideQuestion> = answer
        .questions
        .iter()
        .filter(|one| one.answer.is_none())
        .collect();
    let all = answer.questions.len();
    let questions = match (open.len(), all) {
        (0, 0) => "no questions".to_owned(),
        (0, _) => format!("all {} are answered", plural(all, "question")),
        (1, _) => format!("1 of {} is open", plural(all, "question")),
        (open, _) => format!("{open} of {} are open", plural(all, "question")),
    };
    let files = plural(answer.coverage.files.len(), "file");
    page.top(
        &format!(
            "Wrote a profile and a snapshot of {files} to {}; {questions}.",
            answer.folder
        ),
        heading,
    );
    if answer.by_hand {
        page.say(FAINT, "profile.yaml was edited by hand and is used as it is. Answers have no effect any more.");
    }
    some_of(
        &mut page,
        "LISTS OF OBJECTS",
        answer.lists.len(),
        answer.lists.len(),
        answer
            .lists
            .iter()
            .map(|one| (one.place.clone(), one.what.clone())),
    );
    if !open.is_empty() && !answer.by_hand {
        page.heading(&format!("OPEN QUESTIONS ({})", open.len()));
        for one in open {
            page.hang(Style::new(), &format!("  {:>2}  ", one.number), &one.ask, 6);
            if !one.seen.is_empty() {
                page.hang(FAINT, "      seen: ", &one.seen, 12);
            }
            const SHOWN: usize = 6;
            let choices = match one.choices.len() {
                0 => "a path, such as $.zone".to_owned(),
                1..=SHOWN => one.choices.join(", "),
                more => format!("one of {more} in questions.yaml"),
            };
            let likely = one
                .likely
                .as_ref()
                .map_or_else(String::new, |likely| format!("; likely {likely}"));
            page.hang(FAINT, "      answers: ", &format!("{choices}{likely}"), 12);
            page.hang(FAINT, "      if unanswered: ", &one.until_then, 12);
        }
        page.say(
            Style::new(),
            &format!(
                "Write the answers into {}/questions.yaml, and run the same command again.",
                answer.folder
            ),
        );
    }
    not_found(&mut page, &answer.coverage);
    hold_for_everything(&mut page, &answer.coverage);
    let ignored: Vec<_> = answer
        .coverage
        .ignored
        .iter()
        .filter(|one| one.because.is_none())
        .collect();
    list(
        &mut page,
        "IGNORED",
        ignored.len(),
        ignored
            .iter()
            .map(|one| (one.path.clone(), plural(one.values, "value"))),
    );
    not_read(&mut page, &answer.coverage);
    page.foot(heading);
    page.finish()
}

/// What was read of files of an open format, and what not understood, as text.
pub fn reading(answer: &Answer<ReadAnswer>, look: Look) -> String {
    let Answer {
        heading, answer, ..
    } = answer;
    let mut page = Page::new(look);
    let unclear = match answer.read.unclear.len() {
        0 => "everything is understood".to_owned(),
        1 => "1 statement is not understood; its rule counts as unknown".to_owned(),
        count => format!("{count} statements are not understood; their rules count as unknown"),
    };
    page.top(
        &format!(
            "Wrote {}: {} from {}; {unclear}.",
            answer.written,
            plural(
                answer.read.rules,
                if answer.format == "ietf-routes" {
                    "route"
                } else {
                    "rule"
                }
            ),
            plural(answer.read.files.len(), "file")
        ),
        heading,
    );
    page.say(
        FAINT,
        &format!(
            "Read as {}: {}",
            answer.format,
            answer.read.files.join(", ")
        ),
    );
    list(
        &mut page,
        "NOT UNDERSTOOD",
        answer.read.unclear.len(),
        answer
            .read
            .unclear
            .iter()
            .map(|one| (one.rule.clone(), format!("{}  {}", one.why, at(&one.place)))),
    );
    if !answer.read.remarks.is_empty() {
        page.heading(&format!("REMARKS ({})", answer.read.remarks.len()));
        for remark in &answer.read.remarks {
            page.hang(Style::new(), "  ", remark, 2);
        }
    }
    lead_nowhere(&mut page, &answer.dangling);
    page.heading("WRITTEN");
    let number = |count: usize| {
        if count == 0 {
            String::new()
        } else {
            count.to_string()
        }
    };
    let rows: Vec<Vec<String>> = { answer.items.iter() }
        .map(|one| {
            vec![
                one.section.clone(),
                one.count.to_string(),
                number(one.rules),
            ]
        })
        .collect();
    page.table(&["into", "items", "rules"], &rows, &[1, 2]);
    page.foot(heading);
    page.finish()
}

/// References that lead nowhere: ids of the exports, and names of the snapshot.
fn not_found(page: &mut Page, coverage: &CoverageAnswer) {
    let ids = coverage.unresolved.iter();
    let ids = ids.map(|one| {
        (
            one.id.clone(),
            format!("used {}  {}", times(one.times), at(&one.place)),
        )
    });
    list(page, "IDS WITHOUT A RECORD", coverage.unresolved.len(), ids);
    lead_nowhere(page, &coverage.dangling);
}

/// Files that nothing of an import comes from.
fn not_read(page: &mut Page, coverage: &CoverageAnswer) {
    let files = coverage
        .not_read
        .iter()
        .map(|one| (one.name.clone(), one.why.clone()));
    list(page, "FILES NOT READ", coverage.not_read.len(), files);
}

/// Rules that name no peers or no traffic.
fn hold_for_everything(page: &mut Page, coverage: &CoverageAnswer) {
    let rules = coverage.everything.iter().map(|one| {
        let verb = if one.of == 1 { "names" } else { "name" };
        let told = format!(
            "{} of {} {verb} no {}, first {}",
            one.rules,
            plural(one.of, "rule"),
            one.lacks,
            one.first
        );
        (one.list.clone(), told)
    });
    list(
        page,
        "RULES FOR EVERYTHING",
        coverage.everything.len(),
        rules,
    );
}

fn lead_nowhere(page: &mut Page, names: &[DanglingName]) {
    let pairs = names.iter().map(|one| {
        (
            one.target.clone(),
            format!("{}  {}", one.holder, at(&one.place)),
        )
    });
    list(page, "NAMES THAT DO NOT RESOLVE", names.len(), pairs);
}

fn times(count: usize) -> String {
    if count == 1 {
        "once".to_owned()
    } else {
        format!("{count} times")
    }
}

/// A heading, and pairs of texts under it; nothing if there are none.
fn list(
    page: &mut Page,
    heading: &str,
    count: usize,
    pairs: impl Iterator<Item = (String, String)>,
) {
    some_of(page, heading, count, SHOWN, pairs);
}

fn some_of(
    page: &mut Page,
    heading: &str,
    count: usize,
    most: usize,
    pairs: impl Iterator<Item = (String, String)>,
) {
    if count == 0 {
        return;
    }
    page.heading(&format!("{heading} ({count})"));
    let pairs: Vec<(String, String)> = pairs.take(most).collect();
    let longest = pairs
        .iter()
        .map(|(one, _)| one.chars().count())
        .max()
        .unwrap_or(0)
        .min(WIDEST);
    for (one, other) in pairs {
        page.hang(
            Style::new(),
            &format!("  {one:<longest$}  "),
            &other,
            longest + 4,
        );
    }
    if count > most {
        page.line(&format!("and {} more (--format json)", count - most));
    }
}

/// What was found for a draft of a profile, as text.
pub fn drafted_profile(told: &[(String, String)], written: &str, look: Look) -> String {
    let mut page = Page::new(look);
    let told: Vec<(String, String)> = told
        .iter()
        .map(|(one, other)| (crate::harmless_text(one), crate::harmless_text(other)))
        .collect();
    page.say(
        crate::page::STRONG,
        &format!("Wrote {written}, a first profile. Each line marked TODO is a guess."),
    );
    some_of(
        &mut page,
        "LISTS OF OBJECTS",
        told.len(),
        told.len(),
        told.iter().cloned(),
    );
    page.finish()
}
