//! A step of a walk in words: where it is, what it does, and why.

use super::base::does;
use super::hop::{gateway_text, hop_text, link_text, spot_text, subnet_table, why_dead};
use crate::describe::{filter_text, owner_text, ports_text, rule_says};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::judgement::{By, Outcome};
use heronshale_engine::route::Winner;
use heronshale_engine::walk::{Spot, Step, What, Why};
use heronshale_model::estate::{
    DomainHop, GatewayKind, Id, Interface, InternetTraffic, Lack, LinkEnd, Owner, Peer, Reference,
};
use heronshale_model::source::{Origin, Place};
use heronshale_sets::packet::Rewrite;
use serde::{Deserialize, Serialize};

/// What a step does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum StepDoes {
    /// Lets it on.
    Passes,
    /// Leads it on.
    Routes,
    /// Changes its header.
    Changes,
    /// It is at its end.
    Arrives,
    /// Drops it in silence.
    Denies,
    /// Drops it and tells the sender.
    Rejects,
    /// It gets lost.
    Loses,
    /// Depends on what the snapshot lacks.
    Unknown,
}

/// One step there or back.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct StepFact {
    /// Whether it is on the way back.
    pub reply: bool,
    /// What it does.
    pub does: StepDoes,
    /// Where, in words: `group build, out`.
    pub at: String,
    /// Why, in words: `rule all: any to any`.
    pub why: String,
    /// Where what decided was written.
    pub place: Option<Place>,
    /// Who changes that.
    pub owner: Option<String>,
}

/// What decided at a stage: in words, where it stands, and who changes it.
fn by_text(view: &Fabric<'_>, by: By) -> (String, Option<Place>, Option<Id<Owner>>) {
    let estate = view.estate;
    match by {
        By::Rule(id) => {
            let owner = estate.filters[id.filter].owner;
            let text = format!("rule {}: {}", estate.rule_name(id), rule_says(estate, id));
            (
                text,
                Some(estate.sources.place(&estate.rule(id).origin)),
                owner,
            )
        }
        By::Default(id) => {
            let filter = &estate.filters[id];
            (
                "no rule fits, its default".to_owned(),
                Some(estate.sources.place(&filter.origin)),
                filter.owner,
            )
        }
        By::NoRule => ("no rule fits".to_owned(), None, None),
        By::ImpliedDeny => ("no rule fits, implied end".to_owned(), None, None),
        By::ImpliedPair => ("the implied pair".to_owned(), None, None),
        By::NoPolicy => ("no policy decides".to_owned(), None, None),
        By::NoGroup => ("no group is bound".to_owned(), None, None),
        By::SameSubnet => ("not crossed inside a subnet".to_owned(), None, None),
        By::Finally => ("skipped: a policy allows it finally".to_owned(), None, None),
        By::Platform => ("platform traffic".to_owned(), None, None),
        By::Lacking => ("not in the snapshot".to_owned(), None, None),
    }
}

fn change_text(change: &Rewrite) -> String {
    let mut parts = Vec::new();
    if let Some(source) = change.source {
        let ports = change
            .source_ports
            .as_ref()
            .map_or_else(String::new, |ports| {
                format!(", a port of {}", ports_text(ports))
            });
        parts.push(format!("source {source}{ports}"));
    }
    match (change.destination, change.port) {
        (Some(to), Some(port)) => parts.push(format!(
            "destination {}",
            std::net::SocketAddr::new(to, port)
        )),
        (Some(to), None) => parts.push(format!("destination {to}")),
        (None, Some(port)) => parts.push(format!("port {port}")),
        (None, None) => {}
    }
    parts.join(", ")
}

/// Why a walk ended, in words.
fn why_text(view: &Fabric<'_>, why: Why) -> (String, Option<Place>) {
    let estate = view.estate;
    let by_route = |winner: &Winner| winner.origin.map(|origin| estate.sources.place(&origin));
    let text = match why {
        Why::NoRoute => "no route",
        Why::Blackhole(winner) => {
            return ("a blackhole route takes it".to_owned(), by_route(&winner));
        }
        Why::DeadHop(winner) => {
            return (
                "the next hop does not exist, is down or is not attached".to_owned(),
                by_route(&winner),
            );
        }
        Why::NobodyHolds => "nobody holds the address",
        Why::MayNotForward => "it may not pass on packets that are not its own",
        Why::Loop => "a loop: here for the second time",
        Why::ForwardedNotAccepted => {
            "that side does not accept packets from elsewhere (`accept_forwarded`)"
        }
        Why::NotTransitive => "what came over a peering does not leave again",
        Why::NotMapped => "the sender has no public address to be mapped to",
        Why::NotOnInternet => "it knows no such address, so no public address leads there",
        Why::NoGateway => "no attached internet gateway",
        Why::NothingIn => "it lets nothing in",
        Why::NotTaken => "it takes no such packets",
        Why::SawNoRequest => "the reply comes here, and the request did not come by it",
        Why::Bypassed => "the request came by it, and the reply goes around it",
        Why::NotAsked => "the reply comes to somebody who did not ask",
        Why::NoMember => "none of its members is up",
        Why::OtherMember => "the reply comes to another member than the request",
        Why::NotTranslated => {
            "sent to itself: no translation fits, and it has no such service of its own"
        }
        Why::NoFirewallRoute => "its own table has no route",
        Why::NoFrontEnd => "no front end takes it",
        Why::NoBackEnd => "no back end is healthy",
        Why::NoBackEndAddress => "a back end has no address of this family",
        Why::NoSuchPort => "the service has no such port",
        Why::NoDomain => "the link reads from no domain",
        Why::BackByLink => "it would leave by the link by which it came",
        Why::NotAtSite => "the site neither holds nor announces the address",
        Why::SiteKnowsNoWay => "the site knows no way to the address",
        Why::OneWayDoor => "a private door opens nothing from its side",
        Why::TooManySteps => "this took more steps to follow than the limit allows",
        Why::Lacking => "not in the snapshot",
        Why::NobodyKnown => {
            "nobody is known to hold the address, and the snapshot lacks some who may"
        }
        Why::OpenRoute(winner) => return ("another route may win".to_owned(), by_route(&winner)),
        Why::OwnServices => {
            "the snapshot does not say which services it has itself (`own_services`)"
        }
        Why::NoTranslatedSource => "the translation gives no source of this family",
    };
    (text.to_owned(), None)
}

/// A step in words.
pub fn step_fact(view: &Fabric<'_>, step: &Step) -> StepFact {
    let estate = view.estate;
    let (spot, spot_place, spot_owner) = spot_text(view, step.at);
    let mut fact = StepFact {
        reply: step.reply,
        does: StepDoes::Passes,
        at: spot,
        why: String::new(),
        place: spot_place,
        owner: owner_text(estate, spot_owner),
    };
    let judged = |fact: &mut StepFact, outcome: Outcome, by: By| {
        fact.does = match does(outcome) {
            super::Does::Passes => StepDoes::Passes,
            super::Does::Denies => StepDoes::Denies,
            super::Does::Rejects => StepDoes::Rejects,
            super::Does::Unknown => StepDoes::Unknown,
        };
        let (why, place, owner) = by_text(view, by);
        fact.why = why;
        if place.is_some() {
            fact.place = place;
            fact.owner = owner_text(estate, owner).or_else(|| fact.owner.take());
        }
    };
    match &step.what {
        What::Stage {
            direction,
            stage,
            judgement,
        } => {
            let name = match judgement.by {
                By::Rule(id) => filter_text(estate, id.filter),
                By::Default(id) => filter_text(estate, id),
                _ => {
                    let Spot::Interface(id) = step.at else {
                        return fact;
                    };
                    stage_name(view, id, *stage)
                }
            };
            fact.at = format!("{}: {name}, {}", fact.at, direction.word());
            judged(&mut fact, judgement.outcome, judgement.by);
        }
        What::Known(direction) => {
            fact.at = format!("{}, {}", fact.at, direction.word());
            fact.why = if step.reply {
                "a reply, known".to_owned()
            } else {
                "no filter".to_owned()
            };
        }
        What::Acl(direction, judgement) => {
            let Spot::Subnet(subnet) = step.at else {
                return fact;
            };
            let acl = estate.subnets[subnet].acl.as_ref();
            let name =
                acl.map_or_else(String::new, |acl| crate::describe::filter_name(estate, acl));
            if let Some(found) = acl.and_then(heronshale_model::estate::Reference::found) {
                fact.place = Some(estate.sources.place(&estate.filters[found].origin));
            }
            fact.at = format!("ACL {name}, {}", direction.word());
            judged(&mut fact, judgement.outcome, judgement.by);
        }
        What::Routed(winner) => {
            fact.does = StepDoes::Routes;
            fact.at = match step.at {
                Spot::Subnet(subnet) => subnet_table(view, subnet),
                Spot::Hub(hub, Some(link)) => {
                    let item = &estate.hubs[hub];
                    let domain = item.links[link].reads.and_then(|at| item.domains.get(at));
                    domain.map_or(fact.at, |domain| {
                        format!("hub {}, domain {}", item.name, domain.name)
                    })
                }
                _ => fact.at,
            };
            fact.why = format!("to {}", hop_text(view, winner.hop));
            fact.place = winner.origin.map(|origin| estate.sources.place(&origin));
        }
        What::InternetBlock(network, subnet) => {
            fact.does = StepDoes::Denies;
            let of_subnet = subnet
                .filter(|id| estate.subnets[*id].internet_traffic != InternetTraffic::BothWays);
            let (at, origin, owner, traffic) = match of_subnet {
                Some(id) => {
                    let item = &estate.subnets[id];
                    (
                        format!("subnet {}", item.name),
                        item.origin,
                        estate.subnet_owner(id),
                        item.internet_traffic,
                    )
                }
                None => {
                    let item = &estate.networks[*network];
                    (
                        format!("network {}", item.name),
                        item.origin,
                        item.owner,
                        item.internet_traffic,
                    )
                }
            };
            let may = match traffic {
                InternetTraffic::OutboundOnly => "is outbound only",
                _ => "may not talk to the internet",
            };
            (fact.at, fact.why) = (at, format!("it {may} (`internet_traffic`)"));
            (fact.place, fact.owner) = (
                Some(estate.sources.place(&origin)),
                owner_text(estate, owner),
            );
        }
        What::Changed(change, by) => {
            fact.does = StepDoes::Changes;
            fact.why = change_text(change);
            if step.reply {
                fact.why = format!("undoes {}", fact.why);
            }
            if let Some(origin) = by {
                fact.place = Some(estate.sources.place(origin));
            }
        }
        What::Policy {
            allows,
            rejects,
            by,
        } => {
            let outcome = match (allows, rejects) {
                (true, _) => Outcome::Pass,
                (false, true) => Outcome::Reject,
                (false, false) => Outcome::Deny,
            };
            judged(&mut fact, outcome, *by);
            if *by == By::NoPolicy {
                fact.why = "it has no policy".to_owned();
            }
        }
        What::Passed => fact.why = "a reply, known".to_owned(),
        What::DoorShut => {
            fact.does = StepDoes::Denies;
            fact.at = format!("{}, public door", fact.at);
            fact.why = "it is shut".to_owned();
        }
        What::DoorList(inside) => {
            fact.does = if *inside {
                StepDoes::Passes
            } else {
                StepDoes::Denies
            };
            fact.at = format!("{}, public door", fact.at);
            fact.why = if *inside {
                "open to this source"
            } else {
                "its list does not hold the source"
            }
            .to_owned();
        }
        What::Crossed => {
            fact.does = StepDoes::Routes;
            fact.why = "over it".to_owned();
        }
        What::Arrived => fact.does = StepDoes::Arrives,
        What::Platform => {
            fact.does = StepDoes::Arrives;
            fact.why = "the platform itself answers; nothing filters it".to_owned();
        }
        What::Ended(why) => {
            let open = matches!(
                why,
                Why::Lacking
                    | Why::NobodyKnown
                    | Why::OpenRoute(_)
                    | Why::OwnServices
                    | Why::TooManySteps
            );
            fact.does = if open {
                StepDoes::Unknown
            } else {
                StepDoes::Loses
            };
            if let (Why::NoRoute, Spot::Subnet(subnet)) = (why, step.at) {
                fact.at = subnet_table(view, subnet);
                if let Some(heronshale_model::estate::Reference::Found(table)) =
                    heronshale_engine::route::table_of(view, subnet)
                {
                    let table = &estate.route_tables[*table];
                    fact.place = Some(estate.sources.place(&table.origin));
                    fact.owner = owner_text(estate, table.owner).or(fact.owner);
                }
            }
            let (text, place) = why_text(view, *why);
            fact.why = text;
            fact.place = place.or(fact.place);
            if let Some(named) = named(view, step.at, *why) {
                (fact.at, fact.why) = (named.at, named.why);
                if let Some(origin) = named.origin {
                    fact.place = Some(estate.sources.place(&origin));
                    fact.owner = owner_text(estate, named.owner).or(fact.owner);
                }
            }
        }
    }
    if fact.does == StepDoes::Unknown
        && let Some(open) = open_parts(view, step)
    {
        fact.why = format!("{}; {open}", fact.why);
    }
    fact
}

/// What a walk ended at, by its own name.
struct Named {
    at: String,
    why: String,
    origin: Option<Origin>,
    owner: Option<Id<Owner>>,
}

/// The thing that ended a walk, where that is another than the place at which it showed.
fn named(view: &Fabric<'_>, at: Spot, why: Why) -> Option<Named> {
    let estate = view.estate;
    let place = |at: String, why: &str, origin: Option<Origin>| {
        Some(Named {
            at,
            why: why.to_owned(),
            origin,
            owner: None,
        })
    };
    match (why, at) {
        (Why::NoGateway, Spot::Network(network)) => {
            let mut here = estate
                .gateways
                .iter()
                .filter(|(_, gateway)| gateway.network == network);
            let (id, gateway) = here.find(|(_, g)| {
                matches!(
                    g.kind,
                    GatewayKind::Internet {
                        attached: false,
                        ..
                    }
                )
            })?;
            let why = format!(
                "it is not attached to network {}",
                estate.networks[network].name
            );
            let owner = gateway.owner.or(estate.networks[network].owner);
            Some(Named {
                at: gateway_text(estate, id),
                why,
                origin: Some(gateway.origin),
                owner,
            })
        }
        (Why::DeadHop(winner), _) => dead_hop(view, winner),
        (Why::NoRoute, Spot::Hub(id, Some(_))) => {
            let hub = &estate.hubs[id];
            let down: Vec<String> = hub
                .links
                .iter()
                .filter(|link| !link.up)
                .map(|link| {
                    format!(
                        "link {} to {} is down",
                        link.name,
                        link_text(estate, &link.to)
                    )
                })
                .collect();
            let (at, ..) = spot_text(view, at);
            let why = format!("no route; {}", down.join(", "));
            (!down.is_empty()).then_some(Named {
                at,
                why,
                origin: None,
                owner: None,
            })
        }
        (Why::OpenRoute(winner), _) => {
            if let Some((table, route)) = winner
                .origin
                .and_then(|origin| heronshale_engine::route::written_route(estate, origin))
            {
                let item = &estate.route_tables[table];
                let name = item.routes[route]
                    .id
                    .as_ref()
                    .map_or_else(|| format!("#{}", route + 1), ToString::to_string);
                let sets =
                    heronshale_engine::route::open_parts(view, &item.routes[route].destinations);
                let from = item.routes[route].only_from.as_deref().unwrap_or(&[]);
                let sets = sets
                    .into_iter()
                    .chain(heronshale_engine::route::open_parts(view, from));
                let sets: Vec<String> = sets.map(|peer| open_text(view, &peer)).collect();
                let why = format!("whether it wins depends on {}", sets.join(" and "));
                return place(
                    format!("route {name} of table {}", item.name),
                    &why,
                    winner.origin,
                );
            }
            lacking_routes(view, at)
        }
        (Why::Lacking, Spot::Peering(id, None)) => {
            let sides = estate.peerings[id]
                .sides
                .iter()
                .filter_map(|side| match &side.network {
                    Reference::Missing(name) => Some(format!("network {name}")),
                    Reference::Found(_) => None,
                });
            let name = sides.collect::<Vec<_>>().join(" and ");
            place(
                name,
                &format!(
                    "not in the snapshot, behind peering {}",
                    estate.peerings[id].name
                ),
                None,
            )
        }
        (Why::Lacking, Spot::Firewall(id)) => {
            let item = &estate.firewalls[id];
            let lacks = [Lack::Interfaces, Lack::Rules, Lack::Routes];
            let of = lacks
                .into_iter()
                .find(|lack| view.lacks("firewall", &item.name, *lack))?;
            place(
                format!("firewall {}", item.name),
                &format!("the snapshot lacks its {}", of.word()),
                Some(item.origin),
            )
        }
        (Why::Lacking, Spot::Subnet(_) | Spot::Network(_)) => lacking_routes(view, at),
        (Why::NobodyKnown, _) => {
            let gap = first_gap(
                view,
                &[
                    "interface",
                    "subnet",
                    "balancer",
                    "firewall",
                    "service",
                    "network",
                ],
            )?;
            let (at, ..) = spot_text(view, at);
            place(
                at,
                &format!("nobody is known to hold the address, and the snapshot lacks {gap}"),
                None,
            )
        }
        _ => None,
    }
}

/// The first gap about something of these kinds, in words: `the interfaces of network quay`.
fn first_gap(view: &Fabric<'_>, kinds: &[&str]) -> Option<String> {
    let of = |kind: &&str| {
        view.estate.gaps.iter().find(|gap| {
            let is_kind = gap
                .object
                .split_once(':')
                .is_some_and(|(other, _)| other == *kind);
            is_kind && matches!(gap.lack, Lack::Everything | Lack::Interfaces)
        })
    };
    let gap = kinds.iter().find_map(of)?;
    let object = gap.object.replacen(':', " ", 1);
    let what = if gap.lack == Lack::Everything {
        object
    } else {
        format!("the {} of {object}", gap.lack.word())
    };
    Some(
        gap.reason
            .as_ref()
            .map_or_else(|| what.clone(), |reason| format!("{what} ({reason})")),
    )
}

/// What a place lacks that would say where its packets go.
fn lacking_routes(view: &Fabric<'_>, at: Spot) -> Option<Named> {
    let estate = view.estate;
    let (network, table) = match at {
        Spot::Subnet(subnet) => (
            estate.subnets[subnet].network,
            heronshale_engine::route::table_of(view, subnet),
        ),
        Spot::Network(network) => (network, estate.networks[network].main_table.as_ref()),
        Spot::Hub(id, _) => {
            let item = &estate.hubs[id];
            let at = format!("hub {}", item.name);
            let missing: Vec<String> = item
                .links
                .iter()
                .filter_map(|link| missing_end(&link.to))
                .collect();
            let why = match view.lacks("hub", &item.name, Lack::Routes) {
                true => "the snapshot lacks its routes".to_owned(),
                false => {
                    format!(
                        "the snapshot lacks {}, of which nobody knows what it announces",
                        missing.join(" and ")
                    )
                }
            };
            return Some(Named {
                at,
                why,
                origin: Some(item.origin),
                owner: item.owner,
            });
        }
        _ => return None,
    };
    let item = &estate.networks[network];
    let named = |at: String, why: String, origin| {
        Some(Named {
            at,
            why,
            origin,
            owner: item.owner,
        })
    };
    match table {
        Some(Reference::Missing(name)) => {
            return named(
                format!("table {name}"),
                "not in the snapshot".to_owned(),
                None,
            );
        }
        Some(Reference::Found(id))
            if view.lacks("table", &estate.route_tables[*id].name, Lack::Routes) =>
        {
            let table = &estate.route_tables[*id];
            let why = "the snapshot lacks its routes".to_owned();
            return named(format!("table {}", table.name), why, Some(table.origin));
        }
        _ => {}
    }
    let (at, ..) = spot_text(view, at);
    if view.lacks("network", &item.name, Lack::Routes) {
        let why = "the snapshot lacks its routes".to_owned();
        return named(format!("network {}", item.name), why, Some(item.origin));
    }
    let peers = estate
        .peerings
        .items()
        .iter()
        .filter_map(|peering| peering.opposite(network));
    let missing = peers.filter_map(|other| match other {
        Reference::Missing(name) => Some(format!("network {name}")),
        Reference::Found(_) => None,
    });
    let kinds = ["peering", "gateway", "hub"].into_iter();
    let gaps = kinds
        .filter_map(|kind| view.lacking(kind).next())
        .map(|gap| gap.object.replacen(':', " ", 1));
    let what = missing.chain(gaps).next()?;
    named(
        at,
        format!("the snapshot lacks {what}, which may lead there"),
        None,
    )
}

/// What a link leads to that the snapshot lacks.
fn missing_end(to: &LinkEnd) -> Option<String> {
    match to {
        LinkEnd::Network(Reference::Missing(name)) => Some(format!("network {name}")),
        LinkEnd::Site(Reference::Missing(name)) => Some(format!("site {name}")),
        LinkEnd::Hub(Reference::Missing(name)) => Some(format!("hub {name}")),
        LinkEnd::Firewall(Reference::Missing(name)) => Some(format!("firewall {name}")),
        _ => None,
    }
}

/// The route that leads to a dead next hop, and why it is dead.
fn dead_hop(view: &Fabric<'_>, winner: Winner) -> Option<Named> {
    let estate = view.estate;
    let origin = winner.origin?;
    if let Some((table, at)) = heronshale_engine::route::written_route(estate, origin) {
        let item = &estate.route_tables[table];
        let route = &item.routes[at];
        let name = route
            .id
            .as_ref()
            .map_or_else(|| format!("#{}", at + 1), ToString::to_string);
        let why = why_dead(view, item.network, &route.next_hop);
        let owner = item.owner.or(estate.networks[item.network].owner);
        return Some(Named {
            at: format!("route {name} of table {}", item.name),
            why,
            origin: Some(origin),
            owner,
        });
    }
    estate.hubs.items().iter().find_map(|hub| {
        let of = |at: String, why: String| {
            Some(Named {
                at,
                why,
                origin: Some(origin),
                owner: hub.owner,
            })
        };
        if let Some(link) = hub.links.iter().find(|link| link.origin == origin) {
            return of(
                format!("hub {}, link {}", hub.name, link.name),
                "what it leads to is not in the snapshot".to_owned(),
            );
        }
        hub.domains.iter().find_map(|domain| {
            let route = domain.routes.iter().find(|route| route.origin == origin)?;
            let why = match &route.hop {
                DomainHop::Link(at) => format!(
                    "its route leads to link {}, which is down",
                    hub.links[*at].name
                ),
                DomainHop::Missing(name) => {
                    format!("its route leads to link {name}, which does not exist")
                }
                DomainHop::Blackhole => return None,
            };
            of(format!("hub {}, domain {}", hub.name, domain.name), why)
        })
    })
}

/// A peer of which the snapshot does not say everything, in words.
fn open_text(view: &Fabric<'_>, peer: &Peer) -> String {
    let estate = view.estate;
    match peer {
        Peer::AddressSet(Reference::Found(set)) => {
            format!(
                "set {}, whose content the platform keeps to itself",
                estate.address_sets[*set].name
            )
        }
        Peer::Probes => "the health checkers, whose addresses the snapshot does not say".to_owned(),
        Peer::Network(Reference::Missing(name)) => {
            format!("network {name}, which is not in the snapshot")
        }
        _ if peer.is_missing() => format!(
            "{}, which is not in the snapshot",
            crate::describe::peer_text(estate, peer)
        ),
        _ => {
            let gap = first_gap(view, &["network", "subnet", "interface", "peering", "hub"]);
            let gap = gap.map_or_else(String::new, |gap| format!(": the snapshot lacks {gap}"));
            format!(
                "who else belongs to {}{gap}",
                crate::describe::peer_text(estate, peer)
            )
        }
    }
}

/// On what it turns whether the rule of a step matches.
fn open_parts(view: &Fabric<'_>, step: &Step) -> Option<String> {
    let by = match &step.what {
        What::Stage { judgement, .. } | What::Acl(_, judgement) => judgement.by,
        What::Policy { by, .. } => *by,
        _ => return None,
    };
    let By::Rule(id) = by else { return None };
    let rule = view.estate.rule(id);
    let network = match step.at {
        Spot::Interface(interface) => Some(view.estate.network_of(interface)),
        Spot::Subnet(subnet) => Some(view.estate.subnets[subnet].network),
        _ => None,
    };
    let peers = rule
        .peers
        .iter()
        .flatten()
        .chain(&rule.except)
        .chain(rule.local.iter().flatten());
    let mut texts: Vec<String> = Vec::new();
    for peer in peers {
        for open in view.open_peers(peer, network) {
            let text = open_text(view, &open);
            if !texts.contains(&text) {
                texts.push(text);
            }
        }
    }
    (!texts.is_empty()).then(|| format!("that turns on {}", texts.join(" and ")))
}

/// The filters of a stage of an interface, in words.
fn stage_name(
    view: &Fabric<'_>,
    interface: Id<Interface>,
    stage: heronshale_engine::judgement::StageKind,
) -> String {
    use heronshale_engine::judgement::StageKind;
    let estate = view.estate;
    let item = &estate.interfaces[interface];
    let groups =
        |all: &[heronshale_model::estate::Reference<heronshale_model::estate::Filter>]| {
            all.iter()
                .map(|group| crate::describe::filter_name(estate, group))
                .collect::<Vec<_>>()
                .join(" + ")
        };
    let named = match stage {
        StageKind::InterfaceGroups | StageKind::PooledGroups => groups(&item.groups),
        StageKind::SubnetGroups => groups(&estate.subnets[item.subnet].groups),
        _ => String::new(),
    };
    if named.is_empty() {
        stage.word().to_owned()
    } else {
        format!("group {named}")
    }
}
