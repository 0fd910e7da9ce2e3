//! What a firewall decides about packets, and to where they leave it.

use super::*;

impl Walk<'_, '_> {
    pub(super) fn onto_policy(&mut self, ctx: &Ctx, through: Through<'_>, set: &PacketSet) -> Map {
        let (from, to) = self.zones(through);
        let name = ctx.leg.name.clone();
        let policy = self.view.policy((through.firewall, from, to, name));
        let item = &self.view.estate.firewalls[through.firewall];
        let network = self.firewall_network(through.firewall);
        let mut sees = item
            .policy_sees
            .unwrap_or(self.view.settings(network).policy_sees);
        if has(Fault::WalkPolicySeesOtherwise) {
            let original = sees == PolicySees::Original;
            sees = if original {
                PolicySees::Translated
            } else {
                PolicySees::Original
            };
        }
        let seen = match sees {
            PolicySees::Translated => policy.map.before(&through.destination_change()),
            PolicySees::Original => policy.map.clone(),
        };
        let seen = seen.restrict(set);
        let seen_as = if sees == PolicySees::Translated {
            through.destination_change()
        } else {
            Rewrite::default()
        };
        self.by_decisions(
            ctx,
            through.firewall,
            &policy,
            &seen_as,
            &seen,
            |walk, ctx, keeps, set| walk.onto_source(ctx, through, keeps, set),
        )
    }

    /// Goes on with what a policy allows, under its conditions and doubts.
    pub(super) fn by_decisions(
        &mut self,
        ctx: &Ctx,
        firewall: Id<Firewall>,
        policy: &PolicyMap,
        seen_as: &Rewrite,
        seen: &PacketMap<u32>,
        mut go: impl FnMut(&mut Self, &Ctx, bool, &PacketSet) -> Map,
    ) -> Map {
        let mut maps = Vec::new();
        for (decision, region) in seen.regions() {
            let mut allows: Vec<(bool, By)> = Vec::new();
            allowed(&policy.decisions, decision, &mut allows);
            let mut ways: Vec<(bool, Map)> = Vec::new();
            for (keeps, by) in allows {
                let step = What::Policy {
                    allows: true,
                    rejects: false,
                    by,
                };
                let ctx = self.told(ctx, Step::new(ctx.reply, Spot::Firewall(firewall), step));
                ways.push((keeps, go(self, &ctx, keeps, &region)));
            }
            let map = match ways.as_slice() {
                [] => {
                    let label =
                        self.decided(ctx, firewall, (&policy.decisions, seen_as), decision, &[]);
                    region.relabel(|()| Some(label))
                }
                [(keeps, only)] => only.relabel(|label| {
                    Some(self.decided(
                        ctx,
                        firewall,
                        (&policy.decisions, seen_as),
                        decision,
                        &[(*keeps, label)],
                    ))
                }),
                [(one, first), (two, second), ..] => first.combine(second, |a, b| {
                    Some(self.decided(
                        ctx,
                        firewall,
                        (&policy.decisions, seen_as),
                        decision,
                        &[(*one, a), (*two, b)],
                    ))
                }),
            };
            maps.push(map);
        }
        Map::overlay_all(maps)
    }

    /// A decision as a label, with what becomes of what it allows.
    pub(super) fn decided(
        &mut self,
        ctx: &Ctx,
        id: Id<Firewall>,
        (all, seen_as): (&[Decision], &Rewrite),
        at: u32,
        on: &[(bool, Label)],
    ) -> Label {
        let refused = |walk: &mut Self, by: By, rejects: bool| {
            let step = Step::new(
                ctx.reply,
                Spot::Firewall(id),
                What::Policy {
                    allows: false,
                    rejects,
                    by,
                },
            );
            let trail = walk.labels.push(ctx.trail, step);
            walk.labels.leaf(
                if ctx.reply {
                    Verdict::ReplyDenied
                } else {
                    Verdict::Denied
                },
                trail,
            )
        };
        match &all[at as usize] {
            Decision::Decided {
                action,
                by,
                keeps_state,
            } => {
                let found = on
                    .iter()
                    .find(|(keeps, _)| keeps == keeps_state)
                    .filter(|_| action.admits());
                match found {
                    Some((_, label)) => *label,
                    None => refused(self, *by, *action == Action::Reject),
                }
            }
            Decision::Turns {
                condition,
                holds,
                otherwise,
                ..
            } => {
                let holds = self.decided(ctx, id, (all, seen_as), *holds, on);
                let otherwise = self.decided(ctx, id, (all, seen_as), *otherwise, on);
                self.labels.turns(condition.clone(), holds, otherwise)
            }
            Decision::Doubt {
                doubt,
                by,
                with,
                without,
            } => {
                let [with, without] =
                    [*with, *without].map(|at| self.decided(ctx, id, (all, seen_as), at, on));
                let step = What::Policy {
                    allows: false,
                    rejects: false,
                    by: *by,
                };
                let trail = self
                    .labels
                    .push(ctx.trail, Step::new(ctx.reply, Spot::Firewall(id), step));
                // A policy that judges a reply as a packet of its own asks about the reply's addresses.
                let mut doubt = if ctx.reply {
                    doubt.mirrored()
                } else {
                    doubt.clone()
                };
                if !seen_as.is_nothing() {
                    doubt.at = doubt.at.before(seen_as.source, seen_as.destination);
                }
                self.labels.doubt(&doubt, with, without, trail)
            }
            Decision::Unknown => {
                let stopped = refused(self, By::Lacking, false);
                let trail = self.labels.leaf_of(stopped).map_or(0, |leaf| leaf.trail);
                let doubt = Doubt::of_packet(Unsaid::Policy(id.index(), ctx.reply));
                match on.first() {
                    Some((_, label)) => self.labels.doubt(&doubt, *label, stopped, trail),
                    None => stopped,
                }
            }
        }
    }

    /// The policy lets requests on: the first source translation that matches, then out.
    pub(super) fn onto_source(
        &mut self,
        ctx: &Ctx,
        through: Through<'_>,
        keeps: bool,
        set: &PacketSet,
    ) -> Map {
        self.by_source(ctx, through, keeps, 0, set)
    }

    /// The first source translation from one on that matches, then out.
    pub(super) fn by_source(
        &mut self,
        ctx: &Ctx,
        through: Through<'_>,
        keeps: bool,
        first: usize,
        set: &PacketSet,
    ) -> Map {
        let id = through.firewall;
        let item = &self.view.estate.firewalls[id];
        let (from, to) = self.zones(through);
        let before = through.destination_change();
        let mut rest = set.clone();
        let mut maps = Vec::new();
        let off = has(Fault::WalkSourceKept);
        for (at, translation) in item.source_translations.iter().enumerate().skip(first) {
            if off
                || !translation.enabled
                || !zone_fits(translation.from_zones.as_ref(), from.as_ref())
                || !zone_fits(translation.to_zones.as_ref(), to.as_ref())
            {
                continue;
            }
            let about = self.translated(id, translation);
            let Translated { sure, doubts } = &*about;
            let here = sure.before(&before).intersection(&rest);
            maps.push(self.after_translation(ctx, through, translation, &here));
            rest = rest.difference(&here);
            for (open, turning) in doubts {
                let open = open.before(&before).intersection(&rest);
                if open.is_empty() {
                    continue;
                }
                rest = rest.difference(&open);
                let yes = self.after_translation(ctx, through, translation, &open);
                let no = self.by_source(ctx, through, keeps, at + 1, &open);
                let before = (before.source, before.destination);
                let sides = turning.0.iter().map(|(at, held)| {
                    let unchanged = before == (None, None);
                    (
                        if unchanged {
                            *at
                        } else {
                            at.before(before.0, before.1)
                        },
                        held.clone(),
                    )
                });
                let turning = Turning(sides.collect());
                maps.push(self.by_turning(ctx, Spot::Firewall(id), &turning, &yes, &no));
            }
        }
        if !rest.is_empty() {
            maps.push(if before.is_nothing() {
                let ctx = ctx.met(Met::Firewall(id, keeps));
                self.out_of_firewall(&ctx, id, through.entry, through.out, &rest)
            } else {
                let by = through.changed.map(|translation| translation.origin);
                self.out_changed(ctx, through, &before, by, &rest)
            });
        }
        Map::overlay_all(maps)
    }

    /// Packets leave with the source that a translation gives them.
    pub(super) fn after_translation(
        &mut self,
        ctx: &Ctx,
        through: Through<'_>,
        translation: &Translation,
        set: &PacketSet,
    ) -> Map {
        let id = through.firewall;
        let item = &self.view.estate.firewalls[id];
        let ports = self
            .view
            .settings(self.firewall_network(id))
            .nat_ports
            .clone();
        let mut maps = Vec::new();
        for family in Family::BOTH {
            let here = set.intersection(&of_family(family));
            if here.is_empty() {
                continue;
            }
            let primary = || {
                through
                    .out
                    .and_then(|out| self.view.estate.interfaces[out].primary(family))
            };
            let own = || item.addresses.ranges().find(|range| range.family == family);
            let first =
                || own().map(|range| heronshale_sets::address::address_of(family, range.first));
            let source = translation.to.filter(|to| Family::of(*to) == family);
            let source = source.or_else(|| {
                if translation.to.is_none() {
                    primary().or_else(first)
                } else {
                    None
                }
            });
            let Some(source) = source else {
                maps.push(self.lost(ctx, Spot::Firewall(id), Why::NoTranslatedSource, &here));
                continue;
            };
            let before = through.destination_change();
            let change = Rewrite {
                source: Some(source),
                source_ports: Some(ports.clone()),
                ..before
            };
            maps.push(self.out_changed(ctx, through, &change, Some(translation.origin), &here));
        }
        Map::overlay_all(maps)
    }

    pub(super) fn out_changed(
        &mut self,
        ctx: &Ctx,
        through: Through<'_>,
        change: &Rewrite,
        by: Option<heronshale_model::source::Origin>,
        set: &PacketSet,
    ) -> Map {
        let Through {
            firewall,
            entry,
            out,
            ..
        } = through;
        let destination = through.destination_change();
        let source = Rewrite {
            source: change.source,
            source_ports: change.source_ports.clone(),
            ..Rewrite::default()
        };
        let first = through
            .changed
            .map(|translation| (destination, Some(translation.origin)));
        let told = usize::from(first.is_some());
        let parts = first.into_iter().chain([(source, by)]).collect();
        let change = Change {
            whole: change,
            parts,
            told,
        };
        self.leg_by(
            ctx,
            Origin::Firewall(firewall),
            Spot::Firewall(firewall),
            &change,
            set,
            |walk, ctx, set| walk.out_of_firewall(ctx, firewall, entry, out, &set),
            |walk, ctx, via, set| walk.home_through(ctx, firewall, via.unwrap_or(entry), set),
        )
    }

    /// Out of a firewall: by an interface, or by its hub.
    pub(super) fn out_of_firewall(
        &mut self,
        ctx: &Ctx,
        id: Id<Firewall>,
        entry: Entry,
        out: Option<Id<Interface>>,
        set: &PacketSet,
    ) -> Map {
        if let Some(out) = out {
            return self.depart(ctx, out, set);
        }
        let firewall = &self.view.estate.firewalls[id];
        // What bears one of its own public addresses as source is on the internet.
        let public = firewall.addresses.intersection(self.view.internet());
        let outside = Self::coming_from(ctx, set, &public);
        let inside = set.difference(&outside);
        let mut maps = Vec::new();
        if !outside.is_empty() {
            maps.push(if ctx.reply {
                self.back(ctx, None, &outside)
            } else {
                self.on_internet(ctx, outside)
            });
        }
        if !inside.is_empty() {
            let is_own = |to: &heronshale_model::estate::LinkEnd| {
                *to == heronshale_model::estate::LinkEnd::Firewall(
                    heronshale_model::estate::Reference::Found(id),
                )
            };
            let hub = firewall.hub.or(match entry {
                Entry::Hub(hub, _) => Some(hub),
                _ => None,
            });
            let own = hub.and_then(|hub| {
                link_of(&self.view.estate.hubs[hub], is_own).map(|(at, _)| (hub, at))
            });
            maps.push(match (own, entry) {
                (Some((hub, link)), _) | (None, Entry::Hub(hub, link)) => {
                    self.in_hub(ctx, hub, Some(link), link, false, &inside)
                }
                _ => self.lost(ctx, Spot::Firewall(id), Why::NoFirewallRoute, &inside),
            });
        }
        Map::overlay_all(maps)
    }
}
