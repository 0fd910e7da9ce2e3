//! A drafted profile as YAML.

use serde_json::Value as Json;
use std::fmt::Write;

/// Wider lines are taken apart.
const WIDEST: usize = 120;

/// As YAML takes a text: plain, or quoted as JSON is.
pub(super) fn quoted(text: &str) -> String {
    let plain = |sign: char| sign.is_ascii_alphanumeric() || "$._-/".contains(sign);
    let word = matches!(
        text.to_lowercase().as_str(),
        "true" | "false" | "null" | "yes" | "no" | "on" | "off" | "y" | "n"
    );
    let begins = text.starts_with(|sign: char| sign.is_ascii_alphabetic() || sign == '$');
    if begins && !word && text.chars().all(plain) {
        text.to_owned()
    } else {
        Json::from(text).to_string()
    }
}

/// As a comment takes a text: in one line.
pub(super) fn line(text: &str) -> String {
    text.escape_debug()
        .to_string()
        .replace("\\\"", "\"")
        .replace("\\'", "'")
}

/// A value in one line.
fn flow(value: &Json) -> String {
    match value {
        Json::String(text) => quoted(text),
        Json::Array(items) => format!(
            "[{}]",
            items.iter().map(flow).collect::<Vec<_>>().join(", ")
        ),
        Json::Object(fields) => {
            let fields: Vec<String> = fields
                .iter()
                .map(|(key, value)| format!("{}: {}", quoted(key), flow(value)))
                .collect();
            format!("{{ {} }}", fields.join(", "))
        }
        other => other.to_string(),
    }
}

/// Writes `head: value`, in one line if it is not too wide.
pub(super) fn field(out: &mut String, indent: usize, head: &str, value: &Json) {
    let short = flow(value);
    let pad = " ".repeat(indent);
    if indent + head.len() + short.len() + 2 <= WIDEST || !(value.is_object() || value.is_array()) {
        let _ = writeln!(out, "{pad}{head}: {short}");
        return;
    }
    let _ = writeln!(out, "{pad}{head}:");
    match value {
        Json::Object(fields) => {
            for (key, value) in fields {
                field(out, indent + 2, &quoted(key), value);
            }
        }
        Json::Array(items) => {
            for value in items {
                item(out, indent + 2, value);
            }
        }
        _ => {}
    }
}

/// Writes `- value`.
fn item(out: &mut String, indent: usize, value: &Json) {
    let short = flow(value);
    let pad = " ".repeat(indent);
    match value {
        Json::Object(fields) if indent + short.len() + 2 > WIDEST => {
            let mut inner = String::new();
            for (key, value) in fields {
                field(&mut inner, indent + 2, &quoted(key), value);
            }
            let _ = write!(out, "{pad}- {}", &inner[(indent + 2).min(inner.len())..]);
        }
        _ => {
            let _ = writeln!(out, "{pad}- {short}");
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn what_is_written_is_read_back_as_it_was() {
        let long = "x".repeat(70);
        for value in [
            json!("plain"),
            json!("yes"),
            json!("$.a[*]"),
            json!("a: b #c"),
            json!({ "-1": "any", "6": "tcp", "on": true, "text": "{a} {b}" }),
            json!({ "all_of": [{ "path": "$.a", "table": { "x": 1 } }, "$.b"], "otherwise": "keep" }),
            json!({ "first_of": [{ "text": long, "with": { "a": long } }, [long, long], { "path": "$.c", "lookup": { "by": long, "take": long } }] }),
        ] {
            let mut out = String::new();
            field(&mut out, 2, "value", &value);
            let read: serde_json::Value =
                serde_saphyr::from_str(&out).unwrap_or_else(|error| panic!("{error}\n{out}"));
            assert_eq!(read["value"], value, "{out}");
            assert!(
                out.lines().all(|line| line.chars().count() <= WIDEST + 40),
                "{out}"
            );
        }
    }
}
