//! The steps of a walk: what happened where, and why it ended.

use crate::judgement::{By, Judgement, StageKind};
use crate::route::Winner;
use heronshale_model::estate::{
    Balancer, Direction, Firewall, Gateway, Hub, Id, Interface, Network, Peering, PlatformService,
    Site, Subnet,
};
use heronshale_model::source::Origin;
use heronshale_sets::packet::Rewrite;

/// A place on the way.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Spot {
    /// An interface.
    Interface(Id<Interface>),
    /// A subnet.
    Subnet(Id<Subnet>),
    /// A network, outside of its subnets.
    Network(Id<Network>),
    /// A gateway.
    Gateway(Id<Gateway>),
    /// A peering, and the network towards which it is crossed.
    Peering(Id<Peering>, Option<Id<Network>>),
    /// A firewall.
    Firewall(Id<Firewall>),
    /// A balancer.
    Balancer(Id<Balancer>),
    /// A platform service.
    Service(Id<PlatformService>),
    /// A hub, and one of its links.
    Hub(Id<Hub>, Option<usize>),
    /// A site.
    Site(Id<Site>),
    /// The internet.
    Internet,
}

/// Why a walk ended at a place, without a stage.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Why {
    /// No route matches.
    NoRoute,
    /// The route leads nowhere.
    Blackhole(Winner),
    /// The next hop does not exist, is down or is not attached.
    DeadHop(Winner),
    /// Nobody holds the address.
    NobodyHolds,
    /// The interface may not pass on packets that are not its own.
    MayNotForward,
    /// The same place with the same header for the second time.
    Loop,
    /// The peering's far side takes no packets that come from elsewhere.
    ForwardedNotAccepted,
    /// What came in over a peering does not leave again.
    NotTransitive,
    /// The sender has no public address to be mapped to.
    NotMapped,
    /// The internet has no such address.
    NotOnInternet,
    /// The network has no attached internet gateway.
    NoGateway,
    /// The gateway lets nothing in.
    NothingIn,
    /// The gateway takes no such packets: of this family or protocol.
    NotTaken,
    /// The reply is routed to a device that did not see the request.
    SawNoRequest,
    /// The reply went around a device that saw the request.
    Bypassed,
    /// The reply arrives at somebody who asked nothing.
    NotAsked,
    /// No member of the firewall is up.
    NoMember,
    /// Another member than the one that saw the request.
    OtherMember,
    /// It was sent to the firewall itself, which translates no such packet.
    NotTranslated,
    /// The firewall's own table has no route.
    NoFirewallRoute,
    /// No front end takes the port.
    NoFrontEnd,
    /// No back end is healthy.
    NoBackEnd,
    /// The back end has no address of the family.
    NoBackEndAddress,
    /// The service has no such port.
    NoSuchPort,
    /// The link reads from no domain.
    NoDomain,
    /// It would leave by the link by which it came.
    BackByLink,
    /// The site does not hold or announce the address.
    NotAtSite,
    /// The site knows no way to the address.
    SiteKnowsNoWay,
    /// A private door opens nothing from its side.
    OneWayDoor,
    /// The snapshot lacks what comes next.
    Lacking,
    /// Nobody is known to hold the address, and the snapshot lacks some who may.
    NobodyKnown,
    /// It took more steps to follow than the limit allows.
    TooManySteps,
    /// Another route may win, depending on what is missing from the snapshot.
    OpenRoute(Winner),
    /// It was sent to the firewall itself, and the snapshot does not say which services the firewall has.
    OwnServices,
    /// The source that a translation gives is of the other family, or there is none.
    NoTranslatedSource,
}

/// What happened.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum What {
    /// A stage of an interface judged it.
    Stage {
        /// Which side.
        direction: Direction,
        /// Which check.
        stage: StageKind,
        /// What it decided.
        judgement: Judgement,
    },
    /// The stages of an interface know the connection, or there are none.
    Known(Direction),
    /// A subnet's ACL judged it.
    Acl(Direction, Judgement),
    /// It was routed.
    Routed(Winner),
    /// A network, or a subnet of it, may not talk to the internet like this.
    InternetBlock(Id<Network>, Option<Id<Subnet>>),
    /// A gateway, balancer or firewall changed the header, by a rule or of itself.
    Changed(Rewrite, Option<Origin>),
    /// A firewall's policy judged it.
    Policy {
        /// Whether it lets it on.
        allows: bool,
        /// Whether the sender is told.
        rejects: bool,
        /// What decided.
        by: By,
    },
    /// A firewall knows the connection.
    Passed,
    /// A service's public door is shut.
    DoorShut,
    /// A service's list does not hold the source.
    DoorList(bool),
    /// It came over a peering, a hub, a link.
    Crossed,
    /// The request arrived.
    Arrived,
    /// It is traffic of the platform itself.
    Platform,
    /// The walk ended here.
    Ended(Why),
}

/// One step.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Step {
    /// On the way back.
    pub reply: bool,
    /// Where.
    pub at: Spot,
    /// What.
    pub what: What,
}

impl Step {
    /// A step.
    pub fn new(reply: bool, at: Spot, what: What) -> Self {
        Self { reply, at, what }
    }

    /// The end of a walk.
    pub fn lost(reply: bool, at: Spot, why: Why) -> Self {
        Self {
            reply,
            at,
            what: What::Ended(why),
        }
    }
}
