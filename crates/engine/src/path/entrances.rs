//! By which entrances a service is asked.

use super::*;

/// The ways into a service, one of which suffices: private doors, the public door, interfaces of its own, the balancer behind its
/// doors; from the internet the public door first.
#[derive(Clone, Debug, Default)]
pub struct Entrances(pub Vec<Entrance>);

impl Entrances {
    /// The addresses of all of them.
    pub fn addresses(&self) -> Addresses {
        self.0
            .iter()
            .fold(Addresses::empty(), |sum, one| sum.union(&one.addresses))
    }

    /// What may be asked of them: interfaces of its own are asked on the service's ports.
    pub fn packets(&self) -> PacketSet {
        let all = Addresses::all();
        let every = Intervals::span(0, u128::from(u16::MAX));
        let of = |one: &Entrance| {
            let numbers = |family| crate::sweep::numbers_of(&one.services, family);
            PacketSet::fields(&all, &one.addresses, numbers, &every, ())
        };
        PacketSet::union_all(self.0.iter().map(of))
    }
}

/// One way into a service.
#[derive(Clone, Debug)]
pub struct Entrance {
    /// What it is called.
    pub name: String,
    /// Its addresses.
    pub addresses: Addresses,
    /// The services that are asked of it; empty for all.
    pub(super) services: Vec<Service>,
}

/// The ways into a service, as they are tried from a start.
pub fn entrances(view: &Fabric<'_>, id: Id<PlatformService>, start: &Start) -> Entrances {
    let estate = view.estate;
    let item = &estate.services[id];
    let held = |interface: &Id<Interface>| estate.interfaces[*interface].addresses.clone();
    let doors = item.private_doors.iter().map(|door| Entrance {
        name: format!("private door {}", estate.interfaces[*door].name),
        addresses: held(door),
        services: Vec::new(),
    });
    let public = item.public_door.iter().map(|door| Entrance {
        name: "public door".to_owned(),
        addresses: door.addresses.clone(),
        services: Vec::new(),
    });
    let own = item.interfaces.iter().map(|interface| Entrance {
        name: format!("interface {}", estate.interfaces[*interface].name),
        addresses: primaries(view, &[*interface]),
        services: item.services.clone(),
    });
    let behind = item.balancer.iter().map(|id| Entrance {
        name: format!("balancer {}", estate.balancers[*id].name),
        addresses: estate.balancers[*id]
            .front_ends
            .iter()
            .map(|front| front.address)
            .collect(),
        services: Vec::new(),
    });
    let from_outside = *start == Start::Internet;
    let (mut first, mut second): (Vec<Entrance>, Vec<Entrance>) =
        (doors.collect(), public.collect());
    if from_outside {
        std::mem::swap(&mut first, &mut second);
    }
    let mut all: Vec<Entrance> = first
        .into_iter()
        .chain(second)
        .chain(own)
        .chain(behind)
        .collect();
    all.retain(|one| !one.addresses.is_empty());
    Entrances(all)
}

/// The addresses of a goal, as seen from a start.
pub fn destinations_of(
    view: &Fabric<'_>,
    to: &End,
    start: &Start,
    _from: Option<Id<Network>>,
) -> Addresses {
    let estate = view.estate;
    match to {
        End::Internet | End::Any | End::Block(_) | End::Site(_) | End::Set(_) => to.addresses(view),
        End::Balancer(balancer) => {
            let fronts = &estate.balancers[*balancer].front_ends;
            let outside = *start == Start::Internet;
            let fitting: Addresses = fronts
                .iter()
                .filter(|front| front.public == outside)
                .map(|front| front.address)
                .collect();
            if fitting.is_empty() {
                fronts.iter().map(|front| front.address).collect()
            } else {
                fitting
            }
        }
        End::Service(id) => entrances(view, *id, start).addresses(),
        _ => {
            let interfaces = to.interfaces(view);
            if interfaces.is_empty() {
                return to.addresses(view);
            }
            let own = primaries(view, &interfaces);
            if *start != Start::Internet {
                return own;
            }
            let mapped = estate.public_addresses.items().iter();
            let mapped =
                mapped.filter(|public| public.interface.is_some_and(|id| interfaces.contains(&id)));
            let public: Addresses = mapped.map(|public| public.address).collect();
            let global = heronshale_sets::address::internet_at_large()
                .intersection(&Addresses::of_family(Family::V6));
            let reached = public.union(&own.intersection(&global));
            if reached.is_empty() { own } else { reached }
        }
    }
}
