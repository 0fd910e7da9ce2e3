use crate::failure::Failure;
use crate::opened::{EstateArgs, TrafficArgs, end};
use clap::Args;
use heronshale_core::answer::path_answer;
use heronshale_core::ends::End;
use heronshale_core::path::{Goal, Target, Tuple, question};
use heronshale_core::walk::Verdict;
use heronshale_report as report;

/// Whether a connection works, there and back, and if not, why
///
/// Every step of request and reply in order: stages, routes, devices, translations, each with what decided it. Ends may be sets;
/// then the answer is split by verdict. Without traffic it says which services work. Ends with 0 if all that was asked
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
}

impl Path {
    pub fn run(&self) -> Result<u8, Failure> {
        let opened = self.estate.open()?;
        let view = opened.view();
        let mut services = self.traffic.services()?;
        let mut source_port = self.source_port;
        let (from, goal, names) = match &self.to {
            Some(to) => {
                let from = end(&view, &self.from)?;
                let target = Target::parse(&view, to).map_err(|error| Failure::end(to, error))?;
                if let Some(service) = target.service {
                    if !services.is_empty() {
                        return Err(Failure::wrong(
                            format!("`{to}` says which port, and so do the options"),
                            "leave one of them out",
                        ));
                    }
                    services.push(service);
                }
                (from, target.goal, [self.from.clone(), to.clone()])
            }
            None => {
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
                source_port = source_port.or(tuple.source_port);
                let parse = |address: std::net::IpAddr| End::parse(&view, &address.to_string());
                let from = parse(tuple.source).map_err(|error| Failure::end(&self.from, error))?;
                let to = parse(tuple.destination).map_err(|error| Failure::end(&self.from, error))?;
                (from, Goal::End(to), [tuple.source.to_string(), tuple.destination.to_string()])
            }
        };
        let asked =
            question(&view, &from, &goal, &services, source_port).map_err(|error| Failure::end(&names[0], error))?;
        let answer = path_answer(&view, &asked, [&names[0], &names[1]], &services);
        let works = answer.verdict == Verdict::Works;
        opened.answer(&view, "path", answer, report::path)?;
        Ok(u8::from(!works))
    }
}
