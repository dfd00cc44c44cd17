//! The sessions in a node's memory: a cache of what the store said, never an authority of its own.

use std::collections::HashSet;
use std::sync::atomic::{AtomicI64, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard};

use passeur_core::Moment;
use uuid::Uuid;

use crate::by_key::{ByKey, Keyed};
use crate::clock::ticks;
use crate::session::LiveSession;

impl Keyed<Uuid> for LiveSession {
    fn key(&self) -> &Uuid {
        &self.id
    }
}

type ById = ByKey<Uuid, LiveSession>;

/// The sessions of a node, and how old what it knows of endings is.
pub struct Sessions {
    sessions: Mutex<HashSet<ById>>,
    /// How often sessions were ended here.
    ends: AtomicU64,
    /// When the revocation counter was last seen, in [`ticks`].
    revocations_seen: AtomicI64,
}

impl Default for Sessions {
    fn default() -> Sessions {
        Sessions { sessions: Mutex::default(), ends: AtomicU64::new(0), revocations_seen: AtomicI64::new(ticks()) }
    }
}

impl Sessions {
    fn sessions(&self) -> MutexGuard<'_, HashSet<ById>> {
        self.sessions.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// How often sessions were ended here, to be taken before one is read from the store.
    pub fn ends(&self) -> u64 {
        self.ends.load(Ordering::Acquire)
    }

    /// The shared state of a session that was read as not ended, after `ends` was taken: the one in memory, or a new one. None where
    /// any session was ended since: it may be this one, so it has to be read again. Whatever ends it from here on finds it.
    pub fn hold(&self, ends: u64, id: Uuid, began: Moment, last_seen: Moment, until: Option<Moment>) -> Option<Arc<LiveSession>> {
        let mut sessions = self.sessions();
        if self.ends() != ends {
            return None;
        }
        if let Some(known) = sessions.get(&id) {
            known.0.touch(last_seen);
            return Some(known.0.clone());
        }
        let live = Arc::new(LiveSession::new(id, began, last_seen, until));
        sessions.insert(ById::new(live.clone()));
        Some(live)
    }

    /// What is known of a session in memory.
    pub fn known(&self, id: Uuid) -> Option<Arc<LiveSession>> {
        self.sessions().get(&id).map(|s| s.0.clone())
    }

    /// Every session in memory.
    pub fn all(&self) -> Vec<Arc<LiveSession>> {
        self.sessions().iter().map(|s| s.0.clone()).collect()
    }

    /// Ends sessions here: flags them for whoever holds them, and forgets them. Returns those that were in memory, so that gates
    /// forget what they opened.
    pub fn end(&self, ids: &[Uuid]) -> Vec<Arc<LiveSession>> {
        let ended: Vec<_> = {
            let mut sessions = self.sessions();
            if !ids.is_empty() {
                self.ends.fetch_add(1, Ordering::AcqRel);
            }
            ids.iter().filter_map(|id| sessions.take(id)).map(|s| s.0).collect()
        };
        for session in &ended {
            session.end();
        }
        ended
    }

    /// Rights of sessions were read again: what was decided for them before counts no more, whoever holds it.
    pub fn rights_changed(&self, ids: &[Uuid]) {
        let changed: Vec<_> = {
            let sessions = self.sessions();
            ids.iter().filter_map(|id| sessions.get(id)).map(|s| s.0.clone()).collect()
        };
        for session in &changed {
            session.rights_changed();
        }
    }

    /// Forgets what `keep` does not want, so that memory follows use. What somebody still holds stays, so that an end reaches it.
    pub fn prune(&self, keep: impl Fn(&LiveSession) -> bool) {
        self.sessions().retain(|s| keep(&s.0) || Arc::strong_count(&s.0) > 1);
    }

    /// Notes that the revocation counter was read just now.
    pub fn saw_revocations(&self) {
        self.revocations_seen.store(ticks(), Ordering::Relaxed);
    }

    /// Milliseconds since the revocation counter was last read.
    pub fn revocations_age_ms(&self) -> i64 {
        ticks() - self.revocations_seen.load(Ordering::Relaxed)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn now() -> Moment {
        chrono::DateTime::UNIX_EPOCH
    }

    const ID: Uuid = Uuid::from_u128(1);

    #[test]
    fn what_was_read_before_any_ending_is_read_again() {
        let sessions = Sessions::default();
        let before = sessions.ends();
        // It ends before it is in memory: nothing is there to be flagged.
        assert!(sessions.end(&[ID]).is_empty());
        assert!(sessions.hold(before, ID, now(), now(), None).is_none());
        // It ends afterwards: it is found.
        let live = sessions.hold(sessions.ends(), ID, now(), now(), None).expect("nothing ended since");
        assert_eq!(sessions.end(&[ID]).len(), 1);
        assert!(live.is_ended());
    }

    #[test]
    fn a_session_that_somebody_holds_is_not_forgotten_before_it_ends() {
        let sessions = Sessions::default();
        let held = sessions.hold(sessions.ends(), ID, now(), now(), None).expect("nothing ended");
        sessions.prune(|_| false);
        sessions.end(&[ID]);
        assert!(held.is_ended());
        drop(sessions.hold(sessions.ends(), ID, now(), now(), None));
        sessions.prune(|_| false);
        assert!(sessions.known(ID).is_none());
    }

    #[test]
    fn whoever_waits_on_a_session_is_woken_by_its_end_and_by_nothing_that_is_another_sessions() {
        let sessions = Sessions::default();
        let one = sessions.hold(0, ID, now(), now(), None).expect("nothing ended");
        let other = sessions.hold(0, Uuid::from_u128(2), now(), now(), None).expect("nothing ended");
        let (mut ones, mut others) = (Box::pin(one.woken()), Box::pin(other.woken()));
        let mut cx = std::task::Context::from_waker(std::task::Waker::noop());
        use std::future::Future;
        assert!(ones.as_mut().poll(&mut cx).is_pending() && others.as_mut().poll(&mut cx).is_pending());
        sessions.end(&[ID]);
        assert!(ones.as_mut().poll(&mut cx).is_ready() && others.as_mut().poll(&mut cx).is_pending());
        assert_eq!((one.generation(), other.generation()), (0, 0));
        sessions.rights_changed(&[ID, Uuid::from_u128(2)]);
        assert_eq!((one.generation(), other.generation()), (0, 1), "an ended one is nobody's any more");
    }
}
