//! A part of a snapshot that was made of other files, and its text.

use crate::sections::snapshot_sections;
use crate::written::{FORMAT, VERSION};
use heronshale_model::coverage::{Read, ReadItems};
use serde::{Serialize, Serializer};
use serde_json::Value as Json;
use serde_saphyr::{FlowMap, FlowSeq};
use std::collections::BTreeMap;
use std::fmt::Write;

/// A part of a snapshot that was made of other files.
#[derive(Debug, Default)]
pub struct Part {
    /// The items by their section.
    pub(crate) sections: BTreeMap<&'static str, Vec<Json>>,
    /// What was read, and what not understood.
    pub read: Read,
}

impl Part {
    /// Puts an item into a section.
    pub(crate) fn put(&mut self, section: &'static str, item: Json) {
        self.sections.entry(section).or_default().push(item);
    }

    /// The snapshot file, with a first line that says what it was made of.
    ///
    /// # Errors
    /// If an item cannot be written as YAML, which no item of a snapshot is.
    pub fn text(&self, made_of: &str) -> Result<String, String> {
        let mut text = format!(
            "# {}\nformat: {FORMAT}\nversion: {VERSION}\n",
            made_of.escape_debug()
        );
        for section in snapshot_sections() {
            let Some(items) = self.sections.get(section) else {
                continue;
            };
            let written = match (section, &items[..]) {
                ("estate", [estate, ..]) => {
                    serde_saphyr::to_string(estate).map(|text| indented(&text))
                }
                _ => serde_saphyr::to_string(&items.iter().map(Compact).collect::<Vec<_>>()),
            };
            let written = written.map_err(|error| error.to_string())?;
            let _ = write!(text, "\n{section}:\n{written}");
        }
        Ok(text)
    }

    /// The items of a section, as a snapshot file holds them.
    pub fn section(&self, section: &str) -> &[Json] {
        self.sections.get(section).map_or(&[], Vec::as_slice)
    }

    /// What it holds.
    pub fn items(&self) -> Vec<ReadItems> {
        let lists = ["inbound", "outbound", "rules"];
        let rules = |item: &Json| {
            lists
                .iter()
                .filter_map(|list| item[list].as_array())
                .map(Vec::len)
                .sum::<usize>()
        };
        let found = snapshot_sections().filter_map(|section| {
            let items = self.sections.get(section)?;
            let rules = items.iter().map(rules).sum();
            Some(ReadItems {
                section: section.to_owned(),
                count: items.len(),
                rules,
            })
        });
        found.collect()
    }
}

/// A value with lists of plain values in one line each, and short objects of plain values too.
struct Compact<'j>(&'j Json);

impl Serialize for Compact<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        const WIDE: usize = 140;
        let plain = |value: &Json| !value.is_array() && !value.is_object();
        match self.0 {
            Json::Array(all) if all.iter().all(plain) => FlowSeq(all).serialize(to),
            Json::Array(all) => to.collect_seq(all.iter().map(Compact)),
            Json::Object(fields)
                if fields.values().all(plain) && self.0.to_string().len() <= WIDE =>
            {
                FlowMap(fields).serialize(to)
            }
            Json::Object(fields) => {
                to.collect_map(fields.iter().map(|(name, value)| (name, Compact(value))))
            }
            plain => plain.serialize(to),
        }
    }
}

fn indented(text: &str) -> String {
    text.lines()
        .fold(String::new(), |all, line| all + "  " + line + "\n")
}
