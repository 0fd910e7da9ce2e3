//! The outcome of a connection: what its ends notice of it, and who judges it on the way.

use crate::starts::{From, Here, starts};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::walk::{
    Answered, Choice, Condition, Label, Part, Spot, Verdict, What, walk_outcomes,
};
use heronshale_model::estate::{Estate, Name};
use heronshale_sets::address::Addresses;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketMap, PacketSet};
use rustc_hash::FxHashMap;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

/// The internet as a receiver.
const OUTSIDE: &str = "the internet";

/// One way in which a connection works.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Seen {
    /// The firewalls that its request passes, in their order.
    pub request: Vec<Name>,
    /// Those that its reply passes.
    pub reply: Vec<Name>,
    /// The source as the receiver sees it, where that is another.
    pub source: Option<IpAddr>,
    /// The destination as the receiver sees it, where that is another.
    pub destination: Option<IpAddr>,
    /// The destination port as the receiver sees it, where that is another.
    pub port: Option<u16>,
    /// Where the request ends, where the asked address does not say so: `interface bastion`.
    pub receiver: Option<String>,
}

/// What becomes of a connection.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Outcome {
    /// The verdict; none for a start that does not exist.
    pub verdict: Option<Verdict>,
    /// Where it fails: the words of all of nature's choices.
    pub words: BTreeSet<Verdict>,
    /// What would have to hold.
    pub conditions: BTreeSet<String>,
    /// The client ports that work, where only some do.
    pub ports: Option<Vec<(u128, u128)>>,
    /// The ways in which it works.
    pub ways: BTreeSet<Seen>,
}

impl Outcome {
    /// The outcome where nothing starts.
    pub fn absent() -> Self {
        Self {
            verdict: None,
            words: BTreeSet::new(),
            conditions: BTreeSet::new(),
            ports: None,
            ways: BTreeSet::new(),
        }
    }

    /// The verdict in a word.
    pub fn word(&self) -> &'static str {
        self.verdict.map_or("absent", Verdict::word)
    }

    /// Whether some way of it lacks a firewall that every way of the others passes, there or back.
    pub fn misses(&self, others: &[&Self]) -> bool {
        let lists: [fn(&Seen) -> &Vec<Name>; 2] = [|way| &way.request, |way| &way.reply];
        lists.into_iter().any(|list| {
            let mut ways = others.iter().flat_map(|one| &one.ways).map(list);
            let first: Vec<&Name> = ways.next().into_iter().flatten().collect();
            let needed = ways.fold(first, |all, way| {
                all.into_iter().filter(|one| way.contains(*one)).collect()
            });
            let mut own = self.ways.iter().map(list);
            own.any(|way| needed.iter().any(|one| !way.contains(*one)))
        })
    }

    /// Whether all of it ends on the internet: from there that is no connection of the estate.
    fn ends_outside(&self) -> bool {
        let outside = |way: &Seen| way.receiver.as_deref() == Some(OUTSIDE);
        !self.ways.is_empty() && self.ways.iter().all(outside)
    }

    /// The same where the asked address does not say who receives it.
    fn received_by(&self, holder: &str) -> Self {
        let ways = self.ways.iter().cloned().map(|mut way| {
            way.receiver.get_or_insert_with(|| holder.to_owned());
            way
        });
        Self {
            ways: ways.collect(),
            ..self.clone()
        }
    }

    fn of(estate: &Estate, answered: &Answered, part: &Part) -> Self {
        let judged = &part.judged;
        let mut found = Self {
            verdict: Some(judged.verdict),
            ..Self::absent()
        };
        match judged.verdict {
            Verdict::Works | Verdict::WorksForSome | Verdict::Conditional => {}
            Verdict::Undecided | Verdict::Unknown => return found,
            _ => {
                // Which of nature's choices is told first says nothing.
                found.words = answered.labels.words(part.label);
                found.verdict = found.words.first().copied().or(found.verdict);
                return found;
            }
        }
        found.conditions = judged
            .conditions
            .iter()
            .map(|condition| condition_text(estate, condition))
            .collect();
        let ports = judged.some.iter().flat_map(|(choices, _)| choices);
        found.ports = ports
            .filter_map(|choice| match choice {
                Choice::ClientPorts(ports) => Some(ports.clone()),
                _ => None,
            })
            .reduce(|sum: Intervals, ports| sum.union(&ports))
            .map(|ports| ports.spans().to_vec());
        found.ways = answered
            .labels
            .trails_that_work(part.label)
            .into_iter()
            .map(|trail| seen(estate, answered, trail))
            .collect();
        found
    }
}

fn condition_text(estate: &Estate, condition: &Condition) -> String {
    match condition {
        Condition::Named { sets, asked } => {
            let names = sets.iter().map(|id| estate.name_sets[*id].name.to_string());
            let mut names: Vec<String> = names.collect();
            names.sort();
            format!("named {asked} {}", names.join(", "))
        }
        Condition::Other(words) => words.to_string(),
    }
}

fn seen(estate: &Estate, answered: &Answered, trail: u32) -> Seen {
    let mut seen = Seen::default();
    // Behind a balancer only the firewalls count.
    let mut settled = false;
    for step in answered.labels.steps(trail) {
        match (&step.what, step.at) {
            (What::Passed, Spot::Firewall(id)) => {
                let list = if step.reply {
                    &mut seen.reply
                } else {
                    &mut seen.request
                };
                let name = &estate.firewalls[id].name;
                if !list.contains(name) {
                    list.push(name.clone());
                }
            }
            (What::Changed(..), Spot::Balancer(id)) if !settled => {
                settled = true;
                seen.receiver = Some(format!("balancer {}", estate.balancers[id].name));
            }
            (What::Changed(change, _), _) if !settled => {
                seen.source = change.source.or(seen.source);
                seen.destination = change.destination.or(seen.destination);
                seen.port = change.port.or(seen.port);
            }
            (What::Arrived, at) if !settled => seen.receiver = Some(spot_name(estate, at)),
            _ => {}
        }
    }
    seen
}

/// A place at which requests end, by kind and name.
fn spot_name(estate: &Estate, spot: Spot) -> String {
    match spot {
        Spot::Interface(id) => format!("interface {}", estate.interfaces[id].name),
        Spot::Firewall(id) => format!("firewall {}", estate.firewalls[id].name),
        Spot::Balancer(id) => format!("balancer {}", estate.balancers[id].name),
        Spot::Service(id) => format!("service {}", estate.services[id].name),
        Spot::Site(id) => format!("site {}", estate.sites[id].name),
        Spot::Internet => OUTSIDE.to_owned(),
        _ => "elsewhere".to_owned(),
    }
}

/// Outcomes, each once, by their numbers.
#[derive(Default)]
pub(crate) struct Outcomes {
    pub all: Vec<Outcome>,
    known: FxHashMap<Outcome, u32>,
}

impl Outcomes {
    /// The number of an outcome.
    pub fn number(&mut self, outcome: Outcome) -> u32 {
        if let Some(known) = self.known.get(&outcome) {
            return *known;
        }
        let next = u32::try_from(self.all.len()).expect("fewer than 2^32 outcomes");
        self.all.push(outcome.clone());
        self.known.insert(outcome, next);
        next
    }

    /// An outcome by its number.
    pub fn get(&self, number: u32) -> &Outcome {
        &self.all[number as usize]
    }
}

/// What becomes of packets from one start: an outcome for each, whatever the client port.
pub(crate) type OutcomeMap = PacketMap<u32>;

/// A state, and its starts.
pub(crate) struct State<'f, 'e> {
    view: &'f Fabric<'e>,
    starts: BTreeMap<From, Here>,
    /// Of addresses that change hands who holds them, where the walk does not tell it.
    hands: Vec<(Addresses, String)>,
}

impl<'f, 'e> State<'f, 'e> {
    /// A state; `hands` are the addresses that change hands.
    pub fn of(view: &'f Fabric<'e>, hands: &Addresses) -> Self {
        let holders = view.estate.interfaces.items().iter();
        let hands = holders
            .filter(|one| one.addresses.overlaps(hands))
            .map(|one| {
                let name = format!("interface {}", one.name);
                (one.addresses.intersection(hands), name)
            });
        Self {
            view,
            starts: starts(view),
            hands: hands.collect(),
        }
    }

    /// Where something starts.
    pub fn froms(&self) -> impl Iterator<Item = &From> {
        self.starts.keys()
    }

    /// The addresses of a start.
    pub fn sources(&self, from: &From) -> Addresses {
        let here = self.starts.get(from);
        here.map_or_else(Addresses::empty, |here| here.sources.clone())
    }

    /// The outcome of each of some packets, whatever their source port. Total on them: what does not start is absent.
    pub fn outcomes(&self, from: &From, packets: &PacketSet, all: &mut Outcomes) -> OutcomeMap {
        let absent = all.number(Outcome::absent());
        let nothing = packets.relabel(|()| Some(absent));
        let Some(here) = self.starts.get(from) else {
            return nothing;
        };
        let asked = here.asked(self.view, from, packets);
        if asked.packets.is_empty() {
            return nothing;
        }
        let answered = walk_outcomes(self.view, &asked);
        let mut by_outcome: BTreeMap<u32, Vec<PacketSet>> = BTreeMap::new();
        let mut known: FxHashMap<Label, u32> = FxHashMap::default();
        for part in &answered.parts {
            let number = *known.entry(part.label).or_insert_with(|| {
                let outcome = Outcome::of(self.view.estate, &answered, part);
                let outside = *from == From::Internet && outcome.ends_outside();
                all.number(if outside { Outcome::absent() } else { outcome })
            });
            let mut left = part.packets.any_source_port();
            if all
                .get(number)
                .ways
                .iter()
                .any(|way| way.receiver.is_none())
            {
                for (addresses, holder) in &self.hands {
                    let here = left.between(None, Some(addresses));
                    if !here.is_empty() {
                        left = left.difference(&here);
                        let number = all.number(all.get(number).received_by(holder));
                        by_outcome.entry(number).or_default().push(here);
                    }
                }
            }
            by_outcome.entry(number).or_default().push(left);
        }
        let maps = by_outcome.into_iter().map(|(number, sets)| {
            let set = PacketSet::union_all(sets).intersection(packets);
            set.relabel(|()| Some(number))
        });
        PacketMap::overlay_all(maps.collect()).overlay(&nothing)
    }
}
