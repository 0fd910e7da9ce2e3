//! `heronshale completions`: completions for shells, values of the estate at hand included.

use crate::failure::Failure;
use crate::opened::print;
use clap::{Args, ValueEnum};
use clap_complete::env::Shells;

/// Print completions for a shell
///
/// The shell asks the program while you type, so that names of the estate at hand are completed as well.
#[derive(Args, Debug)]
pub struct Completions {
    /// The shell
    #[arg(value_enum)]
    shell: Shell,
}

/// Shells with completions.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Shell {
    /// source <(heronshale completions bash)
    Bash,
    /// heronshale completions fish | source
    Fish,
    /// source <(heronshale completions zsh)
    Zsh,
    /// eval (heronshale completions elvish | slurp)
    Elvish,
    /// heronshale completions powershell | Out-String | Invoke-Expression
    Powershell,
}

impl Completions {
    pub fn run(&self) -> Result<u8, Failure> {
        let name = match self.shell {
            Shell::Bash => "bash",
            Shell::Fish => "fish",
            Shell::Zsh => "zsh",
            Shell::Elvish => "elvish",
            Shell::Powershell => "powershell",
        };
        let shells = Shells::builtins();
        let shell = shells.completer(name).ok_or_else(|| {
            Failure::wrong(
                format!("there are no completions for {name}"),
                "name another shell",
            )
        })?;
        let program = "heronshale";
        let mut out = Vec::new();
        shell
            .write_registration("COMPLETE", program, program, program, &mut out)
            .map_err(|error| Failure::Io {
                what: "cannot write the completions".to_owned(),
                error,
            })?;
        print(&String::from_utf8_lossy(&out))?;
        Ok(0)
    }
}
