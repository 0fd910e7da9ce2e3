use crate::failure::Failure;
use crate::opened::{EstateArgs, selected};
use clap::Args;
use heronshale_core::answer::exposure_answer;
use heronshale_report as report;

/// What the internet reaches, by which way in, and what closes the rest
///
/// Public addresses and global IPv6, balancers, firewalls that translate, services' public doors: each walked there and back,
/// with the gateway, the internet block, every filter, device and route on the way.
#[derive(Args, Debug)]
pub struct Exposure {
    /// Only these interfaces: a name, an address, network:tickets, tag:role=web …
    selector: Option<String>,
    #[command(flatten)]
    estate: EstateArgs,
}

impl Exposure {
    pub fn run(&self) -> Result<u8, Failure> {
        let opened = self.estate.open()?;
        let view = opened.view();
        let only = self.selector.as_ref().map(|text| selected(&view, text)).transpose()?;
        opened.answer(&view, "exposure", exposure_answer(&view, only.as_deref()), report::exposure)?;
        Ok(0)
    }
}
