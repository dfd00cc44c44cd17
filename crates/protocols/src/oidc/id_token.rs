//! Validation of the id_token (OpenID Connect Core 3.1.3.7, RFC 7515, RFC 8725).
//!
//! The JOSE library verifies one signature with one key and one algorithm; everything else is checked here: its date
//! checks read the system clock, and it does not enforce `crit`.

use aws_lc_rs::digest;
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use chrono::{DateTime, Duration};
use jsonwebtoken::Algorithm;
use passeur_core::Moment;
use passeur_core::id::same_secret;
use serde_json::{Map, Value};

use super::KeySet;
use super::jwks::Signs;

/// The longest id_token read, in bytes.
const TOKEN_MAX: usize = 64 * 1024;

/// What the id_token must agree with.
#[derive(Debug)]
pub struct Expected<'a> {
    pub issuer: &'a str,
    pub client_id: &'a str,
    pub nonce: &'a str,
    /// The access token received with it; checked against `at_hash` where there is one.
    pub access_token: &'a str,
    pub now: Moment,
    /// Tolerated clock difference.
    pub skew: Duration,
}

/// Which check failed, with the value seen and the value wanted.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{check}: seen {seen}, wanted {wanted}")]
pub struct IdTokenError {
    pub check: &'static str,
    pub seen: String,
    pub wanted: String,
}

pub(super) fn fail<T>(check: &'static str, seen: impl Into<String>, wanted: impl Into<String>) -> Result<T, IdTokenError> {
    Err(IdTokenError { check, seen: seen.into(), wanted: wanted.into() })
}

/// Proof that an id_token passed every check; holds its claims. Only [`validate`] makes one.
#[derive(Clone, Debug, PartialEq)]
pub struct ValidIdToken {
    claims: Map<String, Value>,
    subject: String,
    pub alg: String,
    pub kid: String,
    pub expires: Moment,
}

impl ValidIdToken {
    /// The subject: with the issuer, the only key of a person.
    pub fn subject(&self) -> &str {
        &self.subject
    }

    /// All claims but those that only serve the check itself.
    pub fn claims(&self) -> Map<String, Value> {
        let spent = ["nonce", "at_hash", "c_hash", "jti"];
        self.claims.iter().filter(|(k, _)| !spent.contains(&k.as_str())).map(|(k, v)| (k.clone(), v.clone())).collect()
    }

    /// A claim.
    pub fn claim(&self, name: &str) -> Option<&Value> {
        self.claims.get(name)
    }
}

/// Algorithms accepted; what is not here (`none`, HMAC) never verifies (RFC 8725 3.1).
const ALGORITHMS: [(&str, Signs); 11] = [
    ("RS256", Signs::Library(Algorithm::RS256)),
    ("RS384", Signs::Library(Algorithm::RS384)),
    ("RS512", Signs::Library(Algorithm::RS512)),
    ("PS256", Signs::Library(Algorithm::PS256)),
    ("PS384", Signs::Library(Algorithm::PS384)),
    ("PS512", Signs::Library(Algorithm::PS512)),
    ("ES256", Signs::Library(Algorithm::ES256)),
    ("ES384", Signs::Library(Algorithm::ES384)),
    ("ES512", Signs::Es512),
    ("EdDSA", Signs::Library(Algorithm::EdDSA)),
    // RFC 9864 2.2: the same signature by its full name.
    ("Ed25519", Signs::Library(Algorithm::EdDSA)),
];

pub(super) fn header(token: &str) -> Result<Map<String, Value>, IdTokenError> {
    let parts: Vec<&str> = token.split('.').collect();
    if token.len() > TOKEN_MAX || parts.len() != 3 {
        return fail("form", format!("{} parts, {} bytes", parts.len(), token.len()), "a JWS in compact form (RFC 7515 7.1)");
    }
    let bytes = URL_SAFE_NO_PAD.decode(parts[0]).ok();
    match bytes.and_then(|b| serde_json::from_slice(&b).ok()) {
        Some(Value::Object(h)) => Ok(h),
        _ => fail("form", "a header that is not JSON", "a JWS in compact form (RFC 7515 7.1)"),
    }
}

impl IdTokenError {
    /// Whether the provider may have changed its keys since they were fetched: under a new name, or under the same.
    pub fn may_be_keys(&self) -> bool {
        matches!(self.check, "key" | "signature")
    }
}

/// The key id a token names, before anything of it is believed: for words only.
pub fn key_id(token: &str) -> Option<String> {
    header(token).ok()?.get("kid")?.as_str().map(str::to_owned)
}

/// Checks an id_token in full. The order is that of the standard, so the first failure is the most telling one.
pub fn validate(token: &str, keys: &KeySet, expected: &Expected<'_>) -> Result<ValidIdToken, IdTokenError> {
    let Opened { claims, alg_name, alg, kid } = open(&header(token)?, token, keys)?;
    check_parties(&claims, expected)?;
    let expires = check_times(&claims, expected)?;
    check_bindings(&claims, expected, alg)?;
    let subject = match claims.get("sub").and_then(Value::as_str) {
        Some(s) if !s.is_empty() && s.len() <= 255 && s.is_ascii() => s.to_owned(),
        _ => return fail("sub", seen(claims.get("sub")), "a text of 1 to 255 ASCII characters"),
    };
    Ok(ValidIdToken { claims, subject, alg: alg_name.to_owned(), kid: kid.unwrap_or_else(|| "(none)".to_owned()), expires })
}

/// What a signature vouches for, and how it was made.
pub(super) struct Opened {
    pub(super) claims: Map<String, Value>,
    alg_name: &'static str,
    alg: Signs,
    kid: Option<String>,
}

/// Opens a JWT of the provider, whatever it is for: no critical extension, an algorithm that is taken, a signature by one of its
/// keys. What the claims must say is left to the caller.
pub(super) fn open(header: &Map<String, Value>, token: &str, keys: &KeySet) -> Result<Opened, IdTokenError> {
    if let Some(crit) = header.get("crit") {
        return fail("crit", crit.to_string(), "no critical header extension (RFC 7515 4.1.11)");
    }
    let named = header.get("alg").and_then(Value::as_str).unwrap_or("none");
    let Some((alg_name, alg)) = ALGORITHMS.iter().find(|(n, _)| *n == named) else {
        return fail("algorithm", named, ALGORITHMS.map(|a| a.0).join(", "));
    };
    let kid = header.get("kid").and_then(Value::as_str);
    let claims = verify(token, keys, kid, (alg_name, *alg))?;
    Ok(Opened { claims, alg_name, alg: *alg, kid: kid.map(str::to_owned) })
}

/// Checks that claims are of an issuer.
pub(super) fn of_issuer(claims: &Map<String, Value>, wanted: &str) -> Result<(), IdTokenError> {
    match text(claims, "iss").unwrap_or("none") {
        issuer if issuer == wanted => Ok(()),
        issuer => fail("issuer", issuer, wanted),
    }
}

fn verify(token: &str, keys: &KeySet, kid: Option<&str>, alg: (&str, Signs)) -> Result<Map<String, Value>, IdTokenError> {
    let candidates = keys.candidates(kid, alg.0, alg.1);
    if candidates.is_empty() {
        let seen = format!("key {} with {}", kid.unwrap_or("(none)"), alg.0);
        return fail("key", seen, format!("one of {}", keys.ids().join(", ")));
    }
    match candidates.iter().find_map(|key| key.claims(token)) {
        Some(claims) => Ok(claims),
        None => fail(
            "signature",
            format!("a signature that key {} did not make", kid.unwrap_or("(any)")),
            "the provider's own signature",
        ),
    }
}

pub(super) fn text<'a>(claims: &'a Map<String, Value>, name: &str) -> Option<&'a str> {
    claims.get(name).and_then(Value::as_str)
}

fn check_parties(claims: &Map<String, Value>, expected: &Expected<'_>) -> Result<(), IdTokenError> {
    of_issuer(claims, expected.issuer)?;
    let audience: Vec<&str> = match claims.get("aud") {
        Some(Value::String(one)) => vec![one.as_str()],
        Some(Value::Array(many)) => many.iter().map(|v| v.as_str().unwrap_or("?")).collect(),
        _ => vec![],
    };
    if !audience.contains(&expected.client_id) {
        return fail("audience", if audience.is_empty() { "none".into() } else { audience.join(", ") }, expected.client_id);
    }
    // Further audiences are only acceptable when the token says it was made for us (Core 3.1.3.7, 3 to 5).
    let azp = text(claims, "azp");
    if (audience.len() > 1 || azp.is_some()) && azp != Some(expected.client_id) {
        return fail("azp", azp.unwrap_or("none"), expected.client_id);
    }
    Ok(())
}

/// The last second of the year 9999: far enough from what the calendar can hold that skew can be added.
const SECONDS_MAX: i64 = 253_402_300_799;

/// A NumericDate (RFC 7519 2). None where it is no number or no moment of the common calendar.
pub(super) fn moment(claims: &Map<String, Value>, name: &str) -> Option<Moment> {
    let v = claims.get(name)?;
    let seconds = v.as_i64().or_else(|| v.as_f64().map(|f| f as i64)).filter(|s| (0..=SECONDS_MAX).contains(s))?;
    DateTime::from_timestamp(seconds, 0)
}

fn check_times(claims: &Map<String, Value>, expected: &Expected<'_>) -> Result<Moment, IdTokenError> {
    let Expected { now, skew, .. } = expected;
    let (Some(exp), Some(iat)) = (moment(claims, "exp"), moment(claims, "iat")) else {
        return fail("times", "missing or not a time", "both");
    };
    let show = |t: Moment| t.format("%Y-%m-%d %H:%M:%S UTC").to_string();
    if exp + *skew <= *now {
        return fail("expiry", show(exp), format!("later than {}", show(*now)));
    }
    if iat - *skew > *now {
        return fail("issue-time", show(iat), format!("not after {}: compare the clocks", show(*now)));
    }
    if iat + Duration::hours(1) < *now {
        return fail("issue-time", show(iat), format!("within an hour of {}", show(*now)));
    }
    if moment(claims, "nbf").is_some_and(|nbf| nbf - *skew > *now) {
        return fail("not-before", "a time to come", format!("not after {}", show(*now)));
    }
    Ok(exp)
}

fn check_bindings(claims: &Map<String, Value>, expected: &Expected<'_>, alg: Signs) -> Result<(), IdTokenError> {
    let nonce = text(claims, "nonce").unwrap_or_default();
    if !same_secret(nonce.as_bytes(), expected.nonce.as_bytes()) {
        let seen = if nonce.is_empty() { "none" } else { "another one" };
        return fail("nonce", seen, "the one sent with this request");
    }
    if let Some(at_hash) = claims.get("at_hash") {
        let hash = match alg {
            Signs::Library(Algorithm::RS384 | Algorithm::PS384 | Algorithm::ES384) => &digest::SHA384,
            Signs::Library(Algorithm::RS512 | Algorithm::PS512 | Algorithm::EdDSA) | Signs::Es512 => &digest::SHA512,
            _ => &digest::SHA256,
        };
        let full = digest::digest(hash, expected.access_token.as_bytes());
        let half = URL_SAFE_NO_PAD.encode(&full.as_ref()[..full.as_ref().len() / 2]);
        if !same_secret(at_hash.as_str().unwrap_or_default().as_bytes(), half.as_bytes()) {
            return fail("at_hash", "the digest of another access token", "that of the access token received with it");
        }
    }
    Ok(())
}

/// A member as it came, for telling what is wrong with it.
pub(crate) fn seen(value: Option<&Value>) -> String {
    value.map_or_else(|| "none".to_owned(), |v| v.to_string().chars().take(300).collect())
}
