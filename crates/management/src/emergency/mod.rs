//! The emergency account: one local account that works when the provider, the directory and the edition are all broken.
//!
//! It is no part of an edition: its file is named at start, like the key ring. It is offered to the networks that the file
//! names and to nobody else, also on hosts that no edition knows. Every use, and every failure, is an act in the record.

pub mod account;
mod page;

use std::net::IpAddr;
use std::sync::Arc;

use chrono::Duration;
use http::HeaderMap;
use passeur_core::acts::Personal;
use passeur_core::address::neighbourhood;
use passeur_core::id::Token;
use passeur_http::cookies::{self, Found};
use passeur_store::{EmergencySession, StoreError};
use serde_json::json;

use crate::app::App;

pub use account::{BadEmergency, Emergency};
pub use page::{show, sign_in};

/// How long an emergency session lasts.
pub const LASTS: Duration = Duration::hours(1);
/// The longest password that is even looked at, in bytes.
const PASSWORD_MAX: usize = 1024;

/// How a try ended.
pub enum Try {
    /// Signed in: the new session's token.
    In(Token),
    Wrong,
    /// Too many failures.
    Wait,
}

/// Tries a password. Success and failure are both written down before anybody is told.
pub async fn try_password(
    app: &App,
    account: &Arc<Emergency>,
    address: IpAddr,
    name: &str,
    password: String,
) -> Result<Try, StoreError> {
    let now = app.now();
    if !account.may_try(address, now) {
        return Ok(Try::Wait);
    }
    // Counted before it is checked, so that tries at once are no way around the limit.
    account.count_failure(address, now);
    let right = password.len() <= PASSWORD_MAX && account.verifies(password).await & (name == account.name);
    let personal = Personal { who: account.who(), by: "emergency".into(), people: vec![] };
    let about = json!({"address": address.to_string()});
    if !right {
        tracing::warn!(%address, "an emergency sign-in failed");
        app.store.record_act(app.act("emergency sign-in failed", about, personal)).await?;
        return Ok(Try::Wrong);
    }
    account.failed.lock().unwrap_or_else(|e| e.into_inner()).remove(&neighbourhood(address));
    let token = app.new_token();
    let session =
        EmergencySession { digest: token.digest().to_vec(), address: address.to_string(), began: now, until: now + LASTS };
    app.store.begin_emergency(session, app.act("emergency sign-in", about, personal)).await?;
    tracing::warn!(%address, "the emergency account signed in");
    Ok(Try::In(token))
}

/// The cookie of the session: host-only on the sign-in host, and plain on a host that no edition knows.
pub fn cookie(app: &App, on_any_host: bool) -> (String, bool) {
    match app.live.get().filter(|_| !on_any_host) {
        Some(edition) => edition.site.address.cookie("emergency"),
        None => ("passeur-emergency".to_owned(), false),
    }
}

/// The live emergency session that a browser presents from an address.
pub async fn session(
    app: &App,
    headers: &HeaderMap,
    address: IpAddr,
    on_any_host: bool,
) -> Result<Option<EmergencySession>, StoreError> {
    if offered(app, headers, address).is_none() {
        return Ok(None);
    }
    let Found::One(text) = cookies::find(headers, &cookie(app, on_any_host).0) else { return Ok(None) };
    let Some(token) = Token::parse(&text) else { return Ok(None) };
    Ok(app.store.emergency(&token.digest()).await?.filter(|s| app.now() < s.until && app.now() >= s.began - Duration::minutes(5)))
}

/// Marks a request that came to a host which no edition knows, from a network that the account is offered to.
#[derive(Clone, Copy, Debug)]
pub struct AnyHost;

/// Whether a path is served to the emergency account on any host.
pub fn serves(path: &str) -> bool {
    path == "/.passeur/emergency" || path == "/.passeur/page.css" || path.starts_with("/console") || path.starts_with("/api/v1/")
}

/// The account, where it is offered to whoever sends a request. Where no edition names trusted proxies, a request that came
/// through one comes from nobody known.
pub fn offered<'a>(app: &'a App, headers: &HeaderMap, address: IpAddr) -> Option<&'a Arc<Emergency>> {
    let trusted = app.live.get().is_some_and(|e| e.site.proxies.is_some());
    let direct = trusted || !came_through_a_proxy(headers);
    app.emergency.as_ref().filter(|e| direct && e.is_offered_to(address))
}

/// Whether a request says that it came through a proxy.
fn came_through_a_proxy(headers: &HeaderMap) -> bool {
    ["forwarded", "x-forwarded-for", "x-real-ip", "via"].iter().any(|n| headers.contains_key(*n))
}

#[cfg(test)]
mod tests {
    use super::account::{TRIES, WINDOW_S};
    use super::*;

    fn account() -> Emergency {
        Emergency::parse(include_str!("../../../../demo/emergency.toml")).unwrap()
    }

    #[test]
    fn it_is_offered_to_its_networks_alone() {
        let account = account();
        for (address, offered) in
            [("127.0.0.1", true), ("::ffff:127.0.0.1", true), ("127.0.0.2", false), ("192.0.2.1", false), ("::1", true)]
        {
            assert_eq!(account.is_offered_to(address.parse().unwrap()), offered, "{address}");
        }
    }

    #[test]
    fn a_file_that_offers_it_to_everybody_or_holds_a_plain_password_is_refused() {
        let good = include_str!("../../../../demo/emergency.toml");
        let networks = good.lines().find(|l| l.starts_with("networks")).unwrap();
        for bad in ["networks = []", "networks = [\"0.0.0.0/0\"]", "networks = [\"10.0.0.0/8\", \"::/0\"]"] {
            assert!(matches!(Emergency::parse(&good.replace(networks, bad)), Err(BadEmergency::Networks)), "{bad}");
        }
        let password = good.lines().find(|l| l.starts_with("password")).unwrap();
        assert!(matches!(Emergency::parse(&good.replace(password, "password = \"plain\"")), Err(BadEmergency::Password)));
        assert!(matches!(Emergency::parse(&format!("{good}\ncolour = 1")), Err(BadEmergency::Toml(_))));
    }

    #[test]
    fn failures_bound_an_address_and_everybody_and_pass_with_time() {
        let account = account();
        let now = chrono::DateTime::from_timestamp(1_800_000_000, 0).unwrap();
        let at = |i: u32| IpAddr::from([10, 0, (i / 250) as u8, (i % 250) as u8]);
        for _ in 0..TRIES.0 {
            assert!(account.may_try(at(1), now));
            account.count_failure(at(1), now);
        }
        assert!(!account.may_try(at(1), now) && account.may_try(at(2), now));
        for i in 2..27 {
            account.count_failure(at(i), now);
        }
        assert!(!account.may_try(at(40), now), "everybody together");
        assert!(account.may_try(at(1), now + Duration::seconds(WINDOW_S)));
    }

    #[test]
    fn a_request_that_names_a_proxy_is_known() {
        let mut h = HeaderMap::new();
        assert!(!came_through_a_proxy(&h));
        h.insert("x-forwarded-for", http::HeaderValue::from_static("127.0.0.1"));
        assert!(came_through_a_proxy(&h));
    }
}
