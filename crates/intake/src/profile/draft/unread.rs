//! Fields that nothing reads although they may change what rules and interfaces do: whether they count is asked.

use super::asked::Question;
use super::fields::RuleFields;
use super::relate::Entity;
use super::shape::Field;
use super::values::Kind;
use super::{Drafting, Records};
use serde_json::{Map, Value as Json};

/// Names of what limits rules, or turns them round.
const LIMITS: [&str; 10] = [
    "port",
    "zone",
    "app",
    "user",
    "schedule",
    "expir",
    "valid",
    "condition",
    "identity",
    "service",
];
const TURNS: [&str; 5] = ["negat", "invert", "except", "exclud", "not_"];
/// Names of what may put something out of force, where it is not the same of all.
const STATES: [&str; 6] = ["enabl", "disabl", "active", "state", "status", "mode"];
/// Names of what no packet depends on.
const IDLE: [&str; 8] = [
    "log", "audit", "count", "monitor", "created", "updated", "editable", "readonly",
];

impl RuleFields {
    /// Whether something reads a field of a rule.
    fn reads(&self, field: usize, owner: Option<usize>) -> bool {
        let (low, high) = self.range.unzip();
        let one = [
            owner,
            self.direction,
            self.action,
            self.priority,
            self.enabled.map(|(field, _)| field),
            self.description,
            self.protocol,
            self.services,
            self.ports,
            self.source_ports,
            low,
            high,
        ];
        let several = [&self.sources, &self.destinations, &self.peers];
        one.contains(&Some(field)) || several.iter().any(|all| all.contains(&field))
    }
}

/// Whether a field may change what a rule does.
fn may_count(it: &Field) -> bool {
    let looks = matches!(
        it.traits.kind,
        Kind::Flag
            | Kind::Blocks
            | Kind::Addresses
            | Kind::Hosts
            | Kind::Peers
            | Kind::Services
            | Kind::Protocols
    );
    let path = it.path.to_lowercase();
    let limits = LIMITS.iter().chain(&TURNS).any(|word| path.contains(word));
    let numbers = it.traits.kind == Kind::Ports || it.deep && it.traits.kind == Kind::Numbers;
    let states = it.is_called(&STATES) && it.values.len() > 1;
    (looks || numbers || limits || states) && !it.is_called(&IDLE)
}

impl Drafting<'_> {
    /// Whether no field of rules counts that nothing reads, as far as somebody said so.
    pub(super) fn all_is_read(
        &mut self,
        at: usize,
        fields: &RuleFields,
        owner: Option<usize>,
    ) -> bool {
        let list = &self.lists[at];
        let inner = fields
            .traffic
            .map(|inner| format!("${}", &self.lists[inner].path[list.path.len()..]));
        let of_traffic = |it: &Field| {
            inner
                .as_ref()
                .is_some_and(|inner| it.path.starts_with(inner.as_str()))
        };
        // What lies in the rows of an owner that has rules within is asked of these.
        let named = |field: usize| {
            self.links
                .of_field(at, field)
                .iter()
                .any(|link| self.traffic.contains(&link.list))
        };
        let open: Vec<usize> = (0..list.fields.len())
            .filter(|field| !fields.reads(*field, owner) && !named(*field))
            .filter(|field| may_count(&list.fields[*field]) && !of_traffic(&list.fields[*field]))
            .collect();
        let mut whole = true;
        for field in open {
            let it = &self.lists[at].fields[field];
            let place = self.lists[at].place();
            let varies = it.traits.kind == Kind::Flag && it.values.len() > 1;
            let answer = self.asker.ask(Question {
                about: format!("{place} {} unread", it.path),
                ask: format!(
                    "Nothing reads {} of {place}. Does it change what the rules do?",
                    it.path
                ),
                seen: it.shown(),
                choices: ["no", "yes"].map(str::to_owned).to_vec(),
                guess: (!varies && !it.deep && !it.is_called(&TURNS) && !it.is_called(&STATES))
                    .then(|| "no".to_owned()),
                otherwise: "the rules count as missing".to_owned(),
                answer: None,
            });
            whole &= answer.as_deref() == Some("no");
        }
        whole
    }

    /// Flags of interfaces: what each says is asked, or their groups are a gap.
    pub(super) fn flags_of_interfaces(
        &mut self,
        entity: &Entity,
        fields: &mut Map<String, Json>,
        gaps: &mut Vec<Records>,
    ) {
        let list = &self.lists[entity.list];
        let is_flag = |it: &&Field| {
            it.traits.kind == Kind::Flag && !it.deep && !it.many && !it.is_called(&IDLE)
        };
        let flags: Vec<(String, String, usize)> = { list.fields.iter().filter(is_flag) }
            .map(|it| (it.path.clone(), it.name(), it.values.len()))
            .collect();
        let place = list.place();
        for (path, name, values) in flags {
            let guess = if name.contains("forward") {
                Some("whether they forward")
            } else {
                (values == 1).then_some("nothing that counts")
            };
            let answer = self.asker.ask(Question {
                about: format!("{place} {path} says"),
                ask: format!("What does {path} say of {place}?"),
                seen: if values == 1 {
                    "the same of all".to_owned()
                } else {
                    "true and false".to_owned()
                },
                choices: [
                    "nothing that counts",
                    "whether they forward",
                    "whether nothing filters them",
                ]
                .map(str::to_owned)
                .to_vec(),
                guess: guess.map(str::to_owned),
                otherwise: "their groups are a gap".to_owned(),
                answer: None,
            });
            let field = match answer.as_deref() {
                Some("whether they forward") => "forwards",
                Some("whether nothing filters them") => "unfiltered",
                Some(_) => continue,
                None => {
                    self.gap(
                        entity,
                        Some("groups"),
                        &format!("nobody said what {path} says"),
                        gaps,
                    );
                    continue;
                }
            };
            fields.insert(field.to_owned(), path.as_str().into());
        }
    }
}
