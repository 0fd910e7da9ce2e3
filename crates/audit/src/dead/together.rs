//! Rules of one list that can all go at once.

use super::{Dead, Judge, Verdict, places};
use heronshale_engine::binding::Bindings;
use heronshale_engine::fabric::Fabric;
use heronshale_model::estate::{Direction, Filter, Id, RuleId};
use heronshale_sets::cover::Limits;
use heronshale_sets::each::each;
use rustc_hash::FxHashMap;
use std::collections::BTreeMap;

/// Dead rules of a filter and direction.
type Candidates = ((Id<Filter>, Direction), Vec<RuleId>);

/// For each filter and direction with dead rules, those that can all go at once: each was judged again with the others
/// gone, wherever the filter is enforced. What only the default makes dead stays.
///
/// `lasting`: only rules that stay dead whatever the members of groups and sets become, judged again in the same way.
pub fn removable_together(
    view: &Fabric<'_>,
    bindings: &Bindings,
    dead: &[Dead],
    lasting: bool,
) -> Vec<(Id<Filter>, Direction, Vec<RuleId>)> {
    let mut candidates: BTreeMap<(Id<Filter>, Direction), Vec<RuleId>> = BTreeMap::new();
    for one in dead
        .iter()
        .filter(|one| one.can_go() && !one.across && (one.durable || !lasting))
    {
        candidates
            .entry((one.rule.filter, one.rule.direction))
            .or_default()
            .push(one.rule);
    }
    let candidates: Vec<Candidates> = candidates.into_iter().collect();
    let plan = |((filter, direction), rules): &Candidates| {
        let (filter, direction) = (*filter, *direction);
        let places::Lists::Known(lists) =
            places::lists_of(view, bindings, filter, direction, Limits::default())
        else {
            return None;
        };
        let mut judges: Vec<Judge<'_, '_>> =
            lists.iter().map(|list| Judge::new(view, list)).collect();
        let positions: Vec<FxHashMap<RuleId, u32>> = lists
            .iter()
            .map(|list| list.ids.iter().copied().zip(0..).collect())
            .collect();
        let mut gone = Vec::new();
        // From the last on, so that of equal rules the first stays.
        for rule in rules.iter().rev() {
            let mut places: Vec<(usize, u32)> = Vec::new();
            let goes = positions.iter().enumerate().all(|(nth, positions)| {
                let Some(at) = positions.get(rule).copied() else {
                    return true;
                };
                places.push((nth, at));
                match judges[nth].judge(at) {
                    Verdict::Absent => true,
                    Verdict::Alive => false,
                    Verdict::Dead(dead) => dead.can_go() && (dead.durable || !lasting),
                }
            });
            if goes {
                places
                    .into_iter()
                    .for_each(|(nth, at)| judges[nth].remove(at));
                gone.push(*rule);
            }
        }
        gone.sort_unstable();
        (!gone.is_empty()).then_some((filter, direction, gone))
    };
    each(&candidates, plan).into_iter().flatten().collect()
}
