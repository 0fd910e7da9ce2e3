//! One test binary: the built program on files in fresh folders, and the engine against naive evaluators.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod folder;
mod oracle;
mod program;

/// Says that a test cannot ask what it needs. Where `CI=true` that is a failure.
fn cannot_be_asked(why: &str) {
    let must = std::env::var_os("CI").is_some_and(|ci| ci == "true");
    assert!(!must, "with CI=true nothing is skipped: {why}");
    eprintln!("skipped: {why}");
}
