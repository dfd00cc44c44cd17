//! What answers of every protocol have in common: the flow they belong to, and how an attempt that failed ends.

use axum::response::{IntoResponse, Response};
use chrono::{DateTime, Duration, Utc};
use http::StatusCode;
use passeur_core::address::neighbourhood;
use passeur_core::crossing::Outcome;
use passeur_core::site::Site;
use passeur_core::step::{Step, StepCode};
use passeur_engine::attempt::Attempt;
use passeur_live::edition::Edition;
use passeur_store::StoreError;

use super::ask::{Ask, Flow, Purposed};
use super::{Visit, choose, start, trial};
use crate::pages;
use passeur_engine::Engine;

/// An attempt that ended with this outcome; its last step says why.
pub struct Ended {
    pub outcome: Outcome,
    pub status: StatusCode,
}

pub fn ended(outcome: Outcome, status: StatusCode) -> Ended {
    Ended { outcome, status }
}

pub fn failed_check() -> Ended {
    ended(Outcome::CheckFailed, StatusCode::FORBIDDEN)
}

/// The attempt of a flow, with the steps that came before told again.
pub async fn resume(engine: &Engine, edition: &Edition, visit: &Visit, flow: &Flow, sent: Option<Step>) -> Option<Attempt> {
    let began = DateTime::from_timestamp_millis(flow.began)?;
    let (gate, target, mut steps) = match &flow.to {
        Purposed::Gate(ask) => (ask.gate.as_str(), ask.target.as_str(), start::first_steps(&edition.site, ask, visit)),
        Purposed::Console | Purposed::ConsoleFresh => ("console", "/console/", vec![]),
        Purposed::Quay => ("quay", "/", vec![]),
        Purposed::Device { .. } => ("console", "/.passeur/device", vec![]),
        Purposed::Tokens => ("quay", "/.passeur/tokens", vec![]),
        Purposed::Factors => ("quay", "/.passeur/factors", vec![]),
        Purposed::Unasked { gate, .. } => (gate.as_str(), "/", vec![]),
        Purposed::Trial { by, source, .. } => ("trial", "/", vec![trial::first_step(by, &flow.provider, source)]),
    };
    if let Purposed::Gate(ask) = &flow.to {
        retell(engine, ask, &mut steps).await;
    }
    if !steps.iter().any(|s| s.code == StepCode::SharedNetwork) {
        steps.extend(shared(&edition.site, visit));
    }
    steps.extend(flow.manner.routed.iter().flat_map(|r| r.steps(edition, &flow.to)));
    // What was recorded may end with it already.
    if let Some(mut sent) = sent.filter(|s| steps.last().is_none_or(|l| l.code != s.code)) {
        sent.at = (flow.sent - flow.began).clamp(0, i64::from(u32::MAX)) as u32;
        steps.push(sent);
    }
    let mut attempt = Attempt::resume(engine, gate, &visit.facts, flow.crossing, began);
    attempt.preface("GET", target, steps);
    attempt.provider = Some(flow.provider.clone());
    attempt.another = choose::another(engine, &edition.site, &flow.to);
    if matches!(flow.to, Purposed::Trial { .. }) {
        attempt.keep_raw();
    }
    Some(attempt)
}

/// Says so where people share the machine.
pub fn shared(site: &Site, visit: &Visit) -> Option<Step> {
    let network = site.network_of(visit.facts.address).filter(|n| n.shared)?;
    Some(Step::new(StepCode::SharedNetwork).with("network", network.name.as_str()))
}

/// Writes what was told so far before somebody who is known is sent to be asked for more, so that it is told when they come
/// back: see [`retell`].
///
/// # Errors
/// When it cannot be written: nobody is sent anywhere then.
pub async fn note_before_asking(attempt: &mut Attempt, ask: &mut Ask, what: &str) -> Result<(), StoreError> {
    ask.asked.push(what.to_owned());
    attempt.record(Outcome::Waiting).await?;
    // A page that was loaded again is another crossing.
    ask.crossing = attempt.id;
    Ok(())
}

/// Puts what was recorded of a crossing in the place of its first steps, where it goes on after more was asked for.
pub async fn retell(engine: &Engine, ask: &Ask, steps: &mut Vec<Step>) {
    if ask.asked.is_empty() {
        return;
    }
    // What cannot be read is not told again: the crossing then begins with its first steps.
    if let Ok(Some((_, told, _))) = engine.store.crossing(ask.crossing).await
        && let Ok(told) = serde_json::from_value(told)
    {
        *steps = told;
    }
}

/// Records an attempt that ended and shows why.
pub async fn refuse(edition: &Edition, mut attempt: Attempt, end: Ended) -> Response {
    match attempt.record_ended(end.outcome).await {
        Ok(id) => {
            let refused = pages::Refused::of_step(&attempt, id, None);
            pages::refused(&edition.site, attempt.lang, end.status, &refused).into_response()
        }
        Err(e) => pages::store_failed(&edition.site, attempt.lang, &e).into_response(),
    }
}

/// State: same browser, not too old.
pub fn check_open(
    engine: &Engine,
    edition: &Edition,
    attempt: &mut Attempt,
    visit: &Visit,
    flow: &Flow,
    limit: Duration,
) -> Result<(), Ended> {
    if !visit.holds(&edition.site.address, "flow", flow.browser.as_bytes()) {
        attempt.step(|| Step::new(StepCode::StateOtherBrowser));
        // The crossing belongs to the browser that was sent; this is another attempt.
        attempt.apart();
        return Err(failed_check());
    }
    let age = engine.now().timestamp_millis() - flow.sent;
    if age > limit.num_milliseconds() {
        let minutes = limit.num_minutes();
        attempt.step(|| Step::new(StepCode::StateTooOld).with("minutes", age / 60_000).with("limit", minutes));
        return Err(failed_check());
    }
    Ok(())
}

/// The same, and not used before: from now on it is.
pub async fn check_flow(
    engine: &Engine,
    edition: &Edition,
    attempt: &mut Attempt,
    visit: &Visit,
    flow: &Flow,
    limit: Duration,
) -> Result<(), Ended> {
    check_open(engine, edition, attempt, visit, flow, limit)?;
    match use_up(engine, attempt, flow, limit).await {
        Ok(true) => {
            let sent = DateTime::from_timestamp_millis(flow.sent).unwrap_or_else(|| engine.now());
            engine.recorder.flow(&flow.provider, sent, 0, 1);
            Ok(())
        }
        Ok(false) => Err(failed_check()),
        Err(e) => {
            attempt.step(|| Step::new(StepCode::StoreFailed).with("how", e.to_string()));
            Err(ended(Outcome::Failed, StatusCode::SERVICE_UNAVAILABLE))
        }
    }
}

/// Where the person was to prove anew who they are: whether the proof is of after they were sent, to the second in which providers tell
/// it. What a provider does not say counts as old, or the next person on a machine would be let in as the last; clocks that differ are
/// not made up for. Whether others use the machine is looked at once more: the answer may come from another network than the request.
pub fn check_afresh(
    site: &Site,
    attempt: &mut Attempt,
    flow: &Flow,
    proven: Option<DateTime<Utc>>,
    issued: Option<DateTime<Utc>>,
) -> Result<(), Ended> {
    let sent = flow.sent.div_euclid(1000);
    if !(flow.manner.anew || site.is_shared(attempt.address)) || proven.is_some_and(|p| p.timestamp() >= sent) {
        return Ok(());
    }
    let show = |t: DateTime<Utc>| t.format("%Y-%m-%d %H:%M:%S UTC").to_string();
    let seen = proven.map_or_else(|| "a time that it does not say".to_owned(), show);
    // What was made in answer to us cannot be older than our asking, by one clock.
    let behind = issued.map_or(0, |i| sent - i.timestamp()).max(0);
    attempt.step(|| {
        Step::new(StepCode::NotAfresh)
            .with("provider", flow.provider.as_str())
            .with("seen", seen)
            .with("sent", DateTime::from_timestamp(sent, 0).map(show).unwrap_or_default())
            .with("behind", behind)
    });
    Err(failed_check())
}

/// Uses a flow up. False where it was before, or where too many of that network are kept: that is told, as an attempt of its own.
pub async fn use_up(engine: &Engine, attempt: &mut Attempt, flow: &Flow, limit: Duration) -> Result<bool, StoreError> {
    let until = engine.now() + limit + Duration::minutes(5);
    let network = neighbourhood(attempt.address).to_string();
    let first = engine.store.use_flow(&flow.id(), until, (&network, engine.now())).await?;
    match first {
        Ok(true) => {}
        Ok(false) => attempt.step(|| Step::new(StepCode::StateReplayed)),
        Err(limit) => attempt.step(|| Step::new(StepCode::FlowsFull).with("limit", limit)),
    }
    let first = first == Ok(true);
    if !first {
        attempt.apart();
    }
    Ok(first)
}

/// Computes what somebody who has proved nothing can ask for: see [`passeur_engine::workers`]. Where it is not computed, that is told.
pub async fn compute<T: Send + 'static>(
    engine: &Engine,
    attempt: &mut Attempt,
    task: impl FnOnce() -> T + Send + 'static,
) -> Result<T, Ended> {
    engine.workers.run(attempt.address, task).await.map_err(|_| {
        attempt.step(|| Step::new(StepCode::Overloaded));
        ended(Outcome::Failed, StatusCode::SERVICE_UNAVAILABLE)
    })
}
