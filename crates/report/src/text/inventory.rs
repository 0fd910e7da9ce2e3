//! What there is, and what holds an address.

use super::at;
use crate::page::{Look, Page, plural};
use anstyle::Style;
use heronshale_answers::{Answer, Finds, Inventory, PlanAnswer, PlanRow, SubnetRow};

/// Subnets beyond this are told by network only.
const MOST_SUBNETS: usize = 60;

/// The inventory as text; `interfaces`: each with what is bound to it.
pub fn inventory(answer: &Answer<Inventory>, interfaces: bool, look: Look) -> String {
    let Answer {
        heading,
        answer: all,
        ..
    } = answer;
    let mut page = Page::new(look);
    let subnets = || all.networks.iter().flat_map(|network| &network.subnets);
    let shown: usize = subnets().map(|subnet| subnet.interfaces.len()).sum();
    let places = format!(
        "{} of {}",
        plural(subnets().count(), "subnet"),
        plural(all.networks.len(), "network")
    );
    let sentence = if shown == all.size.interfaces {
        let (public, filters) = (
            plural(all.public_addresses.len(), "public address"),
            plural(all.filters.len(), "filter"),
        );
        let workloads = plural(all.size.workloads, "workload");
        format!(
            "{} of {workloads} in {places}; {public}, {filters}.",
            plural(shown, "interface")
        )
    } else {
        format!(
            "{} of {} in {places}.",
            shown,
            plural(all.size.interfaces, "interface")
        )
    };
    page.top(&sentence, heading);
    if interfaces {
        interface_table(&mut page, all)
    } else {
        networks(&mut page, all)
    }
    if !interfaces {
        ways_out(&mut page, all);
        filters(&mut page, all);
    }
    page.foot(heading);
    page.finish()
}

fn networks(page: &mut Page, all: &Inventory) {
    page.heading("NETWORKS");
    let many = all
        .networks
        .iter()
        .map(|network| network.subnets.len())
        .sum::<usize>()
        > MOST_SUBNETS;
    let mut rows = Vec::new();
    for network in &all.networks {
        let count: usize = network
            .subnets
            .iter()
            .map(|subnet| subnet.interfaces.len())
            .sum();
        let owner = network.owner.iter().map(|owner| format!("owner {owner}"));
        let divisions = (!network.divisions.is_empty())
            .then(|| format!("in {}", network.divisions.join(" / ")));
        let about: Vec<String> = owner.chain(divisions).collect();
        let none = String::new;
        rows.push(vec![
            network.name.clone(),
            network.blocks.join(", "),
            none(),
            none(),
            count.to_string(),
            about.join(", "),
        ]);
        if !many {
            rows.extend(network.subnets.iter().map(subnet_row));
        }
    }
    page.table(
        &[
            "network / subnet",
            "blocks",
            "ACL",
            "route table",
            "#",
            "interfaces",
        ],
        &rows,
        &[4],
    );
}

fn subnet_row(subnet: &SubnetRow) -> Vec<String> {
    let none = || "-".to_owned();
    let names: Vec<&str> = subnet
        .interfaces
        .iter()
        .map(|row| row.interface.name.as_str())
        .collect();
    let more = if names.len() > 4 {
        format!(" and {} more", names.len() - 4)
    } else {
        String::new()
    };
    vec![
        format!("· {}", subnet.name),
        subnet.blocks.join(", "),
        subnet.acl.clone().unwrap_or_else(none),
        subnet.route_table.clone().unwrap_or_else(none),
        names.len().to_string(),
        names.into_iter().take(4).collect::<Vec<_>>().join(", ") + &more,
    ]
}

fn interface_table(page: &mut Page, all: &Inventory) {
    page.blank();
    let rows = all
        .networks
        .iter()
        .flat_map(|network| &network.subnets)
        .flat_map(|subnet| &subnet.interfaces);
    let rows = rows.map(|row| {
        let fact = &row.interface;
        let own = row
            .own_firewall
            .as_ref()
            .map_or_else(String::new, |own| format!(", own firewall {own}"));
        let public = if fact.public.is_empty() {
            String::new()
        } else {
            format!(" as {}", fact.public.join(", "))
        };
        vec![
            fact.name.clone(),
            fact.addresses.join(", ") + &public,
            fact.subnet.clone(),
            row.groups.join(", ") + &own,
            row.tags.join(", "),
            fact.owner.clone().unwrap_or_default(),
        ]
    });
    page.table(
        &[
            "interface",
            "addresses",
            "subnet",
            "groups",
            "tags",
            "owner",
        ],
        &rows.collect::<Vec<_>>(),
        &[],
    );
}

fn ways_out(page: &mut Page, all: &Inventory) {
    if !all.devices.is_empty() {
        page.heading("DEVICES, SERVICES AND NAMES");
        let row = |device: &heronshale_answers::DeviceRow| {
            let owner = device.owner.clone().unwrap_or_default();
            vec![
                device.name.clone(),
                device.kind.clone(),
                device.detail.clone(),
                owner,
                at(&device.place),
            ]
        };
        let rows: Vec<Vec<String>> = all.devices.iter().map(row).collect();
        page.table(&["name", "kind", "what", "owner", "where"], &rows, &[]);
    }
    if !all.gateways.is_empty() || !all.peerings.is_empty() || !all.sites.is_empty() {
        page.heading("GATEWAYS, PEERINGS AND SITES");
        let mut rows: Vec<Vec<String>> = all
            .gateways
            .iter()
            .map(|gateway| {
                let used = match (gateway.routes, gateway.serves.len()) {
                    (0, 0) => "unused".to_owned(),
                    (0, subnets) => format!("serves {}", plural(subnets, "subnet")),
                    (routes, _) => plural(routes, "route"),
                };
                vec![
                    gateway.name.clone(),
                    format!("{} gateway", gateway.kind),
                    gateway.network.clone(),
                    gateway.detail.clone(),
                    used,
                ]
            })
            .collect();
        rows.extend(all.peerings.iter().map(|peering| {
            let state = if peering.up { "up" } else { "down" };
            vec![
                peering.name.clone(),
                "peering".to_owned(),
                peering.networks.join(" - "),
                state.to_owned(),
                String::new(),
            ]
        }));
        rows.extend(all.sites.iter().map(|site| {
            vec![
                site.name.clone(),
                "site".to_owned(),
                String::new(),
                site.holds.join(", "),
                String::new(),
            ]
        }));
        page.table(&["name", "what", "network", "detail", "used"], &rows, &[]);
    }
    if !all.route_tables.is_empty() {
        page.heading("ROUTE TABLES");
        let rows = all.route_tables.iter().map(|table| {
            let used = if table.subnets.is_empty() {
                "no subnet".to_owned()
            } else {
                table.subnets.join(", ")
            };
            let main = if table.main { "main" } else { "" };
            vec![
                table.name.clone(),
                table.network.clone(),
                main.to_owned(),
                table.routes.to_string(),
                used,
            ]
        });
        page.table(
            &["table", "network", "", "routes", "used by"],
            &rows.collect::<Vec<_>>(),
            &[3],
        );
    }
    if !all.public_addresses.is_empty() {
        page.heading("PUBLIC ADDRESSES");
        let rows = all.public_addresses.iter().map(|public| {
            let holder = public
                .interface
                .clone()
                .unwrap_or_else(|| "unused".to_owned());
            vec![
                public.address.clone(),
                holder,
                public.own.clone().unwrap_or_default(),
                at(&public.place),
            ]
        });
        page.table(
            &["address", "interface", "own address", "where"],
            &rows.collect::<Vec<_>>(),
            &[],
        );
    }
}

fn filters(page: &mut Page, all: &Inventory) {
    if all.filters.is_empty() {
        return;
    }
    page.heading("FILTERS");
    const SHOWN: usize = 40;
    let shown = if page.look.details {
        all.filters.len()
    } else {
        SHOWN
    };
    let rows = all.filters.iter().take(shown).map(|filter| {
        let acts = match (filter.acts_on, filter.firewalls) {
            (0, 0) => "nothing".to_owned(),
            (0, firewalls) => plural(firewalls, "firewall"),
            (interfaces, _) => plural(interfaces, "interface"),
        };
        vec![
            filter.name.clone(),
            filter.form.clone(),
            filter.inbound.to_string(),
            filter.outbound.to_string(),
            acts,
            at(&filter.place),
        ]
    });
    page.table(
        &["filter", "form", "in", "out", "applies to", "where"],
        &rows.collect::<Vec<_>>(),
        &[2, 3],
    );
    if all.filters.len() > shown {
        page.line(&format!(
            "and {} more filters (--details)",
            all.filters.len() - shown
        ));
    }
    for set in &all.address_sets {
        let entries = set.entries.map_or_else(
            || "content unknown".to_owned(),
            |count| plural(count, "entry"),
        );
        page.hang(
            Style::new(),
            "",
            &format!("set {}: {entries} ({})", set.name, at(&set.place)),
            2,
        );
    }
}

/// Where something occurs.
pub fn finds(answer: &Answer<Finds>, look: Look) -> String {
    let Answer {
        heading,
        answer: found,
        ..
    } = answer;
    let mut page = Page::new(look);
    let kind = if found.of_the_internet {
        "an address of the internet and occurs "
    } else {
        ""
    };
    let verb = if kind.is_empty() { "occurs " } else { "is " };
    let asked = &found.asked;
    let sentence = match found.holdings.len() {
        0 if found.resolves.is_empty() => {
            format!("{asked} {verb}{kind}nowhere in this snapshot.")
        }
        0 => resolves_text(found),
        count => {
            let resolves = if found.resolves.is_empty() {
                String::new()
            } else {
                format!(" {}", resolves_text(found))
            };
            let places = plural(count, "place");
            format!("{asked} {verb}{kind}in {places}.{resolves}")
        }
    };
    page.top(&sentence, heading);
    page.blank();
    let resolved = found.resolves.iter().map(|one| {
        vec![
            one.asked_from.join(", "),
            match (&one.missing_zone, one.addresses.join(", ")) {
                (Some(zone), known) if known.is_empty() => format!("unknown ({zone} is missing)"),
                (Some(zone), known) => format!("unknown ({known} unless {zone} says otherwise)"),
                (None, known) if known.is_empty() => "does not resolve".to_owned(),
                (None, known) => known,
            },
            one.holders.join(", "),
            one.by.clone(),
        ]
    });
    let header = ["asked from", "resolves to", "held by", "answered by"];
    page.table(&header, &resolved.collect::<Vec<_>>(), &[]);
    if !found.resolves.is_empty() && !found.holdings.is_empty() {
        page.blank();
    }
    let rows = found.holdings.iter().map(|one| {
        vec![
            one.kind.clone(),
            one.name.clone(),
            one.by.clone(),
            at(&one.place),
        ]
    });
    page.table(
        &["what", "name", "by", "where"],
        &rows.collect::<Vec<_>>(),
        &[],
    );
    if found.rules_about_any > 0 {
        page.line(&format!(
            "and {} for any address",
            plural(found.rules_about_any, "rule")
        ));
    }
    page.foot(heading);
    page.finish()
}

/// Whether a name resolves alike from everywhere.
fn resolves_text(found: &Finds) -> String {
    let asked = &found.asked;
    let missing = found
        .resolves
        .iter()
        .find_map(|one| one.missing_zone.as_ref());
    if let Some(zone) = missing {
        return format!(
            "What {asked} resolves to inside the networks is unknown: {zone} is missing from the snapshot."
        );
    }
    match found.resolves.as_slice() {
        [one] => format!(
            "{asked} resolves to {} from everywhere.",
            one.addresses.join(", ")
        ),
        several => format!(
            "{asked} resolves in {} different ways, depending on the network.",
            several.len()
        ),
    }
}

/// The address plan.
pub fn plan(answer: &Answer<PlanAnswer>, look: Look) -> String {
    let Answer {
        heading,
        answer: found,
        ..
    } = answer;
    let mut page = Page::new(look);
    let (usable, used) = found.rows.iter().fold((0, 0), |(usable, used), row| {
        (usable + row.usable, used + row.used)
    });
    let least = match found.rows.iter().any(|row| row.perhaps_more) {
        true => "At least ",
        false => "",
    };
    let full = found.rows.iter().max_by_key(|row| share(row));
    let full = full
        .filter(|row| row.used > 0)
        .map_or_else(String::new, |row| {
            format!(" The fullest is {} ({} %).", row.subnet, share(row))
        });
    page.top(
        &format!("{least}{used} of {usable} usable IPv4 addresses are in use.{full}"),
        heading,
    );
    page.blank();
    let rows = found.rows.iter().map(|row| {
        vec![
            row.network.clone(),
            row.subnet.clone(),
            row.blocks.join(", "),
            row.usable.to_string(),
            format!("{}{}", row.used, if row.perhaps_more { "+" } else { "" }),
            format!("{} %", share(row)),
            match (&row.next_free, row.perhaps_more) {
                (Some(next), _) => next.clone(),
                (None, true) => "unknown".to_owned(),
                (None, false) => "full".to_owned(),
            },
            row.owner.clone().unwrap_or_default(),
        ]
    });
    let header = [
        "network",
        "subnet",
        "IPv4",
        "usable",
        "used",
        "full",
        "next free",
        "owner",
    ];
    page.table(&header, &rows.collect::<Vec<_>>(), &[3, 4, 5]);
    page.heading("FREE IN NETWORKS");
    let wanted = found.length.map_or_else(
        || "next free block (--free LENGTH)".to_owned(),
        |length| format!("next free /{length}"),
    );
    let rows = found.free.iter().map(|one| {
        let next = match (&one.next, found.length) {
            (Some(next), _) => next.clone(),
            (None, Some(_)) if one.perhaps_taken => "unknown".to_owned(),
            (None, Some(_)) => "none".to_owned(),
            (None, None) => String::new(),
        };
        vec![
            one.network.clone(),
            one.blocks.join(", "),
            one.addresses.to_string(),
            next,
        ]
    });
    let header = ["network", "IPv4", "free addresses", &wanted];
    page.table(&header, &rows.collect::<Vec<_>>(), &[2]);
    page.foot(heading);
    page.finish()
}

/// How full a subnet is, in hundredths.
fn share(row: &PlanRow) -> u64 {
    match (row.used, row.usable) {
        (0, _) => 0,
        (_, 0) => 100,
        (used, usable) => (used.saturating_mul(100) / usable).min(100),
    }
}
