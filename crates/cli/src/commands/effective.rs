//! `heronshale effective`: the effective rules of interfaces.

use crate::failure::Failure;
use crate::opened::{EstateArgs, TrafficArgs, end, selected};
use clap::Args;
use heronshale_answers::effective_answers;
use heronshale_engine::effective::classes;
use heronshale_model::ends::asked_packets;
use heronshale_model::estate::Direction;
use heronshale_report as report;
use heronshale_sets::address::Addresses;

/// More classes than this are too long to read as text.
const MOST_CLASSES: usize = 60;

/// What the filters on an interface admit, in and out, by which rules
///
/// Combines all stages: own firewall, scope policies, security groups, network ACL. Each line names the deciding rules. For several
/// interfaces it shows one of each class with the same effective rules.
#[derive(Args, Debug)]
pub struct Effective {
    /// The interface, or several by a selector: a name, an address, network:tickets, tag:role=web …
    #[arg(required_unless_present = "all", value_name = "INTERFACE")]
    interface: Option<String>,
    /// Every class of interfaces
    #[arg(long, conflicts_with = "interface")]
    all: bool,
    #[command(flatten)]
    estate: EstateArgs,
    /// Only traffic with this peer: an address, internet, a name …
    #[arg(long, value_name = "END")]
    peer: Option<String>,
    #[command(flatten)]
    traffic: TrafficArgs,
}

impl Effective {
    pub fn run(&self) -> Result<u8, Failure> {
        let opened = self.estate.open()?;
        let view = opened.view();
        let services = self.traffic.services()?;
        let peer = self
            .peer
            .as_ref()
            .map(|text| end(&view, text))
            .transpose()?
            .map(|end| end.addresses(&view));
        let asked = |direction: Direction| {
            let peers = peer.clone().unwrap_or_else(Addresses::all);
            (peer.is_some() || !services.is_empty())
                .then(|| asked_packets(direction, &peers, &services))
        };
        let mut chosen = classes(&view);
        if let Some(text) = &self.interface {
            let wanted = selected(&view, text)?;
            chosen.retain_mut(|class| class.put_first(&wanted));
        }
        if opened.is_text() && chosen.len() > MOST_CLASSES {
            return Err(Failure::Use {
                what: report::too_many_classes(chosen.len()),
                hint: None,
            });
        }
        let mut found = effective_answers(&view, &chosen, asked);
        match found.pop() {
            Some(one) if found.is_empty() && !opened.is_text() => {
                opened.answer(&view, "effective", one, |_, _| String::new())?
            }
            last => {
                found.extend(last);
                opened.answer(&view, "effective-all", found, report::effective)?;
            }
        }
        Ok(0)
    }
}
