//! What is said of an order.

use crate::class::Class;
use crate::outcome::Outcome;
use crate::search::Cost;
use crate::starts::From;
use heronshale_model::change::Edit;
use heronshale_sets::packet::PacketSet;
use serde::Serialize;

/// What is wrong with a state in between; the worst first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Harm {
    /// From the internet, or to marked addresses, more works than at either end.
    OpensWidely,
    /// Something works without a firewall that it passes at both ends.
    Uninspected,
    /// Something that works at both ends works less, or not at all.
    Ends,
    /// Inside, more works than at either end.
    Opens,
    /// Something that is known at both ends is unknown.
    Unknown,
    /// Something was given up at a declared limit.
    Undecided,
    /// An expectation that both ends keep is not kept.
    Breaks,
    /// Something passes no firewall, though it passes some at each end, other ones. This is no harm, but worth a word.
    PassesNone,
}

impl Harm {
    /// All of them.
    pub const ALL: [Self; 8] = [
        Self::OpensWidely,
        Self::Uninspected,
        Self::Ends,
        Self::Opens,
        Self::Unknown,
        Self::Undecided,
        Self::Breaks,
        Self::PassesNone,
    ];
}

/// Connections that fare badly in a state in between.
#[derive(Clone, Debug)]
pub struct Harmed {
    /// What is wrong.
    pub harm: Harm,
    /// Where they start.
    pub from: From,
    /// The connections, whatever the client port.
    pub packets: PacketSet,
    /// What becomes of them at both ends and in between.
    pub outcomes: [Outcome; 3],
}

/// A state between two others, and what is wrong with it.
#[derive(Clone, Debug, Default)]
pub struct Between {
    /// The steps that are done.
    pub done: Vec<usize>,
    /// Connections that fare badly.
    pub harmed: Vec<Harmed>,
    /// Expectations, by their places, that both ends keep and this state does not.
    pub broken: Vec<usize>,
}

impl Between {
    /// Whether nothing is wrong.
    pub fn is_safe(&self) -> bool {
        self.broken.is_empty() && self.harmed.iter().all(|one| one.harm == Harm::PassesNone)
    }

    pub(crate) fn cost(&self) -> Cost {
        let has = |harm| self.harmed.iter().any(|one| one.harm == harm);
        Harm::ALL.map(|harm| match harm {
            Harm::Breaks => u32::from(!self.broken.is_empty()),
            harm => u32::from(has(harm)),
        })
    }

    /// The worst of it comes first.
    pub(super) fn sorted(mut self) -> Self {
        self.harmed
            .sort_by(|one, other| (one.harm, &one.from).cmp(&(other.harm, &other.from)));
        self
    }
}

/// Why one step has to come before another.
#[derive(Clone, Debug)]
pub enum Why {
    /// The state would not be a legal estate, or a step would refer to what is not there yet.
    Needs,
    /// The state in between would be harmful.
    Harm(Between),
}

/// Steps of which one has to come first.
#[derive(Clone, Debug)]
pub struct Constraint {
    /// The step that comes first, by its place in the order.
    pub first: usize,
    /// The step that follows, by its place in the order.
    pub then: usize,
    /// Why.
    pub why: Why,
}

/// A connection that fares otherwise after a step.
#[derive(Clone, Debug)]
pub struct Check {
    /// How it changes; none if it stays as it is, and would not without this step once a later one is made.
    pub class: Option<Class>,
    /// Where it starts.
    pub from: From,
    /// The connections.
    pub packets: PacketSet,
    /// What becomes of them after the step.
    pub now: Outcome,
}

/// One step.
#[derive(Clone, Debug)]
pub struct Step {
    /// Its edits: several only where fewer make no legal estate.
    pub edits: Vec<usize>,
    /// Whether it may be made at any time.
    pub any_time: bool,
    /// What shows that it was made; of a step for any time once all are.
    pub check: Option<Check>,
    /// The state after it.
    pub after: Between,
    /// States that are passed when all from this step on backwards is undone, and that are harmful for who knows only these steps.
    pub undo: Vec<Between>,
}

/// Steps that have no safe order among themselves.
#[derive(Clone, Debug)]
pub struct Conflict {
    /// Their edits.
    pub edits: Vec<usize>,
    /// Whether all smaller sets have a safe order.
    pub minimal: bool,
    /// What is wrong in the best of their orders.
    pub state: Between,
}

/// An order of steps.
#[derive(Clone, Debug)]
pub struct Order {
    /// All edits.
    pub edits: Vec<Edit>,
    /// The steps in their order.
    pub steps: Vec<Step>,
    /// Which step has to come before which.
    pub constraints: Vec<Constraint>,
    /// Of steps without a safe order some that have none.
    pub conflict: Option<Conflict>,
    /// Whether every order counted.
    pub all_tried: bool,
    /// Whether something was given up, is unknown at an end or is not judged: nothing is said of that.
    pub open: bool,
}

/// Why there is no order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NoOrder {
    /// There are more steps than are put in order.
    TooMany {
        /// How many.
        steps: usize,
        /// How many can be.
        most: usize,
    },
    /// Every order passes states that are no legal estates.
    Illegal,
}
