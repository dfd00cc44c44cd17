//! The live edition, swapped in one step. Whoever began with one keeps it.

use std::sync::{Arc, Mutex, RwLock};

use passeur_core::Moment;
use passeur_core::decide::RequestView;
use passeur_core::site::Site;

/// A published edition with its number.
#[derive(Debug)]
pub struct Edition {
    pub number: i32,
    /// When it was published.
    pub since: Moment,
    pub site: Site,
    /// What each gate's conditions ask of single requests, in the order of the gates.
    views: Vec<RequestView>,
}

impl Edition {
    /// From a site that was published.
    pub fn new(number: i32, since: Moment, site: Site) -> Edition {
        let views = site.gates.iter().map(RequestView::of).collect();
        Edition { number, since, site, views }
    }

    /// What the conditions of the gate at a place in the site ask of single requests.
    pub fn view_at(&self, index: usize) -> Option<&RequestView> {
        self.views.get(index)
    }

    /// What a gate's conditions ask of single requests.
    pub fn view(&self, gate: &str) -> Option<&RequestView> {
        self.site.gates.iter().position(|g| g.name == gate).and_then(|i| self.view_at(i))
    }
}

/// Told of an edition before it is live.
type Follower = Box<dyn Fn(&Arc<Edition>) + Send + Sync>;

/// The place where the live edition stands. Cheap to clone.
#[derive(Clone, Default)]
pub struct Live(Arc<Place>);

#[derive(Default)]
struct Place {
    edition: RwLock<Option<Arc<Edition>>>,
    followers: Mutex<Vec<Follower>>,
}

impl Live {
    /// The live edition; none before the first was published.
    pub fn get(&self) -> Option<Arc<Edition>> {
        self.0.edition.read().unwrap_or_else(|e| e.into_inner()).clone()
    }

    /// Swaps it, once every follower has made of it what it needs: whoever reads meanwhile reads the one before, and waits for nobody. An
    /// older edition never replaces a newer one.
    pub fn set(&self, edition: Edition) {
        // Held to the end: one edition after the other, and nobody begins to follow in between.
        let followers = self.0.followers.lock().unwrap_or_else(|e| e.into_inner());
        if self.get().is_some_and(|old| old.number > edition.number) {
            return;
        }
        let edition = Arc::new(edition);
        for tell in followers.iter() {
            tell(&edition);
        }
        *self.0.edition.write().unwrap_or_else(|e| e.into_inner()) = Some(edition);
    }

    /// Tells `follower` of the edition that is live, and of each one from then on before it is. It may read this place in turn, and not
    /// write it.
    pub fn follow(&self, follower: impl Fn(&Arc<Edition>) + Send + Sync + 'static) {
        let mut followers = self.0.followers.lock().unwrap_or_else(|e| e.into_inner());
        if let Some(edition) = self.get() {
            follower(&edition);
        }
        followers.push(Box::new(follower));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn edition(number: i32) -> Edition {
        let (site, findings) = passeur_core::document::compile(include_str!("../../../demo/site.toml"));
        Edition::new(number, chrono::DateTime::UNIX_EPOCH, site.unwrap_or_else(|| panic!("{findings:#?}")))
    }

    #[test]
    fn an_older_edition_replaces_no_newer_one_and_whoever_follows_is_told_first() {
        let live = Live::default();
        live.set(edition(2));
        let told = Arc::new(Mutex::new(vec![]));
        let (seen, place) = (told.clone(), Arc::downgrade(&live.0));
        live.follow(move |e| {
            let now = place.upgrade().and_then(|p| Live(p).get().map(|e| e.number));
            seen.lock().unwrap_or_else(|e| e.into_inner()).push((e.number, now));
        });
        live.set(edition(1));
        live.set(edition(3));
        live.set(edition(3));
        assert_eq!(live.get().map(|e| e.number), Some(3));
        // The first was live; when the others were told, the one before still was.
        assert_eq!(*told.lock().unwrap_or_else(|e| e.into_inner()), [(2, Some(2)), (3, Some(2)), (3, Some(3))]);
    }
}
