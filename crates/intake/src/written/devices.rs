//! Devices, as written: firewalls, balancers, services, hubs.

use super::*;

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
