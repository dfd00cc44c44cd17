//! Who is on at RADIUS clients, as this node knows it: whom it let in, and whom a node let in that is gone.

use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Instant;

use chrono::Duration;
use passeur_core::Moment;
use passeur_core::account::Account;
use passeur_core::session::{Lifetimes, State};
use passeur_core::site::RadiusClient;
use passeur_engine::engine::Held;
use passeur_live::session::LiveSession;
use passeur_store::{PresenceRow, RadiusRow};
use uuid::Uuid;

use super::orders::Bond;

/// A session at a client.
#[derive(Clone)]
pub struct Present {
    pub row: PresenceRow,
    pub at: RadiusRow,
    /// What the client tells of it, as it was read last.
    pub account: Account,
    /// When it was noted here: nobody is silent before that.
    pub since: Moment,
    /// What memory knows of the person's session; none where nobody here let anybody in.
    pub live: Option<Arc<LiveSession>>,
    pub limits: Lifetimes,
    /// When anything passed last, as far as the client tells.
    pub moved: Moment,
    /// Until when what the directory said is good.
    pub good_until: Option<Moment>,
    /// The client, and what proves orders to it, as they were when they were known last.
    pub client: Option<RadiusClient>,
    pub bond: Option<Bond>,
    /// The edition under which it was decided on last; none where it has to be decided on again.
    pub decided: Option<i32>,
    /// When it was decided on last, or could not be.
    pub looked_at: Option<Instant>,
    /// Whether it is ordered about just now, and from when it may be again.
    pub busy: bool,
    pub rests_until: Option<Instant>,
    /// Why it is to end, where that is more than what its session says.
    pub doomed: Option<&'static str>,
}

impl Present {
    /// Why it is to end now; none where it may go on.
    pub fn is_over(&self, now: Moment) -> Option<&'static str> {
        if let Some(why) = self.doomed {
            return Some(why);
        }
        match self.live.as_ref()?.state(&self.limits, now) {
            State::Ended => Some("ended"),
            State::TooOld => Some("too-old"),
            // Whoever is on there uses it, as far as is known here: what is known is looked at below.
            State::Live | State::IdleTooLong => self.is_idle(now).then_some("idle-too-long"),
        }
    }

    /// Whether nothing passed for too long. The client sees to that by itself (Idle-Timeout); where it tells what passes, it is seen here as
    /// well, later by what lies between its reports. A client that tells nothing is believed.
    fn is_idle(&self, now: Moment) -> bool {
        let interim = self.client.as_ref().map_or(Duration::hours(1), |c| c.interim);
        self.account.interim && now - self.moved > self.limits.idle + interim * 2
    }

    /// Whether it may be looked after now.
    pub fn is_ready(&self, now: Instant) -> bool {
        !self.busy && self.rests_until.is_none_or(|until| until <= now)
    }
}

/// All of them.
#[derive(Default)]
pub struct Book(Mutex<HashMap<Uuid, Present>>);

impl Book {
    fn all(&self) -> MutexGuard<'_, HashMap<Uuid, Present>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Notes one; what is known of one that is there already stays.
    pub fn note(&self, present: Present) {
        self.all().entry(present.row.id).or_insert(present);
    }

    /// Forgets one.
    pub fn forget(&self, id: Uuid) {
        self.all().remove(&id);
    }

    /// Keeps those that are open, as it was read at a moment, and says which of them are not known. Those that were noted since are kept.
    pub fn keep(&self, open: &[Uuid], read_at: Moment) -> Vec<Uuid> {
        let mut all = self.all();
        let is_open: HashSet<&Uuid> = open.iter().collect();
        all.retain(|id, p| p.busy || p.since >= read_at || is_open.contains(id));
        open.iter().filter(|id| !all.contains_key(id)).copied().collect()
    }

    /// Changes one, where it is there.
    pub fn change<T>(&self, id: Uuid, change: impl FnOnce(&mut Present) -> T) -> Option<T> {
        self.all().get_mut(&id).map(change)
    }

    /// One.
    pub fn get(&self, id: Uuid) -> Option<Present> {
        self.all().get(&id).cloned()
    }

    /// Those of whom something holds.
    pub fn of(&self, holds: impl Fn(&Present) -> bool) -> Vec<Uuid> {
        self.all().iter().filter(|(_, p)| holds(p)).map(|(id, _)| *id).collect()
    }

    /// Sessions whose rights changed are decided on again. Whether there are any.
    pub fn rights_changed(&self, sessions: &[Uuid]) -> bool {
        let changed: HashSet<&Uuid> = sessions.iter().collect();
        let mut any = false;
        for p in self.all().values_mut().filter(|p| p.row.session_id.is_some_and(|s| changed.contains(&s))) {
            (p.decided, p.looked_at, any) = (None, None, true);
        }
        any
    }

    /// Marks one as ordered about, where nothing else is done with it just now.
    pub fn take(&self, id: Uuid) -> Option<Present> {
        let mut all = self.all();
        let present = all.get_mut(&id).filter(|p| !p.busy)?;
        present.busy = true;
        Some(present.clone())
    }

    /// Clients that tell of sessions.
    pub fn who_tells(&self) -> HashSet<String> {
        self.all().values().filter(|p| p.account.heard.is_some()).map(|p| p.at.client.clone()).collect()
    }

    /// Whoever is on uses their session.
    pub fn touch(&self, now: Moment) {
        let all = self.all();
        all.values().filter(|p| p.doomed.is_none()).filter_map(|p| p.live.as_ref()).for_each(|live| live.touch(now));
    }

    /// What is held for sessions here, so that their people are looked up again in time.
    pub fn held(&self) -> Vec<Held> {
        let one = |p: &Present| {
            let session = p.row.session_id?;
            Some(Held { session, gate: p.row.gate.clone(), good_until: p.good_until })
        };
        self.all().values().filter_map(one).collect()
    }
}
