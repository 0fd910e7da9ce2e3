//! Profiles: how exports of any shape become a snapshot.
//!
//! No format of a provider is built in: a profile, a small file, says which nodes of an export are which objects (JSONPath,
//! RFC 9535) and which values give which fields. Files are passed through record by record, twice if records are joined by
//! id; memory is needed for one record, for the ids that joins ask for, and for what of the shape of the export was met.

mod exports;
mod run;

use exports::Export;
pub use exports::{Exports, exports};
use run::{Run, Tally};

mod compile;
mod coverage;
mod draft;
mod make;
mod place;
mod plan;
mod questions;
mod stream;
mod written;

pub use draft::{DraftProfile, Question, answered_profile, draft_profile};
pub use questions::{QUESTIONS, Questions, load_questions, questions_schema, wrong_answer};
pub use written::{PROFILE, profile_schema};

use crate::document::{Documents, place};
use crate::files::{LoadError, SourceText};
use compile::{Compiled, From, Rule, compile};
use coverage::{Here, Seen, Used, parts};
use heronshale_model::coverage::{
    CoverageAnswer, CoveredFile, CoveredRecords, HoldsForEverything, IgnoredPart, NeverGiven,
    NotCovered, UnresolvedId, UsedPart,
};
use heronshale_model::source::{Problem, SourceFile, Span};
use make::{Making, Scope, found};
use place::{Spot, Stands, broken, problem};
pub use plan::{EachOf, Plan, Request, Sent};
use rustc_hash::{FxHashMap, FxHashSet};
use serde_json::Value as Json;
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use stream::{Broken, Held, Kind, Taker, kind_of, read};
use written::WrittenProfile;

/// After so many errors no more is read.
const MOST_TROUBLES: usize = 100;

/// A profile that was read and checked.
pub struct Profile {
    compiled: Compiled,
    texts: Vec<SourceText>,
    files: Vec<SourceFile>,
}

impl Profile {
    /// The variable of the environment that holds the token, if one is sent.
    pub fn token_variable(&self) -> Option<&str> {
        self.compiled
            .plan
            .token
            .as_ref()
            .map(|token| token.environment.as_str())
    }

    /// The headers of sheets that it gives other names: header, and the name of the column.
    pub fn columns(&self) -> &[(String, String)] {
        &self.compiled.columns
    }

    /// What to ask of an API.
    pub fn plan(&self) -> &Plan {
        &self.compiled.plan
    }

    /// What fills the names of a request, for each record from which it follows.
    ///
    /// # Errors
    /// If an answer that was kept cannot be read.
    pub fn following(
        &self,
        request: &Request,
        folder: &Path,
    ) -> Result<Vec<Vec<(String, String)>>, LoadError> {
        struct Filling<'p> {
            making: Making<'p>,
            with: &'p [compile::Made],
            file: String,
            found: Vec<Vec<(String, String)>>,
        }
        impl Taker for Filling<'_> {
            fn record(&mut self, _: usize, node: &Json, pointer: &str, _: &Held) {
                let scope = Scope {
                    node,
                    pointer,
                    outer: None,
                    file: &self.file,
                };
                self.found.extend(self.making.texts_of(self.with, &scope));
            }
            fn seen(&mut self) -> Option<&mut Seen> {
                None
            }
            fn progress(&mut self, _: u64) {}
        }
        let Some(each) = &request.each else {
            return Ok(Vec::new());
        };
        let name = format!("{}.jsonl", each.saved);
        let export = Export {
            path: folder.join(&name),
            name,
            kind: Kind::JsonLines,
            bytes: 0,
        };
        if !export.path.exists() {
            return Ok(Vec::new());
        }
        let mut filling = Filling {
            making: Making::new(&self.compiled.lookups),
            with: &each.with,
            file: export.name.clone(),
            found: Vec::new(),
        };
        match read(&export.path, export.kind, &[&each.from], &mut filling) {
            Ok(()) => Ok(filling.found),
            Err(Broken::Syntax(line, column, what)) => Err(broken(&export, line, column, &what)),
            Err(Broken::Reading(error)) => Err(LoadError::Environment {
                what: format!("cannot read {}", export.path.display()),
                error,
            }),
        }
    }
}

/// Reads a profile.
///
/// # Errors
/// If it cannot be reached, or used: all that is wrong with it.
pub fn load_profile(path: &Path) -> Result<Profile, LoadError> {
    let mut documents = Documents::default();
    let name = path
        .file_name()
        .unwrap_or(path.as_os_str())
        .to_string_lossy()
        .into_owned();
    let written = documents.read::<WrittenProfile>(&name, path)?;
    compiled(documents, written)
}

/// The profiles that ship with the program, by name.
pub const BUILT_IN: [(&str, &str); 2] = [
    (
        "openstack",
        include_str!("../../../../profiles/openstack.yaml"),
    ),
    ("sheets", include_str!("../../../../profiles/sheets.yaml")),
];

/// A profile that ships with the program.
///
/// # Errors
/// If it cannot be used, which a test rules out.
pub fn built_in_profile(name: &str) -> Option<Result<Profile, LoadError>> {
    let (_, text) = BUILT_IN.iter().find(|(known, _)| *known == name)?;
    let mut documents = Documents::default();
    let written = documents.read_bytes::<WrittenProfile>(
        &format!("{name}.yaml"),
        text.as_bytes().to_vec(),
        false,
    );
    Some(compiled(documents, written))
}

fn compiled(
    mut documents: Documents,
    written: Option<WrittenProfile>,
) -> Result<Profile, LoadError> {
    let compiled = written.map(|written| {
        documents.check_header(&written.format.0, &written.version.0, PROFILE);
        compile(written, &mut documents.reading)
    });
    let (compiled, texts, files) = documents.finish_with_texts(compiled)?;
    match compiled {
        Some(compiled) => Ok(Profile {
            compiled,
            texts,
            files,
        }),
        None => Err(LoadError::Input {
            problems: Vec::new(),
            texts,
        }),
    }
}

/// Makes a snapshot of exports: each object is given to `out` as an item of its section, in YAML, and what was read to
/// `progress` in bytes. Nothing that it gave counts if it fails.
///
/// # Errors
/// If a file cannot be reached, or with all that is wrong, in the profile and in the data.
pub fn import<'p>(
    profile: &'p Profile,
    exports: &'p Exports,
    out: &mut dyn FnMut(&'static str, &str) -> std::io::Result<()>,
    progress: &mut dyn FnMut(u64),
) -> Result<CoverageAnswer, LoadError> {
    let compiled = &profile.compiled;
    let mut run = Run {
        profile,
        making: Making::new(&compiled.lookups),
        rules: Vec::new(),
        seen: BTreeMap::new(),
        here: Here::default(),
        everything: BTreeMap::new(),
        said: FxHashSet::default(),
        problems: Vec::new(),
        failed: None,
        out,
        progress,
        gathered: FxHashMap::default(),
        records: 0,
        taken: exports
            .collected
            .as_ref()
            .map(|collected| collected.taken.as_str()),
        indexing: true,
    };
    /// Each rule with those inside of it; `around`: from where those around it are read.
    fn tallies<'p>(rules: &'p [Rule], around: &str, into: &mut Vec<Tally<'p>>) {
        for rule in rules {
            let from = format!("{around}{}", &rule.from.text[1..]);
            into.push(Tally {
                rule,
                from: from.clone(),
                read: 0,
                left_out: 0,
                repeated: 0,
            });
            tallies(&rule.inside, &from, into);
        }
    }
    tallies(&compiled.rules, "$", &mut run.rules);
    let mut answer = CoverageAnswer {
        profile: compiled.name.to_string(),
        not_read: exports.not_read.clone(),
        ..CoverageAnswer::default()
    };
    if !compiled.lookups.is_empty() {
        for file in &exports.files {
            run.pass(file)?;
        }
    }
    run.indexing = false;
    for file in &exports.files {
        let records = run.pass(file)?;
        answer.files.push(CoveredFile {
            name: file.name.clone(),
            bytes: file.bytes,
            records,
        });
    }
    run.flush()?;
    if run
        .rules
        .iter()
        .all(|tally| tally.rule.section != "estate" || tally.read == 0)
    {
        let mut estate = serde_json::json!({ "name": &*compiled.name });
        if let Some(collected) = &exports.collected {
            estate["taken"] = collected.taken.as_str().into();
        }
        run.say("estate", &estate, None);
    }
    for missing in exports
        .collected
        .iter()
        .flat_map(|collected| &collected.missing)
    {
        let Some(object) = &missing.object else {
            continue;
        };
        let mut gap = serde_json::json!({ "object": object, "reason": format!("{}: {}", missing.request, missing.why) });
        if let Some(lacks) = &missing.lacks {
            gap["lacks"] = lacks.as_str().into();
        }
        run.say("gaps", &gap, None);
    }
    if let Some(error) = run.failed {
        return Err(LoadError::Environment {
            what: "cannot write the snapshot".to_owned(),
            error,
        });
    }
    run.told(&mut answer);
    Ok(answer)
}

/// Records that are one.
#[derive(Default)]
struct Gathered<'p> {
    nodes: Vec<Json>,
    spots: Vec<(String, Spot<'p>)>,
}

/// The records of a rule that are gathered, by what they have in common, in the order in which they were met.
#[derive(Default)]
struct Gathering<'p> {
    by: FxHashMap<String, usize>,
    all: Vec<Gathered<'p>>,
}
