//! Chains of connections: onward from machine to machine, and the machines that every chain passes.
//!
//! A machine is a workload, with all of its interfaces, or an interface that belongs to none. Whoever has taken it over can open
//! connections from each of its interfaces. The internet, sites and services end a chain.

use super::{Node, ReachedBy, Row, Sweep};
use crate::fabric::Fabric;
use crate::faults::{Fault, has};
use crate::walk::Verdict;
use heronshale_model::estate::{Id, Interface, PlatformService, Site};
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::intervals::Intervals;
use petgraph::algo::dominators::{Dominators, simple_fast};
use petgraph::graph::{DiGraph, NodeIndex};
use rustc_hash::FxHashMap;

/// One end of a link of a chain.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Place {
    /// A machine, by its place in [`machines`].
    Machine(u32),
    /// The internet.
    Internet,
    /// A site.
    Site(Id<Site>),
    /// A platform service.
    Service(Id<PlatformService>),
    /// A part of the estate that is missing from the snapshot.
    Lacking(usize),
}

/// One way from one place to the next: some services of one family.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Way {
    /// By which address.
    pub by: ReachedBy,
    /// The family.
    pub family: Family,
    /// The services.
    pub services: Intervals,
    /// How they fare: a place in [`Sweep::fates`].
    pub fate: u32,
    /// Which addresses of a node outside of the estate send, if these are not all.
    pub partly: Option<(u32, Addresses)>,
}

/// A link of a chain.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hop {
    /// Where it starts.
    pub from: Place,
    /// Where it ends.
    pub to: Place,
    /// By which services and addresses.
    pub ways: Vec<Way>,
}

/// Something that a chain leads to, or comes from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reached {
    /// What.
    pub place: Place,
    /// How many connections one after the other: at least 1.
    pub jumps: u32,
    /// Whether no link depends on something missing from the snapshot.
    pub certain: bool,
    /// The shortest chain, in the order in which it is gone.
    pub hops: Vec<Hop>,
    /// The machines that every chain passes, however long, the ends left out; in the order from the start.
    pub always_by: Vec<Place>,
}

/// The machine of each interface: workloads first, then the interfaces without one.
pub fn machine_of(view: &Fabric<'_>, interface: Id<Interface>) -> u32 {
    let at = view.estate.interfaces[interface].workload.map_or_else(
        || view.estate.workloads.len() + interface.index(),
        Id::index,
    );
    u32::try_from(at).expect("fewer than 2^32 machines")
}

/// The interfaces of every machine; empty for numbers that are none.
pub fn machines(view: &Fabric<'_>) -> Vec<Vec<Id<Interface>>> {
    let mut all = vec![Vec::new(); view.estate.workloads.len() + view.estate.interfaces.len()];
    for id in view.estate.interfaces.ids() {
        all[machine_of(view, id) as usize].push(id);
    }
    all
}

/// A row, a reach of it, and whether other members of the node are reached too.
type Link = (u32, u32, bool);

/// The links of a sweep, both ways.
pub struct Chains<'s, 'v, 'e> {
    view: &'v Fabric<'e>,
    sweep: &'s Sweep,
    machines: Vec<Vec<Id<Interface>>>,
    out: Vec<Vec<Link>>,
    into: Vec<Vec<Link>>,
}

/// What was found at a place: after how many jumps, and from where.
type Found = FxHashMap<Place, (u32, Place)>;

impl<'s, 'v, 'e> Chains<'s, 'v, 'e> {
    /// Makes the links of a sweep ready.
    pub fn new(view: &'v Fabric<'e>, sweep: &'s Sweep) -> Self {
        let mut out = vec![Vec::new(); sweep.nodes.len()];
        let mut into = vec![Vec::new(); sweep.nodes.len()];
        for (row, item) in sweep.rows.iter().enumerate() {
            if sweep.fates[item.fate as usize].judged.verdict > Verdict::Unknown {
                continue;
            }
            for (reach, of) in item.reach.iter().enumerate() {
                let number = |at: usize| u32::try_from(at).expect("fewer than 2^32 rows");
                let (row, reach) = (number(row), number(reach));
                for source in &item.sources {
                    out[*source as usize].push((row, reach, false));
                }
                for (target, second) in &of.targets {
                    into[*target as usize].push((row, reach, *second));
                }
            }
        }
        Self {
            view,
            sweep,
            machines: machines(view),
            out,
            into,
        }
    }

    fn row(&self, link: Link) -> &'s Row {
        &self.sweep.rows[link.0 as usize]
    }

    fn verdict(&self, link: Link) -> Verdict {
        self.sweep.fates[self.row(link).fate as usize]
            .judged
            .verdict
    }

    /// The places of a node.
    fn places(&self, node: u32) -> Vec<Place> {
        match &self.sweep.nodes[node as usize] {
            Node::Interfaces(all) => all
                .iter()
                .map(|id| Place::Machine(machine_of(self.view, *id)))
                .collect(),
            Node::Internet => vec![Place::Internet],
            Node::Site(id) => vec![Place::Site(*id)],
            Node::Service(id) => vec![Place::Service(*id)],
            Node::Lacking(at) => vec![Place::Lacking(*at)],
        }
    }

    /// The nodes of a place.
    fn nodes(&self, place: Place) -> Vec<u32> {
        let wanted = match place {
            Place::Machine(machine) => {
                let mut nodes: Vec<u32> = self.machines[machine as usize]
                    .iter()
                    .filter_map(|id| self.sweep.node(*id))
                    .collect();
                nodes.sort_unstable();
                nodes.dedup();
                return nodes;
            }
            Place::Internet => Node::Internet,
            Place::Site(id) => Node::Site(id),
            Place::Service(id) => Node::Service(id),
            Place::Lacking(at) => Node::Lacking(at),
        };
        vec![
            u32::try_from(super::index::place(&self.sweep.nodes, &wanted))
                .expect("fewer than 2^32 nodes"),
        ]
    }

    /// Places with the nodes of their given interfaces; of what is not a machine, its own.
    pub fn starting(&self, places: &[(Place, Vec<Id<Interface>>)]) -> Vec<(Place, Vec<u32>)> {
        let nodes = |(place, interfaces): &(Place, Vec<Id<Interface>>)| {
            let mut nodes: Vec<u32> = interfaces
                .iter()
                .filter_map(|id| self.sweep.node(*id))
                .collect();
            nodes.sort_unstable();
            nodes.dedup();
            (
                *place,
                if interfaces.is_empty() {
                    self.nodes(*place)
                } else {
                    nodes
                },
            )
        };
        places.iter().map(nodes).collect()
    }

    /// What can be reached from some places, each with the nodes from which it starts: all that is at most so many jumps away.
    pub fn onward(&self, starts: &[(Place, Vec<u32>)], jumps: u32) -> Vec<Reached> {
        self.told(starts, jumps, false, &|_| true)
    }

    /// Who can reach some places, each with the nodes by which it is reached. `last`: which ways the last jump may take.
    pub fn back_from(
        &self,
        ends: &[(Place, Vec<u32>)],
        jumps: u32,
        last: &dyn Fn(ReachedBy) -> bool,
    ) -> Vec<Reached> {
        self.told(ends, jumps, true, last)
    }

    fn told(
        &self,
        origins: &[(Place, Vec<u32>)],
        jumps: u32,
        backwards: bool,
        allowed: &dyn Fn(ReachedBy) -> bool,
    ) -> Vec<Reached> {
        let certain = self.explore(origins, jumps, backwards, Verdict::Conditional, allowed);
        let possible = self.explore(origins, jumps, backwards, Verdict::Unknown, allowed);
        let mut order: Vec<(u32, Place, bool)> = certain
            .iter()
            .map(|(place, (at, _))| (*at, *place, true))
            .collect();
        let open = possible
            .iter()
            .filter(|(place, _)| !certain.contains_key(place));
        order.extend(open.map(|(place, (at, _))| (*at, *place, false)));
        order.sort_unstable_by_key(|(at, place, certain)| (!*certain, *at, *place));
        let dominators = (jumps > 1).then(|| self.dominators(origins, backwards, allowed));
        let mut links: FxHashMap<u32, FxHashMap<u32, Vec<Link>>> = FxHashMap::default();
        let tell = |(jumps, place, is_certain): (u32, Place, bool)| {
            let found = if is_certain { &certain } else { &possible };
            let worst = if is_certain {
                Verdict::Conditional
            } else {
                Verdict::Unknown
            };
            let mut hops = Vec::new();
            let mut at = place;
            while let Some((_, before)) = found.get(&at) {
                let (from, to) = if backwards {
                    (at, *before)
                } else {
                    (*before, at)
                };
                let starting = |place: Place| origins.iter().find(|(origin, _)| *origin == place);
                let own = |place: Place| {
                    starting(place).map_or_else(|| self.nodes(place), |(_, nodes)| nodes.clone())
                };
                let last = backwards && starting(to).is_some();
                let ways = self.ways(&own(from), &own(to), worst, &mut links);
                let ways = ways
                    .into_iter()
                    .filter(|way| !last || allowed(way.by))
                    .collect();
                hops.push(Hop { from, to, ways });
                at = *before;
            }
            if !backwards {
                hops.reverse();
            }
            let always_by = dominators
                .as_ref()
                .map_or_else(Vec::new, |all| all.of(place, backwards));
            Reached {
                place,
                jumps,
                certain: is_certain,
                hops,
                always_by,
            }
        };
        order.into_iter().map(tell).collect()
    }

    /// The first chain to each place, in the order of the snapshot.
    fn explore(
        &self,
        origins: &[(Place, Vec<u32>)],
        jumps: u32,
        backwards: bool,
        worst: Verdict,
        allowed: &dyn Fn(ReachedBy) -> bool,
    ) -> Found {
        let mut found = Found::default();
        let mut asked = vec![false; self.sweep.nodes.len()];
        let mut exhausted = vec![false; self.sweep.nodes.len()];
        let mut frontier: Vec<(Place, Vec<u32>)> = origins.to_vec();
        for jump in 1..=jumps {
            let mut next: Vec<Place> = Vec::new();
            for (place, nodes) in &frontier {
                for node in nodes {
                    if std::mem::replace(&mut asked[*node as usize], true) {
                        continue;
                    }
                    let links = if backwards { &self.into } else { &self.out };
                    for link in &links[*node as usize] {
                        if self.verdict(*link) > worst {
                            continue;
                        }
                        let row = self.row(*link);
                        let reach = &row.reach[link.1 as usize];
                        if backwards && jump == 1 && !allowed(reach.by) {
                            continue;
                        }
                        let others: Vec<u32> = if backwards {
                            row.sources
                                .iter()
                                .copied()
                                .filter(|s| Sweep::counts(*s, (*node, link.2)))
                                .collect()
                        } else {
                            let counts = reach
                                .targets
                                .iter()
                                .filter(|target| Sweep::counts(*node, **target));
                            counts.map(|(target, _)| *target).collect()
                        };
                        for other in others {
                            if std::mem::replace(&mut exhausted[other as usize], true) {
                                continue;
                            }
                            for to in self.places(other) {
                                let is_origin = origins.iter().any(|(origin, _)| *origin == to);
                                if !is_origin && !found.contains_key(&to) {
                                    found.insert(to, (jump, *place));
                                    next.push(to);
                                }
                            }
                        }
                    }
                }
            }
            next.sort_unstable();
            let goes_on = |place: &Place| matches!(place, Place::Machine(_));
            frontier = next
                .into_iter()
                .filter(goes_on)
                .map(|place| (place, self.nodes(place)))
                .collect();
        }
        found
    }

    /// All ways between some nodes and some others, those alike as one.
    fn ways(
        &self,
        from: &[u32],
        to: &[u32],
        worst: Verdict,
        known: &mut FxHashMap<u32, FxHashMap<u32, Vec<Link>>>,
    ) -> Vec<Way> {
        let mut ways: Vec<Way> = Vec::new();
        for source in from {
            let links = known.entry(*source).or_insert_with(|| {
                let mut by_target: FxHashMap<u32, Vec<Link>> = FxHashMap::default();
                for link in &self.out[*source as usize] {
                    for (target, second) in &self.row(*link).reach[link.1 as usize].targets {
                        by_target
                            .entry(*target)
                            .or_default()
                            .push((link.0, link.1, *second));
                    }
                }
                by_target
            });
            for target in to {
                for link in links.get(target).into_iter().flatten() {
                    if self.verdict(*link) > worst || !Sweep::counts(*source, (*target, link.2)) {
                        continue;
                    }
                    let row = self.row(*link);
                    let reach = &row.reach[link.1 as usize];
                    let partly = row.partly.clone().map(|sources| (*source, sources));
                    let same = |way: &&mut Way| {
                        let fares = (way.by, way.family, way.fate);
                        fares == (reach.by, reach.family, row.fate) && way.partly == partly
                    };
                    match ways.iter_mut().find(same) {
                        Some(way) => way.services = way.services.union(&reach.services),
                        None => ways.push(Way {
                            by: reach.by,
                            family: reach.family,
                            services: reach.services.clone(),
                            fate: row.fate,
                            partly,
                        }),
                    }
                }
            }
        }
        ways
    }

    /// The machines that every chain passes; what is missing from the snapshot may be a way.
    fn dominators(
        &self,
        origins: &[(Place, Vec<u32>)],
        backwards: bool,
        allowed: &dyn Fn(ReachedBy) -> bool,
    ) -> ThatDominate {
        let mut graph: DiGraph<(), ()> = DiGraph::new();
        let root = graph.add_node(());
        let mut vertices: FxHashMap<Vertex, NodeIndex> = FxHashMap::default();
        let mut open: Vec<Vertex> = Vec::new();
        // The first jump is the origins' own, so that a chain through one of them is not taken for one that starts there.
        for (_, nodes) in origins {
            for node in nodes {
                let vertex = Vertex::First(*node);
                let to = *vertices.entry(vertex).or_insert_with(|| {
                    open.push(vertex);
                    graph.add_node(())
                });
                graph.add_edge(root, to, ());
            }
        }
        while let Some(vertex) = open.pop() {
            let from = vertices[&vertex];
            for next in self.next(vertex, backwards, allowed) {
                let to = *vertices.entry(next).or_insert_with(|| {
                    open.push(next);
                    graph.add_node(())
                });
                graph.add_edge(from, to, ());
            }
        }
        let of: FxHashMap<NodeIndex, Place> = vertices
            .iter()
            .filter_map(|(vertex, at)| match vertex {
                Vertex::Place(place) => Some((*at, *place)),
                _ => None,
            })
            .collect();
        let places = of.iter().map(|(at, place)| (*place, *at)).collect();
        let origins = origins.iter().map(|(place, _)| *place).collect();
        ThatDominate {
            dominators: simple_fast(&graph, root),
            of,
            places,
            origins,
        }
    }

    fn next(
        &self,
        vertex: Vertex,
        backwards: bool,
        allowed: &dyn Fn(ReachedBy) -> bool,
    ) -> Vec<Vertex> {
        let here = if backwards { &self.into } else { &self.out };
        let by_links = |node: u32, first: bool| -> Vec<Vertex> {
            let good = here[node as usize].iter().filter(|link| {
                !(backwards && first) || allowed(self.row(**link).reach[link.1 as usize].by)
            });
            good.map(|link| Vertex::Link(link.0, link.1)).collect()
        };
        match vertex {
            Vertex::First(node) => by_links(node, true),
            Vertex::From(node) => by_links(node, false),
            Vertex::Link(row, reach) => {
                let row = &self.sweep.rows[row as usize];
                if backwards {
                    row.sources.iter().map(|node| Vertex::To(*node)).collect()
                } else {
                    row.reach[reach as usize]
                        .targets
                        .iter()
                        .map(|(node, _)| Vertex::To(*node))
                        .collect()
                }
            }
            Vertex::To(node) => self.places(node).into_iter().map(Vertex::Place).collect(),
            Vertex::Place(place @ Place::Machine(_)) => {
                self.nodes(place).into_iter().map(Vertex::From).collect()
            }
            Vertex::Place(_) => Vec::new(),
        }
    }
}

/// A vertex of the graph of chains: links are vertices of their own, so that what many do alike is one edge.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum Vertex {
    First(u32),
    From(u32),
    Link(u32, u32),
    To(u32),
    Place(Place),
}

struct ThatDominate {
    dominators: Dominators<NodeIndex>,
    of: FxHashMap<NodeIndex, Place>,
    places: FxHashMap<Place, NodeIndex>,
    origins: Vec<Place>,
}

impl ThatDominate {
    /// The machines that every chain to a place passes, in the order from the start.
    fn of(&self, place: Place, backwards: bool) -> Vec<Place> {
        let Some(at) = self
            .places
            .get(&place)
            .filter(|_| !has(Fault::SweepWithoutDominators))
        else {
            return Vec::new();
        };
        let all = self.dominators.strict_dominators(*at).into_iter().flatten();
        let between = all
            .filter_map(|vertex| self.of.get(&vertex))
            .filter(|place| !self.origins.contains(place));
        let mut between: Vec<Place> = between.copied().collect();
        if !backwards {
            between.reverse();
        }
        between
    }
}
