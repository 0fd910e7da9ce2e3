//! Services of which little harm comes.

use crate::packet::{Intervals, service};

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
