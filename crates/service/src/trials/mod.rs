//! Trials of a provider or directory on values that are not saved: check by check, so that the wrong value is named.

mod directory;
mod oidc;
pub mod read;
mod saml;

use chrono::{DateTime, Duration};
use passeur_api::{ProviderTrial, TrialAnswer, TrialCheck};
use passeur_core::site::{Provider, Site, Speaks};
use passeur_links::http::{Answer, HttpError};

use crate::app::App;
pub use directory::directory;

pub(crate) struct Checks(Vec<TrialCheck>);

impl Checks {
    pub(crate) fn add(&mut self, value: &str, verdict: &str, words: impl Into<String>, remedy: Option<&str>) {
        let (value, verdict) = (value.to_owned(), verdict.to_owned());
        self.0.push(TrialCheck { value, verdict, words: words.into(), remedy: remedy.map(str::to_owned) });
    }
    pub(crate) fn good(&mut self, value: &str, words: impl Into<String>) {
        self.add(value, "good", words, None);
    }
    pub(crate) fn wrong(&mut self, value: &str, words: impl Into<String>, remedy: &str) {
        self.add(value, "wrong", words, Some(remedy));
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
        TrialAnswer { good: self.0.iter().all(|c| c.verdict == "good"), checks: self.0 }
    }
}

/// What is missing in the request, in words.
pub struct Lacking(pub String);

/// Tries a provider.
pub async fn provider(app: &App, site: &Site, ask: &ProviderTrial) -> Result<TrialAnswer, Lacking> {
    Ok(provider_seen(app, site, ask).await?.answer)
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
pub async fn provider_seen(app: &App, site: &Site, ask: &ProviderTrial) -> Result<Seen, Lacking> {
    let by_saml = match (site.provider(&ask.name), ask.kind.as_deref()) {
        (Some(p), _) => p.saml().is_some(),
        (None, kind) => kind == Some("saml"),
    };
    if by_saml { saml::provider(app, site, ask).await } else { oidc::provider(app, site, ask).await }
}

pub(crate) fn clock(app: &App, headers: &http::HeaderMap, skew: Duration, c: &mut Checks) {
    let date = headers.get(http::header::DATE).and_then(|v| v.to_str().ok()).and_then(|d| DateTime::parse_from_rfc2822(d).ok());
    let Some(date) = date else {
        c.add("clock", "not known", "the provider's answer carries no date", None);
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
