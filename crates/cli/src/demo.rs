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
