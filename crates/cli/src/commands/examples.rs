//! Three examples for each command, which run on the demo estate.

/// An example: what follows the command, and what it shows.
pub(super) type Example = (&'static str, &'static str);

/// The examples of each command.
pub(super) const EXAMPLES: [(&str, [Example; 3]); 21] = [
    (
        "demo",
        [
            (
                "",
                "write the demo estate to marrowfen-ferries/ and audit it",
            ),
            ("ferries", "the same in another folder"),
            ("ferries --force", "replace the files there"),
        ],
    ),
    (
        "init",
        [
            ("mine", "write a small commented estate to mine/"),
            ("mine --force", "replace the snapshot there"),
            ("", "write it to this folder"),
        ],
    ),
    (
        "inventory",
        [
            (
                "-e marrowfen-ferries",
                "networks, devices, filters and gaps",
            ),
            (
                "--find 10.65.4.20 -e marrowfen-ferries",
                "everything with this address: records, sets, routes, rules",
            ),
            (
                "--addresses --free 24 -e marrowfen-ferries",
                "how full subnets are, and the next free /24 of each network",
            ),
        ],
    ),
    (
        "effective",
        [
            (
                "fares-db -e marrowfen-ferries",
                "what its filters admit, in and out",
            ),
            (
                "booking-1 --tcp 443 -e marrowfen-ferries",
                "one service, both directions",
            ),
            (
                "fares-db --peer internet -e marrowfen-ferries",
                "traffic of the internet only",
            ),
        ],
    ),
    (
        "routes",
        [
            (
                "freight-db -e marrowfen-ferries",
                "which route wins for what",
            ),
            (
                "hub:harbour/ships -e marrowfen-ferries",
                "the routes of a hub's domain",
            ),
            (
                "gateway:tickets-internet -e marrowfen-ferries",
                "where traffic goes that comes in by a gateway",
            ),
        ],
    ),
    (
        "path",
        [
            (
                "desk-1 https://203.0.113.30 -e marrowfen-ferries",
                "a connection that works",
            ),
            (
                "desk-1 engine-data --tcp 5432 -e marrowfen-ferries",
                "one that fails, with everything in the way and fixes",
            ),
            (
                "internet engine-data --tcp 22 --expect fails -e marrowfen-ferries",
                "one that must fail: ends with 0 if it does",
            ),
        ],
    ),
    (
        "rule",
        [
            (
                "fares-db/tmp -e marrowfen-ferries",
                "what changes without this rule",
            ),
            (
                "customs/not-berth-nine -e marrowfen-ferries",
                "a rule that never decides anything",
            ),
            (
                "tickets.yaml:90 -e marrowfen-ferries",
                "a rule by file and line",
            ),
        ],
    ),
    (
        "reach",
        [
            (
                "internet -e marrowfen-ferries",
                "what the internet reaches directly",
            ),
            ("--to fares -e marrowfen-ferries", "who reaches the fares"),
            (
                "internet --to tag:data=restricted --jumps 3 -e marrowfen-ferries",
                "chains of up to three connections",
            ),
        ],
    ),
    (
        "exposure",
        [
            ("-e marrowfen-ferries", "every opening to the internet"),
            ("fares -e marrowfen-ferries", "one workload in full"),
            (
                "--ledger --format csv -e marrowfen-ferries",
                "every public address as CSV",
            ),
        ],
    ),
    (
        "matrix",
        [
            ("-e marrowfen-ferries", "which network talks to which"),
            (
                "--by tag:role --tcp 443 -e marrowfen-ferries",
                "by role, for one service",
            ),
            ("office tickets -e marrowfen-ferries", "one cell in full"),
        ],
    ),
    (
        "audit",
        [
            (
                "-e marrowfen-ferries",
                "root causes, worst first, and what to fix first",
            ),
            (
                "--by owner --owner it -e marrowfen-ferries",
                "the work list of one owner",
            ),
            (
                "--kind shadowed --details -e marrowfen-ferries",
                "one kind of finding in full",
            ),
        ],
    ),
    (
        "compare",
        [
            (
                "marrowfen-ferries-last-month marrowfen-ferries",
                "what changed since last month, by edit",
            ),
            (
                "marrowfen-ferries-last-month marrowfen-ferries --fail-on lost",
                "a gate: exit with 1 if something is lost",
            ),
            (
                "marrowfen-ferries-last-month -e marrowfen-ferries --details",
                "the same with every row",
            ),
        ],
    ),
    (
        "rehearse",
        [
            (
                "\"remove rule fares-db/tmp\" -e marrowfen-ferries",
                "what deleting a rule would break and close",
            ),
            (
                "--each-down -e marrowfen-ferries",
                "which single failure does the most harm",
            ),
            (
                "\"remove rule fares-db/tmp\" \"remove group kiosk\" --order -e marrowfen-ferries",
                "in which order to make a change",
            ),
        ],
    ),
    (
        "tidy",
        [
            ("-e marrowfen-ferries", "rules that can go, with the proof"),
            (
                "--patch patches -e marrowfen-ferries",
                "the same as one JSON Patch per file",
            ),
            (
                "--apply tidied -e marrowfen-ferries",
                "the changed files, with comments and layout",
            ),
        ],
    ),
    (
        "guide",
        [
            (
                "exports --into mine",
                "draft a profile for exports that no profile knows",
            ),
            (
                "exports --into mine --quiet",
                "the same without questions on the terminal",
            ),
            (
                "exports --into mine --format json",
                "the questions for a program",
            ),
        ],
    ),
    (
        "import",
        [
            (
                "exports --profile profile.yaml --into snapshot.yaml",
                "convert exports with a mapping profile",
            ),
            (
                "exports --draft-profile profile.yaml",
                "write a first profile to work on",
            ),
            (
                "ruleset.nft --as nftables --into router.yaml",
                "read a firewall in an open format",
            ),
        ],
    ),
    (
        "export",
        [
            (
                "--as csv-rules --into rules.csv -e marrowfen-ferries",
                "one row per rule",
            ),
            (
                "--as csv-interfaces --into interfaces.csv -e marrowfen-ferries",
                "one row per interface",
            ),
            (
                "--as ietf-acl --into acls.json -e marrowfen-ferries",
                "network ACLs in the data of RFC 8519",
            ),
        ],
    ),
    (
        "explain",
        [
            (
                "shadowed",
                "a kind of finding: why it matters, how it is fixed",
            ),
            ("", "all kinds in a line each"),
            (
                "bwr0 -e marrowfen-ferries",
                "one finding of the audit in full",
            ),
        ],
    ),
    (
        "schema",
        [
            ("snapshot", "the JSON Schema of snapshot files"),
            ("configuration", "the JSON Schema of heronshale.yaml"),
            ("audit", "the JSON Schema of the audit as JSON"),
        ],
    ),
    (
        "completions",
        [
            ("bash", "a script to be sourced by the shell"),
            ("zsh", "the same for zsh"),
            ("fish", "the same for fish"),
        ],
    ),
    (
        "manual",
        [
            ("", "the main manual page on standard output"),
            ("man", "all manual pages as files in the folder man"),
            ("man --force", "replace the files there"),
        ],
    ),
];

/// Examples as help shows them.
pub(super) fn text(command: &str) -> String {
    let found = EXAMPLES.iter().find(|(name, _)| *name == command);
    let Some((_, examples)) = found else {
        return String::new();
    };
    let mut text = "Examples:".to_owned();
    for (arguments, what) in examples {
        let line = format!("heronshale {command} {arguments}");
        text.push_str(&format!("\n  {}\n      {what}", line.trim_end()));
    }
    text
}
