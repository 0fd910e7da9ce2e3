//! Whom a rule is about: for certain, and in doubt, with what that turns on.

use crate::doubt::{At, Held, Turning};
use heronshale_model::estate::{Id, Network, Peer};
use heronshale_model::view::{Matched, View};
use heronshale_sets::address::Addresses;

/// The addresses of which it is in doubt whether some peers less others hold them, by what it turns on.
pub fn in_doubt(
    view: &View<'_>,
    included: Option<&[Peer]>,
    excepted: &[&[Peer]],
    from: Option<Id<Network>>,
) -> Vec<(Addresses, Held)> {
    let all = included.map_or_else(
        || Matched::sure(Addresses::all()),
        |peers| view.peers(peers, from),
    );
    let without = excepted.iter().fold(all.clone(), |rest, peers| {
        rest.without(&view.peers(peers, from))
    });
    let mut cells: Vec<(Addresses, Held)> = Vec::new();
    for (part, certain) in [
        (without.maybe.intersection(&all.sure), true),
        (without.maybe.difference(&all.sure), false),
    ] {
        if !part.is_empty() {
            cells.push((
                part,
                Held {
                    certain,
                    ..Held::default()
                },
            ));
        }
    }
    let mut split = |part: &Peer, held: &Addresses, excludes: bool| {
        let mut next = Vec::with_capacity(cells.len());
        for (addresses, known) in cells.drain(..) {
            let (here, rest) = (addresses.intersection(held), addresses.difference(held));
            if !here.is_empty() {
                let mut more = known.clone();
                match excludes {
                    true => more.none_of.push(part.clone()),
                    false if !known.certain => more.any_of.push(part.clone()),
                    false => {}
                }
                next.push((here, more));
            }
            if !rest.is_empty() {
                next.push((rest, known));
            }
        }
        cells = next;
    };
    for (peers, excludes) in included
        .into_iter()
        .map(|peers| (peers, false))
        .chain(excepted.iter().map(|p| (*p, true)))
    {
        for peer in peers {
            for (part, held) in view.open_parts(peer, from) {
                split(&part, &held, excludes);
            }
        }
    }
    cells
}

/// The pairs of addresses of which it is in doubt whether some packets match, by what that turns on. Each side: what is
/// included, none for every address, and what is excepted.
pub fn pairs_in_doubt(
    view: &View<'_>,
    sources: (Option<&[Peer]>, &[Peer]),
    destinations: (Option<&[Peer]>, &[Peer]),
    from: Option<Id<Network>>,
) -> Vec<([Addresses; 2], Turning)> {
    let side = |(included, excepted): (Option<&[Peer]>, &[Peer])| {
        let all = included.map_or_else(
            || Matched::sure(Addresses::all()),
            |peers| view.peers(peers, from),
        );
        let certain = (
            all.without(&view.peers(excepted, from)).sure,
            Held {
                certain: true,
                ..Held::default()
            },
        );
        std::iter::once(certain)
            .chain(in_doubt(view, included, &[excepted], from))
            .collect::<Vec<_>>()
    };
    let is_certain = |held: &Held| held.certain && held.none_of.is_empty();
    let mut found = Vec::new();
    let to = side(destinations);
    for (from, of_source) in side(sources) {
        for (to, of_destination) in &to {
            let both = [(At::Source, &of_source), (At::Destination, of_destination)];
            let open = both.into_iter().filter(|(_, held)| !is_certain(held));
            let turning = Turning(open.map(|(at, held)| (at, held.clone())).collect());
            if !turning.0.is_empty() && !from.is_empty() && !to.is_empty() {
                found.push(([from.clone(), to.clone()], turning));
            }
        }
    }
    found
}
