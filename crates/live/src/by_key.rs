//! Sets of what holds its own key: a node keeps many sessions and what they opened, and a map would hold each key a second time.

use std::borrow::Borrow;
use std::hash::{Hash, Hasher};
use std::marker::PhantomData;
use std::sync::Arc;

/// What holds the key that it is found by, which never changes.
pub trait Keyed<K> {
    /// The key.
    fn key(&self) -> &K;
}

/// A member of such a set.
#[derive(Debug)]
pub struct ByKey<K, T>(pub Arc<T>, PhantomData<fn() -> K>);

impl<K, T> ByKey<K, T> {
    /// For a set.
    pub fn new(held: Arc<T>) -> ByKey<K, T> {
        ByKey(held, PhantomData)
    }
}

impl<K, T: Keyed<K>> Borrow<K> for ByKey<K, T> {
    fn borrow(&self) -> &K {
        self.0.key()
    }
}

impl<K: PartialEq, T: Keyed<K>> PartialEq for ByKey<K, T> {
    fn eq(&self, other: &ByKey<K, T>) -> bool {
        self.0.key() == other.0.key()
    }
}

impl<K: Eq, T: Keyed<K>> Eq for ByKey<K, T> {}

impl<K: Hash, T: Keyed<K>> Hash for ByKey<K, T> {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.0.key().hash(state);
    }
}
