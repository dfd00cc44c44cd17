//! Identity providers: how they fare, one read from what it says of itself, and what we say of ourselves.

use axum::extract::State;
use http::StatusCode;
use passeur_api::{Problem, Provider, ProviderKind, ProviderPart, ReadProvider, Refreshed, SamlParty};
use passeur_core::role::Role;
use passeur_core::site::ENTITY_PATH;
use passeur_engine::providers::ProviderLink;
use serde::Deserialize;

use super::auth::Engineer;
use super::errors::{ApiError, no_edition, problem};
use super::extract::{Json, Path, Query};
use super::secrets;
use crate::app::App;
use crate::trials;

/// The providers of the live edition, with how the flows of the last 24 hours ended.
#[utoipa::path(get, operation_id = "providers", path = "/providers", responses((status = 200, body = Vec<Provider>)))]
pub async fn list(State(app): State<App>, who: Engineer) -> Result<Json<Vec<Provider>>, ApiError> {
    who.may(Role::View)?;
    let Some(edition) = app.live.get() else {
        return Ok(Json(vec![]));
    };
    let mut out = vec![];
    for p in &edition.site.providers {
        let f = app.flows(p).await?;
        out.push(Provider {
            name: p.name.clone(),
            title: p.title.clone(),
            issuer: p.issuer.clone(),
            kind: if p.oidc().is_some() { ProviderKind::Oidc } else { ProviderKind::Saml },
            known_as: p.oidc().map_or_else(|| edition.site.saml.entity_id.clone(), |c| c.id.clone()),
            secret_stored: app.provider(&p.name).is_some_and(|l| l.has_secrets()),
            sent: f.as_ref().map_or(0, |f| f.sent),
            answered: f.as_ref().map_or(0, |f| f.answered),
            never_came_back: f.as_ref().map_or(0, |f| f.never_came_back),
        });
    }
    Ok(Json(out))
}

/// Reads a provider's discovery document or SAML metadata and makes its part of the site file. Nothing is saved.
#[utoipa::path(post, path = "/providers/read", operation_id = "read_provider", request_body = ReadProvider,
    responses((status = 200, body = ProviderPart), (status = 400, body = Problem)))]
pub async fn read(State(app): State<App>, who: Engineer, Json(ask): Json<ReadProvider>) -> Result<Json<ProviderPart>, ApiError> {
    // It sends a request to an address that the caller names.
    who.may(Role::Configure)?;
    let edition = app.live.get();
    let party = edition.as_ref().map(|e| &e.site.saml);
    let read = trials::read::provider(&app, party, &ask).await;
    read.map(Json).map_err(|l| problem(StatusCode::BAD_REQUEST, "provider", "Not read", &l.0))
}

/// Of which provider.
#[derive(Deserialize, utoipa::IntoParams)]
pub struct OfProvider {
    /// As this provider needs it; of all unless given.
    provider: Option<String>,
}

/// What we are to SAML providers: entity id, certificates and metadata.
#[utoipa::path(get, path = "/saml", operation_id = "saml_party", params(OfProvider), responses((status = 200, body = SamlParty), (status = 404, body = Problem)))]
pub async fn saml(State(app): State<App>, who: Engineer, Query(of): Query<OfProvider>) -> Result<Json<SamlParty>, ApiError> {
    who.may(Role::View)?;
    let edition = app.live.get().ok_or_else(no_edition)?;
    let own = app.own_saml();
    let none = || {
        problem(
            StatusCode::NOT_FOUND,
            "no-provider",
            "No such provider",
            "No provider of that name speaks SAML; see passeur providers.",
        )
    };
    let metadata = own.metadata(&edition.site, app.now(), of.provider.as_deref()).ok_or_else(none)?;
    Ok(Json(SamlParty {
        entity_id: own.entity_id.clone(),
        certificates: own.certificates().iter().map(|der| secrets::certificate(der)).collect(),
        trouble: own.trouble.clone(),
        address: match of.provider.as_deref() {
            Some(provider) => edition.site.saml_metadata_uri(provider),
            None => edition.site.address.at(ENTITY_PATH),
        },
        metadata,
    }))
}

/// Fetches a provider's addresses and keys, or its metadata, anew now, on the node that answers: after its team changed a key, nobody
/// waits for what is kept to grow old.
#[utoipa::path(post, path = "/providers/{name}/refresh", operation_id = "refresh_provider", params(("name" = String, Path)),
    responses((status = 200, body = Refreshed), (status = 403, body = Problem), (status = 404, body = Problem), (status = 502, body = Problem)))]
pub async fn refresh(State(app): State<App>, who: Engineer, Path(name): Path<String>) -> Result<Json<Refreshed>, ApiError> {
    who.may(Role::Operate)?;
    let link = app.provider(&name).ok_or_else(|| {
        let words = format!("The live edition has no provider \"{name}\"; see passeur providers.");
        problem(StatusCode::NOT_FOUND, "no-provider", "No such provider", &words)
    })?;
    let failed = |e: String| {
        let words = format!("{e}. What was known before goes on counting.");
        problem(StatusCode::BAD_GATEWAY, "provider", "Not fetched", &words)
    };
    let keys = match link {
        ProviderLink::Oidc(link) => link.refresh().await.map_err(|e| failed(e.to_string()))?,
        ProviderLink::Saml(link) => {
            let known = link.refresh().await.map_err(|e| failed(e.to_string()))?;
            known.party.certificates.iter().map(|der| secrets::certificate(der).fingerprint).collect()
        }
    };
    app.store.record_act(who.act(&app, "refresh provider", serde_json::json!({"provider": name}))).await?;
    Ok(Json(Refreshed { provider: name, keys }))
}
