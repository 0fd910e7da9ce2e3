//! Where output goes: width, colour, and a pipe that somebody closed.

use heronshale_report::Look;
use std::io::{IsTerminal, Write};

/// Width where there is no terminal.
const PIPED: usize = 100;

fn width(terminal: bool) -> usize {
    if !terminal {
        return PIPED;
    }
    terminal_size::terminal_size().map_or(PIPED, |(width, _)| usize::from(width.0).clamp(60, 200))
}

/// Colour only on a terminal; `NO_COLOR` and `CLICOLOR_FORCE` are kept.
fn coloured(choice: anstream::ColorChoice) -> bool {
    !matches!(choice, anstream::ColorChoice::Never)
}

/// How answers are to look.
pub fn look_of_stdout() -> Look {
    let stdout = std::io::stdout();
    Look {
        width: width(stdout.is_terminal()),
        colour: coloured(anstream::AutoStream::choice(&stdout)),
        ..Look::default()
    }
}

/// How errors are to look.
pub fn look_of_stderr() -> Look {
    let stderr = std::io::stderr();
    Look {
        width: width(stderr.is_terminal()),
        colour: coloured(anstream::AutoStream::choice(&stderr)),
        ..Look::default()
    }
}

/// Writes an answer. A reader that goes away is not a failure.
pub fn answer(text: &str) -> std::io::Result<()> {
    let mut stdout = std::io::stdout().lock();
    match stdout
        .write_all(text.as_bytes())
        .and_then(|()| stdout.flush())
    {
        Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => Ok(()),
        result => result,
    }
}

/// Tells something beside the answer.
pub fn tell(text: &str) {
    let mut stderr = std::io::stderr().lock();
    // Standard error is the last resort: nothing is left to tell it to.
    let _ = stderr.write_all(text.as_bytes());
}

/// A bar on a terminal, and nothing elsewhere.
fn bar(length: Option<u64>, template: &str) -> indicatif::ProgressBar {
    let target = if std::io::stderr().is_terminal() {
        indicatif::ProgressDrawTarget::stderr()
    } else {
        indicatif::ProgressDrawTarget::hidden()
    };
    let style = indicatif::ProgressStyle::with_template(template)
        .unwrap_or_else(|_| indicatif::ProgressStyle::default_bar());
    indicatif::ProgressBar::with_draw_target(length, target).with_style(style)
}

/// How far a number of bytes is read.
pub fn progress(bytes: u64) -> indicatif::ProgressBar {
    bar(Some(bytes), "{bytes} of {total_bytes} {wide_bar} {eta}")
}

/// How many requests are answered.
#[cfg(feature = "collect")]
pub fn steps() -> indicatif::ProgressBar {
    bar(None, "{pos} of {len} requests {wide_bar}")
}

/// How many failures are tried.
pub fn failures(count: usize) -> indicatif::ProgressBar {
    bar(
        u64::try_from(count).ok(),
        "{pos} of {len} failures {wide_bar} {eta}",
    )
}
