//! Crossing the stages of an interface and the ACL of a subnet, with the state that the request left there.

use super::label::Verdict;
use super::step::{Spot, Step, What};
use super::{AclMap, Ctx, Label, Map, Met, NotKept, Start, Visit, Walk};
use crate::faults::{Fault, has};
use crate::model::{Direction, Id, Interface, Subnet};
use crate::packet::{PacketMap, PacketSet};
use crate::stage::{Chain, Judgement, Outcome, Stage, StageKind, State, Way, acl_of, own_stages};
use std::rc::Rc;

/// What a side does with some packets.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) enum Pass {
    /// They go on; these stages keep no state for certain.
    On(NotKept, u32),
    /// They end.
    Stopped(Label),
    /// It is not known whether they go on.
    Doubtful { not_kept: NotKept, trail: u32, stopped: Label },
}

impl Walk<'_, '_> {
    /// The class of an interface: those of one class have the same stages.
    pub(super) fn class(&self, interface: Id<Interface>) -> u32 {
        self.view.class_numbers()[interface.index()]
    }

    fn chain(&mut self, interface: Id<Interface>, direction: Direction, mirrored: bool) -> Rc<Chain> {
        let key = (interface.index(), direction == Direction::In, mirrored);
        if let Some(known) = self.chains.get(&key) {
            return Rc::clone(known);
        }
        let chain = if mirrored {
            let plain = self.chain(interface, direction, false);
            let turn = |stage: &Stage| Stage { map: stage.map.mirrored(), ..stage.clone() };
            Chain { direction, stages: plain.stages.iter().map(turn).collect() }
        } else {
            own_stages(self.view, interface, direction)
        };
        let chain = Rc::new(chain);
        self.chains.insert(key, Rc::clone(&chain));
        chain
    }

    /// The stages for which the request left no certain state; none: it did not come by here.
    pub(super) fn state_of(ctx: &Ctx, interface: Id<Interface>) -> Option<NotKept> {
        // A reply that is handed to one of several starts to be passed on is of a connection that another of them began.
        let handed = || ctx.path().any(|node| node.reply && node.met == Met::Routed(Visit::Handed(interface)));
        let starts_here = || matches!(&ctx.leg.start, Start::Interfaces(all) if all.contains(&interface)) && !handed();
        let mut found: Option<NotKept> = None;
        for node in ctx.path().filter(|node| !node.reply) {
            let here = match &node.met {
                Met::Crossed(other, not_kept) if *other == interface => not_kept.clone(),
                Met::StartsCrossed if starts_here() => NotKept::new(),
                _ => continue,
            };
            found = Some(match found {
                None => here,
                Some(known) => known.into_iter().filter(|one| here.iter().any(|other| other.0 == one.0)).collect(),
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
        let mut known = if ctx.reply { Self::state_of(ctx, interface) } else { None };
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
        let chain = self.chain(interface, direction, ctx.reply);
        let chain = match &known {
            None => chain,
            Some(not_kept) => Rc::new(left_to_match(&chain, not_kept)),
        };
        let mut found: Vec<(Pass, PacketSet)> = Vec::new();
        let kinds: Vec<StageKind> = chain.stages.iter().map(|stage| stage.kind).collect();
        for (way, region) in chain.ways(set).regions() {
            let pass = self.pass_of(ctx, spot, direction, &kinds, way);
            match found.iter_mut().find(|(other, _)| *other == pass) {
                Some((_, sum)) => *sum = sum.union(&region),
                None => found.push((pass, region)),
            }
        }
        found
    }

    fn pass_of(&mut self, ctx: &Ctx, spot: Spot, direction: Direction, kinds: &[StageKind], way: &Way) -> Pass {
        let step = |stage: StageKind, judgement: Judgement| {
            Step::new(ctx.reply, spot, What::Stage { direction, stage, judgement })
        };
        let refused = if ctx.reply { Verdict::ReplyDenied } else { Verdict::Denied };
        let mut trail = ctx.trail;
        let mut doubt = None;
        let mut not_kept = NotKept::new();
        for (kind, judgement) in kinds.iter().zip(&way.judgements) {
            if judgement.outcome.refuses() {
                let trail = self.labels.push(trail, step(*kind, *judgement));
                return Pass::Stopped(self.labels.leaf(refused, trail));
            }
            if !judgement.outcome.passes() && doubt.is_none() {
                let trail = self.labels.push(trail, step(*kind, *judgement));
                doubt = Some((trail, self.labels.leaf(refused, trail)));
            }
            if judgement.state != State::Kept {
                not_kept.push((*kind, judgement.state));
            }
            if self.detail {
                trail = self.labels.push(trail, step(*kind, *judgement));
            }
        }
        if kinds.is_empty() && self.detail {
            trail = self.labels.push(trail, Step::new(ctx.reply, spot, What::Known(direction)));
        }
        match doubt {
            None => Pass::On(not_kept, trail),
            Some((doubt_trail, stopped)) => {
                let trail = if self.detail { trail } else { doubt_trail };
                Pass::Doubtful { not_kept, trail, stopped }
            }
        }
    }

    fn acl_map(&mut self, subnet: Id<Subnet>, direction: Direction, mirrored: bool) -> AclMap {
        let key = (subnet, direction == Direction::In, mirrored);
        if let Some(known) = self.acls.get(&key) {
            return known.clone();
        }
        let map = if mirrored {
            self.acl_map(subnet, direction, false).map(|map| Rc::new(map.mirrored()))
        } else {
            acl_of(self.view, subnet, direction).map(|stage| Rc::new(stage.map))
        };
        self.acls.insert(key, map.clone());
        map
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
        if !ctx.reply && direction == Direction::Out && !self.platform.is_empty() {
            let exempt = open.intersection(&self.platform);
            if !exempt.is_empty() {
                open = open.difference(&exempt);
                found.push((Pass::On(Vec::new(), ctx.trail), exempt));
            }
        }
        let dropped = (ctx.reply && has(Fault::WalkReplySkipsAcl))
            || (direction == Direction::Out && has(Fault::WalkLeavesWithoutAcl))
            || (direction == Direction::In && has(Fault::WalkEntersWithoutAcl));
        let found_map = self.acl_map(subnet, direction, ctx.reply).filter(|_| !dropped);
        let Some(map) = found_map else {
            if !open.is_empty() {
                found.push((Pass::On(Vec::new(), ctx.trail), open));
            }
            return merged(found);
        };
        let refused = if ctx.reply { Verdict::ReplyDenied } else { Verdict::Denied };
        let here: PacketMap<Judgement> = map.restrict(&open);
        for (judgement, region) in here.regions() {
            let step = Step::new(ctx.reply, Spot::Subnet(subnet), What::Acl(direction, judgement));
            let pass = if judgement.outcome.passes() {
                Pass::On(Vec::new(), self.told(ctx, step).trail)
            } else {
                let trail = self.labels.push(ctx.trail, step);
                let stopped = self.labels.leaf(refused, trail);
                if judgement.outcome.refuses() {
                    Pass::Stopped(stopped)
                } else {
                    Pass::Doubtful { not_kept: Vec::new(), trail, stopped }
                }
            };
            found.push((pass, region));
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
            // Where only ends are told, stages add no step, and what is known of them may come from elsewhere.
            let here = |trail| if self.ends.is_some() { ctx.trail } else { trail };
            let pass = match pass {
                Pass::On(not_kept, trail) => Pass::On(not_kept, here(trail)),
                Pass::Doubtful { not_kept, trail, stopped } => Pass::Doubtful { not_kept, trail: here(trail), stopped },
                stopped @ Pass::Stopped(_) => stopped,
            };
            maps.push(match pass {
                Pass::On(not_kept, trail) => go(self, &Ctx { trail, ..ctx.clone() }, set, &not_kept),
                Pass::Stopped(label) => set.relabel(|()| Some(label)),
                Pass::Doubtful { not_kept, trail, stopped } => {
                    let map = go(self, &Ctx { trail, ..ctx.clone() }, set, &not_kept);
                    let labels = &mut self.labels;
                    let cause = labels.leaf_of(stopped).map_or(trail, |leaf| leaf.trail);
                    map.relabel(|on| Some(labels.doubt(on, stopped, cause)))
                }
            });
        }
        Map::overlay_all(maps)
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
        let Some(subnet) = subnet else { return go(self, ctx, set) };
        let passes = self.acl(ctx, subnet, direction, &set);
        self.each(ctx, passes, |walk, ctx, set, _| go(walk, ctx, set))
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
                    Some(Judgement { outcome: if refused { Outcome::Unknown } else { judgement.outcome }, ..judgement })
                });
                stages.push(Stage { map, ..stage.clone() });
            }
        }
    }
    Chain { direction: chain.direction, stages }
}
