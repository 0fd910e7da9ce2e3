//! Objects of a section, and how one leads to another: by a field, from around it, backwards, or by a list of pairs.

use super::Drafting;
use super::asked::Question;
use super::naming::id_of;
use super::naming::with;
use super::roles::{Role, within};
use super::values::{Kind, is_peer};
use serde_json::{Value as Json, json};

/// Objects of a section.
#[derive(Clone, Debug)]
pub(super) struct Entity {
    pub section: &'static str,
    pub list: usize,
    /// The column of which equal values make one object of several rows.
    pub gather: Option<usize>,
    /// The field by which people know them; none if no field tells them apart.
    pub id: Option<usize>,
}

impl Drafting<'_> {
    /// Finds the objects of each section.
    pub(super) fn find_entities(&mut self) {
        for (list, role) in self.roles.iter().enumerate() {
            if let Role::Section(section) = *role {
                let own_rows =
                    matches!(section, "security_groups" | "network_acls" | "route_tables")
                        .then(|| self.gather_of(list))
                        .flatten()
                        .filter(|_| {
                            let of = &self.lists[list];
                            let rules = super::roles::is_rules(list, self.lists, &self.links);
                            id_of(of).is_none() || rules || super::roles::route_fields(of).is_some()
                        });
                let id = own_rows.or_else(|| id_of(&self.lists[list]));
                self.entities.push(Entity {
                    section,
                    list,
                    gather: own_rows,
                    id,
                });
            }
        }
        for list in 0..self.lists.len() {
            let sections: &[&'static str] = match self.roles[list] {
                Role::Rules => &["security_groups", "network_acls"],
                Role::Routes => &["route_tables"],
                _ => continue,
            };
            let owned = self.entities.iter().any(|entity| {
                sections.contains(&entity.section) && self.belongs(list, entity.list)
            });
            if owned || self.lists[list].outer.is_some() {
                continue;
            }
            if let Some(gather) = self.gather_of(list) {
                let section = if sections.len() == 1 {
                    sections[0]
                } else {
                    self.section_of_rows(list, gather)
                };
                self.entities.push(Entity {
                    section,
                    list,
                    gather: Some(gather),
                    id: Some(gather),
                });
            }
        }
        self.entities.sort_by_key(|entity| entity.list);
        self.rules_of_nobody();
    }

    /// Rules and routes that belong to nothing: unless somebody says that they do not count, nobody knows what they do.
    fn rules_of_nobody(&mut self) {
        for list in 0..self.lists.len() {
            let reads: &[&str] = match self.roles[list] {
                Role::Rules => &["security_groups", "network_acls"],
                _ => &["route_tables"],
            };
            let owned = self.entities.iter().any(|entity| {
                let reads =
                    reads.contains(&entity.section) || super::naming::is_not_read(entity.section);
                entity.list == list || reads && self.belongs(list, entity.list)
            });
            let around = self.lists[list].outer.map(|outer| self.roles[outer]);
            let within_unknown = matches!(around, Some(Role::Open | Role::Part));
            if owned || within_unknown || !matches!(self.roles[list], Role::Rules | Role::Routes) {
                continue;
            }
            let place = self.lists[list].place();
            let answer = self.asker.ask(Question {
                about: format!("{place} belongs"),
                ask: format!("The rules or routes of {place} belong to no object of the exports. Do they count?"),
                seen: String::new(),
                choices: ["no", "unknown"].map(str::to_owned).to_vec(),
                guess: None,
                otherwise: "answers about the networks are unknown".to_owned(),
                answer: None,
            });
            self.roles[list] = if answer.as_deref() == Some("no") {
                Role::Nothing
            } else {
                Role::Open
            };
        }
    }

    /// Whether the objects of a list belong to those of another one.
    pub(super) fn belongs(&self, list: usize, owner: usize) -> bool {
        // What lies in an object is its own, and of no other.
        let lies = self
            .entities
            .iter()
            .any(|entity| within(self.lists, list, entity.list));
        let linked = || {
            self.links.between(list, owner).is_some() || self.links.between(owner, list).is_some()
        };
        list != owner && (within(self.lists, list, owner) || !lies && linked())
    }

    /// The column whose equal values make one object of several rows.
    fn gather_of(&self, list: usize) -> Option<usize> {
        let columns = &self.links.gathers[list];
        let led_to = |column: &&usize| {
            (0..self.lists.len()).any(|other| {
                (0..self.lists[other].fields.len()).any(|field| {
                    self.links
                        .of_field(other, field)
                        .iter()
                        .any(|link| (link.list, link.key) == (list, **column))
                })
            })
        };
        let named = |column: &&usize| {
            self.lists[list].fields[**column]
                .is_called(&["group", "list", "acl", "set", "polic", "table", "filter"])
        };
        let both = columns
            .iter()
            .find(|column| led_to(column) && named(column));
        both.or_else(|| columns.iter().find(led_to))
            .or_else(|| columns.iter().find(named))
            .copied()
    }

    /// Rows that subnets name are lists of subnets.
    fn section_of_rows(&self, list: usize, gather: usize) -> &'static str {
        let from = |section: &str| {
            self.entities
                .iter()
                .filter(|entity| entity.section == section)
                .any(|entity| {
                    (0..self.lists[entity.list].fields.len()).any(|field| {
                        self.links
                            .of_field(entity.list, field)
                            .iter()
                            .any(|link| (link.list, link.key) == (list, gather))
                    })
                })
        };
        let called = self.lists[list].name().contains("acl")
            || self.lists[list].fields[gather].is_called(&["acl"]);
        if from("subnets") && !from("interfaces") || called && !from("interfaces") {
            "network_acls"
        } else {
            "security_groups"
        }
    }

    /// The entity in whose records those of another one are written.
    pub(super) fn parent(&self, entity: &Entity) -> Option<usize> {
        let mut around = self.lists[entity.list].outer;
        while let Some(list) = around {
            let found = self.entities.iter().position(|other| {
                other.list == list && other.gather.is_none() && other.id.is_some()
            });
            if found.is_some() {
                return found;
            }
            around = self.lists[list].outer;
        }
        None
    }

    /// A field as a path, split if it holds several in one text.
    pub(super) fn split_path(&self, list: usize, field: usize) -> Json {
        let it = &self.lists[list].fields[field];
        let path: Json = it.path.as_str().into();
        match it
            .traits
            .split
            .filter(|between| it.traits.kind != Kind::Texts || self.is_split(list, field, between))
        {
            Some(between) => with(path, "split", between.into()),
            None => path,
        }
    }

    /// Whether texts are names and addresses beside each other: most of their parts are.
    fn is_split(&self, list: usize, field: usize, between: &str) -> bool {
        let it = &self.lists[list].fields[field];
        let links = self.links.of_field(list, field);
        let known = |part: &str| {
            is_peer(part)
                || links.iter().any(|link| {
                    self.lists[link.list].fields[link.key]
                        .values
                        .contains_key(part)
                })
        };
        let parts = || {
            it.values
                .keys()
                .flat_map(|value| value.split(between))
                .map(str::trim)
                .filter(|part| !part.is_empty())
        };
        parts().filter(|part| known(part)).count() * 2 >= parts().count()
    }

    /// What other records give for values.
    pub(super) fn lookup(&self, from: Json, list: usize, key: usize, take: Json) -> Json {
        let made = if from.is_object() {
            json!({ "all_of": [from] })
        } else {
            from
        };
        let list = &self.lists[list];
        let by = list.fields[key].value();
        let lookup =
            json!({ "files": list.files, "in_records": list.path, "by": by, "take": take });
        with(made, "lookup", lookup)
    }

    /// The id of objects, asked of one of their records.
    pub(super) fn id_path(&self, entity: &Entity) -> Json {
        entity.id.map_or_else(
            || "$.TODO".into(),
            |id| self.lists[entity.list].fields[id].value(),
        )
    }

    /// Values of a key of objects as their ids.
    fn by_key(&self, values: Json, to: &Entity, key: usize) -> Json {
        if to.id == Some(key) {
            values
        } else {
            self.lookup(values, to.list, key, self.id_path(to))
        }
    }

    /// The objects of a section to which those of another one lead.
    pub(super) fn relation(&self, from: &Entity, section: &str) -> Option<Json> {
        let targets: Vec<&Entity> = self
            .entities
            .iter()
            .filter(|entity| entity.section == section && entity.list != from.list)
            .collect();
        let direct = targets.iter().find_map(|to| self.direct(from, to));
        direct
            .or_else(|| targets.iter().find_map(|to| self.around(from, to)))
            .or_else(|| {
                targets
                    .iter()
                    .find_map(|to| self.backwards(from, to).or_else(|| self.by_pairs(from, to)))
            })
    }

    /// All objects of a section to which those of another one lead: by each field that names them, in each list of the section.
    pub(super) fn all_related(&self, from: &Entity, section: &str) -> Option<Json> {
        let mut all: Vec<Json> = Vec::new();
        for to in self
            .entities
            .iter()
            .filter(|entity| entity.section == section && entity.list != from.list)
        {
            let best = self
                .links
                .between(from.list, to.list)
                .map(|(field, _)| field);
            for field in 0..self.lists[from.list].fields.len() {
                let links = self
                    .links
                    .of_field(from.list, field)
                    .iter()
                    .filter(|link| link.list == to.list);
                let link = links.max_by_key(|link| (link.share, link.same_name));
                if let Some(link) =
                    link.filter(|link| Some(field) == best || link.named && link.share >= 50)
                {
                    all.push(self.by_key(self.split_path(from.list, field), to, link.key));
                }
            }
            if best.is_none() {
                all.extend(self.backwards(from, to).or_else(|| self.by_pairs(from, to)));
            }
        }
        match all.len() {
            0 => self.relation(from, section),
            1 => all.pop(),
            _ => Some(json!({ "all_of": all, "once": true })),
        }
    }

    fn direct(&self, from: &Entity, to: &Entity) -> Option<Json> {
        let (field, link) = self.links.between(from.list, to.list)?;
        let made = self.split_path(from.list, field);
        let made = match (from.gather, made) {
            (Some(_), Json::String(path)) => Json::from(path.replacen('$', "$[0]", 1)),
            (_, made) => made,
        };
        Some(self.by_key(made, to, link.key))
    }

    fn around(&self, from: &Entity, to: &Entity) -> Option<Json> {
        let mut made = self.id_path(to);
        let mut entity = from;
        loop {
            let parent = &self.entities[self.parent(entity)?];
            made = json!({ "outer": made });
            if parent.list == to.list {
                return Some(made);
            }
            entity = parent;
        }
    }

    pub(super) fn backwards(&self, from: &Entity, to: &Entity) -> Option<Json> {
        let (field, link) = self.links.between(to.list, from.list)?;
        if to.gather.is_some() || within(self.lists, from.list, to.list) {
            return None;
        }
        let key = self.lists[from.list].fields[link.key].value();
        let mut made = self.lookup(key, to.list, field, self.id_path(to));
        if let Some(by) = made.pointer_mut("/lookup/by") {
            *by = self.split_path(to.list, field);
        }
        Some(with(made, "otherwise", "leave-out".into()))
    }

    fn by_pairs(&self, from: &Entity, to: &Entity) -> Option<Json> {
        let pairs = (0..self.lists.len()).filter(|at| self.roles[*at] == Role::Pairs);
        pairs.into_iter().find_map(|at| {
            let (mine, my) = self.links.between(at, from.list)?;
            let (theirs, their) = self.links.between(at, to.list)?;
            let key = self.lists[from.list].fields[my.key].value();
            let take: Json = self.lists[at].fields[theirs].path.as_str().into();
            let made = with(
                self.lookup(key, at, mine, take),
                "otherwise",
                "leave-out".into(),
            );
            Some(self.by_key(made, to, their.key))
        })
    }

    /// What a rule calls the objects of a list: their kind, and their id.
    pub(super) fn peer_of(&self, list: usize, key: usize) -> Option<(&'static str, Json)> {
        let entity = self.entities.iter().find(|entity| entity.list == list)?;
        let kind = match entity.section {
            "security_groups" => "group",
            "address_sets" => "set",
            "interfaces" => "interface",
            "networks" => "network",
            "subnets" => "subnet",
            "sites" => "site",
            _ => return None,
        };
        let fits = entity.gather.is_none_or(|gather| gather == key);
        fits.then(|| (kind, self.id_path(entity)))
    }
}
