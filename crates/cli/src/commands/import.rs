//! `heronshale import`: a snapshot out of exports, an API, or an open format.

use crate::commands::open_formats::{OpenFormat, Reading};
use crate::failure::Failure;
use crate::files::{persist, temporary};
use crate::opened::{Format, print};
use crate::spools::Spools;
use crate::terminal;
use clap::Args;
use heronshale_answers::with_heading;
use heronshale_engine::fabric::Fabric;
use heronshale_intake::{
    Exports, Profile, built_in_profile, draft_profile, exports, import, load_profile, load_texts,
};
use heronshale_model::coverage::{CoverageAnswer, loose_ends};
use heronshale_report as report;
use std::io::{Read, Seek};
use std::path::{Path, PathBuf};

/// Convert exported data to a snapshot with a mapping profile
///
/// Reads JSON, JSON Lines and CSV, or asks an API and keeps its answers, and writes one snapshot file. Lists what was read, used,
/// ignored and unresolved. Writes nothing if anything could not be read.
#[derive(Args, Debug)]
pub struct Import {
    /// The exports: files, and folders of them
    #[arg(value_name = "FILE")]
    exports: Vec<PathBuf>,
    /// The profile, which maps exported data to objects (`heronshale schema profile`); or a built-in one: openstack, sheets
    #[arg(long, value_name = "FILE", required_unless_present_any = ["draft_profile", "written_as"])]
    profile: Option<PathBuf>,
    /// Read an open format, without a profile
    #[arg(long = "as", value_name = "FORMAT", value_enum, conflicts_with_all = ["profile", "draft_profile"])]
    written_as: Option<OpenFormat>,
    #[command(flatten)]
    reading: Reading,
    /// Write a first profile for these exports, to work on
    #[arg(long, value_name = "FILE", conflicts_with_all = ["profile", "into"])]
    draft_profile: Option<PathBuf>,
    /// The snapshot to write
    #[arg(long, value_name = "FILE", required_unless_present = "draft_profile")]
    into: Option<PathBuf>,
    #[cfg(feature = "collect")]
    #[command(flatten)]
    asking: super::collecting::Asking,
    /// Overwrite a file that is there
    #[arg(long)]
    force: bool,
    /// How to write the answer
    #[arg(long, value_enum, default_value = "text")]
    format: Format,
}

/// A profile that ships with the program, or a file.
pub(super) fn profile_at(path: &Path) -> Result<Profile, Failure> {
    let built_in = path
        .to_str()
        .filter(|_| !path.is_file())
        .and_then(built_in_profile);
    built_in
        .unwrap_or_else(|| load_profile(path))
        .map_err(Failure::exports)
}

impl Import {
    pub fn run(&self) -> Result<u8, Failure> {
        self.format.is_no_table()?;
        if let (Some(format), Some(into)) = (self.written_as, &self.into) {
            return self
                .reading
                .run(format, &self.exports, into, self.force, self.format);
        }
        if let Some(path) = &self.draft_profile {
            let found = exports(&self.exports).map_err(Failure::exports)?;
            let draft = draft_profile(&found).map_err(Failure::exports)?;
            crate::files::write_file(path, &draft.text, self.force)?;
            print(&report::drafted_profile(
                &draft.told,
                &path.display().to_string(),
                terminal::look_of_stdout(),
            ))?;
            return Ok(0);
        }
        let (Some(profile), Some(into)) = (&self.profile, &self.into) else {
            return Err(Failure::wrong(
                "the profile for the exports is not given",
                "name a profile with --profile FILE",
            ));
        };
        if into.exists() && !self.force {
            let what = format!("{} already exists", into.display());
            return Err(Failure::wrong(
                what,
                "name another file, or overwrite it with --force",
            ));
        }
        let profile = profile_at(profile)?;
        #[cfg(feature = "collect")]
        let collected = self.asking.collect(&profile)?;
        #[cfg(not(feature = "collect"))]
        let collected: Option<PathBuf> = None;
        let paths = collected.map_or_else(|| self.exports.clone(), |folder| vec![folder]);
        let found = exports(&paths).map_err(Failure::exports)?;
        self.write(&profile, &found, into)
    }

    fn write(&self, profile: &Profile, found: &Exports, into: &Path) -> Result<u8, Failure> {
        let failed = |error| Failure::Io {
            what: "cannot write the snapshot".to_owned(),
            error,
        };
        let mut spools = Spools::default();
        let bar = terminal::progress(found.bytes());
        let passes = import(
            profile,
            found,
            &mut |section, text| spools.take(section, text),
            &mut |bytes| bar.inc(bytes),
        );
        bar.finish_and_clear();
        let mut answer: CoverageAnswer = passes.map_err(Failure::exports)?;
        let mut file = temporary(into)?;
        spools
            .assemble(&answer.profile, file.file.as_file_mut())
            .map_err(failed)?;
        // What was made is read as any snapshot is: what is wrong with it as a whole shows before it is there.
        let mut text = String::new();
        file.file
            .rewind()
            .and_then(|()| file.file.read_to_string(&mut text))
            .map_err(failed)?;
        let name = into
            .file_name()
            .unwrap_or(into.as_os_str())
            .to_string_lossy()
            .into_owned();
        let snapshot = load_texts(&[(&name, &text)]).map_err(Failure::exports)?;
        drop(text);
        persist(file, into)?;
        answer.written = into.display().to_string();
        answer.dangling = loose_ends(&snapshot.estate);
        let view = Fabric::new(&snapshot.estate, snapshot.estate.taken);
        let whole = with_heading(&view, "coverage", answer);
        match self.format {
            Format::Text => print(&report::coverage(&whole, terminal::look_of_stdout()))?,
            Format::Json | Format::Csv => print(&report::json(&whole))?,
        }
        Ok(0)
    }
}
