//! Ports behind which a stranger does most harm.

use crate::packet::{Intervals, service};

/// One group of ports.
pub struct Sensitive {
    /// What listens there.
    pub what: &'static str,
    /// The protocol number.
    pub protocol: u8,
    /// Ports, first and last.
    pub ports: &'static [(u16, u16)],
}

/// Remote administration, data stores, cluster and container control, file shares: the ports that IANA's "Service Name and
/// Transport Protocol Port Number Registry" or common use gives them.
pub const SENSITIVE: &[Sensitive] = &[
    Sensitive {
        what: "remote administration",
        protocol: service::TCP,
        ports: &[(22, 23), (3389, 3389), (5900, 5909), (5985, 5986)],
    },
    Sensitive {
        what: "data store",
        protocol: service::TCP,
        ports: &[
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
    },
    Sensitive { what: "data store", protocol: service::UDP, ports: &[(11211, 11211)] },
    Sensitive {
        what: "cluster control",
        protocol: service::TCP,
        ports: &[(2375, 2376), (2379, 2380), (6443, 6443), (10250, 10250)],
    },
    Sensitive {
        what: "file share",
        protocol: service::TCP,
        ports: &[(111, 111), (139, 139), (445, 445), (873, 873), (2049, 2049)],
    },
    Sensitive { what: "device management", protocol: service::UDP, ports: &[(161, 162)] },
];

/// Which sensitive ports are among some services, in words: `tcp 22 (remote administration)`; of many sorts the first.
pub(super) fn among(services: &Intervals) -> Option<String> {
    let mut found = Vec::new();
    for one in SENSITIVE {
        let spans = one.ports.iter().map(|(first, last)| {
            (u128::from(service::code(one.protocol, *first)), u128::from(service::code(one.protocol, *last)))
        });
        let here = services.intersection(&Intervals::from_spans(spans));
        if !here.is_empty() {
            let texts = service::texts(crate::address::Family::V4, &here);
            found.push(format!("{} ({})", texts.join(", "), one.what));
        }
    }
    match found.as_slice() {
        [] => None,
        [_, _, _, ..] => Some(format!("{} and others of {} sorts", found[0], found.len())),
        few => Some(few.join(", ")),
    }
}

/// Whether some services are nothing but the web: TCP 80 and 443, UDP 443.
pub(super) fn only_web(services: &Intervals) -> bool {
    let web = [(service::TCP, 80), (service::TCP, 443), (service::UDP, 443)];
    let spans = web
        .map(|(protocol, port)| (u128::from(service::code(protocol, port)), u128::from(service::code(protocol, port))));
    !services.is_empty() && services.is_subset(&Intervals::from_spans(spans))
}

/// Whether some services are nothing but ICMP.
pub(super) fn only_icmp(services: &Intervals) -> bool {
    !services.is_empty() && services.is_subset(&service::whole(service::ICMP).union(&service::whole(service::ICMPV6)))
}
