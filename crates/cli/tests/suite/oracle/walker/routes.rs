//! Routes and hubs of the naive walker.

use super::*;

impl<'j> Walker<'j> {
    pub(super) fn peerings(&self) -> impl Iterator<Item = &'j Value> {
        self.all("peerings")
            .iter()
            .filter(|peering| list(peering, "sides").iter().all(|side| !no(side, "up")))
    }

    pub(super) fn side<'p>(&self, peering: &'p Value, network: &str) -> Option<&'p Value> {
        list(peering, "sides")
            .iter()
            .find(|side| text(side, "network") == Some(network))
    }

    pub(super) fn other<'p>(&self, peering: &'p Value, network: &str) -> Option<&'p str> {
        self.side(peering, network)?;
        list(peering, "sides")
            .iter()
            .filter_map(|side| text(side, "network"))
            .find(|other| *other != network)
    }

    pub(super) fn peered(&self, a: &str, b: &str) -> Option<&'j Value> {
        self.peerings()
            .find(|peering| self.other(peering, a) == Some(b))
    }

    pub(super) fn lent(&self, peering: &Value, user: &str) -> Vec<&'j Value> {
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

    pub(super) fn site_gateways(&self, network: &str) -> Vec<&'j Value> {
        let fits = |g: &&Value| {
            text(g, "kind") == Some("site") && text(g, "network") == Some(network) && !no(g, "up")
        };
        self.all("gateways").iter().filter(fits).collect()
    }

    pub(super) fn announces(&self, site: &str) -> &'j [Value] {
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
    pub(super) fn winners(
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
    pub(super) fn domain(&self, hub: &'j Value, domain: &str) -> Vec<(String, u64, String)> {
        self.domain_ranked(hub, domain)
            .into_iter()
            .map(|(block, _, metric, hop)| (block, metric, hop))
            .collect()
    }

    pub(super) fn domain_ranked(
        &self,
        hub: &'j Value,
        domain: &str,
    ) -> Vec<(String, u8, u64, String)> {
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

    pub(super) fn link(&self, hub: &'j Value, to: &str) -> Option<&'j Value> {
        list(hub, "links")
            .iter()
            .find(|link| text(link, "to") == Some(to) && !no(link, "up"))
    }

    /// What a written next hop leads to; `dead` if it does not exist, is down or not attached.
    pub(super) fn resolved(&self, network: &str, subnet: Option<&str>, hop: &str) -> Hop {
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
}
