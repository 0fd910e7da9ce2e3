//! Sentences that allow: everybody of one side gets through to everybody of the other.

use super::*;

/// Whether everything gets through, as `path` asks it.
pub(super) fn may_reach(
    view: &Fabric<'_>,
    from: &[End],
    to: &[End],
    services: &[Service],
) -> Standing {
    let senders = Senders::of(view, from);
    let mut starts: Vec<(Start, Addresses)> = Vec::new();
    let mut by_network: FxHashMap<Id<Network>, Vec<(Id<Interface>, u32)>> = FxHashMap::default();
    for id in senders.sorted() {
        by_network
            .entry(view.estate.network_of(id))
            .or_default()
            .push((id, 0));
    }
    let mut networks: Vec<_> = by_network.into_iter().collect();
    networks.sort_unstable_by_key(|(network, _)| *network);
    for (_, list) in networks {
        for list in without_twice(view, &list) {
            let all: Vec<Id<Interface>> = list.into_iter().map(|(id, _)| id).collect();
            let meant = all.iter().fold(Addresses::empty(), |sum, id| {
                sum.union(&senders.interfaces[id])
            });
            let sources = primaries(view, &all).intersection(&meant);
            let sources = if sources.is_empty() { meant } else { sources };
            starts.push((Start::Interfaces(all), sources));
        }
    }
    if !senders.internet.is_empty() {
        starts.push((Start::Internet, senders.internet.clone()));
    }
    let mut sites: Vec<_> = senders.sites.iter().collect();
    sites.sort_unstable_by_key(|(id, _)| **id);
    starts.extend(
        sites
            .into_iter()
            .map(|(id, addresses)| (Start::Site(*id), addresses.clone())),
    );
    let (mut asked_any, mut unknown) = (false, None);
    for (start, sources) in starts {
        for end in to {
            let destinations = destinations_of(view, end, &start, asking_network(view, &start));
            let ports = client_ports(view, &start, &destinations);
            let mut packets = sent(&sources, &destinations, services, &ports);
            if let End::Service(id) = end {
                packets = packets.intersection(&entrances(view, *id, &start).packets());
            }
            if let Start::Interfaces(all) = &start {
                packets = packets.difference(&to_themselves(view, all));
            }
            if packets.is_empty() {
                continue;
            }
            asked_any = true;
            let asked = Asked {
                start: start.clone(),
                packets,
                name: None,
                any_of: Vec::new(),
            };
            let parts = walk(view, &asked, Tell::Verdicts).parts;
            // Of a service each start and port needs one entrance that works, not the same for all.
            let is_service = matches!(end, End::Service(_));
            let works = parts
                .iter()
                .filter(|part| is_service && part.judged.verdict == Verdict::Works);
            let entered =
                PacketSet::union_all(works.map(|part| part.packets.clone())).to_anywhere();
            for part in parts {
                let left = part.packets.difference(&entered);
                if part.judged.verdict == Verdict::Works
                    || (part.judged.verdict.is_open()
                        && part.judged.may_work
                        && settled(unknown.as_ref()))
                {
                    continue;
                }
                let Some(packet) = left.witness() else {
                    continue;
                };
                let against = match part.judged.verdict {
                    Verdict::WorksForSome => prove_failing(view, &start, packet, &part.packets),
                    _ => prove(view, &start, packet),
                };
                if part.judged.verdict.is_open() && part.judged.may_work {
                    unknown = Some(against);
                    continue;
                }
                let why = format!("not all of this works: {}", part.judged.verdict.word());
                return Standing {
                    state: State::Broken,
                    why,
                    against: Some(against),
                };
            }
        }
    }
    match unknown {
        _ if !asked_any => Standing::vacuous("the two sides share no address family"),
        Some(against) => {
            let why = open_text("whether this works", &against);
            Standing {
                state: State::Unknown,
                why,
                against: Some(against),
            }
        }
        None => Standing::kept(),
    }
}

/// Packets from interfaces to themselves.
pub(super) fn to_themselves(view: &Fabric<'_>, all: &[Id<Interface>]) -> PacketSet {
    let every = Intervals::span(0, u128::from(u16::MAX));
    PacketSet::union_all(all.iter().map(|id| {
        let own = &view.estate.interfaces[*id].addresses;
        PacketSet::fields(own, own, heronshale_sets::packet::service::all, &every, ())
    }))
}

/// The steps of one packet, for whom an expectation does not hold.
pub(super) fn prove(view: &Fabric<'_>, start: &Start, packet: Packet) -> Against {
    let start = match start {
        Start::Interfaces(all) => {
            let source = packet.source_address();
            let holds =
                |id: &&Id<Interface>| view.estate.interfaces[**id].addresses.contains(source);
            Start::Interfaces(all.iter().find(holds).copied().into_iter().collect())
        }
        other => other.clone(),
    };
    let asked = Asked {
        start: start.clone(),
        packets: PacketSet::single(&packet),
        name: None,
        any_of: Vec::new(),
    };
    let answered = walk(view, &asked, Tell::Steps);
    let Judged { verdict, trail, .. } = answered.summary.clone();
    let works = answered
        .parts
        .iter()
        .flat_map(|part| answered.labels.trails_that_work(part.label))
        .next();
    // Of what works for some that is the proof for "never" which works, and for "may" which fails.
    let trail = if verdict <= Verdict::Conditional {
        works.unwrap_or(trail)
    } else {
        trail
    };
    let steps = answered.labels.steps(trail).into_iter().cloned().collect();
    Against {
        packet,
        start,
        verdict,
        steps,
    }
}

/// Packets like the one that a reader would choose of some, from client ports of which it works: one for each way that it takes.
pub(super) fn working(view: &Fabric<'_>, start: &Start, packets: &PacketSet) -> Vec<Packet> {
    let Some(first) = packets.witness() else {
        return Vec::new();
    };
    let like = PacketSet::single(&first)
        .any_source_port()
        .intersection(packets);
    let asked = Asked {
        start: start.clone(),
        packets: like.clone(),
        name: None,
        any_of: Vec::new(),
    };
    let answered = walk(view, &asked, Tell::Steps);
    let Some((choices, _)) = answered
        .summary
        .some
        .filter(|_| answered.summary.verdict == Verdict::WorksForSome)
    else {
        return vec![first];
    };
    let all = Addresses::all();
    let from = |ports: &Intervals| {
        like.intersection(&PacketSet::fields(
            &all,
            &all,
            heronshale_sets::packet::service::all,
            ports,
            (),
        ))
        .witness()
    };
    let found: Vec<Packet> = choices
        .iter()
        .filter_map(|choice| match choice {
            Choice::ClientPorts(ports) => from(ports),
            _ => None,
        })
        .collect();
    if found.is_empty() { vec![first] } else { found }
}

/// The steps of one that does not work, of packets that work for some: from a client's port that fails, if that is what decides.
pub(super) fn prove_failing(
    view: &Fabric<'_>,
    start: &Start,
    packet: Packet,
    part: &PacketSet,
) -> Against {
    let packets = PacketSet::single(&packet)
        .any_source_port()
        .intersection(part);
    let asked = Asked {
        start: start.clone(),
        packets: packets.clone(),
        name: None,
        any_of: Vec::new(),
    };
    let answered = walk(view, &asked, Tell::Steps);
    let Some((choices, fails)) = &answered.summary.some else {
        return prove(view, start, packet);
    };
    let ports = choices
        .iter()
        .fold(Intervals::empty(), |sum, choice| match choice {
            Choice::ClientPorts(ports) => sum.union(ports),
            _ => sum,
        });
    let all = Addresses::all();
    let working = PacketSet::fields(
        &all,
        &all,
        heronshale_sets::packet::service::all,
        &ports,
        (),
    );
    if let Some(failing) = packets
        .difference(&working)
        .witness()
        .filter(|_| !ports.is_empty())
    {
        return prove(view, start, failing);
    }
    let steps = answered.labels.steps(*fails).into_iter().cloned().collect();
    Against {
        packet,
        start: start.clone(),
        verdict: Verdict::WorksForSome,
        steps,
    }
}
