//! Expectations and acceptances: files of our own that read like sentences (`docs/statements.md`).

use crate::document::{Documents, schema_of};
use crate::files::LoadError;
use crate::files::{ACCEPTANCES, EXPECTATIONS};
use crate::reading::{Many, Moment, Prose, Required, Spanned, record};
use heronshale_model::estate::{Name, Service};
use heronshale_model::stated::{Acceptance, Claim, Expectation, Pinned};
use heronshale_sets::address::Block;
use std::path::PathBuf;

record! {
    /// A file of expectations.
    WrittenExpectations as "a file of expectations" {
        /// `heronshale-expectations`.
        format: Required<Spanned<Name>>,
        /// 1.
        version: Required<Spanned<u32>>,
        /// How many expectations there are: a file that was cut is refused then.
        holds: Option<Spanned<u32>>,
        /// What is expected.
        expectations: Many<WrittenExpectation>,
    }
}

record! {
    /// One sentence: `from` somebody, `may_reach` or `never_reaches` somebody, `on` some services. Or: `from` somebody `to` somebody
    /// `always_passes` a firewall. Or: `nothing_else_reaches` somebody. Ends are written as on the command line.
    WrittenExpectation as "an expectation" {
        /// Its name, unique: what people call it.
        name: Required<Spanned<Name>>,
        /// Who connects: internet, workload:booking, tag:role=web, 10.65.0.0/16, any …
        from: Many<Name>,
        /// To whom, for `always_passes`.
        to: Many<Name>,
        /// All of it works for certain.
        may_reach: Many<Name>,
        /// None of it works, by whatever address, for some or under a condition.
        never_reaches: Many<Name>,
        /// Nobody gets through whom no `may_reach` allows.
        nothing_else_reaches: Many<Name>,
        /// Whatever gets through passes one of these firewalls, there and back.
        always_passes: Many<Name>,
        /// Which services: tcp 443, udp 53, icmp 8. Default: all.
        on: Many<Service>,
        /// Why it is expected.
        reason: Option<Prose>,
        /// Who expects it, and is asked when it is broken.
        owner: Option<Name>,
    }
}

record! {
    /// A file of acceptances.
    WrittenAcceptances as "a file of acceptances" {
        /// `heronshale-acceptances`.
        format: Required<Spanned<Name>>,
        /// 1.
        version: Required<Spanned<u32>>,
        /// How many acceptances there are: a file that was cut is refused then.
        holds: Option<Spanned<u32>>,
        /// What is accepted.
        acceptances: Many<WrittenAcceptance>,
    }
}

record! {
    /// A finding that somebody lives with, for a time.
    WrittenAcceptance as "an acceptance" {
        /// The finding's fingerprint, as the audit prints it.
        finding: Required<Spanned<Name>>,
        /// Its kind, for readers.
        kind: Option<Name>,
        /// What it says, for readers.
        title: Option<Prose>,
        /// Why it is accepted; a draft leaves it blank.
        reason: Required<Name>,
        /// Who answers for it; a draft leaves it blank.
        who: Required<Name>,
        /// Until when, for example 2027-01-31; a draft leaves it blank.
        until: Required<Moment>,
        /// What was accepted: more than that opens the finding again. Left out for findings that are about no packets.
        packets: Option<Many<WrittenPinned>>,
    }
}

record! {
    /// Packets that are accepted: every combination of the three.
    WrittenPinned as "accepted packets" {
        /// From where: addresses, `internet`, `internet ipv4`, `internet ipv6` or `any`.
        from: Many<Spanned<Name>>,
        /// Where to.
        to: Many<Spanned<Name>>,
        /// Which services. Default: all.
        on: Many<Service>,
    }
}

/// Reads files of expectations, each with the name by which it is told.
///
/// # Errors
/// If a file cannot be reached or used.
pub fn load_expectations(files: &[(String, PathBuf)]) -> Result<Vec<Expectation>, LoadError> {
    let mut documents = Documents::default();
    let mut all: Vec<Expectation> = Vec::new();
    for (name, path) in files {
        let Some(written) = documents.read::<WrittenExpectations>(name, path)? else {
            continue;
        };
        documents.check_header(&written.format.0, &written.version.0, EXPECTATIONS);
        documents.check_count(written.holds.as_ref(), written.expectations.0.len());
        for (at, one) in written.expectations.0.into_iter().enumerate() {
            let span = one.span;
            let name = one.name.0.clone();
            if let Some(other) = all.iter().find(|other| other.name == name.value) {
                let title = format!("two expectations have the name `{}`", name.value);
                let help = format!(
                    "the other one is at {}: give each its own name",
                    other.place
                );
                documents
                    .reading
                    .fail(name.span, title, "a second time", Some(help));
            }
            let place = documents.place(name.span, format!("/expectations/{at}"));
            match claim(&one) {
                Ok(claim) => all.push(Expectation {
                    name: name.value,
                    place,
                    claim,
                    services: one.on.0,
                    reason: one.reason.map(|reason| reason.0),
                    owner: one.owner,
                }),
                Err((title, help)) => {
                    documents
                        .reading
                        .fail(span, title, "this one", Some(help.to_owned()))
                }
            }
        }
    }
    documents.finish(all)
}

/// The one sentence that an expectation is.
fn claim(one: &WrittenExpectation) -> Result<Claim, (String, &'static str)> {
    let name = &one.name.0.value;
    let verbs = [
        ("may_reach", &one.may_reach.0),
        ("never_reaches", &one.never_reaches.0),
        ("nothing_else_reaches", &one.nothing_else_reaches.0),
        ("always_passes", &one.always_passes.0),
    ];
    let said: Vec<(&str, &Vec<Name>)> = verbs
        .into_iter()
        .filter(|(_, names)| !names.is_empty())
        .collect();
    let [(verb, names)] = said.as_slice() else {
        let found = said
            .iter()
            .map(|(verb, _)| *verb)
            .collect::<Vec<_>>()
            .join(" and ");
        let found = if found.is_empty() {
            "nothing".to_owned()
        } else {
            found
        };
        let help = "say one of may_reach, never_reaches, nothing_else_reaches, always_passes";
        return Err((format!("the expectation `{name}` says {found}"), help));
    };
    let (from, to, names) = (one.from.0.clone(), one.to.0.clone(), (*names).clone());
    let lacks = |what: &str, help| Err((format!("the expectation `{name}` needs {what}"), help));
    match *verb {
        "nothing_else_reaches" if !from.is_empty() => {
            let help = "leave out `from`, or write never_reaches";
            Err((
                format!("the expectation `{name}` has `from` with nothing_else_reaches"),
                help,
            ))
        }
        "always_passes" if from.is_empty() => {
            lacks("`from`", "say who connects: from: network:tickets")
        }
        "always_passes" if to.is_empty() => lacks("`to`", "say to whom: to: internet"),
        "always_passes" => Ok(Claim::AlwaysPasses {
            from,
            to,
            firewalls: names,
        }),
        _ if !to.is_empty() => {
            let help =
                "`to` is for always_passes; for the others, write the receivers after the verb";
            Err((
                format!("the expectation `{name}` names its receivers twice"),
                help,
            ))
        }
        "nothing_else_reaches" => Ok(Claim::NothingElseReaches { to: names }),
        _ if from.is_empty() => lacks("`from`", "say who connects: from: internet"),
        "may_reach" => Ok(Claim::MayReach { from, to: names }),
        _ => Ok(Claim::NeverReaches { from, to: names }),
    }
}

/// Reads files of acceptances, each with the name by which it is told.
///
/// # Errors
/// If a file cannot be reached or used; a draft whose blanks nobody filled in cannot.
pub fn load_acceptances(files: &[(String, PathBuf)]) -> Result<Vec<Acceptance>, LoadError> {
    let mut documents = Documents::default();
    let mut all: Vec<Acceptance> = Vec::new();
    for (name, path) in files {
        let Some(written) = documents.read::<WrittenAcceptances>(name, path)? else {
            continue;
        };
        documents.check_header(&written.format.0, &written.version.0, ACCEPTANCES);
        documents.check_count(written.holds.as_ref(), written.acceptances.0.len());
        for (at, one) in written.acceptances.0.into_iter().enumerate() {
            let finding = one.finding.0;
            if let Some(other) = all.iter().find(|other| other.finding == finding.value) {
                let title = format!("the finding {} is accepted twice", finding.value);
                documents.reading.fail(
                    finding.span,
                    title,
                    "again",
                    Some(format!("the first is at {}", other.place)),
                );
            }
            let place = documents.place(finding.span, format!("/acceptances/{at}"));
            let packets = one.packets.map(|packets| {
                packets
                    .0
                    .into_iter()
                    .map(|one| pinned(one, &mut documents))
                    .collect()
            });
            all.push(Acceptance {
                finding: finding.value,
                place,
                kind: one.kind,
                reason: one.reason.0,
                who: one.who.0,
                until: one.until.0.0,
                packets,
            });
        }
    }
    documents.finish(all)
}

fn pinned(written: WrittenPinned, documents: &mut Documents) -> Pinned {
    let mut side = |names: Many<Spanned<Name>>| {
        for Spanned { span, value } in &names.0 {
            let word = matches!(
                &**value,
                "any" | "internet" | "internet ipv4" | "internet ipv6"
            );
            if !word && value.parse::<Block>().is_err() {
                let help = "write an address, a prefix, a range, internet, internet ipv4, internet ipv6, or any";
                let title = format!("`{value}` is not an address");
                documents
                    .reading
                    .fail(*span, title, "not understood", Some(help.to_owned()));
            }
        }
        names.0.into_iter().map(|name| name.value).collect()
    };
    Pinned {
        from: side(written.from),
        to: side(written.to),
        services: written.on.0,
    }
}

/// The JSON Schema of files of expectations.
pub fn expectations_schema() -> serde_json::Value {
    schema_of::<WrittenExpectations>("Heronshale expectations, version 1")
}

/// The JSON Schema of files of acceptances.
pub fn acceptances_schema() -> serde_json::Value {
    schema_of::<WrittenAcceptances>("Heronshale acceptances, version 1")
}
