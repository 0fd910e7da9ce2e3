//! The sections of a snapshot file: which record each holds, and the collected items of all files.

use crate::files::{MISCOUNTED, miscounted};
use crate::reading::{Definitions, Reading, Written, did_you_mean};
use crate::tree::{Node, Scalar, Sink, Value};
use crate::written::*;
use heronshale_model::estate::Name;
use heronshale_model::source::{FileId, Origin, Span};
use serde_json::{Value as Json, json};

/// An item and where it stands.
pub(crate) type Item<T> = (Origin, T);

macro_rules! sections {
    ($( $(#[doc = $doc:literal])+ $section:ident : $record:ty ),* $(,)?) => {
        /// The items of all files, section by section.
        #[derive(Default)]
        pub(crate) struct Collected {
            pub estates: Vec<Item<WrittenEstate>>,
            $( $(#[doc = $doc])+ pub $section: Vec<Item<$record>>, )*
            /// Section and id of items that could not be read: whoever names them is not to blame.
            pub broken: Vec<(&'static str, Name)>,
        }

        const SECTIONS: &[&str] = &["format", "version", "holds", "estate", $(stringify!($section)),*];

        impl Collected {
            fn collect(&mut self, section: &'static str, item: u32, node: &Node<'_>, at: &mut Reading) {
                let origin = Origin { span: node.span, section, item, within: None };
                match section {
                    $( stringify!($section) => {
                        match <$record as Written>::read(node, at) {
                            Some(read) => self.$section.push((origin, read)),
                            None => self.broken.extend(id_of(node).map(|id| (section, id))),
                        }
                    } )*
                    _ => {}
                }
            }

            /// How many items each section has.
            pub fn lengths(&self) -> Vec<usize> {
                vec![self.estates.len(), $(self.$section.len()),*]
            }

            /// Forgets what came after [`Self::lengths`].
            pub fn forget_after(&mut self, lengths: &[usize]) {
                let mut lengths = lengths.iter().copied();
                let mut next = || lengths.next().unwrap_or(0);
                self.estates.truncate(next());
                $( self.$section.truncate(next()); )*
            }
        }

        /// The JSON Schema (draft 2020-12) of a snapshot file.
        pub fn snapshot_schema() -> Json {
            let mut definitions = Definitions::new();
            let mut properties = serde_json::Map::new();
            properties.insert("format".into(), json!({ "const": FORMAT, "description": "Marks the file as part of a snapshot." }));
            properties.insert("version".into(), json!({ "const": VERSION, "description": "The version of the format." }));
            let holds = "How many objects the file holds, those of all its sections together: a file that was cut is refused then.";
            properties.insert("holds".into(), json!({ "type": "integer", "minimum": 0, "description": holds }));
            properties.insert("estate".into(), <WrittenEstate as Written>::schema(&mut definitions));
            $(
                let item = <$record as Written>::schema(&mut definitions);
                let description = concat!($($doc, "\n",)+).trim();
                let list = json!({ "type": "array", "items": item, "description": description });
                properties.insert(stringify!($section).to_owned(), list);
            )*
            json!({
                "$schema": "https://json-schema.org/draft/2020-12/schema",
                "title": "Heronshale snapshot, version 1",
                "description": "One file of a snapshot. Several files in a folder are one estate.",
                "type": "object", "properties": properties, "required": ["format", "version"],
                "additionalProperties": false, "$defs": definitions,
            })
        }
    };
}

sections! {
    /// Shared settings.
    conducts: WrittenConduct,
    /// Who changes what.
    owners: WrittenOwner,
    /// Parts of the estate, for scope policies.
    divisions: WrittenDivision,
    /// Virtual networks.
    networks: WrittenNetwork,
    /// Parts of networks.
    subnets: WrittenSubnet,
    /// What runs behind interfaces.
    workloads: WrittenWorkload,
    /// Network cards.
    interfaces: WrittenInterface,
    /// Public addresses and who holds them.
    public_addresses: WrittenPublicAddress,
    /// Named lists of prefixes.
    address_sets: WrittenAddressSet,
    /// Security groups.
    security_groups: WrittenGroup,
    /// Network ACLs.
    network_acls: WrittenAcl,
    /// Scope policies.
    scope_policies: WrittenPolicy,
    /// Workloads' own firewalls.
    own_firewalls: WrittenOwnFirewall,
    /// Route tables.
    route_tables: WrittenTable,
    /// Gateways.
    gateways: WrittenGateway,
    /// Peerings.
    peerings: WrittenPeering,
    /// On-premises sites.
    sites: WrittenSite,
    /// Inline devices.
    firewalls: WrittenFirewall,
    /// What firewalls let through.
    firewall_policies: WrittenFirewallPolicy,
    /// Load balancers.
    balancers: WrittenBalancer,
    /// Platform services.
    services: WrittenService,
    /// Transit routers.
    hubs: WrittenHub,
    /// Named lists of DNS names.
    name_sets: WrittenNameSet,
    /// Private DNS zones.
    dns_zones: WrittenZone,
    /// Public DNS records.
    public_names: WrittenRecord,
    /// What is missing from the snapshot.
    gaps: WrittenGap,
}

/// The sections that hold lists of objects.
pub(crate) fn sections() -> impl Iterator<Item = &'static str> {
    SECTIONS
        .iter()
        .copied()
        .filter(|name| !["format", "version", "holds", "estate"].contains(name))
}

/// All sections in the order in which they are documented, the estate first.
pub fn snapshot_sections() -> impl Iterator<Item = &'static str> {
    std::iter::once("estate").chain(sections())
}

/// The section of a name.
pub(crate) fn section_named(name: &str) -> Option<&'static str> {
    sections().find(|section| *section == name)
}

/// Reads one object of a section, or the estate, and keeps only what is wrong with it.
pub(crate) fn check(section: &'static str, node: &Node<'_>, at: &mut Reading) {
    if section == "estate" {
        WrittenEstate::read(node, at);
    } else {
        Collected::default().collect(section, 0, node, at);
    }
}

/// The id of an item that could not be read as a whole.
fn id_of(node: &Node<'_>) -> Option<Name> {
    let Value::Map(fields) = &node.value else {
        return None;
    };
    fields
        .iter()
        .find_map(|(key, value)| match (&key.value, &value.value) {
            (Value::Scalar(_, key), Value::Scalar(_, id)) if key == "id" => {
                Some(id.as_ref().into())
            }
            (Value::Scalar(_, key), _) => key.strip_prefix("id:").map(Into::into),
            _ => None,
        })
}

/// Takes one file's fields into the collected items.
pub(crate) struct FileSink<'c> {
    pub collected: &'c mut Collected,
    pub reading: Reading,
    /// Whether the header names this format; its version has been judged then.
    pub is_snapshot: bool,
    version: Option<Span>,
    holds: Option<(u32, Span)>,
    current: Option<&'static str>,
    seen: Vec<&'static str>,
    start: Span,
}

impl<'c> FileSink<'c> {
    pub fn new(collected: &'c mut Collected, file: FileId) -> Self {
        let start = Span {
            file,
            start: 0,
            end: 0,
        };
        Self {
            collected,
            reading: Reading::default(),
            is_snapshot: false,
            version: None,
            holds: None,
            current: None,
            seen: Vec::new(),
            start,
        }
    }

    /// Judges the header once the file is read.
    pub fn finish(&mut self) {
        if !self.is_snapshot {
            let help = Some(format!(
                "begin it with `format: {FORMAT}` and `version: {VERSION}`"
            ));
            self.reading.fail(
                self.start,
                "this file is not a snapshot: it has no header".to_owned(),
                "here",
                help,
            );
        } else if self.version.is_none() {
            let help = Some(format!("write `version: {VERSION}`"));
            self.reading.fail(
                self.start,
                "the header needs the field `version`".to_owned(),
                "in this file",
                help,
            );
        }
    }

    /// Whether the file holds as many objects as it says, once it is read.
    pub fn count(&mut self, before: &[usize]) {
        // The estate itself is not an entry. What could not be read is told by itself.
        let now = self.collected.lengths();
        let found: usize = now
            .iter()
            .zip(before)
            .skip(1)
            .map(|(now, before)| now - before)
            .sum();
        let Some((said, span)) = self.holds.filter(|_| self.reading.problems.is_empty()) else {
            return;
        };
        if usize::try_from(said) != Ok(found) {
            self.reading.fail(
                span,
                miscounted(said, found),
                "here",
                Some(MISCOUNTED.to_owned()),
            );
        }
    }

    fn header(&mut self, section: &str, node: &Node<'_>) {
        let scalar = match &node.value {
            Value::Scalar(kind, text) => Some((*kind, text.as_ref())),
            _ => None,
        };
        match (section, scalar) {
            ("format", Some((Scalar::Text, FORMAT))) => self.is_snapshot = true,
            ("version", Some((Scalar::Number, text))) if text == VERSION.to_string() => {
                self.version = Some(node.span)
            }
            ("version", Some((Scalar::Number, _))) => {
                self.version = Some(node.span);
                let title = format!("this program reads version {VERSION} of the format");
                self.reading.fail(node.span, title, "another version", None);
            }
            ("holds", Some((Scalar::Number, text))) if text.parse::<u32>().is_ok() => {
                self.holds = text.parse().ok().map(|said| (said, node.span));
            }
            ("holds", _) => self.reading.expected(
                node,
                "how many objects the file holds, a whole number",
                None,
            ),
            ("version", _) => {
                self.version = Some(node.span);
                self.reading
                    .expected(node, "the version, a whole number", None);
            }
            _ => {
                self.is_snapshot = true;
                let help = Some(format!("write `format: {FORMAT}`"));
                self.reading.fail(
                    node.span,
                    "the field `format` names another format".to_owned(),
                    "here",
                    help,
                );
            }
        }
    }
}

impl Sink for FileSink<'_> {
    fn field(&mut self, key: &Node<'_>) {
        self.current = None;
        let Value::Scalar(_, name) = &key.value else {
            return;
        };
        let Some(section) = SECTIONS.iter().find(|section| *section == name) else {
            let all = format!("the fields of a snapshot are {}", SECTIONS.join(", "));
            let help = did_you_mean(name, SECTIONS.iter().copied()).unwrap_or(all);
            self.reading.fail(
                key.span,
                format!("a snapshot has no field `{name}`"),
                "unknown field",
                Some(help),
            );
            return;
        };
        if self.seen.contains(section) {
            self.reading.fail(
                key.span,
                format!("the field `{name}` appears twice"),
                "a second time",
                None,
            );
            return;
        }
        self.seen.push(section);
        self.current = Some(section);
    }

    fn item(&mut self, index: Option<u32>, node: &Node<'_>) {
        let Some(section) = self.current else { return };
        match (section, index) {
            ("format" | "version" | "holds", _) => self.header(section, node),
            ("estate", None) => {
                let origin = Origin {
                    span: node.span,
                    section,
                    item: 0,
                    within: None,
                };
                if let Some(read) = WrittenEstate::read(node, &mut self.reading) {
                    self.collected.estates.push((origin, read));
                }
            }
            ("estate", Some(_)) => self
                .reading
                .expected(node, "the estate, a map of fields", None),
            (_, Some(item)) => self
                .collected
                .collect(section, item, node, &mut self.reading),
            (_, None) if matches!(&node.value, Value::Scalar(Scalar::Null, _)) => {}
            (_, None) => {
                let help = matches!(node.value, Value::Map(_))
                    .then(|| "begin each with a dash: `- { id: …`".to_owned());
                self.reading
                    .expected(node, &format!("a list of {section}"), help);
            }
        }
    }
}
