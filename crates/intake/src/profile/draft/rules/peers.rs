//! Drafts of the peers of rules.

use super::*;

impl Drafting<'_> {
    /// Whether rules that name no peer hold for everybody, as far as there are any.
    pub(super) fn everybody(&mut self, at: usize, peers: &[usize], way: &Way) -> bool {
        let list = &self.lists[at];
        let is_mine = |record: &&Record| {
            let said = |(field, words): &(usize, Vec<String>)| {
                list.of(record, *field)
                    .any(|word| words.iter().any(|mine| mine == word))
            };
            way.words.as_ref().is_none_or(said)
        };
        let mine = || list.records.iter().filter(is_mine);
        let bare = mine()
            .filter(|record| {
                peers
                    .iter()
                    .all(|field| list.of(record, *field).next().is_none())
            })
            .count();
        if bare == 0 {
            return true;
        }
        let named: Vec<&str> = peers
            .iter()
            .map(|field| list.fields[*field].path.as_str())
            .collect();
        let where_to = if named.is_empty() {
            "no field looks like peers".to_owned()
        } else {
            named.join(", ")
        };
        let answer = self.asker.ask(Question {
            about: format!("{} without peers", list.place()),
            ask: format!(
                "{bare} of {} rules of {} name no peer. Do they hold for everybody?",
                list.count,
                list.place()
            ),
            seen: where_to,
            choices: ["everybody", "unknown"].map(str::to_owned).to_vec(),
            guess: Some("everybody".to_owned()),
            otherwise: "the rules count as missing".to_owned(),
            answer: None,
        });
        answer.as_deref() == Some("everybody")
    }

    /// Whom rules are about.
    pub(super) fn peers(&mut self, at: usize, fields: &[usize]) -> Option<Json> {
        let mut all: Vec<Json> = fields.iter().map(|field| self.peer(at, *field)).collect();
        match all.len() {
            0 => None,
            1 => all.pop(),
            _ => Some(json!({ "all_of": all })),
        }
    }

    pub(super) fn peer(&mut self, at: usize, field: usize) -> Json {
        let mut made = self.split_path(at, field);
        let mut named: BTreeSet<String> = BTreeSet::new();
        let mut links: Vec<_> = self.links.of_field(at, field).to_vec();
        // Rows of objects may name these.
        let rows = self
            .entities
            .iter()
            .find(|entity| entity.list == at)
            .and_then(|entity| entity.gather);
        links.extend(rows.map(|key| Link {
            list: at,
            key,
            share: 0,
            named: false,
            same_name: false,
        }));
        let mut taken = BTreeSet::new();
        for link in links {
            let Some((kind, take)) = self.peer_of(link.list, link.key) else {
                continue;
            };
            if !taken.insert(link.list) {
                continue;
            }
            named.extend(
                self.lists[link.list].fields[link.key]
                    .values
                    .keys()
                    .cloned(),
            );
            let take = json!({ "text": format!("{kind}:{{id}}"), "with": { "id": take } });
            made = with(
                self.lookup(made, link.list, link.key, take),
                "otherwise",
                "keep".into(),
            );
        }
        let it = &self.lists[at].fields[field];
        let between = it.traits.split.unwrap_or("\0");
        let words: BTreeSet<String> = it
            .values
            .keys()
            .flat_map(|value| value.split(between))
            .map(|word| word.trim().to_owned())
            .collect();
        let mut table = Map::new();
        for word in words
            .into_iter()
            .filter(|word| !word.is_empty() && !named.contains(word))
        {
            if values::is_any(&word) && word != "any" {
                table.insert(word, "any".into());
            } else if !values::is_peer(&word) {
                // So many words are names, and what they stand for is not in the exports.
                let many = table.len() >= MOST_WORDS;
                let meant = if many {
                    format!("set:{word}")
                } else {
                    self.unknown_peer(at, field, &word)
                };
                table.insert(word, meant.into());
            }
        }
        if table.is_empty() {
            made
        } else {
            with(
                with(made, "table", table.into()),
                "otherwise",
                "keep".into(),
            )
        }
    }

    /// Whom a word means that is not an address, and that no list has: what nobody said is a set that is not in the snapshot.
    pub(super) fn unknown_peer(&mut self, at: usize, field: usize, word: &str) -> String {
        let list = &self.lists[at];
        let it = &list.fields[field];
        let answer = self.asker.ask(Question {
            about: format!("{} {} {word:?}", list.place(), it.path),
            ask: format!(
                "Whom does {word:?} mean, in {} of {}?",
                it.path,
                list.place()
            ),
            seen: format!("{} values such as {}", it.values.len(), it.shown()),
            choices: ["any", "internet", "unknown"].map(str::to_owned).to_vec(),
            guess: None,
            otherwise: "the set of addresses counts as missing".to_owned(),
            answer: None,
        });
        answer
            .filter(|answer| answer != "unknown")
            .unwrap_or_else(|| format!("set:{word}"))
    }
}

/// The objects of a list for which a condition holds.
pub(in crate::profile::draft) fn filtered(path: &str, condition: &str) -> String {
    let list = path
        .strip_suffix("[*]")
        .or_else(|| path.strip_suffix(".*"))
        .unwrap_or(path);
    format!("{list}[?{condition}]")
}

/// The nodes of rules, with a condition.
pub(super) fn nodes(stand: &Where, filter: Option<&str>) -> Json {
    let filtered =
        |path: &str| filter.map_or_else(|| path.to_owned(), |filter| filtered(path, filter));
    match stand {
        Where::Inside(path) => filtered(path).into(),
        Where::Rows => filtered("$[*]").into(),
        Where::Joined(value) => {
            let mut value = value.clone();
            if let Some(records) = value.pointer_mut("/lookup/in_records") {
                *records = filtered(records.as_str().unwrap_or("$")).into();
            }
            value
        }
    }
}

/// A word as a JSONPath has it.
pub(in crate::profile::draft) fn quoted_literal(word: &str) -> String {
    if matches!(word, "true" | "false") {
        return word.to_owned();
    }
    format!("'{}'", word.replace('\\', "\\\\").replace('\'', "\\'"))
}
