//! Rules that do nothing: shadowed by earlier ones, or redundant beside others (`docs/findings.md`).
//!
//! *Terms.* What is *visible* of a rule is what it matches and no earlier rule does. A rule is *shadowed* if nothing of it is
//! visible and some packet of it is decided otherwise than it would decide; *partly shadowed* if something is visible. It is
//! *redundant* if taking it away changes no packet's fate. A filter is judged wherever it is enforced, and a rule is dead only if
//! it is dead everywhere.
//!
//! *Example.* `allow 50-60; allow 40-70; deny 50-60`: the third is shadowed by the first; the first is redundant, since what
//! it matches is met by the second next, and the third decides nothing.
//!
//! *Ends.* A rule that the platform stops at some date covers only rules that stop no later.
//!
//! *Lists.* Ordered groups at one place are one list. Policies that stand above another (outer scopes, base policies) are a list
//! with it, of which only its own rules are judged. Union groups are judged alone, then together with the other groups of
//! every interface.
//!
//! How it is proven: [`heronshale_sets::cover`].

mod durable;
mod judge;

pub use durable::outlive;
use durable::{any_match, beside, is_durable, names_members, otherwise, shadow};
use judge::{Covers, Gone, Judge, removal, state};

mod across;
mod list;
mod merge;
mod places;
mod together;
mod translations;

pub use merge::{Mergeable, mergeable};
pub use together::removable_together;
pub use translations::{DeadTranslation, dead_translations};

use crate::faults::{Fault, has};
use heronshale_engine::binding::Bindings;
use heronshale_engine::fabric::Fabric;
use heronshale_model::estate::{Direction, Filter, Id, Peer, Rule, RuleId};
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::cover::{Covered, Differs, Limits, Product, Prover, Reading, Removal};
use heronshale_sets::each::each;
use heronshale_sets::packet::Packet;
use list::{Coordinates, Enlisted, packet_of, today};

/// In which way a rule is dead.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum How {
    /// Earlier rules take all of it, and decide some of it otherwise: for example this packet.
    Shadowed(Packet),
    /// Earlier rules take some of it and decide that otherwise: for example this packet. It is not dead.
    PartlyShadowed(Packet),
    /// Other rules do all that it does.
    Redundant,
    /// The same, and for some of it the list's default does.
    RedundantByDefault,
    /// A proof took too many steps, or the list has too many ends and zones: nothing is said of it.
    Undecided,
}

/// A rule that does nothing, or less than is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Dead {
    /// The rule.
    pub rule: RuleId,
    /// In which way.
    pub how: How,
    /// The rules that cover it: none of them can be left out; one if one suffices. Of a partly shadowed rule those that take
    /// the packet.
    pub covers: Vec<RuleId>,
    /// Who takes its traffic, in the order in which they do.
    pub takers: Vec<RuleId>,
    /// Whether these are all the takers: of very many only the first are listed.
    pub all_takers: bool,
    /// Whether it stays dead whatever the members of groups and sets become.
    pub durable: bool,
    /// Whether it takes the other groups of each interface, and not its own filter alone.
    pub across: bool,
}

impl Dead {
    /// Whether the rule does nothing.
    pub fn does_nothing(&self) -> bool {
        self.can_go() || self.how == How::RedundantByDefault
    }

    /// Whether other rules make it do nothing, and not the default alone.
    pub(crate) fn can_go(&self) -> bool {
        matches!(self.how, How::Shadowed(_) | How::Redundant)
    }
}

/// Every dead or partly shadowed rule of the estate, by filter, direction and place.
pub fn dead_rules(view: &Fabric<'_>, bindings: &Bindings) -> Vec<Dead> {
    let filters: Vec<Id<Filter>> = view.estate.filters.ids().collect();
    let found: Vec<Vec<Dead>> = each(&filters, |filter| dead_rules_of(view, bindings, *filter));
    let mut found: Vec<Dead> = found.into_iter().flatten().collect();
    let more = across::dead_across(view, bindings, &found);
    if !more.is_empty() {
        found.extend(more);
        found.sort_by_key(|dead| dead.rule);
    }
    found
}

/// The dead rules of one filter by itself, and those that are partly shadowed.
pub fn dead_rules_of(view: &Fabric<'_>, bindings: &Bindings, filter: Id<Filter>) -> Vec<Dead> {
    dead_rules_within(view, bindings, filter, Limits::default())
}

/// The same with other limits: for tests.
pub fn dead_rules_within(
    view: &Fabric<'_>,
    bindings: &Bindings,
    filter: Id<Filter>,
    limits: Limits,
) -> Vec<Dead> {
    let mut dead = Vec::new();
    for direction in Direction::BOTH {
        let count = view.estate.filters[filter].rules(direction).len();
        if count == 0 {
            continue;
        }
        let count = u32::try_from(count).unwrap_or(u32::MAX);
        let lists = match places::lists_of(view, bindings, filter, direction, limits) {
            places::Lists::Known(lists) => lists,
            places::Lists::Lacking => continue,
            places::Lists::TooManyParts => {
                let own = (0..count).map(|index| RuleId {
                    filter,
                    direction,
                    index,
                });
                dead.extend(
                    own.filter(|id| view.in_force(view.estate.rule(*id)))
                        .map(undecided),
                );
                continue;
            }
        };
        let mut verdicts: Vec<Vec<Verdict>> = vec![Vec::new(); count as usize];
        for list in &lists {
            let mut own = list.order();
            own.retain(|at| list.ids[*at as usize].filter == filter);
            // Pieces of a size that no number of threads changes, each with its own memory of proofs.
            let judged = |piece: &[u32]| {
                let mut judge = Judge::new(view, list);
                piece
                    .iter()
                    .map(|at| (list.ids[*at as usize].index, judge.judge(*at)))
                    .collect::<Vec<_>>()
            };
            let pieces: Vec<&[u32]> = own.chunks(PIECE).collect();
            let found = each(&pieces, |piece| judged(piece)).into_iter().flatten();
            found.for_each(|(index, verdict)| verdicts[index as usize].push(verdict));
        }
        dead.extend(verdicts.into_iter().filter_map(joined));
    }
    dead
}

/// How many rules of one list share a memory of proofs.
const PIECE: usize = 8_192;

fn undecided(rule: RuleId) -> Dead {
    Dead {
        rule,
        how: How::Undecided,
        covers: Vec::new(),
        takers: Vec::new(),
        all_takers: true,
        durable: false,
        across: false,
    }
}

/// What is said of a rule in one list.
#[derive(Clone, Debug)]
enum Verdict {
    /// It matches nothing there.
    Absent,
    /// It does something there, and all that it could.
    Alive,
    /// It does not, or not all.
    Dead(Dead),
}

/// The verdict of all places: dead where it is dead in each; shadowed if it is in one.
fn joined(verdicts: Vec<Verdict>) -> Option<Dead> {
    let alive = verdicts.iter().any(|verdict| match verdict {
        Verdict::Alive => true,
        Verdict::Dead(dead) => matches!(dead.how, How::PartlyShadowed(_)),
        Verdict::Absent => false,
    });
    let found: Vec<Dead> = verdicts
        .into_iter()
        .filter_map(|verdict| {
            if let Verdict::Dead(dead) = verdict {
                Some(dead)
            } else {
                None
            }
        })
        .collect();
    let packet = |dead: &Dead| match dead.how {
        How::Shadowed(packet) | How::PartlyShadowed(packet) => Some(packet),
        _ => None,
    };
    if alive {
        let partly = found.into_iter().find(|dead| packet(dead).is_some())?;
        return Some(Dead {
            how: How::PartlyShadowed(packet(&partly)?),
            ..partly
        });
    }
    if let Some(undecided) = found.iter().find(|dead| dead.how == How::Undecided) {
        return Some(undecided.clone());
    }
    let at = found
        .iter()
        .position(|dead| packet(dead).is_some())
        .unwrap_or(0);
    let merge = |of: fn(&Dead) -> &Vec<RuleId>| {
        let mut all: Vec<RuleId> = Vec::new();
        for id in found.iter().flat_map(of) {
            if !all.contains(id) {
                all.push(*id);
            }
        }
        all
    };
    let mut chosen = found.get(at)?.clone();
    chosen.covers = merge(|dead| &dead.covers);
    chosen.takers = merge(|dead| &dead.takers);
    chosen.durable = found.iter().all(|dead| dead.durable);
    chosen.all_takers = found.iter().all(|dead| dead.all_takers);
    if chosen.how == How::Redundant && found.iter().any(|dead| dead.how == How::RedundantByDefault)
    {
        chosen.how = How::RedundantByDefault;
    }
    Some(chosen)
}
