//! A trial sign-in: an engineer signs in through a provider that no gate need use yet, of the live edition or of another document,
//! and sees all that came back. Nobody is let in anywhere by it: no session begins, and what came back is kept sealed for an hour,
//! for engineers who hold its identifier.

use std::sync::Arc;

use axum::response::{IntoResponse, Response};
use chrono::Duration;
use http::StatusCode;
use passeur_core::Moment;
use passeur_core::crossing::Outcome;
use passeur_core::document::compile;
use passeur_core::evidence::Evidence;
use passeur_core::id::{CrossingId, Token};
use passeur_core::seal::Purpose;
use passeur_core::site::{Access, Provider, Site};
use passeur_core::step;
use passeur_core::step::Step;
use passeur_engine::attempt::Attempt;
use passeur_engine::editions::salted;
use passeur_engine::look_up;
use passeur_engine::providers::ProviderLink;
use passeur_engine::random::random;
use passeur_engine::workers::Overloaded;
use passeur_live::edition::Edition;
use passeur_store::{StoreError, TrialRow};
use serde::{Deserialize, Serialize};

use passeur_engine::Engine;

use crate::journey::{Desk, Destination};
use crate::pages;

/// How long a trial is open, and what came back is kept.
pub const OPEN_FOR: Duration = Duration::hours(1);
/// The longest text that is kept of what came back, in bytes.
const RAW_MAX: usize = 200_000;

/// What came back.
#[derive(Serialize, Deserialize)]
pub struct Brought {
    pub outcome: Outcome,
    pub at: Moment,
    pub crossing: CrossingId,
    pub steps: Vec<Step>,
    /// As received, decoded, by name; nothing in it can be used again.
    pub raw: Vec<(String, String)>,
    /// What is known of the person, with what directories add; none where it was not believed.
    pub evidence: Option<Evidence>,
}

/// The trial that a token stands for.
pub async fn find(engine: &Engine, token: &str) -> Result<Option<(Token, TrialRow)>, StoreError> {
    let Some(token) = Token::parse(token) else { return Ok(None) };
    Ok(engine.store.trial(&token.digest(), engine.now()).await?.map(|row| (token, row)))
}

/// What a trial's document compiles to, on the thread that is there for documents.
async fn compiled(engine: &Engine, text: &str) -> Result<Option<Site>, StoreError> {
    let text = text.to_owned();
    let site = engine.documents.run_for("trials", move || compile(&text).0).await;
    site.map_err(|Overloaded| StoreError::Unavailable("documents of trials wait too long to be read".to_owned()))
}

/// The site that a trial is made with: the live edition's, or that of its document.
pub async fn site_of(engine: &Engine, row: &TrialRow) -> Result<Option<Arc<Site>>, StoreError> {
    match &row.document {
        None => Ok(engine.live.get().map(|e| Arc::new(e.site.clone()))),
        Some(text) => {
            let secrets = engine.secrets().await?;
            Ok(compiled(engine, text).await?.map(|site| Arc::new(salted(site, &secrets))))
        }
    }
}

/// Whether a trial's answer is kept apart from those of the live edition: where the provider's name is another there.
pub fn is_apart(engine: &Engine, to: &Destination, issuer: &str, provider: &str) -> bool {
    matches!(to, Destination::Trial { .. }) && differs_in(engine.live.get().as_deref(), issuer, provider)
}

/// Whether a provider's name stands for another issuer in the live edition.
pub fn differs_in(live: Option<&Edition>, issuer: &str, provider: &str) -> bool {
    live.and_then(|e| e.site.provider(provider)).is_some_and(|theirs| theirs.issuer != issuer)
}

/// The link to the provider that a flow goes through: of the live edition, but for a trial with another document.
pub async fn link_of(engine: &Engine, to: &Destination, provider: &str) -> Result<Option<ProviderLink>, StoreError> {
    let Destination::Trial { token, .. } = to else { return Ok(engine.provider(provider)) };
    let Some((_, row)) = find(engine, token).await? else { return Ok(None) };
    let Some(text) = &row.document else { return Ok(engine.provider(provider)) };
    let Some(site) = compiled(engine, text).await? else { return Ok(None) };
    let Some(wanted) = site.provider(provider) else { return Ok(None) };
    let secrets = engine.secrets().await?;
    // A stored secret goes to nobody but whom the live edition gives it to, or where whoever stored it has it sent: otherwise whoever
    // may try a document could have any of them sent anywhere.
    let live = engine.live.get();
    let stored: Vec<String> = engine
        .store
        .secret_list()
        .await?
        .into_iter()
        .filter(|s| s.versions.iter().any(|v| v.version == s.version && v.changed_by == row.begun_by))
        .map(|s| s.name)
        .collect();
    let theirs = |name: &str| {
        let secrets = live.as_ref().map(|e| e.site.secrets()).unwrap_or_default();
        let uses = secrets.iter().filter(|(n, _)| n == name).count();
        let to = |p: &&Provider| p.secret() == Some(name) && p.issuer == wanted.issuer;
        let mine = live.as_ref().map_or(0, |e| e.site.providers.iter().filter(to).count());
        uses == mine && (uses > 0 || stored.iter().any(|s| s == name))
    };
    let secret = |name: &str| if theirs(name) { secrets.get(name).cloned().unwrap_or_default() } else { vec![] };
    let own = Arc::new(engine.own_saml_of(&site).await?);
    Ok(Some(ProviderLink::new(wanted, secret, &own, &engine.clock, None)))
}

/// The step of a provider that is asked with a secret which is not there, or not for this trial.
pub async fn without_secret(engine: &Engine, to: &Destination, provider: &Provider) -> Result<Step, StoreError> {
    let name = provider.secret().unwrap_or_default();
    let is_stored = matches!(to, Destination::Trial { .. }) && engine.secrets().await?.contains_key(name);
    let (provider, issuer) = (provider.name.as_str(), provider.issuer.as_str());
    Ok(if is_stored {
        step!(TrialSecretWithheld { provider, secret: name, issuer })
    } else {
        step!(SecretMissing { provider, secret: name })
    })
}

/// Keeps what came back and shows that it did. Written before anything is shown, as with every answer of a provider.
pub async fn finish(desk: Desk<'_>, mut attempt: Attempt, token: &str, result: Result<Evidence, Outcome>) -> Response {
    let (engine, site, lang) = (desk.engine, desk.site(), desk.lang());
    let outcome = result.as_ref().err().copied().unwrap_or(Outcome::Tried);
    let kept = async {
        let Some((token, row)) = find(engine, token).await? else { return Ok(false) };
        let evidence = match result {
            Ok(mut evidence) => {
                if let Some(site) = site_of(engine, &row).await? {
                    for access in site.accesses() {
                        look_up::fill(engine, &site, &as_if(access, &row.provider), &mut evidence).await;
                    }
                }
                Some(evidence)
            }
            Err(_) => None,
        };
        attempt.record(outcome).await?;
        let raw = attempt.take_raw().into_iter().map(|(name, text)| (name, cut(text))).collect();
        let brought =
            Brought { outcome, at: engine.now(), crossing: attempt.id, steps: attempt.story.steps.clone(), raw, evidence };
        let plain = serde_json::to_vec(&brought).map_err(|e| StoreError::Query(e.to_string()))?;
        let digest = token.digest();
        engine.store.end_trial(&digest, engine.now(), engine.ring.seal(Purpose::Trial, &digest, random(), &plain)).await
    };
    match kept.await {
        Ok(true) => pages::tried(site, lang, outcome == Outcome::Tried, token).into_response(),
        Ok(false) => pages::trial_over(site, lang, StatusCode::GONE).into_response(),
        Err(e) => pages::store_failed(site, lang, &e).into_response(),
    }
}

/// A gate's access as if its provider were the one that is tried.
pub fn as_if(access: &Access, provider: &str) -> Access {
    Access { ways: vec![provider.to_owned()], ..access.clone() }
}

fn cut(text: String) -> String {
    match text.char_indices().map(|(i, _)| i).find(|i| *i >= RAW_MAX) {
        Some(i) => format!("{}…", &text[..i]),
        None => text,
    }
}

/// What came back, opened; none while it is waited for.
pub fn open(engine: &Engine, row: &TrialRow) -> Option<Brought> {
    let plain = engine.ring.open(Purpose::Trial, &row.digest, row.result.as_deref()?).ok()?;
    serde_json::from_slice(&plain).ok()
}
