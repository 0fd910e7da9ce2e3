//! Crossing the stages of an interface and the ACL of a subnet, with the state that the request left there.

use super::label::Verdict;
use super::step::{Spot, Step, What};
use super::{Ctx, Label, Map, Met, NotKept, Start, Visit, Walk};
use crate::doubt::{Doubt, Whose};
use crate::faults::{Fault, has};
use crate::judgement::{Judgement, Outcome, State};
use crate::stage::{Chain, Completed, Stage, Way, completed};
use heronshale_model::estate::{Direction, Id, Interface, Subnet};
use heronshale_sets::packet::PacketSet;
use std::sync::Arc;

/// What a side does with some packets.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) enum Pass {
    /// They go on; these stages keep no state for certain.
    On(NotKept, u32),
    /// They end.
    Stopped(Label),
    /// It turns on a doubt; with the steps up to it.
    Turns(Box<(Doubt, u32, Pass, Pass)>),
}

impl Walk<'_, '_> {
    /// The class of an interface: those of one class have the same stages.
    pub(super) fn class(&self, interface: Id<Interface>) -> u32 {
        self.view.class_numbers()[interface.index()]
    }

    /// The stages for which the request left no certain state; none: it did not come by here.
    pub(super) fn state_of(ctx: &Ctx, interface: Id<Interface>) -> Option<NotKept> {
        // A reply that is handed to one of several starts to be passed on is of a connection that another of them began.
        let handed = || {
            ctx.path()
                .any(|node| node.reply && node.met == Met::Routed(Visit::Handed(interface)))
        };
        let starts_here = || {
            matches!(&ctx.leg.start, Start::Interfaces(all) if all.contains(&interface))
                && !handed()
        };
        let mut found: Option<NotKept> = None;
        for node in ctx.path().filter(|node| !node.reply) {
            let here = match &node.met {
                Met::Crossed(other, not_kept) if *other == interface => not_kept.clone(),
                Met::StartsCrossed if starts_here() => NotKept::new(),
                _ => continue,
            };
            found = Some(match found {
                None => here,
                Some(known) => known
                    .into_iter()
                    .filter(|one| here.iter().any(|other| other.0 == one.0))
                    .collect(),
            });
        }
        found
    }

    /// What the stages of an interface, its subnet's ACL left out, do with packets.
    pub(super) fn side(
        &mut self,
        ctx: &Ctx,
        interface: Id<Interface>,
        direction: Direction,
        set: &PacketSet,
    ) -> Vec<(Pass, PacketSet)> {
        let mut known = if ctx.reply {
            Self::state_of(ctx, interface)
        } else {
            None
        };
        if ctx.reply && has(Fault::WalkKnownEverywhere) {
            known = Some(Vec::new());
        }
        if has(Fault::WalkKnownNowhere) {
            known = None;
        }
        self.side_with(ctx, interface, direction, set, known)
    }

    /// The same, with the state that is known to be there.
    pub(super) fn side_with(
        &mut self,
        ctx: &Ctx,
        interface: Id<Interface>,
        direction: Direction,
        set: &PacketSet,
        known: Option<NotKept>,
    ) -> Vec<(Pass, PacketSet)> {
        let spot = Spot::Interface(interface);
        if set.is_empty() {
            return Vec::new();
        }
        if known.as_ref().is_some_and(Vec::is_empty) {
            let ctx = self.told(ctx, Step::new(ctx.reply, spot, What::Known(direction)));
            return vec![(Pass::On(Vec::new(), ctx.trail), set.clone())];
        }
        let chain = self.view.chain(interface, direction, ctx.reply);
        let chain = match &known {
            None => chain,
            Some(not_kept) => Arc::new(left_to_match(&chain, not_kept)),
        };
        let mut found: Vec<(Pass, PacketSet)> = Vec::new();
        let ways = chain.ways(set);
        for (way, region) in ways.regions() {
            let certain = way.refuses()
                || way
                    .judgements
                    .iter()
                    .all(|judgement| judgement.is_certain());
            if certain {
                found.push((
                    self.pass_of(
                        ctx,
                        &Side {
                            spot,
                            chain: &chain,
                        },
                        way,
                    ),
                    region,
                ));
                continue;
            }
            for (completed, part) in
                completed(&chain, Whose::Interface(interface), ctx.reply, way, &region)
            {
                found.push((
                    self.pass_by(
                        ctx,
                        &Side {
                            spot,
                            chain: &chain,
                        },
                        &completed,
                    ),
                    part,
                ));
            }
        }
        merged(found)
    }

    /// What becomes of packets at a side, for each answer to what is in doubt there.
    fn pass_by(&mut self, ctx: &Ctx, side: &Side<'_>, completed: &Completed) -> Pass {
        match completed {
            Completed::Way(way) => self.pass_of(ctx, side, way),
            Completed::Turn(turn) => {
                let (doubt, met, yes, no) = &**turn;
                let mut trail = ctx.trail;
                let steps = side.steps(ctx, met);
                let from = if self.detail {
                    0
                } else {
                    steps.len().saturating_sub(1)
                };
                for step in &steps[from..] {
                    trail = self.labels.push(trail, step.clone());
                }
                let [yes, no] = [yes, no].map(|one| self.pass_by(ctx, side, one));
                if yes == no {
                    yes
                } else {
                    Pass::Turns(Box::new((doubt.clone(), trail, yes, no)))
                }
            }
        }
    }

    fn pass_of(&mut self, ctx: &Ctx, side: &Side<'_>, way: &Way) -> Pass {
        let refused = if ctx.reply {
            Verdict::ReplyDenied
        } else {
            Verdict::Denied
        };
        let mut trail = ctx.trail;
        let mut not_kept = NotKept::new();
        let steps = side.steps(ctx, way);
        for ((stage, judgement), step) in side.chain.stages.iter().zip(&way.judgements).zip(steps) {
            if judgement.outcome.refuses() {
                let trail = self.labels.push(trail, step);
                return Pass::Stopped(self.labels.leaf(refused, trail));
            }
            if judgement.state != State::Kept {
                not_kept.push((stage.kind, judgement.state));
            }
            if self.detail {
                trail = self.labels.push(trail, step);
            }
        }
        if side.chain.stages.is_empty() && self.detail {
            let step = What::Known(side.chain.direction);
            trail = self
                .labels
                .push(trail, Step::new(ctx.reply, side.spot, step));
        }
        Pass::On(not_kept, trail)
    }

    /// What a subnet's ACL does with packets that leave or enter it.
    pub(super) fn acl(
        &mut self,
        ctx: &Ctx,
        subnet: Id<Subnet>,
        direction: Direction,
        set: &PacketSet,
    ) -> Vec<(Pass, PacketSet)> {
        if set.is_empty() {
            return Vec::new();
        }
        let mut open = set.clone();
        let mut found: Vec<(Pass, PacketSet)> = Vec::new();
        if !ctx.reply && direction == Direction::Out && !self.view.platform_traffic().is_empty() {
            let exempt = open.intersection(self.view.platform_traffic());
            if !exempt.is_empty() {
                open = open.difference(&exempt);
                found.push((Pass::On(Vec::new(), ctx.trail), exempt));
            }
        }
        let dropped = (ctx.reply && has(Fault::WalkReplySkipsAcl))
            || (direction == Direction::Out && has(Fault::WalkLeavesWithoutAcl))
            || (direction == Direction::In && has(Fault::WalkEntersWithoutAcl));
        let acl = self.view.acl(subnet, direction, ctx.reply);
        let Some(chain) = acl.as_ref().as_ref().filter(|_| !dropped) else {
            if !open.is_empty() {
                found.push((Pass::On(Vec::new(), ctx.trail), open));
            }
            return merged(found);
        };
        // An ACL keeps no state, so none of it is left at an interface.
        let side = Side {
            spot: Spot::Subnet(subnet),
            chain,
        };
        for (way, region) in chain.ways(&open).regions() {
            for (completed, part) in
                completed(chain, Whose::Subnet(subnet), ctx.reply, way, &region)
            {
                found.push((self.pass_by(ctx, &side, &completed).stateless(), part));
            }
        }
        merged(found)
    }

    /// Goes on with all that passes, and joins what becomes of it with what ended.
    pub(super) fn each(
        &mut self,
        ctx: &Ctx,
        passes: Vec<(Pass, PacketSet)>,
        mut go: impl FnMut(&mut Self, &Ctx, PacketSet, &NotKept) -> Map,
    ) -> Map {
        let mut maps = Vec::with_capacity(passes.len());
        for (pass, set) in passes {
            let mut known = Vec::new();
            maps.push(self.one(ctx, &pass, &set, &mut known, &mut go));
        }
        Map::overlay_all(maps)
    }

    /// The same for packets that fare alike. What goes on alike goes on once.
    fn one(
        &mut self,
        ctx: &Ctx,
        pass: &Pass,
        set: &PacketSet,
        known: &mut Vec<(Pass, Map)>,
        go: &mut impl FnMut(&mut Self, &Ctx, PacketSet, &NotKept) -> Map,
    ) -> Map {
        // Where only ends are told, stages add no step, and what is known of them may come from elsewhere.
        let here = |walk: &Self, trail| {
            if walk.ends.is_some() {
                ctx.trail
            } else {
                trail
            }
        };
        match pass {
            Pass::On(not_kept, trail) => {
                if let Some((_, map)) = known.iter().find(|(other, _)| other == pass) {
                    return map.clone();
                }
                let trail = here(self, *trail);
                let map = go(
                    self,
                    &Ctx {
                        trail,
                        ..ctx.clone()
                    },
                    set.clone(),
                    not_kept,
                );
                known.push((pass.clone(), map.clone()));
                map
            }
            Pass::Stopped(label) => set.relabel(|()| Some(*label)),
            Pass::Turns(turn) => {
                let (doubt, trail, yes, no) = &**turn;
                let (yes, no) = (
                    self.one(ctx, yes, set, known, go),
                    self.one(ctx, no, set, known, go),
                );
                let trail = here(self, *trail);
                self.turns_on(doubt, trail, &yes, &no)
            }
        }
    }

    /// What becomes of packets, by the answer to a doubt.
    pub(super) fn turns_on(&mut self, doubt: &Doubt, trail: u32, yes: &Map, no: &Map) -> Map {
        let labels = &mut self.labels;
        yes.combine(no, |yes, no| Some(labels.doubt(doubt, yes, no, trail)))
    }

    /// Leaves a subnet by its ACL, or goes on if there is none to leave.
    pub(super) fn over_acl(
        &mut self,
        ctx: &Ctx,
        subnet: Option<Id<Subnet>>,
        direction: Direction,
        set: PacketSet,
        mut go: impl FnMut(&mut Self, &Ctx, PacketSet) -> Map,
    ) -> Map {
        let Some(subnet) = subnet else {
            return go(self, ctx, set);
        };
        let passes = self.acl(ctx, subnet, direction, &set);
        self.each(ctx, passes, |walk, ctx, set, _| go(walk, ctx, set))
    }
}

/// The stages of a side, and where they stand.
struct Side<'c> {
    spot: Spot,
    chain: &'c Chain,
}

impl Side<'_> {
    /// The steps of a way through them.
    fn steps(&self, ctx: &Ctx, way: &Way) -> Vec<Step> {
        let direction = self.chain.direction;
        let judged = self.chain.stages.iter().zip(&way.judgements);
        let what = |(stage, judgement): (&Stage, &Judgement)| match self.spot {
            Spot::Subnet(_) => What::Acl(direction, *judgement),
            _ => What::Stage {
                direction,
                stage: stage.kind,
                judgement: *judgement,
            },
        };
        judged
            .map(|one| Step::new(ctx.reply, self.spot, what(one)))
            .collect()
    }
}

impl Pass {
    /// The same where no state is kept at an interface.
    fn stateless(self) -> Self {
        match self {
            Self::On(_, trail) => Self::On(Vec::new(), trail),
            Self::Stopped(label) => Self::Stopped(label),
            Self::Turns(turn) => {
                let (doubt, trail, yes, no) = *turn;
                Self::Turns(Box::new((doubt, trail, yes.stateless(), no.stateless())))
            }
        }
    }
}

fn merged(found: Vec<(Pass, PacketSet)>) -> Vec<(Pass, PacketSet)> {
    let mut all: Vec<(Pass, PacketSet)> = Vec::new();
    for (pass, set) in found {
        match all.iter_mut().find(|(other, _)| *other == pass) {
            Some((_, sum)) => *sum = sum.union(&set),
            None => all.push((pass, set)),
        }
    }
    all
}

/// The stages at which the reply is matched as a packet of its own. Where it is not known whether state was kept, what would
/// be refused is unknown.
fn left_to_match(chain: &Chain, not_kept: &NotKept) -> Chain {
    let mut stages = Vec::new();
    for stage in &chain.stages {
        match not_kept.iter().find(|(kind, _)| *kind == stage.kind) {
            None => {}
            Some((_, State::NotKept | State::Kept)) => stages.push(stage.clone()),
            Some((_, State::Unknown)) => {
                let map = stage.map.relabel(|judgement| {
                    let refused = judgement.outcome.refuses();
                    Some(Judgement {
                        outcome: if refused {
                            Outcome::Unknown
                        } else {
                            judgement.outcome
                        },
                        ..judgement
                    })
                });
                stages.push(Stage {
                    map,
                    open: None,
                    ..stage.clone()
                });
            }
        }
    }
    Chain {
        direction: chain.direction,
        stages,
    }
}
