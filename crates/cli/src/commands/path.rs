//! `heronshale path`: one connection there and back, what is in the way, and what would fix it.

use crate::failure::Failure;
use crate::opened::{EstateArgs, TrafficArgs, end};
use clap::Args;
use heronshale_answers::{PathAnswer, path_answer, since};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::path::{Connection, Goal, Target, Tuple, question};
use heronshale_engine::walk::Verdict;
use heronshale_model::ends::End;
use heronshale_report as report;

/// Whether a connection works, there and back, and if not, why
///
/// Every step of request and reply in order: stages, routes, devices, translations, each with what decided it. Ends may be sets;
/// then the answer is split by verdict. Where it fails, all that is in the way, and what would fix it: each fix was tried
/// in memory. Without traffic it says which services work. Ends with 0 if all that was asked
/// works, and with 1 if not.
#[derive(Args, Debug)]
pub struct Path {
    /// Where it starts: an interface, a workload, an address, internet, a site, a selector; or a whole connection as logs
    /// write it: "tcp 10.64.0.7:40000 → 10.65.0.9:443"
    #[arg(value_name = "FROM")]
    from: String,
    /// Where it goes: as FROM, or a DNS name, a URL, HOST:PORT, balancer:NAME, service:NAME
    #[arg(value_name = "TO")]
    to: Option<String>,
    #[command(flatten)]
    estate: EstateArgs,
    #[command(flatten)]
    traffic: TrafficArgs,
    /// Only from this client port
    #[arg(long, value_name = "PORT")]
    source_port: Option<u16>,
    /// An earlier snapshot: says what was answered then, and which obstacle is new
    #[arg(long, value_name = "OLD")]
    since: Option<std::path::PathBuf>,
}

impl Path {
    pub fn run(&self) -> Result<u8, Failure> {
        let opened = self.estate.open()?;
        let view = opened.view();
        let mut answer = self.ask(&view)?;
        if let Some(old) = &self.since {
            let old = opened.other(old)?;
            let old = old.view();
            let taken = old.estate.taken.map(|taken| taken.to_string());
            let before = match self.ask(&old) {
                Ok(answer) => Ok(answer),
                Err(Failure::Use { what, .. }) => Err(what),
                Err(other) => return Err(other),
            };
            since(&mut answer, before.as_ref().map_err(String::as_str), taken);
        }
        let works = answer.verdict == Verdict::Works;
        opened.answer(&view, "path", answer, report::path)?;
        Ok(u8::from(!works))
    }

    fn ask(&self, view: &Fabric<'_>) -> Result<PathAnswer, Failure> {
        let (connection, names) = self.connection(view)?;
        let asked = question(view, &connection).map_err(|error| Failure::end(&names[0], error))?;
        Ok(path_answer(view, &asked, [&names[0], &names[1]]))
    }

    /// What is asked, and how its ends were written.
    fn connection(&self, view: &Fabric<'_>) -> Result<(Connection, [String; 2]), Failure> {
        let mut services = self.traffic.services()?;
        let source_port = self.source_port;
        if let Some(to) = &self.to {
            let from = end(view, &self.from)?;
            let target = Target::parse(view, to).map_err(|error| Failure::end(to, error))?;
            if let Some(service) = target.service {
                if !services.is_empty() {
                    return Err(Failure::wrong(
                        format!("`{to}` says which port, and so do the options"),
                        "leave one of them out",
                    ));
                }
                services.push(service);
            }
            let names = [self.from.clone(), to.clone()];
            return Ok((
                Connection {
                    from,
                    to: target.goal,
                    services,
                    source_port,
                },
                names,
            ));
        }
        let Some(tuple) = Tuple::parse(&self.from) else {
            return Err(Failure::wrong(
                format!("`{}` is no whole connection, and there is no TO", self.from),
                "write FROM and TO, or \"tcp 10.64.0.7:40000 → 10.65.0.9:443\"",
            ));
        };
        if !services.is_empty() {
            return Err(Failure::wrong(
                "a whole connection says its traffic".to_owned(),
                "leave --tcp, --udp, --icmp and --traffic out",
            ));
        }
        services.push(tuple.service);
        let source_port = source_port.or(tuple.source_port);
        let parse = |address: std::net::IpAddr| {
            End::parse(view, &address.to_string()).map_err(|error| Failure::end(&self.from, error))
        };
        let (from, to) = (parse(tuple.source)?, Goal::End(parse(tuple.destination)?));
        let names = [tuple.source.to_string(), tuple.destination.to_string()];
        Ok((
            Connection {
                from,
                to,
                services,
                source_port,
            },
            names,
        ))
    }
}
