//! Firewalls and their policies.

use super::*;

impl<'j> Walker<'j> {
    pub(super) fn zone(&self, firewall: &'j Value, leg: Option<&str>) -> Option<&'j str> {
        let leg = leg?;
        list(firewall, "interfaces")
            .iter()
            .find(|l| text(l, "interface") == Some(leg))
            .and_then(|l| text(l, "zone"))
    }

    pub(super) fn zone_fits(rule: &Value, field: &str, zone: Option<&str>) -> bool {
        rule.get(field)
            .is_none_or(|zones| zones.as_array().unwrap().iter().any(|z| z.as_str() == zone))
    }

    pub(super) fn reach_of(&self, firewall: &'j Value) -> &'j str {
        let leg = list(firewall, "interfaces")
            .first()
            .and_then(|leg| text(leg, "interface"));
        leg.map_or("*", |leg| self.net(self.subnet_of(leg)))
    }

    pub(super) fn translation(&self, rule: &Value, packet: &Packet, network: &str) -> bool {
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
    pub(super) fn out_leg(
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

    pub(super) fn firewall(
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

    pub(super) fn out_of(
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

    pub(super) fn undo_firewall(
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

    pub(super) fn firewall_home(
        &self,
        state: State,
        firewall: &'j Value,
        entry: Option<&str>,
    ) -> A {
        self.firewall_on(state, firewall, entry, None)
    }

    /// A reply goes on from a firewall that knows it.
    pub(super) fn firewall_on(
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

    pub(super) fn policy(
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
    pub(super) fn in_order(&self, policy: &'j Value, network: &str) -> Vec<&'j Value> {
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
    pub(super) fn first(
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
        // Who asks by a name is not a proxy.
        let whose = if state.name.is_some() { "asked" } else { "any" };
        self.turn(
            state,
            &format!("{whose} name of {}", meant.join("+")),
            &on,
            &otherwise,
        )
    }

    pub(super) fn is_name_of(&self, name: &str, set: &str) -> bool {
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
    pub(super) fn may_be(&self, state: &State, condition: &str, is: bool) -> bool {
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
    pub(super) fn turn(
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
}
