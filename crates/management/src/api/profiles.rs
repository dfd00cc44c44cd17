//! Personal profiles of tunnels: which there are, and taking them away; the authority of a gate, and its VPN server's certificate.

use axum::extract::{Path, State};
use http::StatusCode;
use passeur_api::{
    Certificate, MadeProfile, MakeProfile, Problem, RevokeProfiles, RevokedProfiles, ServerCertificate, ServerKey, TunnelProfile,
};
use passeur_core::role::Role;
use passeur_core::x509;
use passeur_engine::profiles::{self, Authority, NotMade, PublicKey, Use, Wanted};
use passeur_engine::rights;
use passeur_store::{KnownPerson, MadeBy, Names, NotKept, ProfileRow};
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
/// The longest name of a machine, in characters.
const DEVICE_MAX: usize = 40;

const KEY_WANTED: &str = "public_key is a key on P-256 in PEM: openssl ecparam -name prime256v1 -genkey -noout -out server.key; openssl pkey -in server.key -pubout.";

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

/// Makes a personal profile for somebody's machine. It opens nothing by itself: its person signs in at every connection.
#[utoipa::path(post, operation_id = "make_profile", path = "/profiles", request_body = MakeProfile,
    responses((status = 200, body = MadeProfile), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem),
        (status = 409, body = Problem)))]
pub async fn make(State(app): State<App>, who: Engineer, Json(ask): Json<MakeProfile>) -> Result<Json<MadeProfile>, ApiError> {
    who.may(Role::Configure)?;
    let device = ask.device.trim();
    if device.is_empty() || device.chars().count() > DEVICE_MAX {
        return Err(bad(&format!("device is what the machine is called, in 1 to {DEVICE_MAX} characters.")));
    }
    let key = PublicKey::from_pem(&ask.public_key).ok_or_else(|| bad(KEY_WANTED))?;
    let missing = |words: &str| problem(StatusCode::NOT_FOUND, "profile", "No profile was made", words);
    let edition = app.live.get().ok_or_else(|| missing("No edition is live."))?;
    let gate = edition.site.gate(&ask.gate).ok_or_else(|| missing("The live edition has no gate of that name."))?;
    let entrance = edition.site.zones_of(gate).find(|z| z.name == ask.entrance && z.tunnel().is_some());
    let entrance = entrance.ok_or_else(|| missing("The gate has no entrance of that name."))?;
    let known = person_of(&app, &ask.person).await?;
    let let_in =
        format!("{} is kept out. Where that is over: passeur let-in {}/{}", known.name, known.provider, known.key.subject);
    let act = who.act(&app, "make profile", json!({"gate": gate.name, "person": known.name, "device": device}));
    let wanted =
        Wanted { gate, entrance, key, device: device.to_owned(), provider: known.provider, person: known.key, name: known.name };
    match profiles::make(&app, wanted, MadeBy::Engineer(act)).await? {
        Ok(made) => Ok(Json(MadeProfile { profile: told(made.row), configuration: made.configuration })),
        Err(NotMade::NoAuthority(why)) => Err(problem(StatusCode::NOT_FOUND, "no-authority", "No authority", &format!("{why}."))),
        Err(NotMade::NotIssued(why)) => Err(problem(StatusCode::INTERNAL_SERVER_ERROR, "certificate", "Not made", &why)),
        Err(NotMade::NotKept(NotKept::Over)) => Err(problem(StatusCode::CONFLICT, "kept-out", "No profile was made", &let_in)),
        Err(NotMade::NotKept(NotKept::TooMany(most))) => {
            let words = format!("They have {most} profiles at this gate that still count: revoke one first.");
            Err(problem(StatusCode::CONFLICT, "too-many", "No profile was made", &words))
        }
    }
}

/// The one person whom a text means: by the whole of a name or value, or by a part of a name that nobody else has.
async fn person_of(app: &App, text: &str) -> Result<KnownPerson, ApiError> {
    let text = text.trim();
    if text.is_empty() {
        return Err(bad("person is the name, subject or another value of somebody who was here before."));
    }
    let mut found = app.store.find_people(text, Names::Within).await?;
    let whole = |p: &KnownPerson| [&p.name, &p.key.subject].iter().any(|v| v.to_lowercase() == text.to_lowercase());
    if found.len() > 1 && found.iter().filter(|p| whole(p)).count() == 1 {
        found.retain(whole);
    }
    if found.len() > 1 {
        let all: Vec<String> = found.iter().take(10).map(|p| format!("{} ({}, {})", p.name, p.provider, p.key.subject)).collect();
        let words = format!("Several people have this value: {}. Name one by the subject.", all.join("; "));
        return Err(problem(StatusCode::CONFLICT, "several", "Several people", &words));
    }
    let nobody = "Nobody who was here before has this value. They sign in once, at any gate.";
    found.pop().ok_or_else(|| problem(StatusCode::NOT_FOUND, "nobody", "No such person", nobody))
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
    let key = PublicKey::from_pem(&ask.public_key).ok_or_else(|| bad(KEY_WANTED))?;
    let authority = authority_of(&app, &gate).await?;
    let failed = |why: String| problem(StatusCode::INTERNAL_SERVER_ERROR, "certificate", "Not made", &why);
    let issued = authority.issue(&key, &ask.host, Use::Server, app.now()).map_err(failed)?;
    app.store.record_act(who.act(&app, "issue server certificate", json!({"gate": gate, "host": ask.host}))).await?;
    Ok(Json(ServerCertificate { certificate: shown(&issued.pem)?, authority: shown(&authority.certificate)? }))
}
