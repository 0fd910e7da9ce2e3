//! Firewalls and their policies, balancers, services, hubs, and DNS names.

mod balancers;
mod firewalls;
mod hubs;
mod names;

use hubs::Side;

use super::Builder;
use super::filters::union_of;
use super::network::{destinations_of, tags_of};
use crate::reading::Spanned;
use crate::sections::Collected;
use crate::values::{WrittenBalancerKind, WrittenPeer, WrittenReplies};
use crate::written::{
    WrittenBackEnd, WrittenBalancer, WrittenDomainRoute, WrittenFirewall, WrittenFirewallPolicy,
    WrittenFirewallRule, WrittenHub, WrittenLink, WrittenRecord, WrittenService,
    WrittenTranslation,
};
use heronshale_model::estate::{
    Action, BackEnd, Balancer, BalancerKind, DnsRecord, DnsZone, Domain, DomainHop, DomainRoute,
    Filter, FilterKind, Firewall, FirewallLeg, FirewallMatch, FirewallRoute, FrontEnd, Hub, Id,
    Interface, Link, LinkEnd, Member, Name, NameSet, OwnService, Peer, PlatformService, PublicDoor,
    RecordData, Reference, Rule, Section, Subnet, Translation,
};
use heronshale_model::notation::split_kind;
use heronshale_model::source::{Origin, Problem, Span, Within};
use heronshale_sets::address::Family;
use rustc_hash::FxHashMap;

impl Builder {
    pub(super) fn devices(&mut self, collected: &Collected) {
        for (origin, written) in &collected.firewall_policies {
            self.firewall_policy(*origin, written);
        }
        self.bases_end(collected);
        for (origin, written) in &collected.firewalls {
            self.firewall(*origin, written);
        }
        self.one_role_each(collected);
        for (origin, written) in &collected.balancers {
            self.balancer(*origin, written);
        }
        for (origin, written) in &collected.services {
            self.service(*origin, written);
        }
        for (origin, written) in &collected.hubs {
            self.hub(*origin, written);
        }
        for (origin, written) in &collected.name_sets {
            let names = written
                .names
                .0
                .iter()
                .map(|name| self.dns_name(name))
                .collect();
            let owner = self.owner(written.owner.as_ref());
            self.estate.name_sets.fill(
                self.names.name_sets.next(),
                NameSet {
                    name: written.id.0.value.clone(),
                    origin: *origin,
                    names,
                    owner,
                },
            );
        }
        for (origin, written) in &collected.dns_zones {
            let apex = self.dns_name(&written.zone.0);
            let holder = format!("zone {}", written.id.0.value);
            let networks = written.networks.0.iter().map(|name| {
                let found = self.names.networks.get(&name.value);
                self.refer(
                    found,
                    &name.value,
                    "network",
                    &holder,
                    Origin {
                        span: name.span,
                        ..*origin
                    },
                )
            });
            let networks = networks.collect();
            let records = self.records(&written.records.0, *origin, Some(&apex));
            let owner = self.owner(written.owner.as_ref());
            let (name, fall_through) = (written.id.0.value.clone(), written.fall_through);
            let zone = DnsZone {
                name,
                origin: *origin,
                apex,
                networks,
                records,
                fall_through,
                owner,
            };
            self.estate
                .dns_zones
                .fill(self.names.dns_zones.next(), zone);
        }
        for (origin, written) in &collected.public_names {
            let records = self.records(std::slice::from_ref(written), *origin, None);
            self.estate.public_names.extend(records);
        }
    }

    fn peers(&mut self, peers: &[Spanned<WrittenPeer>], holder: &str, origin: Origin) -> Vec<Peer> {
        peers
            .iter()
            .map(|peer| self.peer(peer, holder, origin))
            .collect()
    }

    fn port(&mut self, port: Option<&Spanned<u32>>) -> Option<u16> {
        let port = port?;
        let found = u16::try_from(port.value).ok();
        if found.is_none() {
            let help = Some("ports are 0 to 65535".to_owned());
            self.reading.fail(
                port.span,
                format!("{} is not a port", port.value),
                "too large",
                help,
            );
        }
        found
    }
}
