//! A second engineer: where the site says so, nobody changes alone who may do what.

use std::sync::Arc;

use axum::extract::State;
use http::StatusCode;
use passeur_api::{Agreement, Agreements, Problem, Source};
use passeur_core::compare::{Side, changes_roles};
use passeur_core::id::{hex, sha256};
use passeur_core::likeness::Likeness;
use passeur_core::role::Role;
use passeur_core::site::Site;
use passeur_store::AgreementRow;
use serde_json::json;

use super::super::auth::Engineer;
use super::super::errors::{ApiError, problem};
use super::super::extract::Json;
use super::documents::{Document, document, sound};
use crate::app::App;
use crate::computing::off_the_data_path;

/// The live edition's number, and whether that edition wants a second engineer for this document.
async fn wanted(app: &App, who: &Engineer, text: &str, site: &Arc<Site>) -> Result<(i32, bool), ApiError> {
    let Some(live) = app.store.live_edition().await? else { return Ok((0, false)) };
    let (text, site) = (text.to_owned(), site.clone());
    off_the_data_path(app, &who.name, move || {
        // What counts is the edition everybody can read, not the one this node happens to use.
        let Some(before) = passeur_core::document::compile(&live.document).0 else { return (live.number, true) };
        let sides = (Side { text: &live.document, site: &before }, Side { text: &text, site: &site });
        (live.number, before.second_engineer && changes_roles(sides.0, sides.1))
    })
    .await
}

/// Who agreed to a document, and whether that is asked for.
pub(super) async fn agreements(app: &App, who: &Engineer, text: &str, site: &Arc<Site>) -> Result<Agreements, ApiError> {
    let (live, wanted) = wanted(app, who, text, site).await?;
    let rows = app.store.agreements(&sha256(text.as_bytes()), live).await?;
    Ok(Agreements { wanted, given: rows.into_iter().map(|r| Agreement { name: r.name, at: r.at }).collect() })
}

/// Whether somebody else than the publisher agreed, where that is asked for. The emergency account needs nobody: it is there
/// for when nobody can sign in, and every use of it is recorded and shown.
pub(super) async fn ask_for_second(app: &App, who: &Engineer, text: &str, site: &Arc<Site>) -> Result<(), ApiError> {
    if who.is_emergency() {
        return Ok(());
    }
    let (live, wanted) = wanted(app, who, text, site).await?;
    if !wanted {
        return Ok(());
    }
    let rows = app.store.agreements(&sha256(text.as_bytes()), live).await?;
    // Two people in all. A token that belongs to nobody counts for nobody.
    let mut counted = match who.key {
        Some(_) => vec![who.likeness(app).await?],
        None => vec![],
    };
    let mut same = vec![];
    for row in &rows {
        let theirs = Likeness::from_stored(&row.likeness);
        // Of whom nothing is known may be anybody, also whoever publishes.
        match counted.iter().find_map(|c| theirs.shares(c)) {
            _ if theirs.is_empty() => {}
            Some(shared) => same.push(format!("{} ({shared})", row.name)),
            None => counted.push(theirs),
        }
    }
    if counted.len() >= 2 {
        return Ok(());
    }
    let wanted = if who.key.is_some() { "another engineer" } else { "two engineers" };
    let mut detail = format!(
        "It changes who may do what, and this site asks for {wanted} to agree first. Keep it as the draft and have it read: they agree in \
         the console. Nothing was changed."
    );
    if !same.is_empty() {
        let same = passeur_core::text::visible(&same.join(", "));
        detail.push_str(&format!(" Not counted, since they may be one and the same person by what stands in brackets: {same}."));
    }
    Err(problem(StatusCode::CONFLICT, "second-engineer", "A second engineer must agree", &detail))
}

/// Agrees to a change of who may do what: the draft, a site file, or an earlier edition. Only an engineer who is signed in
/// can, and not the one who then publishes it.
#[utoipa::path(post, path = "/site/agree", request_body = Source,
    responses((status = 200, body = Agreements), (status = 403, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn agree(State(app): State<App>, who: Engineer, Json(ask): Json<Source>) -> Result<Json<Agreements>, ApiError> {
    who.may(Role::Configure)?;
    let (Some(person), Some(_)) = (&who.person, &who.evidence) else {
        let words =
            "Agreeing is for people: sign in to the console and agree there. A token shows nothing of who read the change.";
        return Err(problem(StatusCode::FORBIDDEN, "second-engineer", "Not by a token", words));
    };
    let read = document(&app, ask).await?;
    let site = sound(&app, &who, &read).await?;
    let Document { text, name, .. } = read;
    let (live, wanted) = wanted(&app, &who, &text, &site).await?;
    if !wanted {
        let words = format!("Nothing in {name} asks for a second engineer.");
        return Err(problem(StatusCode::CONFLICT, "second-engineer", "Nothing to agree to", &words));
    }
    let digest = sha256(text.as_bytes());
    let row = AgreementRow {
        document: digest.to_vec(),
        edition: live,
        provider: person.provider.clone(),
        subject: person.subject.clone(),
        name: who.name.clone(),
        at: app.now(),
        authority: who.key.as_ref().map(|k| k.authority.clone()).unwrap_or_default(),
        likeness: who.likeness(&app).await?.to_stored(),
    };
    let act = who.act(&app, "agree", json!({"document": hex(&digest), "to": name}));
    app.store.agree(row, act).await?;
    Ok(Json(agreements(&app, &who, &text, &site).await?))
}
