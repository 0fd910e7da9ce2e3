//! Values of an object, each with its origin.

use super::*;

impl<'p> Making<'p> {
    pub(super) fn source(&mut self, value: &Value, scope: &Scope<'_>) -> Vec<Got> {
        let span = value.span;
        match &value.source {
            Source::Path(query) => {
                let mut values = Vec::new();
                for (node, pointer) in found(query, scope.node, scope.pointer) {
                    self.flat(node, pointer, span, &mut values);
                }
                values
            }
            Source::Constant(all) => {
                let origin = self.origin(span, None);
                all.iter()
                    .map(|one| Got {
                        what: What::Scalar(one.clone()),
                        origin,
                    })
                    .collect()
            }
            Source::Outer(inner) => match scope.outer {
                Some(outer) => self.values(inner, outer),
                None => {
                    let origin = self.origin(span, Some(scope.pointer.to_owned()));
                    let got = Got {
                        what: What::Scalar(Json::Null),
                        origin,
                    };
                    let help = "`outer` is for `inside`, and for the fields of `each`".to_owned();
                    self.trouble(
                        &got,
                        span,
                        "there is no record around this one".to_owned(),
                        Some(help),
                    );
                    Vec::new()
                }
            },
            Source::File(part) => {
                let name = scope.file;
                let last = name.rsplit('/').next().unwrap_or(name);
                let text = match part {
                    FilePart::Name => name,
                    FilePart::Stem => last.rsplit_once('.').map_or(last, |(stem, _)| stem),
                };
                let origin = self.origin(span, Some(scope.pointer.to_owned()));
                vec![Got {
                    what: What::Scalar(text.into()),
                    origin,
                }]
            }
            Source::Member => {
                let last = scope
                    .pointer
                    .rsplit_once('[')
                    .map(|(_, last)| last.trim_end_matches(']'));
                let name = last.map(|last| {
                    last.trim_matches('\'')
                        .replace("\\'", "'")
                        .replace("\\\\", "\\")
                });
                let origin = self.origin(span, Some(scope.pointer.to_owned()));
                name.into_iter()
                    .map(|name| Got {
                        what: What::Scalar(name.into()),
                        origin,
                    })
                    .collect()
            }
            Source::All(all) => all.iter().flat_map(|one| self.values(one, scope)).collect(),
            Source::First(all) => all
                .iter()
                .map(|one| self.values(one, scope))
                .find(|values| !values.is_empty())
                .unwrap_or_default(),
            Source::Text(pieces, with) => self.texts(pieces, with, span, scope),
            Source::Each(nodes, fields) => {
                let mut made = Vec::new();
                self.of_each(nodes, scope, |making, inner| {
                    let origin = making.origin(span, Some(inner.pointer.to_owned()));
                    made.push(Got {
                        what: What::Map(making.fields(fields, inner, false)),
                        origin,
                    });
                });
                made
            }
            Source::Every(nodes, give) => {
                let mut values = Vec::new();
                self.of_each(nodes, scope, |making, inner| {
                    values.extend(making.values(give, inner))
                });
                values
            }
            Source::Pairs(query, key, value) => {
                let mut pairs: Vec<(String, Got)> = Vec::new();
                let origin = self.origin(span, Some(scope.pointer.to_owned()));
                for (node, pointer) in found(query, scope.node, scope.pointer) {
                    let inner = Scope {
                        node,
                        pointer: &pointer,
                        outer: Some(scope),
                        file: scope.file,
                    };
                    let key = self.values(key, &inner).into_iter().next();
                    let value = self.values(value, &inner).into_iter().next();
                    if let (
                        Some(Got {
                            what: What::Scalar(key),
                            ..
                        }),
                        Some(value),
                    ) = (key, value)
                    {
                        pairs.push((text_of(&key), value));
                    }
                }
                if pairs.is_empty() {
                    Vec::new()
                } else {
                    vec![Got {
                        what: What::Map(pairs),
                        origin,
                    }]
                }
            }
        }
    }

    /// Does something with each node; an id that no record has is not a node, and was counted as unresolved.
    pub(super) fn of_each(
        &mut self,
        nodes: &Nodes,
        scope: &Scope<'_>,
        mut then: impl FnMut(&mut Self, &Scope<'_>),
    ) {
        match nodes {
            Nodes::Found(query) => {
                for (node, pointer) in found(query, scope.node, scope.pointer) {
                    then(
                        self,
                        &Scope {
                            node,
                            pointer: &pointer,
                            outer: Some(scope),
                            file: scope.file,
                        },
                    );
                }
            }
            Nodes::Given(value) => {
                for got in self.values(value, scope) {
                    if matches!(got.what, What::Scalar(_)) {
                        continue;
                    }
                    let node = raw(&got);
                    // An error is shown where the id stands that led to the node.
                    let pointer = self.origins[got.origin as usize].pointer.clone();
                    let pointer = pointer.as_deref().unwrap_or(scope.pointer);
                    then(
                        self,
                        &Scope {
                            node: &node,
                            pointer,
                            outer: Some(scope),
                            file: scope.file,
                        },
                    );
                }
            }
        }
    }

    /// The values of a node: lists count as their items, null as nothing.
    pub(super) fn flat(&mut self, json: &Json, pointer: String, span: Span, into: &mut Vec<Got>) {
        match json {
            Json::Null => {}
            Json::Array(items) => {
                for (index, item) in items.iter().enumerate() {
                    self.flat(item, format!("{pointer}[{index}]"), span, into);
                }
            }
            other => {
                let origin = self.origin(span, Some(pointer));
                into.push(whole(other, origin));
            }
        }
    }

    /// Every combination of what fills the text.
    pub(super) fn texts(
        &mut self,
        pieces: &[Piece],
        with: &[Value],
        span: Span,
        scope: &Scope<'_>,
    ) -> Vec<Got> {
        let filling: Vec<Vec<Got>> = with.iter().map(|one| self.values(one, scope)).collect();
        let count = filling
            .iter()
            .fold(1_usize, |count, values| count.saturating_mul(values.len()));
        if count > MOST_TEXTS {
            let origin = self.origin(span, Some(scope.pointer.to_owned()));
            let got = Got {
                what: What::Scalar(Json::Null),
                origin,
            };
            let help =
                "fill it with single values, or take the text apart by several fields".to_owned();
            self.trouble(
                &got,
                span,
                format!("more than {MOST_TEXTS} texts come of this one"),
                Some(help),
            );
            return Vec::new();
        }
        let mut texts: Vec<(String, Option<u32>)> = vec![(String::new(), None)];
        let mut chosen: Vec<Vec<usize>> = vec![Vec::new()];
        for values in &filling {
            let longer = chosen
                .iter()
                .flat_map(|start| (0..values.len()).map(move |at| [&start[..], &[at]].concat()));
            chosen = longer.collect();
        }
        texts.clear();
        for choice in chosen {
            let mut text = String::new();
            // Of several values the record stands for all.
            let mut from: Vec<u32> = Vec::new();
            for piece in pieces {
                match piece {
                    Piece::Text(plain) => text.push_str(plain),
                    Piece::Filled(at) => {
                        let got = &filling[*at][choice[*at]];
                        if self.origins[got.origin as usize].pointer.is_some() {
                            from.push(got.origin);
                        }
                        match &got.what {
                            What::Scalar(json) => text.push_str(&text_of(json)),
                            _ => self.trouble(
                                got,
                                span,
                                "what fills a text has to be a text or a number".into(),
                                None,
                            ),
                        }
                    }
                }
            }
            texts.push((
                text,
                if let [one] = from[..] {
                    Some(one)
                } else {
                    None
                },
            ));
        }
        texts
            .into_iter()
            .map(|(text, from)| {
                let pointer = from.and_then(|from| self.origins[from as usize].pointer.clone());
                let origin = self.origin(span, pointer.or_else(|| Some(scope.pointer.to_owned())));
                Got {
                    what: What::Scalar(text.into()),
                    origin,
                }
            })
            .collect()
    }

    pub(super) fn then(
        &mut self,
        then: &Then,
        values: Vec<Got>,
        span: Span,
        scope: &Scope<'_>,
    ) -> Vec<Got> {
        match then {
            Then::Default(other) if values.is_empty() => self.values(other, scope),
            Then::Needed if values.is_empty() => {
                let origin = self.origin(span, Some(scope.pointer.to_owned()));
                let got = Got {
                    what: What::Scalar(Json::Null),
                    origin,
                };
                self.trouble(
                    &got,
                    span,
                    "this record has no value for it".to_owned(),
                    None,
                );
                values
            }
            Then::Once => {
                let mut seen = std::collections::HashSet::new();
                let scalar = |got: &Got| {
                    if let What::Scalar(json) = &got.what {
                        Some(text_of(json))
                    } else {
                        None
                    }
                };
                values
                    .into_iter()
                    .filter(|got| scalar(got).is_none_or(|text| seen.insert(text)))
                    .collect()
            }
            Then::Default(_) | Then::Needed => values,
            _ => values
                .into_iter()
                .flat_map(|got| self.changed(then, got, span))
                .collect(),
        }
    }

    /// What one value becomes.
    pub(super) fn changed(&mut self, then: &Then, got: Got, span: Span) -> Vec<Got> {
        let What::Scalar(json) = &got.what else {
            let title =
                "only texts and numbers are looked up, split, matched and translated".to_owned();
            self.trouble(
                &got,
                span,
                title,
                Some("let the path lead to one of its members".to_owned()),
            );
            return Vec::new();
        };
        let text = text_of(json);
        let as_got = |json: &Json| whole(json, got.origin);
        match then {
            Then::Lookup(index, otherwise) => match (self.indexes[*index].get(&text), otherwise) {
                (Some(taken), _) => taken.iter().map(as_got).collect(),
                (None, Some(Otherwise::LeaveOut)) => Vec::new(),
                (None, Some(Otherwise::Keep)) => vec![got],
                (None, None) => {
                    *self.unresolved.entry((span, text)).or_default() += 1;
                    vec![got]
                }
            },
            Then::Split(at) => {
                let parts = text
                    .split(at.as_str())
                    .map(str::trim)
                    .filter(|part| !part.is_empty());
                parts.map(|part| as_got(&part.into())).collect()
            }
            Then::Pattern(regex, becomes, otherwise) => match regex.captures(&text) {
                Some(captures) => {
                    let mut made = String::new();
                    captures.expand(becomes, &mut made);
                    vec![as_got(&made.into())]
                }
                None => self.unknown(
                    *otherwise,
                    got,
                    span,
                    &format!("`{text}` does not match the pattern"),
                ),
            },
            Then::Table(rows, otherwise) => match rows.get(&text) {
                Some(to) => to.iter().map(as_got).collect(),
                None => self.unknown(
                    *otherwise,
                    got,
                    span,
                    &format!("the table has no entry `{text}`"),
                ),
            },
            Then::Without(gone) if gone.contains(&text) => Vec::new(),
            _ => vec![got],
        }
    }

    pub(super) fn unknown(
        &mut self,
        otherwise: Option<Otherwise>,
        got: Got,
        span: Span,
        title: &str,
    ) -> Vec<Got> {
        match otherwise {
            Some(Otherwise::Keep) => vec![got],
            Some(Otherwise::LeaveOut) => Vec::new(),
            None => {
                let help = "add it, or decide with `otherwise: keep` or `leave-out`".to_owned();
                self.trouble(&got, span, title.to_owned(), Some(help));
                Vec::new()
            }
        }
    }
}

/// A value as it stands in the data, all of one origin.
pub(super) fn whole(json: &Json, origin: u32) -> Got {
    let what = match json {
        Json::Array(items) => What::List(items.iter().map(|item| whole(item, origin)).collect()),
        Json::Object(fields) => {
            let fields = fields.iter().filter(|(_, value)| !value.is_null());
            What::Map(
                fields
                    .map(|(key, value)| (key.clone(), whole(value, origin)))
                    .collect(),
            )
        }
        scalar => What::Scalar(scalar.clone()),
    };
    Got { what, origin }
}

/// A text that is written as a whole number is one, since identifiers may be numbers in the format too.
pub(super) fn number(text: &str) -> Option<u64> {
    text.parse::<u64>()
        .ok()
        .filter(|number| number.to_string() == text)
}

/// The value as JSON, each scalar as `scalar` says.
pub(super) fn as_json(got: &Got, scalar: fn(&Json) -> Json) -> Json {
    match &got.what {
        What::Scalar(json) => scalar(json),
        What::List(items) => items.iter().map(|item| as_json(item, scalar)).collect(),
        What::Map(fields) => {
            let fields = fields
                .iter()
                .map(|(key, got)| (key.clone(), as_json(got, scalar)));
            Json::Object(fields.collect::<Map<_, _>>())
        }
    }
}

/// The value as the data has it.
pub(super) fn raw(got: &Got) -> Json {
    as_json(got, Json::clone)
}

/// The value as it is written in a snapshot.
pub(super) fn plain(got: &Got) -> Json {
    as_json(got, |json| match json {
        Json::String(text) => number(text).map_or_else(|| json.clone(), Json::from),
        other => other.clone(),
    })
}

/// The value as the reader of snapshots takes it; spans are numbers of origins.
pub(super) fn node(got: &Got) -> Node<'_> {
    let span = Span {
        file: FileId(0),
        start: got.origin,
        end: got.origin,
    };
    let value = match &got.what {
        What::Scalar(Json::String(text)) => {
            let kind = if number(text).is_some() {
                Scalar::Number
            } else {
                Scalar::Text
            };
            Tree::Scalar(kind, Cow::Borrowed(text.as_str()))
        }
        What::Scalar(Json::Bool(flag)) => Tree::Scalar(
            Scalar::Bool,
            Cow::Borrowed(if *flag { "true" } else { "false" }),
        ),
        What::Scalar(Json::Number(number)) => {
            Tree::Scalar(Scalar::Number, Cow::Owned(number.to_string()))
        }
        What::Scalar(_) => Tree::Scalar(Scalar::Null, Cow::Borrowed("null")),
        What::List(items) => Tree::List(items.iter().map(node).collect()),
        What::Map(fields) => {
            let key = |key: &str| Node {
                span,
                value: Tree::Scalar(Scalar::Text, Cow::Owned(key.to_owned())),
            };
            Tree::Map(
                fields
                    .iter()
                    .map(|(name, got)| (key(name), node(got)))
                    .collect(),
            )
        }
    };
    Node { span, value }
}
