//! The one clock that the service is started with.
//!
//! Progress is the later of wall and monotonic time, so a wall clock that is stepped back extends nothing. It
//! is moved forward at start, when others have known a later moment, and by tests; nothing moves it back.

use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use std::time::Instant;

use chrono::{DateTime, Duration, Utc};
use rustix::time::{ClockId, clock_gettime};

/// Milliseconds on a clock that only moves forward, to within a few: a request asks it several times, and what is held to it is seconds.
pub fn ticks() -> i64 {
    let now = clock_gettime(ClockId::MonotonicCoarse);
    now.tv_sec * 1_000 + now.tv_nsec / 1_000_000
}

/// A handle on the clock. Cheap to clone.
#[derive(Clone, Debug)]
pub struct Clock(Arc<Inner>);

#[derive(Debug)]
struct Inner {
    began: Instant,
    began_wall: DateTime<Utc>,
    /// Milliseconds by which it was moved.
    moved: AtomicI64,
}

impl Clock {
    /// The system's clock.
    pub fn system() -> Clock {
        Clock(Arc::new(Inner { began: Instant::now(), began_wall: Utc::now(), moved: AtomicI64::new(0) }))
    }

    /// The moment now.
    pub fn now(&self) -> DateTime<Utc> {
        let monotonic = self.0.began_wall + Duration::from_std(self.0.began.elapsed()).unwrap_or_default();
        Utc::now().max(monotonic) + Duration::milliseconds(self.0.moved.load(Ordering::Relaxed))
    }

    /// Moves the clock forward.
    pub fn advance(&self, by: Duration) {
        self.0.moved.fetch_add(by.num_milliseconds().max(0), Ordering::Relaxed);
    }
}
