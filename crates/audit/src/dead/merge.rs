//! Rules whose union is one rule.

use super::Dead;
use heronshale_engine::fabric::Fabric;
use heronshale_engine::stage::{RuleMatch, rule_match};
use heronshale_model::estate::{Action, Direction, Filter, Id, Peer, Rule, RuleId, Service};
use heronshale_sets::address::{Family, Range};
use heronshale_sets::intervals::Intervals;
use rustc_hash::{FxHashMap, FxHashSet};

/// Rules that could be one, in the order in which they are written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mergeable {
    /// The rules, at least two.
    pub rules: Vec<RuleId>,
    /// The whole range, in words.
    pub whole: String,
}

/// What must be the same but for one range: everything but the peers, or everything but the ports.
#[derive(PartialEq, Eq, Hash)]
struct Rest {
    filter: Id<Filter>,
    direction: Direction,
    action: Action,
    stateless: bool,
    ends: Option<jiff::Timestamp>,
    source_ports: Option<Intervals>,
    except: Vec<Peer>,
    local: Option<Vec<Peer>>,
    /// If the ports differ.
    peers: Option<Option<Vec<Peer>>>,
    protocol: Option<Option<u8>>,
    /// If the peers differ: ranges of different families never touch.
    family: Option<Family>,
    services: Option<Vec<Service>>,
}

/// A range of a dimension in which rules differ, with how it is written.
type Piece = (u128, u128, RuleId);

/// Every run of such rules, by filter and place.
pub fn mergeable(view: &Fabric<'_>, dead: &[Dead]) -> Vec<Mergeable> {
    let estate = view.estate;
    let dead: FxHashSet<RuleId> = dead
        .iter()
        .filter(|one| one.does_nothing())
        .map(|one| one.rule)
        .collect();
    let mut alike: FxHashMap<Rest, Vec<Piece>> = FxHashMap::default();
    for id in estate
        .rule_ids()
        .filter(|id| view.in_force(estate.rule(*id)) && !dead.contains(id))
    {
        let rule = estate.rule(id);
        if rule.firewall.is_some() {
            continue;
        }
        let rest = || Rest {
            filter: id.filter,
            direction: id.direction,
            action: rule.action,
            stateless: rule.stateless,
            ends: rule.enforced_until,
            source_ports: rule.source_ports.clone(),
            except: rule.except.clone(),
            local: rule.local.clone(),
            peers: None,
            protocol: None,
            family: None,
            services: None,
        };
        if let Some([Peer::Block(block)]) = rule.peers.as_deref() {
            let family = Some(block.range.family);
            let rest = Rest {
                services: Some(rule.services.clone()),
                family,
                ..rest()
            };
            alike
                .entry(rest)
                .or_default()
                .push((block.range.first, block.range.last, id));
        }
        if let Some((protocol, first, last)) = single_range(rule) {
            let rest = Rest {
                peers: Some(rule.peers.clone()),
                protocol: Some(protocol),
                ..rest()
            };
            alike.entry(rest).or_default().push((first, last, id));
        }
    }
    let mut found: Vec<Mergeable> = Vec::new();
    for (rest, mut pieces) in alike.into_iter().filter(|(_, pieces)| pieces.len() > 1) {
        pieces.sort_unstable();
        let mut run: Vec<Piece> = Vec::new();
        let mut reach = 0;
        for piece in pieces {
            if run.is_empty() || piece.0 <= reach || piece.0 - reach == 1 {
                reach = if run.is_empty() {
                    piece.1
                } else {
                    reach.max(piece.1)
                };
                run.push(piece);
                continue;
            }
            found.extend(finished(view, &rest, &run, reach));
            run = vec![piece];
            reach = piece.1;
        }
        found.extend(finished(view, &rest, &run, reach));
    }
    found.sort_by(|a, b| a.rules.cmp(&b.rules));
    found
}

/// The one range of ports of one protocol that a rule is about.
fn single_range(rule: &Rule) -> Option<(Option<u8>, u128, u128)> {
    let [
        Service {
            protocol,
            low: Some(low),
            ..
        },
    ] = rule.services.as_slice()
    else {
        return None;
    };
    let [(first, last)] = low.spans() else {
        return None;
    };
    Some((*protocol, *first, *last))
}

fn finished(view: &Fabric<'_>, rest: &Rest, run: &[Piece], reach: u128) -> Option<Mergeable> {
    if run.len() < 2 {
        return None;
    }
    let mut rules: Vec<RuleId> = run.iter().map(|piece| piece.2).collect();
    rules.sort_unstable();
    if !view.estate.filters[rest.filter].is_union() && !nothing_between(view, rest, &rules) {
        return None;
    }
    let first = run[0].0;
    let whole = if let Some(family) = rest.family {
        Range {
            family,
            first,
            last: reach,
        }
        .to_string()
    } else {
        let service = Service {
            protocol: rest.protocol.flatten(),
            low: Some(Intervals::span(first, reach)),
            except: Vec::new(),
        };
        crate::describe::service_text(&service)
    };
    Some(Mergeable { rules, whole })
}

/// Whether no rule that decides otherwise and meets one of them is tried between the first and the last.
fn nothing_between(view: &Fabric<'_>, rest: &Rest, rules: &[RuleId]) -> bool {
    let equal = view.settings(None).equal_priority;
    let order = heronshale_engine::rules::in_order(view, &[rest.filter], rest.direction, equal);
    let places: Vec<usize> = rules
        .iter()
        .filter_map(|id| order.iter().position(|other| other == id))
        .collect();
    let (Some(first), Some(last)) = (places.iter().min(), places.iter().max()) else {
        return false;
    };
    let matches = |id: RuleId| {
        let RuleMatch { sure, maybe } = rule_match(view, id, None);
        sure.union(&maybe)
    };
    let own: Vec<_> = rules.iter().map(|id| matches(*id)).collect();
    order[*first..*last]
        .iter()
        .filter(|id| !rules.contains(id))
        .all(|id| {
            let other = view.estate.rule(*id);
            let alike = other.action == rest.action && other.stateless == rest.stateless;
            alike || {
                let theirs = matches(*id);
                own.iter().all(|own| !own.overlaps(&theirs))
            }
        })
}
