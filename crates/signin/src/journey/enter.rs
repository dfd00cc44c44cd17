//! From a proof to a session, and on to where the sign-in leads.

use std::sync::Arc;

use axum::response::IntoResponse;
use http::StatusCode;
use passeur_core::Moment;
use passeur_core::circumstances::Circumstances;
use passeur_core::crossing::Outcome;
use passeur_core::seal::Purpose;
use passeur_core::site::Place;
use passeur_core::step;
use passeur_core::step::StepCode;
use passeur_core::text::storable;
use passeur_engine::random::{new_uuid, random};
use passeur_engine::sessions::{self, Session};
use passeur_engine::{devices, ending, look_up, rights, roles};
use passeur_http::cookies::{self, Found};
use passeur_links::kerberos::Delegation;
use passeur_live::session::LiveSession;
use passeur_store::{NewSession, SessionRow, StoreError};

use super::{Desk, Destination, Done, Journey, Known, Proven, Why, choose};
use crate::pages::{self, redirect};
use crate::{known_names, session};

/// What a session keeps of its counterpart: the provider's own session, or what a form of ours was given.
#[derive(Default)]
pub struct ProviderSession {
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
    /// The flow in which somebody gave their word for a guest, which is used up by the session.
    pub word: Option<Vec<u8>>,
}

impl<'a> Journey<'a, Proven> {
    /// Begins a session on what was proven, and goes on to where the sign-in leads.
    pub async fn enter(self) -> Done<'a> {
        let Desk { edition, visit, .. } = self.desk;
        let site = &edition.site;
        let (journey, cookie) = self.begin_session().await?;
        // Nothing is remembered where the next person is another, nor a way that was taken for want of a ticket.
        let shared = site.is_shared(visit.facts.address);
        let forced = journey.attempt.has_step(StepCode::TicketNone);
        let way = (!shared && !forced).then(|| choose::remember(site, journey.state.0.evidence.way()));
        let (left, secure) = site.address.cookie("left");
        let came_back = (cookies::find(&visit.headers, &left) != Found::None).then(|| cookies::set(&left, "", secure, Some(0)));
        // Whatever becomes of it now, the person is signed in.
        let cookies = [Some(cookie), came_back, way].into_iter().flatten();
        match journey.go_on().await {
            Ok(mut response) => {
                cookies.for_each(|c| pages::set_cookie(&mut response, &c));
                Ok(response)
            }
            Err(mut stop) => {
                stop.cookies.extend(cookies);
                Err(stop)
            }
        }
    }

    /// Stores a session with a new token, which the cookie holds; the browser's former session ends. What the same person proved to us in
    /// that one goes on counting, with its own moment.
    async fn begin_session(mut self) -> Done<'a, (Journey<'a, Known>, String)> {
        let begun = self.store_session().await;
        let (mut journey, begun) = self.go_on_with(begun)?;
        let engine = journey.engine();
        let Begun { row, live, cookie } = begun;
        let Proven { evidence, provider } = &mut journey.state;
        if let Some(delegation) = provider.sent.take() {
            engine.delegations.keep_sent(row.id, delegation);
            if live.is_ended() {
                engine.delegations.end(&[row.id]);
            }
        }
        if let Err(e) = known_names::remember(engine, journey.desk.site(), evidence).await {
            return Err(journey.stop(e));
        }
        journey.attempt.session = Some(row.id);
        let lifetimes = journey.site().lifetimes_at(Some(journey.attempt.address), None);
        let until = (row.began + lifetimes.absolute).format("%Y-%m-%d %H:%M UTC").to_string();
        journey.step(|| step!(SessionBegan { until }));
        let journey = journey.turn(|Proven { evidence, .. }| Known(Session { row, evidence, live }));
        Ok((journey, cookie))
    }

    async fn store_session(&mut self) -> Result<Begun, Why> {
        let Desk { engine, edition, visit } = self.desk;
        let attempt = &mut self.attempt;
        let Proven { evidence, provider } = &mut self.state;
        *evidence = evidence.clone().storable();
        if let Some(old) = session::of_browser(engine, edition, &visit.headers).await? {
            if old.evidence.person() == evidence.person() {
                evidence.factors.own = old.evidence.factors.own;
            }
            // Nobody waits for other nodes here: whoever signs in anew holds both.
            ending::end_here(engine, &[old.row.id], "signed in anew", None).await?;
        }
        let (id, token, now) = (new_uuid(), engine.new_token(), engine.now());
        let row = SessionRow {
            id,
            provider: evidence.provider.clone(),
            subject: evidence.subject.clone(),
            name: attempt.who.as_ref().map_or_else(|| evidence.subject.clone(), |w| storable(&w.name)),
            evidence: serde_json::to_value(&*evidence).map_err(|e| StoreError::Query(e.to_string()))?,
            began: now,
            last_seen: now,
            ended_at: None,
            ended_by: None,
            address: attempt.address.to_string(),
            agent: attempt.agent.clone(),
            hint: Some(engine.ring.seal(Purpose::SessionHint, id.as_bytes(), random(), provider.hint.as_bytes())),
            provider_session: provider.session.as_deref().map(storable),
            kept: provider.kept.take().map(|k| engine.ring.seal(Purpose::Kept, id.as_bytes(), random(), k.as_bytes())),
            authority: evidence.person().authority,
            until: provider.until,
            evidence_version: 0,
        };
        // In memory before it is in the store: whatever ends it finds it here.
        let live = loop {
            if let Some(live) = engine.sessions.hold(engine.sessions.ends(), id, now, now, row.until) {
                break live;
            }
        };
        let name_there = provider.name.as_deref().map(storable);
        let begun =
            engine.store.begin_session(new_session(&row, token.digest().to_vec(), name_there), provider.word.as_deref()).await?;
        if let Err(block) = begun {
            engine.sessions.end(&[id]);
            attempt.step(|| ending::kept_out_step(&block));
            return Err(Why::Ended { outcome: Outcome::Refused, status: StatusCode::FORBIDDEN });
        }
        let (cookie, secure) = edition.site.address.cookie("session");
        Ok(Begun { row, live, cookie: cookies::set(&cookie, token.reveal(), secure, None) })
    }
}

/// A session that began.
struct Begun {
    row: SessionRow,
    live: Arc<LiveSession>,
    cookie: String,
}

fn new_session(row: &SessionRow, token_digest: Vec<u8>, provider_name: Option<String>) -> NewSession {
    let row = row.clone();
    NewSession {
        id: row.id,
        token_digest,
        provider: row.provider,
        subject: row.subject,
        name: row.name,
        evidence: row.evidence,
        began: row.began,
        last_seen: row.last_seen,
        address: row.address,
        agent: row.agent,
        hint: row.hint,
        provider_name,
        provider_session: row.provider_session,
        personal_token: None,
        kept: row.kept,
        authority: row.authority,
        until: row.until,
    }
}

impl<'a> Journey<'a, Known> {
    /// On with a live session to where the sign-in leads.
    pub async fn go_on(mut self) -> Done<'a> {
        self.attempt.is_of(&self.state.0.row);
        let completed = self.complete().await;
        let (mut journey, ()) = self.go_on_with(completed)?;
        journey.attempt.set_evidence(&journey.state.0.evidence);
        let site = journey.site();
        let address = match &journey.to {
            Destination::Gate(_) => return journey.hand_back().await,
            Destination::Console | Destination::ConsoleFresh => return journey.into_the_console().await,
            to @ Destination::Device { .. } => {
                let onward = to.onward(journey.engine());
                site.address.at(&onward.replacen("/.passeur/sign-in?for=device&", "/.passeur/device?", 1))
            }
            to @ Destination::Vouch { .. } => {
                let onward = to.onward(journey.engine());
                site.address.at(&onward.replacen("/.passeur/sign-in?for=vouch&", "/.passeur/sponsor?", 1))
            }
            Destination::Tokens => site.address.at("/.passeur/tokens"),
            Destination::Factors => site.address.at("/.passeur/factors"),
            // No session begins for a trial, so that none can lead here.
            Destination::Quay | Destination::Trial { .. } => site.address.at("/"),
            // The gate asks for itself who comes: there the session is decided on.
            Destination::Unasked { address, .. } => address.clone(),
        };
        match journey.attempt.record(Outcome::Admitted).await {
            Ok(()) => Ok(redirect(&address, None)),
            Err(e) => Err(journey.stop(e)),
        }
    }

    /// Looks at the device, asks the directory for what rules need there, and keeps it.
    async fn complete(&mut self) -> Result<(), StoreError> {
        let Desk { engine, visit, .. } = self.desk;
        let site = self.desk.site();
        let hint = |name: &str| visit.headers.get(name).and_then(|v| v.to_str().ok()).map(str::to_owned);
        let device = devices::of_browser(engine, site, &visit.facts.agent, hint, &visit.chain.0).await;
        let access = self.to.access(site);
        if access.is_none() && device.is_none() {
            return Ok(());
        }
        loop {
            let known = &mut self.state.0.evidence;
            let before = std::mem::replace(&mut known.device, device.clone());
            let is_another = before.is_some_and(|before| device.as_ref().is_none_or(|now| !now.is_as(&before)));
            if let Some(access) = access {
                look_up::complete(engine, site, access, known).await;
            }
            if sessions::grown(engine, &mut self.state.0).await? {
                if is_another {
                    // What other gates decided on the device that was known before counts no more.
                    rights::changed(engine, self.state.0.row.id).await?;
                }
                return Ok(());
            }
        }
    }

    /// Into the console, if any role comes of it.
    async fn into_the_console(mut self) -> Done<'a> {
        let (engine, site) = (self.engine(), self.site());
        let at = Circumstances::at(engine.now()).from(self.attempt.address);
        let evidence = &self.state.0.evidence;
        let found = passeur_core::decide::console_roles(site, evidence, &at, self.attempt.witness());
        let noted = roles::note(engine, site, &mut self.attempt, &Place::Console, evidence, &at, &found).await;
        let (mut journey, ()) = self.go_on_with(noted)?;
        let outcome = if found.is_empty() { Outcome::Refused } else { Outcome::Admitted };
        if let Err(e) = journey.attempt.record(outcome).await {
            return Err(journey.stop(e));
        }
        Ok(if found.is_empty() {
            let refused = pages::Refused::of_step(&journey.attempt, journey.attempt.id, None);
            pages::refused(site, journey.desk.lang(), StatusCode::FORBIDDEN, &refused).into_response()
        } else {
            redirect(&site.address.at("/console/"), None)
        })
    }
}
