//! A marked workload that may send anything anywhere.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::{Draft, Evidence, Role};
use super::super::key::Key;
use super::super::kind::Kind;
use heronshale_engine::effective::{classes, passing};
use heronshale_engine::fabric::Fabric;
use heronshale_model::estate::{Direction, Id, Interface};
use heronshale_model::severity::Severity;
use heronshale_sets::each::each;
use heronshale_sets::packet::{PacketSet, service};

pub(crate) const KIND: Kind = Kind {
    name: "open-outward",
    base: Severity::Minor,
    about: "The filters of a marked workload allow it to send anything to any public address.",
    why: "An attacker on it can carry away its data by any port.",
    triggers: "An interface or its workload has one of the marked tags (`data=restricted` unless configured \
        otherwise), and its stages allow every TCP port to every internet address in a family that it has. \
        Not reported if one port or one public address is blocked, or for workloads without a mark. Routes \
        do not count, because they change more easily than rules.",
    fix: "Allow only what it needs: a proxy, a few names or prefixes, the ports that it uses.",
    side_effects: "Blocks every other outbound connection.",
    factors: &["up: UDP and ICMP as well"],
    example: include_str!("../examples/open-outward.yaml"),
    check: |context| {
        facts(context)
            .iter()
            .map(|fact| tell(context, fact))
            .collect()
    },
};

struct Fact {
    interface: Id<Interface>,
    mark: String,
    everything: bool,
    packets: PacketSet,
}

fn mark(view: &Fabric<'_>, id: Id<Interface>) -> Option<String> {
    let estate = view.estate;
    let interface = &estate.interfaces[id];
    let of_workload = interface
        .workload
        .map(|workload| &estate.workloads[workload].tags);
    let bears = |mark: &(
        heronshale_model::estate::Name,
        heronshale_model::estate::Name,
    )| {
        let has = |tags: &heronshale_model::estate::Tags| {
            tags.iter()
                .any(|(key, value)| (key, value) == (&mark.0, &mark.1))
        };
        has(&interface.tags) || of_workload.is_some_and(has)
    };
    view.tuning
        .marks
        .iter()
        .find(|one| bears(one))
        .map(|(key, value)| format!("{key}={value}"))
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let view = context.view;
    let every = heronshale_sets::intervals::Intervals::span(0, u128::from(u16::MAX));
    let internet = view.internet();
    let all = heronshale_sets::address::Addresses::all();
    let to = |services: &dyn Fn(
        heronshale_sets::address::Family,
    ) -> heronshale_sets::intervals::Intervals| {
        PacketSet::fields(&all, internet, services, &every, ())
    };
    let tcp = to(&|_| service::whole(service::TCP));
    let whole = to(&|family| service::all(family));
    let of = |class: &heronshale_engine::effective::Class| {
        let marked: Vec<(Id<Interface>, String)> = class
            .members
            .iter()
            .filter_map(|id| Some((*id, mark(view, *id)?)))
            .collect();
        if marked.is_empty() {
            return Vec::new();
        }
        let passing = passing(view, class.representative(), Direction::Out);
        let holds = |wanted: &PacketSet| {
            let wanted = wanted.intersection(&passing.domain);
            !wanted.is_empty() && wanted.is_subset(&passing.admitted)
        };
        if !holds(&tcp) {
            return Vec::new();
        }
        let everything = holds(&whole);
        let packets = passing.admitted.intersection(&whole);
        let fact = |(interface, mark)| Fact {
            interface,
            mark,
            everything,
            packets: packets.clone(),
        };
        marked.into_iter().map(fact).collect()
    };
    let found: Vec<Vec<Fact>> = each(&classes(view), of);
    let mut found: Vec<Fact> = found.into_iter().flatten().collect();
    found.sort_by_key(|fact| fact.interface);
    found
}

fn tell(context: &Context<'_, '_>, fact: &Fact) -> Draft {
    let estate = context.view.estate;
    let interface = &estate.interfaces[fact.interface];
    let owner = crate::describe::owner_text(estate, estate.interface_owner(fact.interface));
    let mut draft = context.about(
        Key::of("interface").name(&interface.name),
        &interface.origin,
        owner,
    );
    draft.networks = context.networks_of(&[fact.interface]);
    draft.packets = Some(fact.packets.clone());
    let what = if fact.everything {
        "anything"
    } else {
        "any TCP port"
    };
    draft.brief(&*interface.name, format!("{what} to the internet"));
    draft.title = format!(
        "{} ({}) may send {what} to any public address",
        interface.name, fact.mark
    );
    if fact.everything {
        draft.factors.push(factor(1, "UDP and ICMP as well"));
    }
    draft.evidence.push(Evidence {
        role: Role::ActsOn,
        text: format!("tag {}", fact.mark),
        rule: None,
        place: None,
    });
    draft.fix =
        "Allow only what it needs: a proxy, a few prefixes, the ports that it uses.".to_owned();
    draft
}
