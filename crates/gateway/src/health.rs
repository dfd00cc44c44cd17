//! Asking upstreams whether they are well, where the gate says how. Runs beside the data path, not on it.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use futures_util::StreamExt;
use passeur_live::clock::ticks;
use tokio::sync::watch;

use crate::edition::WebLive;
use crate::target::Target;

/// How often the list of upstreams is looked through.
const LOOK_EVERY: Duration = Duration::from_millis(500);
/// How many are asked at once.
const AT_ONCE: usize = 32;

/// Asks until `stop` changes.
pub(crate) async fn watch(web: WebLive, mut stop: watch::Receiver<bool>) {
    let mut next: HashMap<u64, i64> = HashMap::new();
    let mut look = tokio::time::interval(LOOK_EVERY);
    look.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = look.tick() => {}
            _ = stop.changed() => return,
        }
        let Some(edition) = web.get() else { continue };
        let all: Vec<Arc<Target>> = edition.targets().filter(|t| t.health().is_some()).cloned().collect();
        next.retain(|id, _| all.iter().any(|t| t.id == *id));
        let now = ticks();
        let due: Vec<Arc<Target>> = all.into_iter().filter(|t| next.get(&t.id).is_none_or(|at| *at <= now)).collect();
        for t in &due {
            let every = t.health().map_or(5_000, |h| h.every.num_milliseconds());
            next.insert(t.id, now + every);
        }
        futures_util::stream::iter(due).for_each_concurrent(AT_ONCE, ask).await;
    }
}

async fn ask(target: Arc<Target>) {
    let Some(health) = target.health() else { return };
    let seen = crate::upstream::ask(&target, &health.path).await;
    target.seen(seen);
}
