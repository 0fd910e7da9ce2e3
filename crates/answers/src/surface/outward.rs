//! Who connects outward.

use super::*;

/// Who opens connections to the internet alike.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct OutwardFact {
    /// The machines.
    pub machines: Vec<String>,
    /// The networks in which they stand.
    pub networks: Vec<String>,
    /// IPv4 or IPv6.
    pub family: Family,
    /// How it fares.
    pub verdict: Verdict,
    /// Protocols with ports, or ICMP types and codes: to some address of the internet.
    pub services: Vec<String>,
    /// By which device they leave.
    pub by: String,
    /// As which address they are seen; none for their own.
    pub seen_as: Option<String>,
    /// The firewalls that they pass.
    pub firewalls: Vec<String>,
    /// One of them.
    pub witness: Option<Witness>,
}

/// Who opens connections to the internet, by which device, seen as which address.
pub fn outward(view: &Fabric<'_>) -> Vec<OutwardFact> {
    let estate = view.estate;
    let sending: Vec<Id<Interface>> = estate.interfaces.ids().collect();
    let apart = |_| 0;
    let sweeping = Sweeping {
        to: Some(&[]),
        ..Sweeping::of(From::Interfaces(&sending), &apart)
    };
    let found = sweep(view, &sweeping);
    let mut facts: Vec<(OutwardFact, Intervals)> = Vec::new();
    for row in &found.rows {
        let fate = &found.fates[row.fate as usize];
        let outside = |target: &(u32, bool)| found.nodes[target.0 as usize] == Node::Internet;
        for reach in row
            .reach
            .iter()
            .filter(|reach| reach.targets.iter().any(outside))
        {
            for source in &row.sources {
                let Node::Interfaces(members) = &found.nodes[*source as usize] else {
                    continue;
                };
                let Some(first) = members.first() else {
                    continue;
                };
                let Some((by, seen_as, packet)) = leaves(
                    view,
                    *first,
                    reach.family,
                    &reach.services,
                    fate.judged.verdict,
                ) else {
                    continue;
                };
                let name = |id: &Id<Interface>| {
                    let item = &estate.interfaces[*id];
                    item.workload
                        .map_or(&item.name, |workload| &estate.workloads[workload].name)
                        .to_string()
                };
                let fact = OutwardFact {
                    machines: members.iter().map(name).collect(),
                    networks: vec![estate.networks[estate.network_of(*first)].name.to_string()],
                    family: reach.family,
                    verdict: fate.judged.verdict,
                    services: Vec::new(),
                    by,
                    seen_as: seen_as.map(|address| address.to_string()),
                    firewalls: fate
                        .firewalls
                        .iter()
                        .map(|id| estate.firewalls[*id].name.to_string())
                        .collect(),
                    witness: Some(packet),
                };
                let same = |(known, _): &&mut (OutwardFact, Intervals)| {
                    known.machines == fact.machines
                        && (
                            known.family,
                            known.verdict,
                            &known.by,
                            &known.seen_as,
                            &known.firewalls,
                        ) == (
                            fact.family,
                            fact.verdict,
                            &fact.by,
                            &fact.seen_as,
                            &fact.firewalls,
                        )
                };
                match facts.iter_mut().find(same) {
                    Some((_, services)) => *services = services.union(&reach.services),
                    None => facts.push((fact, reach.services.clone())),
                }
            }
        }
    }
    // Those that differ in nothing but who they are, together.
    let mut grouped: Vec<OutwardFact> = Vec::new();
    for (mut fact, services) in facts {
        fact.services = service::texts(fact.family, &services);
        let alike = |known: &&mut OutwardFact| {
            (
                known.family,
                known.verdict,
                &known.services,
                &known.by,
                &known.seen_as,
                &known.firewalls,
            ) == (
                fact.family,
                fact.verdict,
                &fact.services,
                &fact.by,
                &fact.seen_as,
                &fact.firewalls,
            )
        };
        match grouped.iter_mut().find(alike) {
            Some(known) => {
                known.machines.append(&mut fact.machines);
                known.networks.append(&mut fact.networks);
            }
            None => grouped.push(fact),
        }
    }
    for fact in &mut grouped {
        for names in [&mut fact.machines, &mut fact.networks] {
            names.sort_unstable();
            names.dedup();
        }
    }
    grouped.sort_by(|a, b| {
        (&a.by, &a.seen_as, a.family, &a.machines).cmp(&(&b.by, &b.seen_as, b.family, &b.machines))
    });
    grouped
}

/// By which device what an interface sends to the internet leaves, and as which address it is seen; of an example.
pub(super) fn leaves(
    view: &Fabric<'_>,
    from: Id<Interface>,
    family: Family,
    services: &Intervals,
    verdict: Verdict,
) -> Option<(String, Option<IpAddr>, Witness)> {
    let only = Addresses::of_family(family);
    let own = view.estate.interfaces[from].addresses.intersection(&only);
    let ports = &view.settings(view.estate.network_of(from)).client_ports;
    let to = view.internet_end().intersection(&only);
    let of = |which: Intervals| services.intersection(&which);
    let ported = PacketSet::fields(&own, &to, |_| of(service::all_with_ports()), ports, ());
    let every = Intervals::span(0, u128::from(u16::MAX));
    let others = PacketSet::fields(
        &own,
        &to,
        |f| of(service::all(f).difference(&service::all_with_ports())),
        &every,
        (),
    );
    let start = Start::Interfaces(vec![from]);
    let asked = Asked {
        start: start.clone(),
        packets: ported.union(&others),
        name: None,
        any_of: Vec::new(),
    };
    let answered = walk(view, &asked, Tell::Deciders);
    let part = answered
        .parts
        .iter()
        .find(|part| part.judged.verdict == verdict)?;
    let packet = part.packets.witness()?;
    let single = Asked {
        start,
        packets: PacketSet::single(&packet),
        name: None,
        any_of: Vec::new(),
    };
    let answered = walk(view, &single, Tell::Steps);
    let works = answered
        .parts
        .iter()
        .flat_map(|part| answered.labels.trails_that_work(part.label))
        .next();
    let steps = answered
        .labels
        .steps(works.unwrap_or(answered.summary.trail));
    let (mut by, mut seen_as) = (None, None);
    for step in steps.iter().filter(|step| !step.reply) {
        if let What::Changed(change, _) = &step.what
            && let Some(source) = change.source
        {
            seen_as = Some(source);
        }
        if matches!(
            step.at,
            Spot::Gateway(_) | Spot::Firewall(_) | Spot::Site(_)
        ) {
            by = Some(heronshale_audit::facts::spot_text(view, step.at).0);
        }
    }
    let by = by.unwrap_or_else(|| "the network itself".to_owned());
    Some((by, seen_as, witness(&packet)))
}
