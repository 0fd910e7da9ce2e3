//! Rules and interfaces as sheets.

use super::*;

/// A table of texts.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Sheet {
    /// Its columns.
    pub columns: Vec<&'static str>,
    /// Its rows.
    pub rows: Vec<Vec<String>>,
    /// What is not in it.
    pub left_out: Vec<LeftOut>,
}

pub(super) fn joined(all: impl IntoIterator<Item = String>) -> String {
    all.into_iter().collect::<Vec<_>>().join("; ")
}

pub(super) fn yes(is: bool) -> String {
    if is { "yes".to_owned() } else { String::new() }
}

/// The services of a rule in the notation of snapshots.
pub(super) fn services(rule: &Rule) -> String {
    let one = |service: &heronshale_model::estate::Service| match (service.protocol, &service.low) {
        (None, None) => vec![heronshale_audit::describe::service_text(service)],
        (None, Some(ports)) => vec![format!("any {}", ports_text(ports))],
        (Some(protocol), _) => {
            let family = if protocol == service::ICMPV6 {
                Family::V6
            } else {
                Family::V4
            };
            service::notation(family, &service.numbers(family))
        }
    };
    joined(rule.services.iter().flat_map(one))
}

/// The rules of groups, network ACLs and own firewalls, a row each, and the address sets; a filter without rules has a row too.
pub fn rule_sheet(view: &Fabric<'_>) -> Sheet {
    let estate = view.estate;
    let columns = vec![
        "kind",
        "filter",
        "form",
        "default_inbound",
        "default_outbound",
        "owner",
        "direction",
        "rule",
        "action",
        "priority",
        "services",
        "source_ports",
        "peers",
        "except",
        "local",
        "disabled",
        "stateless",
        "enforced_until",
        "review_by",
        "description",
    ];
    let mut sheet = Sheet {
        columns,
        ..Sheet::default()
    };
    let mut others: BTreeMap<&str, usize> = BTreeMap::new();
    for filter in estate.filters.items() {
        let word = |action: Option<heronshale_model::estate::Action>| {
            action.map_or_else(String::new, |action| action.word().to_owned())
        };
        let (kind, form, defaults) = match &filter.kind {
            FilterKind::UnionGroup => ("group", "", [None, None]),
            FilterKind::OrderedGroup { defaults } => ("group", "ordered", *defaults),
            FilterKind::NetworkAcl => ("acl", "", [None, None]),
            FilterKind::OwnFirewall { defaults } => ("own-firewall", "", defaults.map(Some)),
            FilterKind::ScopePolicy { .. } | FilterKind::FirewallPolicy { .. } => {
                *others.entry(plural_of(filter)).or_default() += 1;
                continue;
            }
        };
        let owner = filter
            .owner
            .map_or_else(String::new, |owner| estate.owners[owner].name.to_string());
        let head = vec![
            kind.to_owned(),
            filter.name.to_string(),
            form.to_owned(),
            word(defaults[0]),
            word(defaults[1]),
            owner,
        ];
        if !filter.tags.is_empty() {
            *others.entry("filters with tags").or_default() += 1;
        }
        let mut empty = true;
        for direction in Direction::BOTH {
            for rule in filter.rules(direction) {
                empty = false;
                sheet
                    .rows
                    .push([head.clone(), rule_row(estate, rule, direction)].concat());
            }
        }
        if empty {
            sheet.rows.push([head, vec![String::new(); 14]].concat());
        }
    }
    for set in estate.address_sets.items() {
        let one = |item: &SetItem| match item {
            SetItem::Block(block) => block.range.to_string(),
            SetItem::Set(Reference::Found(inner)) => {
                format!("set:{}", estate.address_sets[*inner].name)
            }
            SetItem::Set(Reference::Missing(name)) => format!("set:{name}"),
        };
        let owner = set
            .owner
            .map_or_else(String::new, |owner| estate.owners[owner].name.to_string());
        let mut row = vec![String::new(); sheet.columns.len()];
        (row[0], row[1], row[5]) = ("set".to_owned(), set.name.to_string(), owner);
        // A cell without text would say nothing: a set of itself alone holds nothing.
        row[12] = match set.content.as_deref() {
            None => "unknown".to_owned(),
            Some([]) => format!("set:{}", set.name),
            Some(content) => joined(content.iter().map(one)),
        };
        sheet.rows.push(row);
    }
    let settings = settings_left_out(estate);
    let why = |word: &str| match word {
        "filters with tags" => "there is no column for tags",
        _ => "they need more than one row per rule",
    };
    sheet.left_out = { others.into_iter() }
        .map(|(word, count)| LeftOut {
            what: format!("{count} {word}"),
            why: why(word).to_owned(),
        })
        .chain(settings)
        .collect();
    sheet
}

/// The settings that somebody wrote: a sheet has no place for them, and they change verdicts.
pub(super) fn settings_left_out(estate: &Estate) -> Option<LeftOut> {
    let of_networks = estate
        .networks
        .items()
        .iter()
        .flat_map(|network| &network.settings.written);
    let mut names: Vec<&str> = estate
        .settings
        .written
        .iter()
        .chain(of_networks)
        .copied()
        .collect();
    names.sort_unstable();
    names.dedup();
    let what = format!(
        "{} setting{}: {}",
        names.len(),
        if names.len() == 1 { "" } else { "s" },
        names.join(", ")
    );
    let why =
        "there is no column for settings; write them into a file beside the import, or verdicts change".to_owned();
    (!names.is_empty()).then_some(LeftOut { what, why })
}

pub(super) fn rule_row(estate: &Estate, rule: &Rule, direction: Direction) -> Vec<String> {
    // Output marks what is missing; here the name alone stands, and is missing again.
    let peer = |peer: &Peer| {
        peer_text(estate, peer)
            .trim_end_matches(" (missing)")
            .to_owned()
    };
    let peers = |all: &[Peer]| joined(all.iter().map(peer));
    let moment = |moment: Option<jiff::Timestamp>| {
        moment.map_or_else(String::new, |moment| moment.to_string())
    };
    // A cell without text says nothing: what matches nothing is written as a rule that is out of force.
    let nothing = [&rule.peers, &rule.local]
        .into_iter()
        .flatten()
        .any(Vec::is_empty)
        || (!rule.services.is_empty() && services(rule).is_empty());
    vec![
        if direction == Direction::In {
            "inbound"
        } else {
            "outbound"
        }
        .to_owned(),
        rule.id.as_deref().unwrap_or_default().to_owned(),
        rule.action.word().to_owned(),
        rule.priority
            .map_or_else(String::new, |priority| priority.to_string()),
        services(rule),
        rule.source_ports
            .as_ref()
            .map_or_else(String::new, ports_text),
        rule.peers.as_deref().map_or_else(String::new, peers),
        peers(&rule.except),
        rule.local.as_deref().map_or_else(String::new, peers),
        yes(!rule.enabled || nothing),
        yes(rule.stateless),
        moment(rule.enforced_until),
        moment(rule.review_by),
        rule.description.as_deref().unwrap_or_default().to_owned(),
    ]
}

/// The interfaces with where they stand and what is bound to them, a row each.
pub fn interface_sheet(view: &Fabric<'_>) -> Sheet {
    let estate = view.estate;
    let columns = vec![
        "network",
        "network_blocks",
        "subnet",
        "subnet_blocks",
        "acl",
        "subnet_groups",
        "interface",
        "addresses",
        "groups",
        "workload",
        "own_firewall",
        "service_identity",
        "tags",
        "forwards",
        "unfiltered",
        "owner",
    ];
    let mut sheet = Sheet {
        columns,
        ..Sheet::default()
    };
    let filter = |reference: &Reference<Filter>| match reference {
        Reference::Found(id) => estate.filters[*id].name.to_string(),
        Reference::Missing(name) => name.to_string(),
    };
    let place = |subnet: &heronshale_model::estate::Subnet| {
        let network = &estate.networks[subnet.network];
        vec![
            network.name.to_string(),
            joined(network.blocks.texts()),
            subnet.name.to_string(),
            joined(subnet.blocks.texts()),
            subnet.acl.as_ref().map_or_else(String::new, filter),
            joined(subnet.groups.iter().map(filter)),
        ]
    };
    let mut lived_in = vec![false; estate.subnets.len()];
    for (id, interface) in estate.interfaces.iter() {
        lived_in[interface.subnet.index()] = true;
        let workload = interface
            .workload
            .map_or_else(String::new, |id| estate.workloads[id].name.to_string());
        let tags = interface
            .tags
            .iter()
            .map(|(key, value)| format!("{key}={value}"));
        let mut row = place(&estate.subnets[interface.subnet]);
        row.extend([
            interface.name.to_string(),
            joined(
                interface
                    .written_addresses
                    .iter()
                    .map(|block| block.range.to_string()),
            ),
            joined(interface.groups.iter().map(filter)),
            workload,
            estate.own_firewall(id).map_or_else(String::new, filter),
            estate
                .identity(id)
                .map_or_else(String::new, ToString::to_string),
            joined(tags),
            yes(interface.forwards),
            yes(interface.unfiltered),
            estate
                .interface_owner(id)
                .map_or_else(String::new, |owner| estate.owners[owner].name.to_string()),
        ]);
        sheet.rows.push(row);
    }
    for (subnet, _) in estate
        .subnets
        .items()
        .iter()
        .zip(lived_in)
        .filter(|(_, lived_in)| !lived_in)
    {
        sheet
            .rows
            .push([place(subnet), vec![String::new(); sheet.columns.len() - 6]].concat());
    }
    let used: Vec<_> = estate
        .subnets
        .items()
        .iter()
        .map(|subnet| subnet.network)
        .collect();
    for (_, network) in estate.networks.iter().filter(|(id, _)| !used.contains(id)) {
        let mut row = vec![String::new(); sheet.columns.len()];
        (row[0], row[1]) = (network.name.to_string(), joined(network.blocks.texts()));
        sheet.rows.push(row);
    }
    let kinds = [
        ("route table", "route tables", estate.route_tables.len()),
        ("gateway", "gateways", estate.gateways.len()),
        ("firewall", "firewalls", estate.firewalls.len()),
        ("balancer", "balancers", estate.balancers.len()),
        ("peering", "peerings", estate.peerings.len()),
        ("hub", "hubs", estate.hubs.len()),
        (
            "public address",
            "public addresses",
            estate.public_addresses.len(),
        ),
        ("service", "services", estate.services.len()),
        ("site", "sites", estate.sites.len()),
    ];
    for (one, many, count) in kinds.into_iter().filter(|(_, _, count)| *count > 0) {
        let what = format!("{count} {}", if count == 1 { one } else { many });
        let why = "the sheet is about interfaces and their places".to_owned();
        sheet.left_out.push(LeftOut { what, why });
    }
    sheet.left_out.extend(settings_left_out(estate));
    sheet
}
