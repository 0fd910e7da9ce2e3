//! `heronshale rehearse --each-down`: every failure alone.

use super::{marked, unfit};
use crate::failure::Failure;
use crate::opened::Opened;
use crate::terminal;
use heronshale_answers::{Failed, Standings, failures_answer, pairs_fact};
use heronshale_audit::expect::{Judging, standings};
use heronshale_change::{Base, Loss};
use heronshale_engine::fabric::Fabric;
use heronshale_intake::{Change, Failing, Snapshot, SourceText, failing, failing_pairs, rehearsed};
use heronshale_model::estate::MissingNextHop;
use heronshale_report as report;

/// A snapshot in which each thing fails.
struct Failures<'f> {
    opened: &'f Opened,
    base: &'f Snapshot,
}

impl Failures<'_> {
    /// What each failure does, and of the pairs that share a place those that do more than both failures.
    fn all(
        &self,
        things: &[&Failing],
        pairs: &[(usize, usize)],
        progress: &dyn Fn(),
    ) -> Result<(Vec<Failed>, Vec<Failed>), Failure> {
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
        let fail = |some: &[&Failing]| {
            let words = some.iter().map(|thing| Change::Words(thing.words()));
            let words: Vec<Change> = words.collect();
            let after = rehearsed(self.base, &words).map_err(unfit)?;
            let there: Fabric<'_> = self.opened.view_of(&after.estate);
            progress();
            let loss = base.against(&there);
            let names: Vec<String> = some.iter().map(|thing| thing.told()).collect();
            let name = names.join(" and ");
            let kind = some[0].kind;
            let failed = standing.failed(
                (kind, name[kind.len()..].trim_start()),
                (some[0].owner.clone(), some[0].place.clone()),
                &loss,
                &standings(&there),
            );
            Ok((failed, loss))
        };
        let singles = things.iter().map(|thing| fail(&[*thing]));
        let singles = singles.collect::<Result<Vec<(Failed, Loss)>, Failure>>()?;
        let mut worse = Vec::new();
        for (one, other) in pairs {
            let (failed, loss) = fail(&[things[*one], things[*other]])?;
            let alone = [&singles[*one], &singles[*other]];
            let exceeds = loss.exceeds(alone.map(|(_, loss)| loss));
            if exceeds || failed.breaks_more(alone.map(|(failed, _)| failed)) {
                worse.push(failed);
            }
        }
        Ok((
            singles.into_iter().map(|(failed, _)| failed).collect(),
            worse,
        ))
    }
}

/// So many pairs are tried.
const MOST_PAIRS: usize = 200;

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

pub(super) fn run(opened: &Opened, base: &Snapshot, pairs: bool) -> Result<u8, Failure> {
    let all = failing(base);
    let (down, up): (Vec<&Failing>, Vec<&Failing>) = all.iter().partition(|thing| thing.is_down);
    let other = other_setting(base);
    let rounds = if other.is_some() { 2 } else { 1 };
    let mut both = if pairs {
        failing_pairs(base, &up)
    } else {
        Vec::new()
    };
    let left = both.len().saturating_sub(MOST_PAIRS);
    both.truncate(MOST_PAIRS);
    let bar = terminal::failures(up.len() * rounds + both.len());
    let progress = || bar.inc(1);
    let (mut failed, worse) = Failures { opened, base }.all(&up, &both, &progress)?;
    let mut settings = None;
    if let Some((values, base)) = other {
        let base = base?;
        let there = Failures {
            opened,
            base: &base,
        }
        .all(&up, &[], &progress)?
        .0;
        let pairs = failed.into_iter().zip(there);
        failed = pairs.map(|(one, other)| one.with_other(other)).collect();
        settings = Some(values);
    }
    bar.finish_and_clear();
    let down = down
        .iter()
        .map(|thing| format!("{} {}", thing.kind, thing.name));
    let mut answer = failures_answer(failed, down.collect(), settings);
    answer.pairs = pairs.then(|| pairs_fact(worse, both.len(), left));
    opened.answer(
        &opened.view_of(&base.estate),
        "failures",
        answer,
        report::losses,
    )?;
    Ok(0)
}
