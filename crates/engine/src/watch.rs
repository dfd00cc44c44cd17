//! What was ended elsewhere is seen by a thread of its own, with connections of its own to the store: however busy pages, calls and
//! look-ups are, an ended session is refused here, and whether this node may serve is known.

use std::sync::atomic::Ordering;
use std::time::Duration;

use passeur_store::Store;
use tokio::sync::watch::Receiver;
use tokio::time::{MissedTickBehavior, interval};

use crate::engine::Engine;

/// How often the revocation counter is read.
const EVERY: Duration = Duration::from_millis(300);
/// One reads while another is made anew.
const CONNECTIONS: u32 = 2;
/// After this long without an answer of the store a node is not ready, in milliseconds.
const SILENT_MS: i64 = 3_000;

/// Starts the thread; it ends when `stop` changes.
///
/// # Errors
/// The system gives no thread.
pub fn start(engine: &Engine, database_url: String, mut stop: Receiver<bool>) -> std::io::Result<std::thread::JoinHandle<()>> {
    let engine = engine.clone();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    std::thread::Builder::new().name("watch".to_owned()).spawn(move || {
        runtime.block_on(async {
            let Ok(store) = Store::connect(&database_url, CONNECTIONS).await.inspect_err(|e| {
                tracing::error!(error = %e, "what is ended elsewhere cannot be watched");
            }) else {
                return;
            };
            let mut tick = interval(EVERY);
            tick.set_missed_tick_behavior(MissedTickBehavior::Delay);
            loop {
                tokio::select! {
                    _ = tick.tick() => {
                        let seen = engine.catch_up_by(&store).await;
                        engine.sees.store(seen.is_ok(), Ordering::Relaxed);
                        if let Err(e) = seen {
                            tracing::warn!(error = %e, "the revocation counter cannot be read");
                        }
                    }
                    _ = stop.changed() => return,
                }
            }
        });
    })
}

/// Why this node may not serve just now; none where it may.
pub fn not_ready(engine: &Engine) -> Option<&'static str> {
    if engine.live.get().is_none() {
        return Some("no edition is published\n");
    }
    let silent = !engine.sees.load(Ordering::Relaxed) || engine.sessions.revocations_age_ms() > SILENT_MS;
    silent.then_some("the store does not answer\n")
}
