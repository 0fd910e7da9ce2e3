//! How bad findings are.

use serde::Serialize;

/// How bad it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Worth knowing.
    Note,
    /// To be fixed when somebody works there next.
    Minor,
    /// To be fixed soon.
    Serious,
    /// To be fixed now.
    Urgent,
}

impl Severity {
    /// Lowest first.
    pub const ALL: [Self; 4] = [Self::Note, Self::Minor, Self::Serious, Self::Urgent];

    /// What it is called.
    pub fn word(self) -> &'static str {
        match self {
            Self::Note => "note",
            Self::Minor => "minor",
            Self::Serious => "serious",
            Self::Urgent => "urgent",
        }
    }

    /// So many steps worse, or better where negative; never past an end.
    #[must_use]
    pub fn moved(self, steps: i32) -> Self {
        let at =
            i32::try_from(Self::ALL.iter().position(|one| *one == self).unwrap_or(0)).unwrap_or(0);
        let last = i32::try_from(Self::ALL.len() - 1).unwrap_or(0);
        let to = usize::try_from((at + steps).clamp(0, last)).unwrap_or(0);
        Self::ALL[to]
    }
}
