//! What answers of every protocol have in common: the flow they belong to, and how an attempt that failed ends.

use axum::response::{IntoResponse, Response};
use chrono::{DateTime, Duration};
use http::StatusCode;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::Evidence;
use passeur_core::site::Provider;
use passeur_core::step::{Step, StepCode};
use passeur_gateway::shared::Edition;

use super::ask::{Flow, Purposed};
use super::{Visit, start, trial};
use crate::app::App;
use crate::attempt::Attempt;
use crate::pages;

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
pub fn resume(app: &App, edition: &Edition, visit: &Visit, flow: &Flow, mut sent: Step) -> Option<Attempt> {
    let began = DateTime::from_timestamp_millis(flow.began)?;
    let (gate, target, mut steps) = match &flow.to {
        Purposed::Gate(ask) => (ask.gate.as_str(), ask.target.as_str(), start::first_steps(&edition.site, ask, visit)),
        Purposed::Console => ("console", "/console/", vec![]),
        Purposed::Quay => ("quay", "/", vec![]),
        Purposed::Unasked { gate, .. } => (gate.as_str(), "/", vec![]),
        Purposed::Trial { by, source, .. } => ("trial", "/", vec![trial::first_step(by, &flow.provider, source)]),
    };
    sent.at = (flow.sent - flow.began).clamp(0, i64::from(u32::MAX)) as u32;
    steps.push(sent);
    let mut attempt = Attempt::resume(app, gate, &visit.facts, flow.crossing, began);
    attempt.preface("GET", target, steps);
    attempt.provider = Some(flow.provider.clone());
    if matches!(flow.to, Purposed::Trial { .. }) {
        attempt.keep_raw();
    }
    Some(attempt)
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

/// State: same browser, not too old, not used before.
pub async fn check_flow(
    app: &App,
    edition: &Edition,
    attempt: &mut Attempt,
    visit: &Visit,
    flow: &Flow,
    provider: &Provider,
) -> Result<(), Ended> {
    if !visit.holds(&edition.site.address, "flow", flow.browser.as_bytes()) {
        attempt.step(|| Step::new(StepCode::StateOtherBrowser));
        // The crossing belongs to the browser that was sent; this is another attempt.
        attempt.id = app.new_crossing();
        return Err(failed_check());
    }
    let age = app.now().timestamp_millis() - flow.sent;
    let limit = provider.answer_within;
    if age > limit.num_milliseconds() {
        let minutes = limit.num_minutes();
        attempt.step(|| Step::new(StepCode::StateTooOld).with("minutes", age / 60_000).with("limit", minutes));
        return Err(failed_check());
    }
    let until = app.now() + limit + Duration::minutes(5);
    match app.store.use_flow(&flow.id(), until).await {
        Ok(true) => {
            let sent = DateTime::from_timestamp_millis(flow.sent).unwrap_or_else(|| app.now());
            app.recorder.flow(&flow.provider, sent, 0, 1);
            Ok(())
        }
        Ok(false) => {
            attempt.step(|| Step::new(StepCode::StateReplayed));
            attempt.id = app.new_crossing();
            Err(failed_check())
        }
        Err(e) => {
            attempt.step(|| Step::new(StepCode::StoreFailed).with("how", e.to_string()));
            Err(ended(Outcome::Failed, StatusCode::SERVICE_UNAVAILABLE))
        }
    }
}

/// What to call the person on pages and in lists. Never a key.
pub fn display_name(evidence: &Evidence) -> String {
    // By OpenID Connect, by SAML with plain names, and by SAML with those of X.500 (displayName, cn).
    ["name", "preferred_username", "displayName", "urn:oid:2.16.840.1.113730.3.1.241", "cn", "urn:oid:2.5.4.3"]
        .into_iter()
        .find_map(|claim| passeur_core::identity::from_claims(evidence, claim).values().ok().and_then(|v| v.first().cloned()))
        .map(|n| passeur_core::text::shorten(&n, 120))
        .unwrap_or_else(|| evidence.subject.clone())
}
