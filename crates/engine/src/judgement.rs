//! What a check decides about a packet, by what, and whether it keeps state for the reply.

use heronshale_model::estate::{Filter, Id, RuleId};
use serde::Serialize;

/// Which check.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum StageKind {
    /// The workload's own firewall.
    OwnFirewall,
    /// All scope policies, outermost first.
    ScopePolicies,
    /// Groups bound to the interface.
    InterfaceGroups,
    /// Groups bound to the subnet.
    SubnetGroups,
    /// Groups of both places as one union.
    PooledGroups,
    /// The subnet's network ACL.
    NetworkAcl,
}

impl StageKind {
    /// What it is called in output.
    pub fn word(self) -> &'static str {
        match self {
            Self::OwnFirewall => "own firewall",
            Self::ScopePolicies => "policies",
            Self::InterfaceGroups | Self::PooledGroups => "groups",
            Self::SubnetGroups => "subnet groups",
            Self::NetworkAcl => "ACL",
        }
    }

    /// Whether it is one of the groups.
    pub fn is_groups(self) -> bool {
        matches!(
            self,
            Self::InterfaceGroups | Self::SubnetGroups | Self::PooledGroups
        )
    }
}

/// What a stage does with a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Outcome {
    /// Lets it on.
    Pass,
    /// Lets it on, and past the groups of this interface and direction.
    PassFinally,
    /// Lets it on; whether past the groups depends on something missing from the snapshot.
    PassPerhapsFinally,
    /// Drops it in silence.
    Deny,
    /// Drops it and tells the sender.
    Reject,
    /// Depends on what is missing from the snapshot.
    Unknown,
    /// The same, and it may be that groups are skipped.
    UnknownFinally,
}

impl Outcome {
    /// Whether the packet goes on.
    pub fn passes(self) -> bool {
        matches!(
            self,
            Self::Pass | Self::PassFinally | Self::PassPerhapsFinally
        )
    }

    /// Whether the packet ends here.
    pub fn refuses(self) -> bool {
        matches!(self, Self::Deny | Self::Reject)
    }

    /// What is left of two outcomes if it is not known which holds.
    pub fn doubt(self, other: Self) -> Self {
        match (self, other) {
            _ if self == other || (self.refuses() && other.refuses()) => other,
            _ if self.passes() && other.passes() => Self::PassPerhapsFinally,
            _ if self.may_be_final() || other.may_be_final() => Self::UnknownFinally,
            _ => Self::Unknown,
        }
    }

    /// Whether groups are skipped, perhaps.
    pub fn may_be_final(self) -> bool {
        matches!(
            self,
            Self::PassFinally | Self::PassPerhapsFinally | Self::UnknownFinally
        )
    }
}

/// Whether the reply passes a stage without being matched.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum State {
    /// It does.
    Kept,
    /// It is matched as a packet of its own.
    NotKept,
    /// That depends on something missing from the snapshot.
    Unknown,
}

/// What decided.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum By {
    /// A rule: for a union of rules the first that matches.
    Rule(RuleId),
    /// The default of a filter.
    Default(Id<Filter>),
    /// No rule of the groups there admits it.
    NoRule,
    /// The implied end of an ACL.
    ImpliedDeny,
    /// The implied pair past the innermost scope policy.
    ImpliedPair,
    /// No policy decided, so the stage lets it on.
    NoPolicy,
    /// Neither interface nor subnet has a group.
    NoGroup,
    /// Both ends are in one subnet: an ACL is not crossed.
    SameSubnet,
    /// A scope policy allowed it finally: groups are skipped.
    Finally,
    /// Traffic of the platform itself.
    Platform,
    /// A filter that is bound here, its rules, or the bindings are not in the snapshot.
    Lacking,
}

/// What a stage decides about a packet, by what, and whether it keeps state for the reply.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Judgement {
    /// What happens.
    pub outcome: Outcome,
    /// What decided.
    pub by: By,
    /// Whether the reply passes this stage without being matched.
    pub state: State,
}

impl Judgement {
    /// A judgement that keeps state.
    pub const fn new(outcome: Outcome, by: By) -> Self {
        Self {
            outcome,
            by,
            state: State::Kept,
        }
    }

    /// Whether neither outcome nor state depends on something missing from the snapshot.
    pub fn is_certain(self) -> bool {
        let open = matches!(
            self.outcome,
            Outcome::Unknown | Outcome::UnknownFinally | Outcome::PassPerhapsFinally
        );
        !open && (self.outcome.refuses() || self.state != State::Unknown)
    }

    /// The judgement if it is not known which of two holds: `by` names the cause.
    pub fn doubt(self, other: Self, by: By) -> Self {
        let outcome = self.outcome.doubt(other.outcome);
        let state = if self.state == other.state {
            self.state
        } else {
            State::Unknown
        };
        if outcome == other.outcome && (state == other.state || outcome.refuses()) {
            return other;
        }
        Self { outcome, by, state }
    }
}
