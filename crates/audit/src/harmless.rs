//! Services of which little harm comes.

use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;

/// Whether some services are nothing but the web: TCP 80 and 443, UDP 443.
pub(crate) fn only_web(services: &Intervals) -> bool {
    let web = [(service::TCP, 80), (service::TCP, 443), (service::UDP, 443)];
    let spans = web.map(|(protocol, port)| {
        (
            u128::from(service::code(protocol, port)),
            u128::from(service::code(protocol, port)),
        )
    });
    !services.is_empty() && services.is_subset(&Intervals::from_spans(spans))
}

/// Whether some services are nothing but ICMP.
pub(crate) fn only_icmp(services: &Intervals) -> bool {
    !services.is_empty()
        && services
            .is_subset(&service::whole(service::ICMP).union(&service::whole(service::ICMPV6)))
}
