//! Access tokens that come to a gate: checked here where they are JWTs (RFC 9068), otherwise by asking (RFC 7662).

use chrono::Duration;
use passeur_core::Moment;
use serde_json::{Map, Value};

use super::KeySet;
use super::id_token::{IdTokenError, fail, header, moment, of_issuer, open, text};

/// What an access token must agree with.
#[derive(Debug)]
pub struct ExpectedAccess<'a> {
    pub issuer: &'a str,
    /// The resource that it must be for.
    pub audience: &'a str,
    pub scopes: &'a [String],
    pub now: Moment,
    pub skew: Duration,
}

/// Proof that an access token passed every check. Only this module makes one.
#[derive(Clone, Debug, PartialEq)]
pub struct ValidAccessToken {
    claims: Map<String, Value>,
    subject: String,
    client: String,
    expires: Moment,
}

impl ValidAccessToken {
    /// Whom it speaks for.
    pub fn subject(&self) -> &str {
        &self.subject
    }
    /// The client it was given to.
    pub fn client(&self) -> &str {
        &self.client
    }
    /// When it runs out.
    pub fn expires(&self) -> Moment {
        self.expires
    }
    /// Its claims, but for those that only serve the check.
    pub fn claims(&self) -> Map<String, Value> {
        let spent = ["jti", "active"];
        self.claims.iter().filter(|(k, _)| !spent.contains(&k.as_str())).map(|(k, v)| (k.clone(), v.clone())).collect()
    }
}

/// Whether a token is a JWT, and which issuer it names, before anything of it is believed.
pub fn issuer_of(token: &str) -> Option<String> {
    use base64::Engine;
    header(token).ok()?;
    let body = token.split('.').nth(1)?;
    let bytes = base64::engine::general_purpose::URL_SAFE_NO_PAD.decode(body).ok()?;
    let claims: Map<String, Value> = serde_json::from_slice(&bytes).ok()?;
    text(&claims, "iss").map(str::to_owned)
}

/// Checks an access token that is a JWT (RFC 9068 4).
///
/// # Errors
/// The first check that fails, in the order of the standard.
pub fn validate_access_token(
    token: &str,
    keys: &KeySet,
    expected: &ExpectedAccess<'_>,
) -> Result<ValidAccessToken, IdTokenError> {
    let header = header(token)?;
    // An id_token, or a token for something else, is none (RFC 9068 4, RFC 8725 3.11).
    let typ = header.get("typ").and_then(Value::as_str).unwrap_or("none");
    let plain = typ.to_ascii_lowercase();
    if plain.strip_prefix("application/").unwrap_or(&plain) != "at+jwt" {
        return fail("typ", typ, "at+jwt");
    }
    let claims = open(&header, token, keys)?.claims;
    of_issuer(&claims, expected.issuer)?;
    check(claims, expected)
}

/// Checks what a provider says of a token that it was asked about (RFC 7662 2.2).
///
/// # Errors
/// Where it is not active, or not for this gate.
pub fn validate_introspection(status: u16, body: &[u8], expected: &ExpectedAccess<'_>) -> Result<ValidAccessToken, IdTokenError> {
    let said = serde_json::from_slice::<Map<String, Value>>(body).ok().filter(|_| status == 200);
    let Some(claims) = said else { return fail("form", format!("status {status}"), "what RFC 7662 2.2 describes") };
    if claims.get("active") != Some(&Value::Bool(true)) {
        return fail("active", "false", "true");
    }
    if let Some(issuer) = text(&claims, "iss").filter(|i| *i != expected.issuer) {
        return fail("issuer", issuer, expected.issuer);
    }
    check(claims, expected)
}

fn check(claims: Map<String, Value>, expected: &ExpectedAccess<'_>) -> Result<ValidAccessToken, IdTokenError> {
    let audience: Vec<&str> = match claims.get("aud") {
        Some(Value::String(one)) => vec![one.as_str()],
        Some(Value::Array(many)) => many.iter().filter_map(Value::as_str).collect(),
        _ => vec![],
    };
    if !audience.contains(&expected.audience) {
        return fail("audience", if audience.is_empty() { "none".into() } else { audience.join(", ") }, expected.audience);
    }
    let show = |t: Moment| t.format("%Y-%m-%d %H:%M:%S UTC").to_string();
    let Some(expires) = moment(&claims, "exp") else { return fail("times", "no exp", "when it runs out") };
    if expires + expected.skew <= expected.now {
        return fail("expiry", show(expires), format!("later than {}", show(expected.now)));
    }
    if moment(&claims, "iat").is_some_and(|iat| iat - expected.skew > expected.now) {
        return fail("issue-time", "a time to come", format!("not after {}", show(expected.now)));
    }
    if moment(&claims, "nbf").is_some_and(|nbf| nbf - expected.skew > expected.now) {
        return fail("not-before", "a time to come", format!("not after {}", show(expected.now)));
    }
    let scopes: Vec<&str> = text(&claims, "scope").map(|s| s.split(' ').collect()).unwrap_or_default();
    if let Some(missing) = expected.scopes.iter().find(|s| !scopes.contains(&s.as_str())) {
        return fail("scope", if scopes.is_empty() { "none".into() } else { scopes.join(" ") }, missing.as_str());
    }
    let subject = match text(&claims, "sub") {
        Some(s) if !s.is_empty() && s.len() <= 255 && s.is_ascii() => s.to_owned(),
        _ => return fail("sub", super::id_token::seen(claims.get("sub")), "a text of 1 to 255 ASCII characters"),
    };
    let client = text(&claims, "client_id").unwrap_or("(not named)").to_owned();
    Ok(ValidAccessToken { claims, subject, client, expires })
}
