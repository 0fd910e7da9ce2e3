//! `heronshale compare`: two states of an estate.

use crate::failure::Failure;
use crate::opened::{EstateArgs, Opened, StatedArgs};
use clap::Args;
use heronshale_answers::{CompareAnswer, compare_answer};
use heronshale_audit::expect::{State, standings};
use heronshale_audit::facts::Meaning;
use heronshale_change::{Class, compare};
use heronshale_engine::fabric::Fabric;
use heronshale_intake::Difference;
use heronshale_model::change::States;
use heronshale_model::estate::Estate;
use heronshale_report as report;
use std::path::PathBuf;

/// What can happen in one state of the estate that cannot in another, and because of which edit
///
/// Judges every connection in both states, there and back. Each difference names the edits that make it, alone or together, and the
/// deciding rule before and after. Expectations are judged in both states.
#[derive(Args, Debug)]
pub struct Compare {
    /// The old state: a snapshot file or folder
    #[arg(value_name = "OLD")]
    old: PathBuf,
    /// The new state [default: the estate]
    #[arg(value_name = "NEW", conflicts_with = "estate")]
    new: Option<PathBuf>,
    #[command(flatten)]
    comparing: Comparing,
}

/// What comparisons have in common.
#[derive(Args, Debug)]
pub(super) struct Comparing {
    /// Exit with 1 if this occurs, comma separated: opened, lost, inspection-changed …; broken (an expectation); forbidden; any
    #[arg(
        long,
        value_name = "WHAT",
        value_delimiter = ',',
        help_heading = "Output"
    )]
    fail_on: Vec<String>,
    /// As Markdown, for a comment of a review: what matters on one screen, all of it folded below
    #[arg(long, conflicts_with = "format", help_heading = "Output")]
    pub review: bool,
    #[command(flatten)]
    pub estate: EstateArgs,
    #[command(flatten)]
    pub stated: StatedArgs,
}

impl Comparing {
    /// Compares two states and writes the answer; 1 if something occurs that makes it fail.
    pub fn tell(
        &self,
        opened: &Opened,
        (before, after): (&Fabric<'_>, &Fabric<'_>),
        difference: &Difference,
    ) -> Result<u8, Failure> {
        let judged: &Judged<'_> = &|estate| opened.view_of(estate);
        let comparison = compare((before, after), difference, judged);
        let turned_by = |places: &[usize]| turned_by(difference, after, judged, places);
        let mut answer = compare_answer((before, after), &comparison, &turned_by);
        answer.renamed = difference.renamed().map_or(0, |(_, count)| count);
        // What was changed in memory stands where it stood.
        let outcomes = answer.rows.iter_mut();
        for outcome in outcomes.flat_map(|row| [&mut row.before, &mut row.now]) {
            let place = outcome
                .decides
                .as_mut()
                .and_then(|step| step.place.as_mut());
            if let Some(place) = place
                && let Some(before) = difference
                    .place_before(place)
                    .or_else(|| difference.place_in_old(place))
            {
                *place = before;
            }
        }
        let fail_on = self.fail_on()?;
        let fails = fail_on.iter().any(|one| one.occurs(&answer));
        let text = if self.review {
            report::review
        } else {
            report::compare
        };
        opened.answer(after, "compare", answer, text)?;
        Ok(u8::from(fails))
    }

    /// What makes the comparison fail.
    pub fn fail_on(&self) -> Result<Vec<FailOn>, Failure> {
        let texts = self.fail_on.iter();
        texts.map(|text| FailOn::parse(text)).collect()
    }
}

/// What makes a comparison fail.
pub(super) enum FailOn {
    Class(Class),
    Broken,
    Forbidden,
    Any,
}

impl FailOn {
    fn parse(text: &str) -> Result<Self, Failure> {
        match text {
            "broken" => return Ok(Self::Broken),
            "forbidden" => return Ok(Self::Forbidden),
            "any" => return Ok(Self::Any),
            _ => {}
        }
        Class::parse(text)
            .filter(|class| *class != Class::FailsOtherwise)
            .map(Self::Class)
            .ok_or_else(|| {
                let words = Class::ALL
                    .into_iter()
                    .filter(|class| *class != Class::FailsOtherwise);
                let words: Vec<String> =
                    words.map(|class| class.word().replace(' ', "-")).collect();
                Failure::wrong(
                    format!("`{text}` is nothing on which a comparison fails"),
                    format!("write {}, broken, forbidden or any", words.join(", ")),
                )
            })
    }

    fn occurs(&self, answer: &CompareAnswer) -> bool {
        let mut rows = answer.rows.iter();
        match self {
            // A connection that an expectation forbids is not lost: it is closed.
            Self::Class(Class::Lost) => {
                rows.any(|row| row.class == Class::Lost && row.meaning != Some(Meaning::Unmeant))
            }
            Self::Class(class) => rows.any(|row| row.class == *class),
            Self::Broken => answer
                .turned
                .iter()
                .any(|one| one.before == State::Kept && one.now == State::Broken),
            Self::Forbidden => {
                rows.any(|row| row.class == Class::Opened && row.meaning == Some(Meaning::Unmeant))
            }
            Self::Any => {
                rows.any(|row| row.class != Class::FailsOtherwise) || !answer.turned.is_empty()
            }
        }
    }
}

impl Compare {
    pub fn run(&self) -> Result<u8, Failure> {
        let Comparing { estate, stated, .. } = &self.comparing;
        self.comparing.fail_on()?;
        let args = EstateArgs {
            estate: self.new.clone().or_else(|| estate.estate.clone()),
            at: estate.at.clone(),
            config: estate.config.clone(),
            ..*estate
        };
        let opened = args.open_with(stated)?;
        let old = opened.earlier(&self.old)?;
        same_estate(&old, &opened)?;
        let difference = Difference::of(old.snapshot(), opened.snapshot());
        let renamed = difference.renamed().map(|(estate, _)| estate);
        let before = renamed
            .as_ref()
            .map_or_else(|| old.view(), |estate| old.view_of(estate));
        self.comparing
            .tell(&opened, (&before, &opened.view()), &difference)
    }
}

/// Of so many edits each is asked whether it alone turns an expectation: all are judged again each time.
const MOST_JUDGED: usize = 28;

/// Makes a view of a state between the two.
type Judged<'o> = dyn for<'e> Fn(&'e Estate) -> Fabric<'e> + Sync + 'o;

/// Refuses two snapshots that have nothing in common.
fn same_estate(old: &Opened, new: &Opened) -> Result<(), Failure> {
    let (one, other) = (&old.snapshot().estate, &new.snapshot().estate);
    let shares = one.networks.items().iter().any(|network| {
        let mut all = other.networks.items().iter();
        all.any(|there| there.name == network.name || there.blocks == network.blocks)
    });
    if one.name == other.name || shares {
        return Ok(());
    }
    Err(Failure::wrong(
        format!(
            "`{}` and `{}` are not two states of one estate: no network of one is in the other",
            one.name, other.name
        ),
        "name two snapshots of the same estate",
    ))
}

/// The edits that alone turn expectations.
fn turned_by(
    difference: &Difference,
    after: &Fabric<'_>,
    judged: &Judged<'_>,
    places: &[usize],
) -> Vec<Vec<usize>> {
    let now = standings(after);
    let mut found = vec![Vec::new(); places.len()];
    let edits = difference.edits();
    if edits.len() > MOST_JUDGED {
        return found;
    }
    for (at, edit) in edits.iter().enumerate() {
        let mut taken = vec![at];
        taken.extend(&edit.needs);
        let Some(estate) = difference.state(&taken) else {
            continue;
        };
        let there = standings(&judged(&estate));
        for (place, causes) in places.iter().zip(&mut found) {
            if there[*place].state == now[*place].state {
                causes.push(at);
            }
        }
    }
    found
}
