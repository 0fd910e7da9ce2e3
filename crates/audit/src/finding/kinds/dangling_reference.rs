//! Something other than a rule's peer that is named and not there.

use super::super::context::Context;
use super::super::draft::Draft;
use super::super::key::Key;
use super::super::kind::Kind;
use heronshale_model::estate::{Name, RemarkKind};
use heronshale_model::severity::Severity;
use heronshale_model::source::Origin;

pub(crate) const KIND: Kind = Kind {
    name: "dangling-reference",
    base: Severity::Serious,
    about: "A binding, a route or a policy's target names something that is not in the snapshot.",
    why: "A missing group, ACL or own firewall may admit or refuse anything, a missing next hop drops what is routed to it: answers turn unknown or lost.",
    triggers: "An interface, subnet, network, workload, policy target, route, or peering names a thing that is not there. Silent if the snapshot \
        declares the thing as a gap, and for peers of rules and content of sets (that is peer-missing).",
    fix: "Correct the name, add what is missing to the snapshot, declare it as a gap, or take the reference away.",
    side_effects: "a corrected name makes the rule or route act that does nothing now; to take it away changes no \
        packet's fate",
    factors: &[],
    example: include_str!("../examples/dangling-reference.yaml"),
    check: |context| {
        facts(context)
            .into_iter()
            .map(|fact| tell(context, fact))
            .collect()
    },
};

type Fact<'e> = (&'e Name, &'e Name, &'e Origin);

fn facts<'c>(context: &Context<'c, '_>) -> Vec<Fact<'c>> {
    let estate = context.view.estate;
    let declared = |target: &Name| estate.gaps.iter().any(|gap| gap.object == *target);
    let of_rule_or_set = |origin: &Origin| {
        origin
            .within
            .is_some_and(|within| matches!(within.list, "inbound" | "outbound"))
            || origin.section == "address_sets"
    };
    let of = |remark: &'c heronshale_model::estate::Remark| match &remark.what {
        // A next hop that is not there is next-hop-dead.
        RemarkKind::Missing { holder, target }
            if holder.starts_with("table") && !target.starts_with("set:") =>
        {
            None
        }
        RemarkKind::Missing { holder, target }
            if !declared(target) && !of_rule_or_set(&remark.origin) =>
        {
            Some((holder, target, &remark.origin))
        }
        _ => None,
    };
    estate.remarks.iter().filter_map(of).collect()
}

fn tell(context: &Context<'_, '_>, (holder, target, origin): Fact<'_>) -> Draft {
    let mut draft = context.about(Key::default().name(holder).name(target), origin, None);
    draft.cause = Some(format!("{target} is not in the snapshot"));
    draft.title = format!("{holder} names {target}, which is not in the snapshot");
    draft.fix =
        "correct the name, add what is missing, declare it as a gap, or take the reference away"
            .to_owned();
    draft
}
