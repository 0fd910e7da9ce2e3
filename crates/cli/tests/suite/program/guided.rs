//! Exports of providers that nobody knows: four of different shape, drafted and guided to a first audit.

use crate::folder::{Folder, Run};
use serde_json::Value;

/// The exports of a provider, in the folder `exports`.
fn provider(name: &str) -> Folder {
    let folder = Folder::new();
    let from = format!(
        "{}/tests/fixtures/exports/{name}",
        env!("CARGO_MANIFEST_DIR")
    );
    for entry in std::fs::read_dir(from).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        folder.write(&format!("exports/{name}"), std::fs::read(&path).unwrap());
    }
    folder
}

/// What `path` is asked, and the verdict.
type Asked = (&'static [&'static str], &'static str);

/// Asks of the providers' estates, each with the verdict that reading the exports by hand gives.
const ASKED: [(&str, &[Asked]); 4] = [
    (
        "nested",
        &[
            (&["internet", "ticket-1", "--tcp", "443"], "works"),
            (&["internet", "ticket-1", "--tcp", "22"], "works-for-some"),
            (&["internet", "ticket-1", "--tcp", "5432"], "denied"),
            (&["ticket-1", "ledger-1", "--tcp", "5432"], "works"),
            (&["berth-1", "ledger-1", "--tcp", "5432"], "denied"),
            (&["ledger-1", "ticket-1", "--tcp", "9104"], "works"),
            (&["ledger-1", "ticket-1", "--tcp", "9111"], "denied"),
            (&["ticket-1", "10.81.0.9", "--tcp", "80"], "lost"),
            (&["internet", "ledger-1", "--tcp", "22"], "lost"),
        ],
    ),
    (
        "joined",
        &[
            (&["internet", "kiosk-1", "--tcp", "443"], "works"),
            (&["internet", "kiosk-1", "--tcp", "23"], "denied"),
            (&["internet", "kiosk-2", "--tcp", "443"], "lost"),
            (&["kiosk-2", "manifest-db", "--tcp", "5433"], "works"),
            (&["kiosk-2", "manifest-db", "--tcp", "5434"], "denied"),
            (&["kiosk-2", "manifest-db", "--tcp", "22"], "denied"),
            (&["kiosk-1", "kiosk-2", "--icmp", "8/0"], "works"),
            (&["kiosk-1", "kiosk-2", "--icmp", "13"], "denied"),
            (&["kiosk-1", "crane-1", "--udp", "5000"], "lost"),
        ],
    ),
    (
        "sheets",
        &[
            (&["gate-1", "store-1", "--tcp", "5432"], "works"),
            (&["gate-1", "store-1", "--tcp", "443"], "denied"),
            (&["store-1", "gate-2", "--tcp", "8080"], "works"),
            (&["store-1", "gate-2", "--tcp", "23"], "denied"),
            (&["gate-1", "belt-1", "--tcp", "4840"], "lost"),
        ],
    ),
    (
        "typed",
        &[
            (&["internet", "if-1", "--tcp", "443"], "works"),
            (&["internet", "if-1", "--tcp", "22"], "denied"),
            (&["internet", "if-1", "--tcp", "80"], "denied"),
            (&["internet", "if-2", "--tcp", "443"], "lost"),
            (&["if-2", "if-1", "--tcp", "22"], "denied"),
            (&["if-2", "if-1", "--tcp", "9000"], "works"),
            (&["if-1", "if-2", "--tcp", "5432"], "works"),
            (&["if-1", "if-2", "--tcp", "80"], "denied"),
        ],
    ),
];

fn verdicts(folder: &Folder, snapshot: &str, provider: &str) -> Vec<String> {
    let (_, asked) = ASKED.iter().find(|(name, _)| *name == provider).unwrap();
    let ask = |asked: &[&str]| {
        let run =
            folder.run(&[&["path"][..], asked, &["-e", snapshot, "--format", "json"]].concat());
        let answer: Value = serde_json::from_str(&run.stdout).unwrap_or_default();
        // What is not in the snapshot cannot be asked about.
        answer["answer"]["verdict"]
            .as_str()
            .unwrap_or("unknown")
            .to_owned()
    };
    asked.iter().map(|(words, _)| ask(words)).collect()
}

fn by_hand(provider: &str) -> Vec<&'static str> {
    ASKED
        .iter()
        .find(|(name, _)| *name == provider)
        .unwrap()
        .1
        .iter()
        .map(|(_, verdict)| *verdict)
        .collect()
}

/// Writes the likely answers of open questions into the file, by their number from 0; how many questions there are.
fn answered(folder: &Folder, which: impl Fn(usize) -> bool) -> usize {
    let (mut likely, mut number, mut out) = (None, 0, String::new());
    for line in folder.read("first/questions.yaml").lines() {
        likely = line
            .strip_prefix("    likely: ")
            .map(str::to_owned)
            .or(likely);
        if line.starts_with("    answer: ") {
            let answer = likely.take().filter(|_| which(number));
            let line = answer
                .filter(|_| line.ends_with("\"\""))
                .map_or_else(|| line.to_owned(), |it| format!("    answer: {it}"));
            out += &format!("{line}\n");
            number += 1;
        } else {
            out += &format!("{line}\n");
        }
    }
    folder.write("first/questions.yaml", out);
    number
}

fn guide(folder: &Folder) -> Run {
    folder.run(&["guide", "exports", "--into", "first"])
}

#[test]
fn a_draft_of_a_foreign_export_needs_at_most_ten_edited_lines() {
    // Lines that somebody takes away or writes, by what they are now.
    let edits: [(&str, &[(&str, &str)]); 4] = [
        ("nested", &[("draft: true\n", "")]),
        ("joined", &[("draft: true\n", "")]),
        ("sheets", &[("draft: true\n", "")]),
        ("typed", &[("draft: true\n", "")]),
    ];
    for (name, edits) in edits {
        let folder = provider(name);
        folder
            .run(&["import", "--draft-profile", "p.yaml", "exports"])
            .ok();
        let mut text = folder.read("p.yaml");
        for (old, new) in edits {
            assert_eq!(text.matches(old).count(), 1, "{old}");
            text = text.replace(old, new);
        }
        assert!(edits.len() <= 10);
        folder.write("p.yaml", text);
        let (code, told) = folder.json(&[
            "import",
            "--profile",
            "p.yaml",
            "exports",
            "--into",
            "snap.yaml",
        ]);
        assert_eq!(
            (code, &told["answer"]["dangling"]),
            (0, &serde_json::json!([])),
            "{name}"
        );
        assert_eq!(
            verdicts(&folder, "snap.yaml", name),
            by_hand(name),
            "{name}"
        );
        assert!(folder.run(&["audit", "-e", "snap.yaml"]).code <= 1);
    }
}

/// Asks and answers until nothing new is asked; how many questions there were.
fn guided(folder: &Folder, which: impl Fn(usize) -> bool) -> usize {
    let mut known = 0;
    loop {
        let told = guide(folder);
        assert!(told.code <= 1, "{}{}", told.stdout, told.stderr);
        let before = folder.read("first/questions.yaml");
        known = known.max(answered(folder, &which));
        if folder.read("first/questions.yaml") == before {
            return known;
        }
    }
}

#[test]
fn a_guide_without_an_answer_is_never_surely_wrong_and_with_all_right() {
    for (name, _) in ASKED {
        let right = by_hand(name);
        let never_wrong = |folder: &Folder, what: &str| {
            for (at, (got, right)) in verdicts(folder, "first/snapshot.yaml", name)
                .iter()
                .zip(&right)
                .enumerate()
            {
                let asked = folder.read("first/questions.yaml");
                assert!(
                    got == "unknown" || got == right,
                    "{name}, {what}, {at}: {got} for {right}\n{asked}"
                );
            }
        };
        let folder = provider(name);
        guided(&folder, |_| false);
        never_wrong(&folder, "without any");
        let all = guided(&folder, |_| true);
        assert_eq!(
            verdicts(&folder, "first/snapshot.yaml", name),
            right,
            "{}",
            folder.read("first/questions.yaml")
        );
        for open in 0..all {
            let folder = provider(name);
            guided(&folder, |at| at != open);
            never_wrong(&folder, &format!("without answer {}", open + 1));
        }
    }
}

#[test]
fn a_guide_goes_on_where_it_was_left_and_keeps_what_people_wrote() {
    let folder = provider("sheets");
    folder.write("exports/rules.txt", "permit any\n");
    let first = guide(&folder);
    assert!(
        first.stdout.contains("FILES NOT READ (1)") && first.stdout.contains("rules.txt"),
        "{}",
        first.stdout
    );
    assert_eq!(first.code, 1, "{}", first.stdout);
    assert!(
        first.stdout.contains("OPEN QUESTIONS (2)") || first.stdout.contains("OPEN QUESTIONS (3)"),
        "{}",
        first.stdout
    );
    let (code, json) = folder.json(&["guide", "exports", "--into", "first"]);
    let open = |json: &Value| {
        json["answer"]["questions"]
            .as_array()
            .unwrap()
            .iter()
            .filter(|one| one["answer"].is_null())
            .count()
    };
    assert!(code == 1 && open(&json) > 0);
    let schema: Value = serde_json::from_str(&folder.run(&["schema", "guide"]).ok()).unwrap();
    assert!(jsonschema::draft202012::is_valid(&schema, &json));
    // A wrong answer is told where it stands, and nothing is lost.
    let asked = folder.read("first/questions.yaml");
    folder.write(
        "first/questions.yaml",
        asked.replacen("answer: \"\"", "answer: lowst", 1),
    );
    let told = guide(&folder).fails(3);
    assert!(
        told.contains("`lowst` is not an answer to this question")
            && told.contains("did you mean `lowest`?"),
        "{told}"
    );
    assert!(told.contains("questions.yaml:"), "{told}");
    folder.write(
        "first/questions.yaml",
        asked.replacen("answer: \"\"", "answer: lowest", 1),
    );
    guide(&folder);
    assert!(
        folder
            .read("first/questions.yaml")
            .contains("answer: \"lowest\"")
    );
    assert!(folder.read("first/profile.yaml").contains("priority: $.No"));
    // A profile that is changed by hand is the profile.
    folder.write(
        "first/profile.yaml",
        folder
            .read("first/profile.yaml")
            .replace("name: drafted", "name: ours"),
    );
    let told = guide(&folder);
    assert!(
        told.stdout.contains("profile.yaml was edited by hand") && told.code <= 1,
        "{}",
        told.stdout
    );
    assert!(folder.read("first/profile.yaml").contains("name: ours"));
    // A snapshot that is changed by hand is not lost.
    folder.write(
        "first/snapshot.yaml",
        folder.read("first/snapshot.yaml") + "# ours\n",
    );
    let told = guide(&folder).fails(2);
    assert!(
        told.contains("first/snapshot.yaml was not written by this command, or was changed since"),
        "{told}"
    );
    assert!(folder.read("first/snapshot.yaml").ends_with("# ours\n"));
    folder.run(&["guide", "exports", "--into", "first", "--force"]);
    assert!(!folder.read("first/snapshot.yaml").contains("# ours"));
    // What cannot be read by the profile is told, and the profile is there to be fixed.
    folder.write(
        "first/profile.yaml",
        folder
            .read("first/profile.yaml")
            .replace("addresses: ", "adresses: "),
    );
    let told = guide(&folder).fails(3);
    assert!(
        told.contains("first/profile.yaml can be edited by hand")
            && told.contains("did you mean `addresses`?"),
        "{told}"
    );
    let other = provider("sheets");
    other.write("first/profile.yaml", "mine\n");
    assert!(
        guide(&other)
            .fails(2)
            .contains("was not written by this command")
    );
    assert_eq!(other.read("first/profile.yaml"), "mine\n");
}

/// `script` gives the program a terminal; its input is what somebody types.
#[cfg(target_os = "linux")]
#[test]
fn a_guide_asks_on_a_terminal() {
    use std::io::Write;
    use std::process::{Command, Stdio};
    let folder = provider("sheets");
    let line = format!("{} guide exports --into first", crate::folder::PROGRAM);
    let mut runner = Command::new("script");
    runner
        .args(["-qec", &line, "/dev/null"])
        .current_dir(folder.path())
        .env_clear();
    let mut child = runner
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .expect("util-linux has script");
    child
        .stdin
        .take()
        .unwrap()
        .write_all(b"lowst\n1\n\nunknown\nq\n")
        .unwrap();
    let output = String::from_utf8(child.wait_with_output().unwrap().stdout).unwrap();
    assert!(
        output.contains("`lowst` is not an answer to this question")
            && output.contains("1 lowest, 2 highest"),
        "{output}"
    );
    assert_eq!(
        folder
            .read("first/questions.yaml")
            .matches("answer: \"lowest\"")
            .count(),
        1,
        "{output}"
    );
}

/// What the lists of Skerry are; the others are left open.
const SKERRY: [(&str, &str); 18] = [
    ("cells[*]", "subnets"),
    ("plugs.json", "interfaces"),
    ("crews/*", "security_groups"),
    ("crews.json", "nothing"),
    ("screens.json", "network_acls"),
    ("charts.json $.items[*].legs[*]", "routes"),
    ("charts.json $.items[*]", "route_tables"),
    ("mouths.json", "gateways"),
    ("buoys.json", "public_addresses"),
    ("lists.json", "address_sets"),
    ("keepers.json", "owners"),
    ("bridges.json", "peerings"),
    ("locks.json", "firewalls"),
    ("lockbooks.json", "firewall_policies"),
    ("guards.json", "own_firewalls"),
    ("rulings.json", "scope_policies"),
    ("spreaders.json", "balancers"),
    ("yards.json", "sites"),
];

/// Writes answers by what the questions are about; how many are open then.
fn answered_by(folder: &Folder, answer: impl Fn(&str, Option<&str>) -> Option<String>) -> usize {
    let (mut about, mut likely, mut open, mut out) = (String::new(), None, 0, String::new());
    for line in folder.read("first/questions.yaml").lines() {
        if let Some(text) = line.strip_prefix("  - about: ") {
            about = serde_json::from_str(text).unwrap();
            likely = None;
        }
        likely = line
            .strip_prefix("    likely: ")
            .map(|text| serde_json::from_str::<String>(text).unwrap())
            .or(likely);
        match answer(&about, likely.as_deref()).filter(|_| line == "    answer: \"\"") {
            Some(answer) => out += &format!("    answer: {answer:?}\n"),
            None => {
                open += usize::from(line == "    answer: \"\"");
                out += &format!("{line}\n");
            }
        }
    }
    folder.write("first/questions.yaml", out);
    open
}

#[test]
fn a_guide_through_a_cloud_that_calls_everything_otherwise_is_never_surely_wrong() {
    let folder = super::imports::skerry();
    folder
        .run(&[
            "import",
            "--profile",
            "skerry.yaml",
            "exports",
            "--into",
            "right.yaml",
        ])
        .ok();
    for _ in 0..6 {
        let told = guide(&folder);
        assert!(told.code <= 1, "{}", told.stderr);
        answered_by(&folder, |about, likely| {
            let known = SKERRY.iter().find(|(place, _)| {
                about.contains(place) && about.ends_with(']')
                    || about == "crews/* $" && *place == "crews/*"
            });
            known
                .map(|(_, section)| (*section).to_owned())
                .or_else(|| likely.filter(|_| !about.ends_with(']')).map(str::to_owned))
        });
    }
    let interfaces = |snapshot: &str| {
        let read = heronshale_intake::load(&folder.path().join(snapshot)).unwrap();
        read.estate
            .interfaces
            .items()
            .iter()
            .map(|interface| interface.name.to_string())
            .collect::<Vec<_>>()
    };
    let names = interfaces("right.yaml");
    assert_eq!(interfaces("first/snapshot.yaml").len(), names.len());
    let verdict = |snapshot: &str, from: &str, to: &str, port: &str| {
        let (_, answer) = folder.json(&["path", from, to, "--tcp", port, "-e", snapshot]);
        answer["answer"]["verdict"].as_str().unwrap().to_owned()
    };
    let mut sure = 0;
    for at in 0..60 {
        let from = if at % 5 == 0 {
            "internet".to_owned()
        } else {
            format!("interface:{}", names[at * 7 % names.len()])
        };
        let to = format!("interface:{}", names[(at * 11 + 3) % names.len()]);
        let port = ["22", "443", "5432"][at % 3];
        let got = verdict("first/snapshot.yaml", &from, &to, port);
        let right = verdict("right.yaml", &from, &to, port);
        assert!(
            got == "unknown" || got == right,
            "{from} to {to}, tcp {port}: {got} for {right}"
        );
        sure += usize::from(got != "unknown");
    }
    assert!(sure > 5, "{sure} of 60 are sure");
}
