//! What a profile asks of an API.

use super::compile::{Compiler, From, Made};
use super::written::{WrittenCollect, WrittenRequest};
use crate::reading::did_you_mean;
use heronshale_model::estate::Name;
use jsonpath_rust::parser::model::JpQuery;
use serde_json::Value as Json;

/// What to ask of an API.
#[derive(Clone, Debug, Default)]
pub struct Plan {
    /// How a token is sent, if one is.
    pub token: Option<Sent>,
    /// The requests, in the order of the profile.
    pub requests: Vec<Request>,
}

/// How a token is sent.
#[derive(Clone, Debug)]
pub struct Sent {
    /// The variable of the environment that holds it.
    pub environment: String,
    /// The header in which it is sent.
    pub header: String,
    /// With {token}.
    pub text: String,
}

/// A request.
#[derive(Clone, Debug)]
pub struct Request {
    /// The path that is asked.
    pub get: String,
    /// The name under which the answers are kept.
    pub save: String,
    pub(crate) next: Option<JpQuery>,
    /// The records from each of which one request follows.
    pub each: Option<EachOf>,
    /// The object that the snapshot lacks if there is no answer.
    pub gap: Option<String>,
    /// Which part of it.
    pub lacks: Option<String>,
    /// Whether not every API has it.
    pub extension: bool,
}

/// Records from which requests follow.
#[derive(Clone, Debug)]
pub struct EachOf {
    /// The name under which they are kept.
    pub saved: String,
    pub(super) from: From,
    pub(super) with: Vec<Made>,
}

impl Request {
    /// The link to the page behind this one.
    pub fn next_page(&self, page: &Json) -> Option<String> {
        let found = super::make::found(self.next.as_ref()?, page, "$");
        found
            .first()
            .and_then(|(link, _)| link.as_str())
            .filter(|link| !link.is_empty())
            .map(str::to_owned)
    }
}

impl Compiler<'_> {
    pub(super) fn plan(&mut self, written: &WrittenCollect) -> Plan {
        let token = written.token.as_ref().map(|token| {
            let text = |given: &Option<Name>, otherwise: &str| {
                given
                    .as_ref()
                    .map_or_else(|| otherwise.to_owned(), ToString::to_string)
            };
            let sent = text(&token.text, "Bearer {token}");
            if !sent.contains("{token}") {
                let help = Some("text: \"Bearer {token}\"".to_owned());
                self.at.fail(
                    token.span,
                    "the token is not in the text that is sent".to_owned(),
                    "here",
                    help,
                );
            }
            let header = text(&token.header, "Authorization");
            Sent {
                environment: token.environment.0.to_string(),
                header,
                text: sent,
            }
        });
        let mut requests: Vec<Request> = Vec::new();
        for request in &written.requests.0 {
            let (get, save) = (&request.get.0, &request.save.0);
            if !get.value.starts_with('/') {
                let help = Some(format!("write /{}", get.value));
                self.at.fail(
                    get.span,
                    "a request is a path behind the URL, and begins with `/`".to_owned(),
                    "here",
                    help,
                );
            }
            let plain = |sign: char| sign.is_ascii_alphanumeric() || "-_/{}".contains(sign);
            if !save.value.chars().all(plain) || save.value.starts_with('/') {
                let help = Some("letters, digits, - and _, with / for folders".to_owned());
                self.at.fail(
                    save.span,
                    format!("`{}` is not a name for a file here", save.value),
                    "here",
                    help,
                );
            }
            if requests.iter().any(|other| other.save == *save.value) {
                self.at.fail(
                    save.span,
                    format!("two requests are kept as `{}`", save.value),
                    "the second",
                    None,
                );
            }
            let next = request
                .next
                .as_ref()
                .and_then(|next| self.path(&next.value, next.span));
            let each = request.each.as_ref().and_then(|each| {
                let saved = &each.saved.0;
                let known = |other: &&WrittenRequest| {
                    other.save.0.value == saved.value && other.each.is_none()
                };
                if !written.requests.0.iter().any(|other| known(&other)) {
                    let names = written.requests.0.iter().map(|other| &*other.save.0.value);
                    let help = did_you_mean(&saved.value, names);
                    self.at.fail(
                        saved.span,
                        format!("no request is kept as `{}`", saved.value),
                        "here",
                        help,
                    );
                }
                let from = self.from(Some(&each.from.0), each.span);
                let with = self.fields(&each.with.0, &Json::Null, "these records", each.span);
                Some(EachOf {
                    saved: saved.value.to_string(),
                    from: from?,
                    with,
                })
            });
            let texts = [Some(get), Some(save), request.gap.as_ref()];
            for text in texts.into_iter().flatten() {
                for name in text
                    .value
                    .split('{')
                    .skip(1)
                    .filter_map(|rest| rest.split('}').next())
                {
                    if !each
                        .as_ref()
                        .is_some_and(|each| each.with.iter().any(|made| made.name == name))
                    {
                        let help = Some("write it under `each`, in `with`".to_owned());
                        self.at.fail(
                            text.span,
                            format!("nothing fills {{{name}}}"),
                            "in this text",
                            help,
                        );
                    }
                }
            }
            requests.push(Request {
                get: get.value.to_string(),
                save: save.value.to_string(),
                next,
                each,
                gap: request.gap.as_ref().map(|gap| gap.value.to_string()),
                lacks: request.lacks.as_ref().map(ToString::to_string),
                extension: request.extension.unwrap_or(false),
            });
        }
        Plan { token, requests }
    }
}
