//! A machine's interfaces and routes: `ip -j addr`, `ip -j route`, `ip -j rule`, as ip(8) prints them.

use crate::tree::{Node, get, list, text, text_at};
use heronshale_model::source::Problem;
use heronshale_sets::address::{Addresses, Block, Family, Range};
use std::collections::BTreeMap;
use std::net::IpAddr;

/// A network interface of a machine.
#[derive(Debug, Clone)]
pub(super) struct Device {
    pub name: String,
    /// Its addresses with the prefix that is reached by it.
    pub addresses: Vec<(IpAddr, Block)>,
}

/// A line of the machine's main table.
#[derive(Debug, Clone)]
pub(super) struct Route {
    pub to: Range,
    /// By which interface; none for what is dropped.
    pub device: Option<String>,
    pub gateway: Option<IpAddr>,
    metric: u64,
}

/// What is known of a machine beside its rules.
#[derive(Clone, Debug, Default)]
pub(super) struct Machine {
    pub devices: Vec<Device>,
    /// The addresses of all of its interfaces, of any scope, by their names.
    local: Vec<(String, IpAddr)>,
    /// The broadcast addresses of its networks.
    broadcast: Vec<IpAddr>,
    /// The interfaces that are bridges.
    bridges: Vec<String>,
    /// Interfaces with those that carry their frames: a VLAN and its parent, a bond and its ports.
    carried: Vec<(String, String)>,
    pub routes: Vec<Route>,
    /// Whether its routes were given.
    pub routed: bool,
    /// What of the routes cannot be said in a snapshot.
    pub unclear: Vec<String>,
}

fn has_flag(node: &Node<'_>, wanted: &[&str]) -> bool {
    get(node, "flags").is_some_and(|flags| {
        list(flags)
            .iter()
            .filter_map(text)
            .any(|flag| wanted.contains(&flag))
    })
}

fn wrong(node: &Node<'_>, title: String, help: &str) -> Problem {
    Problem {
        title,
        span: node.span,
        label: "here".to_owned(),
        related: None,
        help: Some(help.to_owned()),
    }
}

/// What the tests of a machine's rules may ask beside packets.
#[derive(Debug, Default)]
pub(super) struct Facts {
    /// Whether its interfaces are known, and so all of what follows but the routes.
    pub known: bool,
    /// Of which families it has addresses, and routes: of others its files may tell nothing.
    pub addressed: Vec<Family>,
    pub routed: Vec<Family>,
    /// Its own addresses by interface.
    pub own: BTreeMap<String, Addresses>,
    pub broadcast: Addresses,
    /// The interfaces by which bridged frames may come to it.
    pub bridges: Vec<String>,
    /// Interfaces with those that carry their frames.
    pub carried: Vec<(String, String)>,
    /// What its main table leads out by each interface; none if the routes are not known, or others are asked too.
    pub behind: Option<BTreeMap<String, Addresses>>,
}

impl Machine {
    pub fn addresses(&mut self, node: &Node<'_>, _file: usize, problems: &mut Vec<Problem>) {
        for item in list(node) {
            let Some(name) = text_at(item, "ifname") else {
                continue;
            };
            let address = |one: &Node<'_>, field: &str| {
                text_at(one, field).and_then(|text| text.parse::<IpAddr>().ok())
            };
            for one in get(item, "addr_info").map_or(&[][..], list) {
                self.local
                    .extend(address(one, "local").map(|local| (name.to_owned(), local)));
                self.broadcast.extend(address(one, "broadcast"));
            }
            let kind = get(item, "linkinfo").and_then(|info| text_at(info, "info_kind"));
            self.bridges
                .extend(text_at(item, "master").map(str::to_owned));
            self.carried
                .extend(text_at(item, "link").map(|parent| (name.to_owned(), parent.to_owned())));
            self.carried
                .extend(text_at(item, "master").map(|upper| (upper.to_owned(), name.to_owned())));
            self.bridges
                .extend((kind == Some("bridge")).then(|| name.to_owned()));
            if has_flag(item, &["LOOPBACK"]) {
                continue;
            }
            let mut addresses = Vec::new();
            for one in get(item, "addr_info").map_or(&[][..], list) {
                if !matches!(text_at(one, "scope"), Some("global" | "site") | None) {
                    continue;
                }
                let read = || {
                    let local: IpAddr = text_at(one, "local")?.parse().ok()?;
                    let block: Block = format!("{local}/{}", text_at(one, "prefixlen")?)
                        .parse()
                        .ok()?;
                    Some((local, block))
                };
                match read() {
                    Some(found) => addresses.push(found),
                    None => problems.push(wrong(
                        one,
                        format!("an address of {name} without `local` and `prefixlen`"),
                        "give what `ip -j addr` prints",
                    )),
                }
            }
            self.devices.push(Device {
                name: name.to_owned(),
                addresses,
            });
        }
        self.devices.sort_by(|a, b| a.name.cmp(&b.name));
    }

    pub fn routes(&mut self, node: &Node<'_>, _file: usize, problems: &mut Vec<Problem>) {
        self.routed = true;
        let items = list(node);
        // Of which family the default route is shows by its gateway, or by the other routes of the file.
        let family = |item: &Node<'_>| {
            let near = ["gateway", "prefsrc", "dst"].iter().find_map(|field| {
                let text = text_at(item, field)?;
                text.parse::<Block>().ok().map(|block| block.range.family)
            });
            near.or_else(|| {
                get(item, "via")
                    .and_then(|via| text_at(via, "host")?.parse::<IpAddr>().ok())
                    .map(Family::of)
            })
        };
        let of_file = items.iter().find_map(family).unwrap_or(Family::V4);
        for item in items {
            if !matches!(text_at(item, "table"), None | Some("main" | "254")) {
                if !matches!(text_at(item, "table"), Some("local" | "255")) {
                    self.unclear
                        .push("routes of tables other than the main one".to_owned());
                }
                continue;
            }
            let Some(dst) = text_at(item, "dst") else {
                problems.push(wrong(
                    item,
                    "a route without `dst`".to_owned(),
                    "give what `ip -j route` prints",
                ));
                continue;
            };
            let own = family(item).unwrap_or(of_file);
            let to = if dst == "default" {
                let all = if own == Family::V4 {
                    "0.0.0.0/0"
                } else {
                    "::/0"
                };
                all.parse::<Block>().ok()
            } else {
                dst.parse::<Block>().ok()
            };
            let Some(to) = to.map(|block| block.range) else {
                problems.push(wrong(
                    item,
                    format!("`{dst}` is not a prefix"),
                    "give what `ip -j route` prints",
                ));
                continue;
            };
            if has_flag(item, &["dead", "linkdown"]) {
                continue;
            }
            let metric = text_at(item, "metric")
                .and_then(|text| text.parse().ok())
                .unwrap_or(0);
            let gateway = text_at(item, "gateway").and_then(|text| text.parse().ok());
            let device = match text_at(item, "type").unwrap_or("unicast") {
                "unicast" => match text_at(item, "dev") {
                    Some("lo") => continue,
                    Some(device) => Some(device.to_owned()),
                    None => {
                        self.unclear
                            .push(format!("the route to {dst} has several next hops"));
                        continue;
                    }
                },
                "blackhole" | "unreachable" | "prohibit" => None,
                "local" | "broadcast" | "multicast" | "anycast" => continue,
                other => {
                    self.unclear
                        .push(format!("the route to {dst} is of the type {other}"));
                    continue;
                }
            };
            self.routes.push(Route {
                to,
                device,
                gateway,
                metric,
            });
        }
    }

    pub fn rules(&mut self, node: &Node<'_>) {
        for item in list(node) {
            let plain = text_at(item, "src") == Some("all")
                && matches!(text_at(item, "table"), Some("local" | "main" | "default"))
                && [
                    "fwmark", "iif", "oif", "dst", "sport", "dport", "ipproto", "uidrange",
                ]
                .iter()
                .all(|field| get(item, field).is_none());
            if !plain {
                let priority = text_at(item, "priority").unwrap_or("?");
                self.unclear.push(format!(
                    "the rule of priority {priority} chooses among route tables"
                ));
            }
        }
    }

    /// What tests of its rules may ask.
    pub fn facts(&self) -> Facts {
        let one = |address: IpAddr| -> Addresses { Addresses::single(address) };
        let sum = |all: &mut dyn Iterator<Item = IpAddr>| {
            all.fold(Addresses::empty(), |sum, next| sum.union(&one(next)))
        };
        let mut own = BTreeMap::new();
        for (name, address) in &self.local {
            let known = own.entry(name.clone()).or_insert_with(Addresses::empty);
            *known = known.union(&one(*address));
        }
        let mut behind: BTreeMap<String, Addresses> = BTreeMap::new();
        for route in &self.routes {
            if let Some(device) = &route.device {
                let known = behind
                    .entry(device.clone())
                    .or_insert_with(Addresses::empty);
                *known = known.union(&[route.to].into_iter().collect());
            }
        }
        let known = !self.local.is_empty() || !self.devices.is_empty();
        let mut networks = self.broadcast.iter().copied();
        let families = |has: &dyn Fn(Family) -> bool| {
            Family::BOTH
                .into_iter()
                .filter(|family| has(*family))
                .collect()
        };
        Facts {
            known,
            addressed: families(&|family| {
                self.local
                    .iter()
                    .any(|(_, address)| Family::of(*address) == family)
            }),
            routed: families(&|family| self.routes.iter().any(|route| route.to.family == family)),
            own,
            broadcast: sum(&mut networks).union(&one(IpAddr::V4(std::net::Ipv4Addr::BROADCAST))),
            bridges: self.bridges.clone(),
            carried: self.carried.clone(),
            behind: (self.routed && self.unclear.is_empty()).then_some(behind),
        }
    }

    /// The interface that holds addresses, by its name.
    pub fn device(&self, name: &str) -> Option<&Device> {
        self.devices.iter().find(|device| device.name == name)
    }

    /// Which prefixes leave by which interface: of equal prefixes the lowest metric. With blackholes, each address by the route that
    /// takes it, since what is dropped is of no interface.
    pub fn outgoing(&mut self) -> Vec<(String, Vec<String>)> {
        let mut routes = self.routes.clone();
        routes.sort_by_key(|route| {
            (
                route.to.family,
                std::cmp::Reverse(route.to.prefix_length()),
                route.to.first,
                route.metric,
            )
        });
        let twice = |pair: &[Route]| {
            pair[0].to == pair[1].to
                && pair[0].metric == pair[1].metric
                && pair[0].device != pair[1].device
        };
        // Each interface has its own link-local network: there is nothing to choose.
        let near = |pair: &[Route]| {
            pair[0].to.family == Family::V6 && pair[0].to.to_string() == "fe80::/64"
        };
        for pair in routes.windows(2).filter(|pair| twice(pair) && !near(pair)) {
            self.unclear
                .push(format!("there are equal routes to {}", pair[0].to));
        }
        routes.retain(|route| route.to.to_string() != "fe80::/64");
        routes.dedup_by_key(|route| route.to);
        let dropped = routes.iter().any(|route| route.device.is_none());
        let mut taken = Addresses::empty();
        let mut found: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for route in routes {
            let all: Addresses = [route.to].into_iter().collect();
            let won = if dropped {
                all.difference(&taken)
            } else {
                all.clone()
            };
            taken = taken.union(&all);
            if let Some(device) = route.device {
                found.entry(device).or_default().extend(won.texts());
            }
        }
        found.into_iter().collect()
    }
}
