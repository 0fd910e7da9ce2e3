//! The records of each section: what gives its fields, and what becomes of objects that cannot be read.

mod interfaces;
mod networks;

use super::asked::Question;
use super::naming::is_not_read;
use super::naming::with;
use super::relate::Entity;
use super::roles::{Role, within};
use super::rules::filtered;
use super::shape::Field;
use super::values::Kind;
use super::{Drafting, Records};
use serde_json::{Map, Value as Json, json};

/// What a gap calls the objects of a section.
fn kind_of(section: &str) -> &'static str {
    match section {
        "networks" => "network",
        "subnets" => "subnet",
        "interfaces" => "interface",
        "workloads" => "workload",
        "security_groups" => "group",
        "network_acls" => "acl",
        "address_sets" => "set",
        "route_tables" => "table",
        "gateways" => "gateway",
        other => super::naming::NOT_READ
            .iter()
            .find(|(section, _)| *section == other)
            .map_or("network", |(_, kind)| kind),
    }
}

/// Addresses of others than the object itself.
const NOT_OWN: [&str; 8] = [
    "gateway",
    "dns",
    "public",
    "external",
    "nat",
    "broadcast",
    "router",
    "floating",
];
pub(super) const PUBLIC: [&str; 3] = ["public", "external", "floating"];
const ABOUT: [&str; 5] = ["descr", "comment", "note", "about", "remark"];

/// Sections that no list of exports has.
struct Absent {
    sections: &'static [&'static str],
    what: &'static str,
    /// What it means if there is none.
    none: &'static str,
    /// What networks lack otherwise.
    lacks: &'static [&'static str],
    /// Whether there is likely none.
    likely: bool,
}

/// Whether a field is about others, by a word of its name.
fn is_of_others(it: &Field) -> bool {
    it.name().split('_').any(|word| {
        NOT_OWN
            .iter()
            .any(|other| word.trim_end_matches('s') == *other || word == *other)
    })
}

impl Drafting<'_> {
    /// The records of entities that lie in those of another one, or in none.
    pub(super) fn records(
        &mut self,
        around: Option<usize>,
        gaps: &mut Vec<Records>,
    ) -> Vec<Records> {
        let mut all = Vec::new();
        for at in 0..self.entities.len() {
            let entity = self.entities[at].clone();
            if self.parent(&entity) != around {
                continue;
            }
            let inside = self.records(Some(at), gaps);
            match self.fields_of(&entity, gaps) {
                Some((head, fields)) => {
                    let from = self.from(&entity, around);
                    all.push(Records {
                        into: entity.section,
                        list: entity.list,
                        from,
                        head,
                        fields,
                        inside,
                    });
                }
                None => {
                    // What lies in objects that cannot be read is read by itself.
                    let whole = &self.lists[entity.list].path;
                    all.extend(inside.into_iter().map(|mut inner| {
                        inner.from = format!("{whole}{}", &inner.from[1..]);
                        inner
                    }));
                }
            }
        }
        all
    }

    fn from(&self, entity: &Entity, around: Option<usize>) -> String {
        let path = &self.lists[entity.list].path;
        let outer = around.map(|at| &self.lists[self.entities[at].list].path);
        let from = outer.map_or_else(
            || path.clone(),
            |outer| format!("${}", &path[outer.len()..]),
        );
        match self.left_out.get(&entity.list) {
            Some(condition) => filtered(&from, &format!("!({condition})")),
            None => from,
        }
    }

    /// The conditions and the fields of an entity's records; none if it cannot be read, which is a gap then.
    fn fields_of(
        &mut self,
        entity: &Entity,
        gaps: &mut Vec<Records>,
    ) -> Option<(Map<String, Json>, Map<String, Json>)> {
        let mut head = Map::new();
        let mut fields = Map::new();
        if is_not_read(entity.section) {
            self.gap(entity, None, "a draft does not describe them", gaps);
            return None;
        }
        let id = self.id_path(entity);
        if let (Some(_), Json::String(path)) = (entity.gather, &id) {
            head.insert("gather".into(), id.clone());
            fields.insert("id".into(), path.replacen('$', "$[0]", 1).into());
        } else if entity.section != "public_addresses" {
            fields.insert("id".into(), id);
        }
        let whole = match entity.section {
            "networks" => self.network(entity, &mut fields, gaps),
            "subnets" => self.subnet(entity, &mut fields),
            "interfaces" => self.interface(entity, &mut fields, gaps),
            "security_groups" | "network_acls" => self.filter(entity, &mut fields, gaps),
            "route_tables" => self.table(entity, &mut fields, gaps),
            "gateways" => self.gateway(entity, &mut fields, gaps),
            "public_addresses" => self.public_address(entity, &mut fields),
            "address_sets" => self.address_set(entity, &mut fields),
            "sites" => self.site(entity, &mut fields),
            _ => Some(()),
        };
        if whole.is_none() && entity.section == "public_addresses" {
            return None;
        }
        if whole.is_none() {
            self.gap(entity, None, "nobody said what they need", gaps);
            return None;
        }
        self.common(entity, &mut fields);
        Some((head, fields))
    }

    /// Declares objects, or a part of them, as lacking.
    pub(super) fn gap(
        &self,
        entity: &Entity,
        lacks: Option<&str>,
        reason: &str,
        gaps: &mut Vec<Records>,
    ) {
        let Some(id) = entity.id else { return };
        let kind = kind_of(entity.section);
        let id = self.lists[entity.list].fields[id].value();
        let mut fields = Map::new();
        fields.insert(
            "object".into(),
            json!({ "text": format!("{kind}:{{id}}"), "with": { "id": id } }),
        );
        fields.extend(lacks.map(|lacks| ("lacks".to_owned(), json!({ "constant": lacks }))));
        let held: &[Kind] = match kind {
            "network" | "subnet" => &[Kind::Blocks],
            "interface" => &[Kind::Addresses, Kind::Hosts],
            _ => &[],
        };
        if lacks.is_none() {
            fields.extend(
                self.all_of(entity, held)
                    .map(|them| ("blocks".to_owned(), them)),
            );
        }
        fields.insert("reason".into(), json!({ "constant": reason }));
        let from = self.lists[entity.list].path.clone();
        gaps.push(Records {
            into: "gaps",
            list: entity.list,
            from,
            head: Map::new(),
            fields,
            inside: Vec::new(),
        });
    }

    /// What networks lack: what stands in lists of which nobody knows what they are, and what the exports do not have at all.
    pub(super) fn gaps_of_networks(&mut self, gaps: &mut Vec<Records>) {
        let open = (0..self.lists.len()).filter(|at| self.roles[*at] == Role::Open);
        let open: Vec<String> = open.map(|at| self.lists[at].place()).collect();
        let mut lacking: Vec<(&str, String)> = Vec::new();
        if !open.is_empty() {
            let more = if open.len() > 1 {
                format!(" and {} more", open.len() - 1)
            } else {
                String::new()
            };
            let reason = format!("nobody said what is in {}{more}", open[0]);
            let all = [
                "interfaces",
                "own_firewalls",
                "groups",
                "rules",
                "routes",
                "gateway",
                "peering",
            ];
            lacking.extend(all.map(|lacks| (lacks, reason.clone())));
        } else {
            self.absent(&mut lacking);
            let sites = self.entities.iter().any(|entity| entity.section == "sites");
            if sites && lacking.iter().all(|(lacks, _)| *lacks != "routes") {
                lacking.push((
                    "routes",
                    "a draft does not describe what sites announce".to_owned(),
                ));
            }
        }
        for (lacks, reason) in std::mem::take(&mut self.unbound) {
            if lacking.iter().all(|(other, _)| *other != lacks) {
                lacking.push((lacks, reason));
            }
        }
        for entity in self
            .entities
            .clone()
            .iter()
            .filter(|entity| entity.section == "networks")
        {
            for (lacks, reason) in &lacking {
                let before = gaps.len();
                let part = (!matches!(*lacks, "gateway" | "peering")).then_some(*lacks);
                self.gap(entity, part.or(Some("")), reason, gaps);
                if let (None, Some(gap)) = (part, gaps.get_mut(before)) {
                    gap.fields.shift_remove("lacks");
                    if let Some(object) = gap.fields.get_mut("object") {
                        object["text"] = format!("{lacks}:of-{{id}}").into();
                    }
                }
            }
        }
    }

    /// What no list of the exports has: whether there is none is asked.
    fn absent(&mut self, lacking: &mut Vec<(&'static str, String)>) {
        let has = |drafting: &Self, sections: &[&str]| {
            drafting
                .entities
                .iter()
                .any(|entity| sections.contains(&entity.section))
        };
        let public = has(self, &["public_addresses"])
            || self
                .lists
                .iter()
                .flat_map(|list| &list.fields)
                .any(|it| it.is_called(&PUBLIC) && it.traits.kind == Kind::Addresses);
        let all = [
            Absent {
                sections: &["gateways", "hubs"],
                what: "ways out of networks",
                none: "no network has one",
                lacks: &["gateway"],
                likely: !public,
            },
            Absent {
                sections: &["route_tables"],
                what: "route tables",
                none: "networks have no routes but their own",
                lacks: &["routes"],
                likely: true,
            },
            Absent {
                sections: &["security_groups", "network_acls"],
                what: "rules",
                none: "nothing is filtered",
                lacks: &["groups", "rules"],
                likely: false,
            },
        ];
        for Absent {
            sections,
            what,
            none,
            lacks,
            likely,
        } in all
        {
            if has(self, sections) || !has(self, &["networks"]) {
                continue;
            }
            let answer = self.asker.ask(Question {
                about: format!("no {what}"),
                ask: format!("No list of the exports has {what}. Is that because {none}?"),
                seen: String::new(),
                choices: vec![none.to_owned(), "unknown".to_owned()],
                guess: likely.then(|| none.to_owned()),
                otherwise: "they are gaps".to_owned(),
                answer: None,
            });
            if answer.as_deref() != Some(none) {
                lacking.extend(
                    lacks
                        .iter()
                        .map(|lacks| (*lacks, format!("the exports have no {what}"))),
                );
            }
        }
    }

    /// Fields that all sections have.
    fn common(&mut self, entity: &Entity, fields: &mut Map<String, Json>) {
        let row = |path: &str| {
            if entity.gather.is_some() {
                path.replacen('$', "$[0]", 1)
            } else {
                path.to_owned()
            }
        };
        let list = &self.lists[entity.list];
        if entity.section != "owners"
            && let Some(owner) = self.relation(entity, "owners")
            && !fields.contains_key("owner")
        {
            fields.insert("owner".into(), owner);
        }
        if matches!(
            entity.section,
            "networks"
                | "subnets"
                | "workloads"
                | "interfaces"
                | "security_groups"
                | "network_acls"
        ) {
            fields.extend(
                self.tags(entity.list)
                    .filter(|_| entity.gather.is_none())
                    .map(|tags| ("tags".to_owned(), tags)),
            );
        }
        let about = list
            .fields
            .iter()
            .find(|it| !it.deep && !it.many && it.is_called(&ABOUT));
        if let Some(about) = about.filter(|_| entity.gather.is_none() && entity.section != "owners")
        {
            let blank = about.holders < list.records.len();
            let path = row(&about.path).into();
            fields.insert(
                "description".into(),
                if blank {
                    with(path, "without", "".into())
                } else {
                    path
                },
            );
        }
        if entity.section == "owners" {
            let contact = list
                .fields
                .iter()
                .find(|it| it.is_called(&["contact", "mail"]));
            fields.extend(contact.map(|it| ("contact".to_owned(), Json::from(it.path.as_str()))));
        }
    }

    /// Keys and values: an object of texts, or a list of pairs.
    fn tags(&self, list: usize) -> Option<Json> {
        let list = &self.lists[list];
        let around = |it: &Field| {
            it.path
                .rsplit_once(['.', '['])
                .map(|(around, _)| around.to_owned())
        };
        let called = |path: &str| {
            let path = path.to_lowercase();
            [".tags", ".labels", ".marks"]
                .iter()
                .any(|name| path.ends_with(name))
        };
        let object = list
            .fields
            .iter()
            .filter(|it| !it.deep && !it.many)
            .filter_map(around)
            .find(|path| called(path));
        let pair = |words: &[&str]| {
            let of_tags = |it: &&Field| {
                it.path
                    .rsplit_once('.')
                    .is_some_and(|(path, _)| called(path.trim_end_matches("[*]")))
            };
            list.fields
                .iter()
                .filter(of_tags)
                .find(|it| words.contains(&it.name().as_str()))
        };
        let last = |it: &Field| {
            format!(
                "$.{}",
                it.path.rsplit_once('.').map_or("", |(_, name)| name)
            )
        };
        let pairs = pair(&["k", "key", "name"]).zip(pair(&["v", "value"]));
        let pairs = pairs.map(|(key, value)| {
            let nodes = key.path.rsplit_once('.').map_or("$", |(nodes, _)| nodes);
            json!({ "pairs": nodes, "key": last(key), "value": last(value) })
        });
        object.map(Json::from).or(pairs)
    }

    /// All values of some kinds, those of the objects themselves first.
    fn all_of(&self, entity: &Entity, kinds: &[Kind]) -> Option<Json> {
        let list = &self.lists[entity.list];
        let of = |deep: bool| {
            let fits = |at: &usize| {
                let it = &list.fields[*at];
                it.deep == deep && kinds.contains(&it.traits.kind) && !is_of_others(it)
            };
            (0..list.fields.len()).filter(fits).collect::<Vec<_>>()
        };
        let own = of(false);
        let found = if own.is_empty() { of(true) } else { own };
        let mut made: Vec<Json> = found
            .into_iter()
            .map(|at| {
                let path = self.split_path(entity.list, at);
                if list.fields[at].traits.kind != Kind::Hosts {
                    return path;
                }
                let made = if path.is_object() {
                    json!({ "all_of": [path] })
                } else {
                    path
                };
                with(
                    with(made, "pattern", "([^/]+)(/.*)?".into()),
                    "becomes",
                    "$1".into(),
                )
            })
            .collect();
        match made.len() {
            0 => None,
            1 => made.pop(),
            _ => Some(made.into()),
        }
    }

    /// Whether the objects of a section are gaps because they lead to no object that they need, or to one that is a gap.
    fn falls(&self, section: &str) -> bool {
        let needs = match section {
            "interfaces" => "subnets",
            "subnets" | "route_tables" | "gateways" => "networks",
            _ => return !self.entities.iter().any(|entity| entity.section == section),
        };
        let stands = |entity: &Entity| {
            let about = format!(
                "{} {}",
                self.lists[entity.list].place(),
                needs.trim_end_matches('s')
            );
            self.asker.guesses()
                || self.asker.is_answered(&about)
                || self.relation(entity, needs).is_some() && !self.falls(needs)
        };
        !self
            .entities
            .iter()
            .any(|entity| entity.section == section && stands(entity))
    }

    /// What leads to an object that has to be named, if the exports or somebody tells.
    pub(super) fn needed(&mut self, entity: &Entity, section: &str, what: &str) -> Option<Json> {
        if let Some(made) = self.relation(entity, section) {
            return (!self.falls(section)).then_some(made);
        }
        let list = &self.lists[entity.list];
        let fields: Vec<String> = list
            .fields
            .iter()
            .take(8)
            .map(|it| format!("{} ({})", it.path, it.shown()))
            .collect();
        let answer = self.asker.ask(Question {
            about: format!("{} {what}", list.place()),
            ask: format!("Which field of {} says the {what}?", list.place()),
            seen: fields.join("; "),
            choices: Vec::new(),
            guess: None,
            otherwise: "the objects are gaps".to_owned(),
            answer: None,
        });
        answer
            .map(Json::from)
            .or_else(|| self.asker.guesses().then(|| "$.TODO".into()))
    }
}
