//! `heronshale export`: open formats and sheets out of a snapshot.

use super::import::profile_at;
use crate::failure::{FOUND, Failure};
use crate::files::write_file;
use crate::opened::EstateArgs;
use clap::{Args, ValueEnum};
use heronshale_answers::{
    Counted, ExportAnswer, interface_sheet, plain_acls, plain_routes, rule_sheet,
};
use heronshale_engine::fabric::Fabric;
use heronshale_intake::Profile;
use heronshale_model::estate::{Id, RouteTable};
use heronshale_report as report;
use std::path::PathBuf;

/// Formats that others read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum OutFormat {
    /// Network ACLs as access control lists of RFC 8519 in JSON
    IetfAcl,
    /// A route table as static routes of RFC 8349 in JSON
    IetfRoutes,
    /// The rules of groups, network ACLs and own firewalls as CSV, a row each
    CsvRules,
    /// The interfaces with where they stand and what is bound to them as CSV, a row each
    CsvInterfaces,
}

/// Write the estate in another format, and list what that format cannot hold
///
/// The file means the same when it is imported again: `import --as ietf-acl`, `import --as ietf-routes`, `import --profile sheets`.
/// Ends with 1 if something could not be written in the format.
#[derive(Args, Debug)]
pub struct Export {
    #[command(flatten)]
    estate: EstateArgs,
    /// The format to write
    #[arg(long = "as", value_name = "FORMAT", value_enum)]
    written_as: OutFormat,
    /// Column headers of a sheet: `columns` of this profile, which reads the sheet back
    #[arg(long, value_name = "PROFILE")]
    profile: Option<PathBuf>,
    /// With --as ietf-routes: the route table
    #[arg(long, value_name = "TABLE")]
    table: Option<String>,
    /// The file to write
    #[arg(long, value_name = "FILE")]
    into: PathBuf,
    /// Overwrite a file that is there
    #[arg(long)]
    force: bool,
}

impl Export {
    pub fn run(&self) -> Result<u8, Failure> {
        if self.profile.is_some()
            && matches!(self.written_as, OutFormat::IetfAcl | OutFormat::IetfRoutes)
        {
            let what = "--profile sets column headers, and this format has no columns";
            return Err(Failure::wrong(
                what,
                "leave it out, or write --as csv-rules",
            ));
        }
        if self.table.is_some() && self.written_as != OutFormat::IetfRoutes {
            let what = "--table names a route table, and this format has none";
            return Err(Failure::wrong(
                what,
                "leave it out, or write --as ietf-routes",
            ));
        }
        let profile = self.profile.as_deref().map(profile_at).transpose()?;
        let opened = self.estate.open()?;
        let view = opened.view();
        let counted = |what: &str, count| Counted {
            what: what.to_owned(),
            count,
        };
        let format = self
            .written_as
            .to_possible_value()
            .map(|value| value.get_name().to_owned())
            .unwrap_or_default();
        let mut answer = ExportAnswer {
            format,
            written: self.into.display().to_string(),
            ..ExportAnswer::default()
        };
        let text = match self.written_as {
            OutFormat::IetfAcl => {
                let (acls, left_out, incomplete) = plain_acls(&view);
                let entries = acls.iter().map(|acl| acl.entries.len()).sum();
                answer.holds = vec![counted("lists", acls.len()), counted("entries", entries)];
                (answer.left_out, answer.incomplete) = (left_out, incomplete);
                report::acl_json(&acls)
            }
            OutFormat::IetfRoutes => {
                let (name, table) = self.table(&view)?;
                let (routes, left_out) = plain_routes(&view, table);
                answer.holds = vec![counted("routes", routes.len())];
                answer.incomplete = !left_out.is_empty();
                answer.left_out = left_out;
                report::routes_json(&name, &routes)
            }
            OutFormat::CsvRules | OutFormat::CsvInterfaces => {
                let rules = self.written_as == OutFormat::CsvRules;
                let sheet = if rules {
                    rule_sheet(&view)
                } else {
                    interface_sheet(&view)
                };
                answer.holds = vec![counted("rows", sheet.rows.len())];
                let text =
                    report::sheet_csv(&sheet, profile.as_ref().map_or(&[], Profile::columns));
                answer.left_out = sheet.left_out;
                text
            }
        };
        write_file(&self.into, &text, self.force)?;
        let code = if answer.incomplete { FOUND } else { 0 };
        opened.answer(&view, "export", answer, report::exported)?;
        Ok(code)
    }
    /// The route table that is meant: by its name, or the only one.
    fn table(&self, view: &Fabric<'_>) -> Result<(String, Id<RouteTable>), Failure> {
        let tables = &view.estate.route_tables;
        let all: Vec<String> = tables
            .items()
            .iter()
            .map(|table| table.name.to_string())
            .collect();
        let hint = match all.as_slice() {
            [] => "the snapshot has no route table".to_owned(),
            all => format!("write --table with one of {}", all.join(", ")),
        };
        match (&self.table, all.as_slice()) {
            (None, [only]) => tables.find(only).map(|id| (only.clone(), id)),
            (None, _) => return Err(Failure::wrong("the route table is not given", hint)),
            (Some(name), _) => tables.find(name).map(|id| (name.clone(), id)),
        }
        .ok_or_else(|| {
            Failure::wrong(
                format!(
                    "there is no route table called `{}`",
                    self.table.as_deref().unwrap_or_default()
                ),
                hint,
            )
        })
    }
}
