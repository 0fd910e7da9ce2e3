//! Bad input: every error at once, each at its line; one clear error for what cannot be read at all.

use crate::folder::{Folder, HEADER};

#[test]
fn ten_errors_in_two_files_are_told_in_one_run_each_at_its_line() {
    let folder = Folder::new();
    folder.write(
        "a.yaml",
        format!(
            "{HEADER}networks:\n\
        - {{ id: tickets, blocks: [10.65.0.0/33] }}\n\
        - {{ id: cargo, block: [10.66.0.0/16] }}\n\
        - {{ blocks: [10.67.0.0/16] }}\n\
        - {{ id: office, blocks: [10.68.0.0/16], owner: nobody }}\n\
        subnets:\n\
        - {{ id: web, network: tikets, blocks: [10.65.1.0/24] }}\n"
        ),
    );
    folder.write(
        "b.json",
        r#"{ "format": "heronshale-snapshot", "version": 1,
"security_groups": [
  { "id": "g", "inbound": [
    { "services": "tcp 90-80" },
    { "services": "icmp /1" },
    { "action": "deny" },
    { "peers": "gruop:app" },
    { "enabled": "yes" } ] } ] }"#,
    );
    let told = folder.run(&["audit"]).fails(3);
    let expected = [
        ("a.yaml:4", "`10.65.0.0/33`: the prefix length is above 32"),
        ("a.yaml:5", "no field `block`"),
        ("a.yaml:6", "a network needs the field `id`"),
        ("a.yaml:7", "there is no owner called `nobody`"),
        ("a.yaml:9", "there is no network called `tikets`"),
        ("b.json:4", "the range 90-80 is reversed"),
        ("b.json:5", "an ICMP code needs its type"),
        ("b.json:6", "a union group has no action `deny`"),
        ("b.json:7", "`gruop:app` is not a peer"),
        ("b.json:8", "expected true or false, found a text"),
    ];
    let blocks: Vec<&str> = told.split("\n\n").collect();
    for (place, what) in expected {
        let block = blocks.iter().find(|block| block.contains(what));
        assert!(
            block.is_some_and(|block| block.contains(&format!("{place}:"))),
            "{place}: {what}\n{told}"
        );
    }
    for hint in [
        "did you mean `blocks`?",
        "did you mean `tickets`?",
        "did you mean `group`?",
        "write `true`",
        "write 80-90",
    ] {
        assert!(told.contains(hint), "{hint}\n{told}");
    }
    assert!(
        told.ends_with("10 errors: the estate was not judged\n"),
        "{told}"
    );
}

#[test]
fn what_cannot_be_read_gives_one_clear_error_and_nothing_else() {
    let deep_json = format!(
        "{{ \"format\": \"heronshale-snapshot\", \"version\": 1, \"networks\": {}",
        "[".repeat(100_000)
    );
    let deep_yaml = format!("{HEADER}networks: {}", "[".repeat(100_000));
    let mut bomb =
        format!("{HEADER}address_sets:\n- {{ id: a0, content: &a0 [10.0.0.1, 10.0.0.2] }}\n");
    for at in 1..12 {
        let inner = vec![format!("*a{}", at - 1); 10].join(", ");
        bomb.push_str(&format!("- {{ id: a{at}, content: &a{at} [{inner}] }}\n"));
    }
    let cut = format!("{HEADER}networks:\n- {{ id: tickets, blocks: [10.65.0.0/16\n");
    let files: [(&str, Vec<u8>, &str); 10] = [
        (
            "binary.yaml",
            [HEADER.as_bytes(), &[0xFF, 0xFE, 0, 1, 2]].concat(),
            "not text in UTF-8",
        ),
        ("nul.json", b"{\0}".to_vec(), "not text in UTF-8"),
        ("empty.yaml", Vec::new(), "the file is empty"),
        ("blank.json", b" \n\t ".to_vec(), "the file is empty"),
        (
            "deep.json",
            deep_json.into_bytes(),
            "nested deeper than 32 levels",
        ),
        (
            "deep.yaml",
            deep_yaml.into_bytes(),
            "nested deeper than 32 levels",
        ),
        ("bomb.yaml", bomb.into_bytes(), "alias"),
        ("cut.yaml", cut.into_bytes(), "this `[` is not closed"),
        (
            "cut.json",
            br#"{ "format": "heronshale-snapshot", "version": 1, "networks": [ { "id": "a""#
                .to_vec(),
            "this is not JSON",
        ),
        ("other.json", b"[1, 2]".to_vec(), "a snapshot is a map"),
    ];
    for (name, bytes, what) in files {
        let folder = Folder::new();
        folder.write(name, bytes);
        for command in ["audit", "exposure", "inventory"] {
            let told = folder.run(&[command, "-e", name]).fails(3);
            assert!(
                told.contains(what)
                    && told.contains(name)
                    && told.ends_with("1 error: the estate was not judged\n"),
                "{name}: {told}"
            );
            assert!(told.len() < 3_000, "{name}: {} bytes", told.len());
        }
    }
}

#[test]
fn folders_without_a_snapshot_and_missing_files_are_told_apart() {
    let folder = Folder::new();
    let told = folder.run(&["audit"]).fails(3);
    assert!(
        told.contains("no snapshot in the folder . (it has no files)"),
        "{told}"
    );
    folder.write("notes.txt", "x");
    folder.write("other.yaml", "name: something else\n");
    let told = folder.run(&["audit"]).fails(3);
    assert!(
        told.contains(
            "notes.txt: neither JSON nor YAML by its name; other.yaml: no snapshot header"
        ),
        "{told}"
    );
    let told = folder.run(&["audit", "-e", "gone.yaml"]).fails(4);
    assert!(
        told.contains("cannot read gone.yaml") && told.contains("heronshale init"),
        "{told}"
    );
    folder.write("estate.yaml", HEADER);
    let run = folder.run(&["audit"]);
    assert!(
        run.stderr
            .starts_with("not read: notes.txt (neither JSON nor YAML by its name), other.yaml (no snapshot header)"),
        "{}",
        run.stderr
    );
    assert_eq!(run.code, 0);
}

#[test]
fn combinations_that_the_semantics_forbid_are_input_errors() {
    let places = "networks: [{ id: n, blocks: [10.0.0.0/16] }]\nsubnets: [{ id: s, network: n, blocks: [10.0.1.0/24] }]\n";
    let table = [
        (
            "security_groups: [{ id: g }, { id: g }]",
            "two security groups have the name `g`",
        ),
        (
            "security_groups: [{ id: g, inbound: [{ id: r }, { id: r }] }]",
            "two inbound rules",
        ),
        (
            "security_groups: [{ id: g, default_inbound: allow }]",
            "a union group has no default",
        ),
        (
            "security_groups: [{ id: g, inbound: [{ priority: 1 }] }]",
            "rules of a union group have no priority",
        ),
        (
            "security_groups: [{ id: g, inbound: [{ except: \"group:gone\" }] }]",
            "exceptions of a rule must be in the snapshot",
        ),
        (
            "security_groups: [{ id: g }, { id: h, form: ordered }]\ninterfaces: [{ id: i, subnet: s, groups: [g, h] }]",
            "union and ordered groups at one place",
        ),
        (
            "network_acls: [{ id: a, inbound: [{ action: defer }] }]",
            "a network ACL has no action `defer`",
        ),
        (
            "network_acls: [{ id: a, inbound: [{ services: tcp 22 }] }]",
            "needs an action",
        ),
        (
            "own_firewalls: [{ id: o, default_inbound: deny }]",
            "needs the field `default_outbound`",
        ),
        (
            "scope_policies: [{ id: p, scope: estate }, { id: q, scope: estate }]",
            "have no order",
        ),
        (
            "divisions: [{ id: a, parent: b }, { id: b, parent: a }]",
            "lies inside itself",
        ),
        (
            "interfaces: [{ id: i, subnet: s, addresses: [10.0.1.4/24] }]",
            "an interface has addresses or whole prefixes",
        ),
        (
            "interfaces: [{ id: i, subnet: s, addresses: [10.0.1.4] }]\npublic_addresses: [{ address: 203.0.113.1, interface: i, private: 10.0.1.5 }]",
            "has no address that",
        ),
        (
            "gateways: [{ id: a, kind: internet, network: n }, { id: b, kind: internet, network: n }]",
            "a network has one internet gateway",
        ),
        (
            "gaps: [{ object: \"network:n\" }]",
            "cannot be missing as a whole",
        ),
        (
            "gaps: [{ object: \"group:g\", lacks: rules }]",
            "there is no group called `g`",
        ),
        (
            "estate: { name: x, taken: yesterday }",
            "`yesterday` is not a date",
        ),
        ("version: 1", "appears twice"),
    ];
    for (text, what) in table {
        let told = Folder::with(&format!("{HEADER}{places}{text}\n"))
            .run(&["audit"])
            .fails(3);
        assert!(told.contains(what), "{text}\n{told}");
        assert!(told.contains("estate.yaml:"), "{text}\n{told}");
    }
    let told = Folder::with("format: heronshale-snapshot\nversion: 2\n")
        .run(&["audit"])
        .fails(3);
    assert!(
        told.contains("this program reads version 1 of the format"),
        "{told}"
    );
}

#[test]
fn wrong_use_says_what_would_be_right() {
    let folder = Folder::with_demo();
    let table: [(&[&str], &str); 12] = [
        (&["effective", "booking-9"], "did you mean `booking-1`?"),
        (
            &["effective", "network:ticket"],
            "did you mean `network:tickets`?",
        ),
        (&["effective", "10.99.0.1"], "matches no interface"),
        (&["effective", "booking-1", "--tcp", "90-80"], "write 80-90"),
        (
            &["effective", "booking-1", "--peer", "desk"],
            "did you mean",
        ),
        (&["rule", "https-ofices"], "there is no rule called"),
        (&["rule", "out"], "there is no rule called"),
        (&["rule", "ssh"], "rules are called `ssh`"),
        (&["audit", "--kind", "shadow"], "did you mean `shadowed`?"),
        (
            &["audit", "--owner", "fleet"],
            "there is no owner called `fleet`",
        ),
        (&["audit", "--at", "soon"], "write 2026-11-02"),
        (&["explain", "zzzz-0000"], "has no finding"),
    ];
    for (arguments, what) in table {
        let told = folder
            .run(&[arguments, &["-e", "marrowfen-ferries"]].concat())
            .fails(2);
        assert!(told.contains(what), "{arguments:?}\n{told}");
    }
    for arguments in [
        &["schema", "audti"][..],
        &["explain", "shadowd"],
        &["effective"],
        &["audit", "--fail-on", "bad"],
        &["nonsense"],
    ] {
        folder.run(arguments).fails(2);
    }
}
