//! Drafts of acceptances and expectations: YAML for people to fill in, strike out, and keep.

use crate::harmless::harmless_text;
use heronshale_answers::Heading;
use heronshale_answers::draft::Drafted;
use heronshale_audit::finding::{Finding, PinnedFact};
use std::fmt::Write;

/// A text as YAML 1.2 reads it back: JSON is a part of it.
fn quoted(text: &str) -> String {
    serde_json::Value::from(harmless_text(text)).to_string()
}

fn list(texts: &[String]) -> String {
    format!(
        "[{}]",
        texts
            .iter()
            .map(|text| quoted(text))
            .collect::<Vec<_>>()
            .join(", ")
    )
}

/// A comment of one line.
fn comment(text: &str) -> String {
    format!("# {}\n", harmless_text(text))
}

/// Findings as acceptances whose reason, name and date are blank; it cannot be used until they are filled in.
pub fn acceptances<'f>(
    heading: &Heading,
    findings: impl Iterator<Item = (&'f Finding, Option<Vec<PinnedFact>>)>,
) -> String {
    let mut out = comment(&format!(
        "Findings of {}, to be accepted one by one.",
        heading.estate
    ));
    out += &comment(
        "Fill in reason, who and until (2027-01-31), and strike out what is to be fixed instead.",
    );
    out += "format: heronshale-acceptances\nversion: 1\nacceptances:\n";
    for (finding, packets) in findings {
        let _ = write!(
            out,
            "  - finding: {}\n    kind: {}\n    title: {}\n    reason: \"\"\n    who: \"\"\n    until: \"\"\n",
            quoted(&finding.fingerprint),
            quoted(&finding.kind),
            quoted(&finding.title)
        );
        let Some(packets) = packets else { continue };
        out += if packets.is_empty() {
            "    packets: []\n"
        } else {
            "    packets:\n"
        };
        for PinnedFact { from, to, on } in &packets {
            let _ = writeln!(
                out,
                "      - {{ from: {}, to: {}, on: {} }}",
                list(from),
                list(to),
                list(on)
            );
        }
    }
    out
}

/// The present exposure as sentences to confirm or to strike out.
pub fn expectations(heading: &Heading, drafted: &[Drafted]) -> String {
    let mut out = comment(&format!(
        "What the internet reaches of {} today, of which no expectation speaks yet.",
        heading.estate
    ));
    out += &comment("Confirm each sentence by leaving it, or strike it out and fix what is open.");
    out += "format: heronshale-expectations\nversion: 1\nexpectations:\n";
    for one in drafted {
        if let Some(why) = &one.not_said {
            out += &format!(
                "  {}",
                comment(&format!("not drafted: {}: {why}", one.name))
            );
            continue;
        }
        let _ = write!(
            out,
            "  - name: {}\n    from: {}\n    may_reach: {}\n    on: {}\n",
            quoted(&one.name),
            list(&one.from),
            list(&one.to),
            list(&one.on)
        );
    }
    out
}
