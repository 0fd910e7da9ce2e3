//! Values of options: prefixes, ports, types of ICMP.

use super::*;

/// An address, or one with a mask of either notation.
pub(in crate::open::linux::iptables) fn block(text: &str) -> Option<Block> {
    if let Some((address, mask)) = text.split_once('/')
        && let Ok(mask) = mask.parse::<std::net::Ipv4Addr>()
    {
        let length = mask.to_bits().leading_ones();
        let plain = mask.to_bits().checked_shl(length).unwrap_or(0) == 0;
        return plain.then(|| format!("{address}/{length}").parse().ok())?;
    }
    text.parse().ok()
}

/// Ports such as `22`, `1024:65535` or `80,443,8000:8100`.
pub(in crate::open::linux::iptables) fn ports(text: &str) -> Option<Intervals> {
    let one = |part: &str| -> Option<(u128, u128)> {
        let (first, last) = part.split_once(':').unwrap_or((part, part));
        let number = |text: &str, absent: u16| {
            if text.is_empty() {
                Some(absent)
            } else {
                text.parse::<u16>().ok()
            }
        };
        Some((number(first, 0)?.into(), number(last, u16::MAX)?.into()))
    };
    let spans: Option<Vec<_>> = text.split(',').map(one).collect();
    spans.map(Intervals::from_spans)
}

pub(in crate::open::linux::iptables) fn to_ports(ports: &Intervals) -> Intervals {
    let ports = ports.intersection(&all_ports());
    let spans = service::WITH_PORTS.into_iter().flat_map(|protocol| {
        let base = u128::from(service::code(protocol, 0));
        ports
            .spans()
            .iter()
            .map(move |(first, last)| (base + first, base + last))
            .collect::<Vec<_>>()
    });
    Intervals::from_spans(spans)
}

/// An ICMP type by name or number, with or without a code.
pub(in crate::open::linux::iptables) fn icmp(protocol: u8, text: &str) -> Option<Condition> {
    let base = u128::from(service::code(protocol, 0));
    if text == "any" {
        return Some(Condition::of_services(service::whole(protocol)));
    }
    let (kind, code) = text
        .split_once('/')
        .map_or((text, None), |(kind, code)| (kind, Some(code)));
    let kind = u128::from(kind.parse().ok().or_else(|| icmp_type(protocol, kind))?);
    let (first, last) = match code {
        None => (0, 255),
        Some(code) => {
            let code = u128::from(code.parse::<u8>().ok()?);
            (code, code)
        }
    };
    Some(Condition::of_services(Intervals::span(
        base + kind * 256 + first,
        base + kind * 256 + last,
    )))
}

/// A number in decimal or hexadecimal.
pub(in crate::open::linux::iptables) fn number(text: &str) -> Option<u32> {
    match text.strip_prefix("0x") {
        Some(digits) => u32::from_str_radix(digits, 16).ok(),
        None => text.parse().ok(),
    }
}
