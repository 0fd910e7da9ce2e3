//! Each answer as text for people: the answer in one sentence, then what matters most.

mod audit;
mod compare;
mod connections;
mod coverage;
mod effective;
mod explain;
mod exposure;
mod inventory;
mod losses;
mod matrix;
mod order;
mod path;
mod reach;
mod review;
mod routes;
mod rule;
mod tidy;
mod uses;

pub use audit::{FEW, GroupBy, audit, one_accepted, one_finding};
pub use compare::{compare, compare_sentence};
pub use connections::{connections, connections_csv};
pub use coverage::{coverage, drafted_profile, guide, reading};
pub use effective::{effective, too_many_classes};
pub use explain::explain;
pub(crate) use exposure::closing_text;
pub use exposure::exposure;
pub use inventory::{finds, inventory, plan};
pub use losses::losses;
pub use matrix::{matrix, matrix_cell};
pub use order::order;
pub use path::path;
pub use reach::reach;
pub use review::review;
pub use routes::routes;
pub use rule::rule;
pub use tidy::tidy;
pub use uses::uses;

use heronshale_audit::describe::Traffic;
use heronshale_audit::facts::Does;
use heronshale_audit::facts::{Decided, Decider};
use heronshale_model::source::Place;

/// Where, as `file:line`.
fn at(place: &Place) -> String {
    format!("{}:{}", place.file, place.line)
}

/// Something with where it stands and who changes it: `delete rule tmp  tickets.yaml:90 · ticketing`.
fn placed(text: &str, place: Option<&Place>, owner: Option<&String>) -> String {
    let place = place.map_or_else(String::new, |place| format!("  {}", at(place)));
    let owner = owner.map_or_else(String::new, |owner| format!(" · {owner}"));
    format!("{text}{place}{owner}")
}

/// What decided, in a few words: `100 :41`, `no rule matches`.
fn decider_text(decider: &Decider) -> String {
    match decider {
        Decider::Rule { rule } => format!("{} :{}", rule.rule, rule.place.line),
        Decider::Default { place, .. } => format!("default :{}", place.line),
        Decider::NoRule => "no rule matches".to_owned(),
        Decider::ImpliedDeny => "implied deny".to_owned(),
        Decider::ImpliedPair => "implied pair".to_owned(),
        Decider::NoPolicy => "no policy decides".to_owned(),
        Decider::NoGroup => "no group is bound".to_owned(),
        Decider::SameSubnet => "not crossed".to_owned(),
        Decider::Finally => "skipped".to_owned(),
        Decider::Platform => "platform traffic".to_owned(),
        Decider::Lacking => "missing from the snapshot".to_owned(),
    }
}

/// A stage's decision in a sentence's part: `ACL data denies it by rule 100 (acls.yaml:41)`.
fn decided_text(decided: &Decided) -> String {
    let does = match decided.does {
        Does::Passes => "allows it",
        Does::Denies => "blocks it",
        Does::Rejects => "rejects it",
        Does::Unknown => "is unknown",
    };
    let stage = decided.stage.word();
    match &decided.decider {
        Decider::Rule { rule } => format!(
            "{} {does} by rule {} ({})",
            rule.filter,
            rule.rule,
            at(&rule.place)
        ),
        Decider::Default { filter, place } => {
            format!("{filter} {does} by its default ({})", at(place))
        }
        Decider::NoRule => format!("{stage}: no rule matches"),
        Decider::ImpliedDeny => format!("{stage}: implied deny"),
        Decider::ImpliedPair => format!("{stage} {does} by the implied pair of rules"),
        Decider::NoPolicy => format!("{stage}: no policy decides"),
        Decider::NoGroup => "no group is bound, which means deny".to_owned(),
        Decider::SameSubnet => format!("{stage}: not crossed inside the subnet"),
        Decider::Finally => format!("{stage}: skipped, because a policy allows it finally"),
        Decider::Platform => format!("{stage}: platform traffic"),
        Decider::Lacking => format!("{stage}: missing from the snapshot"),
    }
}

/// What narrows traffic beside its peer and services: this side, and source ports.
fn narrowing(traffic: &Traffic) -> (String, String) {
    let here = traffic
        .local
        .as_ref()
        .map_or_else(String::new, |local| format!(" (here {})", local.said));
    let ports = traffic
        .source_ports
        .as_ref()
        .map_or_else(String::new, |ports| format!(" from ports {ports}"));
    (here, ports)
}

/// `tcp 443 from any`, with `word` for the direction.
fn traffic_text(traffic: &Traffic, word: &str) -> String {
    let (here, ports) = narrowing(traffic);
    format!(
        "{}{ports} {word} {}{here}",
        traffic.services.join(", "),
        traffic.peer.said
    )
}
