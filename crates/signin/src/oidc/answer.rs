//! The provider's answer: checked, exchanged, validated, and turned into evidence.
//!
//! Three endings that look alike to a person are told apart here: the provider refused (its own words), a check of ours
//! failed (which, value seen, value wanted), and a part did not answer. The fourth, never coming back, is an absence and
//! shows in the counts.

use axum::body::Body;
use axum::extract::Path;
use axum::response::Response;
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use http::StatusCode;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::{Evidence, Factors, UserInfo, WayIn};
use passeur_core::identity::display_name;
use passeur_core::step;
use passeur_core::step::{Param, Step};
use passeur_engine::attempt::{Attempt, Who};
use passeur_engine::providers::oidc::{ExchangeError, OidcLink};
use passeur_protocols::oidc::{
    Answer, BadUserInfo, DOCUMENT_MAX, Expected, Metadata, Pkce, Tokens, ValidIdToken, key_id, parse_answer, take_references,
    validate, validate_userinfo,
};
use serde_json::Value;

use super::{ask, referred};
use crate::answer::answer as answer_with;
use crate::journey::Incoming;
use crate::journey::flow::{Flow, Oidc, redirect_uri};
use crate::journey::{Answered, Desk, Destination, Done, Journey, Proven, ProviderSession, Why, fresh};
use crate::{only_value, park, trial};

/// The largest answer that is taken by a form, in bytes.
const FORM_MAX: usize = 16 * 1024;

/// Which of a provider's two addresses an answer came to.
#[derive(Clone, Copy, PartialEq, Eq)]
enum At {
    /// The one of sign-ins, and of trials with the provider of the live edition.
    Answer,
    /// The one of trials that are kept apart: see [`trial::is_apart`].
    Trial,
}

impl At {
    fn is_of(self, leg: &Oidc, provider: &str) -> bool {
        leg.provider == provider && leg.apart == (self == At::Trial)
    }
}

/// `POST /.passeur/oidc/{provider}/answer`: an answer by a form that posts itself.
pub async fn post(incoming: Incoming, Path(provider): Path<String>, body: Body) -> Response {
    let desk = incoming.desk();
    answer_with(posted(desk, At::Answer, &provider, body).await).await
}

/// `POST /.passeur/oidc/{provider}/trial`: the same for trials that are kept apart.
pub async fn post_of_trial(incoming: Incoming, Path(provider): Path<String>, body: Body) -> Response {
    let desk = incoming.desk();
    answer_with(posted(desk, At::Trial, &provider, body).await).await
}

async fn posted<'a>(desk: Desk<'a>, at: At, provider: &str, body: Body) -> Done<'a> {
    let form = park::posted(desk, body, FORM_MAX).await?;
    let state = std::str::from_utf8(&form).ok().and_then(|text| only_value(text, "state"));
    let flow = state.and_then(|s| Flow::<Oidc>::open(desk.engine, &s)).filter(|f| at.is_of(&f.leg.by, provider));
    let Some(flow) = flow else { return Err(desk.unreadable()) };
    park::park(desk, &flow.leg.by.redirect_uri(desk.site()), &form, flow.leg.id()).await
}

/// `GET /.passeur/oidc/{provider}/answer`.
pub async fn answer(incoming: Incoming, Path(provider): Path<String>) -> Response {
    let desk = incoming.desk();
    answer_with(answered_at(desk, At::Answer, &provider).await).await
}

/// `GET /.passeur/oidc/{provider}/trial`: the same for trials that are kept apart.
pub async fn of_trial(incoming: Incoming, Path(provider): Path<String>) -> Response {
    let desk = incoming.desk();
    answer_with(answered_at(desk, At::Trial, &provider).await).await
}

async fn answered_at<'a>(desk: Desk<'a>, at: At, provider: &str) -> Done<'a> {
    let engine = desk.engine;
    let address = redirect_uri(desk.site(), provider, at == At::Trial);
    let query = park::fetch(desk, &address).await?.unwrap_or_else(|| desk.visit.query.clone());
    let Ok(parsed) = parse_answer(&query) else { return Err(desk.unreadable()) };
    let state = match &parsed {
        Answer::Code { state, .. } => Some(state),
        Answer::Refused { state, .. } => state.as_ref(),
    };
    let flow = state.and_then(|s| Flow::<Oidc>::open(engine, s)).filter(|f| at.is_of(&f.leg.by, provider));
    let Some(flow) = flow else { return Err(desk.unreadable()) };
    let link = match trial::link_of(engine, &flow.to, provider).await {
        // The name may stand for another issuer in the live edition by now.
        Ok(link) => link
            .and_then(|l| l.oidc())
            .filter(|l| at == At::Trial || !trial::is_apart(engine, &flow.to, &l.provider.issuer, provider)),
        Err(e) => return Err(desk.stop_plainly(e)),
    };
    let Some(link) = link else { return Err(desk.unreadable()) };
    let sent = ask::sent_step(desk.site(), &link, &flow.leg, desk.lang());
    let mut journey = Journey::resume(desk, flow, Some(sent)).await?;
    let step = answered(&journey, &parsed);
    journey.step(|| step);
    let taken = take(&mut journey, &link, parsed).await;
    let (journey, (evidence, tokens)) = journey.go_on_with(taken)?;
    if let Destination::Trial { token, .. } = &journey.to {
        return Ok(trial::finish(desk, journey.attempt, token, Ok(evidence)).await);
    }
    let session = evidence.claims.get("sid").and_then(Value::as_str).map(str::to_owned);
    let provider =
        ProviderSession { hint: tokens.id_token, name: Some(evidence.subject.clone()), session, ..ProviderSession::default() };
    journey.with(Proven { evidence, provider }).enter().await
}

fn answered(journey: &Journey<'_, Answered<Oidc>>, parsed: &Answer) -> Step {
    let mut parameters = vec![];
    let iss = match parsed {
        Answer::Code { iss, .. } => {
            parameters.extend(["code=… (masked)".to_owned(), "state=… (ours)".to_owned()]);
            iss
        }
        Answer::Refused { error, iss, .. } => {
            parameters.extend([format!("error={error}"), "state=… (ours)".to_owned()]);
            iss
        }
    };
    parameters.extend(iss.as_ref().map(|i| format!("iss={i}")));
    step!(ProviderAnswered { provider: journey.leg().by.provider.as_str(), parameters, after: journey.after() })
}

/// Every check of the answer, in order; the first that fails ends the attempt.
async fn take(journey: &mut Journey<'_, Answered<Oidc>>, link: &OidcLink, parsed: Answer) -> Result<(Evidence, Tokens), Why> {
    let engine = journey.engine();
    journey.check_flow(link.provider.answer_within).await?;
    let metadata = link.metadata().await.map_err(|e| {
        journey.step(|| ask::undiscovered(link, &e));
        Why::SILENT
    })?;
    let code = code_of(&mut journey.attempt, link, &metadata, parsed)?;
    let tokens = exchange(journey, link, &metadata, &code).await?;
    journey.attempt.received("id_token", || decoded(&tokens.id_token));
    let id_token = check_id_token(journey, link, &metadata, &tokens).await?;
    let mut claims = id_token.claims();
    let factors = Factors::of_claims(&claims);
    let issued = id_token.claim("iat").and_then(Value::as_i64).and_then(|s| chrono::DateTime::from_timestamp(s, 0));
    journey.check_afresh(factors.auth_time, issued)?;
    let factors = Factors { auth_time: fresh::proven_at(factors.auth_time, engine.now()), ..factors };
    let attempt = &mut journey.attempt;
    let mut userinfo = ask_userinfo(attempt, link, &metadata, &tokens, &id_token).await;
    let mut references = take_references(&mut claims);
    if let UserInfo::Answered { claims } = &mut userinfo {
        references.extend(take_references(claims));
    }
    let referred = referred::read(engine, attempt, link, &metadata, &id_token, references).await;
    let name = link.provider.name.clone();
    let of = Evidence::of(WayIn::Oidc, name.clone(), id_token.subject(), link.provider.issuer.clone());
    let evidence = Evidence { claims, userinfo, referred, factors, ..of };
    note_claims(attempt, &evidence);
    attempt.who = Some(Who { provider: name, subject: evidence.subject.clone(), name: display_name(&evidence) });
    Ok((evidence, tokens))
}

/// The code that the answer brings, where the provider gave one and is the one that was asked (RFC 9207).
fn code_of(attempt: &mut Attempt, link: &OidcLink, metadata: &Metadata, parsed: Answer) -> Result<String, Why> {
    let iss = match &parsed {
        Answer::Code { iss, .. } | Answer::Refused { iss, .. } => iss.as_deref(),
    };
    if iss.is_some_and(|i| i != metadata.issuer) || (iss.is_none() && metadata.iss_in_answer) {
        attempt.step(|| step!(IssuerMismatch { seen: iss.unwrap_or("none"), wanted: metadata.issuer.as_str() }));
        return Err(Why::FAILED_CHECK);
    }
    match parsed {
        Answer::Code { code, .. } => Ok(code),
        Answer::Refused { error, description, .. } => {
            attempt.step(|| step!(ProviderRefused { provider: link.provider.name.as_str(), error, description }));
            Err(Why::Ended { outcome: Outcome::ProviderRefused, status: StatusCode::FORBIDDEN })
        }
    }
}

async fn exchange(
    journey: &mut Journey<'_, Answered<Oidc>>,
    link: &OidcLink,
    metadata: &Metadata,
    code: &str,
) -> Result<Tokens, Why> {
    let leg = &journey.leg().by;
    let (pkce, redirect_uri) = (Pkce::from_verifier(leg.verifier.clone()), leg.redirect_uri(journey.site()));
    let attempt = &mut journey.attempt;
    let endpoint = metadata.token_endpoint.as_str();
    let auth = link.auth_method(metadata);
    match link.exchange(metadata, code, &redirect_uri, &pkce).await {
        Ok((tokens, millis)) => {
            attempt.step(|| step!(TokensReceived { endpoint, auth, kinds: "id_token, access_token", millis: i64::from(millis) }));
            Ok(tokens)
        }
        Err(ExchangeError::Refused { error, description }) => {
            attempt.step(|| step!(TokenRefused { endpoint, client_id: link.client.id.as_str(), auth, error, description }));
            Err(Why::Ended { outcome: Outcome::ProviderRefused, status: StatusCode::BAD_GATEWAY })
        }
        Err(ExchangeError::Unproven(how)) => {
            attempt.step(|| link.unusable(&how));
            Err(Why::SILENT)
        }
        Err(ExchangeError::Silent(how)) => {
            attempt.step(|| step!(ProviderSilent { endpoint, how }));
            Err(Why::SILENT)
        }
    }
}

async fn check_id_token(
    journey: &mut Journey<'_, Answered<Oidc>>,
    link: &OidcLink,
    metadata: &Metadata,
    tokens: &Tokens,
) -> Result<ValidIdToken, Why> {
    let (engine, nonce) = (journey.engine(), journey.leg().nonce.clone());
    let attempt = &mut journey.attempt;
    let expected = Expected {
        issuer: &metadata.issuer,
        client_id: &link.client.id,
        nonce: &nonce,
        access_token: &tokens.access_token,
        now: engine.now(),
        skew: link.provider.skew,
    };
    let mut keys = link.keys(metadata).await.map_err(|e| {
        attempt.step(|| step!(ProviderSilent { endpoint: metadata.jwks_uri.as_str(), how: e.to_string() }));
        Why::SILENT
    })?;
    let mut checked = validate(&tokens.id_token, &keys.set, &expected);
    if link.once_more(metadata, &mut keys, &checked).await {
        checked = validate(&tokens.id_token, &keys.set, &expected);
        let count = keys.refetched.unwrap_or_default();
        let kid = key_id(&tokens.id_token).unwrap_or_default();
        attempt.step(|| step!(KeysRefetched { kid, count: count as i64 }));
    }
    match checked {
        Ok(t) => {
            attempt.step(|| {
                step!(IdTokenAccepted {
                    issuer: metadata.issuer.as_str(),
                    subject: t.subject(),
                    alg: t.alg.as_str(),
                    kid: t.kid.as_str(),
                    audience: link.client.id.as_str(),
                    expires_in: (t.expires - engine.now()).num_seconds()
                })
            });
            Ok(t)
        }
        Err(e) => {
            attempt.step(|| step!(IdTokenRefused { check: Param::reason(e.check), seen: e.seen, wanted: e.wanted }));
            Err(Why::FAILED_CHECK)
        }
    }
}

async fn ask_userinfo(
    attempt: &mut Attempt,
    link: &OidcLink,
    metadata: &Metadata,
    tokens: &Tokens,
    id_token: &ValidIdToken,
) -> UserInfo {
    let Some(endpoint) = &metadata.userinfo_endpoint else {
        return UserInfo::NotAsked;
    };
    let bearer = format!("Bearer {}", tokens.access_token);
    let answer = match link.http() {
        Ok(client) => client.get(endpoint.as_str(), Some(&bearer), DOCUMENT_MAX).await,
        Err(e) => Err(e),
    };
    if let Ok(answer) = &answer {
        attempt.received("userinfo", || masked_text(&answer.body));
    }
    let outcome = match answer {
        Err(e) => Err(e.to_string()),
        Ok(a) => match validate_userinfo(a.status, &a.body, id_token) {
            Ok(claims) => Ok((claims, a.millis)),
            Err(BadUserInfo::OtherSubject(seen)) => {
                let how = BadUserInfo::OtherSubject(seen.clone()).to_string();
                let wanted = id_token.subject();
                attempt.step(|| step!(UserInfoOther { endpoint: endpoint.as_str(), seen, wanted }));
                return UserInfo::Failed { how };
            }
            Err(e) => Err(e.to_string()),
        },
    };
    match outcome {
        Ok((claims, millis)) => {
            let names: Vec<String> = claims.keys().cloned().collect();
            attempt.step(|| step!(UserInfoAnswered { endpoint: endpoint.as_str(), claims: names, millis: i64::from(millis) }));
            UserInfo::Answered { claims }
        }
        Err(how) => {
            attempt.step(|| step!(UserInfoFailed { endpoint: endpoint.as_str(), how: how.as_str() }));
            UserInfo::Failed { how }
        }
    }
}

/// An answer as it may be told.
fn masked_text(body: &[u8]) -> String {
    match serde_json::from_slice::<Value>(body) {
        Ok(mut json) if json.get("_claim_sources").is_some() => {
            mask_sources(&mut json);
            json.to_string()
        }
        _ => String::from_utf8_lossy(body).into_owned(),
    }
}

/// Masks the tokens and JWTs by which claims elsewhere are to be had (OpenID Connect Core 5.6.2).
fn mask_sources(json: &mut Value) {
    let sources = json.get_mut("_claim_sources").and_then(Value::as_object_mut);
    for source in sources.into_iter().flat_map(|s| s.values_mut()).filter_map(Value::as_object_mut) {
        for name in ["access_token", "JWT"] {
            if source.contains_key(name) {
                source.insert(name.to_owned(), "… (masked)".into());
            }
        }
    }
}

/// A token as it may be told: header and claims, without the signature.
fn decoded(token: &str) -> String {
    let part = |text: &str| {
        let bytes = URL_SAFE_NO_PAD.decode(text).ok()?;
        let mut json: Value = serde_json::from_slice(&bytes).ok()?;
        mask_sources(&mut json);
        serde_json::to_string_pretty(&json).ok()
    };
    let parts: Vec<String> =
        token.split('.').take(2).map(|p| part(p).unwrap_or_else(|| format!("not readable: {} characters", p.len()))).collect();
    parts.join("\n.\n")
}

fn note_claims(attempt: &mut Attempt, evidence: &Evidence) {
    let mut claims: Vec<String> = evidence.claims.keys().map(|k| format!("{k} (id_token)")).collect();
    if let UserInfo::Answered { claims: more } = &evidence.userinfo {
        claims.extend(more.keys().map(|k| format!("{k} (userinfo)")));
    }
    attempt.step(|| {
        step!(ClaimsReleased { claims, acr: evidence.factors.acr.clone().unwrap_or_default(), amr: evidence.factors.amr.clone() })
    });
}
