//! A first profile for exports that no profile knows.
//!
//! Lists of objects are found by their shape. What they are, and which of their fields give what, is told by their names, by what
//! their values look like, and by values that are keys of objects elsewhere. What that does not tell is a question. Without
//! answers the likely one counts, and the profile is a draft to work on; with answers only what was answered counts, and the rest
//! is a gap of the snapshot.

mod asked;
mod fields;
mod filters;
mod links;
mod naming;
mod relate;
mod roles;
mod routing;
mod rules;
mod sections;
mod shape;
mod text;
mod traffic;
mod unread;
mod values;

pub use asked::Question;

use super::Exports;
use crate::files::LoadError;
use asked::{Answers, Asker};
use links::Links;
use relate::Entity;
use roles::Role;
use serde_json::{Map, Value as Json, json};
use shape::List;
use std::collections::BTreeMap;
use std::fmt::Write;

/// A first profile.
pub struct DraftProfile {
    /// The file.
    pub text: String,
    /// For each list: where it is, and what it is.
    pub told: Vec<(String, String)>,
    /// What the exports do not say by themselves.
    pub questions: Vec<Question>,
}

/// What a profile is drafted from.
struct Drafting<'a> {
    lists: &'a [List],
    links: Links,
    roles: Vec<Role>,
    /// Lists of services by name.
    traffic: Vec<usize>,
    entities: Vec<Entity>,
    /// What holds for interfaces without a group, and the list that has such.
    no_group: Option<(usize, &'static str)>,
    /// Parts of networks that are lacking because nothing says what belongs to what, and why.
    unbound: Vec<(&'static str, String)>,
    /// Objects of lists that are not read, by a condition.
    left_out: BTreeMap<usize, String>,
    asker: Asker<'a>,
}

/// Records of a profile.
struct Records {
    into: &'static str,
    list: usize,
    from: String,
    /// Conditions, what gathers rows, and fields.
    head: Map<String, Json>,
    fields: Map<String, Json>,
    inside: Vec<Self>,
}

/// Looks at exports and proposes a profile, in which the likely answer to each question counts.
///
/// # Errors
/// If a file cannot be read, if there is too much to be held, or no list of objects in any.
pub fn draft_profile(exports: &Exports) -> Result<DraftProfile, LoadError> {
    draft(exports, Answers::Guessed)
}

/// Makes a profile of exports, by answers to the questions that they leave open, by what these are about. What nobody
/// answered is a gap of the snapshot.
///
/// # Errors
/// As [`draft_profile`].
pub fn answered_profile(
    exports: &Exports,
    answers: &BTreeMap<String, String>,
) -> Result<DraftProfile, LoadError> {
    draft(exports, Answers::Given(answers))
}

fn draft(exports: &Exports, answers: Answers<'_>) -> Result<DraftProfile, LoadError> {
    let lists = shape::lists(exports)?;
    let known = Links::of(&lists);
    let may_be_rows = |at: usize| {
        lists[at].outer.is_none()
            && (roles::is_rules(at, &lists, &known) || roles::route_fields(&lists[at]).is_some())
    };
    let links = Links::of_rows(&lists, &known, may_be_rows);
    let mut asker = Asker {
        answers,
        asked: Vec::new(),
    };
    let roles = roles::roles(&lists, &links, &mut asker);
    let traffic = (0..lists.len())
        .filter(|at| roles[*at] == Role::Traffic)
        .collect();
    let mut drafting = Drafting {
        lists: &lists,
        links,
        roles,
        traffic,
        entities: Vec::new(),
        no_group: None,
        unbound: Vec::new(),
        left_out: BTreeMap::new(),
        asker,
    };
    drafting.find_entities();
    Ok(drafting.written())
}

impl Drafting<'_> {
    fn written(mut self) -> DraftProfile {
        let mut gaps = Vec::new();
        let records = self.records(None, &mut gaps);
        let estate = self.estate();
        self.gaps_of_networks(&mut gaps);
        let mut body = String::new();
        if let Some(estate) = estate {
            text::field(&mut body, 0, "estate", &estate);
        }
        body.push_str(if records.is_empty() && gaps.is_empty() {
            "records: []\n"
        } else {
            "records:\n"
        });
        for one in records.iter().chain(&gaps) {
            self.write(one, 2, &mut body);
        }
        let told = self.told(&mut body);
        let questions = self.asker.asked;
        let mut head = String::from(if matches!(self.asker.answers, Answers::Guessed) {
            "# A first profile, drafted from exports. Each line marked TODO is a guess: see what the list really is, and what its fields\n\
             # mean. `heronshale schema profile` and docs/intake.md say what can be written; `heronshale import` tells what is ignored.\n"
        } else {
            "# A profile, drafted from exports and from answers. `heronshale schema profile` and docs/intake.md say what can be written.\n"
        });
        head.push_str("format: heronshale-profile\nversion: 1\nname: drafted\n");
        if matches!(self.asker.answers, Answers::Guessed) {
            head.push_str("draft: true\n");
            for question in &questions {
                let guess = question.guess.as_deref().unwrap_or("nothing");
                let _ = writeln!(
                    head,
                    "# TODO: {} Taken here: {}.",
                    text::line(&question.ask),
                    text::line(guess)
                );
            }
        }
        DraftProfile {
            text: head + &body,
            told,
            questions,
        }
    }

    /// Writes records, and what was seen in them.
    fn write(&self, records: &Records, indent: usize, out: &mut String) {
        let pad = " ".repeat(indent);
        let list = &self.lists[records.list];
        let asked = self.asker.guesses()
            && self
                .asker
                .asked
                .iter()
                .any(|question| question.about == list.place());
        let mark = if asked { "  # TODO: is it?" } else { "" };
        let _ = writeln!(out, "{pad}- into: {}{mark}", records.into);
        if indent == 2 {
            let _ = writeln!(out, "{pad}  files: {}", Json::from(list.files.as_str()));
        }
        let _ = writeln!(out, "{pad}  from: {}", text::quoted(&records.from));
        if records.into != "gaps" {
            for it in &list.fields {
                let unique = if it.is_unique() && it.count > 1 {
                    ", each another"
                } else {
                    ""
                };
                let of = format!("in {} of {}{unique}", it.holders, list.records.len());
                let _ = writeln!(
                    out,
                    "{pad}  #   {}  {of}: {}",
                    text::line(&it.path),
                    it.shown()
                );
            }
        }
        for (name, value) in &records.head {
            text::field(out, indent + 2, name, value);
        }
        let _ = writeln!(out, "{pad}  fields:");
        for (name, value) in &records.fields {
            let before = out.len();
            text::field(out, indent + 4, name, value);
            if out[before..].contains("$.TODO") {
                let end = out[before..].find('\n').map_or(out.len(), |at| before + at);
                out.insert_str(end, "  # TODO");
            }
        }
        if !records.inside.is_empty() {
            let _ = writeln!(out, "{pad}  inside:");
            for inner in &records.inside {
                self.write(inner, indent + 4, out);
            }
        }
    }

    /// What each list is, and comments on those that are nothing.
    fn told(&self, body: &mut String) -> Vec<(String, String)> {
        let mut told = Vec::new();
        for (at, list) in self.lists.iter().enumerate() {
            let count = if list.count == 1 {
                "1 object".to_owned()
            } else {
                format!("{} objects", list.count)
            };
            let entity = self.entities.iter().find(|entity| entity.list == at);
            let what = match (self.roles[at], entity) {
                (_, Some(entity)) if self.asker.guesses() => {
                    format!("{count}: perhaps {}", entity.section)
                }
                (_, Some(entity)) => format!("{count}: {}", entity.section),
                (Role::Rules, _) => format!("{count}: rules"),
                (Role::Routes, _) => format!("{count}: routes"),
                (Role::Pairs, _) => format!("{count}: which objects go together"),
                (Role::Traffic, _) => format!("{count}: services by name"),
                (Role::Part, _) => {
                    let outer = list.outer.map_or_else(String::new, |outer| {
                        format!(", in each of {}", self.lists[outer].path)
                    });
                    format!("{count}{outer}")
                }
                (Role::Open, _) => format!("{count}: what are they?"),
                (Role::Section(section), None) => format!("{count}: {section}"),
                (Role::Nothing, _) => format!("{count}: not read"),
            };
            if matches!(self.roles[at], Role::Nothing | Role::Open) {
                let mark = if self.roles[at] == Role::Open {
                    "TODO: "
                } else {
                    ""
                };
                let _ = writeln!(
                    body,
                    "  # {mark}{}, {}",
                    text::line(&list.place()),
                    text::line(&what)
                );
                for it in &list.fields {
                    let _ = writeln!(
                        body,
                        "  #   {}  in {} of {}: {}",
                        text::line(&it.path),
                        it.holders,
                        list.records.len(),
                        it.shown()
                    );
                }
            }
            told.push((list.place(), what));
        }
        told
    }

    /// Settings of the estate that the exports leave open.
    fn estate(&self) -> Option<Json> {
        let (list, no_group) = self.no_group?;
        let list = &self.lists[list];
        let from = if list.path == "$[*]" { "$[0]" } else { "$" };
        let settings = json!({ "each": "$", "fields": { "no_group": { "constant": no_group } } });
        let fields = json!({ "name": { "constant": "drafted" }, "settings": settings });
        Some(json!({ "files": list.files, "from": from, "fields": fields }))
    }
}
