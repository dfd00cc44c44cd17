//! How often somebody may try. Tries are counted in the store, so on every node together, and before anything is looked at.

use chrono::Duration;
use passeur_core::site::TRIES_MINUTES;
use passeur_core::step;
use passeur_core::step::{Param, Step};
use passeur_store::StoreError;

use crate::attempt::Attempt;
use crate::engine::Engine;

/// Wrong codes for one account over weeks: guessing that keeps below every window. Nobody is locked out by it; what is guessed is made
/// harder instead.
pub mod slow {
    use chrono::Duration;
    use passeur_store::StoreError;

    use super::slot;
    use crate::engine::Engine;

    /// Wrong ones within the window, from which on the account is guessed at. People mistype a few.
    const MANY: i32 = 20;
    const WINDOW_DAYS: i64 = 30;

    fn spans(engine: &Engine) -> [i64; 2] {
        let now = engine.now().timestamp().div_euclid(WINDOW_DAYS * 86_400);
        // Negative, so that they are never taken for windows of minutes.
        [-now, -now + 1]
    }

    /// Counts a wrong one.
    pub async fn count(engine: &Engine, what: &str, account: &str) -> Result<(), StoreError> {
        let until = engine.now() + Duration::days(2 * WINDOW_DAYS);
        engine.store.count_tries(&[slot(engine, &[what, account])], spans(engine)[0], until).await.map(drop)
    }

    /// Whether somebody guesses at an account.
    pub async fn is_guessed(engine: &Engine, what: &str, account: &str) -> Result<bool, StoreError> {
        let key = slot(engine, &[what, account]);
        let mut n = 0;
        for span in spans(engine) {
            n += engine.store.tries_so_far(&key, span).await?;
        }
        Ok(n >= MANY)
    }

    /// Forgets the wrong ones: the account's owner came.
    pub async fn forget(engine: &Engine, what: &str, account: &str) -> Result<(), StoreError> {
        engine.store.forget_tries(&slot(engine, &[what, account]), &spans(engine)).await
    }
}

/// Where tries of a kind are counted: one of so many slots, so that no number of networks or names fills the store. Which names share
/// a slot nobody can know without the ring.
pub fn slot(engine: &Engine, parts: &[&str]) -> [u8; 32] {
    let mac = engine.ring.mac("tries", parts.join("\0").as_bytes());
    let kind = engine.ring.mac("tries", parts.first().copied().unwrap_or_default().as_bytes());
    let mut out = [0; 32];
    out[..4].copy_from_slice(&kind[..4]);
    out[4..7].copy_from_slice(&[mac[0], mac[1], mac[2] & SLOT_MASK]);
    out
}

/// Of 24 bits the last two count for nothing: four million slots of each kind.
const SLOT_MASK: u8 = 0b1111_1100;

/// The window of time that now falls into, and when what is counted in it may be forgotten.
pub fn window(engine: &Engine) -> (i64, passeur_core::Moment) {
    (engine.now().timestamp().div_euclid(TRIES_MINUTES * 60), engine.now() + Duration::minutes(2 * TRIES_MINUTES))
}

/// Counts a try of somebody who is signed in, for a purpose. False where no more are taken, which is told.
pub async fn count_plain(
    engine: &Engine,
    attempt: &mut Attempt,
    what: &str,
    account: &str,
    each: i32,
) -> Result<bool, StoreError> {
    let within = within(engine, what, account, each).await?;
    if !within {
        attempt.step(|| too_many(what, "for-account", each));
    }
    Ok(within)
}

/// The step that says that no more are taken: by which bound, and how many that are.
pub fn too_many(way: &str, bound: &str, limit: i32) -> Step {
    step!(TooManyTries { way, bound: Param::reason(bound), limit: i64::from(limit), minutes: TRIES_MINUTES })
}

/// Counts a try for a purpose. False where there were more than `each` within the window.
pub async fn within(engine: &Engine, what: &str, account: &str, each: i32) -> Result<bool, StoreError> {
    let (span, until) = window(engine);
    let key = slot(engine, &[what, account]);
    Ok(engine.store.count_tries(&[key], span, until).await?.first().is_some_and(|n| *n <= each))
}

/// Takes such a try back.
pub async fn uncount_plain(engine: &Engine, what: &str, account: &str) -> Result<(), StoreError> {
    let key = slot(engine, &[what, account]);
    engine.store.uncount_tries(&[key], window(engine).0).await
}
