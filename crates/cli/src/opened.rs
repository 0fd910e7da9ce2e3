//! Arguments that several commands share, and the estate that they open.

use crate::failure::Failure;
use crate::files::finish_around;
use crate::terminal;
use clap::{Args, ValueEnum};
use heronshale_answers::{Answer, with_heading};
use heronshale_audit::finding::CATALOGUE;
use heronshale_engine::fabric::Fabric;
use heronshale_intake::{
    ACCEPTANCES, CONFIGURATION, Configuration, EXPECTATIONS, Snapshot, SourceText, load,
    load_acceptances, load_configuration, load_expectations, parse_moment,
};
use heronshale_model::ends::End;
use heronshale_model::estate::{Estate, Id, Interface, Service};
use heronshale_model::stated::Stated;
use heronshale_model::tuning::Tuning;
use heronshale_model::view::View;
use heronshale_report::{Look, harmless_text, json};
use serde::Serialize;
use std::path::{Path, PathBuf};

/// How answers are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For people
    Text,
    /// For programs; `heronshale schema` has the schemas
    Json,
    /// For spreadsheets: `exposure --ledger` and `path --list`
    Csv,
}

impl Format {
    /// That a table was asked for where there is none is told before anything is written.
    pub fn is_no_table(self) -> Result<(), Failure> {
        match self {
            Self::Text | Self::Json => Ok(()),
            Self::Csv => Err(Failure::wrong(
                "this answer is not a table and has no CSV form",
                "use --format json; CSV is for `exposure --ledger` and `path --list`",
            )),
        }
    }
}

/// Which estate, judged by which date, told in which format.
#[derive(Args, Debug)]
pub struct EstateArgs {
    /// The snapshot: a file, or a folder of snapshot files [default: as configured, else .]
    #[arg(short, long, value_name = "PATH", help_heading = "Estate")]
    pub estate: Option<PathBuf>,
    /// Judge end dates of rules at this moment (2026-11-02 means the end of that day, UTC) [default: when the snapshot was taken]
    #[arg(long, value_name = "MOMENT", help_heading = "Estate")]
    pub at: Option<String>,
    /// The configuration: marks, sensitive ports, thresholds, severities … [default: heronshale.yaml here or beside the estate]
    #[arg(long, value_name = "FILE", help_heading = "Estate")]
    pub config: Option<PathBuf>,
    /// How to write the answer
    #[arg(long, value_enum, default_value = "text", help_heading = "Output")]
    pub format: Format,
    /// Show everything in full
    #[arg(long, help_heading = "Output")]
    pub details: bool,
    /// List the default settings
    #[arg(long, help_heading = "Output")]
    pub settings: bool,
}

/// What people say of the estate.
#[derive(Args, Debug)]
pub struct StatedArgs {
    /// Expectations [default: as configured, else those in the estate's folder]
    #[arg(long, value_name = "FILE", help_heading = "Estate")]
    pub expectations: Vec<PathBuf>,
    /// Acceptances [default: as for expectations]
    #[arg(long, value_name = "FILE", help_heading = "Estate")]
    pub acceptances: Vec<PathBuf>,
}

/// Which traffic; several are taken together, none means all.
#[derive(Args, Debug)]
pub struct TrafficArgs {
    /// TCP ports: 443, 80,443 or 8000-8100
    #[arg(long, value_name = "PORTS", help_heading = "Traffic")]
    pub tcp: Vec<String>,
    /// UDP ports
    #[arg(long, value_name = "PORTS", help_heading = "Traffic")]
    pub udp: Vec<String>,
    /// ICMP types: 8, or 3/1 with a code
    #[arg(long, value_name = "TYPES", help_heading = "Traffic")]
    pub icmp: Vec<String>,
    /// Traffic in the notation of rules: "tcp 443", "icmpv6 128", gre, "any 53"
    #[arg(long, value_name = "TRAFFIC", help_heading = "Traffic")]
    pub traffic: Vec<String>,
}

impl TrafficArgs {
    /// The services that are asked about.
    pub fn services(&self) -> Result<Vec<Service>, Failure> {
        let of = |protocol: &str, all: &[String]| {
            all.iter()
                .map(|low| format!("{protocol} {low}"))
                .collect::<Vec<_>>()
        };
        let texts = [
            of("tcp", &self.tcp),
            of("udp", &self.udp),
            of("icmp", &self.icmp),
            self.traffic.clone(),
        ]
        .concat();
        texts
            .iter()
            .map(|text| {
                text.parse()
                    .map_err(|error: heronshale_model::notation::NotationError| {
                        Failure::wrong(error.what, error.help)
                    })
            })
            .collect()
    }
}

/// An estate that was read, and how to answer about it.
pub struct Opened {
    snapshot: Snapshot,
    at: Option<jiff::Timestamp>,
    tuning: Tuning,
    stated: Stated,
    format: Format,
    look: Look,
    /// Every file that was read, by the name by which it is told.
    inputs: Vec<(String, PathBuf)>,
    segments: Option<String>,
}

/// The configuration's name where none is given.
const FILE: &str = "heronshale.yaml";

impl EstateArgs {
    /// A snapshot as text, with nothing else asked for.
    pub fn of(estate: PathBuf) -> Self {
        Self {
            estate: Some(estate),
            at: None,
            config: None,
            format: Format::Text,
            details: false,
            settings: false,
        }
    }

    /// Reads the estate, and the configuration.
    pub fn open(&self) -> Result<Opened, Failure> {
        self.format.is_no_table()?;
        Ok(self.read(self.at.as_deref())?.0)
    }

    /// Reads the estate, the configuration, and what people say.
    pub fn open_with(&self, stated: &StatedArgs) -> Result<Opened, Failure> {
        self.format.is_no_table()?;
        self.open_at(stated, self.at.as_deref())
    }

    /// Reads the estate, the configuration, and what people expect.
    pub fn open_with_expectations(&self, expectations: &[PathBuf]) -> Result<Opened, Failure> {
        self.format.is_no_table()?;
        self.read_with(expectations, None, self.at.as_deref())
    }

    /// The same without what people say, for an answer that is a table.
    pub fn open_for_list(&self) -> Result<Opened, Failure> {
        Ok(self.read(self.at.as_deref())?.0)
    }

    /// The same for an answer that is a table.
    pub fn open_for_table(&self, stated: &StatedArgs) -> Result<Opened, Failure> {
        self.open_at(stated, self.at.as_deref())
    }

    /// The same, judged by some moment.
    pub fn open_at(&self, stated: &StatedArgs, at: Option<&str>) -> Result<Opened, Failure> {
        self.read_with(&stated.expectations, Some(&stated.acceptances), at)
    }

    /// Reads the estate and what people say; without acceptances where they mean nothing.
    fn read_with(
        &self,
        expectations: &[PathBuf],
        acceptances: Option<&[PathBuf]>,
        at: Option<&str>,
    ) -> Result<Opened, Failure> {
        let (mut opened, configuration) = self.read(at)?;
        // Two files of one name are told apart by their paths.
        let mut names: Vec<String> = opened.inputs.iter().map(|(name, _)| name.clone()).collect();
        let mut given = |paths: &[PathBuf]| {
            let mut named = |path: &PathBuf| {
                let short = path
                    .file_name()
                    .unwrap_or(path.as_os_str())
                    .to_string_lossy()
                    .into_owned();
                let name = if names.contains(&short) {
                    path.to_string_lossy().into_owned()
                } else {
                    short
                };
                names.push(name.clone());
                (name, path.clone())
            };
            (!paths.is_empty()).then(|| paths.iter().map(&mut named).collect::<Vec<_>>())
        };
        let beside = |format: &str| -> Vec<(String, PathBuf)> {
            let all = opened
                .snapshot
                .beside
                .iter()
                .filter(|file| file.format == format);
            all.map(|file| (file.name.clone(), file.path.clone()))
                .collect()
        };
        let expectations = given(expectations)
            .or(configuration.expectations)
            .unwrap_or_else(|| beside(EXPECTATIONS));
        let acceptances = acceptances.map_or_else(Vec::new, |named| {
            given(named)
                .or(configuration.acceptances)
                .unwrap_or_else(|| beside(ACCEPTANCES))
        });
        opened.stated.expectations = load_expectations(&expectations)?;
        opened.stated.acceptances = load_acceptances(&acceptances)?;
        for (files, count, what) in [
            (
                &expectations,
                opened.stated.expectations.len(),
                "expectation",
            ),
            (&acceptances, opened.stated.acceptances.len(), "acceptance"),
        ] {
            if !files.is_empty() {
                let names: Vec<&str> = files.iter().map(|(name, _)| name.as_str()).collect();
                let plural = if count == 1 { "" } else { "s" };
                opened
                    .stated
                    .sources
                    .push(format!("{count} {what}{plural} of {}", names.join(", ")));
            }
        }
        opened
            .inputs
            .extend(expectations.into_iter().chain(acceptances));
        Ok(opened)
    }

    fn read(&self, at: Option<&str>) -> Result<(Opened, Configuration), Failure> {
        let at = match at {
            None => None,
            Some(text) => Some(parse_moment(text).ok_or_else(|| {
                Failure::wrong(
                    format!("`{text}` is not a date"),
                    "write 2026-11-02, or 2026-11-02T06:00:00Z",
                )
            })?),
        };
        let here = || Path::new(FILE).is_file().then(|| PathBuf::from(FILE));
        let mut named = self.config.clone().or_else(here);
        let kinds: Vec<&str> = CATALOGUE.iter().map(|kind| kind.name).collect();
        let mut configuration = named
            .as_deref()
            .map(|path| load_configuration(path, &kinds))
            .transpose()?;
        let of_configuration = configuration
            .as_ref()
            .and_then(|found| found.estate.clone());
        let estate = self
            .estate
            .clone()
            .or(of_configuration)
            .unwrap_or_else(|| PathBuf::from("."));
        finish_around(&estate)?;
        let snapshot = load(&estate)?;
        if named.is_none() {
            let beside: Vec<_> = snapshot
                .beside
                .iter()
                .filter(|file| file.format == CONFIGURATION)
                .collect();
            if let [one] = beside.as_slice() {
                named = Some(one.path.clone());
                configuration = Some(load_configuration(&one.path, &kinds)?);
            } else if beside.len() > 1 {
                let names: Vec<&str> = beside.iter().map(|file| file.name.as_str()).collect();
                let what = format!(
                    "several configurations lie in the estate's folder: {}",
                    names.join(", ")
                );
                return Err(Failure::wrong(what, "name one with --config"));
            }
        }
        let configuration = configuration.unwrap_or_default();
        let stated = Stated {
            severities: configuration.severities.clone(),
            controls: configuration.controls.clone(),
            ..Stated::default()
        };
        let mut opened = Opened::read(
            snapshot,
            &estate,
            at,
            configuration.tuning.clone(),
            stated,
            self.format,
        );
        opened.look.details = self.details;
        opened.look.settings = self.settings;
        opened.segments = configuration.segments.clone();
        if let Some(path) = named {
            let name = path
                .file_name()
                .unwrap_or(path.as_os_str())
                .to_string_lossy()
                .into_owned();
            opened.stated.sources.push(format!("configuration {name}"));
            opened.inputs.push((name, path));
        }
        Ok((opened, configuration))
    }
}

/// Names the files of the folder that are no part of the snapshot.
fn tell_not_read(snapshot: &Snapshot) {
    let files = &snapshot.not_read;
    if files.is_empty() {
        return;
    }
    let shown: Vec<String> = files
        .iter()
        .take(4)
        .map(|file| format!("{} ({})", harmless_text(&file.name), file.why))
        .collect();
    let more = if files.len() > 4 {
        format!(" and {} more", files.len() - 4)
    } else {
        String::new()
    };
    terminal::tell(&format!("not read: {}{more}\n", shown.join(", ")));
}

impl Opened {
    fn read(
        snapshot: Snapshot,
        path: &Path,
        at: Option<jiff::Timestamp>,
        tuning: Tuning,
        stated: Stated,
        format: Format,
    ) -> Self {
        tell_not_read(&snapshot);
        let folder = path.is_dir();
        let file = |text: &SourceText| {
            let at = if folder {
                path.join(&text.name)
            } else {
                path.to_owned()
            };
            (text.name.clone(), at)
        };
        let inputs = snapshot.texts.iter().map(file).collect();
        Self {
            snapshot,
            at,
            tuning,
            stated,
            format,
            look: terminal::look_of_stdout(),
            inputs,
            segments: None,
        }
    }

    /// Another snapshot, judged by its own moment and by what was said of this one.
    pub fn other(&self, path: &Path) -> Result<Self, Failure> {
        finish_around(path)?;
        let snapshot = load(path)?;
        Ok(Self::read(
            snapshot,
            path,
            None,
            self.tuning.clone(),
            self.stated.clone(),
            self.format,
        ))
    }

    /// An earlier state of the same estate. Both are judged by one moment if one was given, else each by its own.
    pub fn earlier(&self, path: &Path) -> Result<Self, Failure> {
        Ok(Self {
            at: self.at,
            ..self.other(path)?
        })
    }

    /// A view of another state, judged by the same moment and by what was said of this one.
    pub fn view_of<'e>(&self, estate: &'e Estate) -> Fabric<'e> {
        View::new(estate, self.at, self.tuning.clone(), self.stated.clone()).into()
    }

    /// The frozen view.
    pub fn view(&self) -> Fabric<'_> {
        self.view_of(&self.snapshot.estate)
    }

    /// Whether everything is told in full: with details, or for programs.
    pub fn tells_all(&self) -> bool {
        self.look.details || self.format != Format::Text
    }

    /// By what the configuration makes segments.
    pub fn segments(&self) -> Option<&str> {
        self.segments.as_deref()
    }

    /// Every file that was read, by the name by which it is told.
    pub fn inputs(&self) -> &[(String, PathBuf)] {
        &self.inputs
    }

    /// Writes an answer in the format that was asked for.
    pub fn answer<T: Serialize>(
        &self,
        view: &Fabric<'_>,
        kind: &str,
        answer: T,
        text: impl FnOnce(&Answer<T>, Look) -> String,
    ) -> Result<(), Failure> {
        let whole = with_heading(view, kind, answer);
        let out = match self.format {
            Format::Text => text(&whole, self.look),
            Format::Json => json(&whole),
            Format::Csv => return self.format.is_no_table(),
        };
        print(&out)
    }

    /// The same for an answer that is a table.
    pub fn answer_with_csv<T: Serialize>(
        &self,
        view: &Fabric<'_>,
        kind: &str,
        answer: T,
        text: impl FnOnce(&Answer<T>, Look) -> String,
        csv: impl FnOnce(&Answer<T>) -> String,
    ) -> Result<(), Failure> {
        if self.format == Format::Csv {
            return print(&csv(&with_heading(view, kind, answer)));
        }
        self.answer(view, kind, answer, text)
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
    terminal::answer(text).map_err(|error| Failure::Io {
        what: "cannot write the answer".to_owned(),
        error,
    })
}

/// Reads an end.
pub fn end(view: &Fabric<'_>, text: &str) -> Result<End, Failure> {
    End::parse(view, text).map_err(|error| Failure::end(text, error))
}

/// The interfaces that a selector means; it is wrong use if it means none.
pub fn selected(view: &Fabric<'_>, text: &str) -> Result<Vec<Id<Interface>>, Failure> {
    let found = end(view, text)?.interfaces(view);
    if found.is_empty() {
        return Err(Failure::wrong(
            format!("`{text}` matches no interface of the estate"),
            "`heronshale inventory --interfaces` lists them",
        ));
    }
    Ok(found)
}
