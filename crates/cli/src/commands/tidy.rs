//! `heronshale tidy`: rules that do nothing, taken out.

use crate::failure::{FOUND, Failure};
use crate::files::write_all;
use crate::opened::EstateArgs;
use clap::Args;
use heronshale_answers::{self, Proof, TidyFile};
use heronshale_audit::change::compare_rules;
use heronshale_engine::fabric::Fabric;
use heronshale_intake::{load_texts, without_rules};
use heronshale_report as report;
use std::path::PathBuf;

/// Rules that can be deleted together, with the proof that nothing changes
///
/// Finds shadowed and redundant rules that stay dead whatever the members of groups and sets become, and compares every class of
/// interfaces before and after. Ends with 1 if that proof fails; then nothing is offered.
#[derive(Args, Debug)]
pub struct Tidy {
    #[command(flatten)]
    estate: EstateArgs,
    /// Write one JSON Patch (RFC 6902) for each file into this folder, as FILE.patch.json
    #[arg(long, value_name = "FOLDER")]
    patch: Option<PathBuf>,
    /// Write the changed files, comments and layout kept, into this folder
    #[arg(long, value_name = "FOLDER")]
    apply: Option<PathBuf>,
    /// Overwrite files that are there
    #[arg(long)]
    force: bool,
}

impl Tidy {
    pub fn run(&self) -> Result<u8, Failure> {
        let opened = self.estate.open()?;
        let view = opened.view();
        let (going, mut found) = heronshale_answers::tidy_plan(&view);
        let snapshot = opened.snapshot();
        let mut edited = Vec::new();
        for (name, one) in without_rules(snapshot, &going) {
            match one {
                Some(one) => edited.push(one),
                None => found
                    .proof
                    .different
                    .push(format!("{name} could not be edited as text")),
            }
        }
        if !going.is_empty() && found.proof.different.is_empty() {
            let texts: Vec<(&str, &str)> = snapshot
                .texts
                .iter()
                .map(|source| {
                    let new = edited.iter().find(|one| one.name == source.name);
                    (
                        source.name.as_str(),
                        new.map_or(source.text.as_str(), |one| one.text.as_str()),
                    )
                })
                .collect();
            let after = load_texts(&texts)?;
            let mut changed: Vec<_> = going.iter().map(|rule| rule.filter).collect();
            changed.dedup();
            let compared = compare_rules(&view, &Fabric::new(&after.estate, view.at), &changed);
            found.proof = Proof {
                holds: compared.different.is_empty(),
                classes: compared.classes,
                filters: compared.filters,
                different: compared.different,
            };
        }
        let holds = found.proof.holds;
        let mut written = Vec::new();
        if holds {
            let patch = |one: &heronshale_intake::Edited| {
                serde_json::to_value(&one.patch).unwrap_or_default()
            };
            found.files = edited
                .iter()
                .map(|one| TidyFile {
                    file: one.name.clone(),
                    patch: patch(one),
                })
                .collect();
            if let Some(folder) = &self.patch {
                let patches: Vec<(String, String)> = found
                    .files
                    .iter()
                    .map(|file| {
                        (
                            format!("{}.patch.json", file.file),
                            report::json(&file.patch),
                        )
                    })
                    .collect();
                self.write(
                    folder,
                    patches
                        .iter()
                        .map(|(name, text)| (name.as_str(), text.as_str())),
                    &mut written,
                )?;
            }
            if let Some(folder) = &self.apply {
                let texts = edited
                    .iter()
                    .map(|one| (one.name.as_str(), one.text.as_str()));
                self.write(folder, texts, &mut written)?;
            }
        }
        let told = (!written.is_empty()).then(|| format!("Wrote {}.", written.join(", ")));
        opened.answer(&view, "tidy", found, |whole, look| {
            report::tidy(whole, told.as_deref(), look)
        })?;
        Ok(if holds { 0 } else { FOUND })
    }

    fn write<'f>(
        &self,
        folder: &std::path::Path,
        files: impl Iterator<Item = (&'f str, &'f str)>,
        written: &mut Vec<String>,
    ) -> Result<(), Failure> {
        let files: Vec<(&str, &str)> = files.collect();
        write_all(folder, &files, self.force)?;
        written.extend(
            files
                .iter()
                .map(|(name, _)| folder.join(name).display().to_string()),
        );
        Ok(())
    }
}
