//! Admissions in memory, beside the sessions they belong to: a cache of what the store and core said, never an authority of its own.

use std::collections::HashSet;
use std::sync::{Arc, Mutex, RwLock, Weak};

use passeur_live::by_key::{ByKey, Keyed};
use passeur_live::session::LiveSession;
use passeur_live::sessions::Sessions;
use uuid::Uuid;

use crate::admission::{self, Admission, Key};

const SHARDS: usize = 16;
/// The most admissions kept in memory on a node; more are loaded again from the store when they are next used.
const ADMISSIONS_MAX: usize = 200_000;

impl Keyed<Key> for Admission {
    fn key(&self) -> &Key {
        &self.key
    }
}

type Shard = HashSet<ByKey<Key, Admission>>;

/// The admissions of a node.
pub struct Table {
    sessions: Arc<Sessions>,
    shards: Vec<RwLock<Shard>>,
    /// Admissions that a newer one took the place of while a connection or a stream held them.
    strays: Mutex<Vec<Weak<Admission>>>,
}

impl Table {
    /// An empty one, beside the node's sessions.
    pub fn new(sessions: Arc<Sessions>) -> Table {
        Table { sessions, shards: (0..SHARDS).map(|_| RwLock::default()).collect(), strays: Mutex::default() }
    }

    /// The node's sessions.
    pub fn sessions(&self) -> &Sessions {
        &self.sessions
    }

    fn shard(&self, key: &Key) -> &RwLock<Shard> {
        &self.shards[usize::from(key[0]) % SHARDS]
    }

    /// The admission of a token, for requests that look like this.
    pub fn get(&self, digest: &[u8; 32], look: u64) -> Option<Arc<Admission>> {
        let key = admission::key(digest, look);
        self.shard(&key).read().unwrap_or_else(|e| e.into_inner()).get(&key).map(|a| a.0.clone())
    }

    /// Keeps an admission, unless its session was ended while it was made.
    pub fn put(&self, admission: Arc<Admission>) {
        let mut shard = self.shard(&admission.key).write().unwrap_or_else(|e| e.into_inner());
        if shard.len() >= ADMISSIONS_MAX / SHARDS {
            shard.retain(|a| !a.0.session.is_ended());
        }
        // An end that comes later finds it here: it flags the session first and then looks through the shards.
        if shard.len() < ADMISSIONS_MAX / SHARDS && !admission.session.is_ended() {
            let before = shard.replace(ByKey::new(admission));
            drop(shard);
            self.stray(before.map(|a| a.0));
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
            shard.write().unwrap_or_else(|e| e.into_inner()).retain(|a| a.0.session.id != id);
        }
    }

    /// Takes out what sessions opened, whose rights were read again. Returns what connections and streams hold of it, to be looked at.
    pub fn take(&self, ids: &[Uuid]) -> Vec<Arc<Admission>> {
        let theirs = |a: &Admission| ids.contains(&a.session.id);
        let mut held = vec![];
        for shard in &self.shards {
            let mut shard = shard.write().unwrap_or_else(|e| e.into_inner());
            // One count is that of the admission taken out here.
            held.extend(shard.extract_if(|a| theirs(&a.0)).map(|a| a.0).filter(|a| Arc::strong_count(a) > 1));
        }
        // Looked at last: what a newer admission takes the place of goes from the table there, and must not be missed.
        let before = self.strays().into_iter().filter(|a| theirs(a));
        self.stray(held.iter().cloned());
        held.extend(before);
        held
    }

    /// Ends sessions here: flags them and forgets their admissions.
    pub fn end(&self, ids: &[Uuid]) {
        if !self.sessions.end(ids).is_empty() {
            self.forget_ended();
        }
    }

    /// Forgets the admissions of sessions that ended.
    pub fn forget_ended(&self) {
        for shard in &self.shards {
            shard.write().unwrap_or_else(|e| e.into_inner()).retain(|a| !a.0.session.is_ended());
        }
    }

    /// Every admission in memory.
    pub fn admissions(&self) -> Vec<Arc<Admission>> {
        self.shards
            .iter()
            .flat_map(|s| s.read().unwrap_or_else(|e| e.into_inner()).iter().map(|a| a.0.clone()).collect::<Vec<_>>())
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

    /// Forgets the admissions of sessions that `keep` does not want, so that memory follows use.
    pub fn prune(&self, keep: &dyn Fn(&LiveSession) -> bool) {
        for shard in &self.shards {
            shard.write().unwrap_or_else(|e| e.into_inner()).retain(|a| keep(&a.0.session));
        }
    }
}
