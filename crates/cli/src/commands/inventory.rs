//! `heronshale inventory`: what is in the estate, drawn and searched.

use super::rehearse::unfit;
use crate::failure::Failure;
use crate::files::write_all;
use crate::opened::{EstateArgs, print, selected};
use clap::Args;
use heronshale_intake::did_you_mean;
use heronshale_report as report;
use std::path::{Path, PathBuf};

/// What is there, where something occurs, and which addresses are free
#[derive(Args, Debug)]
pub struct Inventory {
    /// Only what these interfaces belong to: a name, an address, network:tickets, tag:role=web …
    selector: Option<String>,
    #[command(flatten)]
    estate: EstateArgs,
    /// List the interfaces with what is bound to each
    #[arg(long)]
    interfaces: bool,
    /// Where this occurs: an address, a prefix, a name such as web or group:web, tag:role=web, or a DNS name with what it resolves
    /// to from each network
    #[arg(long, value_name = "THING", conflicts_with_all = ["selector", "interfaces"])]
    find: Option<String>,
    /// What refers to a thing, what it refers to, and what has to change before it can go: group:web, subnet cargo-yard …
    #[arg(long, value_name = "THING", conflicts_with_all = ["selector", "interfaces", "find"])]
    uses: Option<String>,
    /// The address plan: how full each subnet is, and what is free
    #[arg(long, conflicts_with_all = ["selector", "interfaces", "find", "uses"])]
    addresses: bool,
    /// With --addresses: also the next free block of this prefix length in each network
    #[arg(long, value_name = "LENGTH", requires = "addresses", value_parser = clap::value_parser!(u8).range(8..=30))]
    free: Option<u8>,
    /// Draw networks, gateways, firewalls and links as an SVG figure into this file
    #[arg(long, value_name = "FILE", conflicts_with_all = ["selector", "interfaces", "find", "uses", "addresses"])]
    figure: Option<PathBuf>,
    /// With --figure: replace the file if it is there
    #[arg(long, requires = "figure")]
    force: bool,
}

impl Inventory {
    pub fn run(&self) -> Result<u8, Failure> {
        let opened = self.estate.open()?;
        let view = opened.view();
        if let Some(text) = &self.find {
            let found = heronshale_answers::find(&view, text).map_err(|error| {
                let near = did_you_mean(text, error.candidates.iter().map(String::as_str));
                let help = "write an address, a prefix, a name, tag:KEY=VALUE or a DNS name";
                Failure::wrong(
                    format!("nothing in the snapshot is called `{}`", error.asked),
                    near.unwrap_or_else(|| help.to_owned()),
                )
            })?;
            opened.answer(&view, "find", found, report::finds)?;
            return Ok(0);
        }
        if let Some(text) = &self.uses {
            let found = heronshale_intake::uses(opened.snapshot(), text).map_err(unfit)?;
            opened.answer(&view, "uses", found, report::uses)?;
            return Ok(0);
        }
        if self.addresses {
            let found = heronshale_answers::plan(&view, self.free);
            opened.answer(&view, "plan", found, report::plan)?;
            return Ok(0);
        }
        if let Some(path) = &self.figure {
            let drawn = report::figure(
                &heronshale_answers::figure(&view),
                &heronshale_answers::heading(&view),
            );
            let folder = path
                .parent()
                .filter(|folder| !folder.as_os_str().is_empty())
                .unwrap_or(Path::new("."));
            let name = path
                .file_name()
                .and_then(|name| name.to_str())
                .ok_or_else(|| {
                    Failure::wrong(
                        format!("`{}` is not a file name", path.display()),
                        "write --figure estate.svg",
                    )
                })?;
            write_all(folder, &[(name, &drawn)], self.force)?;
            print(&format!("Wrote {}.\n", path.display()))?;
            return Ok(0);
        }
        let only = self
            .selector
            .as_ref()
            .map(|text| selected(&view, text))
            .transpose()?;
        let interfaces = self.interfaces || only.is_some();
        let found = heronshale_answers::inventory(&view, only.as_deref());
        opened.answer(&view, "inventory", found, |whole, look| {
            report::inventory(whole, interfaces, look)
        })?;
        Ok(0)
    }
}
