//! Programs without a browser: a token is checked once, opens a session of its own, and from then on is looked up like a cookie.
//!
//! An access token is checked here where it is a JWT (RFC 9068) and otherwise by asking the provider (RFC 7662), which only the
//! one provider of a gate is asked. A personal token stands for its owner, as their provider named them last; rules, delivery,
//! directory and records are the same as for people. Once a session that a token opened is ended, the token opens no other.

use std::net::IpAddr;
use std::sync::Arc;

use axum::response::{IntoResponse, Response};
use http::{HeaderValue, StatusCode, header};
use passeur_core::Moment;
use passeur_core::address::neighbourhood;
use passeur_core::circumstances::RequestFacts;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::{Evidence, Factors, WayIn};
use passeur_core::id::{CrossingId, Token, hex, sha256};
use passeur_core::site::{ACCESS_TOKEN, Callers, Gate, PERSONAL_TOKEN, Site, WayKind};
use passeur_core::step::{Param, Step, StepCode};
use passeur_core::x509;
use passeur_engine::attempt::{Attempt, Who};
use passeur_engine::grants::{self, Asking, Carriage, Decided};
use passeur_engine::look_up;
use passeur_engine::providers::oidc::OidcLink;
use passeur_engine::random::new_uuid;
use passeur_engine::workers::Overloaded;
use passeur_engine::{ending, tries};
use passeur_gateway::caller;
use passeur_gateway::tls::verify_client;
use passeur_live::edition::Edition;
use passeur_protocols::oidc::{
    ExpectedAccess, IdTokenError, ValidAccessToken, issuer_of, validate_access_token, validate_introspection,
};
use passeur_store::{BegunByToken, GateTokenRow, NewSession, StoreError};

use crate::api::problem;
use crate::app::App;
use crate::signin::flow::display_name;

/// How every personal token begins, so that whoever finds one knows what it is.
pub use passeur_core::id::PERSONAL_TOKEN as PREFIX;
/// Tokens from one neighbourhood within the window of [`passeur_engine::tries`] that are no good, after which no more are checked.
const BAD_MAX: i32 = 120;

/// What a token that was not taken is answered with.
pub enum NotTaken {
    Answer(Box<Response>),
    Store(StoreError),
}

impl From<StoreError> for NotTaken {
    fn from(e: StoreError) -> NotTaken {
        NotTaken::Store(e)
    }
}

/// What a good token stands for.
struct Good {
    evidence: Evidence,
    expires: Moment,
    /// What it is known by, whatever signature it comes with, and until when it could come again.
    thing: [u8; 32],
    ends: Moment,
    paths: Option<Vec<String>>,
    personal: Option<uuid::Uuid>,
    step: Step,
}

/// Why a token is none: check, what was seen and what was wanted.
struct Bad {
    check: String,
    seen: String,
    wanted: String,
}

fn bad(check: &str, seen: impl Into<String>, wanted: impl Into<String>) -> Bad {
    Bad { check: check.to_owned(), seen: seen.into(), wanted: wanted.into() }
}

/// What was found out about a token.
enum Found {
    Good(Box<Good>),
    Bad(Bad),
    /// Whether it is good cannot be known just now: where, and why not. It counts for nothing, and against nobody.
    NotNow(String, String),
}

impl From<Bad> for Found {
    fn from(bad: Bad) -> Found {
        Found::Bad(bad)
    }
}

impl From<IdTokenError> for Found {
    fn from(e: IdTokenError) -> Found {
        Found::Bad(bad(e.check, e.seen, e.wanted))
    }
}

impl From<Overloaded> for Found {
    fn from(e: Overloaded) -> Found {
        Found::NotNow("this node".to_owned(), e.to_string())
    }
}

/// A provider that did not answer, as what was found out.
fn silent(link: &OidcLink, e: impl ToString) -> Found {
    Found::NotNow(link.provider.issuer.clone(), e.to_string())
}

/// A problem with a challenge (RFC 6750 3).
fn challenge(status: StatusCode, error: &str, words: &str, id: CrossingId) -> Response {
    let code = if status == StatusCode::FORBIDDEN { "refused" } else { "token" };
    let mut response = problem(status, code, "Not let through", words).with_crossing(id).into_response();
    if status == StatusCode::UNAUTHORIZED
        && let Ok(value) = HeaderValue::from_str(&format!("Bearer realm=\"passeur\", error=\"{error}\""))
    {
        response.headers_mut().insert(header::WWW_AUTHENTICATE, value);
    }
    response
}

/// Checks a token that has opened nothing at a gate yet, and begins a session on it.
pub async fn begin(app: &App, edition: &Edition, gate: &Gate, token: &str, facts: &RequestFacts) -> Result<(), NotTaken> {
    let site = &edition.site;
    let Some(callers) = &gate.access.callers else {
        let digest = caller::digest(&gate.name, token);
        return Err(refused(app, gate, facts, &digest, bad("gate", "a token", "a session")).await);
    };
    let found = async || match token.strip_prefix(PREFIX) {
        Some(secret) if callers.personal => personal(app, site, gate, callers, secret).await,
        Some(_) => Ok(bad("token", "a personal token", "an access token: this gate takes no personal ones").into()),
        None => Ok(access(app, site, gate, callers, token, facts.address).await.unwrap_or_else(|e| e)),
    };
    open(app, edition, gate, caller::digest(&gate.name, token), facts, found).await
}

/// The same for a client certificate.
pub async fn begin_by_certificate(
    app: &App,
    edition: &Arc<Edition>,
    gate: &Gate,
    chain: &Arc<[Vec<u8>]>,
    facts: &RequestFacts,
) -> Result<(), NotTaken> {
    let found = async || {
        let (edition, gate, chain, now) = (edition.clone(), gate.name.clone(), chain.clone(), app.now());
        let judge = move || match edition.site.gate(&gate) {
            Some(gate) => certificate(&edition.site, gate, &chain, now),
            None => Err(bad("gate", gate.as_str(), "a gate of this site")),
        };
        Ok(match app.workers.run(facts.address, judge).await {
            Ok(Ok(good)) => Found::Good(Box::new(good)),
            Ok(Err(bad)) => bad.into(),
            Err(e) => e.into(),
        })
    };
    open(app, edition, gate, caller::certificate_digest(&gate.name, chain), facts, found).await
}

/// How long what a certificate opened is good, in hours, before the certificate is looked at again.
const CERTIFICATE_HOURS: i64 = 1;

fn certificate(site: &Site, gate: &Gate, chain: &[Vec<u8>], now: Moment) -> Result<Good, Bad> {
    let name = gate.access.callers.as_ref().and_then(|c| c.certificates.as_deref()).unwrap_or_default();
    let Some(WayKind::Certificate(way)) = site.way(name).map(|w| &w.kind) else {
        return Err(bad("gate", "a client certificate", "a gate that takes one"));
    };
    verify_client(chain, &way.authorities, now).map_err(|why| bad("chain", why, format!("one of the authorities of {name}")))?;
    let der = chain.first().map(Vec::as_slice).unwrap_or_default();
    let (Some(holder), Some(dates)) = (x509::holder(der), x509::read(der)) else {
        return Err(bad("form", "a certificate without a readable name", "a distinguished name"));
    };
    let expires = dates.not_after.min(now + chrono::Duration::hours(CERTIFICATE_HOURS));
    let mut claims = serde_json::Map::new();
    claims.insert("subject".into(), holder.subject.clone().into());
    claims.insert("issuer".into(), holder.issuer.clone().into());
    for (name, values) in [("cn", &holder.cn), ("mail", &holder.mail), ("dns", &holder.dns), ("uri", &holder.uri)] {
        if !values.is_empty() {
            claims.insert(name.into(), values.clone().into());
        }
    }
    let evidence = Evidence {
        claims,
        factors: Factors { amr: vec!["pop".into()], auth_time: Some(now), ..Factors::default() },
        ..Evidence::of(WayIn::Certificate, name, holder.subject.clone(), holder.issuer.clone())
    };
    let step = Step::new(StepCode::CertificateRight)
        .with("subject", holder.subject)
        .with("issuer", holder.issuer)
        .with("fingerprint", x509::fingerprint(der))
        .with("until", dates.not_after.format("%Y-%m-%d %H:%M UTC").to_string());
    let thing = sha256(&[b"certificate\0", der].concat());
    Ok(Good { evidence, expires, thing, ends: dates.not_after, paths: None, personal: None, step })
}

/// Opens a session on what was found to be good, under the digest by which the gate will know it.
async fn open(
    app: &App,
    edition: &Edition,
    gate: &Gate,
    digest: [u8; 32],
    facts: &RequestFacts,
    found: impl AsyncFnOnce() -> Result<Found, StoreError>,
) -> Result<(), NotTaken> {
    let site = &edition.site;
    let place = neighbourhood(facts.address).to_string();
    let mut attempt = Attempt::begin(app, &gate.name, facts);
    if !tries::count_plain(app, &mut attempt, "token", &place, BAD_MAX).await? {
        let id = attempt.record_anonymous(Outcome::CheckFailed);
        let words = "Too many tokens from here were no good. Try again in a quarter of an hour.";
        return Err(NotTaken::Answer(Box::new(challenge(StatusCode::TOO_MANY_REQUESTS, "invalid_token", words, id))));
    }
    let found = found().await?;
    if !matches!(found, Found::Bad(_)) {
        tries::uncount_plain(app, "token", &place).await?;
    }
    let mut good = match found {
        Found::Good(good) => *good,
        Found::Bad(why) => return Err(refused(app, gate, facts, &digest, why).await),
        Found::NotNow(whom, how) => return Err(not_now(attempt, whom, how)),
    };
    attempt.provider = Some(good.evidence.provider.clone());
    let name = display_name(&good.evidence);
    attempt.who =
        Some(Who { provider: good.evidence.provider.clone(), subject: good.evidence.subject.clone(), name: name.clone() });
    let step = good.step;
    attempt.step(|| step);
    good.evidence = good.evidence.storable();
    look_up::complete(app, site, &gate.access, &mut good.evidence).await;
    attempt.set_evidence(&good.evidence);
    let (now, id) = (app.now(), new_uuid());
    let asking = Asking { edition, gate, evidence: &good.evidence, at: facts.circumstances(now) };
    // Nobody is there to prove anything more.
    let granted = match grants::decide(app, asking, Carriage::Token(id), &mut attempt, |_| false).await? {
        Decided::Granted(granted) => granted,
        Decided::Refused(refusal, crossing) => {
            let words = refusal.words.unwrap_or_else(|| "The rules of this gate do not let this token's owner in.".to_owned());
            let answer = challenge(StatusCode::FORBIDDEN, "insufficient_scope", &words, crossing);
            return Err(NotTaken::Answer(Box::new(answer)));
        }
        Decided::More(_) | Decided::Afresh(_) => return Err(ended(attempt.id)),
    };
    let session = NewSession {
        id,
        // Nobody holds this one: the session is reached by the program's own token alone.
        token_digest: app.new_token().digest().to_vec(),
        provider: good.evidence.provider.clone(),
        subject: good.evidence.subject.clone(),
        name,
        evidence: serde_json::to_value(&good.evidence).map_err(|e| StoreError::Query(e.to_string()))?,
        began: now,
        last_seen: now,
        address: facts.address.to_string(),
        agent: facts.agent.clone(),
        hint: None,
        provider_name: None,
        provider_session: None,
        personal_token: good.personal,
        kept: None,
        authority: good.evidence.person().authority,
        until: None,
    };
    let row = GateTokenRow {
        digest: digest.to_vec(),
        session_id: id,
        gate: gate.name.clone(),
        crossing: granted.crossing().to_string(),
        decision: granted.digest().to_vec(),
        created_at: now,
        expires_at: Some(good.expires),
        paths: good.paths,
        thing: Some(good.thing.to_vec()),
        remember_until: Some(good.ends),
    };
    match app.store.begin_by_token(session, row).await? {
        BegunByToken::Begun => {}
        BegunByToken::Already => return Ok(()),
        BegunByToken::Spent => return Err(ended(attempt.id)),
        BegunByToken::Blocked(block) => {
            let mut attempt = Attempt::begin(app, &gate.name, facts);
            attempt.who =
                Some(Who { provider: block.provider.clone(), subject: block.subject.clone(), name: block.name.clone() });
            attempt.step(|| ending::kept_out_step(&block));
            attempt.record(Outcome::Refused).await?;
            let answer = challenge(StatusCode::FORBIDDEN, "invalid_token", "This token's owner is kept out.", attempt.id);
            return Err(NotTaken::Answer(Box::new(answer)));
        }
    }
    if let Some(token) = good.personal {
        app.store.personal_token_used(token, now).await?;
    }
    Ok(())
}

/// The answer to a token whose session was ended.
pub fn ended(id: CrossingId) -> NotTaken {
    let words = "The session that this token opened was ended, so it opens no other. Get a new token.";
    NotTaken::Answer(Box::new(challenge(StatusCode::UNAUTHORIZED, "invalid_token", words, id)))
}

/// The answer where a token cannot be judged just now: it may be as good as any.
fn not_now(mut attempt: Attempt, whom: String, how: String) -> NotTaken {
    attempt.step(|| Step::new(StepCode::ProviderSilent).with("endpoint", whom).with("how", how));
    let id = attempt.record_anonymous(Outcome::Failed);
    let words = "Whether the token is good cannot be found out just now. Try again in a moment.";
    let mut answer =
        problem(StatusCode::SERVICE_UNAVAILABLE, "not-now", "Not possible just now", words).with_crossing(id).into_response();
    answer.headers_mut().insert(header::RETRY_AFTER, HeaderValue::from_static("5"));
    NotTaken::Answer(Box::new(answer))
}

/// `thing` is what the token is known by here.
async fn refused(app: &App, gate: &Gate, facts: &RequestFacts, thing: &[u8; 32], why: Bad) -> NotTaken {
    let mut attempt = Attempt::begin(app, &gate.name, facts);
    attempt.step(|| {
        Step::new(StepCode::CallerRefused)
            .with("check", Param::reason(&why.check))
            .with("seen", passeur_core::text::shorten(&why.seen, 200))
            .with("wanted", why.wanted)
    });
    let id = attempt.record_alike(Outcome::CheckFailed, &hex(&thing[..8]));
    let words = "The token is not known here, has run out, or is not for this gate.";
    NotTaken::Answer(Box::new(challenge(StatusCode::UNAUTHORIZED, "invalid_token", words, id)))
}

async fn personal(app: &App, site: &Site, gate: &Gate, callers: &Callers, secret: &str) -> Result<Found, StoreError> {
    let now = app.now();
    let Some(token) = Token::parse(secret) else { return Ok(bad("token", "no token of ours", "a good one").into()) };
    let Some(row) = app.store.personal_token(&token.digest(), now).await? else {
        return Ok(bad("token", "one that is not known, was revoked or has run out", "a good one").into());
    };
    if !row.gates.contains(&gate.name) {
        return Ok(bad("gate", gate.name.as_str(), row.gates.join(", ")).into());
    }
    if !site.knows(&row.provider, &row.person()) {
        let wanted = site.authority(&row.provider).unwrap_or_else(|| "nobody: the site has no such provider".to_owned());
        return Ok(bad("owner", row.authority, wanted).into());
    }
    let Some((known, claimed)) = look_up::last_of_provider(app, &row.person()).await? else {
        return Ok(bad("owner", "nobody known", "somebody who signed in").into());
    };
    if now >= claimed + callers.owner_seen {
        let seen = format!("signed in {}", claimed.format("%Y-%m-%d"));
        return Ok(bad("owner", seen, format!("within {} days", callers.owner_seen.num_days())).into());
    }
    // Nobody is there to prove anything: what rules ask of a sign-in, a token does not give.
    let evidence = known.standing(WayIn::PersonalToken, PERSONAL_TOKEN, claimed, Factors::default(), row.unasked);
    let step = Step::new(StepCode::PersonalTokenRight)
        .with("name", row.name.as_str())
        .with("provider", row.provider.as_str())
        .with("at", claimed.format("%Y-%m-%d %H:%M UTC").to_string())
        .with("expires", row.expires_at.format("%Y-%m-%d %H:%M UTC").to_string());
    let thing = token.digest();
    let (expires, personal) = (row.expires_at, Some(row.id));
    Ok(Found::Good(Box::new(Good { evidence, expires, thing, ends: expires, paths: row.paths, personal, step })))
}

async fn access(app: &App, site: &Site, gate: &Gate, callers: &Callers, token: &str, address: IpAddr) -> Result<Found, Found> {
    let named = issuer_of(token);
    let provider = match &named {
        Some(issuer) => callers.access_tokens.iter().find(|p| site.provider(p).is_some_and(|p| p.issuer == *issuer)),
        // Only where there is one whose it can be: a token is shown to nobody else.
        None => callers.access_tokens.first().filter(|_| callers.access_tokens.len() == 1),
    };
    let wanted = || callers.access_tokens.join(", ");
    let Some(link) = provider.and_then(|p| app.provider(p)).and_then(|l| l.oidc()) else {
        return Err(bad("issuer", named.unwrap_or_else(|| "none".into()), format!("one of: {}", wanted())).into());
    };
    let wanted = Wanted {
        issuer: link.provider.issuer.clone(),
        audience: callers.audience.clone().unwrap_or_else(|| gate.address.origin()),
        scopes: callers.scopes.clone(),
        now: app.now(),
        skew: link.provider.skew,
    };
    let (valid, how) = if named.is_some() {
        (checked(app, &link, token, wanted, address).await?, "checked here (RFC 9068)")
    } else {
        (asked(&link, token, &wanted).await?, "asked of the provider (RFC 7662)")
    };
    let step = Step::new(StepCode::AccessTokenRight)
        .with("provider", link.provider.name.as_str())
        .with("subject", valid.subject())
        .with("client", valid.client())
        .with("how", how)
        .with("expires_in", (valid.expires() - app.now()).num_seconds());
    let claims = valid.claims();
    let evidence = Evidence {
        through: Some(ACCESS_TOKEN.to_owned()),
        factors: Factors::of_claims(&claims),
        claims,
        ..Evidence::of(WayIn::AccessToken, link.provider.name.clone(), valid.subject(), link.provider.issuer.clone())
    };
    // What is signed, without the signature: some algorithms let anybody write another good one for the same token.
    let signed = if named.is_some() { token.rsplit_once('.').map_or(token, |(front, _)| front) } else { token };
    let thing = sha256(format!("access token\0{signed}").as_bytes());
    let ends = valid.expires() + link.provider.skew;
    Ok(Found::Good(Box::new(Good { evidence, expires: valid.expires(), thing, ends, paths: None, personal: None, step })))
}

/// What an access token is held against, as the thread that computes holds it.
#[derive(Clone)]
struct Wanted {
    issuer: String,
    audience: String,
    scopes: Vec<String>,
    now: Moment,
    skew: chrono::Duration,
}

impl Wanted {
    fn expected(&self) -> ExpectedAccess<'_> {
        let Wanted { issuer, audience, scopes, now, skew } = self;
        ExpectedAccess { issuer, audience, scopes, now: *now, skew: *skew }
    }
}

async fn checked(app: &App, link: &OidcLink, token: &str, wanted: Wanted, address: IpAddr) -> Result<ValidAccessToken, Found> {
    let metadata = link.metadata().await.map_err(|e| silent(link, e))?;
    let mut keys = link.keys(&metadata).await.map_err(|e| silent(link, e))?;
    loop {
        let (token, wanted, set) = (token.to_owned(), wanted.clone(), keys.set.clone());
        let checked = app.workers.run(address, move || validate_access_token(&token, &set, &wanted.expected())).await?;
        if !link.once_more(&metadata, &mut keys, &checked).await {
            return Ok(checked?);
        }
    }
}

async fn asked(link: &OidcLink, token: &str, wanted: &Wanted) -> Result<ValidAccessToken, Found> {
    let metadata = link.metadata().await.map_err(|e| silent(link, e))?;
    let answer = link.introspect(&metadata, token).await.map_err(|e| silent(link, e))?;
    if answer.status != 200 {
        // RFC 7662 2.2, 2.3: whatever a token is, the answer is 200; another one is about us.
        return Err(silent(link, format!("introspection was answered with status {}", answer.status)));
    }
    Ok(validate_introspection(answer.status, &answer.body, &wanted.expected())?)
}
