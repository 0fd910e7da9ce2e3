//! The demo estate of Marrowfen Ferries, an invented ferry company: it ships inside the program.

/// Its files, by name.
pub const FILES: [(&str, &str); 11] = [
    (
        "acceptances.yaml",
        include_str!("../demo/marrowfen/acceptances.yaml"),
    ),
    ("cargo.yaml", include_str!("../demo/marrowfen/cargo.yaml")),
    ("estate.yaml", include_str!("../demo/marrowfen/estate.yaml")),
    (
        "expectations.yaml",
        include_str!("../demo/marrowfen/expectations.yaml"),
    ),
    ("fleet.yaml", include_str!("../demo/marrowfen/fleet.yaml")),
    (
        "harbour.yaml",
        include_str!("../demo/marrowfen/harbour.yaml"),
    ),
    (
        "heronshale.yaml",
        include_str!("../demo/marrowfen/heronshale.yaml"),
    ),
    ("office.yaml", include_str!("../demo/marrowfen/office.yaml")),
    (
        "policies.yaml",
        include_str!("../demo/marrowfen/policies.yaml"),
    ),
    ("quay.yaml", include_str!("../demo/marrowfen/quay.yaml")),
    (
        "tickets.yaml",
        include_str!("../demo/marrowfen/tickets.yaml"),
    ),
];

/// The folder that it is written to by default.
pub const FOLDER: &str = "marrowfen-ferries";

/// What follows the folder's name for the same estate a month before.
pub const LAST_MONTH: &str = "-last-month";

/// What follows the folder's name for what is planned.
pub const PLANNED: &str = "-changes";

/// What is planned, each by its owner.
pub const CHANGES: [(&str, &str); 3] = [
    ("customs.yaml", include_str!("../demo/changes/customs.yaml")),
    ("fares.yaml", include_str!("../demo/changes/fares.yaml")),
    (
        "firewall.yaml",
        include_str!("../demo/changes/firewall.yaml"),
    ),
];

/// Lines that were others last month: the file, the line as it is now, and as it was. The office had a spare way to the internet then,
/// which no firewall watches.
const OTHERWISE: [(&str, &str, &str); 9] = [
    (
        "office.yaml",
        "main_table: office-main, owner: it }",
        "main_table: office-main, owner: it, settings: { missing_next_hop: skipped } }",
    ),
    (
        "office.yaml",
        "network: office, attached: false }",
        "network: office }",
    ),
    (
        "office.yaml",
        "next_hop: \"firewall:quay-fw\", metric: 20 }\n",
        "next_hop: \"firewall:quay-fw\", metric: 20 }\n      - { id: spare, to: 0.0.0.0/0, next_hop: \"gateway:office-internet\", metric: 20, description: Should the firewall fail }\n",
    ),
    (
        "office.yaml",
        "{ address: 203.0.113.91, interface: files-1, description: For the accountants }",
        "{ address: 203.0.113.91, interface: desk-1, description: For remote help }",
    ),
    (
        "estate.yaml",
        "taken: 2026-11-02T06:00:00Z",
        "taken: 2026-10-02T06:00:00Z",
    ),
    (
        "tickets.yaml",
        "  - { address: 203.0.113.44, interface: fares-db, description: For the migration }\n",
        "  - { address: 203.0.113.45, interface: search-1, description: The old search page }\n",
    ),
    (
        "tickets.yaml",
        "      - { id: from-web, services: tcp 5432, peers: [\"group:booking-web\", \"group:payment\"], description: Fares }\n",
        "      - { id: from-web, services: tcp 5432, peers: \"group:booking-web\", description: Fares }\n",
    ),
    (
        "tickets.yaml",
        "      - { id: tmp, services: tcp 5000-5999, peers: any, review_by: 2026-10-05, description: \"For the migration weekend, remove on Monday\" }\n",
        "      - { id: replica, services: tcp 5432, peers: \"group:fares-db\", description: The replica }\n",
    ),
    (
        "tickets.yaml",
        "      - { id: partner-feed, services: tcp 8080, peers: 198.51.100.77/26, description: Timetables for the railway }\n",
        "      - { id: partner-feed, services: tcp 8080, peers: 198.51.100.77, description: Timetables for the railway }\n",
    ),
];

/// The files a month before, those that people say about the estate left out.
pub fn last_month() -> Vec<(&'static str, String)> {
    let estate = FILES
        .into_iter()
        .filter(|(_, text)| text.contains("heronshale-snapshot"));
    let before = |(name, text): (&'static str, &str)| {
        let lines = OTHERWISE.iter().filter(|(file, ..)| *file == name);
        let text = lines.fold(text.to_owned(), |text, (_, now, then)| {
            text.replace(now, then)
        });
        (name, text)
    };
    estate.map(before).collect()
}

#[cfg(test)]
mod tests {
    use super::{FILES, OTHERWISE};

    #[test]
    fn each_line_that_was_another_is_there_once() {
        for (file, now, _) in OTHERWISE {
            let (_, text) = FILES.iter().find(|(name, _)| *name == file).unwrap();
            assert_eq!(text.matches(now).count(), 1, "{now}");
        }
    }
}
