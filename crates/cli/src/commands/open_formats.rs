//! Files of open formats, which need no profile.

use crate::failure::Failure;
use crate::opened::{Format, print};
use crate::terminal;
use clap::{Args, ValueEnum};
use heronshale_answers::with_heading;
use heronshale_engine::fabric::Fabric;
use heronshale_intake::{
    AclReading, Part, Role, Snapshot, load, load_texts, read_acls, read_machine, read_routes,
};
use heronshale_model::coverage::{ReadAnswer, loose_ends};
use heronshale_model::estate::{Action, Direction};
use heronshale_report as report;
use std::path::{Path, PathBuf};

/// Formats that need no profile.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum OpenFormat {
    /// A Linux machine's rules for its own traffic: nft -j list ruleset or iptables-save, with ip -j addr
    LinuxWorkload,
    /// A Linux machine's rules and translations for forwarded traffic: the same, with ip -j route and ip -j rule
    LinuxFirewall,
    /// Access control lists of RFC 8519 in JSON, as network ACLs
    IetfAcl,
    /// Static routes of RFC 8349 in JSON, as a route table
    IetfRoutes,
}

/// What happens to packets that no entry of a list matches.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Rest {
    Allow,
    Deny,
}

/// For which packets the entries of a list are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Way {
    /// What enters the subnet
    Inbound,
    /// What leaves it
    Outbound,
}

/// How files of open formats are read.
#[derive(Args, Debug)]
pub struct Reading {
    /// With --as: the name of the machine or route table in the snapshot
    #[arg(long, value_name = "NAME", requires = "written_as")]
    name: Option<String>,
    /// With --as: the snapshot around the new file, in which the machine's interfaces are found by address
    #[arg(long, value_name = "PATH", requires = "written_as")]
    beside: Option<PathBuf>,
    /// With --as linux-firewall: add an interface with all other addresses of each network, so that hosts there can be asked about
    #[arg(long, requires = "written_as", conflicts_with = "beside")]
    hosts: bool,
    /// With --as ietf-acl: the action if no entry matches, which RFC 8519 leaves to the device
    #[arg(long, value_name = "ACTION", value_enum, requires = "written_as")]
    rest: Option<Rest>,
    /// With --as ietf-acl: the direction of lists without :inbound or :outbound at the end of their name
    #[arg(
        long,
        value_name = "WAY",
        value_enum,
        default_value = "inbound",
        requires = "written_as"
    )]
    direction: Way,
    /// With --as ietf-routes: the network of the route table; --name names the table
    #[arg(long, value_name = "NETWORK", requires = "written_as")]
    network: Option<String>,
}

impl Reading {
    /// Reads the files and writes the part of a snapshot that they are.
    pub fn run(
        &self,
        format: OpenFormat,
        files: &[PathBuf],
        into: &Path,
        force: bool,
        how: Format,
    ) -> Result<u8, Failure> {
        if into.exists() && !force {
            let what = format!("{} already exists", into.display());
            return Err(Failure::wrong(
                what,
                "name another file, or overwrite it with --force",
            ));
        }
        let others = self.others(into)?;
        let texts: Vec<(&str, &str)> = others
            .iter()
            .map(|(name, text)| (name.as_str(), text.as_str()))
            .collect();
        let beside = match texts.as_slice() {
            [] => None,
            texts => Some(load_texts(texts).map_err(|error| Failure::Snapshot(Box::new(error)))?),
        };
        let part = self.read(format, files, beside.as_ref())?;
        let word = format
            .to_possible_value()
            .map(|value| value.get_name().to_owned())
            .unwrap_or_default();
        let told = format!("Made of {} as {word}.", part.read.files.join(", "));
        let text = part.text(&told).map_err(|error| Failure::Io {
            what: "cannot write the snapshot".to_owned(),
            error: std::io::Error::other(error),
        })?;
        let name = into
            .file_name()
            .unwrap_or(into.as_os_str())
            .to_string_lossy()
            .into_owned();
        let snapshot = load_texts(&[texts.as_slice(), &[(name.as_str(), text.as_str())]].concat())
            .map_err(Failure::exports)?;
        crate::files::write_file(into, &text, force)?;
        let view = Fabric::new(&snapshot.estate, snapshot.estate.taken);
        // What the estate beside it names in vain is told by its own audit.
        let mut dangling = loose_ends(&snapshot.estate);
        dangling.retain(|one| one.place.file == name);
        let items = part.items();
        let answer = ReadAnswer {
            format: word,
            written: into.display().to_string(),
            items,
            read: part.read,
            dangling,
        };
        let whole = with_heading(&view, "reading", answer);
        match how {
            Format::Text => print(&report::reading(&whole, terminal::look_of_stdout()))?,
            Format::Json | Format::Csv => print(&report::json(&whole))?,
        }
        Ok(0)
    }

    /// The texts of the snapshot beside which the new file will stand, without the file that it replaces.
    fn others(&self, into: &Path) -> Result<Vec<(String, String)>, Failure> {
        let Some(path) = &self.beside else {
            return Ok(Vec::new());
        };
        crate::files::finish_around(path)?;
        let snapshot = load(path).map_err(|error| Failure::Snapshot(Box::new(error)))?;
        let same = |name: &str| {
            let own = if path.is_dir() {
                path.join(name)
            } else {
                path.clone()
            };
            matches!((own.canonicalize(), into.canonicalize()), (Ok(one), Ok(other)) if one == other)
        };
        let kept = snapshot.texts.into_iter().filter(|text| !same(&text.name));
        Ok(kept.map(|text| (text.name, text.text)).collect())
    }

    fn read(
        &self,
        format: OpenFormat,
        files: &[PathBuf],
        beside: Option<&Snapshot>,
    ) -> Result<Part, Failure> {
        let mut texts = Vec::new();
        for path in files {
            let what = || format!("cannot read {}", path.display());
            let bytes = std::fs::read(path).map_err(|error| Failure::Io {
                what: what(),
                error,
            })?;
            let name = path
                .file_name()
                .unwrap_or(path.as_os_str())
                .to_string_lossy()
                .into_owned();
            let text = String::from_utf8(bytes).map_err(|_| {
                Failure::input(
                    format!("{} is not text in UTF-8", path.display()),
                    "save it again as UTF-8",
                )
            })?;
            // A byte order mark is not a part of it.
            let text = text
                .strip_prefix('\u{feff}')
                .map_or(text.clone(), str::to_owned);
            texts.push((name, text));
        }
        let estate = beside.map(|snapshot| &snapshot.estate);
        let needed = |option: &Option<String>, what: &str, hint: &str| {
            option
                .clone()
                .ok_or_else(|| Failure::wrong(format!("the name of {what} is not given"), hint))
        };
        let part = match format {
            OpenFormat::LinuxWorkload | OpenFormat::LinuxFirewall => {
                let name = needed(&self.name, "the machine", "give --name NAME")?;
                let firewall = Role::Firewall { hosts: self.hosts };
                let role = if format == OpenFormat::LinuxWorkload {
                    Role::Workload
                } else {
                    firewall
                };
                read_machine(texts, &name, role, estate)
            }
            OpenFormat::IetfAcl => {
                let rest = self.rest.map(|rest| {
                    if rest == Rest::Allow {
                        Action::Allow
                    } else {
                        Action::Deny
                    }
                });
                let direction = if self.direction == Way::Inbound {
                    Direction::In
                } else {
                    Direction::Out
                };
                read_acls(texts, &AclReading { rest, direction })
            }
            OpenFormat::IetfRoutes => {
                let network = needed(
                    &self.network,
                    "the network of the routes",
                    "give --network NAME",
                )?;
                let name = needed(&self.name, "the route table", "give --name NAME")?;
                read_routes(texts, &name, &network, estate)
            }
        };
        part.map_err(Failure::exports)
    }
}
