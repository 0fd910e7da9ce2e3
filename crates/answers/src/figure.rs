//! The estate as boxes and links: what a figure draws, and nothing of how.

use heronshale_audit::finding::{Role, findings_of};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::route::{Hop, RoutePlace, candidates};
use heronshale_model::estate::{GatewayKind, Id, LinkEnd, Network, Reference, Subnet};
use heronshale_sets::address::Addresses;
use rustc_hash::FxHashMap;

/// Above this many networks only their gateways, links and counts are drawn.
pub const FOLDS_ABOVE: usize = 30;

/// What a box stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum BoxKind {
    /// The internet.
    Internet,
    /// A virtual network.
    Network,
    /// A hub.
    Hub,
    /// A site.
    Site,
    /// A platform service.
    Service,
    /// What is missing from the snapshot.
    Gap,
}

/// What a row of a box is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RowKind {
    /// A subnet.
    Subnet,
    /// A firewall.
    Firewall,
    /// A balancer.
    Balancer,
    /// Something else that is there.
    Plain,
    /// Traffic that gets around a firewall.
    Around,
}

/// A row of a box.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FigureRow {
    /// What it is about.
    pub kind: RowKind,
    /// Its name.
    pub name: String,
    /// What else is to be said.
    pub detail: String,
    /// The public addresses in it.
    pub public: Vec<String>,
}

/// A box.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FigureBox {
    /// What it stands for.
    pub kind: BoxKind,
    /// Its name.
    pub name: String,
    /// What else is to be said.
    pub detail: String,
    /// What is in it.
    pub rows: Vec<FigureRow>,
}

/// What a link is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FigureLinkKind {
    /// A gateway to the internet.
    Gateway,
    /// A peering.
    Peering,
    /// A hub's link.
    Hub,
    /// A site gateway.
    Site,
    /// A private door.
    Door,
}

/// A link between two boxes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FigureLink {
    /// What it is.
    pub kind: FigureLinkKind,
    /// The boxes, by their places.
    pub ends: [usize; 2],
    /// What is written at each end; empty for nothing.
    pub labels: [String; 2],
    /// Whether it is up, or attached.
    pub up: bool,
}

/// The whole.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Figure {
    /// The boxes from top to bottom.
    pub boxes: Vec<FigureBox>,
    /// The links.
    pub links: Vec<FigureLink>,
    /// Whether networks are folded.
    pub folded: bool,
}

fn counted(count: usize, what: &str) -> String {
    format!("{count} {what}{}", if count == 1 { "" } else { "s" })
}

/// Where what no longer route takes goes, from a subnet.
fn default_of(view: &Fabric<'_>, subnet: Id<Subnet>) -> String {
    let all = candidates(view, RoutePlace::in_subnet(view, subnet, None)).all;
    let default = all.iter().find(|candidate| candidate.length == 0);
    match default.map(|candidate| candidate.winner.hop) {
        None => match heronshale_engine::route::last_resort(view, subnet) {
            Some(hop) => format!(
                "default via {}",
                heronshale_audit::facts::hop_text(view, hop)
            ),
            None => "no default route".to_owned(),
        },
        Some(Hop::Dead) => "default to a dead next hop".to_owned(),
        Some(hop) => match heronshale_engine::route::firewall_of(view, hop) {
            Some(firewall) => format!(
                "default via firewall {}",
                view.estate.firewalls[firewall].name
            ),
            None => format!(
                "default via {}",
                heronshale_audit::facts::hop_text(view, hop)
            ),
        },
    }
}

fn network_box(
    view: &Fabric<'_>,
    id: Id<Network>,
    folded: bool,
    around: &FxHashMap<String, Vec<String>>,
) -> FigureBox {
    let estate = view.estate;
    let network = &estate.networks[id];
    let inside: Vec<_> = estate
        .interfaces
        .ids()
        .filter(|one| estate.network_of(*one) == id)
        .collect();
    let subnets: Vec<_> = estate
        .subnets
        .iter()
        .filter(|(_, subnet)| subnet.network == id)
        .collect();
    let public_of =
        |interfaces: &dyn Fn(Id<heronshale_model::estate::Interface>) -> bool| -> Vec<String> {
            let held = estate.public_addresses.items().iter();
            held.filter(|public| public.interface.is_some_and(interfaces))
                .map(|public| public.name.to_string())
                .collect()
        };
    let mut rows = Vec::new();
    if folded {
        let public = public_of(&|one| estate.network_of(one) == id);
        let detail = format!(
            "{}, {}",
            counted(subnets.len(), "subnet"),
            counted(inside.len(), "interface")
        );
        rows.push(FigureRow {
            kind: RowKind::Plain,
            name: String::new(),
            detail,
            public,
        });
    } else {
        for (at, subnet) in subnets {
            let held = inside
                .iter()
                .filter(|one| estate.interfaces[**one].subnet == at)
                .count();
            let detail = format!(
                "{} · {} · {}",
                default_of(view, at),
                counted(held, "interface"),
                subnet.blocks.texts().join(", ")
            );
            let public = public_of(&|one| estate.interfaces[one].subnet == at);
            rows.push(FigureRow {
                kind: RowKind::Subnet,
                name: subnet.name.to_string(),
                detail,
                public,
            });
        }
    }
    for firewall in estate.firewalls.items() {
        let legs: Vec<String> = firewall
            .legs
            .iter()
            .filter(|leg| estate.network_of(leg.interface) == id)
            .map(|leg| estate.interfaces[leg.interface].name.to_string())
            .collect();
        if !legs.is_empty() {
            let up = firewall.members_up();
            let members = if firewall.members.is_empty() {
                String::new()
            } else {
                format!(" · {up} of {} up", firewall.members.len())
            };
            let detail = format!("by {}{members}", legs.join(", "));
            rows.push(FigureRow {
                kind: RowKind::Firewall,
                name: firewall.name.to_string(),
                detail,
                public: Vec::new(),
            });
        }
    }
    for balancer in estate
        .balancers
        .items()
        .iter()
        .filter(|balancer| balancer.network == id && !folded)
    {
        let public = balancer
            .front_ends
            .iter()
            .filter(|front| front.public)
            .map(|front| front.address.to_string());
        let detail = format!(
            "in front of {}",
            counted(balancer.back_ends.len(), "back end")
        );
        rows.push(FigureRow {
            kind: RowKind::Balancer,
            name: balancer.name.to_string(),
            detail,
            public: public.collect(),
        });
    }
    for title in around.get(&*network.name).into_iter().flatten() {
        rows.push(FigureRow {
            kind: RowKind::Around,
            name: String::new(),
            detail: title.clone(),
            public: Vec::new(),
        });
    }
    let owner = network.owner.map_or_else(String::new, |owner| {
        format!(" · {}", estate.owners[owner].name)
    });
    FigureBox {
        kind: BoxKind::Network,
        name: network.name.to_string(),
        detail: format!("{}{owner}", network.blocks.texts().join(", ")),
        rows,
    }
}

/// The estate as boxes and links.
pub fn figure(view: &Fabric<'_>) -> Figure {
    let estate = view.estate;
    let folded = estate.networks.len() > FOLDS_ABOVE;
    let mut around: FxHashMap<String, Vec<String>> = FxHashMap::default();
    for finding in findings_of(view, |kind| kind.name == "around-the-firewall") {
        if let Some(network) = finding.networks.first() {
            let of = |role: Role| {
                finding
                    .evidence
                    .iter()
                    .find(|piece| piece.role == role)
                    .map(|piece| piece.text.as_str())
            };
            let (by, who) = (
                of(Role::GoesBy).unwrap_or_default(),
                of(Role::ActsOn).unwrap_or_default(),
            );
            around
                .entry(network.clone())
                .or_default()
                .push(format!("{by}, from {who}"));
        }
    }
    let plain = |kind: BoxKind, name: &str, detail: String| FigureBox {
        kind,
        name: name.to_owned(),
        detail,
        rows: Vec::new(),
    };
    let mut boxes = vec![plain(BoxKind::Internet, "the internet", String::new())];
    let first_network = boxes.len();
    boxes.extend(
        estate
            .networks
            .ids()
            .map(|id| network_box(view, id, folded, &around)),
    );
    let first_hub = boxes.len();
    for (id, hub) in estate.hubs.iter() {
        let mut one = plain(
            BoxKind::Hub,
            &hub.name,
            format!(
                "domains {}",
                hub.domains
                    .iter()
                    .map(|d| d.name.to_string())
                    .collect::<Vec<_>>()
                    .join(", ")
            ),
        );
        for firewall in estate
            .firewalls
            .items()
            .iter()
            .filter(|firewall| firewall.hub == Some(id))
        {
            one.rows.push(FigureRow {
                kind: RowKind::Firewall,
                name: firewall.name.to_string(),
                detail: "inside the hub".to_owned(),
                public: Vec::new(),
            });
        }
        boxes.push(one);
    }
    let first_site = boxes.len();
    boxes.extend(
        estate
            .sites
            .items()
            .iter()
            .map(|site| plain(BoxKind::Site, &site.name, site.holds.texts().join(", "))),
    );
    let first_service = boxes.len();
    for service in estate.services.items() {
        let mut one = plain(BoxKind::Service, &service.name, String::new());
        if let Some(door) = &service.public_door {
            let text = if door.open {
                "public door open"
            } else {
                "public door shut"
            };
            one.detail = text.to_owned();
            if door.open {
                let public = door.addresses.texts();
                one.rows.push(FigureRow {
                    kind: RowKind::Plain,
                    name: "public door".to_owned(),
                    detail: String::new(),
                    public,
                });
            }
        }
        boxes.push(one);
    }
    let gap_box = |boxes: &mut Vec<FigureBox>, object: &str| {
        let at = boxes
            .iter()
            .position(|one| one.kind == BoxKind::Gap && one.name == object);
        at.unwrap_or_else(|| {
            boxes.push(plain(
                BoxKind::Gap,
                object,
                "missing from the snapshot".to_owned(),
            ));
            boxes.len() - 1
        })
    };
    let mut links: Vec<FigureLink> = Vec::new();
    for gateway in estate.gateways.items() {
        let here = first_network + gateway.network.index();
        let (kind, to, up, text) = match &gateway.kind {
            GatewayKind::Internet { attached, .. } => {
                (FigureLinkKind::Gateway, 0, *attached, "internet gateway")
            }
            GatewayKind::Nat { .. } => (FigureLinkKind::Gateway, 0, true, "NAT gateway"),
            GatewayKind::OutboundOnly => {
                (FigureLinkKind::Gateway, 0, true, "outbound-only gateway")
            }
            GatewayKind::Site { site, up } => (
                FigureLinkKind::Site,
                first_site + site.index(),
                *up,
                "site gateway",
            ),
        };
        let state = if up {
            ""
        } else if kind == FigureLinkKind::Site {
            ", down"
        } else {
            ", not attached"
        };
        links.push(FigureLink {
            kind,
            ends: [here, to],
            labels: [format!("{} · {text}{state}", gateway.name), String::new()],
            up,
        });
    }
    for peering in estate.peerings.items() {
        let mut end = |reference: &Reference<Network>| match reference {
            Reference::Found(id) => first_network + id.index(),
            Reference::Missing(name) => gap_box(&mut boxes, &format!("network:{name}")),
        };
        let ends = [
            end(&peering.sides[0].network),
            end(&peering.sides[1].network),
        ];
        let state = if peering.is_up() { "" } else { ", down" };
        let label = |at: usize, boxes: &[FigureBox]| {
            format!(
                "{} · peering to {}{state}",
                peering.name,
                boxes[ends[1 - at]].name
            )
        };
        let labels = [label(0, &boxes), label(1, &boxes)];
        links.push(FigureLink {
            kind: FigureLinkKind::Peering,
            ends,
            labels,
            up: peering.is_up(),
        });
    }
    for (id, hub) in estate.hubs.iter() {
        for link in &hub.links {
            let to = match &link.to {
                LinkEnd::Network(Reference::Found(id)) => first_network + id.index(),
                LinkEnd::Site(Reference::Found(id)) => first_site + id.index(),
                LinkEnd::Hub(Reference::Found(id)) => first_hub + id.index(),
                LinkEnd::Firewall(_) => continue,
                LinkEnd::Network(Reference::Missing(name)) => {
                    gap_box(&mut boxes, &format!("network:{name}"))
                }
                LinkEnd::Site(Reference::Missing(name)) => {
                    gap_box(&mut boxes, &format!("site:{name}"))
                }
                LinkEnd::Hub(Reference::Missing(name)) => {
                    gap_box(&mut boxes, &format!("hub:{name}"))
                }
            };
            let state = if link.up { "" } else { ", down" };
            let steered = if link.steer_internet.is_some() || link.steer_private.is_some() {
                ", steered through a firewall"
            } else {
                ""
            };
            let labels = [
                format!("{} · link{state}{steered}", link.name),
                format!("{} · link of hub {}", link.name, hub.name),
            ];
            links.push(FigureLink {
                kind: FigureLinkKind::Hub,
                ends: [first_hub + id.index(), to],
                labels,
                up: link.up,
            });
        }
    }
    for (id, service) in estate.services.iter() {
        let here = first_service + id.index();
        for door in &service.private_doors {
            let network = first_network + estate.network_of(*door).index();
            let labels = [
                String::new(),
                format!("{} · private door", estate.interfaces[*door].name),
            ];
            links.push(FigureLink {
                kind: FigureLinkKind::Door,
                ends: [here, network],
                labels,
                up: true,
            });
        }
        if service.public_door.as_ref().is_some_and(|door| door.open) {
            let labels = ["public door".to_owned(), String::new()];
            links.push(FigureLink {
                kind: FigureLinkKind::Gateway,
                ends: [here, 0],
                labels,
                up: true,
            });
        }
    }
    let public: Addresses = view.internet().difference(&view.internet_end());
    boxes[0].detail = counted(public.ranges().count(), "public range") + " of the estate";
    Figure {
        boxes,
        links,
        folded,
    }
}
