//! What `import` asks of an API.

use crate::failure::Failure;
use crate::terminal;
use clap::Args;
use heronshale_collect::{Bounds, CollectError, Token, collect};
use heronshale_intake::Profile;
use heronshale_report as report;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::{Duration, Instant};

/// What is asked of an API.
#[derive(Args, Debug)]
pub struct Asking {
    /// Ask this API as the profile says; the token comes from the environment variable that the profile names
    #[arg(long, value_name = "URL", requires = "profile", requires = "collect", conflicts_with_all = ["exports", "draft_profile", "written_as"])]
    url: Option<String>,
    /// With --url: the folder for the answers; answers already there are not asked again
    #[arg(long, value_name = "FOLDER", requires = "url")]
    collect: Option<PathBuf>,
    /// With --url: requests at the same time
    #[arg(long, value_name = "COUNT", default_value_t = 4, value_parser = clap::value_parser!(u16).range(1..=64))]
    parallel: u16,
    /// With --url: seconds for one answer, at most
    #[arg(long, value_name = "SECONDS", default_value_t = 30, value_parser = clap::value_parser!(u64).range(1..=3600))]
    timeout: u64,
    /// With --url: seconds for everything, at most
    #[arg(long, value_name = "SECONDS", default_value_t = 3600, value_parser = clap::value_parser!(u64).range(1..))]
    time_limit: u64,
}

impl Asking {
    /// Asks, if a URL is given; the folder that keeps the answers.
    pub fn collect(&self, profile: &Profile) -> Result<Option<PathBuf>, Failure> {
        let (Some(url), Some(folder)) = (&self.url, &self.collect) else {
            return Ok(None);
        };
        let token = match profile.token_variable() {
            None => None,
            Some(name) => match std::env::var(name) {
                Ok(text) if !text.trim().is_empty() => Some(Token::new(text.trim().to_owned())),
                _ => {
                    let what = format!("the environment variable {name} with the token is not set");
                    return Err(Failure::wrong(
                        what,
                        format!("set {name}; tokens are not accepted on the command line"),
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
        Ok(Some(folder.clone()))
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
                    "run the same command again to continue; answers are kept in {}. Or name a `gap` for it in the profile",
                    folder.display()
                ),
            }
        }
    }
}
