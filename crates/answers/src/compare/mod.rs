//! Two states compared, as data.

mod acceptances;
mod behind;
mod graded;

pub use acceptances::{TurnedAcceptance, turned_acceptances};
pub use behind::{edits_behind, edits_to_undo, others_that_differ, some_edits};

use crate::path::in_detail;
use crate::traffic::{summed, symbols};
use heronshale_audit::describe::{PeerWords, Witness, peer_words, witness};
use heronshale_audit::expect::{Judging, Standing, State, sentence, standings};
use heronshale_audit::facts::{
    EditFact, Meaning, PathTraffic, StepFact, edit_fact, meaning_of, step_fact,
};
use heronshale_audit::fix::{Kept, mended};
use heronshale_change::{Class, Comparison, Difference, From, Outcome, question, start_of};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::walk::Verdict;
use heronshale_model::change::Edit;
use heronshale_model::severity::Severity;
use heronshale_model::source::Place;
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::packet::{Packet, PacketSet, service};
use rustc_hash::FxHashMap;
use serde::Serialize;

/// Rows of which the packet is walked in both states.
const MOST_WALKED: usize = 400;
/// Traffic that is listed exactly; more is summed up.
const MOST_LISTED: usize = 12;

/// One edit.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ChangeEdit {
    /// The letter by which rows name it: `a`, `b` … `z`, `aa`.
    pub letter: String,
    /// What it does.
    pub text: String,
    /// Who owns what it changes.
    pub owner: Option<String>,
    /// Where: in the new snapshot; of what is gone, in the old one.
    pub place: Place,
    /// Whether it takes something away.
    pub gone: bool,
    /// Whether it is part of no known difference.
    pub without_effect: bool,
    /// Whether it changes what DNS names mean, of which nothing is said.
    pub not_judged: bool,
}

/// What became of a connection, or becomes of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct OutcomeFact {
    /// The verdict in a word; `absent` where nothing starts.
    pub verdict: String,
    /// Where it fails differently by nature's choices: all the words.
    pub words: Vec<String>,
    /// The firewalls that requests pass.
    pub firewalls: Vec<String>,
    /// The firewalls that replies pass.
    pub reply_firewalls: Vec<String>,
    /// As which address the sender is seen, where that is another.
    pub seen_as: Vec<String>,
    /// Who receives it, where the asked address does not say so.
    pub receivers: Vec<String>,
    /// What would have to hold.
    pub conditions: Vec<String>,
    /// The step that decides about the example.
    pub decides: Option<StepFact>,
}

/// Connections as sets: every source to every destination with every service.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ChangedSet {
    /// Where they start: `network tickets`, `site dockyard`, `internet`.
    pub start: String,
    /// The sources.
    pub sources: Vec<String>,
    /// The destinations.
    pub destinations: Vec<String>,
    /// The services, in the notation of rules.
    pub services: Vec<String>,
}

/// Connections that changed alike.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ChangedRow {
    /// How they changed.
    pub class: Class,
    /// The letters of the edits of each smallest set that makes the change: `[["a"], ["b"]]` is each alone, `[["a", "b"]]` only
    /// together.
    pub cause: Vec<Vec<String>>,
    /// The letters of the fewest edits without which all is as before.
    pub undo: Vec<String>,
    /// Whether no smaller set of edits was left untried.
    pub cause_is_minimal: bool,
    /// How bad it is: by the class, and by what expectations say.
    pub severity: Severity,
    /// By what it is known again: the same for the same connections in the same class.
    pub fingerprint: String,
    /// Whose edits have to meet for it; empty if the edits of one owner suffice.
    pub meet: Vec<String>,
    /// Who opens them, in words.
    pub from: Vec<PeerWords>,
    /// To whom, in words, with which services.
    pub traffic: Vec<PathTraffic>,
    /// What became of them before.
    pub before: OutcomeFact,
    /// What becomes of them now.
    pub now: OutcomeFact,
    /// What expectations say of them; none if nothing is expected at all.
    pub meaning: Option<Meaning>,
    /// The expectations that speak of them.
    pub expectations: Vec<String>,
    /// One of them.
    pub example: Option<Witness>,
    /// All of them.
    pub sets: Vec<ChangedSet>,
}

/// An expectation that stands otherwise.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct TurnedExpectation {
    /// Its name.
    pub name: String,
    /// What it says.
    pub says: String,
    /// How it stood.
    pub before: State,
    /// How it stands.
    pub now: State,
    /// Why.
    pub why: String,
    /// The letters of edits that turn it alone.
    pub cause: Vec<String>,
    /// Where it breaks: what would keep it, and break no other.
    pub fix: Vec<EditFact>,
}

/// Two states compared.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct CompareAnswer {
    /// When the old snapshot was taken.
    pub since: Option<String>,
    /// How many things have another name, and are otherwise the same.
    pub renamed: usize,
    /// All edits, in the order of their places.
    pub edits: Vec<ChangeEdit>,
    /// What changed, class by class.
    pub rows: Vec<ChangedRow>,
    /// Whether some connections are unknown in both states, so that no row is about them.
    pub unknown_in_both: bool,
    /// Connections that fail in another way: how many rows.
    pub fails_otherwise: usize,
    /// Expectations that stand otherwise.
    pub turned: Vec<TurnedExpectation>,
    /// Acceptances that stand otherwise.
    pub acceptances: Vec<TurnedAcceptance>,
    /// What was asked for, if not everything: rows are about connections from or to this.
    pub only: Vec<String>,
    /// How many groups of connections are left out by that.
    pub left_out: usize,
    /// Where it was asked: how many findings of the audit are new.
    pub new_findings: Option<usize>,
    /// Addresses of the estate that are the internet's now.
    pub released: Vec<String>,
    /// Addresses of the internet that are the estate's now.
    pub taken: Vec<String>,
    /// Gaps that only the old snapshot declares.
    pub gaps_before: Vec<String>,
    /// Gaps that only the new snapshot declares.
    pub gaps_now: Vec<String>,
}

/// The letter of an edit: `a` to `z`, then `aa`.
pub fn letter(mut at: usize) -> String {
    let mut letters = Vec::new();
    loop {
        letters.push(char::from(b'a' + u8::try_from(at % 26).unwrap_or(0)));
        if at < 26 {
            break;
        }
        at = at / 26 - 1;
    }
    letters.iter().rev().collect()
}

pub(crate) fn letters(all: &[usize]) -> Vec<String> {
    all.iter().map(|at| letter(*at)).collect()
}

/// A start in words.
fn start_text(from: &From) -> String {
    match from {
        From::Network(name, _) => format!("network {name}"),
        From::Site(name) => format!("site {name}"),
        From::Internet => "internet".to_owned(),
    }
}

pub(crate) fn outcome_fact(outcome: &Outcome) -> OutcomeFact {
    let joined = |pick: &dyn Fn(&heronshale_change::Seen) -> Vec<String>| {
        let mut all: Vec<String> = outcome.ways.iter().flat_map(pick).collect();
        all.sort();
        all.dedup();
        all
    };
    let names = |all: &[heronshale_model::estate::Name]| {
        all.iter().map(ToString::to_string).collect::<Vec<_>>()
    };
    OutcomeFact {
        verdict: outcome.word().to_owned(),
        words: if outcome.words.len() > 1 {
            let words = outcome.words.iter().map(|word| word.word().to_owned());
            words.collect()
        } else {
            Vec::new()
        },
        firewalls: joined(&|way| names(&way.request)),
        reply_firewalls: joined(&|way| names(&way.reply)),
        seen_as: joined(&|way| way.source.iter().map(ToString::to_string).collect()),
        receivers: joined(&|way| way.receiver.iter().cloned().collect()),
        conditions: outcome.conditions.iter().cloned().collect(),
        decides: None,
    }
}

/// All connections of a difference, as sets.
fn sets_of(one: &Difference) -> Vec<ChangedSet> {
    let mut found = Vec::new();
    for row in one.packets.rows() {
        let family = family_of(&row.sources);
        for (destinations, services) in &row.destinations {
            found.push(ChangedSet {
                start: start_text(&one.from),
                sources: row.sources.texts(),
                destinations: destinations.texts(),
                services: service::notation(family, services),
            });
        }
    }
    found
}

fn family_of(addresses: &Addresses) -> Family {
    if addresses.of(Family::V4).is_empty() {
        Family::V6
    } else {
        Family::V4
    }
}

/// One of its packets, as a client of a state sends it.
pub(crate) fn example(view: &Fabric<'_>, from: &From, packets: &PacketSet) -> Option<Packet> {
    let sent = question(view, from, packets);
    let sent = sent.and_then(|asked| asked.packets.witness());
    sent.or_else(|| packets.witness())
}

/// Packets in words: from whom, and what to whom. `internet` are the addresses from which the internet sends.
pub(crate) fn in_words(
    view: &Fabric<'_>,
    packets: &PacketSet,
    internet: &Addresses,
) -> (Vec<PeerWords>, Vec<PathTraffic>) {
    let ends = packets.sources().union(&packets.destinations());
    let mut symbols = symbols(view, &ends);
    // Less what changed sides, which no row is about.
    symbols.insert(0, ("the internet".to_owned(), internet.clone()));
    let rows = packets.rows();
    let mut from: Vec<PeerWords> = Vec::new();
    let mut traffic = Vec::new();
    for row in &rows {
        let family = family_of(&row.sources);
        from.push(peer_words(family, row.sources.of(family), &symbols));
        for (destinations, services) in &row.destinations {
            traffic.push(PathTraffic {
                sources: peer_words(family, row.sources.of(family), &symbols),
                destinations: peer_words(family, destinations.of(family), &symbols),
                services: service::texts(family, services),
                exact: true,
            });
        }
    }
    if traffic.len() > MOST_LISTED {
        traffic = summed(packets, &symbols);
    }
    (from, traffic)
}

/// All edits, with their letters.
pub(crate) fn edit_facts(
    edits: &[Edit],
    without_effect: &[usize],
    not_judged: &[usize],
) -> Vec<ChangeEdit> {
    let fact = |(at, edit): (usize, &Edit)| ChangeEdit {
        letter: letter(at),
        text: edit.text.clone(),
        owner: edit.owner.clone(),
        place: edit.place.clone(),
        gone: edit.gone,
        without_effect: without_effect.contains(&at),
        not_judged: not_judged.contains(&at),
    };
    edits.iter().enumerate().map(fact).collect()
}

/// What makes rows one.
#[derive(PartialEq, Eq, Hash)]
struct Alike {
    class: Class,
    cause: Vec<Vec<usize>>,
    undo: Vec<usize>,
    old: Outcome,
    new: Outcome,
    meaning: Option<Meaning>,
    traffic: String,
}

struct Reading<'v, 'e> {
    old: &'v Fabric<'e>,
    new: &'v Fabric<'e>,
    judging: [Judging<'v, 'e>; 2],
    /// The addresses from which the internet sends in both states.
    internet: Addresses,
    walked: usize,
}

impl Reading<'_, '_> {
    /// The state in which a difference works, by which it is judged and named.
    fn view_of(&self, class: Class) -> (&Fabric<'_>, &Judging<'_, '_>) {
        match class {
            Class::Lost | Class::WorksForLess | Class::BecameUnknown => {
                (self.old, &self.judging[0])
            }
            _ => (self.new, &self.judging[1]),
        }
    }

    /// The step that decides about a packet.
    fn decides(view: &Fabric<'_>, one: &Difference) -> Option<StepFact> {
        let packet = one.packets.lowest()?;
        let alone = PacketSet::single(&packet).any_source_port();
        let asked = question(view, &one.from, &alone)?;
        let packet = asked.packets.lowest()?;
        let (answered, judged) = in_detail(view, &asked, &packet);
        let trail = match &judged.some {
            Some((_, fails)) => *fails,
            None => judged.trail,
        };
        let steps = answered.labels.steps(trail);
        let facts: Vec<StepFact> = steps
            .into_iter()
            .map(|step| step_fact(view, step))
            .collect();
        if judged.verdict == Verdict::Works {
            let mut requests = facts
                .iter()
                .rev()
                .filter(|step| !step.reply && step.decides);
            return requests.next().cloned();
        }
        facts.last().cloned()
    }

    fn row(&mut self, one: &Difference) -> (Alike, ChangedRow) {
        let (view, judging) = self.view_of(one.class);
        let (from, traffic) = in_words(view, &one.packets, &self.internet);
        let spoken = (!judging.is_silent())
            .then(|| start_of(view, &one.from))
            .flatten()
            .map(|start| judging.connections(&start, &one.packets));
        let meaning = spoken
            .as_ref()
            .and_then(|spoken| meaning_of(spoken, &one.packets));
        let mut expectations = spoken.map_or_else(Vec::new, |spoken| {
            [spoken.allowed_by, spoken.forbidden_by].concat()
        });
        expectations.sort();
        expectations.dedup();
        let walked = self.walked < MOST_WALKED && one.class != Class::FailsOtherwise;
        let facts =
            [(self.old, &one.old), (self.new, &one.new)].map(|(view, outcome)| OutcomeFact {
                decides: walked.then(|| Self::decides(view, one)).flatten(),
                ..outcome_fact(outcome)
            });
        let example = example(view, &one.from, &one.packets).as_ref().map(witness);
        self.walked += usize::from(walked);
        let [before, now] = facts;
        let words = |words: &PeerWords| format!("{words:?}");
        let key: Vec<String> = traffic
            .iter()
            .map(|one| format!("{} {:?}", words(&one.destinations), one.services))
            .collect();
        let alike = Alike {
            class: one.class,
            cause: one.cause.sets.clone(),
            undo: one.cause.undo.clone(),
            old: one.old.clone(),
            new: one.new.clone(),
            meaning,
            traffic: key.join("; "),
        };
        let row = ChangedRow {
            class: one.class,
            cause: one.cause.sets.iter().map(|set| letters(set)).collect(),
            undo: letters(&one.cause.undo),
            cause_is_minimal: one.cause.minimal,
            severity: Severity::Note,
            fingerprint: String::new(),
            meet: Vec::new(),
            from,
            traffic,
            before,
            now,
            meaning,
            expectations,
            example,
            sets: sets_of(one),
        };
        (alike, row)
    }
}

/// What two states answer. `turned_by` tells which edits alone turn expectations, by the places of these.
pub fn compare_answer(
    (old, new): (&Fabric<'_>, &Fabric<'_>),
    comparison: &Comparison,
    turned_by: &dyn Fn(&[usize]) -> Vec<Vec<usize>>,
) -> CompareAnswer {
    let mut reading = Reading {
        old,
        new,
        judging: [Judging::new(old), Judging::new(new)],
        internet: comparison.internet.clone(),
        walked: 0,
    };
    let mut rows: Vec<ChangedRow> = Vec::new();
    let mut known: FxHashMap<Alike, usize> = FxHashMap::default();
    for one in &comparison.differences {
        let (alike, row) = reading.row(one);
        match known.get(&alike) {
            Some(at) => {
                let there = &mut rows[*at];
                there.sets.extend(row.sets);
                for from in row.from {
                    if !there.from.contains(&from) {
                        there.from.push(from);
                    }
                }
                for name in row.expectations {
                    if !there.expectations.contains(&name) {
                        there.expectations.push(name);
                    }
                }
            }
            None => {
                known.insert(alike, rows.len());
                rows.push(row);
            }
        }
    }
    let owner_of = |letter: &str| {
        let mut edits = comparison.edits.iter().enumerate();
        edits
            .find(|(at, _)| self::letter(*at) == letter)
            .and_then(|(_, edit)| edit.owner.clone())
    };
    for row in &mut rows {
        row.severity = graded::severity(row);
        row.fingerprint = graded::print_of(row);
        row.meet = graded::owners_who_meet(row, &owner_of);
    }
    let fails_otherwise = rows
        .iter()
        .filter(|row| row.class == Class::FailsOtherwise)
        .count();
    let gaps = |one: &Fabric<'_>, other: &Fabric<'_>| -> Vec<String> {
        let of = |view: &Fabric<'_>| -> Vec<String> {
            crate::heading(view)
                .gaps
                .into_iter()
                .map(|gap| gap.object)
                .collect()
        };
        let there = of(other);
        of(one)
            .into_iter()
            .filter(|gap| !there.contains(gap))
            .collect()
    };
    CompareAnswer {
        since: old.estate.taken.map(|taken| taken.to_string()),
        renamed: 0,
        edits: edit_facts(
            &comparison.edits,
            &comparison.without_effect,
            &comparison.not_judged,
        ),
        rows,
        unknown_in_both: comparison.unknown_in_both,
        fails_otherwise,
        turned: turned(old, new, turned_by),
        acceptances: Vec::new(),
        only: Vec::new(),
        left_out: 0,
        new_findings: None,
        released: comparison.released.texts(),
        taken: comparison.taken.texts(),
        gaps_before: gaps(old, new),
        gaps_now: gaps(new, old),
    }
}

/// Why it stands so, with the packet that proves it.
fn why(standing: &Standing) -> String {
    let packet = standing.against.as_ref().map(|against| &against.packet);
    let packet = packet.map_or_else(String::new, |packet| format!(": {packet}"));
    format!("{}{packet}", standing.why)
}

/// Expectations that stand otherwise.
fn turned(
    old: &Fabric<'_>,
    new: &Fabric<'_>,
    turned_by: &dyn Fn(&[usize]) -> Vec<Vec<usize>>,
) -> Vec<TurnedExpectation> {
    let (before, now) = (standings(old), standings(new));
    let pairs = before.iter().zip(&now).enumerate();
    let places: Vec<usize> = pairs
        .filter(|(_, (before, now))| before.state != now.state)
        .map(|(at, _)| at)
        .collect();
    if places.is_empty() {
        return Vec::new();
    }
    let causes = turned_by(&places);
    let kept = Kept::among(&now);
    let fix = |at: usize| {
        if (before[at].state, now[at].state) != (State::Kept, State::Broken) {
            return Vec::new();
        }
        let edits = mended(new, &kept, at);
        edits.iter().map(|edit| edit_fact(new, edit)).collect()
    };
    let fact = |(at, cause): (&usize, Vec<usize>)| {
        let expectation = &new.stated.expectations[*at];
        TurnedExpectation {
            name: expectation.name.to_string(),
            says: sentence(expectation),
            before: before[*at].state,
            now: now[*at].state,
            why: why(&now[*at]),
            cause: letters(&cause),
            fix: fix(*at),
        }
    };
    places.iter().zip(causes).map(fact).collect()
}
