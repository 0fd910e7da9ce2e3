//! What is wrong with the input, each with the line shown and marked.

use crate::page::Look;
use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{Annotation, AnnotationKind, Group, Level, Renderer, Snippet};
use heronshale_model::source::{Problem, Span};

/// A file with its text, for showing lines.
pub struct SourceFile<'t> {
    /// Its name relative to the estate.
    pub name: &'t str,
    /// Its text.
    pub text: &'t str,
}

/// Lines around a marked place that are handed to the renderer: a file of millions of lines is not.
const AROUND: usize = 2;
/// More problems than this are counted, not shown.
const MOST: usize = 200;
/// A longer line is cut around the place.
const LONGEST_LINE: usize = 2_000;

/// All problems, one after the other, and how many there are, with what came of it.
pub fn problems(
    problems: &[Problem],
    files: &[SourceFile<'_>],
    outcome: &str,
    look: Look,
) -> String {
    let renderer = if look.colour {
        Renderer::styled()
    } else {
        Renderer::plain()
    };
    let renderer = renderer
        .decor_style(DecorStyle::Ascii)
        .term_width(look.width);
    let mut out = String::new();
    for problem in problems.iter().take(MOST) {
        out.push_str(&one(&renderer, problem, files));
        out.push_str("\n\n");
    }
    let count = problems.len();
    let plural = if count == 1 { "" } else { "s" };
    let shown = if count > MOST {
        format!(", of which the first {MOST} are shown")
    } else {
        String::new()
    };
    out.push_str(&format!("{count} error{plural}{shown}: {outcome}\n"));
    out
}

/// A part of a file around a span, and where in it the span is.
struct Excerpt {
    text: String,
    first_line: usize,
    from: usize,
    to: usize,
}

fn excerpt(text: &str, span: Span) -> Excerpt {
    let floor = |mut at: usize| {
        at = at.min(text.len());
        while !text.is_char_boundary(at) {
            at -= 1;
        }
        at
    };
    let (from, to) = (
        floor(span.start as usize),
        floor(span.end.max(span.start) as usize),
    );
    let line_start = text[..from].rfind('\n').map_or(0, |at| at + 1);
    let to = text[from..to].find('\n').map_or(to, |at| from + at);
    let mut start = line_start;
    for _ in 0..AROUND {
        start = text[..start.saturating_sub(1)]
            .rfind('\n')
            .map_or(0, |at| at + 1);
    }
    let mut end = text[to..].find('\n').map_or(text.len(), |at| to + at);
    if end - start > LONGEST_LINE * 3 {
        start = floor(from.saturating_sub(LONGEST_LINE)).max(line_start);
        end = floor(to + LONGEST_LINE).min(end);
    }
    let first_line = text[..start].bytes().filter(|byte| *byte == b'\n').count() + 1;
    // C1 controls take two bytes; two signs in their place keep every offset.
    let shown: String = text[start..end]
        .chars()
        .map(|c| {
            if matches!(c, '\u{80}'..='\u{9f}') {
                "??".to_owned()
            } else {
                c.to_string()
            }
        })
        .collect();
    Excerpt {
        text: shown,
        first_line,
        from: from - start,
        to: to - start,
    }
}

fn snippet<'s>(
    excerpt: &'s Excerpt,
    name: &'s str,
    kind: AnnotationKind,
    label: &'s str,
) -> Snippet<'s, Annotation<'s>> {
    let to = excerpt.to.max(excerpt.from);
    let mut mark = kind.span(excerpt.from..to);
    if !label.is_empty() {
        mark = mark.label(label);
    }
    Snippet::source(excerpt.text.as_str())
        .line_start(excerpt.first_line)
        .path(name)
        .fold(true)
        .annotation(mark)
}

fn one(renderer: &Renderer, problem: &Problem, files: &[SourceFile<'_>]) -> String {
    let clean = crate::harmless_text;
    let of = |span: Span| files.get(span.file.0 as usize);
    let (title, label) = (clean(&problem.title), clean(&problem.label));
    let excerpts: Vec<(Excerpt, String, AnnotationKind, String)> =
        std::iter::once((problem.span, label, AnnotationKind::Primary))
            .chain(
                problem
                    .related
                    .iter()
                    .map(|(span, words)| (*span, clean(words), AnnotationKind::Context)),
            )
            .filter_map(|(span, words, kind)| {
                let file = of(span)?;
                Some((excerpt(file.text, span), clean(file.name), kind, words))
            })
            .collect();
    let mut group = Group::with_title(Level::ERROR.primary_title(title.as_str()));
    for (excerpt, name, kind, words) in &excerpts {
        group = group.element(snippet(excerpt, name, *kind, words));
    }
    let help = problem.help.as_ref().map(|help| clean(help));
    if let Some(help) = &help {
        group = group.element(Level::HELP.message(help.as_str()));
    }
    renderer.render(&[group]).to_string()
}
