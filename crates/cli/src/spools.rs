//! A snapshot while it is made, section by section.

use heronshale_intake::{FORMAT, VERSION, snapshot_sections};
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufWriter, Read, Seek, Write};

/// The sections of a snapshot while it is made, each in a temporary file without a name.
#[derive(Default)]
pub struct Spools(BTreeMap<&'static str, BufWriter<File>>);

impl Spools {
    /// Takes objects of a section.
    ///
    /// # Errors
    /// If they cannot be written.
    pub fn take(&mut self, section: &'static str, text: &str) -> std::io::Result<()> {
        if !self.0.contains_key(section) {
            self.0
                .insert(section, BufWriter::new(tempfile::tempfile()?));
        }
        self.0
            .get_mut(section)
            .map_or(Ok(()), |spool| spool.write_all(text.as_bytes()))
    }

    /// Writes the snapshot.
    ///
    /// # Errors
    /// If something cannot be written.
    pub fn assemble(mut self, profile: &str, into: impl Write) -> std::io::Result<()> {
        let mut out = BufWriter::new(into);
        let profile = profile.escape_debug();
        writeln!(
            out,
            "# Made from exports by the profile {profile}; each object is preceded by the file and line it comes from."
        )?;
        writeln!(out, "format: {FORMAT}\nversion: {VERSION}")?;
        for section in snapshot_sections() {
            let Some(spool) = self.0.remove(section) else {
                continue;
            };
            let mut spool = spool
                .into_inner()
                .map_err(std::io::IntoInnerError::into_error)?;
            spool.rewind()?;
            writeln!(out, "\n{section}:")?;
            if section == "estate" {
                let mut text = String::new();
                spool.read_to_string(&mut text)?;
                for line in text.lines() {
                    writeln!(out, "  {line}")?;
                }
            } else {
                std::io::copy(&mut spool, &mut out)?;
            }
        }
        out.flush()
    }
}
