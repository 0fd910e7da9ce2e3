//! Documentation from declarations: the snapshot format from its schema, the findings from their catalogue.

use heronshale_audit::finding::CATALOGUE;
use serde_json::{Map, Value};
use std::fmt::Write;

fn text<'v>(value: &'v Value, key: &str) -> &'v str {
    value[key].as_str().unwrap_or_default()
}

/// The record that a schema refers to, by itself or as the item of a list.
fn record_of(schema: &Value) -> Option<&str> {
    let direct = schema["$ref"]
        .as_str()
        .or_else(|| schema["items"]["$ref"].as_str());
    let nested = || {
        schema["anyOf"]
            .as_array()
            .into_iter()
            .flatten()
            .find_map(record_of)
    };
    direct
        .map(|path| path.trim_start_matches("#/$defs/"))
        .or_else(nested)
}

/// What a value looks like, in a few words.
fn shape(schema: &Value) -> String {
    if let Some(words) = schema["enum"].as_array() {
        return words
            .iter()
            .map(|word| format!("`{}`", word.as_str().unwrap_or_default()))
            .collect::<Vec<_>>()
            .join(", ");
    }
    if let Some(word) = schema["const"].as_str() {
        return format!("`{word}`");
    }
    if let Some(record) = record_of(schema) {
        return format!("[{0}](#{0})", heading(record));
    }
    if let Some(examples) = schema["examples"].as_array() {
        let shown = examples
            .iter()
            .take(4)
            .map(|example| format!("`{}`", example.to_string().trim_matches('"')));
        return shown.collect::<Vec<_>>().join(", ");
    }
    if let Some(choices) = schema["anyOf"].as_array() {
        let list = choices.iter().any(|choice| choice["type"] == "array");
        let others = choices.iter().filter(|choice| choice["type"] != "array");
        let one = others.map(shape).collect::<Vec<_>>().join("; or ");
        return if list {
            format!("{one}; one or a list")
        } else {
            one
        };
    }
    match (&schema["type"], schema["items"].is_null()) {
        (_, false) => format!("list of {}", shape(&schema["items"])),
        (Value::String(word), _) if word == "object" => "map".to_owned(),
        (Value::String(word), _) if word == "boolean" => "`true` or `false`".to_owned(),
        (Value::String(word), _) if word == "integer" => "whole number".to_owned(),
        _ => "text".to_owned(),
    }
}

/// `WrittenRouteTable` as `route-table`.
fn heading(record: &str) -> String {
    let mut out = String::new();
    for (at, character) in record.trim_start_matches("Written").chars().enumerate() {
        if character.is_uppercase() && at > 0 {
            out.push('-');
        }
        out.extend(character.to_lowercase());
    }
    out
}

fn fields(out: &mut String, record: &Value) {
    let required: Vec<&str> = record["required"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(Value::as_str)
        .collect();
    out.push_str("\n| field | value | meaning |\n|---|---|---|\n");
    for (name, schema) in record["properties"].as_object().into_iter().flatten() {
        let need = if required.contains(&name.as_str()) {
            " (required)"
        } else {
            ""
        };
        let meaning = text(schema, "description")
            .replace('\n', " ")
            .replace('|', "\\|");
        let _ = writeln!(
            out,
            "| `{name}`{need} | {} | {meaning} |",
            shape(schema).replace('|', "\\|")
        );
    }
}

/// Every section and record of a snapshot, from the schema; `examples` gives an example for a section.
pub fn snapshot_reference(schema: &Value, examples: &Map<String, Value>) -> String {
    let mut out = String::new();
    let mut told: Vec<String> = Vec::new();
    for (section, list) in schema["properties"].as_object().into_iter().flatten() {
        let Some(record) = record_of(list) else {
            continue;
        };
        let about = match text(list, "description") {
            "" => text(&schema["$defs"][record], "description"),
            about => about,
        };
        let _ = write!(out, "\n## `{section}`\n\n{about}\n");
        if let Some(example) = examples.get(section).and_then(Value::as_str) {
            let _ = write!(out, "\n```yaml\n{}\n```\n", example.trim_end());
        }
        records(&mut out, schema, vec![record.to_owned()], &mut told);
    }
    out
}

/// Records and those that they refer to, each once.
fn records(out: &mut String, schema: &Value, mut open: Vec<String>, told: &mut Vec<String>) {
    while let Some(name) = open.pop() {
        if told.contains(&name) {
            continue;
        }
        let definition = &schema["$defs"][&name];
        let _ = write!(
            out,
            "\n### {}\n\n{}\n",
            heading(&name),
            text(definition, "description")
        );
        if definition["properties"].is_object() {
            fields(out, definition);
        }
        open.extend(inner(definition));
        told.push(name);
    }
}

/// The records that the fields of one refer to, or that it may be.
fn inner(definition: &Value) -> impl Iterator<Item = String> {
    let fields = definition["properties"]
        .as_object()
        .into_iter()
        .flatten()
        .map(|(_, field)| field);
    let forms = definition["anyOf"].as_array().into_iter().flatten();
    fields.chain(forms).filter_map(record_of).map(str::to_owned)
}

/// A small document with all its records, from its schema; an example stands in front.
pub fn document_reference(schema: &Value, example: &str) -> String {
    let title = text(schema, "title")
        .trim_start_matches("Heronshale ")
        .split(',')
        .next()
        .unwrap_or_default();
    let mut out = format!(
        "\n## {title}\n\n{}\n\n```yaml\n{}\n```\n",
        text(schema, "description"),
        example.trim_end()
    );
    fields(&mut out, schema);
    records(&mut out, schema, inner(schema).collect(), &mut Vec::new());
    out
}

/// Every kind of finding, from the catalogue.
pub fn catalogue_reference() -> String {
    let mut out = String::from("\n| kind | severity | what it is |\n|---|---|---|\n");
    for kind in CATALOGUE {
        let _ = writeln!(
            out,
            "| [{0}](#{0}) | {1} | {2} |",
            kind.name,
            kind.base.word(),
            kind.about
        );
    }
    for kind in CATALOGUE {
        let _ = write!(
            out,
            "\n## {}\n\n{}\n\n**Why it matters.** {}\n\n**When.** {}\n\n**Severity.** {}",
            kind.name,
            kind.about,
            kind.why,
            kind.triggers,
            kind.base.word()
        );
        for factor in kind.factors {
            let _ = write!(out, "; {factor}");
        }
        let _ = write!(
            out,
            ".\n\n**Fix.** {}\n\n**Side effects.** {}\n\n```yaml\n{}\n```\n",
            kind.fix,
            kind.side_effects,
            kind.example.trim_end()
        );
    }
    out
}
