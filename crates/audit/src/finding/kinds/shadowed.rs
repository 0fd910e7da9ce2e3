//! A rule that earlier rules leave nothing to, and decide otherwise.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::{Draft, Evidence, Role};
use super::super::key::Key;
use super::super::kind::Kind;
use crate::dead::{Dead, DeadTranslation, How};
use crate::describe::witness;
use heronshale_model::estate::RuleId;
use heronshale_model::severity::Severity;
use heronshale_sets::packet::Packet;

pub(crate) const KIND: Kind = Kind {
    name: "shadowed",
    base: Severity::Minor,
    about: "Earlier rules take all traffic of a rule and decide some of it differently.",
    why: "Its author wanted something that does not happen. A shadowed deny lets traffic through. A shadowed \
        allow invites a second, wider rule.",
    triggers: "In an ordered list, earlier rules together match everything that a rule in force matches, and decide \
        at least one packet differently (action, state, defer or finally). This must be so wherever the list \
        applies. Policies above count as earlier rules, and earlier translations of a firewall count for its \
        translations. Not reported if one packet is left over, or if a covering rule ends earlier. If every \
        decision is the same, see redundant.",
    fix: "Move it before the rules that cover it, or delete it.",
    side_effects: "Deleting it changes nothing. Moving it up makes it take effect.",
    factors: &["up: it would deny or reject what is allowed"],
    example: include_str!("../examples/shadowed.yaml"),
    check: |context| {
        let rules = facts(context)
            .into_iter()
            .map(|(dead, packet)| tell(context, dead, packet));
        rules.chain(translations(context)).collect()
    },
};

fn facts<'c>(context: &'c Context<'_, '_>) -> Vec<(&'c Dead, Packet)> {
    let of = |dead: &'c Dead| match dead.how {
        How::Shadowed(packet) => Some((dead, packet)),
        _ => None,
    };
    context.dead().iter().filter_map(of).collect()
}

fn translations(context: &Context<'_, '_>) -> Vec<Draft> {
    let tell = |dead: &DeadTranslation| {
        let How::Shadowed(packet) = dead.how else {
            return None;
        };
        let mut draft = tell_translation(
            context,
            dead,
            "never translates anything: earlier ones take all its traffic",
            "If it is intended, move it up. Otherwise delete it.",
        );
        draft.witness = Some(witness(&packet));
        Some(draft)
    };
    context
        .dead_translations()
        .iter()
        .filter_map(tell)
        .collect()
}

fn tell(context: &Context<'_, '_>, dead: &Dead, packet: Packet) -> Draft {
    let mut draft = context.about_rule(dead.rule);
    let action = context.view.estate.rule(dead.rule).action;
    let others = if dead.covers.len() == 1 {
        "an earlier rule takes"
    } else {
        "earlier rules together take"
    };
    draft.says(format!("never {}", acts(action)));
    draft.title = format!(
        "{} never {}: {others} all its traffic",
        context.rule_name(dead.rule),
        acts(action)
    );
    if against(context, dead.rule, &dead.takers) {
        draft
            .factors
            .push(factor(1, "it would deny what is allowed"));
    }
    if let [cover] = dead.covers.as_slice() {
        draft.cause = Some(format!("{} takes it", context.rule_name(*cover)));
    }
    draft.evidence.extend(
        dead.covers
            .iter()
            .map(|id| context.rule_evidence(Role::CoveredBy, *id)),
    );
    taken_by(context, &mut draft, dead);
    draft.witness = Some(witness(&packet));
    let lasting = if dead.durable {
        ""
    } else {
        " Check first that members of groups and sets stay as they are."
    };
    draft.fix = format!("If it is intended, move it up. Otherwise delete it.{lasting}");
    draft
}

/// Whether a rule refuses what others let through.
pub(super) fn against(context: &Context<'_, '_>, rule: RuleId, takers: &[RuleId]) -> bool {
    let admits = |id: &RuleId| context.view.estate.rule(*id).action.admits();
    context.view.estate.rule(rule).action.refuses() && takers.iter().any(admits)
}

/// Who takes its traffic, as far as that is not told already.
pub(super) fn taken_by(context: &Context<'_, '_>, draft: &mut Draft, dead: &Dead) {
    let takers = dead.takers.iter().filter(|id| !dead.covers.contains(id));
    draft
        .evidence
        .extend(takers.map(|id| context.rule_evidence(Role::TakenBy, *id)));
    if !dead.all_takers {
        let text = "and others, too many to list".to_owned();
        draft.evidence.push(Evidence {
            role: Role::TakenBy,
            text,
            rule: None,
            place: None,
        });
    }
}

/// A translation of a firewall that does nothing.
pub(super) fn tell_translation(
    context: &Context<'_, '_>,
    dead: &DeadTranslation,
    title: &str,
    fix: &str,
) -> Draft {
    let estate = context.view.estate;
    let firewall = &estate.firewalls[dead.firewall];
    let (list, what) = if dead.of_source {
        (&firewall.source_translations, "source")
    } else {
        (&firewall.destination_translations, "destination")
    };
    let name = |at: usize| {
        let own = list[at]
            .id
            .as_ref()
            .map_or_else(|| format!("#{}", at + 1), ToString::to_string);
        format!("{what} translation {own} of firewall {}", firewall.name)
    };
    let own = name(dead.index);
    let mut draft = context.about(
        Key::of(what)
            .token("translation")
            .translation(estate, &list[dead.index])
            .token("of firewall")
            .name(&firewall.name),
        &list[dead.index].origin,
        crate::describe::owner_text(estate, firewall.owner),
    );
    draft.former = Some(own.clone());
    let interfaces: Vec<_> = firewall.legs.iter().map(|leg| leg.interface).collect();
    draft.networks = context.networks_of(&interfaces);
    draft.brief(&own, "has no effect");
    draft.title = format!("{own} {title}");
    let evidence = |role: Role, at: &usize| Evidence {
        role,
        text: name(*at),
        rule: None,
        place: Some(context.place(&list[*at].origin)),
    };
    draft
        .evidence
        .extend(dead.covers.iter().map(|at| evidence(Role::CoveredBy, at)));
    let takers = dead.takers.iter().filter(|at| !dead.covers.contains(at));
    draft
        .evidence
        .extend(takers.map(|at| evidence(Role::TakenBy, at)));
    draft.fix = fix.to_owned();
    draft
}

fn acts(action: heronshale_model::estate::Action) -> &'static str {
    use heronshale_model::estate::Action::{Allow, AllowFinally, Defer, Deny, Reject};
    match action {
        Allow => "allows anything",
        AllowFinally => "allows anything finally",
        Deny => "denies anything",
        Reject => "rejects anything",
        Defer => "defers anything",
    }
}
