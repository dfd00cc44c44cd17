//! The token endpoint (OpenID Connect Core 3.1.3, RFC 6749 2.3.1, 4.1.3, 5.1, 5.2).

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde::Deserialize;
use url::form_urlencoded::byte_serialize;

use super::Pkce;
use super::client_key::ASSERTION_TYPE;

/// How the client proves itself to the token endpoint.
#[derive(Clone, PartialEq, Eq)]
pub enum ClientAuth {
    /// HTTP Basic (`client_secret_basic`).
    Basic { secret: String },
    /// The same with id and secret as they are, for providers that do not decode what RFC 6749 2.3.1 has encoded.
    BasicPlain { secret: String },
    /// In the form (`client_secret_post`).
    Post { secret: String },
    /// By an assertion (`private_key_jwt`, RFC 7523 2.2).
    Assertion { jwt: String },
    /// A public client.
    None,
}

impl ClientAuth {
    /// Adds to a form what proves who sends it. Returns the value of the Authorization header, where it goes there.
    pub fn prove(&self, client_id: &str, form: &mut Vec<(&'static str, String)>) -> Option<String> {
        match self {
            ClientAuth::Basic { secret } => {
                // Both are form-encoded first (RFC 6749 2.3.1).
                let encode = |s: &str| byte_serialize(s.as_bytes()).collect::<String>();
                return Some(basic(&encode(client_id), &encode(secret)));
            }
            ClientAuth::BasicPlain { secret } => return Some(basic(client_id, secret)),
            ClientAuth::Post { secret } => form.push(("client_secret", secret.clone())),
            ClientAuth::Assertion { jwt } => {
                form.push(("client_assertion_type", ASSERTION_TYPE.to_owned()));
                form.push(("client_assertion", jwt.clone()));
            }
            ClientAuth::None => {}
        }
        form.push(("client_id", client_id.to_owned()));
        None
    }
}

impl std::fmt::Debug for ClientAuth {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            ClientAuth::Basic { secret: _ } => "Basic(…)",
            ClientAuth::BasicPlain { secret: _ } => "BasicPlain(…)",
            ClientAuth::Post { secret: _ } => "Post(…)",
            ClientAuth::Assertion { jwt: _ } => "Assertion(…)",
            ClientAuth::None => "None",
        })
    }
}

fn basic(id: &str, secret: &str) -> String {
    format!("Basic {}", STANDARD.encode(format!("{id}:{secret}")))
}

/// The form that exchanges a code (OpenID Connect Core 3.1.3.1, RFC 7636 4.5), without what proves the client.
pub fn code_form(code: &str, redirect_uri: &str, pkce: &Pkce) -> Vec<(&'static str, String)> {
    vec![
        ("grant_type", "authorization_code".to_owned()),
        ("code", code.to_owned()),
        ("redirect_uri", redirect_uri.to_owned()),
        ("code_verifier", pkce.verifier().to_owned()),
    ]
}

/// Tokens as received; nothing in them is believed before validation.
#[derive(Clone, PartialEq, Eq, Deserialize)]
pub struct Tokens {
    pub id_token: String,
    pub access_token: String,
    token_type: String,
}

impl std::fmt::Debug for Tokens {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Tokens { id_token: _, access_token: _, token_type } = self;
        write!(f, "Tokens({token_type:?})")
    }
}

/// What the token endpoint said instead of tokens.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TokenError {
    /// The provider's own refusal.
    #[error("{error}: {description}")]
    Refused { error: String, description: String },
    /// An answer that follows no standard.
    #[error("{0}")]
    NotTokens(String),
}

#[derive(Deserialize)]
struct RawError {
    error: String,
    #[serde(default)]
    error_description: String,
}

/// Reads the answer of the token endpoint.
pub fn parse_tokens(status: u16, body: &[u8]) -> Result<Tokens, TokenError> {
    if status != 200 {
        return Err(match serde_json::from_slice::<RawError>(body) {
            Ok(e) => TokenError::Refused { error: e.error, description: e.error_description },
            Err(_) => TokenError::NotTokens(format!("status {status} without an error in JSON")),
        });
    }
    // The parser's own message could quote a token, so it is not passed on.
    let tokens: Tokens = serde_json::from_slice(body)
        .map_err(|_| TokenError::NotTokens("status 200 without id_token, access_token and token_type in JSON".into()))?;
    if !tokens.token_type.eq_ignore_ascii_case("bearer") {
        return Err(TokenError::NotTokens("a token_type other than Bearer".into()));
    }
    Ok(tokens)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn answers_of_the_token_endpoint_are_told_apart() {
        let ok = parse_tokens(200, br#"{"id_token":"i","access_token":"a","token_type":"bearer","expires_in":1}"#).unwrap();
        assert_eq!((ok.id_token.as_str(), format!("{ok:?}").as_str()), ("i", "Tokens(\"bearer\")"));
        let refused = parse_tokens(400, br#"{"error":"invalid_grant","error_description":"too old"}"#);
        assert_eq!(refused, Err(TokenError::Refused { error: "invalid_grant".into(), description: "too old".into() }));
        for (status, body) in [
            (200, &b"{}"[..]),
            (200, b"<html>"),
            (502, b"<html>"),
            (200, br#"{"id_token":"i","access_token":"a","token_type":"mac"}"#),
        ] {
            assert!(matches!(parse_tokens(status, body), Err(TokenError::NotTokens(_))));
        }
    }

    #[test]
    fn each_method_proves_the_client_in_its_own_place() {
        let shown = |auth: ClientAuth| {
            let mut form = vec![];
            let basic = auth.prove("a b", &mut form);
            let basic = basic.map(|text| STANDARD.decode(text.strip_prefix("Basic ").unwrap()).unwrap());
            let form: Vec<String> = form.iter().map(|(n, v)| format!("{n}={v}")).collect();
            (basic.map(|b| String::from_utf8(b).unwrap()).unwrap_or_default(), form.join("&"))
        };
        let secret = || "p:ä".to_owned();
        // Encoded first, so that neither can move the colon; a provider that does not decode them gets them as they are.
        assert_eq!(shown(ClientAuth::Basic { secret: secret() }), ("a+b:p%3A%C3%A4".into(), String::new()));
        assert_eq!(shown(ClientAuth::BasicPlain { secret: secret() }), ("a b:p:ä".into(), String::new()));
        assert_eq!(shown(ClientAuth::Post { secret: secret() }), (String::new(), "client_secret=p:ä&client_id=a b".into()));
        let jwt = format!("client_assertion_type={ASSERTION_TYPE}&client_assertion=h.p.s&client_id=a b");
        assert_eq!(shown(ClientAuth::Assertion { jwt: "h.p.s".into() }), (String::new(), jwt));
        assert_eq!(shown(ClientAuth::None), (String::new(), "client_id=a b".into()));
    }
}
