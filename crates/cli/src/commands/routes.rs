//! `heronshale routes`: which route wins for what.

use crate::failure::Failure;
use crate::opened::{EstateArgs, end};
use clap::Args;
use heronshale_answers::routes_answer;
use heronshale_report as report;

/// Where an interface's traffic goes: which route wins for what
///
/// Every route that applies to the interface, static, automatic and propagated: what it wins, to what it loses the rest and why,
/// which ones are idle, and which lead to a next hop that does not work.
#[derive(Args, Debug)]
pub struct Routes {
    /// The interface: its name, its workload's, or its address
    #[arg(value_name = "INTERFACE")]
    interface: String,
    #[command(flatten)]
    estate: EstateArgs,
}

impl Routes {
    pub fn run(&self) -> Result<u8, Failure> {
        let opened = self.estate.open()?;
        let view = opened.view();
        let one = end(&view, &self.interface)?.one_interface(&view, &self.interface);
        let interface = one.map_err(|error| Failure::end(&self.interface, error))?;
        opened.answer(
            &view,
            "routes",
            routes_answer(&view, interface),
            report::routes,
        )?;
        Ok(0)
    }
}
