//! Segments: interfaces put together by what they have in common.

use crate::estate::{Estate, Id, Interface, LinkEnd, Name};

/// By what interfaces are put into segments.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SegmentBy {
    /// By network.
    Network,
    /// By subnet.
    Subnet,
    /// By the hub's domain that their network's link reads from.
    Domain,
    /// By the innermost division of their network.
    Division,
    /// By who changes them.
    Owner,
    /// By the value of a tag, their own or their workload's.
    Tag(Name),
}

impl SegmentBy {
    /// Reads what segments are: `network`, `subnet`, `domain`, `division`, `owner`, `tag:KEY`.
    pub fn parse(text: &str) -> Option<Self> {
        match text {
            "network" => Some(Self::Network),
            "subnet" => Some(Self::Subnet),
            "domain" => Some(Self::Domain),
            "division" => Some(Self::Division),
            "owner" => Some(Self::Owner),
            _ => text
                .strip_prefix("tag:")
                .filter(|key| !key.is_empty())
                .map(|key| Self::Tag(key.into())),
        }
    }

    /// In words.
    pub fn text(&self) -> String {
        match self {
            Self::Network => "network".to_owned(),
            Self::Subnet => "subnet".to_owned(),
            Self::Domain => "domain".to_owned(),
            Self::Division => "division".to_owned(),
            Self::Owner => "owner".to_owned(),
            Self::Tag(key) => format!("tag {key}"),
        }
    }

    /// The names of the segments that an interface is in, at least one.
    pub fn of(&self, estate: &Estate, id: Id<Interface>) -> Vec<String> {
        let network = estate.network_of(id);
        let one =
            |name: Option<String>| vec![name.unwrap_or_else(|| format!("(no {})", self.text()))];
        match self {
            Self::Network => one(Some(estate.networks[network].name.to_string())),
            Self::Subnet => one(Some(
                estate.subnets[estate.interfaces[id].subnet]
                    .name
                    .to_string(),
            )),
            Self::Division => one(estate.networks[network]
                .division
                .map(|id| estate.divisions[id].name.to_string())),
            Self::Owner => one(estate
                .interface_owner(id)
                .map(|id| estate.owners[id].name.to_string())),
            Self::Tag(key) => {
                let workload = estate.interfaces[id]
                    .workload
                    .map(|id| &estate.workloads[id].tags);
                let tags = estate.interfaces[id]
                    .tags
                    .iter()
                    .chain(workload.into_iter().flatten());
                let mut values: Vec<String> = tags
                    .filter(|(name, _)| name == key)
                    .map(|(name, value)| format!("{name}={value}"))
                    .collect();
                values.sort_unstable();
                values.dedup();
                if values.is_empty() { one(None) } else { values }
            }
            Self::Domain => {
                let mut names: Vec<String> = Vec::new();
                for hub in estate.hubs.items() {
                    for link in &hub.links {
                        let here =
                            matches!(&link.to, LinkEnd::Network(to) if to.found() == Some(network));
                        let domain = link.reads.filter(|_| here).map(|at| &hub.domains[at].name);
                        names.extend(domain.map(|domain| {
                            if estate.hubs.len() > 1 {
                                format!("{}/{domain}", hub.name)
                            } else {
                                domain.to_string()
                            }
                        }));
                    }
                }
                names.sort_unstable();
                names.dedup();
                if names.is_empty() { one(None) } else { names }
            }
        }
    }
}
