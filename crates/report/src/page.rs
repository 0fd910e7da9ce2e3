//! Text on a page: lines that fit a width, tables, and colour as an extra.

use crate::harmless::harmless_text;
use anstyle::{AnsiColor, Color, Effects, Style};
use comfy_table::{CellAlignment, ColumnConstraint, ContentArrangement, Table, TableStyle, Width};
use heronshale_answers::{GapRow, Heading};
use heronshale_audit::describe::moment_text;
pub(crate) use heronshale_audit::describe::plural;
use heronshale_model::severity::Severity;
use unicode_width::UnicodeWidthStr;

/// How a page is to look.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Look {
    /// Columns, 40 at least.
    pub width: usize,
    /// Whether to use colour; it never is the only carrier of meaning.
    pub colour: bool,
    /// Whether to tell everything in full.
    pub details: bool,
    /// Whether to list the default settings.
    pub settings: bool,
}

impl Default for Look {
    fn default() -> Self {
        Self {
            width: 100,
            colour: false,
            details: false,
            settings: false,
        }
    }
}

/// Bold.
pub(crate) const STRONG: Style = Style::new().bold();
/// What matters less.
pub(crate) const FAINT: Style = Style::new().dimmed();
/// What works, or is open.
pub(crate) const OPEN: Style = Style::new()
    .fg_color(Some(Color::Ansi(AnsiColor::Magenta)))
    .effects(Effects::BOLD);
/// What is refused.
pub(crate) const SHUT: Style = Style::new().fg_color(Some(Color::Ansi(AnsiColor::Blue)));

/// The colour of a severity.
pub(crate) fn style_of(severity: Severity) -> Style {
    let colour = match severity {
        Severity::Urgent => AnsiColor::Red,
        Severity::Serious => AnsiColor::Magenta,
        Severity::Minor => AnsiColor::Cyan,
        Severity::Note => AnsiColor::Blue,
    };
    Style::new()
        .fg_color(Some(Color::Ansi(colour)))
        .effects(Effects::BOLD)
}

/// A page that is being written.
pub(crate) struct Page {
    pub look: Look,
    out: String,
}

impl Page {
    pub fn new(look: Look) -> Self {
        Self {
            look: Look {
                width: look.width.max(40),
                ..look
            },
            out: String::new(),
        }
    }

    pub fn finish(self) -> String {
        self.out
    }

    /// A text of somebody, made harmless, in a style.
    pub fn styled(&self, style: Style, text: &str) -> String {
        let text = harmless_text(text);
        if self.look.colour && !text.is_empty() && style != Style::new() {
            format!("{style}{text}{style:#}")
        } else {
            text
        }
    }

    pub fn blank(&mut self) {
        self.out.push('\n');
    }

    /// A line made of what [`Page::styled`] gave, or of what a page wrote; it has to fit.
    pub fn raw(&mut self, line: &str) {
        self.out.push_str(line.trim_end());
        self.out.push('\n');
    }

    /// A line of any text; it has to fit.
    pub fn line(&mut self, text: &str) {
        self.raw(&harmless_text(text));
    }

    /// A text of any length in one style, wrapped.
    pub fn say(&mut self, style: Style, text: &str) {
        self.hang(style, "", text, 2);
    }

    /// A text behind a label; further lines are indented by as much as `indent`.
    pub fn hang(&mut self, style: Style, label: &str, text: &str, indent: usize) {
        self.hang_behind(Style::new(), label, style, text, indent);
    }

    /// The same with a style for the label.
    pub fn hang_behind(
        &mut self,
        label_style: Style,
        label: &str,
        style: Style,
        text: &str,
        indent: usize,
    ) {
        let (label, text) = (harmless_text(label), harmless_text(text));
        let spaces = " ".repeat(indent);
        let options = textwrap::Options::new(self.look.width)
            .initial_indent(&label)
            .subsequent_indent(&spaces)
            .word_separator(textwrap::WordSeparator::AsciiSpace)
            .word_splitter(textwrap::WordSplitter::NoHyphenation);
        for (at, line) in textwrap::wrap(&text, options).iter().enumerate() {
            let (front, rest) = if at == 0 {
                line.split_at(label.len().min(line.len()))
            } else {
                ("", line.as_ref())
            };
            let line = format!(
                "{}{}",
                self.styled(label_style, front),
                self.styled(style, rest)
            );
            self.raw(&line);
        }
    }

    /// `label     text`, the label in a column of its own; a label of several lines stands once.
    pub fn field(&mut self, label: &str, text: &str) {
        const COLUMN: usize = 13;
        let label = format!("  {label:<width$}", width = COLUMN - 2);
        // A longer label keeps its space.
        let label = if label.ends_with(' ') {
            label
        } else {
            format!("{label} ")
        };
        self.hang(Style::new(), &label, text, COLUMN);
    }

    /// A heading over what follows.
    pub fn heading(&mut self, text: &str) {
        self.blank();
        let line = self.styled(STRONG, text);
        self.raw(&line);
    }

    /// The answer in one sentence, and in one line what it was made from.
    pub fn top(&mut self, sentence: &str, heading: &Heading) {
        let undecided = sentence.starts_with("Undecided");
        let as_far = if heading.given_up && !undecided {
            "As far as ways could be followed: "
        } else {
            ""
        };
        self.say(STRONG, &format!("{as_far}{sentence}"));
        let size = &heading.size;
        let date = match (&heading.judged_by, &heading.taken) {
            (Some(judged), Some(taken)) if judged == taken => moment_text(taken),
            (Some(judged), Some(taken)) => {
                format!("{}, judged by {}", moment_text(taken), moment_text(judged))
            }
            (Some(judged), None) => format!("undated, judged by {}", moment_text(judged)),
            (None, _) => "undated, so end dates of rules are ignored".to_owned(),
        };
        let mut counts = vec![
            plural(size.networks, "network"),
            plural(size.interfaces, "interface"),
            plural(size.rules, "rule"),
        ];
        counts.retain(|count| count != "0 networks");
        let gaps = match heading.gaps.len() {
            0 => String::new(),
            count => format!(" · {}", plural(count, "gap")),
        };
        let line = format!("{} · {date} · {}{gaps}", heading.estate, counts.join(", "));
        self.say(FAINT, &line);
        if heading.given_up {
            let said = "Some connections have more possible ways than the limit of steps allows. They are undecided and count as unknown.";
            self.say(STRONG, said);
        }
    }

    /// What an answer rests on: what is missing from the snapshot, settings, files beside it.
    pub fn foot(&mut self, heading: &Heading) {
        const SHOWN: usize = 4;
        self.blank();
        if !heading.gaps.is_empty() {
            let all = heading.gaps.len();
            let shown = if self.look.details { all } else { SHOWN };
            let gaps = heading.gaps.iter().take(shown).map(gap_text);
            let mut text = gaps.collect::<Vec<_>>().join(", ");
            if all > shown {
                text.push_str(&format!(" and {} more (--details)", all - shown));
            }
            self.hang(FAINT, "Missing from the snapshot: ", &text, 2);
        }
        let settings = &heading.settings_at_default;
        let files = heading.stated.iter().map(|one| file_of(one));
        let mut parts: Vec<String> = Vec::new();
        if !settings.is_empty() && !self.look.settings {
            let count = plural(settings.len(), "default setting");
            parts.push(format!("Assumes {count} (--settings)"));
        }
        let files: Vec<&str> = files.collect();
        if !files.is_empty() {
            parts.push(files.join(", "));
        }
        if !parts.is_empty() {
            self.say(FAINT, &parts.join(" · "));
        }
        if !settings.is_empty() && self.look.settings {
            self.hang(FAINT, "Default settings: ", &settings.join(", "), 2);
        }
    }

    /// A table without lines: the columns as wide as need be, or wrapped to fit.
    pub fn table(&mut self, header: &[&str], rows: &[Vec<String>], right: &[usize]) {
        if rows.is_empty() {
            return;
        }
        let mut table = Table::new();
        table
            .load_style(TableStyle::new())
            .set_content_arrangement(ContentArrangement::Dynamic);
        table.set_width(u16::try_from(self.look.width).unwrap_or(u16::MAX));
        table.set_header(header.to_vec());
        for row in rows {
            table.add_row(row.iter().map(|cell| harmless_text(cell)));
        }
        // Cells break between words only, as far as that fits.
        let longest = |at: usize| {
            let cells = rows
                .iter()
                .filter_map(|row| row.get(at))
                .map(String::as_str)
                .chain(header.get(at).copied());
            cells
                .flat_map(str::split_whitespace)
                .map(UnicodeWidthStr::width)
                .max()
                .unwrap_or(0)
                .min(40)
                + 2
        };
        let words: Vec<usize> = (0..header.len()).map(longest).collect();
        let fits = words.iter().sum::<usize>() <= self.look.width;
        for (at, column) in table.column_iter_mut().enumerate() {
            if fits {
                column.set_constraint(ColumnConstraint::LowerBoundary(Width::Fixed(
                    u16::try_from(words[at]).unwrap_or(0),
                )));
            }
            column.set_padding((0, 2));
            if right.contains(&at) {
                column.set_cell_alignment(CellAlignment::Right);
            }
        }
        for (at, line) in table.lines().enumerate() {
            let line = if at == 0 {
                self.styled(FAINT, line.trim_end())
            } else {
                line.trim_end().to_owned()
            };
            self.raw(&line);
        }
    }
}

/// What is missing, in words: `rules of group scanner-vendor (the account may not be read)`.
fn gap_text(gap: &GapRow) -> String {
    let object = gap.object.replacen(':', " ", 1);
    let what = match gap.lacks.as_str() {
        "everything" => object,
        lacks => format!("{} of {object}", lacks.trim_start_matches("its ")),
    };
    let reason = gap.reason.as_ref();
    reason.map_or_else(|| what.clone(), |reason| format!("{what} ({reason})"))
}

/// The file of something that was said beside the snapshot.
fn file_of(stated: &str) -> &str {
    let bare = stated.trim_start_matches("configuration ");
    bare.split_once(" of ").map_or(bare, |(_, file)| file)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn page(width: usize, colour: bool) -> Page {
        Page::new(Look {
            width,
            colour,
            ..Look::default()
        })
    }

    #[test]
    fn texts_break_between_words_and_hang_behind_their_label() {
        let mut page = page(40, false);
        page.field(
            "where",
            "a-long-name-with-hyphens and another-one, then the end",
        );
        let expected = "  where      a-long-name-with-hyphens\n             and another-one, then the\n             end\n";
        assert_eq!(page.finish(), expected);
    }

    #[test]
    fn colour_adds_nothing_to_the_text_and_closes_what_it_opens() {
        for text in [
            "short",
            "a text that is long enough to be broken over several lines of the page, twice",
        ] {
            let both = [false, true].map(|colour| {
                let mut page = page(40, colour);
                page.hang_behind(OPEN, "OPEN    ", STRONG, text, 8);
                page.finish()
            });
            let mut plain = both[1].clone();
            while let Some(start) = plain.find('\u{1b}') {
                let end = plain[start..]
                    .find('m')
                    .map_or(plain.len(), |at| start + at + 1);
                plain.replace_range(start..end, "");
            }
            assert_eq!(plain, both[0]);
            assert!(
                both[1].lines().all(|line| line.ends_with("\u{1b}[0m")),
                "{:?}",
                both[1]
            );
        }
    }

    #[test]
    fn tables_fit_and_lose_no_word() {
        let words = "one two three four five six seven eight nine ten eleven twelve";
        let rows: Vec<Vec<String>> = (1..4)
            .map(|at| {
                vec![
                    format!("row-{at}"),
                    words.repeat(at),
                    format!("tcp {}", 1_000 * at),
                ]
            })
            .collect();
        for width in [60, 80, 100] {
            let mut page = page(width, false);
            page.table(&["name", "text", "service"], &rows, &[2]);
            let text = page.finish();
            assert!(
                text.lines().all(|line| line.chars().count() <= width),
                "{text}"
            );
            for row in &rows {
                for word in row.iter().flat_map(|cell| cell.split_whitespace()) {
                    assert!(text.contains(word), "{word}\n{text}");
                }
            }
        }
        let mut empty = page(60, false);
        empty.table(&["name"], &[], &[]);
        assert_eq!(empty.finish(), "");
    }

    #[test]
    fn counts_and_moments_read_as_people_write_them() {
        let table = [
            (0, "rule", "0 rules"),
            (1, "entry", "1 entry"),
            (2, "entry", "2 entries"),
            (3, "public address", "3 public addresses"),
            (2, "class", "2 classes"),
            (2, "day", "2 days"),
        ];
        for (count, what, expected) in table {
            assert_eq!(plural(count, what), expected);
        }
        assert_eq!(moment_text("2026-11-02T06:00:00Z"), "2026-11-02 06:00 UTC");
        assert_eq!(
            moment_text("2026-11-02T06:00:30.5Z"),
            "2026-11-02 06:00:30.5 UTC"
        );
        assert_eq!(
            moment_text("2026-11-02T23:59:59.999999999Z"),
            "end of 2026-11-02 UTC"
        );
    }
}
