//! Drafts of interfaces and public addresses.

use super::*;

impl Drafting<'_> {
    pub(super) fn interface(
        &mut self,
        entity: &Entity,
        fields: &mut Map<String, Json>,
        gaps: &mut Vec<Records>,
    ) -> Option<()> {
        let subnet = self.needed(entity, "subnets", "subnet")?;
        // Several addresses may each name the subnet.
        let several = subnet.to_string().contains("[*].");
        fields.insert(
            "subnet".into(),
            if several {
                with(subnet, "once", true.into())
            } else {
                subnet
            },
        );
        fields.extend(
            self.all_of(entity, &[Kind::Addresses, Kind::Hosts])
                .map(|them| ("addresses".to_owned(), them)),
        );
        let groups = self.all_related(entity, "security_groups").or_else(|| {
            let parent = self.entities[self.parent(entity)?].clone();
            (parent.section == "workloads")
                .then(|| self.relation(&parent, "security_groups"))?
                .map(|made| json!({ "outer": made }))
        });
        let subnets = self
            .entities
            .iter()
            .find(|other| other.section == "subnets");
        let of_subnets =
            subnets.is_some_and(|subnets| self.relation(subnets, "security_groups").is_some());
        if groups.is_none() && !of_subnets && self.list_of("security_groups").is_some() {
            self.unbound.push((
                "groups",
                "nothing in the exports tells which interfaces have which groups".to_owned(),
            ));
        }
        fields.extend(groups.map(|made| ("groups".to_owned(), made)));
        fields.extend(
            self.relation(entity, "workloads")
                .map(|made| ("workload".to_owned(), made)),
        );
        self.bare_interfaces(entity, gaps);
        self.flags_of_interfaces(entity, fields, gaps);
        let list = &self.lists[entity.list];
        let public = list.fields.iter().find(|it| {
            !it.deep && !it.many && it.traits.kind == Kind::Addresses && it.is_called(&PUBLIC)
        });
        if let Some(public) = public
            && self.list_of("public_addresses").is_none()
        {
            let id = self.id_path(entity);
            let of_public = Map::from_iter([
                ("address".to_owned(), Json::from(public.path.as_str())),
                ("interface".to_owned(), id),
            ]);
            let (list, from) = (entity.list, list.path.clone());
            let head = Map::from_iter([("having".to_owned(), json!([{ "path": public.path }]))]);
            gaps.push(Records {
                into: "public_addresses",
                list,
                from,
                head,
                fields: of_public,
                inside: Vec::new(),
            });
        }
        Some(())
    }

    /// Interfaces without a group: what they may receive is asked, or a gap.
    pub(super) fn bare_interfaces(&mut self, entity: &Entity, gaps: &mut Vec<Records>) {
        let groups = self
            .entities
            .iter()
            .find(|other| other.section == "security_groups")
            .map(|other| other.list);
        let Some((field, _)) = groups.and_then(|groups| self.links.between(entity.list, groups))
        else {
            return;
        };
        let list = &self.lists[entity.list];
        let bare = list
            .records
            .iter()
            .filter(|record| list.of(record, field).next().is_none())
            .count();
        if bare == 0 || list.path == "$" {
            return;
        }
        let answer = self.asker.ask(Question {
            about: format!("{} without groups", list.place()),
            ask: format!(
                "{bare} of {} objects of {} have no group. What may they receive and send?",
                list.count,
                list.place()
            ),
            seen: list.fields[field].path.clone(),
            choices: ["everything", "nothing"].map(str::to_owned).to_vec(),
            guess: Some("everything".to_owned()),
            otherwise: "their groups are a gap".to_owned(),
            answer: None,
        });
        if let Some(answer) = answer {
            self.no_group = Some((
                entity.list,
                if answer == "nothing" { "deny" } else { "allow" },
            ));
            return;
        }
        let path = &list.fields[field].path[1..];
        let empty = if list.fields[field].many {
            String::new()
        } else {
            format!(" || @{path} == null || @{path} == ''")
        };
        let plain = list
            .path
            .strip_suffix("[*]")
            .or_else(|| list.path.strip_suffix(".*"))
            .unwrap_or(&list.path);
        let from = format!("{plain}[?!@{path}{empty}]");
        let before = gaps.len();
        self.gap(
            entity,
            Some("groups"),
            "nobody said what holds without a group",
            gaps,
        );
        if let Some(gap) = gaps.get_mut(before) {
            gap.from = from;
        }
    }

    pub(super) fn public_address(
        &mut self,
        entity: &Entity,
        fields: &mut Map<String, Json>,
    ) -> Option<()> {
        let list = &self.lists[entity.list];
        let interfaces = self.list_of("interfaces");
        let private = |at: usize| {
            self.links
                .leads(entity.list, at, |to| Some(to) == interfaces)
        };
        let is_address =
            |at: &usize| list.fields[*at].traits.kind == Kind::Addresses && !private(*at);
        let called = (0..list.fields.len())
            .filter(is_address)
            .find(|at| list.fields[*at].is_called(&PUBLIC));
        let address = called.or_else(|| (0..list.fields.len()).find(is_address))?;
        fields.insert("address".into(), list.fields[address].path.as_str().into());
        let holder = self.relation(entity, "interfaces");
        // As long as nobody said what a list is, who holds an address may stand there.
        let is_open = holder.is_none() && self.roles.contains(&Role::Open);
        if is_open
            || holder.is_some() && self.falls("interfaces")
            || holder.is_none() && !self.held_by_nobody(entity)
        {
            self.unbound.push((
                "gateway",
                "nothing in the exports tells who holds the public addresses".to_owned(),
            ));
            return None;
        }
        fields.extend(holder.map(|made| ("interface".to_owned(), made)));
        Some(())
    }

    /// Whether addresses that lead to no interface are held by nobody.
    pub(super) fn held_by_nobody(&mut self, entity: &Entity) -> bool {
        let place = self.lists[entity.list].place();
        let answer = self.asker.ask(Question {
            about: format!("{place} holders"),
            ask: format!(
                "Nothing in {place} leads to interfaces. Are all of these addresses held by nobody?"
            ),
            seen: String::new(),
            choices: ["yes", "unknown"].map(str::to_owned).to_vec(),
            guess: None,
            otherwise: "they are not read, and nothing of ways from the internet is certain"
                .to_owned(),
            answer: None,
        });
        answer.as_deref() == Some("yes")
    }
}
