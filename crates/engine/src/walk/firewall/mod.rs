//! Firewalls on the way: their own services, translations, policy, own table, and replies (`docs/semantics.md` 8).

mod policy;
mod replies;

use replies::allowed;

use super::edge::Change;
use super::label::{Choice, Verdict};
use super::step::{Spot, Step, What, Why};
use super::{Ctx, Label, Map, Met, Origin, Walk, of_family};
use crate::doubt::{Doubt, Turning, Unsaid};
use crate::faults::{Fault, has};
use crate::judgement::By;
use crate::peers::pairs_in_doubt;
use crate::policy::{Decision, PolicyMap, zone_fits};
use crate::route::{link_of, prefixes};
use heronshale_model::estate::{
    Action, Firewall, Hub, Id, Interface, Lack, Name, Network, OwnService, Peer, PolicySees,
    RouteDestination, Translation,
};
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketMap, PacketSet, Rewrite, service};
use std::rc::Rc;

/// How packets came to a firewall.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Entry {
    /// By one of its interfaces; of a balancer's back end the interface from which the reply came.
    Leg(Id<Interface>),
    /// By a link of a hub.
    Hub(Id<Hub>, usize),
    /// From the internet, to an address that it holds itself.
    Internet,
}

impl Entry {
    /// The interface, if it was one.
    fn leg(self) -> Option<Id<Interface>> {
        match self {
            Self::Leg(interface) => Some(interface),
            Self::Hub(..) | Self::Internet => None,
        }
    }
}

/// The way through a firewall that is being taken.
#[derive(Clone, Copy)]
struct Through<'t> {
    firewall: Id<Firewall>,
    entry: Entry,
    out: Option<Id<Interface>>,
    /// The destination translation that matched.
    changed: Option<&'t Translation>,
}

impl Through<'_> {
    fn destination_change(&self) -> Rewrite {
        let Some(translation) = self.changed else {
            return Rewrite::default();
        };
        Rewrite {
            destination: translation.to,
            port: translation.port,
            ..Rewrite::default()
        }
    }
}

/// Where a firewall's own table leads.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Way {
    /// Out by an interface.
    By(Id<Interface>),
    /// It has no route.
    None,
    /// Nobody knows.
    Unknown,
}

/// The packets that a translation changes for certain, and those of which that is in doubt.
pub(super) struct Translated {
    sure: PacketSet,
    doubts: Vec<(PacketSet, Turning)>,
}

impl Walk<'_, '_> {
    fn zone(&self, firewall: Id<Firewall>, interface: Option<Id<Interface>>) -> Option<Name> {
        interface.and_then(|interface| {
            self.view.estate.firewalls[firewall]
                .zone(interface)
                .cloned()
        })
    }

    fn firewall_network(&self, firewall: Id<Firewall>) -> Option<Id<Network>> {
        let leg = self.view.estate.firewalls[firewall].legs.first();
        leg.map(|leg| self.view.estate.network_of(leg.interface))
    }

    /// Packets come to a firewall.
    pub(super) fn at_firewall(
        &mut self,
        ctx: &Ctx,
        id: Id<Firewall>,
        entry: Entry,
        set: &PacketSet,
    ) -> Map {
        let firewall = &self.view.estate.firewalls[id];
        let spot = Spot::Firewall(id);
        if set.is_empty() {
            return Map::empty();
        }
        if firewall.members_up() == 0 && !has(Fault::WalkMembersAlwaysUp) {
            return self.lost(ctx, spot, Why::NoMember, set);
        }
        if ctx.reply {
            return self.reply_at_firewall(ctx, id, entry, set);
        }
        if [Lack::Rules, Lack::Interfaces]
            .iter()
            .any(|lack| self.view.lacks("firewall", &firewall.name, *lack))
        {
            return self.unknown(ctx, spot, Why::Lacking, set);
        }
        self.by_destination(ctx, id, entry, 0, set)
    }

    /// The first destination translation from one on that matches, then its own table.
    fn by_destination(
        &mut self,
        ctx: &Ctx,
        id: Id<Firewall>,
        entry: Entry,
        from: usize,
        set: &PacketSet,
    ) -> Map {
        let firewall = &self.view.estate.firewalls[id];
        let zone = self.zone(id, entry.leg());
        let mut rest = set.clone();
        let mut maps = Vec::new();
        let off = has(Fault::WalkDestinationKept);
        for (at, translation) in firewall
            .destination_translations
            .iter()
            .enumerate()
            .skip(from)
        {
            if off
                || !translation.enabled
                || !zone_fits(translation.from_zones.as_ref(), zone.as_ref())
            {
                continue;
            }
            let about = self.translated(id, translation);
            let Translated { sure, doubts } = &*about;
            let family = translation
                .to
                .map(Family::of)
                .map_or_else(PacketSet::full, of_family);
            let here = rest.intersection(sure).intersection(&family);
            maps.push(self.onto_table(ctx, id, entry, Some(translation), &here));
            rest = rest.difference(&here);
            for (open, turning) in doubts {
                let open = rest.intersection(open).intersection(&family);
                if open.is_empty() {
                    continue;
                }
                rest = rest.difference(&open);
                let yes = self.onto_table(ctx, id, entry, Some(translation), &open);
                let no = self.by_destination(ctx, id, entry, at + 1, &open);
                maps.push(self.by_turning(ctx, Spot::Firewall(id), turning, &yes, &no));
            }
        }
        let legs = firewall.legs.iter().flat_map(|leg| {
            self.view.estate.interfaces[leg.interface]
                .addresses
                .ranges()
        });
        let own = legs.collect::<Addresses>().union(&firewall.addresses);
        let to_itself = Self::going_to(ctx, &rest, &own);
        rest = rest.difference(&to_itself);
        if has(Fault::WalkFirewallForwardsOwn) {
            maps.push(self.onto_table(ctx, id, entry, None, &to_itself));
        } else {
            maps.push(self.at_own_services(ctx, id, entry, &to_itself));
        }
        maps.push(self.onto_table(ctx, id, entry, None, &rest));
        Map::overlay_all(maps)
    }

    /// What becomes of packets where it is in doubt whether something matches them.
    pub(super) fn by_turning(
        &mut self,
        ctx: &Ctx,
        at: Spot,
        turning: &Turning,
        yes: &Map,
        no: &Map,
    ) -> Map {
        let trail = self
            .labels
            .push(ctx.trail, Step::lost(ctx.reply, at, Why::Lacking));
        let labels = &mut self.labels;
        yes.combine(no, |yes, no| {
            Some(turning.decide(yes, no, &mut |doubt: Doubt, yes, no| {
                let doubt = if ctx.reply { doubt.mirrored() } else { doubt };
                labels.doubt(&doubt, yes, no, trail)
            }))
        })
    }

    /// Packets to a firewall's own address that no translation takes: its own services answer, if there are any.
    fn at_own_services(
        &mut self,
        ctx: &Ctx,
        id: Id<Firewall>,
        entry: Entry,
        set: &PacketSet,
    ) -> Map {
        let spot = Spot::Firewall(id);
        if set.is_empty() {
            return Map::empty();
        }
        match &self.view.estate.firewalls[id].own_services {
            Some(services) => self.among_own_services(ctx, id, entry, services, set),
            None => self.unknown(ctx, spot, Why::OwnServices, set),
        }
    }

    /// What one of some services answers.
    fn among_own_services(
        &mut self,
        ctx: &Ctx,
        id: Id<Firewall>,
        entry: Entry,
        services: &[OwnService],
        set: &PacketSet,
    ) -> Map {
        let spot = Spot::Firewall(id);
        let Some((own, others)) = services.split_first() else {
            return self.lost(ctx, spot, Why::NotTranslated, set);
        };
        let network = self.firewall_network(id);
        let (fits, _) = Self::by_services(&own.services, ctx, set);
        let sure = self
            .view
            .peers(own.sources.as_deref().unwrap_or(&[Peer::Any]), network)
            .sure;
        let here = fits.between(Some(&sure), None);
        let answer = |walk: &mut Self, set: &PacketSet| {
            let told = walk.arrived(ctx, spot);
            let (silent, answered) = set.one_way();
            let label = walk.labels.leaf(Verdict::Works, told.trail);
            let back = Ctx {
                by_site_gateway: None,
                ..told.turned()
            };
            silent
                .relabel(|()| Some(label))
                .overlay(&walk.home_through(&back, id, entry, &answered))
        };
        let mut rest = set.difference(&here);
        let mut maps = vec![answer(self, &here)];
        for ([from, _], turning) in pairs_in_doubt(
            self.view,
            (own.sources.as_deref(), &[]),
            (None, &[]),
            network,
        ) {
            let open = fits.between(Some(&from), None).intersection(&rest);
            if !open.is_empty() {
                rest = rest.difference(&open);
                let yes = answer(self, &open);
                let no = self.among_own_services(ctx, id, entry, others, &open);
                maps.push(self.by_turning(ctx, spot, &turning, &yes, &no));
            }
        }
        if !rest.is_empty() {
            maps.push(self.among_own_services(ctx, id, entry, others, &rest));
        }
        Map::overlay_all(maps)
    }

    /// The packets that a translation is about: for certain, and perhaps.
    fn translated(&mut self, firewall: Id<Firewall>, translation: &Translation) -> Rc<Translated> {
        if let Some(known) = self.translated.get(&std::ptr::from_ref(translation)) {
            return Rc::clone(known);
        }
        let found = Rc::new(self.about(firewall, translation));
        self.translated
            .insert(std::ptr::from_ref(translation), Rc::clone(&found));
        found
    }

    fn about(&self, firewall: Id<Firewall>, translation: &Translation) -> Translated {
        let network = self.firewall_network(firewall);
        let peers = |peers: &Option<Vec<Peer>>| match peers {
            None => Addresses::all(),
            Some(peers) => self.view.peers(peers, network).sure,
        };
        let numbers = |family| {
            if translation.services.is_empty() {
                return service::all(family);
            }
            translation
                .services
                .iter()
                .fold(Intervals::empty(), |sum, one| {
                    sum.union(&one.numbers(family))
                })
        };
        let every = Intervals::span(0, u128::from(u16::MAX));
        let fields =
            |from: &Addresses, to: &Addresses| PacketSet::fields(from, to, numbers, &every, ());
        let sides = (
            (translation.sources.as_deref(), &[][..]),
            (translation.destinations.as_deref(), &[][..]),
        );
        let doubts = pairs_in_doubt(self.view, sides.0, sides.1, network);
        Translated {
            sure: fields(
                &peers(&translation.sources),
                &peers(&translation.destinations),
            ),
            doubts: doubts
                .into_iter()
                .map(|([from, to], turning)| (fields(&from, &to), turning))
                .collect(),
        }
    }

    fn lacks_own_table(&self, id: Id<Firewall>) -> bool {
        self.view.lacks(
            "firewall",
            &self.view.estate.firewalls[id].name,
            Lack::Routes,
        )
    }

    /// The interface by which a firewall's own table leads to addresses: for each part of them one, or none.
    fn table_of_firewall(&self, id: Id<Firewall>, wanted: &Addresses) -> Vec<(Addresses, Way)> {
        let Some(routes) = &self.view.estate.firewalls[id].routes else {
            return Vec::new();
        };
        let mut lines = Vec::new();
        let mut open: Vec<Id<Interface>> = Vec::new();
        for route in routes {
            for destination in &route.destinations {
                let ranges = match destination {
                    RouteDestination::Block(block) => prefixes(&block.range),
                    RouteDestination::Set(set) => {
                        if set
                            .found()
                            .is_none_or(|set| !self.view.set(set).open.is_empty())
                        {
                            open.push(route.interface);
                        }
                        set.found().map_or_else(Vec::new, |set| {
                            let held = &self.view.set(set).matched.sure;
                            held.ranges().flat_map(|range| prefixes(&range)).collect()
                        })
                    }
                };
                lines.extend(ranges.into_iter().map(|range| (range, route.interface)));
            }
        }
        lines.sort_by_key(|(range, _)| std::cmp::Reverse(range.prefix_length()));
        let mut rest = wanted.clone();
        let mut found: Vec<(Addresses, Way)> = Vec::new();
        // A route to a set whose content is not known may win for any address.
        let certain = |way: Way| {
            if open.iter().all(|out| way == Way::By(*out)) {
                way
            } else {
                Way::Unknown
            }
        };
        for (range, interface) in lines {
            let here = rest.intersection(&[range].into_iter().collect());
            if here.is_empty() {
                continue;
            }
            rest = rest.difference(&here);
            let way = certain(Way::By(interface));
            match found.iter_mut().find(|(_, other)| *other == way) {
                Some((sum, _)) => *sum = sum.union(&here),
                None => found.push((here, way)),
            }
        }
        if !rest.is_empty() {
            found.push((rest, certain(Way::None)));
        }
        found
    }

    /// A request's destination is settled: its own table picks the interface.
    fn onto_table(
        &mut self,
        ctx: &Ctx,
        id: Id<Firewall>,
        entry: Entry,
        changed: Option<&Translation>,
        set: &PacketSet,
    ) -> Map {
        if set.is_empty() {
            return Map::empty();
        }
        let through = Through {
            firewall: id,
            entry,
            out: entry.leg(),
            changed,
        };
        // Table and policy see what the translation made of it.
        let told = match changed {
            Some(one) => {
                let change = through.destination_change();
                self.told(
                    ctx,
                    Step::new(
                        false,
                        Spot::Firewall(id),
                        What::Changed(change, Some(one.origin)),
                    ),
                )
            }
            None => ctx.clone(),
        };
        let ctx = &told;
        if self.lacks_own_table(id) {
            return self.unknown(ctx, Spot::Firewall(id), Why::Lacking, set);
        }
        if self.view.estate.firewalls[id].routes.is_none() || has(Fault::WalkFirewallTableIgnored) {
            return self.onto_policy(ctx, through, set);
        }
        let to = changed.and_then(|translation| translation.to);
        let wanted = to.map_or_else(|| set.destinations(), Addresses::single);
        let mut maps = Vec::new();
        for (part, out) in self.table_of_firewall(id, &wanted) {
            let here = if to.is_some() {
                set.clone()
            } else {
                Self::going_to(ctx, set, &part)
            };
            maps.push(match out {
                Way::By(out) => self.onto_policy(
                    ctx,
                    Through {
                        out: Some(out),
                        ..through
                    },
                    &here,
                ),
                Way::None => self.lost(ctx, Spot::Firewall(id), Why::NoFirewallRoute, &here),
                Way::Unknown => self.unknown(ctx, Spot::Firewall(id), Why::Lacking, &here),
            });
        }
        Map::overlay_all(maps)
    }

    fn zones(&self, through: Through<'_>) -> (Option<Name>, Option<Name>) {
        (
            self.zone(through.firewall, through.entry.leg()),
            self.zone(through.firewall, through.out),
        )
    }
}
