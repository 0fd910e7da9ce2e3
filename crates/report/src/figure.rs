//! The estate as a figure in SVG 1.1: boxes in a column, their links as lanes beside it.
//!
//! Every label has a row of its own, so that none can lie on another. Lanes are given out as to intervals: a link gets the first that is free
//! between its two ends.

use heronshale_answers::{
    BoxKind, Figure, FigureBox, FigureLink, FigureLinkKind, FigureRow, Heading, RowKind,
};
use heronshale_audit::describe::moment_text;
use svg::Document;
use svg::node::element::{Group, Line, Path, Rectangle, Text};

const WIDTH: f64 = 1280.0;
const MARGIN: f64 = 20.0;
/// The right edge of boxes.
const EDGE: f64 = 740.0;
/// The right edge of the labels of links.
const LABELS: f64 = 1020.0;
const ROW: f64 = 18.0;
const GAP: f64 = 14.0;
const SIZE: f64 = 12.0;

/// What a box looks like: fill, line, and the word before its name.
fn look(kind: BoxKind) -> (&'static str, &'static str, &'static str) {
    match kind {
        BoxKind::Internet => ("#fdeef8", "#a3187c", ""),
        BoxKind::Network => ("#f4f7fb", "#33527a", "network "),
        BoxKind::Hub => ("#edf7f0", "#2c7a4b", "hub "),
        BoxKind::Site => ("#f9f3ea", "#8a5a14", "site "),
        BoxKind::Service => ("#f3effa", "#5f3f99", "service "),
        BoxKind::Gap => ("#f2f2f2", "#6b6b6b", ""),
    }
}

fn colour(kind: FigureLinkKind) -> &'static str {
    match kind {
        FigureLinkKind::Gateway => "#a3187c",
        FigureLinkKind::Peering => "#33527a",
        FigureLinkKind::Hub => "#2c7a4b",
        FigureLinkKind::Site => "#8a5a14",
        FigureLinkKind::Door => "#5f3f99",
    }
}

/// How wide a letter is at most, in its size: those of DejaVu Sans, which is wider than most.
fn letter(sign: char, bold: bool) -> f64 {
    let width = match sign {
        'i' | 'l' | 'j' | '.' | ',' | ':' | ' ' | '·' => 0.33,
        'f' | 't' | 'r' | '/' | '-' => 0.42,
        'm' | 'w' | 'M' | 'W' | '…' => 1.0,
        sign if sign.is_uppercase() => 0.72,
        _ => 0.64,
    };
    if bold { width * 1.1 } else { width }
}

/// As much of a text as fits a width, in pixels.
fn fitted(text: &str, width: f64, bold: bool) -> String {
    if long(text, bold) <= width {
        return text.to_owned();
    }
    let mut room = width / SIZE - letter('…', bold);
    let mut out = String::new();
    for sign in text.chars() {
        room -= letter(sign, bold);
        if room < 0.0 {
            break;
        }
        out.push(sign);
    }
    out.trim_end_matches([' ', ',', '·']).to_owned() + "…"
}

fn long(text: &str, bold: bool) -> f64 {
    text.chars().map(|sign| letter(sign, bold) * SIZE).sum()
}

fn text(x: f64, y: f64, content: &str, fill: &str, weight: &str) -> Text {
    Text::new(crate::harmless_text(content))
        .set("x", x)
        .set("y", y)
        .set("font-size", SIZE)
        .set("font-weight", weight.to_owned())
        .set("fill", fill.to_owned())
}

/// A box with its place, and where its links begin.
struct Placed {
    top: f64,
    height: f64,
    /// For each link end here: the link, which of its ends, and the height of its row.
    ports: Vec<(usize, usize, f64)>,
}

fn place(figure: &Figure, from: f64) -> Vec<Placed> {
    let mut ends: Vec<Vec<(usize, usize)>> = vec![Vec::new(); figure.boxes.len()];
    for (at, link) in figure.links.iter().enumerate() {
        for (side, place) in link.ends.iter().enumerate() {
            // What has no label of its own needs no row: the box itself is meant.
            if !link.labels[side].is_empty() {
                ends[*place].push((at, side));
            }
        }
    }
    let mut top = from;
    let mut all = Vec::with_capacity(figure.boxes.len());
    for (one, ends) in figure.boxes.iter().zip(ends) {
        let rows = one.rows.len().max(ends.len()) + 1;
        let height = (0..rows).map(|_| ROW).sum::<f64>() + 12.0;
        let mut ports = Vec::new();
        let mut at = top + 6.0 + if ends.len() < rows { ROW } else { 0.0 };
        for (link, side) in ends {
            ports.push((link, side, at + ROW / 2.0));
            at += ROW;
        }
        all.push(Placed { top, height, ports });
        top += height + GAP;
    }
    all
}

fn row(group: Group, row: &FigureRow, y: f64) -> Group {
    let (word, fill, weight) = match row.kind {
        RowKind::Subnet => ("subnet ", "#1d2733", "normal"),
        RowKind::Firewall => ("firewall ", "#9a3d00", "bold"),
        RowKind::Balancer => ("balancer ", "#1d2733", "normal"),
        RowKind::Plain => ("", "#1d2733", "normal"),
        RowKind::Around => ("around the firewall: ", "#b3002d", "bold"),
    };
    let public = match row.public.as_slice() {
        [] => String::new(),
        [one] => format!("public {one}"),
        [one, rest @ ..] => format!("public {one} and {} more", rest.len()),
    };
    let right = EDGE
        - 10.0
        - if public.is_empty() {
            0.0
        } else {
            long(&public, true) + 22.0
        };
    let name = if row.name.is_empty() {
        String::new()
    } else {
        format!("{}: ", row.name)
    };
    let words = fitted(
        &format!("{word}{name}{}", row.detail),
        right - MARGIN - 14.0,
        weight == "bold",
    );
    let mut group = group;
    if row.kind == RowKind::Firewall {
        group = group.add(
            Rectangle::new()
                .set("x", MARGIN + 6.0)
                .set("y", y - 13.0)
                .set("width", EDGE - MARGIN - 12.0)
                .set("height", ROW - 1.0)
                .set("fill", "#ffe9d6"),
        );
    }
    group = group.add(text(MARGIN + 12.0, y, &words, fill, weight));
    if !public.is_empty() {
        let x = EDGE - 10.0 - long(&public, true) - 14.0;
        group = group
            .add(
                Rectangle::new()
                    .set("x", x)
                    .set("y", y - 12.0)
                    .set("width", long(&public, true) + 14.0)
                    .set("height", ROW - 3.0)
                    .set("rx", 3)
                    .set("fill", "#a3187c"),
            )
            .add(text(x + 7.0, y, &public, "#ffffff", "bold"));
    }
    group
}

fn drawn(one: &FigureBox, placed: &Placed) -> Group {
    let (fill, line, word) = look(one.kind);
    let mut group = Group::new().add(
        Rectangle::new()
            .set("x", MARGIN)
            .set("y", placed.top)
            .set("width", EDGE - MARGIN)
            .set("height", placed.height)
            .set("rx", 4)
            .set("fill", fill)
            .set("stroke", line)
            .set("stroke-width", 1.5),
    );
    let title = format!("{word}{}", one.name);
    let y = placed.top + ROW;
    group = group.add(text(
        MARGIN + 10.0,
        y,
        &fitted(&title, 300.0, true),
        line,
        "bold",
    ));
    let x = MARGIN + 10.0 + long(&title, true).min(300.0) + 14.0;
    group = group.add(text(
        x,
        y,
        &fitted(&one.detail, EDGE - 10.0 - x, false),
        "#51606f",
        "normal",
    ));
    let mut y = y;
    for one in &one.rows {
        y += ROW;
        group = row(group, one, y);
    }
    group
}

/// Whether a link leads to the internet, and works.
fn to_internet(link: &FigureLink) -> bool {
    link.kind == FigureLinkKind::Gateway && link.up
}

/// For each link the lane that it runs in, and how many lanes there are.
fn lanes(figure: &Figure, heights: &[[f64; 2]]) -> (Vec<usize>, usize) {
    let mut order: Vec<usize> = (0..figure.links.len()).collect();
    let span = |at: usize| (heights[at][0] - heights[at][1]).abs();
    order.sort_by(|a, b| span(*a).total_cmp(&span(*b)).then(a.cmp(b)));
    let mut taken: Vec<Vec<[f64; 2]>> = Vec::new();
    let mut lane = vec![0; figure.links.len()];
    // All that leads to the internet shares one lane, the last.
    for at in order
        .iter()
        .copied()
        .filter(|at| !to_internet(&figure.links[*at]))
    {
        let [a, b] = heights[at];
        let (low, high) = (a.min(b) - 4.0, a.max(b) + 4.0);
        let free = |spans: &Vec<[f64; 2]>| spans.iter().all(|[from, to]| high < *from || low > *to);
        let found = taken.iter().position(free).unwrap_or_else(|| {
            taken.push(Vec::new());
            taken.len() - 1
        });
        taken[found].push([low, high]);
        lane[at] = found;
    }
    for at in order
        .into_iter()
        .filter(|at| to_internet(&figure.links[*at]))
    {
        lane[at] = taken.len();
    }
    (lane, taken.len() + 1)
}

fn link_line(link: &FigureLink, from: [f64; 2], x: f64) -> Path {
    let start = |side: usize| {
        if link.labels[side].is_empty() {
            EDGE
        } else {
            LABELS
        }
    };
    let path = format!(
        "M{} {:.1} H{x:.1} V{:.1} H{}",
        start(0),
        from[0],
        from[1],
        start(1)
    );
    let line = Path::new()
        .set("d", path)
        .set("fill", "none")
        .set("stroke-width", 1.6)
        .set("stroke-linejoin", "round");
    if link.up {
        line.set("stroke", colour(link.kind))
    } else {
        line.set("stroke", "#8a8a8a").set("stroke-dasharray", "5 4")
    }
}

/// The figure as an SVG document.
pub fn figure(figure: &Figure, heading: &Heading) -> String {
    let placed = place(figure, 84.0);
    let bottom = placed.last().map_or(100.0, |last| last.top + last.height);
    // Ends without a label of their own stand at the right edge of their box, below one another.
    let mut heights: Vec<[f64; 2]> = vec![[0.0; 2]; figure.links.len()];
    for (place, one) in placed.iter().enumerate() {
        for (link, side, y) in &one.ports {
            heights[*link][*side] = *y;
        }
        let bare: Vec<(usize, usize)> = figure
            .links
            .iter()
            .enumerate()
            .flat_map(|(at, link)| {
                (0..2)
                    .filter(move |side| link.ends[*side] == place && link.labels[*side].is_empty())
                    .map(move |side| (at, side))
            })
            .collect();
        let bus = one.top + one.height / 2.0;
        let mut y = one.top;
        let step = one.height / (bare.iter().map(|_| 1.0).sum::<f64>() + 1.0);
        for (link, side) in bare {
            y += step;
            heights[link][side] = if to_internet(&figure.links[link]) {
                bus
            } else {
                y
            };
        }
    }
    let (lane, count) = lanes(figure, &heights);
    let lanes: f64 = (0..count).map(|_| 1.0).sum();
    let width = ((WIDTH - MARGIN - LABELS - 12.0) / lanes.max(1.0)).min(16.0);
    let mut document = Document::new()
        .set("viewBox", (0, 0, 1280, (bottom + MARGIN).ceil()))
        .set("width", 1280)
        .set("height", (bottom + MARGIN).ceil())
        .set("font-family", "DejaVu Sans, Verdana, sans-serif")
        .add(
            Rectangle::new()
                .set("width", "100%")
                .set("height", "100%")
                .set("fill", "#ffffff"),
        );
    let date = heading.taken.as_ref().map_or_else(
        || "of no date".to_owned(),
        |taken| format!("as of {}", moment_text(taken)),
    );
    let size = &heading.size;
    let title = format!(
        "{} {date} · {} networks, {} interfaces",
        heading.estate, size.networks, size.interfaces
    );
    let folded = if figure.folded {
        " · networks folded: gateways, links and counts only"
    } else {
        ""
    };
    document = document.add(text(MARGIN, 28.0, &fitted(&title, 900.0, true), "#1d2733", "bold")).add(text(
        MARGIN,
        48.0,
        &format!("Boxes: what there is; beside each its gateways and links, led to the other end by a line{folded}"),
        "#51606f",
        "normal",
    ));
    let legend = [
        (FigureLinkKind::Gateway, "to the internet"),
        (FigureLinkKind::Peering, "peering"),
        (FigureLinkKind::Hub, "hub link"),
        (FigureLinkKind::Site, "site gateway"),
        (FigureLinkKind::Door, "private door"),
    ];
    let mut x = MARGIN;
    for (kind, words) in legend {
        document = document
            .add(
                Line::new()
                    .set("x1", x)
                    .set("x2", x + 24.0)
                    .set("y1", 64.0)
                    .set("y2", 64.0)
                    .set("stroke", colour(kind))
                    .set("stroke-width", 2.5),
            )
            .add(text(x + 30.0, 68.0, words, "#1d2733", "normal"));
        x += 46.0 + long(words, false);
    }
    document = document
        .add(
            Line::new()
                .set("x1", x)
                .set("x2", x + 24.0)
                .set("y1", 64.0)
                .set("y2", 64.0)
                .set("stroke", "#8a8a8a")
                .set("stroke-width", 2.5)
                .set("stroke-dasharray", "5 4"),
        )
        .add(text(
            x + 30.0,
            68.0,
            "down, or not attached",
            "#1d2733",
            "normal",
        ));
    for (at, link) in figure.links.iter().enumerate() {
        let x = LABELS + 12.0 + (0..lane[at]).map(|_| width).sum::<f64>();
        document = document.add(link_line(link, heights[at], x));
    }
    for (one, placed) in figure.boxes.iter().zip(&placed) {
        document = document.add(drawn(one, placed));
        for (link, side, y) in &placed.ports {
            let of = &figure.links[*link];
            let fill = if of.up { colour(of.kind) } else { "#6b6b6b" };
            document = document
                .add(
                    Line::new()
                        .set("x1", EDGE)
                        .set("x2", EDGE + 8.0)
                        .set("y1", *y)
                        .set("y2", *y)
                        .set("stroke", fill)
                        .set("stroke-width", 1.6),
                )
                .add(
                    Rectangle::new()
                        .set("x", EDGE + 8.0)
                        .set("y", y - 8.5)
                        .set("width", LABELS - EDGE - 8.0)
                        .set("height", ROW - 1.0)
                        .set("fill", "#ffffff")
                        .set("stroke", fill)
                        .set("stroke-width", 0.8)
                        .set("rx", 3),
                )
                .add(text(
                    EDGE + 14.0,
                    y + 4.0,
                    &fitted(&of.labels[*side], LABELS - EDGE - 22.0, false),
                    fill,
                    "normal",
                ));
        }
    }
    format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n{document}\n")
}
