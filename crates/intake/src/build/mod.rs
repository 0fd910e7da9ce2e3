//! From what was written to the model: names are looked up, combinations judged, every error collected.

mod devices;
mod filters;
mod names;
mod network;

use crate::reading::{Many, Reading, Spanned};
use crate::sections::Collected;
use crate::written::{SetEntry, WrittenEstate, WrittenSettings};
use heronshale_model::estate::{
    Estate, Gap, Id, Lack, Name, Owner, PlatformTraffic, PublicAddress, Reference, Remark,
    RemarkKind, Reserve, Settings,
};
use heronshale_model::source::{Origin, Problem, SourceMap};
use heronshale_sets::address::{Addresses, Block};
use heronshale_sets::intervals::Intervals;
use names::Names;

/// Builds the estate, or says everything that is wrong with it.
pub(crate) fn build(sources: SourceMap, collected: Collected) -> Result<Estate, Vec<Problem>> {
    let mut builder = Builder::new(sources, &collected);
    builder.estate(&collected);
    builder.owners_and_divisions(&collected);
    builder.networks(&collected);
    builder.places(&collected);
    builder.sets_and_sites(&collected);
    builder.filters(&collected);
    builder.routes(&collected);
    builder.devices(&collected);
    builder.gaps(&collected);
    let mut problems = builder.reading.problems;
    if problems.is_empty() {
        return Ok(builder.estate);
    }
    problems.sort_by_key(|problem| problem.span);
    Err(problems)
}

/// The estate as far as it is built.
struct Builder {
    estate: Estate,
    names: Names,
    reading: Reading,
    estate_settings: Option<WrittenSettings>,
    /// Public addresses are known by no name.
    public_ids: Reserve<PublicAddress>,
}

impl Builder {
    fn new(sources: SourceMap, collected: &Collected) -> Self {
        let mut reading = Reading::default();
        let names = Names::new(collected, &mut reading);
        let estate = Estate {
            name: "estate".into(),
            sources: sources.into(),
            ..Estate::default()
        };
        Self {
            estate,
            names,
            reading,
            estate_settings: None,
            public_ids: Reserve::default(),
        }
    }

    fn estate(&mut self, collected: &Collected) {
        if let [(first, _), others @ ..] = collected.estates.as_slice() {
            for (origin, _) in others {
                self.reading.problems.push(Problem {
                    title: "the estate is described twice".to_owned(),
                    span: origin.span,
                    label: "a second time".to_owned(),
                    related: Some((first.span, "first here".to_owned())),
                    help: Some("one file of a snapshot has the field `estate`".to_owned()),
                });
            }
        }
        let Some((origin, written)) = collected.estates.first() else {
            return;
        };
        let WrittenEstate {
            name,
            taken,
            settings,
            probes,
            platform_traffic,
            ..
        } = written;
        self.estate.name = name.0.clone();
        self.estate.taken = taken.map(|moment| moment.0);
        self.estate_settings = settings.clone();
        self.estate.settings = resolve_settings(settings.iter());
        let ranges = |blocks: &Many<Block>| {
            blocks
                .0
                .iter()
                .map(|block| block.range)
                .collect::<Addresses>()
        };
        self.estate.probes = probes.as_ref().map(ranges);
        self.estate.platform_traffic = platform_traffic
            .0
            .iter()
            .map(|written| PlatformTraffic {
                addresses: ranges(&written.addresses),
                services: written.services.0.clone(),
            })
            .collect();
        for block in probes
            .iter()
            .chain(platform_traffic.0.iter().map(|written| &written.addresses))
            .flat_map(|b| &b.0)
        {
            self.remark_host_bits(block, *origin, "the estate");
        }
    }

    fn owners_and_divisions(&mut self, collected: &Collected) {
        for (origin, written) in &collected.owners {
            let contact = written.contact.as_ref().map(|prose| prose.0.clone());
            self.estate.owners.fill(
                self.names.owners.next(),
                Owner {
                    name: written.id.0.value.clone(),
                    origin: *origin,
                    contact,
                },
            );
        }
        for (origin, written) in &collected.divisions {
            let parent = written
                .parent
                .as_ref()
                .and_then(|name| self.names.divisions.need(name, &mut self.reading));
            let name = written.id.0.value.clone();
            self.estate.divisions.fill(
                self.names.divisions.next(),
                heronshale_model::estate::Division {
                    name,
                    origin: *origin,
                    parent,
                },
            );
        }
        for (id, division) in self.estate.divisions.iter() {
            let mut above = division.parent;
            let mut steps = 0;
            while let Some(parent) = above.filter(|_| steps <= self.estate.divisions.len()) {
                if parent == id {
                    let title = format!("the division `{}` lies inside itself", division.name);
                    self.reading
                        .fail(division.origin.span, title, "by its parents", None);
                    break;
                }
                above = self.estate.divisions[parent].parent;
                steps += 1;
            }
        }
    }

    /// The id of an owner that is named.
    fn owner(&mut self, name: Option<&Spanned<Name>>) -> Option<Id<Owner>> {
        name.and_then(|name| self.names.owners.need(name, &mut self.reading))
    }

    /// The addresses of blocks; host bits are remarked.
    fn blocks(&mut self, blocks: &Many<Spanned<Block>>, origin: Origin, holder: &str) -> Addresses {
        for block in &blocks.0 {
            self.remark_host_bits(
                &block.value,
                Origin {
                    span: block.span,
                    ..origin
                },
                holder,
            );
        }
        blocks.0.iter().map(|block| block.value.range).collect()
    }

    fn remark_host_bits(&mut self, block: &Block, origin: Origin, holder: &str) {
        if let (Some(host), Some(length)) = (block.host, block.length) {
            let written = format!("{host}/{length}").into();
            let what = RemarkKind::HostBits {
                written,
                meant: block.range.to_string().into(),
                holder: holder.into(),
            };
            self.estate.remarks.push(Remark { origin, what });
        }
    }

    /// A reference that may dangle; that it does is remarked.
    fn refer<T>(
        &mut self,
        found: Option<Id<T>>,
        name: &Name,
        kind: &str,
        holder: &str,
        origin: Origin,
    ) -> Reference<T> {
        if let Some(id) = found {
            return Reference::Found(id);
        }
        let target = format!("{kind}:{name}").into();
        self.estate.remarks.push(Remark {
            origin,
            what: RemarkKind::Missing {
                holder: holder.into(),
                target,
            },
        });
        Reference::Missing(name.clone())
    }

    /// The entries of a set or of a route's destinations.
    fn entries(
        &mut self,
        entries: &[SetEntry],
        origin: Origin,
        holder: &str,
    ) -> Vec<heronshale_model::estate::SetItem> {
        let mut items = Vec::with_capacity(entries.len());
        for entry in entries {
            let at = Origin {
                span: entry.span,
                ..origin
            };
            items.push(match &entry.entry {
                Ok(block) => {
                    self.remark_host_bits(block, at, holder);
                    heronshale_model::estate::SetItem::Block(*block)
                }
                Err(name) => {
                    let found = self.names.address_sets.get(name);
                    heronshale_model::estate::SetItem::Set(
                        self.refer(found, name, "set", holder, at),
                    )
                }
            });
        }
        items
    }

    fn gaps(&mut self, collected: &Collected) {
        for (origin, written) in &collected.gaps {
            let object = &written.object.0;
            let lack = written
                .lacks
                .as_ref()
                .map_or(Lack::Everything, |lack| lack.value);
            let there = self.names.exists(object.kind, &object.name);
            if lack != Lack::Everything && !there {
                let title = format!("there is no {} called `{}`", object.kind, object.name);
                let help = "a gap about part of an object needs the object; if all of it is missing, leave out `lacks`";
                self.reading.fail(
                    object.span,
                    title,
                    "not in the snapshot",
                    Some(help.to_owned()),
                );
            } else if lack == Lack::Everything && there {
                let title = format!(
                    "`{}:{}` is in the snapshot, so it cannot be missing as a whole",
                    object.kind, object.name
                );
                let help = Some("name the missing part with `lacks`".to_owned());
                self.reading.fail(object.span, title, "it is there", help);
            }
            let parts = parts_of(object.kind);
            if lack != Lack::Everything && !parts.contains(&lack) {
                let words: Vec<&str> = parts.iter().map(|part| part.word()).collect();
                let title = format!(
                    "{} has no {} that could be missing",
                    an(object.kind),
                    lack.word()
                );
                let help = match words.as_slice() {
                    [] => "leave out `lacks`: it is missing as a whole or not at all".to_owned(),
                    _ => format!("possible missing parts: {}", words.join(", ")),
                };
                let span = written.lacks.as_ref().map_or(object.span, |lack| lack.span);
                self.reading.fail(span, title, "not of this", Some(help));
            }
            let placed = [
                "network",
                "subnet",
                "site",
                "interface",
                "balancer",
                "firewall",
                "service",
            ];
            if let Some(first) = written.blocks.as_ref().and_then(|blocks| blocks.0.first())
                && (lack != Lack::Everything || !placed.contains(&object.kind))
            {
                let help = format!(
                    "blocks are for objects missing as a whole: {}",
                    placed.join(", ")
                );
                self.reading.fail(
                    first.span,
                    "these blocks have no effect".to_owned(),
                    "not here",
                    Some(help),
                );
            }
            let blocks = written
                .blocks
                .as_ref()
                .map(|blocks| self.blocks(blocks, *origin, "a gap"));
            self.estate.gaps.push(Gap {
                origin: *origin,
                object: format!("{}:{}", object.kind, object.name).into(),
                lack,
                blocks,
                reason: written.reason.as_ref().map(|prose| prose.0.clone()),
            });
        }
    }
}

/// What part of an object a gap may be about, by its kind; any of them may be lacking as a whole.
fn parts_of(kind: &str) -> &'static [Lack] {
    match kind {
        "network" => &[
            Lack::Interfaces,
            Lack::OwnFirewalls,
            Lack::Groups,
            Lack::Rules,
            Lack::Routes,
        ],
        "subnet" => &[Lack::Interfaces, Lack::OwnFirewalls, Lack::Groups],
        "interface" | "workload" => &[Lack::OwnFirewalls, Lack::Groups],
        "group" | "acl" | "policy" | "own-firewall" | "firewall-policy" | "service" => {
            &[Lack::Rules]
        }
        "table" | "gateway" | "hub" => &[Lack::Routes],
        "firewall" => &[Lack::Interfaces, Lack::Rules, Lack::Routes],
        "balancer" => &[Lack::Interfaces],
        _ => &[],
    }
}

fn an(kind: &str) -> String {
    let article = if kind.starts_with(['a', 'e', 'i', 'o', 'u']) {
        "an"
    } else {
        "a"
    };
    format!("{article} {}", kind.replace('-', " "))
}

/// Settings from the weakest to the strongest place that gives them.
fn resolve_settings<'s>(written: impl Iterator<Item = &'s WrittenSettings>) -> Settings {
    let mut settings = Settings::default();
    let mut names: Vec<&'static str> = Vec::new();
    for given in written {
        macro_rules! take {
            ($($field:ident),*) => {
                $(if let Some(value) = &given.$field {
                    settings.$field = value.clone();
                    names.push(stringify!($field));
                })*
            };
        }
        take!(
            named_peer_reach,
            equal_priority,
            subnet_groups,
            no_group,
            implied_pair,
            automatic_routes,
            same_subnet,
            equal_routes,
            missing_next_hop,
            reserved_addresses,
            policy_sees,
            no_healthy,
            filter_private_doors,
            door_route,
            fall_through
        );
        if let Some(ports) = &given.client_ports {
            settings.client_ports = Intervals::from_spans(ports.0.spans().iter().copied());
            names.push("client_ports");
        }
        if let Some(ports) = &given.nat_ports {
            settings.nat_ports = Intervals::from_spans(ports.0.spans().iter().copied());
            names.push("nat_ports");
        }
    }
    names.sort_unstable();
    names.dedup();
    settings.written = names;
    settings
}
