//! Drafts of networks, subnets and what bounds them.

use super::*;

impl Drafting<'_> {
    pub(super) fn network(
        &mut self,
        entity: &Entity,
        fields: &mut Map<String, Json>,
        gaps: &mut Vec<Records>,
    ) -> Option<()> {
        let blocks = self.all_of(entity, &[Kind::Blocks]).or_else(|| {
            let subnets = self
                .entities
                .iter()
                .find(|other| other.section == "subnets")?;
            let (field, link) = self.links.between(subnets.list, entity.list)?;
            let key = self.lists[entity.list].fields[link.key].value();
            let take = self.all_of(subnets, &[Kind::Blocks])?;
            Some(with(
                self.lookup(key, subnets.list, field, take),
                "otherwise",
                "leave-out".into(),
            ))
        });
        fields.extend(blocks.map(|blocks| ("blocks".to_owned(), blocks)));
        match self.main_table(entity) {
            Some(table) => fields.extend(table.map(|table| ("main_table".to_owned(), table))),
            None => self.gap(
                entity,
                Some("routes"),
                "nobody said which route tables hold for its subnets",
                gaps,
            ),
        }
        Some(())
    }

    /// The route table of subnets that name none; the outer is none if somebody has to say whether there is one.
    #[expect(
        clippy::option_option,
        reason = "no main table, and one that nobody knows, are two things"
    )]
    pub(super) fn main_table(&mut self, entity: &Entity) -> Option<Option<Json>> {
        let Some(tables) = self
            .entities
            .iter()
            .find(|other| other.section == "route_tables")
            .cloned()
        else {
            return Some(None);
        };
        if self.links.between(entity.list, tables.list).is_some() {
            return Some(self.relation(entity, "route_tables"));
        }
        let subnets = self
            .entities
            .iter()
            .find(|other| other.section == "subnets")
            .cloned();
        if subnets.is_some_and(|subnets| self.relation(&subnets, "route_tables").is_some()) {
            return Some(None);
        }
        let place = self.lists[tables.list].place();
        let answer = self.asker.ask(Question {
            about: format!("{place} subnets"),
            ask: format!(
                "No subnet names a route table of {place}. For which subnets does a table hold?"
            ),
            seen: format!(
                "{} tables of {} networks",
                self.lists[tables.list].count, self.lists[entity.list].count
            ),
            choices: ["all of its network", "none"].map(str::to_owned).to_vec(),
            guess: Some("all of its network".to_owned()),
            otherwise: "the routes of networks are a gap".to_owned(),
            answer: None,
        })?;
        if answer == "none" {
            return Some(None);
        }
        let id = tables.id.map(|id| &self.lists[tables.list].fields[id].path);
        let inner = within(self.lists, tables.list, entity.list).then(|| {
            let suffix = &self.lists[tables.list].path[self.lists[entity.list].path.len()..];
            id.map(|id| Json::from(format!("${suffix}{}", &id[1..])))
        });
        Some(inner.flatten().or_else(|| self.backwards(entity, &tables)))
    }

    pub(super) fn list_of(&self, section: &str) -> Option<usize> {
        self.entities
            .iter()
            .find(|entity| entity.section == section)
            .map(|entity| entity.list)
    }

    pub(super) fn subnet(&mut self, entity: &Entity, fields: &mut Map<String, Json>) -> Option<()> {
        let network = self.needed(entity, "networks", "network")?;
        fields.insert("network".into(), network);
        fields.extend(
            self.all_of(entity, &[Kind::Blocks])
                .map(|blocks| ("blocks".to_owned(), blocks)),
        );
        for (section, field) in [
            ("network_acls", "acl"),
            ("route_tables", "route_table"),
            ("security_groups", "groups"),
        ] {
            fields.extend(
                self.relation(entity, section)
                    .map(|made| (field.to_owned(), made)),
            );
        }
        if self.list_of("network_acls").is_some() && !fields.contains_key("acl") {
            self.unbound.push((
                "rules",
                "nothing in the exports tells which subnets have which lists".to_owned(),
            ));
        }
        Some(())
    }

    /// A place on the premises. What it announces is a gap of the networks' routes.
    pub(super) fn site(&self, entity: &Entity, fields: &mut Map<String, Json>) -> Option<()> {
        let list = &self.lists[entity.list];
        // What is announced may be everything, which is not held.
        let held = |it: &Field| {
            it.traits.kind == Kind::Blocks
                && !it.is_called(&["announce", "advert", "route", "know", "learn"])
                && !it.values.keys().any(|value| value.ends_with("/0"))
        };
        let held = list.fields.iter().position(held)?;
        fields.insert("holds".to_owned(), self.split_path(entity.list, held));
        Some(())
    }

    pub(super) fn address_set(
        &mut self,
        entity: &Entity,
        fields: &mut Map<String, Json>,
    ) -> Option<()> {
        let content = self.all_of(
            entity,
            &[Kind::Blocks, Kind::Peers, Kind::Addresses, Kind::Hosts],
        )?;
        fields.insert("content".into(), content);
        Some(())
    }
}
