//! A profile as written: which nodes of an export are which objects, and which values give which fields.

use crate::reading::{
    Definitions, Many, Prose, Reading, Required, Spanned, Written, choices, record, text_of,
};
use crate::tree::{Node, Scalar, Value};
use heronshale_model::estate::Name;
use heronshale_model::source::Span;
use serde_json::{Value as Json, json};

/// What a profile says in its field `format`.
pub const PROFILE: &str = "heronshale-profile";

record! {
    /// How an export is read: which of its nodes are which objects of a snapshot, and which expressions give their fields.
    WrittenProfile as "the profile" {
        /// `heronshale-profile`.
        format: Required<Spanned<Name>>,
        /// 1.
        version: Required<Spanned<u32>>,
        /// What the exports are called in output.
        name: Required<Name>,
        /// For whom it is, and where the exports come from.
        about: Option<Prose>,
        /// Whether it is a draft, which nothing is imported by: take this away once you have worked on it.
        draft: Option<Spanned<bool>>,
        /// Tables from the export's words to the snapshot's, by name; `table` in a value names one.
        tables: Option<Tables>,
        /// Sheets whose columns have other names: each header and the name by which paths know the column. `export --profile` writes these headers.
        columns: Option<Table>,
        /// The estate as a whole: its fields, from one node.
        estate: Option<WrittenEstateRecord>,
        /// The objects.
        records: Many<WrittenRecords>,
        /// What to ask of an API, if the exports are collected.
        collect: Option<WrittenCollect>,
        /// What of the export is left out on purpose.
        ignored: Many<WrittenIgnored>,
    }
}

record! {
    /// The estate's own fields.
    WrittenEstateRecord as "the estate's fields" {
        /// In which files the node stands: patterns with * and **, from the folder that was given. Default: all.
        files: Many<Spanned<Name>>,
        /// The node, a JSONPath (RFC 9535). Default: $, each document.
        from: Option<Spanned<Name>>,
        /// The fields of `estate` and how each is made.
        fields: Required<Fields>,
    }
}

record! {
    /// Nodes that are objects of one kind.
    WrittenRecords as "records" {
        /// The section of the snapshot: networks, interfaces, security_groups …
        into: Required<Spanned<Name>>,
        /// In which files they stand: patterns with * and **, from the folder that was given. Default: all.
        files: Many<Spanned<Name>>,
        /// The nodes, a JSONPath (RFC 9535); below `inside`, from the record around it. Default: $, each document.
        from: Option<Spanned<Name>>,
        /// Only nodes in which each of these JSONPaths finds something. A condition on the node itself is written `$[?@.state == "live"]` at `from`.
        when: Many<Spanned<Name>>,
        /// Only nodes for which each of these gives a value: what `when` cannot ask, because it stands in other records.
        having: Many<WrittenValue>,
        /// Nodes for which this gives the same are one record: a list of them, in order; `$[0]` is the first of them, `$[*]` are all. For sheets with a row for each rule.
        gather: Option<WrittenValue>,
        /// The fields and how each is made.
        fields: Required<Fields>,
        /// Objects that lie in these nodes.
        inside: Many<WrittenRecords>,
    }
}

record! {
    /// What to ask of an API.
    WrittenCollect as "the collection" {
        /// How the token is sent; without it none is.
        token: Option<WrittenToken>,
        /// The requests.
        requests: Many<WrittenRequest>,
    }
}

record! {
    /// How the token is sent.
    WrittenToken as "the token" {
        /// The variable of the environment that holds it.
        environment: Required<Name>,
        /// The header. Default: Authorization.
        header: Option<Name>,
        /// What stands in it, with {token}. Default: Bearer {token}.
        text: Option<Name>,
    }
}

record! {
    /// A request, and all pages of its answer.
    WrittenRequest as "a request" {
        /// The path, and perhaps a query, behind the URL that is given; with `each`, names of `with` in braces.
        get: Required<Spanned<Name>>,
        /// The file that keeps the answer, without ending: each page is a line of NAME.jsonl. With `each`, names of `with` in braces.
        save: Required<Spanned<Name>>,
        /// Where in an answer the link to the next page stands, a JSONPath; it has to lead to the same host.
        next: Option<Spanned<Name>>,
        /// One request for each of these records of answers before.
        each: Option<WrittenEach>,
        /// What is missing from the snapshot if there is no answer: its kind and name, as in `gaps`. Without it nothing is imported then.
        gap: Option<Spanned<Name>>,
        /// Which part of it, as in `gaps`. Default: everything.
        lacks: Option<Name>,
        /// Whether it is of an extension, which the API may not have: then it answers with 404, and there is none of it. Default: false.
        extension: Option<bool>,
    }
}

record! {
    /// Records from which further requests follow.
    WrittenEach as "records of an answer" {
        /// The `save` of the request that they are from.
        saved: Required<Spanned<Name>>,
        /// The records, a JSONPath from each page.
        from: Required<Spanned<Name>>,
        /// What fills the names in `get`, `save` and `gap`.
        with: Required<Fields>,
    }
}

record! {
    /// A part of the export that has no bearing.
    WrittenIgnored as "what is ignored" {
        /// The part, as the coverage names it: a path of names, with `[*]` for every item of a list; `.*` is any name.
        path: Required<Spanned<Name>>,
        /// Why it has no bearing.
        because: Required<Name>,
    }
}

record! {
    /// How a value is made: one source, then what is done to it, in the order in which the fields stand here.
    WrittenMade as "a value" {
        /// Source: what a JSONPath finds in the record. Lists count as their items, null as nothing.
        path: Option<Spanned<Name>>,
        /// Source: these, whatever the record says.
        constant: Option<Constants>,
        /// Source: a value of the record around this one.
        outer: Option<Box<WrittenValue>>,
        /// Source: the file in which the record stands: its `name`, or its `stem` (without folder and ending).
        file: Option<FilePart>,
        /// Source, as `true`: the name of the member that the record is, where records are the members of an object.
        member: Option<bool>,
        /// Source: the values of all of these, in order.
        all_of: Option<Many<WrittenValue>>,
        /// Source: the first of these that has any value.
        first_of: Option<Many<WrittenValue>>,
        /// Source: a text with {NAMES}, each filled with a value of `with`; with several values, every combination.
        text: Option<Spanned<Name>>,
        /// For `text`: what fills its names.
        with: Option<Fields>,
        /// Source: an object for every node that a JSONPath finds, or that a value gives: a `lookup` whose `take` is $ gives whole records. `fields` says how; in them `outer` leads to this record.
        each: Option<Box<WrittenValue>>,
        /// For `each`: the fields of the objects.
        fields: Option<Fields>,
        /// Source: a value for every node that a JSONPath finds, or that a value gives; `give` says which. In it `outer` leads to this record.
        every: Option<Box<WrittenValue>>,
        /// For `every`: the value.
        give: Option<Box<WrittenValue>>,
        /// Source: keys and values, one for every node that a JSONPath finds; `key` and `value` say how.
        pairs: Option<Spanned<Name>>,
        /// For `pairs`: the key.
        key: Option<Box<WrittenValue>>,
        /// For `pairs`: the value.
        value: Option<Box<WrittenValue>>,
        /// Each value is an id: what another record of the exports says takes its place. An id that no record has stays, and is counted as unresolved.
        lookup: Option<WrittenLookup>,
        /// Each text is split at this.
        split: Option<Prose>,
        /// Each text has to match this regular expression, whole; `becomes` says what comes of it.
        pattern: Option<Spanned<Name>>,
        /// For `pattern`: the text that comes of it, with $1 or ${name} for its groups. Default: $0.
        becomes: Option<Prose>,
        /// Each value is a word of this table: a name from `tables`, or a table written here.
        table: Option<TableUse>,
        /// For `table` and `pattern`: a value that is not there is an error; `keep` keeps it, `leave-out` drops it. For `lookup`: `keep` keeps a value that is not an id, and does not count it; `leave-out` drops it.
        otherwise: Option<Otherwise>,
        /// These are dropped.
        without: Option<Constants>,
        /// Of equal values one is kept.
        once: Option<bool>,
        /// Where nothing is left: this.
        default: Option<Box<WrittenValue>>,
        /// Where nothing is left: an error.
        needed: Option<bool>,
    }
}

record! {
    /// A join by id.
    WrittenLookup as "a lookup" {
        /// The records, a JSONPath from the whole document.
        in_records: Required<Spanned<Name>>,
        /// In which files they stand. Default: all.
        files: Many<Spanned<Name>>,
        /// Their id.
        by: Required<Box<WrittenValue>>,
        /// What they give.
        take: Required<Box<WrittenValue>>,
    }
}

/// What becomes of a value that a table or pattern does not know.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Otherwise {
    Keep,
    LeaveOut,
}

choices!(Otherwise as "keep or leave-out" { "keep" => Self::Keep, "leave-out" => Self::LeaveOut });

/// What of a file's name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum FilePart {
    Name,
    Stem,
}

choices!(FilePart as "part of a file's name" { "name" => Self::Name, "stem" => Self::Stem });

impl<T: Written> Written for Box<T> {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        T::read(node, at).map(Self::new)
    }
    fn schema(definitions: &mut Definitions) -> Json {
        T::schema(definitions)
    }
}

/// A constant as it stands: a text, a number, true or false.
fn constant(node: &Node<'_>, at: &mut Reading) -> Option<Json> {
    match &node.value {
        Value::Scalar(Scalar::Text, text) => Some(Json::from(text.as_ref())),
        Value::Scalar(Scalar::Bool, text) => Some(Json::from(text.eq_ignore_ascii_case("true"))),
        Value::Scalar(Scalar::Number, text) => Some(
            text.parse::<i64>()
                .map_or_else(|_| Json::from(text.as_ref()), Json::from),
        ),
        _ => {
            at.expected(node, "a text, a number, true or false", None);
            None
        }
    }
}

/// One constant or several.
#[derive(Clone, Debug)]
pub(crate) struct Constants(pub Vec<Json>);

impl Written for Constants {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        match &node.value {
            Value::List(items) => {
                let read: Vec<Option<Json>> = items.iter().map(|item| constant(item, at)).collect();
                read.into_iter().collect::<Option<Vec<_>>>().map(Self)
            }
            _ => constant(node, at).map(|one| Self(vec![one])),
        }
    }
    fn schema(_: &mut Definitions) -> Json {
        let one = json!({ "type": ["string", "number", "boolean"] });
        json!({ "anyOf": [one, { "type": "array", "items": one }] })
    }
}

/// A table: the export's words and what each stands for.
#[derive(Clone, Debug, Default)]
pub(crate) struct Table(pub Vec<(String, Vec<Json>)>);

impl Written for Table {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        let Value::Map(fields) = &node.value else {
            at.expected(
                node,
                "a table: words and what they stand for",
                Some("{ permit: allow, refuse: deny }".into()),
            );
            return None;
        };
        let read: Vec<Option<(String, Vec<Json>)>> = fields
            .iter()
            .map(|(key, value)| match &key.value {
                Value::Scalar(_, word) => {
                    Constants::read(value, at).map(|to| (word.to_string(), to.0))
                }
                _ => None,
            })
            .collect();
        let rows = read.into_iter().collect::<Option<Vec<_>>>()?;
        for (index, (word, _)) in rows.iter().enumerate() {
            if rows[..index].iter().any(|(other, _)| other == word) {
                at.fail(
                    fields[index].0.span,
                    format!("`{word}` appears twice"),
                    "a second time",
                    None,
                );
            }
        }
        Some(Self(rows))
    }
    fn schema(definitions: &mut Definitions) -> Json {
        json!({ "type": "object", "additionalProperties": Constants::schema(definitions) })
    }
}

/// Tables by name.
#[derive(Clone, Debug, Default)]
pub(crate) struct Tables(pub Vec<(String, Table)>);

impl Written for Tables {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        let Value::Map(fields) = &node.value else {
            at.expected(node, "tables by name", None);
            return None;
        };
        let read: Vec<Option<(String, Table)>> = fields
            .iter()
            .map(|(key, value)| match &key.value {
                Value::Scalar(_, name) => {
                    Table::read(value, at).map(|table| (name.to_string(), table))
                }
                _ => None,
            })
            .collect();
        read.into_iter().collect::<Option<Vec<_>>>().map(Self)
    }
    fn schema(definitions: &mut Definitions) -> Json {
        json!({ "type": "object", "additionalProperties": Table::schema(definitions) })
    }
}

/// A table by name, or written where it is used.
#[derive(Clone, Debug)]
pub(crate) enum TableUse {
    Named(Span, String),
    Here(Table),
}

impl Written for TableUse {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        match &node.value {
            Value::Map(_) => Table::read(node, at).map(Self::Here),
            _ => text_of(node, at, "a table's name, or a table")
                .map(|name| Self::Named(node.span, name.to_owned())),
        }
    }
    fn schema(definitions: &mut Definitions) -> Json {
        json!({ "anyOf": [{ "type": "string" }, Table::schema(definitions)] })
    }
}

/// How a value is made.
#[derive(Clone, Debug)]
pub(crate) struct WrittenValue {
    pub span: Span,
    pub kind: WrittenKind,
}

/// Its forms.
#[derive(Clone, Debug)]
pub(crate) enum WrittenKind {
    /// A text that begins with `$`.
    Path(String),
    /// Any other scalar.
    Constant(Json),
    /// A list: all of these.
    List(Vec<WrittenValue>),
    /// A map.
    Made(Box<WrittenMade>),
}

impl Written for WrittenValue {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        let kind = match &node.value {
            Value::Scalar(Scalar::Text, text) if text.starts_with('$') => {
                WrittenKind::Path(text.to_string())
            }
            Value::Scalar(..) => WrittenKind::Constant(constant(node, at)?),
            Value::List(items) => {
                let read: Vec<Option<Self>> =
                    items.iter().map(|item| Self::read(item, at)).collect();
                WrittenKind::List(read.into_iter().collect::<Option<Vec<_>>>()?)
            }
            Value::Map(_) => WrittenKind::Made(Box::new(WrittenMade::read(node, at)?)),
        };
        Some(Self {
            span: node.span,
            kind,
        })
    }
    fn schema(definitions: &mut Definitions) -> Json {
        let made = WrittenMade::schema(definitions);
        let name = "WrittenValue";
        if !definitions.contains_key(name) {
            definitions.insert(
                name.to_owned(),
                json!({
                    "description": "A text that begins with $ is a JSONPath (RFC 9535) from the record; any other text, number, true or false stands for itself; a list is all of its values in order; a map says more.",
                    "anyOf": [
                        { "type": ["string", "number", "boolean"] },
                        { "type": "array", "items": { "$ref": "#/$defs/WrittenValue" } },
                        made,
                    ],
                }),
            );
        }
        json!({ "$ref": "#/$defs/WrittenValue" })
    }
}

/// Fields by name, and how each is made.
#[derive(Clone, Debug, Default)]
pub(crate) struct Fields(pub Vec<(Spanned<String>, WrittenValue)>);

impl Written for Fields {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        let Value::Map(fields) = &node.value else {
            at.expected(
                node,
                "fields and how each is made",
                Some("for example { id: $.name }".to_owned()),
            );
            return None;
        };
        let mut read = Vec::new();
        let mut whole = true;
        for (key, value) in fields {
            let Value::Scalar(_, name) = &key.value else {
                continue;
            };
            match WrittenValue::read(value, at) {
                Some(made) => read.push((
                    Spanned {
                        span: key.span,
                        value: name.to_string(),
                    },
                    made,
                )),
                None => whole = false,
            }
        }
        whole.then_some(Self(read))
    }
    fn schema(definitions: &mut Definitions) -> Json {
        json!({ "type": "object", "additionalProperties": WrittenValue::schema(definitions) })
    }
}

/// The schema of profiles.
pub fn profile_schema() -> Json {
    crate::document::schema_of::<WrittenProfile>("Heronshale profile, version 1")
}

/// Whether a field stands there: for checks that a value has one source.
pub(crate) fn sources(made: &WrittenMade) -> Vec<&'static str> {
    let all = [
        (made.path.is_some(), "path"),
        (made.constant.is_some(), "constant"),
        (made.outer.is_some(), "outer"),
        (made.file.is_some(), "file"),
        (made.member == Some(true), "member"),
        (made.all_of.is_some(), "all_of"),
        (made.first_of.is_some(), "first_of"),
        (made.text.is_some(), "text"),
        (made.each.is_some(), "each"),
        (made.every.is_some(), "every"),
        (made.pairs.is_some(), "pairs"),
    ];
    all.into_iter()
        .filter(|(there, _)| *there)
        .map(|(_, name)| name)
        .collect()
}

/// The fields that a record or value needs are there.
pub(crate) fn missing<T>(value: Option<&T>, what: &str, span: Span, at: &mut Reading) -> bool {
    if value.is_none() {
        at.fail(
            span,
            format!("this value needs the field `{what}`"),
            "in here",
            None,
        );
    }
    value.is_none()
}
