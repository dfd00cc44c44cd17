//! The beginning: a live session is used, or the browser is sent to the provider.

use axum::extract::State;
use axum::response::{IntoResponse, Response};
use http::StatusCode;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::Evidence;
use passeur_core::site::Site;
use passeur_core::step::{Lang, Param, Step, StepCode};
use passeur_engine::attempt;
use passeur_engine::attempt::Attempt;
use passeur_engine::providers::ProviderLink;
use passeur_engine::providers::oidc::OidcLink;
use passeur_engine::random::random;
use passeur_engine::{sessions, tickets};
use passeur_http::cookies::{self, Found};
use passeur_live::edition::Edition;
use passeur_protocols::oidc::{AuthorizationRequest, Binding, Pkce};

use super::ask::{Ask, Flow, Manner, Purposed, SEALED_MAX};
use super::{LiveEdition, Visit, browser_binding, choose, enter, flow, fresh, local, route, saml, session, trial};
use crate::pages::{self, redirect};
use passeur_engine::Engine;

/// `GET /.passeur/sign-in?ask=…` from a gate, or `?for=console` and `?for=quay`.
pub async fn sign_in(State(engine): State<Engine>, edition: Option<LiveEdition>, visit: Visit) -> Response {
    let Some(LiveEdition(edition)) = edition else {
        return pages::not_set_up(visit.facts.lang).into_response();
    };
    if let Some(token) = visit.parameter("trial") {
        return begin_trial(&engine, &edition, &visit, token).await;
    }
    let to = match (visit.parameter("ask"), visit.parameter("for").as_deref()) {
        (Some(text), _) => match Ask::open(&engine, &text) {
            Some(ask) => Purposed::Gate(ask),
            None => return ask_unreadable(&engine, &edition, &visit),
        },
        (None, Some("console")) if visit.parameter("fresh").is_some() => Purposed::ConsoleFresh,
        (None, Some("console")) => Purposed::Console,
        (None, Some("factors")) => Purposed::Factors,
        (None, Some("tokens")) => Purposed::Tokens,
        (None, Some("device")) => {
            Purposed::Device { code: passeur_core::text::shorten(&visit.parameter("user_code").unwrap_or_default(), 40) }
        }
        _ => Purposed::Quay,
    };
    let Some(mut attempt) = attempt_for(&engine, &edition, &visit, &to).await else {
        return ask_unreadable(&engine, &edition, &visit);
    };
    let site = &edition.site;
    attempt.another = choose::another(&engine, site, &to);
    // Whoever names a way in, or asks for another, wants to sign in by that.
    let wanted = visit.parameter("way");
    let anew = ["another", "afresh", "fresh"].iter().any(|p| visit.parameter(p).is_some());
    let fresh = |s: &sessions::Session| !to.needs_fresh() || fresh::is_fresh(&s.evidence, engine.now());
    let keeps = |s: &sessions::Session| !anew && fresh(s) && wanted.as_deref().is_none_or(|way| way == s.evidence.way());
    let found = match session::of_browser(&engine, &edition, &visit.headers).await {
        Ok(found) => found,
        Err(e) => return pages::store_failed(&edition.site, visit.facts.lang, &e).into_response(),
    };
    let lost = |s: &sessions::Session| matches!(&to, Purposed::Gate(ask) if tickets::lost(&engine, site, &ask.gate, s));
    if let Some(s) = found.as_ref().filter(|s| keeps(s) && serves(site, &to, &s.evidence) && lost(s)) {
        attempt.step(|| Step::new(StepCode::TicketLost).with("person", s.row.name.as_str()));
        let way = s.evidence.way().to_owned();
        attempt.is_of(&s.row);
        let mut to = to;
        if let Purposed::Gate(ask) = &mut to
            && let Err(e) = flow::note_before_asking(&mut attempt, ask, "ticket").await
        {
            return pages::store_failed(site, visit.facts.lang, &e).into_response();
        }
        return by_way(&engine, &edition, attempt, &visit, way, to, Manner::default()).await;
    }
    match found {
        Some(s) if serves(site, &to, &s.evidence) && keeps(&s) => {
            let since = s.row.began.format("%Y-%m-%d %H:%M UTC").to_string();
            let name = s.row.name.clone();
            attempt.step(|| Step::new(StepCode::SessionUsed).with("person", name).with("since", since));
            enter::go_on(&engine, &edition, attempt, &visit, s, to).await
        }
        _ => {
            flow::shared(site, &visit).into_iter().for_each(|s| attempt.step(|| s));
            match route::next(&edition, &visit, &to, None) {
                route::Next::Way(way, manner) => {
                    route::tell(&mut attempt, &edition, &manner, &to);
                    by_way(&engine, &edition, attempt, &visit, way, to, *manner).await
                }
                route::Next::Ask(ways, steps) => {
                    steps.into_iter().for_each(|s| attempt.step(|| s));
                    choose::ask(&engine, site, attempt, &visit, &to, &ways)
                }
                route::Next::Name => route::ask_name(&engine, &edition, attempt, &visit, to),
                route::Next::Nothing => pages::not_set_up(visit.facts.lang).into_response(),
            }
        }
    }
}

/// On by a way in: to a provider, or to a form of ours.
pub async fn by_way(
    engine: &Engine,
    edition: &Edition,
    attempt: Attempt,
    visit: &Visit,
    name: String,
    to: Purposed,
    mut manner: Manner,
) -> Response {
    manner.anew |= to.needs_fresh();
    match edition.site.way(&name) {
        Some(way) => local::ask(engine, edition, attempt, visit, way, to, manner),
        None => to_provider(engine, edition, attempt, visit, name, to, manner).await,
    }
}

/// `GET /.passeur/sign-in?trial=…`: no session is looked at, and none begins.
async fn begin_trial(engine: &Engine, edition: &Edition, visit: &Visit, token: String) -> Response {
    match trial::find(engine, &token).await {
        Ok(Some((_, row))) if row.result.is_none() => {
            let mut attempt = Attempt::begin(engine, "trial", &visit.facts);
            attempt.step(|| trial::first_step(&row.begun_by, &row.provider, &row.source));
            let to = Purposed::Trial { token, by: row.begun_by, source: row.source };
            to_provider(engine, edition, attempt, visit, row.provider, to, Manner::default()).await
        }
        Ok(_) => pages::trial_over(&edition.site, visit.facts.lang, StatusCode::GONE).into_response(),
        Err(e) => pages::store_failed(&edition.site, visit.facts.lang, &e).into_response(),
    }
}

/// Whether a session will do for what is asked: by a way in that is taken there, and begun here unless the gate takes others.
fn serves(site: &Site, to: &Purposed, evidence: &Evidence) -> bool {
    let taken = match to {
        Purposed::Gate(ask) => site.gate(&ask.gate).is_some_and(|g| g.access.takes(site, evidence)),
        Purposed::Console | Purposed::ConsoleFresh | Purposed::Device { .. } => {
            site.engineers.as_ref().is_some_and(|a| a.takes(site, evidence))
        }
        Purposed::Quay | Purposed::Factors | Purposed::Tokens | Purposed::Unasked { .. } | Purposed::Trial { .. } => {
            site.knows(&evidence.provider, &evidence.person())
        }
    };
    let takes_unasked = match to {
        Purposed::Gate(ask) => site.gate(&ask.gate).is_some_and(|g| g.access.unasked),
        Purposed::Quay | Purposed::Unasked { .. } => true,
        _ => false,
    };
    taken && (takes_unasked || !evidence.unasked)
}

async fn attempt_for(engine: &Engine, edition: &Edition, visit: &Visit, to: &Purposed) -> Option<Attempt> {
    match to {
        Purposed::Gate(ask) => {
            edition.site.gate(&ask.gate)?;
            let mut attempt = Attempt::resume(engine, &ask.gate, &visit.facts, ask.crossing, ask.began_at()?);
            let mut steps = first_steps(&edition.site, ask, visit);
            flow::retell(engine, ask, &mut steps).await;
            attempt.preface("GET", &ask.target, steps);
            Some(attempt)
        }
        Purposed::Console | Purposed::ConsoleFresh | Purposed::Device { .. } => {
            edition.site.engineers.as_ref()?;
            Some(Attempt::begin(engine, "console", &visit.facts))
        }
        Purposed::Quay | Purposed::Factors | Purposed::Tokens | Purposed::Unasked { .. } | Purposed::Trial { .. } => {
            Some(Attempt::begin(engine, "quay", &visit.facts))
        }
    }
}

/// The steps that happened at the gate, told again from what it sealed.
pub fn first_steps(site: &Site, ask: &Ask, visit: &Visit) -> Vec<Step> {
    let mut facts = visit.facts.clone();
    facts.method = "GET".to_owned();
    facts.target = ask.target.clone();
    let mut steps = vec![attempt::arrived(&ask.gate, &facts)];
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

fn ask_unreadable(engine: &Engine, edition: &Edition, visit: &Visit) -> Response {
    let mut attempt = Attempt::begin(engine, "sign-in", &visit.facts);
    attempt.step(|| Step::new(StepCode::AskUnreadable));
    let id = attempt.record_anonymous(Outcome::CheckFailed);
    pages::refused(&edition.site, visit.facts.lang, StatusCode::BAD_REQUEST, &pages::Refused::of_step(&attempt, id, None))
        .into_response()
}

/// The step that says where a person was sent, with every parameter decoded; those that only serve checks are masked.
pub fn sent_step(site: &Site, link: &OidcLink, flow: &Flow, lang: Lang) -> Step {
    let redirect_uri = flow.redirect_uri(site);
    let request = authorization_request(link, &redirect_uri, lang, &flow.manner);
    Step::new(StepCode::SentToProvider)
        .with("provider", link.provider.name.as_str())
        .with("endpoint", flow.endpoint.as_str())
        .with("parameters", request.told())
        .with("redirect_uri", redirect_uri.as_str())
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

/// Whether somebody must prove anew who they are: who signed out here, or sits at a machine that others use, is not signed in by the
/// provider's own session without a word.
pub fn wants_anew(site: &Site, visit: &Visit) -> bool {
    cookies::find(&visit.headers, &site.address.cookie("left").0) != Found::None || site.is_shared(visit.facts.address)
}

/// Sends the browser to the provider; afresh where its own session there must not be enough.
async fn to_provider(
    engine: &Engine,
    edition: &Edition,
    mut attempt: Attempt,
    visit: &Visit,
    name: String,
    to: Purposed,
    mut manner: Manner,
) -> Response {
    let site = &edition.site;
    attempt.provider = Some(name.clone());
    manner.anew |= wants_anew(site, visit);
    let link = match trial::link_of(engine, &to, &name).await {
        Ok(Some(ProviderLink::Saml(link))) => {
            return saml::ask::to_provider(engine, edition, attempt, visit, &link, to, &manner).await;
        }
        Ok(Some(ProviderLink::Oidc(link))) => link,
        Ok(None) => return pages::not_set_up(visit.facts.lang).into_response(),
        Err(e) => return pages::store_failed(site, visit.facts.lang, &e).into_response(),
    };
    if !link.has_secret() {
        let step = match trial::without_secret(engine, &to, &link.provider).await {
            Ok(step) => step,
            Err(e) => return pages::store_failed(site, visit.facts.lang, &e).into_response(),
        };
        attempt.step(|| step);
        return not_sent(engine, edition, attempt, to).await;
    }
    if let Some(why) = link.trouble() {
        attempt.step(|| link.unusable(why));
        return not_sent(engine, edition, attempt, to).await;
    }
    let metadata = match link.metadata().await {
        Ok(m) => m,
        Err(e) => {
            attempt.step(|| {
                Step::new(StepCode::DiscoveryFailed)
                    .with("provider", name.as_str())
                    .with("issuer", link.provider.issuer.as_str())
                    .with("how", e.to_string())
            });
            return not_sent(engine, edition, attempt, to).await;
        }
    };
    let (browser, set) = browser_binding(engine, &visit.headers, &site.address, "flow");
    let pkce = Pkce::from_random(random());
    let now = engine.now();
    let apart = trial::is_apart(engine, &to, &link.provider.issuer, &name);
    let mut flow = Flow::begin(engine, &attempt, &name, &browser, to, manner);
    (flow.verifier, flow.endpoint) = (pkce.verifier().to_owned(), metadata.authorization_endpoint.to_string());
    flow.apart = apart;
    let state = flow.seal(engine, SEALED_MAX);
    let redirect_uri = flow.redirect_uri(site);
    let request = authorization_request(&link, &redirect_uri, visit.facts.lang, &flow.manner);
    let url = request.url(&metadata, &Binding { state: &state, nonce: &flow.nonce, pkce: &pkce });
    attempt.step(|| sent_step(site, &link, &flow, visit.facts.lang));
    attempt.record_waiting();
    engine.recorder.flow(&name, now, 1, 0);
    redirect(url.as_str(), set.as_deref())
}

/// Ends a way to a provider to which nobody can be sent.
async fn not_sent(engine: &Engine, edition: &Edition, attempt: Attempt, to: Purposed) -> Response {
    let lang = attempt.lang;
    if let Purposed::Trial { token, .. } = &to {
        let end = flow::ended(Outcome::Failed, StatusCode::BAD_GATEWAY);
        return trial::finish(engine, edition, attempt, token, Err(end)).await;
    }
    let id = attempt.record_anonymous(Outcome::Failed);
    let refused = pages::Refused::of_step(&attempt, id, None);
    pages::refused(&edition.site, lang, StatusCode::BAD_GATEWAY, &refused).into_response()
}
