//! What a node does by itself (what was ended elsewhere is seen by [`crate::watch`]): loading editions, writing counts, making and dropping partitions.

use std::time::Duration as StdDuration;

use chrono::Duration;
use passeur_core::id::hex;
use passeur_core::session::State;
use passeur_live::session::LiveSession;
use tokio::sync::watch;
use tokio::time::{MissedTickBehavior, interval};

use crate::editions::Load;
use crate::engine::{Engine, Holders};
use crate::rights;

/// How often the live edition's number is read.
const EDITION_EVERY: StdDuration = StdDuration::from_millis(300);
/// How often counts and last-seen moments are written.
const FLUSH_EVERY: StdDuration = StdDuration::from_secs(2);
/// How often what has run out is removed.
const SWEEP_EVERY: StdDuration = StdDuration::from_secs(600);
/// How often sessions that hold a connection are looked after.
const LOOK_AFTER_EVERY: StdDuration = StdDuration::from_secs(10);
/// Last-seen is written when it moved by this much.
const SEEN_STEP_MS: i64 = 10_000;

/// Runs until `stop` changes; writes once more then.
pub async fn run(engine: Engine, mut stop: watch::Receiver<bool>) {
    let ticks = |every| {
        let mut t = interval(every);
        t.set_missed_tick_behavior(MissedTickBehavior::Delay);
        t
    };
    let (mut edition, mut flush, mut sweep) = (ticks(EDITION_EVERY), ticks(FLUSH_EVERY), ticks(SWEEP_EVERY));
    let (mut after, mut looked_after) = (ticks(LOOK_AFTER_EVERY), rights::LookedAfter::new());
    loop {
        tokio::select! {
            _ = edition.tick() => see_edition(&engine).await,
            _ = flush.tick() => write(&engine).await,
            _ = after.tick() => if let Err(e) = rights::look_after(&engine, &mut looked_after).await {
                tracing::warn!(error = %e, "rights of live sessions could not be read again");
            },
            _ = sweep.tick() => clean(&engine).await,
            _ = stop.changed() => break,
        }
    }
    write(&engine).await;
    engine.recorder.settle().await;
    note_acts(&engine).await;
    // A node that stops is not waited for.
    if let Err(e) = engine.store.forget_nodes(Some(engine.node_id), engine.now() - Duration::hours(1)).await {
        tracing::warn!(error = %e, "the node could not be taken off the list");
    }
}

/// Looks for a new edition.
async fn see_edition(engine: &Engine) {
    if let Err(e) = engine.load_edition(Load::WhereChanged).await {
        tracing::warn!(error = %e, "the live edition cannot be read");
    }
    if let Err(e) = engine.go_back().await {
        tracing::warn!(error = %e, "an unconfirmed edition could not be put back");
    }
}

/// Writes usage, last-seen and the recorder's counts.
pub async fn write(engine: &Engine) {
    let usage = engine.holders().map(Holders::usage).unwrap_or_default();
    if let Err(e) = engine.store.add_usage(&usage).await {
        tracing::warn!(error = %e, "usage could not be written");
    }
    let sessions = engine.sessions.all();
    let seen: Vec<_> = sessions.iter().filter_map(|s| s.take_seen(SEEN_STEP_MS).map(|at| (s.id, at))).collect();
    if let Err(e) = engine.store.seen(&seen).await {
        tracing::warn!(error = %e, "last-seen could not be written");
    }
    engine.recorder.flush_counts(engine.now());
}

/// Notes count and head of the record of acts in the log, where whoever can write to the database does not reach.
async fn note_acts(engine: &Engine) {
    match engine.store.acts_head().await {
        Ok((number, head)) => {
            let head = hex(&head);
            tracing::info!(event = "acts.head", number, head, "acts so far");
        }
        Err(e) => tracing::warn!(error = %e, "the head of the acts cannot be read"),
    }
}

/// Partitions ahead and behind, rows that have run out, memory of sessions that can no longer be used.
pub async fn clean(engine: &Engine) {
    note_acts(engine).await;
    let now = engine.now();
    let Some(edition) = engine.live.get() else {
        if let Err(e) = engine.store.make_partitions(now.date_naive()).await {
            tracing::error!(error = %e, "partitions could not be made");
        }
        return;
    };
    let lifetimes = edition.site.lifetimes;
    let is_live = |s: &LiveSession| s.state(&lifetimes, now) == State::Live;
    if let Some(holders) = engine.holders() {
        holders.prune(&is_live);
    }
    engine.sessions.prune(is_live);
    let live: std::collections::HashSet<_> = engine.sessions.all().iter().map(|s| s.id).collect();
    engine.delegations.prune(now, |id| live.contains(&id));
    let keep_from = (now - Duration::days(i64::from(edition.site.keep_days))).date_naive();
    let done = async {
        engine.store.make_partitions(now.date_naive()).await?;
        engine.store.drop_partitions(keep_from).await?;
        let kept_since = now - Duration::days(i64::from(edition.site.keep_days));
        engine.store.forget_presences(kept_since).await?;
        engine.store.forget_names(kept_since).await?;
        engine.store.forget_roles(kept_since).await?;
        engine.store.sweep(now, now - lifetimes.absolute - Duration::days(1), now - Duration::days(8)).await
    };
    if let Err(e) = done.await {
        tracing::error!(error = %e, "upkeep failed and is tried again");
    }
}
