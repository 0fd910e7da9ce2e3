//! Packets start at interfaces.

use super::*;

impl<'e> Walk<'_, 'e> {
    /// Packets start at interfaces, each with those from its own addresses.
    pub(in crate::walk) fn start_at(
        &mut self,
        ctx: &Ctx,
        interfaces: &[Id<Interface>],
        packets: &PacketSet,
    ) -> Map {
        if self.is_many(interfaces.len()) {
            return self.start_at_many(ctx, interfaces, packets);
        }
        self.start_at_each(ctx, interfaces, packets)
    }

    /// The same, interface by interface or class by class.
    pub(in crate::walk) fn start_at_each(
        &mut self,
        ctx: &Ctx,
        interfaces: &[Id<Interface>],
        packets: &PacketSet,
    ) -> Map {
        let mut parts = Vec::with_capacity(interfaces.len());
        let mut maps = Vec::new();
        let mut rest = packets.clone();
        let groups = self.grouped(interfaces);
        for (interface, members) in groups {
            let addresses: Addresses = members
                .iter()
                .flat_map(|id| self.view.estate.interfaces[*id].addresses.ranges())
                .collect();
            let set = rest.between(Some(&addresses), None);
            rest = rest.difference(&set);
            if !set.is_empty() {
                parts.push(Group {
                    interface,
                    all: members,
                    set,
                });
            }
        }
        // To itself, and to the platform: no stage and no route.
        for part in &mut parts {
            let mut itself = PacketSet::empty();
            let mut told = PacketSet::empty();
            for member in &part.all {
                let own = &self.view.estate.interfaces[*member].addresses;
                let mine = part.set.between(Some(own), Some(own));
                if self.ends.is_some() && !mine.is_empty() {
                    let ctx = self.arrived(ctx, Spot::Interface(*member));
                    let label = self.labels.leaf(Verdict::Works, ctx.trail);
                    maps.push(mine.relabel(|()| Some(label)));
                    told = told.union(&mine);
                } else {
                    itself = itself.union(&mine);
                }
            }
            part.set = part.set.difference(&itself).difference(&told);
            let platform = part.set.intersection(self.view.platform_traffic());
            part.set = part.set.difference(&platform);
            let spot = Spot::Interface(part.interface);
            for (set, what) in [(itself, What::Arrived), (platform, What::Platform)] {
                if set.is_empty() {
                } else if self.ends.is_some() {
                    let label = self.labels.leaf(Verdict::Works, ctx.trail);
                    maps.push(set.relabel(|()| Some(label)));
                } else {
                    let step = Step::new(false, spot, what);
                    maps.push(self.ended(ctx, Verdict::Works, step, &set));
                }
            }
        }
        if !rest.is_empty() {
            // From addresses that none of the interfaces has.
            let spot = interfaces
                .first()
                .map_or(Spot::Internet, |first| Spot::Interface(*first));
            maps.push(self.lost(ctx, spot, Why::NobodyHolds, &rest));
        }
        // A private door opens nothing from its side.
        let mut open = Vec::with_capacity(parts.len());
        for part in parts {
            if matches!(self.view.roles().get(&part.interface), Some(Role::Door(_))) {
                maps.push(self.lost(
                    ctx,
                    Spot::Interface(part.interface),
                    Why::OneWayDoor,
                    &part.set,
                ));
            } else {
                open.push(part);
            }
        }
        maps.push(self.depart_all(ctx, open));
        Map::overlay_all(maps)
    }

    /// Interfaces by what makes a difference to packets that start or arrive there.
    pub(in crate::walk) fn grouped(
        &mut self,
        interfaces: &[Id<Interface>],
    ) -> Vec<(Id<Interface>, Vec<Id<Interface>>)> {
        if interfaces.len() <= 4 || self.detail || self.tagged_routes {
            return interfaces.iter().map(|id| (*id, vec![*id])).collect();
        }
        let mut index: FxHashMap<u32, usize> = FxHashMap::default();
        let mut groups: Vec<(Id<Interface>, Vec<Id<Interface>>)> = Vec::new();
        for id in interfaces {
            if self.view.roles().contains_key(id) {
                groups.push((*id, vec![*id]));
                continue;
            }
            let class = self.class(*id);
            let at = *index.entry(class).or_insert_with(|| {
                groups.push((*id, Vec::new()));
                groups.len() - 1
            });
            groups[at].1.push(*id);
        }
        groups
    }

    /// Packets leave interfaces: their stages, then the routes of their subnets.
    pub(super) fn depart_all(&mut self, ctx: &Ctx, groups: Vec<Group>) -> Map {
        let mut maps = Vec::new();
        let mut together: Vec<(RoutePlace<'e>, PacketSet)> = Vec::new();
        // Routes that are limited to tags ask who sends.
        let alone = self.detail || groups.len() == 1 || self.tagged_routes;
        for group in groups {
            let subnet = self.view.estate.interfaces[group.interface].subnet;
            for (pass, set) in self.side(ctx, group.interface, Direction::Out, &group.set) {
                match pass {
                    Pass::On(not_kept, _) if not_kept.is_empty() && !alone => {
                        together.push((RoutePlace::in_subnet(self.view, subnet, None), set));
                    }
                    other => {
                        let members = group.all.clone();
                        maps.push(self.each(
                            ctx,
                            vec![(other, set)],
                            |walk, ctx, set, not_kept| {
                                // Stages that keep no state are asked again at each interface.
                                let mut maps = Vec::new();
                                for member in &members {
                                    let own = &walk.view.estate.interfaces[*member].addresses;
                                    let mine = if members.len() == 1 {
                                        set.clone()
                                    } else {
                                        Self::coming_from(ctx, &set, own)
                                    };
                                    if mine.is_empty() {
                                        continue;
                                    }
                                    let ctx = ctx.met(Met::Crossed(*member, not_kept.clone()));
                                    let place =
                                        RoutePlace::in_subnet(walk.view, subnet, Some(*member));
                                    maps.push(walk.route(&ctx, vec![(place, mine)], true));
                                }
                                Map::overlay_all(maps)
                            },
                        ));
                    }
                }
            }
        }
        if !together.is_empty() {
            let mut places: Vec<(RoutePlace<'e>, PacketSet)> = Vec::new();
            for (place, set) in together {
                match places.iter_mut().find(|(other, _)| *other == place) {
                    Some((_, sum)) => *sum = sum.union(&set),
                    None => places.push((place, set)),
                }
            }
            let ctx = ctx.met(Met::StartsCrossed);
            maps.push(self.route(&ctx, places, true));
        }
        Map::overlay_all(maps)
    }

    /// Packets leave one interface, as a device does that passes them on.
    pub(in crate::walk) fn depart(
        &mut self,
        ctx: &Ctx,
        interface: Id<Interface>,
        set: &PacketSet,
    ) -> Map {
        let subnet = self.view.estate.interfaces[interface].subnet;
        let passes = self.side(ctx, interface, Direction::Out, set);
        let ctx = Ctx {
            by_site_gateway: None,
            ..ctx.clone()
        };
        self.each(&ctx, passes, |walk, ctx, set, not_kept| {
            let ctx = ctx.met(Met::Crossed(interface, not_kept.clone()));
            let place = RoutePlace::in_subnet(walk.view, subnet, Some(interface));
            walk.route(&ctx, vec![(place, set)], false)
        })
    }
}
