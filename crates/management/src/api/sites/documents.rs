//! Documents of all kinds (a site file, the draft, an edition): read, checked, compared.

use std::collections::HashMap;
use std::sync::Arc;

use axum::extract::State;
use http::StatusCode;
use passeur_api::{
    Change, CheckAnswer, CheckRequest, CompareRequest, Comparison, Edition, EditionLine, Finding, Problem, SecretUse,
    Severity as ShownSeverity, Source,
};
use passeur_core::Moment;
use passeur_core::compare::{ChangedSource, Side, changed_sources, compare as compare_sides, difference};
use passeur_core::document::{self, Severity, compile};
use passeur_core::expect;
use passeur_core::role::Role;
use passeur_core::site::Site;
use passeur_core::step::Lang;
use passeur_engine::editions::salted;
use passeur_store::{EditionRow, SecretMeta};
use serde::Deserialize;
use utoipa::IntoParams;

use super::super::auth::Engineer;
use super::super::errors::{ApiError, bad, no_edition, problem};
use super::super::extract::{Json, Path, Query};
use crate::app::App;
use crate::computing::off_the_data_path;
use crate::findings;

/// Compiles a document, tries its expectations, and adds what only the store can say: secrets that are named and not
/// stored.
pub(super) async fn examine(app: &App, who: &Engineer, document: &str) -> Result<(Option<Site>, Vec<Finding>), ApiError> {
    let (stored, opened) = (app.store.secret_list().await?, app.secrets().await?);
    let (document, lang, now) = (document.to_owned(), who.lang, app.now());
    off_the_data_path(app, &who.name, move || examine_with(now, lang, &document, &stored, &opened)).await
}

/// The same, with the secrets that are stored.
pub(super) fn examine_with(
    now: Moment,
    lang: Lang,
    document: &str,
    stored: &[SecretMeta],
    opened: &HashMap<String, Vec<String>>,
) -> (Option<Site>, Vec<Finding>) {
    let (site, findings) = compile(document);
    let site = site.map(|s| salted(s, opened));
    let mut findings: Vec<Finding> = findings.into_iter().map(findings::of_document).collect();
    if let Some(site) = &site {
        findings.extend(expect::broken(site, now, lang).into_iter().map(findings::of_expectation));
        for (name, needed_by) in site.secrets() {
            if !stored.iter().any(|s| s.name == name) {
                findings.push(Finding {
                    severity: ShownSeverity::Warning,
                    line: 0,
                    place: needed_by,
                    what: format!("the secret \"{name}\" is not stored yet"),
                    remedy: format!("Store it: passeur secret set {name}"),
                });
            }
        }
    }
    (site, findings)
}

/// A document with what it is called.
pub struct Document {
    /// Such as `edition 3`.
    pub name: String,
    pub text: String,
    pub edition: Option<i32>,
    /// The version of the draft it was read from.
    pub draft: Option<i64>,
}

/// The edition of a number.
pub(super) async fn numbered(app: &App, number: i32) -> Result<EditionRow, ApiError> {
    let words = format!("There is no edition {number}; see passeur site editions.");
    let none = || problem(StatusCode::NOT_FOUND, "no-edition", "No such edition", &words);
    app.store.edition(number).await?.ok_or_else(none)
}

/// The document that a request means.
pub async fn document(app: &App, source: Source) -> Result<Document, ApiError> {
    let of = |row: EditionRow| Document {
        name: format!("edition {}", row.number),
        text: row.document,
        edition: Some(row.number),
        draft: None,
    };
    match source {
        Source { document: None, draft: false, edition: None } => app.store.live_edition().await?.map(of).ok_or_else(no_edition),
        Source { document: Some(text), draft: false, edition: None } => {
            Ok(Document { name: "the site file".into(), text, edition: None, draft: None })
        }
        Source { document: None, draft: true, edition: None } => {
            let row = app.store.draft().await?.ok_or_else(no_draft)?;
            Ok(Document { name: "the draft".into(), text: row.document, edition: None, draft: Some(row.version) })
        }
        Source { document: None, draft: false, edition: Some(n) } => Ok(of(numbered(app, n).await?)),
        _ => Err(bad("Name one of document, draft and edition.")),
    }
}

/// What a document compiles to, with the secrets that are stored, and what was found in it.
pub(super) async fn compiled(
    app: &App,
    who: &Engineer,
    text: &str,
) -> Result<(Option<Arc<Site>>, Vec<document::Finding>), ApiError> {
    let text = text.to_owned();
    let (site, findings) = off_the_data_path(app, &who.name, move || compile(&text)).await?;
    let opened = app.secrets().await?;
    Ok((site.map(|s| Arc::new(salted(s, &opened))), findings))
}

/// The site that a document compiles to, for calls that need a sound one.
pub async fn sound(app: &App, who: &Engineer, document: &Document) -> Result<Arc<Site>, ApiError> {
    let (site, findings) = compiled(app, who, &document.text).await?;
    site.ok_or_else(|| {
        let n = findings.iter().filter(|f| f.severity == Severity::Error).count();
        let detail = format!("{} has {n} mistakes.", document.name);
        problem(StatusCode::UNPROCESSABLE_ENTITY, "site-file", "Not a sound site file", &detail)
            .with_findings(findings.into_iter().map(findings::of_document).collect())
    })
}

/// Sources that are others in the second document than in the first.
pub async fn changed(
    app: &App,
    who: &Engineer,
    before: (&str, &Arc<Site>),
    after: (&str, &Arc<Site>),
) -> Result<Arc<Vec<ChangedSource>>, ApiError> {
    let owned = |(text, site): (&str, &Arc<Site>)| (text.to_owned(), site.clone());
    let (before, after) = (owned(before), owned(after));
    off_the_data_path(app, &who.name, move || {
        Arc::new(changed_sources(Side { text: &before.0, site: &before.1 }, Side { text: &after.0, site: &after.1 }))
    })
    .await
}

/// Shows an edition with its warnings and its secrets.
pub(super) async fn whole(app: &App, who: &Engineer, row: EditionRow) -> Result<Edition, ApiError> {
    let stored = app.store.secret_list().await?;
    let (site, findings) = examine(app, who, &row.document).await?;
    let mut names: Vec<String> = site.map(|s| s.secrets().into_iter().map(|(n, _)| n).collect()).unwrap_or_default();
    names.sort();
    names.dedup();
    let then = |name: &str| row.secrets.as_ref()?.get(name)?.as_i64().and_then(|v| i32::try_from(v).ok());
    let secrets = names.into_iter().map(|name| SecretUse {
        version: stored.iter().find(|s| s.name == name).map_or(0, |s| s.version),
        version_then: then(&name),
        name,
    });
    Ok(Edition {
        secrets: secrets.collect(),
        number: row.number,
        note: row.note,
        author: row.author,
        published_at: row.published_at,
        document: row.document,
        findings,
        copy_of: row.copy_of,
        confirm_by: row.confirm_by,
        confirmed_by: row.confirmed_by,
    })
}

/// The live edition.
#[utoipa::path(get, path = "/site", responses((status = 200, body = Edition), (status = 404, body = Problem)))]
pub async fn live(State(app): State<App>, who: Engineer) -> Result<Json<Edition>, ApiError> {
    who.may(Role::View)?;
    let row = app.store.live_edition().await?.ok_or_else(no_edition)?;
    Ok(Json(whole(&app, &who, row).await?))
}

/// An edition by number.
#[utoipa::path(get, path = "/site/editions/{number}", params(("number" = i32, Path)),
    responses((status = 200, body = Edition), (status = 404, body = Problem)))]
pub async fn edition(State(app): State<App>, who: Engineer, Path(number): Path<i32>) -> Result<Json<Edition>, ApiError> {
    who.may(Role::View)?;
    let row = numbered(&app, number).await?;
    Ok(Json(whole(&app, &who, row).await?))
}

/// Which editions.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct HistoryQuery {
    /// Only those below this number.
    before: Option<i32>,
    /// At most so many, 1 to 500; 50 unless said.
    limit: Option<i64>,
}

/// The history, latest first.
#[utoipa::path(get, path = "/site/editions", params(HistoryQuery), responses((status = 200, body = Vec<EditionLine>)))]
pub async fn editions(
    State(app): State<App>,
    who: Engineer,
    Query(q): Query<HistoryQuery>,
) -> Result<Json<Vec<EditionLine>>, ApiError> {
    who.may(Role::View)?;
    let live = app.store.live_edition_number().await?;
    let rows = app.store.edition_heads(q.before, q.limit.unwrap_or(50).clamp(1, 500)).await?;
    let lines = rows.into_iter().map(|r| EditionLine {
        live: r.number == live,
        number: r.number,
        note: r.note,
        author: r.author,
        published_at: r.published_at,
        copy_of: r.copy_of,
        confirm_by: r.confirm_by,
        confirmed_by: r.confirmed_by,
    });
    Ok(Json(lines.collect()))
}

/// Checks a site file as a whole; nothing is changed.
#[utoipa::path(post, path = "/site/check", request_body = CheckRequest, responses((status = 200, body = CheckAnswer)))]
pub async fn check(State(app): State<App>, who: Engineer, Json(ask): Json<CheckRequest>) -> Result<Json<CheckAnswer>, ApiError> {
    who.may(Role::View)?;
    let (site, findings) = examine(&app, &who, &ask.document).await?;
    Ok(Json(CheckAnswer { sound: site.is_some(), findings }))
}

/// Says what a change means: what people would lose, what they would gain, every other key, and the plain difference.
#[utoipa::path(post, path = "/site/compare", request_body = CompareRequest,
    responses((status = 200, body = Comparison), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn compare(
    State(app): State<App>,
    who: Engineer,
    Json(ask): Json<CompareRequest>,
) -> Result<Json<Comparison>, ApiError> {
    who.may(Role::View)?;
    let (before, after) = (document(&app, ask.before).await?, document(&app, ask.after).await?);
    let (a, b) = (sound(&app, &who, &before).await?, sound(&app, &who, &after).await?);
    let (before_text, after_text) = (before.text, after.text);
    let compared = off_the_data_path(&app, &who.name, move || {
        let sides = (Side { text: &before_text, site: &a }, Side { text: &after_text, site: &b });
        (compare_sides(sides.0, sides.1), difference(&before_text, &after_text))
    });
    let (changes, difference) = compared.await?;
    let changes = changes.iter().map(|c| Change {
        bearing: c.bearing.into(),
        place: c.place.clone(),
        code: c.code().to_owned(),
        words: c.words(who.lang),
    });
    Ok(Json(Comparison { changes: changes.collect(), difference, before: before.name, after: after.name }))
}

pub(super) fn no_draft() -> ApiError {
    problem(StatusCode::NOT_FOUND, "no-draft", "No draft", "Nobody has begun a draft. Begin one: passeur site draft put FILE")
}
