//! From place to place.

use super::*;

impl<'j> Walker<'j> {
    /// Routed at a place. `table`: of a gateway or a link without a subnet, else the subnet's.
    pub(super) fn route(
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
    pub(super) fn place_of(&self, network: &str, to: IpAddr) -> Option<Option<&'j str>> {
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
    pub(super) fn home_of(&self, balancer: &'j Value) -> Option<&'j str> {
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
    pub(super) fn leave(
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

    pub(super) fn by_hop(
        &self,
        state: State,
        network: &str,
        subnet: Option<&str>,
        hop: &str,
    ) -> Vec<A> {
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

    pub(super) fn across(
        &self,
        mut state: State,
        from: &str,
        to: &str,
        go: &dyn Fn(State) -> A,
    ) -> A {
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

    pub(super) fn deliver(&self, state: State, network: &str, from: Option<&str>) -> A {
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

    pub(super) fn door_of(&self, interface: &str) -> Option<&'j Value> {
        self.all("services").iter().find(|s| {
            list(s, "private_doors")
                .iter()
                .any(|d| d.as_str() == Some(interface))
        })
    }

    pub(super) fn firewall_of(&self, interface: &str) -> Option<&'j Value> {
        self.all("firewalls").iter().find(|f| {
            list(f, "interfaces")
                .iter()
                .any(|leg| text(leg, "interface") == Some(interface))
        })
    }

    pub(super) fn proxy_of(&self, interface: &str) -> Option<&'j Value> {
        self.all("balancers").iter().find(|b| {
            list(b, "interfaces")
                .iter()
                .any(|i| i.as_str() == Some(interface))
        })
    }

    /// Packets come to an interface, their destination or not.
    pub(super) fn hand_over(&self, state: State, id: &str, from: Option<&str>) -> A {
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

    pub(super) fn enter(
        &self,
        state: State,
        id: &str,
        from: Option<&str>,
        go: &dyn Fn(State) -> A,
    ) -> A {
        let subnet = Some(self.subnet_of(id)).filter(|subnet| from != Some(*subnet));
        self.acl(state, subnet, "in", &|state| {
            self.stages(&state, id, "in", go)
        })
    }

    /// The request is at its end.
    pub(super) fn answer(&self, mut state: State, id: &str) -> A {
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
    pub(super) fn home(&self, mut state: State, id: &str) -> A {
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

    pub(super) fn note_bypass(&self, state: &mut State) {
        state.bypassed |= state
            .seen
            .iter()
            .any(|firewall| !state.passed.contains(firewall));
    }

    /// A reply comes to a device by its own address.
    pub(super) fn to_device(&self, state: State, device: &str, via: Option<&str>) -> A {
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
    pub(super) fn push(
        &self,
        state: &mut State,
        device: &str,
        entry: Option<&str>,
        extra: Option<String>,
    ) {
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
    pub(super) fn undo(&self, mut state: State, via: Option<&str>) -> A {
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
}
