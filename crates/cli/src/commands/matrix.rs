//! `heronshale matrix`: who talks to whom, by segments.

use crate::failure::Failure;
use crate::opened::{EstateArgs, TrafficArgs};
use clap::Args;
use heronshale_intake::did_you_mean;
use heronshale_model::segments::SegmentBy;
use heronshale_report as report;

/// Which segment talks to which, and by which firewall
///
/// Segments are networks unless --by says otherwise, with the internet and the sites. Every pair is judged there and back. With FROM
/// and TO it shows that one cell in full.
#[derive(Args, Debug)]
pub struct Matrix {
    /// One cell: the segment that opens connections
    #[arg(value_name = "FROM", requires = "to")]
    from: Option<String>,
    /// One cell: the segment that receives them
    #[arg(value_name = "TO")]
    to: Option<String>,
    /// Segments: network, subnet, domain (of a hub), division, owner, tag:KEY [default: as configured, else network]
    #[arg(long, value_name = "WHAT")]
    by: Option<String>,
    #[command(flatten)]
    estate: EstateArgs,
    #[command(flatten)]
    traffic: TrafficArgs,
}

impl Matrix {
    pub fn run(&self) -> Result<u8, Failure> {
        let parse = |text: &str| {
            SegmentBy::parse(text).ok_or_else(|| {
                Failure::wrong(
                    format!("`{text}` cannot form segments"),
                    "write network, subnet, domain, division, owner, or tag:KEY",
                )
            })
        };
        let given = self.by.as_deref().map(parse).transpose()?;
        let opened = self.estate.open()?;
        let by = given.map_or_else(|| parse(opened.segments().unwrap_or("network")), Ok)?;
        let view = opened.view();
        let services = self.traffic.services()?;
        let matrix = heronshale_answers::Matrix::new(&view, by, &services);
        let (Some(from), Some(to)) = (&self.from, &self.to) else {
            opened.answer(&view, "matrix", matrix.answer(), report::matrix)?;
            return Ok(0);
        };
        let names = matrix.names();
        for name in [from, to] {
            if !names.contains(&name.as_str()) {
                let hint = did_you_mean(name, names.iter().copied())
                    .unwrap_or_else(|| format!("there are {}", names.join(", ")));
                return Err(Failure::wrong(
                    format!("there is no segment called `{name}`"),
                    hint,
                ));
            }
        }
        let cell = matrix.cell(from, to).expect("the two segments exist");
        opened.answer(&view, "matrix-cell", cell, report::matrix_cell)?;
        Ok(0)
    }
}
