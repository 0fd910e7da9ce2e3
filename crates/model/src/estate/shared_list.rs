//! Lists that copies share.

use std::ops::{Deref, DerefMut};
use std::sync::Arc;

/// A list that copies share until one of them changes it: to copy an estate costs little, and what a change left alone
/// shows.
#[derive(Debug, PartialEq, Eq)]
pub struct SharedList<T>(Arc<Vec<T>>);

impl<T> SharedList<T> {
    /// Whether both are one list that neither has changed since it was copied.
    pub fn is_same(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }
}

impl<T> Clone for SharedList<T> {
    fn clone(&self) -> Self {
        Self(Arc::clone(&self.0))
    }
}

impl<T> Default for SharedList<T> {
    fn default() -> Self {
        Self(Arc::new(Vec::new()))
    }
}

impl<T> From<Vec<T>> for SharedList<T> {
    fn from(items: Vec<T>) -> Self {
        Self(Arc::new(items))
    }
}

impl<T> Deref for SharedList<T> {
    type Target = Vec<T>;

    fn deref(&self) -> &Vec<T> {
        &self.0
    }
}

impl<T: Clone> DerefMut for SharedList<T> {
    /// A list that others share is copied first.
    fn deref_mut(&mut self) -> &mut Vec<T> {
        Arc::make_mut(&mut self.0)
    }
}

impl<'l, T> IntoIterator for &'l SharedList<T> {
    type Item = &'l T;
    type IntoIter = std::slice::Iter<'l, T>;

    fn into_iter(self) -> Self::IntoIter {
        self.0.iter()
    }
}
