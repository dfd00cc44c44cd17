//! Claims by reference (OpenID Connect Core 5.6.2): what the provider says is to be had elsewhere, as far as the site reads it.
//! What cannot be had is a reason like any other: rules that ask about it grant nothing.

use passeur_core::evidence::{Referred, ReferredState};
use passeur_core::identity::top_claim;
use passeur_core::step;
use passeur_engine::attempt::Attempt;
use passeur_engine::providers::oidc::OidcLink;
use passeur_protocols::oidc::{
    ClaimSource, DOCUMENT_MAX, ExpectedClaims, Metadata, Reference, ValidIdToken, is_of_provider, validate_referred,
};
use serde_json::{Map, Value};

use passeur_engine::Engine;

/// Reads the sources of claims that the site reads; others are not asked.
pub async fn read(
    engine: &Engine,
    attempt: &mut Attempt,
    link: &OidcLink,
    metadata: &Metadata,
    id_token: &ValidIdToken,
    references: Vec<Reference>,
) -> Vec<Referred> {
    let read: Vec<_> = link.provider.claims().map(top_claim).collect();
    let mut out = vec![];
    for mut reference in references {
        reference.claims.retain(|c| read.iter().any(|r| r == c));
        if reference.claims.is_empty() {
            continue;
        }
        let began = std::time::Instant::now();
        let found = fetch(engine, link, metadata, id_token, &reference).await;
        let millis = began.elapsed().as_millis().min(u128::from(u32::MAX)) as i64;
        let (at, names) = (reference.place(), reference.claims);
        attempt.step(|| match &found {
            Ok(_) => {
                step!(ReferredRead { claims: names.clone(), at: at.as_str(), millis })
            }
            Err(how) => step!(ReferredFailed { claims: names.clone(), at: at.as_str(), how: how.as_str() }),
        });
        let state = match found {
            Ok(claims) => ReferredState::Answered { claims },
            Err(how) => ReferredState::Failed { how },
        };
        out.push(Referred { names, at, state });
    }
    out
}

async fn fetch(
    engine: &Engine,
    link: &OidcLink,
    metadata: &Metadata,
    id_token: &ValidIdToken,
    reference: &Reference,
) -> Result<Map<String, Value>, String> {
    let jwt = match &reference.source {
        ClaimSource::Jwt(jwt) => jwt.clone(),
        ClaimSource::Unreadable => return Err("the source is neither a JWT nor an endpoint".to_owned()),
        ClaimSource::Endpoint { address, .. } if !is_of_provider(address, metadata) => {
            return Err("the endpoint is not one of the provider's own addresses, so it is not asked".to_owned());
        }
        ClaimSource::Endpoint { address, access_token } => {
            let bearer = access_token.as_ref().map(|t| format!("Bearer {t}"));
            let client = link.http().map_err(|e| e.to_string())?;
            let answer = client.get(address.as_str(), bearer.as_deref(), DOCUMENT_MAX).await.map_err(|e| e.to_string())?;
            if answer.status != 200 {
                return Err(format!("status {}", answer.status));
            }
            String::from_utf8(answer.body).map_err(|_| "the answer is no JWT".to_owned())?
        }
    };
    let expected = ExpectedClaims {
        issuer: &metadata.issuer,
        client_id: &link.client.id,
        subject: id_token.subject(),
        now: engine.now(),
        skew: link.provider.skew,
    };
    let mut keys = link.keys(metadata).await.map_err(|e| e.to_string())?;
    let mut checked = validate_referred(&jwt, &keys.set, &expected, &reference.claims);
    if link.once_more(metadata, &mut keys, &checked).await {
        checked = validate_referred(&jwt, &keys.set, &expected, &reference.claims);
    }
    checked.map_err(|e| format!("{}: {}, wanted {}", e.check, e.seen, e.wanted))
}
