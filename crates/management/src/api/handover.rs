//! Handover sheets, and trials of providers and directories.

use std::sync::Arc;

use axum::extract::State;
use axum::response::{Html, IntoResponse, Response};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use http::{HeaderValue, StatusCode, header};
use passeur_api::{
    DirectoryTrial, Handover, HandoverTable, HandoverValue, Problem, ProviderKind, ProviderTrial, SheetFor, Source, TrialAnswer,
};
use passeur_core::role::Role;
use passeur_core::sheet::{Certificate, Facts, For, Part, Row, STYLE, Sheet, sheet};
use passeur_core::site::Site;
use passeur_core::x509;
use passeur_live::edition::Edition;
use serde::Deserialize;
use utoipa::IntoParams;

use super::auth::Engineer;
use super::errors::{ApiError, no_edition, problem};
use super::extract::{Json, Path, Query};
use super::sites::{document, sound};
use crate::app::App;
use crate::trials;
use crate::trials::Under;
use passeur_signin::pages;

/// What a sheet is to be of.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// Of a provider: for this gate alone.
    gate: Option<String>,
    /// Of a provider that is not in the live edition: `oidc` unless set.
    #[param(inline)]
    kind: Option<ProviderKind>,
}

fn made(app: &App, part: SheetFor, name: &str, wanted: &Wanted) -> Result<(i32, Sheet), ApiError> {
    // A realm is a domain's name, mostly in capitals (RFC 4120 6.1).
    let of_realm = |b: u8| part == SheetFor::Realm && (b.is_ascii_uppercase() || b == b'.');
    let of_name = |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-';
    let longest = if part == SheetFor::Realm { 200 } else { 40 };
    let plain = !name.is_empty() && name.len() <= longest && name.bytes().all(|b| of_name(b) || of_realm(b));
    let bad = |title: &str, words: &str| problem(StatusCode::BAD_REQUEST, "query", title, words);
    if !plain {
        return Err(bad("Not a name", "A name is a-z, 0-9 and hyphens, at most 40; a realm's also has capitals and dots."));
    }
    let edition = app.live.get().ok_or_else(no_edition)?;
    let site = &edition.site;
    let gone = |name: &str| {
        problem(StatusCode::NOT_FOUND, "no-gate", "No such gate", &format!("There is no gate {name}; see passeur gates."))
    };
    let gate = wanted.gate.as_deref().map(|g| site.gate(g).ok_or_else(|| gone(g))).transpose()?;
    let whom = match part {
        SheetFor::Provider => For::Provider(name),
        SheetFor::Directory => For::Directory(name),
        SheetFor::Realm => For::Realm(name),
        SheetFor::Application => For::Application(site.gate(name).ok_or_else(|| gone(name))?),
    };
    let certificate = |der: &Vec<u8>| Certificate {
        fingerprint: x509::fingerprint(der),
        until: x509::read(der).map(|c| c.not_after.format("%Y-%m-%d").to_string()).unwrap_or_default(),
        pem: x509::to_pem(der),
    };
    let facts = Facts {
        of: format!("edition {}", edition.number),
        certificates: app.own_saml().certificates().iter().map(certificate).collect(),
        saml: wanted.kind == Some(ProviderKind::Saml),
    };
    Ok((edition.number, sheet(site, whom, gate, &facts)))
}

/// All that another team must enter. What it is for need not be connected yet; an application is named by its gate.
#[utoipa::path(get, operation_id = "handover", path = "/handover/{part}/{name}",
    params(("part" = SheetFor, Path, description = "For whom"), ("name" = String, Path), Wanted),
    responses((status = 200, body = Handover), (status = 404, body = Problem)))]
pub async fn show(
    State(app): State<App>,
    who: Engineer,
    Path((part, name)): Path<(SheetFor, String)>,
    Query(wanted): Query<Wanted>,
) -> Result<Json<Handover>, ApiError> {
    who.may(Role::View)?;
    let (edition, sheet) = made(&app, part, &name, &wanted)?;
    let markdown = sheet.markdown();
    let row = |r: Row| HandoverValue { label: r.label, value: r.value, why: r.why, check: r.check };
    let table = |p: Part| HandoverTable {
        code: p.code.to_owned(),
        heading: p.heading.to_owned(),
        rows: p.rows.into_iter().map(row).collect(),
    };
    Ok(Json(Handover {
        part,
        name,
        title: sheet.title,
        state: sheet.state,
        edition,
        connected: sheet.connected,
        tables: sheet.parts.into_iter().map(table).collect(),
        steps: sheet.steps,
        markdown,
    }))
}

/// The same as a page of its own, for printing.
#[utoipa::path(get, operation_id = "print_handover", path = "/handover/{part}/{name}/print",
    params(("part" = SheetFor, Path, description = "For whom"), ("name" = String, Path), Wanted),
    responses((status = 200, body = String, content_type = "text/html"), (status = 404, body = Problem)))]
pub async fn print(
    State(app): State<App>,
    who: Engineer,
    Path((part, name)): Path<(SheetFor, String)>,
    Query(wanted): Query<Wanted>,
) -> Result<Response, ApiError> {
    who.may(Role::View)?;
    let (_, sheet) = made(&app, part, &name, &wanted)?;
    let mut response = Html(sheet.html()).into_response();
    pages::protect(response.headers_mut());
    // The page needs nothing but its one stylesheet, which stands in it.
    let digest = STANDARD.encode(passeur_core::id::sha256(STYLE.as_bytes()));
    let policy = format!("default-src 'none'; style-src 'sha256-{digest}'; base-uri 'none'; frame-ancestors 'none'");
    if let Ok(value) = HeaderValue::from_str(&policy) {
        response.headers_mut().insert(header::CONTENT_SECURITY_POLICY, value);
    }
    Ok(response)
}

fn lacking(l: trials::Lacking) -> ApiError {
    problem(StatusCode::BAD_REQUEST, "trial", "Not enough to try", &l.0)
}

/// The live edition, and the document that a trial takes values from instead.
async fn under(app: &App, who: &Engineer, source: &Source) -> Result<(Arc<Edition>, Option<Arc<Site>>), ApiError> {
    let live = app.live.get().ok_or_else(no_edition)?;
    if *source == Source::default() {
        return Ok((live, None));
    }
    let document = document(app, source.clone()).await?;
    Ok((live, Some(sound(app, who, &document).await?)))
}

/// Tries a provider on values that are not saved.
#[utoipa::path(post, path = "/trials/provider", request_body = ProviderTrial, responses((status = 200, body = TrialAnswer), (status = 400, body = Problem)))]
pub async fn try_provider(
    State(app): State<App>,
    who: Engineer,
    Json(ask): Json<ProviderTrial>,
) -> Result<Json<TrialAnswer>, ApiError> {
    // A trial sends requests, and may send a secret, to an address in the request.
    who.may(Role::Configure)?;
    let (live, other) = under(&app, &who, &ask.source).await?;
    let under = Under { site: other.as_deref().unwrap_or(&live.site), live: Some(&live.site), who: Some(&who) };
    trials::provider(&app, under, &ask).await.map(Json).map_err(lacking)
}

/// Tries a directory on values that are not saved.
#[utoipa::path(post, path = "/trials/directory", request_body = DirectoryTrial, responses((status = 200, body = TrialAnswer), (status = 400, body = Problem)))]
pub async fn try_directory(
    State(app): State<App>,
    who: Engineer,
    Json(ask): Json<DirectoryTrial>,
) -> Result<Json<TrialAnswer>, ApiError> {
    who.may(Role::Configure)?;
    let (live, other) = under(&app, &who, &ask.source).await?;
    let under = Under { site: other.as_deref().unwrap_or(&live.site), live: Some(&live.site), who: Some(&who) };
    trials::directory(&app, under, &ask).await.map(Json).map_err(lacking)
}
