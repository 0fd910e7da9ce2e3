//! Everything in a snapshot that has some addresses: records, sets, routes, rules.

use super::Holding;
use heronshale_audit::describe::{filter_text, peer_text, rule_says};
use heronshale_engine::fabric::Fabric;
use heronshale_model::estate::{
    Estate, GatewayKind, Peer, RecordData, Reference, RouteDestination, SetItem,
};
use heronshale_model::source::Origin;
use heronshale_sets::address::{Addresses, Block};
use std::net::IpAddr;

pub(super) struct Search<'v, 'e> {
    pub(super) view: &'v Fabric<'e>,
    /// What is looked for: whatever has some of it is found.
    pub(super) wanted: Addresses,
    pub(super) found: Vec<Holding>,
}

impl Search<'_, '_> {
    pub(super) fn add(
        &mut self,
        kind: &str,
        name: impl ToString,
        by: impl ToString,
        origin: &Origin,
    ) {
        let place = self.view.estate.sources.place(origin);
        self.found.push(Holding {
            kind: kind.to_owned(),
            name: name.to_string(),
            by: by.to_string(),
            place,
        });
    }

    /// The first run of a set with some of the addresses, if it has any.
    fn part(&self, set: &Addresses) -> Option<String> {
        let holds = |range: &heronshale_sets::address::Range| {
            let range: Addresses = [*range].into_iter().collect();
            range.overlaps(&self.wanted)
        };
        set.ranges().find(holds).map(|range| range.to_string())
    }

    fn in_block(&self, block: &Block) -> bool {
        let range: Addresses = [block.range].into_iter().collect();
        range.overlaps(&self.wanted)
    }

    fn in_set(&mut self, kind: &str, name: impl ToString, set: &Addresses, origin: &Origin) {
        if let Some(by) = self.part(set) {
            self.add(kind, name, by, origin);
        }
    }

    pub(super) fn records(&mut self) {
        let estate: &Estate = self.view.estate;
        let wanted = self.wanted.clone();
        let is_wanted = |address: Option<IpAddr>| address.is_some_and(|one| wanted.contains(one));
        for interface in estate.interfaces.items() {
            self.in_set(
                "interface",
                &interface.name,
                &interface.addresses,
                &interface.origin,
            );
        }
        for public in estate
            .public_addresses
            .items()
            .iter()
            .filter(|public| wanted.contains(public.address))
        {
            let by = public.interface.map_or_else(
                || "unused".to_owned(),
                |interface| format!("of interface {}", estate.interfaces[interface].name),
            );
            self.add("public address", &public.name, by, &public.origin);
        }
        for gateway in estate.gateways.items() {
            let GatewayKind::Nat {
                public,
                address: own,
                ..
            } = &gateway.kind
            else {
                continue;
            };
            for (held, by) in [(public, "its public address"), (own, "its own address")] {
                if is_wanted(*held) {
                    self.add("gateway", &gateway.name, by, &gateway.origin);
                }
            }
        }
        for subnet in estate.subnets.items() {
            self.in_set("subnet", &subnet.name, &subnet.blocks, &subnet.origin);
        }
        for network in estate.networks.items() {
            self.in_set("network", &network.name, &network.blocks, &network.origin);
        }
        for site in estate.sites.items() {
            self.in_set("site", &site.name, &site.holds, &site.origin);
            self.in_set(
                "site's announcement",
                &site.name,
                &site.announces,
                &site.origin,
            );
            self.in_set(
                "what a site knows",
                &site.name,
                &site.knows.clone().unwrap_or_default(),
                &site.origin,
            );
        }
        self.devices();
        self.names();
        for gap in &estate.gaps {
            self.in_set(
                "gap",
                &gap.object,
                gap.blocks.as_ref().unwrap_or(&Addresses::empty()),
                &gap.origin,
            );
        }
    }

    /// Firewalls with their translations, balancers, services, links of hubs.
    fn devices(&mut self) {
        let estate: &Estate = self.view.estate;
        let wanted = self.wanted.clone();
        let is_wanted = |address: Option<IpAddr>| address.is_some_and(|one| wanted.contains(one));
        for firewall in estate.firewalls.items() {
            self.in_set(
                "firewall",
                &firewall.name,
                &firewall.addresses,
                &firewall.origin,
            );
            for translation in firewall
                .destination_translations
                .iter()
                .chain(&firewall.source_translations)
            {
                let sides = [
                    ("from ", &translation.sources),
                    ("to ", &translation.destinations),
                ];
                let mut by: Vec<String> = sides
                    .into_iter()
                    .flat_map(|(word, peers)| self.held_by(word, peers.iter().flatten()))
                    .collect();
                by.extend(is_wanted(translation.to).then(|| "translates to it".to_owned()));
                if !by.is_empty() {
                    let id = translation
                        .id
                        .as_ref()
                        .map_or_else(String::new, |id| format!(", translation {id}"));
                    self.add(
                        "translation",
                        format!("firewall {}{id}", firewall.name),
                        by.join(", "),
                        &translation.origin,
                    );
                }
            }
            for route in firewall.routes.iter().flatten() {
                self.by_destination(
                    format!("firewall {}", firewall.name),
                    &route.destinations,
                    &route.origin,
                );
            }
        }
        for balancer in estate.balancers.items() {
            for front in balancer
                .front_ends
                .iter()
                .filter(|front| wanted.contains(front.address))
            {
                self.add(
                    "front end",
                    format!("balancer {}", balancer.name),
                    front.address,
                    &front.origin,
                );
            }
            for end in balancer
                .back_ends
                .iter()
                .filter(|end| is_wanted(end.address))
            {
                self.add(
                    "back end",
                    format!("balancer {}", balancer.name),
                    end.address.map_or_else(String::new, |one| one.to_string()),
                    &end.origin,
                );
            }
        }
        for service in estate.services.items() {
            if let Some(door) = &service.public_door {
                self.in_set(
                    "public door",
                    format!("service {}", service.name),
                    &door.addresses,
                    &door.origin,
                );
                let by = self.held_by("allows ", door.allowed.iter().flatten());
                if !by.is_empty() {
                    self.add(
                        "public door",
                        format!("service {}", service.name),
                        by.join(", "),
                        &door.origin,
                    );
                }
            }
        }
        for hub in estate.hubs.items() {
            for domain in &hub.domains {
                for route in &domain.routes {
                    let name = format!("hub {}, domain {}", hub.name, domain.name);
                    self.by_destination(name, &route.destinations, &route.origin);
                }
            }
            for link in &hub.links {
                let announced: Addresses = link.announces.iter().flatten().copied().collect();
                self.in_set(
                    "announcement",
                    format!("hub {}, link {}", hub.name, link.name),
                    &announced,
                    &link.origin,
                );
            }
        }
    }

    /// DNS records.
    fn names(&mut self) {
        let estate = self.view.estate;
        let zones = estate.dns_zones.items().iter().flat_map(|zone| {
            zone.records
                .iter()
                .map(move |record| (record, format!("zone {}", zone.name)))
        });
        let public = estate
            .public_names
            .iter()
            .map(|record| (record, "the public".to_owned()));
        for (record, by) in zones.chain(public) {
            if matches!(&record.data, RecordData::Addresses(all) if all.iter().any(|one| self.wanted.contains(*one)))
            {
                self.add("DNS name", &record.name, by, &record.origin);
            }
        }
    }

    /// The peers that hold it by more than "any", each behind a word.
    fn held_by<'p>(&self, word: &str, peers: impl Iterator<Item = &'p Peer>) -> Vec<String> {
        let holds = |peer: &&Peer| {
            **peer != Peer::Any && self.view.peer(peer, None).sure.overlaps(&self.wanted)
        };
        peers
            .filter(holds)
            .map(|peer| format!("{word}{}", peer_text(self.view.estate, peer)))
            .collect()
    }

    pub(super) fn sets(&mut self) {
        for (id, set) in self.view.estate.address_sets.iter() {
            let written = set.content.iter().flatten().find_map(|item| match item {
                SetItem::Block(block) if self.in_block(block) => Some(block.range.to_string()),
                SetItem::Set(Reference::Found(inner))
                    if self.view.set(*inner).matched.sure.overlaps(&self.wanted) =>
                {
                    Some(format!(
                        "set:{}",
                        self.view.estate.address_sets[*inner].name
                    ))
                }
                _ => None,
            });
            match written {
                Some(by) => self.add("set", &set.name, by, &set.origin),
                None if self.view.set(id).matched.maybe.overlaps(&self.wanted) => {
                    self.add(
                        "set",
                        &set.name,
                        "unknown: its content is not known",
                        &set.origin,
                    );
                }
                None => {}
            }
        }
    }

    pub(super) fn routes(&mut self) {
        for table in self.view.estate.route_tables.items() {
            for route in &table.routes {
                let id = route
                    .id
                    .as_ref()
                    .map_or_else(String::new, |id| format!(", route {id}"));
                self.by_destination(
                    format!("table {}{id}", table.name),
                    &route.destinations,
                    &route.origin,
                );
            }
        }
    }

    /// A route, if one of its destinations holds the address.
    fn by_destination(&mut self, name: String, destinations: &[RouteDestination], origin: &Origin) {
        let by = destinations
            .iter()
            .find_map(|destination| match destination {
                RouteDestination::Block(block) => {
                    self.in_block(block).then(|| block.range.to_string())
                }
                RouteDestination::Set(Reference::Found(set)) => {
                    let holds = self.view.set(*set).matched.sure.overlaps(&self.wanted);
                    holds.then(|| format!("set:{}", self.view.estate.address_sets[*set].name))
                }
                RouteDestination::Set(Reference::Missing(_)) => None,
            });
        if let Some(by) = by {
            self.add("route", name, by, origin);
        }
    }

    /// Rules whose peers or own side hold it by more than "any"; how many hold it by that alone.
    pub(super) fn rules(&mut self) -> usize {
        let estate = self.view.estate;
        let mut about_any = 0;
        for id in estate.rule_ids() {
            let rule = estate.rule(id);
            let here = if rule.firewall.is_some() {
                "to "
            } else {
                "here "
            };
            let excepted = rule
                .firewall
                .iter()
                .flat_map(|more| &more.except_destinations);
            let mut by = self.held_by("", rule.peers.iter().flatten());
            by.extend(self.held_by(here, rule.local.iter().flatten()));
            by.extend(self.held_by("except ", rule.except.iter().chain(excepted)));
            if by.is_empty() {
                about_any += usize::from(
                    rule.peers
                        .as_ref()
                        .is_none_or(|peers| peers.contains(&Peer::Any)),
                );
                continue;
            }
            let name = format!(
                "{} {} {}: {}",
                filter_text(estate, id.filter),
                id.direction.word(),
                estate.rule_name(id),
                rule_says(estate, id)
            );
            self.add("rule", name, by.join(", "), &rule.origin);
        }
        about_any
    }
}
