//! The safe clean-up: rules that can all go for good.

use heronshale_audit::dead::{How, dead_rules, outlive, removable_together};
use heronshale_audit::describe::{RuleFact, filter_text, owner_text, rule_fact};
use heronshale_engine::binding::Bindings;
use heronshale_engine::fabric::Fabric;
use heronshale_model::estate::{FilterKind, RuleId};
use serde::Serialize;

/// What can go.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct TidyAnswer {
    /// By filter, in the order of the snapshot.
    pub filters: Vec<TidyFilter>,
    /// How many rules there are.
    pub rules: usize,
    /// How many of them can go.
    pub going: usize,
    /// Dead rules that stay, and why.
    pub staying: Vec<Staying>,
    /// The proof.
    pub proof: Proof,
    /// One patch for each file that changes.
    pub files: Vec<TidyFile>,
}

/// Rules of one filter that can go.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct TidyFilter {
    /// The filter, in words.
    pub filter: String,
    /// Who changes it.
    pub owner: Option<String>,
    /// How many rules it has, both directions.
    pub rules: usize,
    /// Those that go.
    pub going: Vec<Going>,
}

/// A rule that can go.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Going {
    /// The rule.
    pub rule: RuleFact,
    /// `shadowed` or `redundant`.
    pub why: String,
    /// The rules that cover it.
    pub covered_by: Vec<RuleFact>,
}

/// A dead rule that stays.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Staying {
    /// The rule.
    pub rule: RuleFact,
    /// Why it is not taken out.
    pub because: String,
}

/// How it was proven that nothing changes.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Proof {
    /// Whether every packet is decided alike, before and after.
    pub holds: bool,
    /// Classes of interfaces that were compared, all on which a changed filter acts.
    pub classes: usize,
    /// Filters that were compared by themselves.
    pub filters: usize,
    /// Where something differs; then no patch is offered.
    pub different: Vec<String>,
}

/// The change of one file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct TidyFile {
    /// The file, relative to the estate's folder.
    pub file: String,
    /// JSON Patch (RFC 6902): for each rule a `test` that it is still the one meant, then its `remove`.
    pub patch: serde_json::Value,
}

/// The rules that can all go for good, and what is said of them; proof and patches are still to come.
pub fn tidy_plan(view: &Fabric<'_>) -> (Vec<RuleId>, TidyAnswer) {
    let estate = view.estate;
    let bindings = Bindings::new(view);
    let dead = dead_rules(view, &bindings);
    let judged: Vec<_> = dead
        .iter()
        .filter(|one| {
            !matches!(
                estate.filters[one.rule.filter].kind,
                FilterKind::FirewallPolicy { .. }
            )
        })
        .cloned()
        .collect();
    let plan = removable_together(view, &bindings, &judged, true);
    let mut going: Vec<RuleId> = plan.into_iter().flat_map(|(_, _, rules)| rules).collect();
    going.sort_unstable();
    let mut filters: Vec<(
        heronshale_model::estate::Id<heronshale_model::estate::Filter>,
        TidyFilter,
    )> = Vec::new();
    for id in &going {
        let Some(one) = dead.iter().find(|one| one.rule == *id) else {
            continue;
        };
        let fact = Going {
            rule: rule_fact(estate, *id),
            why: if matches!(one.how, How::Shadowed(_)) {
                "shadowed"
            } else {
                "redundant"
            }
            .to_owned(),
            covered_by: one
                .covers
                .iter()
                .map(|cover| rule_fact(estate, *cover))
                .collect(),
        };
        match filters.last_mut() {
            Some((filter, all)) if *filter == id.filter => all.going.push(fact),
            _ => {
                let item = &estate.filters[id.filter];
                let rules = item.rules.iter().map(|rules| rules.len()).sum();
                let filter = filter_text(estate, id.filter);
                let owner = owner_text(estate, item.owner);
                filters.push((
                    id.filter,
                    TidyFilter {
                        filter,
                        owner,
                        rules,
                        going: vec![fact],
                    },
                ));
            }
        }
    }
    let because = |one: &heronshale_audit::dead::Dead| match &one.how {
        _ if matches!(
            estate.filters[one.rule.filter].kind,
            FilterKind::FirewallPolicy { .. }
        ) =>
        {
            "Rules of firewall policies are left to their owner."
        }
        How::RedundantByDefault => {
            "Redundant only because of the default; it may document an intention."
        }
        _ if one.across => "Dead only while these groups are bound together.",
        _ if !outlive(view, one.rule, &one.covers) => "The rule that covers it is due for review.",
        _ if !one.durable => "Dead only with today's members of groups and sets.",
        _ => "Not together with the others: it covers one of them, or one of them covers it.",
    };
    let staying = dead
        .iter()
        .filter(|one| one.does_nothing() && going.binary_search(&one.rule).is_err());
    let staying = staying.map(|one| Staying {
        rule: rule_fact(estate, one.rule),
        because: because(one).to_owned(),
    });
    let answer = TidyAnswer {
        filters: filters.into_iter().map(|(_, filter)| filter).collect(),
        rules: estate.rule_ids().count(),
        going: going.len(),
        staying: staying.collect(),
        proof: Proof {
            holds: going.is_empty(),
            ..Proof::default()
        },
        files: Vec::new(),
    };
    (going, answer)
}
