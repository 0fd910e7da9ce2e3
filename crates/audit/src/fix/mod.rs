//! What is in the way of a connection, all of it, and what would fix it (`docs/semantics.md` 12).
//!
//! After each obstacle the walk goes on as if it were repaired. Every change that is offered was made to the estate in memory
//! and the question asked again; of a fix no part can be left out.

mod judging;

use judging::judged;

mod edit;
mod repairs;
mod routes;
mod tried;

pub use edit::{Edit, EditKind, changed};
pub(crate) use routes::led_to_firewall;
pub use tried::{Kept, Tried, mended};

use heronshale_engine::fabric::Fabric;
use heronshale_engine::path::{Connection, Goal, Question, question};
use heronshale_engine::walk::{Asked, Spot, Start, Step, Tell, Verdict, What, walk};
use heronshale_model::estate::{Firewall, Id};
use heronshale_sets::address::Addresses;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, service};
use num_bigint::BigUint;
use repairs::{Failure, candidates, linked_zones};
use rustc_hash::FxHashSet;
use std::cell::Cell;
use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::net::IpAddr;

/// No fix has more parts.
const MOST_EDITS: usize = 10;
/// No more fixes are offered.
const MOST_FIXES: usize = 4;
/// Fixes with more parts than this beyond the smallest are not offered.
const FEW_MORE: usize = 2;
/// At one obstacle no more changes are tried.
const MOST_TRIED: usize = 14;

/// A connection as it is asked again and again.
#[derive(Clone, Debug)]
pub struct Asking {
    /// What is asked.
    pub connection: Connection,
    /// Of several sources and destinations only these.
    pub only: Option<(IpAddr, IpAddr)>,
}

impl Asking {
    /// The question in an estate; none if it cannot be asked there.
    fn question(&self, view: &Fabric<'_>) -> Option<Question> {
        let mut found = question(view, &self.connection).ok()?;
        let Some((source, destination)) = self.only else {
            return Some(found);
        };
        if let Start::Interfaces(all) = &mut found.asked.start {
            all.retain(|id| view.estate.interfaces[*id].addresses.contains(source));
        }
        let to = Addresses::single(destination);
        let to = if found.destinations.overlaps(&to) {
            to
        } else {
            found.destinations.clone()
        };
        let every = Intervals::span(0, u128::from(u16::MAX));
        let only = PacketSet::fields(&Addresses::single(source), &to, service::all, &every, ());
        found.asked.packets = found.asked.packets.intersection(&only);
        Some(found)
    }
}

/// What would fix it, and what that does besides.
#[derive(Clone, Debug)]
pub struct Fix {
    /// All of these together.
    pub edits: Vec<Edit>,
    /// What becomes of the connection then.
    pub then: Verdict,
    /// What else works then that does not now.
    pub opens: PacketSet,
    /// What works now and does not then.
    pub ends: PacketSet,
    /// Firewalls that the connection was led to, and goes around then.
    pub around: Vec<Id<Firewall>>,
    /// Whether it opens something to the internet beside what was asked about.
    pub public: bool,
    /// What it does to expectations; nothing before [`Fixing::try_on`].
    pub tried: Tried,
}

/// Something in the way.
#[derive(Clone, Debug)]
pub struct Obstacle {
    /// Where and why it ends.
    pub step: Step,
    /// What was changed to go on behind it; none if nothing that could be changed is known.
    pub passed_by: Option<Edit>,
}

/// All that is in the way, and what would fix it.
#[derive(Clone, Debug, Default)]
pub struct Fixing {
    /// In the order in which they are met; a name that does not resolve is not a step.
    pub obstacles: Vec<Obstacle>,
    /// Those that end nothing first, then by what else they open, then by their parts.
    pub fixes: Vec<Fix>,
    /// Those that break an expectation, where nothing is known that could be changed before: they are told, not offered.
    pub refused: Vec<Fix>,
    /// Whether more could be found: the search ended at its limit.
    pub given_up: bool,
    /// Whether what a fix opens and ends was looked for in the whole estate; else between the networks of the two ends.
    pub everywhere: bool,
}

impl Fixing {
    /// Tries each fix against all expectations that are kept: of those that are offered none breaks one.
    pub fn try_on(&mut self, view: &Fabric<'_>, asking: &Asking) {
        if self.fixes.is_empty() || view.stated.expectations.is_empty() {
            return;
        }
        let kept = Kept::of(view);
        let solved = |after: &Fabric<'_>| matches!(find(after, asking), Found::Solved(_));
        for mut fix in std::mem::take(&mut self.fixes) {
            fix.tried = kept.tried(view, &fix.edits, &solved);
            if fix.tried.is_safe() {
                self.fixes.push(fix);
            } else {
                self.refused.push(fix);
            }
        }
        // One that needs nothing before it comes first.
        self.fixes
            .sort_by_key(|fix| (!fix.ends.is_empty(), !fix.tried.breaks.is_empty()));
    }
}

enum Found {
    Solved(Verdict),
    Fails(Box<Failure>),
    Unresolved(Vec<Edit>),
    Stuck,
}

struct Search<'v, 'e> {
    view: &'v Fabric<'e>,
    asking: &'v Asking,
    tried: usize,
    most: usize,
    /// How many tries had walks that were given up.
    given_up: Cell<usize>,
}

/// After so many tries whose walks were given up nothing more is tried: each of them takes as long as a walk may.
const MOST_GIVEN_UP: usize = 4;

/// A set of changes that has been tried, or will be.
#[derive(Clone, Debug)]
struct Node {
    edits: Vec<Edit>,
    /// What each was made for; none for a name that did not resolve.
    met: Vec<(Option<Step>, PacketSet)>,
}

impl<'v, 'e> Search<'v, 'e> {
    fn new(view: &'v Fabric<'e>, asking: &'v Asking) -> Self {
        // Each try takes time that grows with the estate.
        let most = (400_000 / (view.estate.interfaces.len() + 200)).clamp(32, 240);
        Self {
            view,
            asking,
            tried: 0,
            most,
            given_up: Cell::new(0),
        }
    }

    fn on<T>(&self, edits: &[Edit], look: impl FnOnce(&Fabric<'_>) -> T) -> T {
        let estate = changed(self.view.estate, edits);
        let view = self.view.after(&estate);
        let found = look(&view);
        self.given_up
            .set(self.given_up.get() + usize::from(view.gave_up()));
        found
    }

    /// Asks again after changes.
    fn ask(&mut self, edits: &[Edit]) -> Found {
        self.tried += 1;
        self.on(edits, |view| find(view, self.asking))
    }

    fn candidates(&self, edits: &[Edit], failure: &Failure) -> Vec<Edit> {
        let mut found = self.on(edits, |view| candidates(view, failure));
        let mut seen: FxHashSet<String> = edits.iter().map(|edit| edit.text.clone()).collect();
        found.retain(|edit| seen.insert(edit.text.clone()));
        found.truncate(MOST_TRIED);
        found
    }
}

fn find(view: &Fabric<'_>, asking: &Asking) -> Found {
    let Some(asked) = asking.question(view) else {
        return Found::Stuck;
    };
    if asked.missing_zone().is_some() {
        return Found::Stuck;
    }
    if let (Some(found), Goal::Name(_)) = (&asked.resolution, &asking.connection.to)
        && found.addresses.is_empty()
    {
        let network = heronshale_engine::path::asking_network(view, &asked.asked.start);
        let name = found.lookups.last().map_or("", |lookup| &*lookup.name);
        return Found::Unresolved(linked_zones(view, network, name));
    }
    if asked.asked.packets.is_empty() {
        return Found::Stuck;
    }
    let answered = heronshale_engine::path::answered(view, &asked, Tell::Steps);
    if asked.entrances.0.len() > 1
        && matches!(
            answered.summary.verdict,
            Verdict::Works | Verdict::Conditional
        )
    {
        return Found::Solved(answered.summary.verdict);
    }
    let fails = |verdict| {
        matches!(
            verdict,
            Verdict::Denied
                | Verdict::Lost
                | Verdict::ReplyDenied
                | Verdict::ReplyLost
                | Verdict::WorksForSome
        )
    };
    let failing = answered
        .parts
        .iter()
        .filter(|part| fails(part.judged.verdict));
    // Of a service the entrance that is tried first.
    let rank = |part: &&heronshale_engine::walk::Part| {
        let to = part.packets.destinations();
        let at = asked
            .entrances
            .0
            .iter()
            .position(|entrance| entrance.addresses.overlaps(&to));
        (at, part.packets.lowest())
    };
    match failing.min_by_key(rank) {
        Some(part) => {
            let trail = part
                .judged
                .some
                .as_ref()
                .map_or(part.judged.trail, |(_, trail)| *trail);
            let steps = answered.labels.steps(trail).into_iter().cloned().collect();
            let mut failure = Failure::new(&part.packets, steps);
            if let Goal::Name(name) = &asking.connection.to {
                // A name may be led to a private address before a public door is opened.
                failure.by_name = linked_zones(
                    view,
                    heronshale_engine::path::asking_network(view, &asked.asked.start),
                    name,
                );
            }
            Found::Fails(Box::new(failure))
        }
        None if answered
            .parts
            .iter()
            .any(|part| part.judged.verdict.is_open()) =>
        {
            Found::Stuck
        }
        None => Found::Solved(answered.summary.verdict),
    }
}

/// What is in the way, and what would fix it.
pub fn fixing(view: &Fabric<'_>, asking: &Asking) -> Fixing {
    let mut search = Search::new(view, asking);
    let (mut result, solved) = searched(&mut search, MOST_FIXES);
    judged(&search, &mut result, solved);
    result
}

/// Sets of changes that fix it, the likeliest first; nothing is known of what they do besides.
fn ways_to_fix(view: &Fabric<'_>, asking: &Asking) -> Vec<Vec<Edit>> {
    let (_, solved) = searched(&mut Search::new(view, asking), FEW_MORE);
    solved.into_iter().map(|(edits, _)| edits).collect()
}

/// Goes from one obstacle to the next, the likeliest changes first.
fn searched(search: &mut Search<'_, '_>, wanted: usize) -> (Fixing, Vec<(Vec<Edit>, Verdict)>) {
    let mut queue: BinaryHeap<(Reverse<usize>, usize, Reverse<usize>)> = BinaryHeap::new();
    let mut nodes = vec![Node {
        edits: Vec::new(),
        met: Vec::new(),
    }];
    let mut known: FxHashSet<Vec<String>> = FxHashSet::default();
    queue.push((Reverse(0), 0, Reverse(0)));
    let mut result = Fixing::default();
    let mut solved: Vec<(Vec<Edit>, Verdict)> = Vec::new();
    let mut deepest: Vec<Obstacle> = Vec::new();
    let mut fewest: Option<usize> = None;
    while let Some((Reverse(cost), _, Reverse(at))) = queue.pop() {
        if search.tried >= search.most || search.given_up.get() >= MOST_GIVEN_UP {
            result.given_up = true;
            break;
        }
        let Node { edits, met } = nodes[at].clone();
        let (step, packets, next) = match search.ask(&edits) {
            Found::Stuck => continue,
            Found::Solved(then) => {
                let (kept, then) = needed(search, edits.clone(), then);
                let is_new = !solved.iter().any(|(other, _)| alike(other) == alike(&kept));
                // What one change does away with is one obstacle: the way with the fewest tells what is in the way.
                if fewest.is_none_or(|fewest| kept.len() < fewest) {
                    fewest = Some(kept.len());
                    result.obstacles = obstacles(&met, &edits, &kept);
                }
                if is_new && !kept.is_empty() {
                    solved.push((kept, then));
                }
                if solved.len() >= wanted {
                    break;
                }
                continue;
            }
            Found::Unresolved(zones) => (None, PacketSet::empty(), zones),
            Found::Fails(failure) => {
                let mut next = failure.by_name.clone();
                next.extend(search.candidates(&edits, &failure));
                (failure.steps.last().cloned(), failure.packets, next)
            }
        };
        // A change that did nothing leads nowhere.
        if met
            .iter()
            .any(|(before, of)| *before == step && *of == packets)
        {
            continue;
        }
        if met.len() >= deepest.len() {
            let mut all = obstacles(&met, &edits, &edits);
            all.extend(step.clone().map(|step| Obstacle {
                step,
                passed_by: None,
            }));
            if all.len() > deepest.len() {
                deepest = all;
            }
        }
        if edits.len() >= MOST_EDITS {
            result.given_up = true;
            continue;
        }
        for (place, edit) in next.into_iter().enumerate() {
            let mut edits = edits.clone();
            edits.push(edit);
            if !known.insert(texts_of(&edits)) {
                continue;
            }
            let mut met = met.clone();
            met.push((step.clone(), packets.clone()));
            let depth = edits.len();
            nodes.push(Node { edits, met });
            queue.push((Reverse(cost + place), depth, Reverse(nodes.len() - 1)));
        }
    }
    if result.obstacles.is_empty() {
        result.obstacles = deepest;
    }
    (result, solved)
}

fn texts_of(edits: &[Edit]) -> Vec<String> {
    let mut texts: Vec<String> = edits.iter().map(|edit| edit.text.clone()).collect();
    texts.sort_unstable();
    texts
}

fn alike(edits: &[Edit]) -> Vec<String> {
    let mut texts: Vec<String> = edits.iter().map(Edit::likeness).collect();
    texts.sort_unstable();
    texts
}

/// The obstacles of a way that were really in it: those whose change is needed, and the first.
fn obstacles(met: &[(Option<Step>, PacketSet)], edits: &[Edit], needed: &[Edit]) -> Vec<Obstacle> {
    let is_needed = |edit: &Edit| needed.iter().any(|other| other.text == edit.text);
    let pairs = met
        .iter()
        .zip(edits)
        .enumerate()
        .filter(|(at, (_, edit))| *at == 0 || is_needed(edit));
    let mut found: Vec<Obstacle> = Vec::new();
    for (_, ((step, _), edit)) in pairs {
        let Some(step) = step else { continue };
        if !found.iter().any(|known| known.step == *step) {
            found.push(Obstacle {
                step: step.clone(),
                passed_by: Some(edit.clone()),
            });
        }
    }
    found
}

/// Leaves out what is not needed; what becomes of the connection with the rest.
fn needed(
    search: &mut Search<'_, '_>,
    mut edits: Vec<Edit>,
    mut then: Verdict,
) -> (Vec<Edit>, Verdict) {
    let mut at = 0;
    while at < edits.len() && edits.len() > 1 {
        let mut fewer = edits.clone();
        fewer.remove(at);
        if let Found::Solved(verdict) = search.ask(&fewer) {
            // What was needed before may not be now.
            (edits, then, at) = (fewer, verdict, 0);
        } else {
            at += 1;
        }
    }
    (edits, then)
}
