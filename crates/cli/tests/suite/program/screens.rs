//! What stands on the screen: each command and format whole, what fits the page, and the words.

use crate::folder::{Folder, HEADER, words_of};
use expect_test::expect_file;
use heronshale_audit::finding::CATALOGUE;

const SMALL: &str = include_str!("../../fixtures/screens/estate.yaml");
/// Every command that answers about an estate, with an answer that says something.
const ASKED: [&str; 35] = [
    "inventory",
    "inventory --find tug-1",
    "inventory --find 10.1.0.0/16",
    "inventory --addresses --free 26",
    "effective tug-1",
    "routes tug-1",
    "routes gateway:pier",
    "path internet tug-1",
    "path internet tug-1 --tcp 22",
    "path tug-1 quay-1 --tcp 22 --details",
    "path --list asked.csv",
    "rule tugs/web",
    "reach internet",
    "exposure",
    "exposure --ledger",
    "matrix",
    "matrix sea sea --tcp 443",
    "audit",
    "audit --details",
    "audit --by owner",
    "compare .old.yaml",
    "compare .old.yaml --details",
    "compare .old.yaml --fail-on lost",
    "rehearse \"remove rule tugs/web\" \"remove rule tugs/web-again\"",
    "rehearse .overlay.yaml",
    "rehearse \"remove rule tugs/web\" \"remove rule tugs/web-again\" --order",
    "rehearse --each-down",
    "rehearse --each-down --details",
    "tidy",
    "explain redundant",
    "inventory --figure estate.svg",
    "export --as csv-rules --into rules.csv",
    "export --as ietf-acl --into acl.json",
    "export --as ietf-routes --into routes.json",
    "import --as ietf-acl acl.json --into acl.yaml",
];
/// Words of which the output has better ones.
const NOT_OURS: [&str; 12] = [
    "mend",
    "mends",
    "price",
    "is told",
    "are told",
    "nobody means",
    "let in by",
    "rests on",
    "acts on",
    "fate",
    "works tcp",
    "lacks",
];

fn small() -> Folder {
    let folder = Folder::with(&format!("{HEADER}{SMALL}"));
    let old = format!("{HEADER}{SMALL}")
        .replace("      - { id: web, services: tcp 443, peers: any }\n", "")
        .replace(
            "services: tcp 22, peers: 10.1.2.0/24",
            "services: tcp 22, peers: any",
        )
        .replace("203.0.113.20", "203.0.113.21");
    folder.write(".old.yaml", &old);
    let other = old
        .replace("Two tugs", "Two dredgers")
        .replace("sea", "lake")
        .replace("10.1.", "10.9.");
    folder.write(".other.yaml", &other);
    folder.write(
        "asked.csv",
        "from,to,traffic,expect\ninternet,tug-1,tcp 443,works\ninternet,tug-1,tcp 22,works\ntug-1,quay-1,tcp 22,fails\n",
    );
    folder
}

/// The words of a command; one about the small estate names it.
fn words(asked: &str) -> Vec<&str> {
    let mut words = words_of(asked);
    let alone = ["-e ", "explain re", "import ", "aud"];
    if !alone[..3].iter().any(|part| asked.contains(part)) && asked != alone[3] {
        words.extend(["-e", "estate.yaml"]);
    }
    words
}

/// Output, errors and status of commands, one below the other.
fn screens(folder: &Folder, asked: &[String]) -> String {
    let one = |asked: &String| {
        let run = folder.run(&words(asked));
        let shown = run.stdout.replace("\r\n", "\n");
        let mut text = format!("$ heronshale {asked}\n{shown}");
        if !run.stderr.is_empty() {
            text.push_str(&format!("[stderr]\n{}", run.stderr));
        }
        format!("{text}[status {}]\n\n", run.code)
    };
    asked.iter().map(one).collect()
}

#[test]
fn every_command_and_format_prints_what_it_printed() {
    let with = |format: &str, only: fn(&&str) -> bool| -> Vec<String> {
        ASKED
            .iter()
            .filter(|asked| only(asked))
            .map(|asked| format!("{asked}{format}"))
            .collect()
    };
    let text = screens(&small(), &with("", |_| true));
    expect_file!["../../fixtures/screens/text.txt"].assert_eq(&text);
    let json = |asked: &&str| {
        let text_only = ["--by", "--details", "explain", "--figure"];
        !text_only.iter().any(|part| asked.contains(part))
    };
    let json = screens(&small(), &with(" --format json", json));
    expect_file!["../../fixtures/screens/json.txt"].assert_eq(&json);
    let csv = |asked: &&str| asked.contains("--ledger") || asked.contains("--list");
    let csv = screens(&small(), &with(" --format csv", csv));
    expect_file!["../../fixtures/screens/csv.txt"].assert_eq(&csv);
}

/// The others: what prints much is held by its first lines.
#[test]
fn commands_without_an_estate_print_what_they_printed() {
    let folder = Folder::new();
    folder.write(
        "exports/web.json",
        r#"{ "nets": [{ "name": "sea", "cidr": "10.1.0.0/16" }, { "name": "lake", "cidr": "10.2.0.0/16" }] }"#,
    );
    let asked = [
        ("demo", 12),
        ("init mine", usize::MAX),
        ("guide exports --into first", usize::MAX),
        ("schema path", 6),
        ("completions bash", 4),
        ("manual man", usize::MAX),
    ];
    let one = |(asked, most): (&str, usize)| {
        let run = folder.run(&asked.split(' ').collect::<Vec<_>>());
        let lines: Vec<&str> = run.stdout.lines().take(most).collect();
        let (out, errors, code) = (lines.join("\n"), run.stderr, run.code);
        format!("$ heronshale {asked}\n{out}\n[stderr]\n{errors}[status {code}]\n\n")
    };
    let text: String = asked.into_iter().map(one).collect();
    expect_file!["../../fixtures/screens/others.txt"].assert_eq(&text);
}

#[test]
fn mistakes_print_what_they_printed() {
    let folder = small();
    folder.write(
        "broken.yaml",
        "format: heronshale-snapshot\nversion: 1\nnetworcs: []\n",
    );
    folder.write("list.csv", "from,to,expected\ninternet,tug-1,works\n");
    folder.write("list.txt", "internet tug-1 tcp 443 expect perhaps\n");
    let asked = [
        "path tug-1 nowhere",
        "path tug-1",
        "path --list list.csv",
        "path --list list.txt",
        "path --list none.csv",
        "routes nowhere",
        "rule tugs/none",
        "explain none",
        "inventory -e broken.yaml",
        "inventory -e none.yaml",
        "audit --by sea",
        "compare",
        "compare none.yaml",
        "compare .other.yaml",
        "compare .old.yaml estate.yaml -e estate.yaml",
        "compare .old.yaml --fail-on sea",
        "rehearse",
        "rehearse none.yaml",
        "rehearse \"remove tug-1\"",
        "rehearse \"remove rule tugs/wep\"",
        "rehearse \"down interface tug-1\"",
        "rehearse \"sink rule tugs/web\"",
        "rehearse \"remove network sea\"",
        "rehearse broken.yaml",
        "aud",
    ];
    let text = screens(&folder, &asked.map(str::to_owned));
    expect_file!["../../fixtures/screens/mistakes.txt"].assert_eq(&text);
}

#[test]
fn answers_about_the_demo_fit_the_page() {
    let folder = Folder::with_demo();
    for (asked, most, has) in [
        ("audit", 106, "FIX FIRST"),
        ("path desk-1 https://203.0.113.30", 40, "rule web"),
        (
            "path build-1 fares-db --tcp 5432",
            60,
            "group build, outbound",
        ),
        ("effective fares-db", 40, "rule tmp"),
        ("routes freight-db", 40, "DEAD"),
        ("rule fares-db/tmp", 40, "WITHOUT THIS RULE"),
        ("reach internet --to tag:data=restricted", 40, "fares"),
        ("matrix --tcp 443", 40, "firewall quay-fw blocks it"),
        ("exposure customs-api", 40, "customs partners call"),
        ("exposure", 100, "ONE CHANGE AWAY"),
        ("inventory --find 192.0.2.77", 40, "customs-partners"),
        ("inventory --addresses", 40, "next free"),
        ("compare marrowfen-ferries-last-month", 80, "f with j"),
        (
            "rehearse \"remove rule fares-db/tmp\"",
            60,
            "1 expectation breaks: \"the fares replicate\" (edit a).",
        ),
        (
            "rehearse \"remove rule fares-db/tmp\" \"add rule fares-db/replica tcp 5432 from group:fares-db\" --order",
            40,
            "1 before 2",
        ),
        ("rehearse --each-down", 60, "firewall quay-fw"),
        ("tidy", 60, "PROOF"),
        ("explain gvsg", 40, "fix "),
    ] {
        let run = folder.run(&words(&format!("{asked} -e marrowfen-ferries")));
        let lines: Vec<&str> = run.stdout.lines().collect();
        assert!(
            lines.len() <= most,
            "{asked}: {} lines\n{}",
            lines.len(),
            run.stdout
        );
        let wide: Vec<&&str> = lines
            .iter()
            .filter(|line| line.chars().count() > 100)
            .collect();
        assert!(wide.is_empty(), "{asked}: {wide:#?}");
        let screen = lines[..lines.len().min(100)].join("\n");
        assert!(screen.contains(has), "{asked}: {has}\n{screen}");
        // The answer comes first, as a sentence.
        let first = run.stdout.split("\nMarrowfen Ferries").next().unwrap();
        assert!(
            first.ends_with('.') && first.lines().count() <= 3,
            "{asked}: {first}"
        );
    }
    // Nothing above minor is hidden.
    let (_, audit) = folder.json(&["audit", "-e", "marrowfen-ferries"]);
    let told = folder.run(&["audit", "-e", "marrowfen-ferries"]).stdout;
    let mut causes = std::collections::BTreeMap::new();
    for finding in audit["answer"]["findings"].as_array().unwrap() {
        let severity = finding["severity"].as_str().unwrap();
        if ["urgent", "serious"].contains(&severity) {
            let print = finding["fingerprint"].as_str().unwrap();
            let shown = told.lines().any(|line| line.starts_with(&print[..4]));
            let cause = finding["cause"].as_str().unwrap_or(print).to_owned();
            *causes.entry(cause).or_insert(false) |= shown;
        }
    }
    let hidden: Vec<_> = causes.iter().filter(|(_, shown)| !**shown).collect();
    assert!(causes.len() > 30 && hidden.is_empty(), "{hidden:?}");
}

/// What is wrong with a text as the output may have it; `whole` for sentences.
fn faults(text: &str, whole: bool) -> Vec<String> {
    let lower = format!(
        " {} ",
        text.to_lowercase().replace(['.', ',', ';', ':'], " ")
    );
    let mut found: Vec<String> = NOT_OURS
        .iter()
        .filter(|word| lower.contains(&format!(" {word} ")))
        .map(|word| format!("`{word}` in {text}"))
        .collect();
    if whole {
        let front = text.chars().next().unwrap_or(' ');
        if !(front.is_uppercase() || front.is_ascii_digit() || ['`', '*'].contains(&front)) {
            found.push(format!("no capital: {text}"));
        }
        if !text.ends_with('.') {
            found.push(format!("no full stop: {text}"));
        }
    }
    found
}

#[test]
fn the_words_of_findings_keep_to_the_glossary() {
    let mut wrong = Vec::new();
    for kind in CATALOGUE {
        for text in [
            kind.about,
            kind.why,
            kind.triggers,
            kind.fix,
            kind.side_effects,
        ] {
            wrong.extend(faults(text, true));
        }
        for text in kind.factors {
            wrong.extend(faults(text, false));
        }
        let folder = Folder::with(kind.example);
        let (_, audit) = folder.json(&["audit"]);
        for finding in audit["answer"]["findings"].as_array().unwrap() {
            let text = |field: &str| finding[field].as_str().unwrap_or_default().to_owned();
            wrong.extend(faults(&text("title"), false));
            wrong.extend(faults(&text("fix"), true));
            wrong.extend(faults(&text("side_effects"), true));
        }
    }
    wrong.sort();
    wrong.dedup();
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn lists_of_connections_are_read_whole_or_not_at_all() {
    let folder = small();
    for (name, text, code, told) in [
        (
            "a.csv",
            "from,to,traffic,expect\ninternet,tug-1,tcp 443,works\n",
            0,
            "as expected",
        ),
        (
            "b.csv",
            "from,to,traffic,expect\ninternet,tug-1,tcp 443,blocked\n",
            1,
            "NOT AS EXPECTED",
        ),
        ("c.csv", "to,from\ntug-1,internet\n", 1, "internet → tug-1"),
        (
            "d.csv",
            "from,to,expcet\ninternet,tug-1,works\n",
            3,
            "did you mean `expect`?",
        ),
        (
            "e.csv",
            "from,to,to\ninternet,tug-1,quay-1\n",
            3,
            "two columns `to`",
        ),
        (
            "f.csv",
            "from,name\ninternet,a\n",
            3,
            "there is no column `to`",
        ),
        (
            "g.txt",
            "# what users do\n\ninternet tug-1 tcp 443 expect works\n",
            0,
            "as expected",
        ),
        (
            "h.txt",
            "tcp 198.51.100.7:40000 203.0.113.20:443 expect works\n",
            0,
            "as expected",
        ),
        (
            "i.txt",
            "internet tug-1 tcp 443 expect perhaps\n",
            3,
            "is not an expected result",
        ),
        ("j.txt", "internet\n", 3, "only one end"),
        ("k.txt", "# nothing\n", 3, "the list has no connection"),
    ] {
        folder.write(name, text);
        let run = folder.run(&["path", "--list", name]);
        let said = format!("{}{}", run.stdout, run.stderr);
        assert!(
            run.code == code && said.contains(told),
            "{name}: {}\n{said}",
            run.code
        );
    }
}

#[test]
fn what_is_missing_is_neither_free_nor_unheard_of() {
    const ROOM: &str = "networks: [{ id: sea, blocks: 10.1.0.0/16 }]
subnets: [{ id: front, network: sea, blocks: 10.1.1.0/29 }]
workloads: [{ id: tugs, own_firewall: hardened }]
interfaces: [{ id: tug, subnet: front, addresses: 10.1.1.2, groups: lost, workload: tugs }]
";
    for (gap, first, free, block) in [
        ("", "1 of 6 usable", "10.1.1.3", "10.1.0.0/28"),
        (
            "{ object: 'network:sea', lacks: interfaces }",
            "At least 1 of 6",
            "unknown",
            "unknown",
        ),
        (
            "{ object: 'subnet:front', lacks: interfaces }",
            "At least 1 of 6",
            "unknown",
            "10.1.0.0/28",
        ),
        (
            "{ object: 'subnet:back' }",
            "1 of 6 usable",
            "10.1.1.3",
            "unknown",
        ),
        (
            "{ object: 'subnet:back', blocks: 10.1.0.0/24 }",
            "1 of 6 usable",
            "10.1.1.3",
            "10.1.1.16/28",
        ),
        (
            "{ object: 'workload:boats' }",
            "At least 1 of 6",
            "unknown",
            "unknown",
        ),
        (
            "{ object: 'gateway:nat' }",
            "At least 1 of 6",
            "unknown",
            "unknown",
        ),
        (
            "{ object: 'site:pier' }",
            "1 of 6 usable",
            "10.1.1.3",
            "10.1.0.0/28",
        ),
    ] {
        let gaps = if gap.is_empty() {
            String::new()
        } else {
            format!("gaps: [{gap}]\n")
        };
        let folder = Folder::with(&format!("{HEADER}{ROOM}{gaps}"));
        let told = folder
            .run(&["inventory", "--addresses", "--free", "28"])
            .ok();
        let cell = |front: &str, column: usize| {
            let line = told.lines().rfind(|line| line.starts_with(front)).unwrap();
            line.split_whitespace().nth(column).unwrap().to_owned()
        };
        assert!(told.starts_with(first), "{gap}\n{told}");
        assert_eq!(cell("sea      front", 7), free, "{gap}\n{told}");
        assert_eq!(cell("sea ", 3), block, "{gap}\n{told}");
    }
    let folder = Folder::with(&format!("{HEADER}{ROOM}"));
    for (asked, says) in [
        ("group:lost", "interface tug"),
        ("lost", "interface tug"),
        ("own-firewall:hardened", "tugs"),
    ] {
        let told = folder.run(&["inventory", "--find", asked]).ok();
        let is_there = |line: &str| line.contains(says) && line.contains("estate.yaml:");
        assert!(told.lines().any(is_there), "{asked}\n{told}");
    }
}

#[test]
fn names_that_a_missing_zone_may_answer_are_unknown() {
    const NAMED: &str = "networks: [{ id: sea, blocks: 10.1.0.0/16 }]
subnets: [{ id: front, network: sea, blocks: 10.1.1.0/24 }]
interfaces: [{ id: tug, subnet: front, addresses: 10.1.1.2 }, { id: pier, subnet: front, addresses: 10.1.1.3 }]
public_names: [{ name: app.example.org, addresses: 10.1.1.3 }]
";
    for (gap, known, other) in [
        ("", ("Yes", "works"), ("No", "dropped")),
        (
            "gaps: [{ object: 'zone:inside' }]\n",
            ("Unknown", "unknown"),
            ("Unknown", "unknown"),
        ),
    ] {
        let folder = Folder::with(&format!("{HEADER}{NAMED}{gap}"));
        for (name, (first, word)) in [("app", known), ("other", other)] {
            let url = format!("https://{name}.example.org");
            let run = folder.run(&["path", "tug", &url]);
            assert!(run.stdout.starts_with(first), "{gap}{name}\n{}", run.stdout);
            assert_eq!(run.code == 0, first == "Yes");
            folder.write("list.txt", format!("tug {url} expect {word}\n"));
            folder
                .run(&["path", "--list", "list.txt", "-e", "estate.yaml"])
                .ok();
        }
        let found = folder.run(&["inventory", "--find", "app.example.org"]).ok();
        assert_eq!(
            found.contains("is unknown: zone:inside"),
            !gap.is_empty(),
            "{found}"
        );
    }
}

#[test]
fn whatever_refers_to_a_name_is_found() {
    let folder = Folder::with_demo();
    for (asked, uses) in [
        (
            "network:tickets",
            &[
                "subnet tickets-web",
                "table tickets-public",
                "gateway tickets-nat",
                "peering quay-tickets",
                "zone inside",
            ][..],
        ),
        ("subnet:quay-admin", &["interface bastion-1", "rule "]),
        ("workload:fares", &["interface fares-db"]),
        ("interface:archive-door", &["service archive"]),
        ("interface:quay-fw-in", &["firewall quay-fw"]),
        (
            "interface:booking-1",
            &["public address 203.0.113.10", "balancer booking-front"],
        ),
        (
            "site:dockyard",
            &[
                "gateway quay-dockyard",
                "link hub harbour, link dockyard",
                "rule ",
            ],
        ),
        ("table:tickets-public", &["network tickets"]),
        ("table:tickets-private", &["subnet tickets-work"]),
        ("names:mirrors", &["rule firewall policy quay-east"]),
        ("owner:freight", &["network cargo"]),
        ("division:passenger", &["network tickets"]),
        ("group:tickets-balancer", &["rule group search"]),
        ("acl:cargo-east", &["reference subnet cargo-yard-east"]),
        (
            "network:harbour-authority",
            &[
                "reference peering cargo-harbour",
                "gap network:harbour-authority",
            ],
        ),
    ] {
        let told = folder
            .run(&["inventory", "--find", asked, "-e", "marrowfen-ferries"])
            .ok();
        let plain: Vec<String> = told
            .lines()
            .map(|line| line.split_whitespace().collect::<Vec<_>>().join(" "))
            .collect();
        for wanted in uses {
            assert!(
                plain.iter().any(|line| line.starts_with(wanted)),
                "{asked}: {wanted}\n{told}"
            );
        }
    }
}

#[test]
fn what_works_under_a_condition_is_not_said_to_work() {
    let folder = Folder::with_demo();
    let told = folder
        .run(&[
            "path",
            "network:office",
            "internet",
            "--tcp",
            "443",
            "-e",
            "marrowfen-ferries",
        ])
        .stdout;
    let first = told.split("\nMarrowfen").next().unwrap().replace("\n ", "");
    assert!(
        first.contains("works from desk-1, desk-2, desk-3 only.")
            && first.contains("from build-1, build-2 only if the request is for a name in mirrors"),
        "{first}"
    );
}
