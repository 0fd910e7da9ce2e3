//! Where something occurs: an address, a prefix, a name of the snapshot, a tag, a DNS name.

mod addresses;
mod named;
mod plan;
mod uses;

pub use named::FindError;
pub use plan::{FreeBlock, PlanAnswer, PlanRow, plan};

use addresses::Search;
use heronshale_engine::fabric::Fabric;
use heronshale_model::source::Place;
use heronshale_sets::address::{Addresses, Block};
use serde::Serialize;

/// Where something occurs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Finds {
    /// What was looked for, as written.
    pub asked: String,
    /// Whether the internet may ask for it: public space that belongs to no network and no site of the estate.
    pub of_the_internet: bool,
    /// Where it occurs: records first, then sets, routes, rules.
    pub holdings: Vec<Holding>,
    /// Rules that hold an address because they are about any address, and are not listed.
    pub rules_about_any: usize,
    /// Of a DNS name what it resolves to: networks with the same answer together.
    pub resolves: Vec<ResolvesFact>,
}

/// One place where something occurs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Holding {
    /// `interface`, `public address`, `subnet`, `set`, `route`, `rule` …
    pub kind: String,
    /// What it is called.
    pub name: String,
    /// By which of its parts it holds or names what was looked for.
    pub by: String,
    /// Where it stands.
    pub place: Place,
}

/// What a DNS name resolves to, asked from some networks.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ResolvesFact {
    /// The networks that get this answer; `the public` for everybody else.
    pub asked_from: Vec<String>,
    /// The addresses; none if it does not resolve.
    pub addresses: Vec<String>,
    /// A zone that is missing from the snapshot and may answer otherwise.
    pub missing_zone: Option<String>,
    /// Who answers: `zone inside`, `the public`.
    pub by: String,
    /// The names of interfaces, balancers and doors that have these addresses.
    pub holders: Vec<String>,
}

/// Finds where something occurs.
///
/// # Errors
/// If the text is neither an address nor a prefix, and nothing in the snapshot bears it as a name.
pub fn find(view: &Fabric<'_>, text: &str) -> Result<Finds, FindError> {
    match text.trim().parse::<Block>() {
        Ok(block) => Ok(having(view, text, [block.range].into_iter().collect())),
        Err(_) => named::named(view, text),
    }
}

/// Everything that has some of these addresses.
fn having(view: &Fabric<'_>, text: &str, wanted: Addresses) -> Finds {
    let of_the_internet = wanted.is_subset(&view.internet_end());
    let mut search = Search {
        view,
        wanted,
        found: Vec::new(),
    };
    search.records();
    search.sets();
    search.routes();
    let rules_about_any = search.rules();
    Finds {
        asked: text.to_owned(),
        of_the_internet,
        holdings: search.found,
        rules_about_any,
        resolves: Vec::new(),
    }
}
