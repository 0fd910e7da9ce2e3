//! Balancers, proxies and doors.

use super::*;

impl<'j> Walker<'j> {
    pub(super) fn back_ends(&self, balancer: &'j Value) -> Vec<&'j Value> {
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

    pub(super) fn front(&self, balancer: &'j Value, packet: &Packet) -> bool {
        list(balancer, "front_ends").iter().any(|front| {
            let services = list(front, "services");
            address(front, "address") == Some(packet.destination)
                && (services.is_empty()
                    || services
                        .iter()
                        .any(|s| Evaluator::service_matches(s.as_str().unwrap(), packet)))
        })
    }

    pub(super) fn end_address(&self, end: &'j Value, v4: bool) -> Option<IpAddr> {
        let held = || {
            let interface = self.naive.interface(text(end, "interface")?);
            let mut own = list(interface, "addresses")
                .iter()
                .map(|a| a.as_str().unwrap().parse::<IpAddr>().unwrap());
            own.find(|a| a.is_ipv4() == v4)
        };
        address(end, "address").or_else(held)
    }

    pub(super) fn at_balancer(&self, state: State, balancer: &'j Value, from: Option<&str>) -> A {
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
    pub(super) fn behind_balancer(&self, state: State, balancer: &'j Value) -> A {
        let (network, home) = (text(balancer, "network").unwrap(), text(balancer, "subnet"));
        let table = text(self.get("networks", network), "main_table").filter(|_| home.is_none());
        self.route(state, network, home, None, table)
    }

    pub(super) fn proxy(&self, state: State, balancer: &'j Value, interface: &str) -> A {
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

    pub(super) fn has_port(service: &Value, packet: &Packet) -> bool {
        let services = list(service, "services");
        services.is_empty()
            || services
                .iter()
                .any(|s| Evaluator::service_matches(s.as_str().unwrap(), packet))
    }

    pub(super) fn private_door(
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

    pub(super) fn past_door(&self, mut state: State, service: &'j Value, id: &str) -> A {
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

    pub(super) fn public_door(&self, state: State, service: &'j Value) -> A {
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
