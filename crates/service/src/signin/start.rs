//! The beginning: a live session is used, or the browser is sent to the provider.

use axum::extract::State;
use axum::response::{IntoResponse, Response};
use http::StatusCode;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::Evidence;
use passeur_core::id::hex;
use passeur_core::site::Site;
use passeur_core::step::{Lang, Param, Step, StepCode};
use passeur_gateway::cookies::{self, Found};
use passeur_gateway::shared::Edition;
use passeur_protocols::oidc::{AuthorizationRequest, Binding, Pkce};

use super::ask::{Ask, Flow, Purposed, SEALED_MAX, cookie_digest};
use super::{LiveEdition, Visit, browser_binding, enter, flow, saml, session, trial};
use crate::app::{App, random};
use crate::attempt::Attempt;
use crate::pages::{self, redirect};
use crate::providers::ProviderLink;
use crate::providers::oidc::OidcLink;

/// `GET /.passeur/sign-in?ask=…` from a gate, or `?for=console` and `?for=quay`.
pub async fn sign_in(State(app): State<App>, edition: Option<LiveEdition>, visit: Visit) -> Response {
    let Some(LiveEdition(edition)) = edition else {
        return pages::not_set_up(visit.facts.lang).into_response();
    };
    if let Some(token) = visit.parameter("trial") {
        return begin_trial(&app, &edition, &visit, token).await;
    }
    let to = match (visit.parameter("ask"), visit.parameter("for").as_deref()) {
        (Some(text), _) => match Ask::open(&app, &text) {
            Some(ask) => Purposed::Gate(ask),
            None => return ask_unreadable(&app, &edition, &visit),
        },
        (None, Some("console")) => Purposed::Console,
        _ => Purposed::Quay,
    };
    let (mut attempt, provider) = match attempt_for(&app, &edition, &visit, &to) {
        Some(pair) => pair,
        None => return ask_unreadable(&app, &edition, &visit),
    };
    let found = match session::of_browser(&app, &edition, &visit.headers).await {
        Ok(found) => found,
        Err(e) => return pages::store_failed(&edition.site, visit.facts.lang, &e).into_response(),
    };
    match found {
        Some(s) if serves(&edition.site, &to, &s.evidence, &provider) && visit.parameter("afresh").is_none() => {
            let since = s.row.began.format("%Y-%m-%d %H:%M UTC").to_string();
            let name = s.row.name.clone();
            attempt.step(|| Step::new(StepCode::SessionUsed).with("person", name).with("since", since));
            enter::go_on(&app, &edition, attempt, &visit, s, to).await
        }
        _ => to_provider(&app, &edition, attempt, &visit, provider, to, false).await,
    }
}

/// `GET /.passeur/sign-in?trial=…`: no session is looked at, and none begins.
async fn begin_trial(app: &App, edition: &Edition, visit: &Visit, token: String) -> Response {
    match trial::find(app, &token).await {
        Ok(Some((_, row))) if row.result.is_none() => {
            let mut attempt = Attempt::begin(app, "trial", &visit.facts);
            attempt.step(|| trial::first_step(&row.begun_by, &row.provider, &row.source));
            let to = Purposed::Trial { token, by: row.begun_by, source: row.source };
            to_provider(app, edition, attempt, visit, row.provider, to, false).await
        }
        Ok(_) => pages::trial_over(&edition.site, visit.facts.lang, StatusCode::GONE).into_response(),
        Err(e) => pages::store_failed(&edition.site, visit.facts.lang, &e).into_response(),
    }
}

/// Whether a session will do for what is asked: of the provider wanted, and begun here unless the gate takes others.
fn serves(site: &Site, to: &Purposed, evidence: &Evidence, provider: &str) -> bool {
    let takes_unasked = match to {
        Purposed::Gate(ask) => site.gate(&ask.gate).is_some_and(|g| g.access.unasked),
        Purposed::Quay | Purposed::Unasked { .. } => true,
        Purposed::Console | Purposed::Trial { .. } => false,
    };
    evidence.provider == provider && (takes_unasked || !evidence.unasked)
}

fn attempt_for(app: &App, edition: &Edition, visit: &Visit, to: &Purposed) -> Option<(Attempt, String)> {
    match to {
        Purposed::Gate(ask) => {
            let gate = edition.site.gate(&ask.gate)?;
            let mut attempt = Attempt::resume(app, &ask.gate, &visit.facts, ask.crossing, ask.began_at()?);
            attempt.preface("GET", &ask.target, first_steps(&edition.site, ask, visit));
            Some((attempt, gate.access.provider.clone()))
        }
        Purposed::Console => {
            let provider = edition.site.engineers.as_ref()?.provider.clone();
            Some((Attempt::begin(app, "console", &visit.facts), provider))
        }
        Purposed::Quay | Purposed::Unasked { .. } | Purposed::Trial { .. } => {
            Some((Attempt::begin(app, "quay", &visit.facts), edition.site.providers.first()?.name.clone()))
        }
    }
}

/// The steps that happened at the gate, told again from what it sealed.
pub fn first_steps(site: &Site, ask: &Ask, visit: &Visit) -> Vec<Step> {
    let mut facts = visit.facts.clone();
    facts.method = http::Method::GET;
    facts.target = ask.target.clone();
    let mut steps = vec![crate::attempt::arrived(&ask.gate, &facts)];
    if let Some(kept) = &ask.form {
        steps.push(Step::new(StepCode::FormKept).with("kept", Param::reason(kept)));
    }
    if ask.cut {
        steps.push(Step::new(StepCode::ReturnCut));
    }
    steps.push(Step::new(StepCode::NoSession).with("why", Param::reason(&ask.why)));
    steps.push(Step::new(StepCode::SentToSignIn).with("to", site.address.at("/.passeur/sign-in")));
    steps
}

fn ask_unreadable(app: &App, edition: &Edition, visit: &Visit) -> Response {
    let mut attempt = Attempt::begin(app, "sign-in", &visit.facts);
    attempt.step(|| Step::new(StepCode::AskUnreadable));
    let id = attempt.record_anonymous(Outcome::CheckFailed);
    pages::refused(&edition.site, visit.facts.lang, StatusCode::BAD_REQUEST, &pages::Refused::of_step(&attempt, id, None))
        .into_response()
}

/// The step that says where a person was sent, with every parameter decoded; those that only serve checks are masked.
pub fn sent_step(site: &Site, link: &OidcLink, endpoint: &str, lang: Lang, anew: bool) -> Step {
    let redirect_uri = site.redirect_uri(&link.provider.name);
    let request = authorization_request(link, &redirect_uri, lang, anew);
    Step::new(StepCode::SentToProvider)
        .with("provider", link.provider.name.as_str())
        .with("endpoint", endpoint)
        .with("parameters", request.told())
        .with("redirect_uri", redirect_uri.as_str())
}

/// What the provider is asked, but for what binds it to one browser.
fn authorization_request<'a>(link: &'a OidcLink, redirect_uri: &'a str, lang: Lang, anew: bool) -> AuthorizationRequest<'a> {
    AuthorizationRequest {
        client_id: &link.client.id,
        redirect_uri,
        scopes: &link.client.scopes,
        acr_values: &link.provider.acr_values,
        ui_locale: lang.tag(),
        anew,
        form_post: link.client.form_post,
    }
}

/// Sends the browser to the provider; afresh where its own session there must not be enough.
pub async fn to_provider(
    app: &App,
    edition: &Edition,
    mut attempt: Attempt,
    visit: &Visit,
    name: String,
    to: Purposed,
    afresh: bool,
) -> Response {
    let site = &edition.site;
    attempt.provider = Some(name.clone());
    // Who signed out here is not signed in again by the provider's own session without a word.
    let anew = afresh || cookies::find(&visit.headers, &site.address.cookie("left").0) != Found::None;
    let link = match trial::link_of(app, &to, &name).await {
        Ok(Some(ProviderLink::Saml(link))) => return saml::ask::to_provider(app, edition, attempt, visit, &link, to, anew).await,
        Ok(Some(ProviderLink::Oidc(link))) => link,
        Ok(None) => return pages::not_set_up(visit.facts.lang).into_response(),
        Err(e) => return pages::store_failed(site, visit.facts.lang, &e).into_response(),
    };
    let metadata = match link.metadata().await {
        Ok(m) => m,
        Err(e) => {
            attempt.step(|| {
                Step::new(StepCode::DiscoveryFailed)
                    .with("provider", name.as_str())
                    .with("issuer", link.provider.issuer.as_str())
                    .with("how", e.to_string())
            });
            if let Purposed::Trial { token, .. } = &to {
                let end = flow::ended(Outcome::Failed, StatusCode::BAD_GATEWAY);
                return trial::finish(app, edition, attempt, token, Err(end)).await;
            }
            let id = attempt.record_anonymous(Outcome::Failed);
            let refused = pages::Refused::of_step(&attempt, id, None);
            return pages::refused(site, visit.facts.lang, StatusCode::BAD_GATEWAY, &refused).into_response();
        }
    };
    let (browser, set) = browser_binding(app, &visit.headers, &site.address, "flow");
    let pkce = Pkce::from_random(random());
    let nonce = hex(&random::<16>());
    let now = app.now();
    let endpoint = metadata.authorization_endpoint.as_str();
    let mut flow = Flow {
        provider: name.clone(),
        nonce: nonce.clone(),
        verifier: pkce.verifier().to_owned(),
        browser: cookie_digest(&browser),
        to,
        crossing: attempt.id,
        began: attempt.began().timestamp_millis(),
        sent: now.timestamp_millis(),
        endpoint: endpoint.to_owned(),
        anew,
    };
    let state = flow.seal(app, SEALED_MAX);
    let redirect_uri = site.redirect_uri(&name);
    let request = authorization_request(&link, &redirect_uri, visit.facts.lang, anew);
    let url = request.url(&metadata, &Binding { state: &state, nonce: &nonce, pkce: &pkce });
    attempt.step(|| sent_step(site, &link, endpoint, visit.facts.lang, anew));
    attempt.record_waiting();
    app.recorder.flow(&name, now, 1, 0);
    redirect(url.as_str(), set.as_deref())
}
