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
    about: "A filter applies to nothing, or a gap explains nothing.",
    why: "Its author believes that it protects something.",
    triggers: "No interface or subnet has the security group. No subnet uses the ACL. Nothing names the own \
        firewall. No interface in its scope is a target of the scope policy. A gap is about a filter, a set \
        or a table to which nothing refers. One bound interface or subnet is enough to silence it. For route \
        tables, see idle-table.",
    fix: "Bind it where it belongs, or delete it.",
    side_effects: "Deleting it changes nothing. Binding it changes what that place allows.",
    factors: &[
        "down: bindings or interfaces are missing from the snapshot, so it may be bound after all",
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
        draft.brief(format!("gap about {object}"), "explains nothing");
        draft.title = format!(
            "the gap about {object} explains nothing: nothing in the snapshot refers to it"
        );
        draft.fix = "Delete the gap, or write down where the missing thing is bound.".to_owned();
        draft
    };
    idle.map(tell).collect()
}

fn idle_filters(context: &Context<'_, '_>) -> Vec<Id<Filter>> {
    let estate = context.view.estate;
    // A filter on its own, without networks, is a legal estate: nothing in it is bound, and that is not a finding.
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
        (_, Some(scope)) => format!("no interface in {scope} is one of its targets"),
        (FilterKind::NetworkAcl, _) => "no subnet uses it".to_owned(),
        (FilterKind::FirewallPolicy { .. }, _) => {
            "no firewall uses it, and no policy has it as its base".to_owned()
        }
        (FilterKind::OwnFirewall { .. }, _) => "no interface and no workload names it".to_owned(),
        _ => "no interface and no subnet has it".to_owned(),
    };
    draft.says("applies to nothing");
    draft.title = format!("{} applies to nothing: {where_to}", filter_text(estate, id));
    if may_be_bound(context) {
        draft.factors.push(factor(
            -1,
            "something that may use it is missing from the snapshot",
        ));
    }
    if filter.rules.iter().all(|rules| rules.is_empty()) {
        draft.factors.push(factor(-1, "it has no rules"));
    }
    draft.fix = "Bind it where it belongs, or delete it.".to_owned();
    draft
}
