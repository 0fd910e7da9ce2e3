//! Addresses, prefixes, ranges, and sets of them for both families.

use crate::intervals::Intervals;
use serde::Serialize;
use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::str::FromStr;

/// IPv4 or IPv6.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum Family {
    /// IPv4 (RFC 791).
    #[serde(rename = "ipv4")]
    V4,
    /// IPv6 (RFC 8200).
    #[serde(rename = "ipv6")]
    V6,
}

impl Family {
    /// IPv4, then IPv6: the order of every output.
    pub const BOTH: [Self; 2] = [Self::V4, Self::V6];

    /// The family of an address.
    pub fn of(address: IpAddr) -> Self {
        if address.is_ipv4() {
            Self::V4
        } else {
            Self::V6
        }
    }

    /// Bits of an address: 32 or 128.
    pub fn bits(self) -> u8 {
        match self {
            Self::V4 => 32,
            Self::V6 => 128,
        }
    }
}

impl fmt::Display for Family {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::V4 => "IPv4",
            Self::V6 => "IPv6",
        })
    }
}

/// The largest address of a family, as a number.
pub const fn last_of(family: Family) -> u128 {
    match family {
        Family::V4 => 0xFFFF_FFFF,
        Family::V6 => u128::MAX,
    }
}

/// An address as a number.
pub fn number_of(address: IpAddr) -> u128 {
    match address {
        IpAddr::V4(v4) => u128::from(v4.to_bits()),
        IpAddr::V6(v6) => v6.to_bits(),
    }
}

/// The address that a number stands for; for IPv4 the low 32 bits count.
pub fn address_of(family: Family, number: u128) -> IpAddr {
    match family {
        Family::V4 => {
            let low = u32::try_from(number & last_of(Family::V4)).expect("masked to 32 bits");
            IpAddr::V4(Ipv4Addr::from_bits(low))
        }
        Family::V6 => IpAddr::V6(Ipv6Addr::from_bits(number)),
    }
}

/// A contiguous run of addresses of one family, both ends inclusive.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Range {
    /// The family.
    pub family: Family,
    /// The lowest address, as a number.
    pub first: u128,
    /// The highest address, as a number; not below `first`.
    pub last: u128,
}

/// An address block with how it was written: the length counts even if a range would do, and host bits are told.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Block {
    /// The addresses, host bits masked.
    pub range: Range,
    /// The prefix length, if it was written as a prefix or an address.
    pub length: Option<u8>,
    /// The address as written, if it had bits outside the prefix: for an interface its own address.
    pub host: Option<IpAddr>,
}

/// Why a text is not an address, prefix or range.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum BlockError {
    /// Not an address, prefix or range at all.
    Malformed,
    /// A prefix length above 32 or 128.
    Length {
        /// The largest length of the family.
        most: u8,
    },
    /// Two ends of different families.
    Mixed,
    /// The first end is above the last.
    Reversed,
    /// `0.0.0.0` or `::` without a length: no host has it, and all addresses may be meant.
    Unspecified,
}

impl fmt::Display for BlockError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Malformed => {
                f.write_str("not an address, a prefix such as 10.64.0.0/12, or a range such as 10.64.0.1-10.64.0.9")
            }
            Self::Length { most } => write!(f, "the prefix length is above {most}"),
            Self::Mixed => f.write_str("a range cannot go from IPv4 to IPv6"),
            Self::Unspecified => f.write_str(
                "this is one address, which no host has: write 0.0.0.0/0 or ::/0 for all, 0.0.0.0/32 or ::/128 for this one",
            ),
            Self::Reversed => f.write_str("the range is reversed: its first address is above its last"),
        }
    }
}

impl FromStr for Block {
    type Err = BlockError;

    fn from_str(text: &str) -> Result<Self, BlockError> {
        if let Some((first, last)) = text.split_once('-') {
            let [first, last] = [first, last].map(|end| end.trim().parse::<IpAddr>());
            let (Ok(first), Ok(last)) = (first, last) else {
                return Err(BlockError::Malformed);
            };
            let family = Family::of(first);
            if family != Family::of(last) {
                return Err(BlockError::Mixed);
            }
            let (first, last) = (number_of(first), number_of(last));
            if first > last {
                return Err(BlockError::Reversed);
            }
            return Ok(Self {
                range: Range {
                    family,
                    first,
                    last,
                },
                length: None,
                host: None,
            });
        }
        let (base, length) = match text.split_once('/') {
            Some((base, length)) => (base, Some(length)),
            None => (text, None),
        };
        let address: IpAddr = base.parse().map_err(|_| BlockError::Malformed)?;
        let family = Family::of(address);
        let bits = family.bits();
        let length = match length {
            None if address.is_unspecified() => return Err(BlockError::Unspecified),
            None => bits,
            Some(digits) if !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit()) => {
                digits
                    .parse::<u8>()
                    .ok()
                    .filter(|length| *length <= bits)
                    .ok_or(BlockError::Length { most: bits })?
            }
            Some(_) => return Err(BlockError::Malformed),
        };
        let number = number_of(address);
        let free = low_bits(bits - length);
        let range = Range {
            family,
            first: number & !free,
            last: number | free,
        };
        let host = (range.first != number).then_some(address);
        Ok(Self {
            range,
            length: Some(length),
            host,
        })
    }
}

fn low_bits(count: u8) -> u128 {
    if count >= 128 {
        u128::MAX
    } else {
        (1_u128 << count) - 1
    }
}

/// A set of addresses of both families, in canonical form.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct Addresses {
    v4: Intervals,
    v6: Intervals,
}

impl Addresses {
    /// No address.
    pub fn empty() -> Self {
        Self::default()
    }

    /// Every address of both families.
    pub fn all() -> Self {
        let [v4, v6] = Family::BOTH.map(|family| Intervals::span(0, last_of(family)));
        Self { v4, v6 }
    }

    /// Every address of one family.
    pub fn of_family(family: Family) -> Self {
        Self::from_intervals(family, Intervals::span(0, last_of(family)))
    }

    /// The addresses of one family with these numbers.
    pub fn from_intervals(family: Family, numbers: Intervals) -> Self {
        let mut set = Self::default();
        *set.of_mut(family) = numbers;
        set
    }

    /// One address.
    pub fn single(address: IpAddr) -> Self {
        let number = number_of(address);
        Self::from_intervals(Family::of(address), Intervals::span(number, number))
    }

    /// The numbers of the addresses of one family.
    pub fn of(&self, family: Family) -> &Intervals {
        match family {
            Family::V4 => &self.v4,
            Family::V6 => &self.v6,
        }
    }

    fn of_mut(&mut self, family: Family) -> &mut Intervals {
        match family {
            Family::V4 => &mut self.v4,
            Family::V6 => &mut self.v6,
        }
    }

    /// Whether no address is in the set.
    pub fn is_empty(&self) -> bool {
        self.v4.is_empty() && self.v6.is_empty()
    }

    /// Whether an address is in the set.
    pub fn contains(&self, address: IpAddr) -> bool {
        self.of(Family::of(address)).contains(number_of(address))
    }

    /// All that is in either set.
    #[must_use]
    pub fn union(&self, other: &Self) -> Self {
        Self {
            v4: self.v4.union(&other.v4),
            v6: self.v6.union(&other.v6),
        }
    }

    /// All that is in both sets.
    #[must_use]
    pub fn intersection(&self, other: &Self) -> Self {
        Self {
            v4: self.v4.intersection(&other.v4),
            v6: self.v6.intersection(&other.v6),
        }
    }

    /// All that is in this set and not in `other`.
    #[must_use]
    pub fn difference(&self, other: &Self) -> Self {
        Self {
            v4: self.v4.difference(&other.v4),
            v6: self.v6.difference(&other.v6),
        }
    }

    /// Whether every address is in `other` too.
    pub fn is_subset(&self, other: &Self) -> bool {
        self.v4.is_subset(&other.v4) && self.v6.is_subset(&other.v6)
    }

    /// Whether some address is in both.
    pub fn overlaps(&self, other: &Self) -> bool {
        self.v4.overlaps(&other.v4) || self.v6.overlaps(&other.v6)
    }

    /// The runs of addresses, IPv4 first, ascending.
    pub fn ranges(&self) -> impl Iterator<Item = Range> + '_ {
        Family::BOTH.into_iter().flat_map(|family| {
            self.of(family)
                .spans()
                .iter()
                .map(move |&(first, last)| Range {
                    family,
                    first,
                    last,
                })
        })
    }

    /// The address sets of one family in words: prefixes where a run is one, ranges elsewhere.
    pub fn texts(&self) -> Vec<String> {
        self.ranges().flat_map(|range| range.texts()).collect()
    }
}

impl From<Range> for Addresses {
    fn from(range: Range) -> Self {
        [range].into_iter().collect()
    }
}

impl FromIterator<Range> for Addresses {
    fn from_iter<T: IntoIterator<Item = Range>>(ranges: T) -> Self {
        let mut sides: [Vec<(u128, u128)>; 2] = Default::default();
        for range in ranges {
            sides[usize::from(range.family == Family::V6)].push((range.first, range.last));
        }
        let [v4, v6] = sides.map(Intervals::from_spans);
        Self { v4, v6 }
    }
}

impl FromIterator<IpAddr> for Addresses {
    fn from_iter<T: IntoIterator<Item = IpAddr>>(addresses: T) -> Self {
        addresses.into_iter().map(Range::single).collect()
    }
}

impl Range {
    /// The run of one address.
    pub fn single(address: IpAddr) -> Self {
        let number = number_of(address);
        Self {
            family: Family::of(address),
            first: number,
            last: number,
        }
    }

    /// The prefix length if the run is one prefix.
    pub fn prefix_length(&self) -> Option<u8> {
        let size = self.last - self.first;
        let free = u8::try_from(size.trailing_ones())
            .unwrap_or(u8::MAX)
            .min(self.family.bits());
        (low_bits(free) == size && self.first & size == 0).then(|| self.family.bits() - free)
    }

    /// The run in words: one prefix or address, two prefixes if it is exactly two, else `first-last`.
    fn texts(&self) -> Vec<String> {
        if self.prefix_length().is_none() {
            let size = self.last - self.first;
            for half in [
                1_u128 << 127 >> size.leading_zeros(),
                size - (1_u128 << 127 >> size.leading_zeros()) + 1,
            ] {
                let (low, high) = (
                    Self {
                        last: self.first + half - 1,
                        ..*self
                    },
                    Self {
                        first: self.first + half,
                        ..*self
                    },
                );
                if half > 1
                    && size > 8
                    && low.prefix_length().is_some()
                    && high.prefix_length().is_some()
                {
                    return vec![low.to_string(), high.to_string()];
                }
            }
        }
        vec![self.to_string()]
    }
}

impl fmt::Display for Range {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let first = address_of(self.family, self.first);
        match self.prefix_length() {
            Some(length) if length == self.family.bits() && !first.is_unspecified() => {
                write!(f, "{first}")
            }
            Some(length) => write!(f, "{first}/{length}"),
            None => write!(f, "{first}-{}", address_of(self.family, self.last)),
        }
    }
}

/// What `internet` means before the estate's own blocks are taken off (`docs/semantics.md` 2.1; RFC 6890 for IPv4, RFC 4291
/// for 2000::/3). Documentation ranges count as public, so that examples work.
pub fn internet_at_large() -> Addresses {
    const NOT_PUBLIC: [&str; 9] = [
        "0.0.0.0/8",
        "10.0.0.0/8",
        "100.64.0.0/10",
        "127.0.0.0/8",
        "169.254.0.0/16",
        "172.16.0.0/12",
        "192.168.0.0/16",
        "224.0.0.0/4",
        "240.0.0.0/4",
    ];
    let block = |text: &&str| text.parse::<Block>().ok().map(|block| block.range);
    let private: Addresses = NOT_PUBLIC.iter().filter_map(block).collect();
    let global: Addresses = ["2000::/3"].iter().filter_map(block).collect();
    Addresses::of_family(Family::V4)
        .difference(&private)
        .union(&global)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_parse_to_the_range_that_they_say() {
        let table = [
            ("10.64.0.0/12", Ok(("10.64.0.0/12", None))),
            ("10.65.4.20", Ok(("10.65.4.20", None))),
            ("10.65.4.20/24", Ok(("10.65.4.0/24", Some("10.65.4.20")))),
            ("0.0.0.0/0", Ok(("0.0.0.0/0", None))),
            ("::/0", Ok(("::/0", None))),
            ("2001:db8::1/64", Ok(("2001:db8::/64", Some("2001:db8::1")))),
            ("2001:db8::/128", Ok(("2001:db8::", None))),
            ("10.0.0.1-10.0.0.6", Ok(("10.0.0.1-10.0.0.6", None))),
            ("10.0.0.0-10.0.0.255", Ok(("10.0.0.0/24", None))),
            ("255.255.255.255/32", Ok(("255.255.255.255", None))),
            ("10.0.0.0/33", Err(BlockError::Length { most: 32 })),
            ("::/129", Err(BlockError::Length { most: 128 })),
            ("10.0.0.9-10.0.0.1", Err(BlockError::Reversed)),
            ("10.0.0.9-::1", Err(BlockError::Mixed)),
            ("10.0.0/8", Err(BlockError::Malformed)),
            ("10.0.0.0/", Err(BlockError::Malformed)),
            ("10.0.0.0/+8", Err(BlockError::Malformed)),
            ("", Err(BlockError::Malformed)),
        ];
        for (text, expected) in table {
            let got = text
                .parse::<Block>()
                .map(|b| (b.range.to_string(), b.host.map(|h| h.to_string())));
            assert_eq!(
                got,
                expected.map(|(r, h)| (r.to_owned(), h.map(str::to_owned))),
                "{text}"
            );
        }
    }

    #[test]
    fn the_internet_holds_what_the_page_says() {
        let internet = internet_at_large();
        let holds = |text: &str| internet.contains(text.parse().unwrap());
        for inside in [
            "1.0.0.0",
            "9.255.255.255",
            "198.51.100.7",
            "223.255.255.255",
            "2000::",
            "3fff:ffff::1",
        ] {
            assert!(holds(inside), "{inside}");
        }
        for outside in [
            "0.0.0.1",
            "10.0.0.1",
            "100.127.255.255",
            "172.31.0.1",
            "224.0.0.1",
            "255.255.255.255",
            "fd00::1",
            "4000::",
        ] {
            assert!(!holds(outside), "{outside}");
        }
    }

    #[test]
    fn a_set_in_words_reads_back_as_the_set() {
        let mut random = fastrand::Rng::with_seed(3);
        for round in 0..2_000 {
            let mut bound = |family: Family| match random.u8(0..4) {
                0 => random.u128(0..=last_of(family)),
                1 => (random.u128(0..16) << (family.bits() - 4)) & last_of(family),
                2 => last_of(family) - random.u128(0..20),
                _ => random.u128(0..20),
            };
            let ranges = [Family::V4, Family::V4, Family::V6].map(|family| {
                let (a, b) = (bound(family), bound(family));
                Range {
                    family,
                    first: a.min(b),
                    last: a.max(b),
                }
            });
            let set: Addresses = ranges.into_iter().collect();
            let texts = set.texts();
            let back: Addresses = texts
                .iter()
                .map(|text| text.parse::<Block>().unwrap().range)
                .collect();
            assert_eq!(back, set, "round {round}: {texts:?}");
            assert!(texts.len() <= 6, "{texts:?}");
        }
    }

    #[test]
    fn set_algebra_holds_address_by_address() {
        let mut random = fastrand::Rng::with_seed(4);
        let mut some = || -> Addresses {
            let base = |family| {
                if family == Family::V4 {
                    0x0A00_0000
                } else {
                    0xFD00_u128 << 112
                }
            };
            let one = |random: &mut fastrand::Rng| {
                let family = Family::BOTH[random.usize(0..2)];
                let (a, b) = (random.u128(0..12), random.u128(0..12));
                Range {
                    family,
                    first: base(family) + a.min(b),
                    last: base(family) + a.max(b),
                }
            };
            (0..random.usize(0..4)).map(|_| one(&mut random)).collect()
        };
        for _ in 0..2_000 {
            let (a, b) = (some(), some());
            let all = (0..13).flat_map(|at| [format!("10.0.0.{at}"), format!("fd00::{at:x}")]);
            for address in all.map(|text| text.parse::<IpAddr>().unwrap()) {
                let (in_a, in_b) = (a.contains(address), b.contains(address));
                assert_eq!(a.union(&b).contains(address), in_a || in_b);
                assert_eq!(a.intersection(&b).contains(address), in_a && in_b);
                assert_eq!(a.difference(&b).contains(address), in_a && !in_b);
            }
            assert_eq!(a.overlaps(&b), !a.intersection(&b).is_empty());
            assert_eq!(a.is_subset(&b), a.difference(&b).is_empty());
            assert_eq!(a.union(&b), b.union(&a));
        }
    }
}
