//! Which of several routes wins for which addresses.

use super::*;

/// Where a route stands among those that apply: the lowest wins.
pub(super) type Precedence = (bool, std::cmp::Reverse<u8>, RouteKind, u32);

impl Candidates {
    /// Where routes may lead of which that depends on something missing from the snapshot.
    pub(crate) fn perhaps_of(&self, leads: impl Fn(&Winner) -> bool) -> Addresses {
        let open = self.perhaps.iter().filter(|one| leads(&one.winner));
        open.fold(Addresses::empty(), |sum, one| sum.union(&one.region))
    }

    pub(super) fn none() -> Self {
        Self {
            all: Vec::new(),
            perhaps: Vec::new(),
            last: None,
            first_only: false,
            fixed: false,
        }
    }

    /// Routes that may lead anywhere, of which the snapshot says nothing.
    pub(super) fn lacking(&mut self, kind: RouteKind, region: Addresses) {
        let winner = Winner {
            hop: Hop::Unknown,
            origin: None,
        };
        self.perhaps.push(Perhaps {
            region,
            only_from: None,
            length: None,
            kind,
            metric: 0,
            holds: None,
            winner,
        });
    }

    /// Whether two candidates are equal in all that decides.
    pub(super) fn same(a: &Candidate, b: &Candidate) -> bool {
        let metric = a.metric == b.metric || has(Fault::RouteMetricIgnored);
        (a.length, a.kind) == (b.length, b.kind) && metric
    }

    pub(super) fn precedence(&self, length: u8, kind: RouteKind, metric: u32) -> Precedence {
        let first = self.fixed && kind == RouteKind::Automatic;
        let length = if has(Fault::RouteShortestWins) {
            u8::MAX - length
        } else {
            length
        };
        let kind = if has(Fault::RouteKindsAlike) {
            RouteKind::Static
        } else {
            kind
        };
        let metric = if has(Fault::RouteMetricIgnored) {
            0
        } else {
            metric
        };
        (!first, std::cmp::Reverse(length), kind, metric)
    }

    pub(super) fn winners<'c>(
        &self,
        all: impl Iterator<Item = &'c Candidate>,
        perhaps: &[&Perhaps],
        addresses: &Addresses,
    ) -> Vec<Routed> {
        let touches = |candidate: &&Candidate| {
            addresses
                .of(candidate.range.family)
                .touches(candidate.range.first, candidate.range.last)
        };
        let all: Vec<&Candidate> = all.filter(touches).collect();
        let mut rest = addresses.clone();
        let mut found: Vec<Routed> = Vec::new();
        let mut add = |addresses: Addresses, winners: Vec<Winner>, than: Option<Precedence>| {
            for (addresses, open) in self.split(addresses, &winners, than, perhaps) {
                let unknown = || {
                    vec![Winner {
                        hop: Hop::Unknown,
                        origin: None,
                    }]
                };
                let winners = if open.is_some() {
                    unknown()
                } else {
                    winners.clone()
                };
                match found
                    .iter_mut()
                    .find(|r| r.winners == winners && r.open == open)
                {
                    Some(routed) => routed.addresses = routed.addresses.union(&addresses),
                    None => found.push(Routed {
                        addresses,
                        winners,
                        open,
                    }),
                }
            }
        };
        for group in all.chunk_by(|a, b| Self::same(a, b)) {
            for candidate in group {
                if !rest
                    .of(candidate.range.family)
                    .touches(candidate.range.first, candidate.range.last)
                {
                    continue;
                }
                let here = rest.intersection(&[candidate.range].into_iter().collect());
                if here.is_empty() {
                    continue;
                }
                let equal = group
                    .iter()
                    .filter(|other| other.range == candidate.range)
                    .map(|other| other.winner);
                let first = self.first_only || has(Fault::RouteFirstAlways);
                let most = if first { 1 } else { usize::MAX };
                let mut winners: Vec<Winner> = Vec::new();
                for winner in equal.take(most) {
                    // Branches that are equal count once.
                    if !winners.iter().any(|known| known.hop == winner.hop) {
                        winners.push(winner);
                    }
                }
                rest = rest.difference(&here);
                add(
                    here,
                    winners,
                    Some(self.precedence(candidate.length, candidate.kind, candidate.metric)),
                );
            }
        }
        if let Some(last) = self.last {
            let here = rest.intersection(&Addresses::of_family(Family::V4));
            rest = rest.difference(&here);
            if !here.is_empty() {
                add(
                    here,
                    vec![Winner {
                        hop: last,
                        origin: None,
                    }],
                    None,
                );
            }
        }
        if !rest.is_empty() {
            add(rest, Vec::new(), None);
        }
        found
    }

    /// Addresses for which the same routes win, by what may win instead. `than`: where the winners stand; none: last of all.
    pub(super) fn split(
        &self,
        addresses: Addresses,
        winners: &[Winner],
        than: Option<Precedence>,
        perhaps: &[&Perhaps],
    ) -> Vec<(Addresses, Option<OpenRoutes>)> {
        let mut parts: Vec<(Addresses, Option<OpenRoutes>)> = vec![(addresses, None)];
        for (at, one) in (0_u32..).zip(perhaps) {
            let mut next = Vec::with_capacity(parts.len());
            for (part, open) in parts {
                let mut here = part.intersection(&one.region);
                if let Some(than) = than {
                    for family in Family::BOTH {
                        let length = one.length.unwrap_or(family.bits());
                        if self.precedence(length, one.kind, one.metric) > than {
                            here = here.difference(&Addresses::of_family(family));
                        }
                    }
                }
                if here.is_empty() || winners == [one.winner] {
                    next.push((part, open));
                    continue;
                }
                let rest = part.difference(&here);
                if !rest.is_empty() {
                    next.push((rest, open.clone()));
                }
                let mut open = open.unwrap_or_else(|| OpenRoutes {
                    winners: winners.to_vec(),
                    perhaps: Vec::new(),
                });
                let holds = one.holds.clone().map(|(peer, at)| Doubt {
                    what: Unsaid::Holds(peer),
                    at,
                });
                let wins = Doubt {
                    what: Unsaid::Wins(one.winner.origin, at),
                    at: At::Destination,
                };
                open.perhaps
                    .push((holds.into_iter().chain([wins]).collect(), one.winner));
                next.push((here, Some(open)));
            }
            parts = next;
        }
        parts
    }

    pub(super) fn sort(&mut self, settings: &Settings) {
        if settings.missing_next_hop == MissingNextHop::Skipped && !has(Fault::RouteMissingLost) {
            self.all
                .retain(|candidate| candidate.winner.hop != Hop::Dead);
        }
        self.fixed =
            settings.automatic_routes == AutomaticRoutes::Fixed && !has(Fault::RouteFixedIgnored);
        let mut all = std::mem::take(&mut self.all);
        all.sort_by_key(|candidate| {
            self.precedence(candidate.length, candidate.kind, candidate.metric)
        });
        self.all = all;
        self.first_only = settings.equal_routes == EqualRoutes::First;
    }
}
