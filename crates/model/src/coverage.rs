//! What came of an import: what was read, used, ignored, and what leads nowhere.

use crate::estate::{Estate, RemarkKind};
use crate::source::Place;
use serde::Serialize;

/// What came of an import.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct CoverageAnswer {
    /// What the exports are called.
    pub profile: String,
    /// The snapshot that was written.
    pub written: String,
    /// The files that were read, in order.
    pub files: Vec<CoveredFile>,
    /// Files that were not read, each with the reason.
    pub not_read: Vec<NotCovered>,
    /// The records that the profile looks for, in its order.
    pub records: Vec<CoveredRecords>,
    /// Fields of which no record had a value: perhaps their path is wrong.
    pub never: Vec<NeverGiven>,
    /// Rules that name no peers or no traffic: each holds for everything, whether the export says so or the profile does not look.
    pub everything: Vec<HoldsForEverything>,
    /// Parts of the export at which something looks.
    pub used: Vec<UsedPart>,
    /// Parts of the export at which nothing looks.
    pub ignored: Vec<IgnoredPart>,
    /// Ids that no record of the export has.
    pub unresolved: Vec<UnresolvedId>,
    /// What objects of the snapshot name that is not in it, apart from what it says that it lacks.
    pub dangling: Vec<DanglingName>,
}

/// How far a guide came with exports that no profile knew.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct GuideAnswer {
    /// The folder that has the profile, the questions and the snapshot.
    pub folder: String,
    /// Whether the profile was changed by hand: then it is used as it is, and answers change nothing any more.
    pub by_hand: bool,
    /// The lists of objects in the exports, and what each is.
    pub lists: Vec<GuidedList>,
    /// The questions, in the order in which they came up.
    pub questions: Vec<GuideQuestion>,
    /// What came of the import.
    pub coverage: CoverageAnswer,
}

/// A list of objects in exports.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct GuidedList {
    /// Where it stands: files, and a JSONPath.
    pub place: String,
    /// How many objects it has, and what they are.
    pub what: String,
}

/// What exports do not say by themselves.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct GuideQuestion {
    /// Its number, from 1.
    pub number: usize,
    /// The question.
    pub ask: String,
    /// What stands in the exports.
    pub seen: String,
    /// The answers that can be given; none if it is a path to a field.
    pub choices: Vec<String>,
    /// The likely answer.
    pub likely: Option<String>,
    /// What holds without an answer.
    pub until_then: String,
    /// The answer that was given.
    pub answer: Option<String>,
}

/// Rules of one list that do not say for what they hold.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct HoldsForEverything {
    /// The list: `security_groups.inbound`.
    pub list: String,
    /// What they do not say: `services`, `peers`, `sources` or `destinations`.
    pub lacks: String,
    /// How many rules of the list.
    pub rules: usize,
    /// How many rules the list has.
    pub of: usize,
    /// What holds the first of them, and where its record stands: `FILE:LINE`.
    pub first: String,
}

/// A file that was read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct CoveredFile {
    /// Relative to what was given.
    pub name: String,
    /// How many bytes it has.
    pub bytes: u64,
    /// How many records of the profile stand in it.
    pub records: usize,
}

/// A file that was not read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct NotCovered {
    /// Relative to what was given.
    pub name: String,
    /// Why.
    pub why: String,
}

/// Records of one kind.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct CoveredRecords {
    /// In which files, as the profile says; empty for all.
    pub files: String,
    /// Where in them.
    pub from: String,
    /// The section of the snapshot.
    pub into: String,
    /// How many there are.
    pub read: usize,
    /// How many of them `when` and `having` left out.
    pub left_out: usize,
    /// How many say the same as one before.
    pub repeated: usize,
    /// Where the profile says so.
    pub place: Place,
}

/// A field without any value.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct NeverGiven {
    /// Section and field.
    pub field: String,
    /// How many records were asked.
    pub records: usize,
    /// Where the profile says so.
    pub place: Place,
}

/// A part of the export at which something looks.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct UsedPart {
    /// A path of names, with `[*]` for every item of a list.
    pub path: String,
    /// How many values it has.
    pub values: usize,
}

/// A part of the export at which nothing looks.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct IgnoredPart {
    /// A path of names, with `[*]` for every item of a list.
    pub path: String,
    /// How many values it has.
    pub values: usize,
    /// Why it has no bearing, if the profile says so.
    pub because: Option<String>,
}

/// An id that no record has.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct UnresolvedId {
    /// The id.
    pub id: String,
    /// How often it is named.
    pub times: usize,
    /// The lookup.
    pub place: Place,
}

/// A name that leads nowhere.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct DanglingName {
    /// Who names it.
    pub holder: String,
    /// What is named.
    pub target: String,
    /// Where, in the snapshot.
    pub place: Place,
}

/// What an estate names and does not have, apart from what it says that it lacks.
pub fn loose_ends(estate: &Estate) -> Vec<DanglingName> {
    let declared = |target: &str| estate.gaps.iter().any(|gap| &*gap.object == target);
    let dangling = estate
        .remarks
        .iter()
        .filter_map(|remark| match &remark.what {
            RemarkKind::Missing { holder, target } if !declared(target) => Some(DanglingName {
                holder: holder.to_string(),
                target: target.to_string(),
                place: estate.sources.place(&remark.origin),
            }),
            _ => None,
        });
    dangling.collect()
}

/// What came of reading files of an open format.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ReadAnswer {
    /// As what the files were read.
    pub format: String,
    /// The snapshot file that was written.
    pub written: String,
    /// What it holds: section of the snapshot, and how many items.
    pub items: Vec<ReadItems>,
    /// What was read, and what not understood.
    pub read: Read,
    /// What objects of the snapshot name that is not in it, apart from what it says that it lacks.
    pub dangling: Vec<DanglingName>,
}

/// Items of one section.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ReadItems {
    /// The section of the snapshot.
    pub section: String,
    /// How many.
    pub count: usize,
    /// How many rules stand in them.
    pub rules: usize,
}

/// What was read of files of an open format, and what not understood.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Read {
    /// The files, in order.
    pub files: Vec<String>,
    /// How many rules they hold.
    pub rules: usize,
    /// Rules of which something is not understood: they are unknown, and so is what depends on them.
    pub unclear: Vec<UnclearRule>,
    /// What else has to be known of what was made.
    pub remarks: Vec<String>,
}

/// A rule of which something is not understood.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct UnclearRule {
    /// The rule, as output names it.
    pub rule: String,
    /// What is not understood.
    pub why: String,
    /// Where it stands.
    pub place: Place,
}
