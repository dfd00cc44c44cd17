//! How often somebody may try. Tries are counted in the store, so on every node together, and before anything is looked at.
//!
//! Nobody can be locked out by others: what is counted for an account counts strangers only. A browser that signed in to the
//! account before holds a sealed cookie that says so, and has a count of its own.

use axum::response::Response;
use passeur_core::address::neighbourhood;
use passeur_core::crossing::Outcome;
use passeur_core::id::{hex, sha256};
use passeur_core::seal::Purpose;
use passeur_core::site::TRIES_MINUTES;
use passeur_engine::random::random;
use passeur_engine::tries::{slot, too_many, window};
use passeur_http::cookies::{self, Found};
use passeur_store::StoreError;
use serde::{Deserialize, Serialize};

use passeur_core::site::Way;
use passeur_engine::Engine;

use super::Try;
use crate::journey::{Desk, Why};
use crate::pages::Said;

/// The most tries within the window: of all strangers together for one account, in multiples of what one place has for it; and
/// of one place for all accounts.
const STRANGERS: i32 = 6;
const PLACE: i32 = 60;
/// The most tries of all strangers together for one account, those of new places among them.
const PLACES: i32 = 120;
/// The most accounts that one browser is known for.
const KNOWN_MAX: usize = 8;
/// How long a browser is known, in seconds: a year.
const KNOWN_S: i64 = 365 * 86_400;

/// What a browser holds that signed in before.
#[derive(Default, Serialize, Deserialize)]
struct Known {
    device: String,
    /// Digests of way in and account.
    accounts: Vec<String>,
}

fn account_digest(way: &Way, account: &str) -> String {
    hex(&sha256(format!("{}\0{account}", way.name).as_bytes())[..12])
}

fn known(desk: Desk<'_>) -> Known {
    let (name, _) = desk.site().address.cookie("known");
    let Found::One(text) = cookies::find(&desk.visit.headers, &name) else { return Known::default() };
    let plain = desk.engine.ring.open_text(Purpose::Known, &text, 2_000).ok();
    plain.and_then(|p| serde_json::from_slice(&p).ok()).unwrap_or_default()
}

/// The cookie of a browser that signed in to an account just now.
pub(super) fn known_now(desk: Desk<'_>, way: &Way, account: &str) -> String {
    let mut held = known(desk);
    if held.device.is_empty() {
        held.device = hex(&random::<16>());
    }
    let this = account_digest(way, account);
    held.accounts.retain(|a| *a != this);
    held.accounts.insert(0, this);
    held.accounts.truncate(KNOWN_MAX);
    let text = desk.engine.ring.seal_text(Purpose::Known, random(), &serde_json::to_vec(&held).unwrap_or_default());
    let (name, secure) = desk.site().address.cookie("known");
    cookies::set(&name, &text, secure, Some(KNOWN_S))
}

/// A try that was counted.
pub(super) struct Counted {
    keys: Vec<[u8; 32]>,
    span: i64,
}

/// Counts a try for an account. None where no more are taken: the step that says so is told.
pub(super) async fn count(tried: &mut Try<'_>, account: &str, each: i32) -> Result<Option<Counted>, StoreError> {
    let (engine, desk, way) = (tried.engine(), tried.journey.desk, tried.way.name.as_str());
    let place = neighbourhood(desk.visit.facts.address);
    let held = known(desk);
    let key = |parts: &[&str]| slot(engine, parts);
    let is_known = held.accounts.contains(&account_digest(tried.way, account));
    let (span, until) = window(engine);
    // The place comes first: one that has no more tries leaves no trace of the accounts that it names.
    let stages = if is_known {
        vec![vec![(key(&["device", way, account, &held.device]), each, "for-account-and-place")]]
    } else {
        vec![
            vec![(key(&["place", way, &place.to_string()]), PLACE, "for-place")],
            vec![
                (key(&["pair", way, account, &place.to_string()]), each, "for-account-and-place"),
                (key(&["account", way, account]), each * STRANGERS, "for-account"),
            ],
        ]
    };
    let mut counted = Counted { keys: vec![], span };
    for bounds in stages {
        let keys: Vec<[u8; 32]> = bounds.iter().map(|(k, ..)| *k).collect();
        let counts = engine.store.count_tries(&keys, span, until).await?;
        // A place that tries for the first time in the window gets its try whatever others did: a few places cannot keep the owner out.
        // How many places there may be is bounded far above that.
        let first = |bound: &str, n: i32| bound == "for-account" && counts.first() == Some(&1) && n <= PLACES;
        let over = bounds.iter().zip(&counts).find(|((_, limit, bound), n)| *n > limit && !first(bound, **n));
        if let Some(((_, limit, bound), _)) = over {
            tried.journey.step(|| too_many(way, bound, *limit));
            return Ok(None);
        }
        counted.keys.extend(keys);
    }
    Ok(Some(counted))
}

/// The same, and where no more are taken what the person is answered, which is recorded.
pub(super) async fn allowed(
    tried: &mut Try<'_>,
    account: &str,
    each: u32,
    page: impl FnOnce(&Try<'_>, Said<'_>) -> Response,
) -> Result<Counted, Why> {
    if let Some(counted) = count(tried, account, i32::try_from(each).unwrap_or(i32::MAX)).await? {
        return Ok(counted);
    }
    tried.note(Outcome::CheckFailed).await?;
    Err(wait(page(tried, Said::Wait { minutes: TRIES_MINUTES })).into())
}

/// Takes back a try that was right.
pub(super) async fn uncount(engine: &Engine, counted: &Counted) -> Result<(), StoreError> {
    engine.store.uncount_tries(&counted.keys, counted.span).await
}

/// Answers with a wait.
pub fn wait(mut response: Response) -> Response {
    let seconds = http::HeaderValue::from(TRIES_MINUTES * 60);
    response.headers_mut().insert(http::header::RETRY_AFTER, seconds);
    response
}
