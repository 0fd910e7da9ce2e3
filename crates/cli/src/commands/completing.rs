//! Values that completions offer: names of the estate at hand, kinds of findings, owners, networks, rules.

use clap::Command;
use clap::builder::StyledStr;
use clap_complete::engine::{ArgValueCandidates, CompletionCandidate};
use heronshale_audit::finding::CATALOGUE;
use heronshale_intake::{Snapshot, load, load_configuration};
use heronshale_model::estate::Estate;
use heronshale_report::harmless_text;
use std::path::{Path, PathBuf};

/// What an argument takes.
#[derive(Clone, Copy)]
enum Values {
    /// Ends of traffic and selectors.
    Ends,
    /// Places at which traffic is routed.
    Places,
    /// Rules as `FILTER/ID`.
    Rules,
    /// Kinds of findings.
    Kinds,
    /// Owners.
    Owners,
    /// Networks.
    Networks,
}

/// Commands, their arguments, and what these take.
const ARGUMENTS: [(&str, &str, Values); 18] = [
    ("inventory", "selector", Values::Ends),
    ("inventory", "find", Values::Ends),
    ("effective", "interface", Values::Ends),
    ("effective", "peer", Values::Ends),
    ("routes", "place", Values::Places),
    ("path", "from", Values::Ends),
    ("path", "to", Values::Ends),
    ("rule", "rule", Values::Rules),
    ("reach", "from", Values::Ends),
    ("reach", "to", Values::Ends),
    ("exposure", "selector", Values::Ends),
    ("exposure", "from", Values::Ends),
    ("audit", "kind", Values::Kinds),
    ("audit", "owner", Values::Owners),
    ("audit", "network", Values::Networks),
    ("explain", "what", Values::Kinds),
    ("matrix", "from", Values::Networks),
    ("matrix", "to", Values::Networks),
];

/// Gives arguments the values that completions offer; each stays in its place.
pub(super) fn with_values(program: Command) -> Command {
    program.mut_subcommands(|command| {
        let name = command.get_name().to_owned();
        command.mut_args(|argument| {
            let id = argument.get_id().as_str();
            let known = ARGUMENTS
                .iter()
                .find(|(of, one, _)| *of == name && *one == id);
            match known {
                Some((_, _, values)) => {
                    let values = *values;
                    argument.add(ArgValueCandidates::new(move || candidates(values)))
                }
                None => argument,
            }
        })
    })
}

fn candidates(values: Values) -> Vec<CompletionCandidate> {
    if let Values::Kinds = values {
        let of = |kind: &&heronshale_audit::finding::Kind| {
            let help = StyledStr::from(kind.about.to_owned());
            CompletionCandidate::new(kind.name).help(Some(help))
        };
        return CATALOGUE.iter().map(of).collect();
    }
    let Some(snapshot) = at_hand() else {
        return Vec::new();
    };
    let names = names(&snapshot.estate, values);
    let plain = names
        .into_iter()
        .filter(|name| harmless_text(name) == *name);
    plain.map(CompletionCandidate::new).collect()
}

/// The estate that the line names, else the one of the configuration, else this folder.
fn at_hand() -> Option<Snapshot> {
    let words: Vec<String> = std::env::args().collect();
    let named = words
        .windows(2)
        .find(|pair| pair[0] == "-e" || pair[0] == "--estate")
        .map(|pair| PathBuf::from(&pair[1]));
    let configured = || {
        let file = Path::new("heronshale.yaml");
        let found = file.is_file().then(|| load_configuration(file, &[]))?;
        found.ok()?.estate
    };
    let path = named.or_else(configured).unwrap_or(PathBuf::from("."));
    load(&path).ok()
}

fn names(estate: &Estate, values: Values) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    macro_rules! add {
        ($front:literal, $table:ident) => {
            let items = estate.$table.items().iter();
            all.extend(items.map(|item| format!("{}{}", $front, item.name)));
        };
    }
    match values {
        Values::Kinds => {}
        Values::Owners => {
            add!("", owners);
        }
        Values::Networks => {
            add!("", networks);
        }
        Values::Rules => {
            let rules = estate.rule_ids();
            all.extend(rules.map(|id| {
                let filter = &estate.filters[id.filter].name;
                format!("{filter}/{}", estate.rule_name(id))
            }));
        }
        Values::Places => {
            add!("", interfaces);
            add!("subnet:", subnets);
            add!("table:", route_tables);
            add!("gateway:", gateways);
            add!("firewall:", firewalls);
            add!("site:", sites);
            for hub in estate.hubs.items() {
                let domains = hub
                    .domains
                    .iter()
                    .map(|one| format!("hub:{}/{}", hub.name, one.name));
                let links = hub
                    .links
                    .iter()
                    .map(|one| format!("link:{}/{}", hub.name, one.name));
                all.extend(domains.chain(links));
            }
        }
        Values::Ends => {
            all.push("internet".to_owned());
            add!("", interfaces);
            add!("", workloads);
            add!("network:", networks);
            add!("subnet:", subnets);
            add!("site:", sites);
            add!("set:", address_sets);
            add!("owner:", owners);
            add!("division:", divisions);
            add!("balancer:", balancers);
            add!("service:", services);
            add!("firewall:", firewalls);
            let groups = estate.filters.items().iter();
            let groups = groups.filter(|filter| filter.kind_word() == "group");
            all.extend(groups.map(|group| format!("group:{}", group.name)));
        }
    }
    all
}
