//! Documents as a server tells them: in pages, to those with a token.

use super::{Documents, REAL, imported};
use crate::folder::Folder;
use serde_json::{Value, json};

/// Answers as the API does: lists in pages of three with links, 404 where an extension is not there, 401 without the token.
fn serve(documents: Documents, lacks: &'static [&'static str]) -> String {
    use std::io::{BufRead, BufReader, Write};
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let url = format!("http://{}/v2.0", listener.local_addr().unwrap());
    let own = url.clone();
    let answer = move |target: &str, token: bool| -> (&str, Value) {
        let (path, query) = target.split_once('?').unwrap_or((target, ""));
        let name = path.rsplit('/').next().unwrap().replace('_', "-");
        if !token {
            return ("401 Unauthorized", json!({ "error": "token" }));
        }
        if lacks.contains(&name.as_str()) {
            return (
                "404 Not Found",
                json!({ "message": "The resource could not be found." }),
            );
        }
        let key = name.replace('-', "_");
        let Some(all) = documents
            .get(&name)
            .and_then(|document| document[&key].as_array())
        else {
            return ("200 OK", json!({ key: [] }));
        };
        let marker = query
            .split('&')
            .find_map(|part| part.strip_prefix("marker="));
        let from = marker.map_or(0, |marker| {
            all.iter().position(|one| one["id"] == marker).unwrap() + 1
        });
        let page = &all[from..(from + 3).min(all.len())];
        let mut links =
            vec![json!({ "rel": "previous", "href": format!("{own}{path}?page_reverse=True") })];
        if from + 3 < all.len() {
            let last = page[2]["id"].as_str().unwrap();
            links.insert(place_of_link(from), json!({ "rel": "next", "href": format!("{}{}?limit=3&marker={last}", own, path.trim_start_matches("/v2.0")) }));
        }
        (
            "200 OK",
            json!({ &key: page, format!("{key}_links"): links }),
        )
    };
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let mut stream = stream.unwrap();
            let mut lines = BufReader::new(stream.try_clone().unwrap())
                .lines()
                .map_while(Result::ok);
            let Some(first) = lines.next() else { continue };
            let head: Vec<String> = lines
                .take_while(|line| !line.is_empty())
                .map(|line| line.to_lowercase())
                .collect();
            let token = head.contains(&"x-auth-token: gannet".to_owned());
            let (status, body) = answer(first.split(' ').nth(1).unwrap(), token);
            let body = body.to_string();
            let length = body.len();
            let told = format!(
                "HTTP/1.1 {status}\r\ncontent-type: application/json\r\ncontent-length: {length}\r\nconnection: close\r\n\r\n{body}"
            );
            let _ = stream.write_all(told.as_bytes());
        }
    });
    url
}

/// Where the link to the next page stands: now before, now behind that to the previous one.
fn place_of_link(at: usize) -> usize {
    (at / 3) % 2
}

#[test]
fn what_the_api_tells_in_pages_is_what_its_documents_say() {
    let documents: Documents = serde_json::from_str(REAL).unwrap();
    let lines = |folder: &Folder, name: &str| {
        let text = folder.read(name);
        let told = |line: &&str| !line.trim_start().starts_with('#') && !line.contains("taken: ");
        let mut lines: Vec<String> = text.lines().filter(told).map(str::to_owned).collect();
        lines.sort();
        lines
    };
    for lacks in [
        &[][..],
        &["firewall-groups", "firewall-policies", "firewall-rules"],
    ] {
        let mut there = documents.clone();
        there.retain(|name, _| !lacks.contains(&name.as_str()));
        let folder = imported(&there);
        let url = serve(documents.clone(), lacks);
        let import = [
            "import",
            "--profile",
            "openstack",
            "--url",
            &url,
            "--collect",
            "kept",
            "--into",
            "live.yaml",
        ];
        let run = folder.run_with(&import, &[("OS_TOKEN", "gannet")]);
        assert_eq!(run.code, 0, "{}", run.stderr);
        assert_eq!(lines(&folder, "live.yaml"), lines(&folder, "snap.yaml"));
    }
    // Without a token that counts nothing is written, and what is not an extension has to be there.
    for (lacks, token, status) in [
        (&[][..], "puffin", "401"),
        (&["routers"][..], "gannet", "404"),
    ] {
        let folder = Folder::new();
        let url = serve(documents.clone(), lacks);
        let import = [
            "import",
            "--profile",
            "openstack",
            "--url",
            &url,
            "--collect",
            "kept",
            "--into",
            "live.yaml",
        ];
        let run = folder.run_with(&import, &[("OS_TOKEN", token)]);
        assert!(
            run.code == 4 && run.stderr.contains(&format!("status {status}")),
            "{}",
            run.stderr
        );
        assert!(!folder.path().join("live.yaml").exists());
    }
}
