//! Arguments that several commands share, and the estate that they open.

use crate::failure::Failure;
use crate::terminal;
use clap::{Args, ValueEnum};
use heronshale_core::answer::{Answer, with_heading};
use heronshale_core::ends::End;
use heronshale_core::model::{Id, Interface, Service};
use heronshale_core::tuning::Tuning;
use heronshale_core::view::View;
use heronshale_intake::{Snapshot, load, load_configuration, parse_moment};
use heronshale_report::{Look, harmless_text, json};
use serde::Serialize;
use std::path::{Path, PathBuf};

/// How answers are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For people.
    Text,
    /// For programs; `heronshale schema` has the schema of each answer.
    Json,
}

/// Which estate, judged by which date, told in which format.
#[derive(Args, Debug)]
pub struct EstateArgs {
    /// The snapshot: a file, or a folder whose snapshot files are one estate
    #[arg(short, long, value_name = "PATH", default_value = ".")]
    pub estate: PathBuf,
    /// Judge ends of rules by this moment (2026-11-02 means the end of that day, UTC); else by the snapshot's own
    #[arg(long, value_name = "MOMENT")]
    pub at: Option<String>,
    /// The configuration: marks, sensitive ports, thresholds; else `heronshale.yaml` of this folder, if it is there
    #[arg(long, value_name = "FILE")]
    pub config: Option<PathBuf>,
    /// How to write the answer
    #[arg(long, value_enum, default_value = "text")]
    pub format: Format,
}

/// Which traffic; several are taken together, none means all.
#[derive(Args, Debug)]
pub struct TrafficArgs {
    /// TCP ports: 443, 80,443 or 8000-8100
    #[arg(long, value_name = "PORTS")]
    pub tcp: Vec<String>,
    /// UDP ports
    #[arg(long, value_name = "PORTS")]
    pub udp: Vec<String>,
    /// ICMP types: 8, or 3/1 with a code
    #[arg(long, value_name = "TYPES")]
    pub icmp: Vec<String>,
    /// Any traffic in the notation of rules: "tcp 443", "icmpv6 128", gre, "any 53"
    #[arg(long, value_name = "TRAFFIC")]
    pub traffic: Vec<String>,
}

impl TrafficArgs {
    /// The services that are asked about.
    pub fn services(&self) -> Result<Vec<Service>, Failure> {
        let of = |protocol: &str, all: &[String]| all.iter().map(|low| format!("{protocol} {low}")).collect::<Vec<_>>();
        let texts = [of("tcp", &self.tcp), of("udp", &self.udp), of("icmp", &self.icmp), self.traffic.clone()].concat();
        texts
            .iter()
            .map(|text| {
                text.parse()
                    .map_err(|error: heronshale_core::notation::NotationError| Failure::wrong(error.what, error.help))
            })
            .collect()
    }
}

/// An estate that was read, and how to answer about it.
pub struct Opened {
    snapshot: Snapshot,
    at: Option<jiff::Timestamp>,
    tuning: Tuning,
    format: Format,
    look: Look,
}

/// The configuration's name where none is given.
const CONFIGURATION: &str = "heronshale.yaml";

impl EstateArgs {
    /// Reads the estate.
    pub fn open(&self) -> Result<Opened, Failure> {
        let at = match &self.at {
            None => None,
            Some(text) => Some(parse_moment(text).ok_or_else(|| {
                Failure::wrong(format!("`{text}` is no date"), "write 2026-11-02, or 2026-11-02T06:00:00Z")
            })?),
        };
        let tuning = match &self.config {
            Some(path) => load_configuration(path)?,
            None if Path::new(CONFIGURATION).is_file() => load_configuration(Path::new(CONFIGURATION))?,
            None => Tuning::default(),
        };
        Opened::read(&self.estate, at, tuning, self.format)
    }
}

/// Names the files of the folder that are no part of the snapshot.
fn tell_not_read(snapshot: &Snapshot) {
    let files: Vec<_> = snapshot.not_read.iter().filter(|file| file.name != CONFIGURATION).collect();
    if files.is_empty() {
        return;
    }
    let shown: Vec<String> =
        files.iter().take(4).map(|file| format!("{} ({})", harmless_text(&file.name), file.why)).collect();
    let more = if files.len() > 4 { format!(" and {} more", files.len() - 4) } else { String::new() };
    terminal::tell(&format!("not read: {}{more}\n", shown.join(", ")));
}

impl Opened {
    fn read(path: &Path, at: Option<jiff::Timestamp>, tuning: Tuning, format: Format) -> Result<Self, Failure> {
        let snapshot = load(path)?;
        tell_not_read(&snapshot);
        Ok(Self { snapshot, at, tuning, format, look: terminal::look_of_stdout() })
    }

    /// Another snapshot, judged by its own moment.
    pub fn other(&self, path: &Path) -> Result<Self, Failure> {
        Self::read(path, None, self.tuning.clone(), self.format)
    }

    /// The frozen view.
    pub fn view(&self) -> View<'_> {
        let mut view = View::new(&self.snapshot.estate, self.at);
        view.tuning = self.tuning.clone();
        view
    }

    /// Writes an answer in the format that was asked for.
    pub fn answer<T: Serialize>(
        &self,
        view: &View<'_>,
        kind: &str,
        answer: T,
        text: impl FnOnce(&Answer<T>, Look) -> String,
    ) -> Result<(), Failure> {
        let whole = with_heading(view, kind, answer);
        let out = match self.format {
            Format::Text => text(&whole, self.look),
            Format::Json => json(&whole),
        };
        print(&out)
    }

    /// What was read.
    pub fn snapshot(&self) -> &Snapshot {
        &self.snapshot
    }

    /// Whether people read the answer.
    pub fn is_text(&self) -> bool {
        self.format == Format::Text
    }
}

/// Writes to standard output.
pub fn print(text: &str) -> Result<(), Failure> {
    terminal::answer(text).map_err(|error| Failure::Io { what: "cannot write the answer".to_owned(), error })
}

/// Reads an end.
pub fn end(view: &View<'_>, text: &str) -> Result<End, Failure> {
    End::parse(view, text).map_err(|error| Failure::end(text, error))
}

/// The interfaces that a selector means; it is wrong use if it means none.
pub fn selected(view: &View<'_>, text: &str) -> Result<Vec<Id<Interface>>, Failure> {
    let found = end(view, text)?.interfaces(view);
    if found.is_empty() {
        return Err(Failure::wrong(
            format!("`{text}` means no interface of the estate"),
            "`heronshale inventory --interfaces` lists them",
        ));
    }
    Ok(found)
}
