//! One pass over the exports.

use super::*;

pub(super) struct Run<'p, 'o> {
    pub(super) profile: &'p Profile,
    pub(super) making: Making<'p>,
    pub(super) rules: Vec<Tally<'p>>,
    /// What was met, by the rules and lookups that are for the files.
    pub(super) seen: BTreeMap<Here, Seen>,
    /// Those of the file that is read.
    pub(super) here: Here,
    /// Rules that hold for everything, by their list and what they lack: how many, of how many, and the first.
    pub(super) everything: BTreeMap<(String, &'static str), (usize, usize, String)>,
    /// What was given out: objects that say the same stand once.
    pub(super) said: FxHashSet<[u8; 16]>,
    pub(super) problems: Vec<Problem>,
    pub(super) failed: Option<std::io::Error>,
    pub(super) out: &'o mut dyn FnMut(&'static str, &str) -> std::io::Result<()>,
    pub(super) progress: &'o mut dyn FnMut(u64),
    /// Records that are gathered, by rule: what they have in common, and they with where each stands.
    pub(super) gathered: FxHashMap<usize, Gathering<'p>>,
    pub(super) records: usize,
    /// When the exports were collected, if that is known.
    pub(super) taken: Option<&'p str>,
    /// Whether this is the pass for joins.
    pub(super) indexing: bool,
}

impl<'p> Run<'p, '_> {
    /// Reads one file; how many records it had.
    pub(super) fn pass(&mut self, file: &'p Export) -> Result<usize, LoadError> {
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
    pub(super) fn sound(&mut self) -> Result<(), LoadError> {
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
    pub(super) fn flush(&mut self) -> Result<(), LoadError> {
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
    pub(super) fn record(&mut self, rule: &'p Rule, scope: &Scope<'_>, spot: &Spot<'p>) {
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

    pub(super) fn made(
        &mut self,
        rule: &'p Rule,
        at: usize,
        scope: &Scope<'_>,
        stands: Stands<'_, 'p>,
    ) {
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
    pub(super) fn tell(&mut self, stands: Stands<'_, 'p>) {
        for trouble in std::mem::take(&mut self.making.troubles) {
            let problem = problem(trouble, stands);
            self.problems.push(problem);
        }
    }

    /// Gives an object out, with a remark from where it comes; whether it was given before.
    pub(super) fn say(
        &mut self,
        section: &'static str,
        object: &Json,
        spot: Option<&Spot<'p>>,
    ) -> bool {
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
    pub(super) fn note_everything(
        &mut self,
        section: &str,
        object: &Json,
        spot: Option<&Spot<'p>>,
    ) {
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
    pub(super) fn told(self, answer: &mut CoverageAnswer) {
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

/// What is done with the records of a place.
#[derive(Clone, Copy)]
pub(super) enum Job<'p> {
    Lookup(usize),
    Rule(&'p Rule),
}

pub(super) struct Taking<'r, 'p, 'o> {
    pub(super) run: &'r mut Run<'p, 'o>,
    pub(super) jobs: Vec<Job<'p>>,
    pub(super) file: &'p Export,
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

/// How many records a rule met.
pub(super) struct Tally<'p> {
    pub(super) rule: &'p Rule,
    pub(super) from: String,
    pub(super) read: usize,
    pub(super) left_out: usize,
    pub(super) repeated: usize,
}

/// What one line of the profile is the cause of is told once, with how often it happens and some of the others.
pub(super) fn by_line_of_profile(problems: Vec<Problem>) -> Vec<Problem> {
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
