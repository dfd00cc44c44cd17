//! A SAML provider's answer: it waits where the provider's page posted it, is fetched by the browser that was sent, checked,
//! and turned into evidence and a session. The provider's own refusal and a check of ours that failed are told apart.

use std::sync::Arc;

use axum::body::Body;
use axum::extract::{Path, State};
use axum::response::{IntoResponse, Response};
use chrono::Duration;
use http::StatusCode;
use passeur_core::Moment;
use passeur_core::address::ReturnPath;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::{Evidence, Factors, WayIn};
use passeur_core::id::sha256;
use passeur_core::identity::display_name;
use passeur_core::site::{Gate, Site};
use passeur_core::step::{Param, Step, StepCode};
use passeur_core::x509::fingerprint;
use passeur_engine::attempt::{Attempt, Who};
use passeur_engine::providers::own::OwnSaml;
use passeur_engine::providers::saml::SamlLink;
use passeur_http::cookies::{self, Found};
use passeur_live::edition::Edition;
use passeur_protocols::saml::binding::from_form;
use passeur_protocols::saml::response::{Assertion, BadResponse, Expected, NameId, check};
use passeur_protocols::saml::signature::BadSignature;
use passeur_protocols::saml::told::{response as told_openly, said_to_answer};
use serde_json::{Map, Value};

use super::{ask, flow_cookie, looks_ours, request_id, tab_of, told};
use crate::ask::{Flow, Manner, Purposed};
use crate::enter::AtProvider;
use crate::flow::{self, Ended, check_afresh, check_flow, ended, failed_check, refuse, resume};
use crate::pages;
use crate::{LiveEdition, Visit, enter, fresh, only_value, park, start, trial};
use passeur_engine::Engine;

/// The largest answer that is taken, as it is posted.
const ANSWER_MAX: usize = 384 * 1024;

/// `POST /.passeur/saml/{provider}/answer`: the assertion consumer service.
pub async fn post(
    State(engine): State<Engine>,
    edition: Option<LiveEdition>,
    Path(provider): Path<String>,
    visit: Visit,
    body: Body,
) -> Response {
    let Some(LiveEdition(edition)) = edition else {
        return pages::not_set_up(visit.facts.lang).into_response();
    };
    let posted = match park::posted(&engine, &edition, &visit, body, ANSWER_MAX).await {
        Ok(posted) => posted,
        Err(response) => return response,
    };
    let form = Form::read(&String::from_utf8_lossy(&posted));
    let tab = form.relay_state.as_deref().and_then(|s| tab_of(&engine, &provider, s));
    let answers = match tab {
        // Whether there is such a provider, the flow says, which may be of a trial.
        Some(tab) => sha256(format!("flow {provider} {tab}").as_bytes()),
        None => match checked_first(&engine, &edition, &visit, &provider, &form).await {
            Ok(assertion) => assertion,
            Err(response) => return response,
        },
    };
    park::park(&engine, &edition, &visit, &edition.site.consumer_uri(&provider), &posted, answers).await
}

/// What nobody asked for is checked before it is kept: anybody can post anything. Gives what tells it apart from others.
async fn checked_first(
    engine: &Engine,
    edition: &Edition,
    visit: &Visit,
    provider: &str,
    form: &Form,
) -> Result<[u8; 32], Response> {
    let Some(link) = engine.provider(provider).and_then(|l| l.saml()) else { return Err(StatusCode::NOT_FOUND.into_response()) };
    let (mut attempt, _) = aimed(engine, edition, visit, &link, form).await?;
    match believed(engine, &edition.site, &mut attempt, &link, form, None).await {
        Ok(assertion) => Ok(sha256(format!("assertion {} {}", link.provider.issuer, assertion.id).as_bytes())),
        Err(e) => Err(refuse(edition, attempt, e).await),
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
    State(engine): State<Engine>,
    edition: Option<LiveEdition>,
    Path(provider): Path<String>,
    visit: Visit,
) -> Response {
    let Some(LiveEdition(edition)) = edition else {
        return pages::not_set_up(visit.facts.lang).into_response();
    };
    let body = match park::fetch(&engine, &edition, &visit, &edition.site.consumer_uri(&provider)).await {
        Ok(body) => body.unwrap_or_default(),
        Err(response) => return response,
    };
    let form = Form::read(&body);
    let (cookie, flow) = match form.relay_state.as_deref().and_then(|s| tab_of(&engine, &provider, s)) {
        Some(tab) => {
            let (name, secure) = flow_cookie(&edition.site, tab);
            let held = match cookies::find(&visit.headers, &name) {
                Found::One(text) => Flow::open(&engine, &text).filter(|f| f.provider == provider),
                Found::None | Found::Several => None,
            };
            (Some((name, secure)), held)
        }
        None => (None, None),
    };
    let link = match &flow {
        Some(flow) => trial::link_of(&engine, &flow.to, &provider).await,
        None => Ok(engine.provider(&provider)),
    };
    let link = match link {
        Ok(link) => link.and_then(|l| l.saml()),
        Err(e) => return pages::store_failed(&edition.site, visit.facts.lang, &e).into_response(),
    };
    let Some(link) = link else { return StatusCode::NOT_FOUND.into_response() };
    let mut response = match flow {
        Some(flow) => asked(&engine, &edition, &visit, &link, &form, flow).await,
        None => unasked(&engine, &edition, &visit, &link, &form).await,
    };
    if let Some((name, secure)) = cookie {
        pages::set_cookie(&mut response, &cookies::set(&name, "", secure, Some(0)));
    }
    response
}

/// The answer to a request that this browser carried.
async fn asked(engine: &Engine, edition: &Edition, visit: &Visit, link: &SamlLink, form: &Form, flow: Flow) -> Response {
    let site = &edition.site;
    let sent = ask::sent_step(site, link, &flow.endpoint, &flow.nonce, &flow.manner);
    let Some(mut attempt) = resume(engine, edition, visit, &flow, Some(sent)).await else {
        return pages::not_set_up(visit.facts.lang).into_response();
    };
    let after = (engine.now().timestamp_millis() - flow.sent) / 1000;
    attempt.step(|| {
        Step::new(StepCode::ProviderAnswered)
            .with("provider", flow.provider.as_str())
            .with("parameters", vec!["SAMLResponse=… (masked)".to_owned(), "RelayState=… (ours)".to_owned()])
            .with("after", after)
    });
    let taken = match check_flow(engine, edition, &mut attempt, visit, &flow, link.provider.answer_within).await {
        Ok(()) => take(engine, site, &mut attempt, link, form, Some(&request_id(&flow.nonce))).await,
        Err(e) => Err(e),
    };
    let taken = match taken {
        Ok((evidence, there)) => {
            let proven = evidence.factors.auth_time;
            check_afresh(site, &mut attempt, &flow, proven, None).map(|()| (evidence, there))
        }
        Err(e) => Err(e),
    };
    if let Purposed::Trial { token, .. } = &flow.to {
        return trial::finish(engine, edition, attempt, token, taken.map(|(evidence, _)| evidence)).await;
    }
    match taken {
        Ok((evidence, there)) => enter::begin(engine, edition, attempt, visit, evidence, there, flow.to).await,
        Err(e) => refuse(edition, attempt, e).await,
    }
}

/// An attempt by an answer that this browser carried no request for, and where it leads: it is either of a browser that another was
/// sent with, or of a provider that sends people of its own accord.
async fn aimed(
    engine: &Engine,
    edition: &Edition,
    visit: &Visit,
    link: &SamlLink,
    form: &Form,
) -> Result<(Attempt, Purposed), Response> {
    let name = link.provider.name.as_str();
    let mut attempt = Attempt::begin(engine, "sign-in", &visit.facts);
    attempt.provider = Some(name.to_owned());
    if form.relay_state.as_deref().is_some_and(looks_ours) {
        attempt.step(|| Step::new(StepCode::StateOtherBrowser));
        return Err(refuse(edition, attempt, failed_check()).await);
    }
    let Some(to) = aimed_at(&edition.site, name, form.relay_state.as_deref()) else {
        let value = form.response.clone().unwrap_or_default();
        let asked = move || from_form(&value).ok().as_deref().and_then(said_to_answer);
        let asked = match flow::compute(engine, &mut attempt, asked).await {
            Ok(asked) => asked,
            Err(e) => return Err(refuse(edition, attempt, e).await),
        };
        attempt.step(|| match asked {
            Some(request) => no_relay_state(form, &request),
            None => Step::new(StepCode::SamlUnasked).with("provider", name),
        });
        return Err(refuse(edition, attempt, failed_check()).await);
    };
    if let Purposed::Unasked { gate, .. } = &to {
        attempt.gate = gate.clone();
    }
    Ok((attempt, to))
}

/// An answer of a provider that sends people of its own accord.
async fn unasked(engine: &Engine, edition: &Edition, visit: &Visit, link: &SamlLink, form: &Form) -> Response {
    let (mut attempt, to) = match aimed(engine, edition, visit, link, form).await {
        Ok(found) => found,
        Err(response) => return response,
    };
    if start::wants_anew(&edition.site, visit) {
        // Nobody asked for this proof, so that it is of before: whoever signed out here, or shares the machine, proves it anew.
        let name = link.provider.name.clone();
        return start::by_way(engine, edition, attempt, visit, name, to, Manner::anew(true)).await;
    }
    match take(engine, &edition.site, &mut attempt, link, form, None).await {
        Ok((evidence, there)) => {
            let evidence = Evidence { unasked: true, ..evidence };
            enter::begin(engine, edition, attempt, visit, evidence, there, to).await
        }
        Err(e) => refuse(edition, attempt, e).await,
    }
}

/// The step for an answer that says it was asked for, and does not bring back by whom.
fn no_relay_state(form: &Form, request: &str) -> Step {
    let relay = form.relay_state.as_deref().unwrap_or("none");
    Step::new(StepCode::SamlNoRelayState).with("seen", format!("{relay}, InResponseTo {request}"))
}

/// Where somebody is meant to go whom a provider sent of its own accord: to the gate whose address RelayState is, or, where it is no
/// gate's, to the only one that takes them. None where no gate does, or the one that is meant does not.
fn aimed_at(site: &Site, provider: &str, relay_state: Option<&str>) -> Option<Purposed> {
    let takes = |g: &&Gate| g.access.unasked && g.access.ways.iter().any(|w| w == provider);
    let takers = || site.gates.iter().filter(takes);
    let meant = site.gates.iter().find_map(|g| {
        let path = relay_state?.strip_prefix(&g.address.origin())?;
        let path = ReturnPath::parse(if path.is_empty() { "/" } else { path })?;
        Some((g, path))
    });
    if meant.as_ref().is_some_and(|(g, _)| !takes(g)) {
        return None;
    }
    let only = || {
        let mut all = takers();
        let first = all.next()?;
        all.next().is_none().then(|| (first, ReturnPath::root()))
    };
    let (gate, path) = meant.or_else(only)?;
    Some(Purposed::Unasked { gate: gate.name.clone(), address: gate.address.at(path.as_str()) })
}

/// Every check of the answer, in order; the first that fails ends the attempt.
async fn take(
    engine: &Engine,
    site: &Site,
    attempt: &mut Attempt,
    link: &SamlLink,
    form: &Form,
    request: Option<&str>,
) -> Result<(Evidence, AtProvider), Ended> {
    let assertion = believed(engine, site, attempt, link, form, request).await?;
    once(engine, attempt, link, &assertion).await?;
    let evidence = to_evidence(attempt, link, &assertion, engine.now())?;
    tell(engine, attempt, &link.own, &assertion, &evidence);
    attempt.who =
        Some(Who { provider: link.provider.name.clone(), subject: evidence.subject.clone(), name: display_name(&evidence) });
    let there = AtProvider {
        hint: assertion.name.as_ref().and_then(|n| serde_json::to_string(n).ok()).unwrap_or_default(),
        name: assertion.name.as_ref().and_then(NameId::key),
        session: assertion.session_index,
        kept: None,
        sent: None,
        until: assertion.session_until,
    };
    Ok((evidence, there))
}

/// What an answer is held against, as the thread that computes holds it.
struct Wanted {
    issuer: String,
    own: Arc<OwnSaml>,
    consumer: String,
    request: Option<String>,
    now: Moment,
    skew: Duration,
    encrypted: bool,
}

impl Wanted {
    fn expected<'a>(&'a self, certificates: &'a [Vec<u8>]) -> Expected<'a> {
        Expected {
            issuer: &self.issuer,
            audience: &self.own.entity_id,
            consumer: &self.consumer,
            request: self.request.as_deref(),
            now: self.now,
            skew: self.skew,
            certificates,
            opener: &self.own.opener,
            encrypted: self.encrypted,
        }
    }
}

/// The assertion that counts, where the answer is the provider's and for us. Whether it was used before is not looked at.
async fn believed(
    engine: &Engine,
    site: &Site,
    attempt: &mut Attempt,
    link: &SamlLink,
    form: &Form,
    request: Option<&str>,
) -> Result<Assertion, Ended> {
    let found = ask::party(link, attempt).await.ok_or_else(|| ended(Outcome::Failed, StatusCode::BAD_GATEWAY))?;
    let Some(value) = &form.response else {
        attempt.step(|| Step::new(StepCode::SamlNoAnswer).with("what", "the form holds no SAMLResponse, or two"));
        return Err(failed_check());
    };
    let wanted = Arc::new(Wanted {
        issuer: link.provider.issuer.clone(),
        own: link.own.clone(),
        consumer: site.consumer_uri(&link.provider.name),
        request: request.map(str::to_owned),
        now: engine.now(),
        skew: link.provider.skew,
        encrypted: link.trust.require_encrypted,
    });
    // Everything of it is computed elsewhere: whoever posted it has not proved anything yet.
    let (value, is_kept) = (value.clone(), attempt.keeps_raw());
    let (with, known) = (wanted.clone(), found.known.clone());
    let first = move || {
        let text = from_form(&value).map_err(BadResponse::from);
        let shown = text.as_ref().ok().filter(|_| is_kept).map(|t| told_openly(t, &with.own.opener));
        let checked = text.clone().and_then(|t| check(&t, &with.expected(&known.party.certificates)));
        (text.unwrap_or_default(), shown, checked)
    };
    let (text, shown, mut checked) = flow::compute(engine, attempt, first).await?;
    if let Some(shown) = shown {
        attempt.received("SAMLResponse", || shown);
    }
    let mut known = found.known;
    if let Err(BadResponse::Signature(BadSignature::Wrong(_))) = &checked
        && let Some(newer) = link.again(&known).await
    {
        attempt.step(|| {
            Step::new(StepCode::MetadataRefetched)
                .with("provider", link.provider.name.as_str())
                .with("certificates", newer.party.certificates.len() as i64)
        });
        known = newer.clone();
        let with = wanted.clone();
        checked = flow::compute(engine, attempt, move || check(&text, &with.expected(&newer.party.certificates))).await?;
    }
    checked.map_err(|e| {
        attempt.step(|| match &e {
            // Asked for, by its own word, and nothing shows by whom.
            BadResponse::Request(seen) if request.is_none() => no_relay_state(form, seen),
            e => told::step(e, &wanted.expected(&known.party.certificates), &link.provider.name),
        });
        let theirs = matches!(e, BadResponse::Refused { .. });
        ended(if theirs { Outcome::ProviderRefused } else { Outcome::CheckFailed }, StatusCode::FORBIDDEN)
    })
}

/// Whether the assertion was not used before, on any node.
async fn once(engine: &Engine, attempt: &mut Attempt, link: &SamlLink, assertion: &Assertion) -> Result<(), Ended> {
    let id = sha256(format!("assertion {} {}", link.provider.issuer, assertion.id).as_bytes());
    // A provider's far end must not make us remember for years: what is older than its session cannot be answered either.
    let until = assertion.remember_until.min(engine.now() + Duration::days(400));
    match engine.store.use_once(&id, until).await {
        Ok(true) => Ok(()),
        Ok(false) => {
            attempt.step(|| Step::new(StepCode::SamlReplayed).with("id", assertion.id.as_str()));
            attempt.id = engine.new_crossing();
            Err(failed_check())
        }
        Err(e) => {
            attempt.step(|| Step::new(StepCode::StoreFailed).with("how", e.to_string()));
            Err(ended(Outcome::Failed, StatusCode::SERVICE_UNAVAILABLE))
        }
    }
}

fn to_evidence(attempt: &mut Attempt, link: &SamlLink, assertion: &Assertion, arrived: Moment) -> Result<Evidence, Ended> {
    let subject = match &link.trust.subject {
        None => match assertion.name.as_ref().map(NameId::key) {
            Some(Some(key)) => key,
            named => {
                let seen = if named.is_some() { "transient" } else { "none" };
                attempt.step(|| Step::new(StepCode::SamlNoName).with("seen", Param::reason(seen)));
                return Err(failed_check());
            }
        },
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
        factors: Factors {
            acr: assertion.context.clone(),
            amr: vec![],
            auth_time: fresh::proven_at(Some(assertion.authenticated), arrived),
            own: vec![],
        },
        ..Evidence::of(WayIn::Saml, link.provider.name.clone(), subject, link.provider.issuer.clone())
    })
}

fn tell(engine: &Engine, attempt: &mut Attempt, own: &OwnSaml, assertion: &Assertion, evidence: &Evidence) {
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
            .with("expires_in", (assertion.good_until - engine.now()).num_seconds())
    });
    attempt.step(|| {
        Step::new(StepCode::AttributesReleased)
            .with("attributes", evidence.claims.keys().cloned().collect::<Vec<_>>())
            .with("format", assertion.name.as_ref().map_or("none", NameId::format_name))
            .with("context", assertion.context.clone().unwrap_or_default())
            .with("at", assertion.authenticated.format("%Y-%m-%d %H:%M:%S UTC").to_string())
    });
}
