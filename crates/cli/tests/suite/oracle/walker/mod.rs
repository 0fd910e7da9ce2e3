//! A naive walker, written from the semantics alone: one packet and its reply, hop by hop, straight from the JSON of a
//! snapshot. Nature's choices, conditions and doubts are branches of a recursion.

mod doors;
mod edges;
mod firewalls;
mod routes;
mod ways;

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

    // ---- arriving ----

    // ---- gateways, internet, sites ----

    // ---- hubs ----

    // ---- firewalls ----

    // ---- balancers and services ----
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
