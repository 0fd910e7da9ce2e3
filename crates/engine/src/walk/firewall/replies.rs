//! Replies that come to a firewall.

use super::*;

impl Walk<'_, '_> {
    /// A reply leaves a firewall: its own table picks the interface, else it is the one by which it came.
    pub(super) fn home_through(
        &mut self,
        ctx: &Ctx,
        id: Id<Firewall>,
        entry: Entry,
        set: &PacketSet,
    ) -> Map {
        if self.lacks_own_table(id) {
            return self.unknown(ctx, Spot::Firewall(id), Why::Lacking, set);
        }
        if self.view.estate.firewalls[id].routes.is_none() {
            return self.out_of_firewall(ctx, id, entry, entry.leg(), set);
        }
        let mut maps = Vec::new();
        for (part, out) in self.table_of_firewall(id, &Self::to(ctx, set)) {
            let here = Self::going_to(ctx, set, &part);
            maps.push(match out {
                Way::By(out) => self.out_of_firewall(ctx, id, entry, Some(out), &here),
                Way::None => self.lost(ctx, Spot::Firewall(id), Why::NoFirewallRoute, &here),
                Way::Unknown => self.unknown(ctx, Spot::Firewall(id), Why::Lacking, &here),
            });
        }
        Map::overlay_all(maps)
    }

    pub(super) fn reply_at_firewall(
        &mut self,
        ctx: &Ctx,
        id: Id<Firewall>,
        entry: Entry,
        set: &PacketSet,
    ) -> Map {
        let spot = Spot::Firewall(id);
        let seen = ctx.path().find_map(|node| match node.met {
            Met::Firewall(firewall, keeps) if firewall == id && !node.reply => Some(keeps),
            _ => None,
        });
        let began = ctx.leg.origin == Origin::Firewall(id);
        if !began && seen.is_none() && has(Fault::WalkFirewallKnowsAll) {
            return self.home_through(ctx, id, entry, set);
        }
        if !began && seen.is_none() {
            return self.lost(ctx, spot, Why::SawNoRequest, set);
        }
        let map = if let (Some(keeps), false) = (seen, began) {
            let met = self
                .told(ctx, Step::new(true, spot, What::Passed))
                .met(Met::Firewall(id, keeps));
            if keeps {
                self.home_through(&met, id, entry, set)
            } else {
                self.reply_judged(&met, id, entry, set)
            }
        } else {
            self.back_by(ctx, Some(entry), set)
        };
        let firewall = &self.view.estate.firewalls[id];
        let comes_back = has(Fault::WalkMembersShareState)
            || firewall.members_up() == 1
            || firewall.symmetric
            || (began && ctx.leg.source_changed && !has(Fault::WalkTranslatedMembersDiffer));
        if comes_back {
            return map;
        }
        let other = self.lost(ctx, spot, Why::OtherMember, set);
        self.chosen(vec![
            (Choice::Member(true), map),
            (Choice::Member(false), other),
        ])
    }

    /// A firewall whose rule kept no state judges the reply as a packet of its own.
    pub(super) fn reply_judged(
        &mut self,
        ctx: &Ctx,
        id: Id<Firewall>,
        entry: Entry,
        set: &PacketSet,
    ) -> Map {
        let has_table = self.view.estate.firewalls[id].routes.is_some();
        let parts = if has_table {
            self.table_of_firewall(id, &Self::to(ctx, set))
        } else {
            Vec::new()
        };
        if self.lacks_own_table(id) {
            return self.unknown(ctx, Spot::Firewall(id), Why::Lacking, set);
        }
        let parts = parts.into_iter().map(|(part, way)| match way {
            Way::By(out) => Ok((part, Some(out))),
            Way::None => Err((part, Why::NoFirewallRoute)),
            Way::Unknown => Err((part, Why::Lacking)),
        });
        let straight = (!has_table).then(|| Ok((Addresses::all(), entry.leg())));
        let mut maps = Vec::new();
        for part in parts.chain(straight) {
            let (part, out) = match part {
                Ok(found) => found,
                Err((part, why)) => {
                    let here = Self::going_to(ctx, set, &part);
                    maps.push(match why {
                        Why::Lacking => self.unknown(ctx, Spot::Firewall(id), why, &here),
                        _ => self.lost(ctx, Spot::Firewall(id), why, &here),
                    });
                    continue;
                }
            };
            let here = Self::going_to(ctx, set, &part);
            let (from, to) = self.zones(Through {
                firewall: id,
                entry,
                out,
                changed: None,
            });
            let policy = self.view.policy((id, from, to, None));
            let seen = policy.map.mirrored().restrict(&here);
            maps.push(self.by_decisions(
                ctx,
                id,
                &policy,
                &Rewrite::default(),
                &seen,
                |walk, ctx, _, set| walk.out_of_firewall(ctx, id, entry, out, set),
            ));
        }
        Map::overlay_all(maps)
    }
}

/// The ways in which a decision may allow: whether state is kept, and by what.
pub(super) fn allowed(all: &[Decision], at: u32, found: &mut Vec<(bool, By)>) {
    match &all[at as usize] {
        Decision::Decided {
            action,
            by,
            keeps_state,
        } if action.admits() => {
            if !found.iter().any(|(keeps, _)| keeps == keeps_state) {
                found.push((*keeps_state, *by));
            }
        }
        Decision::Decided { .. } => {}
        Decision::Turns {
            holds, otherwise, ..
        } => {
            allowed(all, *holds, found);
            allowed(all, *otherwise, found);
        }
        Decision::Doubt { with, without, .. } => {
            allowed(all, *with, found);
            allowed(all, *without, found);
        }
        Decision::Unknown => {
            if found.is_empty() {
                found.push((true, By::Lacking));
            }
        }
    }
}
