//! Ends and selectors: one notation for what a question is about, on the command line and in files.
//!
//! `fares-db` (an interface, a workload, or whatever bears that name alone), `10.65.4.20`, `10.65.0.0/16`, `internet`, or a
//! name with its kind: `interface:`, `workload:`, `network:`, `subnet:`, `group:`, `tag:role=web`, `identity:`,
//! `division:`, `owner:`, `site:`, `set:`, `balancer:`, `service:`, `firewall:`.

use crate::estate::{
    AddressSet, Balancer, Direction, Division, Filter, Firewall, Id, Interface, Name, Network,
    Owner, PlatformService, Service, Site, Subnet, Table, Workload,
};
use crate::notation::{parse_tags, split_kind};
use crate::view::View;
use heronshale_sets::address::{Addresses, Block};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, service};

/// What a question is about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum End {
    /// All public addresses that are not the estate's.
    Internet,
    /// Every address.
    Any,
    /// An address, a prefix or a range.
    Block(Block),
    /// One interface.
    Interface(Id<Interface>),
    /// The interfaces of a workload.
    Workload(Id<Workload>),
    /// The interfaces, or the blocks, of a network.
    Network(Id<Network>),
    /// The interfaces, or the blocks, of a subnet.
    Subnet(Id<Subnet>),
    /// The carriers of a security group.
    Group(Id<Filter>),
    /// The interfaces with all of these tags.
    Tag(Vec<(Name, Name)>),
    /// The interfaces whose workload runs as this account.
    Identity(Name),
    /// The interfaces of a division's networks.
    Division(Id<Division>),
    /// The interfaces that somebody changes.
    Owner(Id<Owner>),
    /// What a site holds.
    Site(Id<Site>),
    /// What an address set holds.
    Set(Id<AddressSet>),
    /// The front ends of a balancer, or its own interfaces.
    Balancer(Id<Balancer>),
    /// The doors of a platform service, or its own interfaces.
    Service(Id<PlatformService>),
    /// A firewall's interfaces, or the addresses that it holds itself.
    Firewall(Id<Firewall>),
}

/// Why a text names no end, and what would be right.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EndError {
    /// What is wrong.
    pub what: String,
    /// Names that could have been meant, each as it would be written.
    pub candidates: Vec<String>,
    /// Whether all candidates fit, so that one has to be chosen; else they are only near.
    pub ambiguous: bool,
}

impl EndError {
    /// What is wrong and what could be meant, in one line.
    pub fn text(&self) -> String {
        const SHOWN: usize = 3;
        if !self.ambiguous || self.candidates.is_empty() {
            return self.what.clone();
        }
        let more = if self.candidates.len() > SHOWN {
            ", …"
        } else {
            ""
        };
        let shown = self
            .candidates
            .iter()
            .take(SHOWN)
            .cloned()
            .collect::<Vec<_>>()
            .join(", ");
        format!("{}: {shown}{more}", self.what)
    }
}

/// The kinds of a name, as they stand before its colon.
pub const KINDS: [&str; 14] = [
    "interface",
    "workload",
    "network",
    "subnet",
    "group",
    "tag",
    "identity",
    "division",
    "owner",
    "site",
    "set",
    "balancer",
    "service",
    "firewall",
];

/// Kinds of things that traffic only passes.
const BETWEEN: [&str; 8] = [
    "hub",
    "gateway",
    "peering",
    "link",
    "route_table",
    "acl",
    "policy",
    "zone",
];

impl End {
    /// Reads an end.
    ///
    /// # Errors
    /// If nothing bears the name, or several things do; the candidates are told.
    pub fn parse(view: &View<'_>, text: &str) -> Result<Self, EndError> {
        let text = text.trim();
        match text {
            "internet" => return Ok(Self::Internet),
            "any" => return Ok(Self::Any),
            _ => {}
        }
        if let Some((kind, name)) = split_kind(text, &KINDS) {
            return Self::of_kind(view, kind, name);
        }
        if let Ok(block) = text.parse::<Block>() {
            return Ok(Self::Block(block));
        }
        // An interface or a workload goes before whatever else bears the name.
        for kinds in [&KINDS[..2], &KINDS[2..]] {
            let found: Vec<(&str, Self)> = kinds
                .iter()
                .filter_map(|kind| Some((*kind, Self::find(view, kind, text)?)))
                .collect();
            match found.as_slice() {
                [] => {}
                [(_, end)] => return Ok(end.clone()),
                [(_, first), (_, second)]
                    if kinds[0] == KINDS[0]
                        && first.interfaces(view) == second.interfaces(view) =>
                {
                    return Ok(first.clone());
                }
                several => {
                    return Err(EndError {
                        what: format!("`{text}` is the name of several things"),
                        candidates: several
                            .iter()
                            .map(|(kind, _)| format!("{kind}:{text}"))
                            .collect(),
                        ambiguous: true,
                    });
                }
            }
        }
        if let Some((kind, _)) = split_kind(text, &BETWEEN) {
            let kind = kind.replace('_', " ");
            let what =
                format!("`{text}` is not an end of traffic: a {kind} has no interface of its own");
            let candidates = KINDS.map(|kind| format!("{kind}:NAME")).to_vec();
            return Err(EndError {
                what,
                candidates,
                ambiguous: true,
            });
        }
        Err(nothing(view, text, &KINDS))
    }

    fn of_kind(view: &View<'_>, kind: &str, name: &str) -> Result<Self, EndError> {
        if kind == "tag" {
            let pairs = parse_tags(name);
            return pairs.map(Self::Tag).map_err(|error| EndError {
                what: error.what,
                candidates: vec![
                    "tag:role=web".to_owned(),
                    "tag:role=web,env=live".to_owned(),
                ],
                ambiguous: false,
            });
        }
        Self::find(view, kind, name).ok_or_else(|| nothing(view, name, &[kind]))
    }

    fn find(view: &View<'_>, kind: &str, name: &str) -> Option<Self> {
        let estate = view.estate;
        match kind {
            "interface" => estate.interfaces.find(name).map(Self::Interface),
            "workload" => estate.workloads.find(name).map(Self::Workload),
            "network" => estate.networks.find(name).map(Self::Network),
            "subnet" => estate.subnets.find(name).map(Self::Subnet),
            "group" => estate
                .filters
                .find(&format!("group:{name}"))
                .map(Self::Group),
            "identity" => (!view.running_as(name).is_empty()).then(|| Self::Identity(name.into())),
            "division" => estate.divisions.find(name).map(Self::Division),
            "owner" => estate.owners.find(name).map(Self::Owner),
            "site" => estate.sites.find(name).map(Self::Site),
            "set" => estate.address_sets.find(name).map(Self::Set),
            "balancer" => estate.balancers.find(name).map(Self::Balancer),
            "service" => estate.services.find(name).map(Self::Service),
            "firewall" => estate.firewalls.find(name).map(Self::Firewall),
            _ => None,
        }
    }

    /// The interfaces that it stands for, in the order of the snapshot: for an address those that hold it, their own or
    /// by a public address.
    pub fn interfaces(&self, view: &View<'_>) -> Vec<Id<Interface>> {
        let estate = view.estate;
        let all = |chosen: &dyn Fn(Id<Interface>) -> bool| {
            estate.interfaces.ids().filter(|id| chosen(*id)).collect()
        };
        match self {
            Self::Internet | Self::Site(_) | Self::Set(_) => Vec::new(),
            Self::Any => all(&|_| true),
            Self::Block(block) => {
                let wanted: Addresses = [block.range].into_iter().collect();
                let public = |id| {
                    let mut held = estate
                        .public_addresses
                        .items()
                        .iter()
                        .filter(|public| public.interface == Some(id));
                    held.any(|public| wanted.contains(public.address))
                };
                all(&|id| estate.interfaces[id].addresses.overlaps(&wanted) || public(id))
            }
            Self::Interface(id) => vec![*id],
            Self::Balancer(id) => estate.balancers[*id].interfaces.clone(),
            Self::Service(id) => estate.services[*id].interfaces.clone(),
            Self::Firewall(id) => estate.firewalls[*id]
                .legs
                .iter()
                .map(|leg| leg.interface)
                .collect(),
            Self::Workload(workload) => {
                all(&|id| estate.interfaces[id].workload == Some(*workload))
            }
            Self::Network(network) => all(&|id| estate.network_of(id) == *network),
            Self::Subnet(subnet) => all(&|id| estate.interfaces[id].subnet == *subnet),
            Self::Group(group) => view.carriers(*group).to_vec(),
            Self::Tag(pairs) => view.tagged(pairs),
            Self::Identity(name) => view.running_as(name).to_vec(),
            Self::Division(division) => {
                all(&|id| view.divisions_of(estate.network_of(id)).contains(division))
            }
            Self::Owner(owner) => all(&|id| estate.interface_owner(id) == Some(*owner)),
        }
    }

    /// The addresses that it stands for as the other side of a packet: own ones of interfaces, never mapped ones.
    pub fn addresses(&self, view: &View<'_>) -> Addresses {
        match self {
            Self::Internet => view.internet_end(),
            Self::Any => Addresses::all(),
            Self::Block(block) => [block.range].into_iter().collect(),
            Self::Network(id) => view.estate.networks[*id].blocks.clone(),
            Self::Subnet(id) => view.estate.subnets[*id].blocks.clone(),
            Self::Site(id) => view.estate.sites[*id].holds.clone(),
            Self::Set(id) => view.set(*id).matched.either(),
            Self::Balancer(id) => view.estate.balancers[*id]
                .front_ends
                .iter()
                .map(|front| front.address)
                .collect(),
            Self::Service(id) => {
                let service = &view.estate.services[*id];
                let own = service.private_doors.iter().chain(&service.interfaces);
                let own = own
                    .flat_map(|id| view.estate.interfaces[*id].addresses.ranges())
                    .collect::<Addresses>();
                let public = service
                    .public_door
                    .as_ref()
                    .map(|door| door.addresses.clone());
                public.map_or_else(|| own.clone(), |public| own.union(&public))
            }
            Self::Firewall(id) if view.estate.firewalls[*id].legs.is_empty() => {
                view.estate.firewalls[*id].addresses.clone()
            }
            _ => {
                let held = self.interfaces(view);
                held.iter()
                    .flat_map(|id| view.estate.interfaces[*id].addresses.ranges())
                    .collect()
            }
        }
    }

    /// The one interface that it stands for; else what there is to choose from.
    ///
    /// # Errors
    /// If it stands for none or for several.
    pub fn one_interface(&self, view: &View<'_>, text: &str) -> Result<Id<Interface>, EndError> {
        let found = self.interfaces(view);
        match found.as_slice() {
            [one] => Ok(*one),
            [] => Err(EndError {
                what: format!("`{text}` matches no interface"),
                candidates: Vec::new(),
                ambiguous: false,
            }),
            several => Err(EndError {
                what: format!("`{text}` matches {} interfaces", several.len()),
                candidates: several
                    .iter()
                    .map(|id| format!("interface:{}", view.estate.interfaces[*id].name))
                    .collect(),
                ambiguous: true,
            }),
        }
    }
}

/// All names of some kinds, as candidates.
fn nothing(view: &View<'_>, name: &str, kinds: &[&str]) -> EndError {
    fn names<T: crate::estate::Named>(table: &Table<T>) -> Vec<String> {
        table
            .items()
            .iter()
            .map(|item| item.name().to_string())
            .collect()
    }
    let estate = view.estate;
    let mut candidates = Vec::new();
    for kind in kinds {
        let found = match *kind {
            "interface" => names(&estate.interfaces),
            "workload" => names(&estate.workloads),
            "network" => names(&estate.networks),
            "subnet" => names(&estate.subnets),
            "group" => {
                let groups = estate
                    .filters
                    .items()
                    .iter()
                    .filter(|filter| filter.kind_word() == "group");
                groups.map(|filter| filter.name.to_string()).collect()
            }
            "division" => names(&estate.divisions),
            "owner" => names(&estate.owners),
            "site" => names(&estate.sites),
            "set" => names(&estate.address_sets),
            "balancer" => names(&estate.balancers),
            "service" => names(&estate.services),
            "firewall" => names(&estate.firewalls),
            _ => Vec::new(),
        };
        candidates.extend(found.into_iter().map(|found| {
            if kinds.len() == 1 {
                format!("{kind}:{found}")
            } else {
                found
            }
        }));
    }
    candidates.sort_unstable();
    candidates.dedup();
    let what = match kinds {
        [kind] => format!("there is no {kind} called `{name}`"),
        _ => format!("nothing in the snapshot is called `{name}`"),
    };
    EndError {
        what,
        candidates,
        ambiguous: false,
    }
}

/// A rule by its name: `ID`, `FILTER/ID`, `KIND:FILTER/ID`, each with `in/` or `out/` before the id if need be, or
/// `FILE:LINE`.
///
/// # Errors
/// If no rule bears the name, or several do; the candidates are told.
pub fn parse_rule(view: &View<'_>, text: &str) -> Result<crate::estate::RuleId, EndError> {
    let estate = view.estate;
    let names = |id: &crate::estate::RuleId| {
        let filter = &estate.filters[id.filter];
        let (rule, way) = (estate.rule_name(*id), id.direction.word());
        let bare = [rule.clone(), format!("{way}/{rule}")];
        let with = |front: &str| bare.clone().map(|rule| format!("{front}/{rule}"));
        let mut all = with(&filter.name).to_vec();
        all.extend(with(&filter.key));
        all.extend(bare);
        all
    };
    let place = text
        .rsplit_once(':')
        .and_then(|(file, line)| Some((file, line.parse::<usize>().ok()?)));
    let stands_at = |id: &crate::estate::RuleId| {
        let span = estate.rule(*id).origin.span;
        let file = estate.sources.file(span.file);
        let lines = file.line(span.start).0..=file.line(span.end.saturating_sub(1)).0;
        place.is_some_and(|(name, line)| *file.name == *name && lines.contains(&line))
    };
    let is_called =
        |id: &crate::estate::RuleId| names(id).iter().any(|name| name == text) || stands_at(id);
    let found: Vec<crate::estate::RuleId> = estate.rule_ids().filter(is_called).collect();
    let full = |id: &crate::estate::RuleId| {
        format!(
            "{}/{}/{}",
            estate.filters[id.filter].key,
            id.direction.word(),
            estate.rule_name(*id)
        )
    };
    match found.as_slice() {
        [one] => Ok(*one),
        [] => {
            let candidates = estate.rule_ids().map(|id| full(&id)).collect();
            Err(EndError {
                what: format!("there is no rule called `{text}`"),
                candidates,
                ambiguous: false,
            })
        }
        several => Err(EndError {
            what: format!("{} rules are called `{text}`", several.len()),
            candidates: several.iter().map(full).collect(),
            ambiguous: true,
        }),
    }
}

/// All packets between an interface and some peers, of some services, in one direction; none given: all.
pub fn asked_packets(direction: Direction, peers: &Addresses, services: &[Service]) -> PacketSet {
    let all = Addresses::all();
    let every_port = Intervals::span(0, u128::from(u16::MAX));
    let numbers = |family| {
        if services.is_empty() {
            return service::all(family);
        }
        services.iter().fold(Intervals::empty(), |sum, service| {
            sum.union(&service.numbers(family))
        })
    };
    match direction {
        Direction::In => PacketSet::fields(peers, &all, numbers, &every_port, ()),
        Direction::Out => PacketSet::fields(&all, peers, numbers, &every_port, ()),
    }
}
