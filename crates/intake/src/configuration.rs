//! The configuration file: by what the audit measures.

use crate::load::{LoadError, SourceText};
use crate::reading::{Many, Reading, Required, Spanned, TagMap, Written, record};
use crate::tree::{Node, Sink, Value};
use crate::yaml;
use heronshale_core::address::Family;
use heronshale_core::model::{Name, Service};
use heronshale_core::packet::Intervals;
use heronshale_core::source::{FileId, Span};
use heronshale_core::tuning::{Sensitive, Tuning};
use std::path::Path;

/// What a configuration file says in its field `format`.
pub const CONFIGURATION: &str = "heronshale-configuration";

record! {
    /// A configuration file, `heronshale.yaml`.
    WrittenConfiguration as "the configuration" {
        /// `heronshale-configuration`.
        format: Required<Spanned<Name>>,
        /// 1.
        version: Required<Spanned<u32>>,
        /// Tags of which each marks a workload or interface whose data must not leave. Default: data=restricted.
        marked: Option<Many<TagMap>>,
        /// Ports behind which a stranger does most harm, by sort; they stand instead of the built-in ones.
        sensitive_ports: Option<Many<WrittenSensitive>>,
        /// Where findings begin.
        thresholds: Option<WrittenThresholds>,
    }
}

record! {
    /// Sensitive ports of one sort.
    WrittenSensitive as "a sort of sensitive ports" {
        /// What listens there, as output names it.
        what: Required<Name>,
        /// The services.
        services: Many<Service>,
    }
}

record! {
    /// Where findings begin.
    WrittenThresholds as "thresholds" {
        /// mostly-empty-range: how many addresses a range has at least. Default: 4096.
        empty_range_addresses: Option<Spanned<u32>>,
        /// mostly-empty-range: no more than one in so many addresses is held. Default: 256.
        empty_range_share: Option<Spanned<u32>>,
    }
}

/// A document as one tree.
#[derive(Default)]
struct Whole {
    fields: Vec<(Node<'static>, Node<'static>)>,
}

fn owned(node: &Node<'_>) -> Node<'static> {
    let value = match &node.value {
        Value::Scalar(kind, text) => Value::Scalar(*kind, text.to_string().into()),
        Value::List(items) => Value::List(items.iter().map(owned).collect()),
        Value::Map(fields) => Value::Map(fields.iter().map(|(key, value)| (owned(key), owned(value))).collect()),
    };
    Node { span: node.span, value }
}

impl Sink for Whole {
    fn field(&mut self, key: &Node<'_>) {
        let empty = Node { span: key.span, value: Value::List(Vec::new()) };
        self.fields.push((owned(key), empty));
    }

    fn item(&mut self, index: Option<u32>, node: &Node<'_>) {
        let Some((_, value)) = self.fields.last_mut() else { return };
        match (index, &mut value.value) {
            (Some(_), Value::List(items)) => items.push(owned(node)),
            _ => *value = owned(node),
        }
    }
}

/// Reads a configuration file.
pub fn load_configuration(path: &Path) -> Result<Tuning, LoadError> {
    let text = std::fs::read_to_string(path)
        .map_err(|error| LoadError::Environment { what: format!("cannot read {}", path.display()), error })?;
    let name = path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned();
    let file = FileId(0);
    let mut whole = Whole::default();
    let mut reading = Reading::default();
    let mut tuning = Tuning::default();
    match yaml::read(file, &text, &mut whole) {
        Err(problem) => reading.problems.push(problem),
        Ok(()) => {
            let end = u32::try_from(text.len()).unwrap_or(u32::MAX);
            let node = Node { span: Span { file, start: 0, end: end.min(1) }, value: Value::Map(whole.fields) };
            if let Some(written) = WrittenConfiguration::read(&node, &mut reading) {
                tuning = build(written, &mut reading);
            }
        }
    }
    if reading.problems.is_empty() {
        return Ok(tuning);
    }
    Err(LoadError::Input { problems: reading.problems, texts: vec![SourceText { name, text }] })
}

fn build(written: WrittenConfiguration, at: &mut Reading) -> Tuning {
    let mut tuning = Tuning::default();
    let Spanned { span, value } = written.format.0;
    if &*value != CONFIGURATION {
        let help = format!("write `format: {CONFIGURATION}`");
        at.fail(span, format!("the format is `{value}`, not `{CONFIGURATION}`"), "here", Some(help));
    }
    let Spanned { span, value } = written.version.0;
    if value != 1 {
        at.fail(span, format!("version {value} of the configuration is not known"), "here", Some("write 1".to_owned()));
    }
    if let Some(marked) = written.marked {
        tuning.marks = marked.0.into_iter().flat_map(|tags| tags.0).collect();
    }
    if let Some(sensitive) = written.sensitive_ports {
        let one = |written: WrittenSensitive| {
            let numbers =
                written.services.0.iter().flat_map(|service| Family::BOTH.map(|family| service.numbers(family)));
            let services = numbers.fold(Intervals::empty(), |sum, numbers| sum.union(&numbers));
            Sensitive { what: written.what.0.to_string(), services }
        };
        tuning.sensitive = sensitive.0.into_iter().map(one).collect();
    }
    if let Some(thresholds) = written.thresholds {
        let mut set = |written: Option<Spanned<u32>>, to: &mut u128| {
            let Some(Spanned { span, value }) = written else { return };
            if value == 0 {
                at.fail(span, "a threshold of 0 means nothing".to_owned(), "here", Some("write 1 or more".to_owned()));
            }
            *to = u128::from(value);
        };
        set(thresholds.empty_range_addresses, &mut tuning.empty_range_addresses);
        set(thresholds.empty_range_share, &mut tuning.empty_range_share);
    }
    tuning
}

/// The JSON Schema of configuration files.
pub fn configuration_schema() -> serde_json::Value {
    let mut definitions = serde_json::Map::new();
    let whole = <WrittenConfiguration as Written>::schema(&mut definitions);
    let name = whole["$ref"].as_str().and_then(|path| path.rsplit('/').next()).unwrap_or_default();
    let mut schema = definitions.remove(name).unwrap_or(whole.clone());
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema".into();
    schema["title"] = "Heronshale configuration, version 1".into();
    schema["$defs"] = serde_json::Value::Object(definitions);
    schema
}
