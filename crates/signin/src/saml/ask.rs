//! Sending somebody to a SAML provider.

use axum::response::IntoResponse;
use passeur_core::site::{Provider, Site};
use passeur_core::step;
use passeur_core::step::Step;
use passeur_engine::attempt::Attempt;
use passeur_engine::providers::saml::{InUse, SamlLink};
use passeur_http::cookies;
use passeur_protocols::saml::binding::{Message, form_value, redirect as by_redirect};
use passeur_protocols::saml::request::Request;
use passeur_protocols::saml::write::signed_message;

use super::{flow_cookie, relay_state, request_id, tab};
use crate::journey::flow::{Leg, Saml};
use crate::journey::{Asked, Desk, Done, Journey, Manner, OnTheWay, Why};
use crate::pages::{self, redirect};
use crate::{Visit, browser_binding};

/// The longest flow in a cookie: browsers take 4,096 bytes with the name.
const COOKIE_MAX: usize = 3_800;
/// The most flows that one browser holds: each open tab that waits for the provider has one.
const FLOWS_MAX: usize = 6;

/// The step that says where a person was sent, and with what.
pub fn sent_step(site: &Site, link: &SamlLink, leg: &Leg<Saml>) -> Step {
    let (p, nonce, manner) = (&link.provider, leg.nonce.as_str(), &leg.manner);
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
    step!(SentToProvider { provider: p.name.as_str(), endpoint: leg.by.endpoint.as_str(), parameters, redirect_uri: consumer })
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
                    step!(MetadataKept {
                        provider: link.provider.name.as_str(),
                        how: how.as_str(),
                        since: found.known.read_at.format("%Y-%m-%d %H:%M:%S UTC").to_string()
                    })
                });
            }
            Some(found)
        }
        Err(e) => {
            attempt.step(|| {
                step!(MetadataFailed {
                    provider: link.provider.name.as_str(),
                    address: link.address().unwrap_or_default(),
                    how: e.to_string()
                })
            });
            None
        }
    }
}

/// Sends the browser to the provider.
pub async fn to_provider<'a>(mut journey: Journey<'a, Asked>, link: &SamlLink, manner: Manner) -> Done<'a> {
    let Desk { engine, visit, .. } = journey.desk;
    let site = journey.site();
    let name = link.provider.name.as_str();
    let Some(found) = party(link, &mut journey.attempt).await else { return Err(journey.stop(Why::NOT_SENT)) };
    let Some(endpoint) = link.choose(&found.known.party.sign_on) else { return Err(journey.stop(Why::NOT_SENT)) };
    let signs = link.trust.sign_requests || found.known.party.wants_signed;
    if signs && link.own.signer().is_none() {
        journey.step(|| step!(RequestUnsigned { provider: name }));
        return Err(journey.stop(Why::NOT_SENT));
    }
    let (browser, set) = browser_binding(engine, &visit.headers, &site.address, "flow");
    let by = Saml { provider: name.to_owned(), endpoint: endpoint.location.clone() };
    let (mut journey, sealed) = journey.send(by, &browser, manner, COOKIE_MAX);
    let state = relay_state(engine, &journey.state.0);
    let step = sent_step(site, link, &journey.state.0);
    journey.step(|| step);
    let carried = message(&mut journey, link, endpoint.is_redirect(), signs, &state).await;
    let (journey, carried) = journey.go_on_with(carried)?;
    let Some(text) = carried else { return Err(journey.stop(Why::NOT_SENT)) };
    let mut response = if endpoint.is_redirect() {
        redirect(&text, None)
    } else {
        let fields = [("SAMLRequest", form_value(&text)), ("RelayState", state)];
        pages::post_on(site, visit.facts.lang, &link.provider.title, &endpoint.location, &fields).into_response()
    };
    let (cookie, secure) = flow_cookie(site, tab(&journey.state.0.nonce));
    let within = link.provider.answer_within.num_seconds() + 300;
    pages::set_cookie(&mut response, &cookies::set(&cookie, &sealed, secure, Some(within)));
    for old in surplus(site, visit) {
        pages::set_cookie(&mut response, &cookies::set(&old, "", secure, Some(0)));
    }
    if let Some(set) = set {
        pages::set_cookie(&mut response, &set);
    }
    journey.waits(name);
    Ok(response)
}

/// The request as it goes to the provider: an address with it, or a document for a form. None where it cannot be written.
async fn message(
    journey: &mut Journey<'_, OnTheWay<Saml>>,
    link: &SamlLink,
    by_address: bool,
    signs: bool,
    state: &str,
) -> Result<Option<String>, Why> {
    let leg = &journey.state.0;
    let (id, consumer) = (request_id(&leg.nonce), journey.desk.site().consumer_uri(&leg.by.provider));
    let request = Request {
        id: &id,
        destination: &leg.by.endpoint,
        consumer: &consumer,
        issuer: &link.own.entity_id,
        now: journey.desk.engine.now(),
        anew: leg.manner.anew,
        passive: false,
        contexts: contexts(&link.provider, &leg.manner),
        format: link.trust.name_id.as_deref(),
    };
    let xml = request.xml();
    match (signs, by_address) {
        (false, true) => Ok(by_redirect(&leg.by.endpoint, Message::Request, &xml, Some(state), None)),
        (false, false) => Ok(Some(xml)),
        // A signature costs more than all the rest of it.
        (true, _) => {
            let (own, to, state) = (link.own.clone(), leg.by.endpoint.clone(), state.to_owned());
            let sign = move || match by_address {
                true => by_redirect(&to, Message::Request, &xml, Some(&state), own.signer()),
                false => signed_message(&xml, &id, own.signer()?),
            };
            journey.compute(sign).await
        }
    }
}

/// Cookies of flows that make room: a browser that never comes back would send ever more of them.
fn surplus(site: &Site, visit: &Visit) -> Vec<String> {
    let (prefix, _) = flow_cookie(site, "");
    let mut all: Vec<String> = cookies::names(&visit.headers).filter(|n| n.starts_with(&prefix)).map(str::to_owned).collect();
    all.truncate((all.len() + 1).saturating_sub(FLOWS_MAX));
    all
}
