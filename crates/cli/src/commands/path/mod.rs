//! `heronshale path`: one connection there and back, what is in the way, and what would fix it; or a list of them.

mod behind;
mod many;

use crate::failure::Failure;
use crate::opened::{EstateArgs, TrafficArgs, end};
use clap::Args;
use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use heronshale_answers::{PathAnswer, is_met, path_answer, since};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::path::{Connection, Goal, Question, Target, Tuple, question};
use heronshale_model::connections::Expected;
use heronshale_model::ends::End;
use heronshale_model::estate::Service;
use heronshale_report as report;

/// Whether a connection works, there and back, and if not, why and what fixes it
///
/// Follows request and reply through stages, routes, devices and translations. Where it fails, lists everything in the way and
/// fixes that were tried in memory. Ends may be sets; then the answer is split by result. Without traffic it says which services
/// work. Ends with 0 if everything asked works, or is as expected, else with 1.
#[derive(Args, Debug)]
pub struct Path {
    /// Where it starts: an interface, a workload, an address, internet, a site, a selector; or a whole connection as in a log:
    /// "tcp 10.64.0.7:40000 → 10.65.0.9:443"
    #[arg(value_name = "FROM", required_unless_present = "list")]
    from: Option<String>,
    /// Where it goes: as FROM, or a DNS name, a URL, HOST:PORT, balancer:NAME, service:NAME
    #[arg(value_name = "TO")]
    to: Option<String>,
    /// Ask every connection of this file: CSV with the columns from, to, traffic, expect and name, or lines such as
    /// `desk-1 engine-data tcp 5432 expect fails`
    #[arg(long, value_name = "FILE", conflicts_with_all = ["from", "to", "tcp", "udp", "icmp", "traffic", "source_port", "since", "expect", "expectations"])]
    list: Option<std::path::PathBuf>,
    /// The expected result: ends with 0 if that is the result
    #[arg(long, value_name = "RESULT", value_parser = expected_words(), default_value = "works")]
    expect: Expected,
    #[command(flatten)]
    traffic: TrafficArgs,
    /// Only from this client port
    #[arg(long, value_name = "PORT", help_heading = "Traffic")]
    source_port: Option<u16>,
    /// An earlier snapshot: shows its answer, the edits that make the difference, and marks new obstacles
    #[arg(long, value_name = "OLD")]
    since: Option<std::path::PathBuf>,
    /// With --since: write the patch that takes the edits behind the difference back; `rehearse FILE` tries it
    #[arg(long, value_name = "FILE", requires = "since")]
    revert: Option<std::path::PathBuf>,
    /// With --revert: replace the file if it is there
    #[arg(long, requires = "revert")]
    force: bool,
    /// Expectations, against which each fix is tried [default: as configured, else those in the estate's folder]
    #[arg(long, value_name = "FILE", help_heading = "Estate")]
    expectations: Vec<std::path::PathBuf>,
    #[command(flatten)]
    estate: EstateArgs,
}

/// The words for expected results, each with what it means.
fn expected_words() -> impl TypedValueParser<Value = Expected> {
    let words = Expected::ALL.map(|one| PossibleValue::new(one.word()).help(one.about()));
    PossibleValuesParser::new(words).try_map(|word| Expected::of(&word).ok_or("not a result"))
}

impl Path {
    pub fn run(&self) -> Result<u8, Failure> {
        if let Some(list) = &self.list {
            return many::run(&self.estate, list);
        }
        let opened = self.estate.open_with_expectations(&self.expectations)?;
        let view = opened.view();
        let mut answer = self.ask(&view)?;
        if let Some(old) = &self.since {
            let earlier = opened.other(old)?;
            let old = earlier.view();
            let taken = old.estate.taken.map(|taken| taken.to_string());
            let before = match self.ask(&old) {
                Ok(answer) => Ok(answer),
                Err(Failure::Use { what, .. }) => Err(what),
                Err(other) => return Err(other),
            };
            since(&mut answer, before.as_ref().map_err(String::as_str), taken);
            let differs = before.is_ok_and(|before| before.verdict != answer.verdict);
            if differs {
                self.because(&mut answer, &opened, &earlier, &view)?;
            }
            if !differs && self.revert.is_some() {
                return Err(Failure::wrong(
                    "nothing can be taken back: the answer is the same in both snapshots",
                    "leave out --revert, or name another earlier snapshot",
                ));
            }
        }
        let met = is_met(self.expect, answer.verdict);
        opened.answer(&view, "path", answer, report::path)?;
        Ok(u8::from(!met))
    }

    fn ask(&self, view: &Fabric<'_>) -> Result<PathAnswer, Failure> {
        let (connection, names) = self.connection(view)?;
        let asked = question(view, &connection).map_err(|error| Failure::end(&names[0], error))?;
        Ok(path_answer(view, &asked, [&names[0], &names[1]]))
    }

    fn question(&self, view: &Fabric<'_>) -> Result<Question, Failure> {
        let (connection, names) = self.connection(view)?;
        question(view, &connection).map_err(|error| Failure::end(&names[0], error))
    }

    fn connection(&self, view: &Fabric<'_>) -> Result<Asked, Failure> {
        let from = self.from.as_deref().unwrap_or_default();
        let services = self.traffic.services()?;
        match &self.to {
            Some(to) => between(view, from, to, services, self.source_port),
            None => whole(view, from, &services, self.source_port),
        }
    }
}

/// What is asked, and how its ends were written.
type Asked = (Connection, [String; 2]);

/// A connection of which both ends are given.
fn between(
    view: &Fabric<'_>,
    from: &str,
    to: &str,
    mut services: Vec<Service>,
    source_port: Option<u16>,
) -> Result<Asked, Failure> {
    let start = end(view, from)?;
    let target = Target::parse(view, to).map_err(|error| Failure::end(to, error))?;
    if let Some(service) = target.service {
        if !services.is_empty() {
            return Err(Failure::wrong(
                format!("`{to}` already says which port"),
                "leave out the port there, or the traffic option",
            ));
        }
        services.push(service);
    }
    let connection = Connection {
        from: start,
        to: target.goal,
        services,
        source_port,
    };
    Ok((connection, [from.to_owned(), to.to_owned()]))
}

/// A whole connection as logs write it.
fn whole(
    view: &Fabric<'_>,
    text: &str,
    services: &[Service],
    source_port: Option<u16>,
) -> Result<Asked, Failure> {
    let Some(tuple) = Tuple::parse(text) else {
        return Err(Failure::wrong(
            format!("`{text}` is not a whole connection, and TO is missing"),
            "write FROM and TO, or \"tcp 10.64.0.7:40000 → 10.65.0.9:443\"",
        ));
    };
    if !services.is_empty() {
        return Err(Failure::wrong(
            "a whole connection already says its traffic".to_owned(),
            "leave out --tcp, --udp, --icmp and --traffic",
        ));
    }
    let parse = |address: std::net::IpAddr| {
        End::parse(view, &address.to_string()).map_err(|error| Failure::end(text, error))
    };
    let connection = Connection {
        from: parse(tuple.source)?,
        to: Goal::End(parse(tuple.destination)?),
        services: vec![tuple.service],
        source_port: source_port.or(tuple.source_port),
    };
    let names = [tuple.source.to_string(), tuple.destination.to_string()];
    Ok((connection, names))
}
