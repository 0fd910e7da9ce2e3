//! What the internet reaches by way of devices: balancers, firewalls that translate, services' public doors, and interfaces
//! behind a gateway with a table of its own. Walked there and back, as `path` does (`docs/semantics.md` 13).

use heronshale_engine::fabric::Fabric;
use heronshale_engine::path::{Connection, Goal, question};
use heronshale_engine::route::{Hop, RoutePlace, candidates};
use heronshale_engine::walk::{Judged, Spot, Step, Tell, Verdict, What, Why, walk};
use heronshale_model::ends::End;
use heronshale_model::estate::{Balancer, Firewall, GatewayKind, Id, Interface, PlatformService};
use heronshale_sets::address::{Addresses, Range};
use heronshale_sets::each::each;
use heronshale_sets::packet::{Packet, PacketSet};
use rustc_hash::FxHashSet;

/// Who holds the address that is asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum HeldBy {
    /// An interface of a device, or one whose packets or replies are led by one.
    Interface(Id<Interface>),
    /// A balancer's public front end.
    Balancer(Id<Balancer>),
    /// A firewall that holds addresses itself.
    Firewall(Id<Firewall>),
    /// A service's public door.
    Service(Id<PlatformService>),
}

/// Packets from the internet that fare alike.
#[derive(Clone, Debug)]
pub struct WalkedPart {
    /// The packets as they are sent.
    pub packets: PacketSet,
    /// How they fare.
    pub judged: Judged,
    /// One of them, to be told in full: one that has a reply, if any has.
    pub example: Option<Packet>,
    /// Every step of the example: of the first of nature's choices that works, else of the one that decides.
    pub steps: Vec<Step>,
    /// The interfaces at which requests arrive that work, by any of nature's choices.
    pub ends: Vec<Id<Interface>>,
}

impl WalkedPart {
    /// Whether some connection works, perhaps under a condition that no snapshot holds.
    pub fn is_open(&self) -> bool {
        self.judged.verdict <= Verdict::Conditional
    }
}

/// One way in that leads by a device.
#[derive(Clone, Debug)]
pub struct DeviceWay {
    /// Who holds the addresses.
    pub by: HeldBy,
    /// The addresses that are asked.
    pub addresses: Addresses,
    /// The partition of all that the internet may send there.
    pub parts: Vec<WalkedPart>,
}

impl DeviceWay {
    /// All packets that get in.
    pub fn open(&self) -> PacketSet {
        PacketSet::union_all(
            self.parts
                .iter()
                .filter(|part| part.is_open())
                .map(|part| part.packets.clone()),
        )
    }

    /// All packets that were asked about.
    pub fn asked(&self) -> PacketSet {
        PacketSet::union_all(self.parts.iter().map(|part| part.packets.clone()))
    }

    /// Whether something may get in that depends on something missing from the snapshot, a firewall's own services apart.
    pub fn is_unknown(&self) -> bool {
        let own = |part: &WalkedPart| {
            part.steps
                .last()
                .is_some_and(|step| step.what == What::Ended(Why::OwnServices))
        };
        let open = |part: &WalkedPart| part.judged.verdict.is_open() && part.judged.may_work;
        self.parts.iter().any(|part| open(part) && !own(part))
    }

    /// The interfaces that are reached.
    pub fn ends(&self) -> Vec<Id<Interface>> {
        let mut ends: Vec<_> = self
            .parts
            .iter()
            .flat_map(|part| part.ends.iter().copied())
            .collect();
        ends.sort_unstable();
        ends.dedup();
        ends
    }
}

/// Every way in that leads by a device, by kind of holder and in the order of the files.
pub fn device_ways(view: &Fabric<'_>) -> Vec<DeviceWay> {
    let estate = view.estate;
    let devices = view.roles();
    let mut asked: Vec<(HeldBy, Range)> = Vec::new();
    for (id, public, own) in super::asked_addresses(view) {
        if devices.contains_key(&id) || is_led_by_devices(view, id) {
            let range = public.map_or(own, |public| {
                Range::single(estate.public_addresses[public].address)
            });
            asked.push((HeldBy::Interface(id), range));
        }
    }
    for (id, balancer) in estate.balancers.iter() {
        let public = balancer.front_ends.iter().filter(|front| front.public);
        asked.extend(public.map(|front| (HeldBy::Balancer(id), Range::single(front.address))));
    }
    for (id, firewall) in estate
        .firewalls
        .iter()
        .filter(|(_, firewall)| firewall.legs.is_empty())
    {
        let public = firewall.addresses.intersection(view.internet());
        asked.extend(public.ranges().map(|range| (HeldBy::Firewall(id), range)));
    }
    for (id, service) in estate.services.iter() {
        let doors = service
            .public_door
            .iter()
            .flat_map(|door| door.addresses.ranges());
        asked.extend(doors.map(|range| (HeldBy::Service(id), range)));
    }
    let mut known = FxHashSet::default();
    asked.retain(|one| known.insert(*one));
    each(&asked, |(by, range)| device_way(view, *by, *range))
}

/// Whether what comes to an interface from the internet may be led elsewhere first, by a table of the gateway's own, or its
/// replies by an interface that forwards or a balancer.
pub(super) fn is_led_by_devices(view: &Fabric<'_>, interface: Id<Interface>) -> bool {
    let estate = view.estate;
    let network = estate.network_of(interface);
    let own = |kind: &GatewayKind| {
        matches!(
            kind,
            GatewayKind::Internet {
                attached: true,
                table: Some(_)
            }
        )
    };
    if estate
        .gateways
        .items()
        .iter()
        .any(|gateway| gateway.network == network && own(&gateway.kind))
    {
        return true;
    }
    let place = RoutePlace::in_subnet(view, estate.interfaces[interface].subnet, Some(interface));
    let internet = view.internet_end();
    let outward = |range: &Range| internet.overlaps(&[*range].into_iter().collect());
    let mut replies = candidates(view, place)
        .all
        .into_iter()
        .filter(|candidate| outward(&candidate.range));
    replies.any(|candidate| matches!(candidate.winner.hop, Hop::Interface(_) | Hop::Balancer(_)))
}

fn device_way(view: &Fabric<'_>, by: HeldBy, range: Range) -> DeviceWay {
    let block = heronshale_sets::address::Block {
        range,
        length: range.prefix_length(),
        host: None,
    };
    let connection = Connection {
        from: End::Internet,
        to: Goal::End(End::Block(block)),
        services: Vec::new(),
        source_port: None,
    };
    let addresses: Addresses = [range].into_iter().collect();
    let Ok(mut asked) = question(view, &connection) else {
        return DeviceWay {
            by,
            addresses,
            parts: Vec::new(),
        };
    };
    if let HeldBy::Balancer(id) = by {
        asked.asked.packets = asked
            .asked
            .packets
            .intersection(&own_part(view, id, &addresses));
    }
    let answered = walk(view, &asked.asked, Tell::Steps);
    let labels = &answered.labels;
    let mut parts: Vec<WalkedPart> = Vec::new();
    for part in answered.parts {
        let works = labels.trails_that_work(part.label);
        let mut ends: Vec<Id<Interface>> = works
            .iter()
            .filter_map(|trail| arrived(view, by, &labels.steps(*trail)))
            .collect();
        ends.sort_unstable();
        ends.dedup();
        let trail = if part.judged.verdict <= Verdict::Conditional {
            works.first().copied().unwrap_or(part.judged.trail)
        } else {
            part.judged.trail
        };
        let steps: Vec<Step> = labels.steps(trail).into_iter().cloned().collect();
        // What works without a reply comes in by the same steps as what is answered.
        let alike = |other: &&mut WalkedPart| {
            let works = |judged: &Judged| judged.verdict == Verdict::Works;
            works(&part.judged)
                && works(&other.judged)
                && other.ends == ends
                && request(&other.steps).eq(request(&steps))
        };
        let example = part.packets.witness();
        match parts.iter_mut().find(alike) {
            Some(other) => {
                other.packets = other.packets.union(&part.packets);
                if steps.len() > other.steps.len() {
                    (other.steps, other.example) = (steps, example);
                }
            }
            None => parts.push(WalkedPart {
                packets: part.packets,
                judged: part.judged,
                example,
                steps,
                ends,
            }),
        }
    }
    DeviceWay {
        by,
        addresses,
        parts,
    }
}

/// What of the packets to a public address is a balancer's, where several share it: those that its front ends take; to the first
/// also those that none takes.
fn own_part(view: &Fabric<'_>, id: Id<Balancer>, addresses: &Addresses) -> PacketSet {
    let all = Addresses::all();
    let every = heronshale_sets::intervals::Intervals::span(0, u128::from(u16::MAX));
    let fronts = view.estate.balancers.iter().flat_map(|(id, balancer)| {
        balancer
            .front_ends
            .iter()
            .filter(|front| front.public)
            .map(move |front| (id, front))
    });
    let here: Vec<_> = fronts
        .filter(|(_, front)| addresses.contains(front.address))
        .collect();
    let taken = |mine: &dyn Fn(Id<Balancer>) -> bool| {
        let of = here.iter().filter(|(id, _)| mine(*id)).map(|(_, front)| {
            PacketSet::fields(
                &all,
                &all,
                |family| heronshale_engine::sweep::numbers_of(&front.services, family),
                &every,
                (),
            )
        });
        PacketSet::union_all(of)
    };
    let own = taken(&|other| other == id);
    if here.first().is_some_and(|(first, _)| *first == id) {
        return own.union(&taken(&|_| true).complement());
    }
    own
}

/// The steps of the request.
fn request(steps: &[Step]) -> impl Iterator<Item = &Step> {
    steps.iter().filter(|step| !step.reply)
}

/// The interface at which a request arrived last; of a firewall that answers itself, its own that was asked.
fn arrived(view: &Fabric<'_>, by: HeldBy, steps: &[&Step]) -> Option<Id<Interface>> {
    let is_leg = |firewall, id| {
        view.estate.firewalls[firewall]
            .legs
            .iter()
            .any(|leg| leg.interface == id)
    };
    steps
        .iter()
        .rev()
        .find_map(|step| match (step.at, &step.what, by) {
            (Spot::Interface(id), What::Arrived, _) if !step.reply => Some(id),
            (Spot::Firewall(firewall), What::Arrived, HeldBy::Interface(id))
                if !step.reply && is_leg(firewall, id) =>
            {
                Some(id)
            }
            _ => None,
        })
}
