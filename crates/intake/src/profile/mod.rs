//! Profiles: how exports of any shape become a snapshot.
//!
//! No format of a provider is built in: a profile, a small file, says which nodes of an export are which objects (JSONPath,
//! RFC 9535) and which values give which fields. Files are passed through record by record, twice if records are joined by
//! id; memory is needed for one record, for the ids that joins ask for, and for what of the shape of the export was met.

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

/// The files of an export.
#[derive(Debug, Default)]
pub struct Exports {
    files: Vec<Export>,
    not_read: Vec<NotCovered>,
    collected: Option<crate::kept::Collected>,
}

#[derive(Debug)]
struct Export {
    name: String,
    path: PathBuf,
    kind: Kind,
    bytes: u64,
}

impl Exports {
    /// How many bytes they have.
    pub fn bytes(&self) -> u64 {
        self.files.iter().map(|file| file.bytes).sum()
    }
}

/// The files of an export: files, and all of folders whose endings tell that they can be read.
///
/// # Errors
/// If one cannot be reached.
pub fn exports(paths: &[PathBuf]) -> Result<Exports, LoadError> {
    let mut found = Exports::default();
    for path in paths {
        let metadata = fs::metadata(path).map_err(|error| LoadError::Environment {
            what: format!("cannot read {}", path.display()),
            error,
        })?;
        if metadata.is_dir() {
            let mut files = Vec::new();
            crate::load::list(path, path, 0, &mut files)?;
            files.sort();
            for (name, file) in files {
                if name == crate::kept::COLLECTED
                    && let Some(collected) = crate::kept::collected(&file)
                {
                    crate::kept::unchanged(path, &file, &collected)?;
                    found.collected = Some(collected);
                    continue;
                }
                if name != crate::kept::BEGUN {
                    found.take(name, file, false)?;
                }
            }
        } else {
            let name = path
                .file_name()
                .unwrap_or(path.as_os_str())
                .to_string_lossy()
                .into_owned();
            found.take(name, path.clone(), true)?;
        }
    }
    Ok(found)
}

impl Exports {
    fn take(&mut self, name: String, path: PathBuf, named: bool) -> Result<(), LoadError> {
        let Some(kind) = kind_of(&path) else {
            let why = "its name ends with none of .json, .jsonl, .ndjson, .csv";
            if named {
                let error = std::io::Error::new(std::io::ErrorKind::InvalidInput, why);
                return Err(LoadError::Environment {
                    what: format!("cannot read {}", path.display()),
                    error,
                });
            }
            self.not_read.push(NotCovered {
                name,
                why: why.to_owned(),
            });
            return Ok(());
        };
        let bytes = fs::metadata(&path)
            .map_err(|error| LoadError::Environment {
                what: format!("cannot read {}", path.display()),
                error,
            })?
            .len();
        if !self.files.iter().any(|other| other.path == path) {
            self.files.push(Export {
                name,
                path,
                kind,
                bytes,
            });
        }
        Ok(())
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

/// How many records a rule met.
struct Tally<'p> {
    rule: &'p Rule,
    from: String,
    read: usize,
    left_out: usize,
    repeated: usize,
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

struct Run<'p, 'o> {
    profile: &'p Profile,
    making: Making<'p>,
    rules: Vec<Tally<'p>>,
    /// What was met, by the rules and lookups that are for the files.
    seen: BTreeMap<Here, Seen>,
    /// Those of the file that is read.
    here: Here,
    /// Rules that hold for everything, by their list and what they lack: how many, of how many, and the first.
    everything: BTreeMap<(String, &'static str), (usize, usize, String)>,
    /// What was given out: objects that say the same stand once.
    said: FxHashSet<[u8; 16]>,
    problems: Vec<Problem>,
    failed: Option<std::io::Error>,
    out: &'o mut dyn FnMut(&'static str, &str) -> std::io::Result<()>,
    progress: &'o mut dyn FnMut(u64),
    /// Records that are gathered, by rule: what they have in common, and they with where each stands.
    gathered: FxHashMap<usize, Gathering<'p>>,
    records: usize,
    /// When the exports were collected, if that is known.
    taken: Option<&'p str>,
    /// Whether this is the pass for joins.
    indexing: bool,
}

impl<'p> Run<'p, '_> {
    /// Reads one file; how many records it had.
    fn pass(&mut self, file: &'p Export) -> Result<usize, LoadError> {
        self.records = 0;
        let compiled = &self.profile.compiled;
        let here = |files: &Option<globset::GlobSet>| {
            files
                .as_ref()
                .is_none_or(|files| files.is_match(&file.name))
        };
        self.here = Here {
            rules: compiled
                .rules
                .iter()
                .map(|rule| here(&rule.files))
                .collect(),
            lookups: compiled
                .lookups
                .iter()
                .map(|lookup| here(&lookup.files))
                .collect(),
        };
        // What joins look at is looked at once more for the coverage.
        let lookups = compiled
            .lookups
            .iter()
            .enumerate()
            .filter(|(_, lookup)| here(&lookup.files));
        let rules = compiled
            .rules
            .iter()
            .filter(|rule| !self.indexing && here(&rule.files));
        let all = lookups.map(|(at, lookup)| (&lookup.from, Job::Lookup(at)));
        let (places, jobs): (Vec<&From>, Vec<Job>) = all
            .chain(rules.map(|rule| (&rule.from, Job::Rule(rule))))
            .unzip();
        if self.indexing && places.is_empty() {
            return Ok(0);
        }
        let mut taker = Taking {
            run: self,
            jobs,
            file,
        };
        let read = read(&file.path, file.kind, &places, &mut taker);
        match read {
            Err(Broken::Reading(error)) => {
                return Err(LoadError::Environment {
                    what: format!("cannot read {}", file.path.display()),
                    error,
                });
            }
            Err(Broken::Syntax(line, column, what)) => {
                return Err(broken(file, line, column, &what));
            }
            Ok(()) => {}
        }
        self.sound()?;
        Ok(self.records)
    }

    /// What was wrong so far.
    fn sound(&mut self) -> Result<(), LoadError> {
        if self.problems.is_empty() {
            return Ok(());
        }
        let problems = by_line_of_profile(std::mem::take(&mut self.problems));
        Err(LoadError::Input {
            problems,
            texts: self.profile.texts.clone(),
        })
    }

    /// The records that were gathered.
    fn flush(&mut self) -> Result<(), LoadError> {
        let mut all: Vec<(usize, Gathering<'p>)> = self.gathered.drain().collect();
        all.sort_by_key(|(at, _)| *at);
        for (at, gathered) in all {
            for one in gathered.all {
                let rule = self.rules[at].rule;
                let node = Json::Array(one.nodes);
                let file = one.spots.first().map_or("", |(_, spot)| &spot.file.name);
                let scope = Scope {
                    node: &node,
                    pointer: "$",
                    outer: None,
                    file,
                };
                self.made(rule, at, &scope, Stands::Gathered(&one.spots));
            }
        }
        self.sound()
    }

    /// Takes a record: what a rule makes of it, and of what lies in it.
    fn record(&mut self, rule: &'p Rule, scope: &Scope<'_>, spot: &Spot<'p>) {
        if self.problems.len() >= MOST_TROUBLES || self.failed.is_some() {
            return;
        }
        self.records += 1;
        let at = self
            .rules
            .iter()
            .position(|tally| std::ptr::eq(tally.rule, rule))
            .unwrap_or(0);
        self.rules[at].read += 1;
        let asked_for = rule
            .when
            .iter()
            .all(|query| !found(query, scope.node, scope.pointer).is_empty())
            && self.making.has(&rule.having, scope);
        if !asked_for {
            self.rules[at].left_out += 1;
            return;
        }
        if let Some(value) = &rule.gather {
            for by in self.making.gathered_by(value, scope) {
                let all = self.gathered.entry(at).or_default();
                let into = *all.by.entry(by).or_insert_with(|| {
                    all.all.push(Gathered::default());
                    all.all.len() - 1
                });
                all.all[into].nodes.push(scope.node.clone());
                all.all[into]
                    .spots
                    .push((scope.pointer.to_owned(), spot.clone()));
            }
            return;
        }
        self.made(rule, at, scope, Stands::Here(spot));
        for inner in &rule.inside {
            for (node, pointer) in found(&inner.from.query, scope.node, scope.pointer) {
                let scope = Scope {
                    node,
                    pointer: &pointer,
                    outer: Some(scope),
                    file: scope.file,
                };
                self.record(inner, &scope, spot);
            }
        }
    }

    fn made(&mut self, rule: &'p Rule, at: usize, scope: &Scope<'_>, stands: Stands<'_, 'p>) {
        match self.making.object(rule, scope) {
            Some(mut object) => {
                if let (Some(taken), "estate", None) =
                    (self.taken, rule.section, object.get("taken"))
                {
                    object["taken"] = taken.into();
                }
                let spot = match stands {
                    Stands::Here(spot) => Some(spot),
                    Stands::Gathered(all) => all.first().map(|(_, spot)| spot),
                };
                let again = self.say(rule.section, &object, spot);
                self.rules[at].repeated += usize::from(again);
            }
            None => self.tell(stands),
        }
    }

    /// Takes in what was found to be wrong with a record.
    fn tell(&mut self, stands: Stands<'_, 'p>) {
        for trouble in std::mem::take(&mut self.making.troubles) {
            let problem = problem(trouble, stands);
            self.problems.push(problem);
        }
    }

    /// Gives an object out, with a remark from where it comes; whether it was given before.
    fn say(&mut self, section: &'static str, object: &Json, spot: Option<&Spot<'p>>) -> bool {
        let digest = Sha256::digest(format!("{section}\0{object}"));
        let mut short = [0; 16];
        short.copy_from_slice(&digest[..16]);
        if !self.said.insert(short) {
            return true;
        }
        self.note_everything(section, object, spot);
        let from = spot.map_or_else(String::new, |spot| {
            format!("# {}:{}\n", spot.file.name.escape_debug(), spot.held.line)
        });
        let yaml = if section == "estate" {
            serde_saphyr::to_string(object)
        } else {
            serde_saphyr::to_string(&[object])
        };
        let written = match yaml {
            Ok(yaml) => (self.out)(section, &format!("{from}{yaml}")),
            Err(error) => Err(std::io::Error::other(error.to_string())),
        };
        if let Err(error) = written {
            self.failed.get_or_insert(error);
        }
        false
    }

    /// Takes in which rules of an object do not say for what they hold.
    fn note_everything(&mut self, section: &str, object: &Json, spot: Option<&Spot<'p>>) {
        const LISTS: [(&str, &[&str]); 3] = [
            ("inbound", &["services", "peers"]),
            ("outbound", &["services", "peers"]),
            ("rules", &["services", "sources", "destinations"]),
        ];
        for (list, fields) in LISTS {
            let rules: Vec<&Json> = match &object[list] {
                Json::Array(all) => all.iter().collect(),
                one @ Json::Object(_) => vec![one],
                _ => continue,
            };
            for &field in fields {
                let lacking = rules
                    .iter()
                    .filter(|rule| rule.get(field).is_none())
                    .count();
                let name = object["id"].as_str().unwrap_or_default();
                let place = spot.map_or_else(String::new, |spot| {
                    format!("{}:{}", spot.file.name, spot.held.line)
                });
                let known = self
                    .everything
                    .entry((format!("{section}.{list}"), field))
                    .or_default();
                if known.0 == 0 && lacking > 0 {
                    known.2 = format!("{name}  {place}");
                }
                known.0 += lacking;
                known.1 += rules.len();
            }
        }
    }

    /// What was read, used and ignored.
    fn told(self, answer: &mut CoverageAnswer) {
        let place = |span: Span| place(&self.profile.files, span, String::new());
        let compiled = &self.profile.compiled;
        answer.records = self
            .rules
            .iter()
            .map(|tally| CoveredRecords {
                files: tally.rule.files_text.clone(),
                from: tally.from.clone(),
                into: tally.rule.section.to_owned(),
                read: tally.read,
                left_out: tally.left_out,
                repeated: tally.repeated,
                place: place(tally.rule.span),
            })
            .collect();
        for tally in &self.rules {
            for field in &tally.rule.fields {
                if let Some((records, 0)) = self.making.given.get(&field.value.span) {
                    let field_name = format!("{}.{}", tally.rule.section, field.name);
                    answer.never.push(NeverGiven {
                        field: field_name,
                        records: *records,
                        place: place(field.value.span),
                    });
                }
            }
        }
        let because = |path: &str| {
            compiled
                .ignored
                .iter()
                .find(|(part, _)| part.is_match(path))
                .map(|(_, because)| because.clone())
        };
        // A path that is read in some files and not in others stands in both lists.
        let [mut used, mut unused] = [BTreeMap::new(), BTreeMap::new()];
        for (here, seen) in &self.seen {
            let [some, others] = parts(seen, &Used::of(&compiled.rules, &compiled.lookups, here));
            for (all, parts) in [(&mut used, some), (&mut unused, others)] {
                for (path, values) in parts {
                    *all.entry(path).or_insert(0) += values;
                }
            }
        }
        answer.used = used
            .into_iter()
            .map(|(path, values)| UsedPart { path, values })
            .collect();
        answer.ignored = unused
            .into_iter()
            .map(|(path, values)| IgnoredPart {
                because: because(&path),
                path,
                values,
            })
            .collect();
        answer.everything = { self.everything.iter() }
            .filter(|(_, (rules, ..))| *rules > 0)
            .map(|((list, lacks), (rules, of, first))| HoldsForEverything {
                list: list.clone(),
                lacks: (*lacks).to_owned(),
                rules: *rules,
                of: *of,
                first: first.clone(),
            })
            .collect();
        answer.unresolved = self
            .making
            .unresolved
            .iter()
            .map(|((span, id), times)| UnresolvedId {
                id: id.clone(),
                times: *times,
                place: place(*span),
            })
            .collect();
    }
}

/// What one line of the profile is the cause of is told once, with how often it happens and some of the others.
fn by_line_of_profile(problems: Vec<Problem>) -> Vec<Problem> {
    const OTHERS: usize = 2;
    let mut found: Vec<(Problem, Vec<String>)> = Vec::new();
    for problem in problems {
        match found
            .iter_mut()
            .find(|(first, _)| first.span == problem.span && first.label == problem.label)
        {
            Some((_, others)) => others.push(problem.title),
            None => found.push((problem, Vec::new())),
        }
    }
    let told = |(mut first, others): (Problem, Vec<String>)| {
        if !others.is_empty() {
            let more = if others.len() > OTHERS { " …" } else { "" };
            let some = others
                .iter()
                .take(OTHERS)
                .cloned()
                .collect::<Vec<_>>()
                .join("; ");
            let again = format!("{} more by this line: {some}{more}", others.len());
            first.help = Some(
                first
                    .help
                    .map_or(again.clone(), |help| format!("{help}\n{again}")),
            );
        }
        first
    };
    found.into_iter().map(told).collect()
}

/// What is done with the records of a place.
#[derive(Clone, Copy)]
enum Job<'p> {
    Lookup(usize),
    Rule(&'p Rule),
}

struct Taking<'r, 'p, 'o> {
    run: &'r mut Run<'p, 'o>,
    jobs: Vec<Job<'p>>,
    file: &'p Export,
}

impl Taker for Taking<'_, '_, '_> {
    fn record(&mut self, place: usize, node: &Json, pointer: &str, held: &Held) {
        let scope = Scope {
            node,
            pointer,
            outer: None,
            file: &self.file.name,
        };
        let spot = Spot {
            file: self.file,
            held: held.clone(),
        };
        match self.jobs[place] {
            Job::Lookup(_) if !self.run.indexing => {}
            Job::Lookup(lookup) => {
                self.run.making.index(lookup, &scope);
                self.run.tell(Stands::Here(&spot));
            }
            Job::Rule(rule) => self.run.record(rule, &scope, &spot),
        }
    }

    fn seen(&mut self) -> Option<&mut Seen> {
        let run = &mut *self.run;
        if !run.indexing && !run.seen.contains_key(&run.here) {
            run.seen.insert(run.here.clone(), Seen::default());
        }
        if run.indexing {
            None
        } else {
            run.seen.get_mut(&run.here)
        }
    }

    fn progress(&mut self, bytes: u64) {
        (self.run.progress)(bytes);
    }

    fn columns(&self) -> &[(String, String)] {
        &self.run.profile.compiled.columns
    }
}
