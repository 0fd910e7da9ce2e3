//! Places at which traffic is routed, and how people name them.

use super::{RouteFact, RoutesAnswer, nowhere};
use heronshale_audit::facts::spot_text;
use heronshale_engine::fabric::Fabric;
use heronshale_engine::route::{SiteWay, offers_to};
use heronshale_engine::walk::Spot;
use heronshale_model::ends::{End, EndError};
use heronshale_model::estate::{
    Firewall, Gateway, GatewayKind, Hub, Id, Interface, LinkEnd, RouteDestination, RouteTable,
    Site, Subnet,
};
use heronshale_sets::address::Addresses;

/// A place at which traffic is routed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RoutesOf {
    /// What an interface sends.
    Interface(Id<Interface>),
    /// What anything in a subnet sends.
    Subnet(Id<Subnet>),
    /// A table by itself.
    Table(Id<RouteTable>),
    /// What comes in by an internet gateway or from a site, or goes on from a NAT gateway.
    Gateway(Id<Gateway>),
    /// A domain of a hub.
    Domain(Id<Hub>, usize),
    /// What comes into a hub over a link.
    Link(Id<Hub>, usize),
    /// A firewall's own table.
    Firewall(Id<Firewall>),
    /// What a site sends.
    Site(Id<Site>),
}

/// The kinds of places beside interfaces, as they stand before the colon.
const KINDS: [&str; 7] = [
    "subnet", "table", "gateway", "hub", "link", "firewall", "site",
];

impl RoutesOf {
    /// Reads a place: an interface, a workload or an address; or `subnet:`, `table:`, `gateway:`, `hub:HUB/DOMAIN`,
    /// `link:HUB/LINK`, `firewall:`, `site:` with a name. A bare name may stand for any of them.
    ///
    /// # Errors
    /// If nothing bears the name, or several things do; the candidates are told.
    pub fn parse(view: &Fabric<'_>, text: &str) -> Result<Self, EndError> {
        let kind = text
            .split_once(':')
            .filter(|(kind, _)| KINDS.contains(kind));
        if let Some((kind, name)) = kind {
            return Self::of_kind(view, kind, name);
        }
        let interface = End::parse(view, text).and_then(|end| end.one_interface(view, text));
        let error = match interface {
            Ok(id) => return Ok(Self::Interface(id)),
            Err(error) => error,
        };
        let found: Vec<(&str, Self)> = KINDS
            .iter()
            .filter_map(|kind| Some((*kind, Self::of_kind(view, kind, text).ok()?)))
            .collect();
        match found.as_slice() {
            [] => Err(error),
            [(_, one)] => Ok(*one),
            several => Err(EndError {
                what: format!("`{text}` is the name of several things"),
                candidates: several
                    .iter()
                    .map(|(kind, _)| format!("{kind}:{text}"))
                    .collect(),
                ambiguous: true,
            }),
        }
    }

    fn of_kind(view: &Fabric<'_>, kind: &str, name: &str) -> Result<Self, EndError> {
        let estate = view.estate;
        let found = match kind {
            "subnet" => estate.subnets.find(name).map(Self::Subnet),
            "table" => estate.route_tables.find(name).map(Self::Table),
            "gateway" => estate.gateways.find(name).map(Self::Gateway),
            "firewall" => estate.firewalls.find(name).map(Self::Firewall),
            "site" => estate.sites.find(name).map(Self::Site),
            _ => return Self::in_hub(view, kind, name),
        };
        let names = || match kind {
            "subnet" => names_of(&estate.subnets),
            "table" => names_of(&estate.route_tables),
            "gateway" => names_of(&estate.gateways),
            "firewall" => names_of(&estate.firewalls),
            _ => names_of(&estate.sites),
        };
        found.ok_or_else(|| EndError {
            what: format!("the snapshot has no {kind} `{name}`"),
            candidates: names()
                .iter()
                .map(|name| format!("{kind}:{name}"))
                .collect(),
            ambiguous: false,
        })
    }

    /// A domain or a link of a hub: `harbour/ships`, or the hub alone if it has only one.
    fn in_hub(view: &Fabric<'_>, kind: &str, name: &str) -> Result<Self, EndError> {
        let estate = view.estate;
        let (hub_name, part) = match name.split_once('/') {
            Some((hub, part)) => (hub, Some(part)),
            None => (name, None),
        };
        let domains = kind == "hub";
        let parts = |id: Id<Hub>| -> Vec<String> {
            let hub = &estate.hubs[id];
            match domains {
                true => hub.domains.iter().map(|one| one.name.to_string()).collect(),
                false => hub.links.iter().map(|one| one.name.to_string()).collect(),
            }
        };
        let written = |id: Id<Hub>| -> Vec<String> {
            let hub = &estate.hubs[id].name;
            let all = parts(id);
            all.iter()
                .map(|part| format!("{kind}:{hub}/{part}"))
                .collect()
        };
        let Some(id) = estate.hubs.find(hub_name) else {
            return Err(EndError {
                what: format!("the snapshot has no hub `{hub_name}`"),
                candidates: estate.hubs.ids().flat_map(written).collect(),
                ambiguous: false,
            });
        };
        let all = parts(id);
        let at = match part {
            Some(part) => all.iter().position(|one| one == part),
            None if all.len() == 1 => Some(0),
            None => None,
        };
        let word = if domains { "domain" } else { "link" };
        match at {
            Some(at) if domains => Ok(Self::Domain(id, at)),
            Some(at) => Ok(Self::Link(id, at)),
            None => Err(EndError {
                what: match part {
                    Some(part) => format!("hub {hub_name} has no {word} `{part}`"),
                    None => format!("hub {hub_name} has several {word}s; name one"),
                },
                candidates: written(id),
                ambiguous: part.is_none(),
            }),
        }
    }

    /// The place in words.
    pub fn text(self, view: &Fabric<'_>) -> String {
        let estate = view.estate;
        match self {
            Self::Interface(id) => estate.interfaces[id].name.to_string(),
            Self::Subnet(id) => spot_text(view, Spot::Subnet(id)).0,
            Self::Table(id) => format!("table {}", estate.route_tables[id].name),
            Self::Gateway(id) => spot_text(view, Spot::Gateway(id)).0,
            Self::Domain(hub, domain) => {
                let hub = &estate.hubs[hub];
                format!("hub {}, domain {}", hub.name, hub.domains[domain].name)
            }
            Self::Link(hub, link) => spot_text(view, Spot::Hub(hub, Some(link))).0,
            Self::Firewall(id) => spot_text(view, Spot::Firewall(id)).0,
            Self::Site(id) => spot_text(view, Spot::Site(id)).0,
        }
    }
}

/// The names of a table's items.
fn names_of<T: heronshale_model::estate::Named>(
    table: &heronshale_model::estate::Table<T>,
) -> Vec<String> {
    let items = table.items().iter();
    items.map(|item| item.name().to_string()).collect()
}

/// One route of a place without a table of the usual form.
fn plain(to: String, hop: String, place: Option<heronshale_model::source::Place>) -> RouteFact {
    RouteFact {
        wins: vec![to.clone()],
        to,
        hop,
        kind: "static".to_owned(),
        metric: 0,
        place,
        only_from: None,
        shared: false,
        loses: Vec::new(),
        idle: false,
        broken: false,
    }
}

/// A firewall's own table: the longest prefix counts.
pub(super) fn at_firewall(view: &Fabric<'_>, id: Id<Firewall>, answer: &mut RoutesAnswer) {
    let estate = view.estate;
    let Some(routes) = &estate.firewalls[id].routes else {
        let by = "no table of its own: packets leave by the interface they came by, and the table of its subnet decides";
        answer.routed_by = Some(by.to_owned());
        return;
    };
    answer.routed_by = Some("its own table, the longest prefix first".to_owned());
    let mut taken = Addresses::empty();
    let mut all: Vec<(u8, RouteFact)> = Vec::new();
    for route in routes {
        let hop = format!("interface {}", estate.interfaces[route.interface].name);
        let place = estate.sources.place(&route.origin);
        for destination in &route.destinations {
            let (length, to, addresses) = match destination {
                RouteDestination::Block(block) => (
                    block.length.unwrap_or(0),
                    block.range.to_string(),
                    [block.range].into_iter().collect(),
                ),
                RouteDestination::Set(set) => {
                    let name = heronshale_audit::describe::name_of(&estate.address_sets, set);
                    let members = set.found().map(|id| view.set(id).matched.sure.clone());
                    (0, format!("set {name}"), members.unwrap_or_default())
                }
            };
            taken = taken.union(&addresses);
            all.push((length, plain(to, hop.clone(), Some(place.clone()))));
        }
    }
    all.sort_by_key(|(length, _)| std::cmp::Reverse(*length));
    answer.routes = all.into_iter().map(|(_, fact)| fact).collect();
    nowhere(&taken, answer);
}

/// What a site knows, by the gateways and links that lead to it.
pub(super) fn at_site(view: &Fabric<'_>, id: Id<Site>, answer: &mut RoutesAnswer) {
    let estate = view.estate;
    let site = &estate.sites[id];
    let gateways = estate.gateways.items().iter().filter_map(|gateway| {
        let GatewayKind::Site { site, up } = gateway.kind else {
            return None;
        };
        let state = if up { "" } else { " (down)" };
        (site == id).then(|| format!("site gateway {}{state}", gateway.name))
    });
    let links = estate.hubs.items().iter().flat_map(|hub| {
        let here = hub
            .links
            .iter()
            .filter(|link| matches!(&link.to, LinkEnd::Site(site) if site.found() == Some(id)));
        here.map(|link| {
            let state = if link.up { "" } else { " (down)" };
            format!("hub {}, link {}{state}", hub.name, link.name)
        })
    });
    let ways: Vec<String> = gateways.chain(links).collect();
    let by = if ways.is_empty() {
        "nothing".to_owned()
    } else {
        ways.join(" or ")
    };
    answer.routed_by = Some(match &site.knows {
        None => format!("whatever is offered to it by {by}"),
        Some(_) => format!("what it knows of the offers of {by}"),
    });
    let mut taken = Addresses::empty();
    let offers = offers_to(view, id);
    let known = |offered: Addresses| match &site.knows {
        Some(known) => offered.intersection(known),
        None => offered,
    };
    let row = |to: String, hop: &str, place: Option<heronshale_model::source::Place>| RouteFact {
        kind: "offered".to_owned(),
        ..plain(to, hop.to_owned(), place)
    };
    for (offered, way) in offers.ways {
        let (hop, origin) = match way {
            SiteWay::Gateway(gateway) => {
                let gateway = &estate.gateways[gateway];
                (format!("site gateway {}", gateway.name), gateway.origin)
            }
            SiteWay::Link(hub, link) => {
                let hub = &estate.hubs[hub];
                let link = &hub.links[link];
                (format!("hub {}, link {}", hub.name, link.name), link.origin)
            }
        };
        let offered = known(offered);
        taken = taken.union(&offered);
        let place = estate.sources.place(&origin);
        let texts = offered.texts().into_iter();
        answer
            .routes
            .extend(texts.map(|to| row(to, &hop, Some(place.clone()))));
    }
    let perhaps = known(offers.perhaps).difference(&taken);
    let texts = perhaps.texts().into_iter();
    answer
        .routes
        .extend(texts.map(|to| row(to, "unknown: the snapshot lacks what may offer it", None)));
    nowhere(&taken.union(&perhaps), answer);
}
