//! What the internet reaches, as data: open, unknown, and closed with what closes it.

use super::surface::{ObservedFact, OneStepFact, OnwardFact, OutwardFact, names_of_nothing};
use heronshale_audit::expect::Judging;
use heronshale_audit::exposure::{DeviceWay, DirectWay, HeldBy, device_ways, direct_ways};
use heronshale_audit::facts::{DeviceWayFact, device_way_fact};
use heronshale_audit::facts::{WayFact, way_fact};
use heronshale_engine::fabric::Fabric;
use heronshale_model::ends::End;
use heronshale_model::estate::{Id, Interface, Workload};
use heronshale_model::source::Place;
use serde::Serialize;

/// What the internet reaches.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ExposureAnswer {
    /// Workloads with something open; an interface that belongs to none counts as one.
    pub workloads_open: usize,
    /// Workloads of which that is unknown, and nothing is open.
    pub workloads_unknown: usize,
    /// All workloads that were looked at.
    pub workloads: usize,
    /// Every way in: the open ones first, the worst before the others, then the unknown, then the closed.
    pub ways: Vec<WayFact>,
    /// The ways in that lead by devices, in the same order.
    pub by_devices: Vec<DeviceWayFact>,
    /// Public addresses of the snapshot that nothing holds.
    pub held_by_nothing: Vec<String>,
    /// Public addresses of devices that let nothing in.
    pub closed_addresses: Vec<ClosedAddress>,
    /// Public names that lead to addresses which nothing in the snapshot holds: `name → address`.
    pub names_of_nothing: Vec<String>,
    /// Closed ways in that a single change would open.
    pub one_step_away: Vec<OneStepFact>,
    /// Closed ways in that were not looked at for that.
    pub steps_not_looked_at: usize,
    /// What lies behind what is exposed, if that was asked.
    pub onward: Option<OnwardFact>,
    /// Who connects to the internet, if that was asked.
    pub outward: Option<Vec<OutwardFact>>,
    /// What was seen from outside, if that was given.
    pub observed: Option<ObservedFact>,
}

/// How many workloads are reached; an interface that belongs to none counts as one.
pub(super) struct Counts {
    pub open: usize,
    pub unknown: usize,
    pub all: usize,
}

/// How many workloads the internet reaches against an expectation.
pub(super) fn workloads_forbidden(
    view: &Fabric<'_>,
    ways: &[DirectWay],
    devices: &[DeviceWay],
) -> usize {
    let judging = Judging::new(view);
    if judging.is_silent() {
        return 0;
    }
    let open = ways.iter().filter(|way| !way.open().is_empty());
    let direct = open
        .filter(|way| !judging.direct(way).unmeant.is_empty())
        .map(|way| way.interface);
    let reached = devices
        .iter()
        .filter(|way| !judging.by_device(way).unmeant.is_empty())
        .flat_map(DeviceWay::ends);
    workloads_of(view, direct.chain(reached), &|_| true).len()
}

/// The workloads of some interfaces, each once; an interface that belongs to none counts as one.
fn workloads_of(
    view: &Fabric<'_>,
    interfaces: impl Iterator<Item = Id<Interface>>,
    wanted: &dyn Fn(Id<Interface>) -> bool,
) -> Vec<Result<Id<Workload>, Id<Interface>>> {
    let mut all: Vec<_> = interfaces
        .filter(|id| wanted(*id))
        .map(|id| view.estate.interfaces[id].workload.ok_or(id))
        .collect();
    all.sort_unstable();
    all.dedup();
    all
}

/// How many workloads the internet reaches by some ways in.
pub(super) fn counts(
    view: &Fabric<'_>,
    ways: &[DirectWay],
    devices: &[DeviceWay],
    wanted: &dyn Fn(Id<Interface>) -> bool,
) -> Counts {
    let workloads =
        |interfaces: Vec<Id<Interface>>| workloads_of(view, interfaces.into_iter(), wanted);
    let at = |chosen: &dyn Fn(&DirectWay) -> bool| {
        ways.iter()
            .filter(|way| chosen(way))
            .map(|way| way.interface)
            .collect::<Vec<_>>()
    };
    let reached = devices.iter().flat_map(DeviceWay::ends);
    let open = workloads(
        at(&|way| !way.open().is_empty())
            .into_iter()
            .chain(reached)
            .collect(),
    );
    // By a device of which it is not known whether it lets something in, the interface that holds the address may be reached.
    let perhaps = devices
        .iter()
        .filter(|way| way.is_unknown())
        .filter_map(|way| match way.by {
            HeldBy::Interface(id) => Some(id),
            _ => None,
        });
    let unknown = workloads(
        at(&|way| !way.unknown().is_empty())
            .into_iter()
            .chain(perhaps)
            .collect(),
    );
    Counts {
        open: open.len(),
        unknown: unknown
            .iter()
            .filter(|one| open.binary_search(one).is_err())
            .count(),
        all: workloads(view.estate.interfaces.ids().collect()).len(),
    }
}

/// What of an exposure is asked about.
#[derive(Clone, Debug)]
pub struct ExposureOf {
    /// Interfaces, by whatever address.
    interfaces: Vec<Id<Interface>>,
    /// Devices, by their own addresses.
    held_by: Vec<HeldBy>,
}

impl ExposureOf {
    /// What an end means: interfaces; the front ends of a balancer; the doors of a service, interfaces of its own, the balancer
    /// behind its doors; a firewall with all of its interfaces. None if that is nothing.
    pub fn end(view: &Fabric<'_>, end: &End) -> Option<Self> {
        let mut interfaces = end.interfaces(view);
        let mut held_by: Vec<HeldBy> = Vec::new();
        match end {
            End::Balancer(id) => held_by.push(HeldBy::Balancer(*id)),
            End::Firewall(id) => held_by.push(HeldBy::Firewall(*id)),
            End::Service(id) => {
                let service = &view.estate.services[*id];
                held_by.push(HeldBy::Service(*id));
                held_by.extend(service.balancer.map(HeldBy::Balancer));
                interfaces.extend(&service.private_doors);
            }
            _ => {
                let services = view.estate.services.iter();
                let doors = services
                    .filter(|(_, s)| s.private_doors.iter().any(|door| interfaces.contains(door)));
                held_by.extend(doors.map(|(id, _)| HeldBy::Service(id)));
            }
        }
        held_by.extend(interfaces.iter().map(|id| HeldBy::Interface(*id)));
        (!held_by.is_empty()).then_some(Self {
            interfaces,
            held_by,
        })
    }
}

/// A public address to which nothing can connect.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ClosedAddress {
    /// The address.
    pub address: String,
    /// Who holds it: `NAT gateway out`.
    pub holder: String,
    /// The network.
    pub network: String,
    /// Why nothing gets in.
    pub because: String,
    /// Who changes it.
    pub owner: Option<String>,
    /// Where the holder was written.
    pub place: Place,
}

/// The public addresses of NAT gateways, which let nothing in.
fn closed_addresses(view: &Fabric<'_>) -> Vec<ClosedAddress> {
    let estate = view.estate;
    let of = |gateway: &heronshale_model::estate::Gateway| {
        let heronshale_model::estate::GatewayKind::Nat {
            public: Some(public),
            ..
        } = gateway.kind
        else {
            return None;
        };
        let network = &estate.networks[gateway.network];
        Some(ClosedAddress {
            address: public.to_string(),
            holder: format!("NAT gateway {}", gateway.name),
            network: network.name.to_string(),
            because: "it allows no inbound connections".to_owned(),
            owner: heronshale_audit::describe::owner_text(estate, gateway.owner.or(network.owner)),
            place: estate.sources.place(&gateway.origin),
        })
    };
    estate.gateways.items().iter().filter_map(of).collect()
}

/// Everything that the internet reaches, of some things or of all.
pub fn exposure_answer(view: &Fabric<'_>, only: Option<&ExposureOf>) -> ExposureAnswer {
    let wanted = |id: Id<Interface>| only.is_none_or(|only| only.interfaces.contains(&id));
    let judging = Judging::new(view);
    let ways: Vec<DirectWay> = direct_ways(view)
        .into_iter()
        .filter(|way| wanted(way.interface))
        .collect();
    let held = |by: HeldBy| only.is_some_and(|only| only.held_by.contains(&by));
    let devices: Vec<DeviceWay> = device_ways(view)
        .into_iter()
        .filter(|way| only.is_none() || held(way.by) || way.ends().into_iter().any(wanted))
        .collect();
    // Behind what a device holds are whom it leads to.
    let ends: Vec<Id<Interface>> = devices
        .iter()
        .filter(|way| held(way.by))
        .flat_map(DeviceWay::ends)
        .collect();
    let counts = counts(view, &ways, &devices, &|id| {
        wanted(id) || ends.contains(&id)
    });
    let mut by_devices: Vec<DeviceWayFact> = devices
        .iter()
        .map(|way| device_way_fact(view, way, &judging.by_device(way)))
        .collect();
    by_devices.sort_by_key(|fact| (std::cmp::Reverse(fact.severity), fact.unknown.is_empty()));
    let mut facts: Vec<WayFact> = ways
        .iter()
        .map(|way| way_fact(view, way, &judging.direct(way)))
        .collect();
    facts.sort_by_key(|fact| (std::cmp::Reverse(fact.severity), fact.unknown.is_empty()));
    let idle = view
        .estate
        .public_addresses
        .items()
        .iter()
        .filter(|public| public.interface.is_none() && only.is_none());
    ExposureAnswer {
        workloads_open: counts.open,
        workloads_unknown: counts.unknown,
        workloads: counts.all,
        ways: facts,
        by_devices,
        held_by_nothing: idle.map(|public| public.name.to_string()).collect(),
        closed_addresses: if only.is_none() {
            closed_addresses(view)
        } else {
            Vec::new()
        },
        names_of_nothing: if only.is_none() {
            names_of_nothing(view)
        } else {
            Vec::new()
        },
        one_step_away: Vec::new(),
        steps_not_looked_at: 0,
        onward: None,
        outward: None,
        observed: None,
    }
}
