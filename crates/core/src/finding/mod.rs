//! Findings: what is wrong or worth a look, each with its evidence, its severity and a mend.
//!
//! Each kind is one file under `kinds/` that declares its name, base severity, the words of `explain`, an example, and
//! its check. The catalogue is [`CATALOGUE`]; checks, `explain` and documentation loop over it. A check first
//! collects facts and then tells them in words, in one place of its file. Severity is settled here, before any renderer.

mod accepting;
mod bare;
mod harmless;
mod kinds;
mod pinning;
mod routing;

pub use accepting::{Accepted, Judged, judged};
pub(crate) use kinds::exposed::severity as exposure_severity;
pub use pinning::{PinnedFact, pinned_facts};
pub(crate) use routing::{firewall_of, why_dead};

use crate::address::Family;
use crate::binding::Bindings;
use crate::dead::{Dead, DeadTranslation, dead_rules, dead_translations};
use crate::describe::{RuleFact, Witness, owner_text, rule_fact, rule_meaning, rule_text};
use crate::expect::{Judging, Standing, standings};
use crate::exposure::{DeviceWay, DirectWay, device_ways, direct_ways};
use crate::model::{Filter, Id, Interface, RuleId};
use crate::packet::{Intervals, PacketSet};
use crate::source::{Origin, Place};
use crate::view::View;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::sync::OnceLock;

/// How bad it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Worth knowing.
    Note,
    /// To be mended when somebody works there next.
    Minor,
    /// To be mended soon.
    Serious,
    /// To be mended now.
    Urgent,
}

impl Severity {
    /// Lowest first.
    pub const ALL: [Self; 4] = [Self::Note, Self::Minor, Self::Serious, Self::Urgent];

    /// What it is called.
    pub fn word(self) -> &'static str {
        match self {
            Self::Note => "note",
            Self::Minor => "minor",
            Self::Serious => "serious",
            Self::Urgent => "urgent",
        }
    }

    /// With all factors counted in; never past an end.
    pub(crate) fn with(self, factors: &[Factor]) -> Self {
        let steps: i32 = factors.iter().map(|factor| factor.steps).sum();
        let at = i32::try_from(Self::ALL.iter().position(|one| *one == self).unwrap_or(0)).unwrap_or(0);
        let last = i32::try_from(Self::ALL.len() - 1).unwrap_or(0);
        let to = usize::try_from((at + steps).clamp(0, last)).unwrap_or(0);
        Self::ALL[to]
    }
}

/// A kind of finding.
pub struct Kind {
    /// Its name, in kebab case; its file bears it in snake case.
    pub name: &'static str,
    /// The severity before factors.
    pub base: Severity,
    /// What it is, in one sentence.
    pub about: &'static str,
    /// Why it matters.
    pub why: &'static str,
    /// What triggers it, and what does not.
    pub triggers: &'static str,
    /// How it is mended.
    pub mend: &'static str,
    /// What following that costs: what ends, opens or moves by it, in words.
    pub price: &'static str,
    /// What raises and lowers the severity.
    pub factors: &'static [&'static str],
    /// A small snapshot in which it occurs.
    pub example: &'static str,
    check: fn(&Context<'_, '_>) -> Vec<Draft>,
}

/// Every kind, in the order in which `explain` and the documentation list them.
pub const CATALOGUE: &[&Kind] = &[
    &kinds::expectation_broken::KIND,
    &kinds::expectation_unknown::KIND,
    &kinds::expectation_vacuous::KIND,
    &kinds::exposed::KIND,
    &kinds::any_source::KIND,
    &kinds::all_services::KIND,
    &kinds::ipv6_wider::KIND,
    &kinds::open_outward::KIND,
    &kinds::default_in_use::KIND,
    &kinds::mostly_empty_range::KIND,
    &kinds::undecided::KIND,
    &kinds::shadowed::KIND,
    &kinds::partly_shadowed::KIND,
    &kinds::redundant::KIND,
    &kinds::removable_together::KIND,
    &kinds::denied_elsewhere::KIND,
    &kinds::mergeable::KIND,
    &kinds::same_meaning::KIND,
    &kinds::around_the_firewall::KIND,
    &kinds::reply_elsewhere::KIND,
    &kinds::blackhole::KIND,
    &kinds::next_hop_dead::KIND,
    &kinds::may_not_forward::KIND,
    &kinds::no_way_out::KIND,
    &kinds::idle_route::KIND,
    &kinds::idle_table::KIND,
    &kinds::overlap::KIND,
    &kinds::address_outside_block::KIND,
    &kinds::subnet_full::KIND,
    &kinds::door_left_open::KIND,
    &kinds::resolves_public::KIND,
    &kinds::single_member::KIND,
    &kinds::probe_denied::KIND,
    &kinds::too_big_dropped::KIND,
    &kinds::bound_to_nothing::KIND,
    &kinds::without_rules::KIND,
    &kinds::peer_missing::KIND,
    &kinds::peer_empty::KIND,
    &kinds::impossible_match::KIND,
    &kinds::acceptance_expired::KIND,
    &kinds::acceptance_too_wide::KIND,
    &kinds::acceptance_unused::KIND,
    &kinds::overdue::KIND,
    &kinds::no_longer_enforced::KIND,
    &kinds::no_description::KIND,
    &kinds::dangling_reference::KIND,
    &kinds::set_cycle::KIND,
    &kinds::host_bits::KIND,
];

/// The kind of a name.
pub fn kind(name: &str) -> Option<&'static Kind> {
    CATALOGUE.iter().find(|kind| kind.name == name).copied()
}

/// Something that raises or lowers the severity.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Factor {
    /// By how many steps: up if above zero.
    pub steps: i32,
    /// Why.
    pub because: String,
}

/// In which way a piece of evidence bears on the finding.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// The thing at fault.
    AtFault,
    /// It covers the thing at fault.
    CoveredBy,
    /// It takes the traffic that the thing at fault was meant for.
    TakenBy,
    /// It lets the traffic in.
    LetInBy,
    /// It decides about the rest.
    Default,
    /// What is named and not there, or empty.
    Names,
    /// Where it acts.
    ActsOn,
    /// By what traffic goes.
    GoesBy,
    /// By what it was meant to go.
    MeantBy,
    /// What people say of it.
    Says,
    /// By what way a packet goes.
    Step,
}

impl Role {
    /// What it is called in output.
    pub fn word(self) -> &'static str {
        match self {
            Self::AtFault => "here",
            Self::CoveredBy => "covered by",
            Self::TakenBy => "taken by",
            Self::LetInBy => "let in by",
            Self::Default => "default",
            Self::Names => "names",
            Self::ActsOn => "acts on",
            Self::GoesBy => "goes by",
            Self::MeantBy => "meant by",
            Self::Says => "says",
            Self::Step => "by way of",
        }
    }
}

/// A piece of evidence.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Evidence {
    /// How it bears on the finding.
    pub role: Role,
    /// In words.
    pub text: String,
    /// The rule, if it is one.
    pub rule: Option<RuleFact>,
    /// Where it stands.
    pub place: Option<Place>,
}

/// A finding, final.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Finding {
    /// The kind's name.
    pub kind: String,
    /// How bad it is, factors counted in.
    pub severity: Severity,
    /// The severity of the kind before factors.
    pub base: Severity,
    /// Why the configuration changed that severity, if it did.
    pub regraded: Option<String>,
    /// What raised or lowered it.
    pub factors: Vec<Factor>,
    /// Stable against reordering, renumbering and reformatting; unique within an audit.
    pub fingerprint: String,
    /// What one mend would do away with: findings of one kind with one cause are occurrences of it.
    pub cause: String,
    /// What, in one line.
    pub title: String,
    /// Where it stands.
    pub place: Option<Place>,
    /// The networks that it is about.
    pub networks: Vec<String>,
    /// Who changes it.
    pub owner: Option<String>,
    /// What proves it.
    pub evidence: Vec<Evidence>,
    /// One packet that proves it.
    pub witness: Option<Witness>,
    /// What to do.
    pub mend: String,
    /// What following that costs: what ends, opens or moves by it, and where what is changed acts.
    pub price: String,
    /// The user's own requirements against which it speaks.
    pub controls: Vec<String>,
    /// The packets that it is about, for acceptances; none if it is about none.
    #[serde(skip)]
    pub packets: Option<PacketSet>,
    /// The fingerprint that it had in the version before, if that was another one.
    #[serde(skip)]
    pub former: Option<String>,
}

/// A finding before severity and fingerprint are settled.
pub(crate) struct Draft {
    /// What it is about, in words that reordering and renumbering do not change.
    pub subject: String,
    /// The subject in the version before, if that was another one.
    pub former: Option<String>,
    /// What one mend would do away with; none if that is the subject itself.
    pub cause: Option<String>,
    pub title: String,
    pub place: Option<Place>,
    pub networks: Vec<String>,
    pub owner: Option<String>,
    pub factors: Vec<Factor>,
    pub evidence: Vec<Evidence>,
    pub witness: Option<Witness>,
    pub mend: String,
    /// What following that costs, if it is more than the kind's words.
    pub price: Option<String>,
    /// On how many interfaces that acts which is to be changed, if it is a rule or a filter.
    pub interfaces: Option<usize>,
    /// What it lets through; a growth of it opens an acceptance again.
    pub packets: Option<PacketSet>,
}

impl Draft {
    /// About something that stands in no file.
    pub fn about_nothing(subject: String) -> Self {
        Self {
            subject,
            former: None,
            cause: None,
            title: String::new(),
            place: None,
            networks: Vec::new(),
            owner: None,
            factors: Vec::new(),
            evidence: Vec::new(),
            witness: None,
            mend: String::new(),
            price: None,
            interfaces: None,
            packets: None,
        }
    }
}

/// What checks look at; what several need is computed once. What is asked on all cores ([`crate::each`]) must not be the first
/// to ask for something here that is itself found on all cores: it is taken out before.
pub(crate) struct Context<'v, 'e> {
    pub view: &'v View<'e>,
    pub bindings: Bindings,
    dead: OnceLock<Vec<Dead>>,
    dead_translations: OnceLock<Vec<DeadTranslation>>,
    ways: OnceLock<Vec<DirectWay>>,
    device_ways: OnceLock<Vec<DeviceWay>>,
    routing: OnceLock<routing::Routing<'e>>,
    standings: OnceLock<Vec<Standing>>,
    judging: OnceLock<Judging<'v, 'e>>,
}

impl<'v, 'e> Context<'v, 'e> {
    /// How each expectation stands.
    pub fn standings(&self) -> &[Standing] {
        self.standings.get_or_init(|| standings(self.view))
    }

    /// What expectations say of the internet's connections.
    pub fn judging(&self) -> &Judging<'v, 'e> {
        self.judging.get_or_init(|| Judging::new(self.view))
    }

    /// All packets that a rule matches somewhere.
    pub fn rule_packets(&self, id: RuleId) -> PacketSet {
        let places = self.bindings.enforced(self.view, id.filter);
        let mut networks: Vec<_> = places.iter().map(|place| place.network).collect();
        networks.sort_unstable();
        networks.dedup();
        if networks.is_empty() {
            networks.push(None);
        }
        PacketSet::union_all(networks.into_iter().map(|network| {
            let matched = crate::stage::rule_match(self.view, id, network);
            matched.sure.union(&matched.maybe)
        }))
    }

    pub fn dead(&self) -> &[Dead] {
        self.dead.get_or_init(|| dead_rules(self.view, &self.bindings))
    }

    pub fn dead_translations(&self) -> &[DeadTranslation] {
        self.dead_translations.get_or_init(|| dead_translations(self.view))
    }

    pub fn ways(&self) -> &[DirectWay] {
        self.ways.get_or_init(|| direct_ways(self.view))
    }

    pub fn device_ways(&self) -> &[DeviceWay] {
        self.device_ways.get_or_init(|| device_ways(self.view))
    }

    pub fn place(&self, origin: &Origin) -> Place {
        self.view.estate.sources.place(origin)
    }

    /// Who changes a filter: its owner, else the one owner of all the interfaces on which it acts.
    pub fn filter_owner(&self, filter: Id<Filter>) -> Option<String> {
        let estate = self.view.estate;
        let own = estate.filters[filter].owner;
        let mut owners = self.bindings.interfaces(filter).iter().map(|id| estate.interface_owner(*id));
        let first = owners.next().flatten();
        let common = first.filter(|first| owners.all(|other| other == Some(*first)));
        owner_text(estate, own.or(common))
    }

    /// The networks of interfaces, each once, by name.
    pub fn networks_of(&self, interfaces: &[Id<Interface>]) -> Vec<String> {
        let estate = self.view.estate;
        let mut names: Vec<String> =
            interfaces.iter().map(|id| estate.networks[estate.network_of(*id)].name.to_string()).collect();
        names.sort_unstable();
        names.dedup();
        names
    }

    /// A draft about a rule, without title, evidence and mend.
    pub fn about_rule(&self, id: RuleId) -> Draft {
        Draft {
            place: Some(self.place(&self.view.estate.rule(id).origin)),
            networks: self.networks_of(self.bindings.interfaces(id.filter)),
            owner: self.filter_owner(id.filter),
            evidence: vec![self.rule_evidence(Role::AtFault, id)],
            interfaces: Some(self.bindings.interfaces(id.filter).len()),
            ..Draft::about_nothing(rule_meaning(self.view.estate, id))
        }
    }

    /// A draft about a filter, without title, evidence and mend.
    pub fn about_filter(&self, id: Id<Filter>) -> Draft {
        let filter = &self.view.estate.filters[id];
        let mut draft = self.about(format!("filter {}", filter.key), &filter.origin, self.filter_owner(id));
        draft.networks = self.networks_of(self.bindings.interfaces(id));
        draft.interfaces = Some(self.bindings.interfaces(id).len());
        draft
    }

    /// The services of a rule, of both families.
    pub fn services_of(&self, id: RuleId) -> Intervals {
        let rule = self.view.estate.rule(id);
        Family::BOTH.iter().fold(Intervals::empty(), |sum, family| sum.union(&rule.service_numbers(*family)))
    }

    /// A draft about anything else at a place.
    pub fn about(&self, subject: String, origin: &Origin, owner: Option<String>) -> Draft {
        Draft { place: Some(self.place(origin)), owner, ..Draft::about_nothing(subject) }
    }

    pub fn rule_evidence(&self, role: Role, id: RuleId) -> Evidence {
        let fact = rule_fact(self.view.estate, id);
        Evidence { role, text: rule_text(&fact), place: Some(fact.place.clone()), rule: Some(fact) }
    }

    /// `web/https`, as the command `rule` takes it.
    pub fn rule_name(&self, id: RuleId) -> String {
        format!("{}/{}", self.view.estate.filters[id.filter].name, self.view.estate.rule_name(id))
    }

    /// Whether a filter acts on no interface and no firewall.
    pub fn acts_on_nothing(&self, filter: Id<Filter>) -> bool {
        let firewalls = || crate::binding::firewalls_with(self.view.estate, filter);
        self.bindings.interfaces(filter).is_empty() && firewalls().is_empty()
    }

    /// On what a filter acts, in words: `3 interfaces: a, b, c`.
    pub fn acts_on(&self, filter: Id<Filter>) -> Evidence {
        let estate = self.view.estate;
        let interfaces = self.bindings.interfaces(filter);
        let names: Vec<String> = interfaces.iter().map(|id| estate.interfaces[*id].name.to_string()).collect();
        let firewalls = crate::binding::firewalls_with(estate, filter);
        let text = if firewalls.is_empty() {
            counted(&names, "interface")
        } else {
            let names = firewalls.iter().map(|id| estate.firewalls[*id].name.to_string());
            counted(&names.collect::<Vec<_>>(), "firewall")
        };
        Evidence { role: Role::ActsOn, text, rule: None, place: None }
    }
}

/// `2 interfaces: a, b`; the first few of many.
pub(crate) fn counted(names: &[String], what: &str) -> String {
    const SHOWN: usize = 4;
    let plural = if names.len() == 1 { "" } else { "s" };
    let more = names.len().saturating_sub(SHOWN);
    let tail = if more > 0 { format!(" and {more} more") } else { String::new() };
    let shown = names.iter().take(SHOWN).cloned().collect::<Vec<_>>().join(", ");
    if names.is_empty() { format!("no {what}") } else { format!("{} {what}{plural}: {shown}{tail}", names.len()) }
}

/// Every finding of an estate: worst first, then by kind, file and line.
pub fn findings(view: &View<'_>) -> Vec<Finding> {
    findings_of(view, |_| true)
}

/// The findings of some kinds.
pub(crate) fn findings_of(view: &View<'_>, wanted: impl Fn(&Kind) -> bool) -> Vec<Finding> {
    found(view, wanted).findings
}

/// Findings, and what was computed on the way to them.
struct Found {
    findings: Vec<Finding>,
    standings: Vec<Standing>,
    ways: Vec<DirectWay>,
    device_ways: Vec<DeviceWay>,
}

/// The findings of some kinds.
fn found(view: &View<'_>, wanted: impl Fn(&Kind) -> bool) -> Found {
    let context = Context {
        view,
        bindings: Bindings::new(view),
        dead: OnceLock::new(),
        dead_translations: OnceLock::new(),
        ways: OnceLock::new(),
        device_ways: OnceLock::new(),
        routing: OnceLock::new(),
        standings: OnceLock::new(),
        judging: OnceLock::new(),
    };
    let mut all = Vec::new();
    for (order, kind) in CATALOGUE.iter().enumerate().filter(|(_, kind)| wanted(kind)) {
        let mut seen: BTreeMap<String, usize> = BTreeMap::new();
        for draft in (kind.check)(&context) {
            let before = seen.entry(draft.subject.clone()).or_default();
            all.push((order, finished(view, kind, draft, *before)));
            *before += 1;
        }
    }
    let is_wanted = |(_, kind): &(usize, &&Kind)| kind.name == kinds::undecided::KIND.name && wanted(kind);
    if let Some((order, kind)) = CATALOGUE.iter().enumerate().find(is_wanted) {
        all.extend(kinds::undecided::given_up(&context).map(|draft| (order, finished(view, kind, draft, 0))));
    }
    Found {
        findings: sorted(all),
        standings: context.standings.into_inner().unwrap_or_default(),
        ways: context.ways.into_inner().unwrap_or_default(),
        device_ways: context.device_ways.into_inner().unwrap_or_default(),
    }
}

/// Worst first, then by the order of the catalogue, file and line.
fn sorted(mut all: Vec<(usize, Finding)>) -> Vec<Finding> {
    all.sort_by(|(a_order, a), (b_order, b)| {
        let key = |order: usize, finding: &Finding| {
            (std::cmp::Reverse(finding.severity), order, finding.place.clone(), finding.title.clone())
        };
        key(*a_order, a).cmp(&key(*b_order, b))
    });
    all.into_iter().map(|(_, finding)| finding).collect()
}

fn finished(view: &View<'_>, kind: &Kind, draft: Draft, before: usize) -> Finding {
    let Draft { subject, cause, title, place, networks, owner, factors, evidence, witness, mend, price, .. } = draft;
    let regraded = view.stated.severities.iter().find(|one| &*one.kind == kind.name);
    let base = regraded.map_or(kind.base, |one| one.severity);
    let controls = view.stated.controls.iter().filter(|control| control.kinds.iter().any(|name| **name == *kind.name));
    Finding {
        kind: kind.name.to_owned(),
        severity: base.with(&factors),
        base,
        regraded: regraded.map(|one| one.reason.to_string()),
        controls: controls.map(|control| control.control.to_string()).collect(),
        packets: draft.packets,
        former: draft.former.map(|subject| fingerprint(kind.name, &subject, before)),
        factors,
        fingerprint: fingerprint(kind.name, &subject, before),
        cause: cause.unwrap_or(subject),
        title,
        place,
        networks,
        owner,
        evidence,
        witness,
        mend,
        price: price.unwrap_or_else(|| priced(kind, draft.interfaces)),
    }
}

/// The price of a kind's mend, with where what is changed acts, unless nothing changes there.
fn priced(kind: &Kind, interfaces: Option<usize>) -> String {
    match interfaces {
        Some(count) if count > 0 && kind.price != NOTHING => {
            format!("{}; it acts on {count} interface{}", kind.price, if count == 1 { "" } else { "s" })
        }
        _ => kind.price.to_owned(),
    }
}

/// The price of a mend by which no packet fares otherwise.
pub(crate) const NOTHING: &str = "none";

/// Forty bits of SHA-256 (FIPS 180-4) over kind, subject and how many the same stood before, in letters and digits that
/// are not mistaken for one another.
fn fingerprint(kind: &str, subject: &str, before: usize) -> String {
    const SIGNS: &[u8; 32] = b"0123456789abcdefghjkmnpqrstvwxyz";
    let digest = Sha256::digest(format!("{kind}\0{subject}\0{before}"));
    let number = digest.iter().take(5).fold(0_u64, |sum, byte| sum << 8 | u64::from(*byte));
    let sign = |at: u32| char::from(SIGNS[usize::try_from(number >> (5 * at) & 31).unwrap_or(0)]);
    let text: String = (0..8).rev().map(sign).collect();
    format!("{}-{}", &text[..4], &text[4..])
}
