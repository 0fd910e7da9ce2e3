//! A fabric on a changed copy of an estate says what a fabric made of that copy from nothing says.

use super::agreement::load;
use super::fixes::connection;
use super::topology::estate;
use super::walks::with_likenesses;
use fastrand::Rng;
use heronshale_engine::effective::effective_both;
use heronshale_engine::fabric::Fabric;
use heronshale_engine::walk::{Asked, Tell, walk};
use heronshale_model::estate::{
    Action, Estate, GatewayKind, Id, InternetTraffic, Named, NamedPeerReach, Peer, Reference,
    SetItem, Table,
};
use heronshale_sets::address::Addresses;

/// Some item of a table.
fn some<T: Named>(random: &mut Rng, table: &Table<T>) -> Option<Id<T>> {
    table.ids().nth(random.usize(0..table.len().max(1)))
}

/// A change of a copy; none if the estate has nothing of the kind.
type Change = fn(&mut Rng, &mut Estate) -> Option<()>;

/// Changes of everything on which something rests that a fabric keeps.
const CHANGES: [(&str, Change); 27] = [
    ("a rule goes", |random, estate| {
        let id = some(random, &estate.filters)?;
        estate.filters.get_mut(id).rules[random.usize(0..2)]
            .pop()
            .map(drop)
    }),
    ("a rule turns", |random, estate| {
        let id = some(random, &estate.filters)?;
        let rule = estate.filters.get_mut(id).rules[random.usize(0..2)].first_mut()?;
        rule.action = if rule.action == Action::Allow {
            Action::Deny
        } else {
            Action::Allow
        };
        Some(())
    }),
    ("a rule is about this side", |random, estate| {
        let id = some(random, &estate.filters)?;
        let own = estate.interfaces.items().first()?.addresses.clone();
        let rule = estate.filters.get_mut(id).rules[random.usize(0..2)].first_mut()?;
        let block = own.texts().first()?.parse().ok()?;
        rule.local = if rule.local.is_some() {
            None
        } else {
            Some(vec![Peer::Block(block)])
        };
        Some(())
    }),
    ("a rule moves to another filter", |random, estate| {
        let (one, other) = (
            some(random, &estate.filters)?,
            some(random, &estate.filters)?,
        );
        let rule = estate.filters[one].rules[0].first()?.clone();
        estate.filters.get_mut(other).rules[0].push(rule);
        Some(())
    }),
    ("a filter is read otherwise", |random, estate| {
        let (one, other) = (
            some(random, &estate.filters)?,
            some(random, &estate.filters)?,
        );
        let kind = estate.filters[other].kind.clone();
        let same =
            std::mem::discriminant(&kind) == std::mem::discriminant(&estate.filters[one].kind);
        same.then(|| estate.filters.get_mut(one).kind = kind)
    }),
    ("a route turns", |random, estate| {
        let id = some(random, &estate.route_tables)?;
        let route = estate.route_tables.get_mut(id).routes.first_mut()?;
        route.enabled = !route.enabled;
        Some(())
    }),
    ("a route goes", |random, estate| {
        let id = some(random, &estate.route_tables)?;
        estate.route_tables.get_mut(id).routes.pop().map(drop)
    }),
    ("a subnet loses its table", |random, estate| {
        let id = some(random, &estate.subnets)?;
        estate.subnets.get_mut(id).route_table.take().map(drop)
    }),
    ("a subnet loses its ACL", |random, estate| {
        let id = some(random, &estate.subnets)?;
        estate.subnets.get_mut(id).acl.take().map(drop)
    }),
    ("a subnet is open to the internet", |random, estate| {
        let id = some(random, &estate.subnets)?;
        estate.subnets.get_mut(id).internet_traffic = InternetTraffic::BothWays;
        Some(())
    }),
    ("an interface forwards", |random, estate| {
        let id = some(random, &estate.interfaces)?;
        let item = estate.interfaces.get_mut(id);
        item.forwards = !item.forwards;
        Some(())
    }),
    ("an interface changes its groups", |random, estate| {
        let (one, other) = (
            some(random, &estate.interfaces)?,
            some(random, &estate.interfaces)?,
        );
        estate.interfaces.get_mut(one).groups = estate.interfaces[other].groups.clone();
        Some(())
    }),
    ("an interface loses its addresses", |random, estate| {
        let id = some(random, &estate.interfaces)?;
        estate.interfaces.get_mut(id).addresses = Addresses::empty();
        Some(())
    }),
    ("an interface changes its tags", |random, estate| {
        let (one, other) = (
            some(random, &estate.interfaces)?,
            some(random, &estate.interfaces)?,
        );
        estate.interfaces.get_mut(one).tags = estate.interfaces[other].tags.clone();
        Some(())
    }),
    ("an interface is unfiltered", |random, estate| {
        let id = some(random, &estate.interfaces)?;
        let item = estate.interfaces.get_mut(id);
        item.unfiltered = !item.unfiltered;
        Some(())
    }),
    ("a network lets named peers reach all", |random, estate| {
        let id = some(random, &estate.networks)?;
        estate.networks.get_mut(id).settings.named_peer_reach = NamedPeerReach::Estate;
        Some(())
    }),
    ("a set grows", |random, estate| {
        let id = some(random, &estate.address_sets)?;
        let block = "10.0.0.0/8".parse().ok()?;
        estate
            .address_sets
            .get_mut(id)
            .content
            .get_or_insert_default()
            .push(SetItem::Block(block));
        Some(())
    }),
    ("a peering goes down", |random, estate| {
        let id = some(random, &estate.peerings)?;
        let side = &mut estate.peerings.get_mut(id).sides[0];
        side.up = !side.up;
        Some(())
    }),
    ("a link goes down", |random, estate| {
        let id = some(random, &estate.hubs)?;
        let link = estate.hubs.get_mut(id).links.first_mut()?;
        link.up = !link.up;
        Some(())
    }),
    ("a domain loses a route", |random, estate| {
        let id = some(random, &estate.hubs)?;
        estate
            .hubs
            .get_mut(id)
            .domains
            .first_mut()?
            .routes
            .pop()
            .map(drop)
    }),
    ("a gateway is attached otherwise", |random, estate| {
        let id = some(random, &estate.gateways)?;
        match &mut estate.gateways.get_mut(id).kind {
            GatewayKind::Internet { attached, .. } => *attached = !*attached,
            GatewayKind::Site { up, .. } => *up = !*up,
            _ => return None,
        }
        Some(())
    }),
    ("a public address is free", |random, estate| {
        let id = some(random, &estate.public_addresses)?;
        let item = estate.public_addresses.get_mut(id);
        (item.interface, item.private) = (None, None);
        Some(())
    }),
    ("a firewall loses its translations", |random, estate| {
        let id = some(random, &estate.firewalls)?;
        let item = estate.firewalls.get_mut(id);
        item.destination_translations.clear();
        item.symmetric = !item.symmetric;
        Some(())
    }),
    ("a firewall loses its policy", |random, estate| {
        let id = some(random, &estate.firewalls)?;
        estate.firewalls.get_mut(id).policy.take().map(drop)
    }),
    ("a back end is ill", |random, estate| {
        let id = some(random, &estate.balancers)?;
        let end = estate.balancers.get_mut(id).back_ends.first_mut()?;
        end.healthy = !end.healthy;
        Some(())
    }),
    ("a service loses a door", |random, estate| {
        let id = some(random, &estate.services)?;
        let item = estate.services.get_mut(id);
        item.public_door = None;
        item.private_doors.pop();
        Some(())
    }),
    ("a site holds nothing", |random, estate| {
        let id = some(random, &estate.sites)?;
        estate.sites.get_mut(id).holds = Addresses::empty();
        Some(())
    }),
];

/// All that a fabric says of some questions: verdicts with their packets, and both sides of each interface.
fn said(view: &Fabric<'_>, asked: &[Asked]) -> Vec<String> {
    let verdicts = asked.iter().map(|one| {
        let answered = walk(view, one, Tell::Deciders);
        let parts = answered
            .parts
            .iter()
            .map(|part| format!("{:?} {:?}", part.packets, part.judged.verdict));
        parts.collect::<Vec<_>>().join("; ")
    });
    let sides = view.estate.interfaces.ids().map(|id| {
        let both = effective_both(view, id, [None, None]);
        let classes = (view.class_number(id), view.stage_classes()[id.index()]);
        format!(
            "{classes:?} {:?}",
            both.map(|side| (side.admitted_set, side.unknown_set))
        )
    });
    let shared = (
        view.internet(),
        view.internet_as_end(),
        view.held_by_several(),
        view.held_by_others(),
    );
    verdicts
        .chain(sides)
        .chain([format!("{shared:?}")])
        .collect()
}

#[test]
fn what_a_fabric_keeps_after_changes_is_what_it_would_find_anew() {
    let (mut told, mut differs) = ([0; CHANGES.len()], [0; CHANGES.len()]);
    for seed in 0..240 {
        let mut random = Rng::with_seed(seed);
        let mut json = estate(&mut random);
        if random.bool() {
            with_likenesses(&mut random, &mut json);
        }
        let built = load(&json);
        let asked: Vec<Asked> = (0..6).map(|_| connection(&mut random, &built).1).collect();
        let base = Fabric::new(&built, None);
        let before = said(&base, &asked);
        for _ in 0..4 {
            let mut copy = built.clone();
            let mut made = Vec::new();
            for _ in 0..random.usize(1..3) {
                let at = random.usize(0..CHANGES.len());
                made.extend(CHANGES[at].1(&mut random, &mut copy).map(|()| at));
            }
            let (kept, anew) = (
                said(&base.after(&copy), &asked),
                said(&Fabric::new(&copy, None), &asked),
            );
            let names: Vec<&str> = made.iter().map(|at| CHANGES[*at].0).collect();
            assert_eq!(kept, anew, "seed {seed}: {names:?}");
            for at in made {
                told[at] += 1;
                differs[at] += usize::from(anew != before);
            }
        }
        assert_eq!(
            said(&base, &asked),
            before,
            "a change of a copy changes nothing of the estate"
        );
    }
    let unseen = CHANGES.iter().zip(&told).filter(|(_, told)| **told == 0);
    let unseen: Vec<&str> = unseen.map(|((name, _), _)| *name).collect();
    assert!(unseen.is_empty(), "{unseen:?} {told:?}");
    let same = differs.iter().filter(|differs| **differs == 0).count();
    assert!(
        same <= 2,
        "most changes change what is said: {differs:?} of {told:?}"
    );
}

#[test]
fn a_copy_shares_what_was_not_changed() {
    let built = load(&estate(&mut Rng::with_seed(1)));
    let mut copy = built.clone();
    assert!(copy.interfaces.is_same(&built.interfaces) && copy.filters.is_same(&built.filters));
    let first = copy.interfaces.ids().next().unwrap();
    copy.interfaces.get_mut(first).forwards ^= true;
    assert!(!copy.interfaces.is_same(&built.interfaces) && copy.filters.is_same(&built.filters));
    assert_ne!(
        copy.interfaces[first].forwards,
        built.interfaces[first].forwards
    );
    let missing: Reference<heronshale_model::estate::Filter> = Reference::Missing("no".into());
    assert!(missing.found().is_none());
}
