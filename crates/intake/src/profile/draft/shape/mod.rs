//! The shape of exports: which lists of objects there are, and which values stand in their fields.

mod finder;

use finder::Finder;

use super::super::place::broken;
use super::super::stream::{Broken, Held, Kind, Taker, read};
use super::super::{Export, Exports};
use super::values::Traits;
use crate::files::LoadError;
use crate::profile::compile::{From, Step};
use crate::profile::coverage::Seen;
use crate::profile::make::text_of;
use jsonpath_rust::parser::model::JpQuery;
use serde_json::Value as Json;
use std::collections::{BTreeMap, BTreeSet};

/// Larger exports are not held for a draft.
const LARGEST: u64 = 256 << 20;
/// So many objects of a list are looked at.
const MOST_RECORDS: usize = 1_000_000;
/// So many different values of a field are kept.
const MOST_VALUES: usize = 1_000_000;
/// An object of at least so many objects with one field in common is a list by name.
const LIST_BY_NAME: usize = 3;

/// A list of objects.
pub(super) struct List {
    /// The files that hold it, as a pattern.
    pub files: String,
    /// Where it stands in them, a JSONPath.
    pub path: String,
    /// The list in whose objects it lies.
    pub outer: Option<usize>,
    /// How many objects it has.
    pub count: usize,
    pub records: Vec<Record>,
    pub fields: Vec<Field>,
}

/// An object of a list: its values by field.
pub(super) struct Record {
    pub values: Vec<(usize, String)>,
}

/// A field of the objects of a list.
pub(super) struct Field {
    /// A JSONPath from the object.
    pub path: String,
    /// How many values were met.
    pub count: usize,
    /// How many objects have one.
    pub holders: usize,
    /// Each value and how often it stands there.
    pub values: BTreeMap<String, usize>,
    /// Whether an object may have several.
    pub many: bool,
    /// Whether it lies in a list of objects within the object.
    pub deep: bool,
    pub traits: Traits,
}

/// Stands for the path of a member's name, of objects that are listed by name.
const MEMBER: &str = "$~";

impl Field {
    /// What gives its values.
    pub fn value(&self) -> Json {
        if self.path == MEMBER {
            serde_json::json!({ "member": true })
        } else {
            self.path.as_str().into()
        }
    }

    /// The last name of its path, in lower case.
    pub fn name(&self) -> String {
        last_name(&self.path)
    }

    /// Whether no value stands there twice.
    pub fn is_unique(&self) -> bool {
        self.values.len() == self.count
    }

    /// Whether its name has one of these words in it.
    pub fn is_called(&self, words: &[&str]) -> bool {
        let name = self.name();
        words.iter().any(|word| name.contains(word))
    }

    /// A few of its values, as a comment shows them.
    pub fn shown(&self) -> String {
        const SHOWN: usize = 4;
        let few: Vec<String> = self
            .values
            .keys()
            .take(SHOWN)
            .map(|value| format!("{:?}", cut(value)))
            .collect();
        let more = if self.values.len() > SHOWN {
            ", …"
        } else {
            ""
        };
        format!("{}{more}", few.join(", "))
    }
}

impl List {
    /// The place, as it is told.
    pub fn place(&self) -> String {
        format!("{} {}", self.files, self.path)
    }

    /// Its name: that of the member that holds it, or of its file.
    pub fn name(&self) -> String {
        let name = last_name(&self.path);
        if !PLAIN.contains(&name.as_str()) {
            return name;
        }
        let folder = self.files.strip_suffix("/*").unwrap_or(&self.files);
        let file = folder.rsplit('/').next().unwrap_or(folder);
        file.split('.')
            .next()
            .unwrap_or(file)
            .trim_end_matches('*')
            .trim_end_matches(['-', '_'])
            .to_lowercase()
    }

    /// The values of a field in a record.
    pub fn of<'l>(&'l self, record: &'l Record, field: usize) -> impl Iterator<Item = &'l str> {
        record
            .values
            .iter()
            .filter(move |(at, _)| *at == field)
            .map(|(_, value)| value.as_str())
    }

    /// Fields that tell the objects apart: each has one value, and another one.
    pub fn keys(&self) -> impl Iterator<Item = (usize, &Field)> {
        let apart = |field: &Field| {
            !field.many && !field.deep && field.is_unique() && field.holders == self.records.len()
        };
        self.fields
            .iter()
            .enumerate()
            .filter(move |(_, field)| apart(field))
    }

    /// The field of which this holds, if there is one; those of the object itself come first.
    pub fn field(&self, holds: impl Fn(&Field) -> bool) -> Option<usize> {
        let at = |deep: bool| {
            self.fields
                .iter()
                .position(|field| field.deep == deep && holds(field))
        };
        at(false).or_else(|| at(true))
    }
}

/// Names that say nothing of what a list holds.
const PLAIN: [&str; 8] = [
    "", "items", "data", "results", "values", "value", "objects", "records",
];

/// The last name of a path, in lower case, its words joined by `_`.
pub(super) fn last_name(path: &str) -> String {
    let plain = path.trim_end_matches(".*").trim_end_matches("[*]");
    let last = plain.rsplit(['.', '[']).next().unwrap_or(plain);
    let mut name = String::new();
    let mut lower = false;
    for sign in last.trim_matches(['\'', ']', '$']).chars() {
        if matches!(sign, '-' | ' ') {
            name.push('_');
        } else {
            if sign.is_uppercase() && lower {
                name.push('_');
            }
            name.extend(sign.to_lowercase());
        }
        lower = sign.is_lowercase();
    }
    name
}

fn cut(value: &str) -> String {
    const LONGEST: usize = 32;
    let short: String = value.chars().take(LONGEST).collect();
    if short.len() < value.len() {
        short + "…"
    } else {
        short
    }
}

struct Whole<'d>(&'d mut dyn FnMut(&Json));

impl Taker for Whole<'_> {
    fn record(&mut self, _: usize, node: &Json, _: &str, _: &Held) {
        (self.0)(node);
    }
    fn seen(&mut self) -> Option<&mut Seen> {
        None
    }
    fn progress(&mut self, _: u64) {}
}

/// A file and its documents; of a sheet, its rows.
struct Documents<'e> {
    file: &'e Export,
    all: Vec<Json>,
}

fn documents(file: &Export) -> Result<Documents<'_>, LoadError> {
    let (steps, text) = if file.kind == Kind::Csv {
        (vec![Step::Any], "$[*]")
    } else {
        (Vec::new(), "$")
    };
    let from = From {
        steps,
        rest: None,
        alone: false,
        query: JpQuery::new(Vec::new()),
        text: text.to_owned(),
    };
    let mut all = Vec::new();
    match read(
        &file.path,
        file.kind,
        &[&from],
        &mut Whole(&mut |document| all.push(document.clone())),
    ) {
        Ok(()) => Ok(Documents { file, all }),
        Err(Broken::Syntax(line, column, what)) => Err(broken(file, line, column, &what)),
        Err(Broken::Reading(error)) => {
            let what = format!("cannot draft a profile from {}", file.path.display());
            Err(LoadError::Environment { what, error })
        }
    }
}

/// The lists of objects in exports, those around others first.
///
/// # Errors
/// If a file cannot be read, if there is too much to be held, or no list of objects in any.
pub(super) fn lists(exports: &Exports) -> Result<Vec<List>, LoadError> {
    let refused = |kind, why: &str| LoadError::Environment {
        what: "cannot draft a profile".to_owned(),
        error: std::io::Error::new(kind, why),
    };
    if exports.bytes() > LARGEST {
        return Err(refused(
            std::io::ErrorKind::Other,
            "the exports have more than 256 MiB; give part of them",
        ));
    }
    let read = exports
        .files
        .iter()
        .map(documents)
        .collect::<Result<Vec<_>, _>>()?;
    let groups = groups(&read);
    let mut found = Finder::default();
    for (documents, group) in read.iter().zip(&groups) {
        found.take(documents, group);
    }
    if found.lists.is_empty() {
        return Err(refused(
            std::io::ErrorKind::InvalidData,
            "the exports contain no list of objects",
        ));
    }
    Ok(found.finish())
}

/// The name of a file without the number of its page.
fn without_page(name: &str) -> Option<(String, &str)> {
    let (stem, ending) = name.rsplit_once('.')?;
    let plain = stem.trim_end_matches(|sign: char| sign.is_ascii_digit());
    let plain = ["page", "part", "p"].iter().fold(plain, |plain, word| {
        plain
            .strip_suffix(word)
            .filter(|before| before.ends_with(['-', '_', '.', ' ']))
            .unwrap_or(plain)
    });
    (plain.len() < stem.len() && !plain.is_empty()).then(|| (format!("{plain}*.{ending}"), ending))
}

/// The names of the members of documents that are objects.
fn members(documents: &Documents<'_>) -> BTreeSet<String> {
    documents
        .all
        .iter()
        .filter_map(Json::as_object)
        .flat_map(|fields| fields.keys().cloned())
        .collect()
}

/// For each file the pattern of those that are alike: pages of one list, or documents of one folder.
fn groups(read: &[Documents<'_>]) -> Vec<String> {
    let names: Vec<&str> = read.iter().map(|one| one.file.name.as_str()).collect();
    let alike = |pattern: &str, mine: &[usize]| {
        let Ok(glob) = globset::GlobBuilder::new(pattern)
            .literal_separator(true)
            .build()
        else {
            return false;
        };
        let glob = glob.compile_matcher();
        let first = members(&read[mine[0]]);
        mine.len() > 1
            && names
                .iter()
                .enumerate()
                .all(|(at, name)| glob.is_match(name) == mine.contains(&at))
            && mine
                .iter()
                .all(|at| members(&read[*at]).intersection(&first).count() * 2 >= first.len())
    };
    let mut by: BTreeMap<String, Vec<usize>> = BTreeMap::new();
    for (at, name) in names.iter().enumerate() {
        for pattern in without_page(name)
            .map(|(pattern, _)| pattern)
            .into_iter()
            .chain(folder(name))
        {
            by.entry(pattern).or_default().push(at);
        }
    }
    by.retain(|pattern, mine| alike(pattern, mine));
    let of = |name: &str| {
        let page = without_page(name)
            .map(|(pattern, _)| pattern)
            .filter(|pattern| by.contains_key(pattern));
        page.or_else(|| folder(name).filter(|pattern| by.contains_key(pattern)))
            .unwrap_or_else(|| name.to_owned())
    };
    names.into_iter().map(of).collect()
}

/// The folder of a file below the first.
fn folder(name: &str) -> Option<String> {
    name.rsplit_once('/')
        .map(|(folder, _)| format!("{folder}/*"))
}

/// `$.name`, or `$['a name']`, with the escapes of RFC 9535.
pub(super) fn member(path: &str, name: &str) -> String {
    let plain = name
        .chars()
        .all(|sign| sign.is_ascii_alphanumeric() || sign == '_')
        && !name.starts_with(|sign: char| sign.is_ascii_digit())
        && !name.is_empty();
    if plain {
        return format!("{path}.{name}");
    }
    let mut quoted = String::new();
    for sign in name.chars() {
        match sign {
            '\'' | '\\' => quoted.extend(['\\', sign]),
            sign if sign.is_control() => quoted.push_str(&format!("\\u{:04x}", u32::from(sign))),
            sign => quoted.push(sign),
        }
    }
    format!("{path}['{quoted}']")
}
