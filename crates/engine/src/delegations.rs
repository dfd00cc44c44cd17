//! What live sessions show to applications that know nothing but Kerberos: the right to ask for services as their person (delegation), in
//! this node's memory and nowhere else, gone with the session.

use std::collections::HashMap;
use std::sync::atomic::{AtomicI64, Ordering};
use std::sync::{Arc, Mutex};

use passeur_core::Moment;
use passeur_core::id::CrossingId;
use passeur_core::step::Step;
use passeur_links::kerberos::Delegation;
use uuid::Uuid;

/// The most rights that a node keeps; what was used longest ago is fetched anew.
const KEPT_MAX: usize = 20_000;
/// One that nobody used for so long is forgotten.
const UNUSED_MS: i64 = 3_600_000;
/// The same failure of the same session is one crossing within this time.
const ONE_CROSSING_MS: i64 = 60_000;

/// Whose: session, gate, and the edition that says who they are there.
pub type Key = (Uuid, String, i32);

/// The right of one session at one gate under one edition, and what failed of it last.
#[derive(Default)]
pub struct Slot {
    /// What was got last; whoever gets another holds it meanwhile.
    pub held: tokio::sync::Mutex<Option<Arc<Delegation>>>,
    used: AtomicI64,
    /// When the browser was last asked for another ticket.
    asked: AtomicI64,
    /// What failed last, when, and the crossing that tells of it: a page that is loaded again names the same.
    failed: Mutex<Option<(Step, i64, CrossingId)>>,
}

impl Slot {
    /// The crossing that recorded the same failure a moment ago.
    pub fn recorded(&self, step: &Step, now: Moment) -> Option<CrossingId> {
        let failed = self.failed.lock().unwrap_or_else(|e| e.into_inner());
        let (last, at, id) = failed.as_ref()?;
        (last == step && now.timestamp_millis() - at < ONE_CROSSING_MS).then_some(*id)
    }

    /// Notes in which crossing a failure was recorded.
    pub fn note(&self, step: Step, now: Moment, id: CrossingId) {
        *self.failed.lock().unwrap_or_else(|e| e.into_inner()) = Some((step, now.timestamp_millis(), id));
    }

    /// Whether the browser may be asked for another ticket: once, since another node may keep what was sent and send it back here
    /// each time.
    pub fn may_ask(&self, now: Moment) -> bool {
        let now = now.timestamp_millis();
        now - self.asked.swap(now, Ordering::Relaxed) > ONE_CROSSING_MS
    }
}

/// See the module.
#[derive(Default)]
pub struct Delegations {
    kept: Mutex<HashMap<Key, Arc<Slot>>>,
    /// What browsers sent along, by session.
    sent: Mutex<HashMap<Uuid, Arc<Delegation>>>,
}

impl Delegations {
    /// What a session has at a gate under an edition.
    pub fn slot(&self, key: Key, now: Moment) -> Arc<Slot> {
        let mut kept = self.kept.lock().unwrap_or_else(|e| e.into_inner());
        if kept.len() >= KEPT_MAX && !kept.contains_key(&key) {
            let oldest = kept.iter().min_by_key(|(_, s)| s.used.load(Ordering::Relaxed)).map(|(k, _)| k.clone());
            oldest.map(|k| kept.remove(&k));
        }
        let slot = kept.entry(key).or_default().clone();
        slot.used.store(now.timestamp_millis(), Ordering::Relaxed);
        slot
    }

    /// Keeps what a browser sent along with a sign-in.
    pub fn keep_sent(&self, session: Uuid, delegation: Arc<Delegation>) {
        let mut sent = self.sent.lock().unwrap_or_else(|e| e.into_inner());
        // Whoever's goes can be asked for another; one that was never kept would be asked for without end.
        if sent.len() >= KEPT_MAX
            && let Some(any) = sent.keys().next().copied()
        {
            sent.remove(&any);
        }
        sent.insert(session, delegation);
    }

    /// What the browser of a session sent along, if it is here.
    pub fn sent(&self, session: Uuid) -> Option<Arc<Delegation>> {
        self.sent.lock().unwrap_or_else(|e| e.into_inner()).get(&session).cloned()
    }

    /// Forgets all that ended sessions had.
    pub fn end(&self, ids: &[Uuid]) {
        if ids.is_empty() {
            return;
        }
        self.kept.lock().unwrap_or_else(|e| e.into_inner()).retain(|(s, ..), _| !ids.contains(s));
        self.sent.lock().unwrap_or_else(|e| e.into_inner()).retain(|s, _| !ids.contains(s));
    }

    /// Forgets what nobody used for long, and what sessions had that are not in use here any more.
    pub fn prune(&self, now: Moment, lives: impl Fn(Uuid) -> bool) {
        let since = now.timestamp_millis() - UNUSED_MS;
        self.kept.lock().unwrap_or_else(|e| e.into_inner()).retain(|_, s| s.used.load(Ordering::Relaxed) > since);
        self.sent.lock().unwrap_or_else(|e| e.into_inner()).retain(|s, _| lives(*s));
    }
}
