//! Repairs of what is lost on the way.

use super::*;

pub(super) fn where_lost(view: &Fabric<'_>, failure: &Failure, why: Why, spot: Spot) -> Vec<Edit> {
    let estate = view.estate;
    match why {
        Why::NoRoute | Why::NoFirewallRoute => {
            let mut edits = peerings_up(view, failure, spot);
            edits.extend(routes_at(view, failure, spot, false));
            edits
        }
        Why::Blackhole(winner) => {
            let mut edits = routes_at(view, failure, spot, true);
            edits.extend(route_off(estate, winner));
            edits
        }
        Why::DeadHop(winner) => {
            let mut edits = raised(view, winner);
            edits.extend(routes_at(view, failure, spot, true));
            edits.extend(route_off(estate, winner));
            edits
        }
        Why::MayNotForward => {
            let Spot::Interface(id) = spot else {
                return Vec::new();
            };
            let item = &estate.interfaces[id];
            let text = format!(
                "let interface {} forward packets of others (`forwards`)",
                item.name
            );
            vec![Edit::new(
                EditKind::Flag,
                text,
                Some(item.origin),
                estate.interface_owner(id),
                move |estate| {
                    estate.interfaces.get_mut(id).forwards = true;
                },
            )]
        }
        Why::ForwardedNotAccepted => {
            let Spot::Peering(id, Some(to)) = spot else {
                return Vec::new();
            };
            let (item, network) = (&estate.peerings[id], &estate.networks[to]);
            let text = format!(
                "let network {} accept forwarded packets over peering {}",
                network.name, item.name
            );
            let mut edits = vec![Edit::new(
                EditKind::Flag,
                text,
                Some(item.origin),
                network.owner,
                move |estate| {
                    side_of(estate, id, to, |side| side.accept_forwarded = true);
                },
            )];
            edits.extend(reroutes(view, failure));
            edits
        }
        Why::NotMapped => {
            let mut edits = given_addresses(view, &holders_of(view, &failure.packets.sources()));
            edits.extend(source_translations(view, failure));
            edits.extend(reroutes(view, failure));
            edits
        }
        Why::NobodyHolds => {
            given_addresses(view, &holders_of(view, &failure.packets.destinations()))
        }
        Why::NotOnInternet => {
            let mut edits =
                given_addresses(view, &holders_of(view, &failure.packets.destinations()));
            edits.extend(reroutes(view, failure));
            edits
        }
        Why::NoGateway => attached_gateways(view, spot),
        Why::NoMember => {
            let Spot::Firewall(id) = spot else {
                return Vec::new();
            };
            members_up(view, id)
        }
        Why::OtherMember => {
            let Spot::Firewall(id) = spot else {
                return Vec::new();
            };
            let item = &estate.firewalls[id];
            let text = format!(
                "return replies to the same member of firewall {} (`symmetric`)",
                item.name
            );
            let mut edits = vec![Edit::new(
                EditKind::Flag,
                text,
                Some(item.origin),
                item.owner,
                move |estate| {
                    estate.firewalls.get_mut(id).symmetric = true;
                },
            )];
            edits.extend(symmetric_balancers(view, failure));
            edits.extend(source_translations(view, failure));
            edits
        }
        Why::NoFrontEnd => front_ends(view, failure, spot),
        Why::NoBackEnd => {
            let Spot::Balancer(id) = spot else {
                return Vec::new();
            };
            let item = &estate.balancers[id];
            let name = |back: &BackEnd| match (back.interface, back.address) {
                (Some(interface), _) => estate.interfaces[interface].name.to_string(),
                (None, Some(address)) => address.to_string(),
                (None, None) => "without an address".to_owned(),
            };
            item.back_ends
                .iter()
                .enumerate()
                .map(|(at, back)| {
                    let text = format!(
                        "bring back end {1} of balancer {0} into health",
                        item.name,
                        name(back)
                    );
                    Edit::new(
                        EditKind::Up,
                        text,
                        Some(back.origin),
                        item.owner,
                        move |estate| {
                            estate.balancers.get_mut(id).back_ends[at].healthy = true;
                        },
                    )
                })
                .collect()
        }
        Why::NoDomain => {
            let Spot::Hub(id, Some(at)) = spot else {
                return Vec::new();
            };
            let item = &estate.hubs[id];
            let reads = |(domain, name): (usize, &heronshale_model::estate::Domain)| {
                let text = format!(
                    "let link {} of hub {} read domain {}",
                    item.links[at].name, item.name, name.name
                );
                Edit::new(
                    EditKind::Flag,
                    text,
                    Some(item.links[at].origin),
                    item.owner,
                    move |estate| {
                        estate.hubs.get_mut(id).links[at].reads = Some(domain);
                    },
                )
            };
            item.domains.iter().enumerate().map(reads).collect()
        }
        Why::SiteKnowsNoWay => {
            let Spot::Site(id) = spot else {
                return Vec::new();
            };
            let item = &estate.sites[id];
            let to = failure.packets.destinations();
            let text = format!(
                "give site {} a route to {} (`knows`)",
                item.name,
                to.texts().join(", ")
            );
            item.knows.as_ref().map_or_else(Vec::new, |_| {
                vec![Edit::new(
                    EditKind::Route,
                    text,
                    Some(item.origin),
                    item.owner,
                    move |estate| {
                        let site = estate.sites.get_mut(id);
                        site.knows = site.knows.as_ref().map(|known| known.union(&to));
                    },
                )]
            })
        }
        Why::Bypassed | Why::SawNoRequest => {
            let mut edits = symmetric_balancers(view, failure);
            edits.extend(steered_links(view, failure, spot));
            edits.extend(reroutes(view, failure));
            edits
        }
        Why::Loop
        | Why::NotAsked
        | Why::NothingIn
        | Why::NotTaken
        | Why::NotTransitive
        | Why::BackByLink
        | Why::NotAtSite => reroutes(view, failure),
        Why::NotTranslated
        | Why::NoBackEndAddress
        | Why::NoSuchPort
        | Why::OneWayDoor
        | Why::TooManySteps
        | Why::Lacking
        | Why::NobodyKnown
        | Why::OpenRoute(_)
        | Why::OwnServices
        | Why::NoTranslatedSource => Vec::new(),
    }
}

pub(super) fn side_of(
    estate: &mut Estate,
    peering: Id<Peering>,
    network: Id<Network>,
    change: impl Fn(&mut PeeringSide),
) {
    let sides = &mut estate.peerings.get_mut(peering).sides;
    sides
        .iter_mut()
        .filter(|side| side.network.found() == Some(network))
        .for_each(change);
}

/// Networks and subnets on the way that may not talk to the internet.
pub(super) fn internet_blocks(view: &Fabric<'_>, failure: &Failure) -> Vec<Edit> {
    let estate = view.estate;
    let mut edits = Vec::new();
    let near = |blocks: &Addresses| {
        blocks.overlaps(&failure.request.sources())
            || blocks.overlaps(&failure.request.destinations())
    };
    let mapped = |subnet: Id<heronshale_model::estate::Subnet>| {
        estate.public_addresses.items().iter().any(|public| {
            failure.request.destinations().contains(public.address)
                && public
                    .interface
                    .is_some_and(|interface| estate.interfaces[interface].subnet == subnet)
        })
    };
    for (id, item) in estate.subnets.iter() {
        let closed = |traffic: InternetTraffic| traffic != InternetTraffic::BothWays;
        if !near(&item.blocks) && !mapped(id) {
            continue;
        }
        if closed(item.internet_traffic) {
            let text = format!(
                "allow subnet {} to talk to the internet (`internet_traffic`)",
                item.name
            );
            edits.push(Edit::new(
                EditKind::Flag,
                text,
                Some(item.origin),
                estate.subnet_owner(id),
                move |estate| {
                    estate.subnets.get_mut(id).internet_traffic = InternetTraffic::BothWays;
                },
            ));
        }
        let network = item.network;
        let item = &estate.networks[network];
        if closed(item.internet_traffic) {
            let text = format!(
                "allow network {} to talk to the internet (`internet_traffic`)",
                item.name
            );
            edits.push(Edit::new(
                EditKind::Flag,
                text,
                Some(item.origin),
                item.owner,
                move |estate| {
                    estate.networks.get_mut(network).internet_traffic = InternetTraffic::BothWays;
                },
            ));
        }
    }
    edits
}

/// The interfaces that hold some of these addresses, if they are few.
pub(super) fn holders_of(view: &Fabric<'_>, addresses: &Addresses) -> Vec<Id<Interface>> {
    let holds =
        |(id, item): (Id<Interface>, &Interface)| item.addresses.overlaps(addresses).then_some(id);
    let found: Vec<_> = view.estate.interfaces.iter().filter_map(holds).collect();
    if found.len() > 3 { Vec::new() } else { found }
}

/// A public address for each of these: one that nobody holds, else a new one.
pub(super) fn given_addresses(view: &Fabric<'_>, interfaces: &[Id<Interface>]) -> Vec<Edit> {
    let estate = view.estate;
    let public = &estate.public_addresses;
    let taken = |address: IpAddr| public.find(&address.to_string()).is_some();
    // Of the block that RFC 5737 keeps for examples: which one it will be is the platform's choice.
    let new = (1..=254)
        .rev()
        .map(|last| IpAddr::V4(Ipv4Addr::new(203, 0, 113, last)))
        .find(|one| !taken(*one));
    let mut edits = Vec::new();
    for id in interfaces {
        let item = &estate.interfaces[*id];
        let Some(own) = item.primary(Family::V4) else {
            continue;
        };
        if public
            .items()
            .iter()
            .any(|public| public.interface == Some(*id))
        {
            continue;
        }
        let (id, name) = (*id, item.name.clone());
        let spare = public
            .iter()
            .find(|(_, public)| public.interface.is_none() && public.address.is_ipv4());
        let edit = |text: String, origin, apply: Box<dyn Fn(&mut Estate) + Send + Sync>| {
            Edit::new(
                EditKind::PublicAddress,
                text,
                Some(origin),
                estate.interface_owner(id),
                apply,
            )
        };
        if let Some((spare, public)) = spare {
            let text = format!(
                "give interface {name} the free public address {}",
                public.address
            );
            let apply = move |estate: &mut Estate| {
                let public = estate.public_addresses.get_mut(spare);
                (public.interface, public.private) = (Some(id), Some(own));
            };
            edits.push(edit(text, public.origin, Box::new(apply)));
        } else if let Some(new) = new {
            let origin = item.origin;
            let apply = move |estate: &mut Estate| {
                let (name, private) = (new.to_string().into(), Some(own));
                let public = PublicAddress {
                    name,
                    origin,
                    address: new,
                    interface: Some(id),
                    private,
                    owner: None,
                };
                // Its name was free.
                let _ = estate.public_addresses.add(public);
            };
            edits.push(edit(
                format!("give interface {name} a public address"),
                origin,
                Box::new(apply),
            ));
        }
    }
    edits
}

/// Source translations at the firewalls that the request passed.
pub(super) fn source_translations(view: &Fabric<'_>, failure: &Failure) -> Vec<Edit> {
    let estate = view.estate;
    let mut edits = Vec::new();
    let mut seen: Vec<Id<Firewall>> = Vec::new();
    for step in failure.steps.iter().filter(|step| !step.reply) {
        let Spot::Firewall(id) = step.at else {
            continue;
        };
        if seen.contains(&id) {
            continue;
        }
        seen.push(id);
        let item = &estate.firewalls[id];
        let sources = failure.request.sources();
        let to = item
            .legs
            .is_empty()
            .then(|| item.addresses.ranges().next())
            .flatten();
        let to = to.map(|range| heronshale_sets::address::address_of(range.family, range.first));
        let texts = sources.texts().join(", ");
        let text = format!("translate the source of {texts} at firewall {}", item.name);
        let translation = Translation {
            id: None,
            origin: item.origin,
            from_zones: None,
            to_zones: None,
            sources: Some(
                sources
                    .ranges()
                    .map(|range| Peer::Block(block(range)))
                    .collect(),
            ),
            destinations: Some(
                failure
                    .request
                    .destinations()
                    .ranges()
                    .map(|range| Peer::Block(block(range)))
                    .collect(),
            ),
            services: Vec::new(),
            to,
            port: None,
            enabled: true,
        };
        edits.push(Edit::new(
            EditKind::Translation,
            text,
            Some(item.origin),
            item.owner,
            move |estate| {
                estate
                    .firewalls
                    .get_mut(id)
                    .source_translations
                    .insert(0, translation.clone());
            },
        ));
    }
    edits
}

/// Links of a hub on the way, steered through the firewall that saw only one direction.
pub(super) fn steered_links(view: &Fabric<'_>, failure: &Failure, spot: Spot) -> Vec<Edit> {
    let Spot::Firewall(firewall) = spot else {
        return Vec::new();
    };
    let estate = view.estate;
    let public = failure.packets.destinations().overlaps(view.internet())
        || failure.packets.sources().overlaps(view.internet());
    let mut edits: Vec<Edit> = Vec::new();
    for step in &failure.steps {
        let (id, at) = match (&step.what, step.at) {
            (
                What::Routed(Winner {
                    hop: heronshale_engine::route::Hop::Hub(id, at),
                    ..
                }),
                _,
            ) => (*id, *at),
            (_, Spot::Hub(id, Some(at))) => (id, at),
            _ => continue,
        };
        let hub = &estate.hubs[id];
        let link = &hub.links[at];
        let steered = if public {
            &link.steer_internet
        } else {
            &link.steer_private
        };
        if steered.is_some()
            || !matches!(
                link.to,
                heronshale_model::estate::LinkEnd::Network(_)
                    | heronshale_model::estate::LinkEnd::Site(_)
            )
        {
            continue;
        }
        let (what, name) = (
            if public { "internet" } else { "private" },
            &estate.firewalls[firewall].name,
        );
        let text = format!(
            "steer {what} traffic of link {} of hub {} through firewall {name} too",
            link.name, hub.name
        );
        if edits.iter().any(|known| known.text == text) {
            continue;
        }
        edits.push(Edit::new(
            EditKind::Flag,
            text,
            Some(link.origin),
            hub.owner,
            move |estate| {
                let link = &mut estate.hubs.get_mut(id).links[at];
                let steered = if public {
                    &mut link.steer_internet
                } else {
                    &mut link.steer_private
                };
                *steered = Some(Reference::Found(firewall));
            },
        ));
    }
    edits
}
