//! A session as every gate of a node sees it.

use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU32, Ordering};
use std::sync::{Arc, Mutex};

use chrono::{DateTime, Utc};
use passeur_core::Moment;
use passeur_core::id::CrossingId;
use passeur_core::session::{Life, Lifetimes, State};
use tokio::sync::Notify;
use tokio::sync::futures::{Notified, OwnedNotified};
use uuid::Uuid;

/// The most decisions of a session that are remembered; the oldest is recorded again after that.
const DECISIONS_MAX: usize = 32;

/// A session in memory: one per session and node, shared by whatever it opened.
#[derive(Debug)]
pub struct LiveSession {
    pub id: Uuid,
    pub began: Moment,
    /// Until when the provider's own session lasts, where it says so.
    until: Option<Moment>,
    last_seen_ms: AtomicI64,
    flushed_ms: AtomicI64,
    ended: AtomicBool,
    wake: Arc<Notify>,
    /// How often its rights were read again: a decision made before counts no more, whoever holds it.
    generation: AtomicU32,
    /// Decisions at gates that are recorded, by their digest, with their crossings: each is recorded once.
    decisions: Mutex<Vec<(String, [u8; 32], CrossingId)>>,
}

impl LiveSession {
    /// From what the store says. Only [`crate::sessions::Sessions`] makes one that an end reaches.
    pub fn new(id: Uuid, began: Moment, last_seen: Moment, until: Option<Moment>) -> LiveSession {
        let ms = last_seen.timestamp_millis();
        LiveSession {
            id,
            began,
            until,
            last_seen_ms: AtomicI64::new(ms),
            flushed_ms: AtomicI64::new(ms),
            ended: AtomicBool::new(false),
            wake: Arc::default(),
            generation: AtomicU32::new(0),
            decisions: Mutex::default(),
        }
    }

    /// The state at `now`.
    pub fn state(&self, limits: &Lifetimes, now: Moment) -> State {
        let last_seen = DateTime::<Utc>::from_timestamp_millis(self.last_seen_ms.load(Ordering::Relaxed)).unwrap_or(self.began);
        let ended = self.ended.load(Ordering::Acquire).then_some(now);
        limits.state(&Life { began: self.began, last_seen, ended, until: self.until }, now)
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
        let decisions = self.decisions.lock().unwrap_or_else(|e| e.into_inner());
        decisions.iter().find(|(g, d, _)| g == gate && d == decision).map(|(_, _, id)| *id)
    }

    /// Notes in which crossing a decision at a gate is recorded.
    pub fn recorded(&self, gate: &str, decision: [u8; 32], crossing: CrossingId) {
        let mut decisions = self.decisions.lock().unwrap_or_else(|e| e.into_inner());
        decisions.retain(|(g, d, _)| !(g == gate && *d == decision));
        if decisions.len() >= DECISIONS_MAX {
            decisions.remove(0);
        }
        decisions.push((gate.to_owned(), decision, crossing));
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
        self.wake.notify_waiters();
    }

    /// Ready once holders are woken after this was made; read [`LiveSession::is_ended`] after making it.
    pub fn woken(&self) -> Notified<'_> {
        self.wake.notified()
    }

    /// The same, for whoever cannot borrow.
    pub fn woken_owned(&self) -> OwnedNotified {
        self.wake.clone().notified_owned()
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
