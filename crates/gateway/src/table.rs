//! Sessions and admissions in memory: a cache of what the store and core said, never an authority of its own.

use std::collections::{HashMap, HashSet};
use std::sync::atomic::{AtomicI64, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, RwLock, Weak};
use std::time::Instant;

use passeur_core::Moment;
use uuid::Uuid;

use crate::admission::{Admission, SessionLive};

const SHARDS: usize = 16;
/// The most admissions kept in memory on a node; more are loaded again from the store when they are next used.
const ADMISSIONS_MAX: usize = 200_000;

/// By a token's digest, and how the request looks to the gate's conditions.
type Shard = HashMap<([u8; 32], u64), Arc<Admission>>;

/// The session table of a node.
pub struct Table {
    shards: Vec<RwLock<Shard>>,
    sessions: Mutex<HashMap<Uuid, Arc<SessionLive>>>,
    /// How often sessions were ended here.
    ends: AtomicU64,
    /// Admissions that a newer one took the place of while a connection or a stream held them.
    strays: Mutex<Vec<Weak<Admission>>>,
    began: Instant,
    /// Milliseconds after `began` at which the revocation counter was last seen.
    revocations_seen: AtomicI64,
}

impl Default for Table {
    fn default() -> Table {
        Table {
            shards: (0..SHARDS).map(|_| RwLock::default()).collect(),
            sessions: Mutex::default(),
            ends: AtomicU64::new(0),
            strays: Mutex::default(),
            began: Instant::now(),
            revocations_seen: AtomicI64::new(0),
        }
    }
}

impl Table {
    fn shard(&self, digest: &[u8; 32]) -> &RwLock<Shard> {
        &self.shards[usize::from(digest[0]) % SHARDS]
    }

    fn sessions(&self) -> MutexGuard<'_, HashMap<Uuid, Arc<SessionLive>>> {
        self.sessions.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// The admission of a token, for requests that look like this.
    pub fn get(&self, digest: &[u8; 32], look: u64) -> Option<Arc<Admission>> {
        self.shard(digest).read().unwrap_or_else(|e| e.into_inner()).get(&(*digest, look)).cloned()
    }

    /// Keeps an admission, unless its session was ended while it was made.
    pub fn put(&self, digest: [u8; 32], admission: Arc<Admission>) {
        let mut shard = self.shard(&digest).write().unwrap_or_else(|e| e.into_inner());
        if shard.len() >= ADMISSIONS_MAX / SHARDS {
            shard.retain(|_, a| !a.session.is_ended());
        }
        // An end that comes later finds it here: it flags the session first and then looks through the shards.
        if shard.len() < ADMISSIONS_MAX / SHARDS && !admission.session.is_ended() {
            let before = shard.insert((digest, admission.look), admission);
            drop(shard);
            self.stray(before);
        }
    }

    /// Remembers admissions that are taken out of the table while somebody holds them.
    fn stray(&self, gone: impl IntoIterator<Item = Arc<Admission>>) {
        let held = gone.into_iter().filter(|a| Arc::strong_count(a) > 1).map(|a| Arc::downgrade(&a));
        let mut strays = self.strays.lock().unwrap_or_else(|e| e.into_inner());
        for one in held {
            if strays.len() == strays.capacity() {
                strays.retain(|w| w.strong_count() > 0);
            }
            if !strays.iter().any(|w| w.ptr_eq(&one)) {
                strays.push(one);
            }
        }
    }

    /// Admissions outside the table that somebody still holds.
    fn strays(&self) -> Vec<Arc<Admission>> {
        let mut strays = self.strays.lock().unwrap_or_else(|e| e.into_inner());
        strays.retain(|w| w.strong_count() > 0);
        strays.iter().filter_map(Weak::upgrade).collect()
    }

    /// Forgets every admission of a session that is over.
    pub fn forget_session(&self, id: Uuid) {
        for shard in &self.shards {
            shard.write().unwrap_or_else(|e| e.into_inner()).retain(|_, a| a.session.id != id);
        }
    }

    /// Rights of sessions were read again: what was decided for them before counts no more, whoever holds it. Returns what
    /// connections and streams hold of them, to be looked at.
    pub fn rights_changed(&self, ids: &[Uuid]) -> Vec<Arc<Admission>> {
        let changed: Vec<_> = {
            let sessions = self.sessions();
            ids.iter().filter_map(|id| sessions.get(id).cloned()).collect()
        };
        for session in &changed {
            session.rights_changed();
        }
        let theirs = |a: &Admission| ids.contains(&a.session.id);
        let mut held = vec![];
        for shard in &self.shards {
            let mut shard = shard.write().unwrap_or_else(|e| e.into_inner());
            // One count is that of the admission taken out here.
            held.extend(shard.extract_if(|_, a| theirs(a)).map(|(_, a)| a).filter(|a| Arc::strong_count(a) > 1));
        }
        // Looked at last: what a newer admission takes the place of goes from the table there, and must not be missed.
        let before = self.strays().into_iter().filter(|a| theirs(a));
        self.stray(held.iter().cloned());
        held.extend(before);
        held
    }

    /// How often sessions were ended here, to be taken before one is read from the store.
    pub fn ends(&self) -> u64 {
        self.ends.load(Ordering::Acquire)
    }

    /// The shared state of a session that was read as not ended, after `ends` was taken: the one in memory, or a new one. None where
    /// any session was ended since: it may be this one, so it has to be read again. Whatever ends it from here on finds it.
    pub fn session(
        &self,
        ends: u64,
        id: Uuid,
        began: Moment,
        last_seen: Moment,
        until: Option<Moment>,
    ) -> Option<Arc<SessionLive>> {
        let mut sessions = self.sessions();
        if self.ends() != ends {
            return None;
        }
        let live = sessions.entry(id).or_insert_with(|| Arc::new(SessionLive::new(id, began, last_seen, until)));
        live.touch(last_seen);
        Some(live.clone())
    }

    /// What is known of a session in memory.
    pub fn known(&self, id: Uuid) -> Option<Arc<SessionLive>> {
        self.sessions().get(&id).cloned()
    }

    /// Ends sessions here: flags them and forgets their admissions.
    pub fn end(&self, ids: &[Uuid]) {
        let ended: Vec<_> = {
            let mut sessions = self.sessions();
            if !ids.is_empty() {
                self.ends.fetch_add(1, Ordering::AcqRel);
            }
            ids.iter().filter_map(|id| sessions.remove(id)).collect()
        };
        for session in &ended {
            session.end();
        }
        if !ended.is_empty() {
            for shard in &self.shards {
                shard.write().unwrap_or_else(|e| e.into_inner()).retain(|_, a| !a.session.is_ended());
            }
        }
    }

    /// Every admission in memory.
    pub fn admissions(&self) -> Vec<Arc<Admission>> {
        self.shards
            .iter()
            .flat_map(|s| s.read().unwrap_or_else(|e| e.into_inner()).values().cloned().collect::<Vec<_>>())
            .collect()
    }

    /// Admissions that a connection or a stream holds besides this table.
    pub fn held(&self) -> Vec<Arc<Admission>> {
        // One count is the table's, and one that of the copy made here.
        let mut held: Vec<_> = self.admissions().into_iter().filter(|a| Arc::strong_count(a) > 2).collect();
        let known: HashSet<_> = held.iter().map(Arc::as_ptr).collect();
        held.extend(self.strays().into_iter().filter(|s| !known.contains(&Arc::as_ptr(s))));
        held
    }

    /// Every session in memory.
    pub fn live_sessions(&self) -> Vec<Arc<SessionLive>> {
        self.sessions().values().cloned().collect()
    }

    /// Forgets what `keep` does not want, so that memory follows use.
    pub fn prune(&self, keep: impl Fn(&SessionLive) -> bool) {
        for shard in &self.shards {
            shard.write().unwrap_or_else(|e| e.into_inner()).retain(|_, a| keep(&a.session));
        }
        // What somebody still holds stays, so that an end reaches it.
        self.sessions().retain(|_, s| keep(s) || Arc::strong_count(s) > 1);
    }

    /// Notes that the revocation counter was read just now.
    pub fn saw_revocations(&self) {
        self.revocations_seen.store(self.began.elapsed().as_millis() as i64, Ordering::Relaxed);
    }

    /// Milliseconds since the revocation counter was last read.
    pub fn revocations_age_ms(&self) -> i64 {
        self.began.elapsed().as_millis() as i64 - self.revocations_seen.load(Ordering::Relaxed)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_read_before_any_ending_is_read_again() {
        let table = Table::default();
        let (now, id) = (chrono::Utc::now(), Uuid::from_u128(1));
        let before = table.ends();
        // It ends before it is in memory: nothing is there to be flagged.
        table.end(&[id]);
        assert!(table.session(before, id, now, now, None).is_none());
        // It ends afterwards: it is found.
        let live = table.session(table.ends(), id, now, now, None).expect("nothing ended since");
        table.end(&[id]);
        assert!(live.is_ended());
    }

    #[test]
    fn a_session_that_somebody_holds_is_not_forgotten_before_it_ends() {
        let table = Table::default();
        let (now, id) = (chrono::Utc::now(), Uuid::from_u128(1));
        let held = table.session(table.ends(), id, now, now, None).expect("nothing ended");
        table.prune(|_| false);
        table.end(&[id]);
        assert!(held.is_ended());
        drop(table.session(table.ends(), id, now, now, None));
        table.prune(|_| false);
        assert!(table.known(id).is_none());
    }
}
