//! Balancers and platform services.

use super::*;

impl Builder {
    pub(super) fn balancer(&mut self, origin: Origin, written: &WrittenBalancer) {
        let network = self
            .names
            .networks
            .need(&written.network.0, &mut self.reading)
            .unwrap_or(Id::placeholder());
        let subnet = written
            .subnet
            .as_ref()
            .and_then(|name| self.names.subnets.need(name, &mut self.reading));
        let is_proxy = matches!(written.kind.0, WrittenBalancerKind::Proxy);
        if let Some(replies) = written.replies.as_ref().filter(|_| is_proxy) {
            let title = "only keeping balancers have the field `replies`".to_owned();
            self.reading
                .fail(replies.span, title, "this balancer is a proxy", None);
        }
        if let Some(first) = written.interfaces.0.first().filter(|_| !is_proxy) {
            let title = "only proxies have interfaces of their own".to_owned();
            self.reading.fail(
                first.span,
                title,
                "this balancer keeps the client's address",
                None,
            );
        }
        if is_proxy && written.interfaces.0.is_empty() {
            let title = "a proxy needs the field `interfaces`, from which it connects".to_owned();
            self.reading.fail(written.span, title, "in here", None);
        }
        let kind = if is_proxy {
            BalancerKind::Proxy
        } else {
            let routed_replies = written
                .replies
                .as_ref()
                .is_some_and(|r| r.value == WrittenReplies::Routed);
            BalancerKind::Keeping { routed_replies }
        };
        for front in &written.front_ends.0 {
            let Some(private) = &front.private else {
                continue;
            };
            let title = if !front.public.unwrap_or(false) {
                "only a public front end maps to a private address".to_owned()
            } else if Family::of(private.value) != Family::of(front.address.0.value) {
                "the private address has the other family".to_owned()
            } else {
                continue;
            };
            self.reading.fail(
                private.span,
                title,
                "here",
                Some("write `public: true` and two addresses of one family".to_owned()),
            );
        }
        let front_ends = (0_u32..)
            .zip(&written.front_ends.0)
            .map(|(index, front)| FrontEnd {
                origin: Origin {
                    span: front.span,
                    within: Some(Within::list("front_ends", index)),
                    ..origin
                },
                address: front.address.0.value,
                public: front.public.unwrap_or(false),
                private: front.private.as_ref().map(|private| private.value),
                services: front.services.0.clone(),
            });
        let front_ends: Vec<FrontEnd> = front_ends.collect();
        let family = front_ends
            .first()
            .map_or(Family::V4, |front| Family::of(front.address));
        let back_ends = (0_u32..)
            .zip(&written.back_ends.0)
            .filter_map(|(index, back)| {
                let at = Origin {
                    span: back.span,
                    within: Some(Within::list("back_ends", index)),
                    ..origin
                };
                self.back_end(back, family, at)
            });
        let back_ends = back_ends.collect();
        let interfaces = self.interfaces_named(&written.interfaces.0);
        let balancer = Balancer {
            name: written.id.0.value.clone(),
            origin,
            network,
            subnet,
            kind,
            front_ends,
            back_ends,
            interfaces,
            symmetric: written.symmetric.unwrap_or(false),
            owner: self.owner(written.owner.as_ref()),
        };
        self.estate
            .balancers
            .fill(self.names.balancers.next(), balancer);
    }

    pub(super) fn interfaces_named(&mut self, names: &[Spanned<Name>]) -> Vec<Id<Interface>> {
        names
            .iter()
            .filter_map(|name| self.names.interfaces.need(name, &mut self.reading))
            .collect()
    }

    pub(super) fn back_end(
        &mut self,
        written: &WrittenBackEnd,
        family: Family,
        origin: Origin,
    ) -> Option<BackEnd> {
        if written.interface.is_none() && written.address.is_none() {
            let title = "a back end is an `interface` or an `address`".to_owned();
            self.reading.fail(written.span, title, "in here", None);
            return None;
        }
        let interface = written
            .interface
            .as_ref()
            .map(|name| self.names.interfaces.need(name, &mut self.reading));
        let interface = match interface {
            Some(None) => return None,
            found => found.flatten(),
        };
        let held = interface.map(|id| &self.estate.interfaces[id]);
        let given = written.address.as_ref().map(|address| address.value);
        if let (Some(held), Some(address)) = (held, &written.address)
            && !held.addresses.contains(address.value)
        {
            let title = format!(
                "the interface `{}` does not have {}",
                held.name, address.value
            );
            let help = Some(format!("it holds {}", held.addresses.texts().join(", ")));
            self.reading
                .fail(address.span, title, "not one of its addresses", help);
        }
        let address = given.or_else(|| held.and_then(|held| held.primary(family)));
        let port = self.port(written.port.as_ref());
        Some(BackEnd {
            origin,
            interface,
            address,
            port,
            healthy: written.healthy.unwrap_or(true),
        })
    }

    pub(super) fn service(&mut self, origin: Origin, written: &WrittenService) {
        let holder = format!("service {}", written.id.0.value);
        let public_door = written.public_door.as_ref().map(|door| {
            let at = Origin {
                span: door.span,
                ..origin
            };
            PublicDoor {
                origin: at,
                addresses: self.blocks(&door.addresses, origin, &holder),
                open: door.open.unwrap_or(true),
                allowed: door
                    .allowed
                    .as_ref()
                    .map(|peers| self.peers(&peers.0, &holder, at)),
            }
        });
        let balancer = written
            .balancer
            .as_ref()
            .and_then(|name| self.names.balancers.need(name, &mut self.reading));
        if let Some(name) = written
            .balancer
            .as_ref()
            .filter(|_| written.provider_source.is_none())
        {
            let title =
                "a balancer behind a door sees the provider's source: write `provider_source`"
                    .to_owned();
            self.reading.fail(name.span, title, "here", None);
        }
        let service = PlatformService {
            name: written.id.0.value.clone(),
            origin,
            services: written.services.0.clone(),
            public_door,
            private_doors: self.interfaces_named(&written.private_doors.0),
            interfaces: self.interfaces_named(&written.interfaces.0),
            balancer,
            provider_source: written.provider_source,
            owner: self.owner(written.owner.as_ref()),
        };
        self.estate
            .services
            .fill(self.names.services.next(), service);
    }
}
