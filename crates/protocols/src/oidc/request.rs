//! What leaves for the provider by way of the browser: the authorization request and the end-session request.

use aws_lc_rs::digest;
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use url::Url;

use super::Metadata;

/// A proof key (RFC 7636). The verifier never leaves sealed state until it goes to the token endpoint.
#[derive(Clone, PartialEq, Eq)]
pub struct Pkce(String);

impl Pkce {
    /// From 32 random bytes: a verifier of 43 characters (RFC 7636 4.1).
    pub fn from_random(bytes: [u8; 32]) -> Pkce {
        Pkce(URL_SAFE_NO_PAD.encode(bytes))
    }

    /// From the verifier kept in sealed state.
    pub fn from_verifier(text: String) -> Pkce {
        Pkce(text)
    }

    /// The verifier, for the token endpoint and for sealed state only.
    pub fn verifier(&self) -> &str {
        &self.0
    }

    /// The S256 challenge (RFC 7636 4.2).
    pub fn challenge(&self) -> String {
        URL_SAFE_NO_PAD.encode(digest::digest(&digest::SHA256, self.0.as_bytes()))
    }
}

impl std::fmt::Debug for Pkce {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Pkce(_) = self;
        f.write_str("Pkce(…)")
    }
}

/// What an authorization request says (OpenID Connect Core 3.1.2.1).
pub struct AuthorizationRequest<'a> {
    pub client_id: &'a str,
    pub redirect_uri: &'a str,
    pub scopes: &'a [String],
    pub state: &'a str,
    pub nonce: &'a str,
    pub pkce: &'a Pkce,
    pub acr_values: &'a [String],
    pub ui_locale: &'a str,
}

impl AuthorizationRequest<'_> {
    /// The address to send the browser to. A query that the endpoint has of its own is kept (RFC 6749 3.1).
    pub fn url(&self, metadata: &Metadata) -> Url {
        let mut url = metadata.authorization_endpoint.clone();
        {
            let mut q = url.query_pairs_mut();
            q.append_pair("response_type", "code")
                .append_pair("client_id", self.client_id)
                .append_pair("redirect_uri", self.redirect_uri)
                .append_pair("scope", &self.scopes.join(" "))
                .append_pair("state", self.state)
                .append_pair("nonce", self.nonce)
                .append_pair("code_challenge", &self.pkce.challenge())
                .append_pair("code_challenge_method", "S256")
                .append_pair("ui_locales", self.ui_locale);
            if !self.acr_values.is_empty() {
                q.append_pair("acr_values", &self.acr_values.join(" "));
            }
        }
        url
    }
}

/// The address that signs a person out at the provider (RP-Initiated Logout 2), if it has one.
pub fn end_session_url(metadata: &Metadata, id_token: Option<&str>, client_id: &str, back_to: &str) -> Option<Url> {
    let mut url = metadata.end_session_endpoint.clone()?;
    {
        let mut q = url.query_pairs_mut();
        if let Some(hint) = id_token {
            q.append_pair("id_token_hint", hint);
        }
        q.append_pair("client_id", client_id).append_pair("post_logout_redirect_uri", back_to);
    }
    Some(url)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_challenge_of_rfc_7636_appendix_b_comes_out() {
        let pkce = Pkce::from_verifier("dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk".into());
        assert_eq!(pkce.challenge(), "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM");
        assert_eq!(format!("{pkce:?}"), "Pkce(…)");
        assert_eq!(Pkce::from_random([0; 32]).verifier().len(), 43);
    }
}
