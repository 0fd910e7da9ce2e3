//! `heronshale reach`: what something reaches, or who reaches it, in jumps.

use crate::failure::Failure;
use crate::opened::{EstateArgs, TrafficArgs, end};
use clap::Args;
use heronshale_answers::{ReachAsked, reach_answer};
use heronshale_report as report;

/// What something can reach, or who can reach it, in how many jumps
///
/// Lists every connection that works there and back, with its address and firewalls. With --jumps it goes on from each workload
/// reached, as an attacker could: the shortest chain to each, and the workloads on every chain. Traffic, if given, limits every jump.
#[derive(Args, Debug)]
pub struct Reach {
    /// Where it starts: an interface, a workload, internet, a site, a selector
    #[arg(value_name = "FROM", required_unless_present = "to")]
    from: Option<String>,
    /// Who can reach this; with FROM: only chains from there
    #[arg(long, value_name = "TO")]
    to: Option<String>,
    /// How many connections one after the other, at most
    #[arg(long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=32))]
    jumps: u32,
    #[command(flatten)]
    estate: EstateArgs,
    #[command(flatten)]
    traffic: TrafficArgs,
}

impl Reach {
    pub fn run(&self) -> Result<u8, Failure> {
        let opened = self.estate.open()?;
        let view = opened.view();
        let read = |text: &Option<String>| text.as_ref().map(|text| end(&view, text)).transpose();
        let (from, to) = (read(&self.from)?, read(&self.to)?);
        let services = self.traffic.services()?;
        let asked = ReachAsked {
            from: from.as_ref().zip(self.from.as_deref()),
            to: to.as_ref().zip(self.to.as_deref()),
            jumps: self.jumps,
            services: &services,
        };
        let Some(answer) = reach_answer(&view, &asked) else {
            let given = [&self.from, &self.to]
                .into_iter()
                .flatten()
                .map(|text| format!("`{text}`"));
            return Err(Failure::wrong(
                format!(
                    "{} matches nothing that opens or accepts connections",
                    given.collect::<Vec<_>>().join(" or ")
                ),
                "name an interface, a workload, a selector that matches some, the internet, a site, a service or a balancer",
            ));
        };
        opened.answer(&view, "reach", answer, report::reach)?;
        Ok(0)
    }
}
