//! A filter or policy target that acts on nothing.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::Draft;
use super::super::key::Key;
use super::super::kind::Kind;
use crate::describe::{filter_text, owner_text, scope_text};
use heronshale_engine::binding::firewalls_with;
use heronshale_model::estate::{Filter, FilterKind, Gap, Id, Lack, RemarkKind};
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "bound-to-nothing",
    base: Severity::Minor,
    about: "A filter is there and acts on nothing, or a gap accounts for something that nothing refers to.",
    why: "Its author believes that it protects something.",
    triggers: "A security group that no interface and no subnet has; an ACL that no subnet uses; an own firewall that nothing names; a scope policy with no interface \
        in its scope and targets; a gap about a filter, a set or a table to which nothing in the snapshot refers. Silent if one interface or subnet is bound; tables are idle-table.",
    fix: "Bind it to what it was made for, or delete it.",
    side_effects: "to delete it changes no packet's fate; to bind it changes what its place admits",
    factors: &[
        "down: the snapshot lacks bindings or interfaces, so it may be bound after all",
        "down: it has no rules",
    ],
    example: include_str!("../examples/bound-to-nothing.yaml"),
    check: |context| {
        let filters = idle_filters(context)
            .into_iter()
            .map(|filter| tell_filter(context, filter));
        filters.chain(idle_gaps(context)).collect()
    },
};

/// Gaps about things that nothing in the snapshot refers to, and that act only where something does.
fn idle_gaps(context: &Context<'_, '_>) -> Vec<Draft> {
    const KINDS: [&str; 8] = [
        "group",
        "acl",
        "own-firewall",
        "firewall-policy",
        "set",
        "table",
        "names",
        "workload",
    ];
    let estate = context.view.estate;
    let referred = |object: &str| {
        estate
            .remarks
            .iter()
            .any(|remark| matches!(&remark.what, RemarkKind::Missing { target, .. } if **target == *object))
    };
    let idle = estate.gaps.iter().filter(|gap| {
        let kind = gap.object.split_once(':').map_or("", |(kind, _)| kind);
        gap.lack == Lack::Everything && KINDS.contains(&kind) && !referred(&gap.object)
    });
    let tell = |gap: &Gap| {
        let mut draft = context.about(Key::of("gap").name(&gap.object), &gap.origin, None);
        let object = gap.object.replacen(':', " ", 1);
        draft.title = format!(
            "the gap about {object} accounts for nothing: nothing in the snapshot refers to it"
        );
        draft.fix = "take the gap away, or say where the missing thing is bound".to_owned();
        draft
    };
    idle.map(tell).collect()
}

fn idle_filters(context: &Context<'_, '_>) -> Vec<Id<Filter>> {
    let estate = context.view.estate;
    // A filter on its own, without networks, is a legal estate: nothing in it is bound, and that is no finding.
    if estate.subnets.is_empty() {
        return Vec::new();
    }
    let bound = |filter: Id<Filter>| {
        context.bindings.is_bound(context.view, filter)
            || !firewalls_with(estate, filter).is_empty()
    };
    estate
        .filters
        .ids()
        .filter(|filter| !bound(*filter))
        .collect()
}

fn may_be_bound(context: &Context<'_, '_>) -> bool {
    context.view.estate.gaps.iter().any(|gap| {
        matches!(
            gap.lack,
            Lack::Everything | Lack::Interfaces | Lack::Groups | Lack::OwnFirewalls
        )
    })
}

fn tell_filter(context: &Context<'_, '_>, id: Id<Filter>) -> Draft {
    let estate = context.view.estate;
    let filter = &estate.filters[id];
    let mut draft = context.about(
        Key::filter(filter),
        &filter.origin,
        owner_text(estate, filter.owner),
    );
    let where_to = match (&filter.kind, scope_text(estate, filter)) {
        (_, Some(scope)) => format!("no interface in {scope} is among its targets"),
        (FilterKind::NetworkAcl, _) => "no subnet uses it".to_owned(),
        (FilterKind::FirewallPolicy { .. }, _) => {
            "no firewall has it, nor a policy of which it is the base".to_owned()
        }
        (FilterKind::OwnFirewall { .. }, _) => "no interface and no workload names it".to_owned(),
        _ => "no interface and no subnet has it".to_owned(),
    };
    draft.title = format!("{} acts on nothing: {where_to}", filter_text(estate, id));
    if may_be_bound(context) {
        draft.factors.push(factor(
            -1,
            "the snapshot lacks something to which it may be bound",
        ));
    }
    if filter.rules.iter().all(|rules| rules.is_empty()) {
        draft.factors.push(factor(-1, "it has no rules"));
    }
    draft.fix = "bind it to what it was made for, or delete it".to_owned();
    draft
}
