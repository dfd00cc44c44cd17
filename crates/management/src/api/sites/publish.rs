//! Publishing, rolling back and confirming. What a change would do to people is looked at first, and asked about.

use axum::extract::State;
use chrono::Duration;
use http::StatusCode;
use passeur_api::{Affected, Edition, Problem, PublishRequest, Severity};
use passeur_core::compare::ChangedSource;
use passeur_core::role::Role;
use passeur_core::site::Site;
use passeur_engine::editions::{Load, turned};
use passeur_store::{EditionRow, StandsOn, Turned};
use serde_json::json;
use std::sync::Arc;

use super::super::auth::Engineer;
use super::super::errors::{ApiError, bad, problem};
use super::super::extract::Json;
use super::agree::ask_for_second;
use super::documents::{Document, changed, compiled, document, examine, numbered, whole};
use super::sources::{ask_about_sources, ask_about_trials};
use crate::app::App;
use crate::lockout;
use crate::rehearsal::{self, Pair};

/// Sources that would be others.
pub(super) type Changed = Arc<Vec<ChangedSource>>;

/// How long a call waits for the kernel of this node to hold a new edition.
const KERNEL_WAIT: std::time::Duration = std::time::Duration::from_secs(5);
/// How far back it is looked who came in.
const LOOK_BACK_DAYS: i64 = 7;
/// How many are named in words; the list holds more.
pub(super) const NAMED: usize = 8;

/// A refusal that the word in `anyway` overrides.
pub(super) fn unless_named(status: StatusCode, word: &str, title: &str, detail: &str) -> ApiError {
    problem(status, word, title, detail).with_anyway(word)
}

fn count(n: usize, one: &str, more: &str) -> String {
    format!("{n} {}", if n == 1 { one } else { more })
}

/// The people in words: the first few by name.
fn names(people: &[Affected]) -> String {
    let mut told: Vec<String> = people.iter().take(NAMED).map(|p| format!("{} at {}", p.person, p.gate)).collect();
    if people.len() > NAMED {
        told.push(format!("and {} more", people.len() - NAMED));
    }
    told.join(", ")
}

/// The edition that people are judged by until now, with its text: the live one, or, where this binary does not take that one any more,
/// the last one it took. None where there is neither, so that nothing stands in the way of the next.
async fn in_use(app: &App, who: &Engineer, live: i32) -> Result<Option<(String, Arc<Site>)>, ApiError> {
    if live == 0 {
        return Ok(None);
    }
    let row = numbered(app, live).await?;
    if let (Some(site), _) = compiled(app, who, &row.document).await? {
        return Ok(Some((row.document, site)));
    }
    let Some(last) = app.live.get() else { return Ok(None) };
    Ok(Some((numbered(app, last.number).await?.document, Arc::new(last.site.clone()))))
}

/// Whether somebody who came in this week would be refused: the publisher is asked first.
async fn ask_about_people(
    app: &App,
    who: &Engineer,
    before: &Arc<Site>,
    site: &Arc<Site>,
    changed: &Changed,
) -> Result<(), ApiError> {
    let pair = Pair { before: before.clone(), after: site.clone(), changed: changed.clone(), lang: who.lang };
    let sums = rehearsal::past(app, &who.name, pair, app.now() - Duration::days(LOOK_BACK_DAYS), None).await?;
    let refused = sums.refused.shown();
    if refused.is_empty() {
        return Ok(());
    }
    let people = count(refused.len(), "person who came in this week", "people who came in this week");
    let detail = format!("It would refuse {people}: {}. Nothing was changed.", names(&refused));
    Err(unless_named(StatusCode::CONFLICT, "refuses-people", "It would refuse people", &detail).with_refused(refused))
}

/// Whether every engineer would lose the console.
async fn ask_about_engineers(app: &App, who: &Engineer, site: &Arc<Site>) -> Result<(), ApiError> {
    let Some(found) = lockout::check(app, who, site).await? else { return Ok(()) };
    Err(unless_named(StatusCode::CONFLICT, "locked-out", "It would lock engineers out", &found))
}

/// Whether a provider's name stands for another issuer by it: nobody is who they were there, and what stood on the old one ends.
async fn ask_about_issuers(app: &App, turned: &[Turned]) -> Result<(), ApiError> {
    let mut told = vec![];
    for t in turned.iter().filter(|t| !t.moves) {
        let on = app.store.stands_on(&t.before, app.now()).await?;
        if on == StandsOn::default() {
            continue;
        }
        let n = |n: i64| usize::try_from(n).unwrap_or_default();
        told.push(format!(
            "{} was {} and becomes {}: {} and {} end, and the factors of {} count no more",
            t.provider,
            t.before,
            t.after,
            count(n(on.sessions), "session", "sessions"),
            count(n(on.tokens), "token", "tokens"),
            count(n(on.factors), "person", "people"),
        ));
    }
    if told.is_empty() {
        return Ok(());
    }
    let names: Vec<&str> = turned.iter().filter(|t| !t.moves).map(|t| t.provider.as_str()).collect();
    let detail = format!(
        "Whoever has the same subject at another issuer is somebody else. {}. If an issuer only changed its address, publish with \
         --move-issuer {} instead: then factors and tokens go with it, and people sign in once more. Nothing was changed.",
        told.join("; "),
        names.join(" --move-issuer ")
    );
    Err(unless_named(StatusCode::CONFLICT, "other-issuer", "Another issuer", &detail))
}

/// Publishes a site file, the draft, or an earlier edition, as the next edition.
#[utoipa::path(post, path = "/site/publish", request_body = PublishRequest,
    responses((status = 200, body = Edition), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn publish(State(app): State<App>, who: Engineer, Json(ask): Json<PublishRequest>) -> Result<Json<Edition>, ApiError> {
    who.may(Role::Configure)?;
    let live = app.store.live_edition_number().await?;
    let based_on = match (&ask.based_on, ask.source.draft) {
        (None, true) => app.store.draft().await?.map(|d| d.based_on),
        (given, _) => *given,
    };
    if based_on.is_some_and(|n| n != live) {
        let detail = format!(
            "Edition {live} is live; the change was made on another. Compare with it (passeur site compare), put your change in, publish again."
        );
        return Err(problem(StatusCode::CONFLICT, "conflict", "Another edition is live", &detail));
    }
    if ask.confirm_within.is_some_and(|m| !(1..=60).contains(&m)) {
        return Err(bad("confirm_within is a number of minutes from 1 to 60."));
    }
    if ask.confirm_within.is_some() && live == 0 {
        let words = "There is no earlier edition to go back to. Publish the first one without confirm_within.";
        return Err(problem(StatusCode::BAD_REQUEST, "query", "Nothing to go back to", words));
    }
    let Document { text, edition: copy_of, draft, .. } = document(&app, ask.source).await?;
    let (site, findings) = examine(&app, &who, &text).await?;
    let Some(site) = site.map(Arc::new) else {
        let n = findings.iter().filter(|f| f.severity == Severity::Error).count();
        let detail = format!("The site file has {}; nothing was changed.", count(n, "mistake", "mistakes"));
        return Err(problem(StatusCode::UNPROCESSABLE_ENTITY, "site-file", "Not published", &detail).with_findings(findings));
    };
    ask_for_second(&app, &who, &text, &site).await?;
    let accepts = |word: &str| ask.anyway.iter().any(|a| a == word);
    let broken: Vec<_> = findings.iter().filter(|f| f.severity == Severity::Expectation).cloned().collect();
    if !accepts("expectations") && !broken.is_empty() {
        let detail = format!("{} would not hold. Nothing was changed.", count(broken.len(), "expectation", "expectations"));
        let status = StatusCode::CONFLICT;
        return Err(unless_named(status, "expectations", "Expectations would not hold", &detail).with_findings(broken));
    }
    if !accepts("locked-out") {
        ask_about_engineers(&app, &who, &site).await?;
    }
    let turned = match app.live.get() {
        Some(live) => turned(&live.site, &site, &ask.move_issuers),
        None => vec![],
    };
    if let Some(wrong) = ask.move_issuers.iter().find(|m| !turned.iter().any(|t| t.provider == **m)) {
        let words = format!("The issuer of \"{wrong}\" does not change by this. Leave --move-issuer {wrong} out.");
        return Err(problem(StatusCode::BAD_REQUEST, "query", "Nothing to move", &words));
    }
    if !accepts("other-issuer") {
        ask_about_issuers(&app, &turned).await?;
    }
    if let Some((before, was)) = in_use(&app, &who, live).await? {
        let changed = changed(&app, &who, (&before, &was), (&text, &site)).await?;
        // An earlier edition was tried by being live; whoever goes back in an emergency is not kept from it.
        if copy_of.is_none() && !accepts("other-source") {
            ask_about_sources(&was, &site, &changed)?;
        }
        if copy_of.is_none() && !accepts("trial-failed") {
            ask_about_trials(&app, &who, &was, &site, &changed).await?;
        }
        if !accepts("refuses-people") {
            ask_about_people(&app, &who, &was, &site, &changed).await?;
        }
    }
    let versions: serde_json::Map<_, _> =
        app.store.secret_list().await?.into_iter().map(|s| (s.name, serde_json::Value::from(s.version))).collect();
    let row = EditionRow {
        number: live + 1,
        document: text,
        note: passeur_core::text::shorten(ask.note.trim(), 500),
        author: who.name.clone(),
        published_at: app.now(),
        copy_of,
        confirm_by: ask.confirm_within.map(|m| app.now() + Duration::minutes(i64::from(m))),
        confirmed_by: None,
        secrets: Some(versions.into()),
    };
    let about = json!({"edition": row.number, "note": row.note, "copy_of": copy_of, "anyway": ask.anyway, "confirm_within": ask.confirm_within,
        "issuers": turned.iter().map(|t| json!({"provider": t.provider, "from": t.before, "to": t.after, "moved": t.moves})).collect::<Vec<_>>()});
    let ended = app.store.publish(row.clone(), draft, &turned, who.act(&app, "publish", about)).await?;
    app.end_here(&ended);
    app.load_edition(Load::WhereChanged).await?;
    // What it takes away is taken in the kernel of this node when the call returns; other nodes follow by themselves.
    if let (Some(networks), Some(edition)) = (app.networks.get(), app.live.get())
        && tokio::time::timeout(KERNEL_WAIT, networks.in_force(edition)).await.is_err()
    {
        tracing::warn!(event = "network.slow", "the kernel does not hold the new edition yet");
    }
    tracing::info!(edition = row.number, author = row.author, note = row.note, "published");
    Ok(Json(whole(&app, &who, row).await?))
}

/// Confirms the live edition, so that it does not go back by itself. Only somebody who signed in under it can.
#[utoipa::path(post, path = "/site/confirm", responses((status = 200, body = Edition), (status = 409, body = Problem)))]
pub async fn confirm(State(app): State<App>, who: Engineer) -> Result<Json<Edition>, ApiError> {
    who.may(Role::Configure)?;
    let conflict = |detail: &str| problem(StatusCode::CONFLICT, "confirm", "Not confirmed", detail);
    let row = app.store.live_edition().await?.ok_or_else(|| conflict("Nothing is published."))?;
    if row.confirm_by.is_none() || row.confirmed_by.is_some() {
        return Err(conflict(&format!("Edition {} waits for no confirmation.", row.number)));
    }
    // The emergency account shows nothing of whether anybody could sign in under it.
    if who.evidence.is_none() || who.began.is_none_or(|began| began <= row.published_at) {
        let words = format!(
            "Edition {} is confirmed from a sign-in made under it: sign out, sign in to the console again, and confirm there.",
            row.number
        );
        return Err(conflict(&words));
    }
    let act = who.act(&app, "confirm", json!({"edition": row.number}));
    if !app.store.confirm(row.number, &who.name, act).await? {
        return Err(conflict("Another edition is live by now, or it was confirmed just before."));
    }
    app.confirmed(row.number);
    let row = app.store.edition(row.number).await?.ok_or_else(|| conflict("The edition is gone."))?;
    Ok(Json(whole(&app, &who, row).await?))
}
