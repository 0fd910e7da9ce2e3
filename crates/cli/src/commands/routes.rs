//! `heronshale routes`: which route wins for what.

use crate::failure::Failure;
use crate::opened::EstateArgs;
use clap::Args;
use heronshale_answers::{RoutesOf, routes_answer};
use heronshale_report as report;

/// Where traffic goes from an interface, a subnet, a table, a gateway, a hub, a firewall or a site
///
/// Lists every route that applies there, static, automatic and propagated: what it wins, what it loses to a better route and why,
/// which routes are idle, and which lead to a dead next hop.
#[derive(Args, Debug)]
pub struct Routes {
    /// An interface, a workload or an address; or subnet:NAME, table:NAME, gateway:NAME, hub:NAME/DOMAIN, link:HUB/NAME,
    /// firewall:NAME, site:NAME
    #[arg(value_name = "PLACE")]
    place: String,
    #[command(flatten)]
    estate: EstateArgs,
}

impl Routes {
    pub fn run(&self) -> Result<u8, Failure> {
        let opened = self.estate.open()?;
        let view = opened.view();
        let of = RoutesOf::parse(&view, &self.place);
        let of = of.map_err(|error| Failure::end(&self.place, error))?;
        opened.answer(&view, "routes", routes_answer(&view, of), report::routes)?;
        Ok(0)
    }
}
