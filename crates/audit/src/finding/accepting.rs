//! Acceptances: which findings somebody lives with, and what is wrong with what was accepted (`docs/statements.md`).

use super::catalogue::CATALOGUE;
use super::draft::{Draft, Evidence, Finding, Role};
use super::found::{Found, finished, found, sorted};
use super::key::Key;
use super::kind::Kind;
use super::kinds;
use super::pinning::PinnedFact;
use super::pinning::{pinned, pinned_facts};
use crate::describe::moment_text;
use crate::expect::Standing;
use crate::exposure::{DeviceWay, DirectWay};
use heronshale_engine::fabric::Fabric;
use heronshale_model::stated::Acceptance;
use heronshale_sets::packet::PacketSet;
use rustc_hash::FxHashMap;
use serde::Serialize;

/// A finding that somebody lives with.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Accepted {
    /// The finding.
    pub finding: Finding,
    /// Why it is accepted.
    pub reason: String,
    /// Who answers for it.
    pub who: String,
    /// Until when.
    pub until: String,
    /// How many days that are from the date judged by, begun ones not counted.
    pub days_left: i64,
    /// The acceptance's place.
    pub place: heronshale_model::source::Place,
}

/// The findings of an estate, those that are accepted apart.
pub struct Judged {
    /// What is open: worst first, then by kind, file and line.
    pub findings: Vec<Finding>,
    /// What is accepted, in the same order.
    pub accepted: Vec<Accepted>,
    /// How expectations stand, in their order.
    pub standings: Vec<Standing>,
    /// The direct ways in.
    pub ways: Vec<DirectWay>,
    /// The ways in that lead by devices.
    pub device_ways: Vec<DeviceWay>,
}

/// Why an acceptance does not hold, and what that amounts to.
enum Fails {
    /// There is nothing to accept.
    Unused(String),
    /// Its day has passed, or no day is known.
    Expired(String),
    /// It accepts what is not there.
    TooWide(String, Vec<PinnedFact>),
}

/// Kinds that nobody can live with: what could not be decided, and what was said and is not so.
fn cannot_be_accepted(kind: &str) -> Option<&'static str> {
    match kind {
        "undecided" => Some("an undecided result cannot be accepted"),
        _ if kind.starts_with("expectation-") => {
            Some("a broken expectation is changed or deleted instead")
        }
        _ => None,
    }
}

fn shown(facts: &[PinnedFact]) -> String {
    const SHOWN: usize = 2;
    let one = |fact: &PinnedFact| {
        let few = |all: &[String]| match all {
            [first, _, _, _, ..] => format!("{first} and {} more", all.len() - 1),
            few => few.join(", "),
        };
        format!(
            "{} from {} to {}",
            few(&fact.on),
            few(&fact.from),
            few(&fact.to)
        )
    };
    let more = if facts.len() > SHOWN {
        format!("; and {} more parts", facts.len() - SHOWN)
    } else {
        String::new()
    };
    format!(
        "{}{more}",
        facts
            .iter()
            .take(SHOWN)
            .map(one)
            .collect::<Vec<_>>()
            .join("; ")
    )
}

/// Every finding, with what people say of it.
pub fn judged(view: &Fabric<'_>) -> Judged {
    let Found {
        findings: mut all,
        standings,
        ways,
        device_ways,
    } = found(view, |_| true);
    let mut accepted: Vec<Accepted> = Vec::new();
    let mut at: FxHashMap<String, usize> = all
        .iter()
        .enumerate()
        .map(|(at, finding)| (finding.fingerprint.clone(), at))
        .collect();
    for (index, finding) in all.iter().enumerate() {
        if let Some(former) = &finding.former {
            at.entry(former.clone()).or_insert(index);
        }
    }
    let mut taken: Vec<Option<&Acceptance>> = vec![None; all.len()];
    let mut told: Vec<(&Kind, &Acceptance, Fails)> = Vec::new();
    for acceptance in &view.stated.acceptances {
        let found = at.get(&acceptance.finding.to_lowercase()).copied();
        let Some(index) = found else {
            let what = "the audit has no such finding; it was fixed, or its subject has changed"
                .to_owned();
            told.push((
                &kinds::acceptance_unused::KIND,
                acceptance,
                Fails::Unused(what),
            ));
            continue;
        };
        let finding = &mut all[index];
        if finding.former.as_deref() == Some(acceptance.finding.to_lowercase().as_str())
            && finding.former.as_deref() != Some(&finding.fingerprint)
        {
            let text = format!(
                "This acceptance has the fingerprint of an earlier version. Write {}.",
                finding.fingerprint
            );
            let place = Some(acceptance.place.clone());
            finding.evidence.push(Evidence {
                role: Role::Says,
                text,
                rule: None,
                place,
            });
        }
        if let Some(why) = cannot_be_accepted(&finding.kind) {
            told.push((
                &kinds::acceptance_unused::KIND,
                acceptance,
                Fails::Unused(why.to_owned()),
            ));
            continue;
        }
        let until = moment_text(&acceptance.until.to_string());
        let expired = match view.at {
            Some(now) if now <= acceptance.until => None,
            Some(_) => Some(format!("it was valid until {until}")),
            None => Some(
                "the audit has no date; the snapshot has none, and --at is not given".to_owned(),
            ),
        };
        if let Some(why) = expired {
            told.push((
                &kinds::acceptance_expired::KIND,
                acceptance,
                Fails::Expired(why),
            ));
            continue;
        }
        let Some(packets) = &finding.packets else {
            taken[index] = Some(acceptance);
            continue;
        };
        let Some(written) = &acceptance.packets else {
            let why =
                "it names no packets, so it would accept any growth of the finding".to_owned();
            told.push((
                &kinds::acceptance_too_wide::KIND,
                acceptance,
                Fails::TooWide(why, Vec::new()),
            ));
            continue;
        };
        let pin = pinned(view, written);
        let grown: PacketSet = packets.difference(&pin);
        if grown.is_empty() {
            taken[index] = Some(acceptance);
        } else {
            let text = format!(
                "accepted by {} until {until}, has grown since: {}",
                acceptance.who,
                shown(&pinned_facts(view, &grown))
            );
            let place = Some(acceptance.place.clone());
            finding.evidence.push(Evidence {
                role: Role::Says,
                text,
                rule: None,
                place,
            });
        }
        let over = pin.difference(packets);
        if !over.is_empty() {
            let facts = pinned_facts(view, &over);
            let why = format!("it covers what is not open: {}", shown(&facts));
            told.push((
                &kinds::acceptance_too_wide::KIND,
                acceptance,
                Fails::TooWide(why, facts),
            ));
        }
    }
    let title_of = |acceptance: &Acceptance| {
        at.get(&acceptance.finding.to_lowercase())
            .map(|at| all[*at].title.clone())
    };
    let drafts: Vec<(&Kind, Draft)> = told
        .into_iter()
        .map(|(kind, acceptance, fails)| (kind, tell(acceptance, title_of(acceptance), fails)))
        .collect();
    let mut open: Vec<Finding> = Vec::new();
    for (finding, acceptance) in all.into_iter().zip(taken) {
        match acceptance {
            None => open.push(finding),
            Some(acceptance) => accepted.push(Accepted {
                finding,
                reason: acceptance.reason.to_string(),
                who: acceptance.who.to_string(),
                until: acceptance.until.to_string(),
                days_left: view.at.map_or(0, |now| {
                    acceptance.until.duration_since(now).as_hours() / 24
                }),
                place: acceptance.place.clone(),
            }),
        }
    }
    let more = drafts
        .into_iter()
        .map(|(kind, draft)| finished(view, kind, draft, 0));
    let order = |finding: &Finding| {
        CATALOGUE
            .iter()
            .position(|kind| kind.name == finding.kind)
            .unwrap_or(0)
    };
    let all = open
        .into_iter()
        .chain(more)
        .map(|finding| (order(&finding), finding))
        .collect();
    Judged {
        findings: sorted(all),
        accepted,
        standings,
        ways,
        device_ways,
    }
}

fn tell(acceptance: &Acceptance, title: Option<String>, fails: Fails) -> Draft {
    let what = title.map_or_else(
        || acceptance.finding.to_string(),
        |title| format!("{} ({title})", acceptance.finding),
    );
    let (title, fix, narrower) = match fails {
        Fails::Unused(why) => (
            format!("the acceptance of {what} applies to nothing: {why}"),
            "Delete the acceptance.".to_owned(),
            Vec::new(),
        ),
        Fails::Expired(why) => (
            format!("the acceptance of {what} has expired: {why}"),
            format!(
                "Fix the finding, or ask {} for a new reason and a new date.",
                acceptance.who
            ),
            Vec::new(),
        ),
        Fails::TooWide(why, facts) => (
            format!("the acceptance of {what} is too wide: {why}"),
            "Draft it again: `audit --draft-acceptances FILE` writes what is open today."
                .to_owned(),
            facts,
        ),
    };
    let said = format!("{} ({})", acceptance.reason, acceptance.who);
    let mut evidence = vec![Evidence {
        role: Role::Says,
        text: said,
        rule: None,
        place: None,
    }];
    if !narrower.is_empty() {
        let text = format!("not open: {}", shown(&narrower));
        evidence.push(Evidence {
            role: Role::AtFault,
            text,
            rule: None,
            place: None,
        });
    }
    Draft {
        former: None,
        key: Key::of("acceptance of").name(&acceptance.finding),
        cause: None,
        subject: acceptance.finding.to_string(),
        short: String::new(),
        title,
        place: Some(acceptance.place.clone()),
        networks: Vec::new(),
        owner: None,
        factors: Vec::new(),
        evidence,
        witness: None,
        fix,
        side_effects: None,
        interfaces: None,
        packets: None,
        trials: Vec::new(),
    }
}
