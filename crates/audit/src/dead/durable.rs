//! What stays dead whatever members of groups and sets become.

use super::*;

pub(super) fn any_match<N: Coordinates>(prover: &mut Prover<'_, N>, at: u32) -> Covers {
    let rules = prover.covers(at).unwrap_or_default();
    Covers {
        takers: rules.clone(),
        rules,
        cut: false,
    }
}

pub(super) fn shadow<N: Coordinates>(prover: &mut Prover<'_, N>, at: u32) -> Covers {
    let rules = prover.covers(at).unwrap_or_default();
    let (takers, all) = prover.takers(at, false);
    Covers {
        rules,
        takers,
        cut: !all,
    }
}

/// Who does the same: of the rules that take its packets before it, and those that would take the others, so many that none
/// can be left out; if the default does part of it, those that would take the others.
pub(super) fn beside<N: Coordinates>(
    prover: &mut Prover<'_, N>,
    at: u32,
    by_default: bool,
) -> Covers {
    let (takers, all) = prover.takers(at, true);
    if by_default {
        return Covers {
            rules: takers.clone(),
            takers,
            cut: !all,
        };
    }
    let (mut used, whole) = prover.takers(at, false);
    used.extend(&takers);
    Covers {
        rules: prover.needed(at, used),
        takers,
        cut: !all || !whole,
    }
}

/// A packet that is decided otherwise: narrowed to such as a reader would choose, as long as there is one.
pub(super) fn otherwise<N: Coordinates>(
    prover: &mut Prover<'_, N>,
    at: u32,
    pairs: u32,
    direction: Direction,
    home: &Addresses,
    family: Family,
) -> Result<Option<Packet>, ()> {
    let (all, now) = (Addresses::of_family(family), [today(pairs)]);
    let every = N::spans(all.of(family));
    let services = [(0, u32::MAX)];
    let whole = Product {
        source: &every,
        destination: &every,
        service: &services,
        other: &now,
    };
    let mut found = match prover.taken_otherwise(at, &whole) {
        Differs::No => return Ok(None),
        Differs::Undecided => return Err(()),
        Differs::By(point) => point,
    };
    let spans = |texts: &[&str]| N::spans(list::addresses(texts).of(family));
    let (near, outside, inside) = (
        N::spans(home.of(family)),
        spans(list::OUTSIDE),
        spans(list::INSIDE),
    );
    let client: Vec<(u32, u32)> = (0..pairs).map(list::client_port).collect();
    let mut narrowed = (
        every.clone(),
        every.clone(),
        services.to_vec(),
        now.to_vec(),
    );
    let (near_source, near_destination) = if direction == Direction::In {
        (&every[..], &near[..])
    } else {
        (&near[..], &every[..])
    };
    let with_ports = u32::spans(&heronshale_sets::packet::service::all_with_ports());
    let wish = |source, destination| Product {
        source,
        destination,
        service: &services,
        other: &now,
    };
    let wishes = [
        wish(near_source, near_destination),
        Product {
            service: &with_ports,
            ..whole
        },
        wish(&outside, &every),
        wish(&every, &outside),
        wish(&inside, &every),
        Product {
            other: &client,
            ..whole
        },
    ];
    for Product {
        source,
        destination,
        service,
        other,
    } in wishes
    {
        use heronshale_sets::cover::meet;
        let next = (
            meet(&narrowed.0, source).into_vec(),
            meet(&narrowed.1, destination).into_vec(),
            meet(&narrowed.2, service).into_vec(),
            meet(&narrowed.3, other).into_vec(),
        );
        if next.0.is_empty() || next.1.is_empty() || next.2.is_empty() || next.3.is_empty() {
            continue;
        }
        let within = Product {
            source: &next.0,
            destination: &next.1,
            service: &next.2,
            other: &next.3,
        };
        if let Differs::By(point) = prover.taken_otherwise(at, &within) {
            found = point;
            narrowed = next;
        }
    }
    Ok(Some(packet_of(family, found)))
}

/// Whether nobody means to look at the covers again before the rule itself: who deletes a cover then would end what the rule was for.
pub fn outlive(view: &Fabric<'_>, id: RuleId, covers: &[RuleId]) -> bool {
    let review = |id: &RuleId| view.estate.rule(*id).review_by;
    covers
        .iter()
        .all(|cover| match (review(cover), review(&id)) {
            (None, _) => true,
            (Some(theirs), Some(own)) => theirs >= own,
            (Some(_), None) => false,
        })
}

/// Whether a rule speaks of something whose members change.
pub(super) fn names_members(rule: &Rule) -> bool {
    let changes = |peer: &Peer| !matches!(peer, Peer::Block(_) | Peer::Any);
    rule.peers
        .iter()
        .flatten()
        .chain(&rule.except)
        .chain(rule.local.iter().flatten())
        .any(changes)
}

/// Whether a rule stays covered whatever the members of groups and sets become: some cover alone takes all that it could
/// ever match, by its written prefixes or by naming the same peers; or no rule names members at all.
pub(super) fn is_durable(view: &Fabric<'_>, id: RuleId, covers: &[RuleId]) -> bool {
    let rule = view.estate.rule(id);
    if !names_members(rule)
        && covers
            .iter()
            .all(|cover| !names_members(view.estate.rule(*cover)))
    {
        return true;
    }
    covers.iter().any(|cover| {
        let cover = view.estate.rule(*cover);
        let services = heronshale_sets::address::Family::BOTH.iter().all(|family| {
            rule.service_numbers(*family)
                .is_subset(&cover.service_numbers(*family))
        });
        let ports = rule
            .source_port_numbers()
            .is_subset(&cover.source_port_numbers());
        let except = cover.except.iter().all(|peer| rule.except.contains(peer));
        let peers = match (&cover.peers, &rule.peers) {
            (None, _) => true,
            (Some(theirs), _) if theirs.contains(&Peer::Any) => true,
            (Some(theirs), Some(own)) => own.iter().all(|peer| theirs.contains(peer)),
            (Some(_), None) => false,
        };
        services && ports && except && peers && (cover.local.is_none() || cover.local == rule.local)
    })
}
