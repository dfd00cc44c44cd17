//! The two things that come first in an engineer's day: the handover sheet, and trials.

use axum::extract::State;
use http::StatusCode;
use passeur_api::{DirectoryTrial, Handover, HandoverValue, Problem, ProviderTrial, Role, TrialAnswer};
use passeur_core::site::Site;

use super::auth::Engineer;
use super::extract::{Json, Path};
use super::{ApiError, no_edition, problem};
use crate::app::App;
use crate::signin::redirect_uri;
use crate::trials;

fn value(label: &str, value: impl Into<String>, why: &str) -> HandoverValue {
    HandoverValue { label: label.to_owned(), value: value.into(), why: why.to_owned() }
}

/// All that the team of a provider must enter. The provider need not be connected yet.
#[utoipa::path(get, path = "/handover/{provider}", params(("provider" = String, Path, description = "The provider's name in the site, or the name it will have")),
    responses((status = 200, body = Handover), (status = 404, body = Problem)))]
pub async fn sheet(State(app): State<App>, who: Engineer, Path(name): Path<String>) -> Result<Json<Handover>, ApiError> {
    who.may(Role::View)?;
    let plain =
        !name.is_empty() && name.len() <= 40 && name.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-');
    if !plain {
        return Err(problem(
            StatusCode::BAD_REQUEST,
            "query",
            "Not a name",
            "A provider's name is a-z, 0-9 and hyphens, at most 40.",
        ));
    }
    let edition = app.live.get().ok_or_else(no_edition)?;
    Ok(Json(make(&edition.site, edition.number, &name)))
}

fn make(site: &Site, edition: i32, name: &str) -> Handover {
    let provider = site.provider(name);
    let mut enter = vec![
        value("Client name", site.name.clone(), "what people read when they sign in"),
        value("Application type", "web, confidential client", "the client keeps a secret"),
        value("Redirect address", redirect_uri(site, name), "where the provider sends people back; it is compared to the letter"),
        value("Address after signing out", site.address.at("/.passeur/signed-out"), "post_logout_redirect_uri"),
        value("Grant and response type", "authorization_code, code", "no other is used"),
        value("Proof key", "S256, required", "PKCE (RFC 7636); let the provider insist on it"),
        value("Client authentication", "client_secret_basic (or client_secret_post)", "at the token endpoint"),
        value("Signature of the id_token", "RS256, PS256, ES256 or EdDSA", "none and HMAC are refused here"),
    ];
    let scopes = provider.and_then(|p| p.oidc()).map_or_else(|| "openid profile email".to_owned(), |c| c.scopes.join(" "));
    enter.push(value("Scopes", scopes, "allow these for the client"));
    if let Some(p) = provider {
        if !p.acr_values.is_empty() || !p.require_acr.is_empty() {
            let wanted: Vec<_> = p.acr_values.iter().chain(&p.require_acr).cloned().collect();
            enter.push(value("Authentication context", wanted.join(" "), "asked for with acr_values, checked in acr"));
        }
        if !p.require_amr.is_empty() {
            enter.push(value(
                "Authentication methods",
                p.require_amr.join(" "),
                "each must stand in amr, or the sign-in is refused",
            ));
        }
    }
    let mut send_back =
        vec![value("Issuer", provider.map_or("", |p| p.issuer.as_str()), "to the letter, as in the discovery document")];
    send_back.push(value(
        "Client id",
        provider.and_then(|p| p.oidc()).map_or("", |c| c.id.as_str()),
        "what the provider calls this client",
    ));
    send_back.push(value("Client secret", "", "by a safe way; it is stored with `passeur secret set` and never shown again"));
    let claims = claims(site, name);
    let steps = vec![
        format!("Enter the values above, and send back what is asked for. Try it: passeur trial provider {name}"),
        "Sign in once at a gate with a person who may enter; then once with one who may not.".to_owned(),
        "If the provider shows an error page of its own, compare the redirect address above with what it has.".to_owned(),
    ];
    let mut sheet = Handover {
        provider: name.to_owned(),
        edition: if provider.is_some() { edition } else { 0 },
        connected: provider.is_some(),
        enter,
        send_back,
        claims,
        steps,
        markdown: String::new(),
    };
    sheet.markdown = markdown(site, &sheet);
    sheet
}

/// Claims to release, each with what needs it.
fn claims(site: &Site, name: &str) -> Vec<HandoverValue> {
    let mut out = vec![value("sub", "always", "the person's only key, never reassigned")];
    let Some(provider) = site.provider(name) else {
        out.push(value("preferred_username", "usually", "feeds the directory look-up"));
        out.push(value("name, email", "usually", "shown to engineers; delivered where a gate wants it"));
        return out;
    };
    for (id, claim) in &provider.attributes {
        let mut why = vec![];
        for d in site.directories.iter().filter(|d| d.fed_by == *id) {
            why.push(format!("the look-up in directory {}", d.name));
        }
        for d in &site.deliveries {
            why.extend(d.headers.iter().filter(|h| h.value.attributes().contains(id)).map(|h| format!("header {}", h.name)));
        }
        let why = if why.is_empty() { "mapped, not used yet".to_owned() } else { why.join(", ") };
        out.push(value(claim, site.attribute_name(*id), &why));
    }
    if !provider.require_acr.is_empty() || !provider.require_amr.is_empty() {
        out.push(value("acr, amr, auth_time", "always", "how and when the person proved who they are"));
    }
    out
}

fn markdown(site: &Site, h: &Handover) -> String {
    let cell = |s: &str| passeur_core::text::visible(s).replace('|', "\\|");
    let table = |head: [&str; 3], rows: &[HandoverValue]| {
        let mut out = format!("| {} |\n|---|---|---|\n", head.join(" | "));
        for r in rows {
            let v = if r.value.is_empty() { "…".to_owned() } else { format!("`{}`", cell(&r.value)) };
            out.push_str(&format!("| {} | {v} | {} |\n", cell(&r.label), cell(&r.why)));
        }
        out
    };
    let state = if h.connected { format!("of edition {}", h.edition) } else { "before it is connected".to_owned() };
    let steps: String = h.steps.iter().enumerate().map(|(i, s)| format!("{}. {s}\n", i + 1)).collect();
    format!(
        "# Handover sheet: {} as OpenID Connect client of {}\n\nThis sheet is {state}.\n\n## Please enter\n\n{}\n## Please release these claims\n\n{}\n## Please send back\n\n{}\n## Then try it\n\n{steps}",
        cell(&site.name),
        h.provider,
        table(["what", "value", "why"], &h.enter),
        table(["claim", "as", "needed for"], &h.claims),
        table(["what", "value", "remark"], &h.send_back),
    )
}

fn lacking(l: trials::Lacking) -> ApiError {
    problem(StatusCode::BAD_REQUEST, "trial", "Not enough to try", &l.0)
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
    let edition = app.live.get().ok_or_else(no_edition)?;
    trials::provider(&app, &edition.site, &ask).await.map(Json).map_err(lacking)
}

/// Tries a directory on values that are not saved.
#[utoipa::path(post, path = "/trials/directory", request_body = DirectoryTrial, responses((status = 200, body = TrialAnswer), (status = 400, body = Problem)))]
pub async fn try_directory(
    State(app): State<App>,
    who: Engineer,
    Json(ask): Json<DirectoryTrial>,
) -> Result<Json<TrialAnswer>, ApiError> {
    who.may(Role::Configure)?;
    let edition = app.live.get().ok_or_else(no_edition)?;
    trials::directory(&app, &edition.site, &ask).await.map(Json).map_err(lacking)
}
