//! What expectations say of connections: meant, unmeant, or unjudged (`docs/semantics.md` 13).

use super::sides::{Receivers, Senders, ends};
use super::{Allowance, allowances, said};
use crate::exposure::{DeviceWay, DirectWay, HeldBy};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::walk::Start;
use heronshale_model::stated::{Claim, Expectation};
use heronshale_sets::address::Addresses;
use heronshale_sets::packet::PacketSet;

/// What expectations say of some packets from the internet.
#[derive(Clone, Debug, Default)]
pub struct Spoken {
    /// Those that one allows, and none forbids.
    pub meant: PacketSet,
    /// Those that one forbids.
    pub unmeant: PacketSet,
    /// Those of which none speaks.
    pub unjudged: PacketSet,
    /// The expectations that allow some of them.
    pub allowed_by: Vec<String>,
    /// The expectations that forbid some of them.
    pub forbidden_by: Vec<String>,
}

impl Spoken {
    /// Whether something is open, and all of it is meant.
    pub fn all_meant(&self) -> bool {
        !self.meant.is_empty() && self.unmeant.is_empty() && self.unjudged.is_empty()
    }
}

/// The packets of which a sentence speaks.
type SaidOf<'s> = dyn Fn(Option<&Senders>, &Receivers, &[heronshale_model::estate::Service], bool) -> PacketSet
    + 's;

/// What expectations say of connections.
pub struct Judging<'v, 'e> {
    view: &'v Fabric<'e>,
    allowed: Vec<Allowance<'v>>,
    forbidden: Vec<(&'v Expectation, Senders, Receivers)>,
    closed: Vec<(&'v Expectation, Receivers)>,
}

impl<'v, 'e> Judging<'v, 'e> {
    /// Reads all expectations.
    pub fn new(view: &'v Fabric<'e>) -> Self {
        let mut judging = Self {
            view,
            allowed: allowances(view),
            forbidden: Vec::new(),
            closed: Vec::new(),
        };
        for one in &view.stated.expectations {
            match &one.claim {
                Claim::NeverReaches { from, to } => {
                    let (Ok(from), Ok(to)) = (ends(view, from), ends(view, to)) else {
                        continue;
                    };
                    judging.forbidden.push((
                        one,
                        Senders::of(view, &from),
                        Receivers::by_any_entrance(view, &to),
                    ));
                }
                Claim::NothingElseReaches { to } => {
                    let Ok(to) = ends(view, to) else { continue };
                    judging
                        .closed
                        .push((one, Receivers::by_any_entrance(view, &to)));
                }
                Claim::MayReach { .. } | Claim::AlwaysPasses { .. } => {}
            }
        }
        judging
    }

    /// Whether nobody said anything.
    pub fn is_silent(&self) -> bool {
        self.allowed.is_empty() && self.forbidden.is_empty() && self.closed.is_empty()
    }

    /// What is said of packets to one target of the internet: an interface by its own or its public address, or a device.
    fn spoken(&self, open: &PacketSet, covers: &dyn Fn(&Receivers, bool) -> bool) -> Spoken {
        let all = Addresses::all();
        self.spoken_of(open, &|senders, receivers, services, every| {
            if !covers(receivers, every) {
                return PacketSet::empty();
            }
            let sources = senders.map_or(&all, |senders| &senders.internet);
            said(sources, &all, services)
        })
    }

    /// What is said of some packets. `of` gives the packets of a sentence: from these senders, or from everybody, to these receivers,
    /// of these services; `every`: only where all who are reached are meant.
    fn spoken_of(&self, packets: &PacketSet, of: &SaidOf<'_>) -> Spoken {
        let mut spoken = Spoken::default();
        let mut meant = PacketSet::empty();
        for one in &self.allowed {
            let asked = of(Some(&one.senders), &one.receivers, one.services, true);
            let here = packets.intersection(&asked);
            if !here.is_empty() {
                spoken.allowed_by.push(one.name.to_string());
                meant = meant.union(&here);
            }
        }
        let mut forbid = |expectation: &Expectation, here: PacketSet| {
            if !here.is_empty() {
                spoken.forbidden_by.push(expectation.name.to_string());
                spoken.unmeant = spoken.unmeant.union(&here);
            }
        };
        for (expectation, senders, receivers) in &self.forbidden {
            let asked = of(Some(senders), receivers, &expectation.services, false);
            forbid(expectation, packets.intersection(&asked));
        }
        for (expectation, receivers) in &self.closed {
            let asked = of(None, receivers, &expectation.services, false);
            forbid(expectation, packets.intersection(&asked).difference(&meant));
        }
        spoken.meant = meant.difference(&spoken.unmeant);
        spoken.unjudged = packets.difference(&meant).difference(&spoken.unmeant);
        spoken
    }

    /// What is said of connections from one start, by the addresses that are asked.
    pub fn connections(&self, start: &Start, packets: &PacketSet) -> Spoken {
        let all = Addresses::all();
        self.spoken_of(packets, &|senders, receivers, services, _| {
            let to = asked_addresses(self.view, receivers);
            let from = senders.map_or_else(|| all.clone(), |senders| senders.sources(start));
            said(&from, &to, services)
        })
    }

    /// What is said of a way in to an interface; nothing if nobody said anything of who reaches whom.
    pub fn direct(&self, way: &DirectWay) -> Spoken {
        if self.is_silent() {
            return Spoken::default();
        }
        let public = way
            .public
            .map(|id| self.view.estate.public_addresses[id].address);
        let asked = public.map_or_else(|| [way.own].into_iter().collect(), Addresses::single);
        let covers = |side: &Receivers, _: bool| {
            side.interfaces.contains(&way.interface) || side.asked.overlaps(&asked)
        };
        self.spoken(&way.open(), &covers)
    }

    /// What is said of a way in that leads by a device. Allowed is what goes to the device itself, or to nobody but those who may be
    /// reached; forbidden what may lead to somebody who must not.
    pub fn by_device(&self, way: &DeviceWay) -> Spoken {
        let mut all = Spoken::default();
        if self.is_silent() {
            return all;
        }
        for part in way.parts.iter().filter(|part| part.is_open()) {
            let covers = |side: &Receivers, every: bool| {
                let itself = match way.by {
                    HeldBy::Balancer(id) => side.balancers.contains(&id),
                    HeldBy::Service(id) => side.services.contains(&id),
                    HeldBy::Interface(id) => part.ends.is_empty() && side.interfaces.contains(&id),
                    HeldBy::Firewall(_) => false,
                };
                let mut ends = part.ends.iter().map(|id| side.interfaces.contains(id));
                let reached = if every {
                    !part.ends.is_empty() && ends.all(|held| held)
                } else {
                    ends.any(|held| held)
                };
                itself || side.asked.overlaps(&way.addresses) || reached
            };
            let one = self.spoken(&part.packets, &covers);
            all.meant = all.meant.union(&one.meant);
            all.unmeant = all.unmeant.union(&one.unmeant);
            all.unjudged = all.unjudged.union(&one.unjudged);
            for (sum, more) in [
                (&mut all.allowed_by, one.allowed_by),
                (&mut all.forbidden_by, one.forbidden_by),
            ] {
                for name in more {
                    if !sum.contains(&name) {
                        sum.push(name);
                    }
                }
            }
        }
        all
    }
}

/// Every address by which somebody of a side is asked.
fn asked_addresses(view: &Fabric<'_>, side: &Receivers) -> Addresses {
    let estate = view.estate;
    let mut all = side.asked.clone();
    for id in side.interfaces.iter().chain(side.of_services.keys()) {
        all = all.union(&estate.interfaces[*id].addresses);
    }
    for public in estate.public_addresses.items() {
        if public
            .interface
            .is_some_and(|id| side.interfaces.contains(&id))
        {
            all = all.union(&Addresses::single(public.address));
        }
    }
    for id in &side.balancers {
        let front_ends = estate.balancers[*id].front_ends.iter();
        for front in front_ends {
            all = all.union(&Addresses::single(front.address));
        }
    }
    for id in &side.services {
        let service = &estate.services[*id];
        if let Some(door) = &service.public_door {
            all = all.union(&door.addresses);
        }
        for door in &service.private_doors {
            all = all.union(&estate.interfaces[*door].addresses);
        }
    }
    for id in &side.sites {
        let site = &estate.sites[*id];
        all = all.union(&site.holds).union(&site.announces);
    }
    all
}
