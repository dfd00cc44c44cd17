//! What calls answer with where something is wrong, shared by all of them.

use http::StatusCode;
pub use passeur_signin::problem::{ApiError, problem};

/// A request that cannot mean anything; the words say what it should be.
pub fn bad(words: &str) -> ApiError {
    problem(StatusCode::BAD_REQUEST, "query", "Not understood", words)
}

/// Nothing is published yet.
pub fn no_edition() -> ApiError {
    problem(StatusCode::NOT_FOUND, "no-edition", "Nothing published", "Publish a site file first: passeur site publish FILE")
}
