//! Programs at a gate: what opens nothing is answered with a challenge (RFC 6750 3).

use axum::response::IntoResponse;
use http::{HeaderValue, Response, StatusCode, header};
use passeur_core::circumstances::RequestFacts;
use passeur_core::id::CrossingId;
use passeur_core::site::Site;
pub use passeur_engine::programs::{NotTaken, begin, begin_by_certificate};
use passeur_gateway::body::Body;
use passeur_signin::pages;
use passeur_signin::problem::problem;

use super::plain;

/// A problem with a challenge.
fn challenge(status: StatusCode, error: &str, words: &str, id: CrossingId) -> axum::response::Response {
    let code = if status == StatusCode::FORBIDDEN { "refused" } else { "token" };
    let mut response = problem(status, code, "Not let through", words).with_crossing(id).into_response();
    if status == StatusCode::UNAUTHORIZED
        && let Ok(value) = HeaderValue::from_str(&format!("Bearer realm=\"passeur\", error=\"{error}\""))
    {
        response.headers_mut().insert(header::WWW_AUTHENTICATE, value);
    }
    response
}

/// The answer to a token, or a certificate, that opens nothing.
pub fn answer(why: NotTaken, site: &Site, facts: &RequestFacts) -> Response<Body> {
    let bad = "invalid_token";
    plain(match why {
        NotTaken::TooMany(id) => {
            let words = "Too many tokens from here were no good. Try again in a quarter of an hour.";
            challenge(StatusCode::TOO_MANY_REQUESTS, bad, words, id)
        }
        NotTaken::Bad(id) => {
            let words = "The token is not known here, has run out, or is not for this gate.";
            challenge(StatusCode::UNAUTHORIZED, bad, words, id)
        }
        NotTaken::Ended(id) => {
            let words = "The session that this token opened was ended, so it opens no other. Get a new token.";
            challenge(StatusCode::UNAUTHORIZED, bad, words, id)
        }
        NotTaken::KeptOut(id) => challenge(StatusCode::FORBIDDEN, bad, "This token's owner is kept out.", id),
        NotTaken::Refused { words, crossing } => {
            let words = words.unwrap_or_else(|| "The rules of this gate do not let this token's owner in.".to_owned());
            challenge(StatusCode::FORBIDDEN, "insufficient_scope", &words, crossing)
        }
        NotTaken::NotNow(id) => {
            let words = "Whether the token is good cannot be found out just now. Try again in a moment.";
            let problem = problem(StatusCode::SERVICE_UNAVAILABLE, "not-now", "Not possible just now", words);
            let mut answer = problem.with_crossing(id).into_response();
            answer.headers_mut().insert(header::RETRY_AFTER, HeaderValue::from_static("5"));
            answer
        }
        NotTaken::Store(e) => pages::store_failed(site, facts.lang, &e).into_response(),
    })
}
