//! Crossings: the list, and the story of one.

use axum::extract::State;
use chrono::{DateTime, Duration, Utc};
use http::StatusCode;
use passeur_api::{Crossing, CrossingLine, CrossingList, Problem, Step as ApiStep};
use passeur_core::crossing::{Outcome, deciding};
use passeur_core::id::CrossingId;
use passeur_core::likeness::is_address;
use passeur_core::role::Role;
use passeur_core::site::Place;
use passeur_core::step;
use passeur_core::step::{Bearing, Lang, Step, StepCode, remedy, sentence};
use passeur_store::{Cursor, Filter, RecordedCrossing};
use serde::Deserialize;
use utoipa::IntoParams;

use super::auth::Engineer;
use super::errors::{ApiError, bad, problem};
use super::extract::{Json, Path, Query};
use crate::app::App;

/// How far back stories and evidence are looked through where no time is given.
const READ_DAYS: i64 = 7;

/// Which crossings.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ListQuery {
    /// The gate's name; `console`, `quay`, `sign-in` and `trial` are places of our own, and a gate called so is `gate/NAME`.
    gate: Option<String>,
    /// Part of a name or subject, or a whole mail address.
    person: Option<String>,
    /// An address, or a network such as 10.20.0.0/16.
    address: Option<String>,
    /// The way in that was taken: a provider, or one of our own.
    way: Option<String>,
    /// A rule that matched, refused or asked for more.
    rule: Option<String>,
    /// Outcomes, separated by commas.
    outcome: Option<String>,
    /// Not before this moment; with a mail address, a way in or a rule, seven days back unless said.
    since: Option<DateTime<Utc>>,
    /// Before this moment.
    until: Option<DateTime<Utc>>,
    /// `next` of the page before.
    before: Option<String>,
    /// Only what was recorded after this moment, for following live.
    recorded_after: Option<DateTime<Utc>>,
    /// At most so many, 1 to 1000; 50 unless said.
    limit: Option<i64>,
}

fn cursor(text: &str) -> Result<Cursor, ApiError> {
    let wrong = || bad("before is not a cursor of an earlier page");
    let (micros, id) = text.split_once('~').ok_or_else(wrong)?;
    let at = micros.parse().ok().and_then(DateTime::from_timestamp_micros).ok_or_else(wrong)?;
    Ok(Cursor { at, id: id.parse::<CrossingId>().map_err(|_| wrong())?.to_string() })
}

/// An address or network, as the store compares it.
fn network(text: &str) -> Result<String, ApiError> {
    let network = passeur_core::address::network(text.trim());
    let network = network.ok_or_else(|| bad("address is an IP address, or a network such as 10.20.0.0/16 or 2001:db8::/48"))?;
    Ok(network.to_string())
}

/// How long a flow may be unanswered: the longest limit of any provider.
fn overdue_after(app: &App) -> Duration {
    let live = app.live.get();
    let longest = live.iter().flat_map(|e| e.site.providers.iter().map(|p| p.answer_within)).max();
    longest.unwrap_or_else(|| Duration::minutes(15))
}

/// Lists crossings, latest first.
#[utoipa::path(get, operation_id = "crossings", path = "/crossings", params(ListQuery),
    responses((status = 200, body = CrossingList), (status = 400, body = Problem), (status = 404, body = Problem)))]
pub async fn list(State(app): State<App>, who: Engineer, Query(q): Query<ListQuery>) -> Result<Json<CrossingList>, ApiError> {
    who.may(Role::View)?;
    let limit = q.limit.unwrap_or(50);
    if !(1..=1_000).contains(&limit) {
        return Err(bad("limit is a number from 1 to 1000"));
    }
    let limit_of_flows = overdue_after(&app);
    let overdue = app.now() - limit_of_flows;
    let mut outcomes = vec![];
    let (mut lost, mut waiting) = (false, false);
    for word in q.outcome.as_deref().unwrap_or_default().split(',').filter(|w| !w.is_empty()) {
        let known = passeur_core::crossing::OUTCOMES.iter().map(|o| o.code()).collect::<Vec<_>>().join(", ");
        let outcome = Outcome::parse(word).ok_or_else(|| bad(&format!("\"{word}\" is no outcome; there are: {known}")))?;
        // Both are stored as waiting: time makes the difference.
        lost |= outcome == Outcome::NeverCameBack;
        waiting |= outcome == Outcome::Waiting;
        outcomes.push(if outcome == Outcome::NeverCameBack { Outcome::Waiting } else { outcome }.code().to_owned());
    }
    // What stands inside stories and evidence is read row by row: without a time that is asked for, not further back than this.
    let reads_all = q.rule.is_some() || q.way.is_some() || q.person.as_deref().is_some_and(is_address);
    let since = q.since.or_else(|| reads_all.then(|| app.now() - Duration::days(READ_DAYS)));
    let filter = Filter {
        gate: q.gate.map(|g| Place::parse(&g).to_string()),
        person: q.person,
        address: q.address.as_deref().map(network).transpose()?,
        way: q.way,
        rule: q.rule,
        outcomes,
        waiting_before: (lost && !waiting).then_some(overdue),
        waiting_since: (waiting && !lost).then_some(overdue),
        since,
        until: q.until,
        before: q.before.as_deref().map(cursor).transpose()?,
        ended_after: q.recorded_after,
        limit,
    };
    let rows = app.store.crossings(&filter).await?;
    if rows.is_empty()
        && let Some(gate) = &filter.gate
    {
        known_gate(&app, gate).await?;
    }
    let next =
        (rows.len() as i64 == limit).then(|| rows.last().map(|r| format!("{}~{}", r.at.timestamp_micros(), r.id))).flatten();
    let unrecorded = app.store.unrecorded(app.now() - Duration::hours(24)).await?;
    let crossings = rows.into_iter().map(|r| line(r, who.lang, overdue, limit_of_flows)).collect();
    Ok(Json(CrossingList { crossings, next, unrecorded }))
}

/// Whether there is such a gate, or was one whose crossings are kept: a slip in a name is not "no crossing".
async fn known_gate(app: &App, gate: &str) -> Result<(), ApiError> {
    let live = app.live.get();
    let names: Vec<String> = live.iter().flat_map(|e| &e.site.gates).map(|g| g.place().to_string()).collect();
    if names.iter().any(|n| n == gate) || Place::parse(gate).as_gate().is_none() {
        return Ok(());
    }
    let ever = Filter { gate: Some(gate.to_owned()), limit: 1, ..Filter::default() };
    if !app.store.crossings(&ever).await?.is_empty() {
        return Ok(());
    }
    let words = format!("There is no gate \"{gate}\", and no crossing of one is kept. There are: {}.", names.join(", "));
    Err(problem(StatusCode::NOT_FOUND, "no-gate", "No such gate", &words))
}

fn outcome_of(row: &RecordedCrossing, overdue: DateTime<Utc>) -> Outcome {
    match Outcome::parse(&row.outcome).unwrap_or(Outcome::Failed) {
        Outcome::Waiting if row.at < overdue => Outcome::NeverCameBack,
        o => o,
    }
}

fn line(row: RecordedCrossing, lang: Lang, overdue: DateTime<Utc>, limit: Duration) -> CrossingLine {
    let outcome = outcome_of(&row, overdue);
    let step: Option<Step> = row.deciding.clone().and_then(|d| serde_json::from_value(d).ok());
    let (code, why) = match &step {
        Some(s) if outcome == Outcome::NeverCameBack => {
            let never = never_came_back(s, &row, limit);
            (Some(never.code.spec().code.to_owned()), sentence(&never, lang))
        }
        Some(s) => (Some(s.code.spec().code.to_owned()), sentence(s, lang)),
        None => (None, String::new()),
    };
    CrossingLine {
        id: row.id,
        at: row.at,
        gate: row.gate,
        outcome: outcome.into(),
        outcome_words: outcome.words(lang).to_owned(),
        person: row.person,
        provider: row.provider,
        subject: row.subject,
        address: row.address,
        method: row.method,
        target: row.target,
        why,
        code,
        edition: row.edition,
        repeats: row.repeats,
        requests: row.requests,
        bytes_in: row.bytes_in,
        bytes_out: row.bytes_out,
    }
}

/// The step that time adds to a flow nobody came back from.
fn never_came_back(sent: &Step, row: &RecordedCrossing, limit: Duration) -> Step {
    let redirect = sent.params.get("redirect_uri").cloned().unwrap_or_else(|| "—".into());
    step!(NeverCameBack {
        provider: row.provider.clone().unwrap_or_default(),
        redirect_uri: redirect,
        minutes: limit.num_minutes()
    })
}

/// The whole story of a crossing.
#[utoipa::path(get, operation_id = "crossing", path = "/crossings/{id}", params(("id" = String, Path, description = "The short id, in any case, with or without hyphens")),
    responses((status = 200, body = Crossing), (status = 404, body = Problem)))]
pub async fn one(State(app): State<App>, who: Engineer, Path(id): Path<String>) -> Result<Json<Crossing>, ApiError> {
    who.may(Role::View)?;
    let id: CrossingId = id.parse().map_err(|e: passeur_core::id::NotAnId| bad(&e.to_string()))?;
    let none = || {
        let detail = format!(
            "There is no crossing {id}. Attempts like many others in the same minute are counted on the first; crossings are dropped by age."
        );
        problem(StatusCode::NOT_FOUND, "no-crossing", "No such crossing", &detail)
    };
    Ok(Json(whole(&app, id, who.lang).await?.ok_or_else(none)?))
}

/// A crossing with its steps; none where there is none of that id.
pub async fn whole(app: &App, id: CrossingId, lang: Lang) -> Result<Option<Crossing>, ApiError> {
    let Some((row, steps, evidence)) = app.store.crossing(id).await? else { return Ok(None) };
    let mut steps: Vec<Step> = serde_json::from_value(steps).unwrap_or_default();
    let limit = overdue_after(app);
    let overdue = app.now() - limit;
    if outcome_of(&row, overdue) == Outcome::NeverCameBack
        && let Some(sent) = steps.iter().rfind(|s| s.code == StepCode::SentToProvider)
    {
        let mut step = never_came_back(sent, &row, limit);
        step.at = limit.num_milliseconds().clamp(0, i64::from(u32::MAX)) as u32;
        steps.push(step);
    }
    let decided = deciding(&steps);
    let shown = steps.iter().enumerate().map(|(i, s)| show(i, s, decided == Some(i), lang)).collect();
    Ok(Some(Crossing {
        node: row.node.clone(),
        ended_at: row.ended_at,
        session: row.session_id,
        steps: shown,
        evidence,
        line: line(row, lang, overdue, limit),
    }))
}

/// A step as the API tells it.
pub fn show(i: usize, step: &Step, decided: bool, lang: Lang) -> ApiStep {
    let spec = step.code.spec();
    ApiStep {
        number: i + 1,
        at_ms: step.at,
        stage: spec.stage.into(),
        code: spec.code.to_owned(),
        bearing: spec.bearing.into(),
        decided,
        sentence: sentence(step, lang),
        remedy: if spec.bearing == Bearing::Stop { remedy(step, lang) } else { None },
        params: serde_json::to_value(&step.params).unwrap_or_default(),
    }
}
