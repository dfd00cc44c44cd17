//! A SAML provider's answer: it waits where the provider's page posted it, is fetched by the browser that was sent, checked,
//! and turned into evidence and a session. The provider's own refusal and a check of ours that failed are told apart.

use axum::body::Body;
use axum::extract::{Path, State};
use axum::response::{IntoResponse, Response};
use chrono::Duration;
use http::StatusCode;
use passeur_core::address::ReturnPath;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::{Evidence, Factors, WayIn};
use passeur_core::id::sha256;
use passeur_core::site::Site;
use passeur_core::step::{Step, StepCode};
use passeur_core::x509::fingerprint;
use passeur_gateway::cookies::{self, Found};
use passeur_gateway::shared::Edition;
use passeur_protocols::saml::binding::from_form;
use passeur_protocols::saml::response::{Assertion, BadResponse, Expected, check};
use passeur_protocols::saml::signature::BadSignature;
use passeur_protocols::saml::told::{response as told_openly, said_to_answer};
use serde_json::{Map, Value};

use super::{ask, flow_cookie, is_ours, request_id, told};
use crate::app::App;
use crate::attempt::{Attempt, Who};
use crate::pages;
use crate::providers::own::OwnSaml;
use crate::providers::saml::SamlLink;
use crate::signin::ask::{Flow, Purposed};
use crate::signin::enter::AtProvider;
use crate::signin::flow::{Ended, check_afresh, check_flow, display_name, ended, failed_check, refuse, resume};
use crate::signin::{LiveEdition, Visit, enter, only_value, park, trial};

/// The largest answer that is taken, as it is posted.
const ANSWER_MAX: usize = 384 * 1024;

/// `POST /.passeur/saml/{provider}/answer`: the assertion consumer service.
pub async fn post(
    State(app): State<App>,
    edition: Option<LiveEdition>,
    Path(provider): Path<String>,
    visit: Visit,
    body: Body,
) -> Response {
    match edition {
        // Whether there is such a provider, the flow says, which may be of a trial.
        Some(LiveEdition(e)) => park::park(&app, &e, &visit, &e.site.consumer_uri(&provider), body, ANSWER_MAX).await,
        None => pages::not_set_up(visit.facts.lang).into_response(),
    }
}

/// What was posted.
struct Form {
    response: Option<String>,
    relay_state: Option<String>,
}

impl Form {
    /// From a form's body; a field that stands twice counts as none.
    fn read(body: &str) -> Form {
        Form { response: only_value(body, "SAMLResponse"), relay_state: only_value(body, "RelayState").filter(|s| !s.is_empty()) }
    }
}

/// `GET /.passeur/saml/{provider}/answer?parked=…`: the browser itself, with its cookies.
pub async fn answer(
    State(app): State<App>,
    edition: Option<LiveEdition>,
    Path(provider): Path<String>,
    visit: Visit,
) -> Response {
    let Some(LiveEdition(edition)) = edition else {
        return pages::not_set_up(visit.facts.lang).into_response();
    };
    let body = match park::fetch(&app, &edition, &visit, &edition.site.consumer_uri(&provider)).await {
        Ok(body) => body.unwrap_or_default(),
        Err(response) => return response,
    };
    let form = Form::read(&body);
    let (cookie, flow) = match form.relay_state.as_deref().filter(|s| is_ours(s)) {
        Some(state) => {
            let (name, secure) = flow_cookie(&edition.site, state);
            let held = match cookies::find(&visit.headers, &name) {
                Found::One(text) => Flow::open(&app, &text).filter(|f| f.provider == provider),
                Found::None | Found::Several => None,
            };
            (Some((name, secure)), held)
        }
        None => (None, None),
    };
    let link = match &flow {
        Some(flow) => trial::link_of(&app, &flow.to, &provider).await,
        None => Ok(app.provider(&provider)),
    };
    let link = match link {
        Ok(link) => link.and_then(|l| l.saml()),
        Err(e) => return pages::store_failed(&edition.site, visit.facts.lang, &e).into_response(),
    };
    let Some(link) = link else { return StatusCode::NOT_FOUND.into_response() };
    let mut response = match flow {
        Some(flow) => asked(&app, &edition, &visit, &link, &form, flow).await,
        None => unasked(&app, &edition, &visit, &link, &form).await,
    };
    if let Some((name, secure)) = cookie {
        pages::set_cookie(&mut response, &cookies::set(&name, "", secure, Some(0)));
    }
    response
}

/// The answer to a request that this browser carried.
async fn asked(app: &App, edition: &Edition, visit: &Visit, link: &SamlLink, form: &Form, flow: Flow) -> Response {
    let site = &edition.site;
    let sent = ask::sent_step(site, link, &flow.endpoint, &flow.nonce, &flow.manner);
    let Some(mut attempt) = resume(app, edition, visit, &flow, Some(sent)).await else {
        return pages::not_set_up(visit.facts.lang).into_response();
    };
    let after = (app.now().timestamp_millis() - flow.sent) / 1000;
    attempt.step(|| {
        Step::new(StepCode::ProviderAnswered)
            .with("provider", flow.provider.as_str())
            .with("parameters", vec!["SAMLResponse=… (masked)".to_owned(), "RelayState=… (ours)".to_owned()])
            .with("after", after)
    });
    let taken = match check_flow(app, edition, &mut attempt, visit, &flow, link.provider.answer_within).await {
        Ok(()) => take(app, site, &mut attempt, link, form, Some(&request_id(&flow.nonce))).await,
        Err(e) => Err(e),
    };
    let taken = match taken {
        Ok((evidence, there)) => {
            let proven = evidence.factors.auth_time;
            check_afresh(&mut attempt, &flow, proven, link.provider.skew).map(|()| (evidence, there))
        }
        Err(e) => Err(e),
    };
    if let Purposed::Trial { token, .. } = &flow.to {
        return trial::finish(app, edition, attempt, token, taken.map(|(evidence, _)| evidence)).await;
    }
    match taken {
        Ok((evidence, there)) => enter::begin(app, edition, attempt, visit, evidence, there, flow.to).await,
        Err(e) => refuse(edition, attempt, e).await,
    }
}

/// An answer that this browser carried no request for: either of a browser that another was sent with, or of a provider that
/// sends people of its own accord.
async fn unasked(app: &App, edition: &Edition, visit: &Visit, link: &SamlLink, form: &Form) -> Response {
    let site = &edition.site;
    let name = link.provider.name.as_str();
    let mut attempt = Attempt::begin(app, "sign-in", &visit.facts);
    attempt.provider = Some(name.to_owned());
    if form.relay_state.as_deref().is_some_and(is_ours) {
        attempt.step(|| Step::new(StepCode::StateOtherBrowser));
        return refuse(edition, attempt, failed_check()).await;
    }
    let Some(to) = aimed_at(site, name, form.relay_state.as_deref()) else {
        let text = form.response.as_deref().and_then(|v| from_form(v).ok());
        attempt.step(|| match text.as_deref().and_then(said_to_answer) {
            Some(request) => no_relay_state(form, &request),
            None => Step::new(StepCode::SamlUnasked).with("provider", name),
        });
        return refuse(edition, attempt, failed_check()).await;
    };
    if let Purposed::Unasked { gate, .. } = &to {
        attempt.gate = gate.clone();
    }
    match take(app, site, &mut attempt, link, form, None).await {
        Ok((evidence, there)) => {
            let evidence = Evidence { unasked: true, ..evidence };
            enter::begin(app, edition, attempt, visit, evidence, there, to).await
        }
        Err(e) => refuse(edition, attempt, e).await,
    }
}

/// The step for an answer that says it was asked for, and does not bring back by whom.
fn no_relay_state(form: &Form, request: &str) -> Step {
    let relay = form.relay_state.as_deref().unwrap_or("none");
    Step::new(StepCode::SamlNoRelayState).with("seen", format!("{relay}, InResponseTo {request}"))
}

/// Where somebody is meant to go whom a provider sent of its own accord: to the gate whose address RelayState is, or to the only
/// one that takes them. None where no gate does.
fn aimed_at(site: &Site, provider: &str, relay_state: Option<&str>) -> Option<Purposed> {
    let takers = || site.gates.iter().filter(|g| g.access.unasked && g.access.ways.iter().any(|w| w == provider));
    let named = takers().find_map(|g| {
        let path = relay_state?.strip_prefix(&g.address.origin())?;
        let path = ReturnPath::parse(if path.is_empty() { "/" } else { path })?;
        Some((g, path))
    });
    let only = || {
        let mut all = takers();
        let first = all.next()?;
        all.next().is_none().then(|| (first, ReturnPath::root()))
    };
    let (gate, path) = named.or_else(only)?;
    Some(Purposed::Unasked { gate: gate.name.clone(), address: gate.address.at(path.as_str()) })
}

/// Every check of the answer, in order; the first that fails ends the attempt.
async fn take(
    app: &App,
    site: &Site,
    attempt: &mut Attempt,
    link: &SamlLink,
    form: &Form,
    request: Option<&str>,
) -> Result<(Evidence, AtProvider), Ended> {
    let found = ask::party(link, attempt).await.ok_or_else(|| ended(Outcome::Failed, StatusCode::BAD_GATEWAY))?;
    let Some(value) = &form.response else {
        attempt.step(|| Step::new(StepCode::SamlNoAnswer).with("what", "the form holds no SAMLResponse, or two"));
        return Err(failed_check());
    };
    let own = &link.own;
    let consumer = site.consumer_uri(&link.provider.name);
    let expected = Expected {
        issuer: &link.provider.issuer,
        audience: &own.entity_id,
        consumer: &consumer,
        request,
        now: app.now(),
        skew: link.provider.skew,
        certificates: &found.known.party.certificates,
        opener: &own.opener,
        encrypted: link.trust.require_encrypted,
    };
    let text = from_form(value).map_err(BadResponse::from);
    if let Ok(text) = &text {
        attempt.received("SAMLResponse", || told_openly(text, &own.opener));
    }
    let mut checked = text.clone().and_then(|t| check(&t, &expected));
    let newer;
    if let (Err(BadResponse::Signature(BadSignature::Wrong(_))), Ok(text)) = (&checked, &text)
        && let Some(again) = link.again(&found.known).await
    {
        newer = again;
        let certificates = newer.party.certificates.as_slice();
        attempt.step(|| {
            Step::new(StepCode::MetadataRefetched)
                .with("provider", link.provider.name.as_str())
                .with("certificates", certificates.len() as i64)
        });
        checked = check(text, &Expected { certificates, ..expected });
    }
    let assertion = match checked {
        Ok(a) => a,
        Err(e) => {
            attempt.step(|| match &e {
                // Asked for, by its own word, and nothing shows by whom.
                BadResponse::Request(seen) if request.is_none() => no_relay_state(form, seen),
                e => told::step(e, &expected, &link.provider.name),
            });
            let theirs = matches!(e, BadResponse::Refused { .. });
            let outcome = if theirs { Outcome::ProviderRefused } else { Outcome::CheckFailed };
            return Err(ended(outcome, StatusCode::FORBIDDEN));
        }
    };
    once(app, attempt, link, &assertion).await?;
    let evidence = to_evidence(attempt, link, &assertion)?;
    tell(app, attempt, own, &assertion, &evidence);
    attempt.who =
        Some(Who { provider: link.provider.name.clone(), subject: evidence.subject.clone(), name: display_name(&evidence) });
    let there = AtProvider {
        hint: serde_json::to_string(&assertion.name).unwrap_or_default(),
        name: Some(assertion.name.value),
        session: assertion.session_index,
        kept: None,
        sent: None,
    };
    Ok((evidence, there))
}

/// Whether the assertion was not used before, on any node.
async fn once(app: &App, attempt: &mut Attempt, link: &SamlLink, assertion: &Assertion) -> Result<(), Ended> {
    let id = sha256(format!("assertion {} {}", link.provider.issuer, assertion.id).as_bytes());
    // A provider's far end must not make us remember for years: what is older than its session cannot be answered either.
    let until = assertion.remember_until.min(app.now() + Duration::days(400));
    match app.store.use_flow(&id, until).await {
        Ok(true) => Ok(()),
        Ok(false) => {
            attempt.step(|| Step::new(StepCode::SamlReplayed).with("id", assertion.id.as_str()));
            attempt.id = app.new_crossing();
            Err(failed_check())
        }
        Err(e) => {
            attempt.step(|| Step::new(StepCode::StoreFailed).with("how", e.to_string()));
            Err(ended(Outcome::Failed, StatusCode::SERVICE_UNAVAILABLE))
        }
    }
}

fn to_evidence(attempt: &mut Attempt, link: &SamlLink, assertion: &Assertion) -> Result<Evidence, Ended> {
    let subject = match &link.trust.subject {
        None => assertion.name.value.clone(),
        Some(attribute) => {
            let held = assertion.attributes.iter().find(|(n, _)| n == attribute).map(|(_, v)| v.as_slice()).unwrap_or_default();
            match held {
                [one] if !one.trim().is_empty() => one.clone(),
                several => {
                    let seen = format!("{} values", several.len());
                    attempt.step(|| Step::new(StepCode::SamlNoSubject).with("attribute", attribute.as_str()).with("seen", seen));
                    return Err(failed_check());
                }
            }
        }
    };
    let list = |values: &Vec<String>| Value::from(values.clone());
    let claims: Map<String, Value> = assertion.attributes.iter().map(|(name, values)| (name.clone(), list(values))).collect();
    Ok(Evidence {
        claims,
        factors: Factors { acr: assertion.context.clone(), amr: vec![], auth_time: Some(assertion.authenticated), own: vec![] },
        ..Evidence::of(WayIn::Saml, link.provider.name.clone(), subject, link.provider.issuer.clone())
    })
}

fn tell(app: &App, attempt: &mut Attempt, own: &OwnSaml, assertion: &Assertion, evidence: &Evidence) {
    let shown = &assertion.shown;
    let mut signed = match (shown.response, shown.assertion) {
        (true, true) => "response and assertion signed",
        (true, false) => "response signed",
        (false, _) => "assertion signed",
    }
    .to_owned();
    if shown.encrypted {
        signed.push_str(", encrypted for us");
    }
    attempt.step(|| {
        Step::new(StepCode::AssertionAccepted)
            .with("issuer", evidence.issuer.as_str())
            .with("subject", evidence.subject.as_str())
            .with("signed", signed)
            .with("certificate", fingerprint(&shown.certificate))
            .with("audience", own.entity_id.as_str())
            .with("expires_in", (assertion.good_until - app.now()).num_seconds())
    });
    attempt.step(|| {
        let format = assertion.name.format.as_deref().unwrap_or("unspecified");
        Step::new(StepCode::AttributesReleased)
            .with("attributes", evidence.claims.keys().cloned().collect::<Vec<_>>())
            .with("format", format.rsplit(':').next().unwrap_or_default())
            .with("context", assertion.context.clone().unwrap_or_default())
            .with("at", assertion.authenticated.format("%Y-%m-%d %H:%M:%S UTC").to_string())
    });
}
