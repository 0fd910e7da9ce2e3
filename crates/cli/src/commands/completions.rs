//! `heronshale completions`: completions for shells.

use crate::failure::Failure;
use crate::opened::print;
use clap::Args;
use clap_complete::{Shell, generate};

/// Completions for a shell, to be sourced by it
#[derive(Args, Debug)]
pub struct Completions {
    /// The shell
    #[arg(value_enum)]
    shell: Shell,
}

impl Completions {
    pub fn run(&self) -> Result<u8, Failure> {
        let mut out = Vec::new();
        generate(self.shell, &mut super::arguments(), "heronshale", &mut out);
        print(&String::from_utf8_lossy(&out))?;
        Ok(0)
    }
}
