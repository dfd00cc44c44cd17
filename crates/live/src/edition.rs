//! The live edition, swapped in one step. Whoever began with one keeps it.

use std::sync::{Arc, RwLock};

use passeur_core::Moment;
use passeur_core::circumstances::Circumstances;
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

    /// How a request looks to a gate's conditions.
    pub fn look(&self, gate: &str, at: &Circumstances<'_>) -> u64 {
        self.view(gate).map_or(0, |v| v.look(at))
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
    followers: RwLock<Vec<Follower>>,
}

impl Live {
    /// The live edition; none before the first was published.
    pub fn get(&self) -> Option<Arc<Edition>> {
        self.0.edition.read().unwrap_or_else(|e| e.into_inner()).clone()
    }

    /// Swaps it, once every follower has made of it what it needs. An older edition never replaces a newer one.
    pub fn set(&self, edition: Edition) {
        let mut place = self.0.edition.write().unwrap_or_else(|e| e.into_inner());
        if place.as_ref().is_none_or(|old| old.number <= edition.number) {
            let edition = Arc::new(edition);
            for tell in self.0.followers.read().unwrap_or_else(|e| e.into_inner()).iter() {
                tell(&edition);
            }
            *place = Some(edition);
        }
    }

    /// Tells `follower` of the edition that is live, and of each one from then on before it is. It may not ask this place in turn.
    pub fn follow(&self, follower: impl Fn(&Arc<Edition>) + Send + Sync + 'static) {
        // Held, so that no edition takes effect between the two.
        let place = self.0.edition.read().unwrap_or_else(|e| e.into_inner());
        if let Some(edition) = place.as_ref() {
            follower(edition);
        }
        self.0.followers.write().unwrap_or_else(|e| e.into_inner()).push(Box::new(follower));
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Mutex;

    use super::*;

    fn edition(number: i32) -> Edition {
        let (site, findings) = passeur_core::site::compile(include_str!("../../../demo/site.toml"));
        Edition::new(number, chrono::DateTime::UNIX_EPOCH, site.unwrap_or_else(|| panic!("{findings:#?}")))
    }

    #[test]
    fn an_older_edition_replaces_no_newer_one_and_whoever_follows_is_told_first() {
        let live = Live::default();
        live.set(edition(2));
        let told = Arc::new(Mutex::new(vec![]));
        let (seen, place) = (told.clone(), Arc::downgrade(&live.0));
        live.follow(move |e| {
            let now = place.upgrade().and_then(|p| p.edition.try_read().ok()?.as_ref().map(|e| e.number));
            seen.lock().unwrap_or_else(|e| e.into_inner()).push((e.number, now));
        });
        live.set(edition(1));
        live.set(edition(3));
        live.set(edition(3));
        assert_eq!(live.get().map(|e| e.number), Some(3));
        // The first was live; the others were not yet: their place was being written.
        assert_eq!(*told.lock().unwrap_or_else(|e| e.into_inner()), [(2, Some(2)), (3, None), (3, None)]);
    }
}
