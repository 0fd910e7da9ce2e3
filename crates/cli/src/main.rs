//! The program: arguments, wiring, exit codes. It analyses nothing itself.

mod commands;
mod demo;
mod evidence;
mod failure;
mod files;
mod opened;
mod spools;
mod terminal;

/// Audits make and drop many small pieces of packet sets.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> std::process::ExitCode {
    commands::run()
}
