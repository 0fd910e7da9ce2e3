//! Changes of an estate, each of which could fix something: a closed list (`docs/semantics.md` 12).

use crate::describe::filter_text;
use heronshale_engine::fabric::Fabric;
use heronshale_model::estate::{
    Action, Direction, Estate, Filter, Hub, Id, Owner, Peer, Rule, RuleId, Service,
};
use heronshale_model::source::Origin;
use heronshale_sets::address::{Addresses, Block, Family, Range};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, service};
use serde::Serialize;
use std::fmt;
use std::sync::Arc;

/// Public addresses in more ranges than this are written as `internet`.
const MOST_RANGES: usize = 6;

/// What kind of change.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum EditKind {
    /// One rule more in a filter.
    Rule,
    /// One flag turned: of a rule, an interface, a network.
    Flag,
    /// One route to a next hop that exists.
    Route,
    /// A table that exists attached to a subnet.
    Table,
    /// A public address given.
    PublicAddress,
    /// A link, a peering, a gateway or a member that has to be up.
    Up,
    /// One translation more at a firewall.
    Translation,
    /// A front end of a balancer.
    FrontEnd,
    /// A zone linked to a network, or a record of it.
    Zone,
    /// A group bound to an interface.
    Binding,
    /// A service's door.
    Door,
}

/// One change.
#[derive(Clone)]
pub struct Edit {
    /// What kind.
    pub kind: EditKind,
    /// In words, as one would ask the owner for it.
    pub text: String,
    /// What is changed, where that was written.
    pub origin: Option<Origin>,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
    /// Of a route: where it is added and to what it leads; changes with the same are one proposal.
    like: Option<[String; 2]>,
    apply: Arc<dyn Fn(&mut Estate) + Send + Sync>,
}

impl fmt::Debug for Edit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}: {}", self.kind, self.text)
    }
}

impl Edit {
    /// A change of something that was written somewhere.
    pub fn new(
        kind: EditKind,
        text: String,
        origin: Option<Origin>,
        owner: Option<Id<Owner>>,
        apply: impl Fn(&mut Estate) + Send + Sync + 'static,
    ) -> Self {
        Self {
            kind,
            text,
            origin,
            owner,
            like: None,
            apply: Arc::new(apply),
        }
    }

    /// Takes a rule out of force, as if it were deleted: the numbers of all others stay.
    pub(crate) fn without_rule(view: &Fabric<'_>, id: RuleId, owner: Option<Id<Owner>>) -> Self {
        let estate = view.estate;
        let filter = filter_text(estate, id.filter);
        let text = format!("delete rule {} of {filter}", estate.rule_name(id));
        let origin = estate.rule(id).origin;
        Self::new(EditKind::Rule, text, Some(origin), owner, move |estate| {
            let lists = &mut estate.filters.get_mut(id.filter).rules;
            lists[usize::from(id.direction == Direction::Out)][id.index as usize].enabled = false;
        })
    }

    /// Brings a link of a hub up.
    pub(super) fn link_up(estate: &Estate, id: Id<Hub>, at: usize) -> Self {
        let hub = &estate.hubs[id];
        let link = &hub.links[at];
        let text = format!("bring link {} of hub {} up", link.name, hub.name);
        Self::new(
            EditKind::Up,
            text,
            Some(link.origin),
            hub.owner,
            move |estate| {
                estate.hubs.get_mut(id).links[at].up = true;
            },
        )
    }

    /// Of a route: where it is added, and to what it leads.
    pub(super) fn routing(mut self, place: &str, hop: &str) -> Self {
        self.like = Some([place.to_owned(), hop.to_owned()]);
        self
    }

    /// The same for changes that differ only in how much they lead by one route.
    pub(super) fn likeness(&self) -> String {
        match &self.like {
            Some(parts) => parts.join("\0"),
            None => self.text.clone(),
        }
    }

    /// Makes the change.
    pub fn apply(&self, estate: &mut Estate) {
        (self.apply)(estate);
    }
}

/// An estate after changes.
pub fn changed<'a>(estate: &Estate, edits: impl IntoIterator<Item = &'a Edit>) -> Estate {
    let mut estate = estate.clone();
    for edit in edits {
        edit.apply(&mut estate);
    }
    estate
}

/// A range as a block that is written the shortest way.
pub(super) fn block(range: Range) -> Block {
    Block {
        range,
        length: range.prefix_length(),
        host: None,
    }
}

/// Addresses in the notation of peers.
fn peers_of(view: &Fabric<'_>, addresses: &Addresses) -> Option<Vec<Peer>> {
    let whole = |family| {
        addresses.of(family).is_empty()
            || *addresses.of(family) == *Addresses::of_family(family).of(family)
    };
    if Family::BOTH.into_iter().all(whole) {
        return None;
    }
    let internet = view.internet_end();
    let mut peers = Vec::new();
    let mut rest = addresses.clone();
    if !addresses.is_empty() {
        for family in Family::BOTH {
            let of = internet.intersection(&Addresses::of_family(family));
            if !of.is_empty() && of.is_subset(addresses) {
                if !peers.contains(&Peer::Internet) {
                    peers.push(Peer::Internet);
                }
                rest = rest.difference(&of);
            }
        }
    }
    if rest.ranges().count() > MOST_RANGES && rest.is_subset(&internet) {
        peers.push(Peer::Internet);
        peers.dedup();
        return Some(peers);
    }
    peers.extend(rest.ranges().map(|range| Peer::Block(block(range))));
    Some(peers)
}

/// Services as a rule names them; empty for any.
pub(super) fn services_of(set: &PacketSet) -> Vec<Service> {
    let numbers = set.services();
    let all = |family| service::all(family).is_subset(&numbers);
    if all(Family::V4) || all(Family::V6) {
        return Vec::new();
    }
    let mut services = Vec::new();
    for protocol in 0..=u8::MAX {
        let whole = service::whole(protocol);
        let here = numbers.intersection(&whole);
        if here.is_empty() {
            continue;
        }
        let base = u128::from(service::code(protocol, 0));
        let bare = !service::has_ports(protocol) && !service::is_icmp(protocol);
        let low = (here != whole && !bare).then(|| {
            Intervals::from_spans(
                here.spans()
                    .iter()
                    .map(|(first, last)| (first - base, last - base)),
            )
        });
        services.push(Service {
            protocol: Some(protocol),
            low,
            except: Vec::new(),
        });
    }
    services
}

/// A rule that lets these packets pass, as narrow as one rule can say it without naming this side.
pub(super) fn rule_for(
    view: &Fabric<'_>,
    set: &PacketSet,
    direction: Direction,
    origin: Origin,
    priority: Option<u32>,
) -> Rule {
    let other = if direction == Direction::In {
        set.sources()
    } else {
        set.destinations()
    };
    Rule {
        id: None,
        origin,
        action: Action::Allow,
        priority,
        services: services_of(set),
        source_ports: None,
        peers: peers_of(view, &other),
        except: Vec::new(),
        local: None,
        enabled: true,
        stateless: false,
        enforced_until: None,
        review_by: None,
        description: None,
        firewall: None,
    }
}

/// The same for a firewall's policy: from whom, to whom.
pub(super) fn firewall_rule_for(
    view: &Fabric<'_>,
    set: &PacketSet,
    origin: Origin,
    priority: Option<u32>,
) -> Rule {
    Rule {
        local: peers_of(view, &set.destinations()),
        ..rule_for(view, set, Direction::In, origin, priority)
    }
}

/// Adds a rule behind all others, so that no rule's number changes.
pub(super) fn add_rule(
    filter: Id<Filter>,
    direction: Direction,
    rule: Rule,
) -> impl Fn(&mut Estate) {
    let at = usize::from(direction == Direction::Out);
    move |estate| estate.filters.get_mut(filter).rules[at].push(rule.clone())
}
