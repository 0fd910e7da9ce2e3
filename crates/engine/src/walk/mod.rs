//! One connection there and back: sets of packets carried from a start through stages, routes and devices to their ends,
//! and their replies home again (`docs/semantics.md` 8).
//!
//! The walk is a recursion over *legs*. On one leg the header of a packet stays as it is; where a device changes it, a new
//! leg begins, and what becomes of the new header is computed first. A reply that gets back to the device that began the
//! leg is a leaf with [`Back`]; the leg before goes on from there. All sets are sets of *requests* as they look on their
//! leg: the reply is their mirror image, so it is judged by mirrored stages and never built.
//!
//! What becomes of packets is a *label*: a tree of leaves under the choices of nature, conditions that no snapshot holds, and
//! doubts where the snapshot lacks something. [`Labels::judge`] reads it as one verdict.
//!
//! Invariants: a map that comes back is total on the set that was asked; a leg deeper than [`DEEPEST`] is a loop; nothing is
//! lost or denied because of what the snapshot declares as missing.

mod context;

use context::{Ctx, Leg, Met, NotKept, Origin, Visit};

pub mod alike;
mod arrive;
mod device;
mod direct;
mod edge;
mod firewall;
mod judging;
mod label;
mod many;
mod stages;
mod step;
mod way;

pub use crate::policy::Condition;
pub use direct::Direct;
pub use firewall::Entry;
pub use label::{Back, Choice, Judged, Label, Labels, Leaf, Tree, Verdict};
pub use step::{Spot, Step, What, Why};

use crate::fabric::Fabric;
use crate::faults::{Fault, has};
use crate::judgement::{StageKind, State};
use crate::route::{Candidates, RoutePlace};
use heronshale_model::estate::{
    Balancer, Firewall, Gateway, Id, Interface, Name, Network, Site, Subnet,
};
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketMap, PacketSet, Rewrite, effort};
use rustc_hash::{FxHashMap, FxHashSet};
use std::rc::Rc;
use std::sync::Arc;

/// Legs of one connection; more are a loop.
pub const DEEPEST: u32 = 12;

/// Steps of one walk in an estate of few things. Past them what is left is undecided.
pub const MOST_STEPS: u64 = 50_000;

/// Steps more for each pair of things: sweeps of an ordinary estate need about one for each pair.
const STEPS_FOR_EACH_PAIR: u64 = 4;

/// So many slices of packet sets count as a step.
const SLICES_FOR_A_STEP: u64 = 32;

/// Where packets start.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Start {
    /// At interfaces, each with packets from its own addresses.
    Interfaces(Vec<Id<Interface>>),
    /// Somewhere on the internet.
    Internet,
    /// At a site.
    Site(Id<Site>),
}

/// A question: packets, where they start, and by which name their destination was asked.
#[derive(Clone, Debug)]
pub struct Asked {
    /// Where they start.
    pub start: Start,
    /// The packets as they are sent. Source ports are all that nature may choose.
    pub packets: PacketSet,
    /// The name that was asked; none for an address.
    pub name: Option<Name>,
    /// Addresses among which nature chooses the destination, as those of a name; empty: the packets say it.
    pub any_of: Vec<std::net::IpAddr>,
}

/// What becomes of packets, each in one part.
#[derive(Clone, Debug)]
pub struct Part {
    /// The packets.
    pub packets: PacketSet,
    /// What becomes of them.
    pub label: Label,
    /// The same as one verdict.
    pub judged: Judged,
}

/// All that was asked, by verdict and by what decided it.
pub struct Answered {
    /// Disjoint, and together all that was asked; in the order of their lowest packets.
    pub parts: Vec<Part>,
    /// What the labels mean.
    pub labels: Labels,
    /// The whole as one verdict (`docs/semantics.md` 8).
    pub summary: Judged,
}

/// How much of a walk is told.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tell {
    /// Only the verdicts: for any number of packets.
    Verdicts,
    /// The verdicts; by which firewalls, which firewall ends it, and who is reached by an address that is not its own: for any
    /// number of packets.
    Ends,
    /// The verdicts; who judges there and back, and what the receiver sees: for any number of packets.
    Outcomes,
    /// What decided each: for some interfaces on either side.
    Deciders,
    /// Every step: for few packets.
    Steps,
}

/// Walks what was asked.
pub fn walk(view: &Fabric<'_>, asked: &Asked, tell: Tell) -> Answered {
    // Of those that are alike one is asked, where no steps are told.
    let smaller = if tell == Tell::Verdicts {
        alike::smaller(view, asked)
    } else {
        None
    };
    let Some(smaller) = smaller else {
        return walk_all(view, asked, tell, Addresses::empty());
    };
    let mut answered = walk_all(view, &smaller.asked, tell, smaller.left_out.clone());
    for part in &mut answered.parts {
        part.packets = smaller.spread(&part.packets);
    }
    answered
}

/// Walks it and tells ends, where of some interfaces others stand for all that could come up.
pub fn walk_ends(view: &Fabric<'_>, asked: &Asked, left_out: Addresses) -> Answered {
    walk_all(view, asked, Tell::Ends, left_out)
}

/// Walks it and tells outcomes. Parts of one verdict may be several, by their labels.
pub fn walk_outcomes(view: &Fabric<'_>, asked: &Asked) -> Answered {
    walk_all(view, asked, Tell::Outcomes, Addresses::empty())
}

/// Walks it without looking for those that are alike. `left_out`: addresses of which no packet can come up.
fn walk_all(view: &Fabric<'_>, asked: &Asked, tell: Tell, left_out: Addresses) -> Answered {
    let mut walk = Walk::new(view, tell, asked.name.as_ref());
    walk.left_out = left_out;
    let map = walk.connection(asked);
    let folded = map.fold_source_ports(&mut |labels| {
        walk.labels.choose(
            labels
                .iter()
                .map(|(ports, label)| (Choice::ClientPorts(ports.clone()), *label))
                .collect(),
        )
    });
    let mut map = folded.restrict(&asked.packets);
    for family in Family::BOTH {
        let all: Vec<_> = asked
            .any_of
            .iter()
            .filter(|address| Family::of(**address) == family)
            .collect();
        if all.len() > 1 {
            let choices = all.iter().enumerate().map(|(at, address)| {
                let change = heronshale_sets::packet::Rewrite {
                    destination: Some(**address),
                    ..Default::default()
                };
                (
                    Choice::Resolved(at),
                    map.before(&change)
                        .restrict(&asked.packets)
                        .restrict(&of_family(family)),
                )
            });
            let chosen = walk.chosen(choices.collect());
            map = chosen.overlay(&map);
        }
    }
    let mut parts: Vec<Part> = Vec::new();
    for (label, packets) in map.regions() {
        let judged = walk.labels.judge(label);
        if judged.verdict == Verdict::Undecided {
            view.give_up();
        }
        let by_label = matches!(tell, Tell::Ends | Tell::Outcomes);
        let alike = |part: &&mut Part| !by_label && part.judged == judged;
        match parts.iter_mut().find(alike) {
            Some(part) => part.packets = part.packets.union(&packets),
            None => parts.push(Part {
                packets,
                label,
                judged,
            }),
        }
    }
    let summary = walk.labels.summary(&parts);
    Answered {
        parts,
        labels: walk.labels,
        summary,
    }
}

type Map = PacketMap<Label>;

struct Walk<'v, 'e> {
    view: &'v Fabric<'e>,
    labels: Labels,
    detail: bool,
    /// Whether no deciders are told, so that many interfaces are taken together.
    coarse: bool,
    /// Whether ends are told, and the addresses that several interfaces hold: those say nothing about who is reached.
    ends: Option<Addresses>,
    /// Whether some route is limited to tags, so that each interface is routed on its own.
    tagged_routes: bool,
    crowds:
        FxHashMap<(Id<Network>, heronshale_model::estate::Direction, Intervals), Rc<many::Crowd>>,
    /// By the place of the translation in memory: those that a change adds have no place of their own in a file.
    translated: FxHashMap<*const heronshale_model::estate::Translation, Rc<firewall::Translated>>,
    /// Steps that are left before the walk is given up.
    left: u64,
    /// The effort of packet sets when it was last looked at.
    effort: u64,
    /// Addresses of which no packet can come up: of interfaces for which others stand.
    left_out: Addresses,
}

impl<'v, 'e> Walk<'v, 'e> {
    fn new(view: &'v Fabric<'e>, tell: Tell, name: Option<&Name>) -> Self {
        let meant = label::meant_names(view, name);
        let tables = view.estate.route_tables.items();
        Self {
            view,
            labels: Labels::new(tell, meant),
            detail: tell == Tell::Steps,
            coarse: matches!(tell, Tell::Verdicts | Tell::Ends | Tell::Outcomes),
            ends: matches!(tell, Tell::Ends | Tell::Outcomes)
                .then(|| view.held_by_several().clone()),
            tagged_routes: tables.iter().any(|table| {
                table
                    .routes
                    .iter()
                    .any(|route| !route.only_tagged.is_empty())
            }),
            crowds: FxHashMap::default(),
            translated: FxHashMap::default(),
            left: most_steps(view),
            effort: effort(),
            left_out: Addresses::empty(),
        }
    }

    /// What is said of packets if the walk has taken more steps than it may. Labels count as well, since few steps can make many, and
    /// so does the effort of packet sets.
    fn given_up(&mut self, ctx: &Ctx, set: &PacketSet) -> Option<Map> {
        if self.may_go_on() || set.is_empty() {
            return None;
        }
        self.view.give_up();
        let spot = match &ctx.leg.start {
            Start::Interfaces(all) => all
                .first()
                .map_or(Spot::Internet, |first| Spot::Interface(*first)),
            Start::Internet => Spot::Internet,
            Start::Site(site) => Spot::Site(*site),
        };
        Some(self.ended(
            ctx,
            Verdict::Undecided,
            Step::lost(ctx.reply, spot, Why::TooManySteps),
            set,
        ))
    }

    /// Takes a step, with all that was done since the last one: whether the limit allows it.
    fn may_go_on(&mut self) -> bool {
        let now = effort();
        let slices = now - std::mem::replace(&mut self.effort, now);
        let steps = 1 + self.labels.made() + slices / SLICES_FOR_A_STEP;
        self.left = self.left.saturating_sub(steps);
        self.left > 0
    }

    /// A whole connection of its own; source ports are not folded yet.
    fn connection(&mut self, asked: &Asked) -> Map {
        let leg = Leg {
            origin: Origin::Start,
            start: asked.start.clone(),
            depth: 0,
            source_changed: false,
            destination_changed: false,
            name: asked.name.clone(),
            begun: None,
            before: None,
        };
        self.connection_on(leg, 0, &asked.packets)
    }

    fn connection_on(&mut self, leg: Leg, trail: u32, packets: &PacketSet) -> Map {
        let start = leg.start.clone();
        let ctx = Ctx {
            reply: false,
            leg: Rc::new(leg),
            path: None,
            trail,
            by_site_gateway: None,
            bypassed: None,
            free_of: None,
        };
        let map = match &start {
            Start::Interfaces(interfaces) => self.start_at(&ctx, interfaces, packets),
            Start::Internet => self.on_internet(&ctx, packets.clone()),
            Start::Site(site) => self.leave_site(&ctx, *site, packets.clone()),
        };
        // A reply that is back has been everywhere.
        let labels = &mut self.labels;
        let mut known = FxHashMap::default();
        map.relabel(|label| Some(labels.with_leaves(label, ended, &mut known)))
    }

    /// Goes on for the packets whose label has a leaf of this kind, and puts what becomes of them in its place.
    fn resume(
        &mut self,
        map: Map,
        wanted: fn(&Leaf) -> bool,
        mut on: impl FnMut(&mut Self, &Leaf, &PacketSet) -> Map,
    ) -> Map {
        let mut present: Vec<Label> = Vec::new();
        map.relabel(|label| {
            if !present.contains(&label) {
                present.push(label);
            }
            Some(())
        });
        let mut ends: Vec<Label> = Vec::new();
        for label in &present {
            for leaf in self.labels.leaves(*label) {
                if self.labels.leaf_of(leaf).is_some_and(wanted) && !ends.contains(&leaf) {
                    ends.push(leaf);
                }
            }
        }
        let mut result = map;
        for (at, end) in ends.iter().copied().enumerate() {
            if !self.may_go_on() {
                // Whatever has one of the ends that are left is undecided.
                self.view.give_up();
                let trail = self
                    .labels
                    .push(0, Step::lost(false, Spot::Internet, Why::TooManySteps));
                let undecided = self.labels.leaf(Verdict::Undecided, trail);
                let left: FxHashSet<Label> = ends[at..].iter().copied().collect();
                let labels = &mut self.labels;
                let mut known: FxHashMap<Label, bool> = FxHashMap::default();
                return result.relabel(|label| {
                    let open = *known.entry(label).or_insert_with(|| {
                        labels.leaves(label).iter().any(|leaf| left.contains(leaf))
                    });
                    Some(if open { undecided } else { label })
                });
            }
            let Some(leaf) = self.labels.leaf_of(end).cloned() else {
                continue;
            };
            let holds = |walk: &mut Self, label: Label| walk.labels.leaves(label).contains(&end);
            let region = result.select(|label| holds(self, label));
            let after = on(self, &leaf, &region);
            let labels = &mut self.labels;
            let replaced =
                result.combine(&after, |label, new| Some(labels.replaced(label, end, new)));
            result = replaced.overlay(&result);
        }
        result
    }

    fn ended(&mut self, ctx: &Ctx, verdict: Verdict, step: Step, set: &PacketSet) -> Map {
        let trail = self.labels.push(ctx.trail, step);
        let label = self.labels.leaf(verdict, trail);
        set.relabel(|()| Some(label))
    }

    fn lost(&mut self, ctx: &Ctx, at: Spot, why: Why, set: &PacketSet) -> Map {
        let verdict = if ctx.reply {
            Verdict::ReplyLost
        } else {
            Verdict::Lost
        };
        self.ended(ctx, verdict, Step::lost(ctx.reply, at, why), set)
    }

    fn denied(&mut self, ctx: &Ctx, step: Step, set: &PacketSet) -> Map {
        let verdict = if ctx.reply {
            Verdict::ReplyDenied
        } else {
            Verdict::Denied
        };
        self.ended(ctx, verdict, step, set)
    }

    fn unknown(&mut self, ctx: &Ctx, at: Spot, why: Why, set: &PacketSet) -> Map {
        self.ended(ctx, Verdict::Unknown, Step::lost(ctx.reply, at, why), set)
    }

    /// The reply is back at what began the leg.
    fn back(&mut self, ctx: &Ctx, via: Option<Id<Interface>>, set: &PacketSet) -> Map {
        self.back_by(ctx, via.map(Entry::Leg), set)
    }

    fn back_by(&mut self, ctx: &Ctx, via: Option<Entry>, set: &PacketSet) -> Map {
        let bypassed = ctx
            .bypassed
            .or_else(|| ctx.bypassed_here())
            .filter(|_| !has(Fault::WalkBypassIgnored));
        let leaf = Leaf {
            verdict: Verdict::Works,
            trail: ctx.trail,
            back: Some(Back { via, bypassed }),
        };
        let label = self.labels.add_leaf(leaf);
        set.relabel(|()| Some(label))
    }

    fn told(&mut self, ctx: &Ctx, step: Step) -> Ctx {
        let telling = self.detail || (self.ends.is_some() && !matches!(step.what, What::Arrived));
        if telling {
            Ctx {
                trail: self.labels.push(ctx.trail, step),
                ..ctx.clone()
            }
        } else {
            ctx.clone()
        }
    }

    /// A request is at its end. Ends that the asked address says already are told only where every step is.
    fn arrived(&mut self, ctx: &Ctx, at: Spot) -> Ctx {
        let step = Step::new(false, at, What::Arrived);
        let told = self.detail || self.ends.as_ref().is_some_and(|several| {
            ctx.leg.destination_changed
                || !matches!(at, Spot::Interface(id) if !self.view.estate.interfaces[id].addresses.overlaps(several))
        });
        if told {
            Ctx {
                trail: self.labels.push(ctx.trail, step),
                ..ctx.clone()
            }
        } else {
            ctx.clone()
        }
    }

    /// Whether it has to be told at which of its interfaces a packet arrives.
    fn names_its_end(&self, ctx: &Ctx, interface: Id<Interface>) -> bool {
        self.ends.as_ref().is_some_and(|several| {
            ctx.leg.destination_changed
                || self.view.estate.interfaces[interface]
                    .addresses
                    .overlaps(several)
        })
    }

    /// The steps that a reply goes on with.
    fn kept(&self, trail: u32) -> u32 {
        if self.detail || self.ends.is_some() {
            trail
        } else {
            0
        }
    }

    fn candidates_at(&self, place: RoutePlace<'e>) -> Arc<Candidates> {
        let place = if self.tagged_routes {
            place
        } else {
            RoutePlace {
                sender: None,
                ..place
            }
        };
        self.view.candidates(place)
    }

    /// The addresses to which packets go, on the way there or back.
    fn to(ctx: &Ctx, set: &PacketSet) -> Addresses {
        if ctx.reply {
            set.sources()
        } else {
            set.destinations()
        }
    }

    /// The packets that go to these addresses, on the way there or back.
    fn going_to(ctx: &Ctx, set: &PacketSet, addresses: &Addresses) -> PacketSet {
        if ctx.reply {
            set.between(Some(addresses), None)
        } else {
            set.between(None, Some(addresses))
        }
    }

    /// The packets that come from these addresses, on the way there or back.
    fn coming_from(ctx: &Ctx, set: &PacketSet, addresses: &Addresses) -> PacketSet {
        if ctx.reply {
            set.between(None, Some(addresses))
        } else {
            set.between(Some(addresses), None)
        }
    }
}

/// What becomes of a reply that is back: it has been everywhere.
fn ended(labels: &mut Labels, leaf: Leaf) -> Label {
    match leaf.back {
        None => labels.add_leaf(leaf),
        Some(Back { bypassed: None, .. }) => labels.leaf(Verdict::Works, leaf.trail),
        Some(Back {
            bypassed: Some(firewall),
            ..
        }) => {
            let step = Step::lost(true, Spot::Firewall(firewall), Why::Bypassed);
            let trail = labels.push(leaf.trail, step);
            labels.leaf(Verdict::ReplyLost, trail)
        }
    }
}

/// The declared limit of a walk.
fn most_steps(view: &Fabric<'_>) -> u64 {
    let estate = view.estate;
    let things = estate.interfaces.len()
        + estate.balancers.len()
        + estate.firewalls.len()
        + estate.route_tables.len();
    let things = u64::try_from(things).unwrap_or(u64::MAX);
    MOST_STEPS.saturating_add(
        things
            .saturating_mul(things)
            .saturating_mul(STEPS_FOR_EACH_PAIR),
    )
}

fn boxed(sources: &Addresses, destinations: &Addresses) -> PacketSet {
    let every = Intervals::span(0, u128::from(u16::MAX));
    PacketSet::fields(
        sources,
        destinations,
        heronshale_sets::packet::service::all,
        &every,
        (),
    )
}

fn of_family(family: Family) -> PacketSet {
    let all = Addresses::of_family(family);
    boxed(&all, &all)
}
