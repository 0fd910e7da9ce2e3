//! What the snapshot leaves open, as questions with two answers, and decisions that turn on the answers.
//!
//! *Problem.* A set whose content nobody knows may hold an address or not; a rule that names it matches or not. Two rules that
//! name the same set turn on the same question, so that "unknown, then unknown" may still be certain.
//!
//! *Form.* A [`Doubt`] is one question about one packet. A [`Forest`] holds decisions as ordered decision diagrams over doubts:
//! equal decisions are one node, so a decision whose outcome is the same for every answer is that outcome. A *completion*
//! of the snapshot answers every doubt (`docs/semantics.md` 9).

use crate::judgement::{By, StageKind};
use heronshale_model::estate::{Direction, Id, Interface, Name, Peer, Subnet};
use heronshale_model::source::Origin;
use rustc_hash::FxHashMap;
use std::hash::Hash;
use std::net::IpAddr;

/// Which address of a packet a question is about, as the packet looks where the question is asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum At {
    /// The source.
    Source,
    /// The destination.
    Destination,
    /// This one, whoever sends.
    Address(IpAddr),
    /// None: the question is about the packet as a whole, after so many changes of its header.
    Packet(u32),
}

/// Whose stage a question is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Whose {
    /// An interface's.
    Interface(Id<Interface>),
    /// A subnet's.
    Subnet(Id<Subnet>),
    /// Nobody's: stages are looked at by themselves.
    Nobody,
}

impl At {
    /// The same, seen from before a change of the header to these addresses.
    #[must_use]
    pub fn before(self, source: Option<IpAddr>, destination: Option<IpAddr>) -> Self {
        match self {
            Self::Source => source.map_or(self, Self::Address),
            Self::Destination => destination.map_or(self, Self::Address),
            Self::Packet(changes) => Self::Packet(changes + 1),
            Self::Address(_) => self,
        }
    }

    /// The same address in the reply.
    #[must_use]
    pub fn mirrored(self) -> Self {
        match self {
            Self::Source => Self::Destination,
            Self::Destination => Self::Source,
            other => other,
        }
    }
}

/// What a question is about.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Unsaid {
    /// Whether a peer holds the address: a set of unknown content, a name that is not in the snapshot, carriers in a gap.
    Holds(Peer),
    /// Whether the packet is meant for a name of a set that is not in the snapshot.
    Names(Name),
    /// Whether a route wins, given that its destination holds the address.
    Wins(Option<Origin>, u32),
    /// Whether a stage lets the packet on of which the snapshot lacks the rules; on the way back or not.
    LetsOn(Whose, StageKind, Direction, bool),
    /// Whether such a stage lets it on past the groups.
    Finally(Whose, StageKind, Direction, bool),
    /// Whether a policy lets it on of which the snapshot lacks the rules.
    Policy(usize, bool),
    /// Whether there is another way that the snapshot lacks.
    Way(usize),
}

/// One question that the snapshot leaves open about one packet.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Doubt {
    /// What is asked.
    pub what: Unsaid,
    /// Of which address.
    pub at: At,
}

impl Doubt {
    /// A question about the packet as a whole.
    pub fn of_packet(what: Unsaid) -> Self {
        Self {
            what,
            at: At::Packet(0),
        }
    }

    /// The same question, asked of the reply.
    #[must_use]
    pub fn mirrored(&self) -> Self {
        Self {
            what: self.what.clone(),
            at: self.at.mirrored(),
        }
    }
}

/// What of some addresses is in doubt: they are held for certain or by any of some peers, less what others hold.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Held {
    /// Whether they are included for certain.
    pub certain: bool,
    /// Peers of which any would include them.
    pub any_of: Vec<Peer>,
    /// Peers of which any would exclude them.
    pub none_of: Vec<Peer>,
}

/// On what it turns whether a rule matches: all of these have to hold.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Turning(pub Vec<(At, Held)>);

impl Turning {
    /// All questions, in the order in which they are asked.
    pub fn doubts(&self) -> impl Iterator<Item = Doubt> + '_ {
        let of = |at: At, peers: &'_ [Peer]| -> Vec<Doubt> {
            peers
                .iter()
                .map(|peer| Doubt {
                    what: Unsaid::Holds(peer.clone()),
                    at,
                })
                .collect()
        };
        self.0.iter().flat_map(move |(at, held)| {
            of(*at, &held.none_of)
                .into_iter()
                .chain(of(*at, &held.any_of))
        })
    }

    /// `yes` where it matches, `no` where it does not: `ask` makes a decision that turns on one doubt.
    pub fn decide<N: Copy>(&self, yes: N, no: N, ask: &mut impl FnMut(Doubt, N, N) -> N) -> N {
        self.0.iter().rev().fold(yes, |yes, (at, held)| {
            let doubt = |peer: &Peer| Doubt {
                what: Unsaid::Holds(peer.clone()),
                at: *at,
            };
            let included = if held.certain {
                yes
            } else {
                held.any_of
                    .iter()
                    .rev()
                    .fold(no, |rest, peer| ask(doubt(peer), yes, rest))
            };
            held.none_of
                .iter()
                .rev()
                .fold(included, |rest, peer| ask(doubt(peer), no, rest))
        })
    }
}

/// A decision, or a turn in one.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Node<T> {
    /// Decided.
    End(T),
    /// It turns on a doubt, by its place in the order.
    Turn {
        /// The doubt.
        doubt: u32,
        /// If it holds.
        yes: u32,
        /// If it does not.
        no: u32,
    },
}

/// Of so many that ask a doubt it is known that they do.
const MOST_NAMED: usize = 32;

/// Decisions over doubts, each node once.
#[derive(Clone, Debug)]
pub struct Forest<T> {
    nodes: Vec<Node<T>>,
    index: FxHashMap<Node<T>, u32>,
    doubts: Vec<(Doubt, Vec<By>)>,
    order: FxHashMap<Doubt, u32>,
    asked: FxHashMap<(u32, u32, u32), u32>,
}

impl<T> Default for Forest<T> {
    fn default() -> Self {
        Self {
            nodes: Vec::new(),
            index: FxHashMap::default(),
            doubts: Vec::new(),
            order: FxHashMap::default(),
            asked: FxHashMap::default(),
        }
    }
}

impl<T: Clone + Eq + Hash> Forest<T> {
    fn add(&mut self, node: Node<T>) -> u32 {
        if let Some(known) = self.index.get(&node) {
            return *known;
        }
        let at = u32::try_from(self.nodes.len()).expect("fewer than 2^32 decisions");
        self.index.insert(node.clone(), at);
        self.nodes.push(node);
        at
    }

    /// What is decided for certain.
    pub fn end(&mut self, decided: T) -> u32 {
        self.add(Node::End(decided))
    }

    /// A node.
    pub fn node(&self, at: u32) -> &Node<T> {
        &self.nodes[at as usize]
    }

    /// A doubt, and by what it is asked, the first few.
    pub fn doubt(&self, at: u32) -> &(Doubt, Vec<By>) {
        &self.doubts[at as usize]
    }

    /// Gives a doubt its place in the order, if it has none.
    pub fn place(&mut self, doubt: Doubt, by: By) -> u32 {
        let next = u32::try_from(self.doubts.len()).expect("fewer than 2^32 doubts");
        match self.order.get(&doubt) {
            Some(known) => {
                let by_all = &mut self.doubts[*known as usize].1;
                if by_all.len() < MOST_NAMED && !by_all.contains(&by) {
                    by_all.push(by);
                }
                *known
            }
            None => {
                self.order.insert(doubt.clone(), next);
                self.doubts.push((doubt, vec![by]));
                next
            }
        }
    }

    fn top(&self, at: u32) -> u32 {
        match self.nodes[at as usize] {
            Node::End(_) => u32::MAX,
            Node::Turn { doubt, .. } => doubt,
        }
    }

    fn given(&self, at: u32, doubt: u32, is: bool) -> u32 {
        match self.nodes[at as usize] {
            Node::Turn {
                doubt: own,
                yes,
                no,
            } if own == doubt => {
                if is {
                    yes
                } else {
                    no
                }
            }
            _ => at,
        }
    }

    /// `yes` if a doubt holds, else `no`.
    pub fn ask(&mut self, doubt: Doubt, by: By, yes: u32, no: u32) -> u32 {
        let doubt = self.place(doubt, by);
        self.turn(doubt, yes, no)
    }

    fn turn(&mut self, doubt: u32, yes: u32, no: u32) -> u32 {
        if yes == no {
            return yes;
        }
        if let Some(known) = self.asked.get(&(doubt, yes, no)) {
            return *known;
        }
        let first = self.top(yes).min(self.top(no)).min(doubt);
        let found = if first == doubt {
            let (yes, no) = (self.given(yes, doubt, true), self.given(no, doubt, false));
            if yes == no {
                yes
            } else {
                self.add(Node::Turn { doubt, yes, no })
            }
        } else {
            let [holds, fails] =
                [true, false].map(|is| (self.given(yes, first, is), self.given(no, first, is)));
            let (holds, fails) = (
                self.turn(doubt, holds.0, holds.1),
                self.turn(doubt, fails.0, fails.1),
            );
            if holds == fails {
                holds
            } else {
                self.add(Node::Turn {
                    doubt: first,
                    yes: holds,
                    no: fails,
                })
            }
        };
        self.asked.insert((doubt, yes, no), found);
        found
    }

    /// `yes` where a rule matches, `no` where it does not.
    pub fn decide(&mut self, turning: &Turning, by: By, yes: u32, no: u32) -> u32 {
        turning.decide(yes, no, &mut |doubt, yes, no| self.ask(doubt, by, yes, no))
    }

    /// A decision with all its ends changed.
    pub fn changed(&mut self, at: u32, change: &impl Fn(T) -> T) -> u32 {
        match self.nodes[at as usize].clone() {
            Node::End(decided) => self.end(change(decided)),
            Node::Turn { doubt, yes, no } => {
                let (yes, no) = (self.changed(yes, change), self.changed(no, change));
                self.turn(doubt, yes, no)
            }
        }
    }

    /// All ends of a decision, each once.
    pub fn ends(&self, at: u32) -> Vec<&T> {
        let mut seen = vec![at];
        let mut found = Vec::new();
        let mut next = 0;
        while let Some(at) = seen.get(next).copied() {
            next += 1;
            match &self.nodes[at as usize] {
                Node::End(decided) => found.push(decided),
                Node::Turn { yes, no, .. } => {
                    for below in [*yes, *no] {
                        if !seen.contains(&below) {
                            seen.push(below);
                        }
                    }
                }
            }
        }
        found
    }

    /// The same decisions, asked of replies.
    #[must_use]
    pub fn mirrored(&self) -> Self {
        let doubts: Vec<_> = self
            .doubts
            .iter()
            .map(|(doubt, by)| (doubt.mirrored(), by.clone()))
            .collect();
        let order = (0..)
            .zip(&doubts)
            .map(|(at, (doubt, _))| (doubt.clone(), at))
            .collect();
        Self {
            doubts,
            order,
            ..self.clone()
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn doubt(way: usize) -> Doubt {
        Doubt::of_packet(Unsaid::Way(way))
    }

    #[test]
    fn decisions_are_what_they_are_for_every_answer() {
        let mut random = fastrand::Rng::with_seed(3);
        for _ in 0..500 {
            let mut forest: Forest<u8> = Forest::default();
            let ends: Vec<u32> = (0..3).map(|end| forest.end(end)).collect();
            // Each node beside a table of what it says for each answer.
            let mut known: Vec<(u32, [u8; 16])> = (0..3)
                .map(|end| (ends[usize::from(end)], [end; 16]))
                .collect();
            for _ in 0..12 {
                let way = random.usize(0..4);
                let (yes, no) = (random.usize(0..known.len()), random.usize(0..known.len()));
                let node = forest.ask(doubt(way), By::NoRule, known[yes].0, known[no].0);
                let table = std::array::from_fn(|at| {
                    known[if at >> way & 1 == 1 { yes } else { no }].1[at]
                });
                for (other, same) in &known {
                    assert_eq!(
                        *other == node,
                        *same == table,
                        "equal decisions are one node"
                    );
                }
                known.push((node, table));
                let mut all: Vec<u8> = forest.ends(node).into_iter().copied().collect();
                all.sort_unstable();
                let mut wanted = table.to_vec();
                wanted.sort_unstable();
                wanted.dedup();
                assert_eq!(all, wanted);
            }
        }
    }
}
