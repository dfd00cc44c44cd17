//! From evidence to a gate: session, look-up, rules, and the one-time code that hands the browser back.

use std::net::IpAddr;
use std::sync::Arc;

use axum::response::{IntoResponse, Response};
use chrono::Duration;
use http::StatusCode;
use passeur_core::Moment;
use passeur_core::circumstances::Circumstances;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::Evidence;
use passeur_core::seal::Purpose;
use passeur_core::site::{Gate, Site};
use passeur_core::step::{Param, Step, StepCode};
use passeur_core::text::storable;
use passeur_engine::attempt::Attempt;
use passeur_engine::ending;
use passeur_engine::grants::{self, Asking, Carriage, Decided};
use passeur_engine::look_up;
use passeur_engine::random::{new_uuid, random};
use passeur_engine::roles;
use passeur_http::cookies::{self, Found};
use passeur_links::kerberos::Delegation;
use passeur_live::edition::Edition;
use passeur_live::session::LiveSession;
use passeur_store::{BlockRow, NewCode, NewSession, SessionRow, StoreError};

use super::ask::{Ask, Manner, Purposed};
use super::{Visit, choose, flow, route, session, start, step_up};
use crate::pages::{self, redirect};
use passeur_engine::Engine;
use passeur_engine::sessions::{self, Session};

/// How long a hand-back code is good for, in seconds.
const CODE_SECONDS: i64 = 60;

/// What a session keeps of its counterpart at the provider.
pub struct AtProvider {
    /// What signing out there takes; kept sealed.
    pub hint: String,
    /// How the provider names the person, and its own session, so that it can end them here.
    pub name: Option<String>,
    pub session: Option<String>,
    /// User name and password, with a colon between, where a gate hands them over; kept sealed.
    pub kept: Option<String>,
    /// The ticket that their browser sent along; kept in this node's memory.
    pub sent: Option<Arc<Delegation>>,
    /// Until when the provider's own session lasts, where it says so.
    pub until: Option<Moment>,
}

/// Begins a session on fresh evidence and goes on to where the sign-in leads.
pub async fn begin(
    engine: &Engine,
    edition: &Edition,
    mut attempt: Attempt,
    visit: &Visit,
    evidence: Evidence,
    there: AtProvider,
    to: Purposed,
) -> Response {
    let lang = attempt.lang;
    let evidence = evidence.storable();
    match new_session(engine, edition, &mut attempt, visit, evidence, there).await {
        Ok(Err(block)) => kept_out(edition, attempt, &block).await,
        Ok(Ok((row, evidence, live, cookie))) => {
            // Nothing is remembered where the next person is another, nor a way that was taken for want of a ticket.
            let shared = edition.site.is_shared(visit.facts.address);
            let forced = attempt.told(StepCode::TicketNone);
            let way = (!shared && !forced).then(|| choose::remember(&edition.site, evidence.way()));
            let session = Session { row, evidence, live };
            let mut response = go_on(engine, edition, attempt, visit, session, to).await;
            let (left, secure) = edition.site.address.cookie("left");
            let came_back =
                (cookies::find(&visit.headers, &left) != Found::None).then(|| cookies::set(&left, "", secure, Some(0)));
            for value in [Some(cookie), came_back, way].into_iter().flatten() {
                pages::set_cookie(&mut response, &value);
            }
            response
        }
        Err(e) => pages::store_failed(&edition.site, lang, &e).into_response(),
    }
}

/// Stores a session with a new token; the browser's former session ends. What the same person proved to us in that one goes on
/// counting, with its own moment.
async fn new_session(
    engine: &Engine,
    edition: &Edition,
    attempt: &mut Attempt,
    visit: &Visit,
    mut evidence: Evidence,
    there: AtProvider,
) -> Result<Result<(SessionRow, Evidence, Arc<LiveSession>, String), BlockRow>, StoreError> {
    if let Some(old) = session::of_browser(engine, edition, &visit.headers).await? {
        if old.evidence.person() == evidence.person() {
            evidence.factors.own = old.evidence.factors.own;
        }
        // Nobody waits for other nodes here: whoever signs in anew holds both.
        ending::end_here(engine, &[old.row.id], "signed in anew", None).await?;
    }
    let (id, token, now) = (new_uuid(), engine.new_token(), engine.now());
    let person = evidence.person();
    let name = attempt.who.as_ref().map_or_else(|| evidence.subject.clone(), |w| storable(&w.name));
    let hint = engine.ring.seal(Purpose::SessionHint, id.as_bytes(), random(), there.hint.as_bytes());
    let kept = there.kept.map(|k| engine.ring.seal(Purpose::Kept, id.as_bytes(), random(), k.as_bytes()));
    let evidence_json = serde_json::to_value(&evidence).map_err(|e| StoreError::Query(e.to_string()))?;
    // In memory before it is in the store: whatever ends it finds it here.
    let live = loop {
        if let Some(live) = engine.sessions.hold(engine.sessions.ends(), id, now, now, there.until) {
            break live;
        }
    };
    let begun = engine
        .store
        .begin_session(NewSession {
            id,
            token_digest: token.digest().to_vec(),
            provider: evidence.provider.clone(),
            subject: evidence.subject.clone(),
            name: name.clone(),
            evidence: evidence_json.clone(),
            began: now,
            last_seen: now,
            address: attempt.address.to_string(),
            agent: attempt.agent.clone(),
            hint: Some(hint),
            provider_name: there.name.as_deref().map(storable),
            provider_session: there.session.as_deref().map(storable),
            personal_token: None,
            kept: kept.clone(),
            authority: person.authority.clone(),
            until: there.until,
        })
        .await?;
    if let Err(block) = begun {
        engine.sessions.end(&[id]);
        return Ok(Err(block));
    }
    if let Some(delegation) = there.sent {
        engine.delegations.keep_sent(id, delegation);
        if live.is_ended() {
            engine.delegations.end(&[id]);
        }
    }
    route::remember(engine, &edition.site, &evidence).await?;
    attempt.session = Some(id);
    let until = (now + edition.site.lifetimes_at(Some(attempt.address), None).absolute).format("%Y-%m-%d %H:%M UTC").to_string();
    attempt.step(|| Step::new(StepCode::SessionBegan).with("until", until));
    let row = SessionRow {
        id,
        provider: evidence.provider.clone(),
        subject: evidence.subject.clone(),
        name,
        evidence: evidence_json,
        began: now,
        last_seen: now,
        ended_at: None,
        ended_by: None,
        address: attempt.address.to_string(),
        agent: attempt.agent.clone(),
        hint: None,
        provider_session: None,
        kept,
        authority: person.authority,
        until: there.until,
        evidence_version: 0,
    };
    let (cookie, secure) = edition.site.address.cookie("session");
    Ok(Ok((row, evidence, live, cookies::set(&cookie, token.reveal(), secure, None))))
}

/// Records that somebody who is kept out came, and tells them no more than that.
async fn kept_out(edition: &Edition, mut attempt: Attempt, block: &BlockRow) -> Response {
    attempt.step(|| ending::kept_out_step(block));
    flow::refuse(edition, attempt, flow::ended(Outcome::Refused, StatusCode::FORBIDDEN)).await
}

/// Goes on with a live session.
pub async fn go_on(
    engine: &Engine,
    edition: &Edition,
    mut attempt: Attempt,
    visit: &Visit,
    mut session: Session,
    to: Purposed,
) -> Response {
    attempt.is_of(&session.row);
    let site = &edition.site;
    let access = match &to {
        Purposed::Gate(ask) => site.gate(&ask.gate).map(|g| &g.access),
        Purposed::Console | Purposed::ConsoleFresh | Purposed::Device { .. } => site.engineers.as_ref(),
        Purposed::Quay | Purposed::Factors | Purposed::Tokens | Purposed::Unasked { .. } | Purposed::Trial { .. } => None,
    };
    if let Some(access) = access {
        loop {
            look_up::complete(engine, site, access, &mut session.evidence).await;
            match sessions::grown(engine, &mut session).await {
                Ok(true) => break,
                Ok(false) => {}
                Err(e) => return pages::store_failed(site, attempt.lang, &e).into_response(),
            }
        }
    }
    attempt.set_evidence(&session.evidence);
    match to {
        Purposed::Gate(ask) => match site.gate(&ask.gate) {
            Some(gate) => through(engine, edition, gate, attempt, visit, session, ask).await,
            None => pages::not_set_up(attempt.lang).into_response(),
        },
        Purposed::Console | Purposed::ConsoleFresh => console(engine, edition, attempt, &session.evidence).await,
        to @ Purposed::Device { .. } => {
            let at = choose::onward(engine, &to).replacen("/.passeur/sign-in?for=device&", "/.passeur/device?", 1);
            and_on(site, attempt, &site.address.at(&at)).await
        }
        Purposed::Tokens => and_on(site, attempt, &site.address.at("/.passeur/tokens")).await,
        Purposed::Factors => and_on(site, attempt, &site.address.at("/.passeur/factors")).await,
        Purposed::Quay => and_on(site, attempt, &site.address.at("/")).await,
        // The gate asks for itself who comes: there the session is decided on.
        Purposed::Unasked { address, .. } => and_on(site, attempt, &address).await,
        // No session begins for a trial, so that none can lead here.
        Purposed::Trial { .. } => and_on(site, attempt, &site.address.at("/")).await,
    }
}

/// Records that somebody signed in, and sends them on.
async fn and_on(site: &Site, mut attempt: Attempt, address: &str) -> Response {
    match attempt.record(Outcome::Admitted).await {
        Ok(()) => redirect(address, None),
        Err(e) => pages::store_failed(site, attempt.lang, &e).into_response(),
    }
}

/// The request that a person came with, as conditions see it: what they wanted to read, from where they are.
pub fn first_request(target: &str, address: IpAddr, now: Moment) -> Circumstances<'_> {
    let path = target.split('?').next().unwrap_or("/");
    Circumstances { now, address: Some(address), method: "GET", path }
}

/// Into the console, if any role comes of it.
async fn console(engine: &Engine, edition: &Edition, mut attempt: Attempt, evidence: &Evidence) -> Response {
    let site = &edition.site;
    let at = Circumstances::at(engine.now()).from(attempt.address);
    let roles = passeur_core::decide::console_roles(site, evidence, &at, attempt.witness());
    let lang = attempt.lang;
    if let Err(e) = roles::note(engine, site, &mut attempt, passeur_core::rehearse::CONSOLE, evidence, &at, &roles).await {
        return pages::store_failed(site, lang, &e).into_response();
    }
    let outcome = if roles.is_empty() { Outcome::Refused } else { Outcome::Admitted };
    if let Err(e) = attempt.record(outcome).await {
        return pages::store_failed(site, attempt.lang, &e).into_response();
    }
    match outcome {
        Outcome::Admitted => redirect(&site.address.at("/console/"), None),
        _ => {
            let refused = pages::Refused::of_step(&attempt, attempt.id, None);
            pages::refused(site, attempt.lang, StatusCode::FORBIDDEN, &refused).into_response()
        }
    }
}

/// Rules, then the hand-back. What was decided is written before the browser is sent anywhere.
async fn through(
    engine: &Engine,
    edition: &Edition,
    gate: &Gate,
    mut attempt: Attempt,
    visit: &Visit,
    session: Session,
    mut ask: Ask,
) -> Response {
    let site = &edition.site;
    let target = ask.return_path();
    let mut at = first_request(target.as_str(), attempt.address, engine.now());
    if let Some((path, method)) = &ask.request {
        (at.path, at.method) = (path, method);
    }
    let lang = attempt.lang;
    let asking = Asking { edition, gate, evidence: &session.evidence, at };
    let may_ask = |need: &_| step_up::next(site, session.evidence.way(), need, &ask.asked).is_some();
    let granted = match grants::decide(engine, asking, Carriage::Code(&session), &mut attempt, may_ask).await {
        Ok(Decided::Granted(granted)) => granted,
        Ok(Decided::Afresh(over)) => {
            attempt.step(|| Step::new(StepCode::NoSession).with("why", Param::reason(over.code())));
            if let Err(e) = flow::note_before_asking(&mut attempt, &mut ask, "time").await {
                return pages::store_failed(site, lang, &e).into_response();
            }
            let way = session.evidence.way().to_owned();
            let anew = Manner::anew(true);
            return start::by_way(engine, edition, attempt, visit, way, Purposed::Gate(ask), anew).await;
        }
        Ok(Decided::More(need)) => {
            return match step_up::next(site, session.evidence.way(), &need, &ask.asked) {
                Some(next) => step_up::ask(engine, edition, attempt, visit, session, ask, next).await,
                None => pages::not_set_up(lang).into_response(),
            };
        }
        Ok(Decided::Refused(refusal, crossing)) => {
            let status = if refusal.outcome == Outcome::Failed { StatusCode::BAD_GATEWAY } else { StatusCode::FORBIDDEN };
            let refused = pages::Refused::of_step(&attempt, crossing, refusal.words);
            return pages::refused(site, lang, status, &refused).into_response();
        }
        Err(e) => return pages::store_failed(site, lang, &e).into_response(),
    };
    let code = engine.new_token();
    let row = NewCode {
        digest: code.digest().to_vec(),
        session_id: session.row.id,
        gate: gate.name.clone(),
        binding: ask.binding.clone().into_bytes(),
        target: ask.return_path().as_str().to_owned(),
        crossing: granted.crossing().to_string(),
        expires_at: engine.now() + Duration::seconds(CODE_SECONDS),
    };
    match engine.store.add_code(row).await {
        Ok(()) => redirect(&gate.address.at(&format!("/.passeur/arrive?code={}", code.reveal())), None),
        Err(e) => pages::store_failed(site, attempt.lang, &e).into_response(),
    }
}
