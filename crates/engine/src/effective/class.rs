//! Classes: interfaces that are decided alike.

use super::*;
use crate::stage::unfiltered_door;

/// Interfaces on which the same filters act alike.
#[derive(Clone, Debug)]
pub struct Class {
    /// The members, in the order of the snapshot; never empty.
    pub members: Vec<Id<Interface>>,
}

impl Class {
    /// Puts a member that is wanted in front; whether there is one.
    pub fn put_first(&mut self, wanted: &[Id<Interface>]) -> bool {
        let found = self
            .members
            .iter()
            .position(|member| wanted.contains(member));
        if let Some(at) = found {
            self.members[..=at].rotate_right(1);
        }
        found.is_some()
    }

    /// The first member stands for all.
    pub fn representative(&self) -> Id<Interface> {
        self.members[0]
    }
}

#[derive(PartialEq, Eq, Hash)]
pub(super) struct ClassKey {
    /// None where it does not count.
    pub(super) subnet: Option<Id<Subnet>>,
    pub(super) groups: Vec<Reference<Filter>>,
    pub(super) own_firewall: Option<Reference<Filter>>,
    pub(super) policies: Vec<Id<Filter>>,
    pub(super) unfiltered: bool,
    /// Whether it is a private door at which no stage applies.
    pub(super) open_door: bool,
    pub(super) lacks: [bool; 2],
    pub(super) families: [bool; 2],
    /// Only where a rule is about the own addresses.
    pub(super) addresses: Option<Addresses>,
}

/// Whether some rule that acts on an interface is about its own addresses.
pub(super) fn uses_local(view: &View<'_>, filters: impl Iterator<Item = Id<Filter>>) -> bool {
    let mut rules = filters.flat_map(|filter| view.estate.filters[filter].rules.iter().flatten());
    rules.any(|rule| rule.local.is_some())
}

/// All filters that are enforced at an interface, as far as the snapshot has them.
pub fn filters_at(view: &View<'_>, id: Id<Interface>) -> Vec<Id<Filter>> {
    let interface = &view.estate.interfaces[id];
    let subnet = &view.estate.subnets[interface.subnet];
    let own_firewall = view.estate.own_firewall(id);
    let bound = interface
        .groups
        .iter()
        .chain(&subnet.groups)
        .chain(own_firewall)
        .chain(&subnet.acl);
    bound
        .filter_map(Reference::found)
        .chain(policies_at(view, id))
        .collect()
}

pub(super) fn class_key(view: &View<'_>, id: Id<Interface>) -> ClassKey {
    let interface = &view.estate.interfaces[id];
    let filters = filters_at(view, id).into_iter();
    let addresses = uses_local(view, filters).then(|| interface.addresses.clone());
    ClassKey {
        subnet: Some(interface.subnet),
        groups: interface.groups.clone(),
        own_firewall: view.estate.own_firewall(id).cloned(),
        policies: policies_at(view, id),
        unfiltered: interface.unfiltered,
        open_door: unfiltered_door(view, id),
        lacks: [Lack::OwnFirewalls, Lack::Groups].map(|lack| view.lacks_at(id, lack)),
        families: Family::BOTH.map(|family| !interface.addresses.of(family).is_empty()),
        addresses,
    }
}

/// For each interface a number: those of one number have the same stages, their subnets' ACLs left out.
pub(crate) fn stage_classes(view: &View<'_>) -> Vec<u32> {
    type Key = (
        Id<heronshale_model::estate::Network>,
        Vec<Reference<Filter>>,
        ClassKey,
    );
    let mut index: FxHashMap<Key, u32> = FxHashMap::default();
    let class = |id: Id<Interface>| {
        let mut key = class_key(view, id);
        key.subnet = None;
        let item = &view.estate.subnets[view.estate.interfaces[id].subnet];
        let next = u32::try_from(index.len()).unwrap_or(u32::MAX);
        *index
            .entry((item.network, item.groups.clone(), key))
            .or_insert(next)
    };
    view.estate.interfaces.ids().map(class).collect()
}

/// All interfaces, by class, in the order of their first members.
pub fn classes(view: &View<'_>) -> Vec<Class> {
    let mut index: FxHashMap<ClassKey, usize> = FxHashMap::default();
    let mut classes: Vec<Class> = Vec::new();
    for id in view.estate.interfaces.ids() {
        let at = *index.entry(class_key(view, id)).or_insert_with(|| {
            classes.push(Class {
                members: Vec::new(),
            });
            classes.len() - 1
        });
        classes[at].members.push(id);
    }
    classes
}

/// The class that an interface belongs to.
pub fn class_of(view: &View<'_>, id: Id<Interface>) -> Class {
    let key = class_key(view, id);
    let subnet = view.estate.interfaces[id].subnet;
    let same = |other: &Id<Interface>| {
        view.estate.interfaces[*other].subnet == subnet && class_key(view, *other) == key
    };
    let mut members: Vec<_> = view.estate.interfaces.ids().filter(same).collect();
    members.retain(|member| *member != id);
    members.insert(0, id);
    Class { members }
}

/// The packets that the question is about: of the families that the interface has, and to or from its own
/// addresses where rules are about those.
pub fn domain(view: &View<'_>, interface: Id<Interface>, direction: Direction) -> PacketSet {
    let key = class_key(view, interface);
    let all = Addresses::all();
    let mut local = key.addresses.unwrap_or_else(|| all.clone());
    for (family, present) in Family::BOTH.into_iter().zip(key.families) {
        if !present {
            local = local.difference(&Addresses::of_family(family));
        }
    }
    let every_port = Intervals::span(0, u128::from(u16::MAX));
    match direction {
        Direction::In => PacketSet::fields(&all, &local, service::all, &every_port, ()),
        Direction::Out => PacketSet::fields(&local, &all, service::all, &every_port, ()),
    }
}
