//! `heronshale inventory`: what is in the estate, drawn and searched.

use crate::failure::Failure;
use crate::files::write_all;
use crate::opened::{EstateArgs, print, selected};
use clap::Args;
use heronshale_report as report;
use std::net::IpAddr;
use std::path::{Path, PathBuf};

/// What is there: networks, subnets, interfaces, gateways, addresses, filters, gaps
#[derive(Args, Debug)]
pub struct Inventory {
    /// Only what these interfaces belong to: a name, an address, network:tickets, tag:role=web …
    selector: Option<String>,
    #[command(flatten)]
    estate: EstateArgs,
    /// List the interfaces with what is bound to each
    #[arg(long)]
    interfaces: bool,
    /// Everything that holds this address: records, sets, routes, rules
    #[arg(long, value_name = "ADDRESS", conflicts_with_all = ["selector", "interfaces"])]
    find: Option<IpAddr>,
    /// Draw networks, gateways, firewalls and links as an SVG figure into this file
    #[arg(long, value_name = "FILE", conflicts_with_all = ["selector", "interfaces", "find"])]
    figure: Option<PathBuf>,
    /// With --figure: replace the file if it is there
    #[arg(long, requires = "figure")]
    force: bool,
}

impl Inventory {
    pub fn run(&self) -> Result<u8, Failure> {
        let opened = self.estate.open()?;
        let view = opened.view();
        if let Some(address) = self.find {
            opened.answer(
                &view,
                "find",
                heronshale_answers::find(&view, address),
                report::finds,
            )?;
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
                        format!("`{}` is no file name", path.display()),
                        "write --figure estate.svg",
                    )
                })?;
            write_all(folder, &[(name, &drawn)], self.force)?;
            print(&format!("drawn: {}\n", path.display()))?;
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
