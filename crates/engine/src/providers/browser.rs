//! Where providers send people's browsers, and what those ask before they trust a provider's page: for zones that open little before sign-in.

use std::collections::BTreeSet;
use std::net::IpAddr;
use std::time::Duration;

use passeur_core::before::{Need, Why};
use passeur_core::x509::{Revocation, revocation};
use passeur_live::resolve::resolve;
use url::Url;

use super::ProviderLink;
use crate::engine::Engine;

/// How long all of it may take for one provider.
const TIME: Duration = Duration::from_secs(20);
/// The most addresses of one provider that are looked at.
const NEEDS_MAX: usize = 64;
/// How long a name may take to resolve.
const RESOLVE_TIME: Duration = Duration::from_secs(3);
/// The most addresses of a name that are judged.
const ADDRESSES_MAX: usize = 32;
/// The most hosts of one provider whose certificates are looked at.
const HOSTS_MAX: usize = 4;
/// The most octets that are read of a page for the sake of its certificate.
const PAGE_MAX: usize = 1 << 20;

/// What browsers need for the providers among these ways in, and of which of them that is not known, each with why.
pub async fn needs_of(engine: &Engine, ways: impl IntoIterator<Item = &String>) -> (Vec<Need>, Vec<(String, String)>) {
    let providers = ways.into_iter().filter_map(|name| Some((name, engine.provider(name)?)));
    let asked = providers.map(async |(name, link)| match tokio::time::timeout(TIME, read(name, &link)).await {
        Ok(found) => (name, found),
        Err(_) => (name, Err(format!("no end after {} s", TIME.as_secs()))),
    });
    let (mut needs, mut unknown) = (vec![], vec![]);
    for (name, found) in futures_util::future::join_all(asked).await {
        match found {
            Ok(some) => needs.extend(some),
            Err(why) => unknown.push((name.clone(), why)),
        }
    }
    (needs, unknown)
}

async fn read(provider: &str, link: &ProviderLink) -> Result<Vec<Need>, String> {
    let mut addresses: Vec<(Url, Why)> = vec![];
    if let Some(oidc) = link.oidc() {
        let known = oidc.metadata().await.map_err(|e| e.to_string())?;
        addresses.push((known.authorization_endpoint.clone(), Why::SignIn));
        addresses.extend(known.end_session_endpoint.clone().map(|u| (u, Why::SignOut)));
    } else if let Some(saml) = link.saml() {
        let used = saml.party().await.map_err(|e| e.to_string())?;
        let party = &used.known.party;
        let of = |e: &passeur_protocols::saml::metadata::Endpoint| Url::parse(&e.location).ok();
        addresses.extend(party.sign_on.iter().filter_map(of).map(|u| (u, Why::SignIn)));
        addresses.extend(party.sign_out.iter().filter_map(of).map(|u| (u, Why::SignOut)));
    }
    let mut needs: BTreeSet<Need> = addresses.iter().filter_map(|(u, why)| Need::of(provider, u, *why)).collect();
    let origins: BTreeSet<String> = addresses
        .iter()
        .filter(|(u, _)| u.scheme() == "https")
        .map(|(u, _)| format!("{}/", u.origin().ascii_serialization()))
        .collect();
    for origin in origins.iter().take(HOSTS_MAX) {
        let answer = match (link.oidc(), link.saml()) {
            (Some(oidc), _) => match oidc.http() {
                Ok(client) => client.get(origin, None, PAGE_MAX).await,
                Err(e) => Err(e),
            },
            (None, Some(saml)) => saml.get(origin).await,
            (None, None) => continue,
        };
        // A host that does not answer here is told of by the survey and by trials; what it would say of revocation is not known then.
        let Some(der) = answer.ok().and_then(|a| a.certificate) else { continue };
        for (kind, address) in revocation(&der) {
            let why = match kind {
                Revocation::Crl => Why::Crl,
                Revocation::Ocsp => Why::Ocsp,
            };
            needs.extend(Url::parse(&address).ok().and_then(|u| Need::of(provider, &u, why)));
        }
    }
    let resolving = needs.into_iter().take(NEEDS_MAX).map(async |need| {
        let addresses = if need.is_name() { resolved(&need.host).await } else { need.addresses.clone() };
        Need { addresses, ..need }
    });
    Ok(futures_util::future::join_all(resolving).await)
}

/// The addresses of a name, as this node resolves it; none where it does not resolve in time.
pub async fn resolved(host: &str) -> Vec<IpAddr> {
    let found = tokio::time::timeout(RESOLVE_TIME, resolve(host, 0)).await;
    let mut all: Vec<IpAddr> = found.ok().and_then(Result::ok).into_iter().flatten().map(|a| a.ip().to_canonical()).collect();
    all.sort_unstable();
    all.dedup();
    all.truncate(ADDRESSES_MAX);
    all
}
