//! The snapshot format, version 1, as written: every record and field, with the words that the schema and
//! `docs/snapshot.md` show.

mod devices;
mod filters;

pub(crate) use devices::*;
pub(crate) use filters::*;

use crate::reading::{Many, Moment, Prose, Required, Spanned, TagMap, record};
use crate::values::{
    Form, LinkedTo, Object, PeerRoutes, Ports, WrittenBalancerKind, WrittenGatewayKind, WrittenHop,
    WrittenPeer, WrittenReplies, WrittenRouteKind,
};
use heronshale_model::estate::{
    Action, AutomaticRoutes, DoorRoute, EqualPriority, EqualRoutes, InternetTraffic, Lack,
    MissingNextHop, Name, NamedPeerReach, NoGroup, NoHealthy, PolicySees, SameSubnet, Service,
    SubnetGroups,
};
use heronshale_sets::address::Block;
use std::net::IpAddr;

/// What a snapshot file says in its field `format`.
pub const FORMAT: &str = "heronshale-snapshot";
/// The version of the format that this program reads.
pub const VERSION: u32 = 1;

record! {
    /// The estate as a whole. Stands in one file of the snapshot.
    WrittenEstate as "the estate" {
        /// What the estate is called in output.
        name: Required<Name>,
        /// When the snapshot was taken: expiry dates are judged by it.
        taken: Option<Moment>,
        /// Settings for every network that does not say otherwise.
        settings: Option<WrittenSettings>,
        /// Addresses of the balancers' health checkers, which the peer `probes` stands for.
        probes: Option<Many<Block>>,
        /// Outbound traffic to the platform itself that no stage filters: resolver, time, metadata.
        platform_traffic: Many<WrittenPlatformTraffic>,
    }
}

record! {
    /// Traffic of the platform itself that nothing can filter.
    WrittenPlatformTraffic as "platform traffic" {
        /// The platform's addresses.
        addresses: Many<Block>,
        /// Its services; absent for any.
        services: Many<Service>,
    }
}

record! {
    /// Where clouds differ: each has a default, so that a snapshot names only what is otherwise.
    WrittenSettings as "settings" {
        /// The ports from which clients connect. Default: 1024-65535.
        client_ports: Option<Ports>,
        /// The ports from which translated connections come. Default: 1024-65535.
        nat_ports: Option<Ports>,
        /// Of a translated packet, which destination a firewall's policy sees: `translated` or `original`. Default: `translated`.
        policy_sees: Option<PolicySees>,
        /// A balancer without a healthy back end: `lost`, or it tries `all`. Default: `lost`.
        no_healthy: Option<NoHealthy>,
        /// Whether the stages of its interface apply at a private door. Default: true.
        filter_private_doors: Option<bool>,
        /// Whether a private door brings a host route with it, here and in peered networks: `none` or `automatic`. Default: `none`.
        door_route: Option<DoorRoute>,
        /// Whether a name that the linked DNS zone lacks is looked up in public. Default: false.
        fall_through: Option<bool>,
        /// How far a group, tag, identity or interface as a peer reaches: `network`, `peered` (directly, up on both sides), `hub` (these and networks at the same hub) or `estate`. Default: `peered`.
        named_peer_reach: Option<NamedPeerReach>,
        /// Of rules with one priority, which comes first: `deny_first` or `position`. Default: `deny_first`.
        equal_priority: Option<EqualPriority>,
        /// Groups at an interface and at its subnet: `both_must_allow` or `pooled` (union groups only). Default: `both_must_allow`.
        subnet_groups: Option<SubnetGroups>,
        /// What happens where neither interface nor subnet has a group: `allow` or `deny`. Default: `allow`.
        no_group: Option<NoGroup>,
        /// Whether past the innermost scope policy inbound is denied and outbound allowed. Default: false.
        implied_pair: Option<bool>,
        /// Whether an equal or longer static route beats an automatic one: `overridable` or `fixed`. Default: `overridable`.
        automatic_routes: Option<AutomaticRoutes>,
        /// How packets go inside a subnet: `direct` or `routed`. Default: `direct`.
        same_subnet: Option<SameSubnet>,
        /// Of routes that are equal in everything: `all` (any may be taken) or `first`. Default: `all`.
        equal_routes: Option<EqualRoutes>,
        /// A route whose next hop does not exist or is down: `lost` or `skipped`. Default: `lost`.
        missing_next_hop: Option<MissingNextHop>,
        /// How many IPv4 addresses of each subnet the platform keeps for itself. Default: 2, the subnet's own and its broadcast address.
        reserved_addresses: Option<u32>,
    }
}

record! {
    /// A named set of settings that many networks share.
    WrittenConduct as "a conduct" {
        /// Unique among conducts.
        id: Required<Spanned<Name>>,
        /// The settings.
        settings: Required<WrittenSettings>,
    }
}

record! {
    /// Somebody who changes things.
    WrittenOwner as "an owner" {
        /// Unique among owners.
        id: Required<Spanned<Name>>,
        /// How to reach them.
        contact: Option<Prose>,
    }
}

record! {
    /// A part of the estate, for example a company or a department; may lie in another.
    WrittenDivision as "a division" {
        /// Unique among divisions.
        id: Required<Spanned<Name>>,
        /// The division around it.
        parent: Option<Spanned<Name>>,
    }
}

record! {
    /// A virtual network.
    WrittenNetwork as "a network" {
        /// Unique among networks.
        id: Required<Spanned<Name>>,
        /// Its address blocks, IPv4 and IPv6.
        blocks: Many<Spanned<Block>>,
        /// The division it belongs to.
        division: Option<Spanned<Name>>,
        /// The route table of its subnets that name none. Absent: automatic routes only.
        main_table: Option<Spanned<Name>>,
        /// Whether it may talk to the internet: `none`, `outbound_only` or `both_ways`. Default: `both_ways`.
        internet_traffic: Option<InternetTraffic>,
        /// A conduct whose settings it shares.
        conduct: Option<Spanned<Name>>,
        /// Its own settings: these win over the conduct's, and those over the estate's.
        settings: Option<WrittenSettings>,
        /// Who changes it.
        owner: Option<Spanned<Name>>,
        /// Keys and values.
        tags: Option<TagMap>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// A part of a network's address space.
    WrittenSubnet as "a subnet" {
        /// Unique among subnets.
        id: Required<Spanned<Name>>,
        /// The network it is part of.
        network: Required<Spanned<Name>>,
        /// Its address blocks, IPv4 and IPv6.
        blocks: Many<Spanned<Block>>,
        /// Its network ACL. Absent: no such stage.
        acl: Option<Spanned<Name>>,
        /// Security groups that are enforced at each of its interfaces.
        groups: Many<Spanned<Name>>,
        /// Its route table. Absent: the network's main table.
        route_table: Option<Spanned<Name>>,
        /// Whether it may talk to the internet: `none`, `outbound_only` or `both_ways`. Default: `both_ways`.
        internet_traffic: Option<InternetTraffic>,
        /// Whether IPv4 that no route takes goes to the internet from the platform's own shared address; nothing comes in by it. Default: false.
        default_outbound: Option<bool>,
        /// Whether stages apply at private doors in this subnet. Absent: the network's setting.
        filter_private_doors: Option<bool>,
        /// How many IPv4 addresses it must be able to hold. Absent: as many as it holds now.
        needs: Option<u32>,
        /// Who changes it. Absent: the network's owner.
        owner: Option<Spanned<Name>>,
        /// Keys and values.
        tags: Option<TagMap>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// What runs behind one or several interfaces.
    WrittenWorkload as "a workload" {
        /// Unique among workloads.
        id: Required<Spanned<Name>>,
        /// The account it runs as.
        service_identity: Option<Name>,
        /// Its own firewall, at each of its interfaces that names no other.
        own_firewall: Option<Spanned<Name>>,
        /// Who changes it.
        owner: Option<Spanned<Name>>,
        /// Keys and values; they count for its interfaces too.
        tags: Option<TagMap>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// A network card.
    WrittenInterface as "an interface" {
        /// Unique among interfaces.
        id: Required<Spanned<Name>>,
        /// The subnet where it stands.
        subnet: Required<Spanned<Name>>,
        /// Its own addresses, never mapped ones; the first of each family is the primary. A prefix means that it holds all of it.
        addresses: Many<Spanned<Block>>,
        /// Security groups, in binding order.
        groups: Many<Spanned<Name>>,
        /// What runs behind it.
        workload: Option<Spanned<Name>>,
        /// The account behind it, if it is not the workload's.
        service_identity: Option<Name>,
        /// The own firewall at it, if it is not the workload's.
        own_firewall: Option<Spanned<Name>>,
        /// Whether it may pass on packets that are not its own. Default: false.
        forwards: Option<bool>,
        /// Whether the platform exempts it from every stage but the network ACL. Default: false.
        unfiltered: Option<bool>,
        /// Who changes it. Absent: the workload's, subnet's or network's owner.
        owner: Option<Spanned<Name>>,
        /// Keys and values.
        tags: Option<TagMap>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// A public address that the internet gateway maps to an interface.
    WrittenPublicAddress as "a public address" {
        /// The address; unique.
        address: Required<Spanned<IpAddr>>,
        /// The interface that holds it. Absent: reserved, held by nothing.
        interface: Option<Spanned<Name>>,
        /// Which of the interface's own addresses it stands for. Absent: the primary one of the family.
        private: Option<Spanned<IpAddr>>,
        /// Who changes it.
        owner: Option<Spanned<Name>>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// A named list of prefixes.
    WrittenAddressSet as "an address set" {
        /// Unique among address sets.
        id: Required<Spanned<Name>>,
        /// Addresses, prefixes and ranges, and other sets as `set:NAME`; or the word `unknown` if the platform keeps the content to itself.
        content: Required<SetContent>,
        /// Who changes it.
        owner: Option<Spanned<Name>>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// A route.
    WrittenRoute as "a route" {
        /// Unique in its table.
        id: Option<Spanned<Name>>,
        /// Where to: prefixes, or address sets as `set:NAME`.
        to: Required<Many<SetEntry>>,
        /// By what: `local`, `blackhole`, an address, or a name with its kind: `gateway:`, `interface:`, `peering:`, `firewall:`, `balancer:`, `hub:`, `service:`.
        next_hop: Required<Spanned<WrittenHop>>,
        /// Among equally long prefixes of one kind the lowest wins. Default: 0.
        metric: Option<u32>,
        /// `static` (somebody wrote it) or `propagated` (learned). Default: `static`.
        kind: Option<WrittenRouteKind>,
        /// Whether the route is in force. Default: true.
        enabled: Option<bool>,
        /// Limits it to interfaces with all of these tags.
        only_tagged: Option<TagMap>,
        /// Limits it to packets from these prefixes, or address sets as `set:NAME`.
        only_from: Option<Many<SetEntry>>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// A list of routes that subnets of one network use.
    WrittenTable as "a route table" {
        /// Unique among route tables.
        id: Required<Spanned<Name>>,
        /// The network whose subnets may use it.
        network: Required<Spanned<Name>>,
        /// Its routes. Those to the network's own blocks and to peers are automatic and need not be written.
        routes: Many<WrittenRoute>,
        /// Whether it learns the routes that the network's site gateways and hub links offer. Default: false.
        accepts_propagation: Option<bool>,
        /// Who changes it.
        owner: Option<Spanned<Name>>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// A way out of a network, or in, or both.
    WrittenGateway as "a gateway" {
        /// Unique among gateways.
        id: Required<Spanned<Name>>,
        /// `internet`, `nat`, `outbound-only` or `site`.
        kind: Required<Spanned<WrittenGatewayKind>>,
        /// The network.
        network: Required<Spanned<Name>>,
        /// Internet gateways: whether it is attached to the network. Default: true.
        attached: Option<Spanned<bool>>,
        /// Internet gateways: a route table of its own, for all that comes in, after mapping. Absent: automatic routes.
        table: Option<Spanned<Name>>,
        /// NAT gateways: the subnet where it stands.
        subnet: Option<Spanned<Name>>,
        /// NAT gateways: its own private address in that subnet, IPv4.
        address: Option<Spanned<IpAddr>>,
        /// NAT gateways: subnets whose packets come to it where no route matches.
        serves: Option<Spanned<Many<Spanned<Name>>>>,
        /// NAT gateways: as which public address it is seen. Absent: it translates to a private address.
        public: Option<Spanned<IpAddr>>,
        /// Site gateways: the site it leads to.
        site: Option<Spanned<Name>>,
        /// Site gateways: whether it is up. Default: true.
        up: Option<Spanned<bool>>,
        /// Who changes it.
        owner: Option<Spanned<Name>>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// One side of a peering.
    WrittenPeeringSide as "a side of a peering" {
        /// The network on this side.
        network: Required<Spanned<Name>>,
        /// Whether this side is up. Default: true.
        up: Option<bool>,
        /// Whether routes to the other side's blocks are `automatic` or `written`. Default: `automatic`.
        peer_routes: Option<PeerRoutes>,
        /// Whether it takes in packets whose source is not of the other network. Default: false.
        accept_forwarded: Option<bool>,
        /// Whether the other side may use this network's site gateways. Default: false.
        lend_gateways: Option<bool>,
        /// Whether it uses the other network's site gateways, if they are lent. Default: false.
        use_gateways: Option<bool>,
    }
}

record! {
    /// Two networks, joined; up on both sides or not at all.
    WrittenPeering as "a peering" {
        /// Unique among peerings.
        id: Required<Spanned<Name>>,
        /// The two sides.
        sides: Required<Sides>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// A place on the premises.
    WrittenSite as "a site" {
        /// Unique among sites.
        id: Required<Spanned<Name>>,
        /// The addresses that are there.
        holds: Many<Spanned<Block>>,
        /// The prefixes that it tells the cloud. Absent: what it holds.
        announces: Option<Many<Spanned<Block>>>,
        /// The cloud's addresses to which it finds back. Absent: all that is offered to it.
        knows: Option<Many<Spanned<Block>>>,
        /// The network as which it resolves names. Absent: as the public does.
        resolves_as: Option<Spanned<Name>>,
        /// Who changes it.
        owner: Option<Spanned<Name>>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// A named list of DNS names.
    WrittenNameSet as "a name set" {
        /// Unique among name sets.
        id: Required<Spanned<Name>>,
        /// DNS names; `*.x` means any depth below x, and not x.
        names: Many<Spanned<Name>>,
        /// Who changes it.
        owner: Option<Spanned<Name>>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// A DNS record: addresses, or another name.
    WrittenRecord as "a DNS record" {
        /// The name; `*.x` means any depth below x, and not x.
        name: Required<Spanned<Name>>,
        /// The addresses that it stands for.
        addresses: Option<Many<IpAddr>>,
        /// The name that it stands for.
        alias: Option<Spanned<Name>>,
    }
}

record! {
    /// A private DNS zone.
    WrittenZone as "a DNS zone" {
        /// Unique among DNS zones.
        id: Required<Spanned<Name>>,
        /// The DNS name that it is about; its records lie at or below it.
        zone: Required<Spanned<Name>>,
        /// The networks that it is linked to.
        networks: Many<Spanned<Name>>,
        /// Its records.
        records: Many<WrittenRecord>,
        /// Whether a name without a record here is looked up in public. Absent: the setting.
        fall_through: Option<bool>,
        /// Who changes it.
        owner: Option<Spanned<Name>>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// Something missing from the snapshot. What depends on it is unknown, never denied or lost.
    WrittenGap as "a gap" {
        /// What is lacking, with its kind: `network:NAME`, `group:NAME` …
        object: Required<Object>,
        /// Which part of it: `everything`, `interfaces`, `own_firewalls`, `groups` (their bindings), `rules` or `routes`. Default: `everything`.
        lacks: Option<Spanned<Lack>>,
        /// Of a network, subnet, site, interface, balancer, firewall or service that is lacking: its addresses, if these are known. Of a
        /// network all of its blocks.
        blocks: Option<Many<Spanned<Block>>>,
        /// Why it is lacking, for the reader.
        reason: Option<Prose>,
    }
}

/// One entry of an address set or of a route's destination.
#[derive(Clone, Debug)]
pub(crate) struct SetEntry {
    pub span: heronshale_model::source::Span,
    pub entry: Result<Block, Name>,
}

/// The content of an address set, if it is known.
#[derive(Clone, Debug)]
pub(crate) struct SetContent(pub Option<Vec<SetEntry>>);

/// The sides of a peering, read all or none: with one left out their count would be wrong.
#[derive(Clone, Debug)]
pub(crate) struct Sides(pub Vec<WrittenPeeringSide>);

/// Where a scope policy is bound.
#[derive(Clone, Debug)]
pub(crate) enum WrittenScope {
    Estate,
    Division(Spanned<Name>),
    Network(Spanned<Name>),
}

mod own {
    //! The values of this format that are no records.
    use super::{SetContent, SetEntry, Sides, WrittenPeeringSide, WrittenScope};
    use crate::reading::{Definitions, Many, Reading, Spanned, Written, text_of};
    use crate::tree::{Node, Scalar, Value};
    use heronshale_model::notation::split_kind;
    use heronshale_sets::address::Block;
    use serde_json::{Value as Json, json};

    impl Written for SetEntry {
        fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
            let text = text_of(node, at, "an address, prefix or range, or set:NAME")?.trim();
            let entry = match split_kind(text, &["set"]) {
                Some((_, name)) => Err(name.into()),
                None => Ok(Block::read(node, at)?),
            };
            Some(Self {
                span: node.span,
                entry,
            })
        }
        fn schema(_: &mut Definitions) -> Json {
            json!({ "type": "string", "examples": ["10.64.0.0/12", "set:partners"] })
        }
    }

    impl Written for SetContent {
        fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
            if matches!(&node.value, Value::Scalar(Scalar::Text, word) if word == "unknown") {
                return Some(Self(None));
            }
            <Many<SetEntry> as Written>::read(node, at).map(|entries| Self(Some(entries.0)))
        }
        fn schema(definitions: &mut Definitions) -> Json {
            let entries = <Many<SetEntry> as Written>::schema(definitions);
            json!({ "anyOf": [{ "const": "unknown" }, entries] })
        }
    }

    impl Written for Sides {
        fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
            let Value::List(items) = &node.value else {
                at.expected(node, "a list of two sides", None);
                return None;
            };
            let read: Vec<Option<WrittenPeeringSide>> = items
                .iter()
                .map(|item| WrittenPeeringSide::read(item, at))
                .collect();
            read.into_iter().collect::<Option<Vec<_>>>().map(Self)
        }
        fn schema(definitions: &mut Definitions) -> Json {
            let side = WrittenPeeringSide::schema(definitions);
            json!({ "type": "array", "items": side, "minItems": 2, "maxItems": 2 })
        }
    }

    impl Written for WrittenScope {
        fn read(node: &Node<'_>, at: &mut Reading) -> Option<Self> {
            let text = text_of(node, at, "a scope")?.trim();
            let named = |name: &str| Spanned {
                span: node.span,
                value: name.into(),
            };
            match (text, split_kind(text, &["division", "network"])) {
                ("estate", _) => Some(Self::Estate),
                (_, Some(("division", name))) => Some(Self::Division(named(name))),
                (_, Some((_, name))) => Some(Self::Network(named(name))),
                _ => {
                    let help = "write estate, division:NAME or network:NAME".to_owned();
                    at.fail(
                        node.span,
                        format!("`{text}` is not a scope"),
                        "not understood",
                        Some(help),
                    );
                    None
                }
            }
        }
        fn schema(_: &mut Definitions) -> Json {
            json!({ "type": "string", "examples": ["estate", "division:freight", "network:tickets"] })
        }
    }
}
