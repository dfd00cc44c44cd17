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

/// What an authorization request says (OpenID Connect Core 3.1.2.1), but for what binds it to one browser.
#[derive(Debug)]
pub struct AuthorizationRequest<'a> {
    pub client_id: &'a str,
    pub redirect_uri: &'a str,
    pub scopes: &'a [String],
    pub acr_values: &'a [String],
    /// How old the provider's proof may be, in seconds (OpenID Connect Core 3.1.2.1).
    pub max_age: Option<i64>,
    pub ui_locale: &'a str,
    /// Whether the person must prove anew who they are, although the provider may know them (`prompt=login`).
    pub anew: bool,
    /// Who the person says they are, so that they need not type it again (3.1.2.1).
    pub login_hint: Option<&'a str>,
    /// Whether the answer is wanted by a form that posts itself (OAuth 2.0 Form Post Response Mode).
    pub form_post: bool,
}

/// What binds a request to one browser and one answer.
pub struct Binding<'a> {
    pub state: &'a str,
    pub nonce: &'a str,
    pub pkce: &'a Pkce,
}

impl AuthorizationRequest<'_> {
    fn parameters(&self) -> Vec<(&'static str, String)> {
        let mut all = vec![
            ("response_type", "code".to_owned()),
            ("client_id", self.client_id.to_owned()),
            ("redirect_uri", self.redirect_uri.to_owned()),
            ("scope", self.scopes.join(" ")),
            ("code_challenge_method", "S256".to_owned()),
            ("ui_locales", self.ui_locale.to_owned()),
        ];
        if !self.acr_values.is_empty() {
            all.push(("acr_values", self.acr_values.join(" ")));
        }
        if let Some(seconds) = self.max_age {
            all.push(("max_age", seconds.to_string()));
        }
        if let Some(hint) = self.login_hint {
            all.push(("login_hint", hint.to_owned()));
        }
        if self.form_post {
            all.push(("response_mode", "form_post".to_owned()));
        }
        if self.anew {
            all.push(("prompt", "login".to_owned()));
        }
        all
    }

    /// The address to send the browser to. A query that the endpoint has of its own is kept (RFC 6749 3.1).
    pub fn url(&self, metadata: &Metadata, binding: &Binding<'_>) -> Url {
        let mut url = metadata.authorization_endpoint.clone();
        url.query_pairs_mut()
            .extend_pairs(self.parameters())
            .append_pair("state", binding.state)
            .append_pair("nonce", binding.nonce)
            .append_pair("code_challenge", &binding.pkce.challenge());
        url
    }

    /// Every parameter as a crossing shows it: decoded, those that bind masked.
    pub fn shown(&self) -> Vec<String> {
        let masked = ["state", "nonce", "code_challenge"].map(|n| format!("{n}=…"));
        // What somebody typed where a name belongs may be a password.
        let told = |(n, v): (&str, String)| if n == "login_hint" { format!("{n}=…") } else { format!("{n}={v}") };
        self.parameters().into_iter().map(told).chain(masked).collect()
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

    fn metadata(authorization: &str) -> Metadata {
        let doc = serde_json::json!({
            "issuer": "https://p.example", "authorization_endpoint": authorization, "token_endpoint": "https://p.example/t",
            "jwks_uri": "https://p.example/k", "end_session_endpoint": "https://p.example/out?x=1",
        });
        Metadata::parse(doc.to_string().as_bytes(), "https://p.example").unwrap()
    }

    fn pairs(url: &Url) -> Vec<(String, String)> {
        url.query_pairs().into_owned().collect()
    }

    #[test]
    fn a_request_holds_every_parameter_once_and_values_cannot_break_out() {
        let pkce = Pkce::from_random([7; 32]);
        let scopes = ["openid".to_owned(), "profile".to_owned()];
        let request = AuthorizationRequest {
            client_id: "a&b=c#d",
            redirect_uri: "https://pass.example/.passeur/oidc/p/answer",
            scopes: &scopes,
            acr_values: &["2".to_owned(), "3".to_owned()],
            ui_locale: "fr",
            max_age: Some(300),
            anew: true,
            login_hint: Some("benoit&x=1@havrelune.example"),
            form_post: true,
        };
        let url = request.url(&metadata("https://p.example/a?tenant=7"), &Binding { state: "s+/=", nonce: "n", pkce: &pkce });
        let got = pairs(&url);
        let one = |name: &str| {
            let all: Vec<_> = got.iter().filter(|(n, _)| n == name).map(|(_, v)| v.as_str()).collect();
            assert_eq!(all.len(), 1, "{name} in {got:?}");
            all[0].to_owned()
        };
        for (name, want) in [
            ("tenant", "7"),
            ("response_type", "code"),
            ("client_id", "a&b=c#d"),
            ("redirect_uri", "https://pass.example/.passeur/oidc/p/answer"),
            ("scope", "openid profile"),
            ("state", "s+/="),
            ("nonce", "n"),
            ("code_challenge", pkce.challenge().as_str()),
            ("code_challenge_method", "S256"),
            ("ui_locales", "fr"),
            ("acr_values", "2 3"),
            ("max_age", "300"),
            ("prompt", "login"),
            ("response_mode", "form_post"),
            ("login_hint", "benoit&x=1@havrelune.example"),
        ] {
            assert_eq!(one(name), want);
        }
        assert_eq!((got.len(), url.fragment()), (15, None));
        let told = request.shown().join(" & ");
        assert!(told.contains("acr_values=2 3") && told.contains("nonce=…"), "{told}");
        assert!(told.contains("login_hint=… &"), "what was typed may be a password: {told}");
        let plain = AuthorizationRequest { acr_values: &[], anew: false, ..request };
        assert!(!plain.shown().iter().any(|p| p.starts_with("acr_values") || p.starts_with("prompt")));
    }

    #[test]
    fn signing_out_names_us_and_keeps_the_endpoints_own_query() {
        let m = metadata("https://p.example/a");
        let url = end_session_url(&m, Some("hint"), "c", "https://pass.example/.passeur/signed-out").unwrap();
        let got = pairs(&url);
        assert_eq!(got[0], ("x".into(), "1".into()));
        assert!(got.contains(&("id_token_hint".into(), "hint".into())) && got.contains(&("client_id".into(), "c".into())));
        let without = end_session_url(&m, None, "c", "https://pass.example/").unwrap();
        assert!(!without.as_str().contains("id_token_hint"));
        assert_eq!(end_session_url(&Metadata { end_session_endpoint: None, ..m }, None, "c", "x"), None);
    }
}
