//! The effective rules of an interface as data.

use heronshale_audit::describe::{Symbols, Traffic, ports_text, symbols_of, traffic};
use heronshale_audit::facts::{Decided, InterfaceFact, decided, interface_fact, rules_in_force};
use heronshale_engine::effective::{Class, Listed, Reply, Side, effective_both};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::judgement::StageKind;
use heronshale_engine::stage::rule_match;
use heronshale_model::estate::{Direction, Id, RuleId};
use heronshale_sets::address::Addresses;
use heronshale_sets::each::each;
use heronshale_sets::packet::PacketSet;
use serde::Serialize;

/// What the filters on an interface admit, in and out.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Effective {
    /// The interface.
    pub interface: InterfaceFact,
    /// All interfaces on which the same filters act alike, this one first.
    pub class: Vec<String>,
    /// The ports from which clients connect, by which replies were judged.
    pub client_ports: String,
    /// Received, then sent.
    pub sides: Vec<SideFact>,
}

/// One direction of an interface.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct SideFact {
    /// Received or sent.
    pub direction: Direction,
    /// The stages in the order in which packets cross them.
    pub stages: Vec<StageFact>,
    /// What all stages admit, to be read from the top: the first entry that holds a packet names what decided it.
    pub admitted: Vec<EntryFact>,
    /// What depends on something missing from the snapshot, to be read on from there.
    pub unknown: Vec<EntryFact>,
    /// The rest, to be read from the top: what no entry above has taken.
    pub left: Vec<EntryFact>,
}

/// A stage with its filters.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct StageFact {
    /// Which check.
    pub stage: StageKind,
    /// Its filters in binding order.
    pub filters: Vec<String>,
}

/// Whether the reply passes the stages of this interface that keep no state.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(tag = "reply", rename_all = "kebab-case", deny_unknown_fields)]
pub enum ReplyFact {
    /// It does, or there is none.
    Passes,
    /// Only to clients with these ports.
    OnlyTo {
        /// The ports.
        ports: String,
    },
    /// It does not.
    Denied {
        /// The stage that refuses it.
        stage: StageKind,
    },
    /// That depends on something missing from the snapshot.
    Unknown {
        /// The stage.
        stage: StageKind,
    },
}

/// Packets that are decided alike.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct EntryFact {
    /// The packets.
    pub traffic: Traffic,
    /// What each stage decided; of refused packets only the stage that refuses.
    pub decided: Vec<Decided>,
    /// Whether the reply gets back; of admitted packets.
    pub reply: ReplyFact,
}

/// The effective rules of a class of interfaces, told for its first member, of all packets or of those that are asked about in
/// each direction.
pub fn effective_answer(
    view: &Fabric<'_>,
    class: &Class,
    asked: impl Fn(Direction) -> Option<PacketSet>,
) -> Effective {
    let interface = class.representative();
    let network = view.estate.network_of(interface);
    let asked = Direction::BOTH.map(asked);
    let sides = effective_both(view, interface, asked.each_ref().map(Option::as_ref));
    let subnet = &view.estate.subnets[view.estate.interfaces[interface].subnet];
    let own = (format!("subnet {}", subnet.name), subnet.blocks.clone());
    let sides = sides.map(|side| side_fact(view, &side, network, &own));
    Effective {
        interface: interface_fact(view, interface),
        class: class
            .members
            .iter()
            .map(|id| view.estate.interfaces[*id].name.to_string())
            .collect(),
        client_ports: ports_text(&view.settings(network).client_ports),
        sides: sides.into(),
    }
}

/// The effective rules of some classes, on all cores, in their order.
pub fn effective_answers(
    view: &Fabric<'_>,
    classes: &[Class],
    asked: impl Fn(Direction) -> Option<PacketSet> + Sync,
) -> Vec<Effective> {
    each(classes, |class| effective_answer(view, class, &asked))
}

fn side_fact(
    view: &Fabric<'_>,
    side: &Side,
    network: Id<heronshale_model::estate::Network>,
    own: &(String, Addresses),
) -> SideFact {
    let filters: Vec<_> = side
        .stages
        .iter()
        .flat_map(|(_, filters)| filters.clone())
        .collect();
    let rules = rules_in_force(view, &filters, side.direction);
    let mut symbols = symbols_of(view, rules, Some(network));
    symbols.push(own.clone());
    let facts = |listed: &[Listed]| {
        listed
            .iter()
            .map(|one| entry_fact(view, side, one, &symbols, network))
            .collect()
    };
    SideFact {
        direction: side.direction,
        stages: side
            .stages
            .iter()
            .map(|(stage, filters)| StageFact {
                stage: *stage,
                filters: filters
                    .iter()
                    .map(|filter| view.estate.filters[*filter].name.to_string())
                    .collect(),
            })
            .collect(),
        admitted: facts(&side.admitted),
        unknown: facts(&side.unknown),
        left: facts(&side.left),
    }
}

fn entry_fact(
    view: &Fabric<'_>,
    side: &Side,
    listed: &Listed,
    symbols: &Symbols,
    network: Id<heronshale_model::estate::Network>,
) -> EntryFact {
    let entry = &listed.entry;
    let set = PacketSet::of_entry(entry, ());
    let also = |stage: StageKind, first: RuleId| {
        if !view.estate.filters[first.filter].is_union() {
            return Vec::new();
        }
        let filters = side
            .stages
            .iter()
            .find(|(kind, _)| *kind == stage)
            .map_or(&[][..], |(_, filters)| filters);
        let others = rules_in_force(view, filters, side.direction).filter(|id| *id != first);
        others
            .filter(|id| set.is_subset(&rule_match(view, *id, Some(network)).sure))
            .collect()
    };
    let kinds: Vec<StageKind> = side.stages.iter().map(|(kind, _)| *kind).collect();
    let refused = listed.way.refuses();
    let mut decided = decided(view.estate, &kinds, &listed.way.judgements, |stage, id| {
        if refused { Vec::new() } else { also(stage, id) }
    });
    if refused {
        // Packets that end at one judgement are listed together: what earlier stages decided differs among them.
        decided = decided.split_off(decided.len().saturating_sub(1));
    }
    EntryFact {
        traffic: traffic(entry, side.direction, symbols),
        decided,
        reply: reply_fact(&listed.reply),
    }
}

fn reply_fact(reply: &Reply) -> ReplyFact {
    match reply {
        Reply::Passes => ReplyFact::Passes,
        Reply::OnlyTo(ports) => ReplyFact::OnlyTo {
            ports: ports_text(ports),
        },
        Reply::Denied(stage) => ReplyFact::Denied { stage: *stage },
        Reply::Unknown(stage) => ReplyFact::Unknown { stage: *stage },
    }
}
