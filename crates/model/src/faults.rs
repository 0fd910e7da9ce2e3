//! Known faults of what names mean, which tests plant to see that they are caught (`heronshale_sets::faults`).

heronshale_sets::known_faults! {
    /// One known fault.
    pub enum Fault {
        IgnoreDisabled,
        PublicAddressesCarry,
        SubnetBindingCarries,
        ReachOneWay,
        SetsWithoutNesting,
        TagsAnyPair,
        ExpiredStillMatches,
        MissingPeerMatchesNothing,
    }
}

impl Fault {
    /// Faults of what names mean.
    pub const NAMES: [Self; 8] = [
        Self::IgnoreDisabled,
        Self::PublicAddressesCarry,
        Self::SubnetBindingCarries,
        Self::ReachOneWay,
        Self::SetsWithoutNesting,
        Self::TagsAnyPair,
        Self::ExpiredStillMatches,
        Self::MissingPeerMatchesNothing,
    ];
}
