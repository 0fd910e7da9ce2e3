//! What people write as a target: URLs, HOST:PORT, names.

use super::*;

/// A goal with the traffic that its notation says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Target {
    /// What is to be reached.
    pub goal: Goal,
    /// The service, if the notation says one: `https://host`, `host:8443`.
    pub service: Option<Service>,
}

impl Target {
    /// Reads what is to be reached: an end, a URL, `host:port`, `[address]:port`, or a DNS name.
    ///
    /// # Errors
    /// If nothing bears the name, or several things do; the candidates are told.
    pub fn parse(view: &Fabric<'_>, text: &str) -> Result<Self, EndError> {
        let text = text.trim();
        if let Some((scheme, rest)) = text.split_once("://") {
            let known = SCHEMES
                .iter()
                .find(|(name, _)| name.eq_ignore_ascii_case(scheme));
            let authority = rest.split(['/', '?', '#']).next().unwrap_or(rest);
            let host = authority.rsplit('@').next().unwrap_or(authority);
            let inner = Self::host(view, host)?;
            return match (inner.service, known) {
                (Some(given), _) => Ok(Self {
                    goal: inner.goal,
                    service: Some(given),
                }),
                (None, Some((_, port))) => Ok(Self {
                    goal: inner.goal,
                    service: Some(tcp(*port)),
                }),
                (None, None) => Err(EndError {
                    what: format!("the port of `{scheme}` is not known here"),
                    candidates: vec![format!("{scheme}://{host}:PORT")],
                    ambiguous: true,
                }),
            };
        }
        Self::host(view, text)
    }

    pub(super) fn host(view: &Fabric<'_>, text: &str) -> Result<Self, EndError> {
        let plain = |goal| {
            Ok(Self {
                goal,
                service: None,
            })
        };
        let first = match End::parse(view, text) {
            Ok(end) => return plain(Goal::End(end)),
            Err(error) => error,
        };
        if let Some(name) = text.strip_prefix("name:") {
            return plain(Goal::Name(plain_name(name)));
        }
        if let Some((host, port)) = text.rsplit_once(':')
            && let Ok(port) = port.parse::<u16>()
        {
            let host = host
                .strip_prefix('[')
                .and_then(|host| host.strip_suffix(']'))
                .unwrap_or(host);
            let inner = Self::host(view, host)?;
            return Ok(Self {
                goal: inner.goal,
                service: Some(tcp(port)),
            });
        }
        if let Some(host) = text
            .strip_prefix('[')
            .and_then(|host| host.strip_suffix(']'))
        {
            return Self::host(view, host);
        }
        if looks_like_a_name(text) && !first.ambiguous {
            return plain(Goal::Name(plain_name(text)));
        }
        Err(first)
    }
}

/// A connection as it was pasted: a 5-tuple.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Tuple {
    /// Source address.
    pub source: IpAddr,
    /// Destination address.
    pub destination: IpAddr,
    /// Source port, for protocols that have ports.
    pub source_port: Option<u16>,
    /// What is asked: protocol and port.
    pub service: Service,
}

impl Tuple {
    /// Reads a pasted 5-tuple: two addresses, their ports, a protocol, in the orders in which logs write them:
    /// `tcp 10.64.0.7:40000 → 10.65.0.9:443`, `10.64.0.7,40000,10.65.0.9,443,tcp`, `10.64.0.7 10.65.0.9 40000 443 6`.
    pub fn parse(text: &str) -> Option<Self> {
        let text = text
            .replace("->", " ")
            .replace(['→', '>', ',', ';', '|'], " ");
        let mut addresses: Vec<(IpAddr, Option<u16>)> = Vec::new();
        let mut numbers: Vec<u16> = Vec::new();
        let mut protocol = None;
        for (at, word) in text.split_whitespace().enumerate() {
            if let Ok(address) = word.parse::<IpAddr>() {
                addresses.push((address, None));
            } else if let Ok(socket) = word.parse::<std::net::SocketAddr>() {
                addresses.push((socket.ip(), Some(socket.port())));
            } else if let Ok(number) = word.parse::<u16>() {
                if at == 0 {
                    protocol = u8::try_from(number).ok();
                } else {
                    numbers.push(number);
                }
            } else {
                protocol = Some(service::protocol_named(word)?);
            }
        }
        let [(source, source_port), (destination, port)] = addresses.as_slice() else {
            return None;
        };
        let attached = source_port.is_some() || port.is_some();
        if protocol.is_none() && (numbers.len() == 3 || (attached && numbers.len() == 1)) {
            protocol = numbers.pop().and_then(|number| u8::try_from(number).ok());
        }
        let (mut source_port, mut port) = (*source_port, *port);
        if !attached && let [first, second] = numbers.as_slice() {
            (source_port, port) = (Some(*first), Some(*second));
        } else if !numbers.is_empty() {
            return None;
        }
        if source.is_ipv4() != destination.is_ipv4() {
            return None;
        }
        let protocol = protocol?;
        let low = port.filter(|_| service::has_ports(protocol));
        let low = low.map(|port| Intervals::span(u128::from(port), u128::from(port)));
        Some(Self {
            source: *source,
            destination: *destination,
            source_port: source_port.filter(|_| service::has_ports(protocol)),
            service: Service {
                protocol: Some(protocol),
                low,
                except: Vec::new(),
            },
        })
    }
}

/// Ports of URL schemes: IANA "Uniform Resource Identifier Schemes" and "Service Name and Port Number" registries.
pub(super) const SCHEMES: [(&str, u16); 10] = [
    ("http", 80),
    ("https", 443),
    ("ssh", 22),
    ("ftp", 21),
    ("ldap", 389),
    ("ldaps", 636),
    ("imap", 143),
    ("imaps", 993),
    ("sip", 5060),
    ("sips", 5061),
];

pub(super) fn looks_like_a_name(text: &str) -> bool {
    let label = |label: &str| {
        !label.is_empty()
            && label
                .chars()
                .all(|c| c.is_alphanumeric() || c == '-' || c == '_')
    };
    let labels: Vec<&str> = text.trim_end_matches('.').split('.').collect();
    labels.len() > 1
        && labels.iter().all(|one| label(one))
        && labels
            .last()
            .is_some_and(|last| last.chars().any(char::is_alphabetic))
}
