//! A prefix with bits beyond its length.

use super::super::context::Context;
use super::super::draft::Draft;
use super::super::key::Key;
use super::super::kind::Kind;
use heronshale_model::estate::{Name, RemarkKind};
use heronshale_model::severity::Severity;
use heronshale_model::source::Origin;

pub(crate) const KIND: Kind = Kind {
    name: "host-bits",
    base: Severity::Note,
    about: "A prefix was written with bits beyond its length; they were masked.",
    why: "Its author may have meant the one address, or a longer prefix: what is in force is the whole block.",
    triggers: "Any prefix whose address has bits outside the prefix, such as 10.65.4.20/24. Silent for 10.65.4.0/24 and for 10.65.4.20/32.",
    fix: "Write the block, or the one address, whichever is meant.",
    side_effects: "the one address ends what the rest of the block does now; the block changes no packet's fate",
    factors: &[],
    example: include_str!("../examples/host-bits.yaml"),
    check: |context| {
        facts(context)
            .into_iter()
            .map(|fact| tell(context, fact))
            .collect()
    },
};

type Fact<'e> = (&'e Name, &'e Name, &'e Name, &'e Origin);

fn facts<'c>(context: &Context<'c, '_>) -> Vec<Fact<'c>> {
    let of = |remark: &'c heronshale_model::estate::Remark| match &remark.what {
        RemarkKind::HostBits {
            written,
            meant,
            holder,
        } => Some((written, meant, holder, &remark.origin)),
        RemarkKind::Missing { .. } => None,
    };
    context.view.estate.remarks.iter().filter_map(of).collect()
}

fn tell(context: &Context<'_, '_>, (written, meant, holder, origin): Fact<'_>) -> Draft {
    let mut draft = context.about(Key::default().name(holder).notation(written), origin, None);
    draft.title = format!("{holder}: {written} was read as {meant}");
    draft.fix = format!(
        "write {meant}, or {}, whichever is meant",
        written.split('/').next().unwrap_or(written)
    );
    draft
}
