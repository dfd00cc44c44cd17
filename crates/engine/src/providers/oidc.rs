//! An OpenID Connect provider's link: its metadata and keys, fetched when needed and kept for a bounded time.

use std::sync::Arc;

use chrono::Duration;
use passeur_core::Moment;
use passeur_core::evidence::{WayIn, authority};
use passeur_core::id::hex;
use passeur_core::site::{ClientAuthentication, OidcClient, Provider};
use passeur_core::step;
use passeur_core::step::Step;
use passeur_core::x509;
use passeur_links::http::{Answer, Client, HttpError};
use passeur_live::clock::Clock;
use passeur_protocols::oidc::{
    Assertion, BadKeys, BadMetadata, ClientAuth, ClientKey, DOCUMENT_MAX, IdTokenError, KeySet, Metadata, Pkce, TokenError,
    Tokens, code_form, discovery_url, parse_tokens,
};
use tokio::sync::Mutex;

use super::{FAILED_FOR_S, GOOD_FOR, HTTP_LIMIT, REFETCH_EVERY_S};
use crate::random::random;

/// Why a provider could not be used.
#[derive(Clone, Debug, thiserror::Error)]
pub enum ProviderError {
    #[error("{0}")]
    Http(#[from] HttpError),
    #[error("status {0}")]
    Status(u16),
    #[error("{0}")]
    Metadata(#[from] BadMetadata),
    #[error("{0}")]
    Keys(#[from] BadKeys),
}

/// Why a code could not be exchanged.
#[derive(Clone, Debug)]
pub enum ExchangeError {
    Silent(String),
    /// Nothing was asked: what proves us does not fit.
    Unproven(String),
    Refused {
        error: String,
        description: String,
    },
}

#[derive(Default)]
struct Cache {
    metadata: Kept<Metadata>,
    keys: Kept<KeySet>,
    /// When keys were last fetched because a signature fitted none.
    refetched: Option<Moment>,
}

/// A document of the provider: as it was fetched last, and why it could not be.
struct Kept<T> {
    found: Option<(Arc<T>, Moment)>,
    /// The last failure, and when: whoever waited behind it gets it too, instead of waiting for the next time limit.
    failed: Option<(ProviderError, Moment)>,
}

impl<T> Default for Kept<T> {
    fn default() -> Kept<T> {
        Kept { found: None, failed: None }
    }
}

impl<T> Kept<T> {
    /// What counts at a moment: the document, or that it was asked for in vain just now.
    fn now(&self, now: Moment) -> Option<Result<Arc<T>, ProviderError>> {
        if let Some((found, at)) = &self.found
            && now < *at + Duration::minutes(GOOD_FOR)
        {
            return Some(Ok(found.clone()));
        }
        let failed = self.failed.as_ref().filter(|(_, at)| now < *at + Duration::seconds(FAILED_FOR_S));
        failed.map(|(e, _)| Err(e.clone()))
    }

    fn keep(&mut self, fetched: &Result<Arc<T>, ProviderError>, at: Moment) {
        match fetched {
            Ok(found) => (self.found, self.failed) = (Some((found.clone(), at)), None),
            Err(e) => self.failed = Some((e.clone(), at)),
        }
    }
}

/// Keys to check something with.
pub struct Keys {
    pub set: Arc<KeySet>,
    /// How many there are, where they were fetched once more.
    pub refetched: Option<usize>,
}

/// An OpenID Connect provider of the live edition.
pub struct OidcLink {
    pub provider: Provider,
    /// What we are to it.
    pub client: OidcClient,
    /// The version in use, then the one that stands beside it.
    proofs: Vec<Proof>,
    /// Why nobody can be sent there: what should prove us does not.
    trouble: Option<String>,
    clock: Clock,
    cache: std::sync::Mutex<Cache>,
    /// Held while a document is fetched, so that it is fetched once. Whoever needs none that is missing never waits for it.
    fetching: Mutex<()>,
}

/// What proves us to a provider.
#[derive(Clone, Debug)]
enum Proof {
    Secret(String),
    Key(Box<ClientKey>),
}

impl Proof {
    /// A stored secret as what it is to be.
    ///
    /// # Errors
    /// Why it cannot be, in words that hold nothing of it. A private key is never taken for a secret: it would be sent away.
    fn of(text: String, how: ClientAuthentication) -> Result<Proof, String> {
        match how {
            ClientAuthentication::PrivateKeyJwt => Ok(Proof::Key(Box::new(ClientKey::read(&x509::private_key(&text)?)?))),
            _ if x509::holds_private_key(&text) => {
                Err("it is a private key, which is sent to nobody: write client-authentication = \"private_key_jwt\"".to_owned())
            }
            _ => Ok(Proof::Secret(text)),
        }
    }
}

impl OidcLink {
    /// A link with the versions of its secret that count: the one in use, then the one that stands beside it.
    pub fn new(provider: Provider, client: OidcClient, secrets: Vec<String>, clock: Clock) -> Arc<OidcLink> {
        let (mut proofs, mut trouble) = (vec![], None);
        for (i, text) in secrets.into_iter().enumerate() {
            match Proof::of(text, client.authentication) {
                Ok(proof) => proofs.push(proof),
                // One beside it that does not fit is of no use, and stops nobody.
                Err(how) if i == 0 => trouble = Some(how),
                Err(_) => {}
            }
        }
        let (cache, fetching) = (std::sync::Mutex::default(), Mutex::default());
        Arc::new(OidcLink { provider, client, proofs, trouble, clock, cache, fetching })
    }

    /// Who vouches for the provider's people.
    pub fn authority(&self) -> String {
        authority(WayIn::Oidc, &self.provider.name, &self.provider.issuer)
    }

    /// Whether what the edition names as this provider's secret is stored.
    pub fn has_secret(&self) -> bool {
        self.client.secret.is_none() || !self.proofs.is_empty() || self.trouble.is_some()
    }

    /// Why what is stored as this provider's secret cannot be used, in words that hold nothing of it.
    pub fn trouble(&self) -> Option<&str> {
        self.trouble.as_deref()
    }

    /// The step that tells of it.
    pub fn unusable(&self, how: &str) -> Step {
        let secret = self.client.secret.as_deref().unwrap_or_default();
        step!(SecretUnusable { provider: self.provider.name.as_str(), secret, how })
    }

    /// The public halves of our keys there, as JSON Web Keys.
    pub fn own_keys(&self) -> Vec<serde_json::Value> {
        let key = |p: &Proof| match p {
            Proof::Key(key) => Some(key.public()),
            Proof::Secret(_) => None,
        };
        self.proofs.iter().filter_map(key).collect()
    }

    /// The client that speaks to the provider.
    pub fn http(&self) -> Result<Client, HttpError> {
        Client::new(self.provider.ca_file.as_deref(), HTTP_LIMIT)
    }

    fn cache(&self) -> std::sync::MutexGuard<'_, Cache> {
        self.cache.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// The provider's metadata.
    pub async fn metadata(&self) -> Result<Arc<Metadata>, ProviderError> {
        if let Some(known) = self.cache().metadata.now(self.clock.now()) {
            return known;
        }
        let _alone = self.fetching.lock().await;
        if let Some(known) = self.cache().metadata.now(self.clock.now()) {
            return known;
        }
        let fetched = self.fetch(&discovery_url(&self.provider.issuer)).await;
        let fetched = fetched.and_then(|body| Ok(Arc::new(Metadata::parse(&body, &self.provider.issuer)?)));
        self.cache().metadata.keep(&fetched, self.clock.now());
        fetched
    }

    /// The provider's keys, to check something with that it signed: see [`OidcLink::once_more`].
    pub async fn keys(&self, metadata: &Metadata) -> Result<Keys, ProviderError> {
        let of = |set| Keys { set, refetched: None };
        if let Some(known) = self.cache().keys.now(self.clock.now()) {
            return known.map(of);
        }
        let _alone = self.fetching.lock().await;
        if let Some(known) = self.cache().keys.now(self.clock.now()) {
            return known.map(of);
        }
        let fetched = self.fetch_keys(metadata).await;
        self.cache().keys.keep(&fetched, self.clock.now());
        fetched.map(of)
    }

    async fn fetch_keys(&self, metadata: &Metadata) -> Result<Arc<KeySet>, ProviderError> {
        Ok(Arc::new(KeySet::parse(&self.fetch(metadata.jwks_uri.as_str()).await?)?))
    }

    /// Keys fetched once more, because a signature fits none of these; none where that was done just now, or they cannot be had.
    async fn keys_again(&self, metadata: &Metadata, before: &Arc<KeySet>) -> Option<Arc<KeySet>> {
        let now = self.clock.now();
        let _alone = self.fetching.lock().await;
        {
            let mut cache = self.cache();
            if let Some((newer, _)) = cache.keys.found.as_ref().filter(|(k, _)| !Arc::ptr_eq(k, before)) {
                return Some(newer.clone());
            }
            if cache.refetched.is_some_and(|at| now < at + Duration::seconds(REFETCH_EVERY_S)) {
                return None;
            }
            cache.refetched = Some(now);
        }
        let fetched = self.fetch_keys(metadata).await;
        let at = self.clock.now();
        if let Ok(keys) = &fetched {
            self.cache().keys.found = Some((keys.clone(), at));
        }
        fetched.ok()
    }

    /// Addresses and keys fetched anew now, whatever is kept: the identifiers of the keys. What could not be fetched leaves what was there.
    pub async fn refresh(&self) -> Result<Vec<String>, ProviderError> {
        let _alone = self.fetching.lock().await;
        let body = self.fetch(&discovery_url(&self.provider.issuer)).await?;
        let metadata = Arc::new(Metadata::parse(&body, &self.provider.issuer)?);
        let keys = self.fetch_keys(&metadata).await?;
        let (ids, now) = (keys.ids(), self.clock.now());
        let mut cache = self.cache();
        cache.metadata.keep(&Ok(metadata), now);
        cache.keys.keep(&Ok(keys), now);
        Ok(ids)
    }

    /// Whether a check is to be made once more, with keys that were fetched anew: where none fitted, since a provider may change them
    /// under a new name or under the same.
    pub async fn once_more<T>(&self, metadata: &Metadata, keys: &mut Keys, checked: &Result<T, IdTokenError>) -> bool {
        if keys.refetched.is_some() || !checked.as_ref().is_err_and(IdTokenError::may_be_keys) {
            return false;
        }
        let Some(newer) = self.keys_again(metadata, &keys.set).await else { return false };
        *keys = Keys { refetched: Some(newer.ids().len()), set: newer };
        true
    }

    /// Asks the provider for a document, whatever the status of its answer.
    pub async fn get(&self, url: &str) -> Result<Answer, HttpError> {
        self.http()?.get(url, None, DOCUMENT_MAX).await
    }

    async fn fetch(&self, url: &str) -> Result<Vec<u8>, ProviderError> {
        let answer = self.get(url).await?;
        match answer.status {
            200 => Ok(answer.body),
            other => Err(ProviderError::Status(other)),
        }
    }

    /// How the client proves itself there, by its registered name.
    pub fn auth_method(&self, metadata: &Metadata) -> &'static str {
        // A trial may have a secret that no site file names.
        if self.client.secret.is_none() && self.proofs.is_empty() {
            return "none";
        }
        let offers = |method: &str| metadata.auth_methods.iter().any(|m| m == method);
        let published = if offers("client_secret_basic") { "client_secret_basic" } else { "client_secret_post" };
        self.client.authentication.registered().unwrap_or(published)
    }

    fn auth(&self, metadata: &Metadata, proof: Option<&Proof>) -> Result<ClientAuth, String> {
        if let Some(why) = &self.trouble {
            return Err(why.clone());
        }
        Ok(match proof {
            None if self.client.secret.is_some() => return Err("it is not stored".to_owned()),
            None => ClientAuth::None,
            Some(Proof::Key(key)) => {
                let jti = hex(&random::<16>());
                let jwt = key.assertion(&Assertion {
                    client_id: &self.client.id,
                    audience: metadata.token_endpoint.as_str(),
                    jti: &jti,
                    now: self.clock.now(),
                    takes: &metadata.auth_algorithms,
                })?;
                ClientAuth::Assertion { jwt }
            }
            Some(Proof::Secret(secret)) => match self.auth_method(metadata) {
                "client_secret_post" => ClientAuth::Post { secret: secret.clone() },
                _ if self.client.authentication == ClientAuthentication::BasicPlain => {
                    ClientAuth::BasicPlain { secret: secret.clone() }
                }
                _ => ClientAuth::Basic { secret: secret.clone() },
            },
        })
    }

    /// Asks whether an access token is good (RFC 7662 2.1).
    ///
    /// # Errors
    /// In words, where the provider has no place to ask or does not answer.
    pub async fn introspect(&self, metadata: &Metadata, token: &str) -> Result<Answer, String> {
        let Some(endpoint) = &metadata.introspection_endpoint else {
            return Err("the provider's metadata names no introspection endpoint".into());
        };
        let mut form = vec![("token", token.to_owned()), ("token_type_hint", "access_token".to_owned())];
        let authorization = self.auth(metadata, self.proofs.first())?.prove(&self.client.id, &mut form);
        let client = self.http().map_err(|e| e.to_string())?;
        let answer = client.post_form(endpoint.as_str(), &form, authorization.as_deref(), DOCUMENT_MAX).await;
        answer.map_err(|e| e.to_string())
    }

    /// Exchanges a code. Returns the tokens and how long it took. Where the provider does not know the client by the secret
    /// in use (RFC 6749 5.2, `invalid_client`), the one that stands beside it is tried: the other side changed first.
    pub async fn exchange(
        &self,
        metadata: &Metadata,
        code: &str,
        redirect_uri: &str,
        pkce: &Pkce,
    ) -> Result<(Tokens, u32), ExchangeError> {
        let mut done = self.exchange_with(self.proofs.first(), metadata, code, redirect_uri, pkce).await;
        for proof in self.proofs.iter().skip(1) {
            if !matches!(&done, Err(ExchangeError::Refused { error, .. }) if error == "invalid_client") {
                break;
            }
            done = self.exchange_with(Some(proof), metadata, code, redirect_uri, pkce).await;
            if done.is_ok() {
                tracing::warn!(
                    provider = self.provider.name,
                    "the secret in use is refused, and the one beside it is taken: use it"
                );
            }
        }
        done
    }

    async fn exchange_with(
        &self,
        proof: Option<&Proof>,
        metadata: &Metadata,
        code: &str,
        redirect_uri: &str,
        pkce: &Pkce,
    ) -> Result<(Tokens, u32), ExchangeError> {
        let mut form = code_form(code, redirect_uri, pkce);
        let auth = self.auth(metadata, proof).map_err(ExchangeError::Unproven)?;
        let authorization = auth.prove(&self.client.id, &mut form);
        let silent = |e: HttpError| ExchangeError::Silent(e.to_string());
        let answer = self
            .http()
            .map_err(silent)?
            .post_form(metadata.token_endpoint.as_str(), &form, authorization.as_deref(), DOCUMENT_MAX)
            .await
            .map_err(silent)?;
        match parse_tokens(answer.status, &answer.body) {
            Ok(tokens) => Ok((tokens, answer.millis)),
            Err(TokenError::Refused { error, description }) => Err(ExchangeError::Refused { error, description }),
            Err(TokenError::NotTokens(how)) => Err(ExchangeError::Silent(how)),
        }
    }
}
