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
    about: "A binding, a route or a policy target names something that is missing from the snapshot.",
    why: "A missing group, ACL or own firewall may allow or deny anything. A missing next hop drops its \
        traffic. Answers become unknown, or say dropped.",
    triggers: "An interface, subnet, network, workload, policy target, route or peering names something that does \
        not exist. Not reported if a gap declares it. For peers of rules and contents of sets, see \
        peer-missing.",
    fix: "Correct the name, add the missing thing to the snapshot, declare it as a gap, or remove the \
        reference.",
    side_effects: "A corrected name puts an idle rule or route into effect. Removing the reference changes nothing.",
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
    draft.cause = Some(format!("{target} is missing from the snapshot"));
    draft.brief(&**holder, format!("{target} is missing"));
    draft.title = format!("{holder} names {target}, which is missing from the snapshot");
    draft.fix =
        "Correct the name, add what is missing, declare it as a gap, or remove the reference."
            .to_owned();
    draft
}
