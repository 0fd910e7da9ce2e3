//! One test binary: the built program on files in fresh folders, and the engine against naive evaluators.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod folder;
mod oracle;
mod program;
