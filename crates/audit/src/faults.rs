//! Known faults of the analyses, which tests plant to see that they are caught (`heronshale_sets::faults`).

heronshale_sets::known_faults! {
    /// One known fault.
    pub enum Fault {
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
    }
}

impl Fault {
    /// Faults of direct exposure.
    pub const EXPOSURE: [Self; 4] = [
        Self::GatewayAlwaysAttached,
        Self::InternetBlockIgnored,
        Self::ReplyRouteIgnored,
        Self::ReplyStagesIgnored,
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
