//! From what a request shows to an admission: token, session, decision. What is granted is kept in this node's table.

use std::sync::Arc;

use http::StatusCode;
use passeur_core::circumstances::{Circumstances, RequestFacts};
use passeur_core::condition::Need;
use passeur_core::decide::RequestView;
use passeur_core::evidence::Evidence;
use passeur_core::id::CrossingId;
use passeur_core::session::State;
use passeur_core::site::Gate;
use passeur_core::step::Phrase;
use passeur_engine::attempt::Attempt;
use passeur_engine::grants::{self, Asking, Carriage, Decided, HeldSession};
use passeur_engine::look_up::{Again, Recall};
use passeur_engine::programs::NotTaken;
use passeur_engine::{devices, ending, look_up, rights, sessions};
use passeur_gateway::admission::{Admission, Filing};
use passeur_gateway::control::{NoSession, Presented};
use passeur_gateway::edition::WebEdition;
use passeur_live::edition::Edition;
use passeur_live::session::LiveSession;
use passeur_signin::journey::step_up;
use passeur_signin::problem::problem;
use passeur_signin::{hand_over, pages};
use passeur_store::{GateTokenRow, SessionRow, StoreError};

use super::{WebGate, programs, refuse};

/// How often a session is read again while its evidence grows, before the request is told to come back.
const LOADS_MAX: usize = 5;

/// What the store and the directory say of a gate's token.
struct Loaded {
    held: GateTokenRow,
    row: SessionRow,
    live: Arc<LiveSession>,
    known: Evidence,
    /// What asking the directory again brought, where it was asked.
    again: Option<Again>,
    /// How often this node had learnt of rights that were read again, before any of this was read.
    seen: u64,
}

impl WebGate {
    /// What a program's token or certificate opens: what it opened before, or a session that `begin` begins.
    pub(super) async fn present_caller(
        &self,
        edition: &WebEdition,
        gate: &str,
        digest: [u8; 32],
        facts: &RequestFacts,
        begin: impl AsyncFnOnce(&Gate) -> Result<(), NotTaken>,
    ) -> Presented {
        let Some(gate) = edition.site.gate(gate) else {
            return Presented::No(NoSession::OtherGate);
        };
        let done = async {
            match self.load(edition, gate, &digest, facts).await? {
                Presented::No(NoSession::Ended) => return Err(NotTaken::Ended(self.engine.new_crossing())),
                Presented::No(_) => {}
                presented => return Ok(presented),
            }
            begin(gate).await?;
            Ok(self.load(edition, gate, &digest, facts).await?)
        };
        match done.await {
            Ok(presented) => presented,
            Err(why) => Presented::Refused(programs::answer(why, &edition.site, facts)),
        }
    }

    /// From the store to an admission: token, session, decision.
    pub(super) async fn load(
        &self,
        edition: &WebEdition,
        gate: &Gate,
        token: &[u8; 32],
        facts: &RequestFacts,
    ) -> Result<Presented, StoreError> {
        for _ in 0..LOADS_MAX {
            if let Some(presented) = self.load_once(edition, gate, token, facts).await? {
                return Ok(presented);
            }
        }
        Err(StoreError::Conflict)
    }

    /// None where somebody stored newer evidence of the session meanwhile: it is read again.
    async fn load_once(
        &self,
        edition: &WebEdition,
        gate: &Gate,
        token: &[u8; 32],
        facts: &RequestFacts,
    ) -> Result<Option<Presented>, StoreError> {
        let seen = self.engine.rights_seen();
        let no = |why| Ok(Some(Presented::No(why)));
        let Some((held, mut row, live)) = sessions::by_gate_token(&self.engine, token).await? else {
            return no(NoSession::Unknown);
        };
        if held.gate != gate.name {
            return no(NoSession::OtherGate);
        }
        if held.expires_at.is_some_and(|until| self.engine.now() >= until) {
            return no(NoSession::TooOld);
        }
        match sessions::state(&self.engine, edition, &row, &live) {
            State::Live => {}
            State::Ended => return no(NoSession::Ended),
            State::IdleTooLong => return no(NoSession::IdleTooLong),
            State::TooOld => return no(NoSession::TooOld),
        }
        let Some(mut known) = sessions::read_evidence(&row) else {
            return no(NoSession::Unknown);
        };
        if !gate.access.takes(&edition.site, &known) {
            // The edition now wants another way in: the person signs in by that.
            return no(NoSession::Unknown);
        }
        let filled = look_up::fill(&self.engine, &edition.site, &gate.access, &mut known).await;
        let before = known.facts();
        let again = look_up::again(&self.engine, &edition.site, &gate.access, &mut known, edition.since, Recall::Kept).await;
        let judged = devices::again(&self.engine, &edition.site, &mut known).await;
        if filled || judged || matches!(again, Some(Again::Answered { .. })) {
            if !sessions::keep_evidence(&self.engine, &mut row, &known).await? {
                return Ok(None);
            }
            if known.facts() != before {
                // What other requests opened on what was known before is looked at.
                rights::changed(&self.engine, row.id).await?;
            }
        }
        let gone = again.as_ref().is_some_and(|a| a.is_gone(&gate.access));
        let id = row.id;
        let loaded = Loaded { held, row, live, known, again, seen };
        let presented = self.decide(edition, gate, token, facts, loaded).await?;
        if gone {
            // Told and written first: the session is over everywhere, and what is open is cut.
            ending::end(&self.engine, &[id], "the directory", None).await?;
        }
        Ok(Some(presented))
    }

    /// Decides again for a request, and keeps what is granted.
    async fn decide(
        &self,
        edition: &WebEdition,
        gate: &Gate,
        token: &[u8; 32],
        facts: &RequestFacts,
        loaded: Loaded,
    ) -> Result<Presented, StoreError> {
        let Loaded { held: held_row, row, live, known, again, seen } = loaded;
        let site = &edition.site;
        let tunnel = passeur_engine::tunnel::facts(&self.engine, gate, &facts.target).await?;
        let at = Circumstances { tunnel: tunnel.as_ref(), ..facts.circumstances(self.engine.now()) };
        // A gate of another edition is none here.
        let Some(view) = edition.view(&gate.name) else { return Ok(Presented::No(NoSession::Unknown)) };
        let mut attempt = Attempt::begin(&self.engine, gate.place(), facts);
        attempt.is_of(&row);
        attempt.set_evidence(&known);
        let held = HeldSession {
            token,
            session: &live,
            decision: &held_row.decision,
            crossing: held_row.crossing.parse::<CrossingId>().map_err(|e| StoreError::Query(e.to_string()))?,
            view,
            why: why_again(edition, view, &row, again.as_ref()),
            again: again.as_ref(),
        };
        let asking = Asking { edition, gate, evidence: &known, at };
        // A device is looked at where browsers sign in, and not here.
        let may_ask = |need: &Need| facts.navigates && (need.device || step_up::next(site, known.way(), need, &[]).is_some());
        match grants::decide(&self.engine, asking, Carriage::Held(held), &mut attempt, may_ask).await? {
            // What is missing can be asked for at the sign-in host, as if there were no session yet.
            Decided::More(_) | Decided::Afresh(_) => Ok(Presented::No(NoSession::StepUp)),
            Decided::Granted(granted) => {
                let crossing = granted.crossing();
                let look = view.look(&at);
                // What was read before rights changed counts for this request and is not used again.
                let generation = live.generation();
                let generation = (self.engine.rights_seen() == seen).then_some(generation);
                let lifetimes = sessions::lifetimes(site, &row, Some(gate));
                let filing = Filing { shown: token, look, generation, lifetimes: &lifetimes, crossing };
                let Some(admission) = Admission::new(live, edition, filing, granted.into_admitted()) else {
                    return Ok(Presented::No(NoSession::Unknown));
                };
                let admission = match hand_over::handed(&self.engine, gate, &row) {
                    Some(value) => admission.handing("authorization", value.as_bytes()),
                    None => Some(admission),
                };
                let Some(admission) = admission else { return Ok(Presented::No(NoSession::Unknown)) };
                let admission = Arc::new(admission.within(held_row.expires_at, held_row.paths));
                self.table.put(admission.clone());
                // Whatever ended the session while this was decided has flagged it.
                if admission.is_over() {
                    return Ok(Presented::No(NoSession::Ended));
                }
                Ok(Presented::Admitted(admission))
            }
            Decided::Refused(refusal, crossing) => {
                let refused = pages::Refused::of_step(&attempt, crossing, refusal.words);
                let words = "The rules of this gate do not let this person in.";
                let otherwise = problem(StatusCode::FORBIDDEN, "refused", "Refused", words);
                Ok(Presented::Refused(refuse(site, facts, &refused, otherwise)))
            }
        }
    }
}

/// Why a live session is decided anew: another edition, or else what the gate's conditions ask of requests and of time.
fn why_again(edition: &Edition, view: &RequestView, row: &SessionRow, again: Option<&Again>) -> Phrase {
    if let Some(Again::Answered { before, now }) = again
        && before.at >= edition.since
        && now.state != before.state
    {
        return Phrase::ReRead;
    }
    match (view.is_blind(), view.is_timed()) {
        (true, false) => Phrase::Edition { number: i64::from(edition.number) },
        _ if row.began > edition.since && view.is_timed() && view.is_blind() => Phrase::TimePassed,
        _ if row.began > edition.since => Phrase::OtherRequest,
        _ => Phrase::Edition { number: i64::from(edition.number) },
    }
}
