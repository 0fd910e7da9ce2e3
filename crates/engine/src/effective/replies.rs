//! Whether replies pass.

use super::*;

/// Which requests have their reply let through, stage by stage of the opposite direction. Only stages that keep no state are
/// ever asked, and most do, so that each is turned around when it is first needed.
pub struct Replies<'c> {
    pub(super) client_ports: &'c Intervals,
    pub(super) stages: Vec<(&'c Stage, OnceCell<Answered>)>,
    pub(super) finally: OnceCell<PacketSet>,
}

impl<'c> Replies<'c> {
    /// Replies to what crosses one side, judged by the chain of the other.
    pub fn new(backward: &'c Chain, client_ports: &'c Intervals) -> Self {
        let stages = backward
            .stages
            .iter()
            .map(|stage| (stage, OnceCell::new()))
            .collect();
        Self {
            client_ports,
            stages,
            finally: OnceCell::new(),
        }
    }

    /// The requests whose reply the scope policies let past the filters below them.
    pub(super) fn finally(&self) -> &PacketSet {
        self.finally.get_or_init(|| {
            let mut scopes = self
                .stages
                .iter()
                .filter(|(stage, _)| stage.kind == StageKind::ScopePolicies);
            let passing = scopes
                .next()
                .map(|(stage, _)| stage.map.select(|j| j.outcome == Outcome::PassFinally));
            passing.unwrap_or_default().requests_answered()
        })
    }

    /// Splits admitted packets of one way by what becomes of their replies.
    pub fn of(&self, forward: &Chain, way: &Way, set: &PacketSet) -> Vec<(Reply, PacketSet)> {
        let crossed = forward.stages.iter().zip(&way.judgements);
        let matched = |wanted: State| {
            let kinds = crossed
                .clone()
                .filter(move |(_, judgement)| judgement.state == wanted);
            kinds.map(|(stage, _)| stage.kind).collect::<Vec<_>>()
        };
        let (stateless, doubtful) = (matched(State::NotKept), matched(State::Unknown));
        let mut parts = Vec::new();
        let mut rest = set.clone();
        let finally = stateless.contains(&StageKind::ScopePolicies);
        for (stage, answered) in self
            .stages
            .iter()
            .filter(|(stage, _)| stateless.contains(&stage.kind))
        {
            let kind = &stage.kind;
            let Answered { sure, either } = answered.get_or_init(|| Answered::by(stage));
            let skips = finally
                && !matches!(
                    kind,
                    StageKind::NetworkAcl | StageKind::OwnFirewall | StageKind::ScopePolicies
                );
            let widen = |set: &PacketSet| {
                if skips {
                    set.union(self.finally())
                } else {
                    set.clone()
                }
            };
            let (open, closed) = self.split(&rest, &widen(either), *kind, false);
            parts.extend(closed);
            let (open, unsure) = self.split(&open, &widen(sure), *kind, true);
            parts.extend(unsure);
            rest = open;
        }
        for (stage, answered) in self
            .stages
            .iter()
            .filter(|(stage, _)| doubtful.contains(&stage.kind))
        {
            let sure = &answered.get_or_init(|| Answered::by(stage)).sure;
            let (open, unsure) = self.split(&rest, sure, stage.kind, true);
            parts.extend(unsure);
            rest = open;
        }
        if !rest.is_empty() {
            parts.insert(0, (Reply::Passes, rest));
        }
        parts
    }

    /// What of a set is answered whatever port the client has, and the rest by what becomes of it.
    pub(super) fn split(
        &self,
        set: &PacketSet,
        answered: &PacketSet,
        kind: StageKind,
        doubt: bool,
    ) -> (PacketSet, Vec<(Reply, PacketSet)>) {
        let all = Addresses::all();
        let from_clients = PacketSet::fields(
            &all,
            &all,
            |_| service::all_with_ports(),
            self.client_ports,
            (),
        );
        let every_port = Intervals::span(0, u128::from(u16::MAX));
        let with_ports =
            PacketSet::fields(&all, &all, |_| service::all_with_ports(), &every_port, ());
        let asked = set.intersection(&from_clients);
        let without_clients = set
            .intersection(&with_ports)
            .difference(&asked.any_source_port());
        let relevant = asked
            .union(&without_clients)
            .union(&set.difference(&with_ports));
        let failing = relevant.difference(answered);
        if failing.is_empty() {
            return (set.clone(), Vec::new());
        }
        let passing = relevant.intersection(answered);
        let (some_fail, some_pass) = (failing.any_source_port(), passing.any_source_port());
        let never = set.intersection(&some_fail).difference(&some_pass);
        let mut parts = Vec::new();
        let end = if doubt {
            Reply::Unknown(kind)
        } else {
            Reply::Denied(kind)
        };
        if !never.is_empty() {
            parts.push((end, never));
        }
        let mixed = set.intersection(&some_fail).intersection(&some_pass);
        let mut by_ports: Vec<(Intervals, PacketSet)> = Vec::new();
        for (entry, ()) in passing.intersection(&mixed).boxes() {
            let part = PacketSet::of_entry(&entry, ())
                .any_source_port()
                .intersection(&mixed);
            match by_ports
                .iter_mut()
                .find(|(ports, _)| *ports == entry.source_ports)
            {
                Some((_, sum)) => *sum = sum.union(&part),
                None => by_ports.push((entry.source_ports.clone(), part)),
            }
        }
        let doubtful = |ports| {
            if doubt {
                Reply::Unknown(kind)
            } else {
                Reply::OnlyTo(ports)
            }
        };
        parts.extend(
            by_ports
                .into_iter()
                .map(|(ports, part)| (doubtful(ports), part)),
        );
        (set.difference(&some_fail), parts)
    }
}

/// The requests whose reply one stage lets through.
pub(super) struct Answered {
    pub(super) sure: PacketSet,
    pub(super) either: PacketSet,
}

impl Answered {
    pub(super) fn by(stage: &Stage) -> Self {
        let maybe = stage
            .map
            .select(|judgement| !judgement.outcome.passes() && !judgement.outcome.refuses());
        let sure = stage.map.select(|judgement| judgement.outcome.passes());
        let either = if maybe.is_empty() {
            sure.clone()
        } else {
            sure.union(&maybe)
        };
        Self {
            sure: sure.requests_answered(),
            either: either.requests_answered(),
        }
    }
}
