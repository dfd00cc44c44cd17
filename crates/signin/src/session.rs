//! The session that a browser presents at the sign-in host.

use http::HeaderMap;
use passeur_core::id::Token;
use passeur_engine::sessions::{Session, by_token};
use passeur_http::cookies::{Found, find};
use passeur_live::edition::Edition;
use passeur_store::StoreError;

use passeur_engine::Engine;

/// The session a browser presents at the sign-in host; none unless it is live.
pub async fn of_browser(engine: &Engine, edition: &Edition, headers: &HeaderMap) -> Result<Option<Session>, StoreError> {
    let (name, _) = edition.site.address.cookie("session");
    let Found::One(text) = find(headers, &name) else {
        return Ok(None);
    };
    match Token::parse(&text) {
        Some(token) => by_token(engine, edition, &token).await,
        None => Ok(None),
    }
}
