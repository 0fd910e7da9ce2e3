//! Two states of random estates: each connection is in the class in which walks one by one put it, and the edits that are said to
//! make the difference make it.

use super::agreement::to_engine;
use super::naive::Packet;
use super::pick;
use super::topology::{estate, question};
use super::walker::{From, V, Walker};
use fastrand::Rng;
use heronshale_change::{Class, Comparison, Difference as Changed, compare, compare_all, touched};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::walk::{Spot, Tell, What, walk};
use heronshale_intake::{Difference, Snapshot, load_texts};
use heronshale_model::change::{Edit, States};
use heronshale_model::estate::{Estate, Name, RemarkKind};
use heronshale_sets::address::Addresses;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::PacketSet;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

pub(super) fn read(json: &Value) -> Option<Snapshot> {
    load_texts(&[("estate.json", &json.to_string())]).ok()
}

/// What is named and not there: of other names the walker of the tests cannot be asked.
fn missing(found: &Snapshot) -> BTreeSet<String> {
    let names = found
        .estate
        .remarks
        .iter()
        .filter_map(|remark| match &remark.what {
            RemarkKind::Missing { target, .. } => Some(target.to_string()),
            _ => None,
        });
    names.collect()
}

/// The sections that are lists.
fn sections(json: &Value) -> Vec<String> {
    let all = json.as_object().into_iter().flatten();
    all.filter(|(_, value)| value.as_array().is_some_and(|all| !all.is_empty()))
        .map(|(name, _)| name.clone())
        .collect()
}

/// Something of the estate becomes as it is in another, or goes.
fn edit(random: &mut Rng, json: &mut Value, other: &Value) -> Option<()> {
    let section = pick(random, &sections(json));
    // What is missing must stay declared: the walker of the tests knows it by its gap.
    if section == "gaps" {
        return None;
    }
    let items = json[&section].as_array_mut()?;
    let at = random.usize(0..items.len());
    let named = |item: &Value| item.get("id").or(item.get("address")).cloned();
    let id = named(&items[at]);
    let there = other[&section].as_array().into_iter().flatten();
    let there = there.into_iter().find(|item| named(item) == id).cloned();
    match (random.u8(0..10), there) {
        (0, _) => {
            items.remove(at);
        }
        (1, Some(there)) => items[at] = there,
        (2, _) => {
            let others = other[&section].as_array().filter(|all| !all.is_empty())?;
            let added = pick(random, others);
            let is_new = items.iter().all(|item| named(item) != named(&added));
            is_new.then(|| items.push(added))?;
        }
        (3..=5, _) => {
            // An element of a list goes, or two change places.
            let fields = items[at].as_object_mut()?;
            let lists: Vec<&mut Vec<Value>> = fields
                .iter_mut()
                .filter_map(|(_, value)| value.as_array_mut())
                .filter(|all| !all.is_empty())
                .collect();
            let count = lists.len();
            let list = lists.into_iter().nth(random.usize(0..count.max(1)))?;
            if random.bool() {
                list.remove(random.usize(0..list.len()));
            } else {
                let last = list.len() - 1;
                list.swap(0, last);
            }
        }
        (_, Some(there)) => {
            let fields = there.as_object()?;
            let names: Vec<&String> = fields.keys().filter(|name| *name != "id").collect();
            let name = names.get(random.usize(0..names.len().max(1)))?;
            items[at][*name] = fields[*name].clone();
        }
        (_, None) => return None,
    }
    Some(())
}

/// The ports from which clients connect: few, so that each is tried.
const CLIENTS: &str = "3000-3001";

fn with_few_clients(random: &mut Rng) -> Value {
    let mut json = estate(random);
    json["estate"]["settings"]["client_ports"] = CLIENTS.into();
    json
}

/// An estate, and what some edits make of it.
pub(super) fn pair(random: &mut Rng) -> (Value, Value) {
    let (old, other) = (with_few_clients(random), with_few_clients(random));
    let known: BTreeSet<String> = [&old, &other]
        .into_iter()
        .flat_map(|json| missing(&read(json).unwrap()))
        .collect();
    let is_fine = |json: &Value| read(json).is_some_and(|found| missing(&found).is_subset(&known));
    loop {
        let mut new = old.clone();
        for _ in 0..random.usize(1..5) {
            let mut tried = new.clone();
            if edit(random, &mut tried, &other).is_some() && is_fine(&tried) {
                new = tried;
            }
        }
        if new != old {
            return (old, new);
        }
    }
}

pub(super) fn judged(estate: &Estate) -> Fabric<'_> {
    Fabric::new(estate, None)
}

/// What is said of one connection.
fn class_of<'c>(found: &'c Comparison, start: &str, packet: &PacketSet) -> Vec<&'c Changed> {
    let is_there = |one: &&Changed| {
        let from = match &one.from {
            heronshale_change::From::Network(name, _) => format!("network {name}"),
            heronshale_change::From::Site(name) => format!("site {name}"),
            heronshale_change::From::Internet => "internet".to_owned(),
        };
        from == start && one.packets.overlaps(packet)
    };
    found.differences.iter().filter(is_there).collect()
}

/// Where a question starts, as the comparison calls it; none if its source is not that start's alone.
fn start_of(view: &Fabric<'_>, from: &From, packet: &Packet) -> Option<String> {
    let estate = view.estate;
    match from {
        From::Internet => Some("internet".to_owned()),
        From::Site(site) => estate.sites.find(site).map(|_| format!("site {site}")),
        From::Interface(name) => {
            let id = estate.interfaces.find(name)?;
            let network = estate.network_of(id);
            let holders = estate.interfaces.iter().filter(|(other, item)| {
                estate.network_of(*other) == network && item.addresses.contains(packet.source)
            });
            let doors = estate.services.items().iter();
            let is_door = doors.into_iter().any(|one| one.private_doors.contains(&id));
            let own = estate.interfaces[id].addresses.contains(packet.source);
            let alone = holders.count() == 1 && own && !is_door;
            alone.then(|| format!("network {}", estate.networks[network].name))
        }
    }
}

/// A connection of a row, as the walker of the tests is asked about it.
fn example(views: &[&Fabric<'_>; 2], row: &Changed) -> Option<(From, Packet)> {
    // Of the packets that the tests of walks ask about, from whatever source.
    let mut random = Rng::with_seed(7);
    let pool = (0..400).map(|_| question(&mut random).1);
    let mut services = Intervals::empty();
    let mut to = Addresses::empty();
    for packet in pool {
        let number = u128::from(to_engine(&packet).service);
        services = services.union(&Intervals::span(number, number));
        to = to.union(&Addresses::single(packet.destination));
    }
    let every = Intervals::span(0, u128::from(u16::MAX));
    let asked = PacketSet::fields(&Addresses::all(), &to, |_| services.clone(), &every, ());
    let packet = row.packets.intersection(&asked).lowest()?;
    let (source, protocol) = (packet.source_address(), packet.protocol());
    let from = match &row.from {
        heronshale_change::From::Internet => From::Internet,
        heronshale_change::From::Site(name) => From::Site(name.to_string()),
        heronshale_change::From::Network(name, _) => {
            let mut all = views.iter().flat_map(|view| view.estate.interfaces.iter());
            let sender = |view: &Fabric<'_>, id| {
                view.estate.networks[view.estate.network_of(id)].name == *name
            };
            let (_, item) = all.find(|(id, item)| {
                item.addresses.contains(source)
                    && views.iter().any(|view| {
                        view.estate.interfaces.find(&item.name) == Some(*id) && sender(view, *id)
                    })
            })?;
            From::Interface(item.name.to_string())
        }
    };
    let naive = Packet {
        source,
        destination: packet.destination_address(),
        protocol,
        low: u16::try_from(packet.service & 0xFFFF).ok()?,
        source_port: 0,
    };
    Some((from, naive))
}

/// The firewalls that one connection passes, there and back, as a walk tells them that tells every step.
fn firewalls(
    view: &Fabric<'_>,
    row: &Changed,
    packet: &PacketSet,
) -> BTreeSet<(Vec<Name>, Vec<Name>)> {
    let asked = heronshale_change::question(view, &row.from, packet).unwrap();
    let answered = walk(view, &asked, Tell::Steps);
    let trails = answered.parts.iter();
    let trails = trails.flat_map(|part| answered.labels.trails_that_work(part.label));
    let passed = |trail, reply: bool| {
        let mut names: Vec<Name> = Vec::new();
        for step in answered.labels.steps(trail) {
            let passes = matches!(step.what, What::Passed | What::Policy { allows: true, .. });
            if let (Spot::Firewall(id), true) = (step.at, passes && step.reply == reply) {
                let name = view.estate.firewalls[id].name.clone();
                if !names.contains(&name) {
                    names.push(name);
                }
            }
        }
        names
    };
    trails
        .map(|trail| (passed(trail, false), passed(trail, true)))
        .collect()
}

fn rank(verdict: V) -> Option<u8> {
    match verdict {
        V::Works => Some(3),
        V::Some => Some(2),
        V::Conditional => Some(1),
        V::Unknown => None,
        _ => Some(0),
    }
}

/// Whether a class is right, by the verdicts of the two states.
fn is_right(class: Option<Class>, old: V, new: V) -> bool {
    match (rank(old), rank(new)) {
        (None, None) => class.is_none(),
        (Some(_), None) => matches!(class, Some(Class::BecameUnknown | Class::NotComparable)),
        (None, Some(_)) => matches!(class, Some(Class::BecameKnown | Class::NotComparable)),
        (Some(0), Some(0)) => matches!(class, None | Some(Class::FailsOtherwise)),
        (Some(0), _) => class == Some(Class::Opened),
        (_, Some(0)) => class == Some(Class::Lost),
        (Some(before), Some(now)) if before < now => class == Some(Class::WorksForMore),
        (Some(before), Some(now)) if before > now => class == Some(Class::WorksForLess),
        _ => !matches!(
            class,
            Some(
                Class::Opened
                    | Class::Lost
                    | Class::BecameKnown
                    | Class::BecameUnknown
                    | Class::NotComparable
                    | Class::FailsOtherwise
            )
        ),
    }
}

/// All sets of edits that mean something, by size.
fn subsets(edits: &[Edit]) -> Vec<Vec<usize>> {
    let all = 0..1_u32 << edits.len();
    let mut sets: Vec<Vec<usize>> = all
        .map(|bits| (0..edits.len()).filter(|at| bits >> at & 1 == 1).collect())
        .filter(|set: &Vec<usize>| {
            let mut needs = set.iter().flat_map(|at| &edits[*at].needs);
            needs.all(|at| set.contains(at))
        })
        .collect();
    sets.sort_by_key(Vec::len);
    sets
}

/// Those of some sets that hold no other of them.
fn minimal(sets: Vec<Vec<usize>>) -> Vec<Vec<usize>> {
    let mut kept: Vec<Vec<usize>> = Vec::new();
    for set in sets {
        if !kept
            .iter()
            .any(|small| small.iter().all(|at| set.contains(at)))
        {
            kept.push(set);
        }
    }
    kept.sort_by(|one, other| (one.len(), one).cmp(&(other.len(), other)));
    kept
}

/// How often each class came up, and how many causes were held against all subsets.
#[derive(Default)]
struct Tally {
    classes: BTreeMap<String, usize>,
    causes: usize,
    ways: usize,
}

fn hold(seed: u64, tally: &mut Tally) {
    let mut random = Rng::with_seed(seed);
    let (before, now) = pair(&mut random);
    let (old, new) = (read(&before).unwrap(), read(&now).unwrap());
    let difference = Difference::of(&old, &new);
    let edits = difference.edits();
    let all: Vec<usize> = (0..edits.len()).collect();
    for (taken, wanted) in [(&all[..0], &old), (&all[..], &new)] {
        let state = read(&difference.document(taken)).expect("both ends are legal");
        let left = Difference::of(&state, wanted).edits();
        assert!(left.is_empty(), "seed {seed}: {left:?}");
    }
    let (was, is) = (judged(&old.estate), judged(&new.estate));
    let found = compare((&was, &is), &difference, &judged);
    let mut shown: Vec<(From, Packet)> = found
        .differences
        .iter()
        .filter_map(|one| example(&[&was, &is], one))
        .collect();
    let (naive_old, naive_new) = (Walker::new(&before), Walker::new(&now));
    let states: Vec<(Vec<usize>, Value)> = if edits.len() <= 5 {
        let sets = subsets(&edits).into_iter();
        let with = sets.map(|set| (set.clone(), difference.document(&set)));
        let known: BTreeSet<String> = missing(&old).union(&missing(&new)).cloned().collect();
        let legal: Vec<_> = with.filter(|(_, json)| read(json).is_some()).collect();
        let is_fine = |json: &Value| missing(&read(json).unwrap()).is_subset(&known);
        if legal.iter().all(|(_, json)| is_fine(json)) {
            legal
        } else {
            Vec::new()
        }
    } else {
        Vec::new()
    };
    let mut questions: Vec<(From, Packet)> = (0..24)
        .map(|_| question(&mut random))
        .map(|(from, packet, _)| (from, packet))
        .collect();
    random.shuffle(&mut shown);
    questions.extend(shown.into_iter().take(16));
    for (from, packet) in questions {
        let starts = [&was, &is].map(|view| start_of(view, &from, &packet));
        let [Some(start), Some(same)] = starts else {
            continue;
        };
        let moved = found.released.union(&found.taken);
        let inside = start != "internet" && moved.contains(packet.destination);
        if start != same || moved.contains(packet.source) || inside {
            continue;
        }
        if start == "internet" && !found.internet.contains(packet.source) {
            continue;
        }
        let ask = |view: &Fabric<'_>, walker: &Walker<'_>| {
            // What the internet sends to its own addresses is no connection of the estate.
            let outside = view.internet_end().contains(packet.destination);
            let held = match &from {
                From::Site(name) => {
                    let id = view.estate.sites.find(name).unwrap();
                    view.estate.sites[id].holds.contains(packet.source)
                }
                _ => true,
            };
            if !held || start == "internet" && outside {
                return V::Lost;
            }
            walker.verdict(&from, packet, None, CLIENTS)
        };
        let (a, b) = (ask(&was, &naive_old), ask(&is, &naive_new));
        let one = PacketSet::single(&to_engine(&packet)).any_source_port();
        let rows = class_of(&found, &start, &one);
        assert!(rows.len() < 2, "seed {seed}: one connection, several rows");
        let class = rows.first().map(|row| row.class);
        let told = class.map_or("none", Class::word);
        *tally.classes.entry(told.to_owned()).or_default() += 1;
        assert!(
            is_right(class, a, b),
            "seed {seed}: {from:?} {packet:?}: {told}, and {a:?} → {b:?}\n{edits:#?}"
        );
        for row in &rows {
            for (view, outcome) in [(&was, &row.old), (&is, &row.new)] {
                if !outcome.ways.is_empty() {
                    let told = outcome.ways.iter();
                    let told: BTreeSet<_> = told
                        .map(|way| (way.request.clone(), way.reply.clone()))
                        .collect();
                    assert_eq!(
                        told,
                        firewalls(view, row, &one),
                        "seed {seed}: {from:?} {packet:?}"
                    );
                    tally.ways += 1;
                }
            }
        }
        let Some(row) = rows.first().filter(|_| !states.is_empty()) else {
            continue;
        };
        // What fails is one outcome: there the sets are known from verdicts alone.
        let fails = |json: &Value| {
            let state = read(json).unwrap();
            rank(ask(&judged(&state.estate), &Walker::new(json))) == Some(0)
        };
        if row.class == Class::Lost {
            let sets = states.iter().filter(|(_, json)| fails(json));
            let sets = minimal(sets.map(|(set, _)| set.clone()).collect());
            assert_eq!(
                row.cause.sets, sets,
                "seed {seed}: cause of {from:?} {packet:?}\n{edits:#?}"
            );
            tally.causes += 1;
        }
        if row.class == Class::Opened {
            let gone = |set: &Vec<usize>| -> Vec<usize> {
                all.iter().copied().filter(|at| !set.contains(at)).collect()
            };
            let sets = states.iter().filter(|(_, json)| fails(json));
            let mut sets: Vec<Vec<usize>> = sets.map(|(set, _)| gone(set)).collect();
            sets.sort_by_key(Vec::len);
            let undo = minimal(sets).into_iter().next().unwrap_or_default();
            assert_eq!(
                row.cause.undo, undo,
                "seed {seed}: undo of {from:?} {packet:?}\n{edits:#?}"
            );
            tally.causes += 1;
        }
    }
}

#[test]
fn two_states_differ_as_walks_one_by_one_say() {
    let mut tally = Tally::default();
    for seed in 0..100 {
        hold(seed, &mut tally);
    }
    for class in ["opened", "lost", "became known", "fails otherwise"] {
        let count = tally.classes.get(class).copied().unwrap_or(0);
        assert!(count > 20, "{class}: {count} of {:?}", tally.classes);
    }
    assert!(tally.causes > 100, "{} causes", tally.causes);
    assert!(tally.ways > 100, "{} ways", tally.ways);
}

/// The same with the fields of every object the other way round.
fn turned_around(json: &Value) -> Value {
    match json {
        Value::Array(all) => all.iter().map(turned_around).collect(),
        Value::Object(fields) => {
            let fields = fields.iter().rev();
            let turned = fields.map(|(name, value)| (name.clone(), turned_around(value)));
            Value::Object(turned.collect())
        }
        other => other.clone(),
    }
}

#[test]
fn nothing_differs_from_itself_in_any_order_of_its_items() {
    for seed in 0..100 {
        let mut random = Rng::with_seed(seed);
        let json = estate(&mut random);
        let mut other = json.clone();
        for section in sections(&json) {
            let items = other[&section].as_array_mut().unwrap();
            // Records of one name are a list: their order has a meaning.
            if section != "public_names" {
                random.shuffle(items);
            }
        }
        let other = turned_around(&other);
        let (old, new) = (read(&json).unwrap(), read(&other).unwrap());
        let difference = Difference::of(&old, &new);
        let edits = difference.edits();
        assert!(edits.is_empty(), "seed {seed}: {edits:#?}");
        let (was, is) = (judged(&old.estate), judged(&new.estate));
        let found = compare((&was, &is), &difference, &judged);
        assert!(
            found.differences.is_empty(),
            "seed {seed}: {:#?}",
            found.differences[0]
        );
    }
}

/// All ids other ones, and whatever names them.
fn with_other_ids(random: &mut Rng, json: &Value) -> Value {
    let mut ids: BTreeSet<String> = BTreeSet::new();
    fn collect(value: &Value, ids: &mut BTreeSet<String>) {
        match value {
            Value::Array(all) => all.iter().for_each(|one| collect(one, ids)),
            Value::Object(fields) => {
                ids.extend(fields.get("id").and_then(Value::as_str).map(str::to_owned));
                fields.values().for_each(|one| collect(one, ids));
            }
            _ => {}
        }
    }
    collect(json, &mut ids);
    let part = random.bool();
    let chosen: BTreeSet<String> = ids.into_iter().filter(|_| !part || random.bool()).collect();
    fn renamed(value: &Value, ids: &BTreeSet<String>) -> Value {
        const PLAIN: [&str; 11] = [
            "only_tagged",
            "tag",
            "form",
            "kind",
            "action",
            "services",
            "tags",
            "lacks",
            "description",
            "zone",
            "zones",
        ];
        match value {
            Value::Array(all) => all.iter().map(|one| renamed(one, ids)).collect(),
            Value::Object(fields) => {
                let fields = fields.iter();
                let fields = fields.map(|(name, one)| {
                    let items = one
                        .as_array()
                        .is_some_and(|all| all.iter().any(Value::is_object));
                    let plain =
                        !items && (PLAIN.contains(&name.as_str()) || name.ends_with("_zones"));
                    (
                        name.clone(),
                        if plain {
                            one.clone()
                        } else {
                            renamed(one, ids)
                        },
                    )
                });
                Value::Object(fields.collect())
            }
            Value::String(text) => match text.split_once(':') {
                Some((kind, name)) if ids.contains(name) => format!("{kind}:{name}-too").into(),
                None if ids.contains(text) => format!("{text}-too").into(),
                _ => value.clone(),
            },
            other => other.clone(),
        }
    }
    renamed(json, &chosen)
}

#[test]
fn nothing_differs_where_only_names_do() {
    let mut alike = 0;
    for seed in 0..150 {
        let mut random = Rng::with_seed(seed);
        let json = estate(&mut random);
        let other = with_other_ids(&mut random, &json);
        let (Some(old), Some(new)) = (read(&json), read(&other)) else {
            continue;
        };
        let difference = Difference::of(&old, &new);
        let edits = difference.edits();
        assert!(edits.is_empty(), "seed {seed}: {edits:#?}");
        let Some((estate, count)) = difference.renamed() else {
            continue;
        };
        assert!(count > 0);
        let (was, is) = (judged(&estate), judged(&new.estate));
        let found = compare_all((&was, &is), &difference, &judged);
        assert!(
            found.differences.is_empty(),
            "seed {seed}: {:#?}",
            found.differences[0]
        );
        alike += 1;
    }
    assert!(alike > 100, "{alike} estates");
}

/// Some rules become as they are in another estate.
fn other_rules(random: &mut Rng, json: &mut Value, other: &Value) -> Option<()> {
    let section = pick(random, &["security_groups", "network_acls"]);
    let items = json[section].as_array_mut()?;
    let at = random.usize(0..items.len().max(1));
    let item = items.get_mut(at)?;
    let there = other[section].as_array()?;
    let there = there.iter().find(|one| one["id"] == item["id"])?;
    let list = pick(random, &["inbound", "outbound"]);
    item[list] = there.get(list)?.clone();
    Some(())
}

/// What is said of each start, class by class.
fn told(found: &Comparison) -> BTreeMap<(Class, heronshale_change::From), PacketSet> {
    let mut told = BTreeMap::new();
    for one in &found.differences {
        let packets = told
            .entry((one.class, one.from.clone()))
            .or_insert_with(PacketSet::empty);
        *packets = packets.union(&one.packets);
    }
    told
}

#[test]
fn what_edits_cannot_touch_need_not_be_walked() {
    let mut sliced = 0;
    for seed in 0..48 {
        let mut random = Rng::with_seed(seed);
        let (old, other) = (
            super::random_estate(&mut random),
            super::random_estate(&mut random),
        );
        let mut new = old.clone();
        for _ in 0..random.usize(1..4) {
            let mut tried = new.clone();
            if other_rules(&mut random, &mut tried, &other).is_some() && read(&tried).is_some() {
                new = tried;
            }
        }
        let (Some(before), Some(now)) = (read(&old), read(&new)) else {
            continue;
        };
        let difference = Difference::of(&before, &now);
        let (was, is) = (judged(&before.estate), judged(&now.estate));
        if difference.edits().is_empty() || touched((&was, &is), &difference.edits()).is_none() {
            continue;
        }
        let some = compare((&was, &is), &difference, &judged);
        let all = compare_all((&was, &is), &difference, &judged);
        assert!(told(&some) == told(&all), "seed {seed}");
        sliced += usize::from(!all.differences.is_empty());
    }
    assert!(sliced > 4, "{sliced} pairs");
}
