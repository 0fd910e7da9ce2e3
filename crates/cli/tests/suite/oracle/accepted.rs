//! Findings of random estates: what is drafted as accepted and read again is accepted, all of it; and one packet more is not.

use super::agreement::load;
use super::topology::estate;
use super::walks::with_likenesses;
use fastrand::Rng;
use heronshale_answers::heading;
use heronshale_audit::finding::{Finding, judged, pinned_facts};
use heronshale_engine::fabric::Fabric;
use heronshale_intake::load_acceptances;
use heronshale_model::stated::{Acceptance, Stated};
use heronshale_sets::packet::PacketSet;

fn cannot_be_accepted(finding: &Finding) -> bool {
    finding.kind == "undecided" || finding.kind.starts_with("expectation-")
}

/// A draft, filled in and read from its file.
fn read_again(view: &Fabric<'_>, findings: &[Finding]) -> Vec<Acceptance> {
    let wanted = findings
        .iter()
        .filter(|finding| !cannot_be_accepted(finding));
    let pinned = wanted.map(|one| {
        (
            one,
            one.packets
                .as_ref()
                .map(|packets| pinned_facts(view, packets)),
        )
    });
    let text = heronshale_report::acceptances(&heading(view), pinned);
    let text = text
        .replace("reason: \"\"", "reason: r")
        .replace("who: \"\"", "who: w");
    let folder = tempfile::TempDir::new().unwrap();
    let path = folder.path().join("a.yaml");
    std::fs::write(&path, text.replace("until: \"\"", "until: 2030-01-01")).unwrap();
    load_acceptances(&[("a.yaml".to_owned(), path)]).unwrap()
}

/// The kinds of what is open and of what is accepted.
fn kinds(view: &Fabric<'_>) -> (Vec<String>, Vec<String>) {
    let all = judged(view);
    let open = all
        .findings
        .iter()
        .filter(|one| !cannot_be_accepted(one))
        .map(|one| one.kind.clone());
    (
        open.collect(),
        all.accepted
            .into_iter()
            .map(|one| one.finding.kind)
            .collect(),
    )
}

#[test]
fn what_is_drafted_is_accepted_and_one_packet_more_is_not() {
    let (mut accepted, mut reopened) = (0, 0);
    for seed in 0..60 {
        let mut random = Rng::with_seed(seed);
        let mut json = estate(&mut random);
        if random.bool() {
            with_likenesses(&mut random, &mut json);
        }
        let built = load(&json);
        let now = "2026-11-02T06:00:00Z".parse().unwrap();
        let stating = |acceptances| {
            Fabric::stating(
                &built,
                Some(now),
                Stated {
                    acceptances,
                    ..Stated::default()
                },
            )
        };
        let view = stating(Vec::new());
        let findings = judged(&view).findings;
        let acceptances = read_again(&view, &findings);
        let (open, kept) = kinds(&stating(acceptances.clone()));
        assert!(open.is_empty(), "seed {seed}: {open:?}");
        assert_eq!(kept.len(), acceptances.len(), "seed {seed}");
        accepted += kept.len();
        // With a packet less, each that is about packets is open again.
        for finding in findings
            .iter()
            .filter(|finding| !cannot_be_accepted(finding))
        {
            let Some(packets) = &finding.packets else {
                continue;
            };
            let Some(packet) = packets.witness() else {
                continue;
            };
            let narrower = Finding {
                packets: Some(packets.difference(&PacketSet::single(&packet).any_source_port())),
                ..finding.clone()
            };
            if narrower.packets.as_ref().is_some_and(PacketSet::is_empty) {
                continue;
            }
            let acceptances = read_again(&view, &[narrower]);
            let all = judged(&stating(acceptances));
            let open = all
                .findings
                .iter()
                .find(|one| one.fingerprint == finding.fingerprint);
            let grown = open.is_some_and(|one| {
                one.evidence
                    .iter()
                    .any(|piece| piece.text.contains("grown since"))
            });
            assert!(
                grown && all.accepted.is_empty(),
                "seed {seed}: {}",
                finding.title
            );
            reopened += 1;
            if reopened % 3 == 0 {
                break;
            }
        }
    }
    assert!(
        accepted >= 400 && reopened >= 30,
        "{accepted} accepted, {reopened} reopened"
    );
}
