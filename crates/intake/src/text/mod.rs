//! Snapshot files changed in their text, so that comments and layout stay.
//!
//! What is written is read again and compared with what was meant. Were the two to differ, the change would not be offered, or the
//! file would be written anew, and that is said.

mod rewrite;
mod without;

pub use rewrite::{Rewritten, rewritten};
pub(crate) use without::document;
pub use without::{Edited, without_rules};

/// The dash of a list written line by line, if an item stands behind one.
fn dash_before(text: &str, start: usize) -> Option<usize> {
    let line = line_start(text, start);
    let front = &text[line..start];
    let dash = front.trim_end().strip_suffix('-')?;
    dash.trim().is_empty().then_some(line + dash.len())
}

/// Where the line of a place begins.
fn line_start(text: &str, at: usize) -> usize {
    text[..at].rfind('\n').map_or(0, |at| at + 1)
}

/// All lines of an item behind a dash, or of a key: to the next line that is not indented more deeply.
fn line_item(text: &str, dash: usize) -> (usize, usize) {
    let begin = line_start(text, dash);
    let column = dash - begin;
    // A list may stand right below its key.
    let is_key = !text[dash..].starts_with('-');
    let mut end = text[dash..]
        .find('\n')
        .map_or(text.len(), |at| dash + at + 1);
    let mut kept = end;
    while end < text.len() {
        let line_end = text[end..].find('\n').map_or(text.len(), |at| end + at + 1);
        let line = &text[end..line_end];
        let indent = line.len() - line.trim_start().len();
        if !line.trim().is_empty() {
            let is_below = is_key && indent == column && line.trim_start().starts_with("- ");
            if indent <= column && !is_below {
                break;
            }
            kept = line_end;
        }
        end = line_end;
    }
    (begin, kept)
}

/// Cuts between brackets: with each element goes one comma.
fn bracket_cuts(spans: &[(usize, usize)], gone: &[usize]) -> Vec<(usize, usize)> {
    let mut cuts = Vec::new();
    let mut at = 0;
    while at < spans.len() {
        if !gone.contains(&at) {
            at += 1;
            continue;
        }
        let first = at;
        while at < spans.len() && gone.contains(&at) {
            at += 1;
        }
        cuts.push(match (first.checked_sub(1), spans.get(at)) {
            (_, Some(next)) => (spans[first].0, next.0),
            (Some(before), None) => (spans[before].1, spans[at - 1].1),
            (None, None) => (spans[first].0, spans[at - 1].1),
        });
    }
    cuts
}
