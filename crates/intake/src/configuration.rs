//! The configuration file: by what the audit measures, and where what people say of the estate is written.

use crate::document::{Documents, schema_of};
use crate::files::CONFIGURATION;
use crate::files::LoadError;
use crate::reading::{Many, Reading, Required, Spanned, TagMap, choices, did_you_mean, record};
use heronshale_model::estate::{Name, Service};
use heronshale_model::segments::SegmentBy;
use heronshale_model::severity::Severity;
use heronshale_model::stated::{Control, Regrade};
use heronshale_model::tuning::{Sensitive, Tuning};
use heronshale_sets::address::Family;
use heronshale_sets::intervals::Intervals;
use std::path::{Path, PathBuf};

record! {
    /// A configuration file, `heronshale.yaml`.
    WrittenConfiguration as "the configuration" {
        /// `heronshale-configuration`.
        format: Required<Spanned<Name>>,
        /// 1.
        version: Required<Spanned<u32>>,
        /// Tags of which each marks a workload or interface whose data must not leave. Default: data=restricted.
        marked: Option<Many<TagMap>>,
        /// Ports behind which a stranger does most harm, by sort; they stand instead of the built-in ones.
        sensitive_ports: Option<Many<WrittenSensitive>>,
        /// Where findings begin.
        thresholds: Option<WrittenThresholds>,
        /// The estate: a file or folder, from this file's folder. The argument --estate wins.
        estate: Option<Name>,
        /// Files of expectations, from this file's folder. Default: those in the estate's folder. The argument --expectations wins.
        expectations: Option<Many<Name>>,
        /// Files of acceptances, as the expectations.
        acceptances: Option<Many<Name>>,
        /// What the segments of a matrix are: network, subnet, domain, division, owner, or tag:KEY. The argument --by wins.
        segments: Option<Spanned<Name>>,
        /// Other severities than the built-in ones.
        severities: Many<WrittenSeverity>,
        /// Requirements of your own, and which findings speak against them.
        controls: Many<WrittenControl>,
    }
}

record! {
    /// Another severity for a kind of finding.
    WrittenSeverity as "a severity" {
        /// The kind of finding.
        kind: Required<Spanned<Name>>,
        /// Its severity, before what raises and lowers it.
        severity: Required<Severity>,
        /// Why it is another here; told with each finding.
        reason: Required<Name>,
    }
}

record! {
    /// A requirement of your own.
    WrittenControl as "a control" {
        /// Its number or name.
        control: Required<Name>,
        /// The kinds of findings that speak against it.
        kinds: Many<Spanned<Name>>,
    }
}

choices!(Severity as "severity" {
    "note" => Self::Note, "minor" => Self::Minor, "serious" => Self::Serious, "urgent" => Self::Urgent
});

record! {
    /// Sensitive ports of one sort.
    WrittenSensitive as "a sort of sensitive ports" {
        /// What listens there, as output names it.
        what: Required<Name>,
        /// The services.
        services: Many<Service>,
    }
}

record! {
    /// Where findings begin.
    WrittenThresholds as "thresholds" {
        /// mostly-empty-range: how many addresses a range has at least. Default: 4096.
        empty_range_addresses: Option<Spanned<u32>>,
        /// mostly-empty-range: no more than one in so many addresses is held. Default: 256.
        empty_range_share: Option<Spanned<u32>>,
    }
}

/// What a configuration file says.
#[derive(Clone, Debug, Default)]
pub struct Configuration {
    /// By what the audit measures.
    pub tuning: Tuning,
    /// Other severities.
    pub severities: Vec<Regrade>,
    /// The user's own requirements.
    pub controls: Vec<Control>,
    /// The estate, if it is named; relative to the file's folder, as the next two.
    pub estate: Option<PathBuf>,
    /// Files of expectations, if they are named, each as it was written and where it is.
    pub expectations: Option<Vec<(String, PathBuf)>>,
    /// Files of acceptances, if they are named.
    pub acceptances: Option<Vec<(String, PathBuf)>>,
    /// What the segments of a matrix are, if it is said.
    pub segments: Option<String>,
}

/// Reads a configuration file.
///
/// # Errors
/// If it cannot be reached or used.
pub fn load_configuration(path: &Path, kinds: &[&str]) -> Result<Configuration, LoadError> {
    let mut documents = Documents::default();
    let mut found = Configuration::default();
    let name = path
        .file_name()
        .unwrap_or(path.as_os_str())
        .to_string_lossy()
        .into_owned();
    if let Some(written) = documents.read::<WrittenConfiguration>(&name, path)? {
        documents.check_header(&written.format.0, &written.version.0, CONFIGURATION);
        found = build(
            written,
            path.parent().unwrap_or(Path::new("")),
            kinds,
            &mut documents.reading,
        );
    }
    documents.finish(found)
}

fn build(
    written: WrittenConfiguration,
    folder: &Path,
    kinds: &[&str],
    at: &mut Reading,
) -> Configuration {
    let mut tuning = Tuning::default();
    if let Some(marked) = written.marked {
        tuning.marks = marked.0.into_iter().flat_map(|tags| tags.0).collect();
    }
    if let Some(sensitive) = written.sensitive_ports {
        let one = |written: WrittenSensitive| {
            let numbers = written
                .services
                .0
                .iter()
                .flat_map(|service| Family::BOTH.map(|family| service.numbers(family)));
            let services = numbers.fold(Intervals::empty(), |sum, numbers| sum.union(&numbers));
            Sensitive {
                what: written.what.0.to_string(),
                services,
            }
        };
        tuning.sensitive = sensitive.0.into_iter().map(one).collect();
    }
    if let Some(thresholds) = written.thresholds {
        let mut set = |written: Option<Spanned<u32>>, to: &mut u128| {
            let Some(Spanned { span, value }) = written else {
                return;
            };
            if value == 0 {
                at.fail(
                    span,
                    "a threshold of 0 has no meaning".to_owned(),
                    "here",
                    Some("write 1 or more".to_owned()),
                );
            }
            *to = u128::from(value);
        };
        set(
            thresholds.empty_range_addresses,
            &mut tuning.empty_range_addresses,
        );
        set(thresholds.empty_range_share, &mut tuning.empty_range_share);
    }
    let mut known = |name: Spanned<Name>| {
        if !kinds.contains(&&*name.value) {
            let help = did_you_mean(&name.value, kinds.iter().copied())
                .unwrap_or_else(|| "`heronshale explain` lists the kinds of findings".to_owned());
            at.fail(
                name.span,
                format!("there is no kind of finding called `{}`", name.value),
                "unknown",
                Some(help),
            );
        }
        name.value
    };
    let severities = written.severities.0.into_iter().map(|one| Regrade {
        kind: known(one.kind.0),
        severity: one.severity.0,
        reason: one.reason.0,
    });
    let severities = severities.collect();
    let controls = written.controls.0.into_iter().map(|one| Control {
        control: one.control.0,
        kinds: one.kinds.0.into_iter().map(&mut known).collect(),
    });
    let controls = controls.collect();
    if let Some(Spanned { span, value }) = written
        .segments
        .as_ref()
        .filter(|one| SegmentBy::parse(&one.value).is_none())
    {
        let help = "write network, subnet, domain, division, owner, or tag:KEY".to_owned();
        at.fail(
            *span,
            format!("`{value}` cannot form segments"),
            "here",
            Some(help),
        );
    }
    let path = |name: Name| folder.join(&*name);
    let paths = |names: Option<Many<Name>>| {
        names.map(|names| {
            names
                .0
                .into_iter()
                .map(|name| (name.to_string(), path(name)))
                .collect()
        })
    };
    Configuration {
        controls,
        segments: written.segments.map(|one| one.value.to_string()),
        severities,
        tuning,
        estate: written.estate.map(path),
        expectations: paths(written.expectations),
        acceptances: paths(written.acceptances),
    }
}

/// The JSON Schema of configuration files.
pub fn configuration_schema() -> serde_json::Value {
    schema_of::<WrittenConfiguration>("Heronshale configuration, version 1")
}
