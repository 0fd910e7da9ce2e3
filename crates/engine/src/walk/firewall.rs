//! Firewalls on the way: their own services, translations, policy, own table, and replies (`docs/semantics.md` 8).

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

    fn onto_policy(&mut self, ctx: &Ctx, through: Through<'_>, set: &PacketSet) -> Map {
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
    fn by_decisions(
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
    fn decided(
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
    fn onto_source(
        &mut self,
        ctx: &Ctx,
        through: Through<'_>,
        keeps: bool,
        set: &PacketSet,
    ) -> Map {
        self.by_source(ctx, through, keeps, 0, set)
    }

    /// The first source translation from one on that matches, then out.
    fn by_source(
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
    fn after_translation(
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

    fn out_changed(
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
    fn out_of_firewall(
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

    /// A reply leaves a firewall: its own table picks the interface, else it is the one by which it came.
    fn home_through(&mut self, ctx: &Ctx, id: Id<Firewall>, entry: Entry, set: &PacketSet) -> Map {
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

    fn reply_at_firewall(
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
    fn reply_judged(&mut self, ctx: &Ctx, id: Id<Firewall>, entry: Entry, set: &PacketSet) -> Map {
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
fn allowed(all: &[Decision], at: u32, found: &mut Vec<(bool, By)>) {
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
