//! A SAML provider's link: its metadata, read again every hour, or what the site file says of it.
//!
//! Metadata that could not be read again goes on counting for a day and never beyond its own end: a provider's web server that
//! is down must not lock everybody out, and a certificate that was taken away must not count for long.

use std::sync::{Arc, Mutex};

use chrono::Duration;
use passeur_core::Moment;
use passeur_core::site::{Provider, SamlBinding, SamlSource, SamlTrust};
use passeur_links::http::{Answer, Client, HttpError};
use passeur_live::clock::Clock;
use passeur_protocols::saml::metadata::{self, BadMetadata, Endpoint, POST, REDIRECT};

use super::own::OwnSaml;
use super::{FAILED_FOR_S, GOOD_FOR, HTTP_LIMIT, REFETCH_EVERY_S};

/// How long metadata counts that cannot be read again, in hours.
const KEPT_FOR: i64 = 24;
/// The largest metadata read, in bytes.
const METADATA_MAX: usize = passeur_protocols::saml::xml::SIZE_MAX;

/// Why a provider's metadata could not be had.
#[derive(Clone, Debug, thiserror::Error)]
pub enum MetadataError {
    #[error("{0}")]
    Http(#[from] HttpError),
    #[error("status {0}")]
    Status(u16),
    #[error("it is no text in UTF-8")]
    NotText,
    #[error("{0}")]
    Bad(#[from] BadMetadata),
}

/// What is known of a provider, and since when.
#[derive(Debug)]
pub struct Known {
    pub party: metadata::Provider,
    pub read_at: Moment,
}

/// The same, with why it could not be read again where it could not.
#[derive(Clone, Debug)]
pub struct InUse {
    pub known: Arc<Known>,
    pub kept: Option<String>,
}

#[derive(Clone, Default)]
struct Cache {
    known: Option<Arc<Known>>,
    /// When it was last read again for a signature that fits nothing known.
    refetched: Option<Moment>,
    failed: Option<(MetadataError, Moment)>,
}

/// A SAML provider of the live edition.
pub struct SamlLink {
    pub provider: Provider,
    pub trust: SamlTrust,
    /// What we are to it.
    pub own: Arc<OwnSaml>,
    clock: Clock,
    cache: Mutex<Cache>,
    /// Held while metadata is read, so that it is read once.
    reading: tokio::sync::Mutex<()>,
}

impl SamlLink {
    /// A link; what `before` knows goes on counting where it was read from the same place.
    pub fn new(
        provider: Provider,
        trust: SamlTrust,
        own: Arc<OwnSaml>,
        clock: Clock,
        before: Option<&SamlLink>,
    ) -> Arc<SamlLink> {
        let same = before.filter(|b| b.trust.source == trust.source && b.provider.issuer == provider.issuer);
        let cache = same.map(|b| b.kept()).unwrap_or_default();
        Arc::new(SamlLink { provider, trust, own, clock, cache: Mutex::new(cache), reading: tokio::sync::Mutex::default() })
    }

    fn kept(&self) -> Cache {
        self.cache.lock().unwrap_or_else(|e| e.into_inner()).clone()
    }

    /// What is known of the provider, without asking it.
    pub fn known(&self) -> Option<Arc<Known>> {
        self.kept().known
    }

    fn keep(&self, change: impl FnOnce(&mut Cache)) {
        change(&mut self.cache.lock().unwrap_or_else(|e| e.into_inner()));
    }

    /// The binding that requests go by where both are offered.
    fn preferred(&self) -> &'static str {
        match self.trust.binding {
            Some(SamlBinding::Post) => POST,
            Some(SamlBinding::Redirect) | None => REDIRECT,
        }
    }

    fn by_hand(&self) -> Option<metadata::Provider> {
        let SamlSource::ByHand(hand) = &self.trust.source else { return None };
        let binding = self.preferred();
        let at = |location: &String| Endpoint { binding: binding.to_owned(), location: location.clone(), answers: None };
        Some(metadata::Provider {
            entity_id: self.provider.issuer.clone(),
            valid_until: None,
            certificates: hand.certificates.clone(),
            sign_on: vec![at(&hand.sign_on)],
            sign_out: hand.sign_out.iter().map(at).collect(),
            formats: vec![],
            wants_signed: false,
        })
    }

    /// Where metadata is read from.
    pub fn address(&self) -> Option<&str> {
        match &self.trust.source {
            SamlSource::Metadata { address, .. } => Some(address),
            SamlSource::ByHand(_) => None,
        }
    }

    /// What is known of the provider now.
    pub async fn party(&self) -> Result<InUse, MetadataError> {
        let now = self.clock.now();
        let fresh = |c: &Cache| c.known.clone().filter(|k| counts(k, now) && now < k.read_at + Duration::minutes(GOOD_FOR));
        if let Some(known) = fresh(&self.kept()) {
            return Ok(InUse { known, kept: None });
        }
        let _alone = self.reading.lock().await;
        let cache = self.kept();
        if let Some(known) = fresh(&cache) {
            return Ok(InUse { known, kept: None });
        }
        let just_failed = cache.failed.filter(|(_, at)| now < *at + Duration::seconds(FAILED_FOR_S)).map(|(e, _)| e);
        let read = match just_failed {
            Some(e) => Err(e),
            None => self.read(now).await,
        };
        match (read, cache.known) {
            (Ok(known), _) => Ok(InUse { known, kept: None }),
            (Err(e), Some(known)) if counts(&known, now) => Ok(InUse { known, kept: Some(e.to_string()) }),
            (Err(e), _) => Err(e),
        }
    }

    /// Reads the metadata again because a signature fits nothing known; none where that was done just now, or brought nothing new.
    pub async fn again(&self, before: &Known) -> Option<Arc<Known>> {
        let now = self.clock.now();
        self.address()?;
        let _alone = self.reading.lock().await;
        let cache = self.kept();
        let newer = cache.known.filter(|k| k.read_at > before.read_at);
        let known = match newer {
            Some(k) => k,
            None if cache.refetched.is_some_and(|at| now < at + Duration::seconds(REFETCH_EVERY_S)) => return None,
            None => {
                self.keep(|c| c.refetched = Some(now));
                self.read(now).await.ok()?
            }
        };
        (known.party.certificates != before.party.certificates).then_some(known)
    }

    /// Metadata read anew now, whatever is kept. What could not be read leaves what was there.
    pub async fn refresh(&self) -> Result<Arc<Known>, MetadataError> {
        let _alone = self.reading.lock().await;
        self.read(self.clock.now()).await
    }

    async fn read(&self, now: Moment) -> Result<Arc<Known>, MetadataError> {
        let party = match self.by_hand() {
            Some(party) => Ok(party),
            None => self.fetch_party(now).await,
        };
        match party {
            Ok(party) => {
                let known = Arc::new(Known { party, read_at: now });
                self.keep(|c| (c.known, c.failed) = (Some(known.clone()), None));
                Ok(known)
            }
            Err(e) => {
                self.keep(|c| c.failed = Some((e.clone(), self.clock.now())));
                Err(e)
            }
        }
    }

    async fn fetch_party(&self, now: Moment) -> Result<metadata::Provider, MetadataError> {
        let SamlSource::Metadata { address, signers } = &self.trust.source else { return Err(MetadataError::Status(0)) };
        let answer = self.get(address).await?;
        if answer.status != 200 {
            return Err(MetadataError::Status(answer.status));
        }
        self.parse(answer.body, signers, now).await
    }

    /// Reads metadata that was fetched, as the site file trusts it: away from what others wait for, since a signature over half a
    /// megabyte takes its time.
    pub async fn parse(&self, body: Vec<u8>, signers: &[Vec<u8>], now: Moment) -> Result<metadata::Provider, MetadataError> {
        let (issuer, signers) = (self.provider.issuer.clone(), signers.to_vec());
        let read = move || {
            let text = String::from_utf8(body).map_err(|_| MetadataError::NotText)?;
            let signers = (!signers.is_empty()).then_some(signers.as_slice());
            Ok(metadata::read(&text, Some(&issuer), signers, now)?)
        };
        tokio::task::spawn_blocking(read).await.map_err(|_| MetadataError::NotText)?
    }

    /// Asks for a document, whatever the status of the answer.
    pub async fn get(&self, url: &str) -> Result<Answer, HttpError> {
        Client::new(self.provider.ca_file.as_deref(), HTTP_LIMIT)?.get(url, None, METADATA_MAX).await
    }

    /// Where people are sent, of several addresses: by the binding preferred where it is offered.
    pub fn choose<'a>(&self, of: &'a [Endpoint]) -> Option<&'a Endpoint> {
        of.iter().find(|e| e.binding == self.preferred()).or_else(|| of.first())
    }
}

fn counts(known: &Known, now: Moment) -> bool {
    let not_over = known.party.valid_until.is_none_or(|until| now < until);
    not_over && now < known.read_at + Duration::hours(KEPT_FOR)
}
