//! Sizes from which on the engine works otherwise, to the same end.

/// From which sizes on work is done otherwise. No answer depends on these, but for how entries are cut.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limits {
    /// Up to so many interfaces on one side are walked one by one; of more only verdicts are told, and they are taken together.
    pub one_by_one: usize,
    /// From so many interfaces on it is asked which of them are alike.
    pub likenesses_from: usize,
    /// So many senders are walked in one list: few lists share what a walk learns, long ones make for large maps.
    pub senders_together: usize,
    /// Widening an entry costs an operation on all that stands above it. In lists of more parts each entry says exactly
    /// its own part instead, which reads less well and means the same.
    pub most_widened: usize,
    /// Whether what surely needs no question is left out.
    pub shortcuts: bool,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            one_by_one: 48,
            likenesses_from: 200,
            senders_together: 128,
            most_widened: 256,
            shortcuts: true,
        }
    }
}

impl Limits {
    /// Everything is taken together, however little it is.
    #[must_use]
    pub fn together(self) -> Self {
        Self {
            one_by_one: 0,
            likenesses_from: 2,
            senders_together: 3,
            ..self
        }
    }
}
