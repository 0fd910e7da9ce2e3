//! DNS zones and records.

use super::*;

impl Builder {
    /// A DNS name in lower case, without a dot at its end.
    pub(super) fn dns_name(&mut self, name: &Spanned<Name>) -> Name {
        let text = name.value.trim().trim_end_matches('.').to_lowercase();
        let plain = text.strip_prefix("*.").unwrap_or(&text);
        let label = |label: &str| {
            (1..=63).contains(&label.len())
                && label
                    .chars()
                    .all(|c| c.is_alphanumeric() || c == '-' || c == '_')
        };
        if !plain.split('.').all(label) {
            let help = Some(
                "write a name such as booking.marrowfen.example, or *.marrowfen.example".to_owned(),
            );
            self.reading.fail(
                name.span,
                format!("`{}` is no DNS name", name.value),
                "not understood",
                help,
            );
        }
        text.into()
    }

    pub(super) fn records(
        &mut self,
        written: &[WrittenRecord],
        origin: Origin,
        apex: Option<&Name>,
    ) -> Vec<DnsRecord> {
        let mut records = Vec::with_capacity(written.len());
        for record in written {
            let name = self.dns_name(&record.name.0);
            if let Some(apex) = apex
                && *name != **apex
                && !name.ends_with(&format!(".{apex}"))
            {
                let help = Some(format!("names of this zone end in {apex}"));
                self.reading.fail(
                    record.name.0.span,
                    format!("`{name}` is not in the zone"),
                    "elsewhere",
                    help,
                );
            }
            let data = match (&record.addresses, &record.alias) {
                (Some(addresses), None) => RecordData::Addresses(addresses.0.clone()),
                (None, Some(alias)) => RecordData::Alias(self.dns_name(alias)),
                _ => {
                    let title = "a DNS record has either `addresses` or an `alias`".to_owned();
                    self.reading.fail(record.span, title, "in here", None);
                    continue;
                }
            };
            records.push(DnsRecord {
                name,
                origin: Origin {
                    span: record.span,
                    ..origin
                },
                data,
            });
        }
        records
    }
}
