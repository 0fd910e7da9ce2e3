//! Two filters that mean the same.

use super::super::context::Context;
use super::super::draft::{Draft, Evidence, NOTHING, Role};
use super::super::key::Key;
use super::super::kind::Kind;
use crate::describe::filter_text;
use heronshale_engine::fabric::Fabric;
use heronshale_engine::judgement::{Judgement, Outcome, State};
use heronshale_engine::rules::in_order;
use heronshale_engine::stage::{meaning, rule_extent};
use heronshale_model::estate::{Direction, EqualPriority, Filter, FilterKind, Id, Peer, Reference};
use heronshale_model::severity::Severity;
use heronshale_sets::address::Addresses;
use heronshale_sets::each::each;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketMap, PacketSet};
use rustc_hash::FxHashMap;

pub(crate) const KIND: Kind = Kind {
    name: "same-meaning",
    base: Severity::Note,
    about: "Two filters of one kind decide every packet alike.",
    why: "A change to one of them is easily forgotten in the other.",
    triggers: "Two filters of one kind and form, both with rules in force, give every packet the same decision in \
        both directions, including state. Not reported if one packet differs, if one of them names itself or \
        an empty group as a peer, for firewall policies, or for filters without rules.",
    fix: "Keep one and bind it in both places, or describe why there are two.",
    side_effects: NOTHING,
    factors: &[],
    example: include_str!("../examples/same-meaning.yaml"),
    check: |context| {
        facts(context)
            .iter()
            .map(|pair| tell(context, pair))
            .collect()
    },
};

/// What a filter decides, without saying by which rule.
type Meaning = [PacketMap<(Outcome, State)>; 2];
/// Services, sources, destinations.
type Outline = (Intervals, Addresses, Addresses);

fn names_itself(context: &Context<'_, '_>, id: Id<Filter>) -> bool {
    let rules = context.view.estate.filters[id].rules.iter().flatten();
    let named = |peer: &Peer| matches!(peer, Peer::Group(Reference::Found(group)) if *group == id);
    rules
        .flat_map(|rule| rule.peers.iter().flatten().chain(&rule.except))
        .any(named)
}

/// Whether a rule in force names a peer that stands for no address today, and may for one tomorrow.
fn is_empty_today(view: &Fabric<'_>, id: Id<Filter>) -> bool {
    let rules = view.estate.filters[id]
        .rules
        .iter()
        .flatten()
        .filter(|rule| view.in_force(rule));
    let mut peers = rules.flat_map(|rule| {
        rule.peers
            .iter()
            .flatten()
            .chain(rule.local.iter().flatten())
    });
    peers.any(|peer| {
        let named = matches!(
            peer,
            Peer::Group(_) | Peer::Tag(_) | Peer::Identity(_) | Peer::AddressSet(_)
        );
        let meant = || view.peer(peer, None);
        named && meant().sure.is_empty() && meant().maybe.is_empty()
    })
}

fn facts(context: &Context<'_, '_>) -> Vec<Pair> {
    let (view, estate) = (context.view, context.view.estate);
    let in_force = |id: &Id<Filter>| {
        estate.filters[*id]
            .rules
            .iter()
            .flatten()
            .any(|rule| view.in_force(rule))
    };
    let of_interest =
        |id: &Id<Filter>| !matches!(estate.filters[*id].kind, FilterKind::FirewallPolicy { .. });
    let filters: Vec<Id<Filter>> = estate
        .filters
        .ids()
        .filter(|id| of_interest(id) && in_force(id) && !names_itself(context, *id))
        .collect();
    // What means nothing only as long as nobody belongs to a peer may mean something else tomorrow.
    let filters: Vec<Id<Filter>> = filters
        .into_iter()
        .filter(|id| !is_empty_today(view, *id))
        .collect();
    // What is cheap to compare first: the kind, and what is let on by services, sources and destinations.
    let outlines: Vec<[Outline; 2]> = each(&filters, |id| {
        Direction::BOTH.map(|direction| outline(view, *id, direction))
    });
    let mut alike: FxHashMap<_, Vec<Id<Filter>>> = FxHashMap::default();
    for (id, outline) in filters.iter().zip(outlines) {
        let filter = &estate.filters[*id];
        alike
            .entry((filter.kind_word(), filter.is_union(), outline))
            .or_default()
            .push(*id);
    }
    let alike: Vec<Vec<Id<Filter>>> = alike.into_values().filter(|all| all.len() > 1).collect();
    let found: Vec<Vec<Pair>> = each(&alike, |all| equal_ones(view, all));
    let mut found: Vec<Pair> = found.into_iter().flatten().collect();
    found.sort_unstable_by_key(|pair| pair.other);
    found
}

/// A filter that means what another one means.
struct Pair {
    one: Id<Filter>,
    other: Id<Filter>,
    /// The same by the order of the files, as it was told in the version before.
    former: (Id<Filter>, Id<Filter>),
}

/// Of some filters each that means what others mean, with the first of those by name, so that the order of the files tells nothing.
fn equal_ones(view: &Fabric<'_>, all: &[Id<Filter>]) -> Vec<Pair> {
    let mut different: Vec<(Vec<Id<Filter>>, Meaning)> = Vec::new();
    for id in all {
        let means = Direction::BOTH.map(|direction| {
            meaning(view, *id, direction)
                .relabel(|judgement: Judgement| Some((judgement.outcome, judgement.state)))
        });
        match different.iter_mut().find(|(_, known)| *known == means) {
            Some((same, _)) => same.push(*id),
            None => different.push((vec![*id], means)),
        }
    }
    let mut found = Vec::new();
    for (same, _) in different {
        let mut by_name = same.clone();
        by_name.sort_by_key(|id| &view.estate.filters[*id].key);
        let pairs = by_name[1..].iter().zip(&same[1..]);
        found.extend(pairs.map(|(other, later)| Pair {
            one: by_name[0],
            other: *other,
            former: (same[0], *later),
        }));
    }
    found
}

/// The services, sources and destinations of what a filter lets on, perhaps or for certain.
fn outline(view: &Fabric<'_>, id: Id<Filter>, direction: Direction) -> Outline {
    let of = |set: &PacketSet| (set.services(), set.sources(), set.destinations());
    let filter = &view.estate.filters[id];
    if !filter.is_union() {
        return of(&meaning(view, id, direction).select(|judgement| !judgement.outcome.refuses()));
    }
    let rules = in_order(view, &[id], direction, EqualPriority::Position);
    let all: Vec<Outline> = rules
        .into_iter()
        .map(|rule| rule_extent(view, rule, None))
        .collect();
    let services = all.iter().flat_map(|one| one.0.spans().iter().copied());
    (
        Intervals::from_spans(services),
        all.iter().flat_map(|one| one.1.ranges()).collect(),
        all.iter().flat_map(|one| one.2.ranges()).collect(),
    )
}

fn tell(context: &Context<'_, '_>, pair: &Pair) -> Draft {
    let estate = context.view.estate;
    let (one, other) = (pair.one, pair.other);
    let key = |one: Id<Filter>, other: Id<Filter>| {
        Key::filter(&estate.filters[other]).name(&estate.filters[one].key)
    };
    let mut draft = context.about_filter(other);
    draft.key = key(one, other);
    draft.former = Some(key(pair.former.0, pair.former.1).written().to_owned());
    draft.says(format!("same as {}", filter_text(estate, one)));
    draft.title = format!(
        "{} and {} decide every packet alike",
        filter_text(estate, other),
        filter_text(estate, one)
    );
    draft.evidence.push(Evidence {
        role: Role::Names,
        text: filter_text(estate, one),
        rule: None,
        place: Some(context.place(&estate.filters[one].origin)),
    });
    draft.evidence.push(context.acts_on(other));
    draft.fix = "Keep one and bind it in both places, or describe why there are two.".to_owned();
    draft
}
