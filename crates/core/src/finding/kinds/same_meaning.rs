//! Two filters that mean the same.

use super::super::{Context, Draft, Evidence, Kind, Role, Severity};
use crate::describe::filter_text;
use crate::model::{Direction, Filter, FilterKind, Id, Peer, Reference};
use crate::packet::PacketMap;
use crate::stage::{Judgement, Outcome, State, meaning};
use rayon::prelude::*;
use rustc_hash::FxHashMap;

pub(crate) const KIND: Kind = Kind {
    name: "same-meaning",
    base: Severity::Note,
    about: "Two filters of one kind decide every packet alike.",
    why: "A change to one of them is forgotten in the other.",
    triggers: "Two filters of one kind and form, both with rules in force, that decide every packet alike in both directions, state \
        included. Silent if one packet differs, if one of them names itself as a peer (it stands for its own members), for firewall \
        policies, and for filters without rules.",
    mend: "Keep one, and bind it where the other is bound; or say in their descriptions why there are two.",
    factors: &[],
    example: include_str!("../examples/same-meaning.yaml"),
    check: |context| facts(context).into_iter().map(|(one, other)| tell(context, one, other)).collect(),
};

/// What a filter decides, without saying by which rule.
type Meaning = [PacketMap<(Outcome, State)>; 2];

fn names_itself(context: &Context<'_, '_>, id: Id<Filter>) -> bool {
    let rules = context.view.estate.filters[id].rules.iter().flatten();
    let named = |peer: &Peer| matches!(peer, Peer::Group(Reference::Found(group)) if *group == id);
    rules.flat_map(|rule| rule.peers.iter().flatten().chain(&rule.except)).any(named)
}

fn facts(context: &Context<'_, '_>) -> Vec<(Id<Filter>, Id<Filter>)> {
    let (view, estate) = (context.view, context.view.estate);
    let in_force = |id: &Id<Filter>| estate.filters[*id].rules.iter().flatten().any(|rule| view.in_force(rule));
    let of_interest = |id: &Id<Filter>| !matches!(estate.filters[*id].kind, FilterKind::FirewallPolicy { .. });
    let filters: Vec<Id<Filter>> =
        estate.filters.ids().filter(|id| of_interest(id) && in_force(id) && !names_itself(context, *id)).collect();
    let meanings: Vec<Meaning> = filters
        .par_iter()
        .map(|id| {
            Direction::BOTH.map(|direction| {
                meaning(view, *id, direction).relabel(|judgement: Judgement| Some((judgement.outcome, judgement.state)))
            })
        })
        .collect();
    // What is cheap to compare first: the kind, and where the decisions change.
    let mut known: FxHashMap<_, Vec<usize>> = FxHashMap::default();
    let mut found = Vec::new();
    for (at, id) in filters.iter().enumerate() {
        let filter = &estate.filters[*id];
        let passing = Direction::BOTH.map(|direction| {
            let map = &meanings[at][usize::from(direction == Direction::Out)];
            let set = map.select(|(outcome, _)| !outcome.refuses());
            (set.services(), set.sources(), set.destinations())
        });
        let alike = known.entry((filter.kind_word(), filter.is_union(), passing)).or_default();
        match alike.iter().find(|other| meanings[**other] == meanings[at]) {
            Some(other) => found.push((filters[*other], *id)),
            None => alike.push(at),
        }
    }
    found
}

fn tell(context: &Context<'_, '_>, one: Id<Filter>, other: Id<Filter>) -> Draft {
    let estate = context.view.estate;
    let mut draft = context.about_filter(other);
    draft.subject = format!("{} {}", draft.subject, estate.filters[one].key);
    draft.title = format!("{} means the same as {}", filter_text(estate, other), filter_text(estate, one));
    draft.evidence.push(Evidence {
        role: Role::Names,
        text: filter_text(estate, one),
        rule: None,
        place: Some(context.place(&estate.filters[one].origin)),
    });
    draft.evidence.push(context.acts_on(other));
    draft.mend = "keep one, and bind it where the other is bound; or describe why there are two".to_owned();
    draft
}
