//! Many connections of a file, each with the expected result.

use super::{Asked, between, whole};
use crate::failure::{FOUND, Failure};
use crate::opened::EstateArgs;
use heronshale_answers::{ConnectionAsked, connections_answer};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::path::{Tuple, question};
use heronshale_intake::{LoadError, load_connections};
use heronshale_model::connections::AskedConnection;
use heronshale_model::estate::Service;
use heronshale_report as report;
use std::path::Path;

/// Asks every connection of a file; ends with 1 if one is not as expected.
pub(super) fn run(estate: &EstateArgs, list: &Path) -> Result<u8, Failure> {
    let opened = estate.open_for_list()?;
    let view = opened.view();
    let list = load_connections(list).map_err(|error| match error {
        LoadError::Environment { what, error } => Failure::Io { what, error },
        other => other.into(),
    })?;
    let mut asked = Vec::new();
    let mut wrong = Vec::new();
    for one in &list.connections {
        let found = connection(&view, one).and_then(|(connection, ends)| {
            let question = question(&view, &connection);
            let question = question.map_err(|error| Failure::end(&ends[0], error))?;
            Ok((question, ends))
        });
        match found {
            Ok((question, ends)) => asked.push(ConnectionAsked {
                line: one.line,
                name: one.name.clone(),
                question,
                ends,
                expected: one.expected,
            }),
            Err(Failure::Use { what, hint }) => wrong.push((one.span, what, hint)),
            Err(other) => return Err(other),
        }
    }
    if !wrong.is_empty() {
        return Err(list.wrong(wrong).into());
    }
    let answer = connections_answer(&view, asked);
    let met = answer.as_expected == answer.connections.len();
    opened.answer_with_csv(
        &view,
        "connections",
        answer,
        report::connections,
        report::connections_csv,
    )?;
    Ok(if met { 0 } else { FOUND })
}

/// What a line asks.
fn connection(view: &Fabric<'_>, one: &AskedConnection) -> Result<Asked, Failure> {
    if let Some(to) = &one.to {
        return between(view, &one.from, to, services(&one.traffic)?, None);
    }
    if Tuple::parse(&one.from).is_some() {
        return whole(view, &one.from, &[], None);
    }
    let mut words = one.from.splitn(3, char::is_whitespace);
    let (from, to) = (words.next().unwrap_or_default(), words.next());
    let Some(to) = to else {
        return Err(Failure::wrong(
            format!("`{from}` is only one end of a connection"),
            "write FROM TO, then the traffic, such as `desk-1 engine-data tcp 5432`",
        ));
    };
    let traffic = words.next().unwrap_or_default();
    between(view, from, to, services(traffic)?, None)
}

/// Traffic in the notation of rules, several with commas.
fn services(text: &str) -> Result<Vec<Service>, Failure> {
    let parts = text
        .split(',')
        .map(str::trim)
        .filter(|part| !part.is_empty());
    parts
        .map(|part| {
            part.parse()
                .map_err(|error: heronshale_model::notation::NotationError| {
                    Failure::wrong(error.what, error.help)
                })
        })
        .collect()
}
