//! Access tokens of providers: checked here where they are JWTs (RFC 9068), and asked of the provider otherwise (RFC 7662).

use std::net::IpAddr;

use passeur_core::Moment;
use passeur_core::evidence::{Evidence, Factors, WayIn};
use passeur_core::id::sha256;
use passeur_core::site::{ACCESS_TOKEN, Callers, Gate, Site};
use passeur_core::step;
use passeur_protocols::oidc::{ExpectedAccess, ValidAccessToken, issuer_of, validate_access_token, validate_introspection};

use super::{Found, Good, bad};
use crate::engine::Engine;
use crate::providers::oidc::OidcLink;

/// A provider that did not answer, as what was found out.
fn silent(link: &OidcLink, e: impl ToString) -> Found {
    Found::NotNow(link.provider.issuer.clone(), e.to_string())
}

/// What an access token stands for at a gate.
pub async fn check(
    engine: &Engine,
    site: &Site,
    gate: &Gate,
    callers: &Callers,
    token: &str,
    address: IpAddr,
) -> Result<Found, Found> {
    let named = issuer_of(token);
    let provider = match &named {
        Some(issuer) => callers.access_tokens.iter().find(|p| site.provider(p).is_some_and(|p| p.issuer == *issuer)),
        // Only where there is one whose it can be: a token is shown to nobody else.
        None => callers.access_tokens.first().filter(|_| callers.access_tokens.len() == 1),
    };
    let wanted = || callers.access_tokens.join(", ");
    let Some(link) = provider.and_then(|p| engine.provider(p)).and_then(|l| l.oidc()) else {
        return Err(bad("issuer", named.unwrap_or_else(|| "none".into()), format!("one of: {}", wanted())).into());
    };
    let wanted = Wanted {
        issuer: link.provider.issuer.clone(),
        audience: callers.audience.clone().unwrap_or_else(|| gate.address.origin()),
        scopes: callers.scopes.clone(),
        now: engine.now(),
        skew: link.provider.skew,
    };
    let (valid, how) = if named.is_some() {
        (checked(engine, &link, token, wanted, address).await?, "checked here (RFC 9068)")
    } else {
        (asked(&link, token, &wanted).await?, "asked of the provider (RFC 7662)")
    };
    let step = step!(AccessTokenRight {
        provider: link.provider.name.as_str(),
        subject: valid.subject(),
        client: valid.client(),
        how,
        expires_in: (valid.expires() - engine.now()).num_seconds()
    });
    let claims = valid.claims();
    let evidence = Evidence {
        through: Some(ACCESS_TOKEN.to_owned()),
        factors: Factors::of_claims(&claims),
        claims,
        ..Evidence::of(WayIn::AccessToken, link.provider.name.clone(), valid.subject(), link.provider.issuer.clone())
    };
    // What is signed, without the signature: some algorithms let anybody write another good one for the same token.
    let signed = if named.is_some() { token.rsplit_once('.').map_or(token, |(front, _)| front) } else { token };
    let thing = sha256(format!("access token\0{signed}").as_bytes());
    let ends = valid.expires() + link.provider.skew;
    Ok(Found::Good(Box::new(Good { evidence, expires: valid.expires(), thing, ends, paths: None, personal: None, step })))
}

/// What an access token is held against, as the thread that computes holds it.
#[derive(Clone)]
struct Wanted {
    issuer: String,
    audience: String,
    scopes: Vec<String>,
    now: Moment,
    skew: chrono::Duration,
}

impl Wanted {
    fn expected(&self) -> ExpectedAccess<'_> {
        let Wanted { issuer, audience, scopes, now, skew } = self;
        ExpectedAccess { issuer, audience, scopes, now: *now, skew: *skew }
    }
}

async fn checked(
    engine: &Engine,
    link: &OidcLink,
    token: &str,
    wanted: Wanted,
    address: IpAddr,
) -> Result<ValidAccessToken, Found> {
    let metadata = link.metadata().await.map_err(|e| silent(link, e))?;
    let mut keys = link.keys(&metadata).await.map_err(|e| silent(link, e))?;
    loop {
        let (token, wanted, set) = (token.to_owned(), wanted.clone(), keys.set.clone());
        let checked = engine.workers.run(address, move || validate_access_token(&token, &set, &wanted.expected())).await?;
        if !link.once_more(&metadata, &mut keys, &checked).await {
            return Ok(checked?);
        }
    }
}

async fn asked(link: &OidcLink, token: &str, wanted: &Wanted) -> Result<ValidAccessToken, Found> {
    let metadata = link.metadata().await.map_err(|e| silent(link, e))?;
    let answer = link.introspect(&metadata, token).await.map_err(|e| silent(link, e))?;
    if answer.status != 200 {
        // RFC 7662 2.2, 2.3: whatever a token is, the answer is 200; another one is about us.
        return Err(silent(link, format!("introspection was answered with status {}", answer.status)));
    }
    Ok(validate_introspection(answer.status, &answer.body, &wanted.expected())?)
}
