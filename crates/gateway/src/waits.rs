//! What waits on a core for something from outside, and since when. One sweep for all costs less than a timer for each
//! request, which a core would arm and disarm tens of thousands of times a second.

use std::sync::{Arc, Mutex, MutexGuard};
use std::task::{Context, Waker};
use std::time::Duration;

use passeur_live::clock::ticks;

struct Slot {
    /// In ticks.
    since: i64,
    limit_ms: i64,
    is_over: bool,
    waker: Option<Waker>,
}

#[derive(Default)]
struct Slots {
    all: Vec<Slot>,
    free: Vec<usize>,
}

/// The waits of a core. The lock is never contended: it only lets a wait end wherever its body ended.
#[derive(Default)]
pub(crate) struct Waits(Mutex<Slots>);

impl Waits {
    fn slots(&self) -> MutexGuard<'_, Slots> {
        self.0.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Begins to wait. The limit is kept to within one sweep.
    pub(crate) fn begin(self: &Arc<Waits>, limit: Duration) -> Wait {
        let slot = Slot { since: ticks(), limit_ms: limit.as_millis() as i64, is_over: false, waker: None };
        let mut slots = self.slots();
        let at = match slots.free.pop() {
            Some(at) => {
                slots.all[at] = slot;
                at
            }
            None => {
                slots.all.push(slot);
                slots.all.len() - 1
            }
        };
        Wait { waits: self.clone(), at }
    }

    /// Wakes whatever has waited for too long.
    pub(crate) fn sweep(&self) {
        self.sweep_at(ticks());
    }

    fn sweep_at(&self, now: i64) {
        let mut wake = vec![];
        for slot in &mut self.slots().all {
            if slot.waker.is_some() && now - slot.since > slot.limit_ms {
                slot.is_over = true;
                wake.extend(slot.waker.take());
            }
        }
        wake.into_iter().for_each(Waker::wake);
    }
}

/// One wait; dropping it ends it.
pub(crate) struct Wait {
    waits: Arc<Waits>,
    at: usize,
}

impl Wait {
    /// Whether it has lasted too long; whoever asks is woken when it has.
    pub(crate) fn is_over(&self, cx: &Context<'_>) -> bool {
        let slot = &mut self.waits.slots().all[self.at];
        if !slot.is_over && !slot.waker.as_ref().is_some_and(|w| w.will_wake(cx.waker())) {
            slot.waker = Some(cx.waker().clone());
        }
        slot.is_over
    }

    /// Something moved: the wait begins again.
    pub(crate) fn again(&self) {
        let slot = &mut self.waits.slots().all[self.at];
        slot.since = ticks();
        slot.is_over = false;
    }
}

impl Drop for Wait {
    fn drop(&mut self) {
        let mut slots = self.waits.slots();
        slots.all[self.at].waker = None;
        slots.free.push(self.at);
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicUsize, Ordering};

    use super::*;

    #[derive(Default)]
    struct Woken(AtomicUsize);
    impl std::task::Wake for Woken {
        fn wake(self: Arc<Self>) {
            self.0.fetch_add(1, Ordering::Relaxed);
        }
    }

    #[test]
    fn what_waits_for_too_long_is_woken_once_and_what_moves_is_not() {
        let waits = Arc::new(Waits::default());
        let woken = Arc::new(Woken::default());
        let waker = Waker::from(woken.clone());
        let cx = Context::from_waker(&waker);
        let (short, long) = (waits.begin(Duration::from_secs(1)), waits.begin(Duration::from_secs(60)));
        assert!(!short.is_over(&cx) && !long.is_over(&cx));
        waits.sweep();
        assert!(!short.is_over(&cx), "not yet");
        waits.sweep_at(ticks() + 2_000);
        waits.sweep_at(ticks() + 2_000);
        assert_eq!(woken.0.load(Ordering::Relaxed), 1);
        assert!(short.is_over(&cx) && !long.is_over(&cx));
        short.again();
        assert!(!short.is_over(&cx), "it moved");
        waits.sweep_at(ticks() + 2_000);
        assert_eq!(woken.0.load(Ordering::Relaxed), 2, "and then stood still again");
    }

    #[test]
    fn a_wait_that_ended_leaves_its_slot_and_nothing_else() {
        let waits = Arc::new(Waits::default());
        let woken = Arc::new(Woken::default());
        let waker = Waker::from(woken.clone());
        let first = waits.begin(Duration::from_secs(1));
        assert!(!first.is_over(&Context::from_waker(&waker)));
        drop(first);
        let second = waits.begin(Duration::from_secs(60));
        waits.sweep_at(ticks() + 2_000);
        assert_eq!(woken.0.load(Ordering::Relaxed), 0);
        assert_eq!(waits.slots().all.len(), 1);
        assert!(!second.is_over(&Context::from_waker(&waker)));
    }
}
