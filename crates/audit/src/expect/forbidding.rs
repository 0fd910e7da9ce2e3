//! Sentences that forbid, and those that ask for a firewall on the way.

use super::*;

/// Somebody who may reach somebody.
pub(super) struct Allowance<'s> {
    pub(super) name: &'s Name,
    pub(super) senders: Senders,
    pub(super) receivers: Receivers,
    pub(super) services: &'s [Service],
}

/// All that expectations allow. Those whose ends cannot be read allow nothing, and are told by themselves.
pub(super) fn allowances<'v>(view: &'v Fabric<'_>) -> Vec<Allowance<'v>> {
    let allowed = view.stated.expectations.iter().filter_map(|one| {
        let Claim::MayReach { from, to } = &one.claim else {
            return None;
        };
        let (from, to) = (ends(view, from).ok()?, ends(view, to).ok()?);
        let (senders, receivers) = (Senders::of(view, &from), Receivers::of(view, &to));
        Some(Allowance {
            name: &one.name,
            senders,
            receivers,
            services: &one.services,
        })
    });
    allowed.collect()
}

/// Packets from some addresses, of some services.
pub fn said(sources: &Addresses, destinations: &Addresses, services: &[Service]) -> PacketSet {
    let every = Intervals::span(0, u128::from(u16::MAX));
    PacketSet::fields(
        sources,
        destinations,
        |family| numbers_of(services, family),
        &every,
        (),
    )
}

/// What must not get through.
pub(super) struct Forbidden<'q> {
    pub(super) senders: Senders,
    pub(super) to: &'q [End],
    pub(super) services: &'q [Service],
    /// What may all the same.
    pub(super) allowed: &'q [Allowance<'q>],
}

impl Forbidden<'_> {
    pub(super) fn judged(&self, view: &Fabric<'_>) -> Standing {
        let receivers = Receivers::by_any_entrance(view, self.to);
        let named = Receivers::of(view, self.to);
        let senders: Vec<&Senders> = std::iter::once(&self.senders)
            .chain(self.allowed.iter().map(|a| &a.senders))
            .collect();
        let receiving: Vec<&Receivers> = std::iter::once(&receivers)
            .chain(self.allowed.iter().map(|a| &a.receivers))
            .collect();
        let numbers = told_apart(view, &senders, &receiving);
        let apart = |id: Id<Interface>| numbers[id.index()];
        let mut unknown: Option<Against> = None;
        let mut by_another: Option<Node> = None;
        let broken = each_candidate(
            view,
            &self.senders,
            &receivers,
            self.services,
            &apart,
            &mut |candidate| {
                let packets = candidate
                    .packets(view, self.services)
                    .difference(&self.allowed_of(view, &candidate));
                if packets.is_empty()
                    || (candidate.fate.judged.verdict.is_open() && settled(unknown.as_ref()))
                {
                    return None;
                }
                for (verdict, packets) in candidate.through(view, packets) {
                    let Some(packet) = working(view, &candidate.start, &packets).first().copied()
                    else {
                        continue;
                    };
                    if !verdict.is_open() {
                        let other = named
                            .asked(view, &candidate.target, candidate.member, candidate.by)
                            .is_empty();
                        by_another = other.then(|| candidate.target.clone());
                        return Some(prove(view, &candidate.start, packet));
                    }
                    if !settled(unknown.as_ref()) {
                        unknown = Some(prove(view, &candidate.start, packet));
                    }
                }
                None
            },
        );
        if broken.is_none() && !settled(unknown.as_ref()) {
            let allowed = |start: &Start, to: &Addresses| {
                PacketSet::union_all(self.allowed.iter().map(|one| {
                    said(
                        &one.senders.sources(start),
                        &one.receivers.asked.intersection(to),
                        one.services,
                    )
                }))
            };
            let more = nobody::may_arrive(view, &self.senders, self.to, self.services, allowed);
            unknown = more.or(unknown);
        }
        match (broken, unknown) {
            (Some(against), _) => {
                let mut why = match against.verdict {
                    Verdict::Works => "this gets through".to_owned(),
                    other => format!("this may get through ({})", other.word()),
                };
                if let Some(Node::Service(id)) = by_another {
                    let _ = write!(
                        why,
                        ", by another entrance of service {}",
                        view.estate.services[id].name
                    );
                }
                Standing {
                    state: State::Broken,
                    why,
                    against: Some(against),
                }
            }
            (None, Some(against)) => {
                let why = open_text("whether this gets through", &against);
                Standing {
                    state: State::Unknown,
                    why,
                    against: Some(against),
                }
            }
            (None, None) => Standing::kept(),
        }
    }

    pub(super) fn allowed_of(&self, view: &Fabric<'_>, candidate: &Candidate<'_>) -> PacketSet {
        PacketSet::union_all(self.allowed.iter().map(|one| {
            let to = one
                .receivers
                .asked(view, &candidate.target, candidate.member, candidate.by);
            said(&one.senders.sources(&candidate.start), &to, one.services)
        }))
    }
}

/// A firewall that keeps state ends what it sees in one direction only (`docs/semantics.md` 8), so that what works and passes it on the way there
/// passes it on the way back.
pub(super) fn always_passes(
    view: &Fabric<'_>,
    from: &[End],
    to: &[End],
    services: &[Service],
    firewalls: &[Id<Firewall>],
) -> Standing {
    let (senders, receivers) = (
        Senders::of(view, from),
        Receivers::by_any_entrance(view, to),
    );
    let numbers = told_apart(view, &[&senders], &[&receivers]);
    let apart = |id: Id<Interface>| numbers[id.index()];
    let (mut connects, mut unknown): (bool, Option<Against>) = (false, None);
    let broken = each_candidate(
        view,
        &senders,
        &receivers,
        services,
        &apart,
        &mut |candidate| {
            let fate = candidate.fate;
            let works = fate.judged.verdict <= Verdict::Conditional;
            let passes = works
                && !fate.without
                && fate
                    .firewalls
                    .iter()
                    .all(|firewall| firewalls.contains(firewall));
            if passes && connects {
                return None;
            }
            if !works && settled(unknown.as_ref()) {
                return None;
            }
            for (verdict, packets) in candidate.through(view, candidate.packets(view, services)) {
                connects |= verdict <= Verdict::Conditional;
                if passes {
                    break;
                }
                let Some(packet) = packets.witness() else {
                    continue;
                };
                let start = &candidate.start;
                if verdict.is_open() {
                    if !settled(unknown.as_ref()) {
                        unknown = Some(prove(view, start, packet));
                    }
                    continue;
                }
                // Where it works for some of the client's ports, those ways are looked at that do.
                let around = working(view, start, &packets)
                    .into_iter()
                    .find_map(|one| around(view, start, one, firewalls));
                if around.is_some() {
                    return around;
                }
            }
            None
        },
    );
    if broken.is_none() && !settled(unknown.as_ref()) {
        unknown =
            nobody::may_arrive(view, &senders, to, services, |_, _| PacketSet::empty()).or(unknown);
    }
    let why = |text: &str| text.to_owned();
    match (broken, unknown) {
        (Some(against), _) => Standing {
            state: State::Broken,
            why: why("this gets through without it"),
            against: Some(against),
        },
        (None, Some(against)) => Standing {
            state: State::Unknown,
            why: open_text("whether this gets through", &against),
            against: Some(against),
        },
        (None, None) if !connects => Standing::vacuous("no connection exists at all"),
        (None, None) => Standing::kept(),
    }
}

/// The steps of a packet that gets through without any of some firewalls.
pub(super) fn around(
    view: &Fabric<'_>,
    start: &Start,
    packet: Packet,
    firewalls: &[Id<Firewall>],
) -> Option<Against> {
    let asked = Asked {
        start: start.clone(),
        packets: PacketSet::single(&packet),
        name: None,
        any_of: Vec::new(),
    };
    let answered = walk(view, &asked, Tell::Steps);
    let works = answered
        .parts
        .iter()
        .flat_map(|part| answered.labels.trails_that_work(part.label));
    let passes = |step: &Step| matches!(step.at, Spot::Firewall(id) if firewalls.contains(&id));
    let without = works
        .map(|trail| answered.labels.steps(trail))
        .find(|steps| {
            let there = steps.iter().any(|step| !step.reply && passes(step));
            let back = steps.iter().all(|step| !step.reply)
                || steps.iter().any(|step| step.reply && passes(step));
            !(there && back)
        })?;
    let steps = without.into_iter().cloned().collect();
    Some(Against {
        packet,
        start: start.clone(),
        verdict: answered.summary.verdict,
        steps,
    })
}
