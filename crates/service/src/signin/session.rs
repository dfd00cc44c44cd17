//! The session that a browser presents at the sign-in host.

use http::HeaderMap;
use passeur_core::id::Token;
pub use passeur_engine::sessions::*;
use passeur_gateway::cookies::{Found, find};
use passeur_live::edition::Edition;
use passeur_store::StoreError;

use crate::app::App;

/// The session a browser presents at the sign-in host; none unless it is live.
pub async fn of_browser(app: &App, edition: &Edition, headers: &HeaderMap) -> Result<Option<Session>, StoreError> {
    let (name, _) = edition.site.address.cookie("session");
    let Found::One(text) = find(headers, &name) else {
        return Ok(None);
    };
    match Token::parse(&text) {
        Some(token) => by_token(app, edition, &token).await,
        None => Ok(None),
    }
}
