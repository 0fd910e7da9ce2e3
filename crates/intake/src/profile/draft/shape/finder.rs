//! Finding the lists of objects in documents.

use super::*;

/// Where values of an object stand: their path, and what is known of it.
#[derive(Clone)]
pub(super) struct At {
    pub(super) path: String,
    pub(super) many: bool,
    pub(super) deep: bool,
}

#[derive(Default)]
pub(super) struct Finder {
    pub(super) lists: Vec<List>,
    pub(super) known: BTreeMap<(String, String), usize>,
    /// The fields of each list by path.
    pub(super) fields: Vec<BTreeMap<String, usize>>,
}

impl Finder {
    pub(super) fn take(&mut self, documents: &Documents<'_>, group: &str) {
        let rows = documents.file.kind == Kind::Csv;
        for document in &documents.all {
            let is_record = match documents.file.kind {
                Kind::Csv => true,
                Kind::JsonLines => !is_page(document),
                // A folder of documents is a list of them.
                Kind::Json => group.ends_with("/*") && !is_page(document) && !document.is_array(),
            };
            if is_record {
                self.item(
                    (None, document),
                    group,
                    if rows { "$[*]" } else { "$" },
                    None,
                );
            } else {
                self.below(document, group, "$", None);
            }
        }
    }

    /// The lists of objects in a value.
    pub(super) fn below(&mut self, json: &Json, group: &str, path: &str, outer: Option<usize>) {
        if let Some((step, items)) = objects(json) {
            for (name, item) in items {
                self.item((name, item), group, &format!("{path}{step}"), outer);
            }
        } else if let Json::Object(fields) = json {
            for (name, value) in fields {
                self.below(value, group, &member(path, name), outer);
            }
        }
    }

    pub(super) fn item(
        &mut self,
        (name, item): Named<'_>,
        group: &str,
        path: &str,
        outer: Option<usize>,
    ) {
        let Json::Object(fields) = item else { return };
        let list = self.list(group, path, outer);
        self.lists[list].count += 1;
        if self.lists[list].records.len() < MOST_RECORDS {
            let mut values = Vec::new();
            if let Some(name) = name {
                let at = At {
                    path: MEMBER.to_owned(),
                    many: false,
                    deep: false,
                };
                values.push((self.field(list, &at), name.to_owned()));
            }
            for (name, value) in fields {
                let at = At {
                    path: member("$", name),
                    many: false,
                    deep: false,
                };
                self.leaves(list, value, &at, &mut values);
            }
            self.count(list, &values);
            self.lists[list].records.push(Record { values });
        }
        for (name, value) in fields {
            self.below(value, group, &member(path, name), Some(list));
        }
    }

    pub(super) fn list(&mut self, group: &str, path: &str, outer: Option<usize>) -> usize {
        let Self {
            lists,
            known,
            fields,
        } = self;
        *known
            .entry((group.to_owned(), path.to_owned()))
            .or_insert_with(|| {
                lists.push(List {
                    files: group.to_owned(),
                    path: path.to_owned(),
                    outer,
                    count: 0,
                    records: Vec::new(),
                    fields: Vec::new(),
                });
                fields.push(BTreeMap::new());
                lists.len() - 1
            })
    }

    /// The scalars of a record, those of lists of objects in it as well.
    pub(super) fn leaves(
        &mut self,
        list: usize,
        json: &Json,
        at: &At,
        values: &mut Vec<(usize, String)>,
    ) {
        if let Some((step, items)) = objects(json) {
            let at = At {
                path: format!("{}{step}", at.path),
                many: true,
                deep: true,
            };
            for (_, item) in items {
                self.leaves(list, item, &at, values);
            }
            return;
        }
        match json {
            Json::Null => {}
            Json::Object(inner) => {
                for (name, value) in inner {
                    self.leaves(
                        list,
                        value,
                        &At {
                            path: member(&at.path, name),
                            ..at.clone()
                        },
                        values,
                    );
                }
            }
            Json::Array(items) => {
                let at = At {
                    path: format!("{}[*]", at.path),
                    many: true,
                    deep: at.deep,
                };
                for item in items {
                    self.leaves(list, item, &at, values);
                }
            }
            scalar => {
                let text = text_of(scalar);
                if !text.trim().is_empty() {
                    values.push((self.field(list, at), text));
                }
            }
        }
    }

    pub(super) fn field(&mut self, list: usize, at: &At) -> usize {
        let fields = &mut self.lists[list].fields;
        *self.fields[list].entry(at.path.clone()).or_insert_with(|| {
            fields.push(Field {
                path: at.path.clone(),
                count: 0,
                holders: 0,
                values: BTreeMap::new(),
                many: at.many,
                deep: at.deep,
                traits: Traits::default(),
            });
            fields.len() - 1
        })
    }

    pub(super) fn count(&mut self, list: usize, values: &[(usize, String)]) {
        let mut held = BTreeSet::new();
        for (at, text) in values {
            let field = &mut self.lists[list].fields[*at];
            field.count += 1;
            field.holders += usize::from(held.insert(*at));
            if field.values.len() < MOST_VALUES || field.values.contains_key(text) {
                *field.values.entry(text.clone()).or_default() += 1;
            }
        }
    }

    pub(super) fn finish(mut self) -> Vec<List> {
        for field in self.lists.iter_mut().flat_map(|list| &mut list.fields) {
            field.traits = Traits::of(field);
        }
        self.lists
    }
}

/// Whether a document is a page: an object that has a list of objects under a name that says nothing else, or nothing but one.
pub(super) fn is_page(document: &Json) -> bool {
    let Json::Object(fields) = document else {
        return false;
    };
    let list =
        |value: &Json| matches!(value, Json::Array(items) if items.iter().any(Json::is_object));
    let lists = fields.values().filter(|value| list(value)).count();
    fields
        .iter()
        .any(|(name, value)| list(value) && PLAIN.contains(&name.to_lowercase().as_str()))
        || lists > 0
            && lists + 2 >= fields.len()
            && !fields.contains_key("id")
            && !fields.contains_key("name")
}

/// Whether the members of an object are a list by name.
pub(super) fn is_list_by_name(fields: &serde_json::Map<String, Json>) -> bool {
    let mut common: Option<BTreeSet<&String>> = None;
    for value in fields.values() {
        let Json::Object(inner) = value else {
            return false;
        };
        let keys: BTreeSet<&String> = inner.keys().collect();
        common = Some(common.map_or(keys.clone(), |common| {
            common.intersection(&keys).copied().collect()
        }));
    }
    fields.len() >= LIST_BY_NAME && common.is_some_and(|common| !common.is_empty())
}

/// An object of a list, with its name if they are listed by name.
pub(super) type Named<'j> = (Option<&'j str>, &'j Json);

/// Whether a value is a list of objects: by place, or by name.
pub(super) fn objects(json: &Json) -> Option<(&'static str, Vec<Named<'_>>)> {
    match json {
        Json::Array(items) if items.iter().any(Json::is_object) => {
            Some(("[*]", items.iter().map(|item| (None, item)).collect()))
        }
        Json::Object(fields) if is_list_by_name(fields) => Some((
            ".*",
            fields
                .iter()
                .map(|(name, item)| (Some(name.as_str()), item))
                .collect(),
        )),
        _ => None,
    }
}
