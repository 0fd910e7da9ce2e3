//! Fixes on random estates: each works, no part of it can be left out, and it opens and ends what it says.

use super::agreement::{load, to_engine};
use super::topology::{estate, question as random_question};
use super::walker::From;
use fastrand::Rng;
use heronshale_audit::fix::{Asking, EditKind, changed, fixing};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::path::{Connection, Goal, question};
use heronshale_engine::walk::{Asked, Start, Tell, Verdict, walk};
use heronshale_model::ends::End;
use heronshale_model::estate::{Estate, Service};
use heronshale_sets::address::{Block, Range};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::PacketSet;
use std::collections::BTreeMap;

/// A random connection, and one packet of it.
pub fn connection(random: &mut Rng, built: &Estate) -> (Connection, Asked) {
    let (from, packet, _) = random_question(random);
    let block = |address| Block {
        range: Range::single(address),
        length: None,
        host: None,
    };
    let (end, start) = match &from {
        From::Internet => (End::Internet, Start::Internet),
        From::Site(site) => {
            let site = built.sites.find(site).unwrap();
            (End::Site(site), Start::Site(site))
        }
        From::Interface(id) => {
            let id = built.interfaces.find(id).unwrap();
            (End::Interface(id), Start::Interfaces(vec![id]))
        }
    };
    let low = u128::from(packet.low);
    let low = matches!(packet.protocol, 1 | 6 | 17 | 58 | 132).then(|| Intervals::span(low, low));
    let connection = Connection {
        from: end,
        to: Goal::End(End::Block(block(packet.destination))),
        services: vec![Service {
            protocol: Some(packet.protocol),
            low,
            except: Vec::new(),
        }],
        source_port: None,
    };
    let packet = PacketSet::single(&to_engine(&packet)).any_source_port();
    (
        connection,
        Asked {
            start,
            packets: packet,
            name: None,
            any_of: Vec::new(),
        },
    )
}

fn verdict(estate: &Estate, connection: &Connection) -> Option<Verdict> {
    let view = Fabric::new(estate, None);
    let asked = question(&view, connection).ok()?;
    (!asked.asked.packets.is_empty())
        .then(|| walk(&view, &asked.asked, Tell::Verdicts).summary.verdict)
}

fn works(verdict: Verdict) -> bool {
    verdict <= Verdict::Conditional
}

#[test]
fn fixes_work_need_all_their_parts_and_open_what_they_say() {
    let (mut kinds, mut fixed, mut failing) = (BTreeMap::<EditKind, usize>::new(), 0, 0);
    let (mut opened, mut ended) = (0, 0);
    for seed in 0..150 {
        let mut random = Rng::with_seed(seed);
        let built = load(&estate(&mut random));
        let view = Fabric::new(&built, None);
        let (connection, _) = connection(&mut random, &built);
        let Some(before) = verdict(&built, &connection) else {
            continue;
        };
        if before <= Verdict::Unknown {
            continue;
        }
        failing += 1;
        let asking = Asking {
            connection: connection.clone(),
            only: None,
        };
        let found = fixing(&view, &asking);
        assert!(!found.obstacles.is_empty(), "seed {seed}");
        fixed += usize::from(!found.fixes.is_empty());
        for fix in &found.fixes {
            let solved = |edits: &[heronshale_audit::fix::Edit]| {
                let then = verdict(&changed(&built, edits), &connection);
                then.filter(|then| matches!(then, Verdict::Works | Verdict::Conditional))
            };
            assert_eq!(
                solved(&fix.edits),
                Some(fix.then),
                "seed {seed}: {:?}",
                fix.edits
            );
            for at in 0..fix.edits.len() {
                *kinds.entry(fix.edits[at].kind).or_default() += 1;
                let mut fewer = fix.edits.clone();
                fewer.remove(at);
                assert_eq!(
                    solved(&fewer),
                    None,
                    "seed {seed}: {:?} without {at}",
                    fix.edits
                );
            }
            let after = changed(&built, &fix.edits);
            let after_view = Fabric::new(&after, None);
            let now = question(&after_view, &connection)
                .unwrap()
                .asked
                .packets
                .any_source_port();
            for _ in 0..12 {
                let (_, asked) = self::connection(&mut random, &built);
                let of =
                    |view: &Fabric<'_>| works(walk(view, &asked, Tell::Verdicts).summary.verdict);
                let (was, is) = (of(&view), of(&after_view));
                if asked.packets.overlaps(&now) {
                    continue;
                }
                opened += usize::from(!was && is);
                ended += usize::from(was && !is);
                assert!(
                    was || !is || fix.opens.overlaps(&asked.packets),
                    "seed {seed}: opens more than it says"
                );
                assert!(
                    !was || is || fix.ends.overlaps(&asked.packets),
                    "seed {seed}: ends more than it says"
                );
                // Several starts may send the same packet, so only packets of one that nobody else sends are compared.
            }
        }
    }
    eprintln!("{failing} failing, {fixed} fixed, {kinds:?}, {opened} opened, {ended} ended");
    assert!(
        fixed * 3 > failing && opened > 10 && ended > 3,
        "{failing} {fixed} {opened} {ended}"
    );
    for kind in [
        EditKind::Rule,
        EditKind::Flag,
        EditKind::Route,
        EditKind::PublicAddress,
        EditKind::Up,
    ] {
        assert!(kinds.contains_key(&kind), "{kind:?}");
    }
}
