//! What the internet reaches directly: interfaces with a public address, and those with global IPv6 (`docs/semantics.md` 5).
//!
//! For each such way in the packets that the internet may send are partitioned by what becomes of the connection: the
//! gateway, the internet block, the receiving stages, the reply's route and the reply's stages. The ways that lead
//! over devices (balancers, firewalls, services, gateways with a table of their own) are walked: [`device_ways`].

mod device;

pub use device::{DeviceWay, HeldBy, WalkedPart, device_ways};

use crate::faults::{Fault, has};
use heronshale_engine::effective::{Replies, Reply};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::judgement::{Outcome, StageKind};
use heronshale_engine::route::{Hop, Routed, Winner, routed};
use heronshale_engine::stage::{Chain, Way, chain};
use heronshale_engine::walk::{Asked, Choice, Judged, Start, Tell, Verdict as WalkVerdict, walk};
use heronshale_model::estate::{
    Direction, Gateway, GatewayKind, Id, Interface, InternetTraffic, PublicAddress,
};
use heronshale_sets::address::{Addresses, Family, Range, internet_at_large};
use heronshale_sets::each::each;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, Rewrite, service};

/// What becomes of a connection from the internet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// It works, there and back.
    Works,
    /// It works if the client has one of these ports.
    WorksForPorts(Intervals),
    /// It works if the reply takes one of several equal routes.
    WorksForRoutes,
    /// That depends on something missing from the snapshot.
    Unknown,
    /// A stage refuses it; its judgement is the way's last.
    Denied,
    /// The network or subnet may not be reached from the internet.
    Blocked,
    /// There is no internet gateway that is attached.
    NoGateway,
    /// The reply finds no route to where the request came from, or a wrong one.
    ReplyLost(Option<Winner>),
    /// A stage that keeps no state refuses the reply.
    ReplyDenied(StageKind),
}

impl Verdict {
    /// Whether some connection works.
    pub fn is_open(&self) -> bool {
        matches!(
            self,
            Self::Works | Self::WorksForPorts(_) | Self::WorksForRoutes
        )
    }
}

/// Packets with one verdict, by one way through the receiving stages.
#[derive(Clone, Debug)]
pub struct Part {
    /// What becomes of them.
    pub verdict: Verdict,
    /// What the receiving stages decided; empty if they were not reached.
    pub way: Way,
    /// The packets as the interface receives them: the destination is its own address.
    pub packets: PacketSet,
}

/// One way from the internet to one interface.
#[derive(Clone, Debug)]
pub struct DirectWay {
    /// The interface.
    pub interface: Id<Interface>,
    /// The family.
    pub family: Family,
    /// The public address that is mapped to it; none for global IPv6.
    pub public: Option<Id<PublicAddress>>,
    /// The address that is mapped to it.
    sent_to: Option<std::net::IpAddr>,
    /// The interface's own addresses that are reached.
    pub own: Range,
    /// The gateway, if the network has one.
    pub gateway: Option<Id<Gateway>>,
    /// The receiving stages in order.
    pub stages: Vec<StageKind>,
    /// The partition of all that the internet may send.
    pub parts: Vec<Part>,
}

impl DirectWay {
    /// All packets for which a connection works.
    pub fn open(&self) -> PacketSet {
        PacketSet::union_all(
            self.parts
                .iter()
                .filter(|part| part.verdict.is_open())
                .map(|part| part.packets.clone()),
        )
    }

    /// Packets as the interface receives them, as the internet sends them.
    fn as_sent(&self, view: &Fabric<'_>, packets: &PacketSet) -> PacketSet {
        let destination = self
            .public
            .map(|public| view.estate.public_addresses[public].address);
        packets.rewritten(&Rewrite {
            destination,
            ..Rewrite::default()
        })
    }

    /// Packets as the internet sends them, as the interface receives them.
    fn as_received(&self, packets: &PacketSet) -> PacketSet {
        let Some(public) = self.sent_to else {
            return packets.clone();
        };
        let own = heronshale_sets::address::address_of(self.own.family, self.own.first);
        let here = packets.between(None, Some(&Addresses::single(public)));
        here.rewritten(&Rewrite {
            destination: Some(own),
            ..Rewrite::default()
        })
    }

    /// All packets of which it is not known.
    pub fn unknown(&self) -> PacketSet {
        let open = self
            .parts
            .iter()
            .filter(|part| part.verdict == Verdict::Unknown);
        PacketSet::union_all(open.map(|part| part.packets.clone()))
    }
}

/// Every direct way in, in the order of the interfaces.
pub fn direct_ways(view: &Fabric<'_>) -> Vec<DirectWay> {
    // What comes to a firewall's, a proxy's or a private door's interface does not end there.
    let devices = view.roles();
    let mut asked = asked_addresses(view);
    let direct =
        |id: Id<Interface>| !devices.contains_key(&id) && !device::is_led_by_devices(view, id);
    let keeps: Vec<bool> = each(&asked, |(id, ..)| direct(*id));
    let mut keeps = keeps.into_iter();
    asked.retain(|_| keeps.next().unwrap_or(true));
    // Interfaces of one class have the same stages.
    let class = |at: &usize| view.class_numbers()[asked[*at].0.index()];
    let mut order: Vec<usize> = (0..asked.len()).collect();
    order.sort_by_key(class);
    let classes: Vec<&[usize]> = order
        .chunk_by(|one, other| class(one) == class(other))
        .collect();
    let of_class = |places: &&[usize]| {
        let chains = Direction::BOTH.map(|direction| chain(view, asked[places[0]].0, direction));
        places
            .iter()
            .map(|at| (*at, direct_way(view, &chains, asked[*at])))
            .collect::<Vec<_>>()
    };
    let found: Vec<_> = each(&classes, |places| of_class(places));
    let mut ways: Vec<(usize, DirectWay)> = found.into_iter().flatten().collect();
    ways.sort_by_key(|(at, _)| *at);
    let mut ways: Vec<DirectWay> = ways.into_iter().map(|(_, way)| way).collect();
    settle_unknown(view, &mut ways);
    ways
}

/// What is unknown when request and reply are looked at stage by stage is walked as a whole: some of it is certain all the same.
fn settle_unknown(view: &Fabric<'_>, ways: &mut [DirectWay]) {
    let unknown = |way: &DirectWay| {
        way.parts
            .iter()
            .any(|part| part.verdict == Verdict::Unknown)
    };
    let asked = ways
        .iter()
        .filter(|way| unknown(way))
        .map(|way| way.as_sent(view, &way.unknown()));
    let packets = PacketSet::union_all(asked);
    if packets.is_empty() {
        return;
    }
    let asked = Asked {
        start: Start::Internet,
        packets,
        name: None,
        any_of: Vec::new(),
    };
    let answered = walk(view, &asked, Tell::Verdicts);
    for way in ways.iter_mut().filter(|way| unknown(way)) {
        let mut parts = Vec::with_capacity(way.parts.len());
        for part in std::mem::take(&mut way.parts) {
            if part.verdict != Verdict::Unknown {
                parts.push(part);
                continue;
            }
            for walked in &answered.parts {
                let packets = way
                    .as_received(&walked.packets)
                    .any_source_port()
                    .intersection(&part.packets);
                if packets.is_empty() {
                    continue;
                }
                let (verdict, taken) = settled(&walked.judged, &part);
                parts.push(Part {
                    verdict,
                    way: taken,
                    packets,
                });
            }
        }
        way.parts = parts;
    }
}

/// What a walk said of packets that were unknown.
fn settled(judged: &Judged, part: &Part) -> (Verdict, Way) {
    let taken = part.way.clone();
    let ports = judged.some.iter().flat_map(|(choices, _)| choices).fold(
        Intervals::empty(),
        |sum, choice| match choice {
            Choice::ClientPorts(ports) => sum.union(ports),
            _ => sum,
        },
    );
    match judged.verdict {
        WalkVerdict::Works | WalkVerdict::Conditional => (Verdict::Works, taken),
        WalkVerdict::WorksForSome if ports.is_empty() => (Verdict::WorksForRoutes, taken),
        WalkVerdict::WorksForSome => (Verdict::WorksForPorts(ports), taken),
        WalkVerdict::Undecided => (Verdict::Unknown, taken),
        WalkVerdict::Unknown if judged.may_work => (Verdict::Unknown, taken),
        WalkVerdict::ReplyLost => (Verdict::ReplyLost(None), taken),
        _ => {
            // It ends in every completion: told with the first stage that depends on something missing from the snapshot.
            let mut taken = taken;
            let first = taken
                .judgements
                .iter()
                .position(|judgement| !judgement.is_certain());
            taken
                .judgements
                .truncate(first.map_or(taken.judgements.len(), |first| first + 1));
            if let Some(last) = taken.judgements.last_mut() {
                last.outcome = Outcome::Deny;
            }
            (Verdict::Denied, taken)
        }
    }
}

/// An interface, the public address that is mapped to it, and its own that is asked.
type AskedAddress = (Id<Interface>, Option<Id<PublicAddress>>, Range);

/// What the internet may ask of interfaces: mapped public addresses with the own ones behind them, and global IPv6. By
/// interface, in their order.
fn asked_addresses(view: &Fabric<'_>) -> Vec<AskedAddress> {
    let estate = view.estate;
    let global = internet_at_large().intersection(&Addresses::of_family(Family::V6));
    let mut asked = Vec::new();
    for (public, item) in estate.public_addresses.iter() {
        if let (Some(interface), Some(private)) = (item.interface, item.private) {
            asked.push((interface, Some(public), Range::single(private)));
        }
    }
    for (id, interface) in estate.interfaces.iter() {
        if !interface.addresses.of(Family::V6).is_empty() {
            let own = interface.addresses.intersection(&global);
            asked.extend(own.ranges().map(|range| (id, None, range)));
        }
    }
    // Stable: public addresses stay before global IPv6, in the order of the files.
    asked.sort_by_key(|(id, _, _)| *id);
    asked
}

/// One way in. `chains`: the interface's stages, receiving and sending.
fn direct_way(
    view: &Fabric<'_>,
    chains: &[Chain; 2],
    (interface, public, own): AskedAddress,
) -> DirectWay {
    let [forward, backward] = chains;
    let estate = view.estate;
    let network = estate.network_of(interface);
    let gateway = estate
        .gateways
        .iter()
        .find(|(_, g)| g.network == network && matches!(g.kind, GatewayKind::Internet { .. }));
    let is_attached = |gateway: &Gateway| {
        has(Fault::GatewayAlwaysAttached)
            || matches!(gateway.kind, GatewayKind::Internet { attached: true, .. })
    };
    let attached = gateway
        .filter(|(_, gateway)| is_attached(gateway))
        .map(|(id, _)| id);
    let mut way = DirectWay {
        interface,
        family: own.family,
        public,
        sent_to: public.map(|public| estate.public_addresses[public].address),
        own,
        gateway: gateway.map(|(id, _)| id),
        stages: forward.stages.iter().map(|stage| stage.kind).collect(),
        parts: Vec::new(),
    };
    let asked = from_internet(view, own, interface);
    let part = |verdict, packets| Part {
        verdict,
        way: Way {
            judgements: Vec::new(),
        },
        packets,
    };
    let Some(attached) = attached else {
        // A gateway that the snapshot lacks may be this network's.
        let lacking = gateway.is_none() && view.lacks_any(&["gateway"]);
        way.parts.push(part(
            if lacking {
                Verdict::Unknown
            } else {
                Verdict::NoGateway
            },
            asked,
        ));
        return way;
    };
    let subnet = &estate.subnets[estate.interfaces[interface].subnet];
    let traffic = [
        subnet.internet_traffic,
        estate.networks[network].internet_traffic,
    ];
    if traffic
        .iter()
        .any(|traffic| *traffic != InternetTraffic::BothWays)
        && !has(Fault::InternetBlockIgnored)
    {
        way.parts.push(part(Verdict::Blocked, asked));
        return way;
    }
    let settings = view.settings(network);
    let replies = Replies::new(backward, &settings.client_ports);
    let source = heronshale_sets::address::address_of(own.family, own.first);
    let subnet = estate.interfaces[interface].subnet;
    let routes = routed(
        view,
        subnet,
        Some(interface),
        Some(source),
        &view.internet_end(),
    );
    for (taken, packets) in forward.ways(&asked).regions() {
        let part = |verdict, packets| Part {
            verdict,
            way: taken.clone(),
            packets,
        };
        if taken.refuses() {
            way.parts.push(part(Verdict::Denied, packets));
        } else if !taken.passes() {
            way.parts.push(part(Verdict::Unknown, packets));
        } else {
            let (silent, answered) = split_one_way(&packets);
            if !silent.is_empty() {
                way.parts.push(part(Verdict::Works, silent));
            }
            for (verdict, back) in by_route(&routes, attached, &answered) {
                match verdict {
                    Verdict::Works | Verdict::WorksForRoutes => {
                        let split = replies.of(forward, taken, &back).into_iter();
                        way.parts
                            .extend(split.map(|(reply, packets)| {
                                part(with_reply(&verdict, reply), packets)
                            }));
                    }
                    // The route is looked up before the ACL, behind all other stages (`docs/semantics.md` 8).
                    Verdict::ReplyLost(_) => {
                        let split = replies.of(forward, taken, &back).into_iter();
                        way.parts.extend(split.map(|(reply, packets)| match reply {
                            Reply::Denied(stage) if stage != StageKind::NetworkAcl => {
                                part(Verdict::ReplyDenied(stage), packets)
                            }
                            _ => part(verdict.clone(), packets),
                        }));
                    }
                    _ => way.parts.push(part(verdict, back)),
                }
            }
        }
    }
    way
}

/// All that the internet may send to some of an interface's addresses, from any client port.
fn from_internet(view: &Fabric<'_>, own: Range, interface: Id<Interface>) -> PacketSet {
    let settings = view.settings(view.estate.network_of(interface));
    let sources = view
        .internet_end()
        .intersection(&Addresses::of_family(own.family));
    let to: Addresses = [own].into_iter().collect();
    let every_port = Intervals::span(0, u128::from(u16::MAX));
    let ported = PacketSet::fields(
        &sources,
        &to,
        |_| service::all_with_ports(),
        &settings.client_ports,
        (),
    );
    let others = PacketSet::fields(
        &sources,
        &to,
        |f| service::all(f).difference(&service::all_with_ports()),
        &every_port,
        (),
    );
    ported.union(&others)
}

/// Packets that get no reply, and the rest.
fn split_one_way(packets: &PacketSet) -> (PacketSet, PacketSet) {
    let silent = PacketSet::empty().requests_answered().intersection(packets);
    let answered = packets.difference(&silent);
    (silent, answered)
}

/// Splits requests by where the subnet's routes take the reply.
fn by_route(
    routes: &[Routed],
    gateway: Id<Gateway>,
    packets: &PacketSet,
) -> Vec<(Verdict, PacketSet)> {
    let every_port = Intervals::span(0, u128::from(u16::MAX));
    let mut parts = Vec::new();
    for route in routes {
        let from = PacketSet::fields(
            &route.addresses,
            &Addresses::all(),
            service::all,
            &every_port,
            (),
        );
        let here = packets.intersection(&from);
        if here.is_empty() {
            continue;
        }
        let good = |winner: &&Winner| winner.hop == Hop::Gateway(gateway);
        let open = |winner: &&Winner| winner.hop == Hop::Unknown;
        let goods = route.winners.iter().filter(good).count();
        let verdict =
            if has(Fault::ReplyRouteIgnored) || (goods > 0 && goods == route.winners.len()) {
                Verdict::Works
            } else if goods > 0 {
                Verdict::WorksForRoutes
            } else if route.winners.iter().any(|winner| open(&winner)) {
                Verdict::Unknown
            } else {
                Verdict::ReplyLost(route.winners.first().copied())
            };
        parts.push((verdict, here));
    }
    parts
}

fn with_reply(verdict: &Verdict, reply: Reply) -> Verdict {
    match reply {
        _ if has(Fault::ReplyStagesIgnored) => verdict.clone(),
        Reply::Passes => verdict.clone(),
        Reply::OnlyTo(ports) => Verdict::WorksForPorts(ports),
        Reply::Denied(stage) => Verdict::ReplyDenied(stage),
        Reply::Unknown(_) => Verdict::Unknown,
    }
}
