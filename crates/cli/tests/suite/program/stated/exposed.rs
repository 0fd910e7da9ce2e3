//! Exposure: drafts, ledger, what was seen, openings.

use super::*;

#[test]
pub(super) fn a_drafted_exposure_is_confirmed_by_leaving_it() {
    for estate in [None, Some(ESTATE)] {
        let folder = estate.map_or_else(Folder::with_demo, Folder::with);
        let path = if estate.is_some() {
            "estate.yaml"
        } else {
            "marrowfen-ferries"
        };
        folder.write("none.yaml", "format: heronshale-expectations\nversion: 1\n");
        let given = [
            "-e",
            path,
            "--expectations",
            "none.yaml",
            "--draft-expectations",
            "draft.yaml",
        ];
        folder.run(&[&["exposure"], &given[..]].concat()).ok();
        let (_, audit) = folder.json(&["audit", "-e", path, "--expectations", "draft.yaml"]);
        let states = states(&audit);
        assert!(
            states.len() >= 2 && states.iter().all(|state| state.ends_with(" kept")),
            "{states:#?}"
        );
        // All that is open for certain is meant then.
        let (_, exposure) = folder.json(&["exposure", "-e", path, "--expectations", "draft.yaml"]);
        let ways = exposure["answer"]["ways"].as_array().unwrap();
        let certain = |one: &&Value| one["client_ports"].is_null() && one["some_routes"] == false;
        let open = ways
            .iter()
            .flat_map(|way| way["open"].as_array().unwrap())
            .filter(certain);
        for one in open {
            assert_eq!(one["meaning"], "meant", "{one:#}");
        }
    }
}

#[test]
pub(super) fn the_ledger_has_a_row_for_every_way_in_and_no_formula() {
    let folder = Folder::with(
        &ESTATE
            .replace("set:partners", "set:=1+1")
            .replace("id: partners", "id: \"=1+1\""),
    );
    let told = folder
        .run(&["exposure", "--ledger", "--format", "csv"])
        .ok();
    let mut reader = csv::Reader::from_reader(told.as_bytes());
    let rows: Vec<csv::StringRecord> = reader.records().map(Result::unwrap).collect();
    let cell = |row: &csv::StringRecord, name: &str| {
        let at = told
            .lines()
            .next()
            .unwrap()
            .split(',')
            .position(|column| column == name)
            .unwrap();
        row[at].to_owned()
    };
    let open: Vec<String> = rows
        .iter()
        .filter(|row| cell(row, "state") == "open")
        .map(|row| cell(row, "services"))
        .collect();
    assert_eq!(open, ["tcp 443", "tcp 8080"]);
    assert!(rows.iter().any(|row| cell(row, "state") == "closed"));
    assert!(
        rows.iter().all(|row| row
            .iter()
            .all(|cell| !cell.starts_with(['=', '+', '-', '@']))),
        "{told}"
    );
    // Each public address of the demo is in it.
    let folder = Folder::with_demo();
    let told = folder
        .run(&[
            "exposure",
            "-e",
            "marrowfen-ferries",
            "--ledger",
            "--format",
            "csv",
        ])
        .ok();
    let (_, inventory) = folder.json(&["inventory", "-e", "marrowfen-ferries"]);
    for row in inventory["answer"]["public_addresses"].as_array().unwrap() {
        let address = row["address"].as_str().unwrap();
        assert!(
            told.lines()
                .any(|line| line.starts_with(&format!("{address},"))),
            "{address}\n{told}"
        );
    }
    let told = folder
        .run(&["audit", "-e", "marrowfen-ferries", "--format", "csv"])
        .fails(2);
    assert!(told.contains("not a table"), "{told}");
}

#[test]
pub(super) fn what_was_seen_from_outside_is_held_against_the_snapshot() {
    let folder = Folder::with(ESTATE);
    let seen = "port,protocol,address,note\n443,tcp,203.0.113.10,\n22,tcp,203.0.113.10,ours?\n443,tcp,198.51.100.9,\n";
    folder.write("seen.csv", seen);
    let (code, answer) = folder.json(&["exposure", "--observed", "seen.csv"]);
    let observed = &answer["answer"]["observed"];
    let told: Vec<String> = observed["seen"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| {
            format!(
                "{} {} {} {}",
                one["sight"].as_str().unwrap(),
                one["address"].as_str().unwrap(),
                one["service"].as_str().unwrap(),
                one["line"]
            )
        })
        .collect();
    let expected = [
        "closed 203.0.113.10 tcp 22 3",
        "not-held 198.51.100.9 tcp 443 4",
        "agrees 203.0.113.10 tcp 443 2",
    ];
    assert_eq!((code, told), (1, expected.map(str::to_owned).to_vec()));
    folder.write("seen.csv", "address,protocol,port\n203.0.113.10,udp,53\n");
    let (_, answer) = folder.json(&["exposure", "--observed", "seen.csv"]);
    assert_eq!(
        answer["answer"]["observed"]["unseen"][0]["services"],
        serde_json::json!(["tcp 443"])
    );
    folder.write(
        "seen.csv",
        "address,protocol,port\n203.0.113.1o,tpc,99999\n",
    );
    let told = folder.run(&["exposure", "--observed", "seen.csv"]).fails(3);
    for text in [
        "seen.csv:2:1",
        "seen.csv:2:14",
        "seen.csv:2:18",
        "`203.0.113.1o` is not a valid address",
    ] {
        assert!(told.contains(text), "{text}: {told}");
    }
    folder.write("seen.csv", "adress,protocol,port\n");
    let told = folder.run(&["exposure", "--observed", "seen.csv"]).fails(3);
    assert!(
        told.contains("there is no column `address`") && told.contains("did you mean `adress`"),
        "{told}"
    );
}

#[test]
pub(super) fn one_change_from_open_outward_and_onward() {
    // The gateway hangs loose, and the group lets everybody in.
    let loose = ESTATE.replace(
        "{ id: gate, kind: internet, network: pier }",
        "{ id: gate, kind: internet, network: pier, attached: false }",
    );
    let folder = Folder::with(&loose);
    let (_, answer) = folder.json(&["exposure"]);
    let away = answer["answer"]["one_step_away"].as_array().unwrap();
    assert!(
        away.len() == 1 && away[0]["edit"]["text"].as_str().unwrap().contains("gate"),
        "{away:#?}"
    );
    assert_eq!(away[0]["services"], serde_json::json!(["tcp 443,8080"]));
    // Two changes away is not one.
    let two = loose.replace("{ to: 0.0.0.0/0, next_hop", "{ to: 192.0.2.0/24, next_hop");
    let (_, answer) = Folder::with(&two).json(&["exposure"]);
    assert_eq!(answer["answer"]["one_step_away"], serde_json::json!([]));
    let folder = Folder::with(&ESTATE.replace(
        "peers: \"group:db\", description: fares }]",
        "peers: \"group:db\", description: fares }, { id: out, services: tcp 443, peers: any, description: updates }]",
    ));
    let (_, answer) = folder.json(&["exposure", "--outward", "--onward", "1"]);
    let outward = answer["answer"]["outward"].as_array().unwrap();
    assert_eq!(outward.len(), 1, "{outward:#?}");
    assert_eq!(
        (
            outward[0]["machines"][0].as_str(),
            outward[0]["seen_as"].as_str()
        ),
        (Some("web"), Some("203.0.113.10"))
    );
    let onward = &answer["answer"]["onward"];
    assert_eq!(onward["from"][0]["marked"][0]["name"], "db");
    assert_eq!(onward["marked"][0]["always_by"][0]["name"], "web");
    let (_, there) = folder.json(&["exposure", "--from", "web"]);
    assert_eq!(there["answer"]["reached"][0]["place"]["name"], "db");
}

#[test]
pub(super) fn one_change_that_would_open_a_way_does_open_it() {
    // Each way of closing the door by one piece; the edit that is told, made in the file, opens it.
    let table = [
        (
            "{ id: gate, kind: internet, network: pier }",
            "{ id: gate, kind: internet, network: pier, attached: false }",
            "gate",
        ),
        (
            "routes: [{ to: 0.0.0.0/0, next_hop: \"gateway:gate\" }]",
            "routes: []",
            "route",
        ),
        (
            "owner: platform }]\ngateways",
            "owner: platform, internet_traffic: outbound_only }]\ngateways",
            "pier",
        ),
    ];
    for (open, closed, word) in table {
        assert!(ESTATE.contains(open));
        let (_, before) = Folder::with(&ESTATE.replace(open, closed)).json(&["exposure"]);
        let away = before["answer"]["one_step_away"].as_array().unwrap();
        assert!(away.len() == 1, "{closed}: {away:#?}");
        assert!(
            away[0]["edit"]["text"].as_str().unwrap().contains(word),
            "{closed}: {away:#?}"
        );
        assert_eq!(before["answer"]["workloads_open"], 0);
        let (_, after) = Folder::with(ESTATE).json(&["exposure"]);
        assert_eq!(
            after["answer"]["ways"][0]["open"].as_array().unwrap().len(),
            2
        );
    }
}

#[test]
pub(super) fn every_fix_names_its_side_effects_and_an_exposure_what_closing_it_ends() {
    let side_effects = |estate: &str| {
        let (_, audit) = Folder::with(estate).json(&["audit", "--kind", "exposed"]);
        audit["answer"]["findings"][0]["side_effects"]
            .as_str()
            .unwrap()
            .to_owned()
    };
    // Both rules act on the one machine; anybody means those inside too.
    assert!(
        side_effects(ESTATE)
            .ends_with("Deleting also blocks traffic from inside. Applies to 1 interface.")
    );
    let outside = ESTATE.replace(
        "services: tcp 443, peers: any",
        "services: tcp 443, peers: internet",
    );
    assert!(
        side_effects(&outside)
            .ends_with("No traffic from inside uses them. Applies to 1 interface.")
    );
    let one = ESTATE.replace(
        "  - { id: feed, services: tcp 8080, peers: \"set:partners\", description: feed }\n",
        "",
    );
    let two = one.replace("groups: db }", "groups: [db, web] }");
    assert!(
        side_effects(&one).contains("Applies to 1 interface.")
            && side_effects(&two).contains("Applies to 2 interfaces.")
    );
    let demo = Folder::with_demo();
    let (_, audit) = demo.json(&["audit", "-e", "marrowfen-ferries"]);
    for finding in audit["answer"]["findings"].as_array().unwrap() {
        assert!(
            !finding["side_effects"].as_str().unwrap().is_empty(),
            "{finding}"
        );
    }
    // A rule that is dead goes for nothing, one that opens a port has its interfaces.
    let of = |kind: &str| {
        let all = audit["answer"]["findings"].as_array().unwrap().iter();
        all.filter(|one| one["kind"] == kind)
            .map(|one| one["side_effects"].as_str().unwrap().to_owned())
            .next()
            .unwrap()
    };
    assert_eq!(of("redundant"), "None.");
    assert!(
        of("any-source").ends_with(" Applies to 2 interfaces."),
        "{}",
        of("any-source")
    );
}
