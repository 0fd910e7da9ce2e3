//! The figure: every gateway by its id, no label on another, nothing too small; many networks fold.

use crate::folder::{Folder, HEADER};
use std::fmt::Write;

/// The numbers of an attribute in a tag.
fn number(tag: &str, name: &str) -> Option<f64> {
    let (_, rest) = tag.split_once(&format!(" {name}=\""))?;
    rest.split('"').next()?.parse().ok()
}

/// Rectangles of all labels, and the sizes of all texts.
fn drawn(svg: &str) -> (Vec<[f64; 4]>, Vec<f64>) {
    let tags: Vec<&str> = svg.split('<').collect();
    let labels = tags
        .iter()
        .filter(|tag| tag.starts_with("rect ") && tag.contains("rx=\"3\""));
    let of = |tag: &&str| ["x", "y", "width", "height"].map(|name| number(tag, name).unwrap());
    let sizes = tags
        .iter()
        .filter(|tag| tag.starts_with("text "))
        .map(|tag| number(tag, "font-size").unwrap());
    (labels.map(of).collect(), sizes.collect())
}

/// A company with so many networks, peered in a ring, each with a gateway.
fn many(networks: usize) -> String {
    let mut text =
        format!("{HEADER}estate: {{ name: ring, taken: 2026-11-02T06:00:00Z }}\nnetworks:\n");
    let mut say = |line: String| writeln!(text, "{line}").unwrap();
    (0..networks).for_each(|at| say(format!("- {{ id: net-{at}, blocks: [10.{at}.0.0/16] }}")));
    say("gateways:".to_owned());
    (0..networks).for_each(|at| {
        say(format!(
            "- {{ id: gate-{at}, kind: internet, network: net-{at} }}"
        ))
    });
    say("peerings:".to_owned());
    for at in 0..networks {
        say(format!(
            "- {{ id: ring-{at}, sides: [{{ network: net-{at} }}, {{ network: net-{} }}] }}",
            (at + 1) % networks
        ));
    }
    say("subnets:".to_owned());
    (0..networks).for_each(|at| {
        say(format!(
            "- {{ id: sub-{at}, network: net-{at}, blocks: [10.{at}.1.0/24] }}"
        ))
    });
    text
}

#[test]
fn a_figure_names_every_gateway_and_no_label_lies_on_another() {
    for (estate, gateways, folded) in [
        (
            None,
            [
                "cargo-internet",
                "office-internet",
                "quay-dockyard",
                "tickets-nat",
                "tickets-out6",
            ]
            .map(str::to_owned)
            .to_vec(),
            false,
        ),
        (
            Some(many(30)),
            (0..30).map(|at| format!("gate-{at} ")).collect(),
            false,
        ),
        (
            Some(many(45)),
            (0..45).map(|at| format!("gate-{at} ")).collect(),
            true,
        ),
    ] {
        let folder = estate.map_or_else(Folder::with_demo, |text| Folder::with(&text));
        let path = if folder.path().join("estate.yaml").exists() {
            "estate.yaml"
        } else {
            "marrowfen-ferries"
        };
        folder
            .run(&["inventory", "--figure", "drawn.svg", "-e", path])
            .ok();
        let svg = folder.read("drawn.svg");
        let (labels, sizes) = drawn(&svg.replace(">\n", ">"));
        for gateway in &gateways {
            assert!(
                svg.replace(['\n', ' '], "")
                    .contains(&gateway.replace(' ', "·")),
                "{gateway} is missing"
            );
        }
        assert!(
            sizes.iter().all(|size| *size >= 11.0) && sizes.len() > 20,
            "{sizes:?}"
        );
        assert!(svg.contains("width=\"1280\"") && labels.len() >= gateways.len());
        for (at, [x, y, width, height]) in labels.iter().enumerate() {
            assert!(x + width <= 1280.0, "a label leaves the figure");
            for [x2, y2, width2, height2] in &labels[at + 1..] {
                let apart = x + width <= *x2
                    || x2 + width2 <= *x
                    || y + height <= *y2
                    || y2 + height2 <= *y;
                assert!(apart, "labels at {x},{y} and {x2},{y2} overlap");
            }
        }
        assert_eq!(svg.contains("networks folded"), folded);
        assert_eq!(svg.contains("sub-0"), !folded && path == "estate.yaml");
        // Nothing is overwritten that says something else.
        folder.write("drawn.svg", "mine");
        assert!(
            folder
                .run(&["inventory", "--figure", "drawn.svg", "-e", path])
                .fails(2)
                .contains("--force")
        );
        folder
            .run(&["inventory", "--figure", "drawn.svg", "--force", "-e", path])
            .ok();
        assert_eq!(folder.read("drawn.svg"), svg);
    }
}
