//! One notation for traffic and for names with their kind, in files, on the command line and in output.
//!
//! Traffic: `tcp 443`, `tcp 80,8000-8100`, `udp`, `icmp 8`, `icmp 8/0`, `gre`, `47`, `protocol 200`, `any`, `any 53`,
//! `any except tcp 22, icmp`.
//! Kinds: `group:app`, `set:partners`, `tag:role=web,env=live`, `network:tickets` …

use crate::estate::{Name, Service};
use crate::meant;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;
use std::fmt;
use std::str::FromStr;

/// Why a text is not understood, and what would be right.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NotationError {
    /// What is wrong.
    pub what: String,
    /// What would be right.
    pub help: String,
}

impl fmt::Display for NotationError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.what, self.help)
    }
}

fn error<T>(what: impl Into<String>, help: impl Into<String>) -> Result<T, NotationError> {
    Err(NotationError {
        what: what.into(),
        help: help.into(),
    })
}

fn number(text: &str, most: u16, what: &str) -> Result<u16, NotationError> {
    let digits = !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
    match text.parse::<u16>() {
        Ok(number) if digits && number <= most => Ok(number),
        _ => {
            let meant = if what == "port" {
                meant::ports(text)
            } else {
                meant::icmp(text)
            };
            let help = meant.unwrap_or_else(|| format!("write a number from 0 to {most}"));
            error(format!("`{text}` is not a valid {what}"), help)
        }
    }
}

fn span(text: &str, most: u16, what: &str) -> Result<(u128, u128), NotationError> {
    let (first, last) = text.split_once('-').unwrap_or((text, text));
    let (first, last) = (
        number(first.trim(), most, what)?,
        number(last.trim(), most, what)?,
    );
    if first > last {
        return error(
            format!("the range {first}-{last} is reversed"),
            format!("write {last}-{first}"),
        );
    }
    Ok((u128::from(first), u128::from(last)))
}

/// Ports such as `443`, `80,443` or `8000-8100`.
pub fn parse_ports(text: &str) -> Result<Intervals, NotationError> {
    let spans: Result<Vec<_>, _> = text
        .split(',')
        .map(|part| span(part.trim(), u16::MAX, "port"))
        .collect();
    spans.map(Intervals::from_spans)
}

/// ICMP types with or without codes, such as `8`, `8/0`, `3/1-4` or `0,8`, as `type * 256 + code`.
pub fn parse_icmp(text: &str) -> Result<Intervals, NotationError> {
    let mut spans = Vec::new();
    for part in text.split(',') {
        if part.trim().starts_with('/') {
            return error(
                "an ICMP code needs its type",
                "write `icmp 3/1`: type 3, code 1",
            );
        }
        let (kinds, codes) = part
            .split_once('/')
            .map_or((part, None), |(kinds, codes)| (kinds, Some(codes)));
        let (first, last) = span(kinds.trim(), 255, "ICMP type")?;
        let (low, high) =
            codes.map_or(Ok((0, 255)), |codes| span(codes.trim(), 255, "ICMP code"))?;
        spans.extend((first..=last).map(|kind| (kind * 256 + low, kind * 256 + high)));
    }
    Ok(Intervals::from_spans(spans))
}

impl FromStr for Service {
    type Err = NotationError;

    fn from_str(text: &str) -> Result<Self, NotationError> {
        let text = text.trim();
        let (name, low) = match text.split_once(char::is_whitespace) {
            Some((name, low)) => (name, Some(low.trim())),
            None => (text, None),
        };
        let except = Vec::new();
        if name.eq_ignore_ascii_case("any") {
            let rest = low
                .and_then(|low| low.strip_prefix("except"))
                .filter(|rest| rest.starts_with(char::is_whitespace));
            if let Some(rest) = rest {
                return Ok(Self {
                    protocol: None,
                    low: None,
                    except: parse_except(rest)?,
                });
            }
            return Ok(Self {
                protocol: None,
                low: low.map(parse_ports).transpose()?,
                except,
            });
        }
        if let ("protocol", Some(number)) = (name, low) {
            let Some(protocol) = service::protocol_named(number) else {
                return error(
                    format!("`{number}` is not a protocol"),
                    "write a number from 0 to 255, or a name",
                );
            };
            return Ok(Self {
                protocol: Some(protocol),
                low: None,
                except,
            });
        }
        // A number alone is rather a port, unless it is that of a well-known protocol.
        let is_number = name.bytes().all(|byte| byte.is_ascii_digit()) && !name.is_empty();
        let named = |number: u8| !service::protocol_name(number).starts_with("protocol ");
        if is_number && !name.parse().is_ok_and(named) {
            let help = match name.parse::<u8>() {
                Ok(_) => {
                    format!(
                        "write `tcp {name}` or `udp {name}` for a port, `protocol {name}` for the IP protocol"
                    )
                }
                Err(_) => {
                    format!("write `tcp {name}` or `udp {name}` for a port; protocols go up to 255")
                }
            };
            return error(format!("`{name}` alone is not traffic"), help);
        }
        let Some(protocol) = service::protocol_named(name) else {
            if let Some(help) = meant::service(text) {
                return error(format!("`{text}` is not traffic"), help);
            }
            let names: Vec<&str> = service::protocol_names().collect();
            let help = format!(
                "write any, a number from 0 to 255, or one of {}",
                names.join(", ")
            );
            return error(format!("`{name}` is not a protocol"), help);
        };
        let low = match low {
            None => None,
            Some(low) if service::is_icmp(protocol) => Some(parse_icmp(low)?),
            Some(low) => Some(parse_ports(low)?),
        };
        Ok(Self {
            protocol: Some(protocol),
            low,
            except,
        })
    }
}

/// What is left out of any: `tcp 22,443, icmp`. A part that begins with a digit is more of the ports before it.
fn parse_except(text: &str) -> Result<Vec<Service>, NotationError> {
    let mut parts: Vec<String> = Vec::new();
    for part in text.split(',').map(str::trim) {
        match parts.last_mut() {
            Some(before) if part.starts_with(|sign: char| sign.is_ascii_digit()) => {
                before.push(',');
                before.push_str(part);
            }
            _ => parts.push(part.to_owned()),
        }
    }
    parts
        .iter()
        .map(|part| match part.parse::<Service>()? {
            one if one.protocol.is_none() => error(
                format!("`{part}` cannot be excluded from any"),
                "name protocols: any except tcp 22, icmp",
            ),
            one => Ok(one),
        })
        .collect()
}

/// Splits `kind:rest` if the kind is one of those given.
pub fn split_kind<'t, 'k>(text: &'t str, kinds: &[&'k str]) -> Option<(&'k str, &'t str)> {
    let (kind, rest) = text.split_once(':')?;
    let known = kinds.iter().find(|known| **known == kind)?;
    Some((known, rest))
}

/// Pairs of a tag selector: `role=web,env=live`.
pub fn parse_tags(text: &str) -> Result<Vec<(Name, Name)>, NotationError> {
    let help = "write tag:role=web, or tag:role=web,env=live for interfaces with both";
    let mut pairs = Vec::new();
    for part in text.split(',') {
        match part.split_once('=') {
            Some((key, value)) if !key.trim().is_empty() => {
                pairs.push((key.trim().into(), value.trim().into()))
            }
            _ => return error(format!("`{part}` is not a tag with its value"), help),
        }
    }
    pairs.sort();
    Ok(pairs)
}

#[cfg(test)]
mod tests {
    use super::*;
    use heronshale_sets::address::Family;

    #[test]
    fn traffic_reads_back_as_it_prints() {
        let table = [
            ("tcp 443", "tcp 443"),
            ("TCP  80,443", "tcp 80,443"),
            ("tcp 8000-8100", "tcp 8000-8100"),
            ("tcp 0-65535", "tcp"),
            ("udp", "udp"),
            ("icmp 8", "icmp 8"),
            ("icmp 8/0", "icmp 8/0"),
            ("icmp 0,8", "icmp 0, icmp 8"),
            ("6 22", "tcp 22"),
            ("47", "gre"),
            ("protocol 200", "protocol 200"),
            ("protocol 47", "gre"),
            ("any", "any"),
            ("any 53", "tcp 53, udp 53, sctp 53"),
            ("gre 22", ""),
            ("icmpv6 128", ""),
        ];
        for (text, expected) in table {
            let read: Service = text.parse().unwrap();
            assert_eq!(
                service::texts(Family::V4, &read.numbers(Family::V4)).join(", "),
                expected,
                "{text}"
            );
        }
    }

    #[test]
    fn what_is_wrong_is_told() {
        let table = [
            ("tpc 22", "`tpc` is not a protocol"),
            ("256", "`256` alone is not traffic"),
            ("22", "`22` alone is not traffic"),
            ("tcp/443", "`tcp/443` is not traffic"),
            ("443/TCP", "`443/TCP` is not traffic"),
            ("udp53", "`udp53` is not traffic"),
            ("protocol 300", "`300` is not a protocol"),
            ("tcp 65536", "`65536` is not a valid port"),
            ("tcp 90-80", "the range 90-80 is reversed"),
            ("tcp +5", "`+5` is not a valid port"),
            ("icmp /0", "an ICMP code needs its type"),
            ("icmp 256", "`256` is not a valid ICMP type"),
            ("icmp 8/256", "`256` is not a valid ICMP code"),
            ("tcp 22,", "`` is not a valid port"),
            ("", "`` is not a protocol"),
        ];
        for (text, expected) in table {
            assert_eq!(
                text.parse::<Service>().unwrap_err().what,
                expected,
                "{text}"
            );
        }
        assert_eq!(
            parse_tags("role").unwrap_err().what,
            "`role` is not a tag with its value"
        );
    }
}
