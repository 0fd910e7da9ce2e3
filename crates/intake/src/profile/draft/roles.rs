//! What the lists of exports are: by their names, by what is in them, and by what leads to them.

use super::asked::{Asker, Question};
use super::fields::RuleFields;
use super::links::{Links, is_own_id};
use super::naming::{id_of, is_id};
use super::shape::{Field, List};
use super::values::{Kind, direction_of_path, is_peer};

/// What a list is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Role {
    /// Objects of a section.
    Section(&'static str),
    /// Rules of other objects, or of themselves.
    Rules,
    /// Routes of route tables.
    Routes,
    /// Which objects of one list go with which of another.
    Pairs,
    /// Services by name.
    Traffic,
    /// A part of the objects around it.
    Part,
    /// Nothing that counts.
    Nothing,
    /// Nobody knows.
    Open,
}

/// Sections by what their lists are called, the telling words first.
const WORDS: [(&str, &[&str]); 22] = [
    ("subnets", &["subnet", "segment"]),
    (
        "public_addresses",
        &[
            "public_address",
            "public_ip",
            "floating",
            "external_address",
            "external_ip",
        ],
    ),
    ("own_firewalls", &["own_firewall", "host_firewall"]),
    ("firewall_policies", &["firewall_polic"]),
    ("network_acls", &["acl", "accesslist", "access_list"]),
    (
        "security_groups",
        &[
            "security_group",
            "ruleset",
            "rule_set",
            "rule_group",
            "group",
        ],
    ),
    (
        "address_sets",
        &[
            "addressset",
            "address_set",
            "prefix_list",
            "prefixes",
            "iplist",
            "address_list",
        ],
    ),
    ("route_tables", &["routetable", "route_table", "routing"]),
    (
        "interfaces",
        &["interface", "iface", "nic", "card", "port", "adapter"],
    ),
    ("peerings", &["peering"]),
    ("gateways", &["gateway"]),
    ("scope_policies", &["polic"]),
    ("firewalls", &["firewall"]),
    ("balancers", &["balancer"]),
    (
        "workloads",
        &["workload", "machine", "instance", "server", "vm", "host"],
    ),
    ("sites", &["site", "branch"]),
    ("hubs", &["hub", "transit"]),
    ("owners", &["owner", "team", "contact"]),
    ("dns_zones", &["dns_zone"]),
    ("services", &["private_service"]),
    ("address_sets", &["set"]),
    ("networks", &["network", "net"]),
];

/// The answers to what a list is.
const SECTIONS: [&str; 24] = [
    "networks",
    "subnets",
    "interfaces",
    "workloads",
    "security_groups",
    "network_acls",
    "rules",
    "route_tables",
    "routes",
    "gateways",
    "public_addresses",
    "address_sets",
    "owners",
    "own_firewalls",
    "scope_policies",
    "firewalls",
    "firewall_policies",
    "balancers",
    "services",
    "peerings",
    "sites",
    "hubs",
    "dns_zones",
    "nothing",
];

/// What the names of a list say.
fn named(list: &List) -> Option<Role> {
    let name = list.name();
    if name.contains("rule") && !name.contains("rule_set") && !name.contains("ruleset")
        || name.contains("permission")
    {
        return Some(Role::Rules);
    }
    if name.contains("route") && !name.contains("table") && !name.contains("router") {
        return Some(Role::Routes);
    }
    WORDS
        .iter()
        .find(|(_, words)| words.iter().any(|word| name.contains(word)))
        .map(|(section, _)| Role::Section(section))
}

/// Whether lists are routes: where to, and by what.
pub(super) fn route_fields(list: &List) -> Option<(usize, usize)> {
    let looks = |it: &Field| {
        matches!(
            it.traits.kind,
            Kind::Blocks | Kind::Peers | Kind::Addresses | Kind::Hosts
        )
    };
    let to = list.field(|it| looks(it) && !it.deep && !it.is_called(&["via", "next", "hop"]))?;
    let by = |it: &Field| {
        !it.deep && it.is_called(&["via", "next", "hop", "gateway", "through", "target"])
    };
    let by = list
        .fields
        .iter()
        .enumerate()
        .position(|(at, it)| at != to && by(it))?;
    Some((to, by))
}

/// What is known of lists before they have roles.
pub(super) struct Evidence<'l> {
    pub lists: &'l [List],
    pub links: &'l Links,
}

impl Evidence<'_> {
    fn has(&self, at: usize, kinds: &[Kind]) -> bool {
        self.lists[at]
            .fields
            .iter()
            .any(|it| kinds.contains(&it.traits.kind))
    }

    fn has_own(&self, at: usize, kinds: &[Kind]) -> bool {
        self.lists[at]
            .fields
            .iter()
            .any(|it| !it.deep && kinds.contains(&it.traits.kind))
    }

    /// Lists around a list, and those that its fields lead to.
    fn leads_to(&self, at: usize) -> Vec<usize> {
        let fields = 0..self.lists[at].fields.len();
        let linked = fields.flat_map(|field| {
            self.links
                .of_field(at, field)
                .iter()
                .filter(|link| link.share >= 50)
        });
        linked
            .map(|link| link.list)
            .chain(self.lists[at].outer)
            .collect()
    }

    /// Whether a list goes with rules: they lie in it, lead to it, or it leads to them.
    fn has_rules(&self, at: usize) -> bool {
        let whole = |other: usize, field: usize| {
            let it = &self.lists[other].fields[field];
            it.holders == self.lists[other].records.len() && !it.deep
        };
        (0..self.lists.len()).any(|other| {
            let led = self
                .links
                .between(other, at)
                .is_some_and(|(field, _)| whole(other, field));
            let leads = self
                .links
                .between(at, other)
                .is_some_and(|(_, link)| Some(link.key) == id_of(&self.lists[other]));
            other != at
                && is_rules(other, self.lists, self.links)
                && (led || leads || within(self.lists, other, at))
        })
    }

    /// Whether routes lie in a list, or lead to it.
    fn has_routes(&self, at: usize) -> bool {
        (0..self.lists.len()).any(|other| {
            other != at
                && route_fields(&self.lists[other]).is_some()
                && !is_rules(other, self.lists, self.links)
                && (self.lists[other].outer == Some(at) || self.leads_as_owner(other, at))
        })
    }

    /// Whether each object of a list leads to one of another, by a field that is not a next hop.
    fn leads_as_owner(&self, from: usize, to: usize) -> bool {
        let by = route_fields(&self.lists[from]).map(|(_, by)| by);
        self.links.between(from, to).is_some_and(|(field, _)| {
            Some(field) != by
                && self.lists[from].fields[field].holders == self.lists[from].records.len()
        })
    }

    /// Whether a list tells ways out: one of its fields has their kinds.
    fn has_gateway_kinds(&self, at: usize) -> bool {
        let kinds = |it: &Field| {
            it.is_called(&["kind", "type", "class"])
                && it.values.keys().any(|value| {
                    matches!(value.to_lowercase().as_str(), "internet" | "nat" | "vpn")
                })
        };
        self.lists[at].fields.iter().any(|it| !it.deep && kinds(it))
    }

    /// Whether what a list is called goes with what is in it.
    fn fits(&self, at: usize, section: &str) -> bool {
        match section {
            "networks" => {
                self.has(at, &[Kind::Blocks])
                    || (0..self.lists.len()).any(|other| self.links.between(other, at).is_some())
            }
            "subnets" => self.has_own(at, &[Kind::Blocks, Kind::Hosts]),
            "interfaces" => self.has(at, &[Kind::Addresses, Kind::Hosts]),
            "public_addresses" => self.has_own(at, &[Kind::Addresses]),
            "address_sets" => self.has(at, &[Kind::Blocks, Kind::Peers, Kind::Addresses]),
            "security_groups" | "network_acls" => {
                self.has_rules(at) || is_rules(at, self.lists, self.links)
            }
            "route_tables" => (0..self.lists.len()).any(|other| {
                route_fields(&self.lists[other]).is_some()
                    && (other == at
                        || within(self.lists, other, at)
                        || self.links.between(other, at).is_some())
            }),
            _ => true,
        }
    }

    /// What is in a list, whatever it is called.
    fn shape(&self, at: usize) -> Option<Role> {
        let blocks =
            |at: usize| self.has_own(at, &[Kind::Blocks]) && !is_rules(at, self.lists, self.links);
        let leads = self.leads_to(at);
        if is_rules(at, self.lists, self.links) {
            return Some(Role::Rules);
        }
        if route_fields(&self.lists[at]).is_some() {
            return Some(Role::Routes);
        }
        let mail = |it: &Field| it.values.keys().all(|value| value.contains('@'));
        if self.lists[at].fields.iter().any(mail) {
            return Some(Role::Section("owners"));
        }
        if self.has_routes(at) {
            return Some(Role::Section("route_tables"));
        }
        if self.has_gateway_kinds(at) {
            return Some(Role::Section("gateways"));
        }
        if self.has_rules(at) {
            let from = |other: usize| self.links.between(other, at).is_some();
            let any = |holds: &dyn Fn(usize) -> bool| {
                (0..self.lists.len()).any(|other| from(other) && holds(other))
            };
            let interfaces = any(&|other| {
                self.has_own(other, &[Kind::Addresses, Kind::Hosts]) && !blocks(other)
            });
            let subnets = !interfaces && any(&blocks);
            return Some(Role::Section(if subnets {
                "network_acls"
            } else {
                "security_groups"
            }));
        }
        let has_places =
            (0..self.lists.len()).any(|other| within(self.lists, other, at) && blocks(other));
        if !has_places
            && self.has(at, &[Kind::Addresses, Kind::Hosts])
            && leads.iter().any(|other| blocks(*other))
            && !blocks(at)
        {
            return Some(Role::Section("interfaces"));
        }
        if blocks(at) {
            let inner = leads
                .iter()
                .any(|other| blocks(*other) || self.lists[at].outer == Some(*other));
            return Some(Role::Section(if inner { "subnets" } else { "networks" }));
        }
        if self.has(at, &[Kind::Peers]) {
            return Some(Role::Section("address_sets"));
        }
        None
    }

    /// Whether a list pairs the objects of two others, and says nothing else.
    fn is_pairs(&self, at: usize) -> bool {
        let list = &self.lists[at];
        let linked: Vec<usize> = (0..list.fields.len())
            .filter(|field| !is_id(&list.fields[*field]) && !is_own_id(&list.fields[*field], list))
            .filter_map(|field| {
                self.links
                    .of_field(at, field)
                    .first()
                    .filter(|link| link.share >= 50)
                    .map(|link| link.list)
            })
            .collect();
        list.outer.is_none()
            && list.fields.len() <= 4
            && linked.len() == 2
            && linked[0] != linked[1]
            && !self.has(
                at,
                &[
                    Kind::Blocks,
                    Kind::Addresses,
                    Kind::Hosts,
                    Kind::Peers,
                    Kind::Services,
                    Kind::Ports,
                ],
            )
    }
}

/// Whether a list lies in another one, however deep.
pub(super) fn within(lists: &[List], inner: usize, outer: usize) -> bool {
    lists[inner]
        .outer
        .is_some_and(|around| around == outer || within(lists, around, outer))
}

/// Whether the objects of a list are rules.
pub(super) fn is_rules(at: usize, lists: &[List], links: &Links) -> bool {
    let score = RuleFields::of(at, lists, links, None).score();
    score >= 3
        || score >= 1
            && (named(&lists[at]) == Some(Role::Rules)
                || direction_of_path(&lists[at].path).is_some())
}

/// What each list is.
pub(super) fn roles(lists: &[List], links: &Links, asker: &mut Asker<'_>) -> Vec<Role> {
    let evidence = Evidence { lists, links };
    let mut roles: Vec<Role> = Vec::new();
    for at in 0..lists.len() {
        let role = role(at, &evidence, &roles, asker);
        roles.push(role);
    }
    // Machines that have addresses themselves are interfaces as well, where nothing else is.
    if !roles.contains(&Role::Section("interfaces")) {
        for (at, role) in roles.iter_mut().enumerate() {
            if *role == Role::Section("workloads")
                && evidence.has(at, &[Kind::Addresses, Kind::Hosts])
            {
                *role = Role::Section("interfaces");
            }
        }
    }
    roles
}

fn role(at: usize, evidence: &Evidence<'_>, before: &[Role], asker: &mut Asker<'_>) -> Role {
    let Evidence { lists, links } = evidence;
    let list = &lists[at];
    if evidence.is_pairs(at) {
        return Role::Pairs;
    }
    if super::traffic::is_traffic(at, lists, links) && links_from_rules(at, lists, links) {
        return Role::Traffic;
    }
    let around = list.outer.map(|outer| before[outer]);
    let shape = evidence.shape(at);
    // What lies in rules, in interfaces and in parts is read with them.
    let has_rules = matches!(shape, Some(Role::Rules | Role::Routes));
    if !has_rules
        && matches!(
            around,
            Some(
                Role::Rules
                    | Role::Routes
                    | Role::Part
                    | Role::Section("interfaces" | "address_sets")
            )
        )
    {
        return Role::Part;
    }
    let by_name = named(list);
    let fits = match by_name {
        Some(Role::Section(section)) => evidence.fits(at, section) && shape != Some(Role::Rules),
        Some(Role::Rules) => is_rules(at, lists, links),
        Some(Role::Routes) => route_fields(list).is_some(),
        _ => false,
    };
    if let Some(role) = by_name.filter(|_| fits) {
        return role;
    }
    if let Some(role @ (Role::Rules | Role::Routes)) = shape {
        return role;
    }
    let guess = shape.or(by_name);
    // What lies in objects that nobody described is as little known as they are.
    let unknown = match around {
        Some(Role::Open) => true,
        Some(Role::Section(section)) => super::naming::is_not_read(section),
        _ => false,
    };
    let is_part = unknown || list.outer.is_some() && is_tags(list);
    if is_part || guess.is_none() && is_idle(at, evidence) {
        return if list.outer.is_some() {
            Role::Part
        } else {
            Role::Nothing
        };
    }
    asked(list, guess, asker)
}

/// Whether nothing of a list has to do with packets: no addresses, no ports, and no other list leads to it, or it to others. What
/// lies in its objects is looked at by itself.
fn is_idle(at: usize, evidence: &Evidence<'_>) -> bool {
    let telling = [Kind::Services, Kind::Protocols, Kind::Ports];
    let tells = |it: &Field| {
        telling.contains(&it.traits.kind) || it.values.keys().any(|value| is_peer(value))
    };
    let links = evidence.links;
    let lists = evidence.lists;
    !lists[at].fields.iter().filter(|it| !it.deep).any(tells)
        && (0..lists.len())
            .all(|other| !links.touch(lists, other, at) && !links.touch(lists, at, other))
}

/// Whether a list has keys and values.
fn is_tags(list: &List) -> bool {
    matches!(list.name().as_str(), "tags" | "labels" | "marks") && list.fields.len() <= 3
}

/// Whether a rule names an object of a list.
fn links_from_rules(at: usize, lists: &[List], links: &Links) -> bool {
    (0..lists.len()).any(|other| {
        links.between(other, at).is_some_and(|_| {
            is_rules(other, lists, links) || named(&lists[other]) == Some(Role::Rules)
        })
    })
}

fn asked(list: &List, guess: Option<Role>, asker: &mut Asker<'_>) -> Role {
    let guess = guess.map(|role| match role {
        Role::Section(section) => section,
        Role::Rules => "rules",
        Role::Routes => "routes",
        _ => "nothing",
    });
    let fields: Vec<String> = list
        .fields
        .iter()
        .take(6)
        .map(|it| format!("{} ({})", it.path, it.shown()))
        .collect();
    let answer = asker.ask(Question {
        about: list.place(),
        ask: format!("What are the objects of {}?", list.place()),
        seen: format!("{} of them, with {}", list.count, fields.join("; ")),
        choices: SECTIONS.map(str::to_owned).to_vec(),
        guess: guess.map(str::to_owned),
        otherwise: "these objects are not read, and answers about the networks are unknown"
            .to_owned(),
        answer: None,
    });
    match answer.as_deref() {
        None => Role::Open,
        Some("rules") => Role::Rules,
        Some("routes") => Role::Routes,
        Some("nothing") => Role::Nothing,
        Some(section) => SECTIONS
            .iter()
            .find(|known| **known == section)
            .map_or(Role::Open, |known| Role::Section(known)),
    }
}
