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
    /// Depends on what is missing from the snapshot.
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
    /// Whether a rule, a default, or the lack of a filter decided here, rather than nothing.
    pub decides: bool,
    /// The firewall, if it is one.
    pub firewall: Option<String>,
    /// As whom the sender is seen from here on, if that changes.
    pub source: Option<String>,
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
                "no rule matches (default)".to_owned(),
                Some(estate.sources.place(&filter.origin)),
                filter.owner,
            )
        }
        By::NoRule => ("no rule matches".to_owned(), None, None),
        By::ImpliedDeny => ("no rule matches (implied deny)".to_owned(), None, None),
        By::ImpliedPair => ("implied pair of rules".to_owned(), None, None),
        By::NoPolicy => ("no policy decides".to_owned(), None, None),
        By::NoGroup => ("no group is bound".to_owned(), None, None),
        By::SameSubnet => ("not crossed inside the subnet".to_owned(), None, None),
        By::Finally => (
            "skipped, because a policy allows it finally".to_owned(),
            None,
            None,
        ),
        By::Platform => ("platform traffic".to_owned(), None, None),
        By::Lacking => ("missing from the snapshot".to_owned(), None, None),
    }
}

fn change_text(change: &Rewrite) -> String {
    let mut parts = Vec::new();
    if let Some(source) = change.source {
        let ports = change
            .source_ports
            .as_ref()
            .map_or_else(String::new, |ports| {
                format!(", source port {}", ports_text(ports))
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
            return ("blackhole route".to_owned(), by_route(&winner));
        }
        Why::DeadHop(winner) => {
            return (
                "the next hop does not exist, is down or is not attached".to_owned(),
                by_route(&winner),
            );
        }
        Why::NobodyHolds => "nobody has the address",
        Why::MayNotForward => "it does not forward packets of others (`forwards`)",
        Why::Loop => "routing loop: the packet comes here a second time",
        Why::ForwardedNotAccepted => {
            "this side does not accept forwarded packets (`accept_forwarded`)"
        }
        Why::NotTransitive => "peerings are not transitive",
        Why::NotMapped => "the sender has no public address",
        Why::NotOnInternet => "the address is not public",
        Why::NoGateway => "no internet gateway is attached",
        Why::NothingIn => "it allows no inbound connections",
        Why::NotTaken => "it does not carry this traffic",
        Why::SawNoRequest => "the reply comes here, but the request did not",
        Why::Bypassed => "the request passed it, but the reply bypasses it",
        Why::NotAsked => "the reply reaches another machine than the sender",
        Why::NoMember => "it has no member that is up",
        Why::OtherMember => "the reply reaches another member than the request",
        Why::NotTranslated => "addressed to itself, without a matching translation or service",
        Why::NoFirewallRoute => "its own table has no route",
        Why::NoFrontEnd => "no front end matches",
        Why::NoBackEnd => "it has no healthy back end",
        Why::NoBackEndAddress => "a back end has no address of this family",
        Why::NoSuchPort => "the service has no such port",
        Why::NoDomain => "the link reads no domain",
        Why::BackByLink => "the route leads back to the link it came from",
        Why::NotAtSite => "the site neither has nor announces the address",
        Why::SiteKnowsNoWay => "the site has no route to the address",
        Why::OneWayDoor => "a private door opens no connections",
        Why::TooManySteps => "too many possible ways; the limit of steps was reached",
        Why::Lacking => "missing from the snapshot",
        Why::NobodyKnown => {
            "nobody is known to have the address, but machines that may have it are missing from the snapshot"
        }
        Why::OpenRoute(winner) => return ("another route may win".to_owned(), by_route(&winner)),
        Why::OwnServices => {
            "the snapshot does not say which services it offers itself (`own_services`)"
        }
        Why::NoTranslatedSource => "the translation has no source address of this family",
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
        decides: false,
        firewall: match step.at {
            Spot::Firewall(id) => Some(estate.firewalls[id].name.to_string()),
            _ => None,
        },
        source: None,
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
        fact.decides = !matches!(by, By::NoPolicy | By::SameSubnet | By::Platform);
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
            fact.at = format!("{name}, {} at {}", direction.bound(), fact.at);
            judged(&mut fact, judgement.outcome, judgement.by);
        }
        What::Known(direction) => {
            fact.at = format!("{}, {}", fact.at, direction.bound());
            fact.why = if step.reply {
                "reply of a tracked connection".to_owned()
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
            fact.at = format!("ACL {name}, {}", direction.bound());
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
            fact.source = change.source.map(|source| source.to_string());
            if step.reply {
                fact.why = format!("restores {}", fact.why);
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
        What::Passed => fact.why = "reply of a tracked connection".to_owned(),
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
                "its list does not contain the source"
            }
            .to_owned();
        }
        What::Crossed => {
            fact.does = StepDoes::Routes;
            fact.why = "forwards".to_owned();
        }
        What::Arrived => fact.does = StepDoes::Arrives,
        What::Platform => {
            fact.does = StepDoes::Arrives;
            fact.why = "the platform answers, unfiltered".to_owned();
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
