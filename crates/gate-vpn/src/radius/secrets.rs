//! The secrets that RADIUS clients and this service share, read again and again: they change without an edition.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use passeur_core::site::RadiusClient;
use passeur_engine::Engine;
use passeur_protocols::radius::Secret;
use tokio::sync::watch;
use tokio::time::{MissedTickBehavior, interval};

/// How often secrets are read again.
const READ_AGAIN: Duration = Duration::from_secs(2);

/// Secrets by their names.
pub type Secrets = HashMap<String, Secret>;

/// Reads the secrets of clients until `stop` changes.
pub async fn read(engine: Engine, secrets: Arc<watch::Sender<Arc<Secrets>>>, mut stop: watch::Receiver<bool>) {
    let mut tick = interval(READ_AGAIN);
    tick.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = tick.tick() => {}
            _ = stop.changed() => return,
        }
        let Some(edition) = engine.live.get() else { continue };
        if edition.site.radius_clients.is_empty() {
            continue;
        }
        match engine.secrets().await {
            Ok(all) => {
                let own = |c: &RadiusClient| {
                    let named = c.secret()?;
                    let value = all.get(named)?.first()?;
                    Some((named.to_owned(), Secret::strong(value.as_bytes())?))
                };
                secrets.send_replace(Arc::new(edition.site.radius_clients.iter().filter_map(own).collect()));
            }
            Err(e) => tracing::warn!(error = %e, "secrets of RADIUS clients cannot be read; those that are known count on"),
        }
    }
}
