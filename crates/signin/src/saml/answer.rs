//! A SAML provider's answer: it waits where the provider's page posted it, is fetched by the browser that was sent, checked,
//! and turned into evidence. The provider's own refusal and a check of ours that failed are told apart.

use std::sync::Arc;

use axum::body::Body;
use axum::extract::Path;
use axum::response::{IntoResponse, Response};
use chrono::Duration;
use http::StatusCode;
use passeur_core::Moment;
use passeur_core::address::ReturnPath;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::{Evidence, Factors, WayIn};
use passeur_core::id::sha256;
use passeur_core::identity::display_name;
use passeur_core::site::{Gate, Place, Site};
use passeur_core::step;
use passeur_core::step::{Param, Step};
use passeur_core::x509::fingerprint;
use passeur_engine::Engine;
use passeur_engine::attempt::{Attempt, Who};
use passeur_engine::providers::own::OwnSaml;
use passeur_engine::providers::saml::SamlLink;
use passeur_http::cookies::{self, Found};
use passeur_protocols::saml::binding::from_form;
use passeur_protocols::saml::response::{Assertion, BadResponse, Expected, NameId, check};
use passeur_protocols::saml::signature::BadSignature;
use passeur_protocols::saml::told::{response as told_openly, said_to_answer};
use serde_json::{Map, Value};

use super::{ask, flow_cookie, looks_ours, request_id, tab_of, told};
use crate::answer::answer as answer_with;
use crate::journey::Incoming;
use crate::journey::flow::{Flow, Saml};
use crate::journey::wants_anew;
use crate::journey::{Asked, Desk, Destination, Done, Journey, Manner, Proven, ProviderSession, Stop, Why, compute, fresh};
use crate::pages;
use crate::{only_value, park, trial};

/// The largest answer that is taken, as it is posted.
const ANSWER_MAX: usize = 384 * 1024;

/// `POST /.passeur/saml/{provider}/answer`: the assertion consumer service.
pub async fn post(incoming: Incoming, Path(provider): Path<String>, body: Body) -> Response {
    let desk = incoming.desk();
    answer_with(posted(desk, &provider, body).await).await
}

async fn posted<'a>(desk: Desk<'a>, provider: &str, body: Body) -> Done<'a> {
    let posted = park::posted(desk, body, ANSWER_MAX).await?;
    let form = Form::read(&String::from_utf8_lossy(&posted));
    let tab = form.relay_state.as_deref().and_then(|s| tab_of(desk.engine, provider, s));
    let answers = match tab {
        // Whether there is such a provider, the flow says, which may be of a trial.
        Some(tab) => sha256(format!("flow {provider} {tab}").as_bytes()),
        None => checked_first(desk, provider, &form).await?,
    };
    park::park(desk, &desk.site().consumer_uri(provider), &posted, answers).await
}

/// What nobody asked for is checked before it is kept: anybody can post anything. Gives what tells it apart from others.
async fn checked_first<'a>(desk: Desk<'a>, provider: &str, form: &Form) -> Done<'a, [u8; 32]> {
    let link = link_of(desk, desk.engine.provider(provider))?;
    let mut journey = aimed(desk, &link, form).await?;
    let believed = believed(desk, &mut journey.attempt, &link, form, None).await;
    let (_, assertion) = journey.go_on_with(believed)?;
    Ok(sha256(format!("assertion {} {}", link.provider.issuer, assertion.id).as_bytes()))
}

/// The link to a SAML provider; there is nothing at the address of any other.
fn link_of(desk: Desk<'_>, found: Option<passeur_engine::providers::ProviderLink>) -> Done<'_, Arc<SamlLink>> {
    found.and_then(|l| l.saml()).ok_or_else(|| desk.stop_plainly(StatusCode::NOT_FOUND.into_response()))
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
pub async fn answer(incoming: Incoming, Path(provider): Path<String>) -> Response {
    let desk = incoming.desk();
    answer_with(answered(desk, &provider).await).await
}

async fn answered<'a>(desk: Desk<'a>, provider: &str) -> Done<'a> {
    let (engine, site) = (desk.engine, desk.site());
    let body = park::fetch(desk, &site.consumer_uri(provider)).await?.unwrap_or_default();
    let form = Form::read(&body);
    let cookie = form.relay_state.as_deref().and_then(|s| tab_of(engine, provider, s)).map(|tab| flow_cookie(site, tab));
    let held = cookie.as_ref().map(|(name, _)| cookies::find(&desk.visit.headers, name));
    let flow = match held {
        Some(Found::One(text)) => Flow::<Saml>::open(engine, &text).filter(|f| f.leg.by.provider == provider),
        Some(Found::None | Found::Several) | None => None,
    };
    let link = match &flow {
        Some(flow) => trial::link_of(engine, &flow.to, provider).await.map_err(|e| desk.stop_plainly(e))?,
        None => engine.provider(provider),
    };
    let link = link_of(desk, link)?;
    let done = match flow {
        Some(flow) => asked(desk, &link, &form, flow).await,
        None => unasked(desk, &link, &form).await,
    };
    // Whatever came of it, the tab waits no longer.
    let mut response = answer_with(done).await;
    if let Some((name, secure)) = cookie {
        pages::set_cookie(&mut response, &cookies::set(&name, "", secure, Some(0)));
    }
    Ok(response)
}

/// The answer to a request that this browser carried.
async fn asked<'a>(desk: Desk<'a>, link: &SamlLink, form: &Form, flow: Flow<Saml>) -> Done<'a> {
    let sent = ask::sent_step(desk.site(), link, &flow.leg);
    let mut journey = Journey::resume(desk, flow, Some(sent)).await?;
    let (provider, after) = (link.provider.name.as_str(), journey.after());
    journey.step(|| {
        step!(ProviderAnswered {
            provider,
            parameters: vec!["SAMLResponse=… (masked)".to_owned(), "RelayState=… (ours)".to_owned()],
            after
        })
    });
    let open = journey.check_flow(link.provider.answer_within).await;
    let (mut journey, ()) = journey.go_on_with(open)?;
    let request = request_id(&journey.leg().nonce);
    let taken = take(desk, &mut journey.attempt, link, form, Some(&request)).await;
    let (mut journey, proven) = journey.go_on_with(taken)?;
    let afresh = journey.check_afresh(proven.evidence.factors.auth_time, None);
    let (journey, ()) = journey.go_on_with(afresh)?;
    if let Destination::Trial { token, .. } = &journey.to {
        return Ok(trial::finish(desk, journey.attempt, token, Ok(proven.evidence)).await);
    }
    journey.with(proven).enter().await
}

/// A sign-in by an answer that this browser carried no request for: it is either of a browser that another was sent with, or of a provider
/// that sends people of its own accord.
async fn aimed<'a>(desk: Desk<'a>, link: &SamlLink, form: &Form) -> Done<'a, Journey<'a, Asked>> {
    let name = link.provider.name.as_str();
    let mut attempt = Attempt::begin(desk.engine, Place::SignIn, &desk.visit.facts);
    attempt.provider = Some(name.to_owned());
    let stop = |attempt: Attempt, why: Why| Box::new(Stop { desk, attempt, to: None, why, cookies: vec![] });
    if form.relay_state.as_deref().is_some_and(looks_ours) {
        attempt.step(|| step!(StateOtherBrowser));
        return Err(stop(attempt, Why::FAILED_CHECK));
    }
    let Some(to) = aimed_at(desk.site(), name, form.relay_state.as_deref()) else {
        let value = form.response.clone().unwrap_or_default();
        let asked = move || from_form(&value).ok().as_deref().and_then(said_to_answer);
        match compute(desk.engine, &mut attempt, asked).await {
            Ok(Some(request)) => attempt.step(|| no_relay_state(form, &request)),
            Ok(None) => attempt.step(|| step!(SamlUnasked { provider: name })),
            Err(why) => return Err(stop(attempt, why)),
        }
        return Err(stop(attempt, Why::FAILED_CHECK));
    };
    if let Destination::Unasked { gate, .. } = &to {
        attempt.place = Place::gate(gate);
    }
    Ok(Journey { desk, attempt, to, state: Asked })
}

/// An answer of a provider that sends people of its own accord.
async fn unasked<'a>(desk: Desk<'a>, link: &SamlLink, form: &Form) -> Done<'a> {
    let mut journey = aimed(desk, link, form).await?;
    if wants_anew(&desk) {
        // Nobody asked for this proof, so that it is of before: whoever signed out here, or shares the machine, proves it anew.
        return journey.by_way(&link.provider.name, Manner::anew()).await;
    }
    let taken = take(desk, &mut journey.attempt, link, form, None).await;
    let (journey, mut proven) = journey.go_on_with(taken)?;
    proven.evidence.unasked = true;
    journey.with(proven).enter().await
}

/// The step for an answer that says it was asked for, and does not bring back by whom.
fn no_relay_state(form: &Form, request: &str) -> Step {
    let relay = form.relay_state.as_deref().unwrap_or("none");
    step!(SamlNoRelayState { seen: format!("{relay}, InResponseTo {request}") })
}

/// Where somebody is meant to go whom a provider sent of its own accord: to the gate whose address RelayState is, or, where it is no
/// gate's, to the only one that takes them. None where no gate does, or the one that is meant does not.
fn aimed_at(site: &Site, provider: &str, relay_state: Option<&str>) -> Option<Destination> {
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
    Some(Destination::Unasked { gate: gate.name.clone(), address: gate.address.at(path.as_str()) })
}

/// Every check of the answer, in order; the first that fails ends the attempt.
async fn take(desk: Desk<'_>, attempt: &mut Attempt, link: &SamlLink, form: &Form, request: Option<&str>) -> Result<Proven, Why> {
    let engine = desk.engine;
    let assertion = believed(desk, attempt, link, form, request).await?;
    once(engine, attempt, link, &assertion).await?;
    let evidence = to_evidence(attempt, link, &assertion, engine.now())?;
    note_assertion(engine, attempt, &link.own, &assertion, &evidence);
    attempt.who =
        Some(Who { provider: link.provider.name.clone(), subject: evidence.subject.clone(), name: display_name(&evidence) });
    let provider = ProviderSession {
        hint: assertion.name.as_ref().and_then(|n| serde_json::to_string(n).ok()).unwrap_or_default(),
        name: assertion.name.as_ref().and_then(NameId::key),
        session: assertion.session_index,
        until: assertion.session_until,
        ..ProviderSession::default()
    };
    Ok(Proven { evidence, provider })
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
    desk: Desk<'_>,
    attempt: &mut Attempt,
    link: &SamlLink,
    form: &Form,
    request: Option<&str>,
) -> Result<Assertion, Why> {
    let engine = desk.engine;
    let found = ask::party(link, attempt).await.ok_or(Why::SILENT)?;
    let Some(value) = &form.response else {
        attempt.step(|| step!(SamlNoAnswer { what: "the form holds no SAMLResponse, or two" }));
        return Err(Why::FAILED_CHECK);
    };
    let wanted = Arc::new(Wanted {
        issuer: link.provider.issuer.clone(),
        own: link.own.clone(),
        consumer: desk.site().consumer_uri(&link.provider.name),
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
    let (text, shown, mut checked) = compute(engine, attempt, first).await?;
    if let Some(shown) = shown {
        attempt.received("SAMLResponse", || shown);
    }
    let mut known = found.known;
    if let Err(BadResponse::Signature(BadSignature::Wrong(_))) = &checked
        && let Some(newer) = link.again(&known).await
    {
        attempt.step(|| {
            step!(MetadataRefetched {
                provider: link.provider.name.as_str(),
                certificates: newer.party.certificates.len() as i64
            })
        });
        known = newer.clone();
        let with = wanted.clone();
        checked = compute(engine, attempt, move || check(&text, &with.expected(&newer.party.certificates))).await?;
    }
    checked.map_err(|e| {
        attempt.step(|| match &e {
            // Asked for, by its own word, and nothing shows by whom.
            BadResponse::Request(seen) if request.is_none() => no_relay_state(form, seen),
            e => told::step(e, &wanted.expected(&known.party.certificates), &link.provider.name),
        });
        let theirs = matches!(e, BadResponse::Refused { .. });
        let outcome = if theirs { Outcome::ProviderRefused } else { Outcome::CheckFailed };
        Why::Ended { outcome, status: StatusCode::FORBIDDEN }
    })
}

/// Whether the assertion was not used before, on any node.
async fn once(engine: &Engine, attempt: &mut Attempt, link: &SamlLink, assertion: &Assertion) -> Result<(), Why> {
    let id = sha256(format!("assertion {} {}", link.provider.issuer, assertion.id).as_bytes());
    // A provider's far end must not make us remember for years: what is older than its session cannot be answered either.
    let until = assertion.remember_until.min(engine.now() + Duration::days(400));
    match engine.store.use_once(&id, until).await {
        Ok(true) => Ok(()),
        Ok(false) => {
            attempt.step(|| step!(SamlReplayed { id: assertion.id.as_str() }));
            attempt.id = engine.new_crossing();
            Err(Why::FAILED_CHECK)
        }
        Err(e) => {
            attempt.step(|| step!(StoreFailed { how: e.to_string() }));
            Err(Why::UNAVAILABLE)
        }
    }
}

fn to_evidence(attempt: &mut Attempt, link: &SamlLink, assertion: &Assertion, arrived: Moment) -> Result<Evidence, Why> {
    let subject = match &link.trust.subject {
        None => match assertion.name.as_ref().map(NameId::key) {
            Some(Some(key)) => key,
            named => {
                let seen = if named.is_some() { "transient" } else { "none" };
                attempt.step(|| step!(SamlNoName { seen: Param::reason(seen) }));
                return Err(Why::FAILED_CHECK);
            }
        },
        Some(attribute) => {
            let held = assertion.attributes.iter().find(|(n, _)| n == attribute).map(|(_, v)| v.as_slice()).unwrap_or_default();
            match held {
                [one] if !one.trim().is_empty() => one.clone(),
                several => {
                    let seen = format!("{} values", several.len());
                    attempt.step(|| step!(SamlNoSubject { attribute: attribute.as_str(), seen }));
                    return Err(Why::FAILED_CHECK);
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

fn note_assertion(engine: &Engine, attempt: &mut Attempt, own: &OwnSaml, assertion: &Assertion, evidence: &Evidence) {
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
        step!(AssertionAccepted {
            issuer: evidence.issuer.as_str(),
            subject: evidence.subject.as_str(),
            signed,
            certificate: fingerprint(&shown.certificate),
            audience: own.entity_id.as_str(),
            expires_in: (assertion.good_until - engine.now()).num_seconds()
        })
    });
    attempt.step(|| {
        step!(AttributesReleased {
            attributes: evidence.claims.keys().cloned().collect::<Vec<_>>(),
            format: assertion.name.as_ref().map_or("none", NameId::format_name),
            context: assertion.context.clone().unwrap_or_default(),
            at: assertion.authenticated.format("%Y-%m-%d %H:%M:%S UTC").to_string()
        })
    });
}
