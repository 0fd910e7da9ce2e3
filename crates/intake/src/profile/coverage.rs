//! What of an export a profile looks at, and what it does not.

use super::compile::{From, Lookup, Made, Nodes, Rule, Source, Step, Then, Value};
use jsonpath_rust::parser::model::{
    Comparable, Filter, FilterAtom, FnArg, JpQuery, Segment, Selector, SingularQuery,
    SingularQuerySegment, Test, TestFunction,
};
use rustc_hash::FxHashMap;
use serde_json::Value as Json;
use std::collections::BTreeMap;

/// The shape of all that was met: members by name, the items of lists as one.
#[derive(Clone, Debug, Default)]
pub(super) struct Seen {
    /// How many values ended here: scalars, empty ones, and those that were passed over.
    pub count: usize,
    names: BTreeMap<String, Seen>,
    items: Option<Box<Seen>>,
}

impl Seen {
    /// The place that a trail leads to.
    pub fn at(&mut self, trail: &[Step]) -> &mut Self {
        trail.iter().fold(self, |here, step| match step {
            Step::Name(name) => here.names.entry(name.clone()).or_default(),
            Step::Any => here.items.get_or_insert_default(),
        })
    }

    /// Takes a value in.
    pub fn take(&mut self, node: &Json) {
        match node {
            Json::Object(fields) if !fields.is_empty() => {
                for (name, value) in fields {
                    if !self.names.contains_key(name) {
                        self.names.insert(name.clone(), Self::default());
                    }
                    if let Some(inner) = self.names.get_mut(name) {
                        inner.take(value);
                    }
                }
            }
            Json::Array(items) if !items.is_empty() => {
                let inner = self.items.get_or_insert_default();
                for item in items {
                    inner.take(item);
                }
            }
            _ => self.count += 1,
        }
    }

    fn total(&self) -> usize {
        let inner = self.names.values().map(Self::total).sum::<usize>();
        self.count + inner + self.items.as_ref().map_or(0, |items| items.total())
    }
}

/// What a profile looks at.
#[derive(Clone, Debug, Default)]
pub(super) struct Used {
    whole: bool,
    names: FxHashMap<String, Used>,
    any: Option<Box<Used>>,
}

/// A place in the shape of documents.
type Trail = Vec<Step>;

impl Used {
    /// What the rules and lookups of a profile look at in some files: those for which these rules and lookups are.
    pub fn of(rules: &[Rule], lookups: &[Lookup], here: &Here) -> Self {
        let mut looking = Looking {
            used: Self::default(),
            lookups,
            here,
        };
        for (rule, here) in rules.iter().zip(&here.rules) {
            looking.rule(rule, root(*here), &[]);
        }
        for (at, lookup) in lookups.iter().enumerate() {
            let at = looking.from(&lookup.from, root(here.lookups[at]));
            looking.value(&lookup.by, &at, &[]);
            if !lookup.nodes {
                looking.value(&lookup.take, &at, &[]);
            }
        }
        looking.used
    }

    fn place(&mut self, trail: &[Step]) -> &mut Self {
        trail.iter().fold(self, |here, step| match step {
            Step::Name(name) => here.names.entry(name.clone()).or_default(),
            Step::Any => here.any.get_or_insert_default(),
        })
    }
}

/// Which rules and lookups of a profile are for some files.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Here {
    pub rules: Vec<bool>,
    pub lookups: Vec<bool>,
}

/// Where a document begins, if it is looked at.
fn root(here: bool) -> &'static [Trail] {
    static ROOT: [Trail; 1] = [Vec::new()];
    if here { &ROOT } else { &[] }
}

/// Goes through a profile and marks what it looks at.
struct Looking<'p> {
    used: Used,
    lookups: &'p [Lookup],
    here: &'p Here,
}

impl Looking<'_> {
    fn whole(&mut self, trails: &[Trail]) {
        for trail in trails {
            self.used.place(trail).whole = true;
        }
    }

    /// Where the nodes stand of which each makes a value.
    fn nodes(&mut self, nodes: &Nodes, at: &[Trail], outer: &[Vec<Trail>]) -> Vec<Trail> {
        match nodes {
            Nodes::Found(query) => self.query(query, at),
            Nodes::Given(value) => {
                self.value(value, at, outer);
                let Some(Then::Lookup(index, _)) = value.then.last() else {
                    return Vec::new();
                };
                let lookup = &self.lookups[*index];
                let records = self.from(&lookup.from, root(self.here.lookups[*index]));
                match &lookup.take.source {
                    Source::Path(query) => self.query(query, &records),
                    _ => records,
                }
            }
        }
    }

    fn from(&mut self, from: &From, at: &[Trail]) -> Vec<Trail> {
        let here: Vec<Trail> = at
            .iter()
            .map(|trail| [&trail[..], &from.steps[..]].concat())
            .collect();
        let Some(rest) = &from.rest else { return here };
        let mut rest = rest.segments.as_slice();
        let mut here = here;
        if from.alone
            && let Some((Segment::Selector(Selector::Filter(filter)), others)) = rest.split_first()
        {
            self.filter(filter, &here);
            rest = others;
        }
        for segment in rest {
            here = self.segment(segment, &here);
        }
        here
    }

    fn rule(&mut self, rule: &Rule, at: &[Trail], outer: &[Vec<Trail>]) {
        let here = self.from(&rule.from, at);
        // That something is there is asked, not what it says.
        for query in &rule.when {
            self.query(query, &here);
        }
        for value in rule.having.iter().chain(&rule.gather) {
            self.value(value, &here, outer);
        }
        // What is gathered is asked as a list: its items are the records.
        let asked = if rule.gather.is_some() {
            here.iter()
                .map(|trail| trail[..trail.len().saturating_sub(1)].to_vec())
                .collect()
        } else {
            here.clone()
        };
        self.fields(&rule.fields, &asked, outer);
        let around = [outer, std::slice::from_ref(&here)].concat();
        for inner in &rule.inside {
            self.rule(inner, &here, &around);
        }
    }

    fn fields(&mut self, fields: &[Made], at: &[Trail], outer: &[Vec<Trail>]) {
        for field in fields {
            self.value(&field.value, at, outer);
        }
    }

    fn value(&mut self, value: &Value, at: &[Trail], outer: &[Vec<Trail>]) {
        match &value.source {
            Source::Path(query) => {
                let there = self.query(query, at);
                self.whole(&there);
            }
            Source::Constant(_) | Source::File(_) | Source::Member => {}
            Source::Outer(inner) => {
                if let Some((last, others)) = outer.split_last() {
                    self.value(inner, &last.clone(), others);
                }
            }
            Source::All(all) | Source::First(all) | Source::Text(_, all) => {
                for one in all {
                    self.value(one, at, outer);
                }
            }
            Source::Each(nodes, fields) => {
                let there = self.nodes(nodes, at, outer);
                self.fields(fields, &there, &[outer, &[at.to_vec()]].concat());
            }
            Source::Every(nodes, give) => {
                let there = self.nodes(nodes, at, outer);
                self.value(give, &there, &[outer, &[at.to_vec()]].concat());
            }
            Source::Pairs(query, key, value) => {
                let there = self.query(query, at);
                let around = [outer, &[at.to_vec()]].concat();
                self.value(key, &there, &around);
                self.value(value, &there, &around);
            }
        }
        for then in &value.then {
            if let Then::Default(other) = then {
                self.value(other, at, outer);
            }
        }
    }

    fn query(&mut self, query: &JpQuery, at: &[Trail]) -> Vec<Trail> {
        query
            .segments
            .iter()
            .fold(at.to_vec(), |here, segment| self.segment(segment, &here))
    }

    fn segment(&mut self, segment: &Segment, at: &[Trail]) -> Vec<Trail> {
        match segment {
            Segment::Selector(selector) => self.selector(selector, at),
            Segment::Selectors(all) => all.iter().flat_map(|one| self.selector(one, at)).collect(),
            // It may look anywhere below.
            Segment::Descendant(_) => {
                self.whole(at);
                at.to_vec()
            }
        }
    }

    fn selector(&mut self, selector: &Selector, at: &[Trail]) -> Vec<Trail> {
        let longer = |step: Step| {
            at.iter()
                .map(|trail| [&trail[..], std::slice::from_ref(&step)].concat())
                .collect::<Vec<_>>()
        };
        match selector {
            Selector::Name(name) => longer(Step::Name(name.clone())),
            Selector::Filter(filter) => {
                let items = longer(Step::Any);
                self.filter(filter, &items);
                items
            }
            _ => longer(Step::Any),
        }
    }

    /// What a filter asks of each item.
    fn filter(&mut self, filter: &Filter, at: &[Trail]) {
        match filter {
            Filter::Or(all) | Filter::And(all) => all.iter().for_each(|one| self.filter(one, at)),
            Filter::Atom(FilterAtom::Filter { expr, .. }) => self.filter(expr, at),
            Filter::Atom(FilterAtom::Test { expr, .. }) => self.test(expr, at),
            Filter::Atom(FilterAtom::Comparison(comparison)) => {
                let (left, right) = comparison.vals();
                self.comparable(left, at);
                self.comparable(right, at);
            }
        }
    }

    fn comparable(&mut self, one: &Comparable, at: &[Trail]) {
        match one {
            Comparable::Literal(_) | Comparable::SingularQuery(SingularQuery::Root(_)) => {}
            Comparable::Function(function) => self.function(function, at),
            Comparable::SingularQuery(SingularQuery::Current(segments)) => {
                let steps = segments.iter().map(|segment| match segment {
                    SingularQuerySegment::Name(name) => Step::Name(name.clone()),
                    SingularQuerySegment::Index(_) => Step::Any,
                });
                let steps: Vec<Step> = steps.collect();
                let there: Vec<Trail> = at
                    .iter()
                    .map(|trail| [&trail[..], &steps[..]].concat())
                    .collect();
                self.whole(&there);
            }
        }
    }

    fn test(&mut self, test: &Test, at: &[Trail]) {
        match test {
            Test::RelQuery(segments) => {
                let there = segments
                    .iter()
                    .fold(at.to_vec(), |here, segment| self.segment(segment, &here));
                self.whole(&there);
            }
            Test::AbsQuery(_) => {}
            Test::Function(function) => self.function(function, at),
        }
    }

    fn function(&mut self, function: &TestFunction, at: &[Trail]) {
        let arguments: Vec<&FnArg> = match function {
            TestFunction::Custom(_, all) => all.iter().collect(),
            TestFunction::Length(one) => vec![one],
            TestFunction::Value(one) | TestFunction::Count(one) => vec![one],
            TestFunction::Search(one, other) | TestFunction::Match(one, other) => vec![one, other],
        };
        for argument in arguments {
            match argument {
                FnArg::Literal(_) => {}
                FnArg::Test(test) => self.test(test, at),
                FnArg::Filter(filter) => self.filter(filter, at),
            }
        }
    }
}

/// A part of what was seen: the path and how many values it has.
pub(super) type Part = (String, usize);

/// The parts of what was seen at which something looks, and those at which nothing does.
pub(super) fn parts(seen: &Seen, used: &Used) -> [Vec<Part>; 2] {
    let mut found = [Vec::new(), Vec::new()];
    collect(seen, &[used], "$", &mut found);
    found
}

fn collect(seen: &Seen, used: &[&Used], path: &str, found: &mut [Vec<Part>; 2]) {
    if used.iter().any(|one| one.whole) {
        found[0].push((path.to_owned(), seen.total()));
        return;
    }
    if used.is_empty() {
        found[1].push((path.to_owned(), seen.total()));
        return;
    }
    let looked_into = used
        .iter()
        .any(|one| !one.names.is_empty() || one.any.is_some());
    if seen.count > 0 && !looked_into {
        found[1].push((path.to_owned(), seen.count));
    }
    for (name, inner) in &seen.names {
        let next: Vec<&Used> = used
            .iter()
            .flat_map(|one| one.names.get(name).into_iter().chain(one.any.as_deref()))
            .collect();
        let plain = name
            .chars()
            .all(|sign| sign.is_ascii_alphanumeric() || sign == '_')
            && !name.starts_with(|sign: char| sign.is_ascii_digit());
        let step = if plain {
            format!(".{name}")
        } else {
            format!("['{}']", name.replace('\'', "\\'"))
        };
        collect(inner, &next, &format!("{path}{step}"), found);
    }
    if let Some(items) = &seen.items {
        // A list counts as its items wherever a value is read.
        let next: Vec<&Used> = used.iter().filter_map(|one| one.any.as_deref()).collect();
        collect(items, &next, &format!("{path}[*]"), found);
    }
}
