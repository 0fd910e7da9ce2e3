//! What a fix opens and ends.

use super::*;

/// Looks at what else each fix does, and ranks them.
pub(super) fn judged(
    search: &Search<'_, '_>,
    result: &mut Fixing,
    solved: Vec<(Vec<Edit>, Verdict)>,
) {
    let view = search.view;
    result.everywhere = view.estate.interfaces.len() <= 300;
    if solved.is_empty() {
        return;
    }
    let fewest = solved
        .iter()
        .map(|(edits, _)| edits.len())
        .min()
        .unwrap_or(0);
    let solved = solved
        .into_iter()
        .filter(|(edits, _)| edits.len() <= fewest + FEW_MORE);
    let scope = Scope::new(search, result.everywhere);
    let before = scope.works(view);
    let led_to = firewalls_met(view, search.asking, false);
    let mut ranked: Vec<([bool; 2], BigUint, usize, Fix)> = Vec::new();
    for (edits, then) in solved {
        let (after, asked, new, passed) = search.on(&edits, |changed| {
            let asked = search
                .asking
                .question(changed)
                .map(|question| question.asked.packets);
            // An address that the change itself made up was nobody's, and nothing is lost by that.
            let new = changed.public().difference(view.public());
            (
                scope.works(changed),
                asked.unwrap_or_default(),
                new,
                firewalls_met(changed, search.asking, true),
            )
        });
        let all = Addresses::all();
        let every = Intervals::span(0, u128::from(u16::MAX));
        let box_of = |from: &Addresses, to: &Addresses| {
            PacketSet::fields(from, to, service::all, &every, ())
        };
        let made_up = box_of(&new, &all).union(&box_of(&all, &new));
        let opens = PacketSet::union_all(
            after
                .iter()
                .zip(&before)
                .map(|(after, before)| after.difference(before)),
        );
        let ends = PacketSet::union_all(
            before
                .iter()
                .zip(&after)
                .map(|(before, after)| before.difference(after)),
        );
        let asked = asked.any_source_port();
        let public = opens
            .between(Some(&view.internet_end()), None)
            .any_source_port()
            .difference(&asked);
        let opens = opens
            .any_source_port()
            .difference(&asked)
            .difference(&made_up);
        let ends = ends.any_source_port().difference(&made_up);
        let around = led_to
            .iter()
            .copied()
            .filter(|id| !passed.contains(id))
            .collect();
        let fix = Fix {
            then,
            opens,
            ends,
            around,
            public: !public.is_empty(),
            tried: Tried::default(),
            edits,
        };
        // A private door before a public one.
        let opens_door = fix.edits.iter().any(|edit| edit.kind == EditKind::Door);
        ranked.push((
            [!fix.ends.is_empty(), opens_door],
            fix.opens.count(),
            fix.edits.len(),
            fix,
        ));
    }
    ranked.sort_by(|a, b| (a.0, &a.1, a.2).cmp(&(b.0, &b.1, b.2)));
    result.fixes = ranked.into_iter().map(|(_, _, _, fix)| fix).collect();
}

/// The firewalls that a connection comes to, or passes by every way on which it works.
pub(super) fn firewalls_met(view: &Fabric<'_>, asking: &Asking, works: bool) -> Vec<Id<Firewall>> {
    let Some(asked) = asking.question(view) else {
        return Vec::new();
    };
    let answered = heronshale_engine::path::answered(view, &asked, Tell::Steps);
    let met = |trail: u32| {
        let steps = answered.labels.steps(trail);
        let of = steps
            .into_iter()
            .filter(|step| !step.reply)
            .filter_map(|step| match (step.at, &step.what) {
                (Spot::Firewall(id), _) => Some(id),
                (_, What::Routed(winner)) => {
                    heronshale_engine::route::firewall_of(view, winner.hop)
                }
                _ => None,
            });
        of.collect::<Vec<_>>()
    };
    if !works {
        let mut found: Vec<Id<Firewall>> = answered
            .parts
            .iter()
            .flat_map(|part| met(part.judged.trail))
            .collect();
        found.sort_unstable();
        found.dedup();
        return found;
    }
    let trails = answered
        .parts
        .iter()
        .flat_map(|part| answered.labels.trails_that_work(part.label));
    let mut ways = trails.map(met);
    let first = ways.next().unwrap_or_default();
    ways.fold(first, |known, way| {
        known.into_iter().filter(|id| way.contains(id)).collect()
    })
}

/// Where one looks for what a fix does besides.
pub(super) struct Scope {
    pub(super) starts: Vec<(Start, PacketSet)>,
}

impl Scope {
    pub(super) fn new(search: &Search<'_, '_>, everywhere: bool) -> Self {
        let view = search.view;
        let estate = view.estate;
        let every = Intervals::span(0, u128::from(u16::MAX));
        let asked = search.asking.question(view).map(|question| question.asked);
        let all = |from: &Addresses, to: &Addresses| {
            PacketSet::fields(from, to, service::all, &every, ())
        };
        let mut starts = Vec::new();
        if everywhere {
            let to = Addresses::all();
            starts.push((Start::Internet, all(&view.internet_end(), &to)));
            for (id, site) in estate.sites.iter() {
                starts.push((Start::Site(id), all(&site.holds, &to)));
            }
            let interfaces: Vec<_> = estate.interfaces.ids().collect();
            let own: Addresses = interfaces
                .iter()
                .flat_map(|id| estate.interfaces[*id].addresses.ranges())
                .collect();
            starts.push((Start::Interfaces(interfaces), all(&own, &to)));
        } else if let Some(Asked { start, packets, .. }) = asked {
            let (from, to) = (packets.sources(), packets.destinations());
            let near = |of: &Addresses| {
                let networks = estate
                    .networks
                    .items()
                    .iter()
                    .filter(|network| network.blocks.overlaps(of));
                networks.fold(of.clone(), |sum, network| sum.union(&network.blocks))
            };
            let wanted = packets.services();
            let of = |from: &Addresses, to: &Addresses| {
                PacketSet::fields(
                    from,
                    to,
                    |family| wanted.intersection(&service::all(family)),
                    &every,
                    (),
                )
            };
            match start {
                Start::Interfaces(all) => {
                    let networks: FxHashSet<_> =
                        all.iter().map(|id| estate.network_of(*id)).collect();
                    let near_by = estate
                        .interfaces
                        .ids()
                        .filter(|id| networks.contains(&estate.network_of(*id)));
                    let near_by: Vec<_> = near_by.collect();
                    let own: Addresses = near_by
                        .iter()
                        .flat_map(|id| estate.interfaces[*id].addresses.ranges())
                        .collect();
                    starts.push((Start::Interfaces(near_by), of(&own, &near(&to))));
                }
                other => starts.push((other, of(&from, &near(&to)))),
            }
        }
        Self { starts }
    }

    /// What works from each start, at least for some.
    pub(super) fn works(&self, view: &Fabric<'_>) -> Vec<PacketSet> {
        let from = |(start, packets): &(Start, PacketSet)| {
            let asked = Asked {
                start: start.clone(),
                packets: packets.clone(),
                name: None,
                any_of: Vec::new(),
            };
            let answered = walk(view, &asked, Tell::Verdicts);
            let works = |verdict| {
                matches!(
                    verdict,
                    Verdict::Works | Verdict::WorksForSome | Verdict::Conditional
                )
            };
            let parts = answered
                .parts
                .into_iter()
                .filter(|part| works(part.judged.verdict));
            PacketSet::union_all(parts.map(|part| part.packets))
        };
        self.starts.iter().map(from).collect()
    }
}
