//! Which fields name objects of other lists: values that are the keys of objects elsewhere.

use super::naming::{id_of, is_id};
use super::naming::{is_named, stem};
use super::shape::{Field, List};
use super::values::{Kind, is_peer, is_word};
use rustc_hash::FxHashMap;

/// A field whose values are keys of another list.
#[derive(Clone, Copy, Debug)]
pub(super) struct Link {
    pub list: usize,
    /// The field of that list that has the values.
    pub key: usize,
    /// How many of the values are keys there, of 100.
    pub share: usize,
    /// Whether the name of the field says so as well: that of the list, or of its key.
    pub named: bool,
    pub same_name: bool,
}

/// All links, by list and field.
pub(super) struct Links {
    all: Vec<Vec<Vec<Link>>>,
    /// Columns of sheets whose rows are parts of one object, by list.
    pub gathers: Vec<Vec<usize>>,
}

/// From this share on a field is taken to lead to a list.
const ENOUGH: usize = 50;

/// Whether a field bears the name of the objects of its own list: `gateway_id` of gateways.
pub(super) fn is_own_id(field: &Field, list: &List) -> bool {
    stem(&field.name()) == stem(&list.name())
}

/// Columns that may gather rows: each row has one, several have the same, and they lead to no other list.
fn gathers(at: usize, list: &List, known: &Links) -> Vec<usize> {
    let may = |field: &Field| {
        !field.many
            && !field.deep
            && field.traits.kind == Kind::Texts
            && !field.is_unique()
            && field.holders == list.records.len()
            && !field.values.keys().all(|value| is_word(value))
    };
    (0..list.fields.len())
        .filter(|it| may(&list.fields[*it]) && !known.leads(at, *it, |_| true))
        .collect()
}

impl Links {
    /// Looks for them.
    pub fn of(lists: &[List]) -> Self {
        Self::with(lists, vec![Vec::new(); lists.len()])
    }

    /// Looks for them once more, where some lists may be rows of objects.
    pub fn of_rows(lists: &[List], known: &Self, is_rows: impl Fn(usize) -> bool) -> Self {
        let of = |(at, list)| {
            if is_rows(at) {
                gathers(at, list, known)
            } else {
                Vec::new()
            }
        };
        Self::with(lists, lists.iter().enumerate().map(of).collect())
    }

    fn with(lists: &[List], gathers: Vec<Vec<usize>>) -> Self {
        let mut index: FxHashMap<&str, Vec<(usize, usize)>> = FxHashMap::default();
        for (at, list) in lists.iter().enumerate() {
            let keys = list
                .keys()
                .map(|(key, _)| key)
                .chain(gathers[at].iter().copied());
            let id = id_of(list);
            // Words of rules are alike by chance; a name may be one all the same.
            let words = |it: &Field| {
                !is_id(it) && !is_own_id(it, list) && it.values.keys().all(|value| is_word(value))
            };
            let may = |key: &usize| match list.fields[*key].traits.kind {
                Kind::Texts | Kind::Numbers => {
                    let it = &list.fields[*key];
                    Some(*key) == id
                        || gathers[at].contains(key)
                        || is_id(it)
                        || is_own_id(it, list)
                }
                kind => kind == Kind::Addresses,
            };
            for key in keys.filter(may).filter(|key| !words(&list.fields[*key])) {
                for value in list.fields[key].values.keys() {
                    index.entry(value).or_default().push((at, key));
                }
            }
        }
        let links = |at: usize, field: &Field| {
            let mut hits: FxHashMap<(usize, usize), usize> = FxHashMap::default();
            let mut parts = 0;
            for value in field.values.keys() {
                let between = field.traits.split.unwrap_or("\0");
                for part in value
                    .split(between)
                    .map(str::trim)
                    .filter(|part| !part.is_empty())
                {
                    parts += 1;
                    if is_peer(part) && field.traits.kind != Kind::Addresses {
                        continue;
                    }
                    for place in index
                        .get(part)
                        .into_iter()
                        .flatten()
                        .filter(|(list, _)| *list != at)
                    {
                        *hits.entry(*place).or_default() += 1;
                    }
                }
            }
            let mut found: Vec<Link> = hits
                .into_iter()
                .map(|((list, key), count)| Link {
                    list,
                    key,
                    share: count * 100 / parts.max(1),
                    named: is_named(field, &lists[list]),
                    same_name: field.name() == lists[list].fields[key].name(),
                })
                // Small numbers are alike by chance.
                .filter(|link| link.named || link.same_name || field.traits.kind != Kind::Numbers)
                .collect();
            found.sort_by_key(|link| {
                (
                    std::cmp::Reverse((link.named, link.share, link.same_name)),
                    link.list,
                    link.key,
                )
            });
            found
        };
        let all = lists
            .iter()
            .enumerate()
            .map(|(at, list)| list.fields.iter().map(|field| links(at, field)).collect())
            .collect();
        Self { all, gathers }
    }

    /// Lists that a field may lead to, the likeliest first.
    pub fn of_field(&self, list: usize, field: usize) -> &[Link] {
        &self.all[list][field]
    }

    /// The likeliest field of a list that leads to another one.
    pub fn between(&self, from: usize, to: usize) -> Option<(usize, Link)> {
        let fields = self.all[from].iter().enumerate();
        fields
            .flat_map(|(field, links)| links.iter().map(move |link| (field, *link)))
            .filter(|(_, link)| link.list == to && link.share >= ENOUGH)
            .max_by_key(|(field, link)| {
                (
                    link.named,
                    link.share,
                    link.same_name,
                    std::cmp::Reverse((*field, link.key)),
                )
            })
    }

    /// Whether a field of the objects themselves leads to another list at all.
    pub fn touch(&self, lists: &[List], from: usize, to: usize) -> bool {
        let own = self.all[from]
            .iter()
            .zip(&lists[from].fields)
            .filter(|(_, it)| !it.deep);
        from != to && own.flat_map(|(links, _)| links).any(|link| link.list == to)
    }

    /// Whether a field mostly leads to a list.
    pub fn leads(&self, list: usize, field: usize, to: impl Fn(usize) -> bool) -> bool {
        self.all[list][field]
            .iter()
            .any(|link| link.share >= ENOUGH && to(link.list))
    }
}
