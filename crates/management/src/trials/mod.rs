//! Trials of a provider or directory on values that are not saved: check by check, so that the wrong value is named.

mod directory;
mod oidc;
pub mod read;
mod saml;

use std::sync::Arc;

use chrono::{DateTime, Duration};
use passeur_api::{CheckVerdict, ProviderKind, ProviderTrial, TrialAnswer, TrialCheck};
use passeur_core::role::Role;
use passeur_core::site::{Provider, Site, Speaks};
use passeur_links::http::{Answer, HttpError};
use passeur_links::ldap::DirectoryLink;
use passeur_store::SecretMeta;

use crate::api::auth::Engineer;
use crate::app::App;
pub use directory::directory;

pub(crate) struct Checks(Vec<TrialCheck>);

impl Checks {
    pub(crate) fn add(&mut self, value: &str, verdict: CheckVerdict, words: impl Into<String>, remedy: Option<&str>) {
        let value = value.to_owned();
        self.0.push(TrialCheck { value, verdict, words: words.into(), remedy: remedy.map(str::to_owned) });
    }
    pub(crate) fn good(&mut self, value: &str, words: impl Into<String>) {
        self.add(value, CheckVerdict::Good, words, None);
    }
    pub(crate) fn wrong(&mut self, value: &str, words: impl Into<String>, remedy: &str) {
        self.add(value, CheckVerdict::Wrong, words, Some(remedy));
    }
    /// What an address answered; none where it did not, which is told.
    pub(crate) fn reached(&mut self, url: &str, answer: Result<Answer, HttpError>) -> Option<Answer> {
        match answer {
            Ok(answer) => return Some(answer),
            Err(HttpError::Tls(why)) => {
                self.good("address", format!("{url} accepts connections"));
                let remedy = "Name the certificate authority with ca-file, or have the provider's certificate put right.";
                self.wrong("TLS", why, remedy);
            }
            Err(e) => {
                let remedy = "Check host name and port from this machine; look for a firewall in between.";
                self.wrong("address", format!("{url}: {e}"), remedy);
            }
        }
        None
    }
    pub(crate) fn answer(self) -> TrialAnswer {
        // What cannot be known is told, and is nothing wrong.
        TrialAnswer { good: self.0.iter().all(|c| c.verdict != CheckVerdict::Wrong), checks: self.0 }
    }
}

/// What is missing in the request, in words.
pub struct Lacking(pub String);

/// What a trial is made under.
#[derive(Clone, Copy)]
pub struct Under<'a> {
    /// The edition or document whose parts are tried.
    pub site: &'a Site,
    /// The live edition: a stored secret may go where it sends it.
    pub live: Option<&'a Site>,
    /// Who tries; none for the service itself.
    pub who: Option<&'a Engineer>,
}

/// A stored secret, for a trial.
enum Stored {
    Value(String),
    Nowhere,
    /// It is not for this trial. Otherwise whoever may try a document could have any secret sent anywhere.
    Withheld,
}

impl<'a> Under<'a> {
    /// A trial of the live edition's parts, as they are.
    pub fn live(site: &'a Site) -> Under<'a> {
        Under { site, live: Some(site), who: None }
    }

    /// Whether this is a document beside the live edition.
    fn is_document(&self) -> bool {
        !self.live.is_some_and(|l| std::ptr::eq(l, self.site))
    }

    /// A stored secret in one version, or as it is in use. `same` says that the live edition sends this secret to this very place;
    /// elsewhere it goes only for whoever stored it, and only where the live edition has no use for it.
    async fn stored(&self, app: &App, name: &str, version: Option<i32>, same: bool) -> Stored {
        if !same {
            let all = app.store.secret_list().await.unwrap_or_default();
            let Some(secret) = all.iter().find(|s| s.name == name) else { return Stored::Nowhere };
            if !self.is_own(secret, version) {
                return Stored::Withheld;
            }
        }
        app.secret(name, version).await.ok().flatten().map_or(Stored::Nowhere, Stored::Value)
    }

    fn is_own(&self, secret: &SecretMeta, version: Option<i32>) -> bool {
        let used = self.live.is_some_and(|l| l.secrets().iter().any(|(n, _)| *n == secret.name));
        let (Some(who), false) = (self.who, used) else { return false };
        let wanted = version.unwrap_or(secret.version);
        secret.versions.iter().any(|v| v.version == wanted && who.stored(v))
    }

    /// A link to a directory of the site under trial, with what may be sent there. None where it names no such directory, or where its
    /// password is not for this trial.
    pub async fn directory(&self, app: &App, name: &str) -> Option<Arc<DirectoryLink>> {
        let wanted = self.site.directory(name)?;
        if self.live.and_then(|l| l.directory(name)) == Some(wanted) {
            return app.directory(name);
        }
        // It makes this host ask an address that somebody wrote into a document.
        if self.who.is_none_or(|w| w.role < Role::Configure) {
            return None;
        }
        let passwords = match &wanted.secret {
            None => vec![],
            Some(secret) => match self.stored(app, secret, None, directory::is_same(self.live, wanted)).await {
                Stored::Value(v) => vec![v],
                Stored::Nowhere | Stored::Withheld => return None,
            },
        };
        Some(DirectoryLink::new(wanted.clone(), passwords, app.clock.clone()))
    }
}

/// Tries a provider.
pub async fn provider(app: &App, under: Under<'_>, ask: &ProviderTrial) -> Result<TrialAnswer, Lacking> {
    Ok(provider_seen(app, under, ask).await?.answer)
}

/// A provider that the live edition does not have, with what a site file would give it unasked.
fn unheard_of(name: &str, issuer: &str, speaks: Speaks) -> Provider {
    Provider {
        name: name.to_owned(),
        title: name.to_owned(),
        issuer: issuer.to_owned(),
        speaks,
        acr_values: vec![],
        require_acr: vec![],
        require_amr: vec![],
        skew: Duration::seconds(30),
        attributes: vec![],
        groups: None,
        ca_file: None,
        answer_within: Duration::minutes(15),
        real_browser: false,
    }
}

/// Puts the request's values in place of a provider's own.
fn in_place(provider: &mut Provider, ask: &ProviderTrial) {
    if let Some(issuer) = &ask.issuer {
        provider.issuer = issuer.clone();
    }
    if ask.ca_file.is_some() {
        provider.ca_file = ask.ca_file.clone();
    }
}

/// What a trial of a provider found.
pub struct Seen {
    pub answer: TrialAnswer,
    /// The server's certificate in DER, where it was reached over TLS.
    pub certificate: Option<Vec<u8>>,
    /// Certificates (DER) that the provider signs with, where they come from metadata.
    pub signing: Vec<Vec<u8>>,
}

/// The same with what was seen beside it.
pub async fn provider_seen(app: &App, under: Under<'_>, ask: &ProviderTrial) -> Result<Seen, Lacking> {
    let by_saml = match (under.site.provider(&ask.name), ask.kind) {
        (Some(p), _) => p.saml().is_some(),
        (None, kind) => kind == Some(ProviderKind::Saml),
    };
    if by_saml { saml::provider(app, under.site, ask).await } else { oidc::provider(app, under, ask).await }
}

pub(crate) fn clock(app: &App, headers: &http::HeaderMap, skew: Duration, c: &mut Checks) {
    let date = headers.get(http::header::DATE).and_then(|v| v.to_str().ok()).and_then(|d| DateTime::parse_from_rfc2822(d).ok());
    let Some(date) = date else {
        c.add("clock", CheckVerdict::NotKnown, "the provider's answer carries no date", None);
        return;
    };
    let off = (app.now() - date.to_utc()).num_seconds();
    if Duration::seconds(off.abs()) > skew + Duration::seconds(2) {
        let words = format!("this host's clock differs from the provider's by {off} s");
        c.wrong("clock", words, "Set both clocks by NTP; a wrong one makes valid sign-ins look expired or not yet valid.");
    } else {
        c.good("clock", format!("differs by {} s, {} s are tolerated", off.abs(), skew.num_seconds()));
    }
}
