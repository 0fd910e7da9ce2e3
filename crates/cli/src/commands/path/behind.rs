//! The edits because of which a connection fares otherwise than in an earlier snapshot, and the patch that takes them back.

use super::Path;
use crate::failure::Failure;
use crate::files::write_file;
use crate::opened::Opened;
use heronshale_answers::{
    ChangeEdit, PathAnswer, RevertFact, edits_behind, edits_to_undo, others_that_differ, some_edits,
};
use heronshale_change::compare;
use heronshale_engine::fabric::Fabric;
use heronshale_intake::{Difference, reverted};

impl Path {
    /// Finds the edits that make the difference.
    pub(super) fn because(
        &self,
        answer: &mut PathAnswer,
        opened: &Opened,
        earlier: &Opened,
        view: &Fabric<'_>,
    ) -> Result<(), Failure> {
        let difference = Difference::of(earlier.snapshot(), opened.snapshot());
        let renamed = difference.renamed().map(|(estate, _)| estate);
        let before = renamed
            .as_ref()
            .map_or_else(|| earlier.view(), |estate| earlier.view_of(estate));
        let comparison = compare((&before, view), &difference, &|estate| {
            opened.view_of(estate)
        });
        let asked = self.question(view)?;
        if let Some(since) = &mut answer.since {
            (since.edits, since.cause) = edits_behind(view, &comparison, &asked.asked);
            if let Some(file) = &self.revert {
                let undone = edits_to_undo(view, &comparison, &asked.asked);
                let fact = |edits: &[usize]| some_edits(&comparison, edits);
                since.revert =
                    Some(self.taken_back(file, opened, view, &difference, &undone, &fact)?);
            }
        }
        Ok(())
    }

    /// Writes the patch that takes edits back, and asks again what becomes of the connection, and of others.
    fn taken_back(
        &self,
        file: &std::path::Path,
        opened: &Opened,
        view: &Fabric<'_>,
        difference: &Difference,
        undone: &[usize],
        told: &dyn Fn(&[usize]) -> Vec<ChangeEdit>,
    ) -> Result<RevertFact, Failure> {
        let none = || {
            Failure::wrong(
                "no edits are known that could be taken back for this alone",
                "`heronshale compare` lists the edits",
            )
        };
        if undone.is_empty() {
            return Err(none());
        }
        let reverted = reverted(difference, opened.snapshot(), undone).ok_or_else(none)?;
        let between = Difference::of(opened.snapshot(), &reverted.snapshot);
        let after = opened.view_of(&reverted.snapshot.estate);
        let comparison = compare((view, &after), &between, &|estate| opened.view_of(estate));
        let asked = self.question(view)?;
        let fact = RevertFact {
            file: file.display().to_string(),
            edits: told(&reverted.edits),
            then: self.ask(&after)?.verdict,
            also: others_that_differ(&comparison, &asked.asked),
        };
        write_file(file, &reverted.patch, self.force)?;
        Ok(fact)
    }
}
