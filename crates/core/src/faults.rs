//! Known faults that tests put into the engine to see that they are caught. Without the feature `seeded-faults`
//! every question here is answered by a constant `false`, and nothing of it is in the program.

/// One known fault.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs, reason = "the names say it")]
pub enum Fault {
    GroupsAsFirstMatch,
    OrderedHighestFirst,
    EqualPriorityByPosition,
    IgnoreDisabled,
    IgnoreExcept,
    IgnoreLocal,
    IgnoreSourcePorts,
    IgnoreSecondGroup,
    DropAclStage,
    DropOwnFirewall,
    DropScopePolicies,
    DropSubnetGroups,
    DropInterfaceGroups,
    AclForNeighbours,
    AclKeepsState,
    AclDefaultAllow,
    InnerScopeFirst,
    FinallySkipsNothing,
    FinallySkipsAcl,
    DeferAllows,
    ForgetImpliedPair,
    ForgetNoGroup,
    PooledAsBoth,
    BothAsPooled,
    OneDefaultOfTwo,
    PortsOffByOne,
    AnyPortsOnlyTcp,
    ForgetIpv6,
    PublicAddressesCarry,
    SubnetBindingCarries,
    ReachOneWay,
    SetsWithoutNesting,
    TagsAnyPair,
    StatelessRuleKeepsState,
    UnfilteredWithoutAcl,
    InboundRulesForOutbound,
    ExpiredStillMatches,
    MissingPeerMatchesNothing,
    PriorityZeroIsNone,
    RejectPasses,
    TargetsIgnored,
    PlatformTrafficFiltered,
    RouteShortestWins,
    RouteKindsAlike,
    RouteMetricIgnored,
    RouteDisabledCounts,
    RouteMainTableAlways,
    RoutePeeringForgotten,
    RouteFixedIgnored,
    RouteFirstAlways,
    RouteMissingLost,
    GatewayAlwaysAttached,
    InternetBlockIgnored,
    ReplyRouteIgnored,
    ReplyStagesIgnored,
    DeadByEndingCovers,
    DeadWhateverState,
    DeadByLaterRules,
    DeadIgnoresDefault,
    DeadSingleCoversOnly,
    DeadIgnoresBetween,
    WalkKnownEverywhere,
    WalkKnownNowhere,
    WalkReplySkipsAcl,
    WalkLeavesWithoutAcl,
    WalkEntersWithoutAcl,
    WalkForwardedAccepted,
    WalkLentIsJudged,
    WalkAllForward,
    WalkSymmetricBalancerIgnored,
    WalkHealthIgnored,
    WalkSameSubnetOtherwise,
    WalkBalancedRepliesOtherwise,
    WalkNatKeepsPorts,
    WalkNatTakesAll,
    WalkBlockIgnoredOut,
    WalkBlockIgnoredIn,
    WalkReplyByAnyGateway,
    WalkGatewayTableIgnored,
    WalkSiteTakesHeldOnly,
    WalkSiteKnowsAll,
    WalkNeverSteered,
    WalkBackByLink,
    WalkLinkSubnetIgnored,
    WalkBypassIgnored,
    WalkFirewallKnowsAll,
    WalkMembersShareState,
    WalkTranslatedMembersDiffer,
    WalkMembersAlwaysUp,
    WalkPolicySeesOtherwise,
    WalkDestinationKept,
    WalkSourceKept,
    WalkFirewallForwardsOwn,
    WalkFirewallTableIgnored,
    WalkZonesIgnored,
    WalkDoorPortIgnored,
    WalkDoorFilteredOtherwise,
    WalkDoorAlwaysOpen,
    WalkDoorListIgnored,
    WalkProxyForgetsFirstReply,
    WalkBaseIgnored,
    WalkDeferIgnored,
    WalkClassesIgnored,
    WalkConditionHolds,
    WalkNamesNeverFit,
    WalkFirstChoiceOnly,
    WalkDoubtPasses,
    WalkConditionsForgotten,
    RoutePropagationIgnored,
    RouteDefaultAlwaysOffered,
    RouteNoLastResort,
    RouteSourceLimitIgnored,
    RouteTagLimitIgnored,
    RouteNothingLent,
    SweepForgetsWhoIsReached,
    SweepOneOfEachKind,
    SweepWithoutDominators,
    /// No fault: the stages are asked about the whole of every rule. The answer must mean the same.
    ElsewhereInFull,
    /// What is joined without a device one way is taken to be so both ways.
    DirectForgetsReplies,
    /// Firewalls to which a hub's link leads packets are forgotten.
    DirectForgetsSteering,
    /// What leaves by any internet gateway is taken to come back by it.
    DirectByAnyGateway,
    /// Everything is taken to fare cleanly on the internet.
    TransitIsClean,
    /// No fault: nothing is known to be joined without a device. The answer must mean the same.
    DirectSaysNothing,
    /// No fault: lists as if they were too long to widen their entries. The answer must mean the same.
    NeverWidened,
    /// No fault: any number of interfaces is taken together. The answer must mean the same.
    AlwaysMany,
    /// The same, and interfaces are alike whatever sets of addresses hold them.
    AlikeWithoutMarks,
    /// The same, and subnets are alike whatever stands in them.
    AlikeAcrossSubnets,
    /// The same, and stages tell nothing apart.
    AlikeWithoutStages,
}

impl Fault {
    /// Faults of the stages.
    pub const STAGES: [Self; 42] = [
        Self::GroupsAsFirstMatch,
        Self::OrderedHighestFirst,
        Self::EqualPriorityByPosition,
        Self::IgnoreDisabled,
        Self::IgnoreExcept,
        Self::IgnoreLocal,
        Self::IgnoreSourcePorts,
        Self::IgnoreSecondGroup,
        Self::DropAclStage,
        Self::DropOwnFirewall,
        Self::DropScopePolicies,
        Self::DropSubnetGroups,
        Self::DropInterfaceGroups,
        Self::AclForNeighbours,
        Self::AclKeepsState,
        Self::AclDefaultAllow,
        Self::InnerScopeFirst,
        Self::FinallySkipsNothing,
        Self::FinallySkipsAcl,
        Self::DeferAllows,
        Self::ForgetImpliedPair,
        Self::ForgetNoGroup,
        Self::PooledAsBoth,
        Self::BothAsPooled,
        Self::OneDefaultOfTwo,
        Self::PortsOffByOne,
        Self::AnyPortsOnlyTcp,
        Self::ForgetIpv6,
        Self::PublicAddressesCarry,
        Self::SubnetBindingCarries,
        Self::ReachOneWay,
        Self::SetsWithoutNesting,
        Self::TagsAnyPair,
        Self::StatelessRuleKeepsState,
        Self::UnfilteredWithoutAcl,
        Self::InboundRulesForOutbound,
        Self::ExpiredStillMatches,
        Self::MissingPeerMatchesNothing,
        Self::PriorityZeroIsNone,
        Self::RejectPasses,
        Self::TargetsIgnored,
        Self::PlatformTrafficFiltered,
    ];

    /// Faults of routes and direct exposure.
    pub const EXPOSURE: [Self; 13] = [
        Self::RouteShortestWins,
        Self::RouteKindsAlike,
        Self::RouteMetricIgnored,
        Self::RouteDisabledCounts,
        Self::RouteMainTableAlways,
        Self::RoutePeeringForgotten,
        Self::RouteFixedIgnored,
        Self::RouteFirstAlways,
        Self::RouteMissingLost,
        Self::GatewayAlwaysAttached,
        Self::InternetBlockIgnored,
        Self::ReplyRouteIgnored,
        Self::ReplyStagesIgnored,
    ];

    /// Faults of what is alike; with each of them any number of interfaces is taken together.
    pub const ALIKE: [Self; 3] = [Self::AlikeWithoutMarks, Self::AlikeAcrossSubnets, Self::AlikeWithoutStages];

    /// Whether few interfaces are taken together too.
    pub fn takes_few_together() -> bool {
        has(Self::AlwaysMany) || Self::ALIKE.into_iter().any(has)
    }

    /// Faults of the walk.
    pub const WALK: [Self; 53] = [
        Self::WalkKnownEverywhere,
        Self::WalkKnownNowhere,
        Self::WalkReplySkipsAcl,
        Self::WalkLeavesWithoutAcl,
        Self::WalkEntersWithoutAcl,
        Self::WalkForwardedAccepted,
        Self::WalkLentIsJudged,
        Self::WalkAllForward,
        Self::WalkSymmetricBalancerIgnored,
        Self::WalkHealthIgnored,
        Self::WalkSameSubnetOtherwise,
        Self::WalkBalancedRepliesOtherwise,
        Self::WalkNatKeepsPorts,
        Self::WalkNatTakesAll,
        Self::WalkBlockIgnoredOut,
        Self::WalkBlockIgnoredIn,
        Self::WalkReplyByAnyGateway,
        Self::WalkGatewayTableIgnored,
        Self::WalkSiteTakesHeldOnly,
        Self::WalkSiteKnowsAll,
        Self::WalkNeverSteered,
        Self::WalkBackByLink,
        Self::WalkLinkSubnetIgnored,
        Self::WalkBypassIgnored,
        Self::WalkFirewallKnowsAll,
        Self::WalkMembersShareState,
        Self::WalkTranslatedMembersDiffer,
        Self::WalkMembersAlwaysUp,
        Self::WalkPolicySeesOtherwise,
        Self::WalkDestinationKept,
        Self::WalkSourceKept,
        Self::WalkFirewallForwardsOwn,
        Self::WalkFirewallTableIgnored,
        Self::WalkZonesIgnored,
        Self::WalkDoorPortIgnored,
        Self::WalkDoorFilteredOtherwise,
        Self::WalkDoorAlwaysOpen,
        Self::WalkDoorListIgnored,
        Self::WalkProxyForgetsFirstReply,
        Self::WalkBaseIgnored,
        Self::WalkDeferIgnored,
        Self::WalkClassesIgnored,
        Self::WalkConditionHolds,
        Self::WalkNamesNeverFit,
        Self::WalkFirstChoiceOnly,
        Self::WalkDoubtPasses,
        Self::WalkConditionsForgotten,
        Self::RoutePropagationIgnored,
        Self::RouteDefaultAlwaysOffered,
        Self::RouteNoLastResort,
        Self::RouteSourceLimitIgnored,
        Self::RouteTagLimitIgnored,
        Self::RouteNothingLent,
    ];

    /// Faults of dead rules.
    pub const DEAD: [Self; 6] = [
        Self::DeadByEndingCovers,
        Self::DeadWhateverState,
        Self::DeadByLaterRules,
        Self::DeadIgnoresDefault,
        Self::DeadSingleCoversOnly,
        Self::DeadIgnoresBetween,
    ];
}

#[cfg(feature = "seeded-faults")]
mod seeded {
    use super::Fault;
    use std::cell::Cell;

    thread_local! {
        static CURRENT: Cell<Option<Fault>> = const { Cell::new(None) };
    }

    /// Whether the engine has this fault on this thread.
    pub(crate) fn has(fault: Fault) -> bool {
        CURRENT.get() == Some(fault)
    }

    /// Runs something on this thread with one fault in the engine.
    pub fn with_fault<T>(fault: Fault, run: impl FnOnce() -> T) -> T {
        under(Some(fault), run)
    }

    /// The fault of this thread, for those that work for it.
    pub(crate) fn carried() -> Option<Fault> {
        CURRENT.get()
    }

    /// Runs something on this thread with what another thread carries.
    pub(crate) fn under<T>(fault: Option<Fault>, run: impl FnOnce() -> T) -> T {
        let before = CURRENT.replace(fault);
        let result = run();
        CURRENT.set(before);
        result
    }
}

#[cfg(feature = "seeded-faults")]
pub use seeded::with_fault;
#[cfg(feature = "seeded-faults")]
pub(crate) use seeded::{carried, has, under};

/// Whether the engine has this fault: never.
#[cfg(not(feature = "seeded-faults"))]
pub(crate) const fn has(_: Fault) -> bool {
    false
}

/// The fault of this thread: none.
#[cfg(not(feature = "seeded-faults"))]
pub(crate) const fn carried() -> Option<Fault> {
    None
}

/// Runs something.
#[cfg(not(feature = "seeded-faults"))]
pub(crate) fn under<T>(_: Option<Fault>, run: impl FnOnce() -> T) -> T {
    run()
}
