//! Personal profiles of tunnels: which there are, and taking them away; the authority of a gate, and its VPN server's certificate.

use axum::extract::{Path, State};
use base64::Engine as _;
use http::StatusCode;
use passeur_api::{Certificate, Problem, RevokeProfiles, RevokedProfiles, ServerCertificate, ServerKey, TunnelProfile};
use passeur_core::role::Role;
use passeur_core::x509;
use passeur_engine::profiles::{Authority, PublicKey, Use};
use passeur_engine::rights;
use passeur_store::ProfileRow;
use serde::Deserialize;
use serde_json::json;
use utoipa::IntoParams;

use super::auth::Engineer;
use super::errors::{ApiError, bad, problem};
use super::extract::{Json, Query};
use super::secrets::certificate;
use crate::app::App;

/// The most that are listed, and revoked at a time.
const LISTED: i64 = 1_000;

/// Which profiles.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ProfileQuery {
    /// Part of a name, a subject or a machine's name, without regard to case.
    text: Option<String>,
    gate: Option<String>,
}

fn told(p: ProfileRow) -> TunnelProfile {
    TunnelProfile {
        id: p.id,
        gate: p.gate,
        name: p.name,
        provider: p.provider,
        subject: p.subject,
        device: p.device,
        created_at: p.created_at,
        expires_at: p.expires_at,
        used_at: p.used_at,
        revoked_at: p.revoked_at,
        revoked_by: p.revoked_by,
    }
}

/// Personal profiles, the latest first.
#[utoipa::path(get, operation_id = "profiles", path = "/profiles", params(ProfileQuery),
    responses((status = 200, body = Vec<TunnelProfile>), (status = 403, body = Problem)))]
pub async fn list(
    State(app): State<App>,
    who: Engineer,
    Query(q): Query<ProfileQuery>,
) -> Result<Json<Vec<TunnelProfile>>, ApiError> {
    who.may(Role::Operate)?;
    let all = app.store.profiles(None, q.gate.as_deref(), q.text.as_deref(), LISTED).await?;
    Ok(Json(all.into_iter().map(told).collect()))
}

/// Revokes personal profiles. Tunnels that came by them are ended.
#[utoipa::path(post, operation_id = "revoke_profiles", path = "/profiles/revoke", request_body = RevokeProfiles,
    responses((status = 200, body = RevokedProfiles), (status = 400, body = Problem), (status = 403, body = Problem)))]
pub async fn revoke(
    State(app): State<App>,
    who: Engineer,
    Json(ask): Json<RevokeProfiles>,
) -> Result<Json<RevokedProfiles>, ApiError> {
    who.may(Role::Operate)?;
    if ask.profiles.is_empty() || ask.profiles.len() > LISTED as usize {
        return Err(bad(&format!("profiles holds 1 to {LISTED} numbers.")));
    }
    let act = who.act(&app, "revoke profiles", json!({"profiles": ask.profiles}));
    let (gone, sessions) = app.store.revoke_profiles(&ask.profiles, None, (app.now(), &who.name), Some(act)).await?;
    for session in sessions {
        rights::changed(&app, session).await?;
    }
    Ok(Json(RevokedProfiles { revoked: gone.into_iter().map(told).collect() }))
}

/// The authority of a gate, or why there is none.
async fn authority_of(app: &App, name: &str) -> Result<Authority, ApiError> {
    let none = |words: &str| problem(StatusCode::NOT_FOUND, "no-authority", "No authority", words);
    let edition = app.live.get().ok_or_else(|| none("No edition is live."))?;
    let gate = edition.site.gate(name).ok_or_else(|| none("The live edition has no gate of that name."))?;
    Authority::of(app, gate).await?.map_err(|why| none(&format!("{why}.")))
}

fn shown(pem: &str) -> Result<Certificate, ApiError> {
    let der = x509::certificate(pem);
    let unreadable = || problem(StatusCode::INTERNAL_SERVER_ERROR, "certificate", "Not made", "The certificate cannot be read.");
    der.map(|der| certificate(&der)).ok_or_else(unreadable)
}

/// The certificate of a gate's own authority: what its VPN servers take as `ca`.
#[utoipa::path(get, operation_id = "gate_authority", path = "/gates/{gate}/authority", params(("gate" = String, Path)),
    responses((status = 200, body = Certificate), (status = 404, body = Problem)))]
pub async fn authority(State(app): State<App>, who: Engineer, Path(gate): Path<String>) -> Result<Json<Certificate>, ApiError> {
    who.may(Role::View)?;
    shown(&authority_of(&app, &gate).await?.certificate).map(Json)
}

/// Issues a certificate to a VPN server's key.
#[utoipa::path(post, operation_id = "server_certificate", path = "/gates/{gate}/server-certificate", request_body = ServerKey,
    params(("gate" = String, Path)),
    responses((status = 200, body = ServerCertificate), (status = 400, body = Problem), (status = 404, body = Problem)))]
pub async fn server(
    State(app): State<App>,
    who: Engineer,
    Path(gate): Path<String>,
    Json(ask): Json<ServerKey>,
) -> Result<Json<ServerCertificate>, ApiError> {
    who.may(Role::Configure)?;
    let plain = |h: &str| (1..=253).contains(&h.len()) && h.bytes().all(|b| b.is_ascii_alphanumeric() || b"-.".contains(&b));
    if !plain(&ask.host) {
        return Err(bad("host is the name by which clients reach the server."));
    }
    let body: String = ask.public_key.lines().map(str::trim).filter(|l| !l.starts_with("-----")).collect();
    let der = base64::engine::general_purpose::STANDARD.decode(body).unwrap_or_default();
    let wanted = "public_key is a key on P-256 in PEM: openssl ecparam -name prime256v1 -genkey -noout -out server.key; openssl pkey -in server.key -pubout.";
    let key = PublicKey::from_der(&der).ok_or_else(|| bad(wanted))?;
    let authority = authority_of(&app, &gate).await?;
    let failed = |why: String| problem(StatusCode::INTERNAL_SERVER_ERROR, "certificate", "Not made", &why);
    let issued = authority.issue(&key, &ask.host, Use::Server, app.now()).map_err(failed)?;
    app.store.record_act(who.act(&app, "issue server certificate", json!({"gate": gate, "host": ask.host}))).await?;
    Ok(Json(ServerCertificate { certificate: shown(&issued.pem)?, authority: shown(&authority.certificate)? }))
}
