//! Asking what lies outside: providers by the checks of a trial, directories and applications by looks of their own.

use std::time::Duration;

use futures_util::StreamExt;
use futures_util::future::join_all;
use passeur_api::ProviderTrial;
use passeur_core::before::{Need, ways_of};
use passeur_core::evidence::Evidence;
use passeur_core::site::Destination;
use passeur_core::survey::{
    CertificateFacts, DirectoryFacts, ProviderCheck, ProviderFacts, ServerFacts, SilentAuthority, UpstreamFacts, UpstreamTrouble,
};
use passeur_core::x509;
use passeur_engine::providers::browser::needs_of;
use passeur_gateway::control::FailureKind;
use passeur_gateway::edition::WebEdition;
use passeur_links::ldap::{DirectoryLook, ServerLook};
use passeur_live::edition::Edition;
use passeur_live::resolve::resolve;

use super::groups_named;
use crate::app::App;
use crate::trials;

type Seen = (Vec<ProviderFacts>, Vec<DirectoryFacts>, Vec<UpstreamFacts>);

/// Asks everything at once.
pub async fn outside(app: &App, edition: &WebEdition, evidence: &[Evidence]) -> Seen {
    let providers = join_all(edition.site.providers.iter().map(|p| provider(app, edition, &p.name)));
    let directories = join_all(edition.site.directories.iter().map(|d| directory(app, edition, &d.name, evidence)));
    let upstreams = join_all(edition.site.gates.iter().map(|g| upstreams(edition, &g.name)));
    let (providers, directories, upstreams) = tokio::join!(providers, directories, upstreams);
    (providers, directories.into_iter().flatten().collect(), upstreams.into_iter().flatten().collect())
}

/// The most names of reaches that are resolved.
const NAMES_MAX: usize = 2_000;
/// How many are resolved at once, and how long each may take.
const NAMES_AT_ONCE: usize = 16;
const NAME_TIME: Duration = Duration::from_secs(5);

/// Host names of reaches that do not resolve on this node, each with why.
pub async fn dead_names(edition: &Edition) -> Vec<(String, String)> {
    let of = edition.site.reaches.iter().flat_map(|r| &r.to).filter_map(|d| match d {
        Destination::Name(pattern) => pattern.host().map(str::to_owned),
        Destination::Network(_) => None,
    });
    let names: std::collections::BTreeSet<String> = of.collect();
    let resolved = futures_util::stream::iter(names.into_iter().take(NAMES_MAX)).map(async |name| {
        let why = match tokio::time::timeout(NAME_TIME, resolve(&name, 0)).await {
            Ok(Ok(some)) if !some.is_empty() => return None,
            Ok(Ok(_)) => "it has no address".to_owned(),
            Ok(Err(e)) => e.to_string(),
            Err(_) => format!("no answer within {} s", NAME_TIME.as_secs()),
        };
        Some((name, why))
    });
    resolved.buffer_unordered(NAMES_AT_ONCE).filter_map(async |found| found).collect().await
}

/// Addresses at which nobody says whether a device's certificate was revoked.
pub async fn device_authorities(app: &App, edition: &Edition) -> Vec<SilentAuthority> {
    let silent = passeur_engine::devices::silent(app, &edition.site).await;
    silent.into_iter().map(|(check, address, why)| SilentAuthority { check, address, why }).collect()
}

/// What browsers need for every provider that people in a zone may sign in by, and what could not be read.
pub async fn needs(app: &App, edition: &Edition) -> (Vec<Need>, Vec<String>) {
    let site = &edition.site;
    let zones = site.gates.iter().flat_map(|g| site.zones_of(g).map(move |z| (g, z)));
    let ways: std::collections::BTreeSet<&String> = zones.flat_map(|(g, z)| ways_of(g, z)).collect();
    let (needs, unknown) = needs_of(app, ways).await;
    (needs, unknown.into_iter().map(|(provider, why)| format!("where {provider} sends browsers: {why}")).collect())
}

fn until(der: Option<Vec<u8>>) -> Option<passeur_core::Moment> {
    x509::read(&der?).map(|c| c.not_after)
}

async fn provider(app: &App, edition: &Edition, name: &str) -> ProviderFacts {
    let mut out = ProviderFacts { name: name.to_owned(), ..ProviderFacts::default() };
    match trials::provider_seen(app, trials::Under::live(&edition.site), &ProviderTrial::named(name)).await {
        Ok(seen) => {
            out.certificate = until(seen.certificate);
            for c in seen.answer.checks.into_iter().filter(|c| c.verdict == passeur_api::CheckVerdict::Wrong) {
                let check = match c.value.as_str() {
                    "issuer" => ProviderCheck::Issuer,
                    "keys" => ProviderCheck::Keys,
                    "clock" => ProviderCheck::Clock,
                    "client" => ProviderCheck::Client,
                    "redirect address" | "consumer address" => ProviderCheck::Redirect,
                    "metadata" => ProviderCheck::Metadata,
                    // Told by facts of their own.
                    "certificate" | "our key" => continue,
                    _ => ProviderCheck::Reach,
                };
                out.wrong.push((check, c.words));
            }
            out.signing =
                seen.signing.iter().filter_map(|der| Some((x509::fingerprint(der), x509::read(der)?.not_after))).collect();
            out.changed = changed(app, name, &seen.signing).await;
        }
        Err(lacking) => out.wrong.push((ProviderCheck::Reach, lacking.0)),
    }
    out
}

/// What of a SAML provider's metadata is no longer as this node uses it.
async fn changed(app: &App, name: &str, signing: &[Vec<u8>]) -> Option<String> {
    let used = app.provider(name)?.saml()?.known()?;
    let now: Vec<String> =
        signing.iter().filter(|c| !used.party.certificates.contains(c)).map(|c| x509::fingerprint(c)).collect();
    let gone: Vec<String> =
        used.party.certificates.iter().filter(|c| !signing.contains(c)).map(|c| x509::fingerprint(c)).collect();
    let words = |what: &str, all: Vec<String>| (!all.is_empty()).then(|| format!("{what} {}", all.join(", ")));
    let all: Vec<String> = [words("certificates new:", now), words("certificates gone:", gone)].into_iter().flatten().collect();
    (!all.is_empty() && !signing.is_empty()).then(|| all.join("; "))
}

/// Our own SAML key.
pub fn own_saml(app: &App) -> Option<Result<(String, passeur_core::Moment), String>> {
    let own = app.own_saml();
    if let Some(why) = &own.trouble {
        return Some(Err(why.clone()));
    }
    let certificate = own.signer()?.certificate();
    Some(Ok((x509::fingerprint(certificate), x509::read(certificate)?.not_after)))
}

async fn directory(app: &App, edition: &Edition, name: &str, evidence: &[Evidence]) -> Option<DirectoryFacts> {
    let link = app.directory(name)?;
    let sample = evidence.iter().find_map(|e| e.look_up(name).filter(|l| l.state.entry().is_some())?.value.clone());
    let DirectoryLook { servers, account, bases, sample: found, missing_groups, chain } =
        link.look(sample.as_deref(), &groups_named(edition, name), app.now()).await;
    let server = |s: ServerLook| ServerFacts { address: s.address, answer: s.answer, certificate: until(s.certificate) };
    Some(DirectoryFacts {
        name: name.to_owned(),
        servers: servers.into_iter().map(server).collect(),
        account,
        bases,
        sample: sample.zip(found),
        missing_groups,
        chain,
    })
}

async fn upstreams(edition: &WebEdition, gate: &str) -> Vec<UpstreamFacts> {
    let Some(route) = edition.route(gate) else { return vec![] };
    let one = |(address, seen): (String, Result<Option<Vec<u8>>, _>)| match seen {
        Ok(certificate) => UpstreamFacts { gate: gate.to_owned(), address, answer: Ok(()), certificate: until(certificate) },
        Err(passeur_gateway::control::UpstreamFailure { kind, detail, .. }) => {
            let answer = Err(UpstreamTrouble { certificate: kind == FailureKind::Certificate, words: detail });
            UpstreamFacts { gate: gate.to_owned(), address, answer, certificate: None }
        }
    };
    route.probe().await.into_iter().map(one).collect()
}

/// Certificates of our own TLS listener.
pub fn certificates(app: &App) -> Option<Vec<CertificateFacts>> {
    let all = app.certificates.get()?.in_use();
    let read = |(names, der): (Vec<String>, Vec<u8>)| {
        let until = x509::read(&der)?.not_after;
        Some(CertificateFacts { of: names.join(", "), names, until })
    };
    Some(all.into_iter().filter_map(read).collect())
}
