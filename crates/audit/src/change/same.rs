//! Whether rules that were taken out of an estate changed anything: every stage of every class of interfaces, before and after,
//! packet by packet.

use heronshale_engine::effective::classes;
use heronshale_engine::fabric::Fabric;
use heronshale_engine::judgement::{Judgement, Outcome, State};
use heronshale_engine::stage::{Chain, chain, meaning};
use heronshale_model::estate::{Direction, Filter, Id};
use heronshale_sets::each::each;
use heronshale_sets::packet::PacketMap;
use rustc_hash::FxHashSet;

/// What a comparison found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Compared {
    /// Classes of interfaces on which one of the filters acts; all of them were compared.
    pub classes: usize,
    /// Filters that were compared by themselves.
    pub filters: usize,
    /// Where some packet is decided otherwise, by the names of interfaces and filters.
    pub different: Vec<String>,
}

/// What is decided, without saying by which rule.
fn decided(map: &PacketMap<Judgement>) -> PacketMap<(Outcome, State)> {
    map.relabel(|judgement| Some((judgement.outcome, judgement.state)))
}

fn alike(before: &Chain, after: &Chain) -> bool {
    before.stages.len() == after.stages.len()
        && before.stages.iter().zip(&after.stages).all(|(one, other)| {
            one.kind == other.kind
                && one.filters == other.filters
                && decided(&one.map) == decided(&other.map)
        })
}

/// Compares two views of which the second lacks rules of some filters and nothing else: these filters by themselves, and every
/// stage of every class of interfaces on which one of them acts.
pub fn compare_rules(before: &Fabric<'_>, after: &Fabric<'_>, changed: &[Id<Filter>]) -> Compared {
    let names = |view: &Fabric<'_>| {
        let estate = view.estate;
        let interfaces = estate.interfaces.items().iter().map(|one| one.name.clone());
        interfaces
            .chain(estate.filters.items().iter().map(|one| one.key.clone()))
            .collect::<Vec<_>>()
    };
    let mut compared = Compared {
        filters: changed.len(),
        ..Compared::default()
    };
    if names(before) != names(after) {
        compared
            .different
            .push("the interfaces and filters themselves".to_owned());
        return compared;
    }
    let changed: FxHashSet<Id<Filter>> = changed.iter().copied().collect();
    let mut filters: Vec<Id<Filter>> = changed.iter().copied().collect();
    filters.sort_unstable();
    let other_meaning = |filter: &Id<Filter>| {
        Direction::BOTH.iter().any(|direction| {
            decided(&meaning(before, *filter, *direction))
                != decided(&meaning(after, *filter, *direction))
        })
    };
    let wrong = each(&filters, other_meaning);
    let wrong = filters.iter().zip(wrong).filter(|(_, wrong)| *wrong);
    compared
        .different
        .extend(wrong.map(|(filter, _)| before.estate.filters[*filter].key.to_string()));
    let all = classes(before);
    let told: Vec<Option<Option<String>>> = each(&all, |class| {
        let interface = class.representative();
        let both = Direction::BOTH.map(|direction| chain(before, interface, direction));
        let touched = both
            .iter()
            .flat_map(|chain| &chain.stages)
            .flat_map(|stage| &stage.filters);
        if !touched.into_iter().any(|filter| changed.contains(filter)) {
            return None;
        }
        let same = both
            .iter()
            .all(|one| alike(one, &chain(after, interface, one.direction)));
        Some((!same).then(|| before.estate.interfaces[interface].name.to_string()))
    });
    compared.classes = told.iter().flatten().count();
    compared
        .different
        .extend(told.into_iter().flatten().flatten());
    compared
}
