//! An audit as evidence: a folder with the audit, what it was made from, and all that it rests on; and the check that it
//! matches, byte for byte.

use crate::failure::{FOUND, Failure};
use crate::files::{finish_around, write_all};
use crate::opened::{EstateArgs, Opened, StatedArgs, print};
use crate::terminal;
use heronshale_answers::{Audit, Heading, audit, with_heading};
use heronshale_audit::describe::service_text;
use heronshale_audit::finding::{CATALOGUE, Finding};
use heronshale_engine::fabric::Fabric;
use heronshale_model::source::Place;
use heronshale_model::stated::Stated;
use heronshale_report as report;
use report::Look;
use serde::Serialize;
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::fmt::Write;
use std::path::Path;

/// What the folder holds, and from what it was made.
#[derive(Serialize)]
struct Manifest<'a> {
    format: &'static str,
    version: u32,
    /// The program that made it.
    program: String,
    /// The moment that was asked for with `--at`, if one was.
    at: Option<&'a str>,
    /// What was judged, by what date, by which settings, with which gaps.
    heading: &'a Heading,
    /// Every file that was read.
    inputs: Vec<Input>,
    examined: Examined,
    /// What people said, in full.
    stated: Said<'a>,
    /// The other files of the folder, by SHA-256 (FIPS 180-4).
    files: BTreeMap<&'a str, String>,
}

#[derive(Serialize)]
struct Input {
    file: String,
    bytes: usize,
    sha256: String,
}

/// What was looked at, and what was not.
#[derive(Serialize)]
struct Examined {
    kinds: Vec<&'static str>,
    /// Files of the folder that are no part of the estate.
    not_read: Vec<String>,
    /// Parts of the estate that the snapshot lacks.
    gaps: usize,
    /// Questions that ended at a limit.
    undecided: usize,
}

#[derive(Serialize)]
struct Said<'a> {
    expectations: Vec<String>,
    acceptances: Vec<Acceptance<'a>>,
    severities: Vec<String>,
    controls: BTreeMap<&'a str, Vec<&'a str>>,
    marks: Vec<String>,
    sensitive_ports: Vec<&'a str>,
    empty_range_addresses: u128,
    empty_range_share: u128,
}

#[derive(Serialize)]
struct Acceptance<'a> {
    finding: &'a str,
    kind: Option<&'a str>,
    reason: &'a str,
    who: &'a str,
    until: String,
    /// The packets that are accepted; none if it names none.
    packets: Option<Vec<Pinned<'a>>>,
    place: &'a Place,
}

#[derive(Serialize)]
struct Pinned<'a> {
    from: Vec<&'a str>,
    to: Vec<&'a str>,
    on: Vec<String>,
}

pub fn digest(bytes: &[u8]) -> String {
    Sha256::digest(bytes)
        .iter()
        .fold(String::new(), |mut text, byte| {
            let _ = write!(text, "{byte:02x}");
            text
        })
}

fn read(path: &Path) -> Result<Vec<u8>, Failure> {
    std::fs::read(path).map_err(|error| Failure::Io {
        what: format!("cannot read {}", path.display()),
        error,
    })
}

fn said<'a>(view: &'a Fabric<'_>, stated: &'a Stated) -> Said<'a> {
    let pinned = |one: &'a heronshale_model::stated::Pinned| Pinned {
        from: one.from.iter().map(|name| &**name).collect(),
        to: one.to.iter().map(|name| &**name).collect(),
        on: one.services.iter().map(service_text).collect(),
    };
    let acceptance = |one: &'a heronshale_model::stated::Acceptance| Acceptance {
        finding: &one.finding,
        kind: one.kind.as_deref(),
        reason: &one.reason,
        who: &one.who,
        until: one.until.to_string(),
        packets: one
            .packets
            .as_ref()
            .map(|packets| packets.iter().map(pinned).collect()),
        place: &one.place,
    };
    let sentence = |one| {
        format!(
            "{}: {}",
            one_name(one),
            heronshale_audit::expect::sentence(one)
        )
    };
    Said {
        expectations: stated.expectations.iter().map(sentence).collect(),
        acceptances: stated.acceptances.iter().map(acceptance).collect(),
        severities: stated
            .severities
            .iter()
            .map(|one| format!("{} is {}: {}", one.kind, one.severity.word(), one.reason))
            .collect(),
        controls: stated
            .controls
            .iter()
            .map(|one| {
                (
                    &*one.control,
                    one.kinds.iter().map(|kind| &**kind).collect(),
                )
            })
            .collect(),
        marks: view
            .tuning
            .marks
            .iter()
            .map(|(key, value)| format!("{key}={value}"))
            .collect(),
        sensitive_ports: view
            .tuning
            .sensitive
            .iter()
            .map(|one| one.what.as_str())
            .collect(),
        empty_range_addresses: view.tuning.empty_range_addresses,
        empty_range_share: view.tuning.empty_range_share,
    }
}

fn one_name(one: &heronshale_model::stated::Expectation) -> &str {
    &one.name
}

/// The lines of an item: from the one where it begins, as far as they are indented like it or deeper.
fn lines_at(text: &str, place: &Place) -> String {
    const MOST: usize = 24;
    let mut out = String::new();
    let from = place.line.saturating_sub(1);
    for (at, line) in text.lines().enumerate().skip(from).take(MOST) {
        let indent = line.len() - line.trim_start().len();
        if at > from && (line.trim().is_empty() || indent + 1 < place.column) {
            break;
        }
        let _ = writeln!(out, "{:>6}  {}", at + 1, report::harmless_text(line));
    }
    out
}

/// The source lines of every finding, verbatim.
fn sources(found: &Audit, texts: &BTreeMap<String, String>) -> String {
    let mut out = String::new();
    let all = found
        .findings
        .iter()
        .chain(found.accepted.iter().map(|one| &one.finding));
    for finding in all {
        let _ = writeln!(
            out,
            "{} {}  {}",
            finding.fingerprint,
            finding.kind,
            report::harmless_text(&finding.title)
        );
        for place in places(finding) {
            let _ = writeln!(
                out,
                "  {}:{}:{}  {}",
                report::harmless_text(&place.file),
                place.line,
                place.column,
                place.pointer
            );
            if let Some(text) = texts.get(&place.file) {
                out += &lines_at(text, place);
            }
        }
        out.push('\n');
    }
    out
}

fn places(finding: &Finding) -> Vec<&Place> {
    let mut all: Vec<&Place> = Vec::new();
    for place in finding.place.iter().chain(
        finding
            .evidence
            .iter()
            .filter_map(|piece| piece.place.as_ref()),
    ) {
        if !all.contains(&place) {
            all.push(place);
        }
    }
    all
}

/// The files of the folder, by name.
fn files(
    opened: &Opened,
    view: &Fabric<'_>,
    found: &Audit,
    at: Option<&str>,
) -> Result<Vec<(String, String)>, Failure> {
    let mut inputs = Vec::new();
    let mut texts = BTreeMap::new();
    for (name, path) in opened.inputs() {
        let bytes = read(path)?;
        inputs.push(Input {
            file: name.clone(),
            bytes: bytes.len(),
            sha256: digest(&bytes),
        });
        texts.insert(name.clone(), String::from_utf8_lossy(&bytes).into_owned());
    }
    let whole = with_heading(view, "audit", found.clone());
    let made = [
        ("audit.json", report::json(&whole)),
        (
            "audit.txt",
            report::audit(
                &whole,
                report::GroupBy::Severity,
                Look {
                    details: true,
                    settings: true,
                    ..Look::default()
                },
            ),
        ),
        ("sources.txt", sources(found, &texts)),
    ];
    let manifest = Manifest {
        format: FORMAT,
        version: 1,
        program: format!("heronshale {}", env!("CARGO_PKG_VERSION")),
        at,
        heading: &whole.heading,
        inputs,
        examined: Examined {
            kinds: CATALOGUE.iter().map(|kind| kind.name).collect(),
            not_read: opened
                .snapshot()
                .not_read
                .iter()
                .map(|file| format!("{} ({})", file.name, file.why))
                .collect(),
            gaps: whole.heading.gaps.len(),
            undecided: found
                .findings
                .iter()
                .filter(|finding| finding.kind == "undecided")
                .count(),
        },
        stated: said(view, &view.stated),
        files: made
            .iter()
            .map(|(name, text)| (*name, digest(text.as_bytes())))
            .collect(),
    };
    let manifest = report::json(&manifest);
    let named = made.into_iter().map(|(name, text)| (name.to_owned(), text));
    Ok(named.chain([(MANIFEST.to_owned(), manifest)]).collect())
}

const MANIFEST: &str = "evidence.json";

/// What the manifest says it is.
const FORMAT: &str = "heronshale-evidence";

/// What else lies in a folder.
fn added(folder: &Path, files: &[(String, String)]) -> Result<Vec<String>, Failure> {
    let failed = |error| Failure::Io {
        what: format!("cannot list {}", folder.display()),
        error,
    };
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).map_err(failed)? {
        let name = entry
            .map_err(failed)?
            .file_name()
            .to_string_lossy()
            .into_owned();
        if files.iter().all(|(known, _)| *known != name) {
            found.push(name);
        }
    }
    found.sort();
    Ok(found)
}

/// Writes the folder.
pub fn write(
    opened: &Opened,
    view: &Fabric<'_>,
    found: &Audit,
    at: Option<&str>,
    folder: &Path,
    force: bool,
) -> Result<(), Failure> {
    let files = files(opened, view, found, at)?;
    let texts: Vec<(&str, &str)> = files
        .iter()
        .map(|(name, text)| (name.as_str(), text.as_str()))
        .collect();
    write_all(folder, &texts, force)?;
    terminal::tell(&format!(
        "Wrote the evidence to {}: {}\n",
        report::harmless_text(&folder.display().to_string()),
        texts
            .iter()
            .map(|(name, _)| *name)
            .collect::<Vec<_>>()
            .join(", ")
    ));
    Ok(())
}

/// Makes the evidence again, judged by the same moment, and tells what differs.
pub fn check(estate: &EstateArgs, stated: &StatedArgs, folder: &Path) -> Result<u8, Failure> {
    finish_around(folder)?;
    let manifest = folder.join(MANIFEST);
    let hint = "`audit --evidence DIR` writes one";
    let bytes = match std::fs::read(&manifest) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            return Err(Failure::input(
                format!("{} does not exist", manifest.display()),
                hint,
            ));
        }
        read => read.map_err(|error| Failure::Io {
            what: format!("cannot read {}", manifest.display()),
            error,
        })?,
    };
    let old: serde_json::Value = serde_json::from_slice(&bytes).map_err(|error| {
        Failure::input(
            format!("{} is not a manifest: {error}", manifest.display()),
            hint,
        )
    })?;
    if old["format"] != FORMAT {
        return Err(Failure::input(
            format!("{} is not a manifest of evidence", manifest.display()),
            hint,
        ));
    }
    let at = estate.at.as_deref().or_else(|| old["at"].as_str());
    let opened = estate.open_at(stated, at)?;
    let view = opened.view();
    let mut found = audit(&view);
    found.try_advice(&view, |_| true);
    let files = files(&opened, &view, &found, at)?;
    let mut out = String::new();
    let mut differ = 0;
    for (name, text) in &files {
        let path = folder.join(name);
        let state = match std::fs::read(&path) {
            Ok(bytes) if bytes == text.as_bytes() => "same",
            Ok(_) => "differs",
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => "missing",
            Err(error) => {
                return Err(Failure::Io {
                    what: format!("cannot read {}", path.display()),
                    error,
                });
            }
        };
        differ += usize::from(state != "same");
        let _ = writeln!(out, "  {state:<8} {name}");
    }
    let added = added(folder, &files)?;
    for name in &added {
        let _ = writeln!(out, "  added    {}", report::harmless_text(name));
    }
    let inputs = |manifest: &serde_json::Value| -> BTreeMap<String, String> {
        let all = manifest["inputs"].as_array().into_iter().flatten();
        let one = |input: &serde_json::Value| {
            Some((
                input["file"].as_str()?.to_owned(),
                input["sha256"].as_str()?.to_owned(),
            ))
        };
        all.filter_map(one).collect()
    };
    let new: serde_json::Value = files
        .last()
        .and_then(|(_, text)| serde_json::from_str(text).ok())
        .unwrap_or_default();
    let (before, now) = (inputs(&old), inputs(&new));
    for name in before
        .keys()
        .chain(now.keys().filter(|name| !before.contains_key(*name)))
    {
        let what = match (before.get(name), now.get(name)) {
            (Some(old), Some(new)) if old == new => continue,
            (Some(_), Some(_)) => "has changed",
            (Some(_), None) => "is gone",
            (None, _) => "is new",
        };
        let _ = writeln!(out, "  input    {} {what}", report::harmless_text(name));
    }
    if old["program"] != new["program"] {
        let [before, now] = [&old, &new].map(|one| {
            one["program"]
                .as_str()
                .unwrap_or("an unknown program")
                .to_owned()
        });
        let _ = writeln!(
            out,
            "  program  it was made by {}, and this is {now}",
            report::harmless_text(&before)
        );
    }
    let shown = report::harmless_text(&folder.display().to_string());
    let first = match (differ, added.len()) {
        (0, 0) => format!("The evidence in {shown} matches, byte for byte.\n"),
        (0, _) => format!("The evidence in {shown} matches, and the folder has more files.\n"),
        _ => format!(
            "The evidence in {shown} does not match: {differ} of {} files differ.\n",
            files.len()
        ),
    };
    print(&(first + &out))?;
    Ok(if differ == 0 && added.is_empty() {
        0
    } else {
        FOUND
    })
}
