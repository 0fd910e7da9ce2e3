//! What was seen open from outside: CSV (RFC 4180) with a header; the columns address, protocol and port in any order, others are
//! left alone.

use crate::files::{LoadError, SourceText};
use crate::reading::{Reading, did_you_mean};
use heronshale_model::observed::Seen;
use heronshale_model::source::{FileId, Span};
use heronshale_sets::packet::service;
use std::net::IpAddr;
use std::path::Path;

const COLUMNS: [&str; 3] = ["address", "protocol", "port"];

/// Reads ports that were seen open.
///
/// # Errors
/// If the file cannot be reached or used: every line that is wrong is told.
pub fn load_observed(path: &Path) -> Result<Vec<Seen>, LoadError> {
    let bytes = std::fs::read(path).map_err(|error| LoadError::Environment {
        what: format!("cannot read {}", path.display()),
        error,
    })?;
    let text = String::from_utf8_lossy(&bytes).into_owned();
    let mut at = Reading::default();
    let seen = read(&text, &mut at);
    if at.problems.is_empty() {
        return Ok(seen);
    }
    let name = path
        .file_name()
        .unwrap_or(path.as_os_str())
        .to_string_lossy()
        .into_owned();
    Err(LoadError::Input {
        problems: at.problems,
        texts: vec![SourceText { name, text }],
    })
}

fn read(text: &str, at: &mut Reading) -> Vec<Seen> {
    let mut reader = csv::ReaderBuilder::new()
        .trim(csv::Trim::All)
        .from_reader(text.as_bytes());
    let span = |offset: u64, field: &str| {
        let from = usize::try_from(offset)
            .unwrap_or(usize::MAX)
            .min(text.len());
        let line = text[from..].lines().next().unwrap_or("");
        let within = if field.is_empty() {
            0
        } else {
            line.find(field).unwrap_or(0)
        };
        let length = if field.is_empty() {
            line.len()
        } else {
            field.len()
        };
        let number = |at: usize| u32::try_from(at).unwrap_or(u32::MAX);
        Span {
            file: FileId(0),
            start: number(from + within),
            end: number(from + within + length.max(1)),
        }
    };
    let header = match reader.headers() {
        Ok(header) => header.clone(),
        Err(error) => {
            at.fail(
                span(0, ""),
                format!("the header cannot be read: {error}"),
                "here",
                None,
            );
            return Vec::new();
        }
    };
    let mut columns = [0; 3];
    for (column, name) in columns.iter_mut().zip(COLUMNS) {
        match header
            .iter()
            .position(|found| found.eq_ignore_ascii_case(name))
        {
            Some(position) => *column = position,
            None => {
                let found = header.iter().collect::<Vec<_>>().join(", ");
                let near = did_you_mean(name, header.iter()).unwrap_or_default();
                let help = format!(
                    "the header has to name address, protocol and port; it names {found}. {near}"
                );
                at.fail(
                    span(0, ""),
                    format!("there is no column `{name}`"),
                    "the header",
                    Some(help.trim().to_owned()),
                );
            }
        }
    }
    if !at.problems.is_empty() {
        return Vec::new();
    }
    let mut seen = Vec::new();
    for record in reader.records() {
        let record = match record {
            Ok(record) => record,
            Err(error) => {
                let offset = error.position().map_or(0, csv::Position::byte);
                at.fail(
                    span(offset, ""),
                    format!("the line cannot be read: {error}"),
                    "here",
                    None,
                );
                continue;
            }
        };
        let position = record
            .position()
            .map_or((0, 0), |position| (position.byte(), position.line()));
        // A record begins behind the line end of the one before.
        let from = usize::try_from(position.0).unwrap_or(0).min(text.len());
        let skipped = text[from..].len() - text[from..].trim_start_matches(['\r', '\n']).len();
        let offset = position.0 + skipped as u64;
        let [address, protocol, port] = columns.map(|column| record.get(column).unwrap_or(""));
        let mut fail = |field: &str, what: &str, help: &str| {
            at.fail(
                span(offset, field),
                format!("`{field}` is not a valid {what}"),
                "here",
                Some(help.to_owned()),
            );
        };
        let read_address = address.parse::<IpAddr>().ok();
        if read_address.is_none() {
            fail(address, "address", "write 203.0.113.7 or 2001:db8::7");
        }
        let read_protocol =
            service::protocol_named(protocol).filter(|number| service::has_ports(*number));
        if read_protocol.is_none() {
            fail(protocol, "protocol with ports", "write tcp or udp");
        }
        let read_port = port.parse::<u16>().ok();
        if read_port.is_none() {
            fail(port, "port", "write a number from 0 to 65535");
        }
        if let (Some(address), Some(protocol), Some(port)) =
            (read_address, read_protocol, read_port)
        {
            let line = usize::try_from(position.1).unwrap_or(0);
            seen.push(Seen {
                address,
                service: service::code(protocol, port),
                line,
            });
        }
    }
    seen
}
