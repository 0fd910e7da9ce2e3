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
    Bounds, CollectError, Exports, Profile, Token, built_in_profile, collect, draft_profile,
    exports, import, load_profile, load_texts,
};
use heronshale_model::coverage::{CoverageAnswer, loose_ends};
use heronshale_report as report;
use std::io::{Read, Seek};
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::{Duration, Instant};

/// Makes a snapshot of exports, by a profile of your own that says what in them is what
///
/// Reads JSON, JSON Lines and CSV, files or folders of them, record by record, or asks an API and keeps its answers; and writes one
/// snapshot file. It ends with what was read and used, what was ignored, and what leads nowhere. Nothing is written if anything
/// could not be read.
#[derive(Args, Debug)]
pub struct Import {
    /// The exports: files, and folders of them
    #[arg(value_name = "FILE", required_unless_present = "url")]
    exports: Vec<PathBuf>,
    /// The profile: which nodes of the exports are which objects (`heronshale schema profile`); or openstack or sheets, which ship with the
    /// program
    #[arg(long, value_name = "FILE", required_unless_present_any = ["draft_profile", "written_as"])]
    profile: Option<PathBuf>,
    /// Read an open format instead, which needs no profile
    #[arg(long = "as", value_name = "FORMAT", value_enum, conflicts_with_all = ["profile", "draft_profile", "url"])]
    written_as: Option<OpenFormat>,
    #[command(flatten)]
    reading: Reading,
    /// Look at exports that no profile knows yet, and write a first profile to work on
    #[arg(long, value_name = "FILE", conflicts_with_all = ["profile", "into"])]
    draft_profile: Option<PathBuf>,
    /// The snapshot to write
    #[arg(long, value_name = "FILE", required_unless_present = "draft_profile")]
    into: Option<PathBuf>,
    /// Ask an API instead, as the profile says; the token comes from the variable of the environment that the profile names
    #[arg(long, value_name = "URL", requires = "profile", requires = "collect", conflicts_with_all = ["exports", "draft_profile"])]
    url: Option<String>,
    /// With --url: the folder that keeps the answers; what is there already is not asked again
    #[arg(long, value_name = "FOLDER", requires = "url")]
    collect: Option<PathBuf>,
    /// With --url: how many requests are under way at once
    #[arg(long, value_name = "COUNT", default_value_t = 4, value_parser = clap::value_parser!(u16).range(1..=64))]
    parallel: u16,
    /// With --url: how many seconds an answer may take
    #[arg(long, value_name = "SECONDS", default_value_t = 30, value_parser = clap::value_parser!(u64).range(1..=3600))]
    timeout: u64,
    /// With --url: how many seconds all of it may take
    #[arg(long, value_name = "SECONDS", default_value_t = 3600, value_parser = clap::value_parser!(u64).range(1..))]
    time_limit: u64,
    /// Write over a file that is there already
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
                "nothing says how to read the exports",
                "name a profile with --profile FILE",
            ));
        };
        if into.exists() && !self.force {
            let what = format!("{} is there already", into.display());
            return Err(Failure::wrong(
                what,
                "name another file, or overwrite it with --force",
            ));
        }
        let profile = profile_at(profile)?;
        let paths = match (&self.url, &self.collect) {
            (Some(url), Some(folder)) => {
                self.collect(&profile, url, folder)?;
                vec![folder.clone()]
            }
            _ => self.exports.clone(),
        };
        let found = exports(&paths).map_err(Failure::exports)?;
        self.write(&profile, &found, into)
    }

    fn collect(&self, profile: &Profile, url: &str, folder: &Path) -> Result<(), Failure> {
        let token = match profile.token_variable() {
            None => None,
            Some(name) => match std::env::var(name) {
                Ok(text) if !text.trim().is_empty() => Some(Token::new(text.trim().to_owned())),
                _ => {
                    let what = format!(
                        "the environment has no {name}, which holds the token by the profile"
                    );
                    return Err(Failure::wrong(
                        what,
                        format!("set {name}; it is not taken from the command line"),
                    ));
                }
            },
        };
        let bounds = Bounds {
            parallel: self.parallel.into(),
            answer: Duration::from_secs(self.timeout),
            whole: Duration::from_secs(self.time_limit),
            ..Bounds::default()
        };
        let now = jiff::Timestamp::now()
            .round(jiff::Unit::Second)
            .unwrap_or_default()
            .to_string();
        let bar = terminal::steps();
        let told_at = Mutex::new(Instant::now());
        let told = collect(
            profile,
            url,
            token.as_ref(),
            folder,
            bounds,
            &now,
            &|done, all| {
                bar.set_length(all as u64);
                bar.set_position(done as u64);
                // Where no bar can be drawn, a line now and then tells that it goes on.
                const PAUSE: Duration = Duration::from_secs(10);
                if bar.is_hidden()
                    && done < all
                    && let Ok(mut at) = told_at.lock()
                    && at.elapsed() >= PAUSE
                {
                    *at = Instant::now();
                    terminal::tell(&format!("{done} of {all} requests\n"));
                }
            },
        );
        bar.finish_and_clear();
        let told = told.map_err(|error| collect_failure(error, folder))?;
        terminal::tell(&format!(
            "Collected into {}: {} answered, {} kept from before, {} asked again, {} missing.\n",
            report::harmless_text(&folder.display().to_string()),
            told.answered,
            told.kept,
            told.again,
            told.missing.len()
        ));
        for missing in &told.missing {
            let object = missing.object.as_deref().unwrap_or_default();
            terminal::tell(&harmless_line(&format!(
                "missing: {} ({}): {object} is a gap",
                missing.request, missing.why
            )));
        }
        Ok(())
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

/// A line for standard error.
fn harmless_line(text: &str) -> String {
    report::harmless_text(text) + "\n"
}

/// Why nothing is imported, and what to do.
fn collect_failure(error: CollectError, folder: &Path) -> Failure {
    match error {
        CollectError::Use(what, hint) => Failure::wrong(what, hint),
        CollectError::Io(what, error) => Failure::Io { what, error },
        CollectError::Input(error) => Failure::exports(error),
        CollectError::Missing(all) => {
            const SHOWN: usize = 5;
            let shown: Vec<String> = all
                .iter()
                .take(SHOWN)
                .map(|one| format!("{} ({})", one.request, one.why))
                .collect();
            let more = if all.len() > SHOWN {
                format!(" and {} more", all.len() - SHOWN)
            } else {
                String::new()
            };
            Failure::Collect {
                what: format!(
                    "{}{more} could not be fetched, so nothing is imported",
                    shown.join(", ")
                ),
                hint: format!(
                    "the same command goes on: what was answered is kept in {}; or the profile names a `gap` for it",
                    folder.display()
                ),
            }
        }
    }
}
