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

/// Judges the rules of one list, one after the other.
struct Judge<'l, 'e> {
    view: &'l Fabric<'e>,
    list: &'l Enlisted<RuleId>,
    v4: Prover<'l, u32>,
    v6: Prover<'l, u128>,
    /// No rule of the list speaks of members that change.
    fixed: bool,
}

/// What becomes of a rule of one family.
#[derive(Clone, Debug, Default)]
struct Covers {
    rules: Vec<u32>,
    takers: Vec<u32>,
    cut: bool,
}

impl Covers {
    /// Those of both families, each once.
    fn and(mut self, other: Self) -> Self {
        let more = |all: &mut Vec<u32>, more: Vec<u32>| {
            for one in more {
                if !all.contains(&one) {
                    all.push(one);
                }
            }
        };
        more(&mut self.rules, other.rules);
        more(&mut self.takers, other.takers);
        self.takers.sort_unstable();
        self.cut |= other.cut;
        self
    }
}

impl<'l, 'e> Judge<'l, 'e> {
    fn new(view: &'l Fabric<'e>, list: &'l Enlisted<RuleId>) -> Self {
        let (v4, v6) = list.provers();
        let fixed = list
            .ids
            .iter()
            .all(|id| !names_members(view.estate.rule(*id)));
        Self {
            view,
            list,
            v4,
            v6,
            fixed,
        }
    }

    /// A rule at a position of the list.
    fn judge(&mut self, at: u32) -> Verdict {
        let id = self.list.ids[at as usize];
        let states = (state(&mut self.v4, at), state(&mut self.v6, at));
        if states.0.is_absent() && states.1.is_absent() {
            return Verdict::Absent;
        }
        if matches!(states.0, State::Undecided) || matches!(states.1, State::Undecided) {
            return Verdict::Dead(undecided(id));
        }
        let hidden = states.0.is_hidden() && states.1.is_hidden();
        if self.list.reading == Reading::AnyMatch {
            if !hidden {
                return Verdict::Alive;
            }
            let covers = any_match(&mut self.v4, at).and(any_match(&mut self.v6, at));
            return Verdict::Dead(self.dead(at, How::Redundant, covers));
        }
        if hidden {
            let covers = shadow(&mut self.v4, at).and(shadow(&mut self.v6, at));
            return match self.otherwise(at) {
                Err(()) => Verdict::Dead(undecided(id)),
                Ok(Some(packet)) => Verdict::Dead(self.dead(at, How::Shadowed(packet), covers)),
                Ok(None) => Verdict::Dead(self.dead(at, How::Redundant, covers)),
            };
        }
        let default = if has(Fault::DeadIgnoresDefault) {
            Some(self.v4.decision(at).max(self.v6.decision(at)))
        } else {
            self.list.default
        };
        let removals = [
            removal(&mut self.v4, at, default, &states.0),
            removal(&mut self.v6, at, default, &states.1),
        ];
        if removals.contains(&Gone::Undecided) {
            return Verdict::Dead(undecided(id));
        }
        if !removals.contains(&Gone::Changes) {
            let by_default = removals.contains(&Gone::NothingByDefault);
            let how = if by_default {
                How::RedundantByDefault
            } else {
                How::Redundant
            };
            let covers =
                beside(&mut self.v4, at, by_default).and(beside(&mut self.v6, at, by_default));
            let mut dead = self.dead(at, how, covers);
            dead.durable = self.fixed
                && self.own_only(&dead.covers, id)
                && outlive(self.view, id, &dead.covers);
            return Verdict::Dead(dead);
        }
        match self.otherwise(at) {
            Ok(None) => Verdict::Alive,
            Err(()) => Verdict::Dead(undecided(id)),
            Ok(Some(packet)) => {
                let mut dead = self.dead(at, How::PartlyShadowed(packet), Covers::default());
                dead.durable = false;
                dead.covers = self.taker_of(at, packet).into_iter().collect();
                Verdict::Dead(dead)
            }
        }
    }

    /// From now on the rule is as if it were not there.
    fn remove(&mut self, at: u32) {
        self.v4.remove(at);
        self.v6.remove(at);
    }

    fn dead(&self, at: u32, how: How, covers: Covers) -> Dead {
        let id = self.list.ids[at as usize];
        let ids = |list: &[u32]| {
            let mut all: Vec<RuleId> = Vec::new();
            for at in list {
                let id = self.list.ids[*at as usize];
                if !all.contains(&id) {
                    all.push(id);
                }
            }
            all
        };
        let (rules, takers) = (ids(&covers.rules), ids(&covers.takers));
        let durable = self.own_only(&rules, id)
            && is_durable(self.view, id, &rules)
            && outlive(self.view, id, &rules);
        Dead {
            rule: id,
            how,
            covers: rules,
            takers,
            all_takers: !covers.cut,
            durable,
            across: false,
        }
    }

    /// Covers of other filters last only as long as these are bound at the same places.
    fn own_only(&self, covers: &[RuleId], id: RuleId) -> bool {
        covers.iter().all(|cover| cover.filter == id.filter)
    }

    /// A packet of a rule that an earlier one decides otherwise today, such as a reader would choose.
    fn otherwise(&mut self, at: u32) -> Result<Option<Packet>, ()> {
        let direction = self.list.direction;
        let home = &self.list.home;
        let v4 = otherwise::<u32>(
            &mut self.v4,
            at,
            self.list.pairs,
            direction,
            home,
            Family::V4,
        )?;
        if v4.is_some() {
            return Ok(v4);
        }
        otherwise::<u128>(
            &mut self.v6,
            at,
            self.list.pairs,
            direction,
            home,
            Family::V6,
        )
    }

    fn taker_of(&mut self, at: u32, packet: Packet) -> Option<RuleId> {
        let taker = match packet.family {
            Family::V4 => self.v4.first_taker(at, list::point_of(&packet)),
            Family::V6 => self.v6.first_taker(at, list::point_of(&packet)),
        };
        taker.map(|at| self.list.ids[at as usize])
    }
}

enum State<N> {
    Absent,
    Open(heronshale_sets::cover::Point<N>),
    Covered,
    Undecided,
}

impl<N> State<N> {
    fn is_absent(&self) -> bool {
        matches!(self, Self::Absent)
    }

    /// Nothing of it is visible.
    fn is_hidden(&self) -> bool {
        matches!(self, Self::Absent | Self::Covered)
    }
}

fn state<N: Coordinates>(prover: &mut Prover<'_, N>, at: u32) -> State<N> {
    if prover.subject(at).next().is_none() {
        return State::Absent;
    }
    let covered = if has(Fault::DeadByLaterRules) {
        prover.covered_by_all(at)
    } else {
        prover.covered(at)
    };
    match covered {
        Covered::Undecided => State::Undecided,
        Covered::Open(point) => State::Open(point),
        Covered::ByMany(_) | Covered::InLemma(_) if has(Fault::DeadSingleCoversOnly) => {
            State::Open(
                prover
                    .subject(at)
                    .next()
                    .map(|product| product.low())
                    .unwrap_or_default(),
            )
        }
        Covered::ByOne(_) | Covered::ByMany(_) | Covered::InLemma(_) => State::Covered,
    }
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Gone {
    Changes,
    Nothing,
    NothingByDefault,
    Undecided,
}

fn removal<N: Coordinates>(
    prover: &mut Prover<'_, N>,
    at: u32,
    default: Option<u16>,
    state: &State<N>,
) -> Gone {
    let seen = match state {
        State::Absent | State::Covered => return Gone::Nothing,
        State::Open(point) => Some(*point).filter(|_| !has(Fault::DeadSingleCoversOnly)),
        State::Undecided => return Gone::Undecided,
    };
    match prover.removal(at, default, seen) {
        Removal::Changes(_)
            if has(Fault::DeadIgnoresBetween) && default == Some(prover.decision(at)) =>
        {
            Gone::Nothing
        }
        Removal::Changes(_) => Gone::Changes,
        Removal::Nothing => Gone::Nothing,
        Removal::NothingByDefault => Gone::NothingByDefault,
        Removal::Undecided => Gone::Undecided,
    }
}

fn any_match<N: Coordinates>(prover: &mut Prover<'_, N>, at: u32) -> Covers {
    let rules = prover.covers(at).unwrap_or_default();
    Covers {
        takers: rules.clone(),
        rules,
        cut: false,
    }
}

fn shadow<N: Coordinates>(prover: &mut Prover<'_, N>, at: u32) -> Covers {
    let rules = prover.covers(at).unwrap_or_default();
    let (takers, all) = prover.takers(at, false);
    Covers {
        rules,
        takers,
        cut: !all,
    }
}

/// Who does the same: of the rules that take its packets before it, and those that would take the others, so many that none
/// can be left out; if the default does part of it, those that would take the others.
fn beside<N: Coordinates>(prover: &mut Prover<'_, N>, at: u32, by_default: bool) -> Covers {
    let (takers, all) = prover.takers(at, true);
    if by_default {
        return Covers {
            rules: takers.clone(),
            takers,
            cut: !all,
        };
    }
    let (mut used, whole) = prover.takers(at, false);
    used.extend(&takers);
    Covers {
        rules: prover.needed(at, used),
        takers,
        cut: !all || !whole,
    }
}

/// A packet that is decided otherwise: narrowed to such as a reader would choose, as long as there is one.
fn otherwise<N: Coordinates>(
    prover: &mut Prover<'_, N>,
    at: u32,
    pairs: u32,
    direction: Direction,
    home: &Addresses,
    family: Family,
) -> Result<Option<Packet>, ()> {
    let (all, now) = (Addresses::of_family(family), [today(pairs)]);
    let every = N::spans(all.of(family));
    let services = [(0, u32::MAX)];
    let whole = Product {
        source: &every,
        destination: &every,
        service: &services,
        other: &now,
    };
    let mut found = match prover.taken_otherwise(at, &whole) {
        Differs::No => return Ok(None),
        Differs::Undecided => return Err(()),
        Differs::By(point) => point,
    };
    let spans = |texts: &[&str]| N::spans(list::addresses(texts).of(family));
    let (near, outside, inside) = (
        N::spans(home.of(family)),
        spans(list::OUTSIDE),
        spans(list::INSIDE),
    );
    let client: Vec<(u32, u32)> = (0..pairs).map(list::client_port).collect();
    let mut narrowed = (
        every.clone(),
        every.clone(),
        services.to_vec(),
        now.to_vec(),
    );
    let (near_source, near_destination) = if direction == Direction::In {
        (&every[..], &near[..])
    } else {
        (&near[..], &every[..])
    };
    let with_ports = u32::spans(&heronshale_sets::packet::service::all_with_ports());
    let wish = |source, destination| Product {
        source,
        destination,
        service: &services,
        other: &now,
    };
    let wishes = [
        wish(near_source, near_destination),
        Product {
            service: &with_ports,
            ..whole
        },
        wish(&outside, &every),
        wish(&every, &outside),
        wish(&inside, &every),
        Product {
            other: &client,
            ..whole
        },
    ];
    for Product {
        source,
        destination,
        service,
        other,
    } in wishes
    {
        use heronshale_sets::cover::meet;
        let next = (
            meet(&narrowed.0, source).into_vec(),
            meet(&narrowed.1, destination).into_vec(),
            meet(&narrowed.2, service).into_vec(),
            meet(&narrowed.3, other).into_vec(),
        );
        if next.0.is_empty() || next.1.is_empty() || next.2.is_empty() || next.3.is_empty() {
            continue;
        }
        let within = Product {
            source: &next.0,
            destination: &next.1,
            service: &next.2,
            other: &next.3,
        };
        if let Differs::By(point) = prover.taken_otherwise(at, &within) {
            found = point;
            narrowed = next;
        }
    }
    Ok(Some(packet_of(family, found)))
}

/// Whether nobody means to look at the covers again before the rule itself: who deletes a cover then would end what the rule was for.
pub fn outlive(view: &Fabric<'_>, id: RuleId, covers: &[RuleId]) -> bool {
    let review = |id: &RuleId| view.estate.rule(*id).review_by;
    covers
        .iter()
        .all(|cover| match (review(cover), review(&id)) {
            (None, _) => true,
            (Some(theirs), Some(own)) => theirs >= own,
            (Some(_), None) => false,
        })
}

/// Whether a rule speaks of something whose members change.
fn names_members(rule: &Rule) -> bool {
    let changes = |peer: &Peer| !matches!(peer, Peer::Block(_) | Peer::Any);
    rule.peers
        .iter()
        .flatten()
        .chain(&rule.except)
        .chain(rule.local.iter().flatten())
        .any(changes)
}

/// Whether a rule stays covered whatever the members of groups and sets become: some cover alone takes all that it could
/// ever match, by its written prefixes or by naming the same peers; or no rule names members at all.
fn is_durable(view: &Fabric<'_>, id: RuleId, covers: &[RuleId]) -> bool {
    let rule = view.estate.rule(id);
    if !names_members(rule)
        && covers
            .iter()
            .all(|cover| !names_members(view.estate.rule(*cover)))
    {
        return true;
    }
    covers.iter().any(|cover| {
        let cover = view.estate.rule(*cover);
        let services = heronshale_sets::address::Family::BOTH.iter().all(|family| {
            rule.service_numbers(*family)
                .is_subset(&cover.service_numbers(*family))
        });
        let ports = rule
            .source_port_numbers()
            .is_subset(&cover.source_port_numbers());
        let except = cover.except.iter().all(|peer| rule.except.contains(peer));
        let peers = match (&cover.peers, &rule.peers) {
            (None, _) => true,
            (Some(theirs), _) if theirs.contains(&Peer::Any) => true,
            (Some(theirs), Some(own)) => own.iter().all(|peer| theirs.contains(peer)),
            (Some(_), None) => false,
        };
        services && ports && except && peers && (cover.local.is_none() || cover.local == rule.local)
    })
}
