//! What marks of packets and connections do: bit by bit, as far as they are known.

/// A packet's own mark, or that of its connection.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Marked {
    Packet,
    Connection,
}

/// What a line does to a packet that it does not decide.
#[derive(Clone, Debug)]
pub(crate) enum Effect {
    /// A mark is changed.
    Mark(Marked, Change),
    /// Conntrack looks at it no more.
    Untrack,
}

/// How a mark changes.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Change {
    /// Of these bits to this value.
    Set { bits: u32, value: u32 },
    /// To the other mark, of these bits.
    Other { bits: u32 },
    /// In a way that is not understood, in these bits at most.
    Unknown { bits: u32 },
}

/// A mark as far as it is known: which bits, and their values.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Mark {
    pub(super) known: u32,
    pub(super) value: u32,
}

impl Mark {
    pub(super) const NONE: Self = Self {
        known: u32::MAX,
        value: 0,
    };
    pub(super) const UNKNOWN: Self = Self { known: 0, value: 0 };

    pub(super) fn changed(self, change: Change, other: Self) -> Self {
        let replaced = |bits: u32, by: Self| Self {
            known: (self.known & !bits) | (by.known & bits),
            value: (self.value & !bits) | (by.value & by.known & bits),
        };
        match change {
            Change::Set { bits, value } => replaced(
                bits,
                Self {
                    known: u32::MAX,
                    value,
                },
            ),
            Change::Other { bits } => replaced(bits, other),
            Change::Unknown { bits } => replaced(bits, Self::UNKNOWN),
        }
    }

    /// Whether some of its bits are one of some values; none if that is not known.
    pub(super) fn is(self, bits: u32, values: &[(u32, u32)]) -> Option<bool> {
        if bits & !self.known == 0 {
            let own = self.value & bits;
            return Some(
                values
                    .iter()
                    .any(|(first, last)| (*first..=*last).contains(&own)),
            );
        }
        let known = bits & self.known;
        let single =
            |(first, last): &(u32, u32)| first == last && (first & known) != (self.value & known);
        values.iter().all(single).then_some(false)
    }
}

/// What lines before did to a packet that goes on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Carried {
    pub(super) packet: Mark,
    pub(super) connection: Mark,
    pub(super) untracked: bool,
}

impl Carried {
    pub(super) fn after(self, effect: &Effect) -> Self {
        match effect {
            Effect::Untrack => Self {
                untracked: true,
                ..self
            },
            Effect::Mark(Marked::Packet, change) => Self {
                packet: self.packet.changed(*change, self.connection),
                ..self
            },
            Effect::Mark(Marked::Connection, change) => Self {
                connection: self.connection.changed(*change, self.packet),
                ..self
            },
        }
    }
}

/// What packets a list is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Known {
    /// First ones.
    New,
    /// Those that answer a connection.
    Reply,
}
