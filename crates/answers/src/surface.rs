//! What belongs to the exposure of an estate beside its ways in: what lies behind what is exposed, who connects outward, what is one
//! step from open, and what was seen from outside.

use super::mends::{EditFact, edit_fact};
use super::reach::{HopFact, PlaceFact, hop_fact, place_fact};
use heronshale_audit::describe::{Witness, witness};
use heronshale_audit::exposure::{
    DeviceWay, DirectWay, Verdict as WayVerdict, device_ways, direct_ways,
};
use heronshale_audit::mend::{Asking, mending};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::judgement::By;
use heronshale_engine::path::{Connection, Goal};
use heronshale_engine::stage::chain;
use heronshale_engine::sweep::{Chains, From, Node, Place, Sweeping, machine_of, machines, sweep};
use heronshale_engine::walk::{Asked, Spot, Start, Tell, Verdict, What, walk};
use heronshale_model::ends::End;
use heronshale_model::estate::{Direction, Id, Interface, RecordData, Service};
use heronshale_model::observed::Seen;
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, service};
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// A marked machine that can be reached from the internet over others.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct MarkedFact {
    /// The machine.
    pub place: PlaceFact,
    /// Whether no link turns on what the snapshot lacks.
    pub certain: bool,
    /// The shortest chain from the internet.
    pub hops: Vec<HopFact>,
    /// The machines that every chain passes, however long: narrow one of them, and it is out of reach.
    pub always_by: Vec<PlaceFact>,
}

/// What one exposed machine reaches further on.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct OnwardFrom {
    /// The exposed machine.
    pub from: PlaceFact,
    /// Whether it is exposed for certain, whatever the snapshot lacks.
    pub certain: bool,
    /// How many machines it reaches for certain, by the number of connections one after the other.
    pub reaches: Vec<usize>,
    /// How many more it may reach: that depends on what the snapshot lacks.
    pub perhaps: usize,
    /// Those of all these that are marked.
    pub marked: Vec<PlaceFact>,
}

/// What lies behind what is exposed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct OnwardFact {
    /// How many connections one after the other behind the exposed machine were looked at.
    pub jumps: u32,
    /// The tags that mark a machine.
    pub marks: Vec<String>,
    /// For each exposed machine, what it reaches: the most first.
    pub from: Vec<OnwardFrom>,
    /// The marked machines that can be reached from the internet.
    pub marked: Vec<MarkedFact>,
}

/// What lies behind what the internet reaches, so many connections further.
pub fn onward(view: &Fabric<'_>, jumps: u32) -> OnwardFact {
    let apart = |_| 0;
    let sweeping = Sweeping::of(From::Everywhere, &apart);
    let found = sweep(view, &sweeping);
    let chains = Chains::new(view, &found);
    let all = machines(view);
    let marked: Vec<Place> = {
        let tagged = view
            .tuning
            .marks
            .iter()
            .flat_map(|mark| view.tagged(std::slice::from_ref(mark)));
        let mut places: Vec<Place> = tagged
            .map(|id| Place::Machine(machine_of(view, id)))
            .collect();
        places.sort_unstable();
        places.dedup();
        places
    };
    let place = |one: Place| place_fact(view, &all, one);
    let is_marked = |one: &Place| marked.contains(one);
    let from_internet = chains.onward(
        &chains.starting(&[(Place::Internet, Vec::new())]),
        jumps + 1,
    );
    let exposed = from_internet
        .iter()
        .filter(|one| one.jumps == 1 && matches!(one.place, Place::Machine(_)));
    let mut from: Vec<OnwardFrom> = exposed
        .map(|one| {
            let interfaces = if let Place::Machine(at) = one.place {
                all[at as usize].clone()
            } else {
                Vec::new()
            };
            let onward = chains.onward(&chains.starting(&[(one.place, interfaces)]), jumps);
            let machines = || {
                onward
                    .iter()
                    .filter(|other| matches!(other.place, Place::Machine(_)))
            };
            OnwardFrom {
                from: place(one.place),
                certain: one.certain,
                reaches: (1..=jumps)
                    .map(|jump| {
                        machines()
                            .filter(|other| other.certain && other.jumps == jump)
                            .count()
                    })
                    .collect(),
                perhaps: machines().filter(|other| !other.certain).count(),
                marked: machines()
                    .filter(|other| is_marked(&other.place))
                    .map(|other| place(other.place))
                    .collect(),
            }
        })
        .collect();
    from.sort_by_key(|one| {
        std::cmp::Reverse((
            one.certain,
            one.marked.len(),
            one.reaches.iter().sum::<usize>(),
        ))
    });
    let reached = from_internet
        .iter()
        .filter(|one| is_marked(&one.place))
        .map(|one| MarkedFact {
            place: place(one.place),
            certain: one.certain,
            hops: one
                .hops
                .iter()
                .map(|hop| hop_fact(view, &found, &all, hop))
                .collect(),
            always_by: one.always_by.iter().map(|one| place(*one)).collect(),
        });
    OnwardFact {
        jumps,
        marks: view
            .tuning
            .marks
            .iter()
            .map(|(key, value)| format!("{key}={value}"))
            .collect(),
        from,
        marked: reached.collect(),
    }
}

/// Who opens connections to the internet alike.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct OutwardFact {
    /// The machines.
    pub machines: Vec<String>,
    /// The networks in which they stand.
    pub networks: Vec<String>,
    /// IPv4 or IPv6.
    pub family: Family,
    /// How it fares.
    pub verdict: Verdict,
    /// Protocols with ports, or ICMP types and codes: to some address of the internet.
    pub services: Vec<String>,
    /// By which device they leave.
    pub by: String,
    /// As which address they are seen; none for their own.
    pub seen_as: Option<String>,
    /// The firewalls that they pass.
    pub firewalls: Vec<String>,
    /// One of them.
    pub witness: Option<Witness>,
}

/// Who opens connections to the internet, by which device, seen as which address.
pub fn outward(view: &Fabric<'_>) -> Vec<OutwardFact> {
    let estate = view.estate;
    let sending: Vec<Id<Interface>> = estate.interfaces.ids().collect();
    let apart = |_| 0;
    let sweeping = Sweeping {
        to: Some(&[]),
        ..Sweeping::of(From::Interfaces(&sending), &apart)
    };
    let found = sweep(view, &sweeping);
    let mut facts: Vec<(OutwardFact, Intervals)> = Vec::new();
    for row in &found.rows {
        let fate = &found.fates[row.fate as usize];
        let outside = |target: &(u32, bool)| found.nodes[target.0 as usize] == Node::Internet;
        for reach in row
            .reach
            .iter()
            .filter(|reach| reach.targets.iter().any(outside))
        {
            for source in &row.sources {
                let Node::Interfaces(members) = &found.nodes[*source as usize] else {
                    continue;
                };
                let Some(first) = members.first() else {
                    continue;
                };
                let Some((by, seen_as, packet)) = leaves(
                    view,
                    *first,
                    reach.family,
                    &reach.services,
                    fate.judged.verdict,
                ) else {
                    continue;
                };
                let name = |id: &Id<Interface>| {
                    let item = &estate.interfaces[*id];
                    item.workload
                        .map_or(&item.name, |workload| &estate.workloads[workload].name)
                        .to_string()
                };
                let fact = OutwardFact {
                    machines: members.iter().map(name).collect(),
                    networks: vec![estate.networks[estate.network_of(*first)].name.to_string()],
                    family: reach.family,
                    verdict: fate.judged.verdict,
                    services: Vec::new(),
                    by,
                    seen_as: seen_as.map(|address| address.to_string()),
                    firewalls: fate
                        .firewalls
                        .iter()
                        .map(|id| estate.firewalls[*id].name.to_string())
                        .collect(),
                    witness: Some(packet),
                };
                let same = |(known, _): &&mut (OutwardFact, Intervals)| {
                    known.machines == fact.machines
                        && (
                            known.family,
                            known.verdict,
                            &known.by,
                            &known.seen_as,
                            &known.firewalls,
                        ) == (
                            fact.family,
                            fact.verdict,
                            &fact.by,
                            &fact.seen_as,
                            &fact.firewalls,
                        )
                };
                match facts.iter_mut().find(same) {
                    Some((_, services)) => *services = services.union(&reach.services),
                    None => facts.push((fact, reach.services.clone())),
                }
            }
        }
    }
    // Those that differ in nothing but who they are, together.
    let mut grouped: Vec<OutwardFact> = Vec::new();
    for (mut fact, services) in facts {
        fact.services = service::texts(fact.family, &services);
        let alike = |known: &&mut OutwardFact| {
            (
                known.family,
                known.verdict,
                &known.services,
                &known.by,
                &known.seen_as,
                &known.firewalls,
            ) == (
                fact.family,
                fact.verdict,
                &fact.services,
                &fact.by,
                &fact.seen_as,
                &fact.firewalls,
            )
        };
        match grouped.iter_mut().find(alike) {
            Some(known) => {
                known.machines.append(&mut fact.machines);
                known.networks.append(&mut fact.networks);
            }
            None => grouped.push(fact),
        }
    }
    for fact in &mut grouped {
        for names in [&mut fact.machines, &mut fact.networks] {
            names.sort_unstable();
            names.dedup();
        }
    }
    grouped.sort_by(|a, b| {
        (&a.by, &a.seen_as, a.family, &a.machines).cmp(&(&b.by, &b.seen_as, b.family, &b.machines))
    });
    grouped
}

/// By which device what an interface sends to the internet leaves, and as which address it is seen; of an example.
fn leaves(
    view: &Fabric<'_>,
    from: Id<Interface>,
    family: Family,
    services: &Intervals,
    verdict: Verdict,
) -> Option<(String, Option<IpAddr>, Witness)> {
    let only = Addresses::of_family(family);
    let own = view.estate.interfaces[from].addresses.intersection(&only);
    let ports = &view.settings(view.estate.network_of(from)).client_ports;
    let to = view.internet_end().intersection(&only);
    let of = |which: Intervals| services.intersection(&which);
    let ported = PacketSet::fields(&own, &to, |_| of(service::all_with_ports()), ports, ());
    let every = Intervals::span(0, u128::from(u16::MAX));
    let others = PacketSet::fields(
        &own,
        &to,
        |f| of(service::all(f).difference(&service::all_with_ports())),
        &every,
        (),
    );
    let start = Start::Interfaces(vec![from]);
    let asked = Asked {
        start: start.clone(),
        packets: ported.union(&others),
        name: None,
        any_of: Vec::new(),
    };
    let answered = walk(view, &asked, Tell::Deciders);
    let part = answered
        .parts
        .iter()
        .find(|part| part.judged.verdict == verdict)?;
    let packet = part.packets.witness()?;
    let single = Asked {
        start,
        packets: PacketSet::single(&packet),
        name: None,
        any_of: Vec::new(),
    };
    let answered = walk(view, &single, Tell::Steps);
    let works = answered
        .parts
        .iter()
        .flat_map(|part| answered.labels.trails_that_work(part.label))
        .next();
    let steps = answered
        .labels
        .steps(works.unwrap_or(answered.summary.trail));
    let (mut by, mut seen_as) = (None, None);
    for step in steps.iter().filter(|step| !step.reply) {
        if let What::Changed(change, _) = &step.what
            && let Some(source) = change.source
        {
            seen_as = Some(source);
        }
        if matches!(
            step.at,
            Spot::Gateway(_) | Spot::Firewall(_) | Spot::Site(_)
        ) {
            by = Some(heronshale_audit::facts::spot_text(view, step.at).0);
        }
    }
    let by = by.unwrap_or_else(|| "the network itself".to_owned());
    Some((by, seen_as, witness(&packet)))
}

/// A way in that one change would open.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct OneStepFact {
    /// The interface.
    pub interface: String,
    /// The address that is asked.
    pub address: String,
    /// The change; it was made in memory and asked again.
    pub edit: EditFact,
    /// What the interface's own filters would then let in, as services.
    pub services: Vec<String>,
    /// A packet that then gets in.
    pub witness: Witness,
}

/// No more ways in are looked at.
pub const MOST_STEPS: usize = 200;

/// The closed ways in whose own filters let something in from the internet, and that a single change would open. The number of
/// ways that were not looked at comes with them.
pub fn one_step_away(view: &Fabric<'_>) -> (Vec<OneStepFact>, usize) {
    let estate = view.estate;
    let closed = |way: &DirectWay| way.open().is_empty() && way.unknown().is_empty();
    let ways: Vec<DirectWay> = direct_ways(view).into_iter().filter(closed).collect();
    let left = ways.len().saturating_sub(MOST_STEPS);
    let mut found = Vec::new();
    for way in ways.iter().take(MOST_STEPS) {
        let forward = chain(view, way.interface, Direction::In);
        let asked = PacketSet::union_all(way.parts.iter().map(|part| part.packets.clone()));
        // Let in by what somebody wrote; or refused by a rule, so that the rule stands in the way.
        let ways = forward.ways(&asked);
        let regions = ways.regions();
        let passes = regions
            .iter()
            .filter(|(taken, _)| taken.passes())
            .map(|(_, packets)| packets.clone());
        let refused = way.parts.iter().filter(|part| {
            part.verdict == WayVerdict::Denied
                && part
                    .way
                    .judgements
                    .last()
                    .is_some_and(|judgement| matches!(judgement.by, By::Rule(_)))
        });
        let admitted = PacketSet::union_all(passes);
        let wanted = if admitted.is_empty() {
            PacketSet::union_all(refused.map(|part| part.packets.clone()))
        } else {
            admitted
        };
        let Some(packet) = wanted.witness() else {
            continue;
        };
        let numbers = Intervals::span(packet.service.into(), packet.service.into());
        let text = service::notation(packet.family, &numbers).join(", ");
        let Ok(one) = text.parse::<Service>() else {
            continue;
        };
        let public = way.public.map(|id| estate.public_addresses[id].address);
        let address = public
            .unwrap_or_else(|| heronshale_sets::address::address_of(way.own.family, way.own.first));
        let Ok(block) = address.to_string().parse() else {
            continue;
        };
        let connection = Connection {
            from: End::Internet,
            to: Goal::End(End::Block(block)),
            services: vec![one],
            source_port: None,
        };
        let asking = Asking {
            connection,
            only: Some((packet.source_address(), address)),
        };
        let mends = mending(view, &asking);
        let Some(mend) = mends.mends.iter().find(|mend| mend.edits.len() == 1) else {
            continue;
        };
        found.push(OneStepFact {
            interface: estate.interfaces[way.interface].name.to_string(),
            address: address.to_string(),
            edit: edit_fact(view, &mend.edits[0]),
            services: service::texts(way.family, &wanted.services()),
            witness: witness(&packet),
        });
    }
    (found, left)
}

/// How a port that was seen open stands in the snapshot.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Sight {
    /// Closed: the snapshot is not what runs, or something else answers.
    Closed,
    /// The estate holds no such address.
    NotHeld,
    /// That depends on what the snapshot lacks.
    Unknown,
    /// Open as well.
    Agrees,
}

impl Sight {
    /// In words.
    pub fn word(self) -> &'static str {
        match self {
            Self::Closed => "seen open, closed here",
            Self::NotHeld => "not of the estate",
            Self::Unknown => "unknown here",
            Self::Agrees => "agrees",
        }
    }
}

/// One port that was seen open.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct SeenFact {
    /// How it stands.
    pub sight: Sight,
    /// The address.
    pub address: String,
    /// Protocol and port.
    pub service: String,
    /// Who holds the address.
    pub holder: Option<String>,
    /// The line of the file.
    pub line: usize,
}

/// What is open here and was not seen.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct UnseenFact {
    /// The address.
    pub address: String,
    /// Who holds it.
    pub holder: String,
    /// Protocols with ports.
    pub services: Vec<String>,
}

/// What was seen from outside, against the snapshot.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ObservedFact {
    /// Each port that was seen, what contradicts first, then in the order of the file.
    pub seen: Vec<SeenFact>,
    /// TCP ports that are open here to the whole internet and were not seen, at addresses of which some port was seen or none.
    pub unseen: Vec<UnseenFact>,
}

/// What was seen from outside, against the snapshot.
pub fn observed(view: &Fabric<'_>, seen: &[Seen]) -> ObservedFact {
    let estate = view.estate;
    /// What is open and unknown at some addresses, and who holds them.
    struct At {
        addresses: Addresses,
        holder: String,
        open: Intervals,
        unknown: Intervals,
        to_all: Intervals,
    }
    let everywhere = |open: &PacketSet, asked: &PacketSet| {
        open.services()
            .difference(&asked.difference(open).services())
            .intersection(&service::whole(service::TCP))
    };
    let direct = direct_ways(view).into_iter().map(|way: DirectWay| {
        let public = way
            .public
            .map(|id| Addresses::single(estate.public_addresses[id].address));
        let (open, unknown) = (way.open(), way.unknown());
        let asked = PacketSet::union_all(way.parts.iter().map(|part| part.packets.clone()));
        At {
            addresses: public.unwrap_or_else(|| std::iter::once(way.own).collect()),
            holder: estate.interfaces[way.interface].name.to_string(),
            to_all: everywhere(&open.any_source_port(), &asked),
            open: open.services(),
            unknown: unknown.services(),
        }
    });
    let by_device = device_ways(view).into_iter().map(|way: DeviceWay| {
        let fact = heronshale_audit::facts::device_way_fact(
            view,
            &way,
            &heronshale_audit::expect::Spoken::default(),
        );
        let open = way.open();
        let unknown = way
            .parts
            .iter()
            .filter(|part| part.judged.verdict.is_open());
        let unknown = PacketSet::union_all(unknown.map(|part| part.packets.clone()));
        At {
            addresses: way.addresses.clone(),
            holder: format!("{} {}", fact.kind.word(), fact.name),
            to_all: everywhere(&open.any_source_port(), &way.asked()),
            open: open.services(),
            unknown: unknown.services(),
        }
    });
    let all: Vec<At> = direct.chain(by_device).collect();
    let mut facts: Vec<SeenFact> = seen
        .iter()
        .map(|one| {
            let here: Vec<&At> = all
                .iter()
                .filter(|at| at.addresses.contains(one.address))
                .collect();
            let has = |numbers: &Intervals| numbers.contains(one.service.into());
            let sight = if here.iter().any(|at| has(&at.open)) {
                Sight::Agrees
            } else if here.iter().any(|at| has(&at.unknown)) {
                Sight::Unknown
            } else if here.is_empty()
                && !estate
                    .public_addresses
                    .items()
                    .iter()
                    .any(|p| p.address == one.address)
            {
                Sight::NotHeld
            } else {
                Sight::Closed
            };
            let number = Intervals::span(one.service.into(), one.service.into());
            SeenFact {
                sight,
                address: one.address.to_string(),
                service: service::texts(Family::of(one.address), &number).join(", "),
                holder: here.first().map(|at| at.holder.clone()),
                line: one.line,
            }
        })
        .collect();
    facts.sort_by_key(|fact| (fact.sight, fact.line));
    let unseen = all.iter().filter_map(|at| {
        let known = seen.iter().filter(|one| at.addresses.contains(one.address));
        let known =
            Intervals::from_spans(known.map(|one| (one.service.into(), one.service.into())));
        let services = at.to_all.difference(&known);
        let family = if at.addresses.of(Family::V4).is_empty() {
            Family::V6
        } else {
            Family::V4
        };
        (!services.is_empty()).then(|| UnseenFact {
            address: at.addresses.texts().join(", "),
            holder: at.holder.clone(),
            services: service::texts(family, &services),
        })
    });
    ObservedFact {
        seen: facts,
        unseen: unseen.collect(),
    }
}

/// Public names that lead to addresses which nothing in the snapshot holds.
pub fn names_of_nothing(view: &Fabric<'_>) -> Vec<String> {
    let estate = view.estate;
    let mut held: Addresses = estate
        .public_addresses
        .items()
        .iter()
        .map(|public| public.address)
        .collect();
    let mut add = |more: &Addresses| held = held.union(more);
    for interface in estate.interfaces.items() {
        add(&interface.addresses);
    }
    for firewall in estate.firewalls.items() {
        add(&firewall.addresses);
    }
    for service in estate.services.items() {
        service
            .public_door
            .iter()
            .for_each(|door| add(&door.addresses));
    }
    for balancer in estate.balancers.items() {
        add(&balancer
            .front_ends
            .iter()
            .map(|front| front.address)
            .collect());
    }
    let mut found = Vec::new();
    for record in &estate.public_names {
        let RecordData::Addresses(all) = &record.data else {
            continue;
        };
        let nobody = all
            .iter()
            .filter(|address| !held.contains(**address) && view.internet_end().contains(**address));
        found.extend(nobody.map(|address| format!("{} → {address}", record.name)));
    }
    found
}
