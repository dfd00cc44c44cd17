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
/// The fewest octets of a secret (RFC 2865 section 3), and the fewest different ones.
const SECRET_MIN: usize = 16;
const DIFFERENT_MIN: usize = 6;

/// Secrets by their names.
pub type Secrets = HashMap<String, Secret>;

/// Whether a secret is one that nobody finds out by trying.
fn is_strong(secret: &[u8]) -> bool {
    let different: std::collections::HashSet<&u8> = secret.iter().collect();
    secret.len() >= SECRET_MIN && different.len() >= DIFFERENT_MIN
}

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
                    is_strong(value.as_bytes()).then(|| (named.to_owned(), Secret::new(value.as_bytes())))
                };
                secrets.send_replace(Arc::new(edition.site.radius_clients.iter().filter_map(own).collect()));
            }
            Err(e) => tracing::warn!(error = %e, "secrets of RADIUS clients cannot be read; those that are known count on"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::is_strong;

    #[test]
    fn short_and_dull_secrets_are_weak() {
        for (secret, strong) in [
            ("", false),
            ("testing123", false),
            ("fifteen-octets!", false),
            ("aaaaaaaaaaaaaaaaaaaaaaaa", false),
            ("abababababababababababab", false),
            ("a-long-one-of-many-octets", true),
            ("0f1e2d3c4b5a69788796a5b4", true),
        ] {
            assert_eq!(is_strong(secret.as_bytes()), strong, "{secret}");
        }
    }
}
