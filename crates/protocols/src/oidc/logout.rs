//! Logout tokens (OpenID Connect Back-Channel Logout 1.0, 2.4 to 2.6): by one a provider says that it ended a session.

use chrono::{DateTime, Duration, Utc};
use serde_json::Value;

use super::id_token::{IdTokenError, fail, header, moment, of_issuer, open, text};
use super::jwks::KeySet;

/// The event that a logout token tells of.
const EVENT: &str = "http://schemas.openid.net/event/backchannel-logout";
/// The longest name of a person, of a session or of a token that is read, in bytes.
const NAME_MAX: usize = 2_048;
/// How old a token may be.
const AGE_MAX_MINUTES: i64 = 10;

/// What a logout token must be like.
pub struct ExpectedLogout<'a> {
    pub issuer: &'a str,
    pub client_id: &'a str,
    pub now: DateTime<Utc>,
    pub skew: Duration,
}

/// A logout token that was checked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LogoutToken {
    /// Whose sessions end; where only a session is named, none.
    pub subject: Option<String>,
    /// The provider's session that ended; none means all of the subject.
    pub session: Option<String>,
    /// Makes the token good once.
    pub id: String,
    /// Until when it must be remembered.
    pub remember_until: DateTime<Utc>,
}

/// Checks a logout token (2.6). The `jti` is left to the caller, who remembers.
///
/// # Errors
/// The check that fails, with what was seen and what was wanted.
pub fn validate_logout(token: &str, keys: &KeySet, expected: &ExpectedLogout<'_>) -> Result<LogoutToken, IdTokenError> {
    let header = header(token)?;
    // Providers older than the final standard name no type.
    let typ = header.get("typ").and_then(Value::as_str).unwrap_or("JWT").to_ascii_lowercase();
    if !["logout+jwt", "application/logout+jwt", "jwt"].contains(&typ.as_str()) {
        return fail("type", typ, "logout+jwt");
    }
    let claims = open(&header, token, keys)?.claims;
    of_issuer(&claims, expected.issuer)?;
    let ours = |v: &Value| v.as_str() == Some(expected.client_id);
    let aud = claims.get("aud").cloned().unwrap_or_default();
    if !(ours(&aud) || aud.as_array().is_some_and(|all| all.iter().any(ours))) {
        return fail("audience", aud.to_string(), expected.client_id);
    }
    let Some(issued) = moment(&claims, "iat") else { return fail("times", "no iat", "iat and exp") };
    if issued > expected.now + expected.skew || issued < expected.now - Duration::minutes(AGE_MAX_MINUTES) - expected.skew {
        return fail(
            "issue-time",
            issued.to_rfc3339(),
            format!("within {AGE_MAX_MINUTES} minutes of {}", expected.now.to_rfc3339()),
        );
    }
    let Some(expires) = moment(&claims, "exp") else { return fail("times", "no exp", "iat and exp") };
    if expires + expected.skew <= expected.now {
        return fail("expiry", expires.to_rfc3339(), format!("later than {}", expected.now.to_rfc3339()));
    }
    if !claims.get("events").and_then(|e| e.get(EVENT)).is_some_and(Value::is_object) {
        return fail("events", claims.get("events").map_or_else(|| "none".to_owned(), Value::to_string), EVENT);
    }
    // Else an id_token could be sent in its place.
    if claims.contains_key("nonce") {
        return fail("nonce", "a nonce", "none: this would be an id_token");
    }
    // What is named and cannot be read is not taken for missing: without `sid`, every session of the person would end.
    let some = |name: &str| match claims.get(name) {
        None => Ok(None),
        Some(Value::String(s)) if !s.is_empty() && s.len() <= NAME_MAX => Ok(Some(s.clone())),
        Some(_) => {
            fail(if name == "sid" { "sid" } else { "sub" }, "no text, or too much of it", format!("1 to {NAME_MAX} bytes"))
        }
    };
    let (subject, session) = (some("sub")?, some("sid")?);
    if subject.is_none() && session.is_none() {
        return fail("sub", "neither sub nor sid", "one of them, or both");
    }
    let Some(id) = text(&claims, "jti").filter(|s| !s.is_empty() && s.len() <= NAME_MAX).map(str::to_owned) else {
        return fail("jti", "none", "an identifier that is used once");
    };
    let until = expires.max(issued + Duration::minutes(AGE_MAX_MINUTES));
    Ok(LogoutToken { subject, session, id, remember_until: (until + expected.skew).min(expected.now + Duration::days(1)) })
}
