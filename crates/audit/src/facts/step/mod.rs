//! A step of a walk in words: where it is, what it does, and why.

mod named;

use named::{named, open_parts};

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
use serde::Serialize;

/// What a step does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
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
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
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
