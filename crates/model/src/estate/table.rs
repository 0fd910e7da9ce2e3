//! Items by checked index and by name.

use super::shared_list::SharedList;
use rustc_hash::FxHashMap;
use std::cmp::Ordering;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::marker::PhantomData;
use std::ops::Index;
use std::sync::Arc;

/// A name as written in a snapshot: any text that is not empty.
pub type Name = Arc<str>;

/// An item of a [`Table`].
pub struct Id<T> {
    index: u32,
    kind: PhantomData<fn() -> T>,
}

impl<T> Id<T> {
    /// Stands for an item that is not there, in an estate that is refused.
    pub fn placeholder() -> Self {
        Self::new(0)
    }

    /// The item at a place of its table.
    fn new(index: usize) -> Self {
        Self {
            index: u32::try_from(index).expect("fewer than 2^32 items of a kind"),
            kind: PhantomData,
        }
    }

    /// The place in the table.
    pub fn index(self) -> usize {
        self.index as usize
    }
}

impl<T> Clone for Id<T> {
    fn clone(&self) -> Self {
        *self
    }
}
impl<T> Copy for Id<T> {}
impl<T> PartialEq for Id<T> {
    fn eq(&self, other: &Self) -> bool {
        self.index == other.index
    }
}
impl<T> Eq for Id<T> {}
impl<T> Hash for Id<T> {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.index.hash(state);
    }
}
impl<T> PartialOrd for Id<T> {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}
impl<T> Ord for Id<T> {
    fn cmp(&self, other: &Self) -> Ordering {
        self.index.cmp(&other.index)
    }
}
impl<T> fmt::Debug for Id<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "#{}", self.index)
    }
}

/// Gives out the ids of a table's items before the items are there, so that any item may refer to any.
#[derive(Debug)]
pub struct Reserve<T> {
    next: usize,
    kind: PhantomData<fn() -> T>,
}

impl<T> Default for Reserve<T> {
    fn default() -> Self {
        Self {
            next: 0,
            kind: PhantomData,
        }
    }
}

impl<T> Reserve<T> {
    /// The id of the next item.
    pub fn id(&mut self) -> Id<T> {
        self.next += 1;
        Id::new(self.next - 1)
    }
}

/// What has a name that is unique in its table.
pub trait Named {
    /// The name as written.
    fn name(&self) -> &Name;
}

/// All items of one kind, in the order of the files.
#[derive(Debug)]
pub struct Table<T> {
    items: SharedList<T>,
    by_name: Arc<FxHashMap<Name, Id<T>>>,
}

impl<T> Clone for Table<T> {
    fn clone(&self) -> Self {
        Self {
            items: self.items.clone(),
            by_name: Arc::clone(&self.by_name),
        }
    }
}

impl<T> Default for Table<T> {
    fn default() -> Self {
        Self {
            items: SharedList::default(),
            by_name: Arc::default(),
        }
    }
}

impl<T> Table<T> {
    /// Whether both are one table that neither has changed since it was copied.
    pub fn is_same(&self, other: &Self) -> bool {
        self.items.is_same(&other.items)
    }
}

impl<T: Named + Clone> Table<T> {
    /// Adds an item. If its name is taken, returns the item that has it and leaves the table as it was.
    pub fn add(&mut self, item: T) -> Result<Id<T>, Id<T>> {
        let id = Id::new(self.items.len());
        if let Some(taken) = self.by_name.get(item.name()) {
            return Err(*taken);
        }
        Arc::make_mut(&mut self.by_name).insert(item.name().clone(), id);
        self.items.push(item);
        Ok(id)
    }

    /// Puts an item where its id was reserved; a name that is taken stays with the first that had it. Items come in the order in
    /// which their ids were reserved.
    ///
    /// # Panics
    /// If another item's turn is.
    pub fn fill(&mut self, id: Id<T>, item: T) {
        assert_eq!(
            id.index(),
            self.items.len(),
            "items come in the order of their ids"
        );
        Arc::make_mut(&mut self.by_name)
            .entry(item.name().clone())
            .or_insert(id);
        self.items.push(item);
    }

    /// One item, to change it: a table that copies share is copied first.
    pub fn get_mut(&mut self, id: Id<T>) -> &mut T {
        &mut self.items[id.index()]
    }
}

impl<T: Named> Table<T> {
    /// The item of a name.
    pub fn find(&self, name: &str) -> Option<Id<T>> {
        self.by_name.get(name).copied()
    }

    /// The items with their ids.
    pub fn iter(&self) -> impl DoubleEndedIterator<Item = (Id<T>, &T)> + ExactSizeIterator {
        self.items
            .iter()
            .enumerate()
            .map(|(at, item)| (Id::new(at), item))
    }

    /// The ids.
    pub fn ids(&self) -> impl DoubleEndedIterator<Item = Id<T>> + ExactSizeIterator + use<T> {
        (0..self.items.len()).map(Id::new)
    }

    /// The items.
    pub fn items(&self) -> &[T] {
        &self.items
    }

    /// How many items there are.
    pub fn len(&self) -> usize {
        self.items.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.items.is_empty()
    }
}

impl<T> Index<Id<T>> for Table<T> {
    type Output = T;
    fn index(&self, id: Id<T>) -> &T {
        &self.items[id.index()]
    }
}

/// A name that stands for an item: found, or not in the snapshot.
#[derive(Debug)]
pub enum Reference<T> {
    /// The item is there.
    Found(Id<T>),
    /// No item has this name.
    Missing(Name),
}

impl<T> Clone for Reference<T> {
    fn clone(&self) -> Self {
        match self {
            Self::Found(id) => Self::Found(*id),
            Self::Missing(name) => Self::Missing(name.clone()),
        }
    }
}

impl<T> PartialEq for Reference<T> {
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Found(a), Self::Found(b)) => a == b,
            (Self::Missing(a), Self::Missing(b)) => a == b,
            _ => false,
        }
    }
}
impl<T> Eq for Reference<T> {}
impl<T> Hash for Reference<T> {
    fn hash<H: Hasher>(&self, state: &mut H) {
        match self {
            Self::Found(id) => id.hash(state),
            Self::Missing(name) => name.hash(state),
        }
    }
}

impl<T> Reference<T> {
    /// The item, if it is there.
    pub fn found(&self) -> Option<Id<T>> {
        match self {
            Self::Found(id) => Some(*id),
            Self::Missing(_) => None,
        }
    }
}
