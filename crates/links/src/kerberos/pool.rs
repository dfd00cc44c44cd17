//! Where blocking calls run.

use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use tokio::sync::Semaphore;

/// Calls that only reckon, at once: more threads than cores gain nothing.
const RECKONING: usize = 16;
/// Calls that may ask the KDC of one realm, at once.
const ASKING: usize = 8;
/// Realms that have places of their own; those beyond share one set.
const REALMS_MAX: usize = 64;
/// How long a call waits for a place, and how long it may take by itself.
const WAIT: Duration = Duration::from_secs(5);
const RECKON_LIMIT: Duration = Duration::from_secs(5);
/// The library itself gives up later; its thread is then still taken, which its place accounts for.
pub const ASK_LIMIT: Duration = Duration::from_secs(8);

/// Why a call was not run to its end.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotRun {
    #[error("too many wait already")]
    Busy,
    #[error("no answer within {} s", .0.as_secs())]
    TooLong(Duration),
    #[error("the call broke down")]
    Broken,
}

/// Places for blocking calls, for all editions of a node.
#[derive(Debug)]
pub struct Pool {
    reckoning: Arc<Semaphore>,
    asking: Mutex<HashMap<String, Arc<Semaphore>>>,
    /// How long a call waits for a place.
    wait: Duration,
    ask_limit: Duration,
}

impl Default for Pool {
    fn default() -> Pool {
        Pool { reckoning: Arc::new(Semaphore::new(RECKONING)), asking: Mutex::default(), wait: WAIT, ask_limit: ASK_LIMIT }
    }
}

impl Pool {
    /// Runs what asks nobody.
    ///
    /// # Errors
    /// When there was no place for it in time, or it took too long.
    pub async fn reckon<T: Send + 'static>(&self, call: impl FnOnce() -> T + Send + 'static) -> Result<T, NotRun> {
        run(self.reckoning.clone(), self.wait, RECKON_LIMIT, call).await
    }

    /// Runs what may ask the KDC of a realm.
    ///
    /// # Errors
    /// As for [`Pool::reckon`].
    pub async fn ask<T: Send + 'static>(&self, realm: &str, call: impl FnOnce() -> T + Send + 'static) -> Result<T, NotRun> {
        let places = {
            let mut all = self.asking.lock().unwrap_or_else(|e| e.into_inner());
            let key = if all.len() < REALMS_MAX || all.contains_key(realm) { realm } else { "" };
            all.entry(key.to_owned()).or_insert_with(|| Arc::new(Semaphore::new(ASKING))).clone()
        };
        run(places, self.wait, self.ask_limit, call).await
    }
}

async fn run<T: Send + 'static>(
    places: Arc<Semaphore>,
    wait: Duration,
    limit: Duration,
    call: impl FnOnce() -> T + Send + 'static,
) -> Result<T, NotRun> {
    let place = tokio::time::timeout(wait, places.acquire_owned()).await;
    let place = place.map_err(|_| NotRun::Busy)?.map_err(|_| NotRun::Broken)?;
    // The place is given back when the call ends, not when whoever waits for it gives up.
    let running = tokio::task::spawn_blocking(move || {
        let _place = place;
        call()
    });
    match tokio::time::timeout(limit, running).await {
        Ok(Ok(done)) => Ok(done),
        Ok(Err(_)) => Err(NotRun::Broken),
        Err(_) => Err(NotRun::TooLong(limit)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::mpsc;

    #[tokio::test]
    async fn a_realm_that_is_silent_fills_its_own_places_only() {
        let limit = Duration::from_secs(2);
        let pool = Arc::new(Pool { wait: Duration::from_millis(100), ask_limit: limit, ..Pool::default() });
        let mut holding = vec![];
        let mut held = vec![];
        for _ in 0..ASKING {
            let (release, wait) = mpsc::channel::<()>();
            holding.push(release);
            let pool = pool.clone();
            held.push(tokio::spawn(async move { pool.ask("SILENT.EXAMPLE", move || wait.recv().is_err()).await }));
        }
        // Each has its place and is given up on in time, while its thread still hangs.
        for h in held {
            assert_eq!(h.await.unwrap(), Err(NotRun::TooLong(limit)));
        }
        assert_eq!(pool.ask("SILENT.EXAMPLE", || 1).await, Err(NotRun::Busy));
        assert_eq!(pool.ask("HAVRELUNE.EXAMPLE", || 2).await, Ok(2));
        assert_eq!(pool.reckon(|| 3).await, Ok(3));
        drop(holding);
        // Now that they have ended there is room again.
        let freed = pool.asking.lock().unwrap()["SILENT.EXAMPLE"].clone();
        let all = freed.acquire_many_owned(ASKING as u32).await.unwrap();
        drop(all);
        assert_eq!(pool.ask("SILENT.EXAMPLE", || 4).await, Ok(4));
    }
}
