//! Addresses that nobody is known to hold, while the snapshot lacks some who may: what is sent there may arrive.

use super::sides::Senders;
use super::{Against, prove, said, settled};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::walk::{Asked, Start, Tell, walk};
use heronshale_model::ends::End;
use heronshale_model::estate::{FrontEnd, GatewayKind, Id, Network, Service};
use heronshale_sets::address::Addresses;
use heronshale_sets::packet::PacketSet;

/// What of some ends nobody is known to hold. Nothing, if the snapshot lacks nothing.
fn open_addresses(view: &Fabric<'_>, to: &[End]) -> Addresses {
    let estate = view.estate;
    if estate.gaps.is_empty() {
        return Addresses::empty();
    }
    let in_network = |id: Id<Network>| {
        view.unlisted_in(id)
            .intersection(&estate.networks[id].blocks)
    };
    let meant = to.iter().fold(Addresses::empty(), |sum, end| {
        sum.union(&match end {
            End::Any | End::Block(_) | End::Set(_) => end.addresses(view),
            End::Network(id) => in_network(*id),
            End::Division(division) => {
                let all = estate
                    .networks
                    .ids()
                    .filter(|id| view.divisions_of(*id).contains(division));
                all.fold(Addresses::empty(), |sum, id| sum.union(&in_network(id)))
            }
            End::Subnet(id) => {
                let subnet = &estate.subnets[*id];
                view.unlisted_in(subnet.network)
                    .intersection(&subnet.blocks)
            }
            _ => Addresses::empty(),
        })
    });
    let mut known: Vec<_> = estate
        .interfaces
        .items()
        .iter()
        .flat_map(|item| item.addresses.ranges())
        .collect();
    known.extend(
        estate
            .firewalls
            .items()
            .iter()
            .flat_map(|firewall| firewall.addresses.ranges()),
    );
    let doors = estate
        .services
        .items()
        .iter()
        .filter_map(|service| service.public_door.as_ref());
    known.extend(doors.flat_map(|door| door.addresses.ranges()));
    known.extend(
        estate
            .sites
            .items()
            .iter()
            .flat_map(|site| site.holds.ranges().chain(site.announces.ranges())),
    );
    known.extend(
        estate
            .gaps
            .iter()
            .filter_map(|gap| gap.blocks.as_ref())
            .flat_map(|blocks| blocks.ranges()),
    );
    let singles = estate
        .public_addresses
        .items()
        .iter()
        .map(|public| public.address);
    let fronts = estate
        .balancers
        .items()
        .iter()
        .flat_map(|balancer| &balancer.front_ends);
    let fronts = fronts
        .flat_map(|front| [Some(front.address), FrontEnd::inside(front)])
        .flatten();
    let translators = estate
        .gateways
        .items()
        .iter()
        .filter_map(|gateway| match &gateway.kind {
            GatewayKind::Nat { address, .. } => *address,
            _ => None,
        });
    let singles: Addresses = singles.chain(fronts).chain(translators).collect();
    let known = known
        .into_iter()
        .collect::<Addresses>()
        .union(&singles)
        .union(&view.internet_end());
    meant.difference(&known)
}

/// A packet to an address that nobody is known to hold, of which it is unknown whether it arrives; `allowed` says what of them may.
pub(super) fn may_arrive(
    view: &Fabric<'_>,
    senders: &Senders,
    to: &[End],
    services: &[Service],
    allowed: impl Fn(&Start, &Addresses) -> PacketSet,
) -> Option<Against> {
    let open = open_addresses(view, to);
    if open.is_empty() {
        return None;
    }
    let interfaces = senders
        .sorted()
        .into_iter()
        .map(|id| Start::Interfaces(vec![id]));
    let internet = (!senders.internet.is_empty()).then_some(Start::Internet);
    let mut sites: Vec<_> = senders.sites.keys().copied().collect();
    sites.sort_unstable();
    let mut unknown: Option<Against> = None;
    for start in interfaces
        .chain(internet)
        .chain(sites.into_iter().map(Start::Site))
    {
        let packets =
            said(&senders.sources(&start), &open, services).difference(&allowed(&start, &open));
        if packets.is_empty() {
            continue;
        }
        let asked = Asked {
            start: start.clone(),
            packets,
            name: None,
            any_of: Vec::new(),
        };
        let open = walk(view, &asked, Tell::Verdicts).parts.into_iter();
        let open = open.filter(|part| part.judged.verdict.is_open() && part.judged.may_work);
        for packet in open.filter_map(|part| part.packets.witness()) {
            unknown = Some(prove(view, &start, packet));
            if settled(unknown.as_ref()) {
                return unknown;
            }
        }
    }
    unknown
}
