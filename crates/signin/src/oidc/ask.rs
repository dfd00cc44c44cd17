//! Sending somebody to an OpenID Connect provider.

use passeur_core::site::Site;
use passeur_core::step;
use passeur_core::step::{Lang, Step};
use passeur_engine::providers::oidc::OidcLink;
use passeur_engine::random::random;
use passeur_protocols::oidc::{AuthorizationRequest, Binding, Pkce};

use crate::journey::flow::{Leg, Oidc, SEALED_MAX};
use crate::journey::{Asked, Desk, Done, Journey, Manner, Why};
use crate::pages::redirect;
use crate::{browser_binding, trial};

/// The step that says where a person was sent, with every parameter decoded; those that only serve checks are masked.
pub fn sent_step(site: &Site, link: &OidcLink, leg: &Leg<Oidc>, lang: Lang) -> Step {
    let redirect_uri = leg.by.redirect_uri(site);
    let request = authorization_request(link, &redirect_uri, lang, &leg.manner);
    step!(SentToProvider {
        provider: link.provider.name.as_str(),
        endpoint: leg.by.endpoint.as_str(),
        parameters: request.shown(),
        redirect_uri: redirect_uri.as_str()
    })
}

/// What the provider is asked, but for what binds it to one browser.
fn authorization_request<'a>(
    link: &'a OidcLink,
    redirect_uri: &'a str,
    lang: Lang,
    manner: &'a Manner,
) -> AuthorizationRequest<'a> {
    AuthorizationRequest {
        client_id: &link.client.id,
        redirect_uri,
        scopes: &link.client.scopes,
        acr_values: if manner.contexts.is_empty() { &link.provider.acr_values } else { &manner.contexts },
        // By it a provider must say when the person proved who they are (OpenID Connect Core 2).
        max_age: manner.anew.then_some(0),
        ui_locale: lang.tag(),
        anew: manner.anew,
        login_hint: manner.hint.as_deref(),
        form_post: link.client.form_post,
    }
}

/// Sends the browser to the provider.
pub async fn to_provider<'a>(mut journey: Journey<'a, Asked>, link: &OidcLink, manner: Manner) -> Done<'a> {
    let Desk { engine, visit, .. } = journey.desk;
    let site = journey.site();
    let name = link.provider.name.as_str();
    if !link.has_secret() {
        let step = trial::without_secret(engine, &journey.to, &link.provider).await;
        let (mut journey, step) = journey.go_on_with(step)?;
        journey.step(|| step);
        return Err(journey.stop(Why::NOT_SENT));
    }
    if let Some(why) = link.trouble() {
        journey.step(|| link.unusable(why));
        return Err(journey.stop(Why::NOT_SENT));
    }
    let metadata = match link.metadata().await {
        Ok(metadata) => metadata,
        Err(e) => {
            journey.step(|| undiscovered(link, &e));
            return Err(journey.stop(Why::NOT_SENT));
        }
    };
    let (browser, set) = browser_binding(engine, &visit.headers, &site.address, "flow");
    let pkce = Pkce::from_random(random());
    let by = Oidc {
        provider: name.to_owned(),
        verifier: pkce.verifier().to_owned(),
        endpoint: metadata.authorization_endpoint.to_string(),
        apart: trial::is_apart(engine, &journey.to, &link.provider.issuer, name),
    };
    let (mut journey, state) = journey.send(by, &browser, manner, SEALED_MAX);
    let leg = &journey.state.0;
    let redirect_uri = leg.by.redirect_uri(site);
    let request = authorization_request(link, &redirect_uri, visit.facts.lang, &leg.manner);
    let url = request.url(&metadata, &Binding { state: &state, nonce: &leg.nonce, pkce: &pkce });
    let step = sent_step(site, link, leg, visit.facts.lang);
    journey.step(|| step);
    journey.waits(name);
    Ok(redirect(url.as_str(), set.as_deref()))
}

/// The step of a provider whose discovery document cannot be had.
pub fn undiscovered(link: &OidcLink, how: &impl ToString) -> Step {
    step!(DiscoveryFailed { provider: link.provider.name.as_str(), issuer: link.provider.issuer.as_str(), how: how.to_string() })
}
