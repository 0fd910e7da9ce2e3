//! Patches of snapshots: JSON Patch (RFC 6902) and JSON Merge Patch (RFC 7396).

use super::rehearse::{NoChange, whole, wrong};
use super::write::{files_of, spread};
use crate::files::SourceText;
use crate::load::Snapshot;
use json_patch::PatchOperation;
use serde_json::value::RawValue;
use serde_json::{Map, Value};

/// Ends of the names of patches for one file.
const ENDS: [&str; 2] = [".patch.json", ".merge.json"];

/// Patches the snapshot as it is after earlier changes.
pub(super) fn patch(
    base: &Snapshot,
    document: &mut Map<String, Value>,
    source: &SourceText,
) -> Result<(), NoChange> {
    let Some(name) = file_of(base, source) else {
        let mut all = Value::Object(std::mem::take(document));
        applied(&mut all, source)?;
        *document = sections(all, source)?;
        return Ok(());
    };
    let mut files = spread(files_of(base), document);
    let mut texts = Vec::new();
    for (file, fields) in &mut files {
        if *file == name {
            let mut one = Value::Object(std::mem::take(fields));
            applied(&mut one, source)?;
            *fields = sections(one, source)?;
        }
        let text = serde_json::to_string(fields).unwrap_or_default();
        texts.push(SourceText {
            name: format!("{file}.json"),
            text,
        });
    }
    *document = whole(&texts);
    Ok(())
}

/// The file of the snapshot that a patch names.
fn file_of(base: &Snapshot, source: &SourceText) -> Option<String> {
    let name = source.name.replace('\\', "/");
    let name = ENDS
        .iter()
        .find_map(|end| name.strip_suffix(end))?
        .to_owned();
    let texts = base.texts.iter();
    let mut found =
        texts.filter(|text| name == text.name || name.ends_with(&format!("/{}", text.name)));
    found.next().map(|text| text.name.clone())
}

fn sections(value: Value, source: &SourceText) -> Result<Map<String, Value>, NoChange> {
    match value {
        Value::Object(fields) => Ok(fields),
        _ => Err(wrong(
            format!("{} replaces the snapshot by something else", source.name),
            "a patch changes sections such as security_groups",
        )),
    }
}

fn applied(document: &mut Value, source: &SourceText) -> Result<(), NoChange> {
    let SourceText { name, text } = source;
    let syntax = |error: serde_json::Error| {
        let place = format!("{name}:{}:{}", error.line(), error.column());
        let what = error.to_string();
        let what = what
            .split(" at line ")
            .next()
            .unwrap_or_default()
            .to_owned();
        wrong(
            format!("{place}: this is no patch: {what}"),
            "a JSON Patch (RFC 6902) is a list such as [{ \"op\": \"remove\", \"path\": \"/peerings/0\" }], a merge patch (RFC 7396) an object",
        )
    };
    if text.trim_start().starts_with('{') {
        let merge: Value = serde_json::from_str(text).map_err(syntax)?;
        json_patch::merge(document, &merge);
        return Ok(());
    }
    let operations: Vec<&RawValue> = serde_json::from_str(text).map_err(syntax)?;
    for operation in operations {
        let start = operation.get().as_ptr() as usize - text.as_ptr() as usize;
        let line = text[..start].matches('\n').count() + 1;
        let column = start - text[..start].rfind('\n').map_or(0, |at| at + 1) + 1;
        let place = format!("{name}:{line}:{column}");
        let read: PatchOperation = serde_json::from_str(operation.get()).map_err(|error| {
            wrong(
                format!("{place}: this is no operation: {error}"),
                "operations are add, remove, replace, move, copy and test, each with a path",
            )
        })?;
        json_patch::patch(document, std::slice::from_ref(&read)).map_err(|error| {
            wrong(
                format!("{place}: {} {} does not apply: {}", word(&read), read.path(), error.kind),
                "a path counts from 0; a patch called FILE.patch.json is for that file, any other for all files as one, in the byte order of their names",
            )
        })?;
    }
    Ok(())
}

fn word(operation: &PatchOperation) -> &'static str {
    match operation {
        PatchOperation::Add(_) => "add",
        PatchOperation::Remove(_) => "remove",
        PatchOperation::Replace(_) => "replace",
        PatchOperation::Move(_) => "move",
        PatchOperation::Copy(_) => "copy",
        PatchOperation::Test(_) => "test",
    }
}
