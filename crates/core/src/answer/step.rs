//! A step of a walk in words: where it is, what it does, and why.

use super::does;
use crate::describe::{filter_text, owner_text, ports_text, rule_says};
use crate::model::{Estate, GatewayKind, Id, Interface, LinkEnd, Network, Owner, Subnet};
use crate::packet::Rewrite;
use crate::route::{Hop, Winner};
use crate::source::Place;
use crate::stage::{By, Outcome};
use crate::view::View;
use crate::walk::{Spot, Step, What, Why};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What a step does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
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
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
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

/// A next hop in words.
pub fn hop_text(view: &View<'_>, hop: Hop) -> String {
    let estate = view.estate;
    match hop {
        Hop::Local => "the network itself".to_owned(),
        Hop::Blackhole => "nowhere (blackhole)".to_owned(),
        Hop::Gateway(gateway) => gateway_text(estate, gateway),
        Hop::Interface(id) | Hop::MayNotForward(id) => {
            let owner = estate.firewalls.items().iter().find(|f| f.legs.iter().any(|leg| leg.interface == id));
            let interface = format!("interface {}", estate.interfaces[id].name);
            owner.map_or(interface.clone(), |firewall| format!("firewall {}, {interface}", firewall.name))
        }
        Hop::Peering(peering) => format!("peering {}", estate.peerings[peering].name),
        Hop::Balancer(balancer) => format!("balancer {}", estate.balancers[balancer].name),
        Hop::Hub(hub, link) => format!("hub {}, link {}", estate.hubs[hub].name, estate.hubs[hub].links[link].name),
        Hop::Service(service) => format!("service {}", estate.services[service].name),
        Hop::Door(interface) => format!("private door {}", estate.interfaces[interface].name),
        Hop::SharedAddress => "the platform's shared address".to_owned(),
        Hop::Dead => "a next hop that does not exist or is down".to_owned(),
        Hop::Unknown => "what the snapshot lacks".to_owned(),
    }
}

fn gateway_text(estate: &Estate, id: Id<crate::model::Gateway>) -> String {
    let gateway = &estate.gateways[id];
    let kind = match gateway.kind {
        GatewayKind::Internet { .. } => "internet gateway",
        GatewayKind::Nat { .. } => "NAT gateway",
        GatewayKind::OutboundOnly => "outbound-only gateway",
        GatewayKind::Site { .. } => "site gateway",
    };
    format!("{kind} {}", gateway.name)
}

fn subnet_table(view: &View<'_>, subnet: Id<Subnet>) -> String {
    match crate::route::table_of(view, subnet) {
        Some(table) => format!("table {}", crate::describe::name_of(&view.estate.route_tables, table)),
        None => format!("automatic routes of {}", view.estate.subnets[subnet].name),
    }
}

/// A place in words, and who changes it.
pub(crate) fn spot_text(view: &View<'_>, spot: Spot) -> (String, Option<Place>, Option<Id<Owner>>) {
    let estate = view.estate;
    let place = |origin| Some(estate.sources.place(origin));
    let network = |id: Id<Network>| estate.networks[id].owner;
    match spot {
        Spot::Interface(id) => {
            let item = &estate.interfaces[id];
            (item.name.to_string(), place(&item.origin), estate.interface_owner(id))
        }
        Spot::Subnet(id) => {
            let item = &estate.subnets[id];
            (format!("subnet {}", item.name), place(&item.origin), estate.subnet_owner(id))
        }
        Spot::Network(id) => {
            let item = &estate.networks[id];
            (format!("network {}", item.name), place(&item.origin), item.owner)
        }
        Spot::Gateway(id) => {
            let item = &estate.gateways[id];
            (gateway_text(estate, id), place(&item.origin), item.owner.or_else(|| network(item.network)))
        }
        Spot::Peering(id, to) => {
            let item = &estate.peerings[id];
            let to_text = to.map_or_else(String::new, |to| format!(", to {}", estate.networks[to].name));
            (format!("peering {}{to_text}", item.name), place(&item.origin), to.and_then(network))
        }
        Spot::Firewall(id) => {
            let item = &estate.firewalls[id];
            (format!("firewall {}", item.name), place(&item.origin), item.owner)
        }
        Spot::Balancer(id) => {
            let item = &estate.balancers[id];
            (format!("balancer {}", item.name), place(&item.origin), item.owner.or_else(|| network(item.network)))
        }
        Spot::Service(id) => {
            let item = &estate.services[id];
            (format!("service {}", item.name), place(&item.origin), item.owner)
        }
        Spot::Hub(id, link) => {
            let item = &estate.hubs[id];
            let at = link.and_then(|link| item.links.get(link));
            let text = at.map_or_else(String::new, |link| format!(", link {}", link.name));
            (format!("hub {}{text}", item.name), place(at.map_or(&item.origin, |link| &link.origin)), item.owner)
        }
        Spot::Site(id) => {
            let item = &estate.sites[id];
            (format!("site {}", item.name), place(&item.origin), item.owner)
        }
        Spot::Internet => ("the internet".to_owned(), None, None),
    }
}

/// What decided at a stage: in words, where it stands, and who changes it.
fn by_text(view: &View<'_>, by: By) -> (String, Option<Place>, Option<Id<Owner>>) {
    let estate = view.estate;
    match by {
        By::Rule(id) => {
            let owner = estate.filters[id.filter].owner;
            let text = format!("rule {}: {}", estate.rule_name(id), rule_says(estate, id));
            (text, Some(estate.sources.place(&estate.rule(id).origin)), owner)
        }
        By::Default(id) => {
            let filter = &estate.filters[id];
            ("no rule fits, its default".to_owned(), Some(estate.sources.place(&filter.origin)), filter.owner)
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
        let ports =
            change.source_ports.as_ref().map_or_else(String::new, |ports| format!(", a port of {}", ports_text(ports)));
        parts.push(format!("source {source}{ports}"));
    }
    match (change.destination, change.port) {
        (Some(to), Some(port)) => parts.push(format!("destination {}", std::net::SocketAddr::new(to, port))),
        (Some(to), None) => parts.push(format!("destination {to}")),
        (None, Some(port)) => parts.push(format!("port {port}")),
        (None, None) => {}
    }
    parts.join(", ")
}

/// Why a walk ended, in words.
fn why_text(view: &View<'_>, why: Why) -> (String, Option<Place>) {
    let estate = view.estate;
    let by_route = |winner: &Winner| winner.origin.map(|origin| estate.sources.place(&origin));
    let text = match why {
        Why::NoRoute => "no route",
        Why::Blackhole(winner) => return ("a blackhole route takes it".to_owned(), by_route(&winner)),
        Why::DeadHop(winner) => {
            return ("the next hop does not exist, is down or is not attached".to_owned(), by_route(&winner));
        }
        Why::NobodyHolds => "nobody holds the address",
        Why::MayNotForward => "it may not pass on packets that are not its own",
        Why::Loop => "a loop: here for the second time",
        Why::ForwardedNotAccepted => "that side does not accept packets from elsewhere (`accept_forwarded`)",
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
        Why::NotTranslated => "sent to itself, and no translation fits",
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
        Why::Lacking => "not in the snapshot",
        Why::NobodyKnown => "nobody is known to hold the address, and the snapshot lacks some who may",
        Why::OpenRoute(winner) => return ("another route may win".to_owned(), by_route(&winner)),
        Why::OwnServices => "the snapshot does not say which services it has itself (`own_services`)",
        Why::NoTranslatedSource => "the translation gives no source of this family",
    };
    (text.to_owned(), None)
}

/// A step in words.
pub fn step_fact(view: &View<'_>, step: &Step) -> StepFact {
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
        What::Stage { direction, stage, judgement } => {
            let name = match judgement.by {
                By::Rule(id) => filter_text(estate, id.filter),
                By::Default(id) => filter_text(estate, id),
                _ => {
                    let Spot::Interface(id) = step.at else { return fact };
                    stage_name(view, id, *stage)
                }
            };
            fact.at = format!("{}: {name}, {}", fact.at, direction.word());
            judged(&mut fact, judgement.outcome, judgement.by);
        }
        What::Known(direction) => {
            fact.at = format!("{}, {}", fact.at, direction.word());
            fact.why = if step.reply { "a reply, known".to_owned() } else { "no filter".to_owned() };
        }
        What::Acl(direction, judgement) => {
            let Spot::Subnet(subnet) = step.at else { return fact };
            let acl = estate.subnets[subnet].acl.as_ref();
            let name = acl.map_or_else(String::new, |acl| crate::describe::filter_name(estate, acl));
            if let Some(found) = acl.and_then(crate::model::Reference::found) {
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
                    domain.map_or(fact.at, |domain| format!("hub {}, domain {}", item.name, domain.name))
                }
                _ => fact.at,
            };
            fact.why = format!("to {}", hop_text(view, winner.hop));
            fact.place = winner.origin.map(|origin| estate.sources.place(&origin));
        }
        What::InternetBlock => {
            fact.does = StepDoes::Denies;
            fact.why = "the network or subnet may not talk to the internet like this (`internet_traffic`)".to_owned();
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
        What::Policy { allows, rejects, by } => {
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
            fact.does = if *inside { StepDoes::Passes } else { StepDoes::Denies };
            fact.at = format!("{}, public door", fact.at);
            fact.why = if *inside { "open to this source" } else { "its list does not hold the source" }.to_owned();
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
            fact.does = if *why == Why::Lacking { StepDoes::Unknown } else { StepDoes::Loses };
            if let (Why::NoRoute, Spot::Subnet(subnet)) = (why, step.at) {
                fact.at = subnet_table(view, subnet);
                if let Some(crate::model::Reference::Found(table)) = crate::route::table_of(view, subnet) {
                    let table = &estate.route_tables[*table];
                    fact.place = Some(estate.sources.place(&table.origin));
                    fact.owner = owner_text(estate, table.owner).or(fact.owner);
                }
            }
            let (why, place) = why_text(view, *why);
            fact.why = why;
            fact.place = place.or(fact.place);
        }
    }
    fact
}

/// The filters of a stage of an interface, in words.
fn stage_name(view: &View<'_>, interface: Id<Interface>, stage: crate::stage::StageKind) -> String {
    use crate::stage::StageKind;
    let estate = view.estate;
    let item = &estate.interfaces[interface];
    let groups = |all: &[crate::model::Reference<crate::model::Filter>]| {
        all.iter().map(|group| crate::describe::filter_name(estate, group)).collect::<Vec<_>>().join(" + ")
    };
    let named = match stage {
        StageKind::InterfaceGroups | StageKind::PooledGroups => groups(&item.groups),
        StageKind::SubnetGroups => groups(&estate.subnets[item.subnet].groups),
        _ => String::new(),
    };
    if named.is_empty() { stage.word().to_owned() } else { format!("group {named}") }
}

/// What a link leads to, in words.
pub(super) fn link_text(estate: &Estate, to: &LinkEnd) -> String {
    use crate::describe::name_of;
    match to {
        LinkEnd::Network(network) => format!("network {}", name_of(&estate.networks, network)),
        LinkEnd::Site(site) => format!("site {}", name_of(&estate.sites, site)),
        LinkEnd::Hub(hub) => format!("hub {}", name_of(&estate.hubs, hub)),
        LinkEnd::Firewall(firewall) => format!("firewall {}", name_of(&estate.firewalls, firewall)),
    }
}
