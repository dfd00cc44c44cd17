//! A session as every gate of a node sees it.

use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU32, Ordering};
use std::sync::{Arc, Mutex, MutexGuard};

use chrono::{DateTime, Utc};
use passeur_core::Moment;
use passeur_core::id::{CrossingId, sha256};
use passeur_core::session::{Life, Lifetimes, State};
use tokio::sync::Notify;
use tokio::sync::futures::OwnedNotified;
use uuid::Uuid;

/// The most decisions of a session that are remembered; the oldest is recorded again after that.
const DECISIONS_MAX: usize = 32;
/// The same for refusals by sections, of which a gate may have many.
const REFUSALS_MAX: usize = 1_000;

/// A session in memory: one per session and node, shared by whatever it opened. Many are kept while idle, so it is small: moments are
/// milliseconds since 1970, and what few sessions have is made when it is first asked for.
#[derive(Debug)]
pub struct LiveSession {
    pub id: Uuid,
    began_ms: i64,
    /// Until when the provider's own session lasts; [`FOREVER`] where it does not say.
    until_ms: i64,
    last_seen_ms: AtomicI64,
    flushed_ms: AtomicI64,
    /// How often its rights were read again: a decision made before counts no more, whoever holds it.
    generation: AtomicU32,
    ended: AtomicBool,
    kept: Mutex<Option<Box<Kept>>>,
}

/// See [`Life::of_millis`].
const FOREVER: i64 = i64::MAX;

/// What a session has once somebody waits on it, or decisions of it are recorded.
#[derive(Debug, Default)]
struct Kept {
    wake: Option<Arc<Notify>>,
    /// Decisions at gates, by [`at_gate`].
    decisions: Recorded,
    /// Refusals by sections, apart from decisions: neither is recorded again because there are many of the other.
    refusals: Recorded,
}

/// What is recorded, with its crossings, so that each is recorded once.
#[derive(Debug, Default)]
struct Recorded(Vec<([u8; 32], CrossingId)>);

impl Recorded {
    fn crossing_of(&self, what: &[u8; 32]) -> Option<CrossingId> {
        self.0.iter().find(|(w, _)| w == what).map(|(_, id)| *id)
    }

    /// Notes one more; the oldest goes where there are `most`.
    fn note(&mut self, what: [u8; 32], crossing: CrossingId, most: usize) {
        self.0.retain(|(w, _)| *w != what);
        if self.0.len() >= most {
            self.0.remove(0);
        }
        // Most sessions have one or two, and many sessions are kept.
        self.0.reserve_exact(1);
        self.0.push((what, crossing));
    }
}

/// What a decision at a gate is found by.
fn at_gate(gate: &str, decision: &[u8; 32]) -> [u8; 32] {
    sha256(&[gate.as_bytes(), decision].concat())
}

impl LiveSession {
    /// From what the store says. Only [`crate::sessions::Sessions`] makes one that an end reaches.
    pub fn new(id: Uuid, began: Moment, last_seen: Moment, until: Option<Moment>) -> LiveSession {
        let ms = last_seen.timestamp_millis();
        LiveSession {
            id,
            began_ms: began.timestamp_millis(),
            until_ms: until.map_or(FOREVER, |u| u.timestamp_millis()),
            last_seen_ms: AtomicI64::new(ms),
            flushed_ms: AtomicI64::new(ms),
            generation: AtomicU32::new(0),
            ended: AtomicBool::new(false),
            kept: Mutex::default(),
        }
    }

    /// The state at `now`.
    pub fn state(&self, limits: &Lifetimes, now: Moment) -> State {
        let last_seen = self.last_seen_ms.load(Ordering::Relaxed);
        limits.state(&Life::of_millis(self.began_ms, last_seen, self.is_ended(), self.until_ms), now)
    }

    fn kept(&self) -> MutexGuard<'_, Option<Box<Kept>>> {
        self.kept.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Notes that it was used.
    pub fn touch(&self, now: Moment) {
        self.last_seen_ms.fetch_max(now.timestamp_millis(), Ordering::Relaxed);
    }

    /// How often its rights were read again.
    pub fn generation(&self) -> u32 {
        self.generation.load(Ordering::Acquire)
    }

    /// Its rights were read again: nothing that was decided before counts.
    pub(crate) fn rights_changed(&self) {
        self.generation.fetch_add(1, Ordering::AcqRel);
    }

    /// The crossing in which a decision at a gate is recorded, if it is.
    pub fn crossing_of(&self, gate: &str, decision: &[u8; 32]) -> Option<CrossingId> {
        self.kept().as_ref()?.decisions.crossing_of(&at_gate(gate, decision))
    }

    /// Notes in which crossing a decision at a gate is recorded.
    pub fn recorded(&self, gate: &str, decision: &[u8; 32], crossing: CrossingId) {
        self.kept().get_or_insert_default().decisions.note(at_gate(gate, decision), crossing, DECISIONS_MAX);
    }

    /// The crossing in which a refusal by a section is recorded, if it is. The digest is of the section and of the decision it stands beside.
    pub fn crossing_of_refusal(&self, digest: &[u8; 32]) -> Option<CrossingId> {
        self.kept().as_ref()?.refusals.crossing_of(digest)
    }

    /// Notes in which crossing a refusal by a section is recorded.
    pub fn recorded_refusal(&self, digest: [u8; 32], crossing: CrossingId) {
        self.kept().get_or_insert_default().refusals.note(digest, crossing, REFUSALS_MAX);
    }

    /// Ends it for every holder, streams included.
    pub fn end(&self) {
        self.ended.store(true, Ordering::Release);
        self.wake_holders();
    }

    /// Whether it was ended.
    pub fn is_ended(&self) -> bool {
        self.ended.load(Ordering::Acquire)
    }

    /// Wakes whoever waits on it, to look whether what they hold is still good.
    pub fn wake_holders(&self) {
        // Whoever begins to wait after this lock finds what was set before it.
        if let Some(wake) = self.kept().as_ref().and_then(|k| k.wake.as_ref()) {
            wake.notify_waiters();
        }
    }

    /// Ready once holders are woken after this was made; read [`LiveSession::is_ended`] after making it.
    pub fn woken(&self) -> OwnedNotified {
        self.kept().get_or_insert_default().wake.get_or_insert_default().clone().notified_owned()
    }

    /// The last-seen moment, when it moved by at least `step_ms` since it was last handed out.
    pub fn take_seen(&self, step_ms: i64) -> Option<Moment> {
        let seen = self.last_seen_ms.load(Ordering::Relaxed);
        let flushed = self.flushed_ms.load(Ordering::Relaxed);
        if seen < flushed + step_ms {
            return None;
        }
        self.flushed_ms.store(seen, Ordering::Relaxed);
        DateTime::<Utc>::from_timestamp_millis(seen)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_recorded_is_known_by_gate_and_refusals_push_no_decision_out() {
        let now = DateTime::UNIX_EPOCH;
        let session = LiveSession::new(Uuid::nil(), now, now, None);
        let id = |n: usize| CrossingId::new(now, [0, 0, 0, (n >> 8) as u8, n as u8]);
        let digest = |n: usize| sha256(&n.to_be_bytes());
        session.recorded("berths", &digest(0), id(1));
        (0..REFUSALS_MAX + 1).for_each(|n| session.recorded_refusal(digest(n), id(n)));
        assert_eq!(session.crossing_of("berths", &digest(0)), Some(id(1)));
        assert_eq!(session.crossing_of("cranes", &digest(0)), None);
        // The oldest refusal went; the newest is there.
        assert_eq!(session.crossing_of_refusal(&digest(0)), None);
        assert_eq!(session.crossing_of_refusal(&digest(REFUSALS_MAX)), Some(id(REFUSALS_MAX)));
        (1..=DECISIONS_MAX).for_each(|n| session.recorded("berths", &digest(n), id(n)));
        assert_eq!(session.crossing_of("berths", &digest(0)), None);
        assert_eq!(session.crossing_of_refusal(&digest(1)), Some(id(1)));
    }

    /// With the counts of an `Arc` and the allocator's own octets it fills a block of 96 exactly.
    #[test]
    fn a_session_stays_small() {
        assert_eq!(size_of::<LiveSession>(), 72);
    }
}
