//! Groups and lists of rules: their rules, what holds where none matches, and where the rules stand.

use super::Drafting;
use super::Records;
use super::asked::Question;
use super::naming::with;
use super::relate::Entity;
use super::roles::{Role, within};
use super::rules::{RulesDraft, Where};
use super::shape::Field;
use super::values::action;
use serde_json::{Map, Value as Json, json};

impl Drafting<'_> {
    /// Groups and lists with their rules.
    pub(super) fn filter(
        &mut self,
        entity: &Entity,
        fields: &mut Map<String, Json>,
        gaps: &mut Vec<Records>,
    ) -> Option<()> {
        let own = entity.gather.is_some();
        let is_group = entity.section == "security_groups";
        let mut draft = RulesDraft {
            denies: !is_group,
            ..RulesDraft::default()
        };
        let lists: Vec<usize> = (0..self.lists.len())
            .filter(|at| match own {
                true if *at == entity.list => true,
                _ => self.roles[*at] == Role::Rules && self.belongs(*at, entity.list),
            })
            .collect();
        let lists: Vec<(usize, Where, Option<usize>)> = lists
            .into_iter()
            .map(|list| {
                let (stand, owner) = self.stand(list, entity);
                (list, stand, owner)
            })
            .collect();
        if is_group && !own {
            self.defaults(entity, fields, &mut draft);
        }
        // In a list in which one rule denies, each has to say what it does.
        for (list, _, owner) in &lists {
            draft.denies |= self.denies(*list, *owner);
        }
        for (list, stand, owner) in &lists {
            self.rules(*list, *owner, stand, &mut draft);
        }
        if lists.is_empty() && !own {
            draft.unclear.push("where their rules stand".to_owned());
        }
        // The rules of a list may be read in another order than the one that denies.
        if is_group && draft.denies {
            fields.insert("form".into(), json!({ "constant": "ordered" }));
        }
        if is_group
            && draft.unclear.is_empty()
            && draft.outbound.is_empty()
            && !fields.contains_key("default_outbound")
        {
            self.silent_way(entity, &mut draft);
        }
        for (way, all) in [
            ("inbound", &mut draft.inbound),
            ("outbound", &mut draft.outbound),
        ] {
            let made = match all.len() {
                0 => continue,
                1 => all.pop(),
                _ => Some(json!({ "all_of": std::mem::take(all) })),
            };
            fields.extend(made.map(|made| (way.to_owned(), made)));
        }
        if !draft.unclear.is_empty() {
            let reason = format!("nobody said {}", draft.unclear.join(", nor "));
            self.gap(entity, Some("rules"), &reason, gaps);
        }
        Some(())
    }

    /// What happens to packets that no rule matches: fields of groups that have words such as *allow*.
    fn defaults(
        &mut self,
        entity: &Entity,
        fields: &mut Map<String, Json>,
        draft: &mut RulesDraft,
    ) {
        let list = &self.lists[entity.list];
        let words = |it: &Field| {
            it.values
                .keys()
                .all(|value| action(value).is_some_and(|(_, sure)| sure))
        };
        for it in list
            .fields
            .iter()
            .filter(|it| !it.deep && !it.many && words(it))
        {
            let guess = match it.name() {
                name if name.contains("out") || name.contains("egress") => "what is sent",
                name if name.contains("in") || name.contains("ingress") => "what is received",
                _ => "both",
            };
            let answer = self.asker.ask(Question {
                about: format!("{} {} default", list.place(), it.path),
                ask: format!(
                    "For which packets does {} of {} hold, if no rule matches?",
                    it.path,
                    list.place()
                ),
                seen: it.shown(),
                choices: ["what is received", "what is sent", "both", "none"]
                    .map(str::to_owned)
                    .to_vec(),
                guess: Some(guess.to_owned()),
                otherwise: "the rules count as missing".to_owned(),
                answer: None,
            });
            let ways: &[&str] = match answer.as_deref() {
                Some("what is received") => &["default_inbound"],
                Some("what is sent") => &["default_outbound"],
                Some("both") => &["default_inbound", "default_outbound"],
                Some(_) => &[],
                None => {
                    draft.unclear.push(format!("what {} says", it.path));
                    &[]
                }
            };
            let table: Map<String, Json> = { it.values.keys() }
                .filter_map(|word| action(word).map(|(means, _)| (word.clone(), means.into())))
                .collect();
            for way in ways {
                draft.denies = true;
                fields.insert(
                    (*way).to_owned(),
                    json!({ "path": it.path, "table": table }),
                );
            }
        }
    }

    /// Groups none of which says anything of what is sent.
    fn silent_way(&mut self, entity: &Entity, draft: &mut RulesDraft) {
        let place = self.lists[entity.list].place();
        let answer = self.asker.ask(Question {
            about: format!("{place} outbound"),
            ask: format!("No rule of {place} is about what interfaces send. What may they send?"),
            seen: String::new(),
            choices: ["everything", "nothing"].map(str::to_owned).to_vec(),
            guess: Some("everything".to_owned()),
            otherwise: "the rules count as missing".to_owned(),
            answer: None,
        });
        match answer.as_deref() {
            Some("everything") => {
                let action = draft
                    .denies
                    .then(|| ("action".to_owned(), json!({ "constant": "allow" })));
                let rule: Map<String, Json> = action
                    .into_iter()
                    .chain([("peers".to_owned(), json!({ "constant": "any" }))])
                    .collect();
                let one = if entity.gather.is_some() { "$[0]" } else { "$" };
                draft.outbound.push(json!({ "each": one, "fields": rule }));
            }
            Some(_) => {}
            None => draft.unclear.push("what interfaces may send".to_owned()),
        }
    }

    /// Where the objects of a list stand that belong to others, and the field that says so.
    pub(super) fn stand(&self, list: usize, owner: &Entity) -> (Where, Option<usize>) {
        if list == owner.list {
            return (Where::Rows, owner.gather);
        }
        if within(self.lists, list, owner.list) {
            let suffix = &self.lists[list].path[self.lists[owner.list].path.len()..];
            return (Where::Inside(format!("${suffix}")), None);
        }
        if let Some((field, link)) = self.links.between(list, owner.list) {
            let key = self.lists[owner.list].fields[link.key].value();
            let made = with(
                self.lookup(key, list, field, "$".into()),
                "otherwise",
                "leave-out".into(),
            );
            return (Where::Joined(made), Some(field));
        }
        let Some((field, link)) = self.links.between(owner.list, list) else {
            return (Where::Rows, None);
        };
        let path = self.split_path(owner.list, field);
        (
            Where::Joined(self.lookup(path, list, link.key, "$".into())),
            None,
        )
    }
}
