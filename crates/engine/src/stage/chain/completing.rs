//! What stages decide in each completion of what is missing from the snapshot.

use super::*;

/// What becomes of packets at the stages of one side, for each answer to what is in doubt there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Completed {
    /// Nothing more is in doubt: every judgement of the way is certain.
    Way(Way),
    /// It turns on a doubt, which this way met first.
    Turn(Box<(Doubt, Way, Completed, Completed)>),
}

impl Completed {
    pub(super) fn ways(&self) -> Vec<&Way> {
        match self {
            Self::Way(way) => vec![way],
            Self::Turn(turn) => [turn.2.ways(), turn.3.ways()].concat(),
        }
    }
}

/// So many doubts of one side are told apart; with more, each stage's is one of its own.
pub(super) const MOST_DOUBTS: usize = 10;

/// The completions of one way through some stages, for each part of its packets. `whose` and `reply` say whose stages these are.
pub(crate) fn completed(
    chain: &Chain,
    whose: Whose,
    reply: bool,
    way: &Way,
    set: &PacketSet,
) -> Vec<(Completed, PacketSet)> {
    // Packets by what their stages have to decide: a decision that turns on doubts, or what is known.
    let mut lists: Vec<Vec<(Option<u32>, Judgement)>> = vec![Vec::new()];
    let mut map: PacketMap<u32> = set.relabel(|()| Some(0));
    for (stage, judged) in chain.stages.iter().zip(&way.judgements) {
        let mut index = rustc_hash::FxHashMap::default();
        let mut next: Vec<Vec<(Option<u32>, Judgement)>> = Vec::new();
        let mut push = |list: u32, node: Option<u32>, judgement: Judgement| {
            *index.entry((list, node, judgement)).or_insert_with(|| {
                next.push(
                    lists[list as usize]
                        .iter()
                        .copied()
                        .chain([(node, judgement)])
                        .collect(),
                );
                u32::try_from(next.len() - 1).expect("fewer than 2^32 decisions")
            })
        };
        let open = stage.open.as_ref().filter(|_| !judged.is_certain());
        let decided = open
            .map(|(open, _)| map.combine(open, |list, node| Some(push(list, Some(node), *judged))));
        let rest = map.combine(&stage.map, |list, judgement| {
            Some(push(list, None, judgement))
        });
        map = decided.map_or_else(|| rest.clone(), |decided| decided.overlay(&rest));
        lists = next;
    }
    let stages = Completing {
        chain,
        whose,
        reply,
    };
    map.regions()
        .into_iter()
        .map(|(list, part)| {
            (
                stages.beyond(
                    &lists[list as usize],
                    Way {
                        judgements: Vec::new(),
                    },
                    &mut Vec::new(),
                ),
                part,
            )
        })
        .collect()
}

pub(super) struct Completing<'c> {
    pub(super) chain: &'c Chain,
    pub(super) whose: Whose,
    pub(super) reply: bool,
}

impl Completing<'_> {
    /// The stages behind those that a way has passed, given some answers.
    pub(super) fn beyond(
        &self,
        nodes: ToDecide<'_>,
        so_far: Way,
        given: &mut Vec<(Doubt, bool)>,
    ) -> Completed {
        let at = so_far.judgements.len();
        let (Some((node, known)), false) = (nodes.get(at), so_far.refuses()) else {
            return Completed::Way(so_far);
        };
        let (stage, known) = (&self.chain.stages[at], *known);
        let mut met = so_far.clone();
        met.extend(stage.kind, known);
        if let (Some(node), Some((_, forest))) = (node, &stage.open)
            && given.len() < MOST_DOUBTS
        {
            let mut node = *node;
            loop {
                match forest.node(node) {
                    Node::End(judgement) => return self.free(nodes, &so_far, *judgement, given),
                    Node::Turn { doubt, yes, no } => {
                        let doubt = &forest.doubt(*doubt).0;
                        if let Some((_, is)) = given.iter().find(|(other, _)| other == doubt) {
                            node = if *is { *yes } else { *no };
                            continue;
                        }
                        let doubt = doubt.clone();
                        return self.turn(nodes, &so_far, met, doubt, given);
                    }
                }
            }
        }
        self.free(nodes, &so_far, known, given)
    }

    pub(super) fn turn(
        &self,
        nodes: ToDecide<'_>,
        so_far: &Way,
        met: Way,
        doubt: Doubt,
        given: &mut Vec<(Doubt, bool)>,
    ) -> Completed {
        let [yes, no] = [true, false].map(|is| {
            given.push((doubt.clone(), is));
            let found = self.beyond(nodes, so_far.clone(), given);
            given.pop();
            found
        });
        if yes == no {
            yes
        } else {
            Completed::Turn(Box::new((doubt, met, yes, no)))
        }
    }

    /// A stage's judgement, which may be anything where the snapshot lacks its rules.
    pub(super) fn free(
        &self,
        nodes: ToDecide<'_>,
        so_far: &Way,
        judgement: Judgement,
        given: &mut Vec<(Doubt, bool)>,
    ) -> Completed {
        let stage = &self.chain.stages[so_far.judgements.len()];
        let (kind, direction) = (stage.kind, self.chain.direction);
        let mut met = so_far.clone();
        met.extend(kind, judgement);
        let lets_on = Doubt::of_packet(Unsaid::LetsOn(self.whose, kind, direction, self.reply));
        let finally = Doubt::of_packet(Unsaid::Finally(self.whose, kind, direction, self.reply));
        let answer = |doubt: &Doubt| {
            given
                .iter()
                .find(|(other, _)| other == doubt)
                .map(|(_, is)| *is)
        };
        let outcome = match judgement.outcome {
            Outcome::Unknown | Outcome::UnknownFinally => {
                match (answer(&lets_on), judgement.outcome) {
                    (None, _) => return self.turn(nodes, so_far, met, lets_on, given),
                    (Some(false), _) => Outcome::Deny,
                    (Some(true), Outcome::Unknown) => Outcome::Pass,
                    (Some(true), _) => Outcome::PassPerhapsFinally,
                }
            }
            other => other,
        };
        let outcome = match (outcome, answer(&finally)) {
            (Outcome::PassPerhapsFinally, None) => {
                return self.turn(nodes, so_far, met, finally, given);
            }
            (Outcome::PassPerhapsFinally, Some(true)) => Outcome::PassFinally,
            (Outcome::PassPerhapsFinally, Some(false)) => Outcome::Pass,
            (other, _) => other,
        };
        let mut longer = so_far.clone();
        longer.extend(
            kind,
            Judgement {
                outcome,
                ..judgement
            },
        );
        self.beyond(nodes, longer, given)
    }
}

/// What stages have to decide, in their order.
pub(super) type ToDecide<'d> = &'d [(Option<u32>, Judgement)];
