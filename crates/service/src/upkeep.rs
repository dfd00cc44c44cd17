//! What a node does by itself (what was ended elsewhere is seen by [`passeur_engine::watch`]): loading editions, writing counts, making and dropping partitions.

use std::time::Duration as StdDuration;

use chrono::Duration;
use passeur_core::id::{CrossingId, hex};
use passeur_core::session::State;
use passeur_store::Usage;
use tokio::sync::watch;
use tokio::time::{MissedTickBehavior, interval};

use crate::app::App;
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
pub async fn run(app: App, mut stop: watch::Receiver<bool>) {
    let ticks = |every| {
        let mut t = interval(every);
        t.set_missed_tick_behavior(MissedTickBehavior::Delay);
        t
    };
    let (mut edition, mut flush, mut sweep) = (ticks(EDITION_EVERY), ticks(FLUSH_EVERY), ticks(SWEEP_EVERY));
    let (mut after, mut looked_after) = (ticks(LOOK_AFTER_EVERY), rights::LookedAfter::new());
    loop {
        tokio::select! {
            _ = edition.tick() => see_edition(&app).await,
            _ = flush.tick() => write(&app).await,
            _ = after.tick() => if let Err(e) = rights::look_after(&app, &mut looked_after).await {
                tracing::warn!(error = %e, "rights of live sessions could not be read again");
            },
            _ = sweep.tick() => clean(&app).await,
            _ = stop.changed() => break,
        }
    }
    write(&app).await;
    app.recorder.settle().await;
    note_acts(&app).await;
    // A node that stops is not waited for.
    if let Err(e) = app.store.forget_nodes(Some(app.node_id), app.now() - Duration::hours(1)).await {
        tracing::warn!(error = %e, "the node could not be taken off the list");
    }
}

/// Looks for a new edition.
async fn see_edition(app: &App) {
    if let Err(e) = app.load_edition(false).await {
        tracing::warn!(error = %e, "the live edition cannot be read");
    }
    if let Err(e) = app.go_back().await {
        tracing::warn!(error = %e, "an unconfirmed edition could not be put back");
    }
}

/// Writes usage, last-seen and the recorder's counts.
pub async fn write(app: &App) {
    let taken = app.table.admissions().into_iter().filter_map(|a| a.counters.take().map(|c| (a.crossing, c)));
    let usage: Vec<(CrossingId, Usage)> = taken
        .map(|(id, (requests, bytes_in, bytes_out))| {
            (id, Usage { requests: requests as i64, bytes_in: bytes_in as i64, bytes_out: bytes_out as i64 })
        })
        .collect();
    if let Err(e) = app.store.add_usage(&usage).await {
        tracing::warn!(error = %e, "usage could not be written");
    }
    let sessions = app.sessions.all();
    let seen: Vec<_> = sessions.iter().filter_map(|s| s.take_seen(SEEN_STEP_MS).map(|at| (s.id, at))).collect();
    if let Err(e) = app.store.seen(&seen).await {
        tracing::warn!(error = %e, "last-seen could not be written");
    }
    app.recorder.flush_counts(app.now());
}

/// Notes count and head of the record of acts in the log, where whoever can write to the database does not reach.
async fn note_acts(app: &App) {
    match app.store.acts_head().await {
        Ok((number, head)) => {
            let head = hex(&head);
            tracing::info!(event = "acts.head", number, head, "acts so far");
        }
        Err(e) => tracing::warn!(error = %e, "the head of the acts cannot be read"),
    }
}

/// Partitions ahead and behind, rows that have run out, memory of sessions that can no longer be used.
pub async fn clean(app: &App) {
    note_acts(app).await;
    let now = app.now();
    let Some(edition) = app.live.get() else {
        if let Err(e) = app.store.make_partitions(now.date_naive()).await {
            tracing::error!(error = %e, "partitions could not be made");
        }
        return;
    };
    let lifetimes = edition.site.lifetimes;
    app.table.prune(|s| s.state(&lifetimes, now) == State::Live);
    let live: std::collections::HashSet<_> = app.sessions.all().iter().map(|s| s.id).collect();
    app.delegations.prune(now, |id| live.contains(&id));
    let keep_from = (now - Duration::days(i64::from(edition.site.keep_days))).date_naive();
    let done = async {
        app.store.make_partitions(now.date_naive()).await?;
        app.store.drop_partitions(keep_from).await?;
        let kept_since = now - Duration::days(i64::from(edition.site.keep_days));
        app.store.forget_names(kept_since).await?;
        app.store.forget_roles(kept_since).await?;
        app.store.sweep(now, now - lifetimes.absolute - Duration::days(1), now - Duration::days(8)).await
    };
    if let Err(e) = done.await {
        tracing::error!(error = %e, "upkeep failed and is tried again");
    }
}
