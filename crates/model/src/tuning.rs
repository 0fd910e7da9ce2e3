//! By what the audit measures: thresholds, sensitive ports and marks, as they are or as the user's configuration says.

use crate::estate::Name;
use heronshale_sets::address::Family;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;

/// Ports behind which a stranger does most harm, of one sort.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sensitive {
    /// What listens there.
    pub what: String,
    /// The services.
    pub services: Intervals,
}

/// What can be set.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Tuning {
    /// Sensitive ports by sort.
    pub sensitive: Vec<Sensitive>,
    /// From how many addresses on a range counts as wide; at least 1.
    pub empty_range_addresses: u128,
    /// A range counts as mostly empty if no more than one in so many addresses is held; at least 1.
    pub empty_range_share: u128,
    /// Tags that mark workloads whose data must not leave.
    pub marks: Vec<(Name, Name)>,
}

/// First and last port of each range.
type Ports = &'static [(u16, u16)];

/// Remote administration, data stores, cluster and container control, file shares: the ports that IANA's "Service Name and
/// Transport Protocol Port Number Registry" or common use gives them.
const USUAL: &[(&str, u8, Ports)] = &[
    (
        "remote administration",
        service::TCP,
        &[(22, 23), (3389, 3389), (5900, 5909), (5985, 5986)],
    ),
    (
        "data store",
        service::TCP,
        &[
            (1433, 1434),
            (1521, 1521),
            (3306, 3306),
            (5432, 5432),
            (5984, 5984),
            (6379, 6379),
            (9042, 9042),
            (9200, 9200),
            (9300, 9300),
            (11211, 11211),
            (27017, 27019),
        ],
    ),
    ("data store", service::UDP, &[(11211, 11211)]),
    (
        "cluster control",
        service::TCP,
        &[(2375, 2376), (2379, 2380), (6443, 6443), (10250, 10250)],
    ),
    (
        "file share",
        service::TCP,
        &[(111, 111), (139, 139), (445, 445), (873, 873), (2049, 2049)],
    ),
    ("device management", service::UDP, &[(161, 162)]),
];

impl Default for Tuning {
    fn default() -> Self {
        let span = |protocol: u8, (first, last): (u16, u16)| {
            (
                u128::from(service::code(protocol, first)),
                u128::from(service::code(protocol, last)),
            )
        };
        let sensitive = USUAL.iter().map(|(what, protocol, ports)| Sensitive {
            what: (*what).to_owned(),
            services: Intervals::from_spans(ports.iter().map(|ports| span(*protocol, *ports))),
        });
        Self {
            sensitive: sensitive.collect(),
            empty_range_addresses: 4_096,
            empty_range_share: 256,
            marks: vec![("data".into(), "restricted".into())],
        }
    }
}

impl Tuning {
    /// Which sensitive ports are among some services, in words: `tcp 22 (remote administration)`; of many sorts the first.
    pub fn among(&self, services: &Intervals) -> Option<String> {
        let mut found = Vec::new();
        for one in &self.sensitive {
            let here = services.intersection(&one.services);
            if !here.is_empty() {
                let texts = service::texts(Family::V4, &here);
                found.push(format!("{} ({})", texts.join(", "), one.what));
            }
        }
        match found.as_slice() {
            [] => None,
            [_, _, _, ..] => Some(format!("{} and others of {} sorts", found[0], found.len())),
            few => Some(few.join(", ")),
        }
    }
}
