//! Two states, class by class.

use crate::cause::{Cause, causes};
use crate::class::{Class, rank};
use crate::impact::{Touched, touched};
use crate::outcome::{Outcome, OutcomeMap, Outcomes, State};
use crate::starts::From;
use heronshale_engine::fabric::Fabric;
use heronshale_model::change::{Edit, States};
use heronshale_model::estate::{Estate, Name};
use heronshale_sets::address::{Addresses, internet_at_large};
use heronshale_sets::each::each;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, service};
use std::collections::{BTreeMap, BTreeSet};

/// So many addresses send together in one walk.
const SENDERS_TOGETHER: usize = 256;

/// Sections whose items have addresses that the estate has for its own.
const HOLDERS: [&str; 8] = [
    "balancers",
    "firewalls",
    "gaps",
    "gateways",
    "networks",
    "public_addresses",
    "services",
    "sites",
];
/// Sections that say what DNS names mean.
const OF_NAMES: [&str; 3] = ["dns_zones", "name_sets", "public_names"];
/// Fields that say so.
const FIELDS_OF_NAMES: [&str; 2] = ["fall_through", "resolves_as"];

/// Connections from one start that changed alike, with one cause.
#[derive(Clone, Debug)]
pub struct Difference {
    /// Their class.
    pub class: Class,
    /// Where they start.
    pub from: From,
    /// The connections, whatever the client port.
    pub packets: PacketSet,
    /// What became of them before.
    pub old: Outcome,
    /// What becomes of them now.
    pub new: Outcome,
    /// Because of which edits, and what undoes it.
    pub cause: Cause,
}

/// Two states compared.
#[derive(Clone, Debug)]
pub struct Comparison {
    /// What was edited.
    pub edits: Vec<Edit>,
    /// What changed: by class, then by start.
    pub differences: Vec<Difference>,
    /// Edits that are part of no known difference; none is said to be where not every set of edits was tried.
    pub without_effect: Vec<usize>,
    /// Edits of what DNS names mean: connections are compared by address, so that their effect is not known.
    pub not_judged: Vec<usize>,
    /// Whether some connections are unknown in both states, so that nothing is said of them.
    pub unknown_in_both: bool,
    /// The addresses from which the internet sends in both states.
    pub internet: Addresses,
    /// Addresses of the estate that are the internet's now.
    pub released: Addresses,
    /// Addresses of the internet that are the estate's now.
    pub taken: Addresses,
}

impl Comparison {
    /// Keeps the connections from or to some addresses; how many groups are left out.
    pub fn keep_only(&mut self, addresses: &Addresses) -> usize {
        let before = self.differences.len();
        let every = Addresses::all();
        let touching = everything(addresses, &every).union(&everything(&every, addresses));
        for one in &mut self.differences {
            one.packets = one.packets.intersection(&touching);
        }
        self.differences.retain(|one| !one.packets.is_empty());
        before - self.differences.len()
    }
}

/// Whether an edit changes what DNS names mean, of which nothing is judged.
pub(crate) fn is_of_names(edit: &Edit) -> bool {
    OF_NAMES.contains(&edit.section) || FIELDS_OF_NAMES.contains(&edit.field.as_str())
}

/// Addresses on the internet that are not the internet's.
fn own_public(view: &Fabric<'_>) -> Addresses {
    internet_at_large().difference(&view.internet_end())
}

/// Addresses whose holder is another interface.
fn changing_hands(old: &Estate, new: &Estate) -> Addresses {
    let held = |estate: &Estate| -> BTreeMap<Name, Addresses> {
        let all = estate.interfaces.items().iter();
        all.map(|one| (one.name.clone(), one.addresses.clone()))
            .collect()
    };
    let (before, after) = (held(old), held(new));
    let only = |one: &BTreeMap<Name, Addresses>, other: &BTreeMap<Name, Addresses>| {
        one.iter()
            .filter(|(name, addresses)| other.get(*name) != Some(addresses))
            .fold(Addresses::empty(), |sum, (_, addresses)| {
                sum.union(addresses)
            })
    };
    only(&before, &after).intersection(&only(&after, &before))
}

/// Every connection from some addresses to others.
pub(crate) fn everything(sources: &Addresses, destinations: &Addresses) -> PacketSet {
    let every = Intervals::span(0, u128::from(u16::MAX));
    PacketSet::fields(sources, destinations, service::all, &every, ())
}

/// Some addresses in parts of which each is walked by itself.
fn parts_of(addresses: &Addresses) -> Vec<Addresses> {
    let ranges: Vec<_> = addresses.ranges().collect();
    ranges
        .chunks(SENDERS_TOGETHER)
        .map(|part| part.iter().copied().collect())
        .collect()
}

/// Compares two states, and walks only what some edit can touch. `between` has the edits and all states between the two, `judged` makes a view of such a state.
pub fn compare(
    (old, new): (&Fabric<'_>, &Fabric<'_>),
    between: &dyn States,
    judged: &(dyn for<'e> Fn(&'e Estate) -> Fabric<'e> + Sync),
) -> Comparison {
    let reach = touched((old, new), &between.edits());
    compare_within((old, new), between, judged, reach.as_ref())
}

/// The same of every connection, whatever the edits are.
pub fn compare_all(
    (old, new): (&Fabric<'_>, &Fabric<'_>),
    between: &dyn States,
    judged: &(dyn for<'e> Fn(&'e Estate) -> Fabric<'e> + Sync),
) -> Comparison {
    compare_within((old, new), between, judged, None)
}

/// Two states to be compared: where connections start, and which are asked about.
pub(crate) struct Frame<'f, 'e> {
    pub old: State<'f, 'e>,
    pub new: State<'f, 'e>,
    /// The addresses that change hands between the two.
    pub hands: Addresses,
    /// The addresses from which the internet sends in both.
    pub internet: Addresses,
    /// Addresses of the estate that are the internet's in the new state.
    pub released: Addresses,
    /// Addresses of the internet that are the estate's in the new state.
    pub taken: Addresses,
    /// Of each start packets, whatever the source port; of one start several times.
    pub asked: Vec<(From, PacketSet)>,
}

impl<'f, 'e> Frame<'f, 'e> {
    /// The frame of two states; of `reach` only what it holds is asked about.
    pub fn of((old, new): (&'f Fabric<'e>, &'f Fabric<'e>), reach: Option<&Touched>) -> Self {
        let (before, after) = (own_public(old), own_public(new));
        let released = before.difference(&after);
        let taken = after.difference(&before);
        let moved = released.union(&taken);
        let hands = changing_hands(old.estate, new.estate);
        let (one, other) = (State::of(old, &hands), State::of(new, &hands));
        let internet = one
            .sources(&From::Internet)
            .intersection(&other.sources(&From::Internet))
            .difference(&moved);
        let froms: BTreeSet<&From> = one.froms().chain(other.froms()).collect();
        let asked: Vec<(From, PacketSet)> = froms
            .into_iter()
            .flat_map(|from| {
                let (here, there) = (one.sources(from), other.sources(from));
                let (sources, to) = if *from == From::Internet {
                    (vec![internet.clone()], internet_at_large())
                } else {
                    let all = parts_of(&here.union(&there));
                    (all, Addresses::all().difference(&moved))
                };
                let packets = sources.into_iter().map(move |sources| match reach {
                    None => everything(&sources, &to),
                    Some(reach) => reach.of(&sources, &to),
                });
                packets.map(move |packets| (from.clone(), packets))
            })
            .filter(|(_, packets)| !packets.is_empty())
            .collect();
        Self {
            old: one,
            new: other,
            hands,
            internet,
            released,
            taken,
            asked,
        }
    }
}

/// What becomes of all that is asked, start by start, and the outcomes by their numbers.
pub(crate) type Walks = Vec<(OutcomeMap, Outcomes)>;

/// Walks all that is asked in one state.
pub(crate) fn walks(state: &State<'_, '_>, asked: &[(From, PacketSet)]) -> Walks {
    each(asked, |(from, packets)| {
        let mut all = Outcomes::default();
        let map = state.outcomes(from, packets, &mut all);
        (map, all)
    })
}

/// What differs between two states, class by class, its causes not looked for; and whether something is unknown in both.
pub(crate) fn differing(
    asked: &[(From, PacketSet)],
    old: &Walks,
    new: &Walks,
) -> (Vec<Difference>, bool) {
    let numbers: Vec<usize> = (0..asked.len()).collect();
    let differs = |at: &usize| {
        let ((from, _), (was, before), (is, after)) = (&asked[*at], &old[*at], &new[*at]);
        let mut pairs: Vec<(u32, u32)> = Vec::new();
        let mut open = false;
        let both = was.combine(is, |a, b| {
            let (old, new) = (before.get(a), after.get(b));
            open |= rank(old).is_none() && rank(new).is_none();
            Class::of(old, new).map(|_| {
                let known = pairs.iter().position(|pair| *pair == (a, b));
                known.unwrap_or_else(|| {
                    pairs.push((a, b));
                    pairs.len() - 1
                })
            })
        });
        let found = both.regions().into_iter().filter_map(|(pair, packets)| {
            let (a, b) = pairs[pair];
            let (old, new) = (before.get(a).clone(), after.get(b).clone());
            Class::of(&old, &new).map(|class| Difference {
                class,
                from: from.clone(),
                packets,
                old,
                new,
                cause: Cause::default(),
            })
        });
        (found.collect::<Vec<_>>(), open)
    };
    let (found, open): (Vec<Vec<Difference>>, Vec<bool>) =
        each(&numbers, differs).into_iter().unzip();
    (found.into_iter().flatten().collect(), open.contains(&true))
}

fn compare_within(
    (old, new): (&Fabric<'_>, &Fabric<'_>),
    between: &dyn States,
    judged: &(dyn for<'e> Fn(&'e Estate) -> Fabric<'e> + Sync),
    reach: Option<&Touched>,
) -> Comparison {
    let frame = Frame::of((old, new), reach);
    let [was, is] = [&frame.old, &frame.new].map(|state| walks(state, &frame.asked));
    let (found, unknown_in_both) = differing(&frame.asked, &was, &is);
    let Frame {
        hands,
        internet,
        released,
        taken,
        ..
    } = frame;
    let moved = released.union(&taken);
    let edits = between.edits();
    let (mut differences, all_tried) = causes(
        found,
        between,
        &edits,
        judged,
        (&hands, new.estate.interfaces.len()),
    );
    for one in &mut differences {
        let unknown = matches!(one.class, Class::BecameUnknown | Class::BecameKnown);
        if unknown && one.cause.is_gaps_only(&edits) {
            one.class = Class::NotComparable;
        }
    }
    differences.sort_by(|one, other| {
        (one.class, &one.cause.sets, &one.from).cmp(&(other.class, &other.cause.sets, &other.from))
    });
    let told: BTreeSet<usize> = differences
        .iter()
        .flat_map(|one| one.cause.sets.iter().flatten().copied())
        .collect();
    // What gives an address away, or takes one, has that effect.
    let moves = |at: &usize| !moved.is_empty() && HOLDERS.contains(&edits[*at].section);
    let is_of_names = |at: &usize| is_of_names(&edits[*at]);
    let silent = (0..edits.len()).filter(|at| !told.contains(at));
    let (not_judged, silent): (Vec<usize>, Vec<usize>) = silent.partition(is_of_names);
    let without_effect = silent
        .into_iter()
        .filter(|at| all_tried && !moves(at))
        .collect();
    Comparison {
        edits,
        differences,
        without_effect,
        not_judged,
        unknown_in_both,
        internet,
        released,
        taken,
    }
}
