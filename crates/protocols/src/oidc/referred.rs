//! Claims by reference: aggregated and distributed claims (OpenID Connect Core 5.6.2). A provider that has too much to say, such
//! as the groups of somebody who is in hundreds, says where it is to be had.
//!
//! What it names is never believed for its own sake: a JWT must be signed by the provider itself, and an endpoint must be one of
//! its own addresses, or anybody who can write a claim could send us anywhere with a token in hand.

use chrono::{DateTime, Duration, Utc};
use serde_json::{Map, Value};
use url::Url;

use super::Metadata;
use super::id_token::{IdTokenError, fail, header, of_issuer, open};
use super::jwks::KeySet;

/// The most sources that are looked at.
const SOURCES_MAX: usize = 16;

/// One source of claims, and what it is said to hold.
#[derive(Clone, PartialEq, Eq)]
pub struct Reference {
    pub claims: Vec<String>,
    pub source: ClaimSource,
}

/// Where claims are.
#[derive(Clone, PartialEq, Eq)]
pub enum ClaimSource {
    /// In a JWT that came along (aggregated).
    Jwt(String),
    /// At an endpoint (distributed), with the token that it takes.
    Endpoint { address: Url, access_token: Option<String> },
    /// In neither form of the standard.
    Unreadable,
}

impl std::fmt::Debug for Reference {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Reference").field("claims", &self.claims).finish_non_exhaustive()
    }
}

impl Reference {
    /// Where it is, as it may be told: no token, and of an address no query.
    pub fn place(&self) -> String {
        match &self.source {
            ClaimSource::Jwt(_) => "a JWT that came along".to_owned(),
            ClaimSource::Endpoint { address, .. } => {
                let mut plain = address.clone();
                plain.set_query(None);
                plain.set_fragment(None);
                plain.to_string()
            }
            ClaimSource::Unreadable => "no source that can be read".to_owned(),
        }
    }
}

/// Takes references out of claims: what is left holds neither tokens nor JWTs of others.
pub fn take_references(claims: &mut Map<String, Value>) -> Vec<Reference> {
    let names = claims.remove("_claim_names");
    let sources = claims.remove("_claim_sources");
    let (Some(Value::Object(names)), sources) = (names, sources) else { return vec![] };
    let mut by_source: Vec<(String, Vec<String>)> = vec![];
    for (claim, source) in names {
        let Value::String(source) = source else { continue };
        match by_source.iter_mut().find(|(s, _)| *s == source) {
            Some((_, claims)) => claims.push(claim),
            None => by_source.push((source, vec![claim])),
        }
    }
    by_source.truncate(SOURCES_MAX);
    by_source
        .into_iter()
        .map(|(name, claims)| {
            let source = sources.as_ref().and_then(|s| s.get(&name)).map_or(ClaimSource::Unreadable, read_source);
            Reference { claims, source }
        })
        .collect()
}

fn read_source(source: &Value) -> ClaimSource {
    let of = |name: &str| source.get(name).and_then(Value::as_str);
    match (of("JWT"), of("endpoint").and_then(|e| Url::parse(e).ok())) {
        (Some(jwt), None) => ClaimSource::Jwt(jwt.to_owned()),
        (None, Some(address)) => ClaimSource::Endpoint { address, access_token: of("access_token").map(str::to_owned) },
        _ => ClaimSource::Unreadable,
    }
}

/// Whether an endpoint is at one of the provider's own origins, by what its metadata says.
pub fn is_of_provider(address: &Url, metadata: &Metadata) -> bool {
    let issuer = Url::parse(&metadata.issuer).ok();
    let own = [Some(&metadata.token_endpoint), metadata.userinfo_endpoint.as_ref(), issuer.as_ref()];
    address.username().is_empty()
        && address.password().is_none()
        && own.into_iter().flatten().any(|o| o.origin() == address.origin())
}

/// What a JWT of claims must be like.
pub struct ExpectedClaims<'a> {
    pub issuer: &'a str,
    pub client_id: &'a str,
    /// The subject of the id_token.
    pub subject: &'a str,
    pub now: DateTime<Utc>,
    pub skew: Duration,
}

/// Checks a JWT of claims and gives those that were referred to.
///
/// # Errors
/// The check that fails, with what was seen and what was wanted.
pub fn validate_referred(
    token: &str,
    keys: &KeySet,
    expected: &ExpectedClaims<'_>,
    wanted: &[String],
) -> Result<Map<String, Value>, IdTokenError> {
    let header = header(token.trim())?;
    let claims = open(&header, token.trim(), keys)?.claims;
    of_issuer(&claims, expected.issuer)?;
    // Core 5.6.2 lets a source leave both out. Then it could be of anybody, and for anybody: any token that the provider signs.
    let seen = |v: Option<&Value>| v.map_or_else(|| "none".to_owned(), Value::to_string);
    let sub = claims.get("sub");
    if sub.and_then(Value::as_str) != Some(expected.subject) {
        return fail("sub", seen(sub), expected.subject);
    }
    let ours = |v: &Value| v.as_str() == Some(expected.client_id);
    let aud = claims.get("aud");
    if !aud.is_some_and(|aud| ours(aud) || aud.as_array().is_some_and(|all| all.iter().any(ours))) {
        return fail("audience", seen(aud), expected.client_id);
    }
    if let Some(exp) = claims.get("exp") {
        let until = exp.as_i64().and_then(|s| DateTime::from_timestamp(s, 0));
        if until.is_none_or(|u| u + expected.skew <= expected.now) {
            return fail("expiry", exp.to_string(), format!("later than {}", expected.now.timestamp()));
        }
    }
    Ok(claims.into_iter().filter(|(name, _)| wanted.contains(name)).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn object(v: Value) -> Map<String, Value> {
        v.as_object().cloned().unwrap()
    }

    /// The examples of OpenID Connect Core 5.6.2.1 and 5.6.2.2.
    #[test]
    fn the_standards_examples_are_read_and_leave_no_token_behind() {
        let mut claims = object(json!({
            "name": "Jane Doe",
            "_claim_names": {"address": "src1", "phone_number": "src1", "payment_info": "src2", "credit_score": "src3", "shipping": "src4"},
            "_claim_sources": {
                "src1": {"JWT": "jwt_header.jwt_part2.jwt_part3"},
                "src2": {"endpoint": "https://bank.example.com/claim_source"},
                "src3": {"endpoint": "https://creditagency.example.com/claims_here?x=1", "access_token": "ksj3n283dke"},
            },
        }));
        let found = take_references(&mut claims);
        assert_eq!(claims, object(json!({"name": "Jane Doe"})));
        let by = |claim: &str| found.iter().find(|r| r.claims.iter().any(|c| c == claim)).unwrap();
        assert_eq!(by("address").claims.len(), 2);
        assert!(matches!(&by("address").source, ClaimSource::Jwt(j) if j == "jwt_header.jwt_part2.jwt_part3"));
        assert!(matches!(&by("payment_info").source, ClaimSource::Endpoint { access_token: None, .. }));
        assert_eq!(by("credit_score").place(), "https://creditagency.example.com/claims_here");
        assert!(matches!(by("shipping").source, ClaimSource::Unreadable), "there is no such source");
        assert!(!format!("{found:?}").contains("ksj3n283dke"));
        assert!(take_references(&mut object(json!({"_claim_names": "x", "_claim_sources": []}))).is_empty());
        let many: Map<String, Value> = (0..100).map(|i| (format!("c{i}"), json!(format!("s{i}")))).collect();
        assert_eq!(take_references(&mut object(json!({"_claim_names": many}))).len(), SOURCES_MAX);
    }

    #[test]
    fn an_endpoint_must_be_one_of_the_providers_own_addresses() {
        let doc = json!({
            "issuer": "https://p.example", "authorization_endpoint": "https://p.example/a", "token_endpoint": "https://tokens.p.example/t",
            "jwks_uri": "https://p.example/k", "userinfo_endpoint": "https://api.p.example/me",
        });
        let m = Metadata::parse(doc.to_string().as_bytes(), "https://p.example").unwrap();
        for (address, own) in [
            ("https://p.example/claims", true),
            ("https://api.p.example:443/claims?x=1", true),
            ("https://tokens.p.example/", true),
            ("https://p.example.evil.example/claims", false),
            ("http://p.example/claims", false),
            ("https://p.example:444/claims", false),
            ("https://user:x@p.example/claims", false),
            ("http://127.0.0.1/", false),
            ("file:///etc/passwd", false),
        ] {
            assert_eq!(is_of_provider(&Url::parse(address).unwrap(), &m), own, "{address}");
        }
    }
}
