//! The provider's answer: checked, exchanged, validated, and turned into evidence and a session.
//!
//! Three endings that look alike to a person are told apart here: the provider refused (its own words), a check of ours
//! failed (which, value seen, value wanted), and a part did not answer. The fourth, never coming back, is an absence and
//! shows in the counts.

use axum::body::Body;
use axum::extract::{Path, State};
use axum::response::{IntoResponse, Response};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use http::StatusCode;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::{Evidence, Factors, UserInfo, WayIn};
use passeur_core::identity::display_name;
use passeur_core::step::{Param, Step, StepCode};
use passeur_engine::attempt::{Attempt, Who};
use passeur_engine::providers::oidc::{ExchangeError, OidcLink};
use passeur_live::edition::Edition;
use passeur_protocols::oidc::{
    Answer, BadUserInfo, DOCUMENT_MAX, Expected, Metadata, Pkce, Tokens, ValidIdToken, key_id, parse_answer, take_references,
    validate, validate_userinfo,
};
use serde_json::Value;

use super::ask::{Flow, Purposed, redirect_uri};
use super::enter::AtProvider;
use super::flow::{Ended, check_afresh, check_flow, ended, failed_check, refuse, resume};
use super::{LiveEdition, Visit, enter, fresh, only_value, park, referred, start, trial};
use crate::pages;
use passeur_engine::Engine;

/// The largest answer that is taken by a form, in bytes.
const FORM_MAX: usize = 16 * 1024;

/// `POST /.passeur/oidc/{provider}/answer`: an answer by a form that posts itself.
pub async fn post(
    State(engine): State<Engine>,
    edition: Option<LiveEdition>,
    Path(provider): Path<String>,
    visit: Visit,
    body: Body,
) -> Response {
    posted(engine, edition, (provider, false), visit, body).await
}

/// `POST /.passeur/oidc/{provider}/trial`: the same for trials that are kept apart.
pub async fn post_of_trial(
    State(engine): State<Engine>,
    edition: Option<LiveEdition>,
    Path(provider): Path<String>,
    visit: Visit,
    body: Body,
) -> Response {
    posted(engine, edition, (provider, true), visit, body).await
}

async fn posted(
    engine: Engine,
    edition: Option<LiveEdition>,
    (provider, apart): (String, bool),
    visit: Visit,
    body: Body,
) -> Response {
    let Some(LiveEdition(edition)) = edition else {
        return pages::not_set_up(visit.facts.lang).into_response();
    };
    let form = match park::posted(&engine, &edition, &visit, body, FORM_MAX).await {
        Ok(form) => form,
        Err(response) => return response,
    };
    let state = std::str::from_utf8(&form).ok().and_then(|text| only_value(text, "state"));
    let Some(flow) = state.and_then(|s| Flow::open(&engine, &s)).filter(|f| f.provider == provider && f.apart == apart) else {
        return state_unreadable(&engine, &edition, &visit).await;
    };
    park::park(&engine, &edition, &visit, &flow.redirect_uri(&edition.site), &form, flow.id()).await
}

/// What names no flow of ours is of nobody whom we sent.
async fn state_unreadable(engine: &Engine, edition: &Edition, visit: &Visit) -> Response {
    let mut attempt = Attempt::begin(engine, "sign-in", &visit.facts);
    attempt.step(|| Step::new(StepCode::StateUnreadable));
    refuse(edition, attempt, failed_check()).await
}

/// `GET /.passeur/oidc/{provider}/answer`.
pub async fn answer(
    State(engine): State<Engine>,
    edition: Option<LiveEdition>,
    Path(provider): Path<String>,
    visit: Visit,
) -> Response {
    answered_at(engine, edition, (provider, false), visit).await
}

/// `GET /.passeur/oidc/{provider}/trial`: the same for trials that are kept apart.
pub async fn of_trial(
    State(engine): State<Engine>,
    edition: Option<LiveEdition>,
    Path(provider): Path<String>,
    visit: Visit,
) -> Response {
    answered_at(engine, edition, (provider, true), visit).await
}

async fn answered_at(
    engine: Engine,
    edition: Option<LiveEdition>,
    (provider, apart): (String, bool),
    mut visit: Visit,
) -> Response {
    let Some(LiveEdition(edition)) = edition else {
        return pages::not_set_up(visit.facts.lang).into_response();
    };
    match park::fetch(&engine, &edition, &visit, &redirect_uri(&edition.site, &provider, apart)).await {
        Ok(Some(form)) => visit.query = form,
        Ok(None) => {}
        Err(response) => return response,
    }
    let parsed = parse_answer(&visit.query).ok();
    let state = match &parsed {
        Some(Answer::Code { state, .. }) => Some(state),
        Some(Answer::Refused { state, .. }) => state.as_ref(),
        None => None,
    };
    let flow = state.and_then(|s| Flow::open(&engine, s)).filter(|f| f.provider == provider && f.apart == apart);
    let link = match &flow {
        Some(flow) => match trial::link_of(&engine, &flow.to, &provider).await {
            // The name may stand for another issuer in the live edition by now.
            Ok(link) => link
                .and_then(|l| l.oidc())
                .filter(|l| apart || !trial::is_apart(&engine, &flow.to, &l.provider.issuer, &provider)),
            Err(e) => return pages::store_failed(&edition.site, visit.facts.lang, &e).into_response(),
        },
        None => None,
    };
    let (Some(parsed), Some(flow), Some(link)) = (parsed, flow, link) else {
        return state_unreadable(&engine, &edition, &visit).await;
    };
    let sent = start::sent_step(&edition.site, &link, &flow, visit.facts.lang);
    let Some(mut attempt) = resume(&engine, &edition, &visit, &flow, Some(sent)).await else {
        return pages::not_set_up(visit.facts.lang).into_response();
    };
    attempt.step(|| answered(&flow, &parsed, &engine));
    let taken = take(&engine, &edition, &mut attempt, &visit, &flow, &link, parsed).await;
    if let Purposed::Trial { token, .. } = &flow.to {
        return trial::finish(&engine, &edition, attempt, token, taken.map(|(evidence, _)| evidence)).await;
    }
    match taken {
        Ok((evidence, tokens)) => {
            let session = evidence.claims.get("sid").and_then(Value::as_str).map(str::to_owned);
            let there = AtProvider {
                hint: tokens.id_token,
                name: Some(evidence.subject.clone()),
                session,
                kept: None,
                sent: None,
                until: None,
            };
            enter::begin(&engine, &edition, attempt, &visit, evidence, there, flow.to).await
        }
        Err(e) => refuse(&edition, attempt, e).await,
    }
}

fn answered(flow: &Flow, parsed: &Answer, engine: &Engine) -> Step {
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
    let after = (engine.now().timestamp_millis() - flow.sent) / 1000;
    Step::new(StepCode::ProviderAnswered)
        .with("provider", flow.provider.as_str())
        .with("parameters", parameters)
        .with("after", after)
}

/// Every check of the answer, in order; the first that fails ends the attempt.
async fn take(
    engine: &Engine,
    edition: &Edition,
    attempt: &mut Attempt,
    visit: &Visit,
    flow: &Flow,
    link: &OidcLink,
    parsed: Answer,
) -> Result<(Evidence, Tokens), Ended> {
    check_flow(engine, edition, attempt, visit, flow, link.provider.answer_within).await?;
    let metadata = link.metadata().await.map_err(|e| {
        attempt.step(|| {
            Step::new(StepCode::DiscoveryFailed)
                .with("provider", flow.provider.as_str())
                .with("issuer", link.provider.issuer.as_str())
                .with("how", e.to_string())
        });
        ended(Outcome::Failed, StatusCode::BAD_GATEWAY)
    })?;
    let iss = match &parsed {
        Answer::Code { iss, .. } | Answer::Refused { iss, .. } => iss.as_deref(),
    };
    if iss.is_some_and(|i| i != metadata.issuer) || (iss.is_none() && metadata.iss_in_answer) {
        attempt.step(|| {
            Step::new(StepCode::IssuerMismatch).with("seen", iss.unwrap_or("none")).with("wanted", metadata.issuer.as_str())
        });
        return Err(failed_check());
    }
    let code = match parsed {
        Answer::Code { code, .. } => code,
        Answer::Refused { error, description, .. } => {
            attempt.step(|| {
                Step::new(StepCode::ProviderRefused)
                    .with("provider", flow.provider.as_str())
                    .with("error", error)
                    .with("description", description)
            });
            return Err(ended(Outcome::ProviderRefused, StatusCode::FORBIDDEN));
        }
    };
    let tokens = exchange(edition, attempt, flow, link, &metadata, &code).await?;
    attempt.received("id_token", || decoded(&tokens.id_token));
    let id_token = check_id_token(engine, attempt, flow, link, &metadata, &tokens).await?;
    let mut claims = id_token.claims();
    let factors = Factors::of_claims(&claims);
    let issued = id_token.claim("iat").and_then(Value::as_i64).and_then(|s| chrono::DateTime::from_timestamp(s, 0));
    check_afresh(&edition.site, attempt, flow, factors.auth_time, issued)?;
    let factors = Factors { auth_time: fresh::proven_at(factors.auth_time, engine.now()), ..factors };
    let mut userinfo = ask_userinfo(attempt, link, &metadata, &tokens, &id_token).await;
    let mut references = take_references(&mut claims);
    if let UserInfo::Answered { claims } = &mut userinfo {
        references.extend(take_references(claims));
    }
    let referred = referred::read(engine, attempt, link, &metadata, &id_token, references).await;
    let of = Evidence::of(WayIn::Oidc, flow.provider.clone(), id_token.subject(), link.provider.issuer.clone());
    let evidence = Evidence { claims, userinfo, referred, factors, ..of };
    tell_claims(attempt, &evidence);
    attempt.who = Some(Who { provider: flow.provider.clone(), subject: evidence.subject.clone(), name: display_name(&evidence) });
    Ok((evidence, tokens))
}

async fn exchange(
    edition: &Edition,
    attempt: &mut Attempt,
    flow: &Flow,
    link: &OidcLink,
    metadata: &Metadata,
    code: &str,
) -> Result<Tokens, Ended> {
    let pkce = Pkce::from_verifier(flow.verifier.clone());
    let endpoint = metadata.token_endpoint.as_str();
    let auth = link.auth_method(metadata);
    match link.exchange(metadata, code, &flow.redirect_uri(&edition.site), &pkce).await {
        Ok((tokens, millis)) => {
            attempt.step(|| {
                Step::new(StepCode::TokensReceived)
                    .with("endpoint", endpoint)
                    .with("auth", auth)
                    .with("kinds", "id_token, access_token")
                    .with("millis", i64::from(millis))
            });
            Ok(tokens)
        }
        Err(ExchangeError::Refused { error, description }) => {
            attempt.step(|| {
                Step::new(StepCode::TokenRefused)
                    .with("endpoint", endpoint)
                    .with("client_id", link.client.id.as_str())
                    .with("auth", auth)
                    .with("error", error)
                    .with("description", description)
            });
            Err(ended(Outcome::ProviderRefused, StatusCode::BAD_GATEWAY))
        }
        Err(ExchangeError::Unproven(how)) => {
            attempt.step(|| link.unusable(&how));
            Err(ended(Outcome::Failed, StatusCode::BAD_GATEWAY))
        }
        Err(ExchangeError::Silent(how)) => {
            attempt.step(|| Step::new(StepCode::ProviderSilent).with("endpoint", endpoint).with("how", how));
            Err(ended(Outcome::Failed, StatusCode::BAD_GATEWAY))
        }
    }
}

async fn check_id_token(
    engine: &Engine,
    attempt: &mut Attempt,
    flow: &Flow,
    link: &OidcLink,
    metadata: &Metadata,
    tokens: &Tokens,
) -> Result<ValidIdToken, Ended> {
    let expected = Expected {
        issuer: &metadata.issuer,
        client_id: &link.client.id,
        nonce: &flow.nonce,
        access_token: &tokens.access_token,
        now: engine.now(),
        skew: link.provider.skew,
    };
    let mut keys = link.keys(metadata).await.map_err(|e| {
        attempt
            .step(|| Step::new(StepCode::ProviderSilent).with("endpoint", metadata.jwks_uri.as_str()).with("how", e.to_string()));
        ended(Outcome::Failed, StatusCode::BAD_GATEWAY)
    })?;
    let mut checked = validate(&tokens.id_token, &keys.set, &expected);
    if link.once_more(metadata, &mut keys, &checked).await {
        checked = validate(&tokens.id_token, &keys.set, &expected);
        let count = keys.refetched.unwrap_or_default();
        let kid = key_id(&tokens.id_token).unwrap_or_default();
        attempt.step(|| Step::new(StepCode::KeysRefetched).with("kid", kid).with("count", count as i64));
    }
    match checked {
        Ok(t) => {
            attempt.step(|| {
                Step::new(StepCode::IdTokenAccepted)
                    .with("issuer", metadata.issuer.as_str())
                    .with("subject", t.subject())
                    .with("alg", t.alg.as_str())
                    .with("kid", t.kid.as_str())
                    .with("audience", link.client.id.as_str())
                    .with("expires_in", (t.expires - engine.now()).num_seconds())
            });
            Ok(t)
        }
        Err(e) => {
            attempt.step(|| {
                Step::new(StepCode::IdTokenRefused)
                    .with("check", Param::reason(e.check))
                    .with("seen", e.seen)
                    .with("wanted", e.wanted)
            });
            Err(failed_check())
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
                let step = Step::new(StepCode::UserInfoOther).with("endpoint", endpoint.as_str());
                attempt.step(|| step.with("seen", seen).with("wanted", id_token.subject()));
                return UserInfo::Failed { how };
            }
            Err(e) => Err(e.to_string()),
        },
    };
    match outcome {
        Ok((claims, millis)) => {
            let names: Vec<String> = claims.keys().cloned().collect();
            attempt.step(|| {
                Step::new(StepCode::UserInfoAnswered)
                    .with("endpoint", endpoint.as_str())
                    .with("claims", names)
                    .with("millis", i64::from(millis))
            });
            UserInfo::Answered { claims }
        }
        Err(how) => {
            attempt.step(|| Step::new(StepCode::UserInfoFailed).with("endpoint", endpoint.as_str()).with("how", how.as_str()));
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

fn tell_claims(attempt: &mut Attempt, evidence: &Evidence) {
    let mut claims: Vec<String> = evidence.claims.keys().map(|k| format!("{k} (id_token)")).collect();
    if let UserInfo::Answered { claims: more } = &evidence.userinfo {
        claims.extend(more.keys().map(|k| format!("{k} (userinfo)")));
    }
    attempt.step(|| {
        Step::new(StepCode::ClaimsReleased)
            .with("claims", claims)
            .with("acr", evidence.factors.acr.clone().unwrap_or_default())
            .with("amr", evidence.factors.amr.clone())
    });
}
