//! Writing crossings: at once and awaited for attempts with an identity, through a bounded queue for the rest.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex};

use passeur_core::Moment;
use passeur_core::id::CrossingId;
use passeur_core::recorder::{Alike, Counts, Recorder as Judge, Verdict};
use passeur_store::{NewCrossing, Store, StoreError};
use tokio::sync::mpsc;

/// How many different anonymous attempts are told apart a minute.
const ALIKE_MAX: usize = 5_000;
/// How many attempts without an identity are durable a minute, from one address and from all.
const UNIDENTIFIED_MAX: (u32, u32) = (30, 1_000);
/// How many anonymous crossings may wait to be written.
const QUEUE_MAX: usize = 2_000;

enum Job {
    Crossing(Box<NewCrossing>),
    Counts(Counts, Moment),
    Flows {
        provider: String,
        minute: Moment,
        sent: i64,
        answered: i64,
    },
    /// Answered when everything before it was written.
    Flush(tokio::sync::oneshot::Sender<()>),
}

/// The recorder of a node. Cheap to clone.
#[derive(Clone)]
pub struct Recorder {
    judge: Arc<Mutex<Judge>>,
    /// Flows that wait for a provider are judged apart: those that are not recorded are counted per provider instead.
    waiting: Arc<Mutex<Judge>>,
    unidentified: Arc<Mutex<Unidentified>>,
    queue: mpsc::Sender<Job>,
    store: Store,
}

/// Durable attempts without an identity, this minute.
#[derive(Default)]
struct Unidentified {
    minute: i64,
    by_address: HashMap<IpAddr, u32>,
    all: u32,
}

impl Recorder {
    /// A recorder that writes to a store.
    pub fn new(store: Store) -> Recorder {
        let (queue, jobs) = mpsc::channel(QUEUE_MAX);
        tokio::spawn(write(store.clone(), jobs));
        let judge = || Arc::new(Mutex::new(Judge::new(ALIKE_MAX)));
        Recorder { judge: judge(), waiting: judge(), unidentified: Arc::default(), queue, store }
    }

    /// Writes a crossing before the person sees an answer.
    pub async fn durable(&self, row: NewCrossing, evidence: Option<([u8; 32], serde_json::Value)>) -> Result<(), StoreError> {
        self.store.record(row, evidence).await
    }

    /// Whether an attempt without an identity may still be written at once; each call counts.
    pub fn may_write_unidentified(&self, address: IpAddr, now: Moment) -> bool {
        let mut u = self.unidentified.lock().unwrap_or_else(|e| e.into_inner());
        let minute = now.timestamp().div_euclid(60);
        if minute > u.minute {
            *u = Unidentified { minute, ..Unidentified::default() };
        }
        let (per_address, total) = UNIDENTIFIED_MAX;
        if u.all >= total {
            return false;
        }
        let n = u.by_address.entry(passeur_core::address::neighbourhood(address)).or_default();
        if *n >= per_address {
            return false;
        }
        *n += 1;
        u.all += 1;
        true
    }

    /// Judges an anonymous attempt; the row is only made where it is to be written. Returns the crossing to name to the
    /// person: its own, or the one it was counted on.
    pub fn anonymous(&self, alike: Alike, id: CrossingId, now: Moment, row: impl FnOnce() -> NewCrossing) -> CrossingId {
        let (verdict, past) = self.judge.lock().unwrap_or_else(|e| e.into_inner()).judge(alike, id, now);
        if let Some(counts) = past {
            let _ = self.queue.try_send(Job::Counts(counts, now));
        }
        match verdict {
            Verdict::CountedOn(first) => first,
            Verdict::Overflow => id,
            Verdict::Record => {
                // A full queue means that the database is slower than the attempts come: then they are counted only.
                if self.queue.try_send(Job::Crossing(Box::new(row()))).is_err() {
                    let _ = self.queue.try_send(Job::Counts(Counts { more: vec![], overflow: 1 }, now));
                }
                id
            }
        }
    }

    /// Records a flow that waits for a provider, the first of its kind a minute.
    pub fn waiting(&self, alike: Alike, id: CrossingId, now: Moment, row: impl FnOnce() -> NewCrossing) {
        let (verdict, _) = self.waiting.lock().unwrap_or_else(|e| e.into_inner()).judge(alike, id, now);
        if verdict == Verdict::Record {
            let _ = self.queue.try_send(Job::Crossing(Box::new(row())));
        }
    }

    /// Counts a flow sent to a provider, or answered by it.
    pub fn flow(&self, provider: &str, began: Moment, sent: i64, answered: i64) {
        let minute = minute(began);
        let _ = self.queue.try_send(Job::Flows { provider: provider.to_owned(), minute, sent, answered });
    }

    /// Writes the counts so far.
    pub fn flush_counts(&self, now: Moment) {
        let counts = self.judge.lock().unwrap_or_else(|e| e.into_inner()).drain();
        if let Some(counts) = counts {
            let _ = self.queue.try_send(Job::Counts(counts, now));
        }
    }

    /// Returns when everything queued before was written.
    pub async fn settle(&self) {
        let (done, wait) = tokio::sync::oneshot::channel();
        if self.queue.send(Job::Flush(done)).await.is_ok() {
            let _ = wait.await;
        }
    }
}

fn minute(at: Moment) -> Moment {
    chrono::DateTime::from_timestamp(at.timestamp().div_euclid(60) * 60, 0).unwrap_or(at)
}

async fn write(store: Store, mut jobs: mpsc::Receiver<Job>) {
    while let Some(job) = jobs.recv().await {
        let done = match job {
            Job::Crossing(row) => match store.record(*row, None).await {
                // The attempt went on and was recorded while this waited to be written: that record says more.
                Err(StoreError::Conflict) => Ok(()),
                done => done,
            },
            Job::Counts(counts, now) => {
                let repeats = store.add_repeats(&counts.more).await;
                match counts.overflow {
                    0 => repeats,
                    n => repeats.and(store.count_unrecorded(minute(now), n as i64).await),
                }
            }
            Job::Flows { provider, minute, sent, answered } => store.count_flows(&provider, minute, sent, answered).await,
            Job::Flush(done) => {
                let _ = done.send(());
                Ok(())
            }
        };
        if let Err(e) = done {
            tracing::warn!(error = %e, "an anonymous attempt could not be recorded");
        }
    }
}
