//! Sessions ended, and people kept out.

use chrono::Duration;
use passeur_core::step;
use passeur_core::step::Step;
use passeur_store::{BlockRow, Recorded, StoreError};
use uuid::Uuid;

use crate::engine::Engine;

/// How long other nodes are waited for, and how often they are asked.
const ACKNOWLEDGE_LIMIT: std::time::Duration = std::time::Duration::from_secs(2);
const ACKNOWLEDGE_EVERY: std::time::Duration = std::time::Duration::from_millis(25);
/// A node that was not seen for so long does not live.
const NODE_LIVES_S: i64 = 3;

/// Sessions that were ended, and nodes that have not said yet that they know.
#[derive(Debug, Default)]
pub struct Ended {
    pub sessions: Vec<Uuid>,
    pub behind: Vec<String>,
}

/// Ends sessions everywhere: in the store under the revocation counter, in this node's memory at once, and returns when
/// every live node has acknowledged, or after two seconds with the names of those that have not.
pub async fn end(engine: &Engine, ids: &[Uuid], by: &str, act: Option<Recorded<'_>>) -> Result<Ended, StoreError> {
    let (sessions, counter) = end_here(engine, ids, by, act).await?;
    let behind = acknowledged(engine, counter).await?;
    Ok(Ended { sessions, behind })
}

/// Waits until every live node has acted on what the revocation counter says; the names of those that have not after two seconds.
pub async fn acknowledged(engine: &Engine, counter: i64) -> Result<Vec<String>, StoreError> {
    engine.catch_up().await?;
    let began = std::time::Instant::now();
    loop {
        let behind = engine.store.nodes_behind(counter, engine.now() - Duration::seconds(NODE_LIVES_S)).await?;
        if behind.is_empty() || began.elapsed() > ACKNOWLEDGE_LIMIT {
            if !behind.is_empty() {
                tracing::warn!(nodes = behind.join(", "), "ended sessions are not acknowledged by every node");
            }
            return Ok(behind);
        }
        tokio::time::sleep(ACKNOWLEDGE_EVERY).await;
    }
}

/// Ends sessions in the store and in this node's memory; the others see it within moments.
pub async fn end_here(
    engine: &Engine,
    ids: &[Uuid],
    by: &str,
    act: Option<Recorded<'_>>,
) -> Result<(Vec<Uuid>, i64), StoreError> {
    let done = engine.store.end_sessions(ids, engine.now(), by, act).await?;
    engine.end_here(ids);
    Ok(done)
}

/// The step of somebody who is kept out.
pub fn kept_out_step(block: &BlockRow) -> Step {
    step!(KeptOut {
        person: block.name.as_str(),
        by: block.by.as_str(),
        since: block.at.format("%Y-%m-%d %H:%M UTC").to_string(),
        why: block.why.as_str(),
        key: format!("{}/{}", block.provider, block.subject)
    })
}
