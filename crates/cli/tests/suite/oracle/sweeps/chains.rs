//! Chains of single walks.

use super::*;

/// Who reaches whom directly, machine by machine: `true` for what is certain.
pub(super) fn links(estate: &Estate, table: &Table) -> BTreeMap<(String, String), bool> {
    let mut links = BTreeMap::new();
    for (from, said) in &table.said {
        for one in said.iter().filter(|one| one.verdict <= Verdict::Unknown) {
            for end in &one.ends {
                let certain = one.verdict <= Verdict::Conditional;
                let pair = (machine(estate, from), machine(estate, end));
                if pair.0 != pair.1 {
                    *links.entry(pair).or_insert(false) |= certain;
                }
            }
        }
    }
    links
}

pub(super) fn goes_on(place: &str) -> bool {
    place != "internet"
        && !place.contains(':')
        && !place.starts_with("site ")
        && !place.starts_with("service ")
}

/// How many jumps away everything is, `without` left out on the way.
pub(super) fn distances(
    links: &BTreeMap<(String, String), bool>,
    from: &str,
    certain: bool,
    backwards: bool,
    without: Option<&str>,
) -> BTreeMap<String, u32> {
    let mut found: BTreeMap<String, u32> = BTreeMap::new();
    let mut open = vec![from.to_owned()];
    for jump in 1.. {
        let mut next = Vec::new();
        for place in &open {
            for ((a, b), sure) in links {
                let (here, there) = if backwards { (b, a) } else { (a, b) };
                let passable =
                    Some(there.as_str()) != without && there != from && (*sure || !certain);
                if here == place && passable && !found.contains_key(there) {
                    found.insert(there.clone(), jump);
                    if goes_on(there) {
                        next.push(there.clone());
                    }
                }
            }
        }
        if next.is_empty() {
            return found;
        }
        open = next;
    }
    found
}

/// What an answer says: jumps, certain or not, and by whom every chain goes.
pub(super) fn told(answer: &ReachAnswer) -> BTreeMap<(String, bool), (u32, BTreeSet<String>)> {
    let of = |place: &PlaceFact| match place.kind {
        PlaceKind::Internet => "internet".to_owned(),
        PlaceKind::Site => format!("site {}", place.name),
        PlaceKind::Service => format!("service {}", place.name),
        PlaceKind::Workload | PlaceKind::Gap => place.name.clone(),
    };
    answer
        .reached
        .iter()
        .map(|one| {
            (
                (of(&one.place), one.certain),
                (one.jumps, one.always_by.iter().map(of).collect()),
            )
        })
        .collect()
}

pub(super) fn plain(name: &str) -> String {
    name.strip_prefix("w ").unwrap_or(name).to_owned()
}

/// What is expected of `reach`, from the table of walks.
pub(super) fn expected(
    links: &BTreeMap<(String, String), bool>,
    from: &str,
    jumps: u32,
    backwards: bool,
) -> BTreeMap<(String, bool), (u32, BTreeSet<String>)> {
    let certain = distances(links, from, true, backwards, None);
    let possible = distances(links, from, false, backwards, None);
    let mut all = BTreeMap::new();
    for (place, jump) in &possible {
        let (jump, is_certain) = match certain.get(place) {
            // What is certain within the asked jumps goes before what is perhaps nearer.
            Some(sure) if *sure <= jumps => (*sure, true),
            _ => (*jump, false),
        };
        if jump > jumps {
            continue;
        }
        let guards = possible
            .keys()
            .filter(|guard| *guard != place && goes_on(guard));
        let needed = guards.filter(|guard| {
            !distances(links, from, false, backwards, Some(guard)).contains_key(place)
        });
        let guards = if jumps > 1 {
            needed.map(|guard| plain(guard)).collect()
        } else {
            BTreeSet::new()
        };
        all.insert((plain(place), is_certain), (jump, guards));
    }
    all
}

pub fn try_reach(seed: u64, limits: Limits) -> Result<usize, String> {
    let mut random = Rng::with_seed(seed);
    let mut json = estate(&mut random);
    if random.bool() {
        with_likenesses(&mut random, &mut json);
    }
    let built = load(&json);
    let view = Fabric::within(&built, limits);
    let asked: Service = ["tcp 443", "udp 53", "icmp", "tcp 80"][random.usize(0..4)]
        .parse()
        .unwrap();
    let table = table(&view, &asked);
    let links = links(&built, &table);
    let mut count = 0;
    for _ in 0..8 {
        let name = &table.starts[random.usize(0..table.starts.len())];
        let from = machine(&built, name);
        // A workload is asked as a whole.
        let end = match from.strip_prefix("w ") {
            Some(workload) => End::Workload(built.workloads.find(workload).unwrap()),
            None => End::parse(&view, &name.replacen("site ", "site:", 1)).unwrap(),
        };
        let (jumps, backwards) = (random.u32(1..5), random.bool());
        let (given, services) = ((&end, name.as_str()), [asked.clone()]);
        let question = ReachAsked {
            from: (!backwards).then_some(given),
            to: backwards.then_some(given),
            jumps,
            services: &services,
        };
        let answer = reach_answer(&view, &question).unwrap();
        let (found, wanted) = (told(&answer), expected(&links, &from, jumps, backwards));
        if found != wanted {
            let odd: Vec<_> = wanted
                .iter()
                .filter(|(place, what)| found.get(place) != Some(what))
                .collect();
            let more: Vec<_> = found
                .iter()
                .filter(|(place, what)| wanted.get(place) != Some(what))
                .collect();
            return Err(format!(
                "seed {seed}, {name} {asked:?} {jumps} jumps, backwards {backwards}: wanted {odd:?}, found {more:?}"
            ));
        }
        count += found.len();
    }
    Ok(count)
}
