//! `heronshale compare`: two states of an estate.

use crate::failure::Failure;
use crate::opened::{EstateArgs, Opened, StatedArgs};
use clap::Args;
use heronshale_answers::{CompareAnswer, compare_answer, turned_acceptances};
use heronshale_audit::expect::{State, standings};
use heronshale_audit::facts::Meaning;
use heronshale_change::{Class, compare};
use heronshale_engine::fabric::Fabric;
use heronshale_intake::Difference;
use heronshale_model::change::States;
use heronshale_model::ends::End;
use heronshale_model::estate::Estate;
use heronshale_model::severity::Severity;
use heronshale_report as report;
use heronshale_sets::address::Addresses;
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
    /// Exit with 1 if this occurs, comma separated: opened, lost, inspection-changed …; broken (an expectation); forbidden; new (a
    /// finding of the audit); a severity (serious: what is serious or worse); any
    #[arg(
        long,
        value_name = "WHAT",
        value_delimiter = ',',
        help_heading = "Output"
    )]
    fail_on: Vec<String>,
    /// Only connections from or to this: network:tickets, owner:freight, tag:data=restricted, an address …
    #[arg(long, value_name = "THING", help_heading = "Output")]
    only: Vec<String>,
    /// As Markdown, for a comment of a review: what matters on one screen, all of it folded below
    #[arg(long, conflicts_with = "format", help_heading = "Output")]
    pub review: bool,
    #[command(flatten)]
    pub estate: EstateArgs,
    #[command(flatten)]
    pub stated: StatedArgs,
}

impl Comparing {
    /// With nothing asked for.
    pub fn plain(estate: EstateArgs, stated: StatedArgs) -> Self {
        Self {
            fail_on: Vec::new(),
            only: Vec::new(),
            review: false,
            estate,
            stated,
        }
    }

    /// Compares two states and writes the answer; 1 if something occurs that makes it fail.
    pub fn tell(
        &self,
        opened: &Opened,
        views: (&Fabric<'_>, &Fabric<'_>),
        difference: &Difference,
    ) -> Result<u8, Failure> {
        let fail_on = self.fail_on()?;
        let mut answer = self.answer(opened, views, difference, &fail_on)?;
        answer.acceptances = turned_acceptances(views.0, views.1);
        let fails = fail_on.iter().any(|one| one.occurs(&answer));
        let text = if self.review {
            report::review
        } else {
            report::compare
        };
        opened.answer(views.1, "compare", answer, text)?;
        Ok(u8::from(fails))
    }

    /// Compares two states; acceptances are not judged.
    pub fn answer(
        &self,
        opened: &Opened,
        (before, after): (&Fabric<'_>, &Fabric<'_>),
        difference: &Difference,
        fail_on: &[FailOn],
    ) -> Result<CompareAnswer, Failure> {
        let judged: &Judged<'_> = &|estate| opened.view_of(estate);
        let mut comparison = compare((before, after), difference, judged);
        let left_out = match self.addresses(before, after)? {
            Some(addresses) => comparison.keep_only(&addresses),
            None => 0,
        };
        let turned_by = |places: &[usize]| turned_by(difference, after, judged, places);
        let mut answer = compare_answer((before, after), &comparison, &turned_by);
        answer.only.clone_from(&self.only);
        answer.left_out = left_out;
        if fail_on.iter().any(|one| matches!(one, FailOn::New)) {
            let mut audit = heronshale_answers::audit(after);
            audit.keep_new(before);
            answer.new_findings = Some(audit.findings.len());
        }
        answer.renamed = difference.renamed().map_or(0, |(_, count)| count);
        // What was changed in memory stands where it stood.
        let outcomes = answer.rows.iter_mut();
        let outcomes = outcomes.flat_map(|row| [&mut row.before, &mut row.now]);
        let steps = outcomes.filter_map(|outcome| outcome.decides.as_mut());
        let fixes = answer.turned.iter_mut().flat_map(|one| &mut one.fix);
        let places = steps
            .filter_map(|step| step.place.as_mut())
            .chain(fixes.filter_map(|edit| edit.place.as_mut()));
        for place in places {
            let before = difference.place_before(place);
            if let Some(before) = before.or_else(|| difference.place_in_old(place)) {
                *place = before;
            }
        }
        Ok(answer)
    }

    /// The addresses of what is asked for, in either state, public ones included.
    fn addresses(
        &self,
        before: &Fabric<'_>,
        after: &Fabric<'_>,
    ) -> Result<Option<Addresses>, Failure> {
        let mut sum = Addresses::empty();
        for text in &self.only {
            let found = [before, after].map(|view| End::parse(view, text).map(|end| (view, end)));
            let mut known = found.iter().flatten().peekable();
            if known.peek().is_none()
                && let [_, Err(error)] = found
            {
                return Err(Failure::end(text, error));
            }
            for (view, end) in known {
                let held = end.interfaces(view);
                let public = view.estate.public_addresses.items().iter();
                let public = public
                    .filter(|one| one.interface.is_some_and(|id| held.contains(&id)))
                    .map(|one| Addresses::single(one.address));
                let own = held.iter().map(|id| &view.estate.interfaces[*id].addresses);
                sum = own.fold(sum.union(&end.addresses(view)), |sum, own| sum.union(own));
                sum = public.fold(sum, |sum, one| sum.union(&one));
            }
        }
        Ok((!self.only.is_empty()).then_some(sum))
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
    New,
    Worse(Severity),
    Any,
}

impl FailOn {
    fn parse(text: &str) -> Result<Self, Failure> {
        match text {
            "broken" => return Ok(Self::Broken),
            "forbidden" => return Ok(Self::Forbidden),
            "any" => return Ok(Self::Any),
            "new" => return Ok(Self::New),
            _ => {}
        }
        if let Some(severity) = Severity::ALL.into_iter().find(|one| one.word() == text) {
            return Ok(Self::Worse(severity));
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
                    format!(
                        "write {}, broken, forbidden, new, a severity, or any",
                        words.join(", ")
                    ),
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
            Self::New => answer.new_findings.is_some_and(|count| count > 0),
            Self::Worse(least) => {
                let breaks = answer.turned.iter().any(|one| one.now == State::Broken);
                rows.any(|row| row.severity >= *least) || breaks && Severity::Serious >= *least
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
