//! Links to identity providers, one module a protocol: what is fetched from them, kept for a bounded time. [`own`] is what we
//! are to those that speak SAML.

pub mod browser;
pub mod oidc;
pub mod own;
pub mod saml;

use std::sync::Arc;
use std::time::Duration as StdDuration;

use passeur_core::site::{Provider, Site, Speaks};
use passeur_live::clock::Clock;

use oidc::OidcLink;
use own::OwnSaml;
use saml::SamlLink;

/// A link to a provider of either protocol.
#[derive(Clone)]
pub enum ProviderLink {
    Oidc(Arc<OidcLink>),
    Saml(Arc<SamlLink>),
}

impl ProviderLink {
    /// A link with the secrets that it takes; what `before` knows goes on counting where it is the same provider.
    pub fn new(
        provider: &Provider,
        secret: impl Fn(&str) -> Vec<String>,
        own: &Arc<OwnSaml>,
        clock: &Clock,
        before: Option<&ProviderLink>,
    ) -> ProviderLink {
        match &provider.speaks {
            Speaks::Oidc(client) => {
                let secrets = client.secret.as_deref().map(secret).unwrap_or_default();
                ProviderLink::Oidc(OidcLink::new(provider.clone(), client.clone(), secrets, clock.clone()))
            }
            Speaks::Saml(trust) => {
                let before = before.and_then(ProviderLink::saml);
                ProviderLink::Saml(SamlLink::new(provider.clone(), trust.clone(), own.clone(), clock.clone(), before.as_deref()))
            }
        }
    }

    /// The link, where the provider speaks OpenID Connect.
    pub fn oidc(&self) -> Option<Arc<OidcLink>> {
        match self {
            ProviderLink::Oidc(link) => Some(link.clone()),
            ProviderLink::Saml(_) => None,
        }
    }

    /// The link, where the provider speaks SAML.
    pub fn saml(&self) -> Option<Arc<SamlLink>> {
        match self {
            ProviderLink::Saml(link) => Some(link.clone()),
            ProviderLink::Oidc(_) => None,
        }
    }

    /// Whether what the site file names as its secrets is stored and can be used.
    pub fn has_secrets(&self) -> bool {
        match self {
            ProviderLink::Oidc(link) => link.has_secret() && link.trouble().is_none(),
            ProviderLink::Saml(link) => link.own.trouble.is_none(),
        }
    }
}

/// Links to every provider of a site.
pub fn all<'a>(
    site: &'a Site,
    secret: &'a impl Fn(&str) -> Vec<String>,
    own: &'a Arc<OwnSaml>,
    clock: &'a Clock,
    before: &'a impl Fn(&str) -> Option<ProviderLink>,
) -> impl Iterator<Item = (String, ProviderLink)> + 'a {
    site.providers.iter().map(move |p| (p.name.clone(), ProviderLink::new(p, secret, own, clock, before(&p.name).as_ref())))
}

/// How long metadata and keys are used without being fetched again, in minutes.
const GOOD_FOR: i64 = 60;
/// Keys are fetched again for a signature that fits none at most this often: an attacker's messages must not make us hammer a
/// provider.
const REFETCH_EVERY_S: i64 = 10;
/// How long a failure is passed on without asking again.
const FAILED_FOR_S: i64 = 2;
/// How long a provider may take for one answer.
pub const HTTP_LIMIT: StdDuration = StdDuration::from_secs(8);
