//! What came back of a walk, as rows.

use super::*;

/// The senders, if they are not all of their family.
fn partly(sources: &Addresses, whole: &Addresses, family: Family) -> Option<Addresses> {
    let whole = whole.intersection(&Addresses::of_family(family));
    (!whole.is_subset(sources)).then(|| sources.clone())
}

/// Which nodes send from some addresses.
type SourceNodes<'f> = &'f dyn Fn(&Addresses) -> Vec<u32>;

impl Sweep {
    /// Rows whose fates are counted from their own first.
    pub(super) fn add(&mut self, fates: Vec<Fate>, rows: Vec<Row>) {
        let before = u32::try_from(self.fates.len()).expect("fewer than 2^32 fates");
        self.fates.extend(fates);
        self.rows.extend(rows.into_iter().map(|row| Row {
            fate: row.fate + before,
            ..row
        }));
    }

    /// Reads a partition as rows, and fates to which they point.
    pub(super) fn read(
        &self,
        view: &Fabric<'_>,
        destinations: &Destinations,
        parts: Vec<Part>,
        labels: &Labels,
        failing: bool,
        (whole, sources): (Option<&Addresses>, SourceNodes<'_>),
    ) -> (Vec<Fate>, Vec<Row>) {
        let (mut fates, mut rows) = (Vec::new(), Vec::new());
        for part in parts {
            // What fails whatever is missing from the snapshot is not a possible link.
            if !part.judged.may_work && !failing {
                continue;
            }
            let works = part.judged.verdict <= Verdict::Conditional;
            let trails = if works {
                labels.trails_that_work(part.label)
            } else {
                Vec::new()
            };
            let mut ends: Vec<u32> = Vec::new();
            // Whether a firewall answers itself, at the interface that was asked.
            let mut at_firewall = false;
            let mut fate = Fate {
                judged: part.judged.clone(),
                firewalls: Vec::new(),
                without: false,
                certain: labels.is_certain(part.label),
                ended_at: None,
            };
            for trail in trails {
                let steps = labels.steps(trail);
                let mut none = true;
                for step in &steps {
                    match (step.at, &step.what) {
                        (Spot::Firewall(firewall), What::Passed) => {
                            none = false;
                            if !fate.firewalls.contains(&firewall) {
                                fate.firewalls.push(firewall);
                            }
                        }
                        (at, What::Arrived) => {
                            at_firewall |= matches!(at, Spot::Firewall(_));
                            let node = match at {
                                Spot::Interface(id) => self.node(id),
                                Spot::Internet => Some(
                                    self.node_number(index::place(&self.nodes, &Node::Internet)),
                                ),
                                Spot::Site(id) => Some(
                                    self.node_number(index::place(&self.nodes, &Node::Site(id))),
                                ),
                                Spot::Service(id) => Some(
                                    self.node_number(index::place(&self.nodes, &Node::Service(id))),
                                ),
                                _ => None,
                            };
                            ends.extend(node.filter(|node| !ends.contains(node)));
                        }
                        _ => {}
                    }
                }
                fate.without |= none;
            }
            if !works {
                fate.ended_at = labels.steps(part.judged.trail).last().map(|step| Ended {
                    at: step.at,
                    denies: matches!(step.what, What::Policy { .. }),
                    other_way: matches!(step.what, What::Ended(Why::Bypassed | Why::SawNoRequest)),
                    reply: step.reply,
                });
            }
            fate.firewalls.sort_unstable();
            let number = u32::try_from(fates.len()).expect("fewer than 2^32 fates");
            fates.push(fate);
            for row in part.packets.rows() {
                let from = sources(&row.sources);
                let mut reach: Vec<Reach> = Vec::new();
                let family = if row.sources.of(Family::V4).is_empty() {
                    Family::V6
                } else {
                    Family::V4
                };
                for (addresses, services) in row.destinations {
                    let mut asked = destinations.among(&addresses);
                    if works
                        && !ends.is_empty()
                        && asked.iter().any(|(by, _)| *by != ReachedBy::Own)
                    {
                        asked.retain(|(by, _)| *by != ReachedBy::Own);
                    }
                    for (by, held) in asked {
                        let mut targets =
                            self.targets(view, by, &held, (&ends, at_firewall), works);
                        self.doors_as_services(&mut targets);
                        // An interface to itself is not a connection.
                        targets.retain(|(node, second)| {
                            let alone = matches!(&self.nodes[*node as usize], Node::Interfaces(all) if all.len() == 1);
                            alone || *second || from != [*node]
                        });
                        if !targets.is_empty() {
                            reach.push(Reach {
                                targets,
                                by,
                                family,
                                services: services.clone(),
                            });
                        }
                    }
                }
                if !from.is_empty() && !reach.is_empty() {
                    rows.push(Row {
                        partly: whole.and_then(|whole| partly(&row.sources, whole, family)),
                        sources: from,
                        fate: number,
                        reach,
                    });
                }
            }
        }
        (fates, rows)
    }

    /// Who is at a private door is at the service.
    pub(super) fn doors_as_services(&self, targets: &mut [(u32, bool)]) {
        if self.doors.is_empty() {
            return;
        }
        for (node, _) in targets.iter_mut() {
            *node = self.doors.get(node).copied().unwrap_or(*node);
        }
        targets.sort_unstable();
    }

    /// Who is reached by addresses: as the walk told, else who holds them.
    pub(super) fn targets(
        &self,
        view: &Fabric<'_>,
        by: ReachedBy,
        held: &[Held],
        (ends, at_firewall): (&[u32], bool),
        works: bool,
    ) -> Vec<(u32, bool)> {
        if works && !ends.is_empty() && !has(Fault::SweepForgetsWhoIsReached) {
            let mut ends = ends.to_vec();
            if at_firewall {
                ends.extend(held.iter().map(|held| held.node));
            }
            ends.sort_unstable();
            ends.dedup();
            return ends.into_iter().map(|end| (end, false)).collect();
        }
        let mut targets: Vec<(u32, bool)> = match by {
            // Only what is sent to itself arrives by a device's address without being told.
            _ if works && by != ReachedBy::Own && !at_firewall => Vec::new(),
            // It is not known, or not so, that anything is reached: all that could be.
            ReachedBy::Balancer(id) => {
                let ends = view.estate.balancers[id]
                    .back_ends
                    .iter()
                    .filter_map(|end| end.interface);
                ends.filter_map(|id| self.node(id))
                    .map(|node| (node, false))
                    .collect()
            }
            _ => {
                // What arrives elsewhere than at an interface is told.
                let counts = |held: &&Held| {
                    !works || matches!(self.nodes[held.node as usize], Node::Interfaces(_))
                };
                held.iter()
                    .filter(counts)
                    .map(|held| (held.node, held.second))
                    .collect()
            }
        };
        targets.sort_unstable();
        // A node of which both members are hit, once.
        let mut kept: Vec<(u32, bool)> = Vec::with_capacity(targets.len());
        for (node, second) in targets {
            match kept.last_mut().filter(|last| last.0 == node) {
                Some(last) => last.1 |= second,
                None => kept.push((node, second)),
            }
        }
        kept
    }
}
