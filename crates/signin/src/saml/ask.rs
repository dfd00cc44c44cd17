//! Sending somebody to a SAML provider.

use axum::response::{IntoResponse, Response};
use http::StatusCode;
use passeur_core::crossing::Outcome;
use passeur_core::site::{Provider, Site};
use passeur_core::step::{Step, StepCode};
use passeur_engine::attempt::Attempt;
use passeur_engine::providers::saml::{InUse, SamlLink};
use passeur_http::cookies;
use passeur_live::edition::Edition;
use passeur_protocols::saml::binding::{Message, form_value, redirect as by_redirect};
use passeur_protocols::saml::request::Request;
use passeur_protocols::saml::write::signed_message;

use super::{flow_cookie, relay_state, request_id, tab};
use crate::ask::{Flow, Manner, Purposed};
use crate::flow::{self, ended, refuse};
use crate::pages::{self, redirect};
use crate::{Visit, browser_binding, trial};
use passeur_engine::Engine;

/// The longest flow in a cookie: browsers take 4,096 bytes with the name.
const COOKIE_MAX: usize = 3_800;
/// The most flows that one browser holds: each open tab that waits for the provider has one.
const FLOWS_MAX: usize = 6;

/// The step that says where a person was sent, and with what.
pub fn sent_step(site: &Site, link: &SamlLink, endpoint: &str, nonce: &str, manner: &Manner) -> Step {
    let p = &link.provider;
    let consumer = site.consumer_uri(&p.name);
    let mut parameters = vec![
        format!("AuthnRequest ID={}", request_id(nonce)),
        format!("Issuer={}", link.own.entity_id),
        format!("AssertionConsumerServiceURL={consumer}"),
        format!("RelayState={}… (ours)", tab(nonce)),
    ];
    parameters.extend(link.trust.name_id.iter().map(|f| format!("NameIDPolicy={f}")));
    let contexts = contexts(p, manner);
    parameters.extend((!contexts.is_empty()).then(|| format!("RequestedAuthnContext={}", contexts.join(" "))));
    parameters.extend(manner.anew.then(|| "ForceAuthn=true".to_owned()));
    Step::new(StepCode::SentToProvider)
        .with("provider", p.name.as_str())
        .with("endpoint", endpoint)
        .with("parameters", parameters)
        .with("redirect_uri", consumer)
}

/// Contexts that are asked for: what is missing, or else what the edition says.
fn contexts<'a>(provider: &'a Provider, manner: &'a Manner) -> &'a [String] {
    if manner.contexts.is_empty() { &provider.acr_values } else { &manner.contexts }
}

/// What is known of the provider, with the steps that tell of it; the outcome where nothing is.
pub async fn party(link: &SamlLink, attempt: &mut Attempt) -> Option<InUse> {
    match link.party().await {
        Ok(found) => {
            if let Some(how) = &found.kept {
                attempt.step(|| {
                    Step::new(StepCode::MetadataKept)
                        .with("provider", link.provider.name.as_str())
                        .with("how", how.as_str())
                        .with("since", found.known.read_at.format("%Y-%m-%d %H:%M:%S UTC").to_string())
                });
            }
            Some(found)
        }
        Err(e) => {
            attempt.step(|| {
                Step::new(StepCode::MetadataFailed)
                    .with("provider", link.provider.name.as_str())
                    .with("address", link.address().unwrap_or_default())
                    .with("how", e.to_string())
            });
            None
        }
    }
}

/// Sends the browser to the provider.
pub async fn to_provider(
    engine: &Engine,
    edition: &Edition,
    mut attempt: Attempt,
    visit: &Visit,
    link: &SamlLink,
    to: Purposed,
    manner: &Manner,
) -> Response {
    let site = &edition.site;
    let name = &link.provider.name;
    let Some(found) = party(link, &mut attempt).await else { return failed(engine, edition, attempt, &to).await };
    let Some(endpoint) = link.choose(&found.known.party.sign_on) else { return failed(engine, edition, attempt, &to).await };
    let own = &link.own;
    let wants = link.trust.sign_requests || found.known.party.wants_signed;
    let signer = own.signer().filter(|_| wants);
    if wants && signer.is_none() {
        attempt.step(|| Step::new(StepCode::RequestUnsigned).with("provider", name.as_str()));
        return failed(engine, edition, attempt, &to).await;
    }
    let (browser, set) = browser_binding(engine, &visit.headers, &site.address, "flow");
    let now = engine.now();
    let mut flow = Flow::begin(engine, &attempt, name, &browser, to, manner.clone());
    flow.endpoint = endpoint.location.clone();
    let sealed = flow.seal(engine, COOKIE_MAX);
    let consumer = site.consumer_uri(name);
    let id = request_id(&flow.nonce);
    let request = Request {
        id: &id,
        destination: &endpoint.location,
        consumer: &consumer,
        issuer: &own.entity_id,
        now,
        anew: manner.anew,
        passive: false,
        contexts: contexts(&link.provider, manner),
        format: link.trust.name_id.as_deref(),
    };
    let state = relay_state(engine, &flow);
    attempt.step(|| sent_step(site, link, &endpoint.location, &flow.nonce, manner));
    let xml = request.xml();
    let carried = match (signer, endpoint.is_redirect()) {
        (None, true) => by_redirect(&endpoint.location, Message::Request, &xml, Some(&state), None),
        (None, false) => Some(xml),
        // A signature costs more than all the rest of it.
        (Some(_), by_address) => {
            let (own, to, state, id) = (own.clone(), endpoint.location.clone(), state.clone(), id.clone());
            let sign = move || match by_address {
                true => by_redirect(&to, Message::Request, &xml, Some(&state), own.signer()),
                false => signed_message(&xml, &id, own.signer()?),
            };
            match flow::compute(engine, &mut attempt, sign).await {
                Ok(done) => done,
                Err(e) => return refuse(edition, attempt, e).await,
            }
        }
    };
    let sent = carried.map(|text| match endpoint.is_redirect() {
        true => redirect(&text, None),
        false => {
            let fields = [("SAMLRequest", form_value(&text)), ("RelayState", state.clone())];
            pages::post_on(site, visit.facts.lang, &link.provider.title, &endpoint.location, &fields).into_response()
        }
    });
    let Some(mut response) = sent else { return failed(engine, edition, attempt, &flow.to).await };
    let (cookie, secure) = flow_cookie(site, tab(&flow.nonce));
    let within = link.provider.answer_within.num_seconds() + 300;
    pages::set_cookie(&mut response, &cookies::set(&cookie, &sealed, secure, Some(within)));
    for old in surplus(site, visit) {
        pages::set_cookie(&mut response, &cookies::set(&old, "", secure, Some(0)));
    }
    if let Some(set) = set {
        pages::set_cookie(&mut response, &set);
    }
    attempt.record_waiting();
    engine.recorder.flow(name, now, 1, 0);
    response
}

/// Nobody could be sent: told to the person, or to whoever tries the provider.
async fn failed(engine: &Engine, edition: &Edition, attempt: Attempt, to: &Purposed) -> Response {
    if let Purposed::Trial { token, .. } = to {
        let end = ended(Outcome::Failed, StatusCode::BAD_GATEWAY);
        return trial::finish(engine, edition, attempt, token, Err(end)).await;
    }
    let id = attempt.record_anonymous(Outcome::Failed);
    let refused = pages::Refused::of_step(&attempt, id, None);
    pages::refused(&edition.site, attempt.lang, StatusCode::BAD_GATEWAY, &refused).into_response()
}

/// Cookies of flows that make room: a browser that never comes back would send ever more of them.
fn surplus(site: &Site, visit: &Visit) -> Vec<String> {
    let (prefix, _) = flow_cookie(site, "");
    let mut all: Vec<String> = cookies::names(&visit.headers).filter(|n| n.starts_with(&prefix)).map(str::to_owned).collect();
    all.truncate((all.len() + 1).saturating_sub(FLOWS_MAX));
    all
}
