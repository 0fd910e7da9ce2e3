//! `heronshale rehearse --each-down`: every failure alone.

use super::{marked, unfit};
use crate::failure::Failure;
use crate::opened::Opened;
use crate::terminal;
use heronshale_answers::{Failed, Standings, failures_answer};
use heronshale_audit::expect::{Judging, standings};
use heronshale_change::Base;
use heronshale_engine::fabric::Fabric;
use heronshale_intake::{Change, Failing, Snapshot, SourceText, failing, rehearsed};
use heronshale_model::estate::MissingNextHop;
use heronshale_report as report;

/// A snapshot in which each thing fails.
struct Failures<'f> {
    opened: &'f Opened,
    base: &'f Snapshot,
}

impl Failures<'_> {
    /// What each failure does.
    fn all(&self, things: &[&Failing], progress: &dyn Fn()) -> Result<Vec<Failed>, Failure> {
        let view = self.opened.view_of(&self.base.estate);
        let base = Base::of(&view);
        let (before, judging) = (standings(&view), Judging::new(&view));
        let marked = marked(&view);
        let standing = Standings {
            view: &view,
            judging: &judging,
            standings: &before,
            marked: &marked,
        };
        let fail = |thing: &&Failing| {
            let after = rehearsed(self.base, &[Change::Words(thing.words())]).map_err(unfit)?;
            let there: Fabric<'_> = self.opened.view_of(&after.estate);
            progress();
            Ok(standing.failed(
                (thing.kind, &thing.name),
                (thing.owner.clone(), thing.place.clone()),
                &base.against(&there),
                &standings(&there),
            ))
        };
        things.iter().map(fail).collect()
    }
}

/// The snapshot with the other value of `missing_next_hop`; none where somebody set one for the estate.
fn other_setting(base: &Snapshot) -> Option<([String; 2], Result<Snapshot, Failure>)> {
    let networks = base.estate.networks.items().iter();
    let mut written =
        networks.map(|network| network.settings.written.contains(&"missing_next_hop"));
    written.any(|is_written| !is_written).then_some(())?;
    let (value, other) = match base.estate.settings.missing_next_hop {
        MissingNextHop::Lost => ("lost", "skipped"),
        MissingNextHop::Skipped => ("skipped", "lost"),
    };
    let patch = SourceText {
        name: "setting.json".to_owned(),
        text: format!("{{\"estate\": {{\"settings\": {{\"missing_next_hop\": \"{other}\"}}}}}}"),
    };
    let there = rehearsed(base, &[Change::Patch(patch)]).map_err(unfit);
    Some(([value.to_owned(), other.to_owned()], there))
}

pub(super) fn run(opened: &Opened, base: &Snapshot) -> Result<u8, Failure> {
    let all = failing(base);
    let (down, up): (Vec<&Failing>, Vec<&Failing>) = all.iter().partition(|thing| thing.is_down);
    let other = other_setting(base);
    let rounds = if other.is_some() { 2 } else { 1 };
    let bar = terminal::failures(up.len() * rounds);
    let progress = || bar.inc(1);
    let mut failed = Failures { opened, base }.all(&up, &progress)?;
    let mut settings = None;
    if let Some((values, base)) = other {
        let base = base?;
        let there = Failures {
            opened,
            base: &base,
        }
        .all(&up, &progress)?;
        let pairs = failed.into_iter().zip(there);
        failed = pairs.map(|(one, other)| one.with_other(other)).collect();
        settings = Some(values);
    }
    bar.finish_and_clear();
    let down = down
        .iter()
        .map(|thing| format!("{} {}", thing.kind, thing.name));
    let answer = failures_answer(failed, down.collect(), settings);
    opened.answer(
        &opened.view_of(&base.estate),
        "failures",
        answer,
        report::losses,
    )?;
    Ok(0)
}
