//! Where values come from: paths, joins, texts.

use super::*;

impl Compiler<'_> {
    pub(in crate::profile) fn path(&mut self, text: &str, span: Span) -> Option<JpQuery> {
        match parse_json_path(text) {
            Ok(query) => {
                let deep = |segment: &&Segment| matches!(segment, Segment::Descendant(_));
                if query.segments.iter().filter(deep).count() > 1 {
                    // Each time more than once multiplies what is found by the size of the document.
                    let help = "name the fields on the way: $.rules[*].ports[*]".to_owned();
                    self.at.fail(
                        span,
                        format!("`{text}` looks at all depths more than once"),
                        "here",
                        Some(help),
                    );
                    return None;
                }
                Some(query)
            }
            Err(error) => {
                let error = error.to_string();
                let why = error
                    .lines()
                    .find_map(|line| line.trim().strip_prefix("= "))
                    .unwrap_or("it cannot be read");
                let help =
                    "JSONPath is RFC 9535: $.rules[*], $['a name'], $.rules[?@.way == \"in\"]"
                        .to_owned();
                self.at.fail(
                    span,
                    format!("`{text}` is no JSONPath: {why}"),
                    "not understood",
                    Some(help),
                );
                None
            }
        }
    }

    pub(super) fn source(
        &mut self,
        made: &WrittenMade,
        span: Span,
        inner: &Json,
    ) -> Option<Source> {
        let [source] = sources(made)[..] else {
            let given = sources(made);
            let title = if given.is_empty() {
                "this value has no source".to_owned()
            } else {
                format!(
                    "this value has {} sources: {}",
                    given.len(),
                    given.join(", ")
                )
            };
            let all =
                "path, constant, outer, file, member, all_of, first_of, text, each, every or pairs";
            self.at
                .fail(span, title, "here", Some(format!("write one of {all}")));
            return None;
        };
        let fits = made.table.is_some() || made.pattern.is_some() || made.lookup.is_some();
        let strays = [
            (made.with.is_some(), "with", "text", source == "text"),
            (made.fields.is_some(), "fields", "each", source == "each"),
            (made.give.is_some(), "give", "every", source == "every"),
            (made.key.is_some(), "key", "pairs", source == "pairs"),
            (made.value.is_some(), "value", "pairs", source == "pairs"),
            (
                made.becomes.is_some(),
                "becomes",
                "pattern",
                made.pattern.is_some(),
            ),
            (
                made.otherwise.is_some(),
                "otherwise",
                "table, pattern or lookup",
                fits,
            ),
        ];
        for (_, stray, needs, _) in strays
            .into_iter()
            .filter(|(there, .., fits)| *there && !fits)
        {
            self.at.fail(
                span,
                format!("`{stray}` has no effect without `{needs}`"),
                "in here",
                None,
            );
        }
        match source {
            "path" => {
                let path = made.path.as_ref()?;
                Some(Source::Path(self.path(&path.value, path.span)?))
            }
            "constant" => Some(Source::Constant(made.constant.clone()?.0)),
            "outer" => Some(Source::Outer(Box::new(
                self.value(made.outer.as_deref()?, inner)?,
            ))),
            "file" => Some(Source::File(made.file?)),
            "member" => Some(Source::Member),
            "all_of" => Some(Source::All(self.values(&made.all_of.as_ref()?.0, inner)?)),
            "first_of" => Some(Source::First(
                self.values(&made.first_of.as_ref()?.0, inner)?,
            )),
            "text" => self.text(made.text.as_ref()?, made.with.as_ref()),
            "each" => {
                let nodes = self.nodes(made.each.as_deref()?);
                if missing(made.fields.as_ref(), "fields", span, self.at) {
                    return None;
                }
                let fields = self.fields(made.fields.as_ref()?, inner, "these objects", span);
                Some(Source::Each(nodes?, fields))
            }
            "every" => {
                let nodes = self.nodes(made.every.as_deref()?);
                if missing(made.give.as_ref(), "give", span, self.at) {
                    return None;
                }
                let value = self.value(made.give.as_deref()?, inner);
                Some(Source::Every(nodes?, Box::new(value?)))
            }
            _ => {
                let path = made.pairs.as_ref()?;
                let query = self.path(&path.value, path.span);
                let lacks = [("key", made.key.as_ref()), ("value", made.value.as_ref())]
                    .map(|(what, value)| missing(value, what, span, self.at));
                if lacks.contains(&true) {
                    return None;
                }
                let key = self.value(made.key.as_deref()?, &Json::Null);
                let value = self.value(made.value.as_deref()?, &Json::Null);
                Some(Source::Pairs(query?, Box::new(key?), Box::new(value?)))
            }
        }
    }

    /// The nodes that a path finds, or that a value gives.
    pub(super) fn nodes(&mut self, written: &WrittenValue) -> Option<Nodes> {
        match &written.kind {
            WrittenKind::Path(text) => Some(Nodes::Found(self.path(text, written.span)?)),
            WrittenKind::Constant(_) => {
                let help = Some(
                    "write a JSONPath, such as $.rules[*], or a value with `lookup`".to_owned(),
                );
                self.at.fail(
                    written.span,
                    "this leads to no nodes".to_owned(),
                    "here",
                    help,
                );
                None
            }
            _ => {
                let value = self.value(written, &Json::Null)?;
                if let Some(Then::Lookup(at, _)) = value.then.last() {
                    self.lookups[*at].nodes = true;
                }
                Some(Nodes::Given(Box::new(value)))
            }
        }
    }

    /// A text with names in braces; two braces stand for one.
    pub(super) fn text(&mut self, text: &Spanned<Name>, with: Option<&Fields>) -> Option<Source> {
        let none = Fields::default();
        let with = &with.unwrap_or(&none).0;
        let mut pieces = vec![Piece::Text(String::new())];
        let plain = |pieces: &mut Vec<Piece>, sign: char| match pieces.last_mut() {
            Some(Piece::Text(text)) => text.push(sign),
            _ => pieces.push(Piece::Text(sign.into())),
        };
        let mut signs = text.value.chars().peekable();
        while let Some(sign) = signs.next() {
            if matches!(sign, '{' | '}') && signs.next_if_eq(&sign).is_some() {
                plain(&mut pieces, sign);
            } else if sign == '{' {
                let name: String = signs.by_ref().take_while(|sign| *sign != '}').collect();
                let Some(at) = with.iter().position(|(key, _)| key.value == name) else {
                    let known: Vec<&str> = with.iter().map(|(key, _)| key.value.as_str()).collect();
                    let help = did_you_mean(&name, known.iter().copied())
                        .unwrap_or_else(|| format!("write under `with` what fills {{{name}}}"));
                    self.at.fail(
                        text.span,
                        format!("nothing fills {{{name}}}"),
                        "in this text",
                        Some(help),
                    );
                    return None;
                };
                pieces.push(Piece::Filled(at));
            } else {
                plain(&mut pieces, sign);
            }
        }
        let mut filling = Vec::new();
        for (index, (key, value)) in with.iter().enumerate() {
            if !pieces
                .iter()
                .any(|piece| matches!(piece, Piece::Filled(at) if *at == index))
            {
                let help = Some(format!("write {{{}}} in the text", key.value));
                self.at.fail(
                    key.span,
                    format!("`{}` fills nothing", key.value),
                    "here",
                    help,
                );
            }
            filling.push(self.value(value, &Json::Null));
        }
        Some(Source::Text(
            pieces,
            filling.into_iter().collect::<Option<Vec<_>>>()?,
        ))
    }

    pub(super) fn then(&mut self, made: &WrittenMade, inner: &Json) -> Option<Vec<Then>> {
        let mut then = Vec::new();
        if let Some(lookup) = &made.lookup {
            then.push(Then::Lookup(self.lookup(lookup)?, made.otherwise));
        }
        if let Some(at) = &made.split {
            then.push(Then::Split(at.0.to_string()));
        }
        if let Some(pattern) = &made.pattern {
            match Regex::new(&format!("^(?:{})$", pattern.value)) {
                Ok(regex) => {
                    let becomes = made
                        .becomes
                        .as_ref()
                        .map_or_else(|| "$0".to_owned(), |text| text.0.to_string());
                    then.push(Then::Pattern(regex, becomes, made.otherwise));
                }
                Err(error) => {
                    let why = error.to_string();
                    let why = why
                        .lines()
                        .last()
                        .unwrap_or_default()
                        .trim_start_matches("error: ")
                        .to_owned();
                    self.at.fail(
                        pattern.span,
                        format!("this is not a regular expression: {why}"),
                        "here",
                        None,
                    );
                }
            }
        }
        if let Some(table) = &made.table {
            let rows = match table {
                TableUse::Here(table) => Some(table.0.clone()),
                TableUse::Named(span, name) => self.table(*span, name),
            };
            then.push(Then::Table(rows?.into_iter().collect(), made.otherwise));
        }
        if let Some(without) = &made.without {
            then.push(Then::Without(
                without.0.iter().map(super::super::make::text_of).collect(),
            ));
        }
        if made.once == Some(true) {
            then.push(Then::Once);
        }
        if let Some(value) = &made.default {
            then.push(Then::Default(self.value(value, inner)?));
        }
        if made.needed == Some(true) {
            then.push(Then::Needed);
        }
        Some(then)
    }

    pub(super) fn table(&mut self, span: Span, name: &str) -> Option<Vec<(String, Vec<Json>)>> {
        let found = self
            .tables
            .0
            .iter()
            .find(|(other, _)| other == name)
            .map(|(_, table)| table.0.clone());
        if found.is_none() {
            let names = self.tables.0.iter().map(|(name, _)| name.as_str());
            let help =
                did_you_mean(name, names).or_else(|| Some("write it under `tables`".to_owned()));
            self.at
                .fail(span, format!("there is no table `{name}`"), "here", help);
        }
        found
    }

    pub(super) fn lookup(&mut self, written: &WrittenLookup) -> Option<usize> {
        let before = self.lookups.len();
        let from = self.from(Some(&written.in_records.0), written.span);
        let files = self.files(&written.files.0);
        let by = self.value(&written.by.0, &Json::Null);
        let take = self.value(&written.take.0, &Json::Null);
        // All joins are indexed in one pass.
        if self.lookups.len() > before {
            let title = "what a lookup asks of its records cannot be looked up itself".to_owned();
            let help = Some(
                "look up the id first, and what comes of it around that, with `all_of`".to_owned(),
            );
            self.at.fail(written.span, title, "here", help);
        }
        self.lookups.push(Lookup {
            files,
            from: from?,
            by: by?,
            take: take?,
            nodes: false,
        });
        Some(self.lookups.len() - 1)
    }
}
