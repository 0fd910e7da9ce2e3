//! Gateways, the internet, sites and hubs.

use super::*;

impl<'j> Walker<'j> {
    pub(super) fn traffic(&self, network: &str, subnet: Option<&str>) -> Vec<&'j str> {
        let of = |item: &'j Value| text(item, "internet_traffic").unwrap_or("both_ways");
        let mut all = vec![of(self.get("networks", network))];
        all.extend(subnet.map(|subnet| of(self.get("subnets", subnet))));
        all
    }

    pub(super) fn translatable(packet: &Packet) -> bool {
        packet.source.is_ipv4()
            && (matches!(packet.protocol, 6 | 17) || (packet.protocol == 1 && packet.low >> 8 == 8))
    }

    pub(super) fn at_gateway(
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
    pub(super) fn mapping(&self, network: &str, own: IpAddr) -> Option<IpAddr> {
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

    pub(super) fn private_of(&self, public: &Value) -> IpAddr {
        let interface = self.naive.interface(text(public, "interface").unwrap());
        let own = list(interface, "addresses")
            .iter()
            .map(|a| a.as_str().unwrap().parse::<IpAddr>().unwrap());
        own.into_iter().find(|a| a.is_ipv4()).unwrap()
    }

    pub(super) fn internet_gateway(&self, network: &str) -> Option<&'j Value> {
        self.all("gateways").iter().find(|g| {
            text(g, "kind") == Some("internet")
                && text(g, "network") == Some(network)
                && !no(g, "attached")
        })
    }

    pub(super) fn is_public(&self, to: IpAddr) -> bool {
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

    pub(super) fn on_internet(&self, mut state: State) -> A {
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

    pub(super) fn come_in(
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
    pub(super) fn back_on_internet(&self, mut state: State) -> A {
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

    pub(super) fn shared(&self, mut state: State, network: &str, subnet: Option<&str>) -> A {
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

    pub(super) fn at_site(&self, mut state: State, site: &str) -> A {
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

    pub(super) fn leave_site(&self, state: State, site: &str) -> A {
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

    pub(super) fn hub(
        &self,
        mut state: State,
        hub: &'j Value,
        link: &'j Value,
        steered: bool,
    ) -> A {
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
}
