//! How a client proves itself at the token and introspection endpoints.

use std::collections::{HashMap, HashSet};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use http::{HeaderMap, header};
use jsonwebtoken::jwk::JwkSet;
use jsonwebtoken::{DecodingKey, Validation};
use serde::Deserialize;

use super::{Client, Provider};

/// What it takes of a client, and says that it takes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Takes {
    /// `client_secret_basic` and `client_secret_post`.
    #[default]
    Secrets,
    Post,
    /// HTTP Basic whose id and secret it does not decode.
    BasicAsItIs,
    /// `private_key_jwt` alone.
    Assertions,
}

impl Takes {
    pub(super) fn methods(self) -> &'static [&'static str] {
        match self {
            Takes::Secrets => &["client_secret_basic", "client_secret_post"],
            Takes::Post => &["client_secret_post"],
            Takes::BasicAsItIs => &["client_secret_basic"],
            Takes::Assertions => &["private_key_jwt"],
        }
    }
}

/// What is known of clients beside the register.
#[derive(Default)]
pub(super) struct Proofs {
    pub(super) takes: Takes,
    /// A secret in the place of the register's.
    pub(super) secret: Option<String>,
    pub(super) keys: Option<JwkSet>,
    seen: HashSet<String>,
}

#[derive(Deserialize)]
struct Assertion {
    iss: String,
    sub: String,
    jti: String,
    iat: i64,
    exp: i64,
}

impl Provider {
    /// What it takes of clients from now on, and the secret they must have in the place of the register's.
    pub fn take(&self, takes: Takes, secret: Option<&str>) {
        let mut memory = self.memory();
        memory.proofs.takes = takes;
        memory.proofs.secret = secret.map(str::to_owned);
    }

    /// The keys that clients sign with from now on: what stands at their `jwks_uri`.
    ///
    /// # Panics
    /// Where it is no set of keys.
    pub fn know_keys(&self, set: serde_json::Value) {
        let set = serde_json::from_value(set);
        assert!(set.is_ok(), "a set of keys");
        self.memory().proofs.keys = set.ok();
    }

    /// The client that sent a form, where it proves itself.
    pub(super) fn proven(&self, headers: &HeaderMap, form: &HashMap<String, String>) -> Option<&Client> {
        let takes = self.memory().proofs.takes;
        let basic = headers.get(header::AUTHORIZATION).and_then(|v| v.to_str().ok()?.strip_prefix("Basic "));
        let (id, secret) = match (takes, basic) {
            (Takes::Assertions, None) => return self.asserted(form),
            (Takes::Secrets | Takes::BasicAsItIs, Some(basic)) => {
                let text = String::from_utf8(STANDARD.decode(basic).ok()?).ok()?;
                let (id, secret) = text.split_once(':')?;
                match takes {
                    Takes::BasicAsItIs => (id.to_owned(), secret.to_owned()),
                    _ => (decoded(id)?, decoded(secret)?),
                }
            }
            (Takes::Secrets | Takes::Post, None) => (form.get("client_id")?.clone(), form.get("client_secret")?.clone()),
            _ => return None,
        };
        let client = self.0.register.client(&id)?;
        let wanted = self.memory().proofs.secret.clone().unwrap_or_else(|| client.secret.clone());
        (secret == wanted).then_some(client)
    }

    /// By an assertion that one of its keys signed for this provider (RFC 7523 3), and that was not shown before.
    fn asserted(&self, form: &HashMap<String, String>) -> Option<&Client> {
        if form.get("client_assertion_type")? != "urn:ietf:params:oauth:client-assertion-type:jwt-bearer" {
            return None;
        }
        let text = form.get("client_assertion")?;
        let header = jsonwebtoken::decode_header(text).ok()?;
        let mut memory = self.memory();
        let key = DecodingKey::from_jwk(memory.proofs.keys.as_ref()?.find(header.kid.as_deref()?)?).ok()?;
        let mut checks = Validation::new(header.alg);
        checks.set_audience(&[format!("{}/token", self.0.issuer)]);
        let said = jsonwebtoken::decode::<Assertion>(text, &key, &checks).ok()?.claims;
        let fits = said.iss == said.sub && form.get("client_id").is_none_or(|id| *id == said.sub) && said.exp - said.iat <= 300;
        (fits && memory.proofs.seen.insert(said.jti)).then(|| self.0.register.client(&said.sub)).flatten()
    }
}

fn decoded(text: &str) -> Option<String> {
    url::form_urlencoded::parse(format!("x={text}").as_bytes()).next().map(|(_, v)| v.into_owned())
}
