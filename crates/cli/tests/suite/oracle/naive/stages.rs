//! Stages, one packet at a time.

use super::*;

impl<'j> Evaluator<'j> {
    pub fn service_matches(service: &str, packet: &Packet) -> bool {
        let mut words = service.split_whitespace();
        let name = words.next().unwrap();
        let low = words.next();
        let ported = matches!(packet.protocol, 6 | 17 | 132);
        let within = |text: &str, number: u16| {
            text.split(',').any(|part| {
                let (first, last) = part.split_once('-').unwrap_or((part, part));
                (first.parse::<u16>().unwrap()..=last.parse().unwrap()).contains(&number)
            })
        };
        let protocol = match name {
            "any" => return low.is_none_or(|ports| ported && within(ports, packet.low)),
            "tcp" => 6,
            "udp" => 17,
            "sctp" => 132,
            "icmp" => 1,
            "icmpv6" => 58,
            "gre" => 47,
            number => number.parse().unwrap(),
        };
        if protocol != packet.protocol {
            return false;
        }
        let Some(low) = low else { return true };
        if ported {
            return within(low, packet.low);
        }
        if !matches!(protocol, 1 | 58) {
            return false;
        }
        let (kind, code) = low
            .split_once('/')
            .map_or((low, None), |(kind, code)| (kind, Some(code)));
        within(kind, packet.low >> 8) && code.is_none_or(|code| within(code, packet.low & 0xFF))
    }

    /// Whether a rule matches; what depends on the snapshot's lacks is asked.
    pub(super) fn matches(
        &self,
        rule: &Value,
        packet: &Packet,
        direction: &str,
        network: &str,
    ) -> bool {
        if rule.get("enabled") == Some(&Value::Bool(false)) {
            return false;
        }
        // All moments are written alike, so that texts compare as moments do; a date means its end.
        if let (Some(end), Some(now)) = (text(rule, "enforced_until"), self.taken())
            && format!("{end}T23:59:59Z").as_str() < now
        {
            return false;
        }
        let services = list(rule, "services");
        if !services.is_empty()
            && !services
                .iter()
                .any(|s| Self::service_matches(s.as_str().unwrap(), packet))
        {
            return false;
        }
        if let Some(ports) = text(rule, "source_ports") {
            let (first, last) = ports.split_once('-').unwrap_or((ports, ports));
            let inside = (first.parse::<u16>().unwrap()..=last.parse().unwrap())
                .contains(&packet.source_port);
            if !matches!(packet.protocol, 6 | 17 | 132) || !inside {
                return false;
            }
        }
        let (peer, local) = if direction == "in" {
            (packet.source, packet.destination)
        } else {
            (packet.destination, packet.source)
        };
        let of = |field: &str| {
            rule.get(field)
                .map(|peers| peers.as_array().unwrap().as_slice())
        };
        !self.any_peer(list(rule, "except"), peer, network)
            && of("peers").is_none_or(|peers| self.any_peer(peers, peer, network))
            && of("local").is_none_or(|locals| self.any_peer(locals, local, network))
    }

    /// Rules of several filters, first those of the lowest priority; none last, as written.
    pub(super) fn ordered_rules(
        &self,
        filters: &[&'j Value],
        direction: &str,
        network: &str,
    ) -> Vec<&'j Value> {
        let field = if direction == "in" {
            "inbound"
        } else {
            "outbound"
        };
        let mut rules: Vec<&Value> = filters
            .iter()
            .flat_map(|filter| list(filter, field))
            .collect();
        let deny_first = self.word(network, "equal_priority", "deny_first") == "deny_first";
        rules.sort_by_key(|rule| {
            let priority = rule.get("priority").and_then(Value::as_u64);
            let refuses = matches!(text(rule, "action"), Some("deny" | "reject"));
            (
                priority.unwrap_or(u64::MAX),
                deny_first && priority.is_some() && !refuses,
            )
        });
        rules
    }

    pub(super) fn first_match(
        &self,
        rules: &[&'j Value],
        packet: &Packet,
        direction: &str,
        network: &str,
    ) -> Option<&'j Value> {
        rules
            .iter()
            .copied()
            .find(|rule| self.matches(rule, packet, direction, network))
    }

    pub(super) fn decided(
        stage: &'static str,
        action: &str,
        keeps_state: bool,
        by: &str,
    ) -> Decision {
        let goes_on = matches!(action, "allow" | "allow-finally");
        Decision {
            stage,
            goes_on,
            finally: action == "allow-finally",
            keeps_state,
            by: by.to_owned(),
        }
    }

    pub(super) fn by_rule(stage: &'static str, rule: &Value, stateful: bool) -> Decision {
        let keeps_state = stateful && rule.get("stateless") != Some(&Value::Bool(true));
        Self::decided(
            stage,
            text(rule, "action").unwrap_or("allow"),
            keeps_state,
            text(rule, "id").unwrap(),
        )
    }

    pub(super) fn own_firewall_stage(
        &self,
        interface: &'j Value,
        packet: &Packet,
        direction: &str,
        network: &str,
    ) -> Option<Decision> {
        let filter = self.find("own_firewalls", self.own_firewall(interface)?);
        let Some(filter) = filter else {
            let open = self.ask(format!(
                "own firewall at {} lets {direction} {packet:?}",
                text(interface, "id").unwrap()
            ));
            return Some(Self::decided(
                "own",
                if open { "allow" } else { "deny" },
                true,
                "lacking",
            ));
        };
        let rules = self.ordered_rules(&[filter], direction, network);
        if let Some(rule) = self.first_match(&rules, packet, direction, network) {
            return Some(Self::by_rule("own", rule, true));
        }
        let default = text(
            filter,
            if direction == "in" {
                "default_inbound"
            } else {
                "default_outbound"
            },
        )
        .unwrap();
        Some(Self::decided("own", default, true, "default"))
    }

    pub fn policies(&self, interface: &'j Value) -> Vec<&'j Value> {
        let network = self.network_of(interface);
        let mut scopes = vec!["estate".to_owned()];
        let mut division = text(self.find("networks", network).unwrap(), "division");
        let mut inner = Vec::new();
        while let Some(id) = division {
            inner.push(format!("division:{id}"));
            division = text(self.find("divisions", id).unwrap(), "parent");
        }
        scopes.extend(inner.into_iter().rev());
        scopes.push(format!("network:{network}"));
        let mut found = Vec::new();
        for scope in scopes {
            let mut here: Vec<&Value> = list(self.estate, "scope_policies")
                .iter()
                .filter(|p| text(p, "scope") == Some(&scope))
                .collect();
            here.sort_by_key(|policy| policy["order"].as_u64().unwrap());
            found.extend(here.into_iter().filter(|policy| {
                policy.get("targets").is_none_or(|targets| {
                    targets.as_array().unwrap().iter().any(|target| {
                        let (kind, name) = target.as_str().unwrap().split_once(':').unwrap();
                        match kind {
                            "tag" => name.split(',').all(|pair| {
                                pair.split_once('=')
                                    .is_some_and(|(k, v)| self.has_tag(interface, k, v))
                            }),
                            "identity" => self.identity(interface) == Some(name),
                            "network" => network == name,
                            "subnet" => text(interface, "subnet") == Some(name),
                            _ => text(interface, "id") == Some(name),
                        }
                    })
                })
            }));
        }
        found
    }

    pub(super) fn policy_stage(
        &self,
        interface: &'j Value,
        packet: &Packet,
        direction: &str,
        network: &str,
    ) -> Option<Decision> {
        let policies = self.policies(interface);
        let implied = self.setting(network, "implied_pair") == Some(&Value::Bool(true));
        if policies.is_empty() && !implied {
            return None;
        }
        for policy in policies {
            let rules = self.ordered_rules(&[policy], direction, network);
            match self.first_match(&rules, packet, direction, network) {
                Some(rule) if text(rule, "action") != Some("defer") => {
                    return Some(Self::by_rule("policies", rule, true));
                }
                _ => {}
            }
        }
        if implied {
            return Some(Self::decided(
                "policies",
                if direction == "in" { "deny" } else { "allow" },
                true,
                "implied pair",
            ));
        }
        Some(Self::decided("policies", "allow", true, "no policy"))
    }

    /// The groups at one place as one stage.
    pub(super) fn place(
        &self,
        stage: &'static str,
        names: &[&'j str],
        packet: &Packet,
        direction: &str,
        network: &str,
    ) -> Decision {
        let found: Vec<&Value> = names
            .iter()
            .filter_map(|name| self.find("security_groups", name))
            .collect();
        let missing = found.len() < names.len();
        let unknown = |evaluator: &Self| {
            let open = evaluator.ask(format!("{stage} {names:?} let {direction} {packet:?}"));
            Self::decided(stage, if open { "allow" } else { "deny" }, true, "lacking")
        };
        if found.is_empty() {
            return unknown(self);
        }
        if text(found[0], "form") == Some("ordered") {
            if missing {
                return unknown(self);
            }
            let rules = self.ordered_rules(&found, direction, network);
            if let Some(rule) = self.first_match(&rules, packet, direction, network) {
                return Self::by_rule(stage, rule, true);
            }
            let field = if direction == "in" {
                "default_inbound"
            } else {
                "default_outbound"
            };
            let defaults: Vec<&str> = found
                .iter()
                .map(|group| text(group, field).unwrap_or("deny"))
                .collect();
            let action = if defaults.iter().all(|default| *default == "allow") {
                "allow"
            } else {
                "deny"
            };
            return Self::decided(stage, action, true, "default");
        }
        let field = if direction == "in" {
            "inbound"
        } else {
            "outbound"
        };
        let rules: Vec<&Value> = found.iter().flat_map(|group| list(group, field)).collect();
        let hits: Vec<&Value> = rules
            .into_iter()
            .filter(|rule| self.matches(rule, packet, direction, network))
            .collect();
        if let Some(first) = hits.first() {
            let stateless = hits
                .iter()
                .any(|rule| rule.get("stateless") == Some(&Value::Bool(true)));
            return Self::decided(stage, "allow", !stateless, text(first, "id").unwrap());
        }
        if missing {
            return unknown(self);
        }
        Self::decided(stage, "deny", true, "no rule")
    }

    pub(super) fn group_stages(
        &self,
        interface: &'j Value,
        packet: &Packet,
        direction: &str,
        network: &str,
    ) -> Vec<Decision> {
        let names = |item: &'j Value| {
            list(item, "groups")
                .iter()
                .map(|g| g.as_str().unwrap())
                .collect::<Vec<_>>()
        };
        let (own, subnet) = (names(interface), names(self.subnet_of(interface)));
        if own.is_empty() && subnet.is_empty() {
            let deny = self.word(network, "no_group", "allow") == "deny";
            return if deny {
                vec![Self::decided("groups", "deny", true, "no group")]
            } else {
                Vec::new()
            };
        }
        let ordered = own.iter().chain(&subnet).any(|g| {
            self.find("security_groups", g)
                .is_some_and(|g| text(g, "form") == Some("ordered"))
        });
        if self.word(network, "subnet_groups", "both_must_allow") == "pooled"
            && !ordered
            && !own.is_empty()
            && !subnet.is_empty()
        {
            let both: Vec<&str> = own.iter().chain(&subnet).copied().collect();
            return vec![self.place("groups", &both, packet, direction, network)];
        }
        let mut stages = Vec::new();
        if !own.is_empty() {
            stages.push(self.place("groups", &own, packet, direction, network));
        }
        if !subnet.is_empty() {
            stages.push(self.place("subnet groups", &subnet, packet, direction, network));
        }
        stages
    }

    pub(super) fn acl_stage(
        &self,
        interface: &'j Value,
        packet: &Packet,
        direction: &str,
        network: &str,
    ) -> Option<Decision> {
        let subnet = self.subnet_of(interface);
        let name = text(subnet, "acl")?;
        let peer = if direction == "in" {
            packet.source
        } else {
            packet.destination
        };
        if list(subnet, "blocks")
            .iter()
            .any(|block| in_block(peer, block.as_str().unwrap()))
        {
            return Some(Self::decided("ACL", "allow", true, "same subnet"));
        }
        let Some(acl) = self.find("network_acls", name) else {
            let open = self.ask(format!("ACL {name} lets {direction} {packet:?}"));
            return Some(Self::decided(
                "ACL",
                if open { "allow" } else { "deny" },
                false,
                "lacking",
            ));
        };
        let rules = self.ordered_rules(&[acl], direction, network);
        Some(match self.first_match(&rules, packet, direction, network) {
            Some(rule) => Self::by_rule("ACL", rule, false),
            None => Self::decided("ACL", "deny", false, "implied"),
        })
    }

    pub(super) fn is_platform(&self, packet: &Packet, direction: &str) -> bool {
        direction == "out"
            && list(&self.estate["estate"], "platform_traffic")
                .iter()
                .any(|traffic| {
                    let services = list(traffic, "services");
                    list(traffic, "addresses")
                        .iter()
                        .any(|block| in_block(packet.destination, block.as_str().unwrap()))
                        && (services.is_empty()
                            || services
                                .iter()
                                .any(|s| Self::service_matches(s.as_str().unwrap(), packet)))
                })
    }

    /// Whether it is a private door at which nothing is filtered.
    pub fn is_unfiltered_door(&self, interface: &'j Value) -> bool {
        let id = text(interface, "id");
        let mut services = list(self.estate, "services").iter();
        let is_door = services.any(|s| {
            list(s, "private_doors")
                .iter()
                .any(|door| door.as_str() == id)
        });
        let own = self.subnet_of(interface).get("filter_private_doors");
        let applies =
            own.or_else(|| self.setting(self.network_of(interface), "filter_private_doors"));
        is_door
            && (applies == Some(&Value::Bool(false))
                || interface.get("unfiltered") == Some(&Value::Bool(true)))
    }

    /// All stages of one side in their order, as if none stopped the packet.
    pub(super) fn stages(
        &self,
        id: &str,
        packet: &Packet,
        direction: &str,
        finally_counts: bool,
    ) -> Vec<Decision> {
        let interface = self.interface(id);
        let network = self.network_of(interface);
        let mut stages: Vec<Decision> = Vec::new();
        if self.is_unfiltered_door(interface) {
            return stages;
        }
        if interface.get("unfiltered") != Some(&Value::Bool(true)) {
            stages.extend(self.own_firewall_stage(interface, packet, direction, network));
            stages.extend(self.policy_stage(interface, packet, direction, network));
            stages.extend(self.group_stages(interface, packet, direction, network));
        }
        stages.extend(self.acl_stage(interface, packet, direction, network));
        if finally_counts && stages.iter().any(|decision| decision.finally) {
            for decision in stages
                .iter_mut()
                .filter(|d| matches!(d.stage, "groups" | "subnet groups"))
            {
                *decision = Self::decided(decision.stage, "allow", true, "finally");
            }
        }
        if self.is_platform(packet, direction) {
            for decision in &mut stages {
                *decision = Self::decided(decision.stage, "allow", true, "platform");
            }
        }
        if direction == "in" {
            let order = ["ACL", "policies", "subnet groups", "groups", "own"];
            stages.sort_by_key(|decision| order.iter().position(|stage| *stage == decision.stage));
        }
        stages
    }

    /// The stages of an interface's own, its subnet's ACL left out.
    pub fn own_stages(
        &self,
        id: &str,
        packet: &Packet,
        direction: &str,
        finally_counts: bool,
    ) -> Vec<Decision> {
        let mut stages = self.stages(id, packet, direction, finally_counts);
        stages.retain(|decision| decision.stage != "ACL");
        stages
    }

    /// Whether a subnet's ACL lets a packet on that leaves or enters.
    pub fn acl(&self, subnet: &Value, packet: &Packet, direction: &str) -> bool {
        let Some(name) = text(subnet, "acl") else {
            return true;
        };
        if self.is_platform(packet, direction) {
            return true;
        }
        let Some(acl) = self.find("network_acls", name) else {
            return self.ask(format!("ACL {name} lets {direction} {packet:?}"));
        };
        let rules = self.ordered_rules(&[acl], direction, text(subnet, "network").unwrap());
        let network = text(subnet, "network").unwrap();
        self.first_match(&rules, packet, direction, network)
            .is_some_and(|r| text(r, "action") == Some("allow"))
    }
}
