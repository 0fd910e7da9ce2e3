//! Hubs, their links and domains.

use super::*;

impl Builder {
    pub(super) fn hub(&mut self, origin: Origin, written: &WrittenHub) {
        let holder = format!("hub {}", written.id.0.value);
        let link_names: Vec<&Spanned<Name>> =
            written.links.0.iter().map(|link| &link.id.0).collect();
        let domain_names: Vec<&Spanned<Name>> = written
            .domains
            .0
            .iter()
            .map(|domain| &domain.id.0)
            .collect();
        for (what, names) in [("links", &link_names), ("domains", &domain_names)] {
            for (at, name) in names.iter().enumerate() {
                if let Some(earlier) = names[..at]
                    .iter()
                    .find(|earlier| earlier.value == name.value)
                {
                    self.reading.problems.push(Problem {
                        title: format!("two {what} of {holder} have the name `{}`", name.value),
                        span: name.span,
                        label: "the second".to_owned(),
                        related: Some((earlier.span, "the first".to_owned())),
                        help: None,
                    });
                }
            }
        }
        let mut links = Vec::with_capacity(written.links.0.len());
        for (index, link) in (0_u32..).zip(&written.links.0) {
            let at = Origin {
                span: link.span,
                within: Some(Within::list("links", index)),
                ..origin
            };
            links.push(self.link(link, &domain_names, &holder, at));
        }
        let mut domains = Vec::with_capacity(written.domains.0.len());
        for (index, domain) in (0_u32..).zip(&written.domains.0) {
            let at = Origin {
                span: domain.span,
                within: Some(Within::list("domains", index)),
                ..origin
            };
            let routes = domain
                .routes
                .0
                .iter()
                .filter_map(|route| self.domain_route(route, &link_names, &holder, at));
            let routes = routes.collect();
            domains.push(Domain {
                name: domain.id.0.value.clone(),
                origin: at,
                routes,
            });
        }
        let owner = self.owner(written.owner.as_ref());
        self.estate.hubs.fill(
            self.names.hubs.next(),
            Hub {
                name: written.id.0.value.clone(),
                origin,
                domains,
                links,
                owner,
            },
        );
    }

    pub(super) fn link(
        &mut self,
        written: &WrittenLink,
        domains: &[&Spanned<Name>],
        holder: &str,
        origin: Origin,
    ) -> Link {
        let holder = format!("{holder}, link {}", written.id.0.value);
        let (name, at) = (
            &written.to.0.name,
            Origin {
                span: written.to.0.span,
                ..origin
            },
        );
        let to = match written.to.0.kind {
            "network" => LinkEnd::Network(self.refer(
                self.names.networks.get(name),
                name,
                "network",
                &holder,
                at,
            )),
            "site" => {
                LinkEnd::Site(self.refer(self.names.sites.get(name), name, "site", &holder, at))
            }
            "hub" => LinkEnd::Hub(self.refer(self.names.hubs.get(name), name, "hub", &holder, at)),
            _ => LinkEnd::Firewall(self.refer(
                self.names.firewalls.get(name),
                name,
                "firewall",
                &holder,
                at,
            )),
        };
        let subnet = written.subnet.as_ref().and_then(|name| {
            let subnet: Option<Id<Subnet>> = self.names.subnets.need(name, &mut self.reading);
            let fits = subnet.is_none_or(|subnet| match &to {
                LinkEnd::Network(network) => {
                    network.found() == Some(self.estate.subnets[subnet].network)
                }
                _ => false,
            });
            if !fits {
                let title = format!(
                    "the subnet `{}` is not in the network of the link",
                    name.value
                );
                self.reading.fail(name.span, title, "elsewhere", None);
            }
            subnet
        });
        let reading = &mut self.reading;
        let mut domain = |name: &Spanned<Name>| {
            let found = domains.iter().position(|domain| domain.value == name.value);
            if found.is_none() {
                let all: Vec<&str> = domains.iter().map(|domain| &*domain.value).collect();
                let help = crate::reading::did_you_mean(&name.value, all.iter().copied())
                    .or_else(|| (!all.is_empty()).then(|| format!("there are {}", all.join(", "))));
                reading.fail(
                    name.span,
                    format!("the hub has no domain `{}`", name.value),
                    "not in this hub",
                    help,
                );
            }
            found
        };
        let reads = written.reads.as_ref().and_then(&mut domain);
        let announces_into = written
            .announces_into
            .0
            .iter()
            .filter_map(&mut domain)
            .collect();
        let announces = written.announces.as_ref().map(|blocks| {
            self.blocks(blocks, origin, &holder);
            blocks.0.iter().map(|block| block.value.range).collect()
        });
        let mut steer = |name: &Spanned<Name>| {
            let found = self.names.firewalls.get(&name.value);
            self.refer(
                found,
                &name.value,
                "firewall",
                &holder,
                Origin {
                    span: name.span,
                    ..origin
                },
            )
        };
        let steer_internet = written.steer_internet.as_ref().map(&mut steer);
        let steer_private = written.steer_private.as_ref().map(&mut steer);
        Link {
            name: written.id.0.value.clone(),
            origin,
            to,
            subnet,
            up: written.up.unwrap_or(true),
            reads,
            announces_into,
            announces,
            offers_default: written.offers_default.unwrap_or(false),
            steer_internet,
            steer_private,
        }
    }

    pub(super) fn domain_route(
        &mut self,
        written: &WrittenDomainRoute,
        links: &[&Spanned<Name>],
        holder: &str,
        origin: Origin,
    ) -> Option<DomainRoute> {
        let at = Origin {
            span: written.span,
            ..origin
        };
        let destinations = destinations_of(self.entries(&written.to.0.0, at, holder));
        let text = &written.next_hop.0;
        let hop = match (&*text.value, split_kind(&text.value, &["link"])) {
            ("blackhole", _) => DomainHop::Blackhole,
            (_, Some((_, name))) => match links.iter().position(|link| *link.value == *name) {
                Some(found) => DomainHop::Link(found),
                None => {
                    let missing: Reference<()> = self.refer(
                        None,
                        &name.into(),
                        "link",
                        holder,
                        Origin {
                            span: text.span,
                            ..origin
                        },
                    );
                    match missing {
                        Reference::Missing(name) => DomainHop::Missing(name),
                        Reference::Found(_) => return None,
                    }
                }
            },
            _ => {
                let help = Some("write link:NAME, or blackhole".to_owned());
                self.reading.fail(
                    text.span,
                    format!("`{}` is not a next hop in a hub", text.value),
                    "here",
                    help,
                );
                return None;
            }
        };
        let (metric, enabled) = (written.metric.unwrap_or(0), written.enabled.unwrap_or(true));
        Some(DomainRoute {
            origin: at,
            destinations,
            hop,
            metric,
            enabled,
        })
    }
}

/// Which side of a packet a translation changes.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Side {
    Source,
    Destination,
}

impl Side {
    pub(super) fn field(self) -> &'static str {
        match self {
            Self::Source => "source_translations",
            Self::Destination => "destination_translations",
        }
    }
}
