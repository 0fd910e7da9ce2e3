//! A naive walker, written from the semantics alone: one packet and its reply, hop by hop, straight from the JSON of a
//! snapshot. Nature's choices, conditions and doubts are branches of a recursion.

use super::naive::{Decision, Evaluator, Packet, in_block, list, reply_to, text};
use serde_json::Value;
use std::net::IpAddr;

/// What becomes of a connection.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum V {
    Works,
    Some,
    Conditional,
    Unknown,
    Denied,
    Lost,
    ReplyDenied,
    ReplyLost,
}

/// Where a packet starts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum From {
    Interface(String),
    Internet,
    Site(String),
}

/// What began the present header, to be undone by the reply.
#[derive(Clone, Debug)]
struct Frame {
    device: String,
    before: Packet,
    source_changed: bool,
    /// What was met before, by name.
    crossed: Vec<(String, Vec<&'static str>)>,
    seen: Vec<String>,
    entry: Option<String>,
    extra: Option<String>,
}

/// One packet on its way.
#[derive(Clone, Debug)]
struct State {
    /// As it is now; on the way back too.
    now: Packet,
    reply: bool,
    from: From,
    name: Option<String>,
    frames: Vec<Frame>,
    /// Interfaces whose stages the request passed with this header, and the stages that keep no state.
    crossed: Vec<(String, Vec<&'static str>)>,
    /// Firewalls that saw this header; and those that the reply passed.
    seen: Vec<String>,
    passed: Vec<String>,
    bypassed: bool,
    visited: Vec<(String, Packet)>,
    assumed: Vec<(String, bool)>,
    lent_by: Option<String>,
    /// Of a proxy's second connection: what comes after it.
    outer: Option<Box<(State, String)>>,
    depth: u32,
    /// The balancer's back end that was chosen as next hop.
    picked: Vec<(String, String)>,
    no_acl: bool,
}

pub struct Walker<'j> {
    json: &'j Value,
    naive: Evaluator<'j>,
}

fn yes(value: &Value, key: &str) -> bool {
    value.get(key) == Some(&Value::Bool(true))
}

fn no(value: &Value, key: &str) -> bool {
    value.get(key) == Some(&Value::Bool(false))
}

fn address(value: &Value, key: &str) -> Option<IpAddr> {
    text(value, key).map(|text| text.parse().unwrap())
}

fn length(block: &str) -> u32 {
    let whole = if block.contains(':') { 128 } else { 32 };
    block
        .split_once('/')
        .map_or(whole, |(_, length)| length.parse().unwrap())
}

fn in_any(address: IpAddr, blocks: &[Value]) -> bool {
    blocks
        .iter()
        .any(|block| in_block(address, block.as_str().unwrap()))
}

fn ports(text: &str) -> std::ops::RangeInclusive<u16> {
    let (first, last) = text.split_once('-').unwrap_or((text, text));
    first.parse().unwrap()..=last.parse().unwrap()
}

/// What becomes of a connection in one completion of the snapshot: how it fares, on what that turns, and how.
#[derive(Clone, Debug)]
struct A(V, Vec<String>, Option<String>);

/// How it turns is of no account.
impl PartialEq for A {
    fn eq(&self, other: &Self) -> bool {
        (self.0, &self.1) == (other.0, &other.1)
    }
}

impl A {
    const WORKS: Self = Self(V::Works, Vec::new(), None);
    const SOME: Self = Self(V::Some, Vec::new(), None);
    const UNKNOWN: Self = Self(V::Unknown, Vec::new(), None);
    const DENIED: Self = Self(V::Denied, Vec::new(), None);
    const LOST: Self = Self(V::Lost, Vec::new(), None);
    const REPLY_DENIED: Self = Self(V::ReplyDenied, Vec::new(), None);
    const REPLY_LOST: Self = Self(V::ReplyLost, Vec::new(), None);

    fn works(&self) -> bool {
        matches!(self.0, V::Works | V::Some)
    }

    fn shape(&self) -> String {
        self.2.clone().unwrap_or_else(|| format!("{:?}", self.0))
    }
}

/// Over all of nature's choices.
fn nature(mut all: Vec<A>) -> A {
    // Branches that are equal count once.
    all.dedup();
    if all.len() == 1 {
        return all.remove(0);
    }
    if all.iter().any(A::works) {
        return A::SOME;
    }
    let of = |verdict: V| all.iter().find(|one| one.0 == verdict);
    of(V::Unknown)
        .or(of(V::Conditional))
        .unwrap_or(&all[0])
        .clone()
}

/// Over all completions of the snapshot: what is the same in all of them is certain, and so is what works for somebody in all of them.
fn completed(mut all: Vec<A>) -> V {
    all.sort_by_key(|one| (one.0, one.1.clone()));
    all.dedup();
    match all.as_slice() {
        [only] => only.0,
        several if several.iter().all(A::works) => V::Some,
        _ => V::Unknown,
    }
}

/// On a condition.
fn turned(condition: &str, yes: A, no: A) -> A {
    // Nothing turns on it if it is the same either way.
    if yes == no && yes.shape() == no.shape() {
        return no;
    }
    let shape = Some(format!("({condition}? {} : {})", yes.shape(), no.shape()));
    match (yes.0, no.0) {
        (V::Works, V::Works) => no,
        (V::Unknown, _) | (_, V::Unknown) => A::UNKNOWN,
        _ if yes.works() && no.works() => A::SOME,
        _ if yes.works() || no.works() || yes.0 == V::Conditional || no.0 == V::Conditional => {
            let mut on: Vec<String> = [condition.to_owned()]
                .into_iter()
                .chain(yes.1)
                .chain(no.1)
                .collect();
            on.sort();
            on.dedup();
            A(V::Conditional, on, shape)
        }
        _ => no,
    }
}

/// A next hop that is really there.
type Hop = String;

impl<'j> Walker<'j> {
    pub fn new(json: &'j Value) -> Self {
        Self {
            json,
            naive: Evaluator::new(json),
        }
    }

    fn all(&self, section: &str) -> &'j [Value] {
        list(self.json, section)
    }

    fn get(&self, section: &str, id: &str) -> &'j Value {
        self.naive
            .find(section, id)
            .unwrap_or_else(|| panic!("{section} {id}"))
    }

    fn word(&self, network: &str, name: &str, default: &'static str) -> &'j str {
        self.naive.word(network, name, default)
    }

    fn estate_word(&self, name: &str, default: &'static str) -> &'j str {
        self.json["estate"]
            .get("settings")
            .and_then(|s| text(s, name))
            .unwrap_or(default)
    }

    fn subnet_of(&self, interface: &str) -> &'j str {
        text(self.naive.interface(interface), "subnet").unwrap()
    }

    fn net(&self, subnet: &str) -> &'j str {
        text(self.get("subnets", subnet), "network").unwrap()
    }

    fn blocks(&self, network: &str) -> &'j [Value] {
        list(self.get("networks", network), "blocks")
    }

    /// The whole verdict on a request, over all client ports.
    pub fn verdict(&self, from: &From, packet: Packet, name: Option<&str>, clients: &str) -> V {
        completed(self.completions(from, packet, name, clients))
    }

    /// Whether it works for somebody in some completion.
    pub fn may_work(&self, from: &From, packet: Packet, name: Option<&str>, clients: &str) -> bool {
        self.completions(from, packet, name, clients)
            .iter()
            .any(|one| one.0 <= V::Unknown)
    }

    fn completions(
        &self,
        from: &From,
        packet: Packet,
        name: Option<&str>,
        clients: &str,
    ) -> Vec<A> {
        let one = |source_port: u16| {
            let now = Packet {
                source_port,
                ..packet
            };
            self.connection(State {
                now,
                reply: false,
                from: from.clone(),
                name: name.map(str::to_owned),
                frames: Vec::new(),
                crossed: Vec::new(),
                seen: Vec::new(),
                passed: Vec::new(),
                bypassed: false,
                visited: Vec::new(),
                assumed: Vec::new(),
                lent_by: None,
                outer: None,
                depth: 0,
                picked: Vec::new(),
                no_acl: false,
            })
        };
        let ported = matches!(packet.protocol, 6 | 17 | 132);
        let all = || {
            if ported {
                nature(ports(clients).map(one).collect())
            } else {
                one(0)
            }
        };
        self.naive.possibilities(all)
    }

    fn connection(&self, state: State) -> A {
        match state.from.clone() {
            From::Internet => self.on_internet(state),
            From::Site(site) => self.leave_site(state, &site),
            From::Interface(id) => {
                if self
                    .naive
                    .holds(self.naive.interface(&id), state.now.destination)
                {
                    return self.finished(state);
                }
                if self.is_platform(&state.now) {
                    return self.finished(state);
                }
                if self.door_of(&id).is_some() {
                    return A::LOST;
                }
                self.depart(state, &id)
            }
        }
    }

    fn is_platform(&self, packet: &Packet) -> bool {
        list(&self.json["estate"], "platform_traffic")
            .iter()
            .any(|traffic| {
                let services = list(traffic, "services");
                in_any(packet.destination, list(traffic, "addresses"))
                    && (services.is_empty()
                        || services
                            .iter()
                            .any(|s| Evaluator::service_matches(s.as_str().unwrap(), packet)))
            })
    }

    fn failed(&self, state: &State, denied: bool) -> A {
        match (state.reply, denied) {
            (false, true) => A::DENIED,
            (false, false) => A::LOST,
            (true, true) => A::REPLY_DENIED,
            (true, false) => A::REPLY_LOST,
        }
    }

    fn lost(&self, state: &State) -> A {
        self.failed(state, false)
    }

    /// The connection worked, there and back.
    fn finished(&self, state: State) -> A {
        match state.outer {
            None => A::WORKS,
            // The proxy's own connection works: now the reply of the first.
            Some(outer) => {
                let (mut first, interface) = *outer;
                first.assumed = state.assumed;
                let Some(reply) = reply_to(&first.now) else {
                    return A::WORKS;
                };
                first.now = reply;
                first.reply = true;
                self.depart(first, &interface)
            }
        }
    }

    // ---- stages ----

    fn known(&self, state: &State, interface: &str) -> Option<Vec<&'static str>> {
        let all: Vec<&Vec<&'static str>> = self
            .with_this_header(state, &state.crossed, |frame| &frame.crossed)
            .into_iter()
            .filter(|(id, _)| id == interface)
            .map(|(_, not_kept)| not_kept)
            .collect();
        let first = all.first()?;
        Some(
            first
                .iter()
                .copied()
                .filter(|stage| all.iter().all(|other| other.contains(stage)))
                .collect(),
        )
    }

    /// What the request met with the header of this reply: devices that changed nothing do not end it.
    fn with_this_header<'s, T>(
        &self,
        state: &'s State,
        now: &'s [T],
        of: impl Fn(&'s Frame) -> &'s Vec<T>,
    ) -> Vec<&'s T> {
        let same = |frame: &&Frame| reply_to(&frame.before) == Some(state.now);
        let before = state
            .frames
            .iter()
            .rev()
            .take_while(same)
            .flat_map(|frame| of(frame).iter());
        now.iter().chain(before).collect()
    }

    /// The stages of an interface; `next` goes on with those that keep no state.
    fn stages(&self, state: &State, id: &str, way: &str, next: &dyn Fn(State) -> A) -> A {
        let known = if state.reply {
            self.known(state, id)
        } else {
            None
        };
        let stages = match &known {
            Some(not_kept) if not_kept.is_empty() => Vec::new(),
            Some(not_kept) => {
                let mut all =
                    self.naive
                        .own_stages(id, &state.now, way, not_kept.contains(&"policies"));
                all.retain(|d| not_kept.contains(&d.stage));
                all
            }
            None => self.naive.own_stages(id, &state.now, way, true),
        };
        if stages.iter().any(|d: &Decision| !d.goes_on) {
            return self.failed(state, true);
        }
        let mut on = state.clone();
        if !state.reply {
            on.crossed.push((
                id.to_owned(),
                stages
                    .iter()
                    .filter(|d| !d.keeps_state)
                    .map(|d| d.stage)
                    .collect(),
            ));
        }
        next(on)
    }

    fn acl(&self, state: State, subnet: Option<&str>, way: &str, next: &dyn Fn(State) -> A) -> A {
        let passes = subnet
            .is_none_or(|subnet| self.naive.acl(self.get("subnets", subnet), &state.now, way));
        if passes {
            next(state)
        } else {
            self.failed(&state, true)
        }
    }

    fn depart(&self, mut state: State, id: &str) -> A {
        state.lent_by = None;
        let subnet = self.subnet_of(id);
        self.stages(&state, id, "out", &|state| {
            self.route(state, self.net(subnet), Some(subnet), Some(id), None)
        })
    }

    // ---- routes ----

    fn peerings(&self) -> impl Iterator<Item = &'j Value> {
        self.all("peerings")
            .iter()
            .filter(|peering| list(peering, "sides").iter().all(|side| !no(side, "up")))
    }

    fn side<'p>(&self, peering: &'p Value, network: &str) -> Option<&'p Value> {
        list(peering, "sides")
            .iter()
            .find(|side| text(side, "network") == Some(network))
    }

    fn other<'p>(&self, peering: &'p Value, network: &str) -> Option<&'p str> {
        self.side(peering, network)?;
        list(peering, "sides")
            .iter()
            .filter_map(|side| text(side, "network"))
            .find(|other| *other != network)
    }

    fn peered(&self, a: &str, b: &str) -> Option<&'j Value> {
        self.peerings()
            .find(|peering| self.other(peering, a) == Some(b))
    }

    fn lent(&self, peering: &Value, user: &str) -> Vec<&'j Value> {
        let Some(lender) = self.other(peering, user) else {
            return Vec::new();
        };
        let fits = yes(self.side(peering, user).unwrap(), "use_gateways")
            && yes(self.side(peering, lender).unwrap(), "lend_gateways");
        if fits {
            self.site_gateways(lender)
        } else {
            Vec::new()
        }
    }

    fn site_gateways(&self, network: &str) -> Vec<&'j Value> {
        let fits = |g: &&Value| {
            text(g, "kind") == Some("site") && text(g, "network") == Some(network) && !no(g, "up")
        };
        self.all("gateways").iter().filter(fits).collect()
    }

    fn announces(&self, site: &str) -> &'j [Value] {
        let site = self.get("sites", site);
        list(
            site,
            if site.get("announces").is_some() {
                "announces"
            } else {
                "holds"
            },
        )
    }

    /// Every route that wins at a place for a destination: rank (lowest wins), hop.
    fn winners(
        &self,
        network: &str,
        subnet: Option<&str>,
        sender: Option<&str>,
        table: Option<&str>,
        source: IpAddr,
        to: IpAddr,
    ) -> Vec<Hop> {
        let fixed = self.word(network, "automatic_routes", "overridable") == "fixed";
        let mut all: Vec<((bool, u32, u8, u64), Hop)> = Vec::new();
        let mut add = |blocks: &[Value], kind: u8, metric: u64, hop: &str| {
            for block in blocks
                .iter()
                .map(|block| block.as_str().unwrap())
                .filter(|block| in_block(to, block))
            {
                all.push((
                    (!(fixed && kind == 1), 128 - length(block), kind, metric),
                    hop.to_owned(),
                ));
            }
        };
        add(self.blocks(network), 1, 0, "local");
        let mut near = vec![network];
        for peering in self.peerings() {
            let Some(other) = self.other(peering, network) else {
                continue;
            };
            near.push(other);
            if text(self.side(peering, network).unwrap(), "peer_routes") != Some("written") {
                match self.naive.find("networks", other) {
                    Some(_) => add(
                        self.blocks(other),
                        1,
                        0,
                        &format!("peering:{}", text(peering, "id").unwrap()),
                    ),
                    None => {
                        let gap = self
                            .all("gaps")
                            .iter()
                            .find(|gap| text(gap, "object") == Some(&format!("network:{other}")));
                        add(gap.map_or(&[], |gap| list(gap, "blocks")), 1, 0, "unknown");
                    }
                }
            }
            for gateway in self.lent(peering, network) {
                let announced = self.announces(text(gateway, "site").unwrap());
                add(
                    announced,
                    3,
                    0,
                    &format!("gateway:{}", text(gateway, "id").unwrap()),
                );
            }
        }
        for service in self.all("services") {
            for door in list(service, "private_doors")
                .iter()
                .map(|door| door.as_str().unwrap())
            {
                let home = self.net(self.subnet_of(door));
                if near.contains(&home) && self.word(home, "door_route", "none") == "automatic" {
                    add(
                        list(self.naive.interface(door), "addresses"),
                        3,
                        0,
                        &format!("door:{door}"),
                    );
                }
            }
        }
        if let Some(table) = table {
            let Some(table) = self.naive.find("route_tables", table) else {
                // What the network and its peerings bring of themselves beats whatever the table says, if that is the setting.
                all.retain(|((later, ..), _)| !later);
                let best = all.iter().map(|(rank, _)| *rank).min();
                let mut hops: Vec<Hop> = all
                    .into_iter()
                    .filter(|(rank, _)| Some(*rank) == best)
                    .map(|(_, hop)| hop)
                    .collect();
                hops.dedup();
                return if hops.is_empty() {
                    vec!["unknown".to_owned()]
                } else {
                    hops
                };
            };
            for route in list(table, "routes")
                .iter()
                .filter(|route| !no(route, "enabled"))
            {
                if let Some(tags) = route.get("only_tagged").and_then(Value::as_object) {
                    let fits = |id: &str| {
                        tags.iter().all(|(k, v)| {
                            self.naive
                                .has_tag(self.naive.interface(id), k, v.as_str().unwrap())
                        })
                    };
                    if !sender.is_some_and(fits) {
                        continue;
                    }
                }
                if route.get("only_from").is_some() && !in_any(source, list(route, "only_from")) {
                    continue;
                }
                let hop = self.resolved(network, subnet, text(route, "next_hop").unwrap());
                if hop == "dead" && self.word(network, "missing_next_hop", "lost") == "skipped" {
                    continue;
                }
                let kind = if text(route, "kind") == Some("propagated") {
                    2
                } else {
                    0
                };
                add(
                    list(route, "to"),
                    kind,
                    route["metric"].as_u64().unwrap_or(0),
                    &hop,
                );
            }
            if yes(table, "accepts_propagation") {
                for gateway in self.site_gateways(network) {
                    let announced = self.announces(text(gateway, "site").unwrap());
                    add(
                        announced,
                        2,
                        0,
                        &format!("gateway:{}", text(gateway, "id").unwrap()),
                    );
                }
                for hub in self.all("hubs") {
                    let Some(link) = self.link(hub, &format!("network:{network}")) else {
                        continue;
                    };
                    let Some(domain) = text(link, "reads") else {
                        continue;
                    };
                    let (hub_id, link_id) = (text(hub, "id").unwrap(), text(link, "id").unwrap());
                    for (block, metric, hop) in self.domain(hub, domain) {
                        let ours = self
                            .blocks(network)
                            .iter()
                            .any(|own| inside(&block, own.as_str().unwrap()));
                        let default = length(&block) == 0 && !yes(link, "offers_default");
                        if ours || default || hop == link_id || hop == "blackhole" || hop == "dead"
                        {
                            continue;
                        }
                        add(
                            &[block.as_str().into()],
                            2,
                            metric,
                            &format!("hub:{hub_id}"),
                        );
                    }
                }
            }
        }
        let best = all.iter().map(|(rank, _)| *rank).min();
        let mut hops: Vec<Hop> = Vec::new();
        for (_, hop) in all.into_iter().filter(|(rank, _)| Some(*rank) == best) {
            if !hops.contains(&hop) {
                hops.push(hop);
            }
        }
        if self.word(network, "equal_routes", "all") == "first" {
            hops.truncate(1);
        }
        if hops.is_empty()
            && to.is_ipv4()
            && let Some(subnet) = subnet
        {
            let serves = |g: &&Value| list(g, "serves").iter().any(|s| s.as_str() == Some(subnet));
            if let Some(nat) = self.all("gateways").iter().find(serves) {
                hops.push(format!("gateway:{}", text(nat, "id").unwrap()));
            } else if yes(self.get("subnets", subnet), "default_outbound") {
                hops.push("shared".to_owned());
            }
        }
        hops
    }

    /// A domain's routes: block, metric, the link by which they lead; static ones are marked by rank in [`Self::hub`].
    fn domain(&self, hub: &'j Value, domain: &str) -> Vec<(String, u64, String)> {
        self.domain_ranked(hub, domain)
            .into_iter()
            .map(|(block, _, metric, hop)| (block, metric, hop))
            .collect()
    }

    fn domain_ranked(&self, hub: &'j Value, domain: &str) -> Vec<(String, u8, u64, String)> {
        let mut all = Vec::new();
        let item = list(hub, "domains")
            .iter()
            .find(|item| text(item, "id") == Some(domain))
            .unwrap();
        for route in list(item, "routes")
            .iter()
            .filter(|route| !no(route, "enabled"))
        {
            let hop = text(route, "next_hop").unwrap();
            let up = |id: &str| {
                list(hub, "links")
                    .iter()
                    .any(|l| text(l, "id") == Some(id) && !no(l, "up"))
            };
            let hop = match hop.strip_prefix("link:") {
                None => "blackhole",
                Some(link) if up(link) => link,
                Some(_) => "dead",
            };
            if hop == "dead" && self.estate_word("missing_next_hop", "lost") == "skipped" {
                continue;
            }
            for block in list(route, "to") {
                let metric = route["metric"].as_u64().unwrap_or(0);
                all.push((
                    block.as_str().unwrap().to_owned(),
                    0,
                    metric,
                    hop.to_owned(),
                ));
            }
        }
        for link in list(hub, "links").iter().filter(|link| !no(link, "up")) {
            if list(link, "announces_into")
                .iter()
                .any(|into| into.as_str() == Some(domain))
            {
                let (kind, name) = text(link, "to").unwrap().split_once(':').unwrap();
                let blocks = match (link.get("announces"), kind) {
                    (Some(_), _) => list(link, "announces"),
                    (None, "network") => self
                        .naive
                        .find("networks", name)
                        .map_or(&[][..], |n| list(n, "blocks")),
                    (None, "site") => self.announces(name),
                    _ => &[],
                };
                let id = text(link, "id").unwrap();
                all.extend(
                    blocks
                        .iter()
                        .map(|b| (b.as_str().unwrap().to_owned(), 2, 0, id.to_owned())),
                );
            }
        }
        all
    }

    fn link(&self, hub: &'j Value, to: &str) -> Option<&'j Value> {
        list(hub, "links")
            .iter()
            .find(|link| text(link, "to") == Some(to) && !no(link, "up"))
    }

    /// What a written next hop leads to; `dead` if it does not exist, is down or not attached.
    fn resolved(&self, network: &str, subnet: Option<&str>, hop: &str) -> Hop {
        let near = |interface: &str| {
            let home = self.net(self.subnet_of(interface));
            home == network || self.peered(network, home).is_some()
        };
        let dead = || "dead".to_owned();
        let Some((kind, id)) = hop
            .split_once(':')
            .filter(|(kind, _)| kind.len() > 4 || *kind == "hub")
        else {
            if let Ok(address) = hop.parse::<IpAddr>() {
                let mut all: Vec<&str> = self
                    .all("interfaces")
                    .iter()
                    .filter(|i| self.naive.holds(i, address))
                    .filter_map(|i| text(i, "id"))
                    .filter(|id| near(id))
                    .collect();
                all.sort_by_key(|id| self.net(self.subnet_of(id)) != network);
                if let Some(id) = all.first() {
                    return format!("interface:{id}");
                }
                let mut gateways = self.all("gateways").iter();
                let nat = gateways.find(|g| {
                    text(g, "network") == Some(network)
                        && self::address(g, "address") == Some(address)
                });
                return nat
                    .map_or_else(dead, |nat| format!("gateway:{}", text(nat, "id").unwrap()));
            }
            return hop.to_owned();
        };
        let there = match kind {
            "gateway" => self.naive.find("gateways", id).is_some_and(|gateway| {
                let own = text(gateway, "network") == Some(network);
                let lent = || {
                    self.peerings().any(|p| {
                        self.lent(p, network)
                            .iter()
                            .any(|g| text(g, "id") == Some(id))
                    })
                };
                !no(gateway, "attached") && !no(gateway, "up") && (own || lent())
            }),
            "interface" => near(id),
            "peering" => self
                .peerings()
                .any(|p| text(p, "id") == Some(id) && self.side(p, network).is_some()),
            "firewall" => {
                let members = list(self.get("firewalls", id), "members");
                if !members.is_empty() && members.iter().all(|member| no(member, "up")) {
                    return dead();
                }
                let legs = list(self.get("firewalls", id), "interfaces");
                let mut all: Vec<&str> = legs
                    .iter()
                    .map(|leg| text(leg, "interface").unwrap())
                    .filter(|i| near(i))
                    .collect();
                all.sort_by_key(|i| {
                    (
                        Some(self.subnet_of(i)) != subnet,
                        self.net(self.subnet_of(i)) != network,
                    )
                });
                return all
                    .first()
                    .map_or_else(dead, |id| format!("interface:{id}"));
            }
            "hub" => self
                .link(self.get("hubs", id), &format!("network:{network}"))
                .is_some(),
            "balancer" => {
                let home = text(self.get("balancers", id), "network").unwrap();
                home == network || self.peered(network, home).is_some()
            }
            _ => true,
        };
        if there { hop.to_owned() } else { dead() }
    }

    /// Routed at a place. `table`: of a gateway or a link without a subnet, else the subnet's.
    fn route(
        &self,
        mut state: State,
        network: &str,
        subnet: Option<&str>,
        sender: Option<&str>,
        table: Option<&str>,
    ) -> A {
        if state.reply
            && state
                .frames
                .last()
                .is_some_and(|frame| frame.device == "platform")
        {
            return self.undo(state, None);
        }
        let place = format!("{network} {subnet:?} {sender:?} {table:?}");
        let visit = (format!("{place} {}", state.reply), state.now);
        if state.visited.contains(&visit) {
            return self.lost(&state);
        }
        state.visited.push(visit);
        let to = state.now.destination;
        if let Some(subnet) = subnet
            && self.word(network, "same_subnet", "direct") == "direct"
            && in_any(to, list(self.get("subnets", subnet), "blocks"))
        {
            // What stands elsewhere is past the ACL, if without a route.
            let place = self.place_of(network, to).unwrap_or(Some(subnet));
            let beside = place.filter(|place| *place == subnet);
            return self.leave(state, Some(subnet), beside, &|state| {
                self.deliver(state, network, beside)
            });
        }
        let own = subnet.and_then(|subnet| {
            text(self.get("subnets", subnet), "route_table")
                .or(text(self.get("networks", network), "main_table"))
        });
        let hops = self.winners(network, subnet, sender, own.or(table), state.now.source, to);
        if hops.is_empty() {
            return self.lost(&state);
        }
        nature(
            hops.iter()
                .flat_map(|hop| self.by_hop(state.clone(), network, subnet, hop))
                .collect(),
        )
    }

    /// In which subnet a balancer or NAT gateway of a network stands that holds an address, none for one outside of all.
    fn place_of(&self, network: &str, to: IpAddr) -> Option<Option<&'j str>> {
        let own = |item: &&'j Value| text(item, "network") == Some(network);
        let mut held = self
            .all("interfaces")
            .iter()
            .filter(|i| self.naive.network_of(i) == network);
        if held.any(|interface| self.naive.holds(interface, to)) {
            return None;
        }
        let fronts = |b: &Value| {
            list(b, "front_ends")
                .iter()
                .any(|f| address(f, "address") == Some(to) && !yes(f, "public"))
        };
        if let Some(balancer) = self.all("balancers").iter().filter(own).find(|b| fronts(b)) {
            return Some(self.home_of(balancer));
        }
        let nat = self
            .all("gateways")
            .iter()
            .filter(own)
            .find(|g| address(g, "address") == Some(to))?;
        Some(text(nat, "subnet"))
    }

    /// The subnet of a balancer: a proxy's is that of its interfaces, if it is one.
    fn home_of(&self, balancer: &'j Value) -> Option<&'j str> {
        let mut subnets: Vec<&str> = list(balancer, "interfaces")
            .iter()
            .map(|i| self.subnet_of(i.as_str().unwrap()))
            .collect();
        subnets.dedup();
        text(balancer, "subnet").or(if subnets.len() == 1 {
            Some(subnets[0])
        } else {
            None
        })
    }

    /// Leaves a subnet for another place.
    fn leave(
        &self,
        mut state: State,
        subnet: Option<&str>,
        next: Option<&str>,
        go: &dyn Fn(State) -> A,
    ) -> A {
        let free = std::mem::take(&mut state.no_acl);
        let subnet = subnet.filter(|subnet| Some(*subnet) != next && !free);
        self.acl(state, subnet, "out", go)
    }

    fn by_hop(&self, state: State, network: &str, subnet: Option<&str>, hop: &str) -> Vec<A> {
        let (kind, id) = hop.split_once(':').unwrap_or((hop, ""));
        let one = match kind {
            "blackhole" | "dead" => self.lost(&state),
            "unknown" => A::UNKNOWN,
            "local" => {
                let beside = subnet.filter(|subnet| {
                    let place = self.place_of(network, state.now.destination);
                    let mut all = self.all("interfaces").iter();
                    all.any(|i| {
                        text(i, "subnet") == Some(subnet)
                            && self.naive.holds(i, state.now.destination)
                    }) || place == Some(Some(*subnet))
                });
                self.leave(state, subnet, beside, &|state| {
                    self.deliver(state, network, beside)
                })
            }
            "interface" | "door" => {
                let to = self.subnet_of(id);
                let home = self.net(to);
                self.leave(state, subnet, Some(to), &|state| {
                    self.across(state, network, home, &|state| {
                        self.hand_over(state, id, subnet.filter(|s| *s == to))
                    })
                })
            }
            "peering" => {
                let peering = self.get("peerings", id);
                let other = self.other(peering, network).unwrap();
                if self.naive.find("networks", other).is_none() {
                    return vec![self.leave(state, subnet, None, &|_| A::UNKNOWN)];
                }
                self.leave(state, subnet, None, &|state| {
                    self.across(state, network, other, &|state| {
                        self.deliver(state, other, None)
                    })
                })
            }
            "gateway" => {
                let gateway = self.get("gateways", id);
                let next = text(gateway, "subnet");
                self.leave(state, subnet, next, &|state| {
                    self.at_gateway(state, gateway, network, subnet)
                })
            }
            "shared" => self.leave(state, subnet, None, &|state| {
                self.shared(state, network, subnet)
            }),
            "hub" => {
                let hub = self.get("hubs", id);
                let link = self.link(hub, &format!("network:{network}")).unwrap();
                let next = text(link, "subnet");
                self.leave(state, subnet, next, &|state| {
                    self.acl(
                        state,
                        next.filter(|next| Some(*next) != subnet),
                        "in",
                        &|state| self.hub(state, hub, link, true),
                    )
                })
            }
            "service" => self.leave(state, subnet, None, &|mut state| {
                let service = self.get("services", id);
                if state.reply {
                    return self.lost(&state);
                }
                if !in_any(
                    state.now.destination,
                    list(&service["public_door"], "addresses"),
                ) {
                    return self.lost(&state);
                }
                self.push(
                    &mut state,
                    "platform",
                    None,
                    Some(format!("outside:{network}")),
                );
                self.public_door(state, service)
            }),
            "balancer" => {
                let balancer = self.get("balancers", id);
                let mut all = Vec::new();
                let before = state
                    .picked
                    .iter()
                    .find(|(b, _)| b == id)
                    .map(|(_, i)| i.clone());
                for end in self.back_ends(balancer) {
                    let Some(interface) = text(end, "interface") else {
                        continue;
                    };
                    if yes(balancer, "symmetric")
                        && state.reply
                        && before.as_deref().is_some_and(|b| b != interface)
                    {
                        continue;
                    }
                    let mut state = state.clone();
                    if !state.reply {
                        state.picked.push((id.to_owned(), interface.to_owned()));
                    }
                    let to = self.subnet_of(interface);
                    let home = self.net(to);
                    all.push(self.leave(state, subnet, Some(to), &|state| {
                        self.across(state, network, home, &|state| {
                            self.hand_over(state, interface, subnet.filter(|s| *s == to))
                        })
                    }));
                }
                return if all.is_empty() {
                    vec![self.lost(&state)]
                } else {
                    all
                };
            }
            other => panic!("{other}"),
        };
        vec![one]
    }

    fn across(&self, mut state: State, from: &str, to: &str, go: &dyn Fn(State) -> A) -> A {
        if from == to {
            return go(state);
        }
        let peering = self.peered(from, to).unwrap();
        let lent = state.lent_by.take().is_some_and(|gateway| {
            self.lent(peering, to)
                .iter()
                .any(|g| text(g, "id") == Some(&gateway))
        });
        let accepts = yes(self.side(peering, to).unwrap(), "accept_forwarded");
        if !lent && !accepts && !in_any(state.now.source, self.blocks(from)) {
            return self.lost(&state);
        }
        go(state)
    }

    // ---- arriving ----

    fn deliver(&self, state: State, network: &str, from: Option<&str>) -> A {
        let to = state.now.destination;
        for interface in self.all("interfaces") {
            if self.naive.network_of(interface) == network && self.naive.holds(interface, to) {
                return self.hand_over(state, text(interface, "id").unwrap(), from);
            }
        }
        for balancer in self
            .all("balancers")
            .iter()
            .filter(|b| text(b, "network") == Some(network))
        {
            let front = list(balancer, "front_ends")
                .iter()
                .any(|f| address(f, "address") == Some(to) && !yes(f, "public"));
            if front {
                return self.at_balancer(state, balancer, from);
            }
        }
        for gateway in self
            .all("gateways")
            .iter()
            .filter(|g| text(g, "network") == Some(network))
        {
            if address(gateway, "address") == Some(to) {
                let subnet = text(gateway, "subnet").filter(|subnet| from != Some(*subnet));
                return self.acl(state, subnet, "in", &|state| {
                    self.to_device(state, text(gateway, "id").unwrap(), None)
                });
            }
        }
        let lacks = |object: String| {
            self.all("gaps").iter().any(|gap| {
                text(gap, "object") == Some(&object) && text(gap, "lacks") == Some("interfaces")
            })
        };
        if lacks(format!("network:{network}")) && in_any(to, self.blocks(network)) {
            return A::UNKNOWN;
        }
        self.lost(&state)
    }

    fn door_of(&self, interface: &str) -> Option<&'j Value> {
        self.all("services").iter().find(|s| {
            list(s, "private_doors")
                .iter()
                .any(|d| d.as_str() == Some(interface))
        })
    }

    fn firewall_of(&self, interface: &str) -> Option<&'j Value> {
        self.all("firewalls").iter().find(|f| {
            list(f, "interfaces")
                .iter()
                .any(|leg| text(leg, "interface") == Some(interface))
        })
    }

    fn proxy_of(&self, interface: &str) -> Option<&'j Value> {
        self.all("balancers").iter().find(|b| {
            list(b, "interfaces")
                .iter()
                .any(|i| i.as_str() == Some(interface))
        })
    }

    /// Packets come to an interface, their destination or not.
    fn hand_over(&self, state: State, id: &str, from: Option<&str>) -> A {
        let interface = self.naive.interface(id);
        let own = self.naive.holds(interface, state.now.destination);
        if let Some(service) = self.door_of(id).filter(|_| own) {
            return self.private_door(state, service, id, from);
        }
        let visit = (format!("handed {id} {}", state.reply), state.now);
        let again = !own && state.visited.contains(&visit);
        let mut state = state;
        if !own {
            state.visited.push(visit);
        }
        self.enter(state, id, from, &|state| {
            if !own && !yes(interface, "forwards") {
                return self.lost(&state);
            }
            if again {
                return self.lost(&state);
            }
            if let Some(firewall) = self.firewall_of(id) {
                return self.firewall(state, firewall, Some(id), None);
            }
            if !own {
                if self.door_of(id).is_some() || self.proxy_of(id).is_some() {
                    return self.lost(&state);
                }
                return self.depart(state, id);
            }
            if state.reply {
                return self.home(state, id);
            }
            if let Some(proxy) = self.proxy_of(id) {
                return self.proxy(state, proxy, id);
            }
            self.answer(state, id)
        })
    }

    fn enter(&self, state: State, id: &str, from: Option<&str>, go: &dyn Fn(State) -> A) -> A {
        let subnet = Some(self.subnet_of(id)).filter(|subnet| from != Some(*subnet));
        self.acl(state, subnet, "in", &|state| {
            self.stages(&state, id, "in", go)
        })
    }

    /// The request is at its end.
    fn answer(&self, mut state: State, id: &str) -> A {
        let Some(reply) = reply_to(&state.now) else {
            return A::WORKS;
        };
        state.now = reply;
        state.reply = true;
        state.lent_by = None;
        // A back end's reply goes back to its balancer past the interface's stages.
        let subnet = self.subnet_of(id);
        self.stages(&state, id, "out", &|state| {
            let balancer = state
                .frames
                .last()
                .and_then(|frame| self.naive.find("balancers", &frame.device));
            match balancer {
                Some(balancer) if text(balancer, "replies") == Some("routed") => {
                    self.undo(state, Some(id))
                }
                Some(balancer) => {
                    let home = text(balancer, "subnet");
                    let out = Some(subnet).filter(|subnet| Some(*subnet) != home && !state.no_acl);
                    self.acl(state, out, "out", &|state| {
                        self.acl(state, home.filter(|home| *home != subnet), "in", &|state| {
                            self.undo(state, None)
                        })
                    })
                }
                None => self.route(state, self.net(subnet), Some(subnet), Some(id), None),
            }
        })
    }

    /// A reply reaches an interface that holds its destination.
    fn home(&self, mut state: State, id: &str) -> A {
        if !state.frames.is_empty() || state.from != From::Interface(id.to_owned()) {
            return A::REPLY_LOST;
        }
        self.note_bypass(&mut state);
        if state.bypassed {
            A::REPLY_LOST
        } else {
            self.finished(state)
        }
    }

    fn note_bypass(&self, state: &mut State) {
        state.bypassed |= state
            .seen
            .iter()
            .any(|firewall| !state.passed.contains(firewall));
    }

    /// A reply comes to a device by its own address.
    fn to_device(&self, state: State, device: &str, via: Option<&str>) -> A {
        if state.reply
            && state
                .frames
                .last()
                .is_some_and(|frame| frame.device == device)
        {
            return self.undo(state, via);
        }
        self.lost(&state)
    }

    /// A device begins a new header.
    fn push(&self, state: &mut State, device: &str, entry: Option<&str>, extra: Option<String>) {
        state.frames.push(Frame {
            device: device.to_owned(),
            before: state.now,
            source_changed: false,
            crossed: std::mem::take(&mut state.crossed),
            seen: std::mem::take(&mut state.seen),
            entry: entry.map(str::to_owned),
            extra,
        });
        state.depth += 1;
    }

    /// The device that began the header has the reply: it goes on with the header before.
    fn undo(&self, mut state: State, via: Option<&str>) -> A {
        self.note_bypass(&mut state);
        let frame = state.frames.pop().unwrap();
        state.now = reply_to(&frame.before).unwrap();
        (state.crossed, state.seen) = (frame.crossed, frame.seen);
        state.passed.clear();
        state.lent_by = None;
        let device = frame.device.as_str();
        if device == "platform" {
            let extra = frame.extra.unwrap();
            return match extra.split_once(':').unwrap() {
                ("outside", network) => self.route(state, network, None, None, None),
                (kind, door) => {
                    state.no_acl = kind == "free";
                    self.depart(state, door)
                }
            };
        }
        if let Some(gateway) = self.naive.find("gateways", device) {
            let network = text(gateway, "network").unwrap();
            return match (frame.extra.as_deref(), text(gateway, "kind").unwrap()) {
                // The request came in by it: the reply is on the internet.
                (Some("in"), _) => self.back_on_internet(state),
                (_, "nat") => self.route(state, network, text(gateway, "subnet"), None, None),
                _ => self.route(state, network, None, None, text(gateway, "table")),
            };
        }
        if let Some(firewall) = self.naive.find("firewalls", device) {
            let entry = via.map(str::to_owned).or(frame.entry);
            return self.firewall_home(state, firewall, entry.as_deref());
        }
        let balancer = self.get("balancers", device);
        if let Some(id) = via {
            let subnet = self.subnet_of(id);
            return self.route(state, self.net(subnet), Some(subnet), Some(id), None);
        }
        let internet = |frame: &Frame| {
            self.naive
                .find("gateways", &frame.device)
                .is_some_and(|g| text(g, "kind") == Some("internet"))
        };
        if text(balancer, "subnet").is_none() && state.frames.last().is_some_and(internet) {
            return self.undo(state, None);
        }
        self.behind_balancer(state, balancer)
    }

    // ---- gateways, internet, sites ----

    fn traffic(&self, network: &str, subnet: Option<&str>) -> Vec<&'j str> {
        let of = |item: &'j Value| text(item, "internet_traffic").unwrap_or("both_ways");
        let mut all = vec![of(self.get("networks", network))];
        all.extend(subnet.map(|subnet| of(self.get("subnets", subnet))));
        all
    }

    fn translatable(packet: &Packet) -> bool {
        packet.source.is_ipv4()
            && (matches!(packet.protocol, 6 | 17) || (packet.protocol == 1 && packet.low >> 8 == 8))
    }

    fn at_gateway(
        &self,
        mut state: State,
        gateway: &'j Value,
        network: &str,
        subnet: Option<&str>,
    ) -> A {
        let id = text(gateway, "id").unwrap();
        let kind = text(gateway, "kind").unwrap();
        if kind == "site" {
            return self.at_site(state, text(gateway, "site").unwrap());
        }
        if state.reply {
            let began = state.frames.last().is_some_and(|frame| frame.device == id);
            if kind == "nat" {
                let home = text(gateway, "subnet").filter(|home| subnet != Some(*home));
                return self.acl(state, home, "in", &|state| self.lost(&state));
            }
            return if began {
                self.undo(state, None)
            } else {
                self.lost(&state)
            };
        }
        let blocked = self.traffic(network, subnet).contains(&"none")
            && self.naive.is_internet(state.now.destination);
        match kind {
            "nat" => {
                let home = text(gateway, "subnet").unwrap();
                self.acl(
                    state,
                    Some(home).filter(|home| subnet != Some(*home)),
                    "in",
                    &|mut state| {
                        if blocked && gateway.get("public").is_some() {
                            return A::DENIED;
                        }
                        if !Self::translatable(&state.now) {
                            return A::LOST;
                        }
                        let drawn = self.word(network, "nat_ports", "1024-65535");
                        let ported = state.now.protocol != 1;
                        let all = if ported { ports(drawn) } else { 0..=0 };
                        self.push(&mut state, id, None, None);
                        state.frames.last_mut().unwrap().source_changed = true;
                        state.now.source = address(gateway, "address").unwrap();
                        let one = |port: u16| {
                            let mut state = state.clone();
                            if ported {
                                state.now.source_port = port;
                            }
                            self.route(state, network, Some(home), None, None)
                        };
                        nature(all.map(one).collect())
                    },
                )
            }
            _ if blocked => A::DENIED,
            "internet" => {
                let from = text(gateway, "network").unwrap();
                let mapped = self.mapping(from, state.now.source);
                match mapped {
                    Some(public) => {
                        self.push(&mut state, id, None, None);
                        state.now.source = public;
                        self.on_internet(state)
                    }
                    None if in_block(state.now.source, "2000::/3") => {
                        self.push(&mut state, id, None, None);
                        self.on_internet(state)
                    }
                    None => A::LOST,
                }
            }
            _ => {
                if !in_block(state.now.source, "2000::/3") {
                    return A::LOST;
                }
                self.push(&mut state, id, None, None);
                self.on_internet(state)
            }
        }
    }

    /// The public address of a network's own address.
    fn mapping(&self, network: &str, own: IpAddr) -> Option<IpAddr> {
        let interface = self.all("public_addresses").iter().find(|public| {
            let Some(id) = text(public, "interface") else {
                return false;
            };
            self.net(self.subnet_of(id)) == network && self.private_of(public) == own
        });
        let nat = || {
            self.all("gateways").iter().find(|g| {
                text(g, "network") == Some(network)
                    && address(g, "address") == Some(own)
                    && g.get("public").is_some()
            })
        };
        interface
            .and_then(|public| address(public, "address"))
            .or_else(|| nat().and_then(|g| address(g, "public")))
    }

    fn private_of(&self, public: &Value) -> IpAddr {
        let interface = self.naive.interface(text(public, "interface").unwrap());
        let own = list(interface, "addresses")
            .iter()
            .map(|a| a.as_str().unwrap().parse::<IpAddr>().unwrap());
        own.into_iter().find(|a| a.is_ipv4()).unwrap()
    }

    fn internet_gateway(&self, network: &str) -> Option<&'j Value> {
        self.all("gateways").iter().find(|g| {
            text(g, "kind") == Some("internet")
                && text(g, "network") == Some(network)
                && !no(g, "attached")
        })
    }

    fn is_public(&self, to: IpAddr) -> bool {
        self.all("public_addresses")
            .iter()
            .any(|p| address(p, "address") == Some(to))
            || self
                .all("gateways")
                .iter()
                .any(|g| address(g, "public") == Some(to))
            || self
                .all("services")
                .iter()
                .any(|s| in_any(to, list(&s["public_door"], "addresses")))
            || self.all("balancers").iter().any(|b| {
                list(b, "front_ends")
                    .iter()
                    .any(|f| yes(f, "public") && address(f, "address") == Some(to))
            })
    }

    fn on_internet(&self, mut state: State) -> A {
        let to = state.now.destination;
        if self.naive.is_internet(to) && !self.is_public(to) {
            let Some(reply) = reply_to(&state.now) else {
                return A::WORKS;
            };
            state.now = reply;
            state.reply = true;
            return self.back_on_internet(state);
        }
        if let Some(public) = self
            .all("public_addresses")
            .iter()
            .find(|p| address(p, "address") == Some(to))
        {
            let Some(interface) = text(public, "interface") else {
                // Somebody may hold it whom the snapshot lacks.
                let open = |gap: &Value| matches!(text(gap, "lacks"), None | Some("interfaces"));
                return if self.all("gaps").iter().any(open) {
                    A::UNKNOWN
                } else {
                    A::LOST
                };
            };
            let subnet = self.subnet_of(interface);
            let own = self.private_of(public);
            return self.come_in(
                state,
                self.net(subnet),
                Some(subnet),
                &|mut state, gateway| {
                    state.now.destination = own;
                    self.route(state, self.net(subnet), None, None, text(gateway, "table"))
                },
            );
        }
        if self
            .all("gateways")
            .iter()
            .any(|g| address(g, "public") == Some(to))
        {
            let nat = self
                .all("gateways")
                .iter()
                .find(|g| address(g, "public") == Some(to))
                .unwrap();
            return self.come_in(
                state,
                text(nat, "network").unwrap(),
                text(nat, "subnet"),
                &|state, _| self.lost(&state),
            );
        }
        for balancer in self.all("balancers") {
            if list(balancer, "front_ends")
                .iter()
                .any(|f| yes(f, "public") && address(f, "address") == Some(to))
            {
                let network = text(balancer, "network").unwrap();
                return self.come_in(state, network, text(balancer, "subnet"), &|state, _| {
                    self.at_balancer(state, balancer, None)
                });
            }
        }
        if let Some(service) = self
            .all("services")
            .iter()
            .find(|s| in_any(to, list(&s["public_door"], "addresses")))
        {
            return self.public_door(state, service);
        }
        let owner = self
            .all("networks")
            .iter()
            .find(|n| to.is_ipv6() && in_block(to, "2000::/3") && in_any(to, list(n, "blocks")));
        if let Some(network) = owner {
            let network = text(network, "id").unwrap();
            let subnet = self
                .all("subnets")
                .iter()
                .find(|s| text(s, "network") == Some(network) && in_any(to, list(s, "blocks")));
            return self.come_in(
                state,
                network,
                subnet.and_then(|s| text(s, "id")),
                &|state, gateway| self.route(state, network, None, None, text(gateway, "table")),
            );
        }
        if self.naive.is_lacking(to) && to.is_ipv4() && in_block(to, "203.0.113.0/24") {
            A::UNKNOWN
        } else {
            A::LOST
        }
    }

    fn come_in(
        &self,
        mut state: State,
        network: &str,
        subnet: Option<&str>,
        go: &dyn Fn(State, &'j Value) -> A,
    ) -> A {
        let Some(gateway) = self.internet_gateway(network) else {
            return A::LOST;
        };
        if self
            .traffic(network, subnet)
            .iter()
            .any(|word| *word != "both_ways")
        {
            return A::DENIED;
        }
        self.push(
            &mut state,
            text(gateway, "id").unwrap(),
            None,
            Some("in".to_owned()),
        );
        go(state, gateway)
    }

    /// A reply on the internet finds whoever asked.
    fn back_on_internet(&self, mut state: State) -> A {
        if !state.frames.is_empty() {
            return self.undo(state, None);
        }
        self.note_bypass(&mut state);
        if state.bypassed {
            A::REPLY_LOST
        } else {
            self.finished(state)
        }
    }

    fn shared(&self, mut state: State, network: &str, subnet: Option<&str>) -> A {
        if state.reply {
            return A::REPLY_LOST;
        }
        let to = state.now.destination;
        if self.traffic(network, subnet).contains(&"none") && self.naive.is_internet(to) {
            return A::DENIED;
        }
        if !Self::translatable(&state.now) {
            return A::LOST;
        }
        if self.is_public(to) {
            return A::UNKNOWN;
        }
        if !self.naive.is_internet(to) {
            return A::LOST;
        }
        state.now = reply_to(&state.now).unwrap();
        state.reply = true;
        self.route(state, network, None, None, None)
    }

    fn at_site(&self, mut state: State, site: &str) -> A {
        let to = state.now.destination;
        let holds = in_any(to, list(self.get("sites", site), "holds"));
        if state.reply {
            if !holds || !state.frames.is_empty() || state.from != From::Site(site.to_owned()) {
                return A::REPLY_LOST;
            }
            self.note_bypass(&mut state);
            return if state.bypassed {
                A::REPLY_LOST
            } else {
                self.finished(state)
            };
        }
        if !holds && !in_any(to, self.announces(site)) {
            return A::LOST;
        }
        let Some(reply) = reply_to(&state.now) else {
            return A::WORKS;
        };
        state.now = reply;
        state.reply = true;
        self.leave_site(state, site)
    }

    fn leave_site(&self, state: State, site: &str) -> A {
        let to = state.now.destination;
        if let Some(known) = self.get("sites", site).get("knows")
            && !in_any(to, known.as_array().unwrap())
        {
            return self.lost(&state);
        }
        let mut all = Vec::new();
        for network in self
            .all("networks")
            .iter()
            .map(|network| text(network, "id").unwrap())
        {
            for gateway in self
                .site_gateways(network)
                .into_iter()
                .filter(|g| text(g, "site") == Some(site))
            {
                let id = text(gateway, "id").unwrap();
                let users = self.peerings().filter_map(|p| {
                    let user = self.other(p, network)?;
                    self.lent(p, user)
                        .iter()
                        .any(|g| text(g, "id") == Some(id))
                        .then_some(user)
                });
                if in_any(to, self.blocks(network))
                    || users.into_iter().any(|user| in_any(to, self.blocks(user)))
                {
                    let mut state = state.clone();
                    state.lent_by = Some(id.to_owned());
                    all.push(self.route(state, network, None, None, None));
                }
            }
        }
        for hub in self.all("hubs") {
            for link in list(hub, "links") {
                if text(link, "to") != Some(&format!("site:{site}")) || no(link, "up") {
                    continue;
                }
                let Some(domain) = text(link, "reads") else {
                    continue;
                };
                let own = text(link, "id").unwrap();
                let offered = self.domain(hub, domain);
                if offered
                    .iter()
                    .any(|(block, _, hop)| in_block(to, block) && hop != own && hop != "blackhole")
                {
                    all.push(self.hub(state.clone(), hub, link, true));
                }
            }
        }
        if all.is_empty() {
            self.lost(&state)
        } else {
            nature(all)
        }
    }

    // ---- hubs ----

    fn hub(&self, mut state: State, hub: &'j Value, link: &'j Value, steered: bool) -> A {
        let Some(domain) = text(link, "reads") else {
            return self.lost(&state);
        };
        let (id, own) = (text(hub, "id").unwrap(), text(link, "id").unwrap());
        let visit = (
            format!("hub {id} {own} {steered} {}", state.reply),
            state.now,
        );
        if state.visited.contains(&visit) {
            return self.lost(&state);
        }
        state.visited.push(visit);
        let to = state.now.destination;
        let field = if self.naive.is_internet(to) {
            "steer_internet"
        } else {
            "steer_private"
        };
        if let Some(firewall) = text(link, field).filter(|_| steered) {
            return self.firewall(
                state,
                self.get("firewalls", firewall),
                None,
                Some((hub, link)),
            );
        }
        let mut all: Vec<((u32, u8, u64), String)> = Vec::new();
        for (block, kind, metric, hop) in self.domain_ranked(hub, domain) {
            if in_block(to, &block) {
                all.push(((128 - length(&block), kind, metric), hop));
            }
        }
        let best = all.iter().map(|(rank, _)| *rank).min();
        let mut hops: Vec<String> = Vec::new();
        for (_, hop) in all.into_iter().filter(|(rank, _)| Some(*rank) == best) {
            if !hops.contains(&hop) {
                hops.push(hop);
            }
        }
        if self.estate_word("equal_routes", "all") == "first" {
            hops.truncate(1);
        }
        if hops.is_empty() {
            return self.lost(&state);
        }
        let one = |hop: &String| {
            if hop == "blackhole" || hop == "dead" || hop == own {
                return self.lost(&state);
            }
            let out = list(hub, "links")
                .iter()
                .find(|l| text(l, "id") == Some(hop))
                .unwrap();
            let (kind, name) = text(out, "to").unwrap().split_once(':').unwrap();
            let state = state.clone();
            match kind {
                "network" if self.naive.find("networks", name).is_none() => A::UNKNOWN,
                "network" => {
                    let subnet = text(out, "subnet");
                    let table =
                        text(self.get("networks", name), "main_table").filter(|_| subnet.is_none());
                    self.route(state, name, subnet, None, table)
                }
                "site" => self.at_site(state, name),
                "hub" => {
                    let other = self.get("hubs", name);
                    match self.link(other, &format!("hub:{id}")) {
                        Some(entry) => self.hub(state, other, entry, true),
                        None => self.lost(&state),
                    }
                }
                _ => self.firewall(state, self.get("firewalls", name), None, Some((hub, out))),
            }
        };
        nature(hops.iter().map(one).collect())
    }

    // ---- firewalls ----

    fn zone(&self, firewall: &'j Value, leg: Option<&str>) -> Option<&'j str> {
        let leg = leg?;
        list(firewall, "interfaces")
            .iter()
            .find(|l| text(l, "interface") == Some(leg))
            .and_then(|l| text(l, "zone"))
    }

    fn zone_fits(rule: &Value, field: &str, zone: Option<&str>) -> bool {
        rule.get(field)
            .is_none_or(|zones| zones.as_array().unwrap().iter().any(|z| z.as_str() == zone))
    }

    fn reach_of(&self, firewall: &'j Value) -> &'j str {
        let leg = list(firewall, "interfaces")
            .first()
            .and_then(|leg| text(leg, "interface"));
        leg.map_or("*", |leg| self.net(self.subnet_of(leg)))
    }

    fn translation(&self, rule: &Value, packet: &Packet, network: &str) -> bool {
        let services = list(rule, "services");
        let peers = |field: &str, address| {
            rule.get(field)
                .is_none_or(|p| self.naive.any_peer(p.as_array().unwrap(), address, network))
        };
        !no(rule, "enabled")
            && (services.is_empty()
                || services
                    .iter()
                    .any(|s| Evaluator::service_matches(s.as_str().unwrap(), packet)))
            && peers("sources", packet.source)
            && peers("destinations", packet.destination)
    }

    /// By which leg a firewall sends: `None` where its table has no route.
    fn out_leg(
        &self,
        firewall: &'j Value,
        entry: Option<&str>,
        to: IpAddr,
    ) -> Option<Option<String>> {
        let Some(routes) = firewall.get("routes") else {
            return Some(entry.map(str::to_owned));
        };
        let mut best: Option<(u32, String)> = None;
        for route in routes.as_array().unwrap() {
            for block in list(route, "to")
                .iter()
                .map(|block| block.as_str().unwrap())
            {
                if in_block(to, block)
                    && best
                        .as_ref()
                        .is_none_or(|(other, _)| length(block) > *other)
                {
                    best = Some((length(block), text(route, "interface").unwrap().to_owned()));
                }
            }
        }
        best.map(|(_, leg)| Some(leg))
    }

    fn firewall(
        &self,
        state: State,
        firewall: &'j Value,
        entry: Option<&str>,
        by: Option<(&'j Value, &'j Value)>,
    ) -> A {
        let members = list(firewall, "members");
        let up = if members.is_empty() {
            1
        } else {
            members.iter().filter(|m| !no(m, "up")).count()
        };
        if up == 0 {
            return self.lost(&state);
        }
        let id = text(firewall, "id").unwrap();
        if state.reply {
            let began = state.frames.last().is_some_and(|frame| frame.device == id);
            let seen = self
                .with_this_header(&state, &state.seen, |frame| &frame.seen)
                .iter()
                .any(|other| *other == id);
            if !began && !seen {
                return A::REPLY_LOST;
            }
            let comes_back = up == 1
                || yes(firewall, "symmetric")
                || (began
                    && state
                        .frames
                        .last()
                        .is_some_and(|frame| frame.source_changed));
            let mut state = state;
            let result = if began {
                if let Some((hub, link)) = by {
                    let extra =
                        format!("{} {}", text(hub, "id").unwrap(), text(link, "id").unwrap());
                    state.frames.last_mut().unwrap().extra = Some(extra);
                }
                let extra = state.frames.last().unwrap().extra.clone();
                let mut state = state;
                state.lent_by = None;
                self.undo_firewall(state, firewall, entry, extra)
            } else {
                state.passed.push(id.to_owned());
                let extra = by.map(|(hub, link)| {
                    format!("{} {}", text(hub, "id").unwrap(), text(link, "id").unwrap())
                });
                self.firewall_on(state, firewall, entry, extra)
            };
            return if comes_back {
                result
            } else {
                nature(vec![result, A::REPLY_LOST])
            };
        }
        let network = self.reach_of(firewall);
        let zone = self.zone(firewall, entry);
        let mut changed = state.now;
        let mut translated = false;
        for rule in list(firewall, "destination_translations") {
            let to: IpAddr = text(rule, "to").unwrap().parse().unwrap();
            if to.is_ipv4() == state.now.destination.is_ipv4()
                && Self::zone_fits(rule, "from_zones", zone)
                && self.translation(rule, &state.now, network)
            {
                changed.destination = to;
                if let (Some(port), true) = (
                    rule["port"].as_u64(),
                    matches!(changed.protocol, 6 | 17 | 132),
                ) {
                    changed.low = port.try_into().unwrap();
                }
                translated = true;
                break;
            }
        }
        let own = list(firewall, "interfaces").iter().any(|leg| {
            self.naive.holds(
                self.naive.interface(text(leg, "interface").unwrap()),
                state.now.destination,
            )
        });
        if !translated && (own || in_any(state.now.destination, list(firewall, "addresses"))) {
            let Some(services) = firewall.get("own_services") else {
                return A::UNKNOWN;
            };
            let serves = services.as_array().unwrap().iter().any(|own| {
                let services = list(own, "services");
                (services.is_empty()
                    || services
                        .iter()
                        .any(|s| Evaluator::service_matches(s.as_str().unwrap(), &state.now)))
                    && own.get("sources").is_none_or(|from| {
                        self.naive
                            .any_peer(from.as_array().unwrap(), state.now.source, network)
                    })
            });
            if !serves {
                return A::LOST;
            }
            let Some(reply) = reply_to(&state.now) else {
                return A::WORKS;
            };
            let extra = by.map(|(hub, link)| {
                format!("{} {}", text(hub, "id").unwrap(), text(link, "id").unwrap())
            });
            let mut state = state;
            state.now = reply;
            state.reply = true;
            state.lent_by = None;
            return self.firewall_on(state, firewall, entry, extra);
        }
        let Some(out) = self.out_leg(firewall, entry, changed.destination) else {
            return A::LOST;
        };
        let to_zone = self.zone(firewall, out.as_deref());
        let sees = text(firewall, "policy_sees").unwrap_or(self.word(
            network,
            "policy_sees",
            "translated",
        ));
        let seen = if sees == "original" {
            state.now
        } else {
            changed
        };
        self.policy(&state, firewall, &seen, (zone, to_zone), &|state| {
            let mut drawn = None;
            for rule in list(firewall, "source_translations") {
                if Self::zone_fits(rule, "from_zones", zone)
                    && Self::zone_fits(rule, "to_zones", to_zone)
                    && self.translation(rule, &changed, network)
                {
                    let v4 = changed.source.is_ipv4();
                    let primary = || {
                        let leg = self.naive.interface(out.as_deref()?);
                        let own = list(leg, "addresses")
                            .iter()
                            .map(|a| a.as_str().unwrap().parse::<IpAddr>().unwrap());
                        own.into_iter().find(|a| a.is_ipv4() == v4)
                    };
                    let held = || {
                        let own = list(firewall, "addresses")
                            .iter()
                            .map(|a| a.as_str().unwrap().parse::<IpAddr>().unwrap());
                        own.into_iter().find(|a| a.is_ipv4() == v4)
                    };
                    let written = address(rule, "to");
                    let source = if written.is_some() {
                        written
                    } else {
                        primary().or_else(held)
                    };
                    let Some(source) = source.filter(|s| s.is_ipv4() == v4) else {
                        return A::LOST;
                    };
                    drawn = Some(source);
                    break;
                }
            }
            let extra = by.map(|(hub, link)| {
                format!("{} {}", text(hub, "id").unwrap(), text(link, "id").unwrap())
            });
            let mut state = state;
            if drawn.is_none() && !translated {
                state.seen.push(id.to_owned());
                return self.out_of(state, firewall, out.as_deref(), extra);
            }
            self.push(&mut state, id, entry, extra.clone());
            state.now = changed;
            let Some(source) = drawn else {
                return self.out_of(state, firewall, out.as_deref(), extra);
            };
            state.frames.last_mut().unwrap().source_changed = true;
            state.now.source = source;
            let ported = matches!(changed.protocol, 6 | 17 | 132);
            let all = if ported {
                ports(self.word(network, "nat_ports", "1024-65535"))
            } else {
                0..=0
            };
            let one = |port: u16| {
                let mut state = state.clone();
                if ported {
                    state.now.source_port = port;
                }
                self.out_of(state, firewall, out.as_deref(), extra.clone())
            };
            nature(all.map(one).collect())
        })
    }

    fn out_of(
        &self,
        state: State,
        firewall: &'j Value,
        out: Option<&str>,
        by: Option<String>,
    ) -> A {
        if let Some(out) = out {
            return self.depart(state, out);
        }
        let id = text(firewall, "id").unwrap();
        let by = by.unwrap();
        let (hub, link) = by.split_once(' ').unwrap();
        let hub = self.get("hubs", hub);
        let own = self.link(hub, &format!("firewall:{id}"));
        let link = own.unwrap_or_else(|| {
            list(hub, "links")
                .iter()
                .find(|l| text(l, "id") == Some(link))
                .unwrap()
        });
        self.hub(state, hub, link, false)
    }

    fn undo_firewall(
        &self,
        mut state: State,
        firewall: &'j Value,
        entry: Option<&str>,
        extra: Option<String>,
    ) -> A {
        self.note_bypass(&mut state);
        let frame = state.frames.pop().unwrap();
        state.now = reply_to(&frame.before).unwrap();
        (state.crossed, state.seen) = (frame.crossed, frame.seen);
        state.passed.clear();
        self.firewall_on(state, firewall, entry, extra)
    }

    fn firewall_home(&self, state: State, firewall: &'j Value, entry: Option<&str>) -> A {
        self.firewall_on(state, firewall, entry, None)
    }

    /// A reply goes on from a firewall that knows it.
    fn firewall_on(
        &self,
        state: State,
        firewall: &'j Value,
        entry: Option<&str>,
        by: Option<String>,
    ) -> A {
        match self.out_leg(firewall, entry, state.now.destination) {
            None => A::REPLY_LOST,
            Some(out) => self.out_of(state, firewall, out.as_deref(), by),
        }
    }

    fn policy(
        &self,
        state: &State,
        firewall: &'j Value,
        seen: &Packet,
        zones: (Option<&str>, Option<&str>),
        go: &dyn Fn(State) -> A,
    ) -> A {
        let Some(policy) = text(firewall, "policy") else {
            return A::DENIED;
        };
        let Some(policy) = self.naive.find("firewall_policies", policy) else {
            let lets = self.naive.ask(format!(
                "policy of {} lets {seen:?}",
                text(firewall, "id").unwrap()
            ));
            return if lets { go(state.clone()) } else { A::DENIED };
        };
        let mut levels = vec![policy];
        while let Some(base) = text(levels[0], "base") {
            levels.insert(0, self.get("firewall_policies", base));
        }
        let network = self.reach_of(firewall);
        let mut rules: Vec<(usize, &Value)> = Vec::new();
        for (at, level) in levels.iter().enumerate() {
            rules.extend(
                self.in_order(level, network)
                    .into_iter()
                    .map(|rule| (at, rule)),
            );
        }
        let default = text(policy, "default").unwrap_or("deny");
        self.first(state, &rules, 0, seen, zones, network, default, go)
    }

    /// The rules of one policy: classes, sections, rules.
    fn in_order(&self, policy: &'j Value, network: &str) -> Vec<&'j Value> {
        let order: Vec<&str> = list(policy, "class_order")
            .iter()
            .map(|c| c.as_str().unwrap())
            .collect();
        let deny_first = self.word(network, "equal_priority", "deny_first") == "deny_first";
        let mut sections: Vec<(usize, u64, &'j [Value])> = Vec::new();
        for section in list(policy, "sections") {
            let class = text(section, "class")
                .and_then(|class| order.iter().position(|other| *other == class));
            sections.push((
                class.unwrap_or(usize::MAX),
                section["priority"].as_u64().unwrap_or(u64::MAX),
                list(section, "rules"),
            ));
        }
        sections.push((usize::MAX, u64::MAX, list(policy, "rules")));
        sections.sort_by_key(|(class, priority, _)| (*class, *priority));
        let mut all = Vec::new();
        for (_, _, rules) in sections {
            let mut rules: Vec<&Value> = rules.iter().collect();
            rules.sort_by_key(|rule| {
                let priority = rule["priority"].as_u64();
                let refuses = matches!(text(rule, "action"), Some("deny" | "reject"));
                (
                    priority.unwrap_or(u64::MAX),
                    deny_first && priority.is_some() && !refuses,
                )
            });
            all.extend(rules);
        }
        all
    }

    #[allow(clippy::too_many_arguments, reason = "what a rule looks at")]
    fn first(
        &self,
        state: &State,
        rules: &[(usize, &'j Value)],
        at: usize,
        seen: &Packet,
        zones: (Option<&str>, Option<&str>),
        network: &str,
        default: &str,
        go: &dyn Fn(State) -> A,
    ) -> A {
        let act = |state: &State, action: &str| {
            if action == "allow" {
                go(state.clone())
            } else {
                A::DENIED
            }
        };
        let Some((level, rule)) = rules.get(at) else {
            return act(state, default);
        };
        let otherwise =
            |state: &State| self.first(state, rules, at + 1, seen, zones, network, default, go);
        let services = list(rule, "services");
        let fits = !no(rule, "enabled")
            && Self::zone_fits(rule, "from_zones", zones.0)
            && Self::zone_fits(rule, "to_zones", zones.1)
            && (services.is_empty()
                || services
                    .iter()
                    .any(|s| Evaluator::service_matches(s.as_str().unwrap(), seen)));
        let peers = |field: &str, address: IpAddr| {
            rule.get(field)
                .map(|p| self.naive.any_peer(p.as_array().unwrap(), address, network))
        };
        // Whatever the destination: whether the rest of the rule matches.
        let fits = fits
            && peers("sources", seen.source) != Some(false)
            && peers("except_sources", seen.source) != Some(true)
            && peers("except_destinations", seen.destination) != Some(true);
        if !fits {
            return otherwise(state);
        }
        let hit = |state: &State| match text(rule, "action").unwrap() {
            "defer" => {
                let next = rules
                    .iter()
                    .position(|(other, _)| other > level)
                    .unwrap_or(rules.len());
                self.first(state, rules, next, seen, zones, network, default, go)
            }
            action => act(state, action),
        };
        let on = |state: &State| match text(rule, "condition") {
            None => hit(state),
            Some(condition) => self.turn(state, condition, &hit, &otherwise),
        };
        let destination = peers("destinations", seen.destination);
        let Some(sets) = rule.get("names") else {
            return if destination == Some(false) {
                otherwise(state)
            } else {
                on(state)
            };
        };
        if destination == Some(true) {
            return on(state);
        }
        let sets = sets
            .as_array()
            .unwrap()
            .iter()
            .map(|set| set.as_str().unwrap());
        let fits = |set: &&str| {
            state
                .name
                .as_ref()
                .is_none_or(|name| self.is_name_of(name, set))
        };
        let meant: Vec<&str> = sets.filter(fits).collect();
        if meant.is_empty() {
            return otherwise(state);
        }
        // Who asks by a name is no proxy.
        let whose = if state.name.is_some() { "asked" } else { "any" };
        self.turn(
            state,
            &format!("{whose} name of {}", meant.join("+")),
            &on,
            &otherwise,
        )
    }

    fn is_name_of(&self, name: &str, set: &str) -> bool {
        list(self.get("name_sets", set), "names")
            .iter()
            .any(|pattern| {
                let pattern = pattern.as_str().unwrap();
                match pattern.strip_prefix('*') {
                    Some(end) => name.ends_with(end) && name.len() > end.len(),
                    None => pattern == name,
                }
            })
    }

    /// Whether a condition may be so with what is assumed: a packet is meant for one name, or for none.
    fn may_be(&self, state: &State, condition: &str, is: bool) -> bool {
        let assumed = || {
            state
                .assumed
                .iter()
                .map(|(one, is)| (one.as_str(), *is))
                .chain([(condition, is)])
        };
        let Some((whose, _)) = condition.split_once(" name of ") else {
            return assumed().all(|(other, known)| other != condition || known == is);
        };
        let patterns = self
            .all("name_sets")
            .iter()
            .flat_map(|set| list(set, "names"));
        // Of a wildcard some name below it.
        let names = patterns.map(|pattern| pattern.as_str().unwrap().replace('*', "any"));
        let asked: Vec<String> = state
            .name
            .iter()
            .cloned()
            .chain(names.filter(|_| state.name.is_none()))
            .collect();
        let agrees = |name: Option<&str>| {
            assumed()
                .filter_map(|(one, is)| {
                    Some((one.strip_prefix(whose)?.strip_prefix(" name of ")?, is))
                })
                .all(|(sets, is)| {
                    name.is_some_and(|name| sets.split('+').any(|set| self.is_name_of(name, set)))
                        == is
                })
        };
        agrees(None) || asked.iter().any(|name| agrees(Some(name)))
    }

    /// It turns on a condition, which is the same everywhere on the way.
    fn turn(
        &self,
        state: &State,
        condition: &str,
        holds: &dyn Fn(&State) -> A,
        otherwise: &dyn Fn(&State) -> A,
    ) -> A {
        let [may_hold, may_fail] = [true, false].map(|is| self.may_be(state, condition, is));
        let assuming = |is: bool| {
            let mut state = state.clone();
            state.assumed.push((condition.to_owned(), is));
            state
        };
        match (may_hold, may_fail) {
            (true, true) => turned(
                condition,
                holds(&assuming(true)),
                otherwise(&assuming(false)),
            ),
            (true, false) => holds(state),
            (false, _) => otherwise(state),
        }
    }

    // ---- balancers and services ----

    fn back_ends(&self, balancer: &'j Value) -> Vec<&'j Value> {
        let all: Vec<&Value> = list(balancer, "back_ends").iter().collect();
        let healthy: Vec<&Value> = all
            .iter()
            .copied()
            .filter(|end| !no(end, "healthy"))
            .collect();
        let network = text(balancer, "network").unwrap();
        if healthy.is_empty() && self.word(network, "no_healthy", "lost") == "all" {
            all
        } else {
            healthy
        }
    }

    fn front(&self, balancer: &'j Value, packet: &Packet) -> bool {
        list(balancer, "front_ends").iter().any(|front| {
            let services = list(front, "services");
            address(front, "address") == Some(packet.destination)
                && (services.is_empty()
                    || services
                        .iter()
                        .any(|s| Evaluator::service_matches(s.as_str().unwrap(), packet)))
        })
    }

    fn end_address(&self, end: &'j Value, v4: bool) -> Option<IpAddr> {
        let held = || {
            let interface = self.naive.interface(text(end, "interface")?);
            let mut own = list(interface, "addresses")
                .iter()
                .map(|a| a.as_str().unwrap().parse::<IpAddr>().unwrap());
            own.find(|a| a.is_ipv4() == v4)
        };
        address(end, "address").or_else(held)
    }

    fn at_balancer(&self, state: State, balancer: &'j Value, from: Option<&str>) -> A {
        if state.reply {
            return A::REPLY_LOST;
        }
        if text(balancer, "kind") == Some("proxy") {
            let own = list(balancer, "interfaces")
                .iter()
                .map(|i| i.as_str().unwrap());
            return nature(
                own.map(|i| {
                    self.enter(state.clone(), i, from, &|state| {
                        self.proxy(state, balancer, i)
                    })
                })
                .collect(),
            );
        }
        let home = text(balancer, "subnet");
        self.acl(
            state,
            home.filter(|home| from != Some(*home)),
            "in",
            &|state| {
                let ends = self.back_ends(balancer);
                if !self.front(balancer, &state.now) || ends.is_empty() {
                    return A::LOST;
                }
                let one = |end: &&'j Value| {
                    let mut state = state.clone();
                    let v4 = state.now.destination.is_ipv4();
                    let Some(to) = self.end_address(end, v4).filter(|to| to.is_ipv4() == v4) else {
                        return A::LOST;
                    };
                    self.push(&mut state, text(balancer, "id").unwrap(), None, None);
                    state.now.destination = to;
                    if let (Some(port), true) = (
                        end["port"].as_u64(),
                        matches!(state.now.protocol, 6 | 17 | 132),
                    ) {
                        state.now.low = port.try_into().unwrap();
                    }
                    self.behind_balancer(state, balancer)
                };
                nature(ends.iter().map(one).collect())
            },
        )
    }

    /// A balancer outside of all subnets is routed by the main table.
    fn behind_balancer(&self, state: State, balancer: &'j Value) -> A {
        let (network, home) = (text(balancer, "network").unwrap(), text(balancer, "subnet"));
        let table = text(self.get("networks", network), "main_table").filter(|_| home.is_none());
        self.route(state, network, home, None, table)
    }

    fn proxy(&self, state: State, balancer: &'j Value, interface: &str) -> A {
        let ends = self.back_ends(balancer);
        if !self.front(balancer, &state.now)
            || ends.is_empty()
            || !matches!(state.now.protocol, 6 | 17 | 132)
        {
            return A::LOST;
        }
        let mut all = Vec::new();
        for out in list(balancer, "interfaces")
            .iter()
            .map(|i| i.as_str().unwrap())
        {
            for end in &ends {
                let Some(to) = self.end_address(end, true) else {
                    all.push(A::LOST);
                    continue;
                };
                let own = list(self.naive.interface(out), "addresses")
                    .iter()
                    .map(|a| a.as_str().unwrap());
                let source = own
                    .map(|a| a.parse::<IpAddr>().unwrap())
                    .find(|a| a.is_ipv4() == to.is_ipv4());
                let Some(source) = source else {
                    all.push(A::LOST);
                    continue;
                };
                let low = end["port"]
                    .as_u64()
                    .map_or(state.now.low, |port| port.try_into().unwrap());
                let clients =
                    ports(self.word(self.net(self.subnet_of(out)), "client_ports", "1024-65535"));
                let one = |source_port: u16| {
                    let now = Packet {
                        source,
                        destination: to,
                        low,
                        source_port,
                        ..state.now
                    };
                    self.connection(State {
                        now,
                        reply: false,
                        from: From::Interface(out.to_owned()),
                        name: None,
                        frames: Vec::new(),
                        crossed: Vec::new(),
                        seen: Vec::new(),
                        passed: Vec::new(),
                        bypassed: false,
                        visited: state.visited.clone(),
                        assumed: state.assumed.clone(),
                        lent_by: None,
                        outer: Some(Box::new((state.clone(), interface.to_owned()))),
                        depth: state.depth + 1,
                        picked: Vec::new(),
                        no_acl: false,
                    })
                };
                all.push(nature(clients.map(one).collect()));
            }
        }
        nature(all)
    }

    fn has_port(service: &Value, packet: &Packet) -> bool {
        let services = list(service, "services");
        services.is_empty()
            || services
                .iter()
                .any(|s| Evaluator::service_matches(s.as_str().unwrap(), packet))
    }

    fn private_door(
        &self,
        mut state: State,
        service: &'j Value,
        id: &str,
        from: Option<&str>,
    ) -> A {
        if state.reply {
            return A::REPLY_LOST;
        }
        if !Self::has_port(service, &state.now) {
            return A::LOST;
        }
        let interface = self.naive.interface(id);
        let subnet = self.get("subnets", self.subnet_of(id));
        let own = subnet.get("filter_private_doors").or_else(|| {
            self.naive
                .setting(self.naive.network_of(interface), "filter_private_doors")
        });
        if own != Some(&Value::Bool(false)) && !yes(interface, "unfiltered") {
            return self.enter(state, id, from, &|state| self.past_door(state, service, id));
        }
        state.crossed.push((id.to_owned(), Vec::new()));
        state.no_acl = true;
        self.past_door(state, service, id)
    }

    fn past_door(&self, mut state: State, service: &'j Value, id: &str) -> A {
        let Some(balancer) = text(service, "balancer") else {
            return self.answer(state, id);
        };
        let balancer = self.get("balancers", balancer);
        let front = &list(balancer, "front_ends")[0];
        let drawn = ports(self.word(self.net(self.subnet_of(id)), "nat_ports", "1024-65535"));
        let to = address(front, "address").unwrap();
        if to.is_ipv4() != state.now.destination.is_ipv4() {
            return A::LOST;
        }
        let kind = if state.no_acl { "free" } else { "door" };
        self.push(&mut state, "platform", None, Some(format!("{kind}:{id}")));
        state.now.source = address(service, "provider_source").unwrap();
        state.now.destination = to;
        state.no_acl = false;
        let ported = matches!(state.now.protocol, 6 | 17 | 132);
        let one = |port: u16| {
            let mut state = state.clone();
            if ported {
                state.now.source_port = port;
            }
            let holder = list(balancer, "interfaces")
                .iter()
                .map(|i| i.as_str().unwrap());
            match holder
                .into_iter()
                .find(|i| self.naive.holds(self.naive.interface(i), to))
            {
                Some(interface) => self.hand_over(state, interface, None),
                None => self.at_balancer(state, balancer, None),
            }
        };
        if ported {
            nature(drawn.map(one).collect())
        } else {
            one(0)
        }
    }

    fn public_door(&self, state: State, service: &'j Value) -> A {
        if state.reply {
            return A::REPLY_LOST;
        }
        if !Self::has_port(service, &state.now) {
            return A::LOST;
        }
        let door = &service["public_door"];
        if no(door, "open") {
            return A::DENIED;
        }
        let network = text(&self.all("networks")[0], "id").unwrap();
        let listed = door.get("allowed").is_none_or(|allowed| {
            self.naive
                .any_peer(allowed.as_array().unwrap(), state.now.source, network)
        });
        if !listed {
            return A::DENIED;
        }
        let Some(reply) = reply_to(&state.now) else {
            return A::WORKS;
        };
        let mut state = state;
        state.now = reply;
        state.reply = true;
        self.back_on_internet(state)
    }
}

/// Whether a block lies inside another.
fn inside(block: &str, other: &str) -> bool {
    let base: IpAddr = block
        .split_once('/')
        .map_or(block, |(base, _)| base)
        .parse()
        .unwrap();
    in_block(base, other) && length(block) >= length(other)
}
