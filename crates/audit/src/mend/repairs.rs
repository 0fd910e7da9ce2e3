//! What could mend one obstacle: candidates of the closed list, the likeliest first. Whether one does is found by trying it.

use super::edit::{Edit, EditKind, add_rule, block, firewall_rule_for, rule_for, services_of};
use super::routes::{reroutes, routes_at};
use crate::describe::rule_line;
use heronshale_engine::fabric::Fabric;
use heronshale_engine::judgement::{By, StageKind};
use heronshale_engine::route::{Winner, written_route};
use heronshale_engine::stage::policies_at;
use heronshale_engine::walk::{Spot, Step, What, Why};
use heronshale_model::estate::{
    BackEnd, Direction, DnsZone, Estate, Filter, FilterKind, Firewall, FirewallMatch, FrontEnd,
    GatewayKind, Id, Interface, InternetTraffic, Link, Network, Peer, Peering, PeeringSide,
    PolicySees, PublicAddress, Reference, RuleId, Translation,
};
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::packet::PacketSet;
use std::net::{IpAddr, Ipv4Addr};

/// Where a walk ended, with what it needs to be mended.
#[derive(Clone, Debug)]
pub(super) struct Failure {
    /// Every step; the last one is the obstacle.
    pub steps: Vec<Step>,
    /// The packets as they were there, before the change that a device would have made: of a reply, the reply's.
    pub packets: PacketSet,
    /// The packets as they were asked about.
    pub asked: PacketSet,
    /// The request's packets as they were on the leg.
    pub request: PacketSet,
    /// The request's packets before the last change of their header, if there was one.
    before: PacketSet,
    /// What would lead the name that was asked elsewhere.
    pub by_name: Vec<Edit>,
}

impl Failure {
    /// Of packets that went through these steps.
    pub fn new(asked: &PacketSet, steps: Vec<Step>) -> Self {
        let mut headers = vec![asked.clone()];
        for step in &steps {
            if let What::Changed(change, _) = &step.what {
                if !step.reply {
                    headers.push(headers[headers.len() - 1].rewritten(change));
                } else if headers.len() > 1 {
                    headers.pop();
                }
            }
        }
        let request = headers.pop().unwrap_or_default();
        let before = headers.pop().unwrap_or_else(|| request.clone());
        let replies = steps.last().is_some_and(|step| step.reply);
        let packets = if replies {
            request.replies()
        } else {
            request.clone()
        };
        Self {
            steps,
            packets,
            asked: asked.clone(),
            request,
            before,
            by_name: Vec::new(),
        }
    }

    fn last(&self) -> Option<&Step> {
        self.steps.last()
    }
}

/// What could mend it.
pub(super) fn candidates(view: &Fabric<'_>, failure: &Failure) -> Vec<Edit> {
    let Some(step) = failure.last() else {
        return Vec::new();
    };
    match (&step.what, step.at) {
        (
            What::Stage {
                direction,
                stage,
                judgement,
            },
            Spot::Interface(interface),
        ) => {
            let mut edits = at_stage(view, failure, interface, *direction, *stage, judgement.by);
            if step.reply {
                edits.extend(kept_states(view, failure, Spot::Interface(interface)));
            }
            edits
        }
        (What::Acl(direction, judgement), Spot::Subnet(subnet)) => {
            let acl = view.estate.subnets[subnet]
                .acl
                .as_ref()
                .and_then(Reference::found);
            acl.map_or_else(Vec::new, |acl| {
                in_filter(view, failure, acl, *direction, judgement.by)
            })
        }
        (What::Policy { by, .. }, Spot::Firewall(firewall)) => {
            at_policy(view, failure, firewall, *by)
        }
        (What::InternetBlock(..), _) => internet_blocks(view, failure),
        (What::DoorShut, Spot::Service(id)) => {
            let service = &view.estate.services[id];
            let text = format!("open the public door of service {}", service.name);
            vec![Edit::new(
                EditKind::Door,
                text,
                Some(service.origin),
                service.owner,
                move |estate| {
                    if let Some(door) = &mut estate.services.get_mut(id).public_door {
                        door.open = true;
                    }
                },
            )]
        }
        (What::DoorList(_), Spot::Service(id)) => {
            let service = &view.estate.services[id];
            let sources = failure.packets.sources();
            let text = format!(
                "add {} to the list at the public door of service {}",
                sources.texts().join(", "),
                service.name
            );
            vec![Edit::new(
                EditKind::Door,
                text,
                Some(service.origin),
                service.owner,
                move |estate| {
                    let door = estate.services.get_mut(id).public_door.as_mut();
                    if let Some(allowed) = door.and_then(|door| door.allowed.as_mut()) {
                        allowed.extend(sources.ranges().map(|range| Peer::Block(block(range))));
                    }
                },
            )]
        }
        (What::Ended(why), spot) => where_lost(view, failure, *why, spot),
        _ => Vec::new(),
    }
}

/// A priority that goes before the rule that decides; none if nothing goes before it.
fn priority_before(estate: &Estate, by: By) -> Result<Option<u32>, ()> {
    let By::Rule(id) = by else { return Ok(None) };
    match estate.rule(id).priority {
        Some(0) => Err(()),
        Some(priority) => Ok(Some(priority - 1)),
        None => {
            let rules = estate.filters[id.filter].rules(id.direction);
            Ok(Some(
                rules
                    .iter()
                    .filter_map(|rule| rule.priority)
                    .max()
                    .map_or(1, |most| most.saturating_add(1)),
            ))
        }
    }
}

/// A rule more in a filter, or the deciding rule switched off.
fn in_filter(
    view: &Fabric<'_>,
    failure: &Failure,
    filter: Id<Filter>,
    direction: Direction,
    by: By,
) -> Vec<Edit> {
    let estate = view.estate;
    let item = &estate.filters[filter];
    let mut edits = Vec::new();
    if let Ok(priority) = priority_before(estate, by) {
        let rule = rule_for(view, &failure.packets, direction, item.origin, priority);
        let says = rule_line(estate, &rule, direction);
        let first = priority.map_or_else(String::new, |priority| format!(", priority {priority}"));
        let text = format!(
            "add to {} {}, {}: allow {says}{first}",
            item.kind_word(),
            item.name,
            direction.word()
        );
        edits.push(Edit::new(
            EditKind::Rule,
            text,
            Some(item.origin),
            item.owner,
            add_rule(filter, direction, rule),
        ));
    }
    if let By::Rule(id) = by {
        edits.extend(switched_off(estate, id));
    }
    edits
}

fn switched_off(estate: &Estate, id: RuleId) -> Option<Edit> {
    let rule = estate.rule(id);
    let filter = &estate.filters[id.filter];
    let text = format!(
        "switch off rule {} of {} {}",
        estate.rule_name(id),
        filter.kind_word(),
        filter.name
    );
    rule.enabled.then(|| {
        Edit::new(
            EditKind::Flag,
            text,
            Some(rule.origin),
            filter.owner,
            move |estate| {
                rule_mut(estate, id).enabled = false;
            },
        )
    })
}

fn rule_mut(estate: &mut Estate, id: RuleId) -> &mut heronshale_model::estate::Rule {
    let at = usize::from(id.direction == Direction::Out);
    &mut estate.filters.get_mut(id.filter).rules[at][id.index as usize]
}

fn at_stage(
    view: &Fabric<'_>,
    failure: &Failure,
    interface: Id<Interface>,
    direction: Direction,
    stage: StageKind,
    by: By,
) -> Vec<Edit> {
    let decider = match by {
        By::Rule(id) => Some(id.filter),
        By::Default(id) => Some(id),
        _ => None,
    };
    let mut filters: Vec<Id<Filter>> = decider.into_iter().collect();
    // Where none decides, any that is bound there can say so; of policies the innermost.
    if decider.is_none() {
        let item = &view.estate.interfaces[interface];
        let found =
            |all: &[Reference<Filter>]| all.iter().filter_map(Reference::found).collect::<Vec<_>>();
        let subnet = &view.estate.subnets[item.subnet];
        filters.extend(match stage {
            StageKind::InterfaceGroups => found(&item.groups),
            StageKind::SubnetGroups => found(&subnet.groups),
            StageKind::PooledGroups => [found(&item.groups), found(&subnet.groups)].concat(),
            StageKind::ScopePolicies => policies_at(view, interface)
                .last()
                .copied()
                .into_iter()
                .collect(),
            StageKind::OwnFirewall | StageKind::NetworkAcl => Vec::new(),
        });
    }
    let mut edits: Vec<Edit> = filters
        .iter()
        .flat_map(|filter| in_filter(view, failure, *filter, direction, by))
        .collect();
    if stage == StageKind::InterfaceGroups {
        edits.extend(bound_groups(view, failure, interface, direction));
    }
    if by == By::ImpliedPair && edits.is_empty() {
        let network = view.estate.network_of(interface);
        let item = &view.estate.networks[network];
        let text = format!("switch off the implied pair of network {}", item.name);
        edits.push(Edit::new(
            EditKind::Flag,
            text,
            Some(item.origin),
            item.owner,
            move |estate| {
                estate.networks.get_mut(network).settings.implied_pair = false;
            },
        ));
    }
    edits
}

/// Groups that let these packets pass, bound to the interface beside what it has.
fn bound_groups(
    view: &Fabric<'_>,
    failure: &Failure,
    interface: Id<Interface>,
    direction: Direction,
) -> Vec<Edit> {
    const MOST: usize = 3;
    let estate = view.estate;
    let item = &estate.interfaces[interface];
    let bound: Vec<Id<Filter>> = item.groups.iter().filter_map(Reference::found).collect();
    let union = bound
        .first()
        .is_none_or(|first| estate.filters[*first].is_union());
    let is_group = |filter: &Filter| filter.kind_word() == "group" && filter.is_union() == union;
    let others = estate
        .filters
        .iter()
        .filter(|(id, filter)| is_group(filter) && !bound.contains(id));
    let lets_on = |id: Id<Filter>| {
        let network = Some(estate.network_of(interface));
        let rules = heronshale_engine::stage::in_order(
            view,
            &[id],
            direction,
            view.settings(network).equal_priority,
        );
        let admits = rules.iter().filter(|id| estate.rule(**id).action.admits());
        let sure = admits.map(|id| heronshale_engine::stage::rule_match(view, *id, network).sure);
        failure.packets.is_subset(&PacketSet::union_all(sure))
    };
    let found = others.filter(|(id, _)| lets_on(*id)).take(MOST);
    found
        .map(|(id, filter)| {
            let text = format!("bind group {} to interface {}", filter.name, item.name);
            let owner = estate.interface_owner(interface);
            Edit::new(
                EditKind::Binding,
                text,
                Some(item.origin),
                owner,
                move |estate| {
                    estate
                        .interfaces
                        .get_mut(interface)
                        .groups
                        .push(Reference::Found(id));
                },
            )
        })
        .collect()
}

/// Balancers in front of firewalls that may send a reply to another of them, made to remember.
fn symmetric_balancers(view: &Fabric<'_>, failure: &Failure) -> Vec<Edit> {
    let estate = view.estate;
    let mut edits = Vec::new();
    for step in &failure.steps {
        let What::Routed(Winner {
            hop: heronshale_engine::route::Hop::Balancer(id),
            ..
        }) = step.what
        else {
            continue;
        };
        let item = &estate.balancers[id];
        if item.symmetric {
            continue;
        }
        let text = format!(
            "let balancer {} send a reply to the back end that saw the request (`symmetric`)",
            item.name
        );
        let owner = item.owner.or(estate.networks[item.network].owner);
        edits.push(Edit::new(
            EditKind::Flag,
            text,
            Some(item.origin),
            owner,
            move |estate| {
                estate.balancers.get_mut(id).symmetric = true;
            },
        ));
    }
    edits.dedup_by(|a, b| a.text == b.text);
    edits
}

/// Links of a hub on the way, steered through the firewall that saw only one direction.
fn steered_links(view: &Fabric<'_>, failure: &Failure, spot: Spot) -> Vec<Edit> {
    let Spot::Firewall(firewall) = spot else {
        return Vec::new();
    };
    let estate = view.estate;
    let public = failure.packets.destinations().overlaps(view.internet())
        || failure.packets.sources().overlaps(view.internet());
    let mut edits: Vec<Edit> = Vec::new();
    for step in &failure.steps {
        let (id, at) = match (&step.what, step.at) {
            (
                What::Routed(Winner {
                    hop: heronshale_engine::route::Hop::Hub(id, at),
                    ..
                }),
                _,
            ) => (*id, *at),
            (_, Spot::Hub(id, Some(at))) => (id, at),
            _ => continue,
        };
        let hub = &estate.hubs[id];
        let link = &hub.links[at];
        let steered = if public {
            &link.steer_internet
        } else {
            &link.steer_private
        };
        if steered.is_some()
            || !matches!(
                link.to,
                heronshale_model::estate::LinkEnd::Network(_)
                    | heronshale_model::estate::LinkEnd::Site(_)
            )
        {
            continue;
        }
        let (what, name) = (
            if public { "internet" } else { "private" },
            &estate.firewalls[firewall].name,
        );
        let text = format!(
            "steer {what} traffic of link {} of hub {} through firewall {name} too",
            link.name, hub.name
        );
        if edits.iter().any(|known| known.text == text) {
            continue;
        }
        edits.push(Edit::new(
            EditKind::Flag,
            text,
            Some(link.origin),
            hub.owner,
            move |estate| {
                let link = &mut estate.hubs.get_mut(id).links[at];
                let steered = if public {
                    &mut link.steer_internet
                } else {
                    &mut link.steer_private
                };
                *steered = Some(Reference::Found(firewall));
            },
        ));
    }
    edits
}

/// Rules that let the request pass without keeping state, made to keep it.
fn kept_states(view: &Fabric<'_>, failure: &Failure, at: Spot) -> Vec<Edit> {
    let estate = view.estate;
    let mut edits = Vec::new();
    for step in failure
        .steps
        .iter()
        .filter(|step| !step.reply && step.at == at)
    {
        let What::Stage { judgement, .. } = &step.what else {
            continue;
        };
        let By::Rule(id) = judgement.by else { continue };
        if !estate.rule(id).stateless {
            continue;
        }
        let filter = &estate.filters[id.filter];
        let text = format!(
            "let rule {} of {} {} keep state",
            estate.rule_name(id),
            filter.kind_word(),
            filter.name
        );
        edits.push(Edit::new(
            EditKind::Flag,
            text,
            Some(estate.rule(id).origin),
            filter.owner,
            move |estate| {
                rule_mut(estate, id).stateless = false;
            },
        ));
    }
    edits
}

fn at_policy(view: &Fabric<'_>, failure: &Failure, firewall: Id<Firewall>, by: By) -> Vec<Edit> {
    let estate = view.estate;
    let filter = match by {
        By::Rule(id) => Some(id.filter),
        By::Default(id) => Some(id),
        _ => estate.firewalls[firewall]
            .policy
            .as_ref()
            .and_then(Reference::found),
    };
    let Some(filter) = filter else {
        return Vec::new();
    };
    let item = &estate.filters[filter];
    let section = match by {
        By::Rule(id) => estate
            .rule(id)
            .firewall
            .as_ref()
            .and_then(|more| more.section),
        _ => None,
    };
    let mut edits = Vec::new();
    // A policy that sees what was asked is told so, not what a translation made of it.
    let leg = estate.firewalls[firewall]
        .legs
        .first()
        .map(|leg| estate.network_of(leg.interface));
    let sees = estate.firewalls[firewall]
        .policy_sees
        .unwrap_or(view.settings(leg).policy_sees);
    let at = failure
        .steps
        .iter()
        .rev()
        .nth(1)
        .filter(|step| step.at == Spot::Firewall(firewall) && !step.reply);
    let translated = at.is_some_and(|step| matches!(step.what, What::Changed(..)));
    let packets = if translated && sees == PolicySees::Original {
        &failure.before
    } else {
        &failure.packets
    };
    if let Ok(priority) = priority_before(estate, by) {
        let mut rule = firewall_rule_for(view, packets, item.origin, priority);
        rule.firewall = Some(Box::new(FirewallMatch {
            section,
            ..FirewallMatch::default()
        }));
        let within = match (&item.kind, section) {
            (FilterKind::FirewallPolicy { sections, .. }, Some(at)) => sections
                .get(at as usize)
                .map_or_else(String::new, |section| format!(", section {}", section.name)),
            _ => String::new(),
        };
        let first = priority.map_or_else(String::new, |priority| format!(", priority {priority}"));
        let says = rule_line(estate, &rule, Direction::In);
        let text = format!(
            "add to {} {}{within}: allow {says}{first}",
            item.kind_word(),
            item.name
        );
        edits.push(Edit::new(
            EditKind::Rule,
            text,
            Some(item.origin),
            item.owner,
            add_rule(filter, Direction::In, rule),
        ));
    }
    if let By::Rule(id) = by {
        edits.extend(switched_off(estate, id));
    }
    edits
}

/// Networks and subnets on the way that may not talk to the internet.
fn internet_blocks(view: &Fabric<'_>, failure: &Failure) -> Vec<Edit> {
    let estate = view.estate;
    let mut edits = Vec::new();
    let near = |blocks: &Addresses| {
        blocks.overlaps(&failure.request.sources())
            || blocks.overlaps(&failure.request.destinations())
    };
    let mapped = |subnet: Id<heronshale_model::estate::Subnet>| {
        estate.public_addresses.items().iter().any(|public| {
            failure.request.destinations().contains(public.address)
                && public
                    .interface
                    .is_some_and(|interface| estate.interfaces[interface].subnet == subnet)
        })
    };
    for (id, item) in estate.subnets.iter() {
        let closed = |traffic: InternetTraffic| traffic != InternetTraffic::BothWays;
        if !near(&item.blocks) && !mapped(id) {
            continue;
        }
        if closed(item.internet_traffic) {
            let text = format!(
                "let subnet {} talk to the internet (`internet_traffic`)",
                item.name
            );
            edits.push(Edit::new(
                EditKind::Flag,
                text,
                Some(item.origin),
                estate.subnet_owner(id),
                move |estate| {
                    estate.subnets.get_mut(id).internet_traffic = InternetTraffic::BothWays;
                },
            ));
        }
        let network = item.network;
        let item = &estate.networks[network];
        if closed(item.internet_traffic) {
            let text = format!(
                "let network {} talk to the internet (`internet_traffic`)",
                item.name
            );
            edits.push(Edit::new(
                EditKind::Flag,
                text,
                Some(item.origin),
                item.owner,
                move |estate| {
                    estate.networks.get_mut(network).internet_traffic = InternetTraffic::BothWays;
                },
            ));
        }
    }
    edits
}

fn where_lost(view: &Fabric<'_>, failure: &Failure, why: Why, spot: Spot) -> Vec<Edit> {
    let estate = view.estate;
    match why {
        Why::NoRoute | Why::NoFirewallRoute => {
            let mut edits = peerings_up(view, failure, spot);
            edits.extend(routes_at(view, failure, spot, false));
            edits
        }
        Why::Blackhole(winner) => {
            let mut edits = routes_at(view, failure, spot, true);
            edits.extend(route_off(estate, winner));
            edits
        }
        Why::DeadHop(winner) => {
            let mut edits = raised(view, winner);
            edits.extend(routes_at(view, failure, spot, true));
            edits.extend(route_off(estate, winner));
            edits
        }
        Why::MayNotForward => {
            let Spot::Interface(id) = spot else {
                return Vec::new();
            };
            let item = &estate.interfaces[id];
            let text = format!(
                "let interface {} pass on packets that are not its own (`forwards`)",
                item.name
            );
            vec![Edit::new(
                EditKind::Flag,
                text,
                Some(item.origin),
                estate.interface_owner(id),
                move |estate| {
                    estate.interfaces.get_mut(id).forwards = true;
                },
            )]
        }
        Why::ForwardedNotAccepted => {
            let Spot::Peering(id, Some(to)) = spot else {
                return Vec::new();
            };
            let (item, network) = (&estate.peerings[id], &estate.networks[to]);
            let text = format!(
                "let network {} accept forwarded packets over peering {}",
                network.name, item.name
            );
            let mut edits = vec![Edit::new(
                EditKind::Flag,
                text,
                Some(item.origin),
                network.owner,
                move |estate| {
                    side_of(estate, id, to, |side| side.accept_forwarded = true);
                },
            )];
            edits.extend(reroutes(view, failure));
            edits
        }
        Why::NotMapped => {
            let mut edits = given_addresses(view, &holders_of(view, &failure.packets.sources()));
            edits.extend(source_translations(view, failure));
            edits.extend(reroutes(view, failure));
            edits
        }
        Why::NobodyHolds => {
            given_addresses(view, &holders_of(view, &failure.packets.destinations()))
        }
        Why::NotOnInternet => {
            let mut edits =
                given_addresses(view, &holders_of(view, &failure.packets.destinations()));
            edits.extend(reroutes(view, failure));
            edits
        }
        Why::NoGateway => attached_gateways(view, spot),
        Why::NoMember => {
            let Spot::Firewall(id) = spot else {
                return Vec::new();
            };
            members_up(view, id)
        }
        Why::OtherMember => {
            let Spot::Firewall(id) = spot else {
                return Vec::new();
            };
            let item = &estate.firewalls[id];
            let text = format!(
                "let replies come back to the same member of firewall {} (`symmetric`)",
                item.name
            );
            let mut edits = vec![Edit::new(
                EditKind::Flag,
                text,
                Some(item.origin),
                item.owner,
                move |estate| {
                    estate.firewalls.get_mut(id).symmetric = true;
                },
            )];
            edits.extend(symmetric_balancers(view, failure));
            edits.extend(source_translations(view, failure));
            edits
        }
        Why::NoFrontEnd => front_ends(view, failure, spot),
        Why::NoBackEnd => {
            let Spot::Balancer(id) = spot else {
                return Vec::new();
            };
            let item = &estate.balancers[id];
            let name = |back: &BackEnd| match (back.interface, back.address) {
                (Some(interface), _) => estate.interfaces[interface].name.to_string(),
                (None, Some(address)) => address.to_string(),
                (None, None) => "without an address".to_owned(),
            };
            item.back_ends
                .iter()
                .enumerate()
                .map(|(at, back)| {
                    let text = format!(
                        "balancer {}: back end {} has to be healthy",
                        item.name,
                        name(back)
                    );
                    Edit::new(
                        EditKind::Up,
                        text,
                        Some(back.origin),
                        item.owner,
                        move |estate| {
                            estate.balancers.get_mut(id).back_ends[at].healthy = true;
                        },
                    )
                })
                .collect()
        }
        Why::NoDomain => {
            let Spot::Hub(id, Some(at)) = spot else {
                return Vec::new();
            };
            let item = &estate.hubs[id];
            let reads = |(domain, name): (usize, &heronshale_model::estate::Domain)| {
                let text = format!(
                    "let link {} of hub {} read domain {}",
                    item.links[at].name, item.name, name.name
                );
                Edit::new(
                    EditKind::Flag,
                    text,
                    Some(item.links[at].origin),
                    item.owner,
                    move |estate| {
                        estate.hubs.get_mut(id).links[at].reads = Some(domain);
                    },
                )
            };
            item.domains.iter().enumerate().map(reads).collect()
        }
        Why::SiteKnowsNoWay => {
            let Spot::Site(id) = spot else {
                return Vec::new();
            };
            let item = &estate.sites[id];
            let to = failure.packets.destinations();
            let text = format!(
                "let site {} know a way to {} (`knows`)",
                item.name,
                to.texts().join(", ")
            );
            item.knows.as_ref().map_or_else(Vec::new, |_| {
                vec![Edit::new(
                    EditKind::Route,
                    text,
                    Some(item.origin),
                    item.owner,
                    move |estate| {
                        let site = estate.sites.get_mut(id);
                        site.knows = site.knows.as_ref().map(|known| known.union(&to));
                    },
                )]
            })
        }
        Why::Bypassed | Why::SawNoRequest => {
            let mut edits = symmetric_balancers(view, failure);
            edits.extend(steered_links(view, failure, spot));
            edits.extend(reroutes(view, failure));
            edits
        }
        Why::Loop
        | Why::NotAsked
        | Why::NothingIn
        | Why::NotTaken
        | Why::NotTransitive
        | Why::BackByLink
        | Why::NotAtSite => reroutes(view, failure),
        Why::NotTranslated
        | Why::NoBackEndAddress
        | Why::NoSuchPort
        | Why::OneWayDoor
        | Why::TooManySteps
        | Why::Lacking
        | Why::NobodyKnown
        | Why::OpenRoute(_)
        | Why::OwnServices
        | Why::NoTranslatedSource => Vec::new(),
    }
}

fn side_of(
    estate: &mut Estate,
    peering: Id<Peering>,
    network: Id<Network>,
    change: impl Fn(&mut PeeringSide),
) {
    let sides = &mut estate.peerings.get_mut(peering).sides;
    sides
        .iter_mut()
        .filter(|side| side.network.found() == Some(network))
        .for_each(change);
}

/// The interfaces that hold some of these addresses, if they are few.
fn holders_of(view: &Fabric<'_>, addresses: &Addresses) -> Vec<Id<Interface>> {
    let holds =
        |(id, item): (Id<Interface>, &Interface)| item.addresses.overlaps(addresses).then_some(id);
    let found: Vec<_> = view.estate.interfaces.iter().filter_map(holds).collect();
    if found.len() > 3 { Vec::new() } else { found }
}

/// A public address for each of these: one that nobody holds, else a new one.
fn given_addresses(view: &Fabric<'_>, interfaces: &[Id<Interface>]) -> Vec<Edit> {
    let estate = view.estate;
    let public = &estate.public_addresses;
    let taken = |address: IpAddr| public.find(&address.to_string()).is_some();
    // Of the block that RFC 5737 keeps for examples: which one it will be is the platform's choice.
    let new = (1..=254)
        .rev()
        .map(|last| IpAddr::V4(Ipv4Addr::new(203, 0, 113, last)))
        .find(|one| !taken(*one));
    let mut edits = Vec::new();
    for id in interfaces {
        let item = &estate.interfaces[*id];
        let Some(own) = item.primary(Family::V4) else {
            continue;
        };
        if public
            .items()
            .iter()
            .any(|public| public.interface == Some(*id))
        {
            continue;
        }
        let (id, name) = (*id, item.name.clone());
        let spare = public
            .iter()
            .find(|(_, public)| public.interface.is_none() && public.address.is_ipv4());
        let edit = |text: String, origin, apply: Box<dyn Fn(&mut Estate)>| {
            Edit::new(
                EditKind::PublicAddress,
                text,
                Some(origin),
                estate.interface_owner(id),
                apply,
            )
        };
        if let Some((spare, public)) = spare {
            let text = format!(
                "give interface {name} the public address {}, which nobody holds",
                public.address
            );
            let apply = move |estate: &mut Estate| {
                let public = estate.public_addresses.get_mut(spare);
                (public.interface, public.private) = (Some(id), Some(own));
            };
            edits.push(edit(text, public.origin, Box::new(apply)));
        } else if let Some(new) = new {
            let origin = item.origin;
            let apply = move |estate: &mut Estate| {
                let (name, private) = (new.to_string().into(), Some(own));
                let public = PublicAddress {
                    name,
                    origin,
                    address: new,
                    interface: Some(id),
                    private,
                    owner: None,
                };
                // Its name was free.
                let _ = estate.public_addresses.add(public);
            };
            edits.push(edit(
                format!("give interface {name} a public address"),
                origin,
                Box::new(apply),
            ));
        }
    }
    edits
}

/// Source translations at the firewalls that the request passed.
fn source_translations(view: &Fabric<'_>, failure: &Failure) -> Vec<Edit> {
    let estate = view.estate;
    let mut edits = Vec::new();
    let mut seen: Vec<Id<Firewall>> = Vec::new();
    for step in failure.steps.iter().filter(|step| !step.reply) {
        let Spot::Firewall(id) = step.at else {
            continue;
        };
        if seen.contains(&id) {
            continue;
        }
        seen.push(id);
        let item = &estate.firewalls[id];
        let sources = failure.request.sources();
        let to = item
            .legs
            .is_empty()
            .then(|| item.addresses.ranges().next())
            .flatten();
        let to = to.map(|range| heronshale_sets::address::address_of(range.family, range.first));
        let texts = sources.texts().join(", ");
        let text = format!("translate the source of {texts} at firewall {}", item.name);
        let translation = Translation {
            id: None,
            origin: item.origin,
            from_zones: None,
            to_zones: None,
            sources: Some(
                sources
                    .ranges()
                    .map(|range| Peer::Block(block(range)))
                    .collect(),
            ),
            destinations: Some(
                failure
                    .request
                    .destinations()
                    .ranges()
                    .map(|range| Peer::Block(block(range)))
                    .collect(),
            ),
            services: Vec::new(),
            to,
            port: None,
            enabled: true,
        };
        edits.push(Edit::new(
            EditKind::Translation,
            text,
            Some(item.origin),
            item.owner,
            move |estate| {
                estate
                    .firewalls
                    .get_mut(id)
                    .source_translations
                    .insert(0, translation.clone());
            },
        ));
    }
    edits
}

fn attached_gateways(view: &Fabric<'_>, spot: Spot) -> Vec<Edit> {
    let estate = view.estate;
    let network = match spot {
        Spot::Network(network) => network,
        Spot::Gateway(gateway) => estate.gateways[gateway].network,
        _ => return Vec::new(),
    };
    let here = estate
        .gateways
        .iter()
        .filter(|(_, gateway)| gateway.network == network);
    here.filter(|(_, gateway)| {
        matches!(
            gateway.kind,
            GatewayKind::Internet {
                attached: false,
                ..
            }
        )
    })
    .map(|(id, gateway)| {
        let text = format!("attach internet gateway {} to its network", gateway.name);
        let owner = gateway.owner.or(estate.networks[network].owner);
        Edit::new(
            EditKind::Up,
            text,
            Some(gateway.origin),
            owner,
            move |estate| raise_gateway(estate, id),
        )
    })
    .collect()
}

fn raise_gateway(estate: &mut Estate, id: Id<heronshale_model::estate::Gateway>) {
    match &mut estate.gateways.get_mut(id).kind {
        GatewayKind::Internet { attached, .. } => *attached = true,
        GatewayKind::Site { up, .. } => *up = true,
        GatewayKind::Nat { .. } | GatewayKind::OutboundOnly => {}
    }
}

/// Peerings that are down, from here to a network that has the destination.
fn peerings_up(view: &Fabric<'_>, failure: &Failure, spot: Spot) -> Vec<Edit> {
    let estate = view.estate;
    let network = match spot {
        Spot::Subnet(subnet) => estate.subnets[subnet].network,
        Spot::Network(network) => network,
        _ => return Vec::new(),
    };
    let to = failure.packets.destinations();
    let leads = |peering: &Peering| {
        let other = peering.opposite(network).and_then(Reference::found);
        !peering.is_up() && other.is_some_and(|other| estate.networks[other].blocks.overlaps(&to))
    };
    let down = estate.peerings.iter().filter(|(_, peering)| leads(peering));
    down.map(|(id, _)| peering_up(estate, id, network))
        .collect()
}

fn peering_up(estate: &Estate, id: Id<Peering>, network: Id<Network>) -> Edit {
    let peering = &estate.peerings[id];
    let text = format!("peering {} has to be up on both sides", peering.name);
    Edit::new(
        EditKind::Up,
        text,
        Some(peering.origin),
        estate.networks[network].owner,
        move |estate| {
            for side in &mut estate.peerings.get_mut(id).sides {
                side.up = true;
            }
        },
    )
}

/// Peerings that are down between a network and some others.
fn joined(view: &Fabric<'_>, network: Id<Network>, others: Vec<Id<Network>>) -> Vec<Edit> {
    let estate = view.estate;
    let leads = |peering: &Peering| {
        let other = peering.opposite(network).and_then(Reference::found);
        !peering.is_up() && other.is_some_and(|other| others.contains(&other))
    };
    let down = estate.peerings.iter().filter(|(_, peering)| leads(peering));
    down.map(|(id, _)| peering_up(estate, id, network))
        .collect()
}

/// Members of a firewall that are down.
fn members_up(view: &Fabric<'_>, id: Id<Firewall>) -> Vec<Edit> {
    let item = &view.estate.firewalls[id];
    let up = |(at, member): (usize, &heronshale_model::estate::Member)| {
        let text = format!(
            "firewall {}: member {} has to be up",
            item.name, member.name
        );
        Edit::new(
            EditKind::Up,
            text,
            Some(item.origin),
            item.owner,
            move |estate| {
                estate.firewalls.get_mut(id).members[at].up = true;
            },
        )
    };
    item.members
        .iter()
        .enumerate()
        .filter(|(_, member)| !member.up)
        .map(up)
        .collect()
}

/// What a dead route leads to, up.
fn raised(view: &Fabric<'_>, winner: Winner) -> Vec<Edit> {
    use heronshale_model::estate::NextHop;
    let estate = view.estate;
    let Some((table, at)) = winner
        .origin
        .and_then(|origin| written_route(estate, origin))
    else {
        return Vec::new();
    };
    let network = estate.route_tables[table].network;
    match &estate.route_tables[table].routes[at].next_hop {
        NextHop::Gateway(Reference::Found(id)) => {
            let (id, gateway) = (*id, &estate.gateways[*id]);
            let text = match gateway.kind {
                GatewayKind::Internet { .. } => {
                    format!("attach internet gateway {} to its network", gateway.name)
                }
                _ => format!("gateway {} has to be up", gateway.name),
            };
            let owner = gateway.owner.or(estate.networks[gateway.network].owner);
            vec![Edit::new(
                EditKind::Up,
                text,
                Some(gateway.origin),
                owner,
                move |estate| raise_gateway(estate, id),
            )]
        }
        NextHop::Peering(Reference::Found(id)) => {
            vec![peering_up(estate, *id, network)]
        }
        NextHop::Firewall(Reference::Found(id)) if estate.firewalls[*id].members_up() == 0 => {
            members_up(view, *id)
        }
        NextHop::Firewall(Reference::Found(id)) => {
            let legs = estate.firewalls[*id].legs.iter();
            joined(
                view,
                network,
                legs.map(|leg| estate.network_of(leg.interface)).collect(),
            )
        }
        NextHop::Interface(Reference::Found(id)) => {
            joined(view, network, vec![estate.network_of(*id)])
        }
        NextHop::Balancer(Reference::Found(id)) => {
            joined(view, network, vec![estate.balancers[*id].network])
        }
        NextHop::Address(address) => {
            let holds = estate
                .interfaces
                .iter()
                .filter(|(_, item)| item.addresses.contains(*address));
            joined(
                view,
                network,
                holds.map(|(id, _)| estate.network_of(id)).collect(),
            )
        }
        NextHop::Hub(Reference::Found(id)) => {
            let (id, hub) = (*id, &estate.hubs[*id]);
            let ours = |link: &Link| {
                matches!(&link.to, heronshale_model::estate::LinkEnd::Network(to) if to.found() == Some(network))
                    && !link.up
            };
            hub.links
                .iter()
                .enumerate()
                .filter(|(_, link)| ours(link))
                .map(|(at, link)| {
                    let text = format!("link {} of hub {} has to be up", link.name, hub.name);
                    Edit::new(
                        EditKind::Up,
                        text,
                        Some(link.origin),
                        hub.owner,
                        move |estate| {
                            estate.hubs.get_mut(id).links[at].up = true;
                        },
                    )
                })
                .collect()
        }
        _ => Vec::new(),
    }
}

fn route_off(estate: &Estate, winner: Winner) -> Option<Edit> {
    let (table, at) = written_route(estate, winner.origin?)?;
    let (item, route) = (
        &estate.route_tables[table],
        &estate.route_tables[table].routes[at],
    );
    let name = route
        .id
        .as_ref()
        .map_or_else(|| format!("#{}", at + 1), ToString::to_string);
    let text = format!("switch off route {name} of table {}", item.name);
    let owner = item.owner.or(estate.networks[item.network].owner);
    Some(Edit::new(
        EditKind::Flag,
        text,
        Some(route.origin),
        owner,
        move |estate| {
            estate.route_tables.get_mut(table).routes[at].enabled = false;
        },
    ))
}

/// Front ends at the address for the services that none takes.
fn front_ends(view: &Fabric<'_>, failure: &Failure, spot: Spot) -> Vec<Edit> {
    let Spot::Balancer(id) = spot else {
        return Vec::new();
    };
    let item = &view.estate.balancers[id];
    let wanted = failure.packets.destinations();
    let Some(front) = item
        .front_ends
        .iter()
        .find(|front| wanted.contains(front.address))
    else {
        return Vec::new();
    };
    let services = services_of(&failure.packets);
    let new = FrontEnd {
        services: services.clone(),
        ..front.clone()
    };
    let probe = rule_for(view, &failure.packets, Direction::In, item.origin, None);
    let says = rule_line(
        view.estate,
        &heronshale_model::estate::Rule {
            peers: None,
            ..probe
        },
        Direction::In,
    );
    let says = says.trim_end_matches(" from any");
    let text = format!(
        "add to balancer {} a front end at {} for {says}",
        item.name, front.address
    );
    let owner = item.owner.or(view.estate.networks[item.network].owner);
    vec![Edit::new(
        EditKind::FrontEnd,
        text,
        Some(front.origin),
        owner,
        move |estate| {
            estate.balancers.get_mut(id).front_ends.push(new.clone());
        },
    )]
}

/// What would let a name resolve, or resolve to a private address: a zone linked to the asking network, a record in one that is.
pub(super) fn linked_zones(
    view: &Fabric<'_>,
    network: Option<Id<Network>>,
    name: &str,
) -> Vec<Edit> {
    let estate = view.estate;
    let Some(network) = network else {
        return Vec::new();
    };
    let covers = |apex: &str| name == apex || name.ends_with(&format!(".{apex}"));
    let linked = |zone: &DnsZone| {
        zone.networks
            .iter()
            .any(|other| other.found() == Some(network))
    };
    let has_record =
        |zone: &DnsZone| !heronshale_model::names::best_records(&zone.records, name).is_empty();
    let zones = estate
        .dns_zones
        .iter()
        .filter(|(_, zone)| covers(&zone.apex) && !linked(zone) && has_record(zone));
    let mut edits = zones_linked(view, network, zones);
    // A record of the private door behind the public one, or of what the public record says.
    let public = heronshale_model::names::resolve(view, None, name).addresses;
    let doors = estate.services.items().iter().filter(|service| {
        let door = service.public_door.as_ref();
        door.is_some_and(|door| {
            public
                .iter()
                .any(|address| door.addresses.contains(*address))
        })
    });
    let doors = doors.flat_map(|service| &service.private_doors);
    let private: Vec<IpAddr> = doors
        .filter_map(|door| estate.interfaces[*door].primary(Family::V4))
        .collect();
    let addresses = if private.is_empty() { public } else { private };
    let mut own: Vec<_> = estate
        .dns_zones
        .iter()
        .filter(|(_, zone)| covers(&zone.apex) && linked(zone) && !has_record(zone))
        .collect();
    own.sort_by_key(|(_, zone)| std::cmp::Reverse(zone.apex.len()));
    if let (Some((id, zone)), Some(address)) = (own.first(), addresses.first()) {
        let (id, address, name) = (*id, *address, heronshale_model::estate::Name::from(name));
        let text = format!("add to zone {} a record {name} → {address}", zone.name);
        let origin = zone.origin;
        edits.push(Edit::new(
            EditKind::Zone,
            text,
            Some(origin),
            zone.owner,
            move |estate| {
                let data = heronshale_model::estate::RecordData::Addresses(vec![address]);
                estate
                    .dns_zones
                    .get_mut(id)
                    .records
                    .push(heronshale_model::estate::DnsRecord {
                        name: name.clone(),
                        origin,
                        data,
                    });
            },
        ));
    }
    edits
}

fn zones_linked<'e>(
    view: &Fabric<'_>,
    network: Id<Network>,
    zones: impl Iterator<Item = (Id<DnsZone>, &'e DnsZone)>,
) -> Vec<Edit> {
    let estate = view.estate;
    zones
        .map(|(id, zone)| {
            let text = format!(
                "link zone {} to network {}",
                zone.name, estate.networks[network].name
            );
            Edit::new(
                EditKind::Zone,
                text,
                Some(zone.origin),
                zone.owner,
                move |estate| {
                    estate
                        .dns_zones
                        .get_mut(id)
                        .networks
                        .push(Reference::Found(network));
                },
            )
        })
        .collect()
}
