//! Filters and their rules, as written.

use super::*;

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
