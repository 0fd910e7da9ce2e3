//! The commands, one file each: its arguments, whose comments are the help, and its wiring.

mod audit;
#[cfg(feature = "collect")]
mod collecting;
mod compare;
mod completing;
mod completions;
mod demo;
mod effective;
mod examples;
mod explain;
mod export;
mod exposure;
mod guide;
mod import;
mod init;
mod inventory;
mod manual;
mod matrix;
mod open_formats;
mod path;
mod reach;
mod rehearse;
mod routes;
mod rule;
mod schema;
mod tidy;

use crate::failure::Failure;
use crate::terminal;
use clap::{CommandFactory, FromArgMatches, Parser, Subcommand};
use std::process::ExitCode;

/// Audits cloud network access rules: what can reach what, which rules do nothing, and what nobody intended.
///
/// Reads a snapshot of virtual networks (a file or a folder of files) and answers from it, exactly and with proof. Each statement
/// names the deciding rule with its line, and a concrete packet where there is one. Changes nothing.
#[derive(Parser, Debug)]
#[command(name = "heronshale", version, max_term_width = 100, after_help = AFTER)]
pub struct Program {
    #[command(subcommand)]
    command: Command,
}

const AFTER: &str = "\
Names: an interface, a workload or anything else by its name; an address; internet; or a name with its kind:
  interface: workload: network: subnet: group: tag:role=web identity: division: owner: site: set: balancer: service:

Exit codes:
  0  nothing at or above the threshold, or the expected result
  1  findings at or above the threshold, or another result
  2  wrong use
  3  the input cannot be used
  4  the environment failed";

/// What help shows in which order: the sentence, examples, then options.
const HELP: &str = "{about-with-newline}\n{usage-heading} {usage}\n\n{after-help}\n\n{all-args}";

#[derive(Subcommand, Debug)]
enum Command {
    Demo(demo::Demo),
    Init(init::Init),
    Inventory(inventory::Inventory),
    Effective(effective::Effective),
    Routes(routes::Routes),
    Path(path::Path),
    Rule(rule::Rule),
    Reach(reach::Reach),
    Exposure(exposure::Exposure),
    Matrix(matrix::Matrix),
    Audit(audit::Audit),
    Compare(compare::Compare),
    Rehearse(rehearse::Rehearse),
    Tidy(tidy::Tidy),
    Guide(guide::Guide),
    Import(import::Import),
    Export(export::Export),
    Explain(explain::Explain),
    Schema(schema::Schema),
    Completions(completions::Completions),
    Manual(manual::Manual),
}

/// The arguments of the whole program, for completions and documentation.
pub fn arguments() -> clap::Command {
    completing::with_values(Program::command()).mut_subcommands(|command| {
        let examples = examples::text(command.get_name());
        command.help_template(HELP).after_help(examples)
    })
}

/// Runs the program.
pub fn run() -> ExitCode {
    clap_complete::CompleteEnv::with_factory(arguments).complete();
    let parsed = arguments()
        .try_get_matches()
        .and_then(|matches| Program::from_arg_matches(&matches));
    let program = match parsed {
        Ok(program) => program,
        // Help and the version are answers: if they cannot be written, that is told as of any answer.
        Err(told) if !told.use_stderr() => {
            let written = told
                .print()
                .and_then(|()| std::io::Write::flush(&mut std::io::stdout()));
            return match written {
                Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => {
                    let failure = Failure::Io {
                        what: "cannot write the answer".to_owned(),
                        error,
                    };
                    terminal::tell(&failure.message());
                    ExitCode::from(failure.code())
                }
                _ => ExitCode::SUCCESS,
            };
        }
        Err(told) => told.exit(),
    };
    let result = program.command.run();
    match result {
        Ok(code) => ExitCode::from(code),
        Err(failure) => {
            terminal::tell(&failure.message());
            ExitCode::from(failure.code())
        }
    }
}

impl Command {
    fn run(&self) -> Result<u8, Failure> {
        match self {
            Self::Demo(command) => command.run(),
            Self::Init(command) => command.run(),
            Self::Inventory(command) => command.run(),
            Self::Effective(command) => command.run(),
            Self::Routes(command) => command.run(),
            Self::Path(command) => command.run(),
            Self::Rule(command) => command.run(),
            Self::Reach(command) => command.run(),
            Self::Exposure(command) => command.run(),
            Self::Matrix(command) => command.run(),
            Self::Audit(command) => command.run(),
            Self::Compare(command) => command.run(),
            Self::Rehearse(command) => command.run(),
            Self::Tidy(command) => command.run(),
            Self::Guide(command) => command.run(),
            Self::Import(command) => command.run(),
            Self::Export(command) => command.run(),
            Self::Explain(command) => command.run(),
            Self::Schema(command) => command.run(),
            Self::Completions(command) => command.run(),
            Self::Manual(command) => command.run(),
        }
    }
}
