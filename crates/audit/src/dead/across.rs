//! Rules of union groups that the other groups of every interface admit as well.

use super::list::Enlisted;
use super::{Dead, How, Judge, Verdict};
use heronshale_engine::binding::Bindings;
use heronshale_engine::fabric::Fabric;
use heronshale_model::estate::{
    Direction, Filter, Id, Lack, Network, Reference, RuleId, SubnetGroups,
};
use heronshale_sets::each::each;
use rustc_hash::{FxHashMap, FxHashSet};

/// Lists of so many places are made at a time.
const TOGETHER: usize = 512;

/// Groups that are one union at some interface.
type Place = (Vec<Id<Filter>>, Id<Network>);

/// The unions in which groups are enforced, each once, and the groups of which the snapshot may lack places.
fn unions(view: &Fabric<'_>) -> (FxHashSet<Place>, FxHashSet<Id<Filter>>) {
    let estate = view.estate;
    let (mut places, mut lacking) = (FxHashSet::default(), FxHashSet::default());
    for (id, interface) in estate
        .interfaces
        .iter()
        .filter(|(_, interface)| !interface.unfiltered)
    {
        let subnet = &estate.subnets[interface.subnet];
        let network = estate.network_of(id);
        let found = |groups: &[Reference<Filter>]| {
            groups
                .iter()
                .filter_map(Reference::found)
                .collect::<Vec<Id<Filter>>>()
        };
        let union =
            |groups: &[Id<Filter>]| groups.iter().all(|group| estate.filters[*group].is_union());
        let (own, of_subnet) = (found(&interface.groups), found(&subnet.groups));
        if view.lacks_at(id, Lack::Groups) {
            lacking.extend(own.iter().chain(&of_subnet));
            continue;
        }
        let pooled = view.settings(network).subnet_groups == SubnetGroups::Pooled;
        let mut add = |mut groups: Vec<Id<Filter>>| {
            groups.sort_unstable();
            groups.dedup();
            if !groups.is_empty() && union(&groups) {
                places.insert((groups, network));
            }
        };
        if pooled && union(&own) && union(&of_subnet) {
            add(own.into_iter().chain(of_subnet).collect());
        } else {
            add(own);
            add(of_subnet);
        }
    }
    (places, lacking)
}

/// Rules of union groups that are not dead by themselves, but are beside the other groups of every interface that carries theirs.
pub(super) fn dead_across(view: &Fabric<'_>, bindings: &Bindings, known: &[Dead]) -> Vec<Dead> {
    let known: FxHashSet<RuleId> = known.iter().map(|dead| dead.rule).collect();
    let (places, lacking) = unions(view);
    let mut places: Vec<Place> = places.into_iter().collect();
    places.sort_unstable();
    // A group that is alone somewhere has nobody beside it there.
    let alone: FxHashSet<Id<Filter>> = places
        .iter()
        .filter(|(groups, _)| groups.len() == 1)
        .map(|(groups, _)| groups[0])
        .chain(lacking)
        .collect();
    let mut verdicts: FxHashMap<RuleId, Option<Dead>> = FxHashMap::default();
    places.retain(|(groups, _)| !groups.iter().all(|group| alone.contains(group)));
    for places in places.chunks(TOGETHER) {
        let lists = each(places, |(groups, network)| {
            Direction::BOTH
                .map(|direction| super::places::pooled(view, bindings, groups, *network, direction))
        });
        for list in lists.iter().flatten().flatten() {
            judge(view, list, &alone, &known, &mut verdicts);
        }
    }
    let mut dead: Vec<Dead> = verdicts.into_values().flatten().collect();
    dead.sort_by_key(|dead| dead.rule);
    dead
}

fn judge(
    view: &Fabric<'_>,
    list: &Enlisted<RuleId>,
    alone: &FxHashSet<Id<Filter>>,
    known: &FxHashSet<RuleId>,
    verdicts: &mut FxHashMap<RuleId, Option<Dead>>,
) {
    let mut judge = Judge::new(view, list);
    for (at, id) in (0u32..).zip(&list.ids) {
        if alone.contains(&id.filter)
            || known.contains(id)
            || verdicts.get(id).is_some_and(Option::is_none)
        {
            continue;
        }
        match judge.judge(at) {
            Verdict::Absent => {}
            Verdict::Dead(dead) if dead.how == How::Redundant => {
                let all = verdicts.entry(*id).or_insert_with(|| {
                    Some(Dead {
                        covers: Vec::new(),
                        takers: Vec::new(),
                        durable: false,
                        across: true,
                        ..dead.clone()
                    })
                });
                if let Some(all) = all {
                    for cover in dead.covers {
                        if !all.covers.contains(&cover) {
                            all.covers.push(cover);
                            all.takers.push(cover);
                        }
                    }
                }
            }
            Verdict::Dead(_) | Verdict::Alive => {
                verdicts.insert(*id, None);
            }
        }
    }
}
