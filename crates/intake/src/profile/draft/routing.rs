//! Where packets are led: route tables and gateways.

use super::asked::Question;
use super::naming::with;
use super::relate::Entity;
use super::roles::{Role, route_fields};
use super::rules::{Where, filtered, quoted_literal};
use super::sections::PUBLIC;
use super::values::Kind;
use super::{Drafting, Records};
use serde_json::{Map, Value as Json, json};

impl Drafting<'_> {
    pub(super) fn table(
        &mut self,
        entity: &Entity,
        fields: &mut Map<String, Json>,
        gaps: &mut Vec<Records>,
    ) -> Option<()> {
        let network = self.needed(entity, "networks", "network")?;
        fields.insert("network".into(), with_once(network));
        let own = entity.gather.is_some();
        let list = (0..self.lists.len()).find(|at| {
            *at == entity.list && own
                || self.roles[*at] == Role::Routes && self.belongs(*at, entity.list)
        });
        let shape =
            list.and_then(|list| route_fields(&self.lists[list]).map(|shape| (list, shape)));
        let Some((list, (to, by))) = shape else {
            self.gap(
                entity,
                Some("routes"),
                "nobody said where their routes stand",
                gaps,
            );
            return Some(());
        };
        let Some(next) = self.next_hop(list, by) else {
            self.gap(
                entity,
                Some("routes"),
                "nobody said where their routes lead",
                gaps,
            );
            return Some(());
        };
        let route = json!({ "to": self.split_path(list, to), "next_hop": next });
        let each = match self.stand(list, entity).0 {
            Where::Inside(path) => path.into(),
            Where::Joined(made) => made,
            Where::Rows => "$[*]".into(),
        };
        fields.insert("routes".into(), json!({ "each": each, "fields": route }));
        Some(())
    }

    /// By what routes lead; none if a word has no meaning.
    fn next_hop(&mut self, list: usize, field: usize) -> Option<Json> {
        let mut made = self.split_path(list, field);
        let mut named = std::collections::BTreeSet::new();
        for link in self.links.of_field(list, field).to_vec() {
            let Some(entity) = self
                .entities
                .iter()
                .find(|entity| entity.list == link.list)
                .cloned()
            else {
                continue;
            };
            let kind = match entity.section {
                "gateways" => "gateway",
                "interfaces" => "interface",
                "peerings" => "peering",
                "firewalls" => "firewall",
                "balancers" => "balancer",
                "hubs" => "hub",
                _ => continue,
            };
            let keys = self.lists[link.list].fields[link.key].values.keys();
            // The address of an interface says by itself who is meant.
            named.extend(
                keys.filter(|value| value.parse::<std::net::IpAddr>().is_err())
                    .cloned(),
            );
            let take = json!({ "text": format!("{kind}:{{id}}"), "with": { "id": self.id_path(&entity) } });
            made = with(
                self.lookup(made, link.list, link.key, take),
                "otherwise",
                "keep".into(),
            );
        }
        let it = &self.lists[list].fields[field];
        let words: Vec<String> = it
            .values
            .keys()
            .filter(|word| !named.contains(*word) && word.parse::<std::net::IpAddr>().is_err())
            .cloned()
            .collect();
        let mut table = Map::new();
        for word in words {
            let guess = match word.to_lowercase().as_str() {
                "local" | "blackhole" => continue,
                "drop" | "discard" | "null" | "none" | "unreachable" => {
                    Some("blackhole".to_owned())
                }
                "direct" | "link" | "connected" | "self" | "on-link" => Some("local".to_owned()),
                _ => None,
            };
            let place = self.lists[list].place();
            let path = self.lists[list].fields[field].path.clone();
            let answer = self.asker.ask(Question {
                about: format!("{place} {path} {word:?}"),
                ask: format!("Where does {word:?} lead, in {path} of {place}?"),
                seen: self.lists[list].fields[field].shown(),
                choices: ["local", "blackhole", "unknown"]
                    .map(str::to_owned)
                    .to_vec(),
                guess,
                otherwise: "the gateway counts as missing".to_owned(),
                answer: None,
            });
            let known = answer.filter(|answer| answer != "unknown");
            table.insert(
                word.clone(),
                known.unwrap_or_else(|| format!("gateway:{word}")).into(),
            );
        }
        Some(if table.is_empty() {
            made
        } else {
            with(
                with(made, "table", table.into()),
                "otherwise",
                "keep".into(),
            )
        })
    }

    /// NAT gateways whose private address no field gives, and gateways to a site that nothing names: they are gaps, and not read.
    fn incomplete(
        &mut self,
        entity: &Entity,
        kind: Option<usize>,
        table: &Map<String, Json>,
        gaps: &mut Vec<Records>,
    ) {
        let list = &self.lists[entity.list];
        let has_address = list
            .fields
            .iter()
            .any(|it| it.traits.kind == Kind::Addresses && !it.is_called(&PUBLIC));
        let has_site = self.relation(entity, "sites").is_some();
        let lacks = |means: &Json| means == "nat" && !has_address || means == "site" && !has_site;
        let words: Vec<&String> = table
            .iter()
            .filter(|(_, means)| lacks(means))
            .map(|(word, _)| word)
            .collect();
        let Some(kind) = kind.filter(|_| !words.is_empty()) else {
            return;
        };
        let path = &list.fields[kind].path[1..];
        let conditions = words
            .iter()
            .map(|word| format!("@{path} == {}", quoted_literal(word)));
        let condition = conditions.collect::<Vec<_>>().join(" || ");
        let before = gaps.len();
        self.gap(
            entity,
            None,
            "no field gives their private address, or their site",
            gaps,
        );
        if let Some(gap) = gaps.get_mut(before) {
            gap.from = filtered(&list.path, &condition);
        }
        self.left_out.insert(entity.list, condition);
    }

    pub(super) fn gateway(
        &mut self,
        entity: &Entity,
        fields: &mut Map<String, Json>,
        gaps: &mut Vec<Records>,
    ) -> Option<()> {
        let list = &self.lists[entity.list];
        let kind = list
            .field(|it| it.is_called(&["kind", "type", "class", "role"]) && it.values.len() <= 8);
        let words: Vec<String> = match kind {
            Some(field) => list.fields[field].values.keys().cloned().collect(),
            None => vec![list.name()],
        };
        let mut table = Map::new();
        for word in words {
            let low = word.to_lowercase();
            let has = |parts: &[&str]| parts.iter().any(|part| low.contains(part));
            let (guess, sure) = if has(&["nat"]) && !low.contains("inat") {
                (Some("nat"), true)
            } else if low == "site" || low == "outbound-only" {
                (
                    Some(if low == "site" {
                        "site"
                    } else {
                        "outbound-only"
                    }),
                    true,
                )
            } else if has(&["internet"]) {
                (Some("internet"), true)
            } else if has(&["vpn", "site", "premise"]) {
                (Some("site"), false)
            } else if has(&["public", "external"]) {
                (Some("internet"), false)
            } else {
                (None, false)
            };
            let place = self.lists[entity.list].place();
            let means = if let (Some(means), true) = (guess, sure) {
                means.to_owned()
            } else {
                self.asker.ask(Question {
                    about: format!("{place} kind {word:?}"),
                    ask: format!("Which kind of gateway is {word:?}, in {place}?"),
                    seen: String::new(),
                    choices: ["internet", "nat", "outbound-only", "site"]
                        .map(str::to_owned)
                        .to_vec(),
                    guess: guess.map(str::to_owned),
                    otherwise: "the gateways count as missing".to_owned(),
                    answer: None,
                })?
            };
            table.insert(word, means.into());
        }
        let made = match (kind, table.values().next().cloned()) {
            (Some(field), _) => {
                json!({ "path": self.lists[entity.list].fields[field].path, "table": table })
            }
            (None, means) => json!({ "constant": means? }),
        };
        fields.insert("kind".into(), made);
        self.incomplete(entity, kind, &table, gaps);
        let network = self.needed(entity, "networks", "network")?;
        fields.insert("network".into(), network);
        fields.extend(
            self.relation(entity, "subnets")
                .map(|made| ("subnet".to_owned(), made)),
        );
        fields.extend(
            self.relation(entity, "sites")
                .map(|made| ("site".to_owned(), made)),
        );
        let list = &self.lists[entity.list];
        let address = |public: bool| {
            list.fields
                .iter()
                .find(|it| it.traits.kind == Kind::Addresses && it.is_called(&PUBLIC) == public)
        };
        for (public, field) in [(true, "public"), (false, "address")] {
            fields
                .extend(address(public).map(|it| (field.to_owned(), Json::from(it.path.as_str()))));
        }
        Some(())
    }
}

/// Of values that rows have in common one.
fn with_once(value: Json) -> Json {
    if value.is_object() {
        with(value, "once", true.into())
    } else {
        value
    }
}
