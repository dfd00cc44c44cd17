//! The live edition, swapped in one step. A request keeps the one it began with.

use std::sync::{Arc, RwLock};

use passeur_core::site::Site;

/// A published edition with its number.
#[derive(Debug)]
pub struct Edition {
    pub number: i32,
    pub site: Site,
}

/// The place where the live edition stands.
#[derive(Clone, Default)]
pub struct Live(Arc<RwLock<Option<Arc<Edition>>>>);

impl Live {
    /// The live edition; none before the first was published.
    pub fn get(&self) -> Option<Arc<Edition>> {
        self.0.read().unwrap_or_else(|e| e.into_inner()).clone()
    }

    /// Swaps it. An older edition never replaces a newer one.
    pub fn set(&self, edition: Edition) {
        let mut place = self.0.write().unwrap_or_else(|e| e.into_inner());
        if place.as_ref().is_none_or(|old| old.number < edition.number) {
            *place = Some(Arc::new(edition));
        }
    }
}
