//! `heronshale init`: a first snapshot to work on.

use crate::failure::Failure;
use crate::files::write_all;
use crate::opened::print;
use clap::Args;
use std::path::PathBuf;

/// Write a small commented snapshot that audits cleanly
#[derive(Args, Debug)]
pub struct Init {
    /// The folder
    #[arg(default_value = ".")]
    folder: PathBuf,
    /// Overwrite a snapshot.yaml that is there
    #[arg(long)]
    force: bool,
}

const SNAPSHOT: &str = include_str!("../../demo/init.yaml");

impl Init {
    pub fn run(&self) -> Result<u8, Failure> {
        write_all(&self.folder, &[("snapshot.yaml", SNAPSHOT)], self.force)?;
        let path = self.folder.join("snapshot.yaml");
        print(&format!(
            "Wrote {}: one network, two workloads, every field explained.\n\nNext:\n  heronshale audit -e {}\n  heronshale effective web-1 -e {}\n",
            path.display(),
            self.folder.display(),
            self.folder.display()
        ))?;
        Ok(0)
    }
}
