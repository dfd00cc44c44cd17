//! From evidence to a gate: session, look-up, rules, and the one-time code that hands the browser back.

use std::net::IpAddr;
use std::sync::Arc;

use axum::response::{IntoResponse, Response};
use chrono::Duration;
use http::StatusCode;
use passeur_core::Moment;
use passeur_core::circumstances::Circumstances;
use passeur_core::crossing::Outcome;
use passeur_core::decide::{Decision, fold};
use passeur_core::evidence::Evidence;
use passeur_core::seal::Purpose;
use passeur_core::session::State;
use passeur_core::site::{Gate, Site};
use passeur_core::step::{Param, Step, StepCode};
use passeur_core::text::storable;
use passeur_gateway::cookies::{self, Found};
use passeur_links::kerberos::Standing;
use passeur_live::edition::Edition;
use passeur_live::session::LiveSession;
use passeur_store::{BlockRow, NewCode, NewSession, Recorded, SessionRow, StoreError};
use uuid::Uuid;

use super::ask::{Ask, Manner, Purposed};
use super::session::Session;
use super::{Visit, choose, evidence, flow, route, session, start, step_up};
use crate::app::{App, new_uuid, random};
use crate::attempt::Attempt;
use crate::pages::{self, redirect};
use crate::roles;

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
    pub sent: Option<Arc<Standing>>,
    /// Until when the provider's own session lasts, where it says so.
    pub until: Option<Moment>,
}

/// Begins a session on fresh evidence and goes on to where the sign-in leads.
pub async fn begin(
    app: &App,
    edition: &Edition,
    mut attempt: Attempt,
    visit: &Visit,
    evidence: Evidence,
    there: AtProvider,
    to: Purposed,
) -> Response {
    let lang = attempt.lang;
    let evidence = evidence.storable();
    match new_session(app, edition, &mut attempt, visit, evidence, there).await {
        Ok(Err(block)) => kept_out(edition, attempt, &block).await,
        Ok(Ok((row, evidence, live, cookie))) => {
            // Nothing is remembered where the next person is another, nor a way that was taken for want of a ticket.
            let shared = edition.site.is_shared(visit.facts.address);
            let forced = attempt.told(StepCode::TicketNone);
            let way = (!shared && !forced).then(|| choose::remember(&edition.site, evidence.way()));
            let session = Session { row, evidence, live };
            let mut response = go_on(app, edition, attempt, visit, session, to).await;
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
    app: &App,
    edition: &Edition,
    attempt: &mut Attempt,
    visit: &Visit,
    mut evidence: Evidence,
    there: AtProvider,
) -> Result<Result<(SessionRow, Evidence, Arc<LiveSession>, String), BlockRow>, StoreError> {
    if let Some(old) = session::of_browser(app, edition, &visit.headers).await? {
        if old.evidence.person() == evidence.person() {
            evidence.factors.own = old.evidence.factors.own;
        }
        // Nobody waits for other nodes here: whoever signs in anew holds both.
        end_here(app, &[old.row.id], "signed in anew", None).await?;
    }
    let (id, token, now) = (new_uuid(), app.new_token(), app.now());
    let person = evidence.person();
    let name = attempt.who.as_ref().map_or_else(|| evidence.subject.clone(), |w| storable(&w.name));
    let hint = app.ring.seal(Purpose::SessionHint, id.as_bytes(), random(), there.hint.as_bytes());
    let kept = there.kept.map(|k| app.ring.seal(Purpose::Kept, id.as_bytes(), random(), k.as_bytes()));
    let evidence_json = serde_json::to_value(&evidence).map_err(|e| StoreError::Query(e.to_string()))?;
    // In memory before it is in the store: whatever ends it finds it here.
    let live = loop {
        if let Some(live) = app.sessions.hold(app.sessions.ends(), id, now, now, there.until) {
            break live;
        }
    };
    let begun = app
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
        app.table.end(&[id]);
        return Ok(Err(block));
    }
    if let Some(standing) = there.sent {
        app.standings.keep_sent(id, standing);
        if live.is_ended() {
            app.standings.end(&[id]);
        }
    }
    route::remember(app, &edition.site, &evidence).await?;
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

/// The step of somebody who is kept out.
pub fn kept_out_step(block: &BlockRow) -> Step {
    Step::new(StepCode::KeptOut)
        .with("person", block.name.as_str())
        .with("by", block.by.as_str())
        .with("since", block.at.format("%Y-%m-%d %H:%M UTC").to_string())
        .with("why", block.why.as_str())
        .with("key", format!("{}/{}", block.provider, block.subject))
}

/// Records that somebody who is kept out came, and tells them no more than that.
async fn kept_out(edition: &Edition, mut attempt: Attempt, block: &BlockRow) -> Response {
    attempt.step(|| kept_out_step(block));
    flow::refuse(edition, attempt, flow::ended(Outcome::Refused, StatusCode::FORBIDDEN)).await
}

/// How long other nodes are waited for, and how often they are asked.
const ACKNOWLEDGE_LIMIT: std::time::Duration = std::time::Duration::from_secs(2);
const ACKNOWLEDGE_EVERY: std::time::Duration = std::time::Duration::from_millis(25);
/// A node that was not seen for so long does not live.
const NODE_LIVES_S: i64 = 3;

/// Sessions that were ended, and nodes that have not said yet that they know.
#[derive(Debug, Default)]
pub struct Ended {
    pub sessions: Vec<Uuid>,
    pub behind: Vec<String>,
}

/// Ends sessions everywhere: in the store under the revocation counter, in this node's memory at once, and returns when
/// every live node has acknowledged, or after two seconds with the names of those that have not.
pub async fn end(app: &App, ids: &[Uuid], by: &str, act: Option<Recorded<'_>>) -> Result<Ended, StoreError> {
    let (sessions, counter) = end_here(app, ids, by, act).await?;
    let behind = acknowledged(app, counter).await?;
    Ok(Ended { sessions, behind })
}

/// Waits until every live node has acted on what the revocation counter says; the names of those that have not after two seconds.
pub async fn acknowledged(app: &App, counter: i64) -> Result<Vec<String>, StoreError> {
    app.catch_up().await?;
    let began = std::time::Instant::now();
    loop {
        let behind = app.store.nodes_behind(counter, app.now() - Duration::seconds(NODE_LIVES_S)).await?;
        if behind.is_empty() || began.elapsed() > ACKNOWLEDGE_LIMIT {
            if !behind.is_empty() {
                tracing::warn!(nodes = behind.join(", "), "ended sessions are not acknowledged by every node");
            }
            return Ok(behind);
        }
        tokio::time::sleep(ACKNOWLEDGE_EVERY).await;
    }
}

/// Ends sessions in the store and in this node's memory; the others see it within moments.
async fn end_here(app: &App, ids: &[Uuid], by: &str, act: Option<Recorded<'_>>) -> Result<(Vec<Uuid>, i64), StoreError> {
    let done = app.store.end_sessions(ids, app.now(), by, act).await?;
    app.end_here(ids);
    Ok(done)
}

/// Goes on with a live session.
pub async fn go_on(
    app: &App,
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
            evidence::complete(app, site, access, &mut session.evidence).await;
            match session::grown(app, &mut session).await {
                Ok(true) => break,
                Ok(false) => {}
                Err(e) => return pages::store_failed(site, attempt.lang, &e).into_response(),
            }
        }
    }
    attempt.set_evidence(&session.evidence);
    match to {
        Purposed::Gate(ask) => match site.gate(&ask.gate) {
            Some(gate) => through(app, edition, gate, attempt, visit, session, ask).await,
            None => pages::not_set_up(attempt.lang).into_response(),
        },
        Purposed::Console | Purposed::ConsoleFresh => console(app, edition, attempt, &session.evidence).await,
        to @ Purposed::Device { .. } => {
            let at = choose::onward(app, &to).replacen("/.passeur/sign-in?for=device&", "/.passeur/device?", 1);
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
async fn console(app: &App, edition: &Edition, mut attempt: Attempt, evidence: &Evidence) -> Response {
    let site = &edition.site;
    let at = Circumstances::at(app.now()).from(attempt.address);
    let roles = passeur_core::decide::console_roles(site, evidence, &at, attempt.witness());
    let lang = attempt.lang;
    if let Err(e) = roles::note(app, site, &mut attempt, passeur_core::rehearse::CONSOLE, evidence, &at, &roles).await {
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
    app: &App,
    edition: &Edition,
    gate: &Gate,
    mut attempt: Attempt,
    visit: &Visit,
    session: Session,
    mut ask: Ask,
) -> Response {
    let site = &edition.site;
    let target = ask.return_path();
    let mut at = first_request(target.as_str(), attempt.address, app.now());
    if let Some((path, method)) = &ask.request {
        (at.path, at.method) = (path, method);
    }
    let decision = fold(site, gate, &session.evidence, &at, attempt.witness());
    let lang = attempt.lang;
    if let Some(has) = roles::of(&decision)
        && let Err(e) = roles::note(app, site, &mut attempt, &gate.name, &session.evidence, &at, &has).await
    {
        return pages::store_failed(site, lang, &e).into_response();
    }
    let refusal = match decision {
        Decision::Admitted(a) => {
            if gate.hand_over.is_some() {
                attempt.step(|| match &session.row.kept {
                    Some(_) => Step::new(StepCode::PasswordHanded),
                    None => Step::new(StepCode::PasswordNotHanded).with("way", session.evidence.way()),
                });
            }
            // A rule may give less time at this gate than the session lives: then the person signs in afresh.
            let limits = a.entry().lifetimes(&session::lifetimes(site, &session.row, Some(gate)));
            let state = session.live.state(&limits, app.now());
            if state != State::Live {
                attempt.step(|| Step::new(StepCode::NoSession).with("why", Param::reason(state.code())));
                if let Err(e) = flow::note_before_asking(&mut attempt, &mut ask, "time").await {
                    return pages::store_failed(site, lang, &e).into_response();
                }
                let way = session.evidence.way().to_owned();
                let anew = Manner::anew(true);
                return start::by_way(app, edition, attempt, visit, way, Purposed::Gate(ask), anew).await;
            }
            None
        }
        Decision::Refused(r) => Some(r),
    };
    if let Some(refusal) = refusal {
        let next = refusal.need.as_ref().and_then(|n| step_up::next(site, session.evidence.way(), n, &ask.asked));
        if let Some(next) = next {
            return step_up::ask(app, edition, attempt, visit, session, ask, next).await;
        }
        if let Err(e) = attempt.record(refusal.outcome).await {
            return pages::store_failed(site, attempt.lang, &e).into_response();
        }
        let status = if refusal.outcome == Outcome::Failed { StatusCode::BAD_GATEWAY } else { StatusCode::FORBIDDEN };
        let refused = pages::Refused::of_step(&attempt, attempt.id, refusal.words);
        return pages::refused(site, attempt.lang, status, &refused).into_response();
    }
    let code = app.new_token();
    attempt.step(|| Step::new(StepCode::CodeIssued).with("to", gate.address.origin()));
    let written = match attempt.record(Outcome::Admitted).await {
        Ok(()) => {
            let row = NewCode {
                digest: code.digest().to_vec(),
                session_id: session.row.id,
                gate: gate.name.clone(),
                binding: ask.binding.clone().into_bytes(),
                target: ask.return_path().as_str().to_owned(),
                crossing: attempt.id.to_string(),
                expires_at: app.now() + Duration::seconds(CODE_SECONDS),
            };
            app.store.add_code(row).await
        }
        Err(e) => Err(e),
    };
    match written {
        Ok(()) => redirect(&gate.address.at(&format!("/.passeur/arrive?code={}", code.reveal())), None),
        Err(e) => pages::store_failed(site, attempt.lang, &e).into_response(),
    }
}
