use crate::failure::{FOUND, Failure};
use crate::opened::EstateArgs;
use clap::Args;
use heronshale_core::answer;
use heronshale_core::finding::{CATALOGUE, Finding, Severity};
use heronshale_intake::did_you_mean;
use heronshale_report as report;

/// Everything that is wrong or worth a look, worst first
///
/// Ends with 1 if a finding is at or above --fail-on, or if something is undecided.
#[derive(Args, Debug)]
pub struct Audit {
    #[command(flatten)]
    estate: EstateArgs,
    /// End with 1 if a finding is at or above this severity; `never` looks at none
    #[arg(long, value_name = "SEVERITY", default_value = "serious", value_parser = ["note", "minor", "serious", "urgent", "never"])]
    fail_on: String,
    /// Only findings at or above this severity
    #[arg(long, value_name = "SEVERITY", value_parser = ["note", "minor", "serious", "urgent"])]
    at_least: Option<String>,
    /// Only this kind of finding; may be given several times
    #[arg(long, value_name = "KIND")]
    kind: Vec<String>,
    /// Only what this owner changes
    #[arg(long, value_name = "OWNER")]
    owner: Vec<String>,
    /// Only what is about this network
    #[arg(long, value_name = "NETWORK")]
    network: Vec<String>,
    /// Every finding in full, however long that is
    #[arg(long)]
    all: bool,
}

/// The severity of a name; none for `never`.
fn severity(name: &str) -> Option<Severity> {
    Severity::ALL.into_iter().find(|severity| severity.word() == name)
}

fn known(given: &[String], names: &[&str], what: &str) -> Result<(), Failure> {
    match given.iter().find(|name| !names.contains(&name.as_str())) {
        None => Ok(()),
        Some(name) => {
            let hint =
                did_you_mean(name, names.iter().copied()).unwrap_or_else(|| format!("there are {}", names.join(", ")));
            Err(Failure::wrong(format!("no {what} is called `{name}`"), hint))
        }
    }
}

impl Audit {
    pub fn run(&self) -> Result<u8, Failure> {
        let kinds: Vec<&str> = CATALOGUE.iter().map(|kind| kind.name).collect();
        known(&self.kind, &kinds, "kind of finding")?;
        let opened = self.estate.open()?;
        let view = opened.view();
        let owners: Vec<&str> = view.estate.owners.items().iter().map(|owner| &*owner.name).collect();
        known(&self.owner, &owners, "owner")?;
        let networks: Vec<&str> = view.estate.networks.items().iter().map(|network| &*network.name).collect();
        known(&self.network, &networks, "network")?;
        let mut found = answer::audit(&view);
        let threshold = severity(&self.fail_on);
        // What is undecided is never fine, whatever is asked for.
        let undecided = found.findings.iter().any(|finding| finding.kind == "undecided");
        self.choose(&mut found);
        let fails = undecided || threshold.is_some_and(|threshold| found.worst() >= Some(threshold));
        let length = if self.all { report::Length::All } else { report::Length::USUAL };
        opened.answer(&view, "audit", found, |whole, look| report::audit(whole, length, look))?;
        Ok(if fails { FOUND } else { 0 })
    }

    fn choose(&self, found: &mut answer::Audit) {
        let least = self.at_least.as_deref().and_then(severity);
        let level = least.map(|least| format!("{} and worse", least.word()));
        let named = [("kind", &self.kind), ("owner", &self.owner), ("network", &self.network)];
        let named = named
            .into_iter()
            .filter(|(_, names)| !names.is_empty())
            .map(|(what, names)| format!("{what} {}", names.join(" or ")));
        let only: Vec<String> = level.into_iter().chain(named).collect();
        let wanted = |finding: &Finding| {
            least.is_none_or(|least| finding.severity >= least)
                && (self.kind.is_empty() || self.kind.contains(&finding.kind))
                && (self.owner.is_empty() || finding.owner.as_ref().is_some_and(|owner| self.owner.contains(owner)))
                && (self.network.is_empty() || finding.networks.iter().any(|network| self.network.contains(network)))
        };
        if !only.is_empty() {
            found.keep(only, wanted);
        }
    }
}
