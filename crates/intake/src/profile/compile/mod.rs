//! From a profile as written to one that runs: paths, patterns and tables are checked once, names against the format.

mod sources;

use super::plan::Plan;
use super::written::{
    Fields, FilePart, Otherwise, TableUse, Tables, WrittenKind, WrittenLookup, WrittenMade,
    WrittenProfile, WrittenRecords, WrittenValue, missing, sources,
};
use crate::reading::{Reading, Spanned, did_you_mean};
use crate::sections::{section_named, sections, snapshot_schema};
use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use heronshale_model::estate::Name;
use heronshale_model::source::Span;
use jsonpath_rust::parser::model::{JpQuery, Segment, Selector};
use jsonpath_rust::parser::parse_json_path;
use regex::Regex;
use rustc_hash::FxHashMap;
use serde_json::Value as Json;

/// One step on the way to records that are read one by one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Step {
    /// The member of this name.
    Name(String),
    /// Every member or item.
    Any,
}

/// Where records stand.
#[derive(Clone, Debug)]
pub(crate) struct From {
    /// As far as this the document is passed through without being held.
    pub steps: Vec<Step>,
    /// What is asked of a node there; none if it is the record itself. If the node is one item of a list that is filtered,
    /// it is asked of a list of that item alone.
    pub rest: Option<JpQuery>,
    /// Whether `rest` is asked of a list of the node alone.
    pub alone: bool,
    /// The whole of it.
    pub query: JpQuery,
    /// As written.
    pub text: String,
}

/// A value, ready to be made.
#[derive(Clone, Debug)]
pub(super) struct Value {
    pub span: Span,
    pub source: Source,
    pub then: Vec<Then>,
}

/// Where it comes from.
#[derive(Clone, Debug)]
pub(super) enum Source {
    Path(JpQuery),
    Constant(Vec<Json>),
    Outer(Box<Value>),
    File(FilePart),
    Member,
    All(Vec<Value>),
    First(Vec<Value>),
    Text(Vec<Piece>, Vec<Value>),
    Each(Nodes, Vec<Made>),
    Every(Nodes, Box<Value>),
    Pairs(JpQuery, Box<Value>, Box<Value>),
}

/// Nodes of which each makes a value.
#[derive(Clone, Debug)]
pub(super) enum Nodes {
    /// Those that a path finds in the record.
    Found(JpQuery),
    /// Those that a value gives: of other records, joined by id.
    Given(Box<Value>),
}

/// A piece of a text: itself, or one of the values that fill it.
#[derive(Clone, Debug)]
pub(super) enum Piece {
    Text(String),
    Filled(usize),
}

/// What is done to a value.
#[derive(Clone, Debug)]
pub(super) enum Then {
    Lookup(usize, Option<Otherwise>),
    Split(String),
    Pattern(Regex, String, Option<Otherwise>),
    Table(FxHashMap<String, Vec<Json>>, Option<Otherwise>),
    Without(Vec<String>),
    Once,
    Default(Value),
    Needed,
}

/// A field and how it is made.
#[derive(Clone, Debug)]
pub(crate) struct Made {
    pub name: String,
    /// Whether several values stand there; objects of `each` are a list then even if there is one.
    pub list: bool,
    pub value: Value,
}

/// Records of one kind.
#[derive(Clone, Debug)]
pub(super) struct Rule {
    pub span: Span,
    pub section: &'static str,
    pub files: Option<GlobSet>,
    pub from: From,
    /// The files as written.
    pub files_text: String,
    pub when: Vec<JpQuery>,
    pub having: Vec<Value>,
    pub gather: Option<Value>,
    pub fields: Vec<Made>,
    pub inside: Vec<Rule>,
}

/// A join, by which an index is made before any record.
#[derive(Clone, Debug)]
pub(super) struct Lookup {
    pub files: Option<GlobSet>,
    pub from: From,
    pub by: Value,
    pub take: Value,
    /// Whether what it gives is looked into, and not taken as it is.
    pub nodes: bool,
}

/// A profile that runs.
pub(super) struct Compiled {
    pub name: Name,
    pub rules: Vec<Rule>,
    pub lookups: Vec<Lookup>,
    pub plan: Plan,
    /// Headers of sheets, and the names by which paths know these columns.
    pub columns: Vec<(String, String)>,
    /// What is left out on purpose: the pattern and the reason.
    pub ignored: Vec<(Regex, String)>,
}

fn texts(patterns: &[Spanned<Name>]) -> String {
    patterns
        .iter()
        .map(|pattern| pattern.value.to_string())
        .collect::<Vec<_>>()
        .join(", ")
}

pub(super) struct Compiler<'r> {
    pub(super) at: &'r mut Reading,
    pub(super) tables: Tables,
    pub(super) schema: Json,
    pub(super) lookups: Vec<Lookup>,
}

/// Checks a profile; what is wrong is recorded.
pub(super) fn compile(written: WrittenProfile, at: &mut Reading) -> Compiled {
    let tables = written.tables.clone().unwrap_or_default();
    let mut compiler = Compiler {
        at,
        tables,
        schema: snapshot_schema(),
        lookups: Vec::new(),
    };
    let mut rules = Vec::new();
    if let Some(estate) = &written.estate {
        let from = compiler.from(estate.from.as_ref(), estate.span);
        let shape = compiler.shape_of("estate");
        let fields = compiler.fields(&estate.fields.0, &shape, "the estate", estate.span);
        let files = compiler.files(&estate.files.0);
        rules.extend(from.map(|from| Rule {
            span: estate.span,
            section: "estate",
            files,
            from,
            files_text: texts(&estate.files.0),
            when: Vec::new(),
            having: Vec::new(),
            gather: None,
            fields,
            inside: Vec::new(),
        }));
    }
    rules.extend(
        written
            .records
            .0
            .iter()
            .filter_map(|records| compiler.rule(records)),
    );
    if let Some(draft) = written.draft.as_ref().filter(|draft| draft.value) {
        let title =
            "this profile is a draft: everything it leaves out would be missing from the estate"
                .to_owned();
        let help = Some("complete it, then delete this line".to_owned());
        compiler.at.fail(draft.span, title, "here", help);
    }
    if rules.is_empty() && compiler.at.problems.is_empty() {
        let help = Some("map exported records to kinds of objects under `records`".to_owned());
        compiler.at.fail(
            written.span,
            "the profile names no records".to_owned(),
            "here",
            help,
        );
    }
    let plan = written
        .collect
        .as_ref()
        .map(|collect| compiler.plan(collect))
        .unwrap_or_default();
    // `.*` is any name, and what lies below a part belongs to it.
    let pattern = |path: &str| {
        let any = regex::escape(path).replace(r"\.\*", r"(?:\.\w+|\['[^']*'\])");
        Regex::new(&format!(r"^{any}(?:[.\[]|$)")).ok()
    };
    let ignored = written.ignored.0.iter();
    let ignored =
        ignored.filter_map(|one| Some((pattern(&one.path.0.value)?, one.because.0.to_string())));
    let mut columns: Vec<(String, String)> = Vec::new();
    for (header, names) in written.columns.iter().flat_map(|table| &table.0) {
        let [Json::String(name)] = &names[..] else {
            let title = format!("the column `{header}` needs one name");
            compiler.at.fail(
                written.span,
                title,
                "in here",
                Some(format!("columns: {{ {header}: services }}")),
            );
            continue;
        };
        if columns.iter().any(|(_, other)| other == name) {
            let title = format!("two columns have the name `{name}`");
            compiler.at.fail(written.span, title, "in here", None);
        }
        columns.push((header.clone(), name.clone()));
    }
    let ignored = ignored.collect();
    Compiled {
        name: written.name.0.clone(),
        columns,
        ignored,
        rules,
        lookups: compiler.lookups,
        plan,
    }
}

impl Compiler<'_> {
    pub(super) fn from(&mut self, written: Option<&Spanned<Name>>, span: Span) -> Option<From> {
        let (text, span) = written.map_or(("$", span), |from| (&*from.value, from.span));
        let query = self.path(text, span)?;
        let mut steps = Vec::new();
        let whole = query.clone();
        let mut segments = query.segments.into_iter().peekable();
        while let Some(segment) = segments.peek() {
            match segment {
                Segment::Selector(Selector::Name(name)) => steps.push(Step::Name(name.clone())),
                Segment::Selector(Selector::Wildcard) => steps.push(Step::Any),
                _ => break,
            }
            segments.next();
        }
        let rest: Vec<Segment> = segments.collect();
        // Items of a list that is filtered are judged one by one.
        let alone = matches!(rest.first(), Some(Segment::Selector(Selector::Filter(_))));
        if alone {
            steps.push(Step::Any);
        }
        let rest = (!rest.is_empty()).then(|| JpQuery::new(rest));
        Some(From {
            steps,
            rest,
            alone,
            query: whole,
            text: text.to_owned(),
        })
    }

    fn files(&mut self, written: &[Spanned<Name>]) -> Option<GlobSet> {
        if written.is_empty() {
            return None;
        }
        let mut all = GlobSetBuilder::new();
        for pattern in written {
            match GlobBuilder::new(&pattern.value)
                .literal_separator(true)
                .build()
            {
                Ok(glob) => _ = all.add(glob),
                Err(error) => {
                    let title = format!(
                        "`{}` is not a pattern of file names: {}",
                        pattern.value,
                        error.kind()
                    );
                    self.at.fail(
                        pattern.span,
                        title,
                        "here",
                        Some("groups/*.json, **/acl-*.json".to_owned()),
                    );
                }
            }
        }
        all.build().ok()
    }

    fn rule(&mut self, written: &WrittenRecords) -> Option<Rule> {
        let from = self.from(written.from.as_ref(), written.span);
        let files = self.files(&written.files.0);
        let when: Vec<JpQuery> = written
            .when
            .0
            .iter()
            .filter_map(|path| self.path(&path.value, path.span))
            .collect();
        let section = self.section(&written.into.0);
        let shape = section.map_or(Json::Null, |section| self.shape_of(section));
        let fields = self.fields(
            &written.fields.0,
            &shape,
            &written.into.0.value,
            written.span,
        );
        let having = self.values(&written.having.0, &Json::Null);
        let gather = written
            .gather
            .as_ref()
            .map(|value| self.value(value, &Json::Null));
        let inside = written
            .inside
            .0
            .iter()
            .filter_map(|records| self.rule(records))
            .collect();
        let gather = match gather {
            Some(value) => Some(value?),
            None => None,
        };
        let files_text = texts(&written.files.0);
        Some(Rule {
            span: written.span,
            section: section?,
            files,
            from: from?,
            files_text,
            when,
            having: having?,
            gather,
            fields,
            inside,
        })
    }

    fn section(&mut self, written: &Spanned<Name>) -> Option<&'static str> {
        let found = section_named(&written.value);
        if found.is_none() {
            let all = format!("there are {}", sections().collect::<Vec<_>>().join(", "));
            let help = did_you_mean(&written.value, sections()).unwrap_or(all);
            self.at.fail(
                written.span,
                format!("a snapshot has no section `{}`", written.value),
                "here",
                Some(help),
            );
        }
        found
    }

    /// What the format says of the objects of a section.
    fn shape_of(&self, section: &str) -> Json {
        let of = &self.schema["properties"][section];
        self.object_in(of).cloned().unwrap_or(Json::Null)
    }

    /// The object that a field holds, alone or in a list.
    fn object_in<'s>(&'s self, of: &'s Json) -> Option<&'s Json> {
        if let Some(name) = of["$ref"].as_str() {
            let name = name.rsplit('/').next()?;
            return self.object_in(&self.schema["$defs"][name]);
        }
        if of["properties"].is_object() {
            return Some(of);
        }
        if let Some(any) = of["anyOf"].as_array() {
            return any.iter().find_map(|one| self.object_in(one));
        }
        of.get("items").and_then(|items| self.object_in(items))
    }

    pub(super) fn fields(
        &mut self,
        written: &Fields,
        shape: &Json,
        what: &str,
        span: Span,
    ) -> Vec<Made> {
        let known: Vec<String> = shape["properties"]
            .as_object()
            .map(|fields| fields.keys().cloned().collect())
            .unwrap_or_default();
        let mut made: Vec<Made> = Vec::new();
        for (name, value) in &written.0 {
            if !shape.is_null() && !known.contains(&name.value) {
                let all = format!("its fields are {}", known.join(", "));
                let help =
                    did_you_mean(&name.value, known.iter().map(String::as_str)).unwrap_or(all);
                self.at.fail(
                    name.span,
                    format!("{what} have no field `{}`", name.value),
                    "unknown field",
                    Some(help),
                );
                continue;
            }
            if made.iter().any(|other| other.name == name.value) {
                self.at.fail(
                    name.span,
                    format!("the field `{}` appears twice", name.value),
                    "a second time",
                    None,
                );
                continue;
            }
            let inner = self
                .object_in(&shape["properties"][&name.value])
                .cloned()
                .unwrap_or(Json::Null);
            let list = shape["properties"][&name.value].get("$ref").is_none();
            if let Some(value) = self.value(value, &inner) {
                made.push(Made {
                    name: name.value.clone(),
                    list,
                    value,
                });
            }
        }
        let needed = shape["required"]
            .as_array()
            .into_iter()
            .flatten()
            .filter_map(Json::as_str);
        for name in needed.filter(|name| !written.0.iter().any(|(field, _)| field.value == **name))
        {
            let help = shape["properties"][name]["description"]
                .as_str()
                .map(|about| format!("{name}: {about}"));
            self.at.fail(
                span,
                format!("{what} need the field `{name}`"),
                "in here",
                help,
            );
        }
        made
    }

    /// A value; `inner` is what the format says of the objects in it, if there are any.
    fn value(&mut self, written: &WrittenValue, inner: &Json) -> Option<Value> {
        let span = written.span;
        let plain = |source: Source| {
            Some(Value {
                span,
                source,
                then: Vec::new(),
            })
        };
        match &written.kind {
            WrittenKind::Path(text) => plain(Source::Path(self.path(text, span)?)),
            WrittenKind::Constant(json) => plain(Source::Constant(vec![json.clone()])),
            WrittenKind::List(values) => plain(Source::All(self.values(values, inner)?)),
            WrittenKind::Made(made) => {
                let source = self.source(made, span, inner)?;
                Some(Value {
                    span,
                    source,
                    then: self.then(made, inner)?,
                })
            }
        }
    }

    fn values(&mut self, written: &[WrittenValue], inner: &Json) -> Option<Vec<Value>> {
        let all: Vec<Option<Value>> = written
            .iter()
            .map(|value| self.value(value, inner))
            .collect();
        all.into_iter().collect()
    }
}
