//! Values and joins as a profile makes them.

use super::*;

/// Rows of a sheet, a rule each.
pub(super) const SHEET: &str = "\
Group,Way,Protocol,Ports,Peers,Why
web,in,tcp,443,any,The shop
web,in,tcp,\"8000-8010; 9000\",10.0.0.0/8,Metrics
web,out,,,any,
db,in,tcp,5432,group:web,\"Orders, mostly\"
";

/// The profile for it, which the documentation shows.
pub const SHEET_PROFILE: &str = include_str!("../../../fixtures/sheet.yaml");

#[test]
pub(super) fn a_sheet_with_a_row_for_each_rule_is_gathered_by_group() {
    let folder = Folder::new();
    folder.write("rules.csv", SHEET);
    folder.write("sheet.yaml", SHEET_PROFILE);
    let import = [
        "import",
        "--profile",
        "sheet.yaml",
        "rules.csv",
        "--into",
        "snap.yaml",
    ];
    folder.run(&import).ok();
    let text = folder.read("snap.yaml");
    let wanted = [
        "security_groups:\n# rules.csv:2\n- id: web\n  inbound:\n  - services: tcp 443\n    peers: any\n",
        "  - services:\n    - tcp 8000-8010\n    - tcp 9000\n    peers: 10.0.0.0/8\n",
        "  outbound:\n  - peers: any\n",
        "# rules.csv:5\n- id: db\n",
        "    description: Orders, mostly\n",
    ];
    for part in wanted {
        assert!(text.contains(part), "{part}\n{text}");
    }
    // What is wrong is told by row and column; a row too short is not a row.
    folder.write("rules.csv", SHEET.replace("5432", "543200"));
    let told = folder.run(&import).fails(2);
    assert!(told.contains("already exists"), "{told}");
    let import = [&import[..], &["--force"]].concat();
    let told = folder.run(&import).fails(3);
    assert!(
        told.contains("`543200` is not a valid port (in rules.csv:5)")
            && told.contains("sheet.yaml:"),
        "{told}"
    );
    folder.write("rules.csv", SHEET.replace("web,out,,,any,", "web,out,any"));
    let told = folder.run(&import).fails(3);
    assert!(
        told.contains("this row has 3 fields, the header 6") && told.contains("rules.csv:4"),
        "{told}"
    );
    assert_eq!(
        folder.read("snap.yaml"),
        text,
        "what is there stays as it is"
    );
}

#[test]
pub(super) fn values_are_made_as_the_reference_says() {
    let record = r#"{ "n": "x", "one": "uno", "all": ["two", "three"], "none": null, "csv": "a; b;;c", "number": 7, "deep": [{ "k": "red", "v": 1 }, { "k": "blue" }] }"#;
    let others = r#"[{ "id": "uno", "to": "eins" }, { "id": "two", "to": ["dos", "zwei"] }, { "id": 7, "to": "sept" }]"#;
    let joined = "lookup: { files: others.json, in_records: \"$[*]\", by: $.id, take: $.to }";
    let lookup = |path: &str, rest: &str| format!("{{ path: {path}, {joined}{rest} }}");
    let table: &[(&str, &[&str])] = &[
        ("$.one", &["uno"]),
        ("$.all", &["two", "three"]),
        ("$.none", &[]),
        ("$.nothing.at.all", &[]),
        ("plain", &["plain"]),
        ("[$.one, $.none, $.all]", &["uno", "two", "three"]),
        ("{ constant: [p, q] }", &["p", "q"]),
        (
            "{ all_of: [$.none, $.all, $.one] }",
            &["two", "three", "uno"],
        ),
        ("{ first_of: [$.none, $.all, $.one] }", &["two", "three"]),
        (
            "{ text: \"{a}-{b}\", with: { a: $.all, b: \"$.deep[*].k\" } }",
            &["two-red", "two-blue", "three-red", "three-blue"],
        ),
        ("{ text: \"{a}{b}\", with: { a: $.all, b: $.none } }", &[]),
        ("{ path: $.csv, split: \";\" }", &["a", "b", "c"]),
        (
            "{ path: $.all, pattern: \"t(?<rest>.*)\", becomes: \"${rest}x\" }",
            &["wox", "hreex"],
        ),
        (
            "{ path: $.all, pattern: tw., otherwise: leave-out }",
            &["two"],
        ),
        ("{ path: $.all, pattern: w, otherwise: leave-out }", &[]),
        (
            "{ path: $.all, pattern: two, becomes: zwei, otherwise: keep }",
            &["zwei", "three"],
        ),
        (
            "{ path: $.all, table: { two: [2a, 2b] }, otherwise: leave-out }",
            &["2a", "2b"],
        ),
        ("{ path: $.number, table: { 7: seven } }", &["seven"]),
        ("{ path: $.all, without: [two, four] }", &["three"]),
        ("{ path: $.none, default: $.one }", &["uno"]),
        ("{ path: $.one, default: $.all }", &["uno"]),
        (
            "{ path: $.all, without: [two, three], default: { path: $.all, without: two } }",
            &["three"],
        ),
        (
            "{ path: $.csv, split: \";\", table: { a: z }, otherwise: keep, without: b }",
            &["z", "c"],
        ),
        ("{ every: \"$.deep[*]\", give: $.k }", &["red", "blue"]),
        ("{ every: \"$.deep[?@.v]\", give: $.k }", &["red"]),
        (
            "{ every: \"$.deep[*]\", give: { text: \"{k}-{a}\", with: { k: $.k, a: { outer: $.one } } } }",
            &["red-uno", "blue-uno"],
        ),
        ("{ file: stem }", &["data"]),
        ("{ file: name }", &["data.json"]),
        (&lookup("$.one", ""), &["eins"]),
        (&lookup("$.number", ""), &["sept"]),
        (&lookup("$.all", ""), &["dos", "zwei", "three"]),
        (&lookup("$.all", ", otherwise: leave-out"), &["dos", "zwei"]),
        (
            &lookup("$.all", ", otherwise: leave-out, pattern: d.*"),
            &["dos"],
        ),
        (&lookup("$.none", ", default: $.one"), &["uno"]),
        (
            &format!(
                "{{ every: {{ path: $.all, {} }}, give: $.id }}",
                joined.replace("$.to", "$")
            ),
            &["two"],
        ),
        (
            &format!(
                "{{ all_of: [{}], pattern: e.*, otherwise: leave-out }}",
                lookup("[$.one, $.all]", "")
                    .replace("path: [$.one, $.all]", "all_of: [$.one, $.all]")
            ),
            &["eins"],
        ),
    ];
    let folder = Folder::new();
    folder.write("e/data.json", record);
    folder.write("e/others.json", others);
    let head = "format: heronshale-profile\nversion: 1\nname: values\nrecords:\n  - { into: name_sets, files: data.json, fields: { id: $.n, names: ";
    let import = [
        "import",
        "--profile",
        "p.yaml",
        "e",
        "--into",
        "snap.yaml",
        "--force",
    ];
    for (value, wanted) in table {
        folder.write("p.yaml", format!("{head}{value} }} }}\n"));
        let told = folder.run(&import);
        // A pattern or table that does not know a value is an error, unless it says what becomes of it.
        if told.code != 0 {
            assert!(
                value.contains("pattern: d.*") && told.stderr.contains("`zwei` does not match"),
                "{value}: {}",
                told.stderr
            );
            continue;
        }
        let snapshot = heronshale_intake::load(&folder.path().join("snap.yaml")).unwrap();
        let names: Vec<String> = snapshot.estate.name_sets.items()[0]
            .names
            .iter()
            .map(ToString::to_string)
            .collect();
        assert_eq!(names, *wanted, "{value}");
    }
    for (value, what) in [
        (
            "{ path: $.none, needed: true }",
            "this record has no value for it",
        ),
        (
            "{ path: $.all, pattern: two }",
            "`three` does not match the pattern",
        ),
        (
            "{ path: $.all, table: { two: 2a } }",
            "the table has no entry `three`",
        ),
        (
            "{ path: $.deep, split: x }",
            "only texts and numbers are looked up",
        ),
        ("{ outer: $.one }", "there is no record around this one"),
        (
            "{ path: $.one, constant: x }",
            "this value has 2 sources: path, constant",
        ),
        ("{ split: x }", "this value has no source"),
        (
            "{ path: $.one, becomes: x }",
            "`becomes` has no effect without `pattern`",
        ),
        (
            "{ path: $.one, pattern: \"(\" }",
            "this is not a regular expression",
        ),
        ("{ every: $.deep }", "this value needs the field `give`"),
        ("{ text: \"{a}\", with: { b: $.one } }", "nothing fills {a}"),
        ("{ text: x, with: { b: $.one } }", "`b` fills nothing"),
    ] {
        folder.write("p.yaml", format!("{head}{value} }} }}\n"));
        let told = folder.run(&import).fails(3);
        assert!(
            told.contains(what) && told.contains("p.yaml:5:"),
            "{value}: {what}\n{told}"
        );
    }
}

/// Rules by id, policies that list them in their order, and where each policy stands.
pub(super) const JOINED: &str = "\
format: heronshale-profile
version: 1
name: joined
records:
  - into: security_groups
    files: desks.json
    from: $[*]
    fields:
      id: $.n
      form: { constant: ordered }
      inbound:
        each:
          all_of: [{ path: $.policy, lookup: { files: policies.json, in_records: \"$[*]\", by: $.n, take: \"$.order[*]\" } }]
          lookup: { files: rules.json, in_records: \"$[*]\", by: $.n, take: $ }
        fields: { id: $.n, action: $.verdict, services: $.to, description: { outer: $.why } }
      description:
        every: { path: $.policy, lookup: { files: policies.json, in_records: \"$[*]\", by: $.n, take: $ } }
        give: $.crew
";

#[test]
pub(super) fn objects_are_made_of_records_that_are_joined_in_their_order() {
    let folder = Folder::new();
    folder.write("p.yaml", JOINED);
    let rules = r#"[{ "n": "a", "verdict": "allow", "to": "tcp 1", "cost": 3 }, { "n": 7, "verdict": "deny", "to": "udp", "cost": 4 }]"#;
    folder.write("e/rules.json", rules);
    folder.write(
        "e/policies.json",
        r#"[{ "n": "p", "order": [7, "a"], "crew": "quay" }, { "n": "q", "order": ["a", "gone"] }]"#,
    );
    folder.write(
        "e/desks.json",
        r#"[{ "n": "one", "policy": "p", "why": "ferries" },
 { "n": "two", "policy": "q" }]"#
            .replace("\\n", "\n"),
    );
    let import = [
        "import",
        "--profile",
        "p.yaml",
        "e",
        "--into",
        "snap.yaml",
        "--force",
    ];
    let (_, told) = folder.json(&import);
    let text = folder.read("snap.yaml");
    let wanted = [
        "- id: one\n  form: ordered\n  inbound:\n  - id: 7\n    action: deny\n    services: udp\n    description: ferries\n  - id: a\n",
        "    description: ferries\n  description: quay\n",
        "- id: two\n  form: ordered\n  inbound:\n  - id: a\n    action: allow\n    services: tcp 1\n",
    ];
    for part in wanted {
        assert!(text.contains(part), "{part}\n{text}");
    }
    // What leads nowhere is told, and of the records only what is looked at counts as used.
    assert_eq!(told["answer"]["unresolved"][0]["id"], "gone");
    assert_eq!(
        told["answer"]["ignored"],
        serde_json::json!([{ "path": "$[*].cost", "values": 2, "because": null }])
    );
    // What is wrong with a record that was joined is shown where the id stands that led to it.
    folder.write("e/rules.json", rules.replace("allow", "maybe"));
    let told = folder.run(&import).fails(3);
    assert!(
        told.contains("`maybe`") && told.contains("(in desks.json:1:26: \"p\")"),
        "{told}"
    );
    folder.write(
        "p.yaml",
        JOINED.replace(
            "every: { path: $.policy, lookup: { files: policies.json, in_records: \"$[*]\", by: $.n, take: $ } }",
            "every: p",
        ),
    );
    let told = folder.run(&import).fails(3);
    assert!(
        told.contains("this leads to no nodes") && told.contains("p.yaml:17:"),
        "{told}"
    );
}

#[test]
pub(super) fn headers_have_one_name_each() {
    let folder = Folder::new();
    folder.write("rules.csv", "A,Services\nx,tcp 1\n");
    let profile = "format: heronshale-profile\nversion: 1\nname: own\nrecords: { into: security_groups, from: \"$[*]\", fields: { id: $.name, inbound: { each: $, fields: { services: $.services } } } }\n";
    let import = [
        "import",
        "--profile",
        "p.yaml",
        "rules.csv",
        "--into",
        "snap.yaml",
    ];
    for (columns, what) in [
        (
            "{ A: name, Services: [services, other] }",
            "the column `Services` needs one name",
        ),
        (
            "{ A: name, Services: name }",
            "two columns have the name `name`",
        ),
        ("{ A: Services }", "the header names `Services` twice"),
    ] {
        folder.write("p.yaml", format!("{profile}columns: {columns}\n"));
        let told = folder.run(&import).fails(3);
        assert!(told.contains(what), "{what}\n{told}");
    }
    folder.write(
        "p.yaml",
        format!("{profile}columns: {{ A: name, Services: services }}\n"),
    );
    folder.run(&import).ok();
    assert!(
        folder
            .read("snap.yaml")
            .contains("- id: x\n  inbound:\n  - services: tcp 1\n")
    );
    let told = folder
        .run(&[
            "export",
            "-e",
            "snap.yaml",
            "--as",
            "ietf-acl",
            "--profile",
            "p.yaml",
            "--into",
            "x",
        ])
        .fails(2);
    assert!(told.contains("this format has no columns"), "{told}");
}

#[test]
pub(super) fn names_of_any_shape_come_through_unchanged() {
    let names = [
        "plain",
        "yes",
        "null",
        "~",
        "1e5",
        "0x1F",
        "007",
        "12",
        "2026-11-02",
        "- item",
        "? key",
        "a: b",
        "a #b",
        "#c",
        "&a",
        "*a",
        "!t",
        "%d",
        "@at",
        "`x`",
        "'",
        "\"",
        "it's",
        "\\",
        "a\tb",
        "a\nb",
        " led",
        "trailed ",
        "{x}",
        "[x]",
        "é",
        "日本",
        "<b>",
        "=1+1",
        "a\u{7}b",
        "-",
        ":",
        "a:",
        "...",
        "---",
        "a\u{85}b",
        "a\u{2028}b",
        "\u{feff}a",
    ];
    let folder = Folder::new();
    let lines = names.iter().map(|name| {
        serde_json::json!({ "n": name, "t": [{ "k": name, "v": name }] }).to_string() + "\n"
    });
    folder.write("nets.jsonl", lines.collect::<String>());
    let record = "  - { into: networks, fields: { id: $.n, description: $.n, tags: { pairs: \"$.t[*]\", key: $.k, value: $.v } } }\n";
    folder.write(
        "p.yaml",
        format!("format: heronshale-profile\nversion: 1\nname: names\nrecords:\n{record}"),
    );
    folder
        .run(&[
            "import",
            "--profile",
            "p.yaml",
            "nets.jsonl",
            "--into",
            "snap.yaml",
        ])
        .ok();
    let snapshot = heronshale_intake::load(&folder.path().join("snap.yaml")).unwrap();
    let read: Vec<&str> = snapshot
        .estate
        .networks
        .items()
        .iter()
        .map(|network| &*network.name)
        .collect();
    assert_eq!(read, names);
    for network in snapshot.estate.networks.items() {
        assert_eq!(network.tags.len(), 1);
        assert_eq!(
            (&network.tags[0].0, &network.tags[0].1),
            (&network.name, &network.name)
        );
    }
}
