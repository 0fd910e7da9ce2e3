//! The program: arguments, wiring, exit codes. It analyses nothing itself.

mod commands;
mod demo;
mod failure;
mod files;
mod opened;
mod terminal;

fn main() -> std::process::ExitCode {
    commands::run()
}
