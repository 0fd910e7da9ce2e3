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
    about: "A prefix has host bits set. They were ignored.",
    why: "The author may have meant the single address or a longer prefix. The whole block is in force.",
    triggers: "The address of a prefix has bits beyond the prefix length, such as 10.65.4.20/24. Not reported for \
        10.65.4.0/24 or 10.65.4.20/32.",
    fix: "Write the block or the single address, whichever is right.",
    side_effects: "Writing the single address removes the rest of the block. Writing the block changes nothing.",
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
    draft.brief(&**holder, format!("{written} means {meant}"));
    draft.title = format!("{holder}: {written} means {meant}");
    draft.fix = format!(
        "Write {meant} or {}, whichever is right.",
        written.split('/').next().unwrap_or(written)
    );
    draft
}
