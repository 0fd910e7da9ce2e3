//! One connection there and back as data: its parts by verdict, and the steps of an example.

use super::fixes::{FixFact, ObstacleFact, SinceFact, fix_facts};
use crate::traffic::{services_text, summed, symbols};
use heronshale_audit::describe::{Symbols, Witness, peer_words, witness};
use heronshale_audit::facts::{PathTraffic, choices_text, condition_text};
use heronshale_audit::facts::{StepDoes, StepFact, step_fact};
use heronshale_audit::fix::{Asking, fixing};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::path::Question;
use heronshale_engine::route::{Hop, Winner};
use heronshale_engine::walk::{
    Answered, Asked, Choice, Judged, Part, Tell, Verdict, What, Why, walk,
};
use heronshale_model::names::{Answerer, Resolution};
use heronshale_model::source::Place;
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::packet::{Entry, Packet, PacketSet, entries_within};
use serde::Serialize;

/// What the client sees.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Symptom {
    /// Nothing comes back, until it times out.
    Silence,
    /// A refusal comes back at once.
    Reset,
    /// The name does not resolve.
    NameError,
}

/// Packets of one verdict by one cause.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct PathPart {
    /// How they fare.
    pub verdict: Verdict,
    /// Who sends, where to, and which services; to be read from the top.
    pub traffic: Vec<PathTraffic>,
    /// What decided; none where they work.
    pub because: Option<StepFact>,
    /// What would have to hold.
    pub conditions: Vec<String>,
    /// Where only some of nature's choices work: those that do.
    pub only_if: Vec<String>,
    /// One of them.
    pub witness: Option<Witness>,
}

/// A step of a name's resolution.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct LookupFact {
    /// The name.
    pub name: String,
    /// Who answers: `zone NAME`, or `the public`.
    pub by: String,
    /// What it says; none if there is no record.
    pub says: Option<String>,
    /// Where the record, or the zone, was written.
    pub place: Option<Place>,
}

/// An end as it was understood.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct PathEnd {
    /// As it was written.
    pub asked: String,
    /// The addresses that it stands for.
    pub addresses: Vec<String>,
}

/// A way into a service.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct PathEntrance {
    /// What it is called: `private door tickets-door`.
    pub name: String,
    /// Its addresses.
    pub addresses: Vec<String>,
    /// What becomes of what was asked of it.
    pub verdict: Verdict,
}

/// One connection, or all between two ends.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct PathAnswer {
    /// Where it starts.
    pub from: PathEnd,
    /// Where it goes.
    pub to: PathEnd,
    /// Which traffic was asked about; none for all.
    pub traffic: Option<String>,
    /// How the name was resolved.
    pub lookups: Vec<LookupFact>,
    /// Of a service its entrances, of which one suffices, in the order in which they are tried.
    pub entrances: Vec<PathEntrance>,
    /// The zone that is missing from the snapshot and may resolve the name otherwise, so that the answer is unknown.
    pub missing_zone: Option<String>,
    /// All together.
    pub verdict: Verdict,
    /// What the client sees, if it does not work.
    pub symptom: Option<Symptom>,
    /// All that was asked, by verdict and cause.
    pub parts: Vec<PathPart>,
    /// Every step of an example of what decides.
    pub steps: Vec<StepFact>,
    /// Where it works for some: the steps of one that fails.
    pub fails: Vec<StepFact>,
    /// The example.
    pub example: Option<Witness>,
    /// Where it fails: all that is in the way, in the order in which it is met.
    pub obstacles: Vec<ObstacleFact>,
    /// What would fix it, the best first; each was tried in memory.
    pub fixes: Vec<FixFact>,
    /// Fixes that break an expectation, where nothing is known that could be changed before: they are not offered.
    pub fixes_refused: Vec<FixFact>,
    /// Whether the search for fixes ended at its limit, so that there may be more.
    pub fixes_given_up: bool,
    /// Whether what a fix opens and ends was looked for in the whole estate; else, in a large one, only between the
    /// networks of the two ends and for the traffic that was asked about.
    pub fixes_judged_everywhere: bool,
    /// The same question asked of an earlier snapshot.
    pub since: Option<SinceFact>,
}

/// Answers a question.
pub fn path_answer(view: &Fabric<'_>, question: &Question, asked: [&str; 2]) -> PathAnswer {
    let services = &question.connection.services;
    let starts = match &question.asked.start {
        heronshale_engine::walk::Start::Interfaces(all) => all.len(),
        _ => 1,
    };
    let many = starts.max(question.destinations.ranges().count()) > view.limits.one_by_one;
    let tell = if many { Tell::Verdicts } else { Tell::Deciders };
    let answered = heronshale_engine::path::answered(view, question, tell);
    let end = |asked: &str, addresses: &Addresses| PathEnd {
        asked: asked.to_owned(),
        addresses: addresses.texts(),
    };
    let mut answer = PathAnswer {
        from: end(asked[0], &question.sources),
        to: end(asked[1], &question.destinations),
        traffic: (!services.is_empty()).then(|| services_text(services)),
        lookups: question
            .resolution
            .as_ref()
            .map_or_else(Vec::new, |found| lookup_facts(view, found)),
        entrances: entrance_facts(question, &answered),
        missing_zone: question.missing_zone().map(str::to_owned),
        verdict: answered.summary.verdict,
        symptom: None,
        parts: Vec::new(),
        steps: Vec::new(),
        fails: Vec::new(),
        example: None,
        obstacles: Vec::new(),
        fixes: Vec::new(),
        fixes_refused: Vec::new(),
        fixes_given_up: false,
        fixes_judged_everywhere: false,
        since: None,
    };
    if answer.missing_zone.is_some() {
        return answer;
    }
    if question
        .resolution
        .as_ref()
        .is_some_and(|found| found.addresses.is_empty())
    {
        answer.symptom = Some(Symptom::NameError);
        fix(view, question, None, &mut answer);
        return answer;
    }
    let symbols = symbols(view, &question.sources.union(&question.destinations));
    let outside = if many {
        PacketSet::empty()
    } else {
        PacketSet::union_all(answered.parts.iter().map(|part| part.packets.clone())).complement()
    };
    let mut order: Vec<&Part> = answered.parts.iter().collect();
    order.sort_by_key(|part| (part.judged.verdict, part.packets.lowest()));
    let mut above = outside;
    for part in order {
        if !many {
            above = above.union(&part.packets);
        }
        answer.parts.push(part_fact(
            view, question, &answered, part, &above, &symbols, many,
        ));
    }
    let deciding = answered
        .parts
        .iter()
        .filter(|part| part.judged.verdict == answered.summary.verdict)
        .min_by_key(|part| part.packets.lowest())
        .or_else(|| {
            answered
                .parts
                .iter()
                .min_by_key(|part| (part.judged.verdict, part.packets.lowest()))
        });
    if let Some(packet) = deciding.and_then(|part| part.packets.witness()) {
        let each = Asked {
            any_of: Vec::new(),
            ..question.asked.clone()
        };
        let (detail, mut judged) = in_detail(view, &each, &packet);
        let facts = |trail| {
            detail
                .labels
                .steps(trail)
                .into_iter()
                .map(|step| step_fact(view, step))
                .collect()
        };
        answer.steps = facts(judged.trail);
        if let Some((_, trail)) = &judged.some {
            answer.fails = facts(*trail);
        }
        // Of a name's addresses some work and others do not.
        let by_address =
            question.asked.any_of.len() > 1 && answered.summary.verdict == Verdict::WorksForSome;
        let failing = |part: &&Part| part.judged.verdict > Verdict::Unknown;
        let failing = answered
            .parts
            .iter()
            .filter(failing)
            .min_by_key(|part| part.packets.lowest());
        if let Some(other) = failing
            .filter(|_| by_address)
            .and_then(|part| part.packets.witness())
        {
            let (detail, of_it) = in_detail(view, &each, &other);
            answer.fails = detail
                .labels
                .steps(of_it.trail)
                .into_iter()
                .map(|step| step_fact(view, step))
                .collect();
            judged.verdict = Verdict::WorksForSome;
        }
        answer.example = Some(witness(&packet));
        let last = if judged.verdict == Verdict::WorksForSome {
            answer.fails.last()
        } else {
            answer.steps.last()
        };
        if judged.verdict != Verdict::Works {
            let rejects = last.is_some_and(|step| step.does == StepDoes::Rejects && !step.reply);
            answer.symptom = Some(if rejects {
                Symptom::Reset
            } else {
                Symptom::Silence
            });
        }
        let by_nature = by_address
            || answered
                .parts
                .iter()
                .all(|part| part.judged.verdict == Verdict::WorksForSome);
        // Of a service one entrance suffices.
        let works = question.entrances.0.len() > 1 && answered.summary.verdict <= Verdict::Unknown;
        if !works
            && (judged.verdict > Verdict::Unknown
                || (by_nature && judged.verdict == Verdict::WorksForSome))
        {
            fix(view, question, Some(&packet), &mut answer);
        }
    }
    answer
}

/// The step that decides the verdict of a whole question: of the worst part that has it.
pub(super) fn deciding_step(
    view: &Fabric<'_>,
    question: &Question,
    answered: &Answered,
) -> Option<StepFact> {
    let verdict = answered.summary.verdict;
    let fails =
        |part: &&Part| part.judged.verdict >= verdict && part.judged.verdict != Verdict::Works;
    let part = answered
        .parts
        .iter()
        .filter(fails)
        .min_by_key(|part| (part.judged.verdict, part.packets.lowest()))?;
    let packet = part.packets.witness()?;
    let each = Asked {
        any_of: Vec::new(),
        ..question.asked.clone()
    };
    let (detail, judged) = in_detail(view, &each, &packet);
    let trail = judged
        .some
        .as_ref()
        .map_or(judged.trail, |(_, trail)| *trail);
    let last = detail.labels.steps(trail).last().copied()?;
    Some(step_fact(view, last))
}

/// How the entrances of a service fare, if it has several.
fn entrance_facts(question: &Question, answered: &Answered) -> Vec<PathEntrance> {
    let all = question
        .entrances
        .0
        .iter()
        .filter(|_| question.entrances.0.len() > 1);
    let fact = |entrance: &heronshale_engine::path::Entrance| {
        let here = answered
            .parts
            .iter()
            .filter(|part| part.packets.destinations().overlaps(&entrance.addresses));
        let mut verdicts: Vec<Verdict> = here.map(|part| part.judged.verdict).collect();
        verdicts.sort_unstable();
        verdicts.dedup();
        let verdict = match verdicts.as_slice() {
            [] => return None,
            [only] => *only,
            [first, ..] if *first <= Verdict::WorksForSome => Verdict::WorksForSome,
            several if several.contains(&Verdict::Undecided) => Verdict::Undecided,
            several if several.contains(&Verdict::Unknown) => Verdict::Unknown,
            [first, ..] => *first,
        };
        Some(PathEntrance {
            name: entrance.name.clone(),
            addresses: entrance.addresses.texts(),
            verdict,
        })
    };
    all.filter_map(fact).collect()
}

/// Looks for all that is in the way, and for fixes: of a question about some traffic, and of many ends for one example.
fn fix(view: &Fabric<'_>, question: &Question, example: Option<&Packet>, answer: &mut PathAnswer) {
    if question.connection.services.is_empty() {
        return;
    }
    let starts = match &question.asked.start {
        heronshale_engine::walk::Start::Interfaces(all) => all.len(),
        _ => 1,
    };
    let internet = view.internet_end();
    let one = |all: &Addresses| {
        all.ranges().all(|range| range.first == range.last) && all.ranges().count() <= 2
    };
    let whole = |all: &Addresses| one(all) || all.is_subset(&internet);
    let named = question.resolution.is_some();
    let together =
        starts == 1 && whole(&question.sources) && (named || whole(&question.destinations));
    let only = example.filter(|_| !together);
    let only = only.map(|packet| (packet.source_address(), packet.destination_address()));
    let asking = Asking {
        connection: question.connection.clone(),
        only,
    };
    let mut found = fixing(view, &asking);
    found.try_on(view, &asking);
    let facts = fix_facts(view, &found);
    (answer.obstacles, answer.fixes) = (facts.obstacles, facts.fixes);
    answer.fixes_refused = facts.refused;
    answer.fixes_given_up = found.given_up;
    answer.fixes_judged_everywhere = found.everywhere;
}

/// Walks one packet with every step told.
pub(crate) fn in_detail(view: &Fabric<'_>, asked: &Asked, packet: &Packet) -> (Answered, Judged) {
    let one = PacketSet::single(packet)
        .any_source_port()
        .intersection(&asked.packets);
    let question = Asked {
        packets: one,
        ..asked.clone()
    };
    let answered = walk(view, &question, Tell::Steps);
    let judged = answered.summary.clone();
    (answered, judged)
}

fn part_fact(
    view: &Fabric<'_>,
    question: &Question,
    answered: &Answered,
    part: &Part,
    above: &PacketSet,
    symbols: &Symbols,
    many: bool,
) -> PathPart {
    let estate = view.estate;
    let whole = |family: Family,
                 numbers: &heronshale_sets::intervals::Intervals,
                 all: &Addresses,
                 side: &str| {
        let mut words = peer_words(family, numbers, symbols);
        let here = Addresses::from_intervals(family, numbers.clone()).intersection(all);
        words.ranges = here.texts();
        words.whole = here == all.intersection(&Addresses::of_family(family));
        words.said = if words.whole {
            side.to_owned()
        } else {
            peer_words(family, here.of(family), symbols).said
        };
        words
    };
    let entries = if many {
        Vec::new()
    } else {
        apart(entries_within(&part.packets, above))
    };
    let traffic = entries.into_iter().map(|entry| PathTraffic {
        sources: whole(
            entry.family,
            &entry.sources,
            &question.sources,
            "all of them",
        ),
        destinations: whole(
            entry.family,
            &entry.destinations,
            &question.destinations,
            "all of them",
        ),
        services: entry.service_texts(),
        exact: true,
    });
    let traffic: Vec<PathTraffic> = if many {
        summed(&part.packets, symbols)
    } else {
        traffic.collect()
    };
    let judged = &part.judged;
    let packet = part.packets.witness();
    // Where only verdicts were told apart, an example says what decided.
    let example = packet.filter(|_| judged.trail == 0 && judged.verdict != Verdict::Works);
    let each = Asked {
        any_of: Vec::new(),
        ..question.asked.clone()
    };
    let example = example.map(|packet| in_detail(view, &each, &packet));
    let (answered, judged) = example
        .as_ref()
        .map_or((answered, judged), |(answered, judged)| (answered, judged));
    // What a balancer picks for each direction has to be alike.
    let picks = judged
        .some
        .as_ref()
        .is_some_and(|(all, _)| all.iter().any(|one| matches!(one, Choice::BackEnd(..))));
    let picked = packet.filter(|_| picks).and_then(|packet| {
        let (answered, judged) = in_detail(view, &each, &packet);
        picked_alike(view, &answered, &judged)
    });
    let deciding = match (judged.verdict, &judged.some) {
        (Verdict::Works, _) => None,
        (_, Some((_, trail))) => answered.labels.steps(*trail).last().copied(),
        _ => answered.labels.steps(judged.trail).last().copied(),
    };
    PathPart {
        verdict: judged.verdict,
        traffic,
        because: deciding.map(|step| step_fact(view, step)),
        conditions: judged
            .conditions
            .iter()
            .map(|condition| condition_text(estate, condition))
            .collect(),
        only_if: picked.map_or_else(|| choices_text(view, judged), |text| vec![text]),
        witness: packet.map(|packet| witness(&packet)),
    }
}

/// Entries of a list that is read from the top, each without what those before it have, where that is one entry as well.
fn apart(entries: Vec<Entry>) -> Vec<Entry> {
    let mut taken = PacketSet::empty();
    let own = |entry: Entry| {
        let all = PacketSet::of_entry(&entry, ());
        let left = heronshale_sets::packet::entries(&all.difference(&taken));
        taken = taken.union(&all);
        match <[Entry; 1]>::try_from(left) {
            Ok([one]) => one,
            Err(_) => entry,
        }
    };
    entries.into_iter().map(own).collect()
}

/// What a balancer has to pick alike there and back, if a connection works for that only.
fn picked_alike(view: &Fabric<'_>, answered: &Answered, judged: &Judged) -> Option<String> {
    let steps = answered.labels.steps(judged.trail);
    let at = |reply: bool| {
        steps
            .iter()
            .filter(move |step| step.reply == reply)
            .find_map(|step| match step.what {
                What::Routed(Winner {
                    hop: Hop::Balancer(id),
                    ..
                }) => Some(id),
                _ => None,
            })
    };
    let id = at(false).filter(|id| at(true) == Some(*id))?;
    let (_, fails) = judged.some.as_ref()?;
    let last = answered.labels.steps(*fails).last().copied()?.clone();
    let other = matches!(last.what, What::Ended(Why::SawNoRequest | Why::Bypassed));
    let item = &view.estate.balancers[id];
    (other && !item.symmetric).then(|| {
        format!(
            "balancer {} picks the same back end for request and reply",
            item.name
        )
    })
}

fn lookup_facts(view: &Fabric<'_>, found: &Resolution) -> Vec<LookupFact> {
    let estate = view.estate;
    let fact = |lookup: &heronshale_model::names::Lookup| {
        let (by, zone_place) = match lookup.by {
            Answerer::Zone(zone) => {
                let zone = &estate.dns_zones[zone];
                (
                    format!("zone {}", zone.name),
                    Some(estate.sources.place(&zone.origin)),
                )
            }
            Answerer::Public => ("the public".to_owned(), None),
        };
        let says = lookup.record.as_ref().map(|record| match &record.data {
            heronshale_model::estate::RecordData::Alias(name) => format!("alias of {name}"),
            heronshale_model::estate::RecordData::Addresses(all) => all
                .iter()
                .map(ToString::to_string)
                .collect::<Vec<_>>()
                .join(", "),
        });
        let place = lookup
            .record
            .as_ref()
            .map(|record| estate.sources.place(&record.origin))
            .or(zone_place);
        LookupFact {
            name: lookup.name.to_string(),
            by,
            says,
            place,
        }
    };
    found.lookups.iter().map(fact).collect()
}

/// Says which obstacles are new against the answer of an earlier snapshot, or why that could not be asked.
pub fn since(answer: &mut PathAnswer, old: Result<&PathAnswer, &str>, taken: Option<String>) {
    let old = match old {
        Ok(old) => old,
        Err(why) => {
            let not_asked = Some(why.to_owned());
            answer.since = Some(SinceFact {
                taken,
                verdict: None,
                not_asked,
                gone: Vec::new(),
                edits: Vec::new(),
                cause: Vec::new(),
                revert: None,
            });
            return;
        }
    };
    let same = |a: &StepFact, b: &StepFact| {
        (a.reply, &a.at, &a.why, a.does) == (b.reply, &b.at, &b.why, b.does)
    };
    for obstacle in &mut answer.obstacles {
        let known = old
            .obstacles
            .iter()
            .any(|other| same(&other.step, &obstacle.step));
        obstacle.new = Some(!known);
        let at =
            |step: &&StepFact| step.reply == obstacle.step.reply && step.at == obstacle.step.at;
        obstacle.before = old.steps.iter().find(at).filter(|_| !known).cloned();
    }
    let still = |step: &StepFact| {
        answer
            .obstacles
            .iter()
            .any(|obstacle| same(&obstacle.step, step))
    };
    let gone = old
        .obstacles
        .iter()
        .map(|obstacle| &obstacle.step)
        .filter(|step| !still(step))
        .cloned()
        .collect();
    answer.since = Some(SinceFact {
        taken,
        verdict: Some(old.verdict),
        not_asked: None,
        gone,
        edits: Vec::new(),
        cause: Vec::new(),
        revert: None,
    });
}
