//! Where a walk stands: the leg, and what it met on it.

use super::*;

/// What began a leg.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Origin {
    /// The start itself.
    Start,
    Gateway(Id<Gateway>),
    Firewall(Id<Firewall>),
    Balancer(Id<Balancer>),
    /// A platform's device that is not described: it finds back by itself.
    Platform,
}

/// What holds for a whole leg.
#[derive(Debug)]
pub(super) struct Leg {
    pub(super) origin: Origin,
    pub(super) start: Start,
    pub(super) depth: u32,
    /// Whether the device that began the leg changed the source.
    pub(super) source_changed: bool,
    /// Whether this device or one before has changed the destination.
    pub(super) destination_changed: bool,
    pub(super) name: Option<Name>,
    /// Who began it by which change; none for a start, or if nothing was changed.
    pub(super) begun: Option<(Origin, Rewrite)>,
    /// The leg before.
    pub(super) before: Option<Rc<Leg>>,
}

impl Leg {
    /// Whether the device has made the same header of each of these packets before: then they go around for ever. What it does not
    /// set itself must be as it was.
    pub(super) fn repeats(self: &Rc<Self>, origin: Origin, change: &Rewrite) -> bool {
        let mut later = [false; 4];
        let sets = |by: &Rewrite| {
            [
                by.source.is_some(),
                by.source_ports.is_some(),
                by.destination.is_some(),
                by.port.is_some(),
            ]
        };
        let own = sets(change);
        for leg in std::iter::successors(Some(self), |leg| leg.before.as_ref()) {
            let Some((of, by)) = &leg.begun else { continue };
            if *of == origin
                && by == change
                && later.iter().zip(own).all(|(later, own)| own || !later)
            {
                return true;
            }
            later = std::array::from_fn(|at| later[at] || sets(by)[at]);
        }
        false
    }
}

/// States that a crossed interface does not keep for certain.
pub(super) type NotKept = Vec<(StageKind, State)>;

/// What the walk met on this leg.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Met {
    /// Stages of an interface that let the request pass.
    Crossed(Id<Interface>, NotKept),
    /// The interfaces at which the leg starts, all states kept.
    StartsCrossed,
    /// A firewall that saw the packet and changed nothing; whether it kept state.
    Firewall(Id<Firewall>, bool),
    /// The back end that a balancer chose as next hop.
    BackEnd(Id<Balancer>, Id<Interface>),
    /// A place where it was routed.
    Routed(Visit),
    /// The leg before, of which the header is the same, ends here.
    NewLeg,
}

/// A place where a packet may not come by twice.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Visit {
    Place(Id<Network>, Option<Id<Subnet>>, Option<Id<Interface>>),
    Gateway(Id<Gateway>),
    Domain(usize, usize, usize, bool),
    Handed(Id<Interface>),
}

#[derive(Debug)]
pub(super) struct PathNode {
    pub(super) before: Option<Rc<PathNode>>,
    pub(super) reply: bool,
    pub(super) met: Met,
}

/// Where the walk stands.
#[derive(Clone, Debug)]
pub(super) struct Ctx {
    pub(super) reply: bool,
    pub(super) leg: Rc<Leg>,
    pub(super) path: Option<Rc<PathNode>>,
    /// The steps so far, if they are told.
    pub(super) trail: u32,
    /// The site gateway by which packets have just come in.
    pub(super) by_site_gateway: Option<Id<Gateway>>,
    /// A firewall that the reply has not passed though the request did.
    pub(super) bypassed: Option<Id<Firewall>>,
    /// A subnet whose ACL the next step does not cross: of an unfiltered private door.
    pub(super) free_of: Option<Id<Subnet>>,
}

impl Ctx {
    pub(super) fn met(&self, met: Met) -> Self {
        let node = PathNode {
            before: self.path.clone(),
            reply: self.reply,
            met,
        };
        Self {
            path: Some(Rc::new(node)),
            ..self.clone()
        }
    }

    pub(super) fn path(&self) -> impl Iterator<Item = &PathNode> {
        std::iter::successors(self.path.as_deref(), |node| node.before.as_deref())
    }

    /// Whether the walk comes to a place for the second time with the same header.
    pub(super) fn repeats(&self, visit: &Visit) -> bool {
        self.path().any(|node| {
            node.reply == self.reply && matches!(&node.met, Met::Routed(other) if other == visit)
        })
    }

    /// The same place, on the way back.
    pub(super) fn turned(&self) -> Self {
        Self {
            reply: true,
            ..self.clone()
        }
    }

    /// The first firewall of this leg that the request passed and the reply did not.
    pub(super) fn bypassed_here(&self) -> Option<Id<Firewall>> {
        let here = || self.path().take_while(|node| node.met != Met::NewLeg);
        let seen = |reply: bool| {
            here()
                .filter(move |node| node.reply == reply)
                .filter_map(|node| match node.met {
                    Met::Firewall(firewall, _) => Some(firewall),
                    _ => None,
                })
        };
        let mut missed: Vec<Id<Firewall>> = seen(false)
            .filter(|f| !seen(true).any(|other| other == *f))
            .collect();
        missed.pop()
    }
}
