//! Provider metadata (OpenID Connect Discovery 1.0, section 3 and 4).

use passeur_core::address::is_loopback;
use serde::Deserialize;
use url::Url;

/// The address of the discovery document of an issuer (Discovery 4).
pub fn discovery_url(issuer: &str) -> String {
    format!("{}/.well-known/openid-configuration", issuer.trim_end_matches('/'))
}

/// What is wrong with a discovery document.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadMetadata {
    #[error("the document is not JSON with the members a provider must have: {0}")]
    NotMetadata(String),
    #[error("it names issuer {seen}; wanted {wanted}, to the letter")]
    Issuer { seen: String, wanted: String },
    #[error("{member} is {seen}: an https address is wanted (plain http on localhost names only)")]
    Endpoint { member: &'static str, seen: String },
    #[error("the provider does not offer response_type code")]
    NoCodeFlow,
    #[error("the provider lists PKCE methods without S256")]
    NoPkce,
}

/// What is used of a provider's metadata. Exists only after the issuer was compared and every address checked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Metadata {
    pub issuer: String,
    pub authorization_endpoint: Url,
    pub token_endpoint: Url,
    pub jwks_uri: Url,
    pub userinfo_endpoint: Option<Url>,
    pub end_session_endpoint: Option<Url>,
    /// Where it says whether an access token is good (RFC 7662, RFC 8414).
    pub introspection_endpoint: Option<Url>,
    /// RFC 9207: the provider promises `iss` in its answers, so one without it is refused.
    pub iss_in_answer: bool,
    /// How the token endpoint lets clients prove themselves, by registered names; HTTP Basic where the document does not say.
    pub auth_methods: Vec<String>,
    /// What a client's assertion may be signed with; empty where the document does not say.
    pub auth_algorithms: Vec<String>,
    pub scopes_supported: Vec<String>,
}

#[derive(Deserialize)]
struct Raw {
    issuer: String,
    authorization_endpoint: String,
    token_endpoint: String,
    jwks_uri: String,
    userinfo_endpoint: Option<String>,
    end_session_endpoint: Option<String>,
    introspection_endpoint: Option<String>,
    #[serde(default)]
    response_types_supported: Vec<String>,
    code_challenge_methods_supported: Option<Vec<String>>,
    #[serde(default)]
    authorization_response_iss_parameter_supported: bool,
    token_endpoint_auth_methods_supported: Option<Vec<String>>,
    #[serde(default)]
    token_endpoint_auth_signing_alg_values_supported: Vec<String>,
    #[serde(default)]
    scopes_supported: Vec<String>,
}

impl Metadata {
    /// Reads a discovery document fetched for `issuer`.
    pub fn parse(document: &[u8], issuer: &str) -> Result<Metadata, BadMetadata> {
        let raw: Raw = serde_json::from_slice(document).map_err(|e| BadMetadata::NotMetadata(e.to_string()))?;
        if raw.issuer != issuer {
            return Err(BadMetadata::Issuer { seen: raw.issuer, wanted: issuer.to_owned() });
        }
        if !raw.response_types_supported.is_empty() && !raw.response_types_supported.iter().any(|r| r == "code") {
            return Err(BadMetadata::NoCodeFlow);
        }
        if raw.code_challenge_methods_supported.is_some_and(|m| !m.iter().any(|m| m == "S256")) {
            return Err(BadMetadata::NoPkce);
        }
        let optional = |member, text: Option<String>| text.map(|t| endpoint(member, t)).transpose();
        Ok(Metadata {
            authorization_endpoint: endpoint("authorization_endpoint", raw.authorization_endpoint)?,
            token_endpoint: endpoint("token_endpoint", raw.token_endpoint)?,
            jwks_uri: endpoint("jwks_uri", raw.jwks_uri)?,
            userinfo_endpoint: optional("userinfo_endpoint", raw.userinfo_endpoint)?,
            end_session_endpoint: optional("end_session_endpoint", raw.end_session_endpoint)?,
            introspection_endpoint: optional("introspection_endpoint", raw.introspection_endpoint)?,
            iss_in_answer: raw.authorization_response_iss_parameter_supported,
            auth_methods: raw.token_endpoint_auth_methods_supported.unwrap_or_else(|| vec!["client_secret_basic".to_owned()]),
            auth_algorithms: raw.token_endpoint_auth_signing_alg_values_supported,
            scopes_supported: raw.scopes_supported,
            issuer: raw.issuer,
        })
    }
}

fn endpoint(member: &'static str, text: String) -> Result<Url, BadMetadata> {
    let ok = |u: &Url| match u.scheme() {
        "https" => u.host_str().is_some(),
        "http" => u.host_str().is_some_and(is_loopback),
        _ => false,
    };
    Url::parse(&text)
        .ok()
        .filter(|u| ok(u) && u.fragment().is_none() && u.username().is_empty())
        .ok_or(BadMetadata::Endpoint { member, seen: text })
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::{Value, json};

    fn minimal() -> Value {
        json!({
            "issuer": "https://p.example", "authorization_endpoint": "https://p.example/a", "token_endpoint": "https://p.example/t",
            "jwks_uri": "https://p.example/k", "response_types_supported": ["code"], "code_challenge_methods_supported": ["S256"],
        })
    }

    fn parse(v: &Value) -> Result<Metadata, BadMetadata> {
        Metadata::parse(v.to_string().as_bytes(), "https://p.example")
    }

    #[test]
    fn a_minimal_document_is_read() {
        let m = parse(&minimal()).unwrap();
        assert!(
            m.auth_methods == ["client_secret_basic"]
                && m.auth_algorithms.is_empty()
                && !m.iss_in_answer
                && m.userinfo_endpoint.is_none()
        );
    }

    #[test]
    fn each_wrong_member_is_named() {
        let with = |k: &str, v: Value| {
            let mut doc = minimal();
            doc[k] = v;
            parse(&doc).unwrap_err()
        };
        let slash = BadMetadata::Issuer { seen: "https://p.example/".into(), wanted: "https://p.example".into() };
        assert_eq!(with("issuer", json!("https://p.example/")), slash);
        for bad in ["http://p.example/a", "javascript:alert(1)", "https://u@p.example/", "/a", "https://p.example/#f"] {
            assert_eq!(
                with("authorization_endpoint", json!(bad)),
                BadMetadata::Endpoint { member: "authorization_endpoint", seen: bad.into() }
            );
        }
        assert_eq!(with("response_types_supported", json!(["id_token"])), BadMetadata::NoCodeFlow);
        assert_eq!(with("code_challenge_methods_supported", json!(["plain"])), BadMetadata::NoPkce);
        assert!(matches!(with("jwks_uri", json!(7)), BadMetadata::NotMetadata(_)));
        assert!(matches!(Metadata::parse(b"<html>", "x"), Err(BadMetadata::NotMetadata(_))));
    }

    #[test]
    fn the_discovery_address_has_one_slash() {
        for i in ["https://p.example", "https://p.example/"] {
            assert_eq!(discovery_url(i), "https://p.example/.well-known/openid-configuration");
        }
        assert_eq!(discovery_url("https://p.example/t/1"), "https://p.example/t/1/.well-known/openid-configuration");
    }
}
