//! What could fix one obstacle: candidates of the closed list, the likeliest first. Whether one does is found by trying it.

mod lost;
mod stages;
mod up;
mod zones;

use lost::{internet_blocks, where_lost};
use stages::{at_policy, at_stage, in_filter, kept_states, symmetric_balancers};
use up::{attached_gateways, front_ends, members_up, peerings_up, raised, route_off};
pub(super) use zones::linked_zones;

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

/// Where a walk ended, with what it needs to be fixed.
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

/// What could fix it.
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
