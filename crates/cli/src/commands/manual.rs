//! `heronshale manual`: manual pages.

use crate::failure::Failure;
use crate::files::write_all;
use crate::opened::print;
use clap::{Args, Command};
use clap_mangen::Man;
use std::path::PathBuf;

/// Write manual pages, or print the main one
#[derive(Args, Debug)]
pub struct Manual {
    /// The folder for the pages; without it the main page goes to standard output
    folder: Option<PathBuf>,
    /// Overwrite files that are there
    #[arg(long, requires = "folder")]
    force: bool,
}

/// A page, and the name of its file.
fn page(command: Command, name: &str) -> Result<(String, String), Failure> {
    let mut bytes = Vec::new();
    let full: &'static str = name.to_owned().leak();
    Man::new(command.name(full))
        .render(&mut bytes)
        .map_err(|error| Failure::Io {
            what: "cannot write the manual".to_owned(),
            error,
        })?;
    let text = String::from_utf8_lossy(&bytes).into_owned();
    Ok((format!("{name}.1"), text))
}

impl Manual {
    pub fn run(&self) -> Result<u8, Failure> {
        let program = super::arguments();
        let Some(folder) = &self.folder else {
            print(&page(program, "heronshale")?.1)?;
            return Ok(0);
        };
        let mut pages = vec![page(program.clone(), "heronshale")?];
        for command in program.get_subcommands() {
            let name = format!("heronshale-{}", command.get_name());
            pages.push(page(command.clone(), &name)?);
        }
        let files: Vec<(&str, &str)> = pages
            .iter()
            .map(|(name, text)| (name.as_str(), text.as_str()))
            .collect();
        write_all(folder, &files, self.force)?;
        let count = heronshale_audit::describe::plural(files.len(), "manual page");
        print(&format!("Wrote {count} to {}.\n", folder.display()))?;
        Ok(0)
    }
}
