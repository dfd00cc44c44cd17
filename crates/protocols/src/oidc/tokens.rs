//! The token endpoint (OpenID Connect Core 3.1.3, RFC 6749 2.3.1, 4.1.3, 5.1, 5.2).

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde::Deserialize;
use url::form_urlencoded::byte_serialize;

use super::Pkce;

/// How the client proves itself to the token endpoint.
#[derive(Clone, PartialEq, Eq)]
pub enum ClientAuth {
    /// HTTP Basic (`client_secret_basic`).
    Basic { secret: String },
    /// In the form (`client_secret_post`).
    Post { secret: String },
    /// A public client.
    None,
}

impl ClientAuth {
    /// The method's registered name (OpenID Connect Core 9).
    pub fn method(&self) -> &'static str {
        match self {
            ClientAuth::Basic { .. } => "client_secret_basic",
            ClientAuth::Post { .. } => "client_secret_post",
            ClientAuth::None => "none",
        }
    }
}

impl std::fmt::Debug for ClientAuth {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            ClientAuth::Basic { secret: _ } => "Basic(…)",
            ClientAuth::Post { secret: _ } => "Post(…)",
            ClientAuth::None => "None",
        })
    }
}

/// The value of the Authorization header: id and secret are form-encoded first (RFC 6749 2.3.1).
pub fn basic_credentials(client_id: &str, secret: &str) -> String {
    let encode = |s: &str| byte_serialize(s.as_bytes()).collect::<String>();
    format!("Basic {}", STANDARD.encode(format!("{}:{}", encode(client_id), encode(secret))))
}

/// An exchange of a code.
#[derive(Debug)]
pub struct TokenRequest<'a> {
    pub code: &'a str,
    pub redirect_uri: &'a str,
    pub client_id: &'a str,
    pub pkce: &'a Pkce,
    pub auth: &'a ClientAuth,
}

impl TokenRequest<'_> {
    /// The form to post.
    pub fn form(&self) -> Vec<(&'static str, String)> {
        let mut form = vec![
            ("grant_type", "authorization_code".to_owned()),
            ("code", self.code.to_owned()),
            ("redirect_uri", self.redirect_uri.to_owned()),
            ("code_verifier", self.pkce.verifier().to_owned()),
        ];
        match self.auth {
            ClientAuth::Basic { .. } => {}
            ClientAuth::Post { secret } => {
                form.push(("client_id", self.client_id.to_owned()));
                form.push(("client_secret", secret.clone()));
            }
            ClientAuth::None => form.push(("client_id", self.client_id.to_owned())),
        }
        form
    }
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
    fn basic_credentials_are_form_encoded_first() {
        // "a b" and "p:ä" must not be able to move the colon.
        let text = basic_credentials("a b", "p:ä");
        let raw = STANDARD.decode(text.strip_prefix("Basic ").unwrap()).unwrap();
        assert_eq!(raw, b"a+b:p%3A%C3%A4");
    }
}
