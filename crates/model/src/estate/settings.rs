//! Named settings: where clouds differ, it is a setting and not a guess (`docs/semantics.md` 7).

use super::PolicySees;
use heronshale_sets::intervals::Intervals;
use serde::Serialize;

/// How far a group, tag, identity or interface as a peer reaches.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum NamedPeerReach {
    /// The same network.
    Network,
    /// The same network and those peered with it directly, up on both sides.
    #[default]
    Peered,
    /// These and the networks linked to the same hub, links up.
    Hub,
    /// Every network.
    Estate,
}

/// Which of several rules of one priority comes first.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum EqualPriority {
    /// Deny and reject before the rest.
    #[default]
    DenyFirst,
    /// As written.
    Position,
}

/// What groups at the interface and at its subnet mean together.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum SubnetGroups {
    /// Two stages.
    #[default]
    BothMustAllow,
    /// One stage: the union of all rules, if all are union groups.
    Pooled,
}

/// Whether a thing passes where no group is bound.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum NoGroup {
    /// No groups, no stage.
    #[default]
    Allow,
    /// No groups, nothing passes.
    Deny,
}

/// Whether written routes may take precedence over automatic ones.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum AutomaticRoutes {
    /// An equal or longer static route, or a longer propagated one, wins.
    #[default]
    Overridable,
    /// Own blocks and peerings beat all.
    Fixed,
}

/// How packets go between two interfaces of one subnet.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum SameSubnet {
    /// Straight, whatever the table says.
    #[default]
    Direct,
    /// By the table.
    Routed,
}

/// Which of several equal routes is taken.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum EqualRoutes {
    /// Nature picks one.
    #[default]
    All,
    /// The first as written.
    First,
}

/// What a route does whose next hop does not exist or is down.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum MissingNextHop {
    /// Packets are lost.
    #[default]
    Lost,
    /// The route is as if absent.
    Skipped,
}

/// Whether a network or subnet may talk to the internet.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum InternetTraffic {
    /// Not at all.
    None,
    /// Connections to the internet only.
    OutboundOnly,
    /// Both ways.
    #[default]
    BothWays,
}

/// What a balancer does that has no healthy back end.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum NoHealthy {
    /// Connections are lost.
    #[default]
    Lost,
    /// It tries all of them.
    All,
}

/// Whether a private door brings a host route with it, here and in peered networks.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum DoorRoute {
    /// It does not.
    #[default]
    None,
    /// It does.
    Automatic,
}

/// Every setting of a network, each given or at its default.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Settings {
    /// The ports from which clients connect.
    pub client_ports: Intervals,
    /// The ports from which translated connections come.
    pub nat_ports: Intervals,
    /// Which destination firewall policies see.
    pub policy_sees: PolicySees,
    /// Balancers without a healthy back end.
    pub no_healthy: NoHealthy,
    /// Whether stages apply at private doors.
    pub filter_private_doors: bool,
    /// Host routes to private doors.
    pub door_route: DoorRoute,
    /// Whether a name that the linked zone lacks is looked up in public.
    pub fall_through: bool,
    /// How far named peers reach.
    pub named_peer_reach: NamedPeerReach,
    /// Order of equal priorities.
    pub equal_priority: EqualPriority,
    /// Groups at both places.
    pub subnet_groups: SubnetGroups,
    /// Groups at neither place.
    pub no_group: NoGroup,
    /// Whether networks have the implied pair: in deny, out allow, at the lowest priority of the scope policies.
    pub implied_pair: bool,
    /// Precedence of automatic routes.
    pub automatic_routes: AutomaticRoutes,
    /// Packets inside a subnet.
    pub same_subnet: SameSubnet,
    /// Equal routes.
    pub equal_routes: EqualRoutes,
    /// Dead next hops.
    pub missing_next_hop: MissingNextHop,
    /// IPv4 addresses of each subnet that the platform keeps for itself.
    pub reserved_addresses: u32,
    /// Names of the settings that somebody wrote down, here or in a conduct or for the estate.
    pub written: Vec<&'static str>,
}

impl Default for Settings {
    fn default() -> Self {
        Self {
            client_ports: Intervals::span(1024, 65_535),
            nat_ports: Intervals::span(1024, 65_535),
            policy_sees: PolicySees::default(),
            no_healthy: NoHealthy::default(),
            filter_private_doors: true,
            door_route: DoorRoute::default(),
            fall_through: false,
            named_peer_reach: NamedPeerReach::default(),
            equal_priority: EqualPriority::default(),
            subnet_groups: SubnetGroups::default(),
            no_group: NoGroup::default(),
            implied_pair: false,
            automatic_routes: AutomaticRoutes::default(),
            same_subnet: SameSubnet::default(),
            equal_routes: EqualRoutes::default(),
            missing_next_hop: MissingNextHop::default(),
            reserved_addresses: 2,
            written: Vec::new(),
        }
    }
}
