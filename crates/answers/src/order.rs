//! An order of steps, as data.

use crate::compare::{
    ChangeEdit, OutcomeFact, edit_facts, example, in_words, letters, outcome_fact,
};
use heronshale_audit::describe::{PeerWords, Witness, witness};
use heronshale_audit::facts::PathTraffic;
use heronshale_change::{Between, Check, Class, Harm, Harmed, Order, Why};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::walk::Verdict;
use heronshale_sets::packet::{PacketSet, service};
use serde::Serialize;

/// Groups of connections of a state in between that are listed; more are counted.
const MOST_LISTED: usize = 8;

/// Connections that fare badly in a state in between.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct HarmFact {
    /// What is wrong.
    pub harm: Harm,
    /// Who opens them, in words.
    pub from: Vec<PeerWords>,
    /// To whom, in words, with which services.
    pub traffic: Vec<PathTraffic>,
    /// What became of them before the change.
    pub before: OutcomeFact,
    /// What becomes of them in between.
    pub between: OutcomeFact,
    /// What becomes of them after the change.
    pub after: OutcomeFact,
    /// One of them.
    pub example: Option<Witness>,
}

/// A state in between.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct BetweenFact {
    /// The letters of the edits that are made in it.
    pub made: Vec<String>,
    /// Connections that fare badly, the worst first.
    pub harms: Vec<HarmFact>,
    /// How many more groups of such connections there are.
    pub more: usize,
    /// Expectations that both ends keep and this state does not.
    pub broken: Vec<String>,
}

/// What shows that a step was made.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct CheckFact {
    /// How the connection changes by the step; none if it stays as it is, and would not if a later step were made first.
    pub class: Option<Class>,
    /// The connection.
    pub example: Witness,
    /// Its verdict after the step.
    pub verdict: String,
    /// The command that asks for it, of a snapshot taken after the step.
    pub command: String,
}

/// One step.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct StepOfOrder {
    /// Its number, from 1.
    pub number: usize,
    /// The letters of its edits: several where fewer make no legal estate.
    pub edits: Vec<String>,
    /// Who makes it.
    pub owner: Option<String>,
    /// Whether it may be made at any time, before, between or after the others.
    pub any_time: bool,
    /// What shows that it was made, of a step for any time once all are; none if nothing that is known changes by it alone.
    pub check: Option<CheckFact>,
    /// The state after it.
    pub after: BetweenFact,
    /// Harmful states that are passed if all steps so far are undone from here, the last first.
    pub undo: Vec<BetweenFact>,
}

/// Two steps of which one has to come first.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ConstraintFact {
    /// The number of the step that comes first.
    pub first: usize,
    /// The number of the step that follows.
    pub then: usize,
    /// The harmful state that the other order passes; none if that state is no legal estate.
    pub otherwise: Option<BetweenFact>,
}

/// Edits without a safe order.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ConflictFact {
    /// Their letters.
    pub edits: Vec<String>,
    /// Whether every smaller set of edits has a safe order.
    pub minimal: bool,
    /// A harmful state of the best of their orders.
    pub state: BetweenFact,
}

/// An order of steps.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct OrderAnswer {
    /// All edits, in the order of their places.
    pub edits: Vec<ChangeEdit>,
    /// The steps, in the order in which they are made; those for any time come last.
    pub steps: Vec<StepOfOrder>,
    /// Whether no state in between is harmful.
    pub is_safe: bool,
    /// Which step has to come before which.
    pub constraints: Vec<ConstraintFact>,
    /// Where there is no safe order: edits that have none.
    pub conflict: Option<ConflictFact>,
    /// Whether every order counted; else one was looked for step by step.
    pub all_tried: bool,
    /// Whether some connections are unknown or undecided at an end, or not judged (names, and addresses that change sides), so that
    /// nothing is said of them.
    pub some_not_judged: bool,
}

fn harm_fact(view: &Fabric<'_>, one: &Harmed) -> HarmFact {
    let (from, traffic) = in_words(view, &one.packets, &view.internet_end());
    let [before, after, between] = one.outcomes.each_ref().map(outcome_fact);
    HarmFact {
        harm: one.harm,
        from,
        traffic,
        before,
        between,
        after,
        example: example(view, &one.from, &one.packets).as_ref().map(witness),
    }
}

fn between_fact(view: &Fabric<'_>, order: &[Vec<usize>], state: &Between) -> BetweenFact {
    let mut made: Vec<usize> = state
        .done
        .iter()
        .flat_map(|step| order[*step].clone())
        .collect();
    made.sort_unstable();
    let harms = state.harmed.iter().take(MOST_LISTED);
    let broken = state.broken.iter();
    BetweenFact {
        made: letters(&made),
        harms: harms.map(|one| harm_fact(view, one)).collect(),
        more: state.harmed.len().saturating_sub(MOST_LISTED),
        broken: broken
            .map(|at| view.stated.expectations[*at].name.to_string())
            .collect(),
    }
}

/// An end as a command names it: by the interface that has this address and no other.
fn end_text(view: &Fabric<'_>, address: &str) -> String {
    let mut holders = view.estate.interfaces.items().iter().filter(|one| {
        let mut texts = one.addresses.texts().into_iter();
        texts.next().as_deref() == Some(address) && texts.next().is_none()
    });
    match (holders.next(), holders.next()) {
        (Some(one), None) => one.name.to_string(),
        _ => address.to_owned(),
    }
}

fn check_fact(view: &Fabric<'_>, check: &Check) -> Option<CheckFact> {
    let packet = example(view, &check.from, &check.packets)?;
    let proof = witness(&packet);
    let (from, to) = (
        end_text(view, &proof.source),
        end_text(view, &proof.destination),
    );
    let protocol = packet.protocol();
    let traffic = match (protocol, proof.port) {
        (6, Some(port)) => format!("--tcp {port}"),
        (17, Some(port)) => format!("--udp {port}"),
        _ => {
            let one = PacketSet::single(&packet).services();
            let texts = service::notation(packet.family, &one);
            format!("--traffic {:?}", texts.first()?)
        }
    };
    let expect = match check.now.verdict {
        Some(Verdict::Works) => "works",
        Some(Verdict::WorksForSome) => "partly",
        Some(Verdict::Conditional) => "depends",
        Some(Verdict::Unknown | Verdict::Undecided) => "unknown",
        _ => "fails",
    };
    Some(CheckFact {
        class: check.class,
        example: proof,
        verdict: check.now.word().to_owned(),
        command: format!("heronshale path {from} {to} {traffic} --expect {expect}"),
    })
}

/// What an order answers; `new` is the state after all steps.
pub fn order_answer((old, new): (&Fabric<'_>, &Fabric<'_>), order: &Order) -> OrderAnswer {
    // States in between are named by the steps as they were before they had an order.
    let mut by_place: Vec<Vec<usize>> = order.steps.iter().map(|step| step.edits.clone()).collect();
    by_place.sort();
    let state = |state: &Between| between_fact(new, &by_place, state);
    let owner = |edits: &[usize]| {
        let first = edits.first().map(|at| &order.edits[*at]);
        first.and_then(|edit| edit.owner.clone())
    };
    let steps = order
        .steps
        .iter()
        .enumerate()
        .map(|(at, step)| StepOfOrder {
            number: at + 1,
            edits: letters(&step.edits),
            owner: owner(&step.edits),
            any_time: step.any_time,
            check: step.check.as_ref().and_then(|check| {
                let view = if check.class == Some(Class::Lost) {
                    old
                } else {
                    new
                };
                check_fact(view, check)
            }),
            after: state(&step.after),
            undo: step.undo.iter().map(state).collect(),
        });
    let constraints = order.constraints.iter().map(|one| ConstraintFact {
        first: one.first + 1,
        then: one.then + 1,
        otherwise: match &one.why {
            Why::Needs => None,
            Why::Harm(harm) => Some(state(harm)),
        },
    });
    OrderAnswer {
        edits: edit_facts(&order.edits, &[], &[]),
        steps: steps.collect(),
        is_safe: order.conflict.is_none(),
        constraints: constraints.collect(),
        conflict: order.conflict.as_ref().map(|one| ConflictFact {
            edits: letters(&one.edits),
            minimal: one.minimal,
            state: state(&one.state),
        }),
        all_tried: order.all_tried,
        some_not_judged: order.open,
    }
}
