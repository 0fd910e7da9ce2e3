//! From trees to fields: reads what the format declares, collects every error, and draws the schema from the same
//! declarations.

use crate::slips::other_word;
use crate::tree::{Node, Scalar, Value};
use heronshale_model::estate::Name;
use heronshale_model::source::{Problem, Span};
use serde_json::{Map, Value as Json, json};

/// The errors found so far.
#[derive(Default)]
pub(crate) struct Reading {
    pub problems: Vec<Problem>,
}

/// To so many problems it is said what may have been meant: no more are shown, and each is a search through all names.
pub(crate) const MOST_HELPED: usize = 200;

impl Reading {
    /// Records a problem.
    pub fn fail(
        &mut self,
        span: Span,
        title: String,
        label: impl Into<String>,
        help: Option<String>,
    ) {
        self.problems.push(Problem {
            title,
            span,
            label: label.into(),
            related: None,
            help,
        });
    }

    /// Records that a value has the wrong shape.
    pub fn expected(&mut self, node: &Node<'_>, wanted: &str, help: Option<String>) {
        let found = node.describe();
        self.fail(
            node.span,
            format!("expected {wanted}, found {found}"),
            format!("this is {found}"),
            help,
        );
    }
}

/// `did you mean "x"?` for the nearest of the candidates, if one is near.
pub fn did_you_mean<'c>(
    given: &str,
    candidates: impl IntoIterator<Item = &'c str>,
) -> Option<String> {
    let lower = given.to_lowercase();
    let long = given.chars().count();
    // Short words are near to everything.
    let most = if long < 5 { 1 } else { long / 3 + 1 };
    // What is much longer or shorter is not near.
    let comes_near = |name: &&'c str| name.chars().count().abs_diff(long) <= most;
    let near = |name: &'c str| {
        (
            strsim::damerau_levenshtein(&lower, &name.to_lowercase()),
            name,
        )
    };
    let best = candidates
        .into_iter()
        .filter(comes_near)
        .map(near)
        .filter(|(distance, _)| *distance <= most)
        .min();
    best.map(|(_, name)| format!("did you mean `{name}`?"))
}

/// Whether a field is there with its value right behind the colon, so that it has another name.
pub(crate) fn is_glued(node: &Node<'_>, field: &str) -> bool {
    let Value::Map(fields) = &node.value else {
        return false;
    };
    fields.iter().any(|(key, _)| match &key.value {
        Value::Scalar(_, name) => name
            .strip_prefix(field)
            .is_some_and(|rest| rest.starts_with(':')),
        _ => false,
    })
}

/// The records that the schema has met, by name.
pub(crate) type Definitions = Map<String, Json>;

/// A value of the format: how it is read and how the schema describes it.
pub(crate) trait Written: Sized {
    /// Whether it is a record: of a list of records those that can be read are kept, so that the errors of a whole file are
    /// told at once. The estate is refused all the same.
    const RECORD: bool = false;
    /// Reads it; on an error it is recorded and nothing comes back.
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self>;
    /// Its JSON Schema.
    fn schema(definitions: &mut Definitions) -> Json;
}

/// A field of a record: required, optional, or a list.
pub(crate) trait Field: Sized {
    /// Whether the record is wrong without it.
    const REQUIRED: bool;
    /// Reads it, or stands in for its absence.
    fn read(node: Option<&Node<'_>>, at: &mut Reading) -> Option<Self>;
    /// Its JSON Schema.
    fn schema(definitions: &mut Definitions) -> Json;
}

/// A field without which the record is wrong; the record reports its absence.
#[derive(Clone, Debug)]
pub(crate) struct Required<T>(pub T);

impl<T: Written> Field for Required<T> {
    const REQUIRED: bool = true;
    fn read(node: Option<&Node<'_>>, at: &mut Reading) -> Option<Self> {
        T::read(node?, at).map(Self)
    }
    fn schema(definitions: &mut Definitions) -> Json {
        T::schema(definitions)
    }
}

impl<T: Written> Field for Option<T> {
    const REQUIRED: bool = false;
    fn read(node: Option<&Node<'_>>, at: &mut Reading) -> Option<Self> {
        match node {
            None => Some(None),
            Some(node) => T::read(node, at).map(Some),
        }
    }
    fn schema(definitions: &mut Definitions) -> Json {
        T::schema(definitions)
    }
}

/// A list of any length; one value alone stands for a list of one. Absent counts as empty.
#[derive(Clone, Debug)]
pub(crate) struct Many<T>(pub Vec<T>);

impl<T> Default for Many<T> {
    fn default() -> Self {
        Self(Vec::new())
    }
}

impl<T: Written> Field for Many<T> {
    const REQUIRED: bool = false;
    fn read(node: Option<&Node<'_>>, at: &mut Reading) -> Option<Self> {
        node.map_or_else(
            || Some(Self::default()),
            |node| <Self as Written>::read(node, at),
        )
    }
    fn schema(definitions: &mut Definitions) -> Json {
        <Self as Written>::schema(definitions)
    }
}

impl<T: Written> Written for Many<T> {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        let Value::List(items) = &node.value else {
            return T::read(node, at).map(|item| Self(vec![item]));
        };
        let read: Vec<Option<T>> = items.iter().map(|item| T::read(item, at)).collect();
        if T::RECORD {
            return Some(Self(read.into_iter().flatten().collect()));
        }
        read.into_iter().collect::<Option<Vec<T>>>().map(Self)
    }
    fn schema(definitions: &mut Definitions) -> Json {
        let item = T::schema(definitions);
        json!({ "anyOf": [ { "type": "array", "items": item }, item ] })
    }
}

/// A value and its bytes.
#[derive(Clone, Debug)]
pub(crate) struct Spanned<T> {
    pub span: Span,
    pub value: T,
}

impl<T: Written> Written for Spanned<T> {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        T::read(node, at).map(|value| Self {
            span: node.span,
            value,
        })
    }
    fn schema(definitions: &mut Definitions) -> Json {
        T::schema(definitions)
    }
}

/// Reads a text; a number counts as the text it is written with.
pub(crate) fn text_of<'n>(node: &'n Node<'_>, at: &mut Reading, wanted: &str) -> Option<&'n str> {
    match &node.value {
        Value::Scalar(Scalar::Text | Scalar::Number, text) => Some(text),
        Value::Scalar(Scalar::Bool, text) => {
            at.expected(
                node,
                wanted,
                Some(format!("for a text, write quotes: \"{text}\"")),
            );
            None
        }
        Value::Scalar(Scalar::Null, _) => {
            at.expected(
                node,
                wanted,
                Some("leave the field out if there is none".to_owned()),
            );
            None
        }
        _ => {
            at.expected(node, wanted, None);
            None
        }
    }
}

/// Longer names are refused.
const LONGEST_NAME: usize = 512;

impl Written for Name {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        let text = text_of(node, at, "a text")?;
        if text.trim().is_empty() {
            at.fail(
                node.span,
                "a text must not be empty".to_owned(),
                "nothing here",
                None,
            );
            return None;
        }
        if text.len() > LONGEST_NAME {
            let title = format!(
                "a text may have {LONGEST_NAME} bytes, this one has {}",
                text.len()
            );
            at.fail(node.span, title, "too long", None);
            return None;
        }
        Some(text.into())
    }
    fn schema(_: &mut Definitions) -> Json {
        json!({ "type": ["string", "number"], "minLength": 1, "maxLength": LONGEST_NAME })
    }
}

/// A text that may be long and spread over lines.
#[derive(Clone, Debug)]
pub(crate) struct Prose(pub Name);

impl Written for Prose {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        text_of(node, at, "a text").map(|text| Self(text.into()))
    }
    fn schema(_: &mut Definitions) -> Json {
        json!({ "type": "string" })
    }
}

impl Written for bool {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        match &node.value {
            Value::Scalar(Scalar::Bool, text) => Some(text.eq_ignore_ascii_case("true")),
            Value::Scalar(Scalar::Text, text) => {
                let hint = match text.to_ascii_lowercase().as_str() {
                    "yes" | "on" => Some("write `true`".to_owned()),
                    "no" | "off" => Some("write `false`".to_owned()),
                    _ => None,
                };
                at.expected(node, "true or false", hint);
                None
            }
            _ => {
                at.expected(node, "true or false", None);
                None
            }
        }
    }
    fn schema(_: &mut Definitions) -> Json {
        json!({ "type": "boolean" })
    }
}

impl Written for u32 {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        let Value::Scalar(Scalar::Number, text) = &node.value else {
            at.expected(
                node,
                "a whole number",
                Some("write it in digits, such as 100".to_owned()),
            );
            return None;
        };
        let number = text.parse().ok();
        if number.is_none() {
            at.fail(
                node.span,
                format!("expected a whole number from 0 to {}", Self::MAX),
                "this is none",
                None,
            );
        }
        number
    }
    fn schema(_: &mut Definitions) -> Json {
        json!({ "type": "integer", "minimum": 0, "maximum": Self::MAX })
    }
}

/// A moment: a date counts as its end, in UTC.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Moment(pub jiff::Timestamp);

/// Reads `2026-11-02T06:00:00Z`, or a date, which means the end of that day in UTC.
pub fn parse_moment(text: &str) -> Option<jiff::Timestamp> {
    let day_end = || {
        let date: jiff::civil::Date = text
            .parse()
            .ok()
            .filter(|_| text.len() == "2026-11-02".len())?;
        let next: jiff::Timestamp = format!("{}T00:00:00Z", date.tomorrow().ok()?)
            .parse()
            .ok()?;
        next.checked_sub(jiff::SignedDuration::from_nanos(1)).ok()
    };
    text.parse::<jiff::Timestamp>().ok().or_else(day_end)
}

impl Written for Moment {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        let text = text_of(node, at, "a date or a moment")?;
        let moment = parse_moment(text);
        if moment.is_none() {
            let help =
                "write 2026-11-02 (the end of that day, UTC) or 2026-11-02T06:00:00Z".to_owned();
            at.fail(
                node.span,
                format!("`{text}` is not a date"),
                "not understood",
                Some(help),
            );
        }
        moment.map(Self)
    }
    fn schema(_: &mut Definitions) -> Json {
        json!({ "type": "string", "examples": ["2026-11-02", "2026-11-02T06:00:00Z"] })
    }
}

/// Keys and values.
#[derive(Clone, Debug, Default)]
pub(crate) struct TagMap(pub Vec<(Name, Name)>);

impl Written for TagMap {
    fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
        let Value::Map(fields) = &node.value else {
            at.expected(
                node,
                "a map of keys and values",
                Some("for example { role: web }".to_owned()),
            );
            return None;
        };
        let pair = |(key, value): &(Node<'_>, Node<'_>), at: &mut Reading| {
            let key = Name::read(key, at);
            let text = text_of(value, at, "a text")?;
            Some((key?, text.into()))
        };
        let read: Vec<Option<(Name, Name)>> = fields.iter().map(|field| pair(field, at)).collect();
        let mut tags = read.into_iter().collect::<Option<Vec<_>>>()?;
        tags.sort();
        if let Some(twice) = tags.windows(2).find(|pair| pair[0].0 == pair[1].0) {
            at.fail(
                node.span,
                format!("the key `{}` appears twice", twice[0].0),
                "in this map",
                None,
            );
            return None;
        }
        Some(Self(tags))
    }
    fn schema(_: &mut Definitions) -> Json {
        json!({ "type": "object", "additionalProperties": { "type": ["string", "number"] } })
    }
}

/// The fields of a map by name: unknown and repeated ones are reported.
pub(crate) fn fields_of<'n, 't>(
    node: &'n Node<'t>,
    known: &[&str],
    what: &str,
    at: &mut Reading,
) -> Option<Vec<(&'n str, &'n Node<'t>)>> {
    let Value::Map(fields) = &node.value else {
        let some = known
            .iter()
            .take(3)
            .map(|field| format!("{field}: …"))
            .collect::<Vec<_>>()
            .join(", ");
        at.expected(
            node,
            &format!("{what}, a map of fields"),
            Some(format!("write {{ {some} }}")),
        );
        return None;
    };
    let mut found: Vec<(&str, &Node<'t>)> = Vec::with_capacity(fields.len());
    for (at_field, (key, value)) in fields.iter().enumerate() {
        let Value::Scalar(_, name) = &key.value else {
            continue;
        };
        // A comma outside of brackets makes a field of the second value.
        let before = at_field
            .checked_sub(1)
            .and_then(|before| fields.get(before));
        let torn = before.filter(|_| matches!(value.value, Value::Scalar(Scalar::Null, _)));
        let torn =
            torn.and_then(|(key, value)| crate::tree::text(key).zip(crate::tree::text(value)));
        if found.iter().any(|(other, _)| other == name) {
            at.fail(
                key.span,
                format!("the field `{name}` appears twice"),
                "a second time",
                None,
            );
        } else if known.contains(&name.as_ref()) {
            found.push((name, value));
        } else {
            let all = format!("the fields of {what} are {}", known.join(", "));
            let glued = name
                .split_once(':')
                .filter(|(field, _)| known.contains(field));
            let help = match (glued, torn) {
                (_, Some((field, first))) => {
                    format!("write several values in brackets: `{field}: [{first}, {name}]`")
                }
                (Some((field, value)), _) => {
                    format!("write `{field}: {value}`, with a space after the colon")
                }
                _ => other_word(name, known)
                    .or_else(|| did_you_mean(name, known.iter().copied()))
                    .unwrap_or(all),
            };
            at.fail(
                key.span,
                format!("{what} has no field `{name}`"),
                "unknown field",
                Some(help),
            );
        }
    }
    Some(found)
}

/// Declares a record of the format: the struct, its reader and its schema, from one list of fields.
macro_rules! record {
    (
        $(#[doc = $about:literal])+
        $name:ident as $what:literal {
            $( $(#[doc = $doc:literal])+ $field:ident : $type:ty ),* $(,)?
        }
    ) => {
        $(#[doc = $about])+
        #[derive(Clone, Debug)]
        #[allow(dead_code, reason = "a record declares all that may be written; not every place needs all of it")]
        pub(crate) struct $name {
            pub span: heronshale_model::source::Span,
            $( $(#[doc = $doc])+ pub $field: $type, )*
        }

        impl $crate::reading::Written for $name {
            const RECORD: bool = true;

            fn read(node: &$crate::tree::Node<'_>, at: &mut $crate::reading::Reading) -> Option<Self> {
                const KNOWN: &[&str] = &[$(stringify!($field)),*];
                let fields = $crate::reading::fields_of(node, KNOWN, $what, at)?;
                $(
                    let found = fields.iter().find(|(name, _)| *name == stringify!($field)).map(|(_, node)| *node);
                    let glued = || $crate::reading::is_glued(node, stringify!($field));
                    if found.is_none() && <$type as $crate::reading::Field>::REQUIRED && !glued() {
                        let title = format!("{} needs the field `{}`", $what, stringify!($field));
                        let help = concat!($($doc,)+).trim().to_owned();
                        at.fail(node.span, title, "in here", Some(format!("{}: {help}", stringify!($field))));
                    }
                    let $field = <$type as $crate::reading::Field>::read(found, at);
                )*
                Some(Self { span: node.span, $($field: $field?,)* })
            }

            fn schema(definitions: &mut $crate::reading::Definitions) -> serde_json::Value {
                let name = stringify!($name);
                if !definitions.contains_key(name) {
                    definitions.insert(name.to_owned(), serde_json::Value::Null);
                    let mut properties = serde_json::Map::new();
                    let mut required: Vec<&str> = Vec::new();
                    $(
                        let mut schema = <$type as $crate::reading::Field>::schema(definitions);
                        schema["description"] = concat!($($doc, "\n",)+).trim().into();
                        properties.insert(stringify!($field).to_owned(), schema);
                        if <$type as $crate::reading::Field>::REQUIRED {
                            required.push(stringify!($field));
                        }
                    )*
                    definitions.insert(name.to_owned(), serde_json::json!({
                        "description": concat!($($about, "\n",)+).trim(),
                        "type": "object", "properties": properties, "required": required,
                        "additionalProperties": false,
                    }));
                }
                serde_json::json!({ "$ref": format!("#/$defs/{name}") })
            }
        }
    };
}
pub(crate) use record;

/// Declares how the words of a field stand for the values of a type.
macro_rules! choices {
    ($type:ty as $what:literal { $($word:literal => $value:expr),* $(,)? }) => {
        impl $crate::reading::Written for $type {
            fn read(node: &$crate::tree::Node<'_>, at: &mut $crate::reading::Reading) -> Option<Self> {
                const WORDS: &[&str] = &[$($word),*];
                let text = $crate::reading::text_of(node, at, $what)?;
                match text {
                    $($word => Some($value),)*
                    other => {
                        let all = format!("one of {}", WORDS.join(", "));
                        let help = $crate::reading::did_you_mean(other, WORDS.iter().copied()).unwrap_or(all);
                        at.fail(node.span, format!("`{other}` is not a valid {}", $what), "unknown word", Some(help));
                        None
                    }
                }
            }
            fn schema(_: &mut $crate::reading::Definitions) -> serde_json::Value {
                serde_json::json!({ "enum": [$($word),*] })
            }
        }
    };
}
pub(crate) use choices;
