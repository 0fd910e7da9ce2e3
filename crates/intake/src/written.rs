//! The snapshot format, version 1, as written: every record and field, with the words that the schema and
//! `docs/snapshot.md` show.

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
    /// A rule of a filter.
    WrittenRule as "a rule" {
        /// Unique in its list; how output names the rule.
        id: Option<Spanned<Name>>,
        /// `allow`, `deny` or `reject`; in scope policies also `allow-finally` and `defer`. Absent in a union group: `allow`.
        action: Option<Spanned<Action>>,
        /// Lowest first. A rule without one comes after all that have one, as written.
        priority: Option<u32>,
        /// Traffic such as `tcp 443`, `udp`, `icmp 8/0`, `any 53`. Absent: any.
        services: Option<Many<Service>>,
        /// Source ports. Absent: all.
        source_ports: Option<Many<Ports>>,
        /// The other side: sources of inbound rules, destinations of outbound ones. Absent: any; `[]`: nothing.
        peers: Option<Many<Spanned<WrittenPeer>>>,
        /// Whom of the peers the rule is not about.
        except: Many<Spanned<WrittenPeer>>,
        /// This side: which of the interface's own addresses. Absent: any.
        local: Option<Many<Spanned<WrittenPeer>>>,
        /// Whether the rule is in force at all. Default: true.
        enabled: Option<bool>,
        /// Whether it keeps no state although its filter does. Default: false.
        stateless: Option<bool>,
        /// The platform itself stops the rule at this moment.
        enforced_until: Option<Moment>,
        /// A note: somebody wants to look at it again by then. The rule matches all the same.
        review_by: Option<Moment>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// Stateful rules that are bound to interfaces or subnets.
    WrittenGroup as "a security group" {
        /// Unique among security groups.
        id: Required<Spanned<Name>>,
        /// `union`: allow rules only, any of them admits. `ordered`: allow, deny and reject by priority. Default: `union`.
        form: Option<Form>,
        /// Rules for what interfaces receive.
        inbound: Many<WrittenRule>,
        /// Rules for what interfaces send.
        outbound: Many<WrittenRule>,
        /// Ordered groups: what happens to inbound packets that no rule matches. Default: `deny`.
        default_inbound: Option<Spanned<Action>>,
        /// Ordered groups: what happens to outbound packets that no rule matches. Default: `deny`.
        default_outbound: Option<Spanned<Action>>,
        /// Who changes it.
        owner: Option<Spanned<Name>>,
        /// Keys and values.
        tags: Option<TagMap>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// Stateless ordered rules of a subnet; the first match decides, the rest is denied.
    WrittenAcl as "a network ACL" {
        /// Unique among network ACLs.
        id: Required<Spanned<Name>>,
        /// Rules for packets that enter the subnet.
        inbound: Many<WrittenRule>,
        /// Rules for packets that leave it.
        outbound: Many<WrittenRule>,
        /// Who changes it.
        owner: Option<Spanned<Name>>,
        /// Keys and values.
        tags: Option<TagMap>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// Ordered stateful rules for the whole estate, a division or a network.
    WrittenPolicy as "a scope policy" {
        /// Unique among scope policies.
        id: Required<Spanned<Name>>,
        /// Where it is bound: `estate`, `division:NAME` or `network:NAME`.
        scope: Required<WrittenScope>,
        /// Which of several policies at one scope comes first: the lowest. Needed where there are several.
        order: Option<Spanned<u32>>,
        /// Limits it to interfaces by `tag:`, `identity:`, `network:`, `subnet:` or `interface:`. Absent: all of the scope.
        targets: Option<Many<Spanned<WrittenPeer>>>,
        /// Rules for what interfaces receive.
        inbound: Many<WrittenRule>,
        /// Rules for what interfaces send.
        outbound: Many<WrittenRule>,
        /// Who changes it.
        owner: Option<Spanned<Name>>,
        /// Keys and values.
        tags: Option<TagMap>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// A workload's own firewall: ordered, stateful.
    WrittenOwnFirewall as "an own firewall" {
        /// Unique among own firewalls.
        id: Required<Spanned<Name>>,
        /// What happens to received packets that no rule matches: `allow`, `deny` or `reject`.
        default_inbound: Required<Spanned<Action>>,
        /// What happens to sent packets that no rule matches: `allow`, `deny` or `reject`.
        default_outbound: Required<Spanned<Action>>,
        /// Rules for what the workload receives.
        inbound: Many<WrittenRule>,
        /// Rules for what it sends.
        outbound: Many<WrittenRule>,
        /// Interfaces where it stands; the same as if each named it as its `own_firewall`.
        interfaces: Many<Spanned<Name>>,
        /// Who changes it.
        owner: Option<Spanned<Name>>,
        /// Keys and values.
        tags: Option<TagMap>,
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
    /// An interface of a firewall.
    WrittenFirewallLeg as "an interface of a firewall" {
        /// The interface.
        interface: Required<Spanned<Name>>,
        /// The firewall-zone that it is part of.
        zone: Option<Name>,
    }
}

record! {
    /// One of several machines behind a firewall's address.
    WrittenMember as "a member of a firewall" {
        /// What it is called.
        id: Required<Name>,
        /// Whether it is up. Default: true.
        up: Option<bool>,
    }
}

record! {
    /// How a firewall changes the source or the destination of packets; the first that matches does.
    WrittenTranslation as "a translation" {
        /// How output names it.
        id: Option<Name>,
        /// Zones by which packets come in. Absent: all.
        from_zones: Option<Many<Name>>,
        /// Zones by which packets go out; of source translations only. Absent: all.
        to_zones: Option<Spanned<Many<Name>>>,
        /// Sources. Absent: any.
        sources: Option<Many<Spanned<WrittenPeer>>>,
        /// Destinations. Absent: any.
        destinations: Option<Many<Spanned<WrittenPeer>>>,
        /// Traffic such as `tcp 443`. Absent: any.
        services: Many<Service>,
        /// The new address. Of a source translation absent: the primary address of the interface by which packets leave.
        to: Option<IpAddr>,
        /// The new port; of destination translations only. Absent: as asked.
        port: Option<Spanned<u32>>,
        /// Whether it is in force. Default: true.
        enabled: Option<bool>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// A service of a firewall's own: what it answers at its own addresses.
    WrittenOwnService as "a service of a firewall's own" {
        /// Traffic such as `tcp 22`. Absent: any.
        services: Many<Service>,
        /// Who may use it. Absent: everybody.
        sources: Option<Many<Spanned<WrittenPeer>>>,
    }
}

record! {
    /// A line of a firewall's own table.
    WrittenFirewallRoute as "a route of a firewall" {
        /// Where to: prefixes, or address sets as `set:NAME`.
        to: Required<Many<SetEntry>>,
        /// By which of its interfaces.
        interface: Required<Spanned<Name>>,
    }
}

record! {
    /// An inline device that forwards, filters and translates.
    WrittenFirewall as "a firewall" {
        /// Unique among firewalls.
        id: Required<Spanned<Name>>,
        /// Its interfaces, with their zones. None: it holds addresses itself, as inside a hub.
        interfaces: Many<WrittenFirewallLeg>,
        /// Without interfaces: the addresses that it holds itself.
        addresses: Many<Spanned<Block>>,
        /// Without interfaces: the hub in which it stands.
        hub: Option<Spanned<Name>>,
        /// Its firewall policy. Absent: everything is denied.
        policy: Option<Spanned<Name>>,
        /// Of a translated packet, which destination the policy sees: `translated` or `original`. Absent: the setting.
        policy_sees: Option<PolicySees>,
        /// Tried before its own table is asked; the first that matches counts.
        destination_translations: Many<WrittenTranslation>,
        /// Tried after its policy; the first that matches counts; ports are redrawn.
        source_translations: Many<WrittenTranslation>,
        /// Its own table, which picks the interface by which packets leave. Absent: the one by which they came.
        routes: Option<Many<WrittenFirewallRoute>>,
        /// What it answers at its own addresses, where no destination translation takes the packet; `[]`: nothing. Absent: nobody knows.
        own_services: Option<Many<WrittenOwnService>>,
        /// Its machines. Absent: one that is up.
        members: Many<WrittenMember>,
        /// Whether replies come back to the member that saw the request. Default: false.
        symmetric: Option<bool>,
        /// Who changes it.
        owner: Option<Spanned<Name>>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// A rule of a firewall policy.
    WrittenFirewallRule as "a rule of a firewall policy" {
        /// Unique in its policy; how output names the rule.
        id: Option<Spanned<Name>>,
        /// `allow`, `deny`, `reject`, or `defer` to the policy below.
        action: Required<Spanned<Action>>,
        /// Lowest first. A rule without one comes after all that have one, as written.
        priority: Option<u32>,
        /// Traffic such as `tcp 443`, `udp`, `icmp 8/0`, `any 53`. Absent: any.
        services: Option<Many<Service>>,
        /// Source ports. Absent: all.
        source_ports: Option<Many<Ports>>,
        /// Zones by which packets come in. Absent: all.
        from_zones: Option<Many<Name>>,
        /// Zones by which packets go out. Absent: all.
        to_zones: Option<Many<Name>>,
        /// Sources. Absent: any; `[]`: nothing.
        sources: Option<Many<Spanned<WrittenPeer>>>,
        /// Which sources the rule is not about.
        except_sources: Many<Spanned<WrittenPeer>>,
        /// Destinations. Absent: any, or only those of `names`; `[]`: nothing.
        destinations: Option<Many<Spanned<WrittenPeer>>>,
        /// Which destinations the rule is not about.
        except_destinations: Many<Spanned<WrittenPeer>>,
        /// Name sets: the rule matches what was asked by one of their names. Beside `destinations` either suffices.
        names: Option<Many<Spanned<Name>>>,
        /// What else has to hold that no snapshot holds, in words: a person, a path, a certificate, a geography.
        condition: Option<Prose>,
        /// Whether the rule is in force at all. Default: true.
        enabled: Option<bool>,
        /// Whether it keeps no state. Default: false.
        stateless: Option<bool>,
        /// The platform itself stops the rule at this moment.
        enforced_until: Option<Moment>,
        /// A note: somebody wants to look at it again by then. The rule matches all the same.
        review_by: Option<Moment>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// A part of a firewall policy.
    WrittenSection as "a section" {
        /// What it is called.
        id: Required<Name>,
        /// Lowest first. A section without one comes after all that have one, as written.
        priority: Option<u32>,
        /// The class of its rules.
        class: Option<Name>,
        /// Its rules.
        rules: Many<WrittenFirewallRule>,
    }
}

record! {
    /// What firewalls let through: the base policy first, then classes, sections by priority, rules by priority.
    WrittenFirewallPolicy as "a firewall policy" {
        /// Unique among firewall policies.
        id: Required<Spanned<Name>>,
        /// The policy that is tried first.
        base: Option<Spanned<Name>>,
        /// What happens to what no rule matches: `allow`, `deny` or `reject`. Default: `deny`.
        default: Option<Spanned<Action>>,
        /// The classes in the order in which they are tried; what is of no class here comes after them.
        class_order: Many<Name>,
        /// Its sections.
        sections: Many<WrittenSection>,
        /// Rules outside of sections; they count as a section without priority and class.
        rules: Many<WrittenFirewallRule>,
        /// Who changes it.
        owner: Option<Spanned<Name>>,
        /// Keys and values.
        tags: Option<TagMap>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// An address and ports at which a balancer is asked.
    WrittenFrontEnd as "a front end" {
        /// The address.
        address: Required<Spanned<IpAddr>>,
        /// Whether it is a public one, at the network's internet gateway. Default: false.
        public: Option<bool>,
        /// Of a public one the address inside the network that the gateway's own table is asked with. Absent: it is at the balancer at once.
        private: Option<Spanned<IpAddr>>,
        /// Protocols and ports such as `tcp 443`. Absent: any.
        services: Many<Service>,
    }
}

record! {
    /// What is behind a balancer: an interface or an address.
    WrittenBackEnd as "a back end" {
        /// The interface.
        interface: Option<Spanned<Name>>,
        /// The address. Of an interface absent: its primary one.
        address: Option<Spanned<IpAddr>>,
        /// The port. Absent: the one that was asked.
        port: Option<Spanned<u32>>,
        /// Whether it is healthy. Default: true.
        healthy: Option<bool>,
    }
}

record! {
    /// A load balancer.
    WrittenBalancer as "a balancer" {
        /// Unique among balancers.
        id: Required<Spanned<Name>>,
        /// The network.
        network: Required<Spanned<Name>>,
        /// The subnet where it stands. Absent: outside all subnets.
        subnet: Option<Spanned<Name>>,
        /// `keeping` (the back end sees the client's address) or `proxy` (it makes a connection of its own).
        kind: Required<WrittenBalancerKind>,
        /// Where it is asked.
        front_ends: Many<WrittenFrontEnd>,
        /// What is behind it.
        back_ends: Many<WrittenBackEnd>,
        /// Keeping ones: whether replies go `by_balancer` or are `routed` on their own. Default: `by_balancer`.
        replies: Option<Spanned<WrittenReplies>>,
        /// Proxies: its own interfaces.
        interfaces: Many<Spanned<Name>>,
        /// As a next hop: whether replies come to the same back end as the request. Default: false.
        symmetric: Option<bool>,
        /// Who changes it.
        owner: Option<Spanned<Name>>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// A platform service's entrance from the internet.
    WrittenPublicDoor as "a public door" {
        /// Its addresses.
        addresses: Many<Spanned<Block>>,
        /// Whether it is open. Default: true.
        open: Option<bool>,
        /// Who may come in, judged by the source after mapping. Absent: everyone; `[]`: nobody.
        allowed: Option<Many<Spanned<WrittenPeer>>>,
    }
}

record! {
    /// A platform service.
    WrittenService as "a service" {
        /// Unique among services.
        id: Required<Spanned<Name>>,
        /// Protocols and ports at its doors, such as `tcp 443`. Absent: any.
        services: Many<Service>,
        /// Its entrance from the internet.
        public_door: Option<WrittenPublicDoor>,
        /// Interfaces that are its private addresses inside networks, one way.
        private_doors: Many<Spanned<Name>>,
        /// Interfaces of its own in networks, as any other.
        interfaces: Many<Spanned<Name>>,
        /// The balancer behind its private doors, on the provider's side.
        balancer: Option<Spanned<Name>>,
        /// The source that the provider's side sees; needed with `balancer`.
        provider_source: Option<IpAddr>,
        /// Who changes it.
        owner: Option<Spanned<Name>>,
        /// What it is for.
        description: Option<Prose>,
    }
}

record! {
    /// What ties something to a hub.
    WrittenLink as "a link" {
        /// Unique in its hub.
        id: Required<Spanned<Name>>,
        /// To what: `network:NAME`, `site:NAME`, `hub:NAME` or `firewall:NAME`.
        to: Required<LinkedTo>,
        /// In networks: the subnet whose table and ACL apply. Absent: the main table, and no ACL.
        subnet: Option<Spanned<Name>>,
        /// Whether it is up. Default: true.
        up: Option<bool>,
        /// The domain by which what comes in over it is routed. Absent: it is lost.
        reads: Option<Spanned<Name>>,
        /// The domains into which it announces.
        announces_into: Many<Spanned<Name>>,
        /// What it announces. Absent: a network's blocks, what a site announces, nothing of hubs and firewalls.
        announces: Option<Many<Spanned<Block>>>,
        /// Whether tables that learn from it take a default route too. Default: false.
        offers_default: Option<bool>,
        /// The firewall through which internet traffic that comes in over it is steered.
        steer_internet: Option<Spanned<Name>>,
        /// The firewall through which private traffic that comes in over it is steered.
        steer_private: Option<Spanned<Name>>,
    }
}

record! {
    /// A static route of a domain.
    WrittenDomainRoute as "a route of a domain" {
        /// Where to: prefixes, or address sets as `set:NAME`.
        to: Required<Many<SetEntry>>,
        /// By what: `link:NAME` of the same hub, or `blackhole`.
        next_hop: Required<Spanned<Name>>,
        /// Among equally long prefixes of one kind the lowest wins. Default: 0.
        metric: Option<u32>,
        /// Whether the route is in force. Default: true.
        enabled: Option<bool>,
    }
}

record! {
    /// A routing table of a hub.
    WrittenDomain as "a domain" {
        /// Unique in its hub.
        id: Required<Spanned<Name>>,
        /// Its static routes.
        routes: Many<WrittenDomainRoute>,
    }
}

record! {
    /// A transit router.
    WrittenHub as "a hub" {
        /// Unique among hubs.
        id: Required<Spanned<Name>>,
        /// Its routing tables.
        domains: Many<WrittenDomain>,
        /// What is tied to it.
        links: Many<WrittenLink>,
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
    /// Something the snapshot lacks. What depends on it is unknown, never denied or lost.
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
                        format!("`{text}` is no scope"),
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
