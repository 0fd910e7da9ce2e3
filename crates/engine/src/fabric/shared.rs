//! Values by key, each made once and shared by all threads.

use heronshale_sets::packet::for_all;
use rustc_hash::FxHashMap;
use std::hash::Hash;
use std::sync::{Arc, PoisonError, RwLock};

/// Values by key. Two threads may make the same one at a time; the first that is there stays.
pub(super) struct Shared<K, V>(RwLock<FxHashMap<K, Arc<V>>>);

impl<K, V> Default for Shared<K, V> {
    fn default() -> Self {
        Self(RwLock::default())
    }
}

impl<K: Eq + Hash + Clone, V> Shared<K, V> {
    /// Those of the values that are as good elsewhere.
    pub fn kept(&self, is_kept: impl Fn(&K, &V) -> bool) -> Self {
        let known = self.0.read().unwrap_or_else(PoisonError::into_inner);
        let kept = known.iter().filter(|(key, value)| is_kept(key, value));
        Self(RwLock::new(
            kept.map(|(key, value)| (key.clone(), Arc::clone(value)))
                .collect(),
        ))
    }

    /// The value of a key, made if it is not there yet. What it costs is nobody's effort.
    pub fn get(&self, key: K, make: impl FnOnce() -> V) -> Arc<V> {
        let known = self.0.read().unwrap_or_else(PoisonError::into_inner);
        if let Some(value) = known.get(&key) {
            return Arc::clone(value);
        }
        drop(known);
        let made = Arc::new(for_all(make));
        let mut all = self.0.write().unwrap_or_else(PoisonError::into_inner);
        Arc::clone(all.entry(key).or_insert(made))
    }
}
