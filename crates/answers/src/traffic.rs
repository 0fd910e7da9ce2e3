//! Traffic of an answer, summed up.

use heronshale_audit::describe::{Symbols, peer_words};
use heronshale_audit::facts::PathTraffic;
use heronshale_engine::fabric::Fabric;
use heronshale_model::estate::Service;
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, service};

/// Who and what occurs among very many packets.
pub(super) fn summed(packets: &PacketSet, symbols: &Symbols) -> Vec<PathTraffic> {
    let (sources, destinations) = (packets.sources(), packets.destinations());
    let numbers = packets.services();
    let of = |family: Family| {
        let (sources, destinations) = (sources.of(family), destinations.of(family));
        (!sources.is_empty()).then(|| PathTraffic {
            sources: peer_words(family, sources, symbols),
            destinations: peer_words(family, destinations, symbols),
            services: service::texts(family, &numbers.intersection(&service::all(family))),
            exact: false,
        })
    };
    Family::BOTH.into_iter().filter_map(of).collect()
}

/// Sets that may give a name.
const MOST_SETS: usize = 200;

/// Names for the addresses of both ends: of interfaces, where there are few, and of sets.
pub(super) fn symbols(view: &Fabric<'_>, all: &Addresses) -> Symbols {
    let estate = view.estate;
    let mut symbols: Symbols = vec![("the internet".to_owned(), view.internet_end())];
    for site in estate.sites.items() {
        symbols.push((format!("site {}", site.name), site.holds.clone()));
    }
    let near = estate
        .interfaces
        .items()
        .iter()
        .filter(|interface| interface.addresses.overlaps(all));
    for interface in near.take(200) {
        symbols.push((
            interface.name.to_string(),
            interface.addresses.intersection(all),
        ));
    }
    for (id, set) in estate.address_sets.iter().take(MOST_SETS) {
        let members = &view.set(id).matched.sure;
        if members.overlaps(all) {
            symbols.push((format!("set {}", set.name), members.clone()));
        }
    }
    symbols
}

/// Services as a question names them, each once.
pub(super) fn services_text(services: &[Service]) -> String {
    let numbers = |family| {
        let none = Intervals::empty();
        services
            .iter()
            .fold(none, |sum, one: &Service| sum.union(&one.numbers(family)))
    };
    let mut texts = service::texts(Family::V4, &numbers(Family::V4));
    for text in service::texts(Family::V6, &numbers(Family::V6)) {
        if !texts.contains(&text) {
            texts.push(text);
        }
    }
    texts.join(", ")
}
